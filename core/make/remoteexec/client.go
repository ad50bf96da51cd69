package remoteexec

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"vornix/core/make/taskgraph"
)

// Options for Join.
type Options struct {
	Key     *Key
	Version string // of the program and its steps: only workers of the same do anything for it
	// Recheck is which share of others' work is done a second time, from 0 to 1; 0: Rechecked.
	Recheck float64
}

const (
	// ahead is how many units for each slot are sent: one that is done, and one that waits.
	ahead = 2
	// minWork and maxWork are how long the work of a unit should take, on one processor: at
	// least so many times the trip.
	minWork = 400 * time.Millisecond
	maxWork = 5 * time.Second
	trips   = 20
	// minTrips is how many times the trip the work of a unit takes at least.
	minTrips = 4
	// maxBatch is how many jobs are sent in one unit.
	maxBatch = 64
	// giveUp is how many units in a row may fail to be sent before the farm is left alone for a while, which is pause.
	giveUp = 3
	pause  = 20 * time.Second
)

// Client is a farm, as a build sees it. It is a taskgraph.Executor.
type Client struct {
	o     Options
	l     *connection
	build string
	ctx   context.Context
	end   context.CancelFunc
	group sync.WaitGroup

	mu      sync.Mutex
	more    *sync.Cond
	workers map[string]*workerState
	pending []*execution
	units   map[string]*submission
	count   int
	cost    map[string]time.Duration // of a job, by step
	trip    time.Duration            // about how long a unit is on its way, besides the work
	stored  map[string]bool          // contents that are in the farm's store
	fails   int
	resting time.Time
	off     error // why the farm was left alone, when it was
	closed  bool
	joined  time.Time
}

// workerState is a worker, as a build sees it.
type workerState struct {
	WorkerInfo
	seen  time.Time
	share WorkerShare
}

// WorkerShare is what a worker did for a build.
type WorkerShare struct {
	Worker   string  `json:"worker"`
	System   string  `json:"system,omitempty"`
	Slots    int     `json:"hands"`
	Jobs     int     `json:"jobs"`
	Parts    int     `json:"parts"`
	Seconds  float64 `json:"seconds"` // of work
	Declined string  `json:"declined,omitempty"`
	Shut     string  `json:"shut,omitempty"` // why nothing of it is taken any more
}

// submission is a unit that was sent.
type submission struct {
	unit
	offers   []*execution
	lent     func() (wanted bool) // of pieces: told that somebody begins
	begun    func(by string)      // the same, for people
	came     func(d *report)      // of pieces: told what came, or nil when nothing will
	name     string
	at       time.Time
	seq      uint64
	worker   string // the worker that has the job
	not      string // of pieces: the worker that made them, which may not confirm them
	declined map[string]bool
	over     bool
}

// Join takes a build into a farm.
func Join(ctx context.Context, o Options) (*Client, error) {
	l, err := dial(ctx, o.Key, "vornix build", answerTimeout)
	if err != nil {
		return nil, err
	}
	id := make([]byte, 8)
	if _, err := rand.Read(id); err != nil {
		l.close()
		return nil, err
	}
	c := &Client{o: o, l: l, build: hex.EncodeToString(id), workers: map[string]*workerState{},
		units: map[string]*submission{},
		cost:  map[string]time.Duration{}, stored: map[string]bool{}, trip: 20 * time.Millisecond, joined: time.Now()}
	c.more = sync.NewCond(&c.mu)
	c.ctx, c.end = context.WithCancel(ctx)
	for name, handle := range map[string]nats.MsgHandler{hereSubject: c.here, subject(c.build, askWord): c.asked,
		subject(c.build, doneWord): c.done, subject(c.build, tellWord): c.told} {
		if _, err := l.nc.Subscribe(name, handle); err != nil {
			c.end()
			l.close()
			return nil, away(o.Key, err)
		}
	}
	context.AfterFunc(c.ctx, c.wake)
	c.rollCall()
	c.group.Go(c.watch)
	c.group.Go(c.send)
	return c, nil
}

