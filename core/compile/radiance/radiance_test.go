package radiance_test

import (
	"image"
	"image/color"
	"math"
	"math/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/radiance"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/source/scene"
)

// square is two triangles in the plane at x, from y and z of low to those of high, that face -X.
type square struct {
	x         float32
	low, high [2]float32
	material  string
}

// board is a map of squares, each one face with texture coordinates from 0 to 1: u along y, v down.
func board(squares ...square) *mapfile.Map {
	m := &mapfile.Map{}
	for _, s := range squares {
		first := uint32(len(m.Vertices))
		for _, c := range [4][2]float32{{0, 0}, {0, 1}, {1, 1}, {1, 0}} {
			m.Vertices = append(m.Vertices,
				mapfile.Vertex{Position: [3]float32{s.x, s.low[0] + c[0]*(s.high[0]-s.low[0]),
					s.low[1] + c[1]*(s.high[1]-s.low[1])}, Normal: [3]float32{-1, 0, 0},
					UV: [2]float32{c[0], 1 - c[1]}})
		}
		m.Faces = append(m.Faces,
			mapfile.Face{Material: s.material, FirstVertex: first, Vertices: 4, FirstIndex: uint32(len(m.Indices)),
				IndexNumber: 6})
		m.Indices = append(m.Indices, first, first+1, first+2, first, first+2, first+3)
	}
	return m
}

// even is an image of one colour.
func even(c color.NRGBA) image.Image {
	img := image.NewNRGBA(image.Rect(0, 0, 1, 1))
	img.SetNRGBA(0, 0, c)
	return img
}

func linear(v uint8) float64 { // IEC 61966-2-1
	f := float64(v) / 255
	if f <= 0.04045 {
		return f / 12.92
	}
	return math.Pow((f+0.055)/1.055, 2.4)
}

func paints(looks map[string]radiance.Appearance) func(string) *radiance.Painted {
	return func(name string) *radiance.Painted { return radiance.Paint(looks[name], 64) }
}

var along = bvh.Vec{1, 0, 0}

// What shows is what an image has there: the upper left at the upper left, as one looks at the face.
func TestAFaceShowsItsImageTheRightWayUp(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 2, 2))
	// rows from the top
	corners := [4]color.NRGBA{{200, 0, 0, 255}, {0, 200, 0, 255}, {0, 0, 200, 255}, {200, 200, 0, 255}}
	for i, c := range corners {
		img.SetNRGBA(i%2, i/2, c)
	}
	s := radiance.New(board(square{x: 4, high: [2]float32{2, 2}, material: "a"}),
		paints(map[string]radiance.Appearance{"a": {Colour: img}}), nil)
	for i, c := range corners {
		seen := s.See(bvh.Vec{0, float32(i%2) + 0.5, 1.5 - float32(i/2)}, along)
		require.True(t, seen.Hit)
		require.False(t, seen.Behind)
		assert.InDelta(t, 4, seen.Distance, 1e-5)
		assert.InDelta(t, linear(c.R), seen.Colour[0], 1e-3)
		assert.InDelta(t, linear(c.G), seen.Colour[1], 1e-3)
		assert.InDelta(t, linear(c.B), seen.Colour[2], 1e-3)
		assert.Equal(t, bvh.Vec{}, seen.Light, "it is dark")
	}
	assert.True(t, s.See(bvh.Vec{8, 1, 1}, bvh.Vec{-1, 0, 0}).Behind)
	assert.False(t, s.See(bvh.Vec{0, 5, 1}, along).Hit)
}

