package metadata

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"path"

	"vornix/core/base/diff"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
)

// rememberedFile holds, in a project, what was written last: SHA-256 by path.
const rememberedFile = project.StateDir + "/addon.json"

// State is how a file on disk stands to what would be written.
type State string

// States of files.
const (
	New     State = "new"
	Same    State = "same"
	Changed State = "changed" // as it was written last, and another now
	Edited  State = "edited"  // somebody changed it by hand
)

// Standing is a metadata file beside the bundles and how it stands.
type Standing struct {
	File  *File
	Path  string // slash path in the project
	State State
	Known bool   // it is remembered what was written there last
	Diff  string // of an edited one, from what would be written to what is there
}

// Stand compares the files of a place (inside the bundles or beside them), which lie in a folder of
// the project, with what would be written. A file that nobody remembers to have written counts as
// edited: it is not Vornix's to replace.
func Stand(d *safefile.Dir, dir, place string, files []File) ([]Standing, error) {
	remembered := remembered(d)
	var list []Standing
	for i := range files {
		f := &files[i]
		if f.Place != place {
			continue
		}
		s := Standing{File: f, Path: path.Join(dir, f.Path)}
		s.Known = remembered[s.Path] != ""
		old, err := d.ReadFile(s.Path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			s.State = New
		case err != nil:
			return nil, err
		case bytes.Equal(old, f.Data):
			s.State = Same
		case remembered[s.Path] == hash(old):
			s.State = Changed
		default:
			s.State = Edited
			s.Diff = diff.Unified(s.Path+" (from the project)", s.Path+" (as it is)", string(f.Data), string(old))
		}
		list = append(list, s)
	}
	return list, nil
}

func remembered(d *safefile.Dir) map[string]string {
	m := map[string]string{}
	if data, err := d.ReadFile(rememberedFile); err == nil {
		_ = json.Unmarshal(data, &m) // what can't be read remembers nothing, and files count as edited
	}
	return m
}

// Remember notes what stands there now as written by Vornix.
func Remember(d *safefile.Dir, list []Standing) error {
	m := remembered(d)
	changed := false
	for _, s := range list {
		sum := hash(s.File.Data)
		changed = changed || m[s.Path] != sum
		m[s.Path] = sum
	}
	if !changed {
		return nil
	}
	data, err := json.MarshalIndent(m, "", " ")
	if err != nil {
		return err
	}
	return d.WriteFile(rememberedFile, data)
}

func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
