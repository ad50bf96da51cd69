package release

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/build"
	"vornix/core/ledger"
	"vornix/core/profile"
	"vornix/core/project"
)

// Planned is what a release would do.
type Planned struct {
	Version   string        `json:"version"`
	Released  bool          `json:"released"` // that version is finished
	Before    string        `json:"before"`   // the version before; empty when there is none
	Begun     time.Time     `json:"begun,omitzero"`
	Stopped   string        `json:"stopped"` // the last step that a release of this version came to, which did not come to its end; empty when none is under way
	Steps     []PlannedStep `json:"steps"`
	Build     []string      `json:"build"`    // jobs that would run
	Pictures  []string      `json:"pictures"` // beside bundles, that would be made
	Patches   []string      `json:"patches"`  // versions that patches are made from
	Targets   []string      `json:"targets"`
	Workshops []string      `json:"workshops"`
	Tag       string        `json:"tag"`
}

// PlannedStep is what a step would do.
type PlannedStep struct {
	Step string `json:"step"`
	Done bool   `json:"done"` // nothing is left to do
	What string `json:"what"`
}

// PlanRelease says what a release of a version would do, "" for the project's own. It changes nothing, and reaches for no target. The project pretends
// to have the version afterwards.
func PlanRelease(ctx context.Context, p *project.Project, version string, o Options) (*Planned, error) {
	if err := CanTake(p, version); err != nil {
		return nil, err
	}
	if version != "" && version != p.File.Project.Version {
		if err := p.Pretend(version); err != nil {
			return nil, err
		}
	}
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	head := p.File.Project
	s := &Session{P: p, o: o}
	plan := &Planned{Version: head.Version, Released: ledger.Release(events, head.Version) != nil, Steps: []PlannedStep{}, Pictures: []string{}, Workshops: []string{}}
	current, err := LookPacked(ctx, p, o)
	if err != nil {
		return nil, err
	}
	plan.Build = append([]string{}, current.Stale...)
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	if HasBeside(p.Profile) {
		list, err := build.StaleBeside(ctx, p, g)
		if err != nil {
			return nil, err
		}
		for _, id := range list {
			plan.Pictures = append(plan.Pictures, strings.TrimPrefix(id, build.PictureStep+" "))
		}
	}
	from, err := s.patchFrom()
	if err != nil {
		return nil, err
	}
	plan.Patches = append([]string{}, from...)
	if len(from) > 0 {
		plan.Before = from[0]
	}
	plan.Targets = append([]string{}, Writable(p)...)
	shops, err := s.workshops()
	if err != nil {
		return nil, err
	}
	plan.Workshops = append(plan.Workshops, shops...)
	if form := cmp.Or(o.Tag, p.File.Release.Tag); form != "none" {
		plan.Tag = profile.Fill(form, map[string]string{"name": head.Name, "version": head.Version})
	}
	plan.steps(p, o, current)
	return plan, nil
}

// steps says in words what each step would do.
func (plan *Planned) steps(p *project.Project, o Options, current *Current) {
	j := readJournal(p)
	if j.Version == plan.Version && j.Finished.IsZero() && !plan.Released {
		plan.Begun, plan.Stopped = j.Begun, j.last()
	}
	packed, fresh := current.Bundles, current.Fresh()
	add := func(step string, done bool, format string, args ...any) {
		plan.Steps = append(plan.Steps, PlannedStep{step, done, fmt.Sprintf(format, args...)})
	}
	some := func(list []string) string {
		if len(list) > 3 {
			return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
		}
		return strings.Join(list, ", ")
	}
	to := func(step string, list []string, nothing, something string) {
		if len(list) == 0 {
			add(step, true, "%s", nothing)
		} else {
			add(step, false, something, len(list), some(list))
		}
	}
	add("check", false, "every source is looked at")
	to("build", plan.Build, "all is up to date", "%d to make: %s")
	if HasBeside(p.Profile) {
		to("shoot", plan.Pictures, "all pictures are up to date", "%d to make: %s")
	}
	add("sweep", false, "stray files are named, and stay")
	var names []string
	for _, b := range packed {
		names = append(names, b.Name)
	}
	if fresh {
		add("pack", true, "as packed: %s", some(names))
		tried := j.Steps["try"].Key == tryKey(p, o.Program, packed)
		add("try", tried, "%s", map[bool]string{true: "the same bundles were tried already", false: "in an empty folder, as a player with nothing else"}[tried])
	} else {
		add("pack", false, "bundles as %s wants them", p.Profile.Game.Title)
		add("try", false, "in an empty folder, as a player with nothing else")
	}
	add("addon", false, "metadata beside the bundles")
	if len(plan.Patches) > 0 {
		add("patch", false, "from %s", strings.Join(plan.Patches, ", "))
	}
	add("index", false, "what players look at for updates")
	if len(plan.Targets) > 0 {
		add("deploy", false, "to %s", strings.Join(plan.Targets, ", "))
	}
	if len(plan.Workshops) > 0 {
		add("publish", false, "at %s", strings.Join(plan.Workshops, ", "))
	}
	if plan.Released {
		add("record", true, "version %s is finished already, and is not altered", plan.Version)
	} else {
		add("record", false, "a copy of what goes out, in %s", path.Join(ReleasesDir, plan.Version))
	}
	if plan.Tag != "" {
		add("tag", false, "%s, in Git", plan.Tag)
	}
	add("report", false, "%s", path.Join(ReportsDir, plan.Version+".html"))
	if i := slices.IndexFunc(plan.Steps, func(s PlannedStep) bool { return s.Step == o.Until }); i >= 0 {
		plan.Steps = plan.Steps[:i+1]
	}
}
