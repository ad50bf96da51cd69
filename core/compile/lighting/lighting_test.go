package lighting_test

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/compile/stage"
	"vornix/core/geom/ray"
	"vornix/core/light"
	"vornix/core/mapfile"
	"vornix/core/mapsrc"
)

// grey is a look that sends back a part of light and gives off some of its own.
func grey(part, glow float64) light.Look {
	l := light.Look{Tint: [3]float64{part / 0.6, part / 0.6, part / 0.6}}
	if glow > 0 {
		img := image.NewNRGBA(image.Rect(0, 0, 1, 1))
		img.Set(0, 0, color.White)
		l.Emission, l.EmissionPower = img, glow
	}
	return l
}

// lit compiles a map source with light.
func lit(t *testing.T, source string, looks map[string]light.Look, env stage.Env) *compile.Result {
	t.Helper()
	m, findings := mapsrc.Read("m.vnx", []byte("map m title=\"M\" players=1..2\n"+source), mapsrc.Options{})
	require.NotNil(t, m, "%v", findings)
	if env.Only == nil {
		env.Only = []string{stage.Lighting}
	}
	r, err := compile.Compile(context.Background(), m, compile.Options{MaterialSize: func(string) float64 { return 1 },
		SeeThrough: func(name string) bool { return looks[name].SeeThrough != "" },
		Long:       &compile.Long{Env: env, Looks: func(name string) light.Look { return looks[name] }}})
	require.NoError(t, err)
	return r
}

// sample is a luxel's light with its place.
type sample struct {
	at    ray.Vec
	light [3]float32
	way   [3]float32 // where it comes from
}

// samples are the luxels of all faces that look in a direction, where they lie within the face by more than a margin.
func samples(m *mapfile.Map, normal ray.Vec, margin float32) (list []sample) {
	for _, f := range m.Faces {
		corners := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
		if ray.Vec(corners[0].Normal).Dot(normal) < 0.999 || f.Page == 0 {
			continue
		}
		// Two edges give the map from luxels to metres.
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
				p := ray.Vec(a.Position).Add(ray.Vec(b.Position).Sub(a.Position).Scale(s)).Add(ray.Vec(c.Position).Sub(a.Position).Scale(t))
				if s < margin || t < margin || s > 1-margin || t > 1-margin {
					continue
				}
				i := y*int(m.Lightmap.Width) + x
				to := page.Toward[i]
				list = append(list, sample{p, page.Light[i].Colours(), [3]float32{float32(to&255)/127 - 128.0/127, float32(to>>8&255)/127 - 128.0/127, float32(to>>16&255)/127 - 128.0/127}})
			}
		}
	}
	return list
}

func sub2(a, b [2]float32) [2]float32 { return [2]float32{a[0] - b[0], a[1] - b[1]} }

// A lamp over a plane: P/4pi of it goes each way, and what falls on the ground is that times the cosine by the square of the
// distance; a white surface sends it on over pi.
func TestALampOverAPlane(t *testing.T) {
	r := lit(t, "solid g box -8,-8,-1 8,8,0 material=g\nlight l point 1,2,3 colour=#ffffff power=100\n", map[string]light.Look{"g": grey(0.5, 0)}, stage.Env{})
	list := samples(r.Map, ray.Vec{0, 0, 1}, 0)
	require.Greater(t, len(list), 3000)
	for _, s := range list {
		d := ray.Vec{1, 2, 3}.Sub(s.at)
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
	r := lit(t, "sky s sun=40,90 power=0 dome=#ffffff glow=0.7\nsolid g box -4,-4,-1 4,4,0 material=g\n", map[string]light.Look{"g": grey(0.5, 0)}, stage.Env{})
	for _, s := range samples(r.Map, ray.Vec{0, 0, 1}, 0) {
		require.InEpsilon(t, 0.7, s.light[1], 0.005)
	}
	require.NotNil(t, r.Map.Ambient)
	for i, s := range r.Map.Ambient.Samples {
		if c := r.Map.Ambient.Counts; uint32(i) >= c[0]*c[1]*(c[2]-1) { // the highest
			require.InEpsilon(t, 0.7, s[4].Colours()[0], 0.02)
		}
	}
}

// The sun falls with the cosine of its height, and not into the shadow of a wall, whose edge is as wide as the sun makes it.
func TestTheSun(t *testing.T) {
	r := lit(t, "sky s sun=30,90 colour=#ffffff power=3.14159265 disc=4 glow=0\nsolid g box -8,-8,-1 8,8,0 material=g\nsolid w box 0,-8,0 0.5,8,2 material=g\n", map[string]light.Look{"g": grey(0.001, 0)}, stage.Env{})
	long := 2 / math.Tan(30*math.Pi/180)
	edge := 0
	for _, s := range samples(r.Map, ray.Vec{0, 0, 1}, 0) {
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
		m := lit(t, closed(6), map[string]light.Look{"g": grey(r, 0.25)}, stage.Env{}).Map
		want, n := 0.25/(1-r), 0
		mean := 0.0
		for _, s := range samples(m, ray.Vec{0, 0, 1}, 0) {
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
	r := lit(t, "solid g box 0,0,-0.25 1,1,0 material=g\nsolid top box 0,0,1 1,1,1.25 material=g\n  face bottom material=glow\n", map[string]light.Look{"g": grey(0.001, 0), "glow": grey(0.001, 1)}, stage.Env{})
	sum, n := 0.0, 0
	for _, s := range samples(r.Map, ray.Vec{0, 0, 1}, 0) {
		if s.at[2] < 0.5 { // the trapezoidal rule: luxels at the rim stand for half their width
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
	m := lit(t, closed(6)+"light l point 3,3,5 colour=#ffffff power=100\n", map[string]light.Look{"g": grey(0.8, 0)}, stage.Env{}).Map
	absorbed, area := 0.0, 0.0
	at := map[[2]int]float32{}
	for _, n := range []ray.Vec{{1, 0, 0}, {-1, 0, 0}, {0, 1, 0}, {0, -1, 0}, {0, 0, 1}, {0, 0, -1}} {
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
			if n == (ray.Vec{0, 0, 1}) {
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
