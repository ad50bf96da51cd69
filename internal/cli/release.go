package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/release"
	"vornix/core/release/report"
	"vornix/internal/cli/show"
)

// releaseFlags are what 'release' is told besides what it shares with other commands.
type releaseFlags struct {
	date, until, notes, tag                         string
	replace, noWorkshops, makeItems, dry, editNotes bool
}

// releaseAnswer is the result of release in JSON.
type releaseAnswer struct {
	Plan   *release.Planned `json:"plan"`
	Report *report.Report   `json:"report"` // null unless the release came to its end
}

func (a *app) releaseCommand() *cobra.Command {
	var f deployFlags
	var signing signFlags
	var r releaseFlags
	cmd := &cobra.Command{
		Use:   "release [VERSION]",
		Short: "All of it, in order: " + strings.Join(release.StepNames, ", "),
		Long: `Release shows what it would do, then runs every step and stops at the first that fails. Run again, it goes on there: what is done
is kept, and a changed source is made again with all that comes of it. Stray files are named and stay. Patches are made from the last versions
(patches under [release]), and a Git tag where tag stands there. On workshops it goes up where the project has items already, or
with --make-items everywhere.

VERSION, when it is later than the project's, is written into vornix.toml first. A finished version is recorded, with a copy in
out/releases, and never altered: with changed content it has to be raised. A report on one page is in out/reports at the end.`,
		Example: `  vornix release --plan
  vornix release 1.1.0 --write-notes
  vornix release 1.1.0 --dry
  vornix release --until try --yes`,
		Args:              between(0, 1, "one version at most, such as 1.1.0"),
		ValidArgsFunction: a.completeRelease,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			version := ""
			if len(args) > 0 {
				version = args[0]
			}
			if _, err := time.Parse(time.DateOnly, r.date); r.date != "" && err != nil {
				return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no date", r.date),
					Do: "Write it as in 2026-11-25."}
			}
			if r.until != "" && !slices.Contains(release.StepNames, r.until) {
				return release.NoStep(r.until)
			}
			if r.notes != "" && r.editNotes {
				return &fault.Fault{Kind: fault.Usage, What: "--notes and --write-notes exclude each other",
					Do: "Give one of them."}
			}
			change := func(o *release.Options) {
				f.set(o)
				o.OnStep, o.Date, o.ReplaceEdited, o.NoWorkshops, o.MakeItems, o.Until, o.Dry, o.Tag = a.out.Step,
					r.date, r.replace, r.noWorkshops, r.makeItems, r.until, r.dry, r.tag
			}
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			o := a.options()
			change(&o)
			if err := signing.set(&o); err != nil {
				return err
			}
			plan, err := release.PlanRelease(ctx, p, version, o)
			if err != nil {
				return err
			}
			result := &releaseAnswer{Plan: plan}
			answer.Result = result
			refuseErr := plan.Refuse(ctx, p, o)
			a.showReleasePlan(p, plan, r.dry)
			for _, name := range plan.Silent {
				a.out.Say("no answer from %s", show.Clean(name))
			}
			if err := a.showRefused(plan, refuseErr); err != nil || f.planOnly {
				return err
			}
			if !r.dry {
				if err := a.confirm(ctx, "Release?"); err != nil {
					return err
				}
			}
			s, err := a.session("release", func(all *release.Options) {
				change(all)
				all.Keys, all.Unsigned, all.LostKey = o.Keys, o.Unsigned, o.LostKey
			})
			if err != nil {
				return err
			}
			defer s.Close()
			if r.dry {
				if err := s.Rehearse(ctx, plan.Version); err != nil {
					return err
				}
			}
			if err := a.takeNotes(ctx, s, plan, r); err != nil {
				return err
			}
			a.out.Say("")
			run, err := s.Release(ctx, version)
			answer.Steps, result.Report = run.Steps, run.Report
			if err := errors.Join(err, s.EndRehearsal()); err != nil {
				return err
			}
			a.releaseEnd(s.P, run, r)
			return nil
		}),
	}
	f.add(a, cmd)
	flags := cmd.Flags()
	flags.StringVar(&r.until, "until", "", "end with this `step`: "+strings.Join(release.StepNames, ", "))
	flags.BoolVar(&r.dry, "dry", false,
		"a rehearsal: make and try everything here, and only say what would be sent; nothing is recorded, and out/ stays as it is")
	flags.StringVar(&r.notes, "notes", "", "take what is new in the version from this `file`")
	flags.BoolVar(&r.editNotes, "write-notes", false, "write what is new in the version in an editor (VISUAL, EDITOR)")
	flags.StringVar(&r.tag, "tag", "",
		"Git `name` of the release, as in v{version}; none for no tag (default: as under [release])")
	flags.StringVar(&r.date, "date", "", "`date` of the release, as in 2026-11-25 (default: today)")
	flags.BoolVar(&r.replace, "replace-edited", false,
		"write metadata files anew that somebody changed by hand, after moving those to the safe place")
	flags.BoolVar(&r.makeItems, "make-items", false,
		"also make items, hidden, at workshops where the project has none yet")
	flags.BoolVar(&r.noWorkshops, "without-workshops", false,
		"leave workshops out; 'vornix publish' brings the release there later")
	_ = cmd.RegisterFlagCompletionFunc("until", fixed(release.StepNames)) // it exists
	cmd.MarkFlagsMutuallyExclusive("make-items", "without-workshops")
	cmd.MarkFlagsMutuallyExclusive("dry", "write-notes")
	signing.add(cmd)
	signing.addUnsigned(cmd)
	return cmd
}

