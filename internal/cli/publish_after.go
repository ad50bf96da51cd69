package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/release"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
	"vornix/core/source/assetgraph"
	"vornix/internal/cli/show"
)

// aboutItems makes a command one about the items of a target.
func (a *app) aboutItems(cmd *cobra.Command,
	work func(ctx context.Context, answer *show.Answer, d *publish.Desk, names []string) error) *cobra.Command {
	var items []string
	cmd.Args, cmd.ValidArgsFunction = between(1, 1, "the name of one target"), a.completeWorkshops
	cmd.RunE = a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
		d, names, err := a.desk(ctx, args[0], items)
		if err != nil {
			return err
		}
		defer d.Close()
		return work(ctx, answer, d, names)
	})
	itemFlag(cmd, &items)
	return cmd
}

func (a *app) publishTryCommand() *cobra.Command {
	return a.aboutItems(&cobra.Command{
		Use:   "try TARGET",
		Short: "Get the item as a player does, check every hash, and load it with nothing else there",
		Long: `Try follows the item with the second account's token (player_token_env or player_token_file of the target), downloads what
players get, holds every file to its hash and to what was published from here, and loads it in an empty folder as 'vornix try' does.
Without a second account it is got as nobody, or while it is hidden as its owner.`,
		Example: `  vornix publish try bazaar
  vornix publish try bazaar --item tram_depot --json`,
	}, func(ctx context.Context, answer *show.Answer, d *publish.Desk, names []string) error {
		s, err := a.session("publish try "+d.Name, nil)
		if err != nil {
			return err
		}
		defer s.Close()
		result := []*release.Tried{}
		for _, name := range names {
			tried, err := a.tryOne(ctx, answer, s, d, name)
			if tried != nil {
				result = append(result, tried)
			}
			answer.Result = result
			if err != nil {
				return err
			}
		}
		return nil
	})
}

func (a *app) tryOne(ctx context.Context, answer *show.Answer, s *release.Session, d *publish.Desk,
	name string) (*release.Tried, error) {
	step, tried, err := s.TryPublished(ctx, d, name)
	err = a.step(answer, step, err)
	if tried != nil {
		a.mapTable(tried.Maps)
	}
	return tried, err
}

