package deploy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/game/serverlist"
	"vornix/core/ship/transport"
)

// Operation is what happens to a file on the target.
type Operation string

// The actions.
const (
	Add    Operation = "add"
	Change Operation = "change"
	Remove Operation = "remove"
	Leave  Operation = "leave"
)

// FileChange is one file of a plan.
type FileChange struct {
	Path   string    `json:"path"` // in the target's folder
	Action Operation `json:"action"`
	Role   Role      `json:"role"`
	Size   int64     `json:"size"`
	// how the file there differs from what was deployed last; "" when it doesn't
	Drift string `json:"drift,omitempty"`
	Note  string `json:"note,omitempty"`
	want  GoalFile
	found *File  // the file on the target; nil for none
	was   string // how the file is spelt there, where a system takes both spellings for one file; empty: the same
	union []byte // of a list that gains and loses entries: with both
}

// Plan is what would be done.
type Plan struct {
	Target   string       `json:"target"`
	Where    string       `json:"where"`
	Kind     string       `json:"kind"`
	Version  string       `json:"version"`
	Before   string       `json:"before,omitempty"` // the version that is there now
	Steps    []FileChange `json:"steps"`
	Foreign  []string     `json:"foreign"`        // files beside ours that nobody deployed
	Verified bool         `json:"verified"`       // all was compared by content
	Half     string       `json:"half,omitempty"` // an unfinished deployment, which is undone first
	Upload   int64        `json:"upload"`         // bytes of the files that the target lacks
	Last     *Last        `json:"last,omitempty"` // what was done there last; nil for nothing
	goal     *Goal
	state    *state
	half     *journal
	lists    map[string][]serverlist.Entry
	playing  int                  // entries that the rotation would have
	left     []string             // what a cut left half written
	times    map[string]time.Time // of staged files
	content  map[string][]byte    // of lists, by hash, as they are and as they will be
}

// Last is what was done to a target last.
type Last struct {
	Kind    string    `json:"kind"`
	Version string    `json:"version"`
	By      string    `json:"by"`
	Time    time.Time `json:"time"`
}

// PlanOptions for Plan.
type PlanOptions struct {
	Verify bool // compare by content, not by size and time
}

// Plan compares what the target has with what it should have. It changes nothing.
func (t *Target) Plan(ctx context.Context, goal *Goal, o PlanOptions) (*Plan, error) {
	s, j, err := t.undoneState(ctx)
	if err != nil {
		return nil, err
	}
	p, err := t.compare(ctx, goal, s, j, o)
	if err != nil {
		return nil, err
	}
	if j != nil {
		p.Half = fmt.Sprintf("%s of version %s by %s", j.Kind, j.Version, j.By)
	}
	return p, nil
}

// compare makes a plan. half is a switch that will be undone before the plan is carried out; nil for none.
func (t *Target) compare(ctx context.Context, goal *Goal, s *state, half *journal, o PlanOptions) (*Plan, error) {
	now := s.now()
	p := &Plan{half: half, Target: t.Name, Where: t.where, Kind: goal.kind, Version: goal.Version, Before: now.Version,
		Steps: []FileChange{}, Foreign: []string{}, Verified: o.Verify, goal: goal, state: s,
		lists: map[string][]serverlist.Entry{}, playing: -1, times: map[string]time.Time{},
		content: map[string][]byte{}}
	if r := s.last(); r != nil {
		p.Last = &Last{r.Kind, r.Version, r.By, r.Time}
	}
	for _, f := range goal.Files {
		p.Steps = append(p.Steps, FileChange{Path: f.Path, Role: f.Role, Size: f.Size, want: f})
	}
	wanted := map[string]bool{}
	for _, f := range goal.Files {
		wanted[f.Path] = true
	}
	for _, name := range slices.Sorted(maps.Keys(now.Files)) {
		f := now.Files[name]
		if wanted[name] || f.Role == Listing {
			continue
		}
		if !goal.only || slices.Contains(goal.gone, name) {
			p.Steps = append(p.Steps, FileChange{Path: name, Role: f.Role, Size: f.Size, Action: Remove})
		}
	}
	var files map[string]owner
	if goal.page != nil && t.shares() {
		var pages []*pageOf
		var err error
		if files, pages, err = t.neighbours(ctx); err == nil {
			err = t.share(p, pages)
		}
		if err != nil {
			return nil, err
		}
	}
	t.older(p, s)
	if err := t.look(ctx, p, now, o); err != nil {
		return nil, err
	}
	p.missed()
	if t.about.Downloads() {
		if err := t.published(ctx, p); err != nil {
			return nil, err
		}
	}
	if len(p.Drift()) > 0 {
		if files == nil {
			var err error
			if files, _, err = t.neighbours(ctx); err != nil {
				return nil, err
			}
		}
		for i := range p.Steps {
			t.whose(&p.Steps[i], files)
		}
	}
	for i := range t.profile.Server.Lists {
		if !t.about.Plays() {
			break
		}
		if err := t.list(ctx, p, i, now); err != nil {
			return nil, err
		}
	}
	for _, x := range p.Steps {
		if x.Action == Add || x.Action == Change {
			p.Upload += x.Size
		}
	}
	return p, nil
}

