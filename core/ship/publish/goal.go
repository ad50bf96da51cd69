package publish

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/cdc"
	"vornix/core/format/imaging"
	"vornix/core/make/assembly"
	"vornix/core/make/metadata"
	"vornix/core/pack/bundle"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/workshop"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
	"vornix/core/source/shots"
)

// Goal is what an item should be.
type Goal struct {
	Name    string // of the item: the project's, or the bundle's
	Key     string // by which it is found again
	Kind    string
	Page    workshop.Page
	Version string
	Notes   string
	Files   []workshop.File // without chunks

	sources     map[string]string // slash paths in the project of files and pictures, by their hash
	description fault.Place       // where its text stands
}

// item is what goes into one item.
type item struct {
	name    string
	bundles []bundle.Bundle
}

// items says which bundles go into which items of a target.
func (d *Desk) items(bundles []bundle.Bundle) ([]item, error) {
	if d.P.Profile.Workshop.Each != "bundle" {
		return []item{{d.P.File.Project.Name, bundles}}, nil
	}
	var list []item
	for _, b := range bundles {
		switch {
		case len(b.Maps) == 0 && len(list) > 0: // a part of the one before
			list[len(list)-1].bundles = append(list[len(list)-1].bundles, b)
			continue
		case len(b.Maps) > 0 && !slices.ContainsFunc(b.Maps, d.target.Sends):
			continue
		}
		name := strings.TrimSuffix(b.Name, path.Ext(b.Name))
		if len(b.Maps) == 1 {
			name = b.Maps[0] // which stays the same in every version
		}
		list = append(list, item{name, []bundle.Bundle{b}})
	}
	if len(list) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("no map goes to target %q", d.Name),
			Place: d.P.Doc.At("target", d.Name), Do: "Correct maps and without of the target."}
	}
	return list, nil
}

// Items are the names of a target's items: of what is packed, and of what was published. Those that
// are wanted must be among them.
func (d *Desk) Items(bundles []bundle.Bundle, wanted []string) (names []string, err error) {
	if len(bundles) > 0 || d.P.Profile.Workshop.Each != "bundle" {
		list, err := d.items(bundles)
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			names = append(names, x.name)
		}
	}
	all, err := readRecords(d.P)
	if err != nil {
		return nil, err
	}
	known := slices.Concat(names, slices.Sorted(maps.Keys(all[d.Name].Items)))
	if len(names) == 0 {
		names = known
	}
	if len(names) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("target %q has no item yet", d.Name),
			Place: fault.Place{File: d.Address}, Do: "Run 'vornix pack' first."}
	}
	if len(wanted) == 0 {
		return names, nil
	}
	return wanted, d.known(wanted, known)
}

// known wants names to be among those of a target's items.
func (d *Desk) known(wanted, known []string) error {
	for _, name := range wanted {
		if slices.Contains(known, name) {
			continue
		}
		f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("target %q has no item %q", d.Name, name),
			Do: "It has " + strings.Join(known, ", ") + "."}
		if near := suggest.Word(name, known); near != "" {
			f.Do = fmt.Sprintf("Did you mean %q?", near)
		}
		return f
	}
	return nil
}

// Goals says what the items of these names should be; all of the target when there are none. What
// the workshop would refuse is a finding.
func (d *Desk) Goals(ctx context.Context, g *assetgraph.Graph, bundles []bundle.Bundle, names []string) ([]*Goal,
	[]finding.Finding, error) {
	list, err := d.items(bundles)
	if err != nil {
		return nil, nil, err
	}
	var known []string
	for _, x := range list {
		known = append(known, x.name)
	}
	if err := d.known(names, known); err != nil {
		return nil, nil, err
	}
	var goals []*Goal
	var all []finding.Finding
	for _, x := range list {
		if len(names) > 0 && !slices.Contains(names, x.name) {
			continue
		}
		goal, findings, err := d.goal(ctx, g, x)
		if err != nil {
			return nil, nil, err
		}
		goals = append(goals, goal)
		all = append(all, findings...)
	}
	return goals, finding.Accept(all, d.P.Acceptances()), nil
}

