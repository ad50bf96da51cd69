// Package serverlist edits the lists by which game servers know their maps: lines, arrays in JSON
// files, and settings that name all maps in one line.
//
// A list is others' as much as ours: comments, foreign entries, their order, line ends and encoding
// stay. Entries are added once, where the list's rule wants them, and those that are not wanted any
// more are taken out. serverlist.go is what all forms share; lines.go, json.go and setting.go take
// a form apart and put it together.
package serverlist

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/template"
	"vornix/core/config/profile"
)

// Entry is what a list says of a map.
type Entry struct {
	Map  string `json:"map"` // as the project calls it
	Line string `json:"line"`
}

// List is a list that has been read.
type List struct {
	rule  *profile.ListFile
	text  *charset.Text
	items []item
	form  form
	names func(line string) string
}

// item is a part of a list: an entry, or something else that stays where it is.
type item struct {
	lead, body, end string // what stands before it, itself, and after it
	name            string // of its map; empty for what is no entry
	fresh           bool   // put in by this edit
	key             string // that it is sorted by, once that is asked for
}

// form is how the items of a list stand in its text.
type form interface {
	// fresh makes an item for an entry that goes to position i.
	fresh(items []item, i int, body string) item
	// join is the text.
	join(items []item) (string, error)
}

// Read reads a list. data is nil when the file is not there.
func Read(rule *profile.ListFile, data []byte) (*List, error) {
	l := &List{rule: rule}
	var err error
	if data == nil {
		l.text = &charset.Text{Encoding: cmp.Or(rule.Encoding, "utf-8")}
		if strings.HasPrefix(rule.Encoding, "utf-16") {
			l.text.Mark = true
		}
	} else if l.text,
		err = charset.Read(data, cmp.Or(rule.Encoding, "latin-1")); err != nil { // in which every byte is a character
		return nil, fmt.Errorf("%s can't be read: %w", rule.File, err)
	}
	switch rule.Form {
	case "json":
		l.form, l.items, err = readJSON(rule, l.text.Content)
	case "setting":
		l.form, l.items, err = readSetting(rule, l.text.Content)
	default:
		l.form, l.items = readLines(rule, l.text)
	}
	if err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", rule.File, err)
	}
	l.names = Names(rule)
	for i := range l.items {
		x := &l.items[i]
		body := strings.TrimSpace(x.body)
		if body == "" || rule.Form != "json" &&
			slices.ContainsFunc(rule.Notes, func(n string) bool { return strings.HasPrefix(body, n) }) {
			continue
		}
		x.name = l.names(body)
	}
	return l, nil
}

// Names says which map an entry of a list is about, by the name that the list's line has of it:
// {map}, {stem} or {file}. An entry that is written in another way than ours is known by its first
// word.
func Names(rule *profile.ListFile) func(line string) string {
	reader := template.NewReader(rule.Line, rule.Escape)
	return func(line string) string {
		if values, ok := reader.Read(line); ok {
			for _, key := range []string{"map", "stem", "file"} {
				if v := values[key]; v != "" {
					return strings.TrimSpace(v)
				}
			}
		}
		if word := strings.FieldsFunc(line,
			func(r rune) bool { return strings.ContainsRune(" \t,;\"", r) }); len(word) > 0 {
			return word[0]
		}
		return line
	}
}

// Entries are those of the list, anybody's, in their order.
func (l *List) Entries() []Entry {
	var list []Entry
	for _, x := range l.items {
		if x.name != "" {
			list = append(list, Entry{x.name, strings.TrimSpace(x.body)})
		}
	}
	return list
}

// Edit takes out the entries ours that are not wanted any more, and puts in those of want that are
// missing. An entry of ours that has changed stays where it stood. One for the same map that
// somebody else wrote, in words of their own, counts as there. weights are for the order of that
// name: lighter entries stand first; those without a weight have 0.
func (l *List) Edit(ours, want []Entry, weights map[string]int) {
	wanted, lines, byMap := map[string]bool{}, map[string]int{}, map[string][]int{}
	for i, w := range want {
		wanted[w.Line] = true
		byMap[w.Map] = append(byMap[w.Map], i)
	}
	names := map[string]bool{}
	for i := range l.items {
		if x := &l.items[i]; x.name != "" {
			if _, ok := lines[x.text()]; !ok {
				lines[x.text()] = i
			}
			names[x.name] = true
		}
	}
	there := make([]bool, len(want))
	for i, w := range want {
		_, there[i] = lines[w.Line]
	}
	gone := map[int]bool{}
	for _, o := range ours {
		i, ok := lines[o.Line]
		if wanted[o.Line] || !ok || gone[i] {
			continue
		}
		replaced := false
		for _, m := range byMap[o.Map] {
			if !there[m] {
				x := &l.items[i]
				x.body, x.key = strings.Replace(x.body, x.text(), want[m].Line, 1), ""
				there[m], replaced = true, true
				break
			}
		}
		if !replaced {
			gone[i] = true
		}
	}
	if len(gone) > 0 {
		names = map[string]bool{}
		var kept []item
		for i, x := range l.items {
			if gone[i] {
				continue
			}
			if len(kept) == 0 { // the first of a list gives what stood before it to the next
				x.lead = l.items[0].lead
			}
			kept = append(kept, x)
			if x.name != "" {
				names[x.name] = true
			}
		}
		l.items = kept
	}
	var missing []int
	for i, w := range want {
		if name := l.names(w.Line); !there[i] && !names[name] {
			missing = append(missing, i)
			names[name] = true
		}
	}
	l.insertAll(want, missing, weights)
}

