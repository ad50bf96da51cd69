package transaction

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// Dir is the folder, in the one that is changed, that records, journal and originals lie in.
const Dir = "vornix-patched"

const (
	recordsFile = Dir + "/records.jsonl"
	journalFile = Dir + "/journal.json"
	stageDir    = Dir + "/new"
	keptDir     = Dir + "/kept"
	asideDir    = Dir + "/aside"
)

// File is a file that a change touches. Empty hashes mean that the file does not exist.
type File struct {
	Path string `json:"path"`
	// how the name was spelled before, where the file system takes both spellings for one file
	Was     string `json:"was,omitempty"`
	Old     string `json:"old,omitempty"` // SHA-256 before
	OldSize int64  `json:"old_size,omitempty"`
	New     string `json:"new,omitempty"` // SHA-256 after
	NewSize int64  `json:"new_size,omitempty"`
	Text    bool   `json:"text,omitempty"` // what came is kept too, to show what somebody changed in it since
}

// names are all spellings of the file.
func (f *File) names() []string {
	if f.Was == "" {
		return []string{f.Path}
	}
	return []string{f.Path, f.Was}
}

// Before is the path that the file had before the change.
func (f *File) Before() string { return cmp.Or(f.Was, f.Path) }

// Record is a change that was made.
type Record struct {
	ID     int       `json:"id"` // from 1
	Time   time.Time `json:"time"`
	Kind   string    `json:"kind"`           // what made it: patch, overlay, install
	Name   string    `json:"name,omitempty"` // of an installation: the package
	Title  string    `json:"title"`
	From   string    `json:"from,omitempty"` // versions
	To     string    `json:"to,omitempty"`
	Source []string  `json:"source,omitempty"` // SHA-256 of the patch files, in their order
	Signer string    `json:"signer,omitempty"` // public key that signed every file
	Notes  []string  `json:"notes,omitempty"`  // what else is worth knowing
	Files  []File    `json:"files"`
	Of     int       `json:"of,omitempty"` // the change that this is the rest of, after an undo that left changed files
	Undone bool      `json:"undone"`
}

// entry is a line of the records: a record, or that one was undone.
type entry struct {
	Record
	Undo int `json:"undo,omitempty"`
}

// move is a file on its way.
type move struct {
	File
	Staged string `json:"staged,omitempty"` // slash path in the folder; empty when the file goes
}

type journal struct {
	Moves []move `json:"moves"`
	Entry entry  `json:"entry"`
}

// Folder is a folder that is changed.
type Folder struct {
	ctx     context.Context // of the command that holds it
	d       *safefile.Dir
	lock    *safefile.Lock
	records []Record
	staged  int
	hashed  map[string]hashed
	// lines is how many lines the records have, and damaged says that one of them can't be read. No
	// original is swept then: the line may need it.
	lines   int
	damaged bool
	folds   bool                         // names that differ only in their spelling name one file
	spelled map[string]map[string]string // names in folders as they are spelled, by what they fold to
	// Recovered says what became of a change that a killed run left: finished, or taken back; empty
	// when there was none.
	Recovered string
}

