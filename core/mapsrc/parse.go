package mapsrc

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/nearest"
)

// Bounds on what a source may hold, so that a hostile file ends in a finding and not in a full memory.
const (
	maxSource   = 64 << 20 // bytes
	maxFindings = 100      // of one file; after that the rest is not worth reading
	maxNumber   = 1e7      // metres: beyond it 32-bit coordinates have no centimetres left
)

// File is a parsed map source.
type File struct {
	Name    string
	Records []*Record
	Tail    []string // comment lines after the last record
	lines   []string
}

// Record is one line, with those that stand under it.
type Record struct {
	Keyword  string
	Values   []Value // positional, as the grammar orders them
	Pairs    []Pair  // as written
	Children []*Record
	Leading  []string // comment lines before it
	Trailing string   // comment at its end
	Blank    bool     // an empty line stands before it
	Place    fault.Place
}

// Value is a value as written and, for numbers, read.
type Value struct {
	Text    string
	Numbers []float64
	Place   fault.Place
}

// Pair is a key with its value.
type Pair struct {
	Key   string
	Value Value
	Place fault.Place
	free  bool
}

// Pair finds a pair by its key; nil when it isn't there.
func (r *Record) Pair(key string) *Value {
	for i := range r.Pairs {
		if r.Pairs[i].Key == key {
			return &r.Pairs[i].Value
		}
	}
	return nil
}

// parser holds the state of one Parse.
type parser struct {
	file     *File
	findings []finding.Finding
}

// Parse reads a map source. The File holds every line that was understood; findings has every mistake in the others.
func Parse(name string, data []byte) (*File, []finding.Finding) {
	p := &parser{file: &File{Name: name}}
	if len(data) > maxSource {
		p.add(fault.Place{File: name}, fmt.Sprintf("the file has %d MB; a map source has at most %d MB", len(data)>>20, maxSource>>20), "Split the map.")
		return p.file, p.findings
	}
	if !utf8.Valid(data) {
		p.add(fault.Place{File: name}, "the file is not UTF-8 text", "Save it as UTF-8.")
		return p.file, p.findings
	}
	source := strings.TrimPrefix(string(data), "\ufeff")
	p.file.lines = strings.Split(source, "\n")
	var owner *Record // the last record at the margin, or nil after a wrong one: its children are then passed over
	var comments []string
	blank, orphan := false, false
	for i, line := range p.file.lines {
		if len(p.findings) >= maxFindings {
			p.add(fault.Place{File: name, Line: i + 1}, "there are more mistakes from here on", "Correct those above first.")
			break
		}
		line = strings.TrimRight(line, "\r")
		body := strings.TrimLeft(line, " \t")
		if body == "" {
			blank = blank || i < len(p.file.lines)-1
			continue
		}
		indent := utf8.RuneCountInString(line) - utf8.RuneCountInString(body)
		tokens, comment, lexErr := lexLine(body, indent+1, func(k string) bool {
			r := grammar[k]
			return r != nil && len(r.slots) == 1 && r.slots[0].kind == rawText
		})
		if lexErr != nil {
			p.add(fault.Place{File: name, Line: i + 1, Column: lexErr.column}, lexErr.text, lexErr.do)
			orphan = indent == 0
			continue
		}
		if len(tokens) == 0 {
			comments = append(comments, comment)
			continue
		}
		parent := ""
		if indent > 0 {
			if owner == nil || orphan {
				if !orphan {
					p.add(fault.Place{File: name, Line: i + 1, Column: indent + 1}, "this line is indented, but nothing stands above it that it could belong to", "Begin it at the left margin.")
				}
				continue
			}
			parent = owner.Keyword
		}
		r, ok := p.record(tokens, parent, i+1)
		if indent == 0 {
			owner, orphan = r, !ok
		}
		if !ok {
			comments, blank = nil, false
			continue
		}
		r.Leading, r.Trailing, r.Blank = comments, comment, blank
		comments, blank = nil, false
		if indent == 0 {
			p.file.Records = append(p.file.Records, r)
		} else {
			owner.Children = append(owner.Children, r)
		}
	}
	p.file.Tail = comments
	return p.file, p.findings
}

