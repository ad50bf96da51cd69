//go:build unix

package main_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/make/remoteexec"
	"vornix/internal/peer"
)

// started is a program that runs in the background.
type started struct {
	cmd *exec.Cmd
	mu  sync.Mutex
	out bytes.Buffer
}

func (s *started) Write(b []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.Write(b)
}

func (s *started) said() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.out.String()
}

func (s *started) await(t *testing.T, text string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(s.said(), text) }, 30*time.Second, 5*time.Millisecond,
		"%q never came", text)
}

// stop ends it as a signal does.
func (s *started) stop(sig syscall.Signal) {
	_ = s.cmd.Process.Signal(sig)
	_ = s.cmd.Wait()
}

// farmed starts a part of a farm and waits until it says something.
func farmed(t *testing.T, says string, args ...string) *started {
	t.Helper()
	s := &started{cmd: command(t.TempDir(), append([]string{"farm"}, args...)...)}
	s.cmd.Stdout, s.cmd.Stderr = s, s
	require.NoError(t, s.cmd.Start())
	t.Cleanup(func() { s.stop(syscall.SIGKILL) })
	s.await(t, says)
	return s
}

func TestFarmCommands(t *testing.T) {
	peer.Need(t, "nats-server")
	t.Setenv("VORNIX_TRUST_FILE", filepath.Join(t.TempDir(), "trusted.json"))
	dir := t.TempDir()
	key := filepath.Join(dir, "farm.key")
	host := farmed(t, "Ctrl-C stops it", "host", "--dir", dir, "--listen", "127.0.0.1:0")
	assert.Contains(t, host.said(), "tls://127.0.0.1:")
	info, err := os.Stat(key)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "nobody else reads the key")

	p := machineOf(t, quickly(t, "lower-sidings"))
	alone := machineOf(t, p)
	for _, dir := range []string{p, alone} {
		for i := range 6 {
			appendTo(t, dir, "vornix.toml",
				fmt.Sprintf("\n[[step]]\nname = \"leaflet%[1]d\"\ncommand = [\"tools/leaflet.sh\", \"{inputs}\"]\ninputs = [\"maps/*.vnx\"]\nstdout = \"leaflet%[1]d.txt\"\naway = true\n", i))
		}
		put(t, filepath.Join(dir, "tools/leaflet.sh"), "#!/bin/sh\nsleep 0.3\ncat \"$@\" | wc -l\n")
		require.NoError(t, os.Chmod(filepath.Join(dir, "tools/leaflet.sh"), 0o755))
	}
	ok(t, p, "trust", "--yes")
	ok(t, alone, "trust", "--yes")
	ok(t, alone, "pack")

	// A worker that runs no steps of projects, then one that does.
	farmed(t, "joined", "worker", "--key", key, "--name", "plain", "--dir", t.TempDir())
	contents := t.TempDir()
	willing := farmed(t, "joined", "worker", "--key", key, "--name", "willing", "--dir", contents, "--own-steps",
		"--json")
	second := vornix(t, p, "farm", "worker", "--key", key, "--dir", contents)
	assert.Equal(t, 3, second.exit)
	assert.Contains(t, second.err, "a folder of its own with --dir")
	t.Setenv("VORNIX_FARM", key)
	r := vornix(t, p, "pack", "--json", "--jobs", "1")
	require.Zero(t, r.exit, r.out+r.err)
	a := parse(t, r)
	peer.Run(t, p, peer.Need(t, "diff"), "-r", "out", filepath.Join(alone, "out"))
	by, steps := map[string]bool{}, map[string]bool{}
	for _, m := range a.Steps[0].Made {
		by[m.By] = true
		if strings.HasPrefix(m.Path, "out/tree/leaflet") {
			assert.NotEqual(t, "plain", m.By, "it runs no steps of projects")
			steps[m.By] = true
		}
	}
	assert.True(t, steps["willing"], "%v", a.Steps[0].Made)
	assert.True(t, by["plain"] || by["willing"], "%v", a.Steps[0].Made)
	for line := range bytes.Lines([]byte(willing.said())) {
		var e struct{ Result struct{ Worker, What string } }
		require.NoError(t, json.Unmarshal(line, &e), "%s", line)
		assert.Equal(t, "willing", e.Result.Worker)
	}
	status := ok(t, p, "farm", "status").out
	assert.Contains(t, status, "0 waiting, 0 being done")
	assert.Regexp(t, `(?m)^plain .* no .*nothing$`, status)
	assert.Regexp(t, `(?m)^willing .* yes .*nothing$`, status)
	var state remoteexec.State
	require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "farm", "status", "--json")).Result, &state))
	assert.Len(t, state.Workers, 2)

	// Ctrl-C ends a worker and a host in good order; without them all goes on.
	require.NoError(t, willing.cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, willing.cmd.Wait())
	require.NoError(t, host.cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, host.cmd.Wait())
	appendTo(t, p, "maps/tram_depot.vnx", "\n")
	start := time.Now()
	r = ok(t, p, "build")
	assert.Equal(t, 1, strings.Count(r.out+r.err, "farm.away"))
	assert.Less(t, time.Since(start), 10*time.Second)
	assert.NotContains(t, r.out+r.err, "token")

	for args, why := range map[string]string{
		"build --farm-key x":                             "--farm-key goes with --farm",
		"farm worker --key nowhere.key":                  "can't be read",
		"farm host --listen here":                        "not an address to listen at",
		"farm host --keep 3m":                            "--keep is too short",
		"farm host --max-size lots":                      "no size",
		"farm status --key vornix.toml":                  "may read the farm's key",
		"farm cheese":                                    "unknown command",
		"farm worker --key " + key + " --max-size never": "no size",
	} {
		r := vornix(t, p, strings.Fields(args)...)
		assert.NotZero(t, r.exit, args)
		assert.Contains(t, r.err, why, args)
	}
}
