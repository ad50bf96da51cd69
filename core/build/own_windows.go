package build

import (
	"os/exec"
	"syscall"
)

// alone keeps Ctrl-C at the terminal from a program: it is ended by the one that runs it.
func alone(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}
