package assetgraph

import (
	"context"
	"errors"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/audio"
	"vornix/core/format/gltf"
	"vornix/core/format/material"
	"vornix/core/format/model"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/source/maplang"
)

// ScanProject lists a project's files and scans them.
func ScanProject(ctx context.Context, p *project.Project) (*Graph, error) {
	files, err := p.List()
	if err != nil {
		return nil, &fault.Fault{What: "could not list the project's files", Place: fault.Place{File: p.Dir}, Err: err}
	}
	return Scan(ctx, p, files)
}

// Scan reads the project's maps, materials and sheets and ties them to what they need. files is the project's listing.
func Scan(ctx context.Context, p *project.Project, files []project.Info) (*Graph, error) {
	g := &Graph{Files: files, ByStep: map[string]bool{}, byKey: map[string]*Asset{},
		classes: map[Kind]*profile.Content{}, defaults: map[string]*material.Material{}, taken: map[string]bool{}}
	for _, f := range files {
		g.files = append(g.files, f.Path)
		if p.ReadByStep(f.Path) {
			g.ByStep[f.Path] = true
		}
	}
	g.collect(p)
	g.readDefaults(p)
	scanned := slices.Clone(g.Assets)
	results := make([][]finding.Finding, len(scanned))
	readers, reading := group.WithContext(ctx)
	readers.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range scanned {
		if a.Kind == Sound || a.Kind == Texture && len(a.Parts) == 0 {
			continue
		}
		readers.Go(func() error {
			if err := reading.Err(); err != nil {
				return err
			}
			results[i] = a.read(p, g.files)
			return nil
		})
	}
	if err := readers.Wait(); err != nil {
		return nil, err
	}
	g.joinSources()
	for i, r := range results {
		if !g.taken[scanned[i].Source] { // a part of a map is no map, and what is wrong in it the map says
			g.Findings = append(g.Findings, r...)
		}
	}
	g.joinImages(p)
	if err := g.texts(ctx, p); err != nil {
		return nil, err
	}
	g.inherit(p)
	g.tie(p)
	finding.Sort(g.Findings)
	return g, nil
}

// texts reads the contents, which are what nothing else takes.
func (g *Graph) texts(ctx context.Context, p *project.Project) error {
	before := len(g.Assets)
	g.contents(p)
	found := make([][]finding.Finding, len(g.Assets)-before)
	readers, ctx := group.WithContext(ctx)
	readers.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range g.Assets[before:] {
		readers.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			found[i] = a.readText(p)
			return nil
		})
	}
	err := readers.Wait()
	for _, list := range found {
		g.Findings = append(g.Findings, list...)
	}
	return err
}

// collect sorts the files into assets by the folder they lie in.
func (g *Graph) collect(p *project.Project) {
	s := p.File.Sources
	folders := []struct {
		kind    Kind
		dir     string
		endings []string
	}{{Map, s.Maps, append([]string{".vnx"}, gltf.Endings...)}, {Model, s.Models, []string{".glb"}},
		{Material, s.Materials, []string{".toml"}}, {Texture, s.Textures, texture.Endings},
		{Sound, s.Sounds, audio.Endings},
		{Sprite, s.Sprites, []string{".toml"}}}
	for _, folder := range folders {
		for _, f := range g.Files {
			rel, ok := strings.CutPrefix(f.Path, folder.dir+"/")
			ending := path.Ext(f.Path)
			if !ok || !slices.Contains(folder.endings, strings.ToLower(ending)) ||
				strings.HasSuffix(rel, project.SidecarEnding) {
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
		g.Findings = append(g.Findings,
			finding.AssetTwin.At(fault.Place{File: a.Source}, "%s and %s would both become the %s %q", other.Source,
				a.Source, a.Kind, a.Name))
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

// readSource reads a file; the finding says why that could not be done.
func readSource(p *project.Project, source string) ([]byte, []finding.Finding) {
	data, err := os.ReadFile(p.Join(source))
	if err != nil {
		return nil, []finding.Finding{finding.FileUnreadable.At(fault.Place{File: source}, "the file can't be read: %v",
			errors.Unwrap(err))}
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
	open := func(name string) ([]byte, error) {
		if !slices.Contains(a.Parts, name) {
			a.Parts = append(a.Parts, name)
		}
		return os.ReadFile(p.Join(name))
	}
	switch a.Kind {
	case Map:
		a.Scene, list = maplang.Read(a.Source, data, maplang.Options{Open: open})
		slices.Sort(a.Parts)
	case Model:
		a.Model, list = model.Read(a.Source, a.Name, data, open)
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

// joinSources takes the files that maps include, draw on or build with from the maps and images:
// they are part of a map. Maps that include themselves, or each other, stay maps, so that their
// mistakes are reported.
func (g *Graph) joinSources() {
	parts := map[string][]string{}
	for _, a := range g.Of(Map) {
		parts[a.Source] = a.Parts
	}
	for _, a := range g.Of(Map) {
		for _, file := range a.Parts {
			if file != a.Source && !slices.Contains(parts[file], a.Source) {
				g.taken[file] = true
			}
		}
	}
	g.Assets = slices.DeleteFunc(g.Assets, func(a *Asset) bool {
		part := g.taken[a.Source] && a.Kind == Map
		if part {
			delete(g.byKey, key(a.Kind, a.Name))
		}
		return part
	})
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
				g.Findings = append(g.Findings,
					finding.TextureSidecar.At(fault.Place{File: a.Parts[0]},
						"no image %q lies beside it, and it names none", a.Name))
			}
			continue
		}
		a.Images = nil
		for i, name := range a.Sidecar.Images {
			file := path.Join(p.File.Sources.Textures, name)
			if _, found := slices.BinarySearch(g.files, file); !found {
				f := finding.TextureMissing.At(a.Sidecar.Doc.At("images", i), "the image %q is not in %s/", name,
					p.File.Sources.Textures)
				if near := suggest.Word(file, g.files); near != "" {
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
