package report

import (
	"encoding/base64"
	"errors"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"

	"vornix/core/base/humanize"
	"vornix/core/base/markdown"
)

var errFormat = errors.New("it is no report, or one of another format")

// look is how the page looks: in the light and in the dark, on paper, wide and narrow.
const look = `<style>
:root { color-scheme: light dark; --ink: #25303a; --soft: #62707b; --line: #d9dfe2; --paper: #fff; --ground: #f1f3f0; --mark: #2c6e63; --grown: #a14f2d;
 --c1: #2c6e63; --c2: #c9822b; --c3: #4a6fa5; --c4: #a8503c; --c5: #7c8f3f; --c6: #7a5a86; --c7: #87939b; }
@media (prefers-color-scheme: dark) { :root { --ink: #e3e7e6; --soft: #9aa7ad; --line: #37424a; --paper: #20282e; --ground: #161c20; --mark: #6cc0b0; --grown: #e39a72;
 --c1: #58a898; --c2: #dc9f52; --c3: #7d9fd1; --c4: #d27e68; --c5: #a5b866; --c6: #a988b6; --c7: #7d8a92; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--ground); color: var(--ink); font: 15px/1.5 "DejaVu Sans", system-ui, sans-serif; }
main { max-width: 76rem; margin: 0 auto; padding: 1.4rem 1.6rem 3rem; }
h1 { margin: 0; font-size: 1.9rem; line-height: 1.2; overflow-wrap: anywhere; } h1 span { color: var(--mark); }
h2 { margin: 0 0 .7rem; font-size: 1.05rem; } h3 { margin: .9rem 0 .3rem; font-size: .95rem; }
.sub { margin: .2rem 0 1.1rem; color: var(--soft); }
.maps { display: grid; grid-template-columns: repeat(auto-fit, minmax(17rem, 1fr)); gap: 1rem; margin-bottom: 1rem; }
.maps.one { grid-template-columns: minmax(17rem, 44rem); }
figure { margin: 0; background: var(--paper); border: 1px solid var(--line); border-radius: .5rem; overflow: hidden; }
figure > img { display: block; width: 100%; height: auto; background: var(--line); }
figure .none { display: grid; place-items: center; aspect-ratio: 8 / 5; color: var(--soft); background: var(--ground); }
figcaption { padding: .6rem .9rem .7rem; } figcaption b { font-size: 1.05rem; } figcaption small { display: block; color: var(--soft); }
.more { display: flex; gap: .4rem; margin-top: .5rem; } .more img { height: 3.4rem; border-radius: .25rem; }
.two { display: grid; grid-template-columns: minmax(0, 3fr) minmax(0, 2fr); gap: 1rem; } .even { grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); }
@media (max-width: 62rem) { .two, .even { grid-template-columns: minmax(0, 1fr); } }
section { margin-bottom: 1rem; padding: 1rem 1.2rem 1.1rem; background: var(--paper); border: 1px solid var(--line); border-radius: .5rem; }
.two section { height: calc(100% - 1rem); }
table { width: 100%; border-collapse: collapse; font-size: .9rem; } th { text-align: left; color: var(--soft); font-weight: 400; }
th, td { padding: .25rem .6rem .25rem 0; border-bottom: 1px solid var(--line); vertical-align: top; overflow-wrap: anywhere; } tr:last-child td { border-bottom: 0; }
td.n, th.n { text-align: right; white-space: nowrap; padding-right: 0; font-variant-numeric: tabular-nums; } td.n + td.n, th.n + th.n { padding-left: .8rem; }
td.w, th.w { white-space: nowrap; width: 1%; }
code, .hash { font: .82rem/1.5 "DejaVu Sans Mono", ui-monospace, monospace; overflow-wrap: anywhere; }
.text { overflow-wrap: anywhere; } .text > :first-child { margin-top: 0; } .text h1, .text h2 { font-size: 1.1rem; } .text a { color: var(--mark); } .text pre { overflow-x: auto; }
.soft { color: var(--soft); } .grown { color: var(--grown); } .tag { display: inline-block; min-width: 4.6rem; }
.error, .warning, .new { color: var(--grown); font-weight: 700; }
details summary { cursor: pointer; color: var(--mark); padding: .3rem 0; }
svg { display: block; width: 100%; height: auto; } svg text { font: 13px "DejaVu Sans", system-ui, sans-serif; fill: var(--ink); } svg text.soft { fill: var(--soft); font-size: 12px; } svg text.strong { font-weight: 700; }
svg line { stroke: var(--line); } .pale { opacity: .3; }
.c1 { fill: var(--c1); background: var(--c1); } .c2 { fill: var(--c2); background: var(--c2); } .c3 { fill: var(--c3); background: var(--c3); } .c4 { fill: var(--c4); background: var(--c4); }
.c5 { fill: var(--c5); background: var(--c5); } .c6 { fill: var(--c6); background: var(--c6); } .c7 { fill: var(--c7); background: var(--c7); }
.key { display: flex; flex-wrap: wrap; gap: .2rem 1rem; margin: .5rem 0 0; padding: 0; list-style: none; font-size: .82rem; color: var(--soft); } .key i { display: inline-block; width: .75rem; height: .75rem; margin-right: .35rem; border-radius: .15rem; vertical-align: -.08rem; }
footer { color: var(--soft); font-size: .85rem; }
@media print { body { background: #fff; } section, figure { break-inside: avoid; } details[open] summary { display: none; } }
</style>`

