package bundle

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/leakscan"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/zipfile"
	"vornix/core/make/assembly"
)

// Version is raised whenever the same tree would be packed to other bytes; when it is entries that
// come out otherwise, zipfile.Packing too.
const Version = 2

// Dir is the folder in a project that bundles are packed to, IntoMapDir that of maps with their
// content when the profile wants them otherwise.
const (
	Dir        = project.OutDir + "/bundles"
	IntoMapDir = project.OutDir + "/into-map"
	// PlayRoot is the folder of a stand-in that plays what is being worked on: its bundles are for nobody else.
	PlayRoot = project.StateDir + "/play"
)

// place is where bundles go, and what is remembered of them.
type place struct{ dir, state string }

func placeOf(p *project.Project, o Options) place {
	switch {
	case o.Play:
		return place{path.Join(PlayRoot, p.Profile.Server.Bundles), project.StateDir + "/pack-play"}
	case o.IntoMap:
		return place{IntoMapDir, project.StateDir + "/pack-into-map"}
	}
	return place{Dir, project.StateDir + "/pack"}
}

// Bundle is a packed archive.
type Bundle struct {
	Name    string   `json:"name"` // its file name in Dir
	SHA256  string   `json:"sha256"`
	Size    int64    `json:"size"`
	Content int64    `json:"content"` // bytes before packing
	Entries int      `json:"entries"`
	Maps    []string `json:"maps"`
	Part    int      `json:"part,omitempty"` // from 1, when the content is split over several
	Kept    bool     `json:"kept"`           // it was there already, and its content has not changed
}

// Result is what Pack made.
type Result struct {
	Bundles []Bundle
	Removed []string // bundles of earlier runs that are not wanted any more, now removed
	Taken   int      // entries that were taken over from the bundles of before
}

// Options for Pack.
type Options struct {
	Workers int
	IntoMap bool // content goes into the compiled maps, whatever the profile says, beside the bundles
	Play    bool // to be played here and now, below PlayRoot; may be a draft
	// Wrote is told how much of all content is packed.
	Wrote func(done, total int64)
}

// plan is what becomes a bundle, or several where one would be too large.
type plan struct {
	name  string             // may still hold {part}
	lead  *assembly.TreeFile // the compiled map that leads; nil for a plain archive
	files []assembly.TreeFile
}

// kept is what is remembered of a bundle.
type kept struct {
	Bundle
	Key     string // a hash of everything that determines the bundle's bytes
	ModTime int64
}

// asPacked gives what is remembered of a bundle whose file is as it was packed, with the file's own
// time; nil for one that was changed or removed. Size and time are a hint: where only the time
// differs, as in a copied project, the content decides.
func (k kept) asPacked(ctx context.Context, name string) (*kept, error) {
	info, err := os.Stat(name)
	if err != nil || info.Size() != k.Size || !info.Mode().IsRegular() {
		return nil, nil
	}
	if at := info.ModTime().UnixNano(); at != k.ModTime {
		sum, _, err := safefile.HashFileUntil(ctx, name)
		if err != nil {
			return nil, err
		}
		if sum != k.SHA256 {
			return nil, nil
		}
		k.ModTime = at
	}
	return &k, nil
}

// keptEntry is what is remembered of an entry, so that it can be taken over.
type keptEntry struct {
	zipfile.Packed
	SHA256 string // of its content
	Asked  string // method that was asked for
	Bundle string
	// Excepted says that the guard found something in it, which the project allowed.
	Excepted bool
}

// Pack packs the tree as the profile says. A bundle whose content has not changed is left as it is;
// entries that have not changed are taken over from the bundle of before. The caller holds the
// project's lock.
func Pack(ctx context.Context, p *project.Project, tree *assembly.Tree, o Options) (*Result, error) {
	if o.Workers <= 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	if len(tree.Files) == 0 {
		return nil, &fault.Fault{What: "there is nothing to pack", Why: "The project has no map, so nothing ships.",
			Do: "Add a map source, or name files under [pack] include."}
	}
	dir, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	w := &packer{ctx: ctx, p: p, o: o, dir: dir, place: placeOf(p, o), form: formOf(p, o), watch: newWatch(p)}
	if data, err := dir.ReadFile(w.place.state + ".json"); err == nil {
		_ = json.Unmarshal(data, &w.old) // damaged memory is as good as none
	}
	plans := w.plans(tree)
	if err := w.watch.names(plans); err != nil {
		return nil, err
	}
	for _, pl := range plans {
		w.total += pl.size()
	}
	result := &Result{}
	var now []kept
	for _, pl := range plans {
		list, err := w.bring(pl)
		if err != nil {
			return nil, err
		}
		now = append(now, list...)
	}
	for _, k := range now {
		result.Bundles = append(result.Bundles, k.Bundle)
	}
	for _, o := range w.old {
		if !slices.ContainsFunc(now, func(k kept) bool { return k.Name == o.Name }) {
			if err := dir.Remove(path.Join(w.place.dir, o.Name)); err != nil {
				return nil, err
			}
			result.Removed = append(result.Removed, o.Name)
		}
	}
	result.Taken = w.taken
	data, err := json.Marshal(now)
	if err != nil {
		return nil, err
	}
	if w.entries != nil {
		for _, k := range now { // those of bundles that were kept are still right
			if k.Kept {
				w.entries = append(w.entries, w.remembered(k.Name)...)
			}
		}
		data, err := json.Marshal(w.entries)
		if err != nil {
			return nil, err
		}
		if err := dir.WriteCache(w.place.state+"-entries.json", data); err != nil {
			return nil, err
		}
	}
	return result, dir.WriteCache(w.place.state+".json", data)
}

