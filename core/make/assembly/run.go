package assembly

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/make/check"
	"vornix/core/make/metadata"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
)

// Options for Run.
type Options struct {
	Workers  int
	Progress taskgraph.Progress
	Paths    []string // only what is made of these
	// Pictures builds only what pictures need, and those that are inside the tree; Maps, when
	// given, only those of these maps.
	Pictures bool
	Studio   *Studio // where scenes for pictures are kept; nil: in one that lasts as long as the build
	Maps     []string
	// Program tells one build of Vornix from another: results of the quick look are only believed from the same one.
	Program string
	// Own is what steps of the project's own are run with.
	Own Own
	// Stages says how maps are compiled.
	Stages Stages
	// Sharing is how shared results are used.
	Sharing Sharing
	// Farming is how others help.
	Farming Farming
}

// Result is what a build made.
type Result struct {
	Tree     Tree
	Findings []finding.Finding        // of everything that check and the build have to say
	Made     []taskgraph.Result       // jobs that ran or whose results were brought back, and those that failed
	Kept     int                      // jobs whose results were there already
	All      []taskgraph.Result       // all of them; nil after a quick look
	Removed  []string                 // files of earlier builds that no source makes any more
	Farm     []remoteexec.WorkerShare // what workers of a farm did
	// Quick says that sizes and times alone showed that nothing changed.
	Quick bool
}

// Failed is how many jobs did not get to their end.
func (r *Result) Failed() int {
	n := 0
	for _, j := range r.Made {
		if j.State != taskgraph.Made && j.State != taskgraph.CacheHit && j.State != taskgraph.SharedHit {
			n++
		}
	}
	return n
}

// Away says whether shared results were there to be used, and could not be.
func (r *Result) Away() bool {
	return slices.ContainsFunc(r.Findings, func(f finding.Finding) bool {
		return f.ID == finding.SharedAway.ID || f.ID == finding.SharedUntrusted.ID
	})
}

// Alone says whether a farm was to help, and could not.
func (r *Result) Alone() bool {
	return slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.ID == finding.FarmAway.ID })
}

// Tree is the list of the exact files that ship.
type Tree struct {
	Files []TreeFile `json:"files"` // sorted by path
}

// TreeFile is a file of the tree.
type TreeFile struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
	Step   string `json:"step"`
	// Maps are the maps that need the file; empty when it belongs to all of the project.
	Maps []string `json:"maps,omitempty"`
}

// Size is the sum of all files' sizes.
func (t *Tree) Size() int64 {
	var n int64
	for _, f := range t.Files {
		n += f.Size
	}
	return n
}

// quickFile remembers the last build that was whole and clean.
const quickFile = project.StateDir + "/quick.state"

// quick is the last build's fingerprint and result.
type quick struct {
	Fingerprint [sha256.Size]byte
	Tree        Tree
	Findings    []finding.Finding
	Jobs        int
}

