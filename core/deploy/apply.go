package deploy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/fault"
	"vornix/core/safefile"
	"vornix/core/standin"
)

// Options for Apply.
type Options struct {
	Overwrite     bool // also overwrite what somebody else changed; it goes to the safe place
	WithoutServer bool // do not ask the game server, even where the target has one
}

// Result is how a deployment ended.
type Result struct {
	Changed int             // files added, changed or removed
	Status  *standin.Status // what the server says; nil when nobody was asked
}

// journal is what must be undone when a switch does not reach its end, and what Rollback undoes later.
type journal struct {
	Version string          `json:"version"` // that was there before
	Safe    string          `json:"safe"`    // folder of the copies; each switch has its own, so that a failed one harms no earlier one's
	Files   map[string]bool `json:"files"`   // by path: whether there was a file, whose copy is in the safe place
}

const (
	journalFile  = "journal.json"  // a switch is going on
	previousFile = "previous.json" // the last switch, finished: what Rollback undoes
	safeDir      = "safe"          // with a folder for the switch that is going on and one for the last
)

// Apply does what the plan says. When the server, asked afterwards, can't load a map, everything goes back.
func Apply(ctx context.Context, p *Plan, o Options) (*Result, error) {
	if drift := p.Drift(); len(drift) > 0 && !o.Overwrite {
		return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("on target %q, %s: %s", p.Target, drift[0].Path, drift[0].Drift),
			Why: fmt.Sprintf("Deploying would overwrite somebody's work (%d such files). Nothing was changed.", len(drift)),
			Do:  "Look at it; to overwrite it all the same, with a copy kept on the target, add --overwrite."}
	}
	client, err := p.place.dial(ctx, o.WithoutServer)
	if err != nil {
		return nil, err
	}
	lock, err := safefile.Acquire(filepath.Join(p.place.Dir, ownDir), "vornix deploy "+p.Target)
	if err != nil {
		return nil, err
	}
	defer lock.Release()
	d, err := safefile.OpenDir(p.place.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	r := &Result{Changed: p.Changes()}
	if _, err := d.Stat(p.place.own(journalFile)); err == nil {
		return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("a deployment to %q was killed half way since this plan was made", p.Target), Do: "Run the same command again."}
	}
	var j *journal
	if r.Changed > 0 {
		if j, err = p.change(ctx, d); err != nil {
			return nil, err
		}
	}
	if client != nil {
		if r.Status, err = askServer(ctx, client, p.maps, r.Changed > 0); err != nil {
			f := &fault.Fault{Kind: fault.KindOf(err), What: fmt.Sprintf("the server of target %q can't play the release", p.Target), Err: err,
				Why: "Its files are those of the release already; nothing was changed.", Do: "Try the bundle with 'vornix try'; look at the server's own answer."}
			if j != nil {
				f.Why = "Everything was put back as it was."
				if undoErr := p.place.undo(d, j, journalFile); undoErr != nil {
					return r, halfUndone(p.Target, undoErr)
				}
				_, _ = client.Reload(context.WithoutCancel(ctx)) // it goes back to what it played
			}
			return r, f
		}
	}
	if j != nil {
		return r, p.place.finish(d, j)
	}
	return r, nil
}

// halfUndone says that putting files back failed; the journal is still there.
func halfUndone(target string, err error) error {
	return &fault.Fault{What: fmt.Sprintf("files of target %q could not be put back", target), Err: err,
		Why: "Some are of the new release and some of the old.", Do: "Mend the cause and run the same command again: it puts the rest back first."}
}

// finish makes a switch the one that Rollback undoes, and lets go of the one before it.
func (pl Place) finish(d *safefile.Dir, j *journal) error {
	if err := d.Move(pl.own(journalFile), pl.own(previousFile)); err != nil {
		return err
	}
	return d.RemoveTree(pl.own(path.Join(safeDir, otherSafe(j.Safe))))
}

// otherSafe is the safe folder that a switch takes when the last one has this.
func otherSafe(last string) string {
	if last == "a" {
		return "b"
	}
	return "a"
}

// Recover undoes a deployment that was killed half way, if there was one, and removes what it left. Call it before a
// plan that is to be applied. folders are those that files are deployed to.
func Recover(pl Place, folders ...string) (undone bool, err error) {
	lock, err := safefile.Acquire(filepath.Join(pl.Dir, ownDir), "vornix deploy "+pl.Name)
	if err != nil {
		return false, err
	}
	defer lock.Release()
	d, err := safefile.OpenDir(pl.Dir)
	if err != nil {
		return false, err
	}
	defer d.Close()
	d.CleanTempIn(folders...)
	d.CleanTempBelow(ownDir)
	return pl.undoKilled(d)
}

