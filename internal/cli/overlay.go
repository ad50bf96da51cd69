package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/transaction"
	"vornix/core/config/project"
	"vornix/core/game/overlay"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// overlayAnswer is the result of patch overlay in JSON, once it is in place.
type overlayAnswer struct {
	*overlay.Plan
	Change *transaction.Record `json:"change"`
}

func (a *app) patchOverlayCommand() *cobra.Command {
	var swaps, planOnly bool
	var profileName string
	cmd := &cobra.Command{
		Use:   "overlay FOLDER GAME",
		Short: "Lay a folder of replacements over a game, or swap its own files, and say which maps change",
		Long: `Overlay takes a folder of files at the paths that they have in the game, such as textures/ground/rock.ktx2 and its normal map, and lays it over
an installed game, or a project's out/tree: into the folder whose files take the place of the game's own, where the game has one (overlay under
[install] in its profile), so that no original is touched. With --swap the game's own files are replaced, and the originals kept.

It lists the maps that will look different and those that won't, with the reason, and says what is shown together with a replaced texture and
stays as it is. 'vornix patch undo' takes all of it back.`,
		Example: `  vornix patch overlay snowy ~/games/kestrel-post --plan
  vornix patch overlay snowy ~/games/kestrel-post --swap`,
		Args: between(2, 2, "a folder of replacements and the game's folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.profileNamed(profileName)
			if err == nil && p == nil {
				err = &fault.Fault{Kind: fault.Usage, What: "the game is not known here",
					Why: "Which folder takes the place of the game's own files, and what maps use, stands in the game's profile.", Do: "Name it with --profile, or run this in a project."}
			}
			if err != nil {
				return err
			}
			dir := args[1]
			// a project: what ships of it is the game's side
			if _, err := os.Stat(filepath.Join(dir, project.FileName)); err == nil {
				dir = filepath.Join(dir, filepath.FromSlash(project.TreeDir))
			}
			if !planOnly {
				mended, err := patch.Mend(ctx, dir)
				for _, m := range mended {
					a.out.Say("%s", m)
				}
				if err != nil {
					return err
				}
			}
			plan, err := overlay.Prepare(ctx, p, dir, args[0], swaps)
			if err != nil {
				return err
			}
			answer.Result = plan
			a.overlayPlan(plan)
			if planOnly {
				a.out.Say("\nnothing was changed")
				return nil
			}
			r, err := plan.Apply(ctx)
			if err != nil {
				return err
			}
			if r == nil {
				a.out.Say("\nall of it is there already")
				return nil
			}
			answer.Result = overlayAnswer{plan, r}
			a.out.Say("\n%s in place; 'vornix patch undo %s' takes it back", release.Count(len(r.Files), "file"),
				plan.Game)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&swaps, "swap", false, "replace the game's own files; the originals are kept")
	cmd.Flags().StringVar(&profileName, "profile", "", "`name` of the game profile (default: that of the project here)")
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would change, and change nothing")
	return cmd
}

func (a *app) overlayPlan(plan *overlay.Plan) {
	var rows [][]string
	for _, x := range plan.Actions {
		old := ""
		if x.Do != "add" {
			old = release.Bytes(x.Old)
		}
		rows = append(rows, []string{x.Do, x.Path, old, release.Bytes(x.New), x.Why})
	}
	a.out.Table([]string{"", "file", "size", "size then", ""}, rows)
	rows = nil
	different := 0
	for _, m := range plan.Maps {
		what := "the same"
		if m.Changes {
			what = "different"
			different++
		}
		rows = append(rows, []string{m.Map, what, m.Why, m.In})
	}
	if len(rows) > 0 {
		a.out.Say("")
		a.out.Table([]string{"map", "looks", "since", "in"}, rows)
		a.out.Say("\n%s", fmt.Sprintf("%d of %s will look different", different, release.Count(len(plan.Maps), "map")))
	} else {
		a.out.Say("\nno maps were found in %s: nobody can say which would look different", plan.Game)
	}
	for _, n := range plan.Notes {
		a.out.Say("note: %s", show.Clean(n))
	}
}
