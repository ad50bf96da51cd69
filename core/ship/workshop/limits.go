package workshop

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"vornix/core/base/humanize"
)

// Limits are what a workshop takes of one kind of items. Zero means that there is no limit of that sort.
type Limits struct {
	Title       int           `json:"title,omitempty" toml:"title"`             // characters
	Description int           `json:"description,omitempty" toml:"description"` // characters, of its Markdown
	Notes       int           `json:"notes,omitempty" toml:"notes"`             // characters
	Markdown    Markdown      `json:"markdown" toml:"markdown"`
	Tags        []string      `json:"tags,omitempty" toml:"tags"` // the only ones
	MostTags    int           `json:"most_tags,omitempty" toml:"most_tags"`
	LongestTag  int           `json:"longest_tag,omitempty" toml:"longest_tag"`
	Modes       []string      `json:"modes,omitempty" toml:"modes"` // the only ones
	MostNeeds   int           `json:"most_needs,omitempty" toml:"most_needs"`
	Pictures    PictureLimits `json:"pictures" toml:"pictures"`
	Files       FileLimits    `json:"files" toml:"files"`
	// before it becomes public: description, tags, modes, pictures, notes
	Required []string `json:"required,omitempty" toml:"required"`
}

// Markdown says what a description can have besides paragraphs, emphasis and lists.
type Markdown struct {
	Images  bool     `json:"images" toml:"images"`   // from elsewhere
	HTML    bool     `json:"html" toml:"html"`       // it is shown as text in any case
	Heading int      `json:"heading" toml:"heading"` // the highest level of headings: 1 to 6; 0 for any
	Links   []string `json:"links,omitempty" toml:"links"`
}

// PictureLimits are for the pictures of a page.
type PictureLimits struct {
	Most        int      `json:"most,omitempty" toml:"most"`
	Forms       []string `json:"forms,omitempty" toml:"forms"` // png, jpeg
	MostBytes   int64    `json:"most_bytes,omitempty" toml:"most_bytes"`
	LeastWidth  int      `json:"least_width,omitempty" toml:"least_width"`
	LeastHeight int      `json:"least_height,omitempty" toml:"least_height"`
	MostWidth   int      `json:"most_width,omitempty" toml:"most_width"`
	MostHeight  int      `json:"most_height,omitempty" toml:"most_height"`
	Progressive bool     `json:"progressive" toml:"progressive"` // whether progressive JPEG is taken
}

// FileLimits are for the files that players get.
type FileLimits struct {
	Most      int      `json:"most,omitempty" toml:"most"`
	MostBytes int64    `json:"most_bytes,omitempty" toml:"most_bytes"` // of all together
	Endings   []string `json:"endings,omitempty" toml:"endings"`       // such as .zip
}

// Wrong is something that a workshop would not take.
type Wrong struct {
	// title, description, notes, tags, modes, needs, testers, pictures, files, version
	Field string `json:"field"`
	Name  string `json:"name,omitempty"` // of the picture or file
	Line  int    `json:"line,omitempty"` // of the Markdown, from 1
	Text  string `json:"text"`           // what, with no full stop
}

func (w Wrong) String() string {
	where := w.Field
	if w.Name != "" {
		where += " " + w.Name
	}
	if w.Line > 0 {
		where += fmt.Sprintf(", line %d", w.Line)
	}
	return where + ": " + w.Text
}

// Bounds that hold at every workshop, so that nobody has to believe the other side.
const (
	maxTitle    = 300
	maxText     = 100_000
	maxList     = 100 // tags, modes, needs, testers, pictures
	maxFiles    = 1000
	maxPictureS = 32 << 20
)

