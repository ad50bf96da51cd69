package farm

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"vornix/core/job"
)

// Options for Join.
type Options struct {
	Key     *Key
	Version string // of the program and its steps: only workers of the same do anything for it
}

const (
	// ahead is how many units for each hand are sent: one that is done, and one that waits.
	ahead = 2
	// leastWork and mostWork are how long the work of a unit should take, on one processor: at least so many times the trip.
	leastWork = 400 * time.Millisecond
	mostWork  = 5 * time.Second
	trips     = 20
	// leastTrips is how many times the trip the work of a unit takes at least.
	leastTrips = 4
	// rechecked is which part of a worker's jobs is done here again: the first, and each of so many after that.
	rechecked = 20
	// mostBatch is how many jobs are sent in one unit.
	mostBatch = 64
	// giveUp is how many units in a row may fail to be sent before the farm is left alone for a while, which is pause.
	giveUp = 3
	pause  = 20 * time.Second
)

// Crew is a farm, as a build sees it. It is a job.Crew.
type Crew struct {
	o     Options
	l     *line
	build string
	ctx   context.Context
	end   context.CancelFunc
	group sync.WaitGroup

	mu      sync.Mutex
	more    *sync.Cond
	mates   map[string]*mate
	pending []*offer
	units   map[string]*sent
	count   int
	cost    map[string]time.Duration // of a job, by step
	trip    time.Duration            // about how long a unit is on its way, besides the work
	stored  map[string]bool          // contents that are in the farm's store
	fails   int
	resting time.Time
	off     error // why the farm was left alone, when it was
	closed  bool
}

// mate is a worker, as a build sees it.
type mate struct {
	Here
	seen  time.Time
	share Share
}

// Share is what a worker did for a build.
type Share struct {
	Worker   string  `json:"worker"`
	System   string  `json:"system,omitempty"`
	Hands    int     `json:"hands"`
	Jobs     int     `json:"jobs"`
	Parts    int     `json:"parts"`
	Seconds  float64 `json:"seconds"` // of work
	Declined string  `json:"declined,omitempty"`
	Shut     string  `json:"shut,omitempty"` // why nothing of it is taken any more
}

// sent is a unit that was sent.
type sent struct {
	unit
	offers   []*offer
	lent     func() (wanted bool) // of pieces: told that somebody begins
	begun    func(by string)      // the same, for people
	came     func(d *done)        // of pieces: told what came, or nil when nothing will
	name     string
	at       time.Time
	seq      uint64
	worker   string // who is at it
	declined map[string]bool
	over     bool
}

// Join takes a build into a farm.
func Join(ctx context.Context, o Options) (*Crew, error) {
	l, err := dial(ctx, o.Key, "vornix build", answer)
	if err != nil {
		return nil, err
	}
	id := make([]byte, 8)
	if _, err := rand.Read(id); err != nil {
		l.close()
		return nil, err
	}
	c := &Crew{o: o, l: l, build: hex.EncodeToString(id), mates: map[string]*mate{}, units: map[string]*sent{}, cost: map[string]time.Duration{}, stored: map[string]bool{}, trip: 20 * time.Millisecond}
	c.more = sync.NewCond(&c.mu)
	c.ctx, c.end = context.WithCancel(ctx)
	for name, handle := range map[string]nats.MsgHandler{hereSubject: c.here, subject(c.build, askWord): c.asked, subject(c.build, doneWord): c.done, subject(c.build, tellWord): c.told} {
		if _, err := l.nc.Subscribe(name, handle); err != nil {
			c.end()
			l.close()
			return nil, away(o.Key, err)
		}
	}
	context.AfterFunc(c.ctx, c.wake)
	c.roll()
	c.group.Go(c.watch)
	c.group.Go(c.send)
	return c, nil
}

// roll asks who is there.
func (c *Crew) roll() {
	m := nats.NewMsg(rollSubject)
	m.Reply, m.Data = hereSubject, pack(roll{c.o.Version})
	_ = c.l.nc.PublishMsg(m) // workers say that they are there by themselves, too
}

