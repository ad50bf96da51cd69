package remoteexec_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/compile/stage"
	"vornix/core/make/remoteexec"
	"vornix/core/make/remoteexec/host"
	"vornix/core/make/taskgraph"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// task is the work of the jobs here: hashes of hashes of the inputs, or of numbers, piece by piece.
type task struct {
	Rounds int // of hashing: about a microsecond for three
	Pieces int // 0: none
	Size   int // bytes of the output
}

func (w task) encode() []byte { b, _ := json.Marshal(w); return b }

// smith does such work. spoil, when set, changes what comes of it.
type smith struct {
	spoil func([]byte) []byte
	did   atomic.Int64
	wait  time.Duration // at the beginning of each job
	slow  time.Duration // more for each piece
	fails error
}

func (s *smith) Decides(o *taskgraph.Action) ([]byte, error) {
	if o.Step != "smith" {
		return nil, errors.New("no smith does " + o.Step)
	}
	return o.Work, nil
}

func (s *smith) Do(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, distributor stage.Distributor) error {
	var w task
	if err := json.Unmarshal(o.Work, &w); err != nil {
		return err
	}
	return s.run(ctx, w, o.Outputs[0], t, stage.Env{Workers: 1, Store: t, Distributor: distributor})
}

func (s *smith) run(ctx context.Context, w task, file string, t *taskgraph.Task, e stage.Env) error {
	if s.fails != nil {
		return s.fails
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(s.wait):
	}
	h := sha256.New()
	for _, in := range t.Inputs() {
		data, err := t.Input(in)
		if err != nil {
			return err
		}
		h.Write(data)
	}
	data := h.Sum(nil)
	for stage1 := range 2 { // the second stage is made of what the first came to
		sums := make([][sha256.Size]byte, w.Pieces)
		before := sha256.Sum256(data)
		work := e.Begin("smithing", int64(w.Pieces))
		err := work.Parts(ctx,
			stage.Parts{N: w.Pieces, Block: 64, Size: 2, Weight: 1,
				Key: func(first int) string { return stage.Key(t.Sum(t.Inputs()[0]), stage1, first) },
				Do: func(first, last int) {
					for i := first; i < last; i++ {
						time.Sleep(s.slow)
						sums[i] = hashed(fmt.Appendf(nil, "%x %d", before, i), w.Rounds)
						if s.spoil != nil {
							copy(sums[i][:], s.spoil(sums[i][:]))
						}
					}
				}, Pack: func(first, last int) (data []byte) {
					for _, sum := range sums[first:last] {
						data = append(data, sum[:]...)
					}
					return data
				}, Unpack: func(first, last int, data []byte) bool {
					if len(data) != sha256.Size*(last-first) {
						return false
					}
					for i := first; i < last; i++ {
						copy(sums[i][:], data[sha256.Size*(i-first):])
					}
					return true
				}})
		if err != nil {
			return err
		}
		for _, sum := range sums {
			data = append(data, sum[:]...)
		}
	}
	sum := hashed(data, w.Rounds)
	out := bytes.Repeat(sum[:], w.Size/sha256.Size+1)
	if s.spoil != nil {
		out = s.spoil(out)
	}
	s.did.Add(1)
	t.Find(finding.StageMemory.At(fault.Place{}, "made of %d inputs", len(t.Inputs())))
	return t.Write(file, out)
}

func hashed(data []byte, rounds int) [sha256.Size]byte {
	sum := sha256.Sum256(data)
	for range rounds {
		sum = sha256.Sum256(sum[:])
	}
	return sum
}

// project is a folder with some inputs, and jobs that are made of them: many small ones, one with pieces.
type project struct {
	dir  string
	jobs []*taskgraph.Job
}

func newProject(t *testing.T, small int, large task) *project {
	p := &project{dir: t.TempDir()}
	add := func(id string, w task, inputs ...string) {
		for i, in := range inputs {
			require.NoError(t, os.WriteFile(filepath.Join(p.dir, in), bytes.Repeat([]byte(in), 1+i*3000), 0o600))
		}
		p.jobs = append(p.jobs,
			&taskgraph.Job{ID: id, Step: "smith", Version: 1, Recipe: w.encode(), Work: w.encode(), Inputs: inputs,
				Outputs: []string{id + ".out"}, Splits: w.Pieces > 0})
	}
	if large.Pieces > 0 {
		add("large", large, "large.in")
	}
	for i := range small {
		add(fmt.Sprintf("small%d", i), task{Rounds: 10_000, Size: 100 + i*997}, fmt.Sprintf("a%d.in", i),
			fmt.Sprintf("b%d.in", i))
	}
	return p
}

