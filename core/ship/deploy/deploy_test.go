package deploy_test

import (
	"compress/bzip2"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/transport"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

func TestPlanThenRunThenNothing(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.write("cards/common.txt", "for all")
	d.write("cards/ore_spiral.txt", "for one")
	d.put("levels/foreign.vnm", "somebody's")
	before := d.snapshot()
	p := d.plan()
	assert.Equal(t, map[string]deploy.Operation{"levels/ore_spiral.vnm": deploy.Add,
		"levels/tram_depot.vnm": deploy.Add,
		"cards/common.txt":      deploy.Add, "cards/ore_spiral.txt": deploy.Add,
		"levels.txt": deploy.Change, "timetable.txt": deploy.Change}, actions(p))
	assert.Equal(t, []string{"levels/foreign.vnm"}, p.Foreign)
	assert.Equal(t, before, d.snapshot(), "a plan changes nothing")
	assert.NoDirExists(t, filepath.Join(d.server, ".vornix-target"))

	r := d.must()
	assert.Equal(t, 6, r.Changed)
	assert.Equal(t, "# what there is\r\nold_shaft\r\nore_spiral\r\ntram_depot\r\n", d.read("levels.txt"),
		"comments, foreign lines and line ends stay")
	assert.Equal(t, "old_shaft dig\nore_spiral\ntram_depot shift\n", d.read("timetable.txt"))
	assert.Equal(t, "somebody's", d.read("levels/foreign.vnm"))
	sum, _, err := safefile.HashFile(filepath.Join(d.server, "levels", "ore_spiral.vnm"))
	require.NoError(t, err)
	assert.Equal(t, d.bundles[0].SHA256, sum)

	after := d.snapshot()
	assert.Zero(t, d.must().Changed)
	assert.Equal(t, after, d.snapshot())
	list, err := d.open().History(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1, "what changed nothing is no deployment")
	assert.Equal(t, "mole@burrow", list[0].By)

	d.p.File.Project.Version = "1.0.1" // the same files under a new version: only the record changes
	assert.Zero(t, d.must().Changed)
	assert.Equal(t, "1.0.1", deploy.Look(ctx, d.p, "practice", d.access, true).Version)
	assert.Equal(t, after, d.snapshot())

	same := deploy.Access{Account: "mole", Host: "burrow"}
	d.put("levels/tram_depot.vnm", strings.Repeat("x", int(d.bundles[1].Size)))
	info, err := os.Stat(filepath.Join(d.server, "levels", "ore_spiral.vnm"))
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(filepath.Join(d.server, "levels", "tram_depot.vnm"), info.ModTime(), info.ModTime()))
	st := deploy.Look(ctx, d.p, "practice", same, true)
	assert.Equal(t, []string{"levels/tram_depot.vnm"}, st.Drift,
		"what keeps its size is found by content, whatever its time says")
}

func TestVersionsComeBack(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	about := d.p.File.Targets["practice"]
	about.Keep = 3
	d.target(about)
	empty := d.snapshot()
	states := map[string]map[string]string{}
	deployed := func(version string, maps ...string) {
		d.pack(version, maps...)
		d.must()
		states[version] = d.snapshot()
	}
	deployed("1.0.0", "ore_spiral", "tram_depot")
	_, err := d.back("")
	require.NoError(t, err)
	assert.Equal(t, empty, d.snapshot(), "before the first there was nothing")
	_, err = d.back("")
	assert.Equal(t, fault.Refused, fault.KindOf(err), "further back there is nothing")
	deployed("1.1.0", "ore_spiral", "silt_works")
	deployed("1.2.0", "silt_works", "tram_depot")
	deployed("1.3.0", "silt_works")
	d.put("levels.txt", d.read("levels.txt")+"# another shaft\r\n") // somebody's line, which no way back may lose
	for _, version := range []string{"", "1.1.0", "1.3.0"} {
		r, err := d.back(version)
		require.NoError(t, err)
		want := states[r.Plan.Version]
		now := d.snapshot()
		assert.Contains(t, now["levels.txt"], "# another shaft")
		for name, text := range want {
			if strings.HasPrefix(name, "levels/") {
				assert.Equal(t, text, now[name], "%s of %s", name, r.Plan.Version)
			}
		}
		assert.Len(t, now, len(want))
		for _, m := range []string{"ore_spiral", "silt_works", "tram_depot"} {
			assert.Equal(t, strings.Contains(want["levels.txt"], m), strings.Contains(now["levels.txt"], m), "%s in %s",
				m, r.Plan.Version)
		}
		d.sound(version)
	}
	_, err = d.back("1.0.0")
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Refused, f.Kind)
	assert.NotContains(t, f.Do, "1.0.0")
	assert.Contains(t, f.Do, "1.1.0")
	safe, err := os.ReadDir(filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name, "safe"))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(safe), 8, "what nobody can go back to is gone")
	// A damaged copy is noticed before anything changes.
	for _, e := range safe {
		require.NoError(t,
			os.WriteFile(filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name, "safe", e.Name()),
				[]byte("rust"), 0o666))
	}
	before := d.snapshot()
	_, err = d.back("1.1.0")
	assert.ErrorContains(t, err, "damaged")
	assert.Equal(t, before, d.snapshot())

	list, err := d.open().History(ctx)
	require.NoError(t, err)
	assert.Equal(t, deploy.RollingBack, list[0].Kind)
	possible := 0
	for _, r := range list {
		if r.Possible {
			possible++
		}
	}
	assert.Equal(t, 3, possible)
}

