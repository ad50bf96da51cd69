package bcn

import "encoding/binary"

// bitWriter fills a block of 128 bits from the lowest up.
type bitWriter struct {
	low, high uint64
	at        uint
}

func (w *bitWriter) put(v uint32, n uint) {
	x := uint64(v) & (1<<n - 1)
	if w.at < 64 {
		w.low |= x << w.at
		if w.at+n > 64 {
			w.high |= x >> (64 - w.at)
		}
	} else {
		w.high |= x << (w.at - 64)
	}
	w.at += n
}

func (w *bitWriter) append(out []byte) []byte {
	return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(out, w.low), w.high)
}

// bitReader takes a block of 128 bits apart.
type bitReader struct{ low, high uint64 }

func newBitReader(data []byte) bitReader {
	return bitReader{binary.LittleEndian.Uint64(data), binary.LittleEndian.Uint64(data[8:])}
}

func (r *bitReader) take(n uint) uint32 {
	v := uint32(r.low & (1<<n - 1))
	r.low = r.low>>n | r.high<<(64-n)
	r.high >>= n
	return v
}
