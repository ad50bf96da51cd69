// Package gameserver plays a game server: it loads maps from bundles the way a game would, knowing
// nothing of the project, and answers over HTTP what it has loaded and what is missing.
//
// load.go is the game's side (used by the clean room too), server.go the HTTP answer, client.go asks a server.
package gameserver

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/safefile"
	walking "vornix/core/compile/pathfind"
	"vornix/core/config/profile"
	"vornix/core/format/mapfile"
	"vornix/core/game/gamefs"
	"vornix/core/game/serverlist"
)

// Status is what a server says about itself.
type Status struct {
	Game     string      `json:"game"`
	Playing  string      `json:"playing"` // the map that is played now; "" when none could be loaded
	Rotation []string    `json:"rotation"`
	Maps     []MapStatus `json:"maps"`
	Loads    int         `json:"loads,omitempty"`   // how often it has loaded its folder
	Failing  string      `json:"failing,omitempty"` // how it goes wrong, as it was told to
	Players  *Players    `json:"players,omitempty"` // simulated ones
}

// MapStatus is what a server says about one map.
type MapStatus struct {
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Bundle  string    `json:"bundle"` // the file it came from
	SHA256  string    `json:"sha256"` // of that file
	Loaded  bool      `json:"loaded"`
	Spawns  int       `json:"spawns"`
	Objects int       `json:"objects"`
	Faces   int       `json:"faces"`
	Cells   int       `json:"cells"`
	Needs   int       `json:"needs"`   // files it needs, all told
	Bots    int       `json:"bots"`    // that set out: from every spawn, to each item that every map must have
	Arrived int       `json:"arrived"` // of them
	Stuck   []Stuck   `json:"stuck"`   // those that did not
	Missing []Missing `json:"missing"`
	Error   string    `json:"error,omitempty"`
}

// Missing is a file that a map needs and the bundle doesn't have, or has damaged.
type Missing struct {
	Path  string `json:"path"`
	Why   string `json:"why"`
	By    string `json:"by"`    // the file that names it
	Sound bool   `json:"sound"` // a silent place, not a broken surface
}

// Stuck is a bot that found no way.
type Stuck struct {
	Spawn string `json:"spawn"`
	Goal  string `json:"goal"`
}

// Find returns the status of a map; nil when the server does not have it.
func (s *Status) Find(name string) *MapStatus {
	for i := range s.Maps {
		if s.Maps[i].Name == name {
			return &s.Maps[i]
		}
	}
	return nil
}

// Load does what a game server does when it starts in the folder dir: opens the bundles that lie where the game looks,
// loads every map in them, and reads its lists. A broken bundle is a map that isn't loaded, with the reason.
func Load(dir string, p *profile.Profile) (*Status, error) {
	s := &Status{Game: p.Game.Title, Rotation: []string{}, Maps: []MapStatus{}}
	folder := filepath.Join(dir, filepath.FromSlash(p.Server.Bundles))
	found, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	ending := path.Ext(p.Pack.Name)
	set := &shelf{alone: p.Pack.Form != "mod"}
	defer set.close()
	for _, e := range found {
		if e.Type().IsRegular() && strings.EqualFold(path.Ext(e.Name()), ending) && !safefile.IsTemp(e.Name()) {
			set.add(filepath.Join(folder, e.Name()))
		}
	}
	for i := range set.list {
		s.Maps = append(s.Maps, set.maps(&set.list[i], p)...)
	}
	slices.SortFunc(s.Maps,
		func(a, b MapStatus) int { return strings.Compare(a.Name+"\x00"+a.Bundle, b.Name+"\x00"+b.Bundle) })
	if listed := readList(dir, p, p.Server.Maps); p.Server.Maps != "" {
		s.Maps = slices.DeleteFunc(s.Maps,
			func(m MapStatus) bool { return m.Loaded && !slices.Contains(listed, m.Name) })
		for _, name := range listed {
			if s.Find(name) == nil {
				s.Maps = append(s.Maps,
					MapStatus{Name: name, Missing: []Missing{}, Stuck: []Stuck{},
						Error: "it is in " + p.Server.Maps + " and in no bundle"})
			}
		}
	}
	for _, name := range readList(dir, p, p.Server.Playing) {
		s.Rotation = append(s.Rotation, name)
		if m := s.Find(name); s.Playing == "" && m != nil && m.Loaded {
			s.Playing = name
		}
	}
	return s, nil
}

// readList reads the maps of a list, as the profile describes it. One that can't be read has none.
func readList(dir string, p *profile.Profile, file string) (names []string) {
	rule := p.Server.List(file)
	if rule == nil {
		return nil
	}
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
	if err != nil {
		return nil
	}
	l, err := serverlist.Read(rule, data)
	if err != nil {
		return nil
	}
	for _, e := range l.Entries() {
		names = append(names, e.Map)
	}
	return names
}

// shelf is the bundles that lie where the game looks. Those of a mod are seen together, as parts of
// one whole; a map's is seen alone, since players may have no other.
type shelf struct {
	list  []shelved
	alone bool
}

