package confedit

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// model is what a text of settings says, by the name of each key, as a reader that is not ours sees it.
type model map[string]string

// flat puts a tree that a reader gave into a model.
func flat(m model, path []string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			flat(m, append(slices.Clone(path), k), inner)
		}
	default:
		m[Name(path)] = fmt.Sprint(v)
	}
}

// said reads a text by other means than ours.
func said(t *testing.T, form, text string) model {
	t.Helper()
	m := model{}
	switch form {
	case "json":
		var v map[string]any
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		require.NoError(t, d.Decode(&v), text)
		flat(m, nil, v)
	case "toml":
		var v map[string]any
		require.NoError(t, toml.Unmarshal([]byte(text), &v), text)
		flat(m, nil, v)
	case "ini":
		section := ""
		for line := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
			line = strings.TrimSpace(line)
			if name, ok := strings.CutPrefix(line, "["); ok {
				section = strings.TrimSuffix(name, "]") + "."
			} else if key, value, ok := strings.Cut(line, "="); ok && line[0] != ';' {
				m[section+strings.TrimSpace(key)] = strings.TrimSpace(value)
			}
		}
	case "xml":
		d := xml.NewDecoder(strings.NewReader(text))
		var path []string
		for {
			token, err := d.Token()
			if token == nil {
				require.ErrorContains(t, err, "EOF", text)
				return m
			}
			switch token := token.(type) {
			case xml.StartElement:
				path = append(path, token.Name.Local)
				for _, a := range token.Attr {
					m[Name(append(slices.Clone(path), "@"+a.Name.Local))] = a.Value
				}
			case xml.EndElement:
				path = path[:len(path)-1]
			case xml.CharData:
				if s := strings.TrimSpace(string(token)); s != "" {
					m[Name(path)] = s
				}
			}
		}
	}
	return m
}

// written is a random text of settings with comments, blanks and an order of its own.
func written(r *rand.Rand, form string) string {
	sections := []string{"sound", "screen", "keys"}
	r.Shuffle(len(sections), func(i, j int) { sections[i], sections[j] = sections[j], sections[i] })
	var b strings.Builder
	pad := func() string { return strings.Repeat(" ", r.IntN(3)) }
	switch form {
	case "ini", "toml":
		mark := map[string]string{"ini": ";", "toml": "#"}[form]
		for _, s := range sections {
			fmt.Fprintf(&b, "[%s]\n", s)
			for i := range r.IntN(4) {
				if r.IntN(3) == 0 {
					fmt.Fprintf(&b, "%s a note\n", mark)
				}
				fmt.Fprintf(&b, "k%d%s=%s%d\n", i, pad(), pad(), r.IntN(100))
			}
			if r.IntN(2) == 0 {
				b.WriteString("\n")
			}
		}
	case "json":
		tree := map[string]map[string]int{}
		for _, s := range sections {
			tree[s] = map[string]int{}
			for i := range r.IntN(4) {
				tree[s]["k"+strconv.Itoa(i)] = r.IntN(100)
			}
		}
		data, _ := json.Marshal(tree)
		if r.IntN(2) == 0 {
			var out bytes.Buffer
			_ = json.Indent(&out, data, "", "\t")
			data = out.Bytes()
		}
		b.Write(data)
	case "xml":
		b.WriteString("<?xml version=\"1.0\"?>\n<settings>\n")
		for _, s := range sections {
			fmt.Fprintf(&b, "  <%s", s)
			if r.IntN(2) == 0 {
				fmt.Fprintf(&b, " on=\"%d\"", r.IntN(2))
			}
			b.WriteString(">\n")
			for i := range r.IntN(4) {
				fmt.Fprintf(&b, "    <k%d>%s%d%s</k%d><!-- a note -->\n", i, pad(), r.IntN(100), pad(), i)
			}
			fmt.Fprintf(&b, "  </%s>\n", s)
		}
		b.WriteString("</settings>\n")
	}
	return b.String()
}

