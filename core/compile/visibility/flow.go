package visibility

import (
	"math/bits"

	"vornix/core/format/geom"
)

// set is a set of cells.
type set []uint64

func newSet(n int) set { return make(set, (n+63)/64) }

func (s set) has(i int) bool { return s[i/64]>>(i%64)&1 != 0 }
func (s set) add(i int)      { s[i/64] |= 1 << (i % 64) }

func (s set) count() int {
	n := 0
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// steps is how many portals are tried, at most, to follow sight from one; probeSteps how many to
// find out whether a map is open, and stepsOutdoors where it is.
const (
	steps         = 30000
	probeSteps    = 4000
	stepsOutdoors = 600
)

// behind says whether any of a polygon lies behind a plane by more than slack allows.
func behind(p geom.Polygon, plane geom.Plane) bool {
	for _, v := range p {
		if plane.Distance(v) < slack {
			return true
		}
	}
	return false
}

func inFront(p geom.Polygon, plane geom.Plane) bool {
	for _, v := range p {
		if plane.Distance(v) > -slack {
			return true
		}
	}
	return false
}

// mights is what each portal might see by its place alone: cells that are reached through portals
// that lie before it, and before which it lies.
func (l *layout) might(from int) set {
	p := &l.portals[from]
	cells := newSet(len(l.boxes))
	cells.add(p.to)
	stack := []int{p.to}
	for len(stack) > 0 {
		c := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		for _, k := range l.out[c] {
			q := &l.portals[k]
			if cells.has(q.to) || !inFront(q.outline, p.plane) || !behind(p.outline, q.plane) {
				continue
			}
			cells.add(q.to)
			stack = append(stack, q.to)
		}
	}
	return cells
}

// flow follows sight from one portal.
type flow struct {
	l     *layout
	might []set // by portal
	seen  set
	used  []bool // portals on the way that is being followed
	left  int
}

// from is what is seen through a portal, from anywhere before it; what it might see, itself, after
// more than limit steps.
func (l *layout) from(first int, might []set, limit int) set {
	f := &flow{l: l, might: might, seen: newSet(len(l.boxes)), used: make([]bool, len(l.portals)), left: limit}
	p := &l.portals[first]
	f.seen.add(p.to)
	f.used[first] = true
	f.follow(p.to, p.outline, nil, p.plane, might[first])
	if f.left < 0 {
		return might[first]
	}
	return f.seen
}

// follow looks on from a cell. One looks from source through pass, which is nil as long as there is
// only the source; plane is that of the last portal; could are the cells that might yet be seen on
// this way.
//
// This is the recursive portal clipping of S. Teller, "Visibility Computations in Densely Occluded
// Polyhedral Environments" (1992). The invariants that keep it safe, which means that it may find too
// much and never too little: source and pass only ever shrink by planes that separate them; every
// clip keeps slack more than it should; could only loses cells that no portal of the way might see.
// A way that turns back on itself is cut by used. When the steps run out, from answers with all that
// the portal might see.
func (f *flow) follow(cell int, source, pass geom.Polygon, plane geom.Plane, could set) {
	for _, k := range f.l.out[cell] {
		q := &f.l.portals[k]
		if f.used[k] || !could.has(q.to) {
			continue
		}
		if f.left--; f.left < 0 {
			return
		}
		more := newSet(len(f.l.boxes))
		fresh := !f.seen.has(q.to)
		for i := range more {
			more[i] = could[i] & f.might[k][i]
			fresh = fresh || more[i]&^f.seen[i] != 0
		}
		if !fresh {
			continue // all that could come of it is known
		}
		// The next portal counts as far as it is in front of the last one, the source as far as it is
		// behind the next one: nothing else of them can be on one line of sight through both.
		target := front(q.outline, plane)
		if target == nil {
			continue
		}
		from := back(source, q.plane)
		if from == nil {
			continue
		}
		// With a portal between, both shrink to what the separating planes leave: first the target as
		// seen from the source, then the source as seen from what is left of the target.
		if pass != nil {
			if target = between(from, pass, target); target == nil {
				continue
			}
			if from = between(target, pass, from); from == nil {
				continue
			}
		}
		f.seen.add(q.to)
		f.used[k] = true
		f.follow(q.to, from, target, q.plane, more)
		f.used[k] = false
		if f.left < 0 {
			return
		}
	}
}

func front(p geom.Polygon, plane geom.Plane) geom.Polygon {
	return back(p, plane.Flip())
}

// back is the part of a polygon behind a plane that is moved forward by slack.
func back(p geom.Polygon, plane geom.Plane) geom.Polygon {
	plane.D += slack
	return p.Clip(plane)
}

// between clips target to what can be seen of it from source through pass: by every plane that has
// an edge of the one and a corner of the other, and lies between the two.
func between(source, pass, target geom.Polygon) geom.Polygon {
	for i, a := range source {
		b := source[(i+1)%len(source)]
		for _, c := range pass {
			n, ok := b.Sub(a).Cross(c.Sub(a)).Unit()
			if !ok {
				continue
			}
			plane := geom.Plane{N: n, D: n.Dot(a)}
			// The plane separates when the whole source is on one side of it and the whole pass on the other.
			low, high := reach(source, plane)
			if high > slack { // the source goes behind the plane
				if low < -slack {
					continue
				}
				plane = plane.Flip()
			} else if low >= -slack { // it lies in it
				continue
			}
			if l, h := reach(pass, plane); l < -slack || h <= slack {
				continue
			}
			if target = front(target, plane); target == nil {
				return nil
			}
		}
	}
	return target
}

// reach is how far a polygon goes behind a plane, below 0, and before it.
func reach(p geom.Polygon, plane geom.Plane) (low, high float64) {
	low, high = plane.Distance(p[0]), plane.Distance(p[0])
	for _, v := range p[1:] {
		d := plane.Distance(v)
		low, high = min(low, d), max(high, d)
	}
	return low, high
}
