package texture

import (
	"encoding/binary"
	"fmt"
	"slices"
)

// KTX 2.0, section numbers after the Khronos specification: header (3), level index (3.9), data format descriptor
// (Khronos Data Format 1.3), key/value data (3.11), levels from the smallest to the largest.

const ktx2Magic = "\xabKTX 20\xbb\r\n\x1a\n"

func (t *Texture) ktx2() []byte {
	le := binary.LittleEndian
	transfer := 0
	if t.SRGB {
		transfer = 1
	}
	dfd := descriptor(t.Format, t.SRGB)
	var kvd []byte
	for _, kv := range [][2]string{{"KTXorientation", "rd"}, {"KTXwriter", "vornix"}} {
		entry := kv[0] + "\x00" + kv[1] + "\x00"
		kvd = le.AppendUint32(kvd, uint32(len(entry)))
		kvd = append(kvd, entry...)
		kvd = append(kvd, make([]byte, (4-len(kvd)%4)%4)...)
	}
	n := len(t.Levels)
	dfdAt := 80 + 24*n
	kvdAt := dfdAt + len(dfd)
	out := []byte(ktx2Magic)
	for _, v := range []uint32{layouts[t.Format].vulkan[transfer], 1, uint32(t.Width), uint32(t.Height), 0, 0, 1, uint32(n), 0,
		uint32(dfdAt), uint32(len(dfd)), uint32(kvdAt), uint32(len(kvd))} {
		out = le.AppendUint32(out, v)
	}
	out = append(out, make([]byte, 16)...)       // no global data of a supercompression
	alignment := max(layouts[t.Format].bytes, 4) // the least common multiple of a block's size and 4
	at := kvdAt + len(kvd)
	offsets := make([]int, n)
	for i := n - 1; i >= 0; i-- {
		at = (at + alignment - 1) / alignment * alignment
		offsets[i] = at
		at += len(t.Levels[i])
	}
	for i, l := range t.Levels {
		out = le.AppendUint64(out, uint64(offsets[i]))
		out = le.AppendUint64(out, uint64(len(l)))
		out = le.AppendUint64(out, uint64(len(l)))
	}
	out = append(append(out, dfd...), kvd...)
	for i := n - 1; i >= 0; i-- {
		out = append(out, make([]byte, offsets[i]-len(out))...)
		out = append(out, t.Levels[i]...)
	}
	return out
}

// descriptor is the basic data format descriptor block.
func descriptor(f Format, srgb bool) []byte {
	const primariesBT709, transferLinear, transferSRGB, qualifierLinear = 1, 1, 2, 0x10
	l := layouts[f]
	transfer, dimension := byte(transferLinear), byte(l.block-1)
	if srgb {
		transfer = transferSRGB
	}
	samples := slices.Clone(l.samples)
	for i := range samples {
		if srgb && samples[i].channel == channelAlpha {
			samples[i].channel |= qualifierLinear // alpha never follows the transfer function
		}
	}
	le := binary.LittleEndian
	size := 24 + 16*len(samples)
	b := le.AppendUint32(nil, uint32(size+4))
	b = le.AppendUint32(b, 0) // vendor Khronos, type basic
	b = le.AppendUint16(b, 2) // version 1.3 of the data format
	b = le.AppendUint16(b, uint16(size))
	b = append(b, l.model, primariesBT709, transfer, 0, dimension, dimension, 0, 0, byte(l.bytes), 0, 0, 0, 0, 0, 0, 0)
	for _, s := range samples {
		b = le.AppendUint16(b, s.offset)
		b = append(b, s.length, s.channel, 0, 0, 0, 0)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint32(b, s.upper)
	}
	return b
}

func readKTX2(data []byte) (*Texture, error) {
	le := binary.LittleEndian
	if len(data) < 80 {
		return nil, fmt.Errorf("the KTX2 header is cut short")
	}
	field := func(i int) uint32 { return le.Uint32(data[12+4*i:]) }
	t := &Texture{Width: int(field(2)), Height: int(field(3))}
	found := false
	for f, l := range layouts {
		for srgb, number := range l.vulkan {
			if number != 0 && field(0) == number {
				t.Format, t.SRGB, found = Format(f), srgb == 1, true
			}
		}
	}
	levels := int(field(7))
	switch {
	case !found:
		return nil, fmt.Errorf("KTX2 format number %d is not one that this version reads", field(0))
	case field(4) > 1 || field(5) > 1 || field(6) != 1 || field(8) != 0:
		return nil, fmt.Errorf("the KTX2 file is an array, a cube, a volume or supercompressed, which this version does not read")
	case levels < 1 || levels > 15 || len(data) < 80+24*levels:
		return nil, fmt.Errorf("the KTX2 file has %d levels and %d bytes", levels, len(data))
	}
	var joined []byte
	for i := range levels {
		entry := data[80+24*i:]
		at, n := le.Uint64(entry), le.Uint64(entry[8:])
		if at > uint64(len(data)) || n > uint64(len(data))-at {
			return nil, fmt.Errorf("level %d lies outside the KTX2 file", i)
		}
		w, h := t.LevelBounds(i)
		if t.Width > maxSide || t.Height > maxSide || n != uint64(t.Format.levelSize(w, h)) {
			return nil, fmt.Errorf("level %d of the KTX2 file has %d bytes, which does not fit its size", i, n)
		}
		joined = append(joined, data[at:at+n]...)
	}
	return t, t.split(joined, levels)
}
