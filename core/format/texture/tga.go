package texture

import (
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
)

// TGA has no magic; a header is believed when all its fields make sense. Kinds 1 (palette), 2
// (colour) and 3 (grey), plain and run-length (plus 8), after the Truevision TGA 2.0 specification.
type tgaHeader struct {
	idLength, paletteKind, kind          byte
	paletteFirst, paletteSize            int
	paletteBits, bits, alphaBits         int
	width, height                        int
	fromRight, fromTop, runLength, mixed bool
}

const tgaHeaderSize = 18

func readTGAHeader(data []byte) (tgaHeader, bool) {
	if len(data) < tgaHeaderSize {
		return tgaHeader{}, false
	}
	le := binary.LittleEndian
	h := tgaHeader{idLength: data[0], paletteKind: data[1], kind: data[2] &^ 8, runLength: data[2]&8 != 0,
		paletteFirst: int(le.Uint16(data[3:])), paletteSize: int(le.Uint16(data[5:])), paletteBits: int(data[7]),
		width: int(le.Uint16(data[12:])), height: int(le.Uint16(data[14:])), bits: int(data[16]),
		alphaBits: int(data[17] & 15), fromRight: data[17]&16 != 0, fromTop: data[17]&32 != 0,
		mixed: data[17]&0xc0 != 0}
	ok := h.width > 0 && h.height > 0 && h.paletteKind <= 1 && data[2] <= 11 && h.alphaBits <= 8
	switch h.kind {
	case 1:
		ok = ok && h.paletteKind == 1 && (h.bits == 8 || h.bits == 16) &&
			(h.paletteBits == 15 || h.paletteBits == 16 || h.paletteBits == 24 || h.paletteBits == 32)
	case 2:
		ok = ok && (h.bits == 15 || h.bits == 16 || h.bits == 24 || h.bits == 32)
	case 3:
		ok = ok && (h.bits == 8 || h.bits == 16)
	default:
		ok = false
	}
	return h, ok
}

// decodeTGA reads a TGA whose header has been believed and bounded.
func decodeTGA(data []byte) (*image.NRGBA, error) {
	h, ok := readTGAHeader(data)
	if !ok {
		return nil, errors.New("it is no TGA")
	}
	if h.mixed {
		return nil, errors.New("the TGA is interleaved, which nothing writes any more")
	}
	short := errors.New("the TGA is cut short")
	at := tgaHeaderSize + int(h.idLength)
	paletteBytes := (h.paletteBits + 7) / 8
	var palette []byte
	if h.paletteKind == 1 {
		if len(data) < at+h.paletteSize*paletteBytes {
			return nil, short
		}
		palette = data[at : at+h.paletteSize*paletteBytes]
		at += len(palette)
	}
	if len(data) < at {
		return nil, short
	}
	size := (h.bits + 7) / 8
	texels, err := tgaTexels(data[at:], h.width*h.height, size, h.runLength)
	if err != nil {
		return nil, err
	}
	img := image.NewNRGBA(image.Rect(0, 0, h.width, h.height))
	seen := false // an alpha channel that is zero everywhere was never painted
	for i := range h.width * h.height {
		x, y := i%h.width, i/h.width
		if h.fromRight {
			x = h.width - 1 - x
		}
		if !h.fromTop {
			y = h.height - 1 - y
		}
		p := texels[i*size:][:size]
		var c color.NRGBA
		switch h.kind {
		case 1:
			n := int(p[0])
			if size == 2 {
				n = int(binary.LittleEndian.Uint16(p))
			}
			if n -= h.paletteFirst; n < 0 || n >= h.paletteSize {
				return nil, fmt.Errorf("the TGA uses colour %d of a palette of %d", n, h.paletteSize)
			}
			c = tgaColour(palette[n*paletteBytes:][:paletteBytes], h.paletteBits, h.paletteBits == 32 ||
				h.alphaBits > 0)
		case 2:
			c = tgaColour(p, h.bits, h.bits == 32 || h.alphaBits > 0)
		case 3:
			c = color.NRGBA{p[0], p[0], p[0], 255}
			if size == 2 {
				c.A = p[1]
			}
		}
		seen = seen || c.A != 0
		img.SetNRGBA(x, y, c)
	}
	if !seen {
		for i := 3; i < len(img.Pix); i += 4 {
			img.Pix[i] = 255
		}
	}
	return img, nil
}

// tgaTexels unpacks n texels of some bytes each.
func tgaTexels(data []byte, n, size int, runLength bool) ([]byte, error) {
	total := n * size
	if !runLength {
		if len(data) < total {
			return nil, errors.New("the TGA is cut short")
		}
		return data[:total], nil
	}
	if len(data)*128 < n { // a packet gives at most 128 texels
		return nil, errors.New("the TGA is cut short")
	}
	out := make([]byte, 0, total)
	for len(out) < total {
		if len(data) < 1+size {
			return nil, errors.New("the TGA is cut short")
		}
		count := int(data[0]&127) + 1
		if data[0] >= 128 {
			for range count {
				out = append(out, data[1:1+size]...)
			}
			data = data[1+size:]
			continue
		}
		if len(data) < 1+count*size {
			return nil, errors.New("the TGA is cut short")
		}
		out = append(out, data[1:1+count*size]...)
		data = data[1+count*size:]
	}
	return out[:total], nil
}

// tgaColour reads a colour: blue first; 15 and 16 bits have five a channel and perhaps one of alpha.
func tgaColour(p []byte, bits int, alpha bool) color.NRGBA {
	c := color.NRGBA{A: 255}
	if bits <= 16 {
		v := binary.LittleEndian.Uint16(p)
		spread := func(v uint16) uint8 { return uint8(v<<3 | v>>2) }
		c.R, c.G, c.B = spread(v>>10&31), spread(v>>5&31), spread(v&31)
		if alpha && bits == 16 && v < 0x8000 {
			c.A = 0
		}
		return c
	}
	c.B, c.G, c.R = p[0], p[1], p[2]
	if bits == 32 && alpha {
		c.A = p[3]
	}
	return c
}
