package metadata

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
	"vornix/core/source/scene"
)

// value is a field with its value: a string, a []string, a bool or a float64; a picture is a string.
type value struct {
	field *profile.Field
	value any
	// place is where people write it; computed says that nobody does.
	place    fault.Place
	computed bool
	unknown  bool // it is of the bundles, and they are not packed yet
	about    *about
}

// about is what a file speaks of: the whole project, or one map.
type about struct {
	facts   *Facts
	one     *scene.Map // nil: the project
	bundles []Bundle
	packed  bool
}

// PlannedBundles are the bundles that will be packed, by their names alone. Where the content may
// be split nobody knows how many.
func PlannedBundles(p *project.Project, all []MapFacts) []Bundle {
	values := map[string]string{"name": p.File.Project.Name, "version": p.File.Project.Version, "part": "1"}
	var names []string
	for _, m := range all {
		names = append(names, m.Name)
	}
	if p.Profile.Pack.Form == "mod" {
		return []Bundle{{File: profile.Fill(p.Profile.Pack.Name, values), Maps: names}}
	}
	var list []Bundle
	for _, name := range names {
		values["map"] = name
		list = append(list, Bundle{File: profile.Fill(p.Profile.Pack.Name, values), Maps: []string{name}})
	}
	return list
}

// of narrows what is said of a project to one map.
func (a *about) of(p *project.Project, g *assetgraph.Graph, m *scene.Map) *about {
	n := &about{facts: Look(p, g, []*scene.Map{m}), one: m, packed: a.packed}
	for _, b := range a.bundles {
		if slices.Contains(b.Maps, m.Name) {
			n.bundles = append(n.bundles, b)
		}
	}
	return n
}

// fillFields gives each declared field its value, in the profile's order.
func fillFields(p *project.Project, a *about) []value {
	head := p.File.Project
	var names []string
	for _, m := range a.facts.Maps {
		names = append(names, m.Name)
	}
	title := head.Title
	if a.one != nil && a.one.Title != "" && p.Profile.Pack.Form == "map-file" {
		title = a.one.Title
	}
	var files, hashes []string
	size, count := 0.0, 0.0
	for _, b := range a.bundles {
		files = append(files, b.File)
		hashes = append(hashes, b.SHA256)
		size += float64(b.Size)
		count += float64(b.Files)
	}
	players := a.facts.Players
	computed := map[string]any{
		"title": title, "name": head.Name, "version": head.Version, "authors": head.Authors,
		"description": strings.TrimSpace(head.Description),
		"maps":        names, "map": strings.Join(names, " "), "map_count": float64(len(names)), "modes": a.facts.Modes,
		"players": fmt.Sprintf("%d-%d", players[0], players[1]), "players_least": float64(players[0]),
		"players_most": float64(players[1]),
		"kinds":        a.facts.Kinds, "game_version": a.facts.Game,
		"bundles": files, "bundle": strings.Join(files, " "), "size": size, "files": count, "hash": hashes,
	}
	var list []value
	for i := range p.Profile.Addon.Fields {
		f := &p.Profile.Addon.Fields[i]
		v := value{field: f, about: a, value: p.File.Addon[f.Name], place: p.Doc.At("addon", f.Name)}
		switch f.From {
		case "":
			if v.value == nil && len(f.Holds) > 0 { // what nobody said is what ships
				v.value, v.computed = slices.ContainsFunc(a.facts.Paths,
					func(rel string) bool { return matches(f.Holds, rel) }), true
			}
		case "content":
			v.value, v.computed = slices.ContainsFunc(a.facts.Paths,
				func(rel string) bool { return matches(f.Holds, rel) }), true
		case "picture":
			v.value, v.computed = pictureFiles(p, f.Picture, names), true
		default:
			v.value, v.computed = computed[f.From], true
			v.unknown = f.OfBundle() && !a.packed
			if slices.Contains([]string{"title", "name", "version", "authors", "description"}, f.From) {
				v.place, v.computed = p.Doc.At("project", f.From), false
			}
		}
		v.typed()
		list = append(list, v)
	}
	return list
}

