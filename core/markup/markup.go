// Package markup reads texts in common Markdown, which makers write for players, and shows them as HTML.
package markup

import (
	"html/template"

	"github.com/gomarkdown/markdown"
	"github.com/gomarkdown/markdown/ast"
	"github.com/gomarkdown/markdown/html"
	"github.com/gomarkdown/markdown/parser"
)

// Parse reads common Markdown, with tables and struck-out words.
func Parse(text string) ast.Node {
	return parser.NewWithExtensions(parser.NoIntraEmphasis | parser.Tables | parser.FencedCode | parser.Strikethrough | parser.SpaceHeadings | parser.BackslashLineBreak | parser.NoEmptyLineBeforeBlock).Parse([]byte(text))
}

// HTML is what a text in Markdown looks like on a page. Raw HTML in it is left out, and so are addresses that run programs.
func HTML(text string) template.HTML {
	r := html.NewRenderer(html.RendererOptions{Flags: html.SkipHTML | html.Safelink | html.NofollowLinks | html.NoreferrerLinks})
	return template.HTML(markdown.Render(Parse(text), r)) // which escapes what is no Markdown
}
