package main_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// indexed takes a project with released versions 1.0.0 to 1.2.0 and patches between them from an
// index to a player, and takes one back.
func indexed(t *testing.T, p string) {
	t.Helper()
	var key struct{ Public string }
	require.NoError(t,
		json.Unmarshal(parse(t, ok(t, t.TempDir(), "key", "new", filepath.Join(p, "..", "k.key"), "--json")).Result,
			&key))
	public := filepath.Join(t.TempDir(), "public")
	sign := []string{"--key", filepath.Join(p, "..", "k.key")}
	o := ok(t, p, append([]string{"index", "write", "--to", public}, sign...)...)
	assert.Contains(t, o.out, "version 1.2.0, 1 bundle, number 4, signed")
	assert.FileExists(t, filepath.Join(public, "patches", "highline-1.0.0-to-1.2.0.vnp"))
	assert.Contains(t, ok(t, p, "index", "check").out, "The index and the files agree.")
	server := httptest.NewServer(http.FileServer(http.Dir(public)))
	defer server.Close()
	o = ok(t, p, "index", "check", server.URL, "--beside", "--trust", key.Public)
	assert.Contains(t, o.out, "whole; applied, it comes to what it must")
	assert.Contains(t, o.out, "4 of 4 files whole")

	player := filepath.Join(t.TempDir(), "parcels")
	put(t, filepath.Join(player, "highline-1.0.0.parcel"),
		read(t, p, "out", "releases", "1.0.0", "highline-1.0.0.parcel"))
	o = ok(t, player, "fetch", server.URL, player, "--beside", "--plan")
	assert.Contains(t, o.out, "patch from 1.0.0")
	assert.NoDirExists(t, filepath.Join(player, "vornix-fetched"))
	o = ok(t, player, "fetch", server.URL, player, "--beside")
	assert.Contains(t, o.out, "highline-1.0.0.parcel did not come this way, and stays")
	assert.Contains(t, o.out, "Highline 1.2.0 is there and whole")
	assert.Equal(t, read(t, p, "out", "releases", "1.2.0", "highline-1.2.0.parcel"),
		read(t, player, "highline-1.2.0.parcel"))
	assert.Contains(t, ok(t, player, "fetch", ".").out, "Highline 1.2.0 is there and whole (1 file")
	assert.Contains(t, ok(t, player, "fetch", ".", "--list").out, key.Public)

	// Taken back: who has it gets the one before, and hears why.
	ok(t, p, "index", "retract", "1.2.0", "--reason", "the winch does not stop")
	o = vornix(t, p, "index", "write")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "the index is signed, and no key is named")
	ok(t, p, append([]string{"index", "write", "--to", public}, sign...)...)
	o = ok(t, player, "fetch", player)
	assert.Contains(t, o.out, "version 1.2.0 was taken back: the winch does not stop")
	assert.Contains(t, o.out, "Highline 1.1.0 is there and whole, 1.2.0 before")
	assert.NoFileExists(t, filepath.Join(player, "highline-1.2.0.parcel"))
	assert.Contains(t, ok(t, player, "fetch", player, "--back").out, "back from version 1.1.0 to 1.2.0")
	assert.Contains(t, ok(t, player, "fetch", player).out, "stays at version 1.2.0")
	ok(t, player, "fetch", player, "--again")

	// The address that the project names is one that answers, with all that the index names.
	edit(t, p, "vornix.toml", "https://downloads.example/highline", server.URL)
	ok(t, p, append([]string{"index", "write", "--to", public}, sign...)...)
	assert.Contains(t, ok(t, p, "index", "check", "--online").out, "3 of 3 files whole")
	require.NoError(t, os.Remove(filepath.Join(public, "stations.txt")))
	o = vornix(t, p, "index", "check", "--online")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.out, "wrong: there is no such file on the server (404)")
	edit(t, p, "vornix.toml", server.URL, server.URL+"/crew/blob/main")
	o = ok(t, p, append([]string{"index", "write"}, sign...)...)
	assert.Contains(t, o.err, "it looks like the page of a Git server")

	// Somebody else's index is refused, and so is one without a signature.
	ok(t, p, "key", "new", filepath.Join(p, "..", "other.key"))
	o = vornix(t, p, "index", "sign", "--key", filepath.Join(p, "..", "other.key"))
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "Change keys with an overlap")
	ok(t, p, "index", "sign", "--key", filepath.Join(p, "..", "other.key"), "--lost-key")
	put(t, filepath.Join(public, "index.json"), read(t, p, "out", "index", "index.json"))
	o = vornix(t, player, "fetch", player)
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "not signed by whom it must be")
	server.CloseClientConnections()
	server.Close()
	o = ok(t, player, "fetch", player)
	assert.Contains(t, o.out, "nobody answers")
	assert.Contains(t, o.out, "going on with what is here")
	ok(t, p, "index", "retract", "1.2.0", "--undo")
}

