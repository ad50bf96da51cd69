// Package material reads material files: small TOML files that tie textures to a surface. A
// material may inherit from another, and each folder may have defaults; Resolve lays them over one
// another. The compiled form is TOML too, with every value written out and every path as the game
// sees it (docs/formats/material.md).
package material

import (
	"bytes"
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/suggest"
	"vornix/core/base/tomlfile"
	"vornix/core/format/texture"
)

// The values of see_through: how the alpha of the colour texture is used.
const (
	SeeThroughNo     = "no"      // not at all
	SeeThroughCutOut = "cut-out" // a texel is drawn or not
	SeeThroughSoft   = "soft"    // texels are mixed with what is behind
)

// DefaultsFile is the name of the file with the defaults of its folder and those below.
const DefaultsFile = "defaults.toml"

// Fields are what a material, or a folder's defaults, can say. What is left out comes from the
// material inherited from, then from the folders' defaults, the nearest first.
type Fields struct {
	Surface        string   `toml:"surface,omitempty" jsonschema:"description=What it is underfoot: one of the game's surfaces\\, which decides sound and friction"`
	Shading        string   `toml:"shading,omitempty" jsonschema:"enum=lit,enum=unlit,enum=model,description=lit by the map's light (default)\\, unlit: as bright as painted\\, or model: lit as a moving thing"`
	Colour         string   `toml:"colour,omitempty" jsonschema:"description=Colour texture\\, from the folder of images\\, without an ending"`
	Normal         string   `toml:"normal,omitempty" jsonschema:"description=Normal map"`
	Detail         string   `toml:"detail,omitempty" jsonschema:"description=Texture laid over the colour from near by"`
	DetailRepeat   *float64 `toml:"detail_repeat,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1000,description=How often the detail repeats in one repeat of the colour (default 8)"`
	DetailStrength *float64 `toml:"detail_strength,omitempty" jsonschema:"minimum=0,maximum=1,description=How strong the detail is (default 0.5)"`
	Mask           string   `toml:"mask,omitempty" jsonschema:"description=Texture of data that says where something holds\\, such as gloss"`
	Emission       string   `toml:"emission,omitempty" jsonschema:"description=Texture of the light that it gives off"`
	EmissionPower  *float64 `toml:"emission_power,omitempty" jsonschema:"minimum=0,maximum=10000,description=Factor on the emission (default 1)"`
	Reflection     *float64 `toml:"reflection,omitempty" jsonschema:"minimum=0,maximum=1,description=How much of what it mirrors is seen straight on\\, more at grazing angles (default 0: it mirrors nothing); the mask's red is a factor on it"`
	Roughness      *float64 `toml:"roughness,omitempty" jsonschema:"minimum=0,maximum=1,description=How blurred what it mirrors is (default 0.1)"`
	Murk           *float64 `toml:"murk,omitempty" jsonschema:"minimum=0,maximum=10000,description=For soft materials such as water: how many metres one sees into it (default 0: its alpha alone says)"`
	Tint           string   `toml:"tint,omitempty" jsonschema:"pattern=^#[0-9a-f]{6}$,description=Colour to multiply with (default #ffffff)"`
	Contrast       *float64 `toml:"contrast,omitempty" jsonschema:"minimum=0,maximum=4,description=Factor on the distance from middle grey (default 1)"`
	Saturation     *float64 `toml:"saturation,omitempty" jsonschema:"minimum=0,maximum=4,description=Factor on the distance from grey of the same brightness (default 1)"`
	SeeThrough     string   `toml:"see_through,omitempty" jsonschema:"enum=no,enum=cut-out,enum=soft,description=Whether the colour texture's alpha is used: no (default)\\, cut-out: drawn or not\\, soft: mixed"`
	DoubleSided    *bool    `toml:"double_sided,omitempty" jsonschema:"description=Whether it shows from behind (default false)"`
	Solid          *bool    `toml:"solid,omitempty" jsonschema:"description=Whether players bump into it (default true)"`
	Luxels         *float64 `toml:"luxels,omitempty" jsonschema:"minimum=0.05,maximum=64,description=Luxels of the lightmap a metre\\, where the face says nothing (default: as the map)"`
	Size           *float64 `toml:"size,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1000000,description=Metres that one repeat of the texture covers (default 2)"`
}

