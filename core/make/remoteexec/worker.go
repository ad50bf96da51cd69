package remoteexec

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/compile/stage"
	"vornix/core/make/taskgraph"
)

// Runner does jobs.
type Runner interface {
	// Decides reads an action's work, and gives what of it decides the result as this program writes
	// it. The error says why the action is not done here.
	Decides(o *taskgraph.Action) ([]byte, error)
	// Do does an action. distributor, when not nil, serves those pieces of it that are asked for.
	Do(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, distributor stage.Distributor) error
}

// ErrNotAllowed is why a worker declines what its owner does not allow: others may do it, and
// nothing is wrong with the worker.
var ErrNotAllowed = errors.New("it runs no steps of a project's own; a worker with --own-steps does")

// WorkerOptions for Work.
type WorkerOptions struct {
	Key     *Key
	Version string
	Name    string // in the farm; with a number behind it where another worker has it
	System  string
	Slots   int           // how many units at once
	Dir     *safefile.Dir // where contents are kept
	Most    int64         // bytes of those
	Own     bool          // whether projects' own steps are run
	Do      Runner
	OnEvent func(Event) // told what happens; called from several goroutines
}

// Event is something that a worker tells.
type Event struct {
	What    string  `json:"what"` // "joined", "away", "did", "failed", "declined", "resting"
	Worker  string  `json:"worker"`
	Job     string  `json:"job,omitempty"`
	Part    string  `json:"part,omitempty"` // of a job's pieces: which
	Seconds float64 `json:"seconds,omitempty"`
	Why     string  `json:"why,omitempty"`
}

// worker is one that is in a farm.
type worker struct {
	o         WorkerOptions
	l         *connection
	workspace *taskgraph.Workspace
	since     time.Time

	mu       sync.Mutex
	units    map[string]*taken
	rest     time.Time
	why      string
	failed   int // in a row
	declined int // in a row
	waiting  map[*context.CancelFunc]bool
	sessions []*session
}

// taken is a unit that was taken.
type taken struct {
	build string
	job   string // the first of those that are done; "" until the build wants it
	begun time.Time
	stop  func()
}

// maxDeclined is how many units in a row may be declined before the worker rests.
const maxDeclined = 3

// longestRest is how long a worker takes nothing, at most, after something went wrong.
const longestRest = time.Minute

