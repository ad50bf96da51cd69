package vcdiff

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"hash/adler32"
	"io"

	"vornix/core/base/group"
)

// windowSize is how much of the new file a window holds. Other readers take 16 MiB at the most.
const windowSize = 4 << 20

// The bits of a delta's and of a window's first byte, and of what is packed (RFC 3284, 4). Adler-32
// and the application header are extensions.
const (
	hasCompression = 1 << 0
	hasTable       = 1 << 1
	hasHeader      = 1 << 2

	fromSource = 1 << 0
	fromTarget = 1 << 1
	hasAdler   = 1 << 2

	dataPacked = 1 << 0
	instPacked = 1 << 1
	addrPacked = 1 << 2
)

// magic begins every delta, with the version of the format.
var magic = []byte{0xd6, 0xc3, 0xc4, 0}

// Options for Encode.
type Options struct {
	Workers     int
	Compression Compression
	// MaxPacked is how many bytes of sections of a kind are compressed, since that takes a second
	// for two megabytes; 0: all.
	MostPacked int64
	// Standard keeps to the letter of RFC 3284: no checksums, no application header, no compression of sections.
	Standard bool
	// Header is an application header; nil for none.
	Header []byte
	// Size is how large the new file is, where that is known: for a small one little memory is taken.
	Size int64
	// Wrote is told how much of the new file is done.
	Wrote func(bytes int64)
}

// Stats say what a delta is made of, in bytes of the new file.
type Stats struct {
	Windows int   `json:"windows"`
	Target  int64 `json:"target"` // all
	Copied  int64 `json:"copied"` // from the old file
	Again   int64 `json:"again"`  // from the new file itself
	Added   int64 `json:"added"`  // brought along
	Delta   int64 `json:"delta"`  // size of the delta
	Adler   bool  `json:"adler"`  // its windows have checksums
	Packed  bool  `json:"packed"` // its sections are compressed
}

// encoded is a window on its way out.
type encoded struct {
	target           int
	from, size       int64 // of the old file; size 0: nothing
	adler            uint32
	data, inst, addr []byte
	stats            Stats
	buffer           []byte
}

