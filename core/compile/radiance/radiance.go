package radiance

import (
	"cmp"
	"slices"

	"vornix/core/format/bvh"
	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
)

// kind is what a triangle is part of.
type kind uint8

const (
	face kind = iota
	terrain
	prop
)

// part says what a triangle is part of.
type part struct {
	vertex  [3]uint32 // of the map's vertices; of a terrain: its heights
	owner   uint32    // which face, terrain or prop
	offset  int32     // of a prop: what to take from vertex to find its light
	paint   int32     // which of the paints
	kind    kind
	flipped bool // mirrored: its front is where its corners run clockwise
}

// Scene is a map as light meets it. It can be used from any number of goroutines, as long as nobody changes Lit.
type Scene struct {
	Map *mapfile.Map
	// Lit is the light that lies on it; nil: it is dark.
	Lit *Lit

	solid, clear *bvh.Tree // what stops light, and what may let it through
	parts        [2][]part // by tree
	triangles    [2][]bvh.Triangle
	paints       []*Painted
	materials    []string  // whose paints they are
	layers       [][]int32 // by terrain and layer: which of the paints
	dome         bvh.Vec
	horizon      bvh.Vec
	picture      *Picture
	coarse       *surround // instead of picture, for those who only gather light
	glows        bool
	emitters     []Emitter
	emits        [2][]int32 // by tree and triangle: its number among the emitters, counted from 1; nil where none does
}

// Emitter is a triangle of a face or a prop that gives off light.
type Emitter struct {
	Corners bvh.Triangle
	Area    float32
	Both    bool // from its back too

	paint int32
	uv    [3][2]float32
}

// Emitters are the triangles that give off light, but for those of terrains.
func (s *Scene) Emitters() []Emitter { return s.emitters }

// Sends is the light that an emitter gives off at corner 0 + u·(corner 1 - corner 0) + v·(corner 2 - corner 0).
func (s *Scene) Sends(e *Emitter, u, v float32) bvh.Vec {
	w, look := 1-u-v, s.paints[e.paint]
	tu, tv := float32(w*e.uv[0][0])+float32(u*e.uv[1][0])+float32(v*e.uv[2][0]),
		float32(w*e.uv[0][1])+float32(u*e.uv[1][1])+float32(v*e.uv[2][1])
	if look.seeThrough == material.SeeThroughCutOut && look.at(tu, tv)[3] < 0.5 {
		return bvh.Vec{} // there is a hole
	}
	return look.sends(tu, tv)
}

// Even says whether an emitter gives off the same light everywhere.
func (s *Scene) Even(e *Emitter) bool {
	look := s.paints[e.paint]
	return look.even && look.seeThrough != material.SeeThroughCutOut
}

// Brightest is the most light that any place of an emitter's material gives off.
func (s *Scene) Brightest(e *Emitter) float32 { return s.paints[e.paint].brightest }

// Lit is light on surfaces; 1 is white in the light of white on a screen.
type Lit struct {
	Width    int
	Pages    [][]bvh.Vec // of the lightmap, luxels row by row
	Props    [][]bvh.Vec // by prop and vertex
	Terrains [][]bvh.Vec // by terrain and height
}

