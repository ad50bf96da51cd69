package deploy

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"vornix/core/fault"
	"vornix/core/standin"
	"vornix/core/transport"
)

// Options for Run.
type Options struct {
	Command       string // for the lock
	Overwrite     bool   // also overwrite what somebody else changed; it goes to the safe place
	WithoutServer bool   // do not ask the game server, even where the target has one
	Verify        bool   // compare by content
	// Local finds files of this machine by their SHA-256: to take them from, and to know what files there look like.
	Local func(sum string) string
	// Advanced is told how many bytes of how many are there.
	Advanced func(stage string, done, total int64)
	// Between is called before each step of a switch, in tests.
	Between func()
}

// Result is how it ended.
type Result struct {
	Plan    *Plan           `json:"plan"`
	Changed int             `json:"changed"`          // files added, changed or removed
	Sent    int64           `json:"sent"`             // bytes
	Reused  int64           `json:"reused"`           // bytes that were there, in files alike or from an earlier try
	Undone  string          `json:"undone,omitempty"` // what did not come to its end earlier, and was undone first
	Commit  string          `json:"commit,omitempty"` // of a Git repository
	Tag     string          `json:"tag,omitempty"`
	Status  *standin.Status `json:"server,omitempty"` // what the server says; nil when nobody was asked
	Seconds float64         `json:"seconds"`
}

// journal is what must be undone when a switch does not reach its end.
type journal struct {
	Kind    string    `json:"kind"`
	Version string    `json:"version"` // that was on its way
	Serial  int       `json:"serial"`
	By      string    `json:"by"`
	Since   time.Time `json:"since"`
	Head    []byte    `json:"head"`  // as it was; empty for none
	Files   []kept    `json:"files"` // in the order of the switch
}

// kept is a file as it was.
type kept struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256,omitempty"` // in the safe place; empty: there was none
}

const (
	journalFile = "journal.json"
	safeDir     = "safe"   // files that can be gone back to, by hash
	stagedDir   = "staged" // files on their way, by hash
	ignoreFile  = ownDir + "/.gitignore"
	ignoreText  = "# what only the working tree needs\nlock.json\nclock\n*/journal.json\n*/safe/\n*/staged/\n"
)

func (t *Target) safe(sum string) string   { return t.own(safeDir + "/" + sum) }
func (t *Target) staged(sum string) string { return t.own(stagedDir + "/" + sum) }

// Run brings the target to the goal. shown is the plan that somebody has agreed to; when what is there has changed since, it is made anew.
func (t *Target) Run(ctx context.Context, goal *Goal, shown *Plan, o Options) (r *Result, err error) {
	start := time.Now()
	if t.readOnly() {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("target %q is a web folder, which can only be read", t.Name), Place: fault.Place{File: t.where},
			Do: "Compare it with --plan and --verify. How its files get there is a target of its own (folder, sftp or git)."}
	}
	client, err := t.dial(ctx, o.WithoutServer)
	if err != nil {
		return nil, err
	}
	l, err := t.acquire(ctx, o.Command)
	if err != nil {
		return nil, err
	}
	defer l.release(ctx)
	t.sweep(goal)
	for try := 1; ; try++ {
		r, err = t.once(ctx, l, client, goal, shown, o)
		if !errors.Is(err, transport.ErrBehind) {
			break
		}
		if try == 3 {
			return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q: others change the same files all the time", t.Name), Err: err, Why: "Nothing of this deployment was pushed.", Do: "Agree with them, then deploy again."}
		}
		shown = nil
		if err := t.git.Refresh(ctx); err != nil {
			return nil, onTarget(t.Name, err)
		}
	}
	if r != nil {
		r.Seconds = time.Since(start).Seconds()
	}
	return r, err
}

// sweep removes what killed runs left half written.
func (t *Target) sweep(goal *Goal) {
	s, ok := t.site.(transport.Sweeper)
	if !ok {
		return
	}
	folders := map[string]bool{".": true, path.Clean(t.profile.Server.Bundles): true}
	for _, f := range goal.Files {
		folders[path.Dir(f.Path)] = true
	}
	for _, l := range t.profile.Server.Lists {
		folders[path.Dir(l.File)] = true
	}
	s.Sweep(ownDir, slices.Sorted(maps.Keys(folders)))
}

