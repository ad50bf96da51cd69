// Package mapfile writes and reads compiled maps, the .vnm files (docs/formats/compiled-map.md).
//
// A file is a header, a table of chunks and the chunks, each aligned to 64 bytes and guarded by a CRC-32C; a ZIP with
// packed content may follow, so that one file is a map and an archive. Everything is little-endian. Records have fixed
// sizes, so that a game can use them where they lie in memory.
package mapfile

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"math"
)

// Version of the container; a reader refuses a higher one.
const Version = 1

// magic begins every compiled map. Like PNG's it shows transfers that spoilt line ends or the high bit.
var magic = [8]byte{0x8b, 'V', 'N', 'M', '\r', '\n', 0x1a, '\n'}

const (
	headerSize = 64
	entrySize  = 40
	alignment  = 64
	maxChunks  = 1024
	maxSize    = 1 << 34
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Map is the content of a compiled map.
type Map struct {
	Meta     Meta
	Vertices []Vertex
	Indices  []uint32
	Faces    []Face
	Objects  []Object
	Grids    []Grid
	Legend   []Tile
	Bodies   []Body
	Nodes    []Node
	Leaves   []Leaf
	Terrains []Terrain
	Models   []Model
	Props    []Prop

	// What the long stages made; nil where they were left out.
	Visibility *Visibility
	Navigation []Navigation // by kind of agent
	Costs      [][]byte     // by grid: what a step onto each cell costs, in tenths; 0: one can't
	Lightmap   *Lightmap
	Ambient    *Ambient
	// by prop: one for each vertex of its model, mesh by mesh; none for a model that is not drawn
	PropLight    [][]Light
	TerrainLight [][]Light // by terrain: one for each height
	GridLight    [][]Light // by grid: one for each cell
	Cubes        []Cube    // what probes see
}

// Meta is what a game shows before it loads the map.
type Meta struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Players [2]int   `json:"players"` // least and most
	Modes   []string `json:"modes"`
	Sky     *Sky     `json:"sky,omitempty"`
	Fog     *Fog     `json:"fog,omitempty"`
	Menu    bool     `json:"menu,omitempty"`   // a background for the game's menu
	Sealed  bool     `json:"sealed,omitempty"` // closed to the outside
	// of the lightmap, a metre, where a face says nothing; 0: as many as is usual
	Luxels float64 `json:"luxels,omitempty"`
	// Stages says which of the long stages were run, and how: draft or full.
	Stages map[string]string `json:"stages,omitempty"`
}

// Sky is the light from far away; angles in degrees, colours 0xRRGGBB in sRGB.
type Sky struct {
	Name      string  `json:"name"`
	Azimuth   float64 `json:"azimuth"`
	Elevation float64 `json:"elevation"`
	Colour    uint32  `json:"colour"`  // of the sun
	Power     float64 `json:"power"`   // of the sun: what falls on a surface that faces it, in units of Light times pi
	Disc      float64 `json:"disc"`    // the sun's width
	Dome      uint32  `json:"dome"`    // colour of the sky itself
	Horizon   uint32  `json:"horizon"` // that it goes over into towards the horizon, and has below it
	Glow      float64 `json:"glow"`    // how bright the sky is, in units of Light
	Image     string  `json:"image,omitempty"`
}

// Fog lies all over a map; colour 0xRRGGBB in sRGB. What lies d metres away shows by the part
// exp(-3 (d - From) / Range).
type Fog struct {
	Name   string  `json:"name"`
	Range  float64 `json:"range"` // metres
	Colour uint32  `json:"colour"`
	From   float64 `json:"from,omitempty"` // metres before which there is none
	Sky    float64 `json:"sky,omitempty"`  // how much of the sky it covers
}

// Vertex is a corner: metres, unit normal, texture coordinates in repeats. 32 bytes; Luxel, its
// place on the page of the lightmap in luxels from the first one's middle, stands in a chunk of its
// own.
type Vertex struct {
	Position, Normal [3]float32
	UV               [2]float32
	Luxel            [2]float32
}

// Face is a flat convex polygon of one material. 32 bytes.
type Face struct {
	Material                string
	FirstVertex, Vertices   uint32
	FirstIndex, IndexNumber uint32
	Solid                   uint32  // which solid of the source it came from, counted from 0
	Luxels                  float32 // of the lightmap, a metre; 0: as the map
	Page                    uint32  // of the lightmap, counted from 1; 0: it is on none
}

// Object is anything placed in the map. 64 bytes.
type Object struct {
	Kind   string     // light, spawn, volume, probe, camera, sound, area, or an item's kind with "item:" before it
	Name   string     // may be empty
	Detail string     // light kind, team, effect or sound file
	A, B   [3]float32 // place; the other corner of a volume or area, the target of a camera or light
	Angle  float32    // facing, field of view or width of a light's cone, degrees
	// power of a light in watts, volume of a sound, reach of a probe in metres, exposure of a camera in stops
	Value  float32
	Radius float32 // of a lamp, or half the width of a camera's lens, metres
	Colour uint32  // 0xRRGGBB
	Flags  uint32  // bit 0: loop; bit 1: the light is aimed at B
	Pairs  [][2]string
}

// Grid is a level of cells, from the north-west, row by row; each is an index into Legend.
type Grid struct {
	Name          string
	Level         int32
	Width, Height uint32
	Cells         []uint16
}

// Tile is what a cell can be.
type Tile struct {
	Symbol   rune
	Material string // empty: nothing is drawn
	Solid    bool
}

