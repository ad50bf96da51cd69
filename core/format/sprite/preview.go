package sprite

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/png"
	"slices"

	"vornix/core/format/texture"
)

// Shown is a picture with how long it is shown.
type Shown struct {
	Image        *image.NRGBA
	Milliseconds int
}

// Play lists what a state shows in a direction, once through: back and forth where it loops so. frames are those of
// Frames; scale enlarges every texel to a square.
func (s *Sheet) Play(frames []*image.NRGBA, a Animation, d Direction, scale int) []Shown {
	var list []Shown
	w, h := 0, 0
	for _, step := range d.Steps {
		w, h = max(w, frames[step.Source].Rect.Dx()), max(h, frames[step.Source].Rect.Dy())
	}
	for _, step := range d.Steps {
		from := frames[step.Source]
		out := image.NewNRGBA(image.Rect(0, 0, w*scale, h*scale))
		for y := range from.Rect.Dy() * scale {
			for x := range from.Rect.Dx() * scale {
				copy(out.Pix[y*out.Stride+4*x:][:4], from.Pix[y/scale*from.Stride+x/scale*4:])
			}
		}
		list = append(list, Shown{out, step.Milliseconds})
	}
	if a.Loop == "back" {
		for i := len(list) - 2; i > 0; i-- {
			list = append(list, list[i])
		}
	}
	return list
}

// GIF writes an animated GIF: up to 255 colours and one bit of alpha, times in hundredths of a second.
func GIF(list []Shown, once bool) ([]byte, error) {
	palette, index := colours(list)
	g := &gif.GIF{}
	if once {
		g.LoopCount = -1
	}
	for _, f := range list {
		p := image.NewPaletted(f.Image.Rect, palette)
		for i := range p.Pix {
			if c := f.Image.Pix[4*i:][:4]; c[3] >= 128 {
				p.Pix[i] = index([3]uint8(c))
			}
		}
		g.Image = append(g.Image, p)
		g.Delay = append(g.Delay, max((f.Milliseconds+5)/10, 1))
		g.Disposal = append(g.Disposal, gif.DisposalBackground)
	}
	var b bytes.Buffer
	err := gif.EncodeAll(&b, g)
	return b.Bytes(), err
}

// colours makes a palette, see-through first: of all colours when they are few enough, else of fewer and fewer bits.
func colours(list []Shown) (color.Palette, func([3]uint8) uint8) {
	for drop := 0; ; drop++ {
		mask := uint8(0xff) << drop
		var order [][3]uint8
		number := map[[3]uint8]uint8{}
		for _, f := range list {
			for i := 0; i < len(f.Image.Pix) && len(order) <= 255; i += 4 {
				if p := f.Image.Pix[i:][:4]; p[3] >= 128 {
					c := [3]uint8{p[0] & mask, p[1] & mask, p[2] & mask}
					if _, ok := number[c]; !ok {
						order = append(order, c)
						number[c] = uint8(len(order))
					}
				}
			}
		}
		if len(order) > 255 {
			continue
		}
		palette := color.Palette{color.NRGBA{}}
		half := uint8(1) << drop >> 1
		for _, c := range order {
			palette = append(palette, color.NRGBA{c[0] | half, c[1] | half, c[2] | half, 255})
		}
		return palette, func(c [3]uint8) uint8 { return number[[3]uint8{c[0] & mask, c[1] & mask, c[2] & mask}] }
	}
}

// APNG writes an animated PNG with all colours and soft alpha; viewers that know only PNG show the first picture.
func APNG(list []Shown, once bool) ([]byte, error) {
	out := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, data []byte) {
		out = binary.BigEndian.AppendUint32(out, uint32(len(data)))
		start := len(out)
		out = append(append(out, kind...), data...)
		out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[start:]))
	}
	be := binary.BigEndian
	sequence := uint32(0)
	for i, f := range list {
		var b bytes.Buffer
		if err := png.Encode(&b, alphaKept{f.Image}); err != nil {
			return nil, err
		}
		head, body, err := pngParts(b.Bytes())
		if err != nil {
			return nil, err
		}
		if i == 0 {
			chunk("IHDR", head)
			plays := uint32(0)
			if once {
				plays = 1
			}
			chunk("acTL", be.AppendUint32(be.AppendUint32(nil, uint32(len(list))), plays))
		}
		control := be.AppendUint32(nil, sequence)
		control = be.AppendUint32(control, uint32(f.Image.Rect.Dx()))
		control = be.AppendUint32(control, uint32(f.Image.Rect.Dy()))
		control = append(control, 0, 0, 0, 0, 0, 0, 0, 0)
		control = be.AppendUint16(control, uint16(min(f.Milliseconds, 65535)))
		control = be.AppendUint16(control, 1000)
		control = append(control, 1, 0) // cleared afterwards, drawn over nothing
		chunk("fcTL", control)
		sequence++
		if i == 0 {
			chunk("IDAT", body)
			continue
		}
		chunk("fdAT", append(be.AppendUint32(nil, sequence), body...))
		sequence++
	}
	chunk("IEND", nil)
	return out, nil
}

// alphaKept hides that an image is opaque, so that every picture of an animation is written with alpha, in one form.
type alphaKept struct{ *image.NRGBA }

// Opaque says no.
func (alphaKept) Opaque() bool { return false }

// ColorModel is that of the form to write.
func (alphaKept) ColorModel() color.Model { return color.NRGBAModel }

// pngParts takes a PNG's header and its joined image data.
func pngParts(data []byte) (head, body []byte, err error) {
	for rest := data[8:]; len(rest) >= 12; {
		n := binary.BigEndian.Uint32(rest)
		if uint64(n)+12 > uint64(len(rest)) {
			break
		}
		switch string(rest[4:8]) {
		case "IHDR":
			head = rest[8 : 8+n]
		case "IDAT":
			body = append(body, rest[8:8+n]...)
		}
		rest = rest[12+n:]
	}
	if head == nil || body == nil {
		return nil, nil, fmt.Errorf("a PNG of %d bytes has no picture", len(data))
	}
	return slices.Clone(head), body, nil
}

// Visible reads an image of the project as the 8-bit texels that sheets are made of.
func Visible(data []byte) (*image.NRGBA, error) {
	img, err := texture.Decode(data)
	if err != nil {
		return nil, err
	}
	return texture.Visible(img), nil
}
