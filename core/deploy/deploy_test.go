package deploy_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/build"
	"vornix/core/bundle"
	"vornix/core/deploy"
	"vornix/core/fault"
	"vornix/core/needs"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/core/safefile"
	"vornix/core/standin"
	"vornix/internal/demotest"
)

// site is a packed project beside a server's folder.
type site struct {
	t       *testing.T
	p       *project.Project
	g       *needs.Graph
	bundles []bundle.Bundle
	server  string
}

func newSite(t *testing.T, name, server string) *site {
	dir := demotest.Write(t)
	s := &site{t: t, p: demotest.Load(t, filepath.Join(dir, name)), server: filepath.Join(dir, "servers", server)}
	s.pack()
	return s
}

func (s *site) pack() {
	s.t.Helper()
	ctx := context.Background()
	s.p = demotest.Load(s.t, s.p.Dir)
	b, err := build.Run(ctx, s.p, build.Options{Program: "test", Stages: build.Stages{Only: []string{}}})
	require.NoError(s.t, err)
	r, err := bundle.Pack(ctx, s.p, &b.Tree, bundle.Options{})
	require.NoError(s.t, err)
	s.bundles = r.Bundles
	s.g, err = release.Scan(ctx, s.p)
	require.NoError(s.t, err)
}

func (s *site) place() deploy.Place {
	s.t.Helper()
	pl, err := deploy.PlaceOf(s.p, "practice", func(string) string { return "" })
	require.NoError(s.t, err)
	return pl
}

func (s *site) plan() *deploy.Plan {
	s.t.Helper()
	p, err := deploy.NewPlan(s.p, s.place(), s.bundles, s.g)
	require.NoError(s.t, err)
	return p
}

func (s *site) apply(change ...func(*deploy.Options)) (*deploy.Result, error) {
	s.t.Helper()
	o := deploy.Options{WithoutServer: true}
	for _, c := range change {
		c(&o)
	}
	return deploy.Apply(context.Background(), s.plan(), o)
}

func (s *site) read(rel string) string {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.server, filepath.FromSlash(rel)))
	require.NoError(s.t, err)
	return string(data)
}

