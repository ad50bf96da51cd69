package gameserver

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Ports that stand-ins prefer: above those of well-known services, below those that systems give away by themselves.
const firstPort, ports = 10240, 9000

// Listen listens for the stand-in of a folder. Without an address it takes a port of this machine
// that follows from the folder's path, so that consent to send a secret there outlives a restart;
// when another program has that port, it takes any.
func Listen(dir, address string) (net.Listener, error) {
	if address != "" {
		return net.Listen("tcp", address)
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(filepath.ToSlash(abs)))
	if l, err := net.Listen("tcp",
		fmt.Sprintf("127.0.0.1:%d", firstPort+binary.BigEndian.Uint32(sum[:])%ports)); err == nil {
		return l, nil
	}
	return net.Listen("tcp", "127.0.0.1:0")
}

// OwnHost answers requests for this machine only: for addresses in numbers, localhost, the
// machine's name and the one that is listened at. A page on the Internet whose name leads here (DNS
// rebinding) would otherwise read and change what only this machine's owner may.
func OwnHost(listen string) func(http.Handler) http.Handler {
	named, _, _ := net.SplitHostPort(listen) // empty without an address
	machine, _ := os.Hostname()
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
			host := req.Host
			if h, _, err := net.SplitHostPort(host); err == nil {
				host = h
			}
			host = strings.TrimSuffix(strings.Trim(host, "[]"), ".")
			if net.ParseIP(host) == nil &&
				!slices.ContainsFunc([]string{"localhost", machine, named},
					func(own string) bool { return own != "" && strings.EqualFold(own, host) }) {
				// The rest of the request is not waited for.
				_ = http.NewResponseController(w).SetReadDeadline(time.Now())
				w.Header().Set("Connection", "close")
				http.Error(w, "this stand-in answers for its own names only", http.StatusMisdirectedRequest)
				return
			}
			next.ServeHTTP(w, req)
		})
	}
}
