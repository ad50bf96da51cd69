package release

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
)

// History is what is known of the project's finished versions, here and elsewhere.
type History struct {
	Versions []Known `json:"versions"` // the latest first
	Places   Places  `json:"places"`
}

// Known is what is known of a version.
type Known struct {
	Version  string   `json:"version"`
	Date     string   `json:"date"`
	Commit   string   `json:"commit"`
	Recorded bool     `json:"recorded"` // it has a record in releases/
	Bundles  bool     `json:"bundles"`  // out/releases has them as they went out
	At       []string `json:"at"`       // places that have it
	Other    []string `json:"other"`    // places that have another content under its number
	Tagged   []string `json:"tagged"`   // places of which only its tag is known
}

// ReadHistory lists what is known of the project's finished versions. It changes nothing.
func ReadHistory(ctx context.Context, p *project.Project, o Options) (*History, error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	records, err := ledger.Records(p)
	if err != nil {
		return nil, err
	}
	h := &History{Versions: []Known{}}
	if h.Places, err = QueryPlaces(ctx, p, o, Query{}); err != nil {
		return nil, err
	}
	all := map[string]*Known{}
	of := func(version string) *Known {
		if all[version] == nil {
			all[version] = &Known{Version: version, At: []string{}, Other: []string{}, Tagged: []string{}}
		}
		return all[version]
	}
	for _, e := range events {
		if e.Kind == ledger.Released {
			of(e.Version).Date = e.Date
		}
	}
	for _, r := range records {
		k := of(r.Version)
		k.Recorded, k.Date, k.Commit = true, r.Date, r.Commit
		missing, err := missingBundles(ctx, p, r)
		if err != nil {
			return nil, err
		}
		k.Bundles = len(missing) == 0
	}
	for _, x := range h.Places {
		for _, s := range x.Versions {
			k := of(s.Version)
			done := ledger.Release(events, s.Version)
			switch {
			case s.Tag != "":
				k.Tagged = append(k.Tagged, x.Name)
			case done != nil && s.differs(done.Files) != "":
				k.Other = append(k.Other, x.Name)
			case !slices.Contains(k.At, x.Name):
				k.At = append(k.At, x.Name)
			}
			if k.Date == "" && !s.Time.IsZero() {
				k.Date = s.Time.Format(time.DateOnly)
			}
		}
	}
	versions := slices.SortedFunc(maps.Keys(all), semver.Compare)
	for _, v := range slices.Backward(versions) {
		h.Versions = append(h.Versions, *all[v])
	}
	return h, nil
}

// Adopted is what Adopt did.
type Adopted struct {
	Versions []string `json:"versions"` // that have a record now
	Files    []string `json:"files"`    // that were written
	Part     []string `json:"part"`     // versions without a record, of which the places may know only some bundles
}

// Adopt writes records of versions that only other places know, and of those that only this machine
// remembers. Places that contradict one another are an error, and nothing is written. A version of
// which no place is sure to know every bundle gets no record.
func (s *Session) Adopt(ctx context.Context, places Places) (*Adopted, error) {
	done := &Adopted{Versions: []string{}, Files: []string{}, Part: []string{}}
	known, err := ledger.Records(s.P)
	if err != nil {
		return done, err
	}
	has := map[string]bool{}
	for _, r := range known {
		has[r.Version] = true
	}
	found, err := places.unrecorded(has)
	if err != nil {
		return done, err
	}
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return done, err
	}
	defer d.Close()
	here, err := ledger.Here(s.P)
	if err != nil {
		return done, err
	}
	wrote := func(version string, files []string) {
		if len(files) > 0 {
			done.Versions, done.Files, has[version] = append(done.Versions, version), append(done.Files, files...), true
		}
	}
	for _, e := range here {
		if e.Kind != ledger.Released || has[e.Version] {
			continue
		}
		files, err := s.recordOld(ctx, d, e)
		if err != nil {
			return done, err
		}
		wrote(e.Version, files)
	}
	for _, v := range slices.SortedFunc(maps.Keys(found), semver.Compare) {
		f := found[v]
		switch {
		case has[v]:
		case f.part:
			done.Part = append(done.Part, v)
		default:
			files, err := ledger.WriteRecord(s.P, f.record, f.index)
			if err != nil {
				return done, err
			}
			wrote(v, files)
		}
	}
	return done, nil
}

// foundRecord is a record of a version as other places know it.
type foundRecord struct {
	record *ledger.Record
	index  []byte // that went out with it; nil where no place has it
	part   bool   // no place is sure to know every bundle

	committed bool // the record is one that is committed elsewhere
}

// unrecorded puts together what places know of versions without a record. A record that is
// committed elsewhere counts as it is.
func (l Places) unrecorded(has map[string]bool) (map[string]*foundRecord, error) {
	found := map[string]*foundRecord{}
	for _, x := range l {
		for _, v := range x.Versions {
			if has[v.Version] || v.Tag != "" || len(v.Files) == 0 {
				continue
			}
			f := found[v.Version]
			if f == nil {
				f = &foundRecord{record: &ledger.Record{Version: v.Version,
					Date: time.Now().UTC().Format(time.DateOnly), Places: []string{}}, part: true}
				found[v.Version] = f
			}
			if name := f.contradiction(&v); name != "" {
				return nil, &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("%s has another %s of version %s than other places", x.Name, name, v.Version),
					Why:  "It is not certain which content was released. Nothing was written.",
					Do:   "Find out which content players should have, and take over its record: git pull, or a copy of releases/" + v.Version + ".toml."}
			}
			f.add(x, &v)
		}
	}
	return found, nil
}

// contradiction names a bundle of which the place has another content; empty for none.
func (f *foundRecord) contradiction(v *SourceVersion) string {
	known := f.record.Files()
	for _, name := range slices.Sorted(maps.Keys(v.Files)) {
		if sum := known[name]; sum != "" && sum != v.Files[name] {
			return name
		}
	}
	return ""
}

// add takes over what a place knows.
func (f *foundRecord) add(x *VersionSource, v *SourceVersion) {
	if v.record != nil {
		f.record, f.index, f.part, f.committed = v.record, v.data, false, true
	}
	if f.committed {
		return
	}
	r := f.record
	f.part = f.part && v.Part
	known := r.Files()
	for _, name := range slices.Sorted(maps.Keys(v.Files)) {
		if known[name] == "" {
			r.Bundles = append(r.Bundles, ledger.File{Name: name, Size: v.sizes[name], SHA256: v.Files[name]})
		}
	}
	if r.By == "" {
		r.By = v.By
	}
	if !v.Time.IsZero() && v.Time.Format(time.DateOnly) < r.Date {
		r.Date = v.Time.Format(time.DateOnly)
	}
	if _, name, ok := strings.Cut(x.Name, " "); ok && x.Kind != "index" && !slices.Contains(r.Places, name) {
		r.Places = append(r.Places, name)
	}
	if x.index != nil && x.index.Version() == v.Version {
		if data, err := x.index.Encode(); err == nil {
			f.index, r.Index.Number, r.Index.Keys = data, x.index.Serial, x.index.Keys
		}
	}
}
