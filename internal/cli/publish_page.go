package cli

import (
	"bufio"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/release"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
	"vornix/internal/cli/show"
)

func (a *app) publishPreviewCommand() *cobra.Command {
	var items []string
	cmd := &cobra.Command{
		Use:   "preview TARGET DIR",
		Short: "Write the page as players will see it, with its pictures, into a folder to look at",
		Example: `  vornix publish preview bazaar /tmp/page
  vornix publish preview bazaar /tmp/page --item tram_depot`,
		Args:              between(2, 2, "the name of one target, and a folder"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, bundles, err := a.packed()
			if err != nil {
				return err
			}
			load := func(ctx context.Context) (*assetgraph.Graph, error) { return assetgraph.ScanProject(ctx, p) }
			x, err := release.PlanPublish(ctx, p, load, args[0], bundles, items, publish.PlanOptions{}, a.publishing())
			if err != nil {
				return err
			}
			defer x.Desk.Close()
			d, err := safefile.MakeDir(args[1])
			if err != nil {
				return err
			}
			defer d.Close()
			var all []string
			for _, plan := range x.Plans {
				a.showPublishPlan(x.Desk, plan)
				files, err := x.Desk.Preview(ctx, plan, d)
				if err != nil {
					return err
				}
				all = append(all, files...)
				a.out.Say("Open it in a browser: %s",
					filepath.ToSlash(filepath.Join(args[1], filepath.FromSlash(files[0]))))
			}
			a.out.Findings(x.Findings)
			answer.Result = pagesAnswer{args[1], all, x.Plans}
			return nil
		}),
	}
	itemFlag(cmd, &items)
	return cmd
}

func (a *app) loginCommand() *cobra.Command {
	var player bool
	cmd := &cobra.Command{
		Use:   "login TARGET",
		Short: "Keep the token for a workshop in the system's keyring, or in a file that only you read",
		Long: `Login asks for the token, or reads it from standard input, asks the workshop whose it is, and keeps it: in the system's keyring, and where
there is none in a file of your own settings that only you may read. token_env and token_file of a target go before it.`,
		Example: `  vornix publish login bazaar
  vornix publish login bazaar --player < player.token`,
		Args:              between(1, 1, "the name of one target"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			access := a.publishing()
			d, err := publish.Find(p, args[0], access)
			if err != nil {
				return err
			}
			token, err := a.readToken("Token for " + d.Address)
			if err != nil {
				return err
			}
			about, err := d.Whose(ctx, token)
			if err != nil {
				return err
			}
			where, err := d.Keep(token, player)
			if err != nil {
				return err
			}
			answer.Result = loginAnswer{about.Account, about.Name, where}
			a.out.Say("%s at %s; its token is in %s", show.Clean(about.Account), show.Clean(about.Name), where)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&player, "player", false, "the second account, with which items are tried")
	return cmd
}

func (a *app) logoutCommand() *cobra.Command {
	var player bool
	cmd := &cobra.Command{
		Use:   "logout TARGET",
		Short: "Forget the token that login kept",
		Example: `  vornix publish logout bazaar
  vornix publish logout bazaar --player`,
		Args:              between(1, 1, "the name of one target"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			d, err := publish.Find(p, args[0], a.publishing())
			if err != nil {
				return err
			}
			if err := d.Forget(player); err != nil {
				return err
			}
			a.out.Say("no token for %s is kept any more", d.Address)
			return nil
		}),
	}
	cmd.Flags().BoolVar(&player, "player", false, "the second account's")
	return cmd
}

// readToken asks for a token at a terminal, or reads a line.
func (a *app) readToken(question string) (string, error) {
	if a.access().Ask != nil {
		return a.askSecret(question)
	}
	line, err := bufio.NewReader(io.LimitReader(os.Stdin, 1<<16)).ReadString('\n')
	if line = strings.TrimSpace(line); line == "" {
		return "", &fault.Fault{Kind: fault.Usage, What: "there is no token on standard input", Err: err,
			Do: "Give it there, as in: vornix publish login TARGET < FILE"}
	}
	return line, nil
}
