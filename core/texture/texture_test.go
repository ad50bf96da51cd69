package texture_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/texture"
	"vornix/internal/peer"
)

// paint makes an image of a function.
func paint(w, h int, f func(x, y int) color.NRGBA) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetNRGBA(x, y, f(x, y))
		}
	}
	return img
}

func scramble(x, y int) uint32 {
	h := uint32(x)*0x9e3779b1 ^ uint32(y)*0x85ebca6b
	h ^= h >> 15
	h *= 0x2c1b3c6d
	return h ^ h>>13
}

// The pictures that formats are tried on: smooth, hard, noisy, one colour, odd sizes.
var pictures = map[string]*image.NRGBA{
	"gradient": paint(64, 64, func(x, y int) color.NRGBA {
		return color.NRGBA{uint8(x * 4), uint8(y * 4), uint8(255 - x*2 - y*2), 255}
	}),
	"edges": paint(60, 36, func(x, y int) color.NRGBA {
		if (x/5+y/7)%2 == 0 {
			return color.NRGBA{230, 40, 20, 255}
		}
		return color.NRGBA{10, 60, 200, 255}
	}),
	"noise": paint(32, 32, func(x, y int) color.NRGBA {
		h := scramble(x, y)
		return color.NRGBA{uint8(h), uint8(h >> 8), uint8(h >> 16), 255}
	}),
	"flat": paint(17, 5, func(x, y int) color.NRGBA { return color.NRGBA{201, 133, 77, 255} }),
	"dot":  paint(1, 1, func(x, y int) color.NRGBA { return color.NRGBA{1, 2, 3, 255} }),
	"grey": paint(40, 8, func(x, y int) color.NRGBA { v := uint8(x*6 + y); return color.NRGBA{v, v, v, 255} }),
}

func compile(t testing.TB, img *image.NRGBA, o texture.Options) *texture.Texture {
	t.Helper()
	tex, err := texture.Compile(context.Background(), img, o)
	require.NoError(t, err)
	return tex
}

// squared is the mean squared error of the colours, in 8-bit steps.
func squared(a, b *image.NRGBA) float64 {
	sum := 0.0
	w, h := a.Rect.Dx(), a.Rect.Dy()
	for y := range h {
		for x := range w {
			p, q := a.NRGBAAt(x, y), b.NRGBAAt(x, y)
			for _, d := range []int{int(p.R) - int(q.R), int(p.G) - int(q.G), int(p.B) - int(q.B)} {
				sum += float64(d * d)
			}
		}
	}
	return sum / float64(3*w*h)
}

// every lists all formats.
func every() []texture.Format {
	var list []texture.Format
	for _, name := range texture.FormatNames() {
		f, _ := texture.ParseFormat(name)
		list = append(list, f)
	}
	return list
}

func TestContainersKeepEverything(t *testing.T) {
	for name, img := range pictures {
		for _, format := range every() {
			for _, srgb := range []bool{true, false} {
				if srgb && format.HoldsData() {
					_, err := texture.Compile(context.Background(), img, texture.Options{Format: format, SRGB: true})
					assert.Error(t, err)
					continue
				}
				for _, container := range []string{"ktx2", "dds"} {
					tex := compile(t, img, texture.Options{Format: format, SRGB: srgb, Mips: true})
					data, err := tex.Encode(container)
					require.NoError(t, err)
					got, err := texture.Read(data)
					require.NoError(t, err, "%s %s %s", name, format, container)
					if container == "dds" && format == texture.BC1A {
						got.Format = texture.BC1A // DDS has one number for both
					}
					assert.Equal(t, tex, got, "%s %s %s", name, format, container)
					for cut := 0; cut < len(data); cut += 1 + len(data)/20 {
						_, err := texture.Read(data[:cut])
						assert.Error(t, err, "cut at %d of %d", cut, len(data))
					}
				}
			}
		}
	}
}

// fade has alpha of all kinds over colours.
var fade = paint(32, 32, func(x, y int) color.NRGBA {
	switch {
	case x < 8:
		return color.NRGBA{uint8(y * 8), 90, 200, 255}
	case x < 16:
		return color.NRGBA{10, 200, 30, 0}
	}
	return color.NRGBA{uint8(x * 7), uint8(y * 7), 60, uint8((x-16)*16 + y/4)}
})

