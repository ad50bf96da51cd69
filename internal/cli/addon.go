package cli

import (
	"context"

	"github.com/spf13/cobra"

	"vornix/core/addon"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) addonCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "addon write|check",
		Short: "Write and check metadata files",
		Long: `Addon fills the fields that the game's profile declares from vornix.toml and from what the maps really hold, checks
them, and writes the files that stand beside the bundles. Those that belong inside are written by 'vornix build'.`,
		Example: `  vornix addon check
  vornix addon write`,
	}
	cmd.AddCommand(&cobra.Command{
		Use: "write", Short: "Write the metadata files", Args: noArgs,
		Example: "  vornix addon write\n  vornix addon write --project ../highline --json",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			s, err := a.session("addon write", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			step, err := s.Addon(ctx)
			return a.step(answer, step, err)
		}),
	}, &cobra.Command{
		Use: "check", Short: "Check the metadata and show it, writing nothing", Args: noArgs,
		Example: "  vornix addon check\n  vornix addon check --json",
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, g, err := a.scanned(ctx)
			if err != nil {
				return err
			}
			files, findings := addon.Make(p, g)
			answer.Steps = []release.Step{{Name: "addon", Summary: release.Tally(findings), Made: []release.Made{}, Findings: findings}}
			a.out.Findings(findings)
			shown := []metadataFile{}
			for _, f := range files {
				shown = append(shown, metadataFile{f.Path, f.Place, string(f.Data)})
				a.out.Heading("%s (%s)", f.Path, f.Place)
				a.out.Say("%s", string(f.Data))
			}
			answer.Result = shown
			return addon.Err(findings)
		}),
	})
	return only(cmd)
}

// metadataFile is a metadata file in JSON answers.
type metadataFile struct {
	Path    string `json:"path"`
	Place   string `json:"place"`
	Content string `json:"content"`
}
