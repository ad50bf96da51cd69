package vcdiff

import (
	"errors"
	"fmt"
	"io"
)

// About is what a delta says of itself.
type About struct {
	Windows  int   `json:"windows"`
	Target   int64 `json:"target"`    // bytes of the new file
	OldLeast int64 `json:"old_least"` // bytes that the old file must have at the least
	Adler    bool  `json:"adler"`     // all windows have checksums
	LZMA     bool  `json:"lzma"`      // sections may be compressed
	Table    bool  `json:"table"`     // it brings a code table
	Back     bool  `json:"back"`      // windows copy from what was written before
	Header   int   `json:"header"`    // bytes of its application header
}

// Inspect reads what a delta says of itself, without the old file: sizes are those that it claims.
func Inspect(in io.Reader) (*About, []byte, error) {
	r, err := open(in, true)
	if err != nil {
		return nil, nil, err
	}
	a := &About{Adler: true, LZMA: r.compression == LZMA, Table: r.table != &defaultTable, Header: len(r.header)}
	for {
		indicator, err := r.in.ReadByte()
		if errors.Is(err, io.EOF) {
			break
		}
		a.Windows++
		if err == nil {
			err = r.skip(indicator, a)
		}
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = fmt.Errorf("it is cut short: %w", io.ErrUnexpectedEOF)
			}
			return nil, nil, &FormatError{a.Windows, err}
		}
	}
	a.Adler = a.Adler && a.Windows > 0
	return a, r.header, nil
}

// skip reads the sizes of a window and passes over the rest.
func (r *reader) skip(indicator byte, a *About) error {
	a.Adler = a.Adler && indicator&hasAdler != 0
	a.Back = a.Back || indicator&fromTarget != 0
	if indicator&(fromSource|fromTarget) != 0 {
		size, err := readInt(r.in)
		if err != nil {
			return err
		}
		from, err := readInt(r.in)
		if err != nil {
			return err
		}
		if indicator&fromSource != 0 {
			a.OldLeast = max(a.OldLeast, from+size)
		}
	}
	length, err := readInt(r.in)
	if err != nil {
		return err
	}
	count := &counter{r: r.in}
	target, err := readInt(count)
	if err != nil {
		return err
	}
	if length < count.n || target > maxWindow {
		return errBounds
	}
	a.Target += target
	_, err = io.CopyN(io.Discard, r.in, length-count.n)
	return err
}
