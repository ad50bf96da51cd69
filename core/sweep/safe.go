package sweep

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"time"

	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/safefile"
)

// SafeDir is the folder in a project that stray files are moved to.
const SafeDir = project.StateDir + "/safe"

const (
	manifestFile = "manifest.json"
	filesDir     = "files"
	stampForm    = "2006-01-02T15-04-05"
)

// Moved is a file in a safe place.
type Moved struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256,omitempty"`
	Why    string `json:"why"`
	Folder bool   `json:"folder,omitempty"`
}

// Place is a safe place: what one sweep moved away.
type Place struct {
	Name string    `json:"name"` // its date, and the folder's name
	Time time.Time `json:"time"`
	// Number counts the sweeps, since a clock may run backwards. Places that an older Vornix made have none.
	Number int     `json:"number,omitempty"`
	Files  []Moved `json:"files"`
}

// Size is the sum of what is in it.
func (p *Place) Size() (n int64) {
	for _, f := range p.Files {
		n += f.Size
	}
	return n
}

// SetAside moves items of the folder d into a new place below the folder safe of it. What is to be moved is written down first;
// each move is a rename. When one fails those before stay moved, and the place says so.
func SetAside(ctx context.Context, d *safefile.Dir, safe string, now time.Time, items []Item) (*Place, error) {
	place := &Place{Time: now.UTC().Truncate(time.Second), Files: []Moved{}}
	place.Name = place.Time.Format(stampForm)
	for n := 2; ; n++ {
		if _, err := d.Stat(path.Join(safe, place.Name)); errors.Is(err, fs.ErrNotExist) {
			break
		}
		place.Name = fmt.Sprintf("%s-%d", place.Time.Format(stampForm), n)
	}
	before, err := Places(d, safe)
	if err != nil {
		return nil, err
	}
	for _, b := range before {
		place.Number = max(place.Number, b.Number+1)
	}
	for _, i := range items {
		m := Moved{Path: i.Path, Size: i.Size, Why: i.Why, Folder: i.Folder}
		if !i.Folder {
			info, err := d.Stat(i.Path)
			if err != nil || !info.Mode().IsRegular() {
				return nil, &fault.Fault{What: "the file is not what it was when the plan was made", Place: fault.Place{File: i.Path}, Do: "Run the same command again."}
			}
			if m.SHA256, m.Size, err = safefile.HashFile(d.Join(i.Path)); err != nil {
				return nil, err
			}
		}
		place.Files = append(place.Files, m)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	if err := place.write(d, safe); err != nil {
		return nil, err
	}
	for _, m := range place.Files {
		if err := ctx.Err(); err != nil {
			return place, err
		}
		if m.Folder {
			continue
		}
		if err := d.Move(m.Path, place.at(safe, m.Path)); err != nil {
			return place, err
		}
	}
	for _, m := range slices.Backward(place.Files) { // folders last, the deepest first
		if m.Folder {
			if err := d.RemoveEmpty(m.Path); err != nil {
				return place, err
			}
		}
	}
	return place, nil
}

func (p *Place) at(safe, file string) string { return path.Join(safe, p.Name, filesDir, file) }

func (p *Place) write(d *safefile.Dir, safe string) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	return d.WriteFile(path.Join(safe, p.Name, manifestFile), append(data, '\n'))
}

// Places lists the safe places below a folder, the oldest first.
func Places(d *safefile.Dir, safe string) ([]Place, error) {
	entries, err := os.ReadDir(d.Join(safe))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Place
	for _, e := range entries {
		data, err := d.ReadFile(path.Join(safe, e.Name(), manifestFile))
		var p Place
		if err == nil && json.Unmarshal(data, &p) == nil && p.Name == e.Name() {
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list, func(a, b Place) int { return cmp.Or(a.Number-b.Number, a.Time.Compare(b.Time)) })
	return list, nil
}

// Back is what becomes of a file that is to come back.
type Back struct {
	Moved
	Place string `json:"place"`
	Left  string `json:"left,omitempty"` // why it stays where it is
}

// PlanBack says what BringBack would do with the files of a place that the patterns name; none: all.
func PlanBack(d *safefile.Dir, safe string, place *Place, named []string) (list []Back) {
	for _, m := range place.Files {
		if len(named) > 0 && !slices.ContainsFunc(named, func(n string) bool { return covers(n, m.Path) }) {
			continue
		}
		b := Back{Moved: m, Place: place.Name}
		_, gone := d.Stat(place.at(safe, m.Path))
		_, there := d.Stat(m.Path)
		switch {
		case m.Folder:
			if there == nil {
				continue
			}
		case gone != nil && there == nil:
			continue // it never went, or came back
		case gone != nil:
			b.Left = "it is no longer in the safe place"
		case there == nil:
			b.Left = "another file stands in its place"
		}
		list = append(list, b)
	}
	return list
}

// BringBack moves files back to where they were. A file in whose place another stands is left, and said to be. A place that is empty then is
// removed.
func BringBack(ctx context.Context, d *safefile.Dir, safe string, place *Place, named []string) ([]Back, error) {
	list := PlanBack(d, safe, place, named)
	for i := range list {
		b := &list[i]
		if err := ctx.Err(); err != nil {
			return list, err
		}
		switch {
		case b.Left != "":
		case b.Folder:
			if err := d.MakeFolder(b.Path); err != nil {
				return list, err
			}
		default:
			sum, _, err := safefile.HashFile(d.Join(place.at(safe, b.Path)))
			if err != nil {
				return list, err
			}
			if sum != b.SHA256 {
				b.Left = "it was changed in the safe place"
				continue
			}
			if err := d.Move(place.at(safe, b.Path), b.Path); err != nil {
				return list, err
			}
		}
	}
	for _, m := range place.Files {
		if _, err := d.Stat(place.at(safe, m.Path)); err == nil && !m.Folder {
			return list, nil
		}
	}
	return list, d.RemoveTree(path.Join(safe, place.Name))
}

// expired are the safe places that have stood longer than the project keeps them.
func expired(p *project.Project, now time.Time) ([]Place, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	all, err := Places(d, SafeDir)
	list := []Place{}
	for _, place := range all {
		if days := p.File.Sweep.KeepDays; days > 0 && now.Sub(place.Time) > time.Duration(days)*24*time.Hour {
			list = append(list, place)
		}
	}
	return list, err
}

// Run does what a plan says: stray files go to a new safe place, expired places go for good.
func Run(ctx context.Context, p *project.Project, plan *Plan, now time.Time) (*Place, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var place *Place
	if len(plan.Go) > 0 {
		if place, err = SetAside(ctx, d, SafeDir, now, plan.Go); err != nil {
			return place, err
		}
	}
	for _, old := range plan.Expired {
		if err := d.RemoveTree(path.Join(SafeDir, old.Name)); err != nil {
			return place, err
		}
	}
	return place, nil
}
