package release

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/base/download"
	"vornix/core/base/fault"
	"vornix/core/base/gitcmd"
	"vornix/core/base/group"
	"vornix/core/base/semver"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
)

// VersionSource may know finished versions that this copy of the project does not: a target, the published
// index, a workshop, the Git repository that the project is pushed to.
type VersionSource struct {
	Name     string          `json:"place"` // for people
	Kind     string          `json:"kind"`  // index, target, workshop, git
	Versions []SourceVersion `json:"versions"`
	Error    string          `json:"error,omitempty"` // why it could not be asked

	err    error
	closed bool         // the error is that it could not be reached, or lets nobody in; not what it says
	index  *index.Index // what players get there; nil for none
}

// SourceVersion is a finished version that a place knows of.
type SourceVersion struct {
	Version string            `json:"version"`
	Files   map[string]string `json:"files,omitempty"` // SHA-256 of bundles by file name
	Part    bool              `json:"part,omitempty"`  // the place may have only some of the version's bundles
	Sums    []string          `json:"sums,omitempty"`  // SHA-256 of all bundles, where names are not known
	By      string            `json:"by,omitempty"`
	Commit  string            `json:"commit,omitempty"`
	Time    time.Time         `json:"time,omitzero"` // when it came there
	Tag     string            `json:"tag,omitempty"` // of a version of which nothing but the tag is known
	sizes   map[string]int64
	record  *ledger.Record // that is committed there
	data    []byte         // of the index of that record
}

// Places are targets, indexes, workshops and the Git remote, by kind and name.
type Places []*VersionSource

// patience is how long a place may take to answer.
const patience = 30 * time.Second

// Query says which places a command asks, and how. The zero value asks all.
type Query struct {
	// IndexFolder is the system path of another folder with a published index; empty for none.
	IndexFolder string
	// Reached are targets that the command reaches anyway. The command itself reports those that do not answer.
	Reached []string

	indexOnly bool                      // only places with a published index
	claimed   map[string]*deploy.Target // targets that are open already
}

// add takes over a version, unless what the place calls it is not one.
func (x *VersionSource) add(v SourceVersion) {
	if semver.Valid(v.Version) {
		x.Versions = append(x.Versions, v)
	}
}

// QueryPlaces asks every place that may know finished versions, all at once. It changes nothing.
// The Error of a place says why it gave no answer.
func QueryPlaces(ctx context.Context, p *project.Project, o Options, q Query) (Places, error) {
	shops, err := publish.Published(p)
	if err != nil {
		return nil, err
	}
	var list Places
	var all group.All
	ask := func(name, kind string, f func(ctx context.Context, x *VersionSource) error) {
		x := &VersionSource{Name: name, Kind: kind, Versions: []SourceVersion{}}
		list = append(list, x)
		all.Go(func() {
			ctx, stop := context.WithTimeout(ctx, patience)
			defer stop()
			if x.err = f(ctx, x); x.err != nil {
				x.Error = x.err.Error()
			}
		})
	}
	downloads := false
	for _, name := range Writable(p) {
		t := p.File.Targets[name]
		downloads = downloads || t.Downloads()
		if q.indexOnly && !t.Downloads() {
			continue
		}
		ask("target "+name, "target",
			func(ctx context.Context, x *VersionSource) error { return askTarget(ctx, p, name, o, q, x) })
	}
	if base, _ := index.Normal(p.File.Index.Base); base != "" && !downloads {
		ask("the index at "+base, "index",
			func(ctx context.Context, x *VersionSource) error { return askIndex(ctx, p, base, o, x) })
	}
	if at := q.IndexFolder; at != "" {
		ask("the index in "+filepath.ToSlash(at), "index",
			func(ctx context.Context, x *VersionSource) error { return askIndex(ctx, p, at, o, x) })
	}
	if q.indexOnly {
		all.Wait()
		return list, ctx.Err()
	}
	for _, name := range shops {
		ask("workshop "+name, "workshop",
			func(ctx context.Context, x *VersionSource) error { return askWorkshop(ctx, p, name, o, x) })
	}
	if repo, err := repositoryOf(ctx, p, &o.Access); err == nil && repo != nil {
		ask("Git", "git", func(ctx context.Context, x *VersionSource) error { return askGit(ctx, p, repo, x) })
	}
	all.Wait()
	return list, ctx.Err()
}

