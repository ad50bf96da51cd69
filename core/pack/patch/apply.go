package patch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/signature"
	"vornix/core/base/transaction"
	"vornix/core/format/vcdiff"
	"vornix/core/format/zipdelta"
)

// ApplyOptions for Plan and Apply.
type ApplyOptions struct {
	Workers   int
	Most      int64 // bytes that a result may have; 0: vcdiff.MaxTarget
	Conflicts Conflicts
	To        string // a new folder for the result; "" changes what is there
	Advanced  func(done, total int64)
}

// FileChange is what happens to a file.
type FileChange struct {
	Path string `json:"path"`
	Do   string `json:"do"` // add, replace, remove, bring, settings, leave
	Why  string `json:"why,omitempty"`
	Old  int64  `json:"old"` // bytes
	New  int64  `json:"new"`
}

// Plan is what applying patches comes to.
type Plan struct {
	Already bool         `json:"already"` // it was applied before
	Place   string       `json:"place"`   // system path of the folder or the file
	Patches []string     `json:"patches"` // system paths, in the order in which they are applied
	From    string       `json:"from,omitempty"`
	To      string       `json:"to,omitempty"`
	Signer  string       `json:"signer,omitempty"`
	Actions []FileChange `json:"actions"`
	Notes   []string     `json:"notes"`
	route   []*Opened
	at      *fit
	l       *listing
	looked  fs.FileInfo // the folder, as it was when this was planned
}

// WrongBaseError says that what is there is not what a patch is for.
type WrongBaseError struct {
	Place   string   `json:"place"`
	Want    string   `json:"want"`    // what the patch is for, in words
	Version string   `json:"version"` // the one that is there, when it is known
	Wrong   []Wrong  `json:"wrong"`
	Leads   []string `json:"leads"` // versions that other patches at hand are for
}

func (e *WrongBaseError) Error() string {
	if e.Version != "" {
		return fmt.Sprintf("this is version %s, and the patch is for %s", e.Version, e.Want)
	}
	return fmt.Sprintf("this is not what the patch is for (%s)", e.Want)
}

// words says what a patch is for.
func (p *Patch) words() string {
	name := p.Title
	if name == "" && len(p.Base.Files) > 0 {
		name = p.Base.Files[0].Path
	}
	if p.From != "" {
		name += " " + p.From
	}
	return name
}

// Prepare finds out what applying patches to a place comes to. The first of the patches that were
// asked for is to be reached; with no one in particular (several), the newest version that they
// lead to. Others may help to get there. Nothing is changed.
func Prepare(ctx context.Context, where string, asked, others []*Opened, o ApplyOptions) (*Plan, error) {
	l, err := list(ctx, where)
	if err != nil {
		return nil, err
	}
	f := &finder{ctx: ctx, l: l, fits: map[*Opened]*fit{}, done: map[*Opened]*fit{}}
	all := append(slices.Clone(asked), others...)
	route, err := f.route(asked, all)
	if err != nil {
		return nil, err
	}
	if route == nil {
		for _, p := range asked {
			ok, err := f.applied(p)
			if err != nil {
				return nil, err
			}
			if ok {
				at := f.done[p]
				return &Plan{Already: true, Place: l.place(at, &p.Patch), Patches: []string{p.Name}, From: p.From,
					To: p.To, Signer: p.Signer, Actions: []FileChange{}, Notes: []string{}}, nil
			}
		}
		if route, err = f.mergeable(asked); err != nil {
			return nil, err
		}
	}
	if route == nil {
		return nil, f.wrong(asked, all)
	}
	first, last := route[0], route[len(route)-1]
	at := f.fits[first]
	p := &Plan{Place: l.place(at, &first.Patch), From: first.From, To: last.To, Actions: []FileChange{},
		Notes: []string{},
		route: route, at: at, l: l, Signer: first.Signer}
	for _, r := range route {
		p.Patches = append(p.Patches, r.Name)
		if r.Signer != p.Signer {
			p.Signer = ""
		}
	}
	if p.looked, err = os.Stat(p.root()); err != nil {
		return nil, err
	}
	return p, p.look(ctx, o)
}

