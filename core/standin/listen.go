package standin

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net"
	"path/filepath"
)

// Ports that stand-ins prefer: above those of well-known services, below those that systems give away by themselves.
const firstPort, ports = 10240, 9000

// Listen listens for the stand-in of a folder. Without an address it takes a port of this machine that follows from the folder's path, so that consent to
// send a secret there outlives a restart; when another program has that port, it takes any.
func Listen(dir, address string) (net.Listener, error) {
	if address != "" {
		return net.Listen("tcp", address)
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(filepath.ToSlash(abs)))
	if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", firstPort+binary.BigEndian.Uint32(sum[:])%ports)); err == nil {
		return l, nil
	}
	return net.Listen("tcp", "127.0.0.1:0")
}