// What many deployments leave is bounded, and can still be read by a machine that has seen none of them.
func TestManyDeployments(t *testing.T) {
	thorough.Only(t)
	d := newDesk(t, "ore_spiral")
	for i := range 45 {
		d.pack(fmt.Sprintf("1.%d.0", i%10), "ore_spiral", fmt.Sprintf("shaft_%d", i%3))
		d.must()
	}
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "targets")))
	assert.Zero(t, d.must().Changed)
	_, err := d.back("")
	require.NoError(t, err)
	records, err := os.ReadDir(filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name, "records"))
	require.NoError(t, err)
	assert.Less(t, len(records), 30)
}

func TestDriftIsNeverOverwrittenSilently(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.put("levels/tram_depot.vnm", "another tram depot")
	_, err := d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "before Vornix put anything there")
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	first := d.snapshot()

	d.put("levels/ore_spiral.vnm", "hot fix by the server's owner")
	assert.Equal(t, []string{"levels/ore_spiral.vnm"}, deploy.Look(ctx, d.p, "practice", d.access, false).Drift)
	d.pack("1.1.0", "ore_spiral", "tram_depot")
	_, err = d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "changed there since")
	assert.Equal(t, "hot fix by the server's owner", d.read("levels/ore_spiral.vnm"))
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	_, err = d.back("")
	assert.ErrorContains(t, err, "no longer has levels/ore_spiral.vnm of version 1.0.0",
		"what was deployed is not what was found")
	tg := d.open()
	g, err := tg.Back(ctx, "", true)
	require.NoError(t, err)
	_, err = tg.Run(ctx, g, nil, options())
	require.NoError(t, err)
	assert.Equal(t, "hot fix by the server's owner", d.read("levels/ore_spiral.vnm"), "what was overwritten comes back")
	assert.Equal(t, first["levels/tram_depot.vnm"], d.read("levels/tram_depot.vnm"))
	tg = d.open()
	g, err = tg.Back(ctx, "1.1.0", false)
	require.NoError(t, err)
	_, err = tg.Run(ctx, g, nil, options())
	require.NoError(t, err, "what is there is what was gone back to")

	require.NoError(t, os.Remove(filepath.Join(d.server, "levels", "ore_spiral.vnm")))
	assert.Equal(t, "it was removed there since it was deployed", d.plan().Steps[0].Note)
	d.must()
}

func TestAFileReplacedInBetween(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	d.pack("1.1.0", "ore_spiral", "silt_works")
	tg := d.open()
	goal := d.goal(tg)
	shown, err := tg.Plan(ctx, goal, deploy.PlanOptions{})
	require.NoError(t, err)
	name := filepath.Join(d.server, "levels", "ore_spiral.vnm")
	info, err := os.Stat(name)
	require.NoError(t, err)
	whole := d.read("levels/ore_spiral.vnm")
	// Somebody changes the file after it was compared, just before the switch: its size alone, its
	// time alone, or both; or removes it, or puts one where there was none.
	for _, c := range []struct {
		what   string
		change func()
	}{
		{"size", func() {
			d.put("levels/ore_spiral.vnm", whole+"+")
			require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
		}},
		{"time", func() { require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime().Add(time.Hour))) }},
		{"gone", func() { require.NoError(t, os.Remove(name)) }},
		{"another", func() { d.put("levels/silt_works.vnm", "of another") }},
	} {
		what, before := c.what, d.snapshot()
		d.access.Dial = func(s transport.Site) transport.Site { return &staging{s, sync.OnceFunc(c.change)} }
		_, err = d.run()
		d.access.Dial = nil
		assert.ErrorContains(t, err, "by somebody while this was being deployed", what)
		assert.Equal(t, fault.Refused, fault.KindOf(err), what)
		d.put("levels/ore_spiral.vnm", whole)
		require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
		if what == "another" {
			require.NoError(t, os.Remove(filepath.Join(d.server, "levels", "silt_works.vnm")))
		}
		assert.Equal(t, before, d.snapshot(), what)
	}
	d.put("levels/ore_spiral.vnm", "somebody was faster")
	_, err = tg.Run(ctx, goal, shown, options())
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "by somebody while this was being deployed")
	assert.Equal(t, "somebody was faster", d.read("levels/ore_spiral.vnm"))

	// Another deployment between the plan and its run: it is planned anew.
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	r, err := tg.Run(ctx, goal, shown, options())
	require.NoError(t, err)
	assert.Zero(t, r.Changed)

	tg = d.open()
	d.write(bundle.Dir+"/ore_spiral.vnm", "packed again meanwhile")
	d.bundles[0].SHA256 = strings.Repeat("0", 64)
	_, err = tg.Run(ctx, d.goal(tg), nil, options())
	assert.ErrorContains(t, err, "changed while it was being deployed")
}

