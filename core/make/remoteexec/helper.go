package remoteexec

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"time"

	"vornix/core/compile/stage"
	"vornix/core/make/taskgraph"
)

// maxPart is how large what comes of pieces may be, in bytes.
const maxPart = 256 << 20

// Distributor gives those who help with parts of a job that is done here; it takes the place of the task's
// store, so that helpers can be told what was kept.
func (c *Client) Distributor(t *taskgraph.Task) (stage.Distributor, stage.Store) {
	a := t.Request()
	if a == nil {
		return nil, t
	}
	h := &helper{c: c, t: t, ask: a, passing: map[string][]byte{}, known: map[string]bool{}}
	return h, h
}

// helper is a distributor that helps with one job.
type helper struct {
	c   *Client
	t   *taskgraph.Task
	ask *taskgraph.Request

	mu      sync.Mutex
	list    []cachedPart
	known   map[string]bool
	passing map[string][]byte
}

// CachedPart gives what is kept under a key.
func (h *helper) CachedPart(key string) ([]byte, bool) {
	data, ok := h.t.CachedPart(key)
	if ok {
		h.note(key, data)
	}
	return data, ok
}

// CachePart keeps a part of the job's work.
func (h *helper) CachePart(key string, data []byte) error {
	err := h.t.CachePart(key, data)
	if err == nil {
		h.note(key, data)
	}
	return err
}

// note remembers that something is kept. It says whether that was news.
func (h *helper) note(key string, data []byte) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.known[key] {
		return false
	}
	h.known[key] = true
	h.list = append(h.list, cachedPart{key, contentOf(data)})
	return true
}

// Made is told what was made under a key, and who helped.
func (h *helper) Made(key string, data []byte, helpers []string) {
	if h.note(key, data) {
		h.mu.Lock()
		h.passing[key] = data
		h.mu.Unlock()
	}
	if len(helpers) > 0 {
		h.t.Helped(helpers)
	}
}

// Passing gives what is kept for those who help alone.
func (h *helper) Passing(key string) ([]byte, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	data, ok := h.passing[key]
	return data, ok
}

// Serve does nothing: the job is done here.
func (h *helper) Serve(context.Context, string, *stage.Parts) (bool, error) { return false, nil }

// open opens what was kept, by its hash.
func (h *helper) open(sum string) (io.ReadCloser, error) {
	h.mu.Lock()
	i := slices.IndexFunc(h.list, func(k cachedPart) bool { return k.SHA256 == sum })
	if i < 0 {
		h.mu.Unlock()
		return nil, os.ErrNotExist
	}
	key := h.list[i].Key
	data, ok := h.passing[key]
	h.mu.Unlock()
	if !ok {
		if data, ok = h.t.CachedPart(key); !ok {
			return nil, os.ErrNotExist
		}
	}
	return io.NopCloser(bytes.NewReader(data)), nil
}

// Distribute offers pieces to workers for as long as there are some.
func (h *helper) Distribute(ctx context.Context, key string, p *stage.Pool) {
	c := h.c
	stop := context.AfterFunc(ctx, c.wake)
	defer stop()
	var group sync.WaitGroup
	defer group.Wait()
	for p.Ready(ctx, c.least()) {
		u := c.reserve(ctx)
		if u == nil {
			return
		}
		lowest := c.least()
		c.mu.Lock()
		want, hands := c.work(), c.slots()
		c.mu.Unlock()
		l := p.Lease(want, lowest, hands)
		if l == nil {
			c.drop(u)
			continue
		}
		group.Go(func() { h.lend(ctx, u, key, p, l) })
	}
}

// least is how long the least work takes that is worth a trip.
func (c *Client) least() time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	return max(minTrips*c.trip, 10*time.Millisecond)
}

// reserve waits for a free slot; nil when ctx or the distributor ended before there was one.
func (c *Client) reserve(ctx context.Context) *submission {
	c.mu.Lock()
	defer c.mu.Unlock()
	for c.room() <= 0 && ctx.Err() == nil && c.ctx.Err() == nil {
		c.more.Wait()
	}
	if ctx.Err() != nil || c.ctx.Err() != nil {
		return nil
	}
	return c.unit()
}