// once is one try of Run.
func (t *Target) once(ctx context.Context, l *lock, client *standin.Client, goal *Goal, shown *Plan, o Options) (*Result, error) {
	r := &Result{}
	j, err := t.journal(ctx)
	if err != nil {
		return nil, err
	}
	if j != nil {
		if err := t.undo(ctx, j); err != nil {
			return nil, t.halfUndone(err)
		}
		r.Undone, shown = fmt.Sprintf("%s of version %s by %s", j.Kind, j.Version, j.By), nil
	}
	p := shown
	if p != nil {
		raw, err := t.site.Read(ctx, t.own(headFile), mostHead)
		if err != nil && !absent(err) {
			return nil, t.explain("read", t.own(headFile), err)
		}
		if !bytes.Equal(raw, p.state.raw) {
			p = nil
		}
	}
	if p == nil {
		s, err := t.readState(ctx, t.Project)
		if err != nil {
			return nil, err
		}
		if p, err = t.compare(ctx, goal, s, PlanOptions{o.Verify}); err != nil {
			return nil, err
		}
	}
	r.Plan, r.Changed = p, p.Changes()
	if err := t.mayGo(p, o); err != nil {
		return r, err
	}
	if r.Changed == 0 && t.settled(p) {
		return r, t.ask(ctx, client, p, r, nil)
	}
	if j, err = t.stage(ctx, p, r, o); err != nil {
		return r, t.explain("prepare", "the files", err)
	}
	if err := ctx.Err(); err != nil {
		return r, err // the last moment at which nothing has been changed yet
	}
	if err := l.ours(ctx); err != nil {
		return r, err
	}
	if err := t.unmoved(ctx, p); err != nil {
		return r, err
	}
	if err := t.writeJSON(ctx, journalFile, j); err != nil {
		return r, err
	}
	gone, err := t.change(ctx, p, r, o)
	if err == nil {
		err = t.runCommand(ctx)
	}
	if err == nil && t.git != nil {
		err = t.publish(ctx, p, r)
	}
	if err != nil {
		if undoErr := t.undo(ctx, j); undoErr != nil {
			return r, t.halfUndone(errors.Join(err, undoErr))
		}
		if !errors.Is(err, transport.ErrBehind) {
			_ = t.runCommand(context.WithoutCancel(ctx))
		}
		return r, t.explain("deploy to", t.Name, err)
	}
	if err := t.ask(ctx, client, p, r, j); err != nil {
		return r, err
	}
	if err := t.site.Remove(context.WithoutCancel(ctx), t.own(journalFile)); err != nil {
		return r, t.explain("remove", t.own(journalFile), err)
	}
	t.mark(ctx, p)
	t.tidy(ctx, p.state, gone, p.left)
	return r, nil
}

// settled says whether what is remembered is what the plan leads to, so that there is nothing to write down either.
func (t *Target) settled(p *Plan) bool {
	now := p.state.now()
	if now.Version != p.Version || len(p.state.records) == 0 && len(p.Steps) > 0 {
		return false
	}
	for _, x := range p.Steps {
		if f := now.Files[x.Path]; x.Role != Listing && (f == nil || f.SHA256 != x.want.SHA256) {
			return false
		}
	}
	return true
}

// mayGo refuses what would lose something.
func (t *Target) mayGo(p *Plan, o Options) error {
	if drift := p.Drift(); len(drift) > 0 && !o.Overwrite {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("on target %q, %s: %s", p.Target, drift[0].Path, drift[0].Drift),
			Why: fmt.Sprintf("It would be somebody's work that is overwritten (%d such files). Nothing was changed.", len(drift)),
			Do:  "Look at it; to overwrite it all the same, with a copy kept on the target, add --overwrite."}
	}
	if p.playing == 0 && p.goal.only {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("on target %q nothing would be left in %s", p.Target, t.profile.Server.Playing),
			Why: "A server with an empty rotation plays nothing. Nothing was changed.", Do: "Put something else into the rotation first."}
	}
	return nil
}

