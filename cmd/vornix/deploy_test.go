package main_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/game/gameserver"
	"vornix/core/ship/deploy"
	"vornix/internal/peer"
)

// TestDeployByTheProgram does what the guide says of servers with the built program: over OpenSSH,
// to several targets, to a mirror, and what goes wrong with its exit codes.
func TestDeployByTheProgram(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	s := peer.StartSSHD(t, "")
	dirs := []string{t.TempDir(), t.TempDir(), t.TempDir()}
	var text strings.Builder
	for i, dir := range dirs {
		fmt.Fprintf(&text,
			"\n[target.valley%d]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = %d\nuser = %q\nkey = %q\nhost_key = [%q]\npath = %q\n", i, s.Port, s.User, s.Key, s.Fingerprint, dir)
	}
	const gone = "\n[target.gone]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = 1\nuser = \"x\"\npath = \"y\"\n"
	whole := read(t, p, "vornix.toml")
	put(t, filepath.Join(p, "vornix.toml"), whole+text.String())

	plan := ok(t, p, "deploy", "valley0", "--plan")
	assert.Regexp(t, `add +levels/tram_depot.vnm`, plan.out)
	assert.NoDirExists(t, filepath.Join(dirs[0], ".vornix-target"))
	assert.Contains(t, ok(t, p, "deploy", "valley0", "--yes").out, "valley0 has version 1.0.0")
	assert.FileExists(t, filepath.Join(dirs[0], "levels", "tram_depot.vnm"))
	assert.JSONEq(t, `{"shifts":{"cycle":[{"level":"tram_depot","shift":"shift"}]}}`, read(t, dirs[0], "shifts.json"),
		"lists are made where there are none")
	assert.Equal(t, "set offered \"tram_depot\"\r\n", read(t, dirs[0], "server.cfg"))
	assert.Contains(t, ok(t, p, "deploy", "valley0", "--yes").out, "nothing changed")

	// Several, one of them first; one that is not there.
	put(t, filepath.Join(p, "vornix.toml"), whole+text.String()+gone)
	o := vornix(t, p, "deploy", "valley1", "--yes")
	assert.Equal(t, 4, o.exit)
	assert.Contains(t, o.err, "cannot tell which versions are released: target gone does not answer")
	assert.Contains(t, ok(t, p, "deploy", "valley1", "--plan", "--offline").out, "no answer from target gone")
	o = vornix(t, p, "deploy", "valley0", "valley1", "gone", "--yes", "--offline")
	assert.Equal(t, 4, o.exit)
	assert.Contains(t, o.err, `"gone"`)
	assert.NoDirExists(t, filepath.Join(dirs[1], "levels"), "what can't be done for all is not begun")
	o = vornix(t, p, "deploy", "valley0", "valley1", "valley2", "gone", "--yes", "--wave", "--skip-unreachable",
		"--json")
	assert.Equal(t, 4, o.exit)
	var answer struct {
		Plans       []*deploy.Plan
		Outcomes    []*deploy.Outcome
		Unreachable map[string]string
	}
	require.NoError(t, json.Unmarshal(parse(t, o).Result, &answer))
	assert.Len(t, answer.Plans, 3)
	assert.Equal(t, []string{"unchanged", "done", "done"},
		[]string{answer.Outcomes[0].State, answer.Outcomes[1].State, answer.Outcomes[2].State})
	assert.Contains(t, answer.Unreachable, "gone")
	assert.FileExists(t, filepath.Join(dirs[2], "levels", "tram_depot.vnm"))

	// Drift, locks, withdrawal, ways back.
	put(t, filepath.Join(dirs[1], "levels/tram_depot.vnm"), "a hot fix")
	o = vornix(t, p, "deploy", "valley1", "--yes", "--offline")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "--overwrite")
	status := ok(t, p, "status")
	assert.Regexp(t, `on valley1 +version 1.0.0, since .*1 changed there since: levels/tram_depot.vnm`, status.out)
	assert.Regexp(t, `on gone +unreachable`, status.out)
	put(t, filepath.Join(p, "vornix.toml"), whole+text.String())
	put(t, filepath.Join(dirs[2], ".vornix-target/lock.json"),
		`{"id":"x","by":"vole@bank","host":"bank","pid":1,"command":"vornix release","since":"2026-11-26T10:00:00Z"}`)
	o = vornix(t, p, "deploy", "rollback", "valley2", "--yes")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "vole@bank")
	assert.Contains(t, ok(t, p, "deploy", "unlock", "valley2", "--yes").out, "is held by vole@bank")
	o = vornix(t, p, "deploy", "withdraw", "tram_depot", "valley2", "--plan")
	assert.Equal(t, 3, o.exit, "a rotation is not emptied: %s", o.out)
	put(t, filepath.Join(dirs[2], "timetable.txt"), "old_shaft dig\ntram_depot shift\n")
	put(t, filepath.Join(dirs[0], "timetable.txt"), "old_shaft dig\ntram_depot shift\n")
	two := ok(t, p, "deploy", "withdraw", "tram_depot", "valley0", "valley2", "--plan", "--json")
	var plans []*deploy.Plan
	require.NoError(t, json.Unmarshal(parse(t, two).Result, &plans))
	assert.Len(t, plans, 2, "several targets at once")
	assert.Contains(t, ok(t, p, "deploy", "withdraw", "tram_depot", "valley2", "--yes").out, `without = ["tram_depot"]`)
	assert.Regexp(t, `on valley2 .*withdrawn: tram_depot`, ok(t, p, "status").out)
	assert.NoFileExists(t, filepath.Join(dirs[2], "levels", "tram_depot.vnm"))
	ok(t, p, "deploy", "rollback", "valley2", "--yes")
	assert.FileExists(t, filepath.Join(dirs[2], "levels", "tram_depot.vnm"))
	history := ok(t, p, "deploy", "history", "valley2").out
	assert.Regexp(t, `3 .*rollback +1.0.0`, history)
	assert.Regexp(t, `2 .*withdraw tram_depot +1.0.0`, history)
	assert.Equal(t, 2, vornix(t, p, "deploy", "withdraw", "tram_depto", "valley2", "--yes").exit)
	assert.Equal(t, 2, vornix(t, p, "deploy").exit)

	// The mirror has the file and its copies.
	ok(t, p, "deploy", "downloads", "--yes")
	get := filepath.Join(p, "..", "servers", "downloads", "get")
	for _, name := range []string{"tram_depot.vnm", "tram_depot.vnm.gz", "tram_depot.vnm.bz2"} {
		assert.FileExists(t, filepath.Join(get, name))
	}
	python := peer.Pillow(t)
	peer.Run(t, get, python, "-c",
		"import bz2,gzip;a=open('tram_depot.vnm','rb').read();assert a==bz2.open('tram_depot.vnm.bz2').read()==gzip.open('tram_depot.vnm.gz').read()")

	// Nothing secret is asked for where nobody can answer, and a wrong key of the server ends it.
	put(t, filepath.Join(p, "vornix.toml"),
		strings.ReplaceAll(whole+text.String(), s.Fingerprint, "SHA256:"+strings.Repeat("A", 43)))
	o = vornix(t, p, "deploy", "valley0", "--plan", "--offline")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, s.Fingerprint)
}

