package cli

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"vornix/core/fault"
	"vornix/core/mapfile"
	"vornix/core/mount"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

func (a *app) diffCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "What changed between two compiled maps, in words",
		Long: `Diff compares two compiled maps (.vnm, with or without packed content): what the map says of itself, how much of which
material is seen, terrains, props, every object by its name, tiles and cells.`,
		Example: `  vornix diff out/releases/1.0.0/tram_depot.vnm out/tree/levels/tram_depot.vnm
  vornix diff before.vnm after.vnm --json`,
		Args: between(2, 2, "two compiled maps"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			var m [2]*mapfile.Map
			for i, name := range args {
				var err error
				if m[i], err = openMap(name); err != nil {
					return err
				}
			}
			changes := append([]mapfile.Change{}, mapfile.Diff(m[0], m[1])...)
			answer.Result = changes
			if len(changes) == 0 {
				a.out.Say("the two maps are the same")
				return nil
			}
			var rows [][]string
			for _, c := range changes {
				rows = append(rows, []string{c.Kind, c.Text})
			}
			a.out.Table([]string{"", "what"}, rows)
			a.out.Say("%s from %s to %s", release.Count(len(changes), "change"), filepath.ToSlash(args[0]), filepath.ToSlash(args[1]))
			return nil
		}),
	}
}

// openMap reads a compiled map.
func openMap(name string) (*mapfile.Map, error) {
	place := fault.Place{File: filepath.ToSlash(name)}
	b, err := mount.Open(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the map can't be read", Place: place, Err: err, Do: "Name a compiled map (.vnm)."}
	}
	defer b.Close()
	if b.MapData == nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the file holds no compiled map of its own", Place: place, Do: "Name a compiled map (.vnm); of an archive, extract it first."}
	}
	m, err := mapfile.Read(b.MapData)
	if err != nil {
		return nil, &fault.Fault{What: "the map can't be read", Place: place, Err: err, Do: "Build it again, or get it again."}
	}
	return m, nil
}