// drop ends a unit that is not wanted.
func (c *Client) drop(u *submission) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.over(u)
}

// lend has pieces done by a worker, and some of them by a second one, and gives the pool what comes of them.
func (h *helper) lend(ctx context.Context, u *submission, key string, p *stage.Pool, l *stage.Lease) {
	c := h.c
	data, by := h.sent(ctx, u, key, p, l)
	if by == "" {
		p.Return(l)
		return
	}
	helpers, doubted := []string{by}, false
	if c.o.Recheck > Rechecked && rand.Float64() < c.o.Recheck && p.Reissue(l) {
		other, second := h.confirm(ctx, by, key, p, l)
		if second == "" {
			doubted = true
		} else if helpers = append(helpers, second); !bytes.Equal(data, other) {
			doubted = true // this machine says who is wrong
		}
	}
	right, used := p.Complete(l, data, doubted, helpers...)
	wrong := "parts of " + h.ask.ID + " came out with other bytes than here"
	switch {
	case !right:
		c.Reject(by, wrong)
		return
	case used && doubted && len(helpers) > 1:
		c.Reject(helpers[1], wrong)
	}
	c.mu.Lock()
	c.workers[by].share.Parts++
	c.mu.Unlock()
}

// confirm has pieces done once more, by another worker than the first; by is empty when none could.
func (h *helper) confirm(ctx context.Context, first, key string, p *stage.Pool, l *stage.Lease) (data []byte,
	by string) {
	c := h.c
	c.mu.Lock()
	if !c.besides(first) {
		c.mu.Unlock()
		return nil, ""
	}
	u := c.unit()
	u.not = first
	c.mu.Unlock()
	return h.sent(ctx, u, key, p, l)
}

// sent sends a unit of pieces and waits for what comes of it; by is empty when nothing did.
func (h *helper) sent(ctx context.Context, u *submission, key string, p *stage.Pool, l *stage.Lease) (data []byte,
	by string) {
	c := h.c
	result := make(chan *report, 1)
	h.mu.Lock()
	list := slices.Clone(h.list)
	h.mu.Unlock()
	manifest := pack(list)
	about := contentOf(manifest)
	c.mu.Lock()
	u.name = h.ask.ID
	u.Part = &part{Key: key, First: l.First, Last: l.Last, Kept: about}
	u.lent, u.begun = func() bool { return p.Started(l) }, h.ask.Started
	u.came = func(d *report) { result <- d }
	c.mu.Unlock()
	more := []content{about}
	for _, k := range list {
		more = append(more, k.content)
	}
	err := c.publish(ctx, u, []*taskgraph.Request{h.ask}, func(sum string) (io.ReadCloser, error) {
		if sum == about.SHA256 {
			return io.NopCloser(bytes.NewReader(manifest)), nil
		}
		return h.open(sum)
	}, more)
	if err != nil {
		c.drop(u)
		return nil, ""
	}
	select {
	case <-ctx.Done():
		c.drop(u)
		return nil, ""
	case d := <-result:
		data, err := c.pieces(ctx, d)
		if err != nil {
			return nil, ""
		}
		return data, d.Worker
	}
}

// pieces are what a worker handed in of pieces.
func (c *Client) pieces(ctx context.Context, d *report) ([]byte, error) {
	switch {
	case d == nil:
		return nil, errors.New("nobody did it")
	case d.Err != "":
		return nil, errors.New(d.Err)
	case d.Part == nil || d.Part.Size > maxPart || d.Part.Size < 0:
		return nil, errors.New("nothing came")
	}
	data, ok := d.Inline[d.Part.SHA256]
	if !ok {
		var b bytes.Buffer
		if err := c.l.get(ctx, *d.Part, &b); err != nil {
			return nil, err
		}
		data = b.Bytes()
	}
	if contentOf(data) != *d.Part {
		c.Reject(d.Worker, "what it handed in is not what it said")
		return nil, errors.New("it is not what it should be")
	}
	return data, nil
}
