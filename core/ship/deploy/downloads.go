package deploy

import (
	"context"
	"fmt"
	"path"
	"slices"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
)

// downloads is the goal of a target that players download from: everything that the project's index
// names, and the index.
func (t *Target) downloads(p *project.Project, bundles []bundle.Bundle) (*Goal, error) {
	x, files, err := indexwriter.Named(p)
	if err != nil {
		return nil, err
	}
	for _, b := range bundles {
		named := slices.ContainsFunc(x.Bundles, func(r index.Record) bool { return r.SHA256 == b.SHA256 })
		if !named && !slices.ContainsFunc(x.Retracted,
			func(r index.Retraction) bool { return r.Version == p.File.Project.Version }) {
			return nil, &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("the index does not name %s as it is packed", b.Name),
				Place: fault.Place{File: path.Join(indexwriter.Dir, index.FileName)},
				Why:   "Players would not be told of it. Nothing was changed.",
				Do:    "Write the index first: vornix index write"}
		}
	}
	goal := &Goal{Version: p.File.Project.Version, kind: Deploying}
	roles := map[string]Role{"bundle": Bundle, "patch": Patch, "text": Index}
	for _, f := range files {
		goal.Files = append(goal.Files,
			GoalFile{Path: f.Path, File: File{SHA256: f.SHA256, Size: f.Size, Role: roles[f.Kind], Maps: f.Maps},
				Source: f.Source})
	}
	data, err := x.Encode()
	if err != nil {
		return nil, err
	}
	goal.Files = append(goal.Files,
		GoalFile{Path: index.FileName, File: File{SHA256: hashOf(data), Size: int64(len(data)), Role: Index},
			Data: data})
	return goal, nil
}

// Index reads the index that players get at a target that they download from; nil where there is
// none yet. It changes nothing.
func (t *Target) Index(ctx context.Context) (*index.Index, error) {
	data, err := t.site.Read(ctx, index.FileName, index.Limit)
	if absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, t.explain("read", index.FileName, err)
	}
	x, err := index.Read(data)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("target %q: the index that players get can't be read", t.Name),
			Place: fault.Place{File: t.String() + "/" + index.FileName}, Err: err,
			Why: "The next index needs a higher number than this one. Nothing was changed.",
			Do:  "Bring the right one back there, or remove it if it is of something else."}
	}
	return x, nil
}

// published looks at what players get there before it is replaced: an index never goes back, and
// files that the index there names do not count as drift.
func (t *Target) published(ctx context.Context, p *Plan) error {
	now, err := t.Index(ctx)
	if err != nil || now == nil {
		return err
	}
	place := fault.Place{File: t.String() + "/" + index.FileName}
	if now.Project != t.Project {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("target %q has the index of another project: %s", t.Name, now.Project), Place: place,
			Why: "Its players would get this project instead. Nothing was changed.",
			Do:  "Give each project a folder of its own."}
	}
	named := map[string]bool{}
	for _, r := range now.Bundles {
		named[r.SHA256] = true
		for _, way := range r.Patches {
			named[way.SHA256] = true
		}
	}
	for _, f := range now.Texts {
		named[f.SHA256] = true
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.found != nil && (named[x.found.SHA256] || x.Path == index.FileName) {
			x.Drift = ""
		}
		if x.Path != index.FileName || x.Action != Change {
			continue
		}
		next, err := index.Read(x.want.Data)
		if err != nil {
			return err
		}
		if now.Serial >= next.Serial {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("target %q has index number %d, and the one here has number %d", t.Name, now.Serial,
					next.Serial), Place: place,
				Why: "Players who have seen the higher number refuse a lower one. Nothing was changed.",
				Do:  "Write the index again; it takes the next number: vornix index write"}
		}
	}
	return nil
}

// older are the bundles of earlier versions that stay for players who are downloading them, and for
// patches that are made from them.
func (t *Target) older(p *Plan, s *state) {
	if !t.about.Downloads() {
		return
	}
	from := len(s.records) - t.keep
	fresh := slices.ContainsFunc(p.Steps, func(x FileChange) bool {
		f := s.now().Files[x.Path]
		return x.Action != Remove && (f == nil || f.SHA256 != x.want.SHA256)
	})
	if !fresh { // then the last deployment is this one
		from--
	}
	recent := map[string]bool{} // what the last deployments brought
	for i := max(0, from); i < len(s.records); i++ {
		for name, f := range s.after(i).Files {
			if f.Role == Bundle && !f.Older {
				recent[name+f.SHA256] = true
			}
		}
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		f := s.now().Files[x.Path]
		if x.Action != Remove || x.Role != Bundle || f == nil || !recent[x.Path+f.SHA256] {
			continue
		}
		kept := *f
		kept.Older = true
		x.Action, x.want, x.Note = "", GoalFile{Path: x.Path, File: kept}, "of an earlier version"
	}
}

// missed drops the bundles of earlier versions that were removed or changed there.
func (p *Plan) missed() {
	p.Steps = slices.DeleteFunc(p.Steps, func(x FileChange) bool { return x.want.Older && x.Action != Leave })
}

// noWayBack says why a target that players download from can't go back or lose a map.
func (t *Target) noWayBack() error {
	if !t.about.Downloads() {
		return nil
	}
	return &fault.Fault{Kind: fault.Usage,
		What:  fmt.Sprintf("target %q is a folder that players download from", t.Name),
		Place: t.p.Doc.At("target", t.Name, "role"),
		Why:   "Players who have seen an index refuse an earlier one.",
		Do:    "Take a version back with 'vornix index retract VERSION', then 'vornix deploy " + t.Name + "'."}
}
