package pathfind_test

import (
	"math"
	"math/rand"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/pathfind"
	"vornix/core/format/mapfile"
)

// field is a board of cells, some of them walls, as ground of one polygon a cell and links across
// every border between free ones.
type field struct {
	w, h int
	wall []bool
}

func random(r *rand.Rand, w, h int, walls float64) *field {
	f := &field{w, h, make([]bool, w*h)}
	for i := range f.wall {
		f.wall[i] = r.Float64() < walls
	}
	return f
}

func (f *field) free(x, y int) bool {
	return x >= 0 && y >= 0 && x < f.w && y < f.h && !f.wall[y*f.w+x]
}

func (f *field) ground() *mapfile.Navigation {
	n := &mapfile.Navigation{Agent: mapfile.Agent{Name: "a", Radius: 0.1, Height: 1.8, Step: 0.4}, Areas: []string{""}}
	number := map[[2]int]uint32{}
	for y := range f.h {
		for x := range f.w {
			if f.free(x, y) {
				number[[2]int{x, y}] = uint32(len(n.Polygons))
				n.Polygons = append(n.Polygons,
					mapfile.Ground{Low: [2]float32{float32(x), float32(y)},
						High: [2]float32{float32(x + 1), float32(y + 1)}})
			}
		}
	}
	for y := range f.h {
		for x := range f.w {
			for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
				from, ok := number[[2]int{x, y}]
				to, there := number[[2]int{x + d[0], y + d[1]}]
				if !ok || !there {
					continue
				}
				a := [3]float32{float32(x + max(d[0], 0)), float32(y + max(d[1], 0)), 0}
				b := a
				if d[0] != 0 {
					b[1]++
				} else {
					b[0]++
				}
				n.Links = append(n.Links, mapfile.Link{From: from, To: to, Kind: mapfile.Walk, A: a, B: b})
			}
		}
	}
	return n
}

// clear says whether nothing stands on a line: piece by piece between the lines of the board that
// it crosses. Between two walls that touch at a corner nobody gets through.
func (f *field) clear(a, b pathfind.Point) bool {
	at := func(t float64) (x, y float64) { return a[0] + (b[0]-a[0])*t, a[1] + (b[1]-a[1])*t }
	cuts := []float64{0, 1}
	for k := range 2 {
		low, high := min(a[k], b[k]), max(a[k], b[k])
		for v := math.Floor(low) + 1; v < high; v++ {
			cuts = append(cuts, (v-a[k])/(b[k]-a[k]))
		}
	}
	slices.Sort(cuts)
	sides := [2]bool{true, true} // of a line that runs along a border of cells: on which one may be
	lastX, lastY := -1, -1
	for i := 1; i < len(cuts); i++ {
		if cuts[i]-cuts[i-1] < 1e-9 {
			continue
		}
		x, y := at((cuts[i] + cuts[i-1]) / 2)
		cx, cy := int(math.Floor(x)), int(math.Floor(y))
		if along := 0; a[0] == b[0] && a[0] == math.Floor(a[0]) || a[1] == b[1] && a[1] == math.Floor(a[1]) {
			if a[1] == b[1] {
				along = 1
			}
			free := [2]bool{f.free(cx, cy), f.free(cx-1+along, cy-along)}
			next := [2]bool{sides[0] && free[0], sides[1] && free[1]}
			if next == [2]bool{} {
				return false
			}
			if free == [2]bool{true, true} {
				next = free // here one may change sides
			}
			sides = next
			continue
		}
		if !f.free(cx, cy) {
			return false
		}
		if lastX >= 0 && cx != lastX && cy != lastY && !f.free(cx, lastY) && !f.free(lastX, cy) {
			return false
		}
		lastX, lastY = cx, cy
	}
	return true
}

// nearly says whether every place on a line is free, or within half a centimetre of one that is:
// ways leave out bends of less.
func (f *field) nearly(a, b pathfind.Point) bool {
	for i := range 1001 {
		x, y := a[0]+(b[0]-a[0])*float64(i)/1000, a[1]+(b[1]-a[1])*float64(i)/1000
		found := false
		for _, d := range [4][2]float64{{5e-3, 5e-3}, {-5e-3, 5e-3}, {5e-3, -5e-3}, {-5e-3, -5e-3}} {
			found = found || f.free(int(math.Floor(x+d[0])), int(math.Floor(y+d[1])))
		}
		if !found {
			return false
		}
	}
	return true
}

