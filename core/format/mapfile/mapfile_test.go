package mapfile_test

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"hash/crc32"
	"io"
	"math"
	"math/rand"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/mapfile"
)

// demoMap reads one of the demo's maps as the compiler writes it, with all stages as drafts
// (core/make/assembly makes the files).
func demoMap(t testing.TB, name string) *mapfile.Map {
	t.Helper()
	f, err := os.Open(filepath.Join("testdata", name+".vnm.gz"))
	require.NoError(t, err)
	defer f.Close()
	r, err := gzip.NewReader(f)
	require.NoError(t, err)
	data, err := io.ReadAll(r)
	require.NoError(t, err)
	m, err := mapfile.Read(data)
	require.NoError(t, err)
	return m
}

func encode(t testing.TB, m *mapfile.Map) []byte {
	t.Helper()
	data, err := mapfile.Encode(m)
	require.NoError(t, err)
	return data
}

func TestRoundTrip(t *testing.T) {
	for _, m := range []*mapfile.Map{demoMap(t, "cairn_station"), demoMap(t, "saltpan_relay"),
		demoMap(t, "tram_depot")} {
		data := encode(t, m)
		got, err := mapfile.Read(data)
		require.NoError(t, err)
		assert.Equal(t, m, got)
		assert.Equal(t, data, encode(t, got), "the same map gives the same bytes")
		got, err = mapfile.Read(append(bytes.Clone(data), "PK and whatever follows"...))
		require.NoError(t, err, "what is appended does not matter")
		assert.Equal(t, m, got)
	}
}

// TestReadByThePage reads a map with nothing but what docs/formats/compiled-map.md says: offsets, sizes, checksums.
func TestReadByThePage(t *testing.T) {
	m := demoMap(t, "cairn_station")
	data := encode(t, m)
	le := binary.LittleEndian
	table := crc32.MakeTable(crc32.Castagnoli)
	assert.Equal(t, []byte{0x8b, 'V', 'N', 'M', 13, 10, 26, 10}, data[:8])
	assert.EqualValues(t, 1, le.Uint32(data[8:]), "version")
	n := int(le.Uint32(data[12:]))
	assert.EqualValues(t, len(data), le.Uint64(data[16:]), "size of the map")
	assert.Zero(t, len(data)%64)
	assert.Equal(t, crc32.Checksum(data[64:64+40*n], table), le.Uint32(data[24:]))
	assert.Equal(t, crc32.Checksum(data[:60], table), le.Uint32(data[60:]))
	chunks := map[string][]byte{}
	for i := range n {
		e := data[64+40*i:]
		at, size := le.Uint64(e[8:]), le.Uint64(e[24:])
		assert.Zero(t, at%64)
		chunks[string(e[:4])] = data[at : at+size]
		assert.Equal(t, crc32.Checksum(data[at:at+size], table), le.Uint32(e[32:]))
	}
	vert, face, strg := chunks["VERT"], chunks["FACE"], chunks["STRG"]
	require.Len(t, vert, 32*len(m.Vertices))
	require.Len(t, face, 32*len(m.Faces))
	float := func(b []byte) float32 { return math.Float32frombits(le.Uint32(b)) }
	last := vert[len(vert)-32:]
	want := m.Vertices[len(m.Vertices)-1]
	assert.Equal(t, want.Position, [3]float32{float(last), float(last[4:]), float(last[8:])})
	assert.Equal(t, want.UV, [2]float32{float(last[24:]), float(last[28:])})
	text := func(i uint32) string {
		count := le.Uint32(strg)
		from, to := le.Uint32(strg[4+4*i:]), le.Uint32(strg[8+4*i:])
		body := strg[8+4*count:]
		return string(body[from:to])
	}
	assert.Equal(t, m.Faces[0].Material, text(le.Uint32(face)))
	object := chunks["OBJS"][:64]
	assert.Equal(t, m.Objects[0].Kind, text(le.Uint32(object)))
	assert.Equal(t, m.Objects[0].Name, text(le.Uint32(object[4:])))
	assert.Equal(t, m.Objects[0].A[2], float(object[24:]))
}

