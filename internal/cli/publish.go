package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
	"vornix/internal/cli/show"
)

// publishFlags are the flags that publish, edit and images share.
type publishFlags struct {
	planOnly, overwrite, fresh, offline bool
	items                               []string
}

func (f *publishFlags) add(a *app, cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.planOnly, "plan", false, "show what would be done, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&f.overwrite, "overwrite", false, "also overwrite what others changed on the page")
	addOffline(cmd, &f.offline)
	itemFlag(cmd, &f.items)
}

func itemFlag(cmd *cobra.Command, items *[]string) {
	cmd.Flags().StringArrayVar(items, "item", nil,
		"only the item of this `name`, where each bundle is one; can be given several times")
}

// publishAnswer is the result of publish in JSON.
type publishAnswer struct {
	Plans   []*publish.Plan   `json:"plans"`
	Results []*publish.Result `json:"results"`
}

func (a *app) publishCommand() *cobra.Command {
	var f publishFlags
	cmd := &cobra.Command{
		Use:   "publish TARGET...",
		Short: "Bring the packed bundles and their page to workshops: hidden at first, changed in one step",
		Long: `Publish makes the project's item on a workshop when there is none yet, hidden, and writes its id into published.toml, so
that no second one is made. It fills the page: title, description in Markdown, tags, modes, needed items, pictures. Everything is held to
what the workshop takes before anything is sent. Files go up in pieces, of which only those are sent that the workshop lacks;
what was cut off goes on with the next run, also from another machine. When all is there and checked, the item changes in one step.

Nobody sees a new item before 'vornix publish visibility TARGET public'. What somebody else changed on the page stays; what
the project changed too is a conflict, and shown.`,
		Example: `  vornix publish bazaar --plan
  vornix publish bazaar --yes
  vornix publish try bazaar && vornix publish visibility bazaar public`,
		Args: between(1, -1,
			"the names of targets of the kind workshop (see [target.NAME] in vornix.toml)"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			return a.publish(ctx, answer, "publish", args, f, publish.Everything)
		}),
	}
	f.add(a, cmd)
	cmd.Flags().BoolVar(&f.fresh, "new-item", false, "make a new item in the place of one that was deleted there")
	cmd.AddCommand(a.publishPartCommand("edit", publish.Texts), a.publishPartCommand("images", publish.Pictures),
		a.publishPreviewCommand(), a.publishTryCommand(), a.visibilityCommand(),
		a.publishShowCommand(), a.publishHistoryCommand(), a.publishWithdrawCommand(), a.loginCommand(),
		a.logoutCommand())
	return cmd
}

// publishPartCommand changes a part of the page.
func (a *app) publishPartCommand(name string, scope publish.Scope) *cobra.Command {
	var f publishFlags
	cmd := &cobra.Command{
		Use:               name + " TARGET...",
		Args:              between(1, -1, "the names of targets of the kind workshop"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			return a.publish(ctx, answer, "publish "+name, args, f, scope)
		}),
	}
	if scope == publish.Texts {
		cmd.Short = "Change the page's texts, tags, modes, needed items and testers; files and pictures stay"
		cmd.Example = `  vornix publish edit bazaar --plan
  vornix publish edit bazaar --yes`
	} else {
		cmd.Short = "Change the page's pictures; texts and files stay"
		cmd.Example = `  vornix shoot && vornix publish images bazaar --plan
  vornix publish images bazaar --yes`
	}
	f.add(a, cmd)
	return cmd
}

// publish plans for each target, shows that, asks, and does it.
func (a *app) publish(ctx context.Context, answer *show.Answer, command string, targets []string, f publishFlags,
	scope publish.Scope) error {
	p, bundles, err := a.packed()
	if err == nil && scope == publish.Everything { // otherwise the files stay as they are
		bundles, err = a.ready(ctx, p)
	}
	if err == nil && scope == publish.Everything {
		o := a.options()
		o.Offline = f.offline
		_, err = a.checkPlaces(ctx, p, bundles, false, o, release.Query{Reached: targets})
	}
	if err != nil {
		return err
	}
	result := &publishAnswer{Plans: []*publish.Plan{}, Results: []*publish.Result{}}
	answer.Result = result
	load := func(ctx context.Context) (*assetgraph.Graph, error) { return assetgraph.ScanProject(ctx, p) }
	var list []*release.Publishing
	defer func() {
		for _, x := range list {
			x.Desk.Close()
		}
	}()
	changes := 0
	var refused error
	for _, target := range targets {
		x, err := release.PlanPublish(ctx, p, load, target, bundles, f.items,
			publish.PlanOptions{Scope: scope, Overwrite: f.overwrite, New: f.fresh}, a.publishing())
		if err != nil {
			return err
		}
		list = append(list, x)
		for _, plan := range x.Plans {
			result.Plans = append(result.Plans, plan)
			changes += plan.Changes()
			a.showPublishPlan(x.Desk, plan)
		}
		if f.planOnly || x.Refused() != nil {
			a.out.Findings(x.Findings)
		}
		if err := x.Refused(); err != nil && refused == nil {
			refused = err
		}
		for _, plan := range x.Plans {
			if err := x.Desk.Allowed(plan); err != nil && refused == nil && plan.Changes() > 0 {
				refused = err
			}
		}
	}
	if f.planOnly && a.out.JSON {
		answer.Steps = planned(list)
	}
	if refused != nil || f.planOnly {
		return refused
	}
	if changes > 0 {
		if err := a.confirm(ctx, "Publish?"); err != nil {
			return err
		}
	}
	s, err := a.session(command+" "+strings.Join(targets, " "), nil)
	if err != nil {
		return err
	}
	defer s.Close()
	for _, x := range list {
		step, results, err := s.Publish(ctx, x)
		result.Results = append(result.Results, results...)
		a.deployed(answer, step)
		if err != nil {
			return err
		}
		for _, r := range results {
			if r.Made {
				a.out.Say("Nobody but you sees it yet: %s", r.Address)
			}
		}
	}
	return nil
}