// build builds a project, with a farm's help when there is a key, and gives what came of it: every
// output, and the findings of every job.
func (p *project) build(t *testing.T, key *remoteexec.Key, here *smith, verify ...float64) (map[string]string,
	*taskgraph.Report, []remoteexec.WorkerShare) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "out"), 0o700))
	o := taskgraph.Options{Dir: p.dir, Out: "out", State: ".state", Workers: 1}
	var distributor *remoteexec.Client
	if key != nil {
		var err error
		distributor, err = remoteexec.Join(context.Background(),
			remoteexec.Options{Key: key, Version: "1", Recheck: append(verify, 0)[0]})
		require.NoError(t, err)
		o.Executor = distributor
	}
	for _, j := range p.jobs {
		var w task
		require.NoError(t, json.Unmarshal(j.Work, &w))
		j.Run = func(ctx context.Context, tt *taskgraph.Task) error {
			e := stage.Env{Workers: 1, Store: tt}
			if distributor != nil {
				e.Distributor, e.Store = distributor.Distributor(tt)
			}
			return here.run(ctx, w, j.Outputs[0], tt, e)
		}
	}
	report, err := taskgraph.Run(context.Background(), p.jobs, o)
	require.NoError(t, err)
	require.NoError(t, report.Err())
	var shares []remoteexec.WorkerShare
	if distributor != nil {
		shares = distributor.Close().Shares
	}
	all := map[string]string{}
	for _, r := range report.Results {
		data, err := os.ReadFile(filepath.Join(p.dir, "out", r.ID+".out"))
		require.NoError(t, err)
		all[r.ID] = fmt.Sprintf("%x %s", sha256.Sum256(data), r.Findings[0].Text)
	}
	return all, report, shares
}

// alone is what comes of a project without help.
func (p *project) alone(t *testing.T) map[string]string {
	t.Helper()
	all, _, _ := p.build(t, nil, &smith{})
	p.forget(t)
	return all
}

func (p *project) forget(t *testing.T) {
	t.Helper()
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "out")))
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".state")))
}

// started starts a host, and stops it when the test ends.
func started(t *testing.T, dir, listen string) *host.Host {
	t.Helper()
	peer.Need(t, "nats-server")
	h, err := host.Start(context.Background(), host.Options{Dir: dir, Listen: listen})
	require.NoError(t, err)
	return h
}

// events are what a worker told.
type events struct {
	mu   sync.Mutex
	list []remoteexec.Event
}

func (e *events) said(x remoteexec.Event) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.list = append(e.list, x)
}

func (e *events) has(what, why string) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, x := range e.list {
		if x.What == what && strings.Contains(x.Why, why) {
			return true
		}
	}
	return false
}

// work runs a worker until stop is called, or the test ends, and waits until it has joined.
func work(t *testing.T, key *remoteexec.Key, name string, s *smith,
	change ...func(*remoteexec.WorkerOptions)) (stop func(), told *events) {
	t.Helper()
	dir, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	told = &events{}
	o := remoteexec.WorkerOptions{Key: key, Version: "1", Name: name, Slots: 2, Dir: dir, Most: 1 << 30, Do: s,
		OnEvent: told.said}
	for _, f := range change {
		f(&o)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		assert.NoError(t, remoteexec.Work(ctx, o))
	}()
	stop = sync.OnceFunc(func() { cancel(); <-ended; dir.Close() })
	t.Cleanup(stop)
	require.Eventually(t, func() bool { return told.has("joined", "") }, 10*time.Second, 10*time.Millisecond)
	return stop, told
}

func shareOf(t *testing.T, list []remoteexec.WorkerShare, name string) remoteexec.WorkerShare {
	t.Helper()
	for _, s := range list {
		if s.Worker == name {
			return s
		}
	}
	t.Fatalf("%s did not take part: %v", name, list)
	return remoteexec.WorkerShare{}
}