// staging is a site on which something happens when what was staged is verified.
type staging struct {
	transport.Site
	then func()
}

func (x *staging) Hash(ctx context.Context, rels []string) (map[string]string, error) {
	if len(rels) > 0 && strings.Contains(rels[0], "/staged/") {
		x.then()
	}
	return x.Site.Hash(ctx, rels)
}

func TestWithdraw(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	for name, maps := range map[string]string{"common": "", "ore_spiral": "", "tram_depot": ""} {
		d.write("cards/"+name+".txt", "card "+name+maps)
	}
	d.must()
	full := d.snapshot()
	d.put("timetable.txt", d.read("timetable.txt")+"ore_spiral night\n") // somebody's line about our map
	off := func(names ...string) error {
		tg := d.open()
		g, err := tg.Without(ctx, names...)
		if err != nil {
			return err
		}
		_, err = tg.Run(ctx, g, nil, options())
		return err
	}
	require.NoError(t, off("ore_spiral"))
	now := d.snapshot()
	assert.NotContains(t, now, "levels/ore_spiral.vnm")
	assert.NotContains(t, now, "cards/ore_spiral.txt")
	assert.Contains(t, now, "cards/common.txt", "another map needs it")
	assert.Equal(t, "# what there is\r\nold_shaft\r\ntram_depot\r\n", now["levels.txt"])
	assert.Equal(t, "old_shaft dig\ntram_depot shift\n", now["timetable.txt"], "nobody's line names a map that is gone")
	d.sound("withdrawn")
	err := off("ore_spirale")
	assert.Equal(t, fault.Usage, fault.KindOf(err))

	d.put("timetable.txt", "tram_depot dig\n")
	err = off("tram_depot")
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "nothing would be left in timetable.txt")
	assert.Contains(t, d.snapshot(), "levels/tram_depot.vnm")
	d.put("timetable.txt", "old_shaft dig\ntram_depot dig\n")
	require.NoError(t, off("tram_depot"))
	assert.NotContains(t, d.snapshot(), "cards/common.txt", "nobody needs it any more")

	_, err = d.back("")
	require.NoError(t, err)
	assert.Contains(t, d.snapshot(), "levels/tram_depot.vnm")
	d.must()
	now = d.snapshot()
	for name := range full {
		assert.Contains(t, now, name, "a deployment brings it back")
	}
	about := d.p.File.Targets["practice"]
	about.Without = []string{"ore_spiral"}
	d.target(about)
	d.must()
	assert.NotContains(t, d.snapshot(), "levels/ore_spiral.vnm")
	assert.NotContains(t, d.read("levels.txt"), "ore_spiral")
	about.Without = []string{"no_such"}
	d.target(about)
	tg := d.open()
	_, err = tg.NewGoal(ctx, d.p, d.bundles, d.g)
	assert.Equal(t, fault.Usage, fault.KindOf(err))
}

// A bundle that holds several maps stays when one of them is withdrawn, and goes with the last.
func TestWithdrawOneOfABundle(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.bundles[0].Maps = []string{"ore_spiral", "silt_works"}
	d.must()
	for i, m := range []string{"silt_works", "ore_spiral"} {
		tg := d.open()
		g, err := tg.Without(ctx, m)
		require.NoError(t, err)
		_, err = tg.Run(ctx, g, nil, options())
		require.NoError(t, err)
		assert.NotContains(t, d.read("levels.txt"), m)
		_, there := d.snapshot()["levels/ore_spiral.vnm"]
		assert.Equal(t, i == 0, there)
	}
}

func TestTwoProjectsOnOneServer(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.write("cards/common.txt", "for all")
	d.must()
	d.p.File.Project.Name = "upper-sidings"
	d.pack("2.0.0", "tram_depot")
	d.write("cards/common.txt", "for all")
	p := d.plan()
	assert.Empty(t, p.Before)
	assert.NotContains(t, fmt.Sprint(actions(p)), "remove", "another project's bundle is not ours to remove")
	d.must()
	assert.Contains(t, d.snapshot(), "levels/ore_spiral.vnm")
	tg := d.open()
	g, err := tg.Without(ctx, "tram_depot")
	require.NoError(t, err)
	_, err = tg.Run(ctx, g, nil, options())
	require.NoError(t, err)
	assert.Contains(t, d.snapshot(), "cards/common.txt", "the other project's map needs it")
}

