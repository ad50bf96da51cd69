package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/pack/patch"
	"vornix/core/ship/index"
)

// CheckOptions for Check.
type CheckOptions struct {
	Trust   []string          // public keys of which one must have signed
	Bases   map[string]string // system paths of earlier files, by SHA-256, to try patches on
	Beside  bool              // files lie beside the index, whatever base it says
	AtOnce  int
	Workers int
	Now     time.Time
	Remote  download.Options
	// Advanced is told how many of all bytes have come.
	Advanced func(done, total int64)
}

// Checked is what an index and all that it names are.
type Checked struct {
	Address string        `json:"address"`
	Index   *index.Index  `json:"index"`
	Signers []string      `json:"signers"`
	Files   []CheckedFile `json:"files"`
	Wrong   int           `json:"wrong"`   // files that are not as the index says
	Untried int           `json:"untried"` // patches whose base is not at hand
	Bytes   int64         `json:"bytes"`   // that were read
}

// CheckedFile is one file that an index names.
type CheckedFile struct {
	File    string `json:"file"`
	What    string `json:"what"` // bundle, patch, text
	Size    int64  `json:"size"`
	OK      bool   `json:"ok"`
	Applied string `json:"applied,omitempty"` // of a patch: yes, or why it was not tried
	Why     string `json:"why,omitempty"`

	ref, sum string
	record   *index.Record
	way      *index.Patch
}

// Check reads an index and everything that it names, and verifies it: there, of the size and hash,
// signed, patches that come to what they must. What is wrong with a file is in Files; an error says
// that the index itself can't be used.
func Check(ctx context.Context, address string, o CheckOptions) (*Checked, error) {
	if o.Now.IsZero() {
		o.Now = time.Now()
	}
	if o.AtOnce <= 0 {
		o.AtOnce = 4
	}
	src, err := download.Open(address, index.FileName, o.Remote)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	raw, _, err := src.Index(ctx, index.FileName, index.Limit, download.Stamp{})
	if err != nil {
		return nil, err
	}
	x, err := index.Read(raw)
	if err != nil {
		return nil, index.Bad(src.String(), err)
	}
	c := &Checked{Address: src.String(), Index: x, Signers: append([]string{}, x.Signers()...), Files: []CheckedFile{}}
	if len(o.Trust) > 0 {
		if err := x.Trusted(o.Trust); err != nil {
			return c, err
		}
	}
	if x.Expired(o.Now) {
		return c, &fault.Fault{Kind: fault.Refused, What: "the index is too old: it was good until " + x.Expires,
			Place: fault.Place{File: src.String()}, Why: "Players' programs refuse it.",
			Do: "Make it good for longer: vornix index sign"}
	}
	c.list()
	return c, c.all(ctx, src, o)
}

// list is what the index names.
func (c *Checked) list() {
	seen := map[string]bool{}
	for i := range c.Index.Bundles {
		r := &c.Index.Bundles[i]
		c.Files = append(c.Files,
			CheckedFile{File: r.File, What: "bundle", Size: r.Size, ref: r.URL, sum: r.SHA256, record: r})
		for j := range r.Patches {
			w := &r.Patches[j]
			if name, err := url.PathUnescape(path.Base(w.URL)); err == nil && !seen[w.SHA256] {
				seen[w.SHA256] = true
				c.Files = append(c.Files,
					CheckedFile{File: name, What: "patch", Size: w.Size, ref: w.URL, sum: w.SHA256, record: r, way: w})
			}
		}
	}
	for _, t := range c.Index.Texts {
		c.Files = append(c.Files,
			CheckedFile{File: t.File, What: "text", Size: t.Size, ref: url.PathEscape(t.File), sum: t.SHA256})
	}
}

// hashed is a sink that keeps nothing but the hash.
type hashed struct {
	h    hash.Hash
	size int64
}

func (s *hashed) Write(p []byte) (int, error) { s.size += int64(len(p)); return s.h.Write(p) }
func (s *hashed) Size() int64                 { return s.size }
func (s *hashed) Restart() error              { s.h.Reset(); s.size = 0; return nil }

