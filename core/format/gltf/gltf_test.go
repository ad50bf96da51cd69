package gltf_test

import (
	"encoding/base64"
	"fmt"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/format/gltf"
	"vornix/core/format/model"
	"vornix/internal/gltftest"
)

// Files that claim what they don't have end in an error, quickly.
func TestHostileScenes(t *testing.T) {
	for text, want := range map[string]string{
		"": "not a glTF scene", "{}": "version", "glTF": "cut short", "nonsense": "not a glTF scene",
		`{"asset":{"version":"1.0"}}`: "version",
		`{"asset":{"version":"2.0"},"extensionsRequired":["KHR_draco_mesh_compression"]}`:                                         "KHR_draco",
		`{"asset":{"version":"2.0"},"buffers":[{"byteLength":99999999999999}]}`:                                                   "impossible size",
		`{"asset":{"version":"2.0"},"accessors":[{"count":999999999999,"componentType":5126,"type":"VEC3"}]}`:                     "more points",
		`{"asset":{"version":"2.0"},"scenes":[{"nodes":[0]}],"nodes":[{"children":[0]}]}`:                                         "circle",
		`{"asset":{"version":"2.0"},"scenes":[{"nodes":[7]}]}`:                                                                    "does not exist",
		`{"asset":{"version":"2.0"},"scenes":[{"nodes":[0]}],"nodes":[{"mesh":3}]}`:                                               "does not exist",
		`{"asset":{"version":"2.0"},"scenes":[{"nodes":[0]}],"nodes":[{"translation":[1e400,0,0]}]}`:                              "",
		`{"asset":{"version":"2.0"},"scenes":[{"nodes":[0]}],"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{}}]}]}`: "no positions",
		`{"asset":{"version":"2.0"},"buffers":[{"byteLength":4,"uri":"../../etc/passwd"}]}`:                                       "",
	} {
		_, err := gltf.Read("maps/a.gltf", []byte(text), func(string) ([]byte, error) { return nil, fs.ErrNotExist })
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
}

// What the library would index without looking, or take for an object: an error in words, and no panic.
func TestDataThatIsNotThere(t *testing.T) {
	scene := func(accessor, view, more string) error {
		text := fmt.Sprintf(`{"asset":{"version":"2.0"},"buffers":[{"byteLength":48,"uri":"data:application/octet-stream;base64,%s"}],"bufferViews":[{"buffer":0,"byteLength":48%s},{"buffer":0,"byteLength":48}],
			"accessors":[{"componentType":5126,"type":"VEC3","count":3%s}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"nodes":[{"mesh":0}],"scenes":[{"nodes":[0]}]%s}`,
			base64.StdEncoding.EncodeToString(make([]byte, 48)), view, accessor, more)
		_, err := gltf.Read("maps/a.gltf", []byte(text), nil)
		return err
	}
	require.NoError(t, scene(`,"bufferView":0`, "", ""))
	require.NoError(t, scene(`,"bufferView":0`, "", `,"extras":{"list":[null,{"x":[null]}]}`))
	for _, c := range []struct{ accessor, view, more, want string }{
		{`,"bufferView":-1`, "", "", "buffer view that does not exist"},
		{`,"bufferView":2`, "", "", "buffer view that does not exist"},
		{`,"bufferView":0,"byteOffset":-4`, "", "", "it claims"},
		{`,"bufferView":0,"byteOffset":49`, "", "", "cut short"},
		{`,"bufferView":0,"byteOffset":9223372036854775807`, "", "", "it claims"},
		{`,"bufferView":0`, `,"byteOffset":-1`, "", "it claims"},
		{`,"bufferView":0`, `,"byteOffset":4`, "", "cut short"},
		{`,"bufferView":0`, `,"byteStride":-12`, "", "it claims"},
		{`,"bufferView":0`, `,"byteStride":4`, "", "overlap"},
		{`,"bufferView":0`, `,"byteStride":24`, "", "cut short"},
		{`,"sparse":{"count":1,"indices":{"bufferView":0,"componentType":5125},"values":{"bufferView":7}}`, "", "",
			"buffer view that does not exist"},
		{`,"sparse":{"count":4,"indices":{"bufferView":0,"componentType":5125},"values":{"bufferView":1}}`, "", "",
			"more points"},
		{`,"bufferView":0`, "", `,"accessors":[null]`, "null"},
		{`,"bufferView":0`, "", `,"materials":[null]`, "null"},
		{`,"bufferView":0`, "", `,"meshes":[{"primitives":[null]}]`, "null"},
		{`,"bufferView":0`, "", `,"extensions":{"KHR_lights_punctual":{"lights":[null]}}`, "null"},
		{`,"bufferView":0`, "", `,"x":` + strings.Repeat("[", 300) + strings.Repeat("]", 300), "nested"},
	} {
		assert.ErrorContains(t, scene(c.accessor, c.view, c.more), c.want, "%v", c)
	}
}

// What a model's file can say besides its shape: a mesh to bump into, images that nobody uses, and what it lacks.
func TestModelFiles(t *testing.T) {
	file := func(materials, nodes, more string) (*model.Model, []finding.Finding) {
		g := &gltftest.File{}
		p, i := g.Cube(2, 2, 2)
		text := fmt.Sprintf(`"scenes":[{"nodes":[0,1]}],"materials":[%s],"meshes":[{"primitives":[{"attributes":{"POSITION":%d},"indices":%d,"material":0}]},{"primitives":[{"attributes":{"POSITION":%d},"indices":%d}]}],"nodes":[%s]%s`, materials, p, i, p, i, nodes, more)
		return model.Read("models/x.glb", "x", g.Binary(text), nil)
	}
	m, findings := file(`{"name":"wood/plank"}`,
		`{"name":"crate","mesh":0},{"name":"Collision.001","mesh":1,"scale":[1,0.5,1]}`, "")
	require.Empty(t, findings)
	assert.True(t, m.Named)
	assert.Equal(t, 12, m.Triangles(), "the mesh to bump into is not drawn")
	require.Len(t, m.Collision, 1)
	low, high := 1e9, -1e9
	for _, f := range m.Collision[0] {
		for _, v := range f {
			low, high = min(low, v.Z), max(high, v.Z)
		}
	}
	assert.Equal(t, [2]float64{-0.5, 0.5}, [2]float64{low, high}, "as it is scaled: glTF's Y is up")
	m, _ = file(`{"name":"wood/plank"}`, `{"name":"crate","mesh":0},{"name":"other"}`,
		`,"images":[{"name":"bark","uri":"data:image/png;base64,AAAA"}]`)
	assert.Equal(t, []string{"bark"}, m.Images)
	assert.Len(t, m.Collision[0], 6, "a box is a box")
	m, findings = file(`{"name":"wood/plank"}`, `{"name":"crate","mesh":1},{"name":"other"}`, "")
	assert.Nil(t, m)
	assert.Equal(t, "model.material", findings[0].ID)
	assert.Contains(t, findings[0].Text, "12 of its 12 triangles have no material")
	m, findings = file(`{"name":"wood/plank.png"}`, `{"name":"crate","mesh":0},{"name":"other"}`, "")
	assert.Nil(t, m)
	assert.Equal(t, "reference.ending", findings[0].ID)
	m, findings = file(`{"name":"a"}`, `{"name":"crate","mesh":0,"scale":[1,1e9,1]},{"name":"other"}`, "")
	assert.Nil(t, m)
	assert.Equal(t, "map.huge", findings[0].ID, "what no 32-bit coordinate can hold")
	m, findings = file(`{"name":"a"}`, `{"name":"empty"},{"name":"other"}`, "")
	assert.Nil(t, m)
	assert.Contains(t, findings[0].Text, "no triangles")
}

// Any bytes end in a scene or an error, as text and as binary.
func FuzzRead(f *testing.F) {
	g := &gltftest.File{}
	p, i := g.Cube(1, 2, 3)
	rest := fmt.Sprintf(`"scenes":[{"nodes":[0]}],"meshes":[{"primitives":[{"attributes":{"POSITION":%d},"indices":%d}]}],"nodes":[{"mesh":0}]`, p, i)
	f.Add(g.Binary(rest), "a.glb")
	f.Add(g.JSON(rest), "a.gltf")
	f.Fuzz(func(t *testing.T, data []byte, name string) {
		scene, err := gltf.Read(name, data, nil)
		if err == nil && scene == nil {
			t.Fatal("neither a scene nor an error")
		}
	})
}
