package render_test

import (
	"context"
	"image"
	"image/color"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/radiance"
	"vornix/core/compile/render"
	"vornix/core/format/mapfile"
	"vornix/internal/thorough"
)

// yard is a map of two levels whose cells have four texels a side, each of its own colour, and a sprite on one of them.
func yard() *render.Tiles {
	m := &mapfile.Map{
		Meta:   mapfile.Meta{Name: "yard", Title: "Yard"},
		Legend: []mapfile.Tile{{Symbol: '.', Material: "floor"}, {Symbol: ' '}},
		Grids: []mapfile.Grid{{Name: "a", Width: 6, Height: 4, Cells: make([]uint16, 24)},
			{Name: "b", Level: 1, Width: 2, Height: 2, Cells: []uint16{0, 1, 1, 0}}},
		Objects: []mapfile.Object{
			{Kind: "item:mole", A: [3]float32{2, 1, 0},
				Pairs: [][2]string{{mapfile.SpriteKey, "mole"}, {"state", "dig"}, {"direction", "east"}}},
			{Kind: "item:mole", A: [3]float32{0, 0, 1}, Pairs: [][2]string{{mapfile.SpriteKey, "ghost"}}},
			{Kind: "spawn", Name: "s", A: [3]float32{4, 2, 0}},
		},
	}
	floor := painted(4, 4,
		func(x, y int) color.NRGBA { return color.NRGBA{uint8(40 + 20*x), uint8(40 + 20*y), 90, 255} })
	looks := func(string) render.Appearance {
		return render.Appearance{Appearance: radiance.Appearance{Colour: floor}}
	}
	return render.NewTiles(m, looks, func(name, state, direction string) (render.Sprite, bool) {
		if name != "mole" || state != "dig" || direction != "east" {
			return render.Sprite{}, false
		}
		img := painted(3, 3, func(x, y int) color.NRGBA { return color.NRGBA{200, 0, 0, uint8(255 * (x % 2))} })
		return render.Sprite{Image: img, Pivot: image.Pt(1, 2)}, true
	})
}

// Texels are whole pixels: each as it is painted, wherever the window begins; outside of the level,
// and where a cell has no tile, is black; a sprite stands on the middle of its cell, and one sees
// past it where it has holes.
func TestTilesAreWholePixels(t *testing.T) {
	tiles := yard()
	assert.Equal(t, 4, tiles.Side())
	size, ok := tiles.Size(0)
	assert.True(t, ok)
	assert.Equal(t, image.Pt(6, 4), size)
	_, ok = tiles.Size(7)
	assert.False(t, ok)
	at := func(x, y int) color.NRGBA { return color.NRGBA{uint8(40 + 20*(x%4)), uint8(40 + 20*(y%4)), 90, 255} }
	for _, scale := range []int{1, 3} {
		img := tiles.Window(0, image.Rect(-3, -2, 20, 15), scale, 0, render.All)
		assert.Equal(t, image.Rect(0, 0, 23*scale, 17*scale), img.Rect)
		for y := range img.Rect.Dy() {
			for x := range img.Rect.Dx() {
				tx, ty := x/scale-3, y/scale-2
				want := at(tx, ty)
				switch {
				case tx < 0 || ty < 0 || tx >= 24 || ty >= 16:
					want = color.NRGBA{0, 0, 0, 255}
				case tx == 10 && ty >= 4 && ty <= 6: // the sprite's middle column: the cell begins at texel 8, 4
					want = color.NRGBA{200, 0, 0, 255}
				}
				require.Equal(t, want, img.NRGBAAt(x, y), "texel %d,%d at scale %d", tx, ty, scale)
			}
		}
	}
	upper := tiles.Window(1, image.Rect(0, 0, 8, 8), 1, 0, render.All)
	assert.Equal(t, color.NRGBA{0, 0, 0, 255}, upper.NRGBAAt(5, 2), "no tile")
	assert.Equal(t, at(1, 1), upper.NRGBAAt(1, 1))
	bright := tiles.Window(0, image.Rect(0, 0, 4, 4), 1, 1, render.All).NRGBAAt(2, 2)
	assert.InDelta(t, srgb8(2*linear(80)), bright.R, 1, "a stop is a factor of two")
	assert.Equal(t, color.NRGBA{255, 255, 255, 255}.R,
		max(tiles.Window(0, image.Rect(0, 0, 1, 1), 1, 20, render.All).NRGBAAt(0, 0).R, 250)|5,
		"and much of it is white")
}