// CheckPage holds a page to the limits. What is only wanted before it becomes public is not looked
// at; Missing does that.
func (l *Limits) CheckPage(p *Page) (list []Wrong) {
	wrong := func(field, name string, format string, args ...any) {
		list = append(list, Wrong{Field: field, Name: name, Text: fmt.Sprintf(format, args...)})
	}
	long := func(field, s string, limit, all int) {
		if !utf8.ValidString(s) {
			wrong(field, "", "it is not UTF-8")
		}
		if n := utf8.RuneCountInString(s); n > lowest(limit, all) {
			wrong(field, "", "it has %d characters, and at most %d are taken", n, lowest(limit, all))
		}
	}
	long("title", p.Title, l.Title, maxTitle)
	if strings.TrimSpace(p.Title) == "" {
		wrong("title", "", "it is empty")
	}
	if humanize.Misleads(p.Title, false) {
		wrong("title", "", "it has line ends or other control characters")
	}
	long("description", p.Description, l.Description, maxText)
	if humanize.Misleads(p.Description, true) {
		wrong("description", "", "it has control characters")
	}
	list = append(list, l.Markdown.Check("description", p.Description)...)
	l.words("tags", p.Tags, l.Tags, l.MostTags, wrong)
	for _, tag := range p.Tags {
		if n := utf8.RuneCountInString(tag); n > lowest(l.LongestTag, 60) {
			wrong("tags", "", "%q has %d characters, and at most %d are taken", tag, n, lowest(l.LongestTag, 60))
		}
	}
	l.words("modes", p.Modes, l.Modes, 0, wrong)
	l.words("needs", p.Needs, nil, l.MostNeeds, wrong)
	for _, id := range p.Needs {
		if !IsID(id) {
			wrong("needs", "", "%q is no item's id", id)
		}
	}
	l.words("testers", p.Testers, nil, 0, wrong)
	l.pictures(p.Pictures, wrong)
	return list
}

// CheckOwn checks what a program keeps with a page: few names and hashes.
func CheckOwn(own map[string]string) (list []Wrong) {
	for name, hash := range own {
		if len(own) > 32 || len(name) > 40 || len(hash) > 64 {
			return []Wrong{{Field: "own", Text: "at most 32 parts are kept, with names of 40 and hashes of 64 bytes"}}
		}
	}
	return nil
}

// words checks a list of words.
func (l *Limits) words(field string, list, allowed []string, limit int,
	wrong func(field, name, format string, args ...any)) {
	if n := len(list); n > lowest(limit, maxList) {
		wrong(field, "", "there are %d, and at most %d are taken", n, lowest(limit, maxList))
	}
	for i, word := range list {
		switch {
		case strings.TrimSpace(word) == "" || humanize.Misleads(word, false):
			wrong(field, "", "%q is not a word", word)
		case slices.Contains(list[:i], word):
			wrong(field, "", "%q is there twice", word)
		case len(allowed) > 0 && !slices.Contains(allowed, word):
			wrong(field, "", "%q is none of those that are taken: %s", word, strings.Join(allowed, ", "))
		}
	}
}

func (l *Limits) pictures(list []Picture, wrong func(field, name, format string, args ...any)) {
	x := l.Pictures
	if n := len(list); n > lowest(x.Most, maxList) {
		wrong("pictures", "", "there are %d, and at most %d are taken", n, lowest(x.Most, maxList))
	}
	for i, p := range list {
		say := func(format string, args ...any) { wrong("pictures", p.Name, format, args...) }
		if !isName(p.Name) ||
			slices.ContainsFunc(list[:i], func(o Picture) bool { return strings.EqualFold(o.Name, p.Name) }) {
			say("its name must be one of its own, of letters, digits, dots and dashes")
		}
		if bytes := int64(lowest(int(x.MostBytes), maxPictureS)); p.Size > bytes {
			say("it has %d bytes, and at most %d are taken", p.Size, bytes)
		}
		if n := utf8.RuneCountInString(p.Text); n > maxTitle {
			say("its text has %d characters, and at most %d are taken", n, maxTitle)
		}
		if humanize.Misleads(p.Text, false) {
			say("its text has line ends or other control characters")
		}
		if p.Form == "" {
			continue // not known yet
		}
		form := strings.TrimPrefix(p.Form, "progressive ")
		if len(x.Forms) > 0 && !slices.Contains(x.Forms, form) || form != "png" && form != "jpeg" {
			say("it is %s, and taken is %s", p.Form, strings.Join(x.Forms, " or "))
		}
		if form != p.Form && !x.Progressive {
			say("it is a progressive JPEG, which is not taken; a baseline one is")
		}
		if p.Width < x.LeastWidth || p.Height < x.LeastHeight {
			say("it has %dx%d pixels, and at least %dx%d are needed", p.Width, p.Height, x.LeastWidth, x.LeastHeight)
		}
		if p.Width > lowest(x.MostWidth, 20_000) || p.Height > lowest(x.MostHeight, 20_000) {
			say("it has %dx%d pixels, and at most %dx%d are taken", p.Width, p.Height, lowest(x.MostWidth, 20_000),
				lowest(x.MostHeight, 20_000))
		}
	}
}

