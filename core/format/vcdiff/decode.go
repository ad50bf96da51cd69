package vcdiff

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/adler32"
	"io"
	"sync"
)

const (
	// maxWindow is the largest window that is read: a bound on memory.
	maxWindow = 64 << 20
	maxHeader = 16 << 20
	// MaxTarget is how much Decode writes unless it is told otherwise: a delta that says that it
	// makes more is probably a trap.
	MaxTarget = 64 << 30
)

// ErrSource says that the old file is not the one that the delta was made from.
var ErrSource = errors.New("it was made from another file, or is damaged")

// FormatError says that a delta is damaged, cut short, or not one.
type FormatError struct {
	Window int // from 1; 0: in what stands before them
	Err    error
}

func (e *FormatError) Error() string {
	if e.Window == 0 {
		return "the delta can't be read: " + e.Err.Error()
	}
	return fmt.Sprintf("the delta can't be read, in its window %d: %s", e.Window, e.Err)
}

func (e *FormatError) Unwrap() error { return e.Err }

// Limits for Decode.
type Limits struct {
	Most  int64             // bytes that may be written; 0: MaxTarget
	Wrote func(bytes int64) // is told how much was
}

// reader reads a delta.
type reader struct {
	in          *bufio.Reader
	limits      Limits
	compression Compression
	table       *codeTable
	near, same  int
	header      []byte
	number      int // of the window
	unpackers   [3]unpacker
	a           *addresses
	old         *view
	back        io.ReaderAt // what was written, for windows that copy from it; nil: those are refused
	written     int64
	out         *behind
	buffers     [2]windowBuffer
	stats       Stats
}

// Open reads what stands before the windows of a delta, and returns its application header; nil when it has none.
func Open(delta io.Reader) (header []byte, err error) {
	r, err := open(delta, true)
	if err != nil {
		return nil, err
	}
	return r.header, nil
}

// Decode writes the file that a delta makes of old to out. A window that copies from what was
// written before is read back from out, which must be an io.ReaderAt then.
func Decode(ctx context.Context, old io.ReaderAt, oldSize int64, delta io.Reader, out io.Writer, limits Limits) (*Stats,
	error) {
	r, err := open(delta, true)
	if err != nil {
		return nil, err
	}
	r.limits = limits
	return r.run(ctx, old, oldSize, out)
}

func (r *reader) run(ctx context.Context, old io.ReaderAt, oldSize int64, out io.Writer) (*Stats, error) {
	if r.limits.Most == 0 {
		r.limits.Most = MaxTarget
	}
	const kept = 8 << 20
	r.old = newView(old, oldSize, kept, kept)
	if err := r.old.load(); err != nil {
		return nil, err
	}
	r.back, _ = out.(io.ReaderAt)
	r.out = newBehind(out)
	err := r.windows(ctx)
	if e := r.out.close(); e != nil {
		err = e
	}
	if err != nil {
		return nil, err
	}
	r.stats.Target, r.stats.Packed = r.written, r.compression != None
	return &r.stats, nil
}

func (r *reader) windows(ctx context.Context) error {
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		r.number++
		n, err := r.window()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			if errors.Is(err, ErrSource) || r.old.err != nil {
				return err
			}
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = fmt.Errorf("it is cut short: %w", err)
			}
			return &FormatError{r.number, err}
		}
		r.written += int64(n)
		r.stats.Windows++
		if r.limits.Wrote != nil {
			r.limits.Wrote(int64(n))
		}
	}
}

// behind writes what is decoded while the next is, since who writes hashes too.
type behind struct {
	w     io.Writer
	parts chan part
	err   error // of the writer, once ended is closed
	ended chan struct{}
}

type part struct {
	b    []byte
	done *sync.WaitGroup // of the buffer that b is in
}

// partSize is how much of a window is handed over at once.
const partSize = 256 << 10

func newBehind(w io.Writer) *behind {
	b := &behind{w: w, parts: make(chan part, 64), ended: make(chan struct{})}
	go func() {
		defer close(b.ended)
		for p := range b.parts {
			if b.err == nil {
				_, b.err = w.Write(p.b)
			}
			p.done.Done()
		}
	}()
	return b
}

func (b *behind) write(data []byte, done *sync.WaitGroup) {
	done.Add(1)
	b.parts <- part{data, done}
}

// close waits for all that was handed over, and says what became of it.
func (b *behind) close() error {
	close(b.parts)
	<-b.ended
	return b.err
}

// windowBuffer is the target of a window; the next one has another, and the one after that waits
// until this one is written.
type windowBuffer struct {
	b    []byte
	busy sync.WaitGroup
}