// A mirror that watches: it takes what comes, survives a broken index, and ends at once with Ctrl-C.
func TestWatchingMirror(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("a program can't be interrupted there")
	}
	t.Parallel()
	p := quickly(t, "lower-sidings")
	public, mirror := filepath.Join(t.TempDir(), "public"), filepath.Join(t.TempDir(), "mirror")
	ok(t, p, "build")
	ok(t, p, "pack")
	ok(t, p, "index", "write", "--to", public, "--date", "2026-11-25")
	cmd := exec.Command(exe, "fetch", public, mirror, "--mirror", "--watch", "--every", "1s")
	var out strings.Builder
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	until := func(file, text string) {
		t.Helper()
		for range 150 {
			if data, err := os.ReadFile(filepath.Join(mirror, file)); err == nil &&
				strings.Contains(string(data), text) {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatalf("%s never came to the mirror:\n%s", text, out.String())
	}
	until("index.json", `"serial": 1`)
	put(t, filepath.Join(public, "index.json"), "{")
	time.Sleep(1200 * time.Millisecond)
	put(t, filepath.Join(p, "vornix.toml"),
		strings.Replace(read(t, p, "vornix.toml"), `title = "Lower Sidings"`, `title = "The Lower Sidings"`, 1))
	assert.Equal(t, 3, vornix(t, p, "index", "write", "--to", public, "--date", "2026-11-26").exit,
		"nobody knows which number players have seen there")
	require.NoError(t, os.Remove(filepath.Join(public, "index.json")))
	ok(t, p, "index", "write", "--to", public, "--date", "2026-11-26")
	until("index.json", `"serial": 2`)
	time.Sleep(300 * time.Millisecond) // it has still to say so
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	start := time.Now()
	_ = cmd.Wait()
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.Less(t, time.Since(start), 2*time.Second)
	assert.Equal(t, read(t, public, "levels.csv"), read(t, mirror, "levels.csv"))
	assert.Contains(t, out.String(), "Lower Sidings 1.0.0: 4 files changed")
	assert.Contains(t, out.String(), "not up to date: ")
	assert.Contains(t, out.String(), "The Lower Sidings 1.0.0: 1 file changed")
}

// What somebody changed by hand in metadata is shown, kept, and taken over on word.
func TestMetadataChangedByHand(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	p := quickly(t, "lower-sidings")
	ini := filepath.Join(p, "out", "addon", "tram_depot.ini")
	assert.Contains(t, ok(t, p, "addon", "check").out, "tram_depot.card.xml (beside)")
	ok(t, p, "addon", "write")
	put(t, ini, strings.Replace(read(t, ini), "code=LS-01", "code=LS-77", 1))
	o := vornix(t, p, "addon", "write")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.out, "+code=LS-77")
	assert.Contains(t, o.err, "vornix addon import out/addon/tram_depot.ini")
	assert.Contains(t, ok(t, p, "addon", "write", "--plan").out, "edited")
	o = vornix(t, p, "addon", "import", ini)
	assert.Equal(t, 2, o.exit, "nobody said yes")
	assert.Contains(t, ok(t, p, "addon", "import", ini, "--plan").out, "goes to")
	ok(t, p, "addon", "import", ini, "--yes")
	assert.Contains(t, read(t, p, "vornix.toml"), "code = 'LS-77'")
	assert.Contains(t, ok(t, p, "addon", "write").out, "3 metadata files")
	put(t, ini, "all of it by hand\n")
	assert.Contains(t, ok(t, p, "addon", "write", "--replace-edited").out,
		"what was changed by hand is in .vornix/safe/")
	assert.Contains(t, read(t, ini), "code=LS-77")

	p = quickly(t, "highline")
	ok(t, p, "build", "--draft")
	inside := filepath.Join(p, "out", "tree", "waybill.json")
	made := read(t, inside)
	put(t, inside, strings.Replace(made, "Highline crew", "Me", 1))
	assert.Contains(t, ok(t, p, "build", "--draft").err,
		"somebody changed it by hand; it is made anew, and the changed one is in .vornix/safe/")
	assert.Equal(t, made, read(t, inside))
	assert.NotContains(t, ok(t, p, "build", "--draft").err, "by hand")
}

