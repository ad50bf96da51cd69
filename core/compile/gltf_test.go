package compile_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/format/geom"
	"vornix/core/format/gltf"
	"vornix/core/format/mapfile"
	"vornix/core/format/model"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
	"vornix/internal/demotest"
	"vornix/internal/gltftest"
)

// blocky is a scene as one exporter writes it: names with numbers behind them, extras on nodes,
// rotations as quaternions, children under parents, lights through an extra node that turns them.
func blocky() (*gltftest.File, string) {
	g := &gltftest.File{}
	p, i := g.Cube(4, 1, 2)
	return g, fmt.Sprintf(`"extensionsUsed":["KHR_lights_punctual"],"extensions":{"KHR_lights_punctual":{"lights":[{"type":"point","name":"lamp","intensity":54.35141,"color":[1,0.5,0]}]}},
"scenes":[{"name":"hut","nodes":[0,2,4,5,6,7,9],"extras":{"title":"Hut","players":"1..2","modes":["relay","dash"]}}],
"materials":[{"name":"wood/plank"}],"cameras":[{"type":"perspective","perspective":{"yfov":0.7853982,"aspectRatio":1.7777778,"znear":0.1}}],
"meshes":[{"name":"Cube","primitives":[{"attributes":{"POSITION":%d},"indices":%d,"material":0}]}],
"nodes":[{"name":"Deck","translation":[10,0,-20],"children":[1],"mesh":0},{"name":"step.001","translation":[0,1,0],"mesh":0},
{"name":"lamp.004","translation":[1,3,-2],"children":[3]},{"name":"lamp_orientation","rotation":[0.7071068,0,0,0.7071068],"extensions":{"KHR_lights_punctual":{"light":0}}},
{"name":"spawn_blue_1.002","translation":[1,0.5,-2],"rotation":[0,-0.7071068,0,0.7071068],"extras":{"team":"blue","someday":{"x":1}}},
{"name":"Spawn.Amber 1","translation":[2,0.5,-2],"extras":{"team":"amber"}},
{"name":"item_winch.003","translation":[3,0.5,-2],"extras":{"rank":2,"open":true,"path":[1,2,3]}},
{"name":"Postcard","translation":[0,5,10],"children":[8]},{"name":"camera","camera":0},
{"name":"volume_pit","translation":[0,-10,0],"scale":[20,2,20],"extras":{"effect":"remove"}}]`, p, i)
}

// strips is the same kind of scene as another exporter writes it: matrices, triangle fans, no
// indices, extras with the keyword, a mesh that is no solid, a mirrored node.
func strips() (*gltftest.File, string) {
	g := &gltftest.File{}
	p := g.Data("VEC3", 5126, 34962, 3, []float32{0, 0, 0, 2, 0, 0, 2, 0, 2, 0, 0, 2}, 4)
	n := g.Data("VEC3", 5126, 34962, 3, []float32{0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0}, 4)
	q, i := g.Cube(2, 2, 2)
	return g, fmt.Sprintf(`"scenes":[{"nodes":[0,1,2,3,4]}],"materials":[{"name":"rock/slab"},{"name":"snow/drift"}],
"meshes":[{"primitives":[{"mode":5,"attributes":{"POSITION":%d,"NORMAL":%d},"material":0}],"extras":{"solid":false}},{"primitives":[{"attributes":{"POSITION":%d},"indices":%d,"material":1}]}],
"nodes":[{"name":"sheet","mesh":0,"matrix":[1,0,0,0,0,1,0,0,0,0,1,0,5,0,0,1]},
{"name":"light_crag","mesh":1,"matrix":[-3,0,0,0,0,2,0,0,0,0,1,0,0,1,0,1]},
{"name":"the start","matrix":[0,0,-1,0,0,1,0,0,1,0,0,0,0,2,0,1],"extras":{"record":"spawn","facing":10}},
{"name":"m","extras":{"record":"map","title":"Strips"}},{"name":"nothing at all"}]`, p, n, q, i)
}

func read(t *testing.T, name string, data []byte) *scene.Map {
	t.Helper()
	m, findings := maplang.Read(name, data, maplang.Options{})
	require.Empty(t, findings)
	return m
}

