package taskgraph_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/make/remotecache"
	"vornix/core/make/taskgraph"
)

// team runs jobs on machines that share results in one folder.
type team struct {
	t    *testing.T
	at   string
	last remotecache.Summary
}

func (m *team) on(p *place, readOnly bool, jobs ...*taskgraph.Job) *taskgraph.Report {
	s, err := remotecache.Open(remotecache.Location{Address: m.at, ReadOnly: readOnly})
	require.NoError(m.t, err)
	line := remotecache.NewClient(context.Background(), s, remotecache.ClientOptions{Write: !readOnly})
	r := p.run(jobs, func(o *taskgraph.Options) { o.Shared, o.Workers = line, 2 })
	m.last = line.Close(context.Background())
	require.NoError(m.t, m.last.Off)
	return r
}

// kept lists what lies in the shared folder.
func (m *team) kept(kind string) (list []string) {
	_ = filepath.WalkDir(filepath.Join(m.at, kind), func(name string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			list = append(list, name)
		}
		return nil
	})
	return list
}

func machine(t *testing.T, texts map[string]string) *place {
	p := newPlace(t)
	for name, text := range texts {
		p.write(name+".txt", text)
	}
	return p
}

func TestWhatOneHasMadeOthersTake(t *testing.T) {
	m := &team{t: t, at: t.TempDir()}
	texts := map[string]string{"a": "one", "b": "two", "c": "three"}
	ada, ben := machine(t, texts), machine(t, texts)
	graph := func(p *place) []*taskgraph.Job {
		here := p.upper("c")
		here.LocalOnly = true
		return []*taskgraph.Job{p.upper("a"), p.upper("b", "a"), here}
	}
	r := m.on(ada, false, graph(ada)...)
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made, "b": taskgraph.Made, "c": taskgraph.Made},
		states(r))
	assert.Equal(t, 4, m.last.Given, "two files and their records")

	r = m.on(ben, false, graph(ben)...)
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.SharedHit, "b": taskgraph.SharedHit, "c": taskgraph.Made},
		states(r), "what is to stay on its machine is made on each")
	assert.Equal(t, "TWO+ONE", ben.read("b.out"))
	assert.Zero(t, ben.runs["a"]+ben.runs["b"])
	assert.Equal(t, remotecache.Stats{Asked: 2, Found: 2, Taken: m.last.Taken, Waited: m.last.Waited}, m.last.Stats)
	assert.Equal(t, 3, m.on(ben, false, graph(ben)...).Count(taskgraph.UpToDate), "and then has it itself")

	// A place that is new is given what was made before.
	other := &team{t: t, at: t.TempDir()}
	line := func(all bool) *remotecache.Client {
		s, err := remotecache.Open(remotecache.Location{Address: other.at})
		require.NoError(t, err)
		return remotecache.NewClient(context.Background(), s, remotecache.ClientOptions{Write: true, All: all})
	}
	for all, given := range map[bool]int{false: 0, true: 4} {
		l := line(all)
		ada.run(graph(ada), func(o *taskgraph.Options) { o.Shared = l })
		assert.Equal(t, given, l.Close(context.Background()).Given)
	}
	// Who only reads gives nothing.
	ben.write("a.txt", "another")
	before := len(m.kept(remotecache.Files))
	assert.Equal(t, taskgraph.Made, states(m.on(ben, true, graph(ben)...))["a"])
	assert.Len(t, m.kept(remotecache.Files), before)
	// Who writes gives what is new, and a record whose file went away is none.
	require.NoError(t, os.RemoveAll(filepath.Join(m.at, remotecache.Files)))
	eve := machine(t, texts)
	assert.Equal(t, 3, m.on(eve, false, graph(eve)...).Count(taskgraph.Made))
	assert.NotEmpty(t, m.kept(remotecache.Files), "the file is given again")
}

func TestTwoMachinesAtOnce(t *testing.T) {
	m := &team{t: t, at: t.TempDir()}
	texts := map[string]string{}
	for i := range 60 {
		texts[fmt.Sprintf("n%d", i)] = fmt.Sprint("text ", i/2) // every two have the same content
	}
	var work sync.WaitGroup
	machines := []*place{machine(t, texts), machine(t, texts), machine(t, texts)}
	for _, p := range machines {
		work.Go(func() {
			var jobs []*taskgraph.Job
			for name := range texts {
				jobs = append(jobs, p.upper(name))
			}
			s, err := remotecache.Open(remotecache.Location{Address: m.at, Limits: remotecache.Limits{Days: 1}})
			if !assert.NoError(t, err) {
				return
			}
			line := remotecache.NewClient(context.Background(), s, remotecache.ClientOptions{Write: true})
			r, err := p.try(context.Background(), jobs, func(o *taskgraph.Options) { o.Shared = line })
			assert.NoError(t, err)
			ended := line.Close(context.Background())
			assert.NoError(t, ended.Off)
			assert.Empty(t, ended.Rejected)
			assert.Equal(t, len(texts), r.Count(taskgraph.Made)+r.Count(taskgraph.SharedHit))
		})
	}
	work.Wait()
	for name, text := range texts {
		for _, p := range machines {
			assert.Equal(t, strings.ToUpper(text), p.read(name+".out"))
		}
	}
	assert.Len(t, m.kept(remotecache.Records), len(texts))
	assert.Len(t, m.kept(remotecache.Files), len(texts)/2)
}

