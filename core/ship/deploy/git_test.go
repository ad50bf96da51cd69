package deploy_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/ship/deploy"
	"vornix/internal/peer"
)

// repository makes a bare repository with one commit in it, and a clone of somebody else's.
func repository(t *testing.T, d *desk) (bare, other string, git func(dir string, args ...string) string) {
	program := peer.Need(t, "git")
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	require.NoError(t,
		os.WriteFile(filepath.Join(home, ".gitconfig"),
			[]byte("[user]\nname = Mole\nemail = mole@burrow.example\n[init]\ndefaultBranch = main\n"), 0o666))
	git = func(dir string, args ...string) string { return strings.TrimSpace(peer.Run(t, dir, program, args...)) }
	bare, other = filepath.Join(t.TempDir(), "server.git"), filepath.Join(t.TempDir(), "other")
	git(home, "init", "--quiet", "--bare", bare)
	git(home, "clone", "--quiet", bare, other)
	require.NoError(t, os.MkdirAll(filepath.Join(other, "burrow"), 0o777))
	require.NoError(t,
		os.WriteFile(filepath.Join(other, "burrow", "levels.txt"), []byte("# what there is\n\n\n\n\nold_shaft\n"),
			0o666))
	require.NoError(t, os.WriteFile(filepath.Join(other, "burrow", "timetable.txt"), []byte("old_shaft dig\n"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(other, "README"), []byte("a server\n"), 0o666))
	git(other, "add", ".")
	git(other, "commit", "--quiet", "-m", "begin")
	git(other, "push", "--quiet", "origin", "HEAD")
	d.target(project.Target{Kind: "git", URL: bare, Branch: "main", Folder: "burrow", Tag: "{name}-{version}"})
	return bare, other, git
}

func TestToAGitRepository(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	bare, other, git := repository(t, d)
	d.write("notes/1.0.0.md", "Two levels.\n")
	r := d.must()
	assert.NotEmpty(t, r.Commit)
	name := d.p.File.Project.Name
	assert.Equal(t, name+"-1.0.0", r.Tag)
	assert.Equal(t, "Lower Sidings 1.0.0\n\nTwo levels.", git(bare, "log", "-1", "--format=%B", name+"-1.0.0"))
	git(other, "pull", "--quiet")
	d.server = filepath.Join(other, "burrow")
	d.sound("pulled")
	assert.NotContains(t, git(bare, "ls-tree", "-r", "--name-only", "main"), "/safe/",
		"only what others need is in the repository")
	assert.Equal(t, "# what there is\n\n\n\n\nold_shaft\nore_spiral\ntram_depot\n", d.read("levels.txt"))
	assert.Zero(t, d.must().Changed)

	// Others push meanwhile: something else is rebased over, the same lines are planned anew.
	meanwhile := func(file, text string) func(*deploy.Options) {
		var once sync.Once
		return func(o *deploy.Options) {
			o.Between = func() {
				once.Do(func() {
					git(other, "pull", "--quiet", "--rebase")
					require.NoError(t,
						os.WriteFile(filepath.Join(other, filepath.FromSlash(file)), []byte(text), 0o666))
					git(other, "commit", "--quiet", "-am", "meanwhile")
					git(other, "push", "--quiet", "origin", "HEAD")
				})
			}
		}
	}
	d.pack("1.1.0", "ore_spiral", "silt_works")
	d.must(meanwhile("README", "a better server\n"))
	git(other, "pull", "--quiet")
	assert.Equal(t, "a better server", git(other, "show", "HEAD:README"))
	assert.Contains(t, d.read("levels.txt"), "silt_works")
	assert.NoFileExists(t, filepath.Join(d.server, "levels", "tram_depot.vnm"))
	d.pack("1.2.0", "loam_pit", "ore_spiral", "silt_works")
	tg := d.open() // also by a plan that was shown: the same change of a list that others wrote into
	goal := d.goal(tg)
	shown, err := tg.Plan(ctx, goal, deploy.PlanOptions{})
	require.NoError(t, err)
	r, err = tg.Run(ctx, goal, shown,
		options(meanwhile("burrow/levels.txt",
			strings.Replace(d.read("levels.txt"), "old_shaft", "old_shaft\nnew_shaft", 1))))
	require.NoError(t, err)
	git(other, "pull", "--quiet")
	assert.Contains(t, d.read("levels.txt"), "old_shaft\nnew_shaft\n", "where ours went in too")
	assert.Contains(t, d.read("levels.txt"), "loam_pit")
	assert.Equal(t, "1.2.0", r.Plan.Version)

	// The way back works from a machine that has never seen it: what it needs is in the history.
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "git")))
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "targets")))
	_, err = d.back("1.0.0")
	require.NoError(t, err)
	git(other, "pull", "--quiet")
	assert.Contains(t, d.snapshot(), "levels/tram_depot.vnm")
	assert.Contains(t, d.read("levels.txt"), "new_shaft", "others' lines stay")
	assert.Equal(t, "Lower Sidings: back to 1.0.0", git(other, "log", "-1", "--format=%s"))
	assert.Empty(t, git(filepath.Join(d.p.State(), "git", "practice"), "status", "--porcelain"))

	// A server that refuses: nothing is left of it.
	require.NoError(t,
		os.WriteFile(filepath.Join(bare, "hooks", "pre-receive"),
			[]byte("#!/bin/sh\necho 'no deployments on Sundays'\nexit 1\n"), 0o777))
	d.pack("1.3.0", "ore_spiral")
	head := git(bare, "rev-parse", "main")
	_, err = d.run()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "no deployments on Sundays")
	assert.Equal(t, head, git(bare, "rev-parse", "main"))
	assert.NotContains(t, git(filepath.Join(d.p.State(), "git", "practice"), "tag"), "1.3.0")
	require.NoError(t, os.Remove(filepath.Join(bare, "hooks", "pre-receive")))
	d.must()
	// The project lies in a repository of its own, with the same remote, and the clone is damaged:
	// it is made anew, and nothing else is touched.
	git(d.p.Dir, "init", "--quiet")
	git(d.p.Dir, "remote", "add", "origin", bare)
	d.write("not-committed.txt", "hours of work")
	require.NoError(t, os.RemoveAll(filepath.Join(d.p.State(), "git", "practice", ".git")))
	d.pack("1.4.0", "tram_depot")
	d.must()
	assert.FileExists(t, d.p.Join("not-committed.txt"))
	assert.Contains(t, git(d.p.Dir, "status", "--short", "--branch"), "No commits yet")
	about := d.p.File.Targets["practice"]
	about.URL = bare + "-gone"
	d.target(about)
	_, err = deploy.Open(ctx, d.p, "practice", d.access)
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
}

