// Package needs knows what refers to what: maps to materials, sounds and sprites, materials to textures and to the materials
// they inherit from.
//
// Scan reads every map, material and sheet of a project once and gives a Graph, on which checks, the build and the packing of
// bundles stand. What is broken or missing is a finding that names everybody who wanted it.
package needs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
	"vornix/core/sprite"
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
	Sprite   Kind = "sprite"
)

// Asset is a source that becomes something in the game.
type Asset struct {
	Kind   Kind
	Name   string // as maps and materials write it
	Source string // slash path in the project
	// Scene is set for maps, Material (with all that it inherits) for materials, Sheet for sprites, unless they are broken.
	Scene    *scene.Map
	Material *material.Material
	Sheet    *sprite.Sheet
	// Parts are the files that it is made of beside Source, or instead of it for a texture of several images: sidecar,
	// defaults, frames. They do not ship on their own.
	Parts []string
	// Chain are, for a material, the files that are laid over one another, the last its own.
	Chain []string
	// Images are the files of a texture's images, and Sidecar says how it is made (or nil).
	Images  []string
	Sidecar *project.Sidecar
	// Use is what materials use a texture for; empty when they disagree or none does. SeenThrough are those that use its alpha.
	Use         texture.Kind
	SeenThrough []string
	// Bases are materials that it inherits from, and BaseOf those that inherit from it: they take part and need not ship.
	Bases, BaseOf []*Asset
	own           *material.Material // as its file says
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
	files    []string                      // paths of Files
	defaults map[string]*material.Material // by folder; nil for a broken one
	taken    map[string]bool               // files that are part of an asset
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

// Scan reads the project's maps, materials and sheets and ties them to what they need. files is the project's listing.
func Scan(ctx context.Context, p *project.Project, files []project.Info) (*Graph, error) {
	g := &Graph{Files: files, byKey: map[string]*Asset{}, defaults: map[string]*material.Material{}, taken: map[string]bool{}}
	for _, f := range files {
		g.files = append(g.files, f.Path)
	}
	g.collect(p)
	g.readDefaults(p)
	results := make([][]finding.Finding, len(g.Assets))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range g.Assets {
		if a.Kind == Sound || a.Kind == Texture && len(a.Parts) == 0 {
			continue
		}
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			results[i] = a.read(p, g.files)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for _, r := range results {
		g.Findings = append(g.Findings, r...)
	}
	g.joinImages(p)
	g.inherit(p)
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
	}{{Map, s.Maps, []string{".vnx"}}, {Material, s.Materials, []string{".toml"}}, {Texture, s.Textures, texture.Endings}, {Sound, s.Sounds, []string{".wav"}},
		{Sprite, s.Sprites, []string{".toml"}}}
	for _, folder := range folders {
		for _, f := range g.Files {
			rel, ok := strings.CutPrefix(f.Path, folder.dir+"/")
			ending := path.Ext(f.Path)
			if !ok || !slices.Contains(folder.endings, strings.ToLower(ending)) || strings.HasSuffix(rel, project.SidecarEnding) {
				continue
			}
			if folder.kind == Material && path.Base(rel) == material.DefaultsFile {
				g.defaults[path.Dir(f.Path)] = nil
				continue
			}
			a := &Asset{Kind: folder.kind, Name: strings.TrimSuffix(rel, ending), Source: f.Path}
			if folder.kind == Map {
				a.Name = path.Base(a.Name)
			}
			if folder.kind == Texture {
				a.Images = []string{f.Path}
			}
			g.addAsset(a)
		}
		if folder.kind == Texture {
			g.sidecars(folder.dir)
		}
	}
}

func (g *Graph) addAsset(a *Asset) {
	if other := g.Find(a.Kind, a.Name); other != nil {
		g.Findings = append(g.Findings, finding.AssetTwin.At(fault.Place{File: a.Source}, "%s and %s would both become the %s %q", other.Source, a.Source, a.Kind, a.Name))
		return
	}
	g.byKey[key(a.Kind, a.Name)] = a
	g.Assets = append(g.Assets, a)
}

// sidecars gives textures the files that say how they are made; one without an image beside it is a texture of its own.
func (g *Graph) sidecars(dir string) {
	for _, f := range g.Files {
		rel, ok := strings.CutPrefix(f.Path, dir+"/")
		name, isSidecar := strings.CutSuffix(rel, project.SidecarEnding)
		if !ok || !isSidecar {
			continue
		}
		a := g.Find(Texture, name)
		if a == nil {
			a = &Asset{Kind: Texture, Name: name, Source: f.Path}
			g.addAsset(a)
		}
		a.Parts = append(a.Parts, f.Path)
		g.taken[f.Path] = true
	}
}

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

// readSource reads a file; the finding says why that could not be done.
func readSource(p *project.Project, source string) ([]byte, []finding.Finding) {
	data, err := os.ReadFile(p.Join(source))
	if err != nil {
		return nil, []finding.Finding{finding.FileUnreadable.At(fault.Place{File: source}, "the file can't be read: %v", errors.Unwrap(err))}
	}
	return data, nil
}

func (a *Asset) read(p *project.Project, files []string) []finding.Finding {
	source := a.Source
	if a.Kind == Texture {
		source = a.Parts[0]
	}
	data, list := readSource(p, source)
	if len(list) > 0 {
		return list
	}
	switch a.Kind {
	case Map:
		a.Scene, list = mapsrc.ReadScene(a.Source, data)
	case Material:
		a.own, list = material.Parse(a.Source, data)
	case Sprite:
		if a.Sheet, list = sprite.Parse(a.Source, data, files); a.Sheet != nil {
			a.Parts = a.Sheet.Images()
		}
	case Texture:
		a.Sidecar, list = project.ParseSidecar(source, data)
	}
	return list
}

// joinImages finds the images of textures that are made of several; those are no textures of their own, unless somebody
// needs them.
func (g *Graph) joinImages(p *project.Project) {
	for _, a := range g.Of(Texture) {
		if len(a.Parts) == 0 {
			continue
		}
		if a.Sidecar == nil || len(a.Sidecar.Images) == 0 {
			if len(a.Images) == 0 && a.Sidecar != nil {
				g.Findings = append(g.Findings, finding.TextureSidecar.At(fault.Place{File: a.Parts[0]}, "no image %q lies beside it, and it names none", a.Name))
			}
			continue
		}
		a.Images = nil
		for i, name := range a.Sidecar.Images {
			file := path.Join(p.File.Sources.Textures, name)
			if _, found := slices.BinarySearch(g.files, file); !found {
				f := finding.TextureMissing.At(a.Sidecar.Doc.At("images", i), "the image %q is not in %s/", name, p.File.Sources.Textures)
				if near := nearest.Word(file, g.files); near != "" {
					f = f.Doing("Did you mean %q?", strings.TrimPrefix(near, p.File.Sources.Textures+"/"))
				}
				g.Findings = append(g.Findings, f)
				continue
			}
			a.Images = append(a.Images, file)
			if file != a.Source {
				a.Parts = append(a.Parts, file)
				g.taken[file] = true
			}
		}
	}
	for _, a := range g.Of(Sprite) {
		for _, file := range a.Parts {
			g.taken[file] = true
		}
	}
}

// Takes says whether a file is part of an asset.
func (g *Graph) Takes(file string) bool { return g.taken[file] }

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
func (g *Graph) chain(p *project.Project, a *Asset, below []*Asset) (chain []*material.Material, files []string, ok bool) {
	if slices.Contains(below, a) {
		names := []string{}
		for _, b := range append(below[slices.Index(below, a):], a) {
			names = append(names, b.Name)
		}
		g.Findings = append(g.Findings, finding.MaterialInherits.At(below[0].own.Doc.At("inherits"), "the material inherits from itself: %s", strings.Join(names, " from ")))
		return nil, nil, false
	}
	if a.own == nil {
		return nil, nil, false // it has its own findings
	}
	top := path.Dir(p.File.Sources.Materials)
	for dir := path.Dir(a.Source); dir != top && dir != "."; dir = path.Dir(dir) {
		if d := g.defaults[dir]; d != nil {
			chain, files = append([]*material.Material{d}, chain...), append([]string{path.Join(dir, material.DefaultsFile)}, files...)
		}
	}
	if name := a.own.Inherits; name != "" {
		base := g.Find(Material, name)
		if base == nil {
			f := finding.MaterialInherits.At(a.own.Doc.At("inherits"), "there is no material %q", name)
			if near := nearest.Word(name, g.names(Material)); near != "" {
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

func (g *Graph) names(k Kind) []string {
	var names []string
	for _, a := range g.Of(k) {
		names = append(names, a.Name)
	}
	return names
}

// tie draws the arrows and finds what is missing.
func (g *Graph) tie(p *project.Project) {
	for _, a := range g.Assets { // maps stand before materials in Assets, so that NeededBy is known when textures are tied
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
			g.states(a)
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
	g.uses(p)
	g.Findings = slices.CompactFunc(sorted(g.Findings), func(a, b finding.Finding) bool { // an inherited mistake is one
		return a.ID == b.ID && a.Place == b.Place && a.Place.Line > 0 && (strings.HasPrefix(a.ID, "reference.") || a.ID == finding.TextureMissing.ID || a.ID == finding.MaterialSurface.ID)
	})
}

func sorted(list []finding.Finding) []finding.Finding {
	finding.Sort(list)
	return list
}

// nearestTo is the name of an asset that a wrong name probably means: itself, one whose path ends so, or the nearest word.
func (g *Graph) nearestTo(k Kind, name string) string {
	names := g.names(k)
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
	return nearest.Word(name, names)
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
			if near := nearest.Word(ref.Name, known); near != "" {
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
		f := finding.MaterialKind.At(r.Place, "%s wants a texture of the kind %s, and the recipe makes %q as %s", r.Key, r.Kinds[0], r.Texture, says)
		if near := g.ofKind(p, r.Texture, r.Kinds); near != "" {
			f = f.Doing("Did you mean %q? Else correct the recipe's kind.", near)
		}
		g.Findings = append(g.Findings, f)
	case says == "" && t.Use != "" && !slices.Contains(r.Kinds, t.Use):
		f := finding.MaterialKind.At(r.Place, "%s wants a texture of the kind %s, and %q is used as %s elsewhere", r.Key, r.Kinds[0], r.Texture, t.Use)
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
		if slices.Contains(kinds, cmp.Or(texture.Kind(how.Kind), t.Use)) || how.FromHeight != nil && *how.FromHeight && slices.Contains(kinds, texture.Normal) {
			names = append(names, t.Name)
		}
	}
	for _, n := range names { // wall and wall_normal belong together
		if strings.HasPrefix(n, name) {
			return n
		}
	}
	return nearest.Word(name, names)
}

// kindOf says how each kind of asset is called when it is missing, and where it would lie.
func kindOf(p *project.Project, k Kind) (missing *finding.Kind, folder string, gamePath func(string) string) {
	s := p.File.Sources
	switch k {
	case Material:
		return finding.MaterialMissing, s.Materials, p.Profile.MaterialPath
	case Texture:
		return finding.TextureMissing, s.Textures, p.Profile.TexturePath
	case Sprite:
		return finding.SpriteMissing, s.Sprites, p.Profile.SpritePath
	default:
		return finding.SoundMissing, s.Sounds, p.Profile.SoundPath
	}
}

// want draws an arrow to an asset; one that no project has may be the game's own.
func (g *Graph) want(p *project.Project, from *Asset, k Kind, name string, place fault.Place) {
	if to := g.Find(k, name); to != nil {
		from.Needs = append(from.Needs, to)
		to.NeededBy = append(to.NeededBy, from)
		return
	}
	missing, folder, gamePath := kindOf(p, k)
	if p.Profile.HasOwn(gamePath(name)) {
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
