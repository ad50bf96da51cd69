// Package compile turns a scene.Map into a mapfile.Map by running the compile stages, each of which is a package below
// this one.
package compile

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"

	"vornix/core/base/finding"
	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/compile/lightmap"
	"vornix/core/compile/navmesh"
	"vornix/core/compile/reflections"
	"vornix/core/compile/tiles"
	"vornix/core/compile/visibility"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
	"vornix/core/source/scene"
)

// Version is raised whenever the same scene would compile to other bytes, so that kept results are not used again.
const Version = 4

// Versions are those of all stages: when one of them is raised, maps have to be made again.
var Versions = fmt.Sprint(Version, visibility.Version, lightmap.Version, reflections.Version, navmesh.Version)

// Options for Compile.
type Options struct {
	// MaterialSize gives the metres that one repeat of a material covers.
	MaterialSize func(material string) float64
	// FitSize gives the metres, across and down, that one repeat should cover where a face asks to be fitted; nil is
	// MaterialSize both ways.
	FitSize func(material string) [2]float64
	// SeeThrough says whether what lies behind a material shows; nil: none is.
	SeeThrough func(material string) bool
	// Texels gives how many texels across the colour texture of a material has, 0 where nobody knows; nil: nobody does.
	Texels func(material string) float64
	// DensityRatio is how many times sharper one of two neighbours may be; 0: no rule.
	DensityRatio float64
	// Models are the models that props show, by name.
	Models map[string]*model.Model
	// Long says how the long stages are run; nil: not at all.
	Long *Long
}

// Result is a compiled map with what its making has to say.
type Result struct {
	Map      *mapfile.Map
	Findings []finding.Finding
	// Leak is the way from an object to the outside, in a map that should be sealed and isn't.
	Leak []geom.Vec
	// Stats are what the long stages counted, by their names and what is counted.
	Stats map[string]int64
}

// perSolid is about what a solid takes of memory while its map is compiled, in bytes.
const perSolid = 32 << 10

// Compile runs all stages.
func Compile(ctx context.Context, m *scene.Map, o Options) (*Result, error) {
	out := &mapfile.Map{Meta: mapfile.Meta{Name: m.Name, Title: cmp.Or(m.Title, m.Name), Players: m.Players,
		Modes: slices.Clone(m.Modes), Menu: m.Menu, Sealed: m.Sealed, Luxels: m.Luxels}}
	if out.Meta.Modes == nil {
		out.Meta.Modes = []string{}
	}
	if s := m.Sky; s != nil {
		out.Meta.Sky = &mapfile.Sky{Name: s.Name, Azimuth: s.Azimuth, Elevation: s.Elevation, Colour: packed(s.Colour),
			Power: s.Power, Disc: s.Disc, Dome: packed(s.Dome), Horizon: packed(s.Horizon), Glow: s.Glow}
		if s.Image != nil {
			out.Meta.Sky.Image = s.Image.Name
		}
	}
	if f := m.Fog; f != nil {
		out.Meta.Fog = &mapfile.Fog{Name: f.Name, Range: f.Range, Colour: packed(f.Colour), From: f.From, Sky: f.Sky}
	}
	if o.FitSize == nil {
		o.FitSize = func(name string) [2]float64 { size := o.MaterialSize(name); return [2]float64{size, size} }
	}
	if o.Long != nil && o.Long.Grows != nil {
		o.Long.Grows(int64(len(m.Solids)) * perSolid)
	}
	surface, err := csg.Build(ctx, m, csg.Options{Size: o.MaterialSize, Fit: o.FitSize, SeeThrough: o.SeeThrough})
	if err != nil {
		return nil, err
	}
	surface.Write(out)
	tree, err := bsp.Build(ctx, m, surface.Faces, o.SeeThrough)
	if err != nil {
		return nil, err
	}
	tree.Write(out)
	solids(m, out)
	terrains(m, o, out)
	props(m, o.Models, out)
	tiles.Compile(m, out)
	objects(m, out)
	r := &Result{Map: out}
	if err := r.say(ctx, m, o, surface, tree); err != nil || o.Long == nil ||
		finding.Count(r.Findings, finding.Error) > 0 {
		return r, err
	}
	return r, r.long(ctx, m, o.Long, surface, tree)
}

// solids adds what players bump into.
func solids(m *scene.Map, out *mapfile.Map) {
	for i := range m.Solids {
		out.Bodies = append(out.Bodies, mapfile.Body{Planes: planes(m.Solids[i].Planes()), Owner: uint32(i)})
	}
}

func planes(list []geom.Plane) []mapfile.Plane {
	var out []mapfile.Plane
	for _, p := range list {
		out = append(out, mapfile.Plane{Normal: floats(p.N), Distance: float32(p.D)})
	}
	return out
}

func terrains(m *scene.Map, o Options, out *mapfile.Map) {
	for _, t := range m.Terrains {
		to := mapfile.Terrain{Name: t.Name, Material: t.Material.Name, Columns: uint32(t.Columns), Rows: uint32(t.Rows),
			Min: floats(t.Box.Min), Max: floats(t.Box.Max), Repeat: float32(o.MaterialSize(t.Material.Name)),
			Heights: t.Heights}
		for _, l := range t.Layers {
			to.Layers = append(to.Layers,
				mapfile.Layer{Material: l.Material.Name, Repeat: float32(o.MaterialSize(l.Material.Name)),
					Weights: l.Weights})
		}
		out.Terrains = append(out.Terrains, to)
	}
}