func TestScenesOfOneExporter(t *testing.T) {
	g, text := blocky()
	gltftest.Validate(t, g.Binary(text))
	assert.Equal(t, read(t, "maps/hut.glb", g.Binary(text)), func() *scene.Map {
		m := read(t, "maps/hut.glb", g.JSON(text)) // the same as text with its buffer inside
		return m
	}())
	m := read(t, "maps/hut.glb", g.Binary(text))
	assert.Equal(t, "hut", m.Name)
	assert.Equal(t, "Hut", m.Title)
	assert.Equal(t, []string{"relay", "dash"}, m.Modes)
	require.Len(t, m.Solids, 2)
	assert.Equal(t, "deck", m.Solids[0].Name)
	assert.Equal(t, "step_001", m.Solids[1].Name)
	assert.Equal(t, [6]float64{8, 19, -0.5, 12, 21, 0.5},
		[6]float64{m.Solids[0].Box.Min.X, m.Solids[0].Box.Min.Y, m.Solids[0].Box.Min.Z, m.Solids[0].Box.Max.X,
			m.Solids[0].Box.Max.Y, m.Solids[0].Box.Max.Z}, "Y up becomes Z up")
	assert.Equal(t, 0.5, m.Solids[1].Box.Min.Z, "a child stands where its parent puts it")
	assert.Len(t, m.Solids[0].Faces, 6)
	assert.Equal(t, "wood/plank", m.Solids[0].Faces[0].Material.Name)
	require.Len(t, m.Lights, 1)
	assert.InDelta(t, 1, m.Lights[0].Power, 1e-3, "candela over the sphere, 683 lumens a watt")
	assert.Equal(t, scene.Colour{R: 255, G: 188}, m.Lights[0].Colour)
	require.Len(t, m.Spawns, 2)
	assert.Equal(t, []any{"blue_1_002", "blue", 90.0}, []any{m.Spawns[0].Name, m.Spawns[0].Team, m.Spawns[0].Facing})
	assert.Equal(t, []any{"amber_1", "amber", 0.0}, []any{m.Spawns[1].Name, m.Spawns[1].Team, m.Spawns[1].Facing})
	require.Len(t, m.Items, 1)
	assert.Equal(t, "winch", m.Items[0].Kind)
	var pairs []string
	for _, p := range m.Items[0].Pairs {
		pairs = append(pairs, p.Key+"="+p.Value)
	}
	assert.Equal(t, "open=yes path=1,2,3 rank=2", strings.Join(pairs, " "))
	require.Len(t, m.Cameras, 1)
	assert.Equal(t, -10.0, m.Cameras[0].At.Y)
	assert.Equal(t, 0.0, m.Cameras[0].Look.Y, "it looks along its -Z, to the north")
	assert.InDelta(t, 72.7, m.Cameras[0].FOV, 0.1, "vertical becomes horizontal")
	assert.Equal(t, [4]float64{-20, -12, 20, -8},
		[4]float64{m.Volumes[0].Box.Min.X, m.Volumes[0].Box.Min.Z, m.Volumes[0].Box.Max.X, m.Volumes[0].Box.Max.Z})
}

func TestScenesOfAnotherExporter(t *testing.T) {
	g, text := strips()
	gltftest.Validate(t, g.JSON(text))
	m := read(t, "strips.gltf", g.JSON(text))
	assert.Equal(t, []string{"m", "Strips"}, []string{m.Name, m.Title})
	require.Len(t, m.Props, 1, "what is no closed convex mesh is a prop")
	assert.False(t, m.Props[0].Solid)
	assert.Equal(t, 1, len(m.Props[0].Shape.Meshes))
	assert.Equal(t, 2, m.Props[0].Shape.Triangles(), "a strip of four corners")
	require.Len(t, m.Solids, 1)
	assert.Equal(t, "light_crag", m.Solids[0].Name, "a mesh is no light, whatever it is called")
	assert.Equal(t, 6.0, m.Solids[0].Box.Max.X-m.Solids[0].Box.Min.X)
	for _, f := range m.Solids[0].Faces {
		assert.Positive(t, f.Plane.N.Dot(f.Polygon.Middle().Sub(m.Solids[0].Box.Middle())),
			"a mirrored solid looks outward")
	}
	assert.Equal(t, 10.0, m.Spawns[0].Facing, "an extra takes precedence over the node's rotation")
}

