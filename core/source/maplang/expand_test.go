package maplang_test

import (
	"bytes"
	"fmt"
	"go/constant"
	"go/token"
	"go/types"
	"image"
	"image/color"
	"image/png"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
)

// files are what a source may open.
type files map[string][]byte

func (f files) open(name string) ([]byte, error) {
	if data, ok := f[name]; ok {
		return data, nil
	}
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

func read(source string, beside files) (*scene.Map, []finding.Finding) {
	return maplang.Read("maps/m.vnx", []byte(source), maplang.Options{Open: beside.open})
}

func must(t *testing.T, source string, beside files) *scene.Map {
	t.Helper()
	m, findings := read(source, beside)
	require.Empty(t, findings)
	return m
}

func grey(w, h int, at func(x, y int) uint16) []byte {
	img := image.NewGray16(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetGray16(x, y, color.Gray16{Y: at(x, y)})
		}
	}
	var b bytes.Buffer
	_ = png.Encode(&b, img)
	return b.Bytes()
}

// hull is a solid's volume, by the divergence theorem; every face must look outward for it to be right.
func hull(s scene.Solid) float64 {
	v := 0.0
	for _, f := range s.Faces {
		for i := 2; i < len(f.Polygon); i++ {
			v += f.Polygon[0].Dot(f.Polygon[i-1].Cross(f.Polygon[i])) / 6
		}
	}
	return v
}

func TestShapes(t *testing.T) {
	for _, c := range []struct {
		line   string
		pieces int
		faces  int
		volume float64
		box    string
	}{
		{"box 4,-1,2 1,5,2.5", 1, 6, 9, "1,-1,2 4,5,2.5"},
		{"wedge 0,0,0 4,2,3 rise=east", 1, 5, 12, "0,0,0 4,2,3"},
		{"wedge 0,0,0 4,2,3 rise=south", 1, 5, 12, "0,0,0 4,2,3"},
		{"cylinder 0,0,1 radius=1 height=2 sides=4", 1, 6, 4, "-0.70711,-0.70711,1 0.70711,0.70711,3"},
		{"cylinder 0,0,0 radius=1 height=3 sides=4 top=0", 1, 5, 2, "-0.70711,-0.70711,0 0.70711,0.70711,3"},
		{"prism 0,0 6,0 6,4 3,6 0,4 base=1 height=2", 1, 7, 60, "0,0,1 6,6,3"},
		{"prism 0,4 3,6 6,4 6,0 0,0 height=2", 1, 7, 60, "0,0,0 6,6,2"},
		{"prism 0,0 6,0 6,6 4,6 4,2 2,2 2,6 0,6 height=1", 3, 18, 28, "0,0,0 6,6,1"},
		{"hull 0,0,0 3,0,0 0,3,0 0,0,3 0.5,0.5,0.5", 1, 4, 4.5, "0,0,0 3,3,3"},
		{"extrude 0,0,0 10,0,0 width=2 height=1", 1, 6, 20, "0,-1,0 10,1,1"},
		{"extrude 0,0,0 10,0,0 10,10,0 width=2 height=1", 2, 12, 40, "0,-1,0 11,10,1"},
		{"extrude 0,0,0 10,0,0 10,10,0 0,10,0 0,0,0 width=2 height=1", 4, 24, 80, "-1,-1,0 11,11,1"},
		{"extrude 0,0,0 0,8,4 section=-1,0;1,0;0,1", 1, 5, 8, "-1,0,0 1,8,5"},
	} {
		m := must(t, "map m\nsolid s "+c.line+" material=a\n", nil)
		require.Len(t, m.Solids, c.pieces, c.line)
		volume, faces := 0.0, 0
		for _, s := range m.Solids {
			volume += hull(s)
			faces += len(s.Faces)
		}
		assert.InDelta(t, c.volume, volume, 1e-6, c.line)
		assert.Equal(t, c.faces, faces, c.line)
		box, _ := m.Bounds()
		text := func(v geom.Vec) string {
			r := func(f float64) float64 {
				return float64(int(f*1e5+map[bool]float64{true: 0.5, false: -0.5}[f >= 0])) / 1e5
			}
			return fmt.Sprintf("%g,%g,%g", r(v.X), r(v.Y), r(v.Z))
		}
		assert.Equal(t, c.box, text(box.Min)+" "+text(box.Max), c.line)
	}
}

