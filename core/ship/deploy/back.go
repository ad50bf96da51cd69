package deploy

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/suggest"
	"vornix/core/game/serverlist"
)

// Past is a record of a history.
type Past struct {
	Record
	Current  bool `json:"current"`  // what is there now
	Possible bool `json:"possible"` // one can go back to it
	Count    int  `json:"count"`    // files that were there after it
}

// History is what was done to the target, the latest first.
func (t *Target) History(ctx context.Context) ([]Past, error) {
	s, err := t.readState(ctx, t.Project)
	if err != nil {
		return nil, err
	}
	list := []Past{}
	for i := len(s.records) - 1; i >= 0; i-- {
		list = append(list,
			Past{Record: *s.records[i], Current: i == len(s.records)-1, Possible: i < len(s.records)-1 &&
				i >= len(s.records)-1-t.keep, Count: len(s.after(i).Files)})
	}
	return list, nil
}

// Back is the goal of going back to a version, or to the one before the last deployment when
// version is empty: exactly what was deployed then. With asFound the replaced files return as they
// were found. Contents come from the copies that the target keeps, or from this machine. A
// deployment that did not come to its end is the last one: to go back is to undo it. A way back
// that did not come to its end is gone again.
func (t *Target) Back(ctx context.Context, version string, asFound bool) (*Goal, error) {
	if err := t.noWayBack(); err != nil {
		return nil, err
	}
	s, half, err := t.undoneState(ctx)
	if err != nil {
		return nil, err
	}
	last := len(s.records) - 1
	refuse := func(what string) error {
		f := &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q %s", t.Name, what),
			Why: fmt.Sprintf("The last %d deployments can be gone back to (keep = %d). Nothing was changed.", t.keep,
				t.keep), Do: "Look at 'vornix deploy history " + t.Name +
				"', or deploy the version that you want there."}
		var known []string
		for i := max(0, last-t.keep); i < last; i++ {
			if v := s.records[i].Version; v != "" && !slices.Contains(known, v) {
				known = append(known, v)
			}
		}
		if version != "" && len(known) > 0 {
			f.Do = "It has: " + strings.Join(known, ", ") + "."
		}
		return f
	}
	if last < 0 && half == nil {
		return nil, refuse("has nothing to go back to")
	}
	to := last - 1
	if half != nil && half.Kind != RollingBack && (version == "" || last >= 0 && s.records[last].Version == version) {
		to = last
	} else if version == "" {
		// What was gone back to already lies behind: another rollback goes on from there.
		for i := last; s.records[i].Kind == RollingBack; {
			of := s.records[i].Of
			if i = slices.IndexFunc(s.records, func(r *Record) bool { return r.Serial == of }); i < 0 {
				return nil, refuse("has nothing further to go back to")
			}
			to = i - 1
		}
	} else {
		for to >= 0 && s.records[to].Version != version {
			to--
		}
		if to < 0 {
			return nil, refuse("has no version " + version + " to go back to")
		}
	}
	if to < last-t.keep || to < 0 && len(s.records) > 0 && s.records[0].Serial != 1 {
		return nil, refuse(strings.TrimRight("does not keep what was there before any more: "+version, ": "))
	}
	c := s.after(to)
	files := maps.Clone(c.Files)
	for i := last; i > to; i-- { // what was not ours, and was replaced since: the earliest counts
		before := s.after(i - 1).Files
		for name, f := range s.records[i].Found {
			if f != nil && before[name] == nil && c.Files[name] == nil {
				files[name] = f
			}
		}
	}
	if asFound && to < last { // the replaced files, as they were found
		for name, f := range s.records[to+1].Found {
			if f == nil {
				delete(files, name)
			} else {
				files[name] = f
			}
		}
	}
	g := &Goal{Version: c.Version, kind: RollingBack, Lists: c.Lists, page: c.Page}
	if to >= 0 {
		g.of = s.records[to].Serial
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if f := files[name]; f.Role != Listing {
			g.Files = append(g.Files, GoalFile{Path: name, File: *f})
		}
	}
	return g, nil
}

// Without is the goal of taking a map off: its files that no other map needs, and its places in the lists.
func (t *Target) Without(ctx context.Context, names ...string) (*Goal, error) {
	if err := t.noWayBack(); err != nil {
		return nil, err
	}
	s, err := t.readState(ctx, t.Project)
	if err != nil {
		return nil, err
	}
	now := s.now()
	there := map[string]bool{}
	for _, f := range now.Files {
		for _, m := range f.Maps {
			there[m] = true
		}
	}
	g := &Goal{Version: now.Version, kind: Withdrawing, only: true, maps: names, Lists: map[string][]serverlist.Entry{}}
	for _, name := range names {
		listed := false
		for _, list := range now.Lists {
			listed = listed || slices.ContainsFunc(list, func(e serverlist.Entry) bool { return e.Map == name })
		}
		if !there[name] || !listed && len(now.Lists) > 0 {
			f := &fault.Fault{Kind: fault.Usage,
				What: fmt.Sprintf("target %q has no map %q of this project", t.Name, name),
				Do:   "It has: " + orNone(slices.Sorted(maps.Keys(there)))}
			if near := suggest.Word(name, slices.Sorted(maps.Keys(there))); near != "" {
				f.Do = fmt.Sprintf("Did you mean %q?", near)
			}
			if there[name] {
				f.What, f.Do = fmt.Sprintf("the map %q is withdrawn from target %q already", name, t.Name),
					"Its bundle stays, since it holds others too."
			}
			return nil, f
		}
	}
	others, _, err := t.neighbours(ctx)
	if err != nil {
		return nil, err
	}
	for name, f := range now.Files {
		if _, theirs := others[name]; len(f.Maps) == 0 || theirs {
			continue
		}
		needed := slices.ContainsFunc(f.Maps, func(m string) bool {
			if slices.Contains(names, m) {
				return false
			}
			for _, list := range now.Lists { // a map that is in no list any more needs nothing
				if slices.ContainsFunc(list, func(e serverlist.Entry) bool { return e.Map == m }) {
					return true
				}
			}
			return len(now.Lists) == 0
		})
		if !needed {
			g.gone = append(g.gone, name)
		}
	}
	slices.Sort(g.gone)
	if file := t.profile.Server.Welcome.File; now.Page != nil && now.Files[file] != nil {
		g.page = now.Page.without(names)
		page, err := t.pageFile(g.page, nil)
		if err != nil {
			return nil, err
		}
		g.Files = append(g.Files, page)
	}
	return g, nil
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	if len(list) > 12 {
		return strings.Join(list[:10], ", ") + fmt.Sprintf(" and %d more", len(list)-10)
	}
	return strings.Join(list, ", ")
}

// projectsFile names the projects that were deployed to a target, a line each.
const projectsFile = ownDir + "/projects"

// enlist adds the project to those of the target.
func (t *Target) enlist(ctx context.Context) error {
	data, err := t.site.Read(ctx, projectsFile, 1<<20)
	if err != nil && !absent(err) {
		return t.explain("read", projectsFile, err)
	}
	names := strings.Fields(string(data))
	if slices.Contains(names, t.Project) {
		return nil
	}
	names = append(names, t.Project)
	slices.Sort(names)
	if err := t.site.Write(ctx, projectsFile, []byte(strings.Join(names, "\n")+"\n")); err != nil {
		return t.explain("write", projectsFile, err)
	}
	return nil
}
