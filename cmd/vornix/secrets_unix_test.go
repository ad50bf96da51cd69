//go:build unix

package main_test

import (
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// arguments collects what all processes of this machine are called with, until stop is called.
func arguments() (stop func() string) {
	var seen sync.Map
	end := make(chan struct{})
	var done sync.WaitGroup
	done.Go(func() {
		for {
			files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
			for _, f := range files {
				if data, err := os.ReadFile(f); err == nil && len(data) > 0 {
					seen.Store(string(data), true)
				}
			}
			select {
			case <-end:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	})
	return func() string {
		close(end)
		done.Wait()
		var b strings.Builder
		seen.Range(func(k, _ any) bool {
			b.WriteString(strings.ReplaceAll(k.(string), "\x00", " ") + "\n")
			return true
		})
		return b.String()
	}
}

// Secrets are planted wherever they may be: in variables, files, keys, addresses. Nothing that
// Vornix prints, writes, packs, sends, keeps or calls holds one.
func TestSecretsLeaveNoTrace(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	p := quickly(t, "lower-sidings")
	top := filepath.Dir(p)
	shop(t, p, filepath.Join(top, "workshops", "burrow"))
	s := peer.StartSSHD(t, "")
	server := t.TempDir()
	key := filepath.Join(t.TempDir(), "sign.key")
	ok(t, top, "key", "new", key)

	mark := func(name string) string { return "mark-" + name + "-9f31c7a5e2" }
	lines := func(file string) string { return strings.Split(read(t, file), "\n")[1] } // of a key in PEM, what counts
	secrets := map[string]string{
		"a password":              mark("password"),
		"a workshop's token":      strings.TrimSpace(read(t, top, "workshops/burrow/tokens/maker")),
		"a player's token":        strings.TrimSpace(read(t, top, "workshops/burrow/tokens/player")),
		"a server's token":        mark("server"),
		"a token for results":     mark("results"),
		"a variable of no matter": mark("other"),
		"a name in an address":    mark("address"),
		"a key for SSH":           lines(s.Key),
		"a key that signs":        lines(key),
	}
	asked := map[string]bool{}
	var asking sync.Mutex
	// takes everything, and has nothing
	results := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asking.Lock()
		asked[r.Header.Get("Authorization")] = true
		asking.Unlock()
		if r.Method != http.MethodPut {
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(results.Close)
	env := append(os.Environ(), "SFTP_PASSWORD="+secrets["a password"], "SERVER_TOKEN="+secrets["a server's token"],
		"RESULTS="+secrets["a token for results"], "AWS_SECRET_ACCESS_KEY="+secrets["a variable of no matter"],
		"VORNIX_SIGNING_KEY="+key, "MAKER="+secrets["a workshop's token"],
		"VORNIX_TRUST_FILE="+filepath.Join(t.TempDir(), "trust.json"))
	ssh := fmt.Sprintf("kind = \"sftp\"\nhost = \"127.0.0.1\"\nport = %d\nuser = %q\nhost_key = [%q]\npath = %q\n",
		s.Port, s.User, s.Fingerprint, server)
	put(t, filepath.Join(p, "vornix.toml"),
		strings.Replace(read(t, p, "vornix.toml"), "token_file = \"../workshops/burrow/tokens/maker\"\n",
			"token_env = \"MAKER\"\n", 1)+
			"\n[target.valley]\n"+ssh+fmt.Sprintf("key = %q\n", s.Key)+"\n[target.locked]\n"+ssh+
			"password_env = \"SFTP_PASSWORD\"\n"+
			"\n[target.asked]\nkind = \"folder\"\npath = \"../servers/burrow\"\nserver = \"http://127.0.0.1:1/\"\ntoken_env = \"SERVER_TOKEN\"\n"+
			fmt.Sprintf("\n[shared]\nurl = %q\ntoken_env = \"RESULTS\"\n", results.URL)+
			"\n[[step]]\nname = \"spy\"\ncommand = [\"sh\", \"-c\", \"env; echo saw the environment\"]\ninputs = [\"page.md\"]\nstdout = \"notes/env.md\"\n")
	cmd := command(p, "trust", "--yes")
	cmd.Env = env
	require.Zero(t, run(t, cmd).exit)

	stop := arguments()
	var said strings.Builder
	for _, c := range []struct {
		args string
		exit []int
	}{
		{"build --verbose", []int{0}}, {"pack --verbose", []int{0}}, {"shoot", []int{0}}, {"check --json", []int{0}},
		{"index write --verbose --offline --to ../public", []int{0}}, {"index check", []int{0}},
		{"deploy valley --yes --verbose --offline", []int{0}}, {"deploy locked --yes --verbose", []int{1, 4}},
		{"deploy locked --yes --json", []int{1, 4}}, {"deploy asked --yes --verbose", []int{1, 4}},
		{"publish exchange --yes --verbose --offline", []int{0}}, {"publish try exchange --verbose", []int{0}},
		{"publish show exchange --json", []int{0}}, {"publish history exchange", []int{0}},
		{"publish preview exchange ../page", []int{0}}, {"status --verbose", []int{0}}, {"status --json", []int{0}},
		{"release 1.0.1 --yes --verbose --without-server --until index", []int{0}},
		{"release 1.0.1 --yes --json --without-server", []int{0, 1, 4}},
		{"fetch http://crew:" + secrets["a name in an address"] + "@127.0.0.1:1/ ../player", []int{1, 4}},
		{"patch overlay nothing ../servers/burrow", []int{1, 2}},
	} {
		cmd := command(p, strings.Fields(c.args)...)
		cmd.Env = env
		o := run(t, cmd)
		assert.Contains(t, c.exit, o.exit, "%s\n%s%s", c.args, o.out, o.err)
		fmt.Fprintf(&said, "$ %s\n%s\n%s\n", strings.Fields(c.args)[0], o.out, o.err)
	}
	// the key itself, where its file must be named
	for _, c := range []string{"index write", "patch sign ../x.vnp", "key show"} {
		cmd := command(p, strings.Fields(c)...)
		if c == "key show" {
			cmd = command(p, "key", "show", strings.Join(strings.Split(read(t, key), "\n")[1:2], ""))
		}
		cmd.Env = append(slices.Clone(env), "VORNIX_SIGNING_KEY="+read(t, key))
		o := run(t, cmd)
		assert.Equal(t, 2, o.exit, "%s%s", o.out, o.err)
		assert.Contains(t, o.err, "there is a private key where the name of its file must be")
		said.WriteString(o.out + o.err)
	}
	called := stop()
	assert.Equal(t, map[string]bool{"Bearer " + secrets["a token for results"]: true}, asked,
		"the secret goes where it belongs")

	texts := map[string]string{"what was printed": said.String()}
	var own []string // what Vornix itself was called with holds the addresses that a person gave it
	for line := range strings.Lines(called) {
		if !strings.HasPrefix(line, exe+" ") {
			own = append(own, line)
		}
	}
	texts["what processes were called with"] = strings.Join(own, "")
	for _, dir := range []string{top, server} {
		require.NoError(t, filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() && filepath.Base(filepath.Dir(name)) != "tokens" {
				texts[name] = read(t, name)
			}
			return err
		}))
	}
	assert.Greater(t, len(texts), 100)
	assert.Contains(t, read(t, p, "out", "tree", "notes", "env.md"), "saw the environment")
	for what, secret := range secrets {
		require.Greater(t, len(secret), 15, what)
		for where, text := range texts {
			assert.NotContains(t, text, secret, "%s is in %s", what, where)
		}
	}
	assert.Contains(t, said.String(), "127.0.0.1:1", "the address is said, without what lets in")
	if unzip, err := exec.LookPath("unzip"); err == nil { // packed content is looked through too
		for where, text := range texts {
			if !strings.HasPrefix(text, "PK\x03\x04") {
				continue
			}
			out, _ := exec.Command(unzip, "-p", where).Output() // an entry that it can't unpack is not a text
			for what, secret := range secrets {
				assert.NotContains(t, string(out), secret, "%s is in %s", what, where)
			}
		}
	}
}

// Titles and texts that try to be more than text stay text, in each page that is made of them: an
// HTML reader that is not ours finds no element of theirs.
func TestTitlesAreOnlyText(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	const bad = `</title></style><script>alert(1)</script><img src=x onerror=alert(1)>{{.}}{version}${HOME}%s&lt;`
	text := read(t, p, "vornix.toml")
	for _, change := range [][2]string{{`title = "Highline"`, "title = '</title><script>alert(1)</script>{{.}}'"},
		{`authors = ["Highline crew"]`, "authors = ['" + bad + "']"},
		{`description = "Mail gliders above the snow line: one station on a cairn, two routes down."`,
			"description = '" + bad + "'"}} {
		require.Contains(t, text, change[0])
		text = strings.Replace(text, change[0], change[1], 1)
	}
	shopless, rest, _ := strings.Cut(text, "[target.exchange]")
	_, rest, _ = strings.Cut(rest, "[[accept]]")
	put(t, filepath.Join(p, "vornix.toml"), shopless+"[[accept]]"+rest)
	put(t, filepath.Join(p, "notes", "1.0.0.md"), bad+"\n\n- [x](javascript:alert(1))\n")
	o := ok(t, p, "release", "--yes", "--without-server")
	assert.NotContains(t, o.err+o.out, "\x1b")
	put(t, filepath.Join(p, "vornix.toml"), text)
	put(t, filepath.Join(p, "page.md"), "Fine words. "+bad+"\n\n[x](javascript:alert(1)) <b onclick=x>b</b>\n")
	ok(t, p, "deploy", "preview", "practice", filepath.Join(p, "..", "look"))
	shop(t, p, filepath.Join(p, "..", "workshops", "kestrel"))
	o = vornix(t, p, "publish", "preview", "exchange", filepath.Join(p, "..", "page"))
	// HTML in a description is refused where the workshop is known
	assert.Contains(t, []int{0, 1}, o.exit, "%s%s", o.out, o.err)
	pages := 0
	require.NoError(t, filepath.WalkDir(filepath.Dir(p), func(name string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(name) != ".html" {
			return err
		}
		pages++
		text := read(t, name)
		for z := html.NewTokenizer(strings.NewReader(text)); z.Next() != html.ErrorToken; {
			token := z.Token()
			assert.NotEqual(t, "script", token.Data, name)
			for _, a := range token.Attr {
				assert.False(t, strings.HasPrefix(a.Key, "on"), "%s: %v", name, token)
				assert.NotContains(t, strings.ToLower(a.Val), "javascript:", name)
			}
			if token.Type == html.StartTagToken && token.Data == "img" {
				for _, a := range token.Attr {
					assert.False(t, a.Key == "src" && a.Val == "x", "%s: %v", name, token)
				}
			}
		}
		return nil
	}))
	assert.GreaterOrEqual(t, pages, 2, "the report, and the welcome page")
}
