package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/internal/cli/show"
)

// oneTarget opens the target that a subcommand names.
func (a *app) oneTarget(ctx context.Context, name string) (*project.Project, *deploy.Target, error) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, nil, err
	}
	t, err := deploy.Open(ctx, p, name, a.access())
	return p, t, err
}

// way is a target and its goal.
type way struct {
	t    *deploy.Target
	goal *deploy.Goal
	plan *deploy.Plan
}

// toGoals shows the plans that lead to goals, asks once, and does them one after the other.
func (a *app) toGoals(ctx context.Context, answer *show.Answer, ways []way, command, question string,
	f deployFlags) error {
	var plans []*deploy.Plan
	for i := range ways {
		w := &ways[i]
		plan, err := w.t.Plan(ctx, w.goal, deploy.PlanOptions{Verify: f.verify})
		if err != nil {
			return err
		}
		w.plan = plan
		plans = append(plans, plan)
		a.showPlan(plan)
	}
	if answer.Result = plans; len(plans) == 1 {
		answer.Result = plans[0]
	}
	for _, w := range ways {
		if err := w.t.Allowed(w.plan, deploy.Options{Overwrite: f.overwrite}); err != nil {
			return err
		}
	}
	if f.planOnly {
		return nil
	}
	if err := a.confirm(ctx, question); err != nil {
		return err
	}
	var names []string
	for _, w := range ways {
		names = append(names, w.t.Name)
	}
	s, err := a.session(command+" "+strings.Join(names, " "), f.set)
	if err != nil {
		return err
	}
	defer s.Close()
	bundles, err := bundle.Packed(s.P)
	if err != nil {
		bundles = nil // what to go back to may be there without anything packed here
	}
	for _, w := range ways {
		_, step, err := s.Run(ctx, &release.Deploying{Target: w.t, Goal: w.goal, Plan: w.plan}, bundles)
		a.deployed(answer, step)
		if err != nil {
			return err
		}
	}
	return nil
}

// deployed shows how it ended; the files stand in the plan, which has been shown.
func (a *app) deployed(answer *show.Answer, s *release.Step) {
	if s == nil {
		return
	}
	answer.Steps = append(answer.Steps, *s)
	short := *s
	if !a.out.Verbose {
		short.Made = nil
	}
	a.out.Step(short)
}

func (a *app) rollbackCommand() *cobra.Command {
	var f deployFlags
	var asFound bool
	cmd := &cobra.Command{
		Use:   "rollback TARGET [VERSION]",
		Short: "Restore what a target had before, from the copies that it keeps",
		Long: `Rollback brings back what was deployed to a target before the last deployment, or VERSION, when that is one of the last that
it keeps ('vornix deploy history' lists them; keep = 5 in the target says how many). Lines of others in lists stay. Files come
from the copies that the target keeps, or from out/releases here. An unfinished deployment is undone first.

Every file is restored as it was deployed. Changes that others made there before the next deployment replaced them are restored only
with --as-found.`,
		Example: `  vornix deploy rollback practice --yes
  vornix deploy rollback practice 1.0.0 --plan`,
		Args: between(1, 2, "the name of one target, and a version if it is not the one before"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return a.completeVersions(cmd, nil, begun)
			}
			return a.completeTargets(cmd, args, begun)
		},
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			_, t, err := a.oneTarget(ctx, args[0])
			if err != nil {
				return err
			}
			defer t.Close()
			version := ""
			if len(args) > 1 {
				version = args[1]
			}
			goal, err := t.Back(ctx, version, asFound)
			if err != nil {
				return err
			}
			return a.toGoals(ctx, answer, []way{{t: t, goal: goal}}, "deploy rollback",
				fmt.Sprintf("Bring %s back to %s?", t.Name, orWord(goal.Version, "nothing of this project")), f)
		}),
	}
	f.add(a, cmd)
	cmd.Flags().BoolVar(&asFound, "as-found", false,
		"restore the replaced files as they were found, with the changes of others")
	return cmd
}