// Each format keeps what it says it keeps, within the error that its bits allow, and nothing else.
func TestFormatsKeepWhatTheySay(t *testing.T) {
	channel := func(img *image.NRGBA, k int, reference *image.NRGBA) (worst, mean float64) {
		for i := k; i < len(img.Pix); i += 4 {
			d := math.Abs(float64(img.Pix[i]) - float64(reference.Pix[i]))
			worst, mean = max(worst, d), mean+d
		}
		return worst, mean / float64(len(img.Pix)/4)
	}
	get := func(f texture.Format, img *image.NRGBA) *image.NRGBA {
		return compile(t, img, texture.Options{Format: f}).Image(0)
	}
	for f, limit := range map[texture.Format]float64{texture.BC2: 9, texture.BC3: 8, texture.RGBA8: 0} {
		worst, mean := channel(get(f, fade), 3, fade)
		assert.LessOrEqual(t, worst, limit, f)
		assert.LessOrEqual(t, mean, limit/4, f)
	}
	cut := get(texture.BC1A, fade)
	for i := 3; i < len(cut.Pix); i += 4 {
		want := uint8(0)
		if fade.Pix[i] >= 128 {
			want = 255
		}
		require.Equal(t, want, cut.Pix[i])
	}
	for _, f := range []texture.Format{texture.R8, texture.BC4} {
		worst, mean := channel(get(f, pictures["noise"]), 0, pictures["noise"])
		limits := map[texture.Format][2]float64{texture.R8: {0, 0}, texture.BC4: {19, 8}}[f]
		assert.LessOrEqual(t, worst, limits[0], f)
		assert.LessOrEqual(t, mean, limits[1], f)
	}
	for _, f := range []texture.Format{texture.RG8, texture.BC5} {
		for k := range 2 {
			worst, _ := channel(get(f, pictures["gradient"]), k, pictures["gradient"])
			assert.LessOrEqual(t, worst, map[texture.Format]float64{texture.RG8: 0, texture.BC5: 1}[f], f)
		}
	}
	// A block whose texels are 0, 255 and a narrow band needs the mode with both ends given.
	spots := paint(4, 4, func(x, y int) color.NRGBA { return color.NRGBA{[]uint8{0, 255, 100, 104}[x], 0, 0, 255} })
	worst, _ := channel(get(texture.BC4, spots), 0, spots)
	assert.LessOrEqual(t, worst, 1.0)
}

func TestTheFormatThatLosesLeastIsChosen(t *testing.T) {
	grey := pictures["grey"]
	oneBit := paint(8, 8, func(x, y int) color.NRGBA { return color.NRGBA{200, 10, 10, uint8(x % 2 * 255)} })
	for _, c := range []struct {
		img     *image.NRGBA
		srgb    bool
		allowed []texture.Format
		want    texture.Format
		loss    texture.Loss
	}{
		{pictures["edges"], true, every(), texture.BC1, texture.Loss{}},
		{oneBit, true, every(), texture.BC1A, texture.Loss{}},
		{fade, true, every(), texture.BC3, texture.Loss{}},
		{fade, true, []texture.Format{texture.RGBA8, texture.BC1}, texture.RGBA8, texture.Loss{}},
		{oneBit, true, []texture.Format{texture.BC1}, texture.BC1, texture.Loss{Alpha: 32}},
		{fade, true, []texture.Format{texture.BC1, texture.BC1A}, texture.BC1A, texture.Loss{Alpha: texture.Analyse(fade).Soft}},
		{grey, false, []texture.Format{texture.BC4, texture.RGBA8}, texture.BC4, texture.Loss{}},
		{grey, true, []texture.Format{texture.BC4, texture.RGBA8}, texture.RGBA8, texture.Loss{}},
		{pictures["edges"], false, []texture.Format{texture.R8}, texture.R8, texture.Loss{Colour: 60 * 36}},
	} {
		got, loss := texture.Choose(texture.Analyse(c.img), c.srgb, c.allowed)
		assert.Equal(t, c.want, got)
		assert.Equal(t, c.loss, loss)
	}
}

func TestMipSizesAndCounts(t *testing.T) {
	for _, c := range []struct{ w, h, levels int }{{1, 1, 1}, {2, 2, 2}, {16, 4, 5}, {17, 5, 5}, {60, 36, 6}, {1, 33, 6}} {
		tex := compile(t, image.NewNRGBA(image.Rect(0, 0, c.w, c.h)), texture.Options{Mips: true})
		assert.Len(t, tex.Levels, c.levels, "%d x %d", c.w, c.h)
		w, h := tex.LevelBounds(c.levels - 1)
		assert.Equal(t, []int{1, 1}, []int{w, h})
		assert.Len(t, compile(t, image.NewNRGBA(image.Rect(0, 0, c.w, c.h)), texture.Options{}).Levels, 1)
	}
}

// toLinear is the sRGB transfer function, written anew from IEC 61966-2-1.
func toLinear(v uint8) float64 {
	c := float64(v) / 255
	if c <= 0.04045 {
		return c / 12.92
	}
	return math.Pow((c+0.055)/1.055, 2.4)
}

