//go:build unix

package cli_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/safefile"
)

// A release that is killed at any moment is finished by the next one, with the same bytes, and leaves nothing behind.
func TestKilledAnywhere(t *testing.T) {
	release := []string{"release", "--yes", "--without-server"}
	whole := project(t, "highline")
	begin := time.Now()
	ok(t, whole, release...)
	took := time.Since(begin)
	want, _, err := safefile.HashFile(filepath.Join(whole, "out/releases/1.0.0/highline-1.0.0.parcel"))
	require.NoError(t, err)
	const kills = 14
	for i := range kills {
		p := project(t, "highline")
		server := filepath.Join(p, "../servers/kestrel")
		lists, err := os.ReadFile(filepath.Join(server, "rota.txt"))
		require.NoError(t, err)
		cmd := command(p, release...)
		require.NoError(t, cmd.Start())
		time.Sleep(took * time.Duration(i) / (kills - 2))
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		now, err := os.ReadFile(filepath.Join(server, "rota.txt"))
		require.NoError(t, err)
		if string(now) != string(lists) {
			assert.FileExists(t, filepath.Join(server, "parcels/highline-1.0.0.parcel"), "a list never names a map that is not there")
		}
		ok(t, p, "status")
		ok(t, p, release...)
		for _, file := range []string{filepath.Join(p, "out/releases/1.0.0"), filepath.Join(server, "parcels")} {
			sum, _, err := safefile.HashFile(filepath.Join(file, "highline-1.0.0.parcel"))
			require.NoError(t, err)
			assert.Equal(t, want, sum)
		}
		assert.Contains(t, ok(t, p, "status").out, "on practice  version 1.0.0;")
		noTemps(t, filepath.Dir(p))
	}
}

func TestReadOnlyOutput(t *testing.T) {
	p := project(t, "highline")
	ok(t, p, "build")
	edit(t, p, "maps/cairn_station.vnx", "fov=60", "fov=61")
	before, err := os.ReadFile(filepath.Join(p, "out/tree/maps/cairn_station.vnm"))
	require.NoError(t, err)
	locked := filepath.Join(p, "out", "tree", "maps")
	require.NoError(t, os.Chmod(locked, 0o555))
	t.Cleanup(func() { _ = os.Chmod(locked, 0o777) })
	cmd := command(p, "build")
	if os.Getuid() == 0 { // root may write anywhere: be somebody else
		require.NoError(t, filepath.WalkDir(filepath.Dir(filepath.Dir(p)), func(name string, _ os.DirEntry, _ error) error { return os.Chown(name, 65534, 65534) }))
		for _, dir := range []string{filepath.Dir(exe), filepath.Dir(filepath.Dir(filepath.Dir(p)))} {
			require.NoError(t, os.Chmod(dir, 0o755))
		}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	o := run(t, cmd)
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