// Whatever is set and removed, another reader sees that change and no other; and comments stay.
func TestAnotherReaderSeesTheChangeAlone(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 3))
	for _, form := range Forms {
		for range 120 {
			text := written(r, form)
			notes := strings.Count(text, "a note")
			want := said(t, form, text)
			for range 6 {
				p := []string{[]string{"sound", "screen", "keys", "net"}[r.IntN(4)], "k" + strconv.Itoa(r.IntN(5))}
				if form == "xml" {
					p = append([]string{"settings"}, p...)
					if r.IntN(4) == 0 {
						p[2] = "@on"
					}
				}
				before := text
				var err error
				if r.IntN(3) == 0 {
					text, err = Remove(form, text, p)
					delete(want, Name(p))
				} else {
					value := strconv.Itoa(r.IntN(1000))
					text, err = Set(form, text, p, value)
					want[Name(p)] = value
				}
				require.NoError(t, err, "%s %v\n%s", form, p, before)
				got := said(t, form, text)
				for _, empty := range []string{"sound", "screen", "keys", "net", "settings.sound", "settings.screen",
					"settings.keys", "settings.net"} {
					delete(got, empty) // an empty section is no value
				}
				require.Equal(t, want, maps.Clone(got), "%s %v\n%s\nbecame\n%s", form, p, before, text)
			}
			if form != "xml" { // where a note may stand behind what goes
				assert.Equal(t, notes, strings.Count(text, "a note"), text)
			}
		}
	}
}

// Values of people's own files are written as each form wants them, and come back as they were meant.
func TestLiterals(t *testing.T) {
	for _, c := range []struct {
		form string
		v    any
		want string
	}{
		{"json", "a \"b\" <c>", `"a \"b\" <c>"`}, {"toml", "a\\b\n", `"a\\b\n"`}, {"ini", "as it is", "as it is"},
		{"xml", "a<b & c", "a&lt;b &amp; c"}, {"json", true, "true"}, {"toml", int64(3), "3"},
		{"toml", 2.0, "2.0"}, {"json", 2.5, "2.5"}, {"ini", 0.1, "0.1"},
	} {
		got, err := Literal(c.form, c.v)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%s %v", c.form, c.v)
	}
	for _, bad := range []struct {
		form string
		v    any
	}{{"ini", "two\nlines"}, {"json", []any{1}}, {"toml", nil}, {"xml", map[string]any{}}} {
		_, err := Literal(bad.form, bad.v)
		assert.Error(t, err, "%v", bad)
	}
}

// Texts that are none of their form, and keys that have no place in them, are refused with a reason.
func TestWhatCantBeRead(t *testing.T) {
	for form, list := range map[string][]string{"json": {"", "{", `{"a": }`, "nope"}, "toml": {"a", "a = ", "[x\n"},
		"xml": {"<a>", "<a></b>", "</a>", "<a b=>"}} {
		for _, text := range list {
			_, err := Keys(form, text)
			require.Error(t, err, "%s %q", form, text)
			assert.Contains(t, err.Error(), "it is no "+strings.ToUpper(form), text)
		}
	}
	_, err := Keys("yaml", "a: b")
	assert.ErrorContains(t, err, "can't be changed")
	for _, c := range []struct{ form, text, key, value string }{
		{"json", "[1, 2]", "a", "1"}, {"json", `{"a": 1}`, "b", "not a value"}, {"toml", "a = 1\n", "b", "not a value"},
		{"xml", "<a/>", "b.c", "1"}, {"ini", "a = 1\n", "b", "two\nlines"}, {"toml", "a = 1\n", "a.b", "2"},
	} {
		p, err := ParsePath(c.key)
		require.NoError(t, err)
		_, err = Set(c.form, c.text, p, c.value)
		assert.Error(t, err, "%v", c)
	}
	for _, bad := range []string{"", ".", "a..b", `"a`, `"a"b`, "a."} {
		_, err := ParsePath(bad)
		assert.Error(t, err, "%q", bad)
	}
	for _, p := range [][]string{{"a"}, {"a", "b.c"}, {"with \"quotes\"", "x"}, {"", "y"}} {
		got, err := ParsePath(Name(p))
		require.NoError(t, err)
		assert.Equal(t, p, got)
	}
}
