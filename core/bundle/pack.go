package bundle

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"

	"vornix/core/build"
	"vornix/core/fault"
	"vornix/core/profile"
	"vornix/core/project"
	"vornix/core/safefile"
)

// Dir is the folder in a project that bundles are packed to.
const Dir = project.OutDir + "/bundles"

const stateFile = project.StateDir + "/pack.json"

// Bundle is a packed archive.
type Bundle struct {
	Name    string   `json:"name"` // its file name in Dir
	SHA256  string   `json:"sha256"`
	Size    int64    `json:"size"`
	Content int64    `json:"content"` // bytes before packing
	Entries int      `json:"entries"`
	Maps    []string `json:"maps"`
	Kept    bool     `json:"kept"` // it was there already, and its content has not changed
}

// Result is what Pack made.
type Result struct {
	Bundles []Bundle
	Removed []string // bundles of earlier runs that are not wanted any more, now removed
}

// plan is a bundle before it is packed.
type plan struct {
	Bundle
	lead  *build.TreeFile // the compiled map that leads; nil for a plain archive
	files []build.TreeFile
}

// kept is what is remembered of a bundle.
type kept struct {
	Bundle
	Key     string
	ModTime int64
}

// Pack packs the tree as the profile says. A bundle whose content has not changed is left as it is. The caller holds the
// project's lock.
func Pack(ctx context.Context, p *project.Project, tree *build.Tree, workers int) (*Result, error) {
	if workers <= 0 {
		workers = runtime.GOMAXPROCS(0)
	}
	if len(tree.Files) == 0 {
		return nil, &fault.Fault{What: "there is nothing to pack", Why: "The project has no map, so nothing ships.", Do: "Add a map source, or name files under [pack] include."}
	}
	dir, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	var old []kept
	if data, err := dir.ReadFile(stateFile); err == nil {
		_ = json.Unmarshal(data, &old) // damaged memory is as good as none
	}
	result := &Result{}
	var now []kept
	for _, pl := range plans(p, tree) {
		k, err := pl.bring(ctx, p, dir, old, workers)
		if err != nil {
			return nil, err
		}
		now = append(now, k)
		result.Bundles = append(result.Bundles, k.Bundle)
	}
	for _, o := range old {
		if !slices.ContainsFunc(now, func(k kept) bool { return k.Name == o.Name }) {
			if err := dir.Remove(path.Join(Dir, o.Name)); err != nil {
				return nil, err
			}
			result.Removed = append(result.Removed, o.Name)
		}
	}
	data, err := json.Marshal(now)
	if err != nil {
		return nil, err
	}
	return result, dir.WriteCache(stateFile, data)
}

// plans decides which files go into which bundle.
func plans(p *project.Project, tree *build.Tree) []plan {
	head, form := p.File.Project, p.Profile.Pack
	values := map[string]string{"name": head.Name, "version": head.Version}
	if form.Form == "mod" {
		pl := plan{Bundle: Bundle{Name: profile.Fill(form.Name, values)}, files: tree.Files}
		for _, f := range tree.Files {
			if f.Step == "map" {
				pl.Maps = append(pl.Maps, f.Maps...)
			}
		}
		return []plan{pl}
	}
	var list []plan
	for _, lead := range tree.Files {
		if lead.Step != "map" {
			continue
		}
		name := lead.Maps[0]
		values["map"] = name
		pl := plan{Bundle: Bundle{Name: profile.Fill(form.Name, values), Maps: []string{name}}, lead: &lead}
		for _, f := range tree.Files {
			if f.Step != "map" && (len(f.Maps) == 0 || slices.Contains(f.Maps, name)) {
				pl.files = append(pl.files, f)
			}
		}
		list = append(list, pl)
	}
	return list
}

// content is everything in the bundle, with the map that leads.
func (pl *plan) content() *build.Tree {
	t := &build.Tree{Files: pl.files}
	if pl.lead != nil {
		t.Files = append([]build.TreeFile{*pl.lead}, pl.files...)
	}
	return t
}

// key hashes all that decides the bundle's bytes.
func (pl *plan) key(p *project.Project) string {
	h := sha256.New()
	_ = json.NewEncoder(h).Encode([]any{Version, p.Profile.Pack.Compress, pl.Name, pl.lead != nil, pl.content().Identity()}) // a hash takes every write
	return hex.EncodeToString(h.Sum(nil))
}

// bring packs the bundle, unless it is there already.
func (pl *plan) bring(ctx context.Context, p *project.Project, dir *safefile.Dir, old []kept, workers int) (kept, error) {
	pl.Entries, pl.Content = len(pl.files), pl.content().Size()
	k := kept{Bundle: pl.Bundle, Key: pl.key(p)}
	rel := path.Join(Dir, pl.Name)
	for _, o := range old {
		if o.Name != pl.Name || o.Key != k.Key {
			continue
		}
		if info, err := os.Stat(dir.Join(rel)); err == nil && info.Size() == o.Size && info.ModTime().UnixNano() == o.ModTime {
			o.Kept = true
			return o, nil
		}
	}
	f, err := dir.Create(rel)
	if err != nil {
		return kept{}, err
	}
	defer f.Abort()
	if pl.lead != nil {
		data, err := readChecked(entry(p, *pl.lead))
		if err != nil {
			return kept{}, err
		}
		if _, err := f.Write(data); err != nil {
			return kept{}, err
		}
	}
	if err := writeZIP(ctx, f, f.Size(), entries(p, pl.files), p.Profile.Pack.Compress == "deflate", workers); err != nil {
		return kept{}, fmt.Errorf("packing %s: %w", pl.Name, err)
	}
	k.SHA256, k.Size = f.SHA256(), f.Size()
	if err := f.Commit(); err != nil {
		return kept{}, err
	}
	info, err := os.Stat(dir.Join(rel))
	if err != nil {
		return kept{}, err
	}
	k.ModTime = info.ModTime().UnixNano()
	return k, nil
}

func entries(p *project.Project, files []build.TreeFile) []Entry {
	var list []Entry
	for _, f := range files {
		list = append(list, entry(p, f))
	}
	return list
}

func entry(p *project.Project, f build.TreeFile) Entry {
	return Entry{Path: f.Path, File: p.Join(project.TreeDir, f.Path), SHA256: f.SHA256}
}

// Packed lists the bundles of the last Pack that are still on disk as they were packed.
func Packed(p *project.Project) ([]Bundle, error) {
	data, err := os.ReadFile(p.Join(stateFile))
	var list []kept
	if err != nil || json.Unmarshal(data, &list) != nil || len(list) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "nothing has been packed yet", Do: "Run 'vornix pack' first."}
	}
	var out []Bundle
	for _, k := range list {
		info, err := os.Stat(p.Join(Dir, k.Name))
		if err != nil || info.Size() != k.Size || info.ModTime().UnixNano() != k.ModTime {
			return nil, &fault.Fault{What: "the bundle is not as it was packed", Place: fault.Place{File: filepath.ToSlash(path.Join(Dir, k.Name))},
				Why: "It was changed or removed since.", Do: "Run 'vornix pack' again."}
		}
		k.Kept = true
		out = append(out, k.Bundle)
	}
	return out, nil
}
