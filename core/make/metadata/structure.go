package metadata

import (
	"cmp"
	"slices"
	"strings"

	"vornix/core/base/template"
	"vornix/core/config/profile"
	"vornix/core/config/project"
)

// Table is what a file holds, in its order.
type Table []Pair

// Pair is a key with its value: a string, []string, bool, float64, Table or []Table.
type Pair struct {
	Key   string
	Value any
}

// builder makes the content of one file.
type builder struct {
	p         *project.Project
	about     *about
	main      *Language
	languages []Language
}

// flat is all fields one below the other; inside a bundle those that speak of it are left out.
func (b *builder) flat(values []value, s scope, inside bool) Table {
	t := Table{}
	for _, v := range values {
		if !inside || !v.field.OfBundle() {
			t = append(t, Pair{v.field.Name, s[v.field.Name]})
		}
	}
	return t
}

// table fills a table of a structure; path is where it stands in the profile, whose order is kept.
// One with for_each becomes several.
func (b *builder) table(m map[string]any, path []any, s scope) any {
	each, _ := m[profile.ForEach].(string)
	if each == "" {
		return b.one(m, path, s)
	}
	list := []Table{}
	for _, item := range b.items(each, s) {
		list = append(list, b.one(m, path, s.with(item)))
	}
	return list
}

func (b *builder) one(m map[string]any, path []any, s scope) Table {
	t := Table{}
	for _, key := range b.keys(m, path) {
		here := append(slices.Clone(path), key)
		var v any
		switch x := m[key].(type) {
		case map[string]any:
			v = b.table(x, here, s)
		case string:
			v = filled(x, s)
		case []any:
			words := []string{}
			for _, item := range x {
				text := template.Text(item)
				if part, ok := filled(text, s).([]string); ok { // a list within a list is part of it
					words = append(words, part...)
				} else {
					words = append(words, template.Text(filled(text, s)))
				}
			}
			v = words
		case int64:
			v = float64(x)
		default:
			v = x
		}
		t = append(t, Pair{key, v})
	}
	return t
}

// keys are a table's keys as they stand in the profile.
func (b *builder) keys(m map[string]any, path []any) []string {
	var keys []string
	for key := range m {
		if key != profile.ForEach {
			keys = append(keys, key)
		}
	}
	slices.SortFunc(keys, func(x, y string) int {
		p, q := b.p.Profile.Doc.At(append(slices.Clone(path), x)...),
			b.p.Profile.Doc.At(append(slices.Clone(path), y)...)
		return cmp.Or(cmp.Compare(p.Line, q.Line), cmp.Compare(p.Column, q.Column), cmp.Compare(x, y))
	})
	return keys
}

// filled fills a text. One that is a single {name} becomes that value as it is.
func filled(text string, s scope) any {
	places := template.Places(text)
	if len(places) == 1 && text == "{"+places[0]+"}" {
		if v, ok := s[places[0]]; ok {
			return v
		}
	}
	values := map[string]string{}
	for _, name := range places {
		if v, ok := s[name]; ok {
			values[name] = template.Text(v)
		}
	}
	if len(values) == 0 {
		return text
	}
	return template.Line(text, values, "none")
}

// items are what a table is repeated for.
func (b *builder) items(each string, s scope) (list []scope) {
	switch each {
	case "map":
		inBundle, limited := s["bundle.maps"].([]string)
		for _, m := range b.about.facts.Maps {
			if !limited || slices.Contains(inBundle, m.Name) {
				list = append(list, b.mapItem(m, s))
			}
		}
	case "bundle":
		for _, x := range b.about.bundles {
			list = append(list, bundleScope(x))
		}
	case "language":
		for i := range b.languages {
			list = append(list, languageScope(b.p, b.main, &b.languages[i]))
		}
	}
	return list
}

// mapItem says of a map what the scope's language calls it.
func (b *builder) mapItem(m MapFacts, s scope) scope {
	for _, l := range b.languages {
		if title := strings.TrimSpace(l.Maps[m.Name]); l.Code == s["language"] && title != "" {
			m.Title = title
		}
	}
	file := ""
	for _, x := range b.about.bundles {
		if slices.Contains(x.Maps, m.Name) {
			file = x.File
		}
	}
	return mapScope(m, file)
}

// data is the scope for a template of text/template: {{.field}}, and lists to range over.
func (b *builder) data(s scope) map[string]any {
	d := map[string]any{}
	for k, v := range s {
		if !strings.Contains(k, ".") {
			d[k] = plainValue(v)
		}
	}
	for _, each := range []string{"map", "bundle", "language"} {
		list := []map[string]any{}
		for _, item := range b.items(each, s) {
			one := map[string]any{}
			for k, v := range item {
				one[strings.TrimPrefix(k, each+".")] = plainValue(v)
			}
			if each == "bundle" {
				maps := []map[string]any{}
				for _, m := range b.items("map", s.with(item)) {
					x := map[string]any{}
					for k, v := range m {
						x[strings.TrimPrefix(k, "map.")] = plainValue(v)
					}
					maps = append(maps, x)
				}
				one["names"], one["maps"] = one["maps"], maps
			}
			list = append(list, one)
		}
		d["each_"+each] = list
	}
	for k, v := range s {
		if name, ok := strings.CutPrefix(k, "map."); ok { // of a file for each map
			one, _ := d["one"].(map[string]any)
			if one == nil {
				one = map[string]any{}
			}
			one[name] = plainValue(v)
			d["one"] = one
		}
	}
	return d
}

// plainValue makes a table a map, which templates range over in the order of the keys.
func plainValue(v any) any {
	t, ok := v.(Table)
	if !ok {
		return v
	}
	m := map[string]any{}
	for _, p := range t {
		m[p.Key] = plainValue(p.Value)
	}
	return m
}