// maxChanges is how many changed files are shown before the rest is folded away.
const maxChanges = 12

var page = sync.OnceValue(func() *template.Template {
	funcs := template.FuncMap{
		"html": markdown.HTML, "bytes": humanize.Bytes, "grown": Grown, "seconds": Seconds, "join": strings.Join,
		"data": func(p Picture) template.URL {
			return template.URL("data:image/jpeg;base64," + base64.StdEncoding.EncodeToString(p.Data))
		},
		"change": func(c Changed) int64 { return c.New - c.Old },
		"first":  func(list []Changed) []Changed { return list[:min(len(list), maxChanges)] },
		"rest":   func(list []Changed) []Changed { return list[min(len(list), maxChanges):] },
		"has":    func(p Picture) bool { return len(p.Data) > 0 },
		"place": func(f Finding) string {
			if f.Line > 0 {
				return fmt.Sprintf("%s:%d", f.File, f.Line)
			}
			return f.File
		},
	}
	return template.Must(template.New("page").Funcs(funcs).Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; style-src 'unsafe-inline'">
<title>{{.R.Title}} {{.R.Version}}: the release</title>
` + look + `
<main>
<h1>{{.R.Title}} <span>{{.R.Version}}</span></h1>
<p class="sub">for {{.R.Game}} &#183; {{.R.Date}} &#183; {{bytes .R.Size}}{{if .R.Before}} ({{grown .Grown}} since {{.R.Before}}){{else}} &#183; the first release{{end}}</p>
<div class="maps{{if eq (len .R.Maps) 1}} one{{end}}">
{{- range .R.Maps}}
<figure>
{{- $m := .}}{{range $i, $p := .Pictures}}{{if and (eq $i 0) (has $p)}}
<img src="{{data $p}}" alt="{{or $m.Title $m.Name}}, as {{$p.Name}}">{{end}}{{end}}
{{- if not .Pictures}}<div class="none">no picture of this map</div>{{end}}
<figcaption><b>{{or .Title .Name}}</b><small>{{.Name}}{{if .Modes}} &#183; {{join .Modes ", "}}{{end}}{{if index .Players 1}} &#183; {{index .Players 0}} to {{index .Players 1}} players{{end}}</small>
{{- if gt (len .Pictures) 1}}<div class="more">{{range $i, $p := .Pictures}}{{if and $i (has $p)}}<img src="{{data $p}}" alt="{{$p.Name}}" title="{{$p.Name}}, {{$p.Width}} x {{$p.Height}}">{{end}}{{end}}</div>{{end}}</figcaption>
</figure>
{{- end}}
</div>
<div class="two">
<section><h2>What is new</h2>
{{if .R.Notes}}<div class="text">{{html .R.Notes}}</div>{{else}}<p class="soft">Nothing was written for players.</p>{{end}}
</section>
<section><h2>Where it went</h2>
{{if .R.Places}}<table><tr><th>target</th><th>has</th><th>since</th></tr>
{{range .R.Places}}<tr><td><b>{{.Target}}</b><br><span class="soft">{{.Kind}}, {{.Where}}</span></td><td class="w">{{.Version}}</td><td class="w">{{.When}}</td></tr>
{{end}}</table>{{else}}<p class="soft">Nowhere yet: the project names no target, or none was reached for.</p>{{end}}
</section>
</div>
{{if .R.Before}}
<section><h2>What changed since {{.R.Before}}</h2>
<p>{{.Counts}}.</p>
{{range .R.Maps}}{{if .Changes}}<h3>{{or .Title .Name}}</h3><ul>{{range .Changes}}<li>{{.}}</li>{{end}}</ul>
{{end}}{{end}}
{{if .R.Changes}}<table><tr><th></th><th>file</th><th class="n">size</th><th class="n">change</th></tr>
{{range first .R.Changes}}{{template "changed" .}}{{end}}</table>
{{with rest .R.Changes}}<details><summary>and {{len .}} more</summary><table>{{range .}}{{template "changed" .}}{{end}}</table></details>{{end}}{{end}}
</section>
{{end}}
<div class="two even">
<section><h2>Size by kind</h2>
{{template "chart" .Kinds}}
<p class="soft">Full: in bundles. Pale: before packing.</p>
</section>
<section><h2>Growth</h2>
{{if .Growth}}{{template "chart" .Growth}}{{else}}<p class="soft">One release so far; from the second on, their sizes stand here side by side.</p>{{end}}
</section>
</div>
<div class="two">
<section><h2>Time to build</h2>
{{if .Times}}{{template "chart" .Times}}<p class="soft">Each when it last had to be made: {{seconds .Built}} in all.</p>{{else}}<p class="soft">Nothing was built on this machine.</p>{{end}}
</section>
<section><h2>Steps of the release</h2>
<table>{{range .R.Steps}}<tr><td>{{.Step}}</td><td class="n">{{seconds .Seconds}}</td></tr>{{end}}</table>
</section>
</div>
<section><h2>Findings</h2>
{{if .R.Findings}}<p>{{.Found}}.</p><table>
{{range .R.Findings}}<tr><td><span class="tag {{.Severity}}">{{.Severity}}</span>{{if .New}} <span class="new">new</span>{{end}}</td><td>{{.Text}}<br><span class="soft">{{place .}} &#183; <code>{{.ID}}</code>{{if .Accepted}} &#183; accepted: {{.Accepted}}{{end}}</span></td></tr>
{{end}}</table>{{else}}<p class="soft">Nothing was found.</p>{{end}}
</section>
<section><h2>Files</h2>
<table><tr><th>file</th><th class="n">size</th><th style="padding-left:1.2rem">SHA-256</th></tr>
{{range .R.Files}}<tr><td>{{.Name}}</td><td class="n">{{bytes .Size}}</td><td class="hash" style="padding-left:1.2rem">{{.SHA256}}</td></tr>
{{end}}{{range .R.Patches}}<tr><td>{{.Name}} <span class="soft">from {{.From}}</span></td><td class="n">{{bytes .Size}}</td><td class="hash" style="padding-left:1.2rem">{{.SHA256}}</td></tr>
{{end}}</table>
{{range .R.NoPatches}}<p class="soft">Patches: {{.}}.</p>
{{end}}</section>
<footer>Made by {{or .R.Program "Vornix"}}. The same in data: {{.R.Version}}.json beside this file.</footer>
</main>
</html>
{{define "changed"}}<tr><td class="w">{{.State}}</td><td>{{.Path}}{{if .From}} <span class="soft">(was {{.From}})</span>{{end}}</td><td class="n">{{if .New}}{{bytes .New}}{{end}}</td><td class="n{{if gt (change .) 0}} grown{{end}}">{{grown (change .)}}</td></tr>
{{end}}
{{define "chart"}}<svg viewBox="0 0 {{.W}} {{.H}}" role="img" aria-label="{{.Title}}"><title>{{.Title}}</title>
{{range .Lines}}<line x1="{{.X1}}" y1="{{.Y1}}" x2="{{.X2}}" y2="{{.Y2}}"/>{{end}}
{{range .Bars}}<rect x="{{printf "%.1f" .X}}" y="{{printf "%.1f" .Y}}" width="{{printf "%.1f" .W}}" height="{{printf "%.1f" .H}}" class="{{.Class}}"><title>{{.Hint}}</title></rect>
{{end}}{{range .Labels}}<text x="{{printf "%.1f" .X}}" y="{{printf "%.1f" .Y}}" text-anchor="{{.Anchor}}"{{with .Class}} class="{{.}}"{{end}}>{{.Text}}</text>
{{end}}</svg>{{with .Key}}<ul class="key">{{range .}}<li><i class="{{.Class}}"></i>{{.Text}}</li>{{end}}</ul>{{end}}{{end}}
`))
})

// WritePage writes the report as one HTML page that needs nothing else: no script, no address, no font.
func (r *Report) WritePage(w io.Writer) error {
	built := 0.0
	for _, t := range r.Times {
		built += t.Seconds
	}
	return page().Execute(w, struct {
		R                    *Report
		Grown                int64
		Kinds, Growth, Times *chart
		Built                float64
		Counts, Found        string
	}{r, r.Size() - r.SizeBefore(), r.kindChart(), r.growthChart(), r.timeChart(), built, Counted(r), Tally(r)})
}

// Counted says how many files changed.
func Counted(r *Report) string {
	var parts []string
	for _, state := range []string{"added", "removed", "moved", "changed"} {
		n := 0
		for _, c := range r.Changes {
			if c.State == state {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	if len(parts) == 0 {
		return fmt.Sprintf("all %d files are as before", r.Same)
	}
	return fmt.Sprintf("%s, %d files the same", strings.Join(parts, ", "), r.Same)
}

// Tally says how many findings there are.
func Tally(r *Report) string {
	fresh := 0
	for _, f := range r.Findings {
		if f.New {
			fresh++
		}
	}
	if len(r.Findings) == 0 {
		return "none"
	}
	said := fmt.Sprintf("%d in all", len(r.Findings))
	if r.KnowsBefore {
		said += fmt.Sprintf(", %d of them new", fresh)
	}
	if n := r.Accepted(); n > 0 {
		said += fmt.Sprintf(", %d accepted with a reason", n)
	}
	return said
}

// Sort brings findings into their order: the new before the known, the worse before the lesser, accepted ones last.
func (r *Report) Sort() {
	rank := func(f Finding) int {
		n := map[string]int{"error": 0, "warning": 4, "note": 8}[f.Severity]
		if !f.New {
			n++
		}
		if f.Accepted != "" {
			n += 100
		}
		return n
	}
	slices.SortStableFunc(r.Findings, func(a, b Finding) int { return rank(a) - rank(b) })
}
