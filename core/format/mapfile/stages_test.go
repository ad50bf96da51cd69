package mapfile_test

import (
	"bytes"
	"encoding/binary"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/mapfile"
	"vornix/internal/thorough"
)

// page reads a chunk as the page on the format says, with nothing of the package that is tested.
type page struct {
	t    *testing.T
	data []byte
	text func(uint32) string
}

func (p *page) u32() uint32 {
	require.GreaterOrEqual(p.t, len(p.data), 4)
	v := binary.LittleEndian.Uint32(p.data)
	p.data = p.data[4:]
	return v
}

func (p *page) f32() float32 { return math.Float32frombits(p.u32()) }

func (p *page) vec() [3]float32 { return [3]float32{p.f32(), p.f32(), p.f32()} }

func (p *page) zeros(n int) {
	for range n {
		require.Zero(p.t, p.u32())
	}
}

// lights reads n lights: 9 bits a colour, times 2^(e - 24).
func (p *page) lights(n int) (list [][3]float32) {
	for range n {
		v := p.u32()
		scale := float32(math.Pow(2, float64(v>>27)-24))
		list = append(list, [3]float32{float32(v&511) * scale, float32(v>>9&511) * scale, float32(v>>18&511) * scale})
	}
	return list
}

func colours(list []mapfile.Light) (out [][3]float32) {
	for _, l := range list {
		out = append(out, l.Colours())
	}
	return out
}

// chunksOf finds a file's chunks, and reads its texts, by the page.
func chunksOf(t *testing.T, data []byte) func(id string) *page {
	le := binary.LittleEndian
	chunks := map[string][]byte{}
	for i := range int(le.Uint32(data[12:])) {
		e := data[64+40*i:]
		at, size := le.Uint64(e[8:]), le.Uint64(e[24:])
		chunks[string(e[:4])] = data[at : at+size]
	}
	strg := chunks["STRG"]
	text := func(i uint32) string {
		from, to := le.Uint32(strg[4+4*i:]), le.Uint32(strg[8+4*i:])
		return string(strg[8+4*le.Uint32(strg):][from:to])
	}
	return func(id string) *page {
		require.Contains(t, chunks, id)
		return &page{t, chunks[id], text}
	}
}

func TestLightByThePage(t *testing.T) {
	thorough.Only(t)
	m := demoMap(t, "saltpan_relay")
	chunk := chunksOf(t, encode(t, m))

	luxl := chunk("LUXL")
	pages, w, h := luxl.u32(), luxl.u32(), luxl.u32()
	luxl.zeros(1)
	require.Len(t, m.Lightmap.Pages, int(pages))
	lit, toward := 0, 0
	for _, want := range m.Lightmap.Pages {
		require.Equal(t, colours(want.Light), luxl.lights(int(w*h)))
		for i := range w * h {
			v := luxl.u32()
			require.Zero(t, v>>24)
			var l float64
			for k := range 3 {
				d := (float64(v>>(8*k)&255) - 128) / 127
				l += d * d
			}
			require.LessOrEqual(t, l, 1.03, "a length of at most one, but for rounding")
			if want.Light[i].Colours() != ([3]float32{}) {
				lit++
				if l > 0.25 {
					toward++
				}
			}
		}
	}
	require.Empty(t, luxl.data)
	assert.Greater(t, lit, 500)
	assert.Greater(t, toward, lit/4, "under a sun, much light has a direction")

	luvs := chunk("LUVS")
	for i := range m.Vertices {
		require.Equal(t, m.Vertices[i].Luxel, [2]float32{luvs.f32(), luvs.f32()})
	}
	require.Empty(t, luvs.data)

	tlit := chunk("TLIT")
	require.EqualValues(t, len(m.Terrains), tlit.u32())
	tlit.zeros(3)
	n := tlit.u32()
	require.EqualValues(t, m.Terrains[0].Columns*m.Terrains[0].Rows, n, "one a height")
	require.Equal(t, colours(m.TerrainLight[0]), tlit.lights(int(n)))
	require.Empty(t, tlit.data)

	plit := chunk("PLIT")
	require.EqualValues(t, 6, plit.u32(), "the crates")
	plit.zeros(3)
	for i := range m.Props {
		vertices := uint32(0)
		for _, mesh := range m.Models[m.Props[i].Model].Meshes {
			vertices += mesh.Vertices
		}
		n := plit.u32()
		require.Equal(t, vertices, n)
		require.Equal(t, colours(m.PropLight[i]), plit.lights(int(n)))
	}
	require.Empty(t, plit.data)

	ambi := chunk("AMBI")
	require.Equal(t, m.Ambient.Origin, ambi.vec())
	require.Equal(t, m.Ambient.Spacing, ambi.f32())
	counts := [3]uint32{ambi.u32(), ambi.u32(), ambi.u32()}
	require.Equal(t, m.Ambient.Counts, counts)
	ambi.zeros(1)
	brighter := 0
	for i := range counts[0] * counts[1] * counts[2] {
		sides := ambi.lights(6)
		require.Equal(t, colours(m.Ambient.Samples[i][:]), sides)
		if sides[4][0] > sides[5][0] {
			brighter++
		}
	}
	require.Empty(t, ambi.data)
	assert.Greater(t, brighter, len(m.Ambient.Samples)/2, "what faces up gets more light than what faces down")
}

