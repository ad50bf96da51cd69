package workshop

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/gomarkdown/markdown/ast"

	"vornix/core/base/markdown"
)

// Check holds a text in Markdown to what is taken.
func (m Markdown) Check(field, text string) (list []Wrong) {
	// The reader says of nothing where it stands. Things come in their order, so each is looked for
	// from where the last one was.
	at := 0
	wrong := func(piece []byte, format string, args ...any) {
		piece, _, _ = bytes.Cut(bytes.TrimSpace(piece), []byte("\n"))
		if i := strings.Index(text[at:], string(piece)); i >= 0 {
			at += i
		}
		w := Wrong{Field: field, Line: 1 + strings.Count(text[:at], "\n"), Text: fmt.Sprintf(format, args...)}
		if !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	links := m.Links
	if len(links) == 0 {
		links = []string{"https", "http", "mailto"}
	}
	leads := func(to []byte) {
		u, err := url.Parse(string(to))
		switch {
		case err != nil || u.Scheme == "" || u.Scheme != "mailto" && u.Host == "":
			wrong(to, "%q leads nowhere from the workshop's page; write the whole address", to)
		case !slices.Contains(links, strings.ToLower(u.Scheme)):
			wrong(to, "%q begins with %s:, and taken is %s", to, u.Scheme, strings.Join(links, ", "))
		}
	}
	ast.WalkFunc(markdown.Parse(text), func(n ast.Node, entering bool) ast.WalkStatus {
		if !entering {
			return ast.GoToNext
		}
		switch n := n.(type) {
		case *ast.Image:
			if !m.Images {
				wrong(n.Destination, "it shows the picture %q from elsewhere; only the page's own pictures are taken",
					n.Destination)
			} else {
				leads(n.Destination)
			}
		case *ast.Link:
			leads(n.Destination)
		case *ast.HTMLSpan:
			if !m.HTML {
				wrong(n.Literal, "it has HTML, which players would not see")
			}
		case *ast.HTMLBlock:
			if !m.HTML {
				wrong(n.Literal, "it has HTML, which players would not see")
			}
		case *ast.Heading:
			if n.Level < m.Heading {
				var title []byte
				if c := ast.GetFirstChild(n); c != nil && c.AsLeaf() != nil {
					title = c.AsLeaf().Literal
				}
				wrong(title, "a heading of level %d, and the highest that is taken is %d", n.Level, m.Heading)
			}
		}
		return ast.GoToNext
	})
	return list
}
