package texture

import (
	"context"
	"errors"
	"fmt"
	"image"
	"math/bits"
	"slices"

	"vornix/core/base/group"
	"vornix/core/format/texture/bcn"
)

// Version is raised whenever the same image and options would give other bytes.
const Version = 2

// Shape is how many images a texture is made of, and what for.
type Shape uint8

// The shapes.
const (
	Flat  Shape = iota // one image
	Cube               // six square images: right, left, up, down, front, back (+X -X +Y -Y +Z -Z)
	Array              // any number of images of one size
)

// ShapeNames lists the names of the shapes in the order of their values.
var ShapeNames = []string{"flat", "cube", "array"}

// Texture is a texture with its mip levels, the largest first. Each level holds its images one after the other.
type Texture struct {
	Format        Format
	SRGB          bool // colours are sRGB; else linear
	SpaceUntold   bool // it was read from a file that can't say which of the two
	Shape         Shape
	Images        int // 1, 6 for a cube, any number for an array
	Width, Height int
	Levels        [][]byte
}

// Options for Compile.
type Options struct {
	Format  Format
	SRGB    bool // the images' colours are sRGB
	Shape   Shape
	Quality bcn.Quality
	// Levels is how many mip levels to make at most; 0 is all, down to one texel.
	Levels int
	Filter Filter
	Edge   Edge
	// Normals says that texels are directions, which must stay of length one in every level.
	Normals bool
	// Coverage keeps, in every level, as large a part drawn as in the first; for cut-outs.
	Coverage bool
	// Workers is how many goroutines pack blocks; 0 is one. The result is the same with any number.
	Workers int
}

// Compile makes a texture of images, *image.NRGBA or *Light, that all have one size. It stops with
// ctx's error within some rows of blocks.
func Compile(ctx context.Context, images []image.Image, o Options) (*Texture, error) {
	if len(images) == 0 {
		return nil, errors.New("a texture needs an image")
	}
	b := images[0].Bounds()
	t := &Texture{Format: o.Format, SRGB: o.SRGB && !o.Format.HoldsLight(), Shape: o.Shape, Images: len(images),
		Width: b.Dx(), Height: b.Dy()}
	if err := t.check(); err != nil {
		return nil, err
	}
	for i, img := range images {
		if n := img.Bounds(); n.Dx() != t.Width || n.Dy() != t.Height {
			return nil, fmt.Errorf("image %d has %d x %d texels, and the first %d x %d", i+1, n.Dx(), n.Dy(), t.Width,
				t.Height)
		}
	}
	levels := bits.Len(uint(max(t.Width, t.Height)))
	if o.Levels > 0 {
		levels = min(levels, o.Levels)
	}
	t.Levels = make([][]byte, levels)
	for _, img := range images {
		if err := t.add(ctx, img, o); err != nil {
			return nil, err
		}
	}
	return t, nil
}

// check refuses what can't be.
func (t *Texture) check() error {
	switch {
	case t.Format.HoldsData() && t.SRGB:
		return fmt.Errorf("the format %s holds data and has no sRGB form", t.Format)
	case t.Shape == Flat && t.Images != 1:
		return fmt.Errorf("%d images make no flat texture", t.Images)
	case t.Shape == Cube && (t.Images != 6 || t.Width != t.Height):
		return fmt.Errorf("a cube needs six square images, and there are %d of %d x %d", t.Images, t.Width, t.Height)
	case t.Images < 1 || t.Images > 2048:
		return fmt.Errorf("a texture of %d images is not possible: at most 2048 are", t.Images)
	}
	return nil
}

