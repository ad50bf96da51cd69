package transaction_test

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/base/transaction"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// table is a folder with a file of a game in it.
func table(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte("original"), 0o600))
	return dir
}

func content(t *testing.T, dir, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	if os.IsNotExist(err) {
		return "(gone)"
	}
	require.NoError(t, err)
	return string(data)
}

// replace puts a text in the place of a.txt.
func replace(t *testing.T, f *transaction.Folder, text string) (*transaction.Record, error) {
	t.Helper()
	s, err := f.Stage()
	require.NoError(t, err)
	_, err = s.Write([]byte(text))
	require.NoError(t, err)
	require.NoError(t, s.Commit())
	old, size, err := f.Hash("a.txt")
	require.NoError(t, err)
	return f.Commit(t.Context(),
		[]transaction.Change{{File: transaction.File{Path: "a.txt", Old: old, OldSize: size, New: s.SHA256(),
			NewSize: int64(len(text))}, Staged: s.Name()}}, transaction.Record{Kind: "test"})
}

func open(t *testing.T, dir string) *transaction.Folder {
	t.Helper()
	f, err := transaction.Open(t.Context(), dir, "test")
	require.NoError(t, err)
	return f
}

// Once the record is written the change has happened: a journal that can't be removed takes nothing
// back, neither of a change nor of an undo.
func TestARecordIsFinal(t *testing.T) {
	dir := table(t)
	stuck := func() (end func()) {
		return safefile.Disturb(func(s safefile.DiskWrite) error {
			if s.Op == safefile.OpRemove && strings.Contains(s.Path, "journal") {
				return errors.New("a virus scanner has it open")
			}
			return nil
		})
	}
	f := open(t, dir)
	end := stuck()
	r, err := replace(t, f, "new")
	end()
	require.NoError(t, err)
	f.Close()
	assert.Equal(t, "new", content(t, dir, "a.txt"))

	f = open(t, dir)
	assert.Empty(t, f.Recovered, "only the journal had to go")
	require.Len(t, f.Records(), 1)
	end = stuck()
	_, err = f.RollBack(t.Context(), r, transaction.Refuse)
	end()
	require.NoError(t, err)
	f.Close()
	assert.Equal(t, "original", content(t, dir, "a.txt"))
	f = open(t, dir)
	assert.True(t, len(f.Records()) == 0 || f.Records()[0].Undone)
	assert.Equal(t, "original", content(t, dir, "a.txt"), "what is left of the journal changes nothing")
	f.Close()
}

// A record whose write fails did not happen, and all is as before.
func TestARecordThatCantBeWritten(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	end := safefile.Disturb(func(s safefile.DiskWrite) error {
		if s.Op == safefile.OpWrite && strings.Contains(s.Path, "records") {
			s.Tear()
			return errors.New("no space left on device")
		}
		return nil
	})
	_, err := replace(t, f, "new")
	end()
	require.Error(t, err)
	f.Close()
	assert.Equal(t, "original", content(t, dir, "a.txt"))
	f = open(t, dir)
	assert.Empty(t, f.Records())
	_, err = replace(t, f, "newer")
	require.NoError(t, err, "a line that was cut short is in nobody's way")
	require.Len(t, f.Records(), 1)
	f.Close()
	f = open(t, dir)
	require.Len(t, f.Records(), 1)
	require.NoError(t, undone(f, &f.Records()[0], transaction.Refuse))
	f.Close()
	assert.Equal(t, "original", content(t, dir, "a.txt"))
}

