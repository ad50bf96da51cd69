package maplang

import (
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/format/gltf"
	"vornix/core/format/model"
	"vornix/core/source/scene"
)

// Read reads any map source: a glTF scene when the name says so, else the map language.
func Read(name string, data []byte, o Options) (*scene.Map, []finding.Finding) {
	if gltf.IsScene(name) {
		return readGLTF(name, data, o)
	}
	return readText(name, data, o)
}

// recordKey is the extra of a node that says what keyword it stands for, where the name doesn't.
const recordKey = "record"

// nodeKeywords are the keywords that nodes can stand for.
var nodeKeywords = []string{"map", "sky", "fog", "solid", "detail", "prop", "light", "spawn", "volume", "probe",
	"camera", "item", "sound"}

// meshKeywords are those that the name of a node with a mesh can say.
var meshKeywords = []string{"solid", "detail", "prop", "volume"}

// copied is the number that modelling programs put behind the name of a copy.
var copied = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\.([0-9]{3,})$`) })

// gltfReader turns nodes into records of the map language, so that they have the same settings, rules and findings.
type gltfReader struct {
	*builder
	source string
	names  map[string]int
}

func readGLTF(name string, data []byte, o Options) (*scene.Map, []finding.Finding) {
	b := newBuilder(o)
	s, err := gltf.Read(name, data, o.Open)
	if err != nil {
		return nil, []finding.Finding{finding.MapSyntax.At(fault.Place{File: name}, "the scene can't be read: %v",
			err).Doing("Export it again as GLB (glTF 2.0), without compression.")}
	}
	b.m.Files = append(b.m.Files, s.Files...)
	g := &gltfReader{builder: b, source: name, names: map[string]int{}}
	for _, n := range s.Nodes {
		g.node(n)
	}
	if b.m.Name == "" {
		g.record("map", []string{strings.TrimSuffix(path.Base(name), path.Ext(name))}, nil, s.Extras, "scene")
	}
	return b.end(name)
}

// keywordOf is what a node stands for and the rest of its name: "spawn blue_1", "Spawn.Blue 1" and
// "spawn_blue_1.002" are spawns. A node that says nothing is what it holds.
func keywordOf(n gltf.Node) (keyword, name string) {
	name = wordOf(copied().ReplaceAllString(n.Name, "_$1"))
	if k, ok := n.Extras[recordKey].(string); ok {
		return k, name
	}
	for _, k := range nodeKeywords {
		if len(n.Parts) > 0 && !slices.Contains(meshKeywords, k) {
			continue // a light_pole is a pole
		}
		if rest, ok := strings.CutPrefix(name, k); ok && (rest == "" || rest[0] == '_' || rest[0] == '-') {
			return k, strings.Trim(rest, "_-")
		}
	}
	switch {
	case n.Light != nil:
		return "light", name
	case n.Camera != nil:
		return "camera", name
	case len(n.Parts) > 0:
		return "", name
	}
	return "none", name
}

// wordOf makes a name one of the map language.
func wordOf(s string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(s) {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			b.WriteRune(r)
		} else {
			b.WriteByte('_')
		}
	}
	return strings.TrimLeft(b.String(), "-_")
}

func triple(v geom.Vec) string {
	return formatNumber(v.X) + "," + formatNumber(v.Y) + "," + formatNumber(v.Z)
}

// settled rounds a place to a hundredth of a millimetre, so that dust of 32-bit numbers doesn't show.
func settled(v geom.Vec) geom.Vec {
	r := func(f float64) float64 { return math.Round(f*1e5)/1e5 + 0 }
	return geom.Vec{X: r(v.X), Y: r(v.Y), Z: r(v.Z)}
}

func (g *gltfReader) node(n gltf.Node) {
	keyword, name := keywordOf(n)
	at := settled(n.At.Move)
	ahead, _ := n.At.Direction(geom.Vec{Y: 1}).Unit()
	target := triple(settled(at.Add(ahead.Scale(10))))
	own := maps.Clone(n.Extras)
	delete(own, recordKey)
	given := func(key, value string) {
		if _, ok := own[key]; !ok {
			own[key] = value
		}
	}
	given("at", triple(at))
	switch keyword {
	case "none":
		return
	case "", "solid", "detail", "prop":
		if len(n.Parts) > 0 {
			g.mesh(n, keyword, name)
			return
		}
		if keyword != "prop" {
			g.say(n.Name, "it is named as a %s and has no mesh", keyword)
			return
		}
		g.record(keyword, []string{g.fresh(keyword, name)}, nil, own, n.Name)
		if k := len(g.m.Props); k > 0 {
			g.m.Props[k-1].At = n.At // turned and scaled as the scene says
		}
		return
	case "item":
		kind := copied().ReplaceAllString(n.Name, "")
		if _, rest := keywordOf(gltf.Node{Name: kind}); rest != "" {
			name = rest
		}
		given("facing", formatNumber(n.At.Heading(0)))
	case "spawn":
		given("facing", formatNumber(n.At.Heading(0)))
	case "map", "sky", "fog":
		delete(own, "at")
	case "camera":
		given("look", target)
		if n.Camera != nil {
			given("fov", formatNumber(n.Camera.FOV))
		}
	case "light":
		delete(own, "at")
		g.light(n, name, at, target, own)
		return
	case "volume":
		delete(own, "at")
		box := volumeOf(n)
		g.record(keyword, []string{g.fresh(keyword, name), "box", triple(settled(box.Min)), triple(settled(box.Max))},
			nil, own, n.Name)
		return
	case "probe", "sound":
	default:
		g.say(n.Name, "its extra %q says %q, which is none of %s", recordKey, keyword, strings.Join(nodeKeywords, ", "))
		return
	}
	if keyword != "item" {
		name = g.fresh(keyword, name)
	}
	g.record(keyword, []string{name}, nil, own, n.Name)
}

// volumeOf is the box of a node: around its mesh, or two units wide about its place, as empties are drawn.
func volumeOf(n gltf.Node) geom.Box {
	points := []geom.Vec{n.At.Point(geom.Vec{X: -1, Y: -1, Z: -1})}
	if len(n.Parts) == 0 {
		for i := range 8 {
			points = append(points,
				n.At.Point(geom.Vec{X: float64(i&1*2 - 1), Y: float64(i>>1&1*2 - 1), Z: float64(i>>2&1*2 - 1)}))
		}
	} else {
		points = points[:0]
		for _, p := range n.Parts {
			for _, v := range p.Positions {
				points = append(points, n.At.Point(v))
			}
		}
	}
	return geom.Polygon(points).Box()
}

// fresh is a name that no other record of the keyword has.
func (g *gltfReader) fresh(keyword, name string) string {
	if name == "" {
		name = keyword
	}
	key := keyword + " " + name
	g.names[key]++
	if n := g.names[key]; n > 1 {
		return fmt.Sprintf("%s_%d", name, n)
	}
	return name
}

// candelaToWatts turns the brightness of a lamp into the power it would radiate over the sphere: 683 lumens are a watt.
const candelaToWatts = 4 * math.Pi / 683

func (g *gltfReader) light(n gltf.Node, name string, at geom.Vec, target string, own map[string]any) {
	kind := "point"
	if l := n.Light; l != nil {
		set := func(key, value string) {
			if _, ok := own[key]; !ok {
				own[key] = value
			}
		}
		kind = l.Kind
		power := l.Intensity * candelaToWatts
		if kind == "directional" {
			kind, power = "sun", l.Intensity/683
		}
		set("power", formatNumber(math.Round(power*1e4)/1e4))
		set("colour", srgbHex(l.Colour))
		if kind != "point" {
			set("look", target)
		}
		if l.Cone > 0 {
			set("cone", formatNumber(min(max(l.Cone, 1), 179)))
		}
	}
	if k, ok := own["kind"].(string); ok {
		kind = k
		delete(own, "kind")
	}
	g.record("light", []string{g.fresh("light", name), kind, triple(at)}, nil, own, n.Name)
}

// srgbHex writes a linear colour as the map language does.
func srgbHex(c [3]float64) string {
	s := "#"
	for _, v := range c {
		v = min(max(v, 0), 1)
		if v <= 0.0031308 {
			v *= 12.92
		} else {
			v = float64(1.055*math.Pow(v, 1/2.4)) - 0.055
		}
		s += fmt.Sprintf("%02x", int(math.Round(v*255)))
	}
	return s
}

// say reports something about a node.
func (g *gltfReader) say(node, format string, args ...any) *finding.Finding {
	return g.find(finding.MapSyntax, fault.Place{File: g.source}, "node %q: "+format, append([]any{node}, args...)...)
}

// record reads a node as a line of the map language: the values that its place gives, and its extras as settings.
func (g *gltfReader) record(keyword string, values []string, pairs []string, extras map[string]any, node string) {
	tokens := []token{{text: keyword}}
	for _, v := range values {
		tokens = append(tokens, token{text: v})
	}
	rule := grammar[keyword]
	for _, key := range slices.Sorted(maps.Keys(extras)) {
		text, ok := extraText(extras[key])
		if !ok || rule.setting(key) == nil && !rule.free {
			continue // modelling programs leave extras of their own
		}
		if rule.setting(key) == nil {
			key = wordOf(key)
		}
		tokens = append(tokens, token{text: key, key: true}, token{text: text})
	}
	p := &parser{file: &File{Name: g.source, broken: map[string]bool{}}}
	r, ok := p.record(tokens, "")
	if !ok {
		g.broken[keyword+" "+values[0]] = true
		for _, f := range p.findings {
			g.say(node, "%s", f.Text).Do = "Correct the node's name or its extras. " + strings.Replace(f.Do,
				"For example: ", "In the map language: ", 1)
		}
		return
	}
	r.Place = fault.Place{File: g.source}
	before := len(g.findings)
	g.builder.place(r, context{known: &scope{}, at: geom.Identity})
	for i := before; i < len(g.findings); i++ {
		g.findings[i].Text = fmt.Sprintf("node %q: %s", node, g.findings[i].Text)
	}
}

// extraText writes an extra as a value of the map language.
func extraText(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, !strings.ContainsAny(v, "{}")
	case bool:
		return map[bool]string{true: "yes", false: "no"}[v], true
	case float64:
		return formatNumber(v), true
	case []any:
		var parts []string
		for _, x := range v {
			s, ok := extraText(x)
			if !ok {
				return "", false
			}
			parts = append(parts, s)
		}
		return strings.Join(parts, ","), len(parts) > 0
	}
	return "", false
}

// mesh makes a solid of a closed convex mesh, and a prop of any other.
func (g *gltfReader) mesh(n gltf.Node, keyword, name string) {
	place := fault.Place{File: g.source}
	for _, p := range n.Parts {
		if p.Material == "" {
			g.find(finding.MaterialMissing, place, "node %q: its mesh has no material",
				n.Name).Do = "Give every face a material whose name is that of a file in the folder of materials."
			return
		}
		g.ref(&Value{Text: p.Material, Place: place})
	}
	shape := model.Shape(n.Parts, n.At)
	if shape.Far() {
		g.find(finding.MapHuge, place, "node %q reaches beyond %.0f km, where coordinates lose their centimetres",
			n.Name, float64(maxNumber/1000))
		return
	}
	faces, why := convex(shape)
	if keyword == "prop" || keyword == "" && faces == nil {
		solid := extraIs(n.Extras, "solid", true)
		g.m.Props = append(g.m.Props,
			scene.Prop{Name: g.fresh("prop", name), Shape: shape, At: geom.Identity, Solid: solid, Place: place})
		return
	}
	if faces == nil {
		g.find(finding.SolidFlat, place, "node %q is named as a %s, and its mesh %s", n.Name, keyword,
			why).Do = "Close the mesh and make it convex, or call it prop."
		return
	}
	s := scene.Solid{Name: g.fresh("solid", name), Faces: faces, Detail: keyword == "detail" ||
		extraIs(n.Extras, "detail", false), Box: shape.Box, Place: place}
	size := s.Box.Max.Sub(s.Box.Min)
	if min(size.X, size.Y, size.Z) < thinnest {
		g.find(finding.SolidFlat, place, "node %q is thinner than %g m", n.Name, thinnest)
		return
	}
	g.m.Solids = append(g.m.Solids, s)
}

func extraIs(extras map[string]any, key string, otherwise bool) bool {
	if v, ok := extraText(extras[key]); ok {
		return v != "no" && v != "0"
	}
	return otherwise
}

// convex finds the faces of a closed convex mesh: nil and the reason when it is none.
func convex(m *model.Model) (faces []scene.Face, why string) {
	const sharp = 1e-3 // metres that corners of a mesh may be off their plane
	points := map[geom.Vec]bool{}
	var list []geom.Vec
	open := map[[2]geom.Vec]int{}
	for _, mesh := range m.Meshes {
		for k := 0; k+2 < len(mesh.Indices); k += 3 {
			for e := range 3 {
				a, b := settled(mesh.Positions[mesh.Indices[k+e]]), settled(mesh.Positions[mesh.Indices[k+(e+1)%3]])
				if !points[a] {
					points[a] = true
					list = append(list, a)
				}
				open[[2]geom.Vec{a, b}]++
				open[[2]geom.Vec{b, a}]--
			}
		}
	}
	if len(list) > 4*geom.MaxHullPoints {
		return nil, fmt.Sprintf("has more than %d corners", 4*geom.MaxHullPoints)
	}
	for _, n := range open {
		if n != 0 {
			return nil, "is not closed"
		}
	}
	type side struct {
		plane    geom.Plane
		material string
	}
	var sides []side
	for _, mesh := range m.Meshes {
		for k := 0; k+2 < len(mesh.Indices); k += 3 {
			triangle := geom.Polygon{settled(mesh.Positions[mesh.Indices[k]]),
				settled(mesh.Positions[mesh.Indices[k+1]]), settled(mesh.Positions[mesh.Indices[k+2]])}
			plane, ok := triangle.Plane()
			if !ok {
				continue
			}
			for _, p := range list {
				if plane.Distance(p) > sharp {
					return nil, "is not convex"
				}
			}
			if !slices.ContainsFunc(sides, func(s side) bool {
				return s.plane.N.Dot(plane.N) > 0.999 && math.Abs(s.plane.Distance(triangle[0])) < sharp &&
					math.Abs(s.plane.Distance(triangle[1])) < sharp && math.Abs(s.plane.Distance(triangle[2])) < sharp
			}) {
				sides = append(sides, side{plane, mesh.Material})
			}
		}
	}
	for _, s := range sides {
		var on []geom.Vec
		for _, p := range list {
			if math.Abs(s.plane.Distance(p)) < sharp {
				on = append(on, p)
			}
		}
		outline := geom.Outline(on, s.plane.N)
		plane, ok := outline.Plane()
		if len(outline) < 3 || !ok {
			continue
		}
		f := scene.Face{Polygon: outline, Plane: plane,
			TextureMapping: scene.TextureMapping{Material: scene.Ref{Name: s.material, Place: m.Place}, Scale: 1}}
		f.U, f.V = worldAxes(plane.N)
		faces = append(faces, f)
	}
	if len(faces) < 4 {
		return nil, "encloses nothing"
	}
	return faces, ""
}
