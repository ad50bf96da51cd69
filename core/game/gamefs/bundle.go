package gamefs

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/edsrzf/mmap-go"

	"vornix/core/format/mapfile"
	"vornix/core/format/zipfile"
)

// Bundle is an open bundle.
type Bundle struct {
	file    *os.File
	archive *zipfile.Reader
	// MapData is the compiled map that the archive is appended to, mapped into memory until Close;
	// nil for a plain archive.
	MapData []byte
	mapped  mmap.MMap
}

// Open opens a bundle: an archive, or a compiled map with or without an archive behind it. Every
// entry is a plain file with a good path that can be read; its content is checked when it is read.
func Open(name string) (*Bundle, error) {
	r, err := OpenAny(name)
	if err != nil {
		return nil, err
	}
	for _, e := range r.Entries() {
		if e.Trouble != "" {
			_ = r.Close() // it was only read
			return nil, fmt.Errorf("the archive has an entry that must not be there: %s", e.Trouble)
		}
	}
	return r, nil
}

// OpenAny opens an archive of any origin: entries may have a Trouble.
func OpenAny(name string) (*Bundle, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	r := &Bundle{file: f}
	if err := r.open(); err != nil {
		_ = r.Close()
		return nil, err
	}
	return r, nil
}

func (r *Bundle) open() error {
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
	if r.archive, err = zipfile.Open(r.file, size); err != nil {
		return err
	}
	return nil
}

// Name is the bundle's system path, with forward slashes.
func (r *Bundle) Name() string { return filepath.ToSlash(r.file.Name()) }

// Close releases the file.
func (r *Bundle) Close() error {
	if r.mapped != nil {
		err := r.mapped.Unmap()
		r.mapped, r.MapData = nil, nil
		return errors.Join(err, r.file.Close())
	}
	return r.file.Close()
}

// Entries lists the archive's entries, without folders; none for a map without an archive.
func (r *Bundle) Entries() []*zipfile.File {
	if r.archive == nil {
		return nil
	}
	list := make([]*zipfile.File, 0, len(r.archive.Files))
	for _, f := range r.archive.Files {
		if !f.Dir || f.Trouble != "" {
			list = append(list, f)
		}
	}
	return list
}

// Comment is what the archive says of itself.
func (r *Bundle) Comment() string {
	if r.archive == nil {
		return ""
	}
	return r.archive.Comment
}

// Find returns an entry; nil when there is none of that name.
func (r *Bundle) Find(name string) *zipfile.File {
	if r.archive == nil {
		return nil
	}
	return r.archive.Find(name)
}

// ReadFile reads an entry whole and checks it.
func (r *Bundle) ReadFile(name string) ([]byte, error) {
	f := r.Find(name)
	if f == nil || f.Dir {
		return nil, &fs.PathError{Op: "read", Path: name, Err: fs.ErrNotExist}
	}
	if f.Trouble != "" {
		return nil, fmt.Errorf("entry %s: %s", name, f.Trouble)
	}
	return f.Read()
}