// snapshot is every file of the server but Vornix's own, with its content.
func (s *site) snapshot() map[string]string {
	s.t.Helper()
	files := map[string]string{}
	require.NoError(s.t, filepath.WalkDir(s.server, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(s.server, p)
		if e.IsDir() {
			if e.Name() == ".vornix-target" {
				return filepath.SkipDir
			}
			return nil
		}
		data, err := os.ReadFile(p)
		files[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return files
}

func actions(p *deploy.Plan) map[string]deploy.Action {
	m := map[string]deploy.Action{}
	for _, s := range p.Steps {
		m[s.Path] = s.Action
	}
	return m
}

func TestPlanThenApplyThenNothing(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	before := s.snapshot()
	assert.Equal(t, map[string]deploy.Action{"parcels/highline-1.0.0.parcel": deploy.Add, "stations.txt": deploy.Change, "rota.txt": deploy.Change}, actions(s.plan()))
	assert.Equal(t, before, s.snapshot(), "a plan changes nothing")
	assert.NoDirExists(t, filepath.Join(s.server, ".vornix-target"))

	r, err := s.apply()
	require.NoError(t, err)
	assert.Equal(t, 3, r.Changed)
	assert.Equal(t, "# the stations that this server offers\ncairn_station\nsaltpan_relay\n", s.read("stations.txt"))
	assert.Equal(t, "# what is played, in order: station and mode\ncairn_station relay\nsaltpan_relay relay\n", s.read("rota.txt"))
	sum, size, err := safefile.HashFile(filepath.Join(s.server, "parcels", "highline-1.0.0.parcel"))
	require.NoError(t, err)
	assert.Equal(t, s.bundles[0].SHA256, sum)
	assert.Equal(t, s.bundles[0].Size, size)
	after := s.snapshot()
	r, err = s.apply()
	require.NoError(t, err)
	assert.Zero(t, r.Changed)
	assert.Equal(t, after, s.snapshot())
}

func TestANewVersionTakesTheOldOneAwayAndRollbackBringsItBack(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	empty := s.snapshot()
	_, err := s.apply()
	require.NoError(t, err)
	first := s.snapshot()
	demotest.Edit(t, s.p, "maps/cairn_station.vnx", "modes=relay,dash", "modes=dash,relay")
	require.NoError(t, s.p.SetVersion("1.1.0"))
	s.pack()
	plan := s.plan()
	assert.Equal(t, "1.0.0", plan.Before)
	assert.Equal(t, map[string]deploy.Action{"parcels/highline-1.1.0.parcel": deploy.Add, "parcels/highline-1.0.0.parcel": deploy.Remove, "stations.txt": deploy.Leave, "rota.txt": deploy.Change}, actions(plan))
	_, err = s.apply()
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(s.server, "parcels", "highline-1.0.0.parcel"))
	assert.Contains(t, s.read("rota.txt"), "cairn_station dash\n")
	assert.NotContains(t, s.read("rota.txt"), "cairn_station relay", "our old line goes, since it is not wanted any more")

	back, err := deploy.PlanRollback(s.place())
	require.NoError(t, err)
	assert.Equal(t, &deploy.Back{Target: "practice", Version: "1.0.0", Restore: []string{"parcels/highline-1.0.0.parcel", "rota.txt"}, Remove: []string{"parcels/highline-1.1.0.parcel"}}, back)
	version, err := deploy.Rollback(context.Background(), s.place(), true)
	require.NoError(t, err)
	assert.Equal(t, "1.0.0", version)
	assert.Equal(t, first, s.snapshot())
	_, err = deploy.Rollback(context.Background(), s.place(), true)
	assert.Equal(t, fault.Refused, fault.KindOf(err), "there is one step to go back, not two")
	_, err = deploy.PlanRollback(s.place())
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.NotEqual(t, empty, first)
}

func TestListsKeepForeignLinesOrderAndLineEnds(t *testing.T) {
	s := newSite(t, "lower-sidings", "burrow")
	list := filepath.Join(s.server, "levels.txt")
	require.NoError(t, os.WriteFile(list, []byte("# mine\r\n\r\nold_mine  \r\n tram_depot\r\nlast"), 0o666))
	_, err := s.apply()
	require.NoError(t, err)
	assert.Equal(t, "# mine\r\n\r\nold_mine  \r\n tram_depot\r\nlast\r\n", s.read("levels.txt"), "what is there is not added again")
	require.NoError(t, os.WriteFile(list, []byte("# mine\r\n"), 0o666))
	assert.Equal(t, deploy.Change, actions(s.plan())["levels.txt"], "a line that somebody took out comes back")
	require.NoError(t, os.Remove(list))
	_, err = s.apply()
	require.NoError(t, err)
	assert.Equal(t, "tram_depot\n", s.read("levels.txt"))
}

func TestDriftIsNeverOverwrittenSilently(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	_, err := s.apply()
	require.NoError(t, err)
	file := filepath.Join(s.server, "parcels", "highline-1.0.0.parcel")
	require.NoError(t, os.WriteFile(file, []byte("hot fix by the server's owner"), 0o666))
	st, err := deploy.Look(s.place())
	require.NoError(t, err)
	assert.Equal(t, &deploy.State{Target: "practice", Version: "1.0.0", Drift: []string{"parcels/highline-1.0.0.parcel"}}, st)
	_, err = s.apply()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "changed there since")
	assert.Equal(t, "hot fix by the server's owner", s.read("parcels/highline-1.0.0.parcel"))
	_, err = s.apply(func(o *deploy.Options) { o.Overwrite = true })
	require.NoError(t, err)
	_, err = deploy.Rollback(context.Background(), s.place(), true)
	require.NoError(t, err)
	assert.Equal(t, "hot fix by the server's owner", s.read("parcels/highline-1.0.0.parcel"), "what was overwritten can come back")

	other := newSite(t, "lower-sidings", "burrow")
	require.NoError(t, os.MkdirAll(filepath.Join(other.server, "levels"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(other.server, "levels", "tram_depot.vnm"), []byte("another tram depot"), 0o666))
	_, err = other.apply()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "before Vornix put anything there")
}

func TestTheServerIsAskedAndAFailureGoesBack(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	asked := func(o *deploy.Options) { o.WithoutServer = false }
	before := s.snapshot()
	_, err := s.apply(asked)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.Equal(t, before, s.snapshot(), "a server that does not run: nothing is changed")

	server, err := standin.Start(s.server, s.p.Profile, standin.Options{})
	require.NoError(t, err)
	defer server.Close()
	r, err := s.apply(asked)
	require.NoError(t, err)
	assert.Equal(t, "cairn_station", r.Status.Playing)
	good := s.snapshot()

	// A bundle that is whole by its hash, but that no game can load: everything goes back, and the server plays on.
	require.NoError(t, s.p.SetVersion("1.1.0"))
	s.pack()
	name := s.p.Join(bundle.Dir, s.bundles[0].Name)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, []byte(strings.ReplaceAll(string(data), "materials/rock/slab.toml", "materials/rock/slob.toml")), 0o666))
	s.bundles[0].SHA256, s.bundles[0].Size, err = safefile.HashFile(name)
	require.NoError(t, err)
	_, err = s.apply(asked)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Error(), "cairn_station")
	assert.Contains(t, f.Why, "put back")
	assert.Equal(t, good, s.snapshot())
	assert.Equal(t, "cairn_station", server.Status().Playing)
}

