package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/build"
	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/publish"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) releaseCommand() *cobra.Command {
	var f deployFlags
	var signing signFlags
	var date string
	var replace, noWorkshops bool
	cmd := &cobra.Command{
		Use:   "release [VERSION]",
		Short: "All of it, in order: check, build, shoot, pack, try, addon, index, deploy, publish",
		Long: `Release runs every step and stops at the first that fails; run again, it goes on with what is left, since what is
done is kept. VERSION, when it is later than the project's, is written into vornix.toml first. A finished version is
recorded in .vornix/ledger.jsonl with a copy in out/releases, and is never altered: with changed content the version has
to be raised. On workshops it goes up where the project has items already, as published.toml says; making an item is a thing of
its own, 'vornix publish'.`,
		Example: `  vornix release --plan
  vornix release 1.1.0 --yes`,
		Args: between(0, 1, "one version at most, such as 1.1.0"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			version := ""
			if len(args) > 0 {
				version = args[0]
			}
			p, err := a.load()
			if err != nil {
				return err
			}
			if err := a.releasePlan(ctx, answer, p, version, noWorkshops); err != nil || f.planOnly {
				return err
			}
			if err := a.confirm(ctx, "Release?"); err != nil {
				return err
			}
			if _, err := time.Parse(time.DateOnly, date); date != "" && err != nil {
				return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no date", date), Do: "Write it as in 2026-11-25."}
			}
			signed := release.Options{}
			if err := signing.set(&signed); err != nil {
				return err
			}
			s, err := a.session("release", func(o *release.Options) {
				f.set(o)
				o.OnStep, o.Date, o.ReplaceEdited, o.NoWorkshops = a.out.Step, date, replace, noWorkshops
				o.Keys, o.Unsigned, o.LostKey = signed.Keys, signed.Unsigned, signed.LostKey
			})
			if err != nil {
				return err
			}
			defer s.Close()
			a.out.Say("")
			answer.Steps, err = s.Release(ctx, version)
			return err
		}),
	}
	f.add(a, cmd)
	cmd.Flags().StringVar(&date, "date", "", "`date` of the release, as in 2026-11-25 (default: today)")
	cmd.Flags().BoolVar(&replace, "replace-edited", false, "write metadata files anew that somebody changed by hand, after moving those to the safe place")
	cmd.Flags().BoolVar(&noWorkshops, "without-workshops", false, "leave workshops out; 'vornix publish' brings the release there later")
	signing.add(cmd)
	signing.addUnsigned(cmd)
	return cmd
}

// releasePlan is what a release would do, in data and in words.
func (a *app) releasePlan(ctx context.Context, answer *show.Answer, p *project.Project, version string, noWorkshops bool) error {
	stale, err := build.Stale(ctx, p, programID())
	if err != nil {
		return err
	}
	head := p.File.Project
	if version == "" {
		version = head.Version
	}
	targets := release.Writable(p)
	workshops := []string{}
	if !noWorkshops {
		if workshops, err = publish.Published(p); err != nil {
			return err
		}
	}
	answer.Result = struct {
		Version   string   `json:"version"`
		Build     []string `json:"build"`
		Targets   []string `json:"targets"`
		Workshops []string `json:"workshops"`
	}{version, append([]string{}, stale...), append([]string{}, targets...), append([]string{}, workshops...)}
	a.out.Heading("%s %s for %s", head.Title, version, p.Profile.Game.Title)
	to := "no target"
	if len(targets) > 0 {
		to = strings.Join(targets, ", ")
	}
	steps := "pack, try, addon, index"
	if release.HasBeside(p.Profile) {
		steps = "shoot, " + steps
	}
	if len(workshops) > 0 {
		to += "; publish at: " + strings.Join(workshops, ", ")
	}
	a.out.Say("to build: %d, then %s; deploy to: %s", len(stale), steps, to)
	return nil
}
