// Package foldfs is a file system for tests on which names that differ only in capitals or in
// Unicode composition are one name. A file keeps the spelling that it was created or last renamed
// with. The usual file systems of macOS and Windows are like that. It is mounted by FUSE.
package foldfs

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fuse"

	"vornix/core/base/safefile"
)

// Mount shows the folder at below in the folder at. keeps says that a file which is replaced by a
// renaming keeps its own spelling; on other systems it gets the new one. Call what it returns in
// the end. It needs root and /dev/fuse.
func Mount(below, at string, keeps bool) (unmount func() error, err error) {
	f := &system{RawFileSystem: fuse.NewDefaultRawFileSystem(), below: below, keeps: keeps,
		nodes: map[uint64]*node{1: {}}, ids: map[key]uint64{}, open: map[uint64]*os.File{},
		lists: map[uint64][]os.DirEntry{}, next: 1}
	s, err := fuse.NewServer(f, at,
		&fuse.MountOptions{FsName: "folding", AllowOther: true, DirectMountStrict: true, DisableReadDirPlus: true,
			MaxWrite: 128 << 10})
	if err != nil {
		return nil, err
	}
	go s.Serve()
	return s.Unmount, s.WaitMount()
}

// key is what a node is known by: two spellings of one file are two nodes, so that the kernel asks
// for the renaming of one to the other. Both tell the same inode number, as on such systems.
type key struct {
	path string
	ino  uint64
}

type node struct {
	path string // as it was asked for, without a slash in front
	key  key
	refs uint64
}

type system struct {
	fuse.RawFileSystem
	below string
	keeps bool

	mu    sync.Mutex
	nodes map[uint64]*node
	ids   map[key]uint64
	open  map[uint64]*os.File
	lists map[uint64][]os.DirEntry // of open folders
	next  uint64
}

// real is the path of a file on the system below, in the spelling that it has there.
func (f *system) real(rel string) string {
	at := f.below
	for part := range strings.SplitSeq(rel, "/") {
		if part == "" {
			continue
		}
		if _, err := os.Lstat(filepath.Join(at, part)); err != nil {
			entries, _ := os.ReadDir(at)
			for _, e := range entries {
				if safefile.Fold(e.Name()) == safefile.Fold(part) {
					part = e.Name()
					break
				}
			}
		}
		at = filepath.Join(at, part)
	}
	return at
}

func (f *system) path(id uint64, name string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	if n := f.nodes[id]; n != nil {
		return path.Join(n.path, name)
	}
	return name
}

func (f *system) file(fh uint64) *os.File {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.open[fh]
}

func (f *system) keep(file *os.File) uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.next++
	f.open[f.next] = file
	return f.next
}

// tell fills in what there is at a path.
func (f *system) tell(rel string, out *fuse.EntryOut) fuse.Status {
	info, err := os.Lstat(f.real(rel))
	if err != nil {
		return fuse.ToStatus(err)
	}
	s := info.Sys().(*syscall.Stat_t)
	out.FromStat(s)
	k := key{rel, s.Ino}
	f.mu.Lock()
	defer f.mu.Unlock()
	id := f.ids[k]
	if id == 0 {
		f.next++
		id = f.next
		f.ids[k], f.nodes[id] = id, &node{path: rel, key: k}
	}
	f.nodes[id].refs++
	out.NodeId = id
	return fuse.OK
}

func (f *system) Lookup(_ <-chan struct{}, h *fuse.InHeader, name string, out *fuse.EntryOut) fuse.Status {
	return f.tell(f.path(h.NodeId, name), out)
}

func (f *system) Forget(id, n uint64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	x := f.nodes[id]
	if x == nil || id == 1 {
		return
	}
	if x.refs -= min(n, x.refs); x.refs == 0 {
		delete(f.nodes, id)
		if f.ids[x.key] == id {
			delete(f.ids, x.key)
		}
	}
}

func (f *system) attr(id, fh uint64, out *fuse.AttrOut) fuse.Status {
	var s syscall.Stat_t
	err := error(nil)
	if file := f.file(fh); fh != 0 && file != nil {
		err = syscall.Fstat(int(file.Fd()), &s)
	} else {
		err = syscall.Lstat(f.real(f.path(id, "")), &s)
	}
	if err == nil {
		out.FromStat(&s)
	}
	return fuse.ToStatus(err)
}

func (f *system) GetAttr(_ <-chan struct{}, in *fuse.GetAttrIn, out *fuse.AttrOut) fuse.Status {
	return f.attr(in.NodeId, in.Fh(), out)
}

