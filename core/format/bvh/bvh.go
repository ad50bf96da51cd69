package bvh

import "math/bits"

// Vec is a point or a direction.
type Vec [3]float32

// Triangle is three corners.
type Triangle [3]Vec

// Hit is where a ray meets a triangle.
type Hit struct {
	Triangle int     // its number, as given to New
	T        float32 // distance in lengths of the ray's direction
	// The point is (1-U-V)·corner 0 + U·corner 1 + V·corner 2.
	U, V float32
}

// Tree is a set of triangles to send rays at. It can be used from any number of goroutines.
type Tree struct {
	nodes     []node
	set       []stored
	low, high Vec
}

// node holds the boxes of up to four children, in steps from a corner, rounded outward, so that all
// of it is one line of the processor's cache, 64 bytes: it is waiting for memory that rays spend
// most of their time with. They lie side by side, low x, y, z and high x, y, z, so that a processor
// with vectors asks all four at once. A child above 0 is a node, one below a leaf: ^child is its
// first triangle times 8 and how many it has; 0 is none.
type node struct {
	corner, step Vec
	side         [6][width]uint8
	child        [width]int32
}

const width = 4

// asked is a ray as nodes are asked about it.
type asked struct {
	inv   [3][width]float32
	limit [width]float32
	in    [width]float32 // the answer: when the ray enters each box
	from  Vec
	// Where nodes and triangles lie: while a node is asked about, what comes after it is fetched.
	nodes *node
	set   *stored
}

func (t *Tree) ask(from, dir *Vec, limit float32) (q asked) {
	q.nodes, q.set = &t.nodes[0], &t.set[0]
	for k := range 3 {
		inv := inverse(dir[k])
		q.inv[k] = [width]float32{inv, inv, inv, inv}
	}
	q.from = *from
	q.within(limit)
	return q
}

func (q *asked) within(limit float32) { q.limit = [width]float32{limit, limit, limit, limit} }

// entersPlain says, by bits, which of a node's boxes a ray meets before its limit, and when it
// enters each. enters does the same and gives the same numbers; on processors where that pays it is
// written for their vectors.
func entersPlain(n *node, q *asked) uint32 {
	mask := uint32(0)
	for k := range width {
		in, out := float32(0), q.limit[k]
		for i := range 3 {
			base := n.corner[i] - q.from[i]
			a := (base + float32(float32(n.side[i][k])*n.step[i])) * q.inv[i][k]
			b := (base + float32(float32(n.side[i+3][k])*n.step[i])) * q.inv[i][k]
			if a > b {
				a, b = b, a
			}
			if a > in {
				in = a
			}
			if b < out {
				out = b
			}
		}
		q.in[k] = in
		if in <= out && n.child[k] != 0 {
			mask |= 1 << k
		}
	}
	return mask
}

// stored is a triangle as rays meet it.
type stored struct {
	corner, a, b Vec // a corner and the edges from it
	number       int32
}

// edge is how far, in parts of a triangle, beyond its edges a ray still meets it, so that none
// slips through between two.
const edge = 1e-5

// huge stands for one divided by zero: so large that what it multiplies is past every limit, and never not-a-number.
const huge = 1e30

func inverse(d float32) float32 {
	if d > -1/float32(huge) && d < 1/float32(huge) {
		return huge
	}
	return 1 / d
}