func TestConstantsAndSums(t *testing.T) {
	m := must(t, `map m
const h 2
const tall (h+1)*2-h/4
const stone "rock/slab"
solid s box 0,-h,0 h*2,h,tall%4 material={stone}
item sign at=1,2,tall text="{tall} m of {stone}" name=n_{h-1}
`, nil)
	assert.Equal(t, geom.NewBox(geom.Vec{Y: -2}, geom.Vec{X: 4, Y: 2, Z: 1.5}), m.Solids[0].Box)
	assert.Equal(t, "rock/slab", m.Solids[0].Faces[0].Material.Name)
	assert.Equal(t, "5.5 m of rock/slab", m.Items[0].Pairs[0].Value)
	assert.Equal(t, "n_1", m.Items[0].Pairs[1].Value)
}

func TestPrefabsArePlacedTurnedMirroredAndScaled(t *testing.T) {
	beside := files{"prefabs/arm.vnx": []byte(`include names.vnx
prefab arm long=2 stone="rock/a"
  const half long/2
  solid bar box 0,0,0 long,1,thick material={stone}
  spawn tip at=long,half,0 facing=90 team=blue
`), "prefabs/names.vnx": []byte("const thick 0.5\n")}
	m := must(t, `map m
const thick 99
use arm from=../prefabs/arm.vnx at=10,0,0 turn=90 long=3
use arm from=../prefabs/arm.vnx at=0,0,5 mirror=x scale=2 stone="rock/b"
group g at=100,0,0 turn=180
  use arm from=../prefabs/arm.vnx at=1,0,0
`, beside)
	require.Len(t, m.Solids, 3)
	assert.Equal(t, geom.NewBox(geom.Vec{X: 9}, geom.Vec{X: 10, Y: 3, Z: 0.5}), m.Solids[0].Box)
	assert.Equal(t, geom.NewBox(geom.Vec{X: -4, Z: 5}, geom.Vec{Y: 2, Z: 6}), m.Solids[1].Box)
	assert.Equal(t, geom.NewBox(geom.Vec{X: 97, Y: -1}, geom.Vec{X: 99, Z: 0.5}), m.Solids[2].Box)
	for i, v := range []float64{1.5, 8, 1} {
		assert.InDelta(t, v, hull(m.Solids[i]), 1e-9, "a mirrored solid still looks outward")
	}
	assert.Equal(t, "rock/b", m.Solids[1].Faces[0].Material.Name)
	assert.Equal(t, []string{"arm_1.tip", "arm_2.tip", "arm_3.tip"},
		[]string{m.Spawns[0].Name, m.Spawns[1].Name, m.Spawns[2].Name})
	assert.Equal(t, []float64{0, 270, 270}, []float64{m.Spawns[0].Facing, m.Spawns[1].Facing, m.Spawns[2].Facing})
	assert.Equal(t, geom.Vec{X: 8.5, Y: 3}, m.Spawns[0].At)
	assert.Equal(t, []string{"prefabs/arm.vnx", "prefabs/names.vnx"}, m.Files)
}

func TestTexturesStayOrMoveAlong(t *testing.T) {
	for _, how := range []string{"stay", "move"} {
		m := must(t, "map m\nsolid a box 0,0,0 2,2,2 material=a\ngroup g at=5.5,3,0 turn=30 textures="+how+
			"\n  solid b box 0,0,0 2,2,2 material=a\n", nil)
		a, b := m.Solids[0], m.Solids[1]
		for i := range a.Faces {
			for k := range a.Faces[i].Polygon {
				p, q := a.Faces[i].Polygon[k], b.Faces[i].Polygon[k]
				same := a.Faces[i].U.Of(p)-b.Faces[i].U.Of(q) < 1e-9 && b.Faces[i].U.Of(q)-a.Faces[i].U.Of(p) < 1e-9
				if how == "move" {
					assert.True(t, same, "face %d", i)
				}
			}
		}
	}
}