// Tint, contrast and saturation do what their formulas say, and nothing sends back all light.
func TestLooks(t *testing.T) {
	c := color.NRGBA{180, 90, 40, 255}
	at := func(l radiance.Appearance) bvh.Vec {
		l.Colour = even(c)
		return radiance.Paint(l, 4).Colour(0.3, 7.9)
	}
	plain := bvh.Vec{float32(linear(c.R)), float32(linear(c.G)), float32(linear(c.B))}
	assert.InDeltaSlice(t, plain[:], slice(at(radiance.Appearance{})), 1e-3)
	tinted := at(radiance.Appearance{Tint: [3]float64{0.5, 1, 0.25}})
	assert.InDeltaSlice(t, []float32{plain[0] / 2, plain[1], plain[2] / 4}, slice(tinted), 1e-3)
	var hard, grey [3]float32
	mean := 0.2126*180 + 0.7152*90 + 0.0722*40
	for k, v := range []float64{180, 90, 40} {
		hard[k] = float32(linear(uint8(min(max(127.5+(v-127.5)*1.5, 0), 255) + 0.5)))
		grey[k] = float32(linear(uint8(mean + 0.5)))
	}
	assert.InDeltaSlice(t, hard[:], slice(at(radiance.Appearance{Contrast: 1.5})), 0.01)
	assert.InDeltaSlice(t, grey[:], slice(at(radiance.Appearance{Saturation: -1})), 0.01)
	assert.InDelta(t, 0.97,
		radiance.Paint(radiance.Appearance{Colour: even(color.NRGBA{255, 255, 255, 255})}, 4).Colour(0, 0)[0], 1e-6)
	assert.NotEqual(t, radiance.Paint(radiance.Appearance{}, 4).Sum(),
		radiance.Paint(radiance.Appearance{Unlit: true}, 4).Sum())
	assert.Equal(t, radiance.Paint(radiance.Appearance{Tint: [3]float64{1, 1, 1}}, 4).Sum(),
		radiance.Paint(radiance.Appearance{}, 4).Sum(), "white is no tint")
}

func slice(v bvh.Vec) []float32 { return v[:] }

// Of a stack of squares in any order, opaque ones stop light, holes let all of it through and glass
// the part that it should; what is seen is the light of each, through those before it.
func TestStacksOfGlassAndHoles(t *testing.T) {
	r := rand.New(rand.NewSource(6))
	glass := map[string]color.NRGBA{"red": {230, 30, 20, 90}, "blue": {20, 40, 220, 170}, "clear": {255, 255, 255, 0}}
	looks := map[string]radiance.Appearance{"wall": {Colour: even(color.NRGBA{120, 120, 120, 255}), Unlit: true},
		"hole": {Colour: even(color.NRGBA{9, 9, 9, 0}), SeeThrough: material.SeeThroughCutOut},
		"bar":  {Colour: even(color.NRGBA{60, 70, 80, 255}), SeeThrough: material.SeeThroughCutOut, Unlit: true}}
	for name, c := range glass {
		looks[name] = radiance.Appearance{Colour: even(c), SeeThrough: material.SeeThroughSoft, Unlit: true}
	}
	names := []string{"wall", "hole", "bar", "red", "blue", "clear"}
	for range 300 {
		var squares []square
		order := make([]string, r.Intn(7))
		for i := range order {
			order[i] = names[r.Intn(len(names))]
			squares = append(squares,
				square{x: float32(i + 1), low: [2]float32{-1, -1}, high: [2]float32{1, 1}, material: order[i]})
		}
		r.Shuffle(len(squares), func(i, j int) { squares[i], squares[j] = squares[j], squares[i] })
		m := board(squares...)
		m.Meta.Sky = &mapfile.Sky{Dome: 0xffffff, Horizon: 0xffffff, Glow: 2}
		s := radiance.New(m, paints(looks), nil)
		var want [3]float64
		through := [3]float64{1, 1, 1}
		stopped := false
		for _, name := range order {
			c := looks[name].Colour.(*image.NRGBA).Pix
			own := [3]float64{min(linear(c[0]), 0.97), min(linear(c[1]), 0.97), min(linear(c[2]), 0.97)}
			alpha := float64(c[3]) / 255
			if name == "hole" {
				continue
			}
			opaque := name == "wall" || name == "bar"
			for k := range 3 {
				if opaque {
					want[k] += through[k] * own[k]
					through[k] = 0
				} else {
					want[k] += through[k] * own[k] * alpha
					through[k] *= (1 - alpha) * (1 - min(2*alpha, 1)*(1-own[k]))
				}
			}
			if stopped = opaque; stopped {
				break
			}
		}
		passes := s.Passes(bvh.Vec{0, 0.1, 0.2}, bvh.Vec{20, 0, 0})
		for k := range 3 {
			require.InDelta(t, through[k], passes[k], 1e-3, "%v", order)
			if !stopped {
				want[k] += through[k] * 2
			}
		}
		seen := s.See(bvh.Vec{0, 0.1, 0.2}, along)
		require.Equal(t, stopped, seen.Hit, "%v", order)
		for k := range 3 {
			require.InDelta(t, want[k], seen.Light[k], 2e-3, "%v", order)
		}
		require.Equal(t, seen.Light, seen.Others, "nothing glows")
	}
}

