package assembly_test

import (
	"bytes"
	"context"
	"image"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/format/texture"
	"vornix/core/make/assembly"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// makePictures makes the project's pictures and says which jobs ran.
func makePictures(t *testing.T, p *project.Project, workers int) []string {
	t.Helper()
	ctx := context.Background()
	r, err := assembly.Run(ctx, p, assembly.Options{Workers: workers, Pictures: true})
	require.NoError(t, err)
	g, err := assetgraph.ScanProject(ctx, p)
	require.NoError(t, err)
	b, err := assembly.Beside(ctx, p, g, shots.NewPlan(p, g), assembly.Options{Workers: workers}, nil)
	require.NoError(t, err)
	var list []string
	for _, x := range append(r.Made, b.Made...) {
		if x.State == taskgraph.Made && x.Step == assembly.PictureStep {
			list = append(list, strings.TrimPrefix(x.ID, "picture "))
		}
	}
	slices.Sort(list)
	return list
}

// kept counts the shots that are kept.
func kept(t *testing.T, p *project.Project) (n int) {
	t.Helper()
	for _, dir := range []string{".vornix/cache/parts", ".vornix/pictures/cache/parts"} {
		err := filepath.WalkDir(p.Join(dir), func(_ string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				n++
			}
			return err
		})
		if !os.IsNotExist(err) {
			require.NoError(t, err)
		}
	}
	return n
}

// Pictures are made again when what they show has changed, and only then; what is done to a picture takes no new shot.
func TestPicturesAreMadeAgainOnlyWhenTheyMust(t *testing.T) {
	thorough.Only(t)
	p := demotest.Load(t, filepath.Join(demotest.WriteLit(t), "highline"))
	assert.Len(t, makePictures(t, p, 2), 15)
	all := kept(t, p)
	change := func(rel, old, now string) []string {
		demotest.Edit(t, p, rel, old, now)
		p = demotest.Load(t, p.Dir)
		return makePictures(t, p, 2)
	}
	assert.Empty(t, makePictures(t, p, 2))
	change("maps/cairn_station.vnx", "spawn blue_1 at=3,3", "spawn blue_1 at=3,3.1")
	assert.Equal(t, all, kept(t, p), "nothing of it is seen")
	assert.Equal(t, []string{"card cairn_station", "card saltpan_relay"},
		change("vornix.toml", `frame_colour = "#e8d6a8"`, `frame_colour = "#203040"`))
	assert.Equal(t, []string{"page cairn_station", "page saltpan_relay"},
		change("vornix.toml", `text = "{title}"`, `text = "{title}!"`))
	assert.Equal(t, []string{"banner"}, change("vornix.toml", `focus = [0.4, 0.6]`, `focus = [0.9, 0.6]`))
	assert.Equal(t, all, kept(t, p), "no shot was taken again")
	change("maps/saltpan_relay.vnx", "look=2,0,3.4 fov=66", "look=2,0,3.4 fov=60 exposure=0.5")
	assert.Equal(t, all+2, kept(t, p), "those of one camera: two loading screens")
	assert.NotEmpty(t, change("textures/rock/cairn_bumps.texture.toml", "strength = 10", "strength = 4"))
	assert.Greater(t, kept(t, p), all+5, "bumps are seen in every picture with rock")
}

// The same pictures come from any number of workers, by whatever way; readers that are not ours see
// the sizes and forms that the game wants.
func TestPicturesAreWhatTheGameWants(t *testing.T) {
	thorough.Only(t)
	p, q := demotest.Load(t, filepath.Join(demotest.WriteLit(t), "highline")),
		demotest.Load(t, filepath.Join(demotest.WriteLit(t), "highline"))
	require.NoError(t, os.RemoveAll(q.Join(".vornix/pictures")))
	makePictures(t, p, 1)
	makePictures(t, q, 3)
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(t, err)
	plan := shots.NewPlan(p, g)
	require.Len(t, plan.Pictures, 15)
	var files []string
	for i := range plan.Pictures {
		x := &plan.Pictures[i]
		folder := assembly.PicturesDir
		if x.Inside {
			folder = project.TreeDir
		}
		data, err := os.ReadFile(p.Join(folder, x.File))
		require.NoError(t, err)
		other, err := os.ReadFile(q.Join(folder, x.File))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, other), x.ID())
		var size image.Config
		switch x.Of.Form {
		case "png":
			size, err = png.DecodeConfig(bytes.NewReader(data))
			files = append(files, p.Join(folder, x.File))
		case "jpeg":
			size, err = jpeg.DecodeConfig(bytes.NewReader(data))
			files = append(files, p.Join(folder, x.File))
			assert.LessOrEqual(t, int64(len(data)), max(x.Of.MostBytes, 100000))
		default:
			tex, readErr := texture.Read(data)
			require.NoError(t, readErr)
			assert.Equal(t, texture.BC1, tex.Format)
			assert.True(t, tex.SRGB)
			assert.Len(t, tex.Levels, 1)
			size.Width, size.Height = tex.LevelBounds(0)
			compiled, readErr := os.ReadFile(p.Join(folder, x.Material))
			require.NoError(t, readErr)
			uses, readErr := material.ParseCompiled(x.Material, compiled)
			require.NoError(t, readErr)
			assert.Equal(t, []string{x.File}, uses)
			assert.Contains(t, string(compiled), "shading = 'unlit'")
		}
		require.NoError(t, err)
		assert.Equal(t, [2]int{x.Width, x.Height}, [2]int{size.Width, size.Height}, x.ID())
	}
	out := peer.Run(t, "", peer.Pillow(t),
		append([]string{"-c",
			"import sys\nfrom PIL import Image\nfor f in sys.argv[1:]:\n i = Image.open(f); print(i.format, i.info.get('progressive', 0), i.convert('L').getextrema()[1] > 90)"}, files...)...)
	assert.Equal(t, len(files), strings.Count(out, " 0 True"), "baseline, and not black:\n%s", out)
}

