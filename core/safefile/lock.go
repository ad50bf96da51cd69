package safefile

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"vornix/core/fault"
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
	d, err := MakeDir(dir)
	if err != nil {
		return nil, err
	}
	l := flock.New(filepath.Join(dir, lockFile), flock.SetPermissions(0o666)) // a team may share a project
	ok, err := l.TryLock()
	if err != nil {
		d.Close()
		return nil, explain(err, "lock", l.Path())
	}
	if !ok {
		defer d.Close()
		return nil, heldFault(d)
	}
	d.CleanTempIn(".")
	_, left := d.Stat(holderFile) // a holder that comes to its end removes it
	host, _ := os.Hostname()
	who, _ := json.Marshal(Holder{Command: command, PID: os.Getpid(), Host: host, Since: time.Now().UTC().Truncate(time.Second)})
	if err := d.WriteCache(holderFile, who); err != nil {
		_ = l.Unlock()
		d.Close()
		return nil, err
	}
	return &Lock{Unclean: left == nil, lock: l, dir: d}, nil
}

func heldFault(d *Dir) error {
	f := &fault.Fault{Kind: fault.Refused, What: "another run of Vornix is working here",
		Why: "Two at once would write over each other's files; nothing was changed.",
		Do:  "Wait until it has finished and run the same command again."}
	var h Holder
	data, err := d.ReadFile(holderFile)
	if err == nil && json.Unmarshal(data, &h) == nil && h.PID != 0 {
		f.What = fmt.Sprintf("'%s' (process %d on %s, since %s) is working here", h.Command, h.PID, h.Host, h.Since.Local().Format("15:04:05"))
	}
	return f
}

// Release frees the lock.
func (l *Lock) Release() {
	_ = l.dir.remove(holderFile)
	_ = l.lock.Unlock()
	_ = l.dir.Close()
}