// With two workers, jobs and pieces are done by all, and what comes of them is what comes of them
// alone. On a server of the team's own as on Vornix's.
func TestAFarmMakesTheSame(t *testing.T) {
	p := newProject(t, 60, task{Rounds: 2000, Pieces: 700})
	alone := p.alone(t)
	for kind, key := range map[string]func(*testing.T) *remoteexec.Key{
		"own host": func(t *testing.T) *remoteexec.Key {
			h := started(t, t.TempDir(), "127.0.0.1:0")
			t.Cleanup(h.Stop)
			return h.Key
		},
		"team's server": func(t *testing.T) *remoteexec.Key {
			// What docs/farm.md says that a user needs.
			address, _, _ := peer.NATS(t, `authorization { users: [ { user: farm, password: "let-us-in", permissions: {
				publish: ["vornix.>", "$JS.API.>", "$JS.ACK.>", "$JS.FC.>", "$O.vornix-files.>", "_INBOX.>"], subscribe: ["vornix.>", "$O.vornix-files.>", "_INBOX.>"] } } ] }`)
			return &remoteexec.Key{Servers: []string{"nats://" + address}, User: "farm", Password: "let-us-in"}
		},
	} {
		t.Run(kind, func(t *testing.T) {
			p.forget(t)
			k := key(t)
			first, second := &smith{}, &smith{}
			work(t, k, "first", first)
			work(t, k, "second", second)
			all, report, shares := p.build(t, k, &smith{slow: time.Millisecond})
			assert.Equal(t, alone, all)
			assert.Equal(t, len(p.jobs), report.Count(taskgraph.Made))
			by := map[string]int{}
			for _, r := range report.Results {
				by[r.By]++
			}
			parts := 0
			for _, name := range []string{"first", "second"} {
				s := shareOf(t, shares, name)
				assert.Equal(t, by[name], s.Jobs, name)
				parts += s.Parts
			}
			assert.NotZero(t, parts, "the large job was split")
			assert.NotZero(t, by["first"]+by["second"])

			// Again, there is nothing to do; and a look says who is there.
			_, report, _ = p.build(t, k, &smith{})
			assert.Equal(t, len(p.jobs), report.Count(taskgraph.UpToDate))
			s, err := remoteexec.Inspect(context.Background(), k, "1")
			require.NoError(t, err)
			require.Len(t, s.Workers, 2)
			assert.Equal(t, "first", s.Workers[0].Worker)
			assert.Zero(t, s.Working+s.Waiting)
			assert.NotZero(t, s.Bytes)
		})
	}
}

