package navmesh_test

import (
	"context"
	"math"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/compile/pathfind"
	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/source/maplang"
	"vornix/internal/testmaps"
	"vornix/internal/thorough"
)

var agent = mapfile.Agent{Name: "walker", Radius: 0.3, Height: 1.8, Step: 0.45, Slope: 45, Drop: 2.5, Jump: 1.5}

func walked(t *testing.T, source string, change ...func(*compile.Long)) *compile.Result {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte(source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	l := &compile.Long{Env: stage.Env{Only: []string{stage.Navigation}}, Agents: []mapfile.Agent{agent}}
	for _, c := range change {
		c(l)
	}
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 }, Long: l})
	require.NoError(t, err)
	return r
}

const course = `map course title="Course" players=1..2
solid floor box 0,0,-1 30,20,0 material=g
solid wall box 10,0,0 10.1,14,3 material=g
solid beam box 10,14,1.9 10.1,20,3 material=g
solid table box 14,4,0 17,7,1.2 material=g
solid kerb box 20,0,0 20.5,20,0.4 material=g
solid ramp wedge 22,2,0 27,5,2 rise=east material=g
solid steep wedge 22,8,0 23,11,2 rise=east material=g
solid deck box 27,2,1.4 30,5,2 material=g
solid step1 box 24,14,0 26,15,0.4 material=g
solid step2 box 24,15,0 26,16,0.8 material=g
solid step3 box 24,16,0 26,17,1.2 material=g
solid tower box 4,4,0 6,6,2 material=g
`

// free says, with rays alone, whether an agent can stand at a place, and how high its ground lies.
func free(s *radiance.Scene, x, y, z float32, radius float32) (height float32, ok bool) {
	down := s.See(bvh.Vec{x, y, z + agent.Step + 0.01}, bvh.Vec{0, 0, -1})
	if !down.Hit || down.Distance > 2*agent.Step+0.02 {
		return 0, false
	}
	height = z + agent.Step + 0.01 - down.Distance
	for k := range 16 { // what stands around, at several heights
		sin, cos := math.Sincos(float64(k) / 16 * 2 * math.Pi)
		for _, up := range []float32{agent.Step + 0.02, 0.6, 0.8, 1, 1.2, 1.4, 1.6, agent.Height - 0.02} {
			if s.Blocked(bvh.Vec{x, y, height + up}, bvh.Vec{float32(cos) * radius, float32(sin) * radius, 0}) {
				return 0, false
			}
		}
	}
	return height, !s.Blocked(bvh.Vec{x, y, height + agent.Step + 0.02},
		bvh.Vec{0, 0, agent.Height - agent.Step - 0.04})
}

// flood is where one gets on foot from a place, on a grid of its own, found with rays: an independent answer.
func flood(s *radiance.Scene, from bvh.Vec, cell float32, radius float32) map[[2]int]float32 {
	start := [2]int{int(from[0] / cell), int(from[1] / cell)}
	reached := map[[2]int]float32{}
	z, ok := free(s, (float32(start[0])+0.5)*cell, (float32(start[1])+0.5)*cell, from[2], radius)
	if !ok {
		return reached
	}
	reached[start] = z
	stack := [][2]int{start}
	for len(stack) > 0 {
		c := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
			n := [2]int{c[0] + d[0], c[1] + d[1]}
			if _, seen := reached[n]; seen {
				continue
			}
			if z, ok := free(s, (float32(n[0])+0.5)*cell, (float32(n[1])+0.5)*cell, reached[c], radius); ok {
				reached[n] = z
				stack = append(stack, n)
			}
		}
	}
	return reached
}

