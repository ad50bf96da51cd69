package profile

import (
	"maps"
	"slices"
	"strings"

	"vornix/core/base/safefile"
	"vornix/core/format/texture"
)

// Picture is a picture that the game, or a workshop, wants.
type Picture struct {
	Name     string          `toml:"name" jsonschema:"required,pattern=^[a-z0-9]+(-[a-z0-9]+)*$,description=Short name that the project's recipes use\\, such as thumbnail"`
	Title    string          `toml:"title" jsonschema:"description=What it is for\\, in words"`
	Each     string          `toml:"each" jsonschema:"enum=map,enum=mod,description=Once for every map\\, or once for the project (default map)"`
	File     string          `toml:"file" jsonschema:"required,description=Path of the file; {map} {name} {version} {variant} and {n} are filled in. Of a texture: its name\\, in the folder of textures\\, without an ending"`
	Place    string          `toml:"place" jsonschema:"enum=inside,enum=beside,description=In the tree and so in the bundle\\, or beside it in out/pictures (default inside)"`
	Form     string          `toml:"form" jsonschema:"enum=png,enum=jpeg,enum=texture,description=File form; JPEG is baseline (default png)"`
	Width    int             `toml:"width" jsonschema:"minimum=1,maximum=16384,description=Width in pixels"`
	Height   int             `toml:"height" jsonschema:"minimum=1,maximum=16384,description=Height in pixels"`
	Variants map[string]Size `toml:"variants" jsonschema:"description=Other sizes of the same picture\\, by name\\, such as normal and wide; instead of width and height"`
	Count    int             `toml:"count" jsonschema:"minimum=1,maximum=99,description=How many there are at most\\, as {n} from 1 (default 1)"`
	Least    int             `toml:"least" jsonschema:"minimum=1,maximum=99,description=How many there must be (default 1)"`
	Optional bool            `toml:"optional" jsonschema:"description=Whether the game does without"`

	MostBytes    int64 `toml:"most_bytes" jsonschema:"minimum=1,description=Largest size of the file in bytes; a JPEG's quality is chosen for it (default: any)"`
	Quality      int   `toml:"quality" jsonschema:"minimum=1,maximum=100,description=Quality of a JPEG that need not be made smaller (default 90)"`
	LeastQuality int   `toml:"least_quality" jsonschema:"minimum=1,maximum=100,description=Quality below which a JPEG is not worth looking at (default 50)"`

	Mips     bool   `toml:"mips" jsonschema:"description=Whether a texture has mip levels (default false)"`
	Alpha    bool   `toml:"alpha" jsonschema:"description=Whether the image's alpha is kept (default false)"`
	Format   string `toml:"format" jsonschema:"enum=auto,enum=rgba8,enum=bc1,enum=bc1a,enum=bc2,enum=bc3,enum=bc7,description=Format of a texture (default auto: the smallest of those that lose least)"`
	Material string `toml:"material" jsonschema:"description=Name of an unlit material that is written beside a texture and shows it"`

	Painting // what is done to it in every project, unless that says otherwise
}

// Size is a size in pixels.
type Size struct {
	Width  int `toml:"width" jsonschema:"required,minimum=1,maximum=16384"`
	Height int `toml:"height" jsonschema:"required,minimum=1,maximum=16384"`
}

// Forms and places of pictures.
const (
	PNG     = "png"
	JPEG    = "jpeg"
	Texture = "texture"
	Inside  = "inside"
	Beside  = "beside"
)

// Sizes are the sizes that a picture has, by variant in order of their names; the only one of a
// picture without variants is "".
func (p *Picture) Sizes() (names []string, sizes []Size) {
	if len(p.Variants) == 0 {
		return []string{""}, []Size{{p.Width, p.Height}}
	}
	names = slices.Sorted(maps.Keys(p.Variants))
	for _, n := range names {
		sizes = append(sizes, p.Variants[n])
	}
	return names, sizes
}

func (p *Picture) fill() {
	orDefault(&p.Each, "map")
	orDefault(&p.Place, Inside)
	orDefault(&p.Form, PNG)
	orDefault(&p.Format, "auto")
	for _, d := range []struct {
		of    *int
		value int
	}{{&p.Count, 1}, {&p.Least, 1}, {&p.Quality, 90}, {&p.LeastQuality, 50}} {
		if *d.of == 0 {
			*d.of = d.value
		}
	}
}

const (
	// maxPixels is the longest side of a picture.
	maxPixels = 16384
	// maxArea is the most pixels of a picture: while it is drawn each takes some tens of bytes.
	maxArea = 40000000
)