// A worker whose memory is bad, or who lies, is found out, and nothing of it is in the result:
// neither a job nor a piece, from its first one on or later.
func TestAWorkerThatIsWrong(t *testing.T) {
	p := newProject(t, 60, task{Rounds: 1000, Pieces: 3000})
	alone := p.alone(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	for kind, after := range map[string]int64{"from the beginning": 0, "later": 300} {
		t.Run(kind, func(t *testing.T) {
			p.forget(t)
			n := atomic.Int64{}
			liar := &smith{spoil: func(b []byte) []byte {
				if n.Add(1) > after {
					b = bytes.Clone(b)
					b[len(b)/2] ^= 4
				}
				return b
			}}
			stop, told := work(t, h.Key, "liar", liar)
			defer stop()
			stopGood, _ := work(t, h.Key, "good", &smith{})
			defer stopGood()
			all, _, shares := p.build(t, h.Key, &smith{slow: 500 * time.Microsecond})
			assert.Equal(t, alone, all)
			assert.Contains(t, shareOf(t, shares, "liar").Shut, "other bytes than here")
			if after == 0 {
				assert.Eventually(t, func() bool { return told.has("resting", "found its results wrong") },
					5*time.Second, 20*time.Millisecond, "it is told, and takes a rest")
			}
			assert.Empty(t, shareOf(t, shares, "good").Shut)
		})
	}
}

// With --verify 1 a second worker does everything again, so that even one wrong piece or one wrong
// job is found: the build's own machine does no more than it does without.
func TestEverythingTwiceOnTwoWorkers(t *testing.T) {
	p := newProject(t, 60, task{Rounds: 2000, Pieces: 700})
	alone := p.alone(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	t.Run("honest", func(t *testing.T) {
		first, second, here := &smith{}, &smith{}, &smith{slow: time.Millisecond, wait: 30 * time.Millisecond}
		work(t, h.Key, "first", first)
		work(t, h.Key, "second", second)
		all, report, shares := p.build(t, h.Key, here, 1)
		assert.Equal(t, alone, all)
		for _, name := range []string{"first", "second"} {
			assert.Empty(t, shareOf(t, shares, name).Shut)
		}
		helped := 0
		for _, r := range report.Results {
			if r.By != "" {
				helped++
			}
		}
		assert.Greater(t, helped, len(p.jobs)/2)
		assert.Greater(t, int(first.did.Load()+second.did.Load()), helped*4/3, "most jobs were done by both")
	})
	for what, c := range map[string]struct {
		spoiled int64
		p       *project
		here    *smith
	}{
		"a late job":   {12, newProject(t, 60, task{}), &smith{wait: 100 * time.Millisecond}},
		"a late piece": {200, newProject(t, 0, task{Rounds: 1000, Pieces: 3000}), &smith{slow: 500 * time.Microsecond}},
	} {
		t.Run(what, func(t *testing.T) {
			alone := c.p.alone(t)
			n := atomic.Int64{}
			liar := &smith{spoil: func(b []byte) []byte {
				if n.Add(1) == c.spoiled {
					b = bytes.Clone(b)
					b[0] ^= 1
				}
				return b
			}}
			stop, _ := work(t, h.Key, "liar", liar)
			defer stop()
			stopGood, _ := work(t, h.Key, "good", &smith{})
			defer stopGood()
			all, _, shares := c.p.build(t, h.Key, c.here, 1)
			assert.Equal(t, alone, all)
			require.GreaterOrEqual(t, n.Load(), c.spoiled, "it has lied")
			assert.Contains(t, shareOf(t, shares, "liar").Shut, "other bytes than here")
			assert.Empty(t, shareOf(t, shares, "good").Shut)
		})
	}
	t.Run("only one worker", func(t *testing.T) {
		p.forget(t)
		only := &smith{}
		stop, _ := work(t, h.Key, "only", only)
		defer stop()
		all, _, _ := p.build(t, h.Key, &smith{wait: 10 * time.Millisecond}, 1)
		assert.Equal(t, alone, all)
	})
}

// Whoever runs the host sees every message. Where some are cut short, said twice, or said again
// much later, a build comes out as it should, and nobody is blamed who did nothing wrong.
func TestAHostThatRepeatsAndCuts(t *testing.T) {
	p := newProject(t, 40, task{Rounds: 1000, Pieces: 700})
	alone := p.alone(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	nc := connected(t, h.Key)
	var mu sync.Mutex
	var old []*nats.Msg
	said := 0
	_, err := nc.Subscribe("vornix.>", func(m *nats.Msg) {
		mu.Lock()
		defer mu.Unlock()
		if said++; m.Header.Get("again") != "" || strings.HasPrefix(m.Subject, "vornix.work") {
			return
		}
		again := func(m *nats.Msg, data []byte) {
			x := nats.NewMsg(m.Subject)
			x.Reply, x.Data = m.Reply, data
			x.Header.Set("again", "yes")
			_ = nc.PublishMsg(x)
		}
		old = append(old, m)
		switch said % 4 {
		case 0:
			again(m, m.Data)
		case 1:
			again(m, m.Data[:len(m.Data)/2])
		case 2:
			x := old[said*7%len(old)]
			again(x, x.Data)
		}
	})
	require.NoError(t, err)
	require.NoError(t, nc.Flush())
	for _, name := range []string{"first", "second"} {
		work(t, h.Key, name, &smith{})
	}
	for range 2 {
		p.forget(t)
		all, _, shares := p.build(t, h.Key, &smith{slow: time.Millisecond})
		assert.Equal(t, alone, all)
		for _, s := range shares {
			assert.Empty(t, s.Shut, s.Worker)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	assert.Greater(t, len(old), 50)
}

// connected is a connection of somebody who has the key.
func connected(t *testing.T, k *remoteexec.Key) *nats.Conn {
	t.Helper()
	c := x509.NewCertPool()
	require.True(t, c.AppendCertsFromPEM([]byte(k.Certificate)))
	nc, err := nats.Connect(k.Servers[0], nats.Token(k.Token),
		nats.Secure(&tls.Config{RootCAs: c, ServerName: k.Name, MinVersion: tls.VersionTLS12}))
	require.NoError(t, err)
	t.Cleanup(nc.Close)
	return nc
}

// Messages that make no sense end no worker: they are taken out of the queue, and the work goes on.
func TestHostileMessages(t *testing.T) {
	p := newProject(t, 12, task{})
	alone := p.alone(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	_, told := work(t, h.Key, "cellar", &smith{})
	nc := connected(t, h.Key)
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	sum := sha256.Sum256([]byte("1"))
	bad := []string{``, `{`, `null`, `{"version":"1","build":"b","id":"1","orders":[{"sha256":"","size":0}]}`,
		`{"version":"1","build":"b","id":"1","orders":[{"sha256":"xx/../../../../../../dev/zero","size":5}]}`,
		`{"version":"1","build":"*","id":"1","orders":[{"sha256":"` + strings.Repeat("a", 64) + `","size":1}]}`,
		`{"version":"1","build":"b","id":"1","orders":[{"sha256":"` + strings.Repeat("a", 64) +
			`","size":1}],"part":{"first":5,"last":-5}}`}
	for _, text := range bad {
		_, err := js.Publish(t.Context(), fmt.Sprintf("vornix.work.%x.b", sum[:6]), []byte(text))
		require.NoError(t, err)
	}
	for _, name := range []string{"vornix.roll", "vornix.here", "vornix.build.b.stop"} {
		for _, text := range bad {
			require.NoError(t, nc.Publish(name, []byte(text)))
		}
	}
	require.Eventually(t, func() bool { return told.has("declined", "a unit makes no sense") }, 10*time.Second,
		20*time.Millisecond)
	all, _, shares := p.build(t, h.Key, &smith{wait: 50 * time.Millisecond})
	assert.Equal(t, alone, all)
	assert.NotZero(t, shareOf(t, shares, "cellar").Jobs, "it still works")
	require.Eventually(t, func() bool {
		s, err := remoteexec.Inspect(context.Background(), h.Key, "1")
		return err == nil && s.Waiting+s.Working == 0
	}, 20*time.Second, 50*time.Millisecond, "none of them comes again")
}

// Whatever happens on the way, the build comes to its end with the right bytes.
func TestAFarmOnABadDay(t *testing.T) {
	thorough.Only(t)
	p := newProject(t, 40, task{Rounds: 2000, Pieces: 1000})
	alone := p.alone(t)
	listen := func() string {
		address, err := peer.FreeAddress()
		require.NoError(t, err)
		return address
	}
	for kind, day := range map[string]func(t *testing.T, dir, at string, h *host.Host, stop func()) (again *host.Host){
		"a worker leaves": func(_ *testing.T, _, _ string, h *host.Host, stop func()) *host.Host {
			time.Sleep(400 * time.Millisecond)
			stop()
			return h
		},
		"the host is restarted": func(t *testing.T, dir, at string, h *host.Host, _ func()) *host.Host {
			time.Sleep(400 * time.Millisecond)
			h.Stop()
			time.Sleep(500 * time.Millisecond)
			return started(t, dir, at)
		},
		"the host goes for good": func(_ *testing.T, _, _ string, h *host.Host, _ func()) *host.Host {
			time.Sleep(400 * time.Millisecond)
			h.Stop()
			return nil
		},
	} {
		t.Run(kind, func(t *testing.T) {
			p.forget(t)
			dir, at := t.TempDir(), listen()
			h := started(t, dir, at)
			key := h.Key
			stop, _ := work(t, key, "first", &smith{wait: 10 * time.Millisecond})
			work(t, key, "second", &smith{wait: 10 * time.Millisecond})
			done := make(chan map[string]string)
			go func() {
				all, _, _ := p.build(t, key, &smith{wait: 30 * time.Millisecond})
				done <- all
			}()
			if again := day(t, dir, at, h, stop); again != nil {
				defer again.Stop()
				assert.Equal(t, key.Token, again.Key.Token, "the key stays good")
			}
			assert.Equal(t, alone, <-done)
		})
	}
}

// Two builds share the workers; one that is stopped leaves nothing behind for them to do.
func TestTwoBuildsAtOnce(t *testing.T) {
	thorough.Only(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	work(t, h.Key, "first", &smith{})
	work(t, h.Key, "second", &smith{})
	var group sync.WaitGroup
	for range 2 {
		p := newProject(t, 40, task{Rounds: 2000, Pieces: 400})
		alone := p.alone(t)
		group.Go(func() {
			all, _, _ := p.build(t, h.Key, &smith{})
			assert.Equal(t, alone, all)
		})
	}
	group.Wait()

	p := newProject(t, 40, task{})
	distributor, err := remoteexec.Join(context.Background(), remoteexec.Options{Key: h.Key, Version: "1"})
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	for _, j := range p.jobs {
		j.Run = func(ctx context.Context, _ *taskgraph.Task) error { <-ctx.Done(); return ctx.Err() }
	}
	_, err = taskgraph.Run(ctx, p.jobs,
		taskgraph.Options{Dir: p.dir, Out: "out", State: ".state", Workers: 1, Executor: distributor})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	distributor.Close()
	assert.Eventually(t, func() bool {
		s, err := remoteexec.Inspect(context.Background(), h.Key, "1")
		return err == nil && s.Waiting+s.Working == 0
	}, 40*time.Second, 100*time.Millisecond, "what a worker had taken at that moment counts until its time is over")
}

// A host that is started again with other limits has those.
func TestAHostsLimits(t *testing.T) {
	peer.Need(t, "nats-server")
	dir := t.TempDir()
	for _, l := range []remoteexec.Limits{{Bytes: 1 << 20, Keep: time.Hour}, {Bytes: 1 << 30, Keep: 3 * time.Hour},
		{Keep: 2 * time.Hour}} {
		h, err := host.Start(t.Context(), host.Options{Dir: dir, Listen: "127.0.0.1:0", Plain: true, Limits: l})
		require.NoError(t, err)
		nc, err := nats.Connect(h.Key.Servers[0], nats.Token(h.Key.Token))
		require.NoError(t, err)
		js, err := jetstream.New(nc)
		require.NoError(t, err)
		kept, err := js.Stream(t.Context(), "OBJ_vornix-files")
		require.NoError(t, err)
		c := kept.CachedInfo().Config
		assert.Equal(t, l, remoteexec.Limits{Bytes: max(c.MaxBytes, 0), Keep: c.MaxAge})
		nc.Close()
		_, err = host.Start(t.Context(), host.Options{Dir: dir, Listen: "127.0.0.1:0"})
		assert.Equal(t, fault.Refused, fault.KindOf(err), "two servers would write over each other's files")
		h.Stop()
	}
}

// Machines that are made of one image have one name: builds tell their workers apart all the same.
func TestWorkersOfOneName(t *testing.T) {
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	p := newProject(t, 12, task{})
	alone := p.alone(t)
	for range 3 {
		work(t, h.Key, "cell", &smith{wait: 20 * time.Millisecond})
	}
	names := []string{"cell", "cell-2", "cell-3"}
	state, err := remoteexec.Inspect(t.Context(), h.Key, "1")
	require.NoError(t, err)
	require.Len(t, state.Workers, len(names))
	for i, w := range state.Workers {
		assert.Equal(t, names[i], w.Worker)
	}
	all, _, shares := p.build(t, h.Key, &smith{wait: 200 * time.Millisecond})
	assert.Equal(t, alone, all)
	for _, name := range names {
		assert.Equal(t, 2, shareOf(t, shares, name).Slots)
	}
}

// A worker says why it does nothing: another version, a step that it does not do, a recipe that
// means something else to it. The build does it itself.
func TestAWorkerDeclines(t *testing.T) {
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	p := newProject(t, 4, task{})
	alone := p.alone(t)
	other := func(o *remoteexec.WorkerOptions) { o.Version = "2" }
	stop, _ := work(t, h.Key, "newer", &smith{}, other)
	all, _, shares := p.build(t, h.Key, &smith{wait: 200 * time.Millisecond})
	assert.Equal(t, alone, all)
	assert.Equal(t, "it runs 2, and the build 1", shareOf(t, shares, "newer").Declined)
	stop()

	for why, doer := range map[string]remoteexec.Runner{"no smith does": picky{"no smith does it"},
		"means something else": picky{""}} {
		p.forget(t)
		stop, told := work(t, h.Key, "picky", &smith{}, func(o *remoteexec.WorkerOptions) { o.Do = doer })
		all, _, shares = p.build(t, h.Key, &smith{wait: 200 * time.Millisecond})
		assert.Equal(t, alone, all)
		assert.Contains(t, shareOf(t, shares, "picky").Declined, why)
		assert.True(t, told.has("declined", why))
		stop()
	}

	// One that fails at the job, or breaks down, is no reason to fail.
	for _, s := range []*smith{{fails: errors.New("out of coal")},
		{spoil: func([]byte) []byte { panic("the anvil broke") }}} {
		p.forget(t)
		stop, told := work(t, h.Key, "clumsy", s)
		all, _, _ = p.build(t, h.Key, &smith{wait: 200 * time.Millisecond})
		assert.Equal(t, alone, all)
		assert.True(t, told.has("failed", ""))
		stop()
	}
}

// A long job that one worker is at is taken over when all could help with it.
func TestALongJobIsNotLeftToOne(t *testing.T) {
	thorough.Only(t)
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	p, more := newProject(t, 0, task{Rounds: 10, Pieces: 500}), newProject(t, 0, task{Rounds: 11, Pieces: 500})
	more.jobs[0].ID, more.jobs[0].Inputs, more.jobs[0].Outputs = "other", []string{"other.in"}, []string{"other.out"}
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "other.in"), []byte("other"), 0o600))
	p.jobs = append(p.jobs, more.jobs[0])
	alone := p.alone(t)
	work(t, h.Key, "slow", &smith{wait: 40 * time.Second})
	start := time.Now()
	all, report, _ := p.build(t, h.Key, &smith{wait: 500 * time.Millisecond})
	assert.Equal(t, alone, all)
	assert.Less(t, time.Since(start), 25*time.Second)
	for _, r := range report.Results {
		assert.Empty(t, r.By)
	}
}

// A server of the team's own may ask for certificates of those who come.
func TestCertificatesOfBothSides(t *testing.T) {
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	about := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"nats.example"},
		NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		KeyUsage:    x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	cert, secret := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), cert, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), secret, 0o600))
	address, _, _ := peer.NATS(t,
		fmt.Sprintf(`tls { cert_file: "%[1]s/cert.pem", key_file: "%[1]s/key.pem", ca_file: "%[1]s/cert.pem", verify: true }`, dir))
	file := filepath.Join(dir, "farm.key")
	for own, lets := range map[string]bool{"": false,
		fmt.Sprintf("own_certificate = '''\n%s'''\nown_key = '''\n%s'''\n", cert, secret): true} {
		require.NoError(t,
			os.WriteFile(file,
				fmt.Appendf(nil, "servers = ['tls://%s']\nname = 'nats.example'\ncertificate = '''\n%s'''\n%s", address,
					cert, own), 0o600))
		k, err := remoteexec.ReadKey(file)
		require.NoError(t, err)
		_, err = remoteexec.Inspect(context.Background(), k, "1")
		assert.Equal(t, lets, err == nil, "%v", err)
	}
}

