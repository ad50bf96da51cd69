package fetch

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/transaction"
	"vornix/core/pack/patch"
	"vornix/core/ship/index"
)

// kind is how changes of this package are called among the records of a folder.
const kind = "fetch"

// Options for Run.
type Options struct {
	URL     string   // of the index; "" for what is remembered of the folder
	Project string   // of several that a folder has, the one meant; "" for the only one
	Only    []string // patterns on names of bundles and maps; none: as before, or all
	Trust   []string // public keys of which one must have signed; none: those that are remembered
	Mirror  bool     // also patches, the game's forms and the index itself, so that the folder can be served
	Beside  bool     // files lie beside the index, whatever base it says
	Offline bool     // ask nobody
	Verify  bool     // read all files again, whatever is remembered of them
	Again   bool     // install also what somebody went back from
	Older   bool     // take an index with a lower number than the last
	Plan    bool     // change nothing
	AtOnce  int      // downloads at the same time (default 4)
	Workers int
	Now     time.Time
	Remote  download.Options
	// Advanced is told how many of all bytes to download have come.
	Advanced func(done, total int64)
}

// Result is what Run did, or would do.
type Result struct {
	Project string       `json:"project"`
	Title   string       `json:"title"`
	From    string       `json:"from,omitempty"` // version that was there
	To      string       `json:"to"`             // version that is there now
	Serial  int64        `json:"serial"`
	Signers []string     `json:"signers"`
	Pinned  []string     `json:"pinned,omitempty"` // keys that are remembered from now on
	Actions []FileChange `json:"actions"`
	Changed bool         `json:"changed"`
	Bytes   int64        `json:"bytes"` // that were downloaded, without the index
	Full    int64        `json:"full"`  // bytes of all files
	Offline bool         `json:"offline"`
	Held    bool         `json:"held"`          // somebody went back from this version, so it is not installed again
	Why     string       `json:"why,omitempty"` // nobody could be asked
	News    []string     `json:"news,omitempty"`
	Retract string       `json:"retracted,omitempty"` // why the version that was there was taken back
	Mended  string       `json:"mended,omitempty"`    // what became of a run that was killed
	Expires *time.Time   `json:"expires,omitempty"`
}

// run is one Run.
type run struct {
	o      Options
	f      *transaction.Folder
	d      *safefile.Dir
	s      *state
	others []*state
	src    *download.Source
	x      *index.Index
	raw    []byte
	stamp  download.Stamp
	result *Result

	bytes, total atomic.Int64
	mutex        sync.Mutex
	notes        map[string]string // of a file, to its action
}

