package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/build"
	"vornix/core/bundle"
	"vornix/core/deploy"
	"vornix/core/index"
	"vornix/core/ledger"
	"vornix/core/project"
	"vornix/core/publish"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// statusAnswer is the result of status in JSON.
type statusAnswer struct {
	Project  string          `json:"project"`
	Version  string          `json:"version"`
	Profile  string          `json:"profile"`
	Stale    []string        `json:"stale"`    // jobs that a build would run
	Pictures []string        `json:"pictures"` // beside bundles, that would be made
	Packed   []bundle.Bundle `json:"packed"`
	Indexed  bool            `json:"indexed"`
	Released string          `json:"released"` // the latest finished version
	Targets  []*deploy.State `json:"targets"`
	// Workshops has an entry for each item that the project has somewhere, and one for each workshop at which it has none.
	Workshops []*publish.State `json:"workshops"`
	Next      string           `json:"next"`
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "status",
		Short: "What is built, pictured, packed, indexed, released, and live on each target",
		Long: `Status looks and changes nothing. It says for each step whether it is up to date, for each target which version is
there, whether files there were changed since, and what its game server plays.`,
		Example: `  vornix status
  vornix status --json | jq '.result.targets[] | {target, version, drift}'`,
		Args: noArgs,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, _ []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			head := p.File.Project
			st := statusAnswer{Project: head.Name, Version: head.Version, Profile: p.Profile.Game.ID, Packed: []bundle.Bundle{}, Targets: []*deploy.State{}}
			if st.Stale, err = build.Stale(ctx, p, programID()); err != nil {
				return err
			}
			st.Stale = append([]string{}, st.Stale...)
			rows := [][]string{}
			row := func(what, state string) { rows = append(rows, []string{what, state}) }
			row("project", fmt.Sprintf("%s %s for %s", head.Title, head.Version, p.Profile.Game.Title))
			if len(st.Stale) == 0 {
				row("built", "up to date")
			} else {
				row("built", fmt.Sprintf("%d to build: %s", len(st.Stale), few(st.Stale)))
				st.Next = "vornix build"
			}
			if st.Pictures, err = a.pictureRow(ctx, p, row); err != nil {
				return err
			}
			if len(st.Pictures) > 0 {
				st.Next = orWord(st.Next, "vornix shoot")
			}
			packed, err := bundle.Packed(p)
			if err != nil {
				row("packed", "no: "+err.Error())
				st.Next = orWord(st.Next, "vornix pack")
			} else {
				st.Packed = packed
				var names []string
				for _, b := range packed {
					names = append(names, fmt.Sprintf("%s (%s)", b.Name, release.Bytes(b.Size)))
				}
				row("packed", strings.Join(names, ", "))
			}
			if x, err := index.Check(p); err != nil {
				row("indexed", "no: "+err.Error())
				st.Next = orWord(st.Next, "vornix index write")
			} else {
				st.Indexed = true
				state := fmt.Sprintf("number %d", x.Serial)
				if len(x.Signatures) > 0 {
					state += ", signed" + until(x)
				}
				if x.Expired(time.Now()) {
					state += ": expired, so players refuse it"
					st.Next = orWord(st.Next, "vornix index sign")
				}
				row("indexed", state)
			}
			events, err := ledger.Read(p)
			if err != nil {
				return err
			}
			for _, e := range events {
				if e.Kind == ledger.Released {
					st.Released = e.Version
				}
			}
			row("released", orWord(st.Released, "nothing yet"))
			if st.Released != head.Version {
				st.Next = orWord(st.Next, "vornix release")
			}
			st.Targets, st.Workshops = a.lookAtAll(ctx, p)
			for _, t := range st.Targets {
				row("on "+t.Target, stateOf(t))
			}
			for _, w := range st.Workshops {
				row("at "+w.Target, itemState(w))
			}
			answer.Result = st
			a.out.Table([]string{"", ""}, rows)
			if st.Next != "" {
				a.out.Say("\nnext: %s", st.Next)
			}
			return nil
		}),
	}
}

// pictureRow says which pictures beside bundles are to be made, where the game wants any.
func (a *app) pictureRow(ctx context.Context, p *project.Project, row func(what, state string)) ([]string, error) {
	if !release.HasBeside(p.Profile) {
		return []string{}, nil
	}
	g, err := release.Scan(ctx, p)
	if err != nil {
		return nil, err
	}
	list, err := build.StaleBeside(ctx, p, g)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		row("pictures", "up to date")
		return []string{}, nil
	}
	var names []string
	for _, id := range list {
		names = append(names, strings.TrimPrefix(id, build.PictureStep+" "))
	}
	row("pictures", fmt.Sprintf("%d to make: %s", len(names), few(names)))
	return names, nil
}

// lookAtAll looks at all targets at once, since some may not answer for a while.
func (a *app) lookAtAll(ctx context.Context, p *project.Project) ([]*deploy.State, []*publish.State) {
	names, workshops := release.Targets(p), publish.Targets(p)
	list := make([]*deploy.State, len(names))
	items := make([][]*publish.State, len(workshops))
	access := a.access()
	var wg sync.WaitGroup
	for i, name := range names {
		wg.Go(func() { list[i] = deploy.Look(ctx, p, name, access, false) })
	}
	for i, name := range workshops {
		wg.Go(func() { items[i] = publish.Survey(ctx, p, name, a.publishing()) })
	}
	wg.Wait()
	return list, slices.Concat(items...)
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
	return text + fmt.Sprintf("; %s, %s", release.Count(x.Followers, "follower"), release.Count(x.Downloads, "download"))
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
		text += fmt.Sprintf(", %d changed there since: %s", len(t.Drift), few(t.Drift))
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

func few(list []string) string {
	if len(list) > 3 {
		return strings.Join(list[:3], ", ") + " …"
	}
	return strings.Join(list, ", ")
}

func orWord(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}