// One damaged byte in the records costs no original: while a line can't be read, none is swept, and
// a later record takes no number of its.
func TestADamagedRecordCostsNoOriginal(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	for _, text := range []string{"one", "two"} {
		_, err := replace(t, f, text)
		require.NoError(t, err)
	}
	f.Close()
	var records string
	require.NoError(t,
		filepath.WalkDir(filepath.Join(dir, transaction.Dir), func(p string, e os.DirEntry, err error) error {
			if err == nil && strings.Contains(e.Name(), "record") && !e.IsDir() {
				records = p
			}
			return err
		}))
	require.NotEmpty(t, records)
	whole, err := os.ReadFile(records)
	require.NoError(t, err)
	spoilt := []byte(string(whole))
	spoilt[0] = 'x'
	require.NoError(t, os.WriteFile(records, spoilt, 0o600))
	f = open(t, dir)
	require.Len(t, f.Records(), 1)
	r, err := replace(t, f, "three")
	require.NoError(t, err)
	assert.Equal(t, 3, r.ID)
	f.Close()
	open(t, dir).Close()

	now, err := os.ReadFile(records)
	require.NoError(t, err)
	now[0] = whole[0]
	require.NoError(t, os.WriteFile(records, now, 0o600))
	f = open(t, dir)
	require.Len(t, f.Records(), 3)
	for i := 2; i >= 0; i-- {
		require.NoError(t, undone(f, &f.Records()[i], transaction.Refuse))
	}
	f.Close()
	assert.Equal(t, "original", content(t, dir, "a.txt"))
}

// A staged file that disappears before the switch, as a virus scanner takes them, is no file that was installed.
func TestAStagedFileThatDisappears(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	gone := false
	end := safefile.Disturb(func(s safefile.DiskWrite) error {
		if s.Op == safefile.OpRename && strings.Contains(s.Path, "journal") && !gone {
			gone = true
			matches, _ := filepath.Glob(filepath.Join(dir, transaction.Dir, "*", "1"))
			for _, m := range matches {
				_ = os.Remove(m)
			}
		}
		return nil
	})
	_, err := replace(t, f, "new")
	end()
	require.True(t, gone)
	assert.Error(t, err)
	assert.Equal(t, "original", content(t, dir, "a.txt"))
	assert.Empty(t, f.Records())
	f.Close()
}

// A folder whose records are removed with the last of them has one holder at a time, however many come and go.
func TestOneHolderAtATime(t *testing.T) {
	dir := table(t)
	var inside, limit, got atomic.Int32
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for deadline := time.Now().Add(time.Minute); got.Load() < 200 && time.Now().Before(deadline); {
				f, err := transaction.Open(t.Context(), dir, "test")
				if err != nil {
					continue // it is held
				}
				got.Add(1)
				if n := inside.Add(1); n > limit.Load() {
					limit.Store(n)
				}
				inside.Add(-1)
				f.Close()
			}
		})
	}
	group.Wait()
	assert.Equal(t, int32(1), limit.Load())
	assert.GreaterOrEqual(t, got.Load(), int32(200), "the folder stayed held")
}

// undone undoes a change, and says only whether it could.
func undone(f *transaction.Folder, r *transaction.Record, how transaction.ChangedPolicy) error {
	_, err := f.RollBack(context.Background(), r, how)
	return err
}

// The journal is written when the backups that it counts on are durable, and the record, which says
// that a change has happened, when the files are in their places for good.
func TestTheRecordComesLast(t *testing.T) {
	f := open(t, table(t))
	defer f.Close()
	var order []string
	end := safefile.Disturb(func(s safefile.DiskWrite) error {
		rel, _ := filepath.Rel(f.Path(), s.Path)
		order = append(order, s.Op+" "+filepath.ToSlash(rel))
		return nil
	})
	_, err := replace(t, f, "new")
	end()
	require.NoError(t, err)
	at := func(step string) int {
		i := slices.Index(order, step)
		require.GreaterOrEqual(t, i, 0, "%s in %v", step, order)
		return i
	}
	last := func(step string) int {
		for i := len(order) - 1; i >= 0; i-- {
			if order[i] == step {
				return i
			}
		}
		return -1
	}
	journal, moved, settled, recorded := at("rename "+transaction.Dir+"/journal.json"), at("rename a.txt"),
		last("sync a folder ."), at("sync "+transaction.Dir+"/records.jsonl")
	assert.Less(t, at("sync a folder "+transaction.Dir+"/kept"), journal)
	assert.Less(t, at("sync a folder ."), journal, "the folder of the journal is new")
	assert.Less(t, journal, moved)
	assert.Less(t, moved, settled)
	assert.Less(t, settled, recorded)
	assert.Less(t, recorded, at("remove "+transaction.Dir+"/journal.json"))
}

