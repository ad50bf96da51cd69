package fetch_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
)

// A disk that gets full keeps what is installed, and is not kept full by half of a file.
func TestAFullDisk(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("mounting a small file system needs root on Linux")
	}
	s := newShelf(t, "highline", 0)
	s.publish("1.0.0", map[string][]byte{"a.parcel": noise(1, 300_000)})
	dir := t.TempDir()
	if text, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1m", "none", dir).CombinedOutput(); err != nil {
		t.Skipf("no small file system to be had here: %s", text)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	got(t, s.dir, dir)
	before := files(t, dir)
	s.publish("1.1.0", map[string][]byte{"a.parcel": noise(2, 3_000_000)})
	_, err := get(t, s.dir, dir)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, "the disk is full", f.What)
	assert.Contains(t, f.Do, "Free some space there")
	assert.NotContains(t, f.Error()+f.Do, ".vornix/cache")
	assert.Equal(t, before, files(t, dir))
	left, err := filepath.Glob(filepath.Join(dir, "vornix-fetched", "*", "parts", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, exec.Command("mount", "-o", "remount,size=8m", dir).Run())
	assert.Equal(t, "1.1.0", got(t, s.dir, dir).To)
}
