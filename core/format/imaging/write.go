package imaging

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"

	"vornix/core/format/texture"
)

// PNG writes a picture as PNG of at most so many bytes (0: no limit): where it has more it is
// packed harder, which takes several times as long for a few bytes in a hundred. With fits false
// that did not do.
func PNG(img *image.NRGBA, limit int64) (data []byte, fits bool, err error) {
	for _, level := range []png.CompressionLevel{png.DefaultCompression, png.BestCompression} {
		var b bytes.Buffer
		e := png.Encoder{CompressionLevel: level}
		if err := e.Encode(&b, img); err != nil {
			return nil, false, fmt.Errorf("writing the picture as PNG: %w", err)
		}
		if data = b.Bytes(); limit <= 0 || int64(len(data)) <= limit {
			return data, true, nil
		}
	}
	return data, false, nil
}

// JPEG writes a picture as baseline JPEG, with the highest quality from least to best with which it
// has at most so many bytes (0: no limit). With fits false even the least is too large, and that is
// what it gives.
func JPEG(img *image.NRGBA, lowest, best int, limit int64) (data []byte, quality int, fits bool, err error) {
	at := func(q int) ([]byte, error) {
		var b bytes.Buffer
		if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: q}); err != nil {
			return nil, fmt.Errorf("writing the picture as JPEG: %w", err)
		}
		return b.Bytes(), nil
	}
	ok := func(data []byte) bool { return limit <= 0 || int64(len(data)) <= limit }
	if data, err = at(best); err != nil || ok(data) {
		return data, best, true, err
	}
	// A file grows with its quality, but for a few bytes now and then, so that the search halves what is left.
	low, high := lowest, best-1
	quality, fits = lowest, false
	for low <= high {
		q := (low + high) / 2
		d, err := at(q)
		if err != nil {
			return nil, 0, false, err
		}
		if ok(d) {
			data, quality, fits, low = d, q, true, q+1
		} else {
			high = q - 1
		}
	}
	if !fits {
		data, err = at(lowest)
	}
	return data, quality, fits, err
}

// Ready is what a finished file is.
type Ready struct {
	Form          string // as texture.Probe says it, in capitals
	Width, Height int
	Progressive   bool // a JPEG whose scans come one after another, which simple readers can't read
}

// Inspect looks at a finished file, and whether it is whole, without decoding it.
func Inspect(name string, data []byte) (r Ready, err error) {
	info, err := texture.Probe(name, data)
	if err != nil {
		return r, err
	}
	return Ready{Form: info.Form, Width: info.Width, Height: info.Height, Progressive: info.Form == "JPEG" &&
		progressive(data)}, nil
}

// progressive finds the kind of a JPEG's frame (ISO/IEC 10918-1, B.1.1.3): SOF0 and SOF1 are sequential.
func progressive(data []byte) bool {
	for at := 2; at+4 <= len(data); {
		if data[at] != 0xff {
			return false
		}
		marker := data[at+1]
		switch {
		case marker == 0xff: // fill
			at++
			continue
		case marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc:
			return marker > 0xc1
		case marker == 0xda || marker == 0xd9:
			return false
		case marker >= 0xd0 && marker <= 0xd7 || marker == 0x01:
			at += 2
			continue
		}
		at += 2 + int(binary.BigEndian.Uint16(data[at+2:]))
	}
	return false
}
