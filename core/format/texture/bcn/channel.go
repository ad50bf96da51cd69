package bcn

import "encoding/binary"

// The other block formats are made of two kinds of half blocks beside that of BC1: eight bytes for a channel of its own
// (BC4, the alpha of BC3, both of BC5) and eight bytes of plain 4-bit alpha (BC2). Khronos Data Format 1.3, chapter 18.

// channelBlock packs sixteen values into two ends and a 3-bit choice each. With the larger end first, eight values lie
// evenly between; with the smaller first, six do, and the last two choices are 0 and 255.
func channelBlock(out []byte, v *[16]uint8, q Quality) []byte {
	low, high := v[0], v[0]
	innerLow, innerHigh := uint8(255), uint8(0)
	for _, x := range v {
		low, high = min(low, x), max(high, x)
		if x != 0 && x != 255 {
			innerLow, innerHigh = min(innerLow, x), max(innerHigh, x)
		}
	}
	s := channelSearch{v: v, err: noLimit}
	if low != high && high-low <= 7 { // values that lie so near are all there between ends seven apart
		s.try(min(int(low)+7, 255), min(int(low)+7, 255)-7)
	}
	s.try(int(high), int(low))
	reach := 4 // ends drawn in a little spread their error over more texels
	if q == Draft {
		reach = 2
	}
	for i := range reach {
		for j := 0; j < reach && s.err > 0; j++ {
			if int(high)-i > int(low)+j {
				s.try(int(high)-i, int(low)+j)
			}
		}
	}
	inner := innerLow <= innerHigh && (low == 0 || high == 255)
	if s.err > 0 && inner {
		s.try(int(innerLow), int(innerHigh))
	}
	if enough := [...]int64{Normal: 16, Draft: noLimit, Best: 0, Exhaustive: 0}[q]; s.err > enough {
		steps := [...]int{Normal: 1, Best: 3, Exhaustive: 255}[q]
		s.spread(int(low), int(high), 7)
		s.descend(steps)
		eight := s
		if innerLow <= innerHigh {
			s.err = noLimit
			s.try(int(innerLow), int(innerHigh))
			s.spread(int(innerLow), int(innerHigh), 5)
			s.descend(steps)
		}
		if eight.err <= s.err {
			s = eight
		}
	}
	return binary.LittleEndian.AppendUint64(out, s.block)
}

// channelSearch keeps the best block found so far.
type channelSearch struct {
	v     *[16]uint8
	a, b  int
	block uint64
	err   int64
}

func (s *channelSearch) try(a, b int) {
	if min(a, b) < 0 || max(a, b) > 255 {
		return
	}
	if block, err := channelFit(s.v, uint8(a), uint8(b), s.err); err < s.err {
		s.a, s.b, s.block, s.err = a, b, block, err
	}
}

// spread tries ends between which the lowest and the highest value come to lie on any two of the
// even steps, not just at the ends: values that gather at few places are met better so. steps is 7,
// or 5 for the order of ends with 0 and 255.
func (s *channelSearch) spread(low, high, steps int) {
	for p := 0; p < steps; p++ {
		for q := p + 1; q <= steps && s.err > 0; q++ {
			span := q - p
			bottom := low - (p*(high-low)+span/2)/span
			top := high + ((steps-q)*(high-low)+span/2)/span
			bottom, top = max(bottom, 0), min(top, 255)
			if steps == 7 {
				s.try(top, bottom)
			} else {
				s.try(bottom, top)
			}
		}
	}
}

// descend moves both ends by up to some steps as long as that helps, in the order of ends that is chosen.
func (s *channelSearch) descend(steps int) {
	for {
		a, b, before := s.a, s.b, s.err
		for i := -steps; i <= steps; i++ {
			for j := -steps; j <= steps; j++ {
				if (a+i > b+j) == (a > b) {
					s.try(a+i, b+j)
				}
			}
		}
		if s.err == before {
			return
		}
	}
}

// channelFit chooses the nearest value for each texel between two ends. It gives up, with an error
// of noLimit, as soon as the error reaches limit.
func channelFit(v *[16]uint8, a, b uint8, limit int64) (block uint64, err int64) {
	values := channelValues(a, b)
	block = uint64(a) | uint64(b)<<8
	steps, span := int32(7), int32(a)-int32(b)
	if a <= b {
		steps = 5
	}
	inverse := int32(0)
	if span != 0 {
		inverse = steps << 16 / span
	}
	for i, x := range v {
		at := min(max((int32(a)-int32(x))*inverse+1<<15, 0)>>16, steps) // how far from a to b, in steps
		choice := at + 1
		switch at {
		case 0:
			choice = 0
		case steps:
			choice = 1
		}
		d := int32(x) - int32(values[choice])
		d *= d
		if a <= b {
			if e := int32(x) * int32(x); e < d {
				d, choice = e, 6
			}
			if e := (255 - int32(x)) * (255 - int32(x)); e < d {
				d, choice = e, 7
			}
		}
		if err += int64(d); err >= limit {
			return 0, noLimit
		}
		block |= uint64(choice) << (16 + 3*i)
	}
	return block, err
}

