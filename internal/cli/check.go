package cli

import (
	"context"

	"github.com/spf13/cobra"

	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Say what is wrong, before anything is built",
		Long: `Check reads every map, material and image header and holds them to the game's rules. It builds and changes nothing.
Exit code 1 when there are errors; warnings and notes alone exit with 0.`,
		Example: `  vornix check
  vornix check --json | jq '.steps[0].findings[] | select(.severity == "error")'`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			step, err := release.Check(ctx, p, g)
			return a.step(answer, step, err)
		}),
	}
}