// Work is a worker until ctx ends. It waits for a farm that is away; the error is about a key that is wrong.
func Work(ctx context.Context, o WorkerOptions) error {
	w := &worker{o: o, workspace: taskgraph.NewWorkspace(o.Dir), since: time.Now().UTC().Truncate(time.Second),
		units: map[string]*taken{}, waiting: map[*context.CancelFunc]bool{}}
	said := false
	for wait := time.Second; ; wait = min(2*wait, 15*time.Second) {
		l, err := dial(ctx, o.Key, "vornix worker "+o.Name, answerTimeout)
		if err == nil {
			w.l = l
			defer w.l.close()
			return w.serve(ctx)
		}
		if errors.Is(err, nats.ErrAuthorization) || ctx.Err() != nil {
			return err
		}
		if !said {
			w.say(Event{What: "away", Why: err.Error()})
			said = true
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
	}
}

// asks is how long a worker that comes listens who is there.
const asks = 300 * time.Millisecond

// call finds a name for the worker that no other has: builds tell workers apart by their names, and
// machines that are made of one image have the same.
func (w *worker) call(ctx context.Context) error {
	list, err := w.l.present(ctx, "", asks)
	if err != nil {
		return err
	}
	name := w.o.Name
	for n := 2; slices.ContainsFunc(list, func(h WorkerInfo) bool { return h.Worker == name }); n++ {
		name = fmt.Sprintf("%s-%d", w.o.Name, n)
	}
	w.o.Name = name
	return nil
}

// say tells what happens.
func (w *worker) say(e Event) {
	e.Worker = w.o.Name
	w.o.OnEvent(e)
}

// serve takes units until ctx ends.
func (w *worker) serve(ctx context.Context) error {
	if err := w.call(ctx); err != nil {
		return away(w.o.Key, err)
	}
	cut := func(*nats.Conn, error) {
		if ctx.Err() == nil {
			w.say(Event{What: "away", Why: "the connection is cut"})
		}
	}
	w.l.nc.SetDisconnectErrHandler(cut)
	w.l.nc.SetReconnectHandler(func(*nats.Conn) {
		w.say(Event{What: "joined"})
		w.mu.Lock()
		defer w.mu.Unlock()
		for again := range w.waiting { // the server knows nothing of them any more
			(*again)()
		}
	})
	for name, handle := range map[string]nats.MsgHandler{rollSubject: w.rolled,
		"vornix.build.*." + stopWord: w.stopped} {
		if _, err := w.l.nc.Subscribe(name, handle); err != nil {
			return away(w.o.Key, err)
		}
	}
	w.say(Event{What: "joined"})
	var group sync.WaitGroup
	for range w.o.Slots {
		group.Go(func() { w.slot(ctx) })
	}
	group.Go(func() { w.tend(ctx) })
	group.Wait()
	w.tell(WorkerInfo{Leaving: true}, "")
	_ = w.l.nc.FlushTimeout(time.Second) // who does not hear it finds out by himself
	return nil
}

// tend says every now and then that the worker is there, and keeps the house in order.
func (w *worker) tend(ctx context.Context) {
	tick := time.NewTicker(presenceInterval)
	defer tick.Stop()
	for n := 0; ; n++ {
		w.tell(WorkerInfo{}, "")
		w.idle(ctx)
		if n%150 == 0 {
			_ = w.workspace.Trim(w.o.Most, w.unused()) // a disk that is full shows when something is to be put there
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// unused is since when contents may be in use: since the oldest unit or session that is there
// began. Clocks of file systems may be behind.
func (w *worker) unused() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	since := time.Now()
	for _, t := range w.units {
		since = earlier(since, t.begun)
	}
	for _, s := range w.sessions {
		since = earlier(since, s.began)
	}
	return since.Add(-time.Minute)
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// tell says that the worker is there.
func (w *worker) tell(h WorkerInfo, to string) {
	w.mu.Lock()
	h.Worker, h.System, h.Version, h.Slots, h.Own, h.Since = w.o.Name, w.o.System, w.o.Version, w.o.Slots, w.o.Own,
		w.since
	for _, t := range w.units {
		if t.job != "" {
			h.Doing = append(h.Doing, t.job)
		}
	}
	slices.Sort(h.Doing)
	if time.Now().Before(w.rest) {
		h.Resting = w.why
	}
	w.mu.Unlock()
	if to == "" {
		to = hereSubject
	}
	_ = w.l.nc.Publish(to, pack(h)) // the next comes soon
}

// rolled answers somebody who asks who is there.
func (w *worker) rolled(m *nats.Msg) {
	var r presenceRequest
	if decode(m.Data, &r) != nil {
		return
	}
	h := WorkerInfo{}
	if r.Version != "" && r.Version != w.o.Version {
		h.Declines = fmt.Sprintf("it runs %s, and the build %s", w.o.Version, r.Version)
	}
	w.tell(h, m.Reply)
}

// stopped ends units that nobody waits for any more.
func (w *worker) stopped(m *nats.Msg) {
	var s stopMessage
	if decode(m.Data, &s) != nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, t := range w.units {
		if subject(t.build, stopWord) == m.Subject && (s.Unit == "" || id == t.build+" "+s.Unit) {
			t.stop()
		}
	}
}

// takeRest takes nothing for a while: longer the more often in a row.
func (w *worker) takeRest(why string) {
	w.mu.Lock()
	w.failed++
	d := min(time.Second<<min(w.failed, 10), longestRest)
	w.rest, w.why = time.Now().Add(d), why
	w.mu.Unlock()
	w.say(Event{What: "resting", Why: why})
	w.tell(WorkerInfo{}, "")
}

// slot takes one unit after the other.
func (w *worker) slot(ctx context.Context) {
	var queue jetstream.Consumer
	for ctx.Err() == nil {
		w.mu.Lock()
		rest := time.Until(w.rest)
		w.mu.Unlock()
		if rest > 0 {
			sleep(ctx, min(rest, time.Second))
			continue
		}
		var err error
		if queue == nil {
			if queue, err = w.queue(ctx); err != nil {
				sleep(ctx, time.Second)
				continue
			}
		}
		m, err := w.next(ctx, queue)
		switch {
		case err == nil:
			w.take(ctx, m)
		case errors.Is(err, context.Canceled):
			queue = nil
		case errors.Is(err, nats.ErrTimeout), errors.Is(err, context.DeadlineExceeded),
			errors.Is(err, jetstream.ErrNoMessages):
		default: // the server is away, or has lost what it knew
			queue = nil
			sleep(ctx, time.Second)
		}
	}
}

// next waits for a unit, for a while.
func (w *worker) next(ctx context.Context, queue jetstream.Consumer) (jetstream.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, answerTimeout)
	defer cancel()
	w.mu.Lock()
	w.waiting[&cancel] = true
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		delete(w.waiting, &cancel)
		w.mu.Unlock()
	}()
	return queue.Next(jetstream.FetchContext(ctx))
}

// queue is the queue of units, made if it is not there any more.
func (w *worker) queue(ctx context.Context) (jetstream.Consumer, error) {
	ctx, cancel := context.WithTimeout(ctx, answerTimeout)
	defer cancel()
	q, err := w.l.consumer(ctx, w.o.Version)
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		if err = w.l.open(ctx); err == nil {
			q, err = w.l.consumer(ctx, w.o.Version)
		}
	}
	return q, err
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// errUnwanted is why work is stopped that its build does not want any more.
var errUnwanted = errors.New("nobody waits for it any more")

// longestUnit is how long a worker is at one unit: a build that wants endless work does not keep it for ever.
const longestUnit = 24 * time.Hour

// late is how old a unit may be of whose build nothing is heard.
const late = 2 * time.Minute

// take does a unit, if its build still wants it.
func (w *worker) take(ctx context.Context, m jetstream.Msg) {
	var u unit
	if err := decode(m.Data(), &u); err != nil {
		_ = m.Term() // it would come again
		w.say(Event{What: "declined", Why: "a unit makes no sense: " + err.Error()})
		return
	}
	defer func() { // a unit that makes this program stumble is not taken by one worker after the other
		if r := recover(); r != nil {
			_ = m.Term()
			w.say(Event{What: "failed", Job: u.ID, Why: fmt.Sprintf("a fault in Vornix: %v", r)})
		}
	}()
	id := u.Build + " " + u.ID
	ctx, end := context.WithTimeout(ctx, longestUnit)
	defer end()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	t := &taken{build: u.Build, begun: time.Now(), stop: func() { cancel(errUnwanted) }}
	w.mu.Lock()
	w.units[id] = t
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		if w.units[id] == t { // it may have come a second time
			delete(w.units, id)
		}
		w.mu.Unlock()
	}()
	stop := w.heartbeat(m)
	defer stop()
	actions, tasks, why := w.ready(ctx, &u)
	a := startRequest{Unit: u.ID, Worker: w.o.Name}
	if why != nil {
		a.Declines = why.Error()
		w.say(Event{What: "declined", Why: a.Declines})
	}
	var r startReply
	if err := w.l.request(ctx, subject(u.Build, askWord), a, &r); err != nil {
		if errors.Is(context.Cause(ctx), errUnwanted) {
			_ = m.Term()
			return
		}
		w.unheard(m)
		return
	}
	switch {
	case r.Shut:
		_ = m.NakWithDelay(100 * time.Millisecond)
		w.takeRest("a build found its results wrong: " + r.Why)
		return
	case why != nil:
		if errors.Is(why, ErrNotAllowed) {
			_ = m.NakWithDelay(50 * time.Millisecond)
			return
		}
		_ = m.NakWithDelay(500 * time.Millisecond)
		w.mu.Lock()
		w.declined++
		often := w.declined >= maxDeclined
		w.mu.Unlock()
		if often { // others do better without one who takes what he does not do
			w.takeRest(a.Declines)
		}
		return
	case r.Else:
		_ = m.NakWithDelay(50 * time.Millisecond)
		return
	case len(r.Go) == 0:
		_ = m.Term()
		return
	}
	w.mu.Lock()
	t.job, w.failed, w.declined = actions[0].ID, 0, 0
	w.mu.Unlock()
	w.tell(WorkerInfo{}, "")
	d := w.do(ctx, &u, actions, tasks, r.Go)
	switch {
	case errors.Is(context.Cause(ctx), errUnwanted):
		_ = m.Term()
		return
	case ctx.Err() != nil: // this worker leaves
		_ = m.NakWithDelay(100 * time.Millisecond)
		return
	}
	w.handIn(ctx, m, &u, d)
}

// heartbeat says that a unit is being done, until it is stopped.
func (w *worker) heartbeat(m jetstream.Msg) (stop func()) {
	ended := make(chan struct{})
	go func() {
		tick := time.NewTicker(heartbeatInterval)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
				_ = m.InProgress()
			}
		}
	}()
	return sync.OnceFunc(func() { close(ended) })
}