func TestAWorkingTreeOfOnesOwn(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	bare, other, git := repository(t, d)
	about := project.Target{Kind: "git", Path: other, Folder: "burrow", Branch: "main"}
	d.target(about)
	require.NoError(t, os.WriteFile(filepath.Join(other, "README"), []byte("I am at work here\n"), 0o666))
	d.must()
	assert.Equal(t, "a server", git(bare, "show", "main:README"))
	assert.Equal(t, "M README", git(other, "status", "--porcelain"),
		"what is under way there stays, and is nobody's business")
	assert.Contains(t, git(bare, "show", "main:burrow/levels.txt"), "ore_spiral")
	// Others have pushed: to plan and to look change nothing in the user's working tree, a
	// deployment takes theirs in first.
	third := filepath.Join(t.TempDir(), "third")
	git(other, "clone", "--quiet", bare, third)
	require.NoError(t,
		os.WriteFile(filepath.Join(third, "burrow", "levels.txt"), []byte("# theirs\nold_shaft\nore_spiral\n"), 0o666))
	git(third, "commit", "--quiet", "-am", "theirs")
	git(third, "push", "--quiet", "origin", "HEAD")
	head := git(other, "rev-parse", "HEAD")
	d.pack("1.0.1", "ore_spiral", "tram_depot")
	assert.Positive(t, d.plan().Changes())
	assert.Empty(t, deploy.Look(ctx, d.p, "practice", d.access, false).Error)
	assert.Equal(t, head, git(other, "rev-parse", "HEAD"))
	d.must()
	assert.Equal(t, "# theirs\nold_shaft\nore_spiral\ntram_depot", git(bare, "show", "main:burrow/levels.txt"))
	assert.Equal(t, "M README", git(other, "status", "--porcelain"))
	git(other, "add", "README")
	d.pack("1.1.0", "ore_spiral")
	_, err := d.run2()
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "README")
	git(other, "restore", "--staged", "README")
	git(other, "switch", "--quiet", "-c", "attempt")
	_, err = d.run2()
	assert.ErrorContains(t, err, "the branch attempt is checked out")
	git(other, "switch", "--quiet", "main")
	no := false
	about.Push = &no
	d.target(about)
	before := git(bare, "rev-parse", "main")
	r := d.must()
	assert.NotEmpty(t, r.Commit)
	assert.Equal(t, before, git(bare, "rev-parse", "main"), "it is not pushed when that is not wanted")
	linked := filepath.Join(t.TempDir(), "linked")
	git(other, "worktree", "add", "--quiet", "-b", "beta", linked)
	d.target(project.Target{Kind: "git", Path: linked, Folder: "burrow", Branch: "beta", Push: &no})
	d.pack("1.2.0", "ore_spiral")
	d.must()
	assert.Equal(t, "Lower Sidings 1.2.0", git(other, "log", "-1", "--format=%s", "beta"))
	assert.Equal(t, "Lower Sidings 1.1.0", git(other, "log", "-1", "--format=%s", "main"))
	d.target(project.Target{Kind: "git", Path: t.TempDir()})
	_, err = deploy.Open(ctx, d.p, "practice", d.access)
	assert.ErrorContains(t, err, "not a working tree")
}