// Run brings a folder up to date.
func Run(ctx context.Context, dir string, o Options) (*Result, error) {
	if o.Now.IsZero() {
		o.Now = time.Now()
	}
	if o.AtOnce <= 0 {
		o.AtOnce = 4
	}
	if o.Plan && transaction.Unfinished(dir) {
		return nil, &fault.Fault{Kind: fault.Refused, What: "a change was cut off here and is not at its end",
			Place: fault.Place{File: filepath.ToSlash(dir)},
			Why:   "Until then nobody can say what would come of another.",
			Do:    "Run the same command without --plan: it brings that to its end first."}
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	f, err := transaction.Open(ctx, dir, "vornix fetch")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r := &run{o: o, f: f, d: d, result: &Result{Mended: f.Recovered, Signers: []string{}, Actions: []FileChange{}},
		notes: map[string]string{}}
	states, err := known(dir)
	if err != nil {
		return nil, err
	}
	if err := r.find(states); err != nil {
		return nil, err
	}
	defer func() {
		if r.src != nil {
			r.src.Close()
		}
	}()
	if err := r.look(ctx, states); err != nil {
		return nil, err
	}
	return r.result, r.install(ctx)
}

// find chooses what of a folder is meant.
func (r *run) find(states []*state) error {
	if r.o.URL == "" {
		var names []string
		for _, s := range states {
			names = append(names, s.Project)
			if r.o.Project == s.Project || r.o.Project == "" && len(states) == 1 {
				r.s = s
			}
		}
		switch {
		case r.s != nil:
		case len(states) == 0:
			return &fault.Fault{Kind: fault.Usage, What: "nothing was fetched to this folder yet",
				Place: fault.Place{File: filepath.ToSlash(r.f.Path())},
				Do:    "Name the address of the index too: vornix fetch URL DIR"}
		default:
			return &fault.Fault{Kind: fault.Usage, What: "this folder has several: " + strings.Join(names, ", "),
				Place: fault.Place{File: filepath.ToSlash(r.f.Path())},
				Do:    "Name the address of the one that is meant: vornix fetch URL DIR"}
		}
		r.o.URL = r.s.URL
	}
	if r.o.Offline && download.IsWeb(r.o.URL) {
		return nil
	}
	var err error
	r.src, err = download.Open(r.o.URL, index.FileName, r.o.Remote)
	if err != nil && r.s != nil {
		r.result.Why = err.Error()
		return nil
	}
	return err
}

// look gets the index and decides whether it counts.
func (r *run) look(ctx context.Context, states []*state) error {
	if r.s == nil {
		for _, s := range states {
			if r.src != nil && s.URL == r.src.Plain() || s.URL == r.o.URL {
				r.s = s
			}
		}
	}
	if r.src != nil {
		stamp := download.Stamp{}
		var last *index.Index
		var lastRaw []byte
		if r.s != nil {
			if x, raw, err := r.s.index(r.d); err == nil {
				last, lastRaw, stamp = x, raw, r.s.Stamp
			}
		}
		patience := 0
		if last != nil { // there is something to go on with: nobody should wait long for a server that is gone
			patience = r.src.Patience(1)
		}
		raw, now, err := r.src.Index(ctx, index.FileName, index.Limit, stamp)
		if last != nil {
			r.src.Patience(patience)
		}
		switch {
		case err == nil && last != nil && (raw == nil || hashOf(raw) == r.s.SHA256):
			r.x, r.raw, r.stamp = last, lastRaw, now
			if raw == nil {
				r.stamp = stamp
			}
		case err == nil:
			x, err := index.Read(raw)
			if err != nil {
				return index.Bad(r.src.String(), err)
			}
			r.x, r.raw, r.stamp = x, raw, now
		case ctx.Err() != nil:
			return ctx.Err()
		case r.s == nil || last == nil || fault.KindOf(err) == fault.Refused:
			return err
		default:
			r.result.Why = err.Error()
		}
	}
	if r.x == nil {
		return r.alone()
	}
	if !projectForm().MatchString(r.x.Project) {
		return index.Bad(r.src.String(), fmt.Errorf("its project is called %q", r.x.Project))
	}
	// Whoever holds the address can't shake off the keys of one project by serving another.
	if r.s != nil && r.s.Project != r.x.Project && len(r.o.Trust) == 0 {
		return &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the index is of %s, and what came from there before was %s", r.x.Project, r.s.Project),
			Place: fault.Place{File: r.src.String()}, Why: "Somebody else may have made it. Nothing was changed.",
			Do: "If its authors say that they moved there, name their key: --trust KEY"}
	}
	r.s = nil
	for _, s := range states {
		if s.Project == r.x.Project {
			r.s = s
		} else {
			r.others = append(r.others, s)
		}
	}
	if r.s == nil {
		r.s = &state{Project: r.x.Project}
	}
	if r.s.Files == nil {
		r.s.Files = map[string]file{}
	}
	if r.s.Owned == nil {
		r.s.Owned = map[string][]string{}
	}
	return r.counts()
}

// alone goes on with what is remembered, when nobody can be asked.
func (r *run) alone() error {
	if r.s == nil {
		return &fault.Fault{Kind: fault.Unreachable,
			What:  "nobody may be asked, and nothing is remembered of that address here",
			Place: fault.Place{File: r.o.URL}, Do: "Leave --offline out."}
	}
	x, raw, err := r.s.index(r.d)
	if err != nil {
		return &fault.Fault{Kind: fault.Unreachable,
			What:  "nobody can be asked, and the index that was here is gone or damaged",
			Place: fault.Place{File: r.o.URL}, Err: err, Do: "Try again with the network."}
	}
	r.x, r.raw, r.stamp = x, raw, r.s.Stamp
	r.result.Offline = true
	if r.src != nil {
		r.src.Close()
		r.src = nil
	}
	r.said()
	return nil
}

// said fills in what the index says.
func (r *run) said() {
	r.result.Project, r.result.Title, r.result.From, r.result.To, r.result.Serial = r.x.Project, r.x.Title, r.s.Version,
		r.x.Version(), r.x.Serial
	r.result.Signers = append([]string{}, r.x.Signers()...)
	if at, err := time.Parse(time.RFC3339, r.x.Expires); err == nil {
		r.result.Expires = &at
	}
	for _, t := range r.x.Retracted {
		if t.Version == r.s.Version {
			r.result.Retract = t.Reason
		}
	}
	seen := map[string]bool{}
	for _, b := range r.x.Bundles {
		newer := r.s.Version == "" || semver.Compare(b.Version, r.s.Version) > 0
		if b.Notes != "" && !seen[b.Notes] && newer {
			seen[b.Notes] = true
			r.result.News = append(r.result.News, b.Notes)
		}
	}
}

