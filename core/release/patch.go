package release

import (
	"context"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/fault"
	"vornix/core/index"
	"vornix/core/ledger"
	"vornix/core/patch"
	"vornix/core/project"
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
	slices.SortFunc(list, project.CompareVersions)
	return list, nil
}

// VersionSide is a released version as a side of a patch: its bundles; and what went out with them, by where it belongs.
func VersionSide(ctx context.Context, p *project.Project, version string) (side *patch.Side, beside map[string]string, err error) {
	events, err := ledger.Read(p)
	if err != nil {
		return nil, nil, err
	}
	e := ledger.Release(events, version)
	if e == nil {
		f := &fault.Fault{Kind: fault.Usage, What: "version " + version + " was not released", Do: "Release it first: vornix release " + version}
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
			return nil, nil, &fault.Fault{Kind: fault.Refused, What: "the copy of what went out has changed", Place: fault.Place{File: path.Join(ReleasesDir, version, f.Path)}, Why: "Players have another file: a patch made from this would fit nobody's.", Do: "Bring back the file that was released."}
		}
	}
	beside = map[string]string{}
	entries, err := os.ReadDir(dir)
	for _, entry := range entries {
		if entry.Type().IsRegular() && e.Files[entry.Name()] == "" && entry.Name() != index.FileName {
			beside[entry.Name()] = filepath.Join(dir, entry.Name())
		}
	}
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