// Any single damaged byte of header, table or a chunk is noticed.
func TestDamageIsNoticed(t *testing.T) {
	m := demoMap(t, "tram_depot")
	data := encode(t, m)
	r, err := mapfile.Open(data)
	require.NoError(t, err)
	covered := make([]bool, len(data))
	for i := range 64 + 40*len(r.Chunks) {
		covered[i] = true
	}
	for _, c := range r.Chunks {
		for i := c.Offset; i < c.Offset+c.Stored; i++ {
			covered[i] = true
		}
	}
	for i := range data {
		if !covered[i] {
			continue // the zeros between chunks mean nothing
		}
		bad := bytes.Clone(data)
		bad[i] ^= 0x10
		if _, err := mapfile.Read(bad); err == nil {
			t.Fatalf("byte %d was changed and nobody noticed", i)
		}
	}
	for n := 0; n < len(data); n += 7 {
		_, err := mapfile.Read(data[:n])
		assert.Error(t, err, "cut at %d", n)
	}
}

func TestOtherFilesAreRefused(t *testing.T) {
	for _, other := range [][]byte{nil, []byte("PK\x03\x04"), []byte("\x89PNG\r\n\x1a\n"), make([]byte, 100)} {
		_, err := mapfile.Open(other)
		assert.ErrorIs(t, err, mapfile.ErrNotMap)
	}
	data := encode(t, demoMap(t, "cairn_station"))
	binary.LittleEndian.PutUint32(data[8:], 99)
	binary.LittleEndian.PutUint32(data[60:], crc32.Checksum(data[:60], crc32.MakeTable(crc32.Castagnoli)))
	_, err := mapfile.Open(data)
	assert.ErrorContains(t, err, "version 99")
}

// repair makes all checksums right again, so that the fuzzer gets past them to what they guard.
func repair(data []byte) {
	if len(data) < 64 {
		return
	}
	le := binary.LittleEndian
	table := crc32.MakeTable(crc32.Castagnoli)
	n := int(min(le.Uint32(data[12:]), 32))
	end := min(64+40*n, len(data))
	for at := 64; at+40 <= end; at += 40 {
		from, size := le.Uint64(data[at+8:]), le.Uint64(data[at+16:])
		if from <= uint64(len(data)) && size <= uint64(len(data))-from {
			le.PutUint32(data[at+32:], crc32.Checksum(data[from:from+size], table))
		}
	}
	le.PutUint32(data[24:], crc32.Checksum(data[64:end], table))
	le.PutUint32(data[60:], crc32.Checksum(data[:60], table))
}

