package safefile

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a run that ended left behind goes when the next one writes there; what somebody may still be writing to stays.
func TestOrphans(t *testing.T) {
	gone := exec.Command(os.Args[0], "-test.run=^$")
	require.NoError(t, gone.Run())
	dir := t.TempDir()
	name := func(machine string, pid int) string { return fmt.Sprintf("%s%s-%x-0123", tempPrefix, machine, pid) }
	put := func(name string, age time.Duration) {
		at := filepath.Join(dir, name)
		if strings.HasSuffix(name, "/") {
			require.NoError(t, os.MkdirAll(filepath.Join(at, "in"), 0o777))
		} else {
			require.NoError(t, os.WriteFile(at, []byte("half"), 0o666))
		}
		require.NoError(t, os.Chtimes(at, time.Now().Add(-age), time.Now().Add(-age)))
	}
	ended, mine, parent := name(machine(), gone.Process.Pid), name(machine(), os.Getpid()),
		name(machine(), os.Getppid())
	elsewhere, forgot, older := name("00000000", gone.Process.Pid), name("00000001", 1), tempPrefix+"deadbeef"
	for n, age := range map[string]time.Duration{ended: 0, ended + "f/": 0, mine: time.Hour, parent: 48 * time.Hour,
		elsewhere: time.Hour, forgot: 25 * time.Hour, older: 25 * time.Hour, "theirs.txt": 99 * time.Hour} {
		put(n, age)
	}
	d, err := OpenDir(dir)
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.WriteFile("new.txt", []byte("x")))
	var left []string
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range list {
		left = append(left, e.Name())
	}
	assert.ElementsMatch(t, []string{mine, parent, elsewhere, "theirs.txt", "new.txt"}, left)
	s, err := NewScratch(dir)
	require.NoError(t, err)
	assert.True(t, IsTemp(filepath.Base(s.f.Name())))
	s.Close()
	assert.NoFileExists(t, s.f.Name())
}

// Whichever change to the disk fails, the caller hears of it in plain words, what was there is
// still there, and nothing half written stays.
func TestEveryStepCanFail(t *testing.T) {
	work := map[string]func(d *Dir) error{
		"write":   func(d *Dir) error { return d.WriteFile("a/b.txt", []byte("new"), []byte(" and more")) },
		"link":    func(d *Dir) error { return d.LinkFrom(t.Context(), "old.txt", "a/b.txt") },
		"move":    func(d *Dir) error { return d.Move("a/b.txt", "c/b.txt") },
		"new":     func(d *Dir) error { return d.CreateNew("a/new.txt", []byte("new")) },
		"line":    func(d *Dir) error { return d.Append("old.txt", []byte("line")) },
		"remove":  func(d *Dir) error { return d.Remove("a/b.txt") },
		"partial": func(d *Dir) error { p, err := d.Resume("a/part"); return errors.Join(err, fill(p, err)) },
		"scratch": func(d *Dir) error { s, err := NewScratchDir(d.Path()); return errors.Join(err, closed(s, err)) },
	}
	for what, do := range work {
		failed := 0
		for at := 1; ; at++ {
			dir := t.TempDir()
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "a"), 0o777))
			for _, name := range []string{"a/b.txt", "old.txt"} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("old\n"), 0o666))
			}
			d, err := OpenDir(dir)
			require.NoError(t, err)
			n, asked := 0, ""
			end := Disturb(func(s DiskWrite) error {
				if n++; n == at {
					asked = s.Op
					return &os.PathError{Op: s.Op, Path: s.Path, Err: syscall.ENOSPC}
				}
				return nil
			})
			err = do(d)
			end()
			d.Close()
			if asked == "" {
				require.NoError(t, err)
				break
			}
			kept := 0
			for _, name := range []string{"a/b.txt", "old.txt", "c/b.txt"} {
				if data, err := os.ReadFile(filepath.Join(dir, name)); err == nil &&
					strings.HasPrefix(string(data), "old\n") {
					kept++
				}
			}
			switch {
			case err != nil:
				assert.ErrorContains(t, err, "the disk is full", "%s, %s", what, asked)
				assert.Equal(t, 2, kept, "%s, %s: what was there stays", what, asked)
				failed++
			default: // it went another way (a copy for a link), or left an empty folder
				assert.Contains(t, []string{OpLink, OpRemove, OpSyncFolder}, asked, what)
			}
			if asked != OpRemove {
				left, err := filepath.Glob(filepath.Join(dir, "*", tempPrefix+"*"))
				require.NoError(t, err)
				assert.Empty(t, left, "%s, %s", what, asked)
			}
		}
		assert.NotZero(t, failed, what)
	}
}

func fill(p *Partial, err error) error {
	if err != nil {
		return nil
	}
	_, err = p.Write([]byte("some"))
	return errors.Join(err, p.Close())
}

func closed(s *ScratchDir, err error) error {
	if err == nil {
		s.Close()
	}
	return nil
}

// What is promised to be durable is synchronised before it gets its name, and the folder after
// that; what can be made again waits for no disk.
func TestWhatIsDurable(t *testing.T) {
	d, err := OpenDir(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, d.MakeFolder("a"))
	for name, c := range map[string]struct {
		do   func() error
		want []string
	}{
		"written": {func() error { return d.WriteFile("a/b", []byte("x")) },
			[]string{OpCreate, OpWrite, OpSync, OpRename, OpSyncFolder}},
		"private": {func() error { return d.WritePrivate("a/c", []byte("x")) },
			[]string{OpCreate, OpWrite, OpSync, OpRename, OpSyncFolder}},
		"cached": {func() error { return d.WriteCache("a/d", []byte("x")) }, []string{OpCreate, OpWrite, OpRename}},
		"new": {func() error { return d.CreateNew("a/e", []byte("x")) },
			[]string{OpCreate, OpWrite, OpSync, OpSyncFolder}},
		"begun": {func() error { return d.Append("a/f", []byte("x")) },
			[]string{OpCreate, OpWrite, OpSync, OpSyncFolder}},
	} {
		var got, about []string
		end := Disturb(func(s DiskWrite) error {
			if s.Op != OpFolder {
				got, about = append(got, s.Op), append(about, filepath.Base(s.Path))
			}
			return nil
		})
		require.NoError(t, c.do(), name)
		end()
		assert.Equal(t, c.want, got, name)
		if got[len(got)-1] == OpSyncFolder {
			assert.Equal(t, "a", about[len(about)-1], name)
		}
	}
	// A second line needs no new name.
	var got []string
	end := Disturb(func(s DiskWrite) error { got = append(got, s.Op); return nil })
	require.NoError(t, d.Append("a/f", []byte("y")))
	end()
	assert.Equal(t, []string{OpCreate, OpWrite, OpSync}, got)
}
