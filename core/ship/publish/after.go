package publish

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/ship/workshop"
)

// State is what a target has of an item.
type State struct {
	Target   string             `json:"target"`
	Item     string             `json:"item"`
	There    *workshop.Item     `json:"there"` // nil when there is none
	Address  string             `json:"address,omitempty"`
	Versions []workshop.Version `json:"versions"`
	Error    string             `json:"error,omitempty"`
	// Unreachable says that the error is that the workshop does not answer.
	Unreachable bool `json:"unreachable,omitempty"`
}

// There finds an item that must be there.
func (d *Desk) There(ctx context.Context, name string) (*workshop.Item, error) {
	x, r, found, err := d.there(ctx, name)
	if err != nil {
		return nil, err
	}
	if x == nil {
		return nil, &fault.Fault{Kind: fault.Usage,
			What: fmt.Sprintf("there is no item %s at %s yet", name, d.About.Name), Place: fault.Place{File: d.Address},
			Do: fmt.Sprintf("'vornix publish %s' makes it.", d.Name)}
	}
	if found {
		return x, d.remember(name, r)
	}
	return x, nil
}

func (d *Desk) there(ctx context.Context, name string) (x *workshop.Item, r record, found bool, err error) {
	if err := d.owner(); err != nil {
		return nil, r, false, err
	}
	key := d.P.File.Project.Name
	if d.P.Profile.Workshop.Each == "bundle" {
		key += "/" + name
	}
	return d.item(ctx, name, key, false)
}

// Look says what is there of an item, without an error when there is none. It changes nothing.
func (d *Desk) Look(ctx context.Context, name string) (*State, error) {
	s := &State{Target: d.Name, Item: name, Versions: []workshop.Version{}}
	x, _, _, err := d.there(ctx, name)
	if err != nil || x == nil {
		return s, err
	}
	s.There, s.Address = x, d.Client.PageOf(x.ID)
	s.Versions, err = d.Client.Versions(ctx, x.ID)
	return s, err
}

// Survey says what a target has of the items that the project knows there. What can't be looked at is in the states.
func Survey(ctx context.Context, p *project.Project, target string, a Access) []*State {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	failed := func(err error) []*State {
		return []*State{{Target: target, Versions: []workshop.Version{}, Error: err.Error(),
			Unreachable: fault.KindOf(err) == fault.Unreachable}}
	}
	all, err := readRecords(p)
	if err != nil {
		return failed(err)
	}
	names := slices.Sorted(maps.Keys(all[target].Items))
	if len(names) == 0 {
		return []*State{{Target: target, Versions: []workshop.Version{}}}
	}
	d, err := Open(ctx, p, target, a)
	if err != nil {
		return failed(err)
	}
	defer d.Close()
	var list []*State
	for _, name := range names {
		s, err := d.Look(ctx, name)
		if err != nil {
			s = failed(err)[0]
			s.Item = name
		}
		list = append(list, s)
	}
	return list
}

// Show is what changing an item's visibility rests on.
type Show struct {
	Target  string              `json:"target"`
	Item    string              `json:"item"`
	ID      string              `json:"id"`
	Address string              `json:"address"`
	From    workshop.Visibility `json:"from"`
	To      workshop.Visibility `json:"to"`
	Version string              `json:"version"`
	Missing []workshop.Wrong    `json:"missing"` // of the page

	after int
}

// PlanShow says what making an item visible, or hiding it, would do. It changes nothing.
func (d *Desk) PlanShow(ctx context.Context, name string, to workshop.Visibility) (*Show, error) {
	x, err := d.There(ctx, name)
	if err != nil {
		return nil, err
	}
	s := &Show{Target: d.Name, Item: name, ID: x.ID, Address: d.Client.PageOf(x.ID), From: x.Visibility, To: to,
		Version: x.Version, Missing: []workshop.Wrong{}, after: x.Revision}
	if to == workshop.Hidden {
		return s, nil
	}
	if x.Withdrawn != nil {
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the item %s was withdrawn: %s", name, x.Withdrawn.Reason),
			Place: fault.Place{File: s.Address},
			Do:    fmt.Sprintf("Bring it back first: vornix publish withdraw %s --back", d.Name)}
	}
	var current *workshop.Version
	if x.Current > 0 {
		versions, err := d.Client.Versions(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		if i := slices.IndexFunc(versions, func(v workshop.Version) bool { return v.Number == x.Current }); i >= 0 {
			current = &versions[i]
		}
	}
	s.Missing = append(s.Missing, d.limits.Missing(&x.Page, current)...)
	return s, nil
}

