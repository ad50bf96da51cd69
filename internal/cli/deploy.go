package cli

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/semver"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/core/source/assetgraph"
	"vornix/internal/cli/show"
)

// deployFlags are the flags that deploy and release share.
type deployFlags struct {
	planOnly, overwrite, withoutServer, verify, offline bool
}

func (f *deployFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.planOnly, "plan", false, "show what would be done, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&f.overwrite, "overwrite", false,
		"also overwrite files that others changed on the target (a copy stays there)")
	cmd.Flags().BoolVar(&f.withoutServer, "without-server", false, "copy files without asking the game server")
	cmd.Flags().BoolVar(&f.verify, "verify", false, "compare files on the target by content, not by size and time")
	addOffline(cmd, &f.offline)
}

func (f *deployFlags) set(o *release.Options) {
	o.Overwrite, o.WithoutServer, o.Verify, o.Offline = f.overwrite, f.withoutServer, f.verify, f.offline
}

// addOffline adds the flag of commands that compare the version with what other places know.
func addOffline(cmd *cobra.Command, offline *bool) {
	cmd.Flags().BoolVar(offline, "offline", false,
		"continue although a place that knows finished versions does not answer")
}

// checkPlaces compares what goes out with what other places know of the version, and says which could not be asked.
func (a *app) checkPlaces(ctx context.Context, p *project.Project, bundles []bundle.Bundle, newVersion bool,
	o release.Options, q release.Query) (release.Places, error) {
	places, err := release.CheckPlaces(ctx, p, bundles, newVersion, o, q)
	if err == nil {
		a.silent(places)
	}
	return places, err
}

// silent names the places that did not answer.
func (a *app) silent(places release.Places) {
	for _, name := range places.Silent() {
		a.out.Say("no answer from %s", show.Clean(name))
	}
}

// fleetFlags are about several targets.
type fleetFlags struct {
	all, wave, skip bool
	atOnce          int
	pause           time.Duration
}

// deployAnswer is the result of deploy in JSON.
type deployAnswer struct {
	Plans       []*deploy.Plan    `json:"plans"`
	Unreachable map[string]string `json:"unreachable,omitempty"` // why, by target
	Outcomes    []*deploy.Outcome `json:"outcomes"`
}

func (a *app) deployCommand() *cobra.Command {
	var f deployFlags
	var fleet fleetFlags
	cmd := &cobra.Command{
		Use:   "deploy TARGET...",
		Short: "Bring the packed bundles to servers: planned, whole, verified",
		Long: `Deploy shows what it would change on each target and does it when told. Files are brought beside their places (of a
file that resembles one that is there, only what differs), verified by hash on the far side, and then switched: maps before
lists, lists before the rotation. The game server is asked whether it has loaded every map, and if it has not, everything
goes back. Lines of others in lists stay. A file that somebody else changed is never overwritten without --overwrite.

What was cut off is undone by the next run, which takes up the upload where it stopped. With several targets, the first that
fails keeps those from beginning that have not begun; with --wave the first target goes ahead, and the others follow when its
server plays what it got.`,
		Example: `  vornix deploy practice --plan
  vornix deploy practice --yes
  vornix deploy --all --wave --pause 5m --yes`,
		Args:              between(0, -1, "the names of targets (see [target.NAME] in vornix.toml), or --all"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			if fleet.all {
				args = release.Writable(p)
			}
			if len(args) == 0 {
				return &fault.Fault{Kind: fault.Usage, What: "no target was named",
					Do: "Its targets: " + orWord(strings.Join(release.Targets(p), ", "),
						"none; describe one under [target.NAME] in vornix.toml") + "."}
			}
			bundles, err := a.ready(ctx, p)
			if err != nil {
				return err
			}
			o := a.options()
			f.set(&o)
			o.Offline = o.Offline || fleet.skip
			if _, err := a.checkPlaces(ctx, p, bundles, false, o, release.Query{Reached: args}); err != nil {
				return err
			}
			result := &deployAnswer{Plans: []*deploy.Plan{}, Outcomes: []*deploy.Outcome{}}
			answer.Result = result
			ways, err := a.plans(ctx, p, args, bundles, f.verify, fleet, result)
			defer func() {
				for _, w := range ways {
					w.Target.Close()
				}
			}()
			if err != nil {
				return err
			}
			if err := a.allowed(ways, f); err != nil || f.planOnly {
				return err
			}
			return a.deployAll(ctx, answer, result, ways, bundles, f, fleet)
		}),
	}
	f.add(a, cmd)
	cmd.Flags().BoolVar(&fleet.all, "all", false, "all targets of the project but web folders, which can only be read")
	cmd.Flags().IntVar(&fleet.atOnce, "at-once", 4, "deploy to this `number` of targets at once")
	cmd.Flags().BoolVar(&fleet.wave, "wave", false,
		"the first target ahead; the others when its server plays what it got")
	cmd.Flags().DurationVar(&fleet.pause, "pause", 0,
		"with --wave: look at the first target for this `time`, as in 5m, before the others follow")
	cmd.Flags().BoolVar(&fleet.skip, "skip-unreachable", false,
		"go on without targets that can't be reached; the exit code is 4 all the same")
	cmd.AddCommand(a.rollbackCommand(), a.withdrawCommand(), a.historyCommand(), a.unlockCommand(), a.previewCommand())
	return cmd
}

