package fetch_test

import (
	"io"
	"net"
	"net/http/cgi"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/ship/fetch"
	"vornix/internal/peer"
)

// cutting stands between a client and a server, and cuts connections after so many bytes from the server.
func cutting(t *testing.T, server string, after int64) (address string, passed *atomic.Int64) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	passed = &atomic.Int64{}
	to := strings.TrimPrefix(server, "http://")
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				s, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer s.Close()
				go io.Copy(s, c)
				n, _ := io.CopyN(c, s, after)
				passed.Add(n)
			}()
		}
	}()
	return "http://" + l.Addr().String(), passed
}

// An index served by nginx: ranges, redirects, packing, files that are not there, connections that
// are cut, and many players at once.
func TestNginx(t *testing.T) {
	s := newShelf(t, "pack", 1)
	one := noise(1, 3_000_000)
	two := slices.Concat(one[:500_000], []byte("a new light"), one[500_000:])
	s.publish("1.0.0", map[string][]byte{"a-1.zip": one, "b.zip": []byte(strings.Repeat("shrinks well ", 5000))}, 0)
	server := peer.Nginx(t, s.dir, `
gzip on; gzip_min_length 1; gzip_types application/json application/octet-stream;
location /latest/ { return 302 /; }
location = /latest/index.json { return 302 /index.json; }
location /plain/ { alias `+s.dir+`/; max_ranges 0; }
location /gone/ { return 404; }
location = /gone/index.json { alias `+s.dir+`/index.json; }
`)
	want := map[string]string{"a-1.zip": string(one), "b.zip": strings.Repeat("shrinks well ", 5000)}
	for _, path := range []string{"/", "/index.json", "", "/latest/", "/plain/"} {
		dir := t.TempDir()
		got(t, server+path, dir)
		assert.Equal(t, want, files(t, dir), path)
	}
	_, err := get(t, server+"/gone/", t.TempDir())
	assert.ErrorContains(t, err, "there is no such file on the server (404)")
	_, err = get(t, server+"/nothing/here/", t.TempDir())
	assert.ErrorContains(t, err, "there is no such file on the server (404)")

	cut, passed := cutting(t, server, 700_000)
	dir := t.TempDir()
	got(t, cut, dir)
	assert.Equal(t, want, files(t, dir))
	assert.Less(t, passed.Load(), int64(3_300_000), "ranges: nothing came twice")
	short, _ := cutting(t, server, 700_000)
	_, err = get(t, short+"/plain/", t.TempDir())
	assert.Equal(t, fault.Unreachable, fault.KindOf(err), "without ranges it never gets there")

	s.publish("1.1.0", map[string][]byte{"a-2.zip": two, "b.zip": []byte(strings.Repeat("shrinks well ", 5000))})
	s.way("1.0.0", string(one), "a-2.zip", two)
	s.store(0)
	r := got(t, server, dir)
	assert.Less(t, r.Bytes, int64(10_000))
	c, err := fetch.Check(ctx, server, fetch.CheckOptions{Trust: s.public, Remote: quick})
	require.NoError(t, err)
	assert.Zero(t, c.Wrong, c.Files)

	var wait sync.WaitGroup
	wrong := make(chan error, 12)
	for range 12 {
		dir := filepath.Join(t.TempDir(), "player")
		wait.Go(func() {
			if _, err := fetch.Run(ctx, dir, fetch.Options{URL: server, Remote: quick}); err != nil {
				wrong <- err
			}
		})
	}
	wait.Wait()
	close(wrong)
	assert.NoError(t, <-wrong)
}

// An index read from a Git repository by HTTP, by the server's own way to raw files; its pages are told from them.
func TestRawFilesOfAGitRepository(t *testing.T) {
	git := peer.Need(t, "git")
	const script = "/usr/lib/cgi-bin/gitweb.cgi"
	if _, err := os.Stat(script); err != nil {
		peer.Missing(t, "gitweb")
	}
	s := newShelf(t, "pack", 1)
	s.publish("1.0.0", map[string][]byte{"a.zip": noise(1, 20_000)}, 0)
	repos := t.TempDir()
	run := func(args ...string) {
		peer.Run(t, s.dir, git,
			append([]string{"-c", "user.name=crew", "-c", "user.email=crew@maps.example", "-c", "core.autocrlf=false"},
				args...)...)
	}
	run("init", "-q", "-b", "main")
	run("add", ".")
	run("commit", "-q", "-m", "1.0.0")
	run("clone", "-q", "--bare", s.dir, filepath.Join(repos, "pack.git"))
	config := filepath.Join(repos, "gitweb.conf")
	require.NoError(t,
		os.WriteFile(config, []byte("$projectroot = '"+repos+"';\n$feature{'pathinfo'}{'default'} = [1];\n"), 0o644))
	server := httptest.NewServer(&cgi.Handler{Path: script, Env: []string{"GITWEB_CONFIG=" + config},
		Stderr: io.Discard})
	defer server.Close()
	// a script of Perl's begins anew for every answer
	slowly := func(o *fetch.Options) { o.Remote.Stall = 20 * time.Second }
	raw, page := server.URL+"/pack.git/blob_plain/main:/", server.URL+"/pack.git/blob/main:/index.json"
	dir := t.TempDir()
	got(t, raw, dir, slowly)
	assert.Equal(t, string(noise(1, 20_000)), files(t, dir)["a.zip"])
	_, err := get(t, page, t.TempDir(), slowly)
	assert.ErrorContains(t, err, "web page")

	s.publish("1.1.0", map[string][]byte{"a.zip": noise(2, 20_000)}, 0)
	run("commit", "-q", "-a", "-m", "1.1.0")
	run("push", "-q", filepath.Join(repos, "pack.git"), "main")
	got(t, "", dir, slowly)
	assert.Equal(t, string(noise(2, 20_000)), files(t, dir)["a.zip"])

	// By an address with the file's name in the query, as other servers have it: what lies beside
	// it can't be told from that; base says it.
	s.x.Base = raw
	s.x.Serial++
	s.store(0)
	run("commit", "-q", "-a", "-m", "base")
	run("push", "-q", filepath.Join(repos, "pack.git"), "main")
	dir = t.TempDir()
	got(t, server.URL+"/?"+url.Values{"p": {"pack.git"}, "a": {"blob_plain"}, "f": {"index.json"},
		"hb": {"main"}}.Encode(), dir, slowly)
	assert.Len(t, files(t, dir), 1)
}
