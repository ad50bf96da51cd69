//go:build unix

package assembly_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/assembly"
	"vornix/core/make/sweep"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
)

// withSteps is the demo's small project with steps of its own.
func withSteps(t *testing.T, steps string) *project.Project {
	t.Helper()
	p := demotest.Built(t, "lower-sidings")
	data, err := os.ReadFile(p.Join(project.FileName))
	require.NoError(t, err)
	demotest.Put(t, p, project.FileName, append(data, "\n"+steps...))
	return demotest.Load(t, p.Dir)
}

// trusting runs everything, and writes down what was said.
func trusting(said map[string]string) assembly.Own {
	var mu sync.Mutex
	return assembly.Own{
		Trust:   trust.Everything,
		Environ: []string{"PATH=" + os.Getenv("PATH"), "SEEN=yes", "SECRET=no"},
		Said: func(step string, output []byte, _ bool) {
			mu.Lock()
			defer mu.Unlock()
			said[step] = string(output)
		},
	}
}

func runOwn(t *testing.T, ctx context.Context, p *project.Project, own assembly.Own) (*assembly.Result, error) {
	t.Helper()
	return assembly.Run(ctx, demotest.Load(t, p.Dir),
		assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}, Own: own})
}

// states are how the project's own steps ended.
func states(r *assembly.Result) map[string]taskgraph.State {
	m := map[string]taskgraph.State{}
	for _, x := range r.All {
		if x.Step == "step" {
			m[strings.TrimPrefix(x.ID, "step ")] = x.State
		}
	}
	return m
}

func failures(r *assembly.Result) (list []string) {
	for _, f := range r.Findings {
		if f.ID == finding.StepFailed.ID {
			list = append(list, f.Text)
		}
	}
	return list
}

// Steps that begin at the same time do not keep each other from running programs that were just laid out.
func TestStepsWithProgramsOfTheProjectSideBySide(t *testing.T) {
	var steps strings.Builder
	for i := range 150 {
		fmt.Fprintf(&steps,
			"[[step]]\nname = \"s%[1]d\"\ncommand = [\"tools/number.sh\", \"%[1]d\"]\nstdout = \"numbers/%[1]d.txt\"\n",
			i)
	}
	p := withSteps(t, steps.String())
	demotest.Put(t, p, "tools/number.sh", []byte("#!/bin/sh\necho $1\n"))
	require.NoError(t, os.Chmod(p.Join("tools/number.sh"), 0o755))
	r, err := assembly.Run(t.Context(), demotest.Load(t, p.Dir),
		assembly.Options{Program: "test", Workers: 16, Stages: assembly.Stages{Only: []string{}},
			Own: trusting(map[string]string{})})
	require.NoError(t, err)
	assert.Empty(t, failures(r))
}

