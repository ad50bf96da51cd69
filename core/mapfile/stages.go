package mapfile

import (
	"errors"
	"fmt"
	"math"
)

// Light is light of three colours in 32 bits: 9 bits each with a shared exponent of 5, as the Vulkan format
// VK_FORMAT_E5B9G9R9_UFLOAT_PACK32. A value of 1 is what a white surface sends that is as bright as white on a screen.
type Light uint32

// mostLight is the largest value that Light can hold.
const mostLight = 511.0 / 512 * 65536

// PackLight rounds light to what fits. What is below zero, or no number, becomes 0.
func PackLight(c [3]float32) Light {
	top := float32(0)
	for i, v := range c {
		if !(v > 0) {
			v = 0
		}
		c[i] = min(v, mostLight)
		top = max(top, c[i])
	}
	_, e := math.Frexp(float64(top)) // top < 2^e
	e = max(e, -15)
	if top > 0 && math.Round(math.Ldexp(float64(top), 9-e)) >= 512 {
		e++
	}
	out := Light(e+15) << 27
	for i, v := range c {
		out |= Light(math.Round(math.Ldexp(float64(v), 9-e))) << (9 * i)
	}
	return out
}

// Colours are the light's red, green and blue.
func (l Light) Colours() [3]float32 {
	scale := float32(math.Ldexp(1, int(l>>27)-15-9))
	return [3]float32{float32(l&511) * scale, float32(l>>9&511) * scale, float32(l>>18&511) * scale}
}

// Lightmap is the light on faces: pages of luxels, all of one size. A face's Page says which is its, Vertex.Luxel where on it.
type Lightmap struct {
	Width, Height uint32
	Pages         []LightPage
}

// LightPage is a page of luxels, row by row.
type LightPage struct {
	Light []Light
	// Toward is where most light comes from, as seen from the luxel: x, y, z, each 0 to 255 for -1 to 1, in the lowest bytes. Its
	// length says how much of the light: 1 all, 0 it comes evenly.
	Toward []uint32
}

// Ambient is light in the air, for what moves: samples at the crossings of a grid, X fastest, then Y, then Z.
type Ambient struct {
	Origin  [3]float32
	Spacing float32 // metres
	Counts  [3]uint32
	Samples [][6]Light // falling on surfaces that face +X -X +Y -Y +Z -Z
}

// encodeStages writes the chunks of the long stages that were run.
func encodeStages(m *Map) []namedChunk {
	var list []namedChunk
	if l := m.Lightmap; l != nil {
		b := u32s(nil, uint32(len(l.Pages)), l.Width, l.Height, 0)
		var places []byte
		for _, p := range l.Pages {
			for _, v := range p.Light {
				b = le.AppendUint32(b, uint32(v))
			}
			b = u32s(b, p.Toward...)
		}
		for _, v := range m.Vertices {
			places = f32s(places, v.Luxel[0], v.Luxel[1])
		}
		list = append(list, namedChunk{"LUXL", b}, namedChunk{"LUVS", places})
	}
	if a := m.Ambient; a != nil {
		b := f32s(nil, a.Origin[0], a.Origin[1], a.Origin[2], a.Spacing)
		b = u32s(b, a.Counts[0], a.Counts[1], a.Counts[2], 0)
		for _, s := range a.Samples {
			for _, v := range s {
				b = le.AppendUint32(b, uint32(v))
			}
		}
		list = append(list, namedChunk{"AMBI", b})
	}
	for _, lit := range []struct {
		id   string
		list [][]Light
	}{{"PLIT", m.PropLight}, {"TLIT", m.TerrainLight}, {"GLIT", m.GridLight}} {
		if lit.list == nil {
			continue
		}
		b := u32s(nil, uint32(len(lit.list)), 0, 0, 0)
		for _, part := range lit.list {
			b = u32s(b, uint32(len(part)))
			for _, v := range part {
				b = le.AppendUint32(b, uint32(v))
			}
		}
		list = append(list, namedChunk{lit.id, b})
	}
	return list
}

