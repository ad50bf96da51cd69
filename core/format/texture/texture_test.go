package texture_test

import (
	"context"
	"image"
	"image/color"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
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

func compile(t testing.TB, img image.Image, o texture.Options) *texture.Texture {
	t.Helper()
	tex, err := texture.Compile(context.Background(), []image.Image{img}, o)
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

// encode writes a texture as a file.
func encode(t testing.TB, tex *texture.Texture, c texture.Container) []byte {
	t.Helper()
	data, err := tex.Encode(c)
	require.NoError(t, err)
	return data
}

// decode reads an image of 8-bit texels.
func decode(t testing.TB, data []byte) *image.NRGBA {
	t.Helper()
	img, err := texture.Decode(data)
	require.NoError(t, err)
	return texture.Visible(img)
}

// shown is the first image of a texture's largest level.
func shown(tex *texture.Texture) *image.NRGBA { return texture.Visible(tex.Image(0, 0)) }

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
		return texture.Visible(compile(t, img, texture.Options{Format: f}).Image(0, 0))
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
		limits := map[texture.Format][2]float64{texture.R8: {0, 0}, texture.BC4: {24, 8}}[f]
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
		{fade, true, every(), texture.BC7, texture.Loss{}},
		{fade, true, []texture.Format{texture.BC1, texture.BC3, texture.BC2}, texture.BC3, texture.Loss{}},
		{fade, true, []texture.Format{texture.RGBA8, texture.BC1}, texture.RGBA8, texture.Loss{}},
		{oneBit, true, []texture.Format{texture.BC1}, texture.BC1, texture.Loss{Alpha: 32}},
		{fade, true, []texture.Format{texture.BC1, texture.BC1A}, texture.BC1A,
			texture.Loss{Alpha: texture.Analyse(fade).Soft}},
		{grey, false, []texture.Format{texture.BC4, texture.RGBA8}, texture.BC4, texture.Loss{}},
		{grey, true, []texture.Format{texture.BC4, texture.RGBA8}, texture.RGBA8, texture.Loss{}},
		{pictures["edges"], false, []texture.Format{texture.R8}, texture.R8, texture.Loss{Colour: 60 * 36}},
	} {
		got := texture.Choose(texture.Analyse(c.img), texture.Colour, c.srgb, false, c.allowed)
		assert.Equal(t, c.want, got.Format)
		assert.Equal(t, c.loss, got.Loss)
		assert.NotEmpty(t, got.Why)
	}
}

func TestBC1IsGoodAndExactWhereItCanBe(t *testing.T) {
	limits := map[string]float64{"gradient": 9, "edges": 4, "noise": 2800, "flat": 1, "dot": 1, "grey": 6}
	for name, img := range pictures {
		tex := compile(t, img, texture.Options{Format: texture.BC1})
		assert.LessOrEqual(t, squared(img, texture.Visible(tex.Image(0, 0))), limits[name], name)
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
		assert.Zero(t, squared(img, texture.Visible(compile(t, img, texture.Options{Format: texture.BC1}).Image(0, 0))),
			"%v", c)
	}
}

func TestAnyNumberOfWorkersGivesTheSame(t *testing.T) {
	for _, f := range every() {
		want := compile(t, pictures["edges"], texture.Options{Format: f})
		for _, workers := range []int{2, 3, 16} {
			assert.Equal(t, want, compile(t, pictures["edges"], texture.Options{Format: f, Workers: workers}),
				"%s with %d", f, workers)
		}
	}
}

func TestCompileStopsWhenCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	for _, f := range []texture.Format{texture.RGBA8, texture.BC1} {
		_, err := texture.Compile(ctx, []image.Image{pictures["gradient"]}, texture.Options{Format: f})
		assert.ErrorIs(t, err, context.Canceled)
	}
}

