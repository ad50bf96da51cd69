package lightmap

import (
	"context"
	"math"

	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

const (
	// hangs is how high over the ground the lamps of a tile map hang, in cells.
	hangs = 1.0
	// spots is how many places of a cell are asked, each way.
	spots = 3
)

// Tiles lights the cells of a tile map: lamps hang over the ground of their level, solid cells stop
// their light, and the sky falls on every cell. A solid cell shows the light of the brightest cell
// beside it. A map without lights and sky gets no light.
func Tiles(ctx context.Context, e *stage.Env, m *mapfile.Map) error {
	l := lampsOf(m, nil)
	sky := bvh.Vec{}
	if s := m.Meta.Sky; s != nil {
		sky = radiance.Linear(s.Dome).Scale(float32(s.Glow)).Add(l.sunLight.Scale(max(l.sun[2], 0)))
	}
	if len(m.Grids) == 0 || len(l.list) == 0 && sky == (bvh.Vec{}) {
		return nil
	}
	cells := int64(0)
	for _, g := range m.Grids {
		cells += int64(len(g.Cells))
	}
	w := e.Begin(stage.Lighting, cells)
	m.GridLight = make([][]mapfile.Light, len(m.Grids))
	for i := range m.Grids {
		g := &m.Grids[i]
		lit := make([]bvh.Vec, len(g.Cells))
		if err := w.Each(ctx, len(lit), 16, 1, func(first, last int) {
			for k := first; k < last; k++ {
				lit[k] = cell(m, g, l, k).Add(sky)
			}
		}); err != nil {
			return err
		}
		m.GridLight[i] = make([]mapfile.Light, len(lit))
		for k := range lit {
			v := lit[k]
			if m.Legend[g.Cells[k]].Solid {
				v = beside(m, g, lit, k)
			}
			m.GridLight[i][k] = mapfile.PackLight(v)
		}
	}
	return nil
}

// cell is the light of all lamps on a cell: the mean over places in it.
func cell(m *mapfile.Map, g *mapfile.Grid, l *lamps, k int) (sum bvh.Vec) {
	if m.Legend[g.Cells[k]].Solid {
		return sum
	}
	x, y := float64(uint32(k)%g.Width), float64(uint32(k)/g.Width)
	for i := range l.list {
		lamp := &l.list[i]
		if math.Floor(float64(lamp.at[2])) != float64(g.Level) {
			continue
		}
		for s := range spots * spots {
			px, py := x+(float64(s%spots)+0.5)/spots, y+(float64(s/spots)+0.5)/spots
			dx, dy := float64(lamp.at[0])-px, float64(lamp.at[1])-py
			square := float64(dx*dx) + float64(dy*dy) + hangs*hangs
			amount := hangs / (square * math.Sqrt(square))
			if brightness(lamp.power)*float32(amount) < faint ||
				!sees(m, g, px, py, float64(lamp.at[0]), float64(lamp.at[1])) {
				continue
			}
			sum = sum.Add(lamp.power.Scale(float32(amount / (spots * spots))))
		}
	}
	return sum
}

// sees says whether a line between two places crosses no solid cell; the cells on it are found one
// by one (Amanatides and Woo, "A fast voxel traversal algorithm for ray tracing", 1987). The cell
// that the lamp is in does not count: lamps hang on walls.
func sees(m *mapfile.Map, g *mapfile.Grid, x, y, toX, toY float64) bool {
	cx, cy, ex, ey := int(math.Floor(x)), int(math.Floor(y)), int(math.Floor(toX)), int(math.Floor(toY))
	dx, dy := toX-x, toY-y
	along := func(d, at float64) (step int, next, every float64) {
		switch {
		case d > 0:
			return 1, (math.Floor(at) + 1 - at) / d, 1 / d
		case d < 0:
			return -1, (at - math.Floor(at)) / -d, -1 / d
		}
		return 0, math.Inf(1), math.Inf(1)
	}
	sx, nx, wx := along(dx, x)
	sy, ny, wy := along(dy, y)
	for range int(g.Width + g.Height + 2) {
		if cx == ex && cy == ey {
			return true
		}
		if cx < 0 || cy < 0 || cx >= int(g.Width) || cy >= int(g.Height) ||
			m.Legend[g.Cells[cy*int(g.Width)+cx]].Solid {
			return false
		}
		if nx < ny {
			cx += sx
			nx += wx
		} else {
			cy += sy
			ny += wy
		}
	}
	return true
}

// beside is the light of the brightest of the cells around one.
func beside(m *mapfile.Map, g *mapfile.Grid, lit []bvh.Vec, k int) (limit bvh.Vec) {
	x, y := k%int(g.Width), k/int(g.Width)
	for dy := -1; dy <= 1; dy++ {
		for dx := -1; dx <= 1; dx++ {
			nx, ny := x+dx, y+dy
			if nx < 0 || ny < 0 || nx >= int(g.Width) || ny >= int(g.Height) {
				continue
			}
			n := ny*int(g.Width) + nx
			if !m.Legend[g.Cells[n]].Solid && brightness(lit[n]) > brightness(limit) {
				limit = lit[n]
			}
		}
	}
	return limit
}
