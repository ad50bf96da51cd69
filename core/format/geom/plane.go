package geom

import (
	"errors"
	"math"
	"slices"
)

// Plane is the points p with N·p = D. N has length one; it points out of the body that the plane bounds.
type Plane struct {
	N Vec
	D float64
}

// Distance is how far p lies in front of the plane, in metres; negative behind it.
func (p Plane) Distance(v Vec) float64 { return p.N.Dot(v) - p.D }

// Flip is the plane seen from behind.
func (p Plane) Flip() Plane { return Plane{Vec{-p.N.X, -p.N.Y, -p.N.Z}, -p.D} }

// axis is the coordinate (0, 1, 2) that the plane is perpendicular to; -1 when it is oblique.
func (p Plane) axis() int {
	switch {
	case p.N.Y == 0 && p.N.Z == 0:
		return 0
	case p.N.X == 0 && p.N.Z == 0:
		return 1
	case p.N.X == 0 && p.N.Y == 0:
		return 2
	}
	return -1
}

// Near is the distance in metres below which two points are one, and a point lies on a plane. It is
// far below what anybody sees and far above the rounding of coordinates.
const Near = 1e-4

// Polygon is flat and convex; its corners run counter-clockwise as seen from where its normal points.
type Polygon []Vec

// Plane is the plane through the polygon, by Newell's method; ok is false when the polygon has no area.
func (p Polygon) Plane() (plane Plane, ok bool) {
	var n, middle Vec
	for i := range p {
		a, b := p[i].Sub(p[0]), p[(i+1)%len(p)].Sub(p[0]) // from near by, so that far from 0,0,0 no digits are lost
		n.X += float64((a.Y - b.Y) * (a.Z + b.Z))
		n.Y += float64((a.Z - b.Z) * (a.X + b.X))
		n.Z += float64((a.X - b.X) * (a.Y + b.Y))
		middle = middle.Add(a)
	}
	n, ok = n.Unit()
	if !ok {
		return Plane{}, false
	}
	plane = Plane{n, n.Dot(p[0].Add(middle.Scale(1 / float64(len(p)))))}
	if k := plane.axis(); k >= 0 { // exact where it can be
		plane.D = p[0].At(k) * n.At(k)
	}
	return plane, true
}

// Area is the polygon's area in square metres.
func (p Polygon) Area() float64 {
	var sum Vec
	for i := 2; i < len(p); i++ {
		sum = sum.Add(p[i-1].Sub(p[0]).Cross(p[i].Sub(p[0])))
	}
	return sum.Length() / 2
}

// Box is the smallest box around the polygon.
func (p Polygon) Box() Box {
	b := Box{p[0], p[0]}
	for _, v := range p[1:] {
		b = Box{b.Min.Min(v), b.Max.Max(v)}
	}
	return b
}

// Middle is the mean of the corners.
func (p Polygon) Middle() Vec {
	var sum Vec
	for _, v := range p {
		sum = sum.Add(v)
	}
	return sum.Scale(1 / float64(len(p)))
}

// Reverse turns the polygon over.
func (p Polygon) Reverse() Polygon {
	q := slices.Clone(p)
	slices.Reverse(q)
	return q
}

// Side says where a polygon lies as seen from a plane.
type Side int

// The sides. A polygon with all corners within Near of the plane is On it.
const (
	On Side = iota
	Front
	Back
	Both
)

// SideOf says where the polygon lies.
func (p Polygon) SideOf(plane Plane) Side {
	side := On
	for _, v := range p {
		switch d := plane.Distance(v); {
		case d > Near:
			side |= Front
		case d < -Near:
			side |= Back
		}
	}
	return side
}

// Split cuts the polygon in two. One of the parts is nil unless the polygon lies on both sides;
// both are nil when it is in the plane. An edge that two polygons share is cut at the same point in
// both, to the bit.
func (p Polygon) Split(plane Plane) (front, back Polygon) {
	switch p.SideOf(plane) {
	case On:
		return nil, nil
	case Front:
		return p, nil
	case Back:
		return nil, p
	}
	front, back = make(Polygon, 0, len(p)+1), make(Polygon, 0, len(p)+1)
	for i, a := range p {
		b := p[(i+1)%len(p)]
		da, db := plane.Distance(a), plane.Distance(b)
		if da >= -Near {
			front = append(front, a)
		}
		if da <= Near {
			back = append(back, a)
		}
		if da > Near && db < -Near || da < -Near && db > Near {
			at := plane.cut(a, b)
			front, back = append(front, at), append(back, at)
		}
	}
	return front, back
}

