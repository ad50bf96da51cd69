package texture

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// DDS with the DX10 header, which names format, colour space and array, or in the older form
// without it, which many games want: the format is then named by four letters or by masks, and sRGB
// can't be told from linear.

const (
	ddsHead    = 4 + 124
	ddsExtra   = 20 // the DX10 header
	ddsPitch   = 0x8
	ddsSize    = 0x80000
	ddsBasic   = 0x1 | 0x2 | 0x4 | 0x1000 // caps, height, width, pixel format
	ddsLevels  = 0x20000
	ddsTexture = 0x1000
	ddsComplex = 0x8
	ddsMipmap  = 0x400000
	ddsCube    = 0x200 | 0xfc00 // with all six faces
	ddsAlpha   = 0x1            // flags of the pixel format
	ddsFour    = 0x4
	ddsRGB     = 0x40
	ddsGrey    = 0x20000
)

// ddsPlain is how a format is named without the DX10 header.
type ddsPlain struct {
	flags uint32
	four  string
	bits  uint32
	masks [4]uint32
}

var ddsPlains = map[Format]ddsPlain{
	BC1: {flags: ddsFour, four: "DXT1"}, BC1A: {flags: ddsFour | ddsAlpha, four: "DXT1"},
	BC2: {flags: ddsFour, four: "DXT3"}, BC3: {flags: ddsFour, four: "DXT5"},
	BC4: {flags: ddsFour, four: "ATI1"}, BC5: {flags: ddsFour, four: "ATI2"},
	RGBA16F: {flags: ddsFour, four: "q\x00\x00\x00"},
	RGBA8:   {flags: ddsRGB | ddsAlpha, bits: 32, masks: [4]uint32{0xff, 0xff00, 0xff0000, 0xff000000}},
	R8:      {flags: ddsGrey, bits: 8, masks: [4]uint32{0xff}},
	RG8:     {flags: ddsGrey | ddsAlpha, bits: 16, masks: [4]uint32{0xff, 0, 0, 0xff00}},
}

func (t *Texture) dds(plain bool) ([][]byte, error) {
	le := binary.LittleEndian
	l := layouts[t.Format]
	form := ddsPlain{flags: ddsFour, four: "DX10"}
	if plain {
		var ok bool
		if form, ok = ddsPlains[t.Format]; !ok || t.Shape == Array {
			return nil, fmt.Errorf("a DDS file without the DX10 header can hold neither an array nor %s and %s", BC6H,
				BC7)
		}
	}
	flags, pitch := uint32(ddsBasic|ddsPitch), uint32(t.Width*l.bytes)
	if l.block == 4 {
		flags, pitch = ddsBasic|ddsSize, uint32(t.Format.levelSize(t.Width, t.Height))
	}
	caps, caps2 := uint32(ddsTexture), uint32(0)
	if len(t.Levels) > 1 {
		flags, caps = flags|ddsLevels, caps|ddsComplex|ddsMipmap
	}
	if t.Shape == Cube {
		caps, caps2 = caps|ddsComplex, ddsCube
	}
	out := []byte("DDS ")
	u32 := func(v ...uint32) {
		for _, x := range v {
			out = le.AppendUint32(out, x)
		}
	}
	u32(124, flags, uint32(t.Height), uint32(t.Width), pitch, 0, uint32(len(t.Levels)))
	u32(make([]uint32, 11)...)
	u32(32, form.flags)
	out = append(out, (form.four + "\x00\x00\x00\x00")[:4]...)
	u32(form.bits, form.masks[0], form.masks[1], form.masks[2], form.masks[3])
	u32(caps, caps2, 0, 0, 0)
	if !plain {
		transfer, misc, images := 0, uint32(0), uint32(t.Images)
		if t.SRGB {
			transfer = 1
		}
		if t.Shape == Cube {
			misc, images = 0x4, 1
		}
		u32(l.dxgi[transfer], 3, misc, images, 0) // 3: two dimensions
	}
	parts := [][]byte{out}
	for i := range t.Images { // image by image here, level by level in memory
		for level := range t.Levels {
			parts = append(parts, t.stored(level, i))
		}
	}
	return parts, nil
}

