package release

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
)

// Planned is what a release would do.
type Planned struct {
	Version  string    `json:"version"`
	Released bool      `json:"released"` // that version is finished
	Before   string    `json:"before"`   // the version before; empty when there is none
	Begun    time.Time `json:"begun,omitzero"`
	// the last step that a release of this version came to, which did not come to its end; empty when none is under way
	Stopped   string        `json:"stopped"`
	Steps     []PlannedStep `json:"steps"`
	Build     []string      `json:"build"`    // jobs that would run
	Pictures  []string      `json:"pictures"` // beside bundles, that would be made
	Patches   []string      `json:"patches"`  // versions that patches are made from
	Fetch     []string      `json:"fetch"`    // of those, the versions whose bundles are not here and are fetched first
	Targets   []string      `json:"targets"`
	Workshops []string      `json:"workshops"`
	Tag       string        `json:"tag"`
	Refused   []Refusal     `json:"refused"` // what stops the release as things are
	Silent    []string      `json:"silent"`  // places that did not answer
}

// Refusal is a reason for which a release would stop.
type Refusal struct {
	What string `json:"what"`
	Why  string `json:"why"`
	Do   string `json:"do"`
	Err  error  `json:"-"`
}

// PlannedStep is what a step would do.
type PlannedStep struct {
	Step string `json:"step"`
	Done bool   `json:"done"` // nothing is left to do
	What string `json:"what"`
}

