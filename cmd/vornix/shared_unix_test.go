//go:build unix

package main_test

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// sharing adds a place for shared results to a project, and allows it on a machine of its own.
func sharing(t *testing.T, p, settings string) {
	t.Helper()
	appendTo(t, p, "vornix.toml", "\n[shared]\n"+settings+"\n")
	ok(t, p, "trust", "--yes")
}

func appendTo(t *testing.T, p, rel, text string) {
	t.Helper()
	f, err := os.OpenFile(filepath.Join(p, rel), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString(text)
	require.NoError(t, err)
}

// machineOf is a new machine with a copy of a project's sources.
func machineOf(t *testing.T, from string) string {
	t.Helper()
	p := filepath.Join(t.TempDir(), filepath.Base(from))
	copyTree(t, p, from)
	for _, made := range []string{".vornix", "out"} {
		require.NoError(t, os.RemoveAll(filepath.Join(p, made)))
	}
	return p
}

func TestATeamSharesResults(t *testing.T) {
	// As docs/shared-results.md says: one password reads, another also writes.
	users := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(users, "writers"), []byte("ci:{PLAIN}pushes\n"), 0o644))
	require.NoError(t,
		os.WriteFile(filepath.Join(users, "readers"), []byte("ci:{PLAIN}pushes\nada:{PLAIN}reads\n"), 0o644))
	web := peer.Nginx(t, t.TempDir(), fmt.Sprintf(`location / { auth_basic "results"; auth_basic_user_file %[1]s/writers; dav_methods PUT; create_full_put_path on; client_max_body_size 2g;
		limit_except PUT { auth_basic "results"; auth_basic_user_file %[1]s/readers; } }`, users))
	nats, _, _ := peer.NATS(t, "authorization { users: [ {user: ci, password: pushes} ] }")
	for kind, url := range map[string]string{"folder": filepath.ToSlash(t.TempDir()), "nginx": web + "/sidings",
		"nats": "nats://" + nats + "/sidings"} {
		t.Run(kind, func(t *testing.T) {
			t.Setenv("VORNIX_TRUST_FILE", filepath.Join(t.TempDir(), "trusted.json"))
			t.Setenv("RESULTS", "ci:pushes")
			settings := fmt.Sprintf("url = %q", url)
			if kind != "folder" {
				settings += "\ntoken_env = \"RESULTS\""
			}
			first := machineOf(t, quickly(t, "lower-sidings"))
			second := machineOf(t, first)
			sharing(t, first, settings)
			out := ok(t, first, "build", "--draft").out
			assert.NotContains(t, out, "taken from shared results")
			sharing(t, second, settings)
			out = ok(t, second, "build", "--draft").out
			assert.Contains(t, out, "taken from shared results")
			peer.Run(t, first, peer.Need(t, "diff"), "-r", "out/tree", filepath.Join(second, "out", "tree"))
			status := ok(t, second, "status").out
			assert.Contains(t, status, "(100 %)")
			assert.Contains(t, status, url)
			assert.Contains(t, ok(t, second, "trust", "--list").out, "share results")
			noTemps(t, second)
			if kind != "nginx" {
				return
			}
			t.Setenv("RESULTS", "ada:reads")
			third := machineOf(t, first)
			ok(t, third, "trust", "--yes")
			appendTo(t, third, "maps/tram_depot.vnx", "\n")
			r := ok(t, third, "build", "--draft")
			assert.Contains(t, r.out+r.err, "it answered 401 Unauthorized to PUT",
				"who may only read is told when he gives")
			t.Setenv("VORNIX_SHARED", "read")
			fourth := machineOf(t, third)
			ok(t, fourth, "trust", "--yes")
			r = ok(t, fourth, "build", "--draft")
			assert.NotContains(t, r.out+r.err, "shared.")
			assert.Contains(t, r.out, "taken from shared results")
			assert.NotContains(t, string(must(os.ReadFile(filepath.Join(fourth, ".vornix", "shared.json")))), "reads\"",
				"no secret is remembered")
		})
	}
}

func TestSharedResultsThatCantBeHad(t *testing.T) {
	t.Setenv("VORNIX_TRUST_FILE", filepath.Join(t.TempDir(), "trusted.json"))
	free, err := peer.FreeAddress()
	require.NoError(t, err)
	nobody := "http://" + free
	p := machineOf(t, quickly(t, "lower-sidings"))
	appendTo(t, p, "vornix.toml", fmt.Sprintf("\n[shared]\nurl = %q\n", nobody+"/results"))

	// A project from elsewhere asks nobody before it is allowed to.
	r := ok(t, p, "build", "--draft")
	assert.Contains(t, r.out+r.err, "shared.untrusted")
	assert.Contains(t, ok(t, p, "status").out, "vornix trust")
	shown := ok(t, p, "trust", "--plan").out
	assert.Contains(t, shown, nobody)
	ok(t, p, "trust", "--yes")

	// A place that is away is said once, and costs nothing but that.
	appendTo(t, p, "maps/tram_depot.vnx", "\n")
	r = ok(t, p, "build", "--draft")
	assert.Equal(t, 1, strings.Count(r.out+r.err, "shared.away"), r.out+r.err)
	assert.Contains(t, ok(t, p, "status").out, "left them alone")
	// Once it is there it gets what was made before, although nothing is to be built.
	results := t.TempDir()
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := filepath.Join(results, filepath.FromSlash(r.URL.Path))
		if r.Method == http.MethodPut {
			data, _ := io.ReadAll(r.Body)
			put(t, name, string(data))
			return
		}
		http.ServeFile(w, r, name)
	}))
	server.Listener, err = net.Listen("tcp", strings.TrimPrefix(nobody, "http://"))
	require.NoError(t, err)
	server.Start()
	defer server.Close()
	r = ok(t, p, "build", "--draft")
	assert.Contains(t, r.out, "nothing changed")
	assert.DirExists(t, filepath.Join(results, "results", "records"))
	// A machine can keep out of it.
	t.Setenv("VORNIX_SHARED", "off")
	appendTo(t, p, "maps/tram_depot.vnx", "\n\n")
	r = ok(t, p, "build", "--draft")
	assert.NotContains(t, r.out+r.err, "shared.")
	assert.Contains(t, ok(t, p, "status").out, "switched off")
	t.Setenv("VORNIX_SHARED", "sometimes")
	appendTo(t, p, "maps/tram_depot.vnx", "\n\n\n")
	r = ok(t, p, "build", "--draft")
	assert.Contains(t, r.out+r.err, "off, read or write")
}
