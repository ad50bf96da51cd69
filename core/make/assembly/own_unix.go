//go:build !windows

package assembly

import (
	"os/exec"
	"syscall"
)

// alone puts a program into a group of its own, so that what it started ends with it.
func alone(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
