package render

import (
	"image"
	"math"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
)

// Appearance is how a material looks in pictures: all that light cares about, and what only eyes see.
// Normal maps have green up.
type Appearance struct {
	radiance.Appearance
	Normal, Detail, Mask image.Image
	DetailRepeat         float64 // 0: 8
	DetailStrength       float64
	Reflection           float64 // part that is mirrored straight on
	Roughness            float64
	Murk                 float64 // metres that one sees into it; 0: its alpha alone says
}

// skin is a look ready to be drawn.
type skin struct {
	colour, glow, normal, detail, mask *mips // nil but for colour: none
	plain                              [4]float32
	glowPower                          float32
	detailRepeat, detailStrength       float32
	detailMean                         bvh.Vec
	seeThrough                         string
	doubleSided, unlit                 bool
	reflection, roughness, murk        float32
}

// newSkin makes a look ready. side is the most texels that its images keep along a side.
func newSkin(l Appearance, side int) *skin {
	s := &skin{plain: l.Plain(), seeThrough: l.SeeThrough, doubleSided: l.DoubleSided, unlit: l.Unlit,
		glowPower:  float32(l.EmissionPower),
		reflection: float32(l.Reflection), roughness: float32(l.Roughness), murk: float32(l.Murk),
		detailStrength: float32(l.DetailStrength), detailRepeat: 8}
	if l.DetailRepeat > 0 {
		s.detailRepeat = float32(l.DetailRepeat)
	}
	s.colour = newMips(l.Colour, side, true, func(p []uint8) [4]float32 { return l.Texel(p) })
	linear := func(p []uint8) (c [4]float32) {
		v := radiance.Linear(uint32(p[0])<<16 | uint32(p[1])<<8 | uint32(p[2]))
		return [4]float32{v[0], v[1], v[2], 1}
	}
	data := func(p []uint8) (c [4]float32) {
		return [4]float32{float32(p[0]) / 255, float32(p[1]) / 255, float32(p[2]) / 255, 1}
	}
	if l.EmissionPower > 0 {
		s.glow = newMips(l.Emission, side, true, linear)
	}
	s.normal = newMips(l.Normal, side, false, data)
	if l.DetailStrength > 0 {
		if s.detail = newMips(l.Detail, side, true, linear); s.detail != nil {
			mean := s.detail.levels[len(s.detail.levels)-1].texel(0, 0)
			for k := range s.detailMean {
				s.detailMean[k] = max(mean[k], 1e-3)
			}
		}
	}
	s.mask = newMips(l.Mask, side, false, data)
	return s
}

// mips is an image with all its smaller levels, each half as large as the one before. It repeats in all directions.
type mips struct{ levels []level }

type level struct {
	w, h   int
	opaque bool
	pix    []uint16 // red, green, blue, alpha: linear, 65535 is 1
}

func newMips(img image.Image, side int, srgb bool, of func(p []uint8) [4]float32) *mips {
	if img == nil {
		return nil
	}
	small := radiance.Small(img, side, srgb)
	l := level{w: small.Rect.Dx(), h: small.Rect.Dy(), opaque: true}
	l.pix = make([]uint16, 4*l.w*l.h)
	for i := 0; i < len(l.pix); i += 4 {
		c := of(small.Pix[i : i+4])
		for k, v := range c {
			l.pix[i+k] = uint16(float32(v*65535) + 0.5)
		}
		l.opaque = l.opaque && c[3] == 1
	}
	m := &mips{levels: []level{l}}
	for l.w > 1 || l.h > 1 {
		l = l.half()
		m.levels = append(m.levels, l)
	}
	return m
}

// half is the level after a level: each texel the mean of those that it covers, weighted by their
// alpha, so that what is not seen does not bleed in.
func (l *level) half() level {
	n := level{w: max(l.w/2, 1), h: max(l.h/2, 1)}
	n.pix = make([]uint16, 4*n.w*n.h)
	if l.w == 2*n.w && l.h == 2*n.h && l.opaque {
		n.opaque = true
		for y := range n.h {
			above, below := l.pix[8*y*l.w:][:4*l.w], l.pix[(8*y+4)*l.w:][:4*l.w]
			out := n.pix[4*y*n.w:][:4*n.w]
			for i := range out {
				j := 2*i - i&3
				out[i] = uint16((uint32(above[j]) + uint32(above[j+4]) + uint32(below[j]) + uint32(below[j+4]) + 2) / 4)
			}
		}
		return n
	}
	for y := range n.h {
		for x := range n.w {
			var sum, plain [3]uint64
			var alpha, count uint64
			for j := y * l.h / n.h; j < (y+1)*l.h/n.h; j++ {
				for i := x * l.w / n.w; i < (x+1)*l.w/n.w; i++ {
					p := l.pix[4*(j*l.w+i):][:4]
					a := uint64(p[3])
					alpha, count = alpha+a, count+1
					for k := range 3 {
						sum[k] += uint64(p[k]) * a
						plain[k] += uint64(p[k])
					}
				}
			}
			q := n.pix[4*(y*n.w+x):][:4]
			for k := range 3 {
				if alpha > 0 {
					q[k] = uint16((sum[k] + alpha/2) / alpha)
				} else {
					q[k] = uint16((plain[k] + count/2) / count)
				}
			}
			q[3] = uint16((alpha + count/2) / count)
		}
	}
	return n
}

