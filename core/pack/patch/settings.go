package patch

import (
	"maps"
	"slices"

	"vornix/core/base/confedit"
	"vornix/core/base/finding"
	"vornix/core/base/tomlfile"
)

// Edits is the content of a file that says which settings a patch changes.
type Edits struct {
	Edits []Edit `toml:"edit" jsonschema:"required,description=Changes of one file each"`
}

// Edit changes one file of settings, whatever else is in it.
type Edit struct {
	File   string         `toml:"file" jsonschema:"required,description=Path below the folder that the patch is applied to"`
	Form   string         `toml:"form" jsonschema:"enum=ini,enum=json,enum=toml,enum=xml,enum=text,description=What the file is (default: by its ending)"`
	Lines  []string       `toml:"lines" jsonschema:"description=Lines that the file must have; each is added once"`
	After  string         `toml:"after" jsonschema:"description=Line after which they are added (default: at the end)"`
	Set    map[string]any `toml:"set" jsonschema:"description=Keys\\, with dots between their parts\\, and the values that they must have"`
	Remove []string       `toml:"remove" jsonschema:"description=Keys that must not be there"`
}

// ParseEdits reads such a file into steps.
func ParseEdits(name string, data []byte) (steps []Step, list []finding.Finding) {
	var e Edits
	doc, list := tomlfile.Decode(name, data, &e)
	if len(list) > 0 {
		return nil, list
	}
	seen := map[string]bool{}
	for i, edit := range e.Edits {
		wrong := func(key, format string, args ...any) {
			list = append(list, doc.Wrong([]any{"edit", i, key}, format, args...))
		}
		s := Step{Do: DoSettings, Path: edit.File, Form: edit.Form}
		if s.Form == "" {
			if s.Form = confedit.FormOf(edit.File); s.Form == "" {
				s.Form = "text"
			}
		}
		if err := checkPath(edit.File); err != nil {
			wrong("file", "%v", err)
		}
		if seen[edit.File] {
			wrong("file", "%s is changed twice; put it into one", edit.File)
		}
		seen[edit.File] = true
		if s.Form == "text" && len(edit.Set)+len(edit.Remove) > 0 {
			wrong("form", "keys can be changed in ini, json, toml and xml; say which it is")
			continue
		}
		for _, l := range edit.Lines {
			s.Lines = append(s.Lines, Line{Add: l, After: edit.After})
			edit.After = l // the next one follows
		}
		for _, key := range slices.Sorted(maps.Keys(edit.Set)) {
			p, err := confedit.ParsePath(key)
			value := ""
			if err == nil {
				value, err = confedit.Literal(s.Form, edit.Set[key])
			}
			if err != nil {
				wrong("set", "%s: %v", key, err)
			}
			s.Set = append(s.Set, Setting{p, value})
		}
		for _, key := range edit.Remove {
			p, err := confedit.ParsePath(key)
			if err != nil {
				wrong("remove", "%v", err)
			}
			s.Remove = append(s.Remove, p)
		}
		if len(s.Lines)+len(s.Set)+len(s.Remove) == 0 {
			wrong("file", "nothing is to change in %s", edit.File)
		}
		steps = append(steps, s)
	}
	return steps, list
}

// Renamed gives the one file of a side another path: the name that the output must have.
func (s *Side) Renamed(name string) error {
	if err := checkPath(name); err != nil {
		return err
	}
	s.Files[0].Path = name
	return nil
}
