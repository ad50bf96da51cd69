package lightmap

import (
	"math"
	"sync"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/geom"
)

// dice are numbers that look random and are the same for the same place (splitmix64).
type dice uint64

func newDice(at bvh.Vec, pass int) dice {
	d := dice(pass) + 1
	for _, c := range at {
		// Rounded, so that a place that two faces come to by different sums rolls the same.
		d = (d ^ dice(int64(math.Round(float64(c)*4096)))) * 0x9e3779b97f4a7c15
		d ^= d >> 29
	}
	return d
}

func (d *dice) roll() uint64 {
	*d += 0x9e3779b97f4a7c15
	z := uint64(*d)
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// next is from 0 to below 1.
func (d *dice) next() float32 { return float32(d.roll()>>40) / (1 << 24) }

// spread is a coordinate of the i-th point of a sequence that fills the square evenly, shifted:
// multiples of the inverses of the plastic number and of its square.
func spread(i, k int, shift float32) float32 {
	step := [2]uint64{0xc13fa9a902a6328f, 0x91e10da5c79e7b1c}[k]
	f := float32(float32(uint64(i)*step>>40)/(1<<24)) + shift
	if f >= 1 {
		f--
	}
	return f
}

// turns are sines and cosines of a circle's parts.
var turns = sync.OnceValue(func() [][2]float32 {
	list := make([][2]float32, 1<<12)
	for i := range list {
		sin, cos := geom.Turn(360 * float64(i) / float64(len(list)))
		list[i] = [2]float32{float32(sin), float32(cos)}
	}
	return list
})

// disc is a point of the unit disc for one of the unit square; equal areas stay equal.
func disc(u, v float32) (x, y float32) {
	t := turns()[int(v*(1<<12))&(1<<12-1)]
	r := float32(math.Sqrt(float64(u)))
	return r * t[1], r * t[0]
}

// ball is a point of the unit sphere.
func ball(u, v float32) bvh.Vec {
	z := 1 - 2*u
	t := turns()[int(v*(1<<12))&(1<<12-1)]
	r := float32(math.Sqrt(float64(max(1-float32(z*z), 0))))
	return bvh.Vec{r * t[1], r * t[0], z}
}

// batch is how many rays are sent before the error is looked at.
const batch = 32

// share is what a luxel may cost, and how well it must be known.
type share struct {
	least, most int
	tolerance   float32 // the standard error of the mean, as a part of the mean
}

// gathered is what comes to a luxel from everywhere, and how well that is known.
type gathered struct {
	Arriving arriving
	Err      float32 // the standard error of its brightness
	Rays     int32
}

// gather asks what is seen from a luxel in directions that are as many as Lambert's law weighs
// them, so that their mean is the light on a surface, but for what was asked directly. known is
// what lies there already, against which an error is small or not.
func gather(s *radiance.Scene, e *emitters, c *luxel, pass int, sh share, known float32) (g gathered) {
	asked := e.asked(c.at)
	d := newDice(c.at, pass)
	shift := [2]float32{d.next(), d.next()}
	a, b := c.normal.Frame()
	var sum, squares float64
	for int(g.Rays) < sh.most {
		for range batch {
			x, y := disc(spread(int(g.Rays), 0, shift[0]), spread(int(g.Rays), 1, shift[1]))
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
