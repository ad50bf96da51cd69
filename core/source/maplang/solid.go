package maplang

import (
	"math"

	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/source/scene"
)

// body is a convex piece of a solid, before it is placed. wrap gives, for a side that runs around,
// the metres along the way around at which its first corner lies; sides without it are laid along
// the world's axes.
type body struct {
	faces []geom.Polygon
	wrap  map[int]float64
}

// solid makes a solid's pieces and lays its faces' looks over them.
func (b *builder) solid(r *Record, c context) {
	looks := b.looks(r)
	for _, piece := range b.pieces(r) {
		s := scene.Solid{Name: c.prefix + r.Name(), Detail: str(r, "detail") == "yes", Place: r.Place,
			Faces: make([]scene.Face, 0, len(piece.faces))}
		for i, local := range piece.faces {
			plane, ok := local.Plane()
			if !ok {
				continue
			}
			f := scene.Face{Polygon: c.at.Polygon(local), TextureMapping: looks[sideOf(plane.N)]}
			if f.Plane, ok = f.Polygon.Plane(); !ok {
				continue
			}
			f.U, f.V = worldAxes(f.Plane.N)
			around, wraps := piece.wrap[i]
			switch {
			case wraps:
				f.U.At = around - f.U.Dir.Dot(f.Polygon[0])
			case c.move:
				f.U, f.V = movedAxes(plane.N, c.at)
			}
			s.Faces = append(s.Faces, f)
		}
		if len(s.Faces) < 4 {
			b.find(finding.SolidFlat, r.Place, "solid %q has no volume", s.Name)
			return
		}
		s.Box = s.Faces[0].Polygon.Box()
		for _, f := range s.Faces[1:] {
			s.Box = s.Box.Union(f.Polygon.Box())
		}
		size := s.Box.Max.Sub(s.Box.Min)
		if thin := min(size.X, size.Y, size.Z); thin < thinnest {
			b.find(finding.SolidFlat, r.Place, "solid %q is %s m thin; thinner than %g m it is lost", s.Name,
				formatNumber(math.Round(thin*1e6)/1e6), thinnest)
			return
		}
		if far := s.Box.Max.Max(s.Box.Min.Scale(-1)); max(far.X, far.Y, far.Z) > maxNumber {
			b.find(finding.MapHuge, r.Place,
				"solid %q reaches beyond %.0f km, where coordinates lose their centimetres", s.Name,
				float64(maxNumber/1000))
			return
		}
		b.m.Solids = append(b.m.Solids, s)
	}
}

// thinnest is the least thickness of a solid in metres: the geometry stage makes points one that are nearer.
const thinnest = 0.002

// looks are the faces' looks by side, in the order of sides: what the solid says, with the face
// lines laid over it. A later line overrides all of an earlier one.
func (b *builder) looks(r *Record) (looks [6]scene.TextureMapping) {
	base := scene.TextureMapping{Material: b.ref(r.Pair("material")), Scale: 1}
	for side := range looks {
		looks[side] = base
	}
	for _, child := range r.Children {
		f := scene.TextureMapping{Material: base.Material, Scale: b.within(child, "scale", 1, 1e-3, 1e3),
			Turn: num(child, "turn", 0), Fit: str(child, "fit") == "yes",
			Luxels: b.within(child, "luxels", 0, 0.01, 1000)}
		if v := child.Pair("material"); v != nil {
			f.Material = b.ref(v)
		}
		if v := child.Pair("shift"); v != nil {
			f.ShiftU, f.ShiftV = v.Numbers[0], v.Numbers[1]
		}
		for i, side := range sides[:6] {
			if name := child.Name(); name == side || name == "all" || name == "sides" && i >= 2 {
				looks[i] = f
			}
		}
	}
	return looks
}

// sideOf is the number in sides of a face by the way it looks: up and down before north and south before east and west.
func sideOf(n geom.Vec) int {
	const even = 1e-9 // a slope of 45 degrees is a top, on every machine
	x, y, z := math.Abs(n.X), math.Abs(n.Y), math.Abs(n.Z)
	pick := func(v float64, plus int) int {
		if v > 0 {
			return plus
		}
		return plus + 1
	}
	switch {
	case z >= max(x, y)-even:
		return pick(n.Z, 0)
	case y >= x-even:
		return pick(n.Y, 2)
	}
	return pick(n.X, 4)
}

