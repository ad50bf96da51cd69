package template

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"
)

var place = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{([a-z0-9_.]+)\}`) })

// Places are the names in a line's template, in their order.
func Places(template string) (list []string) {
	for _, m := range place().FindAllStringSubmatch(template, -1) {
		list = append(list, m[1])
	}
	return list
}

// Line fills a template; a {name} without a value stays as it is. What it gives is one line,
// whatever the values hold, unless they go in as they are ("none").
func Line(template string, values map[string]string, escape string) string {
	line := place().ReplaceAllStringFunc(template, func(p string) string {
		v, ok := values[p[1:len(p)-1]]
		if !ok {
			return p
		}
		if escape == "csv" {
			v = oneLine(v) // which could hold line ends
		}
		return Escape(escape, v)
	})
	return strings.TrimRight(line, " ")
}

// escapedForms are what escaped values look like, so that what separates them is not mistaken for a part of them.
var escapedForms = map[string]string{
	"csv": `("(?:[^"]|"")*"|[^"]*?)`, "quotes": `((?:[^"\\]|\\.)*?)`, "json": `((?:[^"\\]|\\.)*?)`, "xml": `([^<>"]*?)`,
}

// Reader reads lines back that were filled from one template.
type Reader struct {
	form   *regexp.Regexp
	names  []string
	escape string
}

// NewReader makes a reader for a template.
func NewReader(template, escape string) *Reader {
	r := &Reader{names: Places(template), escape: escape}
	var b strings.Builder
	b.WriteString(`(?s)^`)
	rest := template
	for range r.names {
		at := place().FindStringIndex(rest)
		b.WriteString(regexp.QuoteMeta(rest[:at[0]]))
		b.WriteString(cmp.Or(escapedForms[escape], `(.*?)`))
		rest = rest[at[1]:]
	}
	b.WriteString(regexp.QuoteMeta(strings.TrimRight(rest, " ")) + `\s*$`)
	r.form = regexp.MustCompile(b.String()) // quoted texts and groups always compile
	return r
}

// Read takes a line apart; ok is false when it is not of the template.
func (r *Reader) Read(line string) (values map[string]string, ok bool) {
	m := r.form.FindStringSubmatch(line)
	if m == nil {
		return nil, false
	}
	values = map[string]string{}
	for i, name := range r.names {
		v, err := Unescape(r.escape, m[i+1])
		if before, twice := values[name]; err != nil || twice && before != v {
			return nil, false
		}
		values[name] = v
	}
	return values, true
}

// Same says whether a line filled with values is read back as those: that none of them holds what
// separates it from the next.
func (r *Reader) Same(line string, values map[string]string) bool {
	got, ok := r.Read(line)
	return ok && !slices.ContainsFunc(r.names, func(name string) bool {
		want, known := values[name]
		if r.escape == "line" || r.escape == "" || r.escape == "csv" {
			want = oneLine(want)
		} else if r.escape == "quotes" || r.escape == "xml" {
			want, _ = Unescape(r.escape, Escape(r.escape, want)) // what the form can hold of it
		}
		return known && strings.TrimSpace(got[name]) != strings.TrimSpace(want)
	})
}
