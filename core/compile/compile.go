// Package compile turns a scene.Map into a mapfile.Map by running the compile stages, each of which is a package below
// this one.
package compile

import (
	"cmp"
	"slices"

	"vornix/core/compile/geometry"
	"vornix/core/compile/tiles"
	"vornix/core/geom"
	"vornix/core/mapfile"
	"vornix/core/scene"
)

// Version is raised whenever the same scene would compile to other bytes, so that kept results are not used again.
const Version = 2

// Options for Compile.
type Options struct {
	// MaterialSize gives the metres that one repeat of a material covers.
	MaterialSize func(material string) float64
	// FitSize gives the metres, across and down, that one repeat should cover where a face asks to be fitted; nil is
	// MaterialSize both ways.
	FitSize func(material string) [2]float64
}

// Compile runs all stages.
func Compile(m *scene.Map, o Options) *mapfile.Map {
	out := &mapfile.Map{Meta: mapfile.Meta{Name: m.Name, Title: cmp.Or(m.Title, m.Name), Players: m.Players, Modes: slices.Clone(m.Modes)}}
	if out.Meta.Modes == nil {
		out.Meta.Modes = []string{}
	}
	if s := m.Sky; s != nil {
		out.Meta.Sky = &mapfile.Sky{Name: s.Name, Azimuth: s.Azimuth, Elevation: s.Elevation, Colour: packed(s.Colour)}
	}
	fit := o.FitSize
	if fit == nil {
		fit = func(name string) [2]float64 { size := o.MaterialSize(name); return [2]float64{size, size} }
	}
	geometry.Compile(m, o.MaterialSize, fit, out)
	tiles.Compile(m, out)
	objects(m, out)
	return out
}

// objects copies what is placed in the map, kind by kind in source order.
func objects(m *scene.Map, out *mapfile.Map) {
	add := func(o mapfile.Object) { out.Objects = append(out.Objects, o) }
	for _, l := range m.Lights {
		add(mapfile.Object{Kind: "light", Name: l.Name, Detail: l.Kind, A: floats(l.At), Colour: packed(l.Colour), Value: float32(l.Power)})
	}
	for _, s := range m.Spawns {
		add(mapfile.Object{Kind: "spawn", Name: s.Name, Detail: s.Team, A: floats(s.At), Angle: float32(s.Facing)})
	}
	for _, v := range m.Volumes {
		add(mapfile.Object{Kind: "volume", Name: v.Name, Detail: v.Effect, A: floats(v.Box.Min), B: floats(v.Box.Max)})
	}
	for _, c := range m.Cameras {
		add(mapfile.Object{Kind: "camera", Name: c.Name, A: floats(c.At), B: floats(c.Look), Angle: float32(c.FOV)})
	}
	for _, s := range m.Sounds {
		o := mapfile.Object{Kind: "sound", Name: s.Name, Detail: s.File.Name, A: floats(s.At), Value: float32(s.Volume)}
		if s.Loop {
			o.Flags = 1
		}
		add(o)
	}
	for _, it := range m.Items {
		o := mapfile.Object{Kind: "item:" + it.Kind, A: floats(it.At)}
		for _, p := range []struct {
			key string
			ref scene.Ref
		}{{mapfile.SpriteKey, it.Sprite}, {"state", it.State}, {"direction", it.Direction}} {
			if p.ref.Name != "" {
				o.Pairs = append(o.Pairs, [2]string{p.key, p.ref.Name})
			}
		}
		for _, p := range it.Pairs {
			o.Pairs = append(o.Pairs, [2]string{p.Key, p.Value})
		}
		add(o)
	}
}

func packed(c scene.Colour) uint32 { return uint32(c.R)<<16 | uint32(c.G)<<8 | uint32(c.B) }

func floats(v geom.Vec) [3]float32 { return [3]float32{float32(v.X), float32(v.Y), float32(v.Z)} }