func TestSightGroundAndCubesByThePage(t *testing.T) {
	m := demoMap(t, "cairn_station")
	chunk := chunksOf(t, encode(t, m))

	cells, faces, seen := chunk("CELL"), chunk("CFAC"), chunk("SEEN")
	n := len(cells.data) / 32
	require.Len(t, m.Visibility.Cells, n)
	for a := range n {
		c := &m.Visibility.Cells[a]
		require.Equal(t, c.Min, cells.vec())
		require.Equal(t, c.Max, cells.vec())
		first, count := cells.u32(), cells.u32()
		for k := range count {
			require.Equal(t, c.Faces[k], binary.LittleEndian.Uint32(faces.data[4*(first+k):]))
		}
		row := seen.u32()
		runs := seen.data[:row]
		seen.data = seen.data[row:]
		b := 0
		for set := false; len(runs) > 0; set = !set {
			length, size := binary.Uvarint(runs) // LEB128
			runs = runs[size:]
			for range length {
				require.Equal(t, set, m.Visibility.Sees(a, b), "%d sees %d", a, b)
				b++
			}
		}
		require.Equal(t, n, b)
	}
	require.Empty(t, seen.data)

	navi := chunk("NAVI")
	require.EqualValues(t, 1, navi.u32())
	navi.zeros(3)
	nav := m.Navigation[0]
	require.Equal(t, "courier", navi.text(navi.u32()))
	require.Equal(t, []float32{0.35, 1.8, 0.45, 46, 3, 1.5},
		[]float32{navi.f32(), navi.f32(), navi.f32(), navi.f32(), navi.f32(), navi.f32()}, "as the game's profile says")
	areas, polygons, links := navi.u32(), navi.u32(), navi.u32()
	for range areas {
		navi.u32()
	}
	for i := range polygons {
		p := nav.Polygons[i]
		require.Equal(t, [4]float32{p.Low[0], p.Low[1], p.High[0], p.High[1]},
			[4]float32{navi.f32(), navi.f32(), navi.f32(), navi.f32()})
		require.Equal(t, p.Heights, [4]float32{navi.f32(), navi.f32(), navi.f32(), navi.f32()})
		require.Equal(t, [2]uint32{p.Area, p.Island}, [2]uint32{navi.u32(), navi.u32()})
	}
	for i := range links {
		l := nav.Links[i]
		require.Equal(t, [3]uint32{l.From, l.To, uint32(l.Kind)}, [3]uint32{navi.u32(), navi.u32(), navi.u32()})
		require.Equal(t, l.A, navi.vec())
		require.Equal(t, l.B, navi.vec())
		navi.zeros(1)
		if l.Kind == mapfile.Walk { // walking leads both ways, so both are on one island
			require.Equal(t, nav.Polygons[l.From].Island, nav.Polygons[l.To].Island)
		}
	}
	require.Empty(t, navi.data)

	cube := chunk("CUBE")
	whole := cube.data
	require.EqualValues(t, 4, cube.u32(), "a probe each")
	cube.zeros(3)
	for _, c := range m.Cubes {
		object, at, size := cube.u32(), cube.u32(), cube.u32()
		cube.zeros(1)
		require.Equal(t, "probe", m.Objects[object].Kind)
		require.Zero(t, at%64)
		low := cube.vec()
		cube.zeros(1)
		high := cube.vec()
		cube.zeros(1)
		for k := range 3 {
			require.LessOrEqual(t, low[k], m.Objects[object].A[k])
			require.GreaterOrEqual(t, high[k], m.Objects[object].A[k])
		}
		require.Equal(t, c.Texture, whole[at:at+size])
		require.True(t, bytes.HasPrefix(whole[at:], []byte("\xabKTX 20\xbb\r\n\x1a\n")))
		head := &page{t, whole[at+12:], nil}
		require.EqualValues(t, 143, head.u32(), "VK_FORMAT_BC6H_UFLOAT_BLOCK")
		head.u32()
		require.Equal(t, [5]uint32{16, 16, 0, 0, 6},
			[5]uint32{head.u32(), head.u32(), head.u32(), head.u32(), head.u32()}, "six images")
	}

	grid := demoMap(t, "tram_depot")
	chunk = chunksOf(t, encode(t, grid))
	cost, glit := chunk("COST"), chunk("GLIT")
	require.EqualValues(t, 2, cost.u32())
	cost.zeros(3)
	require.EqualValues(t, 2, glit.u32())
	glit.zeros(3)
	for i, g := range grid.Grids {
		n := int(cost.u32())
		require.Equal(t, int(g.Width*g.Height), n)
		for k := range n {
			require.Equal(t, grid.Legend[g.Cells[k]].Solid, cost.data[k] == 0, "who is solid can't be stepped onto")
		}
		cost.data = cost.data[(n+3)&^3:]
		require.Equal(t, colours(grid.GridLight[i]), glit.lights(int(glit.u32())))
	}
	require.Empty(t, cost.data)
	require.Empty(t, glit.data)
}

