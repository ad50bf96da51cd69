// Package trust remembers which projects may run commands of their own on this machine. A project that came from elsewhere may run none before
// somebody has looked at them; what is allowed is the commands as they were then.
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

	"vornix/core/fault"
	"vornix/core/project"
	"vornix/core/safefile"
)

// Store is a file in which a person's trust is kept, outside of all projects.
type Store struct{ File string }

// Trusted is a project that may run commands.
type Trusted struct {
	Folder   string    `json:"folder"`
	Commands []string  `json:"commands"`
	Since    time.Time `json:"since"`
}

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
		return nil, &fault.Fault{What: "what is trusted on this machine can't be read", Place: fault.Place{File: filepath.ToSlash(s.File)}, Err: err, Why: "No project may run commands until then.", Do: "Remove the file, and trust your projects again."}
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

// New says which commands of a project are not trusted.
func (s Store) New(p *project.Project) (fresh []string, err error) {
	at, err := folder(p)
	if err != nil {
		return nil, err
	}
	all, err := s.read()
	if err != nil {
		return nil, err
	}
	for _, c := range p.Trusts() {
		if !slices.Contains(all[at].Commands, c) {
			fresh = append(fresh, c)
		}
	}
	return fresh, nil
}

// Trust allows the commands that a project has now, and no others.
func (s Store) Trust(p *project.Project) error {
	at, err := folder(p)
	if err != nil {
		return err
	}
	all, err := s.read()
	if err != nil {
		return err
	}
	all[at] = Trusted{Folder: filepath.ToSlash(at), Commands: p.Trusts(), Since: time.Now().UTC().Truncate(time.Second)}
	return s.write(all)
}

// Forget takes the trust in a project back; ok says whether there was any.
func (s Store) Forget(p *project.Project) (ok bool, err error) {
	at, err := folder(p)
	if err != nil {
		return false, err
	}
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
