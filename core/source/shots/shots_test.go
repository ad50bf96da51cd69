package shots_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
	"vornix/internal/peer"
)

const game = `[game]
id = "hut"
title = "Hut"
form = "solids"

[textures]
formats = ["rgba8", "bc1"]
power_of_two = true

[[picture]]
name = "thumbnail"
file = "previews/{map}.png"
width = 160
height = 90

[[picture]]
name = "loading"
form = "texture"
file = "loading/{map}_{n}_{variant}"
material = "loading/{map}_{n}_{variant}"
count = 3
least = 2
darken = 0.3
vignette = 0.1

[picture.variants]
normal = { width = 64, height = 64 }
wide = { width = 128, height = 64 }

[[picture]]
name = "cover"
each = "mod"
place = "beside"
form = "jpeg"
file = "cover.jpg"
width = 320
height = 180
most_bytes = 20000
optional = true
`

const hut = `map hut title="The Hut" players=1..2
solid floor box 0,0,0 8,8,0.2 material=wood
solid wall box 0,8,0 8,8.4,3 material=wood
spawn s at=2,2,0.2
camera front at=4,-6,3 look=4,4,1 exposure=1
camera loading_2 at=1,1,2 look=6,6,1
`

// plan makes a project of files and plans its pictures.
func plan(t *testing.T, recipes string, files map[string][]byte) *shots.Plan {
	t.Helper()
	dir := t.TempDir()
	put := func(name string, data []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o666))
	}
	put("vornix.toml",
		[]byte("[project]\nname = \"huts\"\ntitle = \"Huts\"\nversion = \"1.2.3\"\nprofile = \"hut\"\n\n"+recipes))
	put("profiles/hut.toml", []byte(game))
	put("maps/hut.vnx", []byte(hut))
	put("materials/wood.toml", []byte("colour = \"wood\"\n"))
	for name, data := range files {
		put(name, data)
	}
	p, err := project.Load(dir, fstest.MapFS{})
	require.NoError(t, err)
	list, err := p.List()
	require.NoError(t, err)
	g, err := assetgraph.Scan(context.Background(), p, list)
	require.NoError(t, err)
	return shots.NewPlan(p, g)
}

func encoded(t *testing.T, w, h int, jpg bool) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range img.Pix {
		img.Pix[i] = uint8(i*i>>3 | 3)
	}
	var b bytes.Buffer
	if jpg {
		require.NoError(t, jpeg.Encode(&b, img, nil))
	} else {
		require.NoError(t, png.Encode(&b, img))
	}
	return b.Bytes()
}

// what lists the pictures of a plan with what they are made of.
func what(p *shots.Plan) (list []string) {
	for i := range p.Pictures {
		x := &p.Pictures[i]
		list = append(list, fmt.Sprintf("%s: %s, %dx%d, %s", x.ID(), x.Source(), x.Width, x.Height, x.File))
	}
	return list
}

// Without a recipe every picture is taken: by the camera of its name, else by the map's cameras in
// their order; in all its numbers and variants. What there is room for and no camera is said, not
// found fault with.
func TestPicturesWithoutRecipes(t *testing.T) {
	p := plan(t, "", nil)
	assert.Empty(t, p.Findings)
	assert.Equal(t, []string{
		"thumbnail hut: camera front, 160x90, previews/hut.png",
		"loading hut 1 normal: camera front, 64x64, textures/loading/hut_1_normal.ktx2",
		"loading hut 1 wide: camera front, 128x64, textures/loading/hut_1_wide.ktx2",
		"loading hut 2 normal: camera loading_2, 64x64, textures/loading/hut_2_normal.ktx2",
		"loading hut 2 wide: camera loading_2, 128x64, textures/loading/hut_2_wide.ktx2",
		"cover: hut, camera front, 320x180, cover.jpg",
	}, what(p))
	assert.Equal(t, "materials/loading/hut_1_wide.toml", p.Pictures[2].Material)
	assert.Equal(t, 1.0, p.Pictures[0].Exposure, "the camera's")
	assert.Equal(t, [2]float64{0.3, 0.1}, [2]float64{p.Pictures[1].Edit.Darken, p.Pictures[1].Edit.Vignette},
		"the profile's")
	require.Len(t, p.Left, 2)
	assert.Equal(t, shots.Left{Picture: "loading hut 3 normal", Why: "the map has 2 of the cameras"}, p.Left[0])
}

