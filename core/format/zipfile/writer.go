package zipfile

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// Signatures and sizes of the records of a ZIP file (APPNOTE 4.3).
const (
	localSignature       = 0x04034b50
	centralSignature     = 0x02014b50
	endSignature         = 0x06054b50
	end64Signature       = 0x06064b50
	locator64Signature   = 0x07064b50
	descriptorSignature  = 0x08074b50
	localSize            = 30
	centralSize          = 46
	endSize              = 22
	end64Size            = 56
	locator64Size        = 20
	extra64              = 0x0001 // extra field: sizes and offsets of 64 bits
	extraUnicodeName     = 0x7075 // extra field: the name in UTF-8, beside one in an older code page
	extraPadding         = 0x5876 // extra field of Vornix: nothing but room, so that the data begins where it is wanted
	flagEncrypted        = 1 << 0
	flagDescriptor       = 1 << 3
	flagStrongEncryption = 1 << 6
	flagUTF8             = 1 << 11
	epoch                = 1<<5 | 1 // every entry's date: 1 January 1980, the first that ZIP can express
	plainFile            = 0o100644 << 16
	small                = math.MaxUint32 // sizes and offsets from here on need 64 bits
)

// Method is how an entry is packed, by ZIP's number for it.
type Method uint16

// The methods that Vornix writes. Others are named by their number.
const (
	Store   Method = 0
	Deflate Method = 8
	Zstd    Method = 93
)

func (m Method) String() string {
	switch m {
	case Store:
		return "store"
	case Deflate:
		return "deflate"
	case Zstd:
		return "zstd"
	}
	return fmt.Sprintf("method %d", uint16(m))
}

// Entry is a written or read entry.
type Entry struct {
	Name   string
	Method Method
	CRC32  uint32
	Packed int64 // bytes in the archive
	Size   int64 // bytes unpacked
	Header int64 // where its local header stands in the file
	Data   int64 // where its data begins in the file
}

// writer lays out one archive. Sink is written in order; a header may be corrected afterwards.
type writer struct {
	sink    Sink
	at      int64 // position in the file
	entries []Entry
	names   int64 // bytes of all names, for the size of the directory
}

// Sink is where an archive goes: a file that is written in order, of which a part may be written again.
type Sink interface {
	io.Writer
	// Patch writes over what was written before.
	Patch(data []byte, at int64) error
}

func utf8Flag(name string) uint16 {
	for i := range len(name) {
		if name[i] >= 0x80 {
			return flagUTF8
		}
	}
	return 0
}

// versionNeeded is what a reader must understand.
func versionNeeded(m Method, long bool) uint16 {
	switch {
	case m == Zstd:
		return 63
	case long:
		return 45
	}
	return 20
}

// header is the local header of e; long reserves 64-bit sizes; the data begins at a multiple of align.
func (w *writer) header(e *Entry, long bool, align int) []byte {
	extra := 0
	if long {
		extra = 20
	}
	e.Header = w.at
	e.Data = w.at + localSize + int64(len(e.Name)) + int64(extra)
	padding := 0
	if align > 1 {
		if padding = int(-e.Data & int64(align-1)); padding > 0 {
			for padding < 4 {
				padding += align
			}
		}
	}
	e.Data += int64(padding)
	b := make([]byte, 0, localSize+len(e.Name)+extra+padding)
	le := binary.LittleEndian
	b = le.AppendUint32(b, localSignature)
	b = le.AppendUint16(b, versionNeeded(e.Method, long))
	b = le.AppendUint16(b, utf8Flag(e.Name))
	b = le.AppendUint16(b, uint16(e.Method))
	b = le.AppendUint16(b, 0)
	b = le.AppendUint16(b, epoch)
	b = le.AppendUint32(b, e.CRC32)
	if long {
		b = le.AppendUint32(b, math.MaxUint32)
		b = le.AppendUint32(b, math.MaxUint32)
	} else {
		b = le.AppendUint32(b, uint32(e.Packed))
		b = le.AppendUint32(b, uint32(e.Size))
	}
	b = le.AppendUint16(b, uint16(len(e.Name)))
	b = le.AppendUint16(b, uint16(extra+padding))
	b = append(b, e.Name...)
	if long {
		b = le.AppendUint16(b, extra64)
		b = le.AppendUint16(b, 16)
		b = le.AppendUint64(b, uint64(e.Size))
		b = le.AppendUint64(b, uint64(e.Packed))
	}
	if padding > 0 {
		b = le.AppendUint16(b, extraPadding)
		b = le.AppendUint16(b, uint16(padding-4))
		b = append(b, make([]byte, padding-4)...)
	}
	return b
}