// From any step on the disk may refuse everything, or one step alone may fail: the command says
// that it failed, unless the change had happened by then, and whatever is found afterwards is the
// old or the new as a whole, which the records say truly.
func TestEveryStepCanFail(t *testing.T) {
	for _, forever := range []bool{false, true} {
		for n := 1; ; n++ {
			dir := table(t)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "b.txt"), []byte("b"), 0o600))
			f := open(t, dir)
			stage := func(text string) (string, string) {
				s, err := f.Stage()
				require.NoError(t, err)
				_, err = s.Write([]byte(text))
				require.NoError(t, err)
				require.NoError(t, s.Commit())
				return s.Name(), s.SHA256()
			}
			change := func(name, text string) transaction.Change {
				old, size, err := f.Hash(name)
				require.NoError(t, err)
				c := transaction.Change{File: transaction.File{Path: name, Old: old, OldSize: size}}
				if text != "" {
					c.Staged, c.New = stage(text)
					c.NewSize = int64(len(text))
				}
				return c
			}
			changes := []transaction.Change{change("a.txt", "new"), change("b.txt", ""), change("c.txt", "came")}
			count, hit := 0, ""
			end := safefile.Disturb(func(s safefile.DiskWrite) error {
				if s.Op == safefile.OpSyncFolder {
					return nil
				}
				if count++; count == n || forever && count > n {
					if hit == "" {
						hit = s.Op
					}
					return &os.PathError{Op: s.Op, Path: s.Path, Err: syscall.EIO}
				}
				return nil
			})
			r, err := f.Commit(t.Context(), changes, transaction.Record{Kind: "test"})
			end()
			if hit == "" {
				require.NoError(t, err)
				f.Close()
				break
			}
			f.Close()
			if err != nil { // what could not be taken back is said
				assert.Equal(t, transaction.Unfinished(dir), strings.Contains(err.Error(), "taking it back failed too"),
					"%t, %d: %s", forever, n, hit)
			}
			openedAnyhow(t, dir)
			f = open(t, dir)
			now := content(t, dir, "a.txt") + " " + content(t, dir, "b.txt") + " " + content(t, dir, "c.txt")
			assert.Contains(t, []string{"original b (gone)", "new (gone) came"}, now, "%t, %d: %s", forever, n, hit)
			recorded := len(f.Records()) == 1
			assert.Equal(t, now == "new (gone) came", recorded, "%t, %d: %s", forever, n, hit)
			if err == nil {
				assert.True(t, recorded, "%t, %d: %s", forever, n, hit)
				assert.Equal(t, 1, r.ID)
			} else {
				assert.ErrorIs(t, err, syscall.EIO, "%t, %d: %s", forever, n, hit)
				assert.Nil(t, r)
			}
			if recorded {
				undoneAnyhow(t, f)
				assert.Equal(t, "original b (gone)",
					content(t, dir, "a.txt")+" "+content(t, dir, "b.txt")+" "+content(t, dir, "c.txt"))
			}
			assert.False(t, transaction.HasRemains(dir), "%t, %d: %s", forever, n, hit)
			f.Close()
		}
	}
}

// Where two spellings are one file, a file that goes and one that comes under another spelling (of
// its name, or of its folder's) are one file whose name changes. Whatever fails, and wherever a run
// is killed, there is the old name with the old content or the new one with the new, and the way
// back leads to the old spelling.
func TestAnotherSpelling(t *testing.T) {
	for _, keeps := range []bool{true, false}[:thorough.Or(1, 2)] {
		spelt(t, peer.Folding(t, keeps))
	}
}

