package texture

import (
	"image"
	"math/bits"
)

// Content is what the pixels of an image hold, as numbers of texels.
type Content struct {
	Texels   int
	OneBit   int // wholly see-through
	Soft     int // neither opaque nor wholly see-through
	Coloured int // visible ones whose channels differ
	Blue     int // visible ones with something in the blue channel
	Unit     int // visible ones that are a direction of length one, to 6 in a hundred, pointing out of the surface
	Light    bool
	Bright   int // of light: those brighter than 1
	Deepest  int // the largest difference between the channels of a texel, in 8-bit steps
	Clearest int // the smallest alpha
	Halfway  int // how far an alpha at most is from both 0 and 255
}

// Analyse looks at every texel.
func Analyse(img image.Image) Content {
	light, isLight := img.(*Light)
	seen := Visible(img)
	c := Content{Texels: seen.Rect.Dx() * seen.Rect.Dy(), Light: isLight, Clearest: 255}
	if isLight {
		for i := 0; i < len(light.Pix); i += 4 {
			if p := light.Pix[i:][:3]; fixed(p[0]) > 1<<24 || fixed(p[1]) > 1<<24 || fixed(p[2]) > 1<<24 {
				c.Bright++
			}
		}
	}
	w := seen.Rect.Dx() * 4
	for y := range seen.Rect.Dy() {
		row := seen.Pix[y*seen.Stride : y*seen.Stride+w]
		for i := 0; i < len(row); i += 4 {
			switch row[i+3] {
			case 255:
			case 0:
				c.OneBit++
				c.Clearest = 0
				continue
			default:
				c.Soft++
				a := int(row[i+3])
				c.Clearest, c.Halfway = min(c.Clearest, a), max(c.Halfway, min(a, 255-a))
			}
			if row[i] != row[i+1] || row[i] != row[i+2] {
				c.Coloured++
				c.Deepest = max(c.Deepest, int(max(row[i], row[i+1], row[i+2]))-int(min(row[i], row[i+1], row[i+2])))
			}
			if row[i+2] != 0 {
				c.Blue++
			}
			if isUnit(row[i:]) {
				c.Unit++
			}
		}
	}
	return c
}

// unitTolerance is how far, in thousandths, a normal's length may be off: 8 bits alone make it up
// to about 10, filtering more.
const unitTolerance = 60

// isUnit says whether a texel is a direction of length one, within the tolerance, that points out of the surface.
func isUnit(p []uint8) bool {
	x, y, z := 2*int32(p[0])-255, 2*int32(p[1])-255, 2*int32(p[2])-255
	const one = 255
	const lowest, limit = one * one * (1000 - unitTolerance) / 1000 * (1000 - unitTolerance) / 1000,
		one * one * (1000 + unitTolerance) / 1000 * (1000 + unitTolerance) / 1000
	length := x*x + y*y + z*z
	return z > 0 && length >= lowest && length <= limit
}

// root is the whole square root.
func root(v uint64) uint64 {
	if v == 0 {
		return 0
	}
	r := uint64(1) << ((bits.Len64(v) + 1) / 2) // at least the root: from there Newton's steps only fall
	for n := (r + v/r) / 2; n < r; n = (r + v/r) / 2 {
		r = n
	}
	return r
}

// AlphaOff is how far a format's alpha is off at most, in 8-bit steps.
func (c Content) AlphaOff(f Format) int {
	if layouts[f].channels == "rgb1" {
		return c.Halfway
	}
	return 255 - c.Clearest
}

// Alpha names the kind of alpha: "no", "one bit" or "soft".
func (c Content) Alpha() string {
	switch {
	case c.Soft > 0:
		return "soft"
	case c.OneBit > 0:
		return "one bit"
	}
	return "no"
}

// visible is how many texels are not wholly see-through.
func (c Content) visible() int { return c.Texels - c.OneBit }

// LooksNormal says whether nearly all texels are directions out of a surface, and not all grey: a normal map.
func (c Content) LooksNormal() bool {
	return !c.Light && c.visible() > 0 && c.Coloured*10 > c.visible()*9 && c.Unit*50 >= c.visible()*49
}

// Holds says in words what the pixels hold, such as "opaque colour" or "grey with soft alpha".
func (c Content) Holds() string {
	if c.Light {
		return "light"
	}
	what := "colour"
	switch {
	case c.Coloured == 0:
		what = "grey"
	case c.LooksNormal():
		what = "normals"
	case c.Blue == 0:
		what = "two channels"
	}
	if c.Alpha() == "no" {
		return "opaque " + what
	}
	return what + " with " + c.Alpha() + " alpha"
}
