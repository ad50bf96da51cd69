package bsp_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/bsp"
	"vornix/core/compile/csg"
	"vornix/core/format/geom"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
)

func build(t *testing.T, lines string) (*scene.Map, *bsp.Tree) {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m\n"+lines), maplang.Options{})
	require.Empty(t, findings)
	faces, err := csg.Build(context.Background(), m, csg.Options{Size: func(string) float64 { return 2 }})
	require.NoError(t, err)
	tree, err := bsp.Build(context.Background(), m, faces.Faces, nil)
	require.NoError(t, err)
	return m, tree
}

// Wherever a point lies, the tree says whether it is in a solid as the solids themselves do, and
// its leaf's box holds it.
func TestLeavesAreWhollyInsideOrOutside(t *testing.T) {
	for seed := range uint64(15) {
		r := rand.New(rand.NewPCG(seed, 5))
		var lines strings.Builder
		for i := range 20 {
			x, y, z := r.Float64()*10, r.Float64()*10, r.Float64()*4
			switch i % 3 {
			case 0:
				fmt.Fprintf(&lines, "solid s%d box %f,%f,%f %f,%f,%f material=a\n", i, x, y, z, x+1+r.Float64()*3,
					y+1+r.Float64()*3, z+1)
			case 1:
				fmt.Fprintf(&lines, "solid s%d cylinder %f,%f,%f radius=1 height=2 sides=6 top=0.5 material=a\n", i, x,
					y, z)
			default:
				fmt.Fprintf(&lines,
					"group g%d at=%f,%f,%f turn=%f\n  solid s%d wedge 0,0,0 2,3,1 rise=east material=a\n", i, x, y, z,
					r.Float64()*90, i)
			}
		}
		m, tree := build(t, lines.String())
		wrong := 0
		for range 20000 {
			p := geom.Vec{X: r.Float64()*16 - 3, Y: r.Float64()*16 - 3, Z: r.Float64()*8 - 1}
			near, in := false, false
			for i := range m.Solids {
				deepest := -1e9
				for _, plane := range m.Solids[i].Planes() {
					deepest = max(deepest, plane.Distance(p))
				}
				in = in || deepest < 0
				near = near || deepest > -0.005 && deepest < 0.005
			}
			leaf := tree.Leaf(p)
			if near || !m.Solids[0].Box.Grow(100).Holds(p) {
				continue
			}
			if tree.Leaves[leaf].Solid != in {
				wrong++
			}
		}
		assert.LessOrEqual(t, wrong, 2, "seed %d: of 20000 points", seed)
	}
}

const room = `solid floor box 0,0,-0.5 10,8,0 material=a
solid roof box 0,0,3 10,8,3.5 material=a
solid north box 0,7.5,0 10,8,3 material=a
solid south box 0,0,0 10,0.5,3 material=a
solid west box 0,0.5,0 0.5,7.5,3 material=a
solid screen box 6,0.5,0 6.5,6,3 material=a
`

func TestLeaks(t *testing.T) {
	for _, c := range []struct {
		walls string
		leaks bool
	}{
		{"solid east box 9.5,0.5,0 10,7.5,3 material=a\n", false},
		{"solid a box 9.5,0.5,0 10,5,3 material=a\nsolid b box 9.5,5,0 10,7.5,3 material=a\n", false},
		{"solid a box 9.5,0.5,0 10,5,3 material=a\nsolid b box 9.5,5.01,0 10,7.5,3 material=a\n", true},
		{"solid east box 9.5,0.5,0 10,7.5,3 material=a detail=yes\n", true},
		{"solid a wedge 9.5,0.5,0 10,7.5,3 rise=east material=a\nsolid b box 9.9,0.5,0 10,7.5,3 material=a\n", false},
	} {
		_, tree := build(t, room+c.walls)
		openings, err := tree.Openings(context.Background(), false)
		require.NoError(t, err)
		inside := geom.Vec{X: 2, Y: 2, Z: 1}
		start, way := tree.Leak(openings, []geom.Vec{{X: 0.2, Y: 0.2, Z: 0.2}, inside})
		if !c.leaks {
			assert.Nil(t, way, c.walls)
			continue
		}
		require.NotNil(t, way, c.walls)
		assert.Equal(t, 1, start, "what is in a wall leads nowhere")
		assert.Equal(t, inside, way[0])
		assert.InDelta(t, 10, way[len(way)-1].X, 1.01, "it ends at the gap")
		assert.True(t, tree.Outside(tree.Leaf(way[len(way)-1].Add(geom.Vec{X: 0.5}))))
		for i := 1; i < len(way); i++ {
			for s := range 20 {
				p := way[i-1].Add(way[i].Sub(way[i-1]).Scale(float64(s) / 20))
				assert.False(t, tree.Leaves[tree.Leaf(p)].Solid, "the way does not pass walls: %v", p)
			}
		}
	}
}

// Each opening lies between two leaves that touch it, one on each side.
func TestOpeningsLieBetweenTheirLeaves(t *testing.T) {
	_, tree := build(t, room)
	openings, err := tree.Openings(context.Background(), false)
	require.NoError(t, err)
	require.NotEmpty(t, openings)
	for _, o := range openings {
		plane, ok := o.Polygon.Plane()
		require.True(t, ok)
		a, b := tree.Leaf(o.Polygon.Middle().Add(plane.N.Scale(1e-3))),
			tree.Leaf(o.Polygon.Middle().Sub(plane.N.Scale(1e-3)))
		assert.ElementsMatch(t, o.Leaves[:], []int{a, b})
	}
}