// Encode writes the delta from old to what new gives. The result does not depend on the number of
// workers. Memory is about 100 MiB, and 20 more for each worker, whatever the sizes.
func Encode(ctx context.Context, old io.ReaderAt, oldSize int64, now io.Reader, out io.Writer, o Options) (*Stats,
	error) {
	if o.Standard {
		o.Compression = None
		if o.Header != nil {
			return nil, errors.New("a delta to the letter of the standard has no application header")
		}
	}
	first := newView(old, oldSize, 16<<20, whole)
	if err := first.load(); err != nil {
		return nil, err
	}
	x, err := index(ctx, first)
	if err != nil {
		return nil, err
	}
	workers, window := max(o.Workers, 1), int64(windowSize)
	if o.Size > 0 && o.Size < window {
		workers, window = 1, o.Size+1 // one byte more, to reach the end of the input
	}
	g, ctx := group.WithContext(ctx)
	type task struct {
		target []byte
		at     int64
		done   chan *encoded
	}
	tasks, order := make(chan task), make(chan chan *encoded, workers)
	free := make(chan []byte, 2*workers+1)
	for range cap(free) {
		free <- nil
	}
	g.Go(func() error {
		defer close(tasks)
		defer close(order)
		for at := int64(0); ; {
			var b []byte
			select {
			case b = <-free:
			case <-ctx.Done():
				return ctx.Err()
			}
			if b == nil {
				b = make([]byte, window)
			}
			n, err := io.ReadFull(now, b[:window])
			// an empty file is a window too: without any, other readers take the delta for cut short
			if n > 0 || at == 0 {
				t := task{b[:n], at, make(chan *encoded, 1)}
				at += int64(n)
				select {
				case order <- t.done:
				case <-ctx.Done():
					return ctx.Err()
				}
				select {
				case tasks <- t:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
	for range workers {
		g.Go(func() error {
			v := newView(old, oldSize, 8<<20, whole)
			v.all = first.all
			m := newMatcher(v, x, o.Compression)
			for t := range tasks {
				ops, err := m.window(ctx, t.target, t.at)
				if err != nil {
					return err
				}
				t.done <- lay(t.target, ops)
			}
			return nil
		})
	}
	total := &Stats{Adler: !o.Standard, Packed: o.Compression != None}
	g.Go(func() error {
		w := &sectionWriter{out: bufio.NewWriterSize(out, 1<<18), o: o}
		for _, p := range []*packer{&w.data, &w.inst, &w.addr} {
			p.most, p.bits = o.MostPacked, dictBits
			for p.bits > 16 && o.Size > 0 && o.Size <= 1<<(p.bits-1) {
				p.bits--
			}
		}
		w.header()
		for done := range order {
			select {
			case e := <-done:
				if err := w.window(e); err != nil {
					return err
				}
				total.Windows++
				total.Target += e.stats.Target
				total.Copied += e.stats.Copied
				total.Again += e.stats.Again
				total.Added += e.stats.Added
				if o.Wrote != nil {
					o.Wrote(int64(e.target))
				}
				free <- e.buffer[:cap(e.buffer)]
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		total.Delta = w.size
		return w.out.Flush()
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	return total, nil
}

// lay writes the ops of a window as instructions.
func lay(target []byte, ops []op) *encoded {
	e := &encoded{target: len(target), adler: adler32.Checksum(target), buffer: target}
	end := int64(0)
	for i, o := range ops {
		if o.kind == copyFrom && !o.self {
			if e.size == 0 && end == 0 || o.from < e.from {
				e.from = o.from
			}
			end = max(end, ops[i].from+int64(o.size))
			e.size = end - e.from
		}
	}
	e.size = max(end-e.from, 0)
	a := newAddresses(defaultNear, defaultSame)
	singles, pairs := opcodes()
	// last is the instruction before, when it stands in a byte of its own and may share it.
	last, shared := instruction{}, false
	emit := func(in instruction, size int) {
		full := in
		if size <= 18 {
			full.size = uint8(size)
		}
		if shared && full.size > 0 {
			if op, ok := pairs[[2]instruction{last, full}]; ok {
				e.inst[len(e.inst)-1] = op
				shared = false
				return
			}
		}
		if op, ok := singles[full]; ok && full.size > 0 {
			e.inst = append(e.inst, op)
			last, shared = full, true
			return
		}
		e.inst = appendInt(append(e.inst, singles[in]), int64(size))
		shared = false
	}
	at := 0
	for _, o := range ops {
		switch o.kind {
		case add:
			e.data = append(e.data, target[at:at+o.size]...)
			emit(instruction{kind: add}, o.size)
			e.stats.Added += int64(o.size)
		case run:
			e.data = append(e.data, target[at])
			emit(instruction{kind: run}, o.size)
			e.stats.Again += int64(o.size)
		case copyFrom:
			from := o.from - e.from
			if o.self {
				from = o.from + e.size
				e.stats.Again += int64(o.size)
			} else {
				e.stats.Copied += int64(o.size)
			}
			var mode uint8
			mode, e.addr = a.encode(e.addr, from, e.size+int64(at))
			emit(instruction{kind: copyFrom, mode: mode}, o.size)
		}
		at += o.size
	}
	e.stats.Target = int64(len(target))
	return e
}

// sectionWriter writes windows in order.
type sectionWriter struct {
	out              *bufio.Writer
	o                Options
	size             int64
	data, inst, addr packer
}

func (w *sectionWriter) write(b []byte) {
	_, _ = w.out.Write(b) // Flush tells
	w.size += int64(len(b))
}

func (w *sectionWriter) header() {
	b := append([]byte{}, magic...)
	flags := byte(0)
	if w.o.Compression != None {
		flags |= hasCompression
	}
	if w.o.Header != nil {
		flags |= hasHeader
	}
	b = append(b, flags)
	if w.o.Compression != None {
		b = append(b, byte(w.o.Compression))
	}
	if w.o.Header != nil {
		b = append(appendInt(b, int64(len(w.o.Header))), w.o.Header...)
	}
	w.write(b)
}

func (w *sectionWriter) window(e *encoded) error {
	packed := byte(0)
	if w.o.Compression == LZMA {
		for _, s := range []struct {
			section *[]byte
			packer  *packer
			bit     byte
		}{{&e.data, &w.data, dataPacked}, {&e.inst, &w.inst, instPacked}, {&e.addr, &w.addr, addrPacked}} {
			b, did, err := s.packer.pack(*s.section)
			if err != nil {
				return err
			}
			if did {
				packed |= s.bit
			}
			*s.section = b
		}
	}
	var head []byte
	indicator := byte(0)
	if e.size > 0 {
		indicator |= fromSource
	}
	if !w.o.Standard {
		indicator |= hasAdler
	}
	head = append(head, indicator)
	if e.size > 0 {
		head = appendInt(appendInt(head, e.size), e.from)
	}
	rest := appendInt(nil, int64(e.target))
	rest = append(rest, packed)
	rest = appendInt(rest, int64(len(e.data)))
	rest = appendInt(rest, int64(len(e.inst)))
	rest = appendInt(rest, int64(len(e.addr)))
	if !w.o.Standard {
		rest = binary.BigEndian.AppendUint32(rest, e.adler)
	}
	head = appendInt(head, int64(len(rest)+len(e.data)+len(e.inst)+len(e.addr)))
	w.write(head)
	w.write(rest)
	w.write(e.data)
	w.write(e.inst)
	w.write(e.addr)
	return nil
}
