package leakscan

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"io"
)

// Bounds of looking into compressed content. What is beyond them was not looked at; that costs nobody anything.
const (
	maxUnpacked = 64 << 20 // bytes of a file that are unpacked, all told
	maxEach     = 8 << 20  // of one piece of compressed content
	maxHeld     = 1 << 20  // bytes of it that are held
	maxAtOnce   = 16
	maxDepth    = 2
)

// packed is compressed content that is being collected.
type packed struct {
	piece string
	at    int64
	data  []byte
}

// unpacks begins to collect compressed content that may begin at data[i].
func (s *Scanner) unpacks(r *rule, data []byte, i int) {
	if s.depth >= maxDepth || len(s.packed) >= maxAtOnce || s.left <= 0 {
		return
	}
	x := &packed{piece: r.piece, data: append([]byte{}, data[i:min(len(data), i+maxHeld)]...)}
	if s.joined != nil { // data is only the border: what follows it is in the part that is being written
		x.data = append(x.data[:max(0, s.border-i)], s.joined[:min(len(s.joined), maxHeld)]...)
	}
	x.at = s.base + int64(i)
	if len(x.data) >= maxHeld {
		s.unpack(x)
		return
	}
	s.packed = append(s.packed, x)
}

// collect adds the next bytes to what is being collected.
func (s *Scanner) collect(p []byte) {
	rest := s.packed[:0]
	for _, x := range s.packed {
		x.data = append(x.data, p[:min(len(p), maxHeld-len(x.data))]...)
		if len(x.data) < maxHeld {
			rest = append(rest, x)
		} else {
			s.unpack(x)
		}
	}
	s.packed = rest
}

// Done looks into what was collected. Hits are all there are then.
func (s *Scanner) Done() {
	for _, x := range s.packed {
		s.unpack(x)
	}
	s.packed = nil
	if s.wide == nil {
		return
	}
	s.wide.Done()
	for _, h := range s.wide.Hits {
		h.At *= 2
		s.add(h)
	}
	s.wide = nil
}

// unpack looks into compressed content.
func (s *Scanner) unpack(x *packed) {
	r := x.reader()
	if r == nil {
		return
	}
	inner := &Scanner{depth: s.depth + 1, left: s.left}
	// of what is cut off or damaged as much as there is
	n, _ := io.Copy(inner, io.LimitReader(r, min(maxEach, s.left)))
	s.left -= n
	inner.Done()
	for _, h := range inner.Hits {
		s.add(Hit{h.Sort, h.What + " in compressed content", x.at, 0})
	}
}

func (x *packed) reader() io.Reader {
	le := binary.LittleEndian
	b := x.data
	switch x.piece {
	case "PK\x03\x04":
		const header = 30
		if len(b) < header || le.Uint16(b[8:]) != 8 { // what is stored is seen as it is
			return nil
		}
		if from := header + int(le.Uint16(b[26:])) + int(le.Uint16(b[28:])); from < len(b) {
			return flate.NewReader(bytes.NewReader(b[from:]))
		}
	case "\x1f\x8b\x08":
		if z, err := gzip.NewReader(bytes.NewReader(b)); err == nil {
			return z
		}
	case "zTXt": // a keyword, a zero, the method, the text (PNG specification, 11.3.3.3)
		if end := bytes.IndexByte(b[:min(len(b), 90)], 0); end > 0 && end+2 < len(b) {
			return inflated(b[end+2:])
		}
	case "iTXt": // a keyword, a zero, whether it is compressed, how, language, translated keyword, the text (11.3.3.4)
		end := bytes.IndexByte(b[:min(len(b), 90)], 0)
		if end < 0 || end+3 >= len(b) || b[end+1] != 1 {
			return nil
		}
		b = b[end+3:]
		for range 2 {
			end := bytes.IndexByte(b, 0)
			if end < 0 {
				return nil
			}
			b = b[end+1:]
		}
		return inflated(b)
	}
	return nil
}

func inflated(b []byte) io.Reader {
	if z, err := zlib.NewReader(bytes.NewReader(b)); err == nil {
		return z
	}
	return nil
}

// byteOrder is which byte of two is the low one in a text that begins with a mark of UTF-16; -1 for others.
func byteOrder(p []byte) int {
	switch {
	case bytes.HasPrefix(p, []byte{0xff, 0xfe}):
		return 0
	case bytes.HasPrefix(p, []byte{0xfe, 0xff}):
		return 1
	}
	return -1
}

// narrow gives a text in UTF-16 to a scanner of single bytes: settings are looked for there as in any text.
func (s *Scanner) narrow(p []byte) {
	p = append(s.half, p...)
	out := make([]byte, 0, len(p)/2)
	for ; len(p) >= 2; p = p[2:] {
		low, high := p[s.order], p[1-s.order]
		if high != 0 || low >= 0x80 {
			low = '?'
		}
		out = append(out, low)
	}
	s.half = append([]byte{}, p...)
	_, _ = s.wide.Write(out)
}