func TestSizeRule(t *testing.T) {
	for _, c := range []struct {
		rule         texture.SizeRule
		w, h         int
		size, filled image.Point
	}{
		{texture.SizeRule{PowerOfTwo: true}, 100, 65, image.Pt(128, 64), image.Pt(128, 64)},
		{texture.SizeRule{PowerOfTwo: true, How: "up"}, 100, 65, image.Pt(128, 128), image.Pt(128, 128)},
		{texture.SizeRule{PowerOfTwo: true, How: "up", KeepAspect: true}, 100, 65, image.Pt(128, 128),
			image.Pt(128, 83)},
		{texture.SizeRule{PowerOfTwo: true, How: "down", KeepAspect: true}, 100, 65, image.Pt(64, 64),
			image.Pt(64, 42)},
		{texture.SizeRule{PowerOfTwo: true, How: "down"}, 100, 65, image.Pt(64, 64), image.Pt(64, 64)},
		{texture.SizeRule{PowerOfTwo: true, Largest: 32, How: "up"}, 100, 8, image.Pt(32, 8), image.Pt(32, 8)},
		{texture.SizeRule{PowerOfTwo: true, Largest: 100}, 400, 400, image.Pt(64, 64), image.Pt(64, 64)},
		{texture.SizeRule{Largest: 100}, 400, 200, image.Pt(100, 50), image.Pt(100, 50)},
		{texture.SizeRule{Largest: 100, How: "down"}, 4000, 1, image.Pt(100, 1), image.Pt(100, 1)},
		{texture.SizeRule{How: "up"}, 7, 9, image.Pt(7, 9), image.Pt(7, 9)},
	} {
		size, filled := c.rule.Fit(c.w, c.h)
		assert.Equal(t, []image.Point{c.size, c.filled}, []image.Point{size, filled}, "%+v", c)
		assert.True(t, c.rule.Takes(size.X, size.Y))
	}
}

// The drawing shows each channel and each level, and names what is measured.
func TestSheetAndCompare(t *testing.T) {
	tex := compile(t, fade, texture.Options{Format: texture.BC3, SRGB: true})
	small, large := texture.Sheet(tex, nil), texture.Sheet(tex, fade)
	assert.Equal(t, small.Rect.Dx(), large.Rect.Dx())
	assert.Greater(t, large.Rect.Dy(), small.Rect.Dy(), "a row more, with the source and the difference")
	colours := map[color.NRGBA]int{}
	for i := 0; i < len(large.Pix); i += 4 {
		colours[color.NRGBA{large.Pix[i], large.Pix[i+1], large.Pix[i+2], large.Pix[i+3]}]++
	}
	assert.Greater(t, len(colours), 300, "there is something to see")
	cubes, err := texture.Compile(context.Background(), []image.Image{fade, fade, fade, fade, fade, fade},
		texture.Options{Shape: texture.Cube})
	require.NoError(t, err)
	assert.Greater(t, texture.Sheet(cubes, nil).Rect.Dy(), small.Rect.Dy())

	// Measured against the closed form: a picture that is off by 2 in one colour channel of every seen texel.
	off := paint(32, 32, func(x, y int) color.NRGBA {
		p := fade.NRGBAAt(x, y)
		p.R = uint8(int(p.R) + 2 - int(p.R)/254*4)
		return p
	})
	d := texture.Compare(fade, off, texture.RGBA8)
	assert.InDelta(t, 10*math.Log10(255*255*3/4.0), d.Colour, 0.001)
	assert.Equal(t, []any{99.0, 2}, []any{d.Alpha, d.Worst})
	assert.InDelta(t, 10*math.Log10(255*255/4.0), texture.Compare(fade, off, texture.R8).Colour, 0.001,
		"one channel counts alone")
	light := texture.ToLight(pictures["gradient"], true)
	brighter := texture.ToLight(pictures["gradient"], true)
	for i := range brighter.Pix {
		if i&3 != 3 && brighter.Pix[i] > 0x2400 {
			brighter.Pix[i] += 0x400 // twice as bright: a step of the exponent
		}
	}
	assert.Equal(t, 50, texture.Compare(light, brighter, texture.BC6H).Worst)
}