func TestTheLock(t *testing.T) {
	thorough.Only(t)
	d := newDesk(t, "ore_spiral")
	inside, outside := make(chan bool), make(chan bool)
	var once sync.Once
	done := make(chan error)
	go func() {
		_, err := d.run(func(o *deploy.Options) {
			o.Between = func() { once.Do(func() { inside <- true; <-outside }) }
		})
		done <- err
	}()
	<-inside
	_, err := d.run()
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.What, "mole@burrow")
	assert.Contains(t, f.What, "last sign of life")
	assert.Contains(t, f.Do, "vornix deploy unlock practice")
	st := deploy.Look(ctx, d.p, "practice", d.access, false)
	require.NotNil(t, st.Locked)
	assert.NotEmpty(t, st.Half)
	outside <- true
	require.NoError(t, <-done)
	d.must()

	// One that was cut off as it was made, before its holder's name was in it, holds nobody up.
	for _, half := range []string{"", `{"id":"2f`} {
		d.put(".vornix-target/lock.json", half)
		d.must()
		assert.NoFileExists(t, filepath.Join(d.server, ".vornix-target", "lock.json"))
	}
	// The lock of another machine is broken by hand, and whoever held it notices.
	d.pack("1.1.0", "ore_spiral")
	before := d.snapshot()
	held, err := os.ReadFile(filepath.Join(d.server, ".vornix-target", "lock.json"))
	assert.ErrorIs(t, err, os.ErrNotExist, "%s", held)
	d.put(".vornix-target/lock.json",
		`{"id":"x","by":"vole@bank","host":"bank","pid":1,"command":"vornix release","since":"2026-11-26T10:00:00Z"}`)
	_, err = d.run()
	assert.ErrorContains(t, err, "vole@bank")
	h, err := d.open().Locked(ctx)
	require.NoError(t, err)
	require.NoError(t, d.open().Unlock(ctx, h))
	assert.Equal(t, before, d.snapshot())
	broken := func(o *deploy.Options) {
		o.Advanced = func(stage string, _, _ int64) {
			if stage == "verify" {
				d.put(".vornix-target/lock.json", `{"id":"y","by":"vole@bank"}`)
			}
		}
	}
	_, err = d.run(broken)
	assert.ErrorContains(t, err, "vole@bank took over the lock of this run")
	assert.Equal(t, before, d.snapshot())
}

