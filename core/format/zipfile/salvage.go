package zipfile

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math"
	"strings"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
	"golang.org/x/text/encoding/charmap"

	"vornix/core/base/safefile"
)

// Saved is an entry that was found without the archive's directory.
type Saved struct {
	File
	// Whole says that the content is there and its checksum right. Else as much as there is can be
	// read, up to an error.
	Whole bool
	// NameLost says that the name is gone or makes no sense; Name is empty then.
	NameLost bool
	// FromDirectory says that the name comes from what is left of the directory.
	FromDirectory bool
}

// Scan finds entries by their local headers, front to back, whatever has become of the directory.
// Of bytes that hold nothing it finds nothing; the error is ctx's. The work is bounded by the size:
// what would take more is not looked into, and so not called whole.
func Scan(ctx context.Context, r io.ReaderAt, size int64) ([]*Saved, error) {
	s := &scanner{ctx: ctx, r: r, size: size, budget: maxWork*size + minWork}
	left := s.directory()
	var list []*Saved
	for at := int64(0); ; {
		at = s.find(localSignature, at)
		if at < 0 || ctx.Err() != nil {
			return list, ctx.Err()
		}
		e, next := s.entry(at)
		if e == nil {
			at += 4
			continue
		}
		if name, ok := left.name(e); ok && name != e.Name {
			e.Name, e.NameLost, e.FromDirectory = name, false, true
		}
		if e.NameLost {
			e.Name = ""
		}
		e.Trouble = ""
		if !e.NameLost {
			e.Trouble = trouble(e.Name)
		}
		list = append(list, e)
		at = next
	}
}

// maxWork is how many bytes are read or unpacked, all told, for each byte of a file, beside
// minWork: enough for any archive but those that are made to be a burden.
const maxWork = 128

var minWork int64 = 1 << 30 // tests have less patience

// maxName is the longest name, in bytes, that is taken for one.
const maxName = 4096

type scanner struct {
	ctx    context.Context
	r      io.ReaderAt
	size   int64
	budget int64 // bytes that may still be read or unpacked
	// window is a part of the file that was read, and at where it stands: searches go on where the last one ended.
	window []byte
	at     int64
}

// find is where a signature stands next; -1 for nowhere.
func (s *scanner) find(signature uint32, from int64) int64 {
	piece := binary.LittleEndian.AppendUint32(nil, signature)
	for at := from; at+4 <= s.size && s.ctx.Err() == nil; {
		if at < s.at || at+4 > s.at+int64(len(s.window)) {
			if s.window == nil {
				s.window = make([]byte, 256<<10)
			}
			n, _ := s.r.ReadAt(s.window[:cap(s.window)], at) // of a part that can't be read nothing is found
			s.window, s.at = s.window[:n], at
			if n < 4 {
				return -1
			}
		}
		if i := bytes.Index(s.window[at-s.at:], piece); i >= 0 {
			return at + int64(i)
		}
		at = s.at + int64(len(s.window)) - 3
	}
	return -1
}

// spend takes work off the budget; it says whether there was enough.
func (s *scanner) spend(bytes int64) bool {
	s.budget -= bytes
	return s.budget > 0
}

func (s *scanner) read(at int64, n int) []byte {
	if at < 0 || n < 0 || at+int64(n) > s.size {
		return nil
	}
	b := make([]byte, n)
	if _, err := s.r.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
		return nil
	}
	return b
}

// entry reads what stands at a local header; next is where to look for another.
func (s *scanner) entry(at int64) (e *Saved, next int64) {
	le := binary.LittleEndian
	h := s.read(at, localSize)
	if h == nil || le.Uint16(h[4:])&0xff > 99 {
		return nil, 0
	}
	names, extra := int(le.Uint16(h[26:])), int(le.Uint16(h[28:]))
	if names > maxName || !s.spend(int64(localSize+names+extra)) {
		return nil, 0
	}
	tail := s.read(at+localSize, names+extra)
	if tail == nil {
		return nil, 0
	}
	flags := le.Uint16(h[6:])
	e = &Saved{File: File{Entry: Entry{Name: string(tail[:names]), Method: Method(le.Uint16(h[8:])),
		CRC32: le.Uint32(h[14:]), Packed: int64(le.Uint32(h[18:])), Size: int64(le.Uint32(h[22:])),
		Header: at, Data: at + localSize + int64(names+extra)}, flags: flags, r: s.r}}
	if m := e.Method; m != Store && m != Deflate && m != Zstd && m > 99 {
		return nil, 0
	}
	if e.Packed == math.MaxUint32 || e.Size == math.MaxUint32 {
		if n, p, ok := sizes64(tail[names:]); ok {
			e.Size, e.Packed = n, p
		}
	}
	if !utf8.ValidString(e.Name) {
		if s, err := charmap.CodePage437.NewDecoder().String(e.Name); err == nil {
			e.Name, e.Guessed = s, true
		}
	}
	if folder, ok := strings.CutSuffix(e.Name, "/"); ok {
		e.Dir, e.Name = true, folder
		e.Size, e.Packed = 0, 0 // whatever it says
	}
	e.NameLost = trouble(e.Name) != ""
	next = e.Data
	if flags&flagDescriptor != 0 && e.Packed == 0 && !e.Dir {
		end, ok := s.measure(e)
		if !ok {
			return e, next
		}
		next = end
	}
	if e.Packed < 0 || e.Size < 0 || e.Packed > s.size-e.Data { // cut off: what is there can be looked at
		e.Packed = max(0, s.size-e.Data)
		if e.Method == Store {
			e.Size = e.Packed
		}
		return e, max(next, e.Data)
	}
	e.Whole = s.whole(e)
	behind := e.Data + e.Packed
	if mark := s.read(behind, 4); e.Whole || mark != nil && mark[0] == 'P' && mark[1] == 'K' {
		next = max(next, behind)
	}
	return e, next
}

