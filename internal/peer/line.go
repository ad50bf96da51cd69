package peer

import (
	"net"
	"sync"
)

// Line passes connections on to an address, counts what goes over it both ways, and cuts all of
// them after a number of bytes: what is on its way then is lost.
type Line struct {
	Address string

	listener net.Listener
	mu       sync.Mutex
	left     int64 // until it is cut; -1: never
	away     bool  // after the cut no connection is taken any more
	down     bool  // none is taken
	silent   bool  // nothing gets through, and nothing ends
	moved    int64
	open     map[net.Conn]bool
}

// NewLine begins to listen on an address of its own. Close it.
func NewLine(to string) (*Line, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	x := &Line{Address: l.Addr().String(), listener: l, left: -1, open: map[net.Conn]bool{}}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			x.mu.Lock()
			if err != nil || x.down {
				x.mu.Unlock()
				in.Close()
				if err == nil {
					out.Close()
				}
				continue
			}
			x.open[in], x.open[out] = true, true
			x.mu.Unlock()
			go x.pass(in, out)
			go x.pass(out, in)
		}
	}()
	return x, nil
}

func (x *Line) pass(from, to net.Conn) {
	defer from.Close()
	defer to.Close()
	buffer := make([]byte, 8192)
	for {
		n, err := from.Read(buffer)
		x.mu.Lock()
		x.moved += int64(n)
		stop := x.left >= 0 && int64(n) > x.left
		if stop {
			n = int(x.left)
		}
		if x.left >= 0 {
			x.left -= int64(n)
		}
		if x.silent {
			n = 0
		}
		x.mu.Unlock()
		_, werr := to.Write(buffer[:n])
		if stop {
			x.Cut()
		}
		if stop || err != nil || werr != nil {
			return
		}
	}
}

// Cut ends all connections.
func (x *Line) Cut() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.left, x.down = -1, x.away
	for c := range x.open {
		c.Close()
		delete(x.open, c)
	}
}

// After ends all connections, and lets so many bytes pass before the next cut; with away none is
// taken after that. It counts anew.
func (x *Line) After(bytes int64, away bool) {
	x.Cut()
	x.mu.Lock()
	defer x.mu.Unlock()
	x.left, x.moved, x.away, x.down = bytes, 0, away, false
}

// Mute lets nothing through any more, and ends nothing.
func (x *Line) Mute() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.silent = true
}

// Moved is how many bytes have come since the last After.
func (x *Line) Moved() int64 {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.moved
}

// Close ends it.
func (x *Line) Close() {
	_ = x.listener.Close() // it was only listening
	x.Cut()
}