// Open takes hold of a folder for a command, and brings to an end what a killed run left.
func Open(ctx context.Context, dir, command string) (*Folder, error) {
	lock, err := safefile.Acquire(filepath.Join(dir, Dir), command)
	if err != nil {
		return nil, err
	}
	d, err := safefile.OpenDir(dir)
	if err != nil {
		lock.Release()
		return nil, err
	}
	// From here on everything happens in the folder that is open, whatever its path names by then.
	// The lock has to be one in this folder.
	if err := lock.In(d, Dir); err != nil {
		lock.Release()
		d.Close()
		return nil, err
	}
	f := &Folder{ctx: ctx, d: d, lock: lock, hashed: map[string]hashed{}}
	f.findFolds()
	if err = f.load(); err == nil {
		err = f.recover(ctx)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Close lets go of the folder. A record of nothing does not stay behind: it is removed while the
// lock is held, since the next holder would work in a folder that disappears under it. (Windows
// keeps a locked file; the empty record stays there.)
func (f *Folder) Close() {
	_ = f.d.RemoveTree(stageDir) // it is made anew
	if len(f.records) == 0 && !f.damaged && f.onlyLock() {
		_ = f.d.RemoveTree(Dir)
	}
	f.lock.Release()
	_ = f.d.Close() // it was only a handle
}

// onlyLock says whether the folder of records holds nothing but the files of the lock.
func (f *Folder) onlyLock() bool {
	list, err := fs.ReadDir(f.d.FS(), Dir)
	return err == nil &&
		!slices.ContainsFunc(list, func(e fs.DirEntry) bool { return e.Name() != "lock" && e.Name() != "lock.json" })
}

// load reads the records.
func (f *Folder) load() (err error) {
	f.records, f.lines, f.damaged, err = readLines(f.d.Path())
	return err
}

// IsStill says whether this is the folder that was looked at before, and not another one that has its path by now.
func (f *Folder) IsStill(looked fs.FileInfo) error {
	now, err := f.d.Info()
	if err == nil && os.SameFile(now, looked) {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused, What: "the folder was exchanged for another one meanwhile",
		Place: fault.Place{File: filepath.ToSlash(f.d.Path())}, Err: err,
		Why: "What was planned was planned for the other one. Nothing was changed.", Do: "Run the same command again."}
}

// Path is the folder's system path, Join that of a file in it.
func (f *Folder) Path() string { return f.d.Path() }

// Join is the system path of a slash path in the folder.
func (f *Folder) Join(rel string) string { return f.d.Join(rel) }

// Records are the changes that were made, the oldest first.
func (f *Folder) Records() []Record { return f.records }

// Records reads the changes of a folder without taking hold of it; none when nothing was ever changed.
func Records(dir string) ([]Record, error) { return readRecords(dir) }

// Unfinished says whether a killed run left something in a folder that Open will bring to an end.
func Unfinished(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, filepath.FromSlash(journalFile)))
	return err == nil
}

// HasRemains says whether a killed run left anything in a folder: a journal, or what waited beside.
func HasRemains(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, filepath.FromSlash(stageDir)))
	return err == nil || Unfinished(dir)
}

func readRecords(dir string) ([]Record, error) {
	list, _, _, err := readLines(dir)
	return list, err
}

// readLines reads the records, a line each. A crash can cut a line short: it is the last one then,
// or the beginning of the next, which the run that mended it wrote. Any other line that can't be
// read is damaged.
func readLines(dir string) (list []Record, count int, damaged bool, err error) {
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(recordsFile)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, false, nil
	}
	if err != nil {
		return nil, 0, false, err
	}
	lines := bytes.Split(data, []byte("\n"))
	for i, line := range lines {
		if len(bytes.TrimSpace(line)) == 0 {
			continue
		}
		count++
		var e entry
		if json.Unmarshal(line, &e) != nil {
			last := i == len(lines)-1
			damaged = damaged || !last && !bytes.HasPrefix(lines[i+1], line)
			continue
		}
		if e.Undo > 0 {
			for i := range list {
				if list[i].ID == e.Undo {
					list[i].Undone = true
				}
			}
			continue
		}
		for _, file := range e.Files {
			for _, name := range file.names() {
				if err := safefile.CheckForeign(name); err != nil {
					return nil, count, damaged, err
				}
			}
		}
		if e.ID > 0 && !slices.ContainsFunc(list, func(r Record) bool { return r.ID == e.ID }) {
			list = append(list, e.Record)
		}
	}
	return list, count, damaged, nil
}

