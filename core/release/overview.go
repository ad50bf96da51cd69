package release

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/humanize"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/assembly"
	"vornix/core/make/remotecache"
	"vornix/core/pack/bundle"
	"vornix/core/ship/deploy"
	"vornix/core/ship/indexwriter"
	"vornix/core/ship/publish"
	"vornix/core/source/assetgraph"
)

// Overview is where a project stands: what is made, what is released, what is where, and what to do next.
type Overview struct {
	Project  string          `json:"project"`
	Version  string          `json:"version"`
	Profile  string          `json:"profile"`
	Errors   int             `json:"errors"` // that a check finds
	Warnings int             `json:"warnings"`
	Notes    int             `json:"notes"`
	Stale    []string        `json:"stale"`    // jobs that a build would run
	Pictures []string        `json:"pictures"` // beside bundles, that would be made
	Packed   []bundle.Bundle `json:"packed"`
	Older    []string        `json:"older"` // bundles that packing would make, replace or remove
	Tried    bool            `json:"tried"` // what is packed was tried, as it is
	Indexed  bool            `json:"indexed"`
	// the last step of a release of this version that did not come to its end
	UnderWay string               `json:"under_way"`
	Released string               `json:"released"`         // the latest finished version
	Changed  bool                 `json:"changed"`          // what is packed is not what was released
	Stray    int                  `json:"stray"`            // files that no release needs
	Shared   *remotecache.History `json:"shared,omitempty"` // what shared results were worth on this machine
	Targets  []*deploy.State      `json:"targets"`
	// Workshops has an entry for each item that the project has somewhere, and one for each
	// workshop at which it has none.
	Workshops []*publish.State `json:"workshops"`
	Next      string           `json:"next"` // a command; empty when there is nothing to do
	Why       string           `json:"why"`

	Rows [][2]string `json:"-"` // the same for people

	files map[string]string // of the last finished version
	from  map[string]bool   // versions that this machine deployed or published
}

// Survey finds out where a project stands. It changes nothing. The last two say how the state of a target and of a
// workshop's item reads.
func Survey(ctx context.Context, p *project.Project, o Options, targetWords func(*deploy.State) string,
	itemWords func(*publish.State) string) (*Overview, error) {
	head := p.File.Project
	v := &Overview{Project: head.Name, Version: head.Version, Profile: p.Profile.Game.ID, Stale: []string{},
		Pictures: []string{}, Packed: []bundle.Bundle{}, Older: []string{}}
	var looking group.All
	looking.Go(func() { v.Targets, v.Workshops = lookAtAll(ctx, p, o) }) // others may not answer for a while
	err := v.here(ctx, p, o)
	looking.Wait()
	if err != nil {
		return nil, err
	}
	for _, t := range v.Targets {
		v.row("on "+t.Target, "%s", targetWords(t))
	}
	for _, w := range v.Workshops {
		v.row("at "+w.Target, "%s", itemWords(w))
	}
	v.unknown()
	v.abroad()
	return v, nil
}

// unknown gives the first place among the next steps to versions that other places have and this
// copy of the project does not know.
func (v *Overview) unknown() {
	first := func(why string, args ...any) {
		v.Next = ""
		v.next("vornix history", why, args...)
	}
	for _, t := range v.Targets {
		switch {
		case t.Error != "" || t.Last == nil || !t.Last.Release:
		case newer(t.Version, v.Released) && !v.from[t.Version]:
			first("%s has version %s, which was released from elsewhere; this copy of the project does not know it",
				t.Target, t.Version)
			return
		case t.Version == v.Released && v.other(t.Bundles):
			first("%s has version %s with another content than the one that was released", t.Target, t.Version)
			return
		}
	}
	for _, w := range v.Workshops {
		if w.There != nil && v.Released != "" && newer(w.There.Version, v.Released) && !v.from[w.There.Version] {
			first("%s has version %s of %s, which was released from elsewhere; this copy of the project does not know it", w.Target, w.There.Version, w.Item)
			return
		}
	}
}

func (v *Overview) row(what, format string, args ...any) {
	v.Rows = append(v.Rows, [2]string{what, fmt.Sprintf(format, args...)})
}

// next takes the first thing that is to be done; what comes later waits for it.
func (v *Overview) next(command, why string, args ...any) {
	if v.Next == "" {
		v.Next, v.Why = command, fmt.Sprintf(why, args...)
	}
}