// A shot of a level shows all of it as large as it fits, in the middle; one around a place shows
// that place in its middle.
func TestShotsOfTiles(t *testing.T) {
	tiles := yard()
	whole := tiles.Shoot(render.TileShot{Width: 100, Height: 50}) // 24 x 16 texels: three pixels each
	assert.Equal(t, image.Rect(0, 0, 100, 50), whole.Rect)
	lit := image.Rectangle{}
	for y := range 50 {
		for x := range 100 {
			if whole.NRGBAAt(x, y) != (color.NRGBA{0, 0, 0, 255}) {
				lit = lit.Union(image.Rect(x, y, x+1, y+1))
			}
		}
	}
	assert.Equal(t, image.Pt(72, 48), lit.Size())
	assert.InDelta(t, 50, float64(lit.Min.X+lit.Max.X)/2, 3)
	near := tiles.Shoot(render.TileShot{At: &[2]float64{2.5, 1.25}, Scale: 5, Width: 41, Height: 41})
	assert.Equal(t, color.NRGBA{200, 0, 0, 255}, near.NRGBAAt(20, 20), "the sprite")
	tiny := tiles.Shoot(render.TileShot{Width: 6, Height: 4}) // not even a pixel a texel: the mean of each cell
	assert.InDelta(t, 72, tiny.NRGBAAt(0, 0).R, 4)
	assert.Equal(t, tiny.NRGBAAt(0, 0), tiny.NRGBAAt(5, 3))
}

// Plan views cut a map open over the heads of its players: one sees the floor below the roof, walls
// in the colour of what is cut, and names; what lies above is gone.
func TestPlanViewsCutMapsOpen(t *testing.T) {
	thorough.Only(t)
	looks := map[string]render.Appearance{"floor": plain(0, 0.5, 0), "wall": plain(0.5, 0.5, 0.5),
		"roof": plain(0.5, 0, 0)}
	m := stage(t, `solid floor box 0,0,-1 20,12,0 material=floor
solid north box 0,11,0 20,12,6 material=wall
solid roof box 0,0,6 20,12,7 material=roof
spawn clerk at=10,6,0 facing=90
volume trap box 2,2,0 5,5,2 effect=remove
item bell at=15,3,0
camera desk at=3,9,2 look=10,6,1
`, looks, nil)
	s := render.NewScene(m, of(looks), nil, 8)
	count := func(img image.Image, near func(r, g, b uint32) bool) (n int) {
		for y := 42; y < 782; y++ {
			for x := 18; x < 1262; x++ {
				if r, g, b, _ := img.At(x, y).RGBA(); near(r>>8, g>>8, b>>8) {
					n++
				}
			}
		}
		return n
	}
	for name, draw := range map[string]func(context.Context, int) (image.Image, error){"above": s.Above,
		"isometric": s.Isometric} {
		img, err := draw(context.Background(), 2)
		require.NoError(t, err)
		again, err := draw(context.Background(), 1)
		require.NoError(t, err)
		assert.Equal(t, img, again, name)
		assert.Greater(t, count(img, func(r, g, b uint32) bool { return g > 100 && r < 60 && b < 60 }), 30000,
			"%s: the floor", name)
		assert.Greater(t,
			count(img, func(r, g, b uint32) bool { return r > 95 && r < 125 && g > 45 && g < 75 && b < 65 }), 3000,
			"%s: the wall, cut", name)
		assert.Zero(t, count(img, func(r, g, b uint32) bool { return r > 170 && g < 20 && b < 20 }), "%s: no roof",
			name)
		assert.Greater(t, count(img, func(r, g, b uint32) bool { return r == 0x1f && g == 0x6f && b == 0xb5 }), 60,
			"%s: the spawn", name)
		assert.Greater(t, count(img, func(r, g, b uint32) bool { return r == 0x9a && g == 0x5b && b == 0x2e }), 150,
			"%s: the edges of the volume", name)
	}
	plan := yard().Plan()
	assert.Greater(t, count(plan, func(r, g, b uint32) bool { return r == 0x1f && g == 0x6f && b == 0xb5 }), 40)
	empty := render.NewScene(&mapfile.Map{}, of(nil), nil, 8)
	_, err := empty.Above(context.Background(), 1)
	assert.NoError(t, err, "of an empty map there is an empty plan")
}
