package mapfile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// Body is a convex body that stops players: the points behind all its planes. 16 bytes, and 16 a plane.
type Body struct {
	Planes []Plane
	Owner  uint32 // the solid of the source, or the model, counted from 0
	Model  bool   // it belongs to a model and stands in the model's coordinates
}

// Plane is the points p with Normal·p = Distance; the normal points out of the body.
type Plane struct {
	Normal   [3]float32
	Distance float32
}

// Node of the partition tree cuts space in two. A child from 0 up is a node, below 0 the leaf -1-child. 32 bytes.
type Node struct {
	Plane
	Front, Back int32
}

// Leaf is a convex part of space. 32 bytes.
type Leaf struct {
	Solid    bool
	Clear    bool   // it is solid, and what lies behind it shows
	Cell     uint32 // that it belongs to, counted from 1; 0: none
	Min, Max [3]float32
}

// Terrain is ground of Columns x Rows heights over a rectangle, from the north-west, row by row.
type Terrain struct {
	Name, Material string
	Columns, Rows  uint32
	Min, Max       [3]float32 // height 0 lies at Min[2], 65535 at Max[2]
	Repeat         float32    // metres that one repeat of the material covers, along the world's X and Y
	Heights        []uint16
	Layers         []Layer
}

// Layer is a material laid over a terrain, as strongly as its weights say.
type Layer struct {
	Material string
	Repeat   float32
	Weights  []uint8
}

// Model is a shape that props show, stored once. 64 bytes.
type Model struct {
	Name     string
	Meshes   []Mesh
	Min, Max [3]float32
}

// Mesh is a part of a model with one material, in the model's coordinates. 32 bytes.
type Mesh struct {
	Material                string
	FirstVertex, Vertices   uint32
	FirstIndex, IndexNumber uint32
}

// Prop is a model that stands still: a point p of the model lies at Rows·(p, 1). 64 bytes.
type Prop struct {
	Name  string
	Model uint32
	Solid bool
	Rows  [3][4]float32
}

var le = binary.LittleEndian

func u32s(b []byte, v ...uint32) []byte {
	for _, x := range v {
		b = le.AppendUint32(b, x)
	}
	return b
}

func f32s(b []byte, v ...float32) []byte {
	for _, x := range v {
		b = le.AppendUint32(b, math.Float32bits(x))
	}
	return b
}

func bit(b bool) uint32 {
	if b {
		return 1
	}
	return 0
}

func pad(b []byte) []byte { return append(b, make([]byte, (4-len(b)%4)%4)...) }

// encodeBodies writes the chunks of solid things.
func encodeBodies(m *Map, strs *stringTable) []namedChunk {
	var hull, plan, node, leaf, terr, modl, mesh, prop, stop []byte
	planes := uint32(0)
	for _, b := range m.Bodies {
		hull = u32s(hull, planes, uint32(len(b.Planes)), b.Owner, bit(b.Model))
		planes += uint32(len(b.Planes))
		for _, p := range b.Planes {
			plan = f32s(plan, p.Normal[0], p.Normal[1], p.Normal[2], p.Distance)
		}
	}
	for _, n := range m.Nodes {
		node = f32s(node, n.Normal[0], n.Normal[1], n.Normal[2], n.Distance)
		node = u32s(node, uint32(n.Front), uint32(n.Back), 0, 0)
	}
	for _, l := range m.Leaves {
		leaf = u32s(leaf, bit(l.Solid)|bit(l.Clear)<<1, l.Cell)
		leaf = f32s(leaf, l.Min[0], l.Min[1], l.Min[2], l.Max[0], l.Max[1], l.Max[2])
	}
	terr = u32s(terr, uint32(len(m.Terrains)), 0, 0, 0)
	for _, t := range m.Terrains {
		terr = u32s(terr, strs.add(t.Name), strs.add(t.Material), t.Columns, t.Rows)
		terr = f32s(terr, t.Min[0], t.Min[1], t.Min[2], t.Max[0], t.Max[1], t.Max[2], t.Repeat)
		terr = u32s(terr, uint32(len(t.Layers)))
		for _, l := range t.Layers {
			terr = f32s(u32s(terr, strs.add(l.Material)), l.Repeat)
		}
		for _, h := range t.Heights {
			terr = le.AppendUint16(terr, h)
		}
		for _, l := range t.Layers {
			terr = append(terr, l.Weights...)
		}
		terr = pad(terr)
	}
	meshes := uint32(0)
	for _, d := range m.Models {
		modl = u32s(modl, strs.add(d.Name), meshes, uint32(len(d.Meshes)), 0)
		modl = f32s(modl, d.Min[0], d.Min[1], d.Min[2], d.Max[0], d.Max[1], d.Max[2])
		modl = u32s(modl, 0, 0, 0, 0, 0, 0)
		meshes += uint32(len(d.Meshes))
		for _, s := range d.Meshes {
			mesh = u32s(mesh, strs.add(s.Material), s.FirstVertex, s.Vertices, s.FirstIndex, s.IndexNumber, 0, 0, 0)
		}
	}
	for _, p := range m.Props {
		prop = u32s(prop, strs.add(p.Name), p.Model, bit(p.Solid), 0)
		for _, row := range p.Rows {
			prop = f32s(prop, row[:]...)
		}
	}
	for _, g := range m.Grids {
		stop = append(stop, m.stops(g)...)
	}
	return []namedChunk{{"HULL", hull}, {"PLAN", plan}, {"NODE", node}, {"LEAF", leaf}, {"TERR", terr}, {"MODL", modl},
		{"MESH", mesh}, {"PROP", prop}, {"STOP", stop}}
}