func TestABundleThatChangesMeanwhileIsNotDeployed(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	before := s.snapshot()
	plan := s.plan()
	require.NoError(t, os.WriteFile(s.p.Join(bundle.Dir, s.bundles[0].Name), []byte("packed again meanwhile"), 0o666))
	_, err := deploy.Apply(context.Background(), plan, deploy.Options{WithoutServer: true})
	assert.ErrorContains(t, err, "changed while it was being deployed")
	assert.Equal(t, before, s.snapshot())
}

// TestKilledAtAnyMoment cuts a deployment off after each of its changes to the disk, by copying the target's folder as it
// was then, and checks that the next run brings back what was there, and that running again finishes.
func TestKilledAtAnyMoment(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	_, err := s.apply()
	require.NoError(t, err)
	before := s.snapshot()
	require.NoError(t, s.p.SetVersion("1.1.0"))
	demotest.Edit(t, s.p, "maps/cairn_station.vnx", "modes=relay,dash", "modes=dash,relay")
	s.pack()

	// The states between: journal written; then one, two, three files switched; then all of them, the journal still there.
	plan := s.plan()
	_, err = deploy.Apply(context.Background(), plan, deploy.Options{WithoutServer: true})
	require.NoError(t, err)
	after := s.snapshot()
	own := filepath.Join(s.server, ".vornix-target", "highline")
	steps := slices.Clone(plan.Steps)
	for switched := range len(steps) + 1 {
		require.NoError(t, os.Rename(filepath.Join(own, "previous.json"), filepath.Join(own, "journal.json")))
		for i, step := range steps {
			from := after
			if i >= switched {
				from = before
			}
			file := filepath.Join(s.server, filepath.FromSlash(step.Path))
			if text, ok := from[step.Path]; ok {
				require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
			} else {
				_ = os.Remove(file)
			}
		}
		for _, place := range []string{s.server, own, filepath.Join(own, "safe")} {
			require.NoError(t, os.WriteFile(filepath.Join(place, ".vornix-tmp-dead"), []byte("half"), 0o666))
		}
		_, err = deploy.Apply(context.Background(), s.plan(), deploy.Options{WithoutServer: true})
		assert.Equal(t, fault.Refused, fault.KindOf(err), "a plan made over a journal is not applied")
		undone, err := deploy.Recover(s.place(), ".", "parcels")
		require.NoError(t, err)
		assert.True(t, undone)
		require.NoError(t, filepath.WalkDir(s.server, func(p string, e os.DirEntry, err error) error {
			assert.False(t, safefile.IsTemp(e.Name()), "%s was left behind", p)
			return err
		}))
		assert.Equal(t, before, s.snapshot(), "killed after %d changes", switched)
		undone, err = deploy.Recover(s.place(), ".", "parcels")
		require.NoError(t, err)
		assert.False(t, undone, "only once")
		_, err = s.apply()
		require.NoError(t, err)
		assert.Equal(t, after, s.snapshot())
	}
}