// props adds the models that stand still, each once, and where they stand.
func props(m *scene.Map, models map[string]*model.Model, out *mapfile.Map) {
	number := map[*model.Model]uint32{}
	for _, p := range m.Props {
		d := cmp.Or(p.Shape, models[p.Model.Name])
		if d == nil {
			continue // it is missing, and that was said
		}
		n, seen := number[d]
		if !seen {
			n = uint32(len(out.Models))
			number[d] = n
			to := mapfile.Model{Name: d.Name, Min: floats(d.Box.Min), Max: floats(d.Box.Max)}
			for _, mesh := range d.Meshes {
				part := mapfile.Mesh{Material: mesh.Material, FirstVertex: uint32(len(out.Vertices)),
					Vertices: uint32(len(mesh.Positions)), FirstIndex: uint32(len(out.Indices)),
					IndexNumber: uint32(len(mesh.Indices))}
				for i, at := range mesh.Positions {
					out.Vertices = append(out.Vertices,
						mapfile.Vertex{Position: floats(at), Normal: floats(mesh.Normals[i]), UV: mesh.UVs[i]})
				}
				for _, i := range mesh.Indices {
					out.Indices = append(out.Indices, part.FirstVertex+i)
				}
				to.Meshes = append(to.Meshes, part)
			}
			for _, body := range d.Collision {
				out.Bodies = append(out.Bodies, mapfile.Body{Planes: planes(geom.Planes(body)), Owner: n, Model: true})
			}
			out.Models = append(out.Models, to)
		}
		to := mapfile.Prop{Name: p.Name, Model: n, Solid: p.Solid}
		for i, row := range p.At.M {
			to.Rows[i] = [4]float32{float32(row.X), float32(row.Y), float32(row.Z), float32(p.At.Move.At(i))}
		}
		out.Props = append(out.Props, to)
	}
}

// objects copies what is placed in the map, kind by kind in source order.
func objects(m *scene.Map, out *mapfile.Map) {
	add := func(o mapfile.Object, list ...[2]string) {
		if len(list) > 0 {
			o.Pairs = list
		}
		out.Objects = append(out.Objects, o)
	}
	for _, l := range m.Lights {
		o := mapfile.Object{Kind: "light", Name: l.Name, Detail: l.Kind, A: floats(l.At), Colour: packed(l.Colour),
			Value: float32(l.Power), Radius: float32(l.Radius)}
		if l.Aimed {
			o.B, o.Angle, o.Flags = floats(l.Look), float32(l.Cone), 2
		}
		add(o)
	}
	for _, s := range m.Spawns {
		add(mapfile.Object{Kind: "spawn", Name: s.Name, Detail: s.Team, A: floats(s.At), Angle: float32(s.Facing)})
	}
	for _, v := range m.Volumes {
		add(mapfile.Object{Kind: "volume", Name: v.Name, Detail: v.Effect, A: floats(v.Box.Min), B: floats(v.Box.Max)},
			given([2]string{"enter", v.Enter}, [2]string{"leave", v.Leave})...)
	}
	for _, a := range m.Areas {
		o := mapfile.Object{Kind: "area", Name: a.Name,
			A: [3]float32{float32(a.From[0]), float32(a.From[1]), float32(a.Level)},
			B: [3]float32{float32(a.To[0]), float32(a.To[1]), float32(a.Level)}}
		add(o, append(given([2]string{"enter", a.Enter}, [2]string{"leave", a.Leave}), pairs(a.Pairs)...)...)
	}
	for _, p := range m.Probes {
		add(mapfile.Object{Kind: "probe", Name: p.Name, A: floats(p.At), Value: float32(p.Reach)})
	}
	for _, c := range m.Cameras {
		o := mapfile.Object{Kind: "camera", Name: c.Name, A: floats(c.At), B: floats(c.Look), Angle: float32(c.FOV),
			Value: float32(c.Exposure), Radius: float32(c.Lens / 2)}
		if c.Lens > 0 && c.Focus != c.Look.Sub(c.At).Length() {
			add(o, [2]string{mapfile.FocusKey, strconv.FormatFloat(c.Focus, 'g', -1, 64)})
			continue
		}
		add(o)
	}
	for _, s := range m.Sounds {
		o := mapfile.Object{Kind: "sound", Name: s.Name, Detail: s.File.Name, A: floats(s.At), Value: float32(s.Volume)}
		if s.Loop {
			o.Flags = 1
		}
		add(o)
	}
	for _, it := range m.Items {
		add(mapfile.Object{Kind: "item:" + it.Kind, A: floats(it.At), Angle: float32(it.Facing)},
			append(given([2]string{mapfile.ModelKey, it.Model.Name}, [2]string{mapfile.SpriteKey, it.Sprite.Name},
				[2]string{"state", it.State.Name}, [2]string{"direction", it.Direction.Name}), pairs(it.Pairs)...)...)
	}
}

// given are the pairs that have a value.
func given(list ...[2]string) [][2]string {
	return slices.DeleteFunc(list, func(p [2]string) bool { return p[1] == "" })
}

func pairs(list []scene.Pair) [][2]string {
	var out [][2]string
	for _, p := range list {
		out = append(out, [2]string{p.Key, p.Value})
	}
	return out
}

func packed(c scene.Colour) uint32 { return uint32(c.R)<<16 | uint32(c.G)<<8 | uint32(c.B) }

func floats(v geom.Vec) [3]float32 { return [3]float32{float32(v.X), float32(v.Y), float32(v.Z)} }