// worldAxes are the directions to the right and down on a face as seen from outside. Walls run level along the face and
// down; floors, ceilings and slopes up to 45 degrees follow the world's X, so that textures meet across neighbours.
func worldAxes(n geom.Vec) (u, v scene.Axis) {
	along := geom.Vec{X: -n.Y, Y: n.X} // level in the face
	if math.Abs(n.Z) > 0.7 {
		along = geom.Vec{X: 1}.Sub(n.Scale(n.X))
	}
	along, _ = along.Unit()
	return scene.Axis{Dir: along}, scene.Axis{Dir: along.Cross(n)}
}

// movedAxes are the axes that a face had before it was placed, so that its texture moves along.
func movedAxes(n geom.Vec, at geom.Transform) (u, v scene.Axis) {
	u, v = worldAxes(n)
	back, ok := at.Inverse()
	if !ok {
		return u, v
	}
	carry := func(a scene.Axis) scene.Axis {
		row := back.M[0].Scale(a.Dir.X).Add(back.M[1].Scale(a.Dir.Y)).Add(back.M[2].Scale(a.Dir.Z))
		return scene.Axis{Dir: row, At: a.At + a.Dir.Dot(back.Move)}
	}
	return carry(u), carry(v)
}

// pieces are the convex bodies of a solid, as its shape says.
func (b *builder) pieces(r *Record) []body {
	flat := func(what string) []body {
		b.find(finding.SolidFlat, r.Place, "solid %q encloses nothing: %s", r.Name(), what)
		return nil
	}
	hull := func(points []geom.Vec) []body {
		faces, err := geom.Hull(points)
		if err != nil {
			return flat(err.Error())
		}
		return []body{{faces: faces}}
	}
	switch shape := r.Values[1].Text; shape {
	case "box", "wedge":
		box := geom.NewBox(vec(r.Values[2]), vec(r.Values[3]))
		if box.Empty() {
			b.find(finding.MapSyntax, r.Values[3].Place,
				"the box of %s %q has no volume: its corners agree in a coordinate", r.Keyword, r.Name())
			return nil
		}
		faces := box.Faces()
		if shape == "box" {
			return []body{{faces: faces}}
		}
		high := map[string]int{"north": 2, "south": 3, "east": 4, "west": 5}[str(r, "rise")]
		return hull(append(append([]geom.Vec{}, faces[1]...), top(faces[high])...))
	case "cylinder":
		return b.cylinder(r)
	case "prism":
		return b.prism(r, flat)
	case "hull":
		if len(r.Values)-2 > geom.MaxHullPoints {
			b.find(finding.MapSyntax, r.Place, "a hull has at most %d corners, and this has %d", geom.MaxHullPoints,
				len(r.Values)-2).Do = "Split it in several solids, or bring it as a glTF scene."
			return nil
		}
		var points []geom.Vec
		for _, v := range r.Values[2:] {
			points = append(points, vec(v))
		}
		return hull(points)
	default:
		return b.extrude(r, flat)
	}
}

// top is the upper edge of a wall.
func top(wall geom.Polygon) (edge []geom.Vec) {
	for _, v := range wall {
		if v.Z == wall.Box().Max.Z {
			edge = append(edge, v)
		}
	}
	return edge
}

func (b *builder) cylinder(r *Record) []body {
	radius, height := b.within(r, "radius", 0, 0.01, 1e5), r.Pair("height").Numbers[0]
	upper := radius
	if r.Pair("top") != nil {
		upper = b.within(r, "top", 0, 0, 1e5)
	}
	n := int(b.within(r, "sides", 16, 3, 64))
	if n < 3 || n > 64 || radius < 0.01 {
		return nil
	}
	if !(height > 0) {
		b.find(finding.MapSyntax, r.Pair("height").Place, "height must be above 0, and is %s", formatNumber(height))
		return nil
	}
	at := vec(r.Values[2])
	ring := func(radius, z float64) geom.Polygon {
		p := make(geom.Polygon, n)
		for i := range p {
			sin, cos := geom.Turn((float64(i) + 0.5) * 360 / float64(n))
			p[i] = at.Add(geom.Vec{X: float64(cos * radius), Y: float64(sin * radius), Z: z})
		}
		return p
	}
	low, high := ring(radius, 0), ring(upper, height)
	piece := body{faces: []geom.Polygon{high, low.Reverse()}, wrap: map[int]float64{}}
	if upper < thinnest {
		piece.faces = piece.faces[1:]
	}
	side := low[1].Sub(low[0]).Length()
	for i := range n {
		j := (i + 1) % n
		face := geom.Polygon{low[i], low[j], high[j], high[i]}
		if upper < thinnest {
			face = geom.Polygon{low[i], low[j], at.Add(geom.Vec{Z: height})}
		}
		piece.wrap[len(piece.faces)] = side * float64(i)
		piece.faces = append(piece.faces, face)
	}
	return []body{piece}
}