// packer is one run of Pack.
type packer struct {
	ctx     context.Context
	p       *project.Project
	o       Options
	dir     *safefile.Dir
	place   place
	form    profile.Pack
	watch   *watch
	old     []kept
	entries []keptEntry
	known   map[string]keptEntry // of before, by bundle and name; nil until they are asked for
	anew    bool                 // nothing is taken from them
	taken   int
	done    int64
	total   int64
}

// formOf is how bundles are to be packed.
func formOf(p *project.Project, o Options) profile.Pack {
	form := p.Profile.Pack
	if o.IntoMap {
		form.Form, form.Name, form.Largest = "map-file", "{map}.vnm", 0
	}
	return form
}

// plans decides which files go into which bundle.
func (w *packer) plans(tree *assembly.Tree) []plan {
	head := w.p.File.Project
	values := map[string]string{"name": head.Name, "version": head.Version}
	if w.form.Form == "mod" {
		return []plan{{name: profile.Fill(w.form.Name, values), files: tree.Files}}
	}
	var list []plan
	for _, lead := range tree.Files {
		if lead.Step != "map" {
			continue
		}
		name := lead.Maps[0]
		values["map"] = name
		pl := plan{name: profile.Fill(w.form.Name, values)}
		for _, f := range tree.Files {
			if f.Step != "map" && (len(f.Maps) == 0 || slices.Contains(f.Maps, name)) || f.Path == lead.Path &&
				w.form.Form == "map" {
				pl.files = append(pl.files, f)
			}
		}
		if w.form.Form == "map-file" {
			pl.lead = &lead
		}
		list = append(list, pl)
	}
	return list
}

// content is everything in the bundle, with the map that leads.
func (pl *plan) content() *assembly.Tree {
	t := &assembly.Tree{Files: pl.files}
	if pl.lead != nil {
		t.Files = append([]assembly.TreeFile{*pl.lead}, pl.files...)
	}
	return t
}

func (pl *plan) size() int64 { return pl.content().Size() }

// key hashes everything that decides the bundle's bytes, and whether it may be packed at all.
func (w *packer) key(pl *plan) string {
	h := sha256.New()
	// a hash takes every write
	_ = json.NewEncoder(h).Encode([]any{Version, leakscan.Version, w.form.Compress, w.form.Kinds, w.form.Largest,
		pl.name, pl.lead != nil, w.p.File.Pack.Exceptions, pl.content().Identity()})
	return hex.EncodeToString(h.Sum(nil))
}

// bring packs the planned bundle, unless a file with the same key exists.
func (w *packer) bring(pl plan) ([]kept, error) {
	key := w.key(&pl)
	var there []kept
	for _, o := range w.old {
		if o.Key == key {
			now, err := o.asPacked(w.ctx, w.dir.Join(path.Join(w.place.dir, o.Name)))
			if err != nil {
				return nil, err
			}
			if now == nil {
				there = nil
				break
			}
			o = *now
			o.Kept = true
			there = append(there, o)
		}
	}
	if there != nil {
		return there, nil
	}
	return w.pack(&pl, key)
}

// sink is a bundle on its way to its place.
type sink struct {
	*safefile.File
	bundle Bundle
}

