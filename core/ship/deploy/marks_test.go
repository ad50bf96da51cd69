package deploy

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/ship/transport"
)

// What is remembered of blocks is read as it was written; a file that was cut anywhere is no harm.
func TestMarksAreReadBack(t *testing.T) {
	all := map[string]*transport.Marks{
		strings.Repeat("ab", 32): {Block: 512, Size: 1100, Sums: []uint64{1, 1 << 63}},
		strings.Repeat("cd", 32): {Block: 4096, Size: 100},
	}
	tg := &Target{cache: t.TempDir()}
	assert.Empty(t, tg.marks())
	data := written(all)
	for n := range len(data) + 1 {
		require.NoError(t, os.WriteFile(filepath.Join(tg.cache, marksFile), data[:n], 0o666))
		known := tg.marks()
		if n == len(data) {
			assert.Len(t, known, 2)
			assert.Equal(t, all[strings.Repeat("ab", 32)], known[strings.Repeat("ab", 32)])
		} else {
			assert.Less(t, len(known), 2)
		}
	}
}

func TestPicturesAreNamedFromThePage(t *testing.T) {
	for _, c := range [][3]string{{".", "cards/a.jpg", "cards/a.jpg"}, {"web", "cards/a.jpg", "../cards/a.jpg"},
		{"web", "web/a.jpg", "a.jpg"}, {"web/pages", "web/a.jpg", "../a.jpg"},
		{"web", "website/a.jpg", "../website/a.jpg"}} {
		assert.Equal(t, c[2], relative(c[0], c[1]), "%v", c)
	}
}