// rollCall asks who is there.
func (c *Client) rollCall() {
	m := nats.NewMsg(rollSubject)
	m.Reply, m.Data = hereSubject, pack(presenceRequest{c.o.Version})
	_ = c.l.nc.PublishMsg(m) // workers say that they are there by themselves, too
}

// here is told that a worker is there.
func (c *Client) here(m *nats.Msg) {
	var h WorkerInfo
	if decode(m.Data, &h) != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.workers[h.Worker]
	if w == nil {
		w = &workerState{share: WorkerShare{Worker: h.Worker, System: h.System, Slots: h.Slots}}
		c.workers[h.Worker] = w
	}
	w.WorkerInfo, w.seen = h, time.Now()
	if h.Declines != "" {
		w.share.Declined = h.Declines
	}
	if h.Leaving {
		w.seen = time.Time{}
	}
	c.more.Broadcast()
}

func (c *Client) wake() {
	c.mu.Lock()
	c.more.Broadcast()
	c.mu.Unlock()
}

// useful says whether a worker can be counted on. The caller holds the lock.
func (c *Client) useful(w *workerState) bool {
	return w.share.Shut == "" && w.Resting == "" && w.Version == c.o.Version && time.Since(w.seen) < presenceTimeout
}

// slots is how many units can be done at once. The caller holds the lock.
func (c *Client) slots() (n int) {
	if !c.l.nc.IsConnected() || time.Now().Before(c.resting) {
		return 0
	}
	for _, w := range c.workers {
		if c.useful(w) {
			n += w.Slots
		}
	}
	return n
}

// Slots is how many units the farm's workers can do at once.
func (c *Client) Slots() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.slots()
}

// room is how many units may be sent now. The caller holds the lock.
func (c *Client) room() int { return ahead*c.slots() - len(c.units) }

// watch gives up units whose workers are gone.
func (c *Client) watch() {
	tick := time.NewTicker(presenceInterval / 2)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-c.ctx.Done():
			return
		case <-tick.C:
		}
		c.mu.Lock()
		var lost []*submission
		for _, u := range c.units {
			w := c.workers[u.worker]
			switch {
			case u.worker != "" && (w == nil || time.Since(w.seen) >= presenceTimeout || w.share.Shut != ""):
				lost = append(lost, u)
			case u.worker == "" && c.slots() == 0 && time.Since(u.at) > presenceTimeout:
				lost = append(lost, u)
			}
		}
		c.more.Broadcast()
		c.mu.Unlock()
		for _, u := range lost {
			c.fail(u, errors.New("the worker is gone"))
		}
		if n%5 == 4 { // workers that came since then have not said whether they decline
			c.rollCall()
		}
	}
}

// over ends a unit. The caller holds the lock.
func (c *Client) over(u *submission) {
	if u.over {
		return
	}
	u.over = true
	delete(c.units, u.ID)
	c.more.Broadcast()
	if u.seq != 0 && !c.closed {
		c.group.Go(func() { c.cancel(u) })
	}
}

// cancel takes a unit that nobody wants out of the queue, and away from who is at it.
func (c *Client) cancel(u *submission) {
	ctx, cancel := context.WithTimeout(c.ctx, answerTimeout)
	defer cancel()
	if u.worker != "" {
		// one who does not hear it works for nothing
		_ = c.l.nc.Publish(subject(c.build, stopWord), pack(stopMessage{u.ID}))
	}
	_ = c.l.work.DeleteMsg(ctx, u.seq) // one who takes it asks, and is told
}

// fail ends a unit without a result.
func (c *Client) fail(u *submission, err error) {
	c.mu.Lock()
	if u.over {
		c.mu.Unlock()
		return
	}
	c.over(u)
	came := u.came
	c.mu.Unlock()
	for _, o := range u.offers {
		o.came(taskgraph.RemoteResult{Err: err})
	}
	if came != nil {
		came(nil)
	}
}

// asked answers a worker that is about to begin a unit.
func (c *Client) asked(m *nats.Msg) {
	var a startRequest
	if decode(m.Data, &a) != nil {
		return
	}
	r, begun, failed, piece := c.decide(&a)
	_ = m.Respond(pack(r)) // a worker without an answer gives the unit back
	if piece != nil {
		piece(a.Worker)
	}
	for _, o := range begun {
		o.begin.Do(func() { close(o.begun) })
		o.ask.Started(a.Worker)
	}
	if failed != nil {
		c.fail(failed, errors.New(a.Declines))
	}
}