// place is where something is, for people.
func (l *listing) place(at *fit, p *Patch) string {
	if p.One() {
		return filepath.ToSlash(l.system(path.Join(at.root, at.name)))
	}
	return filepath.ToSlash(filepath.Clean(l.system(at.root)))
}

// finder looks for a way from what is there to what is wanted.
type finder struct {
	ctx  context.Context
	l    *listing
	fits map[*Opened]*fit // the best place of each patch's base
	done map[*Opened]*fit // the same of its result
}

func (f *finder) fit(p *Opened) (*fit, error) {
	if at, ok := f.fits[p]; ok {
		return at, nil
	}
	at, err := f.l.best(f.ctx, &p.Base, p.touched(), p.One())
	f.fits[p] = at
	return at, err
}

func (f *finder) starts(p *Opened) (bool, error) {
	at, err := f.fit(p)
	if err != nil || at == nil || len(at.wrong) > 0 {
		return false, err
	}
	// A file that only gets another name has it already when it is found under that.
	renamed := p.One() && p.Base.SHA256 == p.Result.SHA256 &&
		strings.HasSuffix("/"+path.Join(at.root, at.name), "/"+p.Result.Files[0].Path)
	return !renamed || p.Base.Files[0].Path == p.Result.Files[0].Path, nil
}

// applied says whether what a patch makes is there already.
func (f *finder) applied(p *Opened) (bool, error) {
	made, gone := map[string]bool{}, []string{}
	for _, s := range p.Steps {
		switch s.Do {
		case DoRemove:
			gone = append(gone, s.Path)
		case DoSettings:
		default:
			made[s.Path] = true
		}
	}
	if len(made)+len(gone) == 0 || len(p.Result.Files) == 0 {
		return false, nil // nothing tells: it is done again, which changes nothing where it was done
	}
	if len(made) == 0 {
		made = nil // all of the result counts
	}
	at, err := f.l.best(f.ctx, &p.Result, made, p.One())
	f.done[p] = at
	if err != nil || at == nil || len(at.wrong) > 0 {
		return false, err
	}
	return made != nil ||
		!slices.ContainsFunc(gone, func(rel string) bool { return f.l.files[path.Join(at.root, rel)] != nil }), nil
}

// route is the shortest way, in bytes, from what is there to the patch that was asked for, or to
// the newest version; nil when there is none.
func (f *finder) route(asked, all []*Opened) ([]*Opened, error) {
	if len(asked) == 1 {
		if ok, err := f.starts(asked[0]); err != nil || ok {
			return asked, err
		}
		if ok, err := f.applied(asked[0]); err != nil || ok {
			return nil, err
		}
	}
	// The shortest way to each state, found round by round: a way has no more steps than there are patches.
	ways := map[string][]*Opened{}
	size := map[string]int64{}
	better := func(way []*Opened, bytes int64) bool {
		to := way[len(way)-1].Result.SHA256
		if old, ok := size[to]; ok && old <= bytes {
			return false
		}
		ways[to], size[to] = way, bytes
		return true
	}
	for _, p := range all {
		ok, err := f.starts(p)
		if err != nil {
			return nil, err
		}
		if ok {
			better([]*Opened{p}, p.Size)
		}
	}
	for grown := true; grown; {
		grown = false
		for _, p := range all {
			if way, ok := ways[p.Base.SHA256]; ok && better(append(slices.Clone(way), p), size[p.Base.SHA256]+p.Size) {
				grown = true
			}
		}
	}
	if len(asked) == 1 { // that one is applied, and others only lead to it
		if way := ways[asked[0].Base.SHA256]; way != nil {
			return append(slices.Clone(way), asked[0]), nil
		}
		return nil, nil
	}
	var best []*Opened
	for _, to := range slices.Sorted(maps.Keys(ways)) {
		way := ways[to]
		if best == nil || compareVersions(way[len(way)-1].To, best[len(best)-1].To) > 0 {
			best = way
		}
	}
	return best, nil
}

