package navmesh

import (
	"math"
	"slices"

	"vornix/core/format/mapfile"
)

// flat is how far, in metres, a place may lie from its polygon.
const flat = 0.15

// rectangle is cells of one polygon: columns from x to x+w, rows from y to y+h.
type rectangle struct {
	x, y, w, h int
	at         stand // its first cell
}

// height is how high the rectangle's plane lies at a place, in cells.
func (r *rectangle) height(f *field, x, y float64) float64 {
	return r.at.height + float64(float64(r.at.slope[0]*f.cell)*(x-float64(r.x)-0.5)) +
		float64(float64(r.at.slope[1]*f.cell)*(y-float64(r.y)-0.5))
}

// stood are the places to stand over a cell.
func (f *field) stood(x, y int) []stand {
	t := f.tiles[[2]int{floorDiv(x, tile), floorDiv(y, tile)}]
	if t == nil {
		return nil
	}
	return t[(y-floorDiv(y, tile)*tile)*tile+x-floorDiv(x, tile)*tile]
}

// standing is the place over a cell that is part of a tile's n-th rectangle.
func (f *field) standing(x, y, n int) *stand {
	list := f.stood(x, y)
	return &list[slices.IndexFunc(list, func(s stand) bool { return int(s.group) == n })]
}

// above finds, over a cell, the stand nearest to a height that one walks to from there; nil: none.
func (f *field) above(x, y int, z float64) (best *stand) {
	list := f.stood(x, y)
	for i := range list {
		d := math.Abs(list[i].height - z)
		if d <= float64(f.agent.Step)+same && (best == nil || d < math.Abs(best.height-z)) {
			best = &list[i]
		}
	}
	return best
}

func floorDiv(a, b int) int {
	q := a / b
	if a%b != 0 && a < 0 {
		q--
	}
	return q
}

// join makes rectangles of a tile's stands: from each that is in none yet as far to the east, then
// to the north, as the ground goes on in one plane.
func (f *field) join(t [2]int) []rectangle {
	var list []rectangle
	cells := f.tiles[t]
	fits := func(r *rectangle, s *stand, x, y int) bool {
		return s != nil && s.group < 0 && s.area == r.at.area &&
			math.Abs(s.height-r.height(f, float64(x)+0.5, float64(y)+0.5)) <= flat
	}
	for i := range cells {
		for k := range cells[i] {
			if cells[i][k].group >= 0 {
				continue
			}
			x, y := t[0]*tile+i%tile, t[1]*tile+i/tile
			r := rectangle{x: x, y: y, w: 1, h: 1, at: cells[i][k]}
			row := []*stand{&cells[i][k]}
			for x+r.w < (t[0]+1)*tile {
				s := f.above(x+r.w, y, row[r.w-1].height)
				if !fits(&r, s, x+r.w, y) {
					break
				}
				row = append(row, s)
				r.w++
			}
			all := row
		rows:
			for y+r.h < (t[1]+1)*tile {
				next := make([]*stand, r.w)
				for c := range r.w {
					s := f.above(x+c, y+r.h, row[c].height)
					if !fits(&r, s, x+c, y+r.h) {
						break rows
					}
					next[c] = s
				}
				row = next
				all = append(all, next...)
				r.h++
			}
			for _, s := range all {
				s.group = int32(len(list))
			}
			list = append(list, r)
		}
	}
	return list
}

// ground makes a rectangle's polygon.
func (f *field) ground(r *rectangle) mapfile.Ground {
	g := mapfile.Ground{Low: [2]float32{float32(float64(r.x) * f.cell), float32(float64(r.y) * f.cell)},
		High: [2]float32{float32(float64(r.x+r.w) * f.cell), float32(float64(r.y+r.h) * f.cell)}, Area: r.at.area}
	for k, c := range [4][2]int{{r.x, r.y}, {r.x + r.w, r.y}, {r.x + r.w, r.y + r.h}, {r.x, r.y + r.h}} {
		g.Heights[k] = float32(r.height(f, float64(c[0]), float64(c[1])))
	}
	return g
}
