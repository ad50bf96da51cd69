// Package scene is a map in memory, whatever source it came from: what the compiler compiles and the checks check.
// Metres and degrees, Z up, right-handed. Everything is placed: groups, prefabs and repeats are resolved.
package scene

import (
	"vornix/core/base/fault"
	"vornix/core/format/geom"
	"vornix/core/format/model"
)

// Map is one map.
type Map struct {
	Name     string
	Title    string
	Players  [2]int // least and most; 0,0 when not given
	Modes    []string
	Menu     bool    // a background for the game's menu: nobody plays in it
	Sealed   bool    // closed to the outside: a gap is a mistake
	Luxels   float64 // of the lightmap, a metre, where a face and its material say nothing; 0: as many as is usual
	Sky      *Sky
	Fog      *Fog
	Solids   []Solid
	Terrains []Terrain
	Props    []Prop
	Lights   []Light
	Spawns   []Spawn
	Volumes  []Volume
	Cuts     []Cut
	Cameras  []Camera
	Items    []Item
	Sounds   []Sound
	Probes   []Probe
	Grids    []Grid
	Areas    []Area
	Legend   []Tile
	Place    fault.Place // of the map line
	Keys     map[string]fault.Place
	// Files are the files beside the source that it is made of: included sources, prefabs, images. Sorted.
	Files  []string
	Layers []string // every layer there is
	// LeftOut is how many records stand on layers that are left out of a release.
	LeftOut int
}

// Sky is the light from far away.
type Sky struct {
	Name      string
	Azimuth   float64  // of the sun, degrees from north (Y), clockwise
	Elevation float64  // of the sun, degrees above the horizon
	Colour    Colour   // of the sun
	Power     float64  // of the sun: watts a square metre that faces it
	Disc      float64  // the sun's width, degrees
	Dome      Colour   // of the sky itself
	Horizon   Colour   // that it goes over into towards the horizon, and has below it
	Glow      float64  // how bright the sky is; 1 is as bright as white on a screen
	Image     *Picture // the sky itself all around, instead of Dome; nil: none
	Place     fault.Place
}

// Fog lies all over a map.
type Fog struct {
	Name   string
	Range  float64 // metres in which all but a twentieth of what lies behind is lost (the meteorological optical range)
	Colour Colour
	From   float64 // metres before which there is none
	Sky    float64 // how much of the sky it covers, 0 to 1
	Place  fault.Place
}

// Picture is an image of light, which is decoded when it is asked for.
type Picture struct {
	Name          string
	Width, Height int
	Sum           [32]byte // SHA-256 of its file
	// Pixels are linear, row by row.
	Pixels func() ([][3]float32, error) `json:"-"`
}

// Colour is 8-bit sRGB.
type Colour struct{ R, G, B uint8 }

// Solid is a convex body.
type Solid struct {
	Name   string
	Faces  []Face
	Detail bool // neither parts the map into cells nor closes it
	Box    geom.Box
	Place  fault.Place
}

// Polygons are the outlines of the solid's faces.
func (s *Solid) Polygons() []geom.Polygon {
	list := make([]geom.Polygon, len(s.Faces))
	for i, f := range s.Faces {
		list[i] = f.Polygon
	}
	return list
}

// Planes are the planes of the solid's faces.
func (s *Solid) Planes() []geom.Plane {
	list := make([]geom.Plane, len(s.Faces))
	for i, f := range s.Faces {
		list[i] = f.Plane
	}
	return list
}

// Face is one side of a solid.
type Face struct {
	Polygon geom.Polygon // from outside, counter-clockwise
	Plane   geom.Plane
	// U and V give the metres to the right and down, as seen from outside, at which a point lies on the face.
	U, V Axis
	TextureMapping
}

// Axis measures: a point p lies at Dir·p + At.
type Axis struct {
	Dir geom.Vec
	At  float64
}

// Of is where a point lies along the axis.
func (a Axis) Of(p geom.Vec) float64 { return a.Dir.Dot(p) + a.At }

// TextureMapping is how a face looks.
type TextureMapping struct {
	Material Ref
	Scale    float64 // factor on the material's size; 1 is as the material says
	ShiftU   float64 // metres
	ShiftV   float64
	Turn     float64 // degrees, counter-clockwise as seen from outside
	Fit      bool    // a whole number of repeats, from edge to edge
	Luxels   float64 // of the lightmap, a metre; 0: as the map
}

// Ref is an asset's name as written, and where.
type Ref struct {
	Name  string
	Place fault.Place
}

// Terrain is ground from a grey image: Columns x Rows heights over a rectangle, from the north-west, row by row.
type Terrain struct {
	Name          string
	Box           geom.Box // its corners; heights run from Min.Z to Max.Z
	Columns, Rows int
	Heights       []uint16
	Material      Ref
	Layers        []Paint
	Place         fault.Place
}

// Paint lays a material over a terrain, as strongly as its weights say, one for each height.
type Paint struct {
	Material Ref
	Weights  []uint8
}

// Height is where a terrain's vertex lies.
func (t *Terrain) Height(column, row int) geom.Vec {
	size := t.Box.Max.Sub(t.Box.Min)
	return geom.Vec{
		X: t.Box.Min.X + float64(size.X*float64(column))/float64(t.Columns-1),
		Y: t.Box.Max.Y - float64(size.Y*float64(row))/float64(t.Rows-1),
		Z: t.Box.Min.Z + float64(size.Z*float64(t.Heights[row*t.Columns+column]))/65535,
	}
}