// run2 also gives the error of a target that can't be opened.
func (d *desk) run2() (*deploy.Result, error) {
	t, err := deploy.Open(ctx, d.p, "practice", d.access)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	return t.Run(ctx, d.goal(t), nil, options())
}

func TestAWebFolderIsCompared(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	var server *httptest.Server
	if _, err := os.Stat("/usr/sbin/nginx"); err == nil {
		server = &httptest.Server{URL: peer.Nginx(t, d.server, "")}
	} else {
		server = httptest.NewServer(http.FileServer(http.Dir(d.server)))
		defer server.Close()
	}
	look := func(verify bool) *deploy.Plan {
		d.target(project.Target{Kind: "web", URL: server.URL})
		tg := d.open()
		p, err := tg.Plan(ctx, d.goal(tg), deploy.PlanOptions{Verify: verify})
		require.NoError(t, err)
		return p
	}
	p := look(false)
	assert.Zero(t, p.Changes())
	assert.Equal(t, "1.0.0", p.Before)
	assert.Zero(t, look(true).Changes())
	d.put("levels/ore_spiral.vnm", strings.Repeat("x", int(d.bundles[0].Size)))
	assert.Equal(t, 1, look(true).Changes())
	assert.Equal(t, []string{"levels/ore_spiral.vnm"}, deploy.Look(ctx, d.p, "practice", d.access, true).Drift)
	require.NoError(t, os.Remove(filepath.Join(d.server, "levels", "tram_depot.vnm")))
	assert.Equal(t, deploy.Add, actions(look(false))["levels/tram_depot.vnm"])
	_, err := d.run()
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.ErrorContains(t, err, "can only be read")
}

// A mirror in a Git repository gets files alone, also where the game's servers look at a file that
// a deployment touches.
func TestAMirrorInGit(t *testing.T) {
	d := newDesk(t, "ore_spiral")
	bare, _, git := repository(t, d)
	d.p.Profile.Server.Call.Touch = "changed.txt"
	x := d.p.File.Targets["practice"]
	x.Role = "mirror"
	d.target(x)
	d.must()
	list := git(bare, "ls-tree", "-r", "--name-only", "main")
	assert.Contains(t, list, "ore_spiral.vnm")
	assert.NotContains(t, list, "changed.txt")
}

