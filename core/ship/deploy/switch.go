package deploy

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/ship/index"
)

// order is the plan's changes in the order of the switch: what maps need, bundles, lists, the page, and last what goes.
func (p *Plan) order() []*FileChange {
	rank := func(x *FileChange) int {
		switch {
		case x.Action == Remove && x.Role == Bundle:
			return 20
		case x.Action == Remove:
			return 21
		}
		return map[Role]int{Companion: 1, Packed: 2, Bundle: 3, Patch: 4, Listing: 10, Page: 12, Index: 13}[x.Role]
	}
	var list []*FileChange
	for i := range p.Steps {
		if p.Steps[i].Action != Leave {
			list = append(list, &p.Steps[i])
		}
	}
	slices.SortStableFunc(list, func(a, b *FileChange) int { return rank(a) - rank(b) })
	return list
}

// unmoved makes sure that nobody replaced a file since it was compared.
func (t *Target) unmoved(ctx context.Context, p *Plan) error {
	g, ctx := group.WithContext(ctx)
	g.SetLimit(16)
	for _, x := range p.order() {
		g.Go(func() error {
			info, err := t.site.Stat(ctx, x.Path)
			if err != nil && !absent(err) {
				return t.explain("look at", x.Path, err)
			}
			there := err == nil
			if there != (x.found != nil) || there &&
				(info.Size != x.found.Size || !x.found.Time.IsZero() && !info.Time.Equal(x.found.Time)) {
				return &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("on target %q, %s was changed by somebody while this was being deployed", t.Name,
						x.Path), Why: "Their work would be lost. Nothing was changed.",
					Do: "Run the same command again: it looks anew."}
			}
			return nil
		})
	}
	return g.Wait()
}

