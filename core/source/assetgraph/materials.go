package assetgraph

import (
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/format/texture"
)

// readDefaults reads the defaults of the folders of materials.
func (g *Graph) readDefaults(p *project.Project) {
	for _, dir := range slices.Sorted(maps.Keys(g.defaults)) {
		file := path.Join(dir, material.DefaultsFile)
		g.taken[file] = true
		data, list := readSource(p, file)
		if len(list) == 0 {
			g.defaults[dir], list = material.Parse(file, data)
		}
		g.Findings = append(g.Findings, list...)
	}
}

// inherit lays materials over what they inherit.
func (g *Graph) inherit(p *project.Project) {
	for _, a := range g.Of(Material) {
		if a.own == nil {
			continue
		}
		chain, files, ok := g.chain(p, a, nil)
		if !ok {
			continue
		}
		a.Material, a.Chain = material.Resolve(chain), files
		g.Findings = append(g.Findings, a.Material.Check(p.Profile.Materials.Surfaces)...)
		if base := g.Find(Material, a.own.Inherits); base != nil {
			a.Bases = append(a.Bases, base)
			base.BaseOf = append(base.BaseOf, a)
		}
	}
}

// chain lists what a material is laid together from, its own file last. below are the materials that led here.
func (g *Graph) chain(p *project.Project, a *Asset, below []*Asset) (chain []*material.Material, files []string,
	ok bool) {
	if slices.Contains(below, a) {
		names := []string{}
		for _, b := range append(below[slices.Index(below, a):], a) {
			names = append(names, b.Name)
		}
		g.Findings = append(g.Findings,
			finding.MaterialInherits.At(below[0].own.Doc.At("inherits"), "the material inherits from itself: %s",
				strings.Join(names, " from ")))
		return nil, nil, false
	}
	if a.own == nil {
		return nil, nil, false // it has its own findings
	}
	top := path.Dir(p.File.Sources.Materials)
	for dir := path.Dir(a.Source); dir != top && dir != "."; dir = path.Dir(dir) {
		if d := g.defaults[dir]; d != nil {
			chain, files = append([]*material.Material{d}, chain...),
				append([]string{path.Join(dir, material.DefaultsFile)}, files...)
		}
	}
	if name := a.own.Inherits; name != "" {
		base := g.Find(Material, name)
		if base == nil {
			f := finding.MaterialInherits.At(a.own.Doc.At("inherits"), "there is no material %q", name)
			if near := suggest.Word(name, g.names(Material)); near != "" {
				f = f.Doing("Did you mean %q?", near)
			}
			if len(below) == 0 { // else it is said where it stands
				g.Findings = append(g.Findings, f)
			}
			return nil, nil, false
		}
		more, moreFiles, ok := g.chain(p, base, append(below, a))
		if !ok {
			return nil, nil, false
		}
		chain, files = append(chain, more...), append(files, moreFiles...)
	}
	return append(chain, a.own), append(files, a.Source), true
}

// uses finds out what materials use each texture for, and where a recipe or another material says otherwise.
func (g *Graph) uses(p *project.Project) {
	for _, others := range []bool{false, true} { // what shows a texture as its colour knows best what it is
		for _, a := range g.Of(Material) {
			if a.Material == nil {
				continue
			}
			for _, r := range a.Material.References() {
				if t := g.Find(Texture, r.Texture); t != nil && (r.Key != "colour") == others {
					g.use(p, a, r, t)
				}
			}
		}
	}
}

// use notes what a material uses a texture for.
func (g *Graph) use(p *project.Project, a *Asset, r material.Reference, t *Asset) {
	if r.Key == "colour" && a.Material.SeeThrough != "" && a.Material.SeeThrough != "no" {
		t.SeenThrough = append(t.SeenThrough, a.Name)
	}
	says := texture.Kind(p.Making(t.Source, t.Sidecar).Kind)
	switch {
	case says != "" && !slices.Contains(r.Kinds, says):
		f := finding.MaterialKind.At(r.Place, "%s wants a texture of the kind %s, and the recipe makes %q as %s", r.Key,
			r.Kinds[0], r.Texture, says)
		if near := g.ofKind(p, r.Texture, r.Kinds); near != "" {
			f = f.Doing("Did you mean %q? Else correct the recipe's kind.", near)
		}
		g.Findings = append(g.Findings, f)
	case says == "" && t.Use != "" && !slices.Contains(r.Kinds, t.Use):
		f := finding.MaterialKind.At(r.Place, "%s wants a texture of the kind %s, and %q is used as %s elsewhere",
			r.Key, r.Kinds[0], r.Texture, t.Use)
		if near := g.ofKind(p, r.Texture, r.Kinds); near != "" {
			f = f.Doing("Did you mean %q? Else give each use an image of its own.", near)
		}
		g.Findings = append(g.Findings, f)
	case t.Use == "":
		t.Use = r.Kinds[0]
	}
}

// ofKind is the name of the nearest texture that a recipe or another material makes one of the kinds.
func (g *Graph) ofKind(p *project.Project, name string, kinds []texture.Kind) string {
	var names []string
	for _, t := range g.Of(Texture) {
		how := p.Making(t.Source, t.Sidecar)
		if slices.Contains(kinds, cmp.Or(texture.Kind(how.Kind), t.Use)) || how.FromHeight != nil && *how.FromHeight &&
			slices.Contains(kinds, texture.Normal) {
			names = append(names, t.Name)
		}
	}
	for _, n := range names { // wall and wall_normal belong together
		if strings.HasPrefix(n, name) {
			return n
		}
	}
	return suggest.Word(name, names)
}
