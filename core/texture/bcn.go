package texture

import (
	"encoding/binary"
	"image"
)

// The other block formats are made of two kinds of half blocks beside that of BC1: eight bytes for a channel of its own
// (BC4, the alpha of BC3, both of BC5) and eight bytes of plain 4-bit alpha (BC2). Khronos Data Format 1.3, chapter 18.

// channelBlock packs sixteen values into two ends and a 3-bit choice each. With the larger end first, eight values lie
// evenly between; with the smaller first, six do, and the last two choices are 0 and 255.
func channelBlock(out []byte, v *[16]uint8) []byte {
	low, high := v[0], v[0]
	innerLow, innerHigh, inner := uint8(255), uint8(0), false
	for _, x := range v {
		low, high = min(low, x), max(high, x)
		if x != 0 && x != 255 {
			innerLow, innerHigh, inner = min(innerLow, x), max(innerHigh, x), true
		}
	}
	best, bestErr := channelFit(v, high, low)
	try := func(a, b uint8) {
		if c, err := channelFit(v, a, b); err < bestErr {
			best, bestErr = c, err
		}
	}
	for i := uint8(0); i < 4 && bestErr > 0; i++ { // ends drawn in a little spread their error over more texels
		for j := uint8(0); j < 4; j++ {
			if int(high)-int(i) > int(low)+int(j) {
				try(high-i, low+j)
			}
		}
	}
	if bestErr > 0 && inner && (low == 0 || high == 255) {
		try(innerLow, innerHigh)
	}
	return binary.LittleEndian.AppendUint64(out, best)
}

// channelFit chooses the nearest value for each texel between two ends.
func channelFit(v *[16]uint8, a, b uint8) (block uint64, err int) {
	values := channelValues(a, b)
	block = uint64(a) | uint64(b)<<8
	for i, x := range v {
		best, choice := 1<<30, 0
		for j, y := range values {
			if d := (int(x) - int(y)) * (int(x) - int(y)); d < best {
				best, choice = d, j
			}
		}
		err += best
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
func cutOutBlock(out []byte, block *[16]rgb, seen uint16) []byte {
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
	c0, c1 := pack(low), pack(high)
	if c0 > c1 {
		c0, c1 = c1, c0
	}
	a, b := unpack(c0), unpack(c1)
	colours := [3]rgb{a, b, {(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2}}
	var choices uint32
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
		}
		choices |= choice << (2 * i)
	}
	out = binary.LittleEndian.AppendUint16(out, c0)
	out = binary.LittleEndian.AppendUint16(out, c1)
	return binary.LittleEndian.AppendUint32(out, choices)
}

// tile is a block of texels taken from an image; edges repeat.
type tile struct {
	colour  [16]rgb
	r, g, a [16]uint8
	seen    uint16 // by bit: whether a texel is at least half opaque
}

func (b *tile) load(img *image.NRGBA, bx, by int) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	b.seen = 0
	for i := range 16 {
		x, y := min(bx+i&3, w-1), min(by+i>>2, h-1)
		p := img.Pix[y*img.Stride+x*4:][:4]
		b.colour[i] = rgb{int32(p[0]), int32(p[1]), int32(p[2])}
		b.r[i], b.g[i], b.a[i] = p[0], p[1], p[3]
		if p[3] >= 128 {
			b.seen |= 1 << i
		}
	}
}

// append packs the block in a format.
func (b *tile) append(out []byte, f Format) []byte {
	switch f {
	case BC1A:
		if b.seen != 0xffff {
			return cutOutBlock(out, &b.colour, b.seen)
		}
	case BC2:
		out = alphaBlock(out, &b.a)
	case BC3:
		out = channelBlock(out, &b.a)
	case BC4:
		return channelBlock(out, &b.r)
	case BC5:
		return channelBlock(channelBlock(out, &b.r), &b.g)
	}
	return appendBlock(out, &b.colour)
}

// decodeBlocks unpacks a level of a block format, whose data has the right length. One channel comes back as grey, two
// as red and green.
func decodeBlocks(f Format, data []byte, w, h int) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for by := 0; by < h; by += 4 {
		for bx := 0; bx < w; bx += 4 {
			texels := readBlock(f, data)
			data = data[layouts[f].bytes:]
			for i, t := range texels {
				if x, y := bx+i&3, by+i>>2; x < w && y < h {
					copy(img.Pix[y*img.Stride+x*4:], t[:])
				}
			}
		}
	}
	return img
}

// readBlock unpacks one block.
func readBlock(f Format, data []byte) (texels [16][4]uint8) {
	switch f {
	case BC4:
		for i, v := range readChannel(data) {
			texels[i] = [4]uint8{v, v, v, 255}
		}
		return texels
	case BC5:
		r, g := readChannel(data), readChannel(data[8:])
		for i := range texels {
			texels[i] = [4]uint8{r[i], g[i], 0, 255}
		}
		return texels
	case BC2, BC3:
		texels = readColours(data[8:], false)
		alpha := readAlpha
		if f == BC3 {
			alpha = readChannel
		}
		for i, v := range alpha(data) {
			texels[i][3] = v
		}
		return texels
	}
	return readColours(data, true)
}

// readColours unpacks a colour half block. In BC1 the order of the two colours chooses between four colours and three
// with nothing; in BC2 and BC3 there always are four.
func readColours(data []byte, order bool) (texels [16][4]uint8) {
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