// change switches, and writes down what there is now. It gives records that are not needed any more.
func (t *Target) change(ctx context.Context, p *Plan, r *Result, o Options) ([]ref, error) {
	// Before each step the lock is renewed: a run that lost it stops with the journal in place, and
	// whoever holds the lock next undoes what was switched.
	step := func(doing, rel string, f func() error) error {
		if o.Between != nil {
			o.Between()
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := t.lock.still(ctx); err != nil {
			return err
		}
		if err := f(); err != nil {
			return t.explain(doing, rel, err)
		}
		return nil
	}
	put := func(x *FileChange) error {
		return step("put in place", x.Path, func() error {
			// the file that is there gets its new spelling first, since it may keep the old one when it is replaced
			if x.was != "" {
				if err := t.site.Rename(ctx, x.was, x.Path); err != nil && !absent(err) {
					return err
				}
			}
			return t.site.Rename(ctx, x.want.safe, x.Path)
		})
	}
	side := func(list []*FileChange) error { // files that do not depend on one another
		g, gctx := group.WithContext(ctx)
		g.SetLimit(16)
		for _, x := range list {
			g.Go(func() error {
				if gctx.Err() != nil {
					return gctx.Err()
				}
				return put(x)
			})
		}
		return g.Wait()
	}
	ph := p.phases()
	do := []func() error{func() error { return side(ph.files) }, func() error { return side(ph.bundles) }}
	for _, x := range ph.lists {
		if x.union != nil {
			do = append(do, func() error {
				return step("put in place", x.Path,
					func() error { return t.site.Rename(ctx, t.staged(hashOf(x.union)), x.Path) })
			})
		}
	}
	for _, x := range slices.Concat(t.inOrder(ph.lists), ph.pages, ph.indexes) {
		do = append(do, func() error { return put(x) })
	}
	for _, x := range ph.removed {
		do = append(do, func() error {
			return step("remove", x.Path, func() error { return t.site.Remove(ctx, x.Path) })
		})
	}
	for _, f := range do {
		if err := f(); err != nil {
			return nil, err
		}
	}
	return t.writeDown(ctx, p, r, step)
}

// phases are the changes of a switch by when they happen.
type phases struct{ files, bundles, lists, pages, indexes, removed []*FileChange }

// phases sorts the changes. At every moment a server may load maps, and a player may read the index, so:
//
//  1. files that maps need, and bundles that no list names yet, side by side
//  2. lists that keep their old entries and gain the new ones (unions)
//  3. the lists themselves, in the order of inOrder
//  4. the page, the other files of the index, and then index.json, which names all of them
//  5. removals: by now nothing names those files any more
func (p *Plan) phases() (ph phases) {
	var last []*FileChange
	for _, x := range p.order() {
		to := &ph.files
		switch {
		case x.Action == Remove:
			to = &ph.removed
		case x.Role == Listing:
			to = &ph.lists
		case x.Role == Bundle:
			to = &ph.bundles
		case x.Role == Page:
			to = &ph.pages
		case x.Role == Index && x.Path == index.FileName:
			to = &last
		case x.Role == Index:
			to = &ph.indexes
		}
		*to = append(*to, x)
	}
	ph.indexes = append(ph.indexes, last...)
	return ph
}

// inOrder puts lists into an order in which none names a map that another one lacks: a list gains its
// entries before the rotation (the list that is being played) names them, and loses others after
// the rotation has let go of them.
func (t *Target) inOrder(lists []*FileChange) (order []*FileChange) {
	rotation := func(x *FileChange) bool { return x.Path == t.profile.Server.Playing }
	first := func(x *FileChange) bool { return x.union == nil && !rotation(x) && x.gains() }
	for _, want := range []func(*FileChange) bool{first, rotation,
		func(x *FileChange) bool { return !first(x) && !rotation(x) }} {
		for _, x := range lists {
			if want(x) {
				order = append(order, x)
			}
		}
	}
	return order
}

// gains says whether a list gets longer, or is new: then it comes before the rotation.
func (x *FileChange) gains() bool {
	return x.found == nil || x.want.Size >= x.found.Size
}

// writeDown adds the record of what was done.
func (t *Target) writeDown(ctx context.Context, p *Plan, r *Result,
	step func(doing, rel string, f func() error) error) ([]ref, error) {
	before := p.state.now()
	now := &contents{Version: p.Version, Files: map[string]*File{}, Lists: p.lists, Page: p.goal.page}
	if p.goal.only {
		now.Version = before.Version
		if now.Page == nil {
			now.Page = before.Page
		}
		for name, f := range before.Files {
			now.Files[name] = f
		}
	}
	found := map[string]*File{}
	for i := range p.Steps {
		x := &p.Steps[i]
		old := before.Files[x.Path]
		if old == nil && x.was != "" {
			old = before.Files[x.was]
		}
		if x.Role != Listing && x.Action != Leave &&
			((old == nil) != (x.found == nil) || old != nil && old.SHA256 != x.found.SHA256) {
			found[x.Path] = x.found
		}
		if x.Action == Remove {
			delete(now.Files, x.Path)
			continue
		}
		if x.Role == Listing && x.Action == Leave && x.found == nil {
			continue
		}
		f := x.want.File
		now.Files[x.Path] = &f
		if x.Action == Leave && x.found != nil && !x.found.Time.IsZero() {
			f.Time = x.found.Time
		} else {
			f.Time = p.times[x.want.safe]
		}
	}
	record := p.state.next(p.Kind, now.Version, now)
	record.Found, record.Of, record.Maps = found, p.goal.of, p.goal.maps
	record.Release, record.Commit = p.goal.Release, p.goal.Commit
	record.Time, record.By = time.Now().UTC().Truncate(time.Second), t.access.By()
	record.Added, record.Changed, record.Removed, record.Sent = p.count(Add), p.count(Change), p.count(Remove), r.Sent
	if err := t.enlist(ctx); err != nil {
		return nil, err
	}
	if t.git != nil {
		if err := t.site.Write(ctx, ignoreFile, []byte(ignoreText)); err != nil {
			return nil, t.explain("write", ignoreFile, err)
		}
	}
	if touch := t.profile.Server.Call.Touch; touch != "" && t.about.Plays() {
		if err := step("write", touch, func() error {
			return t.site.Write(ctx, touch, fmt.Appendf(nil, "%s %s %d\n", t.Project, now.Version, record.Serial))
		}); err != nil {
			return nil, err
		}
	}
	var gone []ref
	err := step("write", t.own(headFile), func() (err error) {
		gone, err = t.write(ctx, p.state, record)
		return err
	})
	return gone, err
}

// undo brings every file of a journal back, in the opposite order, then forgets the journal. It can
// be repeated after a crash. Files come back before lists that name them. What somebody else has
// put there meanwhile stays: the next deployment edits their list as it is, and finds that their
// file differs.
func (t *Target) undo(ctx context.Context, j *journal) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Minute)
	defer cancel()
	var names []string
	for _, k := range j.Files {
		names = append(names, k.Path)
	}
	now, err := t.site.Hash(ctx, names)
	if err != nil {
		return t.explain("read", "files there", err)
	}
	for i := len(j.Files) - 1; i >= 0; i-- {
		k := j.Files[i]
		there := now[k.Path]
		if there == k.SHA256 && (k.Was == "" || there == "") {
			continue
		}
		if there == k.SHA256 { // at most its spelling was changed
			if err := t.site.Rename(ctx, k.Path, k.Was); err != nil {
				return t.explain("put back", k.Path, err)
			}
			continue
		}
		if there != "" && k.Path != t.profile.Server.Call.Touch && !slices.Contains(k.Ours, there) {
			continue
		}
		var err error
		if k.SHA256 == "" {
			err = t.site.Remove(ctx, k.Path)
		} else {
			err = t.site.Copy(ctx, t.safe(k.SHA256), k.Path)
		}
		if err == nil && k.Was != "" {
			err = t.site.Rename(ctx, k.Path, k.Was)
		}
		if err != nil {
			return t.explain("put back", k.Path, err)
		}
	}
	if len(j.Head) > 0 {
		err = t.site.Write(ctx, t.own(headFile), j.Head)
	} else {
		err = t.site.Remove(ctx, t.own(headFile))
	}
	if err == nil {
		err = t.site.Remove(ctx, t.own(journalFile))
	}
	if err != nil {
		return t.explain("put back", t.own(headFile), err)
	}
	return nil
}