// unheard gives a unit back whose build does not answer, or forgets it when it is old.
func (w *worker) unheard(m jetstream.Msg) {
	if about, err := m.Metadata(); err == nil && time.Since(about.Timestamp) > late {
		_ = m.Term()
		return
	}
	_ = m.NakWithDelay(3 * time.Second)
}

// handIn gives the build what came of a unit.
func (w *worker) handIn(ctx context.Context, m jetstream.Msg, u *unit, d *report) {
	for until := time.Now().Add(late); time.Now().Before(until) && ctx.Err() == nil; sleep(ctx, time.Second) {
		var r startReply
		if err := w.l.request(ctx, subject(u.Build, doneWord), d, &r); err == nil {
			_ = m.Ack()
			if r.Shut {
				w.takeRest("a build found its results wrong: " + r.Why)
			}
			return
		}
	}
	_ = m.NakWithDelay(time.Second)
}

// ready reads a unit's actions; the error is why they are not done here.
func (w *worker) ready(ctx context.Context, u *unit) (actions []*taskgraph.Action, tasks []*taskgraph.Task, err error) {
	if u.Version != w.o.Version {
		return nil, nil, fmt.Errorf("it runs %s, and the build %s", w.o.Version, u.Version)
	}
	for _, c := range u.Orders {
		data, err := w.read(ctx, u, c)
		if err != nil {
			return nil, nil, fmt.Errorf("an order can't be had: %w", err)
		}
		var came actionMessage
		if err := decode(data, &came); err != nil {
			return nil, nil, fmt.Errorf("an order can't be read: %w", err)
		}
		o := &came.Action
		if size := inputSize(o); size > w.o.Most {
			return nil, nil, fmt.Errorf("it needs %d bytes, and this worker keeps at most %d", size, w.o.Most)
		}
		decides, err := w.o.Do.Decides(o)
		if err != nil {
			return nil, nil, err
		}
		t, err := w.workspace.Task(ctx, o, decides, w.hooks(u, o))
		if err != nil {
			return nil, nil, err
		}
		actions, tasks = append(actions, o), append(tasks, t)
	}
	return actions, tasks, nil
}

