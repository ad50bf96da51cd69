package release

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
)

// Shot is a picture that was made, or found in its place.
type Shot struct {
	Picture string `json:"picture"`
	Map     string `json:"map,omitempty"`
	Number  int    `json:"number"`
	Variant string `json:"variant,omitempty"`
	From    string `json:"from"`
	File    string `json:"file"`
	Form    string `json:"form"`
	Width   int    `json:"width"`
	Height  int    `json:"height"`
	Size    int64  `json:"size"`
	State   string `json:"state"` // made, kept, restored or failed
}

// Shots are the pictures of a project, and those that nobody asked for.
type Shots struct {
	Shots []Shot       `json:"shots"`
	Left  []shots.Left `json:"left"`
}

// Shoot makes the project's pictures: with all also those inside the tree, with what they need, and
// of the maps of these names only, when there are any.
func (s *Session) Shoot(ctx context.Context, all bool, names []string) (*Step, *Shots, error) {
	step := &Step{Name: "shoot", Made: []Made{}}
	defer timed(step, time.Now())
	g, err := s.scan(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := knownMaps(g, names); err != nil {
		return nil, nil, err
	}
	o := assembly.Options{Workers: s.o.Workers, Progress: s.o.Progress, Program: s.o.Program, Stages: s.o.Stages,
		Own: s.o.Own, Sharing: s.sharing(), Farming: s.farming(), Pictures: true, Maps: names, Studio: &s.studio}
	plan := shots.NewPlan(s.P, g)
	results := map[string]taskgraph.Result{}
	stopped := error(nil)
	take := func(r *assembly.Result, err error) bool {
		if r == nil {
			stopped = err
			return false
		}
		s.away = s.away || r.Away()
		for _, x := range r.All {
			if x.Step == assembly.PictureStep {
				results[x.ID] = x
			}
		}
		for _, f := range r.Findings {
			if !slices.ContainsFunc(step.Findings,
				func(o finding.Finding) bool { return o.ID == f.ID && o.Text == f.Text && o.Place == f.Place }) {
				step.Findings = append(step.Findings, f)
			}
		}
		if stopped == nil {
			stopped = err
		}
		return true
	}
	// those inside, and the maps; it removes nothing, as it is no whole build
	if all && !take(assembly.Run(ctx, s.P, o)) {
		return nil, nil, stopped
	}
	if stopped == nil {
		o.Sharing, o.Farming = s.sharing(), s.farming()
		r, err := assembly.Beside(ctx, s.P, g, plan, o, names)
		if !take(r, err) {
			return nil, nil, stopped
		}
		for _, rel := range r.Removed {
			step.Made = append(step.Made, Made{Path: path.Join(assembly.PicturesDir, rel), Size: 0, State: "removed"})
		}
	}
	if all { // the check speaks of everything; here only pictures are of interest, and what keeps them from being made
		step.Findings = slices.DeleteFunc(step.Findings, func(f finding.Finding) bool {
			return f.Severity != finding.Error && !strings.HasPrefix(f.ID, "picture.") &&
				!strings.HasPrefix(f.ID, "camera.") && !strings.HasPrefix(f.ID, "shared.")
		})
	}
	out := &Shots{Shots: []Shot{}, Left: []shots.Left{}}
	step.Kept = true
	made := 0
	for i := range plan.Pictures {
		x := &plan.Pictures[i]
		r, ran := results[assembly.PictureStep+" "+x.ID()]
		if !ran {
			continue
		}
		folder := assembly.PicturesDir
		if x.Inside {
			folder = project.TreeDir
		}
		shot := Shot{Picture: x.Name, Map: x.Map, Number: x.Number, Variant: x.Variant, From: x.Source(),
			File: path.Join(folder, x.File), Form: x.Of.Form, Width: x.Width, Height: x.Height, State: string(r.State)}
		for _, o := range r.Outputs {
			if o.Path == x.File {
				shot.Size = o.Size
			}
			step.Made = append(step.Made, Made{Path: path.Join(folder, o.Path), Size: o.Size, State: string(r.State)})
		}
		step.Kept = step.Kept && r.State == taskgraph.UpToDate
		if r.State == taskgraph.Made || r.State == taskgraph.CacheHit || r.State == taskgraph.SharedHit {
			made++
		}
		out.Shots = append(out.Shots, shot)
	}
	for _, l := range plan.Left {
		if len(names) == 0 ||
			slices.ContainsFunc(names, func(n string) bool { return slices.Contains(strings.Fields(l.Picture), n) }) {
			out.Left = append(out.Left, l)
		}
	}
	switch {
	case len(s.P.Profile.Pictures) == 0:
		step.Summary = s.P.Profile.Game.Title + " asks for no pictures"
	case step.Kept:
		step.Summary = "nothing changed: all " + Count(len(out.Shots), "picture") + " as before"
		if len(out.Shots) == 0 {
			step.Summary = "no pictures"
		}
	default:
		step.Summary = fmt.Sprintf("%d of %s made", made, Count(len(out.Shots), "picture"))
	}
	if n := finding.Count(step.Findings, finding.Error); stopped == nil && n > 0 && all {
		stopped = &fault.Fault{What: Count(n, "error") + " found", Why: "The game would show a blank somewhere.",
			Do: "Correct them and shoot again."}
	}
	step.Failed = stopped != nil
	return step, out, stopped
}

// knownMaps wants every name to be that of a map.
func knownMaps(g *assetgraph.Graph, names []string) error {
	for _, n := range names {
		if g.Find(assetgraph.Map, n) == nil {
			return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no map %q", n),
				Do: "The maps are: " + strings.Join(mapNames(g), ", ") + "."}
		}
	}
	return nil
}

