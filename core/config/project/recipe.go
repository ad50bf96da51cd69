package project

import (
	"reflect"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/finding"
	"vornix/core/base/tomlfile"
	"vornix/core/config/profile"
	"vornix/core/format/texture"
	"vornix/core/format/texture/bcn"
)

// Recipe says how the images that match a pattern become textures.
type Recipe struct {
	Match string `toml:"match" jsonschema:"required,description=Pattern on the path inside the folder of images; ** crosses folders"`
	Making
}

// Making is how images become a texture. What is left out comes from an earlier recipe, or from the kind.
type Making struct {
	Kind        string  `toml:"kind,omitempty" jsonschema:"enum=colour,enum=normal,enum=mask,enum=height,enum=light,enum=interface,description=What the image is for (default: what the materials that name it use it for; else colour)"`
	Format      string  `toml:"format,omitempty" jsonschema:"enum=auto,enum=rgba8,enum=rg8,enum=r8,enum=bc1,enum=bc1a,enum=bc2,enum=bc3,enum=bc4,enum=bc5,enum=bc6h,enum=bc7,enum=rgba16f,description=auto: of the formats that the profile allows the smallest of those that lose least (default auto)"`
	ColourSpace string  `toml:"colour_space,omitempty" jsonschema:"enum=srgb,enum=linear,description=srgb for colours\\, linear for data (default: by kind)"`
	Size        string  `toml:"size,omitempty" jsonschema:"enum=refuse,enum=nearest,enum=up,enum=down,description=What to do with an image whose size breaks the game's rule: refuse it (default) or resize it\\, its sides to the nearest power of two\\, the next larger or the next smaller"`
	Aspect      string  `toml:"aspect,omitempty" jsonschema:"enum=stretch,enum=keep,description=Whether resizing may stretch (default stretch); keep scales both sides alike and repeats the edge over the rest"`
	Mips        *bool   `toml:"mips,omitempty" jsonschema:"description=Whether to make mip levels (default true\\, for interface false)"`
	Levels      int     `toml:"levels,omitempty" jsonschema:"minimum=1,description=Most mip levels (default: all)"`
	Filter      string  `toml:"filter,omitempty" jsonschema:"enum=box,enum=triangle,enum=cubic,description=Filter of mip levels and of resizing (default box; triangle is softer\\, cubic sharper)"`
	Edge        string  `toml:"edge,omitempty" jsonschema:"enum=clamp,enum=wrap,description=What lies beyond the image's edge when filtering: the last texel or the image again (default clamp)"`
	Coverage    *bool   `toml:"coverage,omitempty" jsonschema:"description=Whether smaller levels keep as large a part drawn (default: for colour with one-bit alpha)"`
	Quality     string  `toml:"quality,omitempty" jsonschema:"enum=draft,enum=normal,enum=best,description=How long to search for the best blocks (default normal)"`
	FromHeight  *bool   `toml:"from_height,omitempty" jsonschema:"description=Make a normal map of the image's brightness"`
	Strength    float64 `toml:"strength,omitempty" jsonschema:"exclusiveMinimum=0,maximum=1000,description=With from_height: how many texels high white stands over black (default 4)"`
	Green       string  `toml:"green,omitempty" jsonschema:"enum=up,enum=down,description=Which way green grows in a normal map's source (default: as the game wants it)"`
	Shape       string  `toml:"shape,omitempty" jsonschema:"enum=flat,enum=cube,enum=array,description=cube: six squares in a strip or a cross\\, or six images; array: several images (default flat)"`
}

// SidecarEnding ends the name of a file that says how one texture is made: plank.texture.toml beside plank.png.
const SidecarEnding = ".texture.toml"

// Sidecar is the file beside an image that says how it becomes a texture; it overrides every recipe.
type Sidecar struct {
	Making
	Images []string `toml:"images,omitempty" jsonschema:"description=Images that the texture is made of\\, as paths inside the folder of images with their endings; for a cube right left up down front back. Without it: the image beside this file"`

	Doc *tomlfile.Document `toml:"-" json:"-"`
}

// ParseSidecar reads a sidecar file.
func ParseSidecar(name string, data []byte) (*Sidecar, []finding.Finding) {
	s := &Sidecar{}
	doc, list := tomlfile.Decode(name, data, s)
	s.Doc = doc
	if len(list) > 0 {
		return nil, list
	}
	list = s.validate(doc)
	if len(s.Images) > 1 && s.Shape != "cube" && s.Shape != "array" {
		list = append(list,
			doc.Wrong([]any{"images"}, "%d images make a cube or an array: shape must say which", len(s.Images)))
	}
	if len(list) > 0 {
		return nil, list
	}
	return s, nil
}

