package assetgraph

import (
	"errors"
	"os"
	"path"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
)

// maxText is the largest file that is read for what it names.
const maxText = 16 << 20

// contents sorts the files that nothing else takes into the profile's contents.
func (g *Graph) contents(p *project.Project) {
	taken := map[string]bool{project.FileName: true, p.ProfilePath: true}
	for _, a := range g.Assets {
		taken[a.Source] = true
		for _, part := range a.Parts {
			taken[part] = true
		}
	}
	for i := range p.Profile.Contents {
		c := &p.Profile.Contents[i]
		g.classes[Kind(c.Name)] = c
		for _, f := range g.Files {
			rel, ok := strings.CutPrefix(f.Path, c.Folder+"/")
			if !ok || taken[f.Path] || g.taken[f.Path] || !c.Takes(rel) {
				continue
			}
			taken[f.Path] = true
			g.addAsset(&Asset{Kind: Kind(c.Name), Name: rel, Source: f.Path, Content: c})
		}
	}
}

// IsContent says whether an asset is of one of the profile's contents.
func (a *Asset) IsContent() bool { return a.Content != nil }

// readText reads a content's text and what it names.
func (a *Asset) readText(p *project.Project) []finding.Finding {
	if !a.Content.IsText() {
		return nil
	}
	place := fault.Place{File: a.Source}
	if info, err := os.Stat(p.Join(a.Source)); err == nil && info.Size() > maxText {
		return []finding.Finding{finding.TextForm.At(place, "the text has %d bytes; at most %d are looked at",
			info.Size(), maxText)}
	}
	data, list := readSource(p, a.Source)
	if len(list) > 0 {
		return list
	}
	t, err := charset.Read(data, a.Content.Encoding)
	if err != nil {
		return []finding.Finding{textFinding(finding.TextEncoding, a.Source, err)}
	}
	a.Text = t
	if a.Content.Form != "" {
		if err := t.Check(a.Content.Form); err != nil {
			f := textFinding(finding.TextForm, a.Source, err)
			f.Text = "the file is no good " + strings.ToUpper(a.Content.Form) + ": " + f.Text
			f.Excerpt = line(t.Content, f.Place.Line)
			list = append(list, f)
		}
	}
	if differs := t.Differs(a.Content.Style()); len(differs) > 0 && !a.Content.Convert {
		list = append(list, finding.TextStyle.At(place, "%s", strings.Join(differs, ", and ")))
	}
	if _, err := t.Write(a.Content.Style()); err != nil && a.Content.Convert {
		list = append(list, textFinding(finding.TextEncoding, a.Source, err))
	}
	return list
}

func line(content string, n int) string {
	for l := range strings.SplitSeq(content, "\n") {
		if n--; n == 0 {
			return strings.TrimRight(l, "\r")
		}
	}
	return ""
}

func textFinding(k *finding.Kind, file string, err error) finding.Finding {
	place := fault.Place{File: file}
	var bad *charset.Error
	if errors.As(err, &bad) {
		place.Line, place.Column = bad.Line, bad.Column
	}
	return k.At(place, "%v", err)
}

// tieContents draws the arrows from maps to their companions and from texts to what they name.
func (g *Graph) tieContents(p *project.Project) {
	for i := range p.Profile.Contents {
		c := &p.Profile.Contents[i]
		if c.With == "" {
			continue
		}
		for _, m := range g.Of(Map) {
			name := c.Companion(m.Name)
			if to := g.Find(Kind(c.Name), name); to != nil {
				m.need(to)
			} else if c.Required {
				m.Missing = append(m.Missing, Missing{Kind(c.Name), name})
				f := finding.ContentMissing.At(fault.Place{File: m.Source}, "the map's %s %s is not there", c.Name,
					path.Join(c.Folder, name))
				if near := suggest.Word(name, g.names(Kind(c.Name))); near != "" {
					f = f.Doing("Is it %s?", path.Join(c.Folder, near))
				}
				g.Findings = append(g.Findings, f)
			}
		}
	}
	for _, a := range g.Assets {
		if a.Text == nil {
			continue
		}
		for _, r := range a.Content.References(a.Text.Content) {
			place := fault.Place{File: a.Source, Line: r.Line, Column: r.Column}
			switch r.Kind {
			case "path":
				g.wantPath(p, a, r.Name, place)
			case "spawn":
				g.wantSpawn(a, r, place)
			default:
				g.want(p, a, Kind(r.Kind), r.Name, place)
			}
		}
	}
}

