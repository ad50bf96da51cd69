package release

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/suggest"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/make/metadata"
	"vornix/core/pack/bundle"
	"vornix/core/release/report"
	"vornix/core/ship/deploy"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
)

// StepNames are the steps of a release at which it can be told to end, in their order. After the
// last the version is recorded, tagged and reported on.
var StepNames = []string{"check", "build", "shoot", "sweep", "pack", "try", "addon", "patch", "index", "deploy",
	"publish"}

// Run is how a release went.
type Run struct {
	Steps   []Step
	Version string
	Report  *report.Report // nil unless it came to its end
}

// running is a release on its way.
type running struct {
	*Session
	r       *Run
	journal *journal
	g       *assetgraph.Graph
	date    string
	targets []string
	shops   []string
	tag     *tagger
	places  Places                    // what others know of finished versions
	claimed map[string]*deploy.Target // held from before the first step that anybody else sees, to the end
	commit  string                    // what Git calls the sources

	noPatches []string // for each version without a patch: why
	built     *assembly.Result
	bundles   []bundle.Bundle
	checked   []finding.Finding
}

// Release runs all steps for a version; "" is the project's own. The steps that ended are there even with an error.
func (s *Session) Release(ctx context.Context, version string) (*Run, error) {
	x := &running{Session: s, r: &Run{}, claimed: map[string]*deploy.Target{}}
	defer x.letGo(ctx)
	err := x.prepare(ctx, version)
	x.r.Version = s.P.File.Project.Version
	if err != nil {
		return x.r, err
	}
	for _, step := range []struct {
		name string
		run  func(context.Context) error
	}{
		{"check", x.check}, {"build", x.build}, {"shoot", x.shoot}, {"sweep", x.sweep}, {"pack", x.pack},
		{"try", x.try}, {"addon", x.addon}, {"patch", x.patch},
		{"", x.claim}, {"index", x.index}, {"deploy", x.deploy}, {"publish", x.publish}, {"", x.finish},
	} {
		if err := ctx.Err(); err != nil {
			return x.r, err
		}
		if err := step.run(ctx); err != nil {
			return x.r, err
		}
		if step.name == s.o.Until && step.name != "" {
			return x.r, nil
		}
	}
	return x.r, nil
}

// prepare finds out what would stop the release later: better before the work than after it.
func (x *running) prepare(ctx context.Context, version string) error {
	if u := x.o.Until; u != "" && !slices.Contains(StepNames, u) {
		return NoStep(u)
	}
	if err := CanTake(x.P, version); err != nil {
		return err
	}
	if x.o.Dry {
		if err := x.Rehearse(ctx, cmp.Or(version, x.P.File.Project.Version)); err != nil {
			return err
		}
	}
	tag, err := x.openTag(ctx, cmp.Or(version, x.P.File.Project.Version))
	if err != nil {
		return err
	}
	x.tag = tag
	if x.reaches("deploy") {
		x.targets = Writable(x.P)
		for _, target := range x.targets {
			t, err := deploy.Open(ctx, x.P, target, x.o.Access)
			if err != nil {
				return err
			}
			t.Close()
		}
	}
	if x.reaches("publish") {
		if x.shops, err = x.workshops(); err != nil {
			return err
		}
		for _, target := range x.shops {
			d, err := publish.Open(ctx, x.P, target, x.o.Publish)
			if err != nil {
				var f *fault.Fault
				if errors.As(err, &f) {
					f.Do += " To leave workshops out of this release, add --without-workshops."
				}
				return err
			}
			d.Close()
		}
	}
	x.date = cmp.Or(x.o.Date, time.Now().UTC().Format(time.DateOnly))
	if x.reaches("index") {
		x.places, err = Preflight(ctx, x.P, cmp.Or(version, x.P.File.Project.Version), x.date, x.o,
			Query{indexOnly: !x.reaches("deploy")})
		if err != nil {
			return err
		}
	}
	x.commit = x.Session.commit(ctx)
	if version != "" && version != x.P.File.Project.Version {
		take := x.P.SetVersion
		if x.o.Dry {
			take = x.P.Pretend
		}
		if err := take(version); err != nil {
			return err
		}
	}
	x.journal = openJournal(x.P, x.o.Dry)
	x.g, err = x.scan(ctx)
	return err
}

// NoStep says that a release has no step of a name.
func NoStep(name string) error {
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("a release has no step %q", name),
		Do: "Its steps are " + strings.Join(StepNames, ", ") + "."}
	if near := suggest.Word(name, StepNames); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	}
	return f
}

