package release_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/core/source/assetgraph"
	"vornix/demo"
	"vornix/internal/demotest"
	"vornix/internal/thorough"
)

var ctx = context.Background()

// site is a demo project whose server runs.
func site(t *testing.T) *project.Project {
	t.Helper()
	p := demotest.Load(t, filepath.Join(demotest.WriteCached(t), "highline"))
	s, err := gameserver.Start(filepath.Join(p.Dir, "..", "servers", "kestrel"), p.Profile, gameserver.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return p
}

func names(steps []release.Step) (list []string, kept int) {
	for _, s := range steps {
		list = append(list, s.Name)
		if s.Kept {
			kept++
		}
	}
	return list, kept
}

// find is the step of a name; an empty one when there is none.
func find(steps []release.Step, name string) release.Step {
	for _, s := range steps {
		if s.Name == name {
			return s
		}
	}
	return release.Step{}
}

// run releases in a session of its own.
func run(t *testing.T, p *project.Project, version string) ([]release.Step, error) {
	t.Helper()
	s, err := release.Open(demotest.Load(t, p.Dir), "test",
		release.Options{Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}, Program: "test"})
	require.NoError(t, err)
	defer s.Close()
	r, err := s.Release(ctx, version)
	return r.Steps, err
}

func TestAReleaseAndAgain(t *testing.T) {
	p := site(t)
	steps, err := run(t, p, "")
	require.NoError(t, err)
	list, _ := names(steps)
	assert.Equal(t, []string{"check", "build", "shoot", "sweep", "pack", "try", "addon", "index", "deploy", "deploy",
		"record", "report"}, list)
	for _, f := range []string{"highline-1.0.0.parcel", "addon/highline.waybill.json", "index.json",
		"pictures/banner.jpg"} {
		assert.FileExists(t, p.Join("out/releases/1.0.0", f))
	}
	events, err := ledger.Read(p)
	require.NoError(t, err)
	require.Len(t, events, 4)
	assert.Equal(t, []string{ledger.Indexed, ledger.Deployed, ledger.Deployed, ledger.Released},
		[]string{events[0].Kind, events[1].Kind, events[2].Kind, events[3].Kind})
	assert.FileExists(t, filepath.Join(p.Dir, "..", "website", "highline", "index.json"))

	steps, err = run(t, p, "1.0.0")
	require.NoError(t, err)
	_, kept := names(steps)
	assert.Equal(t, 11, kept, "all but the check, which looks again")
	events, err = ledger.Read(p)
	require.NoError(t, err)
	assert.Len(t, events, 4, "nothing happened, so nothing is recorded")
}

func TestAFinishedVersionIsNeverAltered(t *testing.T) {
	p := site(t)
	_, err := run(t, p, "")
	require.NoError(t, err)
	before, _, err := safefile.HashFile(p.Join("out/releases/1.0.0/highline-1.0.0.parcel"))
	require.NoError(t, err)
	demotest.Edit(t, p, "materials/rock/slab.toml", `surface = "rock"`, `surface = "metal"`)
	_, err = run(t, p, "")
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.Do, "vornix release 1.0.1")
	there, _, err := safefile.HashFile(filepath.Join(p.Dir, "..", "servers", "kestrel", "parcels",
		"highline-1.0.0.parcel"))
	require.NoError(t, err)
	assert.Equal(t, before, there, "the server still has what was released")

	steps, err := run(t, p, "1.0.1")
	require.NoError(t, err)
	assert.Contains(t, steps[len(steps)-3].Summary, "from version 1.0.0 to 1.0.1")
	again, _, err := safefile.HashFile(p.Join("out/releases/1.0.0/highline-1.0.0.parcel"))
	require.NoError(t, err)
	assert.Equal(t, before, again)
	assert.FileExists(t, p.Join("out/releases/1.0.1/highline-1.0.1.parcel"))
	assert.Equal(t, "1.0.1", demotest.Load(t, p.Dir).File.Project.Version)

	_, err = run(t, p, "1.0.0")
	assert.Equal(t, fault.Refused, fault.KindOf(err), "an earlier version")
	_, err = run(t, p, "one")
	assert.Equal(t, fault.Usage, fault.KindOf(err))
}

func TestAReleaseStopsAtErrorsAndGoesOnAfterThem(t *testing.T) {
	p := site(t)
	demotest.Edit(t, p, "maps/cairn_station.vnx", "item station", "item statoin")
	steps, err := run(t, p, "")
	assert.Error(t, err)
	list, _ := names(steps)
	assert.Equal(t, []string{"check"}, list)
	assert.NoDirExists(t, p.Join("out"))
	demotest.Edit(t, p, "maps/cairn_station.vnx", "item statoin", "item station")
	_, err = run(t, p, "")
	require.NoError(t, err)
}

