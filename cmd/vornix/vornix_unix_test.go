//go:build unix

package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/internal/peer"
)

func TestReadOnlyOutput(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	ok(t, p, "build")
	edit(t, p, "maps/cairn_station.vnx", "fov=62", "fov=61")
	before, err := os.ReadFile(filepath.Join(p, "out/tree/maps/cairn_station.vnm"))
	require.NoError(t, err)
	locked := filepath.Join(p, "out", "tree", "maps")
	require.NoError(t, os.Chmod(locked, 0o555))
	t.Cleanup(func() { _ = os.Chmod(locked, 0o777) })
	o := asSomebody(t, p, "build")
	assert.Equal(t, 1, o.exit, o.err)
	assert.Contains(t, o.err, "no permission to write there")
	assert.Contains(t, o.err, "cairn_station.vnm")
	after, err := os.ReadFile(filepath.Join(p, "out/tree/maps/cairn_station.vnm"))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	noTemps(t, p)
	require.NoError(t, os.Chmod(locked, 0o777))
	ok(t, p, "build")
}

// asSomebody runs the program as a user with no more rights than others: root may do anything.
func asSomebody(t *testing.T, p string, args ...string) outcome {
	t.Helper()
	cmd := command(p, args...)
	if os.Getuid() == 0 {
		require.NoError(t,
			filepath.WalkDir(filepath.Dir(filepath.Dir(p)),
				func(name string, _ os.DirEntry, _ error) error { return os.Chown(name, 65534, 65534) }))
		for _, dir := range []string{filepath.Dir(exe), filepath.Dir(filepath.Dir(filepath.Dir(p)))} {
			require.NoError(t, os.Chmod(dir, 0o755))
		}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	return run(t, cmd)
}

// A source that can't be read is one finding, and the rest is made.
func TestUnreadableSources(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		source string
		say    []string
	}{
		{"textures/wood/plank.png",
			[]string{"textures/wood/plank.png  the file can't be read: permission denied [texture.unreadable]",
				"1 of 31 jobs failed"}},
		{"materials/rock/slab.toml",
			[]string{"materials/rock/slab.toml  the file can't be read: permission denied [file.unreadable]",
				"of 30 jobs failed"}},
		{"textures/rock/cairn_bumps.texture.toml",
			[]string{"cairn_bumps.texture.toml  the file can't be read: permission denied [file.unreadable]",
				"1 of 31 jobs failed"}},
	} {
		p := project(t, "highline")
		require.NoError(t, os.Chmod(filepath.Join(p, c.source), 0))
		o := asSomebody(t, p, "build", "--stage", "none")
		assert.Equal(t, 1, o.exit, o.err)
		for _, say := range c.say {
			assert.Contains(t, o.err, say)
		}
		assert.FileExists(t, filepath.Join(p, "out/tree/textures/rock/cairn.ktx2"))
		noTemps(t, p)
	}
}

// TestKilledWhileDeploying kills a deployment over OpenSSH at many moments: what is there is sound,
// and the next run finishes.
func TestKilledWhileDeploying(t *testing.T) {
	t.Parallel()
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	s := peer.StartSSHD(t, "")
	dir := t.TempDir()
	put(t, filepath.Join(p, "vornix.toml"),
		read(t, p, "vornix.toml")+
			fmt.Sprintf("\n[target.valley]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = %d\nuser = %q\nkey = %q\nhost_key = [%q]\npath = %q\n", s.Port, s.User, s.Key, s.Fingerprint, dir))
	want, _, err := safefile.HashFile(filepath.Join(p, "out/bundles/tram_depot.vnm"))
	require.NoError(t, err)
	killed := 0
	for _, after := range []int{120, 220, 300, 400} {
		cmd := command(p, "deploy", "valley", "--yes")
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(after) * time.Millisecond)
		_ = cmd.Process.Kill()
		if cmd.Wait() != nil {
			killed++
		}
		if strings.Contains(read(t, dir, "levels.txt"), "tram_depot") {
			sum, _, err := safefile.HashFile(filepath.Join(dir, "levels/tram_depot.vnm"))
			require.NoError(t, err, "it is listed")
			assert.Equal(t, want, sum)
		}
		ok(t, p, "deploy", "valley", "--yes")
		sum, _, err := safefile.HashFile(filepath.Join(dir, "levels/tram_depot.vnm"))
		require.NoError(t, err)
		assert.Equal(t, want, sum)
		assert.Contains(t, read(t, dir, "timetable.txt"), "tram_depot")
		assert.NoFileExists(t, filepath.Join(dir, ".vornix-target", "lock.json"))
		ok(t, p, "deploy", "rollback", "valley", "--yes")
		assert.NoFileExists(t, filepath.Join(dir, "levels/tram_depot.vnm"))
	}
	assert.NotZero(t, killed)
}
