package zipfile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"math"
)

// Follower is a writer that sees an archive go by and knows its directory: what an archive says at
// its end stands in the headers of its entries already, when it was written by Pack.
type Follower struct {
	at, next int64 // position in the file; where the next header begins
	head     []byte
	w        writer
	ended    bool
}

// NewFollower sees a file of which the first entry begins at start.
func NewFollower(start int64) *Follower { return &Follower{next: start} }

// Write implements io.Writer. It never fails.
func (f *Follower) Write(p []byte) (int, error) {
	all := len(p)
	for len(p) > 0 && !f.ended {
		if f.at < f.next {
			n := min(int64(len(p)), f.next-f.at)
			p, f.at = p[n:], f.at+n
			continue
		}
		want := localSize
		if len(f.head) >= localSize {
			want += int(binary.LittleEndian.Uint16(f.head[26:])) + int(binary.LittleEndian.Uint16(f.head[28:]))
		}
		n := min(len(p), want-len(f.head))
		f.head, p = append(f.head, p[:n]...), p[n:]
		switch {
		case len(f.head) >= 4 && binary.LittleEndian.Uint32(f.head) != localSignature:
			f.ended = true
		case len(f.head) == want && want > localSize || len(f.head) == localSize &&
			binary.LittleEndian.Uint32(f.head[26:]) == 0:
			f.entry()
		}
	}
	return all, nil
}

// entry reads a header that is complete.
func (f *Follower) entry() {
	le, h := binary.LittleEndian, f.head
	names := int(le.Uint16(h[26:]))
	e := Entry{Name: string(h[localSize : localSize+names]), Method: Method(le.Uint16(h[8:])), CRC32: le.Uint32(h[14:]),
		Packed: int64(le.Uint32(h[18:])), Size: int64(le.Uint32(h[22:])), Header: f.at}
	e.Data = f.at + int64(len(h))
	if x := h[localSize+names:]; e.Packed == math.MaxUint32 && len(x) >= 20 && le.Uint16(x) == extra64 {
		e.Size, e.Packed = int64(le.Uint64(x[4:])), int64(le.Uint64(x[12:]))
	}
	if e.Packed < 0 || e.Packed > math.MaxInt64-e.Data {
		f.ended = true
		return
	}
	f.w.entries = append(f.w.entries, e)
	f.at, f.next, f.head = e.Data, e.Data+e.Packed, nil
}

// Directory is what Pack writes behind the entries that went by, and where it begins.
func (f *Follower) Directory() (data []byte, at int64, err error) {
	if f.at != f.next {
		return nil, 0, errors.New("the archive ends within an entry")
	}
	var b bytes.Buffer
	w := f.w
	w.sink, w.at = noPatch{&b}, f.at
	err = w.close()
	return b.Bytes(), f.at, err
}

type noPatch struct{ *bytes.Buffer }

func (noPatch) Patch([]byte, int64) error { return errors.New("what is written stays") }
