// Package bsp is the compile stage that cuts a map's space into convex parts: a tree of planes
// (binary space partitioning; Fuchs, Kedem and Naylor, "On visible surface generation by a priori
// tree structures", 1980) whose leaves are wholly inside or wholly outside of solids, the openings
// between its leaves, and the way from inside to outside where a map that should be sealed is not.
//
// Only solids that are not marked as detail take part.
package bsp

import (
	"cmp"
	"context"
	"math"
	"slices"

	"vornix/core/compile/csg"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/source/scene"
)

// Tree is the partition. Children from 0 up are nodes, below 0 leaves: -1 is leaf 0.
type Tree struct {
	Nodes  []Node
	Leaves []Leaf
	root   geom.Box
}

// Node cuts its region in two.
type Node struct {
	geom.Plane
	Front, Back int
	opening     geom.Polygon // the region's part of the plane
}

// Leaf is a convex part of space.
type Leaf struct {
	Solid bool
	// Clear says that it is solid, and that what lies behind it shows.
	Clear bool
	// Mark is the cut that it lies in, counted from 1; 0: none.
	Mark int
	Box  geom.Box
}

// margin is how far space goes on, in metres, beyond the outermost solids.
const margin = 1

// balanced is the number of faces above which a region is halved along an axis, because choosing
// among the faces' planes would cost too much.
const balanced = 150

// candidates is how many planes are compared where one is chosen.
const candidates = 12

// side is a piece of the surface with the plane of the face that it is of.
type side struct {
	geom.Polygon
	plane *geom.Plane
}

type builder struct {
	ctx    context.Context
	tree   *Tree
	solids *geom.Tree
	planes [][]geom.Plane
	clear  []bool // by solid
	cuts   []geom.Box
}

// Build makes the tree. faces is the surface of the map; seeThrough says whether what lies behind a
// material shows, nil: nowhere.
func Build(ctx context.Context, m *scene.Map, faces []csg.Face, seeThrough func(material string) bool) (*Tree, error) {
	b := &builder{ctx: ctx, tree: &Tree{}}
	for _, c := range m.Cuts {
		b.cuts = append(b.cuts, c.Box)
	}
	var boxes []geom.Box
	var sides []side
	for i := range m.Solids {
		if s := &m.Solids[i]; !s.Detail {
			boxes = append(boxes, s.Box)
			b.planes = append(b.planes, s.Planes())
			b.clear = append(b.clear, seeThrough != nil &&
				slices.ContainsFunc(s.Faces, func(f scene.Face) bool { return seeThrough(f.Material.Name) }))
		}
	}
	for _, f := range faces {
		if !m.Solids[f.Solid].Detail {
			sides = append(sides, side{f.Polygon, &f.Of.Plane})
		}
	}
	if len(sides) == 0 {
		return b.tree, nil
	}
	b.solids = geom.NewTree(boxes)
	b.tree.root = boxes[0]
	for _, box := range boxes {
		b.tree.root = b.tree.root.Union(box)
	}
	b.tree.root = b.tree.root.Grow(margin)
	b.build(sides, b.tree.root.Faces(), b.cuts)
	return b.tree, ctx.Err()
}

func bounds(region []geom.Polygon) geom.Box {
	box := region[0].Box()
	for _, p := range region[1:] {
		box = box.Union(p.Box())
	}
	return box
}

// marked is a side of one of the cuts that passes through a region; rest are the cuts that have any.
func marked(region []geom.Polygon, cuts []geom.Box) (plane geom.Plane, rest []geom.Box) {
	if len(cuts) == 0 {
		return plane, nil
	}
	box := bounds(region)
	for _, c := range cuts {
		if !c.Overlaps(box) {
			continue
		}
		passes := false
		for k := range 3 {
			for _, at := range [2]float64{c.Min.At(k), c.Max.At(k)} {
				if at > box.Min.At(k)+csg.Tolerance && at < box.Max.At(k)-csg.Tolerance {
					passes = true
					if len(rest) == 0 {
						plane = geom.Plane{N: geom.Vec{}.With(k, 1), D: at}
					}
				}
			}
		}
		if passes {
			rest = append(rest, c)
		}
	}
	return plane, rest
}

// build makes the tree of a region, which is given by its faces, and returns its root.
func (b *builder) build(sides []side, region []geom.Polygon, cuts []geom.Box) int {
	for b.ctx.Err() == nil {
		var plane geom.Plane
		if plane, cuts = marked(region, cuts); len(cuts) == 0 {
			if len(sides) == 0 {
				break
			}
			plane = choose(sides, region)
		}
		var front, back []side
		for _, s := range sides {
			if same(*s.plane, plane) {
				continue // corners that were made one may lie off it by a little
			}
			f, k := s.Split(plane)
			if f != nil {
				front = append(front, side{f, s.plane})
			}
			if k != nil {
				back = append(back, side{k, s.plane})
			}
		}
		inFront, behind, opening := cut(region, plane)
		if opening == nil { // the plane only touches the region
			if len(cuts) > 0 {
				cuts = cuts[1:] // its box did, not the region itself
				continue
			}
			if len(inFront) > 0 {
				sides = front
			} else {
				sides = back
			}
			continue
		}
		at := len(b.tree.Nodes)
		b.tree.Nodes = append(b.tree.Nodes, Node{Plane: plane, opening: opening})
		f := b.build(front, inFront, cuts)
		k := b.build(back, behind, cuts)
		b.tree.Nodes[at].Front, b.tree.Nodes[at].Back = f, k
		return at
	}
	leaf := Leaf{Box: bounds(region)}
	var sum geom.Vec
	n := 0.0
	for _, p := range region {
		for _, v := range p {
			sum, n = sum.Add(v), n+1
		}
	}
	middle := sum.Scale(1 / n)
	leaf.Solid, leaf.Clear = b.inSolid(middle)
	for i, c := range b.cuts {
		if c.Holds(middle) {
			leaf.Mark = i + 1
		}
	}
	b.tree.Leaves = append(b.tree.Leaves, leaf)
	return -len(b.tree.Leaves)
}

