package lightmap

import "vornix/core/format/bvh"

// smooth evens out noise: every texel becomes a mean of itself and its neighbours, each of which
// counts the less, the further it differs beyond what the errors of both explain. Where light
// really changes, errors explain it not, and it stays.
func smooth(l *layout, from, to []irradiance, first, last int) {
	for i := first; i < last; i++ {
		c, g := &l.texels[i], &from[i]
		sum, weights := g.Arriving, float32(1)
		for _, k := range c.around {
			if k < 0 || l.texels[k].normal.Dot(c.normal) < 0.95 {
				continue
			}
			o := &from[k]
			d := brightness(g.Arriving.Light) - brightness(o.Arriving.Light)
			noise := float32(g.Err*g.Err) + float32(o.Err*o.Err)
			if noise <= 0 {
				continue
			}
			w := 1 - float32(d*d)/(4*noise)
			if w <= 0 {
				continue
			}
			sum.Light = sum.Light.Add(o.Arriving.Light.Scale(w))
			sum.Toward = sum.Toward.Add(o.Arriving.Toward.Scale(w))
			weights += w
		}
		to[i] = *g
		to[i].Arriving = sum.scale(1 / weights)
		to[i].Err = g.Err * 0.75 // a mean of several is better known
	}
}

// clamped is a direction's length held to one.
func clamped(v bvh.Vec) bvh.Vec {
	if l := v.Length(); l > 1 {
		return v.Scale(1 / l)
	}
	return v
}