// halfUndone says that putting files back failed; the journal is still there.
func (t *Target) halfUndone(err error) error {
	f := &fault.Fault{Kind: fault.KindOf(err), What: fmt.Sprintf("files of target %q could not be put back", t.Name), Err: err, Place: fault.Place{File: t.where},
		Why: "Some may be of the new release and some of the old; what was there before is safe, and no list names a map that is not whole.", Do: "Mend the cause and run the same command again: it puts the rest back first."}
	if errors.Is(err, transport.ErrLost) {
		f.Kind = fault.Unreachable
		f.What = fmt.Sprintf("the connection to target %q was lost in the middle of the switch", t.Name)
	}
	return f
}

// ask asks the server, when there is one. What it can't play is undone, where j says what was.
func (t *Target) ask(ctx context.Context, client *standin.Client, p *Plan, r *Result, j *journal) error {
	if client == nil {
		return nil
	}
	var bundles []GoalFile
	for _, f := range p.goal.Files {
		if f.Role == Bundle {
			bundles = append(bundles, f)
		}
	}
	var err error
	if r.Status, err = askServer(ctx, client, bundles, j != nil, time.Duration(t.server.wait)*time.Second); err == nil {
		return nil
	}
	f := &fault.Fault{Kind: fault.KindOf(err), What: fmt.Sprintf("the server of target %q can't play the release", t.Name), Err: err,
		Why: "Its files are those of the release already; nothing was changed.", Do: "Try the bundle with 'vornix try'; look at the server's own answer."}
	if j == nil {
		return f
	}
	f.Why = "Everything was put back as it was."
	if t.git != nil {
		f.Why = "The commit is pushed, since a server that plays from a repository sees nothing before that."
		f.Do = "Go back with: vornix deploy rollback " + t.Name
		_ = t.site.Remove(context.WithoutCancel(ctx), t.own(journalFile))
		return f
	}
	if undoErr := t.undo(ctx, j); undoErr != nil {
		return t.halfUndone(errors.Join(err, undoErr))
	}
	_, _ = client.Reload(context.WithoutCancel(ctx)) // it goes back to what it played
	return f
}

// runCommand runs the target's own command on its side.
func (t *Target) runCommand(ctx context.Context) error {
	run, ok := t.site.(transport.Runner)
	if t.about.Command == "" || !ok {
		return nil
	}
	if out, err := run.Run(ctx, t.about.Command); err != nil {
		return &fault.Fault{What: fmt.Sprintf("the command of target %q failed: %s", t.Name, t.about.Command), Err: err, Why: "Everything was put back as it was.", Do: "Try it there by hand. " + firstLine(out)}
	}
	return nil
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s
}

// journal reads what a run that did not come to its end left; nil for nothing.
func (t *Target) journal(ctx context.Context) (*journal, error) {
	data, err := t.site.Read(ctx, t.own(journalFile), mostRecord)
	if absent(err) || t.readOnly() {
		return nil, nil
	}
	if err != nil {
		return nil, t.explain("read", t.own(journalFile), err)
	}
	j := &journal{}
	if err := json.Unmarshal(data, j); err != nil {
		return nil, &fault.Fault{What: fmt.Sprintf("target %q: the journal of a deployment that did not come to its end is damaged", t.Name), Place: fault.Place{File: t.where + "/" + t.own(journalFile)}, Err: err,
			Why: "What was there before is in " + t.own(safeDir) + ", by its SHA-256.", Do: "Copy it back by hand and delete the journal."}
	}
	return j, nil
}

// upload is a content that must get there.
type upload struct {
	f    *GoalFile
	like []transport.Like
	from string // on the target
	sure bool   // its hash has been taken there
}