func open(delta io.Reader, custom bool) (*reader, error) {
	r := &reader{in: bufio.NewReaderSize(delta, 1<<16), table: &defaultTable, near: defaultNear, same: defaultSame}
	if err := r.head(custom); err != nil {
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = io.ErrUnexpectedEOF
		}
		return nil, &FormatError{0, err}
	}
	r.a = newAddresses(r.near, r.same)
	return r, nil
}

func (r *reader) head(custom bool) error {
	var b [5]byte
	if _, err := io.ReadFull(r.in, b[:]); err != nil {
		return fmt.Errorf("it does not begin as a VCDIFF file does: %w", err)
	}
	if !bytes.Equal(b[:4], magic) {
		return errors.New("it does not begin as a VCDIFF file does")
	}
	if b[4]&^(hasCompression|hasTable|hasHeader) != 0 {
		return fmt.Errorf("it has something that no standard names (indicator %#x)", b[4])
	}
	if b[4]&hasCompression != 0 {
		c, err := r.in.ReadByte()
		if err != nil {
			return err
		}
		if r.compression = Compression(c); r.compression != LZMA {
			return fmt.Errorf("its sections may be compressed by method %d, and Vornix knows LZMA (2) only; make it again with that or without", c)
		}
	}
	if b[4]&hasTable != 0 {
		if !custom {
			return errors.New("the delta of a code table has a code table of its own")
		}
		if err := r.readTable(); err != nil {
			return err
		}
	}
	if b[4]&hasHeader != 0 {
		n, err := readInt(r.in)
		if err != nil {
			return err
		}
		if n > maxHeader {
			return errors.New("its application header is too large")
		}
		var h bytes.Buffer
		if _, err := io.CopyN(&h, r.in, n); err != nil {
			return err
		}
		r.header = append([]byte{}, h.Bytes()...)
	}
	return nil
}

// readTable reads a code table: the sizes of the caches, and a delta from the default table (RFC 3284, 7).
func (r *reader) readTable() error {
	n, err := readInt(r.in)
	if err != nil {
		return err
	}
	if n < 2 || n > 1<<16 {
		return errors.New("its code table has a size that makes no sense")
	}
	b := make([]byte, n)
	if _, err := io.ReadFull(r.in, b); err != nil {
		return err
	}
	r.near, r.same = int(b[0]), int(b[1])
	if 2+r.near+r.same > 256 {
		return errors.New("its caches of addresses are larger than there are modes")
	}
	inner, err := open(bytes.NewReader(b[2:]), false)
	if err != nil {
		return err
	}
	inner.limits.Most = 6 * 256
	var table bytes.Buffer
	from := defaultTable.bytes()
	if _, err := inner.run(context.Background(), bytes.NewReader(from), int64(len(from)), &table); err != nil {
		return err
	}
	r.table, err = parseTable(table.Bytes(), r.near, r.same)
	return err
}

var errBounds = errors.New("its sizes contradict each other")

// window reads a window, makes its target and hands it over; io.EOF says that there is none any more.
func (r *reader) window() (int, error) {
	indicator, err := r.in.ReadByte()
	if err != nil {
		return 0, err
	}
	target, err := r.windowOf(indicator)
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return len(target), err
}

