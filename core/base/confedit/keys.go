package confedit

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/diff"
)

// Forms are the forms of settings whose keys can be changed.
var Forms = []string{"ini", "json", "toml", "xml"}

// FormOf is the form that a file's ending tells; empty for another.
func FormOf(name string) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".ini", ".cfg", ".conf":
		return "ini"
	case ".json":
		return "json"
	case ".toml":
		return "toml"
	case ".xml":
		return "xml"
	}
	return ""
}

// Key is a value of a text, with the keys that lead to it.
type Key struct {
	Path  []string // in XML: elements, one of several as name[2], and at the end @attribute
	Value string   // as it is written
	start int      // where it stands
	end   int
	// cut is what goes with it when it is removed.
	cutFrom, cutTo int
}

// Name is the path in one word, as ParsePath reads it.
func Name(p []string) string {
	var b strings.Builder
	for i, s := range p {
		if i > 0 {
			b.WriteByte('.')
		}
		if s == "" || strings.ContainsAny(s, `."`) {
			s = strconv.Quote(s)
		}
		b.WriteString(s)
	}
	return b.String()
}

// ParsePath reads a path of keys with dots between them; a key that has one stands in double quotes.
func ParsePath(s string) (p []string, err error) {
	for rest := s; ; {
		if strings.HasPrefix(rest, `"`) {
			q, err := strconv.QuotedPrefix(rest)
			if err != nil {
				return nil, fmt.Errorf("the key %s has a quote that does not end", s)
			}
			key, _ := strconv.Unquote(q) // QuotedPrefix has read it
			p, rest = append(p, key), rest[len(q):]
		} else {
			n := strings.IndexByte(rest, '.')
			if n < 0 {
				n = len(rest)
			}
			if n == 0 {
				return nil, fmt.Errorf("the key %q has an empty part", s)
			}
			p, rest = append(p, rest[:n]), rest[n:]
		}
		if rest == "" {
			return p, nil
		}
		if rest[0] != '.' {
			return nil, fmt.Errorf("the key %s has something after a quote", s)
		}
		rest = rest[1:]
	}
}

// document is a text that was read as one of the forms.
type document interface {
	keys() []Key
	// insert writes a key that is not there.
	insert(path []string, value string) (string, error)
}

func read(form, text string) (document, error) {
	switch form {
	case "ini":
		return readINI(text), nil
	case "json":
		return readJSON(text)
	case "toml":
		return readTOML(text)
	case "xml":
		return readXML(text)
	}
	return nil, fmt.Errorf("keys of a %q can't be changed", form)
}

// Keys lists the values of a text.
func Keys(form, text string) ([]Key, error) {
	d, err := read(form, text)
	if err != nil {
		return nil, err
	}
	return d.keys(), nil
}

// Get returns a value as it is written.
func Get(form, text string, p []string) (string, bool, error) {
	list, err := Keys(form, text)
	if err != nil {
		return "", false, err
	}
	if i := find(list, p); i >= 0 {
		return list[i].Value, true, nil
	}
	return "", false, nil
}

func find(list []Key, p []string) int {
	return slices.IndexFunc(list, func(k Key) bool { return slices.Equal(k.Path, p) })
}

// Set sets a key to a value as it is to be written (Literal makes one), where it stands or where it belongs.
func Set(form, text string, p []string, value string) (string, error) {
	d, err := read(form, text)
	if err != nil {
		return "", err
	}
	if len(p) == 0 {
		return "", fmt.Errorf("no key is named")
	}
	var out string
	if list := d.keys(); find(list, p) >= 0 {
		k := list[find(list, p)]
		out = text[:k.start] + value + text[k.end:]
	} else if out, err = d.insert(p, value); err != nil {
		return "", err
	}
	if got, ok, err := Get(form, out, p); err != nil || !ok || got != value {
		return "", fmt.Errorf("the key %s can't be set to %s here", Name(p), value)
	}
	return out, nil
}

// Remove takes a key away; one that is not there is no error.
func Remove(form, text string, p []string) (string, error) {
	list, err := Keys(form, text)
	if err != nil {
		return "", err
	}
	if i := find(list, p); i >= 0 {
		return text[:list[i].cutFrom] + text[list[i].cutTo:], nil
	}
	return text, nil
}

