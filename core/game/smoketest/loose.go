package smoketest

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/game/gamefs"
)

// AsideDir is the folder in an installed game to which loose files are set aside.
const AsideDir = "vornix-aside"

// Loose is a file that lies in an installed game's folder where a bundle has one too.
type Loose struct {
	Path string `json:"path"` // slash path in the game's folder, as it is written there
	Size int64  `json:"size"`
	Same bool   `json:"same"` // it has the content that is packed
}

// FindLoose looks in the folder of an installed game for loose copies of what bundles hold. A game
// takes the loose one, so that nobody sees the packed one, however often it is tried.
func FindLoose(ctx context.Context, p *profile.Profile, game string, bundles []string) ([]Loose, error) {
	info, err := os.Stat(game)
	if err != nil || !info.IsDir() {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no game's folder " + filepath.ToSlash(game),
			Err: err, Do: "Name the folder of the installed game."}
	}
	d, err := safefile.OpenDir(game)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	list := []Loose{}
	for _, file := range bundles {
		b, err := gamefs.Open(file)
		if err != nil {
			return nil, &fault.Fault{What: "the bundle can't be read", Place: fault.Place{File: filepath.ToSlash(file)},
				Err: err, Do: "Pack it again, or get it again."}
		}
		for _, e := range b.Entries() {
			if err := ctx.Err(); err != nil {
				b.Close()
				return nil, err
			}
			at := asWritten(d, e.Name)
			info, err := d.Stat(at)
			if at == "" || err != nil || !info.Mode().IsRegular() {
				continue
			}
			l := Loose{Path: at, Size: info.Size()}
			if info.Size() == e.Size {
				there, err := os.ReadFile(d.Join(at))
				packed, err2 := e.Read()
				l.Same = err == nil && err2 == nil && string(there) == string(packed)
			}
			list = append(list, l)
		}
		if err := b.Close(); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// asWritten is a path as the folder has it, whatever its capitals: games on Windows find those too.
// Empty when there is none.
func asWritten(d *safefile.Dir, rel string) string {
	at := ""
	for part := range strings.SplitSeq(rel, "/") {
		next := path.Join(at, part)
		if _, err := d.Stat(next); err != nil {
			next = ""
			entries, _ := os.ReadDir(d.Join(at))
			for _, e := range entries {
				if strings.EqualFold(e.Name(), part) {
					next = path.Join(at, e.Name())
					break
				}
			}
		}
		if next == "" {
			return ""
		}
		at = next
	}
	return at
}

// Finding says that a loose file hides a packed one.
func (l Loose) Finding(game string) finding.Finding {
	f := finding.TryLoose.At(fault.Place{File: filepath.ToSlash(filepath.Join(game, filepath.FromSlash(l.Path)))},
		"a loose copy hides the packed %s, and has other content", l.Path)
	if l.Same {
		f.Text = "a loose copy hides the packed " + l.Path +
			"; it has the same content now, and will not have after the next release"
	}
	return f
}

// SetAside moves loose files out of the game's way; BringBack brings them back.
func SetAside(ctx context.Context, game string, list []Loose, now time.Time) (*quarantine.Batch, error) {
	d, err := safefile.OpenDir(game)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var items []quarantine.Item
	for _, l := range list {
		items = append(items, quarantine.Item{Path: l.Path, Size: l.Size, Why: "a loose copy of a packed file"})
	}
	return quarantine.Add(ctx, d, AsideDir, now, items)
}

// BringBack brings back all that was set aside in a game's folder.
func BringBack(ctx context.Context, game string) ([]quarantine.Restored, error) {
	d, err := safefile.OpenDir(game)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	places, err := quarantine.List(d, AsideDir)
	if err != nil {
		return nil, err
	}
	all := []quarantine.Restored{}
	for i := range places {
		back, err := quarantine.Restore(ctx, d, AsideDir, &places[i], nil)
		if all = append(all, back...); err != nil {
			return all, err
		}
	}
	if err := d.RemoveEmpty(AsideDir); err != nil {
		return all, err
	}
	return all, nil
}
