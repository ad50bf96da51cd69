// Package addon makes metadata files: it fills the fields that a game profile declares from the project and from what is
// really inside, checks them, and writes the files in the forms that the profile asks for.
package addon

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/nearest"
	"vornix/core/needs"
	"vornix/core/profile"
	"vornix/core/project"
	"vornix/core/scene"
)

// File is a metadata file.
type File struct {
	Path  string
	Map   string // the one map it is about; "" when it is about the whole project
	Place string // inside or beside
	Data  []byte
}

// value is a field with its value: a string, a []string, a bool or a float64.
type value struct {
	name  string
	value any
}

// Make fills and writes all metadata files of the project. Findings of severity error mean that the files break a rule
// of the game.
func Make(p *project.Project, g *needs.Graph) ([]File, []finding.Finding) {
	var files []File
	var findings []finding.Finding
	all := scenes(g, nil)
	for _, f := range p.Profile.Addon.Files {
		if f.Each == "map" {
			for _, m := range all {
				values := fill(p, g, []*scene.Map{m})
				findings = append(findings, check(p, values)...)
				files = append(files, File{Path: name(f, p, m.Name), Map: m.Name, Place: f.Place, Data: write(f.Form, p.File.Project.Name, values)})
			}
			continue
		}
		values := fill(p, g, all)
		findings = append(findings, check(p, values)...)
		files = append(files, File{Path: name(f, p, ""), Place: f.Place, Data: write(f.Form, p.File.Project.Name, values)})
	}
	findings = append(findings, unknownFields(p)...)
	finding.Sort(findings)
	return files, slices.CompactFunc(findings, func(a, b finding.Finding) bool {
		return a.ID == b.ID && a.Text == b.Text && a.Place == b.Place
	})
}

func scenes(g *needs.Graph, list []*scene.Map) []*scene.Map {
	for _, a := range g.Of(needs.Map) {
		if a.Scene != nil {
			list = append(list, a.Scene)
		}
	}
	return list
}

func name(f profile.AddonFile, p *project.Project, mapName string) string {
	return profile.Fill(f.Path, map[string]string{"name": p.File.Project.Name, "version": p.File.Project.Version, "map": mapName})
}

// fill gives each declared field its value, in the profile's order.
func fill(p *project.Project, g *needs.Graph, of []*scene.Map) []value {
	head := p.File.Project
	var names, modes []string
	players := [2]int{}
	for _, m := range of {
		names = append(names, m.Name)
		modes = append(modes, m.Modes...)
		if m.Players[1] > 0 {
			if players[1] == 0 || m.Players[0] < players[0] {
				players[0] = m.Players[0]
			}
			players[1] = max(players[1], m.Players[1])
		}
	}
	slices.Sort(modes)
	title := head.Title
	if len(of) == 1 && of[0].Title != "" && p.Profile.Pack.Form == "map-file" {
		title = of[0].Title
	}
	computed := map[string]any{
		"title": title, "name": head.Name, "version": head.Version, "authors": nonNil(head.Authors), "description": strings.TrimSpace(head.Description),
		"maps": nonNil(names), "map": strings.Join(names, " "), "modes": nonNil(slices.Compact(modes)), "players": fmt.Sprintf("%d-%d", players[0], players[1]),
		"kinds": nonNil(kinds(p, g, of)),
	}
	var list []value
	for _, f := range p.Profile.Addon.Fields {
		v := value{name: f.Name, value: p.File.Addon[f.Name]}
		if f.From != "" {
			v.value = computed[f.From]
		}
		if v.value == nil {
			v.value = map[string]any{"text": "", "list": []string{}, "flag": false, "number": 0.0}[f.Type]
		}
		list = append(list, v)
	}
	return list
}

// kinds says what kinds of content are really inside.
func kinds(p *project.Project, g *needs.Graph, of []*scene.Map) []string {
	var roots []*needs.Asset
	for _, m := range of {
		if a := g.Find(needs.Map, m.Name); a != nil {
			roots = append(roots, a)
		}
	}
	for _, a := range g.Roots() { // what is in every bundle
		if a.IsContent() {
			roots = append(roots, a)
		}
	}
	set := map[string]bool{}
	for _, a := range needs.Closure(roots...) {
		if needs.Ships(p, a) {
			set[string(a.Kind)+"s"] = true
		}
	}
	return slices.Sorted(maps.Keys(set))
}

