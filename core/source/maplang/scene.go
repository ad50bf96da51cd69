package maplang

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/format/material"
	"vornix/core/source/scene"
)

// maxCells bounds a grid's size before it is believed.
const maxCells = 1 << 24

// readText parses a map source and gives its meaning. The map is nil when there are findings of
// severity error. name is the file's path; what the source names is found from its folder.
func readText(name string, data []byte, o Options) (*scene.Map, []finding.Finding) {
	b := newBuilder(o)
	root := &library{known: &scope{names: map[string]variable{}}, prefabs: map[string]*prefab{}}
	b.files[name] = root
	b.load(name, data, root, []string{name})
	start := context{known: root.known, at: geom.Identity, in: root}
	for _, l := range root.lines {
		start.file = l.file
		b.place(l.r, start)
	}
	return b.end(name)
}

func newBuilder(o Options) *builder {
	return &builder{o: o, m: &scene.Map{Keys: map[string]fault.Place{}}, files: map[string]*library{},
		texts: map[string]*File{}, said: map[string]bool{},
		names: map[string]fault.Place{}, layers: map[string]bool{}, numbers: map[string]int{},
		broken: map[string]bool{}, colours: map[scene.Colour]rune{}}
}

// end looks at the whole.
func (b *builder) end(name string) (*scene.Map, []finding.Finding) {
	m := b.m
	lacking := func(keyword string) bool { // a line of that keyword that was wrong
		for key := range b.broken {
			if strings.HasPrefix(key, keyword+" ") {
				return true
			}
		}
		return false
	}
	if m.Name == "" && !lacking("map") {
		b.find(finding.MapSyntax, fault.Place{File: name, Line: 1}, "there is no map line: expected, for example: %s",
			grammar["map"].example)
	}
	for _, g := range b.grids {
		b.cellsOf(g)
	}
	if !lacking("legend") {
		b.symbols(m)
	}
	if !lacking("grid") {
		b.areas()
	}
	slices.Sort(m.Files)
	m.Layers = slices.Sorted(maps.Keys(b.layers))
	finding.Sort(b.findings)
	if finding.Count(b.findings, finding.Error) > 0 {
		return nil, b.findings
	}
	return m, b.findings
}

// record gives one placed record its meaning.
func (b *builder) record(r *Record, c context) {
	m := b.m
	b.unique(r, c)
	title := c.prefix + r.Name()
	at := func(key string) geom.Vec { return b.point(*r.Pair(key), c) }
	switch r.Keyword {
	case "map":
		b.mapLine(m, r)
	case "sky":
		b.sky(r, c, title)
	case "fog":
		m.Fog = &scene.Fog{Name: title, Range: b.within(r, "range", 0, 0.1, 1e6),
			Colour: b.colourOf(r, "colour", scene.Colour{R: 0xc8, G: 0xd4, B: 0xe0}),
			From:   b.within(r, "from", 0, 0, 1e6), Sky: b.within(r, "sky", 0, 0, 1), Place: r.Place}
	case "solid":
		b.solid(r, c)
	case "terrain":
		b.terrain(r, c)
	case "prop":
		m.Props = append(m.Props, b.prop(r, c))
	case "light":
		l := scene.Light{Name: title, Kind: r.Values[1].Text, At: b.point(r.Values[2], c),
			Cone: b.within(r, "cone", 45, 1, 179), Radius: b.within(r, "radius", 0, 0, 1000), Colour: b.colour(r),
			Power: r.Pair("power").Numbers[0], Place: r.Place}
		if r.Pair("look") != nil {
			l.Look, l.Aimed = at("look"), true
		}
		m.Lights = append(m.Lights, l)
	case "spawn":
		m.Spawns = append(m.Spawns,
			scene.Spawn{Name: title, At: at("at"), Facing: c.at.Heading(num(r, "facing", 0)), Team: str(r, "team"),
				Place: r.Place})
	case "volume":
		m.Volumes = append(m.Volumes,
			scene.Volume{Name: title, Box: b.box(r, c), Effect: str(r, "effect"), Enter: str(r, "enter"),
				Leave: str(r, "leave"), Place: r.Place})
	case "cut":
		m.Cuts = append(m.Cuts, scene.Cut{Name: title, Box: b.box(r, c), Place: r.Place})
	case "probe":
		m.Probes = append(m.Probes,
			scene.Probe{Name: title, At: at("at"), Reach: b.within(r, "reach", 0, 0.1, 1e5), Place: r.Place})
	case "camera":
		m.Cameras = append(m.Cameras, b.camera(r, c, title))
	case "item":
		m.Items = append(m.Items, b.item(r, c))
	case "sound":
		m.Sounds = append(m.Sounds,
			scene.Sound{Name: title, At: at("at"), File: b.ref(r.Pair("file")), Volume: b.within(r, "volume", 1, 0, 1),
				Loop: str(r, "loop") == "yes", Place: r.Place})
	case "grid":
		b.grid(r, c)
	case "area":
		a := scene.Area{Name: title, Enter: str(r, "enter"), Leave: str(r, "leave"), Level: int(num(r, "level", 0)),
			Pairs: free(r), Place: r.Place}
		for i := range 2 {
			p, q := r.Values[1].Numbers[i], r.Values[2].Numbers[i]
			a.From[i], a.To[i] = int(min(p, q)), int(max(p, q))
		}
		m.Areas = append(m.Areas, a)
	case "legend":
		m.Legend = append(m.Legend, b.legend(r))
	}
}

