package texture_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
	"vornix/internal/peer"
)

func TestContainersKeepEverything(t *testing.T) {
	containers := []texture.Container{{Name: "ktx2"}, {Name: "ktx2", Zstd: true}, {Name: "dds"},
		{Name: "dds", Plain: true}}
	for name, img := range pictures {
		for _, format := range every() {
			for _, srgb := range []bool{true, false} {
				if srgb && format.HoldsData() {
					_, err := texture.Compile(context.Background(), []image.Image{img},
						texture.Options{Format: format, SRGB: true})
					assert.Error(t, err)
					continue
				}
				for i, container := range containers {
					tex := compile(t, img, texture.Options{Format: format, SRGB: srgb, Quality: bcn.Draft})
					data, err := tex.Encode(container)
					if container.Plain && (format == texture.BC6H || format == texture.BC7) {
						assert.ErrorContains(t, err, "without the DX10 header")
						continue
					}
					require.NoError(t, err)
					require.Equal(t, data, encode(t, tex, container), "the same bytes each time")
					got, err := texture.Read(data)
					require.NoError(t, err, "%s %s %v", name, format, container)
					if i == 2 && format == texture.BC1A {
						got.Format = texture.BC1A // with the DX10 header there is one number for both
					}
					if container.Plain {
						assert.Equal(t, !format.HoldsData() && !format.HoldsLight(), got.SpaceUntold)
						got.SRGB, got.SpaceUntold = tex.SRGB, false // which it can't say
					}
					require.Equal(t, tex, got, "%s %s %v", name, format, container)
					for cut := 0; cut < len(data); cut += 1 + len(data)/20 {
						_, err := texture.Read(data[:cut])
						assert.Error(t, err, "cut at %d of %d", cut, len(data))
					}
				}
			}
		}
	}
}

// Cubes and arrays keep each image in its place, in both containers, whatever the order they store levels in.
func TestCubesAndArrays(t *testing.T) {
	var six []image.Image
	for i := range 6 {
		six = append(six,
			paint(8, 8, func(x,
				y int) color.NRGBA {
				return color.NRGBA{uint8(40 * i), uint8(20 * x), uint8(20 * y), 255}
			}))
	}
	for _, shape := range []texture.Shape{texture.Cube, texture.Array} {
		for _, container := range []texture.Container{{Name: "ktx2"}, {Name: "ktx2", Zstd: true}, {Name: "dds"},
			{Name: "dds", Plain: true}} {
			tex, err := texture.Compile(context.Background(), six, texture.Options{Shape: shape})
			require.NoError(t, err)
			data, err := tex.Encode(container)
			if container.Plain && shape == texture.Array {
				assert.Error(t, err)
				continue
			}
			require.NoError(t, err)
			got, err := texture.Read(data)
			require.NoError(t, err)
			got.SpaceUntold = false
			require.Equal(t, tex, got)
			list, read, err := texture.DecodeAll(data)
			require.NoError(t, err)
			assert.Equal(t, shape, read)
			assert.Equal(t, six, list)
			assert.Equal(t, compile(t, six[4], texture.Options{}).Image(2, 0), got.Image(2, 4),
				"each image is filtered alone")
		}
	}
	for _, bad := range []struct {
		images []image.Image
		shape  texture.Shape
	}{{six[:5], texture.Cube}, {six[:2], texture.Flat}, {nil, texture.Array},
		{[]image.Image{six[0], pictures["dot"]}, texture.Array}} {
		_, err := texture.Compile(context.Background(), bad.images, texture.Options{Shape: bad.shape})
		assert.Error(t, err)
	}
	// A cross and strips of the six squares give the same cube.
	cross := image.NewNRGBA(image.Rect(0, 0, 32, 24))
	strip := image.NewNRGBA(image.Rect(0, 0, 48, 8))
	for i, at := range []image.Point{{16, 8}, {0, 8}, {8, 0}, {8, 16}, {8, 8}, {24, 8}} {
		draw.Draw(cross, image.Rect(0, 0, 8, 8).Add(at), six[i], image.Point{}, draw.Src)
		draw.Draw(strip, image.Rect(8*i, 0, 8*i+8, 8), six[i], image.Point{}, draw.Src)
	}
	for _, img := range []image.Image{cross, strip} {
		p, err := texture.PrepareImages([]image.Image{img}, texture.Recipe{Shape: texture.Cube, SRGB: true})
		require.NoError(t, err)
		assert.Equal(t, six, p.Images)
	}
	_, err := texture.PrepareImages([]image.Image{pictures["edges"]}, texture.Recipe{Shape: texture.Cube})
	assert.ErrorContains(t, err, "strip of six squares")
}