// What goes out as a version is of that version and of the sources as they are: else nothing goes
// out, and each command says the same way out. A finished version may go to further places whatever
// the sources have become.
func TestOldBundlesDoNotGoOut(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	refused := func(what string, why string) {
		t.Helper()
		for _, args := range []string{"deploy practice --yes", "deploy practice --plan", "index write",
			"deploy downloads --yes"} {
			o := vornix(t, p, strings.Fields(args)...)
			assert.Equal(t, 3, o.exit, "%s: %s\n%s", what, args, o.out)
			assert.Contains(t, o.err, "vornix pack", what)
			assert.Regexp(t, why, o.err, "%s: %s", what, args)
		}
		assert.Regexp(t, `next: vornix (build|shoot|pack)\n`, vornix(t, p, "status").out, what)
	}
	ok(t, p, "pack")
	ok(t, p, "deploy", "practice", "--yes", "--without-server")
	edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Shed"`)
	refused("a changed map", `A build would make \d+ results?: .*tram_depot`)
	ok(t, p, "build")
	refused("built and not packed", `Packing would change 1 bundle: tram_depot`)
	assert.Regexp(t, `packed +.*not as the build is`, ok(t, p, "status").out)
	ok(t, p, "shoot")
	assert.Contains(t, ok(t, p, "status").out, "next: vornix pack\n")
	ok(t, p, "pack")
	ok(t, p, "deploy", "practice", "--yes", "--without-server")

	// Another version, whose bundle has another name.
	p = quickly(t, "highline")
	ok(t, p, "pack")
	edit(t, p, "vornix.toml", `version = "1.0.0"`, `version = "1.1.0"`)
	for _, args := range []string{"deploy practice --yes", "index write", "publish bazaar --plan"} {
		o := vornix(t, p, strings.Fields(args)...)
		assert.Equal(t, 3, o.exit, args)
		assert.Contains(t, o.err, "what is packed is not version 1.1.0 of these sources", args)
	}
	ok(t, p, "pack")
	ok(t, p, "deploy", "practice", "--plan")
}