func compareVersions(a, b string) int {
	if semver.Valid(a) && semver.Valid(b) {
		return semver.Compare(a, b)
	}
	return strings.Compare(a, b)
}

// mergeable is the patch whose base is there but for texts into which its changes can be merged.
func (f *finder) mergeable(asked []*Opened) ([]*Opened, error) {
	for _, p := range asked {
		at, err := f.fit(p)
		if err != nil {
			return nil, err
		}
		if at == nil || len(at.wrong) == 0 {
			continue
		}
		all := true
		for i := range at.wrong {
			w := &at.wrong[i]
			all = all && !w.Gone &&
				slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Do == DoEdit && at.at[s.Path] == w.Path }) &&
				w.Have <= maxText
		}
		if all {
			return []*Opened{p}, nil
		}
	}
	return nil, nil
}

// wrong says what is there instead.
func (f *finder) wrong(asked, all []*Opened) error {
	var p *Opened
	var at *fit
	for _, q := range asked {
		if x := f.fits[q]; x != nil && (at == nil || len(x.wrong) < len(at.wrong)) {
			p, at = q, x
		}
	}
	if p == nil {
		return &fault.Fault{Kind: fault.Refused, What: "what the patch is for is not there",
			Place: fault.Place{File: filepath.ToSlash(f.l.system(f.l.only))},
			Why:   fmt.Sprintf("It is for %s: %s.", asked[0].words(), names(asked[0].Base.Files)),
			Do:    "Name the file or folder that it lies in."}
	}
	e := &WrongBaseError{Place: f.l.place(at, &p.Patch), Want: p.words(), Wrong: at.wrong}
	for _, q := range all {
		for _, k := range q.Known {
			if e.Version == "" && f.isKnown(at, q, k) {
				e.Version = k.Version
			}
		}
	}
	for _, q := range all {
		if q.From != "" && !slices.Contains(e.Leads, q.From) {
			e.Leads = append(e.Leads, q.From)
		}
	}
	slices.SortFunc(e.Leads, compareVersions)
	if err := p.measure(f.ctx, f.l, e.Wrong, at.at); err != nil {
		return err
	}
	return e
}

// isKnown says whether what is there is another version that a patch knows of.
func (f *finder) isKnown(at *fit, p *Opened, k Known) bool {
	if len(k.Files) == 0 {
		return false
	}
	for name, sum := range k.Files {
		rel := path.Join(at.root, name)
		if p.One() && len(k.Files) == 1 {
			rel = path.Join(at.root, at.name)
		}
		if have, err := f.l.sum(rel); err != nil || have != sum {
			return false
		}
	}
	return true
}

