package transaction

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
)

var ctx = context.Background()

// game is a folder with some files.
func game(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{"maps/cairn.vnm": "cairn 1", "textures/rock.ktx2": "rock 1",
		"own.cfg": "mine"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o640))
	}
	return dir
}

// files are the contents of a folder, without our own.
func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	list := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() && e.Name() == Dir {
			if err == nil {
				err = filepath.SkipDir
			}
			return err
		}
		if !e.IsDir() {
			rel, _ := filepath.Rel(dir, p)
			data, err := os.ReadFile(p)
			list[filepath.ToSlash(rel)] = string(data)
			return err
		}
		return nil
	}))
	return list
}

func open(t *testing.T, dir string) *Folder {
	t.Helper()
	f, err := Open(ctx, dir, "test")
	require.NoError(t, err)
	return f
}

// changes stages new contents; an empty one takes the file away.
func changes(t *testing.T, f *Folder, contents map[string]string) (list []Change) {
	t.Helper()
	for _, name := range []string{"maps/cairn.vnm", "textures/rock.ktx2", "new/thing.txt", "own.cfg"} {
		text, ok := contents[name]
		if !ok {
			continue
		}
		c := Change{File: File{Path: name}}
		var err error
		c.Old, c.OldSize, err = f.Hash(name)
		require.NoError(t, err)
		if text != "" {
			s, err := f.Stage()
			require.NoError(t, err)
			_, err = s.Write([]byte(text))
			require.NoError(t, err)
			c.New, c.NewSize, c.Staged = s.SHA256(), s.Size(), s.Name()
			require.NoError(t, s.Commit())
		}
		list = append(list, c)
	}
	return list
}

var second = map[string]string{"maps/cairn.vnm": "cairn 2", "textures/rock.ktx2": "", "new/thing.txt": "new"}

func TestThereAndBack(t *testing.T) {
	dir := game(t)
	before := files(t, dir)
	f := open(t, dir)
	r, err := f.Commit(ctx, changes(t, f, second), Record{Kind: "patch", Title: "two"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"maps/cairn.vnm": "cairn 2", "new/thing.txt": "new", "own.cfg": "mine"},
		files(t, dir))
	again, err := f.Commit(ctx, changes(t, f, map[string]string{"maps/cairn.vnm": "cairn 3"}),
		Record{Kind: "patch", Title: "three"})
	require.NoError(t, err)
	f.Close()

	f = open(t, dir)
	defer f.Close()
	require.Len(t, f.Records(), 2)
	_, err = f.RollBack(ctx, r, Refuse)
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	drift, err := f.Drifted(r)
	require.NoError(t, err)
	require.Len(t, drift, 1)
	assert.Equal(t, 2, drift[0].By, "the later change is named")
	require.NoError(t, takeBack(f, again, Refuse))
	require.NoError(t, takeBack(f, r, Refuse))
	assert.Equal(t, before, files(t, dir))
	kept, err := os.ReadDir(filepath.Join(dir, keptDir))
	assert.True(t, os.IsNotExist(err) || len(kept) == 0, "originals that nothing needs any more stay behind: %v", kept)
	again2, err := Records(dir)
	require.NoError(t, err)
	assert.True(t, again2[0].Undone && again2[1].Undone)
}

// Somebody else's change is never lost: not under an undo, not while a change is prepared.
func TestOthersChanges(t *testing.T) {
	dir := game(t)
	f := open(t, dir)
	defer f.Close()
	list := changes(t, f, second)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "maps", "cairn.vnm"), []byte("somebody's, longer"), 0o600))
	_, err := f.Commit(ctx, list, Record{})
	assert.ErrorContains(t, err, "changed while this was prepared")
	assert.Equal(t, "somebody's, longer", files(t, dir)["maps/cairn.vnm"])
	assert.Equal(t, "rock 1", files(t, dir)["textures/rock.ktx2"])

	r, err := f.Commit(ctx, changes(t, f, second), Record{})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new", "thing.txt"), []byte("edited"), 0o600))
	assert.Error(t, takeBack(f, r, Refuse))
	require.NoError(t, takeBack(f, r, Leave))
	assert.Equal(t, map[string]string{"maps/cairn.vnm": "somebody's, longer", "textures/rock.ktx2": "rock 1",
		"new/thing.txt": "edited", "own.cfg": "mine"}, files(t, dir))
}