// New makes a map ready to be asked. looks says how a material looks; nil: all are plain. sky is
// the picture all around, or nil for the dome of the map's sky.
func New(m *mapfile.Map, looks func(material string) *Painted, sky *Picture) *Scene {
	s := &Scene{Map: m, picture: sky}
	if k := m.Meta.Sky; k != nil {
		s.dome, s.horizon = Linear(k.Dome).Scale(float32(k.Glow)), Linear(k.Horizon).Scale(float32(k.Glow))
	}
	numbers := map[string]int32{}
	number := func(material string) int32 {
		n, seen := numbers[material]
		if !seen {
			n = int32(len(s.paints))
			numbers[material] = n
			p := Paint(Appearance{}, 1)
			if looks != nil {
				p = looks(material)
			}
			s.paints, s.materials = append(s.paints, p), append(s.materials, material)
			s.glows = s.glows || p.glow != nil
		}
		return n
	}
	for i, f := range m.Faces {
		paint := number(f.Material)
		for k := f.FirstIndex; k+2 < f.FirstIndex+f.IndexNumber; k += 3 {
			s.add(part{vertex: [3]uint32(m.Indices[k : k+3]), owner: uint32(i), paint: paint, kind: face},
				func(v uint32) bvh.Vec { return m.Vertices[v].Position })
		}
	}
	for i := range m.Terrains {
		t := &m.Terrains[i]
		paint := number(t.Material)
		var layers []int32
		for _, l := range t.Layers {
			layers = append(layers, number(l.Material))
		}
		s.layers = append(s.layers, layers)
		for row := range t.Rows - 1 {
			for column := range t.Columns - 1 {
				a := row*t.Columns + column
				for _, v := range [2][3]uint32{{a, a + t.Columns, a + 1}, {a + 1, a + t.Columns, a + t.Columns + 1}} {
					s.add(part{vertex: v, owner: uint32(i), paint: paint, kind: terrain},
						func(v uint32) bvh.Vec { return t.Point(v%t.Columns, v/t.Columns) })
				}
			}
		}
	}
	for i := range m.Props {
		p := &m.Props[i]
		first := uint32(0)
		for _, mesh := range m.Models[p.Model].Meshes {
			paint := number(mesh.Material)
			for k := mesh.FirstIndex; k+2 < mesh.FirstIndex+mesh.IndexNumber; k += 3 {
				s.add(part{vertex: [3]uint32(m.Indices[k : k+3]), owner: uint32(i),
					offset: int32(mesh.FirstVertex) - int32(first), paint: paint, kind: prop, flipped: mirrors(p)},
					func(v uint32) bvh.Vec { return Place(p, m.Vertices[v].Position) })
			}
			first += mesh.Vertices
		}
	}
	s.solid, s.clear = bvh.New(s.triangles[0]), bvh.New(s.triangles[1])
	s.findEmitters()
	return s
}

func (s *Scene) findEmitters() {
	for which := range s.parts {
		for i := range s.parts[which] {
			p, t := &s.parts[which][i], s.triangles[which][i]
			look := s.paints[p.paint]
			cross := t[1].Sub(t[0]).Cross(t[2].Sub(t[0]))
			area := cross.Length() / 2
			if p.kind == terrain || look.glow == nil || look.seeThrough == material.SeeThroughSoft || !(area > 1e-8) {
				continue
			}
			e := Emitter{Corners: t, Area: area, Both: look.doubleSided, paint: p.paint}
			for k, v := range p.vertex {
				e.uv[k] = s.Map.Vertices[v].UV
			}
			if p.flipped { // counter-clockwise as seen from the front, like all others
				e.Corners[1], e.Corners[2] = e.Corners[2], e.Corners[1]
				e.uv[1], e.uv[2] = e.uv[2], e.uv[1]
			}
			if s.emits[which] == nil {
				s.emits[which] = make([]int32, len(s.parts[which]))
			}
			s.emitters = append(s.emitters, e)
			s.emits[which][i] = int32(len(s.emitters))
		}
	}
}

func (s *Scene) add(p part, at func(vertex uint32) bvh.Vec) {
	which := 0
	if k := s.paints[p.paint].seeThrough; p.kind != terrain &&
		(k == material.SeeThroughCutOut || k == material.SeeThroughSoft) {
		which = 1
	}
	s.parts[which] = append(s.parts[which], p)
	s.triangles[which] = append(s.triangles[which], bvh.Triangle{at(p.vertex[0]), at(p.vertex[1]), at(p.vertex[2])})
}

// Place is where a point of a prop's model lies in the map.
func Place(p *mapfile.Prop, v bvh.Vec) (out bvh.Vec) {
	for k, row := range p.Rows {
		out[k] = float32(row[0]*v[0]) + float32(row[1]*v[1]) + float32(row[2]*v[2]) + row[3]
	}
	return out
}

