package model_test

import (
	"compress/gzip"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/geom"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
)

// crate is a model file as the compiler exports one: a box below a cylinder (core/make/assembly
// makes the compiled map).
func crate(t *testing.T) []byte {
	t.Helper()
	f, err := os.Open(filepath.Join("testdata", "crate.vnm.gz"))
	require.NoError(t, err)
	defer f.Close()
	r, err := gzip.NewReader(f)
	require.NoError(t, err)
	compiled, err := io.ReadAll(r)
	require.NoError(t, err)
	m, err := mapfile.Read(compiled)
	require.NoError(t, err)
	data, err := gltf.Write(m, nil)
	require.NoError(t, err)
	return data
}

func inside(body []geom.Polygon, p geom.Vec, by float64) bool {
	for _, plane := range geom.Planes(body) {
		if plane.Distance(p) > by {
			return false
		}
	}
	return true
}

func TestModelsKeepTheirShape(t *testing.T) {
	data := crate(t)
	m, findings := model.Read("models/x.glb", "x", data, nil)
	require.Empty(t, findings)
	assert.Equal(t, []string{"wood/plank", "metal/rail"}, m.Materials())
	assert.InDelta(t, 0, m.Box.Min.Sub(geom.Vec{X: -1, Y: -2}).Length(), 1e-5)
	assert.InDelta(t, 0, m.Box.Max.Sub(geom.Vec{X: 1, Y: 2, Z: 4}).Length(), 1e-5)
	require.Len(t, m.Collision, 1, "one convex body around it")
	assert.False(t, m.Named)
	volume := 0.0
	for _, mesh := range m.Meshes {
		for i := 0; i < len(mesh.Indices); i += 3 {
			a, b, c := mesh.Positions[mesh.Indices[i]], mesh.Positions[mesh.Indices[i+1]],
				mesh.Positions[mesh.Indices[i+2]]
			volume += a.Dot(b.Cross(c)) / 6
			assert.Positive(t, b.Sub(a).Cross(c.Sub(a)).Dot(mesh.Normals[mesh.Indices[i]]),
				"triangles look where their normals do")
		}
		for _, p := range mesh.Positions {
			assert.True(t, inside(m.Collision[0], p, 1e-3), "what stops players holds all that is seen")
		}
	}
	assert.InDelta(t, 2*4*3+0.6495, volume, 1e-3)
}

// A body around many points is made of few planes, and still holds them all.
func TestHullsOfManyPoints(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{4, 30, 400} {
		var points []geom.Vec
		for range n {
			points = append(points, geom.Vec{X: r.NormFloat64(), Y: 2 * r.NormFloat64(), Z: r.Float64() * 5})
		}
		body := model.Hull(append(points, points...))
		require.NotNil(t, body)
		for _, p := range points {
			assert.True(t, inside(body, p, 1e-3))
		}
		if n > 40 {
			assert.LessOrEqual(t, len(body), 26)
		}
	}
	assert.Nil(t, model.Hull([]geom.Vec{{}, {X: 1}, {X: 2}, {X: 3}}))
	assert.Nil(t, model.Hull([]geom.Vec{{}, {X: 1}, {Y: 1}, {X: 1, Y: 1}}), "flat")
}

// Placed with a scale, turned or mirrored, a part keeps its outside out and its normals upright.
func TestPartsArePlaced(t *testing.T) {
	part := gltf.Part{Material: "a", Positions: []geom.Vec{{}, {X: 1}, {Y: 1}},
		Normals: []geom.Vec{{Z: 1}, {Z: 1}, {Z: 1}}, UVs: make([][2]float32, 3), Indices: []uint32{0, 1, 2}}
	for _, scale := range []geom.Vec{{X: 1, Y: 1, Z: 1}, {X: -2, Y: 1, Z: 3}, {X: 2, Y: -1, Z: -0.5}} {
		m := model.Shape([]gltf.Part{part, part}, geom.Place(geom.Vec{X: 5}, 30, scale))
		require.Len(t, m.Meshes, 1, "parts of one material are one mesh")
		require.Equal(t, 2, m.Triangles())
		mesh := m.Meshes[0]
		a, b, c := mesh.Positions[mesh.Indices[3]], mesh.Positions[mesh.Indices[4]], mesh.Positions[mesh.Indices[5]]
		assert.Positive(t, b.Sub(a).Cross(c.Sub(a)).Dot(mesh.Normals[mesh.Indices[3]]))
		assert.InDelta(t, 1, mesh.Normals[0].Length(), 1e-9)
	}
}

func TestBrokenModels(t *testing.T) {
	for text, id := range map[string]string{
		`{"asset":{"version":"2.0"}}`: "model.unreadable",
		"glTF":                        "model.unreadable",
	} {
		m, findings := model.Read("models/x.glb", "x", []byte(text), nil)
		assert.Nil(t, m)
		require.Len(t, findings, 1)
		assert.Equal(t, id, findings[0].ID)
	}
}

// A body of few corners is found among many points, such as those that neighbours put on its edges and sides.
func TestFewCornersAmongManyPoints(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	box := geom.NewBox(geom.Vec{X: -1, Y: -2, Z: 0}, geom.Vec{X: 3, Y: 2, Z: 5})
	var points []geom.Vec
	for _, f := range box.Faces() {
		points = append(points, f...)
		for range 50 {
			a, b := r.Float64(), r.Float64()
			points = append(points, f[0].Add(f[1].Sub(f[0]).Scale(a)).Add(f[3].Sub(f[0]).Scale(b)))
		}
	}
	assert.Len(t, model.Hull(points), 6)
}
