package texture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/draw"
	"image/gif"
	"image/jpeg"
	"image/png"
	"io"

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
var Endings = []string{".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".bmp", ".webp", ".gif", ".dds", ".ktx2"}

// reader is a kind of image file.
type reader struct {
	name   string
	is     func(data []byte) bool
	config func(r io.Reader) (image.Config, error)
	decode func(r io.Reader) (image.Image, error)
	whole  func(data []byte) error // finds a cut file without decoding it; nil where only decoding tells
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
	{"PNG", begins("\x89PNG\r\n\x1a\n"), png.DecodeConfig, png.Decode, wholePNG},
	{"JPEG", begins("\xff\xd8"), jpeg.DecodeConfig, jpeg.Decode, wholeJPEG},
	{"GIF", begins("GIF87a", "GIF89a"), gif.DecodeConfig, gif.Decode, nil}, // its first picture
	{"BMP", begins("BM"), bmp.DecodeConfig, bmp.Decode, nil},
	{"TIFF", begins("II*\x00", "MM\x00*"), tiff.DecodeConfig, tiff.Decode, nil},
	{"WebP", func(d []byte) bool { return len(d) > 12 && string(d[:4]) == "RIFF" && string(d[8:12]) == "WEBP" }, webp.DecodeConfig, webp.Decode, nil},
	{"texture", begins("DDS ", ktx2Magic), textureConfig, decodeTexture, nil},
	{"TGA", func(d []byte) bool { _, ok := readTGAHeader(d); return ok }, tgaConfig, func(r io.Reader) (image.Image, error) {
		data, err := io.ReadAll(r)
		if err != nil {
			return nil, err
		}
		return decodeTGA(data)
	}, nil},
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

func decodeTexture(r io.Reader) (image.Image, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	t, err := Read(data)
	if err != nil {
		return nil, err
	}
	return t.Image(0), nil
}

func find(data []byte) (reader, error) {
	for _, r := range readers {
		if r.is(data) {
			return r, nil
		}
	}
	return reader{}, errors.New("it is none of PNG, JPEG, TGA, TIFF, BMP, WebP, GIF, DDS and KTX2, whatever its name says")
}

// Probe reads an image's size and, for PNG and JPEG, checks without decoding it that the file is whole.
func Probe(data []byte) (width, height int, err error) {
	r, err := find(data)
	if err != nil {
		return 0, 0, err
	}
	cfg, err := r.config(bytes.NewReader(data))
	if err == nil && r.whole != nil {
		err = r.whole(data)
	}
	if err != nil {
		return 0, 0, fmt.Errorf("it can't be decoded: %w", err)
	}
	if cfg.Width < 1 || cfg.Height < 1 || cfg.Width > maxSide || cfg.Height > maxSide || cfg.Width*cfg.Height > maxTexels {
		return 0, 0, fmt.Errorf("it has %d x %d texels; at most %d a side and %d million in all are taken", cfg.Width, cfg.Height, maxSide, maxTexels>>20)
	}
	return cfg.Width, cfg.Height, nil
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

// Decode reads an image as 8-bit RGBA with straight alpha.
func Decode(data []byte) (*image.NRGBA, error) {
	if _, _, err := Probe(data); err != nil {
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
	if n, ok := img.(*image.NRGBA); ok && n.Rect.Min == (image.Point{}) {
		return n, nil
	}
	out := image.NewNRGBA(image.Rect(0, 0, img.Bounds().Dx(), img.Bounds().Dy()))
	draw.Draw(out, out.Bounds(), img, img.Bounds().Min, draw.Src)
	return out, nil
}
