package safefile_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// link makes a link, where the system lets this account make one.
func link(t *testing.T, to, at string) {
	t.Helper()
	if err := os.Symlink(to, at); err != nil {
		t.Skipf("no links can be made here: %v", err)
	}
}

// A folder of Vornix's own that is a link is refused: what is behind it is neither locked nor cleaned up nor written.
func TestOwnFoldersAreNoLinks(t *testing.T) {
	for _, name := range []string{".vornix", "vornix-patched", "vornix-fetched", "vornix-installed", ".vornix-target",
		"Vornix-Patched"} {
		t.Run(name, func(t *testing.T) {
			outside, place := t.TempDir(), t.TempDir()
			for _, file := range []string{"lock", "lock.json", ".vornix-tmp-00000000-1-aa"} {
				require.NoError(t, os.WriteFile(filepath.Join(outside, file), []byte("mine"), 0o600))
			}
			own := filepath.Join(place, name)
			link(t, outside, own)
			_, err := safefile.Acquire(own, "test")
			assert.Equal(t, fault.Refused, fault.KindOf(err))
			for _, open := range []func(string) (*safefile.Dir, error){safefile.OpenDir, safefile.MakeDir} {
				_, err = open(own)
				assert.Equal(t, fault.Refused, fault.KindOf(err))
				_, err = open(filepath.Join(own, "deeper"))
				assert.Equal(t, fault.Refused, fault.KindOf(err))
			}
			list, err := os.ReadDir(outside)
			require.NoError(t, err)
			require.Len(t, list, 3)
			for _, e := range list {
				assert.Equal(t, "mine", string(must(os.ReadFile(filepath.Join(outside, e.Name())))))
			}
		})
	}
}

func must(data []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return data
}

// The file that is locked is never reached through a link, wherever that leads.
func TestALockIsNoLink(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	link(t, filepath.Join(outside, "new"), filepath.Join(dir, "lock"))
	_, err := safefile.Acquire(dir, "test")
	assert.Error(t, err)
	assert.NoFileExists(t, filepath.Join(outside, "new"))
	require.NoError(t, os.Remove(filepath.Join(dir, "lock")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other"), nil, 0o600))
	link(t, "other", filepath.Join(dir, "lock"))
	_, err = safefile.Acquire(dir, "test")
	assert.ErrorContains(t, err, "not a regular file")
	require.NoError(t, os.Remove(filepath.Join(dir, "lock")))
	l, err := safefile.Acquire(dir, "test")
	require.NoError(t, err)
	l.Release()
}
