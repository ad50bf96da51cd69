//go:build !linux

package host

import "os/exec"

// endsWithUs does nothing here: a server whose host was killed goes on, and the next host says that its port is taken.
func endsWithUs(*exec.Cmd) {}