// look finds out what is there of the plan's files: from remembered hashes where size and time
// confirm them, else by content.
func (t *Target) look(ctx context.Context, p *Plan, now *contents, o PlanOptions) error {
	folders := map[string]bool{}
	for _, x := range p.Steps {
		folders[path.Dir(x.Path)] = true
	}
	infos := map[string]transport.Info{}
	list, err := t.site.List(ctx, slices.Sorted(maps.Keys(folders)))
	switch {
	case errors.Is(err, errors.ErrUnsupported):
		if infos, err = t.lookEach(ctx, p); err != nil {
			return err
		}
	case err != nil:
		return t.explain("look at", slices.Sorted(maps.Keys(folders))[0], err)
	}
	for _, i := range list {
		infos[i.Path] = i
	}
	if err := t.respelt(ctx, p, infos); err != nil {
		return err
	}
	ours := map[string]bool{}
	var unsure []string
	for i := range p.Steps {
		x := &p.Steps[i]
		ours[x.Path] = true
		info, there := infos[x.Path]
		if !there {
			continue
		}
		known := now.Files[x.Path]
		if known == nil && x.was != "" {
			known = now.Files[x.was]
		}
		if !o.Verify && known != nil && known.Size == info.Size && known.Time.Equal(info.Time) {
			x.found = known
			continue
		}
		if t.readOnly() && !o.Verify { // all of it would have to be read
			x.found = &File{Size: info.Size, Time: info.Time, Role: x.Role}
			if info.Size == x.want.Size {
				x.found.SHA256 = x.want.SHA256
				x.Note = "by size only: --verify reads it"
			}
			continue
		}
		x.found = &File{Size: info.Size, Time: info.Time, Role: x.Role}
		unsure = append(unsure, x.Path)
	}
	sums, err := t.site.Hash(ctx, unsure)
	if err != nil {
		return t.explain("read", "files there", err)
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.found != nil && x.found.SHA256 == "" {
			if x.found.SHA256 = sums[x.Path]; x.found.SHA256 == "" && !t.readOnly() {
				x.found = nil // gone meanwhile
			}
		}
		p.half.undone(x)
		known := now.Files[x.Path]
		if known == nil && x.was != "" {
			known = now.Files[x.was]
		}
		x.decide(known)
		if x.was != "" && now.Files[x.Path] == nil {
			if x.Action == Leave {
				x.Action = Change // of its name alone
			}
			x.Note = strings.TrimPrefix(x.Note+"; it is spelt "+x.was+" there", "; ")
		}
	}
	// gone already
	p.Steps = slices.DeleteFunc(p.Steps, func(x FileChange) bool { return x.Action == Remove && x.found == nil })
	beside := map[string]bool{path.Clean(t.profile.Server.Bundles): true}
	for _, i := range list {
		if strings.HasSuffix(i.Path, transport.NewEnding) {
			p.left = append(p.left, i.Path)
			continue
		}
		if !ours[i.Path] && !ours[respeltAs(p, i.Path)] && now.Files[i.Path] == nil && beside[path.Dir(i.Path)] &&
			t.profile.Server.List(i.Path) == nil && !strings.HasPrefix(path.Base(i.Path), ".vornix") {
			p.Foreign = append(p.Foreign, i.Path)
		}
	}
	slices.Sort(p.Foreign)
	return nil
}

// respelt finds files whose names are spelt differently on the target: in small or capital letters,
// or composed in another way (Unicode). Where a system takes both names for one file, that is the
// file, and a step that would remove it is dropped.
func (t *Target) respelt(ctx context.Context, p *Plan, infos map[string]transport.Info) error {
	spelt := map[string]string{} // as it is there, by what is the same in all spellings
	for name := range infos {
		spelt[safefile.Fold(name)] = name
	}
	wanted := map[string]bool{}
	for i := range p.Steps {
		wanted[p.Steps[i].Path] = p.Steps[i].Action != Remove
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		was := spelt[safefile.Fold(x.Path)]
		if _, there := infos[x.Path]; there || was == "" || x.Action == Remove || wanted[was] {
			continue
		}
		info, err := t.site.Stat(ctx, x.Path)
		if absent(err) {
			continue // two files for this system
		}
		if err != nil {
			return t.explain("look at", x.Path, err)
		}
		info.Path = x.Path
		infos[x.Path], x.was = info, was
		delete(infos, was)
	}
	return nil
}