func askTarget(ctx context.Context, p *project.Project, name string, o Options, q Query, x *VersionSource) error {
	if t := q.claimed[name]; t != nil {
		return x.target(ctx, p, t, name)
	}
	t, err := deploy.Open(ctx, p, name, o.Access)
	if err != nil {
		x.closed = true
		return err
	}
	defer t.Close()
	return x.target(ctx, p, t, name)
}

// target asks an open target.
func (x *VersionSource) target(ctx context.Context, p *project.Project, t *deploy.Target, name string) error {
	list, err := t.Finished(ctx)
	if err != nil {
		return err
	}
	about := p.File.Targets[name]
	for _, f := range list {
		x.add(SourceVersion{Version: f.Version, Files: f.Files, Part: len(about.Maps)+len(about.Without) > 0,
			sizes: f.Sizes, By: f.By, Commit: f.Commit, Time: f.Time})
	}
	if !about.Downloads() {
		return nil
	}
	found, err := t.Index(ctx)
	if err != nil {
		return err
	}
	x.ofIndex(p, found)
	return nil
}

// ofIndex takes over what an index says, when it is the project's; nil for none.
func (x *VersionSource) ofIndex(p *project.Project, found *index.Index) {
	if found == nil || found.Project != p.File.Project.Name {
		return
	}
	x.index = found
	all := collector{}
	last := found.Version()
	for _, r := range found.Bundles { // each in the version in which it last changed, and all in the last one
		date, _ := time.Parse(time.DateOnly, r.Date)
		all.add(r.Version, r.File, r.SHA256, r.Size, date)
		all.add(last, r.File, r.SHA256, r.Size, date)
	}
	for _, v := range all.list() {
		v.Part = v.Version != last
		x.add(v)
	}
	for _, t := range found.Retracted {
		x.add(SourceVersion{Version: t.Version, Sums: t.Files})
	}
}

func askIndex(ctx context.Context, p *project.Project, base string, o Options, x *VersionSource) error {
	src, err := download.Open(base, index.FileName,
		download.Options{Retries: 1, Stall: 10 * time.Second, Agent: o.Publish.Agent})
	if errors.Is(err, fs.ErrNotExist) {
		return nil // a folder that is not made yet
	}
	if err != nil {
		x.closed = true
		return err
	}
	defer src.Close()
	data, _, err := src.Index(ctx, index.FileName, index.Limit, download.Stamp{})
	if errors.Is(err, fs.ErrNotExist) {
		return nil // nothing was published yet
	}
	if err != nil {
		x.closed = true
		return err
	}
	found, err := index.Read(data)
	if err != nil {
		return &fault.Fault{Kind: fault.Refused, What: "the published index can't be read",
			Place: fault.Place{File: strings.TrimSuffix(filepath.ToSlash(base), "/") + "/" + index.FileName}, Err: err,
			Why: "The next index needs a higher number than this one. Nothing was changed.",
			Do:  "Bring the right one back there, or remove it when it is lost."}
	}
	x.ofIndex(p, found)
	return nil
}

func askWorkshop(ctx context.Context, p *project.Project, name string, o Options, x *VersionSource) error {
	all := collector{}
	for _, s := range publish.Survey(ctx, p, name, o.Publish) {
		if s.Error != "" {
			x.closed = true
			kind := fault.Failed
			if s.Unreachable {
				kind = fault.Unreachable
			}
			return &fault.Fault{Kind: kind, What: s.Error}
		}
		for _, v := range s.Versions {
			for _, f := range v.Files {
				all.add(v.Version, f.Name, f.SHA256, f.Size, v.Time)
			}
		}
	}
	for _, v := range all.list() {
		v.Part = p.Profile.Workshop.Each == "bundle" // an item for each, and some may have none yet
		x.add(v)
	}
	return nil
}

// collector collects files by version.
type collector map[string]*SourceVersion