func TestRepeats(t *testing.T) {
	m := must(t, `map m
repeat row line count=4 step=3,0,0 at=0,10,0
  spawn a_{i+1} at=i*0.1,0,0
repeat block grid count=2,3,2 step=1,2,3
  item box at=0.5,0,0 n={i} x={x} y={y} z={z}
repeat ring circle count=4 radius=5 at=1,1,0
  spawn r at=0,0,0 facing=90
repeat arc circle count=3 radius=1 arc=180 turned=no
  spawn c at=0,0,0
`, nil)
	assert.Equal(t, geom.Vec{X: 9.3, Y: 10}, m.Spawns[3].At)
	assert.Equal(t, "row_4.a_4", m.Spawns[3].Name)
	require.Len(t, m.Items, 12)
	assert.Equal(t, geom.Vec{X: 1.5, Y: 4, Z: 3}, m.Items[11].At)
	assert.Equal(t, []string{"11", "1", "2", "1"},
		[]string{m.Items[11].Pairs[0].Value, m.Items[11].Pairs[1].Value, m.Items[11].Pairs[2].Value,
			m.Items[11].Pairs[3].Value})
	ring := m.Spawns[4:8]
	assert.Equal(t, []geom.Vec{{X: 6, Y: 1}, {X: 1, Y: 6}, {X: -4, Y: 1}, {X: 1, Y: -4}},
		[]geom.Vec{ring[0].At, ring[1].At, ring[2].At, ring[3].At})
	assert.Equal(t, []float64{90, 0, 270, 180},
		[]float64{ring[0].Facing, ring[1].Facing, ring[2].Facing, ring[3].Facing}, "turned outward")
	assert.Equal(t, []geom.Vec{{X: 1}, {Y: 1}, {X: -1}}, []geom.Vec{m.Spawns[8].At, m.Spawns[9].At, m.Spawns[10].At})
}

func TestLayersAreLeftOut(t *testing.T) {
	source := "map m\nlayer helpers release=no\nlayer upper\ngroup g layer=helpers\n  spawn a at=0,0,0\nspawn b at=1,0,0 layer=upper\nspawn c at=2,0,0 layer=helpers\n"
	m := must(t, source, nil)
	require.Len(t, m.Spawns, 1)
	assert.Equal(t, 2, m.LeftOut)
	m, findings := maplang.Read("maps/m.vnx", []byte(source), maplang.Options{Keep: []string{"helpers"}})
	require.Empty(t, findings)
	assert.Len(t, m.Spawns, 3)
}

func TestTerrain(t *testing.T) {
	beside := files{"maps/h.png": grey(3, 2, func(x, y int) uint16 { return uint16(x * 32767) }),
		"maps/rock.png": grey(3, 2, func(x, y int) uint16 { return uint16(y) * 65535 })}
	m := must(t, "map m\nterrain g at=-10,0,5 size=20,30,8 from=h.png material=snow\n  paint rock from=rock.png\n",
		beside)
	g := m.Terrains[0]
	assert.Equal(t, geom.Vec{X: -10, Y: 30, Z: 5}, g.Height(0, 0), "the upper left pixel is the north-west")
	assert.InDelta(t, 13, g.Height(2, 1).Z, 0.001)
	assert.Equal(t, 0.0, g.Height(2, 1).Y)
	assert.Equal(t, []uint8{0, 0, 0, 255, 255, 255}, g.Layers[0].Weights)
	assert.Equal(t, []string{"maps/h.png", "maps/rock.png"}, m.Files)
}

