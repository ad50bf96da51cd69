package bvh

import "math"

// Add is v + w.
func (v Vec) Add(w Vec) Vec { return Vec{v[0] + w[0], v[1] + w[1], v[2] + w[2]} }

// Sub is v - w.
func (v Vec) Sub(w Vec) Vec { return Vec{v[0] - w[0], v[1] - w[1], v[2] - w[2]} }

// Scale is v times f.
func (v Vec) Scale(f float32) Vec {
	return Vec{float32(v[0] * f), float32(v[1] * f), float32(v[2] * f)}
}

// Times is v with each coordinate times that of w.
func (v Vec) Times(w Vec) Vec {
	return Vec{float32(v[0] * w[0]), float32(v[1] * w[1]), float32(v[2] * w[2])}
}

// Dot is the scalar product.
func (v Vec) Dot(w Vec) float32 {
	return float32(v[0]*w[0]) + float32(v[1]*w[1]) + float32(v[2]*w[2])
}

// Cross is the vector product.
func (v Vec) Cross(w Vec) Vec {
	return Vec{float32(v[1]*w[2]) - float32(v[2]*w[1]), float32(v[2]*w[0]) - float32(v[0]*w[2]),
		float32(v[0]*w[1]) - float32(v[1]*w[0])}
}

// Length is the vector's length.
func (v Vec) Length() float32 { return float32(math.Sqrt(float64(v.Dot(v)))) }

// Unit is the vector of length one in the same direction; that of no length stays as it is.
func (v Vec) Unit() Vec {
	l := v.Length()
	if !(l > 1e-30) {
		return v
	}
	return v.Scale(1 / l)
}

// Frame is two directions that make a right-handed set of axes with a direction of length one
// (Frisvad's construction as mended by Duff and others, "Building an orthonormal basis, revisited",
// 2017).
func (v Vec) Frame() (a, b Vec) {
	sign := float32(math.Copysign(1, float64(v[2])))
	p := -1 / (sign + v[2])
	q := float32(float32(v[0]*v[1]) * p)
	a = Vec{1 + float32(sign*float32(float32(v[0]*v[0])*p)), float32(sign * q), -float32(sign * v[0])}
	b = Vec{q, sign + float32(float32(v[1]*v[1])*p), -v[1]}
	return a, b
}
