package metadata

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/base/template"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/imaging"
	"vornix/core/source/assetgraph"
)

// check holds values to the profile's declarations.
func check(p *project.Project, values []value, o Options) (list []finding.Finding) {
	for _, v := range values {
		list = append(list, v.check(p, o)...)
	}
	return list
}

func (v *value) check(p *project.Project, o Options) (list []finding.Finding) {
	f := v.field
	place := v.place
	if v.computed {
		place = p.Profile.Doc.At("addon", "field",
			slices.IndexFunc(p.Profile.Addon.Fields, func(x profile.Field) bool { return x.Name == f.Name }), "name")
		if p.ProfilePath == "" {
			place = fault.Place{File: project.FileName} // the profile comes with the program: there is no file to show
		}
	}
	bad := func(format string, args ...any) { list = append(list, finding.AddonField.At(place, format, args...)) }
	if !hasType(v.value, f) {
		bad("the field %q must be a %s", f.Name, f.Type)
		return list
	}
	words, _ := v.value.([]string)
	switch x := v.value.(type) {
	case string:
		words = []string{x}
	case bool:
		_, written := p.File.Addon[f.Name]
		if len(f.Holds) > 0 && written && !v.computed {
			list = append(list, v.contradiction(p, x)...)
		}
	case float64:
		if f.Least != nil && x < *f.Least && !v.unknown {
			bad("the field %q is %s, and must be %s at least", f.Name, template.Text(x), template.Text(*f.Least))
		}
		if f.Most != nil && x > *f.Most {
			bad("the field %q is %s, and must be %s at the most", f.Name, template.Text(x), template.Text(*f.Most))
		}
	}
	if f.Type == "list" {
		if f.Least != nil && float64(len(words)) < *f.Least && !v.unknown {
			bad("the field %q has %d words, and needs %s", f.Name, len(words), template.Text(*f.Least))
		}
		if f.Most != nil && float64(len(words)) > *f.Most {
			bad("the field %q has %d words; at most %s are taken", f.Name, len(words), template.Text(*f.Most))
		}
		list = append(list, twice(f, place, words)...)
	}
	if f.Required && !v.unknown && f.Type != "flag" && f.Type != "number" &&
		strings.TrimSpace(strings.Join(words, "")) == "" {
		bad("the field %q is required and empty", f.Name)
	}
	for _, w := range words {
		list = append(list, checkWord(f, place, w, v.unknown, "")...)
	}
	if f.Type == "picture" || f.From == "picture" {
		list = append(list, v.pictures(p, place, words, o)...)
	}
	return list
}

// checkWord holds a text, or a word of a list, to its field's rules. language is empty for the main one.
func checkWord(f *profile.Field, place fault.Place, w string, unknown bool, language string) (list []finding.Finding) {
	in := ""
	if language != "" {
		in = " in " + language
	}
	bad := func(format string, args ...any) finding.Finding {
		return finding.AddonField.At(place, "the field %q%s "+format, append([]any{f.Name, in}, args...)...)
	}
	if n := len([]rune(w)); f.Longest > 0 && n > f.Longest {
		list = append(list, bad("has %d characters; at most %d are taken", n, f.Longest))
	}
	if len(f.Allowed) > 0 && w != "" && !slices.Contains(f.Allowed, w) {
		x := bad("does not take %q", w)
		if near := suggest.Word(w, f.Allowed); near != "" {
			x = x.Doing("Did you mean %q?", near)
		} else {
			x = x.Doing("Use: %s.", strings.Join(f.Allowed, ", "))
		}
		list = append(list, x)
	}
	if f.Characters != "" {
		if class, err := regexp.Compile("[^" + f.Characters + "]"); err == nil {
			if r := class.FindString(w); r != "" {
				list = append(list, bad("has %q, which is not taken in it", r))
			}
		}
	} else if i := strings.IndexFunc(w,
		func(r rune) bool { return template.Breaks(r) && r != '\n' && r != '\r' && r != '\t' }); i >= 0 {
		list = append(list, bad("has a character that can't be seen: %+q", []rune(w[i:])[0]))
	}
	if f.Pattern != "" && w != "" && !unknown {
		if form, err := regexp.Compile("^(?:" + f.Pattern + ")$"); err == nil && !form.MatchString(w) {
			list = append(list, bad("is %q, which does not have the form %s", w, f.Pattern))
		}
	}
	if left := leftover(w); left != "" {
		list = append(list,
			finding.AddonLeftover.At(place, "the field %q%s still holds a placeholder: %q", f.Name, in, left))
	}
	return list
}

