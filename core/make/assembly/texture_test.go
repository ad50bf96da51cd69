package assembly_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/make/assembly"
	"vornix/internal/demotest"
	"vornix/internal/thorough"
)

// picture writes an image of a function.
func picture(t *testing.T, w, h int, f func(x, y int) color.NRGBA) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.SetNRGBA(x, y, f(x, y))
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	return b.Bytes()
}

func built(t *testing.T, p *project.Project, rel string) *texture.Texture {
	t.Helper()
	data, err := os.ReadFile(p.Join("out/tree/" + rel))
	require.NoError(t, err)
	tex, err := texture.Read(data)
	require.NoError(t, err)
	return tex
}

func texts(r *assembly.Result, id string) []string {
	var list []string
	for _, f := range r.Findings {
		if f.ID == id {
			list = append(list, f.Text)
		}
	}
	return list
}

// What makes an asset is all that is looked at: defaults, what is inherited, sidecars, frames and their folders.
func TestChangesOfWhatTakesPart(t *testing.T) {
	high := demotest.Built(t, "highline")
	mustRun(t, high)
	change := func(p **project.Project, rel, old, now string) []string {
		demotest.Edit(t, *p, rel, old, now)
		*p = demotest.Load(t, (*p).Dir)
		list := made(mustRun(t, *p))
		slices.Sort(list)
		return list
	}
	assert.Equal(t, []string{"map cairn_station", "map saltpan_relay", "material rock/cairn", "material rock/cairn_wet",
		"material rock/slab"}, change(&high, "materials/rock/defaults.toml", "1.1", "1.2"))
	assert.Equal(t, []string{"map cairn_station", "map saltpan_relay", "material rock/cairn",
		"material rock/cairn_wet"}, change(&high, "materials/rock/cairn.toml", "size = 4", "size = 5"))
	assert.Equal(t, []string{"texture rock/cairn_bumps"},
		change(&high, "textures/rock/cairn_bumps.texture.toml", "strength = 10", "strength = 5"))
	assert.Equal(t, []string{"texture wood/plank"},
		change(&high, "vornix.toml", "[addon]", "[[texture]]\nmatch = \"wood/**\"\nquality = \"draft\"\n\n[addon]"))

	low := demotest.Project(t, "lower-sidings")
	mustRun(t, low)
	// The level's pictures show its sprites.
	assert.Equal(t, []string{"picture label tram_depot", "sprite mole"},
		change(&low, "sprites/mole.toml", "rate = 8", "rate = 9"))
	require.NoError(t, os.Remove(low.Join("sprites/lamp/glow/10.png")))
	assert.ElementsMatch(t, []string{"picture label tram_depot", "sprite lamp"}, made(mustRun(t, low)))
	assert.Equal(t, []string{"map tram_depot", "picture label tram_depot"},
		change(&low, "maps/tram_depot.vnx", "state=dig", "state=idle"))
}

// A sprite's index leads to textures whose texels are those of the frames, and the map names its state.
func TestSprites(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	mustRun(t, p)
	data, err := os.ReadFile(p.Join("out/tree/creatures/mole.json"))
	require.NoError(t, err)
	index, err := sprite.ReadIndex(data)
	require.NoError(t, err)
	assert.Equal(t, []string{"creatures/mole.dds"}, index.Pages)
	page := texture.Visible(built(t, p, index.Pages[0]).Image(0, 0))
	sheet, err := os.ReadFile(p.Join("sprites/mole.png"))
	require.NoError(t, err)
	source, err := sprite.Visible(sheet)
	require.NoError(t, err)
	steps := index.States["walk"].Directions["west"]
	require.Len(t, steps, 4)
	for n, step := range steps {
		assert.Equal(t, 125, step.Milliseconds)
		f := index.Frames[step.Frame]
		for y := range f.Size[1] {
			for x := range f.Size[0] {
				want := source.NRGBAAt(16*n+f.Offset[0]+x, 2*16+f.Offset[1]+y)
				if want.A > 0 {
					require.Equal(t, want, page.NRGBAAt(f.At[0]+x, f.At[1]+y), "rgba8 keeps every texel")
				}
			}
		}
	}
	data, err = os.ReadFile(p.Join("out/tree/levels/tram_depot.vnm"))
	require.NoError(t, err)
	m, err := mapfile.Read(data)
	require.NoError(t, err)
	assert.Equal(t, []string{"lamp", "mole"}, m.Sprites())
	for _, f := range mustRun(t, p).Tree.Files {
		if f.Path == "creatures/mole.dds" || f.Path == "creatures/mole.json" {
			assert.Equal(t, []string{"tram_depot"}, f.Maps)
		}
	}
	// A state that the sheet does not have keeps the map from being made, as a missing material does.
	demotest.Edit(t, p, "maps/tram_depot.vnx", "state=dig", "state=digs")
	r, err := run(t, p)
	require.Error(t, err)
	assert.Equal(t, []string{`the sprite "mole" has no state "digs"`}, texts(r, "sprite.state"))
}

