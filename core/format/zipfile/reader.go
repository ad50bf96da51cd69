package zipfile

import (
	"archive/zip"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"math"
	"slices"
	"strings"

	"vornix/core/base/safefile"
)

// Bounds on what is believed of an archive that nobody knows.
const (
	// MaxWhole is the largest entry that is read into memory whole.
	MaxWhole = 1 << 30
	// maxRatio is how far deflate can blow up: a byte stands for 1032 at most.
	maxRatio = 1032
	// maxZstd is how far zstd can: a block of four bytes stands for 128 KiB at most (RFC 8878, 3.1.1.2).
	maxZstd = 32 << 10
)

// ErrEncrypted says that an entry is locked with a password.
var ErrEncrypted = errors.New("it is encrypted, and Vornix has no password for it; ask who packed it for a bundle without one")

// File is an entry of an archive that was opened.
type File struct {
	Entry
	// Trouble says why the entry must not be written to disk, or can't be read at all; empty for a good one.
	Trouble string
	// Guessed says that the name stands in an old code page, and may be meant otherwise.
	Guessed bool
	Dir     bool // a folder, without content
	Comment string
	flags   uint16
	r       io.ReaderAt
}

// Reader is an open archive.
type Reader struct {
	Files   []*File // in the order of the directory
	Comment string
	at      map[string]*File
}

// Open reads an archive's directory. What is wrong with an entry is said in its Trouble; what is
// wrong with the archive, such as entries that lie over one another, is an error.
func Open(r io.ReaderAt, size int64) (*Reader, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		if errors.Is(err, zip.ErrFormat) {
			err = errors.New("it has no whole directory: it is cut off, damaged, or no ZIP archive")
		}
		return nil, err
	}
	offsets, err := headers(r, size, len(z.File))
	if err != nil {
		return nil, err
	}
	a := &Reader{Comment: z.Comment, at: map[string]*File{}}
	folded, names := map[string]*File{}, safefile.Names{}
	for i, f := range z.File {
		name, guessed := nameOf(f)
		e := &File{Entry: Entry{Name: strings.TrimSuffix(name, "/"), Method: Method(f.Method), CRC32: f.CRC32,
			Packed: int64(f.CompressedSize64), Size: int64(f.UncompressedSize64)},
			Guessed: guessed, Dir: strings.HasSuffix(name, "/"), Comment: f.Comment, flags: f.Flags, r: r}
		if e.Data, err = f.DataOffset(); err != nil {
			return nil, fmt.Errorf("entry %q: its header is damaged", name)
		}
		if e.Packed < 0 || e.Size < 0 || e.Data > size || e.Packed > size-e.Data {
			return nil, fmt.Errorf("entry %q says it has %d bytes, which the file does not hold", name,
				f.CompressedSize64)
		}
		e.judge(f)
		fold := Fold(e.Name)
		if other := folded[fold]; other != nil && e.Trouble == "" && !(e.Dir && other.Dir) {
			if other.Name == e.Name {
				e.Trouble = fmt.Sprintf("there are two entries %q", e.Name)
			} else {
				e.Trouble = fmt.Sprintf("%q and %q are one file on some systems", other.Name, e.Name)
			}
		} else {
			folded[fold] = e
			a.at[e.Name] = e
			if !e.Dir && e.Trouble == "" {
				e.Trouble = names.Add(e.Name)
			}
		}
		if e.Trouble == "" {
			e.Trouble = e.disagrees(f, offsets[i])
		}
		a.Files = append(a.Files, e)
	}
	return a, a.overlapping()
}

