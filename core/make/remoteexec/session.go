package remoteexec

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vornix/core/compile/stage"
	"vornix/core/make/taskgraph"
)

const (
	// maxSessions is how many jobs are kept ready for more of their pieces, and idleFor how long
	// one that nobody asks for.
	maxSessions = 2
	idleFor     = 30 * time.Second
)

var (
	errPassed = errors.New("the job is past these pieces")
	errEnded  = errors.New("the job came to its end without these pieces")
)

// session is a job of which pieces are done: it is run up to the stage whose pieces are asked for,
// and waits there for more. What earlier stages came to it takes from what the build kept.
type session struct {
	key    string // of the job
	began  time.Time
	cancel context.CancelFunc

	mu     sync.Mutex
	more   *sync.Cond
	asked  []*request
	kept   map[string]content
	passed map[string]bool
	used   time.Time
	unit   *unit // the last one: its small contents may be wanted
	err    error // why it ended
	ended  bool
	busy   int
}

// request are pieces that are asked for.
type request struct {
	key         string
	first, last int
	kept        map[string]content
	done        chan result
}

type result struct {
	data []byte
	err  error
}

// pieces does what a unit asks for.
func (w *worker) pieces(ctx context.Context, u *unit, o *taskgraph.Action) ([]byte, error) {
	list, err := w.read(ctx, u, u.Part.Kept)
	if err != nil {
		return nil, err
	}
	var have cachedParts
	if err := decode(list, &have); err != nil {
		return nil, err
	}
	r := &request{key: u.Part.Key, first: u.Part.First, last: u.Part.Last, kept: map[string]content{},
		done: make(chan result, 1)}
	for _, k := range have {
		r.kept[k.Key] = k.content
	}
	for range 2 {
		s, err := w.session(u, o, r)
		if err != nil {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case came := <-r.done:
			if !errors.Is(came.err, errPassed) && !errors.Is(came.err, errEnded) {
				return came.data, came.err
			}
			w.end(s)
		}
	}
	return nil, errEnded
}

// session finds the session of a job and asks it for pieces, or begins one.
func (w *worker) session(u *unit, o *taskgraph.Action, r *request) (*session, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, s := range w.sessions {
		if s.key == o.Key && s.ask(u, r) {
			return s, nil
		}
	}
	s := &session{key: o.Key, kept: r.kept, passed: map[string]bool{}, began: time.Now(), used: time.Now(), unit: u}
	s.more = sync.NewCond(&s.mu)
	decides, err := w.o.Do.Decides(o)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.cancel = cancel
	load := func(key string) ([]byte, bool) { return w.load(ctx, s, key) }
	t, err := w.workspace.Task(ctx, o, decides,
		taskgraph.Hooks{Kept: load, Keep: func(string, []byte) error { return nil },
			Advance: func(string, int64, int64) {}})
	if err != nil {
		cancel()
		return nil, err
	}
	context.AfterFunc(ctx, s.wake)
	s.ask(u, r)
	w.sessions = append(w.sessions, s)
	if len(w.sessions) > maxSessions {
		slices.SortFunc(w.sessions, func(a, b *session) int { return a.last().Compare(b.last()) })
		w.sessions[0].cancel()
		w.sessions = w.sessions[1:]
	}
	go func() {
		err := w.run(ctx, o, t, &served{s, load})
		s.finish(err)
		cancel()
	}()
	return s, nil
}

// at says whether a session of a job is there, to which everything was brought when it began.
func (w *worker) at(o *taskgraph.Action) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.ContainsFunc(w.sessions, func(s *session) bool { return s.key == o.Key && s.goes() })
}

func (s *session) goes() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.ended
}

func (w *worker) run(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task,
	distributor stage.Distributor) (err error) {
	defer caught(&err)
	return w.o.Do.Do(ctx, o, t, distributor)
}