func (w *writer) write(p []byte) error {
	n, err := w.sink.Write(p)
	w.at += int64(n)
	return err
}

// begin writes an entry's header. An entry whose sizes are not known yet is begun with the largest that they can be in
// most, and ended with end.
func (w *writer) begin(e *Entry, limit int64, align int) error {
	return w.write(w.header(e, limit >= small, align))
}

// end notes an entry, and corrects its header when patch says that it was begun without its sizes.
func (w *writer) end(e Entry, limit int64, align int, patch bool) error {
	if patch {
		now := w.at
		w.at = e.Header
		head := w.header(&e, limit >= small, align)
		w.at = now
		if err := w.sink.Patch(head, e.Header); err != nil {
			return err
		}
	}
	w.entries = append(w.entries, e)
	w.names += int64(len(e.Name))
	return nil
}

// directorySize is a bound on what close will write, with one entry more of that name.
func (w *writer) directorySize(name string) int64 {
	n := int64(len(w.entries) + 1)
	return n*(centralSize+28) + w.names + int64(len(name)) + endSize + end64Size + locator64Size
}

// close writes the directory.
func (w *writer) close() error {
	le := binary.LittleEndian
	start := w.at
	b := make([]byte, 0, 1<<16)
	for _, e := range w.entries {
		var long []byte
		cap32 := func(v int64) uint32 {
			if v >= small {
				long = le.AppendUint64(long, uint64(v))
				return math.MaxUint32
			}
			return uint32(v)
		}
		size, packed, header := cap32(e.Size), cap32(e.Packed), cap32(e.Header)
		b = le.AppendUint32(b, centralSignature)
		b = le.AppendUint16(b, 3<<8|63) // made on Unix, so that the attributes are Unix's
		b = le.AppendUint16(b, versionNeeded(e.Method, long != nil))
		b = le.AppendUint16(b, utf8Flag(e.Name))
		b = le.AppendUint16(b, uint16(e.Method))
		b = le.AppendUint16(b, 0)
		b = le.AppendUint16(b, epoch)
		b = le.AppendUint32(b, e.CRC32)
		b = le.AppendUint32(b, packed)
		b = le.AppendUint32(b, size)
		b = le.AppendUint16(b, uint16(len(e.Name)))
		extra := 0
		if long != nil {
			extra = 4 + len(long)
		}
		b = le.AppendUint16(b, uint16(extra))
		b = le.AppendUint16(b, 0) // comment
		b = le.AppendUint16(b, 0) // disk
		b = le.AppendUint16(b, 0) // internal attributes
		b = le.AppendUint32(b, plainFile)
		b = le.AppendUint32(b, header)
		b = append(b, e.Name...)
		if long != nil {
			b = le.AppendUint16(b, extra64)
			b = le.AppendUint16(b, uint16(len(long)))
			b = append(b, long...)
		}
		if len(b) > 1<<15 {
			if err := w.write(b); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	if err := w.write(b); err != nil {
		return err
	}
	size, count := w.at-start, int64(len(w.entries))
	b = b[:0]
	if size >= small || start >= small || count >= math.MaxUint16 {
		at := w.at
		b = le.AppendUint32(b, end64Signature)
		b = le.AppendUint64(b, end64Size-12)
		b = le.AppendUint16(b, 3<<8|63)
		b = le.AppendUint16(b, 45)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint64(b, uint64(count))
		b = le.AppendUint64(b, uint64(count))
		b = le.AppendUint64(b, uint64(size))
		b = le.AppendUint64(b, uint64(start))
		b = le.AppendUint32(b, locator64Signature)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint64(b, uint64(at))
		b = le.AppendUint32(b, 1)
	}
	b = le.AppendUint32(b, endSignature)
	b = le.AppendUint32(b, 0)
	b = le.AppendUint16(b, uint16(min(count, math.MaxUint16)))
	b = le.AppendUint16(b, uint16(min(count, math.MaxUint16)))
	b = le.AppendUint32(b, uint32(min(size, math.MaxUint32)))
	b = le.AppendUint32(b, uint32(min(start, math.MaxUint32)))
	b = le.AppendUint16(b, 0)
	return w.write(b)
}

// checkName refuses names that no archive of ours has.
func checkName(name string) error {
	if err := safefile.CheckForeign(name); err != nil {
		return err
	}
	if len(name) > math.MaxUint16 {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("the path %.40q… is longer than a ZIP archive can hold", name), Do: "Rename it."}
	}
	return nil
}
