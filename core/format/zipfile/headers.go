package zipfile

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
)

// headers are the offsets of the entries' own headers, in the order of the directory. The standard
// library reads the directory and keeps them to itself. Both have to agree on where the directory
// is and how many entries it has, otherwise another program might see another archive.
func headers(r io.ReaderAt, size int64, count int) ([]int64, error) {
	end, long, err := endOf(r, size)
	if err != nil {
		return nil, err
	}
	var bytesOf, start int64
	if long >= 0 {
		b := make([]byte, end64Size)
		if _, err := r.ReadAt(b, long); err != nil {
			return nil, err
		}
		bytesOf, start = int64(binary.LittleEndian.Uint64(b[40:])), int64(binary.LittleEndian.Uint64(b[48:]))
		end = long
	} else {
		b := make([]byte, endSize)
		if _, err := r.ReadAt(b, end); err != nil {
			return nil, err
		}
		bytesOf, start = int64(binary.LittleEndian.Uint32(b[12:])), int64(binary.LittleEndian.Uint32(b[16:]))
	}
	if bytesOf < 0 || bytesOf > end || start < 0 || start > end {
		return nil, errors.New("its directory is not where its end says")
	}
	at := end - bytesOf
	before := at - start // bytes that stand before the archive, such as a program
	list := make([]int64, 0, count)
	directory := io.NewSectionReader(r, at, bytesOf)
	window := make([]byte, 0)
	for pos := int64(0); pos < bytesOf; {
		if int64(cap(window)) < min(bytesOf-pos, 1<<20) {
			window = make([]byte, min(bytesOf-pos, 1<<20))
		}
		n, err := directory.ReadAt(window[:min(int64(cap(window)), bytesOf-pos)], pos)
		if n == 0 && err != nil {
			return nil, err
		}
		used, err := records(window[:n], &list, before)
		if err != nil {
			return nil, err
		}
		if used == 0 {
			break // the directory ends here; a signature may follow
		}
		pos += int64(used)
	}
	if len(list) != count {
		return nil, fmt.Errorf("its directory has %d entries in one reading and %d in another", len(list), count)
	}
	return list, nil
}

// records reads the whole records at the beginning of a part of the directory.
func records(b []byte, list *[]int64, before int64) (used int, err error) {
	le := binary.LittleEndian
	for len(b)-used >= centralSize && le.Uint32(b[used:]) == centralSignature {
		h := b[used:]
		n, m, k := int(le.Uint16(h[28:])), int(le.Uint16(h[30:])), int(le.Uint16(h[32:]))
		if len(h) < centralSize+n+m+k {
			break
		}
		offset := int64(le.Uint32(h[42:]))
		if offset == math.MaxUint32 {
			if offset, err = offset64(h[:centralSize], h[centralSize+n:centralSize+n+m]); err != nil {
				return 0, err
			}
		}
		*list = append(*list, offset+before)
		used += centralSize + n + m + k
	}
	return used, nil
}

// offset64 is the offset in the extra field of long sizes, which has only those that do not fit into the record.
func offset64(h, extra []byte) (int64, error) {
	le := binary.LittleEndian
	for len(extra) >= 4 {
		id, n := le.Uint16(extra), int(le.Uint16(extra[2:]))
		if len(extra) < 4+n {
			break
		}
		if id == extra64 {
			body := extra[4 : 4+n]
			for _, field := range []int{24, 20} {
				if le.Uint32(h[field:]) == math.MaxUint32 && len(body) >= 8 {
					body = body[8:]
				}
			}
			if len(body) >= 8 {
				return int64(le.Uint64(body)), nil
			}
		}
		extra = extra[4+n:]
	}
	return 0, errors.New("an entry does not say where it begins")
}

// endOf is where the end of the directory stands, and its long form; -1 for none (APPNOTE 4.3.14 to 4.3.16).
func endOf(r io.ReaderAt, size int64) (end, long int64, err error) {
	n := min(size, endSize+math.MaxUint16)
	b := make([]byte, n)
	if _, err := r.ReadAt(b, size-n); err != nil && err != io.EOF {
		return 0, 0, err
	}
	mark := binary.LittleEndian.AppendUint32(nil, endSignature)
	for i := bytes.LastIndex(b, mark); i >= 0; i = bytes.LastIndex(b[:i], mark) {
		if len(b)-i < endSize || i+endSize+int(binary.LittleEndian.Uint16(b[i+20:])) > len(b) {
			continue
		}
		end, long = size-n+int64(i), -1
		h := b[i:]
		if binary.LittleEndian.Uint16(h[10:]) == math.MaxUint16 ||
			binary.LittleEndian.Uint32(h[12:]) == math.MaxUint32 ||
			binary.LittleEndian.Uint32(h[16:]) == math.MaxUint32 {
			l := make([]byte, locator64Size)
			if end >= locator64Size {
				if _, err := r.ReadAt(l, end-locator64Size); err == nil &&
					binary.LittleEndian.Uint32(l) == locator64Signature {
					// The locator says where the record is. Where something stands before the
					// archive it is too small by that; the record ends right before its locator
					// then.
					for _, at := range []int64{int64(binary.LittleEndian.Uint64(l[8:])),
						end - locator64Size - end64Size} {
						mark := make([]byte, 4)
						if at < 0 || at > end-locator64Size-end64Size {
							continue
						}
						if _, err := r.ReadAt(mark, at); err == nil &&
							binary.LittleEndian.Uint32(mark) == end64Signature {
							long = at
							break
						}
					}
				}
			}
		}
		return end, long, nil
	}
	return 0, 0, errors.New("it has no directory")
}

// disagrees says in what an entry's own header at an offset differs from the directory: programs
// that read an archive from front to back would see another one (APPNOTE 4.3.7 and 4.3.12). Sizes
// may stand behind the data instead (bit 3 of the flags).
func (e *File) disagrees(f *zip.File, offset int64) string {
	le := binary.LittleEndian
	h := make([]byte, localSize+len(f.Name))
	if _, err := e.r.ReadAt(h, offset); err != nil || le.Uint32(h) != localSignature {
		return "its own header is damaged"
	}
	names, extra := int64(le.Uint16(h[26:])), int64(le.Uint16(h[28:]))
	if offset+localSize+names+extra != e.Data {
		return "its own header stands elsewhere than the directory says"
	}
	if names != int64(len(f.Name)) || string(h[localSize:]) != f.Name {
		name := make([]byte, names)
		_, _ = e.r.ReadAt(name, offset+localSize) // only for people
		return "its own header calls it " + strconv.QuoteToASCII(string(name))
	}
	flags := le.Uint16(h[6:])
	switch {
	case le.Uint16(h[8:]) != f.Method:
		return "its own header says that it is packed with " + Method(le.Uint16(h[8:])).String()
	case flags&(flagEncrypted|flagStrongEncryption) != e.flags&(flagEncrypted|flagStrongEncryption):
		return "its own header and the directory disagree whether it is encrypted"
	case flags&flagDescriptor != 0:
		return ""
	case le.Uint32(h[14:]) != f.CRC32:
		return "its own header has another checksum than the directory"
	}
	for i, size := range []uint64{f.CompressedSize64, f.UncompressedSize64} {
		if own := le.Uint32(h[18+4*i:]); own != math.MaxUint32 && uint64(own) != size {
			return "its own header has another size than the directory"
		}
	}
	return ""
}