// Run checks the project, then brings out/tree up to date. The error is a fault when something failed to build; the
// result is there all the same. The caller holds the project's lock.
func Run(ctx context.Context, p *project.Project, o Options) (*Result, error) {
	if o.Workers <= 0 {
		o.Workers = runtime.GOMAXPROCS(0)
	}
	dir, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	files, err := p.List()
	if err != nil {
		return nil, &fault.Fault{What: "could not list the project's files", Place: fault.Place{File: p.Dir}, Err: err,
			Do: "Check who may read the folders."}
	}
	program := programOf(o.Program, o.Stages) + o.Own.sees(p)
	if len(o.Paths) == 0 && !o.Pictures && !o.Sharing.begins(p, o.Own) {
		if r := quickLook(p, files, program); r != nil {
			return r, nil
		}
	}
	g, err := assetgraph.Scan(ctx, p, files)
	if err != nil {
		return nil, err
	}
	findings, err := check.Run(ctx, p, g)
	if err != nil {
		return nil, err
	}
	pictures := shots.NewPlan(p, g)
	planned := plan(p, g, pictures, o)
	jobs := planned.jobs
	var only []string
	switch {
	case o.Pictures:
		only = pictureJobs(pictures, o.Maps)
	case len(o.Paths) > 0:
		if only, err = planned.selectJobs(o.Paths); err != nil {
			return nil, err
		}
	}
	if slices.ContainsFunc(jobs, func(j *taskgraph.Job) bool {
		return j.Step == taskgraph.OwnStep && (only == nil || slices.Contains(only, j.ID))
	}) {
		if err := o.Own.trusted(p); err != nil {
			return nil, err
		}
	}
	treeDir, err := safefile.MakeDir(dir.Join(project.TreeDir))
	if err != nil {
		return nil, err
	}
	treeDir.Close()
	edited, err := setAside(ctx, dir, planned.inside)
	if err != nil {
		return nil, err
	}
	report, shares, more, sharedErr,
		err := o.run(ctx, planned, dir,
		taskgraph.Options{Out: project.TreeDir, State: project.StateDir, Only: only, KeepOld: !g.Complete()})
	if err != nil {
		return nil, err
	}
	r := &Result{Removed: report.Removed, Findings: merge(findings, report), Farm: shares}
	r.take(report)
	r.Tree = tree(planned.maps, report)
	if err := clock(dir, p, report.Results, only == nil); err != nil {
		return r, err
	}
	failed, whole := r.Failed(), only == nil
	if failed == 0 && whole {
		foreign, err := foreignFiles(p, r.Tree)
		if err != nil {
			return nil, err
		}
		r.Findings = append(r.Findings, foreign...)
	}
	r.Findings = check.Accept(p, g, r.Findings, whole)
	if failed == 0 && whole {
		err = errors.Join(remember(dir, p, files, program, r, len(jobs)), rememberMetadata(dir, planned.inside))
	} else if failed > 0 {
		err = buildFault(report, failed)
	}
	r.Findings = slices.Concat(r.Findings, edited, more) // said once, not by every build that finds nothing to do
	return r, cmp.Or(err, sharedErr)
}

// run runs jobs, with the help and the results of others that the options name. The findings say
// how those did; sharedErr is why that could not be remembered.
func (o Options) run(ctx context.Context, pl *planner, dir *safefile.Dir,
	how taskgraph.Options) (report *taskgraph.Report, shares []remoteexec.WorkerShare, said []finding.Finding,
	sharedErr,
	err error) {
	line, said := o.Sharing.line(ctx, pl.p, o.Own)
	client, away := o.Farming.join(ctx)
	how.Dir, how.Workers, how.Progress, how.Shared = pl.p.Dir, o.Workers, o.Progress, line
	if client != nil {
		how.Executor, pl.resources.farm = client, client
	}
	if client != nil {
		times := Times(pl.p)
		for _, j := range pl.jobs {
			j.Expected = time.Duration(times[j.ID].Seconds * float64(time.Second))
		}
	}
	report, err = taskgraph.Run(ctx, pl.jobs, how)
	shares, left := leave(client)
	more, sharedErr := hangUp(ctx, dir, pl.p, line)
	return report, shares, slices.Concat(said, more, away, left), sharedErr, err
}

// setAside moves metadata files of the tree that somebody changed by hand to the safe place, before they are made anew.
func setAside(ctx context.Context, d *safefile.Dir, files []metadata.File) (list []finding.Finding, err error) {
	standing, err := metadata.Stand(d, project.TreeDir, "inside", files)
	if err != nil {
		return nil, err
	}
	var items []quarantine.Item
	for _, s := range standing {
		if s.Known && s.State == metadata.Edited {
			items = append(items, quarantine.Item{Path: s.Path, Why: "changed by hand"})
		}
	}
	if len(items) == 0 {
		return nil, nil
	}
	place, err := quarantine.Add(ctx, d, project.QuarantineDir, time.Now(), items)
	if err != nil {
		return nil, err
	}
	for _, i := range items {
		f := finding.TreeEdited.At(fault.Place{File: i.Path},
			"somebody changed it by hand; it is made anew, and the changed one is in %s",
			path.Join(project.QuarantineDir, place.Name))
		list = append(list, f)
	}
	return list, nil
}

