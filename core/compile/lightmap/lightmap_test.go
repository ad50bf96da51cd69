package lightmap_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/bvh"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/source/maplang"
	"vornix/internal/testmaps"
	"vornix/internal/thorough"
)

// grey is a look that sends back a part of light and gives off some of its own.
func grey(part, glow float64) radiance.Appearance {
	l := radiance.Appearance{Tint: [3]float64{part / 0.6, part / 0.6, part / 0.6}}
	if glow > 0 {
		img := image.NewNRGBA(image.Rect(0, 0, 1, 1))
		img.Set(0, 0, color.White)
		l.Emission, l.EmissionPower = img, glow
	}
	return l
}

// lit compiles a map source with light.
func lit(t *testing.T, source string, looks map[string]radiance.Appearance, env stage.Env) *compile.Result {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..2\n"+source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	if env.Only == nil {
		env.Only = []string{stage.Lighting}
	}
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 1 },
		SeeThrough: func(name string) bool { return looks[name].SeeThrough != "" },
		Long:       &compile.Long{Env: env, Looks: func(name string) radiance.Appearance { return looks[name] }}})
	require.NoError(t, err)
	return r
}

// sample is a texel's light with its place.
type sample struct {
	at    bvh.Vec
	light [3]float32
	way   [3]float32 // where it comes from
}

// samples are the texels of all faces that look in a direction, where they lie within the face by more than a margin.
func samples(m *mapfile.Map, normal bvh.Vec, margin float32) (list []sample) {
	for _, f := range m.Faces {
		corners := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
		if bvh.Vec(corners[0].Normal).Dot(normal) < 0.999 || f.Page == 0 {
			continue
		}
		// Two edges give the map from texels to metres.
		a, b, c := corners[0], corners[1], corners[len(corners)-1]
		e, g := sub2(b.Luxel, a.Luxel), sub2(c.Luxel, a.Luxel)
		det := e[0]*g[1] - e[1]*g[0]
		low, high := a.Luxel, a.Luxel
		for _, v := range corners {
			for k := range 2 {
				low[k], high[k] = min(low[k], v.Luxel[k]), max(high[k], v.Luxel[k])
			}
		}
		page := m.Lightmap.Pages[f.Page-1]
		for y := int(low[1] + 0.999); y <= int(high[1]); y++ {
			for x := int(low[0] + 0.999); x <= int(high[0]); x++ {
				d := sub2([2]float32{float32(x), float32(y)}, a.Luxel)
				s, t := (d[0]*g[1]-d[1]*g[0])/det, (e[0]*d[1]-e[1]*d[0])/det
				along, across := bvh.Vec(b.Position).Sub(a.Position), bvh.Vec(c.Position).Sub(a.Position)
				p := bvh.Vec(a.Position).Add(along.Scale(s)).Add(across.Scale(t))
				if s < margin || t < margin || s > 1-margin || t > 1-margin {
					continue
				}
				i := y*int(m.Lightmap.Width) + x
				to := page.Toward[i]
				list = append(list,
					sample{p, page.Light[i].Colours(),
						[3]float32{float32(to&255)/127 - 128.0/127, float32(to>>8&255)/127 - 128.0/127,
							float32(to>>16&255)/127 - 128.0/127}})
			}
		}
	}
	return list
}

func sub2(a, b [2]float32) [2]float32 { return [2]float32{a[0] - b[0], a[1] - b[1]} }

// A lamp over a plane: P/4pi of it goes each way, and what falls on the ground is that times the
// cosine by the square of the distance; a white surface sends it on over pi.
func TestALampOverAPlane(t *testing.T) {
	r := lit(t, "solid g box -8,-8,-1 8,8,0 material=g\nlight l point 1,2,3 colour=#ffffff power=100\n",
		map[string]radiance.Appearance{"g": grey(0.5, 0)}, stage.Env{})
	list := samples(r.Map, bvh.Vec{0, 0, 1}, 0)
	require.Greater(t, len(list), 3000)
	for _, s := range list {
		d := bvh.Vec{1, 2, 3}.Sub(s.at)
		square := float64(d.Dot(d))
		want := 100 / (4 * math.Pi) * (3 / math.Sqrt(square)) / square / math.Pi
		if float64(s.light[0]) > 0.001 || want > 0.002 {
			require.InEpsilon(t, want, s.light[0], 0.01, "at %v", s.at)
		}
		require.Equal(t, s.light[0], s.light[2])
		if want > 0.01 {
			require.Greater(t, d.Unit().Dot(s.way), float32(0.98), "light comes from the lamp")
		}
	}
}

