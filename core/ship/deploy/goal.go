package deploy

import (
	"context"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
	"vornix/core/config/project"
	"vornix/core/game/serverlist"
	"vornix/core/pack/bundle"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/source/assetgraph"
)

// Goal is what a target should have.
type Goal struct {
	Version string
	Files   []GoalFile
	Lists   map[string][]serverlist.Entry // our entries, by list
	Notes   string                        // what is new, for the message of a commit
	Release bool                          // it is a release's: the version's content is fixed from here on
	Commit  string                        // what Git calls the sources of a release; empty outside of Git
	kind    string
	of      int
	only    bool     // a withdrawal: nothing changes but that these go
	maps    []string // whose entries go
	gone    []string // files that go
	page    *pageOf  // what the welcome page says of the project; nil for no page
}

// GoalFile is a file that should be there.
type GoalFile struct {
	Path string
	File
	Source string // system path; empty for a file with Data, and for one that the target has itself
	Data   []byte
	safe   string // path on the target to take it from
}

// selected are the bundles that go to a target, with those of their maps that do. A bundle without
// maps is a part of others.
func selected(about *project.Target, bundles []bundle.Bundle) (list []bundle.Bundle) {
	for _, b := range bundles {
		if len(b.Maps) > 0 {
			b.Maps = slices.DeleteFunc(slices.Clone(b.Maps), func(m string) bool { return !about.Sends(m) })
			if len(b.Maps) == 0 {
				continue
			}
		}
		list = append(list, b)
	}
	return list
}

// GoalOf says what a target should have of what is packed, without reaching it.
func GoalOf(ctx context.Context, p *project.Project, name string, bundles []bundle.Bundle, g *assetgraph.Graph) (*Goal,
	error) {
	about, err := Find(p, name)
	if err != nil {
		return nil, err
	}
	t := &Target{Name: name, about: about, profile: p.Profile, state: p.State()}
	return t.NewGoal(ctx, p, bundles, g)
}

// NewGoal says what the target should have of what is packed.
func (t *Target) NewGoal(ctx context.Context, p *project.Project, bundles []bundle.Bundle, g *assetgraph.Graph) (*Goal,
	error) {
	for _, name := range slices.Concat(t.about.Maps, t.about.Without) {
		if !slices.ContainsFunc(bundles, func(b bundle.Bundle) bool { return slices.Contains(b.Maps, name) }) {
			return nil, &fault.Fault{Kind: fault.Usage,
				What:  fmt.Sprintf("target %q names a map %q, which is not packed", t.Name, name),
				Place: p.Doc.At("target", t.Name), Do: "Correct maps and without of the target, or pack again."}
		}
	}
	if t.about.Downloads() {
		return t.downloads(p, bundles)
	}
	bundles = selected(&t.about, bundles)
	goal := &Goal{Version: p.File.Project.Version, kind: Deploying, Lists: map[string][]serverlist.Entry{}}
	var err error
	if goal.Notes, err = indexwriter.Notes(p); err != nil {
		return nil, err
	}
	s := &p.Profile.Server
	folder := s.Bundles
	if t.about.Mirror() {
		folder = s.Mirror.Folder
	}
	companions, err := t.companions(ctx, p, bundles)
	if err != nil {
		return nil, err
	}
	goal.Files = companions // before the bundles whose maps want them
	for _, b := range bundles {
		goal.Files = append(goal.Files,
			GoalFile{Path: path.Join(folder, b.Name),
				File:   File{SHA256: b.SHA256, Size: b.Size, Role: Bundle, Maps: b.Maps},
				Source: p.Join(bundle.Dir, b.Name)})
	}
	if t.about.Mirror() {
		return goal, t.compress(ctx, goal)
	}
	records := indexwriter.Records(p, bundles, g)
	for i := range records {
		records[i].Maps = slices.DeleteFunc(records[i].Maps, func(m index.Map) bool { return !t.about.Sends(m.Name) })
	}
	for i := range s.Lists {
		l := &s.Lists[i]
		for _, r := range records {
			for _, m := range r.Maps {
				one := r
				one.Maps = []index.Map{m}
				goal.Lists[l.File] = append(goal.Lists[l.File],
					serverlist.Entry{Map: m.Name,
						Line: indexwriter.Lines(*l, indexwriter.HeadOf(p), []index.Record{one})[0]})
			}
		}
	}
	return goal, t.welcome(p, goal, records)
}

