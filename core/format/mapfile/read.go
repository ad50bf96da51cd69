package mapfile

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"math"
	"strings"
	"unicode/utf8"
)

// ErrNotMap is the error for bytes that don't begin like a compiled map.
var ErrNotMap = errors.New("it is no compiled map: the first bytes are others")

// Reader gives access to the chunks of a compiled map in memory.
type Reader struct {
	data   []byte
	Size   uint64 // of the map without what is appended
	Chunks []Chunk
}

// Open checks the header and the table; no chunk is read yet. data may be longer than the map (an appended ZIP).
func Open(data []byte) (*Reader, error) {
	if len(data) < headerSize || !bytes.Equal(data[:8], magic[:]) {
		return nil, ErrNotMap
	}
	le := binary.LittleEndian
	if crc32.Checksum(data[:headerSize-4], castagnoli) != le.Uint32(data[headerSize-4:]) {
		return nil, errors.New("the header is damaged: its checksum does not fit")
	}
	if v := le.Uint32(data[8:]); v != Version {
		return nil, fmt.Errorf("the map has format version %d; this program reads version %d", v, Version)
	}
	n := int(le.Uint32(data[12:]))
	r := &Reader{data: data, Size: le.Uint64(data[16:])}
	tableEnd := headerSize + n*entrySize
	if n > maxChunks || r.Size > maxSize || uint64(len(data)) < r.Size || uint64(tableEnd) > r.Size {
		return nil, fmt.Errorf("the map is cut short: it says %d bytes and %d chunks, and %d bytes are here", r.Size, n,
			len(data))
	}
	table := data[headerSize:tableEnd]
	if crc32.Checksum(table, castagnoli) != le.Uint32(data[24:]) {
		return nil, errors.New("the table of chunks is damaged: its checksum does not fit")
	}
	for ; len(table) > 0; table = table[entrySize:] {
		c := Chunk{ID: string(table[:4]), Version: le.Uint16(table[4:]), Codec: le.Uint16(table[6:]),
			Offset: le.Uint64(table[8:]),
			Stored: le.Uint64(table[16:]), Size: le.Uint64(table[24:]), CRC: le.Uint32(table[32:])}
		if c.Offset%alignment != 0 || c.Offset < uint64(tableEnd) || c.Offset > r.Size || c.Stored > r.Size-c.Offset {
			return nil, fmt.Errorf("chunk %q lies outside the file", c.ID)
		}
		r.Chunks = append(r.Chunks, c)
	}
	return r, nil
}

// Chunk returns a chunk's bytes after checking them; nil when the map has none of that name.
func (r *Reader) Chunk(id string) ([]byte, error) {
	for _, c := range r.Chunks {
		if c.ID != id {
			continue
		}
		if c.Codec != 0 || c.Stored != c.Size {
			return nil, fmt.Errorf("chunk %q is stored by a method (%d) that this program does not know", id, c.Codec)
		}
		if c.Version != 1 {
			return nil, fmt.Errorf("chunk %q has version %d; this program reads version 1", id, c.Version)
		}
		data := r.data[c.Offset : c.Offset+c.Stored]
		if crc32.Checksum(data, castagnoli) != c.CRC {
			return nil, fmt.Errorf("chunk %q is damaged: its checksum does not fit", id)
		}
		return data, nil
	}
	return nil, nil
}

// cursor reads records; it remembers the first thing that was wrong.
type cursor struct {
	data []byte
	strs []string
	err  error
}

func (c *cursor) u32() uint32 {
	if len(c.data) < 4 {
		if c.err == nil {
			c.err = errors.New("a chunk ends inside a record")
		}
		return 0
	}
	v := binary.LittleEndian.Uint32(c.data)
	c.data = c.data[4:]
	return v
}

// f32 reads a number; one that is none, or infinite, is damage.
func (c *cursor) f32() float32 {
	f := math.Float32frombits(c.u32())
	if c.err == nil && (f != f || f-f != 0) {
		c.err = errors.New("a number in it is none")
	}
	return f
}

func (c *cursor) vec() [3]float32 { return [3]float32{c.f32(), c.f32(), c.f32()} }

