// Package tomlfile reads TOML strictly: every key must be known, and everything that is wrong is a finding with the
// line and column it stands at. It also remembers where each key stands, so that rules checked later (an unknown team,
// a missing reason) can point there too.
package tomlfile

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
)

// Document is a file that was read: its name and where its keys stand.
type Document struct {
	Name      string
	lines     [][]byte
	positions map[string]fault.Place
	values    map[string]unstable.Range
	keys      []key
	starts    []int // offset of each line
}

// key is one that is written in the file: where, and its parts without the numbers of list elements.
type key struct {
	place fault.Place
	parts []string
}

// MaxBytes is how large a file may be. Those that people write have some kilobytes.
const MaxBytes = 4 << 20

// maxTables is how many tables and how many keys a file may have: the library searches all earlier ones for each.
const (
	maxTables = 10_000
	maxKeys   = 20_000
)

// Decode reads data into the struct that into points to. Findings are empty when everything was understood; the
// Document is never nil, but knows no positions in a file that isn't TOML.
func Decode(name string, data []byte, into any) (*Document, []finding.Finding) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")) // some editors on Windows put a byte-order mark first
	doc := &Document{Name: name, lines: bytes.Split(data, []byte("\n")), positions: map[string]fault.Place{},
		values: map[string]unstable.Range{}}
	if len(data) > MaxBytes {
		return &Document{Name: name, positions: doc.positions, values: doc.values},
			[]finding.Finding{finding.TOMLSyntax.At(fault.Place{File: name},
				"the file has %d bytes; at most %d are read", len(data), MaxBytes)}
	}
	tables, keys := 0, 0
	for i, line := range doc.lines {
		if bytes.HasPrefix(bytes.TrimLeft(line, " \t"), []byte("[")) {
			tables++
		}
		keys += bytes.Count(line, []byte("="))
		if tables > maxTables || keys > maxKeys {
			return doc, []finding.Finding{finding.TOMLSyntax.At(fault.Place{File: name, Line: i + 1, Column: 1},
				"more than %d tables or %d keys", maxTables, maxKeys)}
		}
		if deep(line) {
			f := finding.TOMLSyntax.At(fault.Place{File: name, Line: i + 1, Column: 1}, "a key of more than %d parts",
				maxParts)
			f.Excerpt = doc.line(i + 1)
			return doc, []finding.Finding{f}
		}
	}
	err := toml.Unmarshal(data, into)
	var wrong *toml.DecodeError
	switch {
	case err == nil:
		doc.index(data)
		return doc, doc.unknown(reflect.TypeOf(into))
	case errors.As(err, &wrong):
		row, column := wrong.Position()
		kind := finding.TOMLSyntax
		if len(wrong.Key()) > 0 && !isSyntax(data) {
			kind = finding.TOMLValue
		}
		f := kind.At(doc.place(row, column), "%s", plain(wrong.Error()))
		f.Excerpt = doc.line(row)
		return doc, []finding.Finding{f}
	default:
		return doc, []finding.Finding{finding.TOMLValue.At(fault.Place{File: name}, "%s", plain(err.Error()))}
	}
}

// maxParts is how many parts a key may have: what reads them takes time with their square, and people write three.
const maxParts = 1000

func deep(line []byte) bool {
	if len(line) <= maxParts {
		return false
	}
	key := bytes.TrimLeft(line, " \t")
	if !bytes.HasPrefix(key, []byte("[")) {
		var is bool
		if key, _, is = bytes.Cut(key, []byte("=")); !is {
			return false
		}
	}
	return bytes.Count(key, []byte(".")) > maxParts
}

// isSyntax tells a file that isn't TOML from one whose values have the wrong type.
func isSyntax(data []byte) bool {
	var any map[string]any
	return toml.Unmarshal(data, &any) != nil
}

func plain(message string) string {
	message = strings.TrimPrefix(message, "toml: ")
	message, _, _ = strings.Cut(message, "\n")
	return message
}

// unknown are the keys that the type has no field for. The library finds them too, but takes time
// with the square of their number.
func (d *Document) unknown(root reflect.Type) (list []finding.Finding) {
	said := map[string]bool{}
	for _, k := range d.keys {
		n := unknownPart(root, k.parts)
		if n < 0 {
			continue
		}
		if path := strings.Join(k.parts[:n+1], "\x00"); said[path] && n < len(k.parts)-1 {
			continue // its table was named already
		} else {
			said[path] = true
		}
		known := knownKeys(root, k.parts[:n])
		f := finding.TOMLUnknown.At(k.place, "%q is not a setting%s", k.parts[n], inTable(k.parts[:n]))
		if near := suggest.Word(k.parts[n], known); near != "" {
			f = f.Doing("Did you mean %q?", near)
		} else if len(known) > 0 {
			f = f.Doing("Known here: %s.", strings.Join(known, ", "))
		}
		f.Excerpt = d.line(k.place.Line)
		list = append(list, f)
	}
	return list
}

