package gltf

import (
	"bytes"
	"cmp"
	"fmt"
	"image"
	"image/png"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/qmuntal/gltf"
	"github.com/qmuntal/gltf/ext/lightspunctual"
	"github.com/qmuntal/gltf/ext/unlit"
	"github.com/qmuntal/gltf/modeler"

	"vornix/core/format/geom"
	"vornix/core/format/mapfile"
)

// Surface is how a material looks. Images may be nil. Colour and Emission are sRGB; in Normal green grows up.
type Surface struct {
	Colour, Normal, Emission image.Image
	Tint                     [3]float64 // factor on Colour, linear; the zero value is white
	SeeThrough               string     // "no", "cut-out" or "soft"
	DoubleSided, Unlit       bool
}

// writer builds a document.
type writer struct {
	doc      *gltf.Document
	surface  func(material string) Surface
	material map[string]int
	image    map[image.Image]int
	lights   lightspunctual.Lights
}

// Write makes a GLB of a compiled map: its surface, terrains and props with their materials, lights
// and cameras, and every object as an empty node. surface says how a material looks; nil: nobody
// knows. The same map gives the same bytes.
func Write(m *mapfile.Map, surface func(material string) Surface) ([]byte, error) {
	doc := gltf.NewDocument()
	doc.Asset.Generator = "Vornix"
	doc.Scenes[0].Name = m.Meta.Name
	doc.Scenes[0].Extras = map[string]any{"title": m.Meta.Title, "modes": m.Meta.Modes,
		"players": fmt.Sprintf("%d..%d", m.Meta.Players[0], m.Meta.Players[1])}
	w := &writer{doc: doc, surface: surface, material: map[string]int{}, image: map[image.Image]int{}}
	if err := w.faces(m); err != nil {
		return nil, err
	}
	for i := range m.Terrains {
		if err := w.terrain(&m.Terrains[i]); err != nil {
			return nil, err
		}
	}
	if err := w.props(m); err != nil {
		return nil, err
	}
	w.objects(m)
	if len(w.lights) > 0 {
		doc.Extensions = gltf.Extensions{lightspunctual.ExtensionName: map[string]any{"lights": w.lights}}
		doc.ExtensionsUsed = append(doc.ExtensionsUsed, lightspunctual.ExtensionName)
	}
	slices.Sort(doc.ExtensionsUsed)
	doc.ExtensionsUsed = slices.Compact(doc.ExtensionsUsed)
	var b bytes.Buffer
	e := gltf.NewEncoder(&b)
	e.AsBinary = true
	if err := e.Encode(doc); err != nil {
		return nil, fmt.Errorf("writing the scene: %w", err)
	}
	return b.Bytes(), nil
}

// up turns Vornix's axes into glTF's.
func up(v [3]float32) [3]float32 { return [3]float32{v[0], v[2], 0 - v[1]} }

func (w *writer) node(n *gltf.Node) {
	w.doc.Scenes[0].Nodes = append(w.doc.Scenes[0].Nodes, len(w.doc.Nodes))
	w.doc.Nodes = append(w.doc.Nodes, n)
}

// primitive is triangles of one material, as they are collected.
type primitive struct {
	material string
	vertices []mapfile.Vertex
	indices  []uint32
}

// add takes triangles whose vertices are those from first on.
func (p *primitive) add(vertices []mapfile.Vertex, indices []uint32, first uint32) {
	offset := uint32(len(p.vertices))
	p.vertices = append(p.vertices, vertices...)
	for _, i := range indices {
		p.indices = append(p.indices, i-first+offset)
	}
}

