//go:build !windows

package cli

import (
	"errors"
	"io"
	"net"
	"time"
)

// dialAgent connects to an SSH agent, until the program ends.
func dialAgent(socket string) (io.ReadWriter, error) {
	if socket == "" {
		return nil, errors.New("SSH_AUTH_SOCK is not set")
	}
	conn, err := net.Dial("unix", socket)
	if err != nil {
		return nil, err
	}
	return conn, conn.SetDeadline(time.Now().Add(2 * time.Minute)) // it may ask somebody, but not for ever
}