// Prop is a model that stands still.
type Prop struct {
	Name  string
	Model Ref
	Shape *model.Model // one that came with the map, and has no name; else nil
	At    geom.Transform
	Solid bool // stops players
	Place fault.Place
}

// Light is a light source.
type Light struct {
	Name, Kind string
	At         geom.Vec
	Look       geom.Vec // what a spot points at
	Aimed      bool
	Cone       float64 // width of a spot's cone, degrees
	Radius     float64 // of the lamp, metres; soft shadows come from it
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

// Volume is a box with an effect on whoever is in it, and what happens when somebody comes in or goes out.
type Volume struct {
	Name, Effect, Enter, Leave string
	Box                        geom.Box
	Place                      fault.Place
}

// Cut is a box whose sides part the map into cells: a doorway, or wherever sight is known to end.
type Cut struct {
	Name  string
	Box   geom.Box
	Place fault.Place
}

// Probe is a place whose surroundings are mirrored in surfaces near by.
type Probe struct {
	Name  string
	At    geom.Vec
	Reach float64 // metres
	Place fault.Place
}

// Camera is a place to take pictures from.
type Camera struct {
	Name     string
	At, Look geom.Vec
	FOV      float64 // horizontal, degrees
	Exposure float64 // stops: each doubles the light
	Lens     float64 // width of its opening, metres: 0 is sharp everywhere
	Focus    float64 // metres before it at which it is sharp
	Place    fault.Place
}

// Item is an object of the game's own.
type Item struct {
	Kind   string
	At     geom.Vec
	Facing float64 // degrees from north, clockwise
	Pairs  []Pair
	Place  fault.Place
	// Model stands at the place; Sprite is drawn there, in a state and a direction. Empty names:
	// none, the first, the only.
	Model                    Ref
	Sprite, State, Direction Ref
}

// Pair is a free property of an item.
type Pair struct {
	Key, Value string
	Place      fault.Place // of the value
}

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

// Area is a rectangle of cells that reacts when somebody enters or leaves it.
type Area struct {
	Name, Enter, Leave string
	Level              int
	From, To           [2]int // first and last cell, both within
	Pairs              []Pair
	Place              fault.Place
}

// Tile says what a symbol in a grid is.
type Tile struct {
	Symbol   rune
	Material Ref // empty name: nothing is drawn
	Solid    bool
	Cost     float64 // of a step onto it; 0: as usual
	Place    fault.Place
}

// first lists references that have a name, each name once.
func first(each func(add func(Ref))) []Ref {
	var list []Ref
	seen := map[string]bool{}
	each(func(r Ref) {
		if r.Name != "" && !seen[r.Name] {
			seen[r.Name] = true
			list = append(list, r)
		}
	})
	return list
}

// Materials lists every material that the map names, with the first place of each, in source order.
func (m *Map) Materials() []Ref {
	return first(func(add func(Ref)) {
		for _, s := range m.Solids {
			for i := range s.Faces {
				add(s.Faces[i].Material)
			}
		}
		for _, t := range m.Terrains {
			add(t.Material)
			for _, l := range t.Layers {
				add(l.Material)
			}
		}
		for _, p := range m.Props {
			if p.Shape != nil {
				for _, mesh := range p.Shape.Meshes {
					add(Ref{Name: mesh.Material, Place: p.Place})
				}
			}
		}
		for _, t := range m.Legend {
			add(t.Material)
		}
	})
}

// Sprites lists every sprite that the map names, with the first place of each, in source order.
func (m *Map) Sprites() []Ref {
	return first(func(add func(Ref)) {
		for _, it := range m.Items {
			add(it.Sprite)
		}
	})
}

// Models lists every model that the map names, with the first place of each, in source order.
func (m *Map) Models() []Ref {
	return first(func(add func(Ref)) {
		for _, p := range m.Props {
			add(p.Model)
		}
		for _, it := range m.Items {
			add(it.Model)
		}
	})
}

// Fits says whether a face asks to be fitted.
func (m *Map) Fits() bool {
	for _, s := range m.Solids {
		for i := range s.Faces {
			if s.Faces[i].Fit {
				return true
			}
		}
	}
	return false
}

// Bounds is the box around all solids and terrains; ok is false when there are none.
func (m *Map) Bounds() (box geom.Box, ok bool) {
	add := func(b geom.Box) {
		if ok {
			b = box.Union(b)
		}
		box, ok = b, true
	}
	for i := range m.Solids {
		add(m.Solids[i].Box)
	}
	for i := range m.Terrains {
		add(m.Terrains[i].Box)
	}
	return box, ok
}

// Each calls do with the kind and the place of everything in the map: solids, terrains, props,
// lights, spawns, volumes, probes, cameras, sounds and areas by these words, items by their own
// kind.
func (m *Map) Each(do func(kind string, place fault.Place)) {
	for i := range m.Solids {
		do("solid", m.Solids[i].Place)
	}
	for i := range m.Terrains {
		do("terrain", m.Terrains[i].Place)
	}
	for _, x := range m.Props {
		do("prop", x.Place)
	}
	for _, x := range m.Lights {
		do("light", x.Place)
	}
	for _, x := range m.Spawns {
		do("spawn", x.Place)
	}
	for _, x := range m.Volumes {
		do("volume", x.Place)
	}
	for _, x := range m.Probes {
		do("probe", x.Place)
	}
	for _, x := range m.Cameras {
		do("camera", x.Place)
	}
	for _, x := range m.Sounds {
		do("sound", x.Place)
	}
	for _, x := range m.Areas {
		do("area", x.Place)
	}
	for _, x := range m.Items {
		do(x.Kind, x.Place)
	}
}