// plans makes and shows the plan for each target. Those that can't be reached are an error, or with
// --skip-unreachable told and left out.
func (a *app) plans(ctx context.Context, p *project.Project, targets []string, bundles []bundle.Bundle, verify bool,
	fleet fleetFlags, result *deployAnswer) ([]*release.Deploying, error) {
	graph := sync.OnceValues(func() (*assetgraph.Graph, error) { return assetgraph.ScanProject(ctx, p) })
	ways := make([]*release.Deploying, len(targets))
	errs := make([]error, len(targets))
	access := a.access()
	var g group.Group
	g.SetLimit(max(1, fleet.atOnce))
	for i, target := range targets {
		g.Go(func() error {
			ways[i], errs[i] = release.PlanDeploy(ctx, p,
				func(context.Context) (*assetgraph.Graph, error) { return graph() }, target, bundles,
				release.DeployOptions{Access: access, Verify: verify})
			return nil
		})
	}
	_ = g.Wait()
	var list []*release.Deploying
	var first error
	for i, target := range targets {
		switch err := errs[i]; {
		case err == nil:
			list = append(list, ways[i])
			result.Plans = append(result.Plans, ways[i].Plan)
			a.showPlan(ways[i].Plan)
		case fleet.skip && fault.KindOf(err) == fault.Unreachable && ctx.Err() == nil:
			if result.Unreachable == nil {
				result.Unreachable = map[string]string{}
			}
			result.Unreachable[target] = err.Error()
			a.out.Heading("%s can't be reached, and is left out", target)
			a.out.Say("%s", show.Clean(err.Error()))
		default:
			if first == nil {
				first = err
			}
		}
	}
	if first == nil && len(list) == 0 {
		first = &fault.Fault{Kind: fault.Unreachable, What: "none of the targets can be reached"}
	}
	return list, first
}

// allowed says before anybody is asked what would be refused, with the exit code that the run would have.
func (a *app) allowed(ways []*release.Deploying, f deployFlags) error {
	var refused []error
	for _, w := range ways {
		if err := w.Target.Allowed(w.Plan, deploy.Options{Overwrite: f.overwrite}); err != nil {
			refused = append(refused, err)
		}
	}
	if len(refused) == 0 {
		return nil
	}
	for _, err := range refused[1:] {
		a.out.Error(err)
	}
	return refused[0]
}

// maxRows is how many files of a plan are shown without --verbose.
const maxRows = 40