// A plane under a sky that is as bright everywhere is as bright as the sky.
func TestAPlaneUnderTheSky(t *testing.T) {
	r := lit(t, "sky s sun=40,90 power=0 dome=#ffffff glow=0.7\nsolid g box -4,-4,-1 4,4,0 material=g\n",
		map[string]radiance.Appearance{"g": grey(0.5, 0)}, stage.Env{})
	for _, s := range samples(r.Map, bvh.Vec{0, 0, 1}, 0) {
		require.InEpsilon(t, 0.7, s.light[1], 0.005)
	}
	require.NotNil(t, r.Map.Ambient)
	for i, s := range r.Map.Ambient.Samples {
		if c := r.Map.Ambient.Counts; uint32(i) >= c[0]*c[1]*(c[2]-1) { // the highest
			require.InEpsilon(t, 0.7, s[4].Colours()[0], 0.02)
		}
	}
}

// The sun falls with the cosine of its height, and not into the shadow of a wall, whose edge is as
// wide as the sun makes it.
func TestTheSun(t *testing.T) {
	r := lit(t, "sky s sun=30,90 colour=#ffffff power=3.14159265 disc=4 glow=0\nsolid g box -8,-8,-1 8,8,0 material=g\nsolid w box 0,-8,0 0.5,8,2 material=g\n", map[string]radiance.Appearance{"g": grey(0.001, 0)}, stage.Env{})
	long := 2 / math.Tan(30*math.Pi/180)
	edge := 0
	for _, s := range samples(r.Map, bvh.Vec{0, 0, 1}, 0) {
		if s.at[2] > 1 || s.at[1] < -7.5 || s.at[1] > 7.5 { // beside the wall's ends light comes in
			continue
		}
		x := float64(s.at[0])
		switch {
		case x > 0.5 || x < -long-0.6:
			require.InEpsilon(t, 0.5, s.light[0], 0.02, "in the sun at %v", s.at)
		case x > -long+0.6 && x < -0.1:
			require.Less(t, s.light[0], float32(0.01), "in the shadow at %v", s.at)
		case x < 0 && s.light[0] > 0.05 && s.light[0] < 0.45:
			edge++
		}
	}
	require.Greater(t, edge, 20, "the shadow's edge is soft")
}

// In a closed box that glows e everywhere and sends back a part r of light, the light is e/(1-r) everywhere.
func TestAClosedBox(t *testing.T) {
	for _, r := range []float64{1e-6, 0.3, 0.7} {
		m := lit(t, closed(6), map[string]radiance.Appearance{"g": grey(r, 0.25)}, stage.Env{}).Map
		want, n := 0.25/(1-r), 0
		mean := 0.0
		for _, s := range samples(m, bvh.Vec{0, 0, 1}, 0) {
			if s.at[0] > 0 && s.at[0] < 6 && s.at[2] < 1 {
				n++
				mean += float64(s.light[0])
				require.InEpsilon(t, want, s.light[0], 0.02, "r=%v at %v", r, s.at)
			}
		}
		require.InEpsilon(t, want, mean/float64(n), 0.01)
	}
}

// closed is a hollow cube, of so many metres within.
func closed(n int) string {
	return fmt.Sprintf(`solid a box -1,-1,-1 %[2]d,%[2]d,0 material=g
solid b box -1,-1,%[1]d %[2]d,%[2]d,%[2]d material=g
solid c box -1,-1,0 0,%[2]d,%[1]d material=g
solid d box %[1]d,-1,0 %[2]d,%[2]d,%[1]d material=g
solid e box 0,-1,0 %[1]d,0,%[1]d material=g
solid f box 0,%[1]d,0 %[1]d,%[2]d,%[1]d material=g
`, n, n+1)
}

