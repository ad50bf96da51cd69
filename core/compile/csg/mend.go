package csg

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"

	"vornix/core/base/group"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// welder makes points one that are nearer than Tolerance: the first that came stays. It is a hash
// table of small cells of space, chained through next; a chain may hold points of several cells.
type welder struct {
	points []geom.Vec
	next   []int32 // by point: the next of its chain, or -1
	heads  []int32 // by hash: the first point of a chain, or -1; a power of two of them
}

func newWelder(points int) *welder {
	w := &welder{points: make([]geom.Vec, 0, points), next: make([]int32, 0, points)}
	size := 1024
	for size < 2*points {
		size *= 2
	}
	w.grow(size)
	return w
}

// grow makes the table as large as size.
func (w *welder) grow(size int) {
	w.heads = make([]int32, size)
	for i := range w.heads {
		w.heads[i] = -1
	}
	for i, p := range w.points {
		at := w.chain(cell(p))
		w.next[i], w.heads[at] = w.heads[at], int32(i)
	}
}

func (w *welder) chain(c [3]int64) int {
	h := uint64(c[0])*0x9e3779b97f4a7c15 ^ uint64(c[1])*0xc2b2ae3d27d4eb4f ^ uint64(c[2])*0x165667b19e3779f9
	return int((h ^ h>>29) & uint64(len(w.heads)-1))
}

func cell(p geom.Vec) [3]int64 {
	const size = 32 * Tolerance // most points then have just one cell to look in
	return [3]int64{int64(math.Floor(p.X / size)), int64(math.Floor(p.Y / size)), int64(math.Floor(p.Z / size))}
}

// weld is the number of the point.
func (w *welder) weld(p geom.Vec) int32 {
	low, high := cell(p.Sub(geom.Vec{X: Tolerance, Y: Tolerance, Z: Tolerance})),
		cell(p.Add(geom.Vec{X: Tolerance, Y: Tolerance, Z: Tolerance}))
	best, bestDistance := int32(-1), Tolerance
	for x := low[0]; x <= high[0]; x++ {
		for y := low[1]; y <= high[1]; y++ {
			for z := low[2]; z <= high[2]; z++ {
				for i := w.heads[w.chain([3]int64{x, y, z})]; i >= 0; i = w.next[i] {
					if d := w.points[i].Sub(p).Length(); d < bestDistance || d == bestDistance && i < best {
						best, bestDistance = i, d
					}
				}
			}
		}
	}
	if best >= 0 {
		return best
	}
	if len(w.points) >= len(w.heads) {
		w.grow(2 * len(w.heads))
	}
	i := int32(len(w.points))
	at := w.chain(cell(p))
	w.points, w.next = append(w.points, p), append(w.next, w.heads[at])
	w.heads[at] = i
	return i
}

// likeness is what faces must share to be joined: their plane and everything that decides how they look.
type likeness struct {
	plane    geom.Plane
	material string
	u, v     scene.Axis
	look     scene.TextureMapping
	solid    int // -1 unless the face is fitted, which depends on its own edges
}

func like(p piece) likeness {
	l := likeness{plane: p.face.Plane, material: p.face.Material.Name, u: p.face.U, v: p.face.V,
		look:  p.face.TextureMapping,
		solid: -1}
	l.look.Material = scene.Ref{}
	if p.face.Fit {
		l.solid = p.solid
	}
	return l
}

// mend welds, joins and closes the pieces; nil when it was cancelled.
func mend(ctx context.Context, m *scene.Map, pieces [][]piece) []Face {
	w := newWelder(8 * len(m.Solids))
	for i := range m.Solids { // corners as written take precedence over cuts
		for _, f := range m.Solids[i].Faces {
			for _, p := range f.Polygon {
				w.weld(p)
			}
		}
	}
	type group struct {
		first    piece
		polygons []geom.Polygon
	}
	groups := map[likeness]int{}
	var order []group
	var last piece
	at := 0
	for _, list := range pieces {
		if ctx.Err() != nil {
			return nil
		}
		for _, p := range list {
			welded := make(geom.Polygon, len(p.polygon))
			for i, v := range p.polygon {
				welded[i] = w.points[w.weld(v)]
			}
			if welded = distinct(welded); len(welded) < 3 || welded.Area() < Tolerance*Tolerance {
				continue
			}
			if p.face != last.face || p.solid != last.solid { // most come after others of their face
				last = p
				key, ok := like(p), false
				if at, ok = groups[key]; !ok {
					at = len(order)
					groups[key] = at
					order = append(order, group{first: p})
				}
			}
			order[at].polygons = append(order[at].polygons, welded)
		}
	}
	merged := make([][]geom.Polygon, len(order))
	inBatches(len(order), 16, func(i int) {
		if ctx.Err() == nil {
			merged[i] = geom.Merge(order[i].polygons, order[i].first.face.Plane.N)
		}
	})
	if ctx.Err() != nil {
		return nil
	}
	var faces []Face
	for i, g := range order {
		for _, p := range merged[i] {
			if p = geom.Tidy(p); p != nil {
				faces = append(faces, Face{Polygon: p, Of: g.first.face, Solid: g.first.solid})
			}
		}
	}
	closeEdges(faces, w)
	return faces
}

func distinct(p geom.Polygon) geom.Polygon {
	p = slices.Compact(p)
	for len(p) > 1 && p[0] == p[len(p)-1] {
		p = p[:len(p)-1]
	}
	return p
}