// A checkerboard of black and white must stay as bright as it looks: half the light is sRGB 188, not 128.
func TestMipsAreFilteredInLinearLight(t *testing.T) {
	board := paint(64, 64, func(x, y int) color.NRGBA {
		v := uint8((x + y) % 2 * 255)
		return color.NRGBA{v, v, v, 255}
	})
	last := func(srgb bool) uint8 {
		tex := compile(t, board, texture.Options{SRGB: srgb, Mips: true})
		return tex.Image(len(tex.Levels)-1).NRGBAAt(0, 0).G
	}
	assert.EqualValues(t, 188, last(true))
	assert.EqualValues(t, 128, last(false))

	// The mean light of every level of a noisy picture is the mean light of the picture, to a quarter of an 8-bit step.
	tex := compile(t, pictures["noise"], texture.Options{SRGB: true, Mips: true})
	mean := func(img *image.NRGBA) float64 {
		sum := 0.0
		for i := 0; i < len(img.Pix); i += 4 {
			sum += toLinear(img.Pix[i])
		}
		return sum / float64(len(img.Pix)/4)
	}
	want := mean(pictures["noise"])
	for level := range len(tex.Levels) - 2 { // the last ones have too few texels to hide rounding
		assert.InDelta(t, want, mean(tex.Image(level)), 0.004, "level %d", level)
	}
}

func TestSeeThroughColoursDoNotBleedIn(t *testing.T) {
	img := paint(8, 8, func(x, y int) color.NRGBA {
		if x%2 == 0 {
			return color.NRGBA{200, 100, 50, 255}
		}
		return color.NRGBA{0, 255, 0, 0} // green that nobody may ever see
	})
	tex := compile(t, img, texture.Options{SRGB: true, Mips: true})
	got := tex.Image(1).NRGBAAt(1, 1)
	assert.Equal(t, color.NRGBA{200, 100, 50, 128}, got)
}

// Odd sizes are filtered by area: a level's total is that of the one before.
func TestOddSizesKeepTheirWeight(t *testing.T) {
	img := paint(5, 1, func(x, y int) color.NRGBA {
		if x == 2 {
			return color.NRGBA{255, 255, 255, 255}
		}
		return color.NRGBA{0, 0, 0, 255}
	})
	tex := compile(t, img, texture.Options{Mips: true})
	half := tex.Image(1)
	assert.Equal(t, half.NRGBAAt(0, 0), half.NRGBAAt(1, 0), "the middle texel falls to both sides alike")
	assert.EqualValues(t, 51, half.NRGBAAt(0, 0).R, "a fifth of white")
}

func TestResize(t *testing.T) {
	img := pictures["noise"]
	assert.Equal(t, img.Pix, texture.Resize(img, 32, 32, true).Pix, "to its own size: nothing changes")
	flat := pictures["flat"]
	for _, size := range [][2]int{{1, 1}, {64, 64}, {3, 100}, {200, 2}} {
		got := texture.Resize(flat, size[0], size[1], true)
		assert.Equal(t, image.Rect(0, 0, size[0], size[1]), got.Rect)
		for i := range got.Pix {
			require.Equal(t, flat.Pix[i%4], got.Pix[i], "one colour stays that colour")
		}
	}
	ramp := paint(2, 1, func(x, y int) color.NRGBA { v := uint8(x * 240); return color.NRGBA{v, v, v, 255} })
	var row []uint8
	for x := range 8 {
		row = append(row, texture.Resize(ramp, 8, 1, false).NRGBAAt(x, 0).R)
	}
	assert.Equal(t, []uint8{0, 0, 30, 90, 150, 210, 240, 240}, row, "between the middles of the two")
	mirrored := paint(32, 32, func(x, y int) color.NRGBA { return img.NRGBAAt(31-x, y) })
	a, b := texture.Resize(img, 45, 19, true), texture.Resize(mirrored, 45, 19, true)
	for y := range 19 {
		for x := range 45 {
			require.Equal(t, a.NRGBAAt(x, y), b.NRGBAAt(44-x, y), "left and right are treated alike")
		}
	}
}

func TestBC1IsGoodAndExactWhereItCanBe(t *testing.T) {
	limits := map[string]float64{"gradient": 9, "edges": 4, "noise": 2800, "flat": 1, "dot": 1, "grey": 6}
	for name, img := range pictures {
		tex := compile(t, img, texture.Options{Format: texture.BC1})
		assert.LessOrEqual(t, squared(img, tex.Image(0)), limits[name], name)
	}
	// Every colour that 5, 6 and 5 bits can say comes back exactly, and a block of two such colours too.
	for v := range 32 {
		c := color.NRGBA{uint8(v<<3 | v>>2), uint8(v*2<<2 | v*2>>4), uint8((31-v)<<3 | (31-v)>>2), 255}
		img := paint(4, 4, func(x, y int) color.NRGBA {
			if x > y {
				return color.NRGBA{0, 0, 0, 255}
			}
			return c
		})
		assert.Zero(t, squared(img, compile(t, img, texture.Options{Format: texture.BC1}).Image(0)), "%v", c)
	}
}

