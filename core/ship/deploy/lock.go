package deploy

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// Holder is who holds the lock of a target.
type Holder struct {
	ID   string `json:"id"`
	By   string `json:"by"`
	Host string `json:"host"`
	// where the process id means something; containers can share a host's name
	Machine string    `json:"machine,omitempty"`
	PID     int       `json:"pid"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"` // by the holder's clock
	// Until is when the claim of a Git repository ends by itself, by the holder's clock: a
	// repository has no clock of its own.
	Until time.Time `json:"until,omitzero"`
	// Quiet is how long there was no sign of life, by the target's own clock; it may differ from those of all others.
	Quiet time.Duration `json:"quiet,omitzero"`
}

const lockFile = ownDir + "/lock.json"

// beat is how often a holder gives a sign of life.
const beat = 30 * time.Second

// pulse is beat, but for tests.
var pulse = beat

// unwritten is how long a lock may be without its holder's name: it is made and written in two
// steps, and a connection can be lost between them.
const unwritten = 3 * time.Second

// expires is after how long without a sign of life a lock is taken over. Its holder looks for it
// again before it changes anything more (lock.still).
const expires = 20 * beat

// errBroken says that another run holds the target now. The old run must not touch it any more, not
// even to undo its changes.
var errBroken = errors.New("it gave no sign of life for too long, or the lock was broken by hand")

// lock is a target that is held.
type lock struct {
	t    *Target
	id   string
	stop context.CancelFunc
	done chan struct{}

	mu   sync.Mutex
	seen time.Time // when the lock was last known to be ours, by the wall clock, which goes on while the machine sleeps
	far  string    // id of the claim in the remote repository; empty for none

	renewed time.Time // when the claim was made or made to last longer
	command string
}

// acquire takes the target's lock, or says who has it. A lock of this machine whose process has ended is taken over.
func (t *Target) acquire(ctx context.Context, command string) (*lock, error) {
	var nonce [12]byte
	_, _ = rand.Read(nonce[:]) // it never fails
	h := t.newHolder(command, hex.EncodeToString(nonce[:]))
	h.Until = time.Time{} // the target's own clock says how old a lock is
	data, _ := json.Marshal(h)
	err := t.site.Create(ctx, lockFile, data)
	if errors.Is(err, fs.ErrExist) {
		other, readErr := t.holder(ctx)
		for until := time.Now().Add(unwritten); readErr == nil && other != nil && other.ID == "" &&
			time.Now().Before(until); {
			select {
			case <-time.After(unwritten / 10):
				other, readErr = t.holder(ctx)
			case <-ctx.Done():
				readErr = ctx.Err()
			}
		}
		switch {
		case readErr != nil:
			return nil, readErr
		case other == nil:
			err = t.site.Create(ctx, lockFile, data) // it was just let go
		case other.ID == "", other.Machine == h.Machine && !safefile.Alive(other.PID), other.Quiet > expires:
			// Should another do the same right now, the later one has it: the first sees so before it changes anything.
			err = t.site.Write(ctx, lockFile, data)
		default:
			return nil, t.held(other)
		}
	}
	if err != nil {
		return nil, t.explain("write", lockFile, err)
	}
	l := &lock{t: t, id: h.ID, done: make(chan struct{}), seen: now()}
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	l.stop = stop
	go l.beat(beating, data)
	return l, nil
}

// newHolder is this run as a holder.
func (t *Target) newHolder(command, id string) Holder {
	since := time.Now().UTC().Truncate(time.Second)
	return Holder{ID: id, By: t.access.By(), Host: t.access.Host, Machine: safefile.Machine(), PID: os.Getpid(),
		Command: command, Since: since, Until: since.Add(claimed)}
}

func (t *Target) held(other *Holder) error {
	f := &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("target %q is locked: '%s' by %s, process %d, since %s; last sign of life %s ago", t.Name,
			other.Command, other.By, other.PID,
			other.Since.Local().Format("2006-01-02 15:04:05"), other.Quiet.Round(time.Second)),
		Place: fault.Place{File: t.String()},
		Why:   "Two at once would write over each other's files; nothing was changed.",
		Do:    "Wait until it has finished."}
	if other.Quiet > 3*beat {
		f.Do = fmt.Sprintf("It gives a sign of life every %s, so it has probably ended. After %s without one the next run takes the lock over. When you are sure: vornix deploy unlock %s", beat, expires, t.Name)
	} else {
		f.Do += fmt.Sprintf(" If you know that it has ended: vornix deploy unlock %s", t.Name)
	}
	return f
}

