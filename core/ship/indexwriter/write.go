// Package indexwriter writes a project's version index from its packed bundles, signs it, and
// checks and collects the files that it names.
//
// write.go builds the index: it goes on from the highest number that anyone has seen (out/index,
// the published index, earlier releases, the ledger), so that a number is never used twice. The
// ledger records a number before the file that carries it is written. text.go writes the formats
// that games read themselves and reads them back before they are written. collect.go copies what an
// index names into a folder that is served, the index last.
package indexwriter

import (
	"bytes"
	"context"
	"crypto"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/signature"
	"vornix/core/base/template"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/game/compare"
	"vornix/core/make/metadata"
	"vornix/core/pack/bundle"
	"vornix/core/pack/patch"
	"vornix/core/ship/index"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// Dir is the folder in a project that the index is written to.
const Dir = project.OutDir + "/index"

// ReleasesDir is the folder in a project with a copy of what went out, by version; PatchesDir that
// of patches between versions.
const (
	ReleasesDir = project.OutDir + "/releases"
	PatchesDir  = project.OutDir + "/patches"
	// patchesAddress is where patches lie beside the index.
	patchesAddress = "patches/"
)

// WriteOptions for Write.
type WriteOptions struct {
	// Date of the release that is being made, as in 2026-11-25; empty: what was released before
	// keeps its date, and the rest has none.
	Date     string
	Keys     []crypto.Signer
	Now      time.Time // for what a signature says of its age
	Unsigned bool      // may be written without a signature although the last one had one
	LostKey  bool      // may be signed by keys that the last index does not name
	// Rehearsal does not write the ledger: the caller restores the old index.
	Rehearsal bool
	// Published is the index that players get now; nil where there is none, or it could not be
	// read. The new index takes the next number, and its keys must be among those that sign.
	Published   *index.Index
	PublishedAt string // where that is, for people
}

// Result is what Write made.
type Result struct {
	Index    *index.Index
	Files    []string // slash paths in the project
	Kept     bool     // all of them were there already, the same
	Findings []finding.Finding
}

// Guard refuses bundles that differ from those of the same version that were released: players who have that version
// would never get the change.
func Guard(p *project.Project, bundles []bundle.Bundle) error {
	events, err := ledger.Read(p)
	if err != nil {
		return err
	}
	version := p.File.Project.Version
	done := ledger.Release(events, version)
	if done == nil {
		return nil
	}
	var changed []string
	for _, b := range bundles {
		if done.Files[b.Name] != b.SHA256 {
			changed = append(changed, b.Name)
		}
	}
	for name := range done.Files {
		if !slices.ContainsFunc(bundles, func(b bundle.Bundle) bool { return b.Name == name }) {
			changed = append(changed, name)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	slices.Sort(changed)
	return &fault.Fault{Kind: fault.Refused,
		What:  fmt.Sprintf("version %s is released, and %s is not what was released", version, some(changed)),
		Place: p.Doc.At("project", "version"),
		Why:   "Players who have that version would never get the change, and a finished version is never altered.",
		Do:    fmt.Sprintf("Raise the version, with: vornix release %s", semver.Next(version))}
}

// some names the first few of many.
func some(list []string) string {
	if len(list) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
	}
	return strings.Join(list, ", ")
}

// HeadOf is what lines say of a project.
func HeadOf(p *project.Project) Head {
	return Head{p.File.Project.Name, p.File.Project.Title, p.File.Project.Version}
}

// Records are the records of packed bundles, all in the project's version.
func Records(p *project.Project, bundles []bundle.Bundle, g *assetgraph.Graph) []index.Record {
	list := []index.Record{}
	for _, b := range bundles {
		r := index.Record{Name: nameOf(p, b), Version: p.File.Project.Version, File: b.Name,
			URL: url.PathEscape(b.Name), Size: b.Size, SHA256: b.SHA256, Maps: []index.Map{}}
		var scenes []*scene.Map
		for _, name := range b.Maps {
			if a := g.Find(assetgraph.Map, name); a != nil && a.Scene != nil {
				scenes = append(scenes, a.Scene)
				continue
			}
			r.Maps = append(r.Maps, index.Map{Name: name, Title: name})
		}
		facts := metadata.Look(p, g, scenes)
		r.Game = facts.Game
		for _, m := range facts.Maps {
			r.Maps = append(r.Maps,
				index.Map{Name: m.Name, Title: m.Title, Modes: m.Modes, Players: m.Players, Game: m.Game})
		}
		slices.SortFunc(r.Maps, func(a, b index.Map) int { return strings.Compare(a.Name, b.Name) })
		list = append(list, r)
	}
	return list
}

// nameOf is what a bundle is called in every version.
func nameOf(p *project.Project, b bundle.Bundle) string {
	name := p.File.Project.Name
	if p.Profile.Pack.Form != "mod" && len(b.Maps) > 0 {
		name = b.Maps[0]
	}
	if b.Part > 0 {
		name = fmt.Sprintf("%s-%d", name, b.Part)
	}
	return name
}

// writer makes an index.
type writer struct {
	p        *project.Project
	g        *assetgraph.Graph
	o        WriteOptions
	events   []ledger.Event
	previous *index.Index // the last one that was written; nil when there is none
	before   string       // the version that was released before this one; empty for the first
	d        *safefile.Dir
	findings []finding.Finding
}

// Write writes the index of the packed bundles and the profile's text forms of it.
func Write(ctx context.Context, p *project.Project, bundles []bundle.Bundle, g *assetgraph.Graph,
	o WriteOptions) (*Result, error) {
	if err := Guard(p, bundles); err != nil {
		return nil, err
	}
	if _, err := time.Parse(time.DateOnly, o.Date); o.Date != "" && err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no date", o.Date),
			Do: "Write it as in 2026-11-25."}
	}
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	w := &writer{p: p, g: g, o: o, events: events, d: d}
	if err := w.goOn(); err != nil {
		return nil, err
	}
	for _, e := range events {
		if e.Kind == ledger.Released && semver.Compare(e.Version, p.File.Project.Version) < 0 &&
			(w.before == "" || semver.Compare(e.Version, w.before) > 0) {
			w.before = e.Version
		}
	}
	x, err := w.index(ctx, bundles)
	if err != nil {
		return nil, err
	}
	files, err := w.texts(x)
	if err != nil {
		return nil, err
	}
	if err := w.sign(x); err != nil {
		return nil, err
	}
	data, err := x.Encode()
	if err != nil {
		return nil, err
	}
	files = append([]named{{index.FileName, data}}, files...)
	r := &Result{Index: x, Kept: true, Findings: w.findings}
	for i := len(files) - 1; i >= 0; i-- { // the index last: it speaks of the others
		rel := path.Join(Dir, files[i].name)
		r.Files = append([]string{rel}, r.Files...)
		if old, err := d.ReadFile(rel); err == nil && bytes.Equal(old, files[i].data) {
			continue
		}
		r.Kept = false
		if files[i].name == index.FileName { // a serial number is never given twice
			if err := w.remember(x); err != nil {
				return nil, err
			}
		}
		if err := d.WriteFile(rel, files[i].data); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// goOn finds the previous index: the one that was written here last, the one that players get, or
// the one that went out with the last release, whichever has the highest number.
func (w *writer) goOn() error {
	if data, err := w.d.ReadFile(path.Join(Dir, index.FileName)); err == nil {
		w.previous, _ = index.Read(data) // one that can't be read is replaced; its serial number is in the ledger
	}
	if w.previous == nil {
		for _, e := range w.events {
			if e.Kind != ledger.Released {
				continue
			}
			if x := w.released(e.Version); x != nil && (w.previous == nil || x.Serial > w.previous.Serial) {
				w.previous = x
			}
		}
	}
	x := w.o.Published
	if x == nil {
		return nil
	}
	if last := ledger.LastIndex(w.events); last != nil && len(last.Keys) > 0 && x.Serial >= last.Serial &&
		x.Trusted(last.Keys) != nil && !w.o.LostKey {
		return &fault.Fault{Kind: fault.Refused,
			What:  "the index that players get is not signed by a key of this project",
			Place: fault.Place{File: w.o.PublishedAt},
			Why:   "A stranger may have put it there, or a key was changed and its record is not in this clone. Nothing was written.", Do: "Find out who did. To continue from it anyway: --lost-key"}
	}
	if x.Serial > maxSerial {
		return &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the index that players get has number %d", x.Serial),
			Place: fault.Place{File: w.o.PublishedAt},
			Why:   "No index comes so far by rising, and hardly a higher one could follow.",
			Do:    "Find out who put it there."}
	}
	if w.previous == nil || x.Serial >= w.previous.Serial {
		w.previous = x
	}
	return nil
}

// maxSerial is the highest number that a published index may have: an index every second for thirty years.
const maxSerial = 1 << 30

type named struct {
	name string
	data []byte
}

// index says what there is.
func (w *writer) index(ctx context.Context, bundles []bundle.Bundle) (*index.Index, error) {
	head := w.p.File.Project
	base, doubt := index.Normal(w.p.File.Index.Base)
	if doubt != "" {
		w.findings = append(w.findings, finding.IndexAddress.At(w.p.Doc.At("index", "base"), "%s: %s", base, doubt))
	}
	x := &index.Index{Kind: index.Kind, Format: index.Format, Project: head.Name, Title: head.Title,
		Game: w.p.Profile.Game.ID, Base: base}
	for _, r := range w.p.File.Index.Retracted {
		t := index.Retraction{Version: r.Version, Reason: r.Reason}
		if e := ledger.Release(w.events, r.Version); e != nil {
			for _, sum := range e.Files {
				t.Files = append(t.Files, sum)
			}
			slices.Sort(t.Files)
		}
		x.Retracted = append(x.Retracted, t)
	}
	if w.retracted(head.Version) {
		records, err := w.lastGood()
		if err != nil {
			return nil, err
		}
		for i := range records {
			records[i].Patches = nil // they may have been made anew since
		}
		x.Bundles = records
		return x, w.patches(ctx, x)
	}
	x.Bundles = Records(w.p, bundles, w.g)
	notes, err := Notes(w.p)
	if err != nil {
		return nil, err
	}
	earlier := w.released(w.before)
	for i := range x.Bundles {
		r := &x.Bundles[i]
		r.Date, r.Notes = w.date(r.Version), notes
		if earlier != nil {
			if err := w.unchanged(ctx, r, earlier.Record(r.Name)); err != nil {
				return nil, err
			}
		}
	}
	return x, w.patches(ctx, x)
}

func (w *writer) retracted(version string) bool {
	return slices.ContainsFunc(w.p.File.Index.Retracted, func(r project.Retracted) bool { return r.Version == version })
}

// lastGood are the records of the last version that was not taken back.
func (w *writer) lastGood() ([]index.Record, error) {
	best := ""
	for _, e := range w.events {
		if e.Kind == ledger.Released && !w.retracted(e.Version) &&
			semver.Compare(e.Version, w.p.File.Project.Version) < 0 &&
			(best == "" || semver.Compare(e.Version, best) > 0) {
			best = e.Version
		}
	}
	if x := w.released(best); x != nil {
		return x.Bundles, nil
	}
	return nil, &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("version %s is taken back, and there is none before it to fall back to",
			w.p.File.Project.Version), Place: w.p.Doc.At("index", "retracted"),
		Why: "The index would have nothing in it, and players' maps would be removed.",
		Do:  "Release a repaired version: vornix release " + semver.Next(w.p.File.Project.Version)}
}

