// Package markdown reads texts in common Markdown, which makers write for players, and shows them as HTML.
package markdown

import (
	"fmt"
	"html/template"
	"io"
	"net/url"

	"github.com/gomarkdown/markdown"
	"github.com/gomarkdown/markdown/ast"
	"github.com/gomarkdown/markdown/html"
	"github.com/gomarkdown/markdown/parser"
)

// Parse reads common Markdown, with tables and struck-out words.
func Parse(text string) ast.Node {
	return parser.NewWithExtensions(parser.NoIntraEmphasis | parser.Tables | parser.FencedCode |
		parser.Strikethrough | parser.SpaceHeadings | parser.BackslashLineBreak |
		parser.NoEmptyLineBeforeBlock).Parse([]byte(text))
}

// HTML is what a text in Markdown looks like on a page. Raw HTML in it is left out, and so are
// addresses that run programs. A picture from elsewhere is a link to it: shown, it would tell its
// server who looks at the page and when.
func HTML(text string) template.HTML {
	r := html.NewRenderer(html.RendererOptions{
		Flags: html.SkipHTML | html.Safelink | html.NofollowLinks | html.NoreferrerLinks, RenderNodeHook: linked})
	return template.HTML(markdown.Render(Parse(text), r)) // which escapes what is no Markdown
}

// linked writes a picture as a link.
func linked(w io.Writer, n ast.Node, entering bool) (ast.WalkStatus, bool) {
	picture, ok := n.(*ast.Image)
	if !ok {
		return ast.GoToNext, false
	}
	if entering {
		to := string(picture.Destination)
		if u, err := url.Parse(to); err == nil && (u.Scheme == "https" || u.Scheme == "http") {
			fmt.Fprintf(w, `<a href="%s" rel="nofollow noreferrer">`, template.HTMLEscapeString(to))
		} else {
			fmt.Fprint(w, "<a>")
		}
	} else {
		fmt.Fprint(w, "</a>")
	}
	return ast.GoToNext, true
}
