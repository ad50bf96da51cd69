package release

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"slices"

	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

// A rehearsal makes and tries a release where a real one would, so that it is one. The files from
// before are kept in rehearsalDir, as hard links where the file system has them. They return when
// the session ends; after a killed rehearsal, with the next session. Only the cache keeps the new
// results.
const (
	rehearsalDir  = project.StateDir + "/rehearsal"
	rehearsalList = rehearsalDir + "/before.json"
	// rehearsalNotes is a copy of the notes that the rehearsal wrote. Other notes are the user's own, and stay.
	rehearsalNotes = rehearsalDir + "/notes"
)

// before says what is kept. It is written when everything is.
type before struct {
	Out   []string `json:"out"`             // names in out/
	State []string `json:"state"`           // names in .vornix/
	Notes string   `json:"notes,omitempty"` // the notes of the version that is rehearsed, as a path in the project
}

// What a rehearsal does not change: finished versions, and what is not of this run.
var (
	restOfOut   = []string{"releases", "reports"}
	restOfState = []string{"cache", "safe", "ledger.jsonl", "lock", "lock.json", "machines", "shared.json", "targets",
		"mirror", "git", "play", path.Base(rehearsalDir)}
)

// Rehearse begins a rehearsal of a version, if none has begun. Close ends it.
func (s *Session) Rehearse(ctx context.Context, version string) error {
	if s.rehearses {
		return nil
	}
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.RemoveTree(rehearsalDir); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	b := before{Notes: NotesFile(s.P, version)}
	if b.Out, err = keepAside(ctx, d, project.OutDir, restOfOut); err != nil {
		return err
	}
	if b.State, err = keepAside(ctx, d, project.StateDir, restOfState); err != nil {
		return err
	}
	data, err := json.MarshalIndent(b, "", "  ")
	if err != nil {
		return err
	}
	s.rehearses = true
	return d.WriteFile(rehearsalList, append(data, '\n'))
}

// keepAside links all files of a folder of the project, but those that rest, into the rehearsal's
// folder, and gives their names.
func keepAside(ctx context.Context, d *safefile.Dir, folder string, rest []string) (names []string, err error) {
	names, err = within(d, folder, rest)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		err := fs.WalkDir(d.FS(), path.Join(folder, name), func(rel string, e fs.DirEntry, err error) error {
			to := path.Join(rehearsalDir, rel)
			switch {
			case err != nil:
				return err
			case e.IsDir():
				return d.MakeFolder(to)
			case e.Type().IsRegular() && !safefile.IsTemp(e.Name()):
				return d.LinkFrom(ctx, rel, to)
			}
			return ctx.Err()
		})
		if err != nil {
			return nil, err
		}
	}
	return names, nil
}

// within gives the names in a folder of the project, but those that rest.
func within(d *safefile.Dir, folder string, rest []string) ([]string, error) {
	entries, err := fs.ReadDir(d.FS(), folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	names := []string{}
	for _, e := range entries {
		if !slices.Contains(rest, e.Name()) && !safefile.IsTemp(e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// endRehearsal restores the files from before a rehearsal, if there was one. It can be repeated after a crash.
func endRehearsal(p *project.Project) error {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.Stat(rehearsalDir); err != nil {
		return nil
	}
	var b before
	data, err := d.ReadFile(rehearsalList)
	odd := func(name string) bool { return name != path.Base(name) || safefile.CheckPath(name) != nil }
	// it was stopped before it changed anything
	if err != nil || json.Unmarshal(data, &b) != nil || slices.ContainsFunc(slices.Concat(b.Out, b.State), odd) {
		return d.RemoveTree(rehearsalDir)
	}
	for _, part := range []struct {
		folder string
		names  []string
		rest   []string
	}{{project.OutDir, b.Out, restOfOut}, {project.StateDir, b.State, restOfState}} {
		now, err := within(d, part.folder, part.rest)
		if err != nil {
			return err
		}
		for _, name := range now {
			if slices.Contains(part.names, name) {
				continue
			}
			if err := d.RemoveTree(path.Join(part.folder, name)); err != nil {
				return err
			}
		}
		for _, name := range part.names {
			kept, to := path.Join(rehearsalDir, part.folder, name), path.Join(part.folder, name)
			if _, err := d.Stat(kept); err != nil {
				continue // it is back already
			}
			if _, err := d.Stat(to); err == nil {
				if err := d.RemoveTree(to); err != nil {
					return err
				}
			}
			if err := d.Move(kept, to); err != nil {
				return err
			}
		}
	}
	if written, err := d.ReadFile(rehearsalNotes); err == nil && safefile.CheckPath(b.Notes) == nil {
		if now, err := d.ReadFile(b.Notes); err == nil && bytes.Equal(now, written) {
			if err := d.Remove(b.Notes); err != nil {
				return err
			}
		}
	}
	return d.RemoveTree(rehearsalDir)
}

// EndRehearsal restores the files from before a rehearsal, if a rehearsal began. Close does so too,
// but can't say when it fails.
func (s *Session) EndRehearsal() error {
	if !s.rehearses {
		return nil
	}
	err := endRehearsal(s.P)
	s.rehearses = err != nil
	return err
}
