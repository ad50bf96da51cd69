package host

import (
	"os/exec"
	"syscall"
)

// endsWithUs has the kernel end the server when this program is killed, so that the next host finds its port free.
func endsWithUs(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM} }