// showReleasePlan shows what a release would do.
func (a *app) showReleasePlan(p *project.Project, plan *release.Planned, dry bool) {
	what := ""
	if dry {
		what = ", a rehearsal"
	}
	a.out.Heading("%s %s for %s%s", show.Clean(p.File.Project.Title), plan.Version, show.Clean(p.Profile.Game.Title),
		what)
	if plan.Stopped != "" {
		a.out.Say("goes on: it began at %s and came as far as %s", plan.Begun.Local().Format("2006-01-02 15:04"),
			plan.Stopped)
	}
	var rows [][]string
	for _, s := range plan.Steps {
		mark := "to do"
		if s.Done {
			mark = "done"
		}
		rows = append(rows, []string{s.Step, mark, s.What})
	}
	a.out.Table([]string{"step", "", "what"}, rows)
}

// showRefused shows everything that would stop the release; the first decides the exit code.
func (a *app) showRefused(plan *release.Planned, err error) error {
	if err != nil || len(plan.Refused) == 0 {
		return err
	}
	if !a.out.JSON {
		for _, r := range plan.Refused[1:] {
			a.out.Error(r.Err)
		}
	}
	return plan.Refused[0].Err
}

// takeNotes brings what is new in the version into the project, where a flag says from where.
func (a *app) takeNotes(ctx context.Context, s *release.Session, plan *release.Planned, r releaseFlags) error {
	switch {
	case r.notes != "":
		data, err := os.ReadFile(r.notes)
		if err != nil {
			return &fault.Fault{Kind: fault.Usage, What: "the notes can't be read",
				Place: fault.Place{File: filepath.ToSlash(r.notes)}, Err: err, Do: "Check the path."}
		}
		return s.WriteNotes(plan.Version, data, false)
	case r.editNotes:
		old, err := os.ReadFile(s.P.Join(release.NotesFile(s.P, plan.Version)))
		if err != nil {
			old = nil // there are none yet
		}
		text, err := a.edit(ctx, release.NotesDraft(s.P, plan.Version, old, plan.Build))
		if err != nil {
			return err
		}
		return s.WriteNotes(plan.Version, release.NotesDone(text), true)
	}
	return nil
}

// edit lets somebody change a text in the editor of their choice.
func (a *app) edit(ctx context.Context, text []byte) ([]byte, error) {
	words := strings.Fields(first(os.Getenv("VISUAL"), os.Getenv("EDITOR")))
	if len(words) == 0 {
		words = []string{"vi"}
		if runtime.GOOS == "windows" {
			words = []string{"notepad"}
		}
	}
	d, err := safefile.NewScratchDir("")
	if err != nil {
		return nil, err
	}
	defer d.Close()
	const name = "what-is-new.md"
	if err := d.WriteFile(name, text); err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, words[0], append(words[1:], d.Join(name))...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stderr, os.Stderr
	if err := cmd.Run(); err != nil {
		return nil, &fault.Fault{What: "the editor did not end well: " + words[0], Err: err, Why: "Nothing was done.",
			Do: "Name another one in VISUAL or EDITOR, or take the notes from a file: --notes FILE"}
	}
	return d.ReadFile(name)
}

// releaseEnd is the short table at the end.
func (a *app) releaseEnd(p *project.Project, run *release.Run, f releaseFlags) {
	seconds := 0.0
	for _, s := range run.Steps {
		seconds += s.Seconds
	}
	r := run.Report
	if r == nil {
		switch {
		case f.dry:
			a.out.Say("\nThat was a rehearsal: nothing left this machine, nothing was recorded, and out/ is as it was before.")
		case f.until != "":
			a.out.Say("\nIt ends here, as it was told; 'vornix release' goes on.")
		}
		return
	}
	a.out.Heading("%s %s", show.Clean(r.Title), r.Version)
	rows := [][]string{}
	for _, file := range r.Files {
		rows = append(rows, []string{"bundle", fmt.Sprintf("%s, %s", file.Name, release.Bytes(file.Size))})
	}
	if r.Before != "" {
		rows = append(rows,
			[]string{"since " + r.Before,
				fmt.Sprintf("%s: %s in all; %s", report.Counted(r), release.Bytes(r.Size()),
					report.Grown(r.Size()-r.SizeBefore()))})
	}
	for _, file := range r.Patches {
		rows = append(rows, []string{"patch", fmt.Sprintf("from %s, %s", file.From, release.Bytes(file.Size))})
	}
	rows = append(rows, []string{"findings", report.Tally(r)})
	for _, place := range r.Places {
		rows = append(rows, []string{place.Target, fmt.Sprintf("%s since %s", place.Version, place.When)})
	}
	rows = append(rows, []string{"took", report.Seconds(seconds)},
		[]string{"report", fromHere(p.Join(release.ReportsDir, r.Version+".html"))})
	a.out.Table([]string{"", ""}, rows)
}