// TestBC1AgainstImageMagick lets another decoder unpack our blocks, in a DDS with the plain header, the one it reads.
func TestBC1AgainstImageMagick(t *testing.T) {
	convert := magick(t)
	for name, img := range pictures {
		tex := compile(t, img, texture.Options{Format: texture.BC1})
		dir := t.TempDir()
		require.NoError(t,
			os.WriteFile(filepath.Join(dir, "a.dds"), encode(t, tex, texture.Container{Name: "dds", Plain: true}),
				0o666))
		peer.Run(t, dir, convert, "a.dds[0]", "PNG32:a.png")
		data, err := os.ReadFile(filepath.Join(dir, "a.png"))
		require.NoError(t, err)
		ours, theirs := shown(tex), decode(t, data)
		require.Equal(t, ours.Rect, theirs.Rect, name)
		for i := range ours.Pix {
			// decoders may round thirds either way
			assert.InDelta(t, int(ours.Pix[i]), int(theirs.Pix[i]), 1, "%s: value %d", name, i)
		}
	}
}

// TestCubeAgainstImageMagick lets another reader find each face of a DDS cube with levels.
func TestCubeAgainstImageMagick(t *testing.T) {
	convert := magick(t)
	var six []image.Image
	for i := range 6 {
		six = append(six, paint(16, 16, func(x, y int) color.NRGBA { return color.NRGBA{uint8(40 * i), 10, 200, 255} }))
	}
	tex, err := texture.Compile(context.Background(), six, texture.Options{Format: texture.BC1, Shape: texture.Cube})
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "a.dds"), encode(t, tex, texture.Container{Name: "dds", Plain: true}), 0o666))
	for i := range 6 {
		peer.Run(t, dir, convert, fmt.Sprintf("a.dds[%d]", i), "PNG32:a.png")
		data, err := os.ReadFile(filepath.Join(dir, "a.png"))
		require.NoError(t, err)
		got := decode(t, data).NRGBAAt(7, 7)
		for _, d := range []int{int(got.R) - 40*i, int(got.G) - 10, int(got.B) - 200} {
			assert.LessOrEqual(t, max(d, -d), 2, "face %d: %v", i, got)
		}
	}
}

// TestDDSAgainstPillow lets another reader take our files with either header, and its decoder our blocks.
func TestDDSAgainstPillow(t *testing.T) {
	python := peer.Pillow(t)
	dir := t.TempDir()
	type sample struct {
		name  string
		ours  *image.NRGBA
		third bool // whether the third channel counts
	}
	var list []sample
	add := func(name string, img *image.NRGBA, f texture.Format, srgb, plain bool) {
		tex := compile(t, img, texture.Options{Format: f, SRGB: srgb})
		name = fmt.Sprintf("%s-%s-%v-%v", name, f, srgb, plain)
		require.NoError(t,
			os.WriteFile(filepath.Join(dir, name+".dds"), encode(t, tex, texture.Container{Name: "dds", Plain: plain}),
				0o666))
		list = append(list, sample{name, shown(tex), f != texture.BC5})
	}
	for name, img := range pictures {
		add(name, img, texture.RGBA8, true, false)
		add(name, img, texture.RGBA8, false, true)
	}
	for name, img := range map[string]*image.NRGBA{"fade": fade, "noise": pictures["noise"],
		"edges": pictures["edges"]} {
		add(name, img, texture.BC1A, false, true)
		add(name, img, texture.BC2, false, true)
		add(name, img, texture.BC3, false, true)
		add(name, img, texture.BC5, false, false)
		add(name, img, texture.BC7, true, false)
		add(name, img, texture.BC7, false, false)
	}
	peer.Run(t, dir, python, "-c", `import glob
from PIL import Image
for f in glob.glob('*.dds'):
    Image.open(f).convert('RGBA').save(f[:-4] + '.png')`)
	for _, s := range list {
		data, err := os.ReadFile(filepath.Join(dir, s.name+".png"))
		require.NoError(t, err)
		theirs := decode(t, data)
		for i := range s.ours.Pix {
			if s.ours.Pix[i|3] == 0 && i&3 != 3 || !s.third && i&3 == 2 {
				continue // what nobody sees may be any colour; of two channels the third may be anything
			}
			require.InDelta(t, int(s.ours.Pix[i]), int(theirs.Pix[i]), 1, "%s: value %d", s.name, i)
		}
	}
}

