package release

import (
	"bytes"
	"context"
	"image"
	"image/jpeg"
	_ "image/png" // pictures are read in either form
	"maps"
	"net/url"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/format/texture"
	"vornix/core/game/compare"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/release/report"
	"vornix/core/ship/indexwriter"
	"vornix/core/source/shots"
)

// ReportsDir is where reports on releases go.
const ReportsDir = project.OutDir + "/reports"

// report collects what there is to say of the release that is finished, and writes it as a page and as data.
func (x *running) report(ctx context.Context) (*report.Report, *Step, error) {
	step := &Step{Name: "report", Made: []Made{}, Kept: true}
	defer timed(step, time.Now())
	r, err := x.collect(ctx)
	if err != nil {
		return nil, step, err
	}
	step.Summary = "all of it on one page: " + path.Join(ReportsDir, r.Version+".html")
	return r, step, x.writeReport(r, step)
}

// writeReport writes a report as a page and as data.
func (s *Session) writeReport(r *report.Report, step *Step) error {
	var pageOut bytes.Buffer
	if err := r.WritePage(&pageOut); err != nil {
		return err
	}
	data, err := r.Encode()
	if err != nil {
		return err
	}
	d, err := safefile.OpenDir(s.P.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	for _, f := range []struct {
		ending string
		data   []byte
	}{{".json", data}, {".html", pageOut.Bytes()}} {
		rel := path.Join(ReportsDir, r.Version+f.ending)
		old, err := d.ReadFile(rel)
		same := err == nil && bytes.Equal(old, f.data)
		if !same {
			if err := d.WriteFile(rel, f.data); err != nil {
				return err
			}
		}
		step.add(rel, int64(len(f.data)), same)
	}
	return nil
}

// went brings the report on the project's version up to date with where it is now, when there is
// one and the pictures are still those of that version.
func (s *Session) went() error {
	version := s.P.File.Project.Version
	data, err := os.ReadFile(s.P.Join(ReportsDir, version+".json"))
	if err != nil {
		return nil
	}
	r, err := report.Read(data)
	if err != nil {
		return nil // of another Vornix: the next release writes it anew
	}
	events, err := ledger.Read(s.P)
	if err != nil {
		return err
	}
	if bundles, err := bundle.Packed(s.P); err != nil || ledger.Release(events, version) == nil ||
		indexwriter.Guard(s.P, bundles) != nil {
		return nil
	}
	for i := range r.Maps {
		s.pictureData(r.Maps[i].Pictures)
	}
	s.places(r, events)
	return s.writeReport(r, &Step{})
}

// collect brings together what a report says.
func (x *running) collect(ctx context.Context) (*report.Report, error) {
	head := x.P.File.Project
	events, err := ledger.Read(x.P)
	if err != nil {
		return nil, err
	}
	program, _, _ := strings.Cut(x.o.Program, " (")
	r := &report.Report{Kind: report.Kind, Format: report.Format, Project: head.Name, Title: head.Title,
		Version: head.Version, Game: x.P.Profile.Game.Title, Program: program,
		Maps: []report.Map{}, Files: []report.File{}, Patches: []report.File{}, NoPatches: []string{},
		Changes: []report.Changed{}, Kinds: []report.Amount{}, Growth: []report.Release{}, Times: []report.Time{},
		Steps: []report.Spent{}, Findings: []report.Finding{}, Places: []report.Destination{}}
	if e := ledger.Release(events, head.Version); e != nil {
		r.Date = e.Date
	}
	if r.Notes, err = indexwriter.Notes(x.P); err != nil {
		return nil, err
	}
	if err := x.sizes(ctx, r, events); err != nil {
		return nil, err
	}
	x.mapsOf(r)
	for _, b := range x.bundles {
		r.Files = append(r.Files, report.File{Name: b.Name, Size: b.Size, SHA256: b.SHA256})
	}
	if err := x.patchFiles(r); err != nil {
		return nil, err
	}
	x.times(r)
	x.Session.places(r, events)
	for _, s := range x.r.Steps {
		r.Found(s.Findings)
	}
	var before *report.Report
	if data, err := os.ReadFile(x.P.Join(ReportsDir, r.Before+".json")); err == nil && r.Before != "" {
		before, _ = report.Read(data) // one that can't be read tells of nothing that was known
	}
	r.Known(before)
	r.Sort()
	return r, nil
}

// maxGrowth is of how many releases the sizes are told.
const maxGrowth = 24

// sizes compares the release with the one before, and tells how large all of them are.
func (x *running) sizes(ctx context.Context, r *report.Report, events []ledger.Event) error {
	versions, err := Versions(x.P)
	if err != nil {
		return err
	}
	versions = slices.DeleteFunc(versions, func(v string) bool { return semver.Compare(v, r.Version) > 0 })
	now := compare.Side{}
	sides := map[string]compare.Side{}
	for _, v := range versions[max(len(versions)-maxGrowth, 0):] {
		folder := x.P.Join(ReleasesDir, v)
		if _, err := os.Stat(folder); err != nil {
			continue // somebody made room
		}
		side, err := compare.Load(ctx, folder)
		if err != nil {
			return err
		}
		e := ledger.Release(events, v)
		g := report.Release{Version: v, Date: e.Date, Kinds: map[string]int64{}}
		for name, f := range side {
			g.Kinds[compare.KindOf(name)] += f.Packed
		}
		for name := range e.Files {
			if info, err := os.Stat(x.P.Join(ReleasesDir, v, name)); err == nil {
				g.Size += info.Size()
			}
		}
		r.Growth = append(r.Growth, g)
		if sides[v] = side; v == r.Version {
			now = side
		} else {
			r.Before = v
		}
	}
	c := compare.Sides(sides[r.Before], now)
	if r.Before == "" {
		c.Changes, c.Same = nil, len(now) // everything would be new
	}
	r.Compared(c)
	return nil
}

// maps says which maps there are, what they look like and what changed inside.
func (x *running) mapsOf(r *report.Report) {
	pictures := shots.NewPlan(x.P, x.g).Pictures
	for _, record := range indexwriter.Records(x.P, x.bundles, x.g) {
		for _, m := range record.Maps {
			if slices.ContainsFunc(r.Maps, func(o report.Map) bool { return o.Name == m.Name }) {
				continue
			}
			one := report.Map{Name: m.Name, Title: m.Title, Modes: m.Modes, Players: m.Players, Changes: []string{},
				Pictures: x.pictures(pictures, m.Name)}
			name := path.Base(x.P.Profile.MapPath(m.Name)) // a map that is a bundle itself stands in no folder
			i := slices.IndexFunc(r.Changes,
				func(c report.Changed) bool { return path.Base(c.Path) == name && c.State == string(compare.Changed) })
			if i >= 0 {
				one.Changes = report.Words(compare.Maps(x.P.Join(ReleasesDir, r.Before),
					x.P.Join(ReleasesDir, r.Version), r.Changes[i].Path))
				if len(one.Changes) == 0 {
					one.Changes = []string{
						"what it is made of is the same; its light, reflections or navigation are others"}
				}
			}
			r.Maps = append(r.Maps, one)
		}
	}
}

// A report shows this many pictures of a map, the first of them large.
const (
	maxPictures  = 4
	largePicture = 720
	smallPicture = 180
)

// pictures are those of a map, the largest first, as a page shows them.
func (x *running) pictures(plan []shots.Picture, name string) []report.Picture {
	list := []report.Picture{}
	for i := range plan {
		p := &plan[i]
		if p.Map != name || p.Of.Form != "png" && p.Of.Form != "jpeg" {
			continue
		}
		folder := assembly.PicturesDir
		if p.Inside {
			folder = project.TreeDir
		}
		list = append(list,
			report.Picture{File: path.Join(folder, p.File), Name: p.Name, Width: p.Width, Height: p.Height})
	}
	slices.SortStableFunc(list, func(a, b report.Picture) int { return b.Width*b.Height - a.Width*a.Height })
	list = list[:min(len(list), maxPictures)]
	x.pictureData(list)
	return slices.DeleteFunc(list, func(p report.Picture) bool { return p.Data == nil })
}

// pictureData reads pictures as a page shows them.
func (s *Session) pictureData(list []report.Picture) {
	for i := range list {
		width := largePicture
		if i > 0 {
			width = smallPicture
		}
		list[i].Data = s.small(list[i].File, width)
	}
}

// small is a picture no wider than that, as JPEG; nil when it can't be read: the report then goes without.
func (s *Session) small(rel string, width int) []byte {
	f, err := os.Open(s.P.Join(rel))
	if err != nil {
		return nil
	}
	defer f.Close()
	img, _, err := image.Decode(f)
	if err != nil {
		return nil
	}
	if b := img.Bounds(); b.Dx() > width {
		img = texture.Resize(texture.Visible(img), width, max(b.Dy()*width/b.Dx(), 1), true, texture.Box, texture.Clamp)
	}
	var out bytes.Buffer
	if jpeg.Encode(&out, img, &jpeg.Options{Quality: 85}) != nil {
		return nil
	}
	return out.Bytes()
}

// patchFiles lists the patches that lead to the release.
func (x *running) patchFiles(r *report.Report) error {
	from, err := x.patchFrom()
	if err != nil {
		return err
	}
	for _, v := range from {
		rel := PatchFile(x.P, v, r.Version)
		if sum, size, err := safefile.HashFile(x.P.Join(rel)); err == nil {
			r.Patches = append(r.Patches, report.File{Name: path.Base(rel), From: v, Size: size, SHA256: sum})
		}
	}
	r.NoPatches = append(r.NoPatches, x.noPatches...)
	return nil
}

// times says how long building and releasing took.
func (x *running) times(r *report.Report) {
	for id, t := range assembly.Times(x.P) {
		r.Times = append(r.Times,
			report.Time{Step: t.Step, Name: strings.TrimPrefix(id, t.Step+" "), Seconds: t.Seconds, Stages: t.Stages})
	}
	slices.SortFunc(r.Times, func(a, b report.Time) int {
		if a.Seconds != b.Seconds {
			return int((b.Seconds - a.Seconds) * 1e9)
		}
		return strings.Compare(a.Step+a.Name, b.Step+b.Name)
	})
	for _, name := range append(slices.Clone(StepNames), "record", "tag") {
		for _, id := range slices.Sorted(maps.Keys(x.journal.Steps)) {
			if e := x.journal.Steps[id]; !e.Ended.IsZero() && (id == name || strings.HasPrefix(id, name+" ")) {
				r.Steps = append(r.Steps, report.Spent{Step: id, Seconds: e.Seconds})
			}
		}
	}
}

// wentTo says where the release is now, as far as this machine knows.
func (s *Session) places(r *report.Report, events []ledger.Event) {
	r.Places = []report.Destination{}
	type key struct{ target, item string }
	last := map[key]ledger.Event{}
	var order []key
	for _, e := range events {
		switch e.Kind {
		case ledger.Deployed, ledger.RolledBack, ledger.Withdrawn, ledger.Published:
			k := key{e.Target, e.Item}
			if _, known := last[k]; !known {
				order = append(order, k)
			}
			last[k] = e
		}
	}
	for _, k := range order {
		t, ok := s.P.File.Targets[k.target]
		if e := last[k]; ok && e.Version == r.Version {
			p := report.Destination{Target: k.target, Kind: t.Kind, Where: whereIs(t), Version: e.Version,
				When: e.Time.Format("2006-01-02 15:04")}
			if k.item != "" {
				p.Where += ", item " + k.item
			}
			r.Places = append(r.Places, p)
		}
	}
}

// whereIs is a target's place in words, without what lets in.
func whereIs(t project.Target) string {
	if t.URL != "" {
		if u, err := url.Parse(t.URL); err == nil {
			u.User, u.RawQuery = nil, ""
			return u.String()
		}
	}
	if t.Host != "" {
		return t.Host + ":" + t.Path
	}
	return t.Path
}