// A release claims a repository for itself: another machine is told who has it, an old claim ends
// by itself, and a server that takes no claims is no obstacle.
func TestClaimsOfARepository(t *testing.T) {
	git := peer.Need(t, "git")
	d := newDesk(t, "ore_spiral")
	far := filepath.Join(t.TempDir(), "far.git")
	peer.Run(t, d.p.Dir, git, "init", "--quiet", "--bare", "--initial-branch=main", far)
	d.p.File.Targets["pages"] = project.Target{Kind: "git", URL: filepath.ToSlash(far), Branch: "main"}
	open := func(account string) *deploy.Target {
		t.Helper()
		p := *d.p
		p.Dir = t.TempDir() // another machine's clone
		a := d.access
		a.Account = account
		x, err := deploy.Open(ctx, &p, "pages", a)
		require.NoError(t, err)
		t.Cleanup(x.Close)
		return x
	}
	claim := func() string {
		out := peer.Run(t, far, git, "for-each-ref", "--format=%(objectname)", "refs/vornix")
		return strings.TrimSpace(out)
	}
	ada, bo := open("ada"), open("bo")
	require.NoError(t, ada.Claim(ctx, "vornix release 1.0.0"))
	held := claim()
	require.NotEmpty(t, held)
	err := bo.Claim(ctx, "vornix release 1.0.1")
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	assert.ErrorContains(t, err, "'vornix release 1.0.0' by ada")
	assert.Equal(t, held, claim(), "the claim is untouched")
	ada.LetGo(ctx)
	assert.Empty(t, claim())
	require.NoError(t, bo.Claim(ctx, "vornix release 1.0.1"))
	bo.LetGo(ctx)

	// One that ended by its time, or whose process died on this machine, is taken over; one of
	// another machine that has not is not.
	put := func(until time.Duration, machine string, pid int) {
		data := fmt.Sprintf(`{"id":"x","by":"vole@bank","host":"bank","machine":%q,"pid":%d,"command":"vornix release 9.9.9","since":"2026-01-02T03:04:05Z","until":%q}`,
			machine, pid, time.Now().Add(until).UTC().Format(time.RFC3339))
		file := filepath.Join(t.TempDir(), "claim")
		require.NoError(t, os.WriteFile(file, []byte(data), 0o600))
		id := strings.TrimSpace(peer.Run(t, far, git, "hash-object", "-w", file))
		peer.Run(t, far, git, "update-ref", "refs/vornix/claims/"+d.p.File.Project.Name, id)
	}
	put(-time.Minute, "another", 1) // clocks differ: it may still be at work
	assert.ErrorContains(t, ada.Claim(ctx, "vornix release"), "'vornix release 9.9.9' by vole@bank")
	put(-10*time.Minute, "another", 1)
	require.NoError(t, ada.Claim(ctx, "vornix release"))
	ada.LetGo(ctx)
	put(time.Hour, safefile.Machine(), os.Getpid())
	assert.ErrorContains(t, ada.Claim(ctx, "vornix release"), "by vole@bank", "it is at work, here")
	put(time.Hour, "another", 1<<30)
	assert.ErrorContains(t, ada.Claim(ctx, "vornix release"), "by vole@bank",
		"a process number says nothing of another machine")
	put(time.Hour, safefile.Machine(), 1<<30)
	require.NoError(t, ada.Claim(ctx, "vornix release"))
	ada.LetGo(ctx)
	assert.Empty(t, claim())

	// While it is held, it is renewed, here and there; what another has taken over is not.
	defer deploy.Quicken(20 * time.Millisecond)()
	require.NoError(t, ada.Claim(ctx, "vornix release"))
	first := claim()
	lock := deploy.SiteOf(ada).(interface{ Join(string) string }).Join(".vornix-target/lock.json")
	long := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(lock, long, long))
	assert.Eventually(t, func() bool {
		info, err := os.Stat(lock)
		return err == nil && info.ModTime().After(long) && claim() != first
	}, 20*time.Second, 20*time.Millisecond)
	other := []byte(`{"id":"other","by":"vole@bank"}`)
	stays := func() bool { // unless it came between the look and the sign of life, which the next look sees
		require.NoError(t, os.WriteFile(lock+"-new", other, 0o666))
		require.NoError(t, os.Rename(lock+"-new", lock))
		time.Sleep(200 * time.Millisecond)
		data, err := os.ReadFile(lock)
		return assert.NoError(t, err) && string(data) == string(other)
	}
	stayed := false
	for try := 0; try < 3 && !stayed; try++ {
		stayed = stays()
	}
	assert.True(t, stayed)
	require.NoError(t, os.Remove(lock))
	ada.LetGo(ctx)
	assert.Empty(t, claim())

	peer.Run(t, far, git, "config", "receive.hideRefs", "refs/vornix")
	require.NoError(t, ada.Claim(ctx, "vornix release"), "its pushes still come one after the other")
	ada.LetGo(ctx)
}

// A run that lost its lock, say since the machine slept, changes nothing more, and does not undo what is another's now.
func TestALockThatWasTakenOver(t *testing.T) {
	d := newDesk(t, "ore_spiral", "tram_depot")
	d.must()
	d.pack("1.1.0", "ore_spiral", "silt_works")
	lock := filepath.Join(d.server, ".vornix-target", "lock.json")
	x := d.open()
	goal := d.goal(x)
	plan, err := x.Plan(ctx, goal, deploy.PlanOptions{})
	require.NoError(t, err)
	// files that do not depend on one another are put in place at once
	var steps atomic.Int32
	// as if an hour had passed at the second step
	_, err = x.Run(ctx, goal, plan, deploy.Options{Command: "test", Between: func() {
		if steps.Add(1) == 2 {
			assert.NoError(t,
				os.WriteFile(lock,
					[]byte(`{"id":"other","by":"vole@bank","host":"bank","pid":1,"command":"vornix deploy"}`), 0o666))
			deploy.Doze(x)
		}
	}})
	require.Error(t, err)
	assert.ErrorContains(t, err, "vole@bank took over the lock")
	assert.FileExists(t, lock, "it is the other's")
	assert.FileExists(t, filepath.Join(d.server, ".vornix-target", d.p.File.Project.Name, "journal.json"),
		"the other undoes what was begun")
	require.NoError(t, os.Remove(lock))
	d.must()
	d.sound("after it")
}