// counts decides whether an index is one to follow: signed by whom it must be, not older than what
// was seen, not expired.
func (r *run) counts() error {
	place := fault.Place{File: r.src.String()}
	keys := r.o.Trust
	if len(keys) == 0 {
		keys = r.s.Keys
	}
	if len(keys) > 0 {
		if err := r.x.Trusted(keys); err != nil {
			f := &fault.Fault{Kind: fault.Refused, What: "the index is not signed by whom it must be", Place: place,
				Err: err, Why: "Somebody else may have made it. Nothing was changed.",
				Do: "If its authors say that their key is another one now, name that: --trust KEY"}
			var inner *fault.Fault
			if errors.As(err, &inner) {
				f.Err = errors.New(inner.What)
			}
			return f
		}
	}
	if r.x.Expired(r.o.Now) {
		return &fault.Fault{Kind: fault.Refused, What: "the index is too old: it was good until " + r.x.Expires,
			Place: place, Why: "Somebody may be holding a newer one back. What is here stays as it is.",
			Do: "Try again later, check this machine's clock, or ask its authors: 'vornix index sign' makes it good for longer."}
	}
	sum := hashOf(r.raw)
	if !r.o.Older && (r.x.Serial < r.s.Serial || r.x.Serial == r.s.Serial && r.s.SHA256 != "" && sum != r.s.SHA256) {
		what := fmt.Sprintf("the index has number %d, and number %d was here before", r.x.Serial, r.s.Serial)
		if r.x.Serial == r.s.Serial {
			what = fmt.Sprintf("there is another index with the same number %d", r.x.Serial)
		}
		return &fault.Fault{Kind: fault.Refused, What: what, Place: place,
			Why: "Somebody may be serving an old one, to hold back what came since. What is here stays as it is.",
			Do:  "Try again later. If its authors began anew: --older"}
	}
	r.said()
	if len(r.x.Keys) > 0 && !slices.Equal(r.x.Keys, r.s.Keys) {
		r.result.Pinned = r.x.Keys
	}
	return nil
}

// install does what the index asks for.
func (r *run) install(ctx context.Context) error {
	only, mirror := r.s.Only, r.s.Mirror || r.o.Mirror
	if len(r.o.Only) > 0 {
		only = r.o.Only
		if slices.Contains(only, "*") {
			only = nil
		}
	}
	r.s.Beside = r.s.Beside || r.o.Beside
	list, err := want(r.x, r.raw, only, mirror)
	if err != nil {
		return err
	}
	for _, w := range list {
		r.result.Full += w.size
	}
	if r.s.Left != "" && r.s.Left == content(list) && !r.o.Again {
		r.result.Held, r.result.To = true, r.s.Version
		return nil
	}
	if err := r.plan(ctx, list); err != nil {
		return err
	}
	var todo []*FileChange
	for i := range r.result.Actions {
		a := &r.result.Actions[i]
		if a.Do != Keep && a.Do != Leave {
			todo = append(todo, a)
		}
	}
	if r.o.Plan {
		r.result.Changed = len(todo) > 0
		for _, a := range r.result.Actions {
			r.result.Bytes += a.Bytes
		}
		return nil
	}
	if r.result.Offline {
		if missing := slices.IndexFunc(r.result.Actions,
			func(a FileChange) bool { return a.Do == Whole || a.Do == Patch }); missing >= 0 {
			return &fault.Fault{Kind: fault.Unreachable,
				What:  fmt.Sprintf("%s is missing or damaged, and nobody can be asked", r.result.Actions[missing].File),
				Place: fault.Place{File: r.o.URL}, Err: reason(r.result.Why), Why: "Nothing was changed.",
				Do: "Try again with the network."}
		}
	}
	if err := r.get(ctx, todo, list); err != nil {
		if safefile.IsDiskFull(err) {
			return r.full(err)
		}
		return err
	}
	changed, err := r.swap(ctx, todo)
	if err != nil {
		return err
	}
	r.result.Changed = changed
	r.s.Only, r.s.Mirror, r.s.Left = only, mirror, ""
	return r.remember(list)
}