// On sampled blocks the encoder is near the best pair of colours that a wide search finds.
func TestBC1IsNearTheBestOfAWideSearch(t *testing.T) {
	var ours, best float64
	for i := range 12 {
		img := paint(4, 4, func(x, y int) color.NRGBA {
			h := scramble(x/2+i*10, y/2)
			s := int(scramble(x+i*99, y) % 24)
			return color.NRGBA{uint8(60 + int(h%90) + s), uint8(50 + int(h>>8%90) + s), uint8(40 + int(h>>16%90) + s), 255}
		})
		tex := compile(t, img, texture.Options{Format: texture.BC1})
		ours += squared(img, tex.Image(0))
		best += search(img, tex.Levels[0])
	}
	loss := 10 * math.Log10(ours/best)
	t.Logf("%.2f dB behind the search", loss)
	assert.Less(t, loss, 0.3)
}

// search climbs from a block's two colours and returns the error it ends at.
func search(img *image.NRGBA, block []byte) float64 {
	le := binary.LittleEndian
	at := func(c0, c1 uint16) float64 {
		if c0 < c1 {
			c0, c1 = c1, c0
		}
		best := math.Inf(1)
		b := le.AppendUint16(le.AppendUint16(nil, c0), c1)
		choices := uint32(0)
		colours := decodeColours(c0, c1)
		for i := range 16 {
			p := img.NRGBAAt(i%4, i/4)
			least := math.Inf(1)
			for j, c := range colours {
				d := 0.0
				for k, v := range []uint8{p.R, p.G, p.B} {
					d += (float64(v) - c[k]) * (float64(v) - c[k])
				}
				if d < least {
					least = d
					choices = choices&^(3<<(2*i)) | uint32(j)<<(2*i)
				}
			}
		}
		tex := &texture.Texture{Format: texture.BC1, Width: 4, Height: 4, Levels: [][]byte{le.AppendUint32(b, choices)}}
		return min(best, squared(img, tex.Image(0)))
	}
	c0, c1 := le.Uint16(block), le.Uint16(block[2:])
	best := at(c0, c1)
	for step := range 4000 { // climb by random changes of all six values at once
		h0, h1 := scramble(step, 1), scramble(step, 2)
		n0, n1 := vary(c0, h0), vary(c1, h1)
		if e := at(n0, n1); e < best {
			best, c0, c1 = e, n0, n1
		}
	}
	return best
}

// vary moves each channel of a packed colour by up to three steps.
func vary(c uint16, h uint32) uint16 {
	out := uint16(0)
	for i, shift := range []uint{11, 5, 0} {
		mask := []int{31, 63, 31}[i]
		v := int(c>>shift)&mask + int(h>>(8*i)%7) - 3
		out |= uint16(min(max(v, 0), mask)) << shift
	}
	return out
}

func decodeColours(c0, c1 uint16) [4][3]float64 {
	full := func(c uint16) [3]float64 {
		r, g, b := c>>11, c>>5&63, c&31
		return [3]float64{float64(r<<3 | r>>2), float64(g<<2 | g>>4), float64(b<<3 | b>>2)}
	}
	a, b := full(c0), full(c1)
	out := [4][3]float64{a, b}
	for k := range 3 {
		out[2][k], out[3][k] = (2*a[k]+b[k])/3, (a[k]+2*b[k])/3
	}
	return out
}

// TestBC1AgainstImageMagick lets another decoder unpack our blocks (in a DDS with the old header, the one it reads).
func TestBC1AgainstImageMagick(t *testing.T) {
	convert := magick(t)
	for name, img := range pictures {
		tex := compile(t, img, texture.Options{Format: texture.BC1})
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.dds"), oldDDS(tex, "DXT1"), 0o666))
		peer.Run(t, dir, convert, "a.dds", "PNG32:a.png")
		data, err := os.ReadFile(filepath.Join(dir, "a.png"))
		require.NoError(t, err)
		theirs, err := texture.Decode(data)
		require.NoError(t, err)
		ours := tex.Image(0)
		require.Equal(t, ours.Rect, theirs.Rect, name)
		for i := range ours.Pix {
			assert.InDelta(t, int(ours.Pix[i]), int(theirs.Pix[i]), 1, "%s: value %d", name, i) // decoders may round thirds either way
		}
	}
}

func oldDDS(tex *texture.Texture, letters string) []byte {
	le := binary.LittleEndian
	b := []byte("DDS ")
	for _, v := range []uint32{124, 0x81007, uint32(tex.Height), uint32(tex.Width), uint32(len(tex.Levels[0])), 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 32, 4} {
		b = le.AppendUint32(b, v)
	}
	b = append(b, letters...)
	b = append(b, make([]byte, 20)...)
	for _, v := range []uint32{0x1000, 0, 0, 0, 0} {
		b = le.AppendUint32(b, v)
	}
	return append(b, tex.Levels[0]...)
}