// mesh writes primitives as one mesh and gives its number; -1 for one without triangles.
func (w *writer) mesh(name string, list []*primitive) (int, error) {
	mesh := &gltf.Mesh{Name: name}
	for _, p := range list {
		if len(p.indices) == 0 {
			continue
		}
		positions, normals, uvs := make([][3]float32, len(p.vertices)), make([][3]float32, len(p.vertices)),
			make([][2]float32, len(p.vertices))
		for i, v := range p.vertices {
			positions[i], normals[i], uvs[i] = up(v.Position), unit(up(v.Normal)), v.UV
		}
		material, err := w.materialOf(p.material)
		if err != nil {
			return 0, err
		}
		attributes := gltf.PrimitiveAttributes{gltf.POSITION: modeler.WritePosition(w.doc, positions),
			gltf.NORMAL: modeler.WriteNormal(w.doc, normals), gltf.TEXCOORD_0: modeler.WriteTextureCoord(w.doc, uvs)}
		if w.doc.Materials[material].NormalTexture != nil {
			attributes[gltf.TANGENT] = modeler.WriteTangent(w.doc, tangents(positions, normals, uvs, p.indices))
		}
		mesh.Primitives = append(mesh.Primitives,
			&gltf.Primitive{Attributes: attributes, Indices: gltf.Index(modeler.WriteIndices(w.doc, p.indices)),
				Material: gltf.Index(material)})
	}
	if len(mesh.Primitives) == 0 {
		return -1, nil
	}
	w.doc.Meshes = append(w.doc.Meshes, mesh)
	return len(w.doc.Meshes) - 1, nil
}

// tangents are the directions in which u grows, perpendicular to the normals; the fourth number
// says on which side -v lies, where a normal map's green points. A corner takes the mean of its
// triangles.
func tangents(positions, normals [][3]float32, uvs [][2]float32, indices []uint32) [][4]float32 {
	along, down := make([]geom.Vec, len(positions)), make([]geom.Vec, len(positions))
	wide := func(v [3]float32) geom.Vec {
		return geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])}
	}
	for i := 0; i+2 < len(indices); i += 3 {
		a, b, c := indices[i], indices[i+1], indices[i+2]
		e, f := wide(positions[b]).Sub(wide(positions[a])), wide(positions[c]).Sub(wide(positions[a]))
		du1, dv1 := float64(uvs[b][0]-uvs[a][0]), float64(uvs[b][1]-uvs[a][1])
		du2, dv2 := float64(uvs[c][0]-uvs[a][0]), float64(uvs[c][1]-uvs[a][1])
		area := float64(du1*dv2) - float64(du2*dv1)
		if area == 0 {
			continue
		}
		u, v := e.Scale(dv2/area).Sub(f.Scale(dv1/area)), f.Scale(du1/area).Sub(e.Scale(du2/area))
		for _, k := range [3]uint32{a, b, c} {
			along[k], down[k] = along[k].Add(u), down[k].Add(v)
		}
	}
	out := make([][4]float32, len(positions))
	for i := range out {
		n := wide(normals[i])
		t, ok := along[i].Sub(n.Scale(n.Dot(along[i]))).Unit()
		if !ok { // no texture to follow: any direction in the face
			other := geom.Vec{X: 1}
			if n.X > 0.7 || n.X < -0.7 {
				other = geom.Vec{Y: 1}
			}
			t, _ = other.Sub(n.Scale(n.Dot(other))).Unit()
		}
		side := float32(1)
		if n.Cross(t).Dot(down[i]) > 0 {
			side = -1
		}
		out[i] = [4]float32{float32(t.X), float32(t.Y), float32(t.Z), side}
	}
	return out
}

// unit makes a normal as long as glTF wants it.
func unit(v [3]float32) [3]float32 {
	x, y, z := float64(v[0]), float64(v[1]), float64(v[2])
	l := math.Sqrt(float64(x*x) + float64(y*y) + float64(z*z))
	if !(l > 0) || math.IsInf(l, 0) {
		return [3]float32{0, 1, 0}
	}
	return [3]float32{float32(x / l), float32(y / l), float32(z / l)}
}

