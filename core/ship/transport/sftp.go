package transport

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
)

// SFTP is a folder of a server that is reached by SSH.
type SFTP struct {
	login    *Login
	root     string
	patience []time.Duration // waits before each new try of a lost connection
	where    string
	mu       sync.Mutex
	line     *line // nil when it is lost
	folders  sync.Map
	closed   bool
}

// line is one connection with its channels.
type line struct {
	ssh   *ssh.Client
	sftp  *sftp.Client
	ready chan struct{} // the shell has been looked for
	found *shell        // nil where the far side runs no commands
	once  sync.Once
	parts *ranger // nil where the far side copies no ranges
	dead  chan struct{}
}

// streams is how many files are on their way at once.
const streams = 16

// OpenSFTP logs in and looks at the folder root, which must be there. A path that does not begin
// with / is in the account's home.
func OpenSFTP(ctx context.Context, l *Login, root string) (*SFTP, error) {
	s := &SFTP{login: l, root: path.Clean(root),
		patience: []time.Duration{200 * time.Millisecond, time.Second, 3 * time.Second}}
	first, err := s.connected(ctx, nil)
	if err != nil {
		return nil, s.cutOff(ctx, err)
	}
	info, err := first.sftp.Stat(s.root)
	if err != nil && (isLost(err) || first.isDead()) {
		s.Close()
		return nil, s.cutOff(ctx, err)
	}
	if err != nil || !info.IsDir() {
		s.Close()
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the folder is not there: " + s.root,
			Place: fault.Place{File: s.where}, Err: quietly(err),
			Why: "A folder that Vornix made itself might be a misspelt one that no server looks into. Nothing was changed.", Do: "Correct the path, or make the folder by hand if it is meant to be new."}
	}
	return s, nil
}

// cutOff says that a connection was lost as it began.
func (s *SFTP) cutOff(ctx context.Context, err error) error {
	var known *fault.Fault
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.As(err, &known) {
		return err
	}
	return &fault.Fault{Kind: fault.Unreachable, What: "the connection was lost as it began",
		Place: fault.Place{File: s.where}, Err: plainly(err), Why: "Nothing was changed.",
		Do: "Look whether the server and the line to it are up, and run the same command again."}
}

// Patience sets how long is waited before each new try of a lost connection.
func (s *SFTP) Patience(waits ...time.Duration) { s.patience = waits }

// quietly drops "not there", which is said already.
func quietly(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

func (s *SFTP) String() string { return s.where + "/" + strings.TrimPrefix(s.root, "/") }

// Close ends the connection.
func (s *SFTP) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	if s.line != nil {
		s.line.close()
		s.line = nil
	}
	return nil
}

// close ends it from below: a server that is asked to end a channel may not answer, and everything
// has been answered that matters.
func (l *line) close() {
	l.ssh.Close()
	l.sftp.Close()
}

// connected gives the connection, made anew when it is lost is the one that is there.
func (s *SFTP) connected(ctx context.Context, lost *line) (*line, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, net.ErrClosed
	}
	if s.line != nil && s.line != lost {
		return s.line, nil
	}
	if s.line != nil {
		s.line.close()
		s.line = nil
	}
	client, where, err := s.login.Connect(ctx)
	if where != "" {
		s.where = where
	}
	if err != nil {
		return nil, err
	}
	c, err := sftp.NewClient(client, sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(64))
	if err != nil {
		client.Close()
		if isLost(err) {
			return nil, err
		}
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the server lets the account in, and offers it no SFTP",
			Place: fault.Place{File: where}, Err: err, Do: "Switch on 'Subsystem sftp' in the server's sshd_config."}
	}
	l := &line{ssh: client, sftp: c, dead: make(chan struct{}), ready: make(chan struct{})}
	go l.watch()
	go func() { // which may take longer than all that does not need it
		defer close(l.ready)
		l.found = newShell(context.WithoutCancel(ctx), client, s.root)
	}()
	s.line = l
	return l, nil
}

// shell is the far side's, once it has been found; nil where it runs no commands.
func (l *line) shell() *shell {
	<-l.ready
	return l.found
}

// watch asks the far side for a sign of life, so that a line that was cut without a word does not hang for ever.
func (l *line) watch() {
	go func() {
		_ = l.ssh.Wait()
		close(l.dead)
	}()
	t := time.NewTicker(15 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-l.dead:
			return
		case <-t.C:
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := l.ssh.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case <-answered:
		case <-l.dead:
			return
		case <-time.After(30 * time.Second):
			l.ssh.Close()
			return
		}
	}
}