// What can't be made is not made because somebody says so.
func TestAJobThatFailsHereFailsWithHelp(t *testing.T) {
	h := started(t, t.TempDir(), "127.0.0.1:0")
	defer h.Stop()
	work(t, h.Key, "smooth", &smith{})
	p := newProject(t, 6, task{})
	distributor, err := remoteexec.Join(context.Background(), remoteexec.Options{Key: h.Key, Version: "1"})
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(p.dir, "out"), 0o700))
	broken := &finding.Failure{What: "it can't be made",
		Findings: []finding.Finding{finding.TextureDecode.At(fault.Place{File: "a0.in"}, "it is broken")}}
	for _, j := range p.jobs {
		j.Run = func(context.Context, *taskgraph.Task) error { time.Sleep(100 * time.Millisecond); return broken }
	}
	report, err := taskgraph.Run(context.Background(), p.jobs,
		taskgraph.Options{Dir: p.dir, Out: "out", State: ".state", Workers: 1, Executor: distributor})
	require.NoError(t, err)
	assert.Equal(t, len(p.jobs), report.Count(taskgraph.Failed))
	assert.Contains(t, shareOf(t, distributor.Close().Shares, "smooth").Shut, "can't be made here")
}

// picky declines, or takes recipes for something else.
type picky struct{ why string }

