package imaging

import (
	"image"
	"math"
	"sync"
)

// RGB48 is a rendered picture: red, green and blue in sRGB (IEC 61966-2-1), 16 bits each, row by row from the top.
type RGB48 struct {
	W, H int
	Pix  []uint16 // 3*W*H values
}

// NRGBA returns the picture with 8 bits per channel, rounded, and opaque.
func (m *RGB48) NRGBA() *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, m.W, m.H))
	for i := range m.W * m.H {
		for k := range 3 {
			out.Pix[4*i+k] = uint8((uint32(m.Pix[3*i+k])*255 + 32767) / 65535)
		}
		out.Pix[4*i+3] = 255
	}
	return out
}

// encode holds the sRGB curve in 65536 steps. The error of straight lines between them is below one 16-bit value.
var encode = sync.OnceValue(func() []float32 {
	list := make([]float32, 65537)
	for i := range list {
		f := float64(i) / 65536
		if f <= 0.0031308 {
			f *= 12.92
		} else {
			f = float64(1.055*math.Pow(f, 1/2.4)) - 0.055
		}
		list[i] = float32(f)
	}
	return list
})

// SRGB encodes linear light as sRGB, both from 0 to 1; values outside are clamped.
func SRGB(v float32) float32 {
	switch {
	case !(v > 0):
		return 0
	case v >= 1:
		return 1
	}
	list, x := encode(), float32(v*65536)
	i := int(x)
	return list[i] + float32((list[i+1]-list[i])*(x-float32(i)))
}
