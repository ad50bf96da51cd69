//go:build unix

package main_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// patched makes a folder of some megabytes and a patch that changes all of it.
func patched(t *testing.T, dir string) (old, now map[string]string) {
	t.Helper()
	old, now = map[string]string{}, map[string]string{}
	for i := range 14 {
		data := make([]byte, 400_000)
		r := rand.New(rand.NewPCG(uint64(i), 1))
		for j := range data {
			data[j] = byte(r.Uint32())
		}
		name := fmt.Sprintf("f%02d.bin", i)
		old[name] = string(data)
		data[i*1000] ^= 1
		switch {
		case i%6 == 0:
			now["moved/"+name] = old[name]
		case i%6 == 1:
			now[name] = string(data[:100_000])
		default:
			now[name] = string(data)
		}
	}
	for side, files := range map[string]map[string]string{"old": old, "new": now} {
		for name, text := range files {
			put(t, filepath.Join(dir, side, name), text)
		}
	}
	ok(t, dir, "patch", "make", "old", "new", "p.vnp")
	return old, now
}

// is says whether a folder holds these files and no others.
func is(t *testing.T, dir string, files map[string]string) bool {
	t.Helper()
	n := 0
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err == nil && e.Name() == "vornix-patched" {
			return filepath.SkipDir
		}
		if err == nil && !e.IsDir() {
			n++
		}
		return err
	}))
	for name, text := range files {
		if read(t, dir, name) != text {
			return false
		}
	}
	return n == len(files)
}

// A full disk and a folder that can't be written to leave everything as it was.
func TestPatchingWithoutRoom(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "of", "somebody")
	old, now := patched(t, dir)
	locked := filepath.Join(dir, "locked")
	require.NoError(t, os.CopyFS(locked, os.DirFS(filepath.Join(dir, "old"))))
	require.NoError(t, os.Chmod(locked, 0o555))
	t.Cleanup(func() { _ = os.Chmod(locked, 0o777) })
	o := asSomebody(t, dir, "patch", "apply", "p.vnp", "locked")
	assert.Equal(t, 1, o.exit, o.err)
	assert.Contains(t, o.err, "no permission to write there")
	assert.True(t, is(t, locked, old))
	require.NoError(t, os.Chmod(locked, 0o777))
	for name := range old { // files that nobody writes are replaced all the same
		require.NoError(t, os.Chmod(filepath.Join(locked, name), 0o444))
	}
	ok(t, dir, "patch", "apply", "p.vnp", "locked")
	assert.True(t, is(t, locked, now))
	ok(t, dir, "patch", "undo", "locked")
	assert.True(t, is(t, locked, old))

	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("mounting a small file system needs root on Linux")
	}
	full := filepath.Join(dir, "full")
	require.NoError(t, os.Mkdir(full, 0o777))
	if text, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=7m", "none", full).CombinedOutput(); err != nil {
		t.Skipf("no small file system to be had here: %s", text)
	}
	t.Cleanup(func() { _ = exec.Command("umount", full).Run() })
	require.NoError(t, os.CopyFS(full, os.DirFS(filepath.Join(dir, "old"))))
	o = vornix(t, dir, "patch", "apply", "p.vnp", "full")
	assert.Equal(t, 1, o.exit, o.err)
	assert.Contains(t, o.err, "the disk is full")
	assert.True(t, is(t, full, old))
	noTemps(t, full)
	require.NoError(t, exec.Command("mount", "-o", "remount,size=60m", full).Run())
	ok(t, dir, "patch", "apply", "p.vnp", "full")
	assert.True(t, is(t, full, now))
}
