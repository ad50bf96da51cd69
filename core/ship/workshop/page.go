package workshop

import (
	"html/template"
	"io"
	"sync"
	"time"

	"vornix/core/base/humanize"
	"vornix/core/base/markdown"
)

// View is what a page shows. Addresses are what it links to.
type View struct {
	Workshop string
	Home     string // address of the list; empty for none
	Item     *Item
	Current  *Version  // nil for none
	Versions []Version // the newest first
	Needs    []Needed
	Picture  func(Picture) string        // address of a picture
	File     func(*Version, File) string // address of a file; nil for no links
	Notice   string                      // said above everything else
}

// Needed is an item that another one needs.
type Needed struct{ Title, Address string }

const look = `<style>
:root { --ink: #26313b; --soft: #66747f; --line: #d8dfe3; --paper: #fff; --ground: #f2f4f1; --mark: #2c6e63; --sun: #c9822b; }
* { box-sizing: border-box; }
body { margin: 0; background: var(--ground); color: var(--ink); font: 16px/1.55 "DejaVu Sans", system-ui, sans-serif; }
header.top { padding: .8rem 1.5rem; background: var(--mark); color: #fff; }
header.top a { color: #fff; text-decoration: none; } header.top .mine { float: right; }
main { max-width: 66rem; margin: 1.2rem auto 3rem; padding: 0 1.2rem; }
h1 { margin: 0 0 .1rem; font-size: 1.9rem; line-height: 1.2; overflow-wrap: anywhere; }
.by { margin: 0 0 1rem; color: var(--soft); }
.notice { margin: 0 0 1rem; padding: .7rem 1rem; background: #fdf3df; border-left: .3rem solid var(--sun); }
.columns { display: grid; grid-template-columns: minmax(0, 1fr) 17rem; gap: 1.6rem; }
@media (max-width: 50rem) { .columns { grid-template-columns: 1fr; } }
.first { display: block; width: 100%; height: auto; border-radius: .4rem; background: #dfe5e2; }
.more { display: grid; grid-template-columns: repeat(auto-fill, minmax(9rem, 1fr)); gap: .6rem; margin-top: .6rem; }
.more img { display: block; width: 100%; height: 6rem; object-fit: cover; border-radius: .3rem; }
.text { overflow-wrap: anywhere; } .text h1 { font-size: 1.5rem; } .text img { max-width: 100%; } .text a { color: var(--mark); }
.text table { border-collapse: collapse; } .text th, .text td { border: 1px solid var(--line); padding: .25rem .6rem; }
aside > div { margin-bottom: 1rem; padding: .9rem 1rem; background: var(--paper); border: 1px solid var(--line); border-radius: .4rem; }
aside h2 { margin: 0 0 .4rem; font-size: .95rem; }
dl { display: grid; grid-template-columns: auto 1fr; gap: .15rem .8rem; margin: 0; font-size: .9rem; } dt { color: var(--soft); } dd { margin: 0; text-align: right; }
.get { display: block; margin-bottom: .4rem; padding: .5rem .8rem; background: var(--mark); color: #fff; text-decoration: none; border-radius: .3rem; overflow-wrap: anywhere; }
.get small { display: block; opacity: .85; }
.tags span { display: inline-block; margin: 0 .3rem .3rem 0; padding: .1rem .55rem; background: #e6ece9; border-radius: 1rem; font-size: .85rem; }
.tags .mode { background: #f6e7cf; }
.versions { margin-top: 1.6rem; border-top: 1px solid var(--line); } .versions h3 { margin: 1rem 0 0; font-size: 1rem; } .versions h3 span { color: var(--soft); font-weight: 400; }
.cards { display: grid; grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr)); gap: 1rem; }
.cards a { display: block; background: var(--paper); border: 1px solid var(--line); border-radius: .4rem; overflow: hidden; color: inherit; text-decoration: none; }
.cards img, .cards .none { display: block; width: 100%; height: 9rem; object-fit: cover; background: #dfe5e2; } .cards div { padding: .6rem .8rem; } .cards small { color: var(--soft); }
.gone { text-decoration: line-through; color: var(--soft); }
</style>`