// full gives the room back that parts of files took, since a part of one would keep the disk full.
func (r *run) full(err error) error {
	f := &fault.Fault{What: "the disk is full", Err: err, Place: fault.Place{File: filepath.ToSlash(r.f.Path())},
		Why: "What is installed is untouched. What had been fetched of the new files was removed again.",
		Do:  "Free some space there and run the same command again: it begins the new files anew."}
	if gone := errors.Join(r.d.RemoveTree(path.Join(home(r.s.Project), partsDir)),
		r.d.RemoveTree(path.Join(home(r.s.Project), madeDir))); gone != nil {
		f.Why = "What is installed is untouched. Parts of the new files lie in " + path.Join(home(r.s.Project),
			partsDir) + "."
	}
	return f
}

func reason(s string) error {
	if s == "" {
		return nil
	}
	return errors.New(s)
}

// get brings everything that is missing beside.
func (r *run) get(ctx context.Context, todo []*FileChange, list []wanted) error {
	r.tidy(r.d, list)
	for _, a := range todo {
		r.total.Add(a.Bytes)
	}
	g, inner := group.WithContext(ctx)
	g.SetLimit(r.o.AtOnce)
	patches := map[string]*sync.Mutex{} // one that leads to several files is fetched once
	for _, a := range todo {
		if a.way != nil && patches[a.way.SHA256] == nil {
			patches[a.way.SHA256] = &sync.Mutex{}
		}
	}
	for _, a := range todo {
		g.Go(func() error {
			switch a.Do {
			case Whole:
				return r.whole(inner, a)
			case Patch:
				lock := patches[a.way.SHA256]
				lock.Lock()
				err := r.patched(inner, a)
				lock.Unlock()
				if err == nil || inner.Err() != nil {
					return err
				}
				// A patch that does not work is no reason to have nothing.
				r.note(a, "the patch did not work ("+short(err)+"), so it came whole")
				a.Do, a.From = Whole, ""
				for _, w := range list {
					if w.rel == a.File {
						if a.urls, err = r.address(w.ref); err != nil {
							return err
						}
					}
				}
				r.total.Add(a.Size)
				return r.whole(inner, a)
			case Copy:
				return r.copied(inner, a)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return err
	}
	for _, a := range todo {
		if note := r.notes[a.File]; note != "" {
			a.Note = note
		}
	}
	r.result.Bytes = r.bytes.Load()
	return nil
}

func short(err error) string {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f.What
	}
	return err.Error()
}

func (r *run) note(a *FileChange, text string) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.notes[a.File] = text
}

// advanced counts bytes that came.
func (r *run) advanced(n int64) {
	done := r.bytes.Add(n)
	if r.o.Advanced != nil {
		r.mutex.Lock()
		defer r.mutex.Unlock()
		r.o.Advanced(done, max(r.total.Load(), done))
	}
}

// whole downloads a file, and checks it. One that went on where it was cut and is wrong is
// downloaded once more from its beginning.
func (r *run) whole(ctx context.Context, a *FileChange) error {
	return r.download(ctx, a.urls, a.sum, a.Size)
}

func (r *run) download(ctx context.Context, address, sum string, size int64) error {
	p, err := r.d.Resume(r.part(sum))
	if err != nil {
		return err
	}
	defer p.Close()
	for again := false; ; again = true {
		resumed := p.Size() > 0
		if err := r.src.Download(ctx, address, size, p, r.advanced); err != nil {
			return err
		}
		got, err := p.SHA256(ctx)
		if err != nil {
			return err
		}
		if got == sum {
			return nil
		}
		if err := p.Restart(); err != nil {
			return err
		}
		if !resumed || again {
			return &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("it has SHA-256 %.12s…, and the index says %.12s…", got, sum),
				Place: fault.Place{File: address}, Why: "It is damaged or somebody changed it. Nothing was installed.",
				Do: "Try again later; if it stays so, tell its authors: the file on the server is not the one in the index."}
		}
	}
}

