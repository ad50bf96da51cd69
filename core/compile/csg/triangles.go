package csg

import "vornix/core/format/geom"

// Triangles cuts a convex polygon, which may have corners in the middle of its edges, into
// triangles that all have an area. It gives the corners' numbers, three a triangle, as the polygon
// runs.
func Triangles(p geom.Polygon) []int {
	rest := make([]int, len(p))
	for i := range rest {
		rest[i] = i
	}
	var out []int
	at := func(i int) int { return rest[(i+len(rest))%len(rest)] }
	for i, failed := 0, 0; len(rest) > 3; {
		i %= len(rest)
		a, b, c := at(i-1), at(i), at(i+1)
		if failed < len(rest) && !(bulges(p[a], p[b], p[c]) && leavesArea(p, rest, i)) {
			i++
			failed++
			continue
		}
		if failed < len(rest) { // otherwise it is all on one line, as far as anybody can see
			out = append(out, a, b, c)
		}
		rest = append(rest[:i], rest[i+1:]...)
		i++ // ears in turn, so that no corner gets all of the long thin triangles
		failed = 0
	}
	if len(rest) == 3 && bulges(p[rest[0]], p[rest[1]], p[rest[2]]) {
		out = append(out, rest...)
	}
	return out
}

// bulges says whether b is off the line from a to c.
func bulges(a, b, c geom.Vec) bool {
	way := c.Sub(a)
	return b.Sub(a).Cross(way).Length() > geom.Near*way.Length()
}

// leavesArea says whether the polygon still has an area without its i-th corner.
func leavesArea(p geom.Polygon, rest []int, i int) bool {
	n := len(rest)
	a, c := p[rest[(i+n-1)%n]], p[rest[(i+1)%n]]
	for k := 2; k < n-1; k++ {
		if bulges(a, p[rest[(i+k)%n]], c) {
			return true
		}
	}
	return false
}