// A sidecar makes a cube of six images or of a strip; its parts are no textures of their own.
func TestCubesInAProject(t *testing.T) {
	p := demotest.Built(t, "highline")
	list := ""
	for i := range 6 {
		demotest.Put(t, p, fmt.Sprintf("textures/sky/face_%d.png", i),
			picture(t, 32, 32,
				func(x, y int) color.NRGBA { return color.NRGBA{uint8(40 * i), uint8(x), uint8(y), 255} }))
		list += fmt.Sprintf("%q, ", fmt.Sprintf("sky/face_%d.png", i))
	}
	demotest.Put(t, p, "textures/sky/dawn.texture.toml",
		[]byte("shape = \"cube\"\nformat = \"rgba8\"\nimages = ["+list+"]\n"))
	demotest.Edit(t, p, "materials/wood/plank.toml", "surface", "emission = \"sky/dawn\"\nsurface")
	r := mustRun(t, p)
	tex := built(t, p, "textures/sky/dawn.ktx2")
	assert.Equal(t, []any{texture.Cube, 6, 32, texture.RGBA8}, []any{tex.Shape, tex.Images, tex.Width, tex.Format})
	assert.Equal(t, color.NRGBA{160, 5, 7, 255}, texture.Visible(tex.Image(0, 4)).NRGBAAt(5, 7))
	for _, f := range r.Findings {
		assert.NotContains(t, f.Place.File, "sky/", "%v", f)
	}
	assert.NotContains(t, paths(r), "textures/sky/face_0.ktx2")

	strip := picture(t, 6*16, 16, func(x, y int) color.NRGBA { return color.NRGBA{uint8(40 * (x / 16)), 9, 9, 255} })
	demotest.Put(t, p, "textures/sky/dusk.png", strip)
	demotest.Put(t, p, "textures/sky/dusk.texture.toml", []byte("shape = \"cube\"\n"))
	demotest.Edit(t, p, "materials/wood/plank.toml", "sky/dawn", "sky/dusk")
	mustRun(t, p)
	assert.Equal(t, texture.Cube, built(t, p, "textures/sky/dusk.ktx2").Shape)
	demotest.Put(t, p, "textures/sky/dusk.png",
		picture(t, 40, 16, func(x, y int) color.NRGBA { return color.NRGBA{1, 2, 3, 255} }))
	r, err := run(t, p)
	require.Error(t, err)
	assert.Contains(t, texts(r, "texture.unreadable")[0], "an image of 40 x 16 texels is no cube")
}

// Each thing that a texture can lose or get wrong is said with its number, and only then.
func TestTextureFindings(t *testing.T) {
	thorough.Only(t)
	soft := func(x, y int) color.NRGBA { return color.NRGBA{200, 100, 50, uint8(x * 8)} }
	bumpy := func(x, y int) color.NRGBA {
		return []color.NRGBA{{68, 128, 240, 255}, {128, 128, 255, 255}, {188, 128, 240, 255}}[x%3]
	}
	for _, c := range []struct {
		name, recipe, material, id, say string
		image                           func(x, y int) color.NRGBA
		fails                           bool
	}{
		{"soft alpha into none", `format = "bc1"`, "", "texture.alpha-lost",
			"1024 of 1024 texels lose their soft alpha (up to 255 of 255 off) in bc1", soft, false},
		{"colour into grey", "format = \"bc5\"\nkind = \"mask\"", "", "texture.colour-lost",
			"1024 of 1024 texels lose their colour (channels differ by up to 150 of 255) in bc5",
			func(x, y int) color.NRGBA { return color.NRGBA{200, 100, 50, 255} }, true},
		{"normals as colour", `kind = "colour"`, "", "texture.normal-as-colour",
			"are made as colour: sRGB turns them by", bumpy, false},
		{"colour as normals", `kind = "normal"`, "", "texture.not-normal",
			"1024 of 1024 texels of the normal map are no direction of length one: it looks like a colour image",
			func(x, y int) color.NRGBA { return color.NRGBA{200, 200, 20, 255} }, true},
		{"seen through without alpha", "", "see_through = \"soft\"\n", "texture.no-alpha",
			`the material "wood/plank" is seen through, and no texel has alpha`,
			func(x, y int) color.NRGBA { return color.NRGBA{200, 200, 20, 255} }, false},
		{"resized", `size = "up"`, "", "texture.resized", "", soft, false},
		{"a format that the game does not take", `format = "bc7"`, "", "texture.format",
			"Kestrel Post does not take the format bc7; it takes bc1, bc3, bc5, bc6h, rgba8", soft, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := demotest.Built(t, "highline")
			side := 32
			if c.name == "resized" {
				side = 33
			}
			demotest.Put(t, p, "textures/wood/plank.png", picture(t, side, side, c.image))
			demotest.Put(t, p, "textures/wood/plank.texture.toml", []byte(c.recipe+"\n"))
			demotest.Edit(t, p, "materials/wood/plank.toml", "surface", c.material+"surface")
			r, err := run(t, p)
			// a colour image where data belongs stops the material that shows it
			assert.Equal(t, c.fails, err != nil, "%v", err)
			require.NotEmpty(t, texts(r, c.id), "%v", r.Findings)
			assert.Contains(t, texts(r, c.id)[0], c.say)
			// The same image made as it should be has none of this.
			require.NoError(t, os.Remove(p.Join("textures/wood/plank.texture.toml")))
			demotest.Put(t, p, "textures/wood/plank.png",
				picture(t, 32, 32,
					func(x, y int) color.NRGBA { return color.NRGBA{uint8(8 * x), uint8(8 * y), 90, uint8(200 + x)} }))
			assert.Empty(t, texts(mustRun(t, p), c.id))
		})
	}
}

