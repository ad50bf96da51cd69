package vcdiff

import (
	"context"
	"encoding/binary"
	"math/bits"
)

const (
	// maxBlocks is how many blocks of the old file the index holds: with 8 bytes for each place of
	// the table, 64 MiB and no more.
	maxBlocks = 4 << 20
	// smallOld is up to where an old file counts as small, and is looked at more closely.
	smallOld = 1 << 20
	// widest is how far apart the copies of one window may be from each other: other readers count in 32 bits.
	widest = 1 << 31
)

// sourceIndex finds blocks of the old file by their content. It is read by many goroutines once it stands.
type sourceIndex struct {
	step  int64
	block int
	shift uint8
	table []uint64 // tag<<32 | number of the block + 1; two places side by side for one hash
}

// index reads the old file once.
func index(ctx context.Context, v *view) (*sourceIndex, error) {
	x := &sourceIndex{step: 8, block: 16} // what is the same in block+step-1 bytes is always found
	if v.size <= smallOld {
		x.step, x.block = 4, 12
	}
	for v.size/x.step > maxBlocks {
		x.step *= 2
	}
	if x.step > 16 {
		x.block = 32
	}
	size := 10
	for int64(1)<<size < v.size/x.step*3/2 {
		size++
	}
	x.shift = uint8(64 - size)
	x.table = make([]uint64, 1<<size)
	buf := make([]byte, 1<<20)
	for at := int64(0); at+int64(x.block) <= v.size; {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		b := buf[:min(int64(len(buf)), v.size-at)]
		if err := v.read(b, at); err != nil {
			return nil, err
		}
		i := int64(0)
		for ; i+int64(x.block) <= int64(len(b)); i += x.step {
			x.add(x.hash(b[i:]), uint64((at+i)/x.step))
		}
		at += i
	}
	return x, nil
}

// hash is that of the block that b begins with.
func (x *sourceIndex) hash(b []byte) uint64 {
	const k = 0x9e3779b97f4a7c15
	h := binary.LittleEndian.Uint64(b) * k
	if x.block == 12 {
		return mix(h ^ uint64(binary.LittleEndian.Uint32(b[8:]))*0xd6e8feb86659fd93)
	}
	h = (bits.RotateLeft64(h, 29) ^ binary.LittleEndian.Uint64(b[8:])) * k
	if x.block == 16 {
		return mix(h)
	}
	h = (bits.RotateLeft64(h, 29) ^ binary.LittleEndian.Uint64(b[16:])) * k
	h = (bits.RotateLeft64(h, 29) ^ binary.LittleEndian.Uint64(b[24:])) * k
	return mix(h)
}

func mix(h uint64) uint64 {
	h ^= h >> 32
	h *= 0xd6e8feb86659fd93
	return h ^ h>>29
}

// add enters a block at one of the two places of its hash. The first blocks of the file win: a
// place is never overwritten, so the table has the same content whatever comes later, and a file of
// equal blocks costs nothing.
func (x *sourceIndex) add(h, number uint64) {
	e := h<<32 | (number + 1)
	at := h >> x.shift
	if x.table[at] == 0 {
		x.table[at] = e
	} else if at ^= 1; x.table[at] == 0 {
		x.table[at] = e
	}
}

// places calls try with the positions at which a block of that hash may stand.
func (x *sourceIndex) places(h uint64, places *[2]int64) (n int) {
	at := h >> x.shift
	for _, e := range [2]uint64{x.table[at], x.table[at^1]} {
		if e != 0 && e>>32 == h&0xffffffff {
			places[n] = int64(uint32(e)-1) * x.step
			n++
		}
	}
	return n
}

// op is what a part of a window comes from.
type op struct {
	kind uint8 // add, run or copyFrom
	self bool  // copied from the window itself
	size int
	from int64 // position in the old file, or in the window
}

// matcher splits windows into ops. One goroutine uses it.
type matcher struct {
	old   *view
	x     *sourceIndex
	own   []uint32 // position in the window + 1 by the hash of 8 bytes
	least int      // the least that is worth copying from anywhere in the old file
	self  int      // the least that is worth copying from the window itself
	near  nearby
	ops   []op
}

// nearby finds what stands around one place of the old file, at every position. Where the index has
// wide steps, it finds how the file goes on after a small change, which the index would see only
// some hundred bytes later.
type nearby struct {
	valid bool
	table [1 << nearBits]uint16 // position in the part + 1 by the hash of 16 bytes
	from  int64                 // where the part begins
	left  int                   // how many more are made in this window: each takes some time
	buf   [nearSize]byte
}

const (
	nearBits = 15
	nearSize = 12 << 10
	nearBack = 4 << 10 // how much of it lies before the place where the file should go on
	maxNear  = 2000
)

// around looks at the old file around a place.
func (n *nearby) around(v *view, at int64) {
	n.valid = false
	n.from = max(0, at-nearBack)
	size := min(nearSize, v.size-n.from)
	if n.left == 0 || size < 16 || v.read(n.buf[:size], n.from) != nil {
		return
	}
	n.left--
	clear(n.table[:])
	for i := int(size) - 16; i >= 0; i-- {
		n.table[nearHash(n.buf[i:])] = uint16(i + 1)
	}
	n.valid = true
}

func nearHash(b []byte) uint64 {
	const k = 0x9e3779b97f4a7c15
	return (binary.LittleEndian.Uint64(b)*k ^ binary.LittleEndian.Uint64(b[8:])) * k >> (64 - nearBits)
}

