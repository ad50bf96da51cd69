package imaging_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/imaging"
	"vornix/internal/peer"
)

func even(w, h int, c color.NRGBA) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []uint8{c.R, c.G, c.B, c.A})
	}
	return img
}

func finish(t *testing.T, r imaging.Recipe, img image.Image) *image.NRGBA {
	t.Helper()
	if r.Width == 0 {
		r.Width, r.Height = img.Bounds().Dx(), img.Bounds().Dy()
	}
	if r.Focus == [2]float64{} {
		r.Focus = [2]float64{0.5, 0.5}
	}
	out, err := r.Image(img)
	require.NoError(t, err)
	assert.Equal(t, image.Rect(0, 0, r.Width, r.Height), out.Rect)
	return out
}

// Whatever the sizes and the point of interest: the window lies in the image, has the ratio as far
// as whole pixels go, and holds the point.
func TestWindowsHoldTheFocus(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	for range 2000 {
		w, h := 1+r.Intn(4000), 1+r.Intn(4000)
		e := imaging.Recipe{Width: 1 + r.Intn(2000), Height: 1 + r.Intn(2000),
			Focus: [2]float64{r.Float64(), r.Float64()}}
		part, kept := e.Window(w, h)
		require.True(t, part.In(image.Rect(0, 0, w, h)) && !part.Empty(), "%v of %dx%d", part, w, h)
		require.True(t, part.Dx() == w || part.Dy() == h, "one side is whole")
		want := float64(e.Width) / float64(e.Height)
		low, high := (float64(part.Dx())-0.51)/(float64(part.Dy())+0.51),
			(float64(part.Dx())+0.51)/math.Max(float64(part.Dy())-0.51, 0.01)
		require.True(t, want >= low && want <= high || part.Dx() == 1 || part.Dy() == 1, "%v for %dx%d", part, e.Width,
			e.Height)
		x, y := e.Focus[0]*float64(w), e.Focus[1]*float64(h)
		require.True(t, x >= float64(part.Min.X)-1 && x <= float64(part.Max.X)+1 && y >= float64(part.Min.Y)-1 &&
			y <= float64(part.Max.Y)+1)
		require.InDelta(t, float64(part.Dx()*part.Dy())/float64(w*h), kept, 1e-9)
	}
}

// The ways to another ratio: what sticks out is cut off, bars are added, or it is stretched.
func TestCrops(t *testing.T) {
	img := even(40, 20, color.NRGBA{200, 0, 0, 255}) // left red, right green
	for y := range 20 {
		for x := 20; x < 40; x++ {
			img.SetNRGBA(x, y, color.NRGBA{0, 200, 0, 255})
		}
	}
	left := finish(t, imaging.Recipe{Width: 10, Height: 10, Focus: [2]float64{0, 0.5}}, img)
	assert.Equal(t, color.NRGBA{200, 0, 0, 255}, left.NRGBAAt(8, 5))
	right := finish(t, imaging.Recipe{Width: 10, Height: 10, Focus: [2]float64{1, 0.5}}, img)
	assert.Equal(t, color.NRGBA{0, 200, 0, 255}, right.NRGBAAt(1, 5))
	whole := finish(t, imaging.Recipe{Width: 20, Height: 20, Crop: "whole", Background: color.NRGBA{0, 0, 90, 255}},
		img)
	assert.Equal(t, color.NRGBA{0, 0, 90, 255}, whole.NRGBAAt(10, 2))
	assert.Equal(t, color.NRGBA{200, 0, 0, 255}, whole.NRGBAAt(4, 10))
	assert.Equal(t, color.NRGBA{0, 0, 90, 255}, whole.NRGBAAt(10, 17))
	narrow := finish(t, imaging.Recipe{Width: 4, Height: 20, Crop: "stretch"}, img)
	assert.Equal(t, color.NRGBA{200, 0, 0, 255}, narrow.NRGBAAt(0, 10))
	assert.Equal(t, color.NRGBA{0, 200, 0, 255}, narrow.NRGBAAt(3, 10))
	assert.True(t, (&imaging.Recipe{Width: 1280, Height: 720}).SameRatio(1921, 1080), "as near as whole pixels go")
	assert.False(t, (&imaging.Recipe{Width: 1280, Height: 720}).SameRatio(1920, 1200))
}

