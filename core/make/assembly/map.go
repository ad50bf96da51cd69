package assembly

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/config/profile"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
	"vornix/core/format/texture"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
)

// mapRules is what of a project decides how a map compiles, besides its source.
type mapRules struct {
	Versions string // of the compiler's stages
	Sizes    map[string]float64
	Fits     map[string][2]float64
	Through  map[string]bool
	Texels   map[string]float64
	Ratio    float64
	Luxels   map[string]float64
	Looks    map[string]lookRule
	Passing  []string // materials that stop nobody
	Cubes    texture.Format
	Agents   []mapfile.Agent
	Targets  []string // items that every spawn must have a way to
	Stages   []string // nil: all
	Draft    bool
}

// rules are those for a map that needs these assets.
func (pl *planner) rules(assets []*assetgraph.Asset) mapRules {
	r := mapRules{Versions: compile.Versions, Sizes: map[string]float64{}, Fits: map[string][2]float64{},
		Through: map[string]bool{}, Texels: map[string]float64{}, Luxels: map[string]float64{},
		Looks: map[string]lookRule{}, Stages: pl.stages.Only, Draft: pl.stages.Draft,
		Ratio: pl.p.Profile.Map.SharpestRatio}
	fits := slices.ContainsFunc(assets, func(a *assetgraph.Asset) bool { return a.Scene != nil && a.Scene.Fits() })
	r.Cubes = texture.RGBA16F
	if slices.Contains(pl.p.Profile.Textures.FormatList(), texture.BC6H) {
		r.Cubes = texture.BC6H
	}
	r.Agents, r.Targets = agents(pl.p.Profile), pl.p.Profile.Map.Required
	for _, a := range assets {
		if a.Kind != assetgraph.Material || a.Material == nil {
			continue
		}
		if a.Material.Solid != nil && !*a.Material.Solid {
			r.Passing = append(r.Passing, a.Name)
		}
		if a.Material.Luxels != nil {
			r.Luxels[a.Name] = *a.Material.Luxels
		}
		r.Looks[a.Name] = pl.lookRule(a)
		size, given := a.Material.Metres()
		r.Sizes[a.Name] = size
		r.Through[a.Name] = a.Material.SeeThrough != "" && a.Material.SeeThrough != "no"
		w, h := 0, 0
		if t := pl.g.Find(assetgraph.Texture, a.Material.Colour); t != nil && len(t.Images) > 0 &&
			(r.Ratio > 0 || fits && !given) {
			w, h = pl.imageSize(t)
		}
		if r.Ratio > 0 {
			r.Texels[a.Name] = float64(w)
		}
		if fits {
			r.Fits[a.Name] = [2]float64{size, size}
			if density := pl.p.Profile.Textures.Density; !given && w > 0 {
				r.Fits[a.Name] = [2]float64{float64(w) / density, float64(h) / density}
			}
		}
	}
	return r
}

// agents are who walks in a game.
func agents(p *profile.Profile) []mapfile.Agent {
	var list []mapfile.Agent
	for _, name := range slices.Sorted(maps.Keys(p.Map.Agents)) {
		a := p.Map.Agents[name]
		list = append(list,
			mapfile.Agent{Name: name, Radius: float32(a.Radius), Height: float32(a.Height), Step: float32(a.Step),
				Slope: float32(a.Slope), Drop: float32(a.Drop), Jump: float32(a.Jump)})
	}
	return list
}

// options are the rules as the compiler takes them.
func (r mapRules) options(models map[string]*model.Model) compile.Options {
	size := func(name string) float64 { return cmp.Or(r.Sizes[name], 1) } // a broken material fails in its own job
	return compile.Options{MaterialSize: size, FitSize: func(name string) [2]float64 {
		if fit, ok := r.Fits[name]; ok {
			return fit
		}
		return [2]float64{size(name), size(name)}
	}, SeeThrough: func(name string) bool { return r.Through[name] },
		Texels: func(name string) float64 { return r.Texels[name] }, DensityRatio: r.Ratio, Models: models}
}

