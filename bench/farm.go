//go:build unix

package main

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/compile/stage"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
)

// nothing does jobs by waiting, as long as a job's work says.
type nothing struct{}

func (nothing) Decides(o *taskgraph.Action) ([]byte, error) { return o.Work, nil }

func (nothing) Do(ctx context.Context, o *taskgraph.Action, t *taskgraph.Task, _ stage.Distributor) error {
	d, err := time.ParseDuration(string(o.Work))
	if err != nil {
		return err
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
	}
	return t.Write(o.Outputs[0], []byte(o.ID))
}

// farmServer starts a farm's host as a program of its own.
func farmServer(w *workbench, dir string) (key *remoteexec.Key, file string, stop func(), err error) {
	cmd := exec.Command(w.exe, "farm", "host", "--dir", dir, "--listen", "127.0.0.1:0", "--quiet")
	if err := cmd.Start(); err != nil {
		return nil, "", nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}
	file = filepath.Join(dir, "farm.key")
	for range 500 {
		if key, err = remoteexec.ReadKey(file); err == nil {
			return key, file, stop, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	return nil, "", nil, err
}

// standIns starts workers that wait instead of working.
func standIns(key *remoteexec.Key, dir string, n int) (stop func(), err error) {
	ctx, cancel := context.WithCancel(context.Background())
	var ended, joined sync.WaitGroup
	joined.Add(n)
	for i := range n {
		d, err := safefile.MakeDir(filepath.Join(dir, fmt.Sprint(i)))
		if err != nil {
			cancel()
			return nil, err
		}
		once := sync.OnceFunc(joined.Done)
		ended.Go(func() {
			defer d.Close()
			_ = remoteexec.Work(ctx,
				remoteexec.WorkerOptions{Key: key, Version: "bench", Name: fmt.Sprintf("w%d", i), Slots: 1, Dir: d,
					Most: 1 << 30, Do: nothing{}, OnEvent: func(e remoteexec.Event) {
						if e.What == "joined" {
							once()
						}
					}})
		})
		if i%50 == 49 {
			time.Sleep(100 * time.Millisecond) // not all at the same moment
		}
	}
	joined.Wait()
	return func() { cancel(); ended.Wait() }, nil
}

// orders are jobs of which each waits so long.
func orders(n int, each time.Duration) (list []*taskgraph.Request) {
	for i := range n {
		id := fmt.Sprintf("wait %d %s", i, each)
		o := taskgraph.Action{ID: id, Step: "wait " + each.String(), Version: 1, Recipe: []byte(each.String()),
			Work: []byte(each.String()), Outputs: []string{id}}
		o.Key = taskgraph.ActionKey(&o)
		list = append(list,
			&taskgraph.Request{Action: o, Started: func(string) {}, Advance: func(string, int64, int64) {},
				Open: func(string) (io.ReadCloser, error) { return nil, os.ErrNotExist }})
	}
	return list
}

// offered has jobs done by a farm alone, all at once or one after the other, and gives how long that took.
func offered(crew *remoteexec.Client, list []*taskgraph.Request, together bool) (took []time.Duration, err error) {
	begin := time.Now()
	var offers []taskgraph.Execution
	for _, a := range list {
		start := time.Now()
		o := crew.Submit(a)
		if together {
			offers = append(offers, o)
			continue
		}
		if out := <-o.Done(); out.Err != nil {
			return nil, out.Err
		}
		took = append(took, time.Since(start))
	}
	for _, o := range offers {
		if out := <-o.Done(); out.Err != nil {
			return nil, out.Err
		}
	}
	return append(took, time.Since(begin)), nil
}

// measureFarm measures what a farm costs and brings: trips, small jobs, workers that compute, and stand-ins for many.
func measureFarm(w *workbench) (string, error) {
	dir := filepath.Join(w.dir, "farm")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	var b strings.Builder
	fmt.Fprintf(&b, "The host is `vornix farm host`, with TLS. All of it, host, build and workers, shares this machine's two processors.\n\n")
	trip, err := farmTrips(w, dir, &b)
	if err != nil {
		return "", err
	}
	rate, err := farmStandIns(w, dir, &b)
	if err != nil {
		return "", err
	}
	err = farmScaling(w, dir, &b, rate, trip)
	return b.String(), err
}

// crewOf is a build that has as many hands in a farm as wanted.
func crewOf(key *remoteexec.Key, hands int) (*remoteexec.Client, error) {
	crew, err := remoteexec.Join(context.Background(), remoteexec.Options{Key: key, Version: "bench"})
	if err != nil {
		return nil, err
	}
	for range 300 {
		if crew.Slots() >= hands {
			return crew, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	crew.Close()
	return nil, fmt.Errorf("only %d of %d workers came", crew.Slots(), hands)
}

// farmTrips measures the trip of a job, and how many small ones are done in a second.
func farmTrips(w *workbench, dir string, b *strings.Builder) (trip time.Duration, err error) {
	key, _, stop, err := farmServer(w, filepath.Join(dir, "trips"))
	if err != nil {
		return 0, err
	}
	defer stop()
	end, err := standIns(key, filepath.Join(dir, "trippers"), 2)
	if err != nil {
		return 0, err
	}
	defer end()
	crew, err := crewOf(key, 2)
	if err != nil {
		return 0, err
	}
	defer crew.Close()
	if _, err := offered(crew, orders(50, 0), false); err != nil { // all is warm
		return 0, err
	}
	took, err := offered(crew, orders(500, time.Nanosecond), false)
	if err != nil {
		return 0, err
	}
	trip = median(took[:len(took)-1])
	const many = 20_000
	took, err = offered(crew, orders(many, 2*time.Nanosecond), true)
	if err != nil {
		return 0, err
	}
	fmt.Fprintf(b, "- **The trip of a job** that takes no time, from the offer to its outcome, its record and its file along with it: %.2f ms (median of 500, one after the other).\n", 1e3*trip.Seconds())
	fmt.Fprintf(b, "- **Small jobs**: %.0f a second (%d at once, sent up to 64 in a unit, two workers).\n",
		many/took[0].Seconds(), many)
	return trip, err
}

// farmStandIns measures how well many workers are kept busy, and how many units a second that comes to.
func farmStandIns(w *workbench, dir string, b *strings.Builder) (rate float64, err error) {
	b.WriteString("\nWorkers that wait a second for each job instead of computing, five jobs for each of them: what a farm of as many machines would be kept busy with, while queue, build and all stand-ins share two processors.\n\n" +
		"| workers | jobs | at best | took | kept busy |\n|---|---|---|---|---|\n")
	for _, n := range []int{1, 10, 100, 1000} {
		key, _, stop, err := farmServer(w, filepath.Join(dir, fmt.Sprint("host", n)))
		if err != nil {
			return 0, err
		}
		err = func() error {
			defer stop()
			end, err := standIns(key, filepath.Join(dir, fmt.Sprint("in", n)), n)
			if err != nil {
				return err
			}
			defer end()
			crew, err := crewOf(key, n)
			if err != nil {
				return err
			}
			defer crew.Close()
			took, err := offered(crew, orders(5*n, time.Second), true)
			if err != nil {
				return err
			}
			rate = float64(5*n) / took[0].Seconds()
			fmt.Fprintf(b, "| %d | %d | 5.0 s | %.1f s | %.0f %% |\n", n, 5*n, took[0].Seconds(), 500/took[0].Seconds())
			return nil
		}()
		if err != nil {
			return 0, err
		}
	}
	return rate, nil
}

// lit is a build of one map: how long it took, and how much of that can be spread.
type lit struct {
	took, spread float64 // seconds
	said         string
}

// farmScaling measures a map that is lit with others' help, works a model out of it, and checks
// that on the same map with more light to find.
func farmScaling(w *workbench, dir string, b *strings.Builder, rate float64, trip time.Duration) error {
	project := filepath.Join(dir, "highline")
	if err := sourcesOf(project, filepath.Join(w.demo, "highline")); err != nil {
		return err
	}
	source := filepath.Join(project, "maps", "saltpan_relay.vnx")
	text, err := os.ReadFile(source)
	if err != nil {
		return err
	}
	build := func(procs, luxels int, more ...string) (x lit, err error) {
		if err := os.WriteFile(source,
			bytes.Replace(text, []byte("luxels=3"), fmt.Appendf(nil, "luxels=%d", luxels), 1), 0o644); err != nil {
			return lit{}, err
		}
		for _, made := range []string{".vornix", "out"} {
			if err := os.RemoveAll(filepath.Join(project, made)); err != nil {
				return lit{}, err
			}
		}
		cmd := exec.Command("taskset",
			append([]string{"-c", []string{"", "0", "0,1"}[procs], w.exe, "build", "saltpan_relay", "--project",
				project, "--jobs", fmt.Sprint(procs)}, more...)...)
		start := time.Now()
		out, err := cmd.CombinedOutput()
		if err != nil {
			return lit{}, fmt.Errorf("%w: %s", err, out)
		}
		x = lit{took: time.Since(start).Seconds(), said: string(out)}
		var times map[string]struct{ Stages map[string]float64 }
		data, err := os.ReadFile(filepath.Join(project, ".vornix", "times.json"))
		if err != nil {
			return lit{}, err
		}
		if err := json.Unmarshal(data, &times); err != nil {
			return lit{}, err
		}
		for _, stage := range []string{stage.Visibility, stage.Lighting, stage.Reflections} {
			x.spread += times["map saltpan_relay"].Stages[stage]
		}
		return x, nil
	}
	middle := func(list []lit) lit {
		slices.SortFunc(list, func(a, b lit) int { return cmp.Compare(a.took, b.took) })
		return list[len(list)/2]
	}
	_, file, stop, err := farmServer(w, filepath.Join(dir, "scaling"))
	if err != nil {
		return err
	}
	defer stop()
	cmd := exec.Command("taskset", "-c", "1", w.exe, "farm", "worker", "--key", file, "--jobs", "1", "--name", "one",
		"--dir", filepath.Join(dir, "one"))
	if err := cmd.Start(); err != nil {
		return err
	}
	defer func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }()
	time.Sleep(time.Second)
	type row struct{ one, two, helped lit }
	var rows []row
	for _, x := range []struct{ runs, luxels int }{{5, 3}, {3, 8}} {
		var one, two, helped []lit
		for range x.runs { // in turn, since this machine's speed drifts
			for _, k := range []struct {
				list  *[]lit
				procs int
				more  []string
			}{{&one, 1, nil}, {&two, 2, nil}, {&helped, 1, []string{"--farm", "--farm-key", file}}} {
				r, err := build(k.procs, x.luxels, k.more...)
				if err != nil {
					return err
				}
				*k.list = append(*k.list, r)
			}
		}
		r := row{middle(one), middle(two), middle(helped)}
		if !strings.Contains(r.helped.said, "with one: ") {
			return fmt.Errorf("the worker did not help: %s", r.helped.said)
		}
		rows = append(rows, r)
	}
	b.WriteString("\nThe map `saltpan_relay` of the demo in full (median of 5), and with eight luxels a metre instead of three (median of 3); *spread* is what of it can be spread, its visibility, light and reflections:\n\n" +
		"| luxels a metre | one processor | spread | two processors of one machine | one, and a worker with one | of two on one machine |\n|---|---|---|---|---|---|\n")
	for i, r := range rows {
		fmt.Fprintf(b, "| %d | %.1f s | %.1f s | %.1f s, %.2fx | %.1f s, %.2fx | %.2fx |\n", []int{3, 8}[i], r.one.took,
			r.one.spread, r.two.took, r.two.took/r.one.took, r.helped.took, r.helped.took/r.one.took,
			r.helped.took/r.two.took)
	}
	small, large := rows[0], rows[1]
	// Two processors of one machine halve all of it, the one with a worker only what is spread:
	// what it takes longer is half of s and half of p. Both are measured with two busy processors,
	// which are slower here than one that is alone.
	m := model{serial: small.one.took - small.one.spread, unit: 1, rate: rate}
	m.again = max(0, 2*(small.helped.took-small.two.took)-m.serial)
	said := large.two.took + (large.one.took-large.one.spread+m.again)/2
	fmt.Fprintf(b, "\n**Model.** A build has *s* seconds that only its own machine does, and *c* that can be spread, in units of *u* seconds; a worker is of use after *p* seconds, in which it brings the map to where its pieces begin, and what is lost at the ends of stages counts as that too; "+
		"queue and build manage *r* units a second. With *n* workers of one processor beside the build's own it takes *s* + max((*c* + *n p*)/(*n*+1), *c*/(*u r*)), and not more than *s* + *c*. The first row gives *s* = %.1f s, *c* = %.1f s, *p* = %.1f s: "+
		"a worker takes half of *s* and half of *p* longer than a second processor of the same machine. *u* = 1 s; *r* = %.0f, as the thousand stand-ins were given them. **Checked**: for the second row that says %.1f s, and it took %.1f s.\n\n",
		m.serial, small.one.spread, m.again, m.rate, said, large.helped.took)
	fmt.Fprintf(b, "| work that can be spread | 1 worker | 10 | 100 | 1,000 | as good as the most |\n|---|---|---|---|---|---|\n")
	for _, x := range []struct {
		what string
		c    float64
	}{{fmt.Sprintf("this map, %.0f s", small.one.spread), small.one.spread}, {"a pack, an hour", 3600},
		{"a large pack, a hundred hours", 360_000}} {
		fmt.Fprintf(b, "| %s |", x.what)
		for _, n := range []int{1, 10, 100, 1000} {
			fmt.Fprintf(b, " %s, %.1fx |", human(m.takes(x.c, n)), (m.serial+x.c)/m.takes(x.c, n))
		}
		n := m.best(x.c)
		fmt.Fprintf(b, " %.1fx, with %d |\n", (m.serial+x.c)/m.takes(x.c, n), n)
	}
	fmt.Fprintf(b, "\nSo a farm stops paying where a map has no more to spread than some *p*, and where jobs take no longer than their trips (%.1f ms here, and the way there and back on another network). The stand-ins check the rest of the model: up to a hundred workers are as busy as it says; "+
		"at a thousand it is *r* that counts, here what two processors do for a thousand workers, a queue and a build.\n", 1e3*trip.Seconds())
	return nil
}

// model says how long a build takes with help.
type model struct{ serial, again, unit, rate float64 }

func (m model) takes(c float64, n int) float64 {
	return m.serial + min(c, max((c+float64(n)*m.again)/float64(n+1), c/(m.unit*m.rate)))
}

// best is the least number of workers with which it is as fast as it gets, within a twentieth.
func (m model) best(c float64) int {
	lowest := m.takes(c, 1_000_000)
	n := 1
	for m.takes(c, n) > 1.05*lowest {
		n = n*11/10 + 1
	}
	return n
}

func human(s float64) string {
	switch {
	case s < 120:
		return fmt.Sprintf("%.1f s", s)
	case s < 7200:
		return fmt.Sprintf("%.0f min", s/60)
	}
	return fmt.Sprintf("%.1f h", s/3600)
}
