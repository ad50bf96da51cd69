package publish

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/ship/workshop"
)

// RecordFile says which items of workshops are the project's. It belongs under version control.
const RecordFile = "published.toml"

// records is the content of RecordFile: by target.
type records map[string]placed

// placed is what a project has at a workshop.
type placed struct {
	Workshop string            `toml:"workshop"` // its id
	Items    map[string]record `toml:"item"`
}

// record is an item.
type record struct {
	ID  string `toml:"id"`
	Key string `toml:"key"`
	// Sent are hashes of the parts of the page as the project published them last, whatever became of them since.
	Sent map[string]string `toml:"sent"`
	// Tried are those of the parts that are on their way: should the answer never come, what is
	// found there is known for the project's own.
	Tried map[string]string `toml:"tried,omitempty"`
}

func readRecords(p *project.Project) (records, error) {
	data, err := os.ReadFile(p.Join(RecordFile))
	if errors.Is(err, fs.ErrNotExist) {
		return records{}, nil
	}
	r := records{}
	if err == nil {
		err = toml.Unmarshal(data, &r)
	}
	if err == nil {
		for _, at := range r {
			for _, x := range at.Items {
				if !workshop.IsID(x.ID) || !workshop.IsKey(x.Key) {
					err = fmt.Errorf("%q is no id, or %q no key", x.ID, x.Key)
				}
			}
		}
	}
	if err != nil {
		return nil, &fault.Fault{What: "the record of what was published can't be read",
			Place: fault.Place{File: RecordFile}, Err: err,
			Why: "Without it a second item could be made beside the first.",
			Do:  "Bring the file back from version control. If it is lost, remove it: items are found again by their keys."}
	}
	return r, nil
}

// Published are the targets at which the project has items, sorted.
func Published(p *project.Project) (list []string, err error) {
	all, err := readRecords(p)
	for _, name := range Targets(p) {
		if len(all[name].Items) > 0 {
			list = append(list, name)
		}
	}
	return list, err
}

// Items are the names of the items that the project has at a target, sorted.
func Items(p *project.Project, target string) ([]string, error) {
	all, err := readRecords(p)
	return slices.Sorted(maps.Keys(all[target].Items)), err
}

// recorded finds the record of an item; ok is false when there is none.
func (d *Desk) recorded(name string) (record, bool, error) {
	all, err := readRecords(d.P)
	if err != nil {
		return record{}, false, err
	}
	at, ok := all[d.Name]
	if !ok {
		return record{}, false, nil
	}
	if at.Workshop != d.About.ID {
		return record{}, false,
			&fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("%s is another workshop than the one that target %q was published to", d.Address,
					d.Name), Place: fault.Place{File: RecordFile},
				Why: "Its items would all be made a second time there.",
				Do:  fmt.Sprintf("Give the other workshop a target of its own. If the old one is gone for good, remove [%s] from %s.", d.Name, RecordFile)}
	}
	r, ok := at.Items[name]
	return r, ok, nil
}

// remember writes an item's record.
func (d *Desk) remember(name string, r record) error {
	all, err := readRecords(d.P)
	if err != nil {
		return err
	}
	at := all[d.Name]
	if at.Items == nil {
		at = placed{Items: map[string]record{}}
	}
	at.Workshop = d.About.ID
	at.Items[name] = r
	all[d.Name] = at
	data, err := toml.Marshal(all)
	if err != nil {
		return err
	}
	dir, err := safefile.OpenDir(d.P.Dir)
	if err != nil {
		return err
	}
	defer dir.Close()
	if old, err := dir.ReadFile(RecordFile); err == nil && string(old) == recordHead+string(data) {
		return nil
	}
	return dir.WriteFile(RecordFile, []byte(recordHead), data)
}

const recordHead = "# Which items of workshops are this project's. 'vornix publish' writes it; keep it under version control, so that\n# nobody makes a second item by accident.\n\n"

// parts are the parts of a page, in the order in which they are shown.
var parts = []string{"title", "description", "tags", "modes", "needs", "testers", "pictures"}

// partOf is where a part of a page stands: a *string, a *[]string or the *[]workshop.Picture.
func partOf(p *workshop.Page, part string) any {
	switch part {
	case "title":
		return &p.Title
	case "description":
		return &p.Description
	case "tags":
		return &p.Tags
	case "modes":
		return &p.Modes
	case "needs":
		return &p.Needs
	case "testers":
		return &p.Testers
	}
	return &p.Pictures
}

// setPart takes a part over from another page.
func setPart(to, from *workshop.Page, part string) {
	switch x := partOf(from, part).(type) {
	case *string:
		*partOf(to, part).(*string) = *x
	case *[]string:
		*partOf(to, part).(*[]string) = *x
	case *[]workshop.Picture:
		*partOf(to, part).(*[]workshop.Picture) = *x
	}
}

// hashPart tells two states of a part apart.
func hashPart(p *workshop.Page, part string) string {
	value := partOf(p, part)
	if list, ok := value.(*[]workshop.Picture); ok {
		shown := [][3]string{} // what is seen of them; how they are cut is no matter
		for _, x := range *list {
			shown = append(shown, [3]string{x.Name, x.Text, x.SHA256})
		}
		value = shown
	}
	data, _ := json.Marshal(value) // of strings
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}

// blank says whether there is nothing in a part.
func blank(p *workshop.Page, part string) bool {
	return hashPart(p, part) == hashPart(&emptyPage, part)
}

var emptyPage = workshop.Page{Tags: []string{}, Modes: []string{}, Needs: []string{}, Testers: []string{},
	Pictures: []workshop.Picture{}}