func (c collector) add(version, name, sum string, size int64, at time.Time) {
	if c[version] == nil {
		c[version] = &SourceVersion{Version: version, Files: map[string]string{}, sizes: map[string]int64{}, Time: at}
	}
	c[version].Files[name], c[version].sizes[name] = sum, size
	if at.After(c[version].Time) {
		c[version].Time = at
	}
}

func (c collector) list() (list []SourceVersion) {
	for _, v := range slices.SortedFunc(maps.Keys(c), semver.Compare) {
		list = append(list, *c[v])
	}
	return list
}

// repositoryOf is the Git repository of the project; nil without a repository or without the program git.
func repositoryOf(ctx context.Context, p *project.Project, a *deploy.Access) (*gitcmd.Folder, error) {
	if !gitcmd.Installed() {
		return nil, nil
	}
	repo, err := gitcmd.Find(ctx, p.Dir)
	if errors.Is(err, gitcmd.ErrNone) {
		return nil, nil
	}
	if err == nil && len(repo.Risks) > 0 {
		repo.Allowed, err = a.Repository(p, repo)
	}
	if err != nil {
		return nil, err
	}
	return repo.In(p.Dir), nil
}

// askGit reads the records that are committed on the branch that the project is pushed to, and the
// tags of releases there. Nothing in the repository changes but for objects that nobody names.
func askGit(ctx context.Context, p *project.Project, repo *gitcmd.Folder, x *VersionSource) error {
	look := func(args ...string) (string, error) {
		out, err := repo.WithoutHooks(ctx, args...)
		return strings.TrimSpace(out), err
	}
	far, branch := "origin", ""
	if up, err := look("rev-parse", "--abbrev-ref", "--symbolic-full-name", "@{upstream}"); err == nil {
		far, branch, _ = strings.Cut(up, "/")
	}
	if err := repo.Repository.Refused(false); err != nil {
		return &fault.Fault{Kind: fault.Unreachable,
			What: "git is not run in the project's repository before you allow it", Err: err,
			Do: "See what it would run, and allow it once: vornix trust."}
	}
	remotes, err := look("remote")
	if err != nil || !slices.Contains(strings.Fields(remotes), far) || strings.HasPrefix(far, "-") {
		return nil // it is pushed nowhere
	}
	x.Name = "Git remote " + far
	said, err := look("ls-remote", "--", far)
	if err != nil {
		return &fault.Fault{Kind: fault.Unreachable,
			What: "the repository that the project is pushed to can't be reached: " + far, Err: err,
			Do: "Try 'git ls-remote " + far + "'."}
	}
	refs := map[string]string{}
	for line := range strings.Lines(said) {
		if id, name, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			refs[name] = id
		}
	}
	ref := "refs/heads/" + branch
	if branch == "" {
		if branch, err = look("symbolic-ref", "--short", "HEAD"); err == nil {
			ref = "refs/heads/" + branch
		}
		if refs[ref] == "" {
			ref = "HEAD" // as in a clone of continuous integration, which has no branch
		}
	}
	if tip := refs[ref]; tip != "" {
		if err := x.committed(ctx, p, repo, far, ref, tip); err != nil {
			return err
		}
	}
	head, err := look("rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return nil // nothing is committed yet
	}
	return x.tags(p, look, refs, head)
}