// companions are the files that go with maps.
func (t *Target) companions(ctx context.Context, p *project.Project, bundles []bundle.Bundle) (list []GoalFile,
	err error) {
	at := map[string]int{}
	for i, c := range p.Profile.Server.Companions {
		for _, b := range bundles {
			maps := b.Maps
			if len(maps) == 0 || !strings.Contains(c.From+c.To, "{map}") {
				maps = []string{""}
			}
			for _, m := range maps {
				values := map[string]string{"map": m, "bundle": b.Name, "name": p.File.Project.Name,
					"version": p.File.Project.Version}
				from, to := template.Line(c.From, values, "none"), template.Line(c.To, values, "none")
				if m == "" && strings.Contains(c.From+c.To, "{map}") {
					continue
				}
				for _, name := range []string{from, to} {
					if err := safefile.CheckForeign(name); err != nil {
						return nil, &fault.Fault{
							What: fmt.Sprintf("the companion %d of the profile leads to no path: %v", i+1, err),
							Do:   "Correct [[server.companion]]."}
					}
				}
				maps := []string{m}
				if m == "" {
					maps = b.Maps
				}
				if j, ok := at[to]; ok { // several maps share it
					if list[j].Source != p.Join(from) {
						return nil, &fault.Fault{What: fmt.Sprintf("two companions want to be %s: %s and %s", to,
							list[j].Source, p.Join(from)),
							Do: "Correct [[server.companion]]: {map} in 'to' tells them apart."}
					}
					list[j].Maps = union(list[j].Maps, maps)
					continue
				}
				sum, size, err := safefile.HashFileUntil(ctx, p.Join(from))
				if err != nil {
					if _, statErr := os.Stat(p.Join(from)); os.IsNotExist(statErr) {
						if c.Optional {
							continue
						}
						return nil, &fault.Fault{What: "a companion of " + orAll(m) + " is not there",
							Place: fault.Place{File: from},
							Why:   "The server wants it beside the map; nothing was changed.",
							Do:    "Make it (pictures: vornix shoot), or mark the companion optional in the profile."}
					}
					return nil, err
				}
				at[to] = len(list)
				list = append(list,
					GoalFile{Path: to, File: File{SHA256: sum, Size: size, Role: Companion, Maps: maps},
						Source: p.Join(from)})
			}
		}
	}
	return list, nil
}

func orAll(m string) string {
	if m == "" {
		return "all maps"
	}
	return m
}

func union(a, b []string) []string {
	list := slices.Concat(a, b)
	slices.Sort(list)
	return slices.Compact(list)
}

// Preview is the welcome page of a target as it would be, and the pictures that it shows.
func Preview(ctx context.Context, p *project.Project, name string, bundles []bundle.Bundle,
	g *assetgraph.Graph) ([]GoalFile, error) {
	about, err := Find(p, name)
	if err != nil {
		return nil, err
	}
	about.Role = "server"
	t := &Target{Name: name, about: about, profile: p.Profile, state: p.State()}
	goal, err := t.NewGoal(ctx, p, bundles, g)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(goal.Files, func(f GoalFile) bool { return f.Role != Page && f.Role != Companion }), nil
}

// relative is how a file is named from a folder, both below the same root.
func relative(folder, file string) string {
	up := ""
	for folder != "." && folder != "" && !strings.HasPrefix(file, folder+"/") {
		folder = path.Dir(folder)
		up += "../"
	}
	if folder == "." || folder == "" {
		return up + file
	}
	return up + strings.TrimPrefix(file, folder+"/")
}
