package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vornix/core/base/fault"
	"vornix/core/pack/installer"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// installerRoot is the command of a program that carries bundles at its end: it installs them and does nothing else.
func (a *app) installerRoot(p *installer.Package) *cobra.Command {
	var game string
	var silent, planOnly, uninstall bool
	root := &cobra.Command{
		Use: filepath.Base(os.Args[0]),
		Short: fmt.Sprintf("Install %s %s for %s", show.Clean(p.Title), show.Clean(p.Version),
			show.Clean(p.Game)),
		SilenceErrors: true, SilenceUsage: true,
		Version: show.Clean(p.Version),
		Args:    noArgs,
		Long: fmt.Sprintf(`This installs %s %s, by %s, for %s. It shows what it will do and asks. What it replaces is kept, and comes back with
--uninstall. The files stand in this program as in a ZIP archive, which any unzip program lists.`, show.Clean(p.Title), show.Clean(p.Version), show.Clean(strings.Join(p.Authors, ", ")), show.Clean(p.Game)),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			a.out.Quiet = a.out.Quiet || silent
			a.yes = a.yes || silent
			dir, err := a.gameFolder(ctx, p, game, silent)
			if err != nil {
				return err
			}
			in, err := p.Begin(ctx, dir)
			if err != nil {
				return err
			}
			defer in.Close()
			plan, do := in.Plan, in.Install
			question := fmt.Sprintf("Install %s %s?", show.Clean(p.Title), show.Clean(p.Version))
			if uninstall {
				plan, do, question = in.PlanAway, in.Uninstall, "Uninstall "+show.Clean(p.Title)+"?"
			}
			list, err := plan(ctx)
			if err != nil {
				return err
			}
			answer.Result = list
			a.out.Say("%s %s for %s, in %s", show.Clean(p.Title), show.Clean(p.Version), show.Clean(p.Game),
				filepath.ToSlash(dir))
			var rows [][]string
			changes, kept := 0, 0
			for _, x := range list {
				rows = append(rows, []string{x.Do, x.Path, release.Bytes(x.Size), x.Why})
				switch x.Do {
				case "keep":
					kept++
				case "leave":
				default:
					changes++
				}
			}
			a.out.Table([]string{"", "file", "size", ""}, rows)
			if planOnly {
				return nil
			}
			if changes == 0 && !uninstall {
				a.out.Say("it is all there already")
			} else if err := a.confirm(ctx, question); err != nil {
				return err
			}
			if answer.Result, err = do(ctx); err != nil {
				return err
			}
			if kept > 0 {
				return &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("%d of %d files were left: somebody changed them since", kept, len(list)),
					Do:   "Look at them and remove them by hand."}
			}
			a.out.Say("done")
			return nil
		}),
	}
	root.SetVersionTemplate("{{.Version}}\n")
	root.CompletionOptions.DisableDefaultCmd = true
	flags := root.Flags()
	flags.StringVar(&game, "game", "", "the game's `folder` (default: looked for, else asked)")
	flags.BoolVar(&silent, "silent", false, "ask nothing and print errors only")
	flags.BoolVar(&planOnly, "plan", false, "show what would be done, and change nothing")
	flags.BoolVar(&uninstall, "uninstall", false, "remove what was installed and bring back what stood there before")
	flags.BoolVar(&a.yes, "yes", false, "do it without asking")
	flags.BoolVar(&a.out.JSON, "json", false, "print one JSON object and nothing else on standard output")
	root.SetFlagErrorFunc(suggestFlag)
	return root
}

// gameFolder finds the game, or asks for it.
func (a *app) gameFolder(ctx context.Context, p *installer.Package, game string, silent bool) (string, error) {
	if game != "" {
		return game, nil
	}
	home, _ := os.UserHomeDir() // without one there is nothing to look for there
	found := p.Find(home, os.Getenv)
	asking := !silent && !a.out.JSON && a.out.Terminal && term.IsTerminal(int(os.Stdin.Fd()))
	switch {
	case len(found) == 1:
		return found[0], nil
	case !asking && len(found) > 1:
		return "", &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("%s lies in %d folders: %s", p.Game, len(found), strings.Join(found, ", ")),
			Do:   "Say which: --game DIR"}
	case !asking:
		return "", &fault.Fault{Kind: fault.Usage, What: p.Game + " was not found", Do: "Name its folder: --game DIR"}
	}
	for i, f := range found {
		fmt.Fprintf(a.out.Stderr, "%d  %s\n", i+1, show.Clean(f))
	}
	fmt.Fprintf(a.out.Stderr, "%s's folder: ", show.Clean(p.Game))
	answer := make(chan string, 1)
	go func() { // reading can't be interrupted; it ends with the program
		line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		answer <- strings.Trim(strings.TrimSpace(line), `"'`)
	}()
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case line := <-answer:
		for i, f := range found {
			if line == fmt.Sprint(i+1) {
				return f, nil
			}
		}
		if line == "" {
			return "", &fault.Fault{Kind: fault.Refused, What: "nothing was done"}
		}
		return line, nil
	}
}