const (
	ownBits = 17
	longRun = 24
	// the least that is worth copying from elsewhere in the old file: its address takes some bytes,
	// and what follows begins anew
	minOld   = 32
	minSmall = 16  // the same of a small old file
	minAlong = 6   // the same, going on where the last copy would have gone on
	anchor   = 128 // the least that says how the old file goes on
)

func newMatcher(old *view, x *sourceIndex, c Compression) *matcher {
	m := &matcher{old: old, x: x, own: make([]uint32, 1<<ownBits), self: 8, least: minOld}
	if old.size <= smallOld {
		m.least = minSmall
	}
	if c == LZMA {
		m.self = 48 // what is shorter packs as well
	}
	return m
}

func ownHash(b []byte) uint64 {
	return binary.LittleEndian.Uint64(b) * 0x9e3779b97f4a7c15 >> (64 - ownBits)
}

// window splits a window into ops: copies from the old file or from earlier in the window, runs, and
// added bytes.
//
// It is greedy. At each position it tries four sources, from the cheapest address to the dearest: the
// old file where the last copy would continue, the old file around that place, the old file anywhere
// (the index), and the window itself. A later source must win by some bytes, since its address
// costs more; from 64 bytes on, the rest is not tried.
//
// Invariants: w[:done] is covered by ops; w[done:t] was not found and becomes an add before the next
// copy; a match may extend backwards into w[done:t], never before done. lo and hi bound all copies
// from the old file, and hi-lo stays below widest, since other decoders use 32-bit addresses. The
// result depends on the contents alone: tables are cleared per window, and no time or order of
// goroutines enters.
func (m *matcher) window(ctx context.Context, w []byte, guess int64) ([]op, error) {
	m.ops = m.ops[:0]
	clear(m.own)
	lo, hi := int64(-1), int64(-1) // what of the old file the copies use
	along := guess                 // the old position of w[0], were all to go on as it did last
	done, t := 0, 0                // w[:done] is in ops, w[done:t] found nowhere
	m.near.valid, m.near.left = false, maxNear
	// A long copy ended, and nothing was found since: the old file is probably changed by a few bytes
	// here, and an index with wide steps would find the continuation only much later.
	fresh := false
	take := func(self bool, from int64, at, size int) {
		if at > done {
			m.ops = append(m.ops, op{kind: add, size: at - done})
		}
		m.ops = append(m.ops, op{kind: copyFrom, self: self, size: size, from: from})
		if !self {
			if size >= anchor {
				along = from - int64(at)
				fresh, m.near.valid = m.x.step > 16, false
			}
			if lo < 0 || from < lo {
				lo = from
			}
			hi = max(hi, from+int64(size))
		}
		done, t = at+size, at+size
	}
	fits := func(from int64, size int) bool {
		return lo < 0 || max(hi, from+int64(size))-min(lo, from) < widest
	}
	for looked := 0; t+8 <= len(w); {
		if t-looked > 1<<16 {
			looked = t
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
		}
		// Where the last copy would have gone on.
		best, bestFrom, bestAt, self := 0, int64(0), t, false
		if from := along + int64(t); from >= 0 && from < m.old.size {
			if c := m.old.from(from); len(c) > 0 && c[0] == w[t] {
				if n := m.old.forward(from, w[t:]); n >= minAlong && fits(from, n) {
					best, bestFrom = n, from
				}
			}
		}
		// Near that.
		if best == 0 && fresh {
			m.near.around(m.old, along+int64(t))
			fresh = false
		}
		if best < 64 && m.near.valid && t+16 <= len(w) && t-done < nearSize {
			if p := m.near.table[nearHash(w[t:])]; p > 0 {
				from := m.near.from + int64(p) - 1
				n := m.old.forward(from, w[t:])
				back := m.old.backward(from, w[done:t])
				if n+back >= m.least && n+back > best+4 && fits(from-int64(back), n+back) {
					best, bestFrom, bestAt = n+back, from-int64(back), t-back
				}
			}
		}
		// Anywhere in the old file.
		if best < 64 && t+m.x.block <= len(w) {
			var places [2]int64
			for _, from := range places[:m.x.places(m.x.hash(w[t:]), &places)] {
				n := m.old.forward(from, w[t:])
				if n < m.x.block {
					continue
				}
				back := m.old.backward(from, w[done:t])
				if n+back >= m.least && n+back > best+4 && fits(from-int64(back), n+back) {
					best, bestFrom, bestAt, self = n+back, from-int64(back), t-back, false
				}
			}
		}
		// Earlier in the window.
		h := ownHash(w[t:])
		if p := int(m.own[h]) - 1; p >= 0 && best < 64 {
			n := same(w[p:], w[t:])
			back := 0
			for back < p && t-back > done && w[p-back-1] == w[t-back-1] {
				back++
			}
			if n+back >= m.self && n+back > best+2 {
				best, bestFrom, bestAt, self = n+back, int64(p-back), t-back, true
			}
		}
		m.own[h] = uint32(t + 1)
		if best == 0 {
			t++
			continue
		}
		// A copy from one byte back repeats that byte: a RUN instruction (RFC 3284, 5.1) is shorter.
		if self && int64(bestAt)-bestFrom == 1 && best >= longRun {
			if bestAt > done {
				m.ops = append(m.ops, op{kind: add, size: bestAt - done})
			}
			m.ops = append(m.ops, op{kind: run, size: best})
			done, t = bestAt+best, bestAt+best
			continue
		}
		take(self, bestFrom, bestAt, best)
	}
	if done < len(w) {
		m.ops = append(m.ops, op{kind: add, size: len(w) - done})
	}
	return m.ops, m.old.err
}
