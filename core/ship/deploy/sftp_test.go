package deploy_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

func newLine(t *testing.T, to string) *peer.Line {
	l, err := peer.NewLine(to)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l
}

// remote makes the desk's target one that is reached through OpenSSH.
func (d *desk) remote(s *peer.SSHD, through string) {
	host, port, err := net.SplitHostPort(through)
	require.NoError(d.t, err)
	var n int
	_, err = fmt.Sscan(port, &n)
	require.NoError(d.t, err)
	d.target(project.Target{Kind: "sftp", Host: host, Port: n, User: s.User, Path: d.server,
		HostKey: []string{s.Fingerprint}})
	d.access.Home = s.Home
}

// zipOf packs a ZIP archive with its entries as they are.
func zipOf(t *testing.T, parts map[string][]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(parts)) {
		w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Store, CRC32: crc32.ChecksumIEEE(parts[name]),
			CompressedSize64: uint64(len(parts[name])), UncompressedSize64: uint64(len(parts[name]))})
		require.NoError(t, err)
		_, err = w.Write(parts[name])
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestOverSFTP(t *testing.T) {
	for name, config := range map[string]string{"with a shell": "", "without one": "ForceCommand internal-sftp"} {
		t.Run(name, func(t *testing.T) {
			d := newDesk(t, "ore_spiral", "tram_depot")
			s := peer.StartSSHD(t, config)
			d.remote(s, s.Address)
			r := d.must()
			assert.Equal(t, 4, r.Changed)
			assert.Equal(t, "# what there is\r\nold_shaft\r\nore_spiral\r\ntram_depot\r\n", d.read("levels.txt"))
			d.sound("deployed")
			assert.Zero(t, d.must().Changed)
			first := d.snapshot()
			d.pack("1.1.0", "tram_depot", "silt_works")
			d.must()
			d.sound("1.1.0")
			_, err := d.back("")
			require.NoError(t, err)
			assert.Equal(t, first, d.snapshot())
			tg := d.open()
			g, err := tg.Without(ctx, "ore_spiral")
			require.NoError(t, err)
			_, err = tg.Run(ctx, g, nil, options())
			require.NoError(t, err)
			assert.NotContains(t, d.snapshot(), "levels/ore_spiral.vnm")
			st := deploy.Look(ctx, d.p, "practice", d.access, true)
			assert.Empty(t, st.Error)
			assert.Equal(t, "1.0.0", st.Version)
			assert.Empty(t, st.Drift)
		})
	}
}

// Of a bundle that changed in one place only that place is sent, with the old one at hand on this machine or not.
func TestOnlyWhatDiffersIsSent(t *testing.T) {
	d := newDesk(t)
	s := peer.StartSSHD(t, "")
	d.remote(s, s.Address)
	r := rand.New(rand.NewPCG(7, 8))
	parts := map[string][]byte{}
	for i := range 20 {
		data := make([]byte, 40_000)
		for j := range data {
			data[j] = byte(r.Uint32())
		}
		parts[fmt.Sprintf("textures/%02d.dds", i)] = data
	}
	take := func(version string) {
		d.p.File.Project.Version, d.bundles = version, nil
		d.write(bundle.Dir+"/tram_depot.vnm", string(zipOf(t, parts)))
		d.bundle("tram_depot")
	}
	take("1.0.0")
	assert.Greater(t, d.must().Sent, int64(800_000))
	old := d.read("levels/tram_depot.vnm")
	parts["textures/07.dds"] = bytes.Repeat([]byte("moss "), 8000)
	take("1.1.0")
	res := d.must()
	assert.Equal(t, d.read("levels/tram_depot.vnm"), string(zipOf(t, parts)))
	assert.Less(t, res.Sent, int64(60_000), "by the directories of both archives")
	assert.Greater(t, res.Reused, int64(700_000))
	parts["textures/09.dds"][17]++
	before := filepath.Join(t.TempDir(), "before")
	require.NoError(t, os.WriteFile(before, []byte(d.read("levels/tram_depot.vnm")), 0o666))
	take("1.2.0")
	res = d.must(func(o *deploy.Options) { o.Local = func(string) string { return before } })
	assert.Less(t, res.Sent, int64(6_000), "by the old file at hand")
	assert.Equal(t, d.read("levels/tram_depot.vnm"), string(zipOf(t, parts)))
	// An archive there whose directory lies: what comes out is not what it should be, so all is sent.
	lying := []byte(old)
	for i := 100; i < 400_000; i += 997 {
		lying[i]++
	}
	d.put("levels/tram_depot.vnm", string(lying))
	parts["textures/03.dds"][17]++
	take("1.3.0")
	d.must(func(o *deploy.Options) { o.Overwrite = true })
	assert.Equal(t, d.read("levels/tram_depot.vnm"), string(zipOf(t, parts)))
}

