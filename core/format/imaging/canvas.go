package imaging

import (
	"image"
	"image/color"
	"math"
	"runtime"
	"strconv"
	"sync"

	"vornix/core/base/group"
)

// canvas is a picture: red, green, blue (linear) and alpha, from 0 to 1, colours multiplied by alpha.
type canvas struct {
	w, h int
	pix  []float32
}

func newCanvas(w, h int) *canvas { return &canvas{w: w, h: h, pix: make([]float32, 4*w*h)} }

// toLinear is the sRGB curve (IEC 61966-2-1) for 16 bits, of which each value is found once.
var toLinear = sync.OnceValue(func() []float32 {
	list := make([]float32, 65536)
	for i := range list {
		v := float64(i) / 65535
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		list[i] = float32(math.Round(v*1e7) / 1e7)
	}
	return list
})

func fromShot(m *RGB48) *canvas {
	c, curve := newCanvas(m.W, m.H), toLinear()
	for i := range m.W * m.H {
		for k := range 3 {
			c.pix[4*i+k] = curve[m.Pix[3*i+k]]
		}
		c.pix[4*i+3] = 1
	}
	return c
}

func fromImage(m *image.NRGBA) *canvas {
	b := m.Bounds()
	c, curve := newCanvas(b.Dx(), b.Dy()), toLinear()
	for y := range c.h {
		row := m.Pix[y*m.Stride:][:4*c.w]
		for x := range c.w {
			p, q := row[4*x:][:4], c.pix[4*(y*c.w+x):][:4]
			alpha := float32(p[3]) / 255
			for k := range 3 {
				q[k] = float32(curve[uint16(p[k])*257] * alpha)
			}
			q[3] = alpha
		}
	}
	return c
}

// image is the canvas in 8 bits, rounded.
func (c *canvas) image() *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, c.w, c.h))
	c.rows(func(y int) {
		for x := range c.w {
			p, q := c.pix[4*(y*c.w+x):][:4], out.Pix[y*out.Stride+4*x:][:4]
			if p[3] <= 0 {
				continue
			}
			for k := range 3 {
				q[k] = uint8(float32(SRGB(p[k]/p[3])*255) + 0.5)
			}
			q[3] = uint8(math.Round(float64(min(p[3], 1)) * 255))
		}
	})
	return out
}

// rows calls do with each row, on all processors.
func (c *canvas) rows(do func(y int)) {
	var wait group.All
	workers := runtime.GOMAXPROCS(0)
	for k := range workers {
		wait.Go(func() {
			for y := k; y < c.h; y += workers {
				do(y)
			}
		})
	}
	wait.Wait()
}

// each changes every pixel in sRGB: do gets colours from 0 to 1, not multiplied by alpha.
func (c *canvas) each(do func(x, y int, rgb *[3]float64)) {
	c.rows(func(y int) {
		for x := range c.w {
			p := c.pix[4*(y*c.w+x):][:4]
			if p[3] <= 0 {
				continue
			}
			rgb := [3]float64{float64(SRGB(p[0] / p[3])), float64(SRGB(p[1] / p[3])), float64(SRGB(p[2] / p[3]))}
			do(x, y, &rgb)
			for k := range 3 {
				p[k] = float32(toLinear()[uint16(math.Round(min(max(rgb[k], 0), 1)*65535))] * p[3])
			}
		}
	})
}

// scale multiplies light.
func (c *canvas) scale(by func(x, y int) float32) {
	c.rows(func(y int) {
		for x := range c.w {
			p, f := c.pix[4*(y*c.w+x):][:4], by(x, y)
			for k := range 3 {
				p[k] = float32(p[k] * f)
			}
		}
	})
}

// under lays the canvas over a colour.
func (c *canvas) under(back color.NRGBA) {
	l := linear(back)
	c.rows(func(y int) {
		for x := range c.w {
			p := c.pix[4*(y*c.w+x):][:4]
			left := float32((1 - p[3]) * l[3])
			for k := range 3 {
				p[k] += float32(l[k] * left)
			}
			p[3] += left
		}
	})
}

// blend lays a colour over a pixel, by a part.
func (c *canvas) blend(x, y int, l [4]float32, part float32) {
	if x < 0 || y < 0 || x >= c.w || y >= c.h || part <= 0 {
		return
	}
	p := c.pix[4*(y*c.w+x):][:4]
	part = float32(part * l[3])
	for k := range 3 {
		p[k] = float32(p[k]*(1-part)) + float32(l[k]*part)
	}
	p[3] = float32(p[3]*(1-part)) + part
}

// linear is a colour's light and its alpha.
func linear(c color.NRGBA) [4]float32 {
	t := toLinear()
	return [4]float32{t[uint16(c.R)*257], t[uint16(c.G)*257], t[uint16(c.B)*257], float32(c.A) / 255}
}

// blur is a Gaussian blur: a radius of r pixels has a standard deviation of r/2. What lies beyond
// the edges is as the edge.
func (c *canvas) blur(radius float64) {
	sigma := float64(radius / 2)
	half := int(math.Ceil(3 * sigma))
	if half < 1 {
		return
	}
	weights := make([]float32, half+1)
	sum := 0.0
	for i := range weights {
		v := math.Exp(-float64(i*i) / (2 * float64(sigma*sigma)))
		weights[i] = float32(v)
		sum += v
		if i > 0 {
			sum += v
		}
	}
	for i := range weights {
		weights[i] = float32(float64(weights[i]) / sum)
	}
	along := func(from, to *canvas, n, stride, lines, step int) {
		var wait group.All
		workers := runtime.GOMAXPROCS(0)
		for w := range workers {
			wait.Go(func() {
				for line := w; line < lines; line += workers {
					base := line * step
					for i := range n {
						var acc [4]float32
						for d := -half; d <= half; d++ {
							p := from.pix[base+min(max(i+d, 0), n-1)*stride:][:4]
							v := weights[max(d, -d)]
							for k := range acc {
								acc[k] += float32(p[k] * v)
							}
						}
						copy(to.pix[base+i*stride:], acc[:])
					}
				}
			})
		}
		wait.Wait()
	}
	other := newCanvas(c.w, c.h)
	along(c, other, c.w, 4, c.h, 4*c.w)
	along(other, c, c.h, 4*c.w, c.w, 4)
}

// ParseColour reads #rrggbb or #rrggbbaa.
func ParseColour(s string) (c color.NRGBA, ok bool) {
	if (len(s) != 7 && len(s) != 9) || s[0] != '#' {
		return c, false
	}
	v, err := strconv.ParseUint(s[1:], 16, 32)
	if err != nil {
		return c, false
	}
	if len(s) == 7 {
		v = v<<8 | 255
	}
	return color.NRGBA{uint8(v >> 24), uint8(v >> 16), uint8(v >> 8), uint8(v)}, true
}