// TestDDSAgainstPillow lets another reader take our DX10 header and texels, and another decoder our alpha and channel blocks
// (those under the old header, which names them by four letters).
func TestDDSAgainstPillow(t *testing.T) {
	python := pillow(t)
	read := func(data []byte) *image.NRGBA {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.dds"), data, 0o666))
		peer.Run(t, dir, python, "-c", "from PIL import Image; i = Image.open('a.dds'); i.convert('RGBA').save('a.png')")
		data, err := os.ReadFile(filepath.Join(dir, "a.png"))
		require.NoError(t, err)
		img, err := texture.Decode(data)
		require.NoError(t, err)
		return img
	}
	for name, img := range pictures {
		data, err := compile(t, img, texture.Options{SRGB: true, Mips: true}).Encode("dds")
		require.NoError(t, err)
		assert.Equal(t, img.Pix, read(data).Pix, name)
	}
	for letters, f := range map[string]texture.Format{"DXT3": texture.BC2, "DXT5": texture.BC3, "DXT1": texture.BC1A, "DX10": texture.BC5} {
		for _, img := range []*image.NRGBA{fade, pictures["noise"], pictures["edges"]} {
			tex := compile(t, img, texture.Options{Format: f})
			data := oldDDS(tex, letters)
			if letters == "DX10" {
				var err error
				data, err = tex.Encode("dds")
				require.NoError(t, err)
			}
			ours, theirs := tex.Image(0), read(data)
			for i := range ours.Pix {
				if ours.Pix[i|3] == 0 && i&3 != 3 || f == texture.BC5 && i&3 == 2 {
					continue // what nobody sees may be any colour; of two channels the third may be anything
				}
				assert.InDelta(t, int(ours.Pix[i]), int(theirs.Pix[i]), 1, "%s: value %d", letters, i)
			}
		}
	}
}

// pillow returns the Python that has Pillow.
func pillow(t *testing.T) string {
	t.Helper()
	python := peer.Need(t, "/usr/bin/python3")
	if err := exec.Command(python, "-c", "import PIL").Run(); err != nil {
		peer.Missing(t, "python3-pil")
	}
	return python
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

// TestKTX2AgainstAnotherReader holds header, level index, data format descriptor and key/value data to a reader of the
// Khronos format from the npm registry.
func TestKTX2AgainstAnotherReader(t *testing.T) {
	node := peer.Need(t, "node")
	modules, err := filepath.Abs(filepath.Join("..", "..", "internal", "peer", "node", "node_modules"))
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(modules, "ktx-parse")); err != nil {
		peer.Missing(t, "ktx-parse (npm ci in internal/peer/node)")
	}
	const script = `const k = require('ktx-parse'), fs = require('fs');
const c = k.read(fs.readFileSync('a.ktx2'));
const d = c.dataFormatDescriptor[0];
console.log(JSON.stringify({vk: c.vkFormat, type: c.typeSize, w: c.pixelWidth, h: c.pixelHeight, depth: c.pixelDepth, layers: c.layerCount, faces: c.faceCount,
 scheme: c.supercompressionScheme, levels: c.levels.map(l => [l.levelData.length, l.uncompressedByteLength, Buffer.from(l.levelData).toString('base64')]),
 model: d.colorModel, primaries: d.colorPrimaries, transfer: d.transferFunction, flags: d.flags, block: Array.from(d.texelBlockDimension), plane: Array.from(d.bytesPlane),
 samples: d.samples.map(s => [s.bitOffset, s.bitLength, s.channelType, s.sampleLower, s.sampleUpper]), kv: c.keyValue}));`
	type answer struct {
		Vk, Type, W, H, Depth, Layers, Faces, Scheme, Model, Primaries, Transfer, Flags int
		Levels                                                                          [][3]any
		Block, Plane                                                                    []int
		Samples                                                                         [][5]float64
		Kv                                                                              map[string]string
	}
	for _, c := range []struct {
		format   texture.Format
		srgb     bool
		vk       int
		model    int
		transfer int
		plane    int
		samples  [][5]float64
	}{
		{texture.RGBA8, false, 37, 1, 1, 4, [][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}, {16, 7, 2, 0, 255}, {24, 7, 15, 0, 255}}},
		{texture.RGBA8, true, 43, 1, 2, 4, [][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}, {16, 7, 2, 0, 255}, {24, 7, 31, 0, 255}}},
		{texture.RG8, false, 16, 1, 1, 2, [][5]float64{{0, 7, 0, 0, 255}, {8, 7, 1, 0, 255}}},
		{texture.R8, false, 9, 1, 1, 1, [][5]float64{{0, 7, 0, 0, 255}}},
		{texture.BC1A, true, 134, 128, 2, 8, [][5]float64{{0, 63, 1, 0, 4294967295}}},
		{texture.BC2, true, 136, 129, 2, 16, [][5]float64{{0, 63, 31, 0, 4294967295}, {64, 63, 0, 0, 4294967295}}},
		{texture.BC3, false, 137, 130, 1, 16, [][5]float64{{0, 63, 15, 0, 4294967295}, {64, 63, 0, 0, 4294967295}}},
		{texture.BC4, false, 139, 131, 1, 8, [][5]float64{{0, 63, 0, 0, 4294967295}}},
		{texture.BC5, false, 141, 132, 1, 16, [][5]float64{{0, 63, 0, 0, 4294967295}, {64, 63, 1, 0, 4294967295}}},
		{texture.BC1, false, 131, 128, 1, 8, [][5]float64{{0, 63, 0, 0, 4294967295}}},
		{texture.BC1, true, 132, 128, 2, 8, [][5]float64{{0, 63, 0, 0, 4294967295}}},
	} {
		name := fmt.Sprintf("%s srgb=%v", c.format, c.srgb)
		tex := compile(t, pictures["edges"], texture.Options{Format: c.format, SRGB: c.srgb, Mips: true})
		data, err := tex.Encode("ktx2")
		require.NoError(t, err)
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.ktx2"), data, 0o666))
		t.Setenv("NODE_PATH", modules)
		var got answer
		require.NoError(t, json.Unmarshal([]byte(peer.Run(t, dir, node, "-e", script)), &got))
		assert.Equal(t, []int{c.vk, 1, 60, 36, 0, 0, 1, 0}, []int{got.Vk, got.Type, got.W, got.H, got.Depth, got.Layers, got.Faces, got.Scheme}, name)
		assert.Equal(t, []int{c.model, 1, c.transfer, 0}, []int{got.Model, got.Primaries, got.Transfer, got.Flags}, name)
		side := 0
		if c.model >= 128 {
			side = 3
		}
		assert.Equal(t, []int{side, side, 0, 0}, got.Block, name)
		assert.Equal(t, []int{c.plane, 0, 0, 0, 0, 0, 0, 0}, got.Plane, name)
		assert.Equal(t, c.samples, got.Samples, name)
		assert.Equal(t, map[string]string{"KTXorientation": "rd", "KTXwriter": "vornix"}, got.Kv, name)
		require.Len(t, got.Levels, len(tex.Levels), name)
		for i, l := range tex.Levels {
			b, err := json.Marshal(l) // bytes marshal as base64
			require.NoError(t, err)
			assert.EqualValues(t, len(l), got.Levels[i][0], name)
			assert.Equal(t, string(b), fmt.Sprintf("%q", got.Levels[i][2]), "%s level %d", name, i)
		}
	}
}

