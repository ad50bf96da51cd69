package bcn

import (
	"encoding/binary"
	"math/bits"
	"sync"
)

// BC1 stores a block of 4x4 texels as two colours of 5, 6 and 5 bits and a 2-bit choice a texel between them and the
// two colours at a third and two thirds of the way (Khronos Data Format Specification, chapter 18).

type rgb [3]int32

// candidate is a pair of packed colours with the choices that fit them best.
type candidate struct {
	c0, c1  uint16
	choices uint32
	err     int64
}

// colourBlock packs an opaque half block of colours.
func colourBlock(out []byte, block *[16]rgb, q Quality) []byte {
	low, high := principalEnds(block)
	if low == high {
		return oneColour(out, low)
	}
	best := fit(block, low, high)
	rounds := 3
	switch q {
	case Draft:
		rounds = 1
	case Best, Exhaustive:
		rounds = 8
	}
	for range rounds { // each round of least squares can only be kept when it is better
		a, b, ok := minSquaresColours(block, best)
		if !ok {
			break
		}
		next := fit(block, a, b)
		if next.err >= best.err {
			break
		}
		best = next
	}
	for q != Draft {
		next := nudge(block, best, q == Normal)
		better := next.err < best.err
		if best = next; !better || q == Normal {
			break
		}
		if a, b, ok := minSquaresColours(block, best); ok {
			if next := fit(block, a, b); next.err < best.err {
				best = next
			}
		}
	}
	out = binary.LittleEndian.AppendUint16(out, best.c0)
	out = binary.LittleEndian.AppendUint16(out, best.c1)
	return binary.LittleEndian.AppendUint32(out, best.choices)
}

// singles gives, for each 8-bit value of a channel of 5 and of 6 bits, the pair whose mixture at a
// third of the way comes nearest.
var singles = sync.OnceValue(func() (t [2][256][2]uint8) {
	for which, bits := range [2]uint{5, 6} {
		var off [256]int
		for v := range off {
			off[v] = 1 << 20
		}
		for a := range 1 << bits {
			for b := range 1 << bits {
				x, y := a<<(8-bits)|a>>(2*bits-8), b<<(8-bits)|b>>(2*bits-8)
				mixed := (2*x + y + 1) / 3
				for v := max(mixed-8, 0); v <= min(mixed+8, 255); v++ {
					// of equals the pair that lies closer: decoders differ less
					if d := max(v-mixed, mixed-v)*256 + max(x-y, y-x); d < off[v] {
						off[v], t[which][v] = d, [2]uint8{uint8(a), uint8(b)}
					}
				}
			}
		}
	}
	return t
})

// single is the pair whose mixture at a third of the way comes nearest to a colour.
func single(c rgb) (c0, c1 uint16) {
	t := singles()
	r, g, b := t[0][c[0]], t[1][c[1]], t[0][c[2]]
	return uint16(r[0])<<11 | uint16(g[0])<<5 | uint16(b[0]), uint16(r[1])<<11 | uint16(g[1])<<5 | uint16(b[1])
}

// oneColour packs a block of one colour.
func oneColour(out []byte, c rgb) []byte {
	c0, c1 := single(c)
	choices := uint32(0xaaaaaaaa) // a third of the way
	switch {
	case c0 == c1:
		choices = 0
	case c0 < c1:
		c0, c1, choices = c1, c0, 0xffffffff
	}
	out = binary.LittleEndian.AppendUint16(out, c0)
	out = binary.LittleEndian.AppendUint16(out, c1)
	return binary.LittleEndian.AppendUint32(out, choices)
}

