package transport

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math"
	"os"
	"sort"

	"github.com/edsrzf/mmap-go"
)

// Like is a file that is there and is likely to resemble another.
type Like struct {
	Path  string
	Size  int64
	Local string // system path of a file on this machine with the very same content; empty when there is none
	Marks *Marks // of its blocks, as remembered; nil when they are not
}

// span is n bytes of an old file, from from, that stand in the new one at to.
type span struct{ from, to, n int64 }

// minSpan is the shortest range worth a request of its own.
const minSpan = 512

// compare finds what a new file has in common with one that is there. With a copy of the old file
// at hand all of it is found; without, the directories of two ZIP archives say which entries are
// the same. A wrong guess is found by the hash of what came out.
func (s *SFTP) compare(ctx context.Context, l *line, like Like, u *Upload, in *os.File) ([]span, error) {
	if like.Local != "" && u.Size < maxMapped && like.Size < maxMapped {
		if old, err := mapped(like.Local); err == nil {
			defer old.close()
			if now, err := mapped(u.Source); err == nil {
				defer now.close()
				return matches(ctx, old.data, now.data)
			}
		}
	}
	if like.Marks != nil && u.Size < maxMapped {
		if now, err := mapped(u.Source); err == nil {
			defer now.close()
			return like.Marks.find(ctx, now.data)
		}
	}
	now, err := directory(in, u.Size)
	if err != nil {
		return nil, err
	}
	f, err := l.sftp.Open(s.at(like.Path))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	old, err := directory(f, like.Size)
	if err != nil {
		return nil, err
	}
	return sameEntries(old, now), nil
}

const maxMapped = 2 << 30

type mapping struct {
	data mmap.MMap
	file *os.File
}

func mapped(name string) (*mapping, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	m, err := mmap.Map(f, mmap.RDONLY, 0)
	if err != nil {
		f.Close()
		return nil, err
	}
	return &mapping{m, f}, nil
}

func (m *mapping) close() {
	_ = m.data.Unmap()
	m.file.Close()
}

// matchBlock is the length of the blocks of an old file that are looked for in a new one.
const matchBlock = 1024

// matches finds the ranges of old that stand in now, by a hash that rolls over it byte by byte (A.
// Tridgell, "Efficient Algorithms for Sorting and Synchronization", 1999, chapter 3), made as long
// as they go in both directions. They are in the order of now.
func matches(ctx context.Context, old, now []byte) ([]span, error) {
	if len(old) < matchBlock || len(now) < matchBlock {
		return nil, nil
	}
	blocks := make(map[uint32]int32, len(old)/matchBlock)
	for i := 0; i+matchBlock <= len(old); i += matchBlock {
		h := weak(old[i : i+matchBlock])
		if _, taken := blocks[h]; !taken {
			blocks[h] = int32(i / matchBlock)
		}
	}
	var list []span
	end := 0 // of what has been matched
	var a, b uint32
	fresh := true
	for at := 0; at+matchBlock <= len(now); {
		if at&0xffff == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if fresh {
			h := weak(now[at : at+matchBlock])
			a, b, fresh = h&0xffff, h>>16, false
		}
		if i, ok := blocks[a&0xffff|b<<16]; ok {
			from := int(i) * matchBlock
			if bytes.Equal(old[from:from+matchBlock], now[at:at+matchBlock]) {
				n := matchBlock
				for from > 0 && at > end && old[from-1] == now[at-1] {
					from, at, n = from-1, at-1, n+1
				}
				for from+n < len(old) && at+n < len(now) && old[from+n] == now[at+n] {
					n++
				}
				list = append(list, span{int64(from), int64(at), int64(n)})
				at += n
				end, fresh = at, true
				continue
			}
		}
		if at+matchBlock == len(now) {
			break
		}
		out, in := uint32(now[at]), uint32(now[at+matchBlock])
		a = (a - out + in) & 0xffff
		b = (b - matchBlock*out + a) & 0xffff
		at++
	}
	return list, nil
}

func weak(block []byte) uint32 {
	var a, b uint32
	for _, x := range block {
		a += uint32(x)
		b += a
	}
	return a&0xffff | b<<16
}