// The pictures of a tile map show its sprites, whole pixels a texel; a texture keeps its alpha where the game wants it.
func TestPicturesOfTiles(t *testing.T) {
	p := demotest.Load(t, filepath.Join(demotest.WriteLit(t), "lower-sidings"))
	assert.Equal(t, []string{"label tram_depot", "notice tram_depot", "page tram_depot"}, makePictures(t, p, 2))
	f, err := os.Open(p.Join(assembly.PicturesDir, "tram_depot.png"))
	require.NoError(t, err)
	defer f.Close()
	img, err := png.Decode(f)
	require.NoError(t, err)
	for y := 8; y < 504; y += 2 { // inside the frame, two pixels a texel
		for x := 8; x < 1016; x += 2 {
			require.Equal(t, img.At(x, y), img.At(x+1, y+1), "%d,%d", x, y)
		}
	}
	data, err := os.ReadFile(p.Join(project.TreeDir, "tiles/pixels/notice/tram_depot.dds"))
	require.NoError(t, err)
	tex, err := texture.Read(data)
	require.NoError(t, err)
	board := tex.Image(0, 0).(*image.NRGBA)
	assert.Zero(t, board.NRGBAAt(0, 95).A)
	assert.Equal(t, uint8(255), board.NRGBAAt(80, 40).A)
}

// A build without light makes no pictures of what would be black; a draft makes rough ones, and a
// full build after it true ones.
func TestPicturesNeedLight(t *testing.T) {
	thorough.Only(t)
	p := demotest.Load(t, filepath.Join(demotest.WriteLit(t), "highline"))
	mustRun(t, p)
	assert.NoFileExists(t, p.Join("out/tree/previews/cairn_station.png"))
	all := func(o *assembly.Options) { o.Stages = assembly.Stages{} }
	mustRun(t, p, all)
	full, err := os.ReadFile(p.Join("out/tree/previews/cairn_station.png"))
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(p.Join("maps/saltpan_relay.vnx")))
	r := mustRun(t, p, all)
	assert.Contains(t, r.Removed, "previews/saltpan_relay.png", "a map that is gone takes its pictures along")
	rough := func(o *assembly.Options) { o.Stages = assembly.Stages{Draft: true} }
	mustRun(t, p, rough)
	draft, err := os.ReadFile(p.Join("out/tree/previews/cairn_station.png"))
	require.NoError(t, err)
	assert.NotEqual(t, full, draft)
	mustRun(t, p, all)
	again, err := os.ReadFile(p.Join("out/tree/previews/cairn_station.png"))
	require.NoError(t, err)
	assert.Equal(t, full, again)
}

// What is found only when a picture is made: a file that can't be small enough, a picture of nothing.
func TestWhatIsFoundWhenPicturesAreMade(t *testing.T) {
	thorough.Only(t)
	p := demotest.Load(t, filepath.Join(demotest.WriteLit(t), "highline"))
	demotest.Edit(t, p, "profiles/kestrel-post.toml", "most_bytes = 70000", "most_bytes = 700")
	demotest.Edit(t, p, "maps/cairn_station.vnx", "camera hall at=20.8,12.2,2.4 look=15.4,9.2,1.4 fov=80",
		"camera hall at=20.8,12.2,2.4 look=20.8,12.3,9 fov=2")
	demotest.Edit(t, p, "vornix.toml", "[addon]",
		"[[picture]]\nfor = \"card\"\nmaps = \"cairn*\"\ncamera = \"hall\"\nexposure = -12\nframe = 0\n\n[addon]")
	demotest.Edit(t, p, "vornix.toml", "frame = 6\n", "")
	demotest.Edit(t, p, "profiles/kestrel-post.toml", "format = \"bc1\"", "format = \"bc1\"\nmips = true")
	p = demotest.Load(t, p.Dir)
	ctx := context.Background()
	_, err := assembly.Run(ctx, p, assembly.Options{Workers: 2, Pictures: true})
	require.NoError(t, err)
	data, err := os.ReadFile(p.Join(project.TreeDir, "textures/loading/saltpan_relay_1_wide.ktx2"))
	require.NoError(t, err)
	tex, err := texture.Read(data)
	require.NoError(t, err)
	assert.Len(t, tex.Levels, 7, "64 x 32, with mips where the game wants them")
	g, err := assetgraph.ScanProject(ctx, p)
	require.NoError(t, err)
	r, err := assembly.Beside(ctx, p, g, shots.NewPlan(p, g), assembly.Options{Workers: 2}, []string{"cairn_station"})
	assert.ErrorContains(t, err, "1 of 2 jobs failed")
	ids := map[string]string{}
	for _, f := range r.Findings {
		ids[f.ID] = f.Text
	}
	assert.Regexp(t, `has \d+ bytes as JPEG of quality 50, and may have 700`, ids["picture.heavy"])
	assert.Contains(t, ids["picture.blank"], "the picture card cairn_station, taken by camera hall, is of one colour")
	assert.NotNil(t, g.Find(assetgraph.Map, "cairn_station"))
}