// Material is one material.
type Material struct {
	Inherits string `toml:"inherits,omitempty" jsonschema:"description=Material whose values hold where this one says nothing"`
	Fields

	Doc *tomlfile.Document `toml:"-" json:"-"`
	// from is the file that each key comes from, after Resolve.
	from map[string]*tomlfile.Document
}

// Reference is a texture that a material names, what for, and where.
type Reference struct {
	Key     string
	Texture string
	Kinds   []texture.Kind // that it may be of; the first is what it is made as when nothing else is said
	Place   fault.Place
}

// Parse reads a material file, or the defaults of a folder.
func Parse(name string, data []byte) (*Material, []finding.Finding) {
	m := &Material{}
	doc, list := tomlfile.Decode(name, data, m)
	m.Doc = doc
	if len(list) > 0 {
		return nil, list
	}
	wrong := func(key, format string, args ...any) {
		list = append(list, doc.Wrong([]any{key}, format, args...))
	}
	if m.Tint != "" && !isColour(m.Tint) {
		wrong("tint", "tint must be a colour such as #ffe2b8, and is %q", m.Tint)
	}
	for _, w := range []struct {
		key, value string
		known      []string
	}{{"shading", m.Shading, []string{"lit", "unlit", "model"}},
		{"see_through", m.SeeThrough, []string{SeeThroughNo, SeeThroughCutOut, SeeThroughSoft}}} {
		if w.value != "" && !slices.Contains(w.known, w.value) {
			wrong(w.key, "%s must be one of %s, and is %q", w.key, strings.Join(w.known, ", "), w.value)
		}
	}
	for _, n := range []struct {
		key       string
		value     *float64
		least     float64
		most      float64
		exclusive bool
	}{
		{"size", m.Size, 0, 1e6, true}, {"luxels", m.Luxels, 0.05, 64, false},
		{"detail_repeat", m.DetailRepeat, 0, 1000, true}, {"detail_strength", m.DetailStrength, 0, 1, false},
		{"emission_power", m.EmissionPower, 0, 10000, false}, {"reflection", m.Reflection, 0, 1, false},
		{"roughness", m.Roughness, 0, 1, false}, {"murk", m.Murk, 0, 10000, false},
		{"contrast", m.Contrast, 0, 4, false}, {"saturation", m.Saturation, 0, 4, false},
	} {
		if v := n.value; v != nil && (!(*v >= n.least && *v <= n.most) || n.exclusive && *v == n.least) {
			wrong(n.key, "%s must lie between %v and %v, and is %v", n.key, n.least, n.most, *v)
		}
	}
	if strings.HasSuffix(name, "/"+DefaultsFile) && m.Inherits != "" {
		wrong("inherits", "a folder's defaults can't inherit")
	}
	if len(list) > 0 {
		return nil, list
	}
	return m, nil
}

func isColour(s string) bool {
	return len(s) == 7 && s[0] == '#' && strings.Trim(s[1:], "0123456789abcdef") == ""
}

// Resolve lays materials over one another, the last over all others, and gives the last with every
// value that it then has.
func Resolve(chain []*Material) *Material {
	last := chain[len(chain)-1]
	m := &Material{Inherits: last.Inherits, Doc: last.Doc, from: map[string]*tomlfile.Document{}}
	to := reflect.ValueOf(&m.Fields).Elem()
	for _, c := range chain {
		from := reflect.ValueOf(&c.Fields).Elem()
		for i := range to.NumField() {
			if !from.Field(i).IsZero() {
				to.Field(i).Set(from.Field(i))
				key, _, _ := strings.Cut(to.Type().Field(i).Tag.Get("toml"), ",")
				m.from[key] = c.Doc
			}
		}
	}
	return m
}

