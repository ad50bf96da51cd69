package deploy

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/ship/transport"
)

// upload is a content that must get there.
type upload struct {
	f    *GoalFile
	like []transport.Like
	from string // on the target
	sure bool   // its hash has been taken there
}

// stage brings what is new beside what is there, verifies it, and keeps what will be replaced.
func (t *Target) stage(ctx context.Context, p *Plan, r *Result, o Options) (*journal, error) {
	have := map[string]int64{} // what is staged or in the safe place already, by path
	list, err := t.site.List(ctx, []string{t.own(stagedDir), t.own(safeDir)})
	if err != nil {
		return nil, t.explain("look at", t.own(stagedDir), err)
	}
	for _, i := range list {
		have[i.Path] = i.Size
	}
	inSafe := func(sum string) bool { _, ok := have[t.safe(sum)]; return ok }
	places := map[string]string{} // where contents lie there now
	for _, x := range p.Steps {
		if x.found != nil && x.found.SHA256 != "" && x.Role != Listing {
			places[x.found.SHA256] = x.Path
		}
	}
	todo := map[string]*upload{}
	var small []GoalFile
	var total int64
	taken := map[string]bool{}
	write := func(path string, data []byte) { // lists may be the same, word for word
		if sum := hashOf(data); !taken[sum] {
			taken[sum] = true
			small = append(small, GoalFile{Path: path, File: File{SHA256: sum, Size: int64(len(data))}, Data: data})
		}
	}
	alike := t.likenesses(p, o)
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.Action != Add && x.Action != Change {
			continue
		}
		if x.want.Data != nil {
			write(x.Path, x.want.Data)
			if x.union != nil {
				write(x.Path, x.union)
			}
			continue
		}
		if todo[x.want.SHA256] != nil {
			continue
		}
		u := &upload{f: &x.want}
		switch {
		case inSafe(x.want.SHA256):
			u.from = t.safe(x.want.SHA256)
		case places[x.want.SHA256] != "":
			u.from = places[x.want.SHA256]
		case x.want.Source == "":
			if o.Local != nil {
				x.want.Source = o.Local(x.want.SHA256)
			}
			if x.want.Source == "" && t.git == nil {
				return nil, &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("target %q no longer has %s of version %s", t.Name, x.Path, p.Version),
					Why:  "Nothing was changed.",
					Do: "Deploy that version again, or go back to another one (vornix deploy history " + t.Name +
						"). --as-found restores the replaced files as they were found."}
			}
		}
		u.like = alike(x)
		todo[x.want.SHA256] = u
		if u.from == "" {
			total += x.want.Size
		}
	}
	if err := t.room(ctx, total, have, todo); err != nil {
		return nil, err
	}
	if err := t.bring(ctx, p, r, o, todo, small, have, total); err != nil {
		if full := new(fault.Fault); errors.As(t.explain("write", "", err), &full) && full.Err != nil &&
			strings.Contains(full.Err.Error(), "disk is full") {
			t.clear(ctx, todo) // half of a file would keep the disk full
		}
		return nil, err
	}
	if err := t.verify(ctx, p, todo, small, o); err != nil {
		return nil, err
	}
	if err := t.double(ctx, p); err != nil {
		return nil, err
	}
	if list, err = t.site.List(ctx, []string{t.own(stagedDir)}); err != nil {
		return nil, t.explain("look at", t.own(stagedDir), err)
	}
	for _, i := range list { // which they keep when they are put in place
		p.times[i.Path] = i.Time
	}
	return t.keepOld(ctx, p, inSafe)
}

// likenesses finds files there that a new one is likely to resemble: the one that it replaces, or
// one that goes for the same maps.
func (t *Target) likenesses(p *Plan, o Options) func(x *FileChange) []transport.Like {
	known := p.state.now().Files
	marks := sync.OnceValue(t.marks)
	going := map[string][]*FileChange{} // by map and ending
	for i := range p.Steps {
		if y := &p.Steps[i]; y.Action == Remove && known[y.Path] != nil {
			for _, m := range known[y.Path].Maps {
				key := m + path.Ext(y.Path)
				going[key] = append(going[key], y)
			}
		}
	}
	return func(x *FileChange) (list []transport.Like) {
		add := func(y *FileChange) {
			if y.found == nil || y.found.SHA256 == "" || y.found.Size == 0 || len(list) == 3 {
				return
			}
			like := transport.Like{Path: y.Path, Size: y.found.Size}
			if o.Local != nil {
				like.Local = o.Local(y.found.SHA256)
			}
			if like.Local == "" && t.about.Kind == "sftp" {
				like.Marks = marks()[y.found.SHA256]
			}
			list = append(list, like)
		}
		if x.Action == Change {
			add(x)
		}
		for _, m := range x.want.Maps {
			for _, y := range going[m+path.Ext(x.Path)] {
				if y.Role == x.Role {
					add(y)
				}
			}
		}
		return list
	}
}

