// Package charset reads texts in the encodings that games know, says where one is not well formed,
// and writes it anew with another encoding, byte-order mark or line ends.
package charset

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
)

// Encodings that texts can be in.
var Encodings = []string{"utf-8", "utf-16le", "utf-16be", "latin-1", "windows-1252", "windows-1251", "cp437"}

// Forms are what a text can be held to.
var Forms = []string{"text", "json", "toml", "xml", "ini", "csv"}

var pages = map[string]encoding.Encoding{"latin-1": charmap.ISO8859_1, "windows-1252": charmap.Windows1252,
	"windows-1251": charmap.Windows1251, "cp437": charmap.CodePage437}

var marks = []struct {
	name  string
	bytes []byte
}{{"utf-8", []byte("\xef\xbb\xbf")}, {"utf-16le", []byte("\xff\xfe")}, {"utf-16be", []byte("\xfe\xff")}}

// Text is a file that has been read.
type Text struct {
	Encoding string
	Mark     bool   // it begins with a byte-order mark
	Content  string // without the mark
	LF, CRLF int    // line ends of either kind
}

// Error says where a text is wrong.
type Error struct {
	Line, Column int // from 1; 0 when unknown
	What         string
}

func (e *Error) Error() string { return e.What }

// Read reads a text: with a byte-order mark in the encoding that it tells, else in UTF-8 when it is
// that, else in otherwise ("" refuses it).
func Read(data []byte, otherwise string) (*Text, error) {
	t := &Text{Encoding: "utf-8"}
	for _, m := range marks {
		if rest, ok := bytes.CutPrefix(data, m.bytes); ok {
			t.Encoding, t.Mark, data = m.name, true, rest
		}
	}
	if !t.Mark && (!utf8.Valid(data) || strings.HasPrefix(otherwise, "utf-16")) {
		if otherwise == "" || otherwise == "utf-8" {
			line, column := position(data, badByte(data))
			return nil, &Error{line, column, "it is not UTF-8"}
		}
		t.Encoding = otherwise
	}
	switch {
	case t.Encoding == "utf-8":
		if !utf8.Valid(data) {
			line, column := position(data, badByte(data))
			return nil, &Error{line, column, "it is not UTF-8"}
		}
		t.Content = string(data)
	case strings.HasPrefix(t.Encoding, "utf-16"):
		order := binary.ByteOrder(binary.LittleEndian)
		if t.Encoding == "utf-16be" {
			order = binary.BigEndian
		}
		if len(data)%2 != 0 {
			return nil, &Error{0, 0, "it is not UTF-16: it has an odd number of bytes"}
		}
		units := make([]uint16, len(data)/2)
		for i := range units {
			units[i] = order.Uint16(data[2*i:])
		}
		t.Content = string(utf16.Decode(units))
	default:
		s, err := pages[t.Encoding].NewDecoder().Bytes(data)
		if err != nil {
			return nil, &Error{0, 0, "it is not " + t.Encoding}
		}
		t.Content = string(s)
	}
	t.CRLF = strings.Count(t.Content, "\r\n")
	t.LF = strings.Count(t.Content, "\n") - t.CRLF
	return t, nil
}

func badByte(data []byte) int {
	at := 0
	for at < len(data) {
		r, n := utf8.DecodeRune(data[at:])
		if r == utf8.RuneError && n <= 1 {
			return at
		}
		at += n
	}
	return at
}

// position is the line and column, in characters, of a byte.
func position(data []byte, at int) (line, column int) {
	at = min(max(at, 0), len(data))
	before := data[:at]
	line = 1 + bytes.Count(before, []byte("\n"))
	return line, 1 + utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:])
}

// Style is how a text is to be written. An empty value keeps what it has.
type Style struct {
	Encoding string // one of Encodings
	Mark     string // "yes" or "no"
	Lines    string // "lf" or "crlf"
}