// committed reads the records at the tip of a branch.
func (x *VersionSource) committed(ctx context.Context, p *project.Project, repo *gitcmd.Folder, far, ref,
	tip string) error {
	if _, err := repo.WithoutHooks(ctx, "cat-file", "-e", tip+"^{commit}"); err != nil {
		if _, err := repo.WithoutHooks(ctx, "fetch", "--quiet", "--no-tags", "--no-write-fetch-head", "--refmap=", "--",
			far, ref); err != nil {
			return &fault.Fault{Kind: fault.Unreachable, What: "what was pushed to " + far + " can't be fetched",
				Err: err, Do: "Try 'git fetch " + far + "'."}
		}
	}
	prefix, err := repo.WithoutHooks(ctx, "rev-parse", "--show-prefix")
	if err != nil {
		return err
	}
	prefix = strings.TrimSuffix(prefix, "\n")
	list, err := repo.WithoutHooks(ctx, "ls-tree", "-z", "--name-only", "--full-tree", tip,
		prefix+ledger.RecordsDir+"/")
	if err != nil {
		return err
	}
	for name := range strings.SplitSeq(list, "\x00") {
		version, ok := strings.CutSuffix(path.Base(name), ".toml")
		if !ok || !semver.Valid(version) {
			continue
		}
		data, err := repo.WithoutHooks(ctx, "cat-file", "blob", tip+":"+name)
		if err != nil {
			return err
		}
		r, err := ledger.ReadRecord(ledger.RecordFile(version), []byte(data))
		if err != nil {
			return fmt.Errorf("in %s of %s: %w", ref, far, err)
		}
		seen := SourceVersion{Version: version, Files: r.Files(), Commit: r.Commit, By: r.By, record: r}
		if index, err := repo.WithoutHooks(ctx, "cat-file", "blob",
			tip+":"+prefix+ledger.IndexFile(version)); err == nil {
			seen.data = []byte(index)
		}
		x.Versions = append(x.Versions, seen)
	}
	return nil
}

// tags reads which releases are tagged there. A tag that was moved is an error. One that names
// head, the commit that is checked out, asks for this release and does not prove one.
func (x *VersionSource) tags(p *project.Project, look func(args ...string) (string, error), refs map[string]string,
	head string) error {
	form := p.File.Release.Tag
	if form == "" || form == "none" {
		return nil
	}
	before, after, ok := strings.Cut(profile.Fill(form,
		map[string]string{"name": p.File.Project.Name, "version": "\x00"}), "\x00")
	if !ok {
		return nil
	}
	for _, ref := range slices.Sorted(maps.Keys(refs)) {
		tag, ok := strings.CutPrefix(ref, "refs/tags/")
		if !ok || strings.HasSuffix(tag, "^{}") || !strings.HasPrefix(tag, before) || !strings.HasSuffix(tag, after) ||
			len(tag) < len(before)+len(after) {
			continue
		}
		version := tag[len(before) : len(tag)-len(after)]
		if !semver.Valid(version) {
			continue
		}
		here, err := look("rev-parse", "--verify", "--quiet", ref)
		if err == nil && here != refs[ref] {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the tag %s names another commit at %s than here", tag,
					strings.TrimPrefix(x.Name, "Git remote ")),
				Why: "The tag of a finished version was moved, so its sources are not certain. Nothing was changed.",
				Do:  "Find out which one is right, and take that: git fetch --force --tags, or git push --force with the tag."}
		}
		if refs[ref] == head || refs[ref+"^{}"] == head {
			continue
		}
		if !slices.ContainsFunc(x.Versions, func(v SourceVersion) bool { return v.Version == version }) {
			x.Versions = append(x.Versions, SourceVersion{Version: version, Tag: tag})
		}
	}
	return nil
}

// Index is the published index with the highest number; nil where there is none.
func (l Places) Index() (x *index.Index, at string) {
	for _, place := range l {
		if place.index != nil && (x == nil || place.index.Serial > x.Serial) {
			x, at = place.index, place.Name
		}
	}
	return x, at
}

// Answered says whether all places answered, or nobody minds. going are the targets that the
// command reaches itself, and so reports on.
func (l Places) Answered(offline bool, going ...string) error {
	var silent []*VersionSource
	for _, x := range l {
		if _, name, _ := strings.Cut(x.Name, " "); x.closed && slices.Contains(going, name) {
			continue
		}
		if x.err != nil && !x.closed && fault.KindOf(x.err) == fault.Refused {
			return x.err // it answered, and what it says stops whatever is planned
		}
		if x.err != nil {
			silent = append(silent, x)
		}
	}
	if len(silent) == 0 || offline {
		return nil
	}
	more := ""
	if n := len(silent) - 1; n > 0 {
		more = fmt.Sprintf(" (and %s)", Count(n, "other place"))
	}
	f := &fault.Fault{Kind: fault.Unreachable,
		What: fmt.Sprintf("cannot tell which versions are released: %s does not answer%s", silent[0].Name, more),
		Err:  silent[0].err,
		Why:  "This version may have been released from elsewhere with another content. Nothing was changed.",
		Do:   "Try again when it answers."}
	var cause *fault.Fault
	if errors.As(silent[0].err, &cause) && cause.Do != "" {
		f.Do = cause.Do
	}
	f.Do += " If you know that nobody else released, add --offline."
	return f
}

