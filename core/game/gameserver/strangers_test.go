package gameserver_test

import (
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/profile"
	"vornix/core/game/gameserver"
)

// A stand-in answers for its own names only, follows no link out of its folder, and lets nobody
// hold a connection for ever.
func TestStrangersAtAStandIn(t *testing.T) {
	data, err := os.ReadFile("../../../demo/profiles/kestrel-post.toml")
	require.NoError(t, err)
	p, err := profile.Parse("kestrel-post.toml", data)
	require.NoError(t, err)
	dir, outside := t.TempDir(), t.TempDir()
	secret := filepath.Join(outside, "secret"+filepath.Ext(p.Pack.Name))
	require.NoError(t, os.WriteFile(secret, []byte("outside"), 0o600))
	bundles := filepath.Join(dir, filepath.FromSlash(p.Server.Bundles))
	require.NoError(t, os.MkdirAll(bundles, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(bundles, "own"+filepath.Ext(p.Pack.Name)), []byte("inside"), 0o600))
	linked := os.Symlink(secret, filepath.Join(bundles, "link"+filepath.Ext(p.Pack.Name))) == nil
	s, err := gameserver.Start(dir, p, gameserver.Options{})
	require.NoError(t, err)
	defer s.Close()
	get := func(path, host string) (int, string) {
		req, err := http.NewRequest(http.MethodGet, s.URL+path, nil)
		require.NoError(t, err)
		if host != "" {
			req.Host = host
		}
		r, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer r.Body.Close()
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		return r.StatusCode, string(body)
	}
	for host, status := range map[string]int{"": 200, "localhost": 200, "127.0.0.1:9": 200, "[::1]:80": 200,
		"rebound.example": 421, "127.0.0.1.example": 421, "localhost.example:80": 421} {
		got, _ := get("/status", host)
		assert.Equal(t, status, got, host)
	}
	status, body := get("/files/own"+filepath.Ext(p.Pack.Name), "")
	assert.Equal(t, 200, status)
	assert.Equal(t, "inside", body)
	if linked {
		status, body = get("/files/link"+filepath.Ext(p.Pack.Name), "")
		assert.Equal(t, 404, status)
		assert.NotContains(t, body, "outside")
	}
	c, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Write([]byte("GET /status HTTP/1.1\r\nHost: localh"))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
	_, err = io.ReadAll(c)
	assert.NoError(t, err, "a request that never ends is ended")
}