// closeEdges gives every edge the corners of other faces that lie on it. An edge that a neighbour
// runs along from end to end, the other way, needs none; of the others there are few, and only
// their own ends can lie on one of them.
func closeEdges(faces []Face, w *welder) {
	corner := make([][]int32, len(faces))
	n := 0
	for _, f := range faces {
		n += len(f.Polygon)
	}
	edges := geom.NewEdges(n)
	for i, f := range faces {
		corner[i] = make([]int32, len(f.Polygon))
		for k, v := range f.Polygon {
			corner[i][k] = w.weld(v)
		}
		for k, a := range corner[i] {
			edges.Set(a, corner[i][(k+1)%len(corner[i])], 0)
		}
	}
	loose := func(i, k int) bool {
		_, along := edges.Get(corner[i][(k+1)%len(corner[i])], corner[i][k])
		return !along
	}
	used := make([]bool, len(w.points))
	var points []geom.Vec
	for i := range faces {
		for k := range corner[i] {
			if !loose(i, k) {
				continue
			}
			for _, id := range [2]int32{corner[i][k], corner[i][(k+1)%len(corner[i])]} {
				if !used[id] {
					used[id] = true
					points = append(points, w.points[id])
				}
			}
		}
	}
	near := newCorners(points)
	inBatches(len(faces), 256, func(i int) {
		faces[i].Polygon = near.close(faces[i].Polygon, func(k int) bool { return loose(i, k) })
	})
}

// inBatches calls do with each number below n, in batches of the given size, on all processors.
func inBatches(n, batch int, do func(i int)) {
	var g group.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < n; from += batch {
		g.Go(func() error {
			for i := from; i < min(from+batch, n); i++ {
				do(i)
			}
			return nil
		})
	}
	_ = g.Wait() // no error can come
}

// close gives a polygon the corners that lie on those of its edges that are loose.
func (c *corners) close(old geom.Polygon, loose func(edge int) bool) geom.Polygon {
	type stop struct {
		at    float64
		point geom.Vec
	}
	var stops []stop
	now := make(geom.Polygon, 0, len(old)+2)
	for k, a := range old {
		if !loose(k) {
			now = append(now, a)
			continue
		}
		b := old[(k+1)%len(old)]
		way := b.Sub(a)
		length := way.Length()
		way = way.Scale(1 / length)
		stops = stops[:0]
		c.along(a, b, func(p geom.Vec) {
			at := p.Sub(a).Dot(way)
			if at > 0 && at < length && p != a && p != b && p.Sub(a.Add(way.Scale(at))).Length() <= Tolerance {
				stops = append(stops, stop{at, p})
			}
		})
		slices.SortFunc(stops, func(x, y stop) int { return cmp.Compare(x.at, y.at) })
		now = append(now, a)
		for _, s := range stops {
			now = append(now, s.point)
		}
	}
	return now
}

// corners finds the points near a line: a k-d tree, with up to cornersALeaf points a leaf.
type corners struct {
	points []geom.Vec
	nodes  []cornerNode
}

type cornerNode struct {
	box         geom.Box
	first, last int
	left, right int
}

const cornersALeaf = 8

func newCorners(points []geom.Vec) *corners {
	c := &corners{points: points}
	if len(points) > 0 {
		c.build(0, len(points))
	}
	return c
}

func (c *corners) build(first, last int) int {
	part := c.points[first:last]
	box := geom.Polygon(part).Box()
	at := len(c.nodes)
	c.nodes = append(c.nodes, cornerNode{box: box.Grow(Tolerance), first: first, last: last})
	if len(part) <= cornersALeaf {
		return at
	}
	size, axis := box.Max.Sub(box.Min), 0
	for k := 1; k < 3; k++ {
		if size.At(k) > size.At(axis) {
			axis = k
		}
	}
	geom.Halve(part, len(part)/2, func(a, b geom.Vec) int {
		switch x, y := a.At(axis), b.At(axis); {
		case x < y || x == y && a.Less(b):
			return -1
		case a == b:
			return 0
		}
		return 1
	})
	middle := first + len(part)/2
	left := c.build(first, middle)
	right := c.build(middle, last)
	c.nodes[at].left, c.nodes[at].right = left, right
	return at
}

// along calls found for the points in boxes that the line from a to b passes.
func (c *corners) along(a, b geom.Vec, found func(geom.Vec)) {
	if len(c.nodes) > 0 {
		c.walk(0, a, b, found)
	}
}

func (c *corners) walk(at int, a, b geom.Vec, found func(geom.Vec)) {
	n := &c.nodes[at]
	if !passes(n.box, a, b) {
		return
	}
	if n.left == 0 {
		for _, p := range c.points[n.first:n.last] {
			found(p)
		}
		return
	}
	c.walk(n.left, a, b, found)
	c.walk(n.right, a, b, found)
}

// passes says whether the line from a to b meets a box (slab test).
func passes(box geom.Box, a, b geom.Vec) bool {
	low, high := 0.0, 1.0
	for k := range 3 {
		from, way := a.At(k), b.At(k)-a.At(k)
		if way == 0 {
			if from < box.Min.At(k) || from > box.Max.At(k) {
				return false
			}
			continue
		}
		t, u := (box.Min.At(k)-from)/way, (box.Max.At(k)-from)/way
		low, high = max(low, min(t, u)), min(high, max(t, u))
	}
	return low <= high
}
