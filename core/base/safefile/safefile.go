// Package safefile is the only way Vornix writes to disk.
//
// A Dir is a folder that nothing written through it can leave, not by "..", not by an absolute path, not through a
// link (it stands on os.Root). Every file is written beside its place and renamed into it, so a reader, a crash or a
// full disk sees the old content or the new, never a part. A Lock keeps two runs off one project and tells the second
// one who holds it.
package safefile

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"syscall"
	"time"

	"vornix/core/base/fault"
)

// Dir is a folder to write in. It is safe for use by several goroutines.
type Dir struct {
	path  string
	root  *os.Root
	group fs.FileMode // rights of the group that what is made here gets, whatever the user's umask says
}

// Shared has everything that is made in the folder give its group the same rights as the folder
// itself does: for one that several users write to.
func (d *Dir) Shared() {
	if info, err := d.root.Stat("."); err == nil && runtime.GOOS != "windows" {
		d.group = info.Mode().Perm() & 0o070
	}
}

// share gives a file or folder that was just made the group's rights.
func (d *Dir) share(name string, folder bool) {
	rights := d.group
	if !folder {
		rights &^= 0o010
	}
	if info, err := d.root.Stat(name); err == nil && rights != 0 && info.Mode().Perm()|rights != info.Mode().Perm() {
		_ = d.root.Chmod(name, info.Mode()|rights) // one that another user made has them already
	}
}

// OpenDir opens an existing folder. One in which Vornix keeps its own records (Own) is never opened
// through a link, since a link could have Vornix write, lock and clean up somewhere else.
func OpenDir(dir string) (*Dir, error) {
	if err := linkedOwn(dir); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, explain(err, "open the folder", dir)
	}
	// What was a folder a moment ago may be a link by now. What was opened stays what it is.
	if err := linkedOwn(dir); err != nil {
		_ = root.Close()
		return nil, err
	}
	if Own(filepath.Base(dir)) {
		opened, err := root.Stat(".")
		named, err2 := os.Lstat(dir)
		if err != nil || err2 != nil || !os.SameFile(opened, named) {
			_ = root.Close()
			return nil, notAFolder(dir)
		}
	}
	return &Dir{path: dir, root: root}, nil
}

// linkedOwn refuses a path on which a folder of Vornix's own is a link. A folder that does not exist is none.
func linkedOwn(dir string) error {
	for at := filepath.Clean(dir); ; {
		if Own(filepath.Base(at)) {
			if info, err := os.Lstat(at); err == nil && !info.IsDir() {
				return notAFolder(at)
			}
		}
		up := filepath.Dir(at)
		if up == at {
			return nil
		}
		at = up
	}
}

func notAFolder(dir string) error {
	return &fault.Fault{Kind: fault.Refused, What: "this must be a folder, and is a link or a file",
		Place: fault.Place{File: filepath.ToSlash(dir)},
		Why:   "Vornix keeps its own records there. Through a link it would change files somewhere else. Nothing was changed.", Do: "Remove it; Vornix makes the folder again."}
}

// Info is what the system knows of the folder that was opened, whatever its path names by now.
func (d *Dir) Info() (fs.FileInfo, error) { return d.root.Stat(".") }

// MakeDir opens a folder, making it and those above it when they are not there.
func MakeDir(dir string) (*Dir, error) {
	if err := linkedOwn(dir); err != nil {
		return nil, err
	}
	if err := either(before(dir, OpFolder, ""), func() error { return os.MkdirAll(dir, 0o777) }); err != nil {
		return nil, explain(err, "make the folder", dir)
	}
	return OpenDir(dir)
}

// Close releases the folder.
func (d *Dir) Close() error { return d.root.Close() }

// Path is the folder's own path.
func (d *Dir) Path() string { return d.path }

// Join is the system path of a slash path inside the folder, for reading and for showing to people.
func (d *Dir) Join(rel string) string { return filepath.Join(d.path, filepath.FromSlash(rel)) }

// File is a file on its way to its place: Commit puts it there, Abort forgets it. Abort after Commit does nothing,
// so it can stand in a defer.
type File struct {
	dir       *Dir
	rel, temp string
	f         *os.File
	hash      interface { // SHA-256
		io.Writer
		Sum([]byte) []byte
		Reset()
	}
	size int64
	done bool
	// patched says that what hash has seen is no longer what the file is.
	patched bool
}