// patched makes a file of an earlier version.
func (r *run) patched(ctx context.Context, a *FileChange) error {
	if sum, _, err := r.f.Hash(r.part(a.sum)); err == nil && sum == a.sum {
		return nil // the same patch made it together with another
	}
	if err := r.download(ctx, a.urls, a.way.SHA256, a.way.Size); err != nil {
		return err
	}
	o, err := patch.Open(r.d.Join(r.part(a.way.SHA256)))
	if err != nil {
		return err
	}
	defer o.Close()
	to := path.Join(home(r.s.Project), madeDir, a.way.SHA256)
	if err := errors.Join(r.d.RemoveTree(to), r.d.MakeFolder(path.Dir(to))); err != nil {
		return err
	}
	options := patch.ApplyOptions{Workers: r.o.Workers, To: r.d.Join(to), Most: max(r.result.Full, 1)}
	plan, err := patch.Prepare(ctx, a.base, []*patch.Opened{o}, nil, options)
	if err != nil {
		return err
	}
	if plan.Already {
		return errors.New("it is applied already")
	}
	if _, err := plan.Apply(ctx, options); err != nil {
		return err
	}
	found := false
	err = fs.WalkDir(os.DirFS(r.d.Join(to)), ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel := path.Join(to, name)
		sum, _, err := safefile.HashFileUntil(ctx, r.d.Join(rel))
		if err != nil {
			return err
		}
		for i := range r.result.Actions { // also for others that the same patch makes
			if x := &r.result.Actions[i]; x.sum == sum && x.way != nil && x.way.SHA256 == a.way.SHA256 {
				found = found || x == a
				return r.d.Move(rel, r.part(sum))
			}
		}
		return nil
	})
	if err == nil && !found {
		err = fmt.Errorf("it makes something else than %s", a.File)
	}
	return err
}

// copied takes what is there under another name, or the index itself.
func (r *run) copied(ctx context.Context, a *FileChange) error {
	if a.base == "" {
		return r.d.WriteFile(r.part(a.sum), r.raw)
	}
	sum, _, err := r.d.CopyFrom(ctx, a.base, r.part(a.sum))
	if err == nil && sum != a.sum {
		err = &fault.Fault{What: "a file changed while it was copied",
			Place: fault.Place{File: filepath.ToSlash(a.base)}, Why: "Nothing was changed.",
			Do: "Close the game, and do it again."}
	}
	return err
}

// swap puts everything in its place at once.
func (r *run) swap(ctx context.Context, todo []*FileChange) (bool, error) {
	var changes []transaction.Change
	for _, a := range todo {
		c := transaction.Change{File: transaction.File{Path: a.File, Old: a.was, OldSize: a.wasOf}}
		if a.Do != Remove {
			c.New, c.NewSize, c.Staged = a.sum, a.Size, r.part(a.sum)
			r.s.own(a.File, a.sum)
		}
		changes = append(changes, c)
	}
	if len(changes) == 0 {
		return false, nil
	}
	// The index goes last: who is served from here must not be told of what is not there yet.
	slices.SortStableFunc(changes, func(a, b transaction.Change) int {
		return boolean(a.Path == index.FileName) - boolean(b.Path == index.FileName)
	})
	if err := r.unshared(ctx, changes); err != nil {
		return false, err
	}
	if err := r.s.write(r.d); err != nil { // what may be removed later, should this run be killed
		return false, err
	}
	record, err := r.f.Commit(ctx, changes,
		transaction.Record{Kind: kind, Title: r.s.Project, From: r.s.Version, To: r.x.Version()})
	if err != nil {
		return false, err
	}
	same := r.s.Version == r.x.Version()
	return true, r.f.Forget(ctx, func(x transaction.Record) bool {
		if x.Kind != kind || x.Title != r.s.Project {
			return false
		}
		if same { // nobody wants damaged files back
			return x.ID == record.ID
		}
		return x.ID != record.ID
	})
}

// unshared gives each change a file of its own to come from: two names may have the same content.
func (r *run) unshared(ctx context.Context, changes []transaction.Change) error {
	seen := map[string]int{}
	for i := range changes {
		c := &changes[i]
		if c.Staged == "" {
			continue
		}
		if seen[c.Staged]++; seen[c.Staged] > 1 {
			from := c.Staged
			c.Staged = fmt.Sprintf("%s-%d", from, seen[from])
			if _, _, err := r.d.CopyFrom(ctx, r.d.Join(from), c.Staged); err != nil {
				return err
			}
		}
	}
	return nil
}

func boolean(b bool) int {
	if b {
		return 1
	}
	return 0
}

