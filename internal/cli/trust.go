package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/build"
	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/core/trust"
	"vornix/internal/cli/show"
)

// trustVariable names the file in which trust is kept, for machines that build for others.
const trustVariable = "VORNIX_TRUST_FILE"

// trusting is where this person's trust in projects is kept.
func trusting() (trust.Store, error) {
	if file := os.Getenv(trustVariable); file != "" {
		return trust.Store{File: file}, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return trust.Store{}, &fault.Fault{What: "there is no folder for what this program keeps for you", Err: err, Do: "Name a file in " + trustVariable + "."}
	}
	return trust.Store{File: filepath.Join(dir, "vornix", "trusted.json")}, nil
}

// own is what steps of a project's own are run with.
func (a *app) own() build.Own {
	o := build.Own{Environ: os.Environ(), Untrusted: func(p *project.Project) ([]string, error) {
		store, err := trusting()
		if err != nil {
			return nil, err
		}
		return store.New(p)
	}, Said: a.out.Said}
	o.Program, _ = os.Executable()
	o.Version = programID()
	return o
}

// trustAnswer is the result of trust in JSON.
type trustAnswer struct {
	Commands []string `json:"commands"` // that the project runs
	New      []string `json:"new"`      // of them, not trusted so far
	Trusted  bool     `json:"trusted"`  // now
}

func (a *app) trustCommand() *cobra.Command {
	var list, forget, planOnly bool
	cmd := &cobra.Command{
		Use:   "trust",
		Short: "Allow the project's own steps to run on this machine, and its results to be shared",
		Long: `Trust shows the commands that the project runs under [[step]] in vornix.toml, and the place under [shared] with which it shares results, and asks
whether it may. Without that none of them runs here and nothing is asked or sent, whoever the project came from. What is allowed is this
much in this folder, for you; what is changed or added later has to be allowed again. What the commands read, scripts too, is not looked
at: read it before you say yes.`,
		Example: `  vornix trust
  vornix trust --list`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			store, err := trusting()
			if err != nil {
				return err
			}
			if list {
				all, err := store.List()
				if err != nil {
					return err
				}
				answer.Result = all
				var rows [][]string
				for _, t := range all {
					commands, may := 0, []string{}
					for _, c := range t.Commands {
						if strings.HasPrefix(c, "shared results: ") {
							may = append(may, "share results")
						} else {
							commands++
						}
					}
					if commands > 0 {
						may = append([]string{"run " + release.Count(commands, "command")}, may...)
					}
					rows = append(rows, []string{t.Folder, strings.Join(may, ", "), t.Since.Local().Format("2006-01-02 15:04")})
				}
				if rows == nil {
					a.out.Say("no project is trusted on this machine")
					return nil
				}
				a.out.Table([]string{"project", "may", "since"}, rows)
				return nil
			}
			p, err := a.load()
			if err != nil {
				return err
			}
			if forget {
				had, err := store.Forget(p)
				if err != nil {
					return err
				}
				answer.Result = trustAnswer{p.Trusts(), p.Trusts(), false}
				if had {
					a.out.Say("%s may run nothing here any more", show.Clean(p.File.Project.Title))
				} else {
					a.out.Say("%s was not trusted here", show.Clean(p.File.Project.Title))
				}
				return nil
			}
			fresh, err := store.New(p)
			if err != nil {
				return err
			}
			result := &trustAnswer{append([]string{}, p.Trusts()...), append([]string{}, fresh...), len(fresh) == 0}
			answer.Result = result
			if len(p.Trusts()) == 0 {
				a.out.Say("%s runs no commands of its own and shares no results: there is nothing to trust", show.Clean(p.File.Project.Title))
				return nil
			}
			a.out.Heading("What %s runs and shares", show.Clean(p.File.Project.Title))
			isNew := map[string]bool{}
			for _, c := range fresh {
				isNew[c] = true
			}
			var rows [][]string
			for i := range p.File.Steps {
				s := &p.File.Steps[i]
				state := "trusted"
				if isNew[s.Trusts()] {
					state = "new"
				}
				rows = append(rows, []string{s.Name, state, s.Trusts()[len(s.Name)+2:]})
			}
			if shared := p.TrustsShared(); shared != "" {
				what, where, _ := strings.Cut(shared, ": ")
				state := "trusted"
				if isNew[shared] {
					state = "new"
				}
				rows = append(rows, []string{what, state, where})
			}
			a.out.Table([]string{"step", "", "command or place"}, rows)
			if len(fresh) == 0 || planOnly {
				return nil
			}
			if err := a.confirm(ctx, "May it do that on this machine?"); err != nil {
				return err
			}
			if err := store.Trust(p); err != nil {
				return err
			}
			result.Trusted, result.New = true, []string{}
			a.out.Say("It may.")
			return nil
		}),
	}
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be allowed, and change nothing")
	cmd.Flags().BoolVar(&list, "list", false, "list the projects that are trusted here")
	cmd.Flags().BoolVar(&forget, "forget", false, "take the trust in the project back")
	cmd.MarkFlagsMutuallyExclusive("list", "forget")
	return cmd
}
