package compile_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile"
	"vornix/core/format/mapfile"
	"vornix/core/source/maplang"
)

func compileSource(t *testing.T, source string, size float64) *mapfile.Map {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte(source), maplang.Options{})
	require.Empty(t, findings)
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return size }})
	require.NoError(t, err)
	return r.Map
}

type vec = [3]float64

func sub(a, b [3]float32) vec {
	return vec{float64(a[0] - b[0]), float64(a[1] - b[1]), float64(a[2] - b[2])}
}

func cross(a, b vec) vec {
	return vec{a[1]*b[2] - a[2]*b[1], a[2]*b[0] - a[0]*b[2], a[0]*b[1] - a[1]*b[0]}
}

func dot(a, b vec) float64 { return a[0]*b[0] + a[1]*b[1] + a[2]*b[2] }

// A box closes: its faces, taken counter-clockwise from outside, have the box's volume (divergence theorem), look
// outward, and their areas add up.
func TestABoxIsClosedAndLooksOutward(t *testing.T) {
	m := compileSource(t, "map m\nsolid s box 4,-1,2 1,5,2.5 material=a\n", 2)
	require.Len(t, m.Faces, 6)
	require.Len(t, m.Vertices, 24)
	require.Len(t, m.Indices, 36)
	volume, area := 0.0, 0.0
	for i := 0; i < len(m.Indices); i += 3 {
		a, b, c := m.Vertices[m.Indices[i]], m.Vertices[m.Indices[i+1]], m.Vertices[m.Indices[i+2]]
		n := cross(sub(b.Position, a.Position), sub(c.Position, a.Position))
		volume += dot(sub(a.Position, [3]float32{}), n) / 6
		facing := dot(n, sub(a.Normal, [3]float32{}))
		assert.Positive(t, facing, "triangle %d looks the other way than its normal", i/3)
		area += facing / 2
	}
	assert.InDelta(t, 3*6*0.5, volume, 1e-9)
	assert.InDelta(t, 2*(3*6+3*0.5+6*0.5), area, 1e-9)
}

// One repeat of the texture covers as many metres as the material says, whatever side it is on, and is never mirrored:
// seen from outside, u grows to the right and v downward.
func TestTextureCoordinates(t *testing.T) {
	m := compileSource(t, "map m\nsolid s box 0,0,0 6,4,2 material=a\n", 2)
	for _, f := range m.Faces {
		p := m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
		for i := range p {
			a, b := p[i], p[(i+1)%len(p)]
			length := dot(sub(a.Position, b.Position), sub(a.Position, b.Position))
			du, dv := float64(b.UV[0]-a.UV[0]), float64(b.UV[1]-a.UV[1])
			assert.InDelta(t, length, 4*(du*du+dv*dv), 1e-6, "texels keep their shape")
		}
		du := vec{float64(p[1].UV[0] - p[0].UV[0]), float64(p[1].UV[1] - p[0].UV[1]), 0}
		dv := vec{float64(p[2].UV[0] - p[0].UV[0]), float64(p[2].UV[1] - p[0].UV[1]), 0}
		assert.Negative(t, cross(du, dv)[2], "counter-clockwise outside is clockwise where v points down: not mirrored")
	}
}

func TestNeighboursMeetWithoutASeam(t *testing.T) {
	m := compileSource(t, "map m\nsolid s box 0,0,0 3,1,1 material=a\nsolid r box 3,0,0 7,1,1 material=b\n", 2)
	at := map[[3]float32]map[[2]float32]bool{}
	for _, f := range m.Faces {
		for _, v := range m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
			if v.Normal == [3]float32{0, 0, 1} {
				if at[v.Position] == nil {
					at[v.Position] = map[[2]float32]bool{}
				}
				at[v.Position][v.UV] = true
			}
		}
	}
	assert.Len(t, at, 6)
	for p, uvs := range at {
		assert.Len(t, uvs, 1, "two coordinates at %v", p)
	}
}

