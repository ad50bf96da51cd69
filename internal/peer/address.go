package peer

import (
	"fmt"
	"math/rand/v2"
	"net"
	"testing"
)

// FreeAddress is an address of this machine at which nobody listens, and nobody will by chance: its
// port is none of those that systems give away by themselves, to whoever listens at any or connects
// to somewhere (from 32768 on, or 49152).
func FreeAddress() (string, error) {
	var err error
	for range 100 {
		var l net.Listener
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", 20000+rand.IntN(12000))); err == nil {
			return l.Addr().String(), l.Close()
		}
	}
	return "", err
}

func freeAddress(t testing.TB) string {
	t.Helper()
	address, err := FreeAddress()
	if err != nil {
		t.Fatal(err)
	}
	return address
}
