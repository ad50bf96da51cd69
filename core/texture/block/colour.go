package block

import "encoding/binary"

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
	best := fit(block, low, high)
	rounds := 3
	switch q {
	case Draft:
		rounds = 1
	case Best, Exhaustive:
		rounds = 8
	}
	for range rounds { // each round of least squares can only be kept when it is better
		a, b, ok := leastSquaresColours(block, best)
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
		next := nudge(block, best)
		better := next.err < best.err
		if best = next; !better || q == Normal {
			break
		}
		if a, b, ok := leastSquaresColours(block, best); ok {
			if next := fit(block, a, b); next.err < best.err {
				best = next
			}
		}
	}
	out = binary.LittleEndian.AppendUint16(out, best.c0)
	out = binary.LittleEndian.AppendUint16(out, best.c1)
	return binary.LittleEndian.AppendUint32(out, best.choices)
}

// principalEnds finds the two texels that lie farthest apart along the block's principal axis.
func principalEnds(block *[16]rgb) (low, high rgb) {
	var sum rgb
	for _, p := range block {
		for k := range 3 {
			sum[k] += p[k]
		}
	}
	var cov [3][3]int64
	for _, p := range block {
		var d [3]int64
		for k := range 3 {
			d[k] = int64(p[k]*16 - sum[k])
		}
		for i := range 3 {
			for j := range 3 {
				cov[i][j] += d[i] * d[j]
			}
		}
	}
	axis := [3]int64{cov[0][0], cov[0][1], cov[0][2]} // any row of the covariance leans towards the axis
	for i := 1; i < 3; i++ {
		if cov[i][i] > max(cov[0][0], cov[i-1][i-1]) {
			axis = cov[i]
		}
	}
	for range 4 { // power iteration, kept within 20 bits
		var next [3]int64
		largest := int64(0)
		for i := range 3 {
			for j := range 3 {
				next[i] += cov[i][j] >> 8 * axis[j] >> 4
			}
			largest = max(largest, next[i], -next[i])
		}
		if largest == 0 {
			break
		}
		shift := 0
		for largest>>shift > 1<<20 {
			shift++
		}
		for i := range 3 {
			axis[i] = next[i] >> shift
		}
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
	// The four colours lie on a line, so the nearest is found by how far along it a texel lies, held against the middles
	// between neighbours: from c1 (choice 1) over 3 and 2 to c0 (choice 0). With c0 = c1 the axis is zero and choice 0 is
	// taken throughout.
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

// leastSquaresColours finds the pair of colours that fits the choices best; ok is false when they all are the same.
func leastSquaresColours(block *[16]rgb, c candidate) (a, b rgb, ok bool) {
	share := [4]int64{3, 0, 2, 1} // thirds of the first colour by choice
	var aa, ab, bb int64
	var pa, pb [3]int64
	for i, p := range block {
		wa := share[c.choices>>(2*i)&3]
		wb := 3 - wa
		aa, ab, bb = aa+wa*wa, ab+wa*wb, bb+wb*wb
		for k := range 3 {
			pa[k] += wa * int64(p[k])
			pb[k] += wb * int64(p[k])
		}
	}
	det := aa*bb - ab*ab
	if det == 0 {
		return a, b, false
	}
	for k := range 3 {
		a[k] = int32(min(max(divRound(3*(bb*pa[k]-ab*pb[k]), det), 0), 255))
		b[k] = int32(min(max(divRound(3*(aa*pb[k]-ab*pa[k]), det), 0), 255))
	}
	return a, b, true
}

func divRound(n, d int64) int64 { // d > 0
	if n < 0 {
		return -((-n + d/2) / d)
	}
	return (n + d/2) / d
}

// nudge tries each channel of each colour one step up and down, which mends what rounding to 5 and 6 bits spoilt; in
// a block of one colour it finds the pair whose mixture comes nearest.
func nudge(block *[16]rgb, best candidate) candidate {
	return nudgeBy(best, func(c0, c1 uint16, limit int64) candidate { return fitPacked(block, c0, c1, limit) })
}

// nudgeBy is nudge with any way to fit a pair.
func nudgeBy(best candidate, fit func(c0, c1 uint16, limit int64) candidate) candidate {
	if best.err == 0 {
		return best
	}
	for _, step := range [...]struct {
		shift, bits uint
	}{{11, 5}, {5, 6}, {0, 5}} {
		mask := uint16(1<<step.bits - 1)
		for _, d := range [...][2]int{{0, 1}, {0, -1}, {1, 0}, {-1, 0}} {
			v0 := int(best.c0>>step.shift&mask) + d[0]
			v1 := int(best.c1>>step.shift&mask) + d[1]
			if min(v0, v1) < 0 || max(v0, v1) > int(mask) {
				continue
			}
			next := fit(best.c0&^(mask<<step.shift)|uint16(v0)<<step.shift, best.c1&^(mask<<step.shift)|uint16(v1)<<step.shift, best.err)
			if next.err < best.err {
				best = next
			}
		}
	}
	return best
}