func (w *writer) faces(m *mapfile.Map) error {
	var list []*primitive
	by := map[string]*primitive{}
	for _, f := range m.Faces {
		p := by[f.Material]
		if p == nil {
			p = &primitive{material: f.Material}
			by[f.Material] = p
			list = append(list, p)
		}
		p.add(m.Vertices[f.FirstVertex:f.FirstVertex+f.Vertices], m.Indices[f.FirstIndex:f.FirstIndex+f.IndexNumber],
			f.FirstVertex)
	}
	n, err := w.mesh("surface", list)
	if err != nil || n < 0 {
		return err
	}
	w.node(&gltf.Node{Name: "surface", Mesh: gltf.Index(n)})
	return nil
}

func (w *writer) terrain(t *mapfile.Terrain) error {
	names, repeats := []string{t.Material}, []float32{t.Repeat}
	for _, l := range t.Layers {
		names, repeats = append(names, l.Material), append(repeats, l.Repeat)
	}
	list := make([]*primitive, len(names))
	for i, name := range names {
		list[i] = &primitive{material: name}
	}
	// Each cell shows the layer that is strongest there.
	for row := uint32(0); row+1 < t.Rows; row++ {
		for column := uint32(0); column+1 < t.Columns; column++ {
			at := row*t.Columns + column
			show := 0
			for i, l := range t.Layers {
				if int(l.Weights[at])+int(l.Weights[at+1])+int(l.Weights[at+t.Columns])+
					int(l.Weights[at+t.Columns+1]) > 2*255 {
					show = i + 1
				}
			}
			p := list[show]
			first := uint32(len(p.vertices))
			for k := range uint32(4) {
				c, r := column+k%2, row+k/2
				point := t.Point(c, r)
				p.vertices = append(p.vertices,
					mapfile.Vertex{Position: point, Normal: t.Normal(c, r),
						UV: [2]float32{point[0] / max(repeats[show], 1e-3), 0 - point[1]/max(repeats[show], 1e-3)}})
			}
			p.indices = append(p.indices, first, first+2, first+3, first, first+3, first+1)
		}
	}
	n, err := w.mesh("terrain "+t.Name, list)
	if err != nil || n < 0 {
		return err
	}
	w.node(&gltf.Node{Name: "prop " + t.Name, Mesh: gltf.Index(n)})
	return nil
}

func (w *writer) props(m *mapfile.Map) error {
	meshes := make([]int, len(m.Models))
	for i, d := range m.Models {
		var list []*primitive
		for _, s := range d.Meshes {
			p := &primitive{material: s.Material}
			p.add(m.Vertices[s.FirstVertex:s.FirstVertex+s.Vertices],
				m.Indices[s.FirstIndex:s.FirstIndex+s.IndexNumber], s.FirstVertex)
			list = append(list, p)
		}
		var err error
		if meshes[i], err = w.mesh(cmp.Or(d.Name, fmt.Sprintf("model %d", i)), list); err != nil {
			return err
		}
	}
	for _, p := range m.Props {
		if meshes[p.Model] < 0 {
			continue
		}
		n := &gltf.Node{Name: "prop " + p.Name, Mesh: gltf.Index(meshes[p.Model])}
		n.Matrix = matrix(p.Rows)
		w.node(n)
	}
	return nil
}

// matrix turns rows in Vornix's axes into glTF's columns.
func matrix(rows [3][4]float32) [16]float64 {
	// With S the change of axes, glTF's matrix is S·M·S⁻¹.
	order, sign := [3]int{0, 2, 1}, [3]float64{1, 1, -1}
	out := [16]float64{15: 1}
	for i := range 3 {
		for j := range 3 {
			out[j*4+i] = float64(sign[i]*sign[j]*float64(rows[order[i]][order[j]])) + 0
		}
		out[12+i] = float64(sign[i]*float64(rows[order[i]][3])) + 0
	}
	return out
}

