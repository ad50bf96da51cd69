// Package bundle packs the tree into archives and reads them: ZIP (PKWARE APPNOTE 6.3.10) with sorted entries, a fixed
// time and forward slashes, alone or appended to a compiled map, the same bytes for the same tree on any machine.
//
// zip.go writes archives, read.go opens and checks them, pack.go decides what goes into which.
package bundle

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"

	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/safefile"
)

// Version is raised whenever the same tree would be packed to other bytes.
const Version = 1

// Entry is a file for an archive.
type Entry struct {
	Path   string // slash path in the archive
	File   string // system path to read it from
	SHA256 string // what the file must be, in hex
}

// epoch is the time of every entry, 1 January 1980, the first that ZIP can express.
const epoch = 1<<5 | 1

// packed is an entry ready to be written.
type packed struct {
	header zip.FileHeader
	data   []byte
}

// writeZIP writes an archive whose first byte will stand at offset in the file. Entries are compressed side by side
// and written in the order of their paths.
func writeZIP(ctx context.Context, w io.Writer, offset int64, entries []Entry, deflate bool, workers int) error {
	entries = slices.Clone(entries)
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	z := zip.NewWriter(w)
	z.SetOffset(offset)
	group, ctx := errgroup.WithContext(ctx)
	slots := make(chan chan packed, workers) // bounds how many entries wait in memory
	group.Go(func() error {
		defer close(slots)
		for _, e := range entries {
			slot := make(chan packed, 1)
			select {
			case slots <- slot:
			case <-ctx.Done():
				return ctx.Err()
			}
			group.Go(func() error {
				p, err := pack(e, deflate)
				if err == nil {
					slot <- p
				}
				return err
			})
		}
		return nil
	})
	group.Go(func() error {
		for slot := range slots {
			select {
			case p := <-slot:
				f, err := z.CreateRaw(&p.header)
				if err != nil {
					return err
				}
				if _, err := f.Write(p.data); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return z.Close()
	})
	return group.Wait()
}

// pack reads and compresses one entry; what deflate does not make smaller is stored.
func pack(e Entry, deflate bool) (packed, error) {
	if err := safefile.CheckPath(e.Path); err != nil {
		return packed{}, err
	}
	data, err := readChecked(e)
	if err != nil {
		return packed{}, err
	}
	p := packed{data: data, header: zip.FileHeader{
		Name: e.Path, Method: zip.Store, ModifiedDate: epoch,
		CreatorVersion: 3<<8 | 20, ReaderVersion: 20, ExternalAttrs: 0o100644 << 16, // a plain file, as Unix says it
		CRC32: crc32.ChecksumIEEE(data), UncompressedSize64: uint64(len(data)),
	}}
	for _, r := range e.Path {
		if r >= 0x80 {
			p.header.Flags |= 0x800 // the name is UTF-8
			break
		}
	}
	if deflate {
		var b bytes.Buffer
		c, err := flate.NewWriter(&b, 6)
		if err != nil {
			return packed{}, err
		}
		if _, err := c.Write(data); err != nil {
			return packed{}, err
		}
		if err := c.Close(); err != nil {
			return packed{}, err
		}
		if b.Len() < len(data) {
			p.header.Method, p.data = zip.Deflate, b.Bytes()
		}
	}
	p.header.CompressedSize64 = uint64(len(p.data))
	return p, nil
}

// readChecked reads a file of the tree and makes sure that it is still what was built.
func readChecked(e Entry) ([]byte, error) {
	data, err := os.ReadFile(e.File)
	if err != nil {
		return nil, fmt.Errorf("packing %s: %w", e.Path, err)
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != e.SHA256 {
		return nil, &fault.Fault{What: "the file changed after it was built", Place: fault.Place{File: path.Join(project.TreeDir, e.Path)},
			Why: "What would ship is not what the sources say.", Do: "Build and pack again; leave out/tree to Vornix."}
	}
	return data, nil
}
