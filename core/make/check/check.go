// Package check holds a project to its game's rules before anything is built: names, maps, materials, images, stray
// files. Each rule is a function here and each thing it can say a kind in package finding.
package check

import (
	"context"
	"errors"
	"fmt"
	"image"
	"os"
	"path"
	"runtime"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/format/model"
	"vornix/core/format/texture"
	"vornix/core/format/zipfile"
	"vornix/core/make/metadata"
	"vornix/core/make/sweep"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
)

// Run checks everything and returns all findings, sorted; Accept marks those that the project accepts.
func Run(ctx context.Context, p *project.Project, g *assetgraph.Graph) ([]finding.Finding, error) {
	list := append([]finding.Finding{}, g.Findings...)
	for _, a := range g.Of(assetgraph.Map) {
		if a.Scene != nil {
			list = append(list, Map(p.Profile, a.Scene, a.Source, func(name string) *model.Model {
				if d := g.Find(assetgraph.Model, name); d != nil {
					return d.Model
				}
				return nil
			})...)
		}
	}
	open, err := leaks(ctx, g)
	if err != nil {
		return nil, err
	}
	list = append(list, open...)
	list = append(list, recipes(p, g)...)
	shipped := assetgraph.Closure(g.Roots()...)
	images, err := checkImages(ctx, p, shipped)
	if err != nil {
		return nil, err
	}
	list = append(list, images...)
	list = append(list, models(p, shipped)...)
	heard, err := sounds(ctx, p, shipped)
	if err != nil {
		return nil, err
	}
	list = append(list, heard...)
	list = append(list, twins(g)...)
	same, err := duplicates(ctx, p, g, shipped)
	if err != nil {
		return nil, err
	}
	list = append(list, same...)
	list = append(list, overrides(p, shipped)...)
	kept, err := guarded(ctx, p, g, shipped)
	if err != nil {
		return nil, err
	}
	list = append(list, kept...)
	list = append(list, paths(p, shipped)...)
	pictures := shots.NewPlan(p, g)
	list = append(list, pictures.Findings...)
	list = append(list, unused(g, pictures.Images())...)
	list = append(list, strays(p, g)...)
	_, metadata := metadata.Make(p, g, metadata.Options{})
	list = append(list, metadata...)
	if f, err := versionOrder(p); err != nil {
		return nil, err
	} else if f != nil {
		list = append(list, *f)
	}
	finding.Sort(list)
	return list, nil
}

// Accept marks what the project accepts, and reports acceptances that match nothing. built says that the build has had
// its say too. While a map can't be read nobody knows what would be found in it, so no acceptance is called unused.
func Accept(p *project.Project, g *assetgraph.Graph, list []finding.Finding, built bool) []finding.Finding {
	list = finding.Accept(list, p.Acceptances())
	if g.Complete() {
		list = append(list, finding.UnusedAcceptances(list, p.Acceptances(), func(id string) bool {
			return !finding.FromTry(id) && (built || !finding.FromBuild(id))
		})...)
	}
	finding.Sort(list)
	return list
}

