// Package smoketest tries bundles as a player would meet them: in an empty folder, with nothing else there.
//
// Try lays them out, starts a stand-in of the game's server there and reports what a player would
// be missing. FindLoose looks for what hides packed files in a folder that is not clean: loose
// copies in an installed game.
package smoketest

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/format/zipfile"
	"vornix/core/game/gamefs"
	"vornix/core/game/gameserver"
)

// Result is what a player with nothing else would see.
type Result struct {
	Maps     []gameserver.MapStatus
	Entries  int // entries read and checked
	Findings []finding.Finding
}

// Try lays the bundles out as the game wants them, alone, lets the game's stand-in start there and
// load every map, and reads every entry. The room is removed afterwards.
func Try(ctx context.Context, p *profile.Profile, bundles []string) (*Result, error) {
	d, err := safefile.NewScratchDir("")
	if err != nil {
		return nil, &fault.Fault{What: "could not make a temporary folder", Err: err,
			Do: "Check the free space of " + os.TempDir() + "."}
	}
	defer d.Close()
	bare := *p
	bare.Server.Maps, bare.Server.Playing = "", "" // there are no lists here: every map counts
	r := &Result{}
	var inside []string
	for _, b := range bundles {
		rel := path.Join(p.Server.Bundles, filepath.Base(b))
		if _, _, err := d.CopyFrom(ctx, b, rel); err != nil {
			return nil, err
		}
		if err := r.readAll(ctx, d.Join(rel), b); err != nil {
			return nil, err
		}
		inside = append(inside, d.Join(rel))
	}
	r.texts(p, inside)
	server, err := gameserver.Start(d.Path(), &bare, gameserver.Options{})
	if err != nil {
		return nil, err
	}
	defer server.Close()
	client, err := gameserver.Dial(ctx, server.URL, gameserver.Calls{})
	if err != nil {
		return nil, err
	}
	st, err := client.Status(ctx)
	if err != nil {
		return nil, err
	}
	r.Maps = st.Maps
	for _, m := range st.Maps {
		r.see(&m)
	}
	finding.Sort(r.Findings)
	return r, nil
}

// see says what a player would see, or not, in a map.
func (r *Result) see(m *gameserver.MapStatus) {
	place := fault.Place{File: m.Bundle}
	for _, miss := range m.Missing {
		kind := finding.TryMissing
		if miss.Sound {
			kind = finding.TrySilent
		}
		f := kind.At(place, "map %s needs %s: %s", m.Name, miss.Path, miss.Why)
		if miss.By != "" && !strings.HasSuffix(miss.By, "/"+m.Name+".vnm") {
			f.Text += "; " + miss.By + " names it"
		}
		r.Findings = append(r.Findings, f)
	}
	if m.Error != "" && len(m.Missing) == 0 {
		r.Findings = append(r.Findings, finding.TryUnreadable.At(place, "map %s does not load: %s", m.Name, m.Error))
	}
	for _, s := range m.Stuck {
		r.Findings = append(r.Findings,
			finding.TryStuck.At(place, "map %s: from the spawn %s no way leads to the %s", m.Name, s.Spawn, s.Goal))
	}
}

// readAll reads every entry of a bundle, which checks each one's CRC.
func (r *Result) readAll(ctx context.Context, file, name string) error {
	place := fault.Place{File: filepath.Base(name)}
	b, err := gamefs.Open(file)
	if err != nil {
		r.Findings = append(r.Findings, finding.TryUnreadable.At(place, "%v", err))
		return nil
	}
	defer b.Close()
	trouble, err := zipfile.Verify(ctx, b.Entries())
	for _, t := range trouble {
		if t != "" {
			r.Findings = append(r.Findings, finding.TryUnreadable.At(place, "%s", t))
		}
	}
	r.Entries += len(trouble)
	return err
}

// texts goes after what texts name that no map leads to, in all the bundles together: a start file speaks of every map.
func (r *Result) texts(p *profile.Profile, files []string) {
	var open []*gamefs.Bundle
	defer func() {
		for _, b := range open {
			b.Close()
		}
	}()
	for _, file := range files {
		if b, err := gamefs.Open(file); err == nil { // one that can't be opened has been told of
			open = append(open, b)
		}
	}
	read := func(gamePath string) ([]byte, error) {
		for _, b := range open {
			if b.MapData != nil && path.Base(b.Name()) == path.Base(gamePath) { // the map that carries the bundle
				return b.MapData, nil
			}
			if data, err := b.ReadFile(gamePath); !errors.Is(err, fs.ErrNotExist) {
				return data, err
			}
		}
		return nil, fs.ErrNotExist
	}
	seen := map[string]bool{}
	for _, b := range open {
		for _, e := range b.Entries() {
			for i := range p.Contents {
				c := &p.Contents[i]
				rel, ok := strings.CutPrefix(e.Name, c.To+"/")
				if !ok || !c.Always || !c.Takes(rel) || seen[e.Name] {
					continue // others a map leads to
				}
				seen[e.Name] = true
				for _, n := range gamefs.Text(p, c, e.Name, read) {
					if n.Why != "" {
						r.Findings = append(r.Findings,
							finding.TryMissing.At(fault.Place{File: path.Base(b.Name())}, "%s needs %s: %s", e.Name,
								n.Path, n.Why))
					}
				}
			}
		}
	}
}