func mapNames(g *assetgraph.Graph) (names []string) {
	for _, a := range g.Of(assetgraph.Map) {
		names = append(names, a.Name)
	}
	return names
}

// besidePictures lists the pictures beside bundles that a release takes along.
func (s *Session) besidePictures(g *assetgraph.Graph) (files []string) {
	plan := shots.NewPlan(s.P, g)
	for i := range plan.Pictures {
		if !plan.Pictures[i].Inside {
			files = append(files, plan.Pictures[i].File)
		}
	}
	return files
}

// HasBeside says whether the game wants pictures that stand beside bundles.
func HasBeside(p *profile.Profile) bool {
	return slices.ContainsFunc(p.Pictures, func(x profile.Picture) bool { return x.Place == profile.Beside })
}

// PlanView is a drawing of a map for those who build it.
type PlanView struct {
	Map  string `json:"map"`
	View string `json:"view"`
	File string `json:"file"`
}

// PlanViews draws the maps of these names, or all, from above and cut open, with names, into
// out/pictures/plans. They are compiled where they changed.
func (s *Session) PlanViews(ctx context.Context, names []string) ([]PlanView, error) {
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	if err := knownMaps(g, names); err != nil {
		return nil, err
	}
	if len(names) == 0 {
		names = mapNames(g)
	}
	r, err := assembly.Run(ctx, s.P,
		assembly.Options{Workers: s.o.Workers, Progress: s.o.Progress, Program: s.o.Program, Stages: s.o.Stages,
			Own: s.o.Own, Sharing: s.sharing(), Farming: s.farming(), Paths: names})
	if err != nil {
		if r != nil {
			err = &finding.Failure{What: "the maps can't be drawn",
				Findings: slices.DeleteFunc(r.Findings,
					func(f finding.Finding) bool { return f.Severity != finding.Error })}
		}
		return nil, err
	}
	made := []PlanView{}
	for _, name := range names {
		views, err := assembly.PlanViews(ctx, s.P, g, name, s.o.Workers)
		if err != nil {
			return made, err
		}
		for _, v := range views {
			made = append(made, PlanView{name, v.Name, v.File})
		}
	}
	return made, nil
}
