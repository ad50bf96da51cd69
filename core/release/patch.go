package release

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/signature"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/pack/patch"
	"vornix/core/ship/indexwriter"
)

// Versions lists the versions that were released, the oldest first.
func Versions(p *project.Project) ([]string, error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	var list []string
	for _, e := range events {
		if e.Kind == ledger.Released && !slices.Contains(list, e.Version) {
			list = append(list, e.Version)
		}
	}
	slices.SortFunc(list, semver.Compare)
	return list, nil
}

// VersionSide is a released version as a side of a patch: its bundles; and the metadata files that
// went out with them, by where they belong.
func VersionSide(ctx context.Context, p *project.Project, version string) (side *patch.Side, beside map[string]string,
	err error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, nil, err
	}
	e := ledger.Release(events, version)
	if e == nil {
		f := &fault.Fault{Kind: fault.Usage, What: "version " + version + " was not released",
			Do: "Release it first: vornix release " + version}
		if known, err := Versions(p); err == nil && len(known) > 0 {
			f.Why = "Released were " + strings.Join(known, ", ") + "."
		}
		return nil, nil, f
	}
	dir := p.Join(ReleasesDir, version)
	files := map[string]string{}
	for name := range e.Files {
		files[name] = filepath.Join(dir, name)
	}
	side, err = patch.SideOf(ctx, path.Join(ReleasesDir, version), files)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range side.Files {
		if e.Files[f.Path] != f.SHA256 {
			return nil, nil,
				&fault.Fault{Kind: fault.Refused, What: "the copy of what went out has changed",
					Place: fault.Place{File: path.Join(ReleasesDir, version, f.Path)},
					Why:   "Players have another file: a patch made from this would fit nobody's.",
					Do:    "Bring back the file that was released."}
		}
	}
	beside = map[string]string{}
	from := filepath.Join(dir, besideAddon)
	err = filepath.WalkDir(from, func(name string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && name == from {
			return nil // none went out
		}
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(from, name)
		beside[filepath.ToSlash(rel)] = name
		return err
	})
	return side, beside, err
}

// KnownVersions are the versions that were released, so that a patch can tell who has which.
func KnownVersions(p *project.Project) ([]patch.Known, error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	versions, err := Versions(p)
	var list []patch.Known
	for _, v := range versions {
		list = append(list, patch.Known{Version: v, Files: maps.Clone(ledger.Release(events, v).Files)})
	}
	return list, err
}