// add appends all levels of an image.
func (t *Texture) add(ctx context.Context, img image.Image, o Options) error {
	img = suited(img, o.Format, o.SRGB)
	p := newPlane(img, o.SRGB)
	drawn, of := 0, 0
	if n, ok := img.(*image.NRGBA); ok && o.Coverage {
		drawn, of = coverage(n)
	}
	for level := range t.Levels {
		if level > 0 {
			p = p.half(o.Filter, o.Edge)
			img = p.image(o.SRGB)
			if n, ok := img.(*image.NRGBA); ok {
				if o.Normals {
					renormalise(n)
				}
				if of > 0 {
					keepCoverage(n, drawn, of)
				}
			}
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		data, err := encodeImage(ctx, img, o)
		if err != nil {
			return err
		}
		if t.Images == 1 {
			t.Levels[level] = data // no copy: it may be large
		} else {
			t.Levels[level] = append(t.Levels[level], data...)
		}
	}
	return nil
}

// suited turns light into 8-bit texels, or the other way round, as the format wants.
func suited(img image.Image, f Format, srgb bool) image.Image {
	switch img := img.(type) {
	case *Light:
		if !f.HoldsLight() {
			return img.visible(srgb)
		}
	case *image.NRGBA:
		if f.HoldsLight() {
			return ToLight(img, srgb)
		}
	}
	return img
}

func encodeImage(ctx context.Context, img image.Image, o Options) ([]byte, error) {
	if layouts[o.Format].block == 4 {
		return encodeBlocks(ctx, img, o)
	}
	b := img.Bounds()
	out := make([]byte, 0, o.Format.levelSize(b.Dx(), b.Dy()))
	if l, ok := img.(*Light); ok {
		for _, h := range l.Pix {
			out = append(out, byte(h), byte(h>>8))
		}
		return out, nil
	}
	n := img.(*image.NRGBA)
	keep := layouts[o.Format].bytes
	for y := range b.Dy() {
		row := n.Pix[y*n.Stride:][:b.Dx()*4]
		for i := 0; i < len(row); i += 4 {
			out = append(out, row[i:i+keep]...)
		}
	}
	return out, nil
}

// packers pack a block of 8-bit texels.
var packers = map[Format]func([]byte, *bcn.Texels, bcn.Quality) []byte{
	BC1: bcn.BC1, BC1A: bcn.BC1A, BC2: bcn.BC2, BC3: bcn.BC3, BC4: bcn.BC4, BC5: bcn.BC5, BC7: bcn.BC7,
}

// encodeBlocks packs an image, row of blocks by row of blocks, the rows dealt out to the workers.
func encodeBlocks(ctx context.Context, img image.Image, o Options) ([]byte, error) {
	b := img.Bounds()
	w, h := b.Dx(), b.Dy()
	out := make([]byte, o.Format.levelSize(w, h))
	row := o.Format.levelSize(w, 1)
	pack := packers[o.Format]
	workers := max(o.Workers, 1)
	g, ctx := group.WithContext(ctx)
	for first := range workers {
		g.Go(func() error {
			var t bcn.Texels
			var l bcn.Light
			for by := first * 4; by < h; by += workers * 4 {
				to := out[by/4*row:][:0:row]
				for bx := 0; bx < w; bx += 4 {
					if bx&255 == 0 && ctx.Err() != nil {
						return ctx.Err()
					}
					switch img := img.(type) {
					case *image.NRGBA:
						loadTexels(&t, img, bx, by)
						to = pack(to, &t, o.Quality)
					case *Light:
						loadLight(&l, img, bx, by)
						to = bcn.BC6H(to, &l, o.Quality)
					}
				}
			}
			return nil
		})
	}
	return out, g.Wait()
}

// loadTexels takes a block from an image; edges repeat.
func loadTexels(t *bcn.Texels, img *image.NRGBA, bx, by int) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	if bx+4 <= w && by+4 <= h {
		for y := range 4 {
			row := img.Pix[(by+y)*img.Stride+bx*4:][:16]
			for x := range 4 {
				t[4*y+x] = [4]uint8(row[4*x:])
			}
		}
		return
	}
	for i := range t {
		x, y := min(bx+i&3, w-1), min(by+i>>2, h-1)
		t[i] = [4]uint8(img.Pix[y*img.Stride+x*4:])
	}
}

func loadLight(l *bcn.Light, img *Light, bx, by int) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	for i := range l {
		x, y := min(bx+i&3, w-1), min(by+i>>2, h-1)
		l[i] = [3]uint16(img.Pix[4*(y*w+x):])
	}
}

