package lightmap

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"

	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

// Version is raised whenever the same map would be lit with other bytes.
const Version = 4

// Options for Build.
type Options struct {
	// Density gives the texels a metre that a material asks for, 0 for none.
	Density func(material string) float64
	// Unseen says by face whether nobody ever sees it: such a face gets no light; nil: all may be seen.
	Unseen []bool
	// Key is a hash of all that decides what the scene looks like to light.
	Key string
}

func (o *Options) unseen(face int) bool { return face < len(o.Unseen) && o.Unseen[face] }

// Result is what lighting has to say.
type Result struct {
	Luxels  int
	Rays    int64 // of the last gathering
	Bounces int
	// Coarser are faces that are too large for the texels that they should have.
	Coarser []int
}

// TooLarge is the error when the stage would need more memory than it may have.
type TooLarge struct {
	Luxels       int
	Need, Budget int64
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("lighting %d luxels needs about %d MB of memory, and may have %d MB", e.Luxels, e.Need>>20,
		e.Budget>>20)
}

// perLuxel is about what a texel takes of memory, in bytes.
const perLuxel = 260

// quality is how well a map is lit.
type quality struct {
	direct  int    // rays to each soft lamp
	between budget // for all passes but the last
	last    budget
	bounces int
	filters int
}

// bounce is about what a texel costs in a pass, in steps: less than half of them are asked.
func (q *quality) bounce() int64 { return int64(q.between.least) * 2 / 5 }

// expected is about how many passes there will be before the last.
func (q *quality) expected() int { return min(q.bounces-1, 6) }

func qualityOf(draft bool) quality {
	if draft {
		return quality{direct: 8, between: budget{32, 32, 1}, last: budget{32, 64, 0.1}, bounces: 2, filters: 2}
	}
	return quality{direct: 64, between: budget{32, 32, 1}, last: budget{64, 256, 0.08}, bounces: 32, filters: 5}
}

// settled is the change, as a part of the light, below which further bounces are not worth it.
const settled = 0.004

// block is how many texels of the last gathering are kept together.
const block = 1 << 14

// Build lights a map. The scene is of the same map; when Build returns, its Lit is the map's light.
func Build(ctx context.Context, e *stage.Env, m *mapfile.Map, s *radiance.Scene, o Options) (*Result, error) {
	if o.Density == nil {
		o.Density = func(string) float64 { return 0 }
	}
	if err := afford(e, m, o); err != nil {
		return nil, err
	}
	b := &builder{env: e, m: m, scene: s.Coarse(), lamps: lampsOf(m, s), q: qualityOf(e.Draft)}
	b.layout = lay(m, s, o, e.Draft)
	n := len(b.layout.texels)
	if need := int64(n) * perLuxel; !e.Afford(need) {
		return nil, &TooLarge{n, need, e.Budget()}
	}
	b.result = &Result{Luxels: n, Coarser: b.layout.coarser}
	b.key = stage.Key(stage.Lighting, Version, e.How(), o.Key, n)
	gathers := s.Glows() || m.Meta.Sky != nil && m.Meta.Sky.Glow > 0 || b.lamps.sunLight != bvh.Vec{} ||
		len(b.lamps.list) > 0
	passes := int64(0)
	if gathers {
		passes = int64(b.q.expected())*b.q.bounce() + int64(b.q.last.least)*2
	}
	b.asking = b.straightCost()
	b.work = e.Begin(stage.Lighting, int64(n)*(passes+b.asking)+ambientWork)
	if err := b.direct(ctx); err != nil {
		return nil, err
	}
	b.scene.Lit = b.empty()
	b.place(b.straight, nil)
	if gathers {
		if err := b.bounce(ctx); err != nil {
			return nil, err
		}
		if err := b.last(ctx); err != nil {
			return nil, err
		}
	}
	b.write()
	s.Lit = b.scene.Lit
	if err := b.ambient(ctx); err != nil {
		return nil, err
	}
	b.work.Step(b.work.Left())
	return b.result, nil
}

// afford guesses the number of texels from the areas of faces, before any is made.
func afford(e *stage.Env, m *mapfile.Map, o Options) error {
	n := 0.0
	for i := range m.Faces {
		f := &m.Faces[i]
		if o.unseen(i) {
			continue
		}
		width := float64(size(m, f, o.Density, e.Draft))
		corners := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
		for float64(extent(corners))/width > side-4 {
			width *= 2
		}
		sum := bvh.Vec{}
		for k := 2; k < len(corners); k++ {
			first, last := bvh.Vec(corners[k-1].Position), bvh.Vec(corners[k].Position)
			sum = sum.Add(first.Sub(corners[0].Position).Cross(last.Sub(corners[0].Position)))
		}
		n += float64(sum.Length())/2/(width*width) + 4
	}
	if need := int64(min(n*perLuxel, 1e18)); need > e.Budget() {
		return &TooLarge{int(min(n, 1e15)), need, e.Budget()}
	}
	return nil
}

