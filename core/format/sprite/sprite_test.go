package sprite_test

import (
	"fmt"
	"image"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/internal/peer"
)

// blobs are frames of many sizes with see-through borders, some of them twice.
func blobs(n int) []*image.NRGBA {
	r := rand.New(rand.NewPCG(5, uint64(n)))
	var list []*image.NRGBA
	for i := range n {
		if i%7 == 6 {
			list = append(list, list[r.IntN(i)])
			continue
		}
		w, h := 4+r.IntN(30), 4+r.IntN(30)
		f := image.NewNRGBA(image.Rect(0, 0, w, h))
		for y := r.IntN(h / 2); y < h-r.IntN(h/3+1); y++ {
			for x := r.IntN(w / 2); x < w-1; x++ {
				copy(f.Pix[y*f.Stride+4*x:],
					[]uint8{uint8(r.IntN(256)), uint8(r.IntN(256)), uint8(i), 255 - uint8(r.IntN(2))*100})
			}
		}
		f.Pix[4*(w*h/2)+3] = 255
		list = append(list, f)
	}
	return list
}

// sheetOf makes a sheet of n single frames, as states of one step each.
func sheetOf(t *testing.T, n int, settings string) *sprite.Sheet {
	t.Helper()
	var files []string
	for i := range n {
		files = append(files, fmt.Sprintf("sprites/b/s%03d/0.png", i))
	}
	s, list := sprite.Parse("sprites/b.toml", []byte("folder = 'b'\n"+settings), files)
	require.Empty(t, list)
	require.Len(t, s.Sources, n)
	return s
}

// Whatever is packed: each frame comes back whole from its page, its edge is repeated around it,
// and no two of them, with edges and padding, share a texel.
func TestAtlas(t *testing.T) {
	for _, c := range []struct {
		n, largest, padding, extrude, pages int
		power                               bool
	}{{1, 0, 2, 1, 1, true}, {40, 0, 2, 1, 1, true}, {40, 0, 0, 0, 1, false}, {90, 128, 3, 2, 0, true},
		{200, 128, 1, 1, 0, false}} {
		frames := blobs(c.n)
		settings := fmt.Sprintf("padding = %d\nextrude = %d\n", c.padding, c.extrude)
		limits := sprite.Limits{Largest: c.largest, PowerOfTwo: c.power}
		page := func(n int) string { return fmt.Sprintf("p%d.dds", n) }
		s := sheetOf(t, c.n, settings)
		atlas, list := s.Pack(frames, limits, page)
		if c.pages == 0 { // it does not fit into one page: the finding says how many it takes
			require.Nil(t, atlas)
			require.Equal(t, finding.SpritePages.ID, list[len(list)-1].ID)
			var pages int
			_, err := fmt.Sscanf(list[len(list)-1].Text, "the frames take %d pages", &pages)
			require.NoError(t, err)
			s = sheetOf(t, c.n, settings+fmt.Sprintf("pages = %d\n", pages))
			atlas, list = s.Pack(frames, limits, page)
			c.pages = pages
			require.Greater(t, pages, 1)
		}
		require.NotNil(t, atlas, "%v", list)
		assert.Len(t, atlas.Pages, c.pages)
		if c.power {
			assert.Zero(t, atlas.Index.Size[0]&(atlas.Index.Size[0]-1))
		}
		data, err := atlas.Index.JSON()
		require.NoError(t, err)
		index, err := sprite.ReadIndex(data)
		require.NoError(t, err)
		assert.Equal(t, &atlas.Index, index)
		assert.Less(t, len(index.Frames), max(c.n, 2), "a picture that is there twice is packed once")
		taken := map[[3]int]int{}
		for n, f := range index.Frames {
			for y := -c.extrude; y < f.Size[1]+c.extrude+c.padding; y++ {
				for x := -c.extrude; x < f.Size[0]+c.extrude+c.padding; x++ {
					at := [3]int{f.Page, f.At[0] + x, f.At[1] + y}
					other, again := taken[at]
					require.False(t, again, "frames %d and %d share %v", n, other, at)
					taken[at] = n
				}
			}
		}
		for i, f := range frames {
			step := index.States[fmt.Sprintf("s%03d", i)].Directions[""][0]
			at := index.Frames[step.Frame]
			assert.Equal(t, [2]int{f.Rect.Dx(), f.Rect.Dy()}, at.Whole)
			p := atlas.Pages[at.Page]
			for y := range f.Rect.Dy() {
				for x := range f.Rect.Dx() {
					want := f.NRGBAAt(x, y)
					px, py := x-at.Offset[0], y-at.Offset[1]
					if px < 0 || py < 0 || px >= at.Size[0] || py >= at.Size[1] {
						require.Zero(t, want.A, "only what is see-through is cut off")
						continue
					}
					require.Equal(t, want, p.NRGBAAt(at.At[0]+px, at.At[1]+py))
				}
			}
			for d := range c.extrude {
				require.Equal(t, p.NRGBAAt(at.At[0], at.At[1]), p.NRGBAAt(at.At[0]-1-d, at.At[1]-1-d),
					"the corner is repeated")
				require.Equal(t, p.NRGBAAt(at.At[0]+at.Size[0]-1, at.At[1]+1),
					p.NRGBAAt(at.At[0]+at.Size[0]+d, at.At[1]+1), "the edge is repeated")
			}
		}
		again, _ := s.Pack(frames, limits, page)
		assert.Equal(t, atlas, again, "the same atlas every time")
	}
	_, list := sheetOf(t, 1, "").Pack([]*image.NRGBA{image.NewNRGBA(image.Rect(0, 0, 8, 8))}, sprite.Limits{},
		func(int) string { return "" })
	require.Len(t, list, 1)
	assert.Equal(t, "sprite.blank", list[0].ID)
	_, list = sheetOf(t, 1, "").Pack(blobs(1), sprite.Limits{Largest: 4}, func(int) string { return "" })
	assert.Contains(t, list[len(list)-1].Text, "larger than the 4 texels")
}

