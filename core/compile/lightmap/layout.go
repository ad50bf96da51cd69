package lightmap

import (
	"cmp"
	"math"
	"slices"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
)

const (
	// usual is how many texels a metre has where nobody says it; a draft has a quarter of what is asked.
	usual = 4
	// side is the width and height of a page; a face that is larger has coarser texels.
	side = 1024
	// inset is how far within a face its texels are taken, in metres, so that what is at its edge is not in the way.
	inset = 0.004
	// lift is how far above a surface rays begin, in metres.
	lift = 0.002
)

// texel is a place where light is measured.
type texel struct {
	at, normal bvh.Vec
	// a and b are steps of a quarter texel along the surface, nothing where the texel has no room for them.
	a, b bvh.Vec
	// around are the numbers of the next texels, west, east, south, north; -1: none.
	around [4]int32
	// like is the texel close by, in the same plane and in sight, whose bounced light this one
	// takes until the last gathering; itself where there is none.
	like int32
}

// rectangle is a face's place on a page: the texel in its column x and row y is cells[y*w+x].
type rectangle struct {
	face       int
	x, y, w, h int
	page       int
	cells      []int32 // numbers of texels
}

// layout is where all light is measured. Luxels of faces come first, then those of terrains, then those of props.
type layout struct {
	texels     []texel
	rectangles []rectangle
	side       int
	pages      int
	terrains   []ground
	props      []int // by prop: its first texel
	coarser    []int // faces that are too large for the texels that they should have
}

// ground is where a terrain's texels are: at every step-th of its heights and at the last ones.
type ground struct{ first, columns, rows, step int }

// plane is what faces must have in common to share texels.
type plane struct {
	normal [3]int32
	d      int64
	size   float32
}

// grid is the plane's grid of texels.
type grid struct {
	u, v, origin bvh.Vec // of length one; a point of the plane nearest to the world's
	size         float32
	on           map[[2]int32]int32 // texels that lie on a face
}

func (g *grid) point(x, y float32) bvh.Vec {
	return g.origin.Add(g.u.Scale(x)).Add(g.v.Scale(y))
}

// axes are the directions of rows and columns on a plane; level where the plane is not.
func axes(n bvh.Vec) (u, v bvh.Vec) {
	if n[2] > 0.9 || n[2] < -0.9 {
		u = bvh.Vec{1, 0, 0}
	} else {
		u = bvh.Vec{-n[1], n[0], 0}
	}
	v = n.Cross(u).Unit()
	return v.Cross(n).Unit(), v
}

// size is the width of a face's texels in metres.
func size(m *mapfile.Map, f *mapfile.Face, of func(material string) float64, draft bool) float32 {
	density := cmp.Or(float64(f.Luxels), of(f.Material), m.Meta.Luxels, usual)
	if draft {
		density /= 4
	}
	return float32(1 / density)
}