// here is told that a worker is there.
func (c *Crew) here(m *nats.Msg) {
	var h Here
	if json.Unmarshal(m.Data, &h) != nil || h.Worker == "" {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.mates[h.Worker]
	if w == nil {
		w = &mate{share: Share{Worker: h.Worker, System: h.System, Hands: h.Hands}}
		c.mates[h.Worker] = w
	}
	w.Here, w.seen = h, time.Now()
	if h.Declines != "" {
		w.share.Declined = h.Declines
	}
	if h.Leaving {
		w.seen = time.Time{}
	}
	c.more.Broadcast()
}

func (c *Crew) wake() {
	c.mu.Lock()
	c.more.Broadcast()
	c.mu.Unlock()
}

// useful says whether a worker can be counted on. The caller holds the lock.
func (c *Crew) useful(w *mate) bool {
	return w.share.Shut == "" && w.Resting == "" && w.Version == c.o.Version && time.Since(w.seen) < gone
}

// hands is how many units can be done at once. The caller holds the lock.
func (c *Crew) hands() (n int) {
	if !c.l.nc.IsConnected() || time.Now().Before(c.resting) {
		return 0
	}
	for _, w := range c.mates {
		if c.useful(w) {
			n += w.Hands
		}
	}
	return n
}

// Hands is how many units the farm's workers can do at once.
func (c *Crew) Hands() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.hands()
}

// room is how many units may be sent now. The caller holds the lock.
func (c *Crew) room() int { return ahead*c.hands() - len(c.units) }

// watch gives up units whose workers are gone.
func (c *Crew) watch() {
	tick := time.NewTicker(here / 2)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-c.ctx.Done():
			return
		case <-tick.C:
		}
		c.mu.Lock()
		var lost []*sent
		for _, u := range c.units {
			w := c.mates[u.worker]
			switch {
			case u.worker != "" && (w == nil || time.Since(w.seen) >= gone || w.share.Shut != ""):
				lost = append(lost, u)
			case u.worker == "" && c.hands() == 0 && time.Since(u.at) > gone:
				lost = append(lost, u)
			}
		}
		c.more.Broadcast()
		c.mu.Unlock()
		for _, u := range lost {
			c.fail(u, errors.New("the worker is gone"))
		}
		if n%5 == 4 { // workers that came since then have not said whether they decline
			c.roll()
		}
	}
}

// offer is a job that waits for somebody, or is being done.
type offer struct {
	c        *Crew
	ask      *job.Ask
	begun    chan struct{}
	done     chan job.Outcome
	begin    sync.Once
	finish   sync.Once
	unit     *sent
	expected time.Duration
	gone     bool // withdrawn or dropped
}

// Offer offers a job to whoever has a hand free.
func (c *Crew) Offer(a *job.Ask) job.Offer {
	o := &offer{c: c, ask: a, begun: make(chan struct{}), done: make(chan job.Outcome, 1)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		o.gone = true
		return o
	}
	c.pending = append(c.pending, o)
	c.more.Broadcast()
	return o
}

func (o *offer) Begun() <-chan struct{}   { return o.begun }
func (o *offer) Done() <-chan job.Outcome { return o.done }

func (o *offer) Expected() time.Duration {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	return o.expected
}

func (o *offer) Withdraw() bool {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	select {
	case <-o.begun:
		return false
	default:
	}
	o.drop()
	return true
}

func (o *offer) Drop() {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	o.drop()
}

// drop forgets an offer; a unit without any left is not wanted any more. The caller holds the lock.
func (o *offer) drop() {
	o.gone = true
	o.c.pending = slices.DeleteFunc(o.c.pending, func(x *offer) bool { return x == o })
	if u := o.unit; u != nil && !u.over && !slices.ContainsFunc(u.offers, func(x *offer) bool { return !x.gone }) {
		o.c.over(u)
	}
}

// came gives an offer its outcome.
func (o *offer) came(out job.Outcome) {
	o.begin.Do(func() { close(o.begun) })
	o.finish.Do(func() { o.done <- out })
}

