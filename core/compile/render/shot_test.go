package render_test

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/format/bvh"
	"vornix/core/format/imaging"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/source/maplang"
)

// stage compiles a map, with light as it is needed.
func stage(t *testing.T, source string, looks map[string]render.Appearance, long *compile.Long) *mapfile.Map {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..2\n"+source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	o := compile.Options{MaterialSize: func(string) float64 { return 1 },
		SeeThrough: func(name string) bool { return looks[name].SeeThrough != "" }, Long: long}
	if long != nil {
		long.Looks = func(name string) radiance.Appearance { return looks[name].Appearance }
	}
	r, err := compile.Compile(context.Background(), m, o)
	require.NoError(t, err)
	return r.Map
}

// shoot takes a picture of a scene with a camera at a place that looks at another.
func shoot(t *testing.T, s *render.Scene, c render.Camera, w, h int) *image.NRGBA {
	t.Helper()
	img, err := s.Shoot(context.Background(), c, render.Options{Width: w, Height: h})
	require.NoError(t, err)
	return img.NRGBA()
}

func of(looks map[string]render.Appearance) func(string) render.Appearance {
	return func(name string) render.Appearance { return looks[name] }
}

// plain is an unlit look of one linear colour.
func plain(r, g, b float64) render.Appearance {
	return render.Appearance{Appearance: radiance.Appearance{Tint: [3]float64{r / 0.6, g / 0.6, b / 0.6}, Unlit: true}}
}

// srgb8 is the 8-bit sRGB value of a part of white (IEC 61966-2-1).
func srgb8(v float64) uint8 {
	if v <= 0.0031308 {
		v *= 12.92
	} else {
		v = 1.055*math.Pow(v, 1/2.4) - 0.055
	}
	return uint8(math.Round(v * 255))
}

func painted(w, h int, of func(x, y int) color.NRGBA) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetNRGBA(x, y, of(x, y))
		}
	}
	return img
}

// A grey plane under an even sky of known brightness has just the colour that the closed form says:
// what falls on it, by what it sends on; and exposure is a factor of two a stop.
func TestALitPlaneHasItsExactColour(t *testing.T) {
	grey := render.Appearance{Appearance: radiance.Appearance{Tint: [3]float64{0.5 / 0.6, 0.5 / 0.6, 0.5 / 0.6}}}
	looks := map[string]render.Appearance{"grey": grey}
	m := stage(t, "solid floor box -20,-20,-1 20,20,0 material=grey\nsky s sun=40,180 power=0 dome=#ffffff glow=0.6\n",
		looks, &compile.Long{})
	s := render.NewScene(m, of(looks), nil, 64)
	for stops, want := range map[float64]uint8{0: srgb8(0.3), 1: srgb8(0.6), -2: srgb8(0.075)} {
		img := shoot(t, s, render.Camera{At: bvh.Vec{0, 0, 5}, Look: bvh.Vec{0, 1, 0}, FOV: 40, Exposure: stops}, 32,
			24)
		for _, p := range []image.Point{{2, 2}, {16, 12}, {30, 22}} {
			assert.InDelta(t, want, img.NRGBAAt(p.X, p.Y).R, 1, "%v stops", stops)
		}
	}
}

// A red wall throws red light on the white floor before it, the more the nearer.
func TestARedWallBounces(t *testing.T) {
	looks := map[string]render.Appearance{"white": {Appearance: radiance.Appearance{Tint: [3]float64{1.5, 1.5, 1.5}}},
		"red": {Appearance: radiance.Appearance{Tint: [3]float64{1.4, 0.1, 0.1}}}}
	m := stage(t, "solid floor box -8,-8,-1 8,8,0 material=white\nsolid wall box -8,8,-1 8,9,6 material=red\nsky s sun=30,180 power=3 dome=#ffffff glow=0.2\n", looks, &compile.Long{})
	img := shoot(t, render.NewScene(m, of(looks), nil, 64),
		render.Camera{At: bvh.Vec{0, 0, 12}, Look: bvh.Vec{0, 0.01, 0}, FOV: 67}, 64, 64)
	redness := func(y int) float64 { c := img.NRGBAAt(32, y); return float64(c.R) / float64(c.G) }
	assert.Greater(t, redness(6), 1.08, "before the wall")
	assert.Greater(t, redness(6), redness(20))
	assert.Greater(t, redness(20), redness(58))
	assert.InDelta(t, 1, redness(60), 0.06, "far from it")
}