// Any bytes end in a map or an error, and a map that is read can be written and read again.
func FuzzRead(f *testing.F) {
	small := &mapfile.Map{Meta: mapfile.Meta{Name: "m", Modes: []string{}}, Vertices: make([]mapfile.Vertex, 3),
		Indices: []uint32{0, 1, 2},
		Faces:   []mapfile.Face{{Material: "a", Vertices: 3, IndexNumber: 3}},
		Objects: []mapfile.Object{{Kind: "sound", Detail: "s", Pairs: [][2]string{{"k", "v"}}}},
		Bodies:  []mapfile.Body{{Planes: make([]mapfile.Plane, 4), Owner: 1}},
		Nodes:   []mapfile.Node{{Front: -1, Back: -2}}, Leaves: make([]mapfile.Leaf, 2),
		Terrains: []mapfile.Terrain{{Name: "t", Columns: 2, Rows: 2, Heights: make([]uint16, 4),
			Layers: []mapfile.Layer{{Material: "a", Weights: make([]uint8, 4)}}}},
		Models: []mapfile.Model{{Name: "m", Meshes: []mapfile.Mesh{{Material: "a", Vertices: 3, IndexNumber: 3}}}},
		Props:  []mapfile.Prop{{Name: "p"}},
		Legend: []mapfile.Tile{{Symbol: '#', Material: "b", Solid: true}},
		Grids:  []mapfile.Grid{{Name: "g", Width: 3, Height: 1, Cells: make([]uint16, 3)}}}
	f.Add(encode(f, small), true)
	staged := *small // with what the long stages make
	staged.Meta.Stages = map[string]string{"visibility": "full"}
	staged.Leaves = []mapfile.Leaf{{Cell: 1}, {Cell: 2}}
	staged.Visibility = &mapfile.Visibility{Cells: []mapfile.Cell{{Faces: []uint32{0}}, {}}, Rows: [][]uint64{{3}, {2}}}
	staged.Lightmap = &mapfile.Lightmap{Width: 2, Height: 2,
		Pages: []mapfile.LightPage{{Light: make([]mapfile.Light, 4), Toward: make([]uint32, 4)}}}
	staged.Ambient = &mapfile.Ambient{Spacing: 1, Counts: [3]uint32{1, 2, 1}, Samples: make([][6]mapfile.Light, 2)}
	staged.PropLight, staged.TerrainLight, staged.GridLight = [][]mapfile.Light{make([]mapfile.Light, 3)},
		[][]mapfile.Light{make([]mapfile.Light, 4)}, [][]mapfile.Light{make([]mapfile.Light, 3)}
	staged.Navigation = []mapfile.Navigation{{Agent: mapfile.Agent{Name: "a", Radius: 1, Height: 1},
		Areas: []string{"", "mud"}, Polygons: make([]mapfile.Ground, 2), Links: []mapfile.Link{{To: 1}}}}
	staged.Costs = [][]byte{{1, 2, 3}}
	staged.Cubes = []mapfile.Cube{{Texture: []byte("x")}}
	f.Add(encode(f, &staged), true)
	f.Add([]byte("\x8bVNM\r\n\x1a\n"), false)
	f.Fuzz(func(t *testing.T, data []byte, mend bool) {
		if mend {
			data = bytes.Clone(data)
			repair(data)
		}
		m, err := mapfile.Read(data)
		if err != nil {
			return
		}
		m.Materials()
		m.Sounds()
		mapfile.Diff(m, small)
		if m.Visibility != nil {
			m.Visibility.Sights()
		}
		again, err := mapfile.Encode(m)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := mapfile.Read(again); err != nil {
			t.Fatalf("a map that was read can't be read after it was written: %v", err)
		}
	})
}

// What a reader of two maps is told: every kind of difference, and nothing about two maps that are the same.
func TestDiff(t *testing.T) {
	old := demoMap(t, "saltpan_relay")
	assert.Empty(t, mapfile.Diff(old, old))
	data := encode(t, old)
	now, err := mapfile.Read(data)
	require.NoError(t, err)
	now.Meta.Title, now.Meta.Sky = "Saltpan", nil
	now.Objects = append(now.Objects[:2:2], now.Objects[3:]...)
	now.Objects[0].A[2] += 0.5
	now.Props = append(now.Props, mapfile.Prop{Name: "p"})
	now.Terrains[0].Heights[7] += 100
	now.Faces[0].Material = "new/stone"
	got := map[string]int{}
	for _, c := range mapfile.Diff(old, now) {
		got[c.Kind+" "+c.Of]++
		assert.NotEmpty(t, c.Text)
	}
	assert.Equal(t, map[string]int{"changed map": 2, "added material": 1, "changed material": 1, "changed surface": 1,
		"changed terrain": 1, "added prop": 1, "changed light": 1, "removed light": 1}, got)

	tiles := demoMap(t, "tram_depot")
	other, err := mapfile.Read(encode(t, tiles))
	require.NoError(t, err)
	other.Grids[0].Cells[40] = 0
	other.Grids[1].Level = 3
	var texts []string
	for _, c := range mapfile.Diff(tiles, other) {
		texts = append(texts, c.Text)
	}
	assert.Equal(t, []string{"grid ground: 1 cells, the first at 8,1",
		"grid tunnel of 32 x 16 cells on level 3, was 32 x 16 on 1"}, texts)
	assert.Len(t, mapfile.Diff(tiles, old), len(mapfile.Diff(old, tiles)))
}

