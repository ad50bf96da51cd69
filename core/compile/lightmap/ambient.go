package lightmap

import (
	"context"
	"math"

	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

const (
	// apart is how far samples of the light in the air are from each other, in metres, where that is not too many.
	apart = 2.0
	// maxSamples is the most of them; with more the grid becomes coarser.
	maxSamples = 8000
	// above is how far over the highest surface samples go, in metres.
	above = 4.0
	// ambientRays is how many directions a sample asks.
	ambientRays = 64
	// ambientWork is about what all samples cost, in steps.
	ambientWork = maxSamples * ambientRays / 4
)

// sides are the six ways a surface can face: +X -X +Y -Y +Z -Z.
var sides = [6]bvh.Vec{{1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1}, {0, 0, -1}}

// ambient samples the light in the air.
func (b *builder) ambient(ctx context.Context) error {
	box, ok := b.scene.Box()
	if !ok {
		return nil
	}
	size := box.Max.Sub(box.Min)
	size.Z += above
	spacing := apart
	if b.env.Draft {
		spacing *= 2
	}
	a := &mapfile.Ambient{}
	for {
		n := 1.0
		for k := range 3 {
			count := math.Floor(size.At(k)/spacing) + 2
			a.Counts[k] = uint32(min(count, 1<<12))
			n *= count
		}
		if n <= maxSamples {
			break
		}
		spacing *= 1.25
	}
	a.Spacing = float32(spacing)
	for k := range 3 { // the grid lies even about the map
		a.Origin[k] = float32(box.Min.At(k) + float64((size.At(k)-float64(float64(a.Counts[k]-1)*spacing))/2))
	}
	a.Samples = make([][6]mapfile.Light, a.Counts[0]*a.Counts[1]*a.Counts[2])
	b.m.Ambient = a
	return b.work.Once(stage.Key(b.key, "ambient", a.Origin, a.Spacing), b.work.Left(),
		func(data []byte) bool { return unpack(data, a.Samples) }, func() ([]byte, error) {
			err := b.sample(ctx, a)
			return pack(a.Samples), err
		})
}

// air is the light at a sample before those in solids take that of their neighbours.
type air struct {
	Light  [6]bvh.Vec
	Inside bool // it lies in a solid, where there is none
}

// sample asks for the light at every place of the grid.
func (b *builder) sample(ctx context.Context, a *mapfile.Ambient) error {
	n := len(a.Samples)
	raw := make([]air, n)
	work := parts(raw, 0, 8, b.work.Left()/int64(n),
		func(int) string { return stage.Key(b.key, "air", a.Origin, a.Spacing) }, func(i int) {
			raw[i].Light, raw[i].Inside = b.air(a, i)
		})
	work.Passing = true
	err := b.work.Parts(ctx, work)
	for i := range raw {
		v := raw[i].Light
		if raw[i].Inside {
			v = around(a, raw, i)
		}
		for k := range v {
			a.Samples[i][k] = mapfile.PackLight(v[k])
		}
	}
	return err
}

// air is the light at a sample, on each side; inside says that it lies in a solid.
func (b *builder) air(a *mapfile.Ambient, i int) (sum [6]bvh.Vec, inside bool) {
	x, y, z := i%int(a.Counts[0]), i/int(a.Counts[0])%int(a.Counts[1]), i/int(a.Counts[0]*a.Counts[1])
	at := bvh.Vec(a.Origin).Add(bvh.Vec{float32(x), float32(y), float32(z)}.Scale(a.Spacing))
	d := newRandom(at, 2000)
	shift := [2]float32{d.float(), d.float()}
	var weights [6]float32
	asked := b.lamps.glowing.asked(at)
	behind := 0
	for k := range ambientRays {
		dir := sampleSphere(lowDiscrepancy(k, 0, shift[0]), lowDiscrepancy(k, 1, shift[1]))
		seen := b.scene.See(at, dir)
		bright := besides(seen, asked) // light of the sky and of surfaces
		if seen.Behind {
			behind++
		}
		for s, n := range sides {
			if cos := n.Dot(dir); cos > 0 {
				sum[s] = sum[s].Add(bright.Scale(cos))
				weights[s] += cos
			}
		}
	}
	for s := range sum {
		sum[s] = sum[s].Scale(1 / weights[s])
	}
	b.lamps.inAir(b.scene, at, asked, &d, &sum)
	return sum, behind > ambientRays/2
}

// airRays is how many rays to each lamp say how much of it a place in the air gets.
const airRays = 4

// inAir adds what comes straight from lamps, the sun and the emitters that are asked to the six
// sides of a place in the air. How much of each is in sight is asked once, for all sides.
func (l *lamps) inAir(s *radiance.Scene, at bvh.Vec, asked []int, d *random, sum *[6]bvh.Vec) {
	c := texel{at: at}
	add := func(through bvh.Vec, amount func(side bvh.Vec) float32) {
		if through == (bvh.Vec{}) {
			return
		}
		for k, side := range sides {
			sum[k] = sum[k].Add(through.Scale(max(amount(side), 0)))
		}
	}
	for _, i := range l.near(at) {
		lamp := &l.list[i]
		part := l.part(airRays, lamp.radius > 0, &c, d, s, lamp.toward())
		add(lamp.power.Times(part), func(side bvh.Vec) float32 { amount, _ := lamp.brings(at, side); return amount })
	}
	if l.sunLight != (bvh.Vec{}) {
		add(l.sunLight.Times(l.part(airRays, l.disc > 0, &c, d, s, l.towardSun())), l.sun.Dot)
	}
	for _, i := range asked {
		m := &l.glowing.list[i]
		if !m.Both && at.Sub(m.middle).Dot(m.normal) <= 0 {
			continue
		}
		add(l.glowing.seen(m, at, d), func(side bvh.Vec) float32 { return m.brings(at, side) })
	}
}

// seen is what an emitter gives off toward a place, as far as it is in sight.
func (e *emitters) seen(m *emitter, at bvh.Vec, d *random) (sum bvh.Vec) {
	shift := [2]float32{d.float(), d.float()}
	for k := range airRays {
		u, v, to := m.place(k, shift)
		sum = sum.Add(e.scene.Sends(m.Emitter, u, v).Times(e.scene.Passes(at, to.Sub(at).Scale(0.999))))
	}
	return sum.Scale(1.0 / airRays)
}

// around is the mean of the neighbours of a sample that are not in solids, or darkness.
func around(a *mapfile.Ambient, raw []air, i int) (sum [6]bvh.Vec) {
	n := float32(0)
	step := 1
	for k := range 3 {
		at := i / step % int(a.Counts[k])
		for _, d := range [2]int{-1, 1} {
			if j := i + d*step; at+d >= 0 && at+d < int(a.Counts[k]) && !raw[j].Inside {
				n++
				for s := range sum {
					sum[s] = sum[s].Add(raw[j].Light[s])
				}
			}
		}
		step *= int(a.Counts[k])
	}
	for s := range sum {
		sum[s] = sum[s].Scale(1 / max(n, 1))
	}
	return sum
}

// Key is a hash of all of a map that decides its light; the looks of its materials and the picture
// of its sky come in addition.
func Key(m *mapfile.Map) string {
	var lights []mapfile.Object
	for _, o := range m.Objects {
		if o.Kind == "light" {
			o.Name = ""
			lights = append(lights, o)
		}
	}
	return stage.Key(m.Vertices, m.Indices, m.Faces, m.Terrains, m.Models, m.Props, m.Grids, m.Legend, m.Meta.Sky,
		m.Meta.Luxels, m.Meta.Sealed, lights)
}
