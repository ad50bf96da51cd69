package sweep

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-git/go-git/v5/plumbing/format/index"

	"vornix/core/base/fault"
)

// tracked are the files under dir that Git tracks, by their slash paths in it: those in the index
// of the repository that dir lies in. Without a repository there are none.
func tracked(dir string) (map[string]bool, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil {
		abs = real
	}
	for top := abs; ; top = filepath.Dir(top) {
		git := filepath.Join(top, ".git")
		if info, err := os.Stat(git); err == nil {
			if !info.IsDir() { // a worktree, or a repository within another: the file says where
				data, err := os.ReadFile(git)
				if err != nil {
					return nil, err
				}
				at := filepath.FromSlash(strings.TrimSpace(strings.TrimPrefix(string(data), "gitdir:")))
				if !filepath.IsAbs(at) {
					at = filepath.Join(top, at)
				}
				git = at
			}
			return readIndex(filepath.Join(git, "index"), top, abs)
		}
		if filepath.Dir(top) == top {
			return nil, nil
		}
	}
}

func readIndex(file, top, dir string) (map[string]bool, error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil // nothing was ever added
	}
	if err != nil {
		return nil, err
	}
	idx := &index.Index{}
	if err := index.NewDecoder(bytes.NewReader(data)).Decode(idx); err != nil {
		return nil, &fault.Fault{Kind: fault.Refused, What: "Git's index can't be read",
			Place: fault.Place{File: filepath.ToSlash(file)}, Err: err,
			Why: "Without it nobody knows what Git tracks, so nothing is moved.",
			Do:  "Run 'git status' there; it mends or explains it."}
	}
	rel, err := filepath.Rel(top, dir)
	if err != nil {
		return nil, err
	}
	prefix := ""
	if rel != "." {
		prefix = filepath.ToSlash(rel) + "/"
	}
	list := map[string]bool{}
	for _, e := range idx.Entries {
		if name, ok := strings.CutPrefix(e.Name, prefix); ok {
			list[name] = true
		}
	}
	return list, nil
}
