package taskgraph

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/make/remotecache"
)

// Job is one piece of work.
type Job struct {
	ID      string   // unique, and what people see
	Step    string   // the kind of work
	Version int      // raised when the step would make other bytes of the same inputs
	Recipe  []byte   // whatever else decides the result
	Inputs  []string // slash paths of sources in the project
	After   []string // IDs of jobs whose outputs this one reads
	Outputs []string // slash paths under Options.Out; Run must write each of them
	// LocalOnly says that the result stays on this machine: it depends on more than its key tells, or is
	// made faster than fetched.
	LocalOnly bool
	// Work is what the job does, as its step writes it, for another machine to do the same; nil
	// when it is only done here.
	Work []byte
	// Expected is how long it took when it last ran; 0: nobody knows.
	Expected time.Duration
	// Splits says that the job takes long, and parts of it can be done elsewhere.
	Splits bool
	Run    func(ctx context.Context, t *Task) error
}

// State says how a job ended.
type State string

// The states.
const (
	Made      State = "made"      // it ran
	UpToDate  State = "kept"      // its result was there already
	CacheHit  State = "restored"  // its result came from the cache
	SharedHit State = "taken"     // its result came from those that are shared
	Failed    State = "failed"    // it ran and failed
	Skipped   State = "skipped"   // a job it comes after failed
	Cancelled State = "cancelled" // the run was stopped before it
	Stale     State = "stale"     // it would have to run (only in a plan)
)

// Result is how one job ended.
type Result struct {
	ID, Step string
	State    State
	By       string // the machine that made it; empty for this one
	Elapsed  time.Duration
	Spent    map[string]time.Duration // of Elapsed, in stages that told how long they took
	Outputs  []Output
	Findings []finding.Finding
	Err      error
}

// Output is a file that a job made or kept.
type Output struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// Progress receives events, one at a time, in the order in which jobs end.
type Progress interface {
	// Started says that a job begins to run (not that it was found to be up to date); by is the
	// machine that does it, empty for this one.
	Started(id, step, by string)
	// Advanced says how far a running job is in one of its stages, in steps of about the same size.
	Advanced(id, stage string, done, total int64)
	// Ended says that a job ended; done of total have.
	Ended(r Result, done, total int)
}

// Options for Run.
type Options struct {
	Dir      string // the project's folder, to which Inputs belong
	Out      string // slash path of the folder in it that outputs go to
	State    string // slash path of the folder in it that keeps state and cache
	Workers  int    // how many jobs at once; 0: one a processor
	Progress Progress
	// Only, when not nil, are the IDs to run, with those they come after; all others are left as they are.
	Only []string
	// KeepOld leaves outputs of earlier runs in place even when no job makes them any more: for a
	// graph that is known to be incomplete.
	KeepOld bool
	// Plan only finds out which jobs would have to run: nothing is run, written or remembered.
	Plan bool
	// Shared is where results of other machines are, and those of this one go; nil for nowhere.
	Shared *remotecache.Client
	// Executor is other machines that do jobs; nil: there are none.
	Executor Executor
}

// Report is how a run ended.
type Report struct {
	Results []Result // in the order of the jobs given
	Removed []string // outputs of earlier runs that no job makes any more, now removed
}

// Count is how many jobs ended in a state.
func (r *Report) Count(s State) int {
	n := 0
	for _, x := range r.Results {
		if x.State == s {
			n++
		}
	}
	return n
}

// Err joins the errors of all failed jobs; nil when none failed.
func (r *Report) Err() error {
	var list []error
	for _, x := range r.Results {
		list = append(list, x.Err)
	}
	return errors.Join(list...)
}

// run is one run of a graph.
type run struct {
	o       Options
	store   *store
	stat    *statCache // of inputs
	outStat *statCache // of outputs
	old     state
	jobs    map[string]*Job
	records map[string]actionResult
	telling sync.Mutex
	slots   chan struct{} // as many jobs as may run at once

	leading atomic.Int32 // how many jobs that split are being done here
	helping sync.Mutex
	help    map[string]*help // what others did, by job
	looks   chan struct{}    // as many jobs as may be looked at at once, while others run
}