// Create begins a file at the slash path rel, making its folders.
func (d *Dir) Create(rel string) (*File, error) {
	if err := CheckPath(rel); err != nil {
		return nil, err
	}
	if err := d.makeParent(rel); err != nil {
		return nil, err
	}
	d.tidy(path.Dir(rel))
	temp := filepath.FromSlash(path.Join(path.Dir(rel), tempName()))
	f, err := d.open(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return nil, explain(err, "write", d.Join(rel))
	}
	return &File{dir: d, rel: rel, temp: temp, f: f, hash: sha256.New()}, nil
}

// Write appends to the file.
func (f *File) Write(p []byte) (int, error) {
	n, err := writing(f.dir.path, f.rel, p, f.f.Write)
	f.hash.Write(p[:n])
	f.size += int64(n)
	if err != nil {
		return n, explain(err, "write", f.dir.Join(f.rel))
	}
	return n, nil
}

// Patch writes over what was written before, which must reach as far. Settle must be called before SHA256 then.
func (f *File) Patch(data []byte, at int64) error {
	if at < 0 || at+int64(len(data)) > f.size {
		return fmt.Errorf("a patch of %s reaches beyond what was written", f.rel)
	}
	f.patched = true
	if _, err := writing(f.dir.path, f.rel, data,
		func(b []byte) (int, error) { return f.f.WriteAt(b, at) }); err != nil {
		return explain(err, "write", f.dir.Join(f.rel))
	}
	return nil
}

// Settle brings the hash up to date after a Patch, by reading the file again.
func (f *File) Settle(ctx context.Context) error {
	if !f.patched {
		return nil
	}
	f.hash.Reset()
	if _, err := io.Copy(f.hash, Until(ctx, io.NewSectionReader(f.f, 0, f.size))); err != nil {
		return explain(err, "read", f.dir.Join(f.rel))
	}
	f.patched = false
	return nil
}

// SHA256 is the hash, in hex, of what has been written so far.
func (f *File) SHA256() string { return hex.EncodeToString(f.hash.Sum(nil)) }

// Size is how many bytes have been written so far.
func (f *File) Size() int64 { return f.size }

// Executable makes the file one that can be run, where systems tell.
func (f *File) Executable() { _ = f.f.Chmod(0o755) }

// Private makes the file one that only its owner reads, where systems tell.
func (f *File) Private() { _ = f.f.Chmod(0o600) }

// Like gives the file the permissions of another, where systems tell.
func (f *File) Like(info fs.FileInfo) {
	// there, the only one is that nobody writes, which would be in the way of replacing it
	if runtime.GOOS != "windows" {
		_ = f.f.Chmod(info.Mode().Perm())
	}
}

// Commit makes the file durable and puts it in its place, replacing what is there.
func (f *File) Commit() error { return f.commit(true) }

// CommitCache is Commit without waiting for the disk: for what can be made again and is checked before it is used.
func (f *File) CommitCache() error { return f.commit(false) }

func (f *File) commit(durable bool) error {
	defer f.Abort()
	if durable {
		if err := either(before(f.dir.path, OpSync, f.rel), f.f.Sync); err != nil && !errors.Is(err, syscall.EINVAL) {
			return explain(err, "write", f.dir.Join(f.rel))
		}
	}
	if err := f.f.Close(); err != nil {
		return explain(err, "write", f.dir.Join(f.rel))
	}
	if err := f.dir.rename(f.temp, filepath.FromSlash(f.rel)); err != nil {
		return explain(err, "write", f.dir.Join(f.rel))
	}
	f.done = true
	if f.dir.group != 0 {
		f.dir.share(filepath.FromSlash(f.rel), false)
	}
	if durable {
		f.dir.SyncFolder(path.Dir(f.rel))
	}
	return nil
}

// SyncFolder makes the names in a folder durable: renames, new files and removals. The change has
// happened by then and can't be refused any more, so an error is ignored; a failing disk shows at
// the next write.
func (d *Dir) SyncFolder(rel string) {
	_ = either(before(d.path, OpSyncFolder, rel), func() error { return d.syncFolder(filepath.FromSlash(rel)) })
}

// Abort removes what was written, unless it has been committed.
func (f *File) Abort() {
	if f.done {
		return
	}
	f.done = true
	_ = f.f.Close()
	_ = f.dir.remove(f.temp)
}

