package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/release"
	"vornix/demo"
	"vornix/internal/cli/show"
)

func (a *app) checkCommand() *cobra.Command {
	var profileName string
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Say what is wrong, before anything is built",
		Long: `Check reads every map, material and image header and holds them to the game's rules. It builds and changes nothing.
Exit code 1 when there are errors; warnings and notes alone exit with 0. 'vornix explain ID' tells more of a finding.

With --profile it checks the description of a game instead, and needs no project: every line by itself, rules that can have no effect or
contradict one another, and what is left out; then it makes a first project of it in a folder of its own, builds, packs and tries it.`,
		Example: `  vornix check
  vornix check --json | jq '.steps[0].findings[] | select(.severity == "error")'
  vornix check --profile profiles/mygame.toml`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			if profileName != "" {
				return a.checkProfile(ctx, answer, profileName)
			}
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			step, err := release.Check(ctx, p, g)
			return a.step(answer, step, err)
		}),
	}
	cmd.Flags().StringVar(&profileName, "profile", "",
		"check this game profile, by its `name` or file, instead of a project")
	_ = cmd.RegisterFlagCompletionFunc("profile", completeProfiles) // it exists
	a.addFormat(cmd, show.SARIFFormat)
	return cmd
}

// completeProfiles offers the profiles that come with the program or lie here, beside files.
func completeProfiles(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return project.Profiles(".", demo.Profiles()), cobra.ShellCompDirectiveDefault
}

// profileAnswer is the result of check --profile in JSON.
type profileAnswer struct {
	Profile  string            `json:"profile"`
	Title    string            `json:"title"`
	Sections []profile.Section `json:"sections"`
}

func (a *app) checkProfile(ctx context.Context, answer *show.Answer, name string) error {
	prof, err := findProfile(name, project.Profiles(".", demo.Profiles()))
	if err != nil {
		return err
	}
	result := profileAnswer{prof.Game.ID, prof.Game.Title, prof.Sections()}
	answer.Result = result
	a.out.Heading("%s (%s)", show.Clean(prof.Game.Title), show.Clean(prof.Game.ID))
	var rows [][]string
	for _, s := range result.Sections {
		said, left := fmt.Sprintf("%d of %d", s.Used, s.Keys), ""
		if s.Used == 0 {
			said, left = "nothing", s.LeftOut
		}
		rows = append(rows, []string{s.Name, said, left})
	}
	a.out.Table([]string{"about", "keys", "so it is"}, rows)
	step := &release.Step{Name: "check", Made: []release.Made{}, Findings: prof.Lint()}
	step.Summary = fmt.Sprintf("%s: %s", strconv.Quote(prof.Game.ID), release.Tally(step.Findings))
	if err := a.step(answer, step, nil); err != nil {
		return err
	}
	return a.tryProfile(ctx, answer, prof, name)
}

// tryProfile makes a first project of a profile in a folder of its own, and takes it as far as players would.
func (a *app) tryProfile(ctx context.Context, answer *show.Answer, prof *profile.Profile, name string) error {
	files, err := demo.Starter(prof, "first_project", "First Project")
	if err != nil {
		return err
	}
	if err := addProfile(files, prof, name); err != nil {
		return err
	}
	d, err := safefile.NewScratchDir("")
	if err != nil {
		return err
	}
	defer d.Close()
	for name, data := range files {
		if err := d.WriteCache(name, data); err != nil {
			return err
		}
	}
	p, err := project.Load(d.Path(), demo.Profiles())
	if err != nil {
		return err
	}
	o := a.options()
	o.Until, o.Stages = "try", assembly.Stages{Only: []string{}} // how maps are lit is no matter of the profile
	s, err := a.opened(p, "vornix check", o)
	if err != nil {
		return err
	}
	defer s.Close()
	run, err := s.Release(ctx, "")
	step := &release.Step{Name: "try", Made: []release.Made{}, Failed: err != nil}
	for _, s := range run.Steps {
		step.Findings = append(step.Findings, s.Findings...)
		step.Seconds += s.Seconds
	}
	step.Summary = "a first project of it checks, builds, packs and loads"
	if n := finding.Count(step.Findings, finding.Error); err != nil && n > 0 {
		step.Summary = "a first project of it does not come through: " + release.Tally(step.Findings)
		err = &fault.Fault{What: "no first project can be made with this profile as it is", Err: err,
			Why: "'vornix new --profile' would give people a project with errors.",
			Do:  "Look at the findings: what it demands must be possible."}
	}
	return a.step(answer, step, err)
}
