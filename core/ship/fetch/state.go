package fetch

import (
	"bytes"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sync"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/ship/index"
)

// Dir is the folder, in the one that files are fetched to, in which is remembered what came from where.
const Dir = "vornix-fetched"

const (
	stateFile = "state.json"
	partsDir  = "parts"
	madeDir   = "made"
)

// state is what is remembered of one project.
type state struct {
	Project string         `json:"project"`
	Title   string         `json:"title"`
	URL     string         `json:"url"`
	Version string         `json:"version"`
	Serial  int64          `json:"serial"`
	SHA256  string         `json:"sha256"` // of the index
	Keys    []string       `json:"keys,omitempty"`
	Stamp   download.Stamp `json:"stamp,omitzero"`
	Only    []string       `json:"only,omitempty"`
	Mirror  bool           `json:"mirror,omitempty"`
	Beside  bool           `json:"beside,omitempty"`
	// Files are those that belong to what was installed last.
	Files map[string]file `json:"files"`
	// Owned are the contents that were ever put at a path and not taken away since: only they may be removed.
	Owned map[string][]string `json:"owned"`
	// Left is the content that somebody went back from; until there is another, it is not installed again.
	Left string `json:"left,omitempty"`
}

type file struct {
	SHA256  string `json:"sha256"`
	Size    int64  `json:"size"`
	ModTime int64  `json:"mod_time"` // nanoseconds; with the size it says that nobody touched the file since
}

var projectForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9]+([_-][a-z0-9]+)*$`) })

// home is the folder of a project in Dir.
func home(project string) string { return path.Join(Dir, project) }

// known reads what is remembered in a folder, by project.
func known(dir string) (list []*state, err error) {
	entries, err := os.ReadDir(filepath.Join(dir, Dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.IsDir() || !projectForm().MatchString(e.Name()) {
			continue
		}
		name := filepath.Join(dir, Dir, e.Name(), stateFile)
		data, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // it came no further than downloading
		}
		s := &state{}
		if err == nil {
			err = json.Unmarshal(data, s)
		}
		if err == nil && s.Project != e.Name() {
			err = errors.New("it is of another project")
		}
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Refused, What: "what is remembered of this folder can't be read",
				Place: fault.Place{File: filepath.ToSlash(name)}, Err: err,
				Why: "Without it nobody knows whose signature counts.",
				Do:  "Remove the file, and name the key that you trust: --trust KEY"}
		}
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b *state) int {
		if a.Project < b.Project {
			return -1
		}
		return 1
	})
	return list, nil
}

func (s *state) write(d *safefile.Dir) error {
	data, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	data = append(data, '\n')
	rel := path.Join(home(s.Project), stateFile)
	if old, err := d.ReadFile(rel); err == nil && bytes.Equal(old, data) {
		return nil
	}
	return d.WriteFile(rel, data)
}

// index reads the index that was taken last.
func (s *state) index(d *safefile.Dir) (*index.Index, []byte, error) {
	data, err := d.ReadFile(path.Join(home(s.Project), index.FileName))
	if err != nil {
		return nil, nil, err
	}
	x, err := index.Read(data)
	if err == nil && hashOf(data) != s.SHA256 {
		err = errors.New("it is another one")
	}
	return x, data, err
}

// own notes that a content is, or may be, at a path.
func (s *state) own(rel, sum string) {
	if !slices.Contains(s.Owned[rel], sum) {
		s.Owned[rel] = append(s.Owned[rel], sum)
	}
}

// Installed is what a folder has of one project.
type Installed struct {
	Project string   `json:"project"`
	Title   string   `json:"title"`
	URL     string   `json:"url"`
	Version string   `json:"version"`
	Serial  int64    `json:"serial"`
	Keys    []string `json:"keys"`
	Files   []string `json:"files"`
	Back    string   `json:"back,omitempty"` // the version that one can go back to
}

// Places lists what a folder has.
func Places(dir string) ([]Installed, error) {
	states, err := known(dir)
	if err != nil {
		return nil, err
	}
	list := []Installed{}
	for _, s := range states {
		p := Installed{Project: s.Project, Title: s.Title, URL: s.URL, Version: s.Version, Serial: s.Serial,
			Keys: append([]string{}, s.Keys...), Files: []string{}}
		for name := range s.Files {
			p.Files = append(p.Files, name)
		}
		slices.Sort(p.Files)
		if r, err := lastChange(dir, s.Project); err == nil && r != nil {
			p.Back = r.From
		}
		list = append(list, p)
	}
	return list, nil
}
