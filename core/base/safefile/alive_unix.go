//go:build unix

package safefile

import (
	"errors"
	"syscall"
)

// Alive says whether a process of this machine runs. One of somebody else does.
func Alive(pid int) bool {
	err := syscall.Kill(pid, 0)
	return err == nil || errors.Is(err, syscall.EPERM)
}