// Differs says in words what of a text is not of a style; empty when all is.
func (t *Text) Differs(s Style) []string {
	var list []string
	if s.Encoding != "" && t.Encoding != s.Encoding &&
		!(isASCII(t.Content) && !strings.HasPrefix(t.Encoding, "utf-16") && !strings.HasPrefix(s.Encoding, "utf-16")) {
		list = append(list, fmt.Sprintf("it is in %s instead of %s", t.Encoding, s.Encoding))
	}
	switch {
	case s.Mark == "yes" && !t.Mark:
		list = append(list, "it has no byte-order mark")
	case s.Mark == "no" && t.Mark:
		list = append(list, "it begins with a byte-order mark")
	}
	switch {
	case s.Lines == "lf" && t.CRLF > 0:
		list = append(list, fmt.Sprintf("%d of its %d lines end as on Windows (CR LF)", t.CRLF, t.CRLF+t.LF))
	case s.Lines == "crlf" && t.LF > 0:
		list = append(list, fmt.Sprintf("%d of its %d lines end with LF alone", t.LF, t.CRLF+t.LF))
	}
	return list
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// Write writes the text in a style. It fails on a character that the encoding does not have.
func (t *Text) Write(s Style) ([]byte, error) {
	content := t.Content
	switch s.Lines {
	case "lf":
		content = strings.ReplaceAll(content, "\r\n", "\n")
	case "crlf":
		content = strings.ReplaceAll(strings.ReplaceAll(content, "\r\n", "\n"), "\n", "\r\n")
	}
	name := s.Encoding
	if name == "" {
		name = t.Encoding
	}
	mark := s.Mark == "yes" || s.Mark == "" && t.Mark
	var out []byte
	if mark {
		for _, m := range marks {
			if m.name == name {
				out = append(out, m.bytes...)
			}
		}
	}
	switch name {
	case "utf-8":
		return append(out, content...), nil
	case "utf-16le", "utf-16be":
		order := binary.AppendByteOrder(binary.LittleEndian)
		if name == "utf-16be" {
			order = binary.BigEndian
		}
		for _, u := range utf16.Encode([]rune(content)) {
			out = order.AppendUint16(out, u)
		}
		return out, nil
	}
	b, err := pages[name].NewEncoder().Bytes([]byte(content))
	if err != nil {
		at := 0
		for i, r := range content {
			if _, err := pages[name].NewEncoder().String(string(r)); err != nil {
				at = i
				break
			}
		}
		line, column := position([]byte(content), at)
		r, _ := utf8.DecodeRuneInString(content[at:])
		return nil, &Error{line, column, fmt.Sprintf("%q is not in %s", r, name)}
	}
	return append(out, b...), nil
}

// WithContent is the text with other words in it.
func (t *Text) WithContent(content string) *Text {
	n := *t
	n.Content = content
	n.CRLF = strings.Count(content, "\r\n")
	n.LF = strings.Count(content, "\n") - n.CRLF
	return &n
}

// Check says whether a text is well formed as one of Forms. The error is an *Error with the place.
func (t *Text) Check(form string) error {
	switch form {
	case "json":
		return t.json()
	case "toml":
		var v map[string]any
		var bad *toml.DecodeError
		if err := toml.Unmarshal([]byte(t.Content), &v); errors.As(err, &bad) {
			line, column := bad.Position()
			return &Error{line, column, strings.TrimPrefix(bad.Error(), "toml: ")}
		} else if err != nil {
			return &Error{0, 0, err.Error()}
		}
	case "xml":
		return t.xml()
	case "ini":
		return t.ini()
	case "csv":
		r := csv.NewReader(strings.NewReader(t.Content))
		if first, _, _ := strings.Cut(t.Content, "\n"); strings.Count(first, ";") > strings.Count(first, ",") {
			r.Comma = ';'
		}
		for {
			_, err := r.Read()
			if err == io.EOF {
				return nil
			}
			var bad *csv.ParseError
			if errors.As(err, &bad) {
				what := bad.Err.Error()
				if errors.Is(bad.Err, csv.ErrFieldCount) {
					what = "the line has another number of fields than the first"
				}
				return &Error{bad.Line, bad.Column, what}
			}
		}
	}
	return nil
}

func (t *Text) at(offset int64, what string) *Error {
	line, column := position([]byte(t.Content), int(offset))
	return &Error{line, column, what}
}

func (t *Text) json() error {
	d := json.NewDecoder(strings.NewReader(t.Content))
	var v json.RawMessage
	if err := d.Decode(&v); err != nil {
		var bad *json.SyntaxError
		switch {
		case errors.As(err, &bad):
			return t.at(bad.Offset-1, strings.TrimPrefix(bad.Error(), "json: "))
		case errors.Is(err, io.EOF):
			return t.at(0, "it is empty")
		}
		return t.at(int64(len(t.Content)), "it ends too early")
	}
	end := d.InputOffset()
	if _, err := d.Token(); err != io.EOF {
		return t.at(end, "something stands behind the end")
	}
	return nil
}

func (t *Text) xml() error {
	d := xml.NewDecoder(strings.NewReader(t.Content))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it has been decoded
	roots, depth := 0, 0
	for {
		before := d.InputOffset()
		token, err := d.Token()
		if err == io.EOF {
			if roots != 1 {
				return t.at(before, fmt.Sprintf("it has %d elements at the top, and XML has one", roots))
			}
			return nil
		}
		if err != nil {
			var bad *xml.SyntaxError
			what := err.Error()
			if errors.As(err, &bad) {
				what = bad.Msg
			}
			return t.at(d.InputOffset(), what)
		}
		switch token.(type) {
		case xml.StartElement:
			if depth == 0 {
				roots++
			}
			depth++
		case xml.EndElement:
			depth--
		}
	}
}

// ini knows sections in brackets, key = value, and notes that begin with ; or #.
func (t *Text) ini() error {
	seen := map[string]bool{}
	section := ""
	for i, line := range slices.Collect(strings.SplitSeq(t.Content, "\n")) {
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == ';' || line[0] == '#':
		case line[0] == '[':
			if !strings.HasSuffix(line, "]") || len(line) < 3 {
				return &Error{i + 1, 1, "a section is a name in brackets"}
			}
			section = line
		default:
			key, _, ok := strings.Cut(line, "=")
			if !ok || strings.TrimSpace(key) == "" {
				return &Error{i + 1, 1, "a line is key = value"}
			}
			name := section + "\n" + strings.ToLower(strings.TrimSpace(key))
			if seen[name] {
				return &Error{i + 1, 1, fmt.Sprintf("%s is set twice", strings.TrimSpace(key))}
			}
			seen[name] = true
		}
	}
	return nil
}
