// Package release runs the steps of a release, each also alone: check, build, shoot, pack, try,
// addon, index, deploy, publish.
//
// A Session works on one project and holds its lock. Each step answers with a Step, which says in
// words and as data what was made; Release runs all of them and records the version in the ledger,
// after which it is never altered.
package release

import (
	"context"
	"crypto"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/game/gameserver"
	"vornix/core/game/smoketest"
	"vornix/core/make/assembly"
	"vornix/core/make/check"
	"vornix/core/make/remoteexec"
	"vornix/core/make/taskgraph"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
)

// Folders in a project for what is made beside bundles.
const (
	AddonDir    = project.OutDir + "/addon"
	ReleasesDir = indexwriter.ReleasesDir
)

// Options for a Session.
type Options struct {
	Workers       int
	Stages        assembly.Stages // how maps are compiled
	Progress      taskgraph.Progress
	Own           assembly.Own     // what steps of the project's own are run with
	Sharing       assembly.Sharing // how shared results are used
	Farming       assembly.Farming // how others help to build
	Program       string           // tells one build of Vornix from another
	Access        deploy.Access    // what lets in at targets
	Publish       publish.Access   // what lets in at workshops
	Overwrite     bool             // deploy over what somebody else changed
	Verify        bool             // targets are compared by content
	WithoutServer bool             // deploy without asking the game server
	NoWorkshops   bool             // the release stays away from workshops
	MakeItems     bool             // the release makes items at workshops where the project has none yet
	OnStep        func(Step)       // told of each step of a release as it ends
	Date          string           // of the release, as in 2026-11-25; empty: the day on which it is made
	Keys          []crypto.Signer  // sign the index
	Unsigned      bool             // the index may go out without a signature although the last one had one
	LostKey       bool             // the index may be signed by keys that the last index does not name
	Until         string           // the last step of a release; empty: all
	Offline       bool             // continue although a place does not answer
	Dry           bool             // a rehearsal: nothing leaves this machine, nothing is recorded
	Tag           string           // Git tag of the release instead of the project's; "none" for none
	// metadata files that were changed by hand are overwritten; the old files are set aside
	ReplaceEdited bool
}

// Step is how one step ended.
type Step struct {
	Name     string                   `json:"step"`
	Target   string                   `json:"target,omitempty"` // deploy, publish: where
	Kept     bool                     `json:"kept"`             // everything was there already
	Failed   bool                     `json:"failed"`           // it did not get to its end
	Summary  string                   `json:"summary"`          // one sentence
	Made     []Made                   `json:"made"`
	Findings []finding.Finding        `json:"findings"`
	Seconds  float64                  `json:"seconds"`
	Server   *gameserver.Status       `json:"server,omitempty"` // deploy: what the game server answered
	Farm     []remoteexec.WorkerShare `json:"farm,omitempty"`   // build: what workers of a farm did
}

// Made is a file that a step made or found in its place.
type Made struct {
	Path  string `json:"path"`
	Size  int64  `json:"size"`
	State string `json:"state"`        // made, kept, restored, removed, add, change, remove, leave
	By    string `json:"by,omitempty"` // the machine that made it, of a build with others' help
}

// Session works on one project.
type Session struct {
	P     *project.Project
	o     Options
	graph *assetgraph.Graph
	lock  *safefile.Lock
	// writing is held while the ledger is written: several targets may be deployed to at once.
	writing sync.Mutex
	// studio is where both the build and the pictures beside bundles take theirs.
	studio assembly.Studio
	// away says that shared results were not to be had, which is said once.
	away bool
	// alone says the same of a farm.
	alone bool
	// rehearses says that Close restores the files from before.
	rehearses bool
}

// Open locks the project for a command, and clears away what a killed run left half written. Close must be called.
func Open(p *project.Project, command string, o Options) (*Session, error) {
	lock, err := safefile.Acquire(p.State(), command)
	if err != nil {
		return nil, err
	}
	if lock.Unclean {
		d, err := safefile.OpenDir(p.Dir)
		if err != nil {
			lock.Release()
			return nil, err
		}
		defer d.Close()
		d.CleanTemp()
	}
	if err := endRehearsal(p); err != nil { // one that was killed
		lock.Release()
		return nil, err
	}
	return &Session{P: p, o: o, lock: lock}, nil
}

// Close ends a rehearsal, and frees the project.
func (s *Session) Close() {
	_ = s.EndRehearsal() // the next session tries again
	s.lock.Release()
}

// Graph reads the project's maps and materials.
type Graph func(context.Context) (*assetgraph.Graph, error)

