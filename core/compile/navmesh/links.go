package navmesh

import (
	"cmp"
	"math"
	"slices"

	"vornix/core/format/mapfile"
)

// border is a cell's side: which way it leads, and the ends of its line, from the cell's south-west corner.
type border struct {
	dx, dy int
	a, b   [2]int
}

var borders = [4]border{{1, 0, [2]int{1, 0}, [2]int{1, 1}}, {0, 1, [2]int{1, 1}, [2]int{0, 1}},
	{-1, 0, [2]int{0, 1}, [2]int{0, 0}}, {0, -1, [2]int{0, 0}, [2]int{1, 0}}}

// leap is a way that is no walking.
type leap struct {
	link     mapfile.Link
	distance float64
}

// links finds how one gets from polygon to polygon. lists are the rectangles by tile; first is the
// number of each tile's first.
func (f *field) links(t [2]int, list []rectangle, first map[[2]int]int) (walks []mapfile.Link, leaps []leap) {
	base := first[t]
	var lines, next []int // of walks, those that the last cell, and this one, are part of
	for n := range list {
		r := &list[n]
		for _, b := range borders {
			// Along this side, cell by cell; cells that lead to the same polygon make one line.
			x, y, steps := r.x, r.y, r.h
			dx, dy := 0, 1
			switch {
			case b.dx > 0:
				x += r.w - 1
			case b.dy > 0:
				y += r.h - 1
			}
			if b.dy != 0 {
				steps, dx, dy = r.w, 1, 0
			}
			lines = lines[:0]
			for k := range steps {
				cx, cy := x+k*dx, y+k*dy
				z := f.standing(cx, cy, n).height
				p, q := f.corner(r, cx+min(b.a[0], b.b[0]), cy+min(b.a[1], b.b[1])),
					f.corner(r, cx+max(b.a[0], b.b[0]), cy+max(b.a[1], b.b[1]))
				next = next[:0]
				for _, to := range f.stood(cx+b.dx, cy+b.dy) {
					if math.Abs(to.height-z) > float64(f.agent.Step)+same {
						continue
					}
					number := uint32(first[[2]int{floorDiv(cx+b.dx, tile), floorDiv(cy+b.dy, tile)}] + int(to.group))
					at := slices.IndexFunc(lines, func(i int) bool { return walks[i].To == number })
					if at >= 0 {
						walks[lines[at]].B = q
						next = append(next, lines[at])
						continue
					}
					kind := mapfile.Walk
					if f.areas[to.area] == "door" && f.areas[r.at.area] != "door" { // once a way through it
						kind = mapfile.Door
					}
					next = append(next, len(walks))
					walks = append(walks, mapfile.Link{From: uint32(base + n), To: number, Kind: kind, A: p, B: q})
				}
				if len(next) == 0 {
					leaps = append(leaps, f.leaps(uint32(base+n), cx, cy, z, b, first)...)
				}
				lines, next = next, lines
			}
		}
	}
	return walks, leaps
}

func (f *field) corner(r *rectangle, x, y int) [3]float32 {
	return [3]float32{float32(float64(x) * f.cell), float32(float64(y) * f.cell),
		float32(r.height(f, float64(x), float64(y)))}
}

// leaps looks out from a ledge: for ground to drop to, close by, or to jump to.
func (f *field) leaps(from uint32, x, y int, z float64, b border, first map[[2]int]int) []leap {
	a := f.agent
	reach := max(float64(a.Jump), 2*float64(a.Radius)+2*f.cell)
	if a.Jump <= 0 && a.Drop <= 0 {
		return nil
	}
	if f.any(x+b.dx, y+b.dy, z-float64(a.Step), z+float64(a.Step), true) {
		return nil // the ground goes on, and something stands too near to it: that is no ledge
	}
	var out []leap
	for k := 1; float64(k)*f.cell <= reach; k++ {
		cx, cy := x+k*b.dx, y+k*b.dy
		if f.walled(cx, cy, z) {
			return out
		}
		for _, s := range f.stood(cx, cy) {
			rise := s.height - z
			kind := mapfile.LinkKind(0)
			switch distance := float64(k) * f.cell; {
			case math.Abs(rise) <= float64(a.Step)+same && distance <= float64(a.Jump):
				kind = mapfile.Jump
			case rise < -float64(a.Step) && rise >= -float64(a.Drop) && distance <= 2*float64(a.Radius)+2*f.cell:
				kind = mapfile.Drop
			default:
				continue
			}
			at := func(x, y int, z float64) [3]float32 {
				return [3]float32{float32((float64(x) + 0.5) * f.cell), float32((float64(y) + 0.5) * f.cell),
					float32(z)}
			}
			out = append(out,
				leap{mapfile.Link{From: from,
					To: uint32(first[[2]int{floorDiv(cx, tile), floorDiv(cy, tile)}] + int(s.group)), Kind: kind,
					A: at(x, y, z), B: at(cx, cy, s.height)}, float64(k) * f.cell})
		}
		if len(out) > 0 {
			return out
		}
	}
	return out
}

// walled says whether something over a cell is in the way of who leaps over it.
func (f *field) walled(x, y int, z float64) bool {
	return f.any(x, y, z+float64(f.agent.Step), z+float64(f.agent.Height), false)
}

