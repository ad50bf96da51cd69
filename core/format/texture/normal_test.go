package texture_test

import (
	"bytes"
	"context"
	"image"
	"image/color"
	"image/png"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture"
)

// direction is what a texel of a normal map says.
func direction(c color.NRGBA) (x, y, z float64) {
	return float64(c.R)/127.5 - 1, float64(c.G)/127.5 - 1, float64(c.B)/127.5 - 1
}

// heights writes 16-bit grey, as the tools of the trade do.
func heights(t *testing.T, w, h int, f func(x, y int) uint16) []byte {
	t.Helper()
	img := image.NewGray16(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetGray16(x, y, color.Gray16{Y: f(x, y)})
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

// A plane of a known slope has a known normal; a slope too fine for 8 bits is there too; green grows as asked.
func TestNormalsOfHeights(t *testing.T) {
	for _, c := range []struct {
		dx, dy   int // heights a texel, of 65535
		strength int // hundredths of a texel for the whole range
	}{{1000, 0, 1000}, {0, 1000, 1000}, {300, -200, 5000}, {8, 4, 100000}, {0, 0, 400}} {
		data := heights(t, 16, 16, func(x, y int) uint16 { return uint16(20000 + c.dx*x + c.dy*y) })
		for _, green := range []string{texture.Up, texture.Down} {
			p, err := texture.Prepare([][]byte{data},
				texture.Recipe{FromHeight: true, Kind: texture.Normal, Strength: c.strength, GreenOut: green})
			require.NoError(t, err)
			x, y, z := direction(p.Images[0].(*image.NRGBA).NRGBAAt(7, 8))
			sx, sy := float64(c.dx*c.strength)/6553500, float64(c.dy*c.strength)/6553500 // rise a texel
			if green == texture.Up {
				sy = -sy // up the image is against y
			}
			length := math.Sqrt(sx*sx + sy*sy + 1)
			assert.InDelta(t, -sx/length, x, 0.006, "%+v", c)
			assert.InDelta(t, -sy/length, y, 0.006, "%+v", c)
			assert.InDelta(t, 1/length, z, 0.006, "%+v", c)
			assert.Zero(t, p.NotUnit)
		}
	}
	// With edges joined, a wave that repeats has no seam; with edges held it has.
	wave := heights(t, 32, 8, func(x, y int) uint16 { return uint16(32768 + 30000*math.Sin(2*math.Pi*float64(x)/32)) })
	edge := func(e texture.Edge) float64 {
		p, err := texture.Prepare([][]byte{wave},
			texture.Recipe{FromHeight: true, Kind: texture.Normal, Strength: 400, Edge: e})
		require.NoError(t, err)
		x, _, _ := direction(p.Images[0].(*image.NRGBA).NRGBAAt(0, 4))
		return x
	}
	slope := 4 * 30000 / 65535.0 * 2 * math.Pi / 32
	assert.InDelta(t, -slope/math.Sqrt(slope*slope+1), edge(texture.Wrap), 0.01)
	assert.Greater(t, edge(texture.Clamp)-edge(texture.Wrap), 0.1)
}

// bumps is a normal map of a bumpy wall.
func bumps(t *testing.T) *image.NRGBA {
	t.Helper()
	data := heights(t, 64, 64, func(x, y int) uint16 {
		return uint16(30000 + 15000*math.Sin(float64(x)*0.7)*math.Cos(float64(y)*0.4) + float64(scramble(x, y)%2000))
	})
	p, err := texture.Prepare([][]byte{data}, texture.Recipe{FromHeight: true, Kind: texture.Normal, Strength: 500})
	require.NoError(t, err)
	return p.Images[0].(*image.NRGBA)
}

func TestNormalsStayOfLengthOne(t *testing.T) {
	img := bumps(t)
	off := func(tex *texture.Texture, level int) (worst float64) {
		seen := texture.Visible(tex.Image(level, 0))
		for i := range seen.Rect.Dx() * seen.Rect.Dy() {
			x, y, z := direction(seen.NRGBAAt(i%seen.Rect.Dx(), i/seen.Rect.Dx()))
			worst = max(worst, math.Abs(math.Sqrt(x*x+y*y+z*z)-1))
		}
		return worst
	}
	kept, plain := compile(t, img, texture.Options{Normals: true}), compile(t, img, texture.Options{})
	for level := range kept.Levels {
		assert.Less(t, off(kept, level), 0.012, "level %d", level)
	}
	assert.Greater(t, off(plain, 2), 0.05, "plain filtering shortens them")
	p, err := texture.PrepareImages([]image.Image{img},
		texture.Recipe{Kind: texture.Normal, Size: texture.SizeRule{Largest: 40, How: "nearest"}, Forced: true})
	require.NoError(t, err)
	small, err := p.Compile(context.Background())
	require.NoError(t, err)
	assert.Equal(t, 40, small.Width)
	assert.Less(t, off(small, 0), 0.012, "resized ones too")
}

func TestNormalMapsAreRecognised(t *testing.T) {
	img := bumps(t)
	content := texture.Analyse(img)
	assert.True(t, content.LooksNormal())
	assert.Equal(t, "opaque normals", content.Holds())
	for name, other := range pictures {
		assert.False(t, texture.Analyse(other).LooksNormal(), name)
	}
	prepare := func(img image.Image, r texture.Recipe) *texture.Prepared {
		p, err := texture.PrepareImages([]image.Image{img}, r)
		require.NoError(t, err)
		return p
	}
	n, why := texture.Analyse(pictures["edges"]).NormalFault()
	assert.Equal(t, 60*36, n)
	assert.Contains(t, why, "colour image")
	n, why = texture.Analyse(pictures["grey"]).NormalFault()
	assert.Positive(t, n)
	assert.Contains(t, why, "height")
	short := paint(8, 8, func(x, y int) color.NRGBA {
		if x < 3 {
			return color.NRGBA{128, 128, 200, 255}
		}
		return color.NRGBA{128, 128, 255, 255}
	})
	assert.Equal(t, 24, prepare(short, texture.Recipe{Kind: texture.Normal}).NotUnit)

	// Conventions are turned round, two channels are made three, and BC5 keeps them apart.
	p := prepare(img, texture.Recipe{Kind: texture.Normal, Green: texture.Down, GreenOut: texture.Up})
	assert.Equal(t, texture.BC5, p.Choice.Format)
	got := p.Images[0].(*image.NRGBA)
	for i := 1; i < len(img.Pix); i += 4 {
		require.Equal(t, 255-img.Pix[i], got.Pix[i])
		require.Equal(t, img.Pix[i+1], got.Pix[i+1])
	}
	two := paint(64, 64, func(x, y int) color.NRGBA { c := img.NRGBAAt(x, y); return color.NRGBA{c.R, c.G, 0, 255} })
	p = prepare(two, texture.Recipe{Kind: texture.Normal})
	assert.Zero(t, p.NotUnit)
	for i, v := range p.Images[0].(*image.NRGBA).Pix {
		require.InDelta(t, int(img.Pix[i]), int(v), 2)
	}
	assert.Greater(t, texture.TurnedBySRGB([]image.Image{img}), 20, "degrees that sRGB bends it by")
}

// Light: half floats are exact where they can be, brighter than white stays, and formats that can't hold it say so.
func TestLight(t *testing.T) {
	// Every half float from 0 to the largest, as a texture of light, comes back bit for bit and through zstd too.
	l := texture.NewLight(124, 64)
	for i := range l.Pix {
		if i&3 != 3 {
			l.Pix[i] = uint16(i) % 0x7c00
		}
	}
	tex := compile(t, l, texture.Options{Format: texture.RGBA16F})
	got, err := texture.Read(encode(t, tex, texture.Container{Name: "ktx2", Zstd: true}))
	require.NoError(t, err)
	assert.Equal(t, l, got.Image(0, 0))

	// Levels keep the mean light, over many stops; BC6H too, to a hundredth.
	sky := texture.NewLight(64, 64)
	mean := func(img image.Image) (sum float64) {
		p := img.(*texture.Light)
		for i := 0; i < len(p.Pix); i += 4 {
			sum += halfValue(p.Pix[i])
		}
		return sum / float64(len(p.Pix)/4)
	}
	bright := 0
	for i := 0; i < len(sky.Pix); i += 4 {
		v := uint16(0x3000 + scramble(i, 7)%0x1800) // an eighth to sixteen
		sky.Pix[i], sky.Pix[i+1], sky.Pix[i+2] = v, v-0x100, v-0x200
		if v > 0x3c00 {
			bright++
		}
	}
	for _, f := range []texture.Format{texture.RGBA16F, texture.BC6H} {
		tex := compile(t, sky, texture.Options{Format: f})
		for level := range tex.Levels {
			assert.InEpsilon(t, mean(sky), mean(tex.Image(level, 0)), 0.01, "%s level %d", f, level)
		}
	}
	p, err := texture.PrepareImages([]image.Image{sky}, texture.Recipe{Kind: texture.Glow, SRGB: true})
	require.NoError(t, err)
	assert.Equal(t, texture.BC6H, p.Choice.Format)
	p, err = texture.PrepareImages([]image.Image{sky},
		texture.Recipe{SRGB: true, Allowed: []texture.Format{texture.BC1}})
	require.NoError(t, err)
	assert.Equal(t, texture.Choice{Format: texture.BC1, Loss: texture.Loss{Light: bright}, Why: p.Choice.Why}, p.Choice)
	made, err := p.Compile(context.Background())
	require.NoError(t, err)
	assert.True(t, made.SRGB)
	// An 8-bit image as light is what the transfer function says.
	white := compile(t, pictures["grey"], texture.Options{Format: texture.RGBA16F, SRGB: true}).Image(0,
		0).(*texture.Light)
	for i, v := range pictures["grey"].Pix {
		if i&3 != 3 {
			require.InDelta(t, toLinear(v), halfValue(white.Pix[i]), 0.0006)
		}
	}
}

func halfValue(h uint16) float64 {
	if h>>10 == 0 {
		return math.Ldexp(float64(h), -24)
	}
	return math.Ldexp(float64(h&0x3ff|0x400), int(h>>10)-25)
}
