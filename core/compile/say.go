package compile

import (
	"context"
	"fmt"
	"math"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// say adds the findings that need the compiled surface: leaks, hidden solids, and neighbours with
// very different texture density.
func (r *Result) say(ctx context.Context, m *scene.Map, o Options, surface *csg.Result, tree *bsp.Tree) error {
	for _, i := range surface.Hidden {
		s := &m.Solids[i]
		r.Findings = append(r.Findings,
			finding.SolidHidden.At(s.Place, "nothing can be seen of solid %q: it lies wholly in others", s.Name))
	}
	r.density(m, o, surface)
	f, way, err := leak(ctx, m, tree)
	if f != nil {
		r.Leak, r.Findings = way, append(r.Findings, *f)
	}
	return err
}

// Leak looks for a way out of a map that should be sealed, without compiling the rest of it; nil for none.
func Leak(ctx context.Context, m *scene.Map, seeThrough func(material string) bool) (*finding.Finding, error) {
	if !m.Sealed {
		return nil, nil
	}
	surface, err := csg.Build(ctx, m,
		csg.Options{Size: func(string) float64 { return 1 }, Fit: func(string) [2]float64 { return [2]float64{1, 1} },
			SeeThrough: seeThrough})
	if err != nil {
		return nil, err
	}
	tree, err := bsp.Build(ctx, m, surface.Faces, seeThrough)
	if err != nil {
		return nil, err
	}
	f, _, err := leak(ctx, m, tree)
	return f, err
}

func leak(ctx context.Context, m *scene.Map, tree *bsp.Tree) (*finding.Finding, []geom.Vec, error) {
	if !m.Sealed {
		return nil, nil, nil
	}
	openings, err := tree.Openings(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	type start struct {
		what  string
		place fault.Place
	}
	var starts []start
	var points []geom.Vec
	add := func(what, name string, at geom.Vec, place fault.Place) {
		starts = append(starts, start{what + " " + name, place})
		points = append(points, at.Add(geom.Vec{Z: 0.1})) // what stands on a floor is above it
	}
	for _, s := range m.Spawns {
		add("spawn", s.Name, s.At, s.Place)
	}
	for _, it := range m.Items {
		add("item", it.Kind, it.At, it.Place)
	}
	for _, l := range m.Lights {
		add("light", l.Name, l.At, l.Place)
	}
	from, way := tree.Leak(openings, points)
	if way == nil {
		return nil, nil, nil
	}
	text := ""
	for i, p := range way {
		if i > 0 {
			text += " > "
		}
		if i == 4 && len(way) > 6 {
			text += fmt.Sprintf("(%d more) > %s", len(way)-5, point(way[len(way)-1]))
			break
		}
		text += point(p)
	}
	f := finding.MapLeak.At(starts[from].place, "the map is not sealed: a way leads outside from %s by %s",
		starts[from].what, text)
	return &f, way, nil
}

func point(p geom.Vec) string {
	r := func(f float64) float64 { return math.Round(f*100)/100 + 0 }
	return fmt.Sprintf("%g,%g,%g", r(p.X), r(p.Y), r(p.Z))
}

// density finds neighbours one of which is much sharper. Each pair of materials is said once.
func (r *Result) density(m *scene.Map, o Options, surface *csg.Result) {
	if o.DensityRatio <= 0 || o.Texels == nil {
		return
	}
	sharpness := make([]float64, len(surface.Faces))
	at := map[[2]geom.Vec]int{}
	for i, f := range surface.Faces {
		sharpness[i] = f.Repeats() * o.Texels(f.Of.Material.Name)
		for k, a := range f.Polygon {
			at[[2]geom.Vec{a, f.Polygon[(k+1)%len(f.Polygon)]}] = i
		}
	}
	type couple struct{ a, b string }
	said := map[couple]bool{}
	for i, f := range surface.Faces {
		for k, a := range f.Polygon {
			j, ok := at[[2]geom.Vec{f.Polygon[(k+1)%len(f.Polygon)], a}]
			if !ok || sharpness[i] <= 0 || sharpness[j] <= 0 {
				continue
			}
			ratio := sharpness[i] / sharpness[j]
			g := surface.Faces[j]
			pair := couple{f.Of.Material.Name, g.Of.Material.Name}
			if ratio > o.DensityRatio && !said[pair] {
				said[pair] = true
				said[couple{pair.b, pair.a}] = true
				place := g.Of.Material.Place
				r.Findings = append(r.Findings,
					finding.DensityJump.At(place,
						"%s has %.0f texels a metre on solid %q and its neighbour %s %.0f on %q: %.0f times as many",
						pair.b, sharpness[j], m.Solids[g.Solid].Name, pair.a, sharpness[i], m.Solids[f.Solid].Name,
						ratio))
			}
		}
	}
}
