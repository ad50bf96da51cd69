package safefile

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Names that Vornix reserves in folders of others: StateDir holds what it remembers of a project,
// TargetDir what it remembers on a target. Readers of such folders skip both.
const (
	StateDir  = ".vornix"
	TargetDir = ".vornix-target"
)

// tempPrefix marks what is being written. Behind it stand the machine and the process that writes,
// so that a later run can tell what is left of one that was killed:
// .vornix-tmp-MACHINE-PROCESS-RANDOM, in hex.
const tempPrefix = ".vornix-tmp-"

// forgotten is how long an unfinished write of another machine is left alone: nobody can tell
// whether that machine still writes.
const forgotten = 24 * time.Hour

func tempName() string {
	var tag [8]byte
	_, _ = rand.Read(tag[:]) // crypto/rand.Read never fails
	return fmt.Sprintf("%s%s-%x-%s", tempPrefix, machine(), os.Getpid(), hex.EncodeToString(tag[:]))
}

// machine tells apart where numbers of processes mean something: hosts, and on Linux the containers
// on one and the times that it was started.
var machine = sync.OnceValue(func() string {
	host, _ := os.Hostname()
	space, _ := os.Readlink("/proc/self/ns/pid")
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	h := fnv.New32a()
	fmt.Fprintf(h, "%s %s %s", host, space, boot)
	return fmt.Sprintf("%08x", h.Sum32())
})

// Machine names the place in which this process's number means something: two processes of the same
// Machine have the same number only when they are the same, or one has ended.
func Machine() string { return machine() }

// IsTemp says whether a file name is that of an unfinished write.
func IsTemp(name string) bool { return strings.HasPrefix(name, tempPrefix) }

// orphaned says whether nobody writes to a temporary file any more.
func orphaned(e fs.DirEntry) bool {
	rest, is := strings.CutPrefix(e.Name(), tempPrefix)
	if !is {
		return false
	}
	if parts := strings.Split(rest, "-"); len(parts) == 3 && parts[0] == machine() {
		if pid, err := strconv.ParseInt(parts[1], 16, 32); err == nil {
			return int(pid) != os.Getpid() && !Alive(int(pid))
		}
	}
	info, err := e.Info()
	return err == nil && time.Since(info.ModTime()) > forgotten
}

// tidied are the folders that this process has looked at.
var tidied sync.Map

// tidy removes, from a folder that is about to be written to for the first time, what runs that
// were killed left behind there.
func (d *Dir) tidy(folder string) {
	if _, done := tidied.LoadOrStore(d.Join(folder), true); done {
		return
	}
	list, _ := fs.ReadDir(d.root.FS(), path.Clean(folder)) // what can't be listed stays
	for _, e := range list {
		if orphaned(e) {
			_ = d.removeAll(filepath.Join(filepath.FromSlash(folder), e.Name()))
		}
	}
}

// tidySystem is tidy for a folder by its system path, "" for the system's temporary files.
func tidySystem(dir string) {
	if d, err := OpenDir(cmp.Or(dir, os.TempDir())); err == nil {
		d.tidy(".")
		_ = d.Close() // only read from
	}
}

// CleanTemp removes what interrupted writes left behind anywhere under the folder. Only call it while holding the
// lock that covers the folder.
func (d *Dir) CleanTemp() { d.CleanTempBelow(".") }

// CleanTempBelow is CleanTemp for one folder in it and those below.
func (d *Dir) CleanTempBelow(folder string) {
	_ = fs.WalkDir(d.root.FS(), folder, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !IsTemp(e.Name()) {
			return nil
		}
		_ = d.removeAll(filepath.FromSlash(p))
		if e.IsDir() {
			return fs.SkipDir
		}
		return nil
	})
}

// CleanTempIn is CleanTemp for single folders, not those below them: for a large folder that is not Vornix's own.
func (d *Dir) CleanTempIn(folders ...string) {
	for _, folder := range folders {
		list, _ := fs.ReadDir(d.root.FS(), path.Clean(folder))
		for _, e := range list {
			if IsTemp(e.Name()) {
				_ = d.removeAll(filepath.Join(filepath.FromSlash(folder), e.Name()))
			}
		}
	}
}
