package patch

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// On a file system that folds names, a patch that changes only how names are written (in files and
// in folders, in capitals and in composition) leads to just these names and back, also when it is
// stopped on the way, and when the folder's names are written otherwise than the patch says.
func TestNamesThatAreOneThere(t *testing.T) {
	old := map[string]string{"Maps/Ore.vnm": noise(1, 9000), "textures/erzspi\u0061\u0308le.ktx2": noise(2, 900),
		"README.TXT": "one\ntwo\nthree\n", "same.txt": "the same", "Sounds/a.wav": noise(3, 500)}
	now := map[string]string{"maps/ore.vnm": noise(1, 9000)[:4000] + "a change" + noise(1, 9000)[4000:],
		"textures/erzspi\u00e4le.ktx2": noise(2, 900), "readme.txt": "one\ntwo and a half\nthree\n",
		"same.txt": "the same", "sounds/a.wav": noise(3, 500)}
	p := open(t, made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now), Options{}))
	dir := peer.Folding(t, true)
	game := func(name string, files map[string]string) string {
		at := filepath.Join(dir, name)
		require.NoError(t, os.Mkdir(at, 0o777))
		return write(t, at, files)
	}
	at := game("game", old)
	_, _, err := apply(t, at, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, now, files(t, at))
	require.NoError(t, undo(t, at))
	assert.Equal(t, old, files(t, at))
	_, _, err = apply(t, at, ApplyOptions{}, p)
	require.NoError(t, err, "and again")
	assert.Equal(t, now, files(t, at))

	finished := false
	for stop := 1; stop < 400 && !finished; stop += 5 {
		c := &stopping{ctx, stop}
		at := game(filepath.Base(t.TempDir())+"-"+string(rune('a'+stop%26))+string(rune('a'+stop/26)), old)
		plan, err := Prepare(c, at, []*Opened{p}, nil, ApplyOptions{})
		if err == nil {
			_, err = plan.Apply(c, ApplyOptions{})
		}
		if finished = err == nil; finished {
			assert.Equal(t, now, files(t, at))
		} else {
			assert.Equal(t, old, files(t, at), "stopped after %d", stop)
		}
	}
	assert.True(t, finished)
}