// room refuses what would fill the disk, before anything is sent.
func (t *Target) room(ctx context.Context, total int64, have map[string]int64, todo map[string]*upload) error {
	s, ok := t.site.(transport.Spacer)
	if !ok || total < 1<<20 {
		return nil
	}
	free, err := s.Free(ctx)
	if err != nil {
		return nil // then the disk itself will say
	}
	for sum := range todo {
		total -= have[t.staged(sum)]
	}
	if free < total+256<<10 {
		return &fault.Fault{What: fmt.Sprintf("target %q has %d KB free and needs %d KB", t.Name, free>>10, total>>10),
			Place: fault.Place{File: t.where}, Why: "Nothing was changed.",
			Do: "Free some space there and run the same command again."}
	}
	return nil
}

// bring uploads, several at once.
func (t *Target) bring(ctx context.Context, p *Plan, r *Result, o Options, todo map[string]*upload, small []GoalFile,
	have map[string]int64, total int64) error {
	var mu sync.Mutex
	var done int64
	advanced := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		done += n
		if o.Advanced != nil {
			o.Advanced("upload", done, total)
		}
	}
	g, ctx := group.WithContext(ctx)
	g.SetLimit(16)
	for i := range p.Steps { // in the plan's order, so that what was cut is taken up again in the same
		x := &p.Steps[i]
		u := todo[x.want.SHA256]
		if u == nil || u.f != &x.want || x.Action == Leave {
			continue
		}
		to := t.staged(x.want.SHA256)
		if u.from != "" && have[to] != x.want.Size {
			g.Go(func() error {
				if err := t.site.Copy(ctx, u.from, to); err != nil {
					return t.explain("copy", u.from, err)
				}
				return nil
			})
			continue
		}
		if size, ok := have[to]; ok && size == x.want.Size {
			mu.Lock()
			r.Reused += size
			mu.Unlock()
			advanced(size)
			continue
		}
		g.Go(func() error {
			if u.f.Source == "" && t.git != nil {
				ok, err := t.git.Older(ctx, x.Path, x.want.SHA256, to)
				if err == nil && !ok {
					err = &fault.Fault{Kind: fault.Refused,
						What: fmt.Sprintf("the history of target %q does not have %s of version %s", t.Name, x.Path,
							p.Version), Why: "Nothing was changed.", Do: "Deploy that version anew."}
				}
				return err
			}
			sent, err := t.site.Upload(ctx,
				transport.Upload{To: to, Size: x.want.Size, SHA256: x.want.SHA256, Source: u.f.Source, Like: u.like,
					Advanced: advanced})
			mu.Lock()
			r.Sent += sent.Bytes
			r.Reused += sent.Reused
			u.sure = sent.Hashed
			mu.Unlock()
			if err != nil {
				return t.explain("write", x.Path, err)
			}
			return nil
		})
	}
	for i := range small {
		g.Go(func() error {
			f := &small[i]
			mu.Lock()
			r.Sent += f.Size
			mu.Unlock()
			if err := t.site.Write(ctx, t.staged(f.SHA256), f.Data); err != nil {
				return t.explain("write", f.Path, err)
			}
			return nil
		})
	}
	return g.Wait()
}

// clear removes what was staged.
func (t *Target) clear(ctx context.Context, todo map[string]*upload) {
	ctx = context.WithoutCancel(ctx)
	for sum := range todo {
		_ = t.site.Remove(ctx, t.staged(sum))
	}
}

