package main_test

import (
	"encoding/json"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
)

// shop runs the stand-in of a workshop as a process of its own, and gives its address.
func shop(t testing.TB, p, folder string, args ...string) (url string, process *exec.Cmd) {
	t.Helper()
	process = command(p, append([]string{"stand", "workshop", folder, "--json"}, args...)...)
	require.NoError(t, process.Start())
	t.Cleanup(func() { _ = process.Process.Kill(); _ = process.Wait() })
	require.Eventually(t, func() bool { // one that was killed leaves its address behind
		data, _ := os.ReadFile(filepath.Join(folder, "stand-workshop.url"))
		url = strings.TrimSpace(string(data))
		answer, err := http.Get(url + "/v1")
		if err == nil {
			answer.Body.Close()
		}
		return err == nil && answer.StatusCode == http.StatusOK
	}, 20*time.Second, 10*time.Millisecond)
	if _, err := os.Stat(filepath.Join(p, "vornix.toml")); err == nil {
		ok(t, p, "trust", "--yes") // the tokens may go there
	}
	return url, process
}

// TestAnItemByTheProgram does what the guide says of workshops with the built program, from the plan to the withdrawal.
func TestAnItemByTheProgram(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	ok(t, p, "shoot")
	folder := filepath.Join(p, "..", "workshops", "burrow")
	o := vornix(t, p, "publish", "exchange", "--plan")
	assert.Equal(t, 4, o.exit)
	assert.Contains(t, o.err, "vornix stand workshop")
	shop(t, p, folder)

	plan := ok(t, p, "publish", "exchange", "--plan")
	assert.Contains(t, plan.out, "tram_depot, a new item, hidden at first")
	assert.Regexp(t, `add +picture tram_depot.png +[0-9.]+ kB +1024x512 png`, plan.out)
	assert.NoFileExists(t, filepath.Join(p, publish.RecordFile))
	o = vornix(t, p, "publish", "exchange")
	assert.Equal(t, 2, o.exit, "there is nobody to ask")
	made := ok(t, p, "publish", "exchange", "--yes")
	assert.Contains(t, made.out, "tram_depot is at exchange, hidden, with version 1.0.0")
	page := regexp.MustCompile(`http://\S+/items/\S+`).FindString(made.out)
	require.NotEmpty(t, page)
	answer, err := http.Get(page)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 401, answer.StatusCode)
	assert.Contains(t, ok(t, p, "publish", "exchange", "--yes").out,
		"nothing changed: exchange has tram_depot 1.0.0 already")

	// Tried as a player, shown, followed by the release of the next version.
	tried := ok(t, p, "publish", "try", "exchange")
	assert.Contains(t, tried.out, "tram_depot 1.0.0 as player got it")
	assert.Contains(t, tried.out, "as published from here")
	o = ok(t, p, "publish", "visibility", "exchange", "public", "--plan")
	assert.Contains(t, o.out, "hidden to public")
	assert.Contains(t, ok(t, p, "publish", "visibility", "exchange", "public", "--yes").out, "tram_depot is public")
	answer, err = http.Get(page)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	edit(t, p, "maps/tram_depot.vnx", `title="Tram Depot"`, `title="Tram Depot by Night"`)
	put(t, filepath.Join(p, "notes", "1.1.0.md"), "It is night now.")
	o = ok(t, p, "release", "1.1.0", "--yes", "--without-server", "--without-workshops")
	assert.NotContains(t, o.out, "exchange")
	o = ok(t, p, "release", "--yes", "--without-server")
	assert.Regexp(t, `tram_depot goes from 1.0.0 to 1.1.0 at exchange, [0-9.]+ kB of [0-9.]+ kB sent`, o.out)
	var shown []struct {
		There    workshop.Item
		Versions []workshop.Version
		Differs  []publish.PartChange
	}
	require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "publish", "show", "exchange", "--json")).Result, &shown))
	assert.Equal(t, "Tram Depot by Night", shown[0].There.Page.Title)
	assert.Equal(t, workshop.Public, shown[0].There.Visibility)
	assert.Equal(t, "It is night now.", shown[0].Versions[1].Notes)
	assert.Empty(t, shown[0].Differs)
	assert.Equal(t, 1, shown[0].There.Followers)
	assert.Regexp(t, `at exchange +tram_depot 1.1.0, public; 1 follower`, ok(t, p, "status").out)

	// Only the page; a page that would be refused is not sent, with the line.
	put(t, filepath.Join(p, "page.md"), "Bring a *lamp*.\n")
	assert.Contains(t, ok(t, p, "publish", "edit", "exchange", "--plan").out, "+Bring a *lamp*.")
	ok(t, p, "publish", "edit", "exchange", "--yes")
	to := t.TempDir()
	ok(t, p, "publish", "preview", "exchange", to)
	html := read(t, to, "tram_depot", "page.html")
	assert.Contains(t, html, "<em>lamp</em>")
	assert.FileExists(t, filepath.Join(to, "tram_depot", "1-tram_depot.png"))
	put(t, filepath.Join(p, "page.md"), "Bring a\n<blink>lamp</blink>.\n")
	o = vornix(t, p, "publish", "exchange", "--yes")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "page.md:2")
	assert.Contains(t, o.err, "Nothing was sent")

	// A version taken off, brought back, with its history.
	o = ok(t, p, "publish", "withdraw", "exchange", "1.1.0", "--reason", "too dark", "--yes")
	assert.Contains(t, o.out, "players get tram_depot 1.0.0")
	history := ok(t, p, "publish", "history", "exchange").out
	assert.Contains(t, history, "withdrawn: too dark")
	assert.Regexp(t, `maker with vornix +made, hidden`, history)
	ok(t, p, "publish", "withdraw", "exchange", "1.1.0", "--back", "--yes")
	assert.Contains(t, ok(t, p, "publish", "visibility", "exchange", "hidden", "--yes").out, "tram_depot is hidden")
	for command, want := range map[string]int{"publish": 2, "publish exchagne": 2, "publish practice": 2,
		"deploy exchange --plan": 2, "publish visibility exchange all": 2, "publish withdraw exchange --yes": 2,
		"publish show exchange --item tram": 2} {
		o := vornix(t, p, strings.Fields(command)...)
		assert.Equal(t, want, o.exit, "%s: %s", command, o.err)
	}

	// A token is kept on word, in a file that only its owner reads, and printed nowhere; a project never holds one.
	token := strings.TrimSpace(read(t, folder, "tokens", "maker"))
	home := t.TempDir()
	put(t, filepath.Join(p, "vornix.toml"),
		strings.ReplaceAll(read(t, p, "vornix.toml"), `token_file = "../workshops/burrow/tokens/maker"`, ""))
	put(t, filepath.Join(p, "page.md"), "Bring a *lamp*.\n")
	as := func(input string, args ...string) outcome {
		c := command(p, args...)
		c.Env = append(os.Environ(), "XDG_CONFIG_HOME="+home, "HOME="+home, "DBUS_SESSION_BUS_ADDRESS=")
		c.Stdin = strings.NewReader(input)
		o := run(t, c)
		assert.NotContains(t, o.out+o.err, token)
		return o
	}
	o = as("", "publish", "exchange", "--plan")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "vornix publish login exchange")
	assert.Equal(t, 3, as("vornix-token-wrong\n", "publish", "login", "exchange").exit)
	assert.Contains(t, as(token+"\n", "publish", "login", "exchange").out, "maker at")
	assert.Zero(t, as("", "publish", "exchange", "--plan", "--json", "--verbose").exit)
	assert.Zero(t, as("", "publish", "logout", "exchange").exit)
	assert.Equal(t, 3, as("", "publish", "exchange", "--plan").exit)
	require.NoError(t, filepath.WalkDir(p, func(name string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			assert.NotContains(t, read(t, name), token, name)
		}
		return err
	}))
}

