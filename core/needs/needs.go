// Package needs knows what refers to what: maps to materials and sounds, materials to textures.
//
// Scan reads every map and material of a project once and gives a Graph, on which checks, the build and the packing of
// bundles stand. What is broken or missing is a finding that names everybody who wanted it.
package needs

import (
	"context"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/mapsrc"
	"vornix/core/material"
	"vornix/core/nearest"
	"vornix/core/project"
	"vornix/core/scene"
	"vornix/core/texture"
)

// Kind is the kind of an asset.
type Kind string

// The kinds of assets.
const (
	Map      Kind = "map"
	Material Kind = "material"
	Texture  Kind = "texture"
	Sound    Kind = "sound"
)

// Asset is a source that becomes something in the game.
type Asset struct {
	Kind   Kind
	Name   string // as maps and materials write it
	Source string // slash path in the project
	// Scene is set for maps and Material for materials, unless they are broken.
	Scene    *scene.Map
	Material *material.Material
	// Needs are the assets this one refers to directly, those that are there, in the order they are mentioned.
	Needs []*Asset
	// Missing are those that are not there.
	Missing []Missing
	// NeededBy are the assets that refer to this one directly.
	NeededBy []*Asset
}

// Missing is an asset that somebody refers to and nobody has.
type Missing struct {
	Kind Kind
	Name string
}

// Graph is every asset of a project.
type Graph struct {
	Files    []project.Info
	Assets   []*Asset // by kind and name
	Findings []finding.Finding
	byKey    map[string]*Asset
}

func key(k Kind, name string) string { return string(k) + " " + name }

// Find returns an asset by its kind and name; nil when there is none.
func (g *Graph) Find(k Kind, name string) *Asset { return g.byKey[key(k, name)] }