func TestGridsDrawnAsImages(t *testing.T) {
	img := image.NewNRGBA(image.Rect(0, 0, 4, 2))
	for i, c := range []color.NRGBA{{A: 255}, {A: 255}, {R: 255, A: 255}, {A: 255}, {R: 255, A: 255}, {A: 255},
		{A: 255}, {A: 255}} {
		img.SetNRGBA(i%4, i/4, c)
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	m := must(t, "map m\ngrid g from=g.png level=2\nlegend . tile=floor colour=#000000\nlegend # tile=wall solid=yes colour=#FF0000\narea door 1,0 3,1 level=2 enter=ring leave=hush by=moles\n", files{"maps/g.png": b.Bytes()})
	assert.Equal(t, "..#.", string(m.Grids[0].Rows[0].Symbols))
	assert.Equal(t, "#...", string(m.Grids[0].Rows[1].Symbols))
	assert.Equal(t, [2]int{3, 1}, m.Areas[0].To)
	assert.Equal(t, "ring", m.Areas[0].Enter)
	assert.Equal(t, "moles", m.Areas[0].Pairs[0].Value)
}

// What the larger language can get wrong: the finding, its line and file, and what to do.
func TestWhatDoesNotFitTogether(t *testing.T) {
	beside := files{
		"maps/loop_a.vnx":  []byte("include loop_b.vnx\n"),
		"maps/loop_b.vnx":  []byte("include loop_a.vnx\n"),
		"maps/broken.vnx":  []byte("const a 1\nsolud x\n"),
		"maps/prefabs.vnx": []byte("prefab door wide=1 stone=\"rock\"\n  solid s box 0,0,0 wide,1,1 material={stone}\nprefab bad\n  spawn s at=nowhere,0,0\n"),
		"maps/small.png":   grey(2, 2, func(int, int) uint16 { return 0 }),
		"maps/three.png":   grey(3, 3, func(int, int) uint16 { return 0 }),
		"maps/not.png":     []byte("\x89PNG\r\n\x1a\nand then nothing"),
	}
	for _, c := range []struct{ id, source, text, do, place string }{
		{"map.syntax", "spawn a at=1,hieght,3\nconst height 2\n", `found "1,hieght,3"`, `did you mean "height"?`,
			"maps/m.vnx:2"},
		{"map.syntax", "const stone \"a\"\nspawn a at=1,stone,3\n", "expected three numbers", "is the text",
			"maps/m.vnx:3"},
		{"map.syntax", "const far 9e6\nspawn a at=1,far*2,3\n", "expected three numbers", "beyond 10000 km",
			"maps/m.vnx:3"},
		{"map.syntax", "spawn a{nothing} at=1,2,3\n", "expected a name", `Nothing is called "nothing"`, "maps/m.vnx:2"},
		{"map.duplicate-name", "const a 1\nconst a 2\n", "another const a", "", "maps/m.vnx:3"},
		{"map.prefab", "use door\n", `no prefab "door"`, "from=", "maps/m.vnx:2"},
		{"map.prefab", "use dor from=prefabs.vnx\n", `no prefab "dor" in maps/prefabs.vnx`, `"door"`, "maps/m.vnx:2"},
		{"map.syntax", "use door from=prefabs.vnx wdie=2\n", `no parameter "wdie"`, `"wide"`, "maps/m.vnx:2"},
		{"map.syntax", "use door from=prefabs.vnx wide=\"2\"\n", "wide is a number in the prefab", "wide=1",
			"maps/m.vnx:2"},
		{"map.syntax", "use bad from=prefabs.vnx\nuse bad from=prefabs.vnx at=1,0,0\n", `found "nowhere,0,0"`,
			"nowhere", "maps/prefabs.vnx:4"},
		{"map.file", "use door from=nothing.vnx\n", "maps/nothing.vnx can't be read: file does not exist", "",
			"maps/m.vnx:2"},
		{"reference.form", "include ../../etc/passwd\n", "leads out of the project", "", "maps/m.vnx:2"},
		{"reference.form", "include /etc/passwd\n", "leads out of the project", "", "maps/m.vnx:2"},
		{"map.circle", "include loop_a.vnx\n", "maps/loop_a.vnx > maps/loop_b.vnx > maps/loop_a.vnx", "",
			"maps/loop_b.vnx:1"},
		{"map.circle", "prefab a\n  use b\nprefab b\n  use a\nuse a\n",
			"made of itself: a (maps/m.vnx:6:1) > b (maps/m.vnx:3:3) > a (maps/m.vnx:5:3)", "", "maps/m.vnx:5"},
		{"map.syntax", "include broken.vnx\nspawn a at=a,0,0\n", `"solud" is no keyword`, `"solid"`,
			"maps/broken.vnx:2"},
		{"map.syntax", "spawn a at=1,2,3 layer=helpesr\nlayer helpers\n", `no layer "helpesr"`, `"helpers"`,
			"maps/m.vnx:2"},
		{"map.huge", "repeat a line count=10000000 step=1,0,0\n  spawn s at=0,0,0\n", "1 to 262144 copies", "",
			"maps/m.vnx:2"},
		{"map.huge", "repeat a grid count=500,500,1 step=1,1,1\n  repeat b grid count=500,500,1 step=1,1,1\n    item a at=0,0,0\n", "grow the map beyond 262144 lines", "", "maps/m.vnx:4"},
		{"map.syntax", "repeat a line count=1.5 step=1,0,0\n", "a whole number", "", "maps/m.vnx:2"},
		{"map.huge", "group a at=9e6,0,0\n  solid s box 9e6,0,0 9e6+1,1,1 material=a\n", "beyond 10000 km", "",
			"maps/m.vnx:3"},
		{"map.huge", "group a scale=1000\n  group b scale=1000\n    group c scale=1000\n      prop p model=x at=0,0,0\n", "scaled by more than 10000000", "", "maps/m.vnx:5"},
		{"map.file", "use door from=gone.vnx\nuse door from=gone.vnx at=1,0,0\ninclude gone.vnx\n",
			"maps/gone.vnx can't be read", "", "maps/m.vnx:4"},
		{"solid.flat", "solid s hull 0,0,0 1,0,0 1,1,0 0,1,0 material=a\n", "lie in one plane", "", "maps/m.vnx:2"},
		{"solid.flat", "solid s hull 0,0,0 0,0,0 0,0,0 1,0,0 material=a\n", "encloses nothing", "", "maps/m.vnx:2"},
		{"solid.flat", "solid s prism 0,0 4,4 4,0 0,4 height=1 material=a\n", "crosses itself", "", "maps/m.vnx:2"},
		{"solid.flat", "solid s box 0,0,0 1,1,0.001 material=a\n", "0.001 m thin", "", "maps/m.vnx:2"},
		{"solid.flat", "solid s extrude 0,0,0 5,0,0 0,0.1,0 width=1 height=1 material=a\n", "turns back on itself", "",
			"maps/m.vnx:2"},
		{"solid.flat", "solid s extrude 0,0,0 0,0,5 width=1 height=1 material=a\n", "above one another", "",
			"maps/m.vnx:2"},
		{"map.syntax", "solid s extrude 0,0,0 0,5,5 material=a\n", "wants width= and height=", "", "maps/m.vnx:2"},
		{"map.syntax", "solid s cylinder 0,0,0 radius=1 height=1 sides=2 material=a\n", "sides must be from 3 to 64",
			"", "maps/m.vnx:2"},
		{"map.syntax", "group g turn=30\n  volume v box 0,0,0 1,1,1 effect=slow\n", "other than quarters", "",
			"maps/m.vnx:3"},
		{"map.syntax", "camera c at=1,2,3 look=1,2,3\n", "looks at its own place", "", "maps/m.vnx:2"},
		{"map.syntax", "sound s at=1,2,3 file=a volume=2\n", "volume must be from 0 to 1", "", "maps/m.vnx:2"},
		{"map.syntax", "terrain t at=0,0,0 size=0,1,1 from=small.png material=a\n", "must be positive", "",
			"maps/m.vnx:2"},
		{"map.syntax", "group g turn=90\n  terrain t at=0,0,0 size=1,1,1 from=small.png material=a\n", "neither turned",
			"", "maps/m.vnx:3"},
		{"map.file", "terrain t at=0,0,0 size=1,1,1 from=not.png material=a\n", "can't be read", "PNG", "maps/m.vnx:2"},
		{"map.file", "terrain t at=0,0,0 size=1,1,1 from=small.png material=a\n  paint b from=three.png\n",
			"3 x 3 pixels, and the heights 2 x 2", "", "maps/m.vnx:3"},
		{"grid.symbol", "grid g from=small.png\nlegend . colour=#010101\n", "no legend has the colour #000000",
			"colour=#000000", "maps/m.vnx:2"},
		{"grid.row", "grid g from=small.png cells=3,2\nlegend . colour=#000000\n", "2 x 2 pixels; cells= says 3,2", "",
			"maps/m.vnx:2"},
		{"map.syntax", "grid g\n", "neither cells= nor from=", "", "maps/m.vnx:2"},
		{"map.duplicate-name", "legend . colour=#000000\nlegend # colour=#000000\n", `stands for "." too`, "",
			"maps/m.vnx:3"},
		{"area.outside", "legend .\ngrid g cells=2,1\n  row ..\narea a 0,0 2,0\n", "lies on no grid of level 0", "",
			"maps/m.vnx:5"},
	} {
		start := time.Now()
		m, findings := read("map m\n"+c.source, beside)
		assert.Nil(t, m, c.source)
		require.Len(t, findings, 1, "%s: %v", c.source, findings)
		f := findings[0]
		assert.Equal(t, c.id, f.ID, c.source)
		assert.Contains(t, f.Text, c.text)
		assert.Contains(t, f.Do, c.do)
		assert.True(t, strings.HasPrefix(f.Place.String()+":", c.place+":"), "%s: %s", c.source, f.Place)
		assert.NotEmpty(t, f.Excerpt)
		assert.Less(t, time.Since(start), 5*time.Second, "bounded time")
	}
	_, findings := read("map m\nuse bad from=prefabs.vnx\nprefab outer\n  use bad from=prefabs.vnx\nuse outer\n",
		beside)
	require.Len(t, findings, 1)
	assert.Equal(t, []string{"maps/prefabs.vnx:4:14", "maps/m.vnx:2:1"}, findings[0].Wanted, "who placed it")
}

// A wrong line hides nothing else, and nobody who needs it is blamed too.
func TestMistakesOfFormAndMeaningTogether(t *testing.T) {
	_, findings := read("map m\nconst h\nsolid s box 0,0,0 1,1,h materail=a\nspawn a at=0,0,h\nspawn a at=1,0,h\nlegend\ngrid g cells=2,1\n  row ##\n", nil)
	var lines []int
	for _, f := range findings {
		lines = append(lines, f.Place.Line)
	}
	assert.Equal(t, []int{2, 3, 5, 6}, lines, "%v", findings)
}

func TestPrintingTheLargerLanguage(t *testing.T) {
	_, findings := maplang.Parse("m.vnx", []byte("const h ( 2 )\n"))
	assert.NotEmpty(t, findings, "no spaces within sums")
	source := "const inf 3\nconst nan inf*2\nconst h 0.50+1.0*(2)\nprefab p  stone=\"a b\" n=1.50\n    // inner\n    solid s_{n} prism 0,0 4.0,h 4,n*2.0 height=h material={stone}\n\n        face  sides fit=yes scale=.5\nuse p turn=90 n=-h at=inf,2,0.50\nrepeat r circle radius=2.0 count=4\n  item a at=0,0,0 t=\"{i} of\"\nsolid e extrude 0,0,0 1,0,0 section=-1.0,0;1,0;0,h/2 material=a\n"
	want := "const inf 3\nconst nan inf*2\nconst h 0.5+1*(2)\nprefab p stone=\"a b\" n=1.5\n  // inner\n  solid s_{n} prism 0,0 4,h 4,n*2 height=h material={stone}\n    face sides scale=0.5 fit=yes\nuse p at=inf,2,0.5 turn=90 n=-h\nrepeat r circle count=4 radius=2\n  item a at=0,0,0 t=\"{i} of\"\nsolid e extrude 0,0,0 1,0,0 section=-1,0;1,0;0,h/2 material=a\n"
	file, findings := maplang.Parse("m.vnx", []byte(source))
	require.Empty(t, findings)
	assert.Equal(t, want, string(maplang.Print(file)))
}

// Sums have the value that Go's own evaluator gives them, whatever their form.
func TestSumsAgainstAnotherEvaluator(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	var sum func(depth int) string
	sum = func(depth int) string {
		switch n := r.IntN(7); {
		case depth == 0 || n == 0:
			return fmt.Sprintf("%d.%02d", r.IntN(50), 1+r.IntN(98))
		case n == 1:
			return "(" + sum(depth-1) + ")"
		case n == 2:
			return "-(" + sum(depth-1) + ")"
		default:
			return sum(depth-1) + string("+-*/"[r.IntN(4)]) + sum(depth-1)
		}
	}
	checked := 0
	for range 2000 {
		text := sum(4)
		value, err := types.Eval(token.NewFileSet(), nil, token.NoPos, text)
		if err != nil {
			continue // it divides by zero
		}
		want, _ := constant.Float64Val(value.Value)
		if want > 1e6 || want < -1e6 {
			continue
		}
		m, findings := read("map m\nconst a "+text+"\nspawn s at=a,0,"+text+"\n", nil)
		require.Empty(t, findings, text)
		assert.InDelta(t, want, m.Spawns[0].At.X, 1e-6*max(1, want, -want), text)
		assert.Equal(t, m.Spawns[0].At.X, m.Spawns[0].At.Z)
		checked++
	}
	assert.Greater(t, checked, 1000)
}

// However a map is laid out, it means the same once it is printed: the demo's maps, with their
// blanks and zeros made rough.
func TestPrintingKeepsTheMeaning(t *testing.T) {
	root := filepath.Join("..", "..", "..", "demo", "projects", "highline")
	beside := func(name string) ([]byte, error) {
		if strings.HasSuffix(name, "_ridge.png") {
			return grey(8, 4, func(x, y int) uint16 { return uint16(x * y * 999) }), nil
		}
		if strings.HasSuffix(name, ".png") {
			return grey(5, 5, func(x, y int) uint16 { return uint16(x * y * 999) }), nil
		}
		return os.ReadFile(filepath.Join(root, filepath.FromSlash(name)))
	}
	for _, name := range []string{"maps/cairn_station.vnx", "maps/saltpan_relay.vnx", "drafts/mail_crate.vnx"} {
		data, err := beside(name)
		require.NoError(t, err)
		want, findings := maplang.Read(name, data, maplang.Options{Open: beside})
		require.Empty(t, findings)
		rough := regexp.MustCompile(`(?m)^( +)`).ReplaceAllString(string(data), "$1$1")
		rough = regexp.MustCompile(`([0-9])( [a-z]+=)`).ReplaceAllString(rough, "$1  \t$2")
		file, findings := maplang.Parse(name, []byte(rough))
		require.Empty(t, findings)
		printed := maplang.Print(file)
		assert.Equal(t, string(data), string(printed))
		got, findings := maplang.Read(name, printed, maplang.Options{Open: beside})
		require.Empty(t, findings)
		for _, m := range []*scene.Map{want, got} {
			if m.Sky != nil && m.Sky.Image != nil {
				pixels, err := m.Sky.Image.Pixels()
				require.NoError(t, err)
				assert.Len(t, pixels, 32)
				m.Sky.Image.Pixels = nil // no two functions are equal
			}
		}
		assert.Equal(t, want, got)
	}
}

// Any bytes as the images of a grid and of a terrain end in a map or in findings at the lines that name them.
func FuzzImages(f *testing.F) {
	f.Add(grey(4, 3, func(x, y int) uint16 { return uint16(x * 9000) }))
	f.Add([]byte("\x89PNG\r\n\x1a\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		source := "map m\nlegend . colour=#000000\ngrid g from=a.png\nterrain t at=0,0,0 size=4,4,4 from=a.png material=a\n  paint b from=a.png\n"
		m, findings := maplang.Read("m.vnx", []byte(source),
			maplang.Options{Open: func(string) ([]byte, error) { return data, nil }})
		if (m == nil) == (finding.Count(findings, finding.Error) == 0) {
			t.Fatalf("a map and findings: %v", findings)
		}
		for _, x := range findings {
			if x.Place.Line < 3 {
				t.Fatalf("odd finding: %+v", x)
			}
		}
		if m != nil && m.Terrains[0].Columns*m.Terrains[0].Rows != len(m.Terrains[0].Heights) {
			t.Fatal("heights are missing")
		}
	})
}

// Any rows under any legend end in a grid of the size that it says, or in findings; what is drawn
// of it and printed reads the same.
func FuzzGrid(f *testing.F) {
	f.Add("# tile=rock/wall solid=yes\n. tile=a", "####\n#..#\n####", uint8(4), uint8(3))
	f.Add(". tile=a colour=#102030 height=2", "..\n .\n", uint8(2), uint8(2))
	f.Add("/ tile=a\n\" tile=b\n= tile=c", "//\n\"=", uint8(2), uint8(2))
	f.Fuzz(func(t *testing.T, legend, rows string, wide, high uint8) {
		var b strings.Builder
		b.WriteString("map m\n")
		for line := range strings.SplitSeq(legend, "\n") {
			b.WriteString("legend " + line + "\n")
		}
		fmt.Fprintf(&b, "grid g cells=%d,%d level=0\n", wide, high)
		for row := range strings.SplitSeq(rows, "\n") {
			b.WriteString("  row " + row + "\n")
		}
		m, findings := maplang.Read("m.vnx", []byte(b.String()), maplang.Options{})
		if (m == nil) == (finding.Count(findings, finding.Error) == 0) {
			t.Fatalf("a map and findings: %v", findings)
		}
		if m == nil {
			return
		}
		for _, g := range m.Grids {
			if len(g.Rows) != g.Height {
				t.Fatalf("%d rows are %d", g.Height, len(g.Rows))
			}
			for _, row := range g.Rows {
				if len(row.Symbols) != g.Width {
					t.Fatalf("%d cells are %d", g.Width, len(row.Symbols))
				}
			}
		}
		file, findings := maplang.Parse("m.vnx", []byte(b.String()))
		again, more := maplang.Read("m.vnx", maplang.Print(file), maplang.Options{})
		if len(findings)+finding.Count(more, finding.Error) > 0 || len(again.Grids) != len(m.Grids) {
			t.Fatalf("%q prints as %q, which is another map: %v", b.String(), maplang.Print(file), more)
		}
	})
}