// typed brings a value into the type that the profile declares, where it can be told how.
func (v *value) typed() {
	switch got := v.value.(type) {
	case []any:
		words := make([]string, len(got))
		for i, w := range got {
			words[i] = fmt.Sprint(w)
		}
		v.value = words
	case int64:
		v.value = float64(got)
	}
	words, isList := v.value.([]string)
	switch {
	case v.value == nil || isList && words == nil:
		v.value = map[string]any{"text": "", "picture": "", "list": []string{}, "flag": false,
			"number": 0.0}[v.field.Type]
	case isList && v.field.From != "" && v.field.Type != "list":
		v.value = strings.Join(words, ", ")
	}
}

// pictureFiles are the names of one of the profile's pictures.
func pictureFiles(p *project.Project, name string, of []string) (list []string) {
	i := slices.IndexFunc(p.Profile.Pictures, func(x profile.Picture) bool { return x.Name == name })
	if i < 0 {
		return nil
	}
	x := p.Profile.Pictures[i]
	if x.Each == "mod" {
		of = []string{""}
	}
	variants, _ := x.Sizes()
	for _, m := range of {
		for n := 1; n <= max(x.Least, 1); n++ {
			for _, v := range variants {
				rel := profile.Fill(x.File,
					map[string]string{"map": m, "name": p.File.Project.Name, "version": p.File.Project.Version,
						"variant": v, "n": strconv.Itoa(n)})
				if x.Form == profile.Texture {
					rel = p.Profile.TexturePath(rel)
				}
				list = append(list, rel)
			}
		}
	}
	return list
}

// scope is what can be filled into a file, by name.
type scope map[string]any

func scopeOf(values []value) scope {
	s := scope{}
	for _, v := range values {
		s[v.field.Name] = v.value
	}
	return s
}

// with is the scope and more.
func (s scope) with(more scope) scope {
	n := maps.Clone(s)
	maps.Copy(n, more)
	return n
}

func mapScope(m MapFacts, file string) scope {
	return scope{"map.name": m.Name, "map.title": m.Title, "map.modes": append([]string{}, m.Modes...),
		"map.players": fmt.Sprintf("%d-%d", m.Players[0], m.Players[1]),
		"map.least":   float64(m.Players[0]), "map.most": float64(m.Players[1]), "map.file": file, "map.game": m.Game}
}

func bundleScope(b Bundle) scope {
	stem := strings.TrimSuffix(b.File, path.Ext(b.File))
	return scope{"bundle.file": b.File, "bundle.stem": stem, "bundle.size": float64(b.Size), "bundle.sha256": b.SHA256,
		"bundle.files": float64(b.Files), "bundle.maps": append([]string{}, b.Maps...)}
}

// languageScope is a language's texts, with those of the main one where it has none.
func languageScope(p *project.Project, main, l *Language) scope {
	s := scope{"language": l.Code}
	var texts Table
	for _, key := range slices.Sorted(maps.Keys(main.Texts)) {
		text := l.Texts[key]
		if strings.TrimSpace(text) == "" {
			text = main.Texts[key]
		}
		texts = append(texts, Pair{key, text})
	}
	s["texts"] = texts
	for _, f := range p.Profile.Addon.Fields {
		if text := l.Addon[f.Name]; f.Translated && strings.TrimSpace(text) != "" {
			s[f.Name] = strings.TrimSpace(text)
		}
	}
	return s
}

// written is the text of a field in the main language.
func written(p *project.Project, name string) string {
	f := p.Profile.Field(name)
	if f == nil {
		return ""
	}
	switch f.From {
	case "title":
		return p.File.Project.Title
	case "description":
		return strings.TrimSpace(p.File.Project.Description)
	}
	text, _ := p.File.Addon[name].(string)
	return strings.TrimSpace(text)
}