// Show changes an item's visibility as planned.
func (d *Desk) Show(ctx context.Context, s *Show) (*workshop.Item, error) {
	if len(s.Missing) > 0 && s.To != workshop.Hidden {
		f := &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the page of %s is not finished: %s", s.Item, s.Missing[0]),
			Place: fault.Place{File: s.Address}, Why: "Players would see it as it is.",
			Do: fmt.Sprintf("Add it under [page] in %s, and run 'vornix publish %s'.", project.FileName, d.Name)}
		if s.Missing[0].Field == "files" {
			f.Do = fmt.Sprintf("Run 'vornix publish %s' first.", d.Name)
		}
		return nil, f
	}
	return d.Client.SetVisibility(ctx, s.ID, s.To, s.after)
}

// Withdraw takes an item back, or with a version that one; back brings it back again.
func (d *Desk) Withdraw(ctx context.Context, name, version, reason string, back bool) (*workshop.Item, error) {
	x, err := d.There(ctx, name)
	if err != nil {
		return nil, err
	}
	number := 0
	gone := x.Withdrawn
	if version != "" {
		versions, err := d.Client.Versions(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(versions, func(v workshop.Version) bool { return v.Version == version })
		if i < 0 {
			return nil, &fault.Fault{Kind: fault.Usage,
				What:  fmt.Sprintf("the item %s has no version %s", name, version),
				Place: fault.Place{File: d.Client.PageOf(x.ID)},
				Do:    fmt.Sprintf("See: vornix publish history %s", d.Name)}
		}
		number, gone = versions[i].Number, versions[i].Withdrawn
	}
	if (gone == nil) == back {
		return x, nil // it is as it should be
	}
	if back {
		reason = ""
	}
	return d.Client.Withdraw(ctx, x.ID, number, reason, x.Revision)
}

// Got is what a player got.
type Got struct {
	Account string            `json:"account"` // that followed it; empty for nobody's
	ID      string            `json:"id"`
	Version string            `json:"version"`
	Number  int               `json:"-"`
	Files   []string          `json:"files"` // system paths
	Size    int64             `json:"size"`
	Sums    map[string]string `json:"sums"` // SHA-256 by file name
}

// maxGot is how much an item can have, in bytes.
const maxGot = 64 << 30

// Get follows an item as a player does, downloads its current version into a folder and holds every
// file to its hash, and to what the project published. It is the second account's token that is
// used, where the target has one; else nobody's for what everybody can see, else the owner's.
func (d *Desk) Get(ctx context.Context, name string, dir *safefile.Dir, advanced func(done, total int64)) (*Got,
	error) {
	x, err := d.There(ctx, name)
	if err != nil {
		return nil, err
	}
	token, _, err := d.access.token(d.P, d.Name, &d.target, d.Address, true)
	if err != nil {
		return nil, err
	}
	client := d.Client
	got := &Got{Account: d.About.Account, ID: x.ID, Sums: map[string]string{}}
	if token != "" || x.Visibility != workshop.Hidden {
		if client, err = d.dial(token); err != nil {
			return nil, err
		}
		defer client.Close()
		about, err := client.About(ctx)
		if err != nil {
			return nil, err
		}
		got.Account = about.Account
	}
	seen, err := client.Item(ctx, x.ID)
	if workshop.Is(err, workshop.NotThere) {
		return nil, &fault.Fault{Kind: fault.Refused,
			What:  fmt.Sprintf("the item %s is hidden from %s", name, got.Account),
			Place: fault.Place{File: d.Client.PageOf(x.ID)},
			Do:    fmt.Sprintf("Add testers = [%q] to the target and run 'vornix publish edit %s', or show it to those who have the link: vornix publish visibility %s link", got.Account, d.Name, d.Name)}
	}
	if err != nil {
		return nil, err
	}
	if got.Account != "" && token != "" {
		if seen, err = client.Follow(ctx, x.ID, true); err != nil {
			return nil, err
		}
	}
	if seen.Current == 0 {
		return nil, &fault.Fault{What: fmt.Sprintf("the item %s has nothing to download", name),
			Place: fault.Place{File: d.Client.PageOf(x.ID)}, Do: fmt.Sprintf("Run 'vornix publish %s' first.", d.Name)}
	}
	v, err := client.Version(ctx, x.ID, seen.Current)
	if err != nil {
		return nil, err
	}
	got.Version, got.Number = v.Version, v.Number
	total := int64(0)
	for _, f := range v.Files {
		if safefile.CheckForeign(f.Name) != nil || path.Base(f.Name) != f.Name || !workshop.IsHash(f.SHA256) ||
			f.Size < 0 {
			return nil, &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("the workshop names a file %q, which is no file's name", f.Name),
				Place: fault.Place{File: d.Client.String()}, Why: "It could have been written anywhere.",
				Do: "Tell the workshop."}
		}
		if total += f.Size; total > maxGot || f.Size > maxGot {
			return nil, &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("the workshop says that the item has %d bytes or more", total),
				Place: fault.Place{File: d.Client.String()}, Why: "No disk is filled on its word.",
				Do: "Tell the workshop."}
		}
	}
	for _, f := range v.Files {
		if err := d.take(ctx, client, x.ID, v, f, dir, func(done int64) {
			if advanced != nil {
				advanced(got.Size+done, total)
			}
		}); err != nil {
			return nil, err
		}
		got.Size += f.Size
		got.Sums[f.Name] = f.SHA256
		got.Files = append(got.Files, dir.Join(f.Name))
	}
	return got, nil
}