// released is the index that went out with a version, as its record has it; nil when there is none that can be read.
func (w *writer) released(version string) *index.Index {
	if version == "" {
		return nil
	}
	for _, at := range []string{ledger.IndexFile(version), path.Join(ReleasesDir, version, index.FileName)} {
		if data, err := w.d.ReadFile(at); err == nil {
			if x, err := index.Read(data); err == nil {
				return x
			}
		}
	}
	return nil
}

// date is that of a version: as its release was given it, or as the one that is being made has it.
func (w *writer) date(version string) string {
	if e := ledger.Release(w.events, version); e != nil {
		if e.Date != "" {
			return e.Date
		}
		return e.Time.Format(time.DateOnly)
	}
	return w.o.Date
}

// Notes is what is new in the project's version, as its own file of notes says; empty when there is none.
func Notes(p *project.Project) (string, error) {
	rel := profile.Fill(p.File.Index.Notes, map[string]string{"version": p.File.Project.Version})
	data, err := os.ReadFile(p.Join(rel))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", &fault.Fault{What: "the notes can't be read", Place: fault.Place{File: rel}, Err: err,
			Do: "Check who may read them."}
	}
	return strings.TrimSpace(strings.ReplaceAll(strings.ToValidUTF8(string(data), "\ufffd"), "\r\n", "\n")), nil
}