// TestPublishingIsKilled kills the program, and the workshop, at moments of a first publishing: the
// next run finishes, and there is one item.
func TestPublishingIsKilled(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	ok(t, p, "shoot")
	start := time.Now()
	folder := filepath.Join(p, "..", "workshops", "burrow")
	url, process := shop(t, p, folder, "--fail", "slow:/publish")
	ok(t, p, "publish", "exchange", "--plan")
	took := time.Since(start)
	for i := range 4 {
		c := command(p, "publish", "exchange", "--yes")
		require.NoError(t, c.Start())
		time.Sleep(took * time.Duration(i) / 6)
		_ = c.Process.Kill()
		_ = c.Wait()
		if i%2 == 1 { // and the workshop too, which comes up again where it was
			_ = process.Process.Kill()
			_ = process.Wait()
			url, process = shop(t, p, folder, "--listen", strings.TrimPrefix(url, "http://"))
		}
	}
	// Once more the workshop only, under a program that goes on when it is there again.
	c := command(p, "publish", "exchange", "--yes")
	require.NoError(t, c.Start())
	time.Sleep(took / 8)
	_ = process.Process.Kill()
	_ = process.Wait()
	shop(t, p, folder, "--listen", strings.TrimPrefix(url, "http://"))
	require.NoError(t, c.Wait())
	ok(t, p, "publish", "exchange", "--yes")
	items, err := filepath.Glob(filepath.Join(folder, "items", "*", "item.json"))
	require.NoError(t, err)
	assert.Len(t, items, 1)
	assert.Contains(t, ok(t, p, "publish", "try", "exchange").out, "1 hash right")
	history := ok(t, p, "publish", "history", "exchange").out
	assert.Equal(t, 1, strings.Count(history, "what players get"))
	noTemps(t, p)
}