func TestTheServerIsAskedAndAFailureGoesBack(t *testing.T) {
	d := newDesk(t)
	real := demotest.Built(t, "lower-sidings")
	b, err := assembly.Run(ctx, real, assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
	require.NoError(t, err)
	packed, err := bundle.Pack(ctx, real, &b.Tree, bundle.Options{})
	require.NoError(t, err)
	whole, err := os.ReadFile(real.Join(bundle.Dir, packed.Bundles[0].Name))
	require.NoError(t, err)
	take := func(version, data string) {
		d.p.File.Project.Version, d.bundles = version, nil
		d.write(bundle.Dir+"/tram_depot.vnm", data)
		d.bundle("tram_depot")
	}
	about := d.p.File.Targets["practice"]
	about.Server, about.TokenEnv = gameserver.AddressFile, "TOKEN"
	d.target(about)
	d.access.Env = func(string) string { return "secret" }
	asked := func(o *deploy.Options) { o.WithoutServer = false }
	take("1.0.0", string(whole))
	before := d.snapshot()
	_, err = d.run(asked)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.ErrorContains(t, err, "no game server runs")
	assert.Equal(t, before, d.snapshot(), "a server that does not run: nothing is changed")

	server, err := gameserver.Start(d.server, d.p.Profile, gameserver.Options{Token: "secret"})
	require.NoError(t, err)
	defer server.Close()
	r := d.must(asked)
	require.NotNil(t, r.Status)
	assert.True(t, r.Status.Find("tram_depot").Loaded)
	good := d.snapshot()

	// A bundle that is whole by its hash, but that no game can load: everything goes back, and the server plays on.
	take("1.1.0", string(whole[:len(whole)/2]))
	_, err = d.run(asked)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Error(), "tram_depot")
	assert.Contains(t, f.Why, "put back")
	assert.Equal(t, good, d.snapshot())
	assert.True(t, server.Status().Find("tram_depot").Loaded)
	list, err := d.open().History(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	d.access.Env = func(string) string { return "wrong" }
	_, err = d.run(asked)
	assert.ErrorContains(t, err, "401")
	assert.Equal(t, good, d.snapshot())
}

// Between a run that died in the middle of its switch and the next one, somebody edits a list and
// replaces a bundle: neither is lost.
func TestWhatOthersDidMeanwhileIsNotUndone(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	d.pack("1.1.0", "ore_spiral", "silt_works", "tram_depot")
	n := 0
	d.access.Dial = func(s transport.Site) transport.Site { return &cutter{Site: s, at: 1 << 30, changes: true} }
	tg := d.open()
	c := deploy.SiteOf(tg).(*cutter)
	_, err := tg.Run(ctx, d.goal(tg), nil, options(func(o *deploy.Options) {
		var mu sync.Mutex
		o.Between = func() {
			mu.Lock()
			defer mu.Unlock()
			if n++; n == 5 { // bundles and the first list are in place
				c.mu.Lock()
				c.at = c.count + 1
				c.mu.Unlock()
			}
		}
	}))
	require.ErrorIs(t, err, transport.ErrLost)
	d.access.Dial = nil
	d.died()
	d.sound("died")
	d.put("levels.txt", d.read("levels.txt")+"# somebody was here\r\n")
	d.put("levels/tram_depot.vnm", "somebody's bundle")
	_, err = d.run()
	require.Equal(t, fault.Refused, fault.KindOf(err), "%v", err)
	_, err = d.run(func(o *deploy.Options) { o.Overwrite = true })
	require.NoError(t, err)
	assert.Contains(t, d.read("levels.txt"), "# somebody was here")
	assert.Contains(t, d.read("levels.txt"), "silt_works")
	d.sound("finished")
}

func TestFleet(t *testing.T) {
	var mu sync.Mutex
	var begun []string
	run := func(bad ...string) func(context.Context, string) (*deploy.Result, error) {
		begun = nil
		return func(_ context.Context, name string) (*deploy.Result, error) {
			mu.Lock()
			begun = append(begun, name)
			mu.Unlock()
			if slices.Contains(bad, name) {
				return nil, &fault.Fault{Kind: fault.Unreachable, What: name + " is gone"}
			}
			return &deploy.Result{Changed: 1}, nil
		}
	}
	states := func(list []*deploy.Outcome) (s []string) {
		for _, x := range list {
			s = append(s, x.State)
		}
		return s
	}
	names := []string{"a", "b", "c", "d"}
	list, err := deploy.Fleet(ctx, names, deploy.FleetOptions{}, run())
	require.NoError(t, err)
	assert.Equal(t, []string{"done", "done", "done", "done"}, states(list))
	list, err = deploy.Fleet(ctx, names, deploy.FleetOptions{AtOnce: 1}, run("b"))
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	assert.Equal(t, []string{"done", "failed", "not started", "not started"}, states(list))
	assert.Equal(t, []string{"a", "b"}, begun)
	looked := 0
	look := func(_ context.Context, first *deploy.Outcome) error {
		looked++
		assert.Equal(t, []string{"a"}, begun)
		return nil
	}
	list, err = deploy.Fleet(ctx, names, deploy.FleetOptions{Wave: true, Look: look}, run())
	require.NoError(t, err)
	assert.Equal(t, []string{"done", "done", "done", "done"}, states(list))
	_, err = deploy.Fleet(ctx, names, deploy.FleetOptions{Wave: true, Look: look}, run("a"))
	require.Error(t, err)
	assert.Equal(t, []string{"a"}, begun, "the first fails: nobody follows")
	list, err = deploy.Fleet(ctx, names,
		deploy.FleetOptions{Wave: true,
			Look: func(context.Context, *deploy.Outcome) error { return errors.New("it does not look well") }}, run())
	require.Error(t, err)
	assert.Equal(t, []string{"done", "not started", "not started", "not started"}, states(list))
	assert.Equal(t, 1, looked)
}

func TestMirror(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.p.Profile.Server.Mirror = profile.Mirror{Folder: "get", Compress: []string{"gzip", "bzip2", "zstd"}}
	d.target(project.Target{Kind: "folder", Path: d.server, Role: "mirror"})
	lists := d.read("levels.txt")
	d.must()
	assert.Equal(t, lists, d.read("levels.txt"), "a mirror has no lists")
	want := d.read("get/ore_spiral.vnm")
	plain := func(ending string, open func(io.Reader) io.Reader) {
		f, err := os.Open(filepath.Join(d.server, "get", "ore_spiral.vnm"+ending))
		require.NoError(t, err)
		defer f.Close()
		data, err := io.ReadAll(open(f))
		require.NoError(t, err)
		assert.Equal(t, want, string(data), ending)
	}
	plain(".gz", func(r io.Reader) io.Reader {
		z, err := gzip.NewReader(r)
		require.NoError(t, err)
		return z
	})
	plain(".bz2", bzip2.NewReader)
	assert.Equal(t, want, peer.Run(t, d.server, peer.Need(t, "zstd"), "-dc", "get/ore_spiral.vnm.zst"))
	first := d.snapshot()
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "mirror")))
	assert.Zero(t, d.must().Changed, "the same files, the same copies")
	d.pack("1.1.0", "tram_depot")
	d.must()
	assert.Len(t, d.snapshot(), len(first)-4)
}

func TestTargetsThatAreNotThere(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	_, err := deploy.Open(ctx, d.p, "practise", d.access)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Usage, f.Kind)
	assert.Equal(t, `Did you mean "practice"?`, f.Do)
	_, err = deploy.Open(ctx, d.p, "zinc", d.access)
	require.ErrorAs(t, err, &f)
	assert.Equal(t, "Its targets: downloads, practice.", f.Do)
	require.NoError(t, os.RemoveAll(d.server))
	_, err = deploy.Open(ctx, d.p, "practice", d.access)
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Unreachable, f.Kind)
	assert.NoDirExists(t, d.server, "a folder that is not there is not made")
	st := deploy.Look(ctx, d.p, "practice", d.access, false)
	assert.False(t, st.Reachable)
	assert.NotEmpty(t, st.Error)
}

