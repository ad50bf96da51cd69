package bundle

import (
	"path"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/leakscan"
	"vornix/core/config/project"
	"vornix/core/make/check"
)

// watch holds what is packed to the guard, as it goes by, and to the project's exceptions.
type watch struct {
	p     *project.Project
	mu    sync.Mutex
	seen  map[string]*leakscan.Scanner
	found []finding.Finding
}

func newWatch(p *project.Project) *watch { return &watch{p: p, seen: map[string]*leakscan.Scanner{}} }

// names looks at the paths of all that is to be packed.
func (w *watch) names(plans []plan) error {
	said := map[string]bool{}
	for _, pl := range plans {
		for _, f := range pl.files {
			if h, bad := leakscan.Name(f.Path); bad && !said[f.Path] {
				said[f.Path] = true
				w.hit(f.Path, h)
			}
		}
	}
	return w.err()
}

// look gives a file's content to a scanner.
func (w *watch) look(name string) *leakscan.Scanner {
	s := &leakscan.Scanner{}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.seen[name] = s
	return s
}

// hit notes something that must not ship, unless the project has an exception for it.
func (w *watch) hit(name string, h leakscan.Hit) {
	if _, ok := w.p.Exception(name, string(h.Sort)); !ok {
		w.found = append(w.found,
			check.Guarded(h, fault.Place{File: path.Join(project.TreeDir, name), Line: h.Line}, name))
	}
}

// err is what was found, once all content of the scanners has gone by.
func (w *watch) err() error {
	for name, s := range w.seen {
		s.Done()
		for _, h := range s.Hits {
			w.hit(name, h)
		}
	}
	if len(w.found) == 0 {
		return nil
	}
	finding.Sort(w.found)
	return &finding.Failure{What: "nothing is packed: there is something in it that must not leave the house",
		Findings: w.found}
}

// excepted says whether something was found in a file and let through.
func (w *watch) excepted(name string) bool {
	s := w.seen[name]
	_, byName := leakscan.Name(name)
	return byName || s != nil && len(s.Hits) > 0
}