// Named lists the assets that people may mean: by its source's path, with or without the ending, or by "kind name" just one, by a name alone all that
// have it.
func (g *Graph) Named(what string) []*Asset {
	what = path.Clean(strings.ReplaceAll(what, `\`, "/"))
	var found []*Asset
	for _, a := range g.Assets {
		switch what {
		case a.Source, strings.TrimSuffix(a.Source, path.Ext(a.Source)), key(a.Kind, a.Name):
			return []*Asset{a}
		case a.Name:
			found = append(found, a)
		}
	}
	return found
}

// Of lists the assets of a kind, by name.
func (g *Graph) Of(k Kind) []*Asset {
	var list []*Asset
	for _, a := range g.Assets {
		if a.Kind == k {
			list = append(list, a)
		}
	}
	return list
}

// Complete says whether all maps could be read; when not, what they need is not known.
func (g *Graph) Complete() bool {
	return !slices.ContainsFunc(g.Assets, func(a *Asset) bool { return a.Kind == Map && a.Scene == nil })
}

// Closure lists an asset and all that it needs, directly or through others, each once.
func Closure(roots ...*Asset) []*Asset {
	var list []*Asset
	seen := map[*Asset]bool{}
	var visit func(a *Asset)
	visit = func(a *Asset) {
		if seen[a] {
			return
		}
		seen[a] = true
		list = append(list, a)
		for _, n := range a.Needs {
			visit(n)
		}
	}
	for _, r := range roots {
		visit(r)
	}
	return list
}

// Scan reads the project's maps and materials and ties them to what they need. files is the project's listing.
func Scan(ctx context.Context, p *project.Project, files []project.Info) (*Graph, error) {
	g := &Graph{Files: files, byKey: map[string]*Asset{}}
	g.collect(p)
	results := make([][]finding.Finding, len(g.Assets))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range g.Assets {
		if a.Kind != Map && a.Kind != Material {
			continue
		}
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			var err error
			results[i], err = a.read(p)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, r := range results {
		g.Findings = append(g.Findings, r...)
	}
	g.tie(p)
	finding.Sort(g.Findings)
	return g, nil
}

// collect sorts the files into assets by the folder they lie in.
func (g *Graph) collect(p *project.Project) {
	s := p.File.Sources
	folders := []struct {
		kind    Kind
		dir     string
		endings []string
	}{{Map, s.Maps, []string{".vnx"}}, {Material, s.Materials, []string{".toml"}}, {Texture, s.Textures, texture.Endings}, {Sound, s.Sounds, []string{".wav"}}}
	for _, folder := range folders {
		for _, f := range g.Files {
			rel, ok := strings.CutPrefix(f.Path, folder.dir+"/")
			ending := path.Ext(f.Path)
			if !ok || !slices.Contains(folder.endings, strings.ToLower(ending)) {
				continue
			}
			a := &Asset{Kind: folder.kind, Name: strings.TrimSuffix(rel, ending), Source: f.Path}
			if folder.kind == Map {
				a.Name = path.Base(a.Name)
			}
			if other := g.Find(a.Kind, a.Name); other != nil {
				g.Findings = append(g.Findings, finding.AssetTwin.At(fault.Place{File: a.Source}, "%s and %s would both become the %s %q", other.Source, a.Source, a.Kind, a.Name))
				continue
			}
			g.byKey[key(a.Kind, a.Name)] = a
			g.Assets = append(g.Assets, a)
		}
	}
}

func (a *Asset) read(p *project.Project) ([]finding.Finding, error) {
	data, err := os.ReadFile(p.Join(a.Source))
	if err != nil {
		return nil, &fault.Fault{What: "could not read the " + string(a.Kind), Place: fault.Place{File: a.Source}, Err: err,
			Do: "Check whether another program has it open, and who may read it."}
	}
	var list []finding.Finding
	if a.Kind == Map {
		a.Scene, list = mapsrc.ReadScene(a.Source, data)
	} else {
		a.Material, list = material.Parse(a.Source, data)
	}
	return list, nil
}

// tie draws the arrows and finds what is missing.
func (g *Graph) tie(p *project.Project) {
	for _, a := range g.Assets { // maps stand before materials in Assets, so that NeededBy is known when textures are tied
		if a.Kind == Map && a.Scene != nil {
			for _, r := range a.Scene.Materials() {
				g.want(a, Material, r.Name, r.Place, finding.MaterialMissing, p.File.Sources.Materials)
			}
			for _, s := range a.Scene.Sounds {
				g.want(a, Sound, s.File.Name, s.File.Place, finding.SoundMissing, p.File.Sources.Sounds)
			}
		}
		if a.Kind == Material && a.Material != nil {
			for _, r := range a.Material.References() {
				if material.BadReference(r.Texture) == "" {
					g.want(a, Texture, r.Texture, r.Place, finding.TextureMissing, p.File.Sources.Textures)
				}
			}
		}
	}
}

func (g *Graph) want(from *Asset, k Kind, name string, place fault.Place, missing *finding.Kind, folder string) {
	if to := g.Find(k, name); to != nil {
		from.Needs = append(from.Needs, to)
		to.NeededBy = append(to.NeededBy, from)
		return
	}
	from.Missing = append(from.Missing, Missing{k, name})
	f := missing.At(place, "the %s %q is not in %s/", k, name, folder)
	f.Wanted = g.wantedBy(from, place)
	var names []string
	for _, a := range g.Of(k) {
		names = append(names, a.Name)
	}
	if near := nearest.Word(name, names); near != "" {
		f = f.Doing("Did you mean %q? Else add it to %s/.", near, folder)
	}
	if from.Kind == Material {
		if maps := mapsOf(from); len(maps) > 0 {
			f.Text += fmt.Sprintf("; the material %q wants it, for %s", from.Name, strings.Join(maps, ", "))
		} else {
			f.Text += fmt.Sprintf("; the material %q wants it, which no map uses", from.Name)
			f.Severity = finding.Warning
		}
	}
	g.Findings = append(g.Findings, f)
}

func mapsOf(a *Asset) []string {
	var names []string
	for _, m := range a.NeededBy {
		names = append(names, "map "+m.Name)
	}
	return names
}

// wantedBy lists the places that lead to a reference: its own, then where each map names the material.
func (g *Graph) wantedBy(from *Asset, place fault.Place) []string {
	list := []string{place.String()}
	for _, m := range from.NeededBy {
		for _, r := range m.Scene.Materials() {
			if r.Name == from.Name {
				list = append(list, r.Place.String())
			}
		}
	}
	return list
}