// CheckVersion holds a version's files and notes to the limits.
func (l *Limits) CheckVersion(version, notes string, files []File) (list []Wrong) {
	wrong := func(field, name string, format string, args ...any) {
		list = append(list, Wrong{Field: field, Name: name, Text: fmt.Sprintf(format, args...)})
	}
	if version == "" || len(version) > 40 ||
		strings.ContainsFunc(version, func(r rune) bool { return r <= ' ' || r > '~' }) {
		wrong("version", "", "%q is no version", version)
	}
	if n := utf8.RuneCountInString(notes); n > lowest(l.Notes, maxText) || !utf8.ValidString(notes) {
		wrong("notes", "", "they have %d characters, and at most %d are taken", n, lowest(l.Notes, maxText))
	}
	if humanize.Misleads(notes, true) {
		wrong("notes", "", "they have control characters")
	}
	list = append(list, l.Markdown.Check("notes", notes)...)
	if n := len(files); n == 0 || n > lowest(l.Files.Most, maxFiles) {
		wrong("files", "", "there are %d, and at most %d are taken", n, lowest(l.Files.Most, maxFiles))
	}
	total := int64(0)
	for i, f := range files {
		total += f.Size
		switch {
		case !isName(f.Name) || strings.HasSuffix(f.Name, "."):
			wrong("files", f.Name, "its name must be of letters, digits, dots and dashes, without folders")
		case slices.ContainsFunc(files[:i], func(o File) bool { return strings.EqualFold(o.Name, f.Name) }):
			wrong("files", f.Name, "it is there twice")
		case len(l.Files.Endings) > 0 && !slices.Contains(l.Files.Endings, strings.ToLower(path.Ext(f.Name))):
			wrong("files", f.Name, "taken is %s", strings.Join(l.Files.Endings, " or "))
		case f.Size <= 0:
			wrong("files", f.Name, "it is empty")
		}
	}
	if limit := l.Files.MostBytes; limit > 0 && total > limit {
		wrong("files", "", "they have %d bytes, and at most %d are taken", total, limit)
	}
	return list
}

// Missing is what a page and its current version lack to become public.
func (l *Limits) Missing(p *Page, v *Version) (list []Wrong) {
	if v == nil {
		return []Wrong{{Field: "files", Text: "there is nothing to download"}}
	}
	has := map[string]bool{"description": strings.TrimSpace(p.Description) != "", "tags": len(p.Tags) > 0,
		"modes": len(p.Modes) > 0, "pictures": len(p.Pictures) > 0, "notes": strings.TrimSpace(v.Notes) != ""}
	for _, field := range l.Required {
		if there, known := has[field]; known && !there {
			list = append(list, Wrong{Field: field, Text: "it is missing, and wanted before anybody sees the item"})
		}
	}
	return list
}

// least is the smaller of a limit, where there is one, and a bound.
func lowest(limit, bound int) int {
	if limit > 0 && limit < bound {
		return limit
	}
	return bound
}
