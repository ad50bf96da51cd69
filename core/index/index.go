// Package index writes and checks the version index: what there is, in which version, where to get it and how to know
// that it is whole (docs/formats/index.md).
package index

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"

	"vornix/core/bundle"
	"vornix/core/fault"
	"vornix/core/ledger"
	"vornix/core/needs"
	"vornix/core/profile"
	"vornix/core/project"
	"vornix/core/safefile"
)

// Dir is the folder in a project that the index is written to; FileName its JSON form.
const (
	Dir      = project.OutDir + "/index"
	FileName = "index.json"
	// Format is the version of the JSON form.
	Format = 1
)

// Index is the JSON form.
type Index struct {
	Format  int     `json:"format"`
	Project string  `json:"project"`
	Title   string  `json:"title"`
	Game    string  `json:"game"`
	Base    string  `json:"base"` // address that file names are relative to; "" or ending in a slash
	Entries []Entry `json:"entries"`
}

// Entry is one bundle.
type Entry struct {
	Version string   `json:"version"`
	File    string   `json:"file"`
	URL     string   `json:"url"`
	Size    int64    `json:"size"`
	SHA256  string   `json:"sha256"`
	Maps    []string `json:"maps"`
}

// Result is what Write made.
type Result struct {
	Files []string // slash paths in the project
	Kept  bool     // all of them were there already, the same
}

// Guard refuses bundles that differ from those of the same version that were released: players who have that version
// would never get the change.
func Guard(p *project.Project, bundles []bundle.Bundle) error {
	events, err := ledger.Read(p)
	if err != nil {
		return err
	}
	version := p.File.Project.Version
	done := ledger.Release(events, version)
	if done == nil {
		return nil
	}
	var changed []string
	for _, b := range bundles {
		if done.Files[b.Name] != b.SHA256 {
			changed = append(changed, b.Name)
		}
	}
	for name := range done.Files {
		if !slices.ContainsFunc(bundles, func(b bundle.Bundle) bool { return b.Name == name }) {
			changed = append(changed, name)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	slices.Sort(changed)
	return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("version %s is released, and %s is not what was released", version, strings.Join(changed, ", ")),
		Place: p.Doc.At("project", "version"), Why: "Players who have that version would never get the change, and a finished version is never altered.",
		Do: fmt.Sprintf("Raise the version, with: vornix release %s", project.NextVersion(version))}
}

// Write writes the index of the packed bundles and the profile's text forms of it.
func Write(p *project.Project, bundles []bundle.Bundle, g *needs.Graph) (*Result, error) {
	if err := Guard(p, bundles); err != nil {
		return nil, err
	}
	head := p.File.Project
	idx := Index{Format: Format, Project: head.Name, Title: head.Title, Game: p.Profile.Game.ID, Base: p.File.Index.Base, Entries: []Entry{}}
	for _, b := range bundles {
		idx.Entries = append(idx.Entries, Entry{Version: head.Version, File: b.Name, URL: idx.Base + url.PathEscape(b.Name), Size: b.Size, SHA256: b.SHA256, Maps: b.Maps})
	}
	data, err := json.MarshalIndent(idx, "", "  ")
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{FileName: append(data, '\n')}
	order := []string{FileName}
	for _, t := range p.Profile.Index.Texts {
		name := profile.Fill(t.File, map[string]string{"name": head.Name, "version": head.Version})
		files[name] = []byte(strings.Join(Lines(p, t, bundles, g), "\n") + "\n")
		order = append(order, name)
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	r := &Result{Kept: true}
	for _, name := range order {
		rel := path.Join(Dir, name)
		r.Files = append(r.Files, rel)
		if old, err := d.ReadFile(rel); err == nil && bytes.Equal(old, files[name]) {
			continue
		}
		r.Kept = false
		if err := d.WriteFile(rel, files[name]); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// Lines fills a template once for every map of the bundles. What a map's text puts into a line can't break out of it:
// control characters become spaces.
func Lines(p *project.Project, t profile.ListFile, bundles []bundle.Bundle, g *needs.Graph) []string {
	var lines []string
	for _, b := range bundles {
		for _, name := range b.Maps {
			values := map[string]string{"map": name, "file": b.Name, "version": p.File.Project.Version, "name": p.File.Project.Name, "title": name, "mode": ""}
			if a := g.Find(needs.Map, name); a != nil && a.Scene != nil {
				if a.Scene.Title != "" {
					values["title"] = a.Scene.Title
				}
				if len(a.Scene.Modes) > 0 {
					values["mode"] = a.Scene.Modes[0]
				}
			}
			line := strings.Map(func(r rune) rune {
				if r < ' ' || r == 0x7f {
					return ' '
				}
				return r
			}, profile.Fill(t.Line, values))
			lines = append(lines, strings.TrimRight(line, " "))
		}
	}
	return lines
}

// Read reads an index file.
func Read(data []byte) (*Index, error) {
	idx := &Index{}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(idx); err != nil {
		return nil, fmt.Errorf("the index can't be read: %w", err)
	}
	if idx.Format != Format {
		return nil, fmt.Errorf("the index has format %d; this program reads format %d", idx.Format, Format)
	}
	for _, e := range idx.Entries {
		if err := safefile.CheckPath(e.File); err != nil {
			return nil, err
		}
	}
	return idx, nil
}

// Check holds the index on disk to the bundles on disk: each one there, with its size and hash. It returns the entries
// that were verified.
func Check(p *project.Project) (*Index, error) {
	rel := path.Join(Dir, FileName)
	data, err := os.ReadFile(p.Join(rel))
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no index yet", Place: fault.Place{File: rel}, Do: "Write it with 'vornix index write'."}
	}
	idx, err := Read(data)
	if err != nil {
		return nil, &fault.Fault{What: "the index is damaged", Place: fault.Place{File: rel}, Err: err, Do: "Write it again with 'vornix index write'."}
	}
	for _, e := range idx.Entries {
		sum, size, err := safefile.HashFile(p.Join(bundle.Dir, e.File))
		if err != nil {
			return nil, err
		}
		if size != e.Size || sum != e.SHA256 {
			return nil, &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("%s is not what the index says: %d bytes with SHA-256 %.12s…, and the index has %d bytes with %.12s…", e.File, size, sum, e.Size, e.SHA256),
				Place: fault.Place{File: path.Join(bundle.Dir, e.File)}, Why: "Players' downloads would be refused as damaged.", Do: "Write the index again with 'vornix index write'."}
		}
	}
	return idx, nil
}