// The form factor between parallel unit squares a metre apart is 0.19982 (Howell's catalogue, C-11).
func TestParallelSquares(t *testing.T) {
	r := lit(t, "solid g box 0,0,-0.25 1,1,0 material=g\nsolid top box 0,0,1 1,1,1.25 material=g\n  face bottom material=glow\n", map[string]radiance.Appearance{"g": grey(0.001, 0), "glow": grey(0.001, 1)}, stage.Env{})
	sum, n := 0.0, 0
	for _, s := range samples(r.Map, bvh.Vec{0, 0, 1}, 0) {
		if s.at[2] < 0.5 { // the trapezoidal rule: texels at the rim stand for half their width
			w := 1.0
			for k := range 2 {
				if s.at[k] < 0.01 || s.at[k] > 0.99 {
					w /= 2
				}
			}
			sum += w * float64(s.light[0])
			n++
		}
	}
	require.Equal(t, 25, n)
	require.InEpsilon(t, 0.19982, sum/16, 0.02)
}

// What comes in through lamps and the sky goes out again or stays: never more on the walls than was sent.
func TestEnergyNeverGrowsAndASymmetricRoomIsLitSymmetrically(t *testing.T) {
	m := lit(t, closed(6)+"light l point 3,3,5 colour=#ffffff power=100\n",
		map[string]radiance.Appearance{"g": grey(0.8, 0)},
		stage.Env{}).Map
	absorbed, area := 0.0, 0.0
	at := map[[2]int]float32{}
	for _, n := range []bvh.Vec{{1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1}, {0, 0, -1}} {
		for _, s := range samples(m, n, 0) {
			in := true
			for k := range 3 {
				in = in && s.at[k] > -0.01 && s.at[k] < 6.01
			}
			if !in {
				continue
			}
			w := 1.0 / 16
			for k := range 3 {
				if n[k] == 0 && (s.at[k] < 0.01 || s.at[k] > 5.99) {
					w /= 2
				}
			}
			absorbed += w * (1 - 0.8) * math.Pi * float64(s.light[0])
			area += w
			if n == (bvh.Vec{0, 0, 1}) {
				at[[2]int{int(math.Round(float64(s.at[0]) * 4)), int(math.Round(float64(s.at[1]) * 4))}] = s.light[0]
			}
		}
	}
	require.InDelta(t, 216, area, 0.5)
	require.InEpsilon(t, 100, absorbed, 0.04, "what a lamp sends, walls take, after many bounces")
	require.Less(t, absorbed, 101.0)
	for p, v := range at {
		for _, q := range [][2]int{{24 - p[0], p[1]}, {p[1], p[0]}} {
			require.InEpsilon(t, v, at[q], 0.08, "%v and %v", p, q)
		}
	}
}

