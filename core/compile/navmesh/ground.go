package navmesh

import (
	"math"
	"slices"

	"vornix/core/compile/radiance"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
)

const (
	// tile is how many cells a tile has each way.
	tile = 64
	// same is how far apart, in metres, two heights are one.
	same = 0.02
)

// piece is a convex polygon of the surface.
type piece struct {
	outline []point
	normal  geom.Vec
}

type point = [3]float64

// span is what of a piece lies over a cell.
type span struct {
	low, high float64
	// A floor can be stood on; it lies at height over the cell's middle, and rises by slope to the east and north.
	floor  bool
	height float64
	slope  [2]float64
}

// stand is a place where an agent's middle can be: over a cell, at a height.
type stand struct {
	height float64
	slope  [2]float64
	area   uint32
	group  int32 // the polygon that it is part of
}

// field is all that is known of the plan. Cells are counted from the origin.
type field struct {
	agent  mapfile.Agent
	cell   float64
	pieces []piece
	tree   *geom.Tree
	zones  []zone
	areas  []string
	tiles  map[[2]int]*[tile * tile][]stand
	order  [][2]int // the tiles, in rows
}

// zone is a volume of the map.
type zone struct {
	box  geom.Box
	area uint32
	kind string
}

// gather collects the pieces of a map's surface that stop an agent. passes says which materials don't.
func gather(m *mapfile.Map, passes func(material string) bool) []piece {
	var list []piece
	add := func(corners ...[3]float32) {
		var p piece
		for _, c := range corners {
			p.outline = append(p.outline, point{float64(c[0]), float64(c[1]), float64(c[2])})
		}
		sum := geom.Vec{} // of the corners' cross products: Newell's normal
		for i, a := range p.outline {
			b := p.outline[(i+1)%len(p.outline)]
			sum = sum.Add(geom.Vec{X: a[0], Y: a[1], Z: a[2]}.Cross(geom.Vec{X: b[0], Y: b[1], Z: b[2]}))
		}
		var ok bool
		if p.normal, ok = sum.Unit(); ok {
			list = append(list, p)
		}
	}
	for _, f := range m.Faces {
		if passes(f.Material) {
			continue
		}
		var corners [][3]float32
		for _, v := range m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
			corners = append(corners, v.Position)
		}
		add(corners...)
	}
	for i := range m.Terrains {
		t := &m.Terrains[i]
		for row := range t.Rows - 1 {
			for column := range t.Columns - 1 {
				a, b, c, d := t.Point(column, row), t.Point(column+1, row), t.Point(column, row+1),
					t.Point(column+1, row+1)
				add(a, c, b)
				add(b, c, d)
			}
		}
	}
	for i := range m.Props {
		p := &m.Props[i]
		if !p.Solid {
			continue
		}
		for _, mesh := range m.Models[p.Model].Meshes {
			if passes(mesh.Material) {
				continue
			}
			for k := mesh.FirstIndex; k+2 < mesh.FirstIndex+mesh.IndexNumber; k += 3 {
				at := func(n uint32) [3]float32 { return radiance.Place(p, m.Vertices[m.Indices[k+n]].Position) }
				add(at(0), at(1), at(2))
			}
		}
	}
	return list
}

func (p *piece) box() geom.Box {
	low, high := p.outline[0], p.outline[0]
	for _, c := range p.outline {
		for k := range 3 {
			low[k], high[k] = min(low[k], c[k]), max(high[k], c[k])
		}
	}
	return geom.Box{Min: geom.Vec{X: low[0], Y: low[1], Z: low[2]}, Max: geom.Vec{X: high[0], Y: high[1], Z: high[2]}}
}

// steep is the cosine of the steepest slope.
func steep(a mapfile.Agent) float64 {
	_, cos := geom.Turn(float64(a.Slope))
	return cos
}

// climb is how high ground may rise within an agent's radius without being in its way.
func (f *field) climb() float64 {
	sin, cos := geom.Turn(float64(f.agent.Slope))
	return max(float64(f.agent.Step), (float64(f.agent.Radius)+f.cell)*sin/max(cos, 0.1))
}

// rim is how many cells beyond a tile are looked at.
func (f *field) rim() int { return int(math.Ceil(float64(f.agent.Radius)/f.cell)) + 1 }

// floors finds the tiles that have ground.
func (f *field) floors() {
	seen := map[[2]int]bool{}
	limit := steep(f.agent)
	for i := range f.pieces {
		if f.pieces[i].normal.Z < limit {
			continue
		}
		b := f.pieces[i].box()
		size := f.cell * tile
		for y := int(math.Floor(b.Min.Y / size)); y <= int(math.Floor(b.Max.Y/size)); y++ {
			for x := int(math.Floor(b.Min.X / size)); x <= int(math.Floor(b.Max.X/size)); x++ {
				seen[[2]int{x, y}] = true
			}
		}
	}
	for t := range seen {
		f.order = append(f.order, t)
	}
	slices.SortFunc(f.order, func(a, b [2]int) int {
		if a[1] != b[1] {
			return a[1] - b[1]
		}
		return a[0] - b[0]
	})
}