// crowd is how many jobs at once may wait to be done by others.
const crowd = 512

// questions is how many jobs at once may wait for shared results, which takes a network's time and no processor's.
const questions = 16

// Run brings all outputs up to date. A failed job is no error of Run: it stands in the report, those after it are
// skipped, and all others go on. The error says why the run itself could not go on, or is ctx's when it was cancelled;
// what had been finished by then is kept.
func Run(ctx context.Context, jobs []*Job, o Options) (*Report, error) {
	if o.Workers <= 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	dir, err := safefile.OpenDir(o.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	r := &run{o: o, store: &store{dir: dir, state: o.State}, jobs: map[string]*Job{},
		records: map[string]actionResult{},
		slots:   make(chan struct{}, o.Workers), help: map[string]*help{}}
	r.looks = r.slots
	if o.Executor != nil {
		r.looks = make(chan struct{}, o.Workers)
	}
	if err := r.declare(jobs); err != nil {
		return nil, err
	}
	r.old = r.store.load()
	outPrefix := o.Out + "/"
	inputs, outputs := map[string]statEntry{}, map[string]statEntry{}
	for name, e := range r.old.Stat {
		if rel, ok := strings.CutPrefix(name, outPrefix); ok {
			outputs[rel] = e
		} else {
			inputs[name] = e
		}
	}
	r.stat = &statCache{root: o.Dir, old: inputs, used: map[string]statEntry{}}
	r.outStat = &statCache{root: dir.Join(o.Out), old: outputs, used: map[string]statEntry{}}

	report := &Report{Results: r.execute(ctx, jobs)}
	for ids := r.doubted(); len(ids) > 0 && ctx.Err() == nil; ids = r.doubted() {
		r.old.Jobs = maps.Clone(r.records)
		report.Results = merge(report.Results, r.execute(ctx, jobs), ids)
	}
	for _, id := range slices.Sorted(maps.Keys(r.help)) {
		for _, give := range r.help[id].later {
			give()
		}
	}
	if o.Plan {
		return report, ctx.Err()
	}
	next := state{Magic: stateMagic, Jobs: r.records, Stat: r.stat.used}
	for id, rec := range r.old.Jobs { // jobs that did not get to an end keep what they had
		if _, done := next.Jobs[id]; !done && (o.Only != nil || r.jobs[id] != nil) {
			next.Jobs[id] = rec
		}
	}
	if ctx.Err() == nil && o.Only == nil && !o.KeepOld {
		if report.Removed, err = r.removeOld(dir, next.Jobs); err != nil {
			return report, err
		}
	} else {
		for id, rec := range r.old.Jobs { // cleaning up is left to the next whole run
			if _, ok := next.Jobs[id]; !ok {
				next.Jobs[id] = rec
			}
		}
		for rel, e := range r.old.Stat {
			if _, ok := next.Stat[rel]; !ok {
				next.Stat[rel] = e
			}
		}
	}
	for rel, e := range r.outStat.used {
		next.Stat[outPrefix+rel] = e
	}
	if err := r.store.save(next); err != nil {
		return report, err
	}
	if report.Count(Made)+report.Count(SharedHit) > 0 {
		r.store.trim(time.Now())
	}
	return report, ctx.Err()
}

// declare checks that the graph can be run: IDs and outputs are each declared once, and no job comes after itself.
func (r *run) declare(jobs []*Job) error {
	makers := map[string]string{}
	for _, j := range jobs {
		if r.jobs[j.ID] != nil {
			return fmt.Errorf("job %q is declared twice", j.ID)
		}
		r.jobs[j.ID] = j
		for _, out := range j.Outputs {
			if other, ok := makers[out]; ok {
				return &fault.Fault{What: fmt.Sprintf("%s and %s would both write %s", other, j.ID, out),
					Why: "Only one of the two could be in the release.", Do: "Rename one of the sources."}
			}
			if err := safefile.CheckPath(out); err != nil {
				return err
			}
			makers[out] = j.ID
		}
	}
	const visiting, visited = 1, 2
	seen := map[string]int{}
	var visit func(id string, chain []string) error
	visit = func(id string, chain []string) error {
		j := r.jobs[id]
		switch {
		case j == nil:
			return fmt.Errorf("job %q comes after %q, which is not there", chain[len(chain)-1], id)
		case seen[id] == visiting:
			return fmt.Errorf("jobs come after each other in a circle: %s", strings.Join(append(chain, id), " -> "))
		case seen[id] == visited:
			return nil
		}
		seen[id] = visiting
		for _, before := range j.After {
			if err := visit(before, append(chain, id)); err != nil {
				return err
			}
		}
		seen[id] = visited
		return nil
	}
	for _, j := range jobs {
		if err := visit(j.ID, nil); err != nil {
			return err
		}
	}
	return nil
}

// wanted is the set of jobs to run: all, or those of Options.Only with all that they come after.
func (r *run) wanted(jobs []*Job) map[string]bool {
	set := map[string]bool{}
	var add func(id string)
	add = func(id string) {
		if j := r.jobs[id]; j != nil && !set[id] {
			set[id] = true
			for _, before := range j.After {
				add(before)
			}
		}
	}
	if r.o.Only == nil {
		for _, j := range jobs {
			set[j.ID] = true
		}
	}
	for _, id := range r.o.Only {
		add(id)
	}
	return set
}

// execute runs the jobs, each as soon as those before it have ended. Results stand in the order of jobs.
func (r *run) execute(ctx context.Context, jobs []*Job) []Result {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	set := r.wanted(jobs)
	waiting := map[string]int{}
	after := map[string][]*Job{}
	var ready []*Job
	for _, j := range jobs {
		if !set[j.ID] {
			continue
		}
		waiting[j.ID] = len(j.After)
		for _, before := range j.After {
			after[before] = append(after[before], j)
		}
		if len(j.After) == 0 {
			ready = append(ready, j)
		}
	}
	type ended struct {
		result Result
		record *actionResult
		broken *group.Panic
	}
	type order struct {
		job    *Job
		before map[string]actionResult // what a worker may know of earlier jobs is handed over, never shared
	}
	work, done := make(chan order), make(chan ended)
	workers := r.o.Workers
	if r.o.Shared != nil {
		workers = max(workers, questions)
	}
	if r.o.Executor != nil {
		workers = max(workers, crowd)
	}
	for range workers {
		go func() {
			for o := range work {
				e := ended{result: Result{ID: o.job.ID, Step: o.job.Step, State: Failed}}
				e.broken = group.Caught(func() { e.result, e.record = r.runJob(ctx, o.job, o.before) })
				done <- e
			}
		}()
	}
	results := map[string]Result{}
	total, running := len(set), 0
	var broken *group.Panic
	finish := func(e ended) {
		id := e.result.ID
		results[id] = e.result
		if e.record != nil {
			r.records[id] = *e.record
		}
		r.tell(func(p Progress) { p.Ended(e.result, len(results), total) })
		for _, next := range after[id] {
			if waiting[next.ID]--; waiting[next.ID] == 0 {
				ready = append(ready, next)
			}
		}
	}
	for len(results) < total {
		if len(ready) > 0 {
			j := ready[0]
			if state := r.passOver(ctx, j, results); state != "" {
				ready = ready[1:]
				finish(ended{result: Result{ID: j.ID, Step: j.Step, State: state}})
				continue
			}
			if running < workers {
				ready = ready[1:]
				before := map[string]actionResult{}
				for _, id := range j.After {
					before[id] = r.records[id]
				}
				work <- order{j, before}
				running++
				continue
			}
		}
		e := <-done
		running--
		if e.broken != nil && broken == nil {
			broken = e.broken
			stop()
		}
		finish(e)
	}
	close(work)
	if broken != nil {
		panic(broken) // in the caller's goroutine, after all others have ended
	}
	list := make([]Result, 0, total)
	for _, j := range jobs {
		if set[j.ID] {
			list = append(list, results[j.ID])
		}
	}
	return list
}

// tell hands an event to the progress, one at a time.
func (r *run) tell(event func(Progress)) {
	if r.o.Progress != nil {
		r.telling.Lock()
		defer r.telling.Unlock()
		event(r.o.Progress)
	}
}

// passOver says why a job must not run: Skipped, Cancelled, or "" when it may.
func (r *run) passOver(ctx context.Context, j *Job, results map[string]Result) State {
	if ctx.Err() != nil {
		return Cancelled
	}
	for _, id := range j.After {
		switch s := results[id].State; s {
		case Failed, Skipped, Cancelled:
			return Skipped
		case Stale:
			return Stale
		}
	}
	return ""
}

// runJob brings a single job up to date.
func (r *run) runJob(ctx context.Context, j *Job, before map[string]actionResult) (Result, *actionResult) {
	held := r.looks
	held <- struct{}{}
	defer func() { <-held }()
	start := time.Now()
	result := Result{ID: j.ID, Step: j.Step}
	fail := func(err error) (Result, *actionResult) {
		result.State, result.Err, result.Elapsed = Failed, err, time.Since(start)
		var f *finding.Failure
		if errors.As(err, &f) {
			result.Findings = append(result.Findings, f.Findings...)
		}
		if ctx.Err() != nil && errors.Is(err, ctx.Err()) {
			result.State, result.Err = Cancelled, nil
		}
		return result, nil
	}
	t := &Task{ctx: ctx, job: j, run: r, inputs: map[string]statEntry{}, asked: map[string]time.Time{}}
	end := func(s State, rec actionResult) (Result, *actionResult) {
		result.State, result.Findings, result.Elapsed, result.Spent = s, rec.Findings, time.Since(start), t.spent
		for _, o := range rec.Outputs {
			result.Outputs = append(result.Outputs, Output(o))
		}
		return result, &rec
	}
	for _, id := range slices.Sorted(maps.Keys(before)) {
		t.earlier = append(t.earlier, before[id].Outputs...)
	}
	key, err := r.key(j, t)
	if err != nil {
		return fail(err)
	}
	t.key = key
	if rec, ok := r.old.Jobs[j.ID]; ok && rec.Key == key && r.inPlace(rec) {
		r.giveOld(j, rec)
		return end(UpToDate, rec)
	}
	if r.o.Plan {
		return end(Stale, actionResult{})
	}
	if rec, ok := r.store.lookup(key); ok {
		if err := r.place(ctx, rec); err != nil {
			return fail(err)
		}
		r.giveOld(j, rec)
		return end(CacheHit, rec)
	}
	if rec, ok := r.fetchShared(ctx, j, key); ok {
		if err := r.place(ctx, rec); err != nil {
			return fail(err)
		}
		return end(SharedHit, rec)
	}
	if ctx.Err() != nil {
		return fail(ctx.Err())
	}
	rec, by, took := actionResult{}, "", time.Duration(0)
	if r.o.Executor != nil {
		<-held
		held = r.slots
		done := false
		switch {
		case j.Work == nil:
			held <- struct{}{}
		case j.Splits &&
			r.leading.CompareAndSwap(0, 1): // the first of them is done here, since others help with its parts
			defer r.leading.Add(-1)
			held <- struct{}{}
		default:
			if rec, by, took, done = r.remote(ctx, j, t); !done && j.Splits {
				r.leading.Add(1)
				defer r.leading.Add(-1)
			}
		}
		if done {
			return r.keep(ctx, j, rec, by, took, fail, end)
		}
		if ctx.Err() != nil {
			return fail(ctx.Err())
		}
	}
	r.tell(func(p Progress) { p.Started(j.ID, j.Step, "") })
	if rec, err = r.make(ctx, j, t); err != nil {
		result.Findings = t.findings
		return fail(err)
	}
	return r.keep(ctx, j, rec, by, took, fail, end)
}

// make runs a job here.
func (r *run) make(ctx context.Context, j *Job, t *Task) (actionResult, error) {
	if err := j.Run(ctx, t); err != nil {
		return actionResult{}, err
	}
	if len(t.outputs) != len(j.Outputs) {
		return actionResult{}, fmt.Errorf("job %q made %d of its %d outputs", j.ID, len(t.outputs), len(j.Outputs))
	}
	return actionResult{Key: t.key, Outputs: t.outputs, Findings: t.findings}, nil
}

// keep remembers what a job made, and puts it where it belongs.
func (r *run) keep(ctx context.Context, j *Job, rec actionResult, by string, took time.Duration,
	fail func(error) (Result, *actionResult), end func(State, actionResult) (Result, *actionResult)) (Result,
	*actionResult) {
	if err := r.store.putResult(rec); err != nil {
		return fail(err)
	}
	r.helping.Lock()
	if h := r.help[j.ID]; h != nil { // it is not given to others before all is over
		h.later = append(h.later, func() { r.shareResult(j, rec) })
	} else {
		r.shareResult(j, rec)
	}
	r.helping.Unlock()
	if err := r.place(ctx, rec); err != nil {
		return fail(err)
	}
	result, kept := end(Made, rec)
	if result.By = by; by != "" {
		result.Elapsed = took
	}
	return result, kept
}

// merge takes the results of a second run over those of a first: of jobs that were done again, and
// of those that were not kept.
func merge(first, second []Result, again []string) []Result {
	for i, r := range second {
		if r.State != UpToDate || slices.Contains(again, r.ID) {
			first[i] = r
		}
	}
	return first
}

// key hashes all that decides a job's result.
func (r *run) key(j *Job, t *Task) (string, error) {
	for _, rel := range j.Inputs {
		e, err := r.stat.hash(rel)
		if err != nil {
			return "", &fault.Fault{What: "could not read the file", Place: fault.Place{File: rel}, Err: err,
				Do: "Check that it is there and can be read."}
		}
		t.inputs[rel] = e
	}
	return t.makeKey(), nil
}

func sortedInputs(list []string) []string { return slices.Sorted(slices.Values(list)) }

// makeKey hashes all that decides the result, every part with its length before it.
func (t *Task) makeKey() string {
	h, j := sha256.New(), t.job
	part := func(b []byte) { writePart(h, b) }
	part([]byte(j.Step))
	part(binary.LittleEndian.AppendUint64(nil, uint64(j.Version)))
	part(j.Recipe)
	for _, rel := range sortedInputs(j.Inputs) {
		e := t.inputs[rel]
		part([]byte(rel))
		part(e.SHA256[:])
	}
	for _, o := range t.earlier {
		part([]byte(o.Path))
		part([]byte(o.SHA256))
	}
	for _, o := range j.Outputs {
		part([]byte(o))
	}
	return hex.EncodeToString(h.Sum(nil))
}

func writePart(h hash.Hash, b []byte) {
	h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(b))))
	h.Write(b)
}

