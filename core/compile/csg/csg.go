// Package csg is the compile stage that turns a map's solids into the faces that can be seen.
//
//   - carve.go takes from each face what lies inside another solid or against one (constructive
//     solid geometry on convex bodies, after Thibault and Naylor, "Set operations on polyhedra
//     using binary space partitioning trees", 1987, without the tree: solids are found through
//     their boxes).
//   - mend.go makes points one that are nearer than Tolerance, drops what has no width then, joins
//     the pieces into few convex faces, and gives every edge the corners that its neighbours have
//     on it, so that no T-junction is left.
//   - texture.go lays textures on faces; triangles.go cuts faces into triangles.
//
// Where faces of two solids lie in one plane and look the same way, the solid that stands later in the source shows.
package csg

import (
	"context"

	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/source/scene"
)

// Tolerance is the distance in metres below which corners are made one.
const Tolerance = 1.0 / 1024

// Options for Compile.
type Options struct {
	// Size gives the metres that one repeat of a material covers, Fit the metres across and down
	// that one should cover where a face is fitted.
	Size func(material string) float64
	Fit  func(material string) [2]float64
	// SeeThrough says whether what lies behind a material shows; nil: none is.
	SeeThrough func(material string) bool
}

// Face is a flat convex piece of the surface of the map.
type Face struct {
	geom.Polygon              // corners of neighbours on its edges included
	Of           *scene.Face  // what it looks like
	Solid        int          // of the scene; the first, where faces of several were joined
	UV           [][2]float64 // by corner, in repeats
}

// Result is the surface of a map.
type Result struct {
	Faces []Face
	// Hidden are solids of which nothing can be seen.
	Hidden []int
}

// Build finds the surface. It works on all processors and gives the same result on any number of them.
func Build(ctx context.Context, m *scene.Map, o Options) (*Result, error) {
	pieces, err := carveAll(ctx, m, o)
	if err != nil {
		return nil, err
	}
	r := &Result{}
	for i, list := range pieces {
		if len(list) == 0 {
			r.Hidden = append(r.Hidden, i)
		}
	}
	r.Faces = mend(ctx, m, pieces)
	inBatches(len(r.Faces), 256, func(i int) { r.Faces[i].UV = lay(&r.Faces[i], o) })
	return r, ctx.Err()
}

// Write adds the faces to a compiled map.
func (r *Result) Write(out *mapfile.Map) {
	for _, f := range r.Faces {
		first, firstIndex := uint32(len(out.Vertices)), uint32(len(out.Indices))
		normal := floats(f.Of.Plane.N)
		for i, p := range f.Polygon {
			out.Vertices = append(out.Vertices,
				mapfile.Vertex{Position: floats(p), Normal: normal,
					UV: [2]float32{float32(f.UV[i][0]), float32(f.UV[i][1])}})
		}
		for _, i := range Triangles(f.Polygon) {
			out.Indices = append(out.Indices, first+uint32(i))
		}
		out.Faces = append(out.Faces,
			mapfile.Face{Material: f.Of.Material.Name, FirstVertex: first, Vertices: uint32(len(f.Polygon)),
				FirstIndex:  firstIndex,
				IndexNumber: uint32(len(out.Indices)) - firstIndex, Solid: uint32(f.Solid),
				Luxels: float32(f.Of.Luxels)})
	}
}

func floats(v geom.Vec) [3]float32 { return [3]float32{float32(v.X), float32(v.Y), float32(v.Z)} }
