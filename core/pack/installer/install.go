package installer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"

	"vornix/core/base/fault"
	"vornix/core/base/transaction"
)

// kind is what an installation's records are called among those of patches and overlays.
const kind = "install"

// FileChange is what happens to a file.
type FileChange struct {
	Path string `json:"path"`
	Do   string `json:"do"` // add, replace, leave, remove, bring back, keep
	Why  string `json:"why,omitempty"`
	Size int64  `json:"size"`
}

// Installation is a package and a game's folder. It changes the folder as patches do (package
// transaction): at once, with a journal, and with the originals of the files that it replaces.
type Installation struct {
	p *Package
	f *transaction.Folder
}

// Begin opens a game's folder for installing into it. What a killed run left there is brought to an end first.
func (p *Package) Begin(ctx context.Context, game string) (*Installation, error) {
	if !p.IsGame(game) {
		f := &fault.Fault{Kind: fault.Refused, What: p.Game + " is not in this folder",
			Place: fault.Place{File: filepath.ToSlash(game)}, Why: "Its file " + p.Marker + " is not there.",
			Do: "Name the game's folder: --game DIR"}
		if p.Marker == "" {
			f.Why = "The folder does not exist."
		}
		return nil, f
	}
	f, err := transaction.Open(ctx, game, "installing "+p.Title)
	if err != nil {
		return nil, err
	}
	return &Installation{p, f}, nil
}

// Close frees the folder. A folder without installations gets no records.
func (in *Installation) Close() { in.f.Close() }

// installed are the records of the package, the oldest first. There are two only where a run was
// killed before it made one of them.
func (in *Installation) installed() (list []transaction.Record) {
	for _, r := range in.f.Records() {
		if r.Kind == kind && r.Name == in.p.Name && !r.Undone {
			list = append(list, r)
		}
	}
	return list
}

// record is what is installed now; nil for nothing.
func (in *Installation) record(ctx context.Context) (*transaction.Record, error) {
	list := in.installed()
	if len(list) == 0 {
		return nil, nil
	}
	all := list[0]
	for _, r := range list[1:] {
		all = in.merged(all, r)
	}
	if len(list) > 1 {
		if err := in.f.Merge(ctx, list, all); err != nil {
			return nil, err
		}
		all = in.installed()[0]
	}
	return &all, nil
}

// merged joins a record and a later one: its old files are those from before the first, its new
// files those after the second.
func (in *Installation) merged(a, b transaction.Record) transaction.Record {
	m := b
	m.Files = nil
	m.From = cmp.Or(a.From, b.From)
	for _, f := range a.Files {
		later := in.find(&b, f.Path)
		switch {
		case later == nil:
			m.Files = append(m.Files, f)
		case later.New == f.Old && later.Path == f.Before(): // it is as it was before both
		default:
			before := f.Before()
			f.Path, f.Was, f.New, f.NewSize = later.Path, "", later.New, later.NewSize
			if f.Old != "" && before != f.Path {
				f.Was = before
			}
			m.Files = append(m.Files, f)
		}
	}
	for _, f := range b.Files {
		if in.find(&a, f.Path) == nil {
			m.Files = append(m.Files, f)
		}
	}
	return m
}

// find is a file of a record; nil for none.
func (in *Installation) find(r *transaction.Record, rel string) *transaction.File {
	if r != nil {
		if i := slices.IndexFunc(r.Files, func(f transaction.File) bool { return in.f.Same(f.Path, rel) }); i >= 0 {
			return &r.Files[i]
		}
	}
	return nil
}

// step is an action, and what is known of the file.
type step struct {
	FileChange
	file  File              // of the package; a zero one goes
	mine  *transaction.File // as it was installed; nil for one that was not
	sum   string            // SHA-256 of the file in the folder; empty for none
	size  int64
	aside bool // the installed file was changed: it is moved aside
}

