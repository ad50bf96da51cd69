package finding

import (
	_ "embed" // the stories
	"strings"
	"sync"
)

// Story is what there is to tell of a kind of finding besides its sentence.
type Story struct {
	Text  string   `json:"text"`
	Wrong []string `json:"wrong"` // lines of an example
	Right []string `json:"right"`
	Try   []string `json:"try"` // commands that show more
}

//go:embed stories.txt
var storyText string

var stories = sync.OnceValue(func() map[string]*Story {
	all := map[string]*Story{}
	var s *Story
	for line := range strings.SplitSeq(storyText, "\n") {
		kind, rest, _ := strings.Cut(line, " ")
		switch {
		case kind == "=":
			s = &Story{Wrong: []string{}, Right: []string{}, Try: []string{}}
			all[rest] = s
		case kind == "-":
			s.Wrong = append(s.Wrong, rest)
		case kind == "+":
			s.Right = append(s.Right, rest)
		case kind == ">":
			s.Try = append(s.Try, rest)
		case line != "":
			s.Text = strings.TrimSpace(s.Text + " " + line)
		}
	}
	return all
})

// StoryOf is the story of a kind of finding; nil when there is no kind of that id.
func StoryOf(id string) *Story { return stories()[id] }