// Steps join the graph: they see what they declare and nothing else, run again when that changes
// and not otherwise, before what reads what they make.
func TestStepsOfTheProjectsOwn(t *testing.T) {
	p := withSteps(t, `
[[step]]
name = "list"
command = ["tools/list.sh", "{name}", "{inputs}"]
inputs = ["maps/*.vnx"]
stdout = "lists/maps.txt"
environment = ["SEEN"]

[[step]]
name = "count"
command = ["sh", "-c", "cat out/tree/lists/maps.txt out/tree/levels/*.vnm | wc -c > '{out}/lists/size.txt'"]
inputs = ["out/tree/lists/maps.txt", "out/tree/levels/**"]
outputs = ["lists/size.txt"]

[[step]]
name = "card"
each = "map"
command = ["sh", "-c", "printf %s {map} > {out}/cards/{map}.txt"]
inputs = ["maps/{map}.vnx"]
outputs = ["cards/{map}.txt"]
`)
	demotest.Put(t, p, "tools/list.sh",
		[]byte("#!/bin/sh\nshift\nwc -c \"$@\"\nls >&2\ntest -e vornix.toml || echo alone >&2\nenv | grep -c -E '^(SEEN|SECRET)=' >&2\n"))
	require.NoError(t, os.Chmod(p.Join("tools/list.sh"), 0o755))
	said := map[string]string{}
	r, err := runOwn(t, t.Context(), p, trusting(said))
	require.NoError(t, err)
	assert.Equal(t, map[string]taskgraph.State{"list": taskgraph.Made, "count": taskgraph.Made,
		"card tram_depot": taskgraph.Made}, states(r))
	assert.Equal(t, "maps\ntools\nalone\n1", said["list"],
		"the declared inputs are there and nothing else, and only the variable that was named")
	source, err := os.ReadFile(p.Join("maps/tram_depot.vnx"))
	require.NoError(t, err)
	list, err := os.ReadFile(p.Join("out/tree/lists/maps.txt"))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%d maps/tram_depot.vnx", len(source)),
		strings.Join(strings.Fields(strings.SplitN(string(list), "\n", 2)[0]), " "))
	for _, f := range r.Tree.Files {
		if f.Path == "cards/tram_depot.txt" {
			assert.Equal(t, []string{"tram_depot"}, f.Maps, "it ships with its map")
		}
	}

	r, err = runOwn(t, t.Context(), p, trusting(said))
	require.NoError(t, err)
	assert.True(t, r.Quick || states(r)["list"] == taskgraph.UpToDate)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed 2"`)
	r, err = runOwn(t, t.Context(), p, trusting(said))
	require.NoError(t, err)
	assert.Equal(t, map[string]taskgraph.State{"list": taskgraph.Made, "count": taskgraph.Made,
		"card tram_depot": taskgraph.Made}, states(r))
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Shed 2"`, `title="Tram Depot"`)
	said = map[string]string{}
	r, err = runOwn(t, t.Context(), p, trusting(said))
	require.NoError(t, err)
	assert.Equal(t, map[string]taskgraph.State{"list": taskgraph.CacheHit, "count": taskgraph.CacheHit,
		"card tram_depot": taskgraph.CacheHit}, states(r))
	assert.Empty(t, said, "going back costs a copy")
	assert.NoDirExists(t, p.Join("out/tree/out"))
	left, err := filepath.Glob(p.Join(".vornix/.vornix-tmp-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	// What it sees of the environment decides like its inputs.
	changed := trusting(said)
	changed.Environ = append(changed.Environ, "SEEN=otherwise", "SECRET=otherwise")
	stale, _, err := assembly.Stale(t.Context(), demotest.Load(t, p.Dir), "test", changed)
	require.NoError(t, err)
	assert.Contains(t, stale, "step list")
	r, err = runOwn(t, t.Context(), p, changed)
	require.NoError(t, err)
	assert.Equal(t, taskgraph.Made, states(r)["list"])
	assert.Equal(t, taskgraph.UpToDate, states(r)["card tram_depot"], "it sees no such variable")

	// What a step reads is no stray file, whatever it is called.
	g, err := assetgraph.Scan(t.Context(), demotest.Load(t, p.Dir), must(demotest.Load(t, p.Dir).List()))
	require.NoError(t, err)
	plan, err := sweep.NewPlan(t.Context(), demotest.Load(t, p.Dir), g,
		sweep.Options{Now: time.Now(), Named: []string{"tools/list.sh"}})
	require.NoError(t, err)
	assert.True(t, g.ByStep["tools/list.sh"])
	assert.Len(t, plan.Go, 1, "unless it is named")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// What goes wrong in a step is said with its place and what it printed; all else is built.
func TestStepsThatFail(t *testing.T) {
	p := withSteps(t, `
[[step]]
name = "ends"
command = ["sh", "-c", "echo first; echo the reason >&2; exit 7"]
outputs = ["a.txt"]
[[step]]
name = "forgets"
command = ["sh", "-c", "echo nothing to do"]
outputs = ["b.txt"]
[[step]]
name = "links"
command = ["sh", "-c", "ln -s /etc/passwd '{out}/c.txt'"]
outputs = ["c.txt"]
[[step]]
name = "nobody"
command = ["no-such-program-here"]
outputs = ["d.txt"]
[[step]]
name = "sleeps"
command = ["sh", "-c", "sleep 60 & echo $! ; wait"]
outputs = ["e.txt"]
longest = 1
[[step]]
name = "after"
command = ["sh", "-c", "cat out/tree/a.txt"]
inputs = ["out/tree/a.txt"]
stdout = "f.txt"
`)
	said := map[string]string{}
	start := time.Now()
	r, err := runOwn(t, t.Context(), p, trusting(said))
	require.Error(t, err)
	assert.Less(t, time.Since(start), 20*time.Second)
	all := strings.Join(failures(r), "\n")
	for _, want := range []string{`the step "ends" ended with exit code 7: the reason`,
		`the step "forgets" did not make b.txt: nothing to do`, `the step "links" did not make c.txt`,
		`the program "no-such-program-here" was not found`, `the step "sleeps" did not end in 1s`} {
		assert.Contains(t, all, want)
	}
	assert.Equal(t, taskgraph.Skipped, states(r)["after"])
	assert.Equal(t, "first\nthe reason", said["ends"])
	assert.NoFileExists(t, p.Join("out/tree/c.txt"))
	assert.FileExists(t, p.Join("out/tree/levels/tram_depot.vnm"))
	gone(t, said["sleeps"])
}

// gone wants a process to end soon: what a step started ends with it.
func gone(t *testing.T, pid string) {
	t.Helper()
	id := 0
	for _, c := range strings.TrimSpace(pid) {
		id = id*10 + int(c-'0')
	}
	require.Positive(t, id)
	assert.Eventually(t, func() bool {
		if syscall.Kill(id, 0) != nil {
			return true
		}
		stat, _ := os.ReadFile(filepath.Join("/proc", strings.TrimSpace(pid), "stat"))
		return strings.Contains(string(stat), ") Z ") // ended, and nobody has asked yet
	}, 30*time.Second, 20*time.Millisecond)
}

func TestAStepIsStopped(t *testing.T) {
	p := withSteps(t, `
[[step]]
name = "long"
command = ["sh", "-c", "sleep 60 & echo $! > '`+filepath.ToSlash(t.TempDir())+`/pid'; wait"]
outputs = ["a.txt"]
`)
	file := strings.Split(p.File.Steps[0].Command[2], "'")[1]
	ctx, cancel := context.WithCancel(t.Context())
	go func() {
		for range 400 {
			if data, err := os.ReadFile(file); err == nil && len(data) > 0 {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		cancel()
	}()
	start := time.Now()
	_, err := runOwn(t, ctx, p, trusting(map[string]string{}))
	assert.ErrorIs(t, err, context.Canceled)
	assert.Less(t, time.Since(start), 12*time.Second)
	pid, err := os.ReadFile(file)
	require.NoError(t, err)
	gone(t, string(pid))
}

// Nothing of a project runs before somebody has trusted it, in this folder, as it is.
func TestTrust(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "mark")
	p := withSteps(t, `
[[step]]
name = "mark"
command = ["sh", "-c", "touch '`+filepath.ToSlash(mark)+`'; echo {version}"]
stdout = "a.txt"
`)
	store := trust.Store{File: filepath.Join(t.TempDir(), "deep", "trusted.json")}
	own := trusting(map[string]string{})
	own.Trust = store.Missing
	refused := func(p *project.Project) {
		t.Helper()
		_, err := runOwn(t, t.Context(), p, own)
		assert.Equal(t, fault.Refused, fault.KindOf(err))
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		assert.Contains(t, f.Do, "vornix trust")
		assert.NoFileExists(t, mark)
	}
	refused(p)
	assert.NoDirExists(t, p.Join("out/tree"), "nothing was built")
	allow := func(p *project.Project) {
		want, err := trust.Steps(p)
		require.NoError(t, err)
		require.NoError(t, store.Allow(p, want))
	}
	allow(p)
	_, err := runOwn(t, t.Context(), p, own)
	require.NoError(t, err)
	assert.FileExists(t, mark)
	require.NoError(t, os.Remove(mark))

	// The same project somewhere else is another one, and so is a link to it under the trusted one's name.
	other := filepath.Join(t.TempDir(), "copy")
	require.NoError(t, os.CopyFS(other, os.DirFS(p.Dir)))
	refused(demotest.Load(t, other))
	// A command that is changed is another one.
	demotest.Edit(t, p, project.FileName, "echo {version}", "echo {version} again")
	changed := demotest.Load(t, p.Dir)
	fresh, err := own.Untrusted(changed)
	require.NoError(t, err)
	assert.Len(t, fresh, 1)
	refused(changed)
	demotest.Edit(t, p, project.FileName, "echo {version} again", "echo {version}")
	list, err := store.List()
	require.NoError(t, err)
	require.Len(t, list, 1)
	had, err := store.Forget(p)
	require.NoError(t, err)
	assert.True(t, had)
	demotest.Edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	refused(p)
	// A store that can't be read trusts nobody.
	require.NoError(t, os.WriteFile(store.File, []byte("{"), 0o666))
	_, err = runOwn(t, t.Context(), p, own)
	assert.ErrorContains(t, err, "what is trusted on this machine can't be read")
}