func hasType(v any, f *profile.Field) bool {
	switch v.(type) {
	case string:
		return f.Type == "text" || f.Type == "picture"
	case []string:
		return f.Type == "list"
	case bool:
		return f.Type == "flag"
	case float64:
		return f.Type == "number"
	}
	return false
}

// twice finds words that stand in a list more than once.
func twice(f *profile.Field, place fault.Place, words []string) (list []finding.Finding) {
	seen := map[string]bool{}
	for _, w := range words {
		if fold := strings.ToLower(w); seen[fold] && f.From == "" {
			list = append(list, finding.AddonField.At(place, "the field %q has %q twice", f.Name, w))
		} else {
			seen[fold] = true
		}
	}
	return list
}

var placeholder = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(todo|fixme|xxx+|tbd|tba|lorem ipsum|placeholder|change ?me|insert \w+ here|your (text|title|name|description)( here)?|describe your \w+|untitled|new (mod|map|project))\b|<[a-z ]*(title|description|name|text)[a-z ]*>|\[(title|description|name|text)\]|\?\?\?`)
})

// leftover is the placeholder that somebody left in a text; empty when there is none.
func leftover(s string) string { return placeholder().FindString(s) }

// contradiction holds what a flag says to what ships.
func (v *value) contradiction(p *project.Project, says bool) []finding.Finding {
	for _, rel := range v.about.facts.Paths {
		if matches(v.field.Holds, rel) {
			if says {
				return nil
			}
			return []finding.Finding{finding.AddonFlag.At(v.place, "%s is no, and %s ships", v.field.Name, rel)}
		}
	}
	if says {
		return []finding.Finding{finding.AddonFlag.At(v.place, "%s is yes, and nothing of the kind ships (%s)",
			v.field.Name, strings.Join(v.field.Holds, ", "))}
	}
	return nil
}

// pictures holds pictures to the size and form that they must have.
func (v *value) pictures(p *project.Project, place fault.Place, names []string, o Options) (list []finding.Finding) {
	i := slices.IndexFunc(p.Profile.Pictures, func(x profile.Picture) bool { return x.Name == v.field.Picture })
	if i < 0 {
		return nil
	}
	want := &p.Profile.Pictures[i]
	for _, name := range names {
		if name == "" {
			continue
		}
		if v.computed {
			dir := project.TreeDir
			if want.Place == profile.Beside {
				dir = project.OutDir + "/pictures"
			}
			if o.Finished && !want.Optional {
				if _, err := os.Stat(p.Join(dir, name)); err != nil {
					list = append(list,
						finding.AddonPicture.At(place, "%s names %s, which is not there", v.field.Name,
							name).Doing("Make it: vornix shoot"))
				}
			}
			continue
		}
		if err := safefile.CheckPath(name); err != nil {
			list = append(list,
				finding.AddonPicture.At(place, "%s names %q, which is no path in the project", v.field.Name, name))
			continue
		}
		data, err := os.ReadFile(p.Join(name))
		if err != nil {
			list = append(list, finding.AddonPicture.At(place, "%s names %s, which is not there", v.field.Name, name))
			continue
		}
		list = append(list, held(v.field.Name, name, place, data, want)...)
	}
	return list
}

func held(field, name string, place fault.Place, data []byte, want *profile.Picture) (list []finding.Finding) {
	bad := func(format string, args ...any) { list = append(list, finding.AddonPicture.At(place, format, args...)) }
	is, err := imaging.Inspect(name, data)
	if err != nil {
		bad("%s names %s, which is no picture that can be read: %v", field, name, err)
		return list
	}
	_, sizes := want.Sizes()
	var words []string
	fits := false
	for _, s := range sizes {
		words = append(words, fmt.Sprintf("%d x %d", s.Width, s.Height))
		fits = fits || s.Width == is.Width && s.Height == is.Height
	}
	if !fits {
		bad("%s names %s of %d x %d, and the %s must be %s", field, name, is.Width, is.Height, want.Name,
			strings.Join(words, " or "))
	}
	if !strings.EqualFold(is.Form, want.Form) && want.Form != profile.Texture {
		bad("%s names %s, a %s, and the %s must be %s", field, name, is.Form, want.Name, strings.ToUpper(want.Form))
	}
	if is.Progressive {
		bad("%s names %s, whose parts come one after another (progressive): simple readers can't read it", field, name)
	}
	if want.MostBytes > 0 && int64(len(data)) > want.MostBytes {
		bad("%s names %s of %d bytes; at most %d are taken", field, name, len(data), want.MostBytes)
	}
	return list
}

// checkFacts holds what the project says to what is inside.
func checkFacts(p *project.Project, g *assetgraph.Graph, a *about) (list []finding.Finding) {
	if own := p.File.Project.GameVersion; own != "" && g.Complete() {
		without := *p
		without.File.Project.GameVersion = ""
		if f := Look(&without, g, Scenes(g)); CompareGame(own, f.Game) < 0 {
			list = append(list,
				finding.AddonGame.At(p.Doc.At("project", "game_version"), "game_version is %s, and %s is needed: %s",
					own, f.Game, f.Why).Doing("Raise game_version to %s, or leave it out: it is found by itself.",
					f.Game))
		}
	}
	// What one map has is said of the map. Here: modes that only meet in the project's own list.
	for _, mode := range a.facts.Modes {
		for _, other := range a.facts.Modes {
			together := slices.ContainsFunc(a.facts.Maps,
				func(m MapFacts) bool { return slices.Contains(m.Modes, mode) && slices.Contains(m.Modes, other) })
			if mode != other && strings.Contains(other, mode) && !together &&
				slices.ContainsFunc(p.Profile.Addon.Fields, func(f profile.Field) bool { return f.From == "modes" }) {
				list = append(list,
					finding.ModeInside.At(fault.Place{File: project.FileName},
						"the mode name %q is found inside %q, and the project's list has both", mode, other))
			}
		}
	}
	return list
}

// checkLanguages holds translations to the rules of their fields.
func checkLanguages(p *project.Project, languages []Language) (list []finding.Finding) {
	for _, l := range languages {
		for _, name := range slices.Sorted(maps.Keys(l.Addon)) {
			if f := p.Profile.Field(name); f != nil && f.Translated {
				list = append(list,
					checkWord(f, l.doc.At("addon", name), strings.TrimSpace(l.Addon[name]), false, l.Code)...)
			}
		}
	}
	return list
}

// agree holds names and titles to one another.
func (m *maker) agree() (list []finding.Finding) {
	values := fillFields(m.p, m.whole)
	b := &builder{p: m.p, about: m.whole, main: &m.languages[0], languages: m.languages}
	for _, rule := range m.p.Profile.Addon.Agrees {
		all := strings.Join(rule.Texts, " ")
		scopes := []scope{scopeOf(values)}
		for _, each := range []string{"bundle", "map"} {
			if !strings.Contains(all, "{"+each+".") {
				continue
			}
			var more []scope
			for _, s := range scopes {
				for _, item := range b.items(each, s) {
					more = append(more, s.with(item))
				}
			}
			scopes = more
		}
		for _, s := range scopes {
			first, said := "", ""
			for i, t := range rule.Texts {
				now := template.Text(filled(t, s))
				key := now
				if rule.Loosely {
					key = loosely(now)
				}
				if i == 0 {
					first, said = key, now
					continue
				}
				if key != first {
					x := finding.AddonAgree.At(fault.Place{File: project.FileName},
						"%s is %q and %s is %q, and they must agree", rule.Texts[0], said, t, now)
					if rule.Why != "" {
						x.Why = rule.Why
					}
					list = append(list, x)
				}
			}
		}
	}
	return list
}

// loosely is a text without what people write differently each time.
func loosely(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
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
		if near := suggest.Word(k, known); near != "" {
			x = x.Doing("Did you mean %q?", near)
		} else {
			x = x.Doing("Remove it; to fill in are: %s.", strings.Join(known, ", "))
		}
		list = append(list, x)
	}
	return list
}