// steps says what installing would do; all is set, and whatever is installed goes, when the package is uninstalled.
func (in *Installation) steps(old *transaction.Record, uninstall bool) (list []step, err error) {
	add := func(s step) error {
		if s.sum, s.size, err = in.f.Hash(s.Path); err != nil {
			return err
		}
		s.decide(old)
		list = append(list, s)
		return nil
	}
	if !uninstall {
		for _, f := range in.p.Files {
			if err := add(step{FileChange: FileChange{Path: f.Path, Size: f.Size}, file: f,
				mine: in.find(old, f.Path)}); err != nil {
				return nil, err
			}
		}
	}
	if old == nil {
		return list, nil
	}
	for i := range old.Files {
		f := &old.Files[i]
		if !uninstall && slices.ContainsFunc(in.p.Files, func(n File) bool { return in.f.Same(n.Path, f.Path) }) {
			continue
		}
		if err := add(step{FileChange: FileChange{Path: f.Path, Size: f.NewSize}, mine: f}); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// decide sets what is done with the file.
func (s *step) decide(old *transaction.Record) {
	changed := s.mine != nil && s.sum != "" && s.sum != s.mine.New
	if s.file.Path != "" {
		switch {
		case s.sum == s.file.SHA256:
			s.Do = "leave"
		case s.sum == "":
			s.Do = "add"
		case changed:
			s.Do, s.Why, s.aside = "replace", "it was changed since; the changed file is moved aside", true
		case s.mine != nil:
			s.Do, s.Why = "replace", "version "+old.To
		default:
			s.Do, s.Why = "replace", "the existing file is kept, and restored on uninstall"
		}
		return
	}
	switch {
	case s.mine.Old == "" && s.sum == "":
		s.Do, s.Why = "leave", "it is gone already"
	case s.mine.Old == "" && changed:
		s.Do, s.Why = "keep", "it was changed since"
	case s.mine.Old == "":
		s.Do = "remove"
	case changed:
		s.Do, s.Why, s.aside = "bring back", "it was changed since; the changed file is moved aside", true
	default:
		s.Do, s.Why = "bring back", "the file from before the installation"
	}
}

func actions(list []step) []FileChange {
	out := []FileChange{}
	for _, s := range list {
		out = append(out, s.FileChange)
	}
	return out
}

// Plan says what Install would do.
func (in *Installation) Plan(ctx context.Context) ([]FileChange, error) {
	old, err := in.record(ctx)
	if err != nil {
		return nil, err
	}
	list, err := in.steps(old, false)
	return actions(list), err
}

// Install carries out the plan completely, or changes nothing.
func (in *Installation) Install(ctx context.Context) ([]FileChange, error) {
	if err := in.p.Verify(ctx); err != nil {
		return nil, err
	}
	old, err := in.record(ctx)
	if err != nil {
		return nil, err
	}
	list, err := in.steps(old, false)
	if err != nil {
		return nil, err
	}
	r := transaction.Record{Kind: kind, Name: in.p.Name, Title: in.p.Title, To: in.p.Version}
	if old != nil {
		r.From = old.To
	}
	var changes []transaction.Change
	for i := range list {
		s := &list[i]
		c, err := in.change(ctx, s)
		if err != nil {
			return nil, err
		}
		if c != nil {
			changes = append(changes, *c)
		}
	}
	if len(changes) == 0 && old != nil && old.To == in.p.Version {
		return actions(list), nil
	}
	if _, err := in.f.Commit(ctx, changes, r); err != nil {
		return nil, err
	}
	_, err = in.record(context.WithoutCancel(ctx)) // one of both
	return actions(list), err
}

// change is what Swap has to do for a step; nil for nothing.
func (in *Installation) change(ctx context.Context, s *step) (*transaction.Change, error) {
	if s.Do == "leave" || s.Do == "keep" {
		return nil, nil
	}
	if s.aside {
		at, err := in.f.SetAside(ctx, s.Path)
		if err != nil {
			return nil, err
		}
		s.Why = "it was changed since; the changed file is in " + at
	}
	c := &transaction.Change{File: transaction.File{Path: s.Path, Old: s.sum, OldSize: s.size}}
	var err error
	switch {
	case s.file.Path != "":
		c.New, c.NewSize = s.file.SHA256, s.file.Size
		c.Staged, err = in.stage(s.file)
	case s.mine.Old != "":
		c.New, c.NewSize = s.mine.Old, s.mine.OldSize
		c.Staged, err = in.f.StageBackup(ctx, *s.mine)
	}
	return c, err
}

// stage writes a file of the package beside.
func (in *Installation) stage(f File) (string, error) {
	to, err := in.f.Stage()
	if err != nil {
		return "", err
	}
	defer to.Abort()
	if err := in.p.archive.Find("files/"+f.Path).Copy(in.f.Context(), to); err != nil {
		return "", err
	}
	if to.SHA256() != f.SHA256 {
		return "", damaged(f.Path, errors.New("its hash is another"))
	}
	return to.Name(), to.Commit()
}

// PlanAway says what Uninstall would do.
func (in *Installation) PlanAway(ctx context.Context) ([]FileChange, error) {
	_, list, err := in.away(ctx)
	return actions(list), err
}

func (in *Installation) away(ctx context.Context) (*transaction.Record, []step, error) {
	r, err := in.record(ctx)
	if err != nil {
		return nil, nil, err
	}
	if r == nil {
		return nil, nil,
			&fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%s is not installed there", in.p.Title),
				Do: "Name the game's folder: --game DIR"}
	}
	list, err := in.steps(r, true)
	return r, list, err
}

// Uninstall removes the installed files and restores the originals. A changed file is kept: it is
// moved aside where an original returns, and stays in its place otherwise.
func (in *Installation) Uninstall(ctx context.Context) ([]FileChange, error) {
	r, list, err := in.away(ctx)
	if err != nil {
		return nil, err
	}
	aside, err := in.f.RollBack(ctx, r, transaction.Aside)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].aside && len(aside) > 0 {
			list[i].Why, aside = "it was changed since; the changed file is in "+aside[0], aside[1:]
		}
	}
	return actions(list), in.f.Forget(ctx, func(o transaction.Record) bool { return o.ID == r.ID })
}