// lay makes the layout.
func lay(m *mapfile.Map, s *radiance.Scene, o Options, draft bool) *layout {
	l := &layout{side: 64}
	grids := map[plane]*grid{}
	of := make([]*grid, len(m.Faces))
	outline := make([][][2]float32, len(m.Faces))
	for i := range m.Faces {
		f := &m.Faces[i]
		if o.unseen(i) {
			continue
		}
		corners := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
		n := bvh.Vec(corners[0].Normal)
		key := plane{size: size(m, f, o.Density, draft)}
		if wide := extent(corners); wide/key.size > side-4 {
			l.coarser = append(l.coarser, i)
			for wide/key.size > side-4 {
				key.size *= 2
			}
		}
		d := bvh.Vec(corners[0].Position).Dot(n)
		for k := range n {
			key.normal[k] = int32(math.Round(float64(n[k]) * 1e5))
		}
		key.d = int64(math.Round(float64(d) * 2048))
		g := grids[key]
		if g == nil {
			u, v := axes(n)
			g = &grid{u: u, v: v, origin: n.Scale(d), size: key.size, on: map[[2]int32]int32{}}
			grids[key] = g
		}
		of[i] = g
		for _, c := range corners {
			p := bvh.Vec(c.Position)
			outline[i] = append(outline[i], [2]float32{p.Dot(g.u), p.Dot(g.v)})
		}
	}
	for i, g := range of { // texels that lie on a face, which all faces in the plane share
		if g == nil {
			continue
		}
		low, high := span(outline[i], g.size)
		for y := low[1]; y <= high[1]; y++ {
			for x := low[0]; x <= high[0]; x++ {
				p := [2]float32{float32(x) * g.size, float32(y) * g.size}
				if _, taken := g.on[[2]int32{x, y}]; taken || outside(outline[i], p) > 0 {
					continue
				}
				g.on[[2]int32{x, y}] = l.add(g, outline[i], p, bvh.Vec(m.Vertices[m.Faces[i].FirstVertex].Normal))
			}
		}
	}
	for i, g := range of {
		if g == nil {
			continue
		}
		low, high := span(outline[i], g.size)
		r := rectangle{face: i, w: int(high[0]-low[0]) + 1, h: int(high[1]-low[1]) + 1}
		n := bvh.Vec(m.Vertices[m.Faces[i].FirstVertex].Normal)
		for y := low[1]; y <= high[1]; y++ {
			for x := low[0]; x <= high[0]; x++ {
				k := l.cell(s, g, outline[i], n, x, y)
				r.cells = append(r.cells, k)
				if c := &l.texels[k]; c.like == k {
					// One of four is enough for light that is on its way.
					if o, there := g.on[[2]int32{x &^ 1, y &^ 1}]; there && l.texels[o].sees(s, c.at) {
						c.like = o
					}
				}
			}
		}
		for y := range r.h {
			for x := range r.w {
				c := &l.texels[r.cells[y*r.w+x]]
				for k, at := range [4][2]int{{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}} {
					if at[0] >= 0 && at[1] >= 0 && at[0] < r.w && at[1] < r.h && c.around[k] < 0 {
						c.around[k] = r.cells[at[1]*r.w+at[0]]
					}
				}
			}
		}
		l.rectangles = append(l.rectangles, r)
		for k := range m.Faces[i].Vertices { // where corners lie, for now within the rectangle
			m.Vertices[m.Faces[i].FirstVertex+k].Luxel = [2]float32{outline[i][k][0]/g.size - float32(low[0]),
				outline[i][k][1]/g.size - float32(low[1])}
		}
	}
	l.pack(m)
	l.others(m, o.Density, draft)
	return l
}

func extent(corners []mapfile.Vertex) float32 {
	low, high := corners[0].Position, corners[0].Position
	for _, c := range corners {
		for k := range 3 {
			low[k], high[k] = min(low[k], c.Position[k]), max(high[k], c.Position[k])
		}
	}
	return bvh.Vec(high).Sub(bvh.Vec(low)).Length()
}

// span is the texels that are mixed into an outline.
func span(outline [][2]float32, size float32) (low, high [2]int32) {
	for k := range 2 {
		lowest, limit := outline[0][k], outline[0][k]
		for _, p := range outline {
			lowest, limit = min(lowest, p[k]), max(limit, p[k])
		}
		// A corner that rounding put a little beyond a texel takes no other one.
		low[k] = int32(math.Floor(float64(lowest/size) + 1e-3))
		high[k] = max(int32(math.Ceil(float64(limit/size)-1e-3)), low[k]+1)
	}
	return low, high
}

// outside is how far a point lies beyond the edge of a convex outline that runs counter-clockwise; below 0: within.
func outside(outline [][2]float32, p [2]float32) float32 {
	far := float32(-math.MaxFloat32)
	for i, a := range outline {
		b := outline[(i+1)%len(outline)]
		dx, dy := b[0]-a[0], b[1]-a[1]
		length := float32(math.Sqrt(float64(float32(dx*dx) + float32(dy*dy))))
		if length < 1e-6 {
			continue
		}
		far = max(far, (float32(dy*(p[0]-a[0]))-float32(dx*(p[1]-a[1])))/length)
	}
	return far
}

