package render_test

import (
	"context"
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/format/mapfile"
	"vornix/core/source/maplang"
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
	m, findings := maplang.Read("m.vnx",
		[]byte("map m title=\"M\" sealed=yes\nsolid a box 0,0,0 8,4,1 material=a\nspawn s at=2,2,1\nvolume v box -500,-500,-20 500,500,-10 effect=remove\n"), maplang.Options{})
	require.Empty(t, findings)
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 2 }})
	require.NoError(t, err)
	require.NotNil(t, r.Leak)
	ink, red := color.RGBA{0x30, 0x33, 0x38, 255}, color.RGBA{0xd0, 0x21, 0x21, 255}
	plain, leaking := render.Plan(r.Map, nil), render.Plan(r.Map, r.Leak)
	assert.Equal(t, image.Rect(0, 0, render.Width, render.Height), plain.Bounds())
	for _, view := range []image.Rectangle{image.Rect(16, 40, 836, 784), image.Rect(852, 40, 1264, 400),
		image.Rect(852, 424, 1264, 784)} {
		assert.Greater(t, count(plain, view, ink), 300, "the outline of the box")
		assert.Zero(t, count(plain, view, red))
		assert.Greater(t, count(leaking, view, red), 30, "the way out")
	}
	assert.Equal(t, leaking, render.Plan(r.Map, r.Leak))
	// Twice as long as it is deep, from above.
	left, right, top, bottom := render.Width, 0, render.Height, 0
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
	render.Plan(&mapfile.Map{}, nil)
	huge := float32(math.MaxFloat32)
	render.Plan(&mapfile.Map{Objects: []mapfile.Object{{Kind: "spawn", A: [3]float32{huge, -huge, 1}},
		{Kind: "camera", B: [3]float32{huge, 0, -huge}},
		{Kind: "volume", A: [3]float32{-huge, -huge, -huge}, B: [3]float32{huge, huge, huge}}}}, nil)
}

// The overlays show the cells of visibility in the colour of how much is seen, and the ground in
// that of its island; tiles are drawn in the light that lies on them.
func TestOverlaysAndTiles(t *testing.T) {
	read := func(source string) *mapfile.Map {
		m, findings := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..2\n"+source), maplang.Options{})
		require.NotNil(t, m, "%v", findings)
		r, err := compile.Compile(context.Background(), m,
			compile.Options{MaterialSize: func(string) float64 { return 2 }, Long: &compile.Long{}})
		require.NoError(t, err)
		return r.Map
	}
	m := read("solid a box 0,0,-1 20,9,0 material=a\nsolid b box 40,0,-1 60,9,0 material=a\nsolid wall box 0,4,0 20,5,30 material=a\ncut c box 0,-5,0 20,4,30\nsky s sun=50,30\n")
	above := image.Rect(16, 40, 836, 784)
	ground := render.Ground(m)
	near := func(img image.Image, c color.RGBA) (n int) { // a colour lies over another by eight parts in ten
		for y := above.Min.Y; y < above.Max.Y; y++ {
			for x := above.Min.X; x < above.Max.X; x++ {
				r, g, b, _ := img.At(x, y).RGBA()
				if math.Abs(float64(r>>8)-float64(c.R))+math.Abs(float64(g>>8)-float64(c.G))+
					math.Abs(float64(b>>8)-float64(c.B)) < 100 {
					n++
				}
			}
		}
		return n
	}
	assert.Greater(t, near(ground, color.RGBA{0x8c, 0xc0, 0x82, 255}), 5000, "the largest island")
	assert.Greater(t, near(ground, color.RGBA{0xe8, 0xa8, 0x5c, 255}), 5000, "the second")
	cells := render.Cells(m)
	assert.Greater(t, near(cells, color.RGBA{0xd8, 0x4a, 0x2c, 255})+near(cells, color.RGBA{0xba, 0x87, 0x88, 255}),
		20000)
	assert.NotEqual(t, render.Plan(m, nil), cells)

	tiles := read("legend # tile=a solid=yes\nlegend . tile=b\ngrid g cells=5,3\n  row #####\n  row #...#\n  row #####\nlight l point 1.5,1.5,0 colour=#ffffff power=60\n")
	white := func(string) render.Appearance {
		return render.Appearance{Appearance: radiance.Appearance{Tint: [3]float64{1 / 0.6, 1 / 0.6, 1 / 0.6}}}
	}
	img := render.NewTiles(tiles, white, nil).Levels(render.All)
	at := func(x, y float64) uint32 { r, _, _, _ := img.At(16+int(x*240), 20+int(y*240)).RGBA(); return r >> 8 }
	assert.Greater(t, at(1.5, 1.5), at(2.5, 1.5), "the nearer to the lamp, the brighter")
	assert.Greater(t, at(2.5, 1.5), at(3.5, 1.5))
	assert.Equal(t, uint32(render.NewTiles(tiles, white, nil).Levels(render.OnlyLight).At(16+360,
		20+360).(color.RGBA).R), at(1.5, 1.5), "white shows the light itself")
	render.Cells(&mapfile.Map{})
	render.Ground(&mapfile.Map{})
	render.NewTiles(&mapfile.Map{}, white, nil).Levels(render.All)
}
