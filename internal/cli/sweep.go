package cli

import (
	"context"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vornix/core/base/fault"
	"vornix/core/base/quarantine"
	"vornix/core/base/suggest"
	"vornix/core/config/project"
	"vornix/core/make/sweep"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) sweepCommand() *cobra.Command {
	var planOnly bool
	var ruleNames []string
	cmd := &cobra.Command{
		Use:   "sweep [PATH...]",
		Short: "Find stray files and move them to a safe place; 'restore' brings them back",
		Long: `Sweep lists stray files, with the reason for each: backups of editors and numbered ones, temporary files and logs, what systems
leave in folders, old bundles, caches, files in out/ whose source is gone, what the game's profile names, assets that nothing needs,
empty folders. On word they are moved into a dated folder in .vornix/safe, which later sweeps remove for good after the days that
keep_days under [sweep] sets (60).

What Git tracks, or something needs, is left alone and said so, unless it is named exactly. With PATH, a file, a folder or a pattern,
only what it covers is looked at. Links are not followed.`,
		Example: `  vornix sweep
  vornix sweep --rule backup --rule system --yes
  vornix sweep drafts/mail_crate.vnx --yes
  vornix restore`,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			rules, err := sweepRules(ruleNames)
			if err != nil {
				return err
			}
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			named := namedIn(p, args)
			plan, err := release.PlanSweep(ctx, p, g, named, rules)
			if err != nil {
				return err
			}
			answer.Result = plan
			a.sweepPlan(plan)
			ask := a.out.Terminal && term.IsTerminal(int(os.Stdin.Fd())) && !a.out.JSON
			switch {
			case planOnly, len(plan.Go) == 0 && len(plan.Expired) == 0:
				return nil
			case !a.yes && !ask:
				a.out.Say("\nnothing was moved: --yes moves them to %s", project.QuarantineDir)
				return nil
			}
			if err := a.confirm(ctx, "Move them away?"); err != nil {
				return err
			}
			s, err := a.session("sweep", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			step, _, err := s.Sweep(ctx, named, rules)
			return a.step(answer, step, err)
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be moved, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	var words []string
	for _, r := range sweep.Rules {
		words = append(words, string(r))
	}
	cmd.Flags().StringArrayVar(&ruleNames, "rule", nil,
		"only what this `rule` finds: "+strings.Join(words, ", ")+"; may be given several times")
	_ = cmd.RegisterFlagCompletionFunc("rule", fixed(words)) // it exists
	return cmd
}

func sweepRules(names []string) (rules []sweep.Rule, err error) {
	var known []string
	for _, r := range sweep.Rules {
		known = append(known, string(r))
	}
	for _, n := range names {
		if !slices.Contains(known, n) {
			f := &fault.Fault{Kind: fault.Usage, What: "there is no rule " + n,
				Do: "The rules are: " + strings.Join(known, ", ") + "."}
			if near := suggest.Word(n, known); near != "" {
				f.Do = "Did you mean " + near + "?"
			}
			return nil, f
		}
		rules = append(rules, sweep.Rule(n))
	}
	return rules, nil
}

// namedIn turns paths as they were typed into such that count from the project's folder.
func namedIn(p *project.Project, args []string) (named []string) {
	for _, arg := range args {
		if rel := inProject(p, arg); rel != "." {
			named = append(named, path.Clean(strings.ReplaceAll(rel, `\`, "/")))
		}
	}
	return named
}

func (a *app) sweepPlan(plan *sweep.Plan) {
	if len(plan.Go) == 0 {
		a.out.Say("nothing is stray")
	} else {
		var rows [][]string
		for _, i := range plan.Go {
			size := release.Bytes(i.Size)
			if i.Folder {
				size = ""
			}
			rows = append(rows, []string{i.Path, size, string(i.Rule), i.Why})
		}
		a.out.Table([]string{"stray", "size", "rule", "why"}, rows)
		folders := 0
		for _, i := range plan.Go {
			if i.Folder {
				folders++
			}
		}
		a.out.Say("\n%s and %s, %s", release.Count(len(plan.Go)-folders, "file"), release.Count(folders, "folder"),
			release.Bytes(plan.Size()))
	}
	if len(plan.Left) > 0 {
		var rows [][]string
		for _, i := range plan.Left {
			rows = append(rows, []string{i.Path, release.Bytes(i.Size), i.Why, i.Left})
		}
		a.out.Say("")
		a.out.Table([]string{"left alone", "size", "why", "but"}, rows)
	}
	for _, p := range plan.Expired {
		a.out.Say("the safe place of %s goes for good: %s, %s", p.Time.Local().Format("2006-01-02"),
			release.Count(len(p.Files), "file"), release.Bytes(p.Size()))
	}
}

func (a *app) restoreCommand() *cobra.Command {
	var planOnly, list bool
	var from string
	cmd := &cobra.Command{
		Use:   "restore [PATH...]",
		Short: "Bring back what a sweep moved away",
		Long: `Restore moves files back from a safe place to where they were: all of the last sweep, or those that PATH (a file, a folder or a
pattern) covers. A file in whose place another stands now is left in the safe place.`,
		Example: `  vornix restore --list
  vornix restore maps/cairn_station.vnx~
  vornix restore --from 2026-11-26T04-05-06`,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			named := namedIn(p, args)
			if list {
				return a.safePlaces(p, answer)
			}
			back, err := release.PlanRestore(p, from, named)
			if err != nil {
				return err
			}
			if planOnly {
				answer.Result = back
				var rows [][]string
				for _, b := range back {
					what := "comes back"
					if b.Left != "" {
						what = "stays: " + b.Left
					}
					rows = append(rows, []string{b.Path, release.Bytes(b.Size), b.Place, what})
				}
				a.out.Table([]string{"file", "size", "from", ""}, rows)
				return nil
			}
			s, err := a.session("restore", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			step, back, err := s.Restore(ctx, from, named)
			answer.Result = back
			for _, b := range back {
				if b.Left != "" {
					a.out.Say("%s stays: %s", show.Clean(b.Path), b.Left)
				}
			}
			return a.step(answer, step, err)
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would come back, and change nothing")
	cmd.Flags().BoolVar(&list, "list", false, "list the safe places with what is in them")
	cmd.Flags().StringVar(&from, "from", "", "safe `place`, by its date as --list shows it (default: the last)")
	return cmd
}

func (a *app) safePlaces(p *project.Project, answer *show.Answer) error {
	places, err := release.Safe(p)
	if err != nil {
		return err
	}
	answer.Result = append([]quarantine.Batch{}, places...)
	var rows [][]string
	for _, pl := range places {
		for _, f := range pl.Files {
			size := release.Bytes(f.Size)
			if f.Folder {
				size = ""
			}
			rows = append(rows, []string{pl.Name, f.Path, size, f.Why})
		}
	}
	if len(rows) == 0 {
		a.out.Say("there is no safe place")
	}
	a.out.Table([]string{"place", "file", "size", "why"}, rows)
	return nil
}