// Clip keeps the part of the polygon behind the plane; nil when nothing of it is there. One in the plane stays.
func (p Polygon) Clip(plane Plane) Polygon {
	if p.SideOf(plane) == On {
		return p
	}
	_, back := p.Split(plane)
	return back
}

// cut is where the line between two points meets the plane; the order of the points does not matter.
func (p Plane) cut(a, b Vec) Vec {
	if b.Less(a) {
		a, b = b, a
	}
	da, db := p.Distance(a), p.Distance(b)
	at := a.Add(b.Sub(a).Scale(da / (da - db)))
	if k := p.axis(); k >= 0 {
		at = at.With(k, p.D*p.N.At(k))
	}
	return at
}

// Square is a large polygon in the plane, reach metres to each side of the point nearest to about.
func (p Plane) Square(about Vec, reach float64) Polygon {
	u := Vec{Z: 1}
	if math.Abs(p.N.Z) > 0.7 {
		u = Vec{X: 1}
	}
	u = u.Sub(p.N.Scale(u.Dot(p.N)))
	u, _ = u.Unit()
	v := p.N.Cross(u)
	o := about.Sub(p.N.Scale(p.Distance(about)))
	u, v = u.Scale(reach), v.Scale(reach)
	square := Polygon{o.Sub(u).Sub(v), o.Add(u).Sub(v), o.Add(u).Add(v), o.Sub(u).Add(v)}
	if k := p.axis(); k >= 0 {
		for i := range square {
			square[i] = square[i].With(k, p.D*p.N.At(k))
		}
	}
	return square
}

// ErrFlat is the error for points that enclose nothing.
var ErrFlat = errors.New("the points lie in one plane")

// MaxHullPoints is the most points that Hull takes; its work grows with the fourth power.
const MaxHullPoints = 64

// Hull is the faces of the smallest convex body around the points, at most MaxHullPoints of them. Its corners are given
// points, to the bit; the faces stand in the order in which the points first name them.
func Hull(points []Vec) ([]Polygon, error) {
	if len(points) > MaxHullPoints {
		return nil, errors.New("there are too many points")
	}
	var distinct []Vec
	for _, p := range points {
		if !slices.ContainsFunc(distinct, func(q Vec) bool { return p.Sub(q).Length() <= Near }) {
			distinct = append(distinct, p)
		}
	}
	var faces []Polygon
	var planes []Plane
	for i := range distinct {
		for j := i + 1; j < len(distinct); j++ {
			for k := j + 1; k < len(distinct); k++ {
				plane, ok := hullPlane(distinct, i, j, k)
				if !ok || slices.ContainsFunc(planes, func(q Plane) bool {
					return q.N.Dot(plane.N) > 0 && onPlane(q, distinct[i], distinct[j], distinct[k])
				}) {
					continue
				}
				var on []Vec
				for _, p := range distinct {
					if math.Abs(plane.Distance(p)) <= Near {
						on = append(on, p)
					}
				}
				if face := Outline(on, plane.N); len(face) >= 3 {
					if exact, ok := face.Plane(); ok {
						plane = exact
					}
					planes, faces = append(planes, plane), append(faces, face)
				}
			}
		}
	}
	if len(faces) < 4 {
		return nil, ErrFlat
	}
	return faces, nil
}

func onPlane(p Plane, points ...Vec) bool {
	return !slices.ContainsFunc(points, func(v Vec) bool { return math.Abs(p.Distance(v)) > Near })
}

// hullPlane is the plane through three of the points when all others lie behind it.
func hullPlane(points []Vec, i, j, k int) (Plane, bool) {
	plane, ok := Polygon{points[i], points[j], points[k]}.Plane()
	if !ok {
		return plane, false
	}
	front, back := false, false
	for _, p := range points {
		d := plane.Distance(p)
		front, back = front || d > Near, back || d < -Near
	}
	if front {
		plane = plane.Flip()
	}
	return plane, front != back
}