// respeltAs is the path of the step whose file is spelt so on the target.
func respeltAs(p *Plan, name string) string {
	for i := range p.Steps {
		if p.Steps[i].was == name {
			return p.Steps[i].Path
		}
	}
	return ""
}

// undone makes of what is found at a step's path what will be there when the switch has been undone.
func (j *journal) undone(x *FileChange) {
	if j == nil {
		return
	}
	for _, k := range j.Files {
		there := ""
		if x.found != nil {
			there = x.found.SHA256
		}
		if k.Path != x.Path || there == k.SHA256 || there != "" && !slices.Contains(k.Ours, there) {
			continue
		}
		if x.found = nil; k.SHA256 != "" {
			x.found = &File{SHA256: k.SHA256, Size: x.Size, Role: x.Role}
		}
	}
}

// lookEach asks for each file by itself.
func (t *Target) lookEach(ctx context.Context, p *Plan) (map[string]transport.Info, error) {
	found := make([]transport.Info, len(p.Steps))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(16)
	for i := range p.Steps {
		g.Go(func() error {
			info, err := t.site.Stat(ctx, p.Steps[i].Path)
			if absent(err) {
				return nil
			}
			found[i] = info
			if err != nil {
				return t.explain("look at", p.Steps[i].Path, err)
			}
			return nil
		})
	}
	infos := map[string]transport.Info{}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, i := range found {
		if i.Path != "" {
			infos[i.Path] = i
		}
	}
	return infos, nil
}

// decide sets the action for a file, of which known was put there last.
func (x *FileChange) decide(known *File) {
	const changed = "it was changed there since it was deployed"
	switch {
	case x.Action == Remove:
		if x.found != nil && known != nil && x.found.SHA256 != known.SHA256 {
			x.Drift = changed
		}
	case x.found == nil:
		x.Action = Add
		if known != nil {
			x.Note = "it was removed there since it was deployed"
		}
	case x.found.SHA256 == x.want.SHA256:
		x.Action = Leave
	default:
		x.Action = Change
		if known == nil {
			x.Drift = "it was there before Vornix put anything there"
		} else if x.found.SHA256 != known.SHA256 {
			x.Drift = changed
		}
	}
}

const maxList = 64 << 20

// list edits a list for the plan.
func (t *Target) list(ctx context.Context, p *Plan, i int, now *contents) error {
	rule := &t.profile.Server.Lists[i]
	ours, want := now.Lists[rule.File], p.goal.Lists[rule.File]
	if p.goal.only {
		want = slices.DeleteFunc(slices.Clone(ours),
			func(e serverlist.Entry) bool { return slices.Contains(p.goal.maps, e.Map) })
	}
	known := now.Files[rule.File]
	// the very list that was written is there, and says what it should
	if known != nil && !p.goal.only && slices.Equal(ours, want) && !p.Verified && p.half == nil {
		if info, err := t.site.Stat(ctx, rule.File); err == nil && info.Size == known.Size &&
			info.Time.Equal(known.Time) {
			p.Steps = append(p.Steps,
				FileChange{Path: rule.File, Action: Leave, Role: Listing, Size: known.Size,
					want: GoalFile{Path: rule.File, File: *known}, found: known})
			if len(want) > 0 {
				p.lists[rule.File] = want
			}
			return nil
		}
	}
	old, info, err := t.readList(ctx, rule.File, known)
	if err == nil {
		old, err = t.undoneList(ctx, p.half, rule.File, old)
	}
	if err != nil {
		return err
	}
	var dangling []string // lines that somebody edited, and that name a file which goes
	edit := func(ours, want []serverlist.Entry) (*serverlist.List, []byte, error) {
		l, err := serverlist.Read(rule, old)
		if err == nil {
			for _, line := range dangling {
				l.Drop(line)
			}
			if !p.goal.only {
				l.Edit(ours, want, t.about.Weights)
			} else {
				names := serverlist.Names(rule)
				for _, m := range p.goal.maps {
					l.Without(m)
					for _, e := range ours {
						if e.Map == m {
							l.Without(names(e.Line))
						}
					}
				}
			}
			var data []byte
			if data, err = l.Bytes(); err == nil {
				return l, append([]byte{}, data...), nil // an empty list is a content too
			}
		}
		return nil, nil,
			&fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("target %q: %v", t.Name, err),
				Place: fault.Place{File: t.String() + "/" + rule.File}, Why: "Nothing was changed.",
				Do: "Correct the file there, or what the profile says of it."}
	}
	l, data, err := edit(ours, want)
	if err != nil {
		return err
	}
	drift := ""
	if dangling, drift = p.dangling(l, want); len(dangling) > 0 {
		if l, data, err = edit(ours, want); err != nil {
			return err
		}
	}
	x := FileChange{Path: rule.File, Role: Listing, Size: int64(len(data)),
		want: GoalFile{Path: rule.File, File: File{SHA256: hashOf(data), Size: int64(len(data)), Role: Listing},
			Data: data}, Drift: drift}
	switch {
	case old == nil && len(data) == 0:
		x.Action = Leave
	case old == nil:
		x.Action = Add
	default:
		x.found = &File{SHA256: hashOf(old), Size: int64(len(old)), Time: info.Time, Role: Listing}
		p.content[x.found.SHA256] = old
		x.Action = Change
		if bytes.Equal(old, data) {
			x.Action = Leave
		} else {
			x.Note = "its other lines stay"
		}
		if known != nil && known.SHA256 != x.found.SHA256 {
			x.Note = strings.TrimPrefix(x.Note+"; edited by others since", "; ")
		}
	}
	// gains before the rotation names them, losses after it has let go of them
	if x.Action == Change && rule.File != t.profile.Server.Playing {
		if _, union, err := edit(nil, want); err != nil {
			return err
		} else if !bytes.Equal(union, data) && !bytes.Equal(union, old) && !p.goal.only {
			x.union = union
		}
	}
	p.content[x.want.SHA256] = data
	if rule.File == t.profile.Server.Playing {
		p.playing = len(l.Entries())
	}
	if len(want) > 0 {
		p.lists[rule.File] = want
	}
	p.Steps = append(p.Steps, x)
	return nil
}