func rememberMetadata(d *safefile.Dir, files []metadata.File) error {
	standing, err := metadata.Stand(d, project.TreeDir, "inside", files)
	if err != nil {
		return err
	}
	return metadata.Remember(d, standing)
}

// take counts the jobs of a report.
func (r *Result) take(report *taskgraph.Report) {
	r.All = report.Results
	for _, x := range report.Results {
		if x.State == taskgraph.UpToDate {
			r.Kept++
		} else {
			r.Made = append(r.Made, x)
		}
	}
}

func buildFault(report *taskgraph.Report, n int) error {
	f := &fault.Fault{What: fmt.Sprintf("%d of %d jobs failed", n, len(report.Results)),
		Why: "Nothing can be packed until they are mended; what did not depend on them is done.",
		Do:  "Correct the errors above and build again."}
	for _, x := range report.Results {
		var failure *finding.Failure
		if x.Err == nil || errors.As(x.Err, &failure) {
			continue
		}
		// Not a finding but the disk, a lock, a bug: the first one tells, and knows best what to do.
		f.Err = fmt.Errorf("%s: %w", x.ID, x.Err)
		var cause *fault.Fault
		if errors.As(x.Err, &cause) {
			f.Why, f.Do = cmp.Or(cause.Why, f.Why), cmp.Or(cause.Do, f.Do)
		}
		break
	}
	return f
}

// merge adds what jobs found to what the check found; the same thing is said once.
func merge(findings []finding.Finding, report *taskgraph.Report) []finding.Finding {
	type saying struct {
		id, text string
		place    fault.Place
	}
	said := map[saying]bool{}
	for _, f := range findings {
		said[saying{f.ID, f.Text, f.Place}] = true
	}
	for _, r := range report.Results {
		for _, f := range r.Findings {
			if s := (saying{f.ID, f.Text, f.Place}); !said[s] {
				said[s] = true
				findings = append(findings, f)
			}
		}
	}
	return findings
}

// tree lists the outputs of all jobs with the maps that need them.
func tree(maps map[string][]string, report *taskgraph.Report) Tree {
	t := Tree{Files: []TreeFile{}}
	for _, r := range report.Results {
		for _, o := range r.Outputs {
			t.Files = append(t.Files,
				TreeFile{Path: o.Path, SHA256: o.SHA256, Size: o.Size, Step: r.Step, Maps: maps[o.Path]})
		}
	}
	sortFiles(t.Files)
	return t
}

func foreignFiles(p *project.Project, t Tree) ([]finding.Finding, error) {
	list, err := p.ListTree()
	if err != nil {
		return nil, err
	}
	var out []finding.Finding
	i := 0
	for _, f := range list {
		for i < len(t.Files) && t.Files[i].Path < f.Path {
			i++
		}
		if i == len(t.Files) || t.Files[i].Path != f.Path {
			out = append(out,
				finding.TreeForeign.At(fault.Place{File: path.Join(project.TreeDir, f.Path)},
					"the build did not make this file"))
		}
	}
	return out, nil
}

// fingerprint hashes all that decides a build without reading a file: names, sizes and times of
// sources and of the tree, the project and profile themselves, and the program. ok is false while a
// file is too fresh for its time to be trusted.
func fingerprint(p *project.Project, sources []project.Info, program string) (sum [sha256.Size]byte, ok bool) {
	outputs, err := p.ListTree()
	if err != nil {
		return sum, false
	}
	limit := time.Now().Add(-2 * time.Second).UnixNano()
	h := sha256.New()
	var b []byte
	for _, list := range [][]project.Info{sources, outputs} {
		for _, f := range list {
			if f.ModTime > limit {
				return sum, false
			}
			b = fmt.Appendf(b[:0], "%s\x00%d %d\n", f.Path, f.Size, f.ModTime)
			h.Write(b)
		}
		h.Write([]byte("\n\x00\n"))
	}
	h.Write(p.Source)
	h.Write(p.Profile.Source)
	h.Write([]byte(program))
	h.Sum(sum[:0])
	return sum, true
}

