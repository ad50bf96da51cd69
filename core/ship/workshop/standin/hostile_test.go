package standin_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
)

// nasty are texts that try to be more than text, or to look like another.
var nasty = []string{
	`<script>alert(1)</script>`, `"><img src=x onerror=alert(1)>`, `' onmouseover='alert(1)`,
	`</title><base href=//evil.example>`, `javascript:alert(1)`,
	"bell\a and \x1b[31mred", "line\r\nSet-Cookie: a=b", "\u202egnp.exe", "zero\u200bwidth", "{{.}}",
	"&#x3c;script&#x3e;", strings.Repeat("a", 70), "%3Cscript%3E", "\ufeffmark", "\x00",
}

// A page shows whatever its owner wrote as text: it gets no element, attribute, address or header
// out of it, and nothing that a terminal or a reader's eye is misled by.
func TestPagesOfHostileTexts(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole := s.client("mole")
	x := publish(t, mole, "highline", "1.0.0", noise(1, 50_000))
	x, err := mole.SetVisibility(ctx, x.ID, workshop.Public, x.Revision)
	require.NoError(t, err)
	plain := shape(t, s, "/items/"+x.ID)
	taken := 0
	for i, text := range nasty {
		for field, put := range map[string]func(*workshop.NewDraft){
			"title":       func(d *workshop.NewDraft) { d.Page.Title = text },
			"description": func(d *workshop.NewDraft) { d.Page.Description = text },
			"tag":         func(d *workshop.NewDraft) { d.Page.Tags = []string{text} },
			"mode":        func(d *workshop.NewDraft) { d.Page.Modes = []string{text} },
			"picture":     func(d *workshop.NewDraft) { d.Page.Pictures[0].Text = text },
			"name":        func(d *workshop.NewDraft) { d.Page.Pictures[0].Name = text },
			"notes":       func(d *workshop.NewDraft) { d.Notes = text },
			"file":        func(d *workshop.NewDraft) { d.Files[0].Name = text + ".parcel" },
			"version":     func(d *workshop.NewDraft) { d.Version = text },
		} {
			pic, data := picture(320, 200, "png"), noise(byte(i+3), 20_000)
			d, all := draft(t, page("Other", pic), fmt.Sprintf("2.0.%d-%s", i, field), content{"a.parcel": data})
			put(d)
			state, err := mole.MakeDraft(ctx, x.ID, d)
			if err != nil {
				assert.True(t, workshop.Is(err, workshop.Invalid), "%s %q: %v", field, text, err)
				continue
			}
			_, _ = send(t, mole, x.ID, d, append(all, pic)...)
			x, err = mole.Item(ctx, x.ID)
			require.NoError(t, err)
			if _, err := mole.Publish(ctx, x.ID, state.ID, x.Revision); err != nil {
				assert.True(t, workshop.Is(err, workshop.Invalid), "%s %q: %v", field, text, err)
				continue
			}
			taken++
			for _, path := range []string{"/items/" + x.ID, "/"} {
				for element, n := range shape(t, s, path) {
					if path != "/" && !strings.HasPrefix(element, "text ") {
						assert.True(t, n >= 0 && (plain[element] > 0 || harmless(element)), "%s %q makes <%s> on %s",
							field, text, element, path)
					}
					assert.NotContains(t, element, "text ", "%s %q on %s", field, text, path)
				}
			}
		}
	}
	assert.Greater(t, taken, len(nasty), "some of them are taken, and shown as text")
}

// harmless elements come of Markdown and of lists that the plain page has not.
func harmless(element string) bool {
	switch element {
	case "p", "em", "strong", "code", "ul", "li", "span class", "span", "h3", "h4", "a href rel", "div class", "br":
		return true
	}
	return false
}

// shape counts a page's elements with their attributes' names. What is wrong with its texts and
// addresses is counted as "text ...".
func shape(t *testing.T, s *shop, path string) map[string]int {
	t.Helper()
	a, err := http.Get(s.URL + path)
	require.NoError(t, err)
	defer a.Body.Close()
	require.Equal(t, 200, a.StatusCode)
	assert.Empty(t, a.Header.Get("Set-Cookie"))
	data, err := io.ReadAll(a.Body)
	require.NoError(t, err)
	all := map[string]int{}
	if strings.ContainsFunc(string(data), func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\t' && r != '\r' || r == 0x7f || r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069
	}) {
		all["text with control characters"]++
	}
	z := html.NewTokenizer(bytes.NewReader(data))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return all
		case html.StartTagToken, html.SelfClosingTagToken:
			token := z.Token()
			name := token.Data
			for _, attr := range token.Attr {
				name += " " + attr.Key
				if attr.Key == "href" || attr.Key == "src" {
					if !strings.HasPrefix(attr.Val, "/") && !strings.HasPrefix(attr.Val, "#") &&
						!strings.HasPrefix(attr.Val, "https://") || strings.HasPrefix(attr.Val, "//") {
						all["text as an address: "+attr.Val]++
					}
				}
			}
			all[name]++
		}
	}
}