// undoneList is a list as it will be when the switch has been undone; nil for none.
func (t *Target) undoneList(ctx context.Context, j *journal, rel string, old []byte) ([]byte, error) {
	if j == nil {
		return old, nil
	}
	for _, k := range j.Files {
		if k.Path != rel || old != nil && !slices.Contains(k.Ours, hashOf(old)) {
			continue
		}
		if k.SHA256 == "" {
			return nil, nil
		}
		data, err := t.site.Read(ctx, t.safe(k.SHA256), maxList)
		if absent(err) {
			return old, nil // undoing it will say so
		}
		if err != nil {
			return nil, t.explain("read", t.safe(k.SHA256), err)
		}
		return append([]byte{}, data...), nil
	}
	return old, nil
}

// dangling are the entries of an edited list that are not the project's own words any more, and
// name a file that the plan removes.
func (p *Plan) dangling(l *serverlist.List, want []serverlist.Entry) (lines []string, drift string) {
	if p.goal.only {
		return nil, ""
	}
	for _, x := range p.Steps {
		if x.Action != Remove {
			continue
		}
		name := path.Base(x.Path)
		for _, e := range l.Entries() {
			if strings.Contains(e.Line, name) && !slices.Contains(lines, e.Line) &&
				!slices.ContainsFunc(want, func(w serverlist.Entry) bool { return w.Line == e.Line }) {
				lines = append(lines, e.Line)
				drift = fmt.Sprintf("the line %q was edited there and names %s, which is removed",
					humanize.Printable(e.Line), name)
			}
		}
	}
	return lines, drift
}

// readList reads a list, from what is remembered of it when its size and time are still as they
// were. nil is one that is not there.
func (t *Target) readList(ctx context.Context, rel string, known *File) (data []byte, info transport.Info, err error) {
	if info, err = t.site.Stat(ctx, rel); absent(err) {
		return nil, info, nil
	} else if err != nil {
		return nil, info, t.explain("look at", rel, err)
	}
	if known != nil && known.Size == info.Size && known.Time.Equal(info.Time) {
		if d, err := safefile.OpenDir(t.cache); err == nil {
			defer d.Close()
			if data, err := d.ReadFile(known.SHA256 + ".list"); err == nil && hashOf(data) == known.SHA256 {
				return data, info, nil
			}
		}
	}
	data, err = t.site.Read(ctx, rel, maxList)
	if absent(err) {
		return nil, info, nil
	}
	if err != nil {
		return nil, info, t.explain("read", rel, err)
	}
	if data == nil {
		data = []byte{}
	}
	return data, info, nil
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

// count is how many files have an action.
func (p *Plan) count(a Operation) int {
	n := 0
	for _, s := range p.Steps {
		if s.Action == a {
			n++
		}
	}
	return n
}

// Drift lists the steps that would overwrite what somebody else changed.
func (p *Plan) Drift() []FileChange {
	var list []FileChange
	for _, s := range p.Steps {
		if s.Drift != "" {
			list = append(list, s)
		}
	}
	return list
}
