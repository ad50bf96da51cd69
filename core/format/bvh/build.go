package bvh

import (
	"math"
	"runtime"

	"vornix/core/base/group"
)

const (
	bins = 16
	// most is the largest leaf; a leaf that is cheaper to test than to split may have as many.
	most = 2
	// deep is the level from which ranges are halved, wherever their triangles lie, and that with the most first.
	deep = 22
	// alone is the number of triangles below which a part is built by one goroutine.
	alone = 8192
)

type bounds struct{ low, high Vec }

var nothing = bounds{Vec{math.MaxFloat32, math.MaxFloat32, math.MaxFloat32},
	Vec{-math.MaxFloat32, -math.MaxFloat32, -math.MaxFloat32}}

func (b *bounds) add(c *bounds) {
	for k := range 3 {
		if c.low[k] < b.low[k] {
			b.low[k] = c.low[k]
		}
		if c.high[k] > b.high[k] {
			b.high[k] = c.high[k]
		}
	}
}

// half is half the area of the box.
func (b *bounds) half() float32 {
	x, y, z := b.high[0]-b.low[0], b.high[1]-b.low[1], b.high[2]-b.low[2]
	if x < 0 {
		return 0
	}
	return float32(x*y) + float32(y*z) + float32(z*x)
}

// part is a triangle while the tree is built: its box and its number.
type part struct {
	bounds
	number int32
}

func (p *part) middle(k int) float32 { return p.low[k] + p.high[k] } // twice the middle

type builder struct {
	parts []part
	free  chan struct{} // a goroutine that may be started
	least float32       // the smallest step: what rounding may do to a coordinate
}

// New builds a tree over triangles, on all processors and the same on any number. Triangles without an area, or with
// coordinates that are no numbers, are never met.
func New(triangles []Triangle) *Tree {
	b := &builder{parts: make([]part, 0, len(triangles)), free: make(chan struct{}, runtime.GOMAXPROCS(0)-1)}
	for range cap(b.free) {
		b.free <- struct{}{}
	}
	for i := range triangles {
		box, sum := nothing, float32(0)
		for k := range triangles[i] {
			c := triangles[i][k]
			box.add(&bounds{c, c})
			sum += c[0] + c[1] + c[2]
		}
		if sum-sum == 0 { // finite
			b.parts = append(b.parts, part{box, int32(i)})
		}
	}
	t := &Tree{}
	if len(b.parts) == 0 {
		return t
	}
	all := branch{0, len(b.parts), b.around(0, len(b.parts))}
	t.low, t.high = all.box.low, all.box.high
	for k := range 3 {
		b.least = max(b.least, -t.low[k]*1e-6, t.high[k]*1e-6, 1e-30)
	}
	t.nodes = b.build(nil, all, 0)
	t.set = make([]stored, len(b.parts))
	for i, p := range b.parts {
		s := &t.set[i]
		tri := &triangles[p.number]
		s.corner, s.number = tri[0], p.number
		for k := range 3 {
			s.a[k], s.b[k] = tri[1][k]-tri[0][k], tri[2][k]-tri[0][k]
		}
	}
	return t
}

// Box is the box around all triangles.
func (t *Tree) Box() (low, high Vec) { return t.low, t.high }

func (b *builder) around(first, last int) bounds {
	box := nothing
	for i := first; i < last; i++ {
		box.add(&b.parts[i].bounds)
	}
	return box
}

// branch is a range of parts with the box around them.
type branch struct {
	first, last int
	box         bounds
}

// isLeaf says whether a branch is not split any more.
func (r *branch) isLeaf() bool { return r.last-r.first <= most }

