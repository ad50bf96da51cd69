package transport

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"path"
	"sync"

	"vornix/core/base/group"
	"vornix/core/base/safefile"
)

// Folder is a folder of this machine, or one that is mounted.
type Folder struct {
	dir *safefile.Dir
}

// OpenFolder opens a folder, which must be there.
func OpenFolder(dir string) (*Folder, error) {
	d, err := safefile.OpenDir(dir)
	if err != nil {
		return nil, err
	}
	return &Folder{dir: d}, nil
}

func (f *Folder) String() string { return f.dir.Path() }

// Close releases the folder.
func (f *Folder) Close() error { return f.dir.Close() }

// Join is the system path of a file.
func (f *Folder) Join(rel string) string { return f.dir.Join(rel) }

// List is Site's.
func (f *Folder) List(_ context.Context, folders []string) (list []Info, err error) {
	for _, folder := range folders {
		entries, err := fs.ReadDir(f.dir.FS(), path.Clean(folder))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
				continue
			}
			if info, err := e.Info(); err == nil { // one that has gone meanwhile is not there
				list = append(list, Info{path.Join(folder, e.Name()), info.Size(), info.ModTime().UTC()})
			}
		}
	}
	return list, nil
}

// Stat is Site's.
func (f *Folder) Stat(_ context.Context, rel string) (Info, error) {
	info, err := f.dir.Stat(rel)
	if err != nil {
		return Info{}, err
	}
	if !info.Mode().IsRegular() {
		return Info{}, &fs.PathError{Op: "stat", Path: rel, Err: errors.New("it is no file")}
	}
	return Info{rel, info.Size(), info.ModTime().UTC()}, nil
}

// Read is Site's.
func (f *Folder) Read(_ context.Context, rel string, limit int64) ([]byte, error) {
	in, err := f.dir.FS().Open(rel)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return readMost(in, rel, limit)
}

// Get is Site's.
func (f *Folder) Get(ctx context.Context, rel string, w io.Writer) error {
	in, err := f.dir.FS().Open(rel)
	if err != nil {
		return err
	}
	defer in.Close()
	_, err = io.Copy(w, safefile.Until(ctx, in))
	return err
}

// Hash is Site's.
func (f *Folder) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	sums := map[string]string{}
	var mu sync.Mutex
	g, ctx := group.WithContext(ctx)
	g.SetLimit(4)
	for _, rel := range rels {
		g.Go(func() error {
			h := sha256.New()
			err := f.Get(ctx, rel, h)
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			sums[rel] = hex.EncodeToString(h.Sum(nil))
			return nil
		})
	}
	return sums, g.Wait()
}

// Upload is Site's.
func (f *Folder) Upload(ctx context.Context, u Upload) (Sent, error) {
	sum, n, err := f.dir.CopyFrom(ctx, u.Source, u.To)
	if err != nil {
		return Sent{}, err
	}
	if sum != u.SHA256 {
		return Sent{}, changedSource(u.Source)
	}
	u.advanced(n)
	return Sent{Bytes: n}, nil
}

// Write is Site's.
func (f *Folder) Write(_ context.Context, rel string, data []byte) error {
	return f.dir.WriteFile(rel, data)
}

// Create is Site's.
func (f *Folder) Create(_ context.Context, rel string, data []byte) error {
	return f.dir.CreateNew(rel, data)
}

// Rename is Site's.
func (f *Folder) Rename(_ context.Context, from, to string) error { return f.dir.Move(from, to) }

// Copy is Site's.
func (f *Folder) Copy(ctx context.Context, from, to string) error {
	_, _, err := f.dir.CopyFrom(ctx, f.dir.Join(from), to)
	return err
}

// Remove is Site's.
func (f *Folder) Remove(_ context.Context, rel string) error {
	if info, err := f.dir.Stat(rel); err == nil && info.IsDir() {
		return f.dir.RemoveEmpty(rel)
	}
	return f.dir.RemoveFile(rel)
}

// Link is Site's.
func (f *Folder) Link(ctx context.Context, from, to string) error {
	if err := f.dir.LinkFrom(ctx, from, to); err != nil {
		return err
	}
	f.dir.SyncFolder(path.Dir(to)) // a deployment's journal counts on what it can go back to
	return nil
}

// Sweep is Sweeper's.
func (f *Folder) Sweep(own string, folders []string) {
	f.dir.CleanTempIn(folders...)
	f.dir.CleanTempBelow(own)
}
