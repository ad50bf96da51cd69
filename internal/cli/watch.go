package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/source/watch"
	"vornix/internal/cli/show"
)

// watchFlags are those of a build that goes on.
type watchFlags struct {
	on, server bool
	listen     string
}

func (f *watchFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.on, "watch", false, "build again whenever a source is saved, until Ctrl-C")
	cmd.Flags().BoolVar(&f.server, "server", false,
		"with --watch: let a stand-in of the game's server play what was built, and load it anew each time")
	cmd.Flags().StringVar(&f.listen, "listen", "",
		"with --server: `address` to listen on (default: a free port of this machine)")
}

func (f *watchFlags) check() error {
	switch {
	case f.server && !f.on:
		return &fault.Fault{Kind: fault.Usage, What: "--server goes with --watch",
			Do: "Add --watch, or start one by itself: vornix stand server DIR"}
	case f.listen != "" && !f.server:
		return &fault.Fault{Kind: fault.Usage, What: "--listen goes with --server", Do: "Add --watch --server."}
	}
	return nil
}

// watchAnswer is what each round of a build that goes on says in JSON.
type watchAnswer struct {
	Changed []watch.Change     `json:"changed"`
	Server  *gameserver.Status `json:"server,omitempty"`
	Seconds float64            `json:"seconds"`
}

// watcher builds again and again.
type watcher struct {
	a      *app
	dir    string
	args   []string
	change func(*release.Options)
	flags  watchFlags
	server *gameserver.Server
	said   []finding.Finding // of the round before
}

func (a *app) watch(ctx context.Context, args []string, change func(*release.Options), f watchFlags) error {
	dir, err := a.dir()
	if err != nil {
		return err
	}
	w := &watcher{a: a, dir: dir, args: args, change: change, flags: f}
	defer func() {
		if w.server != nil {
			_ = w.server.Close() // it played for nobody but this
		}
	}()
	a.out.Say("watching %s; Ctrl-C ends it", filepath.ToSlash(dir))
	if err := watch.Run(ctx, dir, watch.Options{},
		func(changes []watch.Change) { w.round(ctx, append([]watch.Change{}, changes...)) }); err != nil {
		return err
	}
	a.out.Say("")
	return nil
}

// round builds what changed. What goes wrong is said, and the next change is waited for.
func (w *watcher) round(ctx context.Context, changes []watch.Change) {
	a := w.a
	start := time.Now()
	if len(changes) > 0 {
		a.out.Say("\n%s  %s", start.Format(time.TimeOnly), changed(changes))
	}
	result := &watchAnswer{Changed: changes}
	answer := &show.Answer{Command: "build", Result: result}
	err := w.build(ctx, answer, result)
	result.Seconds = time.Since(start).Seconds()
	switch {
	case ctx.Err() != nil:
		return
	case a.out.JSON:
		exit := 0
		if err != nil {
			exit = fault.KindOf(err).ExitCode()
		}
		a.out.Line(answer, err, exit)
	case err != nil:
		a.out.Error(err)
		a.out.Say("%s  what was built before stays as it is; the next save is waited for",
			time.Now().Format(time.TimeOnly))
	default:
		a.out.Say("%s  ready after %.1f s", time.Now().Format(time.TimeOnly), result.Seconds)
	}
}

func (w *watcher) build(ctx context.Context, answer *show.Answer, result *watchAnswer) error {
	a := w.a
	s, err := a.session("build --watch", w.change)
	if err != nil {
		return err
	}
	defer s.Close()
	step, r, err := s.Build(ctx, pathsIn(s.P, w.args))
	if step != nil {
		answer.Steps = append(answer.Steps, *step)
		w.show(*step)
	}
	if err != nil || !w.flags.server {
		return err
	}
	if len(w.args) > 0 { // what is there of the rest is played too
		if _, r, err = s.Build(ctx, nil); err != nil {
			return err
		}
	}
	if _, err := s.Play(ctx, &r.Tree); err != nil {
		return err
	}
	result.Server, err = w.play(ctx, s.P)
	return err
}

// show shows a step, with warnings and notes only as far as the round before had them not.
func (w *watcher) show(step release.Step) {
	known := w.said
	w.said = step.Findings
	step.Findings = slices.DeleteFunc(slices.Clone(step.Findings), func(f finding.Finding) bool {
		return f.Severity != finding.Error &&
			slices.ContainsFunc(known,
				func(o finding.Finding) bool {
					return o.ID == f.ID && o.Text == f.Text &&
						o.Place.File == f.Place.File
				})
	})
	w.a.out.Step(step)
}

// play lets the stand-in load what was packed, and starts it the first time.
func (w *watcher) play(ctx context.Context, p *project.Project) (*gameserver.Status, error) {
	a := w.a
	if w.server == nil {
		root := p.Join(bundle.PlayRoot)
		d, err := safefile.MakeDir(root)
		if err != nil {
			return nil, err
		}
		d.Close()
		bare := *p.Profile
		bare.Server.Maps, bare.Server.Playing = "", "" // there are no lists here: every map counts
		if w.server, err = gameserver.Start(root, &bare, gameserver.Options{Listen: w.flags.listen}); err != nil {
			return nil, err
		}
		a.out.Say("server  up    a stand-in of the game's server answers at %s", w.server.URL)
		st := w.server.Status()
		a.mapTable(st.Maps)
		return st, nil
	}
	calls := p.Profile.Server.Call
	c, err := gameserver.Dial(ctx, w.server.URL, gameserver.Calls{Status: calls.Status, Reload: calls.Reload})
	if err != nil {
		return nil, err
	}
	st, err := c.Reload(ctx)
	if err != nil {
		return nil, err
	}
	var loaded, not []string
	for _, m := range st.Maps {
		if m.Loaded {
			loaded = append(loaded, m.Name)
		} else {
			not = append(not, m.Name)
		}
	}
	text := "has loaded " + strings.Join(loaded, ", ")
	if len(not) > 0 {
		text = fmt.Sprintf("can't load %s; %s", strings.Join(not, ", "), text)
	}
	a.out.Say("server        %s", show.Clean(text))
	return st, nil
}

// changed says which sources changed, in a line.
func changed(list []watch.Change) string {
	const most = 3
	var parts []string
	for _, c := range list[:min(len(list), most)] {
		parts = append(parts, fmt.Sprintf("%s %s", show.Clean(c.Path), c.State))
	}
	if n := len(list) - most; n > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(parts, ", ")
}
