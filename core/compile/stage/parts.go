package stage

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"time"

	"vornix/core/base/group"
)

// Parts is work of many pieces that can be done in any order and anywhere: what comes of a piece
// depends on the map and on what was done before these parts began, never on other pieces of them.
type Parts struct {
	// Key names what comes of a block by all that decides it.
	Key func(first int) string
	N   int
	// Block is how many pieces are kept under one key; 0: all.
	Block int
	// Passing says that what comes of them is kept only for as long as the stage runs, for those who help.
	Passing bool
	Size    int   // how many pieces one goroutine takes at a time
	Weight  int64 // steps that each counts
	// Do does pieces, Pack writes down what came of them, and Unpack takes that over, or says no to
	// what can't be that. All may be called for different pieces at once.
	Do     func(first, last int)
	Pack   func(first, last int) []byte
	Unpack func(first, last int, data []byte) bool
}

// ErrMissing says that what was done before is not where it should be kept.
var ErrMissing = errors.New("what earlier parts came to is not there")

// Distributor is others who do pieces, or for whom pieces are done.
type Distributor interface {
	// Distribute offers pieces to others until none are left in the pool, and all are done or given
	// back. It may offer none.
	Distribute(ctx context.Context, key string, p *Pool)
	// Serve does those pieces that were asked for, when this machine works for another one; ok is
	// false when it does not. When it returns, all of the parts are to be had from the store.
	Serve(ctx context.Context, key string, p *Parts) (ok bool, err error)
	// Made is told what was made under a key, and who helped; it keeps what is passing.
	Made(key string, data []byte, helpers []string)
	// Passing gives what is passing.
	Passing(key string) (data []byte, ok bool)
}

func (p *Parts) blocks(yield func(first, last int) bool) {
	size := cmp.Or(p.Block, p.N)
	for first := 0; first < p.N; first += size {
		if !yield(first, min(first+size, p.N)) {
			return
		}
	}
}

// Parts does the parts that are not kept, and keeps them.
func (w *Work) Parts(ctx context.Context, p Parts) error {
	if p.N == 0 {
		return nil
	}
	distributor := w.env.Distributor
	if distributor == nil {
		return w.alone(ctx, &p)
	}
	if ok, err := distributor.Serve(ctx, p.Key(0), &p); ok || err != nil {
		if err == nil && !w.load(&p) {
			err = ErrMissing
		}
		return err
	}
	return w.together(ctx, &p, distributor)
}

// alone does all of it here.
func (w *Work) alone(ctx context.Context, p *Parts) (err error) {
	p.blocks(func(first, last int) bool {
		make := func() ([]byte, error) {
			err := w.Each(ctx, last-first, p.Size, p.Weight, func(from, to int) { p.Do(first+from, first+to) })
			if err != nil || p.Passing || w.env.Store == nil {
				return nil, err
			}
			return p.Pack(first, last), nil
		}
		if p.Passing {
			_, err = make()
			return err == nil
		}
		err = w.Once(p.Key(first), p.Weight*int64(last-first),
			func(data []byte) bool { return p.Unpack(first, last, data) }, make)
		return err == nil
	})
	return err
}

// load takes all blocks from where they are kept.
func (w *Work) load(p *Parts) (ok bool) {
	ok = true
	p.blocks(func(first, last int) bool {
		data, found := w.kept(p, first)
		ok = found && p.Unpack(first, last, data)
		return ok
	})
	return ok
}

func (w *Work) kept(p *Parts, first int) (data []byte, ok bool) {
	if p.Passing {
		return w.env.Distributor.Passing(p.Key(first))
	}
	if w.env.Store == nil {
		return nil, false
	}
	return w.env.Store.CachedPart(p.Key(first))
}

// together does what is not kept with others' help.
func (w *Work) together(ctx context.Context, p *Parts, distributor Distributor) error {
	pool := newPool(w, p, distributor)
	p.blocks(func(first, last int) bool {
		if !p.Passing {
			if data, ok := w.kept(p, first); ok && p.Unpack(first, last, data) {
				w.Step(p.Weight * int64(last-first))
				distributor.Made(p.Key(first), data, nil)
				return true
			}
		}
		pool.add(first, last)
		return true
	})
	if pool.left == 0 {
		return nil
	}
	stop := context.AfterFunc(ctx, pool.wake)
	defer stop()
	spreading, end := context.WithCancel(ctx)
	defer end()
	var here, there group.All
	there.Go(func() { distributor.Distribute(spreading, p.Key(0), pool) })
	for range pool.processors {
		here.Go(func() { pool.work(ctx) })
	}
	here.Wait()
	end()
	pool.wake()
	there.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	return pool.err
}