// principalEnds finds the two texels that lie farthest apart along the block's principal axis.
func principalEnds(block *[16]rgb) (low, high rgb) {
	var sum rgb
	for _, p := range block {
		for k := range 3 {
			sum[k] += p[k]
		}
	}
	var rr, rg, rb, gg, gb, bb int64
	for i := range block {
		p := &block[i]
		r, g, b := int64(p[0]*16-sum[0]), int64(p[1]*16-sum[1]), int64(p[2]*16-sum[2])
		rr, rg, rb = rr+r*r, rg+r*g, rb+r*b
		gg, gb, bb = gg+g*g, gb+g*b, bb+b*b
	}
	var axis [3]int64 // the row of the widest channel leans towards the axis
	switch max(rr, gg, bb) {
	case rr:
		axis = [3]int64{rr, rg, rb}
	case gg:
		axis = [3]int64{rg, gg, gb}
	default:
		axis = [3]int64{rb, gb, bb}
	}
	for range 3 { // power iteration, the axis kept within 20 bits
		largest := max(axis[0], -axis[0], axis[1], -axis[1], axis[2], -axis[2])
		if largest == 0 {
			break
		}
		shift := max(bits.Len64(uint64(largest))-20, 0)
		r, g, b := axis[0]>>shift, axis[1]>>shift, axis[2]>>shift
		axis = [3]int64{rr*r + rg*g + rb*b, rg*r + gg*g + gb*b, rb*r + gb*g + bb*b}
	}
	for max(axis[0], -axis[0], axis[1], -axis[1], axis[2], -axis[2]) > 1<<40 {
		for i := range 3 {
			axis[i] >>= 8
		}
	}
	low, high = block[0], block[0]
	lowAt, highAt := dot(axis, low), dot(axis, high)
	for _, p := range block[1:] {
		d := dot(axis, p)
		if d < lowAt {
			lowAt, low = d, p
		}
		if d > highAt {
			highAt, high = d, p
		}
	}
	return low, high
}

func dot(axis [3]int64, p rgb) int64 {
	return axis[0]*int64(p[0]) + axis[1]*int64(p[1]) + axis[2]*int64(p[2])
}

// pack rounds a colour to 5, 6 and 5 bits.
func pack(c rgb) uint16 {
	clamp := func(v int32) int32 { return min(max(v, 0), 255) }
	return uint16((clamp(c[0])*31+127)/255<<11 | (clamp(c[1])*63+127)/255<<5 | (clamp(c[2])*31+127)/255)
}

// unpack spreads 5, 6 and 5 bits over 8, repeating the upper ones below.
func unpack(c uint16) rgb {
	r, g, b := int32(c>>11), int32(c>>5&63), int32(c&31)
	return rgb{r<<3 | r>>2, g<<2 | g>>4, b<<3 | b>>2}
}

// palette is the four colours between two packed ones, in the order of the stored choices.
func palette(c0, c1 uint16) [4]rgb {
	a, b := unpack(c0), unpack(c1)
	p := [4]rgb{a, b}
	for k := range 3 {
		p[2][k] = (2*a[k] + b[k] + 1) / 3
		p[3][k] = (a[k] + 2*b[k] + 1) / 3
	}
	return p
}

// noLimit is larger than any block's error.
const noLimit = int64(1) << 40

// fit packs two colours and chooses the nearest of the four for each texel.
func fit(block *[16]rgb, a, b rgb) candidate { return fitPacked(block, pack(a), pack(b), noLimit) }

// fitPacked chooses, for each texel, the nearest of the four colours between c0 and c1. It gives up, with an error of
// noLimit, as soon as the error reaches limit.
func fitPacked(block *[16]rgb, c0, c1 uint16, limit int64) candidate {
	if c0 < c1 { // the larger number first says "four colours"
		c0, c1 = c1, c0
	}
	c := candidate{c0: c0, c1: c1}
	colours := palette(c0, c1)
	// The four colours lie on a line, so the nearest is found by how far along it a texel lies,
	// held against the middles between neighbours: from c1 (choice 1) over 3 and 2 to c0 (choice
	// 0). With c0 = c1 the axis is zero and choice 0 is taken throughout.
	axis := rgb{colours[0][0] - colours[1][0], colours[0][1] - colours[1][1], colours[0][2] - colours[1][2]}
	along := func(p *rgb) int32 { return p[0]*axis[0] + p[1]*axis[1] + p[2]*axis[2] }
	at1, at3, at2, at0 := along(&colours[1]), along(&colours[3]), along(&colours[2]), along(&colours[0])
	low, middle, high := at1+at3, at3+at2, at2+at0
	for i := range block {
		p := &block[i]
		d := 2 * along(p)
		choice := uint32(0)
		switch {
		case d >= high:
		case d >= middle:
			choice = 2
		case d >= low:
			choice = 3
		default:
			choice = 1
		}
		q := &colours[choice]
		dr, dg, db := p[0]-q[0], p[1]-q[1], p[2]-q[2]
		c.err += int64(dr*dr + dg*dg + db*db)
		if c.err >= limit {
			c.err = noLimit
			return c
		}
		c.choices |= choice << (2 * i)
	}
	return c
}