// inPlace says whether all outputs of a record are where they belong, unchanged.
func (r *run) inPlace(rec actionResult) bool {
	for _, o := range rec.Outputs {
		e, err := r.outStat.hash(o.Path)
		if err != nil || e.Size != o.Size || hex.EncodeToString(e.SHA256[:]) != o.SHA256 {
			return false
		}
	}
	return true
}

func (r *run) place(ctx context.Context, rec actionResult) error {
	for _, o := range rec.Outputs {
		if err := r.store.place(ctx, r.o.Out, o); err != nil {
			return err
		}
		var sum [sha256.Size]byte
		_, _ = hex.Decode(sum[:], []byte(o.SHA256))
		info, err := os.Stat(filepath.Join(r.outStat.root, filepath.FromSlash(o.Path)))
		if err != nil {
			return err
		}
		r.outStat.put(o.Path,
			statEntry{Size: o.Size, ModTime: info.ModTime().UnixNano(), HashedAt: time.Now().UnixNano(), SHA256: sum})
	}
	return nil
}

// removeOld removes outputs that no job makes any more.
func (r *run) removeOld(dir *safefile.Dir, now map[string]actionResult) ([]string, error) {
	current := map[string]bool{}
	for _, j := range r.jobs {
		for _, o := range j.Outputs {
			current[o] = true
		}
	}
	for _, rec := range now {
		for _, o := range rec.Outputs {
			current[o.Path] = true
		}
	}
	var removed []string
	for _, rec := range r.old.Jobs {
		for _, o := range rec.Outputs {
			if !current[o.Path] {
				current[o.Path] = true
				removed = append(removed, o.Path)
			}
		}
	}
	slices.Sort(removed)
	for _, rel := range removed {
		if err := dir.Remove(path.Join(r.o.Out, rel)); err != nil {
			return nil, err
		}
	}
	return removed, nil
}
