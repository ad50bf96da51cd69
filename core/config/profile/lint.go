package profile

import (
	"maps"
	"path"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
)

// counted are the kinds of things in maps that limits may speak of besides the items of the profile.
var counted = []string{"solid", "light", "spawn", "volume", "probe", "camera", "sound", "prop", "terrain", "area"}

// Lint finds what a profile says that can have no effect, or contradicts itself, although each line is right by itself.
func (p *Profile) Lint() (list []finding.Finding) {
	dead := func(path []any, format string, args ...any) {
		list = append(list, finding.ProfileDead.At(p.at(path), format, args...))
	}
	items := slices.Sorted(maps.Keys(p.Map.Items))
	known := append(slices.Clone(items), counted...)
	unknown := func(path []any, what, name string, known []string) {
		f := finding.ProfileDead.At(p.at(path), "%s speaks of %q, which the profile does not have", what, name)
		if near := suggest.Word(name, known); near != "" {
			f = f.Doing("Did you mean %q?", near)
		}
		list = append(list, f)
	}
	if len(items) > 0 {
		for _, kind := range slices.Sorted(maps.Keys(p.Map.Limits)) {
			if !slices.Contains(known, kind) {
				unknown([]any{"map", "limits", kind}, "the limit", kind, known)
			}
		}
		for i, kind := range p.Map.Required {
			if !slices.Contains(items, kind) {
				unknown([]any{"map", "required", i}, "what every map must have", kind, items)
			}
		}
	}
	for i, s := range p.Game.Since {
		for _, mode := range s.Modes {
			if !slices.Contains(p.Map.Modes, mode) {
				unknown([]any{"game", "since", i, "modes"}, "what only later versions know", mode, p.Map.Modes)
			}
		}
		for _, item := range s.Items {
			if len(items) > 0 && !slices.Contains(items, item) {
				unknown([]any{"game", "since", i, "items"}, "what only later versions know", item, items)
			}
		}
	}
	for i, r := range p.Sounds.Rules {
		if (r.Match == "" || r.Match == "**") && i < len(p.Sounds.Rules)-1 {
			dead([]any{"sounds", "rule", i + 1},
				"the rules for sounds from here on never count: the one before takes every sound")
			break
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Map.Agents)) {
		a := p.Map.Agents[name]
		if p.Map.Headroom > 0 && a.Height > p.Map.Headroom {
			list = append(list,
				finding.ProfileContradicts.At(p.at([]any{"map", "agents", name, "height"}),
					"%s is %g m high, and a spawn needs only %g m of headroom", name, a.Height, p.Map.Headroom))
		}
		if p.Map.SpawnWidth > 0 && 2*a.Radius > p.Map.SpawnWidth {
			list = append(list,
				finding.ProfileContradicts.At(p.at([]any{"map", "agents", name, "radius"}),
					"%s is %g m wide, and a spawn needs only %g m", name, 2*a.Radius, p.Map.SpawnWidth))
		}
	}
	list = append(list, p.unwritten()...)
	for i, a := range p.Map.Modes {
		for _, b := range p.Map.Modes {
			if a != b && strings.Contains(b, a) {
				list = append(list,
					finding.ProfileMode.At(p.at([]any{"map", "modes", i}), "the mode %q is found inside %q", a, b))
			}
		}
	}
	if e := path.Ext(p.Pack.Name); e == "" {
		list = append(list,
			finding.ProfileContradicts.At(p.at([]any{"pack", "name"}),
				"bundles have no ending, so 'vornix sweep' and servers can't tell them from other files").Doing("End the name in the game's own ending, as in {name}.parcel."))
	}
	finding.Sort(list)
	return list
}

// unwritten are the metadata fields that no metadata file has.
func (p *Profile) unwritten() (list []finding.Finding) {
	if len(p.Addon.Files) == 0 {
		return nil
	}
	var text strings.Builder
	all := false // a file without a structure has every field
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case string:
			text.WriteString(v + "\n")
		case map[string]any:
			for _, x := range v {
				walk(x)
			}
		case []any:
			for _, x := range v {
				walk(x)
			}
		}
	}
	for i := range p.Addon.Files {
		f := &p.Addon.Files[i]
		all = all || len(f.Structure) == 0 && f.Template == ""
		walk(map[string]any(f.Structure))
		text.WriteString(f.Template + "\n" + f.Path)
	}
	if all {
		return nil
	}
	for i := range p.Addon.Fields {
		name := p.Addon.Fields[i].Name
		if s := text.String(); !strings.Contains(s, "{"+name+"}") && !strings.Contains(s, "."+name) {
			list = append(list,
				finding.ProfileDead.At(p.at([]any{"addon", "field", i}), "the field %q stands in no metadata file",
					name))
		}
	}
	return list
}

func (p *Profile) at(path []any) fault.Place { return p.Doc.At(path...) }

// Section is a part of a profile, and how much of it is said.
type Section struct {
	Name    string `json:"section"`
	Used    int    `json:"used"`
	Keys    int    `json:"keys"`
	LeftOut string `json:"left_out"` // what holds where nothing is said
}

// sections are the parts of a profile, with what holds without them.
var sections = []struct{ name, without string }{
	{"game", "it must be said"}, {"files", "folders of the usual names, any case, any length"},
	{"textures", "KTX2, rgba8, any size"}, {"materials", "any surface underfoot"},
	{"models", "any model"}, {"sounds", "wav, of any rate and length"},
	{"content", "no scripts, start files or companions"}, {"map", "no rule for maps"},
	{"pack", "one ZIP for the whole project"}, {"addon", "no metadata"}, {"index", "the JSON form of the index only"},
	{"server", "bundles in the server's own folder, no lists"},
	{"workshop", "one item for the project, of the kind mod"}, {"picture", "no pictures"},
	{"sweep", "only what every system leaves behind"}, {"install", "players are asked for the game's folder"},
}

// Sections says how much of each part of the profile is said.
func (p *Profile) Sections() (list []Section) {
	all, used := Keys(), Used(p.Source)
	for _, s := range sections {
		of := func(keys []string) (n int) {
			for _, k := range keys {
				if strings.HasPrefix(k, s.name+".") {
					n++
				}
			}
			return n
		}
		list = append(list, Section{s.name, of(used), of(all), s.without})
	}
	return list
}