// TestCutAtRandom runs deployments over OpenSSH whose connection is cut after a random number of
// bytes, sometimes for good: what is there is sound at every moment, the next run finishes, and
// what it leads to is always the same.
func TestCutAtRandom(t *testing.T) {
	thorough.Only(t)
	times := 6
	if n, err := strconv.Atoi(os.Getenv("VORNIX_CUTS")); err == nil { // CI wants hundreds
		times = n
	}
	d := newDesk(t, "ore_spiral", "tram_depot")
	servers := []*peer.SSHD{peer.StartSSHD(t, ""), peer.StartSSHD(t, "ForceCommand internal-sftp")}
	lines := []*peer.Line{newLine(t, servers[0].Address), newLine(t, servers[1].Address)}
	big := make([]byte, 150_000)
	r := rand.New(rand.NewPCG(3, 4))
	for i := range big {
		big[i] = byte(r.Uint32())
	}
	pack := func(version string) {
		last := map[string]string{"1.0.0": "gravel_bank", "1.1.0": "silt_works"}[version]
		d.pack(version, "ore_spiral", "tram_depot", last)
		big[100] = version[2]
		d.write(bundle.Dir+"/loam_pit.vnm", string(big))
		d.bundle("loam_pit")
	}
	states := map[string]map[string]string{}
	moved := make([]int64, 2)
	for i, v := range []string{"1.0.0", "1.1.0", "1.0.0", "1.1.0"} {
		pack(v)
		d.remote(servers[i/2], lines[i/2].Address)
		lines[i/2].After(1<<40, false)
		d.must()
		moved[i/2] = max(moved[i/2], lines[i/2].Moved())
		states[v] = d.snapshot()
	}
	failed, healed := 0, 0
	version := "1.1.0"
	for i := range times {
		which := min(1, i%4) // one of four with a shell
		p := lines[which]
		d.remote(servers[which], p.Address)
		version = map[string]string{"1.0.0": "1.1.0", "1.1.0": "1.0.0"}[version]
		pack(version)
		p.After(3000+r.Int64N(moved[which]), i%3 != 0) // after two of three the server stays away
		err := func() error {
			tg, err := deploy.Open(ctx, d.p, "practice", d.access)
			if err != nil {
				return err
			}
			defer tg.Close()
			tg.Impatient()
			_, err = tg.Run(ctx, d.goal(tg), nil, options())
			return err
		}()
		d.sound(fmt.Sprintf("cut %d", i))
		if err != nil {
			failed++
			assert.Contains(t, err.Error(), `"practice"`)
			assert.Equal(t, fault.Unreachable, fault.KindOf(err), "%v", err)
		} else {
			healed++
		}
		p.After(1<<40, false)
		d.died()
		d.must()
		d.sound(fmt.Sprintf("after cut %d", i))
		require.Equal(t, states[version], d.snapshot(), "after cut %d", i)
	}
	t.Logf("%d deployments cut: %d could not go on and were finished by the next run, %d went on by themselves", times,
		failed, healed)
	assert.NotZero(t, failed)
	assert.NotZero(t, healed)
}

func TestServersThatCantBeReached(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	s := peer.StartSSHD(t, "")
	d.remote(s, s.Address)
	about := d.p.File.Targets["practice"]
	fails := func(change func(*project.Target)) *fault.Fault {
		x := about
		change(&x)
		d.target(x)
		_, err := deploy.Open(ctx, d.p, "practice", d.access)
		var f *fault.Fault
		require.ErrorAs(t, err, &f)
		assert.Contains(t, f.What, `"practice"`)
		return f
	}
	f := fails(func(x *project.Target) { x.HostKey = []string{"SHA256:" + strings.Repeat("A", 43)} })
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.What, s.Fingerprint)
	f = fails(func(x *project.Target) { x.Port = 1 })
	assert.Equal(t, fault.Unreachable, f.Kind)
	f = fails(func(x *project.Target) { x.Path = "/nowhere/at/all" })
	assert.Equal(t, fault.Unreachable, f.Kind)
	assert.Contains(t, f.What, "/nowhere/at/all")
	f = fails(func(x *project.Target) { x.User, x.Key = "nobody-here", "~/.ssh/id_ed25519" })
	assert.Contains(t, f.What, "lets nobody in")
}