// dial finds the target's server, when it has one that is to be asked.
func (pl Place) dial(ctx context.Context, without bool) (*standin.Client, error) {
	if pl.Server == "" || without {
		return nil, nil
	}
	c, err := standin.Dial(ctx, pl.Server, pl.Dir, pl.Token)
	var f *fault.Fault
	if errors.As(err, &f) {
		f.Do += " (To copy the files without asking a server: --without-server.)"
	}
	return c, err
}

// change stages, verifies and switches.
func (p *Plan) change(ctx context.Context, d *safefile.Dir) (*journal, error) {
	var staged []stagedStep
	defer func() {
		for _, s := range staged {
			s.file.Abort()
		}
	}()
	for _, s := range p.Steps {
		if s.Action != Add && s.Action != Change {
			continue
		}
		f, err := s.stage(ctx, d)
		if err != nil {
			return nil, err
		}
		staged = append(staged, stagedStep{s, f})
	}
	m, err := p.place.readManifest(d)
	if err != nil {
		return nil, err
	}
	j := &journal{Version: m.Version, Safe: "a", Files: map[string]bool{}}
	if last := journalOf(d, p.place.own(previousFile)); last != nil {
		j.Safe = otherSafe(last.Safe)
	}
	if err := d.RemoveTree(p.place.own(path.Join(safeDir, j.Safe))); err != nil { // what a run that was killed before its journal left
		return nil, err
	}
	keep := []string{p.place.own("manifest.json")}
	for _, s := range p.Steps {
		if s.Action != Leave {
			keep = append(keep, s.Path)
		}
	}
	for _, rel := range keep {
		_, err := d.Stat(rel)
		j.Files[rel] = err == nil
		if err == nil {
			if _, _, err := d.CopyFrom(ctx, d.Join(rel), p.place.safe(j, rel)); err != nil {
				return nil, err
			}
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, err // the last moment at which nothing has been changed yet
	}
	if err := writeJSON(d, p.place.own(journalFile), j); err != nil {
		return nil, err
	}
	if err := p.switchOver(d, staged); err != nil {
		if undoErr := p.place.undo(d, j, journalFile); undoErr != nil {
			return nil, halfUndone(p.Target, errors.Join(err, undoErr))
		}
		return nil, err
	}
	return j, nil
}

type stagedStep struct {
	Step
	file *safefile.File
}

// stage writes a step's file beside its place and verifies it.
func (s *Step) stage(ctx context.Context, d *safefile.Dir) (*safefile.File, error) {
	f, err := d.Create(s.Path)
	if err != nil {
		return nil, err
	}
	if s.List {
		_, err = f.Write(s.data)
	} else {
		err = f.Fill(ctx, s.source)
		if err == nil && f.SHA256() != s.sha256 {
			err = &fault.Fault{What: fmt.Sprintf("%s changed while it was being deployed", s.source), Why: "What would arrive is not what was packed. Nothing was changed.", Do: "Pack again, then deploy."}
		}
	}
	if err != nil {
		f.Abort()
		return nil, err
	}
	return f, nil
}

// switchOver puts staged files in their places, in the plan's order (bundles before lists), then removes old ones, then
// writes the manifest.
func (p *Plan) switchOver(d *safefile.Dir, staged []stagedStep) error {
	for _, s := range staged {
		if err := s.file.Commit(); err != nil {
			return err
		}
	}
	m := manifest{Project: p.place.Project, Version: p.Version, Files: map[string]string{}, Lists: p.lists}
	for _, s := range p.Steps {
		switch {
		case s.Action == Remove:
			if err := d.Remove(s.Path); err != nil {
				return err
			}
		case !s.List:
			m.Files[s.Path] = s.sha256
		}
	}
	return writeJSON(d, p.place.own("manifest.json"), m)
}

func writeJSON(d *safefile.Dir, rel string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return d.WriteFile(rel, append(data, '\n'))
}

func (pl Place) safe(j *journal, rel string) string {
	return path.Join(pl.own(safeDir), j.Safe, rel)
}

func journalOf(d *safefile.Dir, rel string) *journal {
	j := &journal{}
	data, err := d.ReadFile(rel)
	if err != nil || json.Unmarshal(data, j) != nil {
		return nil
	}
	return j
}

// undo brings every file of a journal back, then forgets the journal, which is the file of that name. It can be repeated
// after a crash.
func (pl Place) undo(d *safefile.Dir, j *journal, file string) error {
	for rel, had := range j.Files {
		var err error
		if had {
			_, _, err = d.CopyFrom(context.Background(), d.Join(pl.safe(j, rel)), rel)
		} else {
			err = d.Remove(rel)
		}
		if err != nil {
			return fmt.Errorf("putting %s back: %w", rel, err)
		}
	}
	if err := d.Remove(pl.own(file)); err != nil {
		return err
	}
	return d.RemoveTree(pl.own(path.Join(safeDir, j.Safe)))
}

// undoKilled undoes a switch whose run was killed.
func (pl Place) undoKilled(d *safefile.Dir) (bool, error) {
	if _, err := d.Stat(pl.own(journalFile)); errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	j := journalOf(d, pl.own(journalFile))
	if j == nil {
		return false, &fault.Fault{What: "the journal of a killed deployment is damaged", Place: fault.Place{File: d.Join(pl.own(journalFile))},
			Why: "What was there before is in " + d.Join(pl.own(safeDir)) + ".", Do: "Copy it back by hand and delete the journal."}
	}
	return true, pl.undo(d, j, journalFile)
}

// askServer asks whether the maps are loaded, after telling it to load anew when that is needed.
func askServer(ctx context.Context, c *standin.Client, maps []string, changed bool) (*standin.Status, error) {
	st, err := c.Status(ctx)
	if err == nil && (changed || !allLoaded(st, maps)) {
		st, err = c.Reload(ctx)
	}
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Unreachable, What: "the game server stopped answering", Err: err}
	}
	if allLoaded(st, maps) {
		return st, nil
	}
	var reasons []string
	for _, name := range maps {
		if m := st.Find(name); m == nil {
			reasons = append(reasons, name+": the server does not have it")
		} else if !m.Loaded {
			reasons = append(reasons, name+": "+m.Error)
		}
	}
	return st, errors.New(strings.Join(reasons, "; "))
}