// unchanged compares a bundle with that of the version before. The same file keeps its record; one
// that holds the same is a finding.
func (w *writer) unchanged(ctx context.Context, r, earlier *index.Record) error {
	if earlier == nil || earlier.Version == r.Version {
		return nil
	}
	if earlier.SHA256 == r.SHA256 && earlier.File == r.File {
		r.Version, r.Date, r.Notes = earlier.Version, earlier.Date, earlier.Notes
		return nil
	}
	same := earlier.SHA256 == r.SHA256
	but := ""
	if !same {
		old, err := compare.Load(ctx, w.p.Join(ReleasesDir, w.before, earlier.File))
		if err != nil {
			return nil // what went out is not there any more: nobody can say
		}
		now, err := compare.Load(ctx, w.p.Join(bundle.Dir, r.File))
		if err != nil {
			return err
		}
		metadata := w.inside()
		var stamped []string
		same = !slices.ContainsFunc(compare.Sides(old, now).Changes, func(c compare.Change) bool {
			if metadata[c.Path] {
				stamped = append(stamped, c.Path)
			}
			return !metadata[c.Path]
		})
		if len(stamped) > 0 {
			but = " but for " + strings.Join(stamped, ", ")
		}
	}
	if same {
		f := finding.IndexSame.At(w.p.Doc.At("project", "version"), "%s %s holds what %s held%s", r.Name, r.Version,
			earlier.Version, but)
		w.findings = append(w.findings, f)
	}
	return nil
}

