package taskgraph

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"time"

	"vornix/core/base/finding"
	"vornix/core/make/remotecache"
)

// OwnStep is the step of jobs that run a command of a project's own: not every machine does.
const OwnStep = "step"

// Action is the complete description of a job, for another machine to run it (the action of a build cache).
type Action struct {
	ID      string   `json:"id"`
	Step    string   `json:"step"`
	Version int      `json:"version"`
	Recipe  []byte   `json:"recipe"`
	Work    []byte   `json:"work"`
	Key     string   `json:"key"`
	Inputs  []Output `json:"inputs"`
	Earlier []Output `json:"earlier,omitempty"`
	Outputs []string `json:"outputs"`
	// Programs are those of the inputs that can be run.
	Programs []string `json:"programs,omitempty"`
}

// ActionKey returns the key that an action should have: the SHA-256 of everything that decides its result.
func ActionKey(o *Action) string {
	t := &Task{job: &Job{Step: o.Step, Version: o.Version, Recipe: o.Recipe, Outputs: o.Outputs},
		inputs: map[string]statEntry{}}
	for _, in := range o.Inputs {
		e := statEntry{}
		_, _ = hex.Decode(e.SHA256[:], []byte(in.SHA256)) // of what is no hash another key comes out
		t.job.Inputs, t.inputs[in.Path] = append(t.job.Inputs, in.Path), e
	}
	for _, e := range o.Earlier {
		t.earlier = append(t.earlier, output(e))
	}
	return t.makeKey()
}

// Executor runs actions on other machines.
type Executor interface {
	// Submit queues an action for any worker with a free slot.
	Submit(a *Request) Execution
	// Fetch brings a file of an outcome.
	Fetch(ctx context.Context, o Output, w io.Writer) error
	// Reject says that a worker's result was wrong: none of its results is accepted any more.
	Reject(by, why string)
	// Rejected names the workers whose results are not accepted any more.
	Rejected() []string
}

// Request is an action that is submitted, with what the executor has to know of it.
type Request struct {
	Action
	// Open opens a content that the job is made of, by its hash.
	Open func(sum string) (io.ReadCloser, error)
	// Started is told who begins, Advance how far that is.
	Started func(by string)
	Advance func(stage string, done, total int64)
	// Expected is how long it took when it last ran; 0: unknown.
	Expected time.Duration
	// Exclude is who may not do it, since it is to confirm what they made.
	Exclude string
}

// Execution is a request that was submitted.
type Execution interface {
	// Started is closed when somebody begins.
	Started() <-chan struct{}
	// Withdraw takes the offer back; false when somebody has begun.
	Withdraw() bool
	// Cancel says that nobody needs to go on.
	Cancel()
	// Expected is how long it may take from its beginning on; 0: unknown.
	Expected() time.Duration
	// Done gives the outcome, once.
	Done() <-chan RemoteResult
}

// RemoteResult is the result of an action on another machine. With Err set, the job runs here.
type RemoteResult struct {
	Worker   string
	Outputs  []Output
	Findings []finding.Finding
	Took     time.Duration
	Inline   map[string][]byte // files that came along, by their hashes
	Check    Verification
	Err      error
}

// Verification says which machine repeats a job, to see whether the first result is right.
type Verification int

// The checks. With Elsewhere another machine does the job again, or this one when no other can.
const (
	Unchecked Verification = iota
	Here
	Elsewhere
)

// action is a job as it is sent.
func (t *Task) action(key string) Action {
	j := t.job
	o := Action{ID: j.ID, Step: j.Step, Version: j.Version, Recipe: j.Recipe, Work: j.Work, Key: key,
		Outputs: j.Outputs}
	for _, rel := range sortedInputs(j.Inputs) {
		e := t.inputs[rel]
		o.Inputs = append(o.Inputs, Output{Path: rel, SHA256: hex.EncodeToString(e.SHA256[:]), Size: e.Size})
	}
	for _, in := range o.Inputs {
		if info, err := os.Stat(t.source(in.Path, t.inputs[in.Path])); err == nil && info.Mode()&0o111 != 0 &&
			runtime.GOOS != "windows" {
			o.Programs = append(o.Programs, in.Path)
		}
	}
	for _, e := range t.earlier {
		o.Earlier = append(o.Earlier, Output(e))
	}
	return o
}

// Request is the job as others can do it, or parts of it; nil when it is only done here.
func (t *Task) Request() *Request {
	if t.job.Work == nil || t.run.o.Executor == nil {
		return nil
	}
	r, j := t.run, t.job
	begun := func(by string) { r.tell(func(p Progress) { p.Started(j.ID, j.Step, by) }) }
	return &Request{Action: t.action(t.key), Open: t.open, Started: begun, Advance: t.Advance, Expected: j.Expected}
}

