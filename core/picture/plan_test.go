package picture_test

import (
	"context"
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/mapfile"
	"vornix/core/mapsrc"
	"vornix/core/picture"
)

func count(img image.Image, in image.Rectangle, c color.RGBA) (n int) {
	for y := in.Min.Y; y < in.Max.Y; y++ {
		for x := in.Min.X; x < in.Max.X; x++ {
			if img.At(x, y) == c {
				n++
			}
		}
	}
	return n
}

// The three views show a map where it lies, and a leak as a red line in each of them.
func TestPlan(t *testing.T) {
	m, findings := mapsrc.Read("m.vnx", []byte("map m title=\"M\" sealed=yes\nsolid a box 0,0,0 8,4,1 material=a\nspawn s at=2,2,1\nvolume v box -500,-500,-20 500,500,-10 effect=remove\n"), mapsrc.Options{})
	require.Empty(t, findings)
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 2 }})
	require.NoError(t, err)
	require.NotNil(t, r.Leak)
	ink, red := color.RGBA{0x30, 0x33, 0x38, 255}, color.RGBA{0xd0, 0x21, 0x21, 255}
	plain, leaking := picture.Plan(r.Map, nil), picture.Plan(r.Map, r.Leak)
	assert.Equal(t, image.Rect(0, 0, picture.Width, picture.Height), plain.Bounds())
	for _, view := range []image.Rectangle{image.Rect(16, 40, 836, 784), image.Rect(852, 40, 1264, 400), image.Rect(852, 424, 1264, 784)} {
		assert.Greater(t, count(plain, view, ink), 300, "the outline of the box")
		assert.Zero(t, count(plain, view, red))
		assert.Greater(t, count(leaking, view, red), 30, "the way out")
	}
	assert.Equal(t, leaking, picture.Plan(r.Map, r.Leak))
	// Twice as long as it is deep, from above.
	left, right, top, bottom := picture.Width, 0, picture.Height, 0
	for y := 60; y < 780; y++ {
		for x := 20; x < 830; x++ {
			if plain.At(x, y) == ink {
				left, right, top, bottom = min(left, x), max(right, x), min(top, y), max(bottom, y)
			}
		}
	}
	assert.InDelta(t, 2, float64(right-left)/float64(bottom-top), 0.02)
}

// Maps with nothing in them, or with numbers of any size, are drawn in bounded time.
func TestPlanOfOddMaps(t *testing.T) {
	picture.Plan(&mapfile.Map{}, nil)
	huge := float32(math.MaxFloat32)
	picture.Plan(&mapfile.Map{Objects: []mapfile.Object{{Kind: "spawn", A: [3]float32{huge, -huge, 1}}, {Kind: "camera", B: [3]float32{huge, 0, -huge}}, {Kind: "volume", A: [3]float32{-huge, -huge, -huge}, B: [3]float32{huge, huge, huge}}}}, nil)
}
