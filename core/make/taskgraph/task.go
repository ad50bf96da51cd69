package taskgraph

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"sync"
	"syscall"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
)

// Task is what a running job sees of the world: its declared inputs, and where its outputs go. That it can read and
// write nothing else keeps its key honest.
type Task struct {
	ctx      context.Context
	job      *Job
	run      *run
	key      string
	hooks    *Hooks   // of a task in a workspace
	programs []string // inputs that can be run, of a task in a workspace
	inputs   map[string]statEntry
	earlier  []output
	outputs  []output
	findings []finding.Finding
	spent    map[string]time.Duration

	mu    sync.Mutex
	asked map[string]time.Time // when parts were asked for that were not there
}

// Input reads a declared input. It fails when the file is no longer what the job's key was made of.
func (t *Task) Input(rel string) ([]byte, error) {
	want, ok := t.inputs[rel]
	if !ok {
		return nil, fmt.Errorf("job %q reads %s without declaring it", t.job.ID, rel)
	}
	data, err := os.ReadFile(t.source(rel, want))
	if err != nil {
		return nil, &fault.Fault{What: "could not read the file", Place: fault.Place{File: rel}, Err: err}
	}
	if sha256.Sum256(data) != want.SHA256 {
		return nil, changed(rel)
	}
	return data, nil
}

// Copy makes a declared input a declared output, as it is, however large.
func (t *Task) Copy(ctx context.Context, input, output string) error {
	want, ok := t.inputs[input]
	if !ok || !slices.Contains(t.job.Outputs, output) {
		return fmt.Errorf("job %q copies %s to %s without declaring both", t.job.ID, input, output)
	}
	o, err := t.run.store.putFile(ctx, t.source(input, want), output, hex.EncodeToString(want.SHA256[:]))
	if errors.Is(err, errChanged) {
		return changed(input)
	}
	if err == nil {
		t.outputs = append(t.outputs, o)
	}
	return err
}

// Take makes a file at a system path a declared output, however large. It is left where it is.
func (t *Task) Take(ctx context.Context, from, output string) error {
	if !slices.Contains(t.job.Outputs, output) {
		return fmt.Errorf("job %q makes %s without declaring it", t.job.ID, output)
	}
	sum, _, err := safefile.HashFile(from)
	if err != nil {
		return err
	}
	o, err := t.run.store.putFile(ctx, from, output, sum)
	if err == nil {
		t.outputs = append(t.outputs, o)
	}
	return err
}

// LayOut copies a declared input, however large, to a path in a folder, for a program that reads it there.
func (t *Task) LayOut(ctx context.Context, input string, d *safefile.Dir, to string) error {
	want, ok := t.inputs[input]
	if !ok {
		return fmt.Errorf("job %q reads %s without declaring it", t.job.ID, input)
	}
	from := t.source(input, want)
	info, err := os.Stat(from)
	executable := err == nil && info.Mode()&0o111 != 0 || slices.Contains(t.programs, input)
	if executable {
		// Nobody can run a file that somebody may write (ETXTBSY), and a program that another job
		// starts meanwhile has all that is open here until its exec.
		syscall.ForkLock.RLock()
		defer syscall.ForkLock.RUnlock()
	}
	f, err := d.Create(to)
	if err != nil {
		return err
	}
	defer f.Abort()
	if err := f.Fill(ctx, from); err != nil {
		return err
	}
	if f.SHA256() != hex.EncodeToString(want.SHA256[:]) {
		return changed(input)
	}
	if executable {
		f.Executable()
	}
	return f.CommitCache()
}

// changed says that an input is no longer what the job's key was made of.
func changed(rel string) error {
	return &fault.Fault{What: "the file changed while it was being built", Place: fault.Place{File: rel},
		Why: "The result would be of neither the old nor the new file.", Do: "Build again when it has been saved."}
}

// Inputs are the declared inputs, sorted.
func (t *Task) Inputs() []string { return slices.Sorted(maps.Keys(t.inputs)) }

// Sum is the SHA-256 of a declared input, or of an output of a job that this one comes after; empty for all else.
func (t *Task) Sum(rel string) string {
	if e, ok := t.inputs[rel]; ok {
		return hex.EncodeToString(e.SHA256[:])
	}
	for _, o := range t.earlier {
		if o.Path == rel {
			return o.SHA256
		}
	}
	return ""
}

// Output reads an output of a job that this one comes after.
func (t *Task) Output(rel string) ([]byte, error) {
	for _, o := range t.earlier {
		if o.Path == rel {
			if data, ok := t.run.store.object(o); ok {
				return data, nil
			}
			// The cache may have been trimmed or damaged. What is in its place is as good: a job
			// whose output is not there runs again.
			data, err := t.run.store.dir.ReadFile(path.Join(t.run.o.Out, rel))
			if sum := sha256.Sum256(data); err != nil || hex.EncodeToString(sum[:]) != o.SHA256 {
				return nil, &fault.Fault{What: "a file that was built before is damaged, in the cache and in its place",
					Place: fault.Place{File: path.Join(t.run.o.Out, rel)}, Err: err,
					Do: "Remove the file and build again: it is rebuilt then."}
			}
			_, err = t.run.store.putContent(rel, [][]byte{data})
			return data, err
		}
	}
	return nil, fmt.Errorf("job %q reads %s, which no job it comes after makes", t.job.ID, rel)
}

// Write gives a declared output its content, which may come in parts.
func (t *Task) Write(rel string, parts ...[]byte) error {
	if !slices.Contains(t.job.Outputs, rel) {
		return fmt.Errorf("job %q writes %s without declaring it", t.job.ID, rel)
	}
	o, err := t.run.store.putContent(rel, parts)
	if err == nil {
		t.outputs = append(t.outputs, o)
	}
	return err
}

// Find adds a finding to the job's result; it comes back whenever the result is used again.
func (t *Task) Find(list ...finding.Finding) { t.findings = append(t.findings, list...) }

// CachedPart gives what an earlier job, or an earlier run of this one, kept under a key that names it by
// all that decides it. It is how a long job does not do its parts again.
func (t *Task) CachedPart(key string) (data []byte, ok bool) {
	if t.hooks != nil {
		return t.hooks.Kept(key)
	}
	if data, ok = t.run.store.part(key); ok {
		return data, true
	}
	if data, ok = t.takePart(key); !ok {
		t.mu.Lock()
		t.asked[key] = time.Now()
		t.mu.Unlock()
	}
	return data, ok
}

// CachePart keeps a part of a job's work.
func (t *Task) CachePart(key string, data []byte) error {
	if t.hooks != nil {
		return t.hooks.Keep(key, data)
	}
	err := t.run.store.putPart(key, data)
	switch {
	case err != nil:
	case t.run.o.Executor != nil:
		t.keptPart(key, t.gift(key, len(data)))
	default:
		t.gift(key, len(data))()
	}
	return err
}

// Spend says how long a stage of the job took. It is for people, and kept with no result.
func (t *Task) Spend(stage string, d time.Duration) {
	if t.spent == nil {
		t.spent = map[string]time.Duration{}
	}
	t.spent[stage] += d
}

// Advance says how far the job is.
func (t *Task) Advance(stage string, done, total int64) {
	if t.hooks != nil {
		t.hooks.Advance(stage, done, total)
		return
	}
	t.run.tell(func(p Progress) { p.Advanced(t.job.ID, stage, done, total) })
}
