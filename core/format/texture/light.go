package texture

import (
	"image"
	"image/color"
	"math"
	"math/bits"
)

// Light is an image of light: red, green, blue and alpha, linear, as the bits of half floats (IEEE 754 binary16).
type Light struct {
	Rect image.Rectangle
	Pix  []uint16 // four a texel, row by row
}

// NewLight is a black, opaque image of light.
func NewLight(w, h int) *Light {
	l := &Light{image.Rect(0, 0, w, h), make([]uint16, 4*w*h)}
	for i := 3; i < len(l.Pix); i += 4 {
		l.Pix[i] = halfOne
	}
	return l
}

// ColorModel is that of At.
func (l *Light) ColorModel() color.Model { return color.NRGBAModel }

// Bounds is the size, from 0, 0.
func (l *Light) Bounds() image.Rectangle { return l.Rect }

// At is a texel as a screen shows it: cut off at 1, in sRGB.
func (l *Light) At(x, y int) color.Color {
	p := l.Pix[4*(y*l.Rect.Dx()+x):][:4]
	t := tables()
	c := func(h uint16) uint8 { return t.toSRGB[unit(h)] }
	return color.NRGBA{c(p[0]), c(p[1]), c(p[2]), uint8((uint32(unit(p[3])) + 128) / 257)}
}

const (
	halfOne     = 0x3c00
	halfLargest = 0x7bff // the largest finite one, 65504
)

// fixed is the value of a half float in units of 2 to the -24, which is exact. Below zero and no
// number give 0, infinity the largest finite value.
func fixed(h uint16) int64 {
	switch {
	case h >= 0x8000 || h > 0x7c00:
		return 0
	case h > halfLargest:
		h = halfLargest
	}
	exponent, mantissa := h>>10, int64(h&0x3ff)
	if exponent == 0 {
		return mantissa
	}
	return (mantissa | 0x400) << (exponent - 1)
}

// Colours are red, green and blue of the i-th texel.
func (l *Light) Colours(i int) (c [3]float32) {
	for k := range c {
		c[k] = float32(fixed(l.Pix[4*i+k])) / (1 << 24)
	}
	return c
}

// SetColours rounds red, green and blue of the i-th texel to half floats; what is below zero, or no number, becomes 0.
func (l *Light) SetColours(i int, c [3]float32) {
	for k, v := range c {
		if !(v > 0) {
			v = 0
		}
		l.Pix[4*i+k] = toHalf(int64(math.Round(float64(min(v, 65504)) * (1 << 24))))
	}
}

// toHalf rounds a value of fixed to the nearest half float, halves to even; beyond the largest it stays there.
func toHalf(v int64) uint16 {
	if v <= 0 {
		return 0
	}
	shift := bits.Len64(uint64(v)) - 11
	if shift <= 0 {
		return uint16(v) // the lowest exponents hold it exactly: 0x400 is exponent 1
	}
	m := v >> shift
	if rest, middle := v&(1<<shift-1), int64(1)<<(shift-1); rest > middle || rest == middle && m&1 == 1 {
		m++
	}
	return uint16(min(int64(shift)<<10+m, halfLargest))
}

// unit is a half float cut off to 0..1, as 16 bits.
func unit(h uint16) uint16 { return uint16(min(fixed(h)*65535+1<<23, 65535<<24) >> 24) }

// fromUnit is the half float of 16 bits that stand for 0..1.
func fromUnit(v uint16) uint16 { return toHalf((int64(v)<<24 + 32767) / 65535) }

// ToLight turns 8-bit texels into light; srgb says that their colours are sRGB.
func ToLight(img *image.NRGBA, srgb bool) *Light {
	l := NewLight(img.Rect.Dx(), img.Rect.Dy())
	t := tables()
	for y := range img.Rect.Dy() {
		row := img.Pix[y*img.Stride:][:4*img.Rect.Dx()]
		for i, v := range row {
			u := uint16(v) * 257
			if srgb && i&3 != 3 {
				u = t.toLinear[v]
			}
			l.Pix[y*4*img.Rect.Dx()+i] = fromUnit(u)
		}
	}
	return l
}

// Visible is an image as a screen shows it: light is cut off at 1 and turned into sRGB.
func Visible(img image.Image) *image.NRGBA {
	switch img := img.(type) {
	case *image.NRGBA:
		return img
	case *Light:
		return img.visible(true)
	}
	return toNRGBA(img)
}

func (l *Light) visible(srgb bool) *image.NRGBA {
	out := image.NewNRGBA(l.Rect)
	t := tables()
	for i, h := range l.Pix {
		if u := unit(h); srgb && i&3 != 3 {
			out.Pix[i] = t.toSRGB[u]
		} else {
			out.Pix[i] = uint8((uint32(u) + 128) / 257)
		}
	}
	return out
}
