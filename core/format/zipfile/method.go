package zipfile

import (
	"bytes"
	"fmt"
	"io"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
)

const (
	// block is how much of an entry deflate packs at once, frame how much zstd does. The blocks of
	// one entry are packed side by side; their borders do not depend on how many at once.
	block = 1 << 20
	frame = 4 << 20
	// window is how far back deflate can look; the end of one block is where the next one may look back to.
	window = 32 << 10
	// level is how hard deflate tries.
	level = 7
)

// deflaters and framers wait for use again: each has tables of some hundred kilobytes.
var (
	deflaters, quick, storers = pool(level), pool(flate.BestSpeed), pool(flate.NoCompression)

	framers = sync.Pool{New: func() any {
		w, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault),
			zstd.WithEncoderCRC(false), zstd.WithWindowSize(frame))
		if err != nil {
			panic(err) // the options are ours
		}
		return w
	}}
)

// blockOf is how much of an entry is packed at once.
func blockOf(m Method) int64 {
	if m == Zstd {
		return frame
	}
	return block
}

func pool(level int) *sync.Pool {
	return &sync.Pool{New: func() any {
		w, err := flate.NewWriter(io.Discard, level)
		if err != nil {
			panic(err) // the level is ours
		}
		return w
	}}
}

const (
	noisySize   = 256 << 10 // blocks from here on are looked at before they are packed
	noisySample = 32 << 10
)

// noisy says quickly of a large block that deflate will gain nothing on it: two samples of it don't
// shrink. To search noise for repetitions takes as long as to pack text.
func noisy(data []byte) bool {
	if len(data) < noisySize {
		return false
	}
	q := quick.Get().(*flate.Writer)
	defer quick.Put(q)
	for _, from := range []int{len(data) / 4, len(data) / 2} {
		var n tally
		q.Reset(&n)
		_, _ = q.Write(data[from : from+noisySample]) // a tally takes every write
		_ = q.Close()
		if int(n) < noisySample-noisySample/200 {
			return false
		}
	}
	return true
}

// compress packs one block of an entry. before is what stands before it in the entry, as far as deflate looks back.
// Blocks of an entry, one after the other, are the packed entry: for deflate each ends at a byte (as after a flush),
// for zstd each is a frame (RFC 8878, 3: frames decompress one after the other).
func compress(m Method, data, before []byte, last bool) ([]byte, error) {
	switch m {
	case Store:
		return data, nil
	case Zstd:
		f := framers.Get().(*zstd.Encoder)
		defer framers.Put(f)
		return f.EncodeAll(data, make([]byte, 0, len(data)/2+64)), nil
	case Deflate:
		from, grow := deflaters, len(data)/2
		if noisy(data) {
			from, grow = storers, len(data)+len(data)/1000
		}
		f := from.Get().(*flate.Writer)
		defer from.Put(f)
		var b bytes.Buffer
		b.Grow(grow + 64)
		f.ResetDict(&b, before)
		_, err := f.Write(data)
		if err == nil && last {
			err = f.Close()
		} else if err == nil {
			err = f.Flush()
		}
		return b.Bytes(), err
	}
	return nil, fmt.Errorf("%s is not written", m)
}

// decompressor undoes a method; nil for one that is not read.
func decompressor(m Method, r io.Reader) io.ReadCloser {
	switch m {
	case Store:
		return io.NopCloser(r)
	case Deflate:
		return flate.NewReader(r)
	case Zstd:
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20),
			zstd.WithDecoderMaxWindow(32<<20))
		if err != nil {
			return nil
		}
		return d.IOReadCloser()
	}
	return nil
}
