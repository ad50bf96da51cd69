package assetgraph

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/source/scene"
)

// tie draws the arrows and finds what is missing.
func (g *Graph) tie(p *project.Project) {
	// maps stand before materials in Assets, so that NeededBy is known when textures are tied
	for _, a := range g.Assets {
		if a.Kind == Map && a.Scene != nil {
			for _, r := range a.Scene.Materials() {
				g.want(p, a, Material, r.Name, r.Place)
			}
			for _, s := range a.Scene.Sounds {
				g.want(p, a, Sound, s.File.Name, s.File.Place)
			}
			for _, s := range a.Scene.Sprites() {
				g.want(p, a, Sprite, s.Name, s.Place)
			}
			for _, s := range a.Scene.Models() {
				g.want(p, a, Model, s.Name, s.Place)
			}
			for _, it := range a.Scene.Items {
				for _, pair := range it.Pairs {
					if k := AssetProperty(p.Profile, p.Profile.Map.Items[it.Kind][pair.Key].Type); k != "" &&
						pair.Value != "" {
						g.want(p, a, k, pair.Value, pair.Place)
					}
				}
			}
			g.states(a)
		}
		if a.Kind == Model && a.Model != nil {
			for _, name := range a.Model.Materials() {
				g.want(p, a, Material, name, fault.Place{File: a.Source})
			}
		}
		if a.Kind == Material && a.Material != nil {
			for _, r := range a.Material.References() {
				if k, why, meant := material.BadReference(r.Texture); k != nil {
					f := k.At(r.Place, "the texture %q %s", r.Texture, why)
					if near := g.nearestTo(Texture, meant); near != "" {
						f = f.Doing("Did you mean %q?", near)
					}
					g.Findings = append(g.Findings, f)
					continue
				}
				g.want(p, a, Texture, r.Texture, r.Place)
			}
		}
	}
	g.tieContents(p)
	g.uses(p)
	g.Findings = slices.CompactFunc(sorted(g.Findings), func(a, b finding.Finding) bool { // an inherited mistake is one
		return a.ID == b.ID && a.Place == b.Place && a.Place.Line > 0 &&
			(strings.HasPrefix(a.ID, "reference.") || a.ID == finding.TextureMissing.ID ||
				a.ID == finding.MaterialSurface.ID)
	})
}

func sorted(list []finding.Finding) []finding.Finding {
	finding.Sort(list)
	return list
}

// nearestTo is the name of an asset that a wrong name probably means: itself, one whose path ends
// so, or the nearest word.
func (g *Graph) nearestTo(k Kind, name string) string {
	names := g.names(k)
	if path.Ext(name) == "" { // contents are mostly named without their ending
		for i, n := range names {
			if a := g.byKey[key(k, n)]; a != nil && a.IsContent() {
				names[i] = strings.TrimSuffix(n, path.Ext(n))
			}
		}
	}
	for short := name; short != ""; {
		for _, n := range names {
			if strings.EqualFold(n, short) {
				return n
			}
		}
		_, rest, more := strings.Cut(short, "/")
		if !more {
			break
		}
		short = rest
	}
	return suggest.Word(name, names)
}

// states holds the states that a map's objects show to those that the sheets have.
func (g *Graph) states(a *Asset) {
	for _, it := range a.Scene.Items {
		sheet := g.Find(Sprite, it.Sprite.Name)
		if sheet == nil || sheet.Sheet == nil {
			continue
		}
		bad := func(ref scene.Ref, what string, known []string) {
			f := finding.SpriteState.At(ref.Place, "the sprite %q has no %s %q", it.Sprite.Name, what, ref.Name)
			if near := suggest.Word(ref.Name, known); near != "" {
				f = f.Doing("Did you mean %q?", near)
			} else {
				f = f.Doing("Use one of: %s.", strings.Join(known, ", "))
			}
			g.Findings = append(g.Findings, f)
		}
		state := sheet.Sheet.States[0]
		if it.State.Name != "" {
			var ok bool
			if state, ok = sheet.Sheet.State(it.State.Name); !ok {
				bad(it.State, "state", sheet.Sheet.StateNames())
				continue
			}
		}
		var directions []string
		for _, d := range state.Directions {
			directions = append(directions, d.Name)
		}
		if it.Direction.Name != "" && !slices.Contains(directions, it.Direction.Name) {
			bad(it.Direction, "direction", directions)
		}
	}
}

