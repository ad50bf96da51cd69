// Package gltf reads and writes glTF 2.0 scenes (Khronos; ISO/IEC 12113), as .gltf with its buffers or as .glb.
//
// read.go flattens a scene into nodes in Vornix's coordinates: glTF's metres stay, its Y up, Z
// towards the viewer becomes Z up, Y to the north. write.go makes a GLB of a compiled map. The file
// form itself is read and written by qmuntal/gltf.
package gltf

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"path"
	"strings"

	"github.com/qmuntal/gltf"
	"github.com/qmuntal/gltf/ext/lightspunctual"

	"vornix/core/format/geom"
)

// Endings of files that are glTF scenes.
var Endings = []string{".glb", ".gltf"}

// IsScene says whether a file's name is that of a glTF scene.
func IsScene(name string) bool {
	ending := strings.ToLower(path.Ext(name))
	return ending == ".glb" || ending == ".gltf"
}

// Bounds on what a file may claim before it is believed.
const (
	maxFile     = 1 << 30
	maxElements = 1 << 24
	maxNodes    = 1 << 18
	maxDepth    = 64
	maxNesting  = 256 // of its JSON
)

// Scene is what a file holds.
type Scene struct {
	Nodes  []Node         // depth first, each with all that stands above it in its place
	Extras map[string]any // of the scene
	Images []string       // names of images, embedded or beside
	Files  []string       // that were read beside it
}

// Node is a place in the scene with what is there.
type Node struct {
	Name   string
	Extras map[string]any // its own, over those of its mesh
	At     geom.Transform
	Parts  []Part // the mesh, in the node's own coordinates
	Light  *Light
	Camera *Camera
}

// Part is a piece of a mesh with one material: triangles, counter-clockwise as seen from outside.
type Part struct {
	Material  string
	Positions []geom.Vec
	Normals   []geom.Vec // as many as Positions
	UVs       [][2]float32
	Indices   []uint32
}

// Light is a light by KHR_lights_punctual; it shines along the node's +Y.
type Light struct {
	Kind      string     // point, spot or directional
	Colour    [3]float64 // linear
	Intensity float64    // candela; lux for directional
	Cone      float64    // full angle of a spot, degrees
}

// Camera looks along the node's +Y.
type Camera struct {
	FOV float64 // horizontal, degrees
}

// flip turns glTF's axes into Vornix's.
var flip = geom.Transform{M: [3]geom.Vec{{X: 1}, {Z: -1}, {Y: 1}}}

// openFS gives a decoder the files beside the scene.
type openFS struct {
	dir  string
	open func(string) ([]byte, error)
	read []string
}

type memory struct {
	*bytes.Reader
	name string
}

func (m memory) Stat() (fs.FileInfo, error) { return nil, errors.ErrUnsupported }
func (m memory) Close() error               { return nil }

func (o *openFS) Open(name string) (fs.File, error) {
	full := path.Join(o.dir, name)
	if o.open == nil || !fs.ValidPath(full) {
		return nil, fmt.Errorf("the file %q beside it can't be read", name)
	}
	data, err := o.open(full)
	if err != nil {
		return nil, fmt.Errorf("the file %q beside it can't be read", full)
	}
	o.read = append(o.read, full)
	return memory{bytes.NewReader(data), name}, nil
}

// Read reads a scene. name is its path, and open reads files beside it by paths of the same kind; nil: there are none.
func Read(name string, data []byte, open func(string) ([]byte, error)) (scene *Scene, err error) {
	if err := bound(data); err != nil {
		return nil, err
	}
	files := &openFS{dir: path.Dir(name), open: open}
	doc := &gltf.Document{}
	if err := gltf.NewDecoderFS(bytes.NewReader(data), files).Decode(doc); err != nil {
		return nil, fmt.Errorf("it is not a glTF scene: %w", err)
	}
	if doc.Asset.Version != "2.0" {
		return nil, fmt.Errorf("it is of glTF version %q; Vornix reads 2.0", doc.Asset.Version)
	}
	for _, e := range doc.ExtensionsRequired {
		if e != lightspunctual.ExtensionName && e != "KHR_texture_transform" && e != "KHR_materials_unlit" {
			return nil, fmt.Errorf("it needs the extension %s, which Vornix does not read; export it without", e)
		}
	}
	r := &reader{doc: doc, scene: &Scene{Files: files.read}, meshes: map[int][]Part{}}
	for i, image := range doc.Images {
		label := image.Name
		if label == "" {
			label = fmt.Sprintf("image %d", i)
		}
		r.scene.Images = append(r.scene.Images, label)
	}
	return r.scene, r.all()
}

