package transaction_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/transaction"
)

// A folder that is exchanged for a link between the look and the change is another one; one that is
// exchanged while it is open stays the one that was opened.
func TestAFolderThatIsExchanged(t *testing.T) {
	base := t.TempDir()
	game, away, outside := filepath.Join(base, "game"), filepath.Join(base, "away"), filepath.Join(base, "outside")
	for _, dir := range []string{game, outside} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	exchange := func() {
		require.NoError(t, os.Rename(game, away))
		if err := os.Symlink(outside, game); err != nil {
			t.Skipf("no links can be made here: %v", err)
		}
	}
	back := func() {
		require.NoError(t, os.Remove(game))
		require.NoError(t, os.Rename(away, game))
	}
	looked, err := os.Stat(game)
	require.NoError(t, err)
	exchange()
	f, err := transaction.Open(t.Context(), game, "test")
	require.NoError(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(f.IsStill(looked)))
	f.Close()
	back()

	f, err = transaction.Open(t.Context(), game, "test")
	require.NoError(t, err)
	require.NoError(t, f.IsStill(looked))
	exchange()
	s, err := f.Stage()
	require.NoError(t, err)
	_, err = s.Write([]byte("new"))
	require.NoError(t, err)
	require.NoError(t, s.Commit())
	_, err = f.Commit(t.Context(),
		[]transaction.Change{{File: transaction.File{Path: "a.txt", New: s.SHA256(), NewSize: 3}, Staged: s.Name()}},
		transaction.Record{Kind: "test"})
	require.NoError(t, err)
	f.Close()
	list, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, list, "nothing was written where the path leads by then")
	assert.FileExists(t, filepath.Join(away, "a.txt"))
}
