package project

import (
	"errors"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"vornix/core/base/safefile"
)

// Info is a file in a listing: its slash path and what tells a changed file without reading it.
type Info struct {
	Path    string
	Size    int64
	ModTime int64 // nanoseconds since 1970
}

// OutDir is the folder inside a project that everything made goes to; TreeDir the exact files that ship.
const (
	OutDir  = "out"
	TreeDir = "out/tree"
)

// List lists the project's sources, sorted by path: every regular file but those in out/, in .vornix and in folders
// whose names begin with a dot. Links are not followed.
func (p *Project) List() ([]Info, error) {
	return listFolder(p.Dir, "", func(rel string) bool {
		return rel == OutDir || strings.HasPrefix(filepath.Base(rel), ".")
	})
}

// ListTree lists out/tree; a tree that isn't there is empty.
func (p *Project) ListTree() ([]Info, error) {
	list, err := listFolder(p.Join(TreeDir), "", func(string) bool { return false })
	if os.IsNotExist(err) {
		return nil, nil
	}
	return list, err
}

// listFolder reads folders side by side: most of the time goes into asking the system about each file.
func listFolder(root, at string, skip func(rel string) bool) ([]Info, error) {
	return listFolderOf(root, at, skip, math.MaxInt)
}

// errMany says that a folder has more files than it may have.
var errMany = errors.New("too many files")

// listFolderOf is listFolder for a folder that may have so many files and folders.
func listFolderOf(root, at string, skip func(rel string) bool, limit int) ([]Info, error) {
	l := &lister{root: root, skip: skip, most: int64(limit), slots: make(chan struct{}, 8)}
	if _, err := os.Stat(root); err != nil {
		return nil, err
	}
	l.wait.Add(1)
	l.read(at)
	l.wait.Wait()
	if l.seen.Load() > l.most {
		return nil, errMany
	}
	slices.SortFunc(l.list, func(a, b Info) int { return strings.Compare(a.Path, b.Path) })
	return l.list, l.err
}

type lister struct {
	root  string
	skip  func(rel string) bool
	most  int64
	seen  atomic.Int64
	slots chan struct{}
	wait  sync.WaitGroup
	mu    sync.Mutex
	list  []Info
	err   error
}

func (l *lister) read(rel string) {
	defer l.wait.Done()
	dir := filepath.Join(l.root, filepath.FromSlash(rel))
	entries, err := os.ReadDir(dir)
	if err != nil {
		l.mu.Lock()
		l.err = err
		l.mu.Unlock()
		return
	}
	if l.seen.Add(int64(len(entries))) > l.most {
		return // and so do all that come after
	}
	prefix := rel
	if prefix != "" {
		prefix += "/"
	}
	batch := make([]Info, 0, len(entries))
	for _, e := range entries {
		name := prefix + e.Name()
		if e.IsDir() {
			if l.skip(name) {
				continue
			}
			l.wait.Add(1)
			select {
			case l.slots <- struct{}{}:
				go func() {
					l.read(name)
					<-l.slots
				}()
			default:
				l.read(name)
			}
			continue
		}
		if !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			continue
		}
		if runtime.GOOS == "windows" && safefile.IsDevice(e.Name()) {
			continue // no such file is there, as far as Windows is concerned; a repository from elsewhere may hold one
		}
		info, err := e.Info()
		if err != nil {
			if os.IsNotExist(err) {
				continue // removed meanwhile
			}
			l.mu.Lock()
			l.err = err
			l.mu.Unlock()
			continue
		}
		batch = append(batch, infoOf(name, info))
	}
	l.mu.Lock()
	l.list = append(l.list, batch...)
	l.mu.Unlock()
}

func infoOf(name string, info fs.FileInfo) Info {
	return Info{Path: name, Size: info.Size(), ModTime: info.ModTime().UnixNano()}
}