// TestTheWelcomePage is written for a look, with the pictures that it shows.
func TestTheWelcomePage(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	for _, name := range []string{"cairn_station", "saltpan_relay"} {
		put(t, filepath.Join(p, "out/pictures/"+name+"-card.jpg"), "a picture of "+name)
	}
	ok(t, p, "pack")
	to := filepath.Join(t.TempDir(), "page")
	ok(t, p, "deploy", "preview", "practice", to)
	page := read(t, to, "welcome.html")
	assert.Contains(t, page, `<img src="cards/cairn_station.jpg" alt="Cairn Station">`)
	assert.Contains(t, page, "The first release: two stations")
	assert.Equal(t, "a picture of saltpan_relay", read(t, to, "cards/saltpan_relay.jpg"))
	assert.NoDirExists(t, filepath.Join(p, "..", "servers", "kestrel", "cards"), "a preview changes nothing there")
	require.NoError(t, os.RemoveAll(filepath.Join(p, "out", "pictures")))
	ok(t, p, "deploy", "practice", "--yes", "--without-server")
	assert.NotContains(t, read(t, filepath.Join(p, "..", "servers", "kestrel"), "welcome.html"), "<img",
		"a picture that is not there is not shown")
}

// TestAServerThatGoesWrong deploys to a stand-in that can't load a map, and to the same one when it
// has got over it; players meanwhile get whole files only.
func TestAServerThatGoesWrong(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	folder := filepath.Join(p, "..", "servers", "burrow")
	server := command(p, "stand", "server", folder, "--players", "2", "--fail", "load:tram_depot", "--json")
	require.NoError(t, server.Start())
	defer func() { _ = server.Process.Kill(); _ = server.Wait() }()
	var url string
	require.Eventually(t,
		func() bool { url = strings.TrimSpace(read(t, folder, "stand-server.url")); return url != "" }, 10*time.Second,
		10*time.Millisecond)
	before := read(t, folder, "levels.txt")
	o := vornix(t, p, "deploy", "practice", "--yes")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "tram_depot: it goes wrong, as it was told to")
	assert.Contains(t, o.err, "Everything was put back as it was.")
	assert.Equal(t, before, read(t, folder, "levels.txt"))
	assert.NoFileExists(t, filepath.Join(folder, "levels", "tram_depot.vnm"))
	assert.Contains(t, ok(t, p, "deploy", "history", "practice").out, "Nothing was deployed to practice yet.")
	fail := func(mode string) {
		resp, err := http.Post(url+"/fail", "application/json", strings.NewReader(`{"mode":"`+mode+`"}`))
		require.NoError(t, err)
		resp.Body.Close()
		require.Equal(t, http.StatusNoContent, resp.StatusCode)
	}
	fail("drop")
	o = vornix(t, p, "deploy", "practice", "--yes")
	assert.Equal(t, 4, o.exit, "a server that does not answer is found before anything is changed: %s", o.err)
	assert.NoFileExists(t, filepath.Join(folder, "levels", "tram_depot.vnm"))
	fail("")
	assert.Contains(t, ok(t, p, "deploy", "practice", "--yes").out,
		"its server has loaded tram_depot and plays tram_depot")
	status := func() (st gameserver.Status) {
		resp, err := http.Get(url + "/status")
		require.NoError(t, err)
		defer resp.Body.Close()
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&st))
		return st
	}
	require.Eventually(t, func() bool { return status().Players.Loaded > 100_000 }, 10*time.Second, 20*time.Millisecond,
		"players get what was deployed")
	for range 2 { // there and back, under their feet
		ok(t, p, "deploy", "rollback", "practice", "--yes")
		ok(t, p, "deploy", "practice", "--yes", "--overwrite")
	}
	st := status()
	assert.Zero(t, st.Players.Failed, st.Players.Why)
	assert.Equal(t, 2, vornix(t, p, "stand", "server", folder, "--fail", "sulk").exit)
}

