// Package trust remembers what projects may do on this machine beyond reading and writing their own
// files: run programs, have git run programs, send a secret somewhere, share results. A project
// that came from elsewhere may do none of it before a person has seen it and agreed.
//
// A Permission is everything that decides what happens, word for word. Consent is for exactly that:
// any change needs new consent, and the earlier state is shown. The record of consent is outside of
// all projects, so that no project can bring its own.
package trust

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/gofrs/flock"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

// Store is a file in which a person's trust is kept, outside of all projects.
type Store struct{ File string }

// Trusted is a project that may do something.
type Trusted struct {
	Folder      string       `json:"folder"`
	Permissions []Permission `json:"permissions"`
	Since       time.Time    `json:"since"`
}

// Checker returns those of some permissions that a project does not have on this machine. nil returns all of them.
type Checker func(p *project.Project, want []Permission) ([]Permission, error)

// Missing asks the checker.
func (c Checker) Missing(p *project.Project, want ...Permission) ([]Permission, error) {
	if c == nil || len(want) == 0 {
		return want, nil
	}
	return c(p, want)
}

// Everything is a checker for projects that the program wrote itself, and for tests.
func Everything(*project.Project, []Permission) ([]Permission, error) { return nil, nil }

func (s Store) read() (map[string]Trusted, error) {
	data, err := os.ReadFile(s.File)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]Trusted{}, nil
	}
	all := map[string]Trusted{}
	if err == nil {
		err = json.Unmarshal(data, &all)
	}
	if err != nil {
		return nil, &fault.Fault{What: "what is trusted on this machine can't be read",
			Place: fault.Place{File: filepath.ToSlash(s.File)}, Err: err,
			Why: "No project may run commands until then.", Do: "Remove the file, and trust your projects again."}
	}
	return all, nil
}

func (s Store) write(all map[string]Trusted) error {
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	d, err := safefile.MakeDir(filepath.Dir(s.File))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteFile(filepath.Base(s.File), data)
}

// folder names a project: by where it really lies, so that a link can't borrow the trust in another one.
func folder(p *project.Project) (string, error) {
	abs, err := filepath.Abs(p.Dir)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(abs)
}

// Missing is a Checker.
func (s Store) Missing(p *project.Project, want []Permission) (missing []Permission, err error) {
	had, err := s.of(p)
	if err != nil {
		return nil, err
	}
	for i := range want {
		if !slices.ContainsFunc(had, func(x Permission) bool { return x.same(&want[i]) }) {
			missing = append(missing, want[i])
		}
	}
	return missing, nil
}

// Before is what a project was allowed under the same kind and name as a permission that it asks
// for now; ok is false when it was nothing.
func (s Store) Before(p *project.Project, now Permission) (before Permission, ok bool, err error) {
	had, err := s.of(p)
	i := slices.IndexFunc(had,
		func(x Permission) bool { return x.Kind == now.Kind && x.Name == now.Name && !x.same(&now) })
	if err != nil || i < 0 {
		return before, false, err
	}
	return had[i], true, nil
}

func (s Store) of(p *project.Project) ([]Permission, error) {
	at, err := folder(p)
	if err != nil {
		return nil, err
	}
	all, err := s.read()
	return all[at].Permissions, err
}

// locked holds the record while it is changed: two commands at once would lose what one of them wrote.
func (s Store) locked() (release func(), err error) {
	d, err := safefile.MakeDir(filepath.Dir(s.File))
	if err != nil {
		return nil, err
	}
	d.Close()
	l := flock.New(s.File + ".lock")
	if err := l.Lock(); err != nil {
		return nil, &fault.Fault{What: "the record of what is trusted can't be locked",
			Place: fault.Place{File: filepath.ToSlash(s.File)}, Err: err}
	}
	return func() { _ = l.Unlock() }, nil
}

// Allow gives a project these permissions here, and no others.
func (s Store) Allow(p *project.Project, list []Permission) error {
	at, err := folder(p)
	if err != nil {
		return err
	}
	release, err := s.locked()
	if err != nil {
		return err
	}
	defer release()
	all, err := s.read()
	if err != nil {
		return err
	}
	all[at] = Trusted{Folder: filepath.ToSlash(at), Permissions: list, Since: time.Now().UTC().Truncate(time.Second)}
	return s.write(all)
}

// Forget takes the trust in a project back; ok says whether there was any.
func (s Store) Forget(p *project.Project) (ok bool, err error) {
	at, err := folder(p)
	if err != nil {
		return false, err
	}
	release, err := s.locked()
	if err != nil {
		return false, err
	}
	defer release()
	all, err := s.read()
	if _, ok = all[at]; err != nil || !ok {
		return false, err
	}
	delete(all, at)
	return true, s.write(all)
}

// List lists the trusted projects by their folders.
func (s Store) List() ([]Trusted, error) {
	all, err := s.read()
	list := []Trusted{}
	for _, at := range slices.Sorted(maps.Keys(all)) {
		list = append(list, all[at])
	}
	return list, err
}