func (a *app) withdrawCommand() *cobra.Command {
	var f deployFlags
	cmd := &cobra.Command{
		Use:   "withdraw MAP... TARGET...",
		Short: "Take a map off targets: its files, its companions, its places in lists, rotation and welcome page",
		Long: `Withdraw takes maps off targets with everything that belongs to them and that no other map there needs. A bundle that
holds other maps too stays; the map is in no list any more. A rotation is never emptied. The next deployment brings the map
back, unless the target names it in without = ["MAP"].`,
		Example: `  vornix deploy withdraw ore_spiral practice --plan
  vornix deploy withdraw ore_spiral practice league --yes`,
		Args:              between(2, -1, "the names of maps, and last of targets"),
		ValidArgsFunction: a.completeWithdraw,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			names, targets := args[:len(args)-1], args[len(args)-1:]
			for len(names) > 1 && slices.Contains(release.Targets(p), names[len(names)-1]) {
				names, targets = names[:len(names)-1], args[len(names)-1:]
			}
			var ways []way
			defer func() {
				for _, w := range ways {
					w.t.Close()
				}
			}()
			for _, name := range targets {
				t, err := deploy.Open(ctx, p, name, a.access())
				if err != nil {
					return err
				}
				ways = append(ways, way{t: t})
				if ways[len(ways)-1].goal, err = t.Without(ctx, names...); err != nil {
					return err
				}
			}
			if err := a.toGoals(ctx, answer, ways, "deploy withdraw",
				fmt.Sprintf("Take %s off %s?", strings.Join(names, " and "), strings.Join(targets, " and ")),
				f); err != nil || f.planOnly {
				return err
			}
			for _, target := range targets {
				for _, m := range names {
					if !slices.Contains(p.File.Targets[target].Without, m) {
						a.out.Say("The next deployment brings %s back; to keep it off, write without = [%q] in [target.%s].", m, m, target)
					}
				}
			}
			return nil
		}),
	}
	f.add(a, cmd)
	return cmd
}

func (a *app) historyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "history TARGET",
		Short: "What was done to a target, by whom, and what can be gone back to",
		Example: `  vornix deploy history practice
  vornix deploy history practice --json | jq '.result[] | select(.possible) | .version'`,
		Args:              between(1, 1, "the name of one target"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			_, t, err := a.oneTarget(ctx, args[0])
			if err != nil {
				return err
			}
			defer t.Close()
			list, err := t.History(ctx)
			if err != nil {
				return err
			}
			for i := range list {
				list[i].Files, list[i].Lists, list[i].Found, list[i].Page = nil, nil, nil, nil
			}
			answer.Result = list
			if len(list) == 0 {
				a.out.Say("Nothing was deployed to %s yet.", t.Name)
				return nil
			}
			a.out.Heading("%s, at %s", t.Name, show.Clean(t.String()))
			var rows [][]string
			for _, r := range list {
				what := r.Kind
				if len(r.Maps) > 0 {
					what += " " + strings.Join(r.Maps, ", ")
				}
				state := ""
				switch {
				case r.Current:
					state = "there now"
				case r.Possible:
					state = "can be gone back to"
				}
				rows = append(rows,
					[]string{fmt.Sprint(r.Serial), r.Time.Local().Format("2006-01-02 15:04"), what,
						orWord(r.Version, "nothing"), changes(&r.Record), show.Clean(r.By), state})
			}
			a.out.Table([]string{"number", "when", "what", "version", "changes", "by", ""}, rows)
			return nil
		}),
	}
}

// changes says how many files a record was about.
func changes(r *deploy.Record) string {
	var parts []string
	for _, x := range []struct {
		n    int
		word string
	}{{r.Added, "added"}, {r.Changed, "changed"}, {r.Removed, "removed"}} {
		if x.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", x.n, x.word))
		}
	}
	return orWord(strings.Join(parts, ", "), "none")
}

// completeWithdraw offers packed maps, and targets.
func (a *app) completeWithdraw(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	list, directive := a.completeTargets(cmd, args, begun)
	p, err := a.loadReaching()
	if err != nil {
		return list, directive
	}
	bundles, err := bundle.Packed(p)
	if err != nil {
		return list, directive
	}
	var names []string
	for _, b := range bundles {
		names = append(names, b.Maps...)
	}
	if len(args) == 0 {
		return names, directive
	}
	return append(list, names...), directive
}
