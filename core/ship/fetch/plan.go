package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/ship/index"
)

// Ways in which a file comes.
const (
	Keep   = "keep"   // it is there
	Whole  = "whole"  // it is downloaded
	Patch  = "patch"  // it is made of an earlier version
	Copy   = "copy"   // it is there under another name
	Remove = "remove" // the index has it no more
	Leave  = "leave"  // the index has it no more, and somebody changed it since
)

// FileChange is what happens to a file.
type FileChange struct {
	File  string `json:"file"`
	Do    string `json:"do"`
	Size  int64  `json:"size"`  // bytes of the file
	Bytes int64  `json:"bytes"` // bytes to download for it
	From  string `json:"from,omitempty"`
	Note  string `json:"note,omitempty"`

	sum   string
	urls  string // address
	was   string // SHA-256 of what is there; empty for nothing
	wasOf int64
	way   *index.Patch
	base  string // system path
}

// wanted is a file that the index names.
type wanted struct {
	rel  string
	sum  string
	size int64
	ref  string
	ways []index.Patch
	data []byte // the index itself
}

func hashOf(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// chosen says whether a record is one of those that were asked for.
func chosen(r *index.Record, only []string) bool {
	if len(only) == 0 {
		return true
	}
	return slices.ContainsFunc(only, func(pattern string) bool {
		match := func(name string) bool {
			ok, err := path.Match(pattern, name)
			return err == nil && ok
		}
		return match(r.Name) || match(r.File) ||
			slices.ContainsFunc(r.Maps, func(m index.Map) bool { return match(m.Name) })
	})
}

// want lists the files that an index means for this folder.
func want(x *index.Index, raw []byte, only []string, mirror bool) (list []wanted, err error) {
	names := []string{}
	listed := map[string]bool{}
	for i := range x.Bundles {
		r := &x.Bundles[i]
		names = append(names, r.Name)
		if !chosen(r, only) {
			continue
		}
		list = append(list, wanted{rel: r.File, sum: r.SHA256, size: r.Size, ref: r.URL, ways: r.Patches})
		listed[r.File] = true
		if !mirror {
			continue
		}
		for _, w := range r.Patches {
			u, err := url.Parse(w.URL)
			if err != nil || u.IsAbs() || safefile.CheckForeign(u.Path) != nil {
				continue // it stays where it is
			}
			if !listed[u.Path] {
				listed[u.Path] = true
				list = append(list, wanted{rel: u.Path, sum: w.SHA256, size: w.Size, ref: w.URL})
			}
		}
	}
	if len(list) == 0 && len(only) > 0 {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("the index has nothing called %s", strings.Join(only, ", ")),
			Do:   "It has: " + strings.Join(names[:min(len(names), 20)], ", ")}
	}
	if mirror {
		for _, t := range x.Texts {
			list = append(list, wanted{rel: t.File, sum: t.SHA256, size: t.Size, ref: url.PathEscape(t.File)})
		}
		list = append(list, wanted{rel: index.FileName, sum: hashOf(raw), size: int64(len(raw)), data: raw})
	}
	seen := safefile.Names{}
	for _, w := range list {
		why := seen.Add(w.rel)
		if top, _, _ := strings.Cut(w.rel, "/"); safefile.Own(top) {
			why = "Vornix keeps its own records there"
		}
		if why != "" {
			return nil, &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the index has a file %q, which can't be there: %s", w.rel, why),
				Why:  "Nothing was changed.", Do: "Tell its authors."}
		}
	}
	return list, nil
}

// content names what an index means for this folder, so that the same is known again.
func content(list []wanted) string {
	var lines []string
	for _, w := range list {
		if w.rel != index.FileName {
			lines = append(lines, w.sum+" "+w.rel)
		}
	}
	slices.Sort(lines)
	return hashOf([]byte(strings.Join(lines, "\n")))
}

// there is the hash and size of what is at a path: as it is remembered when nobody touched it since.
func (r *run) there(rel string) (sum string, size int64, err error) {
	info, err := os.Lstat(r.f.Join(rel))
	if err == nil {
		if k, ok := r.s.Files[rel]; ok && !r.o.Verify && info.Mode().IsRegular() && k.Size == info.Size() &&
			k.ModTime == info.ModTime().UnixNano() {
			return k.SHA256, k.Size, nil
		}
	}
	return r.f.Hash(rel)
}

