package gamefs

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/config/profile"
	"vornix/core/format/audio"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/format/model"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
)

// Need is a file that a map needs, directly or through others.
type Need struct {
	Path  string // in the game
	By    string // the file that named it
	Sound bool   // without it there is silence, not a broken surface
	Why   string // why it can't be used; empty when it can
}

// ErrNotThere says that nobody has a file.
var ErrNotThere = errors.New("it is not in the bundle")

// Follow goes after all that a map needs, each file once, in the order in which a game would come
// to them. read gives files by their path in the game; those of the game's own are passed over. own
// says what is to be done with those: nil passes them over, else it is told of each.
func Follow(p *profile.Profile, mapPath string, m *mapfile.Map, read func(gamePath string) ([]byte, error),
	own func(gamePath string)) []Need {
	f := &follower{p: p, read: read, own: own, seen: map[string]bool{mapPath: true}}
	for _, name := range m.Materials() {
		f.material(name, mapPath)
	}
	sounds, sprites, models := m.Sounds(), m.Sprites(), m.ItemModels()
	for _, o := range m.Objects {
		for _, pair := range o.Pairs {
			if kind := p.Map.Items[strings.TrimPrefix(o.Kind, "item:")][pair[0]].Type; pair[1] != "" {
				f.named(kind, pair[1], mapPath)
			}
		}
	}
	for _, name := range models {
		f.model(name, mapPath)
	}
	for _, name := range sprites {
		f.sprite(name, mapPath)
	}
	for _, name := range sounds {
		f.sound(name, mapPath)
	}
	for i := range p.Contents {
		if c := &p.Contents[i]; c.With != "" {
			at := c.Path(c.Companion(m.Meta.Name))
			if _, err := f.read(at); err == nil || c.Required {
				f.content(c, []string{at}, mapPath)
			}
		}
	}
	return f.list
}

// Text goes after all that a text of a content names.
func Text(p *profile.Profile, c *profile.Content, gamePath string, read func(gamePath string) ([]byte, error)) []Need {
	f := &follower{p: p, read: read, seen: map[string]bool{}}
	f.content(c, []string{gamePath}, "")
	return f.list
}

type follower struct {
	p    *profile.Profile
	read func(string) ([]byte, error)
	own  func(string)
	list []Need
	seen map[string]bool
}

// need takes the first of some paths that is there, and looks into it.
func (f *follower) need(paths []string, by string, quiet bool, check func(at string, data []byte) error) {
	if slices.ContainsFunc(paths, func(at string) bool { return f.seen[at] }) {
		return
	}
	for _, at := range paths {
		f.seen[at] = true
	}
	n := Need{Path: paths[0], By: by, Sound: quiet}
	err := error(nil)
	var data []byte
	for _, at := range paths {
		if data, err = f.read(at); !errors.Is(err, fs.ErrNotExist) {
			n.Path = at
			break
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		for _, at := range paths {
			if f.p.HasOwn(at) {
				if f.own != nil {
					f.own(at)
				}
				return
			}
		}
		err = ErrNotThere
	}
	place := len(f.list)
	f.list = append(f.list, n)
	if err == nil && check != nil {
		err = check(n.Path, data)
	}
	if err != nil {
		f.list[place].Why = err.Error()
	}
}

// named is what a property of an item, or a text, names by its kind.
func (f *follower) named(kind, name, by string) {
	switch kind {
	case "material":
		f.material(name, by)
	case "texture":
		f.texture(f.p.TexturePath(name), by)
	case "sound":
		f.sound(name, by)
	case "sprite":
		f.sprite(name, by)
	case "model":
		f.model(name, by)
	case "map":
		f.need([]string{f.p.MapPath(name)}, by, false, func(_ string, data []byte) error {
			_, err := mapfile.Open(data)
			return err
		})
	case "path":
		f.need([]string{path.Clean(strings.ReplaceAll(name, `\`, "/"))}, by, false, nil)
	default:
		if c := f.p.Content(kind); c != nil {
			f.content(c, c.Paths(name), by)
		}
	}
}

func (f *follower) texture(at, by string) {
	f.need([]string{at}, by, false, func(_ string, data []byte) error {
		_, err := texture.Read(data)
		return err
	})
}

func (f *follower) material(name, by string) {
	at := f.p.MaterialPath(name)
	f.need([]string{at}, by, false, func(_ string, data []byte) error {
		textures, err := material.ParseCompiled(at, data)
		for _, t := range textures {
			f.texture(t, at)
		}
		return err
	})
}

func (f *follower) sound(name, by string) {
	f.need(f.p.SoundPaths(name), by, true, func(_ string, data []byte) error {
		_, err := audio.Read(data)
		return err
	})
}

func (f *follower) sprite(name, by string) {
	at := f.p.SpritePath(name)
	f.need([]string{at}, by, false, func(_ string, data []byte) error {
		index, err := sprite.ReadIndex(data)
		if err != nil {
			return err
		}
		for _, page := range index.Pages {
			f.texture(page, at)
		}
		return nil
	})
}

func (f *follower) model(name, by string) {
	at := f.p.ModelPath(name)
	f.need([]string{at}, by, false, func(_ string, data []byte) error {
		d, findings := model.Read(at, name, data, nil)
		if d == nil {
			return errors.New(findings[0].Text)
		}
		for _, used := range d.Materials() {
			f.material(used, at)
		}
		return nil
	})
}

// content reads a text and goes after what it names.
func (f *follower) content(c *profile.Content, paths []string, by string) {
	f.need(paths, by, false, func(at string, data []byte) error {
		if !c.IsText() {
			return nil
		}
		t, err := charset.Read(data, c.Encoding)
		if err != nil {
			return err
		}
		for _, r := range c.References(t.Content) {
			if r.Kind != "spawn" {
				f.named(r.Kind, r.Name, at)
			}
		}
		return t.Check(c.Form)
	})
}

// NeedsOf goes after all that a file in the game refers to: a map, material, model, sprite, texture or
// text, told apart by where it lies. The first in the list is the file itself.
func NeedsOf(p *profile.Profile, gamePath string, read func(gamePath string) ([]byte, error)) []Need {
	f := &follower{p: p, read: read, seen: map[string]bool{}}
	below := func(dir, ending string) (string, bool) {
		rel, ok := strings.CutPrefix(gamePath, dir+"/")
		name, ok2 := strings.CutSuffix(rel, ending)
		return name, ok && ok2
	}
	if _, ok := below(p.Files.Maps, ".vnm"); ok {
		list := []Need{{Path: gamePath}}
		data, err := read(gamePath)
		var m *mapfile.Map
		if err == nil {
			m, err = mapfile.Read(data)
		}
		if err != nil {
			list[0].Why = err.Error()
			return list
		}
		return append(list, Follow(p, gamePath, m, read, nil)...)
	}
	if name, ok := below(p.Files.Materials, ".toml"); ok {
		f.material(name, "")
	} else if name, ok := below(p.Files.Models, ".glb"); ok {
		f.model(name, "")
	} else if name, ok := below(p.Files.Sprites, ".json"); ok {
		f.sprite(name, "")
	}
	for i := range p.Contents {
		c := &p.Contents[i]
		if rel, ok := strings.CutPrefix(gamePath, c.To+"/"); ok && len(f.list) == 0 && c.Takes(rel) {
			f.content(c, []string{gamePath}, "")
		}
	}
	if len(f.list) == 0 {
		f.need([]string{gamePath}, "", false, nil)
	}
	return f.list
}