// stops are a grid's solid cells, a bit each.
func (m *Map) stops(g Grid) []byte {
	bits := make([]byte, (len(g.Cells)+7)/8)
	for i, c := range g.Cells {
		if m.Legend[c].Solid {
			bits[i/8] |= 1 << (i % 8)
		}
	}
	return pad(bits)
}

// bodies reads the chunks of solid things; a map that has none of them is one of an earlier version.
func (r *Reader) bodies(m *Map, strs []string) error {
	in := func(id string, size int) (*cursor, error) {
		data, err := r.Chunk(id)
		if err == nil && size > 0 && len(data)%size != 0 {
			err = fmt.Errorf("chunk %q ends inside a record", id)
		}
		return &cursor{data: data, strs: strs}, err
	}
	for _, read := range []struct {
		id   string
		size int
		do   func(c *cursor) error
	}{
		{"PLAN", 16, func(c *cursor) error { return readHulls(r, m, c, strs) }},
		{"NODE", 32, func(c *cursor) error {
			for len(c.data) > 0 {
				m.Nodes = append(m.Nodes,
					Node{Plane: Plane{c.vec(), c.f32()}, Front: int32(c.u32()), Back: int32(c.u32())})
				c.u32()
				c.u32()
			}
			return c.err
		}},
		{"LEAF", 32, func(c *cursor) error {
			for len(c.data) > 0 {
				flags := c.u32()
				l := Leaf{Solid: flags&1 != 0, Clear: flags&2 != 0, Cell: c.u32()}
				l.Min, l.Max = c.vec(), c.vec()
				m.Leaves = append(m.Leaves, l)
			}
			if c.err != nil {
				return c.err
			}
			return checkTree(m)
		}},
		{"TERR", 4, func(c *cursor) error { return readTerrains(m, c) }},
		{"MESH", 32, func(c *cursor) error { return readModels(r, m, c, strs) }},
		{"PROP", 64, func(c *cursor) error {
			for len(c.data) > 0 && c.err == nil {
				p := Prop{Name: c.str(), Model: c.u32(), Solid: c.u32()&1 != 0}
				c.u32()
				for i := range p.Rows {
					p.Rows[i] = [4]float32{c.f32(), c.f32(), c.f32(), c.f32()}
				}
				if int64(p.Model) >= int64(len(m.Models)) {
					return fmt.Errorf("prop %q shows model %d and there are %d", p.Name, p.Model, len(m.Models))
				}
				m.Props = append(m.Props, p)
			}
			return c.err
		}},
		{"STOP", 4, func(c *cursor) error {
			for _, g := range m.Grids {
				want := m.stops(g)
				if len(c.data) > 0 && !bytes.HasPrefix(c.data, want) {
					return fmt.Errorf("grid %q stops players elsewhere than its tiles say", g.Name)
				}
				c.data = c.data[min(len(want), len(c.data)):]
			}
			return nil
		}},
	} {
		c, err := in(read.id, read.size)
		if err == nil {
			err = read.do(c)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readHulls(r *Reader, m *Map, c *cursor, strs []string) error {
	var planes []Plane
	for len(c.data) > 0 {
		planes = append(planes, Plane{c.vec(), c.f32()})
	}
	if c.err != nil {
		return c.err
	}
	data, err := r.Chunk("HULL")
	if err != nil {
		return err
	}
	for h := (&cursor{data: data, strs: strs}); len(h.data) >= 16; {
		first, n := uint64(h.u32()), uint64(h.u32())
		b := Body{Owner: h.u32(), Model: h.u32()&1 != 0}
		if first+n > uint64(len(planes)) {
			return fmt.Errorf("body %d has planes that are not there", len(m.Bodies))
		}
		if n > 0 {
			b.Planes = planes[first : first+n]
		}
		m.Bodies = append(m.Bodies, b)
	}
	return nil
}

// checkTree holds the tree to what a walk through it relies on: children come after their parents, and are there.
func checkTree(m *Map) error {
	for i, n := range m.Nodes {
		for _, child := range [2]int32{n.Front, n.Back} {
			if child >= 0 && (int(child) <= i || int(child) >= len(m.Nodes)) || child < 0 &&
				int64(-1-int64(child)) >= int64(len(m.Leaves)) {
				return errors.New("the partition tree is damaged")
			}
		}
	}
	return nil
}

func readTerrains(m *Map, c *cursor) error {
	if len(c.data) == 0 {
		return nil
	}
	n := c.u32()
	c.u32()
	c.u32()
	c.u32()
	for range n {
		t := Terrain{Name: c.str(), Material: c.str(), Columns: c.u32(), Rows: c.u32(), Min: c.vec(), Max: c.vec(),
			Repeat: c.f32()}
		layers := uint64(c.u32())
		cells := uint64(t.Columns) * uint64(t.Rows)
		if c.err != nil || t.Columns < 2 || t.Rows < 2 || t.Columns > 1<<16 || t.Rows > 1<<16 || layers > 1<<16 ||
			layers*8+cells*2+layers*cells > uint64(len(c.data)) {
			return fmt.Errorf("terrain %q is cut short", t.Name)
		}
		for range layers {
			t.Layers = append(t.Layers, Layer{Material: c.str(), Repeat: c.f32()})
		}
		t.Heights = make([]uint16, cells)
		for i := range t.Heights {
			t.Heights[i] = le.Uint16(c.data[2*i:])
		}
		c.data = c.data[2*cells:]
		for i := range t.Layers {
			t.Layers[i].Weights = append([]byte{}, c.data[:cells]...)
			c.data = c.data[cells:]
		}
		c.data = c.data[min((4-(cells*2+layers*cells)%4)%4, uint64(len(c.data))):]
		m.Terrains = append(m.Terrains, t)
	}
	return c.err
}

func readModels(r *Reader, m *Map, c *cursor, strs []string) error {
	var meshes []Mesh
	for len(c.data) > 0 && c.err == nil {
		s := Mesh{Material: c.str(), FirstVertex: c.u32(), Vertices: c.u32(), FirstIndex: c.u32(), IndexNumber: c.u32()}
		c.u32()
		c.u32()
		c.u32()
		if !m.owns(s.FirstVertex, s.Vertices, s.FirstIndex, s.IndexNumber) {
			return fmt.Errorf("mesh %d uses vertices that are not there, or not its own", len(meshes))
		}
		meshes = append(meshes, s)
	}
	data, err := r.Chunk("MODL")
	if err != nil || c.err != nil {
		return errors.Join(err, c.err)
	}
	for d := (&cursor{data: data, strs: strs}); len(d.data) >= 64; {
		model := Model{Name: d.str()}
		first, n := uint64(d.u32()), uint64(d.u32())
		d.u32()
		model.Min, model.Max = d.vec(), d.vec()
		d.data = d.data[24:]
		if d.err != nil || first+n > uint64(len(meshes)) {
			return fmt.Errorf("model %d has meshes that are not there", len(m.Models))
		}
		if n > 0 {
			model.Meshes = meshes[first : first+n]
		}
		m.Models = append(m.Models, model)
	}
	return nil
}

// Point is where a height of the terrain lies.
func (t *Terrain) Point(column, row uint32) [3]float32 {
	at := func(low, high float32, part, of uint32) float32 { return low + (high-low)*float32(part)/float32(of) }
	return [3]float32{at(t.Min[0], t.Max[0], column, t.Columns-1), at(t.Max[1], t.Min[1], row, t.Rows-1),
		at(t.Min[2], t.Max[2], uint32(t.Heights[row*t.Columns+column]), 65535)}
}

// Normal is the direction that the ground looks in at one of the terrain's heights.
func (t *Terrain) Normal(column, row uint32) [3]float32 {
	west, east := t.Point(max(column, 1)-1, row), t.Point(min(column+1, t.Columns-1), row)
	north, south := t.Point(column, max(row, 1)-1), t.Point(column, min(row+1, t.Rows-1))
	dx, dy := float64((east[2]-west[2])/(east[0]-west[0])), float64((north[2]-south[2])/(north[1]-south[1]))
	length := math.Sqrt(float64(dx*dx) + float64(dy*dy) + 1)
	return [3]float32{float32(0 - dx/length), float32(0 - dy/length), float32(1 / length)}
}