// stage brings what is new beside what is there, verifies it, and keeps what will be replaced.
func (t *Target) stage(ctx context.Context, p *Plan, r *Result, o Options) (*journal, error) {
	have := map[string]int64{} // what is staged or in the safe place already, by path
	list, err := t.site.List(ctx, []string{t.own(stagedDir), t.own(safeDir)})
	if err != nil {
		return nil, t.explain("look at", t.own(stagedDir), err)
	}
	for _, i := range list {
		have[i.Path] = i.Size
	}
	inSafe := func(sum string) bool { _, ok := have[t.safe(sum)]; return ok }
	places := map[string]string{} // where contents lie there now
	for _, x := range p.Steps {
		if x.found != nil && x.found.SHA256 != "" && x.Role != Listing {
			places[x.found.SHA256] = x.Path
		}
	}
	todo := map[string]*upload{}
	var small []GoalFile
	var total int64
	taken := map[string]bool{}
	write := func(path string, data []byte) { // lists may be the same, word for word
		if sum := hashOf(data); !taken[sum] {
			taken[sum] = true
			small = append(small, GoalFile{Path: path, File: File{SHA256: sum, Size: int64(len(data))}, Data: data})
		}
	}
	alike := t.likenesses(p, o)
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.Action != Add && x.Action != Change {
			continue
		}
		if x.want.Data != nil {
			write(x.Path, x.want.Data)
			if x.union != nil {
				write(x.Path, x.union)
			}
			continue
		}
		if todo[x.want.SHA256] != nil {
			continue
		}
		u := &upload{f: &x.want}
		switch {
		case inSafe(x.want.SHA256):
			u.from = t.safe(x.want.SHA256)
		case places[x.want.SHA256] != "":
			u.from = places[x.want.SHA256]
		case x.want.Source == "":
			if o.Local != nil {
				x.want.Source = o.Local(x.want.SHA256)
			}
			if x.want.Source == "" && t.git == nil {
				return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q does not have %s of version %s in its safe place any more", t.Name, x.Path, p.Version), Why: "Nothing was changed.", Do: "Deploy that version anew, or go back to another one: vornix deploy history " + t.Name}
			}
		}
		u.like = alike(x)
		todo[x.want.SHA256] = u
		if u.from == "" {
			total += x.want.Size
		}
	}
	if err := t.room(ctx, total, have, todo); err != nil {
		return nil, err
	}
	if err := t.bring(ctx, p, r, o, todo, small, have, total); err != nil {
		if full := new(fault.Fault); errors.As(t.explain("write", "", err), &full) && full.Err != nil && strings.Contains(full.Err.Error(), "disk is full") {
			t.clear(ctx, todo) // half of a file would keep the disk full
		}
		return nil, err
	}
	if err := t.verify(ctx, p, todo, small, o); err != nil {
		return nil, err
	}
	if err := t.double(ctx, p); err != nil {
		return nil, err
	}
	if list, err = t.site.List(ctx, []string{t.own(stagedDir)}); err != nil {
		return nil, t.explain("look at", t.own(stagedDir), err)
	}
	for _, i := range list { // which they keep when they are put in place
		p.times[i.Path] = i.Time
	}
	return t.keepOld(ctx, p, inSafe)
}

// likenesses finds files there that a new one is likely to resemble: the one that it replaces, or one that goes for the same maps.
func (t *Target) likenesses(p *Plan, o Options) func(x *Step) []transport.Like {
	known := p.state.now().Files
	marks := sync.OnceValue(t.marks)
	going := map[string][]*Step{} // by map and ending
	for i := range p.Steps {
		if y := &p.Steps[i]; y.Action == Remove && known[y.Path] != nil {
			for _, m := range known[y.Path].Maps {
				key := m + path.Ext(y.Path)
				going[key] = append(going[key], y)
			}
		}
	}
	return func(x *Step) (list []transport.Like) {
		add := func(y *Step) {
			if y.found == nil || y.found.SHA256 == "" || y.found.Size == 0 || len(list) == 3 {
				return
			}
			like := transport.Like{Path: y.Path, Size: y.found.Size}
			if o.Local != nil {
				like.Local = o.Local(y.found.SHA256)
			}
			if like.Local == "" && t.about.Kind == "sftp" {
				like.Marks = marks()[y.found.SHA256]
			}
			list = append(list, like)
		}
		if x.Action == Change {
			add(x)
		}
		for _, m := range x.want.Maps {
			for _, y := range going[m+path.Ext(x.Path)] {
				if y.Role == x.Role {
					add(y)
				}
			}
		}
		return list
	}
}

// room refuses what would fill the disk, before anything is sent.
func (t *Target) room(ctx context.Context, total int64, have map[string]int64, todo map[string]*upload) error {
	s, ok := t.site.(transport.Spacer)
	if !ok || total < 1<<20 {
		return nil
	}
	free, err := s.Free(ctx)
	if err != nil {
		return nil // then the disk itself will say
	}
	for sum := range todo {
		total -= have[t.staged(sum)]
	}
	if free < total+256<<10 {
		return &fault.Fault{What: fmt.Sprintf("target %q has %d KB free and needs %d KB", t.Name, free>>10, total>>10), Place: fault.Place{File: t.where}, Why: "Nothing was changed.", Do: "Free some space there and run the same command again."}
	}
	return nil
}