// checkImages looks at the header and the wholeness of each image that ships, without decoding it.
func checkImages(ctx context.Context, p *project.Project, shipped []*assetgraph.Asset) ([]finding.Finding, error) {
	results := make([][]finding.Finding, len(shipped))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range shipped {
		if a.Kind != assetgraph.Texture && a.Kind != assetgraph.Sprite {
			continue
		}
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if a.Kind == assetgraph.Sprite {
				results[i] = sheet(p, a)
				return nil
			}
			for _, image := range a.Images {
				results[i] = append(results[i], imageFile(p, a, image)...)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	var list []finding.Finding
	for _, r := range results {
		list = append(list, r...)
	}
	return list, nil
}

// probe looks at an image file's header; the finding says why it can't be used.
func probe(p *project.Project, image string) (texture.Info, []finding.Finding) {
	place := fault.Place{File: image}
	data, err := os.ReadFile(p.Join(image))
	if err != nil {
		return texture.Info{},
			[]finding.Finding{finding.TextureDecode.At(place, "the file can't be read: %v", errors.Unwrap(err)).
				Doing("Check who may read it, and whether another program has it open.")}
	}
	info, err := texture.Probe(image, data)
	if err != nil {
		return info, []finding.Finding{finding.TextureDecode.At(place, "%v", err)}
	}
	if info.Misnamed {
		return info, []finding.Finding{finding.TextureMisnamed.At(place, "the file is a %s, and its name ends in %s",
			info.Form, path.Ext(image))}
	}
	return info, nil
}

func imageFile(p *project.Project, a *assetgraph.Asset, image string) []finding.Finding {
	info, list := probe(p, image)
	if info.Width > 0 {
		list = append(list, ImageSize(p, a.Recipe(p), image, info.Width, info.Height)...)
	}
	return list
}

// models holds models to what the game draws.
func models(p *project.Project, shipped []*assetgraph.Asset) (list []finding.Finding) {
	limit := p.Profile.Models
	for _, a := range shipped {
		if a.Model == nil {
			continue
		}
		place := fault.Place{File: a.Source}
		if n := a.Model.Triangles(); limit.Triangles > 0 && n > limit.Triangles {
			list = append(list,
				finding.ModelLarge.At(place, "the model has %d triangles; %s takes %d", n, p.Profile.Game.Title,
					limit.Triangles))
		}
		if n := len(a.Model.Meshes); limit.Materials > 0 && n > limit.Materials {
			list = append(list,
				finding.ModelLarge.At(place, "the model has %d materials; %s takes %d", n, p.Profile.Game.Title,
					limit.Materials))
		}
		size := a.Model.Box.Max.Sub(a.Model.Box.Min)
		if side := max(size.X, size.Y, size.Z); limit.Largest > 0 && side > limit.Largest {
			list = append(list,
				finding.ModelLarge.At(place, "the model is %.1f m large; %s takes %g m", side, p.Profile.Game.Title,
					limit.Largest).
					Doing("Scale it down, or split it; was it exported in other units than metres?"))
		}
		if len(a.Model.Images) > 0 {
			list = append(list,
				finding.ModelImages.At(place, "the model carries its own images: %s",
					strings.Join(a.Model.Images, ", ")))
		}
	}
	return list
}

// sheet looks at the images of a sprite sheet.
func sheet(p *project.Project, a *assetgraph.Asset) (list []finding.Finding) {
	if a.Sheet == nil {
		return nil
	}
	for _, image := range a.Sheet.Images() {
		info, found := probe(p, image)
		list = append(list, found...)
		if info.Width > 0 {
			list = append(list, a.Sheet.CheckGrid(info.Width, info.Height)...)
		}
	}
	return list
}

// ImageSize holds an image's size to the game's rule: an error where the recipe refuses, a note of
// what it becomes where the recipe resizes.
func ImageSize(p *project.Project, r texture.Recipe, source string, w, h int) []finding.Finding {
	rule, game := r.Size, p.Profile.Game.Title
	if rule.Takes(w, h) || r.Shape == texture.Cube {
		return nil
	}
	why := game + " wants powers of two"
	if rule.Largest > 0 && max(w, h) > rule.Largest {
		why = fmt.Sprintf("%s takes at most %d a side", game, rule.Largest)
	}
	place, size := fault.Place{File: source}, image.Point{}
	if rule.How == "refuse" || rule.How == "" {
		size, _ = rule.Fit(w, h)
		return []finding.Finding{finding.TextureSize.At(place, "the image has %d x %d texels; %s", w, h, why).
			Doing("Resize it to %d x %d, or add size = \"nearest\" to its recipe under [[texture]].", size.X, size.Y)}
	}
	size, filled := rule.Fit(w, h)
	f := finding.TextureResized.At(place, "the image has %d x %d texels, and %s: it becomes %d x %d", w, h, why, size.X,
		size.Y)
	switch {
	case filled != size:
		f.Text += fmt.Sprintf(", of which it fills %d x %d and its edge the rest", filled.X, filled.Y)
	case w*size.Y != h*size.X:
		stretch := float64(w*size.Y) / float64(h*size.X)
		f.Text += fmt.Sprintf(", stretched by %.0f %% %s", 100*(max(stretch, 1/stretch)-1),
			map[bool]string{true: "down", false: "across"}[stretch > 1])
		f = f.Doing("Paint the image in that size when it matters, or add aspect = \"keep\" to its recipe.")
	}
	return []finding.Finding{f}
}

// paths holds the names of what ships to the game's rules, and to what every system can hold.
func paths(p *project.Project, shipped []*assetgraph.Asset) []finding.Finding {
	var list []finding.Finding
	folded := map[string]*assetgraph.Asset{}
	for _, a := range shipped {
		out := assetgraph.GamePath(p, a)
		place := fault.Place{File: a.Source}
		if err := safefile.CheckForeign(out); err != nil {
			list = append(list, finding.PathChars.At(place, "%v", err))
		}
		list = append(list, p.Profile.CheckPath(a.Source, out)...)
		if other := folded[zipfile.Fold(out)]; other != nil {
			list = append(list,
				finding.AssetTwin.At(place,
					"%s differs from %s in capitals or accents only, and they are one file on some systems", a.Source,
					other.Source))
		}
		folded[zipfile.Fold(out)] = a
	}
	return list
}

// unused finds assets that no map needs. pictures are images that are needed outside the game.
func unused(g *assetgraph.Graph, pictures []string) (list []finding.Finding) {
	for _, a := range assetgraph.Unused(g, pictures) {
		list = append(list, finding.AssetUnused.At(fault.Place{File: a.Source}, "no map needs this %s", a.Kind))
	}
	return list
}

// strays finds what editors, systems and earlier releases left behind.
func strays(p *project.Project, g *assetgraph.Graph) (list []finding.Finding) {
	for _, f := range g.Files {
		if rule, what := sweep.Stray(f.Path, path.Ext(p.Profile.Pack.Name)); rule != "" {
			list = append(list, finding.FileStray.At(fault.Place{File: f.Path}, "this looks like %s", what))
		}
	}
	return list
}

// versionOrder finds a version that comes before one that was released.
func versionOrder(p *project.Project) (*finding.Finding, error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	now, last := p.File.Project.Version, ""
	for _, e := range events {
		if e.Kind == ledger.Released && (last == "" || semver.Compare(e.Version, last) > 0) {
			last = e.Version
		}
	}
	if last == "" || semver.Compare(now, last) >= 0 {
		return nil, nil
	}
	f := finding.AddonVersion.At(p.Doc.At("project", "version"), "version %s comes before %s, which was released", now,
		last).Doing("The next one is %s.", semver.Next(last))
	return &f, nil
}
