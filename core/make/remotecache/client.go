package remotecache

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"vornix/core/base/group"
)

// The kinds of what is kept: what a job made, by its key; files, by their content; parts of a job's
// work, by their keys.
const (
	Records = "records"
	Files   = "files"
	Parts   = "parts"
)

var kinds = []string{Records, Files, Parts}

const (
	// uploaders is how many things are given at once: most are small, and wait for the line.
	uploaders = 16
	// askFirst is from which size on it is cheaper to ask whether a file is there than to send it.
	askFirst = 64 << 10
	// misses is how many failures in a row end a Client.
	misses = 3
	// slowest is how long questions may take, on the average of the last ones, before asking costs more than it brings.
	slowest = 1500 * time.Millisecond
	// stalled is how long nothing may move while something is on its way.
	stalled = 20 * time.Second
	// crawl is the least number of bytes a second at which something large is waited for.
	crawl = 64 << 10
)

// Client goes to a store for the length of a build. All of it may be called from several goroutines.
type Client struct {
	store Store
	write bool
	all   bool
	most  int64

	mu       sync.Mutex
	queue    [][]Entry
	more     *sync.Cond
	closing  bool
	failed   int           // in a row
	last     error         // of those
	pace     time.Duration // what a question takes, on a moving average
	asked    int
	off      error // why the store is left alone from now on
	rejected []string
	left     int // of what was offered
	group    *group.Group
	count    Stats
	cancel   context.CancelFunc
	ctx      context.Context
	timeout  time.Duration
}

// Stats is what a Client did.
type Stats struct {
	Asked     int     `json:"asked"` // for what jobs made
	Found     int     `json:"found"`
	Parts     int     `json:"parts"` // of long jobs, taken
	Taken     int64   `json:"taken"` // bytes
	Given     int     `json:"given"` // files, records and parts
	GivenSize int64   `json:"given_bytes"`
	Waited    float64 `json:"waited"` // seconds, for answers to questions
}

// Entry is something that is given.
type Entry struct {
	Kind, Key string
	Size      int64
	Open      func() (io.ReadCloser, error)
}

// ClientOptions for NewClient.
type ClientOptions struct {
	Write   bool  // whether anything is given
	All     bool  // whether what was made here before is given too
	Largest int64 // bytes of one thing that is given or taken; 0: DefaultLargest
}

// DefaultLargest is how large one thing may be where nobody says.
const DefaultLargest = 2 << 30

// NewClient begins to use a store. Close ends it, and closes the store.
func NewClient(ctx context.Context, s Store, o ClientOptions) *Client {
	l := &Client{store: s, write: o.Write, all: o.Write && o.All, most: o.Largest, group: &group.Group{},
		timeout: stalled}
	if l.most == 0 {
		l.most = DefaultLargest
	}
	l.ctx, l.cancel = context.WithCancel(ctx)
	l.more = sync.NewCond(&l.mu)
	if l.write {
		for range uploaders {
			l.group.Go(func() error { l.work(); return nil })
		}
	}
	return l
}

// nameOf is where something is kept: split by its first characters, since folders with a hundred
// thousand files are slow.
func nameOf(kind, key string) string { return path.Join(kind, key[:2], key) }

// IsKey says whether a text can be a key: SHA-256 in hex.
func IsKey(s string) bool {
	return len(s) == 2*sha256.Size && strings.Trim(s, "0123456789abcdef") == ""
}

// Get writes what is kept under a key to w, at most so many bytes, which is the size of a file. ok
// is false where there is nothing, or nothing that can be had: then w may have got some bytes, and
// what is wrong is remembered. The caller checks what came, and calls Reject when it is wrong.
func (l *Client) Get(ctx context.Context, kind, key string, limit int64, w io.Writer) (ok bool) {
	if !IsKey(key) || kind == Files && limit > l.most || l.Disabled() != nil {
		return false
	}
	limit = min(limit, l.most)
	start := time.Now()
	ctx, alive, end := l.watched(ctx)
	defer end()
	r, err := l.store.Read(ctx, nameOf(kind, key))
	var n int64
	to := &sink{w: w}
	if err == nil {
		n, err = io.Copy(to, &moving{r: io.LimitReader(r, limit+1), moved: alive})
		r.Close()
	}
	if to.err != nil {
		return false // the disk here is at fault, not the place: who makes it now is told
	}
	l.answered(ctx, time.Since(start), n, err)
	if err == nil && n > limit {
		l.Reject(kind, key)
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if kind == Records {
		l.count.Asked++
	}
	l.count.Taken += n
	l.count.Waited += time.Since(start).Seconds()
	return err == nil
}

// CountHit counts a job's result that was taken whole, or a part of one.
func (l *Client) CountHit(kind string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if kind == Parts {
		l.count.Parts++
	} else {
		l.count.Found++
	}
}

// Reject says that what was taken under a key is not what it should be. It is not asked for again, and said at the end.
func (l *Client) Reject(kind, key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.rejected = append(l.rejected, nameOf(kind, key))
	if len(l.rejected) >= misses && l.off == nil {
		l.off = errors.New("what it gave was wrong too often")
	}
}

// Put offers things to the store, behind the work and one after the other: a record comes last,
// after the files that it names, so that nobody finds it before them. A large file that is there
// already is not sent.
func (l *Client) Put(things ...Entry) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !l.write || l.closing {
		return
	}
	if l.off != nil {
		l.left++
		return
	}
	for _, t := range things {
		if t.Size > l.most || !IsKey(t.Key) {
			return
		}
	}
	l.queue = append(l.queue, things)
	l.more.Signal()
}

// All says whether what was made here before is to be given too.
func (l *Client) All() bool { return l.all }