// fromSquare is what a level square, seen from below, that gives off e brings to a level place
// under it: Lambert's formula for a polygon, the sum over its edges of the angle that they take up
// times the part of the edge's normal that points up.
func fromSquare(e float64, corners [4][3]float64, at bvh.Vec) float64 {
	sum := 0.0
	for i := range corners {
		var a, b [3]float64
		la, lb := 0.0, 0.0
		for k := range 3 {
			a[k], b[k] = corners[i][k]-float64(at[k]), corners[(i+1)%4][k]-float64(at[k])
			la, lb = la+a[k]*a[k], lb+b[k]*b[k]
		}
		dot := (a[0]*b[0] + a[1]*b[1] + a[2]*b[2]) / math.Sqrt(la*lb)
		cross := [3]float64{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
		sum += math.Acos(dot) * cross[2] / math.Sqrt(cross[0]*cross[0]+cross[1]*cross[1]+cross[2]*cross[2])
	}
	return math.Abs(e * sum / (2 * math.Pi))
}

// Surfaces that glow light what is near and far as they should, large ones and small ones, without blotches.
func TestSurfacesThatGlow(t *testing.T) {
	for _, half := range []float64{0.1, 0.5, 3} {
		glow := 2 / half
		r := lit(t, fmt.Sprintf("solid g box -5,-5,-1 5,5,0 material=g\nsolid top box -%[1]g,-%[1]g,2 %[1]g,%[1]g,2.1 material=g\n  face bottom material=glow\n", half),
			map[string]radiance.Appearance{"g": grey(1e-6, 0), "glow": grey(1e-6, glow)}, stage.Env{})
		corners := [4][3]float64{{-half, -half, 2}, {half, -half, 2}, {half, half, 2}, {-half, half, 2}}
		n := 0
		for _, s := range samples(r.Map, bvh.Vec{0, 0, 1}, 0) {
			if want := fromSquare(glow, corners, s.at); s.at[2] < 1 && want > 0.003 {
				n++
				require.InDelta(t, want, s.light[0], 0.03*want+0.0005, "half=%v at %v", half, s.at)
			}
		}
		require.Greater(t, n, 600)
	}
}

// halves is an image whose western half is a colour and whose eastern half another.
func halves(west, east color.NRGBA) image.Image {
	img := image.NewNRGBA(image.Rect(0, 0, 64, 64))
	for i := range 64 * 64 {
		c := west
		if i%64 >= 32 {
			c = east
		}
		img.SetNRGBA(i%64, i/64, c)
	}
	return img
}

// Cut-outs cast the shadow of their shape, glass light of its colour; what is opaque in front hides both.
func TestShadowsHaveShapesAndColours(t *testing.T) {
	white := color.NRGBA{255, 255, 255, 255}
	looks := map[string]radiance.Appearance{"g": grey(1e-6, 0),
		"grate": {Colour: halves(white, color.NRGBA{255, 255, 255, 0}), SeeThrough: material.SeeThroughCutOut},
		"glass": {Colour: halves(color.NRGBA{255, 0, 0, 128}, color.NRGBA{0, 0, 255, 255}),
			SeeThrough: material.SeeThroughSoft}}
	under := func(material, more string) []sample {
		r := lit(t, fmt.Sprintf("sky s sun=90,0 colour=#ffffff power=3.14159265 disc=0 glow=0\nsolid g box 0,0,-1 8,8,0 material=g\nsolid pane box 0,0,2 8,8,2.25 material=%s\n  face top scale=8\n  face bottom scale=8\n%s", material, more), looks, stage.Env{})
		return samples(r.Map, bvh.Vec{0, 0, 1}, 0)
	}
	west, east := map[string][3]float32{}, map[string][3]float32{}
	for _, material := range []string{"grate", "glass"} {
		for _, s := range under(material, "solid lid box 0,0,3 8,2,4 material=g\n") {
			switch {
			case s.at[2] > 1: // the lid's own top, and the pane's
			case s.at[1] < 1.7:
				require.Less(t, s.light[0], float32(1e-4), "the lid hides it")
			case s.at[1] > 2.3 && s.at[1] < 7.7 && s.at[0] > 0.3 && s.at[0] < 3.7:
				west[material] = s.light
			case s.at[1] > 2.3 && s.at[1] < 7.7 && s.at[0] > 4.3 && s.at[0] < 7.7:
				east[material] = s.light
			}
		}
	}
	require.InDelta(t, 0, west["grate"][0], 1e-4)
	require.InDelta(t, 1, east["grate"][0], 0.01)
	left := float32(127.0/255) * 0.97 // of the light at each of the pane's two sides
	require.InDelta(t, left*left, west["glass"][0], 0.01)
	require.InDelta(t, 0, west["glass"][1]+west["glass"][2], 0.01)
	require.InDelta(t, 0, east["glass"][2], 1e-4, "wholly opaque")
}

// Faces in one plane show the same light on both sides of their common edge, however they were
// split, and whatever they are of.
func TestNoSeamBetweenFacesOfOnePlane(t *testing.T) {
	m := lit(t, `solid a box 0,0,-1 3.3,6,0 material=g
solid b box 3.3,0,-1 6,2.7,0 material=h
solid c box 3.3,2.7,-1 6,6,0 material=g
  face top turn=30 scale=3
solid wall box 1,3,0 5,3.2,2 material=g
light l point 2,5,3 radius=0.2 colour=#ffffff power=80
sky s sun=40,30 glow=0.3
`, map[string]radiance.Appearance{"g": grey(0.5, 0), "h": grey(0.2, 0)}, stage.Env{}).Map
	s := radiance.New(m, nil, nil)
	s.Lit = radiance.LitOf(m)
	at := func(x, y float32) float32 { return s.See(bvh.Vec{x, y, 0.5}, bvh.Vec{0, 0, -1}).On[0] }
	tried := 0
	for i := range 600 {
		y := 0.01 + float32(i)*0.00997
		if y > 2.9 && y < 3.3 {
			continue
		}
		tried++
		a, b := at(3.3-0.0005, y), at(3.3+0.0005, y)
		require.InDelta(t, a, b, 0.004+0.01*float64(a), "at 3.3,%v", y)
	}
	for i := range 260 {
		x := 3.31 + float32(i)*0.0101
		a, b := at(x, 2.7-0.0005), at(x, 2.7+0.0005)
		require.InDelta(t, a, b, 0.004+0.01*float64(a), "at %v,2.7", x)
	}
	require.Greater(t, tried, 500)
}

// A face's texels count before its material's, those before the map's, and a draft has a quarter.
func TestDensity(t *testing.T) {
	source := "solid a box 0,0,-1 4,4,0 material=g\n  face top luxels=8\nsolid b box 10,0,-1 14,4,0 material=fine\nsolid c box 20,0,-1 24,4,0 material=g\nlight l point 2,2,3 power=10\n"
	for _, draft := range []float32{1, 4} {
		m, _ := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..2 luxels=2\n"+source), maplang.Options{})
		r, err := compile.Compile(context.Background(), m,
			compile.Options{MaterialSize: func(string) float64 { return 1 }, Long: &compile.Long{
				Env:    stage.Env{Only: []string{stage.Lighting}, Draft: draft > 1},
				Luxels: func(name string) float64 { return map[string]float64{"fine": 5}[name] }}})
		require.NoError(t, err)
		got := map[uint32]float32{}
		for _, f := range r.Map.Faces {
			v := r.Map.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
			if v[0].Normal[2] > 0.9 {
				d, e := sub2(v[1].Luxel, v[0].Luxel), bvh.Vec(v[1].Position).Sub(v[0].Position)
				got[f.Solid] = float32(math.Hypot(float64(d[0]), float64(d[1]))) / e.Length() * draft
			}
		}
		require.Equal(t, map[uint32]float32{0: 8, 1: 5, 2: 2}, got)
	}
}

// shelf keeps results in memory and counts what is asked of it.
type shelf struct {
	kept        map[string][]byte
	hits, fresh int
}

func (s *shelf) CachedPart(key string) ([]byte, bool) {
	data, ok := s.kept[key]
	if ok {
		s.hits++
	}
	return data, ok
}

func (s *shelf) CachePart(key string, data []byte) error {
	s.fresh++
	s.kept[key] = data
	return nil
}

// A stage that was stopped goes on where it was, and gives the same bytes as one that never was, on
// any number of processors.
func TestStoppedAndResumedOnAnyNumberOfProcessors(t *testing.T) {
	thorough.Only(t)
	source := "map m title=\"M\" players=1..2\nsky s sun=40,30\nsolid g box 0,0,-1 14,14,0 material=g\nsolid w box 5,5,0 6,9,3 material=glow\nlight l point 3,3,2 radius=0.2 power=40\nprobe p at=3,4,2 reach=9\n"
	looks := map[string]radiance.Appearance{"g": grey(0.5, 0), "glow": grey(0.2, 1)}
	compiled := func(ctx context.Context, env stage.Env) ([]byte, error) {
		m, _ := maplang.Read("m.vnx", []byte(source), maplang.Options{})
		r, err := compile.Compile(ctx, m,
			compile.Options{MaterialSize: func(string) float64 { return 1 },
				Long: &compile.Long{Env: env, Looks: func(name string) radiance.Appearance { return looks[name] }}})
		if err != nil {
			return nil, err
		}
		return mapfile.Encode(r.Map)
	}
	want, err := compiled(context.Background(), stage.Env{Workers: 2})
	require.NoError(t, err)
	for _, workers := range []int{1, 8} {
		store := &shelf{kept: map[string][]byte{}}
		stops := 0
		for {
			ctx, cancel := context.WithCancel(context.Background())
			begun := store.fresh
			last := map[string]int64{}
			got, err := compiled(ctx,
				stage.Env{Workers: workers, Store: store, Progress: func(name string, done, total int64) {
					require.LessOrEqual(t, done, total)
					require.GreaterOrEqual(t, done, last[name], "progress never goes back")
					if last[name] = done; store.fresh > begun { // something new was kept: stop there
						cancel()
					}
				}})
			cancel()
			if err == nil {
				require.Equal(t, want, got)
				break
			}
			require.ErrorIs(t, err, context.Canceled)
			require.Greater(t, store.fresh, begun, "every try comes further")
			stops++
		}
		require.Greater(t, stops, 4)
		hits, fresh := store.hits, store.fresh
		source = strings.Replace(source, "probe p", "camera c at=1,1,1 look=2,2,2\nprobe p", 1)
		_, err := compiled(context.Background(), stage.Env{Workers: workers, Store: store})
		require.NoError(t, err)
		require.Equal(t, fresh, store.fresh, "a camera makes nothing again")
		require.Greater(t, store.hits, hits)
		source = strings.Replace(source, "camera c at=1,1,1 look=2,2,2\n", "", 1)
	}
}

// Lamps of a tile map light the cells that they see, with the square of the distance and the
// cosine, and the walls beside those.
func TestTiles(t *testing.T) {
	m, findings := maplang.Read("m.vnx", []byte(`map m title="M" players=1..2
legend # tile=a solid=yes
legend . tile=b
grid g cells=9,5
  row #########
  row #...#...#
  row #...#...#
  row #.......#
  row #########
light l point 2.5,1.5,0 colour=#ffffff power=200
`), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 },
			Long: &compile.Long{Env: stage.Env{Only: []string{stage.Lighting}}}})
	require.NoError(t, err)
	at := func(x, y int) float64 { return float64(r.Map.GridLight[0][y*9+x].Colours()[0]) }
	mean := 0.0 // over the cell under the lamp
	for i := range 900 {
		dx, dy := (float64(i%30)+0.5)/30-0.5, (float64(i/30)+0.5)/30-0.5
		mean += 200 / (4 * math.Pi * math.Pi) / math.Pow(dx*dx+dy*dy+1, 1.5) / 900
	}
	require.InEpsilon(t, mean, at(2, 1), 0.03)
	require.Zero(t, at(6, 1), "behind the wall")
	require.Greater(t, at(4, 3), 0.0, "through the gap")
	require.Greater(t, at(3, 1), at(3, 2))
	require.InDelta(t, at(1, 1), at(1, 0), at(1, 1)*2, "a wall is lit by what is beside it")
	require.Greater(t, at(2, 0), 0.0)
}

