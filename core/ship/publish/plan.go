package publish

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vornix/core/base/diff"
	"vornix/core/base/fault"
	"vornix/core/base/semver"
	"vornix/core/ship/workshop"
)

// Operation is what happens to a part of an item.
type Operation string

// Actions.
const (
	Add      Operation = "add"
	Change   Operation = "change"
	Remove   Operation = "remove"
	Leave    Operation = "leave"
	Stays    Operation = "stays"    // somebody else changed it there, and the project did not
	Conflict Operation = "conflict" // both changed it
)

// Scope is what a plan is about.
type Scope string

// Scopes. The zero value is everything.
const (
	Everything Scope = ""
	Texts      Scope = "texts"    // the page without its pictures
	Pictures   Scope = "pictures" // only those
)

// parts are those of a page that a scope is about.
func (s Scope) parts() []string {
	last := len(parts) - 1 // the pictures
	switch s {
	case Texts:
		return parts[:last]
	case Pictures:
		return parts[last:]
	}
	return parts
}

// PlanOptions change what is planned.
type PlanOptions struct {
	Scope     Scope
	Overwrite bool // conflicts go by what the project says
	New       bool // an item that was deleted there is made anew
}

// PartChange is what happens to a part of the page, a picture or a file.
type PartChange struct {
	Part   string    `json:"part"` // title, description, tags, modes, needs, testers, picture, file, version
	Name   string    `json:"name,omitempty"`
	Action Operation `json:"action"`
	From   string    `json:"from,omitempty"`
	To     string    `json:"to,omitempty"`
	Size   int64     `json:"size,omitempty"`
	Diff   string    `json:"diff,omitempty"` // of texts with several lines
}

// Plan is what publishing would do to an item.
type Plan struct {
	Target  string       `json:"target"`
	Item    string       `json:"item"` // its name in the project
	ID      string       `json:"id,omitempty"`
	Address string       `json:"address,omitempty"` // of its page
	New     bool         `json:"new"`               // it is made, hidden
	Found   bool         `json:"found"`             // the project had no record of it, and it was found by its key
	Version string       `json:"version"`
	Before  string       `json:"before,omitempty"` // version that is there
	Steps   []PartChange `json:"steps"`
	// Send is about how many bytes of files and pictures the workshop lacks, by what it has now;
	// Size is all of them, as far as they are planned.
	Send int64 `json:"send"`
	Size int64 `json:"size"`

	Goal     *Goal          `json:"-"`
	There    *workshop.Item `json:"-"` // nil for a new one
	Page     workshop.Page  `json:"-"` // as it will be
	versions []workshop.Version
	options  PlanOptions
	record   record
	// hashes of what any run of the project wrote last, as the item has them: a run that was killed left no record here
	own     map[string]string
	uploads bool // a version is added
	cuts    []cut
}

// Changes counts what is not as it should be.
func (p *Plan) Changes() (n int) {
	for _, s := range p.Steps {
		if s.Action == Add || s.Action == Change || s.Action == Remove {
			n++
		}
	}
	return n
}

// Conflicts are the parts that somebody else changed too.
func (p *Plan) Conflicts() (list []string) {
	for _, s := range p.Steps {
		if s.Action == Conflict {
			list = append(list, s.Part)
		}
	}
	return list
}

func (d *Desk) now() time.Time { return time.Now().UTC().Truncate(time.Second) }

// item finds a goal's item at the workshop; nil when it has to be made.
func (d *Desk) item(ctx context.Context, name, key string, fresh bool) (x *workshop.Item, r record, found bool,
	err error) {
	r, known, err := d.recorded(name)
	if err != nil {
		return nil, r, false, err
	}
	if !known {
		r.Key = key
	}
	deleted := func() error {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("the item %s was deleted at %s", name, d.About.Name),
			Place: fault.Place{File: d.Client.String()},
			Why:   "Those who followed it would not get a new one.",
			Do:    "To make a new item all the same, add --new-item."}
	}
	if known {
		x, err = d.Client.Item(ctx, r.ID)
		switch {
		case err == nil && x.Owner != d.About.Account:
			return nil, r, false,
				&fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("the item %s belongs to %s, and your token to %s", name, x.Owner,
						d.About.Account), Place: fault.Place{File: d.Client.PageOf(r.ID)}, Do: "Use its owner's token."}
		case err == nil:
			return x, r, false, nil
		case !workshop.Is(err, workshop.Gone) && !workshop.Is(err, workshop.NotThere):
			return nil, r, false, err
		case !fresh && workshop.Is(err, workshop.NotThere):
			return nil, r, false,
				&fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("%s has no item %s (%s) that %s may see", d.About.Name, name, r.ID,
						d.About.Account), Place: fault.Place{File: RecordFile},
					Why: "It is hidden and somebody else's, or was removed.",
					Do:  "Use its owner's token. To make a new item all the same, add --new-item."}
		case !fresh:
			return nil, r, false, deleted()
		}
		r = record{Key: nextKey(r.Key, key)}
		return nil, r, false, nil
	}
	list, err := d.Client.Mine(ctx, key)
	if err != nil {
		return nil, r, false, err
	}
	if len(list) == 0 {
		return nil, r, false, nil
	}
	r.ID = list[0].ID
	return &list[0], r, true, nil
}