// shortest is the length of the shortest line, by trying all ways over the corners of walls: what
// an exact search gives.
func (f *field) shortest(from, to pathfind.Point) float64 {
	points := []pathfind.Point{from, to}
	for y := range f.h + 1 {
		for x := range f.w + 1 {
			walls, frees := 0, 0
			for _, d := range [4][2]int{{0, 0}, {-1, 0}, {0, -1}, {-1, -1}} {
				if f.free(x+d[0], y+d[1]) {
					frees++
				} else {
					walls++
				}
			}
			// A way bends only around a corner that one wall makes; where two walls touch at a
			// corner, nobody gets through.
			if walls == 1 && frees == 3 {
				points = append(points, pathfind.Point{float64(x), float64(y), 0})
			}
		}
	}
	lengths := make([]float64, len(points))
	for i := range lengths {
		lengths[i] = math.Inf(1)
	}
	lengths[0] = 0
	done := make([]bool, len(points))
	for range points {
		best := -1
		for i := range points {
			if !done[i] && (best < 0 || lengths[i] < lengths[best]) {
				best = i
			}
		}
		if math.IsInf(lengths[best], 1) {
			break
		}
		done[best] = true
		for i := range points {
			l := lengths[best] + math.Hypot(points[i][0]-points[best][0], points[i][1]-points[best][1])
			if l < lengths[i] && f.clear(points[best], points[i]) {
				lengths[i] = l
			}
		}
	}
	return lengths[1]
}

// Ways over polygons are never shorter than the shortest there is, never much longer, exactly so
// where nothing stands between, and stay on the ground.
func TestWaysAreTight(t *testing.T) {
	r := rand.New(rand.NewSource(4))
	tried, straight := 0, 0
	longer := 0.0
	for range 60 {
		f := random(r, 10, 8, 0.25)
		net := pathfind.New(f.ground())
		for range 6 {
			from, to := pathfind.Point{r.Float64() * 10, r.Float64() * 8, 0},
				pathfind.Point{r.Float64() * 10, r.Float64() * 8, 0}
			if !f.free(int(from[0]), int(from[1])) || !f.free(int(to[0]), int(to[1])) {
				continue
			}
			want := f.shortest(from, to)
			way, ok := net.Find(from, to)
			require.Equal(t, !math.IsInf(want, 1), ok, "from %v to %v", from, to)
			if !ok {
				continue
			}
			tried++
			require.GreaterOrEqual(t, way.Length, want-1e-3)
			longer += way.Length/want - 1
			require.Less(t, way.Length, want*1.25+0.2)
			require.Equal(t, from, way.Points[0])
			require.Equal(t, to, way.Points[len(way.Points)-1])
			require.Len(t, way.Links, len(way.Points)-1)
			sum := 0.0
			for i := 1; i < len(way.Points); i++ {
				a, b := way.Points[i-1], way.Points[i]
				require.True(t, f.nearly(a, b), "the way from %v to %v", a, b)
				sum += math.Hypot(a[0]-b[0], a[1]-b[1])
			}
			require.InDelta(t, sum, way.Length, 1e-9)
			if f.clear(from, to) {
				straight++
				require.InDelta(t, want, way.Length, 0.05*want+1e-3)
			}
		}
	}
	require.Greater(t, tried, 100)
	require.Greater(t, straight, 20)
	require.Less(t, longer/float64(tried), 0.02, "on average")
}

// What is no walking is taken where it pays, one way only where it is one, and the way says which it was.
func TestLeapsAndLadders(t *testing.T) {
	square := func(x, y, z float32) mapfile.Ground {
		return mapfile.Ground{Low: [2]float32{x, y}, High: [2]float32{x + 4, y + 4}, Heights: [4]float32{z, z, z, z}}
	}
	n := &mapfile.Navigation{Agent: mapfile.Agent{Radius: 0.3, Height: 1.8, Step: 0.45},
		Polygons: []mapfile.Ground{square(0, 0, 0), square(5, 0, 0), square(0, 0, 3), square(20, 0, 0)},
		Links: []mapfile.Link{
			{From: 0, To: 1, Kind: mapfile.Jump, A: [3]float32{4, 2, 0}, B: [3]float32{5, 2, 0}},
			{From: 2, To: 1, Kind: mapfile.Drop, A: [3]float32{4, 1, 3}, B: [3]float32{5, 1, 0}},
			{From: 0, To: 2, Kind: mapfile.Ladder, A: [3]float32{0, 0, 0}, B: [3]float32{0, 0, 3}},
		}}
	net := pathfind.New(n)
	way, ok := net.Find(pathfind.Point{1, 2, 0}, pathfind.Point{6, 2, 0})
	require.True(t, ok)
	assert.InDelta(t, 5, way.Length, 1e-6)
	assert.Equal(t, []mapfile.LinkKind{mapfile.Walk, mapfile.Jump, mapfile.Walk}, way.Links)
	_, ok = net.Find(pathfind.Point{6, 2, 0}, pathfind.Point{1, 2, 0})
	assert.False(t, ok, "nobody jumps back")
	way, ok = net.Find(pathfind.Point{1, 0, 0}, pathfind.Point{3, 0, 3})
	require.True(t, ok)
	assert.InDelta(t, 1+3+3, way.Length, 1e-6, "to the ladder, up, and on")
	assert.Contains(t, way.Links, mapfile.Ladder)
	way, ok = net.Find(pathfind.Point{3.5, 1, 3}, pathfind.Point{5.5, 1, 0})
	require.True(t, ok)
	assert.Equal(t, mapfile.Drop,
		way.Links[slices.IndexFunc(way.Links, func(k mapfile.LinkKind) bool { return k != mapfile.Walk })])
	_, ok = net.Find(pathfind.Point{1, 1, 0}, pathfind.Point{21, 1, 0})
	assert.False(t, ok, "an island")
	_, ok = net.Find(pathfind.Point{1, 1, 9}, pathfind.Point{2, 1, 0})
	assert.False(t, ok, "from the air")
	assert.Equal(t, 2, net.Polygon(pathfind.Point{1, 1, 3.1}), "the ground under one's feet, not that below it")
	assert.Equal(t, 0, net.Polygon(pathfind.Point{1, 1, 0.2}))
	assert.Equal(t, 1, net.Polygon(pathfind.Point{4.9, 1, 0}), "beside it, within a width")
	assert.Equal(t, -1, net.Polygon(pathfind.Point{14, 1, 0}))
}