func nonNil(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// check holds values to the profile's declarations. It also brings what the TOML reader gave into the declared type.
func check(p *project.Project, values []value) []finding.Finding {
	var list []finding.Finding
	for i, f := range p.Profile.Addon.Fields {
		v := &values[i]
		place := p.Doc.At("addon", f.Name)
		if f.From != "" {
			place = p.Doc.At("project", f.From)
		}
		bad := func(format string, args ...any) { list = append(list, finding.AddonField.At(place, format, args...)) }
		var words []string
		switch got := v.value.(type) {
		case string:
			words = []string{got}
		case []string:
			words = got
		case []any:
			for _, w := range got {
				words = append(words, fmt.Sprint(w))
			}
			v.value = words
		case int64:
			v.value = float64(got)
		}
		if !hasType(v.value, f.Type) {
			bad("the field %q must be a %s", f.Name, f.Type)
			continue
		}
		if f.Required && strings.TrimSpace(strings.Join(words, "")) == "" && (f.Type == "text" || f.Type == "list") {
			bad("the field %q is required and empty", f.Name)
		}
		for _, w := range words {
			if n := len([]rune(w)); f.Longest > 0 && n > f.Longest {
				bad("the field %q has %d characters; at most %d are taken", f.Name, n, f.Longest)
			}
			if len(f.Allowed) > 0 && w != "" && !slices.Contains(f.Allowed, w) {
				x := finding.AddonField.At(place, "the field %q does not take %q", f.Name, w)
				if near := nearest.Word(w, f.Allowed); near != "" {
					x = x.Doing("Did you mean %q?", near)
				} else {
					x = x.Doing("Use: %s.", strings.Join(f.Allowed, ", "))
				}
				list = append(list, x)
			}
			if leftover(w) {
				list = append(list, finding.AddonLeftover.At(place, "the field %q still holds a placeholder: %q", f.Name, w))
			}
		}
	}
	return list
}

func hasType(v any, want string) bool {
	switch v.(type) {
	case string:
		return want == "text"
	case []string:
		return want == "list"
	case bool:
		return want == "flag"
	case float64:
		return want == "number"
	}
	return false
}

func leftover(s string) bool {
	lower := strings.ToLower(s)
	return strings.Contains(lower, "todo") || strings.Contains(lower, "lorem ipsum") || strings.Contains(lower, "describe your")
}

// unknownFields finds values for fields that the profile doesn't have, or that Vornix fills itself.
func unknownFields(p *project.Project) []finding.Finding {
	var known []string
	for _, f := range p.Profile.Addon.Fields {
		if f.From == "" {
			known = append(known, f.Name)
		}
	}
	var list []finding.Finding
	for _, k := range slices.Sorted(maps.Keys(p.File.Addon)) {
		if slices.Contains(known, k) {
			continue
		}
		x := finding.AddonField.At(p.Doc.At("addon", k), "%s has no field %q to fill in", p.Profile.Game.Title, k)
		if near := nearest.Word(k, known); near != "" {
			x = x.Doing("Did you mean %q?", near)
		} else {
			x = x.Doing("Remove it; to fill in are: %s.", strings.Join(known, ", "))
		}
		list = append(list, x)
	}
	return list
}

// write gives a file its form. Values keep the profile's order where the form has one.
func write(form, section string, values []value) []byte {
	var b bytes.Buffer
	switch form {
	case "json":
		b.WriteString("{\n")
		for i, v := range values {
			fmt.Fprintf(&b, "  %s: %s", jsonText(v.name), jsonText(v.value))
			if i < len(values)-1 {
				b.WriteByte(',')
			}
			b.WriteByte('\n')
		}
		b.WriteString("}\n")
	case "toml":
		for _, v := range values {
			line, _ := toml.Marshal(map[string]any{v.name: v.value}) // strings, lists, flags and numbers always marshal
			b.Write(line)
		}
	case "ini":
		fmt.Fprintf(&b, "[%s]\n", section)
		for _, v := range values {
			fmt.Fprintf(&b, "%s=%s\n", v.name, iniText(v.value))
		}
	}
	return b.Bytes()
}

func jsonText(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(v) // strings, lists, flags and numbers always encode
	return strings.TrimSuffix(b.String(), "\n")
}

// iniText keeps a value on its line: an INI file has no way to escape, so line ends become spaces.
func iniText(v any) string {
	switch v := v.(type) {
	case []string:
		return iniText(strings.Join(v, ", "))
	case string:
		return strings.Map(func(r rune) rune {
			if r < ' ' || r == 0x7f {
				return ' '
			}
			return r
		}, v)
	}
	return fmt.Sprint(v)
}

// Err turns findings of severity error into an error; nil when there are none.
func Err(list []finding.Finding) error {
	if finding.Count(list, finding.Error) == 0 {
		return nil
	}
	return &fault.Fault{What: "the metadata breaks rules of the game", Why: "The game or the workshop would refuse it.", Do: "Correct the errors above."}
}
