package installer

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"

	"vornix/core/fault"
	"vornix/core/safefile"
)

// RecordDir is the folder in a game's in which installations are recorded, each in a folder of its name.
const RecordDir = "vornix-installed"

const (
	recordFile = "installed.json"
	backupDir  = "backup"
)

// Record says what was installed: written before the first file is, so that a run that was killed can be finished or undone.
type Record struct {
	Format  int         `json:"format"`
	Title   string      `json:"title"`
	Version string      `json:"version"`
	Files   []Installed `json:"files"`
}

// Installed is a file of an installation.
type Installed struct {
	File
	Backup string `json:"backup,omitempty"` // SHA-256 of what stood there before, kept in the folder of backups
	Before string `json:"before,omitempty"` // while a version follows another: SHA-256 of the older one's file
}

// Action is what happens to a file.
type Action struct {
	Path string `json:"path"`
	Do   string `json:"do"` // add, replace, leave, remove, bring back, keep
	Why  string `json:"why,omitempty"`
	Size int64  `json:"size"`
}

// Installation is a package and a game's folder.
type Installation struct {
	p    *Package
	d    *safefile.Dir
	lock *safefile.Lock
}

// Begin opens a game's folder for installing into it.
func (p *Package) Begin(game string) (*Installation, error) {
	if !p.IsGame(game) {
		f := &fault.Fault{Kind: fault.Refused, What: p.Game + " is not in this folder", Place: fault.Place{File: filepath.ToSlash(game)}, Why: "Its file " + p.Marker + " is not there.", Do: "Name the game's folder: --game DIR"}
		if p.Marker == "" {
			f.Why = "There is no such folder."
		}
		return nil, f
	}
	lock, err := safefile.Acquire(filepath.Join(game, RecordDir), "installing "+p.Title)
	if err != nil {
		return nil, err
	}
	d, err := safefile.OpenDir(game)
	if err != nil {
		lock.Release()
		return nil, err
	}
	return &Installation{p: p, d: d, lock: lock}, nil
}

// Close frees the folder. Nothing is left of an installation that is no more.
func (in *Installation) Close() {
	in.lock.Release()
	if entries, err := fs.ReadDir(in.d.FS(), RecordDir); err == nil && len(entries) == 1 && entries[0].Name() == "lock" {
		_ = in.d.RemoveTree(RecordDir) // it will be made again
	}
	in.d.Close()
}

func (in *Installation) at(parts ...string) string {
	return path.Join(append([]string{RecordDir, in.p.Name}, parts...)...)
}

// Record is what is installed now; nil for nothing.
func (in *Installation) Record() (*Record, error) {
	data, err := in.d.ReadFile(in.at(recordFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var r Record
	if err == nil {
		err = json.Unmarshal(data, &r)
	}
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Refused, What: "the record of the installation can't be read", Place: fault.Place{File: filepath.ToSlash(in.d.Join(in.at(recordFile)))}, Err: err,
			Why: "Without it nobody knows what was there before.", Do: "Bring the file back, or look through the folder by hand."}
	}
	for _, f := range r.Files {
		if err := safefile.CheckForeign(f.Path); err != nil {
			return nil, err
		}
	}
	return &r, nil
}

// hash is the SHA-256 of a file in the game's folder; empty when it is not there.
func (in *Installation) hash(rel string) (string, error) {
	info, err := in.d.Stat(rel)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", &fault.Fault{Kind: fault.Refused, What: "something stands in the way that is no file", Place: fault.Place{File: filepath.ToSlash(in.d.Join(rel))}, Why: "Nothing was installed.", Do: "Move it away."}
	}
	sum, _, err := safefile.HashFile(in.d.Join(rel))
	return sum, err
}

// find is a file of a record.
func (r *Record) find(rel string) *Installed {
	if r != nil {
		for i := range r.Files {
			if r.Files[i].Path == rel {
				return &r.Files[i]
			}
		}
	}
	return nil
}

