package taskgraph_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/make/taskgraph"
)

// place is a project's folder in which jobs run; it counts how often each ran.
type place struct {
	t    *testing.T
	dir  string
	mu   sync.Mutex
	runs map[string]int
}

func newPlace(t *testing.T) *place {
	return &place{t: t, dir: t.TempDir(), runs: map[string]int{}}
}

func (p *place) write(rel, text string) {
	p.t.Helper()
	name := filepath.Join(p.dir, rel)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(name), 0o777))
	require.NoError(p.t, os.WriteFile(name, []byte(text), 0o666))
	old := time.Now().Add(-time.Hour).Add(time.Duration(rand.IntN(1e9))) // old enough for its time to be believed
	require.NoError(p.t, os.Chtimes(name, old, old))
}

func (p *place) read(rel string) string {
	p.t.Helper()
	data, err := os.ReadFile(filepath.Join(p.dir, "out", rel))
	require.NoError(p.t, err)
	return string(data)
}

func (p *place) exists(rel string) bool {
	_, err := os.Stat(filepath.Join(p.dir, "out", rel))
	return err == nil
}

// upper is a job that writes its input in capitals, with the outputs of the jobs before it behind.
func (p *place) upper(name string, after ...string) *taskgraph.Job {
	return &taskgraph.Job{ID: name, Step: "upper", Version: 1, Inputs: []string{name + ".txt"},
		Outputs: []string{name + ".out"}, After: after,
		Run: func(ctx context.Context, t *taskgraph.Task) error {
			p.mu.Lock()
			p.runs[name]++
			p.mu.Unlock()
			data, err := t.Input(name + ".txt")
			if err != nil {
				return err
			}
			out := bytes.ToUpper(data)
			for _, a := range after {
				more, err := t.Output(a + ".out")
				if err != nil {
					return err
				}
				out = append(append(out, '+'), more...)
			}
			if bytes.Contains(data, []byte("fail")) {
				return errors.New("told to fail")
			}
			return t.Write(name+".out", out)
		}}
}

func (p *place) run(jobs []*taskgraph.Job, change ...func(*taskgraph.Options)) *taskgraph.Report {
	p.t.Helper()
	r, err := p.try(context.Background(), jobs, change...)
	require.NoError(p.t, err)
	return r
}

func (p *place) try(ctx context.Context, jobs []*taskgraph.Job, change ...func(*taskgraph.Options)) (*taskgraph.Report,
	error) {
	o := taskgraph.Options{Dir: p.dir, Out: "out", State: ".state", Workers: 4}
	for _, c := range change {
		c(&o)
	}
	return taskgraph.Run(ctx, jobs, o)
}

func states(r *taskgraph.Report) map[string]taskgraph.State {
	m := map[string]taskgraph.State{}
	for _, x := range r.Results {
		m[x.ID] = x.State
	}
	return m
}

func TestOnlyWhatChangedRunsAgain(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	p.write("b.txt", "b")
	jobs := []*taskgraph.Job{p.upper("a"), p.upper("b", "a")}
	r := p.run(jobs)
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made, "b": taskgraph.Made}, states(r))
	assert.Equal(t, "B+A", p.read("b.out"))

	assert.Equal(t, 2, p.run(jobs).Count(taskgraph.UpToDate))
	p.write("b.txt", "bb")
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.UpToDate, "b": taskgraph.Made}, states(p.run(jobs)))
	p.write("a.txt", "aa")
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made, "b": taskgraph.Made}, states(p.run(jobs)),
		"what comes after a changed job runs too")
	assert.Equal(t, "BB+AA", p.read("b.out"))

	p.write("a.txt", "aa") // the same content with another time
	assert.Equal(t, 2, p.run(jobs).Count(taskgraph.UpToDate), "a new time with the old content is no change")
}

func TestGoingBackTakesTheOldResultFromTheCache(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "one")
	jobs := []*taskgraph.Job{p.upper("a")}
	p.run(jobs)
	p.write("a.txt", "two")
	p.run(jobs)
	p.write("a.txt", "one")
	assert.Equal(t, taskgraph.CacheHit, states(p.run(jobs))["a"])
	assert.Equal(t, "ONE", p.read("a.out"))
	assert.Equal(t, 2, p.runs["a"])
}

func TestOutputsThatWereTouchedAreBroughtBack(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "one")
	jobs := []*taskgraph.Job{p.upper("a")}
	p.run(jobs)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "out", "a.out")))
	assert.Equal(t, taskgraph.CacheHit, states(p.run(jobs))["a"])
	assert.Equal(t, "ONE", p.read("a.out"))

	// Somebody edits the output in place, which through the hard link spoils the kept object too: it is made again.
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "out", "a.out"), []byte("EDITED"), 0o666))
	assert.Equal(t, taskgraph.Made, states(p.run(jobs))["a"])
	assert.Equal(t, "ONE", p.read("a.out"))
}

