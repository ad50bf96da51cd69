package finding_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/finding"
	"vornix/core/source/maplang"
)

// Every finding has its story, with something to look at, and no story tells of a finding that is gone.
func TestEveryFindingHasAStory(t *testing.T) {
	for _, id := range finding.IDs() {
		s := finding.StoryOf(id)
		if !assert.NotNil(t, s, "%s has no story in stories.txt", id) {
			continue
		}
		assert.Greater(t, len(s.Text), 40, id)
		assert.Regexp(t, `^[A-Z].*\.$`, s.Text, id)
		assert.NotEmpty(t, append(s.Right, s.Try...), "%s: nothing to do", id)
		assert.False(t, len(s.Wrong) > 0 && strings.Join(s.Wrong, "\n") == strings.Join(s.Right, "\n"), id)
		assert.NotEqual(t, s.Text, finding.KindOf(id).Why, "%s: the story is the sentence again", id)
	}
	for id := range finding.Stories() {
		assert.NotNil(t, finding.KindOf(id), "stories.txt tells of %q, which is no finding", id)
	}
}

// The lines of maps in the examples are lines that the map reader takes, but for those of a kind that is about lines it does not take.
func TestExamplesOfMapsAreRight(t *testing.T) {
	n := 0
	for id, s := range finding.Stories() {
		for _, line := range append(append([]string{}, s.Right...), s.Wrong...) {
			line, _, _ = strings.Cut(line, " #")
			word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
			if !slices.Contains([]string{"map", "solid", "light", "spawn", "item", "sky", "volume", "probe", "camera", "prop", "terrain", "legend", "use", "area"}, word) || id == "map.syntax" && strings.Contains(line, " bx ") || strings.Contains(line, "camera =") {
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