func TestWhatIsWrongIsNotTaken(t *testing.T) {
	texts := map[string]string{"a": strings.Repeat("one ", 20_000)} // large enough to be asked for before it is sent
	for name, spoil := range map[string]func(m *team){
		"another file": func(m *team) {
			require.NoError(t, os.WriteFile(m.kept(remotecache.Files)[0], []byte("TWO"), 0o644))
		},
		"a longer file": func(m *team) {
			require.NoError(t,
				os.WriteFile(m.kept(remotecache.Files)[0], []byte(strings.ToUpper(texts["a"])+"and more"), 0o644))
		},
		"a cut record": func(m *team) {
			name := m.kept(remotecache.Records)[0]
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(name, data[:len(data)/2], 0o644))
		},
		"another's record": func(m *team) { rewrite(t, m, `"Key":"`, `"Key":"0`) },
		"another output":   func(m *team) { rewrite(t, m, "a.out", "../a.out") },
		"a strange finding": func(m *team) {
			rewrite(t, m, `"Findings":null`,
				`"Findings":[{"id":"made.up","severity":"error","place":{},"text":"\u001b[2J"}]`)
		},
	} {
		m := &team{t: t, at: t.TempDir()}
		ada, ben := machine(t, texts), machine(t, texts)
		m.on(ada, false, ada.upper("a"))
		spoil(m)
		s, err := remotecache.Open(remotecache.Location{Address: m.at, ReadOnly: true})
		require.NoError(t, err)
		line := remotecache.NewClient(context.Background(), s, remotecache.ClientOptions{})
		r := ben.run([]*taskgraph.Job{ben.upper("a")}, func(o *taskgraph.Options) { o.Shared = line })
		ended := line.Close(context.Background())
		assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made}, states(r), name)
		assert.Equal(t, strings.ToUpper(texts["a"]), ben.read("a.out"), name)
		assert.Len(t, ended.Rejected, 1, name)
		assert.Zero(t, ended.Found, name)
		// Who writes puts it right.
		eve := machine(t, texts)
		m.on(eve, false, eve.upper("a"))
		fay := machine(t, texts)
		assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.SharedHit}, states(m.on(fay, true, fay.upper("a"))),
			name)
	}
}

func TestAFullDiskAtThePlaceStopsNobody(t *testing.T) {
	m := &team{t: t, at: t.TempDir()}
	ada := machine(t, map[string]string{"a": "one", "b": "two"})
	s, err := remotecache.Open(remotecache.Location{Address: m.at})
	require.NoError(t, err)
	line := remotecache.NewClient(context.Background(), s, remotecache.ClientOptions{Write: true})
	written := 0
	end := safefile.Disturb(func(step safefile.DiskWrite) error {
		if strings.HasPrefix(step.Path, m.at) && step.Op == safefile.OpWrite {
			written++
			return syscall.ENOSPC
		}
		return nil
	})
	defer end()
	r := ada.run([]*taskgraph.Job{ada.upper("a"), ada.upper("b")},
		func(o *taskgraph.Options) { o.Shared, o.Workers = line, 1 })
	ended := line.Close(context.Background())
	assert.Equal(t, map[string]taskgraph.State{"a": taskgraph.Made, "b": taskgraph.Made}, states(r))
	assert.NotZero(t, written)
	assert.Equal(t, 2, ended.Left)
	assert.ErrorIs(t, ended.Off, syscall.ENOSPC)
	assert.Empty(t, m.kept(remotecache.Records), "no record of files that are not there")
	assert.Empty(t, m.kept(remotecache.Files))
}

func rewrite(t *testing.T, m *team, old, now string) {
	name := m.kept(remotecache.Records)[0]
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Contains(t, string(data), old)
	changed := strings.Replace(string(data), old, now, 1)
	require.True(t, json.Valid([]byte(changed)))
	require.NoError(t, os.WriteFile(name, []byte(changed), 0o644))
}

func TestPartsAreShared(t *testing.T) {
	m := &team{t: t, at: t.TempDir()}
	made := 0
	work := func(p *place) *taskgraph.Job {
		return &taskgraph.Job{ID: "long", Step: "long", Version: 1, Inputs: []string{"a.txt"},
			Outputs: []string{"long.out"}, Run: func(_ context.Context, task *taskgraph.Task) error {
				part, ok := task.CachedPart("the slow part")
				if !ok {
					made++
					time.Sleep(250 * time.Millisecond)
					part = []byte("slowly made")
					if err := task.CachePart("the slow part", part); err != nil {
						return err
					}
				}
				if _, ok := task.CachedPart("the quick part"); !ok {
					if err := task.CachePart("the quick part", []byte("quick")); err != nil {
						return err
					}
				}
				text, err := task.Input("a.txt")
				if err != nil {
					return err
				}
				return task.Write("long.out", text, part)
			}}
	}
	ada, ben := machine(t, map[string]string{"a": "one "}), machine(t, map[string]string{"a": "two "})
	m.on(ada, false, work(ada))
	assert.Len(t, m.kept(remotecache.Parts), 1, "what is made faster than fetched stays")
	r := m.on(ben, false, work(ben))
	assert.Equal(t, taskgraph.Made, states(r)["long"])
	assert.Equal(t, "two slowly made", ben.read("long.out"))
	assert.Equal(t, 1, made, "the part that does not depend on what differs is taken")
	assert.Equal(t, 1, m.last.Parts)
	// A damaged one is made again.
	require.NoError(t,
		os.WriteFile(m.kept(remotecache.Parts)[0], []byte("damaged, and long enough to have a checksum before it"),
			0o644))
	eve := machine(t, map[string]string{"a": "three "})
	m.on(eve, false, work(eve))
	assert.Equal(t, "three slowly made", eve.read("long.out"))
	assert.Equal(t, 2, made)
	assert.Len(t, m.last.Rejected, 1)
}
