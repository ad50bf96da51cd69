package texture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// KTX 2.0, section numbers after the Khronos specification: header (3), level index (3.9), data format descriptor
// (Khronos Data Format 1.3), key/value data (3.11), levels from the smallest to the largest.

const (
	ktx2Magic = "\xabKTX 20\xbb\r\n\x1a\n"
	ktx2Zstd  = 2 // the supercompression scheme
)

// One packer serves everybody; with one worker it gives the same bytes on any machine.
var zstdPacker = sync.OnceValues(func() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedBetterCompression))
})

// unpackZstd unpacks just size bytes: what a frame says of its own size, or how many there are, is not believed.
func unpackZstd(packed []byte, size int) ([]byte, error) {
	z, err := zstd.NewReader(bytes.NewReader(packed), zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxWindow(1<<27))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	out, err := io.ReadAll(io.LimitReader(z, int64(size)+1)) // grows with what is really there
	if err == nil && len(out) != size {
		err = fmt.Errorf("it holds %d bytes or more instead of %d", len(out), size)
	}
	return out, err
}

func (t *Texture) ktx2(packed bool) ([][]byte, error) {
	le := binary.LittleEndian
	l := layouts[t.Format]
	transfer, scheme := 0, uint32(0)
	if t.SRGB {
		transfer = 1
	}
	levels := t.Levels
	alignment := max(l.bytes, 4) // the least common multiple of a block's size and 4
	if packed {
		scheme, alignment = ktx2Zstd, 1
		z, err := zstdPacker()
		if err != nil {
			return nil, fmt.Errorf("starting zstd: %w", err)
		}
		levels = nil
		for _, level := range t.Levels {
			levels = append(levels, z.EncodeAll(level, nil))
		}
	}
	dfd := descriptor(t.Format, t.SRGB)
	var kvd []byte
	for _, kv := range [][2]string{{"KTXorientation", "rd"}, {"KTXwriter", "vornix"}} {
		if t.Shape == Cube && kv[0] == "KTXorientation" {
			continue // a cube's is given by its faces
		}
		entry := kv[0] + "\x00" + kv[1] + "\x00"
		kvd = le.AppendUint32(kvd, uint32(len(entry)))
		kvd = append(kvd, entry...)
		kvd = append(kvd, make([]byte, (4-len(kvd)%4)%4)...)
	}
	n := len(levels)
	dfdAt := 80 + 24*n
	kvdAt := dfdAt + len(dfd)
	typeSize, layers, faces := uint32(1), uint32(0), uint32(1)
	if t.Format == RGBA16F {
		typeSize = 2
	}
	switch t.Shape {
	case Array:
		layers = uint32(t.Images)
	case Cube:
		faces = 6
	}
	out := []byte(ktx2Magic)
	for _, v := range []uint32{l.vulkan[transfer], typeSize, uint32(t.Width), uint32(t.Height), 0, layers, faces,
		uint32(n), scheme,
		uint32(dfdAt), uint32(len(dfd)), uint32(kvdAt), uint32(len(kvd))} {
		out = le.AppendUint32(out, v)
	}
	out = append(out, make([]byte, 16)...) // no global data of a supercompression
	at := kvdAt + len(kvd)
	offsets := make([]int, n)
	for i := n - 1; i >= 0; i-- {
		at = (at + alignment - 1) / alignment * alignment
		offsets[i] = at
		at += len(levels[i])
	}
	for i, level := range levels {
		out = le.AppendUint64(out, uint64(offsets[i]))
		out = le.AppendUint64(out, uint64(len(level)))
		out = le.AppendUint64(out, uint64(len(t.Levels[i])))
	}
	parts := [][]byte{append(append(out, dfd...), kvd...)}
	at = kvdAt + len(kvd)
	for i := n - 1; i >= 0; i-- {
		parts = append(parts, make([]byte, offsets[i]-at), levels[i])
		at = offsets[i] + len(levels[i])
	}
	return parts, nil
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
		b = le.AppendUint32(b, s.lower)
		b = le.AppendUint32(b, s.upper)
	}
	return b
}

func readKTX2(data []byte) (*Texture, error) {
	le := binary.LittleEndian
	if len(data) < 80 {
		return nil, errors.New("the KTX2 header is cut short")
	}
	field := func(i int) uint32 { return le.Uint32(data[12+4*i:]) }
	t := &Texture{Width: int(field(2)), Height: int(field(3)), Images: 1}
	found := false
	for f, l := range layouts {
		for srgb, number := range l.vulkan {
			if number != 0 && field(0) == number {
				t.Format, t.SRGB, found = Format(f), srgb == 1, true
			}
		}
	}
	levels, scheme := int(field(7)), field(8)
	switch {
	case !found:
		return nil, fmt.Errorf("KTX2 format number %d is not one that this version reads", field(0))
	case field(4) > 1 || field(6) != 1 && field(6) != 6 || field(6) == 6 && field(5) > 0:
		return nil, errors.New("the KTX2 file is a volume or an array of cubes, which this version does not read")
	case scheme != 0 && scheme != ktx2Zstd:
		return nil, fmt.Errorf("the KTX2 file is packed by scheme %d; unpacked ones and zstd (2) are read", scheme)
	case levels < 1 || levels > 15 || len(data) < 80+24*levels:
		return nil, fmt.Errorf("the KTX2 file has %d levels and %d bytes", levels, len(data))
	}
	switch {
	case field(6) == 6:
		t.Shape, t.Images = Cube, 6
	case field(5) > 0:
		t.Shape, t.Images = Array, int(field(5))
	}
	if err := t.believe(levels); err != nil {
		return nil, err
	}
	for i := range levels {
		entry := data[80+24*i:]
		at, n := le.Uint64(entry), le.Uint64(entry[8:])
		if at > uint64(len(data)) || n > uint64(len(data))-at {
			return nil, fmt.Errorf("level %d lies outside the KTX2 file", i)
		}
		w, h := t.LevelBounds(i)
		size := t.Format.levelSize(w, h) * t.Images
		level := data[at : at+n : at+n]
		if scheme == ktx2Zstd {
			var err error
			if level, err = unpackZstd(level, size); err != nil {
				return nil, fmt.Errorf("level %d of the KTX2 file can't be unpacked: %w", i, err)
			}
		}
		if len(level) != size {
			return nil, fmt.Errorf("level %d of the KTX2 file has %d bytes, which does not fit its size", i, len(level))
		}
		t.Levels = append(t.Levels, level)
	}
	return t, nil
}
