package indexwriter

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/ship/index"
)

func hashOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Collected is what Collect did.
type Collected struct {
	Copied []string // slash paths in the folder
	Kept   []string // were there as they must be
	Left   []string // bundles, patches and texts there that the index does not name
}

// Collect copies every file that the index of a project names into a folder to be served, and the
// index last, so that the folder's index never names a missing file. Other files in the folder
// stay.
func Collect(ctx context.Context, p *project.Project, to string) (*Collected, error) {
	_, files, err := Named(p)
	if err != nil {
		return nil, err
	}
	d, err := safefile.MakeDir(to)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	c := &Collected{}
	wanted := map[string]bool{index.FileName: true}
	put := func(rel, sum, from string) error {
		wanted[rel] = true
		if got, _, err := safefile.HashFileUntil(ctx, d.Join(rel)); err == nil && got == sum {
			c.Kept = append(c.Kept, rel)
			return nil
		}
		if _, _, err := d.CopyFrom(ctx, from, rel); err != nil {
			return err
		}
		c.Copied = append(c.Copied, rel)
		return nil
	}
	for _, f := range files {
		if err := put(f.Path, f.SHA256, f.Source); err != nil {
			return nil, err
		}
	}
	written := p.Join(Dir, index.FileName)
	sum, _, err := safefile.HashFile(written)
	if err != nil {
		return nil, err
	}
	if err := put(index.FileName, sum, written); err != nil {
		return nil, err
	}
	err = fs.WalkDir(d.FS(), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return &fault.Fault{What: "the folder can't be read", Place: fault.Place{File: d.Join(name)}, Err: err}
		}
		if e.IsDir() && strings.HasPrefix(e.Name(), ".") && name != "." {
			return fs.SkipDir // of Git, for instance
		}
		if !e.IsDir() && !wanted[name] && !strings.HasPrefix(e.Name(), ".") {
			c.Left = append(c.Left, name)
		}
		return nil
	})
	slices.Sort(c.Left)
	return c, err
}