// An original that was damaged is not brought back.
func TestDamagedOriginal(t *testing.T) {
	dir := game(t)
	f := open(t, dir)
	defer f.Close()
	r, err := f.Commit(ctx, changes(t, f, map[string]string{"own.cfg": "ours"}), Record{})
	require.NoError(t, err)
	kept := filepath.Join(dir, keptDir, r.Files[0].Old)
	require.NoError(t, os.WriteFile(kept, []byte("spoilt"), 0o600))
	assert.ErrorContains(t, takeBack(f, r, Refuse), "gone or damaged")
	assert.Equal(t, "ours", files(t, dir)["own.cfg"])
}

// Wherever a run is killed, the next one finds everything as before or as after, and the same can be done again.
func TestKilledAtEveryStep(t *testing.T) {
	for _, undo := range []bool{false, true} {
		for step := range 9 {
			t.Run(fmt.Sprintf("undo %v, step %d", undo, step), func(t *testing.T) {
				dir := game(t)
				before := files(t, dir)
				f := open(t, dir)
				if undo {
					_, err := f.Commit(ctx, changes(t, f, second), Record{})
					require.NoError(t, err)
				}
				from := files(t, dir)
				cut(t, f, undo, step)
				f.lock.Release()
				require.NoError(t, f.d.Close())
				assert.Equal(t, step > 0, Unfinished(dir))

				f = open(t, dir)
				now := files(t, dir)
				done := !assert.ObjectsAreEqual(from, now)
				if done && !undo {
					assert.Equal(t, map[string]string{"maps/cairn.vnm": "cairn 2", "new/thing.txt": "new",
						"own.cfg": "mine"}, now)
					require.Len(t, f.Records(), 1)
				} else if done {
					assert.Equal(t, before, now)
					assert.True(t, f.Records()[0].Undone)
				}
				assert.False(t, Unfinished(dir))
				if undo && !done {
					require.NoError(t, takeBack(f, &f.Records()[0], Refuse))
				} else if !undo {
					if !done {
						_, err := f.Commit(ctx, changes(t, f, second), Record{})
						require.NoError(t, err)
					}
					require.NoError(t, takeBack(f, &f.Records()[0], Refuse))
				}
				assert.Equal(t, before, files(t, dir))
				f.Close()
			})
		}
	}
}