// rename retries for a moment on Windows, where a virus scanner or an indexer may hold the old file open.
func (d *Dir) rename(from, to string) error {
	var err error
	for wait := 5 * time.Millisecond; ; wait *= 2 {
		if err = either(before(d.path, OpRename, to), func() error { return d.root.Rename(from, to) }); err == nil ||
			runtime.GOOS != "windows" || wait > 2*time.Second {
			return err
		}
		time.Sleep(wait)
	}
}

// WriteFile writes a whole file, durably.
func (d *Dir) WriteFile(rel string, parts ...[]byte) error { return d.write(rel, parts, true) }

// WritePrivate writes a whole file, durably, that only its owner reads.
func (d *Dir) WritePrivate(rel string, data []byte) error {
	f, err := d.Create(rel)
	if err != nil {
		return err
	}
	defer f.Abort()
	f.Private()
	if _, err := f.Write(data); err != nil {
		return err
	}
	return f.Commit()
}

// WriteCache writes a whole file that can be made again.
func (d *Dir) WriteCache(rel string, parts ...[]byte) error { return d.write(rel, parts, false) }

func (d *Dir) write(rel string, parts [][]byte, durable bool) error {
	f, err := d.Create(rel)
	if err != nil {
		return err
	}
	defer f.Abort()
	for _, data := range parts {
		if _, err := f.Write(data); err != nil {
			return err
		}
	}
	return f.commit(durable)
}

// Fill appends the content of the file at the system path from. It stops with ctx's error.
func (f *File) Fill(ctx context.Context, from string) error {
	src, err := os.Open(from)
	if err != nil {
		return explain(err, "read", from)
	}
	defer src.Close()
	_, err = io.Copy(f, Until(ctx, src))
	var reading *fs.PathError
	if errors.As(err, &reading) && reading.Op == "read" {
		return explain(err, "read", from)
	}
	return err
}

// CopyFrom copies the file at the system path from to rel, durably, and returns its hash and size.
func (d *Dir) CopyFrom(ctx context.Context, from, rel string) (sum string, size int64, err error) {
	f, err := d.Create(rel)
	if err != nil {
		return "", 0, err
	}
	defer f.Abort()
	if err := f.Fill(ctx, from); err != nil {
		return "", 0, err
	}
	return f.SHA256(), f.Size(), f.Commit()
}

// Until reads from r, and stops with the error of ctx once that ends.
func Until(ctx context.Context, r io.Reader) io.Reader { return contextReader{ctx, r} }

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// ReadFile reads a file without leaving the folder.
func (d *Dir) ReadFile(rel string) ([]byte, error) {
	data, err := d.root.ReadFile(filepath.FromSlash(rel))
	if err != nil {
		return nil, explain(err, "read", d.Join(rel))
	}
	return data, nil
}

// Remove removes a file, and the folders above it that are empty then. A file that is not there is no error.
func (d *Dir) Remove(rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if err := d.remove(filepath.FromSlash(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "remove", d.Join(rel))
	}
	for parent := path.Dir(rel); parent != "."; parent = path.Dir(parent) {
		if d.remove(filepath.FromSlash(parent)) != nil {
			break // not empty
		}
	}
	return nil
}

// RemoveFile removes a file, and leaves the folder that it was in, which may not be Vornix's own. A
// file that is not there is no error.
func (d *Dir) RemoveFile(rel string) error {
	err := d.remove(filepath.FromSlash(rel))
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return explain(err, "remove", d.Join(rel))
}

// RemoveTree removes a folder with all that is in it, without following links. One that is not there is no error.
func (d *Dir) RemoveTree(rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if err := d.removeAll(filepath.FromSlash(rel)); err != nil {
		return explain(err, "remove", d.Join(rel))
	}
	return nil
}

// RemoveEmpty removes a folder that is empty. One that is not, or is not there, is left without an error.
func (d *Dir) RemoveEmpty(rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if list, err := fs.ReadDir(d.root.FS(), path.Clean(rel)); err != nil || len(list) > 0 {
		return nil
	}
	if err := d.remove(filepath.FromSlash(rel)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return explain(err, "remove", d.Join(rel))
	}
	return nil
}

// MakeFolder makes a folder and those above it.
func (d *Dir) MakeFolder(rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	return d.makeFolder(rel)
}