// over ends a unit. The caller holds the lock.
func (c *Crew) over(u *sent) {
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
func (c *Crew) cancel(u *sent) {
	ctx, cancel := context.WithTimeout(c.ctx, answer)
	defer cancel()
	if u.worker != "" {
		_ = c.l.nc.Publish(subject(c.build, stopWord), pack(stop{u.ID})) // one who does not hear it works for nothing
	}
	_ = c.l.work.DeleteMsg(ctx, u.seq) // one who takes it asks, and is told
}

// fail ends a unit without a result.
func (c *Crew) fail(u *sent, err error) {
	c.mu.Lock()
	if u.over {
		c.mu.Unlock()
		return
	}
	c.over(u)
	c.mu.Unlock()
	for _, o := range u.offers {
		o.came(job.Outcome{Err: err})
	}
	if u.came != nil {
		u.came(nil)
	}
}

// send sends what is pending, as far as there are hands for it.
func (c *Crew) send() {
	for {
		c.mu.Lock()
		for c.ctx.Err() == nil && (c.pick() < 0 || c.room() <= 0) {
			c.more.Wait()
		}
		if c.ctx.Err() != nil {
			c.mu.Unlock()
			return
		}
		u := c.batch()
		c.mu.Unlock()
		c.group.Go(func() {
			asks := make([]*job.Ask, len(u.offers))
			for i, o := range u.offers {
				asks[i] = o.ask
			}
			if err := c.publish(c.ctx, u, asks, asks[0].Open, nil); err != nil {
				c.fail(u, err)
			}
		})
	}
}

// work is how long the work of a unit should take. The caller holds the lock.
func (c *Crew) work() time.Duration { return min(max(trips*c.trip, leastWork), mostWork) }

// pick is the last of the pending jobs that a worker would do; -1 when there is none. The caller holds the lock.
func (c *Crew) pick() int {
	for i := len(c.pending) - 1; i >= 0; i-- {
		if c.pending[i].ask.Step != job.OwnStep {
			return i
		}
		for _, w := range c.mates {
			if w.Own && c.useful(w) {
				return i
			}
		}
	}
	return -1
}

// batch makes a unit of the last jobs that are pending: those at the front are next to be done here. Small ones go together, of one step. The caller holds
// the lock.
func (c *Crew) batch() *sent {
	u := c.unit()
	want, sum := c.work(), time.Duration(0)
	// Toward the end all who work should end at the same time.
	most := max(1, min(mostBatch, len(c.pending)/(c.hands()+1)))
	for len(u.offers) < most {
		at := c.pick()
		if at < 0 {
			break
		}
		o := c.pending[at]
		cost := cmp.Or(o.ask.Expected, c.cost[o.ask.Step])
		if len(u.offers) > 0 && (cost == 0 || sum+cost > want || o.ask.Step != u.offers[0].ask.Step) {
			break
		}
		c.pending = slices.Delete(c.pending, at, at+1)
		o.unit = u
		sum += cost
		u.offers = append(u.offers, o)
	}
	for _, o := range u.offers {
		o.expected = sum
	}
	u.name = u.offers[0].ask.ID
	return u
}

// unit begins a unit. The caller holds the lock.
func (c *Crew) unit() *sent {
	c.count++
	u := &sent{unit: unit{Version: c.o.Version, Build: c.build, ID: strconv.Itoa(c.count)}, at: time.Now(), declined: map[string]bool{}}
	c.units[u.ID] = u
	return u
}

// publish puts a unit into the queue, after all that it is made of.
func (c *Crew) publish(ctx context.Context, u *sent, asks []*job.Ask, open func(sum string) (io.ReadCloser, error), more []content) (err error) {
	defer func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if err == nil {
			c.fails = 0
		} else if ctx.Err() == nil {
			if c.fails++; c.fails >= giveUp {
				c.resting, c.fails, c.off = time.Now().Add(pause), 0, err
			}
		}
	}()
	u.Small = map[string][]byte{}
	left := min(c.l.most/2, 512<<10)
	bring := func(k content, open func(string) (io.ReadCloser, error)) error {
		if _, ok := u.Small[k.SHA256]; ok {
			return nil
		}
		if k.Size <= small && int(k.Size) <= left {
			data, err := all(open, k)
			u.Small[k.SHA256] = data
			left -= int(k.Size) * 3 / 2
			return err
		}
		return c.store(ctx, k, open)
	}
	for _, a := range asks {
		order := pack(a.Order)
		k := contentOf(order)
		u.Orders = append(u.Orders, k)
		if err := bring(k, func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(order)), nil }); err != nil {
			return err
		}
		for _, in := range slices.Concat(a.Inputs, a.Earlier) {
			if err := bring(content{in.SHA256, in.Size}, a.Open); err != nil {
				return err
			}
		}
	}
	for _, k := range more {
		if err := bring(k, open); err != nil {
			return err
		}
	}
	limited, cancel := context.WithTimeout(ctx, answer)
	defer cancel()
	start := time.Now()
	ack, err := c.l.js.Publish(limited, c.subject(), pack(u.unit))
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.trip += (trip(time.Since(start)) - c.trip) / 4
	u.seq = ack.Sequence
	late := u.over
	c.mu.Unlock()
	if late {
		c.cancel(u)
	}
	return nil
}

