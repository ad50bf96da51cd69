package check

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/leakscan"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/audio"
	"vornix/core/format/zipfile"
	"vornix/core/game/gamefs"
	"vornix/core/source/assetgraph"
)

// sounds reads the sounds that ship and holds them to what the game plays.
func sounds(ctx context.Context, p *project.Project, shipped []*assetgraph.Asset) ([]finding.Finding, error) {
	return each(ctx, shipped, func(a *assetgraph.Asset) []finding.Finding {
		if a.Kind != assetgraph.Sound {
			return nil
		}
		place := fault.Place{File: a.Source}
		data, err := os.ReadFile(p.Join(a.Source))
		if err != nil {
			return []finding.Finding{finding.SoundUnreadable.At(place, "the sound can't be read: %v",
				errors.Unwrap(err))}
		}
		info, err := audio.Read(data)
		if err != nil {
			return []finding.Finding{finding.SoundUnreadable.At(place, "the sound can't be read: %v", err)}
		}
		return Sound(p.Profile, a.Name, a.Source, info)
	})
}

// each looks at assets side by side; the findings come in their order.
func each(ctx context.Context, list []*assetgraph.Asset,
	look func(*assetgraph.Asset) []finding.Finding) ([]finding.Finding, error) {
	results := make([][]finding.Finding, len(list))
	readers, ctx := group.WithContext(ctx)
	readers.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range list {
		readers.Go(func() error {
			results[i] = look(a)
			return ctx.Err()
		})
	}
	if err := readers.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(results...), nil
}

// Sound holds a sound to the game's rules.
func Sound(p *profile.Profile, name, source string, info audio.Info) (list []finding.Finding) {
	place := fault.Place{File: source}
	say := func(k *finding.Kind, format string, args ...any) {
		list = append(list, k.At(place, format, args...))
	}
	game := p.Game.Title
	if !slices.Contains(p.Sounds.Forms, string(info.Form)) {
		say(finding.SoundForm, "the sound is %s, and %s reads %s", info.Form, game, strings.Join(p.Sounds.Forms, ", "))
	}
	if ending := strings.ToLower(strings.TrimPrefix(path.Ext(source), ".")); ending != string(info.Form) {
		say(finding.SoundForm, "the file is %s, and its name ends in .%s", info.Form, ending)
	}
	r := p.Sounds.Rule(name)
	if r == nil {
		return list
	}
	in := func(k *finding.Kind, value int, allowed []int, unit string) {
		if len(allowed) > 0 && value > 0 && !slices.Contains(allowed, value) {
			say(k, "the sound has %d %s; %s plays %s", value, unit, game, strings.Trim(fmt.Sprint(allowed), "[]"))
		}
	}
	in(finding.SoundRate, info.Rate, r.Rates, "samples a second")
	in(finding.SoundChannels, info.Channels, r.Channels, "channels")
	in(finding.SoundBits, info.Bits, r.Bits, "bits a sample")
	seconds := info.Length().Seconds()
	if r.Longest > 0 && seconds > r.Longest {
		say(finding.SoundLong, "the sound plays %.1f s; %s takes %g s", seconds, game, r.Longest)
	}
	switch {
	case r.Loop == "must" && info.Loop == nil:
		say(finding.SoundLoop, "the sound does not say where it repeats")
	case r.Loop == "never" && info.Loop != nil:
		say(finding.SoundLoop, "the sound says that it repeats")
	case info.Loop != nil && info.Samples > 0 &&
		(info.Loop[0] >= info.Samples || info.Loop[1] > info.Samples || info.Loop[1] > 0 &&
			info.Loop[1] <= info.Loop[0]):
		say(finding.SoundLoop, "the sound repeats from sample %d to %d, and has %d", info.Loop[0], info.Loop[1],
			info.Samples)
	}
	if info.Clipped > 0 && !r.Clipping {
		say(finding.SoundClipped, "%d samples of %d are clipped", info.Clipped, info.Samples*int64(info.Channels))
	}
	for _, end := range []struct {
		samples int64
		where   string
	}{{info.SilentStart, "begins"}, {info.SilentEnd, "ends"}} {
		if t := info.Time(end.samples); info.Heard && r.Silence > 0 && t.Seconds() > r.Silence {
			say(finding.SoundSilence, "the sound %s with %v of silence", end.where, t.Round(10*time.Millisecond))
		}
	}
	return list
}

// twins finds files that are one on some systems.
func twins(g *assetgraph.Graph) (list []finding.Finding) {
	folded := map[string]string{}
	for _, f := range g.Files {
		fold := zipfile.Fold(f.Path)
		if other, ok := folded[fold]; ok {
			list = append(list,
				finding.FileTwin.At(fault.Place{File: f.Path}, "%s and %s are one file on some systems", other, f.Path))
		} else {
			folded[fold] = f.Path
		}
	}
	return list
}