// patches makes patches to what is packed from the versions released before it, as many as the project says.
func (x *running) patches(ctx context.Context) (*Step, error) {
	step := &Step{Name: "patch", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	from, err := x.patchFrom()
	if err != nil || len(from) == 0 {
		return nil, err
	}
	head := x.P.File.Project
	var key crypto.Signer
	if len(x.o.Keys) > 0 {
		key = x.o.Keys[0]
	}
	if key == nil && x.P.File.Signing.Required {
		return nil, &fault.Fault{Kind: fault.Refused, What: "this project signs its patches, and no key is named",
			Why: "[signing] required stands in vornix.toml; players who hold to it would refuse them.",
			Do:  "Name the key's file, --key FILE, or make no patches: patches = 0 under [release]."}
	}
	files := map[string]string{}
	for _, b := range x.bundles {
		files[b.Name] = x.P.Join(bundle.Dir, b.Name)
	}
	now, err := patch.SideOf(ctx, bundle.Dir, files)
	if err != nil {
		return nil, err
	}
	o := patch.Options{Workers: x.o.Workers, Title: head.Title, Game: x.P.Profile.Game.ID, To: head.Version,
		Authors: head.Authors, Key: key, Bring: map[string]string{}}
	if o.Notes, err = indexwriter.Notes(x.P); err != nil {
		return nil, err
	}
	if o.Known, err = KnownVersions(x.P); err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(o.Known, func(k patch.Known) bool { return k.Version == head.Version }) {
		o.Known = append(o.Known, patch.Known{Version: head.Version, Files: hashes(x.bundles)})
	}
	metadata, err := x.metadata(ctx) // pictures are for pages and lists, and players do not have them
	if err != nil {
		return nil, err
	}
	brought := map[string]string{}
	for _, name := range metadata {
		o.Bring[name] = x.P.Join(AddonDir, name)
		if brought[name], _, err = safefile.HashFile(o.Bring[name]); err != nil {
			return nil, err
		}
	}
	if x.o.Progress != nil {
		o.Advanced = func(done, total int64) { x.o.Progress.Advanced("", "comparing for patches", done, total) }
	}
	var said []string
	for _, version := range from {
		before := len(step.Made)
		text, err := x.patchOne(ctx, step, version, now, brought, o)
		if err != nil {
			return nil, err
		}
		if len(step.Made) == before {
			x.noPatches = append(x.noPatches, text)
		}
		said = append(said, text)
	}
	step.Summary = strings.Join(said, "; ")
	return step, nil
}

// PatchFile is where the patch between two versions goes, as a path in the project.
func PatchFile(p *project.Project, from, to string) string {
	return path.Join(indexwriter.PatchesDir, p.File.Project.Name+"-"+from+patchTo(to))
}

// patchTo is how the names of patches to a version end.
func patchTo(version string) string { return "-to-" + version + patch.Ending }

// patchFrom are the versions that patches are made from, the newest first.
func (s *Session) patchFrom() ([]string, error) {
	versions, err := Versions(s.P)
	if err != nil {
		return nil, err
	}
	versions = slices.DeleteFunc(versions, func(v string) bool {
		return semver.Compare(v, s.P.File.Project.Version) >= 0 ||
			slices.ContainsFunc(s.P.File.Index.Retracted, func(r project.Retracted) bool { return r.Version == v })
	})
	slices.Reverse(versions)
	return versions[:min(len(versions), s.P.File.Release.PatchesFrom())], nil
}

// patchOne makes the patch from one version, unless it is there already, and says so.
func (x *running) patchOne(ctx context.Context, step *Step, version string, now *patch.Side, brought map[string]string,
	o patch.Options) (string, error) {
	events, err := ledger.Read(x.P)
	if err != nil {
		return "", err
	}
	was, to := ledger.Release(events, version).Files, hashes(x.bundles)
	if maps.Equal(was, to) {
		return "none from " + version + ", which has the same bundles", nil
	}
	rel := PatchFile(x.P, version, o.To)
	signer := ""
	if o.Key != nil {
		signer = signature.Public(o.Key)
	}
	key := keyOf(x.o.Program, was, to, brought, o.Title, o.Game, o.Authors, o.Notes, o.Known, signer)
	d, err := safefile.OpenDir(x.P.Dir)
	if err != nil {
		return "", err
	}
	defer d.Close()
	what := func(size int64) string {
		whole := int64(0)
		for _, b := range x.bundles {
			whole += b.Size
		}
		return fmt.Sprintf("from %s %s, %s of the whole", version, Bytes(size), percent(size, whole))
	}
	if before := x.journal.Steps[rel]; before.Key == key {
		if before.SHA256 == "" {
			return before.Why, nil
		}
		if sum, size, err := safefile.HashFile(d.Join(rel)); err == nil && before.SHA256 == sum {
			step.add(rel, size, true)
			return what(size), nil
		}
	}
	fetched, err := FetchBundles(ctx, x.P, version, x.o)
	var lost *fault.Fault
	if errors.As(err, &lost) && lost.Kind == fault.Unreachable && ctx.Err() == nil {
		return fmt.Sprintf("none from %s: %s", version, lost.What), nil
	}
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(x.P.Join(ReleasesDir, version)); err != nil {
		return fmt.Sprintf("none from %s, whose files are not in %s any more", version, ReleasesDir), nil
	}
	old, had, err := VersionSide(ctx, x.P, version)
	if err != nil {
		return "", err
	}
	o.From, o.Bring = version, maps.Clone(o.Bring)
	sums, err := besideSums(x.P, version, had)
	if err != nil {
		return "", err
	}
	for name, sum := range sums { // players have what is as it was
		if sum == brought[name] {
			delete(o.Bring, name)
		}
	}
	out, err := d.Create(rel)
	if err != nil {
		return "", err
	}
	defer out.Abort()
	made, err := patch.Make(ctx, old, now, out, o)
	if err != nil {
		return "", err
	}
	if made.Size >= made.Full {
		text := fmt.Sprintf("none from %s: it would be no smaller than the whole", version)
		x.journal.Steps[rel] = entry{Ended: moment(), Key: key, Why: text}
		return text, x.journal.save(x.P)
	}
	if err := out.Commit(); err != nil {
		return "", err
	}
	step.add(rel, made.Size, false)
	x.journal.Steps[rel] = entry{Ended: moment(), Key: key, SHA256: made.SHA256}
	text := what(made.Size)
	if len(fetched) > 0 {
		text += ", after fetching " + version + " from " + strings.Join(fetched, " and ")
	}
	return text, x.journal.save(x.P)
}

// besideSums are the hashes of the metadata files that went out with a version, by where they
// belong: as its record has them, or as the copies here are.
func besideSums(p *project.Project, version string, copies map[string]string) (map[string]string, error) {
	sums := map[string]string{}
	r, err := recordOf(p, version)
	if err != nil {
		return nil, err
	}
	if r != nil && len(r.Beside) > 0 {
		for _, f := range r.Beside {
			if name, ok := strings.CutPrefix(f.Name, besideAddon+"/"); ok {
				sums[name] = f.SHA256
			}
		}
		return sums, nil
	}
	for name, file := range copies {
		if sum, _, err := safefile.HashFile(file); err == nil {
			sums[name] = sum
		}
	}
	return sums, nil
}

// percent is a part of a whole in words.
func percent(part, whole int64) string {
	if whole == 0 {
		return "0%"
	}
	p := 100 * float64(part) / float64(whole)
	if p < 10 {
		return fmt.Sprintf("%.2g%%", p)
	}
	return fmt.Sprintf("%.0f%%", p)
}
