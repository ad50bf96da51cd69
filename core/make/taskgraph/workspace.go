package taskgraph

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/make/remotecache"
)

// Workspace is where jobs of others are done: a cache of contents, of which each job takes its inputs
// and to which it adds its outputs.
type Workspace struct{ store *store }

// NewWorkspace makes a workspace in a folder.
func NewWorkspace(d *safefile.Dir) *Workspace { return &Workspace{&store{dir: d}} }

// Has says whether a content is there, whole. It counts as used then.
func (b *Workspace) Has(o Output) bool {
	ok := b.store.intact(output(o))
	if ok {
		b.store.dir.Touch(b.store.objectPath(o.SHA256))
	}
	return ok
}

// Put takes a content that from writes. It fails when that is not what the hash says.
func (b *Workspace) Put(o Output, from func(w io.Writer) error) error { return b.store.fill(o, from) }

// Path is where a content lies, as a system path.
func (b *Workspace) Path(sum string) string { return b.store.path(b.store.objectPath(sum)) }

// Hooks are what a task in a workspace tells, and keeps parts with.
type Hooks struct {
	Advance func(stage string, done, total int64)
	Kept    func(key string) (data []byte, ok bool)
	Keep    func(key string, data []byte) error
}

// Task makes an action ready to be done here. decides is the recipe as this machine makes it of the
// action's work; where the two lead to different results the error says so.
func (b *Workspace) Task(ctx context.Context, o *Action, decides []byte, h Hooks) (*Task, error) {
	if !bytes.Equal(decides, o.Recipe) {
		return nil, fmt.Errorf("the recipe of %s means something else here", o.ID)
	}
	j := &Job{ID: o.ID, Step: o.Step, Version: o.Version, Recipe: decides, Outputs: o.Outputs, LocalOnly: true}
	t := &Task{ctx: ctx, job: j, inputs: map[string]statEntry{}, asked: map[string]time.Time{}, hooks: &h,
		programs: o.Programs, run: &run{store: b.store}}
	for _, name := range slices.Concat(names(o.Inputs), names(o.Earlier), o.Outputs) { // they come from another machine
		if err := safefile.CheckPath(name); err != nil {
			return nil, err
		}
	}
	for _, in := range o.Inputs {
		e := statEntry{Size: in.Size}
		if !remotecache.IsKey(in.SHA256) {
			return nil, fmt.Errorf("%s has no proper hash", in.Path)
		}
		_, _ = hex.Decode(e.SHA256[:], []byte(in.SHA256)) // it was looked at
		t.inputs[in.Path] = e
		j.Inputs = append(j.Inputs, in.Path)
	}
	for _, e := range o.Earlier {
		if !remotecache.IsKey(e.SHA256) {
			return nil, fmt.Errorf("%s has no proper hash", e.Path)
		}
		t.earlier = append(t.earlier, output(e))
	}
	if t.key = t.makeKey(); t.key != o.Key {
		return nil, fmt.Errorf("%s has another key here", o.ID)
	}
	return t, nil
}

func names(list []Output) (paths []string) {
	for _, o := range list {
		paths = append(paths, o.Path)
	}
	return paths
}

// Result is what a task in a workspace has made.
func (t *Task) Result() (outputs []Output, findings []finding.Finding) {
	for _, o := range t.outputs {
		outputs = append(outputs, Output(o))
	}
	return outputs, t.findings
}

// source is where a declared input lies.
func (t *Task) source(rel string, e statEntry) string {
	if t.hooks != nil {
		return t.run.store.path(t.run.store.objectPath(hex.EncodeToString(e.SHA256[:])))
	}
	return filepath.Join(t.run.o.Dir, filepath.FromSlash(rel))
}

// Trim removes what was used the longest ago until at most so many bytes are left, but nothing that
// was used since then.
func (b *Workspace) Trim(limit int64, since time.Time) error {
	type object struct {
		path string
		size int64
		used time.Time
	}
	var list []object
	total := int64(0)
	err := fs.WalkDir(b.store.dir.FS(), objectDir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil // a folder that is not there yet, or not any more, holds nothing
		}
		if info, err := e.Info(); err == nil {
			list = append(list, object{p, info.Size(), info.ModTime()})
			total += info.Size()
		}
		return nil
	})
	slices.SortFunc(list, func(a, b object) int { return a.used.Compare(b.used) })
	for _, o := range list {
		if total <= limit || !o.used.Before(since) {
			break
		}
		if err := b.store.dir.Remove(o.path); err != nil {
			return err
		}
		total -= o.size
	}
	return err
}
