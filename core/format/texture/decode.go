package texture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/draw"
	"image/gif"
	"image/jpeg"
	"image/png"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/image/bmp"
	"golang.org/x/image/tiff"
	"golang.org/x/image/webp"
)

// maxSide and maxTexels bound an image before memory is given to it.
const (
	maxSide   = 16384
	maxTexels = 1 << 27
)

// Endings are the image files that Decode reads.
var Endings = []string{".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".bmp", ".webp", ".gif", ".hdr", ".dds",
	".ktx2"}

// reader is a kind of image file.
type reader struct {
	name    string
	endings string
	is      func(data []byte) bool
	config  func(r io.Reader) (image.Config, error)
	decode  func(r io.Reader) (image.Image, error)
	whole   func(data []byte) error // finds a cut file without decoding it; nil where only decoding tells
}

func begins(with ...string) func([]byte) bool {
	return func(data []byte) bool {
		for _, w := range with {
			if bytes.HasPrefix(data, []byte(w)) {
				return true
			}
		}
		return false
	}
}

// readers know their files by the first bytes; TGA, which has none of its own, stands last.
var readers = []reader{
	{"PNG", ".png", begins("\x89PNG\r\n\x1a\n"), png.DecodeConfig, png.Decode, wholePNG},
	{"JPEG", ".jpg .jpeg", begins("\xff\xd8"), jpeg.DecodeConfig, jpeg.Decode, wholeJPEG},
	{"GIF", ".gif", begins("GIF87a", "GIF89a"), gif.DecodeConfig, gif.Decode, nil}, // its first picture
	{"BMP", ".bmp", begins("BM"), bmp.DecodeConfig, bmp.Decode, nil},
	{"TIFF", ".tif .tiff", begins("II*\x00", "MM\x00*"), tiff.DecodeConfig, tiff.Decode, nil},
	{"WebP", ".webp",
		func(d []byte) bool { return len(d) > 12 && string(d[:4]) == "RIFF" && string(d[8:12]) == "WEBP" },
		webp.DecodeConfig, webp.Decode, nil},
	{"Radiance picture", ".hdr", begins("#?RADIANCE", "#?RGBE"), radianceConfig,
		fromBytes(func(d []byte) (image.Image, error) { return decodeRadiance(d) }), nil},
	{"DDS texture", ".dds", begins("DDS "), textureConfig, fromBytes(decodeTexture), nil},
	{"KTX2 texture", ".ktx2", begins(ktx2Magic), textureConfig, fromBytes(decodeTexture), nil},
	{"TGA", ".tga", func(d []byte) bool { _, ok := readTGAHeader(d); return ok }, tgaConfig,
		fromBytes(func(d []byte) (image.Image, error) { return decodeTGA(d) }), nil},
}

// fromBytes makes a reader of a stream of one of all bytes.
func fromBytes(decode func([]byte) (image.Image, error)) func(io.Reader) (image.Image, error) {
	return func(r io.Reader) (image.Image, error) {
		data, err := io.ReadAll(r)
		if err != nil {
			return nil, err
		}
		return decode(data)
	}
}

func tgaConfig(r io.Reader) (image.Config, error) {
	head := make([]byte, tgaHeaderSize)
	if _, err := io.ReadFull(r, head); err != nil {
		return image.Config{}, err
	}
	h, _ := readTGAHeader(head)
	return image.Config{Width: h.width, Height: h.height}, nil
}

func textureConfig(r io.Reader) (image.Config, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return image.Config{}, err
	}
	t, err := Read(data)
	if err != nil {
		return image.Config{}, err
	}
	return image.Config{Width: t.Width, Height: t.Height}, nil
}

// decodeTexture is the largest level of a texture's first image.
func decodeTexture(data []byte) (image.Image, error) {
	t, err := Read(data)
	if err != nil {
		return nil, err
	}
	return t.Image(0, 0), nil
}

func find(data []byte) (reader, error) {
	if len(data) == 0 {
		return reader{}, errors.New("it is empty")
	}
	for _, r := range readers {
		if r.is(data) {
			return r, nil
		}
	}
	return reader{},
		errors.New("it is none of PNG, JPEG, TGA, TIFF, BMP, WebP, GIF, Radiance, DDS and KTX2, whatever its name says")
}

// Info is what an image file says of itself.
type Info struct {
	Width, Height int
	Form          string // such as "PNG"
	Misnamed      bool   // its name's ending is that of another form
}