func TestRecipeAndVersionTakePart(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "one")
	j := p.upper("a")
	p.run([]*taskgraph.Job{j})
	j.Recipe = []byte("other")
	assert.Equal(t, taskgraph.Made, states(p.run([]*taskgraph.Job{j}))["a"])
	j.Version = 2
	assert.Equal(t, taskgraph.Made, states(p.run([]*taskgraph.Job{j}))["a"])
	assert.Equal(t, taskgraph.UpToDate, states(p.run([]*taskgraph.Job{j}))["a"])
}

func TestAFailedJobStopsOnlyWhatDependsOnIt(t *testing.T) {
	p := newPlace(t)
	for _, n := range []string{"a", "c", "d"} {
		p.write(n+".txt", n)
	}
	p.write("b.txt", "fail")
	jobs := []*taskgraph.Job{p.upper("a"), p.upper("b"), p.upper("c", "b"), p.upper("d", "a")}
	r := p.run(jobs)
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made, "b": taskgraph.Failed, "c": taskgraph.Skipped,
		"d": taskgraph.Made}, states(r))
	assert.ErrorContains(t, r.Err(), "told to fail")
	assert.False(t, p.exists("b.out"))
	p.write("b.txt", "b")
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.UpToDate, "b": taskgraph.Made, "c": taskgraph.Made,
		"d": taskgraph.UpToDate}, states(p.run(jobs)))
}

func TestOutputsOfGoneSourcesAreRemoved(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	p.write("b.txt", "b")
	p.run([]*taskgraph.Job{p.upper("a"), p.upper("b")})
	p.write("out/mine.txt", "not made by a job")
	r := p.run([]*taskgraph.Job{p.upper("a")})
	assert.Equal(t, []string{"b.out"}, r.Removed)
	assert.False(t, p.exists("b.out"))
	assert.True(t, p.exists("a.out"))
	assert.True(t, p.exists("mine.txt"), "what no job made is left alone")
}

func TestOnlyLeavesTheOthersAlone(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	p.write("b.txt", "b")
	jobs := []*taskgraph.Job{p.upper("a"), p.upper("b")}
	p.run(jobs)
	p.write("a.txt", "a2")
	p.write("b.txt", "b2")
	r := p.run(jobs, func(o *taskgraph.Options) { o.Only = []string{"a"} })
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made}, states(r))
	assert.Equal(t, "B", p.read("b.out"))
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.UpToDate, "b": taskgraph.Made}, states(p.run(jobs)))
}

func TestPlanChangesNothing(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	p.write("b.txt", "b")
	jobs := []*taskgraph.Job{p.upper("a"), p.upper("b", "a"), p.upper("c")}
	p.write("c.txt", "c")
	plan := func(o *taskgraph.Options) { o.Plan = true }
	assert.Equal(t, 3, p.run(jobs, plan).Count(taskgraph.Stale))
	assert.Empty(t, p.runs)
	assert.NoDirExists(t, filepath.Join(p.dir, ".state"))
	p.run(jobs)
	p.write("a.txt", "changed")
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Stale, "b": taskgraph.Stale, "c": taskgraph.UpToDate},
		states(p.run(jobs, plan)))
}

func TestAJobSeesOnlyWhatItDeclared(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	p.write("secret.txt", "s")
	for name, work := range map[string]func(*taskgraph.Task) error{
		"reads":   func(t *taskgraph.Task) error { _, err := t.Input("secret.txt"); return err },
		"writes":  func(t *taskgraph.Task) error { return t.Write("other.out", nil) },
		"depends": func(t *taskgraph.Task) error { _, err := t.Output("x.out"); return err },
		"forgets": func(t *taskgraph.Task) error { return nil },
	} {
		j := &taskgraph.Job{ID: name, Step: "s", Inputs: []string{"a.txt"}, Outputs: []string{name + ".out"},
			Run: func(_ context.Context, t *taskgraph.Task) error { return work(t) }}
		r := p.run([]*taskgraph.Job{j})
		assert.Equal(t, taskgraph.Failed, r.Results[0].State, name)
		assert.ErrorContains(t, r.Err(), fmt.Sprintf("%q", name))
	}
}