// Literal writes a value as a form has it: a text, a number or yes and no.
func Literal(form string, v any) (string, error) {
	switch v := v.(type) {
	case string:
		switch form {
		case "json", "toml":
			var b bytes.Buffer
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			if err := e.Encode(v); err != nil {
				return "", err
			}
			return strings.TrimSpace(b.String()), nil // a TOML basic string takes the escapes of JSON
		case "xml":
			var b strings.Builder
			err := xml.EscapeText(&b, []byte(v))
			return b.String(), err
		}
		if strings.ContainsAny(v, "\r\n") {
			return "", fmt.Errorf("a value of an INI file is one line")
		}
		return v, nil
	case bool, int64, int:
		return fmt.Sprint(v), nil
	case float64:
		s := strconv.FormatFloat(v, 'f', -1, 64)
		if form == "toml" && !strings.Contains(s, ".") {
			s += ".0"
		}
		return s, nil
	}
	return "", fmt.Errorf("a value must be a text, a number, true or false")
}

// KeyChange is a key that is another afterwards. Old is empty for one that comes, New for one that goes.
type KeyChange struct {
	Path []string `json:"key"`
	Old  *string  `json:"old,omitempty"`
	New  *string  `json:"new,omitempty"`
}

// KeyChanges says which keys make one text of the other; ok is false when keys alone do not.
func KeyChanges(form, old, now string) (list []KeyChange, ok bool) {
	a, err := Keys(form, old)
	b, err2 := Keys(form, now)
	if err != nil || err2 != nil {
		return nil, false
	}
	for _, k := range b {
		value := k.Value
		if i := find(a, k.Path); i < 0 {
			list = append(list, KeyChange{Path: k.Path, New: &value})
		} else if was := a[i].Value; was != value {
			list = append(list, KeyChange{Path: k.Path, Old: &was, New: &value})
		}
	}
	for _, k := range a {
		if find(b, k.Path) < 0 {
			was := k.Value
			list = append(list, KeyChange{Path: k.Path, Old: &was})
		}
	}
	made, conflicts, err := ChangeKeys(form, old, list)
	if err != nil || len(conflicts) > 0 {
		return nil, false
	}
	c, err := Keys(form, made)
	same := func(x, y Key) bool { return slices.Equal(x.Path, y.Path) && x.Value == y.Value }
	order := func(x, y Key) int { return slices.Compare(x.Path, y.Path) }
	slices.SortFunc(b, order)
	slices.SortFunc(c, order)
	return list, err == nil && slices.EqualFunc(b, c, same)
}

// ChangeKeys makes changes in a text that may have moved on: a key that has its new value already
// is left; one that has neither the old nor the new is a conflict, and keeps what it has.
func ChangeKeys(form, text string, list []KeyChange) (string, []diff.Conflict, error) {
	var conflicts []diff.Conflict
	for _, c := range list {
		has, there, err := Get(form, text, c.Path)
		if err != nil {
			return "", nil, err
		}
		is := func(v *string) bool { return v == nil && !there || v != nil && there && *v == has }
		switch {
		case is(c.New):
		case !is(c.Old):
			k := diff.Conflict{Key: Name(c.Path), Ours: has}
			if c.Old != nil {
				k.Base = *c.Old
			}
			if c.New != nil {
				k.Theirs = *c.New
			}
			if all, err := Keys(form, text); err == nil {
				if i := find(all, c.Path); i >= 0 {
					k.Line = 1 + strings.Count(text[:all[i].start], "\n")
				}
			}
			conflicts = append(conflicts, k)
		case c.New == nil:
			if text, err = Remove(form, text, c.Path); err != nil {
				return "", nil, err
			}
		default:
			if text, err = Set(form, text, c.Path, *c.New); err != nil {
				return "", nil, err
			}
		}
	}
	return text, conflicts, nil
}

// lineAround widens a span to whole lines.
func lineAround(text string, from, to int) (int, int) {
	from = strings.LastIndexByte(text[:from], '\n') + 1
	if n := strings.IndexByte(text[to:], '\n'); n >= 0 {
		return from, to + n + 1
	}
	return from, len(text)
}

// lineEnd is how a text ends its lines.
func lineEnd(text string) string {
	if strings.Contains(text, "\r\n") {
		return "\r\n"
	}
	return "\n"
}

// insertLine puts a line into a text at the beginning of a line, or at its end.
func insertLine(text string, at int, line string) string {
	end := lineEnd(text)
	if at > 0 && text[at-1] != '\n' {
		return text[:at] + end + line + text[at:]
	}
	return text[:at] + line + end + text[at:]
}
