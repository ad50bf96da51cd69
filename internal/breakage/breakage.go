//go:build breakage

// Package breakage is what tests build into the program, with the build tag "breakage", to end it
// or to break its disk at one exact change of many. What players and maintainers get is built
// without the tag and has none of it.
//
// VORNIX_BREAKAGE says what happens: "log FILE" writes each change to FILE, one a line; "kill N"
// ends the program before change N as if by SIGKILL; "tear N" does half of the first write from
// change N on, and ends it; "full N" has no room from change N on; "once N" lets change N alone
// fail as a broken disk does; "denied N" forbids all but removing from change N on.
package breakage

import (
	"fmt"
	"io/fs"
	"os"
	"sync"
	"syscall"
	"time"

	"go.uber.org/goleak"

	"vornix/core/base/safefile"
)

func init() {
	var mode, file string
	var n int
	text := os.Getenv("VORNIX_BREAKAGE")
	if text == "" {
		return
	}
	if _, err := fmt.Sscanf(text, "log %s", &file); err != nil {
		if _, err := fmt.Sscanf(text, "%s %d", &mode, &n); err != nil {
			panic("VORNIX_BREAKAGE: " + err.Error())
		}
	}
	var log *os.File
	if file != "" {
		var err error
		if log, err = os.Create(file); err != nil {
			panic(err)
		}
	}
	var count int
	var lock sync.Mutex
	safefile.Disturb(func(s safefile.DiskWrite) error {
		if s.Op == safefile.OpSyncFolder { // it changes nothing, and its failure is nobody's
			return nil
		}
		lock.Lock()
		defer lock.Unlock()
		if count++; log != nil {
			fmt.Fprintf(log, "%s\t%s\n", s.Op, s.Path)
			return nil
		}
		if count < n {
			return nil
		}
		broken := func(errno syscall.Errno) error { return &fs.PathError{Op: s.Op, Path: s.Path, Err: errno} }
		switch {
		case mode == "kill":
			kill()
		case mode == "tear" && s.Op == safefile.OpWrite:
			s.Tear()
			kill()
		case mode == "full" && s.Op != safefile.OpRemove && s.Op != safefile.OpRename:
			return broken(syscall.ENOSPC)
		case mode == "once" && count == n:
			return broken(syscall.EIO)
		case mode == "interrupt" && count == n:
			interrupt()
		case mode == "denied" && s.Op != safefile.OpRemove:
			return broken(syscall.EACCES)
		}
		return nil
	})
}

// kill ends the program here and now: no defer runs, nothing is flushed.
func kill() {
	p, err := os.FindProcess(os.Getpid())
	if err == nil {
		err = p.Kill()
	}
	if err != nil {
		panic(err)
	}
	select {}
}

// interrupt is Ctrl-C; it comes a moment later, as signals do.
func interrupt() {
	if p, err := os.FindProcess(os.Getpid()); err != nil || p.Signal(os.Interrupt) != nil {
		panic("no signal could be sent")
	}
	time.Sleep(20 * time.Millisecond)
}

// End says what still runs when the program is done, and writes the most memory that it had into
// the file that VORNIX_PEAK names: what the system tells a parent of its child's peak begins with
// that of the parent.
func End() {
	if name := os.Getenv("VORNIX_PEAK"); name != "" {
		data, err := os.ReadFile("/proc/self/status")
		if err == nil {
			err = os.WriteFile(name, data, 0o644)
		}
		if err != nil {
			panic(err)
		}
	}
	if os.Getenv("VORNIX_BREAKAGE") == "" {
		return
	}
	if err := goleak.Find(); err != nil {
		fmt.Fprintln(os.Stderr, "LEAK", err)
	}
}
