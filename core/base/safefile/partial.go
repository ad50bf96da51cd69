package safefile

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"vornix/core/base/fault"
)

// Partial is a file that comes piece by piece, over several runs: what was written stays when the
// program ends. Nobody but its writer may look at it until it is whole and was moved to its place.
type Partial struct {
	dir  *Dir
	rel  string
	f    *os.File
	size int64
}

// Resume opens a partial file at the slash path rel, with what earlier runs wrote to it.
func (d *Dir) Resume(rel string) (*Partial, error) {
	if err := CheckPath(rel); err != nil {
		return nil, err
	}
	if err := d.makeParent(rel); err != nil {
		return nil, err
	}
	f, err := d.open(filepath.FromSlash(rel), os.O_RDWR|os.O_CREATE)
	if err != nil {
		return nil, explain(err, "write", d.Join(rel))
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fault.Fault{Kind: fault.Refused, What: "a folder or a special file has the name of this file",
			Place: fault.Place{File: filepath.ToSlash(d.Join(rel))}, Do: "Move it away."}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Partial{d, rel, f, info.Size()}, nil
}

// Size is how many bytes are there.
func (p *Partial) Size() int64 { return p.size }

// Write appends.
func (p *Partial) Write(b []byte) (int, error) {
	n, err := writing(p.dir.path, p.rel, b, func(b []byte) (int, error) { return p.f.WriteAt(b, p.size) })
	p.size += int64(n)
	if err != nil {
		return n, explain(err, "write", p.dir.Join(p.rel))
	}
	return n, nil
}

// Restart forgets what is there.
func (p *Partial) Restart() error {
	p.size = 0
	if err := p.f.Truncate(0); err != nil {
		return explain(err, "write", p.dir.Join(p.rel))
	}
	return nil
}

// SHA256 reads what is there, and gives its hash in hex.
func (p *Partial) SHA256(ctx context.Context) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, Until(ctx, io.NewSectionReader(p.f, 0, p.size))); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", explain(err, "read", p.dir.Join(p.rel))
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Close makes durable what is there, and closes the file.
func (p *Partial) Close() error {
	err := either(before(p.dir.path, OpSync, p.rel), p.f.Sync)
	if closeErr := p.f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return explain(err, "write", p.dir.Join(p.rel))
	}
	return nil
}

// ScratchDir is a folder for what is made and thrown away, gone with all that is in it when it is closed.
type ScratchDir struct{ *Dir }

// NewScratchDir makes a scratch folder in a folder; "" for the system's own.
func NewScratchDir(dir string) (*ScratchDir, error) {
	tidySystem(dir)
	name := filepath.Join(cmp.Or(dir, os.TempDir()), tempName())
	err := either(before(dir, OpFolder, ""), func() error { return os.Mkdir(name, 0o700) })
	if err != nil {
		return nil, explain(err, "make a temporary folder in", dir)
	}
	d, err := OpenDir(name)
	if err != nil {
		return nil, err
	}
	return &ScratchDir{d}, nil
}

// Close removes the folder.
func (s *ScratchDir) Close() {
	entries, _ := fs.ReadDir(s.root.FS(), ".")
	for _, e := range entries {
		_ = s.removeAll(e.Name())
	}
	_ = s.Dir.Close() // nobody wants what is in it
	_ = os.Remove(s.Path())
}