// objects writes everything that is placed as nodes that say by name and extras what they are, as
// Read understands them.
func (w *writer) objects(m *mapfile.Map) {
	for _, o := range m.Objects {
		extras := map[string]any{}
		for _, p := range o.Pairs {
			extras[p[0]] = p[1]
		}
		kind, item := strings.CutPrefix(o.Kind, "item:")
		if item {
			kind = "item " + kind
		}
		n := &gltf.Node{Name: strings.TrimSpace(kind + " " + o.Name), Translation: place(o.A)}
		switch o.Kind {
		case "light":
			w.light(n, o)
		case "camera":
			w.doc.Cameras = append(w.doc.Cameras, camera(o))
			n.Camera = gltf.Index(len(w.doc.Cameras) - 1)
			n.Rotation = aim(o.A, o.B)
			extras["look"] = fmt.Sprintf("%g,%g,%g", o.B[0], o.B[1], o.B[2])
			if o.Value != 0 {
				extras["exposure"] = float64(o.Value)
			}
			if o.Radius != 0 {
				extras["lens"] = 2 * float64(o.Radius)
			}
		case "volume", "area":
			for i := range n.Translation {
				low, high := up(o.A), up(o.B)
				n.Translation[i] = float64(low[i]+high[i]) / 2
				n.Scale[i] = math.Abs(float64(high[i]-low[i])) / 2
			}
			extras["effect"] = o.Detail
		case "spawn":
			extras["team"], n.Rotation = o.Detail, heading(o.Angle)
		case "sound":
			extras["file"], extras["volume"] = o.Detail, float64(o.Value)
			if o.Flags&1 != 0 {
				extras["loop"] = "yes"
			}
		case "probe":
			extras["reach"] = float64(o.Value)
		default:
			n.Rotation = heading(o.Angle)
		}
		for key, v := range extras {
			if v == "" {
				delete(extras, key)
			}
		}
		if len(extras) > 0 {
			n.Extras = extras
		}
		w.node(n)
	}
}

func place(v [3]float32) [3]float64 {
	p := up(v)
	return [3]float64{float64(p[0]), float64(p[1]), float64(p[2])}
}

// heading is the rotation of something that faces so many degrees from north, clockwise, as seen from above.
func heading(degrees float32) [4]float64 {
	half := -float64(degrees) * math.Pi / 360
	return [4]float64{0, round(math.Sin(half)), 0, round(math.Cos(half))}
}

// aim is the rotation of something at a that looks at b: glTF's cameras and lights look along -Z.
func aim(a, b [3]float32) [4]float64 {
	p, q := up(a), up(b)
	x, y, z := float64(q[0]-p[0]), float64(q[1]-p[1]), float64(q[2]-p[2])
	yaw, pitch := math.Atan2(-x, -z)/2, math.Atan2(y, math.Hypot(x, z))/2
	sy, cy, sp, cp := math.Sin(yaw), math.Cos(yaw), math.Sin(pitch), math.Cos(pitch)
	return [4]float64{round(cy * sp), round(sy * cp), round(-sy * sp), round(cy * cp)}
}

func camera(o mapfile.Object) *gltf.Camera {
	const aspect = 16.0 / 9
	wide := min(max(float64(o.Angle), 1), 179) * math.Pi / 180
	return &gltf.Camera{Name: o.Name,
		Perspective: &gltf.Perspective{AspectRatio: gltf.Float(aspect),
			Yfov: round(2 * math.Atan(math.Tan(wide/2)/aspect)), Znear: 0.1}}
}

// candela is what a lamp of one watt, radiated over the sphere, shines with: 683 lumens are a watt.
const candela = 683 / (4 * math.Pi)

