package mapfile

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
)

// Change is one difference between two maps.
type Change struct {
	Kind string `json:"kind"` // added, removed or changed
	Of   string `json:"of"`   // what: map, sky, surface, material, terrain, prop, grid, tile, light, spawn and so on
	Name string `json:"name,omitempty"`
	Text string `json:"text"`
}

// Diff says in words what changed from one map to another, in a fixed order; empty when they are the same.
func Diff(from, to *Map) []Change {
	d := &differ{}
	d.value("map", "title", from.Meta.Title, to.Meta.Title)
	d.value("map", "name", from.Meta.Name, to.Meta.Name)
	d.value("map", "players", fmt.Sprintf("%d to %d", from.Meta.Players[0], from.Meta.Players[1]),
		fmt.Sprintf("%d to %d", to.Meta.Players[0], to.Meta.Players[1]))
	d.value("map", "modes", strings.Join(from.Meta.Modes, ", "), strings.Join(to.Meta.Modes, ", "))
	d.value("map", "purpose", word(from.Meta.Menu, "menu", "play"), word(to.Meta.Menu, "menu", "play"))
	d.value("map", "sealed", word(from.Meta.Sealed, "yes", "no"), word(to.Meta.Sealed, "yes", "no"))
	d.value("map", "sky", sky(from.Meta.Sky), sky(to.Meta.Sky))
	d.materials(from, to)
	d.surface(from, to)
	each(d, "terrain", from.Terrains, to.Terrains, func(t Terrain) string { return t.Name }, terrainText)
	each(d, "prop", from.Props, to.Props, func(p Prop) string { return p.Name }, func(p Prop) string {
		return fmt.Sprintf("at %s", numbers(p.Rows[0][3], p.Rows[1][3], p.Rows[2][3])) + word(p.Rows == turned(p), "",
			fmt.Sprintf(", placed %v", p.Rows))
	})
	d.objects(from, to)
	d.tiles(from, to)
	return d.list
}

// turned is a prop that is only moved.
func turned(p Prop) [3][4]float32 {
	return [3][4]float32{{1, 0, 0, p.Rows[0][3]}, {0, 1, 0, p.Rows[1][3]}, {0, 0, 1, p.Rows[2][3]}}
}

type differ struct{ list []Change }

func (d *differ) add(kind, of, name, format string, args ...any) {
	d.list = append(d.list, Change{kind, of, name, fmt.Sprintf(format, args...)})
}

