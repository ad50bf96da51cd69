package release

import (
	"context"
	"fmt"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
	"vornix/core/make/taskgraph"
	"vornix/core/pack/bundle"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
)

// Publishing is a workshop on the way to what is packed.
type Publishing struct {
	Desk     *publish.Desk
	Plans    []*publish.Plan
	Findings []finding.Finding
}

// PlanPublish reaches a workshop and says what publishing items would do; all of the target when no
// names are given. It changes nothing and needs no lock. Close the Desk. What the workshop would
// refuse is in the findings.
func PlanPublish(ctx context.Context, p *project.Project, load Graph, target string, bundles []bundle.Bundle,
	names []string, o publish.PlanOptions, a publish.Access) (*Publishing, error) {
	if o.Scope == publish.Everything {
		if err := indexwriter.Guard(p, bundles); err != nil {
			return nil, err
		}
	}
	d, err := publish.Open(ctx, p, target, a)
	if err != nil {
		return nil, err
	}
	x := &Publishing{Desk: d}
	err = func() error {
		g, err := load(ctx)
		if err != nil {
			return err
		}
		goals, findings, err := d.Goals(ctx, g, bundles, names)
		if err != nil {
			return err
		}
		x.Findings = findings
		for _, goal := range goals {
			plan, err := d.Plan(ctx, goal, o)
			if err != nil {
				return err
			}
			x.Plans = append(x.Plans, plan)
		}
		return nil
	}()
	if err != nil {
		d.Close()
		return nil, err
	}
	return x, nil
}

// Refused is what a workshop would refuse, as an error; nil when there is nothing of that.
func (x *Publishing) Refused() error {
	n := finding.Count(x.Findings, finding.Error)
	if n == 0 {
		return nil
	}
	return &fault.Fault{What: fmt.Sprintf("%s would refuse it: %s", x.Desk.About.Name, Count(n, "error")),
		Why: "Nothing was sent.", Do: "Correct them and publish again."}
}

// workshops are those that a release brings its version to: where the project has items already,
// and with MakeItems all.
func (s *Session) workshops() ([]string, error) {
	switch {
	case s.o.NoWorkshops:
		return nil, nil
	case s.o.MakeItems:
		return publish.Targets(s.P), nil
	}
	return publish.Published(s.P)
}

// publishAll brings bundles to a workshop, as a step of a release.
func (s *Session) publishAll(ctx context.Context, target string, bundles []bundle.Bundle) (*Step, error) {
	x, err := PlanPublish(ctx, s.P, s.scan, target, bundles, nil, publish.PlanOptions{Overwrite: s.o.Overwrite},
		s.o.Publish)
	if err != nil {
		return nil, err
	}
	defer x.Desk.Close()
	step, _, err := s.Publish(ctx, x)
	return step, err
}

// Publish does what plans say, and writes it into the ledger.
func (s *Session) Publish(ctx context.Context, x *Publishing) (*Step, []*publish.Result, error) {
	step := &Step{Name: "publish", Target: x.Desk.Name, Made: []Made{}, Kept: true, Findings: x.Findings}
	defer timed(step, time.Now())
	if err := x.Refused(); err != nil {
		step.Failed = true
		step.Summary = fmt.Sprintf("%s: %s", x.Desk.Name, Tally(x.Findings))
		return step, nil, err
	}
	var results []*publish.Result
	var said []string
	for _, plan := range x.Plans {
		r, err := s.publishOne(ctx, x.Desk, plan)
		results = append(results, r)
		if err != nil {
			step.Failed = true
			step.Summary = strings.Join(append(said, plan.Item+" is not finished"), "; ")
			return step, results, err
		}
		for _, w := range r.Steps {
			if w.Part == "file" && w.Action != publish.Leave {
				step.Made = append(step.Made, Made{Path: w.Name, Size: w.Size, State: string(w.Action)})
			}
		}
		step.Kept = step.Kept && r.Changed == 0 && !r.Made
		said = append(said, published(x.Desk, r))
	}
	step.Summary = strings.Join(said, "; ")
	return step, results, nil
}

