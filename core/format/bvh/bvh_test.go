package bvh

import (
	"math"
	"math/rand"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"
)

// soup is n triangles of many sizes, some flat on an axis, some without an area.
func soup(n int, seed int64) []Triangle {
	r := rand.New(rand.NewSource(seed))
	list := make([]Triangle, n)
	for i := range list {
		at := Vec{r.Float32()*20 - 10, r.Float32()*20 - 10, r.Float32()*4 - 2}
		size := float32(math.Exp(r.Float64()*5 - 4))
		for k := range 3 {
			for j := range 3 {
				list[i][k][j] = at[j] + (r.Float32()-0.5)*size
			}
			if i%3 == 0 {
				list[i][k][i%9/3] = at[i%9/3]
			}
		}
		if i%50 == 7 {
			list[i][2] = list[i][1]
		}
	}
	return list
}

// asks are rays of all kinds: along axes, between points, from far away, from on a triangle.
func asks(n int, list []Triangle, seed int64) (from, dir []Vec) {
	r := rand.New(rand.NewSource(seed))
	for i := range n {
		p, q := Vec{r.Float32()*24 - 12, r.Float32()*24 - 12, r.Float32()*6 - 3},
			Vec{r.Float32()*24 - 12, r.Float32()*24 - 12, r.Float32()*6 - 3}
		d := Vec{q[0] - p[0], q[1] - p[1], q[2] - p[2]}
		switch i % 5 {
		case 0:
			d = Vec{}
			d[i/5%3] = float32(1 - 2*(i/15%2))
		case 1:
			p = list[r.Intn(len(list))][0]
		case 2:
			d[i/5%3] = 0
		}
		from, dir = append(from, p), append(dir, d)
	}
	return from, dir
}

func TestRaysMeetWhatASearchThroughAllMeets(t *testing.T) {
	for _, n := range []int{1, 2, 5, 3000, 20000} {
		list := soup(n, int64(n))
		tree := New(list)
		from, dir := asks(max(100, 100000/n), list, 3)
		met := 0
		for i := range from {
			for _, limit := range []float32{1, math.MaxFloat32} {
				want, wantT, all := -1, limit, 0
				for k := range list {
					s := stored{corner: list[k][0], a: sub(list[k][1], list[k][0]), b: sub(list[k][2], list[k][0])}
					if d, _, _, ok := s.meet(&from[i], &dir[i]); ok && d > 0 && d < limit {
						all++
						if d < wantT {
							want, wantT = k, d
						}
					}
				}
				h, ok := tree.First(from[i], dir[i], limit, nil)
				require.Equal(t, want >= 0, ok, "ray %d", i)
				if ok {
					met++
					require.Equal(t, wantT, h.T)
				}
				through := 0
				tree.Through(from[i], dir[i], limit, func(Hit) bool { through++; return true })
				require.Equal(t, all, through)
				require.Equal(t, ok, tree.Blocked(from[i], dir[i], limit), "ray %d from %v to %v", i, from[i], dir[i])
				second, found := tree.First(from[i], dir[i], limit, func(h Hit) bool { return h.Triangle == want })
				require.Equal(t, all > 1, found)
				if found {
					require.NotEqual(t, want, second.Triangle)
					require.GreaterOrEqual(t, second.T, wantT)
				}
			}
		}
		require.True(t, met > 0 || n < 10)
	}
}

func sub(a, b Vec) Vec { return Vec{a[0] - b[0], a[1] - b[1], a[2] - b[2]} }

func TestTheFastWayToAskIsThePlainOne(t *testing.T) {
	list := soup(5000, 9)
	tree := New(list)
	from, dir := asks(300, list, 4)
	for i := range from {
		for k := 0; k < len(tree.nodes); k += 37 {
			a := tree.ask(&from[i], &dir[i], 2)
			b := a
			require.Equal(t, entersPlain(&tree.nodes[k], &a), enters(&tree.nodes[k], &b))
			require.Equal(t, a.in, b.in)
		}
	}
}