// pictures checks the list of pictures.
func (p *Profile) pictures(wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	seen := map[string]bool{}
	for i := range p.Pictures {
		x := &p.Pictures[i]
		at := func(key ...any) []any { return append([]any{"picture", i}, key...) }
		if !nameForm().MatchString(x.Name) {
			wrong(at("name"), "the picture's name must be small letters, digits and hyphens, and is %q", x.Name)
		}
		if seen[x.Name] {
			wrong(at("name"), "there is another picture %q", x.Name)
		}
		seen[x.Name] = true
		oneOf(x.Each, []string{"map", "mod"}, at("each")...)
		oneOf(x.Place, []string{Inside, Beside}, at("place")...)
		oneOf(x.Form, []string{PNG, JPEG, Texture}, at("form")...)
		for _, w := range []struct {
			part string
			must bool
			why  string
		}{{"{map}", x.Each == "map", "a picture for every map needs"}, {"{n}", x.Count > 1, "several pictures need"},
			{"{variant}", len(x.Variants) > 0, "variants need"}} {
			if w.must && !strings.Contains(x.File, w.part) {
				wrong(at("file"), "%s %s in its path, or all would share one file", w.why, w.part)
			}
			if w.must && x.Material != "" && !strings.Contains(x.Material, w.part) {
				wrong(at("material"), "%s %s in the material's name", w.why, w.part)
			}
		}
		filled := strings.NewReplacer("{", "", "}", "")
		for _, w := range []struct{ key, path string }{{"file", x.File}, {"material", x.Material}} {
			if (w.key == "file" || w.path != "") && safefile.CheckPath(filled.Replace(w.path)) != nil {
				wrong(at(w.key), "%q is no path with forward slashes that stays inside its folder", w.path)
			}
		}
		if x.Least > x.Count {
			wrong(at("least"), "at least %d of at most %d can't be", x.Least, x.Count)
		}
		if x.LeastQuality > x.Quality {
			wrong(at("least_quality"), "the least quality %d is above the best, %d", x.LeastQuality, x.Quality)
		}
		for _, n := range []struct {
			key   string
			value int64
			most  int64
		}{{"count", int64(x.Count), 99}, {"least", int64(x.Least), 99}, {"quality", int64(x.Quality), 100},
			{"least_quality", int64(x.LeastQuality), 100}, {"most_bytes", x.MostBytes, 1 << 40}} {
			if n.value < 0 || n.value > n.most {
				wrong(at(n.key), "%s must lie between 1 and %d, and is %d", n.key, n.most, n.value)
			}
		}
		if len(x.Variants) > 0 && (x.Width != 0 || x.Height != 0) {
			wrong(at("variants"), "give either variants or width and height")
		}
		names, sizes := x.Sizes()
		for k, s := range sizes {
			path := at("width")
			if names[k] != "" {
				path = at("variants", names[k])
			}
			switch {
			case s.Width < 1 || s.Height < 1 || s.Width > maxPixels || s.Height > maxPixels:
				wrong(path, "a picture has 1 to %d pixels a side, and this %d x %d", maxPixels, s.Width, s.Height)
			case s.Width*s.Height > maxArea:
				wrong(path, "a picture has at most %d million pixels, and this %d x %d", maxArea/1000000, s.Width,
					s.Height)
			case x.Form == Texture && !p.Textures.SizeRule().Takes(s.Width, s.Height):
				wrong(path, "a texture of %d x %d breaks the rule for sizes under [textures]", s.Width, s.Height)
			}
		}
		if x.Form != Texture {
			for _, only := range []struct {
				key  string
				used bool
			}{{"mips", x.Mips}, {"material", x.Material != ""}, {"format", x.Format != "auto"}} {
				if only.used {
					wrong(at(only.key), "%s is for pictures with form = \"texture\"", only.key)
				}
			}
		}
		if x.Form == Texture && x.Place == Beside {
			wrong(at("place"), "a texture is for the game: it can't be beside the bundle")
		}
		x.Validate(func(key, format string, args ...any) { wrong(at(key), format, args...) })
		for _, own := range []struct {
			key  string
			used bool
		}{{"image", x.Image != ""}, {"images", len(x.Images) > 0}, {"as_is", x.AsIs != nil}, {"font", x.Font != ""},
			{"map", x.Map != ""}} {
			if own.used {
				wrong(at(own.key), "%s is for a project's recipe: a game does not know what files a project has",
					own.key)
			}
		}
		if x.Form == JPEG && x.Alpha {
			wrong(at("alpha"), "a JPEG has no alpha")
		}
		if f, ok := texture.ParseFormat(x.Format); x.Format != "auto" &&
			(!ok || !slices.Contains(p.Textures.FormatList(), f)) {
			wrong(at("format"), "%q is none of the formats under [textures]", x.Format)
		}
	}
}

// String names the picture for messages.
func (p *Picture) String() string {
	if p.Title != "" {
		return p.Name + " (" + p.Title + ")"
	}
	return p.Name
}
