package csg_test

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/csg"
	"vornix/core/format/geom"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
	"vornix/internal/thorough"
)

func read(t testing.TB, lines string) *scene.Map {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m\n"+lines), maplang.Options{})
	require.Empty(t, findings)
	return m
}

func surface(t testing.TB, m *scene.Map, through ...string) *csg.Result {
	t.Helper()
	r, err := csg.Build(context.Background(), m,
		csg.Options{Size: func(string) float64 { return 2 }, Fit: func(string) [2]float64 { return [2]float64{1, 1} },
			SeeThrough: func(name string) bool { return strings.Contains(strings.Join(through, " "), name) }})
	require.NoError(t, err)
	return r
}

// closed says whether every edge of the surface is met by one that runs the other way: no gap, no T-junction.
func closed(faces []csg.Face) (loose int) {
	edges := map[[2]geom.Vec]int{}
	for _, f := range faces {
		for i, a := range f.Polygon {
			b := f.Polygon[(i+1)%len(f.Polygon)]
			edges[[2]geom.Vec{a, b}]++
			edges[[2]geom.Vec{b, a}]--
		}
	}
	for _, n := range edges {
		if n > 0 {
			loose += n
		}
	}
	return loose
}

// volume is what the surface encloses, by the divergence theorem on its triangles.
func volume(faces []csg.Face) float64 {
	v := 0.0
	for _, f := range faces {
		list := csg.Triangles(f.Polygon)
		for i := 0; i < len(list); i += 3 {
			a, b, c := f.Polygon[list[i]], f.Polygon[list[i+1]], f.Polygon[list[i+2]]
			v += a.Dot(b.Cross(c)) / 6
		}
	}
	return v
}

// Boxes at whole metres, in and against one another in every way: the surface is closed, encloses
// just the cells that any box holds, and shows no face twice and none that is hidden.
func TestBoxesBecomeTheSurfaceOfTheirUnion(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		const size = 8
		var cells [size][size][size]bool
		var lines strings.Builder
		for i := range 3 + r.IntN(10) {
			var low, high [3]int
			for k := range 3 {
				low[k] = r.IntN(size - 1)
				high[k] = low[k] + 1 + r.IntN(size-1-low[k])
			}
			fmt.Fprintf(&lines, "solid s%d box %d,%d,%d %d,%d,%d material=m%d\n", i, low[0], low[1], low[2], high[0],
				high[1], high[2], r.IntN(2))
			for x := low[0]; x < high[0]; x++ {
				for y := low[1]; y < high[1]; y++ {
					for z := low[2]; z < high[2]; z++ {
						cells[x][y][z] = true
					}
				}
			}
		}
		at := func(x, y, z int) bool {
			return x >= 0 && y >= 0 && z >= 0 && x < size && y < size && z < size && cells[x][y][z]
		}
		filled, outside := 0, 0
		for x := -1; x <= size; x++ {
			for y := -1; y <= size; y++ {
				for z := -1; z <= size; z++ {
					if at(x, y, z) {
						filled++
						for _, d := range [][3]int{{1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1},
							{0, 0, -1}} {
							if !at(x+d[0], y+d[1], z+d[2]) {
								outside++
							}
						}
					}
				}
			}
		}
		faces := surface(t, read(t, lines.String())).Faces
		area := 0.0
		for _, f := range faces {
			area += f.Area()
		}
		assert.Zero(t, closed(faces), "seed %d:\n%s", seed, lines.String())
		assert.InDelta(t, float64(filled), volume(faces), 1e-6, "seed %d", seed)
		assert.InDelta(t, float64(outside), area, 1e-6, "seed %d", seed)
	}
}

