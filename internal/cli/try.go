package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
	"vornix/core/game/smoketest"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// tryOptions are the options of try.
type tryOptions struct {
	installed           string
	setAside, bringBack bool
}

func (a *app) tryCommand() *cobra.Command {
	var o tryOptions
	cmd := &cobra.Command{
		Use:   "try [BUNDLE...]",
		Short: "Load the packed result in an empty folder, as a player with nothing else",
		Long: `Try lays bundles into an empty folder as the game wants them, and starts a stand-in of the game's server there. It loads every map
with the reader a game uses, follows each material, texture, model, sprite, sound and script inside the bundles, sends a bot from every
spawn to each object that a map must have, and reads every entry. What is missing or damaged there is what a player would be missing.
Only the bundles and the game's own files, as its profile lists them, exist. Without BUNDLE it tries what 'vornix pack' made last.

With --installed it looks into the folder of an installed game instead, for loose copies of packed files: the game takes those, and nobody
sees the packed ones. --set-aside moves them into DIR/vornix-aside, --bring-back brings them back.`,
		Example: `  vornix try
  vornix try ~/Downloads/highline-1.0.0.parcel
  vornix try --installed ~/games/kestrel-post --set-aside`,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			if (o.setAside || o.bringBack) && o.installed == "" || o.setAside && o.bringBack {
				return &fault.Fault{Kind: fault.Usage,
					What: "--set-aside and --bring-back go with --installed, one at a time",
					Do:   "Name the game's folder: --installed DIR"}
			}
			if o.bringBack {
				return a.bringBack(ctx, answer, o.installed)
			}
			files := args
			var packed []bundle.Bundle
			if len(files) == 0 {
				if packed, err = bundle.Packed(p); err != nil {
					return err
				}
				for _, b := range packed {
					files = append(files, p.Join(bundle.Dir, b.Name))
				}
			}
			if o.installed != "" {
				return a.loose(ctx, answer, p, files, o)
			}
			step, maps, err := release.Try(ctx, p, files)
			answer.Result = maps
			if err == nil && packed != nil {
				err = release.NoteTried(p, programID(), packed, step)
			}
			err = a.step(answer, step, err)
			a.mapTable(maps)
			return err
		}),
	}
	cmd.Flags().StringVar(&o.installed, "installed", "",
		"look for loose copies of packed files in this game's `folder`")
	cmd.Flags().BoolVar(&o.setAside, "set-aside", false, "move loose copies out of the game's way")
	cmd.Flags().BoolVar(&o.bringBack, "bring-back", false, "bring back what was set aside")
	a.addFormat(cmd, show.SARIFFormat, show.JUnitFormat)
	return cmd
}

// loose looks for what hides packed files in an installed game.
func (a *app) loose(ctx context.Context, answer *show.Answer, p *project.Project, bundles []string,
	o tryOptions) error {
	list, err := smoketest.FindLoose(ctx, p.Profile, o.installed, bundles)
	if err != nil {
		return err
	}
	answer.Result = list
	dir := filepath.ToSlash(o.installed)
	step := &release.Step{Name: "try", Made: []release.Made{}, Summary: "no loose file hides a packed one in " + dir}
	if len(list) > 0 && o.setAside {
		place, err := smoketest.SetAside(ctx, o.installed, list, time.Now())
		if err != nil {
			return err
		}
		for _, f := range place.Files {
			step.Made = append(step.Made, release.Made{Path: f.Path, Size: f.Size, State: "removed"})
		}
		step.Summary = fmt.Sprintf("%s set aside in %s/%s/%s; --bring-back brings them back",
			release.Count(len(list), "loose file"), dir, smoketest.AsideDir, place.Name)
	} else if len(list) > 0 {
		for _, l := range list {
			step.Findings = append(step.Findings, l.Finding(o.installed))
		}
		step.Findings = finding.Accept(step.Findings, p.Acceptances())
		step.Failed = true
		step.Summary = release.Count(len(list), "loose file") + " in " + dir + " hide packed ones"
		return a.step(answer, step,
			&fault.Fault{What: "what is tried there is not what players get",
				Do: "Move the loose files away, or let --set-aside do it."})
	}
	return a.step(answer, step, nil)
}

func (a *app) bringBack(ctx context.Context, answer *show.Answer, game string) error {
	list, err := smoketest.BringBack(ctx, game)
	if err != nil {
		return err
	}
	answer.Result = list
	left := 0
	for _, b := range list {
		if b.Left != "" {
			left++
			a.out.Say("%s stays aside: %s", show.Clean(b.Path), b.Left)
		}
	}
	a.out.Say("%s brought back", release.Count(len(list)-left, "file"))
	if left > 0 {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("%d of %d files stay aside", left, len(list)),
			Why: "Nothing that stands in the game's folder is overwritten.",
			Do:  "Move what stands in their places away and try again."}
	}
	return nil
}

// mapTable shows what a game or a server says of maps.
func (a *app) mapTable(maps []gameserver.MapStatus) {
	var rows [][]string
	for _, m := range maps {
		state := "loaded"
		if !m.Loaded {
			state = "not loaded: " + m.Error
		}
		content := strconv.Itoa(m.Faces) + " faces"
		if m.Cells > 0 {
			content = strconv.Itoa(m.Cells) + " cells"
		}
		spawns := strconv.Itoa(m.Spawns) + " spawns"
		switch {
		case m.Bots > 0 && m.Arrived == m.Bots:
			spawns += ", all bots arrive"
		case m.Bots > 0:
			spawns += fmt.Sprintf(", %d of %d bots arrive", m.Arrived, m.Bots)
		}
		rows = append(rows, []string{m.Name, m.Bundle, content, spawns, strconv.Itoa(m.Needs) + " needs", state})
	}
	a.out.Table([]string{"map", "bundle", "content", "", "", "state"}, rows)
}
