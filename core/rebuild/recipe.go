package rebuild

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"

	"vornix/core/archive"
	"vornix/core/delta"
)

// mark begins the application header of a delta that takes archives apart.
var mark = []byte("vornix archive 1\n")

// header says what a delta was made from, and what comes out.
type header struct {
	oldSize, newSize int64
	sum              [sha256.Size]byte // of the new file
	entries          []int             // of the old archive's directory: those whose contents are compared with
}

// What a part of the new archive comes from.
const (
	copied  = 0 // bytes of the old file
	literal = 1 // bytes of the delta's target
	packed  = 2 // bytes of the delta's target, to be packed
)

// step is a part of the new archive.
type step struct {
	kind   int
	method archive.Method // of a packed one
	size   int64          // bytes of the old file or of the delta's target
	from   int64          // of a copied one
}

func (h *header) bytes() []byte {
	b := append([]byte{}, mark...)
	b = binary.AppendUvarint(b, uint64(h.oldSize))
	b = binary.AppendUvarint(b, uint64(h.newSize))
	b = append(b, h.sum[:]...)
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
	err := errors.Join(number(r, &h.oldSize), number(r, &h.newSize))
	if _, e := io.ReadFull(r, h.sum[:]); e != nil {
		err = e
	}
	if err = errors.Join(err, number(r, &count)); err != nil || count > int64(len(b)) {
		return nil, &delta.FormatError{Err: errHeader}
	}
	last := int64(-1)
	for range count {
		var d int64
		if number(r, &d) != nil || d == 0 || last+d > 1<<31 {
			return nil, &delta.FormatError{Err: errHeader}
		}
		last += d
		h.entries = append(h.entries, int(last))
	}
	return h, nil
}

func number(r io.ByteReader, n *int64) error {
	v, err := binary.ReadUvarint(r)
	if err == nil && v > 1<<62 {
		err = errHeader
	}
	*n = int64(v)
	return err
}

// recipe writes the steps: their number, and each with where it copies from as the distance from the end of the copy before.
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

// mostRecipe is the longest recipe that is read: some million steps.
const mostRecipe = 64 << 20

type byteReader interface {
	io.Reader
	io.ByteReader
}

// readRecipe reads the steps of an archive of that size, made from one of the other.
func readRecipe(in byteReader, oldSize int64) (steps []step, err error) {
	var length int64
	if err := number(in, &length); err != nil {
		return nil, err
	}
	if length > mostRecipe {
		return nil, errHeader
	}
	var b bytes.Buffer
	if _, err := io.CopyN(&b, in, length); err != nil {
		return nil, err
	}
	r := bytes.NewReader(b.Bytes())
	var count int64
	if err := number(r, &count); err != nil || count > length {
		return nil, errHeader
	}
	at := int64(0)
	for range count {
		var s step
		kind, err := r.ReadByte()
		if err != nil || number(r, &s.size) != nil {
			return nil, errHeader
		}
		switch s.kind = int(kind); s.kind {
		case copied:
			d, err := binary.ReadVarint(r)
			if s.from = at + d; err != nil || s.from < 0 || s.size > oldSize || s.from > oldSize-s.size {
				return nil, errHeader
			}
			at = s.from + s.size
		case literal:
		case packed:
			var m int64
			if number(r, &m) != nil || m > 1<<16 {
				return nil, errHeader
			}
			s.method = archive.Method(m)
		default:
			return nil, errHeader
		}
		steps = append(steps, s)
	}
	return steps, nil
}
