package texture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/draw"
	"image/jpeg"
	"image/png"
)

// maxSide and maxTexels bound an image before memory is given to it.
const (
	maxSide   = 16384
	maxTexels = 1 << 27
)

// Endings are the image files that Decode reads.
var Endings = []string{".png", ".jpg", ".jpeg"}

var pngMagic = []byte("\x89PNG\r\n\x1a\n")

// Probe reads an image's size and checks, without decoding it, that the file is whole.
func Probe(data []byte) (width, height int, err error) {
	var cfg image.Config
	switch {
	case bytes.HasPrefix(data, pngMagic):
		if cfg, err = png.DecodeConfig(bytes.NewReader(data)); err == nil {
			err = wholePNG(data)
		}
	case bytes.HasPrefix(data, []byte{0xff, 0xd8}):
		if cfg, err = jpeg.DecodeConfig(bytes.NewReader(data)); err == nil && !bytes.Contains(data[max(0, len(data)-4096):], []byte{0xff, 0xd9}) {
			err = errors.New("the JPEG is cut short: its end is missing")
		}
	default:
		return 0, 0, errors.New("it is neither PNG nor JPEG, whatever its name says")
	}
	if err != nil {
		return 0, 0, fmt.Errorf("it can't be decoded: %w", err)
	}
	if cfg.Width < 1 || cfg.Height < 1 || cfg.Width > maxSide || cfg.Height > maxSide || cfg.Width*cfg.Height > maxTexels {
		return 0, 0, fmt.Errorf("it has %d x %d texels; at most %d a side and %d million in all are taken", cfg.Width, cfg.Height, maxSide, maxTexels>>20)
	}
	return cfg.Width, cfg.Height, nil
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

// Decode reads a PNG or JPEG as 8-bit RGBA with straight alpha.
func Decode(data []byte) (*image.NRGBA, error) {
	if _, _, err := Probe(data); err != nil {
		return nil, err
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("it can't be decoded: %w", err)
	}
	if n, ok := img.(*image.NRGBA); ok && n.Rect.Min == (image.Point{}) {
		return n, nil
	}
	out := image.NewNRGBA(image.Rect(0, 0, img.Bounds().Dx(), img.Bounds().Dy()))
	draw.Draw(out, out.Bounds(), img, img.Bounds().Min, draw.Src)
	return out, nil
}
