package remotecache

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// folder is a store in a folder, of this machine or one that is mounted from another.
type folder struct {
	dir *safefile.Dir
	p   Location
}

// trimmed is the file whose time says when a folder was last looked through.
const trimmed = "trimmed"

func openFolder(at string, p Location) (Store, error) {
	dir, err := safefile.OpenDir(at)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the folder of shared results does not exist",
			Place: fault.Place{File: p.Address}, Err: err, Do: "Make it, or mount what holds it."}
	}
	dir.Shared()
	return &folder{dir, p}, nil
}

func (f *folder) Read(_ context.Context, name string) (io.ReadCloser, error) {
	r, err := os.Open(f.dir.Join(name))
	if err == nil && !f.p.ReadOnly {
		f.dir.Touch(name) // its age counts from when it was last asked for
	}
	return r, err
}

func (f *folder) Has(_ context.Context, name string) (bool, error) {
	_, err := f.dir.Stat(name)
	if err != nil && !os.IsNotExist(err) {
		return false, err
	}
	if err == nil && !f.p.ReadOnly {
		f.dir.Touch(name)
	}
	return err == nil, nil
}

func (f *folder) Write(ctx context.Context, name string, size int64, content io.Reader) error {
	w, err := f.dir.Create(name)
	if err != nil {
		return err
	}
	defer w.Abort()
	if _, err := io.Copy(w, safefile.Until(ctx, content)); err != nil {
		return err
	}
	if w.Size() != size {
		return fmt.Errorf("%s has %d bytes, not %d", name, w.Size(), size)
	}
	// what a crash leaves of it is found when it is read, and written again by the next that makes it
	return w.CommitCache()
}

// Close trims the folder, when nobody has for a day.
func (f *folder) Close() error {
	defer f.dir.Close()
	if f.p.ReadOnly || f.p.Limits == (Limits{}) {
		return nil
	}
	info, err := f.dir.Stat(trimmed)
	if err == nil && time.Since(info.ModTime()) < 24*time.Hour {
		return nil
	}
	if err := f.dir.WriteCache(trimmed); err != nil {
		return err
	}
	return f.trim(time.Now())
}

// trim removes what is too old, and of the rest what was asked for the longest time ago until it
// fits. Records of results whose content has gone are no harm: they count as not there.
func (f *folder) trim(now time.Time) error {
	type kept struct {
		name string
		size int64
		used time.Time
	}
	var list []kept
	var sum int64
	limits := f.p.Limits
	for _, kind := range kinds {
		err := fs.WalkDir(f.dir.FS(), kind, func(name string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !IsKey(path.Base(name)) { // a file on its way, or somebody else's
				return nil
			}
			info, err := e.Info()
			if err != nil {
				return nil // somebody else was faster
			}
			if limits.Days > 0 && now.Sub(info.ModTime()) > time.Duration(limits.Days)*24*time.Hour {
				return f.dir.RemoveFile(name)
			}
			list, sum = append(list, kept{name, info.Size(), info.ModTime()}), sum+info.Size()
			return nil
		})
		if err != nil {
			return err
		}
	}
	if limits.Bytes == 0 || sum <= limits.Bytes {
		return nil
	}
	slices.SortFunc(list, func(a, b kept) int { return cmp.Or(a.used.Compare(b.used), cmp.Compare(a.name, b.name)) })
	for _, k := range list {
		if sum <= limits.Bytes {
			return nil
		}
		if err := f.dir.RemoveFile(k.name); err != nil && !os.IsNotExist(err) {
			return err
		}
		sum -= k.size
	}
	return nil
}