// hooks are those of a job that is done whole.
func (w *worker) hooks(u *unit, o *taskgraph.Action) taskgraph.Hooks {
	var mu sync.Mutex
	last := time.Time{}
	return taskgraph.Hooks{
		Kept: func(string) ([]byte, bool) { return nil, false },
		Keep: func(string, []byte) error { return nil },
		Advance: func(stage string, done, total int64) {
			mu.Lock()
			defer mu.Unlock()
			if time.Since(last) < 200*time.Millisecond && done < total {
				return
			}
			last = time.Now()
			// only for people
			_ = w.l.nc.Publish(subject(u.Build, tellWord),
				pack(progressMessage{Unit: u.ID, Worker: w.o.Name, ID: o.ID, Stage: stage, Done: done, Total: total}))
		},
	}
}

// do does what is wanted of a unit.
func (w *worker) do(ctx context.Context, u *unit, actions []*taskgraph.Action, tasks []*taskgraph.Task,
	wanted []string) *report {
	d := &report{Unit: u.ID, Worker: w.o.Name, Inline: map[string][]byte{}}
	start := time.Now()
	for i, o := range actions {
		if !slices.Contains(wanted, o.ID) || ctx.Err() != nil {
			continue
		}
		if err := w.bring(ctx, u, o); err != nil {
			w.trouble(err)
			d.Err = err.Error()
			break
		}
		if u.Part != nil {
			d.Err = w.part(ctx, u, o, d)
			break
		}
		began := time.Now()
		j := jobReport{ID: o.ID}
		if err := w.whole(ctx, o, tasks[i], &j, d); err != nil {
			w.trouble(err)
			j.Err = err.Error()
			if ctx.Err() == nil {
				w.say(Event{What: "failed", Job: o.ID, Why: reason(err)})
			}
		} else {
			w.say(Event{What: "did", Job: o.ID, Seconds: time.Since(began).Seconds()})
		}
		j.Took = time.Since(began).Seconds()
		d.Jobs = append(d.Jobs, j)
	}
	d.Took = time.Since(start).Seconds()
	return d
}

// reason is what people are told of an error: of a failure its first finding.
func reason(err error) string {
	var f *finding.Failure
	if errors.As(err, &f) && len(f.Findings) > 0 {
		return f.Findings[0].Text
	}
	return err.Error()
}

