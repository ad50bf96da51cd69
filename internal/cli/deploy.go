package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/bundle"
	"vornix/core/deploy"
	"vornix/core/ledger"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// deployFlags are the flags that deploy and release share.
type deployFlags struct {
	planOnly, overwrite, withoutServer bool
}

func (f *deployFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.planOnly, "plan", false, "show what would be done, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&f.overwrite, "overwrite", false, "also overwrite files that somebody else changed on the target (a copy stays there)")
	cmd.Flags().BoolVar(&f.withoutServer, "without-server", false, "copy files without asking the game server")
}

func (f *deployFlags) set(o *release.Options) {
	o.Overwrite, o.WithoutServer = f.overwrite, f.withoutServer
}

func (a *app) deployCommand() *cobra.Command {
	var f deployFlags
	cmd := &cobra.Command{
		Use:   "deploy TARGET...",
		Short: "Bring the packed bundles to servers: planned, whole, verified",
		Long: `Deploy shows what it would change in each target's folder and does it when told. Files are copied beside their
places, verified by hash, and then switched, bundles before lists; the game server is asked whether it has loaded every
map, and if it has not, everything goes back. Lines of others in lists stay. A file that somebody else changed is never
overwritten without --overwrite.`,
		Example: `  vornix deploy practice --plan
  vornix deploy practice --yes
  vornix deploy rollback practice --yes`,
		Args:              between(1, -1, "the names of targets (see [target.NAME] in vornix.toml)"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			bundles, err := bundle.Packed(p)
			if err != nil {
				return err
			}
			plans, err := a.plans(ctx, p, args, bundles)
			answer.Result = plans
			if err != nil || f.planOnly {
				return err
			}
			changes := 0
			for _, p := range plans {
				changes += p.Changes()
			}
			if changes > 0 {
				if err := a.confirm(ctx, "Deploy?"); err != nil {
					return err
				}
			}
			s, err := a.session("deploy "+strings.Join(args, " "), f.set)
			if err != nil {
				return err
			}
			defer s.Close()
			for _, target := range args {
				step, err := s.Deploy(ctx, target, bundles)
				if err := a.step(answer, step, err); err != nil {
					return err
				}
			}
			return nil
		}),
	}
	f.add(a, cmd)
	cmd.AddCommand(a.rollbackCommand())
	return cmd
}

// plans makes and shows the plan for each target.
func (a *app) plans(ctx context.Context, p *project.Project, targets []string, bundles []bundle.Bundle) ([]*deploy.Plan, error) {
	g, err := release.Scan(ctx, p)
	if err != nil {
		return nil, err
	}
	var plans []*deploy.Plan
	for _, target := range targets {
		plan, err := release.PlanDeploy(ctx, p, g, target, bundles, os.Getenv)
		if err != nil {
			return plans, err
		}
		plans = append(plans, plan)
		from := "which has nothing of this project"
		if plan.Before != "" {
			from = "which has version " + plan.Before
		}
		a.out.Heading("plan for %s, %s", target, from)
		var rows [][]string
		for _, s := range plan.Steps {
			note := s.Drift
			if s.List && s.Action != deploy.Leave {
				note = "its other lines stay"
			}
			rows = append(rows, []string{string(s.Action), s.Path, release.Bytes(s.Size), note})
		}
		a.out.Table([]string{"", "file", "size", ""}, rows)
	}
	return plans, nil
}

func (a *app) rollbackCommand() *cobra.Command {
	var withoutServer, planOnly bool
	cmd := &cobra.Command{
		Use:   "rollback TARGET",
		Short: "Undo the last deployment to a target, from the target's own safe place",
		Example: `  vornix deploy rollback practice --yes
  vornix deploy rollback practice --yes --without-server`,
		Args:              between(1, 1, "the name of one target"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			pl, err := deploy.PlaceOf(p, args[0], os.Getenv)
			if err != nil {
				return err
			}
			back, err := deploy.PlanRollback(pl)
			if err != nil {
				return err
			}
			answer.Result = back
			a.out.Heading("plan for %s: back to %s", args[0], orWord(back.Version, "nothing of this project"))
			var rows [][]string
			for _, f := range back.Restore {
				rows = append(rows, []string{"put back", f})
			}
			for _, f := range back.Remove {
				rows = append(rows, []string{"remove", f})
			}
			a.out.Table([]string{"", "file"}, rows)
			if planOnly {
				return nil
			}
			if err := a.confirm(ctx, fmt.Sprintf("Undo the last deployment to %s?", args[0])); err != nil {
				return err
			}
			s, err := a.session("deploy rollback "+args[0], nil)
			if err != nil {
				return err
			}
			defer s.Close()
			version, err := deploy.Rollback(ctx, pl, withoutServer)
			if err != nil {
				return err
			}
			now := "nothing of this project"
			if version != "" {
				now = "version " + version
			}
			a.out.Say("%s has %s again.", args[0], now)
			return ledger.Add(s.P, ledger.Event{Kind: ledger.RolledBack, Time: time.Now(), Version: version, Target: args[0]})
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would come back, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&withoutServer, "without-server", false, "put files back without telling the game server")
	return cmd
}

// completeTargets offers the project's targets to the shell.
func (a *app) completeTargets(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.load()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return release.Targets(p), cobra.ShellCompDirectiveNoFileComp
}