// No two faces share a texel of a page, and none reaches over its rim: whatever mixes four texels
// mixes only the face's own.
func TestFacesHaveTheirOwnLuxels(t *testing.T) {
	source := strings.Replace(testmaps.Open(120), "map open", "map open luxels=1.5", 1)
	m, _ := maplang.Read("m.vnx", []byte(source), maplang.Options{})
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 },
			Long: &compile.Long{Env: stage.Env{Only: []string{stage.Lighting}, Draft: true}}})
	require.NoError(t, err)
	out := r.Map
	require.Greater(t, len(out.Faces), 500)
	owner := map[[3]int]int{}
	for i, f := range out.Faces {
		low, high := [2]float64{1e9, 1e9}, [2]float64{}
		for _, v := range out.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
			for k := range 2 {
				low[k], high[k] = min(low[k], float64(v.Luxel[k])), max(high[k], float64(v.Luxel[k]))
			}
		}
		require.LessOrEqual(t, high[0], float64(out.Lightmap.Width-1))
		require.LessOrEqual(t, high[1], float64(out.Lightmap.Height-1))
		for y := int(low[1]); y <= int(math.Ceil(high[1])); y++ {
			for x := int(low[0]); x <= int(math.Ceil(high[0])); x++ {
				at := [3]int{int(f.Page), x, y}
				other, taken := owner[at]
				require.False(t, taken, "faces %d and %d share %v", i, other, at)
				owner[at] = i
			}
		}
	}
}