// PlaceNormal is where a normal of a prop's model points in the map.
func PlaceNormal(p *mapfile.Prop, n bvh.Vec) bvh.Vec {
	a, b := n.Frame()
	turn := func(v bvh.Vec) (out bvh.Vec) {
		for k, row := range p.Rows {
			out[k] = float32(row[0]*v[0]) + float32(row[1]*v[1]) + float32(row[2]*v[2])
		}
		return out
	}
	out := turn(a).Cross(turn(b))
	if mirrors(p) {
		out = out.Scale(-1)
	}
	return out.Unit()
}

func mirrors(p *mapfile.Prop) bool {
	r := &p.Rows
	x, y, z := bvh.Vec(r[0][:3]), bvh.Vec(r[1][:3]), bvh.Vec(r[2][:3])
	return x.Cross(y).Dot(z) < 0
}

// Triangles is how many there are.
func (s *Scene) Triangles() int { return len(s.parts[0]) + len(s.parts[1]) }

// Glows says whether any surface gives off light.
func (s *Scene) Glows() bool { return s.glows }

// Box is the box around all triangles; ok is false when there are none.
func (s *Scene) Box() (box geom.Box, ok bool) {
	for which, t := range []*bvh.Tree{s.solid, s.clear} {
		if len(s.parts[which]) == 0 {
			continue
		}
		low, high := t.Box()
		b := geom.Box{Min: wide(low), Max: wide(high)}
		if ok {
			b = b.Union(box)
		}
		box, ok = b, true
	}
	return box, ok
}

func wide(v bvh.Vec) geom.Vec { return geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])} }

// far is a limit that no map reaches, in metres.
const far = 1e7

// Blocked says whether anything opaque lies on the way.
func (s *Scene) Blocked(from, way bvh.Vec) bool { return s.solid.Blocked(from, way, 1) }

// Passes is the part of light, by colour, that comes along a way of any length.
func (s *Scene) Passes(from, way bvh.Vec) bvh.Vec {
	if s.solid.Blocked(from, way, 1) {
		return bvh.Vec{}
	}
	through := bvh.Vec{1, 1, 1}
	if len(s.parts[1]) > 0 {
		s.clear.Through(from, way, 1, func(h bvh.Hit) bool {
			through = through.Times(s.lets(h))
			return through != bvh.Vec{}
		})
	}
	return through
}

// lets is the part of light that a see-through triangle lets through: all or nothing of a cut-out;
// of a soft one what its alpha leaves, in its colour, the more so the denser it is.
func (s *Scene) lets(h bvh.Hit) bvh.Vec {
	p := &s.parts[1][h.Triangle]
	look := s.paints[p.paint]
	u, v := s.uv(p, h)
	c := look.at(u, v)
	if look.seeThrough == material.SeeThroughCutOut {
		if c[3] >= 0.5 {
			return bvh.Vec{}
		}
		return bvh.Vec{1, 1, 1}
	}
	left, tint := 1-c[3], min(2*c[3], 1)
	out := bvh.Vec{}
	for k := range out {
		out[k] = float32(left * (1 - float32(tint*(1-c[k]))))
	}
	return out
}

// uv is where a hit lies on a material, in repeats.
func (s *Scene) uv(p *part, h bvh.Hit) (u, v float32) {
	w := 1 - h.U - h.V
	a, b, c := &s.Map.Vertices[p.vertex[0]].UV, &s.Map.Vertices[p.vertex[1]].UV, &s.Map.Vertices[p.vertex[2]].UV
	return float32(w*a[0]) + float32(h.U*b[0]) + float32(h.V*c[0]),
		float32(w*a[1]) + float32(h.U*b[1]) + float32(h.V*c[1])
}