func (s *Session) publishOne(ctx context.Context, d *publish.Desk, plan *publish.Plan) (*publish.Result, error) {
	o := publish.Options{}
	if p := s.o.Progress; p != nil {
		told := func(f func()) {
			s.writing.Lock()
			defer s.writing.Unlock()
			f()
		}
		id := d.Name + " " + plan.Item
		told(func() { p.Started(id, "publish", "") })
		o.Advanced = func(stage string, done, total int64) { told(func() { p.Advanced(id, stage, done, total) }) }
		defer func() {
			told(func() { p.Ended(taskgraph.Result{ID: id, Step: "publish", State: taskgraph.Made}, 0, 0) })
		}()
	}
	r, err := d.Run(ctx, plan, o)
	if err != nil || r.Changed == 0 && !r.Made {
		return r, err
	}
	files := map[string]string{}
	for _, f := range plan.Goal.Files {
		files[f.Name] = f.SHA256
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := ledger.Add(s.P,
		ledger.Event{Kind: ledger.Published, Time: time.Now(), Version: plan.Version, Target: d.Name, Item: plan.Item,
			Files: files}); err != nil {
		return r, err
	}
	return r, s.went()
}

// published is how publishing an item ended, in a sentence.
func published(d *publish.Desk, r *publish.Result) string {
	var text string
	switch {
	case r.Made:
		text = fmt.Sprintf("%s is at %s, hidden, with version %s", r.Item, d.Name, r.Version)
	case r.Changed == 0:
		text = fmt.Sprintf("nothing changed: %s has %s already", d.Name, strings.TrimSpace(r.Item+" "+r.Before))
	case r.Before != "" && r.Before != r.Version && r.Uploads():
		text = fmt.Sprintf("%s goes from %s to %s at %s", r.Item, r.Before, r.Version, d.Name)
	case r.Uploads():
		text = fmt.Sprintf("%s has version %s at %s", r.Item, r.Version, d.Name)
	default:
		text = fmt.Sprintf("%s of the page of %s changed at %s", Count(r.Changed, "part"), r.Item, d.Name)
	}
	if r.Changed > 0 {
		text += fmt.Sprintf(", %s sent", Bytes(r.Sent))
		if r.Size > 0 { // with files, of which what the workshop has is not sent again
			text = strings.TrimSuffix(text, " sent") + fmt.Sprintf(" of %s sent", Bytes(r.Size))
		}
	}
	if r.Again {
		text += " (somebody else changed it meanwhile; nothing of that was lost)"
	}
	if r.Hidden && !r.Made && r.Changed > 0 {
		text += "; it is hidden still"
	}
	return text
}

// Tried is how a try of what is published ended.
type Tried struct {
	Got  *publish.Got           `json:"got"`
	Maps []gameserver.MapStatus `json:"maps"`
}

// TryPublished gets an item as a player does, holds it hash by hash to what was published, and
// loads it in a clean room. It is written into the ledger.
func (s *Session) TryPublished(ctx context.Context, d *publish.Desk, name string) (*Step, *Tried, error) {
	scratch, err := safefile.NewScratchDir(s.P.State())
	if err != nil {
		return nil, nil, err
	}
	defer scratch.Close()
	got, err := d.Get(ctx, name, scratch.Dir, func(done, total int64) {
		if s.o.Progress != nil {
			s.o.Progress.Advanced("", "getting", done, total)
		}
	})
	if err != nil {
		return nil, nil, err
	}
	who := "nobody in particular"
	if got.Account != "" {
		who = got.Account
	}
	ours, err := s.ours(d.Name, name, got)
	if err != nil {
		return nil, nil, err
	}
	step, maps, err := Try(ctx, s.P, got.Files)
	if step == nil {
		return nil, nil, err
	}
	loaded := 0
	for _, m := range maps {
		if m.Loaded {
			loaded++
		}
	}
	right := "1 hash right"
	if n := len(got.Files); n != 1 {
		right = fmt.Sprintf("%d hashes right", n)
	}
	step.Summary = fmt.Sprintf("%s %s as %s got it (%s, %s%s): %d of %s loaded in an empty folder", name, got.Version,
		who, Bytes(got.Size), right, ours, loaded, Count(len(maps), "map"))
	if err != nil {
		return step, &Tried{got, maps}, err
	}
	return step, &Tried{got, maps},
		ledger.Add(s.P, ledger.Event{Kind: ledger.Tried, Time: time.Now(), Version: got.Version, Target: d.Name,
			Item: name, Files: got.Sums})
}

// ours holds what came to what this project published, where it knows that.
func (s *Session) ours(target, name string, got *publish.Got) (string, error) {
	events, err := ledger.Read(s.P)
	if err != nil {
		return "", err
	}
	for i := len(events) - 1; i >= 0; i-- {
		e := events[i]
		if e.Kind != ledger.Published || e.Target != target || e.Item != name || e.Version != got.Version {
			continue
		}
		for file, sum := range e.Files {
			if got.Sums[file] != sum {
				return "", &fault.Fault{What: fmt.Sprintf("what players get as %s is not what was published", file),
					Place: fault.Place{File: target},
					Why:   "It was replaced on the workshop, or by somebody with the same account.",
					Do:    "Look at 'vornix publish history " + target + "'."}
			}
		}
		return ", as published from here", nil
	}
	return "", nil
}

// WasTried says whether the version of an item that is there now was tried as it came from the workshop.
func WasTried(p *project.Project, target, name string, v *workshop.Version) (bool, error) {
	events, err := ledger.Read(p)
	if err != nil || v == nil {
		return false, err
	}
	for _, e := range events {
		if e.Kind == ledger.Tried && e.Target == target && e.Item == name && e.Version == v.Version &&
			len(e.Files) == len(v.Files) {
			same := true
			for _, f := range v.Files {
				same = same && e.Files[f.Name] == f.SHA256
			}
			if same {
				return true, nil
			}
		}
	}
	return false, nil
}
