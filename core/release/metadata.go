package release

import (
	"context"
	"fmt"
	"path"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/metadata"
	"vornix/core/pack/bundle"
	"vornix/core/ship/indexwriter"
)

// Addon writes the metadata files that stand beside bundles, which are packed.
func (s *Session) Addon(ctx context.Context, bundles []bundle.Bundle) (*Step, error) {
	step := &Step{Name: "addon", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	files, findings := metadata.Make(s.P, g, metadata.Options{Bundles: AddonBundles(bundles), Finished: true})
	step.Findings = finding.Accept(findings, s.P.Acceptances())
	if err := metadata.Err(step.Findings); err != nil {
		step.Failed = true
		return step, err
	}
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	list, err := metadata.Stand(d, AddonDir, "beside", files)
	if err != nil {
		return nil, err
	}
	aside, err := s.setAside(ctx, d, list)
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if x.State != metadata.Same {
			if err := d.WriteFile(x.Path, x.File.Data); err != nil {
				return nil, err
			}
		}
		step.add(x.Path, int64(len(x.File.Data)), x.State == metadata.Same)
	}
	step.Summary = fmt.Sprintf("%s beside the bundles, %d inside them", Count(len(list), "metadata file"),
		len(files)-len(list))
	if aside != nil {
		step.Summary += "; what was changed by hand is in " + path.Join(project.QuarantineDir, aside.Name)
	}
	return step, metadata.Remember(d, list)
}

// MetadataOfBundles says whether a game's metadata speaks of packed bundles, so that it can't be written before.
func MetadataOfBundles(p *profile.Profile) bool {
	for i := range p.Addon.Fields {
		if p.Addon.Fields[i].OfBundle() {
			return true
		}
	}
	return slices.ContainsFunc(p.Addon.Files,
		func(f profile.AddonFile) bool { return profile.HasForEach(f.Structure, "bundle") })
}

// AddonBundles are packed bundles as metadata speaks of them.
func AddonBundles(bundles []bundle.Bundle) []metadata.Bundle {
	if bundles == nil {
		return nil
	}
	list := []metadata.Bundle{}
	for _, b := range bundles {
		list = append(list,
			metadata.Bundle{File: b.Name, Size: b.Size, SHA256: b.SHA256, Files: b.Entries, Maps: b.Maps})
	}
	return list
}

// setAside refuses to write over what somebody changed by hand, or moves it away where that was asked for.
func (s *Session) setAside(ctx context.Context, d *safefile.Dir, list []metadata.Standing) (*quarantine.Batch, error) {
	var edited []quarantine.Item
	diff := ""
	released, err := s.releasedMetadata()
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		if x.State == metadata.Edited {
			if sum, _, err := safefile.HashFile(d.Join(x.Path)); err == nil && released[path.Base(x.Path)+" "+sum] {
				continue // it went out as it is; only this machine forgot that it wrote it
			}
			edited = append(edited,
				quarantine.Item{Path: x.Path, Size: int64(len(x.File.Data)), Why: "changed by hand"})
			diff += x.Diff
		}
	}
	if len(edited) == 0 {
		return nil, nil
	}
	if !s.o.ReplaceEdited {
		return nil, &EditedError{File: edited[0].Path, Count: len(edited), Diff: diff}
	}
	return quarantine.Add(ctx, d, project.QuarantineDir, time.Now(), edited)
}

// releasedMetadata are the metadata files that went out with any version, as "NAME SHA-256".
func (s *Session) releasedMetadata() (map[string]bool, error) {
	records, err := ledger.Records(s.P)
	if err != nil {
		return nil, err
	}
	m := map[string]bool{}
	for _, r := range records {
		for _, f := range r.Beside {
			m[path.Base(f.Name)+" "+f.SHA256] = true
		}
	}
	return m, nil
}

// EditedError says that somebody changed metadata files by hand.
type EditedError struct {
	File  string
	Count int
	Diff  string // from what would be written to what is there
}

func (e *EditedError) Error() string { return e.fault().Error() }

// Unwrap is the error as people read it.
func (e *EditedError) Unwrap() error { return e.fault() }

func (e *EditedError) fault() *fault.Fault {
	what := "somebody changed it by hand, and it would be written anew"
	if e.Count > 1 {
		what = fmt.Sprintf("somebody changed %d metadata files by hand, and they would be written anew", e.Count)
	}
	return &fault.Fault{Kind: fault.Refused, What: what, Place: fault.Place{File: e.File},
		Why: "The change would be lost. Nothing was written.",
		Do: "Take it into vornix.toml (vornix addon import " + e.File +
			"), or write it anew and keep the change in the safe place: vornix addon write --replace-edited"}
}

// Index writes the version index of the bundles, with the number after the one that players get.
// date is that of a release that is being made.
func (s *Session) Index(ctx context.Context, bundles []bundle.Bundle, date string, places Places) (*Step, error) {
	step := &Step{Name: "index", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	o := indexwriter.WriteOptions{Date: date, Keys: s.o.Keys, Now: time.Now(), Unsigned: s.o.Unsigned,
		LostKey: s.o.LostKey, Rehearsal: s.o.Dry}
	o.Published, o.PublishedAt = places.Index()
	r, err := indexwriter.Write(ctx, s.P, bundles, g, o)
	if err != nil {
		return nil, err
	}
	step.Findings = finding.Accept(r.Findings, s.P.Acceptances())
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	for _, rel := range r.Files {
		info, err := d.Stat(rel)
		if err != nil {
			return nil, err
		}
		step.add(rel, info.Size(), r.Kept)
	}
	step.Summary = fmt.Sprintf("version %s, %s, number %d", r.Index.Version(), Count(len(r.Index.Bundles), "bundle"),
		r.Index.Serial)
	if n := len(r.Index.Signatures); n > 0 {
		step.Summary += ", signed"
	}
	return step, nil
}