// reaches says whether the release goes as far as a step.
func (x *running) reaches(step string) bool {
	return x.o.Until == "" || slices.Index(StepNames, x.o.Until) >= slices.Index(StepNames, step)
}

// ended takes how a step ended: it is shown, and written down.
func (x *running) ended(step *Step, key string, err error) error {
	if step == nil {
		return err
	}
	x.r.Steps = append(x.r.Steps, *step)
	if x.o.OnStep != nil {
		x.o.OnStep(*step)
	}
	if err == nil {
		err = x.journal.end(x.P, step, key)
	}
	return err
}

func (x *running) check(ctx context.Context) error {
	step, err := Check(ctx, x.P, x.g)
	if step != nil {
		x.checked = step.Findings
	}
	return x.ended(step, "", err)
}

func (x *running) build(ctx context.Context) error {
	step, built, err := x.Build(ctx, nil)
	if step != nil {
		step.Findings = except(step.Findings, x.checked) // what the check said is not said again
	}
	x.built = built
	return x.ended(step, "", err)
}

func (x *running) shoot(ctx context.Context) error {
	if !HasBeside(x.P.Profile) {
		return nil
	}
	step, _, err := x.Shoot(ctx, false, nil)
	return x.ended(step, "", err)
}

// sweep says what is stray, and moves nothing: that is for somebody who looks.
func (x *running) sweep(ctx context.Context) error {
	step, err := strays(ctx, x.P, x.g)
	return x.ended(step, "", err)
}