// pack writes the bundles of a plan.
func (w *packer) pack(pl *plan, key string) (list []kept, err error) {
	var parts []*sink
	defer func() {
		for _, s := range parts {
			s.Abort()
		}
	}()
	next := func(part int) (zipfile.Sink, int64, error) {
		name := profile.Fill(pl.name, map[string]string{"part": strconv.Itoa(part + 1)})
		f, err := w.dir.Create(path.Join(w.place.dir, name))
		if err != nil {
			return nil, 0, err
		}
		s := &sink{File: f, bundle: Bundle{Name: name, Maps: []string{}}}
		parts = append(parts, s)
		if pl.lead != nil {
			s.bundle.Maps, s.bundle.Content = append(s.bundle.Maps, pl.lead.Maps...), pl.lead.Size
			if err := w.lead(s, pl.lead); err != nil {
				return nil, 0, err
			}
		}
		return s, f.Size(), nil
	}
	old := &olds{open: map[string]*os.File{}}
	sources := w.sources(pl, old)
	defer old.close()
	done := w.done
	packed, err := zipfile.Pack(w.ctx, sources,
		zipfile.Options{Workers: w.o.Workers, Largest: w.form.Largest,
			Look: func(name string) io.Writer { return w.watch.look(name) }, Wrote: w.wrote}, next)
	if errors.Is(err, zipfile.ErrOld) && !w.anew { // the disk has lost some of it: all is packed anew
		w.anew, w.done = true, done
		return w.pack(pl, key)
	}
	if err != nil {
		return nil, w.explain(err, pl)
	}
	if err := w.watch.err(); err != nil {
		return nil, err
	}
	old.close() // before one of them is replaced
	files := map[string]assembly.TreeFile{}
	for _, f := range pl.files {
		files[f.Path] = f
	}
	for _, e := range packed {
		b, f := &parts[e.Part].bundle, files[e.Name]
		b.Entries, b.Content = b.Entries+1, b.Content+e.Size
		if f.Step == "map" {
			b.Maps = append(b.Maps, f.Maps...)
		}
		if e.Taken {
			w.taken++
		}
		w.entries = append(w.entries,
			keptEntry{Packed: e, SHA256: f.SHA256, Asked: w.method(e.Name).String(), Bundle: b.Name,
				Excepted: w.watch.excepted(e.Name)})
	}
	for i, s := range parts {
		if err := s.Settle(w.ctx); err != nil {
			return nil, err
		}
		s.bundle.SHA256, s.bundle.Size = s.SHA256(), s.File.Size()
		if len(parts) > 1 {
			s.bundle.Part = i + 1
		}
	}
	for _, s := range parts {
		if err := s.Commit(); err != nil {
			return nil, err
		}
		info, err := os.Stat(w.dir.Join(path.Join(w.place.dir, s.bundle.Name)))
		if err != nil {
			return nil, err
		}
		list = append(list, kept{Bundle: s.bundle, Key: key, ModTime: info.ModTime().UnixNano()})
	}
	return list, nil
}

// explain turns what packing says into words for the maintainer.
func (w *packer) explain(err error, pl *plan) error {
	var changed *zipfile.ChangedError
	if errors.As(err, &changed) {
		return changedFault(changed.Name)
	}
	var f *fault.Fault
	if errors.As(err, &f) {
		return err
	}
	return fmt.Errorf("packing %s: %w", pl.name, err)
}

func changedFault(name string) error {
	return &fault.Fault{What: "the file changed after it was built",
		Place: fault.Place{File: path.Join(project.TreeDir, name)},
		Why:   "What would ship is not what the sources say.", Do: "Build and pack again; leave out/tree to Vornix."}
}

func (w *packer) wrote(n int64) {
	w.done += n
	if w.o.Wrote != nil {
		w.o.Wrote(w.done, w.total)
	}
}

// lead writes the compiled map that an archive is appended to.
func (w *packer) lead(s *sink, f *assembly.TreeFile) error {
	if err := s.Fill(w.ctx, w.p.Join(project.TreeDir, f.Path)); err != nil {
		return err
	}
	if s.SHA256() != f.SHA256 {
		return changedFault(f.Path)
	}
	r, err := os.Open(w.p.Join(project.TreeDir, f.Path))
	if err != nil {
		return err
	}
	defer r.Close()
	seen := w.watch.look(f.Path)
	_, err = io.Copy(seen, r)
	seen.Done()
	w.wrote(f.Size)
	return err
}

// method is how a file is packed: by the first kind of the profile that matches, else as the
// profile says, but for what is compressed already.
func (w *packer) method(name string) zipfile.Method {
	how := w.form.Compress
	if k := w.form.Kind(name); k != nil && k.Compress != "" {
		how = k.Compress
	} else if zipfile.IsCompressed(name) {
		how = "store"
	}
	switch how {
	case "store":
		return zipfile.Store
	case "zstd":
		return zipfile.Zstd
	}
	return zipfile.Deflate
}

// olds are bundles of before that entries are taken from.
type olds struct{ open map[string]*os.File }

func (o *olds) close() {
	for name, f := range o.open {
		if f != nil {
			f.Close()
		}
		delete(o.open, name)
	}
}

