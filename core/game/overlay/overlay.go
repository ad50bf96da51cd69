// Package overlay lays a folder of replacements over an installed game: beside the game's own
// files, where the game's profile names a folder that takes their place, or in their place, with
// the originals kept (package transaction). It says which maps will look different, which will not
// and why, and what belongs to a swapped texture and was left out.
package overlay

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/transaction"
	"vornix/core/config/profile"
	"vornix/core/game/gamefs"
)

// MapChange is what becomes of a map.
type MapChange struct {
	Map     string `json:"map"`
	In      string `json:"in"` // the file that it lies in
	Changes bool   `json:"changes"`
	Why     string `json:"why"`
}

// FileChange is what happens to a file.
type FileChange struct {
	Path string `json:"path"` // in the game's folder
	Do   string `json:"do"`   // add, replace, leave
	Why  string `json:"why,omitempty"`
	Old  int64  `json:"old"` // bytes
	New  int64  `json:"new"`
}

// Plan is what laying a folder over a game comes to.
type Plan struct {
	Game    string       `json:"game"`   // the game's folder
	Folder  string       `json:"folder"` // that of the replacements
	Swaps   bool         `json:"swaps"`  // the game's own files are replaced
	Actions []FileChange `json:"actions"`
	Maps    []MapChange  `json:"maps"`
	Notes   []string     `json:"notes"`
	files   []file
	looked  fs.FileInfo // the game's folder, as it was when this was planned
}

// file is a replacement.
type file struct {
	path   string // that it replaces, in the game
	to     string // where it goes, in the game
	system string
	size   int64
	sum    string
	own    bool // the game has a file of that path
}

// Prepare works out what laying the folder from over the game in dir comes to. swaps replaces the
// game's own files. Nothing is changed.
func Prepare(ctx context.Context, p *profile.Profile, dir, from string, swaps bool) (*Plan, error) {
	if !swaps && p.Install.Overlay == "" {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: p.Game.Title + " has no folder whose files take the place of its own",
			Why:  "Its profile has no 'overlay' under [install], so only the files themselves can be replaced.",
			Do:   "Add --swap: the originals are kept, and 'vornix patch undo' brings them back."}
	}
	for _, d := range []string{dir, from} {
		if info, err := os.Stat(d); err != nil || !info.IsDir() {
			return nil, &fault.Fault{Kind: fault.Usage, What: "there is no folder " + filepath.ToSlash(d), Err: err,
				Do: "Name a folder of replacements, and the game's."}
		}
	}
	plan := &Plan{Game: filepath.ToSlash(dir), Folder: filepath.ToSlash(from), Swaps: swaps, Actions: []FileChange{},
		Maps: []MapChange{}, Notes: []string{}}
	looked, err := os.Stat(dir)
	if err != nil {
		return nil, err
	}
	plan.looked = looked
	err = filepath.WalkDir(from, func(name string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || e.IsDir() || !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			return err
		}
		rel, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		return plan.take(ctx, p, filepath.ToSlash(rel), name)
	})
	if err != nil {
		return nil, err
	}
	if len(plan.files) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is nothing in " + plan.Folder,
			Do: "Put the replacements there, at the paths that they have in the game."}
	}
	plan.looks(p, dir)
	plan.companions(p, dir)
	return plan, nil
}

// take adds a replacement.
func (plan *Plan) take(ctx context.Context, p *profile.Profile, rel, name string) error {
	if err := safefile.CheckForeign(rel); err != nil {
		return err
	}
	sum, size, err := safefile.HashFileUntil(ctx, name)
	if err != nil {
		return err
	}
	f := file{path: rel, to: rel, system: name, size: size, sum: sum}
	at := func(rel string) string { return filepath.Join(filepath.FromSlash(plan.Game), filepath.FromSlash(rel)) }
	original, err := os.Stat(at(rel))
	f.own = err == nil && original.Mode().IsRegular()
	if !plan.Swaps {
		f.to = path.Join(p.Install.Overlay, rel)
	} else if !f.own {
		f := &fault.Fault{Kind: fault.Refused, What: "the game has no " + rel,
			Place: fault.Place{File: filepath.ToSlash(name)},
			Why:   "Only what is there can be swapped. Nothing was changed.",
			Do:    "Give the replacement the path of the file that it is for."}
		if near := namesake(filepath.FromSlash(plan.Game), rel); near != "" {
			f.Do = "Did you mean " + near + "? " + f.Do
		}
		return f
	}
	a := FileChange{Path: f.to, Do: "add", New: size}
	switch info, err := os.Stat(at(f.to)); {
	case err == nil && info.Size() == size && sameHash(ctx, at(f.to), sum):
		a.Do, a.Old, a.Why = "leave", info.Size(), "it is there already"
	case err == nil:
		a.Do, a.Old, a.Why = "replace", info.Size(), "the original is kept"
	case f.own:
		a.Why = "over the game's own"
	default:
		a.Why = "nothing in the game has this path"
	}
	plan.Actions = append(plan.Actions, a)
	plan.files = append(plan.files, f)
	return nil
}