// tidy lets go of what nobody can go back to any more. What fails here is done next time.
func (t *Target) tidy(ctx context.Context, s *state, gone []ref, left []string) {
	for _, r := range gone {
		_ = t.site.Remove(ctx, t.own(r.file()))
	}
	for _, rel := range left {
		_ = t.site.Remove(ctx, rel)
	}
	needed := map[string]bool{}
	for i := max(0, len(s.records)-1-t.keep); i < len(s.records); i++ {
		for _, f := range s.after(i).Files {
			if f.Role != Listing { // lists are edited back, not put back
				needed[t.safe(f.SHA256)] = true
			}
		}
		for _, f := range s.records[i].Found {
			if f != nil {
				needed[t.safe(f.SHA256)] = true
			}
		}
	}
	list, err := t.site.List(ctx, []string{t.own(stagedDir), t.own(safeDir)})
	if err != nil {
		return
	}
	g, ctx := group.WithContext(ctx)
	g.SetLimit(16)
	for _, i := range list {
		if !needed[i.Path] {
			g.Go(func() error { return t.site.Remove(ctx, i.Path) })
		}
	}
	_ = g.Wait()
}

// publish commits and pushes what was changed.
func (t *Target) publish(ctx context.Context, p *Plan, r *Result) error {
	rels := []string{ignoreFile, projectsFile, ownDir + "/" + t.Project + "/" + headFile,
		ownDir + "/" + t.Project + "/records"}
	for _, x := range p.order() {
		rels = append(rels, x.Path)
	}
	if touch := t.profile.Server.Call.Touch; touch != "" && t.about.Plays() {
		rels = append(rels, touch)
	}
	version := p.Version
	message := fmt.Sprintf("%s %s", t.Title, version)
	switch p.Kind {
	case RollingBack:
		message = fmt.Sprintf("%s: back to %s", t.Title, orNothing(version))
	case Withdrawing:
		message = fmt.Sprintf("%s: without %s", t.Title, strings.Join(p.goal.maps, ", "))
	}
	if p.goal.Notes != "" && p.Kind == Deploying {
		message += "\n\n" + p.goal.Notes
	}
	tag := ""
	if p.Kind == Deploying {
		tag = strings.NewReplacer("{name}", t.Project, "{version}", version).Replace(t.about.Tag)
	}
	c, err := t.git.Publish(ctx, message, tag, rels)
	if c != nil {
		r.Commit, r.Tag = c.ID, c.Tag
	}
	return err
}

func orNothing(version string) string {
	if version == "" {
		return "nothing of it"
	}
	return version
}