// planned are the findings of plans, as steps, for JSON.
func planned(list []*release.Publishing) (steps []release.Step) {
	for _, x := range list {
		steps = append(steps,
			release.Step{Name: "publish", Made: []release.Made{}, Findings: append([]finding.Finding{}, x.Findings...),
				Summary: "planned for " + x.Desk.Name})
	}
	return steps
}

// packed loads the project and what is packed of it, to be looked at.
func (a *app) packed() (*project.Project, []bundle.Bundle, error) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, nil, err
	}
	bundles, err := bundle.Packed(p)
	return p, bundles, err
}

// noteWidth is how long a note in a plan can be, in characters.
const noteWidth = 70

// showPublishPlan shows what would be done.
func (a *app) showPublishPlan(d *publish.Desk, p *publish.Plan) {
	switch {
	case p.New:
		a.out.Heading("plan for %s: %s, a new item, hidden at first", p.Target, p.Item)
	case p.Found:
		a.out.Heading("plan for %s: %s, which was found there by its key, %s", p.Target, p.Item, p.There.Visibility)
	default:
		a.out.Heading("plan for %s: %s, which is there with %s, %s", p.Target, p.Item, orWord(p.Before, "no version"),
			p.There.Visibility)
	}
	var rows [][]string
	var diffs []publish.PartChange
	left := 0
	for _, s := range p.Steps {
		if s.Action == publish.Leave && !a.out.Verbose {
			left++
			continue
		}
		what, note := s.Part, s.To
		if s.Name != "" {
			what += " " + s.Name
		}
		switch {
		case s.Diff != "" || strings.Contains(note, "\n"):
			note = fmt.Sprintf("%d lines", 1+strings.Count(s.To, "\n"))
			if s.From != "" {
				diffs = append(diffs, s)
			}
		case s.From != "" && s.To != "" && s.From != s.To:
			note = fmt.Sprintf("%s to %s", short(s.From, noteWidth), short(s.To, noteWidth))
		case s.Action == publish.Remove:
			note = s.From
		}
		switch s.Action {
		case publish.Stays:
			note = "changed there by somebody else: " + short(oneLine(s.From), noteWidth)
			diffs = without(diffs, s.Part)
		case publish.Conflict:
			note = "changed there by somebody else too: " + note
		}
		size := ""
		if s.Size > 0 {
			size = release.Bytes(s.Size)
		}
		rows = append(rows, []string{string(s.Action), what, size, short(oneLine(note), noteWidth)})
	}
	if len(rows) > 0 {
		a.out.Table([]string{"", "part", "size", ""}, rows)
	}
	for _, s := range diffs {
		a.out.Say("")
		a.out.Say("%s", strings.TrimSuffix(show.CleanLines(s.Diff), "\n"))
	}
	if left > 0 {
		a.out.Say("%s as %s", plural(left, "part stays", "parts stay"),
			map[bool]string{true: "it is", false: "they are"}[left == 1])
	}
	if p.Send > 0 {
		a.out.Say("about %s of %s to send", release.Bytes(p.Send), release.Bytes(p.Size))
	}
	if p.Changes() == 0 && len(p.Conflicts()) == 0 {
		a.out.Say("nothing to do: %s", p.Address)
	}
}

func without(list []publish.PartChange, part string) []publish.PartChange {
	var out []publish.PartChange
	for _, s := range list {
		if s.Part != part {
			out = append(out, s)
		}
	}
	return out
}

// oneLine is a text's first line.
func oneLine(s string) string {
	first, rest, _ := strings.Cut(s, "\n")
	if rest != "" {
		first += " …"
	}
	return first
}

// completeWorkshops offers the project's workshops to the shell.
func (a *app) completeWorkshops(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return publish.Targets(p), cobra.ShellCompDirectiveNoFileComp
}

// desk opens the workshop that a subcommand names, and says which of its items are meant.
func (a *app) desk(ctx context.Context, target string, items []string) (*publish.Desk, []string, error) {
	p, err := a.loadReaching()
	if err != nil {
		return nil, nil, err
	}
	d, err := publish.Open(ctx, p, target, a.publishing())
	if err != nil {
		return nil, nil, err
	}
	bundles, err := bundle.Packed(p)
	if err != nil {
		bundles = nil // what is published can be looked at without anything packed
	}
	names, err := d.Items(bundles, items)
	if err != nil {
		d.Close()
		return nil, nil, err
	}
	return d, names, nil
}

// oneItem is the only item that is meant.
func oneItem(names []string) (string, error) {
	if len(names) == 1 {
		return names[0], nil
	}
	return "", &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the target has %d items", len(names)),
		Do: "Name one of them with --item: " + strings.Join(names, ", ") + "."}
}
