package profile

import (
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Pack says how content is packed.
type Pack struct {
	Form     string     `toml:"form" jsonschema:"enum=mod,enum=map,enum=map-file,description=One bundle a project (mod)\\, one a map (map)\\, or content appended to each compiled map (map-file)"`
	Name     string     `toml:"name" jsonschema:"description=File name of the bundle; {name} and {version} are filled in\\, with form map or map-file {map}\\, and with largest {part}"`
	Compress string     `toml:"compress" jsonschema:"enum=deflate,enum=zstd,enum=store,description=How entries are packed (default deflate); what does not shrink is stored"`
	Kinds    []PackKind `toml:"kind" jsonschema:"description=Files that are packed otherwise; the first that matches counts"`
	Largest  int64      `toml:"largest" jsonschema:"minimum=0,description=Most bytes of a bundle; what is more goes into further ones (default: no limit)"`
}

// PackKind says how some files are packed.
type PackKind struct {
	Match    string `toml:"match" jsonschema:"required,description=Pattern on the path in the game; ** crosses folders"`
	Compress string `toml:"compress" jsonschema:"enum=deflate,enum=zstd,enum=store,description=How they are packed (default: as all others)"`
	Align    int    `toml:"align" jsonschema:"minimum=0,description=Their data begins at a multiple of this in the bundle\\, a power of two\\, for games that map it into memory"`
}

// Kind is how a file is packed; nil when it is like all others.
func (p *Pack) Kind(gamePath string) *PackKind {
	for i, k := range p.Kinds {
		if ok, _ := doublestar.Match(k.Match, gamePath); ok {
			return &p.Kinds[i]
		}
	}
	return nil
}

func (p *Pack) fill() {
	orDefault(&p.Form, "mod")
	orDefault(&p.Compress, "deflate")
	part := ""
	if p.Largest > 0 {
		part = "-{part}"
	}
	switch p.Form {
	case "map":
		orDefault(&p.Name, "{map}-{version}"+part+".zip")
	case "map-file":
		orDefault(&p.Name, "{map}.vnm")
	default:
		orDefault(&p.Name, "{name}-{version}"+part+".zip")
	}
}

// packing holds [pack] to its rules.
func (p *Profile) packing(wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	methods := []string{"deflate", "zstd", "store"}
	oneOf(p.Pack.Form, []string{"mod", "map", "map-file"}, "pack", "form")
	oneOf(p.Pack.Compress, methods, "pack", "compress")
	if p.Pack.Form != "mod" && !strings.Contains(p.Pack.Name, "{map}") {
		wrong([]any{"pack", "name"}, "with form = %q the name must hold {map}, or all maps would share one file",
			p.Pack.Form)
	}
	if p.Pack.Form == "map-file" && !strings.HasSuffix(p.Pack.Name, ".vnm") {
		wrong([]any{"pack", "name"},
			"with form = \"map-file\" the bundle is a compiled map, and its name must end in .vnm")
	}
	if p.Pack.Largest > 0 {
		switch {
		case p.Pack.Form == "map-file":
			wrong([]any{"pack", "largest"}, "with form = \"map-file\" the content of a map can't be split")
		case !strings.Contains(p.Pack.Name, "{part}"):
			wrong([]any{"pack", "name"}, "with largest the name must hold {part}, or all parts would share one file")
		}
	}
	for i, k := range p.Pack.Kinds {
		if !doublestar.ValidatePattern(k.Match) || k.Match == "" {
			wrong([]any{"pack", "kind", i, "match"}, "%q is no pattern", k.Match)
		}
		if k.Compress != "" {
			oneOf(k.Compress, methods, "pack", "kind", i, "compress")
		}
		if k.Align < 0 || k.Align&(k.Align-1) != 0 || k.Align > 1<<16 {
			wrong([]any{"pack", "kind", i, "align"}, "align must be a power of two up to 65536, and is %d", k.Align)
		}
	}
}
