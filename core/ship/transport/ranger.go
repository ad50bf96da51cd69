package transport

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"

	"golang.org/x/crypto/ssh"
)

// ranger speaks the little of SFTP version 3 (draft-ietf-secsh-filexfer-02) that is needed to put a
// file together on the server's side from ranges of files that are there: OpenSSH's extension
// copy-data (PROTOCOL, section 4.10), which the SFTP library lacks.
type ranger struct {
	session *ssh.Session
	in      io.WriteCloser
	mu      sync.Mutex // of what follows, and of writing
	next    uint32
	waiting map[uint32]chan answer
	err     error
}

type answer struct {
	kind byte
	data []byte
	err  error
}

// Packets of the protocol.
const (
	fxInit     = 1
	fxVersion  = 2
	fxOpen     = 3
	fxClose    = 4
	fxWrite    = 6
	fxStatus   = 101
	fxHandle   = 102
	fxExtended = 200

	fxRead      = 1 // flags of open
	fxWriteFlag = 2
	fxCreate    = 8
	fxTruncate  = 16

	maxPacket = 256 << 10
	writePart = 32 << 10
)

// errNoRanges says that a server has no copy-data.
var errNoRanges = errors.New("the server copies no ranges")

func newRanger(client *ssh.Client) (*ranger, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	r := &ranger{session: session, waiting: map[uint32]chan answer{}}
	if r.in, err = session.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem("sftp"); err != nil {
		session.Close()
		return nil, err
	}
	if err := r.write(fxInit, binary.BigEndian.AppendUint32(nil, 3)); err != nil {
		session.Close()
		return nil, err
	}
	kind, data, err := readPacket(out)
	if err != nil || kind != fxVersion || len(data) < 4 {
		session.Close()
		return nil, cmp.Or(err, errNoRanges)
	}
	found := false
	for rest := data[4:]; len(rest) > 0; {
		var name, value []byte
		var ok bool
		if name, rest, ok = cutString(rest); !ok {
			break
		}
		if value, rest, ok = cutString(rest); !ok {
			break
		}
		found = found || string(name) == "copy-data" && string(value) == "1"
	}
	if !found {
		session.Close()
		return nil, errNoRanges
	}
	go r.read(out)
	return r, nil
}

func readPacket(r io.Reader) (kind byte, data []byte, err error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n < 1 || n > maxPacket {
		return 0, nil, fmt.Errorf("the server sent a packet of %d bytes", n)
	}
	data = make([]byte, n)
	if _, err := io.ReadFull(r, data); err != nil {
		return 0, nil, err
	}
	return data[0], data[1:], nil
}

func cutString(b []byte) (s, rest []byte, ok bool) {
	if len(b) < 4 {
		return nil, nil, false
	}
	n := binary.BigEndian.Uint32(b)
	if uint64(n) > uint64(len(b)-4) {
		return nil, nil, false
	}
	return b[4 : 4+n], b[4+n:], true
}

func appendString(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

func (r *ranger) write(kind byte, parts ...[]byte) error {
	n := 1
	for _, p := range parts {
		n += len(p)
	}
	packet := append(binary.BigEndian.AppendUint32(make([]byte, 0, 4+n), uint32(n)), kind)
	for _, p := range parts {
		packet = append(packet, p...)
	}
	_, err := r.in.Write(packet)
	return err
}

// read hands answers to those who wait for them.
func (r *ranger) read(out io.Reader) {
	var err error
	for {
		var kind byte
		var data []byte
		if kind, data, err = readPacket(out); err != nil {
			break
		}
		if len(data) < 4 {
			err = errors.New("the server's answer is too short")
			break
		}
		id := binary.BigEndian.Uint32(data)
		r.mu.Lock()
		c := r.waiting[id]
		delete(r.waiting, id)
		r.mu.Unlock()
		if c != nil {
			c <- answer{kind: kind, data: data[4:]}
		}
	}
	r.mu.Lock()
	r.err = err
	for id, c := range r.waiting {
		c <- answer{err: err}
		delete(r.waiting, id)
	}
	r.mu.Unlock()
	r.session.Close()
}

// ask sends a request; its answer comes on the channel.
func (r *ranger) ask(kind byte, parts ...[]byte) (<-chan answer, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return nil, r.err
	}
	r.next++
	c := make(chan answer, 1)
	r.waiting[r.next] = c
	return c, r.write(kind, append([][]byte{binary.BigEndian.AppendUint32(nil, r.next)}, parts...)...)
}