// isLost says whether an error is that of a connection, not of a file.
func isLost(err error) bool {
	var op *net.OpError
	var closed *ssh.ExitMissingError
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, io.ErrClosedPipe) || errors.As(err, &op) ||
		errors.As(err, &closed) || errors.Is(err, os.ErrDeadlineExceeded) ||
		strings.Contains(err.Error(), "connection reset") || strings.Contains(err.Error(), "broken pipe") ||
		strings.Contains(err.Error(), "handshake failed: EOF")
}

// do runs an operation, and once more on a new connection when the one it ran on was lost. It must
// be one that can be repeated.
func (s *SFTP) do(ctx context.Context, f func(*line) error) error {
	var lost *line
	var last error
	for try := 0; ; try++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		l, err := s.connected(ctx, lost)
		if err == nil {
			err = l.limited(ctx, f)
			if err == nil || !(isLost(err) || l.isDead()) {
				return err
			}
			lost = l
		} else if fault.KindOf(err) == fault.Refused || errors.Is(err, net.ErrClosed) {
			return err
		}
		last = err
		if try == len(s.patience) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("%w: %w", ErrLost, plainly(last))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(s.patience[try]):
		}
	}
}

// grace is how long an operation may go on that is not wanted any more.
const grace = 500 * time.Millisecond

// limited runs an operation, which ends soon after ctx does: what waits for an answer that does not
// come can only be ended with its line.
func (l *line) limited(ctx context.Context, f func(*line) error) error {
	done := make(chan struct{})
	defer close(done)
	stop := context.AfterFunc(ctx, func() {
		select {
		case <-done:
		case <-time.After(grace):
			l.ssh.Close()
		}
	})
	defer stop()
	return f(l)
}

// plainly says in words what the library calls by a code.
func plainly(err error) error {
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, io.EOF) {
		return errors.New("the server ended it")
	}
	return err
}

func (l *line) isDead() bool {
	select {
	case <-l.dead:
		return true
	default:
		return false
	}
}

func (s *SFTP) at(rel string) string { return path.Join(s.root, rel) }

// failed gives an error of the server a path, and a cause where its code has none: a full disk is
// only a "failure" in version 3.
func (s *SFTP) failed(l *line, op, rel string, err error) error {
	if err == nil || isLost(err) || l.isDead() {
		return err
	}
	var code *sftp.StatusError
	if errors.As(err, &code) && code.FxCode() == sftp.ErrSSHFxFailure {
		if v, statErr := l.sftp.StatVFS(s.root); statErr == nil && v.FreeSpace() < 64<<10 {
			err = errors.New("no space left on device")
		} else if op != "make" {
			err = errors.New("the server says no more than that it failed")
		}
	}
	return &fs.PathError{Op: op, Path: rel, Err: cause(err)}
}

// List is Site's.
func (s *SFTP) List(ctx context.Context, folders []string) (list []Info, err error) {
	err = s.do(ctx, func(l *line) error {
		list = nil
		if sh := l.shell(); sh != nil && sh.find {
			if found, err := sh.list(ctx, folders); err == nil {
				list = found
				return nil
			} else if l.isDead() || ctx.Err() != nil {
				return err
			}
		}
		for _, folder := range folders {
			entries, err := l.sftp.ReadDirContext(ctx, s.at(folder))
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return s.failed(l, "list", folder, err)
			}
			for _, e := range entries {
				if e.Mode().IsRegular() {
					list = append(list,
						Info{path.Join(folder, e.Name()), e.Size(), e.ModTime().UTC().Truncate(time.Second)})
				}
			}
		}
		return nil
	})
	return list, err
}

// Stat is Site's.
func (s *SFTP) Stat(ctx context.Context, rel string) (out Info, err error) {
	err = s.do(ctx, func(l *line) error {
		info, err := l.sftp.Stat(s.at(rel))
		if err != nil {
			return s.failed(l, "look at", rel, err)
		}
		if !info.Mode().IsRegular() {
			return &fs.PathError{Op: "stat", Path: rel, Err: errors.New("it is no file")}
		}
		out = Info{rel, info.Size(), info.ModTime().UTC().Truncate(time.Second)}
		return nil
	})
	return out, err
}

// Read is Site's.
func (s *SFTP) Read(ctx context.Context, rel string, limit int64) (data []byte, err error) {
	err = s.do(ctx, func(l *line) error {
		f, err := l.sftp.Open(s.at(rel))
		if err != nil {
			return s.failed(l, "read", rel, err)
		}
		defer f.Close()
		data, err = readMost(f, rel, limit)
		return err
	})
	return data, err
}

