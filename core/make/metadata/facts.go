package metadata

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// Bundle is a packed bundle, as far as metadata speaks of it.
type Bundle struct {
	File   string
	Size   int64
	SHA256 string
	Files  int
	Maps   []string
}

// MapFacts is what is known of a map.
type MapFacts struct {
	Name    string
	Title   string
	Modes   []string
	Players [2]int // fewest and most; zero when the map does not say
	Game    string // version of the game that it needs
}

// Facts is what is really inside.
type Facts struct {
	Maps    []MapFacts
	Modes   []string // of all maps, sorted
	Players [2]int
	Kinds   []string // kinds of content that ship, sorted
	Paths   []string // as the game sees them, sorted
	Game    string   // version of the game that all of it needs; "" when the profile does not say
	Why     string   // what needs it, in words
}

// Scenes are the maps of a project that could be read, by name.
func Scenes(g *assetgraph.Graph) (list []*scene.Map) {
	for _, a := range g.Of(assetgraph.Map) {
		if a.Scene != nil {
			list = append(list, a.Scene)
		}
	}
	return list
}

// Look finds out what some of a project's maps bring along.
func Look(p *project.Project, g *assetgraph.Graph, of []*scene.Map) *Facts {
	f := &Facts{}
	var roots []*assetgraph.Asset
	for _, a := range g.Roots() { // what is in every bundle
		if a.IsContent() {
			roots = append(roots, a)
		}
	}
	everywhere := paths(p, assetgraph.Closure(roots...), nil)
	kinds := map[string]bool{}
	all := everywhere
	paths(p, assetgraph.Closure(roots...), kinds)
	for _, m := range of {
		x := MapFacts{Name: m.Name, Title: cmp.Or(m.Title, m.Name), Modes: m.Modes, Players: m.Players}
		own := everywhere
		if a := g.Find(assetgraph.Map, m.Name); a != nil {
			own = append(slices.Clone(everywhere), paths(p, assetgraph.Closure(a), kinds)...)
		}
		all = append(all, own...)
		why := ""
		x.Game, why = needed(&p.Profile.Game, m, own)
		if CompareGame(x.Game, f.Game) > 0 {
			f.Game, f.Why = x.Game, why
		}
		f.Maps = append(f.Maps, x)
		f.Modes = append(f.Modes, m.Modes...)
		if m.Players[1] > 0 {
			if f.Players[1] == 0 || m.Players[0] < f.Players[0] {
				f.Players[0] = m.Players[0]
			}
			f.Players[1] = max(f.Players[1], m.Players[1])
		}
	}
	if f.Game == "" {
		f.Game, f.Why = needed(&p.Profile.Game, nil, all)
	}
	if own := p.File.Project.GameVersion; CompareGame(own, f.Game) > 0 {
		f.Game, f.Why = own, "the project says so"
		for i := range f.Maps {
			f.Maps[i].Game = own
		}
	}
	slices.Sort(f.Modes)
	f.Modes = slices.Compact(f.Modes)
	slices.Sort(all)
	f.Paths = slices.Compact(all)
	f.Kinds = slices.Sorted(maps.Keys(kinds))
	return f
}

// paths are where assets lie in the game, of those that ship.
func paths(p *project.Project, assets []*assetgraph.Asset, kinds map[string]bool) (list []string) {
	for _, a := range assets {
		if !assetgraph.Ships(p, a) {
			continue
		}
		if kinds != nil {
			kinds[string(a.Kind)+"s"] = true
		}
		list = append(list, assetgraph.GamePath(p, a))
	}
	return list
}

// needed is the version of the game that a map and what comes with it need, and why.
func needed(game *profile.Game, m *scene.Map, paths []string) (version, why string) {
	version = game.Version
	if version != "" {
		why = game.Title + " takes mods from there on"
	}
	for _, s := range game.Since {
		what := ""
		if m != nil {
			for _, mode := range m.Modes {
				if slices.Contains(s.Modes, mode) {
					what = fmt.Sprintf("%s has the mode %s", m.Name, mode)
				}
			}
			for i := range m.Items {
				if slices.Contains(s.Items, m.Items[i].Kind) {
					what = fmt.Sprintf("%s has a %s", m.Name, m.Items[i].Kind)
				}
			}
		}
		for _, rel := range paths {
			if matches(s.Files, rel) {
				what = rel + " ships"
				break
			}
		}
		if what != "" && CompareGame(s.Version, version) > 0 {
			version, why = s.Version, fmt.Sprintf("%s, and %s came with %s", what, s.What, s.Version)
		}
	}
	return version, why
}

func matches(patterns []string, rel string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		ok, _ := doublestar.Match(pattern, rel)
		return ok
	})
}

// CompareGame orders two versions of a game by their numbers; "" is the lowest, and 1.2 is 1.2.0.
func CompareGame(a, b string) int {
	x, y := gameNumbers(a), gameNumbers(b)
	for len(x) < len(y) {
		x = append(x, 0)
	}
	for len(y) < len(x) {
		y = append(y, 0)
	}
	return slices.Compare(x, y)
}

func gameNumbers(v string) (list []int) {
	for part := range strings.SplitSeq(v, ".") {
		n, _ := strconv.Atoi(part)
		list = append(list, n)
	}
	return list
}
