package visibility

import (
	"cmp"
	"container/heap"
	"context"
	"math"
	"slices"

	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/format/geom"
)

const (
	// hall is how large a cell may become, in metres along its longest side, by joining smaller ones.
	hall = 24.0
	// wide is the part of a cell's width that an opening must have so that what is behind it is no cell of its own.
	wide = 0.4
	// maxCells is the most cells that are told apart; with more they become larger.
	maxCells = 8192
	// slack is how far, in metres, beyond its rim one sees through a portal: more than rounding takes away.
	slack = 1e-3
)

// portal is where one sees from one cell into another. Its plane points that way.
type portal struct {
	from, to int
	outline  geom.Polygon
	plane    geom.Plane
}

// layout is cells and the portals between them.
type layout struct {
	cell    []int // by leaf; -1: it is solid
	boxes   []geom.Box
	portals []portal
	out     [][]int // by cell: the portals that lead out of it
}

// outside finds the leaves from which there is a way to the end of space.
func outside(t *bsp.Tree, openings []bsp.Opening) []bool {
	next := make([][]int, len(t.Leaves))
	for _, o := range openings {
		next[o.Leaves[0]] = append(next[o.Leaves[0]], o.Leaves[1])
		next[o.Leaves[1]] = append(next[o.Leaves[1]], o.Leaves[0])
	}
	out := make([]bool, len(t.Leaves))
	var stack []int
	for i := range t.Leaves {
		if t.Outside(i) {
			out[i] = true
			stack = append(stack, i)
		}
	}
	for len(stack) > 0 {
		i := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		for _, k := range next[i] {
			if !out[k] {
				out[k] = true
				stack = append(stack, k)
			}
		}
	}
	return out
}

// Unseen says which faces of a sealed map nobody ever sees, since they look only to the outside.
func Unseen(ctx context.Context, t *bsp.Tree, faces []csg.Face) ([]bool, error) {
	openings, err := t.Openings(ctx, true)
	if err != nil {
		return nil, err
	}
	left := outside(t, openings)
	list := make([]bool, len(faces))
	for i, f := range faces {
		list[i] = true
		t.InFront(f.Polygon, f.Of.Plane, func(leaf int) { list[i] = list[i] && left[leaf] })
	}
	return list, nil
}

// lay joins leaves into cells. The outside of a sealed map has none: nobody is ever there.
func lay(t *bsp.Tree, openings []bsp.Opening, sealed bool) *layout {
	left := make([]bool, len(t.Leaves))
	if sealed {
		left = outside(t, openings)
		openings = slices.DeleteFunc(slices.Clone(openings), func(o bsp.Opening) bool { return left[o.Leaves[0]] })
	}
	for size := hall; ; size *= 1.5 {
		j := join(t, openings, size)
		l := &layout{cell: make([]int, len(t.Leaves))}
		number := map[int]int{}
		for i := range t.Leaves {
			leaf := &t.Leaves[i]
			if left[i] || leaf.Solid && !leaf.Clear {
				l.cell[i] = -1
				continue
			}
			n, seen := number[j.root(i)]
			if !seen {
				n = len(l.boxes)
				number[j.root(i)] = n
				l.boxes = append(l.boxes, j.boxes[j.root(i)])
			}
			l.cell[i] = n
		}
		if len(l.boxes) <= maxCells {
			l.connect(openings)
			return l
		}
	}
}

// joiner makes of leaves what people would call rooms: where an opening is as wide as what it leads
// to, there is no border. It begins with the smallest parts and joins each to the neighbour that it
// is most open to, so that what lies about a crate goes to its room, and the leaf in a doorway to
// one of the rooms, before the rooms themselves are looked at.
type joiner struct {
	into  []int // a forest
	boxes []geom.Box
	sizes []float64          // volumes
	next  []map[int]geom.Vec // by neighbour: the area of openings, as seen along each axis
	queue candidates
}

// candidate is a group that may become part of another.
type candidate struct {
	group int
	size  float64 // as it was when it was queued
}

type candidates []candidate

func (c candidates) Len() int { return len(c) }
func (c candidates) Less(i, j int) bool {
	return cmp.Or(cmp.Compare(c[i].size, c[j].size), c[i].group-c[j].group) < 0
}
func (c candidates) Swap(i, j int) { c[i], c[j] = c[j], c[i] }
func (c *candidates) Push(x any)   { *c = append(*c, x.(candidate)) }
func (c *candidates) Pop() any {
	old := *c
	x := old[len(old)-1]
	*c = old[:len(old)-1]
	return x
}

func (j *joiner) root(i int) int {
	for j.into[i] != i {
		j.into[i] = j.into[j.into[i]]
		i = j.into[i]
	}
	return i
}