// validate checks the values; path leads to the table they stand in.
func (m *Making) validate(doc *tomlfile.Document, path ...any) []finding.Finding {
	var list []finding.Finding
	wrong := func(key, format string, args ...any) {
		list = append(list, doc.Wrong(append(slices.Clone(path), key), format, args...))
	}
	for _, w := range []struct {
		key, value string
		known      []string
	}{
		{"kind", m.Kind, texture.Kinds()}, {"format", m.Format, append([]string{"auto"}, texture.FormatNames()...)},
		{"colour_space", m.ColourSpace, []string{"srgb", "linear"}}, {"size", m.Size, texture.SizeWays},
		{"aspect", m.Aspect, []string{"stretch", "keep"}},
		{"filter", m.Filter, texture.FilterNames}, {"edge", m.Edge, texture.EdgeNames},
		{"quality", m.Quality, bcn.Qualities()},
		{"green", m.Green, []string{texture.Up, texture.Down}}, {"shape", m.Shape, texture.ShapeNames},
	} {
		if w.value != "" && !slices.Contains(w.known, w.value) {
			wrong(w.key, "%s must be one of %s, and is %q", w.key, strings.Join(w.known, ", "), w.value)
		}
	}
	if m.Levels < 0 {
		wrong("levels", "levels must be at least 1, and is %d", m.Levels)
	}
	if m.Strength < 0 || m.Strength > 1000 {
		wrong("strength", "strength must lie between 0 and 1000 texels, and is %v", m.Strength)
	}
	return list
}

// over overrides by what o says.
func (m *Making) over(o *Making) {
	to, from := reflect.ValueOf(m).Elem(), reflect.ValueOf(o).Elem()
	for i := range to.NumField() {
		if !from.Field(i).IsZero() {
			to.Field(i).Set(from.Field(i))
		}
	}
}

// Making is what the project's recipes say of an image, and its sidecar (or nil) over them.
func (p *Project) Making(source string, sidecar *Sidecar) Making {
	image := strings.TrimPrefix(source, p.File.Sources.Textures+"/")
	var m Making
	for i := range p.File.Textures {
		r := &p.File.Textures[i]
		if ok, _ := doublestar.Match(r.Match, image); ok {
			m.over(&r.Making)
		}
	}
	if sidecar != nil {
		m.over(&sidecar.Making)
	}
	return m
}

// Recipe is the making with everything settled, for a game with these rules. used is what materials use the image for;
// empty when none does.
func (m Making) Recipe(rules profile.Textures, used texture.Kind) texture.Recipe {
	r := texture.Recipe{Kind: texture.Colour, Allowed: rules.FormatList(), Strength: 400, Green: m.Green,
		GreenOut: rules.Green, Coverage: m.Coverage}
	isTrue := func(b *bool) bool { return b != nil && *b }
	switch {
	case m.Kind != "":
		r.Kind = texture.Kind(m.Kind)
	case isTrue(m.FromHeight):
		r.Kind = texture.Normal
	case used != "":
		r.Kind = used
	}
	r.Format, r.Forced = texture.ParseFormat(m.Format)
	r.SRGB = r.Kind.IsColour()
	if m.ColourSpace != "" {
		r.SRGB = m.ColourSpace == "srgb"
	}
	r.Size = rules.SizeRule()
	r.Size.How, r.Size.KeepAspect = m.Size, m.Aspect == "keep"
	r.Quality, _ = bcn.ParseQuality(m.Quality)
	r.Levels = m.Levels
	if m.Mips != nil && !*m.Mips || m.Mips == nil && m.Levels == 0 && r.Kind == texture.Interface {
		r.Levels = 1
	}
	r.Filter = texture.Filter(max(slices.Index(texture.FilterNames, m.Filter), 0))
	r.Edge = texture.Edge(max(slices.Index(texture.EdgeNames, m.Edge), 0))
	r.Shape = texture.Shape(max(slices.Index(texture.ShapeNames, m.Shape), 0))
	r.FromHeight = isTrue(m.FromHeight)
	if m.Strength > 0 {
		r.Strength = int(float64(m.Strength*100) + 0.5)
	}
	return r
}

// Below is a slash path seen from a folder above it; ok is false when it does not lie there.
func Below(folder, file string) (rel string, ok bool) { return strings.CutPrefix(file, folder+"/") }
