package compile

import (
	"context"
	"errors"
	"slices"
	"time"

	"vornix/core/base/finding"
	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/compile/lightmap"
	"vornix/core/compile/navmesh"
	"vornix/core/compile/radiance"
	"vornix/core/compile/reflections"
	"vornix/core/compile/stage"
	"vornix/core/compile/visibility"
	"vornix/core/format/mapfile"
	"vornix/core/format/texture"
	"vornix/core/source/scene"
)

// Long says how the long stages are run.
type Long struct {
	stage.Env
	// Looks says how a material looks to light; nil: all are plain.
	Looks func(material string) radiance.Appearance
	// Luxels gives the luxels a metre that a material asks for, 0 for none; nil: none does.
	Luxels func(material string) float64
	// Agents are who walks in the game; none: one of a usual size.
	Agents []mapfile.Agent
	// Passes says which materials stop nobody; nil: none.
	Passes func(material string) bool
	// Cubes is the format of what probes see.
	Cubes texture.Format
	// Targets are the kinds of items that every spawn must have a way to.
	Targets []string
}

// texels is the most of a material's image, along a side, that light sees.
const texels = 256

// paints are the looks of a map's materials, made ready once, and a hash of all that they do to light.
func (l *Long) paints(materials []string) (of func(material string) *radiance.Painted, key string) {
	made := map[string]*radiance.Painted{}
	var parts []any
	for _, name := range slices.Sorted(slices.Values(materials)) {
		look, density := radiance.Appearance{}, 0.0
		if l.Looks != nil {
			look = l.Looks(name)
		}
		if l.Luxels != nil {
			density = l.Luxels(name)
		}
		made[name] = radiance.Paint(look, texels)
		parts = append(parts, name, made[name].Sum(), density)
	}
	return func(material string) *radiance.Painted { return made[material] }, stage.Key(parts...)
}

// long runs the long stages.
func (r *Result) long(ctx context.Context, m *scene.Map, l *Long, surface *csg.Result, tree *bsp.Tree) error {
	out := r.Map
	r.Stats = map[string]int64{}
	r.buried(m)
	r.distant(m)
	mark := time.Now()
	done := func(name string) {
		if l.Took != nil {
			l.Took(name, time.Since(mark))
		}
		mark = time.Now()
		if out.Meta.Stages == nil {
			out.Meta.Stages = map[string]string{}
		}
		out.Meta.Stages[name] = l.How()
	}
	var sky *scene.Picture
	var picture *radiance.Picture
	if m.Sky != nil && l.Runs(stage.Lighting) {
		var err error
		sky = m.Sky.Image
		if picture, err = radiance.Load(sky); err != nil {
			r.Findings = append(r.Findings,
				finding.MapFile.At(m.Sky.Place, "the image %s can't be used as a sky: %v", sky.Name, err))
			return nil
		}
	}
	lightKey := lightmap.Key(out)
	var looks func(material string) *radiance.Painted
	lookKey := ""
	if l.Runs(stage.Lighting) {
		looks, lookKey = l.paints(out.Materials())
	}
	if l.Runs(stage.Visibility) && len(tree.Nodes) > 0 {
		seen, err := visibility.Build(ctx, &l.Env, tree, surface.Faces, out)
		if err != nil {
			return err
		}
		r.Stats["cells"], r.Stats["portals"], r.Stats["open"] = int64(seen.Cells), int64(seen.Portals), int64(seen.Open)
		done(stage.Visibility)
	}
	if l.Runs(stage.Lighting) && r.lightable(m, looks) {
		key := stage.Key(lightKey, lookKey, sky)
		s := radiance.New(out, looks, picture)
		var unseen []bool
		if m.Sealed {
			var err error
			if unseen, err = visibility.Unseen(ctx, tree, surface.Faces); err != nil {
				return err
			}
		}
		lit, err := lightmap.Build(ctx, &l.Env, out, s, lightmap.Options{Density: l.Luxels, Unseen: unseen, Key: key})
		var large *lightmap.TooLarge
		switch {
		case errors.As(err, &large):
			r.Findings = append(r.Findings, finding.StageMemory.At(m.Place, "%v", err))
			return nil
		case err != nil:
			return err
		}
		for _, i := range lit.Coarser {
			s := &m.Solids[out.Faces[i].Solid]
			r.Findings = append(r.Findings,
				finding.LightCoarse.At(s.Place, "a face of solid %q is too large for the luxels that it should have",
					s.Name))
		}
		r.Stats["luxels"], r.Stats["rays"], r.Stats["bounces"] = int64(lit.Luxels), lit.Rays, int64(lit.Bounces)
		done(stage.Lighting)
	}
	if l.Runs(stage.Lighting) && len(out.Grids) > 0 {
		if err := lightmap.Tiles(ctx, &l.Env, out); err != nil {
			return err
		}
		done(stage.Lighting)
	}
	if l.Runs(stage.Reflections) && out.Meta.Stages[stage.Lighting] != "" && len(m.Solids)+len(m.Terrains) > 0 {
		all := radiance.New(out, looks, picture)
		all.Lit = radiance.LitOf(out)
		made, err := reflections.Build(ctx, &l.Env, out, all,
			reflections.Options{Format: l.Cubes, Key: stage.Key(lightKey, lookKey, sky, l.How(), lightmap.Version)})
		if err != nil {
			return err
		}
		for _, i := range made.Buried {
			p := m.Probes[i-first(out, "probe")]
			r.Findings = append(r.Findings, finding.ProbeBuried.At(p.Place, "the probe %q lies in a solid", p.Name))
		}
		done(stage.Reflections)
	}
	if l.Runs(stage.Navigation) {
		if err := r.navigation(ctx, m, l, lightKey); err != nil {
			return err
		}
		done(stage.Navigation)
		r.reach(m, l.Targets)
	}
	return nil
}