// share is how much of the narrower of two groups the openings between them take.
func (j *joiner) share(a, b int, area geom.Vec) float64 {
	p, q := j.boxes[a].Max.Sub(j.boxes[a].Min), j.boxes[b].Max.Sub(j.boxes[b].Min)
	best := 0.0
	for k := range 3 {
		u, v := (k+1)%3, (k+2)%3
		best = max(best, area.At(k)/max(min(p.At(u)*p.At(v), q.At(u)*q.At(v)), 1e-9))
	}
	return best
}

func join(t *bsp.Tree, openings []bsp.Opening, size float64) *joiner {
	n := len(t.Leaves)
	j := &joiner{into: make([]int, n), boxes: make([]geom.Box, n), sizes: make([]float64, n),
		next: make([]map[int]geom.Vec, n)}
	for i := range n {
		d := t.Leaves[i].Box.Max.Sub(t.Leaves[i].Box.Min)
		j.into[i], j.boxes[i], j.sizes[i], j.next[i] = i, t.Leaves[i].Box, d.X*d.Y*d.Z, map[int]geom.Vec{}
	}
	for _, o := range openings {
		a, b := o.Leaves[0], o.Leaves[1]
		if t.Leaves[a].Mark != t.Leaves[b].Mark {
			continue
		}
		n := o.Plane.N
		area := geom.Vec{X: math.Abs(n.X), Y: math.Abs(n.Y), Z: math.Abs(n.Z)}.Scale(o.Polygon.Area())
		j.next[a][b], j.next[b][a] = j.next[a][b].Add(area), j.next[b][a].Add(area)
	}
	for i := range n {
		if len(j.next[i]) > 0 {
			j.queue = append(j.queue, candidate{i, j.sizes[i]})
		}
	}
	heap.Init(&j.queue)
	for j.queue.Len() > 0 {
		c := heap.Pop(&j.queue).(candidate)
		if j.into[c.group] != c.group || j.sizes[c.group] != c.size {
			continue // it grew since, and stands further back
		}
		to := j.best(c.group, size)
		if to < 0 {
			continue
		}
		a, b := min(to, c.group), max(to, c.group)
		j.into[b] = a
		j.boxes[a] = j.boxes[a].Union(j.boxes[b])
		j.sizes[a] += j.sizes[b]
		delete(j.next[a], b)
		for k, area := range j.next[b] {
			delete(j.next[k], b)
			if k != a {
				j.next[a][k] = j.next[a][k].Add(area)
				j.next[k][a] = j.next[a][k]
			}
		}
		j.next[b] = nil
		heap.Push(&j.queue, candidate{a, j.sizes[a]})
	}
	return j
}

// best is the neighbour that a group is most open to, of those that it may be joined with; -1: none.
func (j *joiner) best(group int, size float64) int {
	best, limit := -1, 0.0
	for k, area := range j.next[group] {
		open := max(area.X, area.Y, area.Z)
		if open < limit || open == limit && best >= 0 && k > best || j.share(group, k, area) < wide {
			continue
		}
		box := j.boxes[group].Union(j.boxes[k])
		if d := box.Max.Sub(box.Min); max(d.X, d.Y, d.Z) > size {
			continue
		}
		best, limit = k, open
	}
	return best
}

// connect finds the portals: all openings between two cells in one plane become one.
func (l *layout) connect(openings []bsp.Opening) {
	type side struct {
		a, b int
		n    [3]int
		d    int
	}
	points := map[side][]geom.Vec{}
	planes := map[side]geom.Plane{}
	var order []side
	for _, o := range openings {
		a, b := l.cell[o.Leaves[0]], l.cell[o.Leaves[1]]
		if a == b || a < 0 || b < 0 {
			continue
		}
		p := o.Plane // its front is where the first leaf lies
		key := side{a: a, b: b}
		if a > b {
			key.a, key.b = b, a
			p = p.Flip()
		}
		key.n = [3]int{int(math.Round(p.N.X * 1e6)), int(math.Round(p.N.Y * 1e6)), int(math.Round(p.N.Z * 1e6))}
		key.d = int(math.Round(p.D * 1e4))
		if planes[key] == (geom.Plane{}) {
			planes[key] = p
			order = append(order, key)
		}
		points[key] = append(points[key], o.Polygon...)
	}
	slices.SortStableFunc(order, func(p, q side) int { return cmp.Or(p.a-q.a, p.b-q.b) })
	l.out = make([][]int, len(l.boxes))
	for _, key := range order {
		p := planes[key] // cell a lies in front
		outline := geom.Outline(points[key], p.N)
		if len(outline) < 3 {
			continue
		}
		for k, way := range [2][2]int{{key.b, key.a}, {key.a, key.b}} {
			plane := p
			if k == 1 {
				plane = p.Flip()
			}
			l.out[way[0]] = append(l.out[way[0]], len(l.portals))
			l.portals = append(l.portals, portal{way[0], way[1], outline, plane})
		}
	}
}