// judge says what is wrong with an entry.
func (e *File) judge(f *zip.File) {
	switch mode := f.Mode(); {
	case mode&fs.ModeSymlink != 0:
		e.Trouble = "it is a link, which could lead out of the folder"
	case mode&fs.ModeType != 0 && !e.Dir:
		e.Trouble = "it is no plain file"
	default:
		e.Trouble = trouble(e.Name)
	}
	switch {
	case e.Trouble != "":
	case e.flags&(flagEncrypted|flagStrongEncryption) != 0:
		e.Trouble = ErrEncrypted.Error()
	case e.Method != Store && e.Method != Deflate && e.Method != Zstd:
		e.Trouble = fmt.Sprintf("it is packed with %s, which Vornix does not read", e.Method)
	case e.Method == Store && e.Size != e.Packed:
		e.Trouble = fmt.Sprintf("it says it is stored, with %d bytes of which %d are there", e.Size, e.Packed)
	case e.Method == Deflate && e.Size/maxRatio > e.Packed, e.Method == Zstd && e.Size/maxZstd > e.Packed:
		e.Trouble = fmt.Sprintf("it says that %d bytes become %d, which %s can't do", e.Packed, e.Size, e.Method)
	}
}

// overlapping finds entries that share bytes, as archives do that unpack to more than any disk holds.
func (a *Reader) overlapping() error {
	list := slices.Clone(a.Files)
	slices.SortFunc(list, func(x, y *File) int { return cmp.Compare(x.Data, y.Data) })
	for i := 1; i < len(list); i++ {
		if last := list[i-1]; last.Data+last.Packed+localSize > list[i].Data {
			return fmt.Errorf("entries %q and %q lie over one another", last.Name, list[i].Name)
		}
	}
	return nil
}

// Find returns the entry of that name; nil when there is none.
func (a *Reader) Find(name string) *File { return a.at[name] }

// Open opens an entry for reading. It ends with an error unless size and CRC are as the directory
// says, and gives no byte more than that size.
func (e *File) Open() (io.ReadCloser, error) {
	switch {
	case e.Dir:
		return io.NopCloser(bytes.NewReader(nil)), nil
	case e.flags&(flagEncrypted|flagStrongEncryption) != 0:
		return nil, fmt.Errorf("entry %s: %w", e.Name, ErrEncrypted)
	case e.Size < 0 || e.Packed < 0 || e.Size == math.MaxInt64: // one more than the size is looked for
		return nil, fmt.Errorf("entry %s has a size that no file has", e.Name)
	}
	from := decompressor(e.Method, io.NewSectionReader(e.r, e.Data, e.Packed))
	if from == nil {
		return nil, fmt.Errorf("entry %s is packed with %s, which Vornix does not read", e.Name, e.Method)
	}
	return &checked{e: e, from: from, left: e.Size}, nil
}

// Raw reads an entry's bytes as they are in the archive.
func (e *File) Raw() *io.SectionReader { return io.NewSectionReader(e.r, e.Data, e.Packed) }

// Read reads an entry whole. Those above MaxWhole are refused.
func (e *File) Read() ([]byte, error) {
	if e.Size > MaxWhole {
		return nil, fmt.Errorf("entry %s says it has %d bytes; at most %d are read at once", e.Name, e.Size, MaxWhole)
	}
	r, err := e.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var b bytes.Buffer
	b.Grow(int(min(e.Size, 64*min(e.Packed, MaxWhole)+1024)) + 1) // a size is believed as it comes true
	if _, err := io.Copy(&b, r); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// checked reads an entry and holds it to its directory.
type checked struct {
	e    *File
	from io.ReadCloser
	left int64
	crc  uint32
	err  error
}

func (c *checked) Read(p []byte) (int, error) {
	if c.err != nil {
		return 0, c.err
	}
	if len(p) == 0 {
		return 0, nil
	}
	n, err := c.from.Read(p[:min(int64(len(p)), c.left+1)])
	if int64(n) > c.left {
		c.err = c.damaged("it has more bytes than it says")
		return 0, c.err
	}
	c.left -= int64(n)
	c.crc = crc32.Update(c.crc, crc32.IEEETable, p[:n])
	switch {
	case err == io.EOF && c.left > 0:
		c.err = c.damaged("it ends too early")
	case err == io.EOF && c.crc != c.e.CRC32:
		c.err = c.damaged("its checksum is another")
	case err == io.EOF:
		c.err = io.EOF
	case err != nil:
		c.err = c.damaged(err.Error())
	}
	return n, c.err
}

func (c *checked) Close() error { return c.from.Close() }

func (c *checked) damaged(why string) error {
	return fmt.Errorf("entry %s is damaged: %s", c.e.Name, why)
}