// What is walked on is what a flood fill with rays reaches, but for the width of a cell at its rim.
func TestTheGroundIsWhatAFloodFillReaches(t *testing.T) {
	thorough.Only(t)
	for name, source := range map[string]string{"course": course, "rooms": testmaps.Rooms(170)} {
		r := walked(t, source, func(l *compile.Long) {
			a := agent
			a.Drop, a.Jump = 0, 0
			l.Agents = []mapfile.Agent{a}
		})
		n := &r.Map.Navigation[0]
		s := radiance.New(r.Map, nil, nil)
		net := pathfind.New(n)
		start := bvh.Vec{2.05, 2.05, 0}
		for ; ; start[0] += 0.1 {
			if _, ok := free(s, start[0], start[1], 0, agent.Radius+0.3); ok {
				break
			}
		}
		first := net.Polygon(pathfind.Point{float64(start[0]), float64(start[1]), 0})
		require.GreaterOrEqual(t, first, 0)
		wide, narrow := flood(s, start, 0.1, agent.Radius-0.16), flood(s, start, 0.1, agent.Radius+0.16)
		require.Greater(t, len(narrow), 1000, name)
		on := func(x, y, z float32) bool {
			for i := range n.Polygons {
				p := &n.Polygons[i]
				if p.Island == n.Polygons[first].Island && x >= p.Low[0] && x <= p.High[0] && y >= p.Low[1] &&
					y <= p.High[1] && math.Abs(float64(p.Height(x, y)-z)) < 0.5 {
					return true
				}
			}
			return false
		}
		missed := 0
		for c, z := range narrow {
			if !on((float32(c[0])+0.5)*0.1, (float32(c[1])+0.5)*0.1, z) {
				missed++
			}
		}
		assert.Less(t, float64(missed), 0.01*float64(len(narrow)), "%s: of what is surely reached", name)
		random := rand.New(rand.NewSource(1))
		for range 4000 { // and nothing is ground that surely can't be reached
			p := &n.Polygons[random.Intn(len(n.Polygons))]
			if p.Island != n.Polygons[first].Island {
				continue
			}
			x, y := p.Low[0]+(p.High[0]-p.Low[0])*random.Float32(), p.Low[1]+(p.High[1]-p.Low[1])*random.Float32()
			found := false
			for dy := -2; dy <= 2; dy++ {
				for dx := -2; dx <= 2; dx++ {
					z, ok := wide[[2]int{int(x/0.1) + dx, int(y/0.1) + dy}]
					found = found || ok && math.Abs(float64(z-p.Height(x, y))) < 0.5
				}
			}
			require.True(t, found, "%s: %v,%v,%v", name, x, y, p.Height(x, y))
		}
	}
}

// The shortest way is, within a few parts in a hundred, what Dijkstra's search finds on a fine grid
// in sixteen directions.
func TestShortestWaysAreThoseOfAFineGrid(t *testing.T) {
	r := walked(t, course, func(l *compile.Long) {
		a := agent
		a.Drop, a.Jump = 0, 0
		l.Agents = []mapfile.Agent{a}
	})
	n := &r.Map.Navigation[0]
	net := pathfind.New(n)
	s := radiance.New(r.Map, nil, nil)
	const cell = 0.1
	reached := flood(s, bvh.Vec{4, 2, 0}, cell, agent.Radius)
	from := [2]int{40, 20}
	lengths := dijkstra(reached, from, cell)
	random := rand.New(rand.NewSource(2))
	tried := 0
	for c, want := range lengths {
		if want < 3 || random.Intn(60) != 0 {
			continue
		}
		x, y := (float64(c[0])+0.5)*cell, (float64(c[1])+0.5)*cell
		way, ok := net.Find(pathfind.Point{4.05, 2.05, 0}, pathfind.Point{x, y, float64(reached[c])})
		if net.Polygon(pathfind.Point{x, y, float64(reached[c])}) < 0 || !ok && tried < 10 {
			continue // at the rim
		}
		tried++
		require.True(t, ok, "to %v,%v", x, y)
		assert.InEpsilon(t, want, way.Length, 0.06, "to %v,%v", x, y)
		for i := 1; i < len(way.Points); i++ { // and nothing stands in it
			a, b := way.Points[i-1], way.Points[i]
			p, q := bvh.Vec{float32(a[0]), float32(a[1]), float32(a[2]) + 1},
				bvh.Vec{float32(b[0]), float32(b[1]), float32(b[2]) + 1}
			assert.False(t, s.Blocked(p, q.Sub(p)), "from %v to %v", a, b)
		}
	}
	require.Greater(t, tried, 100)
}

func dijkstra(reached map[[2]int]float32, from [2]int, cell float64) map[[2]int]float64 {
	lengths := map[[2]int]float64{from: 0}
	buckets := map[int][][2]int{0: {from}}
	done := map[[2]int]bool{}
	for b, idle := 0, 0; idle < 20; b++ {
		idle++
		for len(buckets[b]) > 0 {
			c := buckets[b][0]
			buckets[b] = buckets[b][1:]
			idle = 0
			if done[c] {
				continue
			}
			done[c] = true
			for dy := -2; dy <= 2; dy++ {
				for dx := -2; dx <= 2; dx++ {
					n := [2]int{c[0] + dx, c[1] + dy}
					if _, ok := reached[n]; !ok || dx == 0 && dy == 0 || dx*dx+dy*dy == 4 || dx*dx+dy*dy == 8 {
						continue
					}
					between := true // a knight's step crosses two cells
					if dx*dx+dy*dy == 5 {
						_, p := reached[[2]int{c[0] + dx/2, c[1] + dy/2}]
						_, q := reached[[2]int{c[0] + dx - dx/2, c[1] + dy - dy/2}]
						between = p && q
					}
					rise := float64(reached[n] - reached[c])
					l := lengths[c] + math.Sqrt(float64(dx*dx+dy*dy)*cell*cell+rise*rise)
					if old, seen := lengths[n]; between && (!seen || l < old-1e-9) {
						lengths[n] = l
						buckets[int(l/0.05)] = append(buckets[int(l/0.05)], n)
					}
				}
			}
		}
		delete(buckets, b)
	}
	return lengths
}

