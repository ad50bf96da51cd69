package vcdiff

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"github.com/klauspost/compress/flate"
	"github.com/ulikunitz/xz/lzma"
)

// Compression is what the sections of a delta are packed with. The RFC leaves that open (4.1).
type Compression uint8

// The ways of packing sections. LZMA has the number that the common implementation gives it, and
// its form: each of the three kinds of sections of a delta is one stream in the xz container,
// flushed at the end of each window and never ended; a section is its unpacked size and the bytes
// that the window added.
const (
	None Compression = 0
	LZMA Compression = 2
)

const (
	// least is how many bytes a section must have to be packed; smaller ones stay as they are and
	// are not part of the stream.
	lowest = 24
	// maxDict is the largest dictionary that is believed.
	maxDict = 64 << 20
	// dictBits says how far back our streams look at the most: 1<<dictBits bytes.
	dictBits = 22
)

// xzHead begins an xz stream without checksums with a block of LZMA2 (the .xz file format 1.1.0, 2.1 and 3.1).
func xzHead(bits int) []byte {
	b := []byte{0xfd, '7', 'z', 'X', 'Z', 0}
	flags := []byte{0, 0}
	b = append(b, flags...)
	b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(flags))
	block := []byte{2, 0, 0x21, 1, byte(bits-12) * 2, 0, 0, 0} // its size, one filter, LZMA2 with one property
	b = append(b, block...)
	return binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(block))
}

// packer packs the sections of one kind.
type packer struct {
	out   bytes.Buffer
	w     *lzma.Writer2
	bits  int   // of the dictionary
	most  int64 // how many bytes are packed at the most, since that is slow; 0: all
	taken int64
}

const noisySample = 16 << 10

// noisy says of a large section that there is nothing to gain: three samples of it do not shrink.
func noisy(section []byte) bool {
	if len(section) < 16*noisySample {
		return false
	}
	for _, at := range []int{0, len(section) / 3, len(section) / 3 * 2} {
		var b bytes.Buffer
		w, err := flate.NewWriter(&b, flate.BestSpeed)
		if err != nil {
			return false // the level is ours
		}
		_, _ = w.Write(section[at : at+noisySample]) // a buffer takes every write
		if w.Close() != nil || b.Len() < noisySample-noisySample/64 {
			return false
		}
	}
	return true
}

// pack returns what to write for a section, and whether it is packed.
func (p *packer) pack(section []byte) ([]byte, bool, error) {
	if len(section) < lowest || p.most > 0 && p.taken+int64(len(section)) > p.most || noisy(section) {
		return section, false, nil
	}
	p.taken += int64(len(section))
	p.out.Reset()
	if p.w == nil {
		p.out.Write(xzHead(p.bits))
		w, err := lzma.Writer2Config{DictCap: 1 << p.bits, Properties: &lzma.Properties{LC: 3, LP: 0, PB: 0},
			Matcher: lzma.HashTable4}.NewWriter2(&p.out)
		if err != nil {
			return nil, false, err
		}
		p.w = w
	}
	if _, err := p.w.Write(section); err != nil {
		return nil, false, err
	}
	if err := p.w.Flush(); err != nil {
		return nil, false, err
	}
	return append(appendInt(nil, int64(len(section))), p.out.Bytes()...), true, nil
}

// unpacker unpacks the sections of one kind.
type unpacker struct {
	waiting bytes.Buffer // packed bytes that were not read yet
	r       *lzma.Reader2
}

// unpack returns what a section holds; most is the largest that makes sense.
func (u *unpacker) unpack(section []byte, limit int64) ([]byte, error) {
	size, rest, err := cutInt(section)
	if err != nil {
		return nil, err
	}
	if size > limit {
		return nil, fmt.Errorf("a section unpacks to %d bytes, more than its window can use", size)
	}
	u.waiting.Write(rest)
	if u.r == nil {
		dict, err := readXZHead(&u.waiting)
		if err != nil {
			return nil, err
		}
		if u.r, err = (lzma.Reader2Config{DictCap: dict}).NewReader2(&u.waiting); err != nil {
			return nil, err
		}
	}
	out := bytes.NewBuffer(make([]byte, 0, min(size, 1<<20))) // grows as it is filled: the size may be a lie
	if n, err := io.CopyN(out, u.r, size); err != nil {
		return nil, fmt.Errorf("a packed section ends after %d of its %d bytes: %w", n, size, io.ErrUnexpectedEOF)
	}
	return out.Bytes(), nil
}

var errXZ = errors.New("a packed section does not begin as an LZMA stream does")

// readXZHead reads the beginning of an xz stream, up to its first chunk, and returns the size of its dictionary.
func readXZHead(r *bytes.Buffer) (dict int, err error) {
	head := r.Next(13)
	if len(head) < 13 || !bytes.Equal(head[:6], []byte{0xfd, '7', 'z', 'X', 'Z', 0}) ||
		crc32.ChecksumIEEE(head[6:8]) != binary.LittleEndian.Uint32(head[8:12]) {
		return 0, errXZ
	}
	size := (int(head[12]) + 1) * 4
	block := append([]byte{head[12]}, r.Next(size-1)...)
	if head[12] == 0 || len(block) < size ||
		crc32.ChecksumIEEE(block[:size-4]) != binary.LittleEndian.Uint32(block[size-4:]) {
		return 0, errXZ
	}
	flags, rest := block[1], block[2:size-4]
	for _, bit := range []byte{0x40, 0x80} { // sizes that may stand there
		for flags&bit != 0 && len(rest) > 0 {
			c := rest[0]
			if rest = rest[1:]; c&0x80 == 0 {
				break
			}
		}
	}
	if flags&3 != 0 || len(rest) < 3 || rest[0] != 0x21 || rest[1] != 1 {
		return 0, errXZ
	}
	bits := int(rest[2])
	if bits > 40 {
		return 0, errXZ
	}
	dict = (2 | bits&1) << (bits/2 + 11)
	if bits == 40 || dict > maxDict {
		return 0, fmt.Errorf("a packed section wants a dictionary of %d MiB, more than the %d that are allowed",
			dict>>20, maxDict>>20)
	}
	return dict, nil
}
