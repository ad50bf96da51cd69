package compile_test

import (
	"encoding/binary"
	"hash/crc32"
	"testing"

	"vornix/core/compile/pathfind"
	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/format/mapfile"
)

// Whatever can be read as a compiled map, the packages that draw it, light it and walk on it end with an answer.
func FuzzWhatUsesMaps(f *testing.F) {
	small := &mapfile.Map{Meta: mapfile.Meta{Name: "m", Modes: []string{},
		Stages: map[string]string{"visibility": "full"}}, Vertices: make([]mapfile.Vertex, 3),
		Indices: []uint32{0, 1, 2},
		Faces:   []mapfile.Face{{Material: "a", Vertices: 3, IndexNumber: 3}},
		Bodies:  []mapfile.Body{{Planes: make([]mapfile.Plane, 4), Owner: 1}},
		Nodes:   []mapfile.Node{{Front: -1, Back: -2}}, Leaves: []mapfile.Leaf{{Cell: 1}, {Cell: 2}},
		Terrains: []mapfile.Terrain{{Name: "t", Columns: 2, Rows: 2, Heights: make([]uint16, 4),
			Layers: []mapfile.Layer{{Material: "a", Weights: make([]uint8, 4)}}}},
		Models:     []mapfile.Model{{Name: "m", Meshes: []mapfile.Mesh{{Material: "a", Vertices: 3, IndexNumber: 3}}}},
		Props:      []mapfile.Prop{{Name: "p"}},
		Visibility: &mapfile.Visibility{Cells: []mapfile.Cell{{Faces: []uint32{0}}, {}}, Rows: [][]uint64{{3}, {2}}},
		Navigation: []mapfile.Navigation{{Agent: mapfile.Agent{Name: "a", Radius: 1, Height: 1},
			Areas: []string{"", "mud"}, Polygons: make([]mapfile.Ground, 2), Links: []mapfile.Link{{To: 1}}}}}
	data, err := mapfile.Encode(small)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := mapfile.Read(mended(data))
		if err != nil {
			return
		}
		render.Plan(m, nil)
		render.Ground(m)
		radiance.LitOf(m)
		if m.Visibility != nil {
			m.Visibility.Sights()
		}
		for _, w := range pathfind.Walkers(m) {
			w.Find(pathfind.Point{}, pathfind.Point{1, 1, 0})
		}
	})
}

// mended is data with its checksums put right, so that fuzzing reaches what lies behind them
// (docs/formats/compiled-map.md).
func mended(data []byte) []byte {
	data = append([]byte{}, data...)
	if len(data) < 64 {
		return data
	}
	le, table := binary.LittleEndian, crc32.MakeTable(crc32.Castagnoli)
	end := min(64+40*int(min(le.Uint32(data[12:]), 32)), len(data))
	for at := 64; at+40 <= end; at += 40 {
		from, size := le.Uint64(data[at+8:]), le.Uint64(data[at+16:])
		if from <= uint64(len(data)) && size <= uint64(len(data))-from {
			le.PutUint32(data[at+32:], crc32.Checksum(data[from:from+size], table))
		}
	}
	le.PutUint32(data[24:], crc32.Checksum(data[64:end], table))
	le.PutUint32(data[60:], crc32.Checksum(data[:60], table))
	return data
}
