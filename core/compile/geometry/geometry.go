// Package geometry is the compile stage that turns a map's solids into faces with texture coordinates.
//
// Texture coordinates are planar: the two world axes along the face, so that textures meet across neighbouring solids,
// turned and shifted by the face's override, divided by the metres that one repeat of the material covers. A face that is
// fitted has a whole number of repeats from edge to edge instead.
package geometry

import (
	"math"

	"vornix/core/geom"
	"vornix/core/mapfile"
	"vornix/core/material"
	"vornix/core/scene"
)

// sidePlane says, for a side of a box, its outward normal, the axes of u (to the right) and v (down) as seen from
// outside, and its corners counter-clockwise as seen from outside, as bits: 1 max X, 2 max Y, 4 max Z.
type sidePlane struct {
	normal, u, v geom.Vec
	corners      [4]int
}

var planes = [scene.SideCount]sidePlane{
	scene.Top:    {geom.Vec{Z: 1}, geom.Vec{X: 1}, geom.Vec{Y: -1}, [4]int{4, 5, 7, 6}},
	scene.Bottom: {geom.Vec{Z: -1}, geom.Vec{X: 1}, geom.Vec{Y: 1}, [4]int{2, 3, 1, 0}},
	scene.North:  {geom.Vec{Y: 1}, geom.Vec{X: -1}, geom.Vec{Z: -1}, [4]int{3, 2, 6, 7}},
	scene.South:  {geom.Vec{Y: -1}, geom.Vec{X: 1}, geom.Vec{Z: -1}, [4]int{0, 1, 5, 4}},
	scene.East:   {geom.Vec{X: 1}, geom.Vec{Y: 1}, geom.Vec{Z: -1}, [4]int{1, 3, 7, 5}},
	scene.West:   {geom.Vec{X: -1}, geom.Vec{Y: -1}, geom.Vec{Z: -1}, [4]int{2, 0, 4, 6}},
}

// Compile adds the solids' faces to out. size gives the metres that one repeat of a material covers, fit the metres across
// and down that one should cover where a face is fitted.
func Compile(m *scene.Map, size func(material string) float64, fit func(material string) [2]float64, out *mapfile.Map) {
	for i, s := range m.Solids {
		for side := range scene.SideCount {
			face, overridden := s.Faces[side]
			if !overridden {
				face = scene.Face{Scale: 1}
			}
			name := face.Material.Name
			if name == "" {
				name = s.Material.Name
			}
			places := uvByMetres(face, size(name))
			if face.Fit {
				places = uvFitted(s.Box, planes[side], face, fit(name))
			}
			addFace(out, s.Box, planes[side], places, name, uint32(i))
		}
	}
}

// uvByMetres gives texture coordinates, in repeats, of a place on the face by its metres along the face's axes.
func uvByMetres(face scene.Face, size float64) func(u, v float64) [2]float64 {
	sin, cos := geom.Turn(face.Turn)
	repeat := float64(size * face.Scale)
	return func(u, v float64) [2]float64 {
		tu := float64(u*cos) - float64(v*sin) + face.ShiftU
		tv := float64(u*sin) + float64(v*cos) + face.ShiftV
		return [2]float64{tu / repeat, tv / repeat}
	}
}

// uvFitted lays a whole number of repeats on the face, at least one each way: as many as come nearest to the wanted size.
// The texture turns by the quarter nearest to the face's turn, about the face's middle, and shifts by metres.
func uvFitted(box geom.Box, plane sidePlane, face scene.Face, want [2]float64) func(u, v float64) [2]float64 {
	var low, high [2]float64
	for i, c := range plane.corners {
		p := corner(box, c)
		for k, at := range [2]float64{p.Dot(plane.u), p.Dot(plane.v)} {
			if i == 0 {
				low[k], high[k] = at, at
			}
			low[k], high[k] = min(low[k], at), max(high[k], at)
		}
	}
	quarter := int(math.Round(face.Turn/90))%4 + 4
	if quarter%2 == 1 {
		want[0], want[1] = want[1], want[0]
	}
	var repeats [2]float64
	for k := range 2 {
		repeats[k] = material.Repeats(high[k]-low[k], float64(want[k]*face.Scale))
	}
	shift := [2]float64{face.ShiftU, face.ShiftV}
	return func(u, v float64) [2]float64 {
		var t [2]float64
		for k, at := range [2]float64{u, v} {
			t[k] = float64((at-low[k]+shift[k])/(high[k]-low[k])) * repeats[k]
		}
		switch quarter % 4 {
		case 1:
			return [2]float64{repeats[1] - t[1], t[0]}
		case 2:
			return [2]float64{repeats[0] - t[0], repeats[1] - t[1]}
		case 3:
			return [2]float64{t[1], repeats[0] - t[0]}
		}
		return t
	}
}

func addFace(out *mapfile.Map, box geom.Box, plane sidePlane, uv func(u, v float64) [2]float64, material string, solid uint32) {
	first := uint32(len(out.Vertices))
	firstIndex := uint32(len(out.Indices))
	for _, c := range plane.corners {
		p := corner(box, c)
		t := uv(p.Dot(plane.u), p.Dot(plane.v))
		out.Vertices = append(out.Vertices, mapfile.Vertex{
			Position: floats(p), Normal: floats(plane.normal),
			UV: [2]float32{float32(t[0]), float32(t[1])},
		})
	}
	out.Indices = append(out.Indices, first, first+1, first+2, first, first+2, first+3)
	out.Faces = append(out.Faces, mapfile.Face{Material: material, FirstVertex: first, Vertices: 4, FirstIndex: firstIndex, IndexNumber: 6, Solid: solid})
}

func corner(box geom.Box, bits int) geom.Vec {
	p := box.Min
	if bits&1 != 0 {
		p.X = box.Max.X
	}
	if bits&2 != 0 {
		p.Y = box.Max.Y
	}
	if bits&4 != 0 {
		p.Z = box.Max.Z
	}
	return p
}

func floats(v geom.Vec) [3]float32 { return [3]float32{float32(v.X), float32(v.Y), float32(v.Z)} }