// build appends the nodes of a branch to out.
func (b *builder) build(out []node, all branch, depth int) []node {
	children := []branch{all}
	if !all.isLeaf() {
		children = b.divide(all, depth)
	}
	at := len(out)
	out = append(out, node{})
	n := node{}
	for k := range 3 {
		n.step[k] = max((all.box.high[k]-all.box.low[k])/250, b.least)
		n.corner[k] = all.box.low[k] - 2*n.step[k]
	}
	apart := make([][]node, len(children))
	if all.last-all.first > alone {
		var wait group.All
		for k, c := range children {
			if c.last-c.first <= alone {
				continue
			}
			select {
			case <-b.free:
				wait.Go(func() {
					apart[k] = b.build(nil, c, depth+1)
					b.free <- struct{}{}
				})
			default:
				apart[k] = b.build(nil, c, depth+1)
			}
		}
		wait.Wait()
	}
	for k, c := range children {
		n.put(k, &c.box)
		switch {
		case c.isLeaf():
			n.child[k] = ^int32(c.first<<3 | (c.last - c.first))
		case apart[k] != nil:
			n.child[k] = int32(len(out))
			for _, m := range apart[k] {
				for i := range m.child {
					if m.child[i] > 0 {
						m.child[i] += n.child[k]
					}
				}
				out = append(out, m)
			}
		default:
			n.child[k] = int32(len(out))
			out = b.build(out, c, depth+1)
		}
	}
	out[at] = n
	return out
}

// divide splits a branch, and then the largest of what comes out, until it is as many as a node has room for.
func (b *builder) divide(all branch, depth int) []branch {
	list := []branch{all}
	for len(list) < width {
		largest, area := -1, float32(-1)
		for i := range list {
			a := list[i].box.half()
			if depth > deep {
				a = float32(list[i].last - list[i].first)
			}
			if a > area && !list[i].isLeaf() {
				largest, area = i, a
			}
		}
		if largest < 0 {
			break
		}
		r := list[largest]
		middle, boxes := b.split(r.first, r.last, r.box, depth)
		list[largest] = branch{r.first, middle, boxes[0]}
		list = append(list, branch{middle, r.last, boxes[1]})
	}
	return list
}

func (n *node) put(k int, box *bounds) {
	for i := range 3 {
		low := int((box.low[i]-n.corner[i])/n.step[i]) - 1
		high := int((box.high[i]-n.corner[i])/n.step[i]) + 2
		n.side[i][k], n.side[i+3][k] = uint8(min(max(low, 0), 255)), uint8(min(max(high, 0), 255))
	}
}

// split sorts a range into two and gives the place between them and their boxes.
func (b *builder) split(first, last int, box bounds, depth int) (int, [2]bounds) {
	low, high := b.parts[first].middles(), b.parts[first].middles()
	for i := first + 1; i < last; i++ {
		m := b.parts[i].middles()
		for k := range 3 {
			low[k], high[k] = min(low[k], m[k]), max(high[k], m[k])
		}
	}
	best, axis, place := float32(math.MaxFloat32), -1, 0
	for k := range 3 {
		width := high[k] - low[k]
		if !(width > 0) || depth > deep {
			continue
		}
		var count [bins]int
		var boxes [bins]bounds
		for i := range boxes {
			boxes[i] = nothing
		}
		scale := bins / width
		for i := first; i < last; i++ {
			p := &b.parts[i]
			n := binOf(p.middle(k), low[k], scale)
			count[n]++
			boxes[n].add(&p.bounds)
		}
		var after [bins]float32 // what all bins from here on cost
		sum, n := nothing, 0
		for i := bins - 1; i > 0; i-- {
			sum.add(&boxes[i])
			n += count[i]
			after[i] = sum.half() * float32(n)
		}
		sum, n = nothing, 0
		for i := 1; i < bins; i++ {
			sum.add(&boxes[i-1])
			n += count[i-1]
			if n == 0 || n == last-first {
				continue
			}
			if cost := float32(sum.half()*float32(n)) + after[i]; cost < best {
				best, axis, place = cost, k, i
			}
		}
	}
	middle := first + (last-first)/2 // all in one place, or too deep: any half is as good
	if axis >= 0 {
		scale := bins / (high[axis] - low[axis])
		i, j := first, last-1
		for i <= j {
			if binOf(b.parts[i].middle(axis), low[axis], scale) < place {
				i++
			} else {
				b.parts[i], b.parts[j] = b.parts[j], b.parts[i]
				j--
			}
		}
		middle = i
	}
	return middle, [2]bounds{b.around(first, middle), b.around(middle, last)}
}

func (p *part) middles() Vec { return Vec{p.middle(0), p.middle(1), p.middle(2)} }

func binOf(middle, low, scale float32) int {
	return min(int(float32((middle-low)*scale)), bins-1)
}