// unknownPart is which part of a key leads to no field of a type; -1 when all do. The library
// itself refuses values that are not tables.
func unknownPart(t reflect.Type, parts []string) int {
	for n, part := range parts {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Array {
			t = t.Elem()
		}
		switch t.Kind() {
		case reflect.Map:
			t = t.Elem()
			continue
		case reflect.Struct:
		default:
			return -1
		}
		field, ok := fieldNamed(t, part)
		if !ok {
			return n
		}
		t = field
	}
	return -1
}

// fieldNamed is the type of the field for a key, in whatever case, as the library takes it.
func fieldNamed(t reflect.Type, key string) (reflect.Type, bool) {
	for _, field := range reflect.VisibleFields(t) { // those of embedded structs too
		name, _, _ := strings.Cut(field.Tag.Get("toml"), ",")
		if name != "" && name != "-" && strings.EqualFold(name, key) {
			return field.Type, true
		}
	}
	return nil, false
}

func inTable(path []string) string {
	if len(path) == 0 {
		return " at the top of the file"
	}
	return " of [" + strings.Join(path, ".") + "]"
}

// knownKeys lists the keys of the struct that the path leads to, in the struct's order.
func knownKeys(t reflect.Type, path []string) []string {
	for {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() == reflect.Map && len(path) > 0 {
			t, path = t.Elem(), path[1:]
			continue
		}
		if t.Kind() != reflect.Struct {
			return nil
		}
		var names []string
		var next reflect.Type
		for _, field := range reflect.VisibleFields(t) { // those of embedded structs too
			name, _, _ := strings.Cut(field.Tag.Get("toml"), ",")
			if name == "" || name == "-" {
				continue
			}
			names = append(names, name)
			if len(path) > 0 && name == path[0] {
				next = field.Type
			}
		}
		if len(path) == 0 {
			return names
		}
		if next == nil {
			return nil
		}
		t, path = next, path[1:]
	}
}

// at is where an offset is. The parser can tell too, but counts the lines from the first one each time.
func (d *Document) at(offset int) fault.Place {
	row, found := slices.BinarySearch(d.starts, offset)
	if !found {
		row--
	}
	return d.place(row+1, offset-d.starts[row]+1)
}

// place counts the column in characters; go-toml counts bytes.
func (d *Document) place(row, column int) fault.Place {
	if row >= 1 && row <= len(d.lines) {
		line := d.lines[row-1]
		column = utf8.RuneCount(line[:min(max(column-1, 0), len(line))]) + 1
	}
	return fault.Place{File: d.Name, Line: row, Column: column}
}

func (d *Document) line(row int) string {
	if row < 1 || row > len(d.lines) {
		return ""
	}
	return strings.TrimRight(string(d.lines[row-1]), "\r")
}

// indexer walks the syntax tree for Document.index.
type indexer struct {
	doc    *Document
	parser unstable.Parser
	data   []byte
	counts map[string]int // elements so far of each list of tables
}

// index notes where each key and its value stand, under paths such as "target.practice.path" and "accept[1].reason".
func (d *Document) index(data []byte) {
	x := &indexer{doc: d, data: data, counts: map[string]int{}}
	at := 0
	for _, line := range d.lines {
		d.starts = append(d.starts, at)
		at += len(line) + 1
	}
	x.parser.Reset(data)
	prefix, parts := "", []string(nil)
	for x.parser.NextExpression() {
		e := x.parser.Expression()
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			var place fault.Place
			parts, place = x.key(e)
			prefix = x.resolve(parts)
			if e.Kind == unstable.ArrayTable {
				base := join(x.resolve(parts[:len(parts)-1]), parts[len(parts)-1])
				x.counts[base]++
				prefix = fmt.Sprintf("%s[%d]", base, x.counts[base]-1)
			}
			d.positions[prefix] = place
			d.keys = append(d.keys, key{place, parts})
		case unstable.KeyValue:
			x.pair(e, prefix, parts)
		}
	}
}