// A texture lies on a wall as it was painted: its upper left corner where one sees it upper left.
func TestTexturesStandUpright(t *testing.T) {
	corners := painted(32, 32, func(x, y int) color.NRGBA {
		x, y = x/16, y/16
		return [2][2]color.NRGBA{{{255, 0, 0, 255}, {0, 255, 0, 255}}, {{0, 0, 255, 255}, {255, 255, 0, 255}}}[y][x]
	})
	looks := map[string]render.Appearance{"sign": {Appearance: radiance.Appearance{Colour: corners, Unlit: true}}}
	m := stage(t, "solid wall box 0,0,0 1,1,1 material=sign\n", looks, nil)
	s := render.NewScene(m, of(looks), nil, 64)
	for _, at := range []bvh.Vec{{0.5, -3, 0.5}, {0.5, 4, 0.5}, {-3, 0.5, 0.5}, {4, 0.5, 0.5}} {
		img := shoot(t, s, render.Camera{At: at, Look: bvh.Vec{0.5, 0.5, 0.5}, FOV: 16}, 40, 40)
		near := func(x, y int, want color.NRGBA) {
			c := img.NRGBAAt(x, y)
			for k, v := range [3][2]uint8{{c.R, want.R}, {c.G, want.G}, {c.B, want.B}} {
				assert.InDelta(t, v[1], v[0], 40, "from %v at %d,%d colour %d: %v", at, x, y, k, c)
			}
		}
		near(11, 11, color.NRGBA{255, 0, 0, 255})
		near(28, 11, color.NRGBA{0, 255, 0, 255})
		near(11, 28, color.NRGBA{0, 0, 255, 255})
		near(28, 28, color.NRGBA{255, 255, 0, 255})
	}
}

// From afar a chequered wall is the mean of its fields, in light and not in numbers; from near by it shows them.
func TestMipsAreChosenByDistance(t *testing.T) {
	chequered := painted(64, 64, func(x, y int) color.NRGBA {
		if (x+y)%2 == 0 {
			return color.NRGBA{255, 255, 255, 255}
		}
		return color.NRGBA{0, 0, 0, 255}
	})
	looks := map[string]render.Appearance{"chess": {Appearance: radiance.Appearance{Colour: chequered, Unlit: true}}}
	m := stage(t, "solid wall box -40,0,-40 40,1,40 material=chess\n", looks, nil)
	s := render.NewScene(m, of(looks), nil, 64)
	spread := func(distance float32) (low, high uint8) {
		img := shoot(t, s, render.Camera{At: bvh.Vec{0.1, -distance, 0.1}, Look: bvh.Vec{0.1, 0, 0.1}, FOV: 40}, 32, 32)
		low = 255
		for y := range 32 {
			for x := range 32 {
				v := img.NRGBAAt(x, y).R
				low, high = min(low, v), max(high, v)
			}
		}
		return low, high
	}
	low, high := spread(40) // a pixel covers 58 texels
	assert.InDelta(t, srgb8(0.485), low, 1)
	assert.InDelta(t, srgb8(0.485), high, 1)
	low, high = spread(0.1) // and here a seventh of one
	assert.Less(t, low, uint8(100))
	assert.Greater(t, high, uint8(200))
}

