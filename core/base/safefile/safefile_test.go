package safefile_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

func open(t *testing.T) *safefile.Dir {
	t.Helper()
	d, err := safefile.MakeDir(filepath.Join(t.TempDir(), "a", "b"))
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d
}

func TestCheckPathRefusesWhatLeavesOrBreaks(t *testing.T) {
	for _, good := range []string{"a", "a/b.png", "maps/cairn station.vnx", "ünïcode/ß", "console", "com10", "a..b",
		".hidden"} {
		assert.NoError(t, safefile.CheckPath(good), good)
	}
	for _, bad := range []string{"", "/a", "../a", "a/../b", "a/..", ".", "a//b", "a/", `a\b`, `C:\x`, "C:x",
		"a:stream", "nul", "NUL.txt", "x/CON", "com1.log",
		"lpt9", "a.", "a ", "dir./x", "a\x00b", "a\nb", "a\x7f", "what?", "a|b", "\xff", strings.Repeat("x", 256)} {
		err := safefile.CheckPath(bad)
		require.Error(t, err, "%q", bad)
		assert.Equal(t, fault.Refused, fault.KindOf(err), "%q", bad)
	}
}

// A path that CheckPath takes never leads out of a Dir, whatever it is made of.
func FuzzNothingLeavesItsFolder(f *testing.F) {
	for _, seed := range []string{"a/b", "../x", "a/../../x", "/etc/x", `..\x`, "a/./b", "c:/x", "\x2e\x2e/x"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, rel string) {
		if safefile.CheckPath(rel) != nil {
			return
		}
		root := filepath.FromSlash("/root/inside")
		got := filepath.Join(root, filepath.FromSlash(rel))
		if !strings.HasPrefix(got, root+string(filepath.Separator)) {
			t.Fatalf("%q leads to %q", rel, got)
		}
	})
}

func TestWriteReplacesAtOnceAndAbortLeavesTheOld(t *testing.T) {
	d := open(t)
	require.NoError(t, d.WriteFile("x/y.txt", []byte("old")))
	f, err := d.Create("x/y.txt")
	require.NoError(t, err)
	_, err = f.Write([]byte("half of the n"))
	require.NoError(t, err)
	data, err := d.ReadFile("x/y.txt")
	require.NoError(t, err)
	assert.Equal(t, "old", string(data), "an unfinished write can't be seen")
	f.Abort()
	assert.Empty(t, temps(t, d), "an aborted write leaves nothing")

	f, err = d.Create("x/y.txt")
	require.NoError(t, err)
	_, err = f.Write([]byte("new"))
	require.NoError(t, err)
	require.NoError(t, f.Commit())
	f.Abort() // after Commit it does nothing
	data, err = d.ReadFile("x/y.txt")
	require.NoError(t, err)
	assert.Equal(t, "new", string(data))
	// printf new | sha256sum
	assert.Equal(t, "11507a0e2f5e69d5dfa40a62a1bd7b6ee57e6bcd85c67c9b8431b36fff21c437", f.SHA256())
	assert.EqualValues(t, 3, f.Size())
}

func temps(t *testing.T, d *safefile.Dir) []string {
	t.Helper()
	var list []string
	require.NoError(t, fs.WalkDir(d.FS(), ".", func(p string, e fs.DirEntry, err error) error {
		if err == nil && safefile.IsTemp(e.Name()) {
			list = append(list, p)
		}
		return err
	}))
	return list
}

func TestLinksDoNotLeadOut(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("making links needs rights on Windows")
	}
	d := open(t)
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "precious"), []byte("mine"), 0o666))
	require.NoError(t, os.Symlink(outside, d.Join("link")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "precious"), d.Join("file")))

	assert.Error(t, d.WriteFile("link/precious", []byte("overwritten")))
	assert.Error(t, d.Remove("link/precious"))
	_, err := d.ReadFile("link/precious")
	assert.Error(t, err)
	require.NoError(t, d.WriteFile("file", []byte("a link is replaced, not followed")))
	data, err := os.ReadFile(filepath.Join(outside, "precious"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
}

func TestRemoveTakesEmptyFoldersAlong(t *testing.T) {
	d := open(t)
	require.NoError(t, d.WriteFile("a/b/c.txt", nil))
	require.NoError(t, d.WriteFile("a/keep.txt", nil))
	require.NoError(t, d.Remove("a/b/c.txt"))
	require.NoError(t, d.Remove("a/b/c.txt"), "a second time is no error")
	_, err := d.Stat("a/b")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = d.Stat("a/keep.txt")
	assert.NoError(t, err)
}

func TestLinkFromReplacesAndNeverSharesLaterWrites(t *testing.T) {
	d := open(t)
	require.NoError(t, d.WriteFile("object", []byte("content")))
	require.NoError(t, d.WriteFile("out/x", []byte("older")))
	require.NoError(t, d.LinkFrom(context.Background(), "object", "out/x"))
	require.NoError(t, d.LinkFrom(context.Background(), "object", "out/x"), "again, onto itself")
	data, err := d.ReadFile("out/x")
	require.NoError(t, err)
	assert.Equal(t, "content", string(data))
	require.NoError(t, d.WriteFile("out/x", []byte("changed")))
	data, err = d.ReadFile("object")
	require.NoError(t, err)
	assert.Equal(t, "content", string(data), "writing one name leaves the other alone")
	assert.Empty(t, temps(t, d))
}

func TestCleanTemp(t *testing.T) {
	d := open(t)
	for _, rel := range []string{"x", "deep/er/y"} {
		f, err := d.Create(rel)
		require.NoError(t, err)
		_, err = f.Write([]byte("killed here"))
		require.NoError(t, err)
	}
	require.Len(t, temps(t, d), 2)
	d.CleanTempIn(".")
	require.Len(t, temps(t, d), 1, "only the folder itself")
	d.CleanTemp()
	assert.Empty(t, temps(t, d))
}

func TestAppendAddsWholeLines(t *testing.T) {
	d := open(t)
	var wait sync.WaitGroup
	for range 20 {
		wait.Go(func() { assert.NoError(t, d.Append("log", []byte(strings.Repeat("x", 100)))) })
	}
	wait.Wait()
	data, err := d.ReadFile("log")
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat(strings.Repeat("x", 100)+"\n", 20), string(data))
}

