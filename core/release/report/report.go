// Package report tells of a release: what went out, what changed since the last one, what it looks
// like, how large and how long to make it was.
//
// report.go is the data, which is also the JSON form (docs/json.md); page.go the page that people
// read: one HTML file (WHATWG HTML, SVG 2 inside) that needs nothing else. Who collects the data is
// package release.
package report

import (
	"encoding/json"
	"slices"
	"strings"

	"vornix/core/base/finding"
	"vornix/core/format/mapfile"
	"vornix/core/game/compare"
)

// Kind and Format tell the JSON form from others.
const (
	Kind   = "vornix report"
	Format = 1
)

// Report is what there is to say of a release. Sizes are in bytes, times in seconds.
type Report struct {
	Kind    string `json:"kind" jsonschema:"required,enum=vornix report"`
	Format  int    `json:"format" jsonschema:"required,enum=1"`
	Project string `json:"project" jsonschema:"required"`
	Title   string `json:"title" jsonschema:"required"`
	Version string `json:"version" jsonschema:"required"`
	Date    string `json:"date" jsonschema:"required,format=date"`
	Game    string `json:"game" jsonschema:"required,description=Title of the game"`
	Program string `json:"program" jsonschema:"description=The Vornix that made it"`

	Maps    []Map  `json:"maps" jsonschema:"required"`
	Notes   string `json:"notes" jsonschema:"description=What is new\\, in players' words: Markdown"`
	Before  string `json:"before" jsonschema:"description=The version before; empty for a first release"`
	Files   []File `json:"files" jsonschema:"required,description=What went out"`
	Patches []File `json:"patches" jsonschema:"required"`
	// NoPatches says from which versions no patch was made.
	NoPatches []string  `json:"no_patches,omitempty" jsonschema:"description=From which versions no patch was made\\, and why"`
	Changes   []Changed `json:"changes" jsonschema:"required,description=Files inside bundles that are not as in the version before"`
	Same      int       `json:"same" jsonschema:"description=Files that are as before"`
	Kinds     []Amount  `json:"kinds" jsonschema:"required,description=Sizes by kind of file\\, the largest first"`
	Growth    []Release `json:"growth" jsonschema:"required,description=Sizes of all releases\\, the oldest first\\, this one last"`
	Times     []Time    `json:"times" jsonschema:"required,description=How long each step of building took when it last ran\\, the longest first"`
	Steps     []Spent   `json:"steps" jsonschema:"required,description=How long each step of the release took when it last had something to do"`
	Findings  []Finding `json:"findings" jsonschema:"required"`
	// KnowsBefore says whether the findings of the version before are known.
	KnowsBefore bool          `json:"findings_compared" jsonschema:"description=Whether the findings of the version before are known"`
	Places      []Destination `json:"places" jsonschema:"required,description=Where it went"`
}

// Map is a map of the release.
type Map struct {
	Name     string    `json:"name" jsonschema:"required"`
	Title    string    `json:"title,omitempty"`
	Modes    []string  `json:"modes,omitempty"`
	Players  [2]int    `json:"players,omitzero" jsonschema:"description=Fewest and most"`
	Pictures []Picture `json:"pictures"`
	Changes  []string  `json:"changes" jsonschema:"description=What changed inside since the version before\\, in words"`
}

// Picture is a picture of a map, or of the project. Data is what the page shows.
type Picture struct {
	File   string `json:"file" jsonschema:"required,description=Path in the project"`
	Name   string `json:"name" jsonschema:"description=As the game's profile calls it"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
	Data   []byte `json:"-"` // JPEG
}

// File is a file that went out.
type File struct {
	Name   string `json:"name" jsonschema:"required"`
	From   string `json:"from,omitempty" jsonschema:"description=Of a patch: the version that it starts from"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256" jsonschema:"required,pattern=^[0-9a-f]{64}$"`
}

// Changed is a file that is not as before.
type Changed struct {
	State string `json:"state" jsonschema:"enum=added,enum=removed,enum=moved,enum=changed"`
	Path  string `json:"path"`
	From  string `json:"from,omitempty"`
	Old   int64  `json:"old"`
	New   int64  `json:"new"`
}

// Amount is how much there is of one kind of files.
type Amount struct {
	Kind   string `json:"kind"`
	Files  int    `json:"files"`
	Size   int64  `json:"size" jsonschema:"description=Before packing"`
	Packed int64  `json:"packed" jsonschema:"description=In bundles"`
	Old    int64  `json:"old" jsonschema:"description=Before packing\\, in the version before"`
}

