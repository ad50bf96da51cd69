package markdown_test

import (
	"strings"
	"testing"

	"golang.org/x/net/html"

	"vornix/core/base/markdown"
)

// harmless are the elements that a text may become, each with what may stand in it.
var harmless = map[string]string{"p": "", "em": "", "strong": "", "del": "", "code": "class", "pre": "", "h1": "",
	"h2": "", "h3": "", "h4": "", "h5": "", "h6": "", "ul": "", "ol": "start", "li": "",
	"blockquote": "", "hr": "", "br": "", "table": "", "thead": "", "tbody": "", "tfoot": "", "tr": "",
	"th": "align colspan", "td": "align colspan", "a": "href rel target title", "img": "src alt title", "tt": "",
	"dl": "", "dt": "", "dd": ""}

// Whatever a maker writes, an HTML reader that is not ours finds nothing in the page but text, its
// form, and addresses that run nothing.
func FuzzHTML(f *testing.F) {
	for _, seed := range []string{"# a\n\n- b\n- **c** [d](https://e.example \"f\")\n\n| a | b |\n|:-|-:|\n| c | d |\n",
		"<script>alert(1)</script>", "[x](javascript:alert(1))", "![x](data:text/html;base64,aaaa)",
		"<img src=x onerror=alert(1)>",
		"[a](//b.example)\n\n```\"onclick=x\ncode\n```\n", "[x]: java\tscript:alert(1)\n\n[x]",
		"a\n===\n~~b~~ <https://x.example/?a=\"b\">", "[a](&#106;avascript:alert(1))",
		"![\"onload=\"alert(1)](https://x.example/\"onload=\"alert(1))"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		z := html.NewTokenizer(strings.NewReader(string(markdown.HTML(text))))
		for z.Next() != html.ErrorToken {
			token := z.Token()
			switch token.Type {
			case html.CommentToken, html.DoctypeToken:
				t.Fatalf("%q became %v", text, token)
			case html.StartTagToken, html.SelfClosingTagToken:
				may, known := harmless[token.Data]
				if !known {
					t.Fatalf("%q became the element %v", text, token)
				}
				for _, a := range token.Attr {
					if !strings.Contains(" "+may+" ", " "+a.Key+" ") {
						t.Fatalf("%q became an element with %s: %v", text, a.Key, token)
					}
					if a.Key != "href" && a.Key != "src" {
						continue
					}
					// What a browser makes of an address: it drops blanks and control characters within.
					address := strings.ToLower(strings.Map(func(r rune) rune {
						if r <= ' ' {
							return -1
						}
						return r
					}, a.Val))
					scheme, _, has := strings.Cut(address, ":")
					if has && !strings.ContainsAny(scheme, "/?#") && scheme != "http" && scheme != "https" &&
						scheme != "mailto" && scheme != "ftp" {
						t.Fatalf("%q became an address that may run something: %v", text, token)
					}
				}
			}
		}
	})
}