// nextKey is the key of an item that takes the place of one that was deleted: a key is never free again.
func nextKey(last, key string) string {
	n := 2
	if rest, ok := strings.CutPrefix(last, key+"."); ok {
		if _, err := fmt.Sscanf(rest, "%d", &n); err == nil {
			n++
		}
	}
	return fmt.Sprintf("%s.%d", key, n)
}

// Plan says what publishing a goal would do. It changes nothing.
func (d *Desk) Plan(ctx context.Context, goal *Goal, o PlanOptions) (*Plan, error) {
	if err := d.owner(); err != nil {
		return nil, err
	}
	x, r, found, err := d.item(ctx, goal.Name, goal.Key, o.New)
	if err != nil {
		return nil, err
	}
	p := &Plan{Target: d.Name, Item: goal.Name, New: x == nil, Found: found, Version: goal.Version, Goal: goal,
		There: x, record: r, options: o, Steps: []PartChange{}}
	there := emptyPage
	if x != nil {
		if x.Kind != goal.Kind {
			return nil, &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("the item %s is of the kind %s there, and should be of %s", goal.Name, x.Kind,
					goal.Kind), Place: fault.Place{File: d.Client.PageOf(x.ID)},
				Do: "Correct kind in the game's profile, under [workshop]."}
		}
		p.ID, p.Address, p.Before = x.ID, d.Client.PageOf(x.ID), x.Version
		there, p.own = tidy(x.Page), x.Own
		if p.versions, err = d.Client.Versions(ctx, x.ID); err != nil {
			return nil, err
		}
	}
	if p.New && o.Scope != Everything {
		return nil, &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no item %s yet", goal.Name),
			Place: fault.Place{File: d.Client.String()}, Do: fmt.Sprintf("'vornix publish %s' makes it.", d.Name)}
	}
	p.page(there)
	if o.Scope == Everything {
		if err := d.planFiles(ctx, p); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// tidy gives lists that a workshop left out.
func tidy(p workshop.Page) workshop.Page {
	for _, list := range []*[]string{&p.Tags, &p.Modes, &p.Needs, &p.Testers} {
		if *list == nil {
			*list = []string{}
		}
	}
	return p
}

// page compares the page that is there with what it should be, part by part.
func (p *Plan) page(there workshop.Page) {
	p.Page = there
	goal := &p.Goal.Page
	for _, part := range p.options.Scope.parts() {
		was, now := hashPart(&there, part), hashPart(goal, part)
		sent, own := p.record.Sent[part], p.own[part]
		known := sent != "" || own != ""
		ours := was == sent || was == own || was == p.record.Tried[part]
		action := Change
		switch {
		case was == now:
			action = Leave
		case p.options.Overwrite || blank(&there, part) && (!known || ours):
		case ours: // only the project changed it
		case now == sent || now == own:
			action = Stays
		default:
			action = Conflict
		}
		if action == Change {
			setPart(&p.Page, goal, part)
		}
		if part == "pictures" {
			p.pictures(there.Pictures, action)
			continue
		}
		if action == Leave {
			continue
		}
		s := PartChange{Part: part, Action: action, From: said(&there, part), To: said(goal, part)}
		if blank(&there, part) && action == Change {
			s.Action = Add
		}
		if strings.Contains(s.From+s.To, "\n") {
			s.Diff = diff.Unified("there", "here", s.From+"\n", s.To+"\n")
		}
		p.Steps = append(p.Steps, s)
	}
}

// said is a part of a page in words.
func said(p *workshop.Page, part string) string {
	switch x := partOf(p, part).(type) {
	case *string:
		return *x
	case *[]string:
		return strings.Join(*x, ", ")
	}
	return ""
}

// pictures says what becomes of each picture.
func (p *Plan) pictures(there []workshop.Picture, action Operation) {
	now := p.Goal.Page.Pictures
	find := func(list []workshop.Picture, name string) *workshop.Picture {
		if i := slices.IndexFunc(list, func(x workshop.Picture) bool { return x.Name == name }); i >= 0 {
			return &list[i]
		}
		return nil
	}
	of := func(x *workshop.Picture) string { return fmt.Sprintf("%dx%d %s", x.Width, x.Height, x.Form) }
	for i := range now {
		x := &now[i]
		old := find(there, x.Name)
		s := PartChange{Part: "picture", Name: x.Name, To: of(x), Size: x.Size, Action: action}
		switch {
		case old == nil && action == Change:
			s.Action = Add
		case old != nil && old.SHA256 == x.SHA256 && old.Text == x.Text:
			s.Action = Leave
			if action == Change &&
				slices.IndexFunc(there, func(o workshop.Picture) bool { return o.Name == x.Name }) != i {
				s.Action, s.To = Change, fmt.Sprintf("now number %d", i+1)
			}
		case old != nil:
			s.From = of(old)
		}
		p.Steps = append(p.Steps, s)
		p.Size += x.Size
		if (s.Action == Add || s.Action == Change) &&
			!slices.ContainsFunc(there, func(o workshop.Picture) bool { return o.SHA256 == x.SHA256 }) {
			p.Send += x.Size
		}
	}
	for i := range there {
		if x := &there[i]; find(now, x.Name) == nil {
			s := PartChange{Part: "picture", Name: x.Name, From: of(x), Action: Remove}
			if action != Change {
				s.Action = action
			}
			p.Steps = append(p.Steps, s)
		}
	}
	if (action == Stays || action == Conflict) &&
		!slices.ContainsFunc(p.Steps, func(s PartChange) bool { return s.Part == "picture" && s.Action == action }) {
		p.Steps = append(p.Steps, PartChange{Part: "picture", Name: "order", Action: action})
	}
}

// planFiles says which version comes up, and about how much of it has to be sent.
func (d *Desk) planFiles(ctx context.Context, p *Plan) error {
	goal := p.Goal
	for _, f := range goal.Files {
		p.Size += f.Size
	}
	same := func(v *workshop.Version) bool {
		return slices.EqualFunc(v.Files, goal.Files,
			func(a, b workshop.File) bool { return a.Name == b.Name && a.SHA256 == b.SHA256 && a.Size == b.Size })
	}
	var current *workshop.Version
	for i := range p.versions {
		v := &p.versions[i]
		if p.There != nil && v.Number == p.There.Current {
			current = v
		}
		if v.Version != goal.Version {
			continue
		}
		place := d.P.Doc.At("project", "version")
		if v.Withdrawn != nil {
			return &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("version %s was withdrawn at %s: %s", v.Version, d.About.Name, v.Withdrawn.Reason),
				Place: place,
				Do: fmt.Sprintf("Raise the version, as in %s, or bring it back: vornix publish withdraw %s %s --back",
					semver.Next(goal.Version), d.Name, v.Version)}
		}
		if !same(v) {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("version %s is at %s with other files", v.Version, d.About.Name), Place: place,
				Why: "Those who have it would not get what is new.",
				Do:  "Raise the version, as in " + semver.Next(goal.Version) + "."}
		}
	}
	if current != nil && semver.Valid(current.Version) && semver.Compare(goal.Version, current.Version) < 0 {
		return &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("version %s comes before %s, which is at %s", goal.Version, current.Version,
				d.About.Name), Place: d.P.Doc.At("project", "version"),
			Why: "An old bundle would go up again.",
			Do: fmt.Sprintf("To go back, take the later one off: vornix publish withdraw %s %s --reason WHY", d.Name,
				current.Version)}
	}
	if current != nil && current.Version == goal.Version {
		for _, f := range goal.Files {
			p.Steps = append(p.Steps, PartChange{Part: "file", Name: f.Name, Action: Leave, Size: f.Size})
		}
		return nil
	}
	p.uploads = true
	s := PartChange{Part: "version", Action: Add, To: goal.Version}
	if current != nil {
		s.Action, s.From = Change, current.Version
	}
	p.Steps = append(p.Steps, s)
	old := map[string]string{}
	have := map[string]bool{}
	if current != nil {
		whole, err := d.Client.Version(ctx, p.ID, current.Number)
		if err != nil {
			return err
		}
		for _, f := range whole.Files {
			old[f.Name] = f.SHA256
			for _, c := range f.Chunks {
				have[c.SHA256] = true
			}
		}
	}
	var err error
	if p.cuts, err = d.cut(ctx, goal, nil); err != nil {
		return err
	}
	for i, f := range goal.Files {
		s := PartChange{Part: "file", Name: f.Name, Action: Add, Size: f.Size}
		if was, ok := old[f.Name]; ok && was == f.SHA256 {
			s.Action = Leave
		} else if ok {
			s.Action = Change
		}
		delete(old, f.Name)
		p.Steps = append(p.Steps, s)
		for _, c := range p.cuts[i].chunks {
			if !have[c.SHA256] {
				have[c.SHA256] = true
				p.Send += c.Size
			}
		}
	}
	for _, f := range sortedKeys(old) {
		p.Steps = append(p.Steps, PartChange{Part: "file", Name: f, Action: Remove})
	}
	return nil
}

// Uploads says whether a version comes up, not only the page changes.
func (p *Plan) Uploads() bool { return p.uploads }