func spelt(t *testing.T, root string) {
	for _, names := range [][2]string{{"Rock.txt", "rock.txt"},
		{"Data/erzspi\u0061\u0308le.txt", "data/erzspi\u00e4le.txt"}} {
		for _, way := range []string{"kill", "once", "forever"} {
			for n := 1; ; n++ {
				require.Less(t, n, 200)
				require.NoError(t, os.RemoveAll(filepath.Join(root, "game")))
				dir := filepath.Join(root, "game")
				old := filepath.Join(dir, filepath.FromSlash(names[0]))
				require.NoError(t, os.MkdirAll(filepath.Dir(old), 0o700))
				require.NoError(t, os.WriteFile(old, []byte("old"), 0o600))
				f := open(t, dir)
				require.True(t, f.Folds())
				sum, size, err := f.Hash(names[0])
				require.NoError(t, err)
				stage := func(name, text string) transaction.Change {
					s, err := f.Stage()
					require.NoError(t, err)
					_, err = s.Write([]byte(text))
					require.NoError(t, err)
					require.NoError(t, s.Commit())
					return transaction.Change{File: transaction.File{Path: name, New: s.SHA256(), NewSize: s.Size()},
						Staged: s.Name()}
				}
				came := stage(names[1], "new")
				came.Old, came.OldSize = sum, size
				sand := stage("sand.txt", "sand")
				count, hit := 0, ""
				end := safefile.Disturb(func(s safefile.DiskWrite) error {
					if s.Op == safefile.OpSyncFolder {
						return nil
					}
					if count++; count != n && (way != "forever" || count < n) {
						return nil
					}
					if hit = cmp.Or(hit, s.Op); way == "kill" {
						panic("killed")
					}
					return &os.PathError{Op: s.Op, Path: s.Path, Err: syscall.EIO}
				})
				func() {
					defer func() { _ = recover() }()
					_, err = f.Commit(t.Context(),
						[]transaction.Change{came, sand,
							{File: transaction.File{Path: names[0], Old: sum, OldSize: size}}},
						transaction.Record{Kind: "test"})
				}()
				end()
				if way == "kill" {
					f.Leave()
				} else {
					f.Close()
				}
				before, after := map[string]string{names[0]: "old"},
					map[string]string{names[1]: "new", "sand.txt": "sand"}
				when := fmt.Sprintf("%s %s at %d: %s", names[1], way, n, hit)
				f = open(t, dir)
				now := all(t, dir)
				require.Contains(t, []map[string]string{before, after}, now, when)
				require.Equal(t, len(now) == 2, len(f.Records()) == 1, when)
				if len(f.Records()) == 1 {
					require.Equal(t, names[0], f.Records()[0].Files[0].Before())
					drift, err := f.Drifted(&f.Records()[0])
					require.NoError(t, err)
					require.Empty(t, drift, when)
					require.NoError(t, undone(f, &f.Records()[0], transaction.Refuse), when)
					require.Equal(t, before, all(t, dir), when)
				}
				f.Close()
				if hit == "" {
					require.NoError(t, err)
					break
				}
			}
		}
	}
}