// meet is where a ray meets the triangle; the sign of det says from which side.
func (s *stored) meet(from, dir *Vec) (t, u, v float32, ok bool) {
	px := float32(dir[1]*s.b[2]) - float32(dir[2]*s.b[1])
	py := float32(dir[2]*s.b[0]) - float32(dir[0]*s.b[2])
	pz := float32(dir[0]*s.b[1]) - float32(dir[1]*s.b[0])
	det := float32(s.a[0]*px) + float32(s.a[1]*py) + float32(s.a[2]*pz)
	if det == 0 {
		return 0, 0, 0, false
	}
	inv := 1 / det
	dx, dy, dz := from[0]-s.corner[0], from[1]-s.corner[1], from[2]-s.corner[2]
	u = float32((float32(dx*px) + float32(dy*py) + float32(dz*pz)) * inv)
	if !(u >= -edge && u <= 1+edge) {
		return 0, 0, 0, false
	}
	qx := float32(dy*s.a[2]) - float32(dz*s.a[1])
	qy := float32(dz*s.a[0]) - float32(dx*s.a[2])
	qz := float32(dx*s.a[1]) - float32(dy*s.a[0])
	v = float32((float32(dir[0]*qx) + float32(dir[1]*qy) + float32(dir[2]*qz)) * inv)
	if !(v >= -edge && u+v <= 1+edge) {
		return 0, 0, 0, false
	}
	t = (float32(s.b[0]*qx) + float32(s.b[1]*qy) + float32(s.b[2]*qz)) * inv
	return t, u, v, true
}

// stackSize is more than rays leave behind on their way: three children on each of a tree's levels,
// of which there are fewer than 36 (see split).
const stackSize = 112

// waiting is a child that a ray will come to, and when it enters it.
type waiting struct {
	child int32
	in    float32
}

// pile is what a ray has yet to come to.
type pile [stackSize]waiting

// push puts the children of a node that the mask names on top, the nearest last, and says how high the pile is then.
func (s *pile) push(top int, n *node, q *asked, mask uint32) int {
	bottom := top
	for ; mask != 0; mask &= mask - 1 {
		k := bits.TrailingZeros32(mask) % width
		in, i := q.in[k], top
		for ; i > bottom && s[(i-1)%stackSize].in < in; i-- {
			s[i%stackSize] = s[(i-1)%stackSize]
		}
		s[i%stackSize] = waiting{n.child[k], in}
		top++
	}
	return top
}

// walk visits the leaves that a ray touches, the nearest first. leaf gives the new limit, below 0 to stop.
func (t *Tree) walk(from, dir Vec, limit float32, leaf func(set []stored, limit float32) float32) {
	if len(t.nodes) == 0 || !(limit > 0) {
		return
	}
	q := t.ask(&from, &dir, limit)
	var stack pile
	top, at := 0, int32(0)
	for {
		n := &t.nodes[at]
		top = stack.push(top, n, &q, enters(n, &q))
		for {
			if top--; top < 0 {
				return
			}
			w := stack[top%stackSize]
			if w.in > limit {
				continue
			}
			if w.child > 0 {
				at = w.child
				break
			}
			if limit = leaf(t.leaf(w.child), limit); limit < 0 {
				return
			}
			q.within(limit)
		}
	}
}

// leaf is the triangles of a leaf.
func (t *Tree) leaf(child int32) []stored {
	first, n := ^child>>3, ^child&7
	return t.set[first : first+n]
}

// First is the nearest triangle that a ray meets before limit. pass, where it is not nil, may wave
// a ray through: that is how holes in cut-out materials are made.
func (t *Tree) First(from, dir Vec, limit float32, pass func(h Hit) bool) (best Hit, ok bool) {
	if pass == nil {
		return t.nearest(&from, &dir, limit)
	}
	t.walk(from, dir, limit, func(set []stored, limit float32) float32 {
		for i := range set {
			s := &set[i]
			d, u, v, met := s.meet(&from, &dir)
			if !met || !(d > 0 && d < limit) {
				continue
			}
			if h := (Hit{int(s.number), d, u, v}); !pass(h) {
				best, ok, limit = h, true, d
			}
		}
		return limit
	})
	return best, ok
}