// load reads what a build kept under a key.
func (w *worker) load(ctx context.Context, s *session, key string) ([]byte, bool) {
	s.mu.Lock()
	c, ok := s.kept[key]
	u := s.unit
	s.mu.Unlock()
	if !ok {
		return nil, false
	}
	data, err := w.read(ctx, u, c)
	return data, err == nil
}

// end ends a session.
func (w *worker) end(s *session) {
	s.cancel()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.sessions = slices.DeleteFunc(w.sessions, func(x *session) bool { return x == s })
}

// idle ends sessions that nobody asks for; all of them when ctx ended.
func (w *worker) idle(ctx context.Context) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.sessions = slices.DeleteFunc(w.sessions, func(s *session) bool {
		old := ctx.Err() != nil || time.Since(s.last()) > idleFor
		if old {
			s.cancel()
		}
		return old
	})
}

// last is when the session was last of use.
func (s *session) last() time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.busy > 0 || len(s.asked) > 0 {
		return time.Now()
	}
	return s.used
}

// ask asks for pieces; false when the session has ended.
func (s *session) ask(u *unit, r *request) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended {
		return false
	}
	s.unit, s.used = u, time.Now()
	if len(r.kept) > len(s.kept) {
		s.kept = r.kept
	}
	s.asked = append(s.asked, r)
	s.more.Broadcast()
	return true
}

func (s *session) wake() {
	s.mu.Lock()
	s.more.Broadcast()
	s.mu.Unlock()
}

// finish ends all that was asked for.
func (s *session) finish(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err == nil {
		err = errEnded
	}
	s.ended, s.err = true, err
	for _, r := range s.asked {
		r.done <- result{nil, err}
	}
	s.asked = nil
}

// served is a session as the stages of its job see it.
type served struct {
	s    *session
	load func(key string) ([]byte, bool)
}

// Distribute offers nothing: a worker's job is somebody else's.
func (v *served) Distribute(context.Context, string, *stage.Pool) {}

// Made has nothing to remember.
func (v *served) Made(string, []byte, []string) {}

// Passing gives what is kept for those who help.
func (v *served) Passing(key string) ([]byte, bool) { return v.load(key) }

// Serve does the pieces under a key that are asked for, until some of a later stage are.
func (v *served) Serve(ctx context.Context, key string, p *stage.Parts) (bool, error) {
	s := v.s
	var group sync.WaitGroup
	for {
		r, err := s.next(ctx, key)
		if r == nil {
			group.Wait()
			return true, err
		}
		if r.first < 0 || r.last > p.N || r.first >= r.last {
			r.done <- result{nil, fmt.Errorf("there are no pieces %d to %d of %d", r.first, r.last, p.N)}
			continue
		}
		s.work(1)
		group.Go(func() {
			defer s.work(-1)
			var came result
			func() {
				defer caught(&came.err)
				p.Do(r.first, r.last)
				came.data = p.Pack(r.first, r.last)
			}()
			if ctx.Err() != nil {
				came = result{nil, ctx.Err()}
			}
			r.done <- came
		})
	}
}

func (s *session) work(n int) {
	s.mu.Lock()
	s.busy, s.used = s.busy+n, time.Now()
	s.mu.Unlock()
}

// next waits for pieces under a key to be asked for; nil when some of a later stage are asked for
// instead, or the session was ended.
func (s *session) next(ctx context.Context, key string) (*request, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for ctx.Err() == nil {
		for i := 0; i < len(s.asked); i++ {
			switch r := s.asked[i]; {
			case r.key == key:
				s.asked = slices.Delete(s.asked, i, i+1)
				return r, nil
			case s.passed[r.key]:
				s.asked = slices.Delete(s.asked, i, i+1)
				i--
				r.done <- result{nil, errPassed}
			}
		}
		if len(s.asked) > 0 {
			s.passed[key] = true
			return nil, nil
		}
		s.more.Wait()
	}
	return nil, ctx.Err()
}
