package release

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vornix/core/base/group"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/make/taskgraph"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/indexwriter"
)

// Targets lists the names of the project's targets, sorted, but for workshops, which package publish reaches.
func Targets(p *project.Project) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(p.File.Targets)),
		func(name string) bool { return p.File.Targets[name].Kind == "workshop" })
}

// Writable lists those of the project's targets that something can be brought to. Those with the
// index, which tells players, come last.
func Writable(p *project.Project) []string {
	list := slices.DeleteFunc(Targets(p), func(name string) bool { return p.File.Targets[name].Kind == "web" })
	last := func(name string) int {
		if t := p.File.Targets[name]; t.Downloads() {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(list, func(a, b string) int { return last(a) - last(b) })
	return list
}

// Local finds files of this machine by their SHA-256: what is packed, and what went out in any version.
func Local(p *project.Project, bundles []bundle.Bundle) (func(sum string) string, error) {
	l, err := indexwriter.NewLocal(p)
	if err != nil {
		return nil, err
	}
	files := l.Released()
	for _, b := range bundles {
		files[b.SHA256] = p.Join(bundle.Dir, b.Name)
	}
	return func(sum string) string { return files[sum] }, nil
}

// Deploying is a target on the way to what is packed.
type Deploying struct {
	Target *deploy.Target
	Goal   *deploy.Goal
	Plan   *deploy.Plan
}

// DeployOptions for PlanDeploy.
type DeployOptions struct {
	Access  deploy.Access
	Verify  bool           // compare by content
	Release bool           // a release goes there: the version's content is fixed from now on
	Commit  string         // what Git calls the sources of a release
	Claimed *deploy.Target // the target, when it is open and held already; the caller closes it
}

// PlanDeploy reaches a target and says what a deployment would do. It changes nothing and needs no
// lock. Close the Target.
func PlanDeploy(ctx context.Context, p *project.Project, load Graph, name string, bundles []bundle.Bundle,
	o DeployOptions) (*Deploying, error) {
	if err := indexwriter.Guard(p, bundles); err != nil {
		return nil, err
	}
	records, err := ledger.Records(p)
	if err != nil {
		return nil, err
	}
	for _, r := range records {
		if r.Version == p.File.Project.Version {
			o.Release, o.Commit = true, r.Commit
		}
	}
	var target *deploy.Target
	var openErr error
	var opening group.All
	if target = o.Claimed; target == nil {
		// which waits for others, while there is something to do here
		opening.Go(func() { target, openErr = deploy.Open(ctx, p, name, o.Access) })
	}
	goal, err := func() (*deploy.Goal, error) {
		g, err := load(ctx)
		if err != nil {
			return nil, err
		}
		return deploy.GoalOf(ctx, p, name, bundles, g)
	}()
	opening.Wait()
	if err == nil {
		err = openErr
	}
	d := &Deploying{Target: target, Goal: goal}
	if err == nil {
		goal.Release, goal.Commit = o.Release, o.Commit
		d.Plan, err = target.Plan(ctx, goal, deploy.PlanOptions{Verify: o.Verify})
	}
	if err != nil {
		if target != nil && o.Claimed == nil {
			target.Close()
		}
		return nil, err
	}
	return d, nil
}

// Deploy brings bundles to a target.
func (s *Session) Deploy(ctx context.Context, target string, bundles []bundle.Bundle) (*Step, error) {
	d, err := PlanDeploy(ctx, s.P, s.scan, target, bundles, DeployOptions{Access: s.o.Access, Verify: s.o.Verify})
	if err != nil {
		return nil, err
	}
	defer d.Target.Close()
	_, step, err := s.Run(ctx, d, bundles)
	return step, err
}

// Run does what a plan says, and writes it into the ledger.
func (s *Session) Run(ctx context.Context, d *Deploying, bundles []bundle.Bundle) (*deploy.Result, *Step, error) {
	step := &Step{Name: "deploy", Made: []Made{}}
	defer timed(step, time.Now())
	local, err := Local(s.P, bundles)
	if err != nil {
		return nil, nil, err
	}
	t := d.Target
	o := deploy.Options{Command: "vornix deploy " + t.Name, Overwrite: s.o.Overwrite, WithoutServer: s.o.WithoutServer,
		Verify: s.o.Verify, Local: local}
	ended := s.progress(t.Name, &o)
	r, err := t.Run(ctx, d.Goal, d.Plan, o)
	ended(err)
	if err != nil {
		return r, nil, err
	}
	plan := r.Plan
	for _, x := range plan.Steps {
		if x.Action != deploy.Leave {
			step.Made = append(step.Made, Made{Path: x.Path, Size: x.Size, State: string(x.Action)})
		}
	}
	step.Target = t.Name
	step.Kept = r.Changed == 0
	step.Server = r.Status
	step.Summary = said(plan, r)
	if by := s.o.Access.By(); !step.Kept && plan.Last != nil && plan.Last.By != by {
		step.Summary += fmt.Sprintf("; %s replaces the %s of version %s by %s", by, plan.Last.Kind,
			cmp.Or(plan.Last.Version, "none"), plan.Last.By)
	}
	if step.Kept && r.Commit == "" {
		return r, step, nil
	}
	kind, files := ledger.Deployed, map[string]string{}
	switch plan.Kind {
	case deploy.RollingBack:
		kind = ledger.RolledBack
	case deploy.Withdrawing:
		kind = ledger.Withdrawn
	}
	for _, f := range d.Goal.Files {
		if f.Role == deploy.Bundle {
			files[f.Path] = f.SHA256
		}
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := ledger.Add(s.P,
		ledger.Event{Kind: kind, Time: time.Now(), Version: plan.Version, Target: t.Name, Files: files}); err != nil {
		return r, step, err
	}
	return r, step, s.went()
}

// progress passes on how far a deployment is. Several may be under way; events are told one at a time.
func (s *Session) progress(target string, o *deploy.Options) (ended func(error)) {
	p := s.o.Progress
	if p == nil {
		return func(error) {}
	}
	told := func(f func()) {
		s.writing.Lock()
		defer s.writing.Unlock()
		f()
	}
	told(func() { p.Started(target, "deploy", "") })
	o.Advanced = func(stage string, done, total int64) { told(func() { p.Advanced(target, stage, done, total) }) }
	return func(err error) {
		told(func() { p.Ended(taskgraph.Result{ID: target, Step: "deploy", State: taskgraph.Made, Err: err}, 0, 0) })
	}
}

// said is how a deployment ended, in a sentence.
func said(p *deploy.Plan, r *deploy.Result) string {
	var text string
	version := "version " + p.Version
	if p.Version == "" {
		version = "nothing of this project"
	}
	switch {
	case r.Changed == 0:
		text = fmt.Sprintf("nothing changed: %s has %s already", p.Target, version)
	case p.Kind == deploy.Withdrawing:
		text = fmt.Sprintf("%s goes on without what was withdrawn: %s changed", p.Target, Count(r.Changed, "file"))
	case p.Kind == deploy.RollingBack:
		text = fmt.Sprintf("%s has %s again: %s changed", p.Target, version, Count(r.Changed, "file"))
	case p.Before != "" && p.Before != p.Version:
		text = fmt.Sprintf("%s goes from version %s to %s: %s changed", p.Target, p.Before, p.Version,
			Count(r.Changed, "file"))
	default:
		text = fmt.Sprintf("%s has %s: %s changed", p.Target, version, Count(r.Changed, "file"))
	}
	if r.Sent > 0 {
		text += fmt.Sprintf(", %s sent", Bytes(r.Sent))
		if r.Reused > 1<<10 {
			text += fmt.Sprintf(" (%s were there)", Bytes(r.Reused))
		}
	}
	if r.Commit != "" {
		text += ", commit " + r.Commit[:min(len(r.Commit), 10)]
		if r.Tag != "" {
			text += " with tag " + r.Tag
		}
	}
	if r.Undone != "" {
		text += " (a deployment that did not come to its end was undone first: " + r.Undone + ")"
	}
	if st := r.Status; st != nil {
		loaded := 0
		for _, m := range st.Maps {
			if m.Loaded {
				loaded++
			}
		}
		text += fmt.Sprintf("; its server has loaded %s", Count(loaded, "map"))
		if names := r.Maps(); len(names) > 0 && len(names) <= 3 {
			text = strings.TrimSuffix(text, Count(loaded, "map")) + strings.Join(names, " and ")
		}
		if st.Playing != "" {
			text += " and plays " + st.Playing
		}
	}
	return text
}
