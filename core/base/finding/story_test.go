package finding_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/finding"
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