// holder reads the lock; nil when there is none.
func (t *Target) holder(ctx context.Context) (*Holder, error) {
	data, err := t.site.Read(ctx, lockFile, 1<<16)
	if absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, t.explain("read", lockFile, err)
	}
	h := &Holder{}
	if json.Unmarshal(data, h) != nil {
		h.Command, h.By = "(unknown)", "(unknown)" // one that was cut off while it was written
	}
	// How old it is, only the target's own clock can say.
	clock := ownDir + "/clock"
	if err := t.site.Write(ctx, clock, []byte(h.ID)); err == nil {
		now, err1 := t.site.Stat(ctx, clock)
		then, err2 := t.site.Stat(ctx, lockFile)
		if err1 == nil && err2 == nil {
			h.Quiet = max(0, now.Time.Sub(then.Time))
		}
		_ = t.site.Remove(ctx, clock)
	}
	return h, nil
}

// beat gives signs of life, as long as the lock is still ours.
func (l *lock) beat(ctx context.Context, data []byte) {
	defer close(l.done)
	tick := time.NewTicker(pulse)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if l.ours(ctx) == nil {
				_ = l.t.site.Write(ctx, lockFile, data)
			}
			l.renew(ctx)
		}
	}
}

// ours says whether the lock is still this run's.
func (l *lock) ours(ctx context.Context) error {
	data, err := l.t.site.Read(ctx, lockFile, 1<<16)
	var h Holder
	if err == nil && json.Unmarshal(data, &h) == nil && h.ID == l.id {
		l.mu.Lock()
		l.seen = now()
		l.mu.Unlock()
		return nil
	}
	if err != nil && !absent(err) {
		return l.t.explain("read", lockFile, err)
	}
	who := "somebody"
	if h.By != "" {
		who = h.By
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("target %q: %s took over the lock of this run", l.t.Name, who), Err: errBroken,
		Why: "Another run may be working there, so this one changes nothing more.",
		Do:  "Look at 'vornix deploy history', then run the same command again."}
}

// now is the wall clock alone.
func now() time.Time { return time.Now().Round(0) }

// still says whether the lock is ours, without asking when that was known a moment ago. A machine that slept asks.
func (l *lock) still(ctx context.Context) error {
	l.mu.Lock()
	seen := l.seen
	l.mu.Unlock()
	if age := now().Sub(seen); age >= 0 && age < 2*beat {
		return nil
	}
	return l.ours(ctx)
}

// release lets the target go.
func (l *lock) release(ctx context.Context) {
	l.stop()
	<-l.done
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	l.unclaim(ctx)
	if l.ours(ctx) == nil {
		_ = l.t.site.Remove(ctx, lockFile)
	}
}

// Locked says who holds the target; nil when nobody does.
func (t *Target) Locked(ctx context.Context) (*Holder, error) {
	if t.readOnly() {
		return nil, nil
	}
	return t.holder(ctx)
}

// Free says who holds the target; nil when a run could have it.
func (t *Target) Free(ctx context.Context) error {
	other, err := t.Locked(ctx)
	if err != nil || other == nil || other.ID == "" || other.Machine == safefile.Machine() &&
		!safefile.Alive(other.PID) || other.Quiet > expires {
		return err
	}
	return t.held(other)
}

// Unlock breaks the lock that was shown. Whoever held it notices before it changes anything.
func (t *Target) Unlock(ctx context.Context, shown *Holder) error {
	now, err := t.holder(ctx)
	if err != nil || now == nil {
		return err
	}
	if now.ID != shown.ID {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("target %q is held by another run now: '%s' by %s", t.Name, now.Command, now.By),
			Do:   "Look again."}
	}
	if err := t.site.Remove(ctx, lockFile); err != nil {
		return t.explain("remove", lockFile, err)
	}
	return nil
}

// shownLock reads the lock without touching anything, so without its age.
func (t *Target) shownLock(ctx context.Context) (*Holder, error) {
	data, err := t.site.Read(ctx, lockFile, 1<<16)
	if absent(err) || t.readOnly() {
		return nil, nil
	}
	if err != nil {
		return nil, t.explain("read", lockFile, err)
	}
	h := &Holder{}
	if json.Unmarshal(data, h) != nil {
		h.Command, h.By = "(unknown)", "(unknown)"
	}
	return h, nil
}
