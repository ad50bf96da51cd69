// Package assembly turns a project into jobs and runs them: maps, materials, textures, sounds and
// metadata become out/tree, the exact files that ship, at the paths the game sees.
package assembly

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/make/metadata"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
)

// Versions of the steps; each is raised when the step would make other bytes of the same inputs.
const (
	materialVersion = 2
	spriteVersion   = 1
	copyVersion     = 1
	textVersion     = 1
	metadataVersion = 1
)

// planner collects jobs.
type planner struct {
	p    *project.Project
	g    *assetgraph.Graph
	jobs []*taskgraph.Job
	maps map[string][]string // by output: the maps that need it
	// sizes are those of textures' first images, once they were asked for.
	sizes     map[*assetgraph.Asset][2]int
	stages    Stages
	resources *resources
	// seen are images that a map is not made of, but whose colours fall on it: ID of the job, line end, file.
	seen   map[string]bool
	inside []metadata.File // metadata files that belong inside bundles
}

func newPlanner(p *project.Project, g *assetgraph.Graph, workers int, stages Stages) *planner {
	return &planner{p: p, g: g, stages: stages, seen: map[string]bool{}, maps: map[string][]string{},
		sizes: map[*assetgraph.Asset][2]int{}, resources: newResources(workers, stages)}
}

// plan makes the jobs for everything that ships.
func plan(p *project.Project, g *assetgraph.Graph, pictures *shots.Plan, o Options) *planner {
	pl := newPlanner(p, g, o.Workers, o.Stages)
	if o.Studio != nil {
		pl.resources.scenes = o.Studio
	}
	for _, m := range g.Of(assetgraph.Map) {
		for _, a := range assetgraph.Closure(m) {
			out := assetgraph.GamePath(p, a)
			pl.maps[out] = append(pl.maps[out], m.Name)
			for n := range spritePages(a) {
				out := p.Profile.SpritePagePath(sprite.PageName(a.Name, n))
				pl.maps[out] = append(pl.maps[out], m.Name)
			}
		}
	}
	for _, a := range assetgraph.Closure(g.Roots()...) {
		switch a.Kind {
		case assetgraph.Map:
			pl.compileMap(a)
		case assetgraph.Material:
			pl.material(a)
		case assetgraph.Texture:
			pl.texture(a)
		case assetgraph.Sound:
			pl.copy("sound", a.Source, assetgraph.GamePath(p, a))
		case assetgraph.Sprite:
			pl.sprite(a)
		case assetgraph.Model:
			if assetgraph.Ships(p, a) {
				pl.copy("model", a.Source, p.Profile.ModelPath(a.Name), pl.about(a.Source)...)
			}
		default:
			pl.content(a)
		}
	}
	pl.pictures(pictures, true)
	pl.included()
	pl.metadata()
	pl.resources.own, pl.resources.scratch = o.Own, p.State()
	pl.own(o.Own)
	return pl
}

func (pl *planner) add(j *taskgraph.Job) { pl.jobs = append(pl.jobs, j) }

// work adds a job that is done by a piece of work.
func (pl *planner) work(j *taskgraph.Job, w work) {
	j.Recipe, j.Work = recipe(w.decides()), recipe(w)
	j.Run = func(ctx context.Context, t *taskgraph.Task) error { return w.run(ctx, t, pl.resources) }
	pl.add(j)
}

// recipe hashes with the job: any change of these values makes it run again.
func recipe(v any) []byte {
	b, _ := json.Marshal(v) // only called with plain structs
	return b
}

// about are the errors found in a file.
func (pl *planner) about(file string) []finding.Finding {
	var list []finding.Finding
	for _, f := range pl.g.Findings {
		if f.Place.File == file && f.Severity == finding.Error {
			list = append(list, f)
		}
	}
	return list
}

// missing are the findings about what an asset names and nobody has.
func (pl *planner) missing(a *assetgraph.Asset) []finding.Finding {
	var list []finding.Finding
	for _, f := range pl.g.Findings {
		switch f.ID {
		case finding.MaterialMissing.ID, finding.TextureMissing.ID, finding.SoundMissing.ID, finding.SpriteMissing.ID,
			finding.SpriteState.ID, finding.ModelMissing.ID,
			finding.RefEnding.ID, finding.RefAbsolute.ID, finding.RefCase.ID, finding.RefForm.ID,
			finding.MaterialKind.ID:
			if f.Place.File == a.Source || slices.Contains(a.Chain, f.Place.File) || a.Kind == assetgraph.Map &&
				slices.Contains(a.Parts, f.Place.File) {
				list = append(list, f)
			}
		}
	}
	return list
}