func (c *cursor) str() string {
	i := c.u32()
	if int64(i) >= int64(len(c.strs)) {
		if c.err == nil {
			c.err = fmt.Errorf("text number %d is used and there are %d", i, len(c.strs))
		}
		return ""
	}
	return c.strs[i]
}

// Read reads a whole compiled map and checks that everything in it refers to something that is there.
func Read(data []byte) (*Map, error) {
	r, err := Open(data)
	if err != nil {
		return nil, err
	}
	return r.Map()
}

// Map decodes all chunks that this program knows.
func (r *Reader) Map() (*Map, error) {
	chunk := map[string][]byte{}
	for _, id := range []string{"META", "STRG", "VERT", "INDX", "FACE", "OBJS", "PAIR", "LEGE", "TILE"} {
		data, err := r.Chunk(id)
		if err != nil {
			return nil, err
		}
		if data == nil {
			return nil, fmt.Errorf("chunk %q is missing", id)
		}
		chunk[id] = data
	}
	m := &Map{}
	if err := json.Unmarshal(chunk["META"], &m.Meta); err != nil {
		return nil, fmt.Errorf("the map's description can't be read: %w", err)
	}
	strs, err := readStrings(chunk["STRG"])
	if err != nil {
		return nil, err
	}
	in := func(id string) *cursor { return &cursor{data: chunk[id], strs: strs} }
	for c := in("VERT"); len(c.data) >= 32; {
		m.Vertices = append(m.Vertices, Vertex{Position: c.vec(), Normal: c.vec(), UV: [2]float32{c.f32(), c.f32()}})
		if c.err != nil {
			return nil, c.err
		}
	}
	for c := in("INDX"); len(c.data) >= 4; {
		i := c.u32()
		if int64(i) >= int64(len(m.Vertices)) {
			return nil, fmt.Errorf("vertex %d is used and there are %d", i, len(m.Vertices))
		}
		m.Indices = append(m.Indices, i)
	}
	for c := in("FACE"); len(c.data) >= 32; {
		f := Face{Material: c.str(), FirstVertex: c.u32(), Vertices: c.u32(), FirstIndex: c.u32(), IndexNumber: c.u32(),
			Solid: c.u32(), Luxels: c.f32(), Page: c.u32()}
		if c.err != nil {
			return nil, c.err
		}
		if f.Vertices < 3 || !m.owns(f.FirstVertex, f.Vertices, f.FirstIndex, f.IndexNumber) {
			return nil, fmt.Errorf("face %d uses vertices that are not there, or not its own", len(m.Faces))
		}
		m.Faces = append(m.Faces, f)
	}
	var pairs [][2]string
	for c := in("PAIR"); len(c.data) >= 8; {
		pairs = append(pairs, [2]string{c.str(), c.str()})
		if c.err != nil {
			return nil, c.err
		}
	}
	for c := in("OBJS"); len(c.data) >= 64; {
		o := Object{Kind: c.str(), Name: c.str(), Detail: c.str(), Flags: c.u32(), A: c.vec(), B: c.vec(),
			Angle: c.f32(), Value: c.f32(), Colour: c.u32()}
		first, n := uint64(c.u32()), uint64(c.u32())
		o.Radius = c.f32()
		if c.err != nil {
			return nil, c.err
		}
		if first+n > uint64(len(pairs)) {
			return nil, fmt.Errorf("object %d has properties that are not there", len(m.Objects))
		}
		if n > 0 {
			o.Pairs = pairs[first : first+n]
		}
		m.Objects = append(m.Objects, o)
	}
	for c := in("LEGE"); len(c.data) >= 16; {
		t := Tile{Symbol: rune(c.u32()), Material: c.str(), Solid: c.u32()&1 != 0}
		c.u32()
		if c.err != nil {
			return nil, c.err
		}
		m.Legend = append(m.Legend, t)
	}
	if err := readGrids(m, in("TILE")); err != nil {
		return nil, err
	}
	if err := r.bodies(m, strs); err != nil {
		return nil, err
	}
	return m, r.stages(m, strs)
}