// The target's own command runs on the server after the switch; when it fails, everything goes
// back, and it runs once more for what is there again.
func TestTheTargetsCommand(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	s := peer.StartSSHD(t, "")
	d.remote(s, s.Address)
	about := d.p.File.Targets["practice"]
	about.Command = `cp levels.txt seen.txt; test ! -e refuse || { echo "not today"; exit 7; }`
	d.target(about)
	d.must()
	assert.Equal(t, d.read("levels.txt"), d.read("seen.txt"), "it runs in the target's folder, with all in place")
	before := d.snapshot()
	d.put("refuse", "")
	before["refuse"] = ""
	d.pack("1.1.0", "ore_spiral", "silt_works")
	_, err := d.run()
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Error(), "it ended with 7")
	assert.Contains(t, f.Error(), "not today")
	assert.Equal(t, before, d.snapshot(), "also for the command, which ran once more")
	require.NoError(t, os.Remove(filepath.Join(d.server, "refuse")))
	d.must()
	assert.Contains(t, d.read("seen.txt"), "silt_works")

	// One that hangs has a limit, ends when it is interrupted, and leaves nothing running.
	before = d.snapshot()
	about.Command, about.Longest = "cat > /dev/null; exec sleep 7654", 1
	d.target(about)
	d.pack("1.1.1", "ore_spiral")
	start := time.Now()
	_, err = d.run()
	assert.ErrorContains(t, err, "it did not end in 1s")
	about.Longest = 0
	d.target(about)
	tg := d.open()
	cancelled, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	_, err = tg.Run(cancelled, d.goal(tg), nil, options())
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Less(t, time.Since(start), 20*time.Second)
	assert.Equal(t, before, d.snapshot())
	assert.Eventually(t, func() bool { return exec.Command("pgrep", "-f", "sleep 7654").Run() != nil }, 10*time.Second,
		100*time.Millisecond)

	bare := peer.StartSSHD(t, "ForceCommand internal-sftp")
	d.remote(bare, bare.Address)
	x := d.p.File.Targets["practice"]
	x.Command = about.Command
	d.target(x)
	before = d.snapshot()
	d.pack("1.2.0", "ore_spiral")
	_, err = d.run()
	assert.ErrorContains(t, err, "may run no commands there")
	assert.Equal(t, before, d.snapshot())
}

// Maps that others share a server with, over two transports at once: eight targets, one of which refuses.
func TestHalfOfTheServersAreGone(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	s := peer.StartSSHD(t, "ForceCommand internal-sftp")
	var names []string
	dirs := map[string]string{}
	for i := range 8 {
		name := fmt.Sprintf("valley%d", i)
		names, dirs[name] = append(names, name), t.TempDir()
		x := project.Target{Kind: "sftp", Host: "127.0.0.1", Port: s.Port, User: s.User, Path: dirs[name],
			HostKey: []string{s.Fingerprint}}
		if i%2 == 1 {
			x.Port = 1
		}
		d.p.File.Targets[name] = x
	}
	d.access.Home = s.Home
	run := func(ctx context.Context, name string) (*deploy.Result, error) {
		tg, err := deploy.Open(ctx, d.p, name, d.access)
		if err != nil {
			return nil, err
		}
		defer tg.Close()
		return tg.Run(ctx, d.goal(tg), nil, options())
	}
	// All have begun before the first fails: after that none would.
	var begun sync.WaitGroup
	begun.Add(len(names))
	list, err := deploy.Fleet(ctx, names, deploy.FleetOptions{AtOnce: 8},
		func(ctx context.Context, name string) (*deploy.Result, error) {
			begun.Done()
			begun.Wait()
			return run(ctx, name)
		})
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
	for i, x := range list {
		if i%2 == 1 {
			assert.Equal(t, deploy.Failed, x.State)
			assert.Contains(t, x.Error, names[i])
			assert.Empty(t, snapshot(t, dirs[names[i]]))
			y := d.p.File.Targets[names[i]]
			y.Port = s.Port
			d.p.File.Targets[names[i]] = y
		} else {
			assert.Equal(t, deploy.Done, x.State, x.Error)
		}
	}
	list, err = deploy.Fleet(ctx, names, deploy.FleetOptions{AtOnce: 8}, run)
	require.NoError(t, err)
	want := snapshot(t, dirs["valley0"])
	assert.Contains(t, want, "levels/tram_depot.vnm")
	for i, x := range list {
		assert.Equal(t, []string{deploy.Unchanged, deploy.Done}[i%2], x.State)
		assert.Equal(t, want, snapshot(t, dirs[x.Target]), "all have the same")
		st := deploy.Look(ctx, d.p, x.Target, d.access, true)
		assert.Equal(t, "1.0.0", st.Version)
		assert.Empty(t, st.Drift)
	}
}