// Whoever can write into .vornix-target must not get a deployer, who may do more, to write anywhere else.
func TestWhatIsRememberedIsNotBelieved(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	own := filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name)
	outside := filepath.Join(filepath.Dir(d.server), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("not yours"), 0o600))
	sum := strings.Repeat("a", 64)
	record := func(files string) map[string]string { // with a head that stands for it
		text := `{"serial":1,"kind":"deploy","version":"1.0.0","full":true,` + files + `}`
		return map[string]string{"records/000001.json": text,
			"head.json": fmt.Sprintf(`{"kind":"vornix target","format":1,"project":"x","records":[{"serial":1,"sha256":"%x"}]}`, sha256.Sum256([]byte(text)))}
	}
	for name, files := range map[string]map[string]string{
		"half a head":  {"head.json": "{"},
		"another file": {"head.json": `{"kind":"a list"}`},
		"a record that is gone": {
			"head.json": `{"kind":"vornix target","format":1,"records":[{"serial":7,"sha256":"` + sum + `"}]}`},
		"another record":       {"records/000001.json": `{"serial":1}`},
		"a record that is not": record(`"files":[]`),
		"not the first": {"head.json": record(`"files":{}`)["head.json"],
			"records/000001.json": `{"serial":2}`},
		"a path that leads out":    record(`"files":{"../outside":{"sha256":"` + sum + `"}}`),
		"found that leads out":     record(`"files":{},"found":{"../outside":{"sha256":"` + sum + `"}}`),
		"found at the root":        record(`"files":{},"found":{"/etc/passwd":null}`),
		"a hash that is a path":    record(`"files":{"a":{"sha256":"../../../outside"}}`),
		"half a journal":           {"journal.json": `{"files":[`},
		"a journal that leads out": {"journal.json": `{"kind":"deploy","files":[{"path":"../outside"}]}`},
		"a journal's hash": {
			"journal.json": `{"kind":"deploy","files":[{"path":"levels.txt","sha256":"../../../outside"}]}`},
	} {
		kept := map[string][]byte{}
		for rel, text := range files {
			file := filepath.Join(own, filepath.FromSlash(rel))
			if data, err := os.ReadFile(file); err == nil {
				kept[file] = data
			} else {
				kept[file] = nil
			}
			require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
		}
		require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "targets")))
		before := d.snapshot()
		_, err := d.run()
		assert.ErrorContains(t, err, "damaged", name)
		assert.ErrorContains(t, err, `"practice"`, name)
		assert.Equal(t, before, d.snapshot(), name)
		st := deploy.Look(ctx, d.p, "practice", d.access, false)
		assert.Contains(t, st.Error, "damaged", name)
		for file, data := range kept {
			require.NoError(t, os.Remove(file))
			if data != nil {
				require.NoError(t, os.WriteFile(file, data, 0o666))
			}
		}
	}
	data, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "not yours", string(data))
	assert.Zero(t, d.must().Changed)
	d.put(".vornix-target/"+d.p.File.Project.Name+"/head.json", `{"kind":"vornix target","format":9}`)
	_, err = d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err), "one of a later Vornix is not touched")
}

func TestLinksOnTheTargetAreNotFollowedOut(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("making links needs rights on Windows")
	}
	d := newDesk(t, "ore_spiral")
	outside := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(d.server, "levels")))
	before := d.read("levels.txt")
	_, err := d.run()
	assert.Error(t, err)
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)
	assert.Equal(t, before, d.read("levels.txt"))
}

// The lists of a game in all forms at once, and the page that is made of it.
func TestListsAndPage(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	s := &d.p.Profile.Server
	s.Lists = append(s.Lists,
		profile.ListFile{File: "cycle.json", Line: `{"level": "{map}", "shift": "{mode}"}`, Form: "json",
			Key: "play.cycle", Escape: "json", Order: "append"},
		profile.ListFile{File: "server.cfg", Line: "{map}", Form: "setting", Around: `set cycle "{entries}"`,
			Separator: ",", Order: "append"})
	s.Welcome = profile.Welcome{File: "web/welcome.html",
		Template: "<h1>{{.title}} {{.version}}</h1>{{range .maps}}<p>{{.title}} <img src=\"{{.picture}}\">{{end}}<p>{{.notes}}", Escape: "xml", Picture: "cards/{map}.txt"}
	s.Call.Touch = "changed.txt"
	d.write("cards/tram_depot.txt", "a picture")
	d.write("notes/1.0.0.md", "Carts & <rails>.")
	d.put("server.cfg", "set name \"Burrow\"\r\nset cycle \"old_shaft\" // what is played\r\n")
	before := d.snapshot()
	d.must()
	assert.Equal(t, "set name \"Burrow\"\r\nset cycle \"old_shaft,ore_spiral,tram_depot\" // what is played\r\n",
		d.read("server.cfg"))
	assert.JSONEq(t, `{"play":{"cycle":[{"level":"ore_spiral","shift":""},{"level":"tram_depot","shift":"shift"}]}}`,
		d.read("cycle.json"))
	page := d.read("web/welcome.html")
	assert.Contains(t, page, `<p>Tram Depot <img src="../cards/tram_depot.txt">`)
	assert.Contains(t, page, "<p>Carts &amp; &lt;rails&gt;.")
	assert.Equal(t, d.p.File.Project.Name+" 1.0.0 1\n", d.read("changed.txt"))
	_, err := d.back("")
	require.NoError(t, err)
	after := d.snapshot()
	delete(after, "changed.txt")
	assert.JSONEq(t, `{"play":{"cycle":[]}}`, after["cycle.json"])
	delete(after, "cycle.json")
	assert.Equal(t, before, after)

	require.NoError(t, os.WriteFile(filepath.Join(d.server, "cycle.json"), []byte(`{"play": 3}`), 0o666))
	_, err = d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "cycle.json")
}

