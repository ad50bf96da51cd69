package main_test

import (
	"cmp"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/thorough"
)

// sizeBelow counts the bytes below a folder, and its files.
func sizeBelow(t *testing.T, dir string) (bytes int64, files int) {
	t.Helper()
	err := filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			bytes += info.Size()
			files++
		}
		return err
	})
	if !os.IsNotExist(err) {
		require.NoError(t, err)
	}
	return bytes, files
}

func letters(n int) string { return string([]rune{rune('a' + n/26), rune('a' + n%26)}) }

// Many releases in a row of a project that grows: what Vornix keeps stays bounded, nothing stays
// behind, and the last is about as fast as the fifth. By default it is a dozen; VORNIX_RELEASES=50
// is the long run.
func TestManyReleases(t *testing.T) {
	thorough.Only(t)
	n, err := strconv.Atoi(cmp.Or(os.Getenv("VORNIX_RELEASES"), "12"))
	require.NoError(t, err)
	p := quickly(t, "lower-sidings")
	text := read(t, p, "vornix.toml")
	text, _, _ = strings.Cut(text, "[target.exchange]")
	took := make([]time.Duration, n)
	kept := make([]int64, n) // bytes in .vornix
	far := make([]int64, n)  // on the server
	var tree int64
	for i := range n {
		version := fmt.Sprintf("1.0.%d", i)
		put(t, filepath.Join(p, "vornix.toml"),
			strings.Replace(text, `version = "1.0.0"`, fmt.Sprintf("version = %q", version), 1))
		// A sound and a material that change.
		edit(t, p, "materials/rock/wall.toml", "\n", fmt.Sprintf("\n# %d\n", i))
		sound := []byte(read(t, p, "sounds", "cave", "drip.wav"))
		sound[len(sound)-1-i] ^= 85
		put(t, filepath.Join(p, "sounds", "cave", "drip.wav"), string(sound))
		// What comes along each time: a sound, an image and its material.
		put(t, filepath.Join(p, "sounds", "more", letters(i)+".wav"), string(sound))
		put(t, filepath.Join(p, "textures", "more", letters(i)+".png"), read(t, p, "textures", "rock", "wall.png"))
		put(t, filepath.Join(p, "materials", "more", letters(i)+".toml"),
			strings.ReplaceAll(read(t, p, "materials", "rock", "wall.toml"), "rock/wall", "more/"+letters(i)))
		edit(t, p, "maps/tram_depot.vnx", "\nlegend",
			fmt.Sprintf("\nsound s_%s at=1,1,0 file=more/%s\nlegend", letters(i), letters(i)))
		begin := time.Now()
		o := vornix(t, p, "release", "--yes", "--without-server")
		took[i] = time.Since(begin)
		require.Zero(t, o.exit, "release %d\n%s%s", i, o.out, o.err)
		kept[i], _ = sizeBelow(t, filepath.Join(p, ".vornix"))
		far[i], _ = sizeBelow(t, filepath.Join(p, "..", "servers", "burrow"))
		tree, _ = sizeBelow(t, filepath.Join(p, "out", "tree"))
	}
	noTemps(t, filepath.Dir(p))
	t.Logf("took %v to %v; .vornix %d to %d bytes; the server %d to %d bytes; out/tree has %d bytes", took[4],
		took[n-1], kept[4], kept[n-1], far[4], far[n-1], tree)
	// a busy machine makes one of three slow
	fast := func(at int) time.Duration { return min(took[at], took[at-1], took[at-2]) }
	assert.Less(t, fast(n-1), fast(4)*5/2, "the last is about as fast as the fifth: %v", took)
	// The cache holds what some releases made, and the server what can be gone back to: both grow
	// with the project, not with the number of releases.
	assert.Less(t, kept[n-1], 6*tree+(1<<20), "what is kept in .vornix")
	assert.Less(t, far[n-1], 8*tree+(1<<20), "the server keeps what its last deployments need")
	ledger, _ := sizeBelow(t, filepath.Join(p, ".vornix", "ledger.jsonl"))
	assert.Less(t, ledger, int64(n)*4000, "the ledger grows by some lines a release")
	ok(t, p, "status")
}