// cut does as much of a change as a run that is killed at that step: 0 nothing but what waits
// beside, 1 the journal, then move by move, 7 a staged file lost, 8 all but the end of the journal.
func cut(t *testing.T, f *Folder, undo bool, step int) {
	t.Helper()
	j := &journal{Entry: entry{Record: Record{ID: 1}}}
	if undo {
		j.Entry = entry{Undo: 1}
		for _, file := range f.records[0].Files {
			m := move{File: File{Path: file.Path, Old: file.New, New: file.Old}}
			if file.Old != "" {
				s, err := f.copyBackup(ctx, file)
				require.NoError(t, err)
				m.Staged = s
			}
			require.NoError(t, f.backUp(ctx, Change{File: m.File}))
			j.Moves = append(j.Moves, m)
		}
	} else {
		for _, c := range changes(t, f, second) {
			require.NoError(t, f.backUp(ctx, c))
			j.Moves = append(j.Moves, move{c.File, c.Staged})
			j.Entry.Files = append(j.Entry.Files, c.File)
		}
	}
	if step == 0 {
		return
	}
	data, err := json.Marshal(j)
	require.NoError(t, err)
	require.NoError(t, f.d.WriteFile(journalFile, data))
	moved := 0
	for _, m := range j.Moves {
		if m.Staged != "" && moved < step-1 {
			moved++
			require.NoError(t, f.d.Move(m.Staged, m.Path))
		}
	}
	if step == 7 { // the disk lost one of the moved files, and nothing waits any more
		for _, m := range j.Moves {
			if m.New != "" && m.Old != "" {
				require.NoError(t, os.WriteFile(f.Join(m.Path), []byte("torn"), 0o600))
				require.NoError(t, f.d.LinkFrom(ctx, keptDir+"/"+m.Old, m.Path))
			}
		}
		return
	}
	for _, m := range j.Moves {
		if m.Staged == "" && moved < step-1 {
			moved++
			require.NoError(t, f.d.Remove(m.Path))
		}
	}
	if step == 8 {
		line := []byte(`{"undo":1}`)
		if !undo {
			line, err = json.Marshal(j.Entry)
			require.NoError(t, err)
		}
		require.NoError(t, f.d.Append(recordsFile, line))
	}
}

// What was recorded had come to its end: what somebody did before the journal went is theirs, and
// nothing is taken back.
func TestAJournalThatOutlivedItsRecord(t *testing.T) {
	dir := game(t)
	f := open(t, dir)
	cut(t, f, false, 8)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "maps", "cairn.vnm"), []byte("somebody's"), 0o600))
	f.lock.Release()
	require.NoError(t, f.d.Close())
	f = open(t, dir)
	defer f.Close()
	assert.Equal(t, map[string]string{"maps/cairn.vnm": "somebody's", "new/thing.txt": "new", "own.cfg": "mine"},
		files(t, dir))
	require.Len(t, f.Records(), 1)
	assert.False(t, Unfinished(dir))
}

// Records that a crash cut short, or that somebody wrote, are not believed.
func TestRecordsOfNobody(t *testing.T) {
	dir := game(t)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, Dir), 0o700))
	write := func(text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.FromSlash(recordsFile)), []byte(text), 0o600))
	}
	write("{\"id\":1,\"title\":\"one\",\"files\":[]}\n{\"id\":2,\"ti")
	list, err := Records(dir)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	write("{\"id\":1,\"files\":[{\"path\":\"../../etc/passwd\",\"old\":\"\"}]}\n")
	_, err = Records(dir)
	assert.Error(t, err)
	write("")
	require.NoError(t, os.WriteFile(filepath.Join(dir, filepath.FromSlash(journalFile)), []byte("{"), 0o600))
	_, err = Open(ctx, dir, "test")
	assert.ErrorContains(t, err, "journal")
}

// A folder that nothing was changed in keeps no trace, and only one run holds it.
func TestNoTrace(t *testing.T) {
	dir := game(t)
	f := open(t, dir)
	_, err := Open(ctx, dir, "other")
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	s, err := f.Stage()
	require.NoError(t, err)
	_, err = s.Write([]byte(strings.Repeat("x", 1000)))
	require.NoError(t, err)
	f.Close()
	_, err = os.Stat(filepath.Join(dir, Dir))
	assert.True(t, os.IsNotExist(err))
}