// Get is Site's.
func (s *SFTP) Get(ctx context.Context, rel string, w io.Writer) error {
	var done int64
	return s.do(ctx, func(l *line) error {
		f, err := l.sftp.Open(s.at(rel))
		if err != nil {
			return s.failed(l, "read", rel, err)
		}
		defer f.Close()
		if _, err := f.Seek(done, io.SeekStart); err != nil {
			return err
		}
		n, err := f.WriteTo(&until{ctx, w})
		done += n
		return err
	})
}

// until is a writer that stops with its context.
type until struct {
	ctx context.Context
	w   io.Writer
}

func (u *until) Write(b []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.w.Write(b)
}

// Hash is Site's.
func (s *SFTP) Hash(ctx context.Context, rels []string) (sums map[string]string, err error) {
	if len(rels) == 0 {
		return map[string]string{}, nil
	}
	err = s.do(ctx, func(l *line) error {
		if sh := l.shell(); sh != nil && sh.sum != "" {
			sums, err = sh.hash(ctx, rels)
			if err == nil || l.isDead() || ctx.Err() != nil {
				return err
			}
		}
		sums = map[string]string{}
		var mu sync.Mutex
		g, ctx := group.WithContext(ctx)
		g.SetLimit(streams)
		for _, rel := range rels {
			g.Go(func() error {
				f, err := l.sftp.Open(s.at(rel))
				if errors.Is(err, fs.ErrNotExist) {
					return nil
				}
				if err != nil {
					return s.failed(l, "read", rel, err)
				}
				defer f.Close()
				h := sha256.New()
				if _, err := f.WriteTo(&until{ctx, h}); err != nil {
					return s.failed(l, "read", rel, err)
				}
				mu.Lock()
				defer mu.Unlock()
				sums[rel] = hex.EncodeToString(h.Sum(nil))
				return nil
			})
		}
		return g.Wait()
	})
	return sums, err
}

// folder makes a folder and those above it, once.
func (s *SFTP) folder(l *line, rel string) error {
	if rel == "." || rel == "" {
		return nil
	}
	if _, ok := s.folders.Load(rel); ok {
		return nil
	}
	if err := l.sftp.MkdirAll(s.at(rel)); err != nil {
		return s.failed(l, "make", rel, err)
	}
	s.folders.Store(rel, true)
	return nil
}

// worthwhile is the least size at which looking for what the far side has already, or compressing, can pay.
const worthwhile = 32 << 10

// least is from which size on a file that resembles another is put together of it.
const lowest = 4 << 10

// pours is from which size on a file is worth a command of its own, which hashes it on its way to the disk.
const pours = 4 << 20

// Upload is Site's.
func (s *SFTP) Upload(ctx context.Context, u Upload) (sent Sent, err error) {
	in, err := os.Open(u.Source)
	if err != nil {
		return sent, &fault.Fault{What: "could not read a file that is to be deployed",
			Place: fault.Place{File: u.Source}, Err: cause(err), Do: "Pack again, then deploy."}
	}
	defer in.Close()
	if info, err := in.Stat(); err != nil || info.Size() != u.Size {
		return sent, changedSource(u.Source)
	}
	var told int64
	err = s.do(ctx, func(l *line) error {
		if err := s.folder(l, path.Dir(u.To)); err != nil {
			return err
		}
		var start int64
		if u.Size >= worthwhile {
			if info, err := l.sftp.Stat(s.at(u.To)); err == nil && info.Size() <= u.Size {
				start = info.Size()
			}
		}
		if start == 0 && u.Size >= lowest {
			if n, ok, err := s.parts(ctx, l, &u, in); err != nil {
				return err
			} else if ok {
				sent.Bytes, sent.Reused = n, u.Size-n
				return nil
			}
			if u.Size >= pours && l.shell() != nil && l.shell().sum != "" {
				return s.pour(ctx, l, &u, in, &told, &sent)
			}
		}
		if start > told {
			sent.Reused = start
			u.advanced(start - told)
			told = start
		}
		return s.send(ctx, l, &u, in, start, &told, &sent)
	})
	if err == nil && told < u.Size {
		u.advanced(u.Size - told)
	}
	return sent, err
}