// strays is the step that says what a sweep would move away.
func strays(ctx context.Context, p *project.Project, g *assetgraph.Graph) (*Step, error) {
	step := &Step{Name: "sweep", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	plan, err := PlanSweep(ctx, p, g, nil, nil)
	if err != nil {
		return nil, err
	}
	step.Summary = "nothing is stray"
	if n := len(plan.Go); n > 0 {
		step.Summary = fmt.Sprintf("%s, %s, that no release needs; they stay, 'vornix sweep' moves them away",
			Count(n, "stray file"), Bytes(plan.Size()))
	}
	return step, nil
}

func (x *running) pack(ctx context.Context) error {
	step, bundles, err := x.Pack(ctx, &x.built.Tree, false)
	x.bundles = bundles
	if err := x.ended(step, "", err); err != nil {
		return err
	}
	return indexwriter.Guard(x.P, bundles)
}

func (x *running) try(ctx context.Context) error {
	key := tryKey(x.P, x.o.Program, x.bundles)
	if before := x.journal.Steps["try"]; before.Key == key && before.Step != nil {
		step := *before.Step
		step.Kept, step.Seconds = true, 0
		step.Summary += fmt.Sprintf(", at %s: the bundles are the same", before.When.Local().Format("2006-01-02 15:04"))
		return x.ended(&step, "", nil)
	}
	var files []string
	for _, b := range x.bundles {
		files = append(files, x.P.Join(bundle.Dir, b.Name))
	}
	step, _, err := Try(ctx, x.P, files)
	return x.ended(step, key, err)
}

func (x *running) addon(ctx context.Context) error {
	step, err := x.Addon(ctx, x.bundles)
	if step != nil {
		step.Findings = except(step.Findings, x.checked)
	}
	return x.ended(step, "", err)
}

func (x *running) patch(ctx context.Context) error {
	step, err := x.patches(ctx)
	return x.ended(step, "", err)
}

func (x *running) index(ctx context.Context) error {
	step, err := x.Index(ctx, x.bundles, x.date, x.places)
	return x.ended(step, "", err)
}

// claim holds every target of the release, then compares what is packed with what every place
// knows: from here to the end nobody else releases.
func (x *running) claim(ctx context.Context) error {
	if !x.reaches("index") {
		return nil
	}
	if !x.o.Dry && x.reaches("deploy") {
		for _, name := range slices.Sorted(slices.Values(x.targets)) { // everybody's order
			t, err := deploy.Open(ctx, x.P, name, x.o.Access)
			if err != nil {
				return err
			}
			x.claimed[name] = t
			if err := t.Claim(ctx, "vornix release "+x.P.File.Project.Version); err != nil {
				return err
			}
		}
	}
	places, err := CheckPlaces(ctx, x.P, x.bundles, true, x.o,
		Query{indexOnly: !x.reaches("deploy"), claimed: x.claimed})
	x.places = places
	return err
}

// letGo ends what claim began.
func (x *running) letGo(ctx context.Context) {
	for _, t := range x.claimed {
		t.LetGo(ctx)
		t.Close()
	}
}

// deploy plans all deployments and looks at what workshops would refuse, before it begins with the first.
func (x *running) deploy(ctx context.Context) error {
	if x.o.Dry {
		for _, target := range x.targets {
			step, err := x.rehearseDeploy(ctx, target, x.bundles)
			if err := x.ended(step, "", err); err != nil {
				return err
			}
		}
		return nil
	}
	var ways []*Deploying
	for _, target := range x.targets {
		d, err := PlanDeploy(ctx, x.P, x.scan, target, x.bundles,
			DeployOptions{Verify: x.o.Verify, Release: true, Commit: x.commit, Claimed: x.claimed[target]})
		if err != nil {
			return err
		}
		if err := d.Target.Allowed(d.Plan, deploy.Options{Overwrite: x.o.Overwrite}); err != nil {
			return err
		}
		ways = append(ways, d)
	}
	for _, shop := range x.shops {
		if err := x.mayPublish(ctx, shop); err != nil {
			return err
		}
	}
	for _, d := range ways {
		_, step, err := x.Run(ctx, d, x.bundles)
		if err := x.ended(step, "", err); err != nil {
			return err
		}
	}
	return nil
}

// mayPublish says what a workshop would refuse.
func (x *running) mayPublish(ctx context.Context, shop string) error {
	p, err := PlanPublish(ctx, x.P, x.scan, shop, x.bundles, nil, publish.PlanOptions{Overwrite: x.o.Overwrite},
		x.o.Publish)
	if err != nil {
		return err
	}
	defer p.Desk.Close()
	for _, plan := range p.Plans {
		if err := p.Desk.Allowed(plan); err != nil {
			return err
		}
	}
	return p.Refused()
}

func (x *running) publish(ctx context.Context) error {
	for _, target := range x.shops {
		run := x.publishAll
		if x.o.Dry {
			run = x.rehearsePublish
		}
		step, err := run(ctx, target, x.bundles)
		if err := x.ended(step, "", err); err != nil {
			return err
		}
	}
	return nil
}

// finish closes the version, tags it and reports on it.
func (x *running) finish(ctx context.Context) error {
	if x.o.Dry {
		return nil
	}
	step, err := x.record(ctx, x.bundles, x.date, slices.Concat(x.targets, x.shops))
	if err := x.ended(step, "", err); err != nil {
		return err
	}
	if x.tag != nil {
		step, err := x.tag.run(ctx, x.P)
		if err := x.ended(step, "", err); err != nil {
			return err
		}
	}
	if err := x.journal.finish(x.P); err != nil {
		return err
	}
	rep, step, err := x.report(ctx)
	x.r.Report = rep
	return x.ended(step, "", err)
}

// rehearseDeploy says what a deployment would do.
func (s *Session) rehearseDeploy(ctx context.Context, target string, bundles []bundle.Bundle) (*Step, error) {
	step := &Step{Name: "deploy", Target: target, Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	d, err := PlanDeploy(ctx, s.P, s.scan, target, bundles,
		DeployOptions{Access: s.o.Access, Verify: s.o.Verify, Release: true})
	if err != nil {
		return nil, err
	}
	defer d.Target.Close()
	if err := d.Target.Allowed(d.Plan, deploy.Options{Overwrite: s.o.Overwrite}); err != nil {
		step.Failed, step.Summary = true, fmt.Sprintf("%s would refuse version %s", target, d.Plan.Version)
		return step, err
	}
	n, size := 0, int64(0)
	for _, w := range d.Plan.Steps {
		if w.Action != deploy.Leave {
			n++
			size += w.Size
		}
	}
	step.Summary = fmt.Sprintf("%s would get version %s: %s to change, %s at most", target, d.Plan.Version,
		Count(n, "file"), Bytes(size))
	if n == 0 {
		step.Summary = fmt.Sprintf("%s has version %s already", target, d.Plan.Version)
	}
	return step, nil
}

// rehearsePublish says what publishing would do.
func (s *Session) rehearsePublish(ctx context.Context, target string, bundles []bundle.Bundle) (*Step, error) {
	step := &Step{Name: "publish", Target: target, Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	x, err := PlanPublish(ctx, s.P, s.scan, target, bundles, nil, publish.PlanOptions{Overwrite: s.o.Overwrite},
		s.o.Publish)
	if err != nil {
		return nil, err
	}
	defer x.Desk.Close()
	step.Findings = x.Findings
	var said []string
	for _, p := range x.Plans {
		n := 0
		for _, w := range p.Steps {
			if w.Action != publish.Leave {
				n++
			}
		}
		said = append(said,
			fmt.Sprintf("%s would get %s at %s: %s to change", p.Item, p.Version, target, Count(n, "part")))
	}
	step.Summary = strings.Join(said, "; ")
	refused := x.Refused()
	for _, p := range x.Plans {
		if err := x.Desk.Allowed(p); err != nil && refused == nil && p.Changes() > 0 {
			refused = err
		}
	}
	step.Failed = refused != nil
	return step, refused
}

func except(list, said []finding.Finding) []finding.Finding {
	return slices.DeleteFunc(slices.Clone(list), func(f finding.Finding) bool {
		return slices.ContainsFunc(said, func(o finding.Finding) bool {
			return o.ID == f.ID && o.Place == f.Place && o.Text == f.Text
		})
	})
}

// CanTake says whether a version can be the project's: "" and its own can, and later ones.
func CanTake(p *project.Project, version string) error {
	now := p.File.Project.Version
	if version == "" || version == now {
		return nil
	}
	if !semver.Valid(version) {
		return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("%q is no version", version),
			Do: "Write three numbers, as in " + semver.Next(now) + "."}
	}
	if semver.Compare(version, now) < 0 {
		return &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("version %s comes before %s, which the project has", version, now),
			Place: p.Doc.At("project", "version"),
			Why:   "Players who have the later one would never get it.",
			Do:    "Choose a later one, such as " + semver.Next(now) + "."}
	}
	return nil
}

// record closes a version: a copy of what went out goes to out/releases, and what it consists of
// into the record that is committed with the project.
func (s *Session) record(ctx context.Context, bundles []bundle.Bundle, date string, places []string) (*Step, error) {
	step := &Step{Name: "record", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	version := s.P.File.Project.Version
	events, err := ledger.Read(s.P)
	if err != nil {
		return nil, err
	}
	folder := path.Join(ReleasesDir, version)
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	done := ledger.Release(events, version)
	if _, err := d.Stat(path.Join(folder, index.FileName)); done == nil || err != nil {
		if err := s.keep(ctx, d, step, bundles, done != nil); err != nil {
			return nil, err
		}
	}
	wrote, err := s.writeRecords(ctx, d, bundles, date, places)
	if err != nil {
		return nil, err
	}
	for _, rel := range wrote {
		info, err := d.Stat(rel)
		if err != nil {
			return nil, err
		}
		step.add(rel, info.Size(), false)
	}
	if done != nil {
		step.Summary = fmt.Sprintf("version %s was released before and is unchanged: %s", version, folder)
		return step, nil
	}
	step.Summary = fmt.Sprintf("version %s is finished; commit %s; a copy of what went out is in %s", version,
		ledger.RecordFile(version), folder)
	return step, ledger.Add(s.P,
		ledger.Event{Kind: ledger.Released, Time: time.Now(), Version: version, Date: date, Files: hashes(bundles)})
}

// keep copies what goes out to out/releases. finished says that the version was finished elsewhere:
// then its index is the one of its record.
func (s *Session) keep(ctx context.Context, d *safefile.Dir, step *Step, bundles []bundle.Bundle, finished bool) error {
	version := s.P.File.Project.Version
	files, err := s.beside(ctx)
	if err != nil {
		return err
	}
	for _, b := range bundles {
		files = append(files, beside{path.Join(bundle.Dir, b.Name), b.Name})
	}
	of := path.Join(indexwriter.Dir, index.FileName)
	if finished {
		if _, err := d.Stat(ledger.IndexFile(version)); err == nil {
			of = ledger.IndexFile(version)
		}
	}
	files = append(files, beside{of, index.FileName})
	for _, f := range files {
		to := path.Join(ReleasesDir, version, f.to)
		_, size, err := d.CopyFrom(ctx, d.Join(f.from), to)
		if err != nil {
			return err
		}
		step.add(to, size, false)
	}
	return nil
}

// writeRecords writes the record of the version, and those of earlier ones that only this machine
// remembers. It returns the files that it wrote.
func (s *Session) writeRecords(ctx context.Context, d *safefile.Dir, bundles []bundle.Bundle, date string,
	places []string) (wrote []string, err error) {
	here, err := ledger.Here(s.P)
	if err != nil {
		return nil, err
	}
	version := s.P.File.Project.Version
	for _, e := range here {
		if e.Kind != ledger.Released || e.Version == version {
			continue
		}
		files, err := s.recordOld(ctx, d, e)
		if err != nil {
			return nil, err
		}
		wrote = append(wrote, files...)
	}
	if _, err := d.Stat(ledger.RecordFile(version)); err == nil {
		return wrote, nil
	}
	r := &ledger.Record{Version: version, Date: date, Commit: s.commit(ctx), Places: slices.Clone(places)}
	if e := ledger.Release(here, version); e != nil && e.Date != "" {
		r.Date = e.Date
	}
	for _, b := range bundles {
		r.Bundles = append(r.Bundles, ledger.File{Name: b.Name, Size: b.Size, SHA256: b.SHA256})
	}
	others, err := s.beside(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range others {
		sum, size, err := safefile.HashFileUntil(ctx, d.Join(f.from))
		if err != nil {
			return nil, err
		}
		r.Beside = append(r.Beside, ledger.File{Name: f.to, Size: size, SHA256: sum})
	}
	files, err := s.writeRecord(d, r, path.Join(indexwriter.Dir, index.FileName))
	return append(wrote, files...), err
}

// writeRecord writes a record with the index at a path in the project, where it can be read.
func (s *Session) writeRecord(d *safefile.Dir, r *ledger.Record, at string) ([]string, error) {
	data, err := d.ReadFile(at)
	if err != nil {
		return ledger.WriteRecord(s.P, r, nil)
	}
	x, err := index.Read(data)
	if err != nil {
		return nil, &fault.Fault{What: "the index that goes out can't be read", Place: fault.Place{File: at}, Err: err,
			Do: "Write it again with 'vornix index write'."}
	}
	r.Index.Number, r.Index.Keys = x.Serial, x.Keys
	return ledger.WriteRecord(s.P, r, data)
}

// recordOld writes the record of a version that only this machine remembers, as far as its files
// are still in out/releases.
func (s *Session) recordOld(ctx context.Context, d *safefile.Dir, e ledger.Event) ([]string, error) {
	if _, err := d.Stat(ledger.RecordFile(e.Version)); err == nil {
		return nil, nil
	}
	folder := path.Join(ReleasesDir, e.Version)
	r := &ledger.Record{Version: e.Version, Date: cmp.Or(e.Date, e.Time.Format(time.DateOnly)), Places: []string{}}
	for name, sum := range e.Files {
		got, size, err := safefile.HashFileUntil(ctx, d.Join(path.Join(folder, name)))
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil || got != sum {
			return nil, nil // its size is not known any more
		}
		r.Bundles = append(r.Bundles, ledger.File{Name: name, Size: size, SHA256: sum})
	}
	return s.writeRecord(d, r, path.Join(folder, index.FileName))
}

// commit is what Git calls the sources that a release is made from; empty outside of Git.
func (s *Session) commit(ctx context.Context) string {
	repo, err := repositoryOf(ctx, s.P, &s.o.Access)
	if err != nil || repo == nil {
		return ""
	}
	out, err := repo.WithoutHooks(ctx, "rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(out)
}

// beside is a file that goes out: a path in the project, and where the copy of its version is kept below out/releases.
type beside struct{ from, to string }

// Folders of a version below out/releases for what went out with its bundles.
const (
	besideAddon    = "addon"    // metadata, which players have too
	besidePictures = "pictures" // of pages and lists
)

// metadata lists the metadata files that go out with the bundles, by their paths beside those.
func (s *Session) metadata(ctx context.Context) (list []string, err error) {
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	files, _ := metadata.Make(s.P, g, metadata.Options{})
	for _, f := range files {
		if f.Place == "beside" {
			list = append(list, f.Path)
		}
	}
	return list, nil
}

// beside lists what goes out with the bundles: metadata files and pictures.
func (s *Session) beside(ctx context.Context) (list []beside, err error) {
	metadata, err := s.metadata(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range metadata {
		list = append(list, beside{path.Join(AddonDir, name), path.Join(besideAddon, name)})
	}
	g, err := s.scan(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range s.besidePictures(g) {
		list = append(list, beside{path.Join(assembly.PicturesDir, name), path.Join(besidePictures, name)})
	}
	return list, nil
}

func hashes(bundles []bundle.Bundle) map[string]string {
	files := map[string]string{}
	for _, b := range bundles {
		files[b.Name] = b.SHA256
	}
	return files
}