// bring uploads, several at once.
func (t *Target) bring(ctx context.Context, p *Plan, r *Result, o Options, todo map[string]*upload, small []GoalFile, have map[string]int64, total int64) error {
	var mu sync.Mutex
	var done int64
	advanced := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		done += n
		if o.Advanced != nil {
			o.Advanced("upload", done, total)
		}
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(16)
	for i := range p.Steps { // in the plan's order, so that what was cut is taken up again in the same
		x := &p.Steps[i]
		u := todo[x.want.SHA256]
		if u == nil || u.f != &x.want || x.Action == Leave {
			continue
		}
		to := t.staged(x.want.SHA256)
		if u.from != "" && have[to] != x.want.Size {
			g.Go(func() error {
				if err := t.site.Copy(ctx, u.from, to); err != nil {
					return t.explain("copy", u.from, err)
				}
				return nil
			})
			continue
		}
		if size, ok := have[to]; ok && size == x.want.Size {
			mu.Lock()
			r.Reused += size
			mu.Unlock()
			advanced(size)
			continue
		}
		g.Go(func() error {
			if u.f.Source == "" && t.git != nil {
				ok, err := t.git.Older(ctx, x.Path, x.want.SHA256, to)
				if err == nil && !ok {
					err = &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("the history of target %q does not have %s of version %s", t.Name, x.Path, p.Version), Why: "Nothing was changed.", Do: "Deploy that version anew."}
				}
				return err
			}
			sent, err := t.site.Upload(ctx, transport.Upload{To: to, Size: x.want.Size, SHA256: x.want.SHA256, Source: u.f.Source, Like: u.like, Advanced: advanced})
			mu.Lock()
			r.Sent += sent.Bytes
			r.Reused += sent.Reused
			u.sure = sent.Hashed
			mu.Unlock()
			if err != nil {
				return t.explain("write", x.Path, err)
			}
			return nil
		})
	}
	for i := range small {
		g.Go(func() error {
			f := &small[i]
			mu.Lock()
			r.Sent += f.Size
			mu.Unlock()
			if err := t.site.Write(ctx, t.staged(f.SHA256), f.Data); err != nil {
				return t.explain("write", f.Path, err)
			}
			return nil
		})
	}
	return g.Wait()
}

// clear removes what was staged.
func (t *Target) clear(ctx context.Context, todo map[string]*upload) {
	ctx = context.WithoutCancel(ctx)
	for sum := range todo {
		_ = t.site.Remove(ctx, t.staged(sum))
	}
}

// verify takes the hashes of all that was staged, on the far side. What is not as it should be is sent once more.
func (t *Target) verify(ctx context.Context, p *Plan, todo map[string]*upload, small []GoalFile, o Options) error {
	var names []string
	for sum, u := range todo {
		if !u.sure {
			names = append(names, t.staged(sum))
		}
	}
	for _, f := range small {
		names = append(names, t.staged(f.SHA256))
	}
	slices.Sort(names)
	if o.Advanced != nil && len(names) > 0 {
		o.Advanced("verify", 0, int64(len(names)))
	}
	for try := 0; ; try++ {
		sums, err := t.site.Hash(ctx, names)
		if err != nil {
			return t.explain("read", t.own(stagedDir), err)
		}
		var bad []string
		for _, name := range names {
			if sums[name] != path.Base(name) {
				bad = append(bad, name)
			}
		}
		if len(bad) == 0 {
			return nil
		}
		for _, name := range bad {
			if err := t.site.Remove(ctx, name); err != nil {
				return t.explain("remove", name, err)
			}
			u := todo[path.Base(name)]
			if try > 0 || u == nil || u.f.Source == "" {
				what := name
				if u != nil {
					what = u.f.Path
				}
				if u != nil && u.from != "" {
					return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("on target %q the copy of %s in its safe place is damaged", t.Name, what), Place: fault.Place{File: t.where}, Why: "Nothing was changed.", Do: "Deploy that version anew."}
				}
				return &fault.Fault{What: fmt.Sprintf("%s does not arrive whole on target %q", what, t.Name), Place: fault.Place{File: t.where}, Why: "What is read there is not what was sent: its disk or the way there damages files. Nothing was changed.", Do: "Look at the server's disk, and run the same command again."}
			}
			if _, err := t.site.Upload(ctx, transport.Upload{To: name, Size: u.f.Size, SHA256: u.f.SHA256, Source: u.f.Source}); err != nil {
				return t.explain("write", u.f.Path, err)
			}
		}
		names = bad
	}
}

