package archive

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math"
	"unicode/utf8"

	"github.com/klauspost/compress/flate"
)

// Saved is an entry that was found without the archive's directory.
type Saved struct {
	File
	// Whole says that the content is there and its checksum right. Else as much as there is can be read, up to an error.
	Whole bool
	// NameLost says that the name is gone or makes no sense; Name is empty then.
	NameLost bool
	// FromDirectory says that the name comes from what is left of the directory.
	FromDirectory bool
}

// Scan finds entries by their local headers, front to back, whatever has become of the directory. It never fails: of
// bytes that hold nothing it finds nothing. The work is bounded by the size.
func Scan(r io.ReaderAt, size int64) []*Saved {
	s := &scanner{r: r, size: size, budget: 2*mostRatio*size + 1<<20}
	left := s.directory()
	var list []*Saved
	for at := int64(0); ; {
		at = s.find(localSignature, at)
		if at < 0 {
			return list
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

type scanner struct {
	r      io.ReaderAt
	size   int64
	budget int64 // bytes that may still be unpacked
}

// find is where a signature stands next; -1 for nowhere.
func (s *scanner) find(signature uint32, from int64) int64 {
	piece := binary.LittleEndian.AppendUint32(nil, signature)
	buffer := make([]byte, 256<<10)
	for at := from; at < s.size; at += int64(len(buffer)) - 3 {
		n, _ := s.r.ReadAt(buffer, at)
		if i := bytes.Index(buffer[:n], piece); i >= 0 {
			return at + int64(i)
		}
		if n < len(buffer) {
			break
		}
	}
	return -1
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
	tail := s.read(at+localSize, names+extra)
	if tail == nil {
		return nil, 0
	}
	flags := le.Uint16(h[6:])
	e = &Saved{File: File{Entry: Entry{Name: string(tail[:names]), Method: Method(le.Uint16(h[8:])), CRC32: le.Uint32(h[14:]), Packed: int64(le.Uint32(h[18:])), Size: int64(le.Uint32(h[22:])),
		Header: at, Data: at + localSize + int64(names+extra)}, flags: flags, r: s.r}}
	if m := e.Method; m != Store && m != Deflate && m != Zstd && m > 99 {
		return nil, 0
	}
	if e.Packed == math.MaxUint32 || e.Size == math.MaxUint32 {
		if n, p, ok := sizes64(tail[names:]); ok {
			e.Size, e.Packed = n, p
		}
	}
	e.NameLost = e.Name == "" || !utf8.ValidString(e.Name) || trouble(e.Name) != "" && trouble(e.Name[:len(e.Name)-1]) != ""
	if n := len(e.Name); n > 0 && e.Name[n-1] == '/' {
		e.Dir, e.Name = true, e.Name[:n-1]
		e.Size, e.Packed = 0, 0 // whatever it says
	}
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
	switch e.Method {
	case Deflate:
		in := &counted{r: bufio.NewReaderSize(io.NewSectionReader(s.r, e.Data, s.size-e.Data), 64<<10)}
		sum := crc32.NewIEEE()
		f := flate.NewReader(in)
		n, err := io.Copy(sum, io.LimitReader(f, s.budget))
		_ = f.Close() // reading has said what there is to say
		s.budget -= n
		if err != nil || s.budget <= 0 {
			return 0, false
		}
		e.Packed, e.Size = in.n, n
		return s.descriptor(e, sum.Sum32())
	case Store:
		for at := e.Data; ; at++ {
			if at = s.find(descriptorSignature, at); at < 0 {
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

// descriptor reads what stands behind an entry's data and holds it to what was found. Some writers leave its signature out.
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
	if e.Method == Store && e.Size != e.Packed || e.Size > s.budget {
		return false
	}
	r, err := e.Open()
	if err != nil {
		return false
	}
	defer r.Close()
	n, err := io.Copy(io.Discard, r)
	s.budget -= n
	return err == nil
}

// remains is what is left of a directory.
type remains struct {
	byOffset map[int64]Entry
	bySum    map[[2]int64][]Entry
}

func (s *scanner) directory() remains {
	le := binary.LittleEndian
	d := remains{map[int64]Entry{}, map[[2]int64][]Entry{}}
	for at := int64(0); ; at += 4 {
		if at = s.find(centralSignature, at); at < 0 {
			return d
		}
		h := s.read(at, centralSize)
		if h == nil {
			return d
		}
		name := s.read(at+centralSize, int(le.Uint16(h[28:])))
		if len(name) == 0 || !utf8.Valid(name) || trouble(string(name)) != "" {
			continue
		}
		e := Entry{Name: string(name), CRC32: le.Uint32(h[16:]), Packed: int64(le.Uint32(h[20:])), Size: int64(le.Uint32(h[24:])), Header: int64(le.Uint32(h[42:]))}
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