func (a *app) visibilityCommand() *cobra.Command {
	var items []string
	var planOnly bool
	known := []string{string(workshop.Hidden), string(workshop.Link), string(workshop.Public)}
	cmd := &cobra.Command{
		Use:   "visibility TARGET hidden|link|public",
		Short: "Show an item to players, when everything is right with it, or hide it",
		Long: `Visibility makes an item hidden (only its owner and its testers see it), shows it to whoever has its address (link), or to
everybody (public). Before it is shown, the project is checked, the page must have what the workshop wants, and the version that is there
is tried as 'vornix publish try' does, unless that was done.`,
		Example: `  vornix publish visibility bazaar public --plan
  vornix publish visibility bazaar hidden --yes`,
		Args: between(2, 2, "the name of one target, and hidden, link or public"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 1 {
				return known, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completeWorkshops(cmd, args, begun)
		},
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			to := workshop.Visibility(args[1])
			if !slices.Contains(known, args[1]) {
				return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no visibility", args[1]),
					Do: "It is one of " + strings.Join(known, ", ") + "."}
			}
			d, names, err := a.desk(ctx, args[0], items)
			if err != nil {
				return err
			}
			defer d.Close()
			return a.visibility(ctx, answer, d, names, to, planOnly)
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be done, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	itemFlag(cmd, &items)
	return cmd
}

func (a *app) visibility(ctx context.Context, answer *show.Answer, d *publish.Desk, names []string,
	to workshop.Visibility, planOnly bool) error {
	var plans []*publish.Show
	var untried []string
	for _, name := range names {
		x, err := d.PlanShow(ctx, name, to)
		if err != nil {
			return err
		}
		plans = append(plans, x)
		st, err := d.Look(ctx, name)
		if err != nil {
			return err
		}
		tried := false
		for i := range st.Versions {
			if v := &st.Versions[i]; st.There != nil && v.Number == st.There.Current {
				if tried, err = release.WasTried(d.P, d.Name, name, v); err != nil {
					return err
				}
			}
		}
		if !tried && to != workshop.Hidden {
			untried = append(untried, name)
		}
		a.out.Heading("%s %s at %s: %s to %s", name, orWord(x.Version, "without a version"), d.Name, x.From, x.To)
		for _, w := range x.Missing {
			a.out.Say("missing: %s", w.String())
		}
		if head := d.P.File.Project.Version; x.Version != head && to != workshop.Hidden {
			a.out.Say("The project has version %s, which is not published yet.", head)
		}
	}
	answer.Result = plans
	if to != workshop.Hidden {
		p, g, err := a.scanned(ctx)
		if err != nil {
			return err
		}
		step, err := release.Check(ctx, p, g)
		if err := a.step(answer, step, err); err != nil {
			return err
		}
	}
	if planOnly {
		if len(untried) > 0 {
			a.out.Say("%s would be got and tried as a player first", strings.Join(untried, ", "))
		}
		return nil
	}
	s, err := a.session("publish visibility "+d.Name, nil)
	if err != nil {
		return err
	}
	defer s.Close()
	for _, x := range plans {
		if len(x.Missing) > 0 { // no need to download anything
			_, err := d.Show(ctx, x)
			return err
		}
	}
	for _, name := range untried {
		if _, err := a.tryOne(ctx, answer, s, d, name); err != nil {
			return err
		}
	}
	who := map[workshop.Visibility]string{workshop.Hidden: "Hide it",
		workshop.Link: "Show it to whoever has the address", workshop.Public: "Show it to everybody"}[to]
	if slices.ContainsFunc(plans, func(x *publish.Show) bool { return x.From != to }) {
		if err := a.confirm(ctx, who+"?"); err != nil {
			return err
		}
	}
	for _, x := range plans {
		if x.From == to {
			a.out.Say("%s is %s already: %s", x.Item, to, x.Address)
			continue
		}
		if _, err := d.Show(ctx, x); err != nil {
			return err
		}
		a.out.Say("%s is %s: %s", x.Item, to, x.Address)
	}
	return nil
}

// publishShown is the result of publish show in JSON.
type publishShown struct {
	*publish.State
	Differs []publish.PartChange `json:"differs"` // from the project
}

func (a *app) publishShowCommand() *cobra.Command {
	return a.aboutItems(&cobra.Command{
		Use:   "show TARGET",
		Short: "What the workshop has: page, version, followers, and how it differs from the project",
		Example: `  vornix publish show bazaar
  vornix publish show bazaar --json | jq '.result[].there.followers'`,
	}, func(ctx context.Context, answer *show.Answer, d *publish.Desk, names []string) error {
		result := []publishShown{}
		for _, name := range names {
			st, err := d.Look(ctx, name)
			if err != nil {
				return err
			}
			one := publishShown{State: st, Differs: []publish.PartChange{}}
			a.showItem(d, st)
			if st.There != nil {
				one.Differs = a.differs(ctx, d, name)
			}
			result = append(result, one)
		}
		answer.Result = result
		return nil
	})
}

func (a *app) showItem(d *publish.Desk, st *publish.State) {
	x := st.There
	if x == nil {
		a.out.Heading("%s at %s", st.Item, d.About.Name)
		a.out.Say("There is no such item yet; 'vornix publish %s' makes it.", d.Name)
		return
	}
	a.out.Heading("%s at %s", show.Clean(x.Page.Title), show.Clean(d.About.Name))
	rows := [][]string{{"page", st.Address}, {"visibility", string(x.Visibility)},
		{"version", orWord(x.Version, "none yet")}}
	row := func(what, text string) {
		if text != "" {
			rows = append(rows, []string{what, show.Clean(text)})
		}
	}
	if x.Withdrawn != nil {
		row("withdrawn", x.Withdrawn.Reason)
	}
	if x.Size > 0 {
		row("size", release.Bytes(x.Size))
	}
	row("changed", fmt.Sprintf("%s by %s", x.Changed.Local().Format("2006-01-02 15:04"), x.By))
	row("followers", fmt.Sprintf("%d, and %s", x.Followers, release.Count(x.Downloads, "download")))
	row("tags", strings.Join(x.Page.Tags, ", "))
	row("modes", strings.Join(x.Page.Modes, ", "))
	row("needs", strings.Join(x.Page.Needs, ", "))
	row("testers", strings.Join(x.Page.Testers, ", "))
	for i, p := range x.Page.Pictures {
		what := ""
		if i == 0 {
			what = "pictures"
		}
		rows = append(rows,
			[]string{what, fmt.Sprintf("%s, %dx%d, %s", show.Clean(p.Name), p.Width, p.Height, release.Bytes(p.Size))})
	}
	a.out.Table([]string{"", ""}, rows)
	if x.Page.Description != "" {
		a.out.Say("")
		a.out.Say("%s", show.CleanLines(x.Page.Description))
	}
}

// differs shows in what the page differs from the project, when that can be told.
func (a *app) differs(ctx context.Context, d *publish.Desk, name string) []publish.PartChange {
	_, bundles, err := a.packed()
	if err != nil {
		return []publish.PartChange{}
	}
	g, err := assetgraph.ScanProject(ctx, d.P)
	if err != nil {
		return []publish.PartChange{}
	}
	goals, _, err := d.Goals(ctx, g, bundles, []string{name})
	if err != nil {
		a.out.Say("What the project says can't be told: %s", show.Clean(err.Error()))
		return []publish.PartChange{}
	}
	plan, err := d.Plan(ctx, goals[0], publish.PlanOptions{})
	if err != nil {
		a.out.Say("What the project says can't be published: %s", show.Clean(err.Error()))
		return []publish.PartChange{}
	}
	list := []publish.PartChange{}
	for _, s := range plan.Steps {
		if s.Action != publish.Leave {
			list = append(list, s)
		}
	}
	if len(list) > 0 {
		a.showPublishPlan(d, plan)
	} else {
		a.out.Say("\nThe project says the same.")
	}
	return list
}

// historyAnswer is what publish history says of an item in JSON.
type historyAnswer struct {
	Item     string             `json:"item"`
	ID       string             `json:"id"`
	Versions []workshop.Version `json:"versions"`
	Events   []workshop.Event   `json:"events"`
}

func (a *app) publishHistoryCommand() *cobra.Command {
	return a.aboutItems(&cobra.Command{
		Use:   "history TARGET",
		Short: "The item's versions, and what happened to it and by whom",
		Example: `  vornix publish history bazaar
  vornix publish history bazaar --json`,
	}, func(ctx context.Context, answer *show.Answer, d *publish.Desk, names []string) error {
		result := []historyAnswer{}
		for _, name := range names {
			x, err := d.There(ctx, name)
			if err != nil {
				return err
			}
			t := historyAnswer{Item: name, ID: x.ID}
			if t.Versions, err = d.Client.Versions(ctx, x.ID); err != nil {
				return err
			}
			if t.Events, err = d.Client.Events(ctx, x.ID); err != nil {
				return err
			}
			result = append(result, t)
			a.out.Heading("versions of %s at %s", name, d.Name)
			var rows [][]string
			for _, v := range t.Versions {
				state, size := "", int64(0)
				switch {
				case v.Withdrawn != nil:
					state = "withdrawn: " + v.Withdrawn.Reason
				case v.Number == x.Current:
					state = "what players get"
				}
				for _, f := range v.Files {
					size += f.Size
				}
				rows = append(rows,
					[]string{v.Version, v.Time.Local().Format("2006-01-02 15:04"), release.Bytes(size),
						show.Clean(state), show.Clean(short(oneLine(strings.TrimLeft(v.Notes, "# ")), noteWidth))})
			}
			a.out.Table([]string{"version", "since", "size", "", "notes"}, rows)
			a.out.Heading("what happened")
			rows = nil
			for _, e := range t.Events {
				rows = append(rows,
					[]string{e.Time.Local().Format("2006-01-02 15:04:05"), show.Clean(e.By),
						show.Clean(short(e.What, noteWidth))})
			}
			a.out.Table([]string{"", "by", ""}, rows)
		}
		answer.Result = result
		return nil
	})
}

func (a *app) publishWithdrawCommand() *cobra.Command {
	var items []string
	var planOnly, back bool
	var reason string
	cmd := &cobra.Command{
		Use:   "withdraw TARGET [VERSION]",
		Short: "Take an item back, or one of its versions, and bring it back again",
		Long: `Withdraw takes a version off, so that players get the one before it again; without VERSION the whole item: its page stays and says
why, and nobody can download it. --back brings it back.`,
		Example: `  vornix publish withdraw bazaar 1.1.0 --reason "the depot crashes old clients" --yes
  vornix publish withdraw bazaar 1.1.0 --back --yes`,
		Args:              between(1, 2, "the name of one target, and a version"),
		ValidArgsFunction: a.completeWorkshops,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			if !back && strings.TrimSpace(reason) == "" {
				return &fault.Fault{Kind: fault.Usage, What: "players should know why",
					Do: "Add --reason \"...\"; it stands on the item's page."}
			}
			d, names, err := a.desk(ctx, args[0], items)
			if err != nil {
				return err
			}
			defer d.Close()
			name, err := oneItem(names)
			if err != nil {
				return err
			}
			x, err := d.There(ctx, name)
			if err != nil {
				return err
			}
			version := ""
			if len(args) > 1 {
				version = args[1]
			}
			what := "the whole item"
			if version != "" {
				what = "version " + version
			}
			doing := "withdraw"
			if back {
				doing = "bring back"
			}
			a.out.Heading("%s at %s, %s with %s: %s %s", name, d.Name, x.Visibility, orWord(x.Version, "no version"),
				doing, what)
			answer.Result = x
			if planOnly {
				return nil
			}
			if err := a.confirm(ctx, strings.ToUpper(doing[:1])+doing[1:]+" it?"); err != nil {
				return err
			}
			now, err := d.Withdraw(ctx, name, version, reason, back)
			if err != nil {
				return err
			}
			answer.Result = now
			switch {
			case now.Withdrawn != nil:
				a.out.Say("%s is withdrawn; players get nothing: %s", name, d.Client.PageOf(now.ID))
			case now.Current == 0:
				a.out.Say("%s has nothing to download any more: %s", name, d.Client.PageOf(now.ID))
			default:
				a.out.Say("players get %s %s: %s", name, now.Version, d.Client.PageOf(now.ID))
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be done, and change nothing")
	cmd.Flags().BoolVar(&a.yes, "yes", false, "do it without asking")
	cmd.Flags().BoolVar(&back, "back", false, "bring back what was withdrawn")
	cmd.Flags().StringVar(&reason, "reason", "", "why, for players: a `sentence`")
	itemFlag(cmd, &items)
	return cmd
}