// open opens what the job is made of, by its hash. Who reads it checks that.
func (t *Task) open(sum string) (io.ReadCloser, error) {
	for rel, e := range t.inputs {
		if hex.EncodeToString(e.SHA256[:]) == sum {
			return os.Open(t.source(rel, e))
		}
	}
	for _, o := range t.earlier {
		if o.SHA256 == sum {
			return os.Open(t.run.store.path(t.run.store.objectPath(sum)))
		}
	}
	return nil, os.ErrNotExist
}

// Helped says that others did a part of the job.
func (t *Task) Helped(helpers []string) {
	r := t.run
	r.helping.Lock()
	defer r.helping.Unlock()
	h := r.helped(t.job.ID)
	h.by = append(h.by, helpers...)
}

// keptPart remembers what a job kept, and gives it to others when nobody doubts it any more: what
// was done after a wrong part is wrong too, whoever did it.
func (t *Task) keptPart(key string, give func()) {
	r := t.run
	r.helping.Lock()
	defer r.helping.Unlock()
	h := r.helped(t.job.ID)
	h.parts = append(h.parts, key)
	h.later = append(h.later, give)
}

// help is what others did of a job.
type help struct {
	by    []string
	parts []string // keys of the parts that the job kept
	later []func() // gives them, and the result, to those that are shared
}

// helped is what others did of a job; the caller holds the lock.
func (r *run) helped(id string) *help {
	if r.help[id] == nil {
		r.help[id] = &help{}
	}
	return r.help[id]
}

// overdue is how long a job may be out before it is done here as well, when a processor is free.
func overdue(expected time.Duration) time.Duration {
	if expected == 0 {
		return 30 * time.Second
	}
	return 2*expected + 3*time.Second
}

// leads is how long a job that splits may be out while no other is being done here: with all
// others' help it is done sooner than by one of them, unless that one is past the half.
const leads = 5 * time.Second

// remote has a job done by others, unless a processor is free here first. The caller holds none,
// and holds one afterwards.
func (r *run) remote(ctx context.Context, j *Job, t *Task) (rec actionResult, by string, took time.Duration, ok bool) {
	out, rec, ok := r.executeRemotely(ctx, j, t.Request())
	if !ok {
		return actionResult{}, "", 0, false
	}
	claims := []claim{{out.Worker, rec}}
	if out.Check == Elsewhere {
		ask := t.Request()
		ask.Exclude = out.Worker
		second, other, ok := r.executeRemotely(ctx, j, ask)
		switch {
		case !ok: // no other worker could, and a slot is held
			out.Check = Here
		case other.same(rec):
			out.Check = Unchecked
			claims = append(claims, claim{second.Worker, other})
			r.slots <- struct{}{}
		default: // this machine says who is wrong
			out.Check = Here
			claims = append(claims, claim{second.Worker, other})
			r.slots <- struct{}{}
		}
	} else {
		r.slots <- struct{}{}
	}
	if out.Check == Here && ctx.Err() == nil {
		r.tell(func(p Progress) { p.Started(j.ID, j.Step, "") })
		made, err := r.make(ctx, j, t.again())
		if ctx.Err() == nil {
			var failed *finding.Failure
			// this machine's disk, for one: it says nothing about the others
			if err != nil && !errors.As(err, &failed) {
				return actionResult{}, "", 0, false
			}
			if wrong := r.blame(j, claims, made, err); err != nil || wrong {
				return made, "", 0, err == nil
			}
		}
	}
	r.helping.Lock()
	h := r.helped(j.ID)
	for _, c := range claims {
		h.by = append(h.by, c.by)
	}
	r.helping.Unlock()
	return rec, out.Worker, out.Took, true
}

// claim is what somebody says a job comes to.
type claim struct {
	by  string
	rec actionResult
}

// blame names those whose results differ from what this machine made, or could not make. It says
// whether the first one differs.
func (r *run) blame(j *Job, claims []claim, made actionResult, err error) (first bool) {
	for i, c := range claims {
		switch {
		case err != nil:
			r.o.Executor.Reject(c.by, j.ID+" can't be made here, and was there")
		case made.same(c.rec):
			continue
		default:
			r.o.Executor.Reject(c.by, j.ID+" came out with other bytes than here")
		}
		first = first || i == 0
	}
	return first
}