// trouble rests when this machine is at fault.
func (w *worker) trouble(err error) {
	if safefile.IsDiskFull(err) {
		w.takeRest("its disk is full")
	}
}

// inputSize is how many bytes an action needs. Sizes are bounded by decode, and there are at most
// so many files that the sum is a number.
func inputSize(o *taskgraph.Action) (size int64) {
	for _, in := range slices.Concat(o.Inputs, o.Earlier) {
		size += in.Size
		if size > maxContent {
			break
		}
	}
	return size
}

// bring brings what an action is made of to the workspace.
func (w *worker) bring(ctx context.Context, u *unit, o *taskgraph.Action) error {
	if u.Part != nil && w.at(o) {
		return nil
	}
	for _, in := range slices.Concat(o.Inputs, o.Earlier) {
		if w.workspace.Has(in) {
			continue
		}
		if err := w.fetch(ctx, u, content{in.SHA256, in.Size}, in.Path); err != nil {
			return fmt.Errorf("%s can't be had: %w", in.Path, err)
		}
	}
	return nil
}

func (w *worker) fetch(ctx context.Context, u *unit, c content, name string) error {
	return w.workspace.Put(c.output(name), func(to io.Writer) error {
		if data, ok := u.Inline[c.SHA256]; ok {
			_, err := to.Write(data)
			return err
		}
		return w.l.get(ctx, c, to)
	})
}

// read reads a content, and checks it.
func (w *worker) read(ctx context.Context, u *unit, c content) ([]byte, error) {
	if c.Size > maxRead {
		return nil, fmt.Errorf("it has %d bytes, and at most %d are read at once", c.Size, maxRead)
	}
	if data, ok := u.Inline[c.SHA256]; ok {
		if contentOf(data) != c {
			return nil, errors.New("it is not what its hash says")
		}
		return data, nil
	}
	if !w.workspace.Has(c.output("")) {
		if err := w.fetch(ctx, u, c, c.SHA256); err != nil {
			return nil, err
		}
	}
	return os.ReadFile(w.workspace.Path(c.SHA256))
}

// whole does a whole job.
func (w *worker) whole(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, j *jobReport,
	d *report) (err error) {
	defer caught(&err)
	if err := w.o.Do.Do(ctx, o, t, nil); err != nil {
		return err
	}
	j.Outputs, j.Findings = t.Result()
	for _, out := range j.Outputs {
		c := content{out.SHA256, out.Size}
		if err := w.send(ctx, c, d,
			func() (io.ReadCloser, error) { return os.Open(w.workspace.Path(c.SHA256)) }); err != nil {
			return err
		}
	}
	return nil
}

// caught makes an error of what went wrong so badly that the program would stop: it is one job's
// trouble, and its build does that itself.
func caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("it can't be done here: %v\n%s", r, debug.Stack())
	}
}

// send puts a content where the build finds it: into the answer when it is small, else into the farm's store.
func (w *worker) send(ctx context.Context, c content, d *report, open func() (io.ReadCloser, error)) error {
	used := 0
	for _, s := range d.Inline {
		used += len(s)
	}
	if c.Size <= int64(w.l.most/2-used) && (c.Size <= inlineLimit || d.Part != nil) {
		data, err := all(func(string) (io.ReadCloser, error) { return open() }, c)
		d.Inline[c.SHA256] = data
		return err
	}
	if w.l.has(ctx, c) {
		return nil
	}
	r, err := open()
	if err != nil {
		return err
	}
	defer r.Close()
	return w.l.put(ctx, c, r)
}

// part does pieces of a job. It says what went wrong, in words.
func (w *worker) part(ctx context.Context, u *unit, o *taskgraph.Action, d *report) string {
	start := time.Now()
	data, err := w.pieces(ctx, u, o)
	if err == nil {
		c := contentOf(data)
		d.Part = &c
		err = w.send(ctx, c, d, func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil })
	}
	name := fmt.Sprintf("%d to %d", u.Part.First, u.Part.Last)
	if err != nil {
		w.trouble(err)
		if ctx.Err() == nil {
			w.say(Event{What: "failed", Job: o.ID, Part: name, Why: err.Error()})
		}
		return err.Error()
	}
	w.say(Event{What: "did", Job: o.ID, Part: name, Seconds: time.Since(start).Seconds()})
	return ""
}
