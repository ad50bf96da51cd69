package release

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/make/metadata"
	"vornix/core/make/sweep"
	"vornix/core/pack/bundle"
	"vornix/core/pack/installer"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/source/assetgraph"
	"vornix/core/source/shots"
)

// made are the files below out/ that today's sources make, or nil while nobody can know since a map can't be read.
func made(p *project.Project, g *assetgraph.Graph, plan *shots.Plan) map[string]bool {
	if !g.Complete() {
		return nil
	}
	files := map[string]bool{}
	for _, rel := range assembly.Outputs(p, g, plan) {
		files[path.Join(project.TreeDir, rel)] = true
	}
	for i := range plan.Pictures {
		if x := &plan.Pictures[i]; !x.Inside {
			files[path.Join(assembly.PicturesDir, x.File)] = true
		}
	}
	for _, rel := range bundle.Known(p) {
		files[rel] = true
	}
	metadata, _ := metadata.Make(p, g, metadata.Options{})
	for _, f := range metadata {
		files[path.Join(AddonDir, f.Path)] = true
	}
	for i := range p.Profile.Index.Texts {
		files[path.Join(indexwriter.Dir, indexwriter.TextName(p, &p.Profile.Index.Texts[i]))] = true
	}
	files[path.Join(indexwriter.Dir, index.FileName)] = true
	return files
}

// PlanSweep says what a sweep would move away, and why. It changes nothing.
func PlanSweep(ctx context.Context, p *project.Project, g *assetgraph.Graph, named []string,
	rules []sweep.Rule) (*sweep.Plan, error) {
	pictures := shots.NewPlan(p, g)
	plan, err := sweep.NewPlan(ctx, p, g,
		sweep.Options{Named: named, Rules: rules, Made: made(p, g, pictures), Pictures: pictures.Images(),
			Now: time.Now()})
	if err != nil {
		return nil, err
	}
	// what somebody asked for
	byHand := []string{path.Join(assembly.PicturesDir, "plans") + "/",
		fmt.Sprintf("%s/%s-%s-", installer.Dir, p.File.Project.Name, p.File.Project.Version)}
	toThis := patchTo(p.File.Project.Version)
	plan.Go = slices.DeleteFunc(plan.Go, func(i sweep.Item) bool {
		if strings.HasPrefix(i.Path, indexwriter.PatchesDir+"/") && strings.HasSuffix(i.Path, toThis) ||
			path.Dir(i.Path) == ReportsDir {
			return true // the index names them; reports tell what is not known elsewhere
		}
		return slices.ContainsFunc(byHand, func(prefix string) bool { return strings.HasPrefix(i.Path, prefix) })
	})
	return plan, nil
}

// Sweep moves away what a plan made now says, and records it.
func (s *Session) Sweep(ctx context.Context, named []string, rules []sweep.Rule) (*Step, *quarantine.Batch, error) {
	step := &Step{Name: "sweep", Made: []Made{}}
	defer timed(step, time.Now())
	g, err := s.scan(ctx)
	if err != nil {
		return nil, nil, err
	}
	plan, err := PlanSweep(ctx, s.P, g, named, rules)
	if err != nil {
		return nil, nil, err
	}
	place, err := sweep.Run(ctx, s.P, plan, time.Now())
	if place != nil { // some may have gone even so
		files := map[string]string{}
		for _, f := range place.Files {
			files[f.Path] = f.SHA256
		}
		if e := ledger.Add(s.P,
			ledger.Event{Kind: ledger.Swept, Time: place.Time, Place: place.Name, Files: files}); err == nil {
			err = e
		}
	}
	if err != nil {
		return nil, nil, err
	}
	step.Kept = place == nil && len(plan.Expired) == 0
	step.Summary = "nothing is stray"
	if place != nil {
		folders := 0
		for _, f := range place.Files {
			if f.Folder {
				folders++
			}
		}
		what := Count(len(place.Files)-folders, "file")
		if folders > 0 {
			what += " and " + Count(folders, "empty folder")
		}
		step.Summary = fmt.Sprintf("%s, %s, moved to %s; 'vornix restore' brings them back", what, Bytes(place.Size()),
			path.Join(project.QuarantineDir, place.Name))
	}
	if n := len(plan.Expired); n > 0 {
		step.Summary += fmt.Sprintf("; %s older than %d days removed for good", Count(n, "safe place"),
			s.P.File.Sweep.KeepDays)
	}
	return step, place, nil
}

// Safe lists the project's safe places, the oldest first.
func Safe(p *project.Project) ([]quarantine.Batch, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return quarantine.List(d, project.QuarantineDir)
}

// Restore brings files back from safe places: from the one of that name, or "" from the last that has any of the named.
func (s *Session) Restore(ctx context.Context, from string, named []string) (*Step, []quarantine.Restored, error) {
	step := &Step{Name: "restore", Made: []Made{}}
	defer timed(step, time.Now())
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return nil, nil, err
	}
	defer d.Close()
	place, err := placeOf(d, from, named)
	if err != nil {
		return nil, nil, err
	}
	list, err := quarantine.Restore(ctx, d, project.QuarantineDir, place, named)
	files := map[string]string{}
	left, folders := 0, 0
	for _, b := range list {
		if b.Left != "" {
			left++
			continue
		}
		if b.Folder {
			folders++
			continue
		}
		files[b.Path] = b.SHA256
		step.Made = append(step.Made, Made{Path: b.Path, Size: b.Size, State: "restored"})
	}
	if e := ledger.Add(s.P,
		ledger.Event{Kind: ledger.Restored, Time: time.Now(), Place: place.Name, Files: files}); err == nil {
		err = e
	}
	if err != nil {
		return nil, list, err
	}
	what := Count(len(step.Made), "file")
	if folders > 0 {
		what += " and " + Count(folders, "empty folder")
	}
	step.Summary = fmt.Sprintf("%s brought back from %s", what, path.Join(project.QuarantineDir, place.Name))
	if left > 0 {
		step.Failed = true
		return step, list,
			&fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("%d of %d files stay in the safe place", left, len(list)),
				Why:  "Nothing that stands in the project is overwritten.",
				Do:   "Move what stands in their places away and restore again."}
	}
	return step, list, nil
}

// PlanRestore says what Restore would do.
func PlanRestore(p *project.Project, from string, named []string) ([]quarantine.Restored, error) {
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	place, err := placeOf(d, from, named)
	if err != nil {
		return nil, err
	}
	return quarantine.PlanRestore(d, project.QuarantineDir, place, named), nil
}

// placeOf finds a safe place.
func placeOf(d *safefile.Dir, from string, named []string) (*quarantine.Batch, error) {
	places, err := quarantine.List(d, project.QuarantineDir)
	if err != nil {
		return nil, err
	}
	for i := range slices.Backward(places) {
		if from == "" && len(quarantine.PlanRestore(d, project.QuarantineDir, &places[i], named)) > 0 ||
			from == places[i].Name {
			return &places[i], nil
		}
	}
	f := &fault.Fault{Kind: fault.Usage, What: "there is nothing to bring back",
		Do: "'vornix restore --list' shows what there is."}
	if from != "" {
		f.What = "there is no safe place " + from
	} else if len(named) > 0 {
		f.What = "no safe place holds " + strings.Join(named, ", ")
	}
	return nil, f
}
