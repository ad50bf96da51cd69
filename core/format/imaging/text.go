package imaging

import (
	"fmt"
	"image"
	"image/color"
	"strings"
	"unicode"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
)

// Places lists where a line of text can stand.
var Places = []string{"top-left", "top", "top-right", "left", "middle", "right", "bottom-left", "bottom",
	"bottom-right"}

// Text is a line of text in a picture.
type Text struct {
	Line   string
	At     string  // one of Places; empty is bottom-left
	Size   float64 // height of its letters by the picture's
	Colour color.NRGBA
	Font   []byte // TrueType or OpenType; nil: Go Bold
}

// Missing lists the letters of the line that the font does not have.
func (t *Text) Missing() (string, error) {
	f, err := t.parse()
	if err != nil {
		return "", err
	}
	var list []rune
	var b sfnt.Buffer
	for _, r := range t.Line {
		if i, err := f.GlyphIndex(&b, r); !unicode.IsSpace(r) && (err != nil || i == 0) {
			list = append(list, r)
		}
	}
	return string(list), nil
}

func (t *Text) parse() (*opentype.Font, error) {
	data := t.Font
	if data == nil {
		data = gobold.TTF
	}
	f, err := opentype.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("the font can't be read: %w", err)
	}
	return f, nil
}

const (
	// margin is how far from the edge text stands, in its own height.
	margin = 0.7
	// shade is how dark the soft shadow is that keeps text readable on any ground.
	shade = 0.55
)

// draw letters a picture inside its frame. A line that is too long becomes smaller.
func (t *Text) draw(c *canvas, frame int) error {
	f, err := t.parse()
	if err != nil {
		return err
	}
	size := t.Size * float64(c.h)
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72})
	if err != nil {
		return err
	}
	away := frame + int(size*margin)
	if w := font.MeasureString(face, t.Line).Ceil(); w > c.w-2*away {
		size *= max(float64(c.w-2*away), 1) / float64(w)
		if face, err = opentype.NewFace(f, &opentype.FaceOptions{Size: max(size, 1), DPI: 72}); err != nil {
			return err
		}
	}
	w := font.MeasureString(face, t.Line).Ceil()
	m := face.Metrics()
	high := m.CapHeight.Ceil()
	if high <= 0 {
		high = m.Ascent.Ceil()
	}
	at := t.At
	if at == "" {
		at = "bottom-left"
	}
	x, y := (c.w-w)/2, (c.h+high)/2
	switch {
	case strings.HasSuffix(at, "left"):
		x = away
	case strings.HasSuffix(at, "right"):
		x = c.w - away - w
	}
	switch {
	case strings.HasPrefix(at, "top"):
		y = away + high
	case strings.HasPrefix(at, "bottom"):
		y = c.h - away
	}
	mask := image.NewAlpha(image.Rect(0, 0, c.w, c.h))
	d := font.Drawer{Dst: mask, Src: image.Opaque, Face: face, Dot: fixed.P(x, y)}
	d.DrawString(t.Line)
	shadow := newCanvas(c.w, c.h)
	for i, a := range mask.Pix {
		shadow.pix[4*i+3] = float32(a) / 255
	}
	shadow.blur(max(size/6, 1))
	dark, light := [4]float32{0, 0, 0, 1}, linear(t.Colour)
	for i, a := range mask.Pix {
		x, y := i%c.w, i/c.w
		c.blend(x, y, dark, min(shadow.pix[4*i+3]*1.6, 1)*shade)
		c.blend(x, y, light, float32(a)/255)
	}
	return nil
}