// With a wave the first target goes ahead; when it is not well after the pause, the others are not touched.
func TestAWaveThatStops(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	dirs := []string{t.TempDir(), t.TempDir(), t.TempDir()}
	text := read(t, p, "vornix.toml")
	for i, dir := range dirs {
		text += fmt.Sprintf("\n[target.pit%d]\nkind = \"folder\"\npath = %q\n", i, filepath.ToSlash(dir))
	}
	put(t, filepath.Join(p, "vornix.toml"), text)
	wave := func(args ...string) outcome {
		return vornix(t, p, append([]string{"deploy", "pit0", "pit1", "pit2", "--wave", "--yes", "--json"}, args...)...)
	}
	states := func(o outcome) (list []string) {
		var answer struct{ Outcomes []*deploy.Outcome }
		require.NoError(t, json.Unmarshal(parse(t, o).Result, &answer))
		for _, x := range answer.Outcomes {
			list = append(list, x.State)
		}
		return list
	}
	ended := make(chan bool)
	go func() { // somebody breaks the first one while it is looked at
		defer close(ended)
		file := filepath.Join(dirs[0], "levels", "tram_depot.vnm")
		for range 2000 {
			if _, err := os.Stat(filepath.Join(dirs[0], "changed.txt")); err == nil {
				time.Sleep(300 * time.Millisecond)
				_ = os.WriteFile(file, []byte("broken"), 0o666)
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	o := wave("--pause", "1500ms")
	<-ended
	assert.Equal(t, 1, o.exit)
	assert.Equal(t, []string{"done", "not started", "not started"}, states(o))
	assert.Contains(t, parse(t, o).Error.What+parse(t, o).Error.Do, `"pit0" is not well`)
	assert.NoDirExists(t, filepath.Join(dirs[1], "levels"))
	assert.Equal(t, 3, wave().exit, "nor is what broke it overwritten")
	o = wave("--overwrite")
	assert.Zero(t, o.exit, o.err)
	assert.Equal(t, []string{"done", "done", "done"}, states(o))
	for _, dir := range dirs {
		assert.Equal(t, read(t, p, "out/bundles/tram_depot.vnm"), read(t, dir, "levels/tram_depot.vnm"))
	}
}