func quickLook(p *project.Project, sources []project.Info, program string) *Result {
	data, err := os.ReadFile(p.Join(quickFile))
	if err != nil || len(data) < sha256.Size {
		return nil
	}
	sum, ok := fingerprint(p, sources, program)
	if !ok || !bytes.Equal(data[:sha256.Size], sum[:]) {
		return nil
	}
	var q quick
	if gob.NewDecoder(bytes.NewReader(data[sha256.Size:])).Decode(&q) != nil {
		return nil
	}
	return &Result{Tree: q.Tree, Findings: q.Findings, Kept: q.Jobs, Quick: true}
}

func remember(dir *safefile.Dir, p *project.Project, sources []project.Info, program string, r *Result,
	jobs int) error {
	sum, ok := fingerprint(p, sources, program)
	if !ok {
		return dir.Remove(quickFile)
	}
	var b bytes.Buffer
	b.Write(sum[:])
	if err := gob.NewEncoder(&b).Encode(quick{Tree: r.Tree, Findings: r.Findings, Jobs: jobs}); err != nil {
		return err
	}
	return dir.WriteCache(quickFile, b.Bytes())
}

// Identity is a hash of the tree's names and contents: the same tree has the same identity on any machine.
func (t *Tree) Identity() string {
	h := sha256.New()
	e := json.NewEncoder(h)
	for _, f := range t.Files {
		_ = e.Encode([2]string{f.Path, f.SHA256}) // a hash takes every write
	}
	return hex.EncodeToString(h.Sum(nil))
}

func sortFiles(files []TreeFile) {
	slices.SortFunc(files, func(a, b TreeFile) int { return strings.Compare(a.Path, b.Path) })
}

// programOf names what builds, and how.
func programOf(program string, s Stages) string {
	return fmt.Sprintf("%s %t %q %v", program, s.Only == nil, s.Only, s.Draft)
}

// Stale says which jobs a build would have to run now, and gives the tree when there are none. It changes nothing.
func Stale(ctx context.Context, p *project.Project, program string, own Own) ([]string, *Tree, error) {
	files, err := p.List()
	if err != nil {
		return nil, nil, err
	}
	if r := quickLook(p, files, programOf(program, Stages{})+own.sees(p)); r != nil {
		return nil, &r.Tree, nil
	}
	g, err := assetgraph.Scan(ctx, p, files)
	if err != nil {
		return nil, nil, err
	}
	planned := plan(p, g, shots.NewPlan(p, g), Options{Workers: 1, Own: own})
	report, err := taskgraph.Run(ctx, planned.jobs,
		taskgraph.Options{Dir: p.Dir, Out: project.TreeDir, State: project.StateDir, Plan: true})
	if err != nil {
		return nil, nil, err
	}
	if ids := stale(report); len(ids) > 0 {
		return ids, nil, nil
	}
	t := tree(planned.maps, report)
	return nil, &t, nil
}

// stale are the jobs of a plan that would have to run.
func stale(report *taskgraph.Report) (ids []string) {
	for _, r := range report.Results {
		if r.State != taskgraph.UpToDate {
			ids = append(ids, r.ID)
		}
	}
	return ids
}

// Outputs are the files of the tree that today's sources make, sorted.
func Outputs(p *project.Project, g *assetgraph.Graph, pictures *shots.Plan) (list []string) {
	for _, j := range plan(p, g, pictures, Options{Workers: 1}).jobs {
		list = append(list, j.Outputs...)
	}
	slices.Sort(list)
	return list
}
