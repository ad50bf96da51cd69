package cli

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/config/profile"
	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
	"vornix/internal/cli/show"
)

func (a *app) standWorkshopCommand() *cobra.Command {
	var listen, profileName, fail, name string
	var accounts []string
	cmd := &cobra.Command{
		Use:   "workshop DIR",
		Short: "Play a workshop: items, pages, versions, followers, accounts",
		Long: `The stand-in is a small workshop, kept in the folder DIR. It speaks the protocol that docs/workshop/openapi.yaml describes, shows a page for
each item to browsers, runs until Ctrl-C, and writes its address into DIR/stand-workshop.url. DIR/workshop.toml says what it takes,
and can be edited. The tokens of its accounts are in DIR/tokens, in files that only you may read.

  GET /              what is public, and at /mine what is yours, for browsers
  GET /items/ID      an item's page; a hidden one asks for an account's name and its token
  POST /fail         go wrong, as {"mode": "busy", "at": "PUT /v1", "after": 3, "times": 2} says; {"mode": ""} ends it
  /v1/...            the protocol

Ways to go wrong:

` + failures(standin.Failures),
		Example: `  vornix stand workshop ../workshop
  vornix stand workshop /tmp/bazaar --profile burrow-tramways --account vole --fail "lost:POST /v1/items"`,
		Args: between(1, 1, "the workshop's folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			prof, err := a.profileNamed(profileName)
			if err != nil {
				return err
			}
			if prof == nil {
				if p, err := a.load(); err == nil {
					prof = p.Profile
				}
			}
			mode, where, _ := strings.Cut(fail, ":")
			o := standin.Options{Listen: listen, Accounts: accounts, Name: name, Kinds: workshopKinds(prof),
				Fail: standin.Failure{Mode: mode, At: where}}
			w, err := standin.Start(args[0], o)
			if err != nil {
				return err
			}
			dir := filepath.ToSlash(args[0])
			a.out.Say("%s at %s, kept in %s. Ctrl-C stops it.", show.Clean(w.Settings().Name), w.URL, dir)
			for _, account := range w.Accounts() {
				a.out.Say("  %s, with the token in %s", account, path.Join(dir, standin.TokensDir, account))
			}
			answer.Result = standWorkshopAnswer{w.URL, w.Accounts(), slices.Sorted(maps.Keys(w.Settings().Kinds))}
			a.out.Answer(answer, nil, 0)
			<-ctx.Done()
			return w.Close()
		}),
	}
	cmd.Flags().StringVar(&listen, "listen", "", "`address` to listen on (default: a free port of this machine)")
	cmd.Flags().StringVar(&profileName, "profile", "",
		"game profile `name`, which says what a new workshop takes (default: that of the project here)")
	cmd.Flags().StringVar(&name, "name", "", "`name` of a new workshop")
	cmd.Flags().StringArrayVar(&accounts, "account", []string{"maker", "player"},
		"`name` of an account that is made when it is not there; can be given several times")
	cmd.Flags().StringVar(&fail, "fail", "",
		"go wrong from the beginning: `MODE`, or MODE:REQUEST with a piece of the requests' method and path")
	_ = cmd.RegisterFlagCompletionFunc("fail",
		func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return slices.Sorted(maps.Keys(standin.Failures)), cobra.ShellCompDirectiveNoFileComp
		})
	return cmd
}

// failures lists the ways in which a stand-in can go wrong.
func failures(of map[string]string) string {
	var lines []string
	for _, mode := range slices.Sorted(maps.Keys(of)) {
		lines = append(lines, fmt.Sprintf("  %-6s  %s", mode, of[mode]))
	}
	return strings.Join(lines, "\n")
}

// workshopKinds says what a workshop for a game takes.
func workshopKinds(p *profile.Profile) map[string]workshop.Limits {
	if p == nil {
		return nil
	}
	l := standin.Usual()
	l.Modes = p.Map.Modes
	if ending := strings.ToLower(path.Ext(p.Pack.Name)); ending != "" {
		l.Files.Endings = []string{ending}
	}
	return map[string]workshop.Limits{p.Workshop.Kind: l}
}