func TestFaceOverrides(t *testing.T) {
	m := compileSource(t,
		"map m\nsolid s box 0,0,0 4,4,4 material=a\n  face top material=b scale=2 shift=1,3 turn=90\n", 2)
	top := m.Faces[0]
	assert.Equal(t, "b", top.Material)
	assert.Equal(t, "a", m.Faces[1].Material)
	// The corner 4,0 of the top lies at u=4, v=0; turned by 90 degrees u=0, v=4; shifted 1, 7; a repeat is 4 metres.
	for _, v := range m.Vertices[:4] {
		if v.Position == [3]float32{4, 0, 4} {
			assert.Equal(t, [2]float32{0.25, 1.75}, v.UV)
		}
	}
}

// A fitted face has a whole number of repeats from edge to edge, at every quarter turn, and is not mirrored.
func TestFittedFaces(t *testing.T) {
	for _, turn := range []string{"0", "90", "180", "270", "-90"} {
		m, findings := maplang.Read("m.vnx",
			[]byte("map m\nsolid s box 1,2,0 7,5,2.2 material=a\n  face all fit=yes turn="+turn+"\n"),
			maplang.Options{})
		require.Empty(t, findings)
		r, err := compile.Compile(context.Background(), m,
			compile.Options{MaterialSize: func(string) float64 { return 9 },
				FitSize: func(string) [2]float64 { return [2]float64{2, 1} }})
		require.NoError(t, err)
		out := r.Map
		for _, f := range out.Faces {
			p := out.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices]
			low, high := p[0].UV, p[0].UV
			for _, v := range p {
				for k := range 2 {
					low[k], high[k] = min(low[k], v.UV[k]), max(high[k], v.UV[k])
				}
			}
			assert.Equal(t, [2]float32{}, low)
			assert.Equal(t, [2]float32{float32(int(high[0])), float32(int(high[1]))}, high, "whole repeats")
			assert.Positive(t, high[0]*high[1])
			du := vec{float64(p[1].UV[0] - p[0].UV[0]), float64(p[1].UV[1] - p[0].UV[1]), 0}
			dv := vec{float64(p[2].UV[0] - p[0].UV[0]), float64(p[2].UV[1] - p[0].UV[1]), 0}
			assert.Negative(t, cross(du, dv)[2])
		}
		top := map[string][2]float32{"0": {3, 3}, "180": {3, 3}}[turn]
		if top == [2]float32{} {
			top = [2]float32{2, 6} // turned by a quarter: two metres a repeat go along the three metres
		}
		high := [2]float32{}
		for _, v := range out.Vertices[:4] {
			high = [2]float32{max(high[0], v.UV[0]), max(high[1], v.UV[1])}
		}
		assert.Equal(t, top, high, "turn %s", turn)
	}
}

func TestObjectsKeepTheirOrderAndProperties(t *testing.T) {
	m := compileSource(t, `map m title="M"
sound hum at=1,2,3 file=a/b volume=0.25 loop=yes
item winch at=7,3,0.5 rank=2
light lamp point 1,2,3 colour=#010203 power=40
item winch at=8,3,0.5 rank=3
`, 1)
	require.Len(t, m.Objects, 4)
	assert.Equal(t, mapfile.Object{Kind: "light", Name: "lamp", Detail: "point", A: [3]float32{1, 2, 3},
		Colour: 0x010203, Value: 40}, m.Objects[0])
	assert.Equal(t, mapfile.Object{Kind: "sound", Name: "hum", Detail: "a/b", A: [3]float32{1, 2, 3}, Value: 0.25,
		Flags: 1}, m.Objects[1])
	assert.Equal(t, [][2]string{{"rank", "2"}}, m.Objects[2].Pairs)
	assert.Equal(t, [][2]string{{"rank", "3"}}, m.Objects[3].Pairs)
}

func TestTiles(t *testing.T) {
	m := compileSource(t,
		"map m\nlegend # tile=rock/wall solid=yes\nlegend . tile=floor\nlegend _\ngrid g cells=3,2 level=2\n  row #._\n  row .##\n", 1)
	require.Len(t, m.Grids, 1)
	assert.Equal(t, mapfile.Grid{Name: "g", Level: 2, Width: 3, Height: 2, Cells: []uint16{0, 1, 2, 1, 0, 0}},
		m.Grids[0])
	assert.Equal(t, []mapfile.Tile{{Symbol: '#', Material: "rock/wall", Solid: true}, {Symbol: '.', Material: "floor"},
		{Symbol: '_'}}, m.Legend)
	assert.Equal(t, []string{"rock/wall", "floor"}, m.Materials())
}