// died in the middle of a switch: bundles and the first list are in place.
func (d *desk) halfway(at int) {
	d.t.Helper()
	d.cutIn(at, 1)
}

// cutIn loses the connection at an operation of a step of the switch.
func (d *desk) cutIn(at, operation int) {
	d.t.Helper()
	if d.access.Dial == nil {
		d.access.Dial = func(s transport.Site) transport.Site { return &cutter{Site: s, at: 1 << 30, changes: true} }
	}
	tg := d.open()
	c := deploy.SiteOf(tg).(*cutter)
	n := 0
	var mu sync.Mutex
	_, err := tg.Run(ctx, d.goal(tg), nil, options(func(o *deploy.Options) {
		o.Between = func() {
			mu.Lock()
			defer mu.Unlock()
			if n++; n == at {
				c.mu.Lock()
				c.at = c.count + operation
				c.mu.Unlock()
			}
		}
	}))
	require.ErrorIs(d.t, err, transport.ErrLost)
	d.access.Dial = nil
	d.died()
}

// To go back to a version is to have exactly what it deployed, whatever somebody did to its files
// before the next one replaced them.
func TestGoingBackIsToWhatWasDeployed(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	first := d.snapshot()
	require.NoError(t, os.Remove(filepath.Join(d.server, "levels", "ore_spiral.vnm")))
	d.must() // it comes again
	_, err := d.back("")
	require.NoError(t, err)
	assert.Equal(t, first, d.snapshot(), "the file that somebody had removed is there")

	// A file of others that a deployment replaced comes back with it, also over two deployments.
	d = newDesk(t, "ore_spiral")
	d.must()
	d.put("levels/silt_works.vnm", "another silt works")
	before := d.snapshot()
	d.pack("1.1.0", "ore_spiral", "silt_works")
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	d.pack("1.2.0", "ore_spiral", "silt_works")
	d.must()
	_, err = d.back("1.0.0")
	require.NoError(t, err)
	assert.Equal(t, before, d.snapshot())

	// What is not there any more comes from this machine.
	d = newDesk(t, "ore_spiral")
	d.must()
	first = d.snapshot()
	kept := filepath.Join(t.TempDir(), "kept")
	require.NoError(t, os.WriteFile(kept, []byte(first["levels/ore_spiral.vnm"]), 0o600))
	sum := d.bundles[0].SHA256
	d.put("levels/ore_spiral.vnm", "a hot fix")
	d.pack("1.1.0", "ore_spiral")
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	tg := d.open()
	g, err := tg.Back(ctx, "", false)
	require.NoError(t, err)
	_, err = tg.Run(ctx, g, nil, options(func(o *deploy.Options) {
		o.Local = func(s string) string { return map[string]string{sum: kept}[s] }
	}))
	require.NoError(t, err)
	assert.Equal(t, first, d.snapshot())
}

// After a switch that did not come to its end, the plan is about what there will be when it is
// undone, and to go back is to undo it.
func TestGoingBackFromHalfASwitch(t *testing.T) {
	for at := 1; at <= 5; at++ {
		d := newDesk(t, "ore_spiral", "tram_depot")
		d.must()
		first := d.snapshot()
		d.pack("1.1.0", "ore_spiral", "silt_works", "tram_depot")
		d.halfway(at)
		assert.Empty(t, d.plan().Drift(), "what the switch put there is nobody's change")
		tg := d.open()
		g, err := tg.Back(ctx, "", false)
		require.NoError(t, err)
		assert.Equal(t, "1.0.0", g.Version)
		shown, err := tg.Plan(ctx, g, deploy.PlanOptions{})
		require.NoError(t, err)
		require.NoError(t, tg.Allowed(shown, options()))
		assert.Contains(t, shown.Half, "1.1.0")
		r, err := tg.Run(ctx, g, shown, options())
		require.NoError(t, err)
		assert.Zero(t, r.Changed)
		assert.Equal(t, first, d.snapshot(), "%d", at)
	}
	// With nothing before it, nothing is left.
	d := newDesk(t, "ore_spiral")
	before := d.snapshot()
	d.halfway(2)
	_, err := d.back("")
	require.NoError(t, err)
	assert.Equal(t, before, d.snapshot())
}

// Who runs a plan gets that plan or none: where another deployment came between, the run is refused and names it.
func TestAnotherDeploymentInBetween(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.must()
	d.pack("1.1.0", "ore_spiral", "silt_works")
	tg := d.open()
	goal := d.goal(tg)
	shown, err := tg.Plan(ctx, goal, deploy.PlanOptions{})
	require.NoError(t, err)
	assert.Equal(t, "mole@burrow", shown.Last.By)
	d.access.Account = "vole"
	d.pack("1.2.0", "ore_spiral", "loam_pit")
	d.must()
	after := d.snapshot()
	_, err = tg.Run(ctx, goal, shown, options())
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "deploy of version 1.2.0 by vole@burrow")
	assert.Equal(t, after, d.snapshot())
}

