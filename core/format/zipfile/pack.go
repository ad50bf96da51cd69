package zipfile

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/semaphore"

	"vornix/core/base/fault"
	"vornix/core/base/group"
)

const (
	// gather is how large an entry may be whose packed blocks all wait in memory until its sizes
	// are known. The header of a larger one is written first and corrected afterwards.
	gather = 16 << 20
	// inFlight is how much content is between reading and writing at any time.
	inFlight = 48 << 20
	// sampled is how much of a large entry is packed at its beginning, at a third and at two
	// thirds, to see whether it shrinks.
	sampled = 64 << 10
)

// Source is a file for an archive.
type Source struct {
	Name   string // slash path in the archive
	Size   int64  // what it must have
	SHA256 string // what it must be, in hex; empty when nobody knows
	Method Method // what does not become smaller is stored all the same
	Align  int    // its data begins at a multiple of this, a power of two; 0 and 1 for anywhere
	Open   func() (io.ReadCloser, error)
	// Old is the same content in an older archive, packed by the same method and version; nil when there is none.
	Old *Old
}

// Old is an entry of an older archive that may be taken over as it is.
type Old struct {
	File  io.ReaderAt
	Entry Entry
	Check uint32 // Packed.Check of then
}

// Packed is an entry as it was written.
type Packed struct {
	Entry
	Part  int    // which of the archives it went to, from 0
	Check uint32 // CRC-32C of its packed bytes, by which they are known again
	Taken bool   // from an older archive
}

// Options for Pack.
type Options struct {
	Workers int
	// Largest is how large one archive may become, with what stands before it; 0 for any size.
	// Entries go into the first archive in the order of their names; the one that would make it too
	// large begins the next. One of more than 16 MiB counts with its size unpacked.
	Largest int64
	// Look sees the content of each entry that is read, in order; nil for nobody. It is called from
	// several goroutines, the writer of one entry from one at a time.
	Look func(name string) io.Writer
	// Wrote is told how much of the content has been written.
	Wrote func(bytes int64)
}

// ChangedError says that a file is not what its source says it is.
type ChangedError struct{ Name string }

func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s changed while it was packed, or before", e.Name)
}

// ErrOld says that an older archive, from which an entry was to be taken, is not as it was packed.
var ErrOld = errors.New("the older archive is not as it was packed")