// decide says what of a unit a worker should do.
func (c *Client) decide(a *startRequest) (r startReply, begun []*execution, failed *submission, piece func(by string)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.workers[a.Worker]
	if w == nil {
		w = &workerState{WorkerInfo: WorkerInfo{Worker: a.Worker, Version: c.o.Version, Slots: 1}, seen: time.Now(),
			share: WorkerShare{Worker: a.Worker, Slots: 1}}
		c.workers[a.Worker] = w
	}
	if w.share.Shut != "" {
		return startReply{Why: w.share.Shut, Shut: true}, nil, nil, nil
	}
	u := c.units[a.Unit]
	if u == nil {
		return startReply{Why: "the build no longer waits for it"}, nil, nil, nil
	}
	if len(u.offers) > 0 && u.offers[0].ask.Exclude == a.Worker || u.not == a.Worker { // it would confirm itself
		u.declined[a.Worker] = true
		if c.another(u) {
			return startReply{Why: "another worker does it", Else: true}, nil, nil, nil
		}
		return startReply{Why: "it is done where it came from"}, nil, u, nil
	}
	if a.Declines != "" {
		// otherwise its owner configured it to decline
		if w.Own || len(u.offers) == 0 || u.offers[0].ask.Step != taskgraph.OwnStep {
			w.share.Declined = a.Declines
			clear(c.stored) // something may be gone from the farm's store: it is looked at again
		}
		u.declined[a.Worker] = true
		if c.another(u) {
			return startReply{Why: "another worker does it"}, nil, nil, nil
		}
		return startReply{Why: "it is done where it came from"}, nil, u, nil
	}
	if u.lent != nil {
		if !u.lent() {
			c.over(u)
			return startReply{Why: "the build no longer waits for it"}, nil, nil, nil
		}
		r.Go = append(r.Go, u.name)
	}
	for _, o := range u.offers {
		if !o.gone {
			r.Go, begun = append(r.Go, o.ask.ID), append(begun, o)
		}
	}
	if len(r.Go) == 0 {
		c.over(u)
		return startReply{Why: "the build no longer waits for it"}, nil, nil, nil
	}
	u.worker = a.Worker
	return r, begun, nil, u.begun
}

// another says whether a worker is there that has not declined a unit. The caller holds the lock.
func (c *Client) another(u *submission) bool {
	for _, w := range c.workers {
		if c.useful(w) && !u.declined[w.Worker] && len(u.declined) < 3 {
			return true
		}
	}
	return false
}

// besides says whether the farm has another useful worker. The caller holds the lock.
func (c *Client) besides(name string) bool {
	for _, w := range c.workers {
		if w.Worker != name && c.useful(w) {
			return true
		}
	}
	return false
}

// told passes on how far somebody is.
func (c *Client) told(m *nats.Msg) {
	var t progressMessage
	if decode(m.Data, &t) != nil {
		return
	}
	c.mu.Lock()
	u := c.units[t.Unit]
	var advance func(string, int64, int64)
	if u != nil && u.worker == t.Worker {
		for _, o := range u.offers {
			if o.ask.ID == t.ID && !o.gone {
				advance = o.ask.Advance
			}
		}
	}
	c.mu.Unlock()
	if advance != nil {
		advance(t.Stage, t.Done, t.Total)
	}
}

