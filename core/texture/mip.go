package texture

import (
	"image"
	"math"
	"sync"
)

// plane is an image in linear light, 16 bits a channel, alpha straight.
type plane struct {
	w, h int
	pix  []uint16
}

// The transfer function of IEC 61966-2-1 (sRGB) as tables: to 16-bit linear light, and back from its upper 12 bits and
// a short search.
var tables = sync.OnceValue(func() *transfer {
	t := &transfer{}
	for i := range t.toLinear {
		t.toLinear[i] = uint16(math.Round(65535 * srgbToLinear(float64(i)/255)))
	}
	for i := range t.limit {
		t.limit[i] = uint32(math.Ceil(65535 * srgbToLinear((float64(i)+0.5)/255)))
	}
	s := 0
	for i := range t.toSRGB {
		for s < 255 && uint32(i) >= t.limit[s] {
			s++
		}
		t.toSRGB[i] = uint8(s)
	}
	return t
})

type transfer struct {
	toLinear [256]uint16
	limit    [255]uint32 // the smallest linear value that is nearer to i+1 than to i
	toSRGB   [65536]uint8
}

func srgbToLinear(c float64) float64 {
	if c <= 0.04045 {
		return c / 12.92
	}
	return math.Pow((c+0.055)/1.055, 2.4)
}

func newPlane(img *image.NRGBA, srgb bool) *plane {
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	p := &plane{w: w, h: h, pix: make([]uint16, w*h*4)}
	t := tables()
	for y := range h {
		src := img.Pix[y*img.Stride : y*img.Stride+w*4]
		dst := p.pix[y*w*4 : (y+1)*w*4]
		for i, v := range src {
			if srgb && i&3 != 3 {
				dst[i] = t.toLinear[v]
			} else {
				dst[i] = uint16(v) * 257
			}
		}
	}
	return p
}

func (p *plane) image(srgb bool) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, p.w, p.h))
	t := tables()
	for i, v := range p.pix {
		if srgb && i&3 != 3 {
			img.Pix[i] = t.toSRGB[v]
		} else {
			img.Pix[i] = uint8((uint32(v) + 128) / 257)
		}
	}
	return img
}

// half filters the plane to half its size (rounded down, at least 1) by the exact area under each new texel, colours
// weighted by alpha so that what is see-through does not bleed in. Where all of the area is see-through the colours
// count alike.
func (p *plane) half() *plane {
	q := &plane{w: max(p.w/2, 1), h: max(p.h/2, 1)}
	q.pix = make([]uint16, q.w*q.h*4)
	if p.w == 2*q.w && p.h == 2*q.h {
		p.halfEven(q)
		return q
	}
	p.filter(q)
	return q
}

// scaled filters the plane to another size: by area where it shrinks, between neighbours where it grows.
func (p *plane) scaled(w, h int) *plane {
	q := &plane{w: w, h: h, pix: make([]uint16, w*h*4)}
	p.filter(q)
	return q
}

// filter fills q with the weighted sums of the texels of p under each of its own.
func (p *plane) filter(q *plane) {
	columns, rows := taps(p.w, q.w), taps(p.h, q.h)
	for y := range q.h {
		for x := range q.w {
			var colour, plain [3]uint64
			var alpha, weight uint64
			for _, r := range rows[y] {
				for _, c := range columns[x] {
					w := r.weight * c.weight
					s := p.pix[(r.at*p.w+c.at)*4:][:4]
					a := uint64(s[3]) * w
					for k := range 3 {
						colour[k] += uint64(s[k]) * a
						plain[k] += uint64(s[k]) * w
					}
					alpha += a
					weight += w
				}
			}
			d := q.pix[(y*q.w+x)*4:][:4]
			for k := range 3 {
				if alpha > 0 {
					d[k] = uint16((colour[k] + alpha/2) / alpha)
				} else {
					d[k] = uint16((plain[k] + weight/2) / weight)
				}
			}
			d[3] = uint16((alpha + weight/2) / weight)
		}
	}
}

// halfEven is half for even sizes, where each new texel covers just four.
func (p *plane) halfEven(q *plane) {
	row := p.w * 4
	for y := range q.h {
		above := p.pix[2*y*row:][:row]
		below := p.pix[(2*y+1)*row:][:row]
		out := q.pix[y*q.w*4:][:q.w*4]
		for x := 0; x < len(out); x += 4 {
			a, b, c, d := above[2*x:][:4], above[2*x+4:][:4], below[2*x:][:4], below[2*x+4:][:4]
			wa, wb, wc, wd := uint64(a[3]), uint64(b[3]), uint64(c[3]), uint64(d[3])
			alpha := wa + wb + wc + wd
			o := out[x:][:4]
			o[3] = uint16((alpha + 2) / 4)
			if alpha == 4*65535 || alpha == 0 { // opaque, or see-through all over: the colours count alike
				for k := range 3 {
					o[k] = uint16((uint32(a[k]) + uint32(b[k]) + uint32(c[k]) + uint32(d[k]) + 2) / 4)
				}
				continue
			}
			for k := range 3 {
				o[k] = uint16((uint64(a[k])*wa + uint64(b[k])*wb + uint64(c[k])*wc + uint64(d[k])*wd + alpha/2) / alpha)
			}
		}
	}
}

// tap is a source texel under a new one, with the length they share.
type tap struct {
	at     int
	weight uint64
}

// taps lists, for each of n new texels over from old ones, those it is made of.
func taps(from, n int) [][]tap {
	if n > from {
		return between(from, n)
	}
	return spans(from, n)
}

// between weights the two old texels whose middles a new one's middle lies between, in steps of 1/2n of an old texel.
func between(from, n int) [][]tap {
	out := make([][]tap, n)
	for i := range out {
		at := (2*i+1)*from - n // of the new middle, counted from the first old middle
		left := at / (2 * n)
		if at < 0 {
			left, at = 0, 0
		}
		share := at - left*2*n
		out[i] = []tap{{left, uint64(2*n - share)}, {min(left+1, from-1), uint64(share)}}
	}
	return out
}

// spans lists the taps for each of n new texels over from old ones, in lengths of 1/n of an old texel.
func spans(from, n int) [][]tap {
	out := make([][]tap, n)
	for i := range out {
		for at := i * from / n; at < from && at*n < (i+1)*from; at++ {
			low, high := max(at*n, i*from), min((at+1)*n, (i+1)*from)
			out[i] = append(out[i], tap{at, uint64(high - low)})
		}
	}
	return out
}