// here looks at what is on this machine.
func (v *Overview) here(ctx context.Context, p *project.Project, o Options) error {
	head := p.File.Project
	v.row("project", "%s %s for %s", head.Title, head.Version, p.Profile.Game.Title)
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return err
	}
	checked, _ := Check(ctx, p, g) // the error says that there are errors
	if checked != nil {
		v.Errors, v.Warnings, v.Notes = finding.Count(checked.Findings, finding.Error),
			finding.Count(checked.Findings, finding.Warning), finding.Count(checked.Findings, finding.Note)
		v.row("checked", "%s", Tally(checked.Findings))
	}
	if v.Errors > 0 {
		v.next("vornix check", "%s would keep it from being released", Count(v.Errors, "error"))
	}
	if err := v.untrusted(ctx, p, o); err != nil {
		return err
	}
	v.sharedResults(p, o)
	if err := v.made(ctx, p, o, g); err != nil {
		return err
	}
	if plan, err := PlanSweep(ctx, p, g, nil, nil); err == nil {
		if v.Stray = len(plan.Go); v.Stray > 0 {
			v.row("stray", "%s, %s, that no release needs ('vornix sweep --plan' lists them)", Count(v.Stray, "file"),
				Bytes(plan.Size()))
		}
	}
	return v.gone(p)
}

// untrusted says what the project wants to do here that nobody has allowed.
func (v *Overview) untrusted(ctx context.Context, p *project.Project, o Options) error {
	want, err := trust.All(ctx, p, o.Publish.Home)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		v.row("consent", "what it wants to do on this machine can't be told: %s", humanize.Printable(err.Error()))
		return nil
	}
	missing, err := o.Own.Trust.Missing(p, want...)
	if err != nil || len(missing) == 0 {
		return err
	}
	v.row("consent", "%s to give or refuse ('vornix trust' shows what for)", Count(len(missing), "permission"))
	v.next("vornix trust", "what needs your consent does not happen before")
	return nil
}

// sharedResults says what shared results were worth.
func (v *Overview) sharedResults(p *project.Project, o Options) {
	about, ok := trust.Shared(p)
	if !ok {
		return
	}
	if missing, err := o.Own.Trust.Missing(p, about); err != nil || len(missing) > 0 {
		v.row("shared", "not used: nobody has allowed it on this machine ('vornix trust')")
		return
	}
	if o.Sharing.Mode == "off" {
		v.row("shared", "switched off on this machine")
		return
	}
	state, err := safefile.OpenDir(p.State())
	if err != nil {
		return // nothing was built here so far
	}
	defer state.Close()
	h := remotecache.ReadHistory(state)
	if h == nil || h.Where != p.File.Shared.URL {
		v.row("shared", "%s, not asked so far", p.File.Shared.URL)
		return
	}
	v.Shared = h
	line := func(c remotecache.Stats) string {
		text := fmt.Sprintf("%d of %s found (%.0f %%)", c.Found, Count(c.Asked, "result"), 100*c.Rate())
		if c.Parts > 0 {
			text += fmt.Sprintf(" and %s of others", Count(c.Parts, "part"))
		}
		return text + fmt.Sprintf(", %s taken, %s given", Bytes(c.Taken), Bytes(c.GivenSize))
	}
	v.row("shared", "%s; the last build: %s", h.Where, line(h.Last))
	v.row("", "since %s: %s", h.Since.Local().Format("2006-01-02"), line(h.All))
	if h.Off != "" {
		v.row("", "the last build left them alone: %s", humanize.Printable(h.Off))
	}
}

// made looks at what is built, pictured, packed, tried and indexed.
func (v *Overview) made(ctx context.Context, p *project.Project, o Options, g *assetgraph.Graph) (err error) {
	current, err := LookPacked(ctx, p, o)
	if err != nil {
		return err
	}
	stale := current.Stale
	v.Stale = append(v.Stale, stale...)
	if len(stale) == 0 {
		v.row("built", "up to date")
	} else {
		v.row("built", "%d to build: %s", len(stale), Few(stale))
		v.next("vornix build", "%s not as the sources are", are(stale))
	}
	if HasBeside(p.Profile) {
		list, err := assembly.StaleBeside(ctx, p, g)
		if err != nil {
			return err
		}
		for _, id := range list {
			v.Pictures = append(v.Pictures, strings.TrimPrefix(id, assembly.PictureStep+" "))
		}
		if len(list) == 0 {
			v.row("pictures", "up to date")
		} else {
			v.row("pictures", "%d to make: %s", len(list), Few(v.Pictures))
			v.next("vornix shoot", "%s not as the maps are", are(v.Pictures))
		}
	}
	if packed := current.Bundles; current.Missing != nil {
		v.row("packed", "no: %s", current.Missing)
		v.next("vornix pack", "nothing is packed of what is built")
	} else {
		v.Packed, v.Older = packed, append(v.Older, current.Older...)
		var names []string
		for _, b := range packed {
			names = append(names, fmt.Sprintf("%s (%s)", b.Name, Bytes(b.Size)))
		}
		older := ""
		switch {
		case len(stale) > 0:
			older = ", of an older build"
		case len(current.Older) > 0:
			older = fmt.Sprintf("; not as the build is: %s", Few(current.Older))
			v.next("vornix pack", "what is packed is not of the last build")
		}
		v.row("packed", "%s%s", Few(names), older)
		j := readJournal(p)
		e := j.Steps["try"]
		if v.Tried = e.Key == tryKey(p, o.Program, packed); v.Tried {
			v.row("tried", "as it is packed")
		} else {
			v.row("tried", "not as it is packed")
			v.next("vornix try", "nobody has tried it without everything else")
		}
	}
	x, err := indexwriter.Check(p)
	if err != nil {
		v.row("indexed", "no: %s", err)
		v.next("vornix index write", "players' programs would not hear of it")
		return nil
	}
	v.Indexed = true
	state := fmt.Sprintf("number %d", x.Serial)
	if len(x.Signatures) > 0 {
		state += ", signed"
		if x.Expires != "" {
			state += ", good until " + x.Expires[:min(len(x.Expires), len(time.DateOnly))]
		}
	}
	if x.Expired(time.Now()) {
		state += ": expired, so players refuse it"
		v.next("vornix index sign", "players refuse an index that has expired")
	}
	v.row("indexed", "%s", state)
	return nil
}