// kindOf says how each kind of asset is called when it is missing, where it would lie, and at which paths in the game.
func kindOf(p *project.Project, k Kind) (missing *finding.Kind, folder string, gamePaths func(string) []string) {
	s := p.File.Sources
	one := func(path func(string) string) func(string) []string {
		return func(name string) []string { return []string{path(name)} }
	}
	switch k {
	case Map:
		return finding.MapMissing, s.Maps, one(p.Profile.MapPath)
	case Material:
		return finding.MaterialMissing, s.Materials, one(p.Profile.MaterialPath)
	case Texture:
		return finding.TextureMissing, s.Textures, one(p.Profile.TexturePath)
	case Sprite:
		return finding.SpriteMissing, s.Sprites, one(p.Profile.SpritePath)
	case Model:
		return finding.ModelMissing, s.Models, one(p.Profile.ModelPath)
	case Sound:
		return finding.SoundMissing, s.Sounds, p.Profile.SoundPaths
	}
	c := p.Profile.Content(string(k))
	return finding.ContentMissing, c.Folder, c.Paths
}

// want draws an arrow to an asset; one that no project has may be the game's own.
func (g *Graph) want(p *project.Project, from *Asset, k Kind, name string, place fault.Place) {
	if to := g.Find(k, name); to != nil {
		from.need(to)
		return
	}
	missing, folder, gamePaths := kindOf(p, k)
	if slices.ContainsFunc(gamePaths(name), p.Profile.HasOwn) {
		return
	}
	from.Missing = append(from.Missing, Missing{k, name})
	f := missing.At(place, "the %s %q is not in %s/", k, name, folder)
	if near := g.nearestTo(k, name); strings.EqualFold(near, name) {
		f = finding.RefCase.At(place, "the %s %q is called %q", k, name, near).Doing("Write %q.", near)
	} else if near != "" {
		f = f.Doing("Did you mean %q? Else add it to %s/.", near, folder)
	}
	f.Wanted = g.wantedBy(from, place)
	if from.Text != nil {
		f.Excerpt = line(from.Text.Content, place.Line)
	}
	if from.Kind != Map {
		if maps := mapsOf(from); len(maps) > 0 {
			f.Text += fmt.Sprintf("; the %s %q wants it, for %s", from.Kind, from.Name, strings.Join(maps, ", "))
		} else {
			f.Text += fmt.Sprintf("; the %s %q wants it, which no map uses", from.Kind, from.Name)
			f.Severity = finding.Warning
		}
	}
	g.Findings = append(g.Findings, f)
}

// mapsOf lists the maps that an asset is for, directly or through others.
func mapsOf(a *Asset) []string {
	var names []string
	for _, m := range MapsOf(a) {
		names = append(names, "map "+m.Name)
	}
	return names
}

// MapsOf lists the maps that an asset is for, directly or through others, each once.
func MapsOf(a *Asset) (list []*Asset) {
	seen := map[*Asset]bool{a: true}
	var visit func(a *Asset)
	visit = func(a *Asset) {
		for _, m := range a.NeededBy {
			if seen[m] {
				continue
			}
			seen[m] = true
			if m.Kind == Map {
				list = append(list, m)
			} else {
				visit(m)
			}
		}
	}
	visit(a)
	return list
}

// Ships says whether an asset becomes a file of its own in the game. A model does when an object of
// a map shows it; one that only stands still is part of the map's file.
func Ships(p *project.Project, a *Asset) bool {
	return a.Kind != Model || slices.ContainsFunc(a.NeededBy, func(m *Asset) bool {
		return m.Scene != nil && slices.ContainsFunc(m.Scene.Items, func(it scene.Item) bool {
			return it.Model.Name == a.Name || slices.ContainsFunc(it.Pairs, func(pair scene.Pair) bool {
				return pair.Value == a.Name &&
					AssetProperty(p.Profile, p.Profile.Map.Items[it.Kind][pair.Key].Type) == Model
			})
		})
	})
}

// AssetProperty is the kind of asset that a property of that type names; empty when it names none.
func AssetProperty(p *profile.Profile, propertyType string) Kind {
	switch propertyType {
	case "sound", "material", "sprite", "model":
		return Kind(propertyType)
	}
	if p.Content(propertyType) != nil {
		return Kind(propertyType)
	}
	return ""
}

// wantedBy lists the places that lead to a reference: its own, then where each map names the material.
func (g *Graph) wantedBy(from *Asset, place fault.Place) []string {
	list := []string{place.String()}
	for _, m := range from.NeededBy {
		if m.Scene == nil {
			list = append(list, m.Source)
			continue
		}
		refs := m.Scene.Materials()
		if from.Kind == Model {
			refs = m.Scene.Models()
		}
		for _, r := range refs {
			if r.Name == from.Name {
				list = append(list, r.Place.String())
			}
		}
	}
	return list
}
