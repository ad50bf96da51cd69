package csg

import (
	"cmp"
	"context"
	"runtime"
	"slices"

	"vornix/core/base/group"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// piece is what is left of a face.
type piece struct {
	polygon geom.Polygon
	face    *scene.Face
	solid   int
}

// manyCutters is the number of solids against a face from which on the face is first cut in two, so
// that the work grows with their number and not with its square.
const manyCutters = 12

// carver holds what all faces share.
type carver struct {
	solids []scene.Solid
	planes [][]geom.Plane
	opaque []bool
	tree   *geom.Tree
}

func carveAll(ctx context.Context, m *scene.Map, o Options) ([][]piece, error) {
	c := &carver{solids: m.Solids, planes: make([][]geom.Plane, len(m.Solids)), opaque: make([]bool, len(m.Solids))}
	boxes := make([]geom.Box, len(m.Solids))
	for i := range m.Solids {
		s := &m.Solids[i]
		c.planes[i], boxes[i] = s.Planes(), s.Box.Grow(geom.Near)
		c.opaque[i] = o.SeeThrough == nil ||
			!slices.ContainsFunc(s.Faces, func(f scene.Face) bool { return o.SeeThrough(f.Material.Name) })
	}
	c.tree = geom.NewTree(boxes)
	pieces := make([][]piece, len(m.Solids))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	const batch = 64
	for from := 0; from < len(m.Solids); from += batch {
		g.Go(func() error {
			for i := from; i < min(from+batch, len(m.Solids)); i++ {
				if err := ctx.Err(); err != nil {
					return err
				}
				for k := range m.Solids[i].Faces {
					f := &m.Solids[i].Faces[k]
					for _, p := range c.carve(f.Polygon, f, i, c.cutters(f, i)) {
						pieces[i] = append(pieces[i], piece{p, f, i})
					}
				}
			}
			return nil
		})
	}
	return pieces, g.Wait()
}

// cutters are the solids that may hide parts of a face, in source order. What is seen through hides only its like.
func (c *carver) cutters(f *scene.Face, of int) []int {
	var list []int
	c.tree.Touching(f.Polygon.Box(), func(j int) {
		if j == of || !c.opaque[j] && (c.opaque[of] || c.solids[j].Faces[0].Material.Name != f.Material.Name) {
			return
		}
		for _, p := range c.planes[j] {
			if f.Polygon.SideOf(p) == geom.Front {
				return
			}
		}
		list = append(list, j)
	})
	slices.Sort(list)
	return list
}

// carve is what the cutters leave of a polygon.
func (c *carver) carve(p geom.Polygon, f *scene.Face, of int, cutters []int) []geom.Polygon {
	if len(cutters) > manyCutters {
		if a, b := c.halves(p, cutters); a != nil && b != nil {
			left, right := c.near(a, cutters), c.near(b, cutters)
			if len(left) < len(cutters) && len(right) < len(cutters) {
				return append(c.carve(a, f, of, left), c.carve(b, f, of, right)...)
			}
		}
	}
	rest := []geom.Polygon{p}
	for _, j := range cutters {
		var next []geom.Polygon
		for _, q := range rest {
			next = append(next, outside(q, f.Plane.N, c.planes[j], j > of)...)
		}
		if rest = next; len(rest) == 0 {
			return nil
		}
	}
	return rest
}

// halves cuts a polygon at the middle one of its cutters, across its longest side.
func (c *carver) halves(p geom.Polygon, cutters []int) (a, b geom.Polygon) {
	box := p.Box()
	size, axis := box.Max.Sub(box.Min), 0
	for k := 1; k < 3; k++ {
		if size.At(k) > size.At(axis) {
			axis = k
		}
	}
	var edges []float64
	for _, j := range cutters {
		edges = append(edges, c.solids[j].Box.Min.At(axis))
	}
	geom.Halve(edges, len(edges)/2, cmp.Compare[float64])
	at := edges[len(edges)/2]
	if at <= box.Min.At(axis)+Tolerance || at >= box.Max.At(axis)-Tolerance {
		at = box.Middle().At(axis)
	}
	return p.Split(geom.Plane{N: geom.Vec{}.With(axis, 1), D: at})
}

func (c *carver) near(p geom.Polygon, cutters []int) []int {
	box := p.Box().Grow(geom.Near)
	var list []int
	for _, j := range cutters {
		if c.solids[j].Box.Touches(box) {
			list = append(list, j)
		}
	}
	return list
}

// outside is what of a polygon lies outside a convex solid. A part on the solid's surface counts as
// inside where the two look at one another, and where they look the same way and the solid is the
// later one.
func outside(p geom.Polygon, normal geom.Vec, solid []geom.Plane, later bool) []geom.Polygon {
	on := -1
	inside := p
	for i, plane := range solid {
		if inside.SideOf(plane) == geom.On {
			if plane.N.Dot(normal) > 0 && !later {
				return []geom.Polygon{p}
			}
			on = i
			continue
		}
		if inside = inside.Clip(plane); inside == nil {
			return []geom.Polygon{p}
		}
	}
	if inside.Area() < Tolerance*Tolerance {
		return []geom.Polygon{p}
	}
	var out []geom.Polygon
	rest := p
	for i, plane := range solid {
		if i == on {
			continue
		}
		front, back := rest.Split(plane)
		if front != nil {
			out = append(out, front)
		}
		if rest = back; rest == nil {
			break
		}
	}
	return out
}
