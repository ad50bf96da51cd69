// Package finding holds what a check or a compile stage has to say about a project.
//
// A Finding is data, not an error: it has an id such as "texture.missing", a severity, a place, a sentence, the reason
// why it matters to players and a way out. Kinds are declared once, in catalogue.go; stages make findings from them.
// A project may accept findings it knows about, with a reason (see Accept).
package finding

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
)

// Severity orders findings. Only an Error stops a release.
type Severity int

// The severities, mildest first.
const (
	Note Severity = iota
	Warning
	Error
)

var severityNames = [...]string{"note", "warning", "error"}

func (s Severity) String() string { return severityNames[s] }

// MarshalJSON writes the severity as its name.
func (s Severity) MarshalJSON() ([]byte, error) { return json.Marshal(s.String()) }

// UnmarshalJSON reads the severity's name.
func (s *Severity) UnmarshalJSON(data []byte) error {
	var name string
	if err := json.Unmarshal(data, &name); err != nil {
		return err
	}
	i := slices.Index(severityNames[:], name)
	if i < 0 {
		return fmt.Errorf("unknown severity %q", name)
	}
	*s = Severity(i)
	return nil
}

// Finding is one thing to say.
type Finding struct {
	ID       string      `json:"id"`
	Severity Severity    `json:"severity"`
	Place    fault.Place `json:"place"`
	Text     string      `json:"text"`
	Why      string      `json:"why,omitempty"`
	Do       string      `json:"do,omitempty"`
	Excerpt  string      `json:"excerpt,omitempty"` // the source line, for a caret under Place.Column
	// who asked for the thing, nearest first: "materials/a.toml:3:1", "maps/b.vnx:14:9"
	Wanted   []string `json:"wanted,omitempty"`
	Accepted string   `json:"accepted,omitempty"` // the project's reason, when it declared this known
}

// Kind is a class of findings; its ID never changes meaning once released, because projects accept by it.
type Kind struct {
	ID       string
	Severity Severity
	Why      string // why it matters to players
	Do       string // the usual way out
}

// area is the part of an id before the dot.
func area(id string) string {
	a, _, _ := strings.Cut(id, ".")
	return a
}

var kinds = map[string]*Kind{}

func declare(id string, severity Severity, why, do string) *Kind {
	if kinds[id] != nil {
		panic("finding kind declared twice: " + id)
	}
	k := &Kind{ID: id, Severity: severity, Why: why, Do: do}
	kinds[id] = k
	return k
}

// IDs lists every declared id, sorted.
func IDs() []string {
	ids := make([]string, 0, len(kinds))
	for id := range kinds {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// Known says whether an id is declared.
func Known(id string) bool { return kinds[id] != nil }

// At makes a finding of this kind. The sentence carries no full stop.
func (k *Kind) At(place fault.Place, format string, args ...any) Finding {
	return Finding{ID: k.ID, Severity: k.Severity, Place: place, Text: fmt.Sprintf(format, args...), Why: k.Why,
		Do: k.Do}
}

// Doing replaces the kind's usual way out by one that fits the case.
func (f Finding) Doing(format string, args ...any) Finding {
	f.Do = fmt.Sprintf(format, args...)
	return f
}

// Sort orders findings by file, line, column, id and text: the order never depends on who finished first.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line),
			cmp.Compare(a.Place.Column, b.Place.Column), cmp.Compare(a.ID, b.ID), cmp.Compare(a.Text, b.Text))
	})
}

// Count is how many findings of a severity are open (accepted ones are not counted).
func Count(list []Finding, severity Severity) int {
	n := 0
	for _, f := range list {
		if f.Severity == severity && f.Accepted == "" {
			n++
		}
	}
	return n
}

// Acceptance declares findings known. ID is a finding id; Where a pattern on the file's path (** crosses folders),
// empty for anywhere; Reason is why it is harmless here.
type Acceptance struct {
	ID, Where, Reason string
	Place             fault.Place // where it is declared
}

// Accept marks the findings that the project declared known. An error can't be accepted: it says the release would be
// broken.
func Accept(list []Finding, accepted []Acceptance) []Finding {
	for i := range list {
		for _, a := range accepted {
			if a.matches(list[i]) {
				list[i].Accepted = a.Reason
				break
			}
		}
	}
	return list
}

func (a Acceptance) matches(f Finding) bool {
	if a.ID != f.ID || f.Severity == Error {
		return false
	}
	ok, _ := doublestar.Match(a.Where, f.Place.File) // the pattern was checked when the project was read
	return a.Where == "" || ok
}

// UnusedAcceptances reports acceptances that match none of the findings, since a stale one would
// hide the next, real case. sayable says which ids the stages that ran could have found; an
// acceptance of another id is not judged.
func UnusedAcceptances(list []Finding, accepted []Acceptance, sayable func(id string) bool) []Finding {
	var out []Finding
	for _, a := range accepted {
		if sayable(a.ID) && !slices.ContainsFunc(list, a.matches) {
			out = append(out, AcceptUnused.At(a.Place, "no finding %q %sis there to accept", a.ID, inWhere(a.Where)))
		}
	}
	return out
}

// FromBuild says whether a kind is found while building, FromTry in the clean room; all others are found by the check.
func FromBuild(id string) bool {
	switch id {
	case TextureAlpha.ID, TextureColour.ID, TextureLight.ID, TextureNormal.ID, TextureNotUnit.ID, TextureOpaque.ID,
		SpriteBlank.ID, SpritePages.ID,
		SolidHidden.ID, DensityJump.ID, PictureBlank.ID:
		return true
	}
	return area(id) == "tree"
}

// FromTry says whether a kind is found in the clean room.
func FromTry(id string) bool { return area(id) == "try" }

func inWhere(where string) string {
	if where == "" {
		return ""
	}
	return "in " + where + " "
}

// Failure is an error made of findings: work that could not go on because of them.
type Failure struct {
	What     string // what could not be done
	Findings []Finding
}

func (f *Failure) Error() string {
	var b strings.Builder
	b.WriteString(f.What)
	for _, x := range f.Findings {
		fmt.Fprintf(&b, "\n%s: %s", x.Place, x.Text)
	}
	return b.String()
}

// KindOf is the kind of an id; nil when there is none.
func KindOf(id string) *Kind { return kinds[id] }
