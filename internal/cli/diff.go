package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/semver"
	"vornix/core/format/mapfile"
	"vornix/core/game/compare"
	"vornix/core/game/gamefs"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// diffAnswer is what two things differ in.
type diffAnswer struct {
	*compare.Result
	Maps []mapChanges `json:"maps"` // what changed inside compiled maps that are on both sides
}

// mapChanges is what changed inside a map.
type mapChanges struct {
	Map     string           `json:"map"`
	Changes []mapfile.Change `json:"changes"`
}

func (a *app) diffCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "diff OLD NEW",
		Short: "What changed between two bundles, folders, releases or compiled maps",
		Long: `Diff compares two bundles, two folders, two released versions (by their number, in a project) or two compiled maps: files that were
added, removed, moved, changed, and how they grew, with a chart by kind. Of compiled maps on both sides it says in words what changed:
what the map says of itself, how much of which material is seen, terrains, props, every object by its name, tiles and cells.`,
		Example: `  vornix diff 1.0.0 1.1.0
  vornix diff out/releases/1.0.0 out/bundles
  vornix diff before.vnm after.vnm --json`,
		Args:              between(2, 2, "two bundles, folders, versions or compiled maps"),
		ValidArgsFunction: a.completeVersions,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			names := []string{a.versionFolder(args[0]), a.versionFolder(args[1])}
			var sides [2]compare.Side
			for i, name := range names {
				var err error
				if sides[i], err = compare.Load(ctx, name); err != nil {
					return err
				}
			}
			if isMap(names[0]) && isMap(names[1]) && len(sides[0]) == 1 && len(sides[1]) == 1 {
				return a.diffMaps(answer, args)
			}
			d := diffAnswer{Result: compare.Sides(sides[0], sides[1]), Maps: []mapChanges{}}
			answer.Result = &d
			if len(d.Changes) == 0 {
				a.out.Say("the two are the same: %s, %s", release.Count(d.Same, "file"), release.Bytes(d.New))
				return nil
			}
			var rows [][]string
			for _, c := range d.Changes {
				what := c.Path
				if c.From != "" {
					what += " (was " + c.From + ")"
				}
				old, now := release.Bytes(c.Old), release.Bytes(c.New)
				if c.State == compare.Added {
					old = ""
				} else if c.State == compare.Removed {
					now = ""
				}
				rows = append(rows, []string{string(c.State), what, old, now, grown(c.Grown())})
				if c.State == compare.Changed && isMap(c.Path) {
					if list := compare.Maps(names[0], names[1], c.Path); len(list) > 0 {
						d.Maps = append(d.Maps, mapChanges{c.Path, list})
					}
				}
			}
			if shown := 24; len(rows) > shown+1 && !a.out.Verbose {
				rows = append(rows[:shown],
					[]string{"", fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", "", ""})
			}
			a.out.Table([]string{"", "file", "size", "size now", "grown"}, rows)
			for _, m := range d.Maps {
				a.out.Heading("%s", show.Clean(m.Map))
				var rows [][]string
				for _, c := range m.Changes {
					rows = append(rows, []string{c.Kind, c.Text})
				}
				a.out.Table([]string{"", "what"}, rows)
			}
			a.out.Say("")
			a.kindChart(d.Kinds)
			a.out.Say("\n%d added, %d removed, %d moved, %d changed, %d the same; from %s to %s (%s)",
				d.Count(compare.Added), d.Count(compare.Removed), d.Count(compare.Moved), d.Count(compare.Changed),
				d.Same, release.Bytes(d.Old), release.Bytes(d.New), grown(d.New-d.Old))
			return nil
		}),
	}
}

// kindChart draws how much there is of each kind, before and now.
func (a *app) kindChart(kinds []compare.Kind) {
	const width = 32
	most := int64(1)
	for _, k := range kinds {
		most = max(most, k.Old, k.New)
	}
	bar := func(n int64) string {
		eighths := int((n*width*8 + most - 1) / most)
		s := strings.Repeat("█", eighths/8)
		if rest := eighths % 8; rest > 0 {
			s += string([]rune("▏▎▍▌▋▊▉")[rest-1])
		}
		return s
	}
	var rows [][]string
	for _, k := range kinds {
		rows = append(rows, []string{k.Kind, "was", bar(k.Old), release.Bytes(k.Old), strconv.Itoa(k.OldFiles), ""},
			[]string{"", "now", bar(k.New), release.Bytes(k.New), strconv.Itoa(k.NewFiles), grown(k.New - k.Old)})
	}
	a.out.Table([]string{"kind", "", "", "size", "files", "grown"}, rows)
}

// grown says a change of size with its sign.
func grown(n int64) string {
	switch {
	case n > 0:
		return "+" + release.Bytes(n)
	case n < 0:
		return "-" + release.Bytes(-n)
	}
	return "0"
}

// versionFolder is the folder of a released version of the project here, when that is what is meant.
func (a *app) versionFolder(name string) string {
	if _, err := os.Stat(name); err == nil || !semver.Valid(name) {
		return name
	}
	dir, err := a.dir()
	if err != nil {
		return name
	}
	return filepath.Join(dir, filepath.FromSlash(release.ReleasesDir), name)
}

func isMap(name string) bool { return strings.EqualFold(filepath.Ext(name), ".vnm") }

// diffMaps compares two compiled maps that stand alone.
func (a *app) diffMaps(answer *show.Answer, args []string) error {
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
	a.out.Say("%s from %s to %s", release.Count(len(changes), "change"), filepath.ToSlash(args[0]),
		filepath.ToSlash(args[1]))
	return nil
}

// openMap reads a compiled map.
func openMap(name string) (*mapfile.Map, error) {
	place := fault.Place{File: filepath.ToSlash(name)}
	b, err := gamefs.Open(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the map can't be read", Place: place, Err: err,
			Do: "Name a compiled map (.vnm)."}
	}
	defer b.Close()
	if b.MapData == nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the file holds no compiled map of its own", Place: place,
			Do: "Name a compiled map (.vnm); of an archive, extract it first."}
	}
	m, err := mapfile.Read(b.MapData)
	if err != nil {
		return nil, &fault.Fault{What: "the map can't be read", Place: place, Err: err,
			Do: "Build it again, or get it again."}
	}
	return m, nil
}