// at is where a key's value comes from.
func (m *Material) at(key string) fault.Place {
	if doc := m.from[key]; doc != nil {
		return doc.At(key)
	}
	return m.Doc.At(key)
}

// Metres is how many metres one repeat of the texture covers; given is false when no file says so.
func (m *Material) Metres() (size float64, given bool) {
	if m.Size == nil {
		return 2, false
	}
	return *m.Size, true
}

// Check says what is wrong with a resolved material in itself.
func (m *Material) Check(surfaces []string) []finding.Finding {
	var list []finding.Finding
	if m.Colour == "" {
		list = append(list, m.Doc.Wrong([]any{"colour"}, "colour is missing: the texture that the surface shows"))
	}
	if m.Surface == "" || len(surfaces) == 0 || slices.Contains(surfaces, m.Surface) {
		return list
	}
	f := finding.MaterialSurface.At(m.at("surface"), "the game has no surface %q", m.Surface)
	if near := suggest.Word(m.Surface, surfaces); near != "" {
		f = f.Doing("Did you mean %q?", near)
	} else {
		f = f.Doing("Choose one of: %s.", strings.Join(surfaces, ", "))
	}
	return append(list, f)
}

// References lists the textures that the material names.
func (m *Material) References() []Reference {
	var list []Reference
	for _, r := range m.textures() {
		if *r.value != "" {
			list = append(list, Reference{r.key, *r.value, r.kinds, m.at(r.key)})
		}
	}
	return list
}

type slot struct {
	key   string
	value *string
	kinds []texture.Kind
}

// textures are the keys that name textures, with the kinds that suit them.
func (m *Material) textures() []slot {
	return []slot{
		{"colour", &m.Colour, []texture.Kind{texture.Colour, texture.Interface}},
		{"normal", &m.Normal, []texture.Kind{texture.Normal}},
		{"detail", &m.Detail, []texture.Kind{texture.Colour, texture.Mask}},
		{"mask", &m.Mask, []texture.Kind{texture.Mask, texture.Height}},
		{"emission", &m.Emission, []texture.Kind{texture.Colour, texture.Glow}},
	}
}

// endings are those that people write behind an asset's name.
var endings = append(slices.Clone(texture.Endings), ".toml", ".wav", ".ogg", ".vnm")