// A change of a folder in which both spellings were one file is undone in a copy of it where they are two.
func TestAnotherSpellingElsewhere(t *testing.T) {
	dir := filepath.Join(peer.Folding(t, true), "game")
	require.NoError(t, os.Mkdir(dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "Rock.txt"), []byte("old"), 0o600))
	f := open(t, dir)
	sum, size, err := f.Hash("Rock.txt")
	require.NoError(t, err)
	s, err := f.Stage()
	require.NoError(t, err)
	_, err = s.Write([]byte("new"))
	require.NoError(t, err)
	require.NoError(t, s.Commit())
	_, err = f.Commit(t.Context(),
		[]transaction.Change{{File: transaction.File{Path: "rock.txt", Old: sum, OldSize: size, New: s.SHA256(),
			NewSize: 3}, Staged: s.Name()}}, transaction.Record{Kind: "test"})
	require.NoError(t, err)
	f.Close()
	copied := filepath.Join(t.TempDir(), "game")
	require.NoError(t, os.CopyFS(copied, os.DirFS(dir)))
	assert.Equal(t, map[string]string{"rock.txt": "new"}, all(t, copied))
	f = open(t, copied)
	defer f.Close()
	require.False(t, f.Folds())
	require.NoError(t, undone(f, &f.Records()[0], transaction.Refuse))
	assert.Equal(t, map[string]string{"Rock.txt": "old"}, all(t, copied))
	assert.True(t, f.Records()[0].Undone)
}

// all is what lies in a folder, without what is remembered of it, by slash paths as they are spelled there.
func all(t *testing.T, dir string) map[string]string {
	t.Helper()
	m := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			if err == nil && e.Name() == transaction.Dir {
				return filepath.SkipDir
			}
			return err
		}
		data, err := os.ReadFile(name)
		rel, _ := filepath.Rel(dir, name)
		m[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return m
}

// failing makes the step with a number fail, and says which one that was, once it has been reached.
func failing(n int, hit *string) (end func()) {
	count := 0
	return safefile.Disturb(func(s safefile.DiskWrite) error {
		if s.Op == safefile.OpSyncFolder {
			return nil
		}
		if count++; count == n {
			*hit = s.Op
			return &os.PathError{Op: s.Op, Path: s.Path, Err: syscall.EIO}
		}
		return nil
	})
}

// openedAnyhow opens a folder that a run left unfinished, on a disk on which one step after the
// other fails: either that is said, or nothing is left to do.
func openedAnyhow(t *testing.T, dir string) {
	t.Helper()
	for n := 1; transaction.Unfinished(dir); n++ {
		hit := ""
		end := failing(n, &hit)
		f, err := transaction.Open(t.Context(), dir, "test")
		end()
		if err != nil {
			continue
		}
		assert.False(t, transaction.Unfinished(dir), "%d: %s", n, hit)
		f.Close()
		return
	}
}

// undoneAnyhow undoes the only change of a folder, on a disk on which one step after the other
// fails: either that is said and the change stands, or it is undone.
func undoneAnyhow(t *testing.T, f *transaction.Folder) {
	t.Helper()
	for n := 1; ; n++ {
		hit := ""
		end := failing(n, &hit)
		err := undone(f, &f.Records()[0], transaction.Refuse)
		end()
		if err == nil {
			assert.True(t, f.Records()[0].Undone, "%d: %s", n, hit)
			return
		}
		require.NotEmpty(t, hit, "%v", err)
		if f.Records()[0].Undone { // it had happened: only clearing up failed
			return
		}
		if _, err := os.Stat(f.Join("a.txt")); err == nil {
			assert.Equal(t, "new", content(t, f.Path(), "a.txt"), "%d: %s", n, hit)
		}
	}
}

// What lies beside the records keeps their folder, also when there are none.
func TestWhatWasSetAsideStays(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	at, err := f.SetAside(t.Context(), "a.txt")
	require.NoError(t, err)
	f.Close()
	assert.Equal(t, "original", content(t, dir, at))
	f = open(t, dir)
	again, err := f.SetAside(t.Context(), "a.txt")
	require.NoError(t, err)
	assert.NotEqual(t, at, again)
	f.Close()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, transaction.Dir, "aside")))
	f = open(t, dir)
	f.Close()
	assert.NoDirExists(t, filepath.Join(dir, transaction.Dir), "else nothing is left")
}