// subject is where the build's units are published.
func (c *Crew) subject() string { return workSubject + "." + token(c.o.Version) + "." + c.build }

// trip is about how long a unit is on its way besides the work, by how long it took to put it into the queue: it is given to a worker, who asks, hands in,
// and hears that it came.
func trip(published time.Duration) time.Duration { return 4 * published }

// all reads a content that is small.
func all(open func(string) (io.ReadCloser, error), k content) ([]byte, error) {
	r, err := open(k.SHA256)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, k.Size+1))
}

// store puts a content into the farm's store, if it is not there.
func (c *Crew) store(ctx context.Context, k content, open func(string) (io.ReadCloser, error)) error {
	c.mu.Lock()
	there := c.stored[k.SHA256]
	c.mu.Unlock()
	if there {
		return nil
	}
	if !c.l.has(ctx, k) {
		r, err := open(k.SHA256)
		if err != nil {
			return err
		}
		defer r.Close()
		if err := c.l.put(ctx, k, r); err != nil {
			return err
		}
	}
	c.mu.Lock()
	c.stored[k.SHA256] = true
	c.mu.Unlock()
	return nil
}

// asked answers a worker that is about to begin a unit.
func (c *Crew) asked(m *nats.Msg) {
	var a ask
	if json.Unmarshal(m.Data, &a) != nil {
		return
	}
	r, begun, failed, piece := c.decide(&a)
	_ = m.Respond(pack(r)) // a worker without an answer gives the unit back
	if piece != nil {
		piece(a.Worker)
	}
	for _, o := range begun {
		o.begin.Do(func() { close(o.begun) })
		o.ask.Begun(a.Worker)
	}
	if failed != nil {
		c.fail(failed, errors.New(a.Declines))
	}
}

