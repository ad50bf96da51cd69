package workshop

import (
	"bytes"
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strings"
	"sync"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/text"
)

// reader reads CommonMark with tables and struck-out words. Raw HTML in it is not passed on, nor are addresses that run programs.
var reader = sync.OnceValue(func() goldmark.Markdown {
	return goldmark.New(goldmark.WithExtensions(extension.Table, extension.Strikethrough))
})

// HTML is what a text in Markdown looks like on a page.
func HTML(markdown string) template.HTML {
	var b bytes.Buffer
	if err := reader().Convert([]byte(markdown), &b); err != nil {
		return template.HTML("<p>" + template.HTMLEscapeString(markdown) + "</p>")
	}
	return template.HTML(b.String()) // goldmark escapes what is no Markdown
}

// Check holds a text in Markdown to what is taken.
func (m Markdown) Check(field, markdown string) (list []Wrong) {
	source := []byte(markdown)
	line := func(n ast.Node) int {
		at := -1
		for x := n; x != nil && at < 0; x = x.Parent() {
			if x.Type() == ast.TypeInline {
				if t, ok := x.(*ast.Text); ok {
					at = t.Segment.Start
				} else if t, ok := x.(*ast.RawHTML); ok && t.Segments.Len() > 0 {
					at = t.Segments.At(0).Start
				} else if t, ok := x.FirstChild().(*ast.Text); ok {
					at = t.Segment.Start
				}
			} else if x.Lines().Len() > 0 {
				at = x.Lines().At(0).Start
			}
		}
		return 1 + bytes.Count(source[:max(at, 0)], []byte("\n"))
	}
	wrong := func(n ast.Node, format string, args ...any) {
		w := Wrong{Field: field, Line: line(n), Text: fmt.Sprintf(format, args...)}
		if !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	links := m.Links
	if len(links) == 0 {
		links = []string{"https", "http", "mailto"}
	}
	leads := func(n ast.Node, to string) {
		u, err := url.Parse(to)
		switch {
		case err != nil || u.Scheme == "" || u.Scheme != "mailto" && u.Host == "":
			wrong(n, "%q leads nowhere from the workshop's page; write the whole address", to)
		case !slices.Contains(links, strings.ToLower(u.Scheme)):
			wrong(n, "%q begins with %s:, and taken is %s", to, u.Scheme, strings.Join(links, ", "))
		}
	}
	_ = ast.Walk(reader().Parser().Parse(text.NewReader(source)), func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if !entering {
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.Image:
			if !m.Images {
				wrong(n, "it shows the picture %q from elsewhere; only the page's own pictures are taken", n.Destination)
			} else {
				leads(n, string(n.Destination))
			}
		case *ast.Link:
			leads(n, string(n.Destination))
		case *ast.AutoLink:
			if n.AutoLinkType == ast.AutoLinkURL {
				leads(n, string(n.URL(source)))
			}
		case *ast.RawHTML, *ast.HTMLBlock:
			if !m.HTML {
				wrong(n, "it has HTML, which players would not see")
			}
		case *ast.Heading:
			if m.Heading > 0 && n.Level < m.Heading {
				wrong(n, "a heading of level %d, and the highest that is taken is %d", n.Level, m.Heading)
			}
		}
		return ast.WalkContinue, nil
	})
	return list
}