// camera reads a camera line. One that looks at nothing looks level to the north; over a grid it looks down anyway.
func (b *builder) camera(r *Record, c context, title string) scene.Camera {
	at := b.point(*r.Pair("at"), c)
	look := at.Add(c.at.Direction(geom.Vec{Y: 1}))
	if v := r.Pair("look"); v != nil {
		if look = b.point(*v, c); look == at {
			b.find(finding.MapSyntax, v.Place, "camera %q looks at its own place",
				r.Name()).Do = "Name a point before it with look=."
		}
	}
	return scene.Camera{Name: title, At: at, Look: look, FOV: b.within(r, "fov", 75, 1, 179),
		Exposure: b.within(r, "exposure", 0, -20, 20), Lens: b.within(r, "lens", 0, 0, 100),
		Focus: b.within(r, "focus", look.Sub(at).Length(), 0.01, 1e6), Place: r.Place}
}

// sky reads a sky line. Power and glow are such that white ground in the sun is as bright as white on a screen.
func (b *builder) sky(r *Record, c context, title string) {
	s := &scene.Sky{Name: title, Azimuth: r.Pair("sun").Numbers[1], Elevation: r.Pair("sun").Numbers[0],
		Colour: b.colour(r), Place: r.Place,
		Power: b.within(r, "power", 3, 0, 1000), Disc: b.within(r, "disc", 0.5, 0, 90),
		Dome: b.colourOf(r, "dome", scene.Colour{R: 0xa8, G: 0xc0, B: 0xe8}), Glow: b.within(r, "glow", 0.4, 0, 1000)}
	s.Horizon = b.colourOf(r, "horizon", s.Dome)
	if v := r.Pair("image"); v != nil {
		s.Image = b.panorama(v, c)
	}
	b.m.Sky = s
}

func (b *builder) mapLine(m *scene.Map, r *Record) {
	if m.Name != "" {
		b.find(finding.MapDuplicate, r.Place, "this is a second map line; the first is on line %d", m.Place.Line)
		return
	}
	m.Name, m.Title, m.Place = r.Name(), str(r, "title"), r.Place
	m.Menu, m.Sealed = str(r, "purpose") == "menu", str(r, "sealed") == "yes"
	m.Luxels = b.within(r, "luxels", 0, 0.05, 64)
	if v := r.Pair("players"); v != nil {
		m.Players = [2]int{int(v.Numbers[0]), int(v.Numbers[1])}
	}
	if v := r.Pair("modes"); v != nil {
		m.Modes = strings.Split(v.Text, ",")
	}
	for _, p := range r.Pairs {
		m.Keys[p.Key] = p.Place
	}
}

// unique holds names apart within each keyword. Items name their kind, legends their symbol, so only the latter counts.
func (b *builder) unique(r *Record, c context) {
	if r.Keyword == "item" || r.Keyword == "map" {
		return
	}
	key := r.Keyword + " " + c.prefix + r.Name()
	if first, ok := b.names[key]; ok {
		b.find(finding.MapDuplicate, r.Values[0].Place, "there is another %s on line %d", key, first.Line)
		return
	}
	b.names[key] = r.Place
}

// point is where a value's point lies in the map.
func (b *builder) point(v Value, c context) geom.Vec {
	p := c.at.Point(vec(v))
	if max(math.Abs(p.X), math.Abs(p.Y), math.Abs(p.Z)) > maxNumber {
		b.find(finding.MapHuge, v.Place, "the point lies beyond %.0f km, where coordinates lose their centimetres",
			float64(maxNumber/1000))
		return geom.Vec{}
	}
	return p
}

