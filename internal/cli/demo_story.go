package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/project"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/demo"
	"vornix/internal/cli/show"
)

// secondWeek is the story of what comes after a first release. It can be told again: each time it is another week.
type secondWeek struct {
	dir string // the demo's folder
}

const storyTarget = "practice"

// story tells the second week of a project whose server and workshop run.
func (a *app) story(ctx context.Context, w *secondWeek, p *project.Project, o release.Options, one *demoAnswer) error {
	before := p.File.Project.Version
	next := semver.Candidates(before)[2]
	var week int
	fmt.Sscanf(next, "1.%d.0", &week) // a version of another form is week 0, which is painted as well
	a.out.Heading("The second week: %s goes from %s to %s", show.Clean(p.File.Project.Title), before, next)

	a.out.Tell(fmt.Sprintf("On Monday %s is painted anew. Who needs it is known: from the texture up to every map that it changes.", demo.RepaintedTexture))
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	painted, err := demo.Repaint(week)
	if err != nil {
		return err
	}
	if err := d.WriteFile(demo.RepaintedTexture, painted); err != nil {
		return err
	}
	a.out.Say("%s is another one now (%s)", demo.RepaintedTexture, release.Bytes(int64(len(painted))))

	a.out.Tell("On Tuesday it is released: notes for players, a patch from the version that they have, one step on the server, and on the workshop only the pieces that it lacks.")
	steps, err := a.storyRelease(ctx, p, o, next)
	one.Steps, one.Version = append(one.Steps, steps...), next
	if err != nil {
		return err
	}
	if err := a.storyPlayer(ctx, w, p, before, next); err != nil {
		return err
	}
	if err := a.storyDrift(ctx, w, p, o, next); err != nil {
		return err
	}
	return a.storyBack(ctx, p, before, next)
}

// storyRelease releases the next version.
func (a *app) storyRelease(ctx context.Context, p *project.Project, o release.Options, next string) ([]release.Step,
	error) {
	o.OnStep = a.teller(map[string]string{
		"build": "Only what is made of the texture is made again, and the light of the maps in which its colour falls on other things.", "patch": "Players who have the version before need this much of it:"})
	fresh, err := project.Load(p.Dir, demo.Profiles())
	if err != nil {
		return nil, err
	}
	s, err := a.opened(fresh, "vornix demo", o)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	notes := fmt.Sprintf("The slabs of %s have seen rain: they are darker, and lichen grows on them.\n",
		show.Clean(p.File.Project.Title))
	if err := s.WriteNotes(next, []byte(notes), true); err != nil {
		return nil, err
	}
	run, err := s.Release(ctx, next)
	return run.Steps, err
}

// storyPlayer brings a player from the version before to the new one by a patch.
func (a *app) storyPlayer(ctx context.Context, w *secondWeek, p *project.Project, before, next string) error {
	a.out.Tell(fmt.Sprintf("On Wednesday a player who has %s takes the patch. It fits exactly that, makes exactly %s, and can be taken back.", before, next))
	name := func(version string) string { return fmt.Sprintf("%s-%s.parcel", p.File.Project.Name, version) }
	d, err := safefile.MakeDir(filepath.Join(w.dir, "player-"+next))
	if err != nil {
		return err
	}
	defer d.Close()
	if _, _, err := d.CopyFrom(ctx, p.Join(release.ReleasesDir, before, name(before)),
		path.Join("parcels", name(before))); err != nil {
		return err
	}
	file := p.Join(release.PatchFile(p, before, next))
	opened, err := patch.Open(file)
	if err != nil {
		return err
	}
	defer opened.Close()
	plan, err := patch.Prepare(ctx, d.Path(), []*patch.Opened{opened}, nil, patch.ApplyOptions{Workers: a.workers()})
	if err != nil {
		return err
	}
	if !plan.Already {
		if _, err := plan.Apply(ctx, patch.ApplyOptions{Workers: a.workers()}); err != nil {
			return err
		}
	}
	got, size, err := safefile.HashFile(d.Join(path.Join("parcels", name(next))))
	if err != nil {
		return err
	}
	released, _, err := safefile.HashFile(p.Join(release.ReleasesDir, next, name(next)))
	if err != nil {
		return err
	}
	if got != released {
		return &fault.Fault{What: "the patch made another file than was released", Place: fault.Place{File: d.Path()}}
	}
	a.out.Say("%s makes %s of %s (%s, byte for byte as released); 'vornix patch undo %s' takes it back",
		filepath.Base(file), name(next), name(before), release.Bytes(size), filepath.ToSlash(d.Path()))
	return nil
}

// storyDrift lets somebody change the server by hand.
func (a *app) storyDrift(ctx context.Context, w *secondWeek, p *project.Project, o release.Options, next string) error {
	a.out.Tell("On Thursday somebody changes the welcome page on the server by hand. Nothing is written over before you say so.")
	server, err := safefile.OpenDir(filepath.Join(w.dir, filepath.FromSlash(demo.Projects[0].Server)))
	if err != nil {
		return err
	}
	defer server.Close()
	const page = "welcome.html"
	if err := server.WriteFile(page, []byte("<h1>Server closed on Sunday</h1>\n")); err != nil {
		return err
	}
	st := deploy.Look(ctx, p, storyTarget, o.Access, false)
	a.out.Say("status says: on %s %s", storyTarget, stateOf(st))
	bring := func(overwrite bool) (*release.Step, error) {
		fresh, err := project.Load(p.Dir, demo.Profiles())
		if err != nil {
			return nil, err
		}
		with := o
		with.OnStep, with.Overwrite = nil, overwrite
		s, err := a.opened(fresh, "vornix demo", with)
		if err != nil {
			return nil, err
		}
		defer s.Close()
		_, built, err := s.Build(ctx, nil)
		if err != nil {
			return nil, err
		}
		_, bundles, err := s.Pack(ctx, &built.Tree, false)
		if err != nil {
			return nil, err
		}
		return s.Deploy(ctx, storyTarget, bundles)
	}
	if _, err := bring(false); fault.KindOf(err) == fault.Refused {
		var f *fault.Fault
		if errors.As(err, &f) {
			a.out.Say("deploy says:  refused, %s", show.Clean(f.What))
			a.out.Say("              do: %s", show.Clean(f.Do))
		}
	} else if err != nil {
		return err
	}
	step, err := bring(true)
	if err != nil {
		return err
	}
	a.out.Say("with --overwrite: %s; the page that was there is kept on the server, for a way back",
		show.Clean(step.Summary))
	return nil
}

// storyBack brings the server back to what it had.
func (a *app) storyBack(ctx context.Context, p *project.Project, before, next string) error {
	a.out.Tell(fmt.Sprintf("On Friday players say that they slip on the wet slabs. The server goes back to %s, from what it keeps itself; no file is sent.", before))
	t, err := deploy.Open(ctx, p, storyTarget, a.access())
	if err != nil {
		return err
	}
	defer t.Close()
	goal, err := t.Back(ctx, before, false)
	if err != nil {
		return err
	}
	plan, err := t.Plan(ctx, goal, deploy.PlanOptions{})
	if err != nil {
		return err
	}
	s, err := a.opened(p, "vornix demo", a.options())
	if err != nil {
		return err
	}
	defer s.Close()
	_, step, err := s.Run(ctx, &release.Deploying{Target: t, Goal: goal, Plan: plan}, nil)
	if err != nil {
		return err
	}
	short := *step
	short.Made = nil
	a.out.Step(short)
	a.out.Say("")
	a.out.Say("Next week %s could follow, mended. 'vornix status' knows where everything stands.", semver.Next(next))
	return nil
}