// A mirror shows what is before it, at the place where it is; a soft pane colours what lies behind
// it; fog takes its part with the distance; murk with the depth.
func TestMirrorsPanesFogAndMurk(t *testing.T) {
	glass := plain(0, 0, 0)
	glass.Reflection, glass.Roughness = 1, 0
	looks := map[string]render.Appearance{"mirror": glass, "red": plain(0.5, 0, 0), "blue": plain(0, 0, 0.5),
		"grey": plain(0.4, 0.4, 0.4)}
	m := stage(t, "solid mirror box -5,5,-5 5,6,5 material=mirror\nsolid left box -5,-6,-5 0,-5,5 material=red\nsolid right box 0,-6,-5 5,-5,5 material=blue\n", looks, nil)
	img := shoot(t, render.NewScene(m, of(looks), nil, 8),
		render.Camera{At: bvh.Vec{0, 0, 0}, Look: bvh.Vec{0, 1, 0}, FOV: 50}, 32, 16)
	assert.Equal(t, color.NRGBA{srgb8(0.5), 0, 0, 255}, img.NRGBAAt(8, 8), "what is on the left is seen on the left")
	assert.Equal(t, color.NRGBA{0, 0, srgb8(0.5), 255}, img.NRGBAAt(24, 8))

	water := plain(0, 0.3, 0.1)
	water.SeeThrough, water.Murk = material.SeeThroughSoft, 2
	// 0.3 and 0.1 in light, and clear
	water.Colour = painted(1, 1, func(int, int) color.NRGBA { return color.NRGBA{0, 149, 89, 0} })
	water.Tint = [3]float64{1, 1, 1}
	looks["water"] = water
	m = stage(t, "solid bed box -9,-9,-2 9,9,-1 material=grey\nsolid pool box -9,-9,-1 9,9,0 material=water\nfog f range=60 colour=#ffffff\n", looks, nil)
	s := render.NewScene(m, of(looks), nil, 8)
	at := func(height float32) color.NRGBA {
		return shoot(t, s, render.Camera{At: bvh.Vec{0, 0, height}, Look: bvh.Vec{0, 0.0001, 0}, FOV: 4}, 8,
			8).NRGBAAt(4, 4)
	}
	for _, height := range []float64{1, 9} {
		left := math.Exp(-3 * 1.0 / 2)
		bed := 0.4*math.Exp(-3*(height+1)/60) + 1 - math.Exp(-3*(height+1)/60)
		want := [3]float64{bed * left, bed*left + linear(149)*(1-left), bed*left + linear(89)*(1-left)}
		got := at(float32(height))
		for k, v := range [3]uint8{got.R, got.G, got.B} {
			assert.InDelta(t, srgb8(min(want[k], 0.7)), v, 2, "from %v m, colour %d", height, k)
		}
	}
}

// What a soft surface mirrors has come through the fog on both of its ways, as what an opaque one mirrors has.
func TestFogLiesBeforeMirrors(t *testing.T) {
	grey := map[string]uint8{}
	for name, soft := range map[string]string{"opaque": "", "soft": material.SeeThroughSoft} {
		mirror := plain(0, 0, 0)
		mirror.Reflection, mirror.SeeThrough = 1, soft
		looks := map[string]render.Appearance{"mirror": mirror, "black": plain(1e-6, 1e-6, 1e-6)}
		m := stage(t, "solid mirror box -5,20,-5 5,21,5 material=mirror\nsolid behind box -5,-21,-5 5,-20,5 material=black\nfog f range=120 colour=#ffffff\n", looks, nil)
		grey[name] = shoot(t, render.NewScene(m, of(looks), nil, 8), render.Camera{Look: bvh.Vec{0, 1, 0}, FOV: 8}, 8,
			8).NRGBAAt(4, 4).R
	}
	want := 1 - math.Exp(-3*60.0/120) // 20 m there, 40 m back
	assert.InDelta(t, srgb8(0.7+0.3*(1-1/(1+(want-0.7)/0.3))), grey["opaque"], 2)
	assert.InDelta(t, grey["opaque"], grey["soft"], 1)
}

func linear(v uint8) float64 {
	return float64(radiance.Linear(uint32(v))[2])
}