// TestBodiesByThePage reads bodies, tree, ground and solid cells with nothing but what
// docs/formats/compiled-map.md says.
func TestBodiesByThePage(t *testing.T) {
	m := demoMap(t, "saltpan_relay")
	r, err := mapfile.Open(encode(t, m))
	require.NoError(t, err)
	le := binary.LittleEndian
	chunk := func(id string) []byte {
		data, err := r.Chunk(id)
		require.NoError(t, err)
		return data
	}
	float := func(b []byte) float32 { return math.Float32frombits(le.Uint32(b)) }
	hull, plan, node, leaf, terr := chunk("HULL"), chunk("PLAN"), chunk("NODE"), chunk("LEAF"), chunk("TERR")
	require.Len(t, hull, 16*len(m.Bodies))
	last := m.Bodies[len(m.Bodies)-1]
	first, n := le.Uint32(hull[len(hull)-16:]), le.Uint32(hull[len(hull)-12:])
	require.Len(t, plan, 16*int(first+n))
	assert.Len(t, last.Planes, int(n))
	assert.Equal(t, last.Planes[0].Distance, float(plan[16*first+12:]))
	require.Len(t, node, 32*len(m.Nodes))
	require.Len(t, leaf, 32*len(m.Leaves))
	// A walk down the tree for a place on the landing's floor, and one above it.
	at := func(x, y, z float32) bool {
		for i := int32(0); ; {
			p := node[32*i:]
			child := int32(le.Uint32(p[20:]))
			if float(p)*x+float(p[4:])*y+float(p[8:])*z > float(p[12:]) {
				child = int32(le.Uint32(p[16:]))
			}
			if child < 0 {
				return le.Uint32(leaf[32*(-1-child):])&1 == 1
			}
			i = child
		}
	}
	assert.True(t, at(1, 1, 0.2), "inside the landing")
	assert.False(t, at(1, 1, 1.2), "above it")
	require.EqualValues(t, 1, le.Uint32(terr))
	columns, rows, layers := le.Uint32(terr[16+8:]), le.Uint32(terr[16+12:]), le.Uint32(terr[16+16+28:])
	assert.Equal(t, []uint32{129, 129, 1}, []uint32{columns, rows, layers})
	heights := terr[16+16+28+4+8:]
	assert.Equal(t, m.Terrains[0].Heights[130], le.Uint16(heights[2*130:]))
	assert.Equal(t, m.Terrains[0].Layers[0].Weights[77], heights[2*129*129+77])

	tiles := demoMap(t, "tram_depot")
	r, err = mapfile.Open(encode(t, tiles))
	require.NoError(t, err)
	stop := chunk("STOP")
	require.Len(t, stop, 2*32*16/8)
	for g, grid := range tiles.Grids {
		for i, c := range grid.Cells {
			assert.Equal(t, tiles.Legend[c].Solid, stop[g*64+i/8]>>(i%8)&1 == 1)
		}
	}
}

// Light survives packing to one part in 512 of its brightest colour, over all that the format
// holds; what is no light is darkness.
func TestPackedLight(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	for range 20000 {
		scale := math.Exp(r.Float64()*24 - 13)
		c := [3]float32{float32(r.Float64() * scale), float32(r.Float64() * scale), float32(r.Float64() * scale)}
		got := mapfile.PackLight(c).Colours()
		top := max(c[0], c[1], c[2])
		for k := range c {
			require.InDelta(t, min(c[k], 65408), got[k], float64(max(top, 1.0/32768))/511, "%v", c)
		}
		require.Equal(t, mapfile.PackLight(got), mapfile.PackLight(mapfile.PackLight(got).Colours()))
	}
	nan := float32(math.NaN())
	require.Equal(t, [3]float32{}, mapfile.PackLight([3]float32{nan, -1, 0}).Colours())
	require.Equal(t, float32(65408), mapfile.PackLight([3]float32{float32(math.Inf(1)), 0, 0}).Colours()[0])
	require.Equal(t, [3]float32{1, 0.5, 0}, mapfile.PackLight([3]float32{1, 0.5, 0}).Colours())
}