// inside are the metadata files in bundles, which change with the version alone.
func (w *writer) inside() map[string]bool {
	files, _ := metadata.Make(w.p, w.g, metadata.Options{})
	m := map[string]bool{}
	for _, f := range files {
		m[f.Path] = f.Place == "inside"
	}
	return m
}

// patches adds the ways that lead to the bundles.
func (w *writer) patches(ctx context.Context, x *index.Index) error {
	names, err := fs.Glob(w.d.FS(), path.Join(PatchesDir, "*"+patch.Ending))
	if err != nil {
		return err
	}
	for _, rel := range names {
		if err := ctx.Err(); err != nil {
			return err
		}
		o, err := patch.Open(w.d.Join(rel))
		if err != nil {
			return err
		}
		o.Close()
		way := index.Patch{From: o.From, URL: patchesAddress + url.PathEscape(path.Base(rel)), Size: o.Size,
			SHA256: o.SHA256}
		for _, f := range o.Base.Files {
			way.Bases = append(way.Bases, f.SHA256)
		}
		slices.Sort(way.Bases)
		way.Bases = slices.Compact(way.Bases)
		full := int64(0)
		for _, f := range o.Result.Files {
			full += f.Size
		}
		if full <= way.Size || len(way.Bases) == 0 || w.retracted(o.To) {
			continue
		}
		for i := range x.Bundles {
			r := &x.Bundles[i]
			if slices.ContainsFunc(o.Result.Files, func(f patch.File) bool { return f.SHA256 == r.SHA256 }) &&
				!slices.Contains(way.Bases, r.SHA256) {
				r.Patches = append(r.Patches, way)
			}
		}
	}
	return nil
}