func allLoaded(st *standin.Status, maps []string) bool {
	return !slices.ContainsFunc(maps, func(name string) bool {
		m := st.Find(name)
		return m == nil || !m.Loaded
	})
}

// Back is what a Rollback would do.
type Back struct {
	Target  string   `json:"target"`
	Version string   `json:"version"` // that will be there again; "" for none
	Restore []string `json:"restore"`
	Remove  []string `json:"remove"`
}

// PlanRollback says what Rollback would do. It changes nothing.
func PlanRollback(pl Place) (*Back, error) {
	d, err := safefile.OpenDir(pl.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	j := journalOf(d, pl.own(previousFile))
	if j == nil {
		return nil, nothingToUndo(pl)
	}
	b := &Back{Target: pl.Name, Version: j.Version, Restore: []string{}, Remove: []string{}}
	for _, rel := range slices.Sorted(maps.Keys(j.Files)) {
		switch {
		case strings.HasPrefix(rel, ownDir+"/"):
		case j.Files[rel]:
			b.Restore = append(b.Restore, rel)
		default:
			b.Remove = append(b.Remove, rel)
		}
	}
	return b, nil
}

func nothingToUndo(pl Place) error {
	return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q has nothing to go back to", pl.Name), Why: "Only the last deployment can be undone, once.", Do: "Deploy the version that you want there."}
}

// Rollback undoes the last deployment to a target, from the target's own safe place, and tells the server. It returns
// the version that is there now.
func Rollback(ctx context.Context, pl Place, withoutServer bool) (version string, err error) {
	client, err := pl.dial(ctx, withoutServer)
	if err != nil {
		return "", err
	}
	lock, err := safefile.Acquire(filepath.Join(pl.Dir, ownDir), "vornix deploy rollback "+pl.Name)
	if err != nil {
		return "", err
	}
	defer lock.Release()
	d, err := safefile.OpenDir(pl.Dir)
	if err != nil {
		return "", err
	}
	defer d.Close()
	if _, err := pl.undoKilled(d); err != nil {
		return "", err
	}
	j := journalOf(d, pl.own(previousFile))
	if j == nil {
		return "", nothingToUndo(pl)
	}
	if err := pl.undo(d, j, previousFile); err != nil {
		return "", halfUndone(pl.Name, err)
	}
	if client != nil {
		if _, err := client.Reload(ctx); err != nil {
			return j.Version, &fault.Fault{Kind: fault.Unreachable, What: "the files are back, but the server could not be told", Err: err, Do: "Restart the server."}
		}
	}
	return j.Version, nil
}

// State is what a target has now.
type State struct {
	Target  string   `json:"target"`
	Version string   `json:"version,omitempty"` // "" when nothing of the project is there
	Drift   []string `json:"drift"`             // files that are not as they were deployed
	Error   string   `json:"error,omitempty"`   // why it could not be looked at
}

// Look says what a target has, by its own record and by content.
func Look(pl Place) (*State, error) {
	d, err := safefile.OpenDir(pl.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	m, err := pl.readManifest(d)
	if err != nil {
		return nil, err
	}
	st := &State{Target: pl.Name, Version: m.Version, Drift: []string{}}
	for rel, want := range m.Files {
		if sum, _, err := safefile.HashFile(d.Join(rel)); err != nil || sum != want {
			st.Drift = append(st.Drift, rel)
		}
	}
	slices.Sort(st.Drift)
	return st, nil
}
