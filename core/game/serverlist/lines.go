package serverlist

import (
	"strings"

	"vornix/core/base/charset"
	"vornix/core/config/profile"
)

// lines are a text with an entry a line. Each keeps its own end.
type lines struct{ end string }

func readLines(rule *profile.ListFile, t *charset.Text) (form, []item) {
	f := &lines{"\n"}
	if t.CRLF > t.LF || t.CRLF+t.LF == 0 && rule.Lines == "crlf" {
		f.end = "\r\n"
	}
	var items []item
	for line := range strings.SplitAfterSeq(t.Content, "\n") {
		if line == "" {
			continue
		}
		body := strings.TrimSuffix(line, "\n")
		end := line[len(body):]
		if strings.HasSuffix(body, "\r") && end != "" {
			body, end = strings.TrimSuffix(body, "\r"), "\r\n"
		}
		items = append(items, item{body: body, end: end})
	}
	return f, items
}

func (f *lines) fresh(_ []item, _ int, body string) item { return item{body: body, end: f.end} }

func (f *lines) join(items []item) (string, error) {
	var b strings.Builder
	for i, x := range items {
		if x.end == "" && i < len(items)-1 {
			x.end = f.end
		}
		b.WriteString(x.body + x.end)
	}
	return b.String(), nil
}