// What lies at the focus stays sharp, and what lies behind it is blurred, the more the wider the
// lens; cut-outs are seen through.
func TestDepthOfFieldAndHoles(t *testing.T) {
	grid := painted(8, 8, func(x, y int) color.NRGBA {
		if x < 4 {
			return color.NRGBA{255, 255, 255, 255}
		}
		return color.NRGBA{}
	})
	fence := render.Appearance{Appearance: radiance.Appearance{Colour: grid, SeeThrough: material.SeeThroughCutOut,
		Unlit: true}}
	looks := map[string]render.Appearance{"fence": fence, "green": plain(0, 0.5, 0)}
	m := stage(t, "solid fence box -4,2,-4 4,2.02,4 material=fence\nsolid back box -40,40,-40 40,41,40 material=green\n", looks, nil)
	s := render.NewScene(m, of(looks), nil, 8)
	edge := func(lens, focus float64) (steep int) {
		img := shoot(t, s,
			render.Camera{At: bvh.Vec{0, 0, 0}, Look: bvh.Vec{0, 1, 0}, FOV: 60, Lens: lens, Focus: focus}, 128, 16)
		green, red := 0, func(x int) (sum int) { // of all rows, which are alike but for noise
			for y := range 16 {
				sum += int(img.NRGBAAt(x, y).R)
			}
			return sum / 16
		}
		for x := 1; x < 128; x++ {
			steep = max(steep, red(x)-red(x-1))
			if c := img.NRGBAAt(x, 2); c.R < 30 && c.G > 170 {
				green++
			}
		}
		if lens == 0 {
			assert.Greater(t, green, 40, "through the holes one sees what is behind")
		}
		return steep
	}
	sharp := edge(0, 0)
	assert.Greater(t, sharp, 180)
	assert.Greater(t, edge(0.05, 2), sharp*7/10, "it is at the focus")
	assert.Less(t, edge(0.05, 40), sharp/2, "and here it is not")
}

// A normal map turns light as its bumps say: from the side that the light comes from it is brighter.
func TestNormalMapsTurnTheLight(t *testing.T) {
	tilted := func(r uint8) *image.NRGBA {
		return painted(1, 1, func(int, int) color.NRGBA { return color.NRGBA{r, 128, 218, 255} }) // 45 degrees
	}
	base := radiance.Appearance{Tint: [3]float64{0.8, 0.8, 0.8}}
	looks := map[string]render.Appearance{"east": {Appearance: base, Normal: tilted(218)}, "flat": {Appearance: base},
		"west": {Appearance: base, Normal: tilted(38)}}
	bright := map[string]uint8{}
	for name := range looks {
		m := stage(t, fmt.Sprintf("solid floor box -9,-9,-1 9,9,0 material=%s\nsky s sun=45,90 power=1 dome=#000000 glow=0\n", name), looks, &compile.Long{})
		bright[name] = shoot(t, render.NewScene(m, of(looks), nil, 8),
			render.Camera{At: bvh.Vec{0, 0, 5}, Look: bvh.Vec{0, 0.01, 0}, FOV: 30}, 8, 8).NRGBAAt(4, 4).R
	}
	assert.Greater(t, bright["east"], bright["flat"]+10, "bumps face the sun in the east")
	assert.Less(t, bright["west"], bright["flat"]/3, "and away from it")
}

// The same picture comes from any number of workers, and a draft is the same picture, only rougher.
func TestShotsAreDeterministic(t *testing.T) {
	rough := render.Appearance{Appearance: radiance.Appearance{}, Reflection: 0.4, Roughness: 0.4}
	looks := map[string]render.Appearance{"a": rough, "b": plain(0.1, 0.6, 0.3)}
	m := stage(t, "solid a box -9,-9,-1 9,9,0 material=a\nsolid b cylinder 0,3,0 radius=1 height=3 material=b\nsky s sun=45,90\n", looks, &compile.Long{})
	s := render.NewScene(m, of(looks), nil, 8)
	c := render.Camera{At: bvh.Vec{1, -6, 2}, Look: bvh.Vec{0, 3, 1}, FOV: 60, Lens: 0.02}
	var first *imaging.RGB48
	for _, workers := range []int{1, 2, 7} {
		img, err := s.Shoot(context.Background(), c, render.Options{Width: 80, Height: 50, Workers: workers})
		require.NoError(t, err)
		if first == nil {
			first = img
		}
		assert.Equal(t, first.Pix, img.Pix, "%d workers", workers)
	}
	draft, err := s.Shoot(context.Background(), c, render.Options{Width: 80, Height: 50, Draft: true})
	require.NoError(t, err)
	sum := 0.0
	for i := range draft.Pix {
		sum += math.Abs(float64(draft.Pix[i])-float64(first.Pix[i])) / 65535
	}
	assert.Less(t, sum/float64(len(draft.Pix)), 0.03)
	stopped, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = s.Shoot(stopped, c, render.Options{Width: 80, Height: 50})
	assert.ErrorIs(t, err, context.Canceled)
}
