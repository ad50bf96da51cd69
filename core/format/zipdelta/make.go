package zipdelta

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math"
	"path"
	"slices"

	"vornix/core/base/safefile"
	"vornix/core/format/vcdiff"
	"vornix/core/format/zipfile"
)

// Options for Encode.
type Options struct {
	Workers     int
	Compression vcdiff.Compression
	MostPacked  int64             // as of vcdiff.Options
	Temp        string            // folder for temporary files; "" for the system's
	Wrote       func(bytes int64) // is told how much of the new file is done
}

// Stats say what became of the entries of the new archive.
type Stats struct {
	vcdiff.Stats
	Archive bool `json:"archive"` // it was taken apart
	Same    int  `json:"same"`    // entries copied as they are
	Changed int  `json:"changed"` // compared with an old one
	Fresh   int  `json:"fresh"`   // with nothing to compare
	AsIs    int  `json:"as_is"`   // changed ones that can't be packed again to the same bytes
}

// ErrPlain says that files can't be taken apart, or have nothing to gain from it.
var ErrPlain = errors.New("not both are archives")

// span is a part of a file.
type span struct{ from, size int64 }

// gaps are the parts of an archive that are no entry's data, front to back.
func gaps(files []*zipfile.File, size int64) (list []span) {
	at := int64(0)
	for _, f := range byPlace(files) {
		if f.Data > at {
			list = append(list, span{at, f.Data - at})
		}
		at = f.Data + f.Packed
	}
	if at < size {
		list = append(list, span{at, size - at})
	}
	return list
}

func byPlace(files []*zipfile.File) []*zipfile.File {
	list := slices.Clone(files)
	slices.SortStableFunc(list, func(a, b *zipfile.File) int { return cmp.Compare(a.Data, b.Data) })
	return list
}

// Encode writes the delta between two archives. With ErrPlain nothing was written, and vcdiff.Encode is to be used.
func Encode(ctx context.Context, old io.ReaderAt, oldSize int64, now io.ReaderAt, newSize int64, out io.Writer,
	o Options) (*Stats, error) {
	was, err := zipfile.Open(old, oldSize)
	if err != nil || len(was.Files) == 0 {
		return nil, ErrPlain
	}
	is, err := zipfile.Open(now, newSize)
	if err != nil || len(is.Files) == 0 {
		return nil, ErrPlain
	}
	m := &making{ctx: ctx, o: o, old: old, now: now, was: was.Files, is: byPlace(is.Files)}
	if err := m.compare(); err != nil {
		return nil, err
	}
	h := &header{packing: zipfile.Packing, oldSize: oldSize, newSize: newSize, start: begin(now, m.is[0])}
	sum, follower := sha256.New(), zipfile.NewFollower(max(h.start, 0))
	if _, err := io.Copy(io.MultiWriter(sum, follower),
		safefile.Until(ctx, io.NewSectionReader(now, 0, newSize))); err != nil {
		return nil, err
	}
	copy(h.sum[:], sum.Sum(nil))
	end := newSize // of what is not the directory
	if dir, at, err := follower.Directory(); err != nil || h.start < 0 || at+int64(len(dir)) != newSize ||
		!equal(ctx, bytes.NewReader(dir), io.NewSectionReader(now, at, newSize-at)) {
		h.start = -1
	} else {
		end = at
	}
	for i, used := range m.used {
		if used {
			h.entries = append(h.entries, i)
		}
	}
	source, sourceSize, done, err := sourceOf(ctx, old, oldSize, was.Files, h.entries, o.Temp)
	if err != nil {
		if ctx.Err() == nil && errors.Is(err, errOld) {
			err = ErrPlain // the old archive is damaged, which does not matter to a delta of its bytes
		}
		return nil, err
	}
	defer done()
	steps, target := m.steps(end)
	if end < newSize {
		steps = append(steps, step{kind: index, size: newSize - end})
	}
	s := &m.stats
	head := recipe(steps)
	size := int64(len(head))
	for _, st := range steps {
		if st.kind == literal || st.kind == packed {
			size += st.size
		}
	}
	d, err := vcdiff.Encode(ctx, source, sourceSize, io.MultiReader(bytes.NewReader(head), target), out,
		vcdiff.Options{Workers: o.Workers, Compression: o.Compression, MostPacked: o.MostPacked, Header: h.bytes(),
			Size: size, Wrote: o.Wrote})
	if err != nil {
		return nil, err
	}
	s.Stats, s.Archive = *d, true
	return s, nil
}