func (d *Dir) makeFolder(rel string) error {
	if err := either(before(d.path, OpFolder, rel),
		func() error { return d.root.MkdirAll(filepath.FromSlash(rel), 0o777) }); err != nil {
		return explain(err, "make the folder", d.Join(rel))
	}
	if d.group != 0 {
		for at := rel; at != "."; at = path.Dir(at) {
			d.share(filepath.FromSlash(at), true)
		}
	}
	return nil
}

// makeParent makes the folder that a file lies in.
func (d *Dir) makeParent(rel string) error {
	if parent := path.Dir(rel); parent != "." {
		return d.makeFolder(parent)
	}
	return nil
}

// open opens a file for writing.
func (d *Dir) open(name string, flags int) (*os.File, error) {
	if err := before(d.path, OpCreate, name); err != nil {
		return nil, err
	}
	return d.root.OpenFile(name, flags, 0o666)
}

// Move renames a file inside the folder, making the folders that to needs.
func (d *Dir) Move(from, to string) error {
	for _, rel := range []string{from, to} {
		if err := CheckPath(rel); err != nil {
			return err
		}
	}
	if err := d.makeParent(to); err != nil {
		return err
	}
	if err := d.rename(filepath.FromSlash(from), filepath.FromSlash(to)); err != nil {
		return explain(err, "move", d.Join(from))
	}
	return nil
}

// CreateNew makes a small file that must not be there yet; one that is there is an fs.ErrExist. Of
// several that try, one wins.
func (d *Dir) CreateNew(rel string, data []byte) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if err := d.makeParent(rel); err != nil {
		return err
	}
	f, err := d.open(filepath.FromSlash(rel), os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return explain(err, "make", d.Join(rel))
	}
	defer f.Close()
	if _, err := writing(d.path, rel, data, f.Write); err != nil {
		return explain(err, "write", d.Join(rel))
	}
	if err := either(before(d.path, OpSync, rel), f.Sync); err != nil {
		return explain(err, "write", d.Join(rel))
	}
	d.SyncFolder(path.Dir(rel))
	return nil
}

// Append adds one line to a file in a single write and makes it durable: for logs that are read line by line, where a
// torn line is recognised and skipped. Behind a line that was torn, the new one begins on a line of its own.
func (d *Dir) Append(rel string, line []byte) error {
	f, err := d.open(filepath.FromSlash(rel), os.O_RDWR|os.O_CREATE|os.O_APPEND)
	if err != nil {
		return explain(err, "write", d.Join(rel))
	}
	defer f.Close()
	line = append(slices.Clone(line), '\n')
	last, made := []byte{'\n'}, true
	if end, err := f.Seek(-1, io.SeekEnd); err == nil { // else it is empty
		made = false
		if _, err := f.ReadAt(last, end); err != nil {
			return explain(err, "read", d.Join(rel))
		}
	}
	if last[0] != '\n' {
		line = append([]byte{'\n'}, line...)
	}
	if _, err := writing(d.path, rel, line, f.Write); err != nil {
		return explain(err, "write", d.Join(rel))
	}
	if err := either(before(d.path, OpSync, rel), f.Sync); err != nil {
		return explain(err, "write", d.Join(rel))
	}
	if made {
		d.SyncFolder(path.Dir(rel))
	}
	return nil
}

// HashFile is the SHA-256, in hex, and the size of the file at a system path.
func HashFile(name string) (sum string, size int64, err error) {
	return HashFileUntil(context.Background(), name)
}

// HashFileUntil is HashFile, until ctx ends: a large file takes seconds.
func HashFileUntil(ctx context.Context, name string) (sum string, size int64, err error) {
	f, err := os.Open(name)
	if err != nil {
		return "", 0, explain(err, "read", name)
	}
	defer f.Close()
	h := sha256.New()
	if size, err = io.Copy(h, Until(ctx, f)); err != nil {
		if ctx.Err() != nil {
			return "", 0, ctx.Err()
		}
		return "", 0, explain(err, "read", name)
	}
	return hex.EncodeToString(h.Sum(nil)), size, nil
}

// IsDiskFull says whether an error is about a disk without room.
func IsDiskFull(err error) bool { return isDiskFull(err) }

// explained is explain where there may be no error.
func explained(err error, doing, name string) error {
	if err == nil {
		return nil
	}
	return explain(err, doing, name)
}