// double makes a staged file for each place that wants the same content.
func (t *Target) double(ctx context.Context, p *Plan) error {
	seen := map[string]int{}
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.Action != Add && x.Action != Change {
			continue
		}
		n := seen[x.want.SHA256]
		seen[x.want.SHA256]++
		x.want.safe = t.staged(x.want.SHA256)
		if n > 0 {
			x.want.safe = fmt.Sprintf("%s-%d", t.staged(x.want.SHA256), n)
			if err := t.site.Copy(ctx, t.staged(x.want.SHA256), x.want.safe); err != nil {
				return t.explain("copy", x.Path, err)
			}
		}
	}
	return nil
}

// keepOld puts what will be replaced into the safe place, and makes the journal.
func (t *Target) keepOld(ctx context.Context, p *Plan, inSafe func(string) bool) (*journal, error) {
	j := &journal{Kind: p.Kind, Version: p.Version, Serial: 1, By: t.access.By(), Since: time.Now().UTC().Truncate(time.Second), Head: p.state.raw, Files: []kept{}}
	if last := p.state.last(); last != nil {
		j.Serial = last.Serial + 1
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(16)
	taken := map[string]bool{}
	for _, x := range p.order() {
		k := kept{Path: x.Path}
		if x.found != nil {
			k.SHA256 = x.found.SHA256
			if !taken[k.SHA256] && !inSafe(k.SHA256) {
				taken[k.SHA256] = true
				g.Go(func() error {
					if err := t.site.Link(gctx, x.Path, t.safe(k.SHA256)); err != nil {
						return t.explain("keep", x.Path, err)
					}
					return nil
				})
			}
		}
		j.Files = append(j.Files, k)
	}
	if touch := t.profile.Server.Call.Touch; touch != "" && !t.about.Mirror() && t.profile.Server.List(touch) == nil {
		k := kept{Path: touch}
		if data, err := t.site.Read(ctx, touch, 1<<20); err == nil {
			k.SHA256 = hashOf(data)
			if err := t.site.Write(ctx, t.safe(k.SHA256), data); err != nil {
				return nil, t.explain("keep", touch, err)
			}
		}
		j.Files = append(j.Files, k)
	}
	return j, g.Wait()
}

// order is the plan's changes in the order of the switch: what maps need, bundles, lists, the page, and last what goes.
func (p *Plan) order() []*Step {
	rank := func(x *Step) int {
		switch {
		case x.Action == Remove && x.Role == Bundle:
			return 20
		case x.Action == Remove:
			return 21
		}
		return map[Role]int{Companion: 1, Packed: 2, Bundle: 3, Listing: 10, Page: 12}[x.Role]
	}
	var list []*Step
	for i := range p.Steps {
		if p.Steps[i].Action != Leave {
			list = append(list, &p.Steps[i])
		}
	}
	slices.SortStableFunc(list, func(a, b *Step) int { return rank(a) - rank(b) })
	return list
}

// unmoved makes sure that nobody replaced a file since it was compared.
func (t *Target) unmoved(ctx context.Context, p *Plan) error {
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(16)
	for _, x := range p.order() {
		g.Go(func() error {
			info, err := t.site.Stat(ctx, x.Path)
			if err != nil && !absent(err) {
				return t.explain("look at", x.Path, err)
			}
			there := err == nil
			if there != (x.found != nil) || there && (info.Size != x.found.Size || !x.found.Time.IsZero() && !info.Time.Equal(x.found.Time)) {
				return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("on target %q, %s was changed by somebody while this was being deployed", t.Name, x.Path), Why: "Their work would be lost. Nothing was changed.", Do: "Run the same command again: it looks anew."}
			}
			return nil
		})
	}
	return g.Wait()
}