// Hash is the SHA-256 and the size of a file in the folder; empty when it is not there.
func (f *Folder) Hash(rel string) (sum string, size int64, err error) {
	info, err := f.d.Stat(rel)
	if errors.Is(err, fs.ErrNotExist) {
		return "", 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	if !info.Mode().IsRegular() {
		return "", 0, &fault.Fault{Kind: fault.Refused, What: "a folder or a special file has the name of this file",
			Place: fault.Place{File: filepath.ToSlash(f.d.Join(rel))}, Why: "Nothing was changed.", Do: "Move it away."}
	}
	if h, ok := f.hashed[rel]; ok && h.size == info.Size() && h.written.Equal(info.ModTime()) &&
		time.Since(h.written) > hashedAge {
		return h.sum, h.size, nil
	}
	sum, size, err = safefile.HashFileUntil(f.ctx, f.d.Join(rel))
	if err == nil {
		f.hashed[rel] = hashed{sum, size, info.ModTime()}
	}
	return sum, size, err
}

// hashed is what a file was when it was hashed, so that a large one is not hashed again and again within one command.
type hashed struct {
	sum     string
	size    int64
	written time.Time
}

// hashedAge is how old a file's time must be to tell that it did not change since: some systems count in seconds.
const hashedAge = 2 * time.Second

// Staged is a file that waits beside to take its place.
type Staged struct {
	*safefile.File
	name string
}

// Name is its slash path in the folder.
func (s *Staged) Name() string { return s.name }

// Stage begins a file beside. It must be committed before it is given to Commit.
func (f *Folder) Stage() (*Staged, error) {
	f.staged++
	name := path.Join(stageDir, strconv.Itoa(f.staged))
	file, err := f.d.Create(name)
	if err != nil {
		return nil, err
	}
	return &Staged{file, name}, nil
}

// Change is what Commit does with a file: the content staged under a name takes its place, or none does.
type Change struct {
	File
	Staged string    // "" takes the file away
	Seen   time.Time // when the old content was written, as it was when it was hashed; zero: unknown
}

// Commit makes changes at once, and records them. What is replaced is kept. When it fails, everything is as before.
func (f *Folder) Commit(ctx context.Context, changes []Change, r Record) (*Record, error) {
	var moves []move
	changes = f.joined(changes)
	for _, c := range changes {
		if err := safefile.CheckForeign(c.Path); err != nil {
			return nil, err
		}
		if err := errors.Join(f.backUp(ctx, c), f.backUpText(ctx, c)); err != nil {
			return nil, err
		}
		moves = append(moves, move{c.File, c.Staged})
		r.Files = append(r.Files, c.File)
	}
	// Backups are links, which are durable when their folder is, and that when the folder of the
	// records is known to the one that is changed. The journal counts on both.
	f.d.SyncFolder(keptDir)
	f.d.SyncFolder(".")
	for _, c := range changes { // it took a while; somebody may have used it
		if err := f.unchanged(c); err != nil {
			return nil, err
		}
	}
	r.ID = f.next()
	r.Time = time.Now().UTC().Truncate(time.Second)
	if err := f.apply(ctx, &journal{moves, entry{Record: r}}); err != nil {
		return nil, err
	}
	f.records = append(f.records, r)
	f.lines++
	return &r, nil
}

// backUp puts a file that will be replaced among the originals.
func (f *Folder) backUp(ctx context.Context, c Change) error {
	if c.Old == "" {
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	kept := path.Join(keptDir, c.Old)
	if sum, _, err := f.Hash(kept); err == nil && sum == c.Old {
		return nil // once is enough
	}
	// A link is made at once and takes no room. The file itself is replaced, not written over, so
	// the link keeps what it had.
	return f.d.LinkFrom(ctx, c.Path, kept)
}

// backUpText puts a text that comes among the originals: a copy, since people write texts over in place.
func (f *Folder) backUpText(ctx context.Context, c Change) error {
	if !c.Text || c.Staged == "" {
		return nil
	}
	_, _, err := f.d.CopyFrom(ctx, f.d.Join(c.Staged), path.Join(keptDir, c.New))
	return err
}

// Text is the text that a change left in a file, where that was kept.
func (f *Folder) Text(file File) (string, bool) {
	data, err := f.d.ReadFile(path.Join(keptDir, file.New))
	return string(data), file.Text && err == nil
}

// unchanged makes sure that a file is as it was when it was looked at.
func (f *Folder) unchanged(c Change) error {
	info, err := f.d.Stat(c.Path)
	gone := errors.Is(err, fs.ErrNotExist)
	if err != nil && !gone {
		return err
	}
	if gone == (c.Old == "") &&
		(gone || info.Size() == c.OldSize && (c.Seen.IsZero() || info.ModTime().Equal(c.Seen))) {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused, What: "the file changed while this was prepared",
		Place: fault.Place{File: filepath.ToSlash(f.d.Join(c.Path))}, Why: "Nothing was changed.",
		Do: "Close the game, or whatever else writes there, and do it again."}
}

// apply does what a journal says, and takes it back when that fails.
func (f *Folder) apply(ctx context.Context, j *journal) error {
	f.spelled = nil
	if err := ctx.Err(); err != nil {
		return err
	}
	data, err := json.Marshal(j)
	if err != nil {
		return err
	}
	if err := f.d.WriteFile(journalFile, data); err != nil {
		return err
	}
	// From here on it is brought to an end, also when somebody presses Ctrl-C: that takes no time.
	f.ctx = context.WithoutCancel(ctx)
	recorded, err := f.rollForward(j, false)
	if recorded {
		return nil // whatever is left of the journal goes when the folder is opened next
	}
	if err != nil {
		if back := f.rollBackJournal(j); back != nil {
			return fmt.Errorf("%w; taking it back failed too, and is tried again by the next command on this folder: %w", err, back)
		}
		return err
	}
	return nil
}

// rollForward puts everything in its place: what comes before what goes, so that at no time both are
// missing. resumed says that a killed run has begun: only then may a staged file be gone because it
// has its place already. recorded says that the change is in the records, from where on there is no
// way back: a reader of the records counts on it.
func (f *Folder) rollForward(j *journal, resumed bool) (recorded bool, err error) {
	for _, m := range j.Moves {
		if m.Staged == "" {
			continue
		}
		_, err := f.d.Stat(m.Staged)
		if there := !resumed || !errors.Is(err, fs.ErrNotExist); there {
			err = f.d.Move(m.Staged, m.Path)
		} else {
			err = nil
		}
		if err == nil {
			err = f.respell(m.Was, m.Path)
		}
		if err != nil {
			return false, err
		}
	}
	for _, m := range j.Moves {
		if m.Staged != "" {
			continue
		}
		if err := f.d.Remove(m.Path); err != nil {
			return false, err
		}
	}
	f.syncFolders(j)
	return f.finish(j)
}

// syncFolders makes durable where the files of a journal are, before anything is written that counts on it.
func (f *Folder) syncFolders(j *journal) {
	done := map[string]bool{}
	for _, m := range j.Moves {
		if folder := path.Dir(m.Path); !done[folder] {
			done[folder] = true
			f.d.SyncFolder(folder)
		}
	}
}

// finish writes the record, which is the moment at which a change has happened, and then removes the journal.
func (f *Folder) finish(j *journal) (recorded bool, err error) {
	line, err := json.Marshal(j.Entry)
	if err != nil {
		return false, err
	}
	if j.Entry.Undo > 0 {
		line, err = json.Marshal(struct {
			Undo int       `json:"undo"`
			Time time.Time `json:"time"`
		}{j.Entry.Undo, j.Entry.Time})
		if err != nil {
			return false, err
		}
	}
	if err := f.d.Append(recordsFile, line); err != nil {
		// It may have been written before the disk said no.
		if list, readErr := readRecords(f.d.Path()); readErr != nil || !has(list, j.Entry) {
			return false, err
		}
	}
	return true, f.d.Remove(journalFile)
}

// has says whether records have an entry.
func has(list []Record, e entry) bool {
	return e.ID > 0 && slices.ContainsFunc(list, func(r Record) bool { return r.ID == e.ID }) ||
		e.Undo > 0 && slices.ContainsFunc(list, func(r Record) bool { return r.ID == e.Undo && r.Undone })
}

// rollBackJournal brings everything back that rollForward has moved.
func (f *Folder) rollBackJournal(j *journal) error {
	for _, m := range j.Moves {
		sum, _, err := f.Hash(m.Path)
		if err != nil {
			return err
		}
		switch {
		case sum == m.Old:
		case sum != m.New && sum != "":
			// Somebody else's: it stays.
		case m.Old == "":
			if err := f.d.Remove(m.Path); err != nil {
				return err
			}
		default:
			if err := f.d.LinkFrom(context.Background(), path.Join(keptDir, m.Old), m.Path); err != nil {
				return err
			}
		}
		if m.Was != "" {
			if err := f.respell(m.Path, m.Was); err != nil {
				return err
			}
		}
	}
	f.syncFolders(j)
	return f.d.Remove(journalFile)
}

// recover brings a journal to its end that a killed run left.
func (f *Folder) recover(ctx context.Context) error {
	data, err := f.d.ReadFile(journalFile)
	if errors.Is(err, fs.ErrNotExist) {
		return f.collectGarbage(ctx)
	}
	var j journal
	if err == nil {
		err = json.Unmarshal(data, &j)
	}
	if err != nil {
		return &fault.Fault{Kind: fault.Refused, What: "the journal of a change that was cut off can't be read",
			Place: fault.Place{File: filepath.ToSlash(f.d.Join(journalFile))}, Err: err,
			Why: "Without it nobody knows what is missing; the originals are in " + keptDir + ".",
			Do:  "Bring them back by hand, and remove the journal."}
	}
	all := true
	for _, m := range j.Moves {
		for _, name := range m.names() {
			if err := errors.Join(safefile.CheckForeign(name), ctx.Err()); err != nil {
				return err
			}
		}
		sum, _, err := f.Hash(m.Path)
		if err != nil {
			return err
		}
		if sum == m.New {
			continue
		}
		waiting := ""
		if m.Staged != "" {
			if err := safefile.CheckPath(m.Staged); err != nil {
				return err
			}
			if waiting, _, err = f.Hash(m.Staged); err != nil {
				return err
			}
		}
		all = all && sum == m.Old && waiting == m.New
	}
	switch {
	case has(f.records, j.Entry): // all had its place; only the journal had to go, whatever somebody did since
		err = f.d.Remove(journalFile)
	case all:
		f.Recovered = "finished"
		if _, err = f.rollForward(&j, true); err == nil {
			err = f.load()
		}
	default:
		f.Recovered = "taken back"
		err = f.rollBackJournal(&j)
	}
	if err != nil {
		return err
	}
	return f.collectGarbage(ctx)
}

// collectGarbage removes what was staged and never used, and originals that no change needs any more.
func (f *Folder) collectGarbage(ctx context.Context) error {
	if err := f.d.RemoveTree(stageDir); err != nil {
		return err
	}
	if f.damaged {
		return nil // the line that can't be read may need any of the originals
	}
	needed := map[string]bool{}
	for _, r := range f.records {
		for _, file := range r.Files {
			needed[file.Old] = needed[file.Old] || !r.Undone
			needed[file.New] = needed[file.New] || file.Text && !r.Undone
		}
	}
	list, err := fs.ReadDir(f.d.FS(), keptDir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !needed[e.Name()] {
			if err := f.d.Remove(path.Join(keptDir, e.Name())); err != nil {
				return err
			}
		}
	}
	return err
}

// Drift is a file that is not as a change left it.
type Drift struct {
	File
	Now     string    `json:"now,omitempty"` // SHA-256; empty: it is gone
	NowSize int64     `json:"now_size"`
	Written time.Time `json:"written,omitzero"`
	By      int       `json:"by,omitempty"` // the later change that made it so; 0: somebody else
}

// Drifted lists the files of a change that are not as it left them.
func (f *Folder) Drifted(r *Record) (list []Drift, err error) {
	for _, file := range r.Files {
		sum, size, err := f.Hash(file.Path)
		if err != nil {
			return nil, err
		}
		if sum == file.New {
			continue
		}
		d := Drift{File: file, Now: sum, NowSize: size}
		if info, err := f.d.Stat(file.Path); err == nil {
			d.Written = info.ModTime()
		}
		for _, later := range f.records {
			if later.ID > r.ID && !later.Undone &&
				slices.ContainsFunc(later.Files, func(l File) bool { return l.Path == file.Path && l.New == sum }) {
				d.By = later.ID
			}
		}
		list = append(list, d)
	}
	return list, nil
}

// ChangedPolicy says what becomes of files that somebody changed since, when a change is undone.
type ChangedPolicy int

// The ways. A changed file that replaced no original stays with Leave and Aside.
const (
	Refuse ChangedPolicy = iota // nothing is undone
	Leave                       // they stay, and their originals are kept: the change can be undone for them later
	Aside                       // they are moved to asideDir, and their originals return
)

// RollBack restores the files from before a change. A removed file does not count as changed: its
// original returns. aside lists where changed files were moved, as slash paths in the folder.
func (f *Folder) RollBack(ctx context.Context, r *Record, how ChangedPolicy) (aside []string, err error) {
	files := *r
	files.Files = f.apart(r.Files)
	r = &files
	drift, err := f.Drifted(r)
	if err != nil {
		return nil, err
	}
	changed := slices.DeleteFunc(slices.Clone(drift), func(d Drift) bool { return d.Now == "" })
	if len(changed) > 0 && how == Refuse {
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("%d of %d files changed since", len(changed), len(r.Files)),
			Place: fault.Place{File: filepath.ToSlash(f.d.Join(changed[0].Path))},
			Why:   "To bring back what was there before would lose that. Nothing was changed.",
			Do:    "Undo what came later first, or leave those files as they are: --leave-changed"}
	}
	j := &journal{Entry: entry{Record: Record{Time: time.Now().UTC().Truncate(time.Second)}, Undo: r.ID}}
	var left []File
	for _, file := range r.Files {
		m := move{File: File{Path: file.Before(), Old: file.New, OldSize: file.NewSize, New: file.Old,
			NewSize: file.OldSize}}
		if file.Was != "" {
			m.Was = file.Path
		}
		if i := slices.IndexFunc(drift, func(d Drift) bool { return d.Path == file.Path }); i >= 0 {
			d := drift[i]
			switch {
			case d.Now == "" && file.Old == "":
				continue
			case d.Now == "":
			case how == Aside && file.Old != "":
				at, err := f.SetAside(ctx, file.Path)
				if err != nil {
					return aside, err
				}
				aside = append(aside, at)
			default:
				if file.Old != "" {
					left = append(left, file)
				}
				continue
			}
			m.Old, m.OldSize = d.Now, d.NowSize
		}
		if file.Old != "" {
			s, err := f.copyBackup(ctx, file)
			if err != nil {
				return aside, err
			}
			m.Staged = s
		}
		// What goes now is kept until it is over, so that a failure half way can be taken back.
		if err := f.backUp(ctx, Change{File: m.File}); err != nil {
			return aside, err
		}
		j.Moves = append(j.Moves, m)
	}
	if len(left) > 0 { // before the rest is undone, so that their originals are needed at every moment
		rest := *r
		rest.ID, rest.Of, rest.Time, rest.Files = f.next(), r.ID, j.Entry.Time, left
		rest.Notes = []string{fmt.Sprintf("left of change %d: these files were changed since", r.ID)}
		// otherwise a failed undo has written it
		if !slices.ContainsFunc(f.records, func(o Record) bool { return o.Of == r.ID && !o.Undone }) {
			if err := f.add(rest); err != nil {
				return aside, err
			}
		}
	}
	if err := f.apply(ctx, j); err != nil {
		return aside, err
	}
	for i := range f.records {
		if f.records[i].ID == r.ID {
			f.records[i].Undone = true
		}
	}
	return aside, f.collectGarbage(ctx)
}

// next is the number of the next change: past a line that can't be read, too.
func (f *Folder) next() int {
	id := f.lines + 1
	for _, other := range f.records {
		id = max(id, other.ID+1)
	}
	return id
}

// add adds a record of what is so already.
func (f *Folder) add(r Record) error {
	line, err := json.Marshal(entry{Record: r})
	if err != nil {
		return err
	}
	if err := f.d.Append(recordsFile, line); err != nil {
		return err
	}
	f.records = append(f.records, r)
	f.lines++
	return nil
}

// SetAside puts a copy of a file into the folder for those that somebody changed, and says where.
// Vornix never removes it.
func (f *Folder) SetAside(ctx context.Context, rel string) (string, error) {
	for n := 1; ; n++ {
		at := path.Join(asideDir, strconv.Itoa(n), rel)
		if _, err := f.d.Stat(at); errors.Is(err, fs.ErrNotExist) {
			_, _, err := f.d.CopyFrom(ctx, f.d.Join(rel), at)
			return at, err
		}
	}
}

// StageBackup copies the original of a file beside, so that Commit can put it in place. It gives the staged name.
func (f *Folder) StageBackup(ctx context.Context, file File) (staged string, err error) {
	return f.copyBackup(ctx, file)
}

// copyBackup copies an original beside, and checks it.
func (f *Folder) copyBackup(ctx context.Context, file File) (string, error) {
	kept := path.Join(keptDir, file.Old)
	s, err := f.Stage()
	if err != nil {
		return "", err
	}
	defer s.Abort()
	if err := s.Fill(ctx, f.d.Join(kept)); err != nil || s.SHA256() != file.Old {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", &fault.Fault{Kind: fault.Refused, What: "the original of " + file.Path + " is gone or damaged",
			Place: fault.Place{File: filepath.ToSlash(f.d.Join(kept))}, Err: err,
			Why: "It is not brought back, and nothing was changed.", Do: "Get the file from the game itself."}
	}
	if info, err := f.d.Stat(kept); err == nil {
		s.Like(info)
	}
	return s.name, s.Commit()
}