func (p picky) Decides(*taskgraph.Action) ([]byte, error) {
	if p.why != "" {
		return nil, errors.New(p.why)
	}
	return []byte("something else"), nil
}
func (picky) Do(context.Context, *taskgraph.Action, *taskgraph.Task, stage.Distributor) error {
	return nil
}

func TestKeys(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "farm.key")
	for text, why := range map[string]string{
		"":                            "names no server",
		"servers = ['http://x:1']":    "not a farm address",
		"servers = ['tls://u:p@x:1']": "a secret does not belong into an address",
		"servers = ['nats://10.0.0.1:1']\ntoken = 'secret-0'":                    "where others can read it",
		"servers = ['tls://x:1']\ntoken = 'secret-0'\nuser = 'a'":                "more than one",
		"servers = ['tls://x:1']\ntokens = 'secret-0'":                           "tokens",
		"servers = ['tls://x:1']\nown_key = 'secret-0'":                          "go together",
		"servers = 'secret-0":                                                    "can't be used",
		"servers = ['tls://x:1']\ntoken = '" + strings.Repeat("x", 70<<10) + "'": "too large",
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := remoteexec.ReadKey(file)
		var failed *finding.Failure
		said := fmt.Sprint(err)
		if errors.As(err, &failed) {
			said += fmt.Sprintf("%+v", failed.Findings)
		}
		assert.ErrorContains(t, errors.New(said), why, text)
		assert.NotContains(t, said, "secret-0")
	}
	h := started(t, filepath.Join(dir, "host"), "127.0.0.1:0")
	defer h.Stop()
	k, err := remoteexec.ReadKey(h.File)
	require.NoError(t, err)
	assert.Equal(t, h.Key, k)
	if os.PathSeparator == '/' {
		require.NoError(t, os.Chmod(h.File, 0o640))
		_, err = remoteexec.ReadKey(h.File)
		assert.ErrorContains(t, err, "others on this machine may read")
	}
	// A wrong token, and a host that is somebody else's.
	bad := *k
	bad.Token = "00000000000000000000000000000000"
	_, err = remoteexec.Join(context.Background(), remoteexec.Options{Key: &bad, Version: "1"})
	assert.ErrorContains(t, err, "does not let this machine in")
	assert.NotContains(t, err.Error(), bad.Token)
	other := started(t, t.TempDir(), "127.0.0.1:0")
	defer other.Stop()
	bad = *k
	bad.Certificate = other.Key.Certificate
	_, err = remoteexec.Join(context.Background(), remoteexec.Options{Key: &bad, Version: "1"})
	assert.ErrorContains(t, err, "out of reach")
	_, err = host.Start(context.Background(), host.Options{Dir: t.TempDir(), Listen: "nowhere"})
	assert.ErrorContains(t, err, "not an address to listen at")
	_, port, err := net.SplitHostPort(strings.TrimPrefix(k.Servers[0], "tls://"))
	require.NoError(t, err)
	_, err = host.Start(context.Background(), host.Options{Dir: t.TempDir(), Listen: "127.0.0.1:" + port})
	assert.ErrorContains(t, err, "does not start at")
	assert.ErrorContains(t, err, "address already in use", "the server's own words")
}

// A host says when its server has exited, and one without a server says what to install.
func TestAHostWithoutItsServer(t *testing.T) {
	_, err := host.Start(context.Background(),
		host.Options{Dir: t.TempDir(), Listen: "127.0.0.1:0", Server: "no-such-program"})
	assert.ErrorContains(t, err, "the program no-such-program was not found")
	h := started(t, t.TempDir(), "127.0.0.1:0")
	pid := h.Process()
	p, err := os.FindProcess(pid)
	require.NoError(t, err)
	require.NoError(t, p.Kill())
	select {
	case <-h.Gone():
		assert.ErrorContains(t, h.Failure(), "the farm's server has exited")
	case <-time.After(10 * time.Second):
		assert.Fail(t, "nothing was noticed")
	}
	h.Stop()
}