func TestDecodeReadsWhatPeopleHave(t *testing.T) {
	want := pictures["gradient"]
	write := func(f func(*bytes.Buffer) error) []byte {
		var b bytes.Buffer
		require.NoError(t, f(&b))
		return b.Bytes()
	}
	deep := image.NewNRGBA64(want.Rect)
	pal := image.NewPaletted(image.Rect(3, 3, 11, 11), color.Palette{color.NRGBA{9, 8, 7, 255}, color.NRGBA{200, 100, 0, 128}})
	pal.SetColorIndex(4, 4, 1)
	for y := range 64 {
		for x := range 64 {
			deep.Set(x, y, want.At(x, y))
		}
	}
	for name, data := range map[string][]byte{
		"png":    write(func(b *bytes.Buffer) error { return png.Encode(b, want) }),
		"png 16": write(func(b *bytes.Buffer) error { return png.Encode(b, deep) }),
	} {
		got, err := texture.Decode(data)
		require.NoError(t, err, name)
		assert.Equal(t, want.Pix, got.Pix, name)
	}
	got, err := texture.Decode(write(func(b *bytes.Buffer) error { return png.Encode(b, pal) }))
	require.NoError(t, err)
	assert.Equal(t, color.NRGBA{200, 100, 0, 128}, got.NRGBAAt(1, 1), "palette with alpha, not at the origin")
	got, err = texture.Decode(write(func(b *bytes.Buffer) error { return jpeg.Encode(b, want, &jpeg.Options{Quality: 95}) }))
	require.NoError(t, err)
	assert.Less(t, squared(want, got), 12.0)
}