func (d *Desk) goal(ctx context.Context, g *assetgraph.Graph, x item) (*Goal, []finding.Finding, error) {
	p := d.P
	head := p.File.Project
	whole := p.Profile.Workshop.Each != "bundle"
	one := ""
	if !whole {
		one = x.name
	}
	about := p.PageOf(one)
	goal := &Goal{Name: x.name, Key: head.Name, Kind: p.Profile.Workshop.Kind, Version: head.Version, Page: emptyPage,
		sources: map[string]string{}}
	if !whole {
		goal.Key += "/" + x.name
	}
	var scenes []*scene.Map
	var names []string
	for _, b := range x.bundles {
		names = append(names, b.Maps...)
		goal.Files = append(goal.Files, workshop.File{Name: b.Name, SHA256: b.SHA256, Size: b.Size})
		goal.sources[b.SHA256] = path.Join(bundle.Dir, b.Name)
	}
	for _, m := range metadata.Scenes(g) {
		if slices.Contains(names, m.Name) {
			scenes = append(scenes, m)
		}
	}
	facts := metadata.Look(p, g, scenes)
	page := &goal.Page
	page.Title = head.Title
	if !whole && len(facts.Maps) == 1 && facts.Maps[0].Title != "" {
		page.Title = facts.Maps[0].Title
	}
	if about.Title != "" {
		page.Title = about.Title
	}
	page.Tags = append([]string{}, about.Tags...)
	page.Modes = append([]string{}, facts.Modes...)
	page.Needs = append([]string{}, d.target.Needs...)
	page.Testers = append([]string{}, d.target.Testers...)
	page.Description = head.Description
	goal.description = p.Doc.At("project", "description")
	if about.Description != "" {
		text, err := readText(p, about.Description)
		if err != nil {
			return nil, nil, err
		}
		page.Description, goal.description = text, fault.Place{File: about.Description}
	}
	var err error
	if goal.Notes, err = indexwriter.Notes(p); err != nil {
		return nil, nil, err
	}
	if err := d.pictures(ctx, g, goal, about, names); err != nil {
		return nil, nil, err
	}
	list := d.findings(goal)
	for _, id := range page.Needs {
		if !workshop.IsID(id) {
			continue // which was said
		}
		_, err := d.Client.Item(ctx, id)
		switch {
		case workshop.Is(err, workshop.NotThere) || workshop.Is(err, workshop.Gone):
			list = append(list,
				finding.WorkshopText.At(d.P.Doc.At("target", d.Name), "needs: there is no item %q at %s", id,
					d.About.Name))
		case err != nil:
			return nil, nil, err
		}
	}
	return goal, list, nil
}