// BadReference is what is wrong with the form of a reference to an asset: a finding's kind, nil for
// a good one; in words; and the name that was probably meant, as far as its form tells.
func BadReference(ref string) (k *finding.Kind, why, meant string) {
	clean := strings.ReplaceAll(ref, `\`, "/")
	lower := strings.ToLower(clean)
	for _, ending := range endings {
		if strings.HasSuffix(lower, ending) {
			clean = clean[:len(clean)-len(ending)]
			k, why = finding.RefEnding, "has an ending ("+ending+")"
			break
		}
	}
	switch {
	case strings.Contains(ref, `\`):
		k, why = finding.RefForm, "has a backslash"
	case slices.Contains(strings.Split(clean, "/"), ".."):
		k, why = finding.RefForm, "leads out of its folder"
	}
	if strings.HasPrefix(clean, "/") || len(clean) > 1 && clean[1] == ':' {
		k, why = finding.RefAbsolute, "is an absolute path"
		_, clean, _ = strings.Cut(clean, "/")
	}
	parts := slices.DeleteFunc(strings.Split(clean, "/"),
		func(p string) bool { return p == ".." || p == "." || p == "" })
	return k, why, strings.Join(parts, "/")
}

// compiledForm is what ships: every value written out.
type compiledForm struct {
	Version        int     `toml:"version"`
	Surface        string  `toml:"surface"`
	Shading        string  `toml:"shading"`
	Colour         string  `toml:"colour"`
	Normal         string  `toml:"normal,omitempty"`
	Detail         string  `toml:"detail,omitempty"`
	DetailRepeat   float64 `toml:"detail_repeat,omitempty"`
	DetailStrength float64 `toml:"detail_strength,omitempty"`
	Mask           string  `toml:"mask,omitempty"`
	Emission       string  `toml:"emission,omitempty"`
	EmissionPower  float64 `toml:"emission_power,omitempty"`
	Reflection     float64 `toml:"reflection,omitempty"`
	Roughness      float64 `toml:"roughness,omitempty"`
	Murk           float64 `toml:"murk,omitempty"`
	Tint           string  `toml:"tint"`
	Contrast       float64 `toml:"contrast"`
	Saturation     float64 `toml:"saturation"`
	SeeThrough     string  `toml:"see_through"`
	DoubleSided    bool    `toml:"double_sided"`
	Solid          bool    `toml:"solid"`
	Size           float64 `toml:"size"`
	Friction       float64 `toml:"friction,omitempty"`
	Footstep       string  `toml:"footstep,omitempty"`
}

// DefaultRoughness is how blurred what a surface mirrors is, where nobody says so.
const DefaultRoughness = 0.1

// Footing is what a surface is like underfoot.
type Footing struct {
	Friction float64
	Footstep string
}

func or[T any](p *T, value T) T {
	if p == nil {
		return value
	}
	return *p
}

// Compile writes the form of a resolved material that ships. texturePath turns a texture's name
// into its path in the game.
func (m *Material) Compile(texturePath func(string) string, footing Footing) ([]byte, error) {
	path := func(name string) string {
		if name == "" {
			return ""
		}
		return texturePath(name)
	}
	size, _ := m.Metres()
	out := compiledForm{Version: 1, Surface: m.Surface, Shading: cmp.Or(m.Shading, "lit"), Colour: path(m.Colour),
		Normal: path(m.Normal), Mask: path(m.Mask),
		Tint: cmp.Or(m.Tint, "#ffffff"), Contrast: or(m.Contrast, 1), Saturation: or(m.Saturation, 1),
		SeeThrough:  cmp.Or(m.SeeThrough, SeeThroughNo),
		DoubleSided: or(m.DoubleSided, false), Solid: or(m.Solid, true), Size: size, Friction: footing.Friction,
		Footstep: footing.Footstep}
	if m.Detail != "" {
		out.Detail, out.DetailRepeat, out.DetailStrength = path(m.Detail), or(m.DetailRepeat, 8),
			or(m.DetailStrength, 0.5)
	}
	if m.Emission != "" {
		out.Emission, out.EmissionPower = path(m.Emission), or(m.EmissionPower, 1)
	}
	if out.Reflection = or(m.Reflection, 0); out.Reflection > 0 {
		out.Roughness = or(m.Roughness, DefaultRoughness)
	}
	out.Murk = or(m.Murk, 0)
	var b bytes.Buffer
	if err := toml.NewEncoder(&b).Encode(out); err != nil {
		return nil, fmt.Errorf("writing the material %s: %w", m.Doc.Name, err)
	}
	return b.Bytes(), nil
}

// ParseCompiled reads a compiled material and returns the game paths of its textures.
func ParseCompiled(name string, data []byte) (textures []string, err error) {
	var c compiledForm
	if _, list := tomlfile.Decode(name, data, &c); len(list) > 0 {
		return nil, &finding.Failure{What: "the material can't be read", Findings: list}
	}
	if c.Version != 1 {
		return nil, fmt.Errorf("the material %s is of version %d, and this Vornix reads version 1", name, c.Version)
	}
	for _, t := range []string{c.Colour, c.Normal, c.Detail, c.Mask, c.Emission} {
		if t != "" {
			textures = append(textures, t)
		}
	}
	return textures, nil
}