func (p *parser) add(place fault.Place, what, do string) {
	f := finding.MapSyntax.At(place, "%s", what)
	if do != "" {
		f = f.Doing("%s", do)
	}
	if place.Line > 0 && place.Line <= len(p.file.lines) {
		f.Excerpt = strings.TrimRight(p.file.lines[place.Line-1], "\r")
	}
	p.findings = append(p.findings, f)
}

// record reads one line's tokens by the grammar. ok is false when the line had a mistake.
func (p *parser) record(tokens []token, parent string, line int) (r *Record, ok bool) {
	at := func(column int) fault.Place { return fault.Place{File: p.file.Name, Line: line, Column: column} }
	before := len(p.findings)
	head := tokens[0]
	g := grammar[head.text]
	if g == nil || head.quoted || head.key {
		do := fmt.Sprintf("A line begins with one of: %s.", strings.Join(keywords(parent), ", "))
		if near := nearest.Word(head.text, keywords(parent)); near != "" {
			do = fmt.Sprintf("Did you mean %q? For example: %s", near, grammar[near].example)
		}
		p.add(at(head.column), fmt.Sprintf("%q is no keyword%s", head.text, under(parent)), do)
		return nil, false
	}
	if g.parent != parent {
		if g.parent == "" {
			p.add(at(head.column), fmt.Sprintf("%q can't stand under %q", head.text, parent), "Begin it at the left margin.")
		} else {
			p.add(at(head.column), fmt.Sprintf("%q belongs under %q", head.text, g.parent), fmt.Sprintf("Indent it by two spaces under a %s line.", g.parent))
		}
		return nil, false
	}
	r = &Record{Keyword: head.text, Place: at(head.column)}
	rest := tokens[1:]
	for _, s := range g.slots {
		if len(rest) == 0 || rest[0].key {
			column := head.column + utf8.RuneCountInString(head.text)
			if len(rest) > 0 {
				column = rest[0].column
			} else if n := len(tokens); n > 1 {
				column = tokens[n-1].column + utf8.RuneCountInString(tokens[n-1].text)
			}
			p.add(at(column), fmt.Sprintf("expected the %s: %s", s.name, want(s.kind, s.choice)), "For example: "+g.example)
			return nil, false
		}
		v, why := readValue(s.kind, s.choice, rest[0], at(rest[0].column))
		if why != "" {
			why = strings.Replace(why, forExample, "For example: "+g.example, 1)
			p.add(v.Place, fmt.Sprintf("expected the %s: %s; found %q", s.name, want(s.kind, s.choice), rest[0].text), why)
		}
		r.Values = append(r.Values, v)
		rest = rest[1:]
	}
	for len(rest) > 0 {
		key := rest[0]
		if !key.key {
			p.add(at(key.column), fmt.Sprintf("expected key=value here; found %q", key.text), "Known here: "+strings.Join(g.keys(), ", ")+".")
			return nil, false
		}
		if len(rest) < 2 || rest[1].key {
			p.add(at(key.column), fmt.Sprintf("there is no value after %s=", key.text), "Write key=value without spaces around the '='.")
			return nil, false
		}
		value := rest[1]
		rest = rest[2:]
		s := g.setting(key.text)
		pair := Pair{Key: key.text, Place: at(key.column)}
		switch {
		case s == nil && g.free && isWord(key.text):
			pair.Value, pair.free = Value{Text: value.text, Place: at(value.column)}, true
		case s == nil:
			do := "Known here: " + strings.Join(g.keys(), ", ") + "."
			if near := nearest.Word(key.text, g.keys()); near != "" {
				do = fmt.Sprintf("Did you mean %q?", near)
			}
			p.add(pair.Place, fmt.Sprintf("%q is no setting of %s", key.text, r.Keyword), do)
			continue
		default:
			var why string
			if pair.Value, why = readValue(s.kind, s.choice, value, at(value.column)); why != "" {
				why = strings.Replace(why, forExample, "For example: "+g.example, 1)
				p.add(pair.Value.Place, fmt.Sprintf("expected %s after %s=; found %q", want(s.kind, s.choice), key.text, value.text), why)
			}
		}
		if r.Pair(key.text) != nil {
			p.add(pair.Place, fmt.Sprintf("%s= stands twice on this line", key.text), "Keep one of them.")
			continue
		}
		r.Pairs = append(r.Pairs, pair)
	}
	if len(p.findings) == before {
		for _, s := range g.settings {
			if s.required && r.Pair(s.key) == nil {
				last := tokens[len(tokens)-1]
				p.add(at(last.column+utf8.RuneCountInString(last.text)), fmt.Sprintf("%s= is missing: %s", s.key, want(s.kind, s.choice)), "For example: "+g.example)
			}
		}
	}
	return r, len(p.findings) == before
}