// within moves a point to the nearest place that lies in an outline, and a little away from its edges.
func within(outline [][2]float32, p [2]float32) [2]float32 {
	for range 4 { // once for each edge of a corner, and again where that led past another
		moved := false
		for i, a := range outline {
			b := outline[(i+1)%len(outline)]
			dx, dy := b[0]-a[0], b[1]-a[1]
			length := float32(math.Sqrt(float64(float32(dx*dx) + float32(dy*dy))))
			if length < 1e-6 {
				continue
			}
			dx, dy = dx/length, dy/length
			if out := float32(dy*(p[0]-a[0])) - float32(dx*(p[1]-a[1])) + inset; out > 1e-5 {
				p[0], p[1] = p[0]-float32(dy*out), p[1]+float32(dx*out)
				moved = true
			}
		}
		if !moved {
			return p
		}
	}
	if outside(outline, p) <= 0 {
		return p
	}
	var middle [2]float32 // a sliver: its middle is as good as any
	for _, c := range outline {
		middle[0] += c[0] / float32(len(outline))
		middle[1] += c[1] / float32(len(outline))
	}
	return middle
}

// add makes a texel at a place on a face, or as near to it as the face goes.
func (l *layout) add(g *grid, outline [][2]float32, p [2]float32, normal bvh.Vec) int32 {
	q := within(outline, p)
	c := texel{at: g.point(q[0], q[1]).Add(normal.Scale(lift)), normal: normal, around: [4]int32{-1, -1, -1, -1}}
	if outside(outline, q) < -g.size/4 {
		c.a, c.b = g.u.Scale(g.size/4), g.v.Scale(g.size/4)
	}
	c.like = int32(len(l.texels))
	l.texels = append(l.texels, c)
	return c.like
}

// sees says whether nothing stands between a texel and another one of the same plane.
func (c *texel) sees(s *radiance.Scene, other bvh.Vec) bool {
	from := c.at.Add(c.normal.Scale(2 * lift))
	return !s.Blocked(from, other.Add(c.normal.Scale(2*lift)).Sub(from))
}

// cell is the texel that a face takes at a crossing of its grid: where it lies on another face,
// that one's, so that both show the same, unless something stands between.
func (l *layout) cell(s *radiance.Scene, g *grid, outline [][2]float32, normal bvh.Vec, x, y int32) int32 {
	p := [2]float32{float32(x) * g.size, float32(y) * g.size}
	shared, ok := g.on[[2]int32{x, y}]
	if ok {
		if outside(outline, p) <= 0 {
			return shared
		}
		q := within(outline, p)
		if l.texels[shared].sees(s, g.point(q[0], q[1]).Add(normal.Scale(lift))) {
			return shared
		}
	}
	return l.add(g, outline, p, normal)
}

// pack puts rectangles on pages, the highest first, row by row.
func (l *layout) pack(m *mapfile.Map) {
	order := make([]int, len(l.rectangles))
	area := 0
	for i, r := range l.rectangles {
		order[i] = i
		area += r.w * r.h
		for l.side < max(r.w, r.h) {
			l.side *= 2
		}
	}
	for l.side < side && l.side*l.side < area+area/8 {
		l.side *= 2
	}
	slices.SortFunc(order, func(a, b int) int {
		p, q := &l.rectangles[a], &l.rectangles[b]
		return cmp.Or(cmp.Compare(q.h, p.h), cmp.Compare(q.w, p.w), a-b)
	})
	x, y, row := 0, 0, 0
	for _, i := range order {
		r := &l.rectangles[i]
		if l.pages == 0 {
			l.pages = 1
		}
		if x+r.w > l.side {
			x, y, row = 0, y+row, 0
		}
		if y+r.h > l.side {
			x, y, row = 0, 0, 0
			l.pages++
		}
		r.x, r.y, r.page = x, y, l.pages-1
		x, row = x+r.w, max(row, r.h)
		f := &m.Faces[r.face]
		f.Page = uint32(l.pages)
		for k := range f.Vertices {
			v := &m.Vertices[f.FirstVertex+k].Luxel
			v[0], v[1] = min(max(v[0], 0), float32(r.w-1))+float32(r.x), min(max(v[1], 0), float32(r.h-1))+float32(r.y)
		}
	}
}

