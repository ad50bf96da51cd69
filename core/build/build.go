// Package build turns a project into jobs and runs them: maps, materials, textures, sounds and metadata become out/tree,
// the exact files that ship, at the paths the game sees.
package build

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/addon"
	"vornix/core/check"
	"vornix/core/compile"
	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/job"
	"vornix/core/mapfile"
	"vornix/core/mapsrc"
	"vornix/core/material"
	"vornix/core/needs"
	"vornix/core/project"
	"vornix/core/texture"
)

// Versions of the steps; each is raised when the step would make other bytes of the same inputs.
const (
	materialVersion = 1
	copyVersion     = 1
	metadataVersion = 1
)

// planner collects jobs.
type planner struct {
	p    *project.Project
	g    *needs.Graph
	jobs []*job.Job
	maps map[string][]string // by output: the maps that need it
}

// plan makes the jobs for everything that ships.
func plan(p *project.Project, g *needs.Graph) *planner {
	pl := &planner{p: p, g: g, maps: map[string][]string{}}
	for _, m := range g.Of(needs.Map) {
		for _, a := range needs.Closure(m) {
			out := check.GamePath(p, a)
			pl.maps[out] = append(pl.maps[out], m.Name)
		}
	}
	for _, a := range needs.Closure(g.Of(needs.Map)...) {
		switch a.Kind {
		case needs.Map:
			pl.compileMap(a)
		case needs.Material:
			pl.material(a)
		case needs.Texture:
			pl.texture(a)
		case needs.Sound:
			pl.copy("sound", a.Source, p.Profile.SoundPath(a.Name))
		}
	}
	pl.included()
	pl.metadata()
	return pl
}

func (pl *planner) add(j *job.Job) { pl.jobs = append(pl.jobs, j) }

// recipe hashes with the job: any change of these values makes it run again.
func recipe(v any) []byte {
	b, _ := json.Marshal(v) // only called with plain structs
	return b
}

func (pl *planner) compileMap(a *needs.Asset) {
	inputs := []string{a.Source}
	sizes := map[string]float64{}
	broken := a.Scene == nil
	for _, n := range a.Needs {
		if n.Kind == needs.Material && n.Material != nil {
			sizes[n.Name] = n.Material.Size
		}
	}
	size := func(name string) float64 { return cmp.Or(sizes[name], 1) } // a broken material fails in its own job
	out := pl.p.Profile.MapPath(a.Name)
	missing := pl.missing(a)
	pl.add(&job.Job{
		ID: "map " + a.Name, Step: "map", Version: compile.Version, Inputs: inputs, Outputs: []string{out},
		Recipe: recipe(struct {
			Sizes   map[string]float64
			Missing []finding.Finding // a map that failed for a missing material is tried again when it is there
		}{sizes, missing}),
		Run: func(ctx context.Context, t *job.Task) error {
			data, err := t.Input(a.Source)
			if err != nil {
				return err
			}
			m, list := mapsrc.ReadScene(a.Source, data)
			list = append(list, missing...)
			if broken || finding.Count(list, finding.Error) > 0 {
				return &finding.Failure{What: "the map " + a.Name + " can't be compiled", Findings: list}
			}
			t.Find(list...)
			compiled := compile.Compile(m, compile.Options{MaterialSize: size})
			file, err := mapfile.Encode(compiled)
			if err != nil {
				return err
			}
			return t.Write(out, file)
		},
	})
}

// missing are the findings about what an asset names and nobody has.
func (pl *planner) missing(a *needs.Asset) []finding.Finding {
	var list []finding.Finding
	for _, f := range pl.g.Findings {
		if f.Place.File == a.Source && (f.ID == finding.MaterialMissing.ID || f.ID == finding.TextureMissing.ID || f.ID == finding.SoundMissing.ID) {
			list = append(list, f)
		}
	}
	return list
}

func (pl *planner) material(a *needs.Asset) {
	prof := pl.p.Profile
	out := prof.MaterialPath(a.Name)
	missing := pl.missing(a)
	pl.add(&job.Job{
		ID: "material " + a.Name, Step: "material", Version: materialVersion, Inputs: []string{a.Source}, Outputs: []string{out},
		Recipe: recipe(struct {
			Textures, Container string
			Missing             []finding.Finding
		}{prof.Files.Textures, prof.Textures.Container, missing}),
		Run: func(ctx context.Context, t *job.Task) error {
			data, err := t.Input(a.Source)
			if err != nil {
				return err
			}
			m, list := material.Parse(a.Source, data)
			list = append(list, missing...)
			if finding.Count(list, finding.Error) > 0 {
				return &finding.Failure{What: "the material " + a.Name + " can't be used", Findings: list}
			}
			compiled, err := m.Compile(prof.TexturePath)
			if err != nil {
				return err
			}
			return t.Write(out, compiled)
		},
	})
}

