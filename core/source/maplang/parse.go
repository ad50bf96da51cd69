package maplang

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/format/geom"
	"vornix/core/format/model"
)

// Bounds on what a source may hold, so that a hostile file ends in a finding and not in a full memory.
const (
	maxSource   = 64 << 20 // bytes
	maxFindings = 100      // of one file; after that the rest is not worth reading
	maxNumber   = model.Farthest
	maxDepth    = 32   // records under records
	maxRest     = 4096 // points of a path
)

// File is a parsed map source.
type File struct {
	Name    string
	Records []*Record
	Tail    []string // comment lines after the last record
	lines   []string
	broken  map[string]bool // "keyword name" of lines with mistakes: whoever needs them is not blamed too
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
	open     bool // a value waits for the names in it to be known
}

// Value is a value as written and, for numbers, read.
type Value struct {
	Text    string
	Numbers []float64
	Place   fault.Place
	Quoted  bool
	open    bool // it holds names
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

// Name is a record's first value.
func (r *Record) Name() string {
	if len(r.Values) == 0 {
		return ""
	}
	return r.Values[0].Text
}

// parser holds the state of one Parse.
type parser struct {
	file     *File
	line     string // the one that is read
	number   int    // its number
	tokens   []token
	numbers  []float64 // room for those of many values
	findings []finding.Finding
}

// owner is a record that lines below may belong to; record is nil for a wrong line, whose children are passed over.
type owner struct {
	record *Record
	indent int
}

// Parse reads a map source. The File holds every line that was understood; findings has every mistake in the others.
func Parse(name string, data []byte) (*File, []finding.Finding) {
	p := &parser{file: &File{Name: name, broken: map[string]bool{}}}
	if len(data) > maxSource {
		p.add(fault.Place{File: name},
			fmt.Sprintf("the file has %d MB; a map source has at most %d MB", len(data)>>20, maxSource>>20),
			"Split the map.")
		return p.file, p.findings
	}
	if !utf8.Valid(data) {
		p.add(fault.Place{File: name}, "the file is not UTF-8 text", "Save it as UTF-8.")
		return p.file, p.findings
	}
	p.file.lines = strings.Split(string(bytes.TrimPrefix(data, []byte("\ufeff"))), "\n")
	var owners []owner
	var comments []string
	blank := false
	for i, line := range p.file.lines {
		if len(p.findings) >= maxFindings {
			p.add(fault.Place{File: name, Line: i + 1}, "there are more mistakes from here on",
				"Correct those above first.")
			break
		}
		p.line, p.number = strings.TrimRight(line, "\r"), i+1
		indent := 0
		for indent < len(p.line) && (p.line[indent] == ' ' || p.line[indent] == '\t') {
			indent++
		}
		if indent == len(p.line) {
			blank = blank || i < len(p.file.lines)-1
			continue
		}
		tokens, comment, lexErr := lexLine(p.line, indent, p.tokens[:0])
		p.tokens = tokens
		if lexErr == nil && len(tokens) == 0 {
			comments = append(comments, comment)
			continue
		}
		for len(owners) > 0 && owners[len(owners)-1].indent >= indent {
			owners = owners[:len(owners)-1]
		}
		r, parent, ok := (*Record)(nil), "", false
		if len(owners) > 0 {
			if up := owners[len(owners)-1].record; up == nil {
				continue // it stands under a wrong line
			} else {
				parent = up.Keyword
			}
		}
		switch {
		case lexErr != nil:
			p.at(lexErr.offset, lexErr.text, lexErr.do)
		case indent > 0 && len(owners) == 0:
			p.at(indent, "this line is indented, but nothing stands above it that it could belong to",
				"Begin it at the left margin.")
		case len(owners) >= maxDepth:
			p.at(indent, fmt.Sprintf("more than %d lines stand under one another", maxDepth), "Indent fewer.")
		default:
			r, ok = p.record(tokens, parent)
		}
		if !ok {
			switch len(tokens) {
			case 0:
			case 1:
				p.file.broken[tokens[0].text+" "] = true
			default:
				p.file.broken[tokens[0].text+" "+tokens[1].text] = true
			}
			owners = append(owners, owner{nil, indent})
			comments, blank = nil, false
			continue
		}
		r.Leading, r.Trailing, r.Blank = comments, comment, blank
		comments, blank = nil, false
		if len(owners) == 0 {
			p.file.Records = append(p.file.Records, r)
		} else {
			up := owners[len(owners)-1].record
			up.Children = append(up.Children, r)
		}
		owners = append(owners, owner{r, indent})
	}
	p.file.Tail = comments
	return p.file, p.findings
}

// at reports a mistake at a byte of the line that is read.
func (p *parser) at(offset int, what, do string) { p.add(p.place(offset), what, do) }

func (p *parser) place(offset int) fault.Place {
	return fault.Place{File: p.file.Name, Line: p.number, Column: column(p.line, offset)}
}

func (p *parser) add(place fault.Place, what, do string) {
	f := finding.MapSyntax.At(place, "%s", what)
	if do != "" {
		f = f.Doing("%s", do)
	}
	f.Excerpt = p.file.excerpt(place)
	p.findings = append(p.findings, f)
}

// excerpt is the line of a place.
func (f *File) excerpt(place fault.Place) string {
	if place.Line < 1 || place.Line > len(f.lines) {
		return ""
	}
	return strings.TrimRight(f.lines[place.Line-1], "\r")
}

// record reads one line's tokens by the grammar. ok is false when the line had a mistake.
func (p *parser) record(tokens []token, parent string) (r *Record, ok bool) {
	before := len(p.findings)
	head := tokens[0]
	g := grammar[head.text]
	if g == nil || head.quoted || head.key {
		known := keywords(parent)
		do := fmt.Sprintf("A line begins with one of: %s.", strings.Join(known, ", "))
		if near := suggest.Word(head.text, known); near != "" {
			do = fmt.Sprintf("Did you mean %q? For example: %s", near, grammar[near].example)
		} else if len(known) == 0 {
			do = fmt.Sprintf("Nothing stands under a %s line; begin it further left.", parent)
		}
		p.at(head.offset, fmt.Sprintf("%q is no keyword%s", head.text, under(parent)), do)
		return nil, false
	}
	if !slices.Contains(g.parents, parent) {
		if g.parents[0] == "" {
			p.at(head.offset, fmt.Sprintf("%q can't stand under %q", head.text, parent), "Begin it at the left margin.")
		} else {
			p.at(head.offset, fmt.Sprintf("%q belongs under %q", head.text, g.parents[0]),
				fmt.Sprintf("Indent it by two spaces under a %s line.", g.parents[0]))
		}
		return nil, false
	}
	r = &Record{Keyword: head.text, Place: p.place(head.offset), Values: make([]Value, 0, max(len(tokens)/2, 1))}
	rest := tokens[1:]
	for n := 0; ; n++ {
		s := g.slotAt(n)
		needed := s != nil && (n < len(g.slots) || n-len(g.slots) < g.least)
		if s == nil || !needed && (len(rest) == 0 || rest[0].key) {
			break
		}
		if len(rest) == 0 || rest[0].key {
			offset := tokens[len(tokens)-1].end()
			if len(rest) > 0 {
				offset = rest[0].offset
			}
			p.at(offset, fmt.Sprintf("expected the %s: %s", s.name, want(s.kind, s.choice)), "For example: "+g.example)
			return nil, false
		}
		if n > maxRest {
			p.at(rest[0].offset, fmt.Sprintf("there are more than %d values", maxRest), "Split the line in several.")
			return nil, false
		}
		r.Values = append(r.Values, p.value(s.kind, s.choice, rest[0], g, s.name, false))
		rest = rest[1:]
		if variant := g.variants[r.Values[n].Text]; variant != nil && n == len(g.slots)-1 {
			g = variant
		} else if g.variants != nil && n == len(g.slots)-1 {
			return nil, false // what follows depends on the form
		}
	}
	p.pairs(r, g, rest)
	if len(p.findings) == before {
		for _, s := range g.settings {
			if s.required && r.Pair(s.key) == nil {
				p.at(tokens[len(tokens)-1].end(), fmt.Sprintf("%s= is missing: %s", s.key, want(s.kind, s.choice)),
					"For example: "+g.example)
			}
		}
	}
	return r, len(p.findings) == before
}

// pairs reads the key=value pairs of a line.
func (p *parser) pairs(r *Record, g *rule, rest []token) {
	if len(rest) > 0 {
		r.Pairs = make([]Pair, 0, len(rest)/2)
	}
	for len(rest) > 0 {
		key := rest[0]
		if !key.key {
			p.at(key.offset, fmt.Sprintf("expected key=value here; found %q", key.text),
				"Known here: "+strings.Join(g.keys(), ", ")+".")
			return
		}
		if len(rest) < 2 || rest[1].key {
			p.at(key.offset, fmt.Sprintf("there is no value after %s=", key.text),
				"Write key=value without spaces around the '='.")
			return
		}
		value := rest[1]
		rest = rest[2:]
		s := g.setting(key.text)
		pair := Pair{Key: key.text, Place: p.place(key.offset)}
		switch {
		case s == nil && g.free && isWord(key.text):
			pair.free = true
			pair.Value = p.value(freeKind(r.Keyword), nil, value, g, key.text, true)
		case s == nil:
			do := "Known here: " + strings.Join(g.keys(), ", ") + "."
			if near := suggest.Word(key.text, g.keys()); near != "" {
				do = fmt.Sprintf("Did you mean %q?", near)
			}
			p.add(pair.Place, fmt.Sprintf("%q is no setting of %s", key.text, r.Keyword), do)
			continue
		default:
			pair.Value = p.value(s.kind, s.choice, value, g, key.text, true)
		}
		if r.Pair(key.text) != nil {
			p.add(pair.Place, fmt.Sprintf("%s= stands twice on this line", key.text), "Keep one of them.")
			continue
		}
		r.open = r.open || pair.Value.open
		r.Pairs = append(r.Pairs, pair)
	}
	for _, v := range r.Values {
		r.open = r.open || v.open
	}
}

// freeKind is what the free keys of a keyword hold: a prefab's and a use's are names for sums and braces.
func freeKind(keyword string) kind {
	if keyword == "prefab" || keyword == "use" {
		return constant
	}
	return freeText
}

// value reads one token, as what a rule calls name: a value, or what stands after a key.
func (p *parser) value(k kind, choice []string, t token, g *rule, name string, key bool) Value {
	const limit = 3 // numbers of a value, but for outlines
	if len(p.numbers) < limit {
		p.numbers = make([]float64, 1024*limit)
	}
	v, why := readValue(k, choice,
		Value{Text: t.text, Place: p.place(t.offset), Quoted: t.quoted, Numbers: p.numbers[:0:limit]}, nil)
	switch {
	case len(v.Numbers) == 0:
		v.Numbers = nil
	case len(v.Numbers) <= limit:
		p.numbers = p.numbers[limit:]
	}
	if why != "" {
		why = strings.Replace(why, forExample, "For example: "+g.example, 1)
		text := fmt.Sprintf("expected the %s: %s; found %q", name, want(k, choice), t.text)
		if key {
			text = fmt.Sprintf("expected %s after %s=; found %q", want(k, choice), name, t.text)
		}
		p.add(v.Place, text, why)
	}
	return v
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

// readValue reads a text as a kind; why is empty when it is one, or says what to do. Without a
// scope, a value that holds names is only looked at for its form, and stays open.
func readValue(k kind, choice []string, v Value, known *scope) (_ Value, why string) {
	if strings.Contains(v.Text, "{") && k != rawText && k != symbol {
		filled, err := fill(v.Text, known)
		switch {
		case err != nil:
			return v, sentence(err)
		case known == nil:
			v.open = true
			return v, ""
		}
		v.Text, v.open = filled, false
	}
	const bad = forExample
	switch k {
	case word:
		if !isWord(v.Text) || v.Quoted {
			return v, bad
		}
		if len(choice) > 0 && !slices.Contains(choice, v.Text) {
			if near := suggest.Word(v.Text, choice); near != "" {
				return v, fmt.Sprintf("Did you mean %q?", near)
			}
			return v, bad
		}
	case name:
		if !isWord(v.Text) || v.Quoted || strings.Contains(v.Text, "-") || isDigit(v.Text[0]) {
			return v, bad
		}
	case words:
		for part := range strings.SplitSeq(v.Text, ",") {
			if !isWord(part) {
				return v, bad
			}
		}
	case asset, file:
		if strings.ContainsAny(v.Text, " \t\"=") || v.Text == "" {
			return v, bad
		}
	case number:
		return readNumbers(v, ",", 1, known)
	case pair:
		return readNumbers(v, ",", 2, known)
	case point:
		return readNumbers(v, ",", 3, known)
	case count:
		v, why := readNumbers(v, ",", 1, known)
		if why == "" && !v.open && v.Numbers[0] != math.Trunc(v.Numbers[0]) {
			return v, bad
		}
		return v, why
	case outline:
		list := strings.Split(v.Text, ";")
		if len(list) < 3 || len(list) > geom.MaxHullPoints/2 {
			return v, fmt.Sprintf("It has %d pairs; give 3 to %d.", len(list), geom.MaxHullPoints/2)
		}
		all := Value{Text: v.Text, Place: v.Place, Quoted: v.Quoted}
		for _, part := range list {
			one, why := readNumbers(Value{Text: part}, ",", 2, known)
			if why != "" {
				return v, why
			}
			all.Numbers, all.open = append(all.Numbers, one.Numbers...), all.open || one.open
		}
		return all, ""
	case constant:
		if !v.Quoted {
			return readNumbers(v, ",", 1, known)
		}
	case span:
		low, high, ok := strings.Cut(v.Text, "..")
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
		if len(v.Text) != 7 || v.Text[0] != '#' || strings.Trim(v.Text[1:], "0123456789abcdefABCDEF") != "" {
			return v, bad
		}
	case flag:
		if v.Text != "yes" && v.Text != "no" {
			return v, bad
		}
	case symbol:
		if utf8.RuneCountInString(v.Text) != 1 {
			return v, bad
		}
	}
	return v, ""
}

// readNumbers reads n numbers or sums.
func readNumbers(v Value, separator string, n int, known *scope) (Value, string) {
	if parts := 1 + strings.Count(v.Text, separator); parts != n {
		return v, fmt.Sprintf("It has %d parts and should have %d. %s", parts, n, forExample)
	}
	// a value that is read again keeps what was read
	if v.open = false; cap(v.Numbers) < n || v.Numbers == nil || len(v.Numbers) > 0 {
		v.Numbers = make([]float64, 0, n)
	}
	for part := range strings.SplitSeq(v.Text, separator) {
		f, err := evaluate(part, known)
		switch {
		case errors.Is(err, errNames):
			v.open = true
		case err != nil:
			return v, sentence(err) + " " + forExample
		case math.Abs(f) > maxNumber:
			return v, fmt.Sprintf("%s is beyond %.0f km, where coordinates lose their centimetres; bring the map nearer to 0,0,0.", part, maxNumber/1000)
		}
		v.Numbers = append(v.Numbers, f)
	}
	return v, ""
}

// sentence makes an error a sentence.
func sentence(err error) string {
	s := err.Error()
	if !strings.HasSuffix(s, "?") {
		s += "."
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func isWord(s string) bool {
	for i := range len(s) {
		if c := s[i]; !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '_' || c == '-' && i > 0) {
			return false
		}
	}
	return s != ""
}
