package profile

import (
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Keys lists all keys that a profile can have, in the order of the format, with points between
// them; * stands for a name of the profile's own, as in map.items.*.*.type.
func Keys() (list []string) {
	walkKeys(reflect.TypeFor[Profile](), "", map[reflect.Type]bool{}, func(key string) {
		if picture, ok := strings.CutPrefix(key, "picture."); !ok || !slices.Contains(ofRecipes, picture) {
			list = append(list, key)
		}
	})
	return list
}

// ofRecipes are keys of pictures that only a project's recipes can have: a game does not know what files a project has.
var ofRecipes = []string{"image", "images", "as_is", "font", "map"}

func walkKeys(t reflect.Type, at string, open map[reflect.Type]bool, visit func(string)) {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if t.Kind() == reflect.Map {
		walkKeys(t.Elem(), at+".*", open, visit)
		return
	}
	if t.Kind() != reflect.Struct || open[t] {
		visit(strings.TrimPrefix(at, "."))
		return
	}
	open[t] = true
	defer delete(open, t)
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("toml"), ",")
		switch f := t.Field(i); {
		case f.Anonymous && name == "":
			walkKeys(f.Type, at, open, visit)
		case name != "" && name != "-":
			walkKeys(f.Type, at+"."+name, open, visit)
		}
	}
}

// Used lists those of Keys that a profile's text has.
func Used(source []byte) []string {
	var all map[string]any
	if toml.Unmarshal(source, &all) != nil {
		return nil
	}
	found := map[string]bool{}
	var walk func(v any, at string)
	walk = func(v any, at string) {
		switch v := v.(type) {
		case map[string]any:
			for k, x := range v {
				walk(x, at+"."+k)
			}
		case []any:
			for _, x := range v {
				walk(x, at)
			}
		}
		if at != "" {
			found[at[1:]] = true
		}
	}
	walk(all, "")
	return slices.DeleteFunc(Keys(), func(key string) bool {
		for f := range found {
			if fits(strings.Split(key, "."), strings.Split(f, ".")) {
				return false
			}
		}
		return true
	})
}

// fits says whether the parts of a key that was found are those of a known one.
func fits(key, found []string) bool {
	if len(key) != len(found) {
		return false
	}
	for i := range key {
		if key[i] != "*" && key[i] != found[i] {
			return false
		}
	}
	return true
}