// plan finds out what has to happen.
func (r *run) plan(ctx context.Context, list []wanted) error {
	have := map[string]string{} // system path by SHA-256, of what is there and whole
	for _, rel := range slices.Sorted(maps.Keys(r.s.Files)) {
		if sum, _, err := r.there(rel); err == nil && sum != "" {
			have[sum] = r.f.Join(rel)
		}
	}
	if err := r.strangers(ctx, list, have); err != nil {
		return err
	}
	isWanted := map[string]bool{}
	for i := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		w := &list[i]
		isWanted[w.rel] = true
		for _, other := range r.others {
			if _, taken := other.Files[w.rel]; taken {
				return &fault.Fault{Kind: fault.Refused,
					What:  fmt.Sprintf("%s is there already, and belongs to %s", w.rel, other.Project),
					Place: fault.Place{File: filepath.ToSlash(r.f.Join(w.rel))},
					Why:   "Each would replace the other's again and again. Nothing was changed.",
					Do:    "Fetch one of them to another folder."}
			}
		}
		a := FileChange{File: w.rel, Do: Keep, Size: w.size, sum: w.sum}
		var err error
		if a.was, a.wasOf, err = r.there(w.rel); err != nil {
			return err
		}
		if a.was == w.sum && r.f.Spelled(w.rel) != w.rel { // only its name changes
			have[w.sum] = r.f.Join(w.rel)
		} else if a.was == w.sum {
			r.result.Actions = append(r.result.Actions, a)
			have[w.sum] = r.f.Join(w.rel)
			continue
		}
		if a.was != "" && !slices.Contains(r.s.Owned[w.rel], a.was) {
			if _, ours := r.s.Files[w.rel]; ours {
				a.Note = "it was changed or damaged, and is replaced"
			} else {
				a.Note = "replaces a file that was there before"
			}
		}
		switch {
		case w.data != nil:
			a.Do = Copy
		case have[w.sum] != "":
			a.Do, a.base = Copy, have[w.sum]
			a.From = filepath.Base(a.base)
		case r.f.Backup(w.sum) != "":
			a.Do, a.base, a.From = Copy, r.f.Backup(w.sum), "the version before"
		default:
			if err := r.way(&a, w, have); err != nil {
				return err
			}
		}
		r.result.Actions = append(r.result.Actions, a)
	}
	for _, rel := range slices.Sorted(maps.Keys(r.s.Owned)) {
		if isWanted[rel] {
			continue
		}
		if r.f.Folds() && slices.ContainsFunc(list, func(w wanted) bool { return r.f.Same(w.rel, rel) }) {
			delete(r.s.Owned, rel) // it is the same file, under another spelling
			continue
		}
		sum, size, err := r.f.Hash(rel)
		if err != nil {
			return err
		}
		switch {
		case sum == "":
			delete(r.s.Owned, rel)
		case slices.Contains(r.s.Owned[rel], sum):
			r.result.Actions = append(r.result.Actions,
				FileChange{File: rel, Do: Remove, Size: size, was: sum, wasOf: size})
		default:
			r.result.Actions = append(r.result.Actions,
				FileChange{File: rel, Do: Leave, Size: size, Note: "somebody changed it since it came"})
		}
	}
	return nil
}

// strangers adds files that somebody put there by hand, where a patch could start from them: an
// older bundle that was downloaded before.
func (r *run) strangers(ctx context.Context, list []wanted, have map[string]string) error {
	endings := map[string]bool{}
	for _, w := range list {
		if slices.ContainsFunc(w.ways, func(p index.Patch) bool {
			return slices.ContainsFunc(p.Bases, func(b string) bool { return have[b] == "" })
		}) {
			endings[strings.ToLower(path.Ext(w.rel))] = true
		}
	}
	entries, err := fs.ReadDir(r.d.FS(), ".")
	for _, e := range entries {
		_, known := r.s.Files[e.Name()]
		if known || !e.Type().IsRegular() || !endings[strings.ToLower(path.Ext(e.Name()))] {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if sum, _, err := r.f.Hash(e.Name()); err == nil && have[sum] == "" {
			have[sum] = r.f.Join(e.Name())
		}
	}
	return err
}

// way chooses how a file is downloaded: whole, going on where it was cut, or by the smallest patch from what is there.
func (r *run) way(a *FileChange, w *wanted, have map[string]string) error {
	address, err := r.address(w.ref)
	if err != nil {
		return err
	}
	a.Do, a.urls, a.Bytes = Whole, address, w.size
	if info, err := os.Stat(r.f.Join(r.part(w.sum))); err == nil && info.Size() <= w.size {
		a.Bytes -= info.Size()
		if info.Size() > 0 {
			a.Note = "goes on where it was cut"
		}
	}
	for i := range w.ways {
		p := &w.ways[i]
		all := !slices.ContainsFunc(p.Bases, func(sum string) bool { return have[sum] == "" })
		if !all || p.Size >= a.Bytes || a.way != nil && p.Size >= a.way.Size {
			continue
		}
		if address, err := r.address(p.URL); err == nil {
			a.Do, a.way, a.urls, a.Bytes, a.From = Patch, p, address, p.Size, p.From
			a.base = have[p.Bases[0]]
			if _, ours := r.s.Files[filepath.Base(a.base)]; !ours && filepath.Base(a.base) != w.rel {
				a.Note = filepath.Base(a.base) + " did not come this way, and stays"
			}
			if len(p.Bases) > 1 {
				a.base = r.f.Path()
			}
		}
	}
	return nil
}

func (r *run) address(ref string) (string, error) {
	if r.src == nil {
		return "", nil // nobody is asked
	}
	address, err := r.src.Address(r.x.Base, ref, r.s.Beside)
	if err != nil {
		return "", &fault.Fault{Kind: fault.Refused, What: "the index leads nowhere",
			Place: fault.Place{File: r.src.String()}, Err: err, Why: "Nothing was changed.", Do: "Tell its authors."}
	}
	return address, nil
}

// part is where a download waits, by what it will be.
func (r *run) part(sum string) string { return path.Join(home(r.s.Project), partsDir, sum) }

// tidy removes parts of downloads that are not wanted any more.
func (r *run) tidy(d *safefile.Dir, list []wanted) {
	keep := map[string]bool{}
	for _, w := range list {
		keep[w.sum] = true
		for _, p := range w.ways {
			keep[p.SHA256] = true
		}
	}
	entries, _ := fs.ReadDir(d.FS(), path.Join(home(r.s.Project), partsDir))
	for _, e := range entries {
		if !keep[e.Name()] {
			_ = d.Remove(path.Join(home(r.s.Project), partsDir, e.Name())) // it only takes room
		}
	}
	_ = d.RemoveTree(path.Join(home(r.s.Project), madeDir))
}
