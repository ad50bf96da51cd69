// Package quarantine moves files of a folder out of the way so that they can come back.
//
// Each call of Add makes one Batch: a dated folder with the files below files/ and a manifest that
// lists them. The manifest is on the disk before the first file moves, and each move is a rename
// within the folder. A run that is killed half way is therefore undone like any other: Restore
// moves back what went and skips what never did.
package quarantine

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
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

const (
	manifestFile = "manifest.json"
	filesDir     = "files"
	stampForm    = "2006-01-02T15-04-05"
)

// Item is a file, or an empty folder, that is to be moved.
type Item struct {
	Path   string // slash path in the folder
	Size   int64  // bytes
	Why    string // a sentence for people
	Folder bool   // an empty folder
}

// Moved is a file in quarantine.
type Moved struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256,omitempty"`
	Why    string `json:"why"`
	Folder bool   `json:"folder,omitempty"`
}

// Batch is what one call of Add moved.
type Batch struct {
	Name string    `json:"name"` // its date, and the folder's name
	Time time.Time `json:"time"`
	// Number orders the batches, since a clock may run backwards. Batches from before it existed have none.
	Number int     `json:"number,omitempty"`
	Files  []Moved `json:"files"`
}

// Size is the sum of what is in it.
func (p *Batch) Size() (n int64) {
	for _, f := range p.Files {
		n += f.Size
	}
	return n
}

// Add moves items of the folder d into a new batch below its folder dir. When a move fails, the
// earlier ones stay, and the manifest lists them.
func Add(ctx context.Context, d *safefile.Dir, dir string, now time.Time, items []Item) (*Batch, error) {
	batch := &Batch{Time: now.UTC().Truncate(time.Second), Files: []Moved{}}
	batch.Name = batch.Time.Format(stampForm)
	for n := 2; ; n++ {
		if _, err := d.Stat(path.Join(dir, batch.Name)); errors.Is(err, fs.ErrNotExist) {
			break
		}
		batch.Name = fmt.Sprintf("%s-%d", batch.Time.Format(stampForm), n)
	}
	before, err := List(d, dir)
	if err != nil {
		return nil, err
	}
	for _, b := range before {
		batch.Number = max(batch.Number, b.Number+1)
	}
	for _, i := range items {
		m := Moved{Path: i.Path, Size: i.Size, Why: i.Why, Folder: i.Folder}
		if !i.Folder {
			info, err := d.Stat(i.Path)
			if err != nil || !info.Mode().IsRegular() {
				return nil, &fault.Fault{What: "the file is not what it was when the plan was made",
					Place: fault.Place{File: i.Path}, Do: "Run the same command again."}
			}
			if m.SHA256, m.Size, err = safefile.HashFile(d.Join(i.Path)); err != nil {
				return nil, err
			}
		}
		batch.Files = append(batch.Files, m)
		if err := ctx.Err(); err != nil {
			return nil, err
		}
	}
	if err := batch.write(d, dir); err != nil {
		return nil, err
	}
	for _, m := range batch.Files {
		if err := ctx.Err(); err != nil {
			return batch, err
		}
		if m.Folder {
			continue
		}
		if err := d.Move(m.Path, batch.at(dir, m.Path)); err != nil {
			return batch, err
		}
	}
	for _, m := range slices.Backward(batch.Files) { // folders last, the deepest first
		if m.Folder {
			if err := d.RemoveEmpty(m.Path); err != nil {
				return batch, err
			}
		}
	}
	return batch, nil
}

func (p *Batch) at(dir, file string) string { return path.Join(dir, p.Name, filesDir, file) }

func (p *Batch) write(d *safefile.Dir, dir string) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	return d.WriteFile(path.Join(dir, p.Name, manifestFile), append(data, '\n'))
}

// List returns the batches below a folder, the oldest first.
func List(d *safefile.Dir, dir string) ([]Batch, error) {
	entries, err := os.ReadDir(d.Join(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var list []Batch
	for _, e := range entries {
		data, err := d.ReadFile(path.Join(dir, e.Name(), manifestFile))
		var p Batch
		if err == nil && json.Unmarshal(data, &p) == nil && p.Name == e.Name() {
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list, func(a, b Batch) int { return cmp.Or(a.Number-b.Number, a.Time.Compare(b.Time)) })
	return list, nil
}

// Restored is what Restore does with a file.
type Restored struct {
	Moved
	Place string `json:"place"`
	Left  string `json:"left,omitempty"` // why it stays where it is
}

// PlanRestore returns what Restore would do with the files of a batch that the patterns name; no patterns: all files.
func PlanRestore(d *safefile.Dir, dir string, batch *Batch, named []string) (list []Restored) {
	for _, m := range batch.Files {
		if len(named) > 0 && !slices.ContainsFunc(named, func(n string) bool { return Covers(n, m.Path) }) {
			continue
		}
		b := Restored{Moved: m, Place: batch.Name}
		_, gone := d.Stat(batch.at(dir, m.Path))
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

// Restore moves files back to where they were. Where another file is by now, the file stays and
// Left says so. A batch that is empty afterwards is removed.
func Restore(ctx context.Context, d *safefile.Dir, dir string, batch *Batch, named []string) ([]Restored, error) {
	list := PlanRestore(d, dir, batch, named)
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
			sum, _, err := safefile.HashFile(d.Join(batch.at(dir, b.Path)))
			if err != nil {
				return list, err
			}
			if sum != b.SHA256 {
				b.Left = "it was changed in the safe place"
				continue
			}
			if err := d.Move(batch.at(dir, b.Path), b.Path); err != nil {
				return list, err
			}
		}
	}
	for _, m := range batch.Files {
		if _, err := d.Stat(batch.at(dir, m.Path)); err == nil && !m.Folder {
			return list, nil
		}
	}
	return list, d.RemoveTree(path.Join(dir, batch.Name))
}

// Covers reports whether a pattern names a file: its path, a folder above it, or a doublestar pattern.
func Covers(name, file string) bool {
	if ok, _ := doublestar.Match(name, file); ok {
		return true
	}
	return file == name || strings.HasPrefix(file, strings.TrimSuffix(name, "/")+"/")
}
