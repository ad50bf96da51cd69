package check

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/format/geom"
	"vornix/core/format/model"
	"vornix/core/source/scene"
)

// Map holds one map to the game's rules. source is its file; models gives what props show, nil for one that is missing.
func Map(p *profile.Profile, m *scene.Map, source string, models func(name string) *model.Model) []finding.Finding {
	c := &mapChecker{profile: p, m: m, ground: newGround(m, models)}
	c.head(source)
	c.form()
	if m.Menu {
		c.menu()
	} else {
		c.spawns()
		c.removal()
		c.required()
	}
	c.lights()
	c.limits()
	c.items()
	c.probes()
	c.outside()
	return c.list
}

type mapChecker struct {
	profile *profile.Profile
	m       *scene.Map
	ground  *ground
	list    []finding.Finding
}

func (c *mapChecker) add(f finding.Finding) { c.list = append(c.list, f) }

// unknown makes a finding for a word that is none of the game's.
func (c *mapChecker) unknown(k *finding.Kind, place fault.Place, what, got string, known []string) {
	f := k.At(place, "%s has no %s %q", c.profile.Game.Title, what, got)
	if near := suggest.Word(got, known); near != "" {
		f = f.Doing("Did you mean %q?", near)
	} else if len(known) > 0 {
		f = f.Doing("Use one of: %s.", strings.Join(known, ", "))
	}
	c.add(f)
}

func (c *mapChecker) head(source string) {
	m, rules := c.m, c.profile.Map
	if file := strings.TrimSuffix(path.Base(source), path.Ext(source)); file != m.Name {
		c.add(finding.MapName.At(m.Place, "the map is called %q and its file %q", m.Name, file))
	}
	if n := utf8.RuneCountInString(m.Name); rules.NameLongest > 0 && n > rules.NameLongest {
		c.add(finding.NameRule.At(m.Place, "the name %q has %d characters; %s takes %d", m.Name, n,
			c.profile.Game.Title, rules.NameLongest))
	}
	if form, err := regexp.Compile("^(?:" + rules.NameForm + ")$"); rules.NameForm != "" && err == nil &&
		!form.MatchString(m.Name) {
		c.add(finding.NameRule.At(m.Place, "%s wants names of the form %s, and this is %q", c.profile.Game.Title,
			rules.NameForm, m.Name))
	}
	if m.Title == "" {
		c.add(finding.MapTitle.At(m.Place, "the map has no title"))
	}
	if m.Players[1] == 0 && !m.Menu {
		c.add(finding.MapPlayers.At(m.Place, "the map does not say for how many players it is"))
	}
	for _, mode := range m.Modes {
		if len(rules.Modes) > 0 && !slices.Contains(rules.Modes, mode) {
			c.unknown(finding.ModeUnknown, m.Keys["modes"], "mode", mode, rules.Modes)
		}
		for _, other := range m.Modes {
			if other != mode && strings.Contains(other, mode) {
				c.add(finding.ModeInside.At(m.Keys["modes"],
					"the mode name %q is found inside %q, and the map has both", mode, other))
			}
		}
	}
}

func (c *mapChecker) form() {
	m, title := c.m, c.profile.Game.Title
	_, solid := m.Bounds()
	switch {
	case !solid && len(m.Grids) == 0 && len(m.Props) == 0:
		c.add(finding.MapEmpty.At(m.Place, "the map has neither solids nor a grid"))
	case c.profile.Game.Form == "solids" && len(m.Grids) > 0:
		c.add(finding.FormWrong.At(m.Grids[0].Place, "%s plays maps of solids, and this is a grid", title))
	case c.profile.Game.Form == "tiles" && len(m.Solids) > 0:
		c.add(finding.FormWrong.At(m.Solids[0].Place, "%s plays maps of tiles, and this is a solid", title))
	case c.profile.Game.Form == "tiles" && len(m.Terrains) > 0:
		c.add(finding.FormWrong.At(m.Terrains[0].Place, "%s plays maps of tiles, and this is a terrain", title))
	}
	for _, t := range m.Terrains {
		if side := max(t.Columns, t.Rows); c.profile.Map.TerrainSide > 0 && side > c.profile.Map.TerrainSide {
			c.add(finding.TerrainSize.At(t.Place, "terrain %s has %d x %d heights; %s takes %d a side", t.Name,
				t.Columns, t.Rows, title, c.profile.Map.TerrainSide))
		}
	}
}

