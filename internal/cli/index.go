package cli

import (
	"context"

	"github.com/spf13/cobra"

	"vornix/core/bundle"
	"vornix/core/index"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) indexCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "index write|check",
		Short: "Write and check the version index",
		Long: `The index says what there is, in which version, how large, with which SHA-256 and where to get it. A version that was
released and whose content has changed is refused: the version has to be raised, or players would never get the change.`,
		Example: `  vornix index write
  vornix index check`,
	}
	cmd.AddCommand(&cobra.Command{
		Use: "write", Short: "Write the index of the packed bundles", Args: noArgs,
		Example: "  vornix index write\n  vornix index write --quiet",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			s, err := a.session("index write", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			bundles, err := bundle.Packed(s.P)
			if err != nil {
				return err
			}
			step, err := s.Index(ctx, bundles)
			return a.step(answer, step, err)
		}),
	}, &cobra.Command{
		Use: "check", Short: "Hold the index to the bundles: sizes and hashes", Args: noArgs,
		Example: "  vornix index check\n  vornix index check --json",
		RunE: a.run(func(_ context.Context, answer *show.Answer, _ []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			idx, err := index.Check(p)
			if err != nil {
				return err
			}
			answer.Result = idx
			var rows [][]string
			for _, e := range idx.Entries {
				rows = append(rows, []string{e.File, e.Version, release.Bytes(e.Size), e.SHA256[:16], e.URL})
			}
			a.out.Table([]string{"file", "version", "size", "sha-256", "address"}, rows)
			a.out.Say("The index and the bundles agree.")
			return nil
		}),
	})
	return only(cmd)
}