// readText reads a text of the project: UTF-8, with line feeds.
func readText(p *project.Project, rel string) (string, error) {
	data, err := os.ReadFile(p.Join(rel))
	if err != nil {
		return "", &fault.Fault{Kind: fault.Usage, What: "the page's description can't be read",
			Place: fault.Place{File: rel}, Err: errors.Unwrap(err),
			Do: "Write it, or correct description under [page]."}
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	return strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n")), nil
}

// pictures are those of the game's profile, of the maps in their order, and then the project's own.
func (d *Desk) pictures(ctx context.Context, g *assetgraph.Graph, goal *Goal, about project.Page, maps []string) error {
	plan := shots.NewPlan(d.P, g)
	for _, name := range d.P.Profile.Workshop.Pictures {
		for i := range plan.Pictures {
			x := &plan.Pictures[i]
			if x.Inside || x.Name != name || x.Map != "" && !slices.Contains(maps, x.Map) {
				continue
			}
			text := d.P.File.Project.Title
			if x.Map != "" {
				text = x.Map
				if m := titleOf(g, x.Map); m != "" {
					text = m
				}
			}
			file := path.Join(assembly.PicturesDir, x.File)
			if _, err := os.Stat(d.P.Join(file)); errors.Is(err, fs.ErrNotExist) {
				return &fault.Fault{Kind: fault.Usage, What: "a picture of the page was not made yet",
					Place: fault.Place{File: file}, Do: "Run 'vornix shoot' first."}
			}
			if err := d.picture(ctx, goal, file, text); err != nil {
				return err
			}
		}
	}
	for _, file := range about.Pictures {
		if err := d.picture(ctx, goal, file, ""); err != nil {
			return err
		}
	}
	return nil
}

func titleOf(g *assetgraph.Graph, name string) string {
	for _, m := range metadata.Scenes(g) {
		if m.Name == name {
			return m.Title
		}
	}
	return ""
}

// maxPicture is how large a picture can be, in bytes: what is larger no workshop takes.
const maxPicture = 32 << 20

func (d *Desk) picture(ctx context.Context, goal *Goal, file, text string) error {
	place := fault.Place{File: file}
	data, err := os.ReadFile(d.P.Join(file))
	if err != nil {
		return &fault.Fault{Kind: fault.Usage, What: "a picture of the page can't be read", Place: place,
			Err: errors.Unwrap(err), Do: "Correct pictures under [page]."}
	}
	if len(data) > maxPicture {
		return &fault.Fault{What: fmt.Sprintf("the picture has %d bytes", len(data)), Place: place,
			Why: "No workshop takes one of more than 32 MB.", Do: "Make it smaller."}
	}
	ready, err := imaging.Inspect(file, data)
	if err != nil {
		return &fault.Fault{What: "it is no picture, or damaged", Place: place, Err: err,
			Do: "Export it again as PNG or JPEG."}
	}
	sum := sha256.Sum256(data)
	x := workshop.Picture{Name: path.Base(file), Text: text, SHA256: hex.EncodeToString(sum[:]), Size: int64(len(data)),
		Form: strings.ToLower(ready.Form), Width: ready.Width, Height: ready.Height}
	if ready.Progressive {
		x.Form = "progressive jpeg"
	}
	if x.Chunks, err = cdc.Cut(ctx, bytes.NewReader(data), x.Size, nil, nil); err != nil {
		return err
	}
	goal.sources[x.SHA256] = file
	goal.Page.Pictures = append(slices.Clone(goal.Page.Pictures), x)
	return nil
}

// findings holds a goal to what the workshop takes.
func (d *Desk) findings(goal *Goal) (list []finding.Finding) {
	wrongs := append(d.limits.CheckPage(&goal.Page), d.limits.CheckVersion(goal.Version, goal.Notes, goal.Files)...)
	missing := d.limits.Missing(&goal.Page, &workshop.Version{Notes: goal.Notes})
	for i, w := range append(wrongs, missing...) {
		place := d.P.Doc.At("page")
		rule := finding.WorkshopText
		switch w.Field {
		case "title":
			place = d.P.Doc.At("project", "title")
		case "description":
			if place = goal.description; w.Line > 0 && place.Line == 0 {
				place.Line = w.Line
			}
		case "notes":
			place = fault.Place{File: profile.Fill(d.P.File.Index.Notes, map[string]string{"version": goal.Version}),
				Line: w.Line}
		case "needs", "testers":
			place = d.P.Doc.At("target", d.Name)
		case "version":
			place = d.P.Doc.At("project", "version")
		case "files":
			rule = finding.WorkshopFile
			if w.Name != "" {
				place = fault.Place{File: path.Join(bundle.Dir, w.Name)}
			}
		case "pictures":
			rule = finding.WorkshopPicture
			for _, x := range goal.Page.Pictures {
				if x.Name == w.Name {
					place = fault.Place{File: goal.sources[x.SHA256]}
				}
			}
		}
		if i >= len(wrongs) {
			rule = finding.WorkshopMissing
		}
		list = append(list, rule.At(place, "%s: %s", w.Field, w.Text))
	}
	return list
}

// Preview writes the page of an item, as players will see it, into a folder, with its pictures. It
// returns the slash paths of what it wrote there.
func (d *Desk) Preview(ctx context.Context, plan *Plan, dir *safefile.Dir) ([]string, error) {
	goal := plan.Goal
	page := plan.Page
	it := workshop.Item{Kind: goal.Kind, Owner: d.About.Account, Visibility: workshop.Hidden, Page: page}
	v := workshop.Version{Version: goal.Version, Notes: goal.Notes, Files: goal.Files, Time: d.now()}
	view := workshop.View{Workshop: d.About.Name, Item: &it, Current: &v, Versions: []workshop.Version{v},
		Notice: "A preview: nothing of it has been sent."}
	if plan.There != nil {
		it.Owner, it.Visibility, it.Followers, it.Downloads = plan.There.Owner, plan.There.Visibility,
			plan.There.Followers, plan.There.Downloads
		earlier := slices.Clone(plan.versions)
		slices.Reverse(earlier)
		if len(earlier) > 0 && earlier[0].Version == v.Version {
			v, earlier = earlier[0], earlier[1:]
		}
		view.Current = &v
		view.Versions = append([]workshop.Version{v}, earlier...)
	}
	folder := goal.Name
	var files []string
	for i, x := range page.Pictures {
		name := path.Join(folder, fmt.Sprintf("%d-%s", i+1, x.Name))
		if source := goal.sources[x.SHA256]; source != "" {
			if _, _, err := dir.CopyFrom(ctx, d.P.Join(source), name); err != nil {
				return nil, err
			}
		} else if err := d.keepPicture(ctx, plan.There.ID, x, dir, name); err != nil {
			return nil, err
		}
		files = append(files, name)
	}
	view.Picture = func(x workshop.Picture) string {
		i := slices.IndexFunc(page.Pictures, func(o workshop.Picture) bool { return o.Name == x.Name })
		return fmt.Sprintf("%d-%s", i+1, x.Name)
	}
	for _, id := range page.Needs {
		needed := workshop.Needed{Title: id}
		if x, err := d.Client.Item(ctx, id); err == nil {
			needed = workshop.Needed{Title: x.Page.Title, Address: d.Client.PageOf(id)}
		}
		view.Needs = append(view.Needs, needed)
	}
	var b bytes.Buffer
	if err := workshop.WritePage(&b, view); err != nil {
		return nil, err
	}
	name := path.Join(folder, "page.html")
	return append([]string{name}, files...), dir.WriteFile(name, b.Bytes())
}

// keepPicture brings a picture that is on a page into a folder.
func (d *Desk) keepPicture(ctx context.Context, id string, x workshop.Picture, dir *safefile.Dir, name string) error {
	f, err := dir.Create(name)
	if err != nil {
		return err
	}
	defer f.Abort()
	if err := d.Client.Picture(ctx, id, x, &once{f: f}); err != nil {
		return err
	}
	if f.SHA256() != x.SHA256 {
		return &fault.Fault{What: "the workshop sent another picture than the page says",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "Try again; if it stays so, tell the workshop."}
	}
	return f.CommitCache()
}

// once is a sink that a download fills in one go, and that can't begin anew.
type once struct{ f *safefile.File }

func (o *once) Write(p []byte) (int, error) { return o.f.Write(p) }
func (o *once) Size() int64                 { return o.f.Size() }
func (o *once) Restart() error {
	return &fault.Fault{Kind: fault.Unreachable, What: "the file changed on the workshop while it was read",
		Do: "Run the same command again."}
}
