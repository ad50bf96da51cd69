package navmesh

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"vornix/core/compile/stage"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
)

// Version is raised whenever the same map would get other ground.
const Version = 3

// Options for Build.
type Options struct {
	Agents []mapfile.Agent // none: mapfile.DefaultAgent
	// Passes says which materials don't stop anybody; nil: none.
	Passes func(material string) bool
	// Key is a hash of the map's surface and of what passes.
	Key string
}

// TooLarge is the error when a map has more ground than the memory allows.
type TooLarge struct{ Need, Budget int64 }

func (e *TooLarge) Error() string {
	return fmt.Sprintf("finding the ground of so large a map needs about %d MB of memory, and may have %d MB",
		e.Need>>20, e.Budget>>20)
}

// perTile is about what a tile takes of memory, in bytes.
const perTile = tile * tile * 72

// coarse is how many times larger a draft's cells are.
const coarse = 2

// Build finds the ground of a map for every kind of agent and writes it into the map.
func Build(ctx context.Context, e *stage.Env, m *mapfile.Map, o Options) error {
	if len(o.Agents) == 0 {
		o.Agents = []mapfile.Agent{mapfile.DefaultAgent}
	}
	if o.Passes == nil {
		o.Passes = func(string) bool { return false }
	}
	pieces := gather(m, o.Passes)
	boxes := make([]geom.Box, len(pieces))
	for i := range pieces {
		boxes[i] = pieces[i].box()
	}
	tree := geom.NewTree(boxes)
	var fields []*field
	total := 0
	for _, a := range o.Agents {
		f := &field{agent: a, cell: math.Round(max(float64(a.Radius)/2, 0.05)*1024) / 1024, pieces: pieces, tree: tree,
			tiles: map[[2]int]*[tile * tile][]stand{}, areas: []string{""}}
		if e.Draft {
			f.cell *= coarse
		}
		f.zonesOf(m)
		if need := f.estimate(); !e.Afford(need) {
			return &TooLarge{need, e.Budget()}
		}
		f.floors()
		fields = append(fields, f)
		total += 2 * len(f.order)
	}
	w := e.Begin(stage.Navigation, int64(total))
	for _, f := range fields {
		var n mapfile.Navigation
		key := stage.Key(stage.Navigation, Version, e.How(), o.Key, f.agent, f.zones)
		err := w.Once(key, int64(2*len(f.order)), func(data []byte) bool { return json.Unmarshal(data, &n) == nil },
			func() ([]byte, error) {
				made, err := f.build(ctx, w)
				if err != nil {
					return nil, err
				}
				n = *made
				return json.Marshal(made)
			})
		if err != nil {
			return err
		}
		m.Navigation = append(m.Navigation, n)
	}
	return nil
}

// zonesOf are the volumes of a map: their effects are areas of the ground.
func (f *field) zonesOf(m *mapfile.Map) {
	for _, o := range m.Objects {
		if o.Kind != "volume" {
			continue
		}
		z := zone{box: geom.Box{Min: wide(o.A), Max: wide(o.B)}, kind: o.Detail}
		n := slices.Index(f.areas, o.Detail)
		if n < 0 {
			n = len(f.areas)
			f.areas = append(f.areas, o.Detail)
		}
		z.area = uint32(n)
		f.zones = append(f.zones, z)
	}
}

func wide(v [3]float32) geom.Vec {
	return geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])}
}

// estimate is about how much memory the ground takes: the tiles that pieces lie over.
func (f *field) estimate() int64 {
	n := 0.0
	limit := steep(f.agent)
	for i := range f.pieces {
		if f.pieces[i].normal.Z < limit {
			continue
		}
		size := f.pieces[i].box()
		d := size.Max.Sub(size.Min).Scale(1 / (f.cell * tile))
		n += float64(d.X*d.Y) + min(1, 0.02*(d.X+d.Y+1)) // small pieces share tiles
	}
	return int64(min(n*perTile, 1e18))
}

// over are the pieces whose boxes lie over a cell.
func (f *field) over(x, y int) []int {
	var list []int
	f.tree.Touching(geom.Box{Min: geom.Vec{X: float64(x) * f.cell, Y: float64(y) * f.cell, Z: -math.MaxFloat64},
		Max: geom.Vec{X: float64(x+1) * f.cell, Y: float64(y+1) * f.cell, Z: math.MaxFloat64}},
		func(i int) { list = append(list, i) })
	return list
}

// build finds one agent's ground.
func (f *field) build(ctx context.Context, w *stage.Work) (*mapfile.Navigation, error) {
	made := make([]*[tile * tile][]stand, len(f.order))
	if err := w.Each(ctx, len(f.order), 1, 1, func(first, last int) {
		for i := first; i < last; i++ {
			made[i] = f.stands(f.order[i])
		}
	}); err != nil {
		return nil, err
	}
	for i, t := range f.order {
		f.tiles[t] = made[i]
	}
	lists := make([][]rectangle, len(f.order))
	if err := w.Each(ctx, len(f.order), 1, 0, func(first, last int) {
		for i := first; i < last; i++ {
			lists[i] = f.join(f.order[i])
		}
	}); err != nil {
		return nil, err
	}
	n := &mapfile.Navigation{Agent: f.agent, Areas: f.areas}
	first := map[[2]int]int{}
	for i, t := range f.order {
		first[t] = len(n.Polygons)
		for k := range lists[i] {
			n.Polygons = append(n.Polygons, f.ground(&lists[i][k]))
		}
	}
	walks, leaps := make([][]mapfile.Link, len(f.order)), make([][]leap, len(f.order))
	if err := w.Each(ctx, len(f.order), 1, 1, func(from, to int) {
		for i := from; i < to; i++ {
			walks[i], leaps[i] = f.links(f.order[i], lists[i], first)
		}
	}); err != nil {
		return nil, err
	}
	var over []leap
	for i := range walks {
		n.Links = append(n.Links, walks[i]...)
		over = append(over, leaps[i]...)
	}
	n.Links = append(n.Links, fewest(over)...)
	f.ladders(n)
	islands(n)
	return n, nil
}

// Tiles writes what a step onto each cell of the map's grids costs, in tenths. costs gives it by
// symbol of the legend; 0 is as usual.
func Tiles(m *mapfile.Map, cost func(symbol rune) float64) {
	m.Costs = make([][]byte, len(m.Grids))
	for i, g := range m.Grids {
		m.Costs[i] = make([]byte, len(g.Cells))
		for k, c := range g.Cells {
			t := m.Legend[c]
			if t.Solid {
				continue
			}
			v := 1.0
			if cost != nil && cost(t.Symbol) > 0 {
				v = cost(t.Symbol)
			}
			m.Costs[i][k] = byte(min(max(math.Round(v*10), 1), 255))
		}
	}
}