// Later recipes override earlier ones, by picture, map, number and variant.
func TestRecipesOverrideOneAnother(t *testing.T) {
	p := plan(t, `[[picture]]
for = "*"
vignette = 0.5
text = "{title} {n} of {project} {version}"

[[picture]]
for = "loading"
cameras = ["loading_2", "front", "front"]

[[picture]]
for = "loading"
number = 3
image = "art/{map}_{n}.png"
blur = 4

[[picture]]
for = "loading"
maps = "h*"
variant = "wide"
vignette = 0
exposure = -1
text = ""
`, map[string][]byte{"art/hut_3.png": encoded(t, 256, 128, false)})
	assert.Empty(t, p.Findings)
	assert.Empty(t, p.Left)
	assert.Equal(t, []string{
		"thumbnail hut: camera front, 160x90, previews/hut.png",
		"loading hut 1 normal: camera loading_2, 64x64, textures/loading/hut_1_normal.ktx2",
		"loading hut 1 wide: camera loading_2, 128x64, textures/loading/hut_1_wide.ktx2",
		"loading hut 2 normal: camera front, 64x64, textures/loading/hut_2_normal.ktx2",
		"loading hut 2 wide: camera front, 128x64, textures/loading/hut_2_wide.ktx2",
		"loading hut 3 normal: art/hut_3.png, 64x64, textures/loading/hut_3_normal.ktx2",
		"loading hut 3 wide: art/hut_3.png, 128x64, textures/loading/hut_3_wide.ktx2",
		"cover: hut, camera front, 320x180, cover.jpg",
	}, what(p))
	normal, wide := p.Pictures[5], p.Pictures[4]
	assert.Equal(t, [2]float64{0.3, 0.5}, [2]float64{normal.Edit.Darken, normal.Edit.Vignette},
		"the project says it over the profile")
	assert.Equal(t, 4.0, normal.Edit.Blur)
	assert.Equal(t, "The Hut 3 of Huts 1.2.3", normal.Edit.Text.Line)
	assert.Zero(t, wide.Edit.Vignette)
	assert.Nil(t, wide.Edit.Text)
	assert.Equal(t, 0.0, wide.Exposure, "a stop brighter by the camera and one darker by the recipe")
	assert.Equal(t, []string{"art/hut_3.png"}, p.Images())
}

// What can't be made, or comes out wrong, is a finding, with what to do.
func TestWhatIsWrongWithPictures(t *testing.T) {
	jpg, small, tall := encoded(t, 320, 180, true), encoded(t, 100, 50, false), encoded(t, 300, 3000, false)
	image := func(name, more string) string {
		return "[[picture]]\nfor = \"cover\"\nimage = \"" + name + "\"\n" + more
	}
	for name, c := range map[string]struct {
		recipes string
		files   map[string][]byte
		want    []string
		say     string
	}{
		"no camera": {"",
			map[string][]byte{"maps/hut.vnx": []byte("map hut title=\"H\"\nsolid a box 0,0,0 1,1,1 material=wood\n")},
			[]string{"picture.missing", "picture.missing"}, "number 1 of at least 2; the map has no camera"},
		"too few cameras": {"[[picture]]\nfor = \"loading\"\ncameras = [\"front\"]\n", nil,
			[]string{"picture.missing"}, "number 2 of at least 2; its recipe names 1 cameras"},
		"a misspelt camera": {"[[picture]]\nfor = \"thumbnail\"\ncamera = \"fornt\"\n", nil,
			[]string{"picture.camera"}, `Did you mean "front"?`},
		"a camera in a wall": {"",
			map[string][]byte{"maps/hut.vnx": []byte(hut + "camera thumbnail at=4,8.2,1 look=0,0,0\n")},
			[]string{"camera.buried"}, `the camera "thumbnail" lies in the solid "wall"`},
		"a misspelt picture": {"[[picture]]\nfor = \"thumbnial\"\nblur = 3\n", nil, []string{"picture.unknown"},
			`Did you mean "thumbnail"?`},
		"no such map": {"[[picture]]\nfor = \"*\"\nmaps = \"hat\"\nblur = 3\n", nil,
			[]string{"picture.unknown"}, `there is no map "hat"`},
		"no such variant": {"[[picture]]\nfor = \"*\"\nvariant = \"tall\"\nblur = 3\n", nil,
			[]string{"picture.unknown"}, `no variant "tall"`},
		"a missing image": {image("art/covre.png", ""), map[string][]byte{"art/cover.png": small},
			[]string{"picture.image"}, `Did you mean "art/cover.png"?`},
		"an unreadable image": {image("art/a.png", ""), map[string][]byte{"art/a.png": small[:80]},
			[]string{"picture.image"}, "can't be decoded"},
		"a small image": {image("art/a.png", ""), map[string][]byte{"art/a.png": small},
			[]string{"picture.small"}, "100 x 50 pixels and is enlarged 3.6 times"},
		"an extreme ratio": {image("art/a.png", ""), map[string][]byte{"art/a.png": tall},
			[]string{"picture.cropped", "picture.small"}, "6 % is left when it is cut to the 320 x 180"},
		"kept whole": {image("art/a.png", "crop = \"whole\"\n"), map[string][]byte{"art/a.png": tall}, nil,
			""},
		"refused": {image("art/a.png", "crop = \"refuse\"\n"), map[string][]byte{"art/a.png": tall},
			[]string{"picture.ratio"}, "1:10; the picture cover wants 16:9"},
		"as it is": {image("art/a.jpg", "as_is = true\n"),
			map[string][]byte{"art/a.jpg": encoded(t, 320, 180, true)}, []string{"picture.heavy"}, "may have 20000"},
		"as it is, other size": {image("art/a.jpg", "as_is = true\n"),
			map[string][]byte{"art/a.jpg": encoded(t, 160, 90, true)}, []string{"picture.size"},
			"the file has 160 x 90 pixels"},
		"as it is, other ratio": {image("art/a.jpg", "as_is = true\n"),
			map[string][]byte{"art/a.jpg": encoded(t, 90, 90, true)}, []string{"picture.ratio"},
			"1:1; the picture cover is to have 320 x 180, 16:9"},
		"as it is, other form": {image("art/a.png", "as_is = true\n"),
			map[string][]byte{"art/a.png": encoded(t, 320, 180, false)}, []string{"picture.kind"}, "the file is a PNG"},
		"a texture as it is": {"[[picture]]\nfor = \"loading\"\nimage = \"art/a.jpg\"\nnumber = 1\nas_is = true\n",
			map[string][]byte{"art/a.jpg": jpg}, []string{"picture.kind", "picture.kind"}, "Leave as_is out."},
		"letters it lacks": {"[[picture]]\nfor = \"cover\"\ntext = \"雪\"\n", nil, []string{"picture.text"},
			"no letters for \"雪\""},
		"a font that is none": {"[[picture]]\nfor = \"cover\"\ntext = \"x\"\nfont = \"art/a.jpg\"\n",
			map[string][]byte{"art/a.jpg": jpg}, []string{"picture.image"}, "TrueType or OpenType"},
		"another map": {"[[picture]]\nfor = \"cover\"\nmap = \"hat\"\n", nil, []string{"picture.missing"},
			`the map "hat", which is not there`},
	} {
		t.Run(name, func(t *testing.T) {
			p := plan(t, c.recipes, c.files)
			var got []string
			text := ""
			for _, f := range p.Findings {
				got = append(got, f.ID)
				text += f.Text + " " + f.Do + "\n"
			}
			assert.Equal(t, c.want, got, text)
			assert.Contains(t, text, c.say)
			if name == "another map" {
				assert.Equal(t, 9, p.Findings[0].Place.Line)
			}
		})
	}
}