func TestCopyStopsWhenCancelled(t *testing.T) {
	d := open(t)
	require.NoError(t, d.WriteFile("from", make([]byte, 1<<20)))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err := d.CopyFrom(ctx, d.Join("from"), "to")
	assert.ErrorIs(t, err, context.Canceled)
	_, err = d.Stat("to")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.Empty(t, temps(t, d))
}

func TestMissingFileKeepsItsCause(t *testing.T) {
	d := open(t)
	_, err := d.ReadFile("nothing/here")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.NotEmpty(t, f.Do)
}

// TestFullDisk writes into a file system of one megabyte until it is full: the old file stays, and
// nothing half written.
func TestFullDisk(t *testing.T) {
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("mounting a small file system needs root on Linux")
	}
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=1m", "none", dir).CombinedOutput(); err != nil {
		t.Skipf("no small file system to be had here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
	d, err := safefile.OpenDir(dir)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.WriteFile("keep", []byte("old")))
	err = d.WriteFile("keep", make([]byte, 3<<20))
	require.Error(t, err)
	assert.Contains(t, err.Error(), "the disk is full")
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Do, "Free some space")
	data, err := d.ReadFile("keep")
	require.NoError(t, err)
	assert.Equal(t, "old", string(data))
	assert.Empty(t, temps(t, d))
	require.NoError(t, d.WriteFile("keep", []byte("and it goes on")), "the space of the failed write is free again")
}

func TestLockSaysWhoHoldsIt(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	l, err := safefile.Acquire(dir, "vornix release")
	require.NoError(t, err)
	_, err = safefile.Acquire(dir, "vornix build")
	var f *fault.Fault
	require.True(t, errors.As(err, &f))
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.What, "vornix release")
	assert.Contains(t, f.What, "process")
	l.Release()
	l, err = safefile.Acquire(dir, "vornix build")
	require.NoError(t, err, "a lock that was freed can be taken")
	assert.False(t, l.Unclean)
	l.Release()
	// as a killed run leaves it
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lock.json"), []byte(`{"pid":1}`), 0o666))
	l, err = safefile.Acquire(dir, "vornix build")
	require.NoError(t, err)
	assert.True(t, l.Unclean)
	l.Release()
}

// What comes piece by piece stays over several runs, is hashed as a whole, and can begin anew; a
// scratch folder leaves nothing.
func TestPartialFiles(t *testing.T) {
	d, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	want := sha256.New()
	for i := range 5 {
		p, err := d.Resume("parts/one")
		require.NoError(t, err)
		assert.Equal(t, int64(i*3), p.Size())
		n, err := p.Write([]byte("abc"))
		require.NoError(t, err)
		assert.Equal(t, 3, n)
		want.Write([]byte("abc"))
		sum, err := p.SHA256(t.Context())
		require.NoError(t, err)
		assert.Equal(t, hex.EncodeToString(want.Sum(nil)), sum)
		require.NoError(t, p.Close())
	}
	p, err := d.Resume("parts/one")
	require.NoError(t, err)
	require.NoError(t, p.Restart())
	_, err = p.Write([]byte("new"))
	require.NoError(t, err)
	require.NoError(t, p.Close())
	data, err := d.ReadFile("parts/one")
	require.NoError(t, err)
	assert.Equal(t, "new", string(data))
	for _, bad := range []string{"../one", "/one", "parts", "a\x00"} {
		_, err := d.Resume(bad)
		assert.Error(t, err, bad)
	}
	s, err := safefile.NewScratchDir(d.Path())
	require.NoError(t, err)
	require.NoError(t, s.WriteFile("deep/er/file", []byte("x")))
	s.Close()
	assert.NoDirExists(t, s.Path())
}