// work gives what was offered.
func (l *Client) work() {
	for {
		l.mu.Lock()
		for len(l.queue) == 0 && !l.closing {
			l.more.Wait()
		}
		if len(l.queue) == 0 {
			l.mu.Unlock()
			return
		}
		things := l.queue[0]
		l.queue = l.queue[1:]
		l.mu.Unlock()
		last := things[len(things)-1]
		if l.all && last.Kind == Records && l.has(last) { // somebody has given this before
			continue
		}
		for _, t := range things {
			if !l.give(t) {
				l.mu.Lock()
				l.left++
				l.mu.Unlock()
				break
			}
		}
	}
}

// has says whether a thing is there for certain.
func (l *Client) has(t Entry) bool {
	if l.Disabled() != nil || l.ctx.Err() != nil {
		return false
	}
	ctx, _, end := l.watched(l.ctx)
	defer end()
	start := time.Now()
	there, err := l.store.Has(ctx, nameOf(t.Kind, t.Key))
	l.answered(ctx, time.Since(start), 0, err)
	return there && err == nil
}

// wrong says whether what is there under a thing's name is not what it should be: then it is written over.
func (l *Client) wrong(t Entry) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Contains(l.rejected, nameOf(t.Kind, t.Key))
}

// give sends a thing.
func (l *Client) give(t Entry) (there bool) {
	if t.Kind == Files && t.Size >= askFirst && !l.wrong(t) && l.has(t) {
		return true
	}
	if l.Disabled() != nil || l.ctx.Err() != nil {
		return false
	}
	for again := false; ; again = true {
		opened, err := l.send(t, !again)
		if !opened {
			return false // it was in the cache a moment ago; the next build that makes it gives it
		}
		if err == nil {
			break
		}
		if again || final(err) || l.Disabled() != nil || l.ctx.Err() != nil {
			return false
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.count.Given++
	l.count.GivenSize += t.Size
	return true
}

// send sends a thing once. The first failure is forgiven: a connection that was kept open may have
// been closed from the other side.
func (l *Client) send(t Entry, first bool) (opened bool, err error) {
	ctx, alive, end := l.watched(l.ctx)
	defer end()
	r, err := t.Open()
	if err != nil {
		return false, err
	}
	defer r.Close()
	start := time.Now()
	err = l.store.Write(ctx, nameOf(t.Kind, t.Key), t.Size, &moving{r: io.LimitReader(r, t.Size), moved: alive})
	if err == nil || !first || final(err) || context.Cause(ctx) != nil {
		l.answered(ctx, time.Since(start), t.Size, err)
	}
	return true, err
}

// watched is a context that ends when nothing has moved for a while.
func (l *Client) watched(parent context.Context) (ctx context.Context, moved func(), end func()) {
	ctx, cancel := context.WithCancelCause(parent)
	t := time.AfterFunc(l.timeout, func() { cancel(errStalled) })
	return ctx, func() { t.Reset(l.timeout) }, func() { t.Stop(); cancel(nil) }
}

var (
	errStalled = errors.New("it does not answer")
	errAway    = errors.New("nobody answers there")
)

// sink knows whether it was the writing that failed.
type sink struct {
	w   io.Writer
	err error
}

func (s *sink) Write(b []byte) (n int, err error) {
	n, err = s.w.Write(b)
	s.err = err
	return n, err
}

// moving tells of every read.
type moving struct {
	r     io.Reader
	moved func()
}

func (m *moving) Read(b []byte) (int, error) {
	n, err := m.r.Read(b)
	m.moved()
	return n, err
}

// answered takes note of how a question ended; too many that failed or took too long end the Client.
func (l *Client) answered(ctx context.Context, took time.Duration, n int64, err error) {
	if cause := context.Cause(ctx); errors.Is(cause, errStalled) {
		err = cause
	} else if l.ctx.Err() != nil || cause != nil {
		return // nobody wants to know any more
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		if l.failed++; l.off == nil && (l.failed >= misses || final(err)) {
			l.off = err
		}
		l.last = err
		return
	}
	l.failed, l.last = 0, nil
	wanted := time.Duration(float64(n) / crawl * float64(time.Second))
	l.asked++
	l.pace += (max(0, took-wanted) - l.pace) / time.Duration(min(l.asked, 8))
	if l.asked >= 4 && l.pace > slowest && l.off == nil {
		l.off = fmt.Errorf("an answer takes %.1f s", l.pace.Seconds())
	}
}

// final says that it is no use to try again: nobody answers, or one that does not let in.
func final(err error) bool {
	var dial *net.OpError
	var wait net.Error
	return errors.As(err, &dial) && dial.Op == "dial" || errors.As(err, &wait) && wait.Timeout() ||
		errors.Is(err, errAway) || errors.Is(err, errStalled) || errors.Is(err, fs.ErrPermission)
}

// Disabled is why the store is left alone; nil while it is not.
func (l *Client) Disabled() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.off
}

// Summary is how a Client went.
type Summary struct {
	Stats
	Off      error    // why the store was left alone; nil when it was not
	Rejected []string // what it gave wrongly
	Left     int      // results that were not given
}

// Close waits until all is given that was offered, or cannot be. When ctx ends it does not wait any more.
func (l *Client) Close(ctx context.Context) Summary {
	l.mu.Lock()
	l.closing = true
	l.more.Broadcast()
	l.mu.Unlock()
	stop := context.AfterFunc(ctx, l.cancel)
	_ = l.group.Wait() // no error can come
	stop()
	l.cancel()
	err := l.store.Close()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.off = cmp.Or(l.off, l.last); l.off == nil {
		l.off = err
	}
	return Summary{l.count, l.off, l.rejected, l.left}
}

// Hash is the key of content, and of the name of a part.
func Hash(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
