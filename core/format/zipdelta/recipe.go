package zipdelta

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"

	"vornix/core/format/vcdiff"
	"vornix/core/format/zipfile"
)

// mark begins the application header of a delta that takes archives apart.
var mark = []byte("vornix archive 1\n")

// header says what a delta was made from, and what comes out.
type header struct {
	packing          int64 // zipfile.Packing of then
	oldSize, newSize int64
	sum              [sha256.Size]byte // of the new file
	// where the first entry of the new archive begins; -1: its directory comes as it is
	start   int64
	entries []int // of the old archive's directory: those whose contents are compared with
}

// What a part of the new archive comes from.
const (
	copied  = 0 // bytes of the old file
	literal = 1 // bytes of the delta's target
	packed  = 2 // bytes of the delta's target, to be packed
	index   = 3 // the archive's directory, which follows from its entries
)

// step is a part of the new archive.
type step struct {
	kind   int
	method zipfile.Method // of a packed one
	size   int64          // bytes of the old file or of the delta's target
	from   int64          // of a copied one
}

func (h *header) bytes() []byte {
	b := append([]byte{}, mark...)
	b = binary.AppendUvarint(b, uint64(h.packing))
	b = binary.AppendUvarint(b, uint64(h.oldSize))
	b = binary.AppendUvarint(b, uint64(h.newSize))
	b = append(b, h.sum[:]...)
	b = binary.AppendUvarint(b, uint64(h.start+1))
	b = binary.AppendUvarint(b, uint64(len(h.entries)))
	last := -1
	for _, e := range h.entries {
		b = binary.AppendUvarint(b, uint64(e-last))
		last = e
	}
	return b
}

var errHeader = errors.New("what the delta says of the archive makes no sense")

// parseHeader reads a header; nil for one of another kind.
func parseHeader(b []byte) (*header, error) {
	b, ok := bytes.CutPrefix(b, mark)
	if !ok {
		return nil, nil
	}
	r := bytes.NewReader(b)
	h := &header{}
	var count int64
	err := errors.Join(number(r, &h.packing), number(r, &h.oldSize), number(r, &h.newSize))
	if _, e := io.ReadFull(r, h.sum[:]); e != nil {
		err = e
	}
	err = errors.Join(err, number(r, &h.start))
	h.start--
	if err = errors.Join(err, number(r, &count)); err != nil || count > int64(len(b)) {
		return nil, &vcdiff.FormatError{Err: errHeader}
	}
	last := int64(-1)
	for range count {
		var d int64
		if number(r, &d) != nil || d == 0 || last+d > 1<<31 {
			return nil, &vcdiff.FormatError{Err: errHeader}
		}
		last += d
		h.entries = append(h.entries, int(last))
	}
	return h, nil
}

// IsHeader says whether an application header is that of a delta between archives.
func IsHeader(b []byte) bool { return bytes.HasPrefix(b, mark) }

func number(r io.ByteReader, n *int64) error {
	v, err := binary.ReadUvarint(r)
	if err == nil && v > 1<<62 {
		err = errHeader
	}
	*n = int64(v)
	return err
}

// recipe writes the steps: their number, and each with where it copies from as the distance from
// the end of the copy before.
func recipe(steps []step) []byte {
	b := binary.AppendUvarint(nil, uint64(len(steps)))
	at := int64(0)
	for _, s := range steps {
		b = append(b, byte(s.kind))
		b = binary.AppendUvarint(b, uint64(s.size))
		switch s.kind {
		case copied:
			b = binary.AppendVarint(b, s.from-at)
			at = s.from + s.size
		case packed:
			b = binary.AppendUvarint(b, uint64(s.method))
		}
	}
	return append(binary.AppendUvarint(nil, uint64(len(b))), b...)
}

// maxRecipe is the longest recipe that is read: some million steps.
const maxRecipe = 32 << 20

type byteReader interface {
	io.Reader
	io.ByteReader
}

// stepReader reads the steps of an archive, one at a time: a million of them take no memory.
type stepReader struct {
	r       *bytes.Reader
	left    int64
	at      int64 // where the last copy ended
	oldSize int64
}

// readRecipe begins to read the steps of an archive made from one of that size.
func readRecipe(in byteReader, oldSize int64) (*stepReader, error) {
	var length int64
	if err := number(in, &length); err != nil {
		return nil, err
	}
	if length > maxRecipe {
		return nil, errHeader
	}
	var b bytes.Buffer
	if _, err := io.CopyN(&b, in, length); err != nil {
		return nil, err
	}
	s := &stepReader{r: bytes.NewReader(b.Bytes()), oldSize: oldSize}
	if err := number(s.r, &s.left); err != nil || s.left > length {
		return nil, errHeader
	}
	return s, nil
}

// next is the next step; ok is false after the last.
func (s *stepReader) next() (out step, ok bool, err error) {
	if s.left == 0 {
		return step{}, false, nil
	}
	s.left--
	kind, err := s.r.ReadByte()
	if err != nil || number(s.r, &out.size) != nil {
		return step{}, false, errHeader
	}
	switch out.kind = int(kind); out.kind {
	case copied:
		d, err := binary.ReadVarint(s.r)
		if out.from = s.at + d; err != nil || out.from < 0 || out.size > s.oldSize || out.from > s.oldSize-out.size {
			return step{}, false, errHeader
		}
		s.at = out.from + out.size
	case literal, index:
	case packed:
		var m int64
		if number(s.r, &m) != nil || m > 1<<16 {
			return step{}, false, errHeader
		}
		out.method = zipfile.Method(m)
	default:
		return step{}, false, errHeader
	}
	return out, true, nil
}
