package gltf_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/geom"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
)

// A node that is placed by translation, rotation and scale stands where one stands that is placed
// by the matrix of the same.
func TestPlacesByPartsAndByMatrix(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		var q [4]float64
		length := 0.0
		for k := range q {
			q[k] = r.NormFloat64()
			length += q[k] * q[k]
		}
		for k := range q {
			q[k] /= math.Sqrt(length)
		}
		x, y, z, w := q[0], q[1], q[2], q[3]
		s, m := [3]float64{0.5 + r.Float64(), -1 - r.Float64(), 2},
			[3]float64{r.NormFloat64() * 50, r.NormFloat64() * 50, r.NormFloat64()}
		matrix := [16]float64{
			(1 - 2*(y*y+z*z)) * s[0], 2 * (x*y + z*w) * s[0], 2 * (x*z - y*w) * s[0], 0,
			2 * (x*y - z*w) * s[1], (1 - 2*(x*x+z*z)) * s[1], 2 * (y*z + x*w) * s[1], 0,
			2 * (x*z + y*w) * s[2], 2 * (y*z - x*w) * s[2], (1 - 2*(x*x+y*y)) * s[2], 0,
			m[0], m[1], m[2], 1}
		list := fmt.Sprint(matrix[0])
		for _, v := range matrix[1:] {
			list += "," + fmt.Sprint(v)
		}
		text := fmt.Sprintf(`{"asset":{"version":"2.0"},"scene":0,"scenes":[{"nodes":[0,1]}],"nodes":[{"translation":[%v,%v,%v],"rotation":[%v,%v,%v,%v],"scale":[%v,%v,%v]},{"matrix":[%s]}]}`,
			m[0], m[1], m[2], x, y, z, w, s[0], s[1], s[2], list)
		scene, err := gltf.Read("a.gltf", []byte(text), nil)
		require.NoError(t, err)
		require.Len(t, scene.Nodes, 2)
		for range 5 {
			p := geom.Vec{X: r.NormFloat64(), Y: r.NormFloat64(), Z: r.NormFloat64()}
			assert.InDelta(t, 0, scene.Nodes[0].At.Point(p).Sub(scene.Nodes[1].At.Point(p)).Length(), 1e-5)
		}
		assert.Equal(t, geom.Vec{X: m[0], Y: -m[2], Z: m[1]}, scene.Nodes[0].At.Move, "Y up becomes Z up")
	}
}

// Whatever way things face and cameras and lights look, it is the same after writing and reading.
func TestDirectionsSurvive(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	m := &mapfile.Map{Meta: mapfile.Meta{Name: "m", Modes: []string{}}}
	point := func() [3]float32 {
		return [3]float32{float32(r.NormFloat64() * 20), float32(r.NormFloat64() * 20), float32(r.NormFloat64() * 20)}
	}
	for range 60 {
		m.Objects = append(m.Objects,
			mapfile.Object{Kind: "spawn", Name: fmt.Sprint("s", len(m.Objects)), A: point(),
				Angle: float32(r.IntN(360))},
			mapfile.Object{Kind: "camera", Name: fmt.Sprint("c", len(m.Objects)), A: point(), B: point(),
				Angle: 20 + float32(r.IntN(120))},
			mapfile.Object{Kind: "light", Name: fmt.Sprint("l", len(m.Objects)), Detail: "spot", A: point(), B: point(),
				Angle: 20 + float32(r.IntN(120)), Value: 5, Flags: 2})
	}
	data, err := gltf.Write(m, nil)
	require.NoError(t, err)
	scene, err := gltf.Read("m.glb", data, nil)
	require.NoError(t, err)
	require.Len(t, scene.Nodes, len(m.Objects))
	wide := func(v [3]float32) geom.Vec {
		return geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])}
	}
	for i, o := range m.Objects {
		n := scene.Nodes[i]
		assert.InDelta(t, 0, n.At.Move.Sub(wide(o.A)).Length(), 1e-4)
		ahead, ok := n.At.Direction(geom.Vec{Y: 1}).Unit()
		require.True(t, ok)
		if o.Kind == "spawn" {
			off := math.Mod(math.Abs(n.At.Heading(0)-float64(o.Angle))+0.001, 360)
			assert.Less(t, off, 0.01, "facing %v", o.Angle)
			continue
		}
		way, _ := wide(o.B).Sub(wide(o.A)).Unit()
		assert.InDelta(t, 1, ahead.Dot(way), 1e-6, "%s from %v to %v", o.Kind, o.A, o.B)
		if o.Kind == "camera" {
			assert.InDelta(t, float64(o.Angle), n.Camera.FOV, 1e-3)
		} else {
			assert.InDelta(t, float64(o.Angle), n.Light.Cone, 1e-3)
		}
	}
}
