package lightmap

import (
	"cmp"
	"math"
	"slices"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
)

const (
	// faint is light that nobody sees; a lamp is asked no further than it brings more.
	faint = 1.0 / 2048
	// crowd is the most lamps that light one place: the strongest there.
	crowd = 64
)

// lamp is a light that is somewhere.
type lamp struct {
	at     bvh.Vec
	power  bvh.Vec // radiant intensity by pi: what falls on a white surface a metre away, as it sends it
	radius float32
	reach  float32
	aimed  bool
	look   bvh.Vec
	inner  float32 // cosines of half the cone, all of the light and none
	outer  float32
}

// lamps are all the lights of a map, to be found by place.
type lamps struct {
	list []lamp
	tree *geom.Tree

	glowing *emitters

	sun      bvh.Vec // toward it
	sunLight bvh.Vec // on a surface that faces it; nothing without a sun
	disc     float32 // the tangent of half its width
}

// lampsOf finds the lights of a map, and, where there is a scene of it, the surfaces that give off light.
func lampsOf(m *mapfile.Map, s *radiance.Scene) *lamps {
	l := &lamps{}
	if s != nil {
		l.glowing = emittersOf(s)
	}
	var boxes []geom.Box
	for _, o := range m.Objects {
		if o.Kind != "light" || !(o.Value > 0) {
			continue
		}
		// The power is radiated over the sphere, 4 pi; a white surface sends the light on over pi.
		p := radiance.Linear(o.Colour).Scale(o.Value / float32(4*math.Pi*math.Pi))
		lamp := lamp{at: o.A, power: p, radius: o.Radius,
			reach: float32(math.Sqrt(float64(max(p[0], p[1], p[2]) / faint)))}
		if o.Flags&2 != 0 {
			lamp.aimed, lamp.look = true, bvh.Vec(o.B).Sub(o.A).Unit()
			_, cos := geom.Turn(float64(o.Angle) / 2)
			_, in := geom.Turn(float64(o.Angle) / 2 * 0.8)
			lamp.inner, lamp.outer = float32(in), float32(cos)
		}
		l.list = append(l.list, lamp)
		boxes = append(boxes, geom.Box{Min: wide(o.A), Max: wide(o.A)}.Grow(float64(lamp.reach)))
	}
	l.tree = geom.NewTree(boxes)
	if s := m.Meta.Sky; s != nil && s.Power > 0 {
		sinE, cosE := geom.Turn(s.Elevation)
		sinA, cosA := geom.Turn(s.Azimuth)
		l.sun = bvh.Vec{float32(cosE * sinA), float32(cosE * cosA), float32(sinE)}
		l.sunLight = radiance.Linear(s.Colour).Scale(float32(s.Power / math.Pi))
		sin, cos := geom.Turn(s.Disc / 2)
		l.disc = float32(sin / cos)
	}
	return l
}

func wide(v bvh.Vec) geom.Vec { return geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])} }

// brings is what a lamp brings to a place where nothing is in the way, and the way to it.
func (l *lamp) brings(at, normal bvh.Vec) (amount float32, way bvh.Vec) {
	way = l.at.Sub(at)
	square := way.Dot(way)
	length := float32(math.Sqrt(float64(square)))
	if length > l.reach || length < 1e-6 {
		return 0, way
	}
	cos := way.Dot(normal) / length
	if cos <= 0 {
		return 0, way
	}
	amount = cos / max(square, float32(l.radius*l.radius), 1e-4)
	if l.aimed {
		c := -way.Dot(l.look) / length
		if c <= l.outer {
			return 0, way
		}
		if c < l.inner {
			t := (c - l.outer) / (l.inner - l.outer)
			amount *= float32(t*t) * (3 - 2*t)
		}
	}
	return amount, way
}

// arriving is light as it comes together at a place.
type arriving struct {
	Light  bvh.Vec
	Toward bvh.Vec // where it comes from, as much as it is
}

func (a *arriving) add(light, from bvh.Vec) {
	a.Light = a.Light.Add(light)
	a.Toward = a.Toward.Add(from.Scale(brightness(light)))
}

func (a arriving) scale(f float32) arriving { return arriving{a.Light.Scale(f), a.Toward.Scale(f)} }

// brightness is how bright light looks (ITU-R BT.709).
func brightness(c bvh.Vec) float32 { return c.Dot(bvh.Vec{0.2126, 0.7152, 0.0722}) }