// bound refuses a file that says it needs more memory than it could.
func bound(data []byte) error {
	if len(data) > maxFile {
		return fmt.Errorf("it has %d MB; at most %d MB are read", len(data)>>20, maxFile>>20)
	}
	text := data
	if bytes.HasPrefix(data, []byte("glTF")) {
		if len(data) < 20 {
			return errors.New("it is cut short")
		}
		n := binary.LittleEndian.Uint32(data[12:])
		if uint64(n)+20 > uint64(len(data)) {
			return errors.New("it is cut short")
		}
		text = data[20 : 20+n]
	}
	var claims struct {
		Buffers []struct {
			URI        string
			ByteLength float64
		}
		Accessors []struct {
			Count  float64
			Sparse struct{ Count float64 }
		}
		BufferViews []struct{ ByteOffset, ByteLength, ByteStride float64 }
		Nodes       []struct{}
	}
	if err := json.Unmarshal(text, &claims); err != nil {
		return fmt.Errorf("it is not a glTF scene: %w", err)
	}
	if err := holes(text); err != nil {
		return fmt.Errorf("it is not a glTF scene: %w", err)
	}
	for _, b := range claims.Buffers {
		if b.ByteLength < 0 || b.ByteLength > maxFile || b.URI == "" && b.ByteLength > float64(len(data)) {
			return errors.New("a buffer claims an impossible size")
		}
	}
	for _, a := range claims.Accessors {
		if a.Count < 0 || a.Count > maxElements || a.Sparse.Count < 0 || a.Sparse.Count > a.Count {
			return errors.New("it claims more points than Vornix reads")
		}
	}
	if len(claims.Nodes) > maxNodes {
		return fmt.Errorf("it has %d nodes; at most %d are read", len(claims.Nodes), maxNodes)
	}
	return nil
}

type reader struct {
	doc    *gltf.Document
	scene  *Scene
	meshes map[int][]Part
	seen   int // nodes
	points int
}

func (r *reader) all() error {
	var roots []int
	switch {
	case r.doc.Scene != nil && *r.doc.Scene < len(r.doc.Scenes):
		s := r.doc.Scenes[*r.doc.Scene]
		roots = s.Nodes
		r.scene.Extras, _ = s.Extras.(map[string]any)
	case len(r.doc.Scenes) > 0:
		roots = r.doc.Scenes[0].Nodes
		r.scene.Extras, _ = r.doc.Scenes[0].Extras.(map[string]any)
	default: // a file without scenes: whatever is nobody's child
		child := map[int]bool{}
		for _, n := range r.doc.Nodes {
			for _, c := range n.Children {
				child[c] = true
			}
		}
		for i := range r.doc.Nodes {
			if !child[i] {
				roots = append(roots, i)
			}
		}
	}
	for _, n := range roots {
		if err := r.node(n, geom.Identity, 0); err != nil {
			return err
		}
	}
	return nil
}