// builder lights one map.
type builder struct {
	env    *stage.Env
	m      *mapfile.Map
	scene  *radiance.Scene
	lamps  *lamps
	layout *layout
	q      quality
	work   *stage.Work
	asking int64 // about what it costs a texel to ask the lamps, in steps
	key    string
	result *Result

	straight []arriving   // from lamps and the sun, by texel
	rest     []irradiance // from everywhere else
}

// straightCost looks at some texels for how many lamps, suns and emitters each asks: few places lie
// in the edge of a shadow, so that each costs the first few rays.
func (b *builder) straightCost() int64 {
	const some = 64
	list := b.layout.texels
	asked := 0
	for i := range some {
		if len(list) > 0 {
			c := &list[i*len(list)/some]
			asked += 1 + len(b.lamps.near(c.at)) + len(b.lamps.glowing.asked(c.at))
		}
	}
	return int64(few(b.q.direct)*asked/some) + 1
}

// direct finds what comes straight from lamps and the sun.
func (b *builder) direct(ctx context.Context) error {
	n := len(b.layout.texels)
	b.straight = make([]arriving, n)
	return b.work.Parts(ctx,
		parts(b.straight, 0, 64, b.asking, func(int) string { return stage.Key(b.key, "direct") }, func(i int) {
			b.straight[i] = b.lamps.direct(b.scene, &b.layout.texels[i], b.q.direct)
		}))
}

// bounce adds light that was sent on, again and again, until it changes little; each time from what was there before.
func (b *builder) bounce(ctx context.Context) error {
	n := len(b.layout.texels)
	next := make([]bvh.Vec, n)
	before := 0.0
	for pass := 1; pass < b.q.bounces; pass++ {
		weight := b.q.bounce()
		if pass > b.q.expected() {
			weight = 0 // it is more than was thought
		}
		err := b.work.Parts(ctx,
			parts(next, 0, 64, weight, func(int) string { return stage.Key(b.key, "bounce", pass) }, func(i int) {
				if c := &b.layout.texels[i]; int(c.like) == i {
					next[i] = sampleIrradiance(b.scene, b.lamps.glowing, c, pass, b.q.between, 0).Arriving.Light
				}
			}))
		if err != nil {
			return err
		}
		bounced := func(i int) bvh.Vec { return next[b.layout.texels[i].like] }
		b.place(b.straight, bounced)
		b.result.Bounces = pass
		sum := 0.0
		for i := range next {
			sum += float64(brightness(bounced(i)) + brightness(b.straight[i].Light))
		}
		if math.Abs(sum-before) <= settled*sum {
			b.work.Step(int64(n) * b.q.bounce() * int64(max(b.q.expected()-pass, 0)))
			break
		}
		before = sum
	}
	return nil
}

// last gathers what is shown, as well as is wanted, and evens out the noise.
func (b *builder) last(ctx context.Context) error {
	n := len(b.layout.texels)
	b.rest = make([]irradiance, n)
	err := b.work.Parts(ctx,
		parts(b.rest, block, 16, 2*int64(b.q.last.least),
			func(first int) string { return stage.Key(b.key, "last", first) }, func(i int) {
				b.rest[i] = sampleIrradiance(b.scene, b.lamps.glowing, &b.layout.texels[i], 1000, b.q.last,
					brightness(b.straight[i].Light))
			}))
	if err != nil {
		return err
	}
	for i := range b.rest {
		b.result.Rays += int64(b.rest[i].Rays)
	}
	to := make([]irradiance, n)
	for range b.q.filters {
		if err := b.work.Each(ctx, n, 4096, 0,
			func(first, last int) { smooth(b.layout, b.rest, to, first, last) }); err != nil {
			return err
		}
		b.rest, to = to, b.rest
	}
	b.place(b.straight, func(i int) bvh.Vec { return b.rest[i].Arriving.Light })
	return nil
}

// empty is darkness of the layout's form.
func (b *builder) empty() *radiance.Lit {
	l := &radiance.Lit{Width: b.layout.side, Props: make([][]bvh.Vec, len(b.m.Props)),
		Terrains: make([][]bvh.Vec, len(b.m.Terrains))}
	for range b.layout.pages {
		l.Pages = append(l.Pages, make([]bvh.Vec, b.layout.side*b.layout.side))
	}
	for i := range b.m.Terrains {
		l.Terrains[i] = make([]bvh.Vec, len(b.m.Terrains[i].Heights))
	}
	for i := range b.m.Props {
		l.Props[i] = make([]bvh.Vec, b.corners(i))
	}
	return l
}