// menu holds a map that is a background for the game's menu to what such a map needs.
func (c *mapChecker) menu() {
	if len(c.m.Cameras) == 0 {
		c.add(finding.CameraNone.At(c.m.Place, "the map is a menu's background and has no camera"))
	}
	for _, s := range c.m.Spawns {
		c.add(finding.SpawnMenu.At(s.Place, "the map is a menu's background and has the spawn %s", s.Name))
	}
}

func (c *mapChecker) spawns() {
	m, teams := c.m, c.profile.Map.Teams
	if len(m.Spawns) == 0 {
		c.add(finding.SpawnNone.At(m.Place, "the map has no spawn"))
		return
	}
	count := map[string]int{}
	for _, s := range m.Spawns {
		count[s.Team]++
		if s.Team != "" && teams != nil && !slices.Contains(teams, s.Team) {
			c.unknown(finding.TeamUnknown, s.Place, "team", s.Team, teams)
		}
		if len(m.Grids) > 0 {
			c.inCell(s)
		} else {
			c.standing(s)
		}
	}
	if count[""] == 0 {
		for _, t := range teams {
			if count[t] == 0 {
				c.add(finding.SpawnTeam.At(m.Place, "team %s has no spawn, and no spawn serves any team", t))
			}
		}
	}
	if len(m.Spawns) < m.Players[1] {
		c.add(finding.SpawnFew.At(m.Keys["players"], "the map is for up to %d players and has %d spawns", m.Players[1],
			len(m.Spawns)))
	}
	c.crowded()
}

// crowded finds spawns that are nearer to one another than a player is wide.
func (c *mapChecker) crowded() {
	list := slices.Clone(c.m.Spawns)
	slices.SortStableFunc(list, func(a, b scene.Spawn) int {
		switch {
		case a.At.Less(b.At):
			return -1
		case a.At == b.At:
			return 0
		}
		return 1
	})
	width := c.profile.Map.SpawnWidth
	if len(c.m.Grids) > 0 {
		width = 0.99 // of a cell
	}
	for i, a := range list {
		for _, b := range list[i+1:] {
			if b.At.X-a.At.X >= width {
				break
			}
			if d := b.At.Sub(a.At).Length(); d < width {
				first, second := a, b
				if b.Place.Line < a.Place.Line {
					first, second = b, a
				}
				c.add(finding.SpawnCrowd.At(second.Place,
					"spawn %s is %.2f m from spawn %s (line %d); a player is %g m wide", second.Name, d, first.Name,
					first.Place.Line, width))
				break
			}
		}
	}
}

// standing finds a spawn that is in something, or above nothing.
func (c *mapChecker) standing(s scene.Spawn) {
	half := float64(c.profile.Map.SpawnWidth / 2)
	body := geom.Box{
		Min: s.At.Sub(geom.Vec{X: half, Y: half}).Add(geom.Vec{Z: 0.05}), // standing on a floor is no collision
		Max: s.At.Add(geom.Vec{X: half, Y: half, Z: c.profile.Map.Headroom}),
	}
	if solid := c.ground.in(body); solid != nil {
		c.add(finding.SpawnBlocked.At(s.Place, "spawn %s has no room: solid %q (%s) is there", s.Name, solid.Name,
			where(s.Place, solid.Place)))
		return
	}
	floor, under := c.ground.below(s.At.Add(geom.Vec{Z: 0.1}))
	for i := range c.m.Terrains {
		if h, on := c.ground.height(i, s.At); on && h > s.At.Z+0.1 {
			c.add(finding.SpawnBlocked.At(s.Place, "spawn %s lies %.1f m below the ground of terrain %q", s.Name,
				h-s.At.Z, c.m.Terrains[i].Name))
			return
		}
	}
	switch fall := s.At.Z - floor; {
	case !under:
		c.add(finding.SpawnOutside.At(s.Place, "there is no ground below spawn %s", s.Name))
	case fall > c.profile.Map.FallHeight:
		c.add(finding.SpawnOutside.At(s.Place, "spawn %s is %.1f m above the ground; %g m are allowed", s.Name, fall,
			c.profile.Map.FallHeight))
	}
}