func (r *reader) node(i int, parent geom.Transform, depth int) error {
	if i < 0 || i >= len(r.doc.Nodes) {
		return errors.New("it refers to a node that does not exist")
	}
	if r.seen++; depth > maxDepth || r.seen > maxNodes {
		return errors.New("its nodes form a circle, or are nested too deeply")
	}
	n := r.doc.Nodes[i]
	at := parent.After(local(n))
	out := Node{Name: n.Name, At: flip.After(at).After(unflip), Extras: map[string]any{}}
	for _, row := range out.At.M {
		if bad(row) || bad(out.At.Move) {
			return fmt.Errorf("node %q has a position that is not a number", n.Name)
		}
	}
	if n.Mesh != nil {
		if *n.Mesh < 0 || *n.Mesh >= len(r.doc.Meshes) {
			return fmt.Errorf("node %q refers to a mesh that does not exist", n.Name)
		}
		parts, err := r.mesh(*n.Mesh)
		if err != nil {
			return fmt.Errorf("mesh %q: %w", r.doc.Meshes[*n.Mesh].Name, err)
		}
		out.Parts = parts
		add(out.Extras, r.doc.Meshes[*n.Mesh].Extras)
		if out.Name == "" {
			out.Name = r.doc.Meshes[*n.Mesh].Name
		}
	}
	add(out.Extras, n.Extras)
	out.Light = r.light(n)
	if n.Camera != nil && *n.Camera >= 0 && *n.Camera < len(r.doc.Cameras) {
		if p := r.doc.Cameras[*n.Camera].Perspective; p != nil {
			aspect := 16.0 / 9
			if p.AspectRatio != nil && *p.AspectRatio > 0 {
				aspect = *p.AspectRatio
			}
			out.Camera = &Camera{FOV: round(2 * math.Atan(math.Tan(p.Yfov/2)*aspect) * 180 / math.Pi)}
		}
	}
	r.scene.Nodes = append(r.scene.Nodes, out)
	for _, c := range n.Children {
		if err := r.node(c, at, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// unflip undoes flip.
var unflip = geom.Transform{M: [3]geom.Vec{{X: 1}, {Z: 1}, {Y: -1}}}

// round keeps six decimals: the last bits of trigonometry may differ between processors.
func round(f float64) float64 { return math.Round(f*1e6) / 1e6 }

func bad(v geom.Vec) bool {
	s := v.X + v.Y + v.Z
	return math.IsNaN(s) || math.IsInf(s, 0)
}

func add(to map[string]any, extras any) {
	m, _ := extras.(map[string]any)
	for k, v := range m {
		to[k] = v
	}
}

// local is a node's transform in glTF's coordinates.
func local(n *gltf.Node) geom.Transform {
	if m := n.MatrixOrDefault(); m != gltf.DefaultMatrix {
		return geom.Transform{M: [3]geom.Vec{{X: m[0], Y: m[4], Z: m[8]}, {X: m[1], Y: m[5], Z: m[9]},
			{X: m[2], Y: m[6], Z: m[10]}}, Move: geom.Vec{X: m[12], Y: m[13], Z: m[14]}}
	}
	q, s, t := n.RotationOrDefault(), n.ScaleOrDefault(), n.Translation
	x, y, z, w := q[0], q[1], q[2], q[3]
	tidy := func(f float64) float64 { // quarter turns in 32 bits leave dust
		if r := math.Round(f); math.Abs(f-r) < 1e-6 {
			return r
		}
		return f
	}
	return geom.Transform{M: [3]geom.Vec{
		{X: tidy(1-2*(float64(y*y)+float64(z*z))) * s[0], Y: tidy(2*(float64(x*y)-float64(z*w))) * s[1],
			Z: tidy(2*(float64(x*z)+float64(y*w))) * s[2]},
		{X: tidy(2*(float64(x*y)+float64(z*w))) * s[0], Y: tidy(1-2*(float64(x*x)+float64(z*z))) * s[1],
			Z: tidy(2*(float64(y*z)-float64(x*w))) * s[2]},
		{X: tidy(2*(float64(x*z)-float64(y*w))) * s[0], Y: tidy(2*(float64(y*z)+float64(x*w))) * s[1],
			Z: tidy(1-2*(float64(x*x)+float64(y*y))) * s[2]},
	}, Move: geom.Vec{X: t[0], Y: t[1], Z: t[2]}}
}

func (r *reader) light(n *gltf.Node) *Light {
	index, ok := n.Extensions[lightspunctual.ExtensionName].(lightspunctual.LightIndex)
	lights, _ := r.doc.Extensions[lightspunctual.ExtensionName].(lightspunctual.Lights)
	if !ok || int(index) < 0 || int(index) >= len(lights) {
		return nil
	}
	l := lights[index]
	out := &Light{Kind: l.Type, Colour: l.ColorOrDefault(), Intensity: l.IntensityOrDefault()}
	if l.Spot != nil {
		out.Cone = round(2 * l.Spot.OuterConeAngleOrDefault() * 180 / math.Pi)
	}
	return out
}

func (r *reader) mesh(i int) ([]Part, error) {
	if parts, ok := r.meshes[i]; ok {
		return parts, nil
	}
	var parts []Part
	for _, p := range r.doc.Meshes[i].Primitives {
		part, err := r.part(p)
		if err != nil {
			return nil, err
		}
		if part != nil {
			parts = append(parts, *part)
		}
	}
	r.meshes[i] = parts
	return parts, nil
}

// part reads one primitive; nil for points and lines, which nobody sees in a game.
func (r *reader) part(p *gltf.Primitive) (*Part, error) {
	if p.Mode != gltf.PrimitiveTriangles && p.Mode != gltf.PrimitiveTriangleStrip &&
		p.Mode != gltf.PrimitiveTriangleFan {
		return nil, nil
	}
	if _, ok := p.Extensions["KHR_draco_mesh_compression"]; ok {
		return nil, errors.New("it is compressed by an extension that Vornix does not read; export it without")
	}
	out := &Part{}
	if p.Material != nil {
		if *p.Material < 0 || *p.Material >= len(r.doc.Materials) {
			return nil, errors.New("it refers to a material that does not exist")
		}
		out.Material = r.doc.Materials[*p.Material].Name
	}
	number, ok := p.Attributes[gltf.POSITION]
	if !ok {
		return nil, errors.New("it has no positions")
	}
	positions, err := read[[3]float32](r, number, gltf.ComponentFloat, gltf.AccessorVec3)
	if err != nil {
		return nil, err
	}
	if r.points += len(positions); r.points > maxElements {
		return nil, fmt.Errorf("its meshes have more than %d points", maxElements)
	}
	for _, v := range positions {
		at := flip.Point(geom.Vec{X: float64(v[0]), Y: float64(v[1]), Z: float64(v[2])})
		if bad(at) {
			return nil, errors.New("a corner is not a number")
		}
		out.Positions = append(out.Positions, at)
	}
	out.UVs = make([][2]float32, len(positions))
	if number, ok := p.Attributes[gltf.TEXCOORD_0]; ok {
		uvs, err := r.coordinates(number)
		if err != nil || len(uvs) < len(positions) {
			return nil, errors.Join(errors.New("its texture coordinates can't be read"), err)
		}
		copy(out.UVs, uvs)
		for _, uv := range out.UVs {
			if bad(geom.Vec{X: float64(uv[0]), Y: float64(uv[1])}) {
				return nil, errors.New("a texture coordinate is not a number")
			}
		}
	}
	order := make([]uint32, len(positions))
	for i := range order {
		order[i] = uint32(i)
	}
	if p.Indices != nil {
		if order, err = r.indices(*p.Indices); err != nil {
			return nil, err
		}
	}
	for _, i := range order {
		if int64(i) >= int64(len(positions)) {
			return nil, errors.New("a triangle refers to a corner that does not exist")
		}
	}
	out.Indices = triangles(p.Mode, order)
	return out, r.normals(p, out)
}

// triangles lists what strips and fans stand for.
func triangles(mode gltf.PrimitiveMode, order []uint32) []uint32 {
	switch mode {
	case gltf.PrimitiveTriangleStrip:
		var out []uint32
		for i := 2; i < len(order); i++ {
			if i%2 == 0 {
				out = append(out, order[i-2], order[i-1], order[i])
			} else {
				out = append(out, order[i-1], order[i-2], order[i])
			}
		}
		return out
	case gltf.PrimitiveTriangleFan:
		var out []uint32
		for i := 2; i < len(order); i++ {
			out = append(out, order[0], order[i-1], order[i])
		}
		return out
	}
	return order[:len(order)/3*3]
}

// normals reads a part's normals, or makes them from its triangles.
func (r *reader) normals(p *gltf.Primitive, out *Part) error {
	out.Normals = make([]geom.Vec, len(out.Positions))
	if number, ok := p.Attributes[gltf.NORMAL]; ok {
		list, err := read[[3]float32](r, number, gltf.ComponentFloat, gltf.AccessorVec3)
		if err != nil || len(list) < len(out.Positions) {
			return errors.Join(errors.New("its normals can't be read"), err)
		}
		for i := range out.Normals {
			out.Normals[i] = flip.Direction(geom.Vec{X: float64(list[i][0]), Y: float64(list[i][1]),
				Z: float64(list[i][2])})
		}
	} else {
		for i := 0; i+2 < len(out.Indices); i += 3 {
			a, b, c := out.Indices[i], out.Indices[i+1], out.Indices[i+2]
			n := out.Positions[b].Sub(out.Positions[a]).Cross(out.Positions[c].Sub(out.Positions[a]))
			for _, k := range [3]uint32{a, b, c} {
				out.Normals[k] = out.Normals[k].Add(n)
			}
		}
	}
	for i, n := range out.Normals {
		unit, ok := n.Unit()
		if !ok || bad(n) {
			unit = geom.Vec{Z: 1}
		}
		out.Normals[i] = unit
	}
	return nil
}