func (d *differ) value(of, name, from, to string) {
	if from != to {
		d.add("changed", of, name, "%s: %s, was %s", name, orNothing(to), orNothing(from))
	}
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func word(b bool, yes, no string) string {
	if b {
		return yes
	}
	return no
}

func sky(s *Sky) string {
	if s == nil {
		return ""
	}
	return fmt.Sprintf("%s with the sun at %g,%g in #%06x", s.Name, s.Elevation, s.Azimuth, s.Colour)
}

func numbers(v ...float32) string {
	var parts []string
	for _, f := range v {
		parts = append(parts, fmt.Sprintf("%g", math.Round(float64(f)*1000)/1000))
	}
	return strings.Join(parts, ",")
}

// count says how a number changed.
func (d *differ) count(of string, from, to int) {
	if from != to {
		d.add("changed", of, "", "%s: %d, were %d (%+d)", of, to, from, to-from)
	}
}

func (d *differ) materials(from, to *Map) {
	area := func(m *Map) map[string]float64 {
		list := map[string]float64{}
		for _, f := range m.Faces {
			list[f.Material] += m.area(f)
		}
		return list
	}
	old, now := area(from), area(to)
	for _, name := range slices.Sorted(maps.Keys(now)) {
		was, had := old[name]
		switch {
		case !had:
			d.add("added", "material", name, "material %s on %.1f m²", name, now[name])
		case math.Abs(now[name]-was) > 0.05:
			d.add("changed", "material", name, "material %s on %.1f m², was %.1f", name, now[name], was)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(old)) {
		if _, has := now[name]; !has {
			d.add("removed", "material", name, "material %s, which was on %.1f m²", name, old[name])
		}
	}
}

// area is that of a face in square metres.
func (m *Map) area(f Face) float64 {
	sum := 0.0
	for i := f.FirstIndex; i+2 < f.FirstIndex+f.IndexNumber; i += 3 {
		a, b, c := m.Vertices[m.Indices[i]].Position, m.Vertices[m.Indices[i+1]].Position,
			m.Vertices[m.Indices[i+2]].Position
		var u, v [3]float64
		for k := range 3 {
			u[k], v[k] = float64(b[k]-a[k]), float64(c[k]-a[k])
		}
		x, y, z := float64(u[1]*v[2])-float64(u[2]*v[1]), float64(u[2]*v[0])-float64(u[0]*v[2]),
			float64(u[0]*v[1])-float64(u[1]*v[0])
		sum += float64(math.Sqrt(float64(x*x)+float64(y*y)+float64(z*z)) / 2)
	}
	return sum
}

func (d *differ) surface(from, to *Map) {
	solids := func(m *Map) (n int) {
		for _, b := range m.Bodies {
			if !b.Model {
				n++
			}
		}
		return n
	}
	d.count("solids", solids(from), solids(to))
	old := map[string]int{}
	for _, f := range from.Faces {
		old[from.faceKey(f)]++
	}
	fresh, gone := 0, len(from.Faces)
	for _, f := range to.Faces {
		if key := to.faceKey(f); old[key] > 0 {
			old[key]--
			gone--
		} else {
			fresh++
		}
	}
	if fresh+gone > 0 {
		d.add("changed", "surface", "", "faces: %d, were %d; %d are new or look otherwise, %d are gone", len(to.Faces),
			len(from.Faces), fresh, gone)
	}
}

// faceKey is what a face is, wherever it stands in the file.
func (m *Map) faceKey(f Face) string {
	b := f32s(append([]byte(f.Material), 0), f.Luxels)
	for _, v := range m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
		b = f32s(b, v.Position[0], v.Position[1], v.Position[2], v.Normal[0], v.Normal[1], v.Normal[2], v.UV[0],
			v.UV[1])
	}
	return string(b)
}

func terrainText(t Terrain) string {
	sum := uint64(0)
	for i, h := range t.Heights {
		sum = sum*31 + uint64(h)*uint64(i+1)
	}
	s := fmt.Sprintf("%d x %d heights from %s to %s, %s", t.Columns, t.Rows, numbers(t.Min[:]...), numbers(t.Max[:]...),
		t.Material)
	for _, l := range t.Layers {
		for _, w := range l.Weights {
			sum = sum*31 + uint64(w)
		}
		s += " and " + l.Material
	}
	return fmt.Sprintf("%s (content %08x)", s, uint32(sum^sum>>32))
}

// each compares two lists of things by name; those of one name are compared in their order.
func each[T any](d *differ, of string, from, to []T, name, text func(T) string) {
	index := func(list []T) (map[string][]T, []string) {
		by, order := map[string][]T{}, []string{}
		for _, x := range list {
			n := name(x)
			if by[n] == nil {
				order = append(order, n)
			}
			by[n] = append(by[n], x)
		}
		return by, order
	}
	old, oldOrder := index(from)
	now, nowOrder := index(to)
	for _, n := range nowOrder {
		for i, x := range now[n] {
			label := strings.TrimSpace(of + " " + n)
			if i >= len(old[n]) {
				d.add("added", of, n, "%s %s", label, text(x))
			} else if a, b := text(old[n][i]), text(x); a != b {
				d.add("changed", of, n, "%s %s, was %s", label, b, a)
			}
		}
	}
	for _, n := range oldOrder {
		for i := len(now[n]); i < len(old[n]); i++ {
			d.add("removed", of, n, "%s %s", strings.TrimSpace(of+" "+n), text(old[n][i]))
		}
	}
}

func (d *differ) objects(from, to *Map) {
	kinds := map[string]bool{}
	by := func(m *Map) map[string][]Object {
		list := map[string][]Object{}
		for _, o := range m.Objects {
			list[o.Kind] = append(list[o.Kind], o)
			kinds[o.Kind] = true
		}
		return list
	}
	old, now := by(from), by(to)
	for _, kind := range slices.Sorted(maps.Keys(kinds)) {
		each(d, strings.TrimPrefix(kind, "item:"), old[kind], now[kind], func(o Object) string { return o.Name },
			Object.String)
	}
}

// String says where an object is and what it is like.
func (o Object) String() string {
	s := "at " + numbers(o.A[:]...)
	add := func(format string, args ...any) { s += " " + fmt.Sprintf(format, args...) }
	if o.Detail != "" {
		add("%s", o.Detail)
	}
	if o.B != [3]float32{} {
		add("to %s", numbers(o.B[:]...))
	}
	if o.Angle != 0 {
		name := map[string]string{"light": "cone", "camera": "fov"}[o.Kind]
		if name == "" {
			name = "facing"
		}
		add("%s=%s", name, numbers(o.Angle))
	}
	if o.Value != 0 {
		add("%s=%s", map[string]string{"light": "power", "sound": "volume", "probe": "reach"}[o.Kind], numbers(o.Value))
	}
	if o.Radius != 0 {
		add("radius=%s", numbers(o.Radius))
	}
	if o.Kind == "light" {
		add("colour=#%06x", o.Colour)
	}
	if o.Flags&1 != 0 {
		add("loop=yes")
	}
	for _, p := range o.Pairs {
		add("%s=%s", p[0], p[1])
	}
	return s
}

func (d *differ) tiles(from, to *Map) {
	each(d, "tile", from.Legend, to.Legend, func(t Tile) string { return string(t.Symbol) }, func(t Tile) string {
		return orNothing(t.Material) + word(t.Solid, ", solid", "")
	})
	old := map[string]Grid{}
	for _, g := range from.Grids {
		old[g.Name] = g
	}
	for _, g := range to.Grids {
		was, had := old[g.Name]
		delete(old, g.Name)
		switch {
		case !had:
			d.add("added", "grid", g.Name, "grid %s of %d x %d cells on level %d", g.Name, g.Width, g.Height, g.Level)
		case was.Width != g.Width || was.Height != g.Height || was.Level != g.Level:
			d.add("changed", "grid", g.Name, "grid %s of %d x %d cells on level %d, was %d x %d on %d", g.Name, g.Width,
				g.Height, g.Level, was.Width, was.Height, was.Level)
		default:
			n, first := 0, -1
			for i := range g.Cells {
				if from.Legend[was.Cells[i]] != to.Legend[g.Cells[i]] {
					if n++; first < 0 {
						first = i
					}
				}
			}
			if n > 0 {
				d.add("changed", "grid", g.Name, "grid %s: %d cells, the first at %d,%d", g.Name, n,
					uint32(first)%g.Width, uint32(first)/g.Width)
			}
		}
	}
	for _, g := range from.Grids {
		if _, gone := old[g.Name]; gone {
			d.add("removed", "grid", g.Name, "grid %s of %d x %d cells on level %d", g.Name, g.Width, g.Height, g.Level)
		}
	}
}