func TestFoldersOfFrames(t *testing.T) {
	files := []string{"sprites/m/.note", "sprites/m/idle/1.png", "sprites/m/idle/10.png", "sprites/m/idle/2.png",
		"sprites/m/walk/east/a_1.png",
		"sprites/m/walk/west/a_1.png", "sprites/m/walk/west/a_2.tga", "sprites/mm/x/1.png"}
	s, list := sprite.Parse("sprites/m.toml",
		[]byte("folder = 'm'\nrate = 4\n[state.idle]\nloop = 'once'\ndurations = [1, 2, 3]\n"), files)
	require.Empty(t, list)
	assert.Equal(t, []string{"idle", "walk"}, s.StateNames())
	idle, _ := s.State("idle")
	var names []string
	for i, step := range idle.Directions[0].Steps {
		names = append(names, s.Sources[step.Source].File)
		assert.Equal(t, i+1, step.Milliseconds)
	}
	assert.Equal(t, []string{"sprites/m/idle/1.png", "sprites/m/idle/2.png", "sprites/m/idle/10.png"}, names,
		"by number, not by letter")
	walk, _ := s.State("walk")
	assert.Equal(t, "east", walk.Directions[0].Name)
	assert.Len(t, walk.Directions[1].Steps, 2)
	assert.Equal(t, 250, walk.Directions[1].Steps[0].Milliseconds)
	assert.Equal(t, 6, len(s.Images()))
	for text, say := range map[string]string{
		"":                              "neither an image nor a folder",
		"folder = 'm'\nimage = 'x.png'": "both an image and a folder",
		"image = 'x.png'":               "frame must be the width",
		"image = 'x.png'\nframe = [4, 4]\n[state.a]\nframes = [0]\ndirections = { e = [0] }": "x.png\" is not there",
		"folder = 'm'\n[state.idle]\nframes = [0]":                                           "do not belong here",
		"folder = 'm'\n[state.idle]\ndurations = [0, 1, 1]":                                  "between 1 and 3,600,000",
		"folder = 'm'\nextrude = 99":                                                         "between 0 and 16",
		"folder = 'm'\nformat = 'bc9'":                                                       "format must be auto",
	} {
		_, list := sprite.Parse("sprites/m.toml", []byte(text), files)
		require.NotEmpty(t, list, text)
		assert.Contains(t, list[0].Text, say, text)
	}
}

