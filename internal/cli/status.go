package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/core/ship/publish"
	"vornix/internal/cli/show"
)

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "Where the project stands: made, tried, released, live where, and what to do next",
		Long: `Status looks and changes nothing. It says for each step whether it is up to date, whether a release is under way, which files are stray,
for each target which version is there, whether files there were changed since, and what its game server plays; and what to do next,
and why.`,
		Example: `  vornix status
  vornix status --json | jq '.result.targets[] | {target, version, drift}'`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, err := a.loadReaching()
			if err != nil {
				return err
			}
			v, err := release.Survey(ctx, p, a.options(), stateOf, itemState)
			if err != nil {
				return err
			}
			answer.Result = v
			var rows [][]string
			for _, r := range v.Rows {
				rows = append(rows, r[:])
			}
			a.out.Table([]string{"", ""}, rows)
			switch {
			case v.Next != "":
				a.out.Say("\nnext: %s\n      %s", v.Next, show.Clean(v.Why))
			default:
				a.out.Say("\nnothing to do: version %s is where it belongs", v.Released)
			}
			return nil
		}),
	}
}

// itemState says what a workshop has of an item, in a line.
func itemState(s *publish.State) string {
	switch {
	case s.Unreachable:
		return "unreachable: " + show.Clean(s.Error)
	case s.Error != "":
		return "could not be looked at: " + show.Clean(s.Error)
	case s.Item == "":
		return "nothing of this project"
	case s.There == nil:
		return s.Item + ": not there"
	}
	x := s.There
	text := fmt.Sprintf("%s %s, %s", s.Item, orWord(x.Version, "without a version"), x.Visibility)
	if x.Withdrawn != nil {
		text += ", withdrawn"
	}
	return text + fmt.Sprintf("; %s, %s", release.Count(x.Followers, "follower"),
		release.Count(x.Downloads, "download"))
}

// stateOf says what a target has, in a line.
func stateOf(t *deploy.State) string {
	if t.Error != "" {
		if !t.Reachable {
			return "unreachable: " + show.Clean(t.Error)
		}
		return "could not be looked at: " + show.Clean(t.Error)
	}
	text := "nothing of this project"
	if t.Version != "" {
		text = "version " + t.Version
	}
	if t.Last != nil {
		text += fmt.Sprintf(", since %s by %s", t.Last.Time.Local().Format("2006-01-02 15:04"), show.Clean(t.Last.By))
	}
	if len(t.Drift) > 0 {
		text += fmt.Sprintf(", %d changed there since: %s", len(t.Drift), release.Few(t.Drift))
	}
	if len(t.Withdrawn) > 0 {
		text += "; withdrawn: " + show.Clean(strings.Join(t.Withdrawn, ", "))
	}
	if t.Half != "" {
		text += "; a deployment did not come to its end: " + show.Clean(t.Half)
	}
	if t.Locked != nil {
		text += fmt.Sprintf("; locked by %s: %s", show.Clean(t.Locked.By), show.Clean(t.Locked.Command))
	}
	switch {
	case t.Server != nil:
		text += "; its server plays " + orWord(t.Server.Playing, "nothing")
	case t.Asked != "":
		text += "; " + t.Asked
	}
	return text
}

func orWord(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