// remember notes what is there now.
func (r *run) remember(list []wanted) error {
	if len(r.x.Keys) > 0 {
		r.s.Keys = r.x.Keys
	} else if len(r.o.Trust) > 0 {
		r.s.Keys = r.o.Trust
	}
	r.s.Title, r.s.Version, r.s.Serial, r.s.SHA256, r.s.Stamp = r.x.Title, r.x.Version(), r.x.Serial, hashOf(r.raw),
		r.stamp
	if r.src != nil {
		r.s.URL = r.src.Plain()
	}
	files := map[string]file{}
	owned := map[string][]string{}
	for _, w := range list {
		info, err := os.Stat(r.f.Join(w.rel))
		if err != nil {
			return err
		}
		files[w.rel] = file{w.sum, w.size, info.ModTime().UnixNano()}
		if slices.Contains(r.s.Owned[w.rel], w.sum) {
			owned[w.rel] = []string{w.sum}
		}
	}
	r.s.Files, r.s.Owned = files, owned
	if r.result.Changed || r.result.Mended != "" {
		r.tidy(r.d, nil)
	}
	if old, err := r.d.ReadFile(path.Join(home(r.s.Project), index.FileName)); err != nil || hashOf(old) != r.s.SHA256 {
		if err := r.d.WriteFile(path.Join(home(r.s.Project), index.FileName), r.raw); err != nil {
			return err
		}
	}
	return r.s.write(r.d)
}

// lastChange is the change that brought a project's version; nil when there is none before it.
func lastChange(dir, project string) (*transaction.Record, error) {
	records, err := transaction.Records(dir)
	for i := len(records) - 1; i >= 0; i-- {
		if x := &records[i]; x.Kind == kind && x.Title == project && !x.Undone {
			if x.From == "" {
				return nil, err
			}
			return x, err
		}
	}
	return nil, err
}

// Back brings back the version that was there before. It stays until there is another one than that which was left.
func Back(ctx context.Context, dir string, o Options) (*Result, error) {
	d, err := safefile.OpenDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	f, err := transaction.Open(ctx, dir, "vornix fetch --back")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r := &run{o: o, f: f, d: d, result: &Result{Mended: f.Recovered, Signers: []string{}, Actions: []FileChange{}}}
	r.o.Offline = true
	states, err := known(dir)
	if err != nil {
		return nil, err
	}
	if r.o.URL != "" {
		for _, s := range states {
			if src, err := download.Open(r.o.URL, index.FileName, r.o.Remote); err == nil {
				if s.URL == src.Plain() {
					r.o.Project, r.o.URL = s.Project, ""
				}
				src.Close()
			}
		}
	}
	if err := r.find(states); err != nil {
		return nil, err
	}
	if r.src != nil {
		r.src.Close()
	}
	change, err := lastChange(dir, r.s.Project)
	if err != nil {
		return nil, err
	}
	if change == nil {
		return nil, &fault.Fault{Kind: fault.Usage,
			What:  "there is no older version of " + r.s.Project + " here to go back to",
			Place: fault.Place{File: filepath.ToSlash(dir)}, Why: "One is kept from the first update on.",
			Do: "Ask its authors for the version that you want."}
	}
	x, raw, err := r.s.index(d)
	if err != nil {
		return nil, err
	}
	list, err := want(x, raw, r.s.Only, r.s.Mirror)
	if err != nil {
		return nil, err
	}
	r.result.Project, r.result.Title, r.result.From, r.result.To, r.result.Serial, r.result.Changed = r.s.Project,
		r.s.Title, r.s.Version, change.From, r.s.Serial, true
	for _, c := range change.Files {
		a := FileChange{File: c.Before(), Do: Copy, Size: c.OldSize, From: "the version before"}
		if c.Old == "" {
			a.Do, a.Size = Remove, c.NewSize
		}
		r.result.Actions = append(r.result.Actions, a)
	}
	if o.Plan {
		return r.result, nil
	}
	if _, err := f.RollBack(ctx, change, transaction.Refuse); err != nil {
		var refused *fault.Fault
		if errors.As(err, &refused) && refused.Kind == fault.Refused {
			refused.Do = "Bring it up to date first, which replaces what was changed: vornix fetch " +
				filepath.ToSlash(dir)
		}
		return nil, err
	}
	r.s.Left, r.s.Version, r.s.Stamp = content(list), change.From, download.Stamp{}
	for _, c := range change.Files {
		delete(r.s.Files, c.Path)
		delete(r.s.Owned, c.Path)
		if c.Old == "" {
			continue
		}
		if info, err := os.Stat(f.Join(c.Before())); err == nil {
			r.s.Files[c.Before()] = file{c.Old, c.OldSize, info.ModTime().UnixNano()}
			r.s.own(c.Before(), c.Old)
		}
	}
	return r.result, r.s.write(d)
}