// TestPreviewsInAnotherReader lets Pillow play what is written: as many frames, as long, with the same texels.
func TestPreviewsInAnotherReader(t *testing.T) {
	python := peer.Pillow(t)
	files := []string{"a/s/1.png", "a/s/2.png", "a/s/3.png"}
	s, list := sprite.Parse("a.toml", []byte("folder = 'a'\n[state.s]\nloop = 'back'\ndurations = [100, 250, 40]\n"),
		files)
	require.Empty(t, list)
	frames := blobs(6)[:3]
	for i, f := range frames { // hard alpha, which both forms keep
		g := image.NewNRGBA(image.Rect(0, 0, 20, 20))
		for y := range min(20, f.Rect.Dy()) {
			copy(g.Pix[y*g.Stride:], f.Pix[y*f.Stride:][:4*min(20, f.Rect.Dx())])
		}
		for j := 3; j < len(g.Pix); j += 4 {
			if g.Pix[j] > 0 {
				g.Pix[j] = 255
			}
		}
		frames[i] = g
	}
	played := s.Play(frames, s.States[0], s.States[0].Directions[0], 2)
	require.Len(t, played, 4, "there and back")
	apng, err := sprite.APNG(played, false)
	require.NoError(t, err)
	gif, err := sprite.GIF(played, true)
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.png"), apng, 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.gif"), gif, 0o666))
	out := peer.Run(t, dir, python, "-c", `from PIL import Image
for f in ['a.png', 'a.gif']:
    i = Image.open(f)
    d = []
    for n in range(i.n_frames):
        i.seek(n)
        d.append(int(i.info['duration']))
        if f == 'a.png':
            open(f'{n}.raw', 'wb').write(i.convert('RGBA').tobytes())
    print(i.n_frames, i.size, d, i.info.get('loop'))`)
	assert.Equal(t, "4 (40, 40) [100, 250, 40, 250] 0\n4 (40, 40) [100, 250, 40, 250] None\n", out)
	for n, f := range played {
		raw, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("%d.raw", n)))
		require.NoError(t, err)
		for i := range raw {
			if f.Image.Pix[i|3] > 0 || i&3 == 3 {
				require.Equal(t, f.Image.Pix[i], raw[i], "frame %d value %d", n, i)
			}
		}
	}
}

func TestRecipe(t *testing.T) {
	s := sheetOf(t, 1, "")
	assert.Equal(t, texture.RGBA8, s.Recipe([]texture.Format{texture.BC1, texture.RGBA8}).Format,
		"every texel is kept where that is allowed")
	assert.False(t, s.Recipe([]texture.Format{texture.BC1}).Forced)
	assert.Equal(t, texture.BC1,
		sheetOf(t, 1, "format = 'bc1'\n").Recipe([]texture.Format{texture.BC1, texture.RGBA8}).Format)
}

// Any bytes end in an index whose parts fit together, or in an error.
func FuzzIndex(f *testing.F) {
	f.Add([]byte(`{"version":1,"pages":["a"],"size":[8,8],"pivot":[0,0],"frames":[{"page":0,"at":[0,0],"size":[4,4],"offset":[0,0],"whole":[4,4]}],"states":{"s":{"loop":"again","directions":{"":[{"frame":0,"ms":1}]}}}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		index, err := sprite.ReadIndex(data)
		if err != nil {
			return
		}
		for _, st := range index.States {
			for _, steps := range st.Directions {
				for _, step := range steps {
					at := index.Frames[step.Frame]
					if !image.Rect(at.At[0], at.At[1], at.At[0]+at.Size[0],
						at.At[1]+at.Size[1]).In(image.Rect(0, 0, index.Size[0], index.Size[1])) ||
						at.Page >= len(index.Pages) {
						t.Fatal("a frame outside its page was believed")
					}
				}
			}
		}
	})
}