func sameHash(ctx context.Context, name, sum string) bool {
	have, _, err := safefile.HashFileUntil(ctx, name)
	return err == nil && have == sum
}

// namesake looks for a file of the game with the same name in another folder.
func namesake(dir, rel string) (found string) {
	_ = filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error { // what can't be read has no namesake
		if err == nil && !e.IsDir() && strings.EqualFold(e.Name(), path.Base(rel)) {
			if at, err := filepath.Rel(dir, name); err == nil {
				found = filepath.ToSlash(at)
				return filepath.SkipAll
			}
		}
		return nil
	})
	return found
}

// looks says of each map what becomes of it.
func (plan *Plan) looks(p *profile.Profile, dir string) {
	for _, m := range gamefs.GameMaps(p, dir) {
		var uses, carries []string
		for _, f := range plan.files {
			switch {
			case m.Carries[f.path]:
				carries = append(carries, f.path)
			case m.Uses[f.path] || f.path == m.In:
				uses = append(uses, f.path)
			}
		}
		l := MapChange{Map: m.Name, In: m.In}
		switch {
		case len(uses) > 0:
			l.Changes, l.Why = true, "it uses "+strings.Join(uses, ", ")
		case len(carries) > 0:
			l.Why = "it brings its own " + strings.Join(carries, ", ")
		default:
			l.Why = "it uses none of these"
		}
		plan.Maps = append(plan.Maps, l)
	}
	slices.SortStableFunc(plan.Maps, func(a, b MapChange) int { return strings.Compare(a.Map, b.Map) })
}

// companions notes what materials show together with a replaced texture, and nobody replaces: new
// colours under the old bumps look wrong.
func (plan *Plan) companions(p *profile.Profile, dir string) {
	replaced := map[string]bool{}
	for _, f := range plan.files {
		replaced[f.path] = true
	}
	read := func(rel string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, filepath.FromSlash(rel))) }
	folder := filepath.Join(dir, filepath.FromSlash(p.Files.Materials))
	// a game without such a folder has no materials
	_ = filepath.WalkDir(folder, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.EqualFold(path.Ext(e.Name()), ".toml") {
			return nil
		}
		rel, err := filepath.Rel(dir, name)
		if err != nil {
			return nil
		}
		var come, stay []string
		for _, n := range gamefs.NeedsOf(p, filepath.ToSlash(rel), read) {
			if !strings.HasPrefix(n.Path, p.Files.Textures+"/") {
				continue
			}
			if replaced[n.Path] {
				come = append(come, n.Path)
			} else if n.Why == "" {
				stay = append(stay, n.Path)
			}
		}
		if len(come) > 0 && len(stay) > 0 {
			plan.Notes = append(plan.Notes,
				fmt.Sprintf("%s shows %s together with %s, which stays as it is", filepath.ToSlash(rel),
					strings.Join(come, ", "), strings.Join(stay, ", ")))
		}
		return nil
	})
}

// Apply does what the plan says; nil when everything was there already.
func (plan *Plan) Apply(ctx context.Context) (*transaction.Record, error) {
	f, err := transaction.Open(ctx, filepath.FromSlash(plan.Game), "vornix patch overlay")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := f.IsStill(plan.looked); err != nil {
		return nil, err
	}
	var changes []transaction.Change
	for _, r := range plan.files {
		c := transaction.Change{File: transaction.File{Path: r.to, New: r.sum, NewSize: r.size}}
		if info, err := os.Stat(f.Join(r.to)); err == nil {
			c.Seen = info.ModTime()
		}
		if c.Old, c.OldSize, err = f.Hash(r.to); err != nil {
			return nil, err
		}
		if c.Old == c.New {
			continue
		}
		s, err := f.Stage()
		if err != nil {
			return nil, err
		}
		defer s.Abort()
		if err := s.Fill(ctx, r.system); err != nil {
			return nil, err
		}
		if s.SHA256() != r.sum {
			return nil, &fault.Fault{Kind: fault.Refused, What: "the replacement changed while it was read",
				Place: fault.Place{File: filepath.ToSlash(r.system)}, Why: "Nothing was changed.", Do: "Do it again."}
		}
		if err := s.Commit(); err != nil {
			return nil, err
		}
		c.Staged = s.Name()
		changes = append(changes, c)
	}
	if len(changes) == 0 {
		return nil, nil
	}
	return f.Commit(ctx, changes, transaction.Record{Kind: "overlay", Title: path.Base(plan.Folder), Notes: plan.Notes})
}