func (f *system) SetAttr(_ <-chan struct{}, in *fuse.SetAttrIn, out *fuse.AttrOut) fuse.Status {
	name := f.real(f.path(in.NodeId, ""))
	fh, _ := in.GetFh()
	if file := f.file(fh); fh != 0 && file != nil { // it may have no name any more
		name = fmt.Sprintf("/proc/self/fd/%d", file.Fd())
	}
	var err error
	if mode, ok := in.GetMode(); ok {
		err = syscall.Chmod(name, mode)
	}
	uid, hasUID := in.GetUID()
	gid, hasGID := in.GetGID()
	if err == nil && (hasUID || hasGID) {
		u, g := -1, -1
		if hasUID {
			u = int(uid)
		}
		if hasGID {
			g = int(gid)
		}
		err = os.Lchown(name, u, g)
	}
	if size, ok := in.GetSize(); ok && err == nil {
		err = os.Truncate(name, int64(size))
	}
	at, hasA := in.GetATime()
	mt, hasM := in.GetMTime()
	if err == nil && (hasA || hasM) {
		if !hasA {
			at = time.Time{}
		}
		if !hasM {
			mt = time.Time{}
		}
		err = os.Chtimes(name, at, mt)
	}
	if err != nil {
		return fuse.ToStatus(err)
	}
	return f.attr(in.NodeId, fh, out)
}

func (f *system) Mkdir(_ <-chan struct{}, in *fuse.MkdirIn, name string, out *fuse.EntryOut) fuse.Status {
	rel := f.path(in.NodeId, name)
	if err := syscall.Mkdir(f.real(rel), in.Mode); err != nil {
		return fuse.ToStatus(err)
	}
	return f.tell(rel, out)
}

func (f *system) Unlink(_ <-chan struct{}, h *fuse.InHeader, name string) fuse.Status {
	rel := f.path(h.NodeId, name)
	err := syscall.Unlink(f.real(rel))
	f.gone(rel, err)
	return fuse.ToStatus(err)
}

func (f *system) Rmdir(_ <-chan struct{}, h *fuse.InHeader, name string) fuse.Status {
	rel := f.path(h.NodeId, name)
	err := syscall.Rmdir(f.real(rel))
	f.gone(rel, err)
	return fuse.ToStatus(err)
}

// gone lets the next file of that name be a new node, whatever inode number it gets: to the kernel
// a removed folder stays removed.
func (f *system) gone(rel string, err error) {
	if err != nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for k := range f.ids {
		if safefile.Fold(k.path) == safefile.Fold(rel) {
			delete(f.ids, k)
		}
	}
}