// stages reads the chunks of the long stages; any may be missing.
func (r *Reader) stages(m *Map) error {
	for _, read := range []struct {
		id string
		do func(c *cursor) error
	}{
		{"LUXL", func(c *cursor) error { return readLightmap(r, m, c) }},
		{"AMBI", func(c *cursor) error { return readAmbient(m, c) }},
		{"PLIT", func(c *cursor) (err error) {
			m.PropLight, err = readLights(c, len(m.Props), func(i int) uint64 {
				n := uint64(0)
				for _, mesh := range m.Models[m.Props[i].Model].Meshes {
					n += uint64(mesh.Vertices)
				}
				return n
			})
			return err
		}},
		{"TLIT", func(c *cursor) (err error) {
			m.TerrainLight, err = readLights(c, len(m.Terrains), func(i int) uint64 { return uint64(len(m.Terrains[i].Heights)) })
			return err
		}},
		{"GLIT", func(c *cursor) (err error) {
			m.GridLight, err = readLights(c, len(m.Grids), func(i int) uint64 { return uint64(len(m.Grids[i].Cells)) })
			return err
		}},
	} {
		data, err := r.Chunk(read.id)
		if err == nil && data != nil {
			c := &cursor{data: data}
			if err = read.do(c); err == nil {
				err = c.err
			}
		}
		if err != nil {
			return fmt.Errorf("chunk %q: %w", read.id, err)
		}
	}
	return nil
}

// lights reads n lights, which must be there.
func (c *cursor) lights(n uint64) []Light {
	if n*4 > uint64(len(c.data)) {
		c.err = errors.New("it is cut short")
		return nil
	}
	list := make([]Light, n)
	for i := range list {
		list[i] = Light(le.Uint32(c.data[4*i:]))
	}
	c.data = c.data[4*n:]
	return list
}

func readLightmap(r *Reader, m *Map, c *cursor) error {
	l := &Lightmap{}
	n := c.u32()
	l.Width, l.Height = c.u32(), c.u32()
	c.u32()
	cells := uint64(l.Width) * uint64(l.Height)
	if c.err != nil || l.Width > 1<<14 || l.Height > 1<<14 || uint64(n)*cells*8 != uint64(len(c.data)) || n > 0 && cells == 0 {
		return errors.New("it is cut short")
	}
	for range n {
		p := LightPage{Light: c.lights(cells)}
		for range cells {
			p.Toward = append(p.Toward, c.u32())
		}
		l.Pages = append(l.Pages, p)
	}
	places, err := r.Chunk("LUVS")
	if err != nil {
		return err
	}
	if len(places) != 8*len(m.Vertices) {
		return errors.New("there are not as many places on it as vertices")
	}
	at := &cursor{data: places}
	for i := range m.Vertices {
		m.Vertices[i].Luxel = [2]float32{at.f32(), at.f32()}
	}
	for i, f := range m.Faces {
		if f.Page > n {
			return fmt.Errorf("face %d lies on page %d and there are %d", i, f.Page, n)
		}
	}
	m.Lightmap = l
	return at.err
}

func readAmbient(m *Map, c *cursor) error {
	a := &Ambient{Origin: c.vec(), Spacing: c.f32(), Counts: [3]uint32{c.u32(), c.u32(), c.u32()}}
	c.u32()
	n := uint64(1)
	for _, k := range a.Counts {
		if k > 1<<12 {
			return errors.New("it is too large")
		}
		n *= uint64(k)
	}
	if c.err != nil || n*24 != uint64(len(c.data)) || !(a.Spacing > 0) {
		return errors.New("it is cut short")
	}
	a.Samples = make([][6]Light, n)
	for i := range a.Samples {
		copy(a.Samples[i][:], c.lights(6))
	}
	m.Ambient = a
	return nil
}

// readLights reads a list of lights for each of n things; size says how many each has, when it has any.
func readLights(c *cursor, n int, size func(i int) uint64) ([][]Light, error) {
	if got := c.u32(); c.err == nil && uint64(got) != uint64(n) {
		return nil, fmt.Errorf("it is for %d things and there are %d", got, n)
	}
	c.u32()
	c.u32()
	c.u32()
	list := make([][]Light, n)
	for i := range list {
		k := uint64(c.u32())
		if k != 0 && k != size(i) {
			return nil, fmt.Errorf("thing %d has %d lights and should have %d", i, k, size(i))
		}
		if k > 0 {
			list[i] = c.lights(k)
		}
		if c.err != nil {
			return nil, c.err
		}
	}
	return list, nil
}
