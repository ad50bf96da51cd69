package mapfile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// Light is light of three colours in 32 bits: 9 bits each with a shared exponent of 5, as the Vulkan format
// VK_FORMAT_E5B9G9R9_UFLOAT_PACK32. A value of 1 is what a white surface sends that is as bright as white on a screen.
type Light uint32

// maxLight is the largest value that Light can hold.
const maxLight = 511.0 / 512 * 65536

// PackLight rounds light to what fits. What is below zero, or no number, becomes 0.
func PackLight(c [3]float32) Light {
	top := float32(0)
	for i, v := range c {
		if !(v > 0) {
			v = 0
		}
		c[i] = min(v, maxLight)
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

// Lightmap is the light on faces: pages of luxels, all of one size. A face's Page says which is
// its, Vertex.Luxel where on it.
type Lightmap struct {
	Width, Height uint32
	Pages         []LightPage
}

// LightPage is a page of luxels, row by row.
type LightPage struct {
	Light []Light
	// Toward is where most light comes from, as seen from the luxel: x, y, z, each 0 to 255 for -1
	// to 1, in the lowest bytes. Its length says how much of the light: 1 all, 0 it comes evenly.
	Toward []uint32
}

// Ambient is light in the air, for what moves: samples at the crossings of a grid, X fastest, then Y, then Z.
type Ambient struct {
	Origin  [3]float32
	Spacing float32 // metres
	Counts  [3]uint32
	Samples [][6]Light // falling on surfaces that face +X -X +Y -Y +Z -Z
}

// Visibility says which cells may be seen from which. Leaf.Cell says which leaves make up a cell.
type Visibility struct {
	Cells []Cell
	Rows  [][]uint64 // by cell: a bit for each cell that may be seen from it
}

// Cell is a part of space from which much the same is seen. 32 bytes.
type Cell struct {
	Min, Max [3]float32
	Faces    []uint32 // that look into it
}

// Sees says whether one cell may be seen from another.
func (v *Visibility) Sees(a, b int) bool { return v.Rows[a][b/64]>>(b%64)&1 != 0 }

// CellSight is how much is seen from a cell.
type CellSight struct {
	Cells int // that may be seen, the cell itself among them
	Faces int // that look into one of those: what a game draws from there
}

// Sights are the sights of all cells.
func (v *Visibility) Sights() []CellSight {
	list := make([]CellSight, len(v.Cells))
	faces := 0
	for i := range v.Cells {
		for _, f := range v.Cells[i].Faces {
			faces = max(faces, int(f)+1)
		}
	}
	last := make([]int, faces) // by face: the last cell that it was counted for, from 1
	for i := range list {
		for k := range v.Cells {
			if !v.Sees(i, k) {
				continue
			}
			list[i].Cells++
			for _, f := range v.Cells[k].Faces {
				if last[f] != i+1 {
					last[f] = i + 1
					list[i].Faces++
				}
			}
		}
	}
	return list
}

// PackRows writes rows of n bits, each as lengths of runs: how many bits are not set, how many are,
// and so on, as LEB128 numbers. Before each row stands how many bytes it has, in 4.
func PackRows(rows [][]uint64, n int) []byte {
	var out []byte
	for _, row := range rows {
		at := len(out)
		out = append(out, 0, 0, 0, 0)
		for i, set := 0, false; i < n; set = !set {
			first := i
			for i < n && (row[i/64]>>(i%64)&1 != 0) == set {
				i++
			}
			out = binary.AppendUvarint(out, uint64(i-first))
		}
		le.PutUint32(out[at:], uint32(len(out)-at-4))
	}
	return out
}

// UnpackRows reads n rows of n bits; ok is false when they are not that.
func UnpackRows(data []byte, n int) (rows [][]uint64, ok bool) {
	for range n {
		if len(data) < 4 || uint64(le.Uint32(data)) > uint64(len(data)-4) {
			return nil, false
		}
		runs := data[4 : 4+le.Uint32(data)]
		data = data[4+len(runs):]
		row := make([]uint64, (n+63)/64)
		i := 0
		for set := false; len(runs) > 0; set = !set {
			length, size := binary.Uvarint(runs)
			if size <= 0 || length > uint64(n-i) {
				return nil, false
			}
			runs = runs[size:]
			for end := i + int(length); set && i < end; i++ {
				row[i/64] |= 1 << (i % 64)
			}
			if !set {
				i += int(length)
			}
		}
		if i != n {
			return nil, false
		}
		rows = append(rows, row)
	}
	return rows, len(data) == 0
}

// maxCells bounds what a reader believes.
const maxCells = 1 << 14

// readVisibility reads cells and what is seen from them.
func readVisibility(r *Reader, m *Map, c *cursor) error {
	if len(c.data)%32 != 0 || len(c.data)/32 > maxCells {
		return errors.New("it is cut short, or too large")
	}
	v := &Visibility{}
	faces, err := r.Chunk("CFAC")
	if err != nil {
		return err
	}
	for len(c.data) > 0 {
		cell := Cell{Min: c.vec(), Max: c.vec()}
		first, n := uint64(c.u32()), uint64(c.u32())
		if (first+n)*4 > uint64(len(faces)) {
			return fmt.Errorf("cell %d has faces that are not there", len(v.Cells))
		}
		for k := first; k < first+n; k++ {
			f := le.Uint32(faces[4*k:])
			if uint64(f) >= uint64(len(m.Faces)) {
				return fmt.Errorf("face %d is used and there are %d", f, len(m.Faces))
			}
			cell.Faces = append(cell.Faces, f)
		}
		v.Cells = append(v.Cells, cell)
	}
	seen, err := r.Chunk("SEEN")
	if err != nil {
		return err
	}
	var ok bool
	if v.Rows, ok = UnpackRows(seen, len(v.Cells)); !ok {
		return errors.New("what is seen from the cells can't be read")
	}
	for i, l := range m.Leaves {
		if uint64(l.Cell) > uint64(len(v.Cells)) {
			return fmt.Errorf("leaf %d belongs to cell %d and there are %d", i, l.Cell, len(v.Cells))
		}
	}
	m.Visibility = v
	return nil
}

// Cube is what a probe sees: a KTX2 file of a cube, each level for a rougher surface. Min and Max
// are the box around it.
type Cube struct {
	Object   uint32 // the probe's number among the objects
	Min, Max [3]float32
	Texture  []byte
}

func encodeCubes(list []Cube) []byte {
	b := u32s(nil, uint32(len(list)), 0, 0, 0)
	at := align(16 + 48*len(list))
	for _, c := range list {
		b = u32s(b, c.Object, uint32(at), uint32(len(c.Texture)), 0)
		b = f32s(b, c.Min[0], c.Min[1], c.Min[2], 0, c.Max[0], c.Max[1], c.Max[2], 0)
		at = align(at + len(c.Texture))
	}
	for _, c := range list {
		b = append(b, make([]byte, align(len(b))-len(b))...)
		b = append(b, c.Texture...)
	}
	return pad(b)
}

func readCubes(m *Map, c *cursor) error {
	all := c.data
	n := uint64(c.u32())
	c.u32()
	c.u32()
	c.u32()
	if c.err != nil || n*48 > uint64(len(c.data)) {
		return errors.New("it is cut short")
	}
	m.Cubes = []Cube{}
	for range n {
		cube := Cube{Object: c.u32()}
		at, size := uint64(c.u32()), uint64(c.u32())
		c.u32()
		cube.Min = c.vec()
		c.f32()
		cube.Max = c.vec()
		c.f32()
		if uint64(cube.Object) >= uint64(len(m.Objects)) || at+size > uint64(len(all)) {
			return errors.New("it has pictures, or is of probes, that are not there")
		}
		cube.Texture = append([]byte{}, all[at:at+size]...)
		m.Cubes = append(m.Cubes, cube)
	}
	return c.err
}

// encodeStages writes the chunks of the long stages that were run.
func encodeStages(m *Map) []namedChunk {
	var list []namedChunk
	if v := m.Visibility; v != nil {
		var cells, faces []byte
		n := uint32(0)
		for _, c := range v.Cells {
			cells = f32s(cells, c.Min[0], c.Min[1], c.Min[2], c.Max[0], c.Max[1], c.Max[2])
			cells = u32s(cells, n, uint32(len(c.Faces)))
			faces = u32s(faces, c.Faces...)
			n += uint32(len(c.Faces))
		}
		list = append(list, namedChunk{"CELL", cells}, namedChunk{"SEEN", PackRows(v.Rows, len(v.Cells))},
			namedChunk{"CFAC", faces})
	}
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
	if m.Cubes != nil {
		list = append(list, namedChunk{"CUBE", encodeCubes(m.Cubes)})
	}
	return list
}

// stages reads the chunks of the long stages; any may be missing.
func (r *Reader) stages(m *Map, strs []string) error {
	for _, read := range []struct {
		id string
		do func(c *cursor) error
	}{
		{"CELL", func(c *cursor) error { return readVisibility(r, m, c) }},
		{"NAVI", func(c *cursor) error { return readNavigation(m, c) }},
		{"COST", func(c *cursor) error { return readCosts(m, c) }},
		{"CUBE", func(c *cursor) error { return readCubes(m, c) }},
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
			m.TerrainLight, err = readLights(c, len(m.Terrains),
				func(i int) uint64 { return uint64(len(m.Terrains[i].Heights)) })
			return err
		}},
		{"GLIT", func(c *cursor) (err error) {
			m.GridLight, err = readLights(c, len(m.Grids), func(i int) uint64 { return uint64(len(m.Grids[i].Cells)) })
			return err
		}},
	} {
		data, err := r.Chunk(read.id)
		if err == nil && data != nil {
			c := &cursor{data: data, strs: strs}
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
	if c.err != nil || l.Width > 1<<14 || l.Height > 1<<14 || uint64(n)*cells*8 != uint64(len(c.data)) || n > 0 &&
		cells == 0 {
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