// sources are the files of a plan, with what is known of them from before.
func (w *packer) sources(pl *plan, old *olds) []zipfile.Source {
	var list []zipfile.Source
	for _, f := range pl.files {
		s := zipfile.Source{Name: f.Path, Size: f.Size, SHA256: f.SHA256, Method: w.method(f.Path),
			Open: func() (io.ReadCloser, error) { return os.Open(w.p.Join(project.TreeDir, f.Path)) }}
		if k := w.form.Kind(f.Path); k != nil {
			s.Align = k.Align
		}
		for _, o := range w.old {
			if w.anew {
				break
			}
			e, ok := w.find(o.Name, f.Path)
			if !ok || e.SHA256 != f.SHA256 || e.Asked != s.Method.String() || e.Excepted {
				continue
			}
			file, opened := old.open[o.Name]
			if !opened { // one that was changed since is not believed
				name := w.dir.Join(path.Join(w.place.dir, o.Name))
				if info, err := os.Stat(name); err == nil && info.Size() == o.Size &&
					info.ModTime().UnixNano() == o.ModTime {
					file, _ = os.Open(name) // without it everything is packed anew
				}
				old.open[o.Name] = file
			}
			if file != nil {
				s.Old = &zipfile.Old{File: file, Entry: e.Entry, Check: e.Check}
				break
			}
		}
		list = append(list, s)
	}
	return list
}

// remembered are the entries of a bundle of before.
func (w *packer) remembered(name string) (list []keptEntry) {
	w.find(name, "")
	for _, e := range w.known {
		if e.Bundle == name {
			list = append(list, e)
		}
	}
	slices.SortFunc(list, func(a, b keptEntry) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// find is an entry of a bundle of before.
func (w *packer) find(bundle, name string) (keptEntry, bool) {
	if w.known == nil {
		w.known = map[string]keptEntry{}
		var list []keptEntry
		if data, err := w.dir.ReadFile(w.place.state + "-entries.json"); err == nil &&
			json.Unmarshal(data, &list) == nil {
			for _, e := range list {
				w.known[e.Bundle+"\n"+e.Name] = e
			}
		}
	}
	e, ok := w.known[bundle+"\n"+name]
	return e, ok
}

// Packed lists the bundles of the last Pack that are still on disk as they were packed.
func Packed(p *project.Project) ([]Bundle, error) {
	at := placeOf(p, Options{})
	data, err := os.ReadFile(p.Join(at.state + ".json"))
	var list []kept
	if err != nil || json.Unmarshal(data, &list) != nil || len(list) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "nothing has been packed yet", Do: "Run 'vornix pack' first."}
	}
	var out []Bundle
	for _, k := range list {
		now, err := k.asPacked(context.Background(), p.Join(at.dir, k.Name))
		if err != nil {
			return nil, err
		}
		if now == nil {
			return nil, &fault.Fault{What: "the bundle is not as it was packed",
				Place: fault.Place{File: filepath.ToSlash(path.Join(at.dir, k.Name))},
				Why:   "It was changed or removed since.", Do: "Run 'vornix pack' again."}
		}
		k.Kept = true
		out = append(out, k.Bundle)
	}
	return out, nil
}

// Stale names the bundles that packing a tree would make, replace or remove. It compares what
// decides their bytes, and reads none of them.
func Stale(p *project.Project, tree *assembly.Tree) (names []string) {
	w := &packer{p: p, place: placeOf(p, Options{}), form: formOf(p, Options{})}
	if data, err := os.ReadFile(p.Join(w.place.state + ".json")); err == nil {
		_ = json.Unmarshal(data, &w.old) // damaged memory is as good as none
	}
	keys := map[string]bool{}
	for _, pl := range w.plans(tree) {
		key := w.key(&pl)
		keys[key] = true
		if !slices.ContainsFunc(w.old, func(o kept) bool { return o.Key == key }) {
			names = append(names, profile.Fill(pl.name, map[string]string{"part": "1"}))
		}
	}
	for _, o := range w.old {
		if !keys[o.Key] && !slices.Contains(names, o.Name) {
			names = append(names, o.Name)
		}
	}
	return names
}

// Known lists the slash paths in the project of all bundles of the last runs of Pack, whether they
// are as they were packed or not.
func Known(p *project.Project) (files []string) {
	for _, at := range []place{placeOf(p, Options{}), placeOf(p, Options{IntoMap: true})} {
		var list []kept
		if data, err := os.ReadFile(p.Join(at.state + ".json")); err == nil && json.Unmarshal(data, &list) == nil {
			for _, k := range list {
				files = append(files, path.Join(at.dir, k.Name))
			}
		}
	}
	return files
}