// begin is where the header of an archive's first entry begins, when it is written as we do; -1 otherwise.
func begin(r io.ReaderAt, f *zipfile.File) int64 {
	const fixed = 30
	limit := min(f.Data, fixed+int64(len(f.Name))+1<<16)
	b := make([]byte, limit)
	if _, err := r.ReadAt(b, f.Data-limit); err != nil {
		return -1
	}
	for at := len(b) - fixed - len(f.Name); at >= 0; at-- {
		h := b[at:]
		if bytes.HasPrefix(h, []byte("PK\x03\x04")) &&
			int(binary.LittleEndian.Uint16(h[26:]))+int(binary.LittleEndian.Uint16(h[28:])) == len(h)-fixed &&
			string(h[fixed:fixed+len(f.Name)]) == f.Name {
			return f.Data - limit + int64(at)
		}
	}
	return -1
}

// making is one run of Encode.
type making struct {
	ctx      context.Context
	o        Options
	old, now io.ReaderAt
	was, is  []*zipfile.File
	same     []*zipfile.File // for each of is: the old entry with the same packed bytes
	repacks  []bool          // for each of is: packing it again gives the same bytes
	used     []bool          // for each of was: changed entries are compared with it
	stats    Stats
}

type identity struct {
	crc          uint32
	size, packed int64
	method       zipfile.Method
}

func identityOf(f *zipfile.File) identity { return identity{f.CRC32, f.Size, f.Packed, f.Method} }

// compare finds what became of each entry.
func (m *making) compare() error {
	m.same, m.repacks, m.used = make([]*zipfile.File, len(m.is)), make([]bool, len(m.is)), make([]bool, len(m.was))
	known, named := map[identity][]*zipfile.File{}, map[string]int{}
	for i, f := range m.was {
		known[identityOf(f)] = append(known[identityOf(f)], f)
		named[f.Name] = i
	}
	var alone []int // entries with no old one of their name
	for i, f := range m.is {
		if err := m.ctx.Err(); err != nil {
			return err
		}
		for _, k := range known[identityOf(f)] {
			if f.Packed > 0 && equal(m.ctx, k.Raw(), f.Raw()) {
				m.same[i] = k
				break
			}
		}
		if m.same[i] != nil || f.Packed == 0 {
			m.stats.Same++
			continue
		}
		if f.Method != zipfile.Store {
			var err error
			if m.repacks[i], err = m.packsAgain(f); err != nil {
				return err
			}
			if !m.repacks[i] {
				m.stats.AsIs++
			}
		}
		if n, ok := named[f.Name]; ok && readable(m.was[n]) {
			m.used[n] = true
			m.stats.Changed++
		} else {
			alone = append(alone, i)
		}
	}
	return m.relate(alone)
}

// readable says whether an entry's content can be compared with, as far as the directory tells.
func readable(f *zipfile.File) bool { return f.Trouble == "" && !f.Dir }

// equal says whether two readers give the same.
func equal(ctx context.Context, a, b io.Reader) bool {
	const part = 64 << 10
	x, y := make([]byte, part), make([]byte, part)
	for ctx.Err() == nil {
		n, err := io.ReadFull(a, x)
		k, err2 := io.ReadFull(b, y)
		if n != k || !bytes.Equal(x[:n], y[:k]) {
			return false
		}
		if err != nil || err2 != nil {
			return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		}
	}
	return false
}

// packsAgain says whether an entry's content, packed by us, comes to the bytes it has.
func (m *making) packsAgain(f *zipfile.File) (bool, error) {
	r, err := f.Open()
	if err != nil || f.Trouble != "" {
		return false, nil // it is taken as it is
	}
	defer r.Close()
	c := &comparing{with: bufio.NewReaderSize(f.Raw(), 1<<16)}
	err = zipfile.Repack(m.ctx, f.Method, f.Size, r, c, m.o.Workers)
	if m.ctx.Err() != nil {
		return false, m.ctx.Err()
	}
	return err == nil && c.n == f.Packed, nil
}

var errDiffers = errors.New("it differs")

// comparing is a writer that ends at the first byte that is not as that of another.
type comparing struct {
	with io.Reader
	n    int64
	b    []byte
}

func (c *comparing) Write(p []byte) (int, error) {
	if cap(c.b) < len(p) {
		c.b = make([]byte, len(p))
	}
	c.b = c.b[:len(p)]
	if _, err := io.ReadFull(c.with, c.b); err != nil || !bytes.Equal(c.b, p) {
		return 0, errDiffers
	}
	c.n += int64(len(p))
	return len(p), nil
}