// executeRemotely waits for the result of another machine, unless a processor is free here first. That slot is
// held when ok is false, and none otherwise.
func (r *run) executeRemotely(ctx context.Context, j *Job, ask *Request) (out RemoteResult, rec actionResult, ok bool) {
	offer := r.o.Executor.Submit(ask)
	done := false
	select {
	case r.slots <- struct{}{}:
		if offer.Withdraw() {
			return RemoteResult{}, actionResult{}, false
		}
		<-r.slots
	case out = <-offer.Done():
		done = true
	case <-offer.Started():
	case <-ctx.Done():
	}
	begun, expected := time.Now(), offer.Expected()
	patience := overdue(expected)
	if j.Splits {
		patience = min(patience, leads)
	}
	for slots := chan struct{}(nil); !done; {
		select {
		case out = <-offer.Done():
			done = true
		case <-ctx.Done():
			out.Err, done = ctx.Err(), true
		case <-time.After(patience):
			slots, patience = r.slots, time.Second
		case slots <- struct{}{}:
			since := time.Since(begun)
			nearly := since > expected/2 && since < overdue(expected) && expected > 0
			if !j.Splits || r.leading.Load() == 0 && !nearly {
				offer.Cancel()
				return RemoteResult{}, actionResult{}, false
			}
			<-r.slots
			slots = nil // another is being done here, with all the help there is, or this one is as good as done
		}
	}
	rec = actionResult{Key: ask.Key, Findings: out.Findings}
	if out.Err == nil {
		out.Err = r.fetch(ctx, j, out, &rec)
	}
	if out.Err != nil {
		r.slots <- struct{}{}
		offer.Cancel()
		return RemoteResult{}, actionResult{}, false
	}
	return out, rec, true
}

// same says whether two records say the same.
func (a actionResult) same(b actionResult) bool {
	x, err := json.Marshal(a.Findings)
	y, other := json.Marshal(b.Findings)
	return err == nil && other == nil && bytes.Equal(x, y) && slices.Equal(a.Outputs, b.Outputs)
}

// fetch brings the files of an outcome into the cache.
func (r *run) fetch(ctx context.Context, j *Job, out RemoteResult, rec *actionResult) error {
	if len(out.Outputs) != len(j.Outputs) {
		return fmt.Errorf("%s made %d of %d files", out.Worker, len(out.Outputs), len(j.Outputs))
	}
	for _, f := range out.Findings {
		if !finding.Known(f.ID) {
			return fmt.Errorf("%s found %q, which nobody knows", out.Worker, f.ID)
		}
	}
	for _, o := range out.Outputs {
		if !remotecache.IsKey(o.SHA256) || o.Size < 0 || !slices.Contains(j.Outputs, o.Path) ||
			slices.ContainsFunc(rec.Outputs, func(x output) bool { return x.Path == o.Path }) {
			return fmt.Errorf("%s made %s, which nobody asked for", out.Worker, o.Path)
		}
		rec.Outputs = append(rec.Outputs, output(o))
		if r.store.intact(output(o)) {
			continue
		}
		if err := r.store.fill(o, func(w io.Writer) error {
			if data, ok := out.Inline[o.SHA256]; ok {
				_, err := w.Write(data)
				return err
			}
			return r.o.Executor.Fetch(ctx, o, w)
		}); err != nil {
			return err
		}
	}
	return nil
}

// fill puts a file of a known hash into the cache.
func (s *store) fill(o Output, from func(w io.Writer) error) error {
	f, err := s.dir.Create(s.objectPath(o.SHA256))
	if err != nil {
		return err
	}
	defer f.Abort()
	if err := from(f); err != nil {
		return err
	}
	if f.SHA256() != o.SHA256 || f.Size() != o.Size {
		return fmt.Errorf("%s: %w", o.Path, errChanged)
	}
	return f.CommitCache()
}

// again is a task for the same job, which has done nothing yet.
func (t *Task) again() *Task {
	return &Task{ctx: t.ctx, job: t.job, run: t.run, key: t.key, inputs: t.inputs, earlier: t.earlier,
		asked: map[string]time.Time{}}
}

// doubted forgets what those did whose work is not taken any more, and says which jobs that were.
func (r *run) doubted() (ids []string) {
	if r.o.Executor == nil {
		return nil
	}
	shut := r.o.Executor.Rejected()
	bad := func(by []string) bool {
		return slices.ContainsFunc(by, func(n string) bool { return slices.Contains(shut, n) })
	}
	r.helping.Lock()
	defer r.helping.Unlock()
	for id, h := range r.help {
		if !bad(h.by) {
			continue
		}
		ids = append(ids, id)
		for _, key := range h.parts {
			_ = r.store.dir.Remove(r.store.partPath(key)) // that it is gone already is as good
		}
		if rec, ok := r.records[id]; ok {
			_ = r.store.dir.Remove(r.store.actionPath(rec.Key))
			delete(r.records, id)
		}
		delete(r.help, id)
	}
	slices.Sort(ids)
	return ids
}
