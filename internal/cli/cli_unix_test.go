//go:build unix

package cli_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