func names(files []File) string {
	var list []string
	for _, f := range files[:min(3, len(files))] {
		list = append(list, f.Path)
	}
	if n := len(files) - len(list); n > 0 {
		list = append(list, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(list, ", ")
}

// Trust demands that each patch is signed by one of the trusted keys.
func (p *Plan) Trust(trusted []string) error {
	for _, r := range p.route {
		if err := signature.Trust(r.Signer, trusted); err != nil {
			var f *fault.Fault
			if errors.As(err, &f) {
				f.Place = fault.Place{File: filepath.ToSlash(r.Name)}
			}
			return err
		}
	}
	return nil
}

// Root is the folder that paths count from, and that the records lie in.
func (p *Plan) Root() string { return filepath.ToSlash(p.root()) }

// root is the system path of the folder that paths count from.
func (p *Plan) root() string { return filepath.Clean(p.l.system(p.at.root)) }

// below is a path in the folder by its path in the listing.
func (p *Plan) below(rel string) string {
	if p.at.root == "." {
		return rel
	}
	return strings.TrimPrefix(rel, p.at.root+"/")
}

// look works out the actions.
func (p *Plan) look(ctx context.Context, o ApplyOptions) error {
	if o.Most == 0 {
		o.Most = vcdiff.MaxTarget
	}
	result := map[string]File{}
	for _, f := range p.route[0].Base.Files {
		result[f.Path] = f
	}
	gone := map[string]bool{}
	for _, r := range p.route {
		if r.Result.Size > o.Most {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the patch makes %d bytes, more than the %d that are allowed", r.Result.Size,
					o.Most),
				Place: fault.Place{File: filepath.ToSlash(r.Name)}, Why: "It may be a trap.",
				Do: "If it is right: --max-size SIZE"}
		}
		for _, s := range r.Steps {
			switch s.Do {
			case DoRemove:
				delete(result, s.Path)
				gone[s.Path] = true
			case DoSettings:
			default:
				result[s.Path] = *r.Result.find(s.Path)
				delete(gone, s.Path)
			}
		}
	}
	for _, pth := range slices.Sorted(maps.Keys(result)) {
		f := result[pth]
		base := p.route[0].Base.find(pth)
		if base != nil && base.SHA256 == f.SHA256 {
			continue
		}
		a := FileChange{Path: pth, Do: "add", New: f.Size}
		if have := p.l.files[path.Join(p.at.root, pth)]; have != nil {
			a.Do, a.Old = "replace", have.size
			if base == nil && !p.route[0].One() {
				a.Why = "somebody's own file, which is kept"
			}
		}
		p.Actions = append(p.Actions, a)
	}
	if first := p.route[0]; first.One() && !first.KeepBase {
		if base := first.Base.Files[0].Path; p.at.name != base && !gone[base] {
			gone[base] = true // it has another name here, and the result gets the patch's
		}
	}
	for _, pth := range slices.Sorted(maps.Keys(gone)) {
		rel := p.at.at[pth]
		if have := p.l.files[rel]; have != nil {
			p.Actions = append(p.Actions,
				FileChange{Path: p.below(rel), Do: "remove", Old: have.size, Why: "it is kept for going back"})
		}
	}
	for _, r := range p.route {
		for _, b := range r.Brought {
			a := FileChange{Path: b.To, Do: "bring", New: b.Data.Size}
			if have := p.l.files[path.Join(p.at.root, b.To)]; have != nil {
				a.Old = have.size
			}
			p.Actions = slices.DeleteFunc(p.Actions,
				func(x FileChange) bool { return x.Do == "bring" && x.Path == b.To })
			p.Actions = append(p.Actions, a)
		}
		for i := range r.Steps {
			s := &r.Steps[i]
			if s.Do != DoSettings {
				continue
			}
			have, there, err := readIfThere(filepath.Join(p.root(), filepath.FromSlash(s.Path)))
			if err != nil {
				return err
			}
			out, did, err := settings(s, have, there)
			if err != nil {
				return err
			}
			a := FileChange{Path: s.Path, Do: "settings", Why: strings.Join(did, "; "), Old: int64(len(have)),
				New: int64(len(out))}
			if len(did) == 0 {
				a.Do, a.Why = "leave", "it has all of that already"
			}
			p.Actions = append(p.Actions, a)
		}
	}
	for _, other := range p.at.others {
		p.Notes = append(p.Notes, other+" is not as it was, and is left as it is")
	}
	for _, w := range p.at.wrong {
		p.Notes = append(p.Notes, w.Path+" was changed by somebody else: the patch's change is merged into it")
	}
	return p.merges(ctx, o)
}