func TestASourceThatChangesMeanwhileFails(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "before")
	j := &taskgraph.Job{ID: "a", Step: "s", Inputs: []string{"a.txt"}, Outputs: []string{"a.out"},
		Run: func(_ context.Context, t *taskgraph.Task) error {
			p.write("a.txt", "after!")
			data, err := t.Input("a.txt")
			if err != nil {
				return err
			}
			return t.Write("a.out", data)
		}}
	r := p.run([]*taskgraph.Job{j})
	var f *fault.Fault
	require.ErrorAs(t, r.Err(), &f)
	assert.Contains(t, f.What, "changed while")
	assert.False(t, p.exists("a.out"))
}

func TestFindingsComeBackWithKeptResults(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	warn := finding.MapTitle.At(fault.Place{File: "a.txt", Line: 3}, "no title")
	j := &taskgraph.Job{ID: "a", Step: "s", Inputs: []string{"a.txt"}, Outputs: []string{"a.out"},
		Run: func(_ context.Context, t *taskgraph.Task) error {
			t.Find(warn)
			return t.Write("a.out", nil)
		}}
	assert.Equal(t, []finding.Finding{warn}, p.run([]*taskgraph.Job{j}).Results[0].Findings)
	assert.Equal(t, []finding.Finding{warn}, p.run([]*taskgraph.Job{j}).Results[0].Findings, "kept")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "out", "a.out")))
	assert.Equal(t, []finding.Finding{warn}, p.run([]*taskgraph.Job{j}).Results[0].Findings, "restored")
}

func TestGraphsThatCanNotRun(t *testing.T) {
	p := newPlace(t)
	a, b := p.upper("a", "b"), p.upper("b", "a")
	_, err := p.try(context.Background(), []*taskgraph.Job{a, b})
	assert.ErrorContains(t, err, "a -> b -> a")
	_, err = p.try(context.Background(), []*taskgraph.Job{p.upper("a", "nobody")})
	assert.ErrorContains(t, err, "nobody")
	twin := p.upper("b")
	twin.Outputs = []string{"a.out"}
	_, err = p.try(context.Background(), []*taskgraph.Job{p.upper("a"), twin})
	assert.ErrorContains(t, err, "both write a.out")
	out := p.upper("a")
	out.Outputs = []string{"../a.out"}
	_, err = p.try(context.Background(), []*taskgraph.Job{out})
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	_, err = p.try(context.Background(), []*taskgraph.Job{p.upper("a"), p.upper("a")})
	assert.ErrorContains(t, err, "twice")
}

func TestCancelStopsSoonAndKeepsWhatIsDone(t *testing.T) {
	p := newPlace(t)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var jobs []*taskgraph.Job
	for i := range 20 {
		name := fmt.Sprintf("j%02d", i)
		p.write(name+".txt", name)
		jobs = append(jobs,
			&taskgraph.Job{ID: name, Step: "s", Inputs: []string{name + ".txt"}, Outputs: []string{name + ".out"},
				Run: func(ctx context.Context, t *taskgraph.Task) error {
					if name == "j03" {
						cancel()
						<-ctx.Done()
						return ctx.Err()
					}
					return t.Write(name+".out", []byte(name))
				}})
	}
	start := time.Now()
	r, err := p.try(ctx, jobs, func(o *taskgraph.Options) { o.Workers = 1 })
	assert.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(start), time.Second)
	assert.Equal(t, 3, r.Count(taskgraph.Made))
	assert.Equal(t, 17, r.Count(taskgraph.Cancelled))
	jobs[3].Run = func(_ context.Context, t *taskgraph.Task) error { return t.Write("j03.out", nil) }
	assert.Equal(t, 3, p.run(jobs).Count(taskgraph.UpToDate), "what was done before is not done again")
}

// recorder notes progress and fails when two events come at once.
type recorder struct {
	t       *testing.T
	busy    atomic.Bool
	started []string
	ended   []int
}

func (r *recorder) enter() func() {
	assert.True(r.t, r.busy.CompareAndSwap(false, true), "two events at once")
	return func() { r.busy.Store(false) }
}

func (r *recorder) Started(id, _, _ string) {
	defer r.enter()()
	r.started = append(r.started, id)
}

func (r *recorder) Advanced(_, _ string, done, total int64) {
	defer r.enter()()
	assert.LessOrEqual(r.t, done, total)
}

func (r *recorder) Ended(_ taskgraph.Result, done, total int) {
	defer r.enter()()
	r.ended = append(r.ended, done)
	assert.Equal(r.t, 30, total)
}