func TestLinks(t *testing.T) {
	source := course + `volume up box 3.4,4.5,0 4,5.5,2.2 effect=ladder
volume way box 9.5,14,0 10.6,20,2 effect=mud
volume gate box 9,14,-0.5 9.5,20,1.8 effect=door
volume gone box 14,15,-0.5 16,18,2 effect=remove
solid gap1 box 40,0,-1 44,4,0 material=g
solid gap2 box 45,0,-1 49,4,0 material=g
solid far box 60,0,-1 64,4,0 material=g
spawn a at=1,1,0
spawn b at=41,1,0
spawn c at=61,1,0
item station at=46,2,0
`
	r := walked(t, source, func(l *compile.Long) { l.Targets = []string{"station"} })
	n := &r.Map.Navigation[0]
	net := pathfind.New(n)
	kinds := func(from, to pathfind.Point) string {
		way, ok := net.Find(from, to)
		if !ok {
			return "none"
		}
		var list []string
		for _, k := range way.Links {
			if k != mapfile.Walk {
				list = append(list, mapfile.LinkKinds[k])
			}
		}
		return strings.Join(list, " ")
	}
	assert.Equal(t, "ladder", kinds(pathfind.Point{1, 1, 0}, pathfind.Point{5, 5, 2}), "up the tower")
	assert.Equal(t, "drop", kinds(pathfind.Point{5, 5, 2}, pathfind.Point{8, 5, 0}),
		"and down, where the ladder is no shorter")
	assert.Equal(t, "jump", kinds(pathfind.Point{41, 1, 0}, pathfind.Point{46, 2, 0}))
	assert.Equal(t, "none", kinds(pathfind.Point{61, 1, 0}, pathfind.Point{46, 2, 0}))
	assert.Equal(t, "none", kinds(pathfind.Point{1, 1, 0}, pathfind.Point{15, 5.5, 1.2}), "the table is too high")
	assert.Equal(t, "door", kinds(pathfind.Point{1, 1, 0}, pathfind.Point{28, 3, 2}),
		"through the gate and over the ramp")
	assert.Equal(t, "door", kinds(pathfind.Point{1, 16, 0}, pathfind.Point{12, 17, 0}),
		"under the beam, through the gate")
	assert.Equal(t, "", kinds(pathfind.Point{25, 13, 0}, pathfind.Point{25, 16.5, 1.2}), "up the stairs")
	assert.Less(t, net.Polygon(pathfind.Point{15, 16.5, 0}), 0, "nobody walks where players are removed")
	mud := false
	for _, p := range n.Polygons {
		mud = mud || n.Areas[p.Area] == "mud"
	}
	assert.True(t, mud)
	var said []finding.Finding
	for _, f := range r.Findings {
		if f.ID == finding.NavCut.ID {
			said = append(said, f)
		}
	}
	require.Len(t, said, 1)
	assert.Equal(t, "2 of 3 spawns can't reach the station: a at 1,1,0, c at 61,1,0", said[0].Text)
	data, err := mapfile.Encode(r.Map)
	require.NoError(t, err)
	again, err := mapfile.Read(data)
	require.NoError(t, err)
	require.Equal(t, r.Map.Navigation, again.Navigation)
	for _, workers := range []int{1, 2, 8} {
		other := walked(t, source, func(l *compile.Long) { l.Workers = workers })
		require.Equal(t, r.Map.Navigation, other.Map.Navigation)
	}
}

func TestGridsHaveCosts(t *testing.T) {
	r := walked(t, `map m title="M" players=1..2
legend # tile=a solid=yes
legend . tile=b
legend ~ tile=c cost=5
grid g cells=7,5
  row #######
  row #.~~~.#
  row #.###.#
  row #.....#
  row #######
spawn s at=1,1,0
spawn t at=1,3,0
item depot at=5,1,0
`, func(l *compile.Long) { l.Targets = []string{"depot"} })
	way, ok := pathfind.FindOnGrid(r.Map, 0, [2]int{1, 1}, [2]int{5, 1})
	require.True(t, ok)
	assert.InDelta(t, 8, way.Length, 1e-9, "around, since three cells of mud cost 15")
	assert.Len(t, way.Points, 9)
	_, ok = pathfind.FindOnGrid(r.Map, 0, [2]int{1, 1}, [2]int{0, 0})
	assert.False(t, ok)
	assert.Zero(t, finding.Count(r.Findings, finding.Warning))
}
