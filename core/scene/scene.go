// Package scene is a map in memory, whatever source it came from: what the compiler compiles and the checks check.
// Metres and degrees, Z up, right-handed.
package scene

import (
	"vornix/core/fault"
	"vornix/core/geom"
)

// Map is one map.
type Map struct {
	Name    string
	Title   string
	Players [2]int // least and most; 0,0 when not given
	Modes   []string
	Sky     *Sky
	Solids  []Solid
	Lights  []Light
	Spawns  []Spawn
	Volumes []Volume
	Cameras []Camera
	Items   []Item
	Sounds  []Sound
	Grids   []Grid
	Legend  []Tile
	Place   fault.Place // of the map line
	Keys    map[string]fault.Place
}

// Sky is the light from far away.
type Sky struct {
	Name      string
	Azimuth   float64 // of the sun, degrees from north (Y), clockwise
	Elevation float64 // of the sun, degrees above the horizon
	Colour    Colour
	Place     fault.Place
}

// Colour is 8-bit sRGB.
type Colour struct{ R, G, B uint8 }

// Solid is a convex body; in this version a box.
type Solid struct {
	Name     string
	Box      geom.Box
	Material Ref
	Faces    map[Side]Face
	Place    fault.Place
}

// Side names a face of a box.
type Side uint8

// The sides, in the order in which they are compiled.
const (
	Top Side = iota
	Bottom
	North // +Y
	South // -Y
	East  // +X
	West  // -X
	SideCount
)

// SideNames are the sides' names in the map language, by Side.
var SideNames = [SideCount]string{"top", "bottom", "north", "south", "east", "west"}

// Face overrides how one side of a solid looks.
type Face struct {
	Material Ref     // empty name: as the solid
	Scale    float64 // factor on the material's size; 1 is as the material says
	ShiftU   float64 // metres
	ShiftV   float64
	Turn     float64 // degrees, counter-clockwise as seen from outside
	Fit      bool    // a whole number of repeats, from edge to edge
}

// Ref is an asset's name as written, and where.
type Ref struct {
	Name  string
	Place fault.Place
}

// Light is a light source.
type Light struct {
	Name, Kind string
	At         geom.Vec
	Colour     Colour
	Power      float64 // watts of a lamp of that colour, radiated over the sphere
	Place      fault.Place
}

// Spawn is a place where players enter.
type Spawn struct {
	Name   string
	At     geom.Vec
	Facing float64 // degrees from north, clockwise
	Team   string  // empty: any
	Place  fault.Place
}

// Volume is a box with an effect on whoever is in it.
type Volume struct {
	Name, Effect string
	Box          geom.Box
	Place        fault.Place
}

// Camera is a place to take pictures from.
type Camera struct {
	Name     string
	At, Look geom.Vec
	FOV      float64 // horizontal, degrees
	Place    fault.Place
}

// Item is an object of the game's own.
type Item struct {
	Kind  string
	At    geom.Vec
	Pairs []Pair
	Place fault.Place
	// Sprite is drawn at the place, in a state and a direction; empty names: none, the first, the only one.
	Sprite, State, Direction Ref
}

// Pair is a free property of an item.
type Pair struct{ Key, Value string }

// Sound is a sound that plays at a place.
type Sound struct {
	Name   string
	At     geom.Vec
	File   Ref
	Volume float64 // 0 to 1
	Loop   bool
	Place  fault.Place
}

// Grid is a level of tiles.
type Grid struct {
	Name          string
	Level         int
	Width, Height int
	Rows          []Row
	Place         fault.Place
}

// Row is one row of symbols, from the west.
type Row struct {
	Symbols []rune
	Place   fault.Place
}

// Tile says what a symbol in a grid is.
type Tile struct {
	Symbol   rune
	Material Ref // empty name: nothing is drawn
	Solid    bool
	Place    fault.Place
}

// Materials lists every material that the map names, with the first place of each, in source order.
func (m *Map) Materials() []Ref {
	var list []Ref
	seen := map[string]bool{}
	add := func(r Ref) {
		if r.Name != "" && !seen[r.Name] {
			seen[r.Name] = true
			list = append(list, r)
		}
	}
	for _, s := range m.Solids {
		add(s.Material)
		for side := range SideCount {
			add(s.Faces[side].Material)
		}
	}
	for _, t := range m.Legend {
		add(t.Material)
	}
	return list
}

// Sprites lists every sprite that the map names, with the first place of each, in source order.
func (m *Map) Sprites() []Ref {
	var list []Ref
	seen := map[string]bool{}
	for _, it := range m.Items {
		if it.Sprite.Name != "" && !seen[it.Sprite.Name] {
			seen[it.Sprite.Name] = true
			list = append(list, it.Sprite)
		}
	}
	return list
}

// Fits says whether a face asks to be fitted.
func (m *Map) Fits() bool {
	for _, s := range m.Solids {
		for _, f := range s.Faces {
			if f.Fit {
				return true
			}
		}
	}
	return false
}

// Bounds is the box around all solids; ok is false when there are none.
func (m *Map) Bounds() (box geom.Box, ok bool) {
	for i, s := range m.Solids {
		if i == 0 {
			box = s.Box
		} else {
			box = box.Union(s.Box)
		}
	}
	return box, len(m.Solids) > 0
}
