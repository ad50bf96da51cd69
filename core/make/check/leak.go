package check

import (
	"context"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
)

// leaks looks for ways out of the maps that should be sealed.
func leaks(ctx context.Context, g *assetgraph.Graph) (list []finding.Finding, err error) {
	for _, a := range g.Of(assetgraph.Map) {
		if a.Scene == nil || !a.Scene.Sealed {
			continue
		}
		f, err := compile.Leak(ctx, a.Scene, func(name string) bool {
			m := g.Find(assetgraph.Material, name)
			return m != nil && m.Material != nil && m.Material.SeeThrough != "" && m.Material.SeeThrough != "no"
		})
		if err != nil {
			return nil, err
		}
		if f != nil {
			list = append(list, *f)
		}
	}
	return list, nil
}

// recipes names the recipes for textures that match no image.
func recipes(p *project.Project, g *assetgraph.Graph) (list []finding.Finding) {
	for i := range p.File.Textures {
		r := &p.File.Textures[i]
		used := false
		for _, a := range g.Of(assetgraph.Texture) {
			for _, image := range append([]string{a.Source}, a.Images...) {
				rel, ok := project.Below(p.File.Sources.Textures, image)
				if match, _ := doublestar.Match(r.Match, rel); ok && match {
					used = true
				}
			}
		}
		if !used && g.Complete() {
			list = append(list,
				finding.TextureRecipe.At(p.Doc.At("texture", i, "match"), "no image matches %q", r.Match))
		}
	}
	return list
}
