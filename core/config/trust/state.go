package trust

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

// States remembers, outside of all projects, which .vornix folders Vornix wrote on this machine. A
// project from elsewhere can bring such a folder. Its cache could give results that the sources
// would not give, so nothing of it is used that can be made again.
//
// Each folder holds a list of random marks, one for each machine that worked in it (a team may
// share a folder). A machine knows its own marks by this file; no project can guess one.
type States struct{ File string }

// markFile is the file with the marks in a project's state folder.
const markFile = "machines"

// kept are the parts of a state folder that no run could make again: what was released, what a
// sweep set aside, and which metadata files somebody changed by hand. All else is removed, also
// what a later Vornix adds.
var kept = []string{markFile, "lock", "lock.json", "ledger.jsonl", "safe", "addon.json"}

// Bounds of both files.
const (
	maxMarks    = 10_000
	maxMarkFile = 1 << 20
)

// Adopt makes a project's state folder this machine's own, which must be locked. foreign says that
// another machine wrote it: what can be made again was removed.
func (s States) Adopt(p *project.Project) (foreign bool, err error) {
	d, err := safefile.MakeDir(p.State())
	if err != nil {
		return false, err
	}
	defer d.Close()
	there, err := marks(d, markFile)
	if err != nil {
		return false, err
	}
	home, err := safefile.MakeDir(filepath.Dir(s.File))
	if err != nil {
		return false, nil // without a place to remember marks, every folder would be foreign for ever
	}
	defer home.Close()
	lock := flock.New(s.File + ".lock")
	if err := lock.Lock(); err != nil {
		return false, nil
	}
	defer func() { _ = lock.Unlock() }() // the system frees it in any case
	own, err := marks(home, filepath.Base(s.File))
	if err != nil {
		return false, nil
	}
	if slices.ContainsFunc(there, func(m string) bool { return slices.Contains(own, m) }) {
		return false, nil
	}
	random := make([]byte, 16)
	if _, err := rand.Read(random); err != nil {
		return false, err
	}
	mark := hex.EncodeToString(random)
	// The order matters to a run that is killed: as long as the folder does not have the mark, the
	// next run removes what is left of the cache.
	if home.WritePrivate(filepath.Base(s.File), list(append(own, mark))) != nil {
		return false, nil
	}
	entries, err := fs.ReadDir(d.FS(), ".")
	if err != nil {
		return false, err
	}
	for _, e := range entries {
		name := e.Name()
		if slices.Contains(kept, name) {
			continue
		}
		foreign = true
		if err := d.RemoveTree(name); err != nil {
			return false, err
		}
	}
	return foreign, d.WriteFile(markFile, list(append(there, mark)))
}

// Foreign says whether another machine wrote a project's state folder. It changes nothing.
func (s States) Foreign(p *project.Project) (bool, error) {
	d, err := safefile.OpenDir(p.State())
	if err != nil {
		return false, nil // there is none
	}
	defer d.Close()
	there, err := marks(d, markFile)
	if err != nil {
		return false, err
	}
	home, err := safefile.OpenDir(filepath.Dir(s.File))
	if err != nil {
		return true, nil // nothing is known to be this machine's
	}
	defer home.Close()
	own, err := marks(home, filepath.Base(s.File))
	return !slices.ContainsFunc(there, func(m string) bool { return slices.Contains(own, m) }), err
}

// marks reads a list of marks; one that does not exist is empty, and one that makes no sense too.
func marks(d *safefile.Dir, name string) ([]string, error) {
	info, err := d.Stat(name)
	if errors.Is(err, fs.ErrNotExist) || err == nil && (info.Size() > maxMarkFile || !info.Mode().IsRegular()) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	data, err := d.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(strings.Fields(string(data)), func(m string) bool { return len(m) != 32 }), nil
}

func list(marks []string) []byte {
	var b bytes.Buffer
	for _, m := range marks[max(0, len(marks)-maxMarks):] {
		b.WriteString(m + "\n")
	}
	return b.Bytes()
}