// A hash that was taken before counts only for a file with the same size and time.
func TestHashesOfChangedFiles(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	defer f.Close()
	name := filepath.Join(dir, "a.txt")
	for i, text := range []string{"original", "changed!", "longer than that"} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		old := time.Now().Add(-time.Hour).Add(time.Duration(i) * time.Minute)
		require.NoError(t, os.Chtimes(name, old, old))
		for range 2 {
			sum, size, err := f.Hash("a.txt")
			require.NoError(t, err)
			want := sha256.Sum256([]byte(text))
			assert.Equal(t, hex.EncodeToString(want[:]), sum)
			assert.EqualValues(t, len(text), size)
		}
	}
	_, _, err := f.Hash(".")
	assert.ErrorContains(t, err, "a folder or a special file")
}

// killed makes a change of three files and stops before the step with a number, as a killed program
// does. It says whether there was such a step.
func killed(t *testing.T, dir string, at int) (hit bool) {
	t.Helper()
	f := open(t, dir)
	var changes []transaction.Change
	for name, text := range map[string]string{"a.txt": "new", "b.txt": "", "c.txt": "came"} {
		old, size, err := f.Hash(name)
		require.NoError(t, err)
		c := transaction.Change{File: transaction.File{Path: name, Old: old, OldSize: size}}
		if text != "" {
			s, err := f.Stage()
			require.NoError(t, err)
			_, err = s.Write([]byte(text))
			require.NoError(t, err)
			require.NoError(t, s.Commit())
			c.Staged, c.New, c.NewSize = s.Name(), s.SHA256(), s.Size()
		}
		changes = append(changes, c)
	}
	slices.SortFunc(changes, func(a, b transaction.Change) int { return strings.Compare(a.Path, b.Path) })
	count := 0
	end := safefile.Disturb(func(s safefile.DiskWrite) error {
		if count++; count == at {
			hit = true
			panic("killed")
		}
		return nil
	})
	func() {
		defer func() { _ = recover() }()
		_, err := f.Commit(t.Context(), changes, transaction.Record{Kind: "test"})
		require.NoError(t, err)
	}()
	end()
	f.Leave() // nothing is cleared up
	return hit
}

// A change that was killed once its journal is written is finished by whoever comes next; where a
// new file is gone meanwhile it is taken back, and where something is in the way that is no file,
// that is said and nothing is touched.
func TestWhatAKilledChangeLeaves(t *testing.T) {
	table := func() string {
		dir := table(t)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "b.txt"), []byte("b"), 0o600))
		return dir
	}
	state := func(dir string) string {
		return content(t, dir, "a.txt") + " " + content(t, dir, "b.txt") + " " + content(t, dir, "c.txt")
	}
	finished, back := 0, 0
	for at := 1; ; at++ {
		dir := table()
		if !killed(t, dir, at) {
			break
		}
		if !transaction.Unfinished(dir) {
			f := open(t, dir)
			assert.Empty(t, f.Recovered)
			assert.Contains(t, []string{"original b (gone)", "new (gone) came"}, state(dir))
			f.Close()
			continue
		}
		records, err := transaction.Records(dir)
		require.NoError(t, err)
		staged, err := filepath.Glob(filepath.Join(dir, transaction.Dir, "new", "*"))
		require.NoError(t, err)
		staged = slices.DeleteFunc(staged, func(name string) bool { return len(filepath.Base(name)) > 1 })
		if len(records) == 0 && len(staged) == 2 { // nothing has its place yet
			for what, spoil := range map[string]func(dir string){
				"taken back": func(dir string) {
					require.NoError(t, os.Remove(filepath.Join(dir, transaction.Dir, "new", filepath.Base(staged[1]))))
				},
				"in the way": func(dir string) {
					require.NoError(t, os.Remove(filepath.Join(dir, "a.txt")))
					require.NoError(t, os.Mkdir(filepath.Join(dir, "a.txt"), 0o700))
				},
				"no file": func(dir string) {
					name := filepath.Join(dir, transaction.Dir, "new", filepath.Base(staged[1]))
					require.NoError(t, os.Remove(name))
					require.NoError(t, os.Mkdir(name, 0o700))
				},
			} {
				dir := table()
				require.True(t, killed(t, dir, at))
				spoil(dir)
				f, err := transaction.Open(t.Context(), dir, "test")
				if what != "taken back" {
					assert.ErrorContains(t, err, "a folder or a special file", what)
					assert.True(t, transaction.Unfinished(dir), "nothing is forgotten")
					continue
				}
				require.NoError(t, err)
				assert.Equal(t, "taken back", f.Recovered)
				assert.Equal(t, "original b (gone)", state(dir))
				assert.Empty(t, f.Records())
				f.Close()
				back++
			}
		}
		f := open(t, dir)
		if len(records) == 0 {
			assert.Equal(t, "finished", f.Recovered, "%d", at)
			finished++
		} else {
			assert.Empty(t, f.Recovered, "%d: only the journal was left", at)
		}
		assert.Equal(t, "new (gone) came", state(dir), "%d", at)
		assert.Len(t, f.Records(), 1)
		assert.False(t, transaction.HasRemains(dir))
		f.Close()
	}
	assert.Greater(t, finished, 2)
	assert.NotZero(t, back)
}