// change switches, and writes down what there is now. It gives records that are not needed any more.
func (t *Target) change(ctx context.Context, p *Plan, r *Result, o Options) ([]ref, error) {
	step := func(doing, rel string, f func() error) error {
		if o.Between != nil {
			o.Between()
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := f(); err != nil {
			return t.explain(doing, rel, err)
		}
		return nil
	}
	put := func(x *Step) error {
		return step("put in place", x.Path, func() error { return t.site.Rename(ctx, x.want.safe, x.Path) })
	}
	order := p.order()
	side := func(list []*Step) error { // files that do not depend on one another
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(16)
		for _, x := range list {
			g.Go(func() error {
				if gctx.Err() != nil {
					return gctx.Err()
				}
				return put(x)
			})
		}
		return g.Wait()
	}
	var files, bundles, lists, rest []*Step
	for _, x := range order {
		switch {
		case x.Action == Remove:
			rest = append(rest, x)
		case x.Role == Listing:
			lists = append(lists, x)
		case x.Role == Bundle:
			bundles = append(bundles, x)
		case x.Role != Page:
			files = append(files, x)
		}
	}
	if err := side(files); err != nil {
		return nil, err
	}
	if err := side(bundles); err != nil {
		return nil, err
	}
	// A list gains its entries before the rotation names them, and loses others after the rotation has let go of them.
	for _, x := range lists {
		if x.union != nil {
			if err := step("put in place", x.Path, func() error { return t.site.Rename(ctx, t.staged(hashOf(x.union)), x.Path) }); err != nil {
				return nil, err
			}
		}
	}
	first := func(x *Step) bool { return x.union == nil && x.Path != t.profile.Server.Playing && x.gains() }
	for _, want := range []func(*Step) bool{first, func(x *Step) bool { return x.Path == t.profile.Server.Playing }, func(x *Step) bool { return !first(x) && x.Path != t.profile.Server.Playing }} {
		for _, x := range lists {
			if want(x) {
				if err := put(x); err != nil {
					return nil, err
				}
			}
		}
	}
	for _, x := range order {
		if x.Role == Page && x.Action != Remove {
			if err := put(x); err != nil {
				return nil, err
			}
		}
	}
	for _, x := range rest {
		if err := step("remove", x.Path, func() error { return t.site.Remove(ctx, x.Path) }); err != nil {
			return nil, err
		}
	}
	return t.writeDown(ctx, p, r, step)
}

// gains says whether a list gets longer, or is new: then it comes before the rotation.
func (x *Step) gains() bool {
	return x.found == nil || x.want.Size >= x.found.Size
}

// writeDown adds the record of what was done.
func (t *Target) writeDown(ctx context.Context, p *Plan, r *Result, step func(doing, rel string, f func() error) error) ([]ref, error) {
	before := p.state.now()
	now := &contents{Version: p.Version, Files: map[string]*File{}, Lists: p.lists}
	if p.goal.only {
		now.Version = before.Version
		for name, f := range before.Files {
			now.Files[name] = f
		}
	}
	found := map[string]*File{}
	for i := range p.Steps {
		x := &p.Steps[i]
		old := before.Files[x.Path]
		if x.Role != Listing && x.Action != Leave && ((old == nil) != (x.found == nil) || old != nil && old.SHA256 != x.found.SHA256) {
			found[x.Path] = x.found
		}
		if x.Action == Remove {
			delete(now.Files, x.Path)
			continue
		}
		if x.Role == Listing && x.Action == Leave && x.found == nil {
			continue
		}
		f := x.want.File
		now.Files[x.Path] = &f
		if x.Action == Leave && x.found != nil && !x.found.Time.IsZero() {
			f.Time = x.found.Time
		} else {
			f.Time = p.times[x.want.safe]
		}
	}
	record := p.state.next(p.Kind, now.Version, now)
	record.Found, record.Of, record.Maps = found, p.goal.of, p.goal.maps
	record.Time, record.By = time.Now().UTC().Truncate(time.Second), t.access.By()
	record.Added, record.Changed, record.Removed, record.Sent = p.count(Add), p.count(Change), p.count(Remove), r.Sent
	if err := t.enlist(ctx); err != nil {
		return nil, err
	}
	if t.git != nil {
		if err := t.site.Write(ctx, ignoreFile, []byte(ignoreText)); err != nil {
			return nil, t.explain("write", ignoreFile, err)
		}
	}
	if touch := t.profile.Server.Call.Touch; touch != "" && !t.about.Mirror() {
		if err := step("write", touch, func() error {
			return t.site.Write(ctx, touch, fmt.Appendf(nil, "%s %s %d\n", t.Project, now.Version, record.Serial))
		}); err != nil {
			return nil, err
		}
	}
	var gone []ref
	err := step("write", t.own(headFile), func() (err error) {
		gone, err = t.write(ctx, p.state, record)
		return err
	})
	return gone, err
}

// undo brings every file of a journal back, in the opposite order, then forgets the journal. It can be repeated after a crash. Files come back
// before lists that name them.
func (t *Target) undo(ctx context.Context, j *journal) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Minute)
	defer cancel()
	for i := len(j.Files) - 1; i >= 0; i-- {
		k := j.Files[i]
		var err error
		if k.SHA256 == "" {
			err = t.site.Remove(ctx, k.Path)
		} else {
			err = t.site.Copy(ctx, t.safe(k.SHA256), k.Path)
		}
		if err != nil {
			return t.explain("put back", k.Path, err)
		}
	}
	var err error
	if len(j.Head) > 0 {
		err = t.site.Write(ctx, t.own(headFile), j.Head)
	} else {
		err = t.site.Remove(ctx, t.own(headFile))
	}
	if err == nil {
		err = t.site.Remove(ctx, t.own(journalFile))
	}
	if err != nil {
		return t.explain("put back", t.own(headFile), err)
	}
	return nil
}

