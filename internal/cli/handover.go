package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) handoverCommand() *cobra.Command {
	var signing signFlags
	cmd := &cobra.Command{
		Use:   "handover",
		Short: "What a successor needs to release, and whether it works on this machine",
		Long: `Handover lists what a release needs in addition to the sources: records of finished versions, keys, tokens, consent, access to targets and
workshops, programs. It tries each on this machine and changes nothing. No secret is shown.

Run it where releases are made today: "only" marks what no other place has. Then run it on the successor's machine: "lacking" marks what is
still to be handed over. Exit code 1 as long as something is lacking.`,
		Example: `  vornix handover
  vornix handover --key ~/highline.key --json`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			o := a.options()
			if err := signing.set(&o); err != nil {
				return err
			}
			list, err := release.Handover(ctx, p, o)
			if err != nil {
				return err
			}
			answer.Result = append([]release.Need{}, list...)
			var rows [][]string
			lacking := 0
			for _, n := range list {
				if n.State == release.Lacking {
					lacking++
				}
				text := n.Detail
				if n.Do != "" {
					text += ". " + n.Do
				}
				rows = append(rows, []string{n.State, n.What, n.Name, show.Clean(text)})
			}
			a.out.Table([]string{"state", "what", "name", "detail"}, rows)
			if lacking > 0 {
				return &fault.Fault{What: fmt.Sprintf("%s lacking on this machine", release.Count(lacking, "thing")),
					Why: "A release from here would stop.", Do: "Go through the lines marked lacking."}
			}
			a.out.Say("\nA release from this machine has everything it needs.")
			return nil
		}),
	}
	cmd.Flags().StringArrayVar(&signing.keys, "key", nil,
		"the key that signs the index, in this `file`, or agent[:COMMENT] (default: "+keyVariable+")")
	return cmd
}