// merges tries the texts that are to be merged, so that contradictions are known before anything is done.
func (p *Plan) merges(ctx context.Context, o ApplyOptions) error {
	if len(p.at.wrong) == 0 {
		return nil
	}
	var bad []Contradiction
	r := p.route[0]
	for i := range r.Steps {
		s := &r.Steps[i]
		if err := ctx.Err(); err != nil {
			return err
		}
		if s.Do != DoEdit || !slices.ContainsFunc(p.at.wrong, func(w Wrong) bool { return w.Path == p.at.at[s.Path] }) {
			continue
		}
		have, _, err := readIfThere(p.l.system(p.at.at[s.Path]))
		if err != nil {
			return err
		}
		_, places, err := r.edit(s, have, o.Conflicts)
		if err != nil {
			return err
		}
		if len(places) > 0 && o.Conflicts == Refuse {
			bad = append(bad, Contradiction{s.Path, places})
		}
	}
	if len(bad) > 0 {
		return &ConflictError{bad}
	}
	return nil
}

// source is a file of a state on the way.
type source struct {
	system string // where it can be read
	staged string // name in the folder, when it waits beside
	file   File
	like   os.FileInfo
	rel    string // slash path in the folder, when it lies there
}

// staging gives files to write what is new into.
type staging struct {
	begin func() (*safefile.File, string, error) // the file and its name
	at    func(name string) string               // its system path once it is committed
}

// Mend brings changes to their end that a killed run left, in the folder of a place and those
// below. It says what became of them.
func Mend(ctx context.Context, where string) ([]string, error) {
	folders, err := Patched(where)
	if err != nil {
		return nil, err
	}
	var did []string
	for _, dir := range folders {
		if !transaction.HasRemains(dir) {
			continue
		}
		f, err := transaction.Open(ctx, dir, "vornix patch")
		if err != nil {
			return did, err
		}
		if f.Recovered != "" {
			did = append(did, fmt.Sprintf("a change of %s that was cut off is %s", filepath.ToSlash(dir), f.Recovered))
		}
		f.Close()
	}
	return did, nil
}

// Patched lists the folders that have records of changes: that of a place, and those below.
func Patched(where string) (list []string, err error) {
	info, err := os.Stat(where)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no file or folder " + filepath.ToSlash(where),
			Err: err, Do: "Name what was patched, or the folder that it lies in."}
	}
	if !info.IsDir() {
		where = filepath.Dir(where)
		if _, err := os.Stat(filepath.Join(where, recordsDir)); err == nil {
			return []string{where}, nil
		}
		return nil, nil
	}
	err = filepath.WalkDir(where, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			if p == where {
				return err
			}
			return nil // a folder that can't be read was not patched by us
		}
		if e.IsDir() && e.Name() == recordsDir {
			list = append(list, filepath.Dir(p))
			return filepath.SkipDir
		}
		return nil
	})
	return list, err
}

// Apply does what a plan says. Everything is made beside and held to its hash first; then it takes its place at once.
func (p *Plan) Apply(ctx context.Context, o ApplyOptions) (*transaction.Record, error) {
	if p.Already {
		return nil, nil
	}
	if o.To != "" {
		return nil, p.applyTo(ctx, o)
	}
	folder, err := transaction.Open(ctx, p.root(), "vornix patch apply")
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	if err := folder.IsStill(p.looked); err != nil {
		return nil, err
	}
	a := &applying{p: p, o: o, staging: staging{
		begin: func() (*safefile.File, string, error) {
			s, err := folder.Stage()
			if err != nil {
				return nil, "", err
			}
			return s.File, s.Name(), nil
		}, at: folder.Join}}
	view, err := a.run(ctx)
	if err != nil {
		return nil, err
	}
	changes, err := a.changes(view, folder)
	if err != nil {
		return nil, err
	}
	last := p.route[len(p.route)-1]
	r := transaction.Record{Kind: "patch", Title: last.Title, From: p.From, To: p.To, Signer: p.Signer,
		Notes: append(slices.Clone(p.Notes), a.notes...)}
	for _, one := range p.route {
		r.Source = append(r.Source, one.SHA256)
	}
	if len(changes) == 0 {
		p.Already = true
		return nil, nil
	}
	return folder.Commit(ctx, changes, r)
}

