package zipdelta

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"sort"

	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/format/vcdiff"
	"vornix/core/format/zipfile"
)

// inMemory is how much unpacked content is compared with in memory; more goes to a temporary file.
const inMemory = 64 << 20

// source is what a delta between archives is made from: what is no entry's data in the old file,
// and some entries unpacked.
type source struct {
	parts []sourcePart
	size  int64
}

type sourcePart struct {
	at   int64 // in the source
	from int64 // in r
	size int64
	r    io.ReaderAt
}

// ReadAt implements io.ReaderAt.
func (s *source) ReadAt(b []byte, at int64) (n int, err error) {
	i := sort.Search(len(s.parts), func(i int) bool { return s.parts[i].at+s.parts[i].size > at })
	for ; n < len(b) && i < len(s.parts); i++ {
		p := &s.parts[i]
		off := at + int64(n) - p.at
		k := int(min(int64(len(b)-n), p.size-off))
		if got, err := p.r.ReadAt(b[n:n+k], p.from+off); got < k {
			return n + got, err
		}
		n += k
	}
	if n < len(b) {
		err = io.EOF
	}
	return n, err
}

func (s *source) add(r io.ReaderAt, from, size int64) {
	s.parts = append(s.parts, sourcePart{s.size, from, size, r})
	s.size += size
}

// errOld says that an entry of the old archive can't be unpacked.
var errOld = errors.New("reading the old archive")

// sourceOf unpacks what a delta is made from. done frees it.
func sourceOf(ctx context.Context, old io.ReaderAt, oldSize int64, files []*zipfile.File, entries []int,
	temp string) (s *source, size int64, done func(), err error) {
	s, done = &source{}, func() {}
	for _, g := range gaps(files, oldSize) {
		s.add(old, g.from, g.size)
	}
	var total int64
	for _, i := range entries {
		if i >= len(files) {
			return nil, 0, done, vcdiff.ErrSource
		}
		if total += files[i].Size; total > vcdiff.MaxTarget {
			return nil, 0, done, errors.New("what has to be unpacked is larger than makes sense")
		}
	}
	var mem bytes.Buffer
	var to io.Writer = &mem
	var f *safefile.Scratch
	if total > inMemory {
		if f, err = safefile.NewScratch(temp); err != nil {
			return nil, 0, done, err
		}
		to, done = f, f.Close
	} else {
		mem.Grow(int(total))
	}
	for _, i := range entries {
		if err := files[i].Copy(ctx, to); err != nil {
			done()
			return nil, 0, func() {}, fmt.Errorf("%w: %w", errOld, err)
		}
	}
	var r io.ReaderAt = bytes.NewReader(mem.Bytes())
	if f != nil {
		r = f
	}
	s.add(r, 0, total)
	return s, s.size, done, nil
}

// Limits for Decode.
type Limits struct {
	Workers int
	Most    int64             // bytes that may be written; 0: vcdiff.MaxTarget
	Temp    string            // folder for temporary files; "" for the system's
	Wrote   func(bytes int64) // is told how much was
	// Unchecked leaves it to the caller to hold the result to a hash.
	Unchecked bool
}

// Decode applies a delta of Encode, or any other, which begins where in stands. out must be an
// io.ReaderAt too if windows of the delta copy from what was written.
func Decode(ctx context.Context, old io.ReaderAt, oldSize int64, in io.ReadSeeker, out io.Writer,
	l Limits) (*vcdiff.Stats, error) {
	start, err := in.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil, err
	}
	app, err := vcdiff.Open(in)
	if err != nil {
		return nil, err
	}
	if _, err := in.Seek(start, io.SeekStart); err != nil {
		return nil, err
	}
	h, err := parseHeader(app)
	if err != nil {
		return nil, err
	}
	if l.Most == 0 {
		l.Most = vcdiff.MaxTarget
	}
	if h == nil {
		return vcdiff.Decode(ctx, old, oldSize, in, out, vcdiff.Limits{Most: l.Most, Wrote: l.Wrote})
	}
	if h.packing != zipfile.Packing {
		return nil, &vcdiff.FormatError{
			Err: fmt.Errorf("it is for a Vornix that packs archives in way %d, and this one packs in way %d; use one of its time, or get the whole file", h.packing, zipfile.Packing)}
	}
	if h.newSize > l.Most {
		return nil, &vcdiff.FormatError{Err: fmt.Errorf("it makes %d bytes, more than the %d that are allowed",
			h.newSize, l.Most)}
	}
	if h.oldSize != oldSize {
		return nil, fmt.Errorf("%w (the old file should have %d bytes, and has %d)", vcdiff.ErrSource, h.oldSize,
			oldSize)
	}
	was, err := zipfile.Open(old, oldSize)
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", vcdiff.ErrSource, err)
	}
	src, size, done, err := sourceOf(ctx, old, oldSize, was.Files, h.entries, l.Temp)
	if err != nil {
		return nil, err
	}
	defer done()
	var stats *vcdiff.Stats
	g, ctx := group.WithContext(ctx)
	pr, pw := io.Pipe()
	g.Go(func() error {
		s, err := vcdiff.Decode(ctx, src, size, in, pw, vcdiff.Limits{Most: l.Most + maxRecipe})
		stats = s
		pw.CloseWithError(err) // nil is io.EOF
		return err
	})
	g.Go(func() error {
		err := put(ctx, old, oldSize, bufio.NewReaderSize(pr, 1<<16), out, h, l)
		if err != nil {
			pr.CloseWithError(err)
		}
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return stats, nil
}

// put writes the new archive.
func put(ctx context.Context, old io.ReaderAt, oldSize int64, in *bufio.Reader, out io.Writer, h *header,
	l Limits) error {
	steps, err := readRecipe(in, oldSize)
	if err != nil {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	sum := sha256.New()
	follower := zipfile.NewFollower(max(h.start, 0))
	to := []io.Writer{out}
	if !l.Unchecked {
		to = append(to, sum)
	}
	if h.start >= 0 {
		to = append(to, follower)
	}
	w := &limited{w: io.MultiWriter(to...), left: h.newSize, wrote: l.Wrote}
	for {
		s, more, err := steps.next()
		if err != nil {
			return &vcdiff.FormatError{Err: err}
		}
		if !more {
			break
		}
		switch s.kind {
		case copied:
			_, err = io.Copy(w, safefile.Until(ctx, io.NewSectionReader(old, s.from, s.size)))
		case literal:
			_, err = io.CopyN(w, in, s.size)
		case index:
			var dir []byte
			if dir, _, err = follower.Directory(); err == nil {
				_, err = w.Write(dir)
			}
		case packed:
			err = zipfile.Repack(ctx, s.method, s.size, io.LimitReader(in, s.size), w, l.Workers)
		}
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
	}
	if _, err := in.ReadByte(); !errors.Is(err, io.EOF) {
		if err == nil {
			err = &vcdiff.FormatError{Err: errHeader}
		}
		return err
	}
	if w.left != 0 || !l.Unchecked && !bytes.Equal(sum.Sum(nil), h.sum[:]) {
		return vcdiff.ErrSource
	}
	return nil
}

// limited refuses more bytes than were announced.
type limited struct {
	w     io.Writer
	left  int64
	wrote func(int64)
}

func (l *limited) Write(b []byte) (int, error) {
	if int64(len(b)) > l.left {
		return 0, vcdiff.ErrSource
	}
	l.left -= int64(len(b))
	if l.wrote != nil {
		l.wrote(int64(len(b)))
	}
	return l.w.Write(b)
}
