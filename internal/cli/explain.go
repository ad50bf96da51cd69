package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/internal/cli/show"
)

// explainAnswer is the result of explain in JSON.
type explainAnswer struct {
	ID       string `json:"id"`
	Severity string `json:"severity"`
	Why      string `json:"why"`
	Do       string `json:"do"`
	*finding.Story
}

func (a *app) explainCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "explain [ID]",
		Short: "The long story of a finding, with an example",
		Long: `Explain tells more of a finding than its sentence: what is behind it, why it matters to players, what to do, and an example. ID is what stands
in brackets behind a finding, such as map.leak; a part of one lists those that have it, and without ID one sees what there is.`,
		Example: `  vornix explain map.leak
  vornix explain sound`,
		Args: between(0, 1, "the id of a finding, such as map.leak"),
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return finding.IDs(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			part := ""
			if len(args) > 0 {
				part = strings.Trim(args[0], "[] ")
			}
			if k := finding.KindOf(part); k != nil {
				one := a.explanation(k)
				answer.Result = one
				a.explain(one)
				return nil
			}
			list := slices.DeleteFunc(finding.IDs(), func(id string) bool { return !strings.Contains(id, part) })
			if len(list) == 0 {
				f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no finding %q", part),
					Do: "'vornix explain' lists all of them."}
				if near := suggest.Word(part, finding.IDs()); near != "" {
					f.Do = fmt.Sprintf("Did you mean %q?", near)
				}
				return f
			}
			all := []explainAnswer{}
			var rows [][]string
			for _, id := range list {
				one := a.explanation(finding.KindOf(id))
				all = append(all, one)
				rows = append(rows, []string{id, one.Severity, one.Why})
			}
			answer.Result = all
			if part == "" && !a.out.Verbose {
				a.families(list)
				return nil
			}
			a.out.Table([]string{"finding", "", "why it matters"}, rows)
			return nil
		}),
	}
}

// families shows what findings there are, by what they are about.
func (a *app) families(ids []string) {
	var rows [][]string
	for _, id := range ids {
		family, name, _ := strings.Cut(id, ".")
		if n := len(rows); n > 0 && rows[n-1][0] == family {
			rows[n-1][1] += ", " + name
			continue
		}
		rows = append(rows, []string{family, name})
	}
	a.out.Table([]string{"about", "findings"}, rows)
	a.out.Say("\n%d findings; 'vornix explain map' says more of one row, 'vornix explain map.leak' all of one",
		len(ids))
}

func (a *app) explanation(k *finding.Kind) explainAnswer {
	return explainAnswer{k.ID, k.Severity.String(), k.Why, k.Do, finding.StoryOf(k.ID)}
}

func (a *app) explain(x explainAnswer) {
	a.out.Heading("%s (%s)", x.ID, x.Severity)
	a.out.Para(x.Text)
	a.out.Say("")
	a.out.Pair("why", x.Why)
	a.out.Pair("do", x.Do)
	for _, part := range []struct {
		title string
		lines []string
	}{{"wrong", x.Wrong}, {"right", x.Right}, {"see", x.Try}} {
		if len(part.lines) > 0 {
			a.out.Say("\n  %s", part.title)
			for _, line := range part.lines {
				a.out.Say("      %s", line)
			}
		}
	}
	if x.Severity != finding.Error.String() {
		a.out.Say("\n  known and harmless here? In vornix.toml:")
		for _, line := range []string{"[[accept]]", fmt.Sprintf("finding = %q", x.ID), `where = "..."`,
			`reason = "..."`} {
			a.out.Say("      %s", line)
		}
	}
}