// Silent lists the places that did not answer.
func (l Places) Silent() (names []string) {
	for _, x := range l {
		if x.err != nil {
			names = append(names, x.Name)
		}
	}
	return names
}

// latest is the highest of all finished versions that are known here or anywhere; empty for none.
func (l Places) latest(known []string) (v string) {
	for _, k := range known {
		if v == "" || semver.Compare(k, v) > 0 {
			v = k
		}
	}
	for _, x := range l {
		for _, s := range x.Versions {
			if v == "" || semver.Compare(s.Version, v) > 0 {
				v = s.Version
			}
		}
	}
	return v
}

// CheckContent refuses bundles that differ from those of the project's version somewhere else.
func (l Places) CheckContent(p *project.Project, bundles []bundle.Bundle) error {
	ours, version := hashes(bundles), p.File.Project.Version
	known, err := Versions(p)
	if err != nil {
		return err
	}
	for _, x := range l {
		for _, s := range x.Versions {
			if s.Version != version {
				continue
			}
			if name := s.differs(ours); name != "" {
				f := &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("version %s was released with another content: %s at %s differs", version, name,
						x.Name), Place: p.Doc.At("project", "version"),
					Why: "Players who have that version would never get the change, and a finished version is never altered. Nothing was changed.",
					Do:  "Raise the version, with: vornix release " + semver.Next(l.latest(append(known, version)))}
				if s.By != "" {
					f.What += " (released by " + s.By + ")"
				}
				return f
			}
		}
	}
	return nil
}

// differs names a file of the version that is not the one of the same name here; empty when all are the same.
func (s *SourceVersion) differs(ours map[string]string) string {
	for _, name := range slices.Sorted(maps.Keys(s.Files)) {
		if ours[name] != s.Files[name] {
			return name
		}
	}
	if len(s.Sums) > 0 {
		for _, name := range slices.Sorted(maps.Keys(ours)) {
			if !slices.Contains(s.Sums, ours[name]) {
				return name
			}
		}
	}
	return ""
}

// CheckKnown refuses to release a version without the last one that was released elsewhere.
func (l Places) CheckKnown(p *project.Project, version string) error {
	known, err := Versions(p)
	if err != nil {
		return err
	}
	here, err := ledger.Here(p)
	if err != nil {
		return err
	}
	last := l.latest(nil)
	if last == "" || slices.Contains(known, last) {
		return nil
	}
	for _, x := range l {
		for _, s := range x.Versions {
			if s.Version != last {
				continue
			}
			if last == version && s.Tag == "" {
				continue // CheckContent compares the content
			}
			if s.broughtFrom(here) {
				continue // a release from here that was not finished, or none
			}
			f := &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("version %s was released elsewhere (%s), and this copy of the project does not know it", last, x.Name),
				Place: fault.Place{File: ledger.RecordFile(last)},
				Why:   "What is released from here would lack what is new in it. Nothing was changed.",
				Do:    "Get its sources first (git pull). Without Git, copy them here, then take over its record: vornix history --adopt"}
			if s.By != "" {
				f.What = fmt.Sprintf("version %s was released by %s (%s), and this copy of the project does not know it", last, s.By, x.Name)
			}
			return f
		}
	}
	return nil
}

// broughtFrom says whether this machine brought the version to where it is, by what it remembers:
// with the same content.
func (s *SourceVersion) broughtFrom(events []ledger.Event) bool {
	brought := map[string]string{}
	for _, e := range events {
		if e.Version == s.Version && (e.Kind == ledger.Published || e.Kind == ledger.Deployed) {
			for name, sum := range e.Files { // of a deployment, by their paths there
				brought[path.Base(name)] = sum
			}
		}
	}
	return len(s.Files) > 0 && s.differs(brought) == ""
}