// scan reads the project's maps and materials, once a session.
func (s *Session) scan(ctx context.Context) (*assetgraph.Graph, error) {
	if s.graph != nil {
		return s.graph, nil
	}
	g, err := assetgraph.ScanProject(ctx, s.P)
	s.graph = g
	return g, err
}

func timed(step *Step, start time.Time) { step.Seconds = time.Since(start).Seconds() }

// Check says what is wrong before anything is built. It needs no lock.
func Check(ctx context.Context, p *project.Project, g *assetgraph.Graph) (*Step, error) {
	step := &Step{Name: "check", Made: []Made{}}
	defer timed(step, time.Now())
	list, err := check.Run(ctx, p, g)
	if err != nil {
		return nil, err
	}
	step.Findings = check.Accept(p, g, list, false)
	count := map[assetgraph.Kind]int{}
	for _, a := range g.Assets {
		count[a.Kind]++
	}
	step.Summary = fmt.Sprintf("%s, %s, %s, %s", Count(count[assetgraph.Map], "map"),
		Count(count[assetgraph.Material], "material"), Count(count[assetgraph.Texture], "image"),
		Count(count[assetgraph.Sound], "sound"))
	if n := count[assetgraph.Sprite]; n > 0 {
		step.Summary += ", " + Count(n, "sprite")
	}
	step.Summary += " looked at: " + Tally(step.Findings)
	if n := finding.Count(step.Findings, finding.Error); n > 0 {
		step.Failed = true
		return step, &fault.Fault{What: Count(n, "error") + " found",
			Why: "A release with them would be broken for players.", Do: "Correct them and check again."}
	}
	return step, nil
}

// Tally counts findings by severity, in words.
func Tally(list []finding.Finding) string {
	accepted := 0
	for _, f := range list {
		if f.Accepted != "" {
			accepted++
		}
	}
	var parts []string
	for _, x := range []struct {
		n    int
		word string
	}{{finding.Count(list, finding.Error), "error"}, {finding.Count(list, finding.Warning), "warning"},
		{finding.Count(list, finding.Note), "note"}} {
		if x.n > 0 {
			parts = append(parts, Count(x.n, x.word))
		}
	}
	if accepted > 0 {
		parts = append(parts, fmt.Sprintf("%d accepted", accepted))
	}
	if len(parts) == 0 {
		return "nothing wrong"
	}
	return strings.Join(parts, ", ")
}

