package geom

import "slices"

// Merge joins polygons of one plane that share a whole edge, as long as the result is convex,
// longest edges first, and leaves out corners in the middle of an edge. The result depends on the
// order of the polygons only.
func Merge(polygons []Polygon, normal Vec) []Polygon {
	if len(polygons) < 2 {
		return polygons
	}
	list := slices.Clone(polygons)
	m := newMerging(list)
	for i := range list {
		m.enter(i)
	}
	for i := 0; i < len(list); i++ {
		for list[i] != nil {
			best, bestLength := -1, 0.0
			var joined Polygon
			for k, a := range list[i] {
				b := list[i][(k+1)%len(list[i])]
				j := m.beside(i, k)
				if j < 0 || j == i || list[j] == nil {
					continue
				}
				length := b.Sub(a).Length()
				if length <= bestLength {
					continue
				}
				if p := join(list[i], k, list[j], normal); p != nil { // it is nil, too, where j has that edge no more
					best, bestLength, joined = j, length, p
				}
			}
			if best < 0 {
				break
			}
			list[best] = nil
			list[i] = joined
			m.enter(i)
		}
	}
	return slices.DeleteFunc(list, func(p Polygon) bool { return p == nil })
}

// merging knows which polygon runs along an edge.
type merging struct {
	list    []Polygon
	corners [][]int32 // by polygon: the numbers of its corners
	number  map[Vec]int32
	edges   *Edges // the polygon that came last
}

func newMerging(list []Polygon) *merging {
	n := 0
	for _, p := range list {
		n += len(p)
	}
	return &merging{list, make([][]int32, len(list)), make(map[Vec]int32, n), NewEdges(n)}
}

// enter enters a polygon's edges. Those that it had before stay, and lead to it as long as nobody else has them.
func (m *merging) enter(i int) {
	p := m.list[i]
	ids := m.corners[i][:0]
	for _, v := range p {
		id, ok := m.number[v]
		if !ok {
			id = int32(len(m.number))
			m.number[v] = id
		}
		ids = append(ids, id)
	}
	m.corners[i] = ids
	for k, a := range ids {
		m.edges.Set(a, ids[(k+1)%len(ids)], int32(i))
	}
}

// beside is the polygon that runs along a polygon's k-th edge the other way; -1 for none.
func (m *merging) beside(i, k int) int {
	ids := m.corners[i]
	if j, ok := m.edges.Get(ids[(k+1)%len(ids)], ids[k]); ok {
		return int(j)
	}
	return -1
}

// join is the union of p and q, which share p's edge from corner k on; nil unless it is convex.
func join(p Polygon, k int, q Polygon, normal Vec) Polygon {
	a, b := p[k], p[(k+1)%len(p)]
	at := slices.Index(q, b)
	if at < 0 || q[(at+1)%len(q)] != a {
		return nil
	}
	out := make(Polygon, 0, len(p)+len(q)-2)
	for i := range p { // from b around to a
		out = append(out, p[(k+1+i)%len(p)])
	}
	for i := 2; i < len(q); i++ { // what q has between a and b
		out = append(out, q[(at+i)%len(q)])
	}
	if out = Tidy(out); len(out) < 3 {
		return nil
	}
	for i, v := range out {
		before, after := out[(i+len(out)-1)%len(out)], out[(i+1)%len(out)]
		e, f := v.Sub(before), after.Sub(v)
		if e.Cross(f).Dot(normal) < -1e-7*e.Length()*f.Length() {
			return nil
		}
	}
	return out
}

// Tidy leaves out corners that lie on the line between their neighbours, or on a neighbour; nil
// when less than a triangle is left.
func Tidy(p Polygon) Polygon {
	out := slices.Clone(p)
	for i := 0; i < len(out) && len(out) >= 3; {
		before, v, after := out[(i+len(out)-1)%len(out)], out[i], out[(i+1)%len(out)]
		along := after.Sub(before)
		length := along.Length()
		if v.Sub(before).Length() <= Near || length > 0 && v.Sub(before).Cross(along).Length() <= Near*length &&
			v.Sub(before).Dot(along) >= 0 && v.Sub(after).Dot(along) <= 0 {
			out = slices.Delete(out, i, i+1)
			i = max(i-1, 0)
			continue
		}
		i++
	}
	if len(out) < 3 {
		return nil
	}
	return out
}

// ConvexPieces cuts a simple outline in a plane, counter-clockwise as seen from where normal
// points, into convex polygons (ear clipping, then merging); ok is false when the outline crosses
// itself.
func ConvexPieces(outline Polygon, normal Vec) (pieces []Polygon, ok bool) {
	rest := Tidy(outline)
	if rest == nil {
		return nil, false
	}
	ear := func(i int) bool {
		a, b, c := rest[(i+len(rest)-1)%len(rest)], rest[i], rest[(i+1)%len(rest)]
		if b.Sub(a).Cross(c.Sub(b)).Dot(normal) <= 0 {
			return false
		}
		for _, p := range rest {
			if p == a || p == b || p == c {
				continue
			}
			if b.Sub(a).Cross(p.Sub(a)).Dot(normal) >= 0 && c.Sub(b).Cross(p.Sub(b)).Dot(normal) >= 0 &&
				a.Sub(c).Cross(p.Sub(c)).Dot(normal) >= 0 {
				return false
			}
		}
		return true
	}
	for len(rest) > 3 {
		i := 0
		for i < len(rest) && !ear(i) {
			i++
		}
		if i == len(rest) {
			return nil, false
		}
		pieces = append(pieces, Polygon{rest[(i+len(rest)-1)%len(rest)], rest[i], rest[(i+1)%len(rest)]})
		rest = slices.Delete(slices.Clone(rest), i, i+1)
		if tidy := Tidy(rest); tidy == nil {
			rest = nil
		}
	}
	if len(rest) == 3 {
		pieces = append(pieces, rest)
	}
	area := 0.0
	for _, p := range pieces {
		if p[1].Sub(p[0]).Cross(p[2].Sub(p[0])).Dot(normal) <= 0 {
			return nil, false
		}
		area += p.Area()
	}
	return Merge(pieces, normal), area > 0
}