// applyTo writes the result into a new folder.
func (p *Plan) applyTo(ctx context.Context, o ApplyOptions) error {
	d, err := safefile.MakeDir(o.To)
	if err != nil {
		return err
	}
	defer d.Close()
	stage := "." + recordsDir + "-new"
	defer func() { _ = d.RemoveTree(stage) }() // empty by then, or of no use
	n := 0
	a := &applying{p: p, o: o, staging: staging{
		begin: func() (*safefile.File, string, error) {
			n++
			name := path.Join(stage, fmt.Sprint(n))
			f, err := d.Create(name)
			return f, name, err
		}, at: d.Join}}
	view, err := a.run(ctx)
	if err != nil {
		return err
	}
	last := p.route[len(p.route)-1]
	for _, pth := range slices.Sorted(maps.Keys(view)) {
		if _, err := d.Stat(pth); err == nil {
			return &fault.Fault{Kind: fault.Refused, What: "the file already exists",
				Place: fault.Place{File: filepath.ToSlash(d.Join(pth))}, Why: "Nothing is overwritten unasked.",
				Do: "Name an empty folder."}
		}
	}
	var placed []string
	undo := func(err error) error { // all of it or nothing
		for _, pth := range placed {
			_ = d.Remove(pth) // what is left of it is of no use
		}
		return err
	}
	for _, pth := range slices.Sorted(maps.Keys(view)) {
		src := view[pth]
		if last.KeepBase && last.Result.find(pth) == nil &&
			!slices.ContainsFunc(last.Brought, func(b Brought) bool { return b.To == pth }) {
			continue
		}
		if src.staged == "" { // it did not change
			if _, _, err := d.CopyFrom(ctx, src.system, pth); err != nil {
				return undo(err)
			}
		} else if err := d.Move(src.staged, pth); err != nil {
			return undo(err)
		}
		placed = append(placed, pth)
	}
	return nil
}

// applying is one run of Apply.
type applying struct {
	p       *Plan
	o       ApplyOptions
	staging staging
	notes   []string
	done    int64
	total   int64
	gone    map[string]*source // what is there and goes, by its path in the folder
}

// run makes the result of the whole route beside, and returns all its files by their paths.
func (a *applying) run(ctx context.Context) (map[string]*source, error) {
	p := a.p
	view := map[string]*source{}
	for _, f := range p.route[0].Base.Files {
		rel := p.at.at[f.Path]
		if p.l.files[rel] == nil {
			continue // it is gone, and nothing needs it
		}
		s := &source{system: p.l.system(rel), file: f, rel: p.below(rel)}
		info, err := os.Stat(s.system)
		if err != nil {
			return nil, err
		}
		s.like = info
		view[f.Path] = s
	}
	start := view
	for _, r := range p.route {
		for _, s := range r.Steps {
			if f := r.Result.find(s.Path); f != nil && s.Do != DoRemove {
				a.total += f.Size
			}
		}
	}
	for _, r := range p.route {
		next, err := a.one(ctx, r, view)
		if err != nil {
			return nil, err
		}
		view = next
	}
	a.gone = map[string]*source{}
	for pth, s := range start {
		if view[pth] == nil {
			a.gone[s.rel] = s
		} else if view[pth].staged != "" && s.rel != pth && !p.route[len(p.route)-1].KeepBase {
			a.gone[s.rel] = s // the one file had another name
		}
	}
	return view, nil
}