// PlanRelease says what a release of a version would do, "" for the project's own. It changes
// nothing, and reaches for no target: what would stop the release there, Refuse adds. The project
// pretends to have the version afterwards.
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
	plan := &Planned{Version: head.Version, Released: ledger.Release(events, head.Version) != nil,
		Steps: []PlannedStep{}, Pictures: []string{}, Fetch: []string{}, Workshops: []string{}, Refused: []Refusal{},
		Silent: []string{}}
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
		list, err := assembly.StaleBeside(ctx, p, g)
		if err != nil {
			return nil, err
		}
		for _, id := range list {
			plan.Pictures = append(plan.Pictures, strings.TrimPrefix(id, assembly.PictureStep+" "))
		}
	}
	from, err := s.patchFrom()
	if err != nil {
		return nil, err
	}
	plan.Patches = append([]string{}, from...)
	for _, v := range from {
		r, err := recordOf(p, v)
		if err != nil {
			return nil, err
		}
		if r == nil {
			continue
		}
		missing, err := missingBundles(ctx, p, r)
		if err != nil {
			return nil, err
		}
		if len(missing) > 0 {
			plan.Fetch = append(plan.Fetch, v)
		}
	}
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
		add("try", tried, "%s",
			map[bool]string{true: "the same bundles were tried already",
				false: "in an empty folder, as a player with nothing else"}[tried])
	} else {
		add("pack", false, "bundles as %s wants them", p.Profile.Game.Title)
		add("try", false, "in an empty folder, as a player with nothing else")
	}
	add("addon", false, "metadata beside the bundles")
	if len(plan.Patches) > 0 {
		text := "from " + strings.Join(plan.Patches, ", ")
		if len(plan.Fetch) > 0 {
			text += "; the bundles of " + strings.Join(plan.Fetch, ", ") + " are fetched first"
		}
		add("patch", false, "%s", text)
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

// Refuse reaches for every place that the release goes to, and adds to the plan what would stop it,
// as the run itself would find it. Deployments are planned in full where what is packed is what
// would go out. It changes nothing.
func (plan *Planned) Refuse(ctx context.Context, p *project.Project, o Options) error {
	add := func(err error) {
		if err == nil || ctx.Err() != nil {
			return
		}
		r := Refusal{What: err.Error(), Err: err}
		var f *fault.Fault
		if errors.As(err, &f) {
			r.Why, r.Do = f.Why, f.Do
		}
		plan.Refused = append(plan.Refused, r)
	}
	x := &running{Session: &Session{P: p, o: o}}
	if !o.Dry {
		_, err := x.openTag(ctx, plan.Version)
		add(err)
	}
	if !x.reaches("index") {
		return ctx.Err()
	}
	add(ledger.Verify(p))
	add(checkDate(p, plan.Version, cmp.Or(o.Date, time.Now().UTC().Format(time.DateOnly))))
	add(checkAncestry(ctx, p, plan.Version, &o.Access))
	places, err := QueryPlaces(ctx, p, o, Query{indexOnly: !x.reaches("deploy")})
	if err != nil {
		return err
	}
	plan.Silent = append(plan.Silent, places.Silent()...)
	silent := places.Answered(o.Offline)
	if fault.KindOf(silent) != fault.Unreachable {
		add(silent)
		silent = nil
	}
	add(places.CheckKnown(p, plan.Version))
	plan.unpatched(places)
	add(unsigned(p, places, o))
	current, err := LookPacked(ctx, p, o)
	if err != nil {
		return err
	}
	bundles := current.Bundles
	ready := current.Missing == nil && (current.Finished || current.Fresh())
	if ready {
		if err := indexwriter.Guard(p, bundles); err != nil {
			add(err)
			ready = false
		} else {
			add(places.CheckContent(p, bundles))
		}
	}
	ready = ready && len(plan.Pictures) == 0 // pages and lists show them
	if x.reaches("deploy") {
		for _, name := range plan.Targets {
			add(refuseTarget(ctx, p, name, bundles, ready, o))
		}
	}
	if x.reaches("publish") {
		for _, name := range plan.Workshops {
			add(refuseWorkshop(ctx, x, name, bundles, ready))
		}
	}
	if silent != nil &&
		!slices.ContainsFunc(plan.Refused, func(r Refusal) bool { return fault.KindOf(r.Err) == fault.Unreachable }) {
		add(silent) // unless another refusal names the same place
	}
	return ctx.Err()
}

// unpatched says in the plan from which versions no patch can be made, since no place that answers has their bundles.
func (plan *Planned) unpatched(places Places) {
	var lost []string
	for _, v := range plan.Fetch {
		if !slices.ContainsFunc(places, func(x *VersionSource) bool {
			return x.Kind != "git" &&
				slices.ContainsFunc(x.Versions,
					func(s SourceVersion) bool { return s.Version == v && len(s.Files) > 0 })
		}) {
			lost = append(lost, v)
		}
	}
	if i := slices.IndexFunc(plan.Steps, func(s PlannedStep) bool { return s.Step == "patch" }); i >= 0 &&
		len(lost) > 0 {
		plan.Steps[i].What += "; no place that answers has the bundles of " + strings.Join(lost, ", ") +
			", so there may be no patch from it"
	}
}

// unsigned says that the index is signed, and no key is there to do it.
func unsigned(p *project.Project, places Places, o Options) error {
	if len(o.Keys) > 0 || o.Unsigned {
		return nil
	}
	known, err := knownKeys(p, places)
	if err != nil || len(known) == 0 && !p.File.Signing.Required {
		return err
	}
	return indexwriter.NoKey()
}

// knownKeys are the public keys that players accept the next index from: those of the published
// index, or of the last one that was written. None for an index without a signature.
func knownKeys(p *project.Project, places Places) ([]string, error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	last := ledger.LastIndex(events)
	if x, _ := places.Index(); x != nil && (last == nil || x.Serial >= last.Serial) {
		return x.Keys, nil
	}
	if last == nil {
		return nil, nil
	}
	return last.Keys, nil
}

// refuseTarget says what would stop the deployment to a target. Before the bundles are made, that
// is who holds it, or that it can't be reached.
func refuseTarget(ctx context.Context, p *project.Project, name string, bundles []bundle.Bundle, ready bool,
	o Options) error {
	t, err := deploy.Open(ctx, p, name, o.Access)
	if err != nil {
		return err
	}
	defer t.Close()
	if err := t.Free(ctx); err != nil {
		return err
	}
	if about := p.File.Targets[name]; !ready || about.Downloads() { // its index is written by the release
		return nil
	}
	load := func(ctx context.Context) (*assetgraph.Graph, error) { return assetgraph.ScanProject(ctx, p) }
	d, err := PlanDeploy(ctx, p, load, name, bundles, DeployOptions{Verify: o.Verify, Release: true, Claimed: t})
	if err != nil && fault.KindOf(err) == fault.Failed {
		return nil // something is not made yet
	}
	if err != nil {
		return err
	}
	return t.Allowed(d.Plan, deploy.Options{Overwrite: o.Overwrite})
}

func refuseWorkshop(ctx context.Context, x *running, name string, bundles []bundle.Bundle, ready bool) error {
	if ready {
		x.bundles = bundles
		return x.mayPublish(ctx, name)
	}
	d, err := publish.Open(ctx, x.P, name, x.o.Publish)
	if err != nil {
		return err
	}
	d.Close()
	return nil
}