func TestSceneMistakes(t *testing.T) {
	for _, c := range []struct{ nodes, id, text string }{
		{`{"name":"spawn_a","extras":{"team":"Blue Team"}}`, "map.syntax",
			`node "spawn_a": expected a name of small letters`},
		{`{"name":"solid_a"}`, "map.syntax", "has no mesh"},
		{`{"name":"x","extras":{"record":"spwan"}}`, "map.syntax", `says "spwan"`},
		{`{"name":"light_a"}`, "map.syntax", "power= is missing"},
		{`{"name":"detail_a","mesh":0}`, "solid.flat", "is not closed"},
		{`{"name":"a","mesh":1}`, "material.missing", "no material"},
		{`{"name":"sound_a","extras":{"file":"/abs/olute"}}`, "reference.absolute", "absolute"},
		{`{"name":"volume_a","scale":[1e9,1,1],"extras":{"effect":"slow"}}`, "map.syntax", "expected the corner"},
	} {
		g := &gltftest.File{}
		p := g.Data("VEC3", 5126, 34962, 3, []float32{0, 0, 0, 2, 0, 0, 2, 0, 2}, 3)
		m, findings := maplang.Read("m.gltf",
			g.JSON(fmt.Sprintf(`"scenes":[{"nodes":[0]}],"materials":[{"name":"a"}],"meshes":[{"primitives":[{"attributes":{"POSITION":%d},"material":0}]},{"primitives":[{"attributes":{"POSITION":%d}}]}],"nodes":[%s]`, p, p, c.nodes)), maplang.Options{})
		assert.Nil(t, m)
		require.NotEmpty(t, findings, c.nodes)
		assert.Equal(t, c.id, findings[0].ID, c.nodes)
		assert.Contains(t, findings[0].Text, c.text)
	}
}

// An accessor without a buffer view is zero but for the values that it replaces, whatever was read
// before it; one that replaces a value beyond its end is refused.
func TestSparseData(t *testing.T) {
	numbers := func(first uint32) []byte {
		b := binary.LittleEndian.AppendUint32(nil, first)
		for _, f := range []float32{5, 6, 7, 1, 2, 3, 1, 2, 3} {
			b = binary.LittleEndian.AppendUint32(b, math.Float32bits(f))
		}
		return b
	}
	read := func(first uint32) (*gltf.Scene, error) {
		text := fmt.Sprintf(`{"asset":{"version":"2.0"},"buffers":[{"byteLength":40,"uri":"data:application/octet-stream;base64,%s"}],"bufferViews":[{"buffer":0,"byteLength":4},{"buffer":0,"byteOffset":4,"byteLength":36}],
			"accessors":[{"componentType":5126,"type":"VEC3","count":3,"bufferView":1},{"componentType":5126,"type":"VEC3","count":3,"sparse":{"count":1,"indices":{"bufferView":0,"componentType":5125},"values":{"bufferView":1}}}],
			"meshes":[{"primitives":[{"attributes":{"POSITION":0}},{"attributes":{"POSITION":1}}]}],"nodes":[{"mesh":0}],"scenes":[{"nodes":[0]}]}`, base64.StdEncoding.EncodeToString(numbers(first)))
		return gltf.Read("maps/a.gltf", []byte(text), nil)
	}
	scene, err := read(1)
	require.NoError(t, err)
	assert.Equal(t, []geom.Vec{{}, {X: 5, Y: -7, Z: 6}, {}}, scene.Nodes[0].Parts[1].Positions)
	_, err = read(3)
	assert.ErrorContains(t, err, "a value beyond its end")
}