// What each kind of image becomes when the game takes everything, and when it takes little.
func TestChoicesByKind(t *testing.T) {
	few := []texture.Format{texture.BC1, texture.BC3, texture.RGBA8}
	normals := bumps(t)
	for _, c := range []struct {
		img     image.Image
		kind    texture.Kind
		best    bool
		allowed []texture.Format
		want    texture.Format
		why     string
	}{
		{normals, texture.Normal, false, nil, texture.BC5, "opaque normals: bc5 keeps two channels apart"},
		{normals, texture.Normal, false, few, texture.RGBA8, "opaque normals: rgba8 keeps all of it in the least room"},
		{pictures["grey"], texture.Height, false, nil, texture.BC4,
			"opaque grey: bc4 keeps all of it in the least room"},
		{paint(8, 8, func(x, y int) color.NRGBA { return color.NRGBA{uint8(x), uint8(y * 9), 0, 255} }), texture.Mask,
			false, nil, texture.BC5, "opaque two channels: bc5 keeps two channels apart"},
		{pictures["grey"], texture.Mask, false, few, texture.BC1, "opaque grey: bc1 keeps all of it in the least room"},
		{pictures["edges"], texture.Colour, true, nil, texture.BC7, "opaque colour: bc7 keeps it closest"},
		{fade, texture.Interface, false, few, texture.BC3,
			"colour with soft alpha: bc3 keeps all of it in the least room"},
		{fade, texture.Colour, false, []texture.Format{texture.BC1}, texture.BC1,
			"colour with soft alpha: of bc1, bc1 loses least"},
		{texture.ToLight(fade, true), texture.Glow, false, nil, texture.RGBA16F,
			"light: rgba16f keeps all of it in the least room"},
		{texture.ToLight(pictures["edges"], true), texture.Glow, false, nil, texture.BC6H,
			"light: bc6h keeps all of it in the least room"},
		{pictures["grey"], texture.Colour, false, []texture.Format{texture.BC4}, texture.RGBA8,
			"opaque grey: of bc4 none can hold it"},
	} {
		p, err := texture.PrepareImages([]image.Image{c.img},
			texture.Recipe{Kind: c.kind, SRGB: c.kind.IsColour(), Allowed: c.allowed,
				Quality: map[bool]bcn.Quality{true: bcn.Best}[c.best]})
		require.NoError(t, err)
		assert.Equal(t, c.want.String(), p.Choice.Format.String(), "%s %v", c.kind, c.allowed)
		assert.Equal(t, c.why, p.Choice.Why)
		assert.Equal(t, c.want != texture.RGBA8 || slices.Contains(c.allowed, texture.RGBA8), p.Allows())
	}
}

// Keeping the aspect fills a part of the texture and repeats the edge over the rest, of light as of 8-bit texels.
func TestKeepingTheAspect(t *testing.T) {
	rule := texture.SizeRule{PowerOfTwo: true, How: "up", KeepAspect: true}
	wide := paint(60, 30, func(x, y int) color.NRGBA { return color.NRGBA{uint8(4 * x), uint8(8 * y), 7, 255} })
	for _, img := range []image.Image{wide, texture.ToLight(wide, false)} {
		p, err := texture.PrepareImages([]image.Image{img}, texture.Recipe{Kind: texture.Mask, Size: rule})
		require.NoError(t, err)
		got := texture.Visible(p.Images[0])
		require.Equal(t, image.Pt(64, 32), got.Rect.Size())
		tall, err := texture.PrepareImages([]image.Image{texture.Resize(img, 30, 50, false, texture.Box,
			texture.Clamp)}, texture.Recipe{Kind: texture.Mask, Size: rule})
		require.NoError(t, err)
		seen := texture.Visible(tall.Images[0])
		require.Equal(t, image.Pt(32, 64), seen.Rect.Size())
		assert.Equal(t, seen.NRGBAAt(5, 52), seen.NRGBAAt(5, 63), "32 by 53 are the image, below its last row goes on")
		assert.NotEqual(t, seen.NRGBAAt(5, 40), seen.NRGBAAt(5, 52))
	}
}
