package patch

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/base/transaction"
)

const recordsDir = transaction.Dir

// Side is what a patch leads from or to: files with where they are now.
type Side struct {
	Name  string // for people
	Files []SideFile
}

// SideFile is a file of a side.
type SideFile struct {
	File
	System string
}

func (s *Side) find(path string) *SideFile {
	for i := range s.Files {
		if s.Files[i].Path == path {
			return &s.Files[i]
		}
	}
	return nil
}

func (s *Side) state() State {
	var list []File
	for _, f := range s.Files {
		list = append(list, f.File)
	}
	return stateOf(list)
}

// LoadSide reads and hashes a file, or a folder with all that is in it but the records of patches.
func LoadSide(ctx context.Context, name string) (*Side, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no file or folder " + filepath.ToSlash(name),
			Err: err, Do: "Name a file, a folder, or a version that was released."}
	}
	if !info.IsDir() {
		return SideOf(ctx, filepath.ToSlash(name), map[string]string{filepath.Base(name): name})
	}
	files := map[string]string{}
	err = filepath.WalkDir(name, func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() && (e.Name() == recordsDir || e.Name() == safefile.TargetDir) {
			return filepath.SkipDir
		}
		if !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			return nil // folders come by themselves; links are not followed
		}
		rel, err := filepath.Rel(name, p)
		files[filepath.ToSlash(rel)] = p
		return err
	})
	if err != nil {
		return nil, err
	}
	return SideOf(ctx, filepath.ToSlash(name), files)
}

// SideOf is a side of single files, by the path that each has in it.
func SideOf(ctx context.Context, name string, files map[string]string) (*Side, error) {
	s := &Side{Name: name}
	for path, system := range files {
		if err := checkPath(path); err != nil {
			return nil, err
		}
		s.Files = append(s.Files, SideFile{File{Path: path}, system})
	}
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range s.Files {
		g.Go(func() (err error) {
			f := &s.Files[i]
			if err := ctx.Err(); err != nil {
				return err
			}
			f.SHA256, f.Size, err = safefile.HashFileUntil(ctx, f.System)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	slices.SortFunc(s.Files, func(a, b SideFile) int { return strings.Compare(a.Path, b.Path) })
	return s, nil
}
