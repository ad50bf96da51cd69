// Package check holds a project to its game's rules before anything is built: names, maps, materials, images, stray
// files. Each rule is a function here and each thing it can say a kind in package finding.
package check

import (
	"context"
	"fmt"
	"os"
	"path"
	"runtime"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sync/errgroup"

	"vornix/core/addon"
	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/needs"
	"vornix/core/project"
	"vornix/core/safefile"
	"vornix/core/texture"
)

// Run checks everything and returns all findings, sorted; Accept marks those that the project accepts.
func Run(ctx context.Context, p *project.Project, g *needs.Graph) ([]finding.Finding, error) {
	list := append([]finding.Finding{}, g.Findings...)
	for _, a := range g.Of(needs.Map) {
		if a.Scene != nil {
			list = append(list, Map(p.Profile, a.Scene, a.Source)...)
		}
	}
	for _, a := range g.Of(needs.Material) {
		if a.Material != nil {
			list = append(list, a.Material.CheckSurface(p.Profile.Materials.Surfaces)...)
		}
	}
	shipped := needs.Closure(g.Of(needs.Map)...)
	images, err := checkImages(ctx, p, shipped)
	if err != nil {
		return nil, err
	}
	list = append(list, images...)
	list = append(list, paths(p, shipped)...)
	list = append(list, unused(g, shipped)...)
	list = append(list, strays(p, g)...)
	_, metadata := addon.Make(p, g)
	list = append(list, metadata...)
	finding.Sort(list)
	return list, nil
}

// Accept marks what the project accepts, and reports acceptances that match nothing. built says that the build has had
// its say too. While a map can't be read nobody knows what would be found in it, so no acceptance is called unused.
func Accept(p *project.Project, g *needs.Graph, list []finding.Finding, built bool) []finding.Finding {
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
func checkImages(ctx context.Context, p *project.Project, shipped []*needs.Asset) ([]finding.Finding, error) {
	results := make([][]finding.Finding, len(shipped))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range shipped {
		if a.Kind != needs.Texture {
			continue
		}
		group.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			data, err := os.ReadFile(p.Join(a.Source))
			if err == nil {
				var w, h int
				if w, h, err = texture.Probe(data); err == nil {
					results[i] = ImageSize(p, a.Source, w, h)
				}
			}
			if err != nil {
				results[i] = []finding.Finding{finding.TextureDecode.At(fault.Place{File: a.Source}, "%v", err)}
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var list []finding.Finding
	for _, r := range results {
		list = append(list, r...)
	}
	return list, nil
}

// ImageSize holds an image's size to the game's rule: an error where the recipe refuses, a note of what it becomes where
// the recipe resizes.
func ImageSize(p *project.Project, source string, w, h int) []finding.Finding {
	rules, game := p.Profile.Textures, p.Profile.Game.Title
	why := ""
	switch {
	case rules.Largest > 0 && max(w, h) > rules.Largest:
		why = fmt.Sprintf("%s takes at most %d a side", game, rules.Largest)
	case rules.PowerOfTwo && (w&(w-1) != 0 || h&(h-1) != 0):
		why = game + " wants powers of two"
	default:
		return nil
	}
	place, how := fault.Place{File: source}, p.TextureRecipe(source).Size
	if how != "refuse" {
		nw, nh := rules.FitSize(w, h, how)
		return []finding.Finding{finding.TextureResized.At(place, "the image has %d x %d texels, and %s: it becomes %d x %d", w, h, why, nw, nh)}
	}
	nw, nh := rules.FitSize(w, h, "nearest")
	return []finding.Finding{finding.TextureSize.At(place, "the image has %d x %d texels; %s", w, h, why).
		Doing("Resize it to %d x %d, or add size = \"nearest\" to its recipe under [[texture]].", nw, nh)}
}

// paths holds the names of what ships to the game's rules, and to what every system can hold.
func paths(p *project.Project, shipped []*needs.Asset) []finding.Finding {
	var list []finding.Finding
	folded := map[string]*needs.Asset{}
	for _, a := range shipped {
		out := GamePath(p, a)
		place := fault.Place{File: a.Source}
		if err := safefile.CheckPath(out); err != nil {
			list = append(list, finding.PathChars.At(place, "%v", err))
		}
		list = append(list, p.Profile.CheckPath(a.Source, out)...)
		if other := folded[strings.ToLower(out)]; other != nil {
			list = append(list, finding.AssetTwin.At(place, "%s differs from %s in capitals only, and they are one file on some systems", a.Source, other.Source))
		}
		folded[strings.ToLower(out)] = a
	}
	return list
}

// GamePath is where an asset lies in the game.
func GamePath(p *project.Project, a *needs.Asset) string {
	switch a.Kind {
	case needs.Map:
		return p.Profile.MapPath(a.Name)
	case needs.Material:
		return p.Profile.MaterialPath(a.Name)
	case needs.Texture:
		return p.Profile.TexturePath(a.Name)
	default:
		return p.Profile.SoundPath(a.Name)
	}
}

func unused(g *needs.Graph, shipped []*needs.Asset) []finding.Finding {
	if !g.Complete() {
		return nil // what a broken map needs is not known, so nothing can be called unused
	}
	used := map[*needs.Asset]bool{}
	for _, a := range shipped {
		used[a] = true
	}
	var list []finding.Finding
	for _, a := range g.Assets {
		if !used[a] {
			list = append(list, finding.AssetUnused.At(fault.Place{File: a.Source}, "no map needs this %s", a.Kind))
		}
	}
	return list
}

// strayPatterns are names of files that editors, systems and earlier releases leave behind.
var strayPatterns = []struct{ pattern, what string }{
	{"*~", "an editor's backup"}, {"*.bak", "a backup"}, {"*.orig", "a backup"}, {"*.old", "a backup"}, {"#*#", "an editor's backup"},
	{"*.tmp", "a temporary file"}, {"*.log", "a log"}, {"*.swp", "an editor's swap file"},
	{"thumbs.db", "the system's thumbnails"}, {"desktop.ini", "the system's folder settings"},
	{"*.zip", "an archive"}, {"* copy.*", "a copy"}, {"copy of *", "a copy"},
}

func strays(p *project.Project, g *needs.Graph) []finding.Finding {
	var list []finding.Finding
	bundleEnding := path.Ext(p.Profile.Pack.Name)
	for _, f := range g.Files {
		name := strings.ToLower(path.Base(f.Path))
		what := ""
		for _, s := range strayPatterns {
			if ok, _ := doublestar.Match(s.pattern, name); ok {
				what = s.what
				break
			}
		}
		if what == "" && path.Ext(name) == bundleEnding {
			what = "an old bundle or compiled map"
		}
		if what != "" {
			list = append(list, finding.FileStray.At(fault.Place{File: f.Path}, "this looks like %s", what))
		}
	}
	return list
}
