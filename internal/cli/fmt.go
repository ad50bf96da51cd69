package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/release"
	"vornix/core/source/maplang"
	"vornix/internal/cli/show"
)

func (a *app) fmtCommand() *cobra.Command {
	var checkOnly bool
	cmd := &cobra.Command{
		Use:   "fmt FILE...",
		Short: "Print map sources in their one canonical form",
		Long: `Fmt rewrites map sources in place: settings in one order, numbers in their shortest form, two spaces of indentation.
Comments stay. A file with mistakes is left as it is.`,
		Example: `  vornix fmt maps/cairn_station.vnx
  vornix fmt --check maps/*.vnx`,
		Args: between(1, -1, "map sources (.vnx)"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			made := []release.Made{}
			changed := 0
			for _, name := range args {
				data, err := os.ReadFile(name)
				if err != nil {
					return &fault.Fault{Kind: fault.Usage, What: "could not read the map source",
						Place: fault.Place{File: name}, Err: err, Do: "Check the path."}
				}
				file, findings := maplang.Parse(filepath.ToSlash(name), data)
				if len(findings) > 0 {
					return &finding.Failure{What: name + " was left as it is", Findings: findings}
				}
				text := maplang.Print(file)
				state := "kept"
				if !bytes.Equal(text, data) {
					state = "made"
					changed++
				}
				made = append(made, release.Made{Path: filepath.ToSlash(name), Size: int64(len(text)), State: state})
				if state == "kept" || checkOnly {
					continue
				}
				d, err := safefile.OpenDir(filepath.Dir(name))
				if err != nil {
					return err
				}
				err = d.WriteFile(filepath.Base(name), text)
				d.Close()
				if err != nil {
					return err
				}
			}
			step := &release.Step{Name: "fmt", Kept: changed == 0,
				Summary: fmt.Sprintf("%d of %d files changed", changed, len(args)), Made: made}
			if checkOnly && changed > 0 {
				step.Summary = fmt.Sprintf("%d of %d files are not in the canonical form", changed, len(args))
				return a.step(answer, step, &fault.Fault{What: step.Summary, Do: "Run 'vornix fmt' on them."})
			}
			return a.step(answer, step, nil)
		}),
	}
	cmd.Flags().BoolVar(&checkOnly, "check", false,
		"only say which files would change, with exit code 1 when there are any")
	return cmd
}