// A server whose clock is hours off, in either direction: what is compared are its own times only.
func TestAClockThatIsWrong(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	for _, off := range []time.Duration{-30 * time.Hour, 400 * time.Hour} {
		require.NoError(t, filepath.WalkDir(d.server, func(p string, e os.DirEntry, err error) error {
			info, _ := e.Info()
			if err == nil && e.Type().IsRegular() && filepath.Ext(p) == ".vnm" {
				err = os.Chtimes(p, info.ModTime().Add(off), info.ModTime().Add(off))
			}
			return err
		}))
		r := d.must()
		assert.Zero(t, r.Changed, "another time alone is no change: the content was looked at")
		assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, false).Drift)
		d.pack("1.1.0", "ore_spiral", "silt_works")
		d.must()
		d.pack("1.0.0", "ore_spiral", "tram_depot")
		d.must()
		d.sound("with the clock off")
	}
	// A lock is as old as the target's clock says, whatever the holder's said.
	d.put(".vornix-target/lock.json",
		`{"id":"x","by":"vole@bank","host":"bank","pid":1,"command":"vornix release","since":"1999-01-01T00:00:00Z"}`)
	lock := filepath.Join(d.server, ".vornix-target", "lock.json")
	old := time.Now().Add(-5 * time.Minute)
	require.NoError(t, os.Chtimes(lock, old, old))
	_, err := d.run()
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.What, "last sign of life 5m0s ago")
	assert.Contains(t, f.Do, "has probably ended")
	old = time.Now().Add(-11 * time.Minute)
	require.NoError(t, os.Chtimes(lock, old, old))
	d.must() // it has expired
	assert.NoFileExists(t, lock)
}

// A server whose account may not write into one folder, or whose disk is full: nothing is changed,
// and it says where and why.
func TestServersThatCantTakeIt(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root can set such servers up")
	}
	d := newDesk(t, "ore_spiral")
	s := peer.StartSSHD(t, "ForceCommand internal-sftp")
	d.remote(s, s.Address)
	about := d.p.File.Targets["practice"]
	d.server = filepath.Join("/tmp", fmt.Sprintf("vornix-test-%d", os.Getpid()), "server")
	t.Cleanup(func() { os.RemoveAll(filepath.Dir(d.server)) })
	about.Path, about.User = d.server, "nobody"
	about.Key = s.Key
	d.target(about)
	require.NoError(t, os.MkdirAll(filepath.Join(d.server, "levels"), 0o755))
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, _ := strconv.Atoi(nobody.Uid)
	require.NoError(t, os.Chmod(filepath.Dir(d.server), 0o755))
	require.NoError(t, os.Chown(d.server, uid, -1))
	require.NoError(t, os.Chmod(filepath.Dir(s.Allowed), 0o755)) // the keys are read as that account
	for at := filepath.Dir(s.Allowed); at != "/tmp" && at != "/"; at = filepath.Dir(at) {
		_ = os.Chmod(at, 0o755)
	}
	require.NoError(t, os.Chmod(s.Allowed, 0o644))
	d.put("levels.txt", "old_shaft\n")
	before := d.snapshot()
	_, err = d.run()
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Error(), "levels/ore_spiral.vnm")
	assert.Contains(t, f.Error(), "no permission")
	assert.Contains(t, f.What, `"practice"`)
	assert.Equal(t, before, d.snapshot())
	require.NoError(t, os.Chown(filepath.Join(d.server, "levels"), uid, -1))
	require.NoError(t, os.Chown(filepath.Join(d.server, "levels.txt"), uid, -1))
	d.must()

	for _, size := range []int{400_000, 3_000_000} { // one that is tried, and one that is seen not to fit before
		small := filepath.Join(t.TempDir(), "small")
		require.NoError(t, os.Mkdir(small, 0o777))
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=300k", "tmpfs",
			small).CombinedOutput(); err != nil {
			t.Skipf("no small disk can be made here: %s", out)
		}
		t.Cleanup(func() { _ = exec.Command("umount", small).Run() })
		d.remote(s, s.Address)
		about := d.p.File.Targets["practice"]
		about.Path = small
		d.target(about)
		d.server = small
		d.pack("1.0.0", "ore_spiral")
		d.must()
		before := d.snapshot()
		d.pack("1.1.0", "ore_spiral")
		d.write(bundle.Dir+"/loam_pit.vnm", strings.Repeat("not much to say; ", size/17))
		d.bundle("loam_pit")
		_, err = d.run()
		require.ErrorAs(t, err, &f)
		assert.Regexp(t, "disk is full|KB free", f.Error())
		assert.Equal(t, before, d.snapshot())
		staged, _ := os.ReadDir(filepath.Join(small, ".vornix-target", d.p.File.Project.Name, "staged"))
		assert.LessOrEqual(t, len(staged), 1, "what would keep the disk full is gone")
		d.pack("1.1.0", "ore_spiral")
		d.must()
	}
}

