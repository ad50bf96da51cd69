package texture_test

import (
	"image"
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/texture"
)

func TestMipSizesAndCounts(t *testing.T) {
	for _, c := range []struct{ w, h, levels int }{{1, 1, 1}, {2, 2, 2}, {16, 4, 5}, {17, 5, 5}, {60, 36, 6},
		{1, 33, 6}} {
		tex := compile(t, image.NewNRGBA(image.Rect(0, 0, c.w, c.h)), texture.Options{})
		assert.Len(t, tex.Levels, c.levels, "%d x %d", c.w, c.h)
		w, h := tex.LevelBounds(c.levels - 1)
		assert.Equal(t, []int{1, 1}, []int{w, h})
		assert.Len(t, compile(t, image.NewNRGBA(image.Rect(0, 0, c.w, c.h)), texture.Options{Levels: 1}).Levels, 1)
		assert.Len(t, compile(t, image.NewNRGBA(image.Rect(0, 0, c.w, c.h)), texture.Options{Levels: 3}).Levels,
			min(3, c.levels))
	}
}

// toLinear is the sRGB transfer function, written anew from IEC 61966-2-1.
func toLinear(v uint8) float64 {
	c := float64(v) / 255
	if c <= 0.04045 {
		return c / 12.92
	}
	return math.Pow((c+0.055)/1.055, 2.4)
}

// A checkerboard of black and white must stay as bright as it looks: half the light is sRGB 188, not 128.
func TestMipsAreFilteredInLinearLight(t *testing.T) {
	board := paint(64, 64, func(x, y int) color.NRGBA {
		v := uint8((x + y) % 2 * 255)
		return color.NRGBA{v, v, v, 255}
	})
	last := func(srgb bool) uint8 {
		tex := compile(t, board, texture.Options{SRGB: srgb})
		return texture.Visible(tex.Image(len(tex.Levels)-1, 0)).NRGBAAt(0, 0).G
	}
	assert.EqualValues(t, 188, last(true))
	assert.EqualValues(t, 128, last(false))

	// The mean light of every level of a noisy picture is the mean light of the picture, to a quarter of an 8-bit step.
	tex := compile(t, pictures["noise"], texture.Options{SRGB: true})
	mean := func(img *image.NRGBA) float64 {
		sum := 0.0
		for i := 0; i < len(img.Pix); i += 4 {
			sum += toLinear(img.Pix[i])
		}
		return sum / float64(len(img.Pix)/4)
	}
	want := mean(pictures["noise"])
	for level := range len(tex.Levels) - 2 { // the last ones have too few texels to hide rounding
		assert.InDelta(t, want, mean(texture.Visible(tex.Image(level, 0))), 0.004, "level %d", level)
	}
}

func TestSeeThroughColoursDoNotBleedIn(t *testing.T) {
	img := paint(8, 8, func(x, y int) color.NRGBA {
		if x%2 == 0 {
			return color.NRGBA{200, 100, 50, 255}
		}
		return color.NRGBA{0, 255, 0, 0} // green that nobody may ever see
	})
	tex := compile(t, img, texture.Options{SRGB: true})
	got := texture.Visible(tex.Image(1, 0)).NRGBAAt(1, 1)
	assert.Equal(t, color.NRGBA{200, 100, 50, 128}, got)
}

// Odd sizes are filtered by area: a level's total is that of the one before.
func TestOddSizesKeepTheirWeight(t *testing.T) {
	img := paint(5, 1, func(x, y int) color.NRGBA {
		if x == 2 {
			return color.NRGBA{255, 255, 255, 255}
		}
		return color.NRGBA{0, 0, 0, 255}
	})
	tex := compile(t, img, texture.Options{})
	half := texture.Visible(tex.Image(1, 0))
	assert.Equal(t, half.NRGBAAt(0, 0), half.NRGBAAt(1, 0), "the middle texel falls to both sides alike")
	assert.EqualValues(t, 51, half.NRGBAAt(0, 0).R, "a fifth of white")
}

func TestResize(t *testing.T) {
	img := pictures["noise"]
	assert.Equal(t, img.Pix, texture.Resize(img, 32, 32, true, texture.Box, texture.Clamp).(*image.NRGBA).Pix,
		"to its own size: nothing changes")
	flat := pictures["flat"]
	for _, size := range [][2]int{{1, 1}, {64, 64}, {3, 100}, {200, 2}} {
		got := texture.Resize(flat, size[0], size[1], true, texture.Box, texture.Clamp).(*image.NRGBA)
		assert.Equal(t, image.Rect(0, 0, size[0], size[1]), got.Rect)
		for i := range got.Pix {
			require.Equal(t, flat.Pix[i%4], got.Pix[i], "one colour stays that colour")
		}
	}
	ramp := paint(2, 1, func(x, y int) color.NRGBA { v := uint8(x * 240); return color.NRGBA{v, v, v, 255} })
	var row []uint8
	for x := range 8 {
		row = append(row, texture.Resize(ramp, 8, 1, false, texture.Box, texture.Clamp).(*image.NRGBA).NRGBAAt(x, 0).R)
	}
	assert.Equal(t, []uint8{0, 0, 30, 90, 150, 210, 240, 240}, row, "between the middles of the two")
	mirrored := paint(32, 32, func(x, y int) color.NRGBA { return img.NRGBAAt(31-x, y) })
	a, b := texture.Resize(img, 45, 19, true, texture.Box, texture.Clamp).(*image.NRGBA),
		texture.Resize(mirrored, 45, 19, true, texture.Box, texture.Clamp).(*image.NRGBA)
	for y := range 19 {
		for x := range 45 {
			require.Equal(t, a.NRGBAAt(x, y), b.NRGBAAt(44-x, y), "left and right are treated alike")
		}
	}
}