// explain turns the system's error into one for a person.
func explain(err error, doing, name string) error {
	f := &fault.Fault{What: fmt.Sprintf("could not %s %s", doing, name), Err: reason(err)}
	switch {
	case isDiskFull(err):
		f.Err = plain{"the disk is full", err}
		f.Why = "What was there before is untouched; the unfinished file is gone."
		f.Do = "Free some space and run the same command."
	case errors.Is(err, fs.ErrPermission) || isReadOnly(err):
		f.Err = plain{"no permission to write there", err}
		if doing == "read" || doing == "open the folder" {
			f.Err = plain{"no permission", err}
		}
		f.Why = "What was there before is untouched."
		f.Do = "Check who owns the folder and whether it is read-only, or whether another program has the file open."
	case errors.Is(err, fs.ErrNotExist):
		f.Err = plain{"it is not there", err}
		f.Do = "Check the path."
	}
	return f
}

// plain says a cause in plain words and still is that cause for errors.Is.
type plain struct {
	text  string
	cause error
}

func (p plain) Error() string { return p.text }
func (p plain) Unwrap() error { return p.cause }

// reason drops the operation and the path from a path error: the sentence around it has both.
func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	var l *os.LinkError
	if errors.As(err, &l) {
		return l.Err
	}
	return err
}

// LinkFrom puts the file from, which lies in the same Dir, at rel too: as a hard link where the file system can, else
// as a copy. Like every write it replaces what is there at once.
func (d *Dir) LinkFrom(ctx context.Context, from, rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if err := d.makeParent(rel); err != nil {
		return err
	}
	temp := filepath.FromSlash(path.Join(path.Dir(rel), tempName()))
	if err := either(before(d.path, OpLink, rel),
		func() error { return d.root.Link(filepath.FromSlash(from), temp) }); err != nil {
		_, _, err := d.CopyFrom(ctx, d.Join(from), rel)
		return err
	}
	if err := d.rename(temp, filepath.FromSlash(rel)); err != nil {
		_ = d.remove(temp)
		return explain(err, "write", d.Join(rel))
	}
	// Renaming one link of a file over another of the same file does nothing and leaves both (POSIX rename).
	_ = d.remove(temp)
	return nil
}

// Touch sets a file's times to now.
func (d *Dir) Touch(rel string) {
	now := time.Now()
	_ = d.root.Chtimes(filepath.FromSlash(rel), now, now)
}

// Stat describes a file inside the folder.
func (d *Dir) Stat(rel string) (fs.FileInfo, error) { return d.root.Lstat(filepath.FromSlash(rel)) }

// FS is the folder for reading.
func (d *Dir) FS() fs.FS { return d.root.FS() }

// Unhashed gives up the hash, which SHA256 has nothing to say of then: for what is checked
// otherwise, since hashing takes longer than writing.
func (f *File) Unhashed() { f.hash = noHash{} }

type noHash struct{}

func (noHash) Write(b []byte) (int, error) { return len(b), nil }
func (noHash) Sum([]byte) []byte           { return nil }
func (noHash) Reset()                      {}

// ReadAt reads what has been written so far.
func (f *File) ReadAt(b []byte, at int64) (int, error) { return f.f.ReadAt(b, at) }

// Scratch is a file for what does not fit into memory, gone when it is closed.
type Scratch struct{ f *os.File }

// NewScratch makes a scratch file in a folder; "" for the system's own.
func NewScratch(dir string) (*Scratch, error) {
	if err := before(dir, OpCreate, ""); err != nil {
		return nil, explain(err, "write a temporary file in", dir)
	}
	tidySystem(dir)
	f, err := os.OpenFile(filepath.Join(cmp.Or(dir, os.TempDir()), tempName()), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, explain(err, "write a temporary file in", dir)
	}
	return &Scratch{f}, nil
}

// Write appends to the file.
func (s *Scratch) Write(b []byte) (int, error) {
	n, err := writing("", s.f.Name(), b, s.f.Write)
	return n, explained(err, "write a temporary file in", filepath.Dir(s.f.Name()))
}

// ReadAt reads what was written.
func (s *Scratch) ReadAt(b []byte, at int64) (int, error) { return s.f.ReadAt(b, at) }

// Close removes the file.
func (s *Scratch) Close() {
	_ = s.f.Close() // nobody wants what is in it
	_ = os.Remove(s.f.Name())
}