// any says whether a piece, or one that can be stood on, lies over a cell between two heights.
func (f *field) any(x, y int, low, high float64, floor bool) bool {
	var buffer []point
	for _, i := range f.over(x, y) {
		p := &f.pieces[i]
		if floor && p.normal.Z < steep(f.agent) {
			continue
		}
		row := clip(p.outline, 1, float64(y)*f.cell, float64(y+1)*f.cell, nil, &buffer)
		if len(row) == 0 {
			continue
		}
		lowest, limit := math.Inf(1), math.Inf(-1)
		for _, c := range clip(row, 0, float64(x)*f.cell, float64(x+1)*f.cell, nil, &buffer) {
			lowest, limit = min(lowest, c[2]), max(limit, c[2])
		}
		if limit > low && lowest < high {
			return true
		}
	}
	return false
}

// fewest keeps, of all leaps between two polygons of one kind, the shortest.
func fewest(list []leap) []mapfile.Link {
	slices.SortStableFunc(list, func(a, b leap) int {
		return cmp.Or(cmp.Compare(a.link.From, b.link.From), cmp.Compare(a.link.To, b.link.To),
			cmp.Compare(a.link.Kind, b.link.Kind), cmp.Compare(a.distance, b.distance))
	})
	var out []mapfile.Link
	for i, l := range list {
		if i > 0 && list[i-1].link.From == l.link.From && list[i-1].link.To == l.link.To &&
			list[i-1].link.Kind == l.link.Kind {
			continue
		}
		out = append(out, l.link)
	}
	return out
}

// ladders links the ground at the foot of each ladder with that at its head.
func (f *field) ladders(n *mapfile.Navigation) {
	for _, z := range f.zones {
		if z.kind != "ladder" {
			continue
		}
		box := z.box.Grow(float64(f.agent.Radius) + 2*f.cell)
		foot, head := -1, -1
		var at [2][3]float32
		for i := range n.Polygons {
			p := &n.Polygons[i]
			x := min(max(float32((box.Min.X+box.Max.X)/2), p.Low[0]), p.High[0])
			y := min(max(float32((box.Min.Y+box.Max.Y)/2), p.Low[1]), p.High[1])
			h := p.Height(x, y)
			if float64(x) < box.Min.X || float64(x) > box.Max.X || float64(y) < box.Min.Y || float64(y) > box.Max.Y ||
				float64(h) < box.Min.Z || float64(h) > box.Max.Z {
				continue
			}
			if foot < 0 || h < at[0][2] {
				foot, at[0] = i, [3]float32{x, y, h}
			}
			if head < 0 || h > at[1][2] {
				head, at[1] = i, [3]float32{x, y, h}
			}
		}
		if foot >= 0 && foot != head {
			n.Links = append(n.Links,
				mapfile.Link{From: uint32(foot), To: uint32(head), Kind: mapfile.Ladder, A: at[0], B: at[1]},
				mapfile.Link{From: uint32(head), To: uint32(foot), Kind: mapfile.Ladder, A: at[1], B: at[0]})
		}
	}
}

// islands numbers the polygons: those that can be reached from one another have one number, the
// largest island 0. These are the strongly connected parts of the links (Tarjan, 1972, without
// recursion).
func islands(n *mapfile.Navigation) int {
	out := make([][]int, len(n.Polygons))
	for _, l := range n.Links {
		out[l.From] = append(out[l.From], int(l.To))
	}
	index, low, on := make([]int, len(out)), make([]int, len(out)), make([]bool, len(out))
	island := make([]int, len(out))
	var stack []int
	next, count := 1, 0
	type frame struct{ at, edge int }
	for start := range out {
		if index[start] != 0 {
			continue
		}
		frames := []frame{{start, 0}}
		for len(frames) > 0 {
			f := &frames[len(frames)-1]
			v := f.at
			if f.edge == 0 {
				index[v], low[v] = next, next
				next++
				stack, on[v] = append(stack, v), true
			}
			if f.edge < len(out[v]) {
				w := out[v][f.edge]
				f.edge++
				if index[w] == 0 {
					frames = append(frames, frame{w, 0})
				} else if on[w] {
					low[v] = min(low[v], index[w])
				}
				continue
			}
			if low[v] == index[v] {
				for {
					w := stack[len(stack)-1]
					stack, on[w] = stack[:len(stack)-1], false
					island[w] = count
					if w == v {
						break
					}
				}
				count++
			}
			frames = frames[:len(frames)-1]
			if len(frames) > 0 {
				p := frames[len(frames)-1].at
				low[p] = min(low[p], low[v])
			}
		}
	}
	area := make([]float64, count)
	for i := range n.Polygons {
		p := &n.Polygons[i]
		area[island[i]] += float64(float64(p.High[0]-p.Low[0]) * float64(p.High[1]-p.Low[1]))
	}
	order := make([]int, count)
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Or(cmp.Compare(area[b], area[a]), b-a) })
	rank := make([]int, count)
	for i, o := range order {
		rank[o] = i
	}
	for i := range n.Polygons {
		n.Polygons[i].Island = uint32(rank[island[i]])
	}
	return count
}