// texts writes the games' forms, and lets the index know them.
func (w *writer) texts(x *index.Index) (list []named, err error) {
	head := HeadOf(w.p)
	for i := range w.p.Profile.Index.Texts {
		t := &w.p.Profile.Index.Texts[i]
		name := TextName(w.p, t)
		data, err := Text(t, w.p.Profile.Doc.At("index", "text", i), head, x.Bundles)
		if err != nil {
			return nil, err
		}
		list = append(list, named{name, data})
		x.Texts = append(x.Texts, index.TextFile{File: name, Size: int64(len(data)), SHA256: hashOf(data)})
	}
	return list, nil
}

// TextName is the file name of a form of the index.
func TextName(p *project.Project, t *profile.IndexText) string {
	return profile.Fill(t.File, map[string]string{"name": p.File.Project.Name, "version": p.File.Project.Version})
}

// Local finds the files on this machine that an index of a project names, by their names and hashes.
type Local struct {
	p      *project.Project
	events []ledger.Event
}

// NewLocal looks at what the project has.
func NewLocal(p *project.Project) (*Local, error) {
	events, err := ledger.Read(p)
	return &Local{p, events}, err
}

// Find returns the system paths at which a file may lie, the likeliest first.
func (l *Local) Find(file, sum string) (list []string) {
	list = append(list, l.p.Join(bundle.Dir, file))
	for _, e := range l.events {
		if e.Kind == ledger.Released && e.Files[file] == sum {
			list = append(list, l.p.Join(ReleasesDir, e.Version, file))
		}
	}
	return list
}

// Released lists the files of all versions that went out, by SHA-256.
func (l *Local) Released() map[string]string {
	m := map[string]string{}
	for _, e := range l.events {
		if e.Kind == ledger.Released {
			for name, sum := range e.Files {
				m[sum] = l.p.Join(ReleasesDir, e.Version, name)
			}
		}
	}
	return m
}

// NamedFile is a file that an index names.
type NamedFile struct {
	Path   string // in the folder that the index is served from
	Kind   string // bundle, patch or text
	Size   int64
	SHA256 string
	Maps   []string // of a bundle
	Source string   // system path of a copy here, which was verified
}

// Check compares the index on disk with the files on disk: each is there, with its size and hash.
// It returns the index that was verified.
func Check(p *project.Project) (*index.Index, error) {
	x, _, err := Named(p)
	return x, err
}

// Named is Check that also lists the files that the index names, each once, with the place of a
// verified copy. The index itself is not among them.
func Named(p *project.Project) (*index.Index, []NamedFile, error) {
	rel := path.Join(Dir, index.FileName)
	data, err := os.ReadFile(p.Join(rel))
	if err != nil {
		return nil, nil,
			&fault.Fault{Kind: fault.Usage, What: "there is no index yet", Place: fault.Place{File: rel},
				Do: "Write it with 'vornix index write'."}
	}
	x, err := index.Read(data)
	if err != nil {
		return nil, nil,
			&fault.Fault{What: "the index is damaged", Place: fault.Place{File: rel}, Err: err,
				Do: "Write it again with 'vornix index write'."}
	}
	local, err := NewLocal(p)
	if err != nil {
		return nil, nil, err
	}
	var list []NamedFile
	listed := map[string]bool{}
	add := func(f NamedFile, at []string) error {
		if listed[f.Path] { // a patch for several bundles
			return nil
		}
		listed[f.Path] = true
		f.Source, err = same(p, path.Base(f.Path), at, f.Size, f.SHA256)
		list = append(list, f)
		return err
	}
	for _, r := range x.Bundles {
		f := NamedFile{Path: r.File, Kind: "bundle", Size: r.Size, SHA256: r.SHA256}
		for _, m := range r.Maps {
			f.Maps = append(f.Maps, m.Name)
		}
		if err := add(f, local.Find(r.File, r.SHA256)); err != nil {
			return nil, nil, err
		}
		for _, way := range r.Patches {
			name, err := url.PathUnescape(way.URL)
			if err != nil {
				return nil, nil, err
			}
			if err := add(NamedFile{Path: name, Kind: "patch", Size: way.Size, SHA256: way.SHA256},
				[]string{p.Join(PatchesDir, path.Base(name))}); err != nil {
				return nil, nil, err
			}
		}
	}
	for _, t := range x.Texts {
		if err := add(NamedFile{Path: t.File, Kind: "text", Size: t.Size, SHA256: t.SHA256},
			[]string{p.Join(Dir, t.File)}); err != nil {
			return nil, nil, err
		}
	}
	return x, list, checkTexts(p, x)
}