func (pl *planner) texture(a *needs.Asset) {
	p := pl.p
	rules := p.Profile.Textures
	how := p.TextureRecipe(a.Source)
	mips := how.Mips == nil || *how.Mips
	out := p.Profile.TexturePath(a.Name)
	pl.add(&job.Job{
		ID: "texture " + a.Name, Step: "texture", Version: texture.Version, Inputs: []string{a.Source}, Outputs: []string{out},
		Recipe: recipe(struct {
			Format, Space, Size, Container string
			Mips, PowerOfTwo               bool
			Largest                        int
			Allowed                        []string
		}{how.Format, how.ColourSpace, how.Size, rules.Container, mips, rules.PowerOfTwo, rules.Largest, rules.Formats}),
		Run: func(ctx context.Context, t *job.Task) error {
			data, err := t.Input(a.Source)
			if err != nil {
				return err
			}
			fail := func(f ...finding.Finding) error {
				return &finding.Failure{What: "the texture " + a.Name + " can't be made", Findings: f}
			}
			place := fault.Place{File: a.Source}
			img, err := texture.Decode(data)
			if err != nil {
				return fail(finding.TextureDecode.At(place, "%v", err))
			}
			if list := check.ImageSize(p, a.Source, img.Rect.Dx(), img.Rect.Dy()); len(list) > 0 {
				if how.Size == "refuse" {
					return fail(list...)
				}
				t.Find(list...)
				w, h := rules.FitSize(img.Rect.Dx(), img.Rect.Dy(), how.Size)
				img = texture.Resize(img, w, h, how.ColourSpace == "srgb")
			}
			format, list := chooseFormat(how, rules.Formats, texture.Analyse(img), place, p.Profile.Game.Title)
			t.Find(list...)
			if finding.Count(list, finding.Error) > 0 {
				return fail(list...)
			}
			made, err := texture.Compile(ctx, img, texture.Options{Format: format, SRGB: how.ColourSpace == "srgb", Mips: mips})
			if err != nil {
				return err
			}
			file, err := made.Encode(rules.Container)
			if err != nil {
				return err
			}
			return t.Write(out, file)
		},
	})
}

// chooseFormat takes the forced format, or of the game's formats the one that loses least of the image.
func chooseFormat(how project.Recipe, allowed []string, c texture.Content, place fault.Place, game string) (texture.Format, []finding.Finding) {
	srgb := how.ColourSpace == "srgb"
	var formats []texture.Format
	for _, name := range allowed {
		if f, ok := texture.ParseFormat(name); ok {
			formats = append(formats, f)
		}
	}
	f, loss := texture.Choose(c, srgb, formats)
	if how.Format != "auto" {
		f, _ = texture.ParseFormat(how.Format)
		loss = c.LossIn(f)
	}
	switch {
	case !slices.Contains(formats, f):
		return f, []finding.Finding{finding.TextureFormat.At(place, "%s does not take the format %s; it takes %s", game, f, strings.Join(allowed, ", "))}
	case f.HoldsData() && srgb:
		return f, []finding.Finding{finding.TextureFormat.At(place, "the format %s holds data, and the recipe says colours", f).
			Doing("Add colour_space = \"linear\" to the recipe if it is data, or choose another format.")}
	}
	var list []finding.Finding
	add := func(k *finding.Kind, n int, what string) {
		if n == 0 {
			return
		}
		x := k.At(place, "%d of %d texels lose their %s in %s", n, c.Texels, what, f)
		if how.Format == "auto" {
			x = x.Doing("%s takes no format that keeps it (%s): change the image.", game, strings.Join(allowed, ", "))
		}
		list = append(list, x)
	}
	add(finding.TextureAlpha, loss.Alpha, c.Alpha()+" alpha")
	add(finding.TextureColour, loss.Colour, "colour")
	return f, list
}

func (pl *planner) copy(step, source, out string) {
	pl.add(&job.Job{
		ID: step + " " + source, Step: step, Version: copyVersion, Inputs: []string{source}, Outputs: []string{out},
		Run: func(ctx context.Context, t *job.Task) error {
			data, err := t.Input(source)
			if err != nil {
				return err
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
		if f.Path == project.FileName || f.Path == pl.p.ProfilePath {
			continue
		}
		if _, found := slices.BinarySearch(taken, f.Path); found {
			continue
		}
		for _, pattern := range pl.p.File.Pack.Include {
			if ok, _ := doublestar.Match(pattern, f.Path); ok {
				pl.copy("file", f.Path, f.Path)
				break
			}
		}
	}
}

// metadata adds the metadata files that belong inside bundles.
func (pl *planner) metadata() {
	if !pl.g.Complete() {
		return // it would tell of fewer maps than there are
	}
	files, _ := addon.Make(pl.p, pl.g)
	for _, f := range files {
		if f.Place != "inside" {
			continue
		}
		if f.Map != "" {
			pl.maps[f.Path] = []string{f.Map}
		}
		pl.add(&job.Job{
			ID: "metadata " + f.Path, Step: "metadata", Version: metadataVersion, Recipe: f.Data, Outputs: []string{f.Path},
			Run: func(ctx context.Context, t *job.Task) error { return t.Write(f.Path, f.Data) },
		})
	}
}

// selectJobs finds the jobs whose sources or outputs the paths name: a file, a folder or a map's name.
func selectJobs(jobs []*job.Job, paths []string) ([]string, error) {
	ids := []string{}
	for _, want := range paths {
		want = path.Clean(strings.ReplaceAll(want, `\`, "/"))
		found := false
		for _, j := range jobs {
			names := append(slices.Clone(j.Inputs), j.Outputs...)
			for _, n := range names {
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
