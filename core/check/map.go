package check

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/geom"
	"vornix/core/nearest"
	"vornix/core/profile"
	"vornix/core/scene"
)

// spawnWidth is the width and depth in metres of a player who stands at a spawn.
const spawnWidth = 0.6

// Map holds one map to the game's rules. source is its file.
func Map(p *profile.Profile, m *scene.Map, source string) []finding.Finding {
	c := &mapChecker{profile: p, m: m}
	c.head(source)
	c.form()
	c.spawns()
	c.lights()
	c.removal()
	c.items()
	return c.list
}

type mapChecker struct {
	profile *profile.Profile
	m       *scene.Map
	list    []finding.Finding
}

func (c *mapChecker) add(f finding.Finding) { c.list = append(c.list, f) }

// unknown makes a finding for a word that is none of the game's.
func (c *mapChecker) unknown(k *finding.Kind, place fault.Place, what, got string, known []string) {
	f := k.At(place, "%s has no %s %q", c.profile.Game.Title, what, got)
	if near := nearest.Word(got, known); near != "" {
		f = f.Doing("Did you mean %q?", near)
	} else if len(known) > 0 {
		f = f.Doing("Use one of: %s.", strings.Join(known, ", "))
	}
	c.add(f)
}

func (c *mapChecker) head(source string) {
	m := c.m
	if file := strings.TrimSuffix(path.Base(source), path.Ext(source)); file != m.Name {
		c.add(finding.MapName.At(m.Place, "the map is called %q and its file %q", m.Name, file))
	}
	if m.Title == "" {
		c.add(finding.MapTitle.At(m.Place, "the map has no title"))
	}
	if m.Players[1] == 0 {
		c.add(finding.MapPlayers.At(m.Place, "the map does not say for how many players it is"))
	}
	known := c.profile.Map.Modes
	for _, mode := range m.Modes {
		if len(known) > 0 && !slices.Contains(known, mode) {
			c.unknown(finding.ModeUnknown, m.Keys["modes"], "mode", mode, known)
		}
		for _, other := range m.Modes {
			if other != mode && strings.Contains(other, mode) {
				c.add(finding.ModeInside.At(m.Keys["modes"], "the mode name %q is found inside %q, and the map has both", mode, other))
			}
		}
	}
}

func (c *mapChecker) form() {
	m, title := c.m, c.profile.Game.Title
	switch {
	case len(m.Solids) == 0 && len(m.Grids) == 0:
		c.add(finding.MapEmpty.At(m.Place, "the map has neither solids nor a grid"))
	case c.profile.Game.Form == "solids" && len(m.Grids) > 0:
		c.add(finding.FormWrong.At(m.Grids[0].Place, "%s plays maps of solids, and this is a grid", title))
	case c.profile.Game.Form == "tiles" && len(m.Solids) > 0:
		c.add(finding.FormWrong.At(m.Solids[0].Place, "%s plays maps of tiles, and this is a solid", title))
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
		c.blocked(s)
	}
	if count[""] == 0 {
		for _, t := range teams {
			if count[t] == 0 {
				c.add(finding.SpawnTeam.At(m.Place, "team %s has no spawn, and no spawn serves any team", t))
			}
		}
	}
	if len(m.Spawns) < m.Players[1] {
		c.add(finding.SpawnFew.At(m.Keys["players"], "the map is for up to %d players and has %d spawns", m.Players[1], len(m.Spawns)))
	}
}

// blocked finds a spawn inside a solid or in a solid cell. Tile maps place things in cells: x to the east, y to the south.
func (c *mapChecker) blocked(s scene.Spawn) {
	body := geom.Box{
		Min: s.At.Sub(geom.Vec{X: spawnWidth / 2, Y: spawnWidth / 2}).Add(geom.Vec{Z: 0.05}), // standing on a floor is no collision
		Max: s.At.Add(geom.Vec{X: spawnWidth / 2, Y: spawnWidth / 2, Z: c.profile.Map.Headroom}),
	}
	for _, solid := range c.m.Solids {
		if solid.Box.Overlaps(body) {
			c.add(finding.SpawnBlocked.At(s.Place, "spawn %s has no room: solid %q (line %d) is there", s.Name, solid.Name, solid.Place.Line))
			return
		}
	}
	for _, g := range c.m.Grids {
		x, y := int(s.At.X), int(s.At.Y)
		if g.Level != int(s.At.Z) || s.At.X < 0 || s.At.Y < 0 || y >= len(g.Rows) || x >= len(g.Rows[y].Symbols) {
			continue
		}
		for _, t := range c.m.Legend {
			if t.Solid && t.Symbol == g.Rows[y].Symbols[x] {
				c.add(finding.SpawnBlocked.At(s.Place, "spawn %s is in a solid cell %q at %d,%d of grid %q", s.Name, fmt.Sprintf("%c", t.Symbol), x, y, g.Name))
			}
		}
	}
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
		if v.Effect == "remove" && v.Box.Max.Z <= all.Min.Z && v.Box.Min.X <= all.Min.X && v.Box.Min.Y <= all.Min.Y && v.Box.Max.X >= all.Max.X && v.Box.Max.Y >= all.Max.Y {
			return
		}
	}
	c.add(finding.VolumeBelow.At(c.m.Place, "no volume with effect=remove lies below the whole map (from %g,%g to %g,%g, below %g)", all.Min.X, all.Min.Y, all.Max.X, all.Max.Y, all.Min.Z))
}

func (c *mapChecker) items() {
	count := map[string]int{}
	for _, it := range c.m.Items {
		count[it.Kind]++
		if limit, ok := c.profile.Map.Limits[it.Kind]; ok && count[it.Kind] == limit+1 {
			c.add(finding.ItemLimit.At(it.Place, "this %s is one more than the %d that %s takes", it.Kind, limit, c.profile.Game.Title))
		}
	}
	for _, kind := range slices.Sorted(slices.Values(c.profile.Map.Required)) {
		if count[kind] == 0 {
			f := finding.ItemRequired.At(c.m.Place, "the map has no %s", kind)
			if near := nearest.Word(kind, slices.Collect(maps.Keys(count))); near != "" {
				f = f.Doing("Did you mean it by %q?", near)
			}
			c.add(f)
		}
	}
}