// Oblique solids in one another: closed but for what Tolerance allows, no face inside a solid, and
// the enclosed volume is that of a count of points.
func TestObliqueSolidsBecomeTheSurfaceOfTheirUnion(t *testing.T) {
	thorough.Only(t)
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 2))
		var lines strings.Builder
		for i := range 8 {
			x, y, z := r.Float64()*6, r.Float64()*6, r.Float64()*3
			switch i % 4 {
			case 0:
				fmt.Fprintf(&lines, "group g%d at=%f,%f,%f turn=%f\n  solid s%d box 0,0,0 3,2,2 material=a\n", i, x, y,
					z, r.Float64()*90, i)
			case 1:
				fmt.Fprintf(&lines, "solid s%d cylinder %f,%f,%f radius=1.5 height=3 sides=7 top=%f material=a\n", i, x,
					y, z, r.Float64())
			case 2:
				fmt.Fprintf(&lines, "solid s%d wedge %f,%f,%f %f,%f,%f rise=north material=b\n", i, x, y, z, x+2, y+3,
					z+1.5)
			default:
				fmt.Fprintf(&lines, "solid s%d hull %f,%f,%f %f,%f,%f %f,%f,%f %f,%f,%f %f,%f,%f material=b\n", i, x, y,
					z, x+3, y, z, x+3, y+2, z, x, y+3, z+0.5, x+1, y+1, z+3)
			}
		}
		m := read(t, lines.String())
		faces := surface(t, m).Faces
		inside := func(p geom.Vec, by float64) bool {
			for i := range m.Solids {
				in := true
				for _, plane := range m.Solids[i].Planes() {
					in = in && plane.Distance(p) < -by
				}
				if in {
					return true
				}
			}
			return false
		}
		for _, f := range faces {
			assert.False(t, inside(f.Middle(), 0.01), "seed %d: a face lies inside a solid", seed)
			assert.True(t, inside(f.Middle().Sub(f.Of.Plane.N.Scale(0.004)), 0),
				"seed %d: there is nothing behind a face", seed)
		}
		assert.LessOrEqual(t, closed(faces), 4, "seed %d: loose edges of %d faces", seed, len(faces))
		box, _ := m.Bounds()
		size := box.Max.Sub(box.Min)
		hit, all := 0, 200000
		for range all {
			if inside(box.Min.Add(geom.Vec{X: r.Float64() * size.X, Y: r.Float64() * size.Y, Z: r.Float64() * size.Z}),
				0) {
				hit++
			}
		}
		sampled := float64(hit) / float64(all) * size.X * size.Y * size.Z
		assert.InEpsilon(t, sampled, volume(faces), 0.03, "seed %d", seed)
	}
}

// The same faces, to the bit, on one processor and on many.
func TestTheResultDoesNotDependOnProcessors(t *testing.T) {
	var lines strings.Builder
	r := rand.New(rand.NewPCG(7, 7))
	for i := range 300 {
		x, y := r.Float64()*60, r.Float64()*60
		fmt.Fprintf(&lines, "solid s%d cylinder %f,%f,0 radius=2 height=%f sides=9 material=a\n", i, x, y,
			1+r.Float64())
	}
	m := read(t, lines.String())
	many := surface(t, m)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	one := surface(t, m)
	require.Len(t, one.Faces, len(many.Faces))
	for i := range one.Faces {
		require.Equal(t, many.Faces[i].Polygon, one.Faces[i].Polygon)
		require.Equal(t, many.Faces[i].UV, one.Faces[i].UV)
	}
}