// What glows is told apart from the light that it sends back, and its triangles are found, but for
// holes, panes and backs.
func TestEmitters(t *testing.T) {
	half := image.NewNRGBA(image.Rect(0, 0, 2, 1)) // its right half is a hole
	half.SetNRGBA(0, 0, color.NRGBA{255, 255, 255, 255})
	white := even(color.NRGBA{255, 255, 255, 255})
	m := board(square{x: 2, high: [2]float32{2, 1}, material: "lamp"},
		square{x: 3, low: [2]float32{5, 0}, high: [2]float32{7, 1}, material: "torn"},
		square{x: 3, low: [2]float32{9, 0}, high: [2]float32{10, 1}, material: "pane"},
		square{x: 9, low: [2]float32{-9, 0}, high: [2]float32{-8, 1}, material: "dark"})
	s := radiance.New(m, paints(map[string]radiance.Appearance{
		"lamp": {Colour: white, Emission: white, EmissionPower: 5, Unlit: true, DoubleSided: true},
		"torn": {Colour: half, Emission: white, EmissionPower: 3, SeeThrough: material.SeeThroughCutOut},
		"pane": {Colour: even(color.NRGBA{255, 255, 255, 50}), Emission: white, EmissionPower: 1,
			SeeThrough: material.SeeThroughSoft}}), nil)
	require.True(t, s.Glows())
	list := s.Emitters()
	require.Len(t, list, 4, "two triangles each of the lamp and of the torn one")
	area := float32(0)
	for i := range list {
		area += list[i].Area
	}
	assert.InDelta(t, 4, area, 1e-5)
	seen := s.See(bvh.Vec{0, 1, 0.5}, along)
	require.NotZero(t, seen.Emitter)
	assert.InDelta(t, 5.97, seen.Light[0], 1e-3)
	assert.InDelta(t, 0.97, seen.Others[0], 1e-3)
	e := &list[seen.Emitter-1]
	assert.True(t, e.Both)
	assert.True(t, s.Even(e))
	assert.InDelta(t, 5, s.Brightest(e), 1e-5)
	torn := s.See(bvh.Vec{0, 5.3, 0.5}, along)
	require.NotZero(t, torn.Emitter)
	e = &list[torn.Emitter-1]
	assert.False(t, s.Even(e))
	bright := 0
	for i := range list {
		for _, p := range [][2]float32{{0.1, 0.1}, {0.8, 0.1}, {0.1, 0.8}, {0.3, 0.3}} {
			c := &list[i].Corners
			at := c[0].Add(c[1].Sub(c[0]).Scale(p[0])).Add(c[2].Sub(c[0]).Scale(p[1]))
			want := float32(5)
			switch {
			case at[0] > 2.5 && at[1] > 6:
				want = 0 // the hole
			case at[0] > 2.5:
				want = 3
				bright++
			}
			assert.InDelta(t, want, s.Sends(&list[i], p[0], p[1])[0], 1e-4, "at %v", at)
		}
	}
	assert.Greater(t, bright, 2)
	assert.Zero(t, s.See(bvh.Vec{0, -8.5, 0.5}, along).Emitter)
}

// A prop's triangles stand where its matrix puts them, mirrored or not, with their fronts outside
// and the light of their own corners.
func TestProps(t *testing.T) {
	for _, mirrored := range []float32{1, -1} {
		m := board(square{x: 0, high: [2]float32{1, 1}, material: "a"})
		m.Faces = nil
		m.Models = []mapfile.Model{{Meshes: []mapfile.Mesh{{Material: "a", Vertices: 4, IndexNumber: 6}}}}
		m.Props = []mapfile.Prop{{Rows: [3][4]float32{{2, 0, 0, 10}, {0, 2 * mirrored, 0, 20}, {0, 0, 2, 30}}}}
		s := radiance.New(m, nil, nil)
		s.Lit = &radiance.Lit{Props: [][]bvh.Vec{{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {1, 1, 1}}}}
		seen := s.See(bvh.Vec{0, 20 + mirrored*0.02, 30.02}, along)
		require.True(t, seen.Hit)
		require.False(t, seen.Behind, "mirrored %v", mirrored)
		assert.InDelta(t, 10, seen.Distance, 1e-4)
		assert.InDelta(t, 1, seen.On[0], 0.03, "near its first corner")
		middle := s.See(bvh.Vec{0, 20 + mirrored, 31}, along)
		assert.InDelta(t, 0.5, middle.On[0], 0.01, "between the first corner and the third")
		assert.InDelta(t, 0.5, middle.On[2], 0.01)
		n := radiance.PlaceNormal(&m.Props[0], bvh.Vec{-1, 0, 0})
		assert.InDeltaSlice(t, []float32{-1, 0, 0}, n[:], 1e-6)
		assert.True(t, s.Blocked(bvh.Vec{0, 20 + mirrored, 31}, bvh.Vec{20, 0, 0}))
		box, ok := s.Box()
		require.True(t, ok)
		assert.InDelta(t, 2, box.Max.Y-box.Min.Y, 1e-5)
	}
}