// TestImagesFromAnotherProgram reads what ImageMagick writes, of every kind that artists have.
func TestImagesFromAnotherProgram(t *testing.T) {
	convert := magick(t)
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, fade))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.png"), b.Bytes(), 0o666))
	for _, c := range []struct {
		name, options string
		colours       float64 // mean squared error of colours that may be
		alpha         bool
	}{
		{"rgba.tif", "-compress LZW", 0, true},
		{"deep.tif", "-depth 16 -compress Zip", 0, true},
		{"rgb.bmp", "-alpha off", 0, false},
		{"rgba.webp", "-define webp:lossless=true -define webp:exact=true", 0, true},
		{"lossy.webp", "-alpha off -quality 95", 200, false},
		{"palette.gif", "-alpha off -colors 64", 60, false},
		{"palette.png", "-alpha off -colors 64 -type Palette", 60, false},
		{"progressive.jpg", "-alpha off -interlace JPEG -quality 95", 250, false},
		{"cmyk.jpg", "-alpha off -colorspace CMYK -quality 95", 900, false},
	} {
		peer.Run(t, dir, convert, append(append([]string{"in.png"}, strings.Fields(c.options)...), c.name)...)
		data, err := os.ReadFile(filepath.Join(dir, c.name))
		require.NoError(t, err)
		img, err := texture.Decode(data)
		require.NoError(t, err, c.name)
		require.Equal(t, fade.Rect, img.Rect, c.name)
		flat := paint(32, 32, func(x, y int) color.NRGBA { p := fade.NRGBAAt(x, y); p.A = 255; return p })
		reference := flat
		if c.alpha {
			reference = fade
			for i := 3; i < len(img.Pix); i += 4 {
				require.Equal(t, fade.Pix[i], img.Pix[i], "%s: alpha %d", c.name, i)
			}
		}
		visible := func(a *image.NRGBA) *image.NRGBA { // colours under no alpha may be anything
			return paint(32, 32, func(x, y int) color.NRGBA {
				if reference.NRGBAAt(x, y).A == 0 {
					return color.NRGBA{}
				}
				return a.NRGBAAt(x, y)
			})
		}
		assert.LessOrEqual(t, squared(visible(reference), visible(img)), c.colours+1.0, c.name)
		w, h, err := texture.Probe(data)
		require.NoError(t, err, c.name)
		assert.Equal(t, []int{32, 32}, []int{w, h}, c.name)
		_, err = texture.Decode(data[:len(data)/2])
		assert.Error(t, err, "%s cut short", c.name)
	}
	for _, container := range []string{"ktx2", "dds"} {
		data, err := compile(t, fade, texture.Options{SRGB: true}).Encode(container)
		require.NoError(t, err)
		img, err := texture.Decode(data)
		require.NoError(t, err)
		assert.Equal(t, fade.Pix, img.Pix, "a texture is an image too")
	}
}

// TestTGAFromAnotherProgram reads every kind of TGA that Pillow writes, from either end, plain and run-length.
func TestTGAFromAnotherProgram(t *testing.T) {
	python := pillow(t)
	dir := t.TempDir()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, fade))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.png"), b.Bytes(), 0o666))
	out := peer.Run(t, dir, python, "-c", `from PIL import Image
i = Image.open('in.png')
for mode in ['RGBA', 'RGB', 'L', 'LA', 'P']:
    for up in [-1, 1]:
        for rle in [None, 'tga_rle']:
            if mode == 'P':
                j = i.convert('RGB').quantize(64)
            else:
                j = i.convert(mode)
            name = f'{mode}_{up}_{rle}'
            j.save(name + '.tga', orientation=up, **({'compression': rle} if rle else {}))
            j.convert('RGBA').save(name + '.png')
            print(name)`)
	names := strings.Fields(out)
	require.Len(t, names, 20)
	for _, name := range names {
		decode := func(file string) (*image.NRGBA, []byte) {
			data, err := os.ReadFile(filepath.Join(dir, file))
			require.NoError(t, err)
			img, err := texture.Decode(data)
			require.NoError(t, err, file)
			return img, data
		}
		got, data := decode(name + ".tga")
		want, _ := decode(name + ".png")
		assert.Equal(t, want.Pix, got.Pix, name)
		for cut := 1; cut < len(data)*9/10; cut += len(data) / 9 {
			_, err := texture.Decode(data[:cut])
			assert.Error(t, err, "%s cut at %d", name, cut)
		}
	}
}

func TestBrokenImagesAreRefusedInWords(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, pictures["noise"]))
	whole := b.Bytes()
	flipped := bytes.Clone(whole)
	flipped[len(flipped)/2] ^= 1
	var j bytes.Buffer
	require.NoError(t, jpeg.Encode(&j, pictures["noise"], nil))
	huge := bytes.Clone(whole)
	binary.BigEndian.PutUint32(huge[16:], 60000)
	binary.BigEndian.PutUint32(huge[20:], 60000)
	binary.BigEndian.PutUint32(huge[29:], crcOf(huge[12:29]))
	for name, c := range map[string]struct {
		data []byte
		text string
	}{
		"cut png":  {whole[:len(whole)-20], "cut short"},
		"cut jpeg": {j.Bytes()[:j.Len()-10], "cut short"},
		"damaged":  {flipped, "checksum"},
		"empty":    {nil, "none of PNG, JPEG"},
		"text":     {[]byte("not an image at all, but long enough for a header"), "none of PNG, JPEG"},
		"huge":     {huge, "60000 x 60000"},
	} {
		_, err := texture.Decode(c.data)
		assert.ErrorContains(t, err, c.text, name)
		_, _, err = texture.Probe(c.data)
		assert.ErrorContains(t, err, c.text, name)
	}
}

