package pathfind

import (
	"container/heap"
	"math"

	"vornix/core/format/mapfile"
)

// FindOnGrid is the cheapest way between two cells of a map's i-th grid, in steps to the eight
// cells around that never cut the corner of a solid one; a step costs its length times what the
// cell costs. Length is that cost.
func FindOnGrid(m *mapfile.Map, i int, from, to [2]int) (way Way, ok bool) {
	g, costs := &m.Grids[i], m.Costs[i]
	w, h := int(g.Width), int(g.Height)
	free := func(x, y int) bool { return x >= 0 && y >= 0 && x < w && y < h && costs[y*w+x] > 0 }
	if !free(from[0], from[1]) || !free(to[0], to[1]) {
		return way, false
	}
	lowest := math.Inf(1) // no cell costs less
	for _, c := range costs {
		if c > 0 {
			lowest = min(lowest, float64(c)/10)
		}
	}
	best := map[int]float64{from[1]*w + from[0]: 0}
	at := func(cell int) Point { return Point{float64(cell % w), float64(cell / w), float64(g.Level)} }
	goal := to[1]*w + to[0]
	queue := &open{{polygon: from[1]*w + from[0], guess: distance(at(from[1]*w+from[0]), at(goal)) * lowest}}
	order := 0
	for queue.Len() > 0 {
		s := heap.Pop(queue).(*state)
		if s.cost > best[s.polygon] {
			continue
		}
		if s.polygon == goal {
			way.Length = s.cost
			for ; s != nil; s = s.before {
				way.Points = append([]Point{at(s.polygon)}, way.Points...)
			}
			way.Links = make([]mapfile.LinkKind, len(way.Points)-1)
			return way, true
		}
		x, y := s.polygon%w, s.polygon/w
		for dy := -1; dy <= 1; dy++ {
			for dx := -1; dx <= 1; dx++ {
				if dx == 0 && dy == 0 || !free(x+dx, y+dy) || dx != 0 && dy != 0 && (!free(x+dx, y) || !free(x, y+dy)) {
					continue
				}
				n := (y+dy)*w + x + dx
				cost := s.cost + math.Hypot(float64(dx), float64(dy))*float64(costs[n])/10
				if old, seen := best[n]; seen && cost >= old {
					continue
				}
				best[n] = cost
				order++
				heap.Push(queue,
					&state{polygon: n, cost: cost, guess: cost + float64(distance(at(n), at(goal))*lowest), before: s,
						order: order})
			}
		}
	}
	return way, false
}