// insertAll puts in those entries of want that are missing. Lists may be long: what goes to the end
// does so without a look at the others.
func (l *List) insertAll(want []Entry, missing []int, weights map[string]int) {
	at := map[string]bool{}
	for i := range l.items {
		at[l.items[i].text()] = true
	}
	next := make([]int, len(want)) // the first of want behind each that is there; -1 for none
	behind := -1
	for i := len(want) - 1; i >= 0; i-- {
		next[i] = behind
		if at[want[i].Line] {
			behind = i
		}
	}
	plain := l.rule.Order == "append" || l.rule.Order == "weight" && len(weights) == 0
	for _, i := range missing {
		if plain && next[i] < 0 {
			l.put(len(l.items), want[i])
			continue
		}
		place := -1
		if next[i] >= 0 {
			place = slices.IndexFunc(l.items,
				func(x item) bool { return x.name != "" && x.text() == want[next[i]].Line })
		}
		l.insert(want[i], place, weights)
	}
}

// text is an item without the blanks around it.
func (x *item) text() string { return strings.TrimSpace(x.body) }

// remove takes an item out. The first of a list gives what stood before it to the next.
func (l *List) remove(i int) {
	if i == 0 && len(l.items) > 1 {
		l.items[1].lead = l.items[0].lead
	}
	l.items = slices.Delete(l.items, i, i+1)
}

// insert puts an entry where the list's rule wants it. One that is appended still stands in front
// of those of ours that come after it, so that ours stay in one order whatever goes and comes back.
func (l *List) insert(e Entry, next int, weights map[string]int) {
	at := len(l.items)
	before := func(f func(x *item) bool) {
		for i := range l.items {
			if l.items[i].name != "" && f(&l.items[i]) {
				at = i
				return
			}
		}
		for i := len(l.items) - 1; i >= 0; i-- { // behind the last entry, in front of notes that end the list
			if l.items[i].name != "" {
				at = i + 1
				return
			}
		}
	}
	switch l.rule.Order {
	default:
		if next >= 0 {
			at = next
		}
	case "sorted":
		key := strings.ToLower(e.Line)
		before(func(x *item) bool {
			if x.key == "" {
				x.key = strings.ToLower(x.text())
			}
			return x.key > key
		})
	case "weight":
		own := weights[l.names(e.Line)]
		before(func(x *item) bool { return weights[x.name] > own })
		if next >= 0 && next < at && weights[l.items[next].name] == own {
			at = next
		}
	case "after":
		for i := range l.items {
			if l.items[i].name == l.rule.After {
				at = i + 1
				for at < len(l.items) && l.items[at].fresh {
					at++
				}
			}
		}
	}
	l.put(at, e)
}

// put makes an entry the one at a place.
func (l *List) put(at int, e Entry) {
	x := l.form.fresh(l.items, at, e.Line)
	x.name, x.fresh = l.names(e.Line), true
	l.items = slices.Insert(l.items, at, x)
}

// Without takes out all entries of a map, whoever wrote them, and gives them.
func (l *List) Without(name string) (gone []Entry) {
	for i := 0; i < len(l.items); {
		if l.items[i].name != name {
			i++
			continue
		}
		gone = append(gone, Entry{name, strings.TrimSpace(l.items[i].body)})
		l.remove(i)
	}
	return gone
}

// Drop takes out the entries with exactly this text.
func (l *List) Drop(line string) {
	for i := len(l.items) - 1; i >= 0; i-- {
		if l.items[i].name != "" && l.items[i].text() == line {
			l.remove(i)
		}
	}
}

// Bytes is the list as it goes into its file.
func (l *List) Bytes() ([]byte, error) {
	content, err := l.form.join(l.items)
	if err != nil {
		return nil, fmt.Errorf("%s can't be written: %w", l.rule.File, err)
	}
	data, err := l.text.WithContent(content).Write(charset.Style{})
	if err != nil {
		return nil, fmt.Errorf("%s can't be written: %w", l.rule.File, err)
	}
	return data, nil
}
