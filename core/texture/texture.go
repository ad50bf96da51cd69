package texture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math/bits"
)

// Version is raised whenever the same image and options would give other bytes.
const Version = 1

// Format is how texels are stored.
type Format uint8

// The formats.
const (
	RGBA8 Format = iota // four bytes a texel
	BC1                 // eight bytes a block of 4x4 texels, opaque
)

var formatNames = [...]string{"rgba8", "bc1"}

func (f Format) String() string { return formatNames[f] }

// ParseFormat is the format of a name.
func ParseFormat(name string) (Format, bool) {
	for i, n := range formatNames {
		if n == name {
			return Format(i), true
		}
	}
	return 0, false
}

// levelSize is the stored size in bytes of a level of w by h texels.
func (f Format) levelSize(w, h int) int {
	if f == BC1 {
		return (w + 3) / 4 * ((h + 3) / 4) * 8
	}
	return w * h * 4
}

// Texture is a 2D texture with its mip levels, the largest first.
type Texture struct {
	Format        Format
	SRGB          bool // colours are sRGB; else linear data
	Width, Height int
	Levels        [][]byte
}

// Options for Compile.
type Options struct {
	Format Format
	SRGB   bool
	Mips   bool
}

// Compile makes a texture of an image. It stops with ctx's error within some rows of blocks.
func Compile(ctx context.Context, img *image.NRGBA, o Options) (*Texture, error) {
	b := img.Bounds()
	t := &Texture{Format: o.Format, SRGB: o.SRGB, Width: b.Dx(), Height: b.Dy()}
	levels := 1
	if o.Mips {
		levels = bits.Len(uint(max(t.Width, t.Height)))
	}
	var linear *plane
	for level := range levels {
		if level > 0 {
			if linear == nil {
				linear = newPlane(img, o.SRGB)
			}
			linear = linear.half()
			img = linear.image(o.SRGB)
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		data, err := encodeLevel(ctx, img, o.Format)
		if err != nil {
			return nil, err
		}
		t.Levels = append(t.Levels, data)
	}
	return t, nil
}

func encodeLevel(ctx context.Context, img *image.NRGBA, f Format) ([]byte, error) {
	if f == BC1 {
		return encodeBC1(ctx, img)
	}
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	out := make([]byte, 0, w*h*4)
	for y := range h {
		out = append(out, img.Pix[y*img.Stride:y*img.Stride+w*4]...)
	}
	return out, nil
}

// LevelBounds is the size of a level.
func (t *Texture) LevelBounds(level int) (w, h int) {
	return max(t.Width>>level, 1), max(t.Height>>level, 1)
}

// Image decodes a level.
func (t *Texture) Image(level int) *image.NRGBA {
	w, h := t.LevelBounds(level)
	if t.Format == BC1 {
		return decodeBC1(t.Levels[level], w, h)
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	copy(img.Pix, t.Levels[level])
	return img
}

// Encode writes the texture in the container of that name: "ktx2" or "dds".
func (t *Texture) Encode(container string) ([]byte, error) {
	switch container {
	case "ktx2":
		return t.ktx2(), nil
	case "dds":
		return t.dds(), nil
	}
	return nil, fmt.Errorf("there is no texture container %q", container)
}

// Read reads a texture in whichever container it is.
func Read(data []byte) (*Texture, error) {
	switch {
	case len(data) >= 12 && string(data[:12]) == ktx2Magic:
		return readKTX2(data)
	case len(data) >= 4 && string(data[:4]) == "DDS ":
		return readDDS(data)
	}
	return nil, errors.New("it is neither KTX2 nor DDS: the first bytes are others")
}

// split cuts data into the levels of t; the order is largest first.
func (t *Texture) split(data []byte, levels int) error {
	if t.Width < 1 || t.Height < 1 || t.Width > maxSide || t.Height > maxSide || levels < 1 || levels > bits.Len(uint(max(t.Width, t.Height))) {
		return fmt.Errorf("a texture of %d x %d with %d levels is not possible", t.Width, t.Height, levels)
	}
	for level := range levels {
		w, h := t.LevelBounds(level)
		n := t.Format.levelSize(w, h)
		if n > len(data) {
			return fmt.Errorf("the texture is cut short in level %d", level)
		}
		t.Levels = append(t.Levels, data[:n:n])
		data = data[n:]
	}
	return nil
}

// HasAlpha says whether any texel is not opaque.
func HasAlpha(img *image.NRGBA) bool {
	w := img.Bounds().Dx() * 4
	for y := range img.Bounds().Dy() {
		row := img.Pix[y*img.Stride : y*img.Stride+w]
		for i := 3; i < len(row); i += 4 {
			if row[i] != 255 {
				return true
			}
		}
	}
	return false
}
