package project

import (
	"reflect"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/finding"
	"vornix/core/config/profile"
)

// Picture is a recipe for pictures that the game's profile asks for. What it leaves out comes from
// an earlier one that matches.
type Picture struct {
	For     string `toml:"for" jsonschema:"required,description=Pattern on the name of pictures in the game's profile\\, such as thumbnail or *"`
	Maps    string `toml:"maps" jsonschema:"description=Pattern on maps (default: all)"`
	Variant string `toml:"variant" jsonschema:"description=Only this variant (default: all)"`
	Number  int    `toml:"number" jsonschema:"minimum=1,maximum=99,description=Only this one of several (default: all)"`
	profile.Painting
}

// validatePicture checks the values of a recipe.
func (p *Project) validatePicture(i int) (list []finding.Finding) {
	r := &p.File.Pictures[i]
	wrong := func(key, format string, args ...any) {
		list = append(list, p.Doc.Wrong([]any{"picture", i, key}, format, args...))
	}
	if r.For == "" || !doublestar.ValidatePattern(r.For) {
		wrong("for", "%q is no pattern on the names of pictures", r.For)
	}
	if !doublestar.ValidatePattern(r.Maps) {
		wrong("maps", "%q is no pattern", r.Maps)
	}
	if r.Number < 0 || r.Number > 99 {
		wrong("number", "number must lie between 1 and 99, and is %d", r.Number)
	}
	r.Validate(wrong)
	return list
}

// Painting is what the project's recipes say of a picture, over what the game's profile says, and
// which of them spoke of what it is made of; -1: none.
func (p *Project) Painting(picture *profile.Picture, mapName, variant string, number int) (out profile.Painting,
	source int) {
	out, source = picture.Painting, -1
	to := reflect.ValueOf(&out).Elem()
	for i := range p.File.Pictures {
		r := &p.File.Pictures[i]
		if ok, _ := doublestar.Match(r.For, picture.Name); !ok || r.Variant != "" && r.Variant != variant ||
			r.Number != 0 && r.Number != number {
			continue
		}
		if ok, _ := doublestar.Match(r.Maps, mapName); r.Maps != "" && !ok {
			continue
		}
		if r.HasSource() { // another source takes the place of an earlier one
			out.Camera, out.Cameras, out.Image, out.Images, out.AsIs = "", nil, "", nil, nil
			source = i
		}
		from := reflect.ValueOf(&r.Painting).Elem()
		for k := range to.NumField() {
			if !from.Field(k).IsZero() {
				to.Field(k).Set(from.Field(k))
			}
		}
	}
	return out, source
}