// magick returns ImageMagick's convert.
func magick(t *testing.T) string {
	t.Helper()
	path, ok := peer.ImageMagick()
	if !ok {
		peer.Missing(t, "ImageMagick")
	}
	return path
}

// TestKTX2AgainstAnotherReader holds every header field, the level index, the data format descriptor and the key/value
// data to a reader of the Khronos format from the npm registry, and packed levels to the zstd program.
func TestKTX2AgainstAnotherReader(t *testing.T) {
	node, zstd := peer.Need(t, "node"), peer.Need(t, "zstd")
	modules := filepath.Dir(peer.NodePackage(t, "ktx-parse"))
	t.Setenv("NODE_PATH", modules)
	const script = `const k = require('ktx-parse'), fs = require('fs');
console.log(JSON.stringify(fs.readdirSync('.').filter(f => f.endsWith('.ktx2')).map(f => {
 const c = k.read(fs.readFileSync(f)), d = c.dataFormatDescriptor[0];
 return {name: f, vk: c.vkFormat, type: c.typeSize, w: c.pixelWidth, h: c.pixelHeight, depth: c.pixelDepth, layers: c.layerCount, faces: c.faceCount,
 scheme: c.supercompressionScheme, levels: c.levels.map(l => [l.levelData.length, l.uncompressedByteLength, Buffer.from(l.levelData).toString('base64')]),
 model: d.colorModel, primaries: d.colorPrimaries, transfer: d.transferFunction, flags: d.flags, block: Array.from(d.texelBlockDimension), plane: Array.from(d.bytesPlane),
 samples: d.samples.map(s => [s.bitOffset, s.bitLength, s.channelType, s.sampleLower, s.sampleUpper]), kv: c.keyValue};
})));`
	type answer struct {
		Name                                                                            string
		Vk, Type, W, H, Depth, Layers, Faces, Scheme, Model, Primaries, Transfer, Flags int
		Levels                                                                          [][3]any
		Block, Plane                                                                    []int
		Samples                                                                         [][5]float64
		Kv                                                                              map[string]string
	}
	type form struct {
		images, layers, faces, scheme int
		shape                         texture.Shape
	}
	type written struct {
		form                       form
		vk, model, transfer, plane int
		samples                    [][5]float64
		tex                        *texture.Texture
	}
	// all bits; 1.0 and -1.0 as floats, which the reader takes as a whole number
	const whole, one, less = 4294967295, 1065353216, -1082130432
	dir := t.TempDir()
	files := map[string]written{}
	for _, c := range []struct {
		format                     texture.Format
		srgb                       bool
		vk, model, transfer, plane int
		samples                    [][5]float64
	}{
		{texture.RGBA8, false, 37, 1, 1, 4,
			[][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}, {16, 7, 2, 0, 255}, {24, 7, 15, 0, 255}}},
		{texture.RGBA8, true, 43, 1, 2, 4,
			[][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}, {16, 7, 2, 0, 255}, {24, 7, 31, 0, 255}}},
		{texture.RG8, false, 16, 1, 1, 2, [][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}}},
		{texture.R8, false, 9, 1, 1, 1, [][5]float64{{0, 7, 0, 0, 255}}},
		{texture.BC1, false, 131, 128, 1, 8, [][5]float64{{0, 63, 0, 0, whole}}},
		{texture.BC1, true, 132, 128, 2, 8, [][5]float64{{0, 63, 0, 0, whole}}},
		{texture.BC1A, true, 134, 128, 2, 8, [][5]float64{{0, 63, 1, 0, whole}}},
		{texture.BC2, true, 136, 129, 2, 16, [][5]float64{{0, 63, 31, 0, whole}, {64, 63, 0, 0, whole}}},
		{texture.BC3, false, 137, 130, 1, 16, [][5]float64{{0, 63, 15, 0, whole}, {64, 63, 0, 0, whole}}},
		{texture.BC4, false, 139, 131, 1, 8, [][5]float64{{0, 63, 0, 0, whole}}},
		{texture.BC5, false, 141, 132, 1, 16, [][5]float64{{0, 63, 0, 0, whole}, {64, 63, 1, 0, whole}}},
		{texture.BC6H, false, 143, 133, 1, 16, [][5]float64{{0, 127, 128, 0, one}}},
		{texture.BC7, false, 145, 134, 1, 16, [][5]float64{{0, 127, 0, 0, whole}}},
		{texture.BC7, true, 146, 134, 2, 16, [][5]float64{{0, 127, 0, 0, whole}}},
		{texture.RGBA16F, false, 97, 1, 1, 8,
			[][5]float64{{0, 15, 192, less, one}, {16, 15, 193, less, one}, {32, 15, 194, less, one},
				{48, 15, 207, less, one}}},
	} {
		for _, f := range []form{{1, 0, 1, 0, texture.Flat}, {6, 0, 6, 0, texture.Cube}, {3, 3, 1, 2, texture.Array}} {
			var images []image.Image
			for range f.images {
				images = append(images, pictures["noise"])
			}
			tex, err := texture.Compile(context.Background(), images,
				texture.Options{Format: c.format, SRGB: c.srgb, Shape: f.shape, Quality: bcn.Draft})
			require.NoError(t, err)
			name := fmt.Sprintf("%s-%v-%d.ktx2", c.format, c.srgb, f.shape)
			require.NoError(t,
				os.WriteFile(filepath.Join(dir, name),
					encode(t, tex, texture.Container{Name: "ktx2", Zstd: f.scheme == 2}), 0o666))
			files[name] = written{f, c.vk, c.model, c.transfer, c.plane, c.samples, tex}
		}
	}
	var answers []answer
	require.NoError(t, json.Unmarshal([]byte(peer.Run(t, dir, node, "-e", script)), &answers))
	require.Len(t, answers, len(files))
	for _, got := range answers {
		c := files[got.Name]
		typeSize, side := 1, 0
		if c.tex.Format == texture.RGBA16F {
			typeSize = 2
		}
		if c.model >= 128 {
			side = 3
		}
		f := c.form
		assert.Equal(t, []int{c.vk, typeSize, 32, 32, 0, f.layers, f.faces, f.scheme},
			[]int{got.Vk, got.Type, got.W, got.H, got.Depth, got.Layers, got.Faces, got.Scheme}, got.Name)
		assert.Equal(t, []int{c.model, 1, c.transfer, 0}, []int{got.Model, got.Primaries, got.Transfer, got.Flags},
			got.Name)
		assert.Equal(t, []int{side, side, 0, 0}, got.Block, got.Name)
		assert.Equal(t, []int{c.plane, 0, 0, 0, 0, 0, 0, 0}, got.Plane, got.Name)
		assert.Equal(t, c.samples, got.Samples, got.Name)
		writer := map[string]string{"KTXorientation": "rd", "KTXwriter": "vornix"}
		if f.shape == texture.Cube {
			delete(writer, "KTXorientation")
		}
		assert.Equal(t, writer, got.Kv, got.Name)
		require.Len(t, got.Levels, len(c.tex.Levels), got.Name)
		for i, l := range c.tex.Levels {
			assert.EqualValues(t, len(l), got.Levels[i][1], got.Name)
			stored, err := base64.StdEncoding.DecodeString(got.Levels[i][2].(string))
			require.NoError(t, err)
			if f.scheme == 2 {
				require.NoError(t, os.WriteFile(filepath.Join(dir, "level.zst"), stored, 0o666))
				peer.Run(t, dir, zstd, "-q", "-d", "-f", "level.zst", "-o", "level")
				stored, err = os.ReadFile(filepath.Join(dir, "level"))
				require.NoError(t, err)
			}
			assert.Equal(t, l, stored, "%s level %d", got.Name, i)
		}
	}
}

// Any bytes end in a texture or an error; one that is read decodes, and is written and read again the same.
func FuzzRead(f *testing.F) {
	for _, container := range []texture.Container{{Name: "ktx2"}, {Name: "ktx2", Zstd: true}, {Name: "dds"},
		{Name: "dds", Plain: true}} {
		for _, format := range every() {
			if data, err := compile(f, pictures["flat"],
				texture.Options{Format: format}).Encode(container); err == nil {
				f.Add(data)
			}
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		tex, err := texture.Read(data)
		if err != nil {
			return
		}
		for level := range tex.Levels {
			for i := range min(tex.Images, 4) {
				tex.Image(level, i)
			}
		}
		again, err := tex.Encode(texture.Container{Name: "ktx2"})
		if err != nil {
			t.Fatal(err)
		}
		if back, err := texture.Read(again); err != nil || back.Width != tex.Width ||
			len(back.Levels) != len(tex.Levels) || back.Images != tex.Images {
			t.Fatalf("written and read again it is another: %v", err)
		}
	})
}
