package render

import (
	"math"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

// eye follows rays for one goroutine.
type eye struct {
	s     *Scene
	what  Shown
	sharp float32          // levels of mips by which textures are asked sharper, since a pixel has several samples
	soft  []radiance.Found // room
	cut   *cut             // what is taken away of the map; nil: nothing
	hash  uint32           // of the sample
}

const (
	far       = 1e7 // metres, as good as endless
	maxBounce = 3   // how often a ray is mirrored
	maxSpread = 0.5 // metres a metre: what is mirrored roughly is asked as if it were this much blurred
	// maxGlint bounds what is mirrored, so that few bright spots found by chance do not speckle rough surfaces.
	maxGlint = 4
)

// see is the light that comes along a ray. spread is how wide it becomes a metre, width how wide it is, in metres.
func (e *eye) see(from, dir bvh.Vec, spread, width float32, bounce int) bvh.Vec {
	s, first, limit := e.s, len(e.soft), float32(far)
	p, hit, list := s.light.Look(from, dir, far, e.cut != nil, e.soft)
	if hit {
		limit = p.Distance
	}
	e.soft = list
	if e.what == OnlyLight {
		e.soft = list[:first]
	}
	soft := e.soft[first:]
	var c bvh.Vec
	if hit {
		c = e.shade(&p, from, dir, spread, width, bounce)
		if e.cut == nil {
			c = s.hazed(c, p.Distance)
		}
	} else if e.cut != nil {
		c = e.cut.paper
	} else {
		c = s.sky(dir)
	}
	for i := len(soft) - 1; i >= 0; i-- { // from the farthest to the nearest
		c = e.through(soft, i, c, limit, from, dir, spread, width, bounce)
	}
	e.soft = e.soft[:first]
	return c
}

// through is what comes through a soft surface, c being what lies behind it, and what it adds itself.
func (e *eye) through(soft []radiance.Found, i int, c bvh.Vec, limit float32, from, dir bvh.Vec, spread, width float32,
	bounce int) bvh.Vec {
	p := &soft[i]
	k := e.s.skins[p.Material]
	v := e.view(p, k, from, dir, spread, width)
	alpha := v.colour[3]
	own := v.own()
	if k.murk > 0 {
		if p.Behind && i == 0 { // the eye itself is in it
			return e.murky(c, own, k, p.Distance)
		}
		if !p.Behind {
			end := limit
			for j := i + 1; j < len(soft); j++ {
				if soft[j].Material == p.Material && soft[j].Behind {
					end = soft[j].Distance
					break
				}
			}
			c = e.murky(c, own, k, end-p.Distance)
		}
	}
	if p.Behind && k.murk > 0 {
		return c // it is seen from within: only its depth counts
	}
	left, tint := 1-alpha, min(2*alpha, 1)
	for k := range c {
		c[k] = float32(c[k] * left * (1 - float32(tint*(1-v.colour[k]))))
	}
	if p.Behind && !k.doubleSided {
		return c
	}
	if e.cut == nil {
		own = e.s.hazed(own, p.Distance)
	}
	c = c.Add(own.Scale(alpha)).Add(v.glow)
	part, seen := e.mirrored(&v, k, from, dir, p.Distance, spread, width, bounce)
	if part > 0 && e.cut == nil { // what it mirrors comes through the fog before it too
		seen = e.s.hazed(seen, p.Distance)
	}
	return c.Scale(1 - part).Add(seen.Scale(part))
}

// murky is what is left of light that came a way through murk, which has a colour of its own.
func (e *eye) murky(c, own bvh.Vec, k *skin, metres float32) bvh.Vec {
	left := exp(-3 * metres / k.murk)
	return c.Scale(left).Add(own.Scale(1 - left))
}

// shade is the light that an opaque surface sends towards the eye.
func (e *eye) shade(p *radiance.Found, from, dir bvh.Vec, spread, width float32, bounce int) bvh.Vec {
	k := e.s.skins[p.Material]
	if p.Behind && !k.doubleSided {
		if e.cut != nil {
			return e.cut.section
		}
		return bvh.Vec{}
	}
	if e.what == OnlyLight {
		return e.s.light.On(p)
	}
	v := e.view(p, k, from, dir, spread, width)
	part, seen := e.mirrored(&v, k, from, dir, p.Distance, spread, width, bounce)
	return v.own().Add(v.glow).Scale(1 - part).Add(seen.Scale(part))
}

// mirrored is what a surface mirrors, and which part of its light that is: the larger, the flatter
// one looks at it (Schlick 1994).
func (e *eye) mirrored(v *view3, k *skin, from, dir bvh.Vec, distance, spread, width float32, bounce int) (part float32,
	seen bvh.Vec) {
	part = float32(k.reflection * v.gloss)
	if part <= 0 || bounce >= maxBounce || e.what != All {
		return 0, seen
	}
	ahead := dir.Unit()
	n := v.bent
	if k.roughness > 0 && bounce == 0 {
		n = e.roughened(n, k.roughness)
	}
	facing := -ahead.Dot(n)
	if facing <= 0.02 {
		n, facing = v.normal, max(-ahead.Dot(v.normal), 0)
	}
	q := 1 - facing
	q = float32(q * q * q * q * q)
	part += float32((max(1-k.roughness, part) - part) * q)
	back := ahead.Add(n.Scale(2 * facing))
	if back.Dot(v.normal) <= 0.01 { // a bent normal must not mirror what is inside
		back = back.Add(v.normal.Scale(0.02 - back.Dot(v.normal)))
	}
	at := from.Add(dir.Scale(distance))
	lift := 1e-3 + float32(1e-5*distance)
	seen = e.see(at.Add(v.normal.Scale(lift)), back.Unit(), spread+min(k.roughness*k.roughness, maxSpread),
		width+float32(spread*distance*dir.Length()), bounce+1)
	for i := range seen {
		seen[i] = min(seen[i], maxGlint)
	}
	return part, seen
}

// roughened is one of the normals that a rough surface has in the small (GGX, Walter and others
// 2007), another in each sample.
func (e *eye) roughened(n bvh.Vec, roughness float32) bvh.Vec {
	a := float64(roughness) * float64(roughness)
	x, y := e.chance(), e.chance()
	tan2 := float64(a * a * x / (1 - x))
	cos := 1 / math.Sqrt(1+tan2)
	sin := math.Sqrt(max(1-float64(cos*cos), 0))
	t, b := n.Frame()
	phi := 2 * math.Pi * y
	return t.Scale(float32(sin * math.Cos(phi))).Add(b.Scale(float32(sin * math.Sin(phi)))).Add(n.Scale(float32(cos)))
}

// chance is a number from 0 up to 1 that only the sample decides.
func (e *eye) chance() float64 {
	e.hash = scramble(e.hash + 0x9e3779b9)
	return float64(float64(e.hash>>8) / (1 << 24))
}

func scramble(x uint32) uint32 {
	x ^= x >> 16
	x *= 0x7feb352d
	x ^= x >> 15
	x *= 0x846ca68b
	return x ^ x>>16
}

// view3 is a place of a surface as it is seen.
type view3 struct {
	colour       [4]float32
	on, glow     bvh.Vec
	normal, bent bvh.Vec // the surface's, towards the eye, and as the normal map has it
	gloss        float32 // factor on what is mirrored
}

// own is the light that lies on it and is sent on.
func (v *view3) own() bvh.Vec { return bvh.Vec(v.colour[:3]).Times(v.on) }

// view looks at a place.
func (e *eye) view(p *radiance.Found, k *skin, from, dir bvh.Vec, spread, width float32) (v view3) {
	s := e.s
	a, b, c := p.Corners[0], p.Corners[1], p.Corners[2]
	e1, e2 := b.Sub(a), c.Sub(a)
	cross := e1.Cross(e2)
	square := max(cross.Dot(cross), 1e-30)
	plain := cross.Unit()
	if plain.Dot(dir) > 0 { // mirrored props, and backs
		plain = plain.Scale(-1)
	}
	v.normal, v.gloss = plain, 1
	v.on = s.light.On(p)
	switch {
	case k.unlit || e.what == OnlyPaint:
		v.on = bvh.Vec{1, 1, 1}
	case e.cut != nil: // who builds wants to see dark corners too
		v.on = v.on.Scale(0.6).Add(workLight(plain))
	}
	// How fast the texture's coordinates grow along the surface.
	var gu, gv bvh.Vec
	var f footprint
	if p.Kind == radiance.OnTerrain {
		t := &s.Map.Terrains[p.Owner]
		at := from.Add(dir.Scale(p.Distance))
		f.u, f.v = at[0], -at[1] // in metres; by the layer's repeat below
		gu, gv = bvh.Vec{1, 0, 0}, bvh.Vec{0, -1, 0}
		e.spread(&f, p, plain, dir, gu, gv, spread, width)
		v.colour = s.ground(p, t, k, &f, e.sharp)
		if k.glow != nil {
			v.glow = bvh.Vec(first3(k.glow.over(&f, 1/t.Repeat, e.sharp))).Scale(k.glowPower)
		}
		v.bent = plain
		if k.normal != nil {
			r := 1 / t.Repeat
			v.bend(e, p, k.normal.over(&f, r, e.sharp), gu, gv, from.Add(dir.Scale(p.Distance)))
		}
		return v
	}
	vs := s.Map.Vertices
	ua, ub, uc := &vs[p.Vertex[0]].UV, &vs[p.Vertex[1]].UV, &vs[p.Vertex[2]].UV
	w := 1 - p.U - p.V
	f.u = float32(w*ua[0]) + float32(p.U*ub[0]) + float32(p.V*uc[0])
	f.v = float32(w*ua[1]) + float32(p.U*ub[1]) + float32(p.V*uc[1])
	side1, side2 := e2.Cross(cross).Scale(1/square), cross.Cross(e1).Scale(1/square)
	gu = side1.Scale(ub[0] - ua[0]).Add(side2.Scale(uc[0] - ua[0]))
	gv = side1.Scale(ub[1] - ua[1]).Add(side2.Scale(uc[1] - ua[1]))
	e.spread(&f, p, plain, dir, gu, gv, spread, width)
	v.colour = k.over(&f, e.sharp)
	if k.glow != nil {
		v.glow = bvh.Vec(first3(k.glow.over(&f, 1, e.sharp))).Scale(k.glowPower)
	}
	if k.mask != nil {
		v.gloss = k.mask.over(&f, 1, e.sharp)[0]
	}
	v.bent = plain
	if k.normal == nil && k.reflection == 0 {
		return v
	}
	// Round bodies are made of flat triangles; their normals tell how round.
	round := vs[p.Vertex[0]].Normal
	second, third := bvh.Vec(vs[p.Vertex[1]].Normal), bvh.Vec(vs[p.Vertex[2]].Normal)
	n := bvh.Vec(round).Scale(w).Add(second.Scale(p.U)).Add(third.Scale(p.V))
	if p.Kind == radiance.OnProp {
		n = radiance.PlaceNormal(&s.Map.Props[p.Owner], n.Unit())
	}
	if n = n.Unit(); n.Dot(plain) < 0 {
		n = n.Scale(-1)
	}
	if n.Dot(plain) > 0.5 && -n.Dot(dir) > 0 {
		v.bent = n
	}
	if k.normal != nil {
		v.bend(e, p, k.normal.over(&f, 1, e.sharp), gu, gv, from.Add(dir.Scale(p.Distance)))
	}
	return v
}

// workLight is even light in which one tells the sides of things apart, of a surface with a normal.
func workLight(n bvh.Vec) bvh.Vec {
	part := 0.3 + float32(0.25*max(n.Dot(bvh.Vec{-0.36, -0.48, 0.8}), 0))
	return bvh.Vec{part, part, part}
}

func first3(c [4]float32) [3]float32 { return [3]float32{c[0], c[1], c[2]} }

// over is a skin's colour and alpha over a footprint, with its detail.
func (k *skin) over(f *footprint, sharp float32) [4]float32 {
	c := k.plain
	if k.colour != nil {
		c = k.colour.over(f, 1, sharp)
	}
	if k.detail != nil {
		d := k.detail.over(f, k.detailRepeat, sharp)
		for i := range 3 { // from afar it is its own mean, and changes nothing
			c[i] = min(c[i]*(1+float32(k.detailStrength*(d[i]/k.detailMean[i]-1))), 1)
		}
	}
	return c
}

// ground is the colour of a terrain, layer over layer. The footprint is in metres.
func (s *Scene) ground(p *radiance.Found, t *mapfile.Terrain, base *skin, f *footprint, sharp float32) [4]float32 {
	of := func(k *skin, repeat float32) [4]float32 {
		g := footprint{f.u / repeat, f.v / repeat, f.du / repeat, f.dv / repeat,
			[2]float32{f.minor[0] / repeat, f.minor[1] / repeat}}
		return k.over(&g, sharp)
	}
	c := of(base, t.Repeat)
	for i, number := range s.light.Layers(p.Owner) {
		l := &t.Layers[i]
		part := (float32((1-p.U-p.V)*float32(l.Weights[p.Vertex[0]])) + float32(p.U*float32(l.Weights[p.Vertex[1]])) +
			float32(p.V*float32(l.Weights[p.Vertex[2]]))) / 255
		if part > 0 {
			over := of(s.skins[number], l.Repeat)
			for k := range c {
				c[k] += float32((over[k] - c[k]) * part)
			}
		}
	}
	return c
}

// spread finds what part of a texture a sample covers: round across the ray, longer the flatter it comes in.
func (e *eye) spread(f *footprint, p *radiance.Found, n, dir, gu, gv bvh.Vec, spread, width float32) {
	length := dir.Length()
	w := width + float32(spread*p.Distance*length)
	ahead := dir.Scale(1 / length)
	facing := max(-ahead.Dot(n), 0.02)
	along := ahead.Add(n.Scale(facing)) // the ray's way along the surface
	if l := along.Length(); l > 1e-4 {
		along = along.Scale(1 / l)
	} else {
		along, _ = n.Frame()
	}
	aside := n.Cross(along)
	long := along.Scale(w / facing)
	f.du, f.dv = gu.Dot(long), gv.Dot(long)
	f.minor = [2]float32{gu.Dot(aside) * w, gv.Dot(aside) * w}
}

// bend takes a normal map's normal into account: for what is mirrored, and for the light that lies
// on the place, which came from some sides more than from others.
func (v *view3) bend(e *eye, p *radiance.Found, c [4]float32, gu, gv, at bvh.Vec) {
	n := v.bent
	right := gu.Sub(n.Scale(gu.Dot(n))).Unit()
	up := gv.Sub(n.Scale(gv.Dot(n))).Unit().Scale(-1)
	bent := right.Scale(2*c[0] - 1).Add(up.Scale(2*c[1] - 1)).Add(n.Scale(2*c[2] - 1)).Unit()
	if !(bent.Dot(v.normal) > 0) {
		return
	}
	v.bent = bent
	if toward := e.s.light.Toward(p); p.Kind == radiance.OnFace {
		if l := toward.Length(); l > 1e-3 {
			d := toward.Scale(1 / l)
			l = min(l, 1)
			v.on = v.on.Scale(max(1-l+float32(l*bent.Dot(d)/max(n.Dot(d), 0.1)), 0))
		}
		return
	}
	whole, now := e.s.air(at, n), e.s.air(at, bent)
	for k := range v.on {
		if whole[k] > 1e-4 {
			v.on[k] *= min(now[k]/whole[k], 4)
		}
	}
}

// air is the light in the air that would fall on a surface with a normal, mixed of the samples around.
func (s *Scene) air(at, n bvh.Vec) (sum bvh.Vec) {
	a := s.Map.Ambient
	if a == nil || len(a.Samples) == 0 {
		return bvh.Vec{}
	}
	var low [3]int
	var part [3]float32
	for k := range low {
		f := min(max((at[k]-a.Origin[k])/a.Spacing, 0), float32(a.Counts[k]-1))
		low[k] = min(int(f), max(int(a.Counts[k])-2, 0))
		part[k] = f - float32(low[k])
	}
	for corner := range 8 {
		weight, at := float32(1), [3]int{}
		for k := range low {
			if corner>>k&1 == 1 {
				at[k], weight = min(low[k]+1, int(a.Counts[k])-1), weight*part[k]
			} else {
				at[k], weight = low[k], weight*(1-part[k])
			}
		}
		if weight == 0 {
			continue
		}
		sides := &a.Samples[(at[2]*int(a.Counts[1])+at[1])*int(a.Counts[0])+at[0]]
		for k, c := range n { // the squares of a unit normal's parts are weights
			side := 2 * k
			if c < 0 {
				side++
			}
			sum = sum.Add(bvh.Vec(sides[side].Colours()).Scale(weight * c * c))
		}
	}
	return sum
}