// send writes a file from start to its end.
func (s *SFTP) send(ctx context.Context, l *line, u *Upload, in *os.File, start int64, told *int64, sent *Sent) error {
	flags := os.O_WRONLY | os.O_CREATE
	if start == 0 {
		flags |= os.O_TRUNC
	}
	f, err := l.sftp.OpenFile(s.at(u.To), flags)
	if err != nil {
		return s.failed(l, "write", u.To, err)
	}
	if _, err := f.Seek(start, io.SeekStart); err != nil {
		f.Close()
		return err
	}
	at := start
	section := io.NewSectionReader(in, start, u.Size-start)
	for at < u.Size { // in parts, so that progress is seen and what a cut leaves has no holes
		part := min(u.Size-at, 4<<20)
		n, err := f.ReadFromWithConcurrency(io.LimitReader(safefile.Until(ctx, section), part), 64)
		sent.Bytes += n
		at += n
		if at > *told {
			u.advanced(at - *told)
			*told = at
		}
		if err != nil {
			f.Close()
			return s.failed(l, "write", u.To, err)
		}
		if n == 0 {
			f.Close()
			return changedSource(u.Source)
		}
	}
	return s.failed(l, "write", u.To, f.Close())
}

// pour sends a file through a command that writes it and takes its hash meanwhile; compressed, when
// that makes it much shorter.
func (s *SFTP) pour(ctx context.Context, l *line, u *Upload, in *os.File, told *int64, sent *Sent) error {
	var here int64
	n, sum, err := l.shell().pour(ctx, in, u.Size, u.To, compresses(in, u.Size) && l.shell().gzip, func(n int64) {
		if here += n; here > *told {
			u.advanced(here - *told)
			*told = here
		}
	})
	sent.Bytes += n
	if err != nil {
		return s.failed(l, "write", u.To, err)
	}
	info, err := l.sftp.Stat(s.at(u.To))
	if err != nil {
		return s.failed(l, "write", u.To, err)
	}
	if info.Size() != u.Size { // the command does not say why it wrote less
		return s.failed(l, "write", u.To, &sftp.StatusError{Code: uint32(sftp.ErrSSHFxFailure)})
	}
	sent.Hashed = sum == u.SHA256
	return nil
}

// compresses says whether a sample of a file shrinks enough to be worth it.
func compresses(in io.ReaderAt, size int64) bool {
	sample := make([]byte, 32<<10)
	n, _ := in.ReadAt(sample, max(0, size/2-16<<10))
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	_, _ = z.Write(sample[:n])
	_ = z.Close()
	return b.Len() < n*3/4
}

// Write is Site's.
func (s *SFTP) Write(ctx context.Context, rel string, data []byte) error {
	temp := rel + NewEnding
	return s.do(ctx, func(l *line) error {
		if err := s.folder(l, path.Dir(rel)); err != nil {
			return err
		}
		if err := s.put(l, temp, data, os.O_WRONLY|os.O_CREATE|os.O_TRUNC); err != nil {
			return err
		}
		return s.failed(l, "write", rel, l.rename(s.at(temp), s.at(rel)))
	})
}

func (s *SFTP) put(l *line, rel string, data []byte, flags int) error {
	f, err := l.sftp.OpenFile(s.at(rel), flags)
	if err != nil {
		return s.failed(l, "write", rel, err)
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		return s.failed(l, "write", rel, err)
	}
	return s.failed(l, "write", rel, f.Close())
}