// A client that asks for what costs much: thousands of drafts, pictures of 400 million pixels in a
// few hundred bytes, ranges without end, JSON in depth. Each is answered soon, and the folder stays
// small.
func TestClientsThatCostMuch(t *testing.T) {
	s := open(t, t.TempDir(), standin.Options{})
	mole := s.client("mole")
	x := publish(t, mole, "highline", "1.0.0", noise(1, 50_000))
	x, err := mole.SetVisibility(ctx, x.ID, workshop.Public, x.Revision)
	require.NoError(t, err)
	soon := func(what string, do func()) {
		start := time.Now()
		do()
		assert.Less(t, time.Since(start), 10*time.Second, what)
	}
	soon("drafts", func() {
		for i := range 300 {
			d, _ := draft(t, page("Other"), fmt.Sprintf("2.0.%d", i), content{"a.parcel": noise(2, 30_000)})
			d.Page.Description = strings.Repeat("long ", 1500)
			_, err := mole.MakeDraft(ctx, x.ID, d)
			require.NoError(t, err)
		}
	})
	size := int64(0)
	require.NoError(t, filepath.Walk(s.dir, func(_ string, info os.FileInfo, err error) error {
		if err == nil && !info.IsDir() {
			size += info.Size()
		}
		return err
	}))
	assert.Less(t, size, int64(4<<20), "300 drafts")
	soon("a picture that is a bomb", func() {
		bomb := pictureOf(60_000, 60_000)
		d, all := draft(t, page("Other", bomb), "3.0.0", content{"a.parcel": noise(2, 30_000)})
		state, _ := send(t, mole, x.ID, d, append(all, bomb)...)
		x, err = mole.Item(ctx, x.ID)
		require.NoError(t, err)
		_, err = mole.Publish(ctx, x.ID, state.ID, x.Revision)
		assert.True(t, workshop.Is(err, workshop.Invalid), "%v", err)
	})
	soon("ranges", func() {
		for _, ranges := range []string{"bytes=" + strings.Repeat("0-,", 20_000) + "0-",
			"bytes=" + strings.Repeat("0-0,", 1000) + "0-0", "bytes=-9223372036854775808",
			"bytes=9223372036854775807-"} {
			r, err := http.NewRequest("GET", s.URL+"/v1/items/"+x.ID+"/versions/1/files/a.parcel", nil)
			require.NoError(t, err)
			r.Header.Set("Range", ranges)
			a, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			n, _ := io.Copy(io.Discard, a.Body)
			a.Body.Close()
			assert.Less(t, a.StatusCode, 500)
			assert.Less(t, n, int64(400_000), "not many times the file: %.30s", ranges)
		}
	})
	soon("JSON", func() {
		for _, text := range []string{strings.Repeat("[", 400_000), strings.Repeat(`{"page":`, 50_000),
			`{"page":{"tags":[` + strings.Repeat(`"a",`, 100_000) + `"a"]}}`,
			`{"version":"` + strings.Repeat(`\u0000`, 100_000) + `"}`} {
			code := s.raw("POST", "/v1/items/"+x.ID+"/drafts", "mole", strings.NewReader(text), nil)
			assert.True(t, code >= 400 && code < 500, "%d for %.20s", code, text)
		}
	})
	// It still works.
	now, err := mole.Item(ctx, x.ID)
	require.NoError(t, err)
	text, err := json.Marshal(now)
	require.NoError(t, err)
	assert.Contains(t, string(text), "1.0.0")
}

// pictureOf is a PNG's beginning that claims so many pixels.
func pictureOf(w, h uint32) []byte {
	var b bytes.Buffer
	b.WriteString("\x89PNG\r\n\x1a\n")
	part := func(kind string, data []byte) {
		_ = binary.Write(&b, binary.BigEndian, uint32(len(data)))
		b.WriteString(kind)
		b.Write(data)
		_ = binary.Write(&b, binary.BigEndian, crc32.ChecksumIEEE(append([]byte(kind), data...)))
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h)
	part("IHDR", append(head, 8, 2, 0, 0, 0))
	part("IDAT", noise(7, 400))
	part("IEND", nil)
	return b.Bytes()
}