// checkTexts reads the game's forms as the game does, and holds what stands there to the index.
func checkTexts(p *project.Project, x *index.Index) error {
	head := HeadOf(p)
	for i := range p.Profile.Index.Texts {
		t := &p.Profile.Index.Texts[i]
		name := TextName(p, t)
		if t.Line == "" || !slices.ContainsFunc(x.Texts, func(f index.TextFile) bool { return f.File == name }) {
			continue
		}
		place := fault.Place{File: path.Join(Dir, name)}
		data, err := os.ReadFile(p.Join(place.File))
		if err != nil {
			return err
		}
		lines, err := ReadText(t, data)
		if err != nil {
			return &fault.Fault{What: "the game's form of the index can't be read back", Place: place, Err: err,
				Do: "Write the index again with 'vornix index write'."}
		}
		n := 0
		for _, r := range x.Bundles {
			for _, m := range r.Maps {
				want := lineValues(head, r, m)
				if n >= len(lines) ||
					!template.NewReader(t.Line, t.Escape).Same(template.Line(t.Line, lines[n], t.Escape), want) {
					place.Line = n + 1
					return &fault.Fault{Kind: fault.Refused,
						What:  fmt.Sprintf("the game reads something else of %s than the index says", m.Name),
						Place: place, Why: "Players would get another version, or none.",
						Do: "Write the index again with 'vornix index write'."}
				}
				n++
			}
		}
		if n < len(lines) {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the game reads %d maps, and the index has %d", len(lines), n), Place: place,
				Why: "Players would be told of what is not there.",
				Do:  "Write the index again with 'vornix index write'."}
		}
	}
	return nil
}

// same finds a file at one of several places as the index says it is, and returns where.
func same(p *project.Project, file string, at []string, size int64, sum string) (string, error) {
	var first error
	for _, name := range at {
		rel, _ := filepath.Rel(p.Dir, name)
		got, n, err := safefile.HashFile(name)
		switch {
		case err == nil && got == sum && n == size:
			return name, nil
		case first != nil:
		case err != nil:
			first = err
		default:
			first = &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("%s is not what the index says: %d bytes with SHA-256 %.12s…, and the index has %d bytes with %.12s…", file, n, got, size, sum),
				Place: fault.Place{File: filepath.ToSlash(rel)}, Why: "Players' downloads would be refused as damaged.",
				Do: "Write the index again with 'vornix index write'."}
		}
	}
	return "", first
}

// known are the keys that players hold an index to who have the last one.
func (w *writer) known() []string {
	if x := w.o.Published; x != nil && len(x.Keys) > 0 && !w.o.LostKey &&
		(w.previous == nil || x.Serial >= w.previous.Serial) {
		return x.Keys
	}
	if w.previous != nil && len(w.previous.Keys) > 0 {
		return w.previous.Keys
	}
	if e := ledger.LastIndex(w.events); e != nil {
		return e.Keys
	}
	return nil
}

// lives says whether the last index ends when the project says that it should, and has not ended
// yet. One without a signature does not end.
func (w *writer) lives() bool {
	if len(w.previous.Signatures) == 0 {
		return true
	}
	want := ""
	if days := w.p.File.Index.ValidDays; days > 0 {
		issued, err := time.Parse(time.RFC3339, w.previous.Issued)
		if err != nil {
			return false
		}
		want = issued.AddDate(0, 0, days).Format(time.RFC3339)
	}
	return w.previous.Expires == want && !w.previous.Expired(w.o.Now)
}

