package bundle

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/edsrzf/mmap-go"

	"vornix/core/mapfile"
	"vornix/core/safefile"
)

// maxEntry bounds an entry's size before it is believed.
const maxEntry = 1 << 30

// Reader is an open bundle.
type Reader struct {
	file *os.File
	zip  *zip.Reader
	at   map[string]*zip.File
	// MapData is the compiled map that the archive is appended to, mapped into memory until Close; nil for a plain archive.
	MapData []byte
	mapped  mmap.MMap
}

// Open opens a bundle: an archive, or a compiled map with or without an archive behind it. Every path in it has been
// checked; entries are checked when they are read.
func Open(name string) (*Reader, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	r := &Reader{file: f}
	if err := r.open(); err != nil {
		_ = r.Close()
		return nil, err
	}
	return r, nil
}

func (r *Reader) open() error {
	info, err := r.file.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return errors.New("it is no file")
	}
	size := info.Size()
	if strings.HasSuffix(strings.ToLower(r.file.Name()), ".vnm") {
		if size == 0 {
			return mapfile.ErrNotMap
		}
		data, err := mmap.Map(r.file, mmap.RDONLY, 0)
		if err != nil {
			return err
		}
		r.mapped = data
		m, err := mapfile.Open(data)
		if err != nil {
			return err
		}
		r.MapData = data[:m.Size]
		if m.Size == uint64(len(data)) {
			return nil
		}
	}
	if r.zip, err = zip.NewReader(r.file, size); err != nil {
		return fmt.Errorf("the archive can't be read: %w", err)
	}
	r.at = map[string]*zip.File{}
	seen := map[string]string{}
	for _, f := range r.zip.File {
		if err := safefile.CheckPath(strings.TrimSuffix(f.Name, "/")); err != nil {
			return err
		}
		folded := strings.ToLower(f.Name)
		if other, ok := seen[folded]; ok {
			return fmt.Errorf("the archive has %q and %q, which are one file on some systems", other, f.Name)
		}
		seen[folded] = f.Name
		r.at[f.Name] = f
		if f.UncompressedSize64 > maxEntry {
			return fmt.Errorf("entry %q says it has %d bytes; at most %d are taken", f.Name, f.UncompressedSize64, maxEntry)
		}
	}
	return nil
}

// Close releases the file.
func (r *Reader) Close() error {
	if r.mapped != nil {
		err := r.mapped.Unmap()
		r.mapped, r.MapData = nil, nil
		return errors.Join(err, r.file.Close())
	}
	return r.file.Close()
}

// Entries lists the archive's entries; none for a map without an archive.
func (r *Reader) Entries() []*zip.File {
	if r.zip == nil {
		return nil
	}
	return r.zip.File
}

// ReadFile reads an entry whole and checks it.
func (r *Reader) ReadFile(name string) ([]byte, error) {
	f := r.at[name]
	if f == nil {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrNotExist}
	}
	rc, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer rc.Close()
	data, err := io.ReadAll(io.LimitReader(rc, int64(f.UncompressedSize64)+1)) // the end is where the CRC is checked
	if err != nil {
		return nil, fmt.Errorf("entry %s is damaged: %w", name, err)
	}
	if uint64(len(data)) != f.UncompressedSize64 {
		return nil, fmt.Errorf("entry %s says it has %d bytes and has others", name, f.UncompressedSize64)
	}
	return data, nil
}