// Outline is the convex outline of points in a plane, counter-clockwise as seen from where n points
// (Andrew's monotone chain, 1979). Points on an edge are left out.
func Outline(points []Vec, n Vec) Polygon {
	axis := Plane{N: n}.Square(Vec{}, 1)
	u, _ := axis[1].Sub(axis[0]).Unit()
	v := n.Cross(u)
	type flat struct{ x, y float64 }
	at := func(p Vec) flat { return flat{p.Dot(u), p.Dot(v)} }
	list := slices.Clone(points)
	slices.SortFunc(list, func(a, b Vec) int {
		p, q := at(a), at(b)
		switch {
		case math.Abs(p.x-q.x) > Near && p.x < q.x, math.Abs(p.x-q.x) <= Near && p.y < q.y:
			return -1
		case p == q:
			return 0
		}
		return 1
	})
	turnsLeft := func(a, b, c Vec) bool {
		p, q, r := at(a), at(b), at(c)
		area := float64((q.x-p.x)*(r.y-p.y)) - float64((q.y-p.y)*(r.x-p.x))
		return area > Near*math.Hypot(r.x-p.x, r.y-p.y)
	}
	chain := func(list []Vec) Polygon {
		var out Polygon
		for _, p := range list {
			for len(out) >= 2 && !turnsLeft(out[len(out)-2], out[len(out)-1], p) {
				out = out[:len(out)-1]
			}
			out = append(out, p)
		}
		return out[:len(out)-1]
	}
	if len(list) < 3 {
		return nil
	}
	lower := chain(list)
	slices.Reverse(list)
	return append(lower, chain(list)...)
}

// Enclose is the faces of the body behind all planes; nil when there is none, or it reaches further
// than reach metres from about.
func Enclose(planes []Plane, about Vec, reach float64) []Polygon {
	var faces []Polygon
	for i, p := range planes {
		face := p.Square(about, 2*reach)
		for j, q := range planes {
			if i != j && face != nil {
				if face.SideOf(q) == On {
					if j < i || q.N.Dot(p.N) < 0 {
						face = nil // the same plane twice, or nothing between the two
					}
					continue
				}
				face = face.Clip(q)
			}
		}
		if len(face) < 3 || face.Area() < Near*Near {
			continue
		}
		for _, v := range face {
			if d := v.Sub(about); max(math.Abs(d.X), math.Abs(d.Y), math.Abs(d.Z)) > 1.5*reach {
				return nil
			}
		}
		faces = append(faces, face)
	}
	if len(faces) < 4 {
		return nil
	}
	return faces
}

// Around is a body of at most 26 faces, perpendicular to the axes and their diagonals, that holds all points.
func Around(points []Vec) []Polygon {
	var planes []Plane
	box := Polygon(points).Box()
	for x := -1.0; x <= 1; x++ {
		for y := -1.0; y <= 1; y++ {
			for z := -1.0; z <= 1; z++ {
				n, ok := Vec{x, y, z}.Unit()
				if !ok {
					continue
				}
				far := math.Inf(-1)
				for _, p := range points {
					far = max(far, n.Dot(p))
				}
				planes = append(planes, Plane{n, far})
			}
		}
	}
	size := box.Max.Sub(box.Min)
	return Enclose(planes, box.Middle(), max(size.X, size.Y, size.Z)+1)
}

// Planes are the planes of faces.
func Planes(faces []Polygon) []Plane {
	list := make([]Plane, 0, len(faces))
	for _, f := range faces {
		if p, ok := f.Plane(); ok {
			list = append(list, p)
		}
	}
	return list
}

// Meet says whether two convex bodies share more than their surfaces.
func Meet(a, b []Polygon) bool {
	pa, pb := Planes(a), Planes(b)
	inside := func(faces []Polygon, planes []Plane) bool {
		for _, f := range faces {
			for _, p := range planes {
				if f = f.Clip(Plane{p.N, p.D - 2*Near}); f == nil {
					break
				}
			}
			if f != nil {
				return true
			}
		}
		return false
	}
	// Bodies in one another's place have no face within the other, but their middles.
	holds := func(faces []Polygon, planes []Plane) bool {
		var middle Vec
		for _, f := range faces {
			middle = middle.Add(f.Middle().Scale(1 / float64(len(faces))))
		}
		return !slices.ContainsFunc(planes, func(p Plane) bool { return p.Distance(middle) > -2*Near })
	}
	return inside(a, pb) || inside(b, pa) || holds(a, pb) || holds(b, pa)
}