// within is a number that must lie between two others.
func (b *builder) within(r *Record, key string, otherwise, lowest, limit float64) float64 {
	v := num(r, key, otherwise)
	if p := r.Pair(key); p != nil && !(v >= lowest && v <= limit) {
		b.find(finding.MapSyntax, p.Place, "%s must be from %s to %s, and is %s", key, formatNumber(lowest),
			formatNumber(limit), formatNumber(v))
	}
	return v
}

func (b *builder) box(r *Record, c context) geom.Box {
	local := geom.NewBox(vec(r.Values[2]), vec(r.Values[3]))
	if local.Empty() {
		b.find(finding.MapSyntax, r.Values[3].Place,
			"the box of %s %q has no volume: its corners agree in a coordinate", r.Keyword, r.Name())
		return local
	}
	for _, row := range c.at.M {
		if zeros := btoi(row.X == 0) + btoi(row.Y == 0) + btoi(row.Z == 0); zeros < 2 {
			b.find(finding.MapSyntax, r.Place,
				"a %s is a box along the axes, and its group or prefab is turned by other than quarters", r.Keyword)
			return local
		}
	}
	return geom.NewBox(b.point(Value{Numbers: []float64{local.Min.X, local.Min.Y, local.Min.Z},
		Place: r.Values[2].Place}, c),
		b.point(Value{Numbers: []float64{local.Max.X, local.Max.Y, local.Max.Z}, Place: r.Values[3].Place}, c))
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// ref is an asset's name; one that no game finds is reported.
func (b *builder) ref(v *Value) scene.Ref {
	if v == nil {
		return scene.Ref{}
	}
	if k, why, meant := material.BadReference(v.Text); k != nil {
		b.find(k, v.Place, "%q %s", v.Text, why).Do = fmt.Sprintf("Write %s.", meant)
	}
	return scene.Ref{Name: v.Text, Place: v.Place}
}

func word1(v *Value) scene.Ref {
	if v == nil {
		return scene.Ref{}
	}
	return scene.Ref{Name: v.Text, Place: v.Place}
}

func (b *builder) colour(r *Record) scene.Colour {
	return b.colourOf(r, "colour", scene.Colour{R: 255, G: 255, B: 255})
}

func (b *builder) colourOf(r *Record, key string, otherwise scene.Colour) scene.Colour {
	if v := r.Pair(key); v != nil {
		return hexColour(v.Text)
	}
	return otherwise
}

// hexColour reads #rrggbb, which the parser has seen to be one.
func hexColour(s string) scene.Colour {
	n, _ := strconv.ParseUint(s[1:], 16, 32)
	return scene.Colour{R: uint8(n >> 16), G: uint8(n >> 8), B: uint8(n)}
}

func (b *builder) item(r *Record, c context) scene.Item {
	return scene.Item{Kind: r.Name(), At: b.point(*r.Pair("at"), c), Facing: c.at.Heading(num(r, "facing", 0)),
		Model:  b.ref(r.Pair("model")),
		Sprite: b.ref(r.Pair("sprite")), State: word1(r.Pair("state")), Direction: word1(r.Pair("direction")),
		Pairs: free(r), Place: r.Place}
}

func (b *builder) prop(r *Record, c context) scene.Prop {
	factor := b.within(r, "scale", 1, 1e-3, 1e3)
	p := scene.Prop{Name: c.prefix + r.Name(), Model: b.ref(r.Pair("model")), Solid: str(r, "solid") != "no",
		Place: r.Place}
	p.At = c.at.After(geom.Place(vec(*r.Pair("at")), num(r, "turn", 0), geom.Vec{X: factor, Y: factor, Z: factor}))
	b.point(*r.Pair("at"), c)
	for _, row := range p.At.M {
		if row.Length() > maxNumber {
			b.find(finding.MapHuge, r.Place, "prop %q is scaled by more than %.0f, with the groups that it stands in",
				r.Name(), float64(maxNumber))
			return p
		}
	}
	return p
}

func free(r *Record) []scene.Pair {
	var list []scene.Pair
	for _, p := range r.Pairs {
		if p.free {
			list = append(list, scene.Pair{Key: p.Key, Value: p.Value.Text, Place: p.Value.Place})
		}
	}
	return list
}

func vec(v Value) geom.Vec { return geom.Vec{X: v.Numbers[0], Y: v.Numbers[1], Z: v.Numbers[2]} }

func num(r *Record, key string, otherwise float64) float64 {
	if v := r.Pair(key); v != nil {
		return v.Numbers[0]
	}
	return otherwise
}

func str(r *Record, key string) string {
	if v := r.Pair(key); v != nil {
		return v.Text
	}
	return ""
}