// nearest is First for those that wave nothing through: walk with what it does at leaves written
// into it, which is a good part of the time of all that follows light.
func (t *Tree) nearest(from, dir *Vec, limit float32) (best Hit, ok bool) {
	if len(t.nodes) == 0 || !(limit > 0) {
		return best, false
	}
	q := t.ask(from, dir, limit)
	var stack pile
	top, next := 0, int32(0)
	for {
		if next >= 0 {
			n := &t.nodes[next]
			mask := enters(n, &q)
			if mask != 0 && mask&(mask-1) == 0 {
				if next = n.child[bits.TrailingZeros32(mask)%width]; next > 0 {
					continue
				}
			} else {
				top = stack.push(top, n, &q, mask)
				next = 0
			}
		}
		if next < 0 {
			set, before := t.leaf(next), limit
			for i := range set {
				s := &set[i]
				if d, u, v, met := s.meet(from, dir); met && d > 0 && d < limit {
					best, ok, limit = Hit{int(s.number), d, u, v}, true, d
				}
			}
			if limit != before {
				q.within(limit)
			}
		}
		for {
			if top--; top < 0 {
				return best, ok
			}
			if w := &stack[top%stackSize]; w.in <= limit {
				next = w.child
				break
			}
		}
	}
}

// Through calls each with every triangle that a ray meets before limit, in no order, until it says no.
func (t *Tree) Through(from, dir Vec, limit float32, each func(h Hit) bool) {
	t.walk(from, dir, limit, func(set []stored, limit float32) float32 {
		for i := range set {
			s := &set[i]
			if d, u, v, met := s.meet(&from, &dir); met && d > 0 && d < limit && !each(Hit{int(s.number), d, u, v}) {
				return -1
			}
		}
		return limit
	})
}

// Blocked says whether a ray meets anything before limit. It is the question that light asks most
// often, and the fastest.
func (t *Tree) Blocked(from, dir Vec, limit float32) bool {
	if len(t.nodes) == 0 || !(limit > 0) {
		return false
	}
	q := t.ask(&from, &dir, limit)
	var stack [stackSize]int32
	top, at := 0, int32(0)
	for {
		n := &t.nodes[at]
		at = 0
		first := float32(0)
		for mask := enters(n, &q); mask != 0; mask &= mask - 1 {
			k := bits.TrailingZeros32(mask) % width
			child := n.child[k]
			if child < 0 {
				for i, set := 0, t.leaf(child); i < len(set); i++ {
					if set[i].stops(&from, &dir, limit) {
						return true
					}
				}
				continue
			}
			if at != 0 {
				if q.in[k] < first { // what is nearer stops more rays
					at, child, first = child, at, q.in[k]
				}
				stack[top%stackSize] = child
				top++
				continue
			}
			at, first = child, q.in[k]
		}
		if at == 0 {
			if top--; top < 0 {
				return false
			}
			at = stack[top%stackSize]
		}
	}
}

// stops is meet for those who only want to know whether: it does not divide, and gives up early,
// since most triangles are missed.
func (s *stored) stops(from, dir *Vec, limit float32) bool {
	px := float32(dir[1]*s.b[2]) - float32(dir[2]*s.b[1])
	py := float32(dir[2]*s.b[0]) - float32(dir[0]*s.b[2])
	pz := float32(dir[0]*s.b[1]) - float32(dir[1]*s.b[0])
	det := float32(s.a[0]*px) + float32(s.a[1]*py) + float32(s.a[2]*pz)
	dx, dy, dz := from[0]-s.corner[0], from[1]-s.corner[1], from[2]-s.corner[2]
	u := float32(dx*px) + float32(dy*py) + float32(dz*pz)
	sign := float32(1)
	if det < 0 {
		det, u, sign = -det, -u, -1
	}
	slack := float32(edge * det)
	if u < -slack || u > det+slack {
		return false
	}
	qx := float32(dy*s.a[2]) - float32(dz*s.a[1])
	qy := float32(dz*s.a[0]) - float32(dx*s.a[2])
	qz := float32(dx*s.a[1]) - float32(dy*s.a[0])
	v := float32((float32(dir[0]*qx) + float32(dir[1]*qy) + float32(dir[2]*qz)) * sign)
	if v < -slack || u+v > det+slack {
		return false
	}
	t := (float32(s.b[0]*qx) + float32(s.b[1]*qy) + float32(s.b[2]*qz)) * sign
	return det > 0 && t > 0 && t < limit*det
}
