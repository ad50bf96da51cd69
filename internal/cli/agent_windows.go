package cli

import (
	"io"
	"os"
	"strings"
)

// windowsAgent is the pipe that OpenSSH's agent listens on.
const windowsAgent = `\\.\pipe\openssh-ssh-agent`

// dialAgent connects to an SSH agent, until the program ends.
func dialAgent(socket string) (io.ReadWriter, error) {
	if !strings.HasPrefix(socket, `\\.\pipe\`) { // a socket of a Unix shell can't be opened here
		socket = windowsAgent
	}
	return os.OpenFile(socket, os.O_RDWR, 0)
}