// channelValues are the eight values between two ends, in the order of the stored choices.
func channelValues(a, b uint8) [8]uint8 {
	v := [8]uint8{a, b}
	x, y := int(a), int(b)
	if a > b {
		for i := 1; i < 7; i++ {
			v[i+1] = uint8(((7-i)*x + i*y + 3) / 7)
		}
		return v
	}
	for i := 1; i < 5; i++ {
		v[i+1] = uint8(((5-i)*x + i*y + 2) / 5)
	}
	v[6], v[7] = 0, 255
	return v
}

// readChannel unpacks a channel's half block.
func readChannel(data []byte) (v [16]uint8) {
	bits := binary.LittleEndian.Uint64(data)
	values := channelValues(data[0], data[1])
	for i := range v {
		v[i] = values[bits>>(16+3*i)&7]
	}
	return v
}

// alphaBlock packs sixteen alphas as 4 bits each.
func alphaBlock(out []byte, v *[16]uint8) []byte {
	var bits uint64
	for i, x := range v {
		bits |= uint64((int(x)*15+127)/255) << (4 * i)
	}
	return binary.LittleEndian.AppendUint64(out, bits)
}

func readAlpha(data []byte) (v [16]uint8) {
	bits := binary.LittleEndian.Uint64(data)
	for i := range v {
		v[i] = uint8(bits>>(4*i)&15) * 17
	}
	return v
}

// cutOutBlock packs a BC1 block in which some texels are see-through: the smaller colour first says "three colours, and
// the fourth choice is nothing".
func cutOutBlock(out []byte, block *[16]rgb, seen uint16, q Quality) []byte {
	if seen == 0 {
		return append(out, 0, 0, 0, 0, 255, 255, 255, 255)
	}
	opaque := *block
	first := 0
	for seen>>first&1 == 0 {
		first++
	}
	for i := range opaque {
		if seen>>i&1 == 0 {
			opaque[i] = opaque[first] // what nobody sees must not pull at the ends
		}
	}
	low, high := principalEnds(&opaque)
	best := cutOutFit(block, seen, pack(low), pack(high), noLimit)
	rounds := [...]int{Draft: 0, Normal: 1, Best: 6, Exhaustive: 20}[q]
	for range rounds {
		next := nudgeBy(best,
			func(c0, c1 uint16, limit int64) candidate { return cutOutFit(block, seen, c0, c1, limit) })
		if next.err >= best.err {
			break
		}
		best = next
	}
	out = binary.LittleEndian.AppendUint16(out, best.c0)
	out = binary.LittleEndian.AppendUint16(out, best.c1)
	return binary.LittleEndian.AppendUint32(out, best.choices)
}

// cutOutFit chooses, for each texel that is seen, the nearest of the two colours and their middle.
func cutOutFit(block *[16]rgb, seen, c0, c1 uint16, limit int64) candidate {
	if c0 > c1 { // the smaller number first says "three colours and nothing"
		c0, c1 = c1, c0
	}
	c := candidate{c0: c0, c1: c1}
	x, y := unpack(c0), unpack(c1)
	colours := [3]rgb{x, y, {(x[0] + y[0]) / 2, (x[1] + y[1]) / 2, (x[2] + y[2]) / 2}}
	for i, p := range block {
		choice := uint32(3)
		if seen>>i&1 == 1 {
			best := int32(1 << 30)
			for j, q := range colours {
				dr, dg, db := p[0]-q[0], p[1]-q[1], p[2]-q[2]
				if d := dr*dr + dg*dg + db*db; d < best {
					best, choice = d, uint32(j)
				}
			}
			if c.err += int64(best); c.err >= limit {
				c.err = noLimit
				return c
			}
		}
		c.choices |= choice << (2 * i)
	}
	return c
}

// readColours unpacks a colour half block. In BC1 the order of the two colours chooses between four colours and three
// with nothing; in BC2 and BC3 there always are four.
func readColours(data []byte, order bool) (texels Texels) {
	c0, c1 := binary.LittleEndian.Uint16(data), binary.LittleEndian.Uint16(data[2:])
	choices := binary.LittleEndian.Uint32(data[4:])
	colours := palette(c0, c1)
	alpha := [4]uint8{255, 255, 255, 255}
	if order && c0 <= c1 {
		for k := range 3 {
			colours[2][k] = (colours[0][k] + colours[1][k]) / 2
		}
		colours[3], alpha[3] = rgb{}, 0
	}
	for i := range texels {
		j := choices >> (2 * i) & 3
		texels[i] = [4]uint8{uint8(colours[j][0]), uint8(colours[j][1]), uint8(colours[j][2]), alpha[j]}
	}
	return texels
}