// Tints are the formulas of the W3C's Compositing and Blending, on sRGB numbers; darkening takes away light.
func TestTintsAreTheirFormulas(t *testing.T) {
	of := color.NRGBA{60, 128, 220, 255}
	tint := color.NRGBA{255, 100, 40, 255}
	back, over := [3]float64{60, 128, 220}, [3]float64{255, 100, 40}
	multiplied := finish(t, imaging.Recipe{Multiply: tint}, even(4, 4, of)).NRGBAAt(1, 1)
	half := finish(t, imaging.Recipe{Multiply: color.NRGBA{255, 100, 40, 128}}, even(4, 4, of)).NRGBAAt(1, 1)
	overlaid := finish(t, imaging.Recipe{Overlay: tint}, even(4, 4, of)).NRGBAAt(1, 1)
	for k := range 3 {
		b, s := back[k]/255, over[k]/255
		channel := func(c color.NRGBA) uint8 { return [3]uint8{c.R, c.G, c.B}[k] }
		assert.InDelta(t, b*s*255, channel(multiplied), 0.51, "multiply, colour %d", k)
		assert.InDelta(t, b*(1-128.0/255*(1-s))*255, channel(half), 0.51)
		want := 2 * b * s
		if b > 0.5 {
			want = 1 - 2*(1-b)*(1-s)
		}
		assert.InDelta(t, want*255, channel(overlaid), 0.51, "overlay, colour %d", k)
	}
	dark := finish(t, imaging.Recipe{Darken: 0.5}, even(4, 4, color.NRGBA{255, 255, 255, 255})).NRGBAAt(0, 0)
	assert.Equal(t, uint8(188), dark.R, "half the light of white is 188 in sRGB")
	v := finish(t, imaging.Recipe{Vignette: 1}, even(101, 51, color.NRGBA{255, 255, 255, 255}))
	assert.Equal(t, uint8(255), v.NRGBAAt(50, 25).R)
	assert.Equal(t, uint8(0), v.NRGBAAt(0, 0).R)
	assert.Equal(t, v.NRGBAAt(10, 10), v.NRGBAAt(90, 40))
	assert.Greater(t, v.NRGBAAt(50, 0).R, v.NRGBAAt(0, 0).R)
}

// A blurred point is a Gaussian: as wide as its radius says, even to all sides, and of as much light as before.
func TestBlurIsAGaussian(t *testing.T) {
	img := even(81, 81, color.NRGBA{0, 0, 0, 255})
	for y := 38; y <= 42; y++ {
		for x := 38; x <= 42; x++ {
			img.SetNRGBA(x, y, color.NRGBA{255, 255, 255, 255})
		}
	}
	out := finish(t, imaging.Recipe{Blur: 12}, img)
	linear := func(x, y int) float64 {
		v := float64(out.NRGBAAt(x, y).R) / 255
		if v <= 0.04045 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	}
	sum, second := 0.0, 0.0
	for y := range 81 {
		for x := range 81 {
			sum += linear(x, y)
			second += linear(x, y) * float64((x-40)*(x-40))
		}
	}
	assert.InDelta(t, 25, sum, 0.6, "no light is lost")
	assert.InDelta(t, math.Sqrt(36+2), math.Sqrt(second/sum), 0.25, "its standard deviation, with that of the square")
	assert.Equal(t, out.NRGBAAt(30, 40), out.NRGBAAt(40, 50))
	assert.Equal(t, color.NRGBA{90, 90, 90, 255},
		finish(t, imaging.Recipe{Blur: 30}, even(9, 9, color.NRGBA{90, 90, 90, 255})).NRGBAAt(0, 8),
		"edges stay as they are")
}

// Text stands where it is told, in its colour, and inside the picture however long it is; a font
// without its letters is told.
func TestTextStandsWhereItIsTold(t *testing.T) {
	ground := even(240, 120, color.NRGBA{90, 90, 90, 255})
	for _, at := range imaging.Places {
		text := &imaging.Text{Line: "Hut", At: at, Size: 0.2, Colour: color.NRGBA{255, 0, 0, 255}}
		out := finish(t, imaging.Recipe{Text: text}, ground)
		box := image.Rectangle{}
		for y := range 120 {
			for x := range 240 {
				if c := out.NRGBAAt(x, y); c.R > 230 && c.G < 40 {
					box = box.Union(image.Rect(x, y, x+1, y+1))
				}
			}
		}
		require.False(t, box.Empty(), at)
		middle := box.Min.Add(box.Max).Div(2)
		assert.Equal(t, strings.HasSuffix(at, "left"), middle.X < 80, at)
		assert.Equal(t, strings.HasSuffix(at, "right"), middle.X > 160, at)
		assert.Equal(t, strings.HasPrefix(at, "top"), middle.Y < 40, at)
		assert.Equal(t, strings.HasPrefix(at, "bottom"), middle.Y > 80, at)
		assert.InDelta(t, 0.2*0.72*120, float64(box.Dy()), 5, "as high as capitals of its size")
	}
	long := finish(t,
		imaging.Recipe{Frame: 4, FrameColour: color.NRGBA{0, 0, 255, 255},
			Text: &imaging.Text{Line: strings.Repeat("very long ", 9), Size: 0.3,
				Colour: color.NRGBA{255, 255, 255, 255}}}, ground)
	for y := range 120 {
		assert.Equal(t, color.NRGBA{0, 0, 255, 255}, long.NRGBAAt(1, y), "the frame stays free")
		assert.Equal(t, color.NRGBA{0, 0, 255, 255}, long.NRGBAAt(238, y))
	}
	missing, err := (&imaging.Text{Line: "Ж ok 雪"}).Missing()
	require.NoError(t, err)
	assert.Equal(t, "雪", missing)
	_, err = (&imaging.Text{Line: "x", Font: []byte("no font")}).Missing()
	assert.ErrorContains(t, err, "the font can't be read")
}