func TestWhatShowsWhereFacesCoincide(t *testing.T) {
	tops := func(r *csg.Result) map[string]float64 {
		area := map[string]float64{}
		for _, f := range r.Faces {
			if f.Of.Plane.N.Z > 0.9 {
				area[f.Of.Material.Name] += f.Area()
			}
		}
		return area
	}
	r := surface(t, read(t, "solid a box 0,0,0 4,4,1 material=a\nsolid b box 1,1,0.5 2,2,1 material=b\n"))
	assert.InDelta(t, 15, tops(r)["a"], 1e-9)
	assert.InDelta(t, 1, tops(r)["b"], 1e-9, "the later solid shows")
	r = surface(t, read(t, "solid b box 1,1,0.5 2,2,1 material=b\nsolid a box 0,0,0 4,4,1 material=a\n"))
	assert.Zero(t, tops(r)["b"])
	assert.Equal(t, []int{0}, r.Hidden, "and the earlier is hidden")
	assert.Len(t, r.Faces, 6, "what nothing cuts stays whole")
	r = surface(t, read(t,
		"solid a box 0,0,0 4,4,1 material=a\nsolid b box 4,0,0 6,4,1 material=a\nsolid c box 2,4,0 6,9,1 material=a\n"))
	assert.InDelta(t, 44, tops(r)["a"], 1e-9)
	assert.LessOrEqual(t, len(r.Faces), 12, "neighbours that look the same are joined")
	assert.Zero(t, closed(r.Faces))
	r = surface(t, read(t,
		"solid a box 0,0,0 4,4,1 material=a\nsolid w box 0,0,1 4,4,2 material=water\nsolid x box 4,0,1 8,4,2 material=water\n"), "water")
	assert.InDelta(t, 16, tops(r)["a"], 1e-9, "what lies under water shows")
	for _, f := range r.Faces {
		assert.False(t, f.Of.Material.Name == "water" && math.Abs(f.Of.Plane.N.X) > 0.9 && f.Middle().X == 4,
			"no wall between water and water")
	}
}

// A texture runs around a cylinder without a jump, but where it begins.
func TestTexturesRunAround(t *testing.T) {
	faces := surface(t, read(t, "solid c cylinder 3,3,0 radius=2 height=4 sides=12 material=a\n")).Faces
	jumps := 0
	for _, f := range faces {
		for _, g := range faces {
			if math.Abs(f.Of.Plane.N.Z) > 0.5 || math.Abs(g.Of.Plane.N.Z) > 0.5 || f.Of == g.Of {
				continue
			}
			for i, a := range f.Polygon {
				for k, b := range g.Polygon {
					if a == b && math.Abs(f.UV[i][0]-g.UV[k][0]) > 1e-9 {
						jumps++
					}
				}
			}
		}
	}
	assert.LessOrEqual(t, jumps, 4, "two corners of one edge, seen from both sides")
}

// Every triangle has an area, and together they are the polygon, wherever neighbours put corners on its edges.
func TestTriangles(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		corners := geom.Polygon{{X: 0, Y: 0}, {X: 4, Y: 0}, {X: 4, Y: 3}, {X: 0, Y: 3}}[:3+r.IntN(2)]
		var p geom.Polygon
		for i, a := range corners {
			p = append(p, a)
			n := r.IntN(4)
			for k := range n {
				p = append(p, a.Add(corners[(i+1)%len(corners)].Sub(a).Scale(float64(k+1)/float64(n+1))))
			}
		}
		area := 0.0
		list := csg.Triangles(p)
		for i := 0; i < len(list); i += 3 {
			one := p[list[i+1]].Sub(p[list[i]]).Cross(p[list[i+2]].Sub(p[list[i]])).Z / 2
			assert.Greater(t, one, 1e-6, "%v: %v", p, list)
			area += one
		}
		assert.InDelta(t, corners.Area(), area, 1e-9)
		assert.Len(t, list, 3*(len(p)-2))
	}
}

// Cancelled, the stage ends with that and without a surface.
func TestCancel(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := csg.Build(ctx, read(t, "solid a box 0,0,0 4,4,1 material=a\n"),
		csg.Options{Size: func(string) float64 { return 2 }})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestTenThousandCratesOnOneFloor(t *testing.T) {
	thorough.Only(t)
	lines := "solid floor box 0,0,-1 400,400,0 material=a\nrepeat crates grid count=100,100,1 step=4,4,0\n  solid c box 1,1,0 2,2,1 material=b\n"
	faces := surface(t, read(t, lines)).Faces
	assert.Zero(t, closed(faces))
	assert.InDelta(t, 400*400+10000, volume(faces), 1e-3)
}