// Forget drops the records of changes that nobody goes back before any more, and the originals that
// only they needed. Changes that came later and touch the same files stay as they are.
func (f *Folder) Forget(ctx context.Context, which func(Record) bool) error {
	return f.rewrite(ctx, which, nil)
}

// Merge replaces several records by one, for a change that was made in steps and is undone as a whole.
func (f *Folder) Merge(ctx context.Context, of []Record, r Record) error {
	r.ID = f.next()
	return f.rewrite(ctx, func(o Record) bool {
		return slices.ContainsFunc(of, func(m Record) bool { return m.ID == o.ID })
	}, &r)
}

// rewrite replaces the records, without some and with one more at the end.
func (f *Folder) rewrite(ctx context.Context, without func(Record) bool, more *Record) error {
	if f.damaged { // the line that can't be read would be lost, and with it the originals that it needs
		if more == nil {
			return nil
		}
		return &fault.Fault{Kind: fault.Refused, What: "a record of an earlier change is damaged",
			Place: fault.Place{File: filepath.ToSlash(f.d.Join(recordsFile))},
			Why:   "Its originals would be lost. Nothing was changed.",
			Do:    "Undo the changes there by hand, with the originals in " + keptDir + "."}
	}
	keep := slices.DeleteFunc(slices.Clone(f.records), without)
	if len(keep) == len(f.records) && more == nil {
		return nil
	}
	if more != nil {
		keep = append(keep, *more)
	}
	var b bytes.Buffer
	for _, r := range keep {
		undone := r.Undone
		r.Undone = false
		line, err := json.Marshal(entry{Record: r})
		if err != nil {
			return err
		}
		b.Write(append(line, '\n'))
		if undone {
			fmt.Fprintf(&b, "{\"undo\":%d}\n", r.ID)
		}
	}
	var err error
	if len(keep) == 0 && !f.damaged {
		err = f.d.RemoveFile(recordsFile)
	} else {
		err = f.d.WriteFile(recordsFile, b.Bytes())
	}
	if err != nil {
		return err
	}
	f.records = keep
	return f.collectGarbage(ctx)
}

// Backup is the system path of an original with a hash; empty when there is none.
func (f *Folder) Backup(sum string) string {
	name := path.Join(keptDir, sum)
	if info, err := f.d.Stat(name); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	return f.d.Join(name)
}

// Context is that of the command that holds the folder.
func (f *Folder) Context() context.Context { return f.ctx }