// What runs on the server is not what it is called: hashes that are wrong end it before anything is
// changed, lists that can't be read are made over SFTP, and what is missing is done without.
func TestOddPrograms(t *testing.T) {
	thorough.Only(t)
	for name, c := range map[string]struct {
		programs map[string]string
		fails    bool
	}{
		"hashes that lie": {map[string]string{"openssl": "exit 1",
			"sha256sum": `for f in "$@"; do echo "` + strings.Repeat("0", 64) + `  $f"; done`}, true},
		"no hashes at all": {map[string]string{"openssl": "exit 1", "sha256sum": "echo I am something else",
			"shasum": "exit 1"}, false},
		"a find of another kind": {
			map[string]string{"find": `case "$*" in *maxdepth\ 0*) echo find;; *) echo "total 5 files";; esac`}, false},
		"no gzip": {map[string]string{"gzip": "exit 127"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			bin := t.TempDir()
			for program, script := range c.programs {
				require.NoError(t, os.WriteFile(filepath.Join(bin, program), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
			}
			d := newDesk(t, "ore_spiral", "tram_depot")
			s := peer.StartSSHD(t, `SetEnv SHLVL=2 PATH="`+bin+`:/usr/bin:/bin"`)
			d.remote(s, s.Address)
			before := d.snapshot()
			_, err := d.run()
			if c.fails {
				assert.ErrorContains(t, err, "does not arrive whole")
				assert.Equal(t, before, d.snapshot())
				return
			}
			require.NoError(t, err)
			d.sound(name)
			assert.Contains(t, d.read("levels.txt"), "tram_depot")
			d.pack("1.1.0", "ore_spiral", "silt_works")
			d.must()
			d.sound(name)
			assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, true).Drift)
		})
	}
}

// Whatever is under way on a line that answers no more ends soon after it is not wanted any more.
func TestInterruptedWhileNothingAnswers(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	s := peer.StartSSHD(t, "ForceCommand internal-sftp")
	p := newLine(t, s.Address)
	d.remote(s, p.Address)
	tg := d.open()
	goal := d.goal(tg)
	p.Mute()
	stopped, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	start := time.Now()
	_, err := tg.Run(stopped, goal, nil, options())
	require.Error(t, err)
	assert.Less(t, time.Since(start), 5*time.Second)
}

// An account whose login shell is a C shell gets large files and runs commands as any other.
func TestAnAccountWithACShell(t *testing.T) {
	tcsh := peer.Need(t, "tcsh")
	s := peer.StartSSHD(t, fmt.Sprintf("ForceCommand exec %s -fc \"$SSH_ORIGINAL_COMMAND\"", tcsh))
	d := newDesk(t)
	d.remote(s, s.Address)
	r := rand.New(rand.NewPCG(3, 4))
	data := make([]byte, 9<<20)
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	d.write(bundle.Dir+"/ore_spiral.vnm", string(data))
	d.bundle("ore_spiral")
	x := d.p.File.Targets["practice"]
	x.Command = "echo \"it's done! $(cat levels.txt | wc -l)\"\necho second > seen.txt"
	d.target(x)
	d.must()
	assert.Equal(t, string(data), d.read("levels/ore_spiral.vnm"))
	assert.Equal(t, "second\n", d.read("seen.txt"))
	data[5<<20] ^= 1
	d.p.File.Project.Version, d.bundles = "1.1.0", nil
	d.write(bundle.Dir+"/ore_spiral.vnm", string(data))
	d.bundle("ore_spiral")
	d.must()
	assert.Equal(t, string(data), d.read("levels/ore_spiral.vnm"))
}
