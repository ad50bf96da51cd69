package safefile

import (
	"path/filepath"
	"sync/atomic"
)

// The changes to a disk that a Step can be about.
const (
	OpFolder = "make a folder"
	OpCreate = "create" // a file, or open it for writing
	OpWrite  = "write"
	OpSync   = "sync"
	// OpSyncFolder makes a folder's names durable. It changes nothing that a reader sees.
	OpSyncFolder = "sync a folder"
	OpRename     = "rename"
	OpLink       = "link"
	OpRemove     = "remove" // a file, a folder, a tree
)

// DiskWrite is one change to the disk that is about to be made: what a crash, a full disk or a
// broken one comes between.
type DiskWrite struct {
	Op   string
	Path string // what it is about, as a system path
	// Tear, of a write, does the first half of it.
	Tear func()
}

var disturber atomic.Pointer[func(DiskWrite) error]

// Disturb lets a test see each step before it is taken, from any goroutine, and stop it with the
// error that the system would have given. It is one pointer that is looked at where a disk is
// waited for, so the program that is tested is the one that is shipped. The answer ends it.
func Disturb(ask func(DiskWrite) error) (end func()) {
	disturber.Store(&ask)
	return func() { disturber.Store(nil) }
}

// before is asked before each step, about a path below a folder.
func before(dir, op, rel string) error {
	if ask := disturber.Load(); ask != nil {
		return (*ask)(DiskWrite{Op: op, Path: filepath.Join(dir, rel)})
	}
	return nil
}

// writing is before for a write of data by write.
func writing(dir, rel string, data []byte, write func([]byte) (int, error)) (int, error) {
	if ask := disturber.Load(); ask != nil {
		if err := (*ask)(DiskWrite{Op: OpWrite, Path: filepath.Join(dir, rel),
			Tear: func() { _, _ = write(data[:len(data)/2]) }}); err != nil {
			return 0, err
		}
	}
	return write(data)
}

// either gives the first error, and does what follows only when there was none before it.
func either(err error, then func() error) error {
	if err != nil {
		return err
	}
	return then()
}

// remove removes a file or an empty folder.
func (d *Dir) remove(name string) error {
	return either(before(d.path, OpRemove, name), func() error { return d.unlink(name) })
}

func (d *Dir) removeAll(name string) error {
	return either(before(d.path, OpRemove, name), func() error { return d.unlinkAll(name) })
}
