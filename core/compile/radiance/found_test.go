package radiance_test

import (
	"image/color"
	"math/rand"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
)

// What a ray finds among boards one behind the other is what sorting them by hand gives: the first
// that is opaque, and all panes before it, each once even where two triangles meet, the nearest
// first.
func TestLookFindsWhatSortingFinds(t *testing.T) {
	looks := map[string]radiance.Appearance{"wall": {},
		"pane": {Colour: even(color.NRGBA{90, 90, 200, 120}), SeeThrough: material.SeeThroughSoft},
		"hole": {Colour: even(color.NRGBA{9, 9, 9, 0}), SeeThrough: material.SeeThroughCutOut},
		"bar":  {Colour: even(color.NRGBA{9, 9, 9, 255}), SeeThrough: material.SeeThroughCutOut}}
	r := rand.New(rand.NewSource(3))
	for range 300 {
		var list []square
		for i := range 1 + r.Intn(12) {
			list = append(list,
				square{x: float32(i) + r.Float32()*0.9, low: [2]float32{-1, -1}, high: [2]float32{1, 1},
					material: []string{"pane", "pane", "hole", "wall", "bar"}[r.Intn(5)]})
		}
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		s := radiance.New(board(list...), paints(looks), nil)
		from := bvh.Vec{-1, 0, 0} // on the diagonal of every board
		if r.Intn(2) == 0 {
			from = bvh.Vec{-1, r.Float32() - 0.5, r.Float32() - 0.5}
		}
		p, hit, soft := s.Look(from, along, 1e6, false, nil)
		slices.SortFunc(list, func(a, b square) int {
			if a.x < b.x {
				return -1
			}
			return 1
		})
		var panes []float32
		wall := float32(-1)
		for _, q := range list {
			if q.material == "pane" {
				panes = append(panes, q.x+1)
			} else if q.material != "hole" {
				wall = q.x + 1
				break
			}
		}
		require.Equal(t, wall >= 0, hit)
		if hit {
			require.InDelta(t, wall, p.Distance, 1e-4)
			require.Contains(t, []string{"wall", "bar"}, s.Materials()[p.Material])
		}
		require.Len(t, soft, len(panes))
		for i, d := range panes {
			require.InDelta(t, d, soft[i].Distance, 1e-4)
			require.False(t, soft[i].Behind)
		}
	}
}

// Backs are passed unless they are asked for, or their material shows from behind; what is behind them is found then.
func TestLookPassesBacks(t *testing.T) {
	looks := map[string]radiance.Appearance{"wall": {}, "cloth": {DoubleSided: true}}
	m := board(square{1, [2]float32{-1, -1}, [2]float32{1, 1}, "wall"},
		square{2, [2]float32{-1, -1}, [2]float32{1, 1}, "wall"},
		square{-5, [2]float32{-1, -1}, [2]float32{1, 1}, "cloth"})
	s := radiance.New(m, paints(looks), nil)
	back := bvh.Vec{-1, 0, 0} // from behind
	p, hit, _ := s.Look(bvh.Vec{9, 0.2, 0.1}, back, 1e6, false, nil)
	require.True(t, hit)
	assert.InDelta(t, 14, p.Distance, 1e-3, "through two walls from behind, to the cloth")
	assert.True(t, p.Behind)
	p, hit, _ = s.Look(bvh.Vec{9, 0.2, 0.1}, back, 1e6, true, nil)
	require.True(t, hit)
	assert.InDelta(t, 7, p.Distance, 1e-3)
	assert.True(t, p.Behind)
	_, hit, _ = s.Look(bvh.Vec{9, 0.2, 0.1}, back, 9, false, nil)
	assert.False(t, hit, "the cloth is too far")
}

// The direction of the light is that of the luxels around, by how near they are; where there is none it is zero.
func TestTowardLiesBetweenLuxels(t *testing.T) {
	m := board(square{1, [2]float32{0, 0}, [2]float32{1, 1}, "wall"})
	s := radiance.New(m, paints(nil), nil)
	p, hit, _ := s.Look(bvh.Vec{0, 0.25, 0.5}, along, 1e6, false, nil)
	require.True(t, hit)
	assert.Zero(t, s.Toward(&p))
	m.Faces[0].Page = 1
	for i := range m.Vertices { // one luxel to the right is one metre along y
		m.Vertices[i].Luxel = [2]float32{m.Vertices[i].UV[0], m.Vertices[i].UV[1]}
	}
	pack := func(x, y, z uint32) uint32 { return x | y<<8 | z<<16 }
	m.Lightmap = &mapfile.Lightmap{Width: 2, Height: 2,
		Pages: []mapfile.LightPage{{Light: make([]mapfile.Light, 4),
			Toward: []uint32{pack(1, 128, 128), pack(128, 255, 128), pack(1, 128, 128), pack(128, 255, 128)}}}}
	d := s.Toward(&p)
	assert.InDelta(t, -0.75, d[0], 0.01)
	assert.InDelta(t, 0.25, d[1], 0.01)
	assert.InDelta(t, 0, d[2], 0.01)
}