// owns says whether vertices and indices are there, and the indices name just those vertices.
func (m *Map) owns(firstVertex, vertices, firstIndex, indices uint32) bool {
	if uint64(firstVertex)+uint64(vertices) > uint64(len(m.Vertices)) ||
		uint64(firstIndex)+uint64(indices) > uint64(len(m.Indices)) {
		return false
	}
	for _, i := range m.Indices[firstIndex : firstIndex+indices] {
		if i < firstVertex || i-firstVertex >= vertices {
			return false
		}
	}
	return true
}

func readStrings(data []byte) ([]string, error) {
	c := &cursor{data: data}
	n := uint64(c.u32())
	if c.err != nil || n == 0 || (n+1)*4 > uint64(len(c.data)) {
		return nil, errors.New("the table of texts is damaged")
	}
	text := c.data[(n+1)*4:]
	strs := make([]string, 0, n)
	from := c.u32()
	for range n {
		to := c.u32()
		if from > to || uint64(to) > uint64(len(text)) || !utf8.Valid(text[from:to]) {
			return nil, errors.New("the table of texts is damaged")
		}
		strs = append(strs, string(text[from:to]))
		from = to
	}
	return strs, nil
}

func readGrids(m *Map, c *cursor) error {
	n := c.u32()
	c.u32()
	c.u32()
	c.u32()
	for range n {
		g := Grid{Name: c.str(), Level: int32(c.u32()), Width: c.u32(), Height: c.u32()}
		cells := uint64(g.Width) * uint64(g.Height)
		if c.err != nil || g.Width > 1<<20 || g.Height > 1<<20 || cells*2 > uint64(len(c.data)) {
			return fmt.Errorf("grid %q is cut short", g.Name)
		}
		g.Cells = make([]uint16, cells)
		for i := range g.Cells {
			g.Cells[i] = binary.LittleEndian.Uint16(c.data[i*2:])
			if int(g.Cells[i]) >= len(m.Legend) {
				return fmt.Errorf("grid %q uses tile %d and there are %d", g.Name, g.Cells[i], len(m.Legend))
			}
		}
		c.data = c.data[min((cells*2+3)/4*4, uint64(len(c.data))):]
		m.Grids = append(m.Grids, g)
	}
	return c.err
}

// Materials lists the materials that the map's faces and tiles use, each once, in order of first use.
func (m *Map) Materials() []string {
	var list []string
	seen := map[string]bool{"": true}
	add := func(s string) {
		if !seen[s] {
			seen[s] = true
			list = append(list, s)
		}
	}
	for _, f := range m.Faces {
		add(f.Material)
	}
	for _, t := range m.Legend {
		add(t.Material)
	}
	for _, t := range m.Terrains {
		add(t.Material)
		for _, l := range t.Layers {
			add(l.Material)
		}
	}
	for _, model := range m.Models {
		for _, mesh := range model.Meshes {
			add(mesh.Material)
		}
	}
	return list
}

// Sounds lists the sounds that the map plays, each once.
func (m *Map) Sounds() []string {
	var list []string
	seen := map[string]bool{}
	for _, o := range m.Objects {
		if o.Kind == "sound" && !seen[o.Detail] {
			seen[o.Detail] = true
			list = append(list, o.Detail)
		}
	}
	return list
}

// SpriteKey and ModelKey are the properties of an object that name the sprite or the model shown
// there; FocusKey is that of a camera that is sharp at another distance than that of what it looks
// at.
const (
	SpriteKey = "sprite"
	FocusKey  = "focus"
	ModelKey  = "model"
)

// Sprites lists the sprites that objects of the map show, each once.
func (m *Map) Sprites() []string { return m.shown(SpriteKey) }

// ItemModels lists the models that objects of the map show, each once. Those that stand still are in the map itself.
func (m *Map) ItemModels() []string { return m.shown(ModelKey) }

func (m *Map) shown(key string) []string {
	var list []string
	seen := map[string]bool{}
	for _, o := range m.Objects {
		for _, p := range o.Pairs {
			if p[0] == key && strings.HasPrefix(o.Kind, "item:") && !seen[p[1]] {
				seen[p[1]] = true
				list = append(list, p[1])
			}
		}
	}
	return list
}

// Count is how many objects of a kind there are.
func (m *Map) Count(kind string) int {
	n := 0
	for _, o := range m.Objects {
		if o.Kind == kind {
			n++
		}
	}
	return n
}
