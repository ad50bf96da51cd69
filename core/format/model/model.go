// Package model reads props: glTF scenes that are placed in maps as one thing.
//
// All nodes with meshes become one shape, cut by material. A node whose name begins with
// "collision" is not drawn: its mesh is what players bump into. Without one, the body around all
// points is (its exact convex hull where that has few corners, else one of at most 26 sides).
package model

import (
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/format/gltf"
	"vornix/core/format/material"
)

// Model is a shape in its own coordinates, metres.
type Model struct {
	Name      string // empty for one that came with a map
	Meshes    []Mesh
	Box       geom.Box
	Collision [][]geom.Polygon // convex bodies
	Named     bool             // the collision comes from a mesh of that name
	Images    []string         // that the file carries, and nobody uses
	Files     []string         // that it was read from beside the file itself
	Place     fault.Place
}

// Mesh is what of a model has one material.
type Mesh struct {
	Material  string
	Positions []geom.Vec
	Normals   []geom.Vec
	UVs       [][2]float32
	Indices   []uint32
}

// Triangles is how many the model has.
func (m *Model) Triangles() int {
	n := 0
	for _, mesh := range m.Meshes {
		n += len(mesh.Indices) / 3
	}
	return n
}

// Materials lists the materials that the model names, in order of first use.
func (m *Model) Materials() []string {
	var list []string
	for _, mesh := range m.Meshes {
		list = append(list, mesh.Material)
	}
	return list
}

// Read reads a model. source is the file's path; open reads files beside it. The model is nil when
// there are findings of severity error.
func Read(source, name string, data []byte, open func(string) ([]byte, error)) (*Model, []finding.Finding) {
	place := fault.Place{File: source}
	scene, err := gltf.Read(source, data, open)
	if err != nil {
		return nil, []finding.Finding{finding.ModelUnreadable.At(place, "the model can't be read: %v", err)}
	}
	m := &Model{Name: name, Images: scene.Images, Files: scene.Files, Place: place}
	var list []finding.Finding
	for _, n := range scene.Nodes {
		if len(n.Parts) == 0 {
			continue
		}
		if isCollision(n.Name) {
			m.Named = true
			var points []geom.Vec
			for _, p := range n.Parts {
				for _, v := range p.Positions {
					points = append(points, n.At.Point(v))
				}
			}
			if body := Hull(points); body != nil {
				m.Collision = append(m.Collision, body)
			} else {
				list = append(list,
					finding.ModelUnreadable.At(place, "the mesh %q encloses nothing",
						n.Name).Doing("Give it a volume, or remove it."))
			}
			continue
		}
		for _, p := range n.Parts {
			if k, why, meant := material.BadReference(p.Material); k != nil && p.Material != "" {
				list = append(list,
					k.At(place, "the material %q of node %q %s", p.Material, n.Name, why).Doing("Call it %s.", meant))
			}
			m.Add(p, n.At)
		}
	}
	if len(m.Meshes) == 0 {
		return nil, append(list, finding.ModelUnreadable.At(place, "the model has no triangles"))
	}
	if m.finish(); m.Far() {
		list = append(list,
			finding.MapHuge.At(place, "the model reaches beyond %.0f km",
				float64(Farthest/1000)).Doing("Export it in metres, near to 0,0,0."))
	}
	for _, mesh := range m.Meshes {
		if mesh.Material == "" {
			list = append(list,
				finding.ModelMaterial.At(place, "%d of its %d triangles have no material", len(mesh.Indices)/3,
					m.Triangles()))
		}
	}
	if finding.Count(list, finding.Error) > 0 {
		return nil, list
	}
	return m, list
}

// Farthest is how far from 0,0,0 anything may lie, in metres: beyond it 32-bit coordinates have no centimetres left.
const Farthest = 1e7

// Far says whether a part of the model lies beyond Farthest.
func (m *Model) Far() bool {
	far := m.Box.Max.Max(m.Box.Min.Scale(-1))
	return max(far.X, far.Y, far.Z) > Farthest
}

func isCollision(name string) bool {
	return strings.HasPrefix(strings.ToLower(name), "collision")
}

