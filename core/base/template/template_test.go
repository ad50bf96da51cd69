package template_test

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/template"
)

var nasty = []string{
	"", "plain", `say "hi"`, `back\slash`, "two\nlines", "cr\r\nlf", "tab\there", "a;b,c|d", "<b>&amp;'",
	"nul\x00bell\x07esc\x1b[2J", "sep\u2028para\u2029nel\u0085", " blank ", `\`, `"`, `ends \"`,
	"{version}", "50%", "ünï→日本", "bad\xffutf8", "</title><script>", "'''", "]]>",
}

// Other readers find the very text in each form, as far as the form can hold it.
func TestOtherReadersFindTheText(t *testing.T) {
	visible := func(s string) string { // what forms without a way for them make of control characters
		return strings.Map(func(r rune) rune {
			if template.Breaks(r) && r != '\n' && r != '\t' && r != '\r' {
				return ' '
			}
			return r
		}, strings.ToValidUTF8(s, "\ufffd"))
	}
	for _, s := range nasty {
		var got string
		require.NoError(t, json.Unmarshal([]byte(`"`+template.Escape("json", s)+`"`), &got))
		assert.Equal(t, strings.ToValidUTF8(s, "\ufffd"), got)

		got, err := strconv.Unquote(`"` + template.Escape("quotes", s) + `"`)
		require.NoError(t, err, s)
		assert.Equal(t, visible(s), got)

		var element struct {
			A    string `xml:"a,attr"`
			Text string `xml:",chardata"`
		}
		require.NoError(t,
			xml.Unmarshal([]byte(`<x a="`+template.Escape("xml", s)+`">`+template.Escape("xml", s)+`</x>`), &element),
			s)
		assert.Equal(t, template.XML(s), element.Text)

		fields, err := csv.NewReader(strings.NewReader("1," + template.Escape("csv", s) + ",3\n")).Read()
		require.NoError(t, err, s)
		require.Len(t, fields, 3)
		if !strings.ContainsAny(s, "\x00\u2028") && utf8.ValidString(s) {
			assert.Equal(t, strings.ReplaceAll(s, "\r\n", "\n"), fields[1])
		}

		u, err := url.Parse("https://downloads.example/" + template.Escape("percent", s))
		require.NoError(t, err)
		assert.Equal(t, "/"+s, u.Path)
		assert.NotRegexp(t, "[\x00-\x1f\u0085\u2028\u2029]", template.Escape("line", s))
	}
}

// What a line was filled with is read back, whatever it holds; and where the form can't tell it apart, that is noticed.
func FuzzLines(f *testing.F) {
	for i, s := range nasty {
		f.Add(s, nasty[len(nasty)-1-i], byte(i))
	}
	templates := []string{"{map};{version}", "{map} {version} {file}", `"{map}" = "{version}"`, "{version}",
		`<m n="{map}">{version}</m>`, "{map}{version}", "{map}: {map}"}
	f.Fuzz(func(t *testing.T, a, b string, which byte) {
		form := templates[int(which)%len(templates)]
		for _, how := range template.Escapes {
			values := map[string]string{"map": a, "version": b, "file": "x"}
			line := template.Line(form, values, how)
			if how != "none" && how != "xml" {
				assert.NotContains(t, line, "\n")
			}
			r := template.NewReader(form, how)
			if !r.Same(line, values) {
				continue
			}
			got, ok := r.Read(line)
			require.True(t, ok)
			again := template.Line(form, got, how)
			assert.True(t, r.Same(again, got), "%s: %q, then %q", how, line, again)
		}
	})
}

func TestLinesThatCanNotBeReadBack(t *testing.T) {
	for _, c := range []struct {
		template, escape, value string
		same                    bool
	}{
		{"{title};{version}", "line", "Cairn; the old one", false},
		{"{title};{version}", "csv", "Cairn; the old one", true},
		{"{title} {version}", "line", "Cairn Station", false},
		{`"{title}" {version}`, "quotes", `the "old" one`, true},
		{`{title}|{version}`, "percent", `a|b`, true},
		{`<t>{title}</t><v>{version}</v>`, "xml", `</t><v>9.9.9</v>`, true},
	} {
		values := map[string]string{"title": c.value, "version": "1.0.0"}
		assert.Equal(t, c.same,
			template.NewReader(c.template, c.escape).Same(template.Line(c.template, values, c.escape), values),
			c.template)
	}
}

func TestWholeFiles(t *testing.T) {
	f, err := template.NewFile("t",
		`{{range .maps}}<map n="{{.title}}" v="{{.n}}">{{join .modes ";"}}</map>{{end}}{{with $x := .title}}<!-- {{$x | none}} -->{{end}}{{define "a"}}{{.}}{{end}}{{template "a" .title}}`, "xml")
	require.NoError(t, err)
	out, err := f.Fill(map[string]any{"title": `<"&`,
		"maps": []map[string]any{{"title": `"/><evil a="`, "n": 2.0, "modes": []string{"a", "<b>"}}}})
	require.NoError(t, err)
	assert.Equal(t, `<map n="&#34;/&gt;&lt;evil a=&#34;" v="2">a;&lt;b&gt;</map><!-- <"& -->&lt;&#34;&amp;`, out)
	for source, want := range map[string]string{"{{.nope}}": "nope",
		`{{define "a"}}{{template "a"}}{{end}}{{template "a"}}`:    "call each other",
		`{{range $i, $x := .many}}{{printf "%1000000d" 1}}{{end}}`: "larger than"} {
		f, err := template.NewFile("t", source, "line")
		require.NoError(t, err)
		_, err = f.Fill(map[string]any{"many": make([]int, 100)})
		assert.ErrorContains(t, err, want)
	}
	_, err = template.NewFile("t", "{{if}}", "line")
	assert.ErrorContains(t, err, "t:1: missing value for if")
}
