package texture

import (
	"image"
	"math"
	"sync"
)

// The transfer function of IEC 61966-2-1 (sRGB) as tables: to 16-bit linear light, and back.
var tables = sync.OnceValue(func() *transfer {
	t := &transfer{}
	for i := range t.toLinear {
		t.toLinear[i] = uint16(math.Round(65535 * srgbToLinear(float64(i)/255)))
	}
	s := 0
	for i := range t.toSRGB {
		for s < 255 && i >= int(math.Ceil(65535*srgbToLinear((float64(s)+0.5)/255))) {
			s++
		}
		t.toSRGB[i] = uint8(s)
	}
	return t
})

type transfer struct {
	toLinear [256]uint16
	toSRGB   [65536]uint8
}

func srgbToLinear(c float64) float64 {
	if c <= 0.04045 {
		return c / 12.92
	}
	return math.Pow((c+0.055)/1.055, 2.4)
}

// Filter is how texels are weighted where an image shrinks. Where it grows, box and triangle take the straight line
// between neighbours, cubic a curve.
type Filter uint8

// The filters.
const (
	Box      Filter = iota // by the exact area under each new texel
	Triangle               // softer: neighbours count too, less the farther they are
	Cubic                  // sharper: a cubic through the texels (Catmull and Rom 1974) that overshoots a little
)

// FilterNames lists the names of the filters in the order of their values.
var FilterNames = []string{"box", "triangle", "cubic"}

// Edge says what lies beyond an image's edge.
type Edge uint8

// The edges.
const (
	Clamp Edge = iota // the last texel on and on
	Wrap              // the image again, as on a surface that it repeats on
)

// EdgeNames lists the names of the edges in the order of their values.
var EdgeNames = []string{"clamp", "wrap"}

// plane is an image to filter, linear: 8-bit texels as 16 bits a channel, light as half floats. Alpha is straight.
type plane struct {
	w, h  int
	light bool
	pix   []uint16
	// from is the 8-bit image that pix, then nil, would be made of: spares a copy of the largest level.
	from *image.NRGBA
	srgb bool
}

func newPlane(img image.Image, srgb bool) *plane {
	if l, ok := img.(*Light); ok {
		return &plane{w: l.Rect.Dx(), h: l.Rect.Dy(), light: true, pix: l.Pix}
	}
	n := img.(*image.NRGBA) // Decode gives nothing else
	return &plane{w: n.Rect.Dx(), h: n.Rect.Dy(), from: n, srgb: srgb}
}

// row gives a row of the plane, into a buffer where it must be made.
func (p *plane) row(y int, buffer []uint16) []uint16 {
	if p.from == nil {
		return p.pix[y*p.w*4:][:p.w*4]
	}
	src := p.from.Pix[y*p.from.Stride:][:p.w*4]
	buffer = buffer[:p.w*4]
	if !p.srgb {
		for i, v := range src {
			buffer[i] = uint16(v) * 257
		}
		return buffer
	}
	t := tables()
	for i := 0; i < len(src); i += 4 {
		s, d := src[i:][:4], buffer[i:][:4]
		d[0], d[1], d[2], d[3] = t.toLinear[s[0]], t.toLinear[s[1]], t.toLinear[s[2]], uint16(s[3])*257
	}
	return buffer
}

