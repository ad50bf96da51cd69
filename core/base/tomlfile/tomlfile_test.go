package tomlfile_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/tomlfile"
)

type shape struct {
	Title string            `toml:"title"`
	Part  part              `toml:"part"`
	Parts []part            `toml:"parts"`
	Named map[string]part   `toml:"named"`
	Free  map[string]string `toml:"free"`
}

type part struct {
	Weight int      `toml:"weight"`
	Colour string   `toml:"colour"`
	Tags   []string `toml:"tags"`
	Inner  struct {
		Depth float64 `toml:"depth"`
	} `toml:"inner"`
}

// Where a list ends is found past brackets in texts and comments.
func TestWhereValuesStand(t *testing.T) {
	for _, list := range []string{"[]", "[1, [2, 3]]", `["]", 'x]', "\"]"]`, "[\n  \"a\", # ]\n  \"b\",\n]",
		"[\"\"\"]\"\" ]\"\"\"\"\"]", "['''a]''']", "[{ a = \"]\" }]"} {
		text := "[part]\nweight = 1\ntags = " + list + " # ] end\ncolour = \"[\"\n"
		var any map[string]any
		doc, findings := tomlfile.Decode("f.toml", []byte(text), &any)
		require.Empty(t, findings, list)
		start, end, ok := doc.Value("part", "tags")
		require.True(t, ok, list)
		assert.Equal(t, list, text[start:end])
	}
}

func TestWrongFiles(t *testing.T) {
	for _, c := range []struct {
		name, data   string
		id           string
		line, column int
		text, do     string
	}{
		{"unknown at the top", "titel = 'x'\n", "toml.unknown-key", 1, 1, `"titel" is not a setting at the top`,
			`"title"`},
		{"unknown in a table", "[part]\nweight = 1\ncolor = 'red'\n", "toml.unknown-key", 3, 1,
			`"color" is not a setting of [part]`, `"colour"`},
		{"unknown in a list of tables", "[[parts]]\nweight = 1\n\n[[parts]]\n  wieght = 2\n", "toml.unknown-key", 5, 3,
			`"wieght"`, `"weight"`},
		{"unknown in a named table", "[named.first]\ntagz = []\n", "toml.unknown-key", 2, 1, `"tagz"`, `"tags"`},
		{"unknown deep inside", "[part.inner]\nheight = 1\n", "toml.unknown-key", 2, 1, "[part.inner]",
			"Known here: depth."},
		{"unknown in one line", "part = { weight = 1, inner = { dept = 1 } }\n", "toml.unknown-key", 1, 32, `"dept"`,
			`"depth"`},
		{"not TOML", "title = \n", "toml.syntax", 1, 0, "", "Correct the line"},
		{"not TOML further down", "title = 'x'\n[part\nweight = 1\n", "toml.syntax", 2, 0, "", ""},
		{"key twice", "title = 'a'\ntitle = 'b'\n", "toml.syntax", 2, 0, "", ""},
		{"wrong type", "[part]\nweight = 'heavy'\n", "toml.value", 2, 0, "", ""},
		{"column in characters", "part = { colour = 'größe', wieght = 1 }\n", "toml.unknown-key", 1, 28, `"wieght"`,
			""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var s shape
			_, list := tomlfile.Decode("f.toml", []byte(c.data), &s)
			require.Len(t, list, 1)
			f := list[0]
			assert.Equal(t, c.id, f.ID)
			assert.Equal(t, c.line, f.Place.Line)
			if c.column > 0 {
				assert.Equal(t, c.column, f.Place.Column)
			}
			assert.Contains(t, f.Text, c.text)
			assert.Contains(t, f.Do, c.do)
			assert.NotEmpty(t, f.Excerpt)
		})
	}
}

func TestAllUnknownKeysAtOnce(t *testing.T) {
	var s shape
	_, list := tomlfile.Decode("f.toml", []byte("titel = 'x'\n[part]\nwieght = 1\n"), &s)
	assert.Len(t, list, 2)
}