// StoredFile is a file of a version of an item at a workshop.
type StoredFile struct {
	workshop.File
	desk   *Desk
	item   string
	number int
}

// Download writes the file's content to a sink. The caller checks the hash.
func (f *StoredFile) Download(ctx context.Context, to workshop.Sink) error {
	return f.desk.Client.Download(ctx, f.item, f.number, f.File, to)
}

// Files are those of all versions of the project's items there, by SHA-256.
func (d *Desk) Files(ctx context.Context) (map[string]*StoredFile, error) {
	names, err := Items(d.P, d.Name)
	if err != nil {
		return nil, err
	}
	files := map[string]*StoredFile{}
	for _, name := range names {
		s, err := d.Look(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, v := range s.Versions {
			for _, f := range v.Files {
				files[f.SHA256] = &StoredFile{f, d, s.There.ID, v.Number}
			}
		}
	}
	return files, nil
}

// take downloads one file, twice when what came first is another one.
func (d *Desk) take(ctx context.Context, client *workshop.Client, id string, v *workshop.Version, f workshop.File,
	dir *safefile.Dir, advanced func(int64)) error {
	for try := 0; ; try++ {
		part, err := dir.Resume(f.Name)
		if err != nil {
			return err
		}
		err = client.Download(ctx, id, v.Number, f, &told{part, advanced})
		sum := ""
		if err == nil {
			sum, err = part.SHA256(ctx)
		}
		if err == nil && sum != f.SHA256 {
			err = part.Restart()
		}
		if closeErr := part.Close(); err == nil {
			err = closeErr
		}
		if err != nil || sum == f.SHA256 {
			return err
		}
		if try == 1 {
			return &fault.Fault{What: fmt.Sprintf("what players get as %s is not what was published", f.Name),
				Place: fault.Place{File: d.Client.PageOf(id)},
				Why:   "They would have something else, or something broken.",
				Do: fmt.Sprintf("Take the version off: vornix publish withdraw %s %s --reason damaged", d.Name,
					v.Version)}
		}
	}
}

// told is a sink that says how far it is.
type told struct {
	*safefile.Partial
	advanced func(int64)
}

func (t *told) Write(b []byte) (int, error) {
	n, err := t.Partial.Write(b)
	t.advanced(t.Size())
	return n, err
}