// The outside of a sealed map, which nobody ever sees, is not lit; its rooms are, as they would be
// in one that is not sealed.
func TestTheOutsideOfASealedMapIsNotLit(t *testing.T) {
	source := testmaps.Rooms(60)
	faces := map[bool]int{}
	var luxels []int64
	for _, source := range []string{source, strings.Replace(source, " sealed=yes", "", 1)} {
		m, _ := maplang.Read("m.vnx", []byte(source), maplang.Options{})
		r, err := compile.Compile(context.Background(), m,
			compile.Options{MaterialSize: func(string) float64 { return 1 },
				Long: &compile.Long{Env: stage.Env{Only: []string{stage.Lighting}, Draft: true}}})
		require.NoError(t, err)
		luxels = append(luxels, r.Stats["luxels"])
		box, _ := radiance.New(r.Map, nil, nil).Box()
		for _, f := range r.Map.Faces {
			at, n := r.Map.Vertices[f.FirstVertex].Position, r.Map.Vertices[f.FirstVertex].Normal
			rim := false // it lies in the box around the map
			for k := range 3 {
				rim = rim || n[k] < -0.9 && float64(at[k]) < box.Min.At(k)+0.01 || n[k] > 0.9 &&
					float64(at[k]) > box.Max.At(k)-0.01
			}
			if m.Sealed {
				require.Equal(t, rim, f.Page == 0, "at %v, facing %v", at, n)
				faces[rim]++
			} else {
				require.NotZero(t, f.Page)
			}
		}
	}
	require.Greater(t, faces[true], 10)
	require.Greater(t, faces[false], 200)
	require.Less(t, luxels[0], luxels[1]*9/10)
}