func (r *reader) windowOf(indicator byte) ([]byte, error) {
	if indicator&^(fromSource|fromTarget|hasAdler) != 0 || indicator&fromSource != 0 && indicator&fromTarget != 0 {
		return nil, fmt.Errorf("it has something that no standard names (indicator %#x)", indicator)
	}
	var segment, from int64
	var err error
	if indicator&(fromSource|fromTarget) != 0 {
		if segment, err = readInt(r.in); err != nil {
			return nil, err
		}
		if from, err = readInt(r.in); err != nil {
			return nil, err
		}
		limit := r.old.size
		if indicator&fromTarget != 0 {
			limit = r.written
			if r.back == nil {
				return nil, errors.New("it copies from what was written before, which can't be read back here")
			}
		}
		if segment > limit || from > limit-segment {
			if indicator&fromSource != 0 {
				return nil, fmt.Errorf("%w (it wants bytes %d to %d of a file of %d)", ErrSource, from, from+segment,
					limit)
			}
			return nil, errBounds
		}
	}
	length, err := readInt(r.in)
	if err != nil {
		return nil, err
	}
	count := &counter{r: r.in}
	size, err := readInt(count)
	if err != nil {
		return nil, err
	}
	if size > maxWindow {
		return nil, fmt.Errorf("it makes %d bytes at once, more than the %d that are allowed", size, maxWindow)
	}
	if size > r.limits.Most-r.written {
		return nil, fmt.Errorf("it makes more than the %d bytes that are allowed", r.limits.Most)
	}
	packed, err := count.ReadByte()
	if err != nil {
		return nil, err
	}
	if packed&^(dataPacked|instPacked|addrPacked) != 0 || packed != 0 && r.compression == None {
		return nil, errors.New("its sections are packed, and nothing says how")
	}
	var sizes [3]int64
	for i := range sizes {
		if sizes[i], err = readInt(count); err != nil {
			return nil, err
		}
	}
	var adler uint32
	if indicator&hasAdler != 0 {
		r.stats.Adler = true
		for range 4 {
			c, err := count.ReadByte()
			if err != nil {
				return nil, err
			}
			adler = adler<<8 | uint32(c)
		}
	}
	most := 4*size + 1<<16 // more than instructions for so many bytes take
	if sizes[0] > most || sizes[1] > most || sizes[2] > most || count.n+sizes[0]+sizes[1]+sizes[2] != length {
		return nil, errBounds
	}
	var sections [3][]byte
	for i := range sections {
		var b bytes.Buffer
		b.Grow(int(min(sizes[i], 1<<20))) // grows as it is filled: the size may be a lie
		if _, err := io.CopyN(&b, r.in, sizes[i]); err != nil {
			return nil, err
		}
		sections[i] = b.Bytes()
		if packed&(1<<i) != 0 {
			limit := most
			if i == 0 {
				limit = size // each byte that it brings makes at least one
			}
			if sections[i], err = r.unpackers[i].unpack(sections[i], limit); err != nil {
				return nil, err
			}
		}
	}
	buffer := &r.buffers[r.number%2]
	buffer.busy.Wait()
	if int64(cap(buffer.b)) < size {
		buffer.b = make([]byte, 0, size)
	}
	target := buffer.b[:0]
	segmentOf := func(b []byte, at int64) error { return r.old.read(b, from+at) }
	if indicator&fromTarget != 0 {
		r.buffers[(r.number+1)%2].busy.Wait() // until it can be read
		segmentOf = func(b []byte, at int64) error { return readAt(r.back, b, from+at) }
	}
	if target, err = r.follow(target, int(size), sections, segment, segmentOf, &buffer.busy); err != nil {
		return nil, err
	}
	if indicator&hasAdler != 0 && adler32.Checksum(target) != adler {
		return nil, ErrSource
	}
	return target, nil
}

// follow does what the instructions say.
func (r *reader) follow(target []byte, size int, sections [3][]byte, segment int64, read func(b []byte, at int64) error,
	busy *sync.WaitGroup) ([]byte, error) {
	data, inst, addr := sections[0], sections[1], sections[2]
	given := 0 // how much of the target was handed over
	r.a.reset()
	for len(inst) > 0 {
		pair := &r.table[inst[0]]
		inst = inst[1:]
		if len(target)-given >= partSize {
			r.out.write(target[given:len(target):len(target)], busy)
			given = len(target)
		}
		for _, in := range pair {
			if in.kind == noop {
				continue
			}
			n64 := int64(in.size)
			if n64 == 0 {
				var err error
				if n64, inst, err = cutInt(inst); err != nil {
					return nil, err
				}
			}
			if n64 > int64(size-len(target)) {
				return nil, errors.New("its instructions make more than it says")
			}
			n := int(n64)
			switch in.kind {
			case add:
				if n > len(data) {
					return nil, errors.New("its instructions add more than it brings")
				}
				target = append(target, data[:n]...)
				data = data[n:]
				r.stats.Added += n64
			case run:
				if len(data) == 0 {
					return nil, errors.New("its instructions add more than it brings")
				}
				at := len(target)
				target = target[:at+n]
				for i := range target[at:] {
					target[at+i] = data[0]
				}
				data = data[1:]
				r.stats.Again += n64
			case copyFrom:
				var from int64
				var err error
				if from, addr, err = r.a.decode(addr, in.mode, segment+int64(len(target))); err != nil {
					return nil, err
				}
				if from < segment {
					part := int(min(n64, segment-from)) // a copy may begin in the segment and end in the target
					at := len(target)
					target = target[:at+part]
					if err := read(target[at:], from); err != nil {
						return nil, err
					}
					r.stats.Copied += int64(part)
					n, from = n-part, from+int64(part)
				}
				r.stats.Again += int64(n)
				for p := int(from - segment); n > 0; { // what is copied may reach into what the copy itself makes
					part := min(n, len(target)-p)
					target = append(target, target[p:p+part]...)
					n, p = n-part, p+part
				}
			}
		}
	}
	if len(target) != size || len(data) != 0 || len(addr) != 0 {
		return nil, errBounds
	}
	if given < len(target) {
		r.out.write(target[given:], busy)
	}
	return target, nil
}

// counter counts the bytes that are read one by one.
type counter struct {
	r io.ByteReader
	n int64
}

func (c *counter) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}