const (
	// measured is how long pieces must have been done here before it is believed what one costs.
	measured = 5 * time.Millisecond
	// idle is how long pieces that nobody has begun are left to others while there is nothing else to do here.
	idle = 60 * time.Millisecond
	// sample is which part of what comes back is done again here, to see whether it is right; where
	// that takes longer than cheap, only now and then.
	sample = 50
	cheap  = 30 * time.Millisecond
)

// Pool are pieces that are still to be done. Those at its front are done here, those at its end are lent.
type Pool struct {
	w           *Work
	p           *Parts
	distributor Distributor
	processors  int // of this machine

	mu     sync.Mutex
	more   *sync.Cond
	free   []span // ascending
	leased []*Lease
	left   int // pieces that are not done
	blocks map[int]*block
	spent  time.Duration // on pieces that were done here, by one goroutine
	done   int           // pieces of those
	err    error
}

type span struct{ first, last int }

// block is what is kept under one key.
type block struct {
	span
	left    int
	helpers []string
}

// Lease are pieces that somebody else does.
type Lease struct {
	First, Last int
	// Expected is how long they would take here, on one processor.
	Expected time.Duration
	since    time.Time
	begun    bool
	void     bool // they came back, or were taken back
	checking bool
}

func newPool(w *Work, p *Parts, distributor Distributor) *Pool {
	o := &Pool{w: w, p: p, distributor: distributor, processors: w.env.Workers, blocks: map[int]*block{}}
	if o.processors <= 0 {
		o.processors = runtime.GOMAXPROCS(0)
	}
	o.more = sync.NewCond(&o.mu)
	return o
}

func (o *Pool) add(first, last int) {
	o.free = append(o.free, span{first, last})
	o.left += last - first
	o.blocks[first/cmp.Or(o.p.Block, o.p.N)] = &block{span: span{first, last}, left: last - first}
}

func (o *Pool) wake() {
	o.mu.Lock()
	o.more.Broadcast()
	o.mu.Unlock()
}

// wait waits until something changes, or for a while.
func (o *Pool) wait(d time.Duration) {
	t := time.AfterFunc(d, o.wake)
	o.more.Wait()
	t.Stop()
}

// cost is what a piece takes here; 0 while that is not known.
func (o *Pool) cost() time.Duration {
	if o.spent < measured {
		return 0
	}
	return max(o.spent/time.Duration(o.done), 1)
}

// work does pieces until none are left.
func (o *Pool) work(ctx context.Context) {
	for {
		s, ok := o.next(ctx)
		if !ok {
			return
		}
		start := time.Now()
		o.p.Do(s.first, s.last)
		took := time.Since(start)
		if ctx.Err() != nil {
			return // it may not have come to its end
		}
		o.mu.Lock()
		o.spent, o.done = o.spent+took, o.done+s.last-s.first
		o.mu.Unlock()
		o.finish(s)
	}
}

// next gives the next pieces to do here.
func (o *Pool) next(ctx context.Context) (s span, ok bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for {
		if o.left == 0 || o.err != nil || ctx.Err() != nil {
			return span{}, false
		}
		if len(o.free) == 0 {
			o.takeBack()
		}
		if len(o.free) > 0 {
			f := &o.free[0]
			s = span{f.first, min(f.first+o.p.Size, f.last)}
			if f.first = s.last; f.first == f.last {
				o.free = o.free[1:]
			}
			return s, true
		}
		o.wait(idle / 3)
	}
}

// takeBack frees pieces that somebody else should have done by now, or has not begun although there
// is nothing else to do here.
func (o *Pool) takeBack() {
	for _, l := range o.leased {
		age := time.Since(l.since)
		if !l.checking && (!l.begun && age > idle || age > 3*l.Expected+2*time.Second) {
			o.back(l)
			return
		}
	}
}

// back frees what was lent.
func (o *Pool) back(l *Lease) {
	if l.void {
		return
	}
	l.void = true
	o.leased = slices.DeleteFunc(o.leased, func(x *Lease) bool { return x == l })
	o.free = append(o.free, span{l.First, l.Last})
	slices.SortFunc(o.free, func(a, b span) int { return a.first - b.first })
	o.more.Broadcast()
}

// Ready waits until there is something worth lending, of which the least takes so long; false when
// that will not come any more, or ctx ended.
func (o *Pool) Ready(ctx context.Context, lowest time.Duration) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	for ctx.Err() == nil && o.left > 0 && o.err == nil {
		if o.worth(lowest) {
			return true
		}
		o.wait(time.Second)
	}
	return false
}

