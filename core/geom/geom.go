// Package geom has the vectors and boxes that maps are made of. Metres, Z up, right-handed.
//
// Every product is rounded before it is added (float64(a*b) forbids the compiler to fuse the two), so that results are
// the same to the bit on processors with and without fused multiply-add.
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

// Overlaps says whether the insides of the boxes meet; boxes that only touch do not.
func (b Box) Overlaps(c Box) bool {
	return b.Min.X < c.Max.X && c.Min.X < b.Max.X && b.Min.Y < c.Max.Y && c.Min.Y < b.Max.Y && b.Min.Z < c.Max.Z && c.Min.Z < b.Max.Z
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