// gone looks at what was released.
func (v *Overview) gone(p *project.Project) error {
	events, err := ledger.Read(p)
	if err != nil {
		return err
	}
	var last *ledger.Event
	v.from = map[string]bool{}
	for i := range events {
		if events[i].Kind == ledger.Deployed || events[i].Kind == ledger.Published {
			v.from[events[i].Version] = true
		}
		if events[i].Kind == ledger.Released && (last == nil || semver.Compare(events[i].Version, last.Version) >= 0) {
			last = &events[i]
			v.Released = last.Version
		}
	}
	if last != nil {
		v.files = last.Files
	}
	if last == nil {
		v.row("released", "nothing yet")
	} else {
		text := fmt.Sprintf("%s on %s", last.Version, last.Date)
		if v.Changed = len(v.Packed) > 0 && last.Version == v.Version &&
			!maps.Equal(last.Files, hashes(v.Packed)); v.Changed {
			text += "; what is packed is not what was released"
		}
		v.row("released", "%s", text)
	}
	if j := readJournal(p); j.Version == v.Version && j.Finished.IsZero() && ledger.Release(events, v.Version) == nil {
		if v.UnderWay = j.last(); v.UnderWay != "" {
			v.row("under way", "the release of %s, which came as far as %s", v.Version, v.UnderWay)
		}
	}
	switch {
	case v.Released != v.Version:
		v.next("vornix release", "version %s is not released", v.Version)
	case v.Changed:
		v.next("vornix release "+semver.Next(v.Version),
			"version %s is finished, and what is packed is not what was released", v.Version)
	}
	return nil
}

// abroad says what is to be done where releases go.
func (v *Overview) abroad() {
	for _, t := range v.Targets {
		switch {
		case t.Error != "" || t.Kind == "web":
		case t.Half != "":
			v.next("vornix deploy "+t.Target, "a deployment to it did not come to its end")
		case len(t.Drift) > 0:
			v.next("vornix deploy "+t.Target+" --plan", "%s there changed since", Count(len(t.Drift), "file"))
		case v.Released != "" && t.Version != v.Released:
			v.next("vornix deploy "+t.Target, "it does not have version %s", v.Released)
		}
	}
	for _, w := range v.Workshops {
		if w.There != nil && w.There.Withdrawn == nil && v.Released != "" && w.There.Version != v.Released &&
			w.There.Version != "" {
			v.next("vornix publish "+w.Target, "%s has version %s there", w.Item, w.There.Version)
		}
	}
}

// newer says whether a version at a place is later than the last one that is known here.
func newer(there, known string) bool {
	return semver.Valid(there) && (known == "" || semver.Compare(there, known) > 0)
}

// other says whether bundles differ from those of the last finished version.
func (v *Overview) other(bundles map[string]string) bool {
	for name, sum := range bundles {
		if v.files[name] != sum {
			return true
		}
	}
	return false
}

// lookAtAll looks at all targets at once.
func lookAtAll(ctx context.Context, p *project.Project, o Options) ([]*deploy.State, []*publish.State) {
	names, workshops := Targets(p), publish.Targets(p)
	list := make([]*deploy.State, len(names))
	items := make([][]*publish.State, len(workshops))
	var wg group.All
	for i, name := range names {
		wg.Go(func() { list[i] = deploy.Look(ctx, p, name, o.Access, false) })
	}
	for i, name := range workshops {
		wg.Go(func() { items[i] = publish.Survey(ctx, p, name, o.Publish) })
	}
	wg.Wait()
	return list, slices.Concat(items...)
}

// Few names the first of many.
func Few(list []string) string {
	if len(list) > 3 {
		return strings.Join(list[:3], ", ") + " …"
	}
	return strings.Join(list, ", ")
}

// are begins a sentence on the first of several things.
func are(list []string) string {
	if len(list) == 1 {
		return list[0] + " is"
	}
	return fmt.Sprintf("%s and %d more are", list[0], len(list)-1)
}

// NoteTried writes down that bundles were tried, so that neither status nor a release asks for it again.
func NoteTried(p *project.Project, program string, bundles []bundle.Bundle, step *Step) error {
	j := readJournal(p)
	kept := *step
	j.Steps["try"] = entry{When: moment(), Key: tryKey(p, program, bundles), Step: &kept}
	return j.save(p)
}