// noisy is a picture that is hard to pack.
func noisy(w, h int) *image.NRGBA {
	r := rand.New(rand.NewSource(1))
	img := even(w, h, color.NRGBA{0, 0, 0, 255})
	for i := range img.Pix {
		if i%4 != 3 {
			img.Pix[i] = uint8(r.Intn(256))
		}
	}
	return img
}

// A JPEG has the best quality with which it is small enough: one more and it would not be.
func TestJPEGIsAsGoodAsItsSizeAllows(t *testing.T) {
	img := noisy(96, 64)
	size := func(q int) int64 {
		var b bytes.Buffer
		require.NoError(t, jpeg.Encode(&b, img, &jpeg.Options{Quality: q}))
		return int64(b.Len())
	}
	for _, limit := range []int64{size(90), size(71), size(52) + 1, size(40) - 1} {
		data, q, fits, err := imaging.JPEG(img, 30, 90, limit)
		require.NoError(t, err)
		assert.True(t, fits)
		assert.LessOrEqual(t, int64(len(data)), limit)
		if q < 90 {
			assert.Greater(t, size(q+1), limit)
		}
	}
	data, q, fits, err := imaging.JPEG(img, 60, 90, 1000)
	require.NoError(t, err)
	assert.False(t, fits)
	assert.Equal(t, 60, q)
	assert.Equal(t, size(60), int64(len(data)))
}

// Readers that are not ours see what was written: sizes, forms, baseline; and what they write as
// progressive is found out.
func TestOtherReadersOfPictures(t *testing.T) {
	dir := t.TempDir()
	img := noisy(64, 48)
	data, _, _, err := imaging.JPEG(img, 50, 90, 0)
	require.NoError(t, err)
	png, fits, err := imaging.PNG(img, 100)
	require.NoError(t, err)
	assert.False(t, fits)
	jpg, lossless := filepath.Join(dir, "a.jpg"), filepath.Join(dir, "a.png")
	require.NoError(t, os.WriteFile(jpg, data, 0o666))
	require.NoError(t, os.WriteFile(lossless, png, 0o666))
	python := peer.Pillow(t)
	out := peer.Run(t, "", python, "-c", `
import sys
from PIL import Image
a, b = Image.open(sys.argv[1]), Image.open(sys.argv[2])
print(a.format, a.size, a.mode, a.info.get("progressive", 0), b.format, b.size, b.mode)
print(",".join(str(v) for v in b.convert("RGB").getpixel((5, 7))))
a.save(sys.argv[3], progressive=True)
`, jpg, lossless, filepath.Join(dir, "p.jpg"))
	assert.Contains(t, out, "JPEG (64, 48) RGB 0 PNG (64, 48) RGB")
	c := img.NRGBAAt(5, 7)
	assert.Contains(t, out, fmt.Sprintf("%d,%d,%d", c.R, c.G, c.B))
	for name, want := range map[string]imaging.Ready{"a.jpg": {Form: "JPEG", Width: 64, Height: 48},
		"a.png": {Form: "PNG", Width: 64, Height: 48},
		"p.jpg": {Form: "JPEG", Width: 64, Height: 48, Progressive: true}} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		got, err := imaging.Inspect(name, data)
		require.NoError(t, err)
		assert.Equal(t, want, got, name)
		for n := range len(data) { // cut short anywhere it is refused or read, and never worse
			if n%97 == 0 {
				_, _ = imaging.Inspect(name, data[:n])
			}
		}
	}
}

// A shot comes through a recipe that does nothing as it was drawn, and an image as it was painted,
// with its alpha where that is kept.
func TestNothingIsDoneUnasked(t *testing.T) {
	shot := &imaging.RGB48{W: 16, H: 16, Pix: make([]uint16, 3*256)}
	for i := range shot.Pix {
		shot.Pix[i] = uint16(i * 85)
	}
	out, err := (&imaging.Recipe{Width: 16, Height: 16}).Shot(shot)
	require.NoError(t, err)
	assert.Equal(t, shot.NRGBA().Pix, out.Pix)
	img := noisy(20, 10)
	for i := 3; i < len(img.Pix); i += 4 {
		img.Pix[i] = uint8(i * 7)
	}
	kept := finish(t, imaging.Recipe{KeepAlpha: true}, img)
	flat := finish(t, imaging.Recipe{Background: color.NRGBA{0, 0, 0, 255}}, img)
	for i := 0; i < len(img.Pix); i += 4 {
		assert.Equal(t, img.Pix[i+3], kept.Pix[i+3])
		if img.Pix[i+3] > 0 {
			assert.Equal(t, img.Pix[i:i+3], kept.Pix[i:i+3])
		}
		assert.Equal(t, uint8(255), flat.Pix[i+3])
	}
	data, fits, err := imaging.PNG(kept, 0)
	require.NoError(t, err)
	assert.True(t, fits)
	back, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Equal(t, kept.Pix, back.(*image.NRGBA).Pix)
}
