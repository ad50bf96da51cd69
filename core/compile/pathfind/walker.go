package pathfind

import "vornix/core/format/mapfile"

// Walker is one kind of who walks in a map.
type Walker struct {
	Name string // of the agent; empty on grids
	find func(from, to Point) (Way, bool)
	// Metres are what a length means: on grids it is cells.
	Metres bool
}

// Find is the shortest way for the walker.
func (w *Walker) Find(from, to Point) (Way, bool) { return w.find(from, to) }

// Walkers are all who walk in a map; none where it was compiled without ground. Between levels of
// grids games decide: there a way is taken for granted, and has no length.
func Walkers(m *mapfile.Map) []Walker {
	var list []Walker
	for i := range m.Navigation {
		net := New(&m.Navigation[i])
		list = append(list, Walker{m.Navigation[i].Agent.Name, net.Find, true})
	}
	if len(m.Costs) == 0 {
		return list
	}
	return append(list, Walker{find: func(from, to Point) (Way, bool) {
		if from[2] != to[2] {
			return Way{}, true
		}
		for i, g := range m.Grids {
			if float64(g.Level) == from[2] {
				return FindOnGrid(m, i, [2]int{int(from[0]), int(from[1])}, [2]int{int(to[0]), int(to[1])})
			}
		}
		return Way{}, false
	}})
}