// Shape makes a model of parts that stand where the map puts them.
func Shape(parts []gltf.Part, at geom.Transform) *Model {
	m := &Model{}
	for _, p := range parts {
		m.Add(p, at)
	}
	m.finish()
	return m
}

// Add lays a part where at says. Parts of one material become one mesh; a mirrored part keeps its outside out.
func (m *Model) Add(p gltf.Part, at geom.Transform) {
	i := slices.IndexFunc(m.Meshes, func(mesh Mesh) bool { return mesh.Material == p.Material })
	if i < 0 {
		i = len(m.Meshes)
		m.Meshes = append(m.Meshes, Mesh{Material: p.Material})
	}
	mesh := &m.Meshes[i]
	first := uint32(len(mesh.Positions))
	back, _ := at.Inverse()
	for k, v := range p.Positions {
		mesh.Positions = append(mesh.Positions, at.Point(v))
		n := p.Normals[k] // normals turn with the inverse's transpose
		n = back.M[0].Scale(n.X).Add(back.M[1].Scale(n.Y)).Add(back.M[2].Scale(n.Z))
		unit, ok := n.Unit()
		if !ok {
			unit = geom.Vec{Z: 1}
		}
		mesh.Normals = append(mesh.Normals, unit)
	}
	mesh.UVs = append(mesh.UVs, p.UVs...)
	for k := 0; k+2 < len(p.Indices); k += 3 {
		a, b, c := first+p.Indices[k], first+p.Indices[k+1], first+p.Indices[k+2]
		if at.Volume() < 0 {
			b, c = c, b
		}
		mesh.Indices = append(mesh.Indices, a, b, c)
	}
}

// finish finds the box and, without a mesh for it, what players bump into.
func (m *Model) finish() {
	var points []geom.Vec
	for _, mesh := range m.Meshes {
		points = append(points, mesh.Positions...)
	}
	if len(points) == 0 {
		return
	}
	m.Box = geom.Polygon(points).Box()
	if !m.Named {
		if body := Hull(points); body != nil {
			m.Collision = [][]geom.Polygon{body}
		}
	}
}

// exactPoints is how many distinct points the exact hull is made of at most.
const exactPoints = 40

// Hull is a convex body around points; nil when they lie in a plane.
func Hull(points []geom.Vec) []geom.Polygon {
	seen := map[geom.Vec]bool{}
	var distinct []geom.Vec
	for _, p := range points {
		if !seen[p] {
			seen[p] = true
			distinct = append(distinct, p)
		}
	}
	if len(distinct) < 4 {
		return nil
	}
	if len(distinct) <= exactPoints {
		faces, err := geom.Hull(distinct)
		if err != nil {
			return nil
		}
		return faces
	}
	if faces, err := geom.Hull(outermost(distinct)); err == nil && holds(faces, distinct) {
		return faces
	}
	return geom.Around(distinct)
}

// outermost are the points that lie furthest in some of many directions: all corners of a body that has few.
func outermost(points []geom.Vec) []geom.Vec {
	const fine = 3
	var list []geom.Vec
	for x := -fine; x <= fine; x++ {
		for y := -fine; y <= fine; y++ {
			for z := -fine; z <= fine; z++ {
				if max(x, -x, y, -y, z, -z) < fine {
					continue
				}
				// Off the axes by a little, so that of a whole edge not any point is the furthest, but an end.
				way := geom.Vec{X: float64(x) + 0.013, Y: float64(y) + 0.017, Z: float64(z) + 0.019}
				best := points[0]
				for _, p := range points[1:] {
					if p.Dot(way) > best.Dot(way) {
						best = p
					}
				}
				if !slices.Contains(list, best) {
					list = append(list, best)
				}
			}
		}
	}
	return list
}

// holds says whether a body holds all points.
func holds(faces []geom.Polygon, points []geom.Vec) bool {
	for _, plane := range geom.Planes(faces) {
		for _, p := range points {
			if plane.Distance(p) > 10*geom.Near {
				return false
			}
		}
	}
	return true
}