func TestPlacesOfKeys(t *testing.T) {
	var s shape
	doc, list := tomlfile.Decode("f.toml",
		[]byte("\xef\xbb\xbftitle = 'x'\r\n[part]\r\ninner.depth = 2.5\r\n[[parts]]\r\nweight = 1\r\n[[parts]]\r\n  weight = 2\r\n[named.a]\r\ncolour = 'b'\r\n"), &s)
	require.Empty(t, list, "a byte-order mark and Windows line ends are no mistakes")
	assert.Equal(t, 2.5, s.Part.Inner.Depth)
	place := func(line, column int) fault.Place { return fault.Place{File: "f.toml", Line: line, Column: column} }
	assert.Equal(t, place(1, 1), doc.At("title"))
	assert.Equal(t, place(3, 1), doc.At("part", "inner", "depth"))
	assert.Equal(t, place(5, 1), doc.At("parts", 0, "weight"))
	assert.Equal(t, place(7, 3), doc.At("parts", 1, "weight"))
	assert.Equal(t, 6, doc.At("parts", 1, "colour").Line, "a key that isn't written: its table")
	assert.Equal(t, place(9, 1), doc.At("named", "a", "colour"))
	assert.Equal(t, fault.Place{File: "f.toml"}, doc.At("nothing"))
	_, _, ok := doc.Value("parts", 0, "colour")
	assert.False(t, ok)
}

// Any bytes end in findings that stand somewhere in the file, or in a document.
func FuzzDecode(f *testing.F) {
	f.Add([]byte("title = 'x'\n[part]\nweight = 1\n[[parts]]\ntags = ['a']\n[named.\"a.b\"]\ninner = { depth = 1.0 }\n"))
	f.Add([]byte("part = { x = [ { y = 1 } ] }"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var s shape
		doc, list := tomlfile.Decode("f.toml", data, &s)
		if doc == nil {
			t.Fatal("no document")
		}
		for _, x := range list {
			if x.Place.File != "f.toml" || x.Place.Line < 0 || x.Place.Column < 0 {
				t.Fatalf("odd place %v", x.Place)
			}
		}
	})
}

// Reading takes time with the size of a file, not with its square, and what no person wrote is
// refused before it costs anything.
func TestManyTables(t *testing.T) {
	table := func(form string, n int) []byte {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, form, i)
		}
		return []byte(b.String())
	}
	for name, c := range map[string]struct {
		data []byte
		ids  []string
	}{
		"as many as may be": {table("[[parts]]\nweight = %d\n", 9000), nil},
		"named":             {table("[named.n%d]\nweight = 1\n", 9000), nil},
		"all unknown":       {table("[x%d]\na = 1\n", 9000), []string{"toml.unknown-key", "toml.unknown-key"}},
		"too many tables":   {table("[[parts]]\nweight = %d\n", 40000), []string{"toml.syntax"}},
		"too many keys":     {table("k%d = 1\n", 40000), []string{"toml.syntax"}},
		"too many in a line": {append(table("free = { a%d = '1', ", 1), table("k%d = '1', ", 40000)...),
			[]string{"toml.syntax"}},
		"too large": {append([]byte("title = '"), bytes.Repeat([]byte("x"), 20<<20)...),
			[]string{"toml.syntax"}},
	} {
		t.Run(name, func(t *testing.T) {
			begin := time.Now()
			var s shape
			doc, list := tomlfile.Decode("f.toml", c.data, &s)
			require.NotNil(t, doc)
			assert.Less(t, time.Since(begin), 15*time.Second, "a square would take minutes")
			require.GreaterOrEqual(t, len(list), len(c.ids))
			for i, id := range c.ids {
				assert.Equal(t, id, list[i].ID)
			}
			if c.ids == nil {
				assert.Empty(t, list)
			}
		})
	}
}