// everything is a compiled map with all that a scene can hold.
func everything(t *testing.T) *mapfile.Map {
	var grey bytes.Buffer
	heights := image.NewGray(image.Rect(0, 0, 5, 4))
	for i := range heights.Pix {
		heights.Pix[i] = uint8(i * 11)
	}
	require.NoError(t, png.Encode(&grey, heights))
	g, text := strips()
	m, findings := maplang.Read("all.vnx", []byte(`map all title="All" players=1..4 modes=relay
solid a box 0,0,0 8,8,0.5 material=a
solid c cylinder 4,4,0.5 radius=1 height=2 material=b
terrain t at=-20,-20,-5 size=60,60,4 from=h.png material=a
  paint b from=h.png
light lamp point 2,2,3 colour=#ffd9a0 power=40
light beam spot 6,6,5 look=4,4,0 cone=60 power=20
light day sun 0,0,50 look=10,10,0 power=3
spawn s at=1,1,0.5 facing=30 team=blue
camera c at=-6,-8,9 look=4,4,1 fov=60
volume v box -9,-9,-9 9,9,-6 effect=remove enter=gone
probe p at=4,4,2 reach=9
sound hum at=1,2,3 file=station/hum volume=0.5 loop=yes
item winch at=7,3,0.5 facing=200 rank=2
prop one model=props/x at=2,6,0.5 turn=30 scale=0.2
prop two model=props/x at=6,2,0.5 turn=90
`), maplang.Options{Open: func(string) ([]byte, error) { return grey.Bytes(), nil }})
	require.Empty(t, findings)
	d, findings := model.Read("props/x.glb", "props/x", g.JSON(text), nil)
	require.Empty(t, findings)
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 2 }, Models: map[string]*model.Model{"props/x": d}})
	require.NoError(t, err)
	data, err := mapfile.Encode(r.Map)
	require.NoError(t, err)
	again, err := mapfile.Read(data)
	require.NoError(t, err)
	assert.Equal(t, r.Map, again)
	require.Len(t, r.Map.Models, 1, "a model that stands twice is stored once")
	require.Len(t, r.Map.Props, 2)
	return r.Map
}

// What is written is valid, and read back it is the same map: places, directions, powers, properties.
func TestWrittenScenes(t *testing.T) {
	m := everything(t)
	img := picture()
	data, err := gltf.Write(m, func(name string) gltf.Surface {
		return map[string]gltf.Surface{"a": {Colour: img, Normal: img, Tint: [3]float64{1, 0.5, 0.25}},
			"b": {Colour: img, Emission: img, SeeThrough: "soft", DoubleSided: true, Unlit: true}}[name]
	})
	require.NoError(t, err)
	gltftest.Validate(t, data)
	again, err := gltf.Write(m, func(name string) gltf.Surface {
		return map[string]gltf.Surface{"a": {Colour: img, Normal: img, Tint: [3]float64{1, 0.5, 0.25}},
			"b": {Colour: img, Emission: img, SeeThrough: "soft", DoubleSided: true, Unlit: true}}[name]
	})
	require.NoError(t, err)
	assert.Equal(t, data, again, "the same map, the same bytes")
	back := read(t, "all.glb", data)
	assert.Equal(t, []any{"all", "All", [2]int{1, 4}}, []any{back.Name, back.Title, back.Players})
	require.Len(t, back.Lights, 3)
	assert.InDelta(t, 40, back.Lights[0].Power, 1e-3)
	assert.Equal(t, scene.Colour{R: 255, G: 217, B: 160}, back.Lights[0].Colour)
	assert.Equal(t, "spot", back.Lights[1].Kind)
	assert.InDelta(t, 60, back.Lights[1].Cone, 1e-3)
	aim, was := back.Lights[1].Look.Sub(back.Lights[1].At), [3]float64{-2, -2, -5}
	assert.InDelta(t, math.Sqrt(33)*10, aim.X*was[0]+aim.Y*was[1]+aim.Z*was[2], 1e-3, "aimed the same way")
	assert.Equal(t, "sun", back.Lights[2].Kind)
	assert.InDelta(t, 3, back.Lights[2].Power, 1e-3)
	assert.Equal(t, []any{"s", "blue", 30.0},
		[]any{back.Spawns[0].Name, back.Spawns[0].Team, math.Round(back.Spawns[0].Facing*1e3) / 1e3})
	assert.InDelta(t, 60, back.Cameras[0].FOV, 1e-3)
	assert.Equal(t, 4.0, back.Cameras[0].Look.X)
	assert.Equal(t, -6.0, back.Volumes[0].Box.Max.Z)
	assert.Equal(t, "gone", back.Volumes[0].Enter)
	assert.Equal(t, 9.0, back.Probes[0].Reach)
	assert.True(t, back.Sounds[0].Loop)
	assert.Equal(t, "2", back.Items[0].Pairs[0].Value)
	assert.InDelta(t, 200, back.Items[0].Facing, 1e-3)
	require.Len(t, back.Props, 1+1+2, "the surface, the terrain, two props")
	for i, p := range m.Props { // each where its matrix puts the corners of the model
		var corners geom.Polygon
		for _, mesh := range m.Models[p.Model].Meshes {
			for _, v := range m.Vertices[mesh.FirstVertex : mesh.FirstVertex+mesh.Vertices] {
				var at geom.Vec
				for k, row := range p.Rows {
					at = at.With(k, float64(row[0]*v.Position[0]+row[1]*v.Position[1]+row[2]*v.Position[2]+row[3]))
				}
				corners = append(corners, at)
			}
		}
		want, got := corners.Box(), back.Props[2+i].Shape.Box
		assert.InDelta(t, 0, want.Min.Sub(got.Min).Length()+want.Max.Sub(got.Max).Length(), 1e-4)
	}
}