// stands finds where an agent can be within a tile.
func (f *field) stands(t [2]int) *[tile * tile][]stand {
	rim := f.rim()
	side := tile + 2*rim
	x0, y0 := t[0]*tile-rim, t[1]*tile-rim
	columns := make([][]span, side*side)
	box := geom.Box{Min: geom.Vec{X: float64(x0) * f.cell, Y: float64(y0) * f.cell, Z: -math.MaxFloat64},
		Max: geom.Vec{X: float64(x0+side) * f.cell, Y: float64(y0+side) * f.cell, Z: math.MaxFloat64}}
	var found []int
	f.tree.Touching(box, func(i int) { found = append(found, i) })
	slices.Sort(found)
	for _, i := range found {
		f.rasterise(&f.pieces[i], x0, y0, side, columns)
	}
	out := new([tile * tile][]stand)
	radius := float64(f.agent.Radius)
	climb, height := f.climb(), float64(f.agent.Height)
	var near [][2]int // cells nearer than the radius, by how far they are in rows and columns
	for dy := -rim; dy <= rim; dy++ {
		for dx := -rim; dx <= rim; dx++ {
			gx, gy := max(math.Abs(float64(dx))-0.5, 0)*f.cell, max(math.Abs(float64(dy))-0.5, 0)*f.cell
			if float64(gx*gx)+float64(gy*gy) < float64(radius*radius) {
				near = append(near, [2]int{dx, dy})
			}
		}
	}
	for y := range tile {
		for x := range tile {
			column := columns[(y+rim)*side+x+rim]
			var list []stand
			for _, s := range column {
				if !s.floor || f.blocked(columns, near, side, x+rim, y+rim, s.height, climb, height) {
					continue
				}
				area, removed := f.area(x0+rim+x, y0+rim+y, s.height)
				if !removed {
					list = append(list, stand{height: s.height, slope: s.slope, area: area, group: -1})
				}
			}
			slices.SortStableFunc(list, func(a, b stand) int {
				switch {
				case a.height < b.height:
					return -1
				case a.height > b.height:
					return 1
				}
				return 0
			})
			for i, s := range list { // of heights within a step the highest is stood on
				if i+1 < len(list) && list[i+1].height-s.height <= float64(f.agent.Step) {
					continue
				}
				out[y*tile+x] = append(out[y*tile+x], s)
			}
		}
	}
	return out
}

// blocked says whether anything that can't be stepped over is within an agent's radius.
func (f *field) blocked(columns [][]span, near [][2]int, side, x, y int, z, climb, height float64) bool {
	for _, d := range near {
		for _, s := range columns[(y+d[1])*side+x+d[0]] {
			if s.high > z+climb && s.low < z+height {
				return true
			}
		}
	}
	return false
}

// area is the area that a place lies in; removed says that nobody stays there.
func (f *field) area(x, y int, z float64) (area uint32, removed bool) {
	p := geom.Vec{X: (float64(x) + 0.5) * f.cell, Y: (float64(y) + 0.5) * f.cell, Z: z + 0.05}
	for _, v := range f.zones {
		if v.box.Holds(p) {
			if v.kind == "remove" {
				return 0, true
			}
			area = v.area
		}
	}
	return area, false
}

// rasterise adds a piece to the columns that it lies over: it is cut into rows and the rows into cells.
func (f *field) rasterise(p *piece, x0, y0, side int, columns [][]span) {
	floor := p.normal.Z >= steep(f.agent)
	b := p.box()
	d := float64(p.normal.X*p.outline[0][0]) + float64(p.normal.Y*p.outline[0][1]) + float64(p.normal.Z*p.outline[0][2])
	rows := func(low, high float64, first int) (int, int) {
		return max(int(math.Floor(low/f.cell))-first, 0), min(int(math.Floor(high/f.cell))-first, side-1)
	}
	from, to := rows(b.Min.Y, b.Max.Y, y0)
	var row, rest, cell, buffer []point
	rest = append(rest, p.outline...)
	for y := from; y <= to && len(rest) > 0; y++ {
		row = clip(rest, 1, float64(y+y0)*f.cell, float64(y+y0+1)*f.cell, row[:0], &buffer)
		if len(row) == 0 {
			continue
		}
		low, high := row[0][0], row[0][0]
		for _, c := range row {
			low, high = min(low, c[0]), max(high, c[0])
		}
		first, last := rows(low, high, x0)
		for x := first; x <= last; x++ {
			cell = clip(row, 0, float64(x+x0)*f.cell, float64(x+x0+1)*f.cell, cell[:0], &buffer)
			if len(cell) == 0 {
				continue
			}
			s := span{low: cell[0][2], high: cell[0][2], floor: floor}
			for _, c := range cell {
				s.low, s.high = min(s.low, c[2]), max(s.high, c[2])
			}
			if floor {
				mx, my := (float64(x+x0)+0.5)*f.cell, (float64(y+y0)+0.5)*f.cell
				s.slope = [2]float64{-p.normal.X / p.normal.Z, -p.normal.Y / p.normal.Z}
				s.height = min(max((d-float64(p.normal.X*mx)-float64(p.normal.Y*my))/p.normal.Z, s.low), s.high)
			}
			columns[y*side+x] = append(columns[y*side+x], s)
		}
	}
}

// clip cuts a polygon to what lies between two values of a coordinate (Sutherland and Hodgman,
// 1974). A polygon that only touches the upper one is left out.
func clip(p []point, k int, low, high float64, out []point, buffer *[]point) []point {
	half := func(p, out []point, sign, limit float64) []point {
		for i, a := range p {
			b := p[(i+1)%len(p)]
			da, db := sign*(a[k]-limit), sign*(b[k]-limit)
			if da >= 0 {
				out = append(out, a)
			}
			if da > 0 && db < 0 || da < 0 && db > 0 {
				t := da / (da - db)
				var c point
				for i := range c {
					c[i] = a[i] + float64((b[i]-a[i])*t)
				}
				c[k] = limit
				out = append(out, c)
			}
		}
		return out
	}
	*buffer = half(p, (*buffer)[:0], 1, low)
	out = half(*buffer, out, -1, high)
	for _, c := range out {
		if c[k] < high {
			return out
		}
	}
	return out[:0]
}