// Chunks that lie about what is in them, or name what is not there, end in an error that names the
// chunk, and take no more memory than the file has.
func TestStagesThatLie(t *testing.T) {
	thorough.Only(t)
	le := binary.LittleEndian
	high, low := encode(t, demoMap(t, "saltpan_relay")), encode(t, demoMap(t, "tram_depot"))
	put := func(at int, v uint32) func([]byte) []byte {
		return func(b []byte) []byte { le.PutUint32(b[at:], v); return b }
	}
	cut := func(n int) func([]byte) []byte { return func(b []byte) []byte { return b[:len(b)-n] } }
	nan := math.Float32bits(float32(math.NaN()))
	for _, c := range []struct {
		what, id string
		file     []byte
		lie      func([]byte) []byte
	}{
		{"half a cell", "CELL", high, cut(5)},
		{"a cell whose first face is far out", "CELL", high, put(24, 1<<30)},
		{"a cell of very many faces", "CELL", high, put(28, 1<<31)},
		{"faces that are not there", "CFAC", high, put(0, 1<<20)},
		{"rows that are cut off", "SEEN", high, cut(1)},
		{"a row longer than the chunk", "SEEN", high, put(0, 1<<31)},
		{"very many pages", "LUXL", high, put(0, 1<<31)},
		{"pages of no size", "LUXL", high, put(4, 0)},
		{"huge pages", "LUXL", high, put(4, 1<<20)},
		{"places for half of the vertices", "LUVS", high, cut(8)},
		{"a place that is no number", "LUVS", high, put(0, nan)},
		{"more terrains than there are", "TLIT", high, put(0, 7)},
		{"fewer heights than there are", "TLIT", high, put(16, 3)},
		{"light that is cut off", "TLIT", high, cut(4)},
		{"a prop of other vertices", "PLIT", high, put(16, 1)},
		{"a grid of light in the air that is huge", "AMBI", high, put(16, 1<<31)},
		{"a grid of another size", "AMBI", high, put(16, 1)},
		{"no spacing", "AMBI", high, put(12, 0)},
		{"a spacing that is no number", "AMBI", high, put(12, nan)},
		{"cubes of what is no object", "CUBE", high, put(16, 1<<20)},
		{"a cube beyond the chunk", "CUBE", high, put(20, 1<<31)},
		{"a cube larger than the chunk", "CUBE", high, put(24, 1<<31)},
		{"very many cubes", "CUBE", high, put(0, 1<<31)},
		{"very many agents", "NAVI", high, put(0, 1<<31)},
		{"an agent whose name is not there", "NAVI", high, put(16, 1<<20)},
		{"an agent of no number's size", "NAVI", high, put(20, nan)},
		{"very many polygons", "NAVI", high, put(48, 1<<31)},
		{"very many links", "NAVI", high, put(52, 1<<31)},
		{"ground that is cut off", "NAVI", high, cut(4)},
		{"costs of more grids than there are", "COST", low, put(0, 9)},
		{"costs of fewer cells", "COST", low, put(16, 8)},
		{"costs that are cut off", "COST", low, cut(8)},
		{"light on more grids than there are", "GLIT", low, put(0, 9)},
		{"light on fewer cells", "GLIT", low, put(16, 8)},
	} {
		t.Run(c.what, func(t *testing.T) {
			data := bytes.Clone(c.file)
			found := false
			for i := range int(le.Uint32(data[12:])) {
				e := data[64+40*i:]
				if string(e[:4]) != c.id {
					continue
				}
				found = true
				at, size := le.Uint64(e[8:]), le.Uint64(e[24:])
				now := c.lie(data[at : at+size])
				le.PutUint64(e[16:], uint64(len(now)))
				le.PutUint64(e[24:], uint64(len(now)))
			}
			require.True(t, found)
			repair(data)
			_, err := mapfile.Read(data)
			require.Error(t, err)
			name := c.id
			switch c.id { // a chunk that goes with another is read with it
			case "SEEN", "CFAC":
				name = "CELL"
			case "LUVS":
				name = "LUXL"
			}
			assert.True(t, strings.Contains(err.Error(), name) || strings.Contains(err.Error(), c.id), "%v", err)
		})
	}
}

// What is said of a cell is what one finds by looking through all pairs.
func TestSights(t *testing.T) {
	v := demoMap(t, "cairn_station").Visibility
	for i, s := range v.Sights() {
		cells, faces := 0, map[uint32]bool{}
		for k := range v.Cells {
			if v.Sees(i, k) {
				cells++
				for _, f := range v.Cells[k].Faces {
					faces[f] = true
				}
			}
		}
		require.Equal(t, mapfile.CellSight{Cells: cells, Faces: len(faces)}, s)
	}
}
