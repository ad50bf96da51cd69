package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/release"
	"vornix/internal/cli/show"
)

// versionsAnswer is the result of history in JSON.
type versionsAnswer struct {
	release.History
	Adopted *release.Adopted `json:"adopted"` // null without --adopt
}

func (a *app) versionsCommand() *cobra.Command {
	var adopt bool
	cmd := &cobra.Command{
		Use:   "history",
		Short: "Which versions are finished, and which places have them",
		Long: `History asks every target, the published index, the workshops and the Git remote which versions are finished, and compares that with the
records in releases/. It changes nothing.

With --adopt it writes the records of versions that only other places know, and of those that only this machine remembers. That
is for a project whose records were lost, and for projects that are older than the records. The next release builds on them, so
get the sources of those versions first.`,
		Example: `  vornix history
  vornix history --adopt && git add releases`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			h, err := release.ReadHistory(ctx, p, a.options())
			if err != nil {
				return err
			}
			result := &versionsAnswer{History: *h}
			answer.Result = result
			a.showHistory(h)
			if !adopt {
				return nil
			}
			s, err := a.session("history --adopt", nil)
			if err != nil {
				return err
			}
			defer s.Close()
			done, err := s.Adopt(ctx, h.Places)
			result.Adopted = done
			if len(done.Files) > 0 {
				a.out.Say("\nwrote %s; commit them", strings.Join(done.Files, ", "))
			}
			if len(done.Part) > 0 {
				a.out.Say("\nno record for %s: no place is sure to know all bundles of it",
					strings.Join(done.Part, ", "))
			}
			if err == nil && len(done.Files)+len(done.Part) == 0 {
				a.out.Say("\nnothing to adopt: every finished version has a record")
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&adopt, "adopt", false, "write the records of versions that only other places know")
	return cmd
}

func (a *app) showHistory(h *release.History) {
	var rows [][]string
	for _, k := range h.Versions {
		var notes []string
		if len(k.At) > 0 {
			notes = append(notes, "at "+strings.Join(k.At, ", "))
		}
		if len(k.Other) > 0 {
			notes = append(notes, "with another content at "+strings.Join(k.Other, ", "))
		}
		if len(k.Tagged) > 0 {
			notes = append(notes, "tagged at "+strings.Join(k.Tagged, ", "))
		}
		record := "missing"
		if k.Recorded {
			record = "here"
		}
		rows = append(rows,
			[]string{k.Version, k.Date, fmt.Sprintf("%.10s", k.Commit), record, show.Clean(strings.Join(notes, "; "))})
	}
	if len(rows) == 0 {
		a.out.Say("no version is finished yet")
	} else {
		a.out.Table([]string{"version", "date", "commit", "record", "places"}, rows)
	}
	for _, x := range h.Places {
		if x.Error != "" {
			a.out.Say("not asked: %s (%s)", show.Clean(x.Name), show.Clean(x.Error))
		}
	}
}
