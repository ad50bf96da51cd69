package sweep

import (
	"cmp"
	"context"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
)

// Item is a file, or an empty folder, of a plan.
type Item struct {
	Path   string `json:"path"` // slash path in the project
	Size   int64  `json:"size"`
	Rule   Rule   `json:"rule"`
	Why    string `json:"why"`
	Folder bool   `json:"folder,omitempty"` // an empty one
	Left   string `json:"left,omitempty"`   // why it is left alone; empty when it goes
}

// Plan is what a sweep would do.
type Plan struct {
	Go      []Item             `json:"go"`   // by rule and path
	Left    []Item             `json:"left"` // stray by a rule, and left alone
	Expired []quarantine.Batch `json:"expired"`
}

// Size is the sum of what goes.
func (p *Plan) Size() (n int64) {
	for _, i := range p.Go {
		n += i.Size
	}
	return n
}

// Options for NewPlan.
type Options struct {
	// Named are files, folders or patterns: only they are looked at. A file that is named exactly
	// goes whoever tracks or needs it.
	Named []string
	Rules []Rule // only these; none: all
	// Made are files in out/ that the last build, packing and the other steps made; all others
	// there are orphans. nil: nobody knows, so none is.
	Made map[string]bool
	// Pictures are images that pictures are made of.
	Pictures []string
	Now      time.Time
}

// NewPlan looks for stray files in a project. It changes nothing and follows no link.
func NewPlan(ctx context.Context, p *project.Project, g *assetgraph.Graph, o Options) (*Plan, error) {
	git, err := tracked(p.Dir)
	if err != nil {
		return nil, err
	}
	w := &walker{p: p, o: o, git: git, files: map[string]int64{}}
	if err := w.walk(ctx, ""); err != nil {
		return nil, err
	}
	for _, n := range o.Named {
		if !w.anywhere(n) {
			return nil, &fault.Fault{Kind: fault.Usage, What: "there is no file " + n + " in the project",
				Do: "Name a file, a folder or a pattern, from the project's folder."}
		}
	}
	used := map[string]bool{project.FileName: true, p.ProfilePath: true}
	if p.Profile.Files.OwnList != "" {
		used["profiles/"+p.Profile.Files.OwnList] = true
	}
	for _, a := range g.Assets {
		used[a.Source] = true // unused ones are found below
		for _, part := range a.Parts {
			used[part] = true
		}
	}
	for _, image := range o.Pictures {
		used[image] = true
	}
	for file := range g.ByStep {
		used[file] = true
	}
	needed := assetgraph.Needed(g, o.Pictures)
	plan := &Plan{Go: []Item{}, Left: []Item{}}
	for _, file := range w.order {
		item := Item{Path: file, Size: w.files[file]}
		item.Rule, item.Why = w.judge(file)
		if item.Rule == "" && w.exactly(file) {
			item.Rule, item.Why = Named, "you named it"
		}
		if item.Rule == "" || !w.wanted(item) {
			continue
		}
		switch {
		case w.exactly(file):
		case git[file]:
			item.Left = "Git tracks it"
		case g.ByStep[file]:
			item.Left = "a step of the project reads it"
		case needed[file] || used[file] && g.Takes(file):
			item.Left = "something needs it"
		case used[file]:
			continue // an asset whose name looks stray: the rule for unused ones says more
		case p.Included(file):
			item.Left = "[pack] include names it"
		}
		plan.add(item)
	}
	for _, a := range assetgraph.Unused(g, o.Pictures) {
		item := Item{Path: a.Source, Size: w.files[a.Source], Rule: Unused, Why: "no map needs this " + string(a.Kind)}
		if !w.wanted(item) || slices.ContainsFunc(plan.Go, func(i Item) bool { return i.Path == a.Source }) {
			continue
		}
		if git[a.Source] && !w.exactly(a.Source) {
			item.Left = "Git tracks it"
		}
		plan.add(item)
	}
	w.emptied(plan)
	for _, list := range [][]Item{plan.Go, plan.Left} {
		slices.SortFunc(list, func(a, b Item) int {
			return cmp.Or(cmp.Compare(slices.Index(Rules, a.Rule), slices.Index(Rules, b.Rule)),
				strings.Compare(a.Path, b.Path))
		})
	}
	plan.Expired, err = expired(p, o.Now)
	return plan, err
}

