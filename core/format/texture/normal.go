package texture

import (
	"fmt"
	"image"
	"image/color"
	"math"
)

// Normal maps hold a direction a texel: red to the right, green up or down, blue out of the surface, each from -1 to 1.

// Up and Down say which way green grows in a normal map: towards the top of the image or towards its bottom.
const (
	Up   = "up"
	Down = "down"
)

// Heights is a height image: 16 bits a texel.
type Heights struct {
	W, H int
	Pix  []uint16
}

// HeightsOf takes the brightness of an image as heights, in all the bits it has: (2 red + 5 green + 1 blue) / 8.
func HeightsOf(img image.Image) *Heights {
	b := img.Bounds()
	h := &Heights{b.Dx(), b.Dy(), make([]uint16, b.Dx()*b.Dy())}
	for y := range h.H {
		for x := range h.W {
			var v uint32
			switch img := img.(type) {
			case *image.NRGBA:
				p := img.Pix[y*img.Stride+4*x:][:3]
				v = (2*uint32(p[0]) + 5*uint32(p[1]) + uint32(p[2])) * 257 / 8
			case *image.Gray16:
				v = uint32(img.Gray16At(b.Min.X+x, b.Min.Y+y).Y)
			case *Light:
				p := img.Pix[4*(y*h.W+x):][:3]
				v = (2*uint32(unit(p[0])) + 5*uint32(unit(p[1])) + uint32(unit(p[2]))) / 8
			default:
				c := color.NRGBA64Model.Convert(img.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA64)
				v = (2*uint32(c.R) + 5*uint32(c.G) + uint32(c.B)) / 8
			}
			h.Pix[y*h.W+x] = uint16(v)
		}
	}
	return h
}

// Normals makes a normal map of heights by the Sobel operator. Strength is how many texels high
// white stands over black, in hundredths; green says which way green grows.
func (h *Heights) Normals(strength int, green string, e Edge) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, h.W, h.H))
	at := func(x, y int) int64 {
		if e == Wrap {
			x, y = (x+h.W)%h.W, (y+h.H)%h.H
		} else {
			x, y = min(max(x, 0), h.W-1), min(max(y, 0), h.H-1)
		}
		return int64(h.Pix[y*h.W+x])
	}
	for y := range h.H {
		for x := range h.W {
			// Eight times the slope along each side, in 65535ths of the range a texel.
			dx := at(x+1, y-1) + 2*at(x+1, y) + at(x+1, y+1) - at(x-1, y-1) - 2*at(x-1, y) - at(x-1, y+1)
			dy := at(x-1, y+1) + 2*at(x, y+1) + at(x+1, y+1) - at(x-1, y-1) - 2*at(x, y-1) - at(x+1, y-1)
			if green == Up {
				dy = -dy
			}
			p := img.Pix[y*img.Stride+4*x:][:4]
			setNormal(p, -dx*int64(strength), -dy*int64(strength), 8*65535*100)
			p[3] = 255
		}
	}
	return img
}

// setNormal stores the direction x, y, z at length one.
func setNormal(p []uint8, x, y, z int64) {
	for largest := max(abs64(x), abs64(y), abs64(z)); largest > 1<<28; largest >>= 1 {
		x, y, z = x/2, y/2, z/2
	}
	length := int64(root(uint64(x*x+y*y+z*z) << 2)) // twice the length, for a bit more
	if length == 0 {
		x, y, z, length = 0, 0, 1, 2
	}
	for k, v := range [3]int64{x, y, z} {
		p[k] = uint8(min(max((divide(2*v*255, length)+256)/2, 0), 255))
	}
}

// renormalise gives every direction of a normal map length one: filtering shortens them.
func renormalise(img *image.NRGBA) {
	for i := 0; i < len(img.Pix); i += 4 {
		p := img.Pix[i:][:4]
		setNormal(p, 2*int64(p[0])-255, 2*int64(p[1])-255, 2*int64(p[2])-255)
	}
}

// fillBlue makes the third channel of a two-channel normal map.
func fillBlue(img *image.NRGBA) *image.NRGBA {
	out := image.NewNRGBA(img.Rect)
	copy(out.Pix, img.Pix)
	for i := 0; i < len(out.Pix); i += 4 {
		p := out.Pix[i:][:4]
		x, y := 2*int64(p[0])-255, 2*int64(p[1])-255
		p[2] = uint8((int64(root(uint64(max(255*255-x*x-y*y, 0)))) + 256) / 2)
	}
	return out
}

// flipGreen turns a normal map's convention round.
func flipGreen(img *image.NRGBA) *image.NRGBA {
	out := image.NewNRGBA(img.Rect)
	copy(out.Pix, img.Pix)
	for i := 1; i < len(out.Pix); i += 4 {
		out.Pix[i] = 255 - out.Pix[i]
	}
	return out
}

// NormalFault says how an image fails as a normal map: the number of texels that are no direction of length one, and in
// words why; n is 0 for a good one.
func (c Content) NormalFault() (n int, why string) {
	switch {
	case c.Blue == 0 && c.visible() > 0:
		return 0, "" // two channels: the third follows
	case c.Unit*10 >= c.visible()*9:
		return 0, ""
	case c.Coloured == 0:
		return c.visible(), "it is grey all over, as a height image is"
	case c.Unit*2 < c.visible():
		return c.visible() - c.Unit, "it looks like a colour image"
	}
	return c.visible() - c.Unit, fmt.Sprintf("their length is off by more than %d in a hundred", unitTolerance/10)
}

// TurnedBySRGB is the mean angle, in whole degrees, by which the directions of normal maps are turned when a game reads
// them as sRGB colours.
func TurnedBySRGB(images []image.Image) int {
	sum, n := 0.0, 0
	t := tables()
	for _, img := range images {
		seen := Visible(img)
		for i := 0; i < len(seen.Pix); i += 4 {
			dot, a, b := 0.0, 0.0, 0.0
			for _, v := range seen.Pix[i:][:3] {
				x, y := float64(v)/127.5-1, float64(t.toLinear[v])/32767.5-1
				dot, a, b = dot+float64(x*y), a+float64(x*x), b+float64(y*y)
			}
			if a > 0 && b > 0 {
				sum += math.Acos(min(max(dot/math.Sqrt(a*b), -1), 1))
				n++
			}
		}
	}
	return int(math.Round(sum / float64(max(n, 1)) * 180 / math.Pi))
}