func TestAMissingTargetIsFoundBeforeTheWork(t *testing.T) {
	p := demotest.Built(t, "highline")
	require.NoError(t, os.RemoveAll(filepath.Join(p.Dir, "..", "servers", "kestrel")))
	steps, err := run(t, p, "")
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.Empty(t, steps)
	assert.NoDirExists(t, p.Join("out"))
}

func TestTwoAtOnce(t *testing.T) {
	p := site(t)
	s := demotest.Open(t, p)
	require.NotNil(t, s)
	_, err := release.Open(p, "vornix build", release.Options{})
	assert.Equal(t, fault.Refused, fault.KindOf(err))
}

func TestStepsAlone(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	s := demotest.Open(t, p)
	_, err := s.Deploy(ctx, "practice", nil)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err), "no server runs")
	_, built, err := s.Build(ctx, nil)
	require.NoError(t, err)
	_, bundles, err := s.Pack(ctx, &built.Tree, false)
	require.NoError(t, err)
	step, err := s.Index(ctx, bundles, "", nil)
	require.NoError(t, err)
	assert.Equal(t, "version 1.0.0, 1 bundle, number 1", step.Summary)
	step, err = s.Index(ctx, bundles, "", nil)
	require.NoError(t, err)
	assert.True(t, step.Kept)
	data, err := os.ReadFile(p.Join("out/index/levels.csv"))
	require.NoError(t, err)
	assert.Equal(t, "level;title;version\ntram_depot;Tram Depot;1.0.0\n", string(data))
	step, err = s.Addon(ctx, bundles)
	require.NoError(t, err)
	assert.Len(t, step.Made, 3)
	demotest.Put(t, p, "out/addon/tram_depot.ini", []byte("by hand\n"))
	_, err = s.Addon(ctx, bundles)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	var edited *release.EditedError
	require.ErrorAs(t, err, &edited)
	assert.Contains(t, edited.Diff, "+by hand")
	step, err = release.Check(ctx, p, must(assetgraph.ScanProject(ctx, p)))
	require.NoError(t, err)
	assert.Contains(t, step.Summary, "nothing wrong")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestTheLedgerPassesOverATornLine(t *testing.T) {
	p := demotest.Built(t, "highline")
	require.NoError(t,
		ledger.Add(p, ledger.Event{Kind: ledger.Released, Time: time.Unix(1, 5), Version: "1.0.0",
			Files: map[string]string{"a": "b"}}))
	file := p.Join(ledger.Path())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(data, `{"kind":"relea`...), 0o666))
	events, err := ledger.Read(p)
	require.NoError(t, err)
	require.Len(t, events, 1)
	assert.Equal(t, "1.0.0", ledger.Release(events, "1.0.0").Version)
	assert.Nil(t, ledger.Release(events, "1.0.1"))
}

func TestSizesForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.0 kB", 1234567: "1.2 MB", 5e9: "5.00 GB"} {
		assert.Equal(t, want, release.Bytes(n))
	}
}

func TestTheDemoWritesWhatIsMissingAndLeavesTheRest(t *testing.T) {
	dir := demotest.Write(t)
	file := filepath.Join(dir, "highline", "maps", "cairn_station.vnx")
	require.NoError(t, os.WriteFile(file, []byte("mine"), 0o666))
	require.NoError(t, os.Remove(filepath.Join(dir, "highline", "textures", "sign", "highline.png")))
	n, err := demo.Write(dir)
	require.NoError(t, err)
	assert.Equal(t, 4, n, "the picture, and what the fixture leaves out")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
	other := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(other, "thesis.txt"), []byte("precious"), 0o666))
	_, err = demo.Write(other)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
}

// A new project for each game checks clean, builds, packs and can be tried.
func TestStartersAreClean(t *testing.T) {
	thorough.Only(t)
	for _, name := range project.Profiles(t.TempDir(), demo.Profiles()) {
		data, err := os.ReadFile(filepath.Join("..", "..", "demo", "profiles", name+".toml"))
		require.NoError(t, err)
		prof, err := profile.Parse(name+".toml", data)
		require.NoError(t, err)
		files, err := demo.Starter(prof, "fresh", "Fresh")
		require.NoError(t, err)
		dir := t.TempDir()
		for rel, data := range files {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, rel)), 0o777))
			require.NoError(t, os.WriteFile(filepath.Join(dir, rel), data, 0o666))
		}
		fresh := demotest.Load(t, dir)
		step, err := release.Check(ctx, fresh, must(assetgraph.ScanProject(ctx, fresh)))
		require.NoError(t, err)
		assert.True(t, strings.HasSuffix(step.Summary, "nothing wrong"), "%s: %s %v", name, step.Summary, step.Findings)
		steps, err := run(t, fresh, "")
		require.NoError(t, err)
		assert.Contains(t, find(steps, "try").Summary, "1 of 1 map loaded")
	}
}