// relate finds old entries that those without one of their name are like: what they have in common
// is told by a sketch of both.
func (m *making) relate(alone []int) error {
	if len(alone) == 0 {
		return nil
	}
	at := map[uint32][]int{} // old entries by what is in their sketches
	for i, f := range m.was {
		s, err := m.sketch(f)
		if err != nil {
			return err
		}
		for _, h := range s {
			at[h] = append(at[h], i)
		}
	}
	for _, i := range alone {
		s, err := m.sketch(m.is[i])
		if err != nil {
			return err
		}
		count := map[int]int{}
		for _, h := range s {
			for _, n := range at[h] {
				count[n]++
			}
		}
		best, limit := -1, 0
		for n, c := range count {
			ending := path.Ext(m.was[n].Name) == path.Ext(m.is[i].Name)
			if c = c*2 + b2i(ending); c > limit || c == limit && n < best {
				best, limit = n, c
			}
		}
		if best < 0 || limit < 4 {
			m.stats.Fresh++
			continue
		}
		m.used[best] = true
		m.stats.Changed++
	}
	return nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

const (
	sketchSize   = 24  // how many hashes tell an entry
	sketchWindow = 32  // of how many bytes each is
	sketchRate   = 127 // one place of 128 is considered
)

// gear has a random number for each byte: a hash of the last 32 bytes is a sum of them, shifted.
var gear = func() (t [256]uint32) {
	for i := range t {
		t[i] = crc32.ChecksumIEEE([]byte{byte(i), 0x9d, byte(i), 0x3c})
	}
	return t
}()

// sketch is the smallest hashes of what an entry holds, places chosen by content, so that what was
// inserted before does not matter.
func (m *making) sketch(f *zipfile.File) ([]uint32, error) {
	if !readable(f) {
		return nil, nil
	}
	r, err := f.Open()
	if err != nil {
		return nil, nil // it can't be read: nothing is known of it
	}
	defer r.Close()
	var list []uint32
	limit, h := uint32(math.MaxUint32), uint32(0)
	buf := make([]byte, 64<<10)
	for {
		if err := m.ctx.Err(); err != nil {
			return nil, err
		}
		n, err := r.Read(buf)
		for _, c := range buf[:n] {
			h = h<<1 + gear[c]
			if h>>25&sketchRate == 0 {
				if v := h * 0x9e3779b1; v < limit && !slices.Contains(list, v) {
					list = append(list, v)
					if len(list) > sketchSize {
						slices.Sort(list)
						list = list[:sketchSize]
						limit = list[sketchSize-1]
					}
				}
			}
		}
		if err != nil {
			return list, nil // as far as it could be read
		}
	}
}

// steps says how the new archive is put together, and gives what the delta's target is besides.
func (m *making) steps(newSize int64) ([]step, io.Reader) {
	var steps []step
	var parts []io.Reader
	add := func(s step, r io.Reader) {
		if n := len(steps); n > 0 {
			last := &steps[n-1]
			if last.kind == s.kind && (s.kind == literal || s.kind == copied && last.from+last.size == s.from) {
				last.size += s.size
				s.size = 0
			}
		}
		if s.size > 0 {
			steps = append(steps, s)
		}
		if r != nil {
			parts = append(parts, r)
		}
	}
	at := int64(0)
	var last *zipfile.File // the old entry that was copied last
	raw := func(end int64) {
		if end <= at {
			return
		}
		add(step{kind: literal, size: end - at}, safefile.Until(m.ctx, io.NewSectionReader(m.now, at, end-at)))
		at = end
	}
	for i, f := range m.is {
		if k := m.same[i]; k != nil {
			// What stands between two entries is copied too when it is the same, so that a row of them is one step.
			if before := f.Data - at; last != nil && k.Data-before == last.Data+last.Packed &&
				equal(m.ctx, io.NewSectionReader(m.now, at, before),
					io.NewSectionReader(m.old, k.Data-before, before)) {
				add(step{kind: copied, size: before, from: k.Data - before}, nil)
				at = f.Data
			}
			raw(f.Data)
			add(step{kind: copied, size: f.Packed, from: k.Data}, nil)
			at, last = f.Data+f.Packed, k
			continue
		}
		last = nil
		raw(f.Data)
		if m.repacks[i] {
			add(step{kind: packed, size: f.Size, method: f.Method}, &opening{f: f})
			at = f.Data + f.Packed
			continue
		}
		raw(f.Data + f.Packed)
	}
	raw(newSize)
	return steps, io.MultiReader(parts...)
}

// opening reads an entry, opened when it is its turn.
type opening struct {
	f *zipfile.File
	r io.ReadCloser
}

func (o *opening) Read(b []byte) (n int, err error) {
	if o.r == nil {
		if o.r, err = o.f.Open(); err != nil {
			return 0, err
		}
	}
	n, err = o.r.Read(b)
	if err != nil {
		err = errors.Join(err, o.r.Close())
		if errors.Is(err, io.EOF) {
			err = io.EOF
		}
	}
	return n, err
}