// Changes that are forgotten can't be undone any more, and their originals go; those that stay can.
func TestForgetting(t *testing.T) {
	dir := game(t)
	f := open(t, dir)
	for i := 2; i <= 4; i++ {
		_, err := f.Commit(ctx, changes(t, f, map[string]string{"maps/cairn.vnm": fmt.Sprintf("cairn %d", i)}),
			Record{Kind: "fetch", Title: fmt.Sprint(i)})
		require.NoError(t, err)
	}
	other, err := f.Commit(ctx, changes(t, f, map[string]string{"own.cfg": "theirs"}), Record{Kind: "patch"})
	require.NoError(t, err)
	require.NoError(t, takeBack(f, other, Refuse))
	first := f.Records()[0].Files[0].Old
	assert.NotEmpty(t, f.Backup(first))
	require.NoError(t, f.Forget(ctx, func(r Record) bool { return r.Kind == "fetch" && r.Title != "4" }))
	assert.Empty(t, f.Backup(first))
	f.Close()

	f = open(t, dir)
	defer f.Close()
	require.Len(t, f.Records(), 2)
	assert.True(t, f.Records()[1].Undone, "what was undone stays so")
	require.NoError(t, takeBack(f, &f.Records()[0], Refuse))
	assert.Equal(t, "cairn 3", files(t, dir)["maps/cairn.vnm"])
	next, err := f.Commit(ctx, changes(t, f, map[string]string{"own.cfg": "new"}), Record{Kind: "patch"})
	require.NoError(t, err)
	assert.Greater(t, next.ID, 4, "numbers of changes that are still there are not given again")
	require.NoError(t, f.Forget(ctx, func(Record) bool { return false }))
	assert.Len(t, f.Records(), 3)
}

// takeBack undoes a change, and says only whether it could.
func takeBack(f *Folder, r *Record, how ChangedPolicy) error {
	_, err := f.RollBack(context.Background(), r, how)
	return err
}

// What becomes of files that somebody changed since: nothing of theirs is lost, and no original either.
func TestChangedSince(t *testing.T) {
	ctx := context.Background()
	for how, want := range map[ChangedPolicy]map[string]string{
		Leave: {"a.txt": "edited", "c.txt": "edited", "gone.txt": "old"},
		Aside: {"a.txt": "old", "c.txt": "edited", "gone.txt": "old", Dir + "/aside/1/a.txt": "edited"},
	} {
		dir := t.TempDir()
		write := func(name, text string) {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666))
		}
		read := func(name string) string {
			data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
			require.NoError(t, err)
			return string(data)
		}
		write("a.txt", "old")
		write("gone.txt", "old")
		f, err := Open(ctx, dir, "test")
		require.NoError(t, err)
		var changes []Change
		for _, name := range []string{"a.txt", "b.txt", "c.txt", "gone.txt"} {
			s, err := f.Stage()
			require.NoError(t, err)
			_, err = s.Write([]byte("new " + name))
			require.NoError(t, err)
			require.NoError(t, s.Commit())
			c := Change{File: File{Path: name, New: s.SHA256(), NewSize: s.Size()}, Staged: s.Name()}
			c.Old, c.OldSize, err = f.Hash(name)
			require.NoError(t, err)
			changes = append(changes, c)
		}
		r, err := f.Commit(ctx, changes, Record{Kind: "test"})
		require.NoError(t, err)
		write("a.txt", "edited")
		write("c.txt", "edited")
		require.NoError(t, os.Remove(filepath.Join(dir, "gone.txt")))
		require.Error(t, takeBack(f, r, Refuse))
		assert.Equal(t, "new b.txt", read("b.txt"))
		require.NoError(t, takeBack(f, r, how))
		for name, text := range want {
			assert.Equal(t, text, read(name), "%d %s", how, name)
		}
		assert.NoFileExists(t, filepath.Join(dir, "b.txt"))
		f.Close()
		// Later still: the original of what was left comes back when nobody's change stands there any more.
		f, err = Open(ctx, dir, "test")
		require.NoError(t, err)
		if how == Leave {
			last := f.Records()[len(f.Records())-1]
			assert.False(t, last.Undone)
			require.Len(t, last.Files, 1)
			require.Error(t, takeBack(f, &last, Refuse))
			require.NoError(t, os.Remove(filepath.Join(dir, "a.txt")))
			require.NoError(t, takeBack(f, &last, Refuse))
			assert.Equal(t, "old", read("a.txt"))
		}
		f.Close()
	}
}