func say(t *testing.T, lines string, o compile.Options) *compile.Result {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m "+lines), maplang.Options{})
	require.Empty(t, findings)
	if o.MaterialSize == nil {
		o.MaterialSize = func(string) float64 { return 2 }
	}
	r, err := compile.Compile(context.Background(), m, o)
	require.NoError(t, err)
	return r
}

// What only the compiled surface shows, each by a map that has it and one that hasn't.
func TestFindings(t *testing.T) {
	texels := func(name string) float64 { return map[string]float64{"sharp": 1024, "plain": 256, "blurred": 32}[name] }
	for _, c := range []struct {
		id, lines, text string
		found           int
	}{
		{"solid.hidden", "\nsolid a box 0,0,0 4,4,4 material=plain\nsolid b box 1,1,1 2,2,2 material=plain\n",
			`nothing can be seen of solid "b"`, 1},
		{"solid.hidden", "\nsolid a box 0,0,0 4,4,4 material=plain\nsolid b box 1,1,1 2,2,4.5 material=plain\n", "", 0},
		{"texture.density",
			"\nsolid a box 0,0,0 4,4,1 material=sharp\nsolid b box 4,0,0 8,4,1 material=blurred\nsolid c box 8,0,0 9,4,1 material=blurred\n", "blurred has 16 texels a metre", 1},
		{"texture.density",
			"\nsolid a box 0,0,0 4,4,1 material=sharp\nsolid b box 4,0,0 8,4,1 material=plain\nsolid c box 8,0,0 12,4,1 material=blurred\n", "", 0},
		{"texture.density",
			"\nsolid a box 0,0,0 4,4,1 material=plain\nsolid b box 4,0,0 8,4,1 material=plain\n  face top scale=20\n",
			"plain has 6 texels a metre", 1},
		{"map.leak", "sealed=yes\nsolid a box 0,0,0 4,4,1 material=plain\nspawn s at=2,2,1\n",
			"a way leads outside from spawn s by 2,2,1.1", 1},
		{"map.leak", "\nsolid a box 0,0,0 4,4,1 material=plain\nspawn s at=2,2,1\n", "", 0},
	} {
		r := say(t, c.lines, compile.Options{Texels: texels, DensityRatio: 10})
		n := 0
		for _, f := range r.Findings {
			if f.ID == c.id {
				n++
				assert.Contains(t, f.Text, c.text)
				assert.Positive(t, f.Place.Line)
			}
		}
		assert.Equal(t, c.found, n, "%s\n%v", c.lines, r.Findings)
		assert.Equal(t, c.id == "map.leak" && c.found > 0, r.Leak != nil)
	}
}

// Players bump into what they see, and the tree knows inside from outside.
func TestBodiesAndTree(t *testing.T) {
	m := say(t, "\nsolid a box 0,0,0 4,4,1 material=plain\nsolid c cylinder 2,2,1 radius=1 height=2 sides=6 material=plain\n", compile.Options{}).Map
	require.Len(t, m.Bodies, 2)
	assert.Len(t, m.Bodies[1].Planes, 8)
	for _, p := range m.Bodies[1].Planes {
		at := p.Normal[0]*2 + p.Normal[1]*2 + p.Normal[2]*2
		assert.Less(t, at, p.Distance, "the middle lies behind every plane")
	}
	leaf := func(x, y, z float32) mapfile.Leaf {
		at := int32(0)
		for at >= 0 {
			n := m.Nodes[at]
			if n.Normal[0]*x+n.Normal[1]*y+n.Normal[2]*z > n.Distance {
				at = n.Front
			} else {
				at = n.Back
			}
		}
		return m.Leaves[-1-at]
	}
	assert.True(t, leaf(1, 1, 0.5).Solid)
	assert.True(t, leaf(2, 2, 2).Solid)
	assert.False(t, leaf(0.5, 0.5, 2).Solid)
	assert.False(t, leaf(2, 2, 3.5).Solid)
}