// Where a baseline JPEG is wanted, a progressive one is refused, as simple readers would.
func TestProgressiveFilesAreRefused(t *testing.T) {
	dir := t.TempDir()
	peer.Run(t, dir, peer.Pillow(t), "-c",
		"from PIL import Image\ni = Image.new('RGB', (320, 180), (90, 120, 200))\ni.save('p.jpg', progressive=True)\ni.save('b.jpg')")
	for name, want := range map[string]int{"p.jpg": 1, "b.jpg": 0} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		p := plan(t, "[[picture]]\nfor = \"cover\"\nimage = \"a.jpg\"\nas_is = true\n",
			map[string][]byte{"a.jpg": data})
		assert.Len(t, p.Findings, want)
		if want > 0 {
			assert.Equal(t, "picture.progressive", p.Findings[0].ID)
			assert.Equal(t, "a.jpg", p.Findings[0].Place.File)
		}
	}
}

// A camera may be under water, but not under the ground.
func TestBuriedCameras(t *testing.T) {
	ground := image.NewGray(image.Rect(0, 0, 9, 9))
	for i := range ground.Pix {
		ground.Pix[i] = uint8(28 * (i % 9)) // rises to the east, by 10 m
	}
	var grey bytes.Buffer
	require.NoError(t, png.Encode(&grey, ground))
	water := map[string][]byte{"materials/water.toml": []byte("colour = \"water\"\nsee_through = \"soft\"\n"),
		"maps/g.png": grey.Bytes()}
	for camera, want := range map[string]int{"2,2,1": 0, "16,40,4": 0, "60,40,4": 2, "60,40,9.9": 0} {
		water["maps/hut.vnx"] = []byte("map hut title=\"H\"\nsolid a box 0,0,0 4,4,2 material=water\nterrain t at=8,8,0 size=64,64,10 from=g.png material=wood\ncamera loading_1 at=" + camera + " look=0,0,0\ncamera loading_2 at=0,0,50 look=1,1,1\ncamera thumbnail at=0,0,50 look=1,1,1\n")
		p := plan(t, "[[picture]]\nfor = \"cover\"\ncamera = \"thumbnail\"\n", water)
		n := 0
		for _, f := range p.Findings {
			if assert.Equal(t, "camera.buried", f.ID) {
				n = 2
				assert.Contains(t, f.Text, `m below the terrain "t"`)
			}
		}
		assert.Equal(t, want, n, camera)
	}
}