// A terrain shows its layers as far as they are painted, and the light of its heights.
func TestTerrain(t *testing.T) {
	m := &mapfile.Map{Terrains: []mapfile.Terrain{{Columns: 2, Rows: 2, Max: [3]float32{4, 4, 1}, Material: "snow",
		Repeat: 1, Heights: make([]uint16, 4),
		Layers: []mapfile.Layer{{Material: "rock", Repeat: 1, Weights: []uint8{0, 255, 0, 255}}}}}}
	s := radiance.New(m,
		paints(map[string]radiance.Appearance{"snow": {Colour: even(color.NRGBA{255, 0, 0, 255})},
			"rock": {Colour: even(color.NRGBA{0, 255, 0, 255})}}), nil)
	s.Lit = &radiance.Lit{Terrains: [][]bvh.Vec{{{1, 1, 1}, {0, 0, 0}, {1, 1, 1}, {0, 0, 0}}}}
	for _, x := range []float32{0.4, 1, 2, 3.1, 3.8} {
		seen := s.See(bvh.Vec{x, 2.3, 5}, bvh.Vec{0, 0, -1})
		require.True(t, seen.Hit)
		assert.InDelta(t, 0.97*(1-x/4), seen.Colour[0], 0.01)
		assert.InDelta(t, 0.97*x/4, seen.Colour[1], 0.01)
		assert.InDelta(t, 1-x/4, seen.On[0], 1e-4)
	}
}

// Faces show the light of their page between luxels, as a texture unit mixes it.
func TestLightmapsAreMixed(t *testing.T) {
	m := board(square{x: 1, high: [2]float32{2, 2}, material: "a"})
	m.Faces[0].Page = 1
	for i := range m.Vertices {
		m.Vertices[i].Luxel = [2]float32{m.Vertices[i].Position[1], m.Vertices[i].Position[2]}
	}
	page := mapfile.LightPage{Light: make([]mapfile.Light, 9), Toward: make([]uint32, 9)}
	for i := range page.Light {
		page.Light[i] = mapfile.PackLight([3]float32{float32(i % 3), float32(i / 3), 1})
	}
	m.Lightmap = &mapfile.Lightmap{Width: 3, Height: 3, Pages: []mapfile.LightPage{page}}
	s := radiance.New(m, nil, nil)
	s.Lit = radiance.LitOf(m)
	r := rand.New(rand.NewSource(2))
	for range 500 {
		y, z := r.Float32()*1.98+0.01, r.Float32()*1.98+0.01
		on := s.See(bvh.Vec{0, y, z}, along).On
		require.InDeltaSlice(t, []float32{y, z, 1}, on[:], 1e-3)
	}
	assert.Nil(t, radiance.LitOf(&mapfile.Map{}))
}

