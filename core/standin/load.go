// Package standin plays a game server: it loads maps from bundles the way a game would, knowing nothing of the project,
// and answers over HTTP what it has loaded and what is missing.
//
// load.go is the game's side (used by the clean room too), server.go the HTTP answer, client.go asks a server.
package standin

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/bundle"
	"vornix/core/mapfile"
	"vornix/core/material"
	"vornix/core/model"
	walking "vornix/core/path"
	"vornix/core/profile"
	"vornix/core/safefile"
	"vornix/core/sprite"
	"vornix/core/texture"
)

// Status is what a server says about itself.
type Status struct {
	Game     string      `json:"game"`
	Playing  string      `json:"playing"` // the map that is played now; "" when none could be loaded
	Rotation []string    `json:"rotation"`
	Maps     []MapStatus `json:"maps"`
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
	Bots    int       `json:"bots"`    // that set out: from every spawn, to the nearest item that every map must have
	Arrived int       `json:"arrived"` // of them
	Missing []Missing `json:"missing"`
	Error   string    `json:"error,omitempty"`
}

// Missing is a file that a map needs and the bundle doesn't have, or has damaged.
type Missing struct {
	Path  string `json:"path"`
	Why   string `json:"why"`
	Sound bool   `json:"sound"` // a silent place, not a broken surface
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
	for _, e := range found {
		if e.Type().IsRegular() && strings.EqualFold(path.Ext(e.Name()), ending) && !safefile.IsTemp(e.Name()) {
			s.Maps = append(s.Maps, loadBundle(filepath.Join(folder, e.Name()), p)...)
		}
	}
	slices.SortFunc(s.Maps, func(a, b MapStatus) int { return strings.Compare(a.Name+"\x00"+a.Bundle, b.Name+"\x00"+b.Bundle) })
	if listed := readList(dir, p.Server.Maps); p.Server.Maps != "" {
		s.Maps = slices.DeleteFunc(s.Maps, func(m MapStatus) bool { return m.Loaded && !slices.Contains(listed, m.Name) })
		for _, name := range listed {
			if s.Find(name) == nil {
				s.Maps = append(s.Maps, MapStatus{Name: name, Missing: []Missing{}, Error: "it is in " + p.Server.Maps + " and in no bundle"})
			}
		}
	}
	for _, name := range readList(dir, p.Server.Playing) {
		s.Rotation = append(s.Rotation, name)
		if m := s.Find(name); s.Playing == "" && m != nil && m.Loaded {
			s.Playing = name
		}
	}
	return s, nil
}

// readList reads the first word of each line of a list; lines that begin with # are notes.
func readList(dir, file string) []string {
	if file == "" {
		return nil
	}
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
	if err != nil {
		return nil
	}
	var names []string
	for scan := bufio.NewScanner(bytes.NewReader(data)); scan.Scan(); {
		words := strings.Fields(scan.Text())
		if len(words) > 0 && !strings.HasPrefix(words[0], "#") {
			names = append(names, words[0])
		}
	}
	return names
}

func loadBundle(file string, p *profile.Profile) []MapStatus {
	name := filepath.Base(file)
	broken := func(err error) []MapStatus {
		return []MapStatus{{Name: strings.TrimSuffix(name, filepath.Ext(name)), Bundle: name, Missing: []Missing{}, Error: err.Error()}}
	}
	sum, _, err := safefile.HashFile(file)
	if err != nil {
		return broken(err)
	}
	b, err := bundle.Open(file)
	if err != nil {
		return broken(err)
	}
	defer b.Close()
	var list []MapStatus
	add := func(mapName string, data []byte, err error) {
		st := MapStatus{Name: mapName, Bundle: name, SHA256: sum, Missing: []Missing{}}
		if err == nil {
			err = st.load(b, data, p)
		}
		if err != nil {
			st.Error = err.Error()
		}
		list = append(list, st)
	}
	if b.MapData != nil {
		add(strings.TrimSuffix(name, filepath.Ext(name)), b.MapData, nil)
		return list
	}
	for _, e := range b.Entries() {
		if path.Dir(e.Name) == p.Files.Maps && path.Ext(e.Name) == ".vnm" {
			data, err := b.ReadFile(e.Name)
			add(strings.TrimSuffix(path.Base(e.Name), ".vnm"), data, err)
		}
	}
	return list
}

// load reads a map and follows everything it needs inside the bundle.
func (st *MapStatus) load(b *bundle.Reader, data []byte, p *profile.Profile) error {
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
	seen := map[string]bool{}
	need := func(file string, sound bool, check func([]byte) error) {
		if seen[file] || p.HasOwn(file) {
			return
		}
		seen[file] = true
		st.Needs++
		data, err := b.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			err = errors.New("it is not in the bundle")
		}
		if err == nil && check != nil {
			err = check(data)
		}
		if err != nil {
			st.Missing = append(st.Missing, Missing{Path: file, Why: err.Error(), Sound: sound})
		}
	}
	readTexture := func(data []byte) error {
		_, err := texture.Read(data)
		return err
	}
	needMaterial := func(name string) {
		var textures []string
		need(p.MaterialPath(name), false, func(data []byte) (err error) {
			textures, err = material.ParseCompiled(p.MaterialPath(name), data)
			return err
		})
		for _, t := range textures {
			need(t, false, readTexture)
		}
	}
	st.walk(m, p)
	sounds, sprites, models := m.Sounds(), m.Sprites(), m.ItemModels()
	for _, name := range m.Materials() {
		needMaterial(name)
	}
	for _, o := range m.Objects {
		for _, pair := range o.Pairs {
			switch p.Map.Items[strings.TrimPrefix(o.Kind, "item:")][pair[0]].Type {
			case "material":
				needMaterial(pair[1])
			case "sound":
				sounds = append(sounds, pair[1])
			case "sprite":
				sprites = append(sprites, pair[1])
			case "model":
				models = append(models, pair[1])
			}
		}
	}
	for _, name := range models {
		need(p.ModelPath(name), false, func(data []byte) error {
			d, findings := model.Read(p.ModelPath(name), name, data, nil)
			if d == nil {
				return errors.New(findings[0].Text)
			}
			for _, used := range d.Materials() {
				needMaterial(used)
			}
			return nil
		})
	}
	for _, name := range sprites {
		var pages []string
		need(p.SpritePath(name), false, func(data []byte) error {
			index, err := sprite.ReadIndex(data)
			if err == nil {
				pages = index.Pages
			}
			return err
		})
		for _, page := range pages {
			need(page, false, readTexture)
		}
	}
	for _, name := range sounds {
		need(p.SoundPath(name), true, nil)
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

// walk lets a bot walk from every spawn to the nearest of the items that the game says every map must have.
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
				st.Bots++
				if slices.ContainsFunc(m.Objects, func(o mapfile.Object) bool {
					if o.Kind != "item:"+kind {
						return false
					}
					_, ok := walkers[i].Find(at(&m.Objects[s]), at(&o))
					return ok
				}) {
					st.Arrived++
				}
			}
		}
	}
}
