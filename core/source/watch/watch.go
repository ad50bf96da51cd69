// Package watch says when sources of a project change. It listens to the system, and where that
// tells nothing, as on many network drives, it looks by itself now and then.
package watch

import (
	"context"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"

	"vornix/core/config/project"
)

// State says what became of a file.
type State string

// The states.
const (
	Added   State = "added"
	Removed State = "removed"
	Changed State = "changed"
)

// Change is a source that is not as it was.
type Change struct {
	Path  string `json:"path"`
	State State  `json:"state"`
}

// Options for Run.
type Options struct {
	// how long nothing must happen before a change is told: editors write a file in several steps (default 100 ms)
	Settle time.Duration
	Every  time.Duration // how often to look although nothing was heard (default 1 s)
}

// maxSettling is how long a change is held back while more of them come.
const maxSettling = 2 * time.Second

// Run calls changed at once, and then for the sources of the project in dir as often as some of
// them changed, with all that changed since the last call began. It ends with ctx, without an
// error.
func Run(ctx context.Context, dir string, o Options, changed func([]Change)) error {
	if o.Settle <= 0 {
		o.Settle = 100 * time.Millisecond
	}
	if o.Every <= 0 {
		o.Every = time.Second
	}
	p := &project.Project{Dir: dir}
	before, err := list(p)
	if err != nil {
		return err
	}
	var events chan fsnotify.Event
	var errors chan error
	w, err := fsnotify.NewWatcher()
	if err == nil { // else looking now and then has to do
		defer w.Close()
		events, errors = w.Events, w.Errors
		hear(w, p, before)
	}
	changed(nil) // what changes from here on is seen
	tick := time.NewTicker(o.Every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case e, open := <-events:
			if !open {
				events = nil
			} else if !quiet(p, e.Name) {
				settle(ctx, events, o.Settle)
			}
		case <-errors: // whatever was missed is seen at the next look
		case <-tick.C:
		}
		now, err := list(p)
		if err != nil { // a folder that is being moved about; it is looked at again
			continue
		}
		changes := Compare(before, now)
		if len(changes) == 0 {
			continue
		}
		before = now
		if w != nil {
			hear(w, p, now)
		}
		if ctx.Err() == nil {
			changed(changes)
		}
	}
}

func list(p *project.Project) (map[string]project.Info, error) {
	files, err := p.List()
	m := map[string]project.Info{}
	for _, f := range files {
		m[f.Path] = f
	}
	return m, err
}

// hear listens to all folders that have sources. One that can't be listened to is looked at now and then.
func hear(w *fsnotify.Watcher, p *project.Project, files map[string]project.Info) {
	folders := map[string]bool{".": true}
	for f := range files {
		for d := path.Dir(f); d != "." && !folders[d]; d = path.Dir(d) {
			folders[d] = true
		}
	}
	for d := range folders {
		_ = w.Add(p.Join(d))
	}
}

// quiet says whether what happened can be no change of a source: a file below a folder that no sources are in.
func quiet(p *project.Project, name string) bool {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	return strings.HasPrefix(base, ".vornix") || name == p.Join(project.OutDir)
}

// settle waits until nothing has happened for a while.
func settle(ctx context.Context, events <-chan fsnotify.Event, quietFor time.Duration) {
	end := time.Now().Add(maxSettling)
	for time.Now().Before(end) {
		select {
		case <-ctx.Done():
			return
		case _, open := <-events:
			if !open {
				return
			}
		case <-time.After(quietFor):
			return
		}
	}
}

// Compare says what changed from one listing to another, by path.
func Compare(before, now map[string]project.Info) (list []Change) {
	for _, name := range slices.Sorted(maps.Keys(now)) {
		if old, ok := before[name]; !ok {
			list = append(list, Change{name, Added})
		} else if old != now[name] {
			list = append(list, Change{name, Changed})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		if _, ok := now[name]; !ok {
			list = append(list, Change{name, Removed})
		}
	}
	slices.SortStableFunc(list, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return list
}
