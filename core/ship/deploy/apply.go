package deploy

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/config/trust"
	"vornix/core/game/gameserver"
	"vornix/core/ship/transport"
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
	Plan    *Plan              `json:"plan"`
	Changed int                `json:"changed"`          // files added, changed or removed
	Sent    int64              `json:"sent"`             // bytes
	Reused  int64              `json:"reused"`           // bytes that were there, in files alike or from an earlier try
	Undone  string             `json:"undone,omitempty"` // what did not come to its end earlier, and was undone first
	Commit  string             `json:"commit,omitempty"` // of a Git repository
	Tag     string             `json:"tag,omitempty"`
	Status  *gameserver.Status `json:"server,omitempty"` // what the server says; nil when nobody was asked
	Seconds float64            `json:"seconds"`
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
	SHA256 string `json:"sha256,omitempty"` // of the kept original; empty if there was none
	// Was is the old spelling of the file's name, where the switch changes it.
	Was string `json:"was,omitempty"`
	// Ours are the contents that the switch puts there. What is neither of these nor what was there is somebody else's.
	Ours []string `json:"ours,omitempty"`
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

// Run brings the target to the goal. shown is the plan that was agreed to. When the target has
// changed since, a new plan is made; one that would do something else is refused.
func (t *Target) Run(ctx context.Context, goal *Goal, shown *Plan, o Options) (r *Result, err error) {
	start := time.Now()
	if t.readOnly() {
		return nil, &fault.Fault{Kind: fault.Usage,
			What:  fmt.Sprintf("target %q is a web folder, which can only be read", t.Name),
			Place: fault.Place{File: t.where},
			Do:    "Compare it with --plan and --verify. How its files get there is a target of its own (folder, sftp, git or webdav)."}
	}
	client, err := t.dial(ctx, o.WithoutServer)
	if err != nil {
		return nil, err
	}
	l, end, err := t.hold(ctx, o.Command)
	if err != nil {
		return nil, err
	}
	defer end()
	agreed := shown
	t.sweep(goal)
	if t.git != nil && t.git.Own() { // the other kind has been brought up to date when it was opened
		moved, err := t.git.Refresh(ctx)
		if err != nil {
			return nil, onTarget(t.Name, err)
		}
		if moved {
			shown = nil
		}
	}
	for try := 1; ; try++ {
		r, err = t.once(ctx, l, client, goal, shown, agreed, o)
		if !errors.Is(err, transport.ErrBehind) {
			break
		}
		if try == 3 {
			return nil, &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("target %q: others change the same files all the time", t.Name), Err: err,
				Why: "Nothing of this deployment was pushed.", Do: "Agree with them, then deploy again."}
		}
		shown = nil
		if _, err := t.git.Refresh(ctx); err != nil {
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
func (t *Target) once(ctx context.Context, l *lock, client *gameserver.Client, goal *Goal, shown, agreed *Plan,
	o Options) (*Result, error) {
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
		raw, err := t.site.Read(ctx, t.own(headFile), maxHead)
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
		if p, err = t.compare(ctx, goal, s, nil, PlanOptions{o.Verify}); err != nil {
			return nil, err
		}
		if agreed != nil && p.Changes() > 0 && !agreed.leadsTo(p) {
			return nil, t.otherPlan(agreed, p)
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
	if errors.Is(err, errBroken) {
		return r, err
	}
	if err != nil {
		if undoErr := t.undo(ctx, j); undoErr != nil {
			return r, t.halfUndone(errors.Join(err, undoErr))
		}
		if !errors.Is(err, transport.ErrBehind) {
			again, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			_ = t.runCommand(again) // for the restored files; the command may be what hangs
			stop()
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

// leadsTo says whether another plan does the same. Lists are everybody's: with new lines of others
// the same change of a list has another result.
func (p *Plan) leadsTo(other *Plan) bool {
	same := func(a, b FileChange) bool {
		return a.Path == b.Path && a.Action == b.Action && a.Drift == b.Drift &&
			(a.want.SHA256 == b.want.SHA256 || a.Role == Listing)
	}
	return p.Before == other.Before && slices.EqualFunc(p.Steps, other.Steps, same)
}

// otherPlan refuses a plan that differs from the agreed one.
func (t *Target) otherPlan(agreed, now *Plan) error {
	f := &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q changed after the plan was made", t.Name),
		Why: "What would be done now is not what was agreed to. Nothing was changed.",
		Do:  "Run the same command again: it shows the new plan."}
	if l := now.Last; l != nil && (agreed.Last == nil || *agreed.Last != *l) {
		f.What = fmt.Sprintf("target %q changed after the plan was made: %s of version %s by %s", t.Name, l.Kind,
			orNothing(l.Version), l.By)
	}
	return f
}

// settled says whether what is remembered is what the plan leads to, so that there is nothing to write down either.
func (t *Target) settled(p *Plan) bool {
	now := p.state.now()
	if now.Version != p.Version || len(p.state.records) == 0 && len(p.Steps) > 0 {
		return false
	}
	if last := p.state.last(); p.goal.Release && last != nil && last.Kind == Deploying && !last.Release {
		return false // that it is a release's has to be written down
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
	if err := t.consent(); err != nil {
		return err
	}
	if drift := p.Drift(); len(drift) > 0 && !o.Overwrite {
		f := &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("on target %q, %s: %s", p.Target, drift[0].Path, drift[0].Drift),
			Why:  fmt.Sprintf("The deployment would overwrite changes that others made (%d such files). Nothing was changed.", len(drift)),
			Do:   "Look at the file. To overwrite it, with a copy kept on the target, add --overwrite."}
		if drift[0].Role == Page {
			f.Do += fmt.Sprintf(" To leave the page to others, write page = false in [target.%s].", t.Name)
		}
		return f
	}
	if p.playing == 0 && p.goal.only {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("on target %q nothing would be left in %s", p.Target, t.profile.Server.Playing),
			Why:  "A server with an empty rotation plays nothing. Nothing was changed.",
			Do:   "Put something else into the rotation first."}
	}
	return nil
}

// halfUndone says that putting files back failed; the journal is still there.
func (t *Target) halfUndone(err error) error {
	f := &fault.Fault{Kind: fault.KindOf(err), What: fmt.Sprintf("files of target %q could not be put back", t.Name),
		Err: err, Place: fault.Place{File: t.where},
		Why: "Some may be of the new release and some of the old; what was there before is safe, and no list names a map that is not whole.", Do: "Mend the cause and run the same command again: it puts the rest back first."}
	if errors.Is(err, transport.ErrLost) {
		f.Kind = fault.Unreachable
		f.What = fmt.Sprintf("the connection to target %q was lost in the middle of the switch", t.Name)
	}
	return f
}

// ask asks the server, when there is one. What it can't play is undone, where j says what was.
func (t *Target) ask(ctx context.Context, client *gameserver.Client, p *Plan, r *Result, j *journal) error {
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
	f := &fault.Fault{Kind: fault.KindOf(err),
		What: fmt.Sprintf("the server of target %q can't play the release", t.Name), Err: err,
		Why: "Its files are those of the release already; nothing was changed.",
		Do:  "Try the bundle with 'vornix try'; look at the server's own answer."}
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

// consent refuses what a person has to allow first: the target's command, and the hooks of a repository.
func (t *Target) consent() error {
	if t.git != nil {
		return onTarget(t.Name, t.git.Refused())
	}
	if _, ok := t.site.(transport.Runner); t.about.Command != "" && ok {
		return t.allowed(trust.Command(t.p, t.Name))
	}
	return nil
}

// runCommand runs the target's own command on its side.
func (t *Target) runCommand(ctx context.Context) error {
	run, ok := t.site.(transport.Runner)
	if t.about.Command == "" || !ok {
		return nil
	}
	longest := time.Duration(cmp.Or(t.about.Longest, 60)) * time.Second
	limited, stop := context.WithTimeout(ctx, longest)
	defer stop()
	out, err := run.Run(limited, t.about.Command)
	if err != nil && ctx.Err() == nil && limited.Err() != nil {
		err = fmt.Errorf("it did not end in %s (longest)", longest)
	}
	if err != nil {
		return &fault.Fault{What: fmt.Sprintf("the command of target %q failed: %s", t.Name, t.about.Command), Err: err,
			Why: "Everything was put back as it was.", Do: "Try it there by hand. " + firstLine(out)}
	}
	return nil
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s
}

// journal reads what a run that did not come to its end left; nil for nothing.
func (t *Target) journal(ctx context.Context) (*journal, error) {
	data, err := t.site.Read(ctx, t.own(journalFile), maxRecord)
	if absent(err) || t.readOnly() {
		return nil, nil
	}
	if err != nil {
		return nil, t.explain("read", t.own(journalFile), err)
	}
	j := &journal{}
	if err = json.Unmarshal(data, j); err == nil {
		for _, k := range j.Files {
			f := &File{SHA256: k.SHA256}
			if k.SHA256 == "" {
				f = nil // there was none
			}
			if err == nil {
				err = believable(k.Path, f)
			}
			if err == nil && k.Was != "" {
				err = believable(k.Was, f)
			}
		}
	}
	if err != nil {
		return nil, &fault.Fault{What: fmt.Sprintf("target %q: the journal of a deployment that did not come to its end is damaged", t.Name),
			Place: fault.Place{File: t.where + "/" + t.own(journalFile)}, Err: err,
			Why: "What was there before is in " + t.own(safeDir) + ", by its SHA-256.",
			Do:  "Copy it back by hand and delete the journal."}
	}
	return j, nil
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