// others adds texels for terrains and for every corner of a prop.
func (l *layout) others(m *mapfile.Map, density func(string) float64, draft bool) {
	for i := range m.Terrains {
		l.terrain(&m.Terrains[i],
			step(&m.Terrains[i], cmp.Or(density(m.Terrains[i].Material), m.Meta.Luxels, usual), draft))
	}
	for i := range m.Props {
		p := &m.Props[i]
		l.props = append(l.props, len(l.texels))
		for _, mesh := range m.Models[p.Model].Meshes {
			middle := bvh.Vec{} // corners are moved a little into their faces
			for _, v := range m.Vertices[mesh.FirstVertex : mesh.FirstVertex+mesh.Vertices] {
				middle = middle.Add(bvh.Vec(v.Position).Scale(1 / float32(mesh.Vertices)))
			}
			for _, v := range m.Vertices[mesh.FirstVertex : mesh.FirstVertex+mesh.Vertices] {
				n := radiance.PlaceNormal(p, v.Normal)
				at := bvh.Vec(v.Position)
				at = at.Add(middle.Sub(at).Scale(0.02))
				l.texels = append(l.texels,
					texel{at: radiance.Place(p, at).Add(n.Scale(lift * 10)), normal: n,
						around: [4]int32{-1, -1, -1, -1}, like: int32(len(l.texels))})
			}
		}
	}
}

// step is how many heights a texel of a terrain stands for, each way.
func step(t *mapfile.Terrain, density float64, draft bool) int {
	if draft {
		density /= 4
	}
	cell := float64(min((t.Max[0]-t.Min[0])/float32(t.Columns-1), (t.Max[1]-t.Min[1])/float32(t.Rows-1)))
	return int(min(max(1/(density*cell), 1), 64))
}

// terrain adds the texels of a terrain.
func (l *layout) terrain(t *mapfile.Terrain, step int) {
	g := ground{len(l.texels), (int(t.Columns)-2)/step + 2, (int(t.Rows)-2)/step + 2, step}
	l.terrains = append(l.terrains, g)
	cell := min((t.Max[0]-t.Min[0])/float32(t.Columns-1), (t.Max[1]-t.Min[1])/float32(t.Rows-1))
	for y := range g.rows {
		for x := range g.columns {
			column, row := min(uint32(x*step), t.Columns-1), min(uint32(y*step), t.Rows-1)
			n := bvh.Vec(t.Normal(column, row))
			c := texel{normal: n, around: [4]int32{-1, -1, -1, -1}}
			// Triangles between heights may bulge above a height's own slope: rays begin above them.
			c.at = bvh.Vec(t.Point(column, row)).Add(n.Scale(lift + cell/25))
			at := int32(g.first + y*g.columns + x)
			c.like = int32(g.first + (y&^1)*g.columns + x&^1)
			if x > 0 {
				c.around[0] = at - 1
			}
			if x+1 < g.columns {
				c.around[1] = at + 1
			}
			if y > 0 {
				c.around[3] = at - int32(g.columns)
			}
			if y+1 < g.rows {
				c.around[2] = at + int32(g.columns)
			}
			l.texels = append(l.texels, c)
		}
	}
}

// spread gives each of a terrain's heights its light, mixed of the texels around it.
func (g *ground) spread(t *mapfile.Terrain, of func(i int) bvh.Vec, to []bvh.Vec) {
	lit := make([]bvh.Vec, g.columns*g.rows)
	for i := range lit {
		lit[i] = of(g.first + i)
	}
	part := func(at, count, luxels int) (int, float32) { // the texel before a height, and how far it is to the next
		k := min(at/g.step, luxels-2)
		width := min(g.step, count-1-k*g.step)
		return k, float32(at-k*g.step) / float32(width)
	}
	for row := range int(t.Rows) {
		y, fy := part(row, int(t.Rows), g.rows)
		for column := range int(t.Columns) {
			x, fx := part(column, int(t.Columns), g.columns)
			i := y*g.columns + x
			top := lit[i].Scale(1 - fx).Add(lit[i+1].Scale(fx))
			low := lit[i+g.columns].Scale(1 - fx).Add(lit[i+g.columns+1].Scale(fx))
			to[row*int(t.Columns)+column] = top.Scale(1 - fy).Add(low.Scale(fy))
		}
	}
}