// status makes an error of an answer that is one.
func (a answer) status() error {
	if a.err != nil {
		return a.err
	}
	if a.kind != fxStatus || len(a.data) < 4 {
		return errors.New("the server answered something else than was asked")
	}
	code := binary.BigEndian.Uint32(a.data)
	text, _, _ := cutString(a.data[4:])
	switch code {
	case 0:
		return nil
	case 2:
		return fs.ErrNotExist
	case 3:
		return fs.ErrPermission
	}
	return fmt.Errorf("the server says: %s", text)
}

func (r *ranger) open(name string, flags uint32) (string, error) {
	c, err := r.ask(fxOpen, appendString(nil, name), binary.BigEndian.AppendUint32(nil, flags), []byte{0, 0, 0, 0})
	if err != nil {
		return "", err
	}
	a := <-c
	if a.err == nil && a.kind == fxHandle {
		if handle, _, ok := cutString(a.data); ok {
			return string(handle), nil
		}
	}
	return "", cmp.Or(a.status(), errors.New("the server opened nothing"))
}

func (r *ranger) close(handle string) error {
	c, err := r.ask(fxClose, appendString(nil, handle))
	if err != nil {
		return err
	}
	return (<-c).status()
}

// build puts together the file to of ranges of files that are there and of new content. It gives
// the number of bytes sent.
func (r *ranger) build(ctx context.Context, to string, from string, ranges []span, in io.ReaderAt,
	size int64) (sent int64, err error) {
	old, err := r.open(from, fxRead)
	if err != nil {
		return 0, err
	}
	defer func() { _ = r.close(old) }()
	out, err := r.open(to, fxWriteFlag|fxCreate|fxTruncate)
	if err != nil {
		return 0, err
	}
	pending := make(chan (<-chan answer), 32) // so many requests are under way
	failed := make(chan error, 1)
	go func() {
		var first error
		for c := range pending {
			if err := (<-c).status(); err != nil && first == nil {
				first = err
			}
		}
		failed <- first
	}()
	buffer := make([]byte, writePart)
	literal := func(at, end int64) error {
		for at < end {
			n := min(end-at, writePart)
			if _, err := in.ReadAt(buffer[:n], at); err != nil && err != io.EOF {
				return err
			}
			c, err := r.ask(fxWrite, appendString(nil, out), binary.BigEndian.AppendUint64(nil, uint64(at)),
				binary.BigEndian.AppendUint32(nil, uint32(n)), buffer[:n])
			if err != nil {
				return err
			}
			pending <- c
			at, sent = at+n, sent+n
		}
		return ctx.Err()
	}
	err = func() error {
		var at int64
		for _, s := range ranges {
			if err := literal(at, s.to); err != nil {
				return err
			}
			c, err := r.ask(fxExtended, appendString(nil, "copy-data"), appendString(nil, old),
				binary.BigEndian.AppendUint64(nil, uint64(s.from)), binary.BigEndian.AppendUint64(nil, uint64(s.n)),
				appendString(nil, out), binary.BigEndian.AppendUint64(nil, uint64(s.to)))
			if err != nil {
				return err
			}
			pending <- c
			at = s.to + s.n
		}
		return literal(at, size)
	}()
	close(pending)
	if e := <-failed; err == nil {
		err = e
	}
	if e := r.close(out); err == nil {
		err = e
	}
	return sent, err
}

// ranger gives the line's, opened when it is first needed; nil where the far side copies no ranges.
func (l *line) ranger() *ranger {
	l.once.Do(func() { l.parts, _ = newRanger(l.ssh) })
	return l.parts
}

// parts tries to bring a file by sending only what differs from one that is there. It says whether it did.
func (s *SFTP) parts(ctx context.Context, l *line, u *Upload, in *os.File) (sent int64, ok bool, err error) {
	if len(u.Like) == 0 {
		return 0, false, nil
	}
	r := l.ranger()
	if r == nil {
		return 0, false, nil
	}
	for _, like := range u.Like {
		ranges, err := s.compare(ctx, l, like, u, in)
		if err != nil {
			if isLost(err) || l.isDead() {
				return 0, false, err
			}
			continue
		}
		var same int64
		for _, x := range ranges {
			same += x.n
		}
		if same < u.Size/4 {
			continue
		}
		sent, err := r.build(ctx, s.at(u.To), s.at(like.Path), ranges, in, u.Size)
		if err == nil { // what was taken over may not be what it seemed to be: whoever asked takes the hash of all
			return sent, true, nil
		}
		if isLost(err) || l.isDead() || ctx.Err() != nil {
			return sent, false, cmp.Or(ctx.Err(), err)
		}
		if err := s.Remove(ctx, u.To); err != nil {
			return sent, false, err
		}
	}
	return 0, false, nil
}