func readDDS(data []byte) (*Texture, error) {
	le := binary.LittleEndian
	if len(data) < ddsHead || le.Uint32(data[4:]) != 124 {
		return nil, errors.New("the DDS header is cut short or damaged")
	}
	t := &Texture{Height: int(le.Uint32(data[12:])), Width: int(le.Uint32(data[16:])), Images: 1}
	levels := int(max(le.Uint32(data[28:]), 1))
	var err error
	if string(data[84:88]) == "DX10" {
		if len(data) < ddsHead+ddsExtra {
			return nil, errors.New("the DDS header is cut short")
		}
		err = t.readDX10(data[ddsHead:])
		data = data[ddsHead+ddsExtra:]
	} else {
		err = t.readPlain(data)
		data = data[ddsHead:]
	}
	if err == nil {
		err = t.believe(levels)
	}
	if err != nil {
		return nil, err
	}
	t.Levels = make([][]byte, levels)
	for i := range t.Images {
		for level := range levels {
			w, h := t.LevelBounds(level)
			n := t.Format.levelSize(w, h)
			if n > len(data) {
				return nil, fmt.Errorf("the texture is cut short in level %d of image %d", level, i+1)
			}
			t.Levels[level] = append(t.Levels[level], data[:n]...)
			data = data[n:]
		}
	}
	return t, nil
}

// readDX10 reads the DX10 header.
func (t *Texture) readDX10(head []byte) error {
	le := binary.LittleEndian
	number, found := le.Uint32(head), false
	// BC1A has BC1's number, and is read as BC1; its see-through texels come back all the same
	for f, l := range layouts {
		for srgb, n := range l.dxgi {
			if n != 0 && n == number && !found {
				t.Format, t.SRGB, found = Format(f), srgb == 1, true
			}
		}
	}
	images := le.Uint32(head[12:])
	switch {
	case !found || le.Uint32(head[4:]) != 3:
		return fmt.Errorf("DDS format number %d is not one that this version reads, or no texture of two dimensions",
			number)
	case le.Uint32(head[8:])&0x4 != 0 && images == 1:
		t.Shape, t.Images = Cube, 6
	case le.Uint32(head[8:])&0x4 != 0 || images < 1 || images > 2048:
		return fmt.Errorf("the DDS file has %d images, or cubes of them, which is not read", images)
	case images > 1:
		t.Shape, t.Images = Array, int(images)
	}
	return nil
}

// readPlain reads the pixel format of the older form.
func (t *Texture) readPlain(data []byte) error {
	le := binary.LittleEndian
	form := ddsPlain{flags: le.Uint32(data[80:]), bits: le.Uint32(data[88:])}
	for k := range form.masks {
		form.masks[k] = le.Uint32(data[92+4*k:])
	}
	if form.flags&ddsFour != 0 {
		form = ddsPlain{flags: form.flags, four: string(data[84:88])}
		switch form.four {
		case "BC4U":
			form.four = "ATI1"
		case "BC5U":
			form.four = "ATI2"
		case "DXT2", "DXT4":
			return fmt.Errorf("the DDS file has colours multiplied by alpha (%s), which is not read", form.four)
		}
	}
	found := false
	for f := range formatCount {
		p, ok := ddsPlains[f]
		alpha := p.flags&ddsAlpha == form.flags&ddsAlpha || p.four != "" && p.four != "DXT1"
		if ok && alpha && p.flags&^ddsAlpha == form.flags&^ddsAlpha && p.four == form.four && p.bits == form.bits &&
			(p.four != "" || p.masks == form.masks) {
			t.Format, found = f, true
			t.SpaceUntold = !f.HoldsData() && !f.HoldsLight()
			break
		}
	}
	caps2 := le.Uint32(data[112:])
	switch {
	case !found:
		return fmt.Errorf("the DDS file's pixel format %q with %d bits is not one that this version reads", form.four,
			form.bits)
	case caps2&0x200000 != 0:
		return errors.New("the DDS file is a volume, which is not read")
	case caps2&0x200 != 0 && caps2&ddsCube != ddsCube:
		return errors.New("the DDS file is a cube without all six faces, which is not read")
	case caps2&0x200 != 0:
		t.Shape, t.Images = Cube, 6
	}
	return nil
}
