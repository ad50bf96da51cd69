package safefile

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"vornix/core/base/fault"
)

// Holder says who holds a lock.
type Holder struct {
	Command string    `json:"command"` // what is running, such as "vornix release"
	PID     int       `json:"pid"`
	Host    string    `json:"host"`
	Since   time.Time `json:"since"`
}

// Lock is a folder held by this process. The system frees it when the process ends, however it ends.
type Lock struct {
	// Unclean says that the last holder was killed: what it was writing may have been left behind (see CleanTemp).
	Unclean bool
	lock    *flock.Flock
	dir     *Dir
}

const (
	lockFile   = "lock"
	holderFile = "lock.json" // apart from the locked file, which Windows lets nobody else read
)

// Acquire takes the lock of the folder dir for a command, without waiting. When another process holds it, the error
// is a Refused fault that says who.
func Acquire(dir, command string) (*Lock, error) {
	// The holder before may be removing the folder with its lock, as one that holds nothing does.
	// Then it is made again.
	var d *Dir
	var l *flock.Flock
	var ok bool
	for try := 0; ; try++ {
		var err error
		if d, err = MakeDir(dir); err != nil {
			return nil, err
		}
		if l, ok, err = d.lock(); err == nil {
			break
		}
		d.Close()
		if try >= maxTries || !errors.Is(err, errMoved) && !errors.Is(err, fs.ErrNotExist) {
			return nil, explain(err, "lock", d.Join(lockFile))
		}
		time.Sleep(time.Millisecond << min(try, 5))
	}
	if !ok {
		defer d.Close()
		return nil, heldFault(d)
	}
	d.CleanTempIn(".")
	_, left := d.Stat(holderFile) // a holder that comes to its end removes it
	host, _ := os.Hostname()
	who, _ := json.Marshal(Holder{Command: command, PID: os.Getpid(), Host: host,
		Since: time.Now().UTC().Truncate(time.Second)})
	if err := d.WriteCache(holderFile, who); err != nil {
		_ = l.Unlock()
		d.Close()
		return nil, err
	}
	return &Lock{Unclean: left == nil, lock: l, dir: d}, nil
}

// maxTries is how often a lock is tried whose folder disappears meanwhile.
const maxTries = 20

// errMoved says that what was locked is not what the path names any more.
var errMoved = errors.New("the folder was exchanged for another one")

// lock takes the lock of the folder; ok is false when another process has it.
//
// Invariant: whoever gets it holds the file that the path names now. A file that was unlinked
// meanwhile can be locked too, and locks nobody out.
func (d *Dir) lock() (l *flock.Flock, ok bool, err error) {
	f, err := d.root.OpenFile(lockFile, os.O_CREATE|os.O_RDONLY, 0o666) // a team may share a project
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	ours, err := f.Stat()
	if err != nil {
		return nil, false, err
	}
	if named, err := d.root.Lstat(lockFile); err != nil || !named.Mode().IsRegular() || !os.SameFile(named, ours) {
		return nil, false, errors.Join(errors.New("it is not a regular file"), err)
	}
	l = flock.New(filepath.Join(d.path, lockFile), flock.SetFlag(os.O_RDONLY)) // it exists
	if ok, err = l.TryLock(); err != nil || !ok {
		return nil, false, err
	}
	held, err := l.Stat()
	named, err2 := os.Lstat(filepath.Join(d.path, lockFile))
	if err != nil || err2 != nil || !os.SameFile(held, ours) || !os.SameFile(held, named) {
		_ = l.Unlock()
		return nil, false, errors.Join(errMoved, err, err2)
	}
	return l, true, nil
}

func heldFault(d *Dir) error {
	f := &fault.Fault{Kind: fault.Refused, What: "another run of Vornix is working here",
		Why: "Two at once would write over each other's files; nothing was changed.",
		Do:  "Wait until it has finished and run the same command again."}
	var h Holder
	data, err := d.ReadFile(holderFile)
	if err == nil && json.Unmarshal(data, &h) == nil && h.PID != 0 {
		f.What = fmt.Sprintf("'%s' (process %d on %s, since %s) is working here", h.Command, h.PID, h.Host,
			h.Since.Local().Format("15:04:05"))
	}
	return f
}

// In says whether the locked folder is the one called name in a folder that is open.
func (l *Lock) In(d *Dir, name string) error {
	held, err := l.dir.Info()
	if err == nil {
		var there os.FileInfo
		if there, err = d.root.Lstat(name); err == nil && os.SameFile(held, there) {
			return nil
		}
	}
	return &fault.Fault{Kind: fault.Refused, What: "the folder was exchanged for another one meanwhile",
		Place: fault.Place{File: filepath.ToSlash(d.path)}, Err: err, Why: "Nothing was changed.",
		Do: "Run the same command again."}
}

// Release frees the lock.
func (l *Lock) Release() {
	_ = l.dir.remove(holderFile)
	_ = l.lock.Unlock()
	_ = l.dir.Close()
}
