package texture

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"
)

// The Radiance picture form (RGBE): light as three 8-bit mantissas with one exponent, after the file formats of the
// Radiance reference manual. A line is flat, or each of its four channels is packed by runs.

func radianceHeader(r *bufio.Reader) (w, h int, bottomUp bool, err error) {
	line := func() (string, error) {
		s, err := r.ReadString('\n')
		if len(s) > 4096 {
			return "", errors.New("a header line is too long")
		}
		return strings.TrimRight(s, "\r\n"), err
	}
	if s, err := line(); err != nil || !strings.HasPrefix(s, "#?") {
		return 0, 0, false, errors.New("it does not begin as a Radiance picture")
	}
	for n := 0; ; n++ {
		s, err := line()
		if err != nil || n > 200 {
			return 0, 0, false, errors.New("the Radiance header has no end")
		}
		if s == "" {
			break
		}
		if form, ok := strings.CutPrefix(s, "FORMAT="); ok && form != "32-bit_rle_rgbe" {
			return 0, 0, false, fmt.Errorf("the Radiance picture is of the form %q; 32-bit_rle_rgbe is read", form)
		}
	}
	s, err := line()
	if err != nil {
		return 0, 0, false, errors.New("the Radiance header is cut short")
	}
	var sign byte
	if n, _ := fmt.Sscanf(s, "%cY %d +X %d", &sign, &h, &w); n != 3 || sign != '-' && sign != '+' {
		return 0, 0, false,
			fmt.Errorf("the Radiance picture has the size line %q; rows from top or bottom, left to right, are read", s)
	}
	return w, h, sign == '+', nil
}

func radianceConfig(r io.Reader) (image.Config, error) {
	w, h, _, err := radianceHeader(bufio.NewReader(r))
	return image.Config{Width: w, Height: h}, err
}

// decodeRadiance reads a picture whose size has been believed and bounded.
func decodeRadiance(data []byte) (*Light, error) {
	rest := bytes.NewReader(data)
	r := bufio.NewReader(rest)
	w, h, bottomUp, err := radianceHeader(r)
	if err != nil {
		return nil, err
	}
	data = data[len(data)-rest.Len()-r.Buffered():]
	l := NewLight(w, h)
	row := make([]byte, 4*w) // channel after channel
	for y := range h {
		if data, err = radianceRow(row, data, w); err != nil {
			return nil, fmt.Errorf("row %d of the Radiance picture: %w", y, err)
		}
		to := y
		if bottomUp {
			to = h - 1 - y
		}
		for x := range w {
			e := int(row[3*w+x]) - 112 // the value is mantissa times 2 to the e less 24, in units of fixed: to the e
			for k := range 3 {
				v := int64(row[k*w+x])
				switch {
				case e <= -8 || row[3*w+x] == 0:
					v = 0
				case e < 0:
					v = (v + 1<<(-e-1)) >> -e
				case e > 40:
					v <<= 40
				default:
					v <<= e
				}
				l.Pix[4*(to*w+x)+k] = toHalf(v)
			}
		}
	}
	return l, nil
}

var errShortRadiance = errors.New("it is cut short")

// radianceRow unpacks a row into its channels, one after the other, and returns what follows it.
func radianceRow(row, data []byte, w int) ([]byte, error) {
	if len(data) < 4 {
		return nil, errShortRadiance
	}
	if w < 8 || w > 32767 || data[0] != 2 || data[1] != 2 || data[2]&0x80 != 0 {
		if len(data) < 4*w {
			return nil, errShortRadiance
		}
		for x := range w {
			for k := range 4 {
				row[k*w+x] = data[4*x+k]
			}
		}
		return data[4*w:], nil
	}
	if int(data[2])<<8|int(data[3]) != w {
		return nil, errors.New("its length is not the picture's")
	}
	data = data[4:]
	for k := range 4 {
		for x := 0; x < w; {
			if len(data) < 2 {
				return nil, errShortRadiance
			}
			n := int(data[0])
			run := n > 128
			if run {
				n -= 128
			}
			if n == 0 || n > w-x || !run && len(data) < 1+n {
				return nil, errors.New("a run leaves the row, or the picture is cut short")
			}
			to := row[k*w+x:][:n]
			if run {
				for i := range to {
					to[i] = data[1]
				}
				data = data[2:]
			} else {
				copy(to, data[1:])
				data = data[1+n:]
			}
			x += n
		}
	}
	return data, nil
}
