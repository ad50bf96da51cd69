package index

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"

	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/safefile"
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

// Collect brings together in a folder all that the index of a project names, to be served from there: what it names first, the index last,
// so that nobody who looks meanwhile is told of what is not there yet. What is there otherwise is left.
func Collect(ctx context.Context, p *project.Project, to string) (*Collected, error) {
	x, err := Check(p)
	if err != nil {
		return nil, err
	}
	local, err := NewLocal(p)
	if err != nil {
		return nil, err
	}
	d, err := safefile.MakeDir(to)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	c := &Collected{}
	wanted := map[string]bool{FileName: true}
	put := func(rel, sum string, from []string) error {
		wanted[rel] = true
		if got, _, err := safefile.HashFileUntil(ctx, d.Join(rel)); err == nil && got == sum {
			c.Kept = append(c.Kept, rel)
			return nil
		}
		for i, name := range from {
			got, _, err := safefile.HashFileUntil(ctx, name)
			if (err != nil || got != sum) && i < len(from)-1 {
				continue
			}
			if err != nil {
				return err
			}
			if _, _, err := d.CopyFrom(ctx, name, rel); err != nil {
				return err
			}
			break
		}
		c.Copied = append(c.Copied, rel)
		return nil
	}
	for _, r := range x.Bundles {
		if err := put(r.File, r.SHA256, local.Find(r.File, r.SHA256)); err != nil {
			return nil, err
		}
		for _, way := range r.Patches {
			name, err := url.PathUnescape(way.URL)
			if err != nil {
				return nil, err
			}
			if !wanted[name] {
				if err := put(name, way.SHA256, []string{p.Join(PatchesDir, path.Base(name))}); err != nil {
					return nil, err
				}
			}
		}
	}
	for _, t := range x.Texts {
		if err := put(t.File, t.SHA256, []string{p.Join(Dir, t.File)}); err != nil {
			return nil, err
		}
	}
	index := p.Join(Dir, FileName)
	sum, _, err := safefile.HashFile(index)
	if err != nil {
		return nil, err
	}
	if err := put(FileName, sum, []string{index}); err != nil {
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