// Marks are two short hashes of every block of a file: enough to find those blocks in another, and
// wrong so seldom that the hash of what is put together of them is only ever a precaution.
type Marks struct {
	Block int      // length of a block in bytes
	Size  int64    // of the file
	Sums  []uint64 // rolling hash, and CRC-32C in the upper half
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// MarksOf reads a file. Blocks are about as long as there are many of them.
func MarksOf(ctx context.Context, name string) (*Marks, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	m := &Marks{Block: max(512, int(math.Sqrt(float64(info.Size())))&^7), Size: info.Size()}
	block := make([]byte, m.Block)
	r := bufio.NewReaderSize(f, int(min(info.Size()+1, 256<<10)))
	for range info.Size() / int64(m.Block) {
		if _, err := io.ReadFull(r, block); err != nil {
			return nil, err
		}
		m.Sums = append(m.Sums, uint64(weak(block))|uint64(crc32.Checksum(block, castagnoli))<<32)
		if len(m.Sums)&0xff == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return m, nil
}

// find finds the blocks in a new file. Neighbours are one range.
func (m *Marks) find(ctx context.Context, now []byte) ([]span, error) {
	n := m.Block
	if len(now) < n || len(m.Sums) == 0 {
		return nil, nil
	}
	blocks := make(map[uint32][]int32, len(m.Sums))
	for i, s := range m.Sums {
		if list := blocks[uint32(s)]; len(list) < 8 {
			blocks[uint32(s)] = append(list, int32(i))
		}
	}
	var list []span
	next := int32(-1) // the block that would go on where the last one ended
	var a, b uint32
	fresh := true
	for at := 0; at+n <= len(now); {
		if at&0xffff == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if fresh {
			h := weak(now[at : at+n])
			a, b, fresh = h&0xffff, h>>16, false
		}
		if candidates := blocks[a&0xffff|b<<16]; len(candidates) > 0 {
			sum := uint64(crc32.Checksum(now[at:at+n], castagnoli))<<32 | uint64(a&0xffff|b<<16)
			found := int32(-1)
			for _, i := range candidates {
				if m.Sums[i] == sum && (found < 0 || i == next) {
					found = i
				}
			}
			if found >= 0 {
				s := span{int64(found) * int64(n), int64(at), int64(n)}
				if k := len(list) - 1; k >= 0 && list[k].from+list[k].n == s.from && list[k].to+list[k].n == s.to {
					list[k].n += s.n
				} else {
					list = append(list, s)
				}
				at += n
				next, fresh = found+1, true
				continue
			}
		}
		if at+n == len(now) {
			break
		}
		out, in := uint32(now[at]), uint32(now[at+n])
		a = (a - out + in) & 0xffff
		b = (b - uint32(n)*out + a) & 0xffff
		at++
	}
	return list, nil
}

// part is an entry of an archive, as its directory has it.
type part struct {
	crc, size, packed, data int64
	method                  uint16
}

// directory reads the directory of a ZIP archive (APPNOTE 6.3.10, 4.3.12 to 4.3.16) in two reads,
// and nothing else of it. Where the data of an entry lies is told from where the next one begins.
func directory(r io.ReaderAt, size int64) ([]part, error) {
	bad := errors.New("it is no archive of the usual form")
	tail := make([]byte, min(size, 22+20+4096))
	if _, err := r.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return nil, err
	}
	i := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if i < 0 || i+22 > len(tail) {
		return nil, bad
	}
	count, length, offset := int(binary.LittleEndian.Uint16(tail[i+10:])),
		int64(binary.LittleEndian.Uint32(tail[i+12:])), int64(binary.LittleEndian.Uint32(tail[i+16:]))
	if offset == 0xffffffff || count == 0xffff || offset+length > size || length > 64<<20 {
		return nil, bad // more than 4 GB or 65,535 entries: sent whole
	}
	dir := make([]byte, length)
	if from := size - int64(len(tail)); offset >= from {
		copy(dir, tail[offset-from:])
	} else if _, err := r.ReadAt(dir, offset); err != nil && err != io.EOF {
		return nil, err
	}
	var list []part
	var headers []int64
	for len(list) < count {
		if len(dir) < 46 || string(dir[:4]) != "PK\x01\x02" {
			return nil, bad
		}
		u16 := func(at int) int { return int(binary.LittleEndian.Uint16(dir[at:])) }
		u32 := func(at int) int64 { return int64(binary.LittleEndian.Uint32(dir[at:])) }
		n := 46 + u16(28) + u16(30) + u16(32)
		if n > len(dir) || u16(8)&8 != 0 || u32(20) == 0xffffffff {
			return nil, bad
		}
		list = append(list, part{crc: u32(16), packed: u32(20), size: u32(24), method: uint16(u16(10))})
		headers = append(headers, u32(42))
		dir = dir[n:]
	}
	order := make([]int, len(list))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(a, b int) bool { return headers[order[a]] < headers[order[b]] })
	end := offset
	for i := len(order) - 1; i >= 0; i-- {
		x := &list[order[i]]
		x.data = end - x.packed
		end = headers[order[i]]
		if x.data < end {
			return nil, bad
		}
	}
	return list, nil
}

// sameEntries finds the entries that two archives have in common, whatever they are called.
func sameEntries(old, now []part) []span {
	type key struct {
		crc, size, packed int64
		method            uint16
	}
	at := map[key]int64{}
	for _, p := range old {
		at[key{p.crc, p.size, p.packed, p.method}] = p.data
	}
	var list []span
	for _, p := range now {
		if from, ok := at[key{p.crc, p.size, p.packed, p.method}]; ok && p.packed >= minSpan {
			list = append(list, span{from, p.data, p.packed})
		}
	}
	sort.Slice(list, func(a, b int) bool { return list[a].to < list[b].to })
	var apart []span
	for _, s := range list { // an archive whose entries share bytes is no archive to trust
		if n := len(apart); n == 0 || s.to >= apart[n-1].to+apart[n-1].n {
			apart = append(apart, s)
		}
	}
	return apart
}