func (pl *planner) material(a *assetgraph.Asset) {
	prof := pl.p.Profile
	out := prof.MaterialPath(a.Name)
	missing := pl.missing(a)
	inputs := a.Chain
	if a.Material == nil { // broken, or what it inherits from is
		inputs = []string{a.Source}
		missing = pl.about(a.Source)
		if len(missing) == 0 {
			missing = []finding.Finding{finding.MaterialInherits.At(fault.Place{File: a.Source},
				"a material that it inherits from is broken")}
		}
	}
	var footing material.Footing
	if a.Material != nil {
		footing = material.Footing(prof.Materials.Footing[a.Material.Surface])
	}
	pl.add(&taskgraph.Job{
		ID: "material " + a.Name, Step: "material", Version: materialVersion, Inputs: inputs, Outputs: []string{out},
		Recipe: recipe(struct {
			Textures, Container string
			Footing             material.Footing
			Surfaces            []string
			Missing             []finding.Finding
		}{prof.Files.Textures, prof.Textures.Container, footing, prof.Materials.Surfaces, missing}),
		Run: func(ctx context.Context, t *taskgraph.Task) error {
			list := slices.Clone(missing)
			var chain []*material.Material
			for _, file := range inputs {
				data, err := t.Input(file)
				if err != nil {
					return err
				}
				m, found := material.Parse(file, data)
				chain, list = append(chain, m), append(list, found...)
			}
			var m *material.Material
			if finding.Count(list, finding.Error) == 0 {
				m = material.Resolve(chain)
				list = append(list, m.Check(prof.Materials.Surfaces)...)
			}
			if finding.Count(list, finding.Error) > 0 {
				return &finding.Failure{What: "the material " + a.Name + " can't be used", Findings: list}
			}
			compiled, err := m.Compile(prof.TexturePath, footing)
			if err != nil {
				return err
			}
			return t.Write(out, compiled)
		},
	})
}

// copy ships a file as it is, unless it is broken.
func (pl *planner) copy(step, source, out string, broken ...finding.Finding) {
	pl.add(&taskgraph.Job{
		ID: step + " " + source, Step: step, Version: copyVersion, Inputs: []string{source}, Outputs: []string{out},
		Recipe: recipe(broken), LocalOnly: true,
		Run: func(ctx context.Context, t *taskgraph.Task) error {
			if len(broken) > 0 {
				return &finding.Failure{What: "the " + step + " " + source + " can't be used", Findings: broken}
			}
			return t.Copy(ctx, source, out)
		},
	})
}

// content ships a file of one of the profile's contents, written anew where the profile says so.
func (pl *planner) content(a *assetgraph.Asset) {
	out, style := assetgraph.GamePath(pl.p, a), a.Content.Style()
	if !a.Content.Convert {
		pl.copy(a.Content.Name, a.Source, out)
		return
	}
	pl.add(&taskgraph.Job{
		ID: a.Content.Name + " " + a.Source, Step: a.Content.Name, Version: textVersion, Inputs: []string{a.Source},
		Outputs: []string{out}, Recipe: recipe(style),
		Run: func(ctx context.Context, t *taskgraph.Task) error {
			data, err := t.Input(a.Source)
			if err != nil {
				return err
			}
			read, err := charset.Read(data, style.Encoding)
			if err == nil {
				data, err = read.Write(style)
			}
			if err != nil {
				return &finding.Failure{What: "the text " + a.Source + " can't be written for the game",
					Findings: []finding.Finding{finding.TextEncoding.At(fault.Place{File: a.Source}, "%v", err)}}
			}
			return t.Write(out, data)
		},
	})
}

// included copies the files that [pack] include names, at their own paths, but for those that ship anyway.
func (pl *planner) included() {
	var taken []string
	for _, j := range pl.jobs {
		taken = append(taken, j.Inputs...)
		taken = append(taken, j.Outputs...)
	}
	slices.Sort(taken)
	for _, f := range pl.g.Files {
		if f.Path == project.FileName || f.Path == pl.p.ProfilePath || pl.g.Takes(f.Path) {
			continue
		}
		if _, found := slices.BinarySearch(taken, f.Path); found {
			continue
		}
		if pl.p.Included(f.Path) {
			pl.copy("file", f.Path, f.Path)
		}
	}
}

// metadata adds the metadata files that belong inside bundles.
func (pl *planner) metadata() {
	if !pl.g.Complete() {
		return // it would tell of fewer maps than there are
	}
	files, _ := metadata.Make(pl.p, pl.g, metadata.Options{})
	for _, f := range files {
		if f.Place != "inside" {
			continue
		}
		if f.Map != "" {
			pl.maps[f.Path] = []string{f.Map}
		}
		pl.inside = append(pl.inside, f)
		pl.add(&taskgraph.Job{
			ID: "metadata " + f.Path, Step: "metadata", Version: metadataVersion, Recipe: f.Data,
			Outputs: []string{f.Path}, LocalOnly: true,
			Run: func(ctx context.Context, t *taskgraph.Task) error { return t.Write(f.Path, f.Data) },
		})
	}
}

// selectJobs finds the jobs whose sources or outputs the paths name: a file, a folder or a map's name.
func (pl *planner) selectJobs(paths []string) ([]string, error) {
	ids := []string{}
	for _, want := range paths {
		want = path.Clean(strings.ReplaceAll(want, `\`, "/"))
		found := false
		for _, j := range pl.jobs {
			names := append(slices.Clone(j.Inputs), j.Outputs...)
			for _, n := range names {
				if pl.seen[j.ID+"\n"+n] {
					continue // the map only sees it: it is not made of it
				}
				if n == want || strings.HasPrefix(n, want+"/") || j.ID == "map "+want {
					ids = append(ids, j.ID)
					found = true
					break
				}
			}
		}
		if !found {
			return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("nothing that ships is made of %q", want),
				Do: "Name a source, a folder of sources or a map; 'vornix check' lists what no map needs."}
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids), nil
}