// A line that somebody edited and that names a file which the next version removes would name
// nothing: that is their change, and refused unless it may be overwritten.
func TestAnEditedLineThatWouldNameNothing(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	d.p.Profile.Server.Lists[0].Line = "{file} {version}"
	d.must()
	line := "ore_spiral.vnm 1.0.0"
	require.Contains(t, d.read("levels.txt"), line)
	d.put("levels.txt", strings.Replace(d.read("levels.txt"), line, line+" night", 1))
	d.pack("1.1.0", "silt_works")
	_, err := d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, line+" night")
	assert.Contains(t, d.read("levels.txt"), line+" night")
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	assert.NotContains(t, d.read("levels.txt"), "ore_spiral")
	assert.Contains(t, d.read("levels.txt"), "silt_works.vnm 1.1.0")
	assert.Contains(t, d.read("levels.txt"), "old_shaft", "others' lines stay")
}

// The welcome page follows what is there: a map that is withdrawn leaves it with its picture, and
// the status says that it is off.
func TestWithdrawnFromThePage(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	for _, name := range []string{"ore_spiral", "tram_depot"} {
		d.write("cards/"+name+".txt", "card of "+name)
	}
	w := &d.p.Profile.Server.Welcome
	w.File, w.Picture, w.Template = "welcome.html", "cards/{map}.txt",
		"{{.title}} {{.version}}:{{range .maps}} {{.title}} ({{.picture}}){{end}}\n"
	d.must()
	full := d.snapshot()
	require.Contains(t, d.read("welcome.html"), "cards/ore_spiral.txt")
	off := func(names ...string) {
		tg := d.open()
		g, err := tg.Without(ctx, names...)
		require.NoError(t, err)
		_, err = tg.Run(ctx, g, nil, options())
		require.NoError(t, err)
	}
	off("ore_spiral")
	assert.NotContains(t, d.read("welcome.html"), "ore_spiral")
	assert.Contains(t, d.read("welcome.html"), "cards/tram_depot.txt")
	assert.NoFileExists(t, filepath.Join(d.server, "cards", "ore_spiral.txt"))
	st := deploy.Look(ctx, d.p, "practice", d.access, true)
	assert.Equal(t, []string{"ore_spiral"}, st.Withdrawn)
	assert.Empty(t, st.Drift)
	_, err := d.back("")
	require.NoError(t, err)
	assert.Equal(t, full, d.snapshot())
	assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, true).Withdrawn)
	off("ore_spiral") // once more, after a way back
	assert.NotContains(t, d.read("welcome.html"), "ore_spiral")
}

// Two projects on one server: the plan says whose page it is, a target can leave the page to the
// other, and a template that lists all projects is shared.
func TestTwoProjectsAndOnePage(t *testing.T) {
	page := func(d *desk, template string) {
		d.p.Profile.Server.Welcome.File, d.p.Profile.Server.Welcome.Template = "welcome.html", template
	}
	second := func(first *desk, template string, maps ...string) *desk {
		d := newDesk(t, maps...)
		d.server = first.server
		d.p.File.Project.Name, d.p.File.Project.Title = "upper-sidings", "Upper Sidings"
		d.target(project.Target{Kind: "folder", Path: d.server})
		page(d, template)
		return d
	}
	const alone, shared = "{{.title}} {{.version}}\n",
		"{{range .projects}}{{.title}} {{.version}}:{{range .maps}} {{.title}}{{end}}\n{{end}}"
	one := newDesk(t, "ore_spiral")
	page(one, alone)
	one.must()
	two := second(one, alone, "tram_depot")
	_, err := two.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "the project lower_sidings deployed it")
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Do, "page = false")
	no := false
	two.target(project.Target{Kind: "folder", Path: two.server, Page: &no})
	two.must()
	assert.Equal(t, "Lower Sidings 1.0.0\n", one.read("welcome.html"))

	one = newDesk(t, "ore_spiral")
	page(one, shared)
	one.must()
	two = second(one, shared, "tram_depot")
	two.must()
	assert.Equal(t, "Lower Sidings 1.0.0: ore_spiral\nUpper Sidings 1.0.0: Tram Depot\n", one.read("welcome.html"))
	assert.Empty(t, deploy.Look(ctx, one.p, "practice", one.access, true).Drift)
	one.pack("1.1.0", "ore_spiral", "silt_works")
	one.must()
	assert.Equal(t, "Lower Sidings 1.1.0: ore_spiral silt_works\nUpper Sidings 1.0.0: Tram Depot\n",
		one.read("welcome.html"))
	two.pack("1.2.0", "tram_depot")
	two.must()
	_, err = one.back("")
	require.NoError(t, err)
	assert.Equal(t, "Lower Sidings 1.0.0: ore_spiral\nUpper Sidings 1.2.0: Tram Depot\n", one.read("welcome.html"),
		"the other's part is as it is now")
	one.put("welcome.html", "somebody's own")
	one.pack("1.3.0", "ore_spiral")
	_, err = one.run()
	assert.ErrorContains(t, err, "changed there since")
}
