package reflections_test

import (
	"context"
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/compile"
	"vornix/core/compile/radiance"
	"vornix/core/compile/stage"
	"vornix/core/format/mapfile"
	"vornix/core/format/texture"
	"vornix/core/source/maplang"
	"vornix/internal/thorough"
)

func mirrored(t *testing.T, source string, format texture.Format, env stage.Env) (*mapfile.Map, []finding.Finding) {
	t.Helper()
	m, findings := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..2\n"+source), maplang.Options{})
	require.NotNil(t, m, "%v", findings)
	env.Only = []string{stage.Lighting, stage.Reflections}
	white := image.NewNRGBA(image.Rect(0, 0, 1, 1))
	white.Set(0, 0, color.White)
	r, err := compile.Compile(context.Background(), m,
		compile.Options{MaterialSize: func(string) float64 { return 1 },
			Long: &compile.Long{Env: env, Cubes: format, Looks: func(name string) radiance.Appearance {
				switch name {
				case "glow":
					return radiance.Appearance{Emission: white, EmissionPower: 4, Tint: [3]float64{1e-9, 1e-9, 1e-9}}
				case "black":
					return radiance.Appearance{Tint: [3]float64{1e-9, 1e-9, 1e-9}}
				}
				return radiance.Appearance{}
			}}})
	require.NoError(t, err)
	data, err := mapfile.Encode(r.Map)
	require.NoError(t, err)
	again, err := mapfile.Read(data)
	require.NoError(t, err)
	require.Equal(t, r.Map.Cubes, again.Cubes)
	return again, r.Findings
}

func red(t *texture.Texture, level, face, x, y int) float32 {
	img := t.Image(level, face).(*texture.Light)
	return img.Colours(y*img.Rect.Dx() + x)[0]
}

// Under a sky that is as bright everywhere, every surface mirrors just that, however rough it is.
func TestASkyThatIsEvenIsMirroredEvenly(t *testing.T) {
	thorough.Only(t)
	m, _ := mirrored(t,
		"sky s sun=40,0 power=0 dome=#ffffff glow=0.5\nsolid far box 900,900,0 901,901,1 material=black\nprobe p at=0,0,0 reach=9\n", texture.RGBA16F, stage.Env{})
	require.Len(t, m.Cubes, 1)
	cube, err := texture.Read(m.Cubes[0].Texture)
	require.NoError(t, err)
	require.Equal(t, texture.Cube, cube.Shape)
	require.Len(t, cube.Levels, 5)
	for level := range cube.Levels {
		w, _ := cube.LevelBounds(level)
		for face := range 6 {
			for i := range w * w {
				require.InDelta(t, 0.5, red(cube, level, face, i%w, i/w), 0.002)
			}
		}
	}
	assert.Equal(t, [3]float32{-9, -9, -9}, m.Cubes[0].Min, "as far as it reaches")
}

// In a room, with one wall that glows to the east, the cube's first image is bright, the others are
// darker the rougher... the sharper the surface, and the box is the room.
func TestAGlowingWallIsWhereItIs(t *testing.T) {
	room := `solid floor box 0,0,-1 8,6,0 material=black
solid roof box 0,0,4 8,6,5 material=black
solid south box 0,-1,-1 8,0,5 material=black
solid north box 0,6,-1 8,7,5 material=black
solid west box -1,-1,-1 0,7,5 material=black
solid east box 8,-1,-1 9,7,5 material=glow
probe p at=4,3,2 reach=20
`
	for _, format := range []texture.Format{texture.RGBA16F, texture.BC6H} {
		m, findings := mirrored(t, room+"probe inside at=4,-0.5,2 reach=5\n", format, stage.Env{})
		cube, err := texture.Read(m.Cubes[0].Texture)
		require.NoError(t, err)
		assert.Equal(t, format, cube.Format)
		w, _ := cube.LevelBounds(0)
		assert.InDelta(t, 4, red(cube, 0, 0, w/2, w/2), 0.05, "east")
		for face := 1; face < 6; face++ {
			assert.Less(t, red(cube, 0, face, w/2, w/2), float32(0.05), "image %d", face)
		}
		last := len(cube.Levels) - 1
		assert.Greater(t, red(cube, last, 2, 3, 2), red(cube, last, 2, 0, 2)+0.2,
			"rough, its light spreads to the north's eastern side")
		assert.Greater(t, red(cube, last, 2, 3, 2), red(cube, 1, 2, w/2-1, w/4)*0.2)
		assert.InDeltaSlice(t, []float32{0, 0, 0}, m.Cubes[0].Min[:], 0.01)
		assert.InDeltaSlice(t, []float32{8, 6, 4}, m.Cubes[0].Max[:], 0.01)
		var buried []string
		for _, f := range findings {
			if f.ID == finding.ProbeBuried.ID {
				buried = append(buried, f.Text)
			}
		}
		assert.Equal(t, []string{`the probe "inside" lies in a solid`}, buried)
	}
	_, err := texture.Read(nil)
	require.Error(t, err)
}

func TestDraftsAreSmallAndWorkersDontMatter(t *testing.T) {
	source := "sky s sun=40,0\nsolid g box 0,0,0 4,4,1 material=g\nsolid h box 1,1,1 2,2,3 material=glow\nprobe p at=3,3,2 reach=9\n"
	one, _ := mirrored(t, source, texture.BC6H, stage.Env{Draft: true, Workers: 1})
	many, _ := mirrored(t, source, texture.BC6H, stage.Env{Draft: true, Workers: 8})
	require.Equal(t, one, many)
	cube, err := texture.Read(one.Cubes[0].Texture)
	require.NoError(t, err)
	assert.Equal(t, 16, cube.Width)
}