// image is the plane as texels again.
func (p *plane) image(srgb bool) image.Image {
	if p.light {
		return &Light{image.Rect(0, 0, p.w, p.h), p.pix}
	}
	if p.from != nil {
		return p.from
	}
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

// half filters the plane to half its size, rounded down, at least 1.
func (p *plane) half(f Filter, e Edge) *plane {
	w, h := max(p.w/2, 1), max(p.h/2, 1)
	if f == Box && !p.light && p.w == 2*w && p.h == 2*h {
		return p.halfEven()
	}
	return p.scaled(w, h, f, e)
}

// halfEven is half by area for even sizes, where each new texel covers just four. Colours are
// weighted by alpha, so that what is see-through does not bleed in; where all of the area is
// see-through they count alike.
func (p *plane) halfEven() *plane {
	q := &plane{w: p.w / 2, h: p.h / 2}
	q.pix = make([]uint16, q.w*q.h*4)
	first, second := make([]uint16, p.w*4), make([]uint16, p.w*4)
	for y := range q.h {
		above, below := p.row(2*y, first), p.row(2*y+1, second)
		out := q.pix[y*q.w*4:][:q.w*4]
		for x := 0; x < len(out); x += 4 {
			a, b, c, d := above[2*x:][:4], above[2*x+4:][:4], below[2*x:][:4], below[2*x+4:][:4]
			wa, wb, wc, wd := uint64(a[3]), uint64(b[3]), uint64(c[3]), uint64(d[3])
			alpha := wa + wb + wc + wd
			o := out[x:][:4]
			o[3] = uint16((alpha + 2) / 4)
			if alpha == 4*65535 || alpha == 0 {
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
	return q
}

// scaled filters the plane to another size, first along the rows, then across them. Only as many filtered rows are held
// as one new row needs. Colours are weighted by alpha as in halfEven: a see-through texel counts as 1 in 2^24, so that
// where all are see-through they count alike.
func (p *plane) scaled(w, h int, f Filter, e Edge) *plane {
	q := &plane{w: w, h: h, light: p.light, pix: make([]uint16, w*h*4)}
	columns, rows := taps(p.w, w, f, e), taps(p.h, h, f, e)
	buffer := make([]uint16, p.w*4)
	wide := make([]int64, p.w*4)
	held := map[int][]int64{}
	var free [][]int64
	sum := make([]int64, w*4)
	for y := range h {
		needed := rows.at[y]
		for at, row := range held {
			if !needed.holds(at) {
				free = append(free, row)
				delete(held, at)
			}
		}
		clear(sum)
		for i, at := range needed.from {
			row := held[at]
			if row == nil {
				if n := len(free); n > 0 {
					row, free = free[n-1], free[:n-1]
				} else {
					row = make([]int64, w*4)
				}
				p.weigh(p.row(at, buffer), wide)
				columns.along(wide, row)
				held[at] = row
			}
			weight := needed.weight[i]
			for x, v := range row {
				sum[x] += weight * v
			}
		}
		p.settle(sum, q.pix[y*w*4:][:w*4], rows.total)
	}
	return q
}

// weigh turns a row into what is added up: light in its fixed form, 8-bit colours times their weight, and the weight.
func (p *plane) weigh(row []uint16, wide []int64) {
	if p.light {
		for i, h := range row {
			wide[i] = fixed(h)
		}
		return
	}
	for i := 0; i < len(row); i += 4 {
		s, d := row[i:][:4], wide[i:][:4]
		weight := int64(s[3])<<8 + 1
		d[0], d[1], d[2], d[3] = int64(s[0])*weight, int64(s[1])*weight, int64(s[2])*weight, weight
	}
}

// settle turns sums into texels.
func (p *plane) settle(sum []int64, out []uint16, total int64) {
	if p.light {
		for i, v := range sum {
			out[i] = toHalf(divide(v, total))
		}
		return
	}
	for i := 0; i < len(sum); i += 4 {
		weight := divide(sum[i+3], total)
		if weight <= 0 {
			continue
		}
		for k := range 3 {
			out[i+k] = uint16(min(max((divide(sum[i+k], total)+weight/2)/weight, 0), 65535))
		}
		out[i+3] = uint16(min(max((weight+127)>>8, 0), 65535))
	}
}

// divide rounds to the nearest, alike on both sides of zero.
func divide(v, by int64) int64 {
	if v < 0 {
		return -((-v + by/2) / by)
	}
	return (v + by/2) / by
}

// kernel lists, for each new texel of one direction, the old ones it is made of; the weights of each sum up to total.
type kernel struct {
	total int64
	at    []tap
}

type tap struct {
	from   []int
	weight []int64
}

func (t *tap) holds(at int) bool {
	for _, f := range t.from {
		if f == at {
			return true
		}
	}
	return false
}

// along filters a row.
func (k *kernel) along(row, out []int64) {
	for x := range k.at {
		t := &k.at[x]
		var a, b, c, d int64
		for i, from := range t.from {
			w, s := t.weight[i], row[4*from:][:4]
			a += w * s[0]
			b += w * s[1]
			c += w * s[2]
			d += w * s[3]
		}
		o := out[4*x:][:4]
		o[0], o[1], o[2], o[3] = divide(a, k.total), divide(b, k.total), divide(c, k.total), divide(d, k.total)
	}
}

// taps makes the kernel from one length to another.
func taps(from, to int, f Filter, e Edge) *kernel {
	if f == Box && to <= from {
		return spans(from, to)
	}
	// The shape stretches over new texels where the image shrinks, over old ones where it grows. Places are counted in
	// units of 1/2to old texels, widths in the same.
	unit, reach := int64(2*to), int64(1)
	stretch := int64(2 * max(from, to))
	if f == Cubic {
		reach = 2
	}
	const total = 1 << 14
	k := &kernel{total: total, at: make([]tap, to)}
	for i := range k.at {
		middle := int64(2*i+1) * int64(from)
		first, last := (middle-reach*stretch)/unit-1, (middle+reach*stretch)/unit+1
		var at []int
		var weights []int64
		sum := int64(0)
		for j := first; j <= last; j++ {
			w := shape(f, abs64((2*j+1)*int64(to)-middle), stretch)
			if w == 0 {
				continue
			}
			place := int(min(max(j, 0), int64(from-1)))
			if e == Wrap {
				place = int(((j % int64(from)) + int64(from)) % int64(from))
			}
			at, weights, sum = append(at, place), append(weights, w), sum+w
		}
		// Scaled to the total, what rounding leaves over goes to the middle.
		left, heaviest := int64(total), 0
		for n := range weights {
			weights[n] = divide(weights[n]*total, sum)
			left -= weights[n]
			if weights[n] > weights[heaviest] {
				heaviest = n
			}
		}
		if mirror := len(weights) - 1 - heaviest; mirror != heaviest && weights[mirror] == weights[heaviest] &&
			left%2 == 0 {
			weights[mirror] += left / 2 // left and right alike
			left -= left / 2
		}
		weights[heaviest] += left
		k.at[i] = tap{at, weights}
	}
	return k
}

func abs64(v int64) int64 { return max(v, -v) }

// shape is the filter's weight at a distance, with its unit length, in 1/2^16.
func shape(f Filter, distance, length int64) int64 {
	x := distance << 16 / length
	const one = int64(1) << 16
	switch {
	case f != Cubic:
		return max(one-x, 0)
	case x < one: // (3x^3 - 5x^2 + 2)/2
		return (3*(x*x>>16*x>>16) - 5*(x*x>>16) + 2*one) / 2
	case x < 2*one: // (-x^3 + 5x^2 - 8x + 4)/2
		return (-(x * x >> 16 * x >> 16) + 5*(x*x>>16) - 8*x + 4*one) / 2
	}
	return 0
}

// spans makes the kernel by area: lengths in 1/to of an old texel.
func spans(from, to int) *kernel {
	k := &kernel{total: int64(from), at: make([]tap, to)}
	for i := range k.at {
		t := &k.at[i]
		for at := i * from / to; at < from && at*to < (i+1)*from; at++ {
			low, high := max(at*to, i*from), min((at+1)*to, (i+1)*from)
			t.from, t.weight = append(t.from, at), append(t.weight, int64(high-low))
		}
	}
	return k
}

// Resize scales an image in linear light when its colours are sRGB, colours weighted by alpha.
func Resize(img image.Image, w, h int, srgb bool, f Filter, e Edge) image.Image {
	if b := img.Bounds(); b.Dx() == w && b.Dy() == h {
		return img
	}
	return newPlane(img, srgb).scaled(w, h, f, e).image(srgb)
}