// duplicates finds sources that ship with the same content as others. Only those of the same size are read.
func duplicates(ctx context.Context, p *project.Project, g *assetgraph.Graph,
	shipped []*assetgraph.Asset) ([]finding.Finding, error) {
	sizes := map[string]int64{}
	for _, f := range g.Files {
		sizes[f.Path] = f.Size
	}
	bySize := map[[2]any][]*assetgraph.Asset{}
	for _, a := range shipped {
		if a.Kind != assetgraph.Material && a.Kind != assetgraph.Map && sizes[a.Source] > 0 {
			k := [2]any{a.Kind, sizes[a.Source]}
			bySize[k] = append(bySize[k], a)
		}
	}
	var alike []*assetgraph.Asset
	for _, a := range shipped { // in their order
		if len(bySize[[2]any{a.Kind, sizes[a.Source]}]) > 1 {
			alike = append(alike, a)
		}
	}
	sums := make([]string, len(alike))
	readers, ctx := group.WithContext(ctx)
	readers.SetLimit(runtime.GOMAXPROCS(0))
	for i, a := range alike {
		readers.Go(func() error {
			sums[i], _, _ = safefile.HashFile(p.Join(a.Source)) // one that can't be read has its own finding
			return ctx.Err()
		})
	}
	if err := readers.Wait(); err != nil {
		return nil, err
	}
	first := map[string]*assetgraph.Asset{}
	var list []finding.Finding
	for i, a := range alike {
		k := string(a.Kind) + sums[i]
		if other := first[k]; other == nil {
			first[k] = a
		} else if sums[i] != "" && (a.Kind != assetgraph.Texture || sameMaking(p, a, other)) {
			list = append(list,
				finding.FileSame.At(fault.Place{File: a.Source}, "it has the same content as %s", other.Source))
		}
	}
	return list, nil
}

// sameMaking says whether two textures of the same image are made in the same way; else they are two things.
func sameMaking(p *project.Project, a, b *assetgraph.Asset) bool {
	x, y := a.Recipe(p), b.Recipe(p)
	return fmt.Sprintf("%+v", x) == fmt.Sprintf("%+v", y)
}

// overrides finds files that ship in the place of the game's own, and says which maps will look different.
func overrides(p *project.Project, shipped []*assetgraph.Asset) (list []finding.Finding) {
	var found []*assetgraph.Asset
	for _, a := range shipped {
		if p.Profile.HasOwn(assetgraph.GamePath(p, a)) {
			found = append(found, a)
		}
	}
	if found == nil {
		return nil
	}
	var game []gamefs.GameMap
	if p.Profile.OwnFolder != "" {
		game = gamefs.GameMaps(p.Profile, p.Profile.OwnFolder)
	}
	for _, a := range found {
		at := assetgraph.GamePath(p, a)
		word := "lies where the game's own files are"
		if p.Profile.Knows(at) {
			word = "replaces the game's own file"
		}
		f := finding.FileOverrides.At(fault.Place{File: a.Source}, "%s %s", at, word)
		var touched, apart []string
		for _, m := range assetgraph.MapsOf(a) {
			touched = append(touched, m.Name)
		}
		if a.Kind == assetgraph.Map {
			touched = append(touched, a.Name)
		}
		for _, m := range game {
			switch {
			case m.Carries[at]:
				apart = append(apart, m.Name)
			case m.Uses[at]:
				touched = append(touched, m.Name+" (the game's)")
			}
		}
		if len(touched) > 0 {
			f.Text += "; it changes " + strings.Join(touched, ", ")
		}
		if len(apart) > 0 {
			f.Text += "; it does not change " + strings.Join(apart, ", ") + ", which have their own"
		}
		list = append(list, f)
	}
	return list
}

// maxGuarded is the largest file that check looks into for what must not ship; pack looks at every byte of all.
const maxGuarded = 4 << 20

// guarded finds what must not ship among the files that ship as they are.
func guarded(ctx context.Context, p *project.Project, g *assetgraph.Graph,
	shipped []*assetgraph.Asset) ([]finding.Finding, error) {
	list := slices.DeleteFunc(slices.Clone(shipped), func(a *assetgraph.Asset) bool { return !a.IsContent() })
	for _, f := range g.Files {
		if f.Path != project.FileName && f.Path != p.ProfilePath && !g.Takes(f.Path) && p.Included(f.Path) {
			list = append(list, &assetgraph.Asset{Source: f.Path})
		}
	}
	return each(ctx, list, func(a *assetgraph.Asset) (found []finding.Finding) {
		at := a.Source
		if a.IsContent() {
			at = assetgraph.GamePath(p, a)
		}
		hits := []leakscan.Hit{}
		if h, bad := leakscan.Name(at); bad {
			hits = append(hits, h)
		} else if info, err := os.Stat(p.Join(a.Source)); err == nil && info.Size() <= maxGuarded {
			data, _ := os.ReadFile(p.Join(a.Source)) // what can't be read has its own finding
			hits = leakscan.Scan(data)
		}
		for _, h := range hits {
			if _, ok := p.Exception(at, string(h.Sort)); !ok {
				found = append(found, Guarded(h, fault.Place{File: a.Source, Line: h.Line}, at))
			}
		}
		return found
	})
}

// Guarded says what the guard found in a file; name is its path in the game, as exceptions write it.
func Guarded(h leakscan.Hit, at fault.Place, name string) finding.Finding {
	kinds := map[leakscan.Sort]*finding.Kind{leakscan.Source: finding.GuardSource, leakscan.Backup: finding.GuardBackup,
		leakscan.Secret: finding.GuardSecret, leakscan.Home: finding.GuardHome}
	f := kinds[h.Sort].At(at, "%s must not ship: it has %s", name, h)
	if h.At < 0 {
		f.Text = name + " must not ship: it is " + h.What
	}
	return f.Doing("%s If it must ship, say why: [[pack.exception]] with file = %q, allow = [%q] and a reason.", f.Do,
		name, h.Sort)
}