// Texts that a change brings are kept as they came, for as long as it stands, so that it can be
// shown what somebody changed in them.
func TestTextsAreKept(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	bring := func(name, text string, kept bool) *transaction.Record {
		s, err := f.Stage()
		require.NoError(t, err)
		_, err = s.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, s.Commit())
		r, err := f.Commit(t.Context(),
			[]transaction.Change{{File: transaction.File{Path: name, New: s.SHA256(), NewSize: s.Size(), Text: kept},
				Staged: s.Name()}}, transaction.Record{Kind: "test"})
		require.NoError(t, err)
		return r
	}
	one, two := bring("one.txt", "first", true), bring("two.txt", "second", false)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "one.txt"), []byte("edited"), 0o600))
	f.Close()
	f = open(t, dir)
	text, ok := f.Text(one.Files[0])
	assert.True(t, ok)
	assert.Equal(t, "first", text)
	_, ok = f.Text(two.Files[0])
	assert.False(t, ok)
	require.NoError(t, undone(f, one, transaction.Leave))
	f.Close()
	f = open(t, dir)
	defer f.Close()
	_, ok = f.Text(one.Files[0])
	assert.False(t, ok, "nobody needs it any more")
}

// Records that become one are undone as one; others stay as they are, with their originals.
func TestRecordsThatBecomeOne(t *testing.T) {
	dir := table(t)
	f := open(t, dir)
	defer f.Close()
	first, err := replace(t, f, "one")
	require.NoError(t, err)
	second, err := replace(t, f, "two")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "other.txt"), []byte("other"), 0o600))
	sum, size, err := f.Hash("other.txt")
	require.NoError(t, err)
	_, err = f.Commit(t.Context(),
		[]transaction.Change{{File: transaction.File{Path: "other.txt", Old: sum, OldSize: size}}},
		transaction.Record{Kind: "other"})
	require.NoError(t, err)
	one := *second
	one.Files = []transaction.File{{Path: "a.txt", Old: first.Files[0].Old, OldSize: first.Files[0].OldSize,
		New: second.Files[0].New, NewSize: second.Files[0].NewSize}}
	require.NoError(t, f.Merge(t.Context(), []transaction.Record{*first, *second}, one))
	require.Len(t, f.Records(), 2)
	assert.Empty(t, f.Backup(first.Files[0].New), "the step between is nobody's original")
	require.NoError(t, undone(f, &f.Records()[1], transaction.Refuse))
	assert.Equal(t, "original", content(t, dir, "a.txt"))
	require.NoError(t, undone(f, &f.Records()[0], transaction.Refuse))
	assert.Equal(t, "other", content(t, dir, "other.txt"))
	require.NoError(t, f.Forget(t.Context(), func(r transaction.Record) bool { return r.Kind == "other" }))
	assert.Len(t, f.Records(), 1)
}