func (pl *planner) compileMap(a *assetgraph.Asset) {
	out := pl.p.Profile.MapPath(a.Name)
	if a.Scene == nil {
		list := pl.mapErrors(a)
		pl.add(&taskgraph.Job{ID: "map " + a.Name, Step: "map", Version: compile.Version, Inputs: []string{a.Source},
			Outputs: []string{out}, Recipe: recipe(list),
			Run: func(context.Context, *taskgraph.Task) error {
				return &finding.Failure{What: "the map " + a.Name + " can't be compiled", Findings: list}
			}})
		return
	}
	inputs := append([]string{a.Source}, a.Parts...)
	models := map[string]string{}
	needed := assetgraph.Closure(a)
	for _, n := range needed {
		if n.Kind == assetgraph.Model &&
			slices.ContainsFunc(a.Scene.Props, func(p scene.Prop) bool { return p.Model.Name == n.Name }) {
			models[n.Name] = n.Source
			inputs = append(inputs, n.Source)
		}
	}
	rules := pl.rules(needed)
	for _, look := range rules.Looks {
		for _, t := range []*lookTexture{look.Colour, look.Emission} {
			if t != nil {
				inputs = append(inputs, t.Files...)
				for _, f := range t.Files {
					pl.seen["map "+a.Name+"\n"+f] = true
				}
			}
		}
	}
	slices.Sort(inputs)
	inputs = slices.Compact(inputs)
	w := &mapWork{Name: a.Name, Source: a.Source, Out: out, Models: models, Rules: rules, Missing: pl.missing(a)}
	j := &taskgraph.Job{ID: "map " + a.Name, Step: "map", Version: compile.Version, Inputs: inputs,
		Outputs: []string{out}, Splits: true}
	pl.work(j, w)
}

// mapWork is what compiling a map takes besides its inputs.
type mapWork struct {
	Name, Source, Out string
	Models            map[string]string // sources, by name
	Rules             mapRules
	Missing           []finding.Finding // a map that failed for a missing material is tried again when it is there
}

func (w *mapWork) decides() any {
	return struct {
		Rules   mapRules
		Missing []finding.Finding
	}{w.Rules, w.Missing}
}

func (w *mapWork) run(ctx context.Context, t *taskgraph.Task, b *resources) error {
	data, err := t.Input(w.Source)
	if err != nil {
		return err
	}
	m, list := maplang.Read(w.Source, data, maplang.Options{Open: t.Input})
	list = append(list, w.Missing...)
	props := map[string]*model.Model{}
	for _, name := range slices.Sorted(maps.Keys(w.Models)) {
		data, err := t.Input(w.Models[name])
		if err != nil {
			return err
		}
		var found []finding.Finding
		props[name], found = model.Read(w.Models[name], name, data, nil)
		list = append(list, found...)
	}
	if finding.Count(list, finding.Error) > 0 {
		return &finding.Failure{What: "the map " + w.Name + " can't be compiled", Findings: list}
	}
	options := w.Rules.options(props)
	options.Long = w.Rules.long(t.Input, b.env(t, w.Rules.Stages, w.Rules.Draft))
	compiled, err := compile.Compile(ctx, m, options)
	if err != nil {
		return err
	}
	t.Find(list...)
	t.Find(compiled.Findings...)
	if finding.Count(compiled.Findings, finding.Error) > 0 {
		return &finding.Failure{What: "the map " + w.Name + " is not right", Findings: compiled.Findings}
	}
	file, err := mapfile.Encode(compiled.Map)
	if err != nil {
		return err
	}
	return t.Write(w.Out, file)
}

// mapErrors are the errors found in a map's source and in the files that it is made of.
func (pl *planner) mapErrors(a *assetgraph.Asset) []finding.Finding {
	list := pl.about(a.Source)
	for _, part := range a.Parts {
		list = append(list, pl.about(part)...)
	}
	return list
}
