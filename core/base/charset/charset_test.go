package charset_test

import (
	"os"
	"path/filepath"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/charset"
	"vornix/internal/peer"
)

const content = "Café – 3 of 4\r\nline two\n"

// What is written in an encoding is read in it again, by us and by Python.
func TestEncodings(t *testing.T) {
	python := map[string]string{"utf-8": "utf-8", "utf-16le": "utf-16-le", "utf-16be": "utf-16-be",
		"windows-1252": "cp1252"}
	from, err := charset.Read([]byte(content), "")
	require.NoError(t, err)
	assert.Equal(t, 1, from.LF)
	assert.Equal(t, 1, from.CRLF)
	for _, e := range []string{"utf-8", "utf-16le", "utf-16be", "windows-1252"} {
		for _, mark := range []string{"yes", "no"} {
			data, err := from.Write(charset.Style{Encoding: e, Mark: mark, Lines: "crlf"})
			require.NoError(t, err)
			got, err := charset.Read(data, e)
			require.NoError(t, err, e)
			assert.Equal(t, "Café – 3 of 4\r\nline two\r\n", got.Content, e)
			assert.Equal(t, e, got.Encoding)
			assert.Equal(t, mark == "yes" && e != "windows-1252", got.Mark, e)
			file := filepath.Join(t.TempDir(), "a")
			require.NoError(t, os.WriteFile(file, data, 0o666))
			code := python[e]
			if got.Mark && code != "utf-8" {
				code = "utf-16" // which heeds the mark
			} else if got.Mark {
				code = "utf-8-sig"
			}
			assert.Equal(t, "True\n",
				peer.Run(t, "", peer.Need(t, "python3"), "-c",
					"import sys; print(open(sys.argv[1],'rb').read().decode(sys.argv[2]) == 'Caf\\u00e9 \\u2013 3 of 4\\r\\nline two\\r\\n')", file, code))
		}
	}
	_, err = from.Write(charset.Style{Encoding: "latin-1"})
	var bad *charset.Error
	require.ErrorAs(t, err, &bad)
	assert.Equal(t, charset.Error{Line: 1, Column: 6, What: "'–' is not in latin-1"}, *bad)
	_, err = charset.Read([]byte("ok\nbad \xff here"), "")
	require.ErrorAs(t, err, &bad)
	assert.Equal(t, 2, bad.Line)
	assert.Equal(t, 5, bad.Column)
	old, err := charset.Read([]byte("gr\x81n"), "cp437")
	require.NoError(t, err)
	assert.Equal(t, "grün", old.Content)
}

func TestStyles(t *testing.T) {
	marked, err := charset.Read([]byte("\xef\xbb\xbfa\r\nb\r\n"), "")
	require.NoError(t, err)
	assert.Empty(t, marked.Differs(charset.Style{}))
	assert.Equal(t, []string{"it begins with a byte-order mark", "2 of its 2 lines end as on Windows (CR LF)"},
		marked.Differs(charset.Style{Encoding: "utf-8", Mark: "no", Lines: "lf"}))
	data, err := marked.Write(charset.Style{Mark: "no", Lines: "lf"})
	require.NoError(t, err)
	assert.Equal(t, "a\nb\n", string(data))
	plain, err := charset.Read([]byte("a\n"), "")
	require.NoError(t, err)
	assert.Empty(t, plain.Differs(charset.Style{Encoding: "windows-1252"}), "plain letters are the same in all of them")
	assert.Len(t, plain.Differs(charset.Style{Encoding: "utf-16le", Mark: "yes", Lines: "crlf"}), 3)
}

// Good texts pass; in bad ones the place is named.
func TestForms(t *testing.T) {
	for _, c := range []struct {
		form, content string
		line, column  int
	}{
		{"json", `{"a": [1, 2]}`, 0, 0}, {"json", "{\n  \"a\": 1,\n}", 3, 1}, {"json", "{} x", 1, 3},
		{"json", "[1", 1, 3}, {"json", "", 1, 1},
		{"toml", "a = 1\n[b]\nc = \"x\"\n", 0, 0}, {"toml", "a = 1\nb = \n", 2, 5}, {"toml", "a = 1\na = 2\n", 2, 1},
		{"xml", "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<a><b/></a>", 0, 0}, {"xml", "<a>\n<b></a>", 2, 8},
		{"xml", "<a/><b/>", 1, 9}, {"xml", "text", 1, 5},
		{"ini", "; note\n[a]\nk = v\n[b]\nk=w\n", 0, 0}, {"ini", "[a]\nk\n", 2, 1}, {"ini", "[a\n", 1, 1},
		{"ini", "[a]\nk=1\nK=2\n", 3, 1},
		{"csv", "a,b\n1,\"x\ny\"\n", 0, 0}, {"csv", "a;b\n1;2,5\n", 0, 0}, {"csv", "a,b\n1\n", 2, 1},
		{"csv", "a,b\n1,x\"\n", 2, 4}, {"text", "{", 0, 0},
	} {
		r, err := charset.Read([]byte(c.content), "")
		require.NoError(t, err)
		err = r.Check(c.form)
		if c.line == 0 {
			assert.NoError(t, err, "%s %q", c.form, c.content)
			continue
		}
		var bad *charset.Error
		if assert.ErrorAs(t, err, &bad, "%s %q", c.form, c.content) {
			assert.Equal(t, []int{c.line, c.column}, []int{bad.Line, bad.Column}, "%s %q: %v", c.form, c.content, err)
		}
	}
}

// Any bytes end in an error with a place, or in a text that is written and read again as the same,
// in every encoding that has its letters.
func FuzzRead(f *testing.F) {
	for _, s := range []string{content, "\xef\xbb\xbf{\"a\": [1]}\r\n", "\xff\xfea\x00\n\x00", "<a>\n<b/></a>",
		"[s]\nk=v\n", "a;b\n1;\"x\ny\"\n", "a = [1,\n2]\n", "\x81"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := charset.Read(data, "cp437")
		if err != nil {
			return
		}
		for _, form := range charset.Forms {
			if err := r.Check(form); err != nil {
				bad, ok := err.(*charset.Error)
				if !ok || bad.Line < 0 || bad.Line > r.LF+r.CRLF+1 || bad.What == "" {
					t.Fatalf("%s: %#v", form, err)
				}
			}
		}
		for _, e := range charset.Encodings {
			mark := "no"
			if e[:3] == "utf" {
				mark = "yes"
			}
			out, err := r.Write(charset.Style{Encoding: e, Mark: mark})
			if err != nil {
				continue
			}
			again, err := charset.Read(out, e)
			if err != nil || again.Content != r.Content && again.Encoding == e && utf8.ValidString(r.Content) {
				t.Fatalf("%s: %q became %q (%v)", e, r.Content, again.Content, err)
			}
			if d := again.Differs(charset.Style{Lines: "crlf"}); len(d) > 0 && r.LF == 0 {
				t.Fatalf("%v", d)
			}
		}
	})
}