type shelved struct {
	file, sum string
	bundle    *gamefs.Bundle
	err       error
}

func (s *shelf) add(file string) {
	b := shelved{file: file}
	if b.sum, _, b.err = safefile.HashFile(file); b.err == nil {
		b.bundle, b.err = gamefs.Open(file)
	}
	s.list = append(s.list, b)
}

func (s *shelf) close() {
	for _, b := range s.list {
		if b.bundle != nil {
			b.bundle.Close()
		}
	}
}

// read gives a file out of a bundle, or out of the others. A map that another one leads to is a
// bundle of its own, also where each is alone.
func (s *shelf) read(first *gamefs.Bundle, p *profile.Profile, name string) ([]byte, error) {
	data, err := first.ReadFile(name)
	isMap := path.Dir(name) == p.Files.Maps && path.Ext(name) == ".vnm"
	if !errors.Is(err, fs.ErrNotExist) || s.alone && !isMap {
		return data, err
	}
	for _, b := range s.list {
		// the map that carries the bundle
		if isMap && b.bundle != nil && b.bundle.MapData != nil && filepath.Base(b.file) == path.Base(name) {
			return b.bundle.MapData, nil
		}
		if b.bundle != nil && b.bundle.MapData == nil {
			if data, err := b.bundle.ReadFile(name); !errors.Is(err, fs.ErrNotExist) {
				return data, err
			}
		}
	}
	return nil, err
}

// maps loads the maps of a bundle.
func (s *shelf) maps(b *shelved, p *profile.Profile) []MapStatus {
	name := filepath.Base(b.file)
	if b.err != nil {
		return []MapStatus{{Name: strings.TrimSuffix(name, filepath.Ext(name)), Bundle: name, Missing: []Missing{},
			Stuck: []Stuck{}, Error: b.err.Error()}}
	}
	var list []MapStatus
	add := func(mapName string, data []byte, err error) {
		st := MapStatus{Name: mapName, Bundle: name, SHA256: b.sum, Missing: []Missing{}, Stuck: []Stuck{}}
		if err == nil {
			err = st.load(data, p, func(file string) ([]byte, error) { return s.read(b.bundle, p, file) })
		}
		if err != nil {
			st.Error = err.Error()
		}
		list = append(list, st)
	}
	if b.bundle.MapData != nil {
		add(strings.TrimSuffix(name, filepath.Ext(name)), b.bundle.MapData, nil)
		return list
	}
	for _, e := range b.bundle.Entries() {
		if path.Dir(e.Name) == p.Files.Maps && path.Ext(e.Name) == ".vnm" {
			data, err := b.bundle.ReadFile(e.Name)
			add(strings.TrimSuffix(path.Base(e.Name), ".vnm"), data, err)
		}
	}
	return list
}

// load reads a map and follows everything it needs.
func (st *MapStatus) load(data []byte, p *profile.Profile, read func(string) ([]byte, error)) error {
	m, err := mapfile.Read(data)
	if err != nil {
		return err
	}
	if m.Meta.Name != st.Name {
		return fmt.Errorf("the file says %q and the map inside %q", st.Name, m.Meta.Name)
	}
	st.Title, st.Faces, st.Objects, st.Spawns = m.Meta.Title, len(m.Faces), len(m.Objects), m.Count("spawn")
	for _, g := range m.Grids {
		st.Cells += len(g.Cells)
	}
	st.walk(m, p)
	for _, n := range gamefs.Follow(p, p.MapPath(st.Name), m, read, nil) {
		st.Needs++
		if n.Why != "" {
			st.Missing = append(st.Missing, Missing{Path: n.Path, Why: n.Why, By: n.By, Sound: n.Sound})
		}
	}
	st.Loaded = true
	for _, miss := range st.Missing {
		st.Loaded = st.Loaded && miss.Sound
	}
	if !st.Loaded {
		return fmt.Errorf("%d of the %d files it needs are missing or damaged", len(st.Missing), st.Needs)
	}
	return nil
}

// walk lets a bot walk from every spawn to each of the items that the game says every map must have.
func (st *MapStatus) walk(m *mapfile.Map, p *profile.Profile) {
	at := func(o *mapfile.Object) walking.Point {
		return walking.Point{float64(o.A[0]), float64(o.A[1]), float64(o.A[2])}
	}
	walkers := walking.Walkers(m)
	for _, kind := range p.Map.Required {
		for i := range walkers {
			for s := range m.Objects {
				if m.Objects[s].Kind != "spawn" {
					continue
				}
				for o := range m.Objects {
					if m.Objects[o].Kind != "item:"+kind {
						continue
					}
					st.Bots++
					if _, ok := walkers[i].Find(at(&m.Objects[s]), at(&m.Objects[o])); ok {
						st.Arrived++
					} else {
						st.Stuck = append(st.Stuck,
							Stuck{Spawn: m.Objects[s].Name, Goal: kind + " " + m.Objects[o].Name})
					}
				}
			}
		}
	}
}