// Pack writes archives with the sources as entries, sorted by name. next gives the file of each
// archive and how much stands in it already. The same sources give the same bytes with any number
// of workers; memory does not grow with them.
func Pack(ctx context.Context, sources []Source, o Options,
	next func(part int) (sink Sink, offset int64, err error)) ([]Packed, error) {
	sources = slices.Clone(sources)
	slices.SortFunc(sources, func(a, b Source) int { return strings.Compare(a.Name, b.Name) })
	for i, s := range sources {
		if err := checkName(s.Name); err != nil {
			return nil, err
		}
		if i > 0 && sources[i-1].Name == s.Name {
			return nil, fmt.Errorf("two files would become the entry %s", s.Name)
		}
	}
	workers := max(o.Workers, 1)
	g, ctx := group.WithContext(ctx)
	p := &packing{ctx: ctx, o: o, memory: semaphore.NewWeighted(inFlight), items: make(chan *item, 64*workers),
		tasks: make(chan func() error, 8*workers)}
	for range workers {
		g.Go(func() error {
			for t := range p.tasks {
				if err := t(); err != nil {
					return err
				}
			}
			return nil
		})
	}
	g.Go(func() error {
		defer close(p.items)
		defer close(p.tasks)
		for i := range sources {
			if err := p.feed(&sources[i]); err != nil {
				return fmt.Errorf("packing %s: %w", sources[i].Name, err)
			}
		}
		return nil
	})
	var written []Packed
	g.Go(func() (err error) {
		written, err = p.write(next)
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return written, nil
}

// packing is one run of Pack: one goroutine feeds, workers compress, one goroutine writes.
//
// Order comes from two queues. items has the entries in the order of their names; the blocks of an
// entry are channels of one result each, queued in the order of its content. The writer takes them
// in that order, so the bytes never depend on which worker was first. Memory is acquired before a
// block is read and released after it was written: feed waits when inFlight is in use. This can't
// deadlock, since memory is acquired in the order in which the writer releases it, and a block that
// has memory never waits for a later one.
type packing struct {
	ctx    context.Context
	o      Options
	memory *semaphore.Weighted
	items  chan *item // in the order of their names
	tasks  chan func() error
}

// item is an entry on its way; its blocks come in order.
type item struct {
	source *Source
	blocks chan chan done // closed after the last
	method Method
	crc    uint32 // of all, once blocks is closed
	copied bool
}

// done is a packed block.
type done struct {
	data   []byte
	memory int64  // to give back when it is written
	raw    int64  // bytes of content
	method Method // for an entry of one block: what it came to
	crc    uint32 // for an entry of one block
}

// task hands work to the workers.
func (p *packing) task(f func() error) error {
	select {
	case p.tasks <- f:
		return nil
	case <-p.ctx.Done():
		return p.ctx.Err()
	}
}

func (p *packing) announce(it *item) error {
	select {
	case p.items <- it:
		return nil
	case <-p.ctx.Done():
		return p.ctx.Err()
	}
}

// slot is the place of the next block of an item.
func (p *packing) slot(it *item) (chan done, error) {
	s := make(chan done, 1)
	select {
	case it.blocks <- s:
		return s, nil
	case <-p.ctx.Done():
		return nil, p.ctx.Err()
	}
}

// feed sends a source's blocks to the workers.
func (p *packing) feed(s *Source) error {
	it := &item{source: s, blocks: make(chan chan done, 64), method: s.Method}
	if s.Old != nil {
		it.copied, it.method, it.crc = true, s.Old.Entry.Method, s.Old.Entry.CRC32
		if err := p.announce(it); err != nil {
			return err
		}
		defer close(it.blocks)
		return p.copy(it)
	}
	if s.Size <= blockOf(s.Method) {
		return p.whole(it)
	}
	return p.inBlocks(it)
}

// whole lets a worker do all of a small file.
func (p *packing) whole(it *item) error {
	s := it.source
	if err := p.memory.Acquire(p.ctx, s.Size); err != nil {
		return err
	}
	if err := p.announce(it); err != nil {
		return err
	}
	to, err := p.slot(it)
	if err != nil {
		return err
	}
	close(it.blocks)
	return p.task(func() error {
		r, err := s.Open()
		if err != nil {
			return fmt.Errorf("packing %s: %w", s.Name, err)
		}
		defer r.Close()
		data := make([]byte, s.Size)
		sum := newSums(s, p.o)
		if err := readFull(r, data, true, s); err != nil {
			return err
		}
		sum.add(data)
		if err := sum.check(); err != nil {
			return err
		}
		packed, err := compress(s.Method, data, nil, true)
		if err != nil {
			return err
		}
		d := done{data: packed, memory: s.Size, raw: s.Size, method: s.Method, crc: sum.crc}
		if len(packed) >= len(data) {
			d.data, d.method = data, Store
		}
		to <- d
		return nil
	})
}

// inBlocks reads a large file in order and lets workers pack its blocks.
func (p *packing) inBlocks(it *item) error {
	s := it.source
	r, err := s.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	sum := newSums(s, p.o)
	var before []byte
	size := blockOf(s.Method)
	defer close(it.blocks)
	for left := s.Size; left > 0; {
		n := min(left, size)
		first := left == s.Size
		left -= n
		if err := p.memory.Acquire(p.ctx, n); err != nil {
			return err
		}
		data := make([]byte, n)
		if err := readFull(r, data, left == 0, s); err != nil {
			return err
		}
		sum.add(data)
		if left == 0 {
			if err := sum.check(); err != nil {
				return err
			}
			it.crc = sum.crc // the writer reads it after blocks is closed
		}
		// The method must be known before the header, and the header comes before the first block.
		if first {
			if it.method != Store {
				shrinks, err := shrinks(r, data, s)
				if err != nil {
					return err
				}
				if !shrinks {
					it.method = Store
				}
			}
			if err := p.announce(it); err != nil {
				return err
			}
		}
		to, err := p.slot(it)
		if err != nil {
			return err
		}
		// Blocks are compressed side by side. A deflate block has the window before it as its dictionary,
		// so that cutting costs no ratio, and all but the last end at a byte, with an empty stored block
		// (RFC 1951, 3.2.4), so that they can be joined. Each zstd block is a frame of its own.
		method, back, last := it.method, before, left == 0
		if err := p.task(func() error {
			packed, err := compress(method, data, back, last)
			if err == nil {
				to <- done{data: packed, memory: n, raw: n}
			}
			return err
		}); err != nil {
			return err
		}
		before = data[max(0, n-window):]
	}
	return nil
}

// shrinks says whether a large entry is worth packing: three samples of it decide, where r can be
// read anywhere, else its beginning.
func shrinks(r io.Reader, begin []byte, s *Source) (bool, error) {
	samples := [][]byte{begin[:min(len(begin), sampled)]}
	if at, ok := r.(io.ReaderAt); ok {
		for _, from := range []int64{s.Size / 3, s.Size / 3 * 2} {
			part := make([]byte, min(sampled, s.Size-from))
			if _, err := at.ReadAt(part, from); err != nil && !errors.Is(err, io.EOF) {
				return false, err
			}
			samples = append(samples, part)
		}
	}
	all, packed := 0, 0
	for _, part := range samples {
		b, err := compress(s.Method, part, nil, true)
		if err != nil {
			return false, err
		}
		all, packed = all+len(part), packed+len(b)
	}
	return packed <= all-all/50, nil
}

// copy takes an entry over from an older archive.
func (p *packing) copy(it *item) error {
	old := it.source.Old
	var check uint32
	for at := int64(0); at < old.Entry.Packed; {
		n := min(old.Entry.Packed-at, block)
		if err := p.memory.Acquire(p.ctx, n); err != nil {
			return err
		}
		data := make([]byte, n)
		if _, err := old.File.ReadAt(data, old.Entry.Data+at); err != nil {
			return fmt.Errorf("%w: %w", ErrOld, err)
		}
		check = crc32.Update(check, castagnoli, data)
		at += n
		to, err := p.slot(it)
		if err != nil {
			return err
		}
		to <- done{data: data, memory: n, raw: n * it.source.Size / old.Entry.Packed}
	}
	if check != old.Check {
		return ErrOld
	}
	return nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sums are what is worked out of an entry's content as it goes by.
type sums struct {
	source *Source
	hash   hash.Hash
	crc    uint32
	look   io.Writer
}

func newSums(s *Source, o Options) *sums {
	n := &sums{source: s}
	if s.SHA256 != "" {
		n.hash = sha256.New()
	}
	if o.Look != nil {
		n.look = o.Look(s.Name)
	}
	return n
}

func (n *sums) add(data []byte) {
	if n.hash != nil {
		n.hash.Write(data)
	}
	n.crc = crc32.Update(n.crc, crc32.IEEETable, data)
	if n.look != nil {
		_, _ = n.look.Write(data) // what it finds, it keeps
	}
}

func (n *sums) check() error {
	if d, ok := n.look.(interface{ Done() }); ok {
		d.Done() // it may hold back the last bytes until it knows that the content has ended
	}
	if n.hash != nil && hex.EncodeToString(n.hash.Sum(nil)) != n.source.SHA256 {
		return &ChangedError{n.source.Name}
	}
	return nil
}

// readFull fills data; at the end of a file nothing more may come.
func readFull(r io.Reader, data []byte, end bool, s *Source) error {
	_, err := io.ReadFull(r, data)
	if err == nil && end {
		var more [1]byte
		if n, _ := r.Read(more[:]); n > 0 {
			err = io.ErrUnexpectedEOF
		}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return &ChangedError{s.Name}
	}
	return err
}

// write lays the items out, one after the other.
func (p *packing) write(next func(int) (Sink, int64, error)) (list []Packed, err error) {
	w, part := (*writer)(nil), 0
	open := func() error {
		sink, offset, err := next(part)
		w = &writer{sink: sink, at: offset}
		return err
	}
	if err := open(); err != nil {
		return nil, err
	}
	for it := range p.items {
		e := Entry{Name: it.source.Name, Method: it.method, Size: it.source.Size}
		// What a header reserves and where an archive is split depends on the content's size alone,
		// so that an entry that is taken over comes to the same as one that is packed anew.
		large, limit := e.Size > gather, e.Size
		if large {
			limit += limit/1000 + 1<<16 // what can't be packed grows by some bytes a block
		}
		patch := large && !it.copied
		var blocks []done
		switch {
		case it.copied:
			e.CRC32, e.Packed = it.crc, it.source.Old.Entry.Packed
		case !large:
			if blocks, err = p.all(it); err != nil {
				return nil, err
			}
			for _, b := range blocks {
				e.Packed += int64(len(b.data))
			}
			e.CRC32 = it.crc
			if len(blocks) == 1 && e.Size <= blockOf(it.source.Method) {
				e.Method, e.CRC32 = blocks[0].method, blocks[0].crc
			}
		}
		if p.o.Largest > 0 {
			room := e.Packed
			if large {
				room = limit
			}
			fits := func() bool {
				return w.at+localSize+20+int64(len(e.Name)+it.source.Align+4)+room+
					w.directorySize(e.Name) <= p.o.Largest
			}
			if !fits() && len(w.entries) > 0 {
				if err := w.close(); err != nil {
					return nil, err
				}
				part++
				if err := open(); err != nil {
					return nil, err
				}
			}
			if !fits() {
				return nil, &fault.Fault{What: fmt.Sprintf("%s alone is larger than a bundle may be", e.Name),
					Why: fmt.Sprintf("It takes %d bytes, and the game's profile allows %d for a bundle.", room,
						p.o.Largest),
					Do: "Make it smaller, or raise [pack] largest in the profile if the game takes more."}
			}
		}
		if err := w.begin(&e, max(limit, e.Packed), it.source.Align); err != nil {
			return nil, err
		}
		var check uint32
		put := func(b done) error {
			check = crc32.Update(check, castagnoli, b.data)
			if err := w.write(b.data); err != nil {
				return err
			}
			p.memory.Release(b.memory)
			if p.o.Wrote != nil {
				p.o.Wrote(b.raw)
			}
			return nil
		}
		for _, b := range blocks {
			if err := put(b); err != nil {
				return nil, err
			}
		}
		if blocks == nil {
			for slot := range it.blocks {
				b, err := p.wait(slot)
				if err != nil {
					return nil, err
				}
				if err := put(b); err != nil {
					return nil, err
				}
			}
			if err := p.ctx.Err(); err != nil {
				return nil, err
			}
		}
		if patch {
			e.Packed, e.CRC32 = w.at-e.Data, it.crc
		}
		if err := w.end(e, max(limit, e.Packed), it.source.Align, patch); err != nil {
			return nil, err
		}
		list = append(list, Packed{Entry: e, Part: part, Check: check, Taken: it.copied})
	}
	if err := p.ctx.Err(); err != nil {
		return nil, err
	}
	return list, w.close()
}

// all waits for every block of an item.
func (p *packing) all(it *item) (list []done, err error) {
	for slot := range it.blocks {
		b, err := p.wait(slot)
		if err != nil {
			return nil, err
		}
		list = append(list, b)
	}
	return list, p.ctx.Err()
}

func (p *packing) wait(slot chan done) (done, error) {
	select {
	case b := <-slot:
		return b, nil
	case <-p.ctx.Done():
		return done{}, p.ctx.Err()
	}
}

// compressed are endings of files that are packed already: to pack them again costs time and gains nothing.
var compressed = []string{".png", ".jpg", ".jpeg", ".webp", ".gif", ".ogg", ".opus", ".mp3", ".flac", ".m4a", ".mp4",
	".webm", ".zip", ".gz", ".xz", ".zst", ".7z", ".bz2"}

// IsCompressed says whether a file's ending tells that it is packed already.
func IsCompressed(name string) bool {
	return slices.Contains(compressed, strings.ToLower(path.Ext(name)))
}