// where names another place of the same map.
func where(from, to fault.Place) string {
	if from.File == to.File && to.Line > 0 {
		return fmt.Sprintf("line %d", to.Line)
	}
	return to.String()
}

// inCell finds a spawn in a solid cell, or in none. Tile maps place things in cells: x to the east, y to the south.
func (c *mapChecker) inCell(s scene.Spawn) {
	for _, g := range c.m.Grids {
		x, y := int(s.At.X), int(s.At.Y)
		if g.Level != int(s.At.Z) || s.At.X < 0 || s.At.Y < 0 || y >= len(g.Rows) || x >= len(g.Rows[y].Symbols) {
			continue
		}
		for _, t := range c.m.Legend {
			if t.Solid && t.Symbol == g.Rows[y].Symbols[x] {
				c.add(finding.SpawnBlocked.At(s.Place, "spawn %s is in a solid cell %q at %d,%d of grid %q", s.Name,
					fmt.Sprintf("%c", t.Symbol), x, y, g.Name))
			}
		}
		return
	}
	c.add(finding.SpawnOutside.At(s.Place, "spawn %s is on no grid of level %g", s.Name, s.At.Z))
}

func (c *mapChecker) lights() {
	known := c.profile.Map.Lights
	for _, l := range c.m.Lights {
		if known != nil && !slices.Contains(known, l.Kind) {
			c.unknown(finding.LightKind, l.Place, "light of kind", l.Kind, known)
		}
	}
}

func (c *mapChecker) removal() {
	if !c.profile.Map.RemovalVolume {
		return
	}
	all, ok := c.m.Bounds()
	if !ok {
		return
	}
	for _, v := range c.m.Volumes {
		if v.Effect == "remove" && v.Box.Max.Z <= all.Min.Z && v.Box.Min.X <= all.Min.X && v.Box.Min.Y <= all.Min.Y &&
			v.Box.Max.X >= all.Max.X && v.Box.Max.Y >= all.Max.Y {
			return
		}
	}
	c.add(finding.VolumeBelow.At(c.m.Place,
		"no volume with effect=remove lies below the whole map (from %g,%g to %g,%g, below %g)", all.Min.X, all.Min.Y,
		all.Max.X, all.Max.Y, all.Min.Z))
}

func (c *mapChecker) required() {
	count := map[string]int{}
	for _, it := range c.m.Items {
		count[it.Kind]++
	}
	for _, kind := range slices.Sorted(slices.Values(c.profile.Map.Required)) {
		if count[kind] == 0 {
			f := finding.ItemRequired.At(c.m.Place, "the map has no %s", kind)
			if near := suggest.Word(kind, slices.Collect(maps.Keys(count))); near != "" {
				f = f.Doing("Did you mean it by %q?", near)
			}
			c.add(f)
		}
	}
}

// limits counts everything that a profile can limit; of those in excess the first in the source is the one named.
func (c *mapChecker) limits() {
	places := map[string][]fault.Place{}
	c.m.Each(func(kind string, place fault.Place) { places[kind] = append(places[kind], place) })
	for _, kind := range slices.Sorted(maps.Keys(c.profile.Map.Limits)) {
		if limit := c.profile.Map.Limits[kind]; len(places[kind]) > limit {
			c.add(finding.ItemLimit.At(places[kind][limit], "this %s is one more than the %d that %s takes", kind,
				limit, c.profile.Game.Title))
		}
	}
}
