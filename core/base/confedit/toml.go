package confedit

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/tomlfile"
)

// tomlText is a TOML text. What stands in a list of tables is reached by its number.
type tomlText struct {
	text string
	list []Key
}

func readTOML(text string) (*tomlText, error) {
	var all map[string]any
	if err := toml.Unmarshal([]byte(text), &all); err != nil {
		return nil, fmt.Errorf("it is no TOML: %w", err)
	}
	var again map[string]any
	doc, _ := tomlfile.Decode("", []byte(text), &again) // it was read before
	d := &tomlText{text: text}
	d.walk(doc, nil, nil, all)
	slices.SortFunc(d.list, func(a, b Key) int { return a.start - b.start })
	return d, nil
}

func (d *tomlText) walk(doc *tomlfile.Document, p []string, at []any, v any) {
	if len(p) > 0 {
		if start, end, ok := doc.Value(at...); ok && end > start {
			if table, is := v.(map[string]any); !is || len(table) == 0 || strings.HasPrefix(d.text[start:], "{") {
				from, to := lineAround(d.text, start, end)
				d.list = append(d.list,
					Key{Path: p, Value: d.text[start:end], start: start, end: end, cutFrom: from, cutTo: to})
				return
			}
		}
	}
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			d.walk(doc, append(slices.Clone(p), k), append(slices.Clone(at), k), inner)
		}
	case []any:
		for i, inner := range v {
			d.walk(doc, append(slices.Clone(p), strconv.Itoa(i)), append(slices.Clone(at), i), inner)
		}
	}
}

func (d *tomlText) keys() []Key { return d.list }

var bareKey = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_-]+$`) })

func tomlName(p []string) string {
	var parts []string
	for _, s := range p {
		if !bareKey().MatchString(s) {
			s, _ = Literal("toml", s) // a text can always be written
		}
		parts = append(parts, s)
	}
	return strings.Join(parts, ".")
}

var tomlHead = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?m)^[ \t]*\[\[?[ \t]*([^\]\r\n]+?)[ \t]*\]`)
})

func (d *tomlText) insert(p []string, value string) (string, error) {
	line := tomlName(p[len(p)-1:]) + " = " + value
	table := tomlName(p[:len(p)-1])
	heads := tomlHead().FindAllStringSubmatchIndex(d.text, -1)
	// after is after the last line that says something in d.text[from:to].
	after := func(from, to int) int {
		at := from
		for i := from; i < to; {
			_, end := lineAround(d.text, i, i)
			if s := strings.TrimSpace(d.text[i:min(end, to)]); s != "" && s[0] != '#' {
				at = end
			}
			i = end
		}
		return at
	}
	if table == "" {
		to := len(d.text)
		if len(heads) > 0 {
			to, _ = lineAround(d.text, heads[0][0], heads[0][0])
		}
		return insertLine(d.text, after(0, to), line), nil
	}
	for i, h := range heads {
		if d.text[h[2]:h[3]] != table || strings.HasPrefix(strings.TrimSpace(d.text[h[0]:]), "[[") {
			continue
		}
		to := len(d.text)
		if i+1 < len(heads) {
			to, _ = lineAround(d.text, heads[i+1][0], heads[i+1][0])
		}
		return insertLine(d.text, after(h[0], to), line), nil
	}
	end := lineEnd(d.text)
	out := d.text
	if out != "" && !strings.HasSuffix(out, "\n") {
		out += end
	}
	if out != "" {
		out += end
	}
	return out + "[" + table + "]" + end + line + end, nil
}
