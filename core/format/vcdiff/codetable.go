package vcdiff

import (
	"errors"
	"io"
	"sync"
)

// Types of instructions (RFC 3284, 5.4).
const (
	noop = iota
	add
	run
	copyFrom // with the mode of its address
)

// instruction is half of an entry of a code table. A size of 0 says that the size follows in the instructions.
type instruction struct{ kind, size, mode uint8 }

// codeTable has one or two instructions for each byte.
type codeTable [256][2]instruction

// The sizes of the address caches of the default code table.
const (
	defaultNear = 4
	defaultSame = 3
)

// defaultTable is the RFC's own (5.6).
var defaultTable = func() (t codeTable) {
	at := 0
	put := func(a, b instruction) {
		t[at] = [2]instruction{a, b}
		at++
	}
	put(instruction{kind: run}, instruction{})
	for size := range uint8(18) {
		put(instruction{kind: add, size: size}, instruction{})
	}
	const modes = 2 + defaultNear + defaultSame
	for mode := range uint8(modes) {
		put(instruction{kind: copyFrom, mode: mode}, instruction{})
		for size := uint8(4); size <= 18; size++ {
			put(instruction{kind: copyFrom, size: size, mode: mode}, instruction{})
		}
	}
	for mode := range uint8(modes) {
		limit := uint8(6)
		if mode >= 2+defaultNear {
			limit = 4
		}
		for size := uint8(1); size <= 4; size++ {
			for n := uint8(4); n <= limit; n++ {
				put(instruction{kind: add, size: size}, instruction{kind: copyFrom, size: n, mode: mode})
			}
		}
	}
	for mode := range uint8(modes) {
		put(instruction{kind: copyFrom, size: 4, mode: mode}, instruction{kind: add, size: 1})
	}
	return t
}()

// opcodes look the default table up the other way round: the byte of an instruction, and of one
// after another. They are made when the first delta is, not when the program starts.
var opcodes = sync.OnceValues(func() (singles map[instruction]uint8, pairs map[[2]instruction]uint8) {
	singles, pairs = map[instruction]uint8{}, map[[2]instruction]uint8{}
	for op, e := range defaultTable {
		if e[1].kind == noop {
			singles[e[0]] = uint8(op)
		} else {
			pairs[e] = uint8(op)
		}
	}
	return singles, pairs
})

// bytes lays a code table out as the RFC sends it (7): six columns.
func (t *codeTable) bytes() []byte {
	b := make([]byte, 0, 6*256)
	for _, of := range []func(e [2]instruction) uint8{
		func(e [2]instruction) uint8 { return e[0].kind }, func(e [2]instruction) uint8 { return e[1].kind },
		func(e [2]instruction) uint8 { return e[0].size }, func(e [2]instruction) uint8 { return e[1].size },
		func(e [2]instruction) uint8 { return e[0].mode }, func(e [2]instruction) uint8 { return e[1].mode },
	} {
		for _, e := range t {
			b = append(b, of(e))
		}
	}
	return b
}

// parseTable reads what bytes wrote, for caches of the given sizes.
func parseTable(b []byte, near, same int) (*codeTable, error) {
	if len(b) != 6*256 {
		return nil, errors.New("the code table does not have its 1536 bytes")
	}
	t := &codeTable{}
	for i := range t {
		t[i] = [2]instruction{{b[i], b[512+i], b[1024+i]}, {b[256+i], b[768+i], b[1280+i]}}
		for _, in := range t[i] {
			if in.kind > copyFrom || in.kind == copyFrom && int(in.mode) >= 2+near+same {
				return nil, errors.New("the code table has an instruction that does not exist")
			}
		}
	}
	return t, nil
}

// appendInt writes an integer as the RFC does (2): seven bits a byte, the highest first.
func appendInt(b []byte, v int64) []byte {
	var d [10]byte
	at := len(d) - 1
	d[at] = byte(v & 0x7f)
	for v >>= 7; v > 0; v >>= 7 {
		at--
		d[at] = byte(v&0x7f) | 0x80
	}
	return append(b, d[at:]...)
}

// errInt says that an integer does not end, or is too large to mean anything.
var errInt = errors.New("a number is cut short or too large")

// cutInt reads an integer off the front of b.
func cutInt(b []byte) (v int64, rest []byte, err error) {
	for i := 0; i < len(b) && i < 9; i++ {
		v = v<<7 | int64(b[i]&0x7f)
		if b[i]&0x80 == 0 {
			return v, b[i+1:], nil
		}
	}
	return 0, nil, errInt
}

// readInt reads an integer from a stream.
func readInt(r io.ByteReader) (v int64, err error) {
	for range 9 {
		c, err := r.ReadByte()
		if err != nil {
			return 0, err
		}
		v = v<<7 | int64(c&0x7f)
		if c&0x80 == 0 {
			return v, nil
		}
	}
	return 0, errInt
}