// one does the steps of one patch.
func (a *applying) one(ctx context.Context, o *Opened, base map[string]*source) (map[string]*source, error) {
	next := maps.Clone(base)
	for i := range o.Steps {
		s := &o.Steps[i]
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if s.Do == DoRemove {
			delete(next, s.Path)
			continue
		}
		made, err := a.step(ctx, o, s, base)
		if err != nil {
			return nil, err
		}
		if made != nil {
			next[s.Path] = made
		}
		if f := o.Result.find(s.Path); f != nil {
			if a.done += f.Size; a.o.Advanced != nil {
				a.o.Advanced(a.done, a.total)
			}
		}
	}
	for _, b := range o.Brought {
		made, err := a.write(b.To, File{b.To, b.Data.Size, b.Data.SHA256}, nil,
			func(w *safefile.File) error { return o.copyTo(ctx, &b.Data, w) })
		if err != nil {
			return nil, err
		}
		next[b.To] = made
	}
	return next, nil
}

// write makes a file beside and holds it to what it must be; a want without a hash takes what comes.
func (a *applying) write(pth string, want File, like os.FileInfo, fill func(w *safefile.File) error) (*source, error) {
	w, name, err := a.staging.begin()
	if err != nil {
		return nil, err
	}
	defer w.Abort()
	if err := fill(w); err != nil {
		return nil, err
	}
	if want.SHA256 != "" && (w.SHA256() != want.SHA256 || w.Size() != want.Size) {
		return nil, &fault.Fault{What: "what the patch makes of " + pth + " is not what it must be",
			Why: "Nothing was changed.", Do: "Get the patch again; if that does not help, its authors made a mistake."}
	}
	if like != nil {
		w.Like(like)
	}
	out := &source{staged: name, file: File{pth, w.Size(), w.SHA256()}, like: like}
	if err := w.Commit(); err != nil {
		return nil, err
	}
	out.system = a.staging.at(name)
	return out, nil
}

// step makes what one step makes; nil when there is nothing to do.
func (a *applying) step(ctx context.Context, o *Opened, s *Step, base map[string]*source) (*source, error) {
	var want File
	if f := o.Result.find(s.Path); f != nil {
		want = *f
	}
	from := base[s.From]
	if s.From == "" {
		from = base[s.Path]
	}
	var like os.FileInfo
	if from != nil {
		like = from.like
	}
	switch s.Do {
	case DoAdd, DoReplace:
		return a.write(s.Path, want, like, func(w *safefile.File) error { return o.copyTo(ctx, s.Data, w) })
	case DoRename, DoCopy:
		return a.write(s.Path, want, like, func(w *safefile.File) error { return w.Fill(ctx, from.system) })
	case DoDelta:
		return a.write(s.Path, want, like, func(w *safefile.File) error { return a.delta(ctx, o, s, from, want, w) })
	case DoEdit:
		have, _, err := readIfThere(from.system)
		if err != nil {
			return nil, err
		}
		out, places, err := o.edit(s, have, a.o.Conflicts)
		if err != nil {
			return nil, err
		}
		if len(places) > 0 {
			if a.o.Conflicts == Refuse {
				return nil, &ConflictError{[]Contradiction{{s.Path, places}}}
			}
			a.notes = append(a.notes,
				fmt.Sprintf("%s: where both changed the same (%d), %s", s.Path, len(places),
					map[Conflicts]string{Keep: "what was there stayed", Take: "the patch's came"}[a.o.Conflicts]))
		}
		if slices.ContainsFunc(a.p.at.wrong, func(w Wrong) bool { return w.Path == a.p.at.at[s.Path] }) {
			want.SHA256 = "" // it is another's text, and becomes one that nobody knows yet
		}
		return a.write(s.Path, want, like, func(w *safefile.File) error {
			_, err := w.Write(out)
			return err
		})
	case DoSettings:
		return a.settings(s, base)
	}
	return nil, fmt.Errorf("this Vornix does not know the step %q", s.Do)
}