// showPlan shows what would be done.
func (a *app) showPlan(p *deploy.Plan) {
	from := "which has nothing of this project"
	if p.Before != "" {
		from = "which has version " + p.Before
	}
	if l := p.Last; l != nil {
		from += fmt.Sprintf(" (%s by %s, %s)", l.Kind, show.Clean(l.By), l.Time.Local().Format("2006-01-02 15:04"))
	}
	switch p.Kind {
	case deploy.RollingBack:
		a.out.Heading("plan for %s: back to %s, %s", p.Target, orWord(p.Version, "nothing of this project"), from)
	case deploy.Withdrawing:
		a.out.Heading("plan for %s, %s: take a map off", p.Target, from)
	default:
		a.out.Heading("plan for %s, %s", p.Target, from)
	}
	var rows [][]string
	left := 0
	steps := slices.Clone(p.Steps)
	slices.SortStableFunc(steps, func(a, b deploy.FileChange) int { return rank(a.Action) - rank(b.Action) })
	for _, s := range steps {
		if s.Action == deploy.Leave && len(steps) > maxRows && !a.out.Verbose {
			left++
			continue
		}
		note := strings.TrimPrefix(s.Drift+"; "+s.Note, "; ")
		rows = append(rows, []string{string(s.Action), s.Path, release.Bytes(s.Size), strings.TrimSuffix(note, "; ")})
	}
	more := 0
	if len(rows) > maxRows && !a.out.Verbose {
		more = len(rows) - maxRows
		rows = rows[:maxRows]
	}
	if len(rows) > 0 {
		a.out.Table([]string{"", "file", "size", ""}, rows)
	}
	if more > 0 {
		a.out.Say("and %d more (all with --verbose)", more)
	}
	if left > 0 {
		a.out.Say("%s stay as they are", release.Count(left, "file"))
	}
	if n := len(p.Foreign); n > 0 {
		a.out.Say("%s of others beside ours, which stay: %s", release.Count(n, "file"), release.Few(p.Foreign))
	}
	if p.Half != "" {
		a.out.Say("A deployment there did not come to its end, and will be undone first: %s.", p.Half)
	}
}

func rank(a deploy.Operation) int {
	return slices.Index([]deploy.Operation{deploy.Add, deploy.Change, deploy.Remove, deploy.Leave}, a)
}

// deployAll does what was planned, after asking.
func (a *app) deployAll(ctx context.Context, answer *show.Answer, result *deployAnswer, ways []*release.Deploying,
	bundles []bundle.Bundle, f deployFlags, fleet fleetFlags) error {
	changes := 0
	for _, w := range ways {
		changes += w.Plan.Changes()
	}
	if changes > 0 {
		if err := a.confirm(ctx, "Deploy?"); err != nil {
			return err
		}
	}
	var names []string
	byName := map[string]*release.Deploying{}
	for _, w := range ways {
		names = append(names, w.Target.Name)
		byName[w.Target.Name] = w
	}
	s, err := a.session("deploy "+strings.Join(names, " "), f.set)
	if err != nil {
		return err
	}
	defer s.Close()
	steps := map[string]*release.Step{}
	var mu sync.Mutex
	o := deploy.FleetOptions{AtOnce: fleet.atOnce, Wave: fleet.wave,
		Look: func(ctx context.Context, first *deploy.Outcome) error {
			return a.lookAtFirst(ctx, s.P, first, len(names)-1, f, fleet)
		}, Ended: func(x *deploy.Outcome) {
			mu.Lock()
			defer mu.Unlock()
			a.deployed(answer, steps[x.Target])
			if x.Err != nil && len(names) > 1 {
				a.out.Error(x.Err)
			}
		}}
	result.Outcomes, err = deploy.Fleet(ctx, names, o, func(ctx context.Context, name string) (*deploy.Result, error) {
		r, step, err := s.Run(ctx, byName[name], bundles)
		mu.Lock()
		defer mu.Unlock()
		if step != nil {
			steps[name] = step
		}
		if r == nil {
			r = &deploy.Result{Plan: byName[name].Plan}
		}
		return r, err
	})
	if len(names) > 1 {
		a.showOutcomes(result)
		if err != nil && ctx.Err() == nil {
			failed := 0
			for _, x := range result.Outcomes {
				if x.State == deploy.Failed {
					failed++
				}
			}
			if failed > 0 {
				err = &fault.Fault{Kind: fault.KindOf(err),
					What: fmt.Sprintf("%d of %s failed", failed, release.Count(len(names), "target")),
					Why:  "What they had is there again or still; the others are as the table says.",
					Do:   "Mend the cause, and run the same command again: it goes on with those that are not done."}
			}
		}
	}
	if err == nil && len(result.Unreachable) > 0 {
		err = &fault.Fault{Kind: fault.Unreachable,
			What: fmt.Sprintf("%s could not be reached: %s", release.Count(len(result.Unreachable), "target"),
				strings.Join(slices.Sorted(maps.Keys(result.Unreachable)), ", ")),
			Do: "Run the same command again when they are up."}
	}
	return err
}