// A spot lights its cone and nothing else, in the middle as a lamp of its power would.
func TestASpot(t *testing.T) {
	r := lit(t, "solid g box -6,-6,-1 6,6,0 material=g\nlight l spot 0,0,4 look=0,0,0 cone=40 colour=#ffffff power=100\n", map[string]radiance.Appearance{"g": grey(1e-6, 0)}, stage.Env{})
	rim := 4 * math.Tan(20*math.Pi/180)
	for _, s := range samples(r.Map, bvh.Vec{0, 0, 1}, 0) {
		switch d := math.Hypot(float64(s.at[0]), float64(s.at[1])); {
		case d < 0.6*rim:
			square := d*d + 16
			require.InEpsilon(t, 100/(4*math.Pi*math.Pi)*4/math.Sqrt(square)/square, s.light[0], 0.02, "at %v", s.at)
		case d > rim+0.3:
			require.Less(t, s.light[0], float32(0.001))
		}
	}
}

// A picture of the sky lights from where it is bright: its eastern half here.
func TestAPictureOfTheSky(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 32, 16)) // from north over east: the first half of it
	for i := range 32 * 16 {
		v := uint8(0)
		if i%32 < 16 {
			v = 255
		}
		img.SetNRGBA(i%32, i/32, color.NRGBA{v, v, v, 255})
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	m, findings := maplang.Read("m.vnx",
		[]byte("map m title=\"M\" players=1..2\nsky s sun=40,0 power=0 glow=0.5 image=s.png\nsolid g box -2,-2,0 2,2,4 material=g\n"), maplang.Options{Open: func(string) ([]byte, error) { return b.Bytes(), nil }})
	require.NotNil(t, m, "%v", findings)
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 },
			Long: &compile.Long{Env: stage.Env{Only: []string{stage.Lighting}}}})
	require.NoError(t, err)
	for _, side := range []struct {
		normal bvh.Vec
		want   float64
	}{{bvh.Vec{1, 0, 0}, 0.5}, {bvh.Vec{-1, 0, 0}, 0}, {bvh.Vec{0, 1, 0}, 0.25}, {bvh.Vec{0, 0, 1}, 0.25}} {
		list := samples(r.Map, side.normal, 0.05)
		require.Greater(t, len(list), 100)
		for _, s := range list {
			require.InDelta(t, side.want, s.light[0], 0.02, "facing %v", side.normal)
		}
	}
}