// Plan says what Install would do.
func (in *Installation) Plan() ([]Action, error) {
	old, err := in.Record()
	if err != nil {
		return nil, err
	}
	var list []Action
	for _, f := range in.p.Files {
		sum, err := in.hash(f.Path)
		if err != nil {
			return nil, err
		}
		a := Action{Path: f.Path, Do: "add", Size: f.Size}
		switch mine := old.find(f.Path); {
		case sum == f.SHA256:
			a.Do = "leave"
		case sum != "" && mine != nil && (mine.SHA256 == sum || mine.Before == sum):
			a.Do, a.Why = "replace", "version "+old.Version
		case sum != "":
			a.Do, a.Why = "replace", "a copy of what is there is kept"
		}
		list = append(list, a)
	}
	if old == nil {
		return list, nil
	}
	for _, f := range old.Files {
		if slices.ContainsFunc(in.p.Files, func(n File) bool { return n.Path == f.Path }) {
			continue
		}
		a, err := in.away(f)
		if err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, nil
}

// away says what becomes of an installed file that is to go.
func (in *Installation) away(f Installed) (Action, error) {
	sum, err := in.hash(f.Path)
	a := Action{Path: f.Path, Do: "remove", Size: f.Size}
	switch {
	case err != nil:
		return a, err
	case sum == "" && f.Backup == "":
		a.Do, a.Why = "leave", "it is gone already"
	case sum != "" && sum != f.SHA256 && sum != f.Backup && sum != f.Before:
		a.Do, a.Why = "keep", "somebody changed it since"
	case f.Backup != "":
		a.Do, a.Why = "bring back", "what stood there before"
	}
	return a, nil
}

// Install does what the plan says. Each file is written whole, with a copy kept of what was there before and was not ours.
func (in *Installation) Install(ctx context.Context) ([]Action, error) {
	if err := in.p.Verify(ctx); err != nil {
		return nil, err
	}
	plan, err := in.Plan()
	if err != nil {
		return nil, err
	}
	old, err := in.Record()
	if err != nil {
		return nil, err
	}
	now := &Record{Format: format, Title: in.p.Title, Version: in.p.Version}
	for _, f := range in.p.Files {
		sum, err := in.hash(f.Path)
		if err != nil {
			return nil, err
		}
		n := Installed{File: f}
		if mine := old.find(f.Path); mine != nil {
			n.Backup, n.Before = mine.Backup, mine.SHA256 // what stood there before the first version, and what stands there now
			if sum == mine.Before {
				n.Before = sum
			}
			if sum != "" && sum != mine.SHA256 && sum != mine.Before && sum != f.SHA256 && sum != mine.Backup {
				n.Backup, n.Before = sum, "" // somebody else's since
			}
		} else if sum != "" && sum != f.SHA256 {
			n.Backup = sum
		}
		if n.Backup != "" && n.Backup == sum {
			if _, _, err := in.d.CopyFrom(ctx, in.d.Join(f.Path), in.at(backupDir, f.Path)); err != nil {
				return nil, err
			}
		}
		now.Files = append(now.Files, n)
	}
	var gone []Installed
	if old != nil {
		for _, f := range old.Files {
			if now.find(f.Path) == nil {
				gone = append(gone, f)
			}
		}
	}
	both := *now
	both.Files = append(slices.Clone(now.Files), gone...) // until those of before are gone
	if err := in.write(&both); err != nil {
		return nil, err
	}
	for i, f := range in.p.Files {
		if plan[i].Do == "leave" {
			continue
		}
		if err := in.put(ctx, f); err != nil {
			return nil, err
		}
	}
	for _, f := range gone {
		if err := in.takeAway(ctx, f); err != nil {
			return nil, err
		}
	}
	for i := range now.Files {
		now.Files[i].Before = ""
	}
	return plan, in.write(now)
}

func (in *Installation) write(r *Record) error {
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return in.d.WriteFile(in.at(recordFile), append(data, '\n'))
}

// put writes a file out of the package.
func (in *Installation) put(ctx context.Context, f File) error {
	to, err := in.d.Create(f.Path)
	if err != nil {
		return err
	}
	defer to.Abort()
	if err := in.p.archive.Find("files/"+f.Path).Copy(ctx, to); err != nil {
		return err
	}
	if to.SHA256() != f.SHA256 {
		return damaged(f.Path, errors.New("its hash is another"))
	}
	return to.Commit()
}

// takeAway removes an installed file, or brings back what stood there before.
func (in *Installation) takeAway(ctx context.Context, f Installed) error {
	a, err := in.away(f)
	if err != nil {
		return err
	}
	switch a.Do {
	case "remove":
		return in.d.Remove(f.Path)
	case "bring back":
		sum, _, err := safefile.HashFile(in.d.Join(in.at(backupDir, f.Path)))
		if err != nil {
			return err
		}
		if sum != f.Backup {
			return &fault.Fault{Kind: fault.Refused, What: "the copy of what stood there before is damaged", Place: fault.Place{File: filepath.ToSlash(in.d.Join(in.at(backupDir, f.Path)))}, Why: "It is not brought back.", Do: "Get the file from the game itself."}
		}
		_, _, err = in.d.CopyFrom(ctx, in.d.Join(in.at(backupDir, f.Path)), f.Path)
		return err
	}
	return nil
}

// PlanAway says what Uninstall would do.
func (in *Installation) PlanAway() ([]Action, error) {
	r, err := in.Record()
	if err != nil {
		return nil, err
	}
	if r == nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%s is not installed there", in.p.Title), Do: "Name the game's folder: --game DIR"}
	}
	list := []Action{}
	for _, f := range r.Files {
		a, err := in.away(f)
		if err != nil {
			return nil, err
		}
		list = append(list, a)
	}
	return list, nil
}

// Uninstall removes what was installed and brings back what stood there before. Files that somebody changed since are kept, and said to be.
func (in *Installation) Uninstall(ctx context.Context) ([]Action, error) {
	plan, err := in.PlanAway()
	if err != nil {
		return nil, err
	}
	r, err := in.Record()
	if err != nil {
		return nil, err
	}
	for _, f := range r.Files {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := in.takeAway(ctx, f); err != nil {
			return nil, err
		}
	}
	return plan, in.d.RemoveTree(in.at())
}
