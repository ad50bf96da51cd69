package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"vornix/core/bundle"
	"vornix/core/release"
	"vornix/core/standin"
	"vornix/internal/cli/show"
)

func (a *app) tryCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "try [BUNDLE...]",
		Short: "Load the packed result in an empty folder, as a player with nothing else",
		Long: `Try lays bundles into an empty folder as the game wants them, loads every map with the reader a game uses, follows
each material, texture and sound inside the bundle, and reads every entry. What is missing or damaged there is what a
player would be missing. Without BUNDLE it tries what 'vornix pack' made last.`,
		Example: `  vornix try
  vornix try ~/Downloads/highline-1.0.0.parcel`,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.load()
			if err != nil {
				return err
			}
			files := args
			if len(files) == 0 {
				packed, err := bundle.Packed(p)
				if err != nil {
					return err
				}
				for _, b := range packed {
					files = append(files, p.Join(bundle.Dir, b.Name))
				}
			}
			step, maps, err := release.Try(ctx, p, files)
			answer.Result = maps
			err = a.step(answer, step, err)
			a.mapTable(maps)
			return err
		}),
	}
}

// mapTable shows what a game or a server says of maps.
func (a *app) mapTable(maps []standin.MapStatus) {
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
