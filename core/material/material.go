// Package material reads material files: small TOML files that tie textures to a surface. The compiled form is TOML
// too (docs/formats/material.md), with every path as the game sees it.
package material

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/fault"
	"vornix/core/finding"
	"vornix/core/nearest"
	"vornix/core/tomlfile"
)

// Material is one material.
type Material struct {
	Colour     string  `toml:"colour" jsonschema:"required,description=Colour texture\\, from the folder of images\\, without an ending"`
	Normal     string  `toml:"normal,omitempty" jsonschema:"description=Normal map"`
	Surface    string  `toml:"surface,omitempty" jsonschema:"description=What it is underfoot"`
	Lit        *bool   `toml:"lit,omitempty" jsonschema:"description=Whether light falls on it (default true)"`
	Solid      *bool   `toml:"solid,omitempty" jsonschema:"description=Whether players bump into it (default true)"`
	SeeThrough bool    `toml:"see_through,omitempty" jsonschema:"description=Whether the alpha of the colour texture is used"`
	Size       float64 `toml:"size,omitempty" jsonschema:"minimum=0,description=Metres that one repeat of the texture covers (default 2)"`
	Tint       string  `toml:"tint,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}$,description=Colour to multiply with"`

	Doc *tomlfile.Document `toml:"-" json:"-"`
}

// Reference is a texture that a material names, and where.
type Reference struct {
	Texture string
	Place   fault.Place
}

// Parse reads a material file.
func Parse(name string, data []byte) (*Material, []finding.Finding) {
	m := &Material{}
	doc, list := tomlfile.Decode(name, data, m)
	m.Doc = doc
	if len(list) > 0 {
		return nil, list
	}
	if m.Colour == "" {
		list = append(list, doc.Wrong([]any{"colour"}, "colour is missing: the texture that the surface shows"))
	}
	if m.Tint != "" && !isColour(m.Tint) {
		list = append(list, doc.Wrong([]any{"tint"}, "tint must be a colour such as #ffe2b8, and is %q", m.Tint))
	}
	if m.Size < 0 || m.Size > 1e6 {
		list = append(list, doc.Wrong([]any{"size"}, "size must be a length in metres, and is %v", m.Size))
	}
	for _, r := range m.References() {
		if why := BadReference(r.Texture); why != "" {
			list = append(list, finding.RefForm.At(r.Place, "the texture %q %s", r.Texture, why))
		}
	}
	if m.Size == 0 {
		m.Size = 2
	}
	return m, list
}

func isColour(s string) bool {
	return len(s) == 7 && s[0] == '#' && strings.Trim(s[1:], "0123456789abcdef") == ""
}

// BadReference says what is wrong with the form of a reference to an asset, or "" for a good one.
func BadReference(ref string) string {
	lower := strings.ToLower(ref)
	switch {
	case strings.HasPrefix(ref, "/") || len(ref) > 1 && ref[1] == ':':
		return "is an absolute path"
	case strings.Contains(ref, "\\"):
		return "has a backslash"
	case slices.Contains(strings.Split(ref, "/"), ".."):
		return "leads out of its folder"
	}
	for _, ending := range []string{".png", ".jpg", ".jpeg", ".tga", ".ktx2", ".dds", ".toml", ".wav"} {
		if strings.HasSuffix(lower, ending) {
			return "has an ending (" + ending + ")"
		}
	}
	return ""
}

// References lists the textures that the material names.
func (m *Material) References() []Reference {
	var list []Reference
	for _, r := range []struct{ key, value string }{{"colour", m.Colour}, {"normal", m.Normal}} {
		if r.value != "" {
			list = append(list, Reference{r.value, m.Doc.At(r.key)})
		}
	}
	return list
}

// CheckSurface holds the surface to the game's list.
func (m *Material) CheckSurface(surfaces []string) []finding.Finding {
	if m.Surface == "" || len(surfaces) == 0 || slices.Contains(surfaces, m.Surface) {
		return nil
	}
	f := finding.MaterialSurface.At(m.Doc.At("surface"), "the game has no surface %q", m.Surface)
	if near := nearest.Word(m.Surface, surfaces); near != "" {
		f = f.Doing("Did you mean %q?", near)
	} else {
		f = f.Doing("Choose one of: %s.", strings.Join(surfaces, ", "))
	}
	return []finding.Finding{f}
}

// Compile writes the form that ships. texturePath turns a texture's name into its path in the game.
func (m *Material) Compile(texturePath func(string) string) ([]byte, error) {
	out := *m
	out.Colour = texturePath(m.Colour)
	if m.Normal != "" {
		out.Normal = texturePath(m.Normal)
	}
	var b bytes.Buffer
	if err := toml.NewEncoder(&b).Encode(out); err != nil {
		return nil, fmt.Errorf("writing the material %s: %w", m.Doc.Name, err)
	}
	return b.Bytes(), nil
}

// ParseCompiled reads a compiled material and returns the game paths of its textures.
func ParseCompiled(name string, data []byte) (*Material, []string, error) {
	m := &Material{}
	if _, list := tomlfile.Decode(name, data, m); len(list) > 0 {
		return nil, nil, &finding.Failure{What: "the material can't be read", Findings: list}
	}
	paths := []string{m.Colour}
	if m.Normal != "" {
		paths = append(paths, m.Normal)
	}
	return m, paths, nil
}
