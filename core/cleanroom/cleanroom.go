// Package cleanroom tries bundles as a player would meet them: in an empty folder, with nothing else there.
package cleanroom

import (
	"context"
	"os"
	"path"
	"path/filepath"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/mount"
	"vornix/core/profile"
	"vornix/core/safefile"
	"vornix/core/standin"
)

// Result is what a player with nothing else would see.
type Result struct {
	Maps     []standin.MapStatus
	Entries  int // entries read and checked
	Findings []finding.Finding
}

// Try lays the bundles out as the game wants them, alone, loads every map and reads every entry.
func Try(ctx context.Context, p *profile.Profile, bundles []string) (*Result, error) {
	room, err := os.MkdirTemp("", "vornix-try-")
	if err != nil {
		return nil, &fault.Fault{What: "could not make a temporary folder", Err: err, Do: "Check the free space of " + os.TempDir() + "."}
	}
	defer os.RemoveAll(room)
	d, err := safefile.OpenDir(room)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	bare := *p
	bare.Server.Maps, bare.Server.Playing = "", "" // there are no lists here: every map counts
	r := &Result{}
	for _, b := range bundles {
		rel := path.Join(p.Server.Bundles, filepath.Base(b))
		if _, _, err := d.CopyFrom(ctx, b, rel); err != nil {
			return nil, err
		}
		r.readAll(d.Join(rel), b)
	}
	st, err := standin.Load(room, &bare)
	if err != nil {
		return nil, err
	}
	r.Maps = st.Maps
	for _, m := range st.Maps {
		place := fault.Place{File: m.Bundle}
		for _, miss := range m.Missing {
			kind := finding.TryMissing
			if miss.Sound {
				kind = finding.TrySilent
			}
			r.Findings = append(r.Findings, kind.At(place, "map %s needs %s: %s", m.Name, miss.Path, miss.Why))
		}
		if m.Error != "" && len(m.Missing) == 0 {
			r.Findings = append(r.Findings, finding.TryUnreadable.At(place, "map %s does not load: %s", m.Name, m.Error))
		}
	}
	finding.Sort(r.Findings)
	return r, nil
}

// readAll reads every entry of a bundle, which checks each one's CRC.
func (r *Result) readAll(file, name string) {
	add := func(err error) {
		r.Findings = append(r.Findings, finding.TryUnreadable.At(fault.Place{File: filepath.Base(name)}, "%v", err))
	}
	b, err := mount.Open(file)
	if err != nil {
		add(err)
		return
	}
	defer b.Close()
	for _, e := range b.Entries() {
		if _, err := b.ReadFile(e.Name); err != nil {
			add(err)
		}
		r.Entries++
	}
}