func (c *Checked) all(ctx context.Context, src *download.Source, o CheckOptions) error {
	total, done := int64(0), int64(0)
	for _, f := range c.Files {
		total += f.Size
	}
	var mutex sync.Mutex
	advanced := func(n int64) {
		mutex.Lock()
		defer mutex.Unlock()
		done += n
		if o.Advanced != nil {
			o.Advanced(done, max(total, done))
		}
	}
	g, inner := group.WithContext(ctx)
	g.SetLimit(o.AtOnce)
	for i := range c.Files {
		f := &c.Files[i]
		g.Go(func() error {
			err := f.check(inner, src, c.Index.Base, o, advanced)
			if inner.Err() != nil {
				return inner.Err()
			}
			if err != nil {
				f.Why = short(err)
				var why *fault.Fault
				if errors.As(err, &why) && why.Err != nil {
					f.Why += ": " + why.Err.Error()
				}
			}
			f.OK = err == nil
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, f := range c.Files {
		if !f.OK {
			c.Wrong++
		}
		if f.OK && f.What == "patch" && f.Applied != "yes" {
			c.Untried++
		}
	}
	c.Bytes = done
	return nil
}

func (f *CheckedFile) check(ctx context.Context, src *download.Source, base string, o CheckOptions,
	advanced func(int64)) error {
	address, err := src.Address(base, f.ref, o.Beside)
	if err != nil {
		return err
	}
	if f.way == nil {
		s := &hashed{h: sha256.New()}
		if err := src.Download(ctx, address, f.Size, s, advanced); err != nil {
			return err
		}
		return f.is(hex.EncodeToString(s.h.Sum(nil)))
	}
	scratch, err := safefile.NewScratchDir("")
	if err != nil {
		return err
	}
	defer scratch.Close()
	p, err := scratch.Resume("patch" + patch.Ending)
	if err != nil {
		return err
	}
	err = src.Download(ctx, address, f.Size, p, advanced)
	sum, hashErr := p.SHA256(ctx)
	if err := errors.Join(err, hashErr, p.Close()); err != nil {
		return err
	}
	if err := f.is(sum); err != nil {
		return err
	}
	return f.try(ctx, scratch, o)
}

func (f *CheckedFile) is(sum string) error {
	if sum != f.sum {
		return fmt.Errorf("it has SHA-256 %.12s…, and the index says %.12s…", sum, f.sum)
	}
	return nil
}

// try applies a patch to its base, where that is at hand, and holds the result to the index.
func (f *CheckedFile) try(ctx context.Context, scratch *safefile.ScratchDir, o CheckOptions) error {
	opened, err := patch.Open(scratch.Join("patch" + patch.Ending))
	if err != nil {
		return err
	}
	defer opened.Close()
	makes := slices.ContainsFunc(opened.Result.Files,
		func(x patch.File) bool { return x.SHA256 == f.record.SHA256 && x.Size == f.record.Size })
	if !makes {
		return fmt.Errorf("it leads to something else than %s", f.record.File)
	}
	for _, b := range opened.Base.Files {
		if !slices.Contains(f.way.Bases, b.SHA256) {
			return fmt.Errorf("it starts from something else than the index says")
		}
		from := o.Bases[b.SHA256]
		if from == "" {
			f.Applied = "not tried: " + b.Path + " is not at hand"
			return nil
		}
		if _, _, err := scratch.CopyFrom(ctx, from, path.Join("base", b.Path)); err != nil {
			return err
		}
	}
	options := patch.ApplyOptions{Workers: o.Workers, To: scratch.Join("result")}
	where := scratch.Join("base")
	if opened.One() {
		where = scratch.Join(path.Join("base", opened.Base.Files[0].Path))
	}
	plan, err := patch.Prepare(ctx, where, []*patch.Opened{opened}, nil, options)
	if err != nil {
		return err
	}
	if _, err := plan.Apply(ctx, options); err != nil {
		return err
	}
	found := false
	err = fs.WalkDir(os.DirFS(scratch.Join("result")), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		sum, _, err := safefile.HashFileUntil(ctx, filepath.Join(scratch.Join("result"), filepath.FromSlash(name)))
		found = found || sum == f.record.SHA256
		return err
	})
	if err == nil && !found {
		err = fmt.Errorf("applied, it comes to something else than %s", f.record.File)
	}
	if err == nil {
		f.Applied = "yes"
	}
	return err
}