// corners is how many vertices a prop's model has.
func (b *builder) corners(prop int) int {
	n := 0
	for _, mesh := range b.m.Models[b.m.Props[prop].Model].Meshes {
		n += int(mesh.Vertices)
	}
	return n
}

// place lays light where rays find it: what comes straight, and the rest, where there is any.
func (b *builder) place(straight []arriving, rest func(i int) bvh.Vec) {
	lit := b.scene.Lit
	of := func(i int) bvh.Vec {
		if rest == nil {
			return straight[i].Light
		}
		return straight[i].Light.Add(rest(i))
	}
	for k := range b.layout.rectangles {
		r := &b.layout.rectangles[k]
		page := lit.Pages[r.page]
		for y := range r.h {
			for x := range r.w {
				page[(r.y+y)*b.layout.side+r.x+x] = of(int(r.cells[y*r.w+x]))
			}
		}
	}
	for i := range b.layout.terrains {
		b.layout.terrains[i].spread(&b.m.Terrains[i], of, lit.Terrains[i])
	}
	for i, first := range b.layout.props {
		for k := range lit.Props[i] {
			lit.Props[i][k] = of(first + k)
		}
	}
}

// write puts the light into the map.
func (b *builder) write() {
	m, lit := b.m, b.scene.Lit
	packed := func(list []bvh.Vec) []mapfile.Light {
		out := make([]mapfile.Light, len(list))
		for i, v := range list {
			out[i] = mapfile.PackLight(v)
		}
		return out
	}
	if len(b.layout.rectangles) > 0 {
		m.Lightmap = &mapfile.Lightmap{Width: uint32(b.layout.side), Height: uint32(b.layout.side)}
		for _, page := range lit.Pages {
			p := mapfile.LightPage{Light: packed(page), Toward: make([]uint32, len(page))}
			for i := range p.Toward {
				p.Toward[i] = 0x808080
			}
			m.Lightmap.Pages = append(m.Lightmap.Pages, p)
		}
		for k := range b.layout.rectangles {
			r := &b.layout.rectangles[k]
			for y := range r.h {
				for x := range r.w {
					m.Lightmap.Pages[r.page].Toward[(r.y+y)*b.layout.side+r.x+x] = b.toward(int(r.cells[y*r.w+x]))
				}
			}
		}
	}
	for _, list := range lit.Terrains {
		m.TerrainLight = append(m.TerrainLight, packed(list))
	}
	for _, list := range lit.Props {
		m.PropLight = append(m.PropLight, packed(list))
	}
	b.scene.Lit = radiance.LitOf(m) // what follows sees what the game sees
}

// toward is where a texel's light comes from, in three bytes.
func (b *builder) toward(i int) uint32 {
	sum, bright := b.straight[i].Toward, brightness(b.straight[i].Light)
	if b.rest != nil {
		sum, bright = sum.Add(b.rest[i].Arriving.Toward), bright+brightness(b.rest[i].Arriving.Light)
	}
	if bright <= 0 {
		return 0x808080
	}
	out := uint32(0)
	for k, c := range clamped(sum.Scale(1 / bright)) {
		out |= uint32(math.Round(float64(c)*127)+128) << (8 * k)
	}
	return out
}

// parts are a list's elements as pieces of work, of which each can be made without the others.
func parts[T arriving | bvh.Vec | irradiance | air](list []T, block, size int, weight int64, key func(first int) string,
	one func(i int)) stage.Parts {
	return stage.Parts{Key: key, N: len(list), Block: block, Size: size, Weight: weight, Do: func(first, last int) {
		for i := first; i < last; i++ {
			one(i)
		}
	}, Pack: func(first, last int) []byte { return pack(list[first:last]) },
		Unpack: func(first, last int, data []byte) bool { return unpack(data, list[first:last]) }}
}

// pack writes results as they are kept.
func pack[T arriving | bvh.Vec | irradiance | air | [6]mapfile.Light](list []T) []byte {
	var b bytes.Buffer
	_ = binary.Write(&b, binary.LittleEndian, list) // a buffer takes every write
	return b.Bytes()
}

// unpack reads what pack wrote; it says no to what is not as long.
func unpack[T arriving | bvh.Vec | irradiance | air | [6]mapfile.Light](data []byte, list []T) bool {
	if len(data) != binary.Size(list) {
		return false
	}
	return binary.Read(bytes.NewReader(data), binary.LittleEndian, list) == nil
}
