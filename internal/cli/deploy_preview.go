package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/internal/cli/show"
)

func (a *app) previewCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "preview TARGET DIR",
		Short: "Write the welcome page of a target, with its pictures, into a folder to look at",
		Example: `  vornix deploy preview practice /tmp/welcome
  vornix deploy preview practice /tmp/welcome --json`,
		Args:              between(2, 2, "the name of one target, and a folder"),
		ValidArgsFunction: a.completeTargets,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			if p.Profile.Server.Welcome.File == "" {
				return &fault.Fault{Kind: fault.Usage, What: "the game's profile describes no welcome page",
					Place: p.Profile.Doc.At("server"), Do: "Describe it under [server.welcome]."}
			}
			bundles, err := bundle.Packed(p)
			if err != nil {
				return err
			}
			files, err := deploy.Preview(ctx, p, args[0], bundles, g)
			if err != nil {
				return err
			}
			d, err := safefile.MakeDir(args[1])
			if err != nil {
				return err
			}
			defer d.Close()
			var rows [][]string
			var names []string
			for _, f := range files {
				if f.Data != nil {
					err = d.WriteFile(f.Path, f.Data)
				} else {
					_, _, err = d.CopyFrom(ctx, f.Source, f.Path)
				}
				if err != nil {
					return err
				}
				names = append(names, f.Path)
				rows = append(rows, []string{f.Path, release.Bytes(f.Size)})
			}
			answer.Result = welcomeAnswer{args[1], p.Profile.Server.Welcome.File, names}
			a.out.Table([]string{"file", "size"}, rows)
			a.out.Say("Open it in a browser: %s",
				filepath.ToSlash(filepath.Join(args[1], p.Profile.Server.Welcome.File)))
			return nil
		}),
	}
}