// done takes what a worker hands in.
func (c *Client) done(m *nats.Msg) {
	var d report
	if decode(m.Data, &d) != nil {
		return
	}
	c.mu.Lock()
	w, u := c.workers[d.Worker], c.units[d.Unit]
	if w != nil && w.share.Shut != "" {
		c.mu.Unlock()
		_ = m.Respond(pack(startReply{Why: w.share.Shut, Shut: true}))
		return
	}
	if c.closed || w == nil || u == nil || u.worker != d.Worker {
		c.mu.Unlock()
		_ = m.Respond(pack(startReply{Why: "the build no longer waits for it"}))
		return
	}
	u.seq = 0 // its worker takes it out of the queue
	c.over(u)
	w.share.Seconds += d.Took
	if d.Err != "" {
		clear(c.stored) // as where one declines
	}
	if d.Err == "" && u.came == nil {
		for _, j := range d.Jobs {
			step := stepOf(u, j.ID)
			each := time.Duration(j.Took * float64(time.Second))
			if c.cost[step] == 0 {
				c.cost[step] = each
			}
			c.cost[step] += (each - c.cost[step]) / 4
		}
	}
	c.mu.Unlock()
	// one who hears nothing hands it in again, and is told that nobody waits
	_ = m.Respond(pack(startReply{Go: []string{d.Unit}}))
	if u.came != nil {
		c.group.Go(func() { u.came(&d) })
		return
	}
	c.outcomes(u, w, &d)
}

func stepOf(u *submission, id string) string {
	for _, o := range u.offers {
		if o.ask.ID == id {
			return o.ask.Step
		}
	}
	return ""
}

// outcomes gives the offers of a unit what came of them.
func (c *Client) outcomes(u *submission, w *workerState, d *report) {
	for _, o := range u.offers {
		out := taskgraph.RemoteResult{Worker: d.Worker, Err: errors.New(cmp.Or(d.Err, "it was not done"))}
		if i := slices.IndexFunc(d.Jobs, func(j jobReport) bool { return j.ID == o.ask.ID }); i >= 0 {
			j := &d.Jobs[i]
			out.Outputs, out.Findings, out.Took, out.Err, out.Inline = j.Outputs, j.Findings,
				time.Duration(j.Took*float64(time.Second)), nil, d.Inline
			if j.Err != "" {
				out.Err = errors.New(j.Err)
			}
			c.mu.Lock()
			if out.Err == nil {
				out.Check = again(w.share.Jobs, cmp.Or(c.o.Recheck, Rechecked))
				w.share.Jobs++
			}
			c.mu.Unlock()
		}
		o.came(out)
	}
}

// Fetch brings a file of an outcome.
func (c *Client) Fetch(ctx context.Context, o taskgraph.Output, w io.Writer) error {
	return c.l.get(ctx, content{o.SHA256, o.Size}, w)
}

// Reject says that what somebody made is not what it should be: nothing of his is taken any more.
func (c *Client) Reject(by, why string) {
	c.mu.Lock()
	w := c.workers[by]
	var lost []*submission
	if w != nil {
		w.share.Shut = cmp.Or(w.share.Shut, why)
		for _, u := range c.units {
			if u.worker == by {
				lost = append(lost, u)
			}
		}
	}
	c.more.Broadcast()
	c.mu.Unlock()
	for _, u := range lost {
		c.fail(u, errors.New(why))
	}
}

// Rejected says whose work is not taken any more.
func (c *Client) Rejected() (names []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, w := range c.workers {
		if w.share.Shut != "" {
			names = append(names, name)
		}
	}
	return names
}

// Summary is what a farm did for a build.
type Summary struct {
	Shares []WorkerShare
	Lasted time.Duration
	Off    error // why the farm was left alone for a while; nil when it was not
}

// Close leaves the farm. Nothing of the build is left there but contents, which others may want too.
func (c *Client) Close() Summary {
	c.mu.Lock()
	for _, o := range c.pending {
		o.gone = true
	}
	c.closed, c.pending = true, nil
	left := slices.Collect(maps.Values(c.units))
	c.mu.Unlock()
	for _, u := range left {
		c.fail(u, context.Canceled)
	}
	c.end()
	c.wake()
	c.group.Wait()
	// one who does not hear it asks before he begins anything
	_ = c.l.nc.Publish(subject(c.build, stopWord), pack(stopMessage{}))
	if c.l.nc.IsConnected() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		_ = c.l.work.Purge(ctx, jetstream.WithPurgeSubject(c.subject())) // what is left is given up after a while
		cancel()
	}
	c.l.close()
	e := Summary{Lasted: time.Since(c.joined), Off: c.off}
	for _, name := range slices.Sorted(maps.Keys(c.workers)) {
		e.Shares = append(e.Shares, c.workers[name].share)
	}
	return e
}