// A sky's picture has north at its left edge and goes over east, from straight up to straight down;
// without one the dome goes over into the horizon, and what only gathers light sees the same but
// for a blur.
func TestSkies(t *testing.T) {
	const w, h = 64, 32
	p := &radiance.Picture{Width: w, Height: h, Pixels: make([][3]float32, w*h)}
	for i := range p.Pixels {
		p.Pixels[i] = [3]float32{float32(i % w), float32(i / w), 1}
	}
	m := &mapfile.Map{Meta: mapfile.Meta{Sky: &mapfile.Sky{Dome: 0x0000ff, Horizon: 0xff0000, Glow: 0.5}}}
	s := radiance.New(m, nil, p)
	for _, c := range []struct {
		dir       bvh.Vec
		column, y float64
	}{{bvh.Vec{0, 1, 0}, 0, h / 2}, {bvh.Vec{1, 0, 0}, w / 4, h / 2}, {bvh.Vec{0, -3, 0}, w / 2, h / 2},
		{bvh.Vec{-1, 0, 0}, 3 * w / 4, h / 2}, {bvh.Vec{1, 0, 1}, w / 4, h / 4},
		{bvh.Vec{1, 0, -1}, w / 4, 3 * h / 4}} {
		got := s.Sky(c.dir)
		if c.column > 0 { // there the last column mixes with the first
			assert.InDelta(t, (c.column-0.5)/2, got[0], 1e-3, "%v", c.dir)
		} else {
			assert.InDelta(t, (w-1)/4.0, got[0], 1e-3, "half of the first column and half of the last")
		}
		assert.InDelta(t, (c.y-0.5)/2, got[1], 1e-3, "%v", c.dir)
		assert.InDelta(t, 0.5, got[2], 1e-6)
	}
	assert.InDelta(t, 0, s.Sky(bvh.Vec{1e-9, 0, 1})[1], 1e-3)
	assert.InDelta(t, (h-1)/2.0, s.Sky(bvh.Vec{1e-9, 0, -1})[1], 1e-3)
	coarse := s.Coarse()
	r := rand.New(rand.NewSource(1))
	for range 3000 {
		d := bvh.Vec{r.Float32()*2 - 1, r.Float32()*2 - 1, r.Float32()*2 - 1}
		if d[1] > 0 && d[0] > -0.3 && d[0] < 0.3 || d[2] > 2 || d.Length() < 0.1 ||
			math.Hypot(float64(d[0]), float64(d[1])) < 0.3 {
			continue // where columns begin again, and where they meet
		}
		a, b := s.Sky(d), coarse.Sky(d)
		require.InDelta(t, a[0], b[0], 1.5, "%v", d)
		require.InDelta(t, a[1], b[1], 0.6, "%v", d)
	}
	dome := radiance.New(m, nil, nil)
	assert.InDeltaSlice(t, []float32{0, 0, 0.5}, slice(dome.Sky(bvh.Vec{0, 0, 1})), 1e-4)
	assert.InDeltaSlice(t, []float32{0.5, 0, 0}, slice(dome.Sky(bvh.Vec{0, 1, 0})), 1e-4)
	assert.InDeltaSlice(t, []float32{0.5, 0, 0}, slice(dome.Sky(bvh.Vec{0, 1, -4})), 1e-4)
	up := dome.Sky(bvh.Vec{0, 1, 0.3})
	assert.Greater(t, up[2], float32(0.1))
	assert.Greater(t, up[0], float32(0.05))
	loaded, err := radiance.Load(&scene.Picture{Width: 4, Height: 2,
		Pixels: func() ([][3]float32, error) { return make([][3]float32, 8), nil }})
	require.NoError(t, err)
	assert.Equal(t, 4, loaded.Width)
	none, err := radiance.Load(nil)
	require.NoError(t, err)
	assert.Nil(t, none)
}

// However a look keeps its texels, each is what Texel says of it.
func TestPaintedTexels(t *testing.T) {
	r := rand.New(rand.NewSource(3))
	for _, l := range []radiance.Appearance{{}, {Contrast: 1.4}, {Saturation: 1, Tint: [3]float64{0.5, 2, 1}},
		{Saturation: 0.3, Contrast: 0.8}, {Saturation: -1}} {
		img := image.NewNRGBA(image.Rect(0, 0, 16, 8))
		for i := range img.Pix {
			img.Pix[i] = uint8(r.Uint32())
			if i%4 == 3 {
				img.Pix[i] |= 1 // what can't be seen at all takes its neighbours' colour
			}
		}
		l.Colour = img
		p := radiance.Paint(l, 16)
		for y := range 8 {
			for x := range 16 {
				want := l.Texel(img.Pix[img.PixOffset(x, y):][:4])
				require.Equal(t, bvh.Vec(want[:3]), p.Colour((float32(x)+0.5)/16, (float32(y)+0.5)/8), "%+v at %d, %d",
					l.Saturation, x, y)
			}
		}
	}
}