// TestAnyNumberOfWorkersGivesTheSame runs a random graph with several numbers of workers.
func TestAnyNumberOfWorkersGivesTheSame(t *testing.T) {
	var want string
	for _, workers := range []int{1, 2, 8} {
		p := newPlace(t)
		random := rand.New(rand.NewPCG(7, 7))
		var jobs []*taskgraph.Job
		for i := range 30 {
			name := fmt.Sprintf("n%02d", i)
			p.write(name+".txt", name)
			var after []string
			for k := range i {
				if random.IntN(6) == 0 && len(after) < 3 {
					after = append(after, fmt.Sprintf("n%02d", k))
				}
			}
			jobs = append(jobs, p.upper(name, after...))
		}
		rec := &recorder{t: t}
		r := p.run(jobs, func(o *taskgraph.Options) { o.Workers, o.Progress = workers, rec })
		assert.Len(t, rec.started, 30)
		assert.True(t, slices.IsSorted(rec.ended))
		var got strings.Builder
		for _, x := range r.Results {
			fmt.Fprintln(&got, x.ID, x.State, x.Outputs)
		}
		if want == "" {
			want = got.String()
		}
		assert.Equal(t, want, got.String(), "%d workers", workers)
	}
}

func TestDamagedStateIsAsGoodAsNone(t *testing.T) {
	p := newPlace(t)
	p.write("a.txt", "a")
	jobs := []*taskgraph.Job{p.upper("a")}
	p.run(jobs)
	p.write(".state/build.state", "not a state")
	assert.Equal(t, taskgraph.CacheHit, states(p.run(jobs))["a"], "the cache still has it")
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".state")))
	assert.Equal(t, taskgraph.Made, states(p.run(jobs))["a"])
}

func TestAFreshFileIsReadAgain(t *testing.T) {
	p := newPlace(t)
	name := filepath.Join(p.dir, "a.txt")
	stamp := time.Now()
	require.NoError(t, os.WriteFile(name, []byte("one"), 0o666))
	require.NoError(t, os.Chtimes(name, stamp, stamp))
	jobs := []*taskgraph.Job{p.upper("a")}
	p.run(jobs)
	// the same size at the same time, as a coarse clock would have it
	require.NoError(t, os.WriteFile(name, []byte("two"), 0o666))
	require.NoError(t, os.Chtimes(name, stamp, stamp))
	assert.Equal(t, taskgraph.Made, states(p.run(jobs))["a"])
	assert.Equal(t, "TWO", p.read("a.out"))
}

// A cache that was trimmed or damaged costs time and no build: what is missing is taken from its place, or built again.
func TestACacheThatLostSomething(t *testing.T) {
	for name, harm := range map[string]func(t *testing.T, p *place){
		"trimmed": func(t *testing.T, p *place) {
			require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".state", "cache")))
		},
		"trimmed, and a file removed": func(t *testing.T, p *place) {
			require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".state", "cache")))
			require.NoError(t, os.Remove(filepath.Join(p.dir, "out", "a.out")))
		},
		"damaged": func(t *testing.T, p *place) {
			require.NoError(t,
				filepath.WalkDir(filepath.Join(p.dir, ".state", "cache", "objects"),
					func(name string, e os.DirEntry, err error) error {
						if err != nil || e.IsDir() {
							return err
						}
						// it may be a link to what is in its place
						return errors.Join(os.Remove(name), os.WriteFile(name, []byte("noise"), 0o600))
					}))
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.write("a.txt", "a")
			p.write("b.txt", "b")
			jobs := []*taskgraph.Job{p.upper("a"), p.upper("b", "a")}
			p.run(jobs)
			harm(t, p)
			p.write("b.txt", "c")
			p.run(jobs)
			assert.Equal(t, "C+A", p.read("b.out"))
			assert.Equal(t, "A", p.read("a.out"))
		})
	}
}

// A panic of a job reaches the caller, after all other jobs have ended, so that the program's own
// guard can speak of it.
func TestAPanicOfAJobReachesTheCaller(t *testing.T) {
	p := newPlace(t)
	jobs := []*taskgraph.Job{}
	for i := range 20 {
		name := fmt.Sprint("j", i)
		p.write(name+".txt", name)
		jobs = append(jobs, p.upper(name))
	}
	jobs[7].Run = func(context.Context, *taskgraph.Task) error {
		var list []int
		_ = list[len(jobs)]
		return nil
	}
	jobs = append(jobs, p.upper("late", "j7"))
	p.write("late.txt", "late")
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "out"), 0o777))
	o := taskgraph.Options{Dir: p.dir, Out: "out", State: ".state", Workers: 4}
	caught := group.Caught(func() { _, _ = taskgraph.Run(context.Background(), jobs, o) })
	require.NotNil(t, caught)
	assert.Contains(t, caught.Error(), "index out of range")
	assert.Zero(t, p.runs["late"])
	// Nothing is held any more: the next run does what is left.
	jobs[7] = p.upper("j7")
	report, err := taskgraph.Run(context.Background(), jobs, o)
	require.NoError(t, err)
	require.NoError(t, report.Err())
	assert.Equal(t, "J7", p.read("j7.out"))
}
