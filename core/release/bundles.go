package release

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/index"
	"vornix/core/ship/publish"
)

// missingBundles lists the bundles of a finished version that are not in out/releases as they went out.
func missingBundles(ctx context.Context, p *project.Project, r *ledger.Record) (list []ledger.File, err error) {
	for _, b := range r.Bundles {
		sum, _, err := safefile.HashFileUntil(ctx, p.Join(ReleasesDir, r.Version, b.Name))
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil || sum != b.SHA256 {
			list = append(list, b)
		}
	}
	return list, nil
}

// recordOf finds the record of a finished version; nil when there is none.
func recordOf(p *project.Project, version string) (*ledger.Record, error) {
	records, err := ledger.Records(p)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(records, func(r *ledger.Record) bool { return r.Version == version })
	if i < 0 {
		return nil, nil
	}
	return records[i], nil
}

// FetchBundles copies missing bundles of a finished version to out/releases: from what is packed
// here, from targets, from where players download, from workshops. Each must have the size and hash
// of the version's record. It says where they came from. A file in out/releases with another
// content stays, and is an error.
func FetchBundles(ctx context.Context, p *project.Project, version string, o Options) (from []string, err error) {
	r, err := recordOf(p, version)
	if err != nil || r == nil {
		return nil, err // versions without a record are only here
	}
	todo, err := missingBundles(ctx, p, r)
	if err != nil || len(todo) == 0 {
		return nil, err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	for _, b := range todo {
		rel := path.Join(ReleasesDir, version, b.Name)
		if _, err := d.Stat(rel); err == nil {
			return nil, &fault.Fault{Kind: fault.Refused, What: "the copy of what went out has changed",
				Place: fault.Place{File: rel},
				Why:   "Players have another file: a patch made from this would fit nobody's.",
				Do:    "Bring back the file that was released, or remove this one: then it is fetched."}
		}
	}
	g := &getter{p: p, o: o, version: version, d: d, todo: map[string]ledger.File{}}
	for _, b := range todo {
		g.todo[b.Name] = b
	}
	state, err := safefile.MakeDir(p.State())
	if err != nil {
		return nil, err
	}
	defer state.Close()
	if g.scratch, err = safefile.NewScratchDir(p.State()); err != nil {
		return nil, err
	}
	defer g.scratch.Close()
	for _, source := range g.sources() {
		if len(g.todo) == 0 {
			break
		}
		before := len(g.todo)
		if err := source.get(ctx); err != nil {
			if ctx.Err() != nil {
				return from, ctx.Err()
			}
			g.failed = append(g.failed, fmt.Sprintf("%s: %v", source.name, err))
		}
		if len(g.todo) < before {
			from = append(from, source.name)
		}
	}
	if len(g.todo) == 0 {
		return from, nil
	}
	names := slices.Sorted(maps.Keys(g.todo))
	f := &fault.Fault{Kind: fault.Unreachable,
		What:  fmt.Sprintf("%s of version %s can't be had any more", Few(names), version),
		Place: fault.Place{File: path.Join(ReleasesDir, version)}, Err: errors.New(strings.Join(g.failed, "; ")),
		Why: "No target, index or workshop that answers has it with the hash of the version's record.",
		Do:  "If somebody has out/releases/" + version + ", copy that folder here."}
	return from, f
}

// getter gets files by their hashes.
type getter struct {
	p       *project.Project
	o       Options
	version string
	d       *safefile.Dir
	scratch *safefile.ScratchDir
	todo    map[string]ledger.File // by name
	failed  []string               // why, by place
}

// source is a place that may have files.
type source struct {
	name string
	get  func(ctx context.Context) error
}

func (g *getter) sources() (list []source) {
	list = append(list, source{"what is packed here", g.packed})
	downloads := false
	for _, name := range slices.Backward(Writable(g.p)) { // where players download first
		t := g.p.File.Targets[name]
		downloads = downloads || t.Downloads()
		list = append(list, source{"target " + name, func(ctx context.Context) error { return g.target(ctx, name) }})
	}
	if base, _ := index.Normal(g.p.File.Index.Base); base != "" && !downloads {
		list = append(list, source{base, func(ctx context.Context) error { return g.web(ctx, base) }})
	}
	shops, err := publish.Published(g.p)
	if err != nil {
		g.failed = append(g.failed, err.Error())
	}
	for _, name := range shops {
		list = append(list,
			source{"workshop " + name, func(ctx context.Context) error { return g.workshop(ctx, name) }})
	}
	return list
}

// fill takes a file from somewhere, and puts it in its place when it is the one that went out.
func (g *getter) fill(ctx context.Context, b ledger.File, get func(to *safefile.Partial) error) error {
	part, err := g.scratch.Resume(b.SHA256)
	if err != nil {
		return err
	}
	defer part.Close()
	if err := part.Restart(); err != nil {
		return err
	}
	if err := get(part); err != nil {
		return err
	}
	sum, err := part.SHA256(ctx)
	if err != nil {
		return err
	}
	if sum != b.SHA256 {
		return fmt.Errorf("%s there is not the file that went out", b.Name)
	}
	if _, _, err := g.d.CopyFrom(ctx, g.scratch.Join(b.SHA256), path.Join(ReleasesDir, g.version, b.Name)); err != nil {
		return err
	}
	delete(g.todo, b.Name)
	return nil
}

// each calls get for every file that is still missing; the first error is returned at the end.
func (g *getter) each(ctx context.Context, get func(b ledger.File, to *safefile.Partial) error) (first error) {
	for _, name := range slices.Sorted(maps.Keys(g.todo)) {
		b := g.todo[name]
		if err := g.fill(ctx, b, func(to *safefile.Partial) error { return get(b, to) }); err != nil && first == nil {
			first = err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return first
}

func (g *getter) packed(ctx context.Context) error {
	for _, b := range maps.Clone(g.todo) {
		name := g.p.Join(bundle.Dir, b.Name)
		if got, _, err := safefile.HashFileUntil(ctx, name); err == nil && got == b.SHA256 {
			if _, _, err := g.d.CopyFrom(ctx, name, path.Join(ReleasesDir, g.version, b.Name)); err != nil {
				return err
			}
			delete(g.todo, b.Name)
		}
	}
	return nil
}

func (g *getter) target(ctx context.Context, name string) error {
	t, err := deploy.Open(ctx, g.p, name, g.o.Access)
	if err != nil {
		return err
	}
	defer t.Close()
	has, err := t.Bundles(ctx)
	if err != nil {
		return err
	}
	return g.each(ctx, func(b ledger.File, to *safefile.Partial) error {
		at := has[b.SHA256]
		if at == "" {
			return fmt.Errorf("it has no %s of version %s any more", b.Name, g.version)
		}
		return t.Get(ctx, at, &bounded{to, b.Size})
	})
}

// web looks in the folder that players download from, for the name that the file had.
func (g *getter) web(ctx context.Context, base string) error {
	src, err := download.Open(base, index.FileName,
		download.Options{Retries: 2, Stall: 10 * time.Second, Agent: g.o.Publish.Agent})
	if err != nil {
		return err
	}
	defer src.Close()
	return g.each(ctx, func(b ledger.File, to *safefile.Partial) error {
		address, err := src.Address(base, url.PathEscape(b.Name), false)
		if err != nil {
			return err
		}
		return src.Download(ctx, address, b.Size, to, nil)
	})
}

func (g *getter) workshop(ctx context.Context, name string) error {
	d, err := publish.Open(ctx, g.p, name, g.o.Publish)
	if err != nil {
		return err
	}
	defer d.Close()
	has, err := d.Files(ctx)
	if err != nil {
		return err
	}
	return g.each(ctx, func(b ledger.File, to *safefile.Partial) error {
		f, ok := has[b.SHA256]
		if !ok || f.Size != b.Size {
			return fmt.Errorf("it has no %s of version %s any more", b.Name, g.version)
		}
		return f.Download(ctx, to)
	})
}

// bounded refuses more than left bytes.
type bounded struct {
	to   *safefile.Partial
	left int64
}

func (b *bounded) Write(data []byte) (int, error) {
	if b.left -= int64(len(data)); b.left < 0 {
		return 0, errors.New("it is larger than the file that went out")
	}
	return b.to.Write(data)
}