// checkAncestry refuses sources that lack those of the last released version, where Git knows.
func checkAncestry(ctx context.Context, p *project.Project, version string, a *deploy.Access) error {
	records, err := ledger.Records(p)
	if err != nil || len(records) == 0 {
		return err
	}
	last := records[len(records)-1]
	if last.Commit == "" || last.Version == version {
		return nil
	}
	repo, err := repositoryOf(ctx, p, a)
	if err != nil || repo == nil {
		return err
	}
	if _, err := repo.WithoutHooks(ctx, "rev-parse", "--verify", "--quiet", "HEAD"); err != nil {
		return nil // a new repository around an older project
	}
	f := &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("these sources do not contain those of version %s (commit %.10s)", last.Version,
			last.Commit),
		Place: fault.Place{File: ledger.RecordFile(last.Version)},
		Why:   "What is released from here would lack what is new in it. Nothing was changed.",
		Do:    "Merge it first: git pull, or git merge " + last.Commit[:min(len(last.Commit), 10)]}
	if _, err := repo.WithoutHooks(ctx, "cat-file", "-e", last.Commit+"^{commit}"); err != nil {
		if shallow, err := repo.WithoutHooks(ctx, "rev-parse", "--is-shallow-repository"); err == nil &&
			strings.TrimSpace(shallow) == "true" {
			f.What = fmt.Sprintf("this clone is too shallow to tell whether it contains version %s (commit %.10s)",
				last.Version, last.Commit)
			f.Do = "Fetch the whole history: git fetch --unshallow"
		}
		return f
	}
	if _, err := repo.WithoutHooks(ctx, "merge-base", "--is-ancestor", last.Commit, "HEAD"); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return f
	}
	return nil
}

// checkDate refuses a date before that of the last release: the clock of this machine is wrong
// then, and players would see the versions in the wrong order.
func checkDate(p *project.Project, version, date string) error {
	records, err := ledger.Records(p)
	if err != nil || len(records) == 0 {
		return err
	}
	last := records[len(records)-1]
	if last.Version == version || date >= last.Date {
		return nil
	}
	return &fault.Fault{Kind: fault.Refused,
		What:  fmt.Sprintf("the release would be dated %s, and version %s is of %s", date, last.Version, last.Date),
		Place: fault.Place{File: ledger.RecordFile(last.Version)},
		Why:   "The clock of this machine is wrong, or the date of the last release was. Nothing was changed.",
		Do:    "Set the clock, or give a date: --date " + last.Date}
}

// CheckPlaces compares the bundles with what every place knows of the project's version, and
// refuses what contradicts it. new says that a new version goes out: then this copy must know the
// last one. A version that is finished here with these bundles asks nobody.
func CheckPlaces(ctx context.Context, p *project.Project, bundles []bundle.Bundle, newVersion bool, o Options,
	q Query) (Places, error) {
	if err := indexwriter.Guard(p, bundles); err != nil {
		return nil, err
	}
	if err := ledger.Verify(p); err != nil {
		return nil, err
	}
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	if done := ledger.Release(events, p.File.Project.Version); done != nil {
		if !newVersion {
			return nil, nil
		}
		q.indexOnly = true // the content is known; only the index can have changed
	}
	list, err := QueryPlaces(ctx, p, o, q)
	if err != nil {
		return nil, err
	}
	if err := list.Answered(o.Offline, q.Reached...); err != nil {
		return nil, err
	}
	if err := list.CheckContent(p, bundles); err != nil {
		return nil, err
	}
	if newVersion {
		err = list.CheckKnown(p, p.File.Project.Version)
	}
	return list, err
}

// Preflight refuses what would stop a release of a version, before any work is done: places that
// are silent, a later version that is not known here, sources that lack those of the last version,
// a clock that is wrong.
func Preflight(ctx context.Context, p *project.Project, version, date string, o Options, q Query) (Places, error) {
	if err := ledger.Verify(p); err != nil {
		return nil, err
	}
	if err := checkDate(p, version, date); err != nil {
		return nil, err
	}
	if err := checkAncestry(ctx, p, version, &o.Access); err != nil {
		return nil, err
	}
	list, err := QueryPlaces(ctx, p, o, q)
	if err != nil {
		return nil, err
	}
	if err := list.Answered(o.Offline); err != nil {
		return nil, err
	}
	return list, list.CheckKnown(p, version)
}