// first is the number of the first object of a kind; objects of one kind stand together.
func first(m *mapfile.Map, kind string) int {
	return slices.IndexFunc(m.Objects, func(o mapfile.Object) bool { return o.Kind == kind })
}

// navigation finds the ground of solids and of grids.
func (r *Result) navigation(ctx context.Context, m *scene.Map, l *Long, key string) error {
	out := r.Map
	if len(out.Grids) > 0 {
		costs := map[rune]float64{}
		for _, t := range m.Legend {
			costs[t.Symbol] = t.Cost
		}
		navmesh.Tiles(out, func(symbol rune) float64 { return costs[symbol] })
	}
	if len(m.Solids)+len(m.Terrains) == 0 {
		return nil
	}
	var passing []string
	for _, name := range out.Materials() {
		if l.Passes != nil && l.Passes(name) {
			passing = append(passing, name)
		}
	}
	err := navmesh.Build(ctx, &l.Env, out,
		navmesh.Options{Agents: l.Agents, Passes: l.Passes, Key: stage.Key(key, passing)})
	var large *navmesh.TooLarge
	if errors.As(err, &large) {
		r.Findings = append(r.Findings, finding.StageMemory.At(m.Place, "%v", err))
		return nil
	}
	for _, n := range out.Navigation {
		r.Stats["polygons"] += int64(len(n.Polygons))
		r.Stats["links"] += int64(len(n.Links))
	}
	return err
}

// maxLights is how many lights a map may have.
const maxLights = 20000

// lightable says whether there is light, and not too much of it, and says so if not.
func (r *Result) lightable(m *scene.Map, looks func(material string) *radiance.Painted) bool {
	if len(m.Solids)+len(m.Terrains) == 0 {
		return false
	}
	if n := len(m.Lights); n > maxLights {
		r.Findings = append(r.Findings,
			finding.LightMany.At(m.Lights[maxLights].Place, "the map has %d lights; at most %d are taken", n,
				maxLights))
		return false
	}
	if m.Sky == nil && len(m.Lights) == 0 &&
		!slices.ContainsFunc(r.Map.Materials(), func(name string) bool { return looks(name).Glows() }) {
		r.Findings = append(r.Findings,
			finding.MapDark.At(m.Place, "the map has neither a sky nor lights nor surfaces that glow"))
		return false
	}
	return true
}
