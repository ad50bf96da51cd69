package deploy

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/bundle"
	"vornix/core/fault"
	"vornix/core/index"
	"vornix/core/nearest"
	"vornix/core/needs"
	"vornix/core/project"
	"vornix/core/safefile"
)

// Action is what happens to a file on the target.
type Action string

// The actions.
const (
	Add    Action = "add"
	Change Action = "change"
	Remove Action = "remove"
	Leave  Action = "leave"
)

// Step is one file of a plan.
type Step struct {
	Path   string `json:"path"` // in the target's folder
	Action Action `json:"action"`
	Size   int64  `json:"size"`
	List   bool   `json:"list,omitempty"`  // a list that is edited, not a file that is copied
	Drift  string `json:"drift,omitempty"` // how the file there differs from what was deployed last; "" when it doesn't
	sha256 string
	source string // system path to copy from
	data   []byte // the new content of a list
}

// Plan is what a deployment would do.
type Plan struct {
	Target  string `json:"target"`
	Version string `json:"version"`
	Before  string `json:"before,omitempty"` // the version that is there now
	Steps   []Step `json:"steps"`
	place   Place
	maps    []string
	lists   map[string][]string
}

// Place is a target's folder, and how to ask the server that plays from it.
type Place struct {
	Project string
	Name    string // the target's
	Dir     string // system path
	Server  string
	Token   string
}

// manifest is what a target remembers of the last deployment of a project.
type manifest struct {
	Project string              `json:"project"`
	Version string              `json:"version"`
	Files   map[string]string   `json:"files"` // SHA-256 by path
	Lists   map[string][]string `json:"lists"` // our lines by path
}

// ownDir is the folder in a target in which Vornix keeps manifest, journal and safe place.
const ownDir = ".vornix-target"

func (pl Place) own(name string) string { return path.Join(ownDir, pl.Project, name) }

// PlaceOf finds a target by its name. env looks up environment variables, for the server's token.
func PlaceOf(p *project.Project, name string, env func(string) string) (Place, error) {
	t, ok := p.File.Targets[name]
	if !ok {
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("the project has no target %q", name), Place: fault.Place{File: project.FileName},
			Do: fmt.Sprintf("Describe it under [target.%s].", name)}
		known := slices.Sorted(maps.Keys(p.File.Targets))
		if near := nearest.Word(name, known); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		} else if len(known) > 0 {
			f.Do = "Its targets: " + strings.Join(known, ", ") + "."
		}
		return Place{}, f
	}
	pl := Place{Project: p.File.Project.Name, Name: name, Dir: filepath.FromSlash(t.Path), Server: t.Server}
	if !filepath.IsAbs(pl.Dir) {
		pl.Dir = filepath.Join(p.Dir, pl.Dir)
	}
	if t.TokenEnv != "" {
		pl.Token = env(t.TokenEnv)
	}
	if info, err := os.Stat(pl.Dir); err != nil || !info.IsDir() {
		return Place{}, &fault.Fault{Kind: fault.Unreachable, What: fmt.Sprintf("the folder of target %q is not there: %s", name, pl.Dir), Place: p.Doc.At("target", name, "path"),
			Why: "A folder that Vornix made itself might be a misspelt one that no server looks into. Nothing was changed.",
			Do:  "Correct the path, mount the folder, or make it by hand if it is meant to be new."}
	}
	return pl, nil
}

// readManifest reads what the target remembers; an empty one when nothing has been deployed there.
func (pl Place) readManifest(d *safefile.Dir) (*manifest, error) {
	m := &manifest{Files: map[string]string{}, Lists: map[string][]string{}}
	data, err := d.ReadFile(pl.own("manifest.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, m); err != nil {
		return nil, &fault.Fault{What: "the target's record of the last deployment is damaged", Place: fault.Place{File: d.Join(pl.own("manifest.json"))}, Err: err,
			Do: "Delete that file; the next plan then compares by content alone."}
	}
	return m, nil
}

// NewPlan compares what the target has with what it should have. It changes nothing.
func NewPlan(p *project.Project, pl Place, bundles []bundle.Bundle, g *needs.Graph) (*Plan, error) {
	d, err := safefile.OpenDir(pl.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	m, err := pl.readManifest(d)
	if err != nil {
		return nil, err
	}
	plan := &Plan{Target: pl.Name, Version: p.File.Project.Version, Before: m.Version, Steps: []Step{}, place: pl, lists: map[string][]string{}}
	wanted := map[string]bool{}
	for _, b := range bundles {
		s := Step{Path: path.Join(p.Profile.Server.Bundles, b.Name), Size: b.Size, sha256: b.SHA256, source: p.Join(bundle.Dir, b.Name)}
		wanted[s.Path] = true
		if err := s.compare(d, m.Files[s.Path]); err != nil {
			return nil, err
		}
		plan.Steps = append(plan.Steps, s)
		plan.maps = append(plan.maps, b.Maps...)
	}
	for _, old := range slices.Sorted(maps.Keys(m.Files)) {
		if wanted[old] {
			continue
		}
		info, err := d.Stat(old)
		if err != nil {
			continue // gone already
		}
		s := Step{Path: old, Action: Remove, Size: info.Size()}
		if sum, _, err := safefile.HashFile(d.Join(old)); err != nil {
			return nil, err
		} else if sum != m.Files[old] {
			s.Drift = "it was changed there since it was deployed"
		}
		plan.Steps = append(plan.Steps, s)
	}
	records := index.Records(p, bundles, g)
	for _, l := range p.Profile.Server.Lists {
		lines := index.Lines(l, index.HeadOf(p), records)
		plan.lists[l.File] = lines
		old := []byte{}
		exists := false
		if _, err := d.Stat(l.File); err == nil {
			exists = true
			if old, err = d.ReadFile(l.File); err != nil {
				return nil, err
			}
		}
		s := Step{Path: l.File, List: true, data: []byte(editList(string(old), m.Lists[l.File], lines))}
		s.Size = int64(len(s.data))
		switch {
		case exists && bytes.Equal(old, s.data):
			s.Action = Leave
		case exists:
			s.Action = Change
		default:
			s.Action = Add
		}
		plan.Steps = append(plan.Steps, s)
	}
	return plan, nil
}

// compare sets the action for a file that should be there with s.sha256; deployed is what was put there last, if anything.
func (s *Step) compare(d *safefile.Dir, deployed string) error {
	if _, err := d.Stat(s.Path); err != nil {
		s.Action = Add
		return nil
	}
	sum, _, err := safefile.HashFile(d.Join(s.Path))
	if err != nil {
		return err
	}
	switch {
	case sum == s.sha256:
		s.Action = Leave
	case deployed == "":
		s.Action, s.Drift = Change, "it was there before Vornix put anything there"
	case sum != deployed:
		s.Action, s.Drift = Change, "it was changed there since it was deployed"
	default:
		s.Action = Change
	}
	return nil
}

// Changes is how many files the plan would add, change or remove.
func (p *Plan) Changes() int {
	n := 0
	for _, s := range p.Steps {
		if s.Action != Leave {
			n++
		}
	}
	return n
}

// Drift lists the steps that would overwrite what somebody else changed.
func (p *Plan) Drift() []Step {
	var list []Step
	for _, s := range p.Steps {
		if s.Drift != "" {
			list = append(list, s)
		}
	}
	return list
}