// worth says whether it is known what pieces cost, and enough of them are free.
func (o *Pool) worth(lowest time.Duration) bool {
	free := 0
	for _, s := range o.free {
		free += s.last - s.first
	}
	return o.cost() > 0 && time.Duration(free)*o.cost() >= 2*lowest
}

// Lease lends pieces that take about as long as is wanted, of one processor's time; fewer toward the
// end, but not less than the least, so that all who work, so many slots besides those here, end at
// the same time. It gives nil when nothing is worth lending.
func (o *Pool) Lease(want, lowest time.Duration, slots int) *Lease {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.left == 0 || o.err != nil || !o.worth(lowest) {
		return nil
	}
	free, cost := 0, o.cost()
	for _, s := range o.free {
		free += s.last - s.first
	}
	all := 3 * (slots + o.processors)
	n := max(min(int(want/cost), (free+all-1)/all), int(lowest/cost), 1)
	f := &o.free[len(o.free)-1]
	n = min(n, f.last-f.first)
	l := &Lease{First: f.last - n, Last: f.last, Expected: time.Duration(n) * cost, since: time.Now()}
	if f.last -= n; f.first == f.last {
		o.free = o.free[:len(o.free)-1]
	}
	o.leased = append(o.leased, l)
	return l
}

// Started says that somebody does what was lent; false when nobody needs to any more.
func (o *Pool) Started(l *Lease) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	l.begun = true
	return !l.void
}

// Return gives back what was lent and could not be done.
func (o *Pool) Return(l *Lease) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.back(l)
}

// Reissue says that returned pieces are lent once more, to another worker that confirms them; false
// when the pool no longer needs that.
func (o *Pool) Reissue(l *Lease) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	l.begun, l.since = false, time.Now()
	return !l.void
}

// Complete takes the results of lent pieces. It repeats some of them to check them: all if doubted is
// set, none if two helpers agree. Wrong pieces go back to the pool. Pieces that were taken back
// meanwhile are neither used nor checked.
func (o *Pool) Complete(l *Lease, data []byte, doubted bool, helpers ...string) (right, used bool) {
	o.mu.Lock()
	if l.void {
		o.mu.Unlock()
		return true, false
	}
	l.checking = true
	o.mu.Unlock()
	right = o.p.Unpack(l.First, l.Last, data)
	switch {
	case !right:
	case doubted:
		right = o.check(l, l.Last-l.First)
	case len(helpers) == 1 && o.doubts(l):
		right = o.check(l, (l.Last-l.First+sample-1)/sample)
	}
	o.mu.Lock()
	if !right {
		o.back(l)
		o.mu.Unlock()
		return false, false
	}
	l.void = true
	o.leased = slices.DeleteFunc(o.leased, func(x *Lease) bool { return x == l })
	o.mu.Unlock()
	o.finish(span{l.First, l.Last}, helpers...)
	return true, true
}

// doubts says whether pieces that came are to be looked at: always where that is cheap, else now and then.
func (o *Pool) doubts(l *Lease) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	n := l.Last - l.First
	return time.Duration((n+sample-1)/sample)*o.cost() <= cheap || rand.N(sample) < n
}

// check does some pieces again.
func (o *Pool) check(l *Lease, some int) bool {
	at := l.First + rand.N(l.Last-l.First-some+1)
	came := o.p.Pack(at, at+some)
	o.p.Do(at, at+some)
	return bytes.Equal(came, o.p.Pack(at, at+some))
}

// finish counts finished pieces, and stores the blocks that are complete.
func (o *Pool) finish(s span, helpers ...string) {
	n := s.last - s.first
	o.w.Step(o.p.Weight * int64(n))
	size := cmp.Or(o.p.Block, o.p.N)
	var whole []*block
	o.mu.Lock()
	for k := s.first / size; k*size < s.last; k++ {
		b := o.blocks[k]
		b.left -= min(s.last, b.last) - max(s.first, b.first)
		for _, h := range helpers {
			if !slices.Contains(b.helpers, h) {
				b.helpers = append(b.helpers, h)
			}
		}
		if b.left == 0 {
			whole = append(whole, b)
		}
	}
	o.mu.Unlock()
	var err error
	for _, b := range whole {
		key, data := o.p.Key(b.first), o.p.Pack(b.first, b.last)
		if !o.p.Passing && o.w.env.Store != nil {
			err = cmp.Or(err, o.w.env.Store.CachePart(key, data))
		}
		o.distributor.Made(key, data, b.helpers)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.left -= n
	o.err = cmp.Or(o.err, err)
	o.more.Broadcast()
}