// Create is Site's. After a cut, a file with this very content counts as made.
func (s *SFTP) Create(ctx context.Context, rel string, data []byte) error {
	tries := 0
	return s.do(ctx, func(l *line) error {
		tries++
		if err := s.folder(l, path.Dir(rel)); err != nil {
			return err
		}
		err := s.put(l, rel, data, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
		if err == nil || isLost(err) || l.isDead() {
			return err
		}
		if f, openErr := l.sftp.Open(s.at(rel)); openErr == nil {
			defer f.Close()
			there, readErr := readMost(f, rel, 1<<20)
			if readErr == nil && tries > 1 && (bytes.Equal(there, data) || len(there) == 0) {
				return s.put(l, rel, data, os.O_WRONLY|os.O_TRUNC)
			}
			return &fs.PathError{Op: "make", Path: rel, Err: fs.ErrExist}
		}
		return err
	})
}

// rename moves at once, over what is there. A server without OpenSSH's extension can't do that;
// then what is there goes first.
func (l *line) rename(from, to string) error {
	if _, ok := l.sftp.HasExtension("posix-rename@openssh.com"); ok {
		return l.sftp.PosixRename(from, to)
	}
	err := l.sftp.Rename(from, to)
	if err != nil && !isLost(err) {
		if _, statErr := l.sftp.Stat(from); statErr == nil {
			_ = l.sftp.Remove(to)
			err = l.sftp.Rename(from, to)
		}
	}
	return err
}

// Rename is Site's.
func (s *SFTP) Rename(ctx context.Context, from, to string) error {
	tries := 0
	return s.do(ctx, func(l *line) error {
		tries++
		err := l.rename(s.at(from), s.at(to))
		if errors.Is(err, fs.ErrNotExist) {
			if _, statErr := l.sftp.Stat(s.at(from)); errors.Is(statErr, fs.ErrNotExist) && tries > 1 {
				if _, statErr := l.sftp.Stat(s.at(to)); statErr == nil {
					return nil // it was done when the connection was lost
				}
			}
			s.folders.Clear()
			if err := s.folder(l, path.Dir(to)); err != nil {
				return err
			}
			err = l.rename(s.at(from), s.at(to))
		}
		return s.failed(l, "put in place", to, err)
	})
}

// Link is Site's.
func (s *SFTP) Link(ctx context.Context, from, to string) error {
	done := false
	err := s.do(ctx, func(l *line) error {
		if _, ok := l.sftp.HasExtension("hardlink@openssh.com"); !ok {
			return nil
		}
		if err := s.folder(l, path.Dir(to)); err != nil {
			return err
		}
		if err := l.sftp.Link(s.at(from), s.at(to)); err == nil || isLost(err) || l.isDead() {
			done = err == nil
			return err
		}
		temp := to + NewEnding // there is something there
		_ = l.sftp.Remove(s.at(temp))
		err := l.sftp.Link(s.at(from), s.at(temp))
		if err == nil {
			err = l.rename(s.at(temp), s.at(to))
			_ = l.sftp.Remove(s.at(temp)) // renaming onto another name of the same file leaves both
			done = err == nil
			return s.failed(l, "copy", to, err)
		}
		if isLost(err) || l.isDead() {
			return err
		}
		return nil // a file system without such names
	})
	if err != nil || done {
		return err
	}
	return s.Copy(ctx, from, to)
}

// Copy is Site's. It is made on the server's side where that can, else through this machine.
func (s *SFTP) Copy(ctx context.Context, from, to string) error {
	return s.do(ctx, func(l *line) error {
		if err := s.folder(l, path.Dir(to)); err != nil {
			return err
		}
		temp := to + NewEnding
		if r := l.ranger(); r != nil {
			info, err := l.sftp.Stat(s.at(from))
			if err != nil {
				return s.failed(l, "copy", from, err)
			}
			ranges := []span{{0, 0, info.Size()}}
			if info.Size() == 0 {
				ranges = nil // a length of 0 would mean: to the end
			}
			if _, err := r.build(ctx, s.at(temp), s.at(from), ranges, nil, info.Size()); err != nil {
				return s.failed(l, "copy", from, err)
			}
			return s.failed(l, "copy", to, l.rename(s.at(temp), s.at(to)))
		}
		in, err := l.sftp.Open(s.at(from))
		if err != nil {
			return s.failed(l, "copy", from, err)
		}
		defer in.Close()
		out, err := l.sftp.OpenFile(s.at(temp), os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
		if err != nil {
			return s.failed(l, "copy", to, err)
		}
		if _, err := io.Copy(out, safefile.Until(ctx, in)); err != nil {
			out.Close()
			return s.failed(l, "copy", to, err)
		}
		if err := out.Close(); err != nil {
			return s.failed(l, "copy", to, err)
		}
		return s.failed(l, "copy", to, l.rename(s.at(temp), s.at(to)))
	})
}

// Remove is Site's.
func (s *SFTP) Remove(ctx context.Context, rel string) error {
	return s.do(ctx, func(l *line) error {
		err := l.sftp.Remove(s.at(rel))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		s.folders.Delete(rel)
		return s.failed(l, "remove", rel, err)
	})
}

// Free is Spacer's.
func (s *SFTP) Free(ctx context.Context) (free int64, err error) {
	err = s.do(ctx, func(l *line) error {
		v, err := l.sftp.StatVFS(s.root)
		if err == nil {
			free = int64(min(v.Bavail*v.Frsize, 1<<62)) // what an account that is not root may use
		}
		return err
	})
	return free, err
}

// Run is Runner's: a command in the root, by the account's shell.
func (s *SFTP) Run(ctx context.Context, command string) (out string, err error) {
	err = s.do(ctx, func(l *line) error {
		sh := l.shell()
		if sh == nil {
			return errors.New("the account may run no commands there")
		}
		out, err = sh.command(ctx, command)
		return err
	})
	return out, err
}