var pages = sync.OnceValue(func() *template.Template {
	t := template.New("").Funcs(template.FuncMap{"html": markdown.HTML, "bytes": humanize.Bytes,
		"day":   func(t time.Time) string { return t.UTC().Format(time.DateOnly) },
		"short": func(s string) string { return s[:min(len(s), 12)] }})
	template.Must(t.New("item").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src 'self' file: data:; style-src 'self' 'unsafe-inline'; form-action 'none'; base-uri 'none'">
<title>{{.Item.Page.Title}} - {{.Workshop}}</title>
` + look + `
<header class="top">{{if .Home}}<a href="{{.Home}}">{{.Workshop}}</a>{{else}}{{.Workshop}}{{end}}</header>
<main>
{{with .Notice}}<p class="notice">{{.}}</p>{{end}}
{{if .Item.Withdrawn}}<p class="notice">Withdrawn by its makers on {{day .Item.Withdrawn.Time}}: {{.Item.Withdrawn.Reason}}</p>
{{else if eq .Item.Visibility "hidden"}}<p class="notice">Hidden: only its owner and its testers see this page.</p>
{{else if eq .Item.Visibility "link"}}<p class="notice">Not listed: only those who have the address see this page.</p>{{end}}
<h1>{{.Item.Page.Title}}</h1>
<p class="by">by {{.Item.Owner}}{{if .Item.Kind}} &#183; {{.Item.Kind}}{{end}}</p>
<div class="columns">
<div>
{{- range $i, $p := .Item.Page.Pictures}}
{{- if eq $i 0}}
<img class="first" src="{{call $.Picture $p}}" alt="{{$p.Text}}">{{if gt (len $.Item.Page.Pictures) 1}}
<div class="more">{{end}}{{else}}
<img src="{{call $.Picture $p}}" alt="{{$p.Text}}" title="{{$p.Text}}">{{end}}
{{- end}}{{if gt (len .Item.Page.Pictures) 1}}
</div>{{end}}
<div class="text">{{html .Item.Page.Description}}</div>
{{- if .Versions}}
<div class="versions">
{{- range .Versions}}
<h3{{if .Withdrawn}} class="gone"{{end}}>{{.Version}} <span>{{day .Time}}</span></h3>
{{if .Withdrawn}}<p>Withdrawn: {{.Withdrawn.Reason}}</p>{{else}}<div class="text">{{html .Notes}}</div>{{end}}
{{- end}}
</div>{{end}}
</div>
<aside>
{{- if .Current}}
<div>
{{- range .Current.Files}}
{{if $.File}}<a class="get" href="{{call $.File $.Current .}}">{{.Name}}<small>{{bytes .Size}}</small></a>{{else}}<span class="get">{{.Name}}<small>{{bytes .Size}}</small></span>{{end}}
{{- end}}
<dl><dt>version</dt><dd>{{.Current.Version}}</dd><dt>released</dt><dd>{{day .Current.Time}}</dd><dt>followers</dt><dd>{{.Item.Followers}}</dd><dt>downloads</dt><dd>{{.Item.Downloads}}</dd></dl>
</div>
{{- else}}
<div>Nothing to download yet.</div>
{{- end}}
{{- if or .Item.Page.Tags .Item.Page.Modes}}
<div class="tags"><h2>Tags and modes</h2>{{range .Item.Page.Tags}}<span>{{.}}</span>{{end}}{{range .Item.Page.Modes}}<span class="mode">{{.}}</span>{{end}}</div>
{{- end}}
{{- if .Needs}}
<div><h2>Needs</h2>{{range .Needs}}{{if .Address}}<a href="{{.Address}}">{{.Title}}</a>{{else}}{{.Title}}{{end}}<br>{{end}}</div>
{{- end}}
</aside>
</div>
</main>
</html>
`))
	template.Must(t.New("list").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src 'self' file: data:; style-src 'self' 'unsafe-inline'; form-action 'none'; base-uri 'none'">
<title>{{.Workshop}}</title>
` + look + `
<header class="top"><a href="/">{{.Workshop}}</a>{{if .Mine}} &#183; your items{{else}}<a class="mine" href="/mine">Your items</a>{{end}}</header>
<main>
{{if .Items}}<div class="cards">
{{- range .Items}}
<a href="{{.Address}}">{{if .Picture}}<img src="{{.Picture}}" alt="">{{else}}<span class="none"></span>{{end}}<div>{{.Title}}<br><small>{{.Version}}{{if .Version}} &#183; {{end}}by {{.Owner}}{{if ne .Visibility "public"}} &#183; {{.Visibility}}{{end}}</small></div></a>
{{- end}}
</div>{{else}}<p>There is nothing here yet.</p>{{end}}
</main>
</html>
`))
	return t
})

// WritePage writes an item's page as HTML.
func WritePage(w io.Writer, v View) error { return pages().ExecuteTemplate(w, "item", v) }

// Card is an item in a list.
type Card struct {
	Title, Version, Owner, Address, Picture string
	Visibility                              Visibility
}

// WriteList writes the page that lists items: all that are public, or somebody's own.
func WriteList(w io.Writer, workshop string, mine bool, items []Card) error {
	return pages().ExecuteTemplate(w, "list", map[string]any{"Workshop": workshop, "Mine": mine, "Items": items})
}
