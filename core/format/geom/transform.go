package geom

import "math"

// Transform places something: a point p becomes M·p + Move.
type Transform struct {
	M    [3]Vec // rows
	Move Vec
}

// Identity leaves everything where it is.
var Identity = Transform{M: [3]Vec{{X: 1}, {Y: 1}, {Z: 1}}}

// Place scales (negative factors mirror), then turns about Z, counter-clockwise as seen from above, then moves.
func Place(move Vec, turn float64, scale Vec) Transform {
	sin, cos := Turn(turn)
	return Transform{M: [3]Vec{
		{float64(cos * scale.X), float64(-sin * scale.Y), 0},
		{float64(sin * scale.X), float64(cos * scale.Y), 0},
		{0, 0, scale.Z}}, Move: move}
}

// Direction applies the transform to a direction.
func (t Transform) Direction(v Vec) Vec { return Vec{t.M[0].Dot(v), t.M[1].Dot(v), t.M[2].Dot(v)} }

// Point applies the transform to a point.
func (t Transform) Point(p Vec) Vec { return t.Direction(p).Add(t.Move) }

// After is the transform that first does u and then t.
func (t Transform) After(u Transform) Transform {
	var m [3]Vec
	for i, row := range t.M {
		m[i] = u.M[0].Scale(row.X).Add(u.M[1].Scale(row.Y)).Add(u.M[2].Scale(row.Z))
	}
	return Transform{M: m, Move: t.Point(u.Move)}
}

// Volume is the factor by which volumes grow; negative when the transform mirrors.
func (t Transform) Volume() float64 { return t.M[0].Dot(t.M[1].Cross(t.M[2])) }

// Polygon applies the transform to a polygon, which keeps looking outward.
func (t Transform) Polygon(p Polygon) Polygon {
	q := make(Polygon, len(p))
	for i, v := range p {
		q[i] = t.Point(v)
	}
	if t.Volume() < 0 {
		return q.Reverse()
	}
	return q
}

// Inverse undoes the transform; ok is false when it flattens space.
func (t Transform) Inverse() (Transform, bool) {
	d := t.Volume()
	if math.Abs(d) < 1e-18 {
		return Identity, false
	}
	a, b, c := t.M[1].Cross(t.M[2]), t.M[2].Cross(t.M[0]), t.M[0].Cross(t.M[1]) // columns
	u := Transform{M: [3]Vec{Vec{a.X, b.X, c.X}.Scale(1 / d), Vec{a.Y, b.Y, c.Y}.Scale(1 / d),
		Vec{a.Z, b.Z, c.Z}.Scale(1 / d)}}
	u.Move = u.Direction(t.Move).Scale(-1)
	return u, true
}

// Heading is where a direction given in degrees from north, clockwise, points after the transform.
func (t Transform) Heading(degrees float64) float64 {
	sin, cos := Turn(degrees)
	d := t.Direction(Vec{X: sin, Y: cos})
	if h, _ := d.Unit(); (h == Vec{Y: 1}) {
		return 0
	}
	h := math.Mod(float64(math.Atan2(d.X, d.Y)*(180/math.Pi))+360, 360)
	return math.Round(h*1e6) / 1e6 // the last bits of Atan2 may differ between processors
}