// decide says what of a unit a worker should do.
func (c *Crew) decide(a *ask) (r reply, begun []*offer, failed *sent, piece func(by string)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.mates[a.Worker]
	if w == nil {
		w = &mate{Here: Here{Worker: a.Worker, Version: c.o.Version, Hands: 1}, seen: time.Now(), share: Share{Worker: a.Worker, Hands: 1}}
		c.mates[a.Worker] = w
	}
	if w.share.Shut != "" {
		return reply{Why: w.share.Shut, Shut: true}, nil, nil, nil
	}
	u := c.units[a.Unit]
	if u == nil {
		return reply{Why: "nobody waits for it any more"}, nil, nil, nil
	}
	if a.Declines != "" {
		if w.Own || len(u.offers) == 0 || u.offers[0].ask.Step != job.OwnStep { // else that is what its owner wants
			w.share.Declined = a.Declines
		}
		u.declined[a.Worker] = true
		for _, w := range c.mates {
			if c.useful(w) && !u.declined[w.Worker] && len(u.declined) < 3 {
				return reply{Why: "somebody else does it"}, nil, nil, nil
			}
		}
		return reply{Why: "it is done where it came from"}, nil, u, nil
	}
	if u.lent != nil {
		if !u.lent() {
			c.over(u)
			return reply{Why: "nobody waits for it any more"}, nil, nil, nil
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
		return reply{Why: "nobody waits for it any more"}, nil, nil, nil
	}
	u.worker = a.Worker
	return r, begun, nil, u.begun
}

// told passes on how far somebody is.
func (c *Crew) told(m *nats.Msg) {
	var t tell
	if json.Unmarshal(m.Data, &t) != nil {
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
func (c *Crew) done(m *nats.Msg) {
	var d done
	if json.Unmarshal(m.Data, &d) != nil {
		return
	}
	c.mu.Lock()
	w, u := c.mates[d.Worker], c.units[d.Unit]
	if w != nil && w.share.Shut != "" {
		c.mu.Unlock()
		_ = m.Respond(pack(reply{Why: w.share.Shut, Shut: true}))
		return
	}
	if c.closed || w == nil || u == nil || u.worker != d.Worker {
		c.mu.Unlock()
		_ = m.Respond(pack(reply{Why: "nobody waits for it any more"}))
		return
	}
	u.seq = 0 // its worker takes it out of the queue
	c.over(u)
	w.share.Seconds += d.Took
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
	_ = m.Respond(pack(reply{Go: []string{d.Unit}})) // one who hears nothing hands it in again, and is told that nobody waits
	if u.came != nil {
		c.group.Go(func() { u.came(&d) })
		return
	}
	c.outcomes(u, w, &d)
}

func stepOf(u *sent, id string) string {
	for _, o := range u.offers {
		if o.ask.ID == id {
			return o.ask.Step
		}
	}
	return ""
}

// outcomes gives the offers of a unit what came of them.
func (c *Crew) outcomes(u *sent, w *mate, d *done) {
	for _, o := range u.offers {
		out := job.Outcome{By: d.Worker, Err: errors.New(cmp.Or(d.Err, "it was not done"))}
		if i := slices.IndexFunc(d.Jobs, func(j made) bool { return j.ID == o.ask.ID }); i >= 0 {
			j := &d.Jobs[i]
			out.Outputs, out.Findings, out.Took, out.Err, out.Small = j.Outputs, j.Findings, time.Duration(j.Took*float64(time.Second)), nil, d.Small
			if j.Err != "" {
				out.Err = errors.New(j.Err)
			}
			c.mu.Lock()
			if out.Err == nil {
				out.Check = w.share.Jobs%rechecked == 0
				w.share.Jobs++
			}
			c.mu.Unlock()
		}
		o.came(out)
	}
}

// Fetch brings a file of an outcome.
func (c *Crew) Fetch(ctx context.Context, o job.Output, w io.Writer) error {
	return c.l.get(ctx, content{o.SHA256, o.Size}, w)
}

// Wrong says that what somebody made is not what it should be: nothing of his is taken any more.
func (c *Crew) Wrong(by, why string) {
	c.mu.Lock()
	w := c.mates[by]
	var lost []*sent
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

// Shut says whose work is not taken any more.
func (c *Crew) Shut() (names []string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, w := range c.mates {
		if w.share.Shut != "" {
			names = append(names, name)
		}
	}
	return names
}

// Ended is what a farm did for a build.
type Ended struct {
	Shares []Share `json:"workers"`
	Off    error   `json:"-"` // why the farm was left alone for a while; nil when it was not
}

// Close leaves the farm. Nothing of the build is left there but contents, which others may want too.
func (c *Crew) Close() Ended {
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
	_ = c.l.nc.Publish(subject(c.build, stopWord), pack(stop{})) // one who does not hear it asks before he begins anything
	if c.l.nc.IsConnected() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		_ = c.l.work.Purge(ctx, jetstream.WithPurgeSubject(c.subject())) // what is left is given up after a while
		cancel()
	}
	c.l.close()
	e := Ended{Off: c.off}
	for _, name := range slices.Sorted(maps.Keys(c.mates)) {
		e.Shares = append(e.Shares, c.mates[name].share)
	}
	return e
}
