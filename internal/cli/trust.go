package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/assembly"
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
		return trust.Store{},
			&fault.Fault{What: "there is no folder for what this program keeps for you", Err: err,
				Do: "Name a file in " + trustVariable + "."}
	}
	return trust.Store{File: filepath.Join(dir, "vornix", "trusted.json")}, nil
}

// trusted says what nobody has allowed a project on this machine.
func trusted(p *project.Project, want []trust.Permission) ([]trust.Permission, error) {
	store, err := trusting()
	if err != nil {
		return nil, err
	}
	return store.Missing(p, want)
}

// own is what custom steps are run with.
func (a *app) own() assembly.Own {
	o := assembly.Own{Environ: os.Environ(), Trust: trusted, Said: a.out.Said}
	o.Program, _ = os.Executable()
	o.Version = programID()
	return o
}

// trustAnswer is the result of trust in JSON.
type trustAnswer struct {
	Permissions []trust.Permission `json:"permissions"` // that the project asks for
	New         []trust.Permission `json:"new"`         // of them, those that nobody has given so far
	Trusted     bool               `json:"trusted"`     // whether it has all of them now
}

func (a *app) trustCommand() *cobra.Command {
	var list, forget, planOnly bool
	cmd := &cobra.Command{
		Use:   "trust",
		Short: "Allow what the project does on this machine beyond its own files",
		Long: `Trust shows everything that the project wants to do on this machine beyond reading and writing its own files, and asks whether it may:

  run             the commands under [[step]], and the project's programs that they name or read
  run on server   the command of a target
  send secret     what a variable or a file holds, to one scheme, host and port
  share results   the place under [shared]
  Git repository  hooks and settings that have Git run programs

Nothing of this happens before you agree. Consent is for exactly what is shown, in this folder, for you. Whatever changes later is shown
again, with what it was before.`,
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
					count := map[string]int{}
					for _, x := range t.Permissions {
						count[x.Kind]++
					}
					may := []string{}
					for _, kind := range slices.Sorted(maps.Keys(count)) {
						may = append(may, fmt.Sprintf("%s (%d)", kind, count[kind]))
					}
					rows = append(rows,
						[]string{t.Folder, strings.Join(may, ", "), t.Since.Local().Format("2006-01-02 15:04")})
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
				answer.Result = trustAnswer{Permissions: []trust.Permission{}, New: []trust.Permission{}}
				if had {
					a.out.Say("%s may run nothing here any more", show.Clean(p.File.Project.Title))
				} else {
					a.out.Say("%s was not trusted here", show.Clean(p.File.Project.Title))
				}
				return nil
			}
			want, err := trust.All(ctx, p, a.publishing().Home)
			if err != nil {
				return err
			}
			missing, err := store.Missing(p, want)
			if err != nil {
				return err
			}
			result := &trustAnswer{append([]trust.Permission{}, want...), append([]trust.Permission{}, missing...),
				len(missing) == 0}
			answer.Result = result
			if len(want) == 0 {
				a.out.Say("%s only reads and writes its own files: there is nothing to allow",
					show.Clean(p.File.Project.Title))
				return nil
			}
			if err := a.permissions(store, p, want, missing); err != nil {
				return err
			}
			if len(missing) == 0 || planOnly {
				return nil
			}
			if err := a.confirm(ctx,
				fmt.Sprintf("May %s do that on this machine, as you?", show.Clean(p.File.Project.Title))); err != nil {
				return err
			}
			if err := store.Allow(p, want); err != nil {
				return err
			}
			result.Trusted, result.New = true, []trust.Permission{}
			a.out.Say("Allowed.")
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

// permissions shows what a project wants to do, line by line, and how that differs from what it was allowed before.
func (a *app) permissions(store trust.Store, p *project.Project, want, missing []trust.Permission) error {
	a.out.Heading("What %s wants to do on this machine", show.Clean(p.File.Project.Title))
	for _, x := range want {
		state, isNew := "allowed",
			slices.ContainsFunc(missing, func(m trust.Permission) bool { return reflect.DeepEqual(m, x) })
		var before []string
		if isNew {
			state = "new"
			was, changed, err := store.Before(p, x)
			if err != nil {
				return err
			}
			if changed {
				state, before = "changed", was.Lines
			}
		}
		a.out.Say("%-8s %s: %s", state, x.Kind, show.Clean(x.Name))
		for _, l := range before {
			if !slices.Contains(x.Lines, l) {
				a.out.Say("       - %s", show.Clean(l))
			}
		}
		for _, l := range x.Lines {
			mark := " "
			if before != nil && !slices.Contains(before, l) {
				mark = "+"
			}
			a.out.Say("       %s %s", mark, show.Clean(l))
		}
	}
	return nil
}
