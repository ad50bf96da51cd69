package csg

import (
	"math"

	"vornix/core/format/geom"
	"vornix/core/format/material"
	"vornix/core/source/scene"
)

// lay gives the texture coordinates, in repeats, of a face's corners.
func lay(f *Face, o Options) [][2]float64 {
	of := f.Of
	var at func(u, v float64) [2]float64
	if of.Fit {
		at = uvFitted(of, o.Fit(of.Material.Name))
	} else {
		at = uvByMetres(of.TextureMapping, o.Size(of.Material.Name))
	}
	uv := make([][2]float64, len(f.Polygon))
	for i, p := range f.Polygon {
		uv[i] = at(of.U.Of(p), of.V.Of(p))
	}
	return uv
}

// uvByMetres gives texture coordinates, in repeats, of a place on the face by its metres along the face's axes.
func uvByMetres(look scene.TextureMapping, size float64) func(u, v float64) [2]float64 {
	sin, cos := geom.Turn(look.Turn)
	repeat := float64(size * look.Scale)
	return func(u, v float64) [2]float64 {
		tu := float64(u*cos) - float64(v*sin) + look.ShiftU
		tv := float64(u*sin) + float64(v*cos) + look.ShiftV
		return [2]float64{tu / repeat, tv / repeat}
	}
}

// uvFitted lays a whole number of repeats on the whole face of the solid, at least one each way: as
// many as come nearest to the wanted size. The texture turns by the quarter nearest to the face's
// turn, about the face's middle, and shifts by metres.
func uvFitted(face *scene.Face, want [2]float64) func(u, v float64) [2]float64 {
	var low, high [2]float64
	for i, p := range face.Polygon {
		for k, at := range [2]float64{face.U.Of(p), face.V.Of(p)} {
			if i == 0 {
				low[k], high[k] = at, at
			}
			low[k], high[k] = min(low[k], at), max(high[k], at)
		}
	}
	quarter := int(math.Round(face.Turn/90))%4 + 4
	if quarter%2 == 1 {
		want[0], want[1] = want[1], want[0]
	}
	var repeats [2]float64
	for k := range 2 {
		repeats[k] = material.Repeats(high[k]-low[k], float64(want[k]*face.Scale))
	}
	shift := [2]float64{face.ShiftU, face.ShiftV}
	return func(u, v float64) [2]float64 {
		var t [2]float64
		for k, at := range [2]float64{u, v} {
			t[k] = float64((at-low[k]+shift[k])/(high[k]-low[k])) * repeats[k]
		}
		switch quarter % 4 {
		case 1:
			return [2]float64{repeats[1] - t[1], t[0]}
		case 2:
			return [2]float64{repeats[0] - t[0], repeats[1] - t[1]}
		case 3:
			return [2]float64{t[1], repeats[0] - t[0]}
		}
		return t
	}
}

// Repeats is how many repeats of the texture there are a metre, as the mean of both ways.
func (f *Face) Repeats() float64 {
	area := 0.0
	for i := 2; i < len(f.UV); i++ {
		a := [2]float64{f.UV[i-1][0] - f.UV[0][0], f.UV[i-1][1] - f.UV[0][1]}
		b := [2]float64{f.UV[i][0] - f.UV[0][0], f.UV[i][1] - f.UV[0][1]}
		area += float64(a[0]*b[1]) - float64(a[1]*b[0])
	}
	return math.Sqrt(math.Abs(area) / 2 / f.Area())
}