// A face that asks to be fitted gets whole repeats by the texture's size and the game's density,
// unless the material has a size of its own; the map is made again when the image changes its size.
func TestFitFollowsTheImage(t *testing.T) {
	p := demotest.Project(t, "highline")
	demotest.Put(t, p, "materials/plain.toml", []byte("colour = \"plain\"\n"))
	demotest.Put(t, p, "textures/plain.png",
		picture(t, 256, 128, func(x, y int) color.NRGBA { return color.NRGBA{uint8(x), uint8(y), 9, 255} }))
	demotest.Edit(t, p, "maps/cairn_station.vnx", "solid deck box",
		"solid wall box 50,0,0 56,1,3 material=plain\n  face south fit=yes\nsolid deck box")
	repeats := func() (high [2]float32) {
		data, err := os.ReadFile(p.Join("out/tree/maps/cairn_station.vnm"))
		require.NoError(t, err)
		m, err := mapfile.Read(data)
		require.NoError(t, err)
		for _, f := range m.Faces {
			for _, v := range m.Vertices[f.FirstVertex : f.FirstVertex+f.Vertices] {
				if f.Material == "plain" && v.Normal == [3]float32{0, -1, 0} {
					high = [2]float32{max(high[0], v.UV[0]), max(high[1], v.UV[1])}
				}
			}
		}
		return high
	}
	mustRun(t, p)
	assert.Equal(t, [2]float32{3, 3}, repeats(), "two metres by one a repeat, on six by three")
	demotest.Put(t, p, "textures/plain.png",
		picture(t, 128, 128, func(x, y int) color.NRGBA { return color.NRGBA{uint8(x), uint8(y), 9, 255} }))
	mustRun(t, p)
	assert.Equal(t, [2]float32{6, 3}, repeats())
	demotest.Put(t, p, "materials/plain.toml", []byte("colour = \"plain\"\nsize = 3\n"))
	mustRun(t, p)
	assert.Equal(t, [2]float32{2, 1}, repeats())
}

// A material whose values can't be used is not made, wherever they come from.
func TestMaterialsThatCanNotBeMade(t *testing.T) {
	for _, c := range []struct{ file, old, now, id string }{
		{"materials/wood/plank.toml", `colour = "wood/plank"`, "", "toml.value"},
		{"materials/rock/defaults.toml", `"rock"`, `"rocks"`, "material.surface"},
	} {
		p := demotest.Project(t, "highline")
		demotest.Edit(t, p, c.file, c.old, c.now)
		r, err := run(t, p)
		require.Error(t, err)
		assert.NotEmpty(t, texts(r, c.id))
		assert.NoFileExists(t,
			p.Join("out/tree/"+map[string]string{"toml.value": "materials/wood/plank.toml",
				"material.surface": "materials/rock/cairn.toml"}[c.id]))
		assert.FileExists(t, p.Join("out/tree/materials/metal/rail.toml"))
	}
}

// The compiled material names its textures where they lie in the tree, whatever it inherits.
func TestCompiledMaterialsLeadToTheirTextures(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		p := demotest.Project(t, name)
		r := mustRun(t, p)
		n := 0
		for _, f := range r.Tree.Files {
			if f.Step != "material" {
				continue
			}
			data, err := os.ReadFile(p.Join("out/tree/" + f.Path))
			require.NoError(t, err)
			textures, err := material.ParseCompiled(f.Path, data)
			require.NoError(t, err)
			for _, tex := range textures {
				assert.Contains(t, paths(r), tex)
				n++
			}
		}
		assert.Greater(t, n, 5)
		assert.Zero(t, finding.Count(r.Findings, finding.Error))
	}
}