// key reads the parts of a node's key, and where it begins.
func (x *indexer) key(n *unstable.Node) (parts []string, place fault.Place) {
	for it := n.Key(); it.Next(); {
		if len(parts) == 0 {
			place = x.doc.at(int(it.Node().Raw.Offset))
		}
		parts = append(parts, string(it.Node().Data))
	}
	return parts, place
}

// resolve joins the parts of a table's name, with the number of the element that is open in each list of tables.
func (x *indexer) resolve(parts []string) string {
	out := ""
	for _, part := range parts {
		out = join(out, part)
		if n := x.counts[out]; n > 0 {
			out = fmt.Sprintf("%s[%d]", out, n-1)
		}
	}
	return out
}

// pair notes a key with its value, and those inside the value.
func (x *indexer) pair(n *unstable.Node, prefix string, path []string) {
	parts, place := x.key(n)
	for _, part := range parts {
		prefix = join(prefix, part)
	}
	path = append(slices.Clone(path), parts...)
	x.doc.positions[prefix] = place
	x.doc.keys = append(x.doc.keys, key{place, path})
	x.doc.values[prefix] = x.extent(n)
	x.inside(n.Value(), prefix, path)
}

// extent is where a pair's value stands. Of a list the parser does not tell.
func (x *indexer) extent(n *unstable.Node) unstable.Range {
	raw := n.Value().Raw
	if raw.Length > 0 || n.Value().Kind != unstable.Array {
		return raw
	}
	at := 0
	for it := n.Key(); it.Next(); {
		at = int(it.Node().Raw.Offset + it.Node().Raw.Length)
	}
	open := bytes.IndexByte(x.data[at:], '[')
	if open < 0 {
		return raw
	}
	if end := listEnd(x.data, at+open); end > 0 {
		return unstable.Range{Offset: uint32(at + open), Length: uint32(end - at - open)}
	}
	return raw
}

// listEnd is where the list ends that begins at data[start]: behind its bracket, past those in
// texts and comments. 0: nowhere.
func listEnd(data []byte, start int) int {
	depth := 0
	for i := start; i < len(data); i++ {
		switch c := data[i]; c {
		case '[':
			depth++
		case ']':
			if depth--; depth == 0 {
				return i + 1
			}
		case '#':
			end := bytes.IndexByte(data[i:], '\n')
			if end < 0 {
				return 0
			}
			i += end
		case '"', '\'':
			quote := []byte{c}
			if bytes.HasPrefix(data[i:], []byte{c, c, c}) {
				quote = []byte{c, c, c}
			}
			for i += len(quote); i < len(data) && !bytes.HasPrefix(data[i:], quote); i++ {
				if c == '"' && data[i] == '\\' {
					i++
				}
			}
			i += len(quote) - 1
			for len(quote) == 3 && i+1 < len(data) && data[i+1] == c { // up to two more belong to the text
				i++
			}
		}
	}
	return 0
}

func (x *indexer) inside(n *unstable.Node, prefix string, path []string) {
	children := n.Children()
	for i := 0; children.Next(); i++ {
		switch c := children.Node(); {
		case n.Kind == unstable.InlineTable && c.Kind == unstable.KeyValue:
			x.pair(c, prefix, path)
		case n.Kind == unstable.Array:
			x.inside(c, fmt.Sprintf("%s[%d]", prefix, i), path)
		}
	}
}

func join(prefix, part string) string {
	if prefix == "" {
		return part
	}
	return prefix + "." + part
}

// At is where a key stands: At("target", "practice", "path"), At("accept", 1, "reason"). A key that isn't written
// gives its table's place, and a table that isn't written the file.
func (d *Document) At(path ...any) fault.Place {
	for n := len(path); n > 0; n-- {
		if p, ok := d.positions[keyPath(path[:n])]; ok {
			return p
		}
	}
	return fault.Place{File: d.Name}
}

// Value is the byte range, from start to end, of a key's value in the file; ok is false when it isn't written.
func (d *Document) Value(path ...any) (start, end int, ok bool) {
	r, ok := d.values[keyPath(path)]
	return int(r.Offset), int(r.Offset + r.Length), ok && r.Length > 0
}

func keyPath(path []any) string {
	out := ""
	for _, p := range path {
		switch p := p.(type) {
		case int:
			out += "[" + strconv.Itoa(p) + "]"
		case string:
			out = join(out, p)
		}
	}
	return out
}

// Wrong makes a finding about the value of a key.
func (d *Document) Wrong(path []any, format string, args ...any) finding.Finding {
	place := d.At(path...)
	f := finding.TOMLValue.At(place, format, args...)
	f.Excerpt = d.line(place.Line)
	return f
}
