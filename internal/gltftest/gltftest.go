// Package gltftest writes glTF files by hand for tests, and checks them with a validator that is not ours.
package gltftest

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// Validate runs the Khronos glTF validator on a file. It must report no error and no warning.
func Validate(t *testing.T, data []byte) {
	t.Helper()
	node := peer.Need(t, "node")
	validator := peer.NodePackage(t, "gltf-validator")
	file := filepath.Join(t.TempDir(), "scene")
	require.NoError(t, os.WriteFile(file, data, 0o644))
	script := fmt.Sprintf(`const v = require(%q), fs = require('fs');
v.validateBytes(new Uint8Array(fs.readFileSync(%q))).then(r => console.log(JSON.stringify(r.issues)), e => { console.error(e); process.exit(1); });`, validator, file)
	out := peer.Run(t, "", node, "-e", script)
	var issues struct {
		NumErrors, NumWarnings int
		Messages               []map[string]any
	}
	require.NoError(t, json.Unmarshal([]byte(out), &issues), out)
	assert.Zero(t, issues.NumErrors+issues.NumWarnings, "%v", issues.Messages)
}

// File is a glTF file under construction: its one buffer, with the views and accessors of it.
type File struct {
	buffer    bytes.Buffer
	Views     []map[string]any
	Accessors []map[string]any
}

// Data appends values to the buffer, with a view and an accessor of count elements (glTF 2.0, 3.6). It
// returns the accessor's index.
func (g *File) Data(kind string, component int, target int, width int, values any, count int) int {
	for g.buffer.Len()%4 != 0 {
		g.buffer.WriteByte(0)
	}
	at := g.buffer.Len()
	_ = binary.Write(&g.buffer, binary.LittleEndian, values)
	g.Views = append(g.Views,
		map[string]any{"buffer": 0, "byteOffset": at, "byteLength": g.buffer.Len() - at, "target": target})
	a := map[string]any{"bufferView": len(g.Views) - 1, "componentType": component, "count": count, "type": kind}
	if list, ok := values.([]float32); ok && kind == "VEC3" {
		low, high := []float32{1e9, 1e9, 1e9}, []float32{-1e9, -1e9, -1e9}
		for i, v := range list {
			low[i%width], high[i%width] = min(low[i%width], v), max(high[i%width], v)
		}
		a["min"], a["max"] = low, high
	}
	g.Accessors = append(g.Accessors, a)
	return len(g.Accessors) - 1
}

// Cube gives accessors of a box of the size, eight corners and twelve triangles, without normals.
func (g *File) Cube(x, y, z float32) (positions, indices int) {
	var list []float32
	for i := range 8 {
		for k, s := range []float32{x, y, z} {
			list = append(list, s*float32(i>>k&1*2-1)/2)
		}
	}
	order := []uint16{0, 2, 3, 0, 3, 1, 4, 5, 7, 4, 7, 6, 0, 1, 5, 0, 5, 4, 2, 6, 7, 2, 7, 3, 0, 4, 6, 0, 6, 2, 1, 3, 7,
		1, 7, 5}
	return g.Data("VEC3", 5126, 34962, 3, list, 8), g.Data("SCALAR", 5123, 34963, 1, order, 36)
}

// JSON returns the file as text, with its buffer inside; rest is the other members of the root object.
func (g *File) JSON(rest string) []byte {
	views, _ := json.Marshal(g.Views)
	accessors, _ := json.Marshal(g.Accessors)
	return fmt.Appendf(nil,
		`{"asset":{"version":"2.0"},"scene":0,%s,"bufferViews":%s,"accessors":%s,"buffers":[{"byteLength":%d,"uri":"data:application/octet-stream;base64,%s"}]}`,
		rest, views, accessors, g.buffer.Len(), base64.StdEncoding.EncodeToString(g.buffer.Bytes()))
}

// Binary makes a GLB of a scene.
func (g *File) Binary(rest string) []byte {
	views, _ := json.Marshal(g.Views)
	accessors, _ := json.Marshal(g.Accessors)
	text := fmt.Appendf(nil,
		`{"asset":{"version":"2.0"},"scene":0,%s,"bufferViews":%s,"accessors":%s,"buffers":[{"byteLength":%d}]}`, rest,
		views, accessors, g.buffer.Len())
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	body := g.buffer.Bytes()
	for len(body)%4 != 0 {
		body = append(body, 0)
	}
	le := binary.LittleEndian
	out := le.AppendUint32([]byte("glTF"), 2)
	out = le.AppendUint32(out, uint32(12+8+len(text)+8+len(body)))
	out = append(le.AppendUint32(le.AppendUint32(out, uint32(len(text))), 0x4e4f534a), text...)
	return append(le.AppendUint32(le.AppendUint32(out, uint32(len(body))), 0x004e4942), body...)
}