// tidy lets go of what nobody can go back to any more. What fails here is done next time.
func (t *Target) tidy(ctx context.Context, s *state, gone []ref, left []string) {
	for _, r := range gone {
		_ = t.site.Remove(ctx, t.own(r.file()))
	}
	for _, rel := range left {
		_ = t.site.Remove(ctx, rel)
	}
	needed := map[string]bool{}
	for i := max(0, len(s.records)-1-t.keep); i < len(s.records); i++ {
		for _, f := range s.after(i).Files {
			if f.Role != Listing { // lists are edited back, not put back
				needed[t.safe(f.SHA256)] = true
			}
		}
		for _, f := range s.records[i].Found {
			if f != nil {
				needed[t.safe(f.SHA256)] = true
			}
		}
	}
	list, err := t.site.List(ctx, []string{t.own(stagedDir), t.own(safeDir)})
	if err != nil {
		return
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(16)
	for _, i := range list {
		if !needed[i.Path] {
			g.Go(func() error { return t.site.Remove(ctx, i.Path) })
		}
	}
	_ = g.Wait()
}

// publish commits and pushes what was changed.
func (t *Target) publish(ctx context.Context, p *Plan, r *Result) error {
	rels := []string{ignoreFile, projectsFile, ownDir + "/" + t.Project + "/" + headFile, ownDir + "/" + t.Project + "/records"}
	for _, x := range p.order() {
		rels = append(rels, x.Path)
	}
	if touch := t.profile.Server.Call.Touch; touch != "" {
		rels = append(rels, touch)
	}
	version := p.Version
	message := fmt.Sprintf("%s %s", t.Title, version)
	switch p.Kind {
	case RollingBack:
		message = fmt.Sprintf("%s: back to %s", t.Title, orNothing(version))
	case Withdrawing:
		message = fmt.Sprintf("%s: without %s", t.Title, strings.Join(p.goal.maps, ", "))
	}
	if p.goal.Notes != "" && p.Kind == Deploying {
		message += "\n\n" + p.goal.Notes
	}
	tag := ""
	if p.Kind == Deploying {
		tag = strings.NewReplacer("{name}", t.Project, "{version}", version).Replace(t.about.Tag)
	}
	c, err := t.git.Publish(ctx, message, tag, rels)
	if c != nil {
		r.Commit, r.Tag = c.ID, c.Tag
	}
	return err
}

func orNothing(version string) string {
	if version == "" {
		return "nothing of it"
	}
	return version
}

// Allowed says whether a plan may be done, without doing it.
func (t *Target) Allowed(p *Plan, o Options) error { return t.mayGo(p, o) }

// Maps are those that the deployment brought or left.
func (r *Result) Maps() (names []string) {
	for i := range r.Plan.Steps {
		if x := &r.Plan.Steps[i]; x.Role == Bundle && x.Action != Remove {
			names = append(names, x.want.Maps...)
		}
	}
	return names
}