// settings changes the keys and lines of a file of which the patch says nothing else.
func (a *applying) settings(s *Step, base map[string]*source) (*source, error) {
	system := filepath.Join(a.p.root(), filepath.FromSlash(s.Path))
	var like os.FileInfo
	if before := base[s.Path]; before != nil { // a patch before this one changed it
		system, like = before.system, before.like
	} else if info, err := os.Stat(system); err == nil {
		like = info
	}
	have, there, err := readIfThere(system)
	if err != nil {
		return nil, err
	}
	out, did, err := settings(s, have, there)
	if err != nil || len(did) == 0 {
		return nil, err
	}
	return a.write(s.Path, File{}, like, func(w *safefile.File) error {
		_, err := w.Write(out)
		return err
	})
}

func (a *applying) delta(ctx context.Context, o *Opened, s *Step, from *source, want File, w *safefile.File) error {
	change, done, err := o.scratch(ctx, s.Data, "")
	if err != nil {
		return err
	}
	defer done()
	old, err := os.Open(from.system)
	if err != nil {
		return err
	}
	defer old.Close()
	// write holds it to its hash
	_, err = zipdelta.Decode(ctx, old, from.file.Size, change, w,
		zipdelta.Limits{Workers: a.o.Workers, Most: want.Size, Unchecked: true})
	var format *vcdiff.FormatError
	switch {
	case errors.As(err, &format):
		return o.damaged(s.Data, err)
	case errors.Is(err, vcdiff.ErrSource), errors.Is(err, io.ErrUnexpectedEOF):
		return &fault.Fault{Kind: fault.Refused, What: "the change does not fit " + s.From,
			Place: fault.Place{File: filepath.ToSlash(from.system)}, Err: err,
			Why: "Nothing was changed. The file changed while it was read, or the patch is damaged.",
			Do:  "Close what uses the file, and do it again."}
	}
	return err
}

// changes are what has to happen in the folder.
func (a *applying) changes(view map[string]*source, folder *transaction.Folder) (list []transaction.Change, err error) {
	p := a.p
	for _, pth := range slices.Sorted(maps.Keys(view)) {
		s := view[pth]
		if s.staged == "" {
			continue
		}
		c := transaction.Change{File: transaction.File{Path: pth, New: s.file.SHA256, NewSize: s.file.Size,
			Text: p.isText(pth) && s.file.Size <= maxText}, Staged: s.staged}
		if err := p.was(&c); err != nil {
			return nil, err
		}
		// where the name is spelled otherwise, the file that would go is this one
		if c.Old != c.New || folder.Spelled(pth) != pth {
			list = append(list, c)
		}
	}
	for _, rel := range slices.Sorted(maps.Keys(a.gone)) {
		c := transaction.Change{File: transaction.File{Path: rel}}
		if err := p.was(&c); err != nil {
			return nil, err
		}
		if c.Old != "" && !slices.ContainsFunc(list, func(o transaction.Change) bool { return o.Path == rel }) {
			list = append(list, c)
		}
	}
	return list, nil
}

// isText says whether a file is changed as a text.
func (p *Plan) isText(pth string) bool {
	return slices.ContainsFunc(p.route, func(o *Opened) bool {
		return slices.ContainsFunc(o.Steps,
			func(s Step) bool { return s.Path == pth && (s.Do == DoEdit || s.Do == DoSettings) })
	})
}

// was fills in what stands where a change goes.
func (p *Plan) was(c *transaction.Change) error {
	rel := path.Join(p.at.root, c.Path)
	have := p.l.files[rel]
	if have == nil {
		if info, err := os.Stat(p.l.system(rel)); err == nil { // only the one file was listed
			if !info.Mode().IsRegular() {
				return &fault.Fault{Kind: fault.Refused, What: "a folder or a special file has the name of this file",
					Place: fault.Place{File: filepath.ToSlash(p.l.system(rel))}, Why: "Nothing was changed.",
					Do: "Move it away."}
			}
			have = &listed{size: info.Size(), written: info.ModTime()}
			p.l.files[rel] = have
		}
	}
	if have == nil {
		return nil
	}
	sum, err := p.l.sum(rel)
	if err != nil {
		return err
	}
	c.Old, c.OldSize, c.Seen = sum, have.size, have.written
	return nil
}