// Seen is what a ray comes to.
type Seen struct {
	Light    bvh.Vec // that comes along it
	Others   bvh.Vec // what of it is not given off by the surface itself
	Distance float32 // in lengths of the ray's direction; far away where it meets nothing
	Hit      bool
	Behind   bool    // it met the back of a surface, as from within a solid
	Colour   bvh.Vec // of the surface
	On       bvh.Vec // the light that lies on it
	Emitter  int     // the surface's number among the emitters, counted from 1; 0: it is none
}

// See follows a ray to the first surface and says what light comes along it. What is soft on the
// way shows as far as it is dense, and colours what lies behind it.
func (s *Scene) See(from, dir bvh.Vec) Seen {
	h, hit := s.solid.First(from, dir, far, nil)
	which, limit := 0, float32(far)
	if hit {
		limit = h.T
	}
	through, veil := bvh.Vec{1, 1, 1}, bvh.Vec{}
	if len(s.parts[1]) > 0 {
		if c, ok := s.clear.First(from, dir, limit, func(h bvh.Hit) bool { return s.lets(h) != bvh.Vec{} }); ok {
			h, hit, which, limit = c, true, 1, c.T
		}
		through, veil = s.veil(from, dir, limit)
	}
	if !hit {
		light := s.Sky(dir).Times(through).Add(veil)
		return Seen{Light: light, Others: light, Distance: far}
	}
	p := &s.parts[which][h.Triangle]
	seen := Seen{Distance: h.T, Hit: true, Light: veil, Others: veil}
	seen.Behind = s.behind(which, h, dir)
	if seen.Behind && !s.paints[p.paint].doubleSided {
		return seen
	}
	var glow bvh.Vec
	seen.Colour, glow = s.surface(p, h, from, dir)
	seen.On = s.on(p, h)
	if s.paints[p.paint].unlit {
		seen.On = bvh.Vec{1, 1, 1}
	}
	seen.Others = seen.Colour.Times(seen.On).Times(through).Add(veil)
	seen.Light = seen.Others.Add(glow.Times(through))
	if s.emits[which] != nil {
		seen.Emitter = int(s.emits[which][h.Triangle])
	}
	return seen
}

// behind says whether a ray meets the back of a triangle.
func (s *Scene) behind(which int, h bvh.Hit, dir bvh.Vec) bool {
	t := &s.triangles[which][h.Triangle]
	return (t[1].Sub(t[0]).Cross(t[2].Sub(t[0])).Dot(dir) > 0) != s.parts[which][h.Triangle].flipped
}

// veil is what all soft surfaces before limit let through, and the light that comes from themselves.
func (s *Scene) veil(from, dir bvh.Vec, limit float32) (through, veil bvh.Vec) {
	through = bvh.Vec{1, 1, 1}
	var first [8]bvh.Hit
	hits := first[:0]
	s.clear.Through(from, dir, limit, func(h bvh.Hit) bool {
		if s.paints[s.parts[1][h.Triangle].paint].seeThrough == material.SeeThroughSoft {
			hits = append(hits, h)
		}
		return true
	})
	slices.SortFunc(hits, func(a, b bvh.Hit) int { return cmp.Or(cmp.Compare(a.T, b.T), a.Triangle-b.Triangle) })
	for _, h := range hits { // the nearest first
		p := &s.parts[1][h.Triangle]
		look := s.paints[p.paint]
		if !s.behind(1, h, dir) || look.doubleSided {
			u, v := s.uv(p, h)
			c := look.at(u, v)
			on := s.on(p, h)
			if look.unlit {
				on = bvh.Vec{1, 1, 1}
			}
			own := on.Times(bvh.Vec(c[:3])).Scale(c[3]).Add(look.sends(u, v))
			veil = veil.Add(through.Times(own))
		}
		through = through.Times(s.lets(h))
	}
	return through, veil
}