// An index signed with a key that an SSH agent holds, and the change to another key with an overlap.
func TestSigningWithAnAgent(t *testing.T) {
	agent, add, keygen := peer.Need(t, "ssh-agent"), peer.Need(t, "ssh-add"), peer.Need(t, "ssh-keygen")
	dir := t.TempDir()
	socket := filepath.Join(dir, "s")
	daemon := exec.Command(agent, "-D", "-a", socket)
	require.NoError(t, daemon.Start())
	t.Cleanup(func() { _ = daemon.Process.Kill(); _ = daemon.Wait() })
	require.Eventually(t, func() bool { _, err := os.Stat(socket); return err == nil }, 5*time.Second,
		10*time.Millisecond)
	t.Setenv("SSH_AUTH_SOCK", socket)
	for _, name := range []string{"crew-2026", "crew-2027"} {
		peer.Run(t, dir, keygen, "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", name)
		peer.Run(t, dir, add, "-q", name)
	}
	p := quickly(t, "lower-sidings")
	ok(t, p, "build")
	ok(t, p, "pack")
	public, player := filepath.Join(dir, "public"), filepath.Join(dir, "player")
	o := vornix(t, p, "index", "write", "--key", "agent")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "2 keys that it could be: crew-2026, crew-2027")
	ok(t, p, "index", "write", "--key", "agent:crew-2026", "--to", public)
	old := strings.TrimSpace(ok(t, p, "key", "show", "agent:crew-2026").out)
	ok(t, p, "fetch", public, player, "--trust", old)
	ok(t, p, "index", "sign", "--key", "agent:crew-2026", "--key", "agent:crew-2027")
	ok(t, p, "index", "write", "--to", public)
	ok(t, p, "fetch", player)
	ok(t, p, "index", "sign", "--key", "agent:crew-2027")
	ok(t, p, "index", "write", "--to", public)
	assert.Contains(t, ok(t, p, "status").out, "number 3, signed")
	assert.Contains(t, ok(t, p, "fetch", player).out, "is there and whole",
		"who came by in the overlap knows the new key")
	late := filepath.Join(dir, "late")
	o = vornix(t, p, "fetch", public, late, "--trust", old)
	assert.Equal(t, 3, o.exit)
	assert.NoFileExists(t, filepath.Join(late, "tram_depot.vnm"))
	t.Setenv("SSH_AUTH_SOCK", "")
	o = vornix(t, p, "index", "sign", "--key", "agent")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "there is no SSH agent to sign with")
}
