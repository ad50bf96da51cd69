package gamefs

import (
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/config/profile"
	"vornix/core/format/mapfile"
)

// GameMap is a map of an installed game, or of a bundle that is installed in it: what it uses, by
// path in the game, and what it carries itself.
type GameMap struct {
	Name          string
	In            string // the file that it lies in, as a slash path in the game's folder
	Uses, Carries map[string]bool
}

// GameMaps reads the maps of an installed game: those in its own folder of maps, and those in
// bundles where an installer puts them. What can't be read is the game's own affair, and passed
// over.
func GameMaps(p *profile.Profile, dir string) (list []GameMap) {
	names, _ := filepath.Glob(filepath.Join(dir, filepath.FromSlash(p.Files.Maps), "*.vnm")) // the pattern is good
	if p.Install.To != "" {
		more, _ := filepath.Glob(filepath.Join(dir, filepath.FromSlash(p.Install.To), "*")) // as above
		names = append(names, more...)
	}
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() {
			continue
		}
		b, err := Open(name)
		if err != nil {
			continue
		}
		list = append(list, mapsOf(p, dir, b)...)
		_ = b.Close() // it was only read
	}
	return list
}

func mapsOf(p *profile.Profile, dir string, b *Bundle) (list []GameMap) {
	rel, err := filepath.Rel(dir, filepath.FromSlash(b.Name()))
	if err != nil {
		rel = b.Name()
	}
	carries := map[string]bool{}
	for _, e := range b.Entries() {
		carries[e.Name] = true
	}
	read := func(gamePath string) ([]byte, error) {
		data, err := b.ReadFile(gamePath)
		if errors.Is(err, os.ErrNotExist) {
			return os.ReadFile(filepath.Join(dir, filepath.FromSlash(gamePath)))
		}
		return data, err
	}
	add := func(data []byte) {
		m, err := mapfile.Read(data)
		if err != nil {
			return
		}
		g := GameMap{Name: m.Meta.Name, In: filepath.ToSlash(rel), Uses: map[string]bool{}, Carries: carries}
		for _, n := range Follow(p, p.MapPath(m.Meta.Name), m, read, func(at string) { g.Uses[at] = true }) {
			g.Uses[n.Path] = true
		}
		list = append(list, g)
	}
	if b.MapData != nil {
		add(b.MapData)
		return list
	}
	for _, e := range b.Entries() {
		if strings.EqualFold(path.Ext(e.Name), ".vnm") && path.Dir(e.Name) == p.Files.Maps {
			if data, err := b.ReadFile(e.Name); err == nil {
				add(data)
			}
		}
	}
	return list
}