// surface is the colour of a surface where a ray meets it, and the light that it gives off.
func (s *Scene) surface(p *part, h bvh.Hit, from, dir bvh.Vec) (colour, glow bvh.Vec) {
	look := s.paints[p.paint]
	if p.kind != terrain {
		u, v := s.uv(p, h)
		return look.Colour(u, v), look.sends(u, v)
	}
	t := &s.Map.Terrains[p.owner]
	at := from.Add(dir.Scale(h.T))
	of := func(paint int32, repeat float32) bvh.Vec {
		return s.paints[paint].Colour(at[0]/repeat, -at[1]/repeat)
	}
	colour = of(p.paint, t.Repeat)
	for i, l := range t.Layers {
		w := 1 - h.U - h.V
		part := (float32(w*float32(l.Weights[p.vertex[0]])) + float32(h.U*float32(l.Weights[p.vertex[1]])) +
			float32(h.V*float32(l.Weights[p.vertex[2]]))) / 255
		if part > 0 {
			colour = colour.Scale(1 - part).Add(of(s.layers[p.owner][i], l.Repeat).Scale(part))
		}
	}
	return colour, look.sends(at[0]/t.Repeat, -at[1]/t.Repeat)
}

// on is the light that lies where a ray meets a triangle.
func (s *Scene) on(p *part, h bvh.Hit) bvh.Vec {
	l := s.Lit
	if l == nil {
		return bvh.Vec{}
	}
	mix := func(list []bvh.Vec, a, b, c uint32) bvh.Vec {
		if list == nil {
			return bvh.Vec{}
		}
		return list[a].Scale(1 - h.U - h.V).Add(list[b].Scale(h.U)).Add(list[c].Scale(h.V))
	}
	switch p.kind {
	case terrain:
		return mix(l.Terrains[p.owner], p.vertex[0], p.vertex[1], p.vertex[2])
	case prop:
		o := uint32(p.offset)
		return mix(l.Props[p.owner], p.vertex[0]-o, p.vertex[1]-o, p.vertex[2]-o)
	}
	page := s.Map.Faces[p.owner].Page
	if page == 0 || l.Width == 0 {
		return bvh.Vec{}
	}
	w := 1 - h.U - h.V
	a, b, c := &s.Map.Vertices[p.vertex[0]].Luxel, &s.Map.Vertices[p.vertex[1]].Luxel,
		&s.Map.Vertices[p.vertex[2]].Luxel
	x := float32(w*a[0]) + float32(h.U*b[0]) + float32(h.V*c[0])
	y := float32(w*a[1]) + float32(h.U*b[1]) + float32(h.V*c[1])
	return between(l.Pages[page-1], l.Width, x, y)
}

// between is the light between luxels, mixed of the four around.
func between(page []bvh.Vec, width int, x, y float32) bvh.Vec {
	i, j := int(x), int(y)
	fx, fy := x-float32(i), y-float32(j)
	at := j*width + i
	if at < 0 || at+width+1 >= len(page) {
		return page[min(max(at, 0), len(page)-1)]
	}
	top := page[at].Scale(1 - fx).Add(page[at+1].Scale(fx))
	low := page[at+width].Scale(1 - fx).Add(page[at+width+1].Scale(fx))
	return top.Scale(1 - fy).Add(low.Scale(fy))
}

// LitOf is the light of a compiled map; nil when it has none.
func LitOf(m *mapfile.Map) *Lit {
	if m.Lightmap == nil && m.TerrainLight == nil && m.PropLight == nil {
		return nil
	}
	l := &Lit{}
	colours := func(list []mapfile.Light) []bvh.Vec {
		if list == nil {
			return nil
		}
		out := make([]bvh.Vec, len(list))
		for i, v := range list {
			out[i] = v.Colours()
		}
		return out
	}
	if m.Lightmap != nil {
		l.Width = int(m.Lightmap.Width)
		for _, p := range m.Lightmap.Pages {
			l.Pages = append(l.Pages, colours(p.Light))
		}
	}
	l.Props, l.Terrains = make([][]bvh.Vec, len(m.Props)), make([][]bvh.Vec, len(m.Terrains))
	for i := range m.PropLight {
		l.Props[i] = colours(m.PropLight[i])
	}
	for i := range m.TerrainLight {
		l.Terrains[i] = colours(m.TerrainLight[i])
	}
	return l
}