func (l *level) texel(x, y int) [4]float32 {
	p := l.pix[4*(y*l.w+x):][:4]
	return [4]float32{float32(p[0]) * (1.0 / 65535), float32(p[1]) * (1.0 / 65535), float32(p[2]) * (1.0 / 65535),
		float32(p[3]) * (1.0 / 65535)}
}

// between is the mean of the four texels around a place, in repeats, by how near they are.
func (l *level) between(u, v float32) (out [4]float32) {
	if l.w == 1 && l.h == 1 {
		return l.texel(0, 0)
	}
	fx, x0, x1 := along(u, l.w)
	fy, y0, y1 := along(v, l.h)
	a, b := l.pix[4*(y0*l.w+x0):][:4], l.pix[4*(y0*l.w+x1):][:4]
	c, d := l.pix[4*(y1*l.w+x0):][:4], l.pix[4*(y1*l.w+x1):][:4]
	wa, wb, wc, wd := (1-fx)*(1-fy)/65535, fx*(1-fy)/65535, (1-fx)*fy/65535, fx*fy/65535
	for k := range out {
		out[k] = float32(float32(a[k])*wa) + float32(float32(b[k])*wb) + float32(float32(c[k])*wc) +
			float32(float32(d[k])*wd)
	}
	return out
}

// along finds the two texels on both sides of a place, and how far it is from the first to the second.
func along(u float32, n int) (part float32, first, second int) {
	whole := float32(int32(u))
	if u < whole {
		whole--
	}
	f := float32((u-whole)*float32(n)) - 0.5
	if f < 0 {
		f += float32(n)
	}
	first = min(int(f), n-1)
	part = f - float32(first)
	if second = first + 1; second == n {
		second = 0
	}
	return part, first, second
}

// at is the image at a place, in repeats, between the two levels that lod lies between.
func (m *mips) at(u, v, lod float32) [4]float32 {
	if lod <= 0 {
		return m.levels[0].between(u, v)
	}
	k := int(lod)
	if k >= len(m.levels)-1 {
		return m.levels[len(m.levels)-1].between(u, v)
	}
	a, part := m.levels[k].between(u, v), lod-float32(k)
	if part < 1.0/64 {
		return a
	}
	b := m.levels[k+1].between(u, v)
	for i := range a {
		a[i] += float32((b[i] - a[i]) * part)
	}
	return a
}

// footprint is what part of a surface's texture a sample covers: a middle, in repeats, and the shape around it.
type footprint struct {
	u, v   float32
	du, dv float32 // along its longer side, from end to end
	minor  [2]float32
}

// maxTaps is how often a texture is asked where it is seen at a grazing angle.
const maxTaps = 8

// over is the mean of an image over a footprint that is repeat times as large.
func (m *mips) over(f *footprint, repeat float32, sharp float32) [4]float32 {
	w, h := float32(m.levels[0].w)*repeat, float32(m.levels[0].h)*repeat
	long := length2(f.du*w, f.dv*h)
	short := length2(f.minor[0]*w, f.minor[1]*h)
	if short > long {
		long, short = short, long
	}
	taps := 1
	if long > short && long > 1 {
		taps = min(int(math.Ceil(float64(long/max(short, 1)))), maxTaps)
	}
	lod := log2(max(long/float32(taps), short)) - sharp
	if taps == 1 {
		return m.at(f.u*repeat, f.v*repeat, lod)
	}
	var sum [4]float32
	for i := range taps {
		t := (float32(i)+0.5)/float32(taps) - 0.5
		c := m.at((f.u+float32(f.du*t))*repeat, (f.v+float32(f.dv*t))*repeat, lod)
		for k := range sum {
			sum[k] += c[k]
		}
	}
	for k := range sum {
		sum[k] /= float32(taps)
	}
	return sum
}

func length2(x, y float32) float32 {
	return float32(math.Sqrt(float64(float32(x*x) + float32(y*y))))
}

// log2 is the logarithm of a number, straight between powers of two: levels of mips need no more.
func log2(v float32) float32 {
	if v <= 1e-6 {
		return -20
	}
	bits := math.Float32bits(v)
	return float32(int32(bits>>23)-127) + math.Float32frombits(bits&0x7fffff|0x3f800000) - 1
}
