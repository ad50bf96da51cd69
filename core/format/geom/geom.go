// Package geom has what maps are made of: vectors and boxes (geom.go), planes, flat convex polygons and convex bodies
// (plane.go), transforms (transform.go), and a tree of boxes to find neighbours in (tree.go).
//
// Metres, Z up, right-handed. Every product is rounded before it is added (float64(a*b) forbids the
// compiler to fuse the two), so that results are the same to the bit on processors with and without
// fused multiply-add.
package geom

import "math"

// Vec is a point or a direction.
type Vec struct{ X, Y, Z float64 }

// Add is v + w.
func (v Vec) Add(w Vec) Vec { return Vec{v.X + w.X, v.Y + w.Y, v.Z + w.Z} }

// Sub is v - w.
func (v Vec) Sub(w Vec) Vec { return Vec{v.X - w.X, v.Y - w.Y, v.Z - w.Z} }

// Dot is the scalar product.
func (v Vec) Dot(w Vec) float64 { return float64(v.X*w.X) + float64(v.Y*w.Y) + float64(v.Z*w.Z) }

// Scale is v times f.
func (v Vec) Scale(f float64) Vec { return Vec{float64(v.X * f), float64(v.Y * f), float64(v.Z * f)} }

// Cross is the vector product.
func (v Vec) Cross(w Vec) Vec {
	return Vec{float64(v.Y*w.Z) - float64(v.Z*w.Y), float64(v.Z*w.X) - float64(v.X*w.Z),
		float64(v.X*w.Y) - float64(v.Y*w.X)}
}

// Length is the vector's length.
func (v Vec) Length() float64 { return math.Sqrt(v.Dot(v)) }

// Unit is the vector of length one in the same direction; ok is false when v is too short to have
// one. Coordinates that are zero but for rounding become zero, so that what was meant to be level
// is.
func (v Vec) Unit() (unit Vec, ok bool) {
	m := max(math.Abs(v.X), math.Abs(v.Y), math.Abs(v.Z))
	if !(m > 1e-30) || math.IsInf(m, 0) {
		return Vec{}, false
	}
	v = v.Scale(1 / m) // no square of it is too small or too large
	v = v.Scale(1 / v.Length())
	for k := range 3 {
		switch c := v.At(k); {
		case math.Abs(c) < 1e-10:
			v = v.With(k, 0)
		case math.Abs(c) > 1-1e-15:
			v = v.With(k, math.Copysign(1, c))
		}
	}
	return v, true
}

// At is a coordinate: 0 is X, 1 Y, 2 Z.
func (v Vec) At(k int) float64 {
	switch k {
	case 0:
		return v.X
	case 1:
		return v.Y
	}
	return v.Z
}

// With is v with one coordinate replaced.
func (v Vec) With(k int, f float64) Vec {
	switch k {
	case 0:
		v.X = f
	case 1:
		v.Y = f
	default:
		v.Z = f
	}
	return v
}

// Less orders points by X, then Y, then Z.
func (v Vec) Less(w Vec) bool {
	if v.X != w.X {
		return v.X < w.X
	}
	if v.Y != w.Y {
		return v.Y < w.Y
	}
	return v.Z < w.Z
}

// Min is the smaller of each coordinate.
func (v Vec) Min(w Vec) Vec { return Vec{min(v.X, w.X), min(v.Y, w.Y), min(v.Z, w.Z)} }

// Max is the larger of each coordinate.
func (v Vec) Max(w Vec) Vec { return Vec{max(v.X, w.X), max(v.Y, w.Y), max(v.Z, w.Z)} }

// Box is an axis-aligned box; Min <= Max in every coordinate.
type Box struct{ Min, Max Vec }

// NewBox is the box between any two opposite corners.
func NewBox(a, b Vec) Box { return Box{a.Min(b), a.Max(b)} }

// Union is the smallest box around both.
func (b Box) Union(c Box) Box { return Box{b.Min.Min(c.Min), b.Max.Max(c.Max)} }

// Middle is the box's centre.
func (b Box) Middle() Vec { return b.Min.Add(b.Max).Scale(0.5) }

// Grow is the box with d metres added on every side.
func (b Box) Grow(d float64) Box {
	g := Vec{d, d, d}
	return Box{b.Min.Sub(g), b.Max.Add(g)}
}

// Holds says whether a point lies in the box or on its surface.
func (b Box) Holds(p Vec) bool {
	return p.X >= b.Min.X && p.X <= b.Max.X && p.Y >= b.Min.Y && p.Y <= b.Max.Y && p.Z >= b.Min.Z && p.Z <= b.Max.Z
}

// Touches says whether the boxes share a point.
func (b Box) Touches(c Box) bool {
	return b.Min.X <= c.Max.X && c.Min.X <= b.Max.X && b.Min.Y <= c.Max.Y && c.Min.Y <= b.Max.Y && b.Min.Z <= c.Max.Z &&
		c.Min.Z <= b.Max.Z
}

// Faces are the box's six sides: top, bottom, north, south, east, west.
func (b Box) Faces() []Polygon {
	corner := func(bits int) Vec {
		p := b.Min
		for k := range 3 {
			if bits>>k&1 != 0 {
				p = p.With(k, b.Max.At(k))
			}
		}
		return p
	}
	faces := make([]Polygon, 6)
	for i, c := range [6][4]int{{4, 5, 7, 6}, {2, 3, 1, 0}, {3, 2, 6, 7}, {0, 1, 5, 4}, {1, 3, 7, 5}, {2, 0, 4, 6}} {
		faces[i] = Polygon{corner(c[0]), corner(c[1]), corner(c[2]), corner(c[3])}
	}
	return faces
}

// Overlaps says whether the insides of the boxes meet; boxes that only touch do not.
func (b Box) Overlaps(c Box) bool {
	return b.Min.X < c.Max.X && c.Min.X < b.Max.X && b.Min.Y < c.Max.Y && c.Min.Y < b.Max.Y && b.Min.Z < c.Max.Z &&
		c.Min.Z < b.Max.Z
}

// Empty says whether the box has no volume.
func (b Box) Empty() bool {
	return !(b.Max.X > b.Min.X && b.Max.Y > b.Min.Y && b.Max.Z > b.Min.Z)
}

// Turn is the sine and cosine of an angle in degrees, exact at multiples of 90 and rounded to 2^-40 elsewhere: the
// last bits of math.Sin may differ between processors.
func Turn(degrees float64) (sin, cos float64) {
	switch d := math.Mod(math.Mod(degrees, 360)+360, 360); d {
	case 0:
		return 0, 1
	case 90:
		return 1, 0
	case 180:
		return 0, -1
	case 270:
		return -1, 0
	default:
		s, c := math.Sincos(d * (math.Pi / 180))
		return math.Round(s*(1<<40)) / (1 << 40), math.Round(c*(1<<40)) / (1 << 40)
	}
}