// Count counts things in words; the plural of "entry" is "entries".
func Count(n int, word string) string {
	if stem, ok := strings.CutSuffix(word, "y"); ok && n != 1 {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// sharing is how shared results are used, which are left alone once they were away in this session.
func (s *Session) sharing() assembly.Sharing {
	x := s.o.Sharing
	if s.away {
		x.Mode = "off"
	}
	return x
}

// farming is how others help, who are left alone once they were away in this session.
func (s *Session) farming() assembly.Farming {
	if s.alone {
		return assembly.Farming{}
	}
	return s.o.Farming
}

// Build brings out/tree up to date; paths, when given, are the only sources to build.
func (s *Session) Build(ctx context.Context, paths []string) (*Step, *assembly.Result, error) {
	step := &Step{Name: "build", Made: []Made{}}
	defer timed(step, time.Now())
	r, err := assembly.Run(ctx, s.P,
		assembly.Options{Workers: s.o.Workers, Progress: s.o.Progress, Program: s.o.Program, Paths: paths,
			Stages: s.o.Stages, Own: s.o.Own, Sharing: s.sharing(), Farming: s.farming(), Studio: &s.studio})
	if r == nil {
		return nil, nil, err
	}
	s.away, s.alone = s.away || r.Away(), s.alone || r.Alone()
	step.Farm = r.Farm
	step.Findings, step.Failed = r.Findings, err != nil
	made, restored, taken := 0, 0, 0
	for _, j := range r.Made {
		switch j.State {
		case taskgraph.Made:
			made++
		case taskgraph.CacheHit:
			restored++
		case taskgraph.SharedHit:
			taken++
		}
		for _, o := range j.Outputs {
			step.Made = append(step.Made,
				Made{Path: path.Join(project.TreeDir, o.Path), Size: o.Size, State: string(j.State), By: j.By})
		}
	}
	for _, rel := range r.Removed {
		step.Made = append(step.Made, Made{Path: path.Join(project.TreeDir, rel), State: "removed"})
	}
	slices.SortFunc(step.Made, func(a, b Made) int { return strings.Compare(a.Path, b.Path) })
	step.Kept = len(r.Made) == 0 && len(r.Removed) == 0
	if step.Kept {
		step.Summary = fmt.Sprintf("nothing changed: all %d files in %s are up to date", len(r.Tree.Files),
			project.TreeDir)
	} else {
		parts := []string{fmt.Sprintf("%d made", made), fmt.Sprintf("%d kept", r.Kept)}
		for _, x := range []struct {
			n    int
			word string
		}{{restored, "brought back from earlier builds"}, {taken, "taken from shared results"},
			{len(r.Removed), "removed"}, {r.Failed(), "failed"}} {
			if x.n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", x.n, x.word))
			}
		}
		step.Summary = strings.Join(parts, ", ")
		if err == nil && len(paths) == 0 {
			step.Summary += fmt.Sprintf("; %s has %s, %s", project.TreeDir, Count(len(r.Tree.Files), "file"),
				Bytes(r.Tree.Size()))
		}
	}
	if n := finding.Count(r.Findings, finding.Error); err == nil && len(paths) == 0 && n > 0 {
		step.Failed = true
		err = &fault.Fault{What: "everything was built, but " + Count(n, "error") + " found",
			Why: "A release with them would be broken for players, so nothing is packed.",
			Do:  "Correct them and build again."}
	}
	return step, r, err
}

// Pack packs the tree of a build; intoMap packs content into the compiled maps, whatever the profile says.
func (s *Session) Pack(ctx context.Context, tree *assembly.Tree, intoMap bool) (*Step, []bundle.Bundle, error) {
	step := &Step{Name: "pack", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	dir := bundle.Dir
	if intoMap {
		dir = bundle.IntoMapDir
	}
	o := bundle.Options{Workers: s.o.Workers, IntoMap: intoMap}
	if s.o.Progress != nil {
		o.Wrote = func(done, total int64) { s.o.Progress.Advanced("", "packing", done, total) }
	}
	r, err := bundle.Pack(ctx, s.P, tree, o)
	if err != nil {
		return nil, nil, err
	}
	entries := 0
	for _, b := range r.Bundles {
		step.add(path.Join(dir, b.Name), b.Size, b.Kept)
		entries += b.Entries
	}
	for _, name := range r.Removed {
		step.Made = append(step.Made, Made{Path: path.Join(dir, name), Size: 0, State: "removed"})
		step.Kept = false
	}
	step.Summary = fmt.Sprintf("%s with %s", Count(len(r.Bundles), "bundle"), Count(entries, "packed file"))
	switch {
	case step.Kept:
		step.Summary = "nothing changed: " + step.Summary + " as before"
	case r.Taken > 0:
		step.Summary += fmt.Sprintf(", %d of them taken over from before", r.Taken)
	}
	return step, r.Bundles, nil
}

// Play packs a tree, which may be a draft, for a stand-in that plays what is being worked on.
func (s *Session) Play(ctx context.Context, tree *assembly.Tree) ([]bundle.Bundle, error) {
	r, err := bundle.Pack(ctx, s.P, tree, bundle.Options{Workers: s.o.Workers, Play: true})
	if err != nil {
		return nil, err
	}
	return r.Bundles, nil
}

func (s *Step) add(rel string, size int64, kept bool) {
	state := "made"
	if kept {
		state = "kept"
	}
	s.Kept = s.Kept && kept
	s.Made = append(s.Made, Made{Path: rel, Size: size, State: state})
}

// Try loads bundles in a clean room. files are system paths.
func Try(ctx context.Context, p *project.Project, files []string) (*Step, []gameserver.MapStatus, error) {
	step := &Step{Name: "try", Made: []Made{}}
	defer timed(step, time.Now())
	r, err := smoketest.Try(ctx, p.Profile, files)
	if err != nil {
		return nil, nil, err
	}
	step.Findings = finding.Accept(r.Findings, p.Acceptances())
	loaded, needed := 0, 0
	for _, m := range r.Maps {
		if m.Loaded {
			loaded++
		}
		needed += m.Needs
	}
	step.Summary = fmt.Sprintf("%d of %s loaded in an empty folder; %s read and checked, %s followed",
		loaded, Count(len(r.Maps), "map"), Count(r.Entries, "entry"), Count(needed, "need"))
	if n := finding.Count(step.Findings, finding.Error); n > 0 || len(r.Maps) == 0 {
		step.Failed = true
		if n == 0 {
			return step, r.Maps,
				&fault.Fault{What: "there is no map in what was packed, so nothing was loaded",
					Why: "What players get is tried by loading its maps.", Do: "Add a map, and pack again."}
		}
		return step, r.Maps,
			&fault.Fault{What: fmt.Sprintf("%d of %d maps can't be played from the bundle alone", len(r.Maps)-loaded,
				len(r.Maps)),
				Why: "Players have nothing else.", Do: "Correct the errors above, build and pack again."}
	}
	return step, r.Maps, nil
}

// Bytes prints a size for people.
func Bytes(n int64) string { return humanize.Bytes(n) }