func crcOf(data []byte) uint32 {
	crc := ^uint32(0)
	for _, v := range data {
		crc ^= uint32(v)
		for range 8 {
			crc = crc>>1 ^ 0xedb88320&-(crc&1)
		}
	}
	return ^crc
}

func TestAnyNumberOfWorkersGivesTheSame(t *testing.T) {
	for _, f := range every() {
		want := compile(t, pictures["edges"], texture.Options{Format: f, Mips: true})
		for _, workers := range []int{2, 3, 16} {
			assert.Equal(t, want, compile(t, pictures["edges"], texture.Options{Format: f, Mips: true, Workers: workers}), "%s with %d", f, workers)
		}
	}
}

func TestCompileStopsWhenCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, f := range []texture.Format{texture.RGBA8, texture.BC1} {
		_, err := texture.Compile(ctx, pictures["gradient"], texture.Options{Format: f, Mips: true})
		assert.ErrorIs(t, err, context.Canceled)
	}
}

// Any bytes end in a texture or an error; one that is read decodes, and is written and read again the same.
func FuzzRead(f *testing.F) {
	for _, container := range []string{"ktx2", "dds"} {
		for _, format := range every() {
			data, err := compile(f, pictures["flat"], texture.Options{Format: format, Mips: true}).Encode(container)
			require.NoError(f, err)
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		tex, err := texture.Read(data)
		if err != nil {
			return
		}
		for level := range tex.Levels {
			tex.Image(level)
		}
		again, err := tex.Encode("ktx2")
		if err != nil {
			t.Fatal(err)
		}
		if back, err := texture.Read(again); err != nil || back.Width != tex.Width || len(back.Levels) != len(tex.Levels) {
			t.Fatalf("written and read again it is another: %v", err)
		}
	})
}

// Any bytes end in an image or an error, and what Probe says is what Decode finds.
func FuzzDecode(f *testing.F) {
	var b, j bytes.Buffer
	require.NoError(f, png.Encode(&b, pictures["flat"]))
	require.NoError(f, jpeg.Encode(&j, pictures["dot"], nil))
	f.Add(b.Bytes())
	f.Add(j.Bytes())
	f.Add(append([]byte{0, 0, 10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 4, 0, 2, 0, 32, 8}, 0x83, 1, 2, 3, 4, 0x03, 1, 2, 3, 4, 5, 6, 7, 8, 9, 1, 2, 3, 4, 5, 6, 7))
	f.Add([]byte{1, 1, 1, 0, 0, 2, 0, 24, 0, 0, 0, 0, 2, 0, 1, 0, 8, 0, 'x', 1, 2, 3, 4, 5, 6, 0, 1})
	f.Add([]byte("BM\x3a\x00\x00\x00\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00\x01\x00\x00\x00\x01\x00\x00\x00\x01\x00\x18\x00" + strings.Repeat("\x00", 28)))
	f.Fuzz(func(t *testing.T, data []byte) {
		w, h, probeErr := texture.Probe(data)
		if w*h > 1<<20 {
			return // allowed, but slow to try a thousand times a second
		}
		img, err := texture.Decode(data)
		if err == nil && (probeErr != nil || img.Rect.Dx() != w || img.Rect.Dy() != h) {
			t.Fatalf("Probe says %d x %d, %v; Decode %v", w, h, probeErr, img.Rect)
		}
	})
}

// The short way for even sizes gives what the long way, by area, gives: a row halved by area agrees with the same row
// twice, which is halved the short way.
func TestBothWaysOfHalvingAgree(t *testing.T) {
	even := paint(8, 4, func(x, y int) color.NRGBA {
		h := scramble(x, y)
		return color.NRGBA{uint8(h), uint8(h >> 8), uint8(h >> 16), uint8(h>>24) * uint8(x&1)}
	})
	tall := paint(8, 1, func(x, y int) color.NRGBA { return even.NRGBAAt(x, 0) })
	flat := paint(8, 2, func(x, y int) color.NRGBA { return even.NRGBAAt(x, 0) })
	a := compile(t, tall, texture.Options{SRGB: true, Mips: true}).Image(1) // 8x1 to 4x1: by area
	b := compile(t, flat, texture.Options{SRGB: true, Mips: true}).Image(1) // 8x2 to 4x1: the short way
	for i := range a.Pix {
		assert.InDelta(t, int(a.Pix[i]), int(b.Pix[i]), 1)
	}
}
