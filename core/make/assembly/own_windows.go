package assembly

import (
	"os/exec"
	"strconv"
	"syscall"
)

// alone keeps Ctrl-C at the terminal from a program: it is ended by the one that runs it, with all that it started.
func alone(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
	cmd.Cancel = func() error {
		if exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(cmd.Process.Pid)).Run() == nil {
			return nil
		}
		return cmd.Process.Kill()
	}
}