func (b *builder) prism(r *Record, flat func(string) []body) []body {
	base, height := num(r, "base", 0), r.Pair("height").Numbers[0]
	if !(height > 0) {
		b.find(finding.MapSyntax, r.Pair("height").Place, "height must be above 0, and is %s", formatNumber(height))
		return nil
	}
	var outline geom.Polygon
	area := 0.0
	for i, v := range r.Values[2:] {
		next := r.Values[2:][(i+1)%(len(r.Values)-2)]
		area += float64(v.Numbers[0]*next.Numbers[1]) - float64(next.Numbers[0]*v.Numbers[1])
		outline = append(outline, geom.Vec{X: v.Numbers[0], Y: v.Numbers[1], Z: base})
	}
	if area < 0 {
		outline = outline.Reverse()
	}
	parts, ok := geom.ConvexPieces(outline, geom.Vec{Z: 1})
	if !ok {
		return flat("its outline has no area or crosses itself")
	}
	var list []body
	for _, low := range parts {
		high := make(geom.Polygon, len(low))
		for i, v := range low {
			high[i] = v.With(2, base+height)
		}
		piece := body{faces: []geom.Polygon{high, low.Reverse()}}
		for i := range low {
			j := (i + 1) % len(low)
			piece.faces = append(piece.faces, geom.Polygon{low[i], low[j], high[j], high[i]})
		}
		list = append(list, piece)
	}
	return list
}

// extrude sweeps a section along a path. The section stays upright; where the path bends it stands
// in the middle of the two directions, so that the pieces meet. A path that ends where it began is
// closed.
func (b *builder) extrude(r *Record, flat func(string) []body) []body {
	section := r.Pair("section")
	var outline [][2]float64
	if section != nil {
		for i := 0; i < len(section.Numbers); i += 2 {
			outline = append(outline, [2]float64{section.Numbers[i], section.Numbers[i+1]})
		}
	} else {
		w, h := b.within(r, "width", 0, 0.01, 1e4), b.within(r, "height", 0, 0.01, 1e4)
		if r.Pair("width") == nil || r.Pair("height") == nil {
			b.find(finding.MapSyntax, r.Place,
				"an extrusion wants width= and height=, or section=").Do = "For example: " + shapes["extrude"].example
			return nil
		}
		outline = [][2]float64{{-w / 2, 0}, {w / 2, 0}, {w / 2, h}, {-w / 2, h}}
	}
	var path []geom.Vec
	for _, v := range r.Values[2:] {
		path = append(path, vec(v))
	}
	n := len(path) - 1
	closed := n > 2 && path[0] == path[n]
	var way []geom.Vec // level direction of each piece
	for i := range n {
		d, ok := geom.Vec{X: path[i+1].X - path[i].X, Y: path[i+1].Y - path[i].Y}.Unit()
		if !ok {
			return flat("two points of its path lie above one another")
		}
		way = append(way, d)
	}
	ring := func(i int) []geom.Vec { // the section at a point of the path
		before, after := way[max(i-1, 0)], way[min(i, n-1)]
		if closed && (i == 0 || i == n) {
			before, after = way[n-1], way[0]
		}
		middle, ok := before.Add(after).Unit()
		if !ok || middle.Dot(after) < 0.2 {
			return nil
		}
		right := geom.Vec{X: middle.Y, Y: -middle.X}.Scale(1 / middle.Dot(after))
		var points []geom.Vec
		for _, p := range outline {
			points = append(points, path[i].Add(right.Scale(p[0])).Add(geom.Vec{Z: p[1]}))
		}
		return points
	}
	var list []body
	for i := range n {
		from, to := ring(i), ring(i+1)
		if from == nil || to == nil {
			b.find(finding.SolidFlat, r.Place, "the path of solid %q turns back on itself at a point",
				r.Name()).Do = "Bend it over several points."
			return nil
		}
		faces, err := geom.Hull(append(from, to...))
		if err != nil {
			return flat(err.Error())
		}
		list = append(list, body{faces: faces})
	}
	return list
}
