package deploy

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
	"vornix/core/config/project"
	"vornix/core/ship/index"
)

// pageOf is what the welcome page says of a project. The target remembers it, so that a withdrawal
// can write the page without the map, and other projects can write it with this one.
type pageOf struct {
	Name        string   `json:"name"`
	Title       string   `json:"title"`
	Version     string   `json:"version"`
	Authors     []string `json:"authors,omitempty"`
	Description string   `json:"description,omitempty"`
	Notes       string   `json:"notes,omitempty"`
	Game        string   `json:"game,omitempty"`
	Maps        []mapOn  `json:"maps"`
}

// mapOn is a map on the page.
type mapOn struct {
	Name    string   `json:"name"`
	Title   string   `json:"title"`
	Modes   []string `json:"modes,omitempty"`
	Least   int      `json:"least,omitempty"`
	Most    int      `json:"most,omitempty"`
	Picture string   `json:"picture,omitempty"` // as a path on the target
	File    string   `json:"file"`
	Size    int64    `json:"size"`
}

// welcome adds the welcome page to a goal, as it is where no other project is.
func (t *Target) welcome(p *project.Project, goal *Goal, records []index.Record) error {
	w := &p.Profile.Server.Welcome
	if w.File == "" || t.about.Page != nil && !*t.about.Page {
		return nil
	}
	head := p.File.Project
	goal.page = &pageOf{Name: head.Name, Title: head.Title, Version: head.Version, Authors: head.Authors,
		Description: head.Description, Notes: goal.Notes, Game: p.Profile.Game.Title, Maps: []mapOn{}}
	for _, r := range records {
		for _, m := range r.Maps {
			on := mapOn{Name: m.Name, Title: m.Title, Modes: m.Modes, Least: m.Players[0], Most: m.Players[1],
				File: r.File, Size: r.Size}
			if w.Picture != "" {
				to := template.Line(w.Picture,
					map[string]string{"map": m.Name, "bundle": r.File, "name": head.Name, "version": head.Version},
					"none")
				if slices.ContainsFunc(goal.Files, func(f GoalFile) bool { return f.Path == to }) {
					on.Picture = to
				}
			}
			goal.page.Maps = append(goal.page.Maps, on)
		}
	}
	f, err := t.pageFile(goal.page, nil)
	if err == nil {
		goal.Files = append(goal.Files, f)
	}
	return err
}

// pageFile fills the page's template. others are what it says of the other projects on the target.
func (t *Target) pageFile(page *pageOf, others []*pageOf) (GoalFile, error) {
	w := &t.profile.Server.Welcome
	f, err := template.NewFile(w.File, w.Template, w.Escape)
	if err != nil {
		return GoalFile{}, err
	}
	all := append(slices.Clone(others), page)
	slices.SortFunc(all, func(a, b *pageOf) int { return strings.Compare(a.Name, b.Name) })
	values := page.values(w.File)
	var projects []map[string]any
	for _, o := range all {
		projects = append(projects, o.values(w.File))
	}
	values["projects"] = projects
	text, err := f.Fill(values)
	if err != nil {
		return GoalFile{},
			&fault.Fault{What: "the template of the welcome page can't be filled",
				Place: t.profile.Doc.At("server", "welcome", "template"), Err: err,
				Do: "Correct the template in the profile."}
	}
	data := []byte(text)
	return GoalFile{Path: w.File, File: File{SHA256: hashOf(data), Size: int64(len(data)), Role: Page}, Data: data}, nil
}

// values are those that a template fills in. Pictures are named from where the page lies.
func (o *pageOf) values(file string) map[string]any {
	maps := []map[string]any{}
	for _, m := range o.Maps {
		picture := ""
		if m.Picture != "" {
			picture = relative(path.Dir(file), m.Picture)
		}
		maps = append(maps,
			map[string]any{"name": m.Name, "title": m.Title, "modes": m.Modes, "least": m.Least, "most": m.Most,
				"picture": picture, "file": m.File, "size": m.Size})
	}
	return map[string]any{"name": o.Name, "title": o.Title, "version": o.Version, "authors": o.Authors,
		"description": o.Description, "notes": o.Notes, "game": o.Game, "maps": maps}
}

// without is the page without some maps.
func (o *pageOf) without(maps []string) *pageOf {
	less := *o
	less.Maps = slices.DeleteFunc(slices.Clone(o.Maps), func(m mapOn) bool { return slices.Contains(maps, m.Name) })
	return &less
}

// owner is who deployed a file to a target.
type owner struct {
	project string
	sha256  string
}

// neighbours are the other projects on a target: the files of each, by path, and what the page says of it.
func (t *Target) neighbours(ctx context.Context) (files map[string]owner, pages []*pageOf, err error) {
	files = map[string]owner{}
	data, err := t.site.Read(ctx, projectsFile, 1<<20)
	if absent(err) {
		return files, nil, nil
	}
	if err != nil {
		return nil, nil, t.explain("read", projectsFile, err)
	}
	for name := range strings.FieldsSeq(string(data)) {
		if name == t.Project || safefile.CheckPath(name) != nil || strings.Contains(name, "/") {
			continue
		}
		s, err := t.readState(ctx, name)
		if err != nil {
			return nil, nil, err
		}
		now := s.now()
		for file, f := range now.Files {
			files[file] = owner{name, f.SHA256}
		}
		if now.Page != nil {
			pages = append(pages, now.Page)
		}
	}
	return files, pages, nil
}

// shares says whether the page's template lists all projects on the target.
func (t *Target) shares() bool {
	return strings.Contains(t.profile.Server.Welcome.Template, ".projects")
}

// share fills the page of a plan with the other projects on the target too.
func (t *Target) share(p *Plan, pages []*pageOf) error {
	if p.goal.page == nil || !t.shares() {
		return nil
	}
	f, err := t.pageFile(p.goal.page, pages)
	if err != nil {
		return err
	}
	for i := range p.Steps {
		if x := &p.Steps[i]; x.Role == Page && x.Path == f.Path && x.Action != Remove {
			x.want, x.Size = f, f.Size
		}
	}
	return nil
}

// whose names the project that deployed the file which a step would replace.
func (t *Target) whose(x *FileChange, files map[string]owner) {
	o, theirs := files[x.Path]
	if x.Drift == "" || !theirs || x.found == nil || o.sha256 != x.found.SHA256 {
		return
	}
	if x.Role == Page && t.shares() {
		x.Drift, x.Note = "", "shared with "+o.project
		return
	}
	x.Drift = fmt.Sprintf("the project %s deployed it", o.project)
}
