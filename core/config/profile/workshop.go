package profile

import "slices"

// Workshop says what the game's mods look like on workshops.
type Workshop struct {
	Kind     string   `toml:"kind" jsonschema:"pattern=^[a-z0-9]+(-[a-z0-9]+)*$,description=Kind of the items\\, as workshops call it (default mod)"`
	Each     string   `toml:"each" jsonschema:"enum=mod,enum=bundle,description=One item for the project\\, or one for each bundle (default mod)"`
	Pictures []string `toml:"pictures" jsonschema:"description=Pictures of the page\\, by the names of [[picture]]s with place = beside\\, in their order; the first stands in lists"`
}

// publishing checks what the profile says about workshops.
func (p *Profile) publishing(wrong func(key []any, format string, args ...any),
	oneOf func(value string, allowed []string, key ...any)) {
	w := &p.Workshop
	orDefault(&w.Kind, "mod")
	orDefault(&w.Each, "mod")
	oneOf(w.Each, []string{"mod", "bundle"}, "workshop", "each")
	for i, name := range w.Pictures {
		if !slices.ContainsFunc(p.Pictures, func(x Picture) bool { return x.Name == name && x.Place == Beside }) {
			wrong([]any{"workshop", "pictures", i}, "there is no [[picture]] %q with place = \"beside\"", name)
		}
	}
}