func under(parent string) string {
	if parent == "" {
		return ""
	}
	return " under " + strconv.Quote(parent)
}

func want(k kind, choice []string) string {
	if len(choice) > 0 {
		return "one of " + strings.Join(choice, ", ")
	}
	return expected[k]
}

// forExample stands for the example of the keyword in what readValue says to do.
const forExample = "(example)"

// readValue reads a token as a kind; why is empty when it is one, or says what to do.
func readValue(k kind, choice []string, t token, place fault.Place) (v Value, why string) {
	v = Value{Text: t.text, Place: place}
	const bad = forExample
	numbers := func(n int) string {
		parts := strings.Split(t.text, ",")
		if len(parts) != n {
			return fmt.Sprintf("It has %d parts and should have %d. %s", len(parts), n, forExample)
		}
		for _, part := range parts {
			f, err := strconv.ParseFloat(part, 64)
			switch {
			case err != nil || math.IsNaN(f) || strings.ContainsAny(part, "xXpP_"):
				return fmt.Sprintf("%q is no number. %s", part, forExample)
			case math.Abs(f) > maxNumber:
				return fmt.Sprintf("%s is beyond %.0f km, where coordinates lose their centimetres; bring the map nearer to 0,0,0.", part, maxNumber/1000)
			}
			v.Numbers = append(v.Numbers, f+0) // +0 turns -0 into 0
		}
		return ""
	}
	switch k {
	case word:
		if !isWord(t.text) || t.quoted {
			return v, bad
		}
		if len(choice) > 0 {
			for _, c := range choice {
				if c == t.text {
					return v, ""
				}
			}
			if near := nearest.Word(t.text, choice); near != "" {
				return v, fmt.Sprintf("Did you mean %q?", near)
			}
			return v, bad
		}
	case words:
		for part := range strings.SplitSeq(t.text, ",") {
			if !isWord(part) {
				return v, bad
			}
		}
	case path:
		if strings.ContainsAny(t.text, " \t\"=") || t.text == "" {
			return v, bad
		}
	case number:
		return v, numbers(1)
	case pair:
		return v, numbers(2)
	case point:
		return v, numbers(3)
	case count:
		if n, err := strconv.Atoi(t.text); err != nil || n < -1000000 || n > 1000000 {
			return v, bad
		} else {
			v.Numbers = []float64{float64(n)}
		}
	case span:
		low, high, ok := strings.Cut(t.text, "..")
		a, err1 := strconv.Atoi(low)
		b, err2 := strconv.Atoi(high)
		switch {
		case !ok || err1 != nil || err2 != nil || a < 0 || b > 1000000:
			return v, bad
		case a > b:
			return v, "The smaller number stands first."
		}
		v.Numbers = []float64{float64(a), float64(b)}
	case colour:
		if len(t.text) != 7 || t.text[0] != '#' || strings.Trim(t.text[1:], "0123456789abcdefABCDEF") != "" {
			return v, bad
		}
	case flag:
		if t.text != "yes" && t.text != "no" {
			return v, bad
		}
	case symbol:
		if utf8.RuneCountInString(t.text) != 1 {
			return v, bad
		}
	}
	return v, ""
}

func isWord(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyz0123456789_-") == "" && s[0] != '-'
}
