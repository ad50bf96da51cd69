package maplang_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/finding"
	"vornix/core/source/maplang"
)

// The lines of maps in the examples are lines that the map reader takes, but for those of a kind
// that is about lines it does not take.
func TestExamplesOfMapsAreRight(t *testing.T) {
	n := 0
	for _, id := range finding.IDs() {
		s := finding.StoryOf(id)
		for _, line := range append(append([]string{}, s.Right...), s.Wrong...) {
			line, _, _ = strings.Cut(line, " #")
			word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
			if !slices.Contains([]string{"map", "solid", "light", "spawn", "item", "sky", "volume", "probe", "camera",
				"prop", "terrain", "legend", "use", "area"}, word) || id == "map.syntax" &&
				strings.Contains(line, " bx ") || strings.Contains(line, "camera =") {
				continue
			}
			if strings.HasPrefix(line, "map ") {
				line += "\n"
			} else {
				line = "map a\n" + line + "\n"
			}
			_, list := maplang.Read("maps/a.vnx", []byte(line), maplang.Options{})
			for _, f := range list {
				assert.NotEqual(t, "map.syntax", f.ID, "%s: %s: %s", id, line, f.Text)
			}
			n++
		}
	}
	assert.Greater(t, n, 40)
}