// LevelBounds is the size of a level.
func (t *Texture) LevelBounds(level int) (w, h int) {
	return max(t.Width>>level, 1), max(t.Height>>level, 1)
}

// stored is an image of a level as it is stored.
func (t *Texture) stored(level, which int) []byte {
	n := len(t.Levels[level]) / t.Images
	return t.Levels[level][which*n:][:n]
}

// Image decodes an image of a level: *image.NRGBA, or *Light for formats that hold light. One
// channel comes back as grey, two as red and green.
func (t *Texture) Image(level, which int) image.Image {
	w, h := t.LevelBounds(level)
	data := t.stored(level, which)
	switch {
	case t.Format == BC6H:
		return decodeLight(data, w, h)
	case layouts[t.Format].block == 4:
		return decodeBlocks(t.Format, data, w, h)
	case t.Format == RGBA16F:
		l := NewLight(w, h)
		for i := range l.Pix {
			l.Pix[i] = uint16(data[2*i]) | uint16(data[2*i+1])<<8
		}
		return l
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

// unpackers unpack a block of 8-bit texels.
var unpackers = map[Format]func([]byte) bcn.Texels{
	BC1: bcn.ReadBC1, BC1A: bcn.ReadBC1, BC2: bcn.ReadBC2, BC3: bcn.ReadBC3, BC4: bcn.ReadBC4, BC5: bcn.ReadBC5,
	BC7: bcn.ReadBC7,
}

// decodeBlocks unpacks an image whose data has the right length.
func decodeBlocks(f Format, data []byte, w, h int) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	read := unpackers[f]
	for by := 0; by < h; by += 4 {
		for bx := 0; bx < w; bx += 4 {
			texels := read(data)
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

func decodeLight(data []byte, w, h int) *Light {
	l := NewLight(w, h)
	for by := 0; by < h; by += 4 {
		for bx := 0; bx < w; bx += 4 {
			texels := bcn.ReadBC6H(data)
			data = data[layouts[BC6H].bytes:]
			for i, t := range texels {
				if x, y := bx+i&3, by+i>>2; x < w && y < h {
					copy(l.Pix[4*(y*w+x):], t[:])
				}
			}
		}
	}
	return l
}

// Container is a file form with its variants.
type Container struct {
	Name string // "ktx2" or "dds"
	// Zstd packs the levels of a KTX2 file (supercompression scheme 2).
	Zstd bool
	// Plain leaves the DX10 header out of a DDS file. It can't say sRGB then, and holds no BC6H, BC7 or array.
	Plain bool
}

// Containers lists the names of the file forms.
var Containers = []string{"ktx2", "dds"}

// Encode writes the texture as a file.
func (t *Texture) Encode(c Container) ([]byte, error) {
	parts, err := t.Parts(c)
	return slices.Concat(parts...), err
}

// Parts is Encode without copying the levels: the file is the parts joined.
func (t *Texture) Parts(c Container) ([][]byte, error) {
	switch c.Name {
	case "ktx2":
		return t.ktx2(c.Zstd)
	case "dds":
		return t.dds(c.Plain)
	}
	return nil, fmt.Errorf("there is no texture container %q", c.Name)
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

// believe refuses sizes that no file can have, before memory is given to them.
func (t *Texture) believe(levels int) error {
	if t.Width < 1 || t.Height < 1 || t.Width > maxSide || t.Height > maxSide || levels < 1 ||
		levels > bits.Len(uint(max(t.Width, t.Height))) {
		return fmt.Errorf("a texture of %d x %d with %d levels is not possible", t.Width, t.Height, levels)
	}
	if err := t.check(); err != nil {
		return err
	}
	if t.Width*t.Height > maxTexels/t.Images {
		return fmt.Errorf("%d images of %d x %d texels are more than the %d million that are taken", t.Images, t.Width,
			t.Height, maxTexels/1000000)
	}
	return nil
}
