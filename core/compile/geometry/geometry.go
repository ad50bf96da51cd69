// Package geometry is the compile stage that turns a map's solids into faces with texture coordinates.
//
// Texture coordinates are planar: the two world axes along the face, so that textures meet across neighbouring solids,
// turned and shifted by the face's override, divided by the metres that one repeat of the material covers.
package geometry

import (
	"vornix/core/geom"
	"vornix/core/mapfile"
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

// Compile adds the solids' faces to out. size gives the metres that one repeat of a material covers.
func Compile(m *scene.Map, size func(material string) float64, out *mapfile.Map) {
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
			addFace(out, s.Box, planes[side], face, name, size(name), uint32(i))
		}
	}
}

func addFace(out *mapfile.Map, box geom.Box, plane sidePlane, face scene.Face, material string, size float64, solid uint32) {
	first := uint32(len(out.Vertices))
	firstIndex := uint32(len(out.Indices))
	sin, cos := geom.Turn(face.Turn)
	repeat := float64(size * face.Scale)
	for _, c := range plane.corners {
		p := corner(box, c)
		u, v := p.Dot(plane.u), p.Dot(plane.v)
		tu := float64(u*cos) - float64(v*sin) + face.ShiftU
		tv := float64(u*sin) + float64(v*cos) + face.ShiftV
		out.Vertices = append(out.Vertices, mapfile.Vertex{
			Position: floats(p), Normal: floats(plane.normal),
			UV: [2]float32{float32(tu / repeat), float32(tv / repeat)},
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