// sign gives the index its serial number and its signatures; one that says the same as the last keeps both.
func (w *writer) sign(x *index.Index) error {
	known := w.known()
	var signers []string
	for _, k := range w.o.Keys {
		signers = append(signers, signature.Public(k))
	}
	if w.previous != nil {
		same, err := w.saysTheSame(x)
		if err != nil {
			return err
		}
		if same && w.lives() && (len(signers) == 0 && !w.o.Unsigned || slices.Equal(signers, w.previous.Signers())) {
			*x = *w.previous
			return nil
		}
		x.Serial = w.previous.Serial
	}
	if e := ledger.LastIndex(w.events); e != nil {
		x.Serial = max(x.Serial, e.Serial)
	}
	x.Serial++
	if len(signers) == 0 {
		if (len(known) > 0 || w.p.File.Signing.Required) && !w.o.Unsigned {
			return NoKey()
		}
		return nil
	}
	if w.previous != nil {
		if err := clock(w.previous.Issued, w.o.Now); err != nil {
			return err
		}
	}
	return x.Sign(w.o.Keys, known, w.p.File.Index.ValidDays, w.o.Now, w.o.LostKey)
}

// NoKey is the error of an index that must be signed, and that nobody signs.
func NoKey() error {
	return &fault.Fault{Kind: fault.Refused, What: "the index is signed, and no key is named",
		Why: "Players who have the last one refuse one without a signature. Nothing was written.",
		Do:  "Name the key: --key FILE, --key agent, or in VORNIX_SIGNING_KEY; to give signatures up: --unsigned"}
}

// aheadOf is how far clocks of two machines may differ.
const aheadOf = time.Hour

// clock refuses to sign when this machine's clock is behind the last signature: an index that is
// dated back could end before players get it.
func clock(issued string, now time.Time) error {
	last, err := time.Parse(time.RFC3339, issued)
	if err != nil || !now.Before(last.Add(-aheadOf)) {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("the clock of this machine is behind: it is %s, and the last index was signed at %s",
			now.UTC().Format(time.RFC3339), issued),
		Why: "The index would be dated before the last one and could expire too early. Nothing was written.",
		Do:  "Set the clock. If the last index is dated in the future by mistake, remove it and write a new one."}
}

// saysTheSame compares with the last index but for what comes with signing.
func (w *writer) saysTheSame(x *index.Index) (bool, error) {
	n := *x
	n.Serial, n.Issued, n.Expires, n.Keys = w.previous.Serial, w.previous.Issued, w.previous.Expires, w.previous.Keys
	now, err := n.Payload()
	if err != nil {
		return false, err
	}
	before, err := w.previous.Payload()
	return bytes.Equal(now, before), err
}

func (w *writer) remember(x *index.Index) error {
	if w.o.Rehearsal {
		return nil
	}
	return ledger.Add(w.p,
		ledger.Event{Kind: ledger.Indexed, Time: time.Now(), Version: x.Version(), Serial: x.Serial, Keys: x.Keys})
}

// SignAgain signs the index that is there anew: with other keys, or for a longer time.
func SignAgain(p *project.Project, o WriteOptions) (*index.Index, error) {
	x, err := Check(p)
	if err != nil {
		return nil, err
	}
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	w := &writer{p: p, o: o, events: events, previous: x, d: d}
	known := w.known()
	n := *x
	if e := ledger.LastIndex(events); e != nil {
		n.Serial = max(n.Serial, e.Serial)
	}
	if o.Published != nil && o.Published.Serial <= maxSerial {
		n.Serial = max(n.Serial, o.Published.Serial)
	}
	n.Serial++
	if err := n.Sign(o.Keys, known, p.File.Index.ValidDays, o.Now, o.LostKey); err != nil {
		return nil, err
	}
	if err := clock(x.Issued, o.Now); err != nil {
		return nil, err
	}
	data, err := n.Encode()
	if err != nil {
		return nil, err
	}
	if err := w.remember(&n); err != nil {
		return nil, err
	}
	return &n, d.WriteFile(path.Join(Dir, index.FileName), data)
}
