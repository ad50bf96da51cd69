package remoteexec

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"slices"
	"strconv"
	"sync"
	"time"

	"vornix/core/make/taskgraph"
)

// execution is a job that waits for somebody, or is being done.
type execution struct {
	c        *Client
	ask      *taskgraph.Request
	begun    chan struct{}
	done     chan taskgraph.RemoteResult
	begin    sync.Once
	finish   sync.Once
	unit     *submission
	expected time.Duration
	gone     bool // withdrawn or dropped
}

// Submit offers a job to whoever has a free slot.
func (c *Client) Submit(a *taskgraph.Request) taskgraph.Execution {
	o := &execution{c: c, ask: a, begun: make(chan struct{}), done: make(chan taskgraph.RemoteResult, 1)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		o.gone = true
		return o
	}
	if a.Exclude != "" && !c.besides(a.Exclude) {
		o.gone = true
		o.came(taskgraph.RemoteResult{Err: errors.New("no other worker is there")})
		return o
	}
	c.pending = append(c.pending, o)
	c.more.Broadcast()
	return o
}

func (o *execution) Started() <-chan struct{}            { return o.begun }
func (o *execution) Done() <-chan taskgraph.RemoteResult { return o.done }

func (o *execution) Expected() time.Duration {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	return o.expected
}

func (o *execution) Withdraw() bool {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	select {
	case <-o.begun:
		return false
	default:
	}
	o.forget()
	return true
}

func (o *execution) Cancel() {
	o.c.mu.Lock()
	defer o.c.mu.Unlock()
	o.forget()
}

// forget drops an execution; a unit without any left is not wanted any more. The caller holds the lock.
func (o *execution) forget() {
	o.gone = true
	o.c.pending = slices.DeleteFunc(o.c.pending, func(x *execution) bool { return x == o })
	if u := o.unit; u != nil && !u.over && !slices.ContainsFunc(u.offers, func(x *execution) bool { return !x.gone }) {
		o.c.over(u)
	}
}

// came gives an offer its outcome.
func (o *execution) came(out taskgraph.RemoteResult) {
	o.begin.Do(func() { close(o.begun) })
	o.finish.Do(func() { o.done <- out })
}

// send sends what is pending, as far as there are slots for it.
func (c *Client) send() {
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
			asks := make([]*taskgraph.Request, len(u.offers))
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
func (c *Client) work() time.Duration { return min(max(trips*c.trip, minWork), maxWork) }

// pick is the last of the pending jobs that a worker would do; -1 when there is none. The caller holds the lock.
func (c *Client) pick() int {
	for i := len(c.pending) - 1; i >= 0; i-- {
		if c.pending[i].ask.Step != taskgraph.OwnStep {
			return i
		}
		for _, w := range c.workers {
			if w.Own && c.useful(w) {
				return i
			}
		}
	}
	return -1
}

// batch makes a unit of the last jobs that are pending: those at the front are next to be done
// here. Small ones go together, of one step. The caller holds the lock.
func (c *Client) batch() *submission {
	u := c.unit()
	want, sum := c.work(), time.Duration(0)
	// Toward the end all who work should end at the same time.
	limit := max(1, min(maxBatch, len(c.pending)/(c.slots()+1)))
	for len(u.offers) < limit {
		at := c.pick()
		if at < 0 {
			break
		}
		o := c.pending[at]
		cost := cmp.Or(o.ask.Expected, c.cost[o.ask.Step])
		if len(u.offers) > 0 &&
			(cost == 0 || sum+cost > want || o.ask.Step != u.offers[0].ask.Step ||
				o.ask.Exclude != u.offers[0].ask.Exclude) {
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
func (c *Client) unit() *submission {
	c.count++
	u := &submission{unit: unit{Version: c.o.Version, Build: c.build, ID: strconv.Itoa(c.count)}, at: time.Now(),
		declined: map[string]bool{}}
	c.units[u.ID] = u
	return u
}

// publish puts a unit into the queue, after all that it is made of.
func (c *Client) publish(ctx context.Context, u *submission, asks []*taskgraph.Request,
	open func(sum string) (io.ReadCloser, error), more []content) (err error) {
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
	u.Inline = map[string][]byte{}
	left := min(c.l.most/2, 512<<10)
	bring := func(k content, open func(string) (io.ReadCloser, error)) error {
		if _, ok := u.Inline[k.SHA256]; ok {
			return nil
		}
		if k.Size <= inlineLimit && int(k.Size) <= left {
			data, err := all(open, k)
			u.Inline[k.SHA256] = data
			left -= int(k.Size) * 3 / 2
			return err
		}
		return c.store(ctx, k, open)
	}
	for _, a := range asks {
		order := pack(a.Action)
		k := contentOf(order)
		u.Orders = append(u.Orders, k)
		if err := bring(k,
			func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(order)), nil }); err != nil {
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
	limited, cancel := context.WithTimeout(ctx, answerTimeout)
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
func (c *Client) subject() string { return workSubject + "." + token(c.o.Version) + "." + c.build }

// trip is about how long a unit is on its way besides the work, by how long it took to put it into
// the queue: it is given to a worker, who asks, hands in, and hears that it came.
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
func (c *Client) store(ctx context.Context, k content, open func(string) (io.ReadCloser, error)) error {
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