// need draws an arrow.
func (a *Asset) need(to *Asset) {
	if to != a && !slices.Contains(a.Needs, to) {
		a.Needs = append(a.Needs, to)
		to.NeededBy = append(to.NeededBy, a)
	}
}

// wantPath draws an arrow to what lies at a path in the game.
func (g *Graph) wantPath(p *project.Project, from *Asset, gamePath string, place fault.Place) {
	if g.byPath == nil {
		g.byPath = map[string]*Asset{}
		for _, a := range g.Assets {
			g.byPath[GamePath(p, a)] = a
		}
	}
	clean := strings.TrimPrefix(strings.ReplaceAll(gamePath, `\`, "/"), "./")
	if to := g.byPath[clean]; to != nil {
		from.need(to)
		return
	}
	if p.Profile.HasOwn(clean) {
		return
	}
	from.Missing = append(from.Missing, Missing{"path", gamePath})
	f := finding.ContentMissing.At(place, "%s names %s, and nothing that ships lies there", from.Source, clean)
	f.Excerpt = line(from.Text.Content, place.Line)
	known := make([]string, 0, len(g.byPath))
	for name := range g.byPath {
		known = append(known, name)
		if strings.EqualFold(name, clean) {
			f = finding.RefCase.At(place, "%s is called %s", clean, name).Doing("Write %s.", name)
			g.Findings = append(g.Findings, f)
			return
		}
	}
	slices.Sort(known)
	if near := suggest.Word(clean, known); near != "" {
		f = f.Doing("Did you mean %s? Else add it.", near)
	}
	g.Findings = append(g.Findings, f)
}

// wantSpawn holds a spawn that a text names to those of the map.
func (g *Graph) wantSpawn(from *Asset, r profile.Reference, place fault.Place) {
	m := g.Find(Map, r.Map)
	if m == nil || m.Scene == nil {
		return // the map itself has a finding
	}
	var names []string
	for _, s := range m.Scene.Spawns {
		if names = append(names, s.Name); s.Name == r.Name {
			return
		}
	}
	f := finding.SpawnMissing.At(place, "the map %s has no spawn %q", r.Map, r.Name)
	f.Excerpt = line(from.Text.Content, place.Line)
	if near := suggest.Word(r.Name, names); near != "" {
		f = f.Doing("Did you mean %q?", near)
	}
	g.Findings = append(g.Findings, f)
}

// Roots are what ships without anybody needing it: maps, and contents that ship always.
func (g *Graph) Roots() []*Asset {
	var list []*Asset
	for _, a := range g.Assets {
		if a.Kind == Map || a.Content != nil && a.Content.Always {
			list = append(list, a)
		}
	}
	return list
}

// GamePath is where an asset lies in the game.
func GamePath(p *project.Project, a *Asset) string {
	switch a.Kind {
	case Map:
		return p.Profile.MapPath(a.Name)
	case Material:
		return p.Profile.MaterialPath(a.Name)
	case Texture:
		return p.Profile.TexturePath(a.Name)
	case Sprite:
		return p.Profile.SpritePath(a.Name)
	case Model:
		return p.Profile.ModelPath(a.Name)
	case Sound:
		return p.Profile.SoundPath(a.Name, strings.ToLower(strings.TrimPrefix(path.Ext(a.Source), ".")))
	}
	return a.Content.Path(a.Name)
}

// Needed are the files that something needs: the sources of all that ships with their parts, and
// what they inherit from. pictures are images that are needed outside the game.
func Needed(g *Graph, pictures []string) map[string]bool {
	needed := map[string]bool{}
	var use func(a *Asset)
	use = func(a *Asset) {
		if needed[a.Source] {
			return
		}
		needed[a.Source] = true
		for _, list := range [][]string{a.Parts, a.Chain} {
			for _, file := range list {
				needed[file] = true
			}
		}
		for _, b := range a.Bases {
			use(b)
		}
	}
	for _, a := range Closure(g.Roots()...) {
		use(a)
	}
	for _, image := range pictures {
		needed[image] = true
	}
	for file := range g.ByStep {
		needed[file] = true
	}
	return needed
}

// Unused are the assets that nothing needs. While a map can't be read nobody knows what it needs, so none is called so.
func Unused(g *Graph, pictures []string) (list []*Asset) {
	if !g.Complete() {
		return nil
	}
	needed := Needed(g, pictures)
	for _, a := range g.Assets {
		if !needed[a.Source] && !g.Takes(a.Source) {
			list = append(list, a)
		}
	}
	return list
}