// A deployment that fails, at whatever point, leaves the earlier one's way back as it was.
func TestAFailedDeploymentKeepsTheWayBack(t *testing.T) {
	for name, fail := range map[string]func(*site) error{
		"cancelled": func(s *site) error {
			ctx, cancel := context.WithCancel(context.Background())
			cancel()
			_, err := deploy.Apply(ctx, s.plan(), deploy.Options{WithoutServer: true})
			return err
		},
		"a folder in the place of a list": func(s *site) error {
			plan := s.plan()
			require.NoError(t, os.Remove(filepath.Join(s.server, "rota.txt")))
			require.NoError(t, os.MkdirAll(filepath.Join(s.server, "rota.txt", "x"), 0o777))
			_, err := deploy.Apply(context.Background(), plan, deploy.Options{WithoutServer: true})
			require.NoError(t, os.RemoveAll(filepath.Join(s.server, "rota.txt")))
			return err
		},
		"the server can't load it": func(s *site) error {
			server, err := standin.Start(s.server, s.p.Profile, standin.Options{})
			require.NoError(t, err)
			defer server.Close()
			file := s.p.Join(bundle.Dir, s.bundles[0].Name)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, data[:len(data)/2], 0o666))
			s.bundles[0].SHA256, s.bundles[0].Size, err = safefile.HashFile(file)
			require.NoError(t, err)
			_, err = deploy.Apply(context.Background(), s.plan(), deploy.Options{})
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newSite(t, "highline", "kestrel")
			_, err := s.apply()
			require.NoError(t, err)
			first := s.snapshot()
			for i, modes := range []string{"dash,relay", "survey,dash"} {
				require.NoError(t, s.p.SetVersion(fmt.Sprintf("1.%d.0", i+1)))
				demotest.Edit(t, s.p, "maps/cairn_station.vnx", []string{"modes=relay,dash", "modes=dash,relay"}[i], "modes="+modes)
				s.pack()
				if i == 0 {
					_, err = s.apply()
					require.NoError(t, err)
				}
			}
			require.Error(t, fail(s))
			version, err := deploy.Rollback(context.Background(), s.place(), true)
			require.NoError(t, err)
			assert.Equal(t, "1.0.0", version)
			assert.Equal(t, first, s.snapshot())
		})
	}
}

func TestTargetsThatAreNotThere(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	_, err := deploy.PlaceOf(s.p, "practise", os.Getenv)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Usage, f.Kind)
	assert.Contains(t, f.Do, `"practice"`)
	require.NoError(t, os.RemoveAll(s.server))
	_, err = deploy.PlaceOf(s.p, "practice", os.Getenv)
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Unreachable, f.Kind)
	assert.Contains(t, f.Place.String(), "vornix.toml:")
	assert.NoDirExists(t, s.server, "a folder that is not there is not made")
}

func TestTwoDeploymentsAtOnce(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	lock, err := safefile.Acquire(filepath.Join(s.server, ".vornix-target"), "vornix deploy practice")
	require.NoError(t, err)
	defer lock.Release()
	before := s.snapshot()
	_, err = s.apply()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.Contains(t, err.Error(), "vornix deploy practice")
	assert.Equal(t, before, s.snapshot())
}

func TestLinksOnTheTargetAreNotFollowedOut(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("making links needs rights on Windows")
	}
	s := newSite(t, "highline", "kestrel")
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(s.server, "parcels")))
	_, err := s.apply()
	assert.Error(t, err)
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestTwoProjectsOnOneServer(t *testing.T) {
	s := newSite(t, "highline", "kestrel")
	_, err := s.apply()
	require.NoError(t, err)
	demotest.Edit(t, s.p, "vornix.toml", `name = "highline"`, `name = "lowline"`)
	s.pack()
	plan := s.plan()
	assert.Empty(t, plan.Before)
	assert.NotContains(t, fmt.Sprint(actions(plan)), "remove", "another project's bundle is not ours to remove")
	_, err = s.apply()
	require.NoError(t, err)
	assert.Contains(t, s.snapshot(), "parcels/highline-1.0.0.parcel")
	assert.Contains(t, s.snapshot(), "parcels/lowline-1.0.0.parcel")
}