// Probe reads what the image file of a name says of itself and, for PNG and JPEG, checks without
// decoding it that it is whole.
func Probe(name string, data []byte) (Info, error) {
	r, err := find(data)
	if err != nil {
		return Info{}, err
	}
	cfg, err := r.config(bytes.NewReader(data))
	if err == nil && r.whole != nil {
		err = r.whole(data)
	}
	if err != nil {
		return Info{}, fmt.Errorf("it can't be decoded: %w", err)
	}
	if cfg.Width < 1 || cfg.Height < 1 || cfg.Width > maxSide || cfg.Height > maxSide ||
		cfg.Width*cfg.Height > maxTexels {
		return Info{}, fmt.Errorf("it has %d x %d texels; at most %d a side and %d million in all are taken", cfg.Width,
			cfg.Height, maxSide, maxTexels/1000000)
	}
	ending := strings.ToLower(path.Ext(name))
	return Info{cfg.Width, cfg.Height, r.name, ending != "" && !slices.Contains(strings.Fields(r.endings), ending)}, nil
}

func wholeJPEG(data []byte) error {
	if !bytes.Contains(data[max(0, len(data)-4096):], []byte{0xff, 0xd9}) {
		return errors.New("the JPEG is cut short: its end is missing")
	}
	return nil
}

// wholePNG walks the chunks of a PNG to its end.
func wholePNG(data []byte) error {
	for rest := data[8:]; len(rest) >= 12; {
		n := binary.BigEndian.Uint32(rest)
		if uint64(n)+12 > uint64(len(rest)) {
			break
		}
		if crc32.ChecksumIEEE(rest[4:8+n]) != binary.BigEndian.Uint32(rest[8+n:]) {
			return fmt.Errorf("the PNG is damaged: the checksum of its part %q does not fit", rest[4:8])
		}
		if string(rest[4:8]) == "IEND" {
			return nil
		}
		rest = rest[12+n:]
	}
	return fmt.Errorf("the PNG is cut short: its end is missing (%d bytes are here)", len(data))
}

// decode reads an image in the form in which it is stored.
func decode(data []byte) (image.Image, error) {
	if _, err := Probe("", data); err != nil {
		return nil, err
	}
	r, err := find(data)
	if err != nil {
		return nil, err
	}
	img, err := r.decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("the %s can't be decoded: %w", r.name, err)
	}
	return img, nil
}

// Decode reads an image: light as *Light, all others as 8-bit *image.NRGBA with straight alpha.
func Decode(data []byte) (image.Image, error) {
	img, err := decode(data)
	if err != nil {
		return nil, err
	}
	if l, ok := img.(*Light); ok {
		return l, nil
	}
	return toNRGBA(img), nil
}

// DecodeAll is Decode of every image in a file: of a texture its cube or array.
func DecodeAll(data []byte) ([]image.Image, Shape, error) {
	if begins("DDS ", ktx2Magic)(data) {
		t, err := Read(data)
		if err != nil {
			return nil, Flat, err
		}
		var list []image.Image
		for i := range t.Images {
			list = append(list, t.Image(0, i))
		}
		return list, t.Shape, nil
	}
	img, err := Decode(data)
	return []image.Image{img}, Flat, err
}

// DecodeHeights reads an image as heights, in all the bits it has.
func DecodeHeights(data []byte) (*Heights, error) {
	img, err := decode(data)
	if err != nil {
		return nil, err
	}
	return HeightsOf(img), nil
}

// toNRGBA is an image as 8-bit texels with straight alpha, from 0, 0. Opaque images take the short
// way, on which alpha can be taken for multiplied in or not.
func toNRGBA(img image.Image) *image.NRGBA {
	b := img.Bounds()
	size := image.Rect(0, 0, b.Dx(), b.Dy())
	switch n := img.(type) {
	case *image.NRGBA:
		if b.Min == (image.Point{}) {
			return n
		}
	case *image.RGBA:
		if b.Min == (image.Point{}) && n.Opaque() {
			return &image.NRGBA{Pix: n.Pix, Stride: n.Stride, Rect: n.Rect}
		}
	}
	if o, ok := img.(interface{ Opaque() bool }); ok && o.Opaque() {
		out := image.NewRGBA(size)
		draw.Draw(out, size, img, b.Min, draw.Src)
		return &image.NRGBA{Pix: out.Pix, Stride: out.Stride, Rect: size}
	}
	out := image.NewNRGBA(size)
	switch n := img.(type) {
	case *image.NRGBA64:
		for y := range size.Dy() {
			row := n.Pix[n.PixOffset(b.Min.X, b.Min.Y+y):][:8*size.Dx()]
			for i := range 4 * size.Dx() {
				out.Pix[y*out.Stride+i] = row[2*i] // the upper byte
			}
		}
		return out
	case *image.Paletted:
		var colours [256][4]uint8
		for i, c := range n.Palette {
			p := color.NRGBAModel.Convert(c).(color.NRGBA)
			colours[i] = [4]uint8{p.R, p.G, p.B, p.A}
		}
		for y := range size.Dy() {
			for x, v := range n.Pix[n.PixOffset(b.Min.X, b.Min.Y+y):][:size.Dx()] {
				copy(out.Pix[y*out.Stride+4*x:], colours[v][:])
			}
		}
		return out
	}
	draw.Draw(out, size, img, b.Min, draw.Src)
	return out
}
