package texture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math/bits"

	"golang.org/x/sync/errgroup"
)

// Version is raised whenever the same image and options would give other bytes.
const Version = 1

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
	// Workers is how many goroutines pack blocks; 0 is one. The result is the same with any number.
	Workers int
}

// Compile makes a texture of an image. It stops with ctx's error within some rows of blocks.
func Compile(ctx context.Context, img *image.NRGBA, o Options) (*Texture, error) {
	b := img.Bounds()
	if o.Format.HoldsData() && o.SRGB {
		return nil, fmt.Errorf("the format %s holds data and has no sRGB form", o.Format)
	}
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
		data, err := encodeLevel(ctx, img, o.Format, max(o.Workers, 1))
		if err != nil {
			return nil, err
		}
		t.Levels = append(t.Levels, data)
	}
	return t, nil
}

// Resize scales an image in linear light when its colours are sRGB, colours weighted by alpha: by area where it shrinks,
// between neighbours where it grows.
func Resize(img *image.NRGBA, w, h int, srgb bool) *image.NRGBA {
	return newPlane(img, srgb).scaled(w, h).image(srgb)
}

func encodeLevel(ctx context.Context, img *image.NRGBA, f Format, workers int) ([]byte, error) {
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	if layouts[f].block == 4 {
		return encodeBlocks(ctx, img, f, workers)
	}
	out := make([]byte, 0, f.levelSize(w, h))
	n := layouts[f].bytes
	for y := range h {
		row := img.Pix[y*img.Stride : y*img.Stride+w*4]
		for i := 0; i < len(row); i += 4 {
			out = append(out, row[i:i+n]...)
		}
	}
	return out, nil
}

// encodeBlocks packs a level, row of blocks by row of blocks, the rows dealt out to the workers.
func encodeBlocks(ctx context.Context, img *image.NRGBA, f Format, workers int) ([]byte, error) {
	w, h := img.Bounds().Dx(), img.Bounds().Dy()
	out := make([]byte, f.levelSize(w, h))
	row := f.levelSize(w, 1)
	group, ctx := errgroup.WithContext(ctx)
	for first := range workers {
		group.Go(func() error {
			var b tile
			for by := first * 4; by < h; by += workers * 4 {
				if err := ctx.Err(); err != nil {
					return err
				}
				to := out[by/4*row:][:0:row]
				for bx := 0; bx < w; bx += 4 {
					b.load(img, bx, by)
					to = b.append(to, f)
				}
			}
			return nil
		})
	}
	return out, group.Wait()
}

// LevelBounds is the size of a level.
func (t *Texture) LevelBounds(level int) (w, h int) {
	return max(t.Width>>level, 1), max(t.Height>>level, 1)
}

// Image decodes a level. One channel comes back as grey, two as red and green.
func (t *Texture) Image(level int) *image.NRGBA {
	w, h := t.LevelBounds(level)
	data := t.Levels[level]
	if layouts[t.Format].block == 4 {
		return decodeBlocks(t.Format, data, w, h)
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		p := img.Pix[4*i:][:4]
		switch t.Format {
		case R8:
			p[0], p[1], p[2], p[3] = data[i], data[i], data[i], 255
		case RG8:
			p[0], p[1], p[2], p[3] = data[2*i], data[2*i+1], 0, 255
		default:
			copy(p, data[4*i:])
		}
	}
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