func TestTheDemoAsScenes(t *testing.T) {
	p := demotest.Project(t, "highline")
	data, err := os.ReadFile(p.Join("maps/cairn_station.vnx"))
	require.NoError(t, err)
	m, findings := maplang.Read("maps/cairn_station.vnx", data,
		maplang.Options{Open: func(name string) ([]byte, error) { return os.ReadFile(p.Join(name)) }})
	require.Empty(t, findings)
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 2 }})
	require.NoError(t, err)
	scene, err := gltf.Write(r.Map, nil)
	require.NoError(t, err)
	gltftest.Validate(t, scene)
}

// Any bytes end in a scene or an error, and what is read can be made a map of without a crash.
func FuzzScenes(f *testing.F) {
	for _, make := range []func() (*gltftest.File, string){blocky, strips} {
		g, text := make()
		f.Add(g.JSON(text))
		f.Add(g.Binary(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := gltf.Read("a.glb", data, nil); err != nil {
			return
		}
		m, _ := maplang.Read("a.glb", data, maplang.Options{})
		if m != nil && len(m.Solids) < 20 {
			if _, err := compile.Compile(context.Background(), m,
				compile.Options{MaterialSize: func(string) float64 { return 2 }}); err != nil {
				t.Fatal(err)
			}
		}
		model.Read("a.glb", "a", data, nil)
	})
}

// Whatever stands in the extras and the name of a node and of the scene: a map, or findings that can be shown.
func FuzzExtras(f *testing.F) {
	f.Add("spawn_blue", `{"team":"blue","someday":{"x":1}}`, `{"title":"Hut","players":"1..2"}`)
	f.Add("item_winch.003", `{"rank":2,"open":true,"path":[1,2,3]}`, `{"modes":["relay"]}`)
	f.Add("any", `{"record":"light","power":1e3,"colour":"#ffffff"}`, `null`)
	f.Add("any", `{"record":"volume","kind":"water"}`, `[]`)
	g, text := blocky()
	whole := string(g.JSON(text))
	f.Fuzz(func(t *testing.T, name, node, scene string) {
		quoted, err := json.Marshal(name)
		if err != nil || !json.Valid([]byte(node)) || !json.Valid([]byte(scene)) {
			return
		}
		data := strings.Replace(whole, `"name":"item_winch.003"`, `"name":`+string(quoted), 1)
		data = strings.Replace(data, `{"rank":2,"open":true,"path":[1,2,3]}`, node, 1)
		data = strings.Replace(data, `{"title":"Hut","players":"1..2","modes":["relay","dash"]}`, scene, 1)
		m, findings := maplang.Read("maps/hut.gltf", []byte(data), maplang.Options{})
		if (m == nil) == (finding.Count(findings, finding.Error) == 0) {
			t.Fatalf("a map and findings: %v", findings)
		}
		for _, x := range findings {
			if x.Text == "" || x.Place.File == "" {
				t.Fatalf("odd finding: %+v", x)
			}
		}
	})
}

func picture() image.Image {
	img := image.NewNRGBA(image.Rect(0, 0, 8, 8))
	for i := range 64 {
		img.SetNRGBA(i%8, i/8, color.NRGBA{uint8(i * 4), 90, 200, 255})
	}
	return img
}