// verify takes the hashes of all that was staged, on the far side. What is not as it should be is sent once more.
func (t *Target) verify(ctx context.Context, p *Plan, todo map[string]*upload, small []GoalFile, o Options) error {
	var names []string
	for sum, u := range todo {
		if !u.sure {
			names = append(names, t.staged(sum))
		}
	}
	for _, f := range small {
		names = append(names, t.staged(f.SHA256))
	}
	slices.Sort(names)
	if o.Advanced != nil && len(names) > 0 {
		o.Advanced("verify", 0, int64(len(names)))
	}
	for try := 0; ; try++ {
		sums, err := t.site.Hash(ctx, names)
		if err != nil {
			return t.explain("read", t.own(stagedDir), err)
		}
		var bad []string
		for _, name := range names {
			if sums[name] != path.Base(name) {
				bad = append(bad, name)
			}
		}
		if len(bad) == 0 {
			return nil
		}
		for _, name := range bad {
			if err := t.site.Remove(ctx, name); err != nil {
				return t.explain("remove", name, err)
			}
			u := todo[path.Base(name)]
			if try > 0 || u == nil || u.f.Source == "" {
				what := name
				if u != nil {
					what = u.f.Path
				}
				if u != nil && u.from != "" {
					return &fault.Fault{Kind: fault.Refused,
						What:  fmt.Sprintf("on target %q the copy of %s in its safe place is damaged", t.Name, what),
						Place: fault.Place{File: t.where}, Why: "Nothing was changed.", Do: "Deploy that version anew."}
				}
				return &fault.Fault{What: fmt.Sprintf("%s does not arrive whole on target %q", what, t.Name),
					Place: fault.Place{File: t.where},
					Why:   "What is read there is not what was sent: its disk or the way there damages files. Nothing was changed.", Do: "Look at the server's disk, and run the same command again."}
			}
			if _, err := t.site.Upload(ctx,
				transport.Upload{To: name, Size: u.f.Size, SHA256: u.f.SHA256, Source: u.f.Source}); err != nil {
				return t.explain("write", u.f.Path, err)
			}
		}
		names = bad
	}
}

// double makes a staged file for each place that wants the same content.
func (t *Target) double(ctx context.Context, p *Plan) error {
	seen := map[string]int{}
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.Action != Add && x.Action != Change {
			continue
		}
		n := seen[x.want.SHA256]
		seen[x.want.SHA256]++
		x.want.safe = t.staged(x.want.SHA256)
		if n > 0 {
			x.want.safe = fmt.Sprintf("%s-%d", t.staged(x.want.SHA256), n)
			if err := t.site.Copy(ctx, t.staged(x.want.SHA256), x.want.safe); err != nil {
				return t.explain("copy", x.Path, err)
			}
		}
	}
	return nil
}

// keepOld keeps the files that will be replaced, and makes the journal.
func (t *Target) keepOld(ctx context.Context, p *Plan, inSafe func(string) bool) (*journal, error) {
	j := &journal{Kind: p.Kind, Version: p.Version, Serial: 1, By: t.access.By(),
		Since: time.Now().UTC().Truncate(time.Second), Head: p.state.raw, Files: []kept{}}
	if last := p.state.last(); last != nil {
		j.Serial = last.Serial + 1
	}
	g, gctx := group.WithContext(ctx)
	g.SetLimit(16)
	taken := map[string]bool{}
	for _, x := range p.order() {
		k := kept{Path: x.Path, Was: x.was}
		if x.Action != Remove {
			k.Ours = append(k.Ours, x.want.SHA256)
		}
		if x.union != nil {
			k.Ours = append(k.Ours, hashOf(x.union))
		}
		if x.found != nil {
			k.SHA256 = x.found.SHA256
			if !taken[k.SHA256] && !inSafe(k.SHA256) {
				taken[k.SHA256] = true
				g.Go(func() error {
					if err := t.site.Link(gctx, x.Path, t.safe(k.SHA256)); err != nil {
						return t.explain("keep", x.Path, err)
					}
					return nil
				})
			}
		}
		j.Files = append(j.Files, k)
	}
	if touch := t.profile.Server.Call.Touch; touch != "" && t.about.Plays() && t.profile.Server.List(touch) == nil {
		k := kept{Path: touch}
		if data, err := t.site.Read(ctx, touch, 1<<20); err == nil {
			k.SHA256 = hashOf(data)
			if err := t.site.Write(ctx, t.safe(k.SHA256), data); err != nil {
				return nil, t.explain("keep", touch, err)
			}
		}
		j.Files = append(j.Files, k)
	}
	return j, g.Wait()
}