// sizes64 reads the extra field of long sizes.
func sizes64(extra []byte) (size, packed int64, ok bool) {
	le := binary.LittleEndian
	for len(extra) >= 4 {
		id, n := le.Uint16(extra), int(le.Uint16(extra[2:]))
		if len(extra) < 4+n {
			break
		}
		if id == extra64 && n >= 16 {
			return int64(le.Uint64(extra[4:])), int64(le.Uint64(extra[12:])), true
		}
		extra = extra[4+n:]
	}
	return 0, 0, false
}

// measure finds the end of an entry whose sizes stand behind its data.
func (s *scanner) measure(e *Saved) (end int64, ok bool) {
	if s.budget <= 0 {
		return 0, false
	}
	switch e.Method {
	case Deflate:
		limit := min(s.size-e.Data, s.budget)
		in := &counted{r: bufio.NewReaderSize(safefile.Until(s.ctx, io.NewSectionReader(s.r, e.Data, limit)), 64<<10)}
		sum := crc32.NewIEEE()
		f := flate.NewReader(in)
		n, err := io.Copy(sum, io.LimitReader(f, s.budget))
		_ = f.Close() // reading has said what there is to say
		if !s.spend(n+in.n) || err != nil {
			return 0, false
		}
		e.Packed, e.Size = in.n, n
		return s.descriptor(e, sum.Sum32())
	case Store:
		for at := e.Data; ; at++ {
			from := at
			if at = s.find(descriptorSignature, at); at < 0 || !s.spend(at-from+1) {
				s.spend(s.size - from)
				return 0, false
			}
			if d := s.read(at, 16); d != nil && int64(binary.LittleEndian.Uint32(d[8:])) == at-e.Data {
				e.Packed, e.Size, e.CRC32 = at-e.Data, at-e.Data, binary.LittleEndian.Uint32(d[4:])
				return at + 16, true
			}
		}
	}
	return 0, false
}

// descriptor reads what stands behind an entry's data and holds it to what was found. Some writers
// leave its signature out.
func (s *scanner) descriptor(e *Saved, crc uint32) (end int64, ok bool) {
	at := e.Data + e.Packed
	d := s.read(at, 4)
	if d != nil && binary.LittleEndian.Uint32(d) == descriptorSignature {
		at += 4
		d = s.read(at, 4)
	}
	if d == nil {
		return 0, false
	}
	e.CRC32 = binary.LittleEndian.Uint32(d)
	if e.CRC32 != crc {
		return 0, false
	}
	return at + 4, true
}

// counted counts the bytes that were asked for, one by one where a decompressor does so.
type counted struct {
	r *bufio.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *counted) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

// whole says whether an entry's content is there and right.
func (s *scanner) whole(e *Saved) bool {
	if e.Dir {
		return true
	}
	// the sum of both may be more than a number holds
	if e.Method == Store && e.Size != e.Packed || e.Size < 0 || e.Packed < 0 || e.Size > s.budget ||
		e.Packed > s.budget-e.Size {
		return false
	}
	var n tally
	err := e.Copy(s.ctx, &n)
	return s.spend(int64(n)+e.Packed) && err == nil
}

// tally counts what is written to it.
type tally int64

func (t *tally) Write(p []byte) (int, error) {
	*t += tally(len(p))
	return len(p), nil
}

// remains is what is left of a directory.
type remains struct {
	byOffset map[int64]Entry
	bySum    map[[2]int64][]Entry
}

func (s *scanner) directory() remains {
	le := binary.LittleEndian
	d := remains{map[int64]Entry{}, map[[2]int64][]Entry{}}
	quota := s.size/(localSize+centralSize) + 1 // more records than entries can be are none
	for at := int64(0); ; at += 4 {
		if at = s.find(centralSignature, at); at < 0 {
			return d
		}
		h := s.read(at, centralSize)
		if quota--; h == nil || quota < 0 {
			return d
		}
		n := int(le.Uint16(h[28:]))
		if n > maxName {
			continue
		}
		if !s.spend(int64(centralSize + n)) {
			return d
		}
		name := s.read(at+centralSize, n)
		if len(name) == 0 || !utf8.Valid(name) || trouble(string(name)) != "" {
			continue
		}
		e := Entry{Name: string(name), CRC32: le.Uint32(h[16:]), Packed: int64(le.Uint32(h[20:])),
			Size: int64(le.Uint32(h[24:])), Header: int64(le.Uint32(h[42:]))}
		d.byOffset[e.Header] = e
		sum := [2]int64{int64(e.CRC32), e.Size}
		d.bySum[sum] = append(d.bySum[sum], e)
	}
}

// name is what the directory calls an entry: by where it stands, else by its size and checksum when only one has them.
func (d remains) name(e *Saved) (string, bool) {
	if !e.NameLost {
		return "", false
	}
	if o, ok := d.byOffset[e.Header]; ok && (o.CRC32 == e.CRC32 || !e.Whole) {
		return o.Name, true
	}
	if same := d.bySum[[2]int64{int64(e.CRC32), e.Size}]; e.Whole && len(same) == 1 {
		return same[0].Name, true
	}
	return "", false
}