// The short way for even sizes gives what the long way, by area, gives: a row halved by area agrees with the same row
// twice, which is halved the short way.
func TestBothWaysOfHalvingAgree(t *testing.T) {
	even := paint(8, 4, func(x, y int) color.NRGBA {
		h := scramble(x, y)
		return color.NRGBA{uint8(h), uint8(h >> 8), uint8(h >> 16), uint8(h>>24) * uint8(x&1)}
	})
	tall := paint(8, 1, func(x, y int) color.NRGBA { return even.NRGBAAt(x, 0) })
	flat := paint(8, 2, func(x, y int) color.NRGBA { return even.NRGBAAt(x, 0) })
	a := texture.Visible(compile(t, tall, texture.Options{SRGB: true}).Image(1, 0)) // 8x1 to 4x1: by area
	b := texture.Visible(compile(t, flat, texture.Options{SRGB: true}).Image(1, 0)) // 8x2 to 4x1: the short way
	for i := range a.Pix {
		assert.InDelta(t, int(a.Pix[i]), int(b.Pix[i]), 1)
	}
}

// Whatever the filter and the edge: one colour stays that colour, left and right are treated alike,
// and an image that is moved round, filtered with its edges joined, is the filtered image moved
// round.
func TestEveryFilter(t *testing.T) {
	img := pictures["noise"]
	moved := paint(32, 32, func(x, y int) color.NRGBA { return img.NRGBAAt((x+16)%32, (y+8)%32) })
	mirrored := paint(32, 32, func(x, y int) color.NRGBA { return img.NRGBAAt(31-x, y) })
	for f := range texture.FilterNames {
		for e := range texture.EdgeNames {
			scale := func(img image.Image, w, h int) *image.NRGBA {
				return texture.Resize(img, w, h, true, texture.Filter(f), texture.Edge(e)).(*image.NRGBA)
			}
			for _, size := range [][2]int{{1, 1}, {64, 64}, {3, 100}, {16, 16}, {7, 5}} {
				got := scale(pictures["flat"], size[0], size[1])
				for i := range got.Pix {
					require.Equal(t, pictures["flat"].Pix[i%4], got.Pix[i], "%d %d %v", f, e, size)
				}
				a, b := scale(img, size[0], size[1]), scale(mirrored, size[0], size[1])
				for i := range size[0] * size[1] {
					x, y := i%size[0], i/size[0]
					p, q := a.NRGBAAt(x, y), b.NRGBAAt(size[0]-1-x, y)
					for _, d := range []int{int(p.R) - int(q.R), int(p.G) - int(q.G), int(p.B) - int(q.B)} {
						require.LessOrEqual(t, max(d, -d), 1, "filter %d, %v at %d, %d", f, size, x, y)
					}
				}
			}
			if texture.Edge(e) == texture.Wrap {
				a, b := scale(img, 16, 16), scale(moved, 16, 16)
				for i := range 256 {
					require.Equal(t, a.NRGBAAt((i%16+8)%16, (i/16+4)%16), b.NRGBAAt(i%16, i/16), "filter %d", f)
				}
			}
		}
	}
	// The sharper the filter, the more contrast is left of a wave that the smaller image can just hold.
	wave := paint(36, 36, func(x, y int) color.NRGBA {
		v := uint8(128 + 100*math.Sin(2*math.Pi*float64(x)/12))
		return color.NRGBA{v, v, v, 255}
	})
	contrast := func(f texture.Filter) (sum int) {
		got := texture.Resize(wave, 18, 36, false, f, texture.Wrap).(*image.NRGBA)
		for i := 0; i < len(got.Pix); i += 4 {
			d := int(got.Pix[i]) - 128
			sum += d * d
		}
		return sum
	}
	assert.Less(t, contrast(texture.Triangle), contrast(texture.Box))
	assert.Less(t, contrast(texture.Box), contrast(texture.Cubic))
}

// A leaf's holes are as large in every level as in the first, where plain filtering thins it out.
func TestCoverageIsKept(t *testing.T) {
	leaf := paint(64, 64, func(x, y int) color.NRGBA {
		alpha := uint8(0)
		if (x/3+y/5)%4 == 0 || scramble(x, y)%13 == 0 {
			alpha = 255
		}
		return color.NRGBA{20, 160, 30, alpha}
	})
	drawn := func(img *image.NRGBA) float64 {
		n := 0
		for i := 3; i < len(img.Pix); i += 4 {
			if img.Pix[i] >= 128 {
				n++
			}
		}
		return float64(n) / float64(len(img.Pix)/4)
	}
	kept, plain := compile(t, leaf, texture.Options{SRGB: true, Coverage: true}),
		compile(t, leaf, texture.Options{SRGB: true})
	want := drawn(leaf)
	for level := range 4 {
		assert.InDelta(t, want, drawn(texture.Visible(kept.Image(level, 0))), 0.07, "level %d", level)
	}
	assert.Greater(t, want-drawn(texture.Visible(plain.Image(3, 0))), 0.2, "without it the leaf is nearly gone")
	assert.Equal(t, plain.Levels[0], kept.Levels[0])
}