// inSolid says whether a point lies in a solid, and whether one can see through all that it lies in.
func (b *builder) inSolid(p geom.Vec) (in, clear bool) {
	opaque := false
	b.solids.Touching(geom.Box{Min: p, Max: p}, func(i int) {
		if !slices.ContainsFunc(b.planes[i], func(plane geom.Plane) bool { return plane.Distance(p) > 0 }) {
			in = true
			opaque = opaque || !b.clear[i]
		}
	})
	return in, in && !opaque
}

// cut parts a convex region. opening is nil when the plane does not pass through it.
func cut(region []geom.Polygon, plane geom.Plane) (front, back []geom.Polygon, opening geom.Polygon) {
	box := bounds(region)
	size := box.Max.Sub(box.Min)
	opening = plane.Square(box.Middle(), size.X+size.Y+size.Z)
	for _, p := range region {
		f, k := p.Split(plane)
		if f == nil && k == nil { // a side of the region lies in the plane
			n, _ := p.Plane()
			if n.N.Dot(plane.N) > 0 {
				return nil, region, nil
			}
			return region, nil, nil
		}
		if f != nil {
			front = append(front, f)
		}
		if k != nil {
			back = append(back, k)
		}
		if n, ok := p.Plane(); ok && opening != nil {
			opening = opening.Clip(n)
		}
	}
	switch {
	case len(back) == 0:
		return region, nil, nil
	case len(front) == 0:
		return nil, region, nil
	case opening == nil || opening.Area() < csg.Tolerance*csg.Tolerance:
		opening = nil
		if len(front) > len(back) {
			return region, nil, nil
		}
		return nil, region, nil
	}
	return append(front, opening.Reverse()), append(back, opening), opening
}

// same says whether two planes are one, whichever way they look.
func same(p, q geom.Plane) bool {
	if p.N.Dot(q.N) < 0 {
		q = q.Flip()
	}
	return p.N.Sub(q.N).Length() < 1e-7 && p.D-q.D < geom.Near && q.D-p.D < geom.Near
}

// choose picks the plane that a region is cut at.
func choose(sides []side, region []geom.Polygon) geom.Plane {
	if len(sides) > balanced {
		box := bounds(region)
		size, axis := box.Max.Sub(box.Min), 0
		for k := 1; k < 3; k++ {
			if size.At(k) > size.At(axis) {
				axis = k
			}
		}
		edges := make([]float64, len(sides))
		for i, s := range sides {
			lowest := math.Inf(1)
			for _, v := range s.Polygon {
				lowest = min(lowest, v.At(axis))
			}
			edges[i] = lowest
		}
		geom.Halve(edges, len(edges)/2, cmp.Compare[float64])
		if at := edges[len(edges)/2]; at > box.Min.At(axis)+margin && at < box.Max.At(axis)-margin {
			return geom.Plane{N: geom.Vec{}.With(axis, 1), D: at}
		}
	}
	best, bestScore := *sides[0].plane, -1
	step := max(len(sides)/candidates, 1)
	sample := max(len(sides)/balanced, 1)
	for i := 0; i < len(sides); i += step {
		plane := *sides[i].plane
		front, back, split := 0, 0, 0
		for j := 0; j < len(sides); j += sample {
			switch sides[j].SideOf(plane) {
			case geom.Front:
				front++
			case geom.Back:
				back++
			case geom.Both:
				split++
			}
		}
		score := 8*split + max(front-back, back-front) + 4
		if plane.N.X == 0 && plane.N.Y == 0 || plane.N.Y == 0 && plane.N.Z == 0 || plane.N.X == 0 && plane.N.Z == 0 {
			score -= 4 // planes along the axes cut cleanest
		}
		if bestScore < 0 || score < bestScore {
			best, bestScore = plane, score
		}
	}
	return best
}

// Leaf finds the leaf that a point lies in.
func (t *Tree) Leaf(p geom.Vec) int {
	if len(t.Leaves) == 0 {
		return -1
	}
	at := 0
	if len(t.Nodes) == 0 {
		return 0
	}
	for at >= 0 {
		if n := &t.Nodes[at]; n.Distance(p) > 0 {
			at = n.Front
		} else {
			at = n.Back
		}
	}
	return -1 - at
}

// Outside says whether a leaf reaches the end of space.
func (t *Tree) Outside(leaf int) bool {
	l := &t.Leaves[leaf]
	for k := range 3 {
		if l.Box.Min.At(k) <= t.root.Min.At(k)+geom.Near || l.Box.Max.At(k) >= t.root.Max.At(k)-geom.Near {
			return !l.Solid
		}
	}
	return false
}

// Write adds the tree to a compiled map.
func (t *Tree) Write(out *mapfile.Map) {
	floats := func(v geom.Vec) [3]float32 { return [3]float32{float32(v.X), float32(v.Y), float32(v.Z)} }
	for _, n := range t.Nodes {
		out.Nodes = append(out.Nodes,
			mapfile.Node{Plane: mapfile.Plane{Normal: floats(n.N), Distance: float32(n.D)}, Front: int32(n.Front),
				Back: int32(n.Back)})
	}
	for _, l := range t.Leaves {
		out.Leaves = append(out.Leaves,
			mapfile.Leaf{Solid: l.Solid, Clear: l.Clear, Min: floats(l.Box.Min), Max: floats(l.Box.Max)})
	}
}
