package vcdiff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
)

const (
	pageSize = 256 << 10
	// whole is how large an old file may be that is kept in memory whole, while a delta is made.
	whole = 32 << 20
)

// view reads a file at any place through pages that it keeps: all of a small file, the last ones of
// a large. It is used by one goroutine.
type view struct {
	r     io.ReaderAt
	size  int64
	all   []byte // of a small file
	pages []page
	clock int
	last  *page
	err   error // the first that reading had; what is read after it is empty
}

type page struct {
	at   int64 // -1: empty
	used int
	data []byte
}

// newView makes a view that keeps that many bytes of a file that is larger than whole; of a smaller
// one, load keeps all.
func newView(r io.ReaderAt, size, keep, whole int64) *view {
	v := &view{r: r, size: size}
	if size > whole {
		v.pages = make([]page, max(keep/pageSize, 4))
		for i := range v.pages {
			v.pages[i].at = -1
		}
	}
	return v
}

// load reads a small file.
func (v *view) load() error {
	if v.pages != nil || v.all != nil {
		return nil
	}
	all := make([]byte, v.size)
	if err := readAt(v.r, all, 0); err != nil {
		return err
	}
	v.all = all
	return nil
}

func readAt(r io.ReaderAt, b []byte, at int64) error {
	if n, err := r.ReadAt(b, at); n < len(b) {
		if err == nil || errors.Is(err, io.EOF) {
			err = fmt.Errorf("the old file became shorter while it was read: %w", io.ErrUnexpectedEOF)
		}
		return err
	}
	return nil
}

// from is what stands at a position: at least a byte of it, up to the end of its page. It is nil
// after an error and at the end.
func (v *view) from(at int64) []byte {
	if at < 0 || at >= v.size || v.err != nil {
		return nil
	}
	if v.all != nil {
		return v.all[at:]
	}
	p := v.page(at / pageSize * pageSize)
	if p == nil {
		return nil
	}
	return p.data[at-p.at:]
}

func (v *view) page(at int64) *page {
	if v.last != nil && v.last.at == at {
		return v.last
	}
	v.clock++
	oldest := &v.pages[0]
	for i := range v.pages {
		p := &v.pages[i]
		if p.at == at {
			p.used, v.last = v.clock, p
			return p
		}
		if p.used < oldest.used {
			oldest = p
		}
	}
	n := min(pageSize, v.size-at)
	if cap(oldest.data) < pageSize {
		oldest.data = make([]byte, pageSize)
	}
	oldest.data = oldest.data[:n]
	oldest.at = -1
	v.last = nil
	if err := readAt(v.r, oldest.data, at); err != nil {
		v.err = err
		return nil
	}
	oldest.at, oldest.used, v.last = at, v.clock, oldest
	return oldest
}

// read fills b with what stands at a position.
func (v *view) read(b []byte, at int64) error {
	if v.all == nil && len(b) >= pageSize {
		return readAt(v.r, b, at)
	}
	for len(b) > 0 {
		from := v.from(at)
		if from == nil {
			if v.err != nil {
				return v.err
			}
			return io.ErrUnexpectedEOF
		}
		n := copy(b, from)
		b, at = b[n:], at+int64(n)
	}
	return nil
}

// forward says how many bytes from a position on are as those of b.
func (v *view) forward(at int64, b []byte) int {
	n := 0
	for n < len(b) {
		from := v.from(at + int64(n))
		if len(from) == 0 {
			break
		}
		m := same(from, b[n:])
		n += m
		if m < len(from) {
			break
		}
	}
	return n
}

// backward says how many bytes up to a position are as the last ones of b.
func (v *view) backward(at int64, b []byte) int {
	n := 0
	for n < len(b) {
		c := v.from(at - int64(n) - 1)
		if len(c) == 0 || c[0] != b[len(b)-1-n] {
			break
		}
		n++
	}
	return n
}

// same is how many bytes two slices begin with alike.
func same(a, b []byte) int {
	n := min(len(a), len(b))
	a, b = a[:n], b[:n]
	i := 0
	for ; i+8 <= n; i += 8 {
		if x := binary.LittleEndian.Uint64(a[i:]) ^ binary.LittleEndian.Uint64(b[i:]); x != 0 {
			return i + bits.TrailingZeros64(x)/8
		}
	}
	for i < n && a[i] == b[i] {
		i++
	}
	return i
}