// minSquaresColours finds the pair of colours that fits the choices best; ok is false when they all are the same.
func minSquaresColours(block *[16]rgb, c candidate) (a, b rgb, ok bool) {
	share := [4]int32{3, 0, 2, 1} // thirds of the first colour by choice
	var aa, a1 int32
	var pa, all rgb
	for i := range block {
		p := &block[i]
		w := share[c.choices>>(2*i)&3]
		aa, a1 = aa+w*w, a1+w
		pa[0], pa[1], pa[2] = pa[0]+w*p[0], pa[1]+w*p[1], pa[2]+w*p[2]
		all[0], all[1], all[2] = all[0]+p[0], all[1]+p[1], all[2]+p[2]
	}
	ab := 3*a1 - aa // the other share is three less the first
	bb := 16*9 - 6*a1 + aa
	det := aa*bb - ab*ab
	if det == 0 {
		return a, b, false
	}
	for k := range 3 {
		pb := 3*all[k] - pa[k]
		a[k] = min(max(divRound32(3*(bb*pa[k]-ab*pb), det), 0), 255)
		b[k] = min(max(divRound32(3*(aa*pb-ab*pa[k]), det), 0), 255)
	}
	return a, b, true
}

func divRound32(n, d int32) int32 { // d > 0
	if n < 0 {
		return -((-n + d/2) / d)
	}
	return (n + d/2) / d
}

func divRound(n, d int64) int64 { // d > 0
	if n < 0 {
		return -((-n + d/2) / d)
	}
	return (n + d/2) / d
}

// nudge tries each channel of each colour one step up and down, which mends what rounding to 5 and 6 bits spoilt; in
// a block of one colour it finds the pair whose mixture comes nearest. When hinted, only the steps towards the least
// squares are tried, where there are any.
func nudge(block *[16]rgb, best candidate, hinted bool) candidate {
	if best.err == 0 {
		return best
	}
	fit := func(c0, c1 uint16, limit int64) candidate { return fitPacked(block, c0, c1, limit) }
	a, b, ok := rgb{}, rgb{}, false
	if hinted {
		a, b, ok = minSquaresColours(block, best)
	}
	if hinted && !ok { // all texels take one choice: nearly one colour
		var sum rgb
		for i := range block {
			for k := range 3 {
				sum[k] += block[i][k]
			}
		}
		c0, c1 := single(rgb{(sum[0] + 8) / 16, (sum[1] + 8) / 16, (sum[2] + 8) / 16})
		if next := fit(c0, c1, best.err); next.err < best.err {
			best = next
		}
		a, b, ok = minSquaresColours(block, best)
	}
	if !ok {
		return nudgeBy(best, fit)
	}
	x, y := unpack(best.c0), unpack(best.c1)
	for k, f := range fields {
		mask := uint16(1<<f.bits - 1)
		for which, off := range [2]int32{a[k] - x[k], b[k] - y[k]} {
			if off == 0 {
				continue
			}
			c := [2]uint16{best.c0, best.c1}
			v := int(c[which]>>f.shift&mask) + 1
			if off < 0 {
				v -= 2
			}
			if v < 0 || v > int(mask) {
				continue
			}
			c[which] = c[which]&^(mask<<f.shift) | uint16(v)<<f.shift
			if next := fit(c[0], c[1], best.err); next.err < best.err {
				if next.c0 != c[0] { // turned round: the hints no longer fit
					return next
				}
				best = next
			}
		}
	}
	return best
}

// fields are where a packed colour keeps its channels.
var fields = [3]struct{ shift, bits uint }{{11, 5}, {5, 6}, {0, 5}}

// nudgeBy is nudge without hints, with any way to fit a pair.
func nudgeBy(best candidate, fit func(c0, c1 uint16, limit int64) candidate) candidate {
	for _, f := range fields {
		mask := uint16(1<<f.bits - 1)
		for _, d := range [...][2]int{{0, 1}, {0, -1}, {1, 0}, {-1, 0}} {
			if best.err == 0 {
				return best
			}
			v0 := int(best.c0>>f.shift&mask) + d[0]
			v1 := int(best.c1>>f.shift&mask) + d[1]
			if min(v0, v1) < 0 || max(v0, v1) > int(mask) {
				continue
			}
			next := fit(best.c0&^(mask<<f.shift)|uint16(v0)<<f.shift, best.c1&^(mask<<f.shift)|uint16(v1)<<f.shift,
				best.err)
			if next.err < best.err {
				best = next
			}
		}
	}
	return best
}