// lookAtFirst waits and looks before the others follow.
func (a *app) lookAtFirst(ctx context.Context, p *project.Project, first *deploy.Outcome, others int, f deployFlags,
	fleet fleetFlags) error {
	if fleet.pause > 0 {
		a.out.Say("%s goes ahead; %s in %s", first.Target, plural(others, "other follows", "others follow"),
			fleet.pause)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(fleet.pause):
		}
	}
	st := deploy.Look(ctx, p, first.Target, a.access(), f.verify)
	var why string
	switch {
	case st.Error != "":
		why = st.Error
	case len(st.Drift) > 0:
		why = "files there are not what was deployed: " + release.Few(st.Drift)
	case st.Asked != "" && !f.withoutServer:
		why = st.Asked
	case st.Server != nil && !f.withoutServer:
		for _, m := range st.Server.Maps {
			if slices.Contains(first.Result.Maps(), m.Name) && !m.Loaded {
				why = m.Name + ": " + m.Error
			}
		}
	}
	if why != "" {
		return &fault.Fault{What: fmt.Sprintf("target %q is not well since it was deployed to: %s", first.Target, why),
			Why: "The others have not been touched.",
			Do:  "Look at it, or go back with: vornix deploy rollback " + first.Target}
	}
	return a.confirm(ctx, fmt.Sprintf("%s is well. Go on with %s?", first.Target, plural(others, "other", "others")))
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// showOutcomes shows how each of several targets ended.
func (a *app) showOutcomes(result *deployAnswer) {
	var rows [][]string
	for _, x := range result.Outcomes {
		row := []string{x.Target, x.State, "", "", ""}
		if r := x.Result; r != nil && r.Plan != nil {
			row[2] = orWord(r.Plan.Before, "nothing")
			if x.State == deploy.Done {
				row[2] += " to " + r.Plan.Version
			}
			row[3] = release.Bytes(r.Sent)
			row[4] = fmt.Sprintf("%.1f s", r.Seconds)
		}
		rows = append(rows, row)
	}
	for _, name := range slices.Sorted(maps.Keys(result.Unreachable)) {
		rows = append(rows, []string{name, "unreachable", "", "", ""})
	}
	a.out.Heading("targets")
	a.out.Table([]string{"target", "", "version", "sent", "time"}, rows)
}

// completeTargets offers the project's targets to the shell.
// fixed offers a few words and nothing else.
func fixed(words []string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return words, cobra.ShellCompDirectiveNoFileComp
	}
}

// completeMaps offers the names of the project's maps, beside files. It reads no map: completion has to be quick.
func (a *app) completeMaps(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	files, err := p.List()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var names []string
	for _, f := range files {
		if ending := path.Ext(f.Path); strings.HasPrefix(f.Path, p.File.Sources.Maps+"/") &&
			(ending == ".vnx" || ending == ".glb" || ending == ".gltf") {
			names = append(names, strings.TrimSuffix(path.Base(f.Path), ending))
		}
	}
	return names, cobra.ShellCompDirectiveDefault
}

// completeRelease offers the version that the project has, and those that could come next.
func (a *app) completeRelease(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.loadReaching()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return semver.Candidates(p.File.Project.Version), cobra.ShellCompDirectiveNoFileComp
}

func (a *app) completeTargets(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return release.Targets(p), cobra.ShellCompDirectiveNoFileComp
}