func (p *Plan) add(i Item) {
	if i.Left == "" && safefile.CheckPath(i.Path) != nil {
		i.Left = "some systems can't hold its name: rename it first"
	}
	if i.Left != "" {
		p.Left = append(p.Left, i)
	} else {
		p.Go = append(p.Go, i)
	}
}

type walker struct {
	p       *project.Project
	o       Options
	git     map[string]bool
	files   map[string]int64
	order   []string
	folders []string // all, parents first
}

// never are folders that are not looked into.
var never = []string{".git", ".hg", ".svn", project.StateDir, project.OutDir + "/releases"}

func (w *walker) walk(ctx context.Context, rel string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	entries, err := os.ReadDir(w.p.Join(rel))
	if err != nil {
		return &fault.Fault{What: "could not list the folder", Place: fault.Place{File: rel}, Err: err,
			Do: "Check who may read it."}
	}
	for _, e := range entries {
		name := path.Join(rel, e.Name())
		switch {
		case e.IsDir():
			if slices.Contains(never, name) || e.Name() == ".git" {
				continue
			}
			if _, err := os.Stat(filepath.Join(w.p.Join(name), project.FileName)); err == nil {
				continue // a project of its own
			}
			w.folders = append(w.folders, name)
			if err := w.walk(ctx, name); err != nil {
				return err
			}
		case e.Type().IsRegular() && !safefile.IsTemp(e.Name()):
			info, err := e.Info()
			if err == nil {
				w.files[name] = info.Size()
				w.order = append(w.order, name)
			}
		case e.Type()&fs.ModeSymlink != 0:
			w.files[name] = 0 // it keeps its folder from being empty
		}
	}
	return nil
}

// judge says by which rule a file is stray.
func (w *walker) judge(file string) (Rule, string) {
	for _, s := range w.p.Profile.Sweeps {
		pattern := s.Match
		if strings.HasSuffix(pattern, "/") {
			pattern += "**"
		}
		if ok, _ := doublestar.Match(pattern, file); ok {
			return ByProfile, s.What
		}
	}
	if strings.HasPrefix(file, project.OutDir+"/") {
		if w.o.Made != nil && !w.o.Made[file] {
			return Orphan, "nothing makes it any more"
		}
		return "", ""
	}
	if rule, what := Stray(file, path.Ext(w.p.Profile.Pack.Name)); rule != "" {
		return rule, what
	}
	if numbered(file, func(name string) bool { _, ok := w.files[name]; return ok }) {
		return Backup, "a numbered backup"
	}
	return "", ""
}

// wanted says whether an item is among those that were asked for.
func (w *walker) wanted(i Item) bool {
	if len(w.o.Rules) > 0 && !slices.Contains(w.o.Rules, i.Rule) {
		return false
	}
	return len(w.o.Named) == 0 ||
		slices.ContainsFunc(w.o.Named, func(n string) bool { return quarantine.Covers(n, i.Path) })
}

func (w *walker) exactly(file string) bool { return slices.Contains(w.o.Named, file) }

func (w *walker) anywhere(name string) bool {
	return slices.ContainsFunc(w.order, func(f string) bool { return quarantine.Covers(name, f) }) ||
		slices.ContainsFunc(w.folders, func(f string) bool { return quarantine.Covers(name, f) })
}

// emptied adds the folders that are empty, or will be when the plan is done.
func (w *walker) emptied(plan *Plan) {
	gone := map[string]bool{}
	for _, i := range plan.Go {
		gone[i.Path] = true
	}
	full := map[string]bool{}
	for file := range w.files {
		if !gone[file] {
			for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
				full[dir] = true
			}
		}
	}
	for _, dir := range w.folders {
		item := Item{Path: dir, Rule: EmptyFolders, Why: "the folder is empty", Folder: true}
		if full[dir] || strings.HasPrefix(dir+"/", project.OutDir+"/") || !w.wanted(item) {
			continue
		}
		if slices.ContainsFunc(plan.Go, func(i Item) bool { return strings.HasPrefix(i.Path, dir+"/") && !i.Folder }) {
			item.Why = "the folder is empty then"
		}
		plan.Go = append(plan.Go, item)
	}
}
