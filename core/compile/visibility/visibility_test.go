package visibility_test

import (
	"context"
	"math/rand"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/source/maplang"
	"vornix/internal/testmaps"
	"vornix/internal/thorough"
)

func seen(t *testing.T, source string, env stage.Env) *compile.Result {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte(source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	env.Only = []string{stage.Visibility}
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 1 },
		SeeThrough: func(name string) bool { return name == "glass" }, Long: &compile.Long{Env: env}})
	require.NoError(t, err)
	return r
}

// leafAt walks the compiled map's tree, as a game does.
func leafAt(m *mapfile.Map, p bvh.Vec) *mapfile.Leaf {
	at := int32(0)
	for at >= 0 {
		n := &m.Nodes[at]
		if bvh.Vec(n.Normal).Dot(p) > n.Distance {
			at = n.Front
		} else {
			at = n.Back
		}
	}
	return &m.Leaves[-1-at]
}

// Points between which nothing stands are never in cells that are said not to see each other.
func TestAPairThatSeesEachOtherIsNeverHidden(t *testing.T) {
	thorough.Only(t)
	for name, source := range map[string]string{"rooms": testmaps.Rooms(1000), "open": testmaps.Open(60),
		"slits": slits} {
		r := seen(t, source, stage.Env{})
		m := r.Map
		s := radiance.New(m, func(name string) *radiance.Painted {
			if name == "glass" {
				return radiance.Paint(radiance.Appearance{SeeThrough: material.SeeThroughSoft}, 1)
			}
			return radiance.Paint(radiance.Appearance{}, 1)
		}, nil)
		box, _ := s.Box()
		random := rand.New(rand.NewSource(3))
		point := func() bvh.Vec {
			size := box.Max.Sub(box.Min)
			return bvh.Vec{float32(box.Min.X + size.X*random.Float64()), float32(box.Min.Y + size.Y*random.Float64()),
				float32(box.Min.Z + size.Z*random.Float64())}
		}
		pairs, open, hidden := 0, 0, 0
		for pairs < 100000 {
			a, b := point(), point()
			if pairs%2 == 0 { // near ones meet more often
				b = a.Add(b.Sub(a).Scale(0.2))
			}
			la, lb := leafAt(m, a), leafAt(m, b)
			if la.Cell == 0 || lb.Cell == 0 {
				continue
			}
			pairs++
			sees := m.Visibility.Sees(int(la.Cell-1), int(lb.Cell-1))
			if !sees {
				hidden++
			}
			if !s.Blocked(a, b.Sub(a)) {
				open++
				require.True(t, sees, "%s: %v sees %v", name, a, b)
			}
		}
		require.Greater(t, open, 1000, name)
		if name != "open" {
			require.Greater(t, hidden, 10000, "%s: what walls hide is hidden", name)
		}
		for a := range m.Visibility.Cells {
			require.True(t, m.Visibility.Sees(a, a))
			for b := range m.Visibility.Cells {
				require.Equal(t, m.Visibility.Sees(a, b), m.Visibility.Sees(b, a))
			}
		}
	}
}

// slits is two halls with narrow gaps between them, a pane of glass, and a cellar that nobody can see.
const slits = `map slits title="Slits" players=1..2
solid floor box 0,0,-1 40,12,0 material=g
solid roof box 0,0,4 40,12,5 material=g
solid south box 0,-1,-1 40,0,5 material=g
solid north box 0,12,-1 40,13,5 material=g
solid west box -1,-1,-1 0,13,5 material=g
solid east box 40,-1,-1 41,13,5 material=g
repeat walls line count=3 step=10,0,0 at=10,0,0
  solid a box -0.2,0,0 0.2,3,4 material=g
  solid b box -0.2,3.05,0 0.2,8,4 material=g
  solid c box -0.2,8.3,0 0.2,12,4 material=g
  solid pane box -0.1,3,0 0.1,3.05,4 material=glass
solid crate box 4,4,0 6,6,2 material=g detail=yes
solid under box 0,0,-4 40,12,-3 material=g
solid u1 box 0,-1,-3 40,0,-1 material=g
solid u2 box 0,12,-3 40,13,-1 material=g
solid u3 box -1,-1,-4 0,13,-1 material=g
solid u4 box 40,-1,-4 41,13,-1 material=g
`

func TestWallsHideGlassDoesNotAndMarksCut(t *testing.T) {
	m := seen(t, slits, stage.Env{}).Map
	cell := func(x, y, z float32) int { return int(leafAt(m, bvh.Vec{x, y, z}).Cell) - 1 }
	require.True(t, m.Visibility.Sees(cell(5, 3, 1), cell(15, 3, 1)), "through the pane")
	require.False(t, m.Visibility.Sees(cell(5, 3, 1), cell(5, 3, -2)), "the cellar")
	require.Equal(t, cell(5, 4.5, 3), cell(3.5, 4.5, 3), "detail parts nothing")
	marked := seen(t, slits+"cut mark box 12,0,0 13,12,4\n", stage.Env{}).Map
	at := func(x float32) uint32 { return leafAt(marked, bvh.Vec{x, 6, 2}).Cell }
	require.NotEqual(t, at(11.9), at(12.1))
	require.NotEqual(t, at(12.9), at(13.1))
	require.Len(t, map[uint32]bool{at(12.1): true, at(12.5): true, at(12.9): true}, 1)

	draft := seen(t, slits, stage.Env{Draft: true}).Map
	require.True(t, draft.Visibility.Sees(cell(5, 3, 1), cell(35, 11, 1)), "a draft knows no walls")
	require.False(t, draft.Visibility.Sees(cell(5, 3, 1), cell(5, 3, -2)), "but ways")
	// every face is in a cell, and what a file holds is what was found
	for _, m := range []*mapfile.Map{m, marked, draft} {
		owned := map[uint32]bool{}
		for _, c := range m.Visibility.Cells {
			for _, f := range c.Faces {
				owned[f] = true
			}
		}
		require.Len(t, owned, len(m.Faces))
		data, err := mapfile.Encode(m)
		require.NoError(t, err)
		again, err := mapfile.Read(data)
		require.NoError(t, err)
		require.Equal(t, m.Visibility, again.Visibility)
	}
}

func TestAnyNumberOfWorkersSeesTheSame(t *testing.T) {
	source := testmaps.Rooms(200)
	var first []byte
	for _, n := range []int{1, 2, 8} {
		old := runtime.GOMAXPROCS(n)
		data, err := mapfile.Encode(seen(t, source, stage.Env{Workers: n}).Map)
		runtime.GOMAXPROCS(old)
		require.NoError(t, err)
		if first == nil {
			first = data
		}
		require.Equal(t, first, data)
	}
}

func TestACancelledStageStops(t *testing.T) {
	m, _ := maplang.Read("m.vnx", []byte(testmaps.Rooms(400)), maplang.Options{})
	ctx, cancel := context.WithCancel(context.Background())
	said := 0
	_, err := compile.Compile(ctx, m,
		compile.Options{MaterialSize: func(string) float64 { return 1 },
			Long: &compile.Long{Env: stage.Env{Progress: func(name string, done, total int64) {
				if said++; said == 10 {
					require.Equal(t, stage.Visibility, name)
					require.True(t, done > 0 && done < total)
					cancel()
				}
			}}}})
	require.ErrorIs(t, err, context.Canceled)
	require.True(t, strings.Contains(err.Error(), "canceled"))
}