func TestATreeIsTheSameOnAnyNumberOfProcessors(t *testing.T) {
	list := soup(60000, 5)
	many := New(list)
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	require.Equal(t, many, New(list))
}

func TestNoRaySlipsOutOfAClosedBody(t *testing.T) {
	const side = 48
	at := func(i, j int) Vec {
		a, b := 2*math.Pi*float64(i%side)/side, math.Pi*float64(j)/side
		return Vec{float32(7 * math.Sin(b) * math.Cos(a)), float32(5 * math.Sin(b) * math.Sin(a)),
			float32(3 * math.Cos(b))}
	}
	var list []Triangle
	for i := range side {
		for j := range side {
			list = append(list, Triangle{at(i, j), at(i+1, j), at(i, j+1)},
				Triangle{at(i+1, j), at(i+1, j+1), at(i, j+1)})
		}
	}
	tree := New(list)
	r := rand.New(rand.NewSource(1))
	for i := range 100000 {
		to := list[r.Intn(len(list))]
		w := r.Float32()
		if i%2 == 0 {
			w = 0 // at corners; else along edges
		}
		d := Vec{}
		for k := range d {
			d[k] = to[0][k]*(1-w) + to[1][k]*w
		}
		require.True(t, tree.Blocked(Vec{0.5, 0.25, 0.125}, sub(d, Vec{0.5, 0.25, 0.125}), 2))
	}
}

func TestWhatIsNoTriangleIsNeverMet(t *testing.T) {
	nan := float32(math.NaN())
	inf := float32(math.Inf(1))
	p := Vec{1, 1, 1}
	tree := New([]Triangle{{p, p, p}, {{nan, 0, 0}, {0, 1, 0}, {1, 0, 0}}, {{inf, 0, 0}, {0, 1, 0}, {1, 0, 0}}})
	require.False(t, tree.Blocked(Vec{}, Vec{1, 1, 1}, 10))
	require.False(t, New(nil).Blocked(Vec{}, Vec{1, 1, 1}, 10))
	many := make([]Triangle, 1000) // all in one place: no plane parts them
	for i := range many {
		many[i] = Triangle{{0, 0, 1}, {1, 0, 1}, {0, 1, 1}}
	}
	tree = New(many)
	n := 0
	tree.Through(Vec{0.2, 0.2, 0}, Vec{0, 0, 1}, 10, func(Hit) bool { n++; return true })
	require.Equal(t, 1000, n)
}

// A cube's images are turned so that going over an edge leads to the next image, and every place leads out and back.
func TestCubes(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for range 20000 {
		face, u, v := r.Intn(6), r.Float32(), r.Float32()
		d := CubeDirection(face, u, v)
		scale := float32(math.Exp(r.Float64()*8 - 4))
		f, u2, v2 := CubePlace(d.Scale(scale))
		require.Equal(t, face, f)
		require.InDelta(t, u, u2, 1e-5)
		require.InDelta(t, v, v2, 1e-5)
	}
	for face, axis := range []Vec{{1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1}, {0, 0, -1}} {
		require.Equal(t, axis, CubeDirection(face, 0.5, 0.5))
	}
	// As the Vulkan specification has it (table 26): on +X, u runs along -Z and v along -Y; on +Y,
	// u along +X and v along +Z.
	require.Equal(t, Vec{1, 1, 1}, CubeDirection(0, 0, 0))
	require.Equal(t, Vec{1, -1, -1}, CubeDirection(0, 1, 1))
	require.Equal(t, Vec{-1, 1, -1}, CubeDirection(2, 0, 0))
	require.Equal(t, Vec{1, 1, 1}, CubeDirection(2, 1, 1))
	for range 100 { // every direction leads somewhere
		d := Vec{float32(r.Intn(3) - 1), float32(r.Intn(3) - 1), float32(r.Intn(3) - 1)}
		if d == (Vec{}) {
			continue
		}
		f, u, v := CubePlace(d)
		require.True(t, f >= 0 && f < 6 && u >= 0 && u <= 1 && v >= 0 && v <= 1)
	}
}
