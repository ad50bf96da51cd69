package fetch_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/ship/fetch"
	"vornix/internal/peer"
)

// Files whose names change only in how they are written are updated, and brought back, on a file
// system where old and new name are one file.
func TestNamesThatAreOneThere(t *testing.T) {
	for what, names := range map[string][2]string{"capitals": {"Ore.zip", "ore.zip"},
		"composed": {"erzspi\u0061\u0308le.zip", "erzspi\u00e4le.zip"}} {
		for _, changed := range []bool{true, false} {
			s := newShelf(t, "pack", 0)
			dir := filepath.Join(peer.Folding(t, changed), "player")
			one, two := noise(1, 50_000), noise(1, 50_000)
			if changed {
				two = append([]byte("a new light"), one...)
			}
			s.publish("1.0.0", map[string][]byte{names[0]: one, "b.zip": []byte("bee")})
			got(t, s.dir, dir)
			first := files(t, dir)
			require.Contains(t, first, names[0])
			require.NoError(t, os.Remove(filepath.Join(s.dir, names[0])))
			s.publish("1.1.0", map[string][]byte{names[1]: two, "b.zip": []byte("bee")})
			if changed {
				s.way("1.0.0", string(one), names[1], two)
				s.store()
			}
			got(t, s.dir, dir)
			second := map[string]string{names[1]: string(two), "b.zip": "bee"}
			assert.Equal(t, second, files(t, dir), what)
			r := got(t, s.dir, dir)
			assert.False(t, r.Changed, what)
			_, err := fetch.Back(ctx, dir, fetch.Options{})
			require.NoError(t, err, what)
			assert.Equal(t, first, files(t, dir), what)
			got(t, s.dir, dir, func(o *fetch.Options) { o.Again = true })
			assert.Equal(t, second, files(t, dir), what)
			// What somebody put there under the other name is not overwritten without their file coming back.
			s.publish("1.2.0", map[string][]byte{"c.zip": []byte("sea")})
			got(t, s.dir, dir)
			assert.Equal(t, map[string]string{"c.zip": "sea"}, files(t, dir), what)
		}
	}
}