func (w *writer) light(n *gltf.Node, o mapfile.Object) {
	l := &lightspunctual.Light{Name: o.Name, Type: lightspunctual.TypePoint,
		Intensity: gltf.Float(round(float64(o.Value) * candela))}
	c := Linear(o.Colour)
	l.Color = &c
	if o.Flags&2 != 0 {
		n.Rotation = aim(o.A, o.B)
		l.Type = lightspunctual.TypeSpot
		l.Spot = &lightspunctual.Spot{OuterConeAngle: gltf.Float(round(min(float64(o.Angle)/2, 89) * math.Pi / 180))}
		if o.Detail == "sun" {
			l.Type, l.Spot, l.Intensity = lightspunctual.TypeDirectional, nil, gltf.Float(round(float64(o.Value)*683))
		}
	}
	w.lights = append(w.lights, l)
	n.Extensions = gltf.Extensions{lightspunctual.ExtensionName: map[string]any{"light": len(w.lights) - 1}}
	n.Extras = nil
}

// Linear is a colour 0xRRGGBB in sRGB as factors of light.
func Linear(rgb uint32) (c [3]float64) {
	for i := range c {
		v := float64(rgb>>(16-8*i)&255) / 255
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		c[i] = round(v)
	}
	return c
}

func (w *writer) materialOf(name string) (int, error) {
	if i, ok := w.material[name]; ok {
		return i, nil
	}
	var s Surface
	if w.surface != nil {
		s = w.surface(name)
	}
	m := &gltf.Material{Name: name, DoubleSided: s.DoubleSided,
		PBRMetallicRoughness: &gltf.PBRMetallicRoughness{MetallicFactor: gltf.Float(0), RoughnessFactor: gltf.Float(1)}}
	if s.Tint != [3]float64{} {
		m.PBRMetallicRoughness.BaseColorFactor = &[4]float64{s.Tint[0], s.Tint[1], s.Tint[2], 1}
	}
	colour, err := w.texture(s.Colour, name)
	if err != nil {
		return 0, err
	}
	if colour >= 0 {
		m.PBRMetallicRoughness.BaseColorTexture = &gltf.TextureInfo{Index: colour}
	}
	normal, err := w.texture(s.Normal, name+" normal")
	if err != nil {
		return 0, err
	}
	if normal >= 0 {
		m.NormalTexture = &gltf.NormalTexture{Index: gltf.Index(normal)}
	}
	emission, err := w.texture(s.Emission, name+" emission")
	if err != nil {
		return 0, err
	}
	if emission >= 0 {
		m.EmissiveTexture, m.EmissiveFactor = &gltf.TextureInfo{Index: emission}, [3]float64{1, 1, 1}
	}
	switch s.SeeThrough {
	case "cut-out":
		m.AlphaMode = gltf.AlphaMask
	case "soft":
		m.AlphaMode = gltf.AlphaBlend
	}
	if s.Unlit {
		m.Extensions = gltf.Extensions{unlit.ExtensionName: unlit.Unlit{}}
		w.doc.ExtensionsUsed = append(w.doc.ExtensionsUsed, unlit.ExtensionName)
	}
	w.doc.Materials = append(w.doc.Materials, m)
	w.material[name] = len(w.doc.Materials) - 1
	return len(w.doc.Materials) - 1, nil
}

// texture embeds an image once and gives the number of its texture; -1 for nil.
func (w *writer) texture(img image.Image, name string) (int, error) {
	if img == nil {
		return -1, nil
	}
	if i, ok := w.image[img]; ok {
		return i, nil
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return 0, fmt.Errorf("packing the image of %s: %w", name, err)
	}
	n, err := modeler.WriteImage(w.doc, name, "image/png", &b)
	if err != nil {
		return 0, err
	}
	w.doc.Textures = append(w.doc.Textures, &gltf.Texture{Source: gltf.Index(n)})
	w.image[img] = len(w.doc.Textures) - 1
	return len(w.doc.Textures) - 1, nil
}

// Hex reads a colour such as #ffe2b8.
func Hex(s string) (rgb uint32, ok bool) {
	if len(s) != 7 || s[0] != '#' {
		return 0, false
	}
	n, err := strconv.ParseUint(s[1:], 16, 32)
	return uint32(n), err == nil
}