// direct is the light that comes straight from lamps, the sun and what is asked of the surfaces
// that give off light. rays is about how many are asked of each that is soft.
func (l *lamps) direct(s *radiance.Scene, c *texel, rays int) (sum arriving) {
	d := newRandom(c.at, 0)
	for _, i := range l.near(c.at) {
		lamp := &l.list[i]
		amount, way := lamp.brings(c.at, c.normal)
		if amount <= 0 {
			continue
		}
		part := l.part(worth(rays, amount*brightness(lamp.power)), lamp.radius > 0, c, &d, s, lamp.toward())
		if lit := lamp.power.Times(part).Scale(amount); lit != (bvh.Vec{}) {
			sum.add(lit, way.Unit())
		}
	}
	if cos := l.sun.Dot(c.normal); cos > 0 && l.sunLight != (bvh.Vec{}) {
		part := l.part(rays, l.disc > 0, c, &d, s, l.towardSun())
		if lit := l.sunLight.Times(part).Scale(cos); lit != (bvh.Vec{}) {
			sum.add(lit, l.sun)
		}
	}
	glow := l.glowing.direct(c, rays, &d)
	return arriving{sum.Light.Add(glow.Light), sum.Toward.Add(glow.Toward)}
}

// toward gives ways to places all over the lamp.
func (l *lamp) toward() func(at bvh.Vec, u, v float32) bvh.Vec {
	return func(at bvh.Vec, u, v float32) bvh.Vec {
		to := l.at
		if l.radius > 0 {
			to = to.Add(sampleSphere(u, v).Scale(l.radius))
		}
		return to.Sub(at)
	}
}

// towardSun gives ways to places all over the sun.
func (l *lamps) towardSun() func(at bvh.Vec, u, v float32) bvh.Vec {
	a, b := l.sun.Frame()
	return func(_ bvh.Vec, u, v float32) bvh.Vec {
		x, y := sampleDisc(u, v)
		return l.sun.Add(a.Scale(x * l.disc)).Add(b.Scale(y * l.disc)).Scale(1e5)
	}
}

// place is the k-th place over a texel that rays begin at: its corners in turns.
func (c *texel) place(k int) bvh.Vec {
	if c.a == (bvh.Vec{}) {
		return c.at
	}
	return c.at.Add(c.a.Scale(float32(k&1)*2 - 1)).Add(c.b.Scale(float32(k>>1&1)*2 - 1))
}

// worth is how many of so many rays a light is worth that brings no more than this.
func worth(rays int, brings float32) int {
	switch {
	case brings > 1.0/32:
		return rays
	case brings > 1.0/256:
		return max(rays/2, 4)
	}
	return 4
}

// few is how many rays are asked before one looks whether all agree.
func few(rays int) int { return min(rays, max(2, rays/8)) }

// part is how much of a light comes through, by colour: the mean of rays from places over the
// texel, to places that way gives for points of the unit square. Where the first few all agree, no
// more are asked.
func (l *lamps) part(rays int, soft bool, c *texel, d *random, s *radiance.Scene,
	way func(at bvh.Vec, u, v float32) bvh.Vec) bvh.Vec {
	first := few(rays)
	if !soft && c.a == (bvh.Vec{}) {
		rays, first = 1, 1
	}
	var sum, low, high bvh.Vec
	shift := [2]float32{d.float(), d.float()}
	for i := range rays {
		if i == first && low == high {
			return sum.Scale(1 / float32(first))
		}
		at := c.place(i) // and points that fill the square, the same everywhere but for a shift
		through := s.Passes(at, way(at, lowDiscrepancy(i, 0, shift[0]), lowDiscrepancy(i, 1, shift[1])))
		sum = sum.Add(through)
		if i == 0 {
			low, high = through, through
		}
		for k := range 3 {
			low[k], high[k] = min(low[k], through[k]), max(high[k], through[k])
		}
	}
	return sum.Scale(1 / float32(rays))
}

// near are the lamps that reach a place, the strongest where they are too many.
func (l *lamps) near(at bvh.Vec) []int {
	var list []int
	l.tree.Touching(geom.Box{Min: wide(at), Max: wide(at)}, func(i int) { list = append(list, i) })
	return strongest(list, func(i int) float32 {
		d := l.list[i].at.Sub(at)
		return brightness(l.list[i].power) / max(d.Dot(d), 1e-4)
	})
}

// strongest sorts a list, and keeps of a long one those that bring most.
func strongest(list []int, brings func(i int) float32) []int {
	if len(list) > crowd {
		type lamp struct {
			i      int
			amount float32
		}
		best := make([]lamp, 0, crowd+1) // the strongest first
		slices.Sort(list)
		for _, i := range list {
			l := lamp{i, brings(i)}
			if len(best) == crowd && l.amount <= best[crowd-1].amount {
				continue
			}
			at, _ := slices.BinarySearchFunc(best, l,
				func(a, b lamp) int { return cmp.Or(cmp.Compare(b.amount, a.amount), a.i-b.i) })
			best = slices.Insert(best, at, l)
			best = best[:min(len(best), crowd)]
		}
		list = list[:0]
		for _, l := range best {
			list = append(list, l.i)
		}
	}
	slices.Sort(list)
	return list
}
