package texture

import (
	"encoding/binary"
	"fmt"
)

// DDS with the DX10 header, which names format and colour space; without it sRGB could not be told from linear.

const (
	ddsHeader = 4 + 124 + 20
	// Flags of the header: caps, height, width, pixel format, mip count; pitch or linear size.
	ddsFlags, ddsPitch, ddsLinearSize = 0x1 | 0x2 | 0x4 | 0x1000 | 0x20000, 0x8, 0x80000
	ddsCaps                           = 0x1000 | 0x8 | 0x400000 // texture, complex, mipmap
)

func (t *Texture) dds() []byte {
	le := binary.LittleEndian
	transfer := 0
	if t.SRGB {
		transfer = 1
	}
	flags, pitch := uint32(ddsFlags|ddsPitch), uint32(t.Width*layouts[t.Format].bytes)
	if layouts[t.Format].block == 4 {
		flags, pitch = ddsFlags|ddsLinearSize, uint32(len(t.Levels[0]))
	}
	out := []byte("DDS ")
	u32 := func(v ...uint32) {
		for _, x := range v {
			out = le.AppendUint32(out, x)
		}
	}
	u32(124, flags, uint32(t.Height), uint32(t.Width), pitch, 0, uint32(len(t.Levels)))
	u32(make([]uint32, 11)...)
	u32(32, 0x4) // pixel format: by four letters
	out = append(out, "DX10"...)
	u32(0, 0, 0, 0, 0)
	u32(ddsCaps, 0, 0, 0, 0)
	u32(layouts[t.Format].dxgi[transfer], 3, 0, 1, 0) // a 2D texture, one of it
	for _, l := range t.Levels {
		out = append(out, l...)
	}
	return out
}

func readDDS(data []byte) (*Texture, error) {
	le := binary.LittleEndian
	if len(data) < ddsHeader || le.Uint32(data[4:]) != 124 || string(data[84:88]) != "DX10" {
		return nil, fmt.Errorf("it is no DDS file with a DX10 header, the form that this version reads")
	}
	t := &Texture{Height: int(le.Uint32(data[12:])), Width: int(le.Uint32(data[16:]))}
	number, found := le.Uint32(data[128:]), false
	for f, l := range layouts { // BC1A has BC1's number, and is read as BC1; its see-through texels come back all the same
		for srgb, n := range l.dxgi {
			if n != 0 && n == number && !found {
				t.Format, t.SRGB, found = Format(f), srgb == 1, true
			}
		}
	}
	if !found || le.Uint32(data[132:]) != 3 || le.Uint32(data[140:]) != 1 {
		return nil, fmt.Errorf("DDS format number %d is not one that this version reads, or no 2D texture", number)
	}
	return t, t.split(data[ddsHeader:], int(max(le.Uint32(data[28:]), 1)))
}