// grid is a map of one grid with costs.
func grid(w, h int, cost []byte) *mapfile.Map {
	return &mapfile.Map{Grids: []mapfile.Grid{{Width: uint32(w), Height: uint32(h), Level: 2,
		Cells: make([]uint16, w*h)}}, Costs: [][]byte{cost}}
}

// On grids the cheapest way is what going over all edges again and again gives (Bellman and Ford),
// and it never cuts a corner.
func TestGridWaysAreTheCheapest(t *testing.T) {
	r := rand.New(rand.NewSource(8))
	found, none := 0, 0
	for range 200 {
		w, h := 4+r.Intn(9), 4+r.Intn(9)
		cost := make([]byte, w*h)
		for i := range cost {
			if r.Float64() > 0.3 {
				cost[i] = byte(1 + r.Intn(50))
			}
		}
		m := grid(w, h, cost)
		from, to := [2]int{r.Intn(w), r.Intn(h)}, [2]int{r.Intn(w), r.Intn(h)}
		free := func(x, y int) bool { return x >= 0 && y >= 0 && x < w && y < h && cost[y*w+x] > 0 }
		step := func(x, y, dx, dy int) bool {
			return free(x+dx, y+dy) && (dx == 0 || dy == 0 || free(x+dx, y) && free(x, y+dy))
		}
		best := make([]float64, w*h)
		for i := range best {
			best[i] = math.Inf(1)
		}
		if free(from[0], from[1]) {
			best[from[1]*w+from[0]] = 0
		}
		for changed := true; changed; {
			changed = false
			for i := range best {
				for dy := -1; dy <= 1; dy++ {
					for dx := -1; dx <= 1; dx++ {
						x, y := i%w, i/w
						if dx == 0 && dy == 0 || !step(x, y, dx, dy) {
							continue
						}
						n := (y+dy)*w + x + dx
						if l := best[i] + math.Hypot(float64(dx), float64(dy))*float64(cost[n])/10; l < best[n]-1e-12 {
							best[n], changed = l, true
						}
					}
				}
			}
		}
		want := best[to[1]*w+to[0]]
		way, ok := pathfind.FindOnGrid(m, 0, from, to)
		require.Equal(t, !math.IsInf(want, 1), ok)
		if !ok {
			none++
			continue
		}
		found++
		require.InDelta(t, want, way.Length, 1e-9)
		sum := 0.0
		for i := 1; i < len(way.Points); i++ {
			a, b := way.Points[i-1], way.Points[i]
			dx, dy := int(b[0]-a[0]), int(b[1]-a[1])
			require.True(t, step(int(a[0]), int(a[1]), dx, dy))
			sum += math.Hypot(float64(dx), float64(dy)) * float64(cost[int(b[1])*w+int(b[0])]) / 10
			require.Equal(t, 2.0, b[2])
		}
		require.InDelta(t, want, sum, 1e-9)
	}
	require.Greater(t, found, 60)
	require.Greater(t, none, 20)
}

// Who walks in a map are its agents and, on its grids, everybody; between levels the game decides.
func TestWalkers(t *testing.T) {
	m := grid(3, 1, []byte{10, 0, 10})
	m.Navigation = []mapfile.Navigation{{Agent: mapfile.Agent{Name: "mole"}}}
	list := pathfind.Walkers(m)
	require.Len(t, list, 2)
	assert.Equal(t, "mole", list[0].Name)
	assert.True(t, list[0].Metres)
	_, ok := list[1].Find(pathfind.Point{0, 0, 2}, pathfind.Point{2, 0, 2})
	assert.False(t, ok, "a wall is between")
	way, ok := list[1].Find(pathfind.Point{0, 0, 2}, pathfind.Point{0, 0, 2})
	assert.True(t, ok)
	assert.Zero(t, way.Length)
	_, ok = list[1].Find(pathfind.Point{0, 0, 2}, pathfind.Point{2, 0, 5})
	assert.True(t, ok)
	_, ok = list[1].Find(pathfind.Point{0, 0, 7}, pathfind.Point{2, 0, 7})
	assert.False(t, ok, "there is no such level")
	assert.Empty(t, pathfind.Walkers(&mapfile.Map{}))
}
