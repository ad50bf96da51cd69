package lightmap

import (
	"math"
	"sync"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/geom"
)

// random is a generator of pseudo-random numbers (splitmix64) that is seeded by place, so that a texel has the same
// numbers on every machine and in every order of work.
type random uint64

func newRandom(at bvh.Vec, pass int) random {
	d := random(pass) + 1
	for _, c := range at {
		// Rounded, so that a place that two faces come to by different sums rolls the same.
		d = (d ^ random(int64(math.Round(float64(c)*4096)))) * 0x9e3779b97f4a7c15
		d ^= d >> 29
	}
	return d
}

func (d *random) next() uint64 {
	*d += 0x9e3779b97f4a7c15
	z := uint64(*d)
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// float is from 0 to below 1.
func (d *random) float() float32 { return float32(d.next()>>40) / (1 << 24) }

// lowDiscrepancy is a coordinate of the i-th point of a sequence that fills the square evenly, shifted:
// multiples of the inverses of the plastic number and of its square.
func lowDiscrepancy(i, k int, shift float32) float32 {
	step := [2]uint64{0xc13fa9a902a6328f, 0x91e10da5c79e7b1c}[k]
	f := float32(float32(uint64(i)*step>>40)/(1<<24)) + shift
	if f >= 1 {
		f--
	}
	return f
}

// sinCos are sines and cosines of a circle's parts.
var sinCos = sync.OnceValue(func() [][2]float32 {
	list := make([][2]float32, 1<<12)
	for i := range list {
		sin, cos := geom.Turn(360 * float64(i) / float64(len(list)))
		list[i] = [2]float32{float32(sin), float32(cos)}
	}
	return list
})

// sampleDisc is a point of the unit disc for one of the unit square; equal areas stay equal.
func sampleDisc(u, v float32) (x, y float32) {
	t := sinCos()[int(v*(1<<12))&(1<<12-1)]
	r := float32(math.Sqrt(float64(u)))
	return r * t[1], r * t[0]
}

// sampleSphere is a point of the unit sphere.
func sampleSphere(u, v float32) bvh.Vec {
	z := 1 - 2*u
	t := sinCos()[int(v*(1<<12))&(1<<12-1)]
	r := float32(math.Sqrt(float64(max(1-float32(z*z), 0))))
	return bvh.Vec{r * t[1], r * t[0], z}
}

// batch is how many rays are sent before the error is looked at.
const batch = 32

// budget is what a texel may cost, and how well it must be known.
type budget struct {
	least, most int
	tolerance   float32 // the standard error of the mean, as a part of the mean
}

// irradiance is what comes to a texel from everywhere, and how well that is known.
type irradiance struct {
	Arriving arriving
	Err      float32 // the standard error of its brightness
	Rays     int32
}

// sampleIrradiance estimates the indirect irradiance of a texel: the mean radiance over directions
// that are distributed by the cosine to its normal (cosine-weighted hemisphere sampling: a point of
// the unit disc, raised to the hemisphere, after Malley). With that density the cosine and the
// factor 1/pi of Lambert's law cancel, and every ray has the same weight.
//
// Rays come in batches until the standard error of the mean brightness is within the budget's
// tolerance of what is known, or until its maximum. The points are a low-discrepancy sequence, shifted at
// random per texel, so that neighbours do not share a pattern. Lamps that were sampled directly
// are left out (besides), or their light would count twice. known is the light that is there already.
func sampleIrradiance(s *radiance.Scene, e *emitters, c *texel, pass int, sh budget, known float32) (g irradiance) {
	asked := e.asked(c.at)
	d := newRandom(c.at, pass)
	shift := [2]float32{d.float(), d.float()}
	a, b := c.normal.Frame()
	var sum, squares float64
	for int(g.Rays) < sh.most {
		for range batch {
			x, y := sampleDisc(lowDiscrepancy(int(g.Rays), 0, shift[0]), lowDiscrepancy(int(g.Rays), 1, shift[1]))
			z := float32(math.Sqrt(float64(max(1-float32(x*x)-float32(y*y), 0))))
			dir := a.Scale(x).Add(b.Scale(y)).Add(c.normal.Scale(z))
			seen := besides(s.See(c.place(int(g.Rays)), dir), asked)
			bright := float64(brightness(seen))
			sum += bright
			squares += float64(bright * bright)
			g.Arriving.add(seen, dir)
			g.Rays++
		}
		n := float64(g.Rays)
		mean := sum / n
		g.Err = float32(math.Sqrt(max(squares/n-float64(mean*mean), 0) / n))
		if int(g.Rays) >= sh.least && g.Err <= float32(sh.tolerance*max(known+float32(mean), 1.0/32)) {
			break
		}
	}
	g.Arriving = g.Arriving.scale(1 / float32(g.Rays))
	return g
}
