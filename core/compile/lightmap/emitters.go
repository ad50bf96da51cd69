package lightmap

import (
	"math"
	"slices"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/geom"
)

// emitters are the surfaces that give off light, to be found by place. One is asked directly, as a
// lamp is: rays that go everywhere would seldom meet it, and what they find would be blotches. Only
// one with a pattern is left to those rays where a texel almost touches it: they meet it often
// there. Which of the two it is depends on the place alone, so that nothing is counted twice or not
// at all.
type emitters struct {
	scene *radiance.Scene
	list  []emitter
	tree  *geom.Tree
}

type emitter struct {
	*radiance.Emitter
	middle bvh.Vec
	normal bvh.Vec
	near   float32 // square of the distance from which on it is asked directly
	power  float32
}

// apartFrom is how many times its own size a surface with a pattern must be away to be asked directly.
const apartFrom = 1.25

func emittersOf(s *radiance.Scene) *emitters {
	e := &emitters{scene: s}
	var boxes []geom.Box
	all := s.Emitters()
	for i := range all {
		t := &all[i].Corners
		m := emitter{Emitter: &all[i], middle: t[0].Add(t[1]).Add(t[2]).Scale(1.0 / 3),
			normal: t[1].Sub(t[0]).Cross(t[2].Sub(t[0])).Unit()}
		if !s.Even(m.Emitter) {
			for _, c := range t {
				d := c.Sub(m.middle)
				m.near = max(m.near, d.Dot(d)*apartFrom*apartFrom)
			}
		}
		m.power = s.Brightest(m.Emitter) * m.Area / math.Pi
		e.list = append(e.list, m)
		boxes = append(boxes,
			geom.Box{Min: wide(m.middle), Max: wide(m.middle)}.Grow(math.Sqrt(float64(m.power/faint))))
	}
	e.tree = geom.NewTree(boxes)
	return e
}

// asked are the numbers, from small to large, of the emitters that are asked directly at a place:
// those that are not near and not too faint, and the strongest where they are too many.
func (e *emitters) asked(at bvh.Vec) (list []int) {
	if len(e.list) == 0 {
		return nil
	}
	e.tree.Touching(geom.Box{Min: wide(at), Max: wide(at)}, func(i int) {
		if d := e.list[i].middle.Sub(at); d.Dot(d) > e.list[i].near {
			list = append(list, i)
		}
	})
	return strongest(list, func(i int) float32 {
		d := e.list[i].middle.Sub(at)
		return e.list[i].power / max(d.Dot(d), 1e-4)
	})
}

// direct is the light that comes to a texel straight from the emitters that are asked there: what
// each would bring if nothing were in the way, which is known exactly, times the part of it that
// rays to places all over it find in sight.
func (e *emitters) direct(c *texel, rays int, d *random) (sum arriving) {
	for _, i := range e.asked(c.at) {
		m := &e.list[i]
		if !m.Both && c.at.Sub(m.middle).Dot(m.normal) <= 0 {
			continue
		}
		whole := m.brings(c.at, c.normal)
		if whole <= 0 {
			continue
		}
		shift := [2]float32{d.float(), d.float()}
		var lit, from, low, high bvh.Vec
		weights := float32(0)
		for k := range rays {
			if k == few(rays) && low == high {
				break // it is all in sight, or all hidden
			}
			u, v, to := m.place(k, shift)
			at := c.place(k)
			way := to.Sub(at)
			square := way.Dot(way)
			away := -way.Dot(m.normal)
			if m.Both {
				away = max(away, -away)
			}
			var through bvh.Vec
			if toward := way.Dot(c.normal); toward > 0 && away > 0 {
				through = e.scene.Passes(at, way.Scale(0.999))
				amount := toward * away / (square * square)
				weights += amount
				part := e.scene.Sends(m.Emitter, u, v).Times(through).Scale(amount)
				lit, from = lit.Add(part), from.Add(way.Scale(brightness(part)))
			}
			if k == 0 {
				low, high = through, through
			}
			for j := range 3 {
				low[j], high[j] = min(low[j], through[j]), max(high[j], through[j])
			}
		}
		if lit == (bvh.Vec{}) {
			continue
		}
		sum.add(lit.Scale(whole/weights), from.Unit())
	}
	return sum
}

// place is the k-th of places spread evenly over the emitter: how far it is along the edges from corner 0, and where.
func (m *emitter) place(k int, shift [2]float32) (u, v float32, at bvh.Vec) {
	r := float32(math.Sqrt(float64(lowDiscrepancy(k, 0, shift[0]))))
	v = float32(r * lowDiscrepancy(k, 1, shift[1]))
	u = r - v
	return u, v, m.Corners[0].Add(m.Corners[1].Sub(m.Corners[0]).Scale(u)).Add(m.Corners[2].Sub(m.Corners[0]).Scale(v))
}

// brings is what the emitter would bring to a surface if it gave off 1 everywhere and nothing were
// in the way: of what lies above the surface's horizon, the sum over its edges of the angle that
// each takes up times the part of the edge's normal that points along the surface's (Lambert,
// "Photometria", 1760).
func (m *emitter) brings(at, facing bvh.Vec) float32 {
	normal := wide(facing)
	corners := make(geom.Polygon, 0, 4)
	for _, p := range m.Corners {
		corners = append(corners, wide(p.Sub(at)))
	}
	corners = corners.Clip(geom.Plane{N: normal.Scale(-1)})
	sum := 0.0
	for k, a := range corners {
		b := corners[(k+1)%len(corners)]
		cross, ok := a.Cross(b).Unit()
		if !ok {
			continue
		}
		cos := a.Dot(b) / math.Sqrt(float64(a.Dot(a)*b.Dot(b)))
		angle := math.Acos(min(max(cos, -1), 1))
		// Not all machines find the same last digits of an angle.
		sum += float64(math.Round(angle*1e9) / 1e9 * cross.Dot(normal))
	}
	return float32(math.Abs(sum) / (2 * math.Pi))
}

// besides is what a ray sees besides the glow of emitters that are asked directly.
func besides(seen radiance.Seen, asked []int) bvh.Vec {
	if seen.Emitter != 0 {
		if _, is := slices.BinarySearch(asked, seen.Emitter-1); is {
			return seen.Others
		}
	}
	return seen.Light
}
