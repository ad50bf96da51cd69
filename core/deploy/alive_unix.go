//go:build unix

package deploy

import (
	"errors"
	"syscall"
)

// alive says whether a process of this machine is there.
func alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