func (f *system) Rename(_ <-chan struct{}, in *fuse.RenameIn, oldName, newName string) fuse.Status {
	from, to := f.path(in.NodeId, oldName), f.path(in.Newdir, newName)
	was, at := f.real(from), f.real(to)
	if was == at { // of its spelling alone
		at = filepath.Join(filepath.Dir(at), newName)
	} else if in.Flags&1 != 0 { // RENAME_NOREPLACE
		if _, err := os.Lstat(at); err == nil {
			return fuse.Status(syscall.EEXIST)
		}
	}
	if was != at {
		if err := os.Rename(was, at); err != nil {
			return fuse.ToStatus(err)
		}
		if spelt := filepath.Join(filepath.Dir(at), newName); spelt != at && !f.keeps {
			if err := os.Rename(at, spelt); err != nil {
				return fuse.ToStatus(err)
			}
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	for id, n := range f.nodes {
		rest, below := strings.CutPrefix(n.path, from)
		if id == 1 || !below || rest != "" && rest[0] != '/' {
			continue
		}
		if f.ids[n.key] == id {
			delete(f.ids, n.key)
		}
		n.path = to + rest
		n.key.path = n.path
		f.ids[n.key] = id
	}
	return fuse.OK
}

func (f *system) Link(_ <-chan struct{}, in *fuse.LinkIn, name string, out *fuse.EntryOut) fuse.Status {
	rel := f.path(in.NodeId, name)
	if err := os.Link(f.real(f.path(in.Oldnodeid, "")), f.real(rel)); err != nil {
		return fuse.ToStatus(err)
	}
	return f.tell(rel, out)
}

func (f *system) Symlink(_ <-chan struct{}, h *fuse.InHeader, to, name string, out *fuse.EntryOut) fuse.Status {
	rel := f.path(h.NodeId, name)
	if err := os.Symlink(to, f.real(rel)); err != nil {
		return fuse.ToStatus(err)
	}
	return f.tell(rel, out)
}

func (f *system) Readlink(_ <-chan struct{}, h *fuse.InHeader) ([]byte, fuse.Status) {
	to, err := os.Readlink(f.real(f.path(h.NodeId, "")))
	return []byte(to), fuse.ToStatus(err)
}

func (f *system) Access(<-chan struct{}, *fuse.AccessIn) fuse.Status { return fuse.OK }

func (f *system) Create(_ <-chan struct{}, in *fuse.CreateIn, name string, out *fuse.CreateOut) fuse.Status {
	rel := f.path(in.NodeId, name)
	file, err := os.OpenFile(f.real(rel), int(in.Flags)&^syscall.O_APPEND|os.O_CREATE, os.FileMode(in.Mode&0o777))
	if err != nil {
		return fuse.ToStatus(err)
	}
	if code := f.tell(rel, &out.EntryOut); !code.Ok() {
		file.Close()
		return code
	}
	out.Fh = f.keep(file)
	return fuse.OK
}

func (f *system) Open(_ <-chan struct{}, in *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	file, err := os.OpenFile(f.real(f.path(in.NodeId, "")),
		int(in.Flags)&^(syscall.O_APPEND|syscall.O_CREAT|syscall.O_EXCL), 0)
	if err == nil {
		out.Fh = f.keep(file)
	}
	return fuse.ToStatus(err)
}

func (f *system) Read(_ <-chan struct{}, in *fuse.ReadIn, buf []byte) (fuse.ReadResult, fuse.Status) {
	n, err := syscall.Pread(int(f.file(in.Fh).Fd()), buf, int64(in.Offset))
	return fuse.ReadResultData(buf[:max(n, 0)]), fuse.ToStatus(err)
}

func (f *system) Write(_ <-chan struct{}, in *fuse.WriteIn, data []byte) (uint32, fuse.Status) {
	n, err := f.file(in.Fh).WriteAt(data, int64(in.Offset))
	return uint32(n), fuse.ToStatus(err)
}

func (f *system) Flush(<-chan struct{}, *fuse.FlushIn) fuse.Status { return fuse.OK }

func (f *system) Fsync(_ <-chan struct{}, in *fuse.FsyncIn) fuse.Status {
	return fuse.ToStatus(f.file(in.Fh).Sync())
}

func (f *system) FsyncDir(<-chan struct{}, *fuse.FsyncIn) fuse.Status { return fuse.OK }

func (f *system) Release(_ <-chan struct{}, in *fuse.ReleaseIn) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.open[in.Fh].Close()
	delete(f.open, in.Fh)
}

func (f *system) OpenDir(_ <-chan struct{}, in *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	entries, err := os.ReadDir(f.real(f.path(in.NodeId, "")))
	f.mu.Lock()
	defer f.mu.Unlock()
	f.next++
	out.Fh, f.lists[f.next] = f.next, entries
	return fuse.ToStatus(err)
}

func (f *system) ReadDir(_ <-chan struct{}, in *fuse.ReadIn, out *fuse.DirEntryList) fuse.Status {
	f.mu.Lock()
	if in.Offset == 0 { // from the beginning, perhaps again
		f.mu.Unlock()
		entries, err := os.ReadDir(f.real(f.path(in.NodeId, "")))
		if err != nil {
			return fuse.ToStatus(err)
		}
		f.mu.Lock()
		f.lists[in.Fh] = entries
	}
	entries := f.lists[in.Fh]
	f.mu.Unlock()
	for i := int(in.Offset); i < len(entries); i++ {
		mode := uint32(syscall.S_IFREG)
		switch e := entries[i]; {
		case e.IsDir():
			mode = syscall.S_IFDIR
		case e.Type()&os.ModeSymlink != 0:
			mode = syscall.S_IFLNK
		}
		if !out.AddDirEntry(fuse.DirEntry{Name: entries[i].Name(), Mode: mode, Ino: uint64(i + 2),
			Off: uint64(i + 1)}) {
			break
		}
	}
	return fuse.OK
}

func (f *system) ReleaseDir(in *fuse.ReleaseIn) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.lists, in.Fh)
}

func (f *system) StatFs(_ <-chan struct{}, _ *fuse.InHeader, out *fuse.StatfsOut) fuse.Status {
	var s syscall.Statfs_t
	err := syscall.Statfs(f.below, &s)
	out.FromStatfsT(&s)
	return fuse.ToStatus(err)
}
