package zipfile

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
)

// MaxExtracted is how much Extract writes unless it is told otherwise, and maxExpansion how many
// times the size of what it reads: an archive that unpacks to more is probably a trap. What is
// smaller than smallExtracted does no harm.
const (
	MaxExtracted   = 4 << 30
	MaxVerified    = 64 << 30 // bytes that Verify reads, which fill no disk
	maxExpansion   = 100
	smallExtracted = 1 << 20
)

// Written is a file that Extract wrote.
type Written struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// ExtractOptions for Extract.
type ExtractOptions struct {
	Workers   int
	Most      int64 // bytes in all; 0: MaxExtracted
	Overwrite bool  // files that are there
}

// Extract writes entries below a folder. Everything is looked at before the first byte is written:
// a bad name, a lying size, two entries that are one file on some systems, a file that is there
// already. Nothing is written outside the folder, each file whole or not at all. What was written
// before an error is in the list.
func Extract(ctx context.Context, d *safefile.Dir, files []*File, o ExtractOptions) ([]Written, error) {
	limit := o.Most
	if limit == 0 {
		limit = MaxExtracted
	}
	var total, packed int64
	for _, f := range files {
		if f.Trouble != "" {
			return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("the entry %q can't be unpacked", f.Name),
				Why: f.Trouble + ".", Do: "Name the entries that you want, or leave this one out with --except."}
		}
		if total += f.Size; total > limit || f.Size > limit {
			return nil, &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the archive says it unpacks to more than %d bytes", limit),
				Why:  "Archives that blow up fill disks.", Do: "Name fewer entries, or allow more with --max-size."}
		}
		packed += f.Packed
		if _, err := d.Stat(f.Name); err == nil && !f.Dir && !o.Overwrite {
			return nil, &fault.Fault{Kind: fault.Refused, What: "the file already exists",
				Place: fault.Place{File: d.Join(f.Name)}, Why: "Nothing was written.",
				Do: "Choose another folder with --to, or add --overwrite."}
		}
	}
	if o.Most == 0 && total > smallExtracted && total/maxExpansion > packed {
		return nil, &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("the archive says that %d bytes unpack to %d, more than %d times as many", packed, total,
				maxExpansion), Why: "Archives that blow up fill disks.",
			Do: "If that is right, say how much it may unpack to with --max-size."}
	}
	list := make([]Written, len(files))
	var mu sync.Mutex // making folders one at a time keeps errors plain
	g, ctx := group.WithContext(ctx)
	g.SetLimit(max(o.Workers, 1))
	for i, f := range files {
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if f.Dir {
				mu.Lock()
				defer mu.Unlock()
				return d.MakeFolder(f.Name)
			}
			to, err := d.Create(f.Name)
			if err != nil {
				return err
			}
			defer to.Abort()
			if err := f.Copy(ctx, to); err != nil {
				if ctx.Err() != nil {
					return ctx.Err()
				}
				return &fault.Fault{What: "the entry can't be unpacked", Place: fault.Place{File: f.Name}, Err: err,
					Do: "Get the archive again, or save what is whole with 'vornix salvage'."}
			}
			list[i] = Written{f.Name, to.Size(), to.SHA256()}
			return to.CommitCache()
		})
	}
	err := g.Wait()
	list = slices.DeleteFunc(list, func(w Written) bool { return w.Path == "" })
	return list, err
}