// Release is how large a release is.
type Release struct {
	Version string           `json:"version"`
	Date    string           `json:"date,omitempty"`
	Size    int64            `json:"size" jsonschema:"description=Of its bundles"`
	Kinds   map[string]int64 `json:"kinds" jsonschema:"description=Packed\\, by kind of file"`
}

// Time is how long a step of building took: of a map by stages.
type Time struct {
	Step    string             `json:"step"`
	Name    string             `json:"name"`
	Seconds float64            `json:"seconds"`
	Stages  map[string]float64 `json:"stages,omitempty"`
}

// Spent is how long a step of the release took.
type Spent struct {
	Step    string  `json:"step"`
	Seconds float64 `json:"seconds"`
}

// Finding is one that the release had, and whether the one before had it too.
type Finding struct {
	ID       string `json:"id" jsonschema:"required"`
	Severity string `json:"severity" jsonschema:"required,enum=error,enum=warning,enum=note"`
	File     string `json:"file,omitempty"`
	Line     int    `json:"line,omitempty"`
	Text     string `json:"text" jsonschema:"required"`
	Accepted string `json:"accepted,omitempty" jsonschema:"description=The project's reason\\, when it declared this known"`
	New      bool   `json:"new" jsonschema:"description=The version before had it not"`
}

// Found takes findings.
func (r *Report) Found(list []finding.Finding) {
	for _, f := range list {
		r.Findings = append(r.Findings,
			Finding{ID: f.ID, Severity: f.Severity.String(), File: f.Place.File, Line: f.Place.Line, Text: f.Text,
				Accepted: f.Accepted})
	}
}

// Destination is where the release went.
type Destination struct {
	Target  string `json:"target"`
	Kind    string `json:"kind"`
	Where   string `json:"where"`
	Version string `json:"version"`
	When    string `json:"when" jsonschema:"description=In UTC"`
}

// Encode is the JSON form.
func (r *Report) Encode() ([]byte, error) {
	data, err := json.MarshalIndent(r, "", "  ")
	return append(data, '\n'), err
}

// Read reads the JSON form. One of another format can't be read.
func Read(data []byte) (*Report, error) {
	var r Report
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, err
	}
	if r.Kind != Kind || r.Format != Format {
		return nil, errFormat
	}
	return &r, nil
}

// Compared takes what changed in files.
func (r *Report) Compared(c *compare.Result) {
	r.Same = c.Same
	for _, x := range c.Changes {
		r.Changes = append(r.Changes, Changed{string(x.State), x.Path, x.From, x.Old, x.New})
	}
	for _, k := range c.Kinds {
		if k.NewFiles > 0 || k.OldFiles > 0 {
			r.Kinds = append(r.Kinds, Amount{k.Kind, k.NewFiles, k.New, k.Packed, k.Old})
		}
	}
}

// Words are changes inside a map as the report says them.
func Words(list []mapfile.Change) []string {
	words := []string{}
	for _, c := range list {
		words = append(words, c.Text)
	}
	return words
}

// Known marks the findings that the release before had already: a finding is the same when it says
// the same of the same file.
func (r *Report) Known(before *Report) {
	r.KnowsBefore = before != nil
	for i := range r.Findings {
		f := &r.Findings[i]
		f.New = before != nil && !slices.ContainsFunc(before.Findings, func(o Finding) bool {
			// bundles have their version in their names
			return o.ID == f.ID && o.Text == f.Text && strings.ReplaceAll(o.File, before.Version, r.Version) == f.File
		})
	}
}

// Accepted is how many findings are accepted ones.
func (r *Report) Accepted() (n int) {
	for _, f := range r.Findings {
		if f.Accepted != "" {
			n++
		}
	}
	return n
}

// Size is the size of all that players get.
func (r *Report) Size() (n int64) {
	for i := range r.Growth {
		if r.Growth[i].Version == r.Version {
			n = r.Growth[i].Size
		}
	}
	return n
}

// SizeBefore is that of the version before; 0 when there is none.
func (r *Report) SizeBefore() (n int64) {
	for i := range r.Growth {
		if r.Before != "" && r.Growth[i].Version == r.Before {
			n = r.Growth[i].Size
		}
	}
	return n
}