// Chunk describes a chunk in the file.
type Chunk struct {
	ID      string `json:"id"`
	Version uint16 `json:"version"`
	Codec   uint16 `json:"codec"` // 0: as it is
	Offset  uint64 `json:"offset"`
	Stored  uint64 `json:"stored"`
	Size    uint64 `json:"size"`
	CRC     uint32 `json:"crc32c"`
}

// stringTable gives each text a number; number 0 is the empty text.
type stringTable struct {
	index map[string]uint32
	list  []string
}

func (t *stringTable) add(s string) uint32 {
	if i, ok := t.index[s]; ok {
		return i
	}
	i := uint32(len(t.list))
	t.index[s] = i
	t.list = append(t.list, s)
	return i
}

// Encode writes a compiled map. The same map gives the same bytes.
func Encode(m *Map) ([]byte, error) {
	strs := &stringTable{index: map[string]uint32{}}
	strs.add("")
	meta, err := json.Marshal(m.Meta)
	if err != nil {
		return nil, fmt.Errorf("writing the map's description: %w", err)
	}
	le := binary.LittleEndian
	f32 := func(b []byte, v ...float32) []byte {
		for _, x := range v {
			b = le.AppendUint32(b, math.Float32bits(x))
		}
		return b
	}
	u32 := func(b []byte, v ...uint32) []byte {
		for _, x := range v {
			b = le.AppendUint32(b, x)
		}
		return b
	}
	var vert, indx, face, objs, pair, tile, lege []byte
	for _, v := range m.Vertices {
		vert = f32(vert, v.Position[0], v.Position[1], v.Position[2], v.Normal[0], v.Normal[1], v.Normal[2], v.UV[0],
			v.UV[1])
	}
	indx = u32(indx, m.Indices...)
	for _, f := range m.Faces {
		face = u32(face, strs.add(f.Material), f.FirstVertex, f.Vertices, f.FirstIndex, f.IndexNumber, f.Solid,
			math.Float32bits(f.Luxels), f.Page)
	}
	pairs := uint32(0)
	for _, o := range m.Objects {
		objs = u32(objs, strs.add(o.Kind), strs.add(o.Name), strs.add(o.Detail), o.Flags)
		objs = f32(objs, o.A[0], o.A[1], o.A[2], o.B[0], o.B[1], o.B[2], o.Angle, o.Value)
		objs = u32(objs, o.Colour, pairs, uint32(len(o.Pairs)), math.Float32bits(o.Radius))
		for _, p := range o.Pairs {
			pair = u32(pair, strs.add(p[0]), strs.add(p[1]))
		}
		pairs += uint32(len(o.Pairs))
	}
	for _, t := range m.Legend {
		flags := uint32(0)
		if t.Solid {
			flags = 1
		}
		lege = u32(lege, uint32(t.Symbol), strs.add(t.Material), flags, 0)
	}
	tile = u32(tile, uint32(len(m.Grids)), 0, 0, 0)
	for _, g := range m.Grids {
		tile = u32(tile, strs.add(g.Name), uint32(g.Level), g.Width, g.Height)
		for _, c := range g.Cells {
			tile = le.AppendUint16(tile, c)
		}
		tile = append(tile, make([]byte, (4-len(tile)%4)%4)...)
	}
	rest := append(encodeBodies(m, strs), encodeNavigation(m, strs)...)
	text := u32(nil, uint32(len(strs.list)))
	end := uint32(0)
	for _, s := range strs.list {
		text = u32(text, end)
		end += uint32(len(s))
	}
	text = u32(text, end)
	for _, s := range strs.list {
		text = append(text, s...)
	}
	return assemble(append([]namedChunk{{"META", meta}, {"STRG", text}, {"VERT", vert}, {"INDX", indx}, {"FACE", face},
		{"OBJS", objs}, {"PAIR", pair}, {"LEGE", lege}, {"TILE", tile}}, append(rest, encodeStages(m)...)...)), nil
}

type namedChunk struct {
	id   string
	data []byte
}

func align(n int) int { return (n + alignment - 1) / alignment * alignment }

// assemble lays out header, table and chunks.
func assemble(chunks []namedChunk) []byte {
	le := binary.LittleEndian
	at := align(headerSize + entrySize*len(chunks))
	var table []byte
	for _, c := range chunks {
		table = append(table, c.id...)
		table = le.AppendUint16(table, 1)
		table = le.AppendUint16(table, 0)
		table = le.AppendUint64(table, uint64(at))
		table = le.AppendUint64(table, uint64(len(c.data)))
		table = le.AppendUint64(table, uint64(len(c.data)))
		table = le.AppendUint32(table, crc32.Checksum(c.data, castagnoli))
		table = le.AppendUint32(table, 0)
		at = align(at + len(c.data))
	}
	header := append([]byte{}, magic[:]...)
	header = le.AppendUint32(header, Version)
	header = le.AppendUint32(header, uint32(len(chunks)))
	header = le.AppendUint64(header, uint64(at)) // the map's own size: an appended ZIP begins here
	header = le.AppendUint32(header, crc32.Checksum(table, castagnoli))
	header = append(header, make([]byte, headerSize-4-len(header))...)
	header = le.AppendUint32(header, crc32.Checksum(header, castagnoli))
	out := make([]byte, 0, at)
	out = append(append(out, header...), table...)
	for _, c := range chunks {
		out = append(out, make([]byte, align(len(out))-len(out))...)
		out = append(out, c.data...)
	}
	return append(out, make([]byte, at-len(out))...)
}
