package profile

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/charset"
	"vornix/core/base/suggest"
	"vornix/core/base/template"
)

// Addon declares metadata fields and the files they are written to.
type Addon struct {
	Fields    []Field     `toml:"field" jsonschema:"description=Fields that the game or workshop knows"`
	Files     []AddonFile `toml:"file" jsonschema:"description=Files that the fields are written to"`
	Agrees    []Agree     `toml:"agree" jsonschema:"description=Names and titles that must be the same\\, or the game does not find what belongs together"`
	Languages []string    `toml:"languages" jsonschema:"description=Languages that the game shows\\, such as en and de: each should have a file of texts (default: no rule)"`
}

// Field is one metadata field.
type Field struct {
	Name       string   `toml:"name" jsonschema:"required,pattern=^[a-z][a-z0-9_]*$,description=Name of the field"`
	Type       string   `toml:"type" jsonschema:"required,enum=text,enum=list,enum=flag,enum=number,enum=picture,description=Type of its value; a picture is the name of an image file"`
	From       string   `toml:"from" jsonschema:"description=What Vornix fills it with: title\\, name\\, version\\, authors\\, description\\, maps\\, map\\, map_count\\, modes\\, players\\, players_least\\, players_most\\, kinds\\, game_version\\, content\\, picture\\, and of the packed bundles bundles\\, bundle\\, size\\, files\\, hash; empty: the project's [addon] section"`
	Longest    int      `toml:"longest" jsonschema:"minimum=0,description=Longest text or word in characters; 0 for no limit"`
	Most       *float64 `toml:"most" jsonschema:"description=Most words of a list\\, or largest number"`
	Least      *float64 `toml:"least" jsonschema:"description=Fewest words of a list\\, or smallest number"`
	Required   bool     `toml:"required" jsonschema:"description=Whether it must not be empty"`
	Allowed    []string `toml:"allowed" jsonschema:"description=The only words it may hold"`
	Pattern    string   `toml:"pattern" jsonschema:"description=Regular expression that the whole text\\, or each word of a list\\, must match"`
	Characters string   `toml:"characters" jsonschema:"description=Regular expression class of the characters it may have\\, such as \\x20-\\x7e (default: any)"`
	Holds      []string `toml:"holds" jsonschema:"description=Of a flag: patterns of files as the game sees them; the flag says whether any ships"`
	Picture    string   `toml:"picture" jsonschema:"description=Of a picture: the name of the [[picture]] whose size and form it must have"`
	Translated bool     `toml:"translated" jsonschema:"description=Whether each language has its own text"`
}

// AddonFile is one file of metadata.
type AddonFile struct {
	Path      string         `toml:"path" jsonschema:"required,description=File name; {name} {version} {map} and {language} are filled in"`
	Form      string         `toml:"form" jsonschema:"required,enum=json,enum=toml,enum=yaml,enum=xml,enum=ini,enum=text,description=File form; text needs a template"`
	Place     string         `toml:"place" jsonschema:"enum=inside,enum=beside,description=Inside the bundle at this path\\, or beside it (default beside)"`
	Each      string         `toml:"each" jsonschema:"enum=mod,enum=map,enum=language,description=Once for the project\\, once for every map\\, or once for every language (default mod)"`
	Structure map[string]any `toml:"structure" jsonschema:"description=What stands in it: tables and keys whose texts hold {field} (default: all fields\\, one below the other). A table with for_each = map\\, bundle or language stands once for each"`
	Root      string         `toml:"root" jsonschema:"description=Name of the outermost element of XML (default addon)\\, or the section of INI that what stands in no table goes into (default: the project's name)"`
	Template  string         `toml:"template" jsonschema:"description=Template of Go's text/template for the form text: {{.field}}\\, {{range .each_map}}{{.name}}\\, {{range .each_bundle}}{{.file}}\\, {{range .each_language}}; in a file for each map {{.one.name}}"`
	Escape    string         `toml:"escape" jsonschema:"enum=line,enum=quotes,enum=json,enum=csv,enum=xml,enum=percent,enum=none,description=How a template's values are escaped (default line)"`
	Encoding  string         `toml:"encoding" jsonschema:"enum=utf-8,enum=utf-16le,enum=utf-16be,enum=latin-1,enum=windows-1252,enum=windows-1251,enum=cp437,description=Encoding (default utf-8)"`
	Mark      string         `toml:"mark" jsonschema:"enum=yes,enum=no,description=Whether it begins with a byte-order mark (default no)"`
	Lines     string         `toml:"lines" jsonschema:"enum=lf,enum=crlf,description=Line ends (default lf)"`
}

// Agree is a rule that texts must be the same.
type Agree struct {
	Texts   []string `toml:"texts" jsonschema:"required,description=Texts with {field}\\, {bundle.stem}\\, {map.name} and so on that must be the same"`
	Loosely bool     `toml:"loosely" jsonschema:"description=Whether only letters and digits count\\, small or capital"`
	Why     string   `toml:"why" jsonschema:"description=What happens otherwise\\, in a sentence"`
}

// Index says which other forms the version index takes.
type Index struct {
	Texts []IndexText `toml:"text" jsonschema:"description=Plain-text forms of the index"`
}

// IndexText is a form of the index that a game reads: a line for each map, or a template.
type IndexText struct {
	File     string `toml:"file" jsonschema:"required,description=File name; {name} and {version} are filled in"`
	Line     string `toml:"line" jsonschema:"description=The line for each map; filled in are the names that a line of [[server.list]] knows"`
	Head     string `toml:"head" jsonschema:"description=Text before the first line"`
	Foot     string `toml:"foot" jsonschema:"description=Text behind the last line"`
	Template string `toml:"template" jsonschema:"description=Template of Go's text/template instead of lines: {{range .bundles}} with .file .version .url .size .sha256 and {{range .maps}} with .name .title .modes"`
	Escape   string `toml:"escape" jsonschema:"enum=line,enum=quotes,enum=json,enum=csv,enum=xml,enum=percent,enum=none,description=How values are escaped (default line: control characters become spaces)"`
	Encoding string `toml:"encoding" jsonschema:"enum=utf-8,enum=utf-16le,enum=utf-16be,enum=latin-1,enum=windows-1252,enum=windows-1251,enum=cp437,description=Encoding (default utf-8)"`
	Mark     string `toml:"mark" jsonschema:"enum=yes,enum=no,description=Whether it begins with a byte-order mark (default no)"`
	Lines    string `toml:"lines" jsonschema:"enum=lf,enum=crlf,description=Line ends (default lf)"`
}

// Style is how a text is written.
func style(encoding, mark, lines string) charset.Style {
	s := charset.Style{Encoding: encoding, Mark: mark, Lines: lines}
	orDefault(&s.Encoding, "utf-8")
	orDefault(&s.Mark, "no")
	orDefault(&s.Lines, "lf")
	return s
}

// Style is the encoding and line ends of the file.
func (f *AddonFile) Style() charset.Style { return style(f.Encoding, f.Mark, f.Lines) }

// Style is the encoding and line ends of the file.
func (t *IndexText) Style() charset.Style { return style(t.Encoding, t.Mark, t.Lines) }

// ForEach is the key of a table in a structure that says for what it is repeated.
const ForEach = "for_each"

// fromTypes are the types of what Vornix fills in.
var fromTypes = map[string][]string{
	"title": {"text"}, "name": {"text"}, "version": {"text"}, "authors": {"list", "text"}, "description": {"text"},
	"maps": {"list", "text"}, "map": {"text"}, "map_count": {"number"}, "modes": {"list", "text"},
	"players": {"text"}, "players_least": {"number"}, "players_most": {"number"}, "kinds": {"list", "text"},
	"game_version": {"text"}, "content": {"flag"}, "picture": {"picture", "text", "list"},
	"bundles": {"list", "text"}, "bundle": {"text"}, "size": {"number"}, "files": {"number"}, "hash": {"text", "list"},
}

// OfBundle says whether a field speaks of the packed bundles, so that it can't stand inside one.
func (f *Field) OfBundle() bool {
	return slices.Contains([]string{"bundles", "bundle", "size", "files", "hash"}, f.From)
}

// items are what can be said of what a structure is repeated for.
var items = map[string][]string{
	"map":      {"map.name", "map.title", "map.modes", "map.players", "map.least", "map.most", "map.file", "map.game"},
	"bundle":   {"bundle.file", "bundle.stem", "bundle.size", "bundle.sha256", "bundle.files", "bundle.maps"},
	"language": {"language", "texts"},
}

func (p *Profile) fillMetadata() {
	for i := range p.Addon.Files {
		orDefault(&p.Addon.Files[i].Place, "beside")
		orDefault(&p.Addon.Files[i].Each, "mod")
		orDefault(&p.Addon.Files[i].Escape, "line")
	}
	for i := range p.Index.Texts {
		orDefault(&p.Index.Texts[i].Escape, "line")
	}
}

// metadata holds [addon] and [index] to their rules.
func (p *Profile) metadata(wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	for i, s := range p.Game.Since {
		if !IsGameVersion(s.Version) {
			wrong([]any{"game", "since", i, "version"},
				"a version of the game is numbers with points between them, as in 1.2, and is %q", s.Version)
		}
		for _, pattern := range s.Files {
			if !doublestar.ValidatePattern(pattern) {
				wrong([]any{"game", "since", i, "files"}, "%q is no pattern", pattern)
			}
		}
	}
	if p.Game.Version != "" && !IsGameVersion(p.Game.Version) {
		wrong([]any{"game", "version"},
			"a version of the game is numbers with points between them, as in 1.2, and is %q", p.Game.Version)
	}
	names := map[string]bool{}
	for i := range p.Addon.Fields {
		f := &p.Addon.Fields[i]
		at := func(key string) []any { return []any{"addon", "field", i, key} }
		if names[f.Name] || !fieldName().MatchString(f.Name) || f.Name == "language" || f.Name == "texts" {
			wrong(at("name"),
				"the name of a field must be small letters, digits and _, its own, and not language or texts; it is %q",
				f.Name)
		}
		names[f.Name] = true
		oneOf(f.Type, []string{"text", "list", "flag", "number", "picture"}, at("type")...)
		if f.From != "" {
			oneOf(f.From, slices.Sorted(maps.Keys(fromTypes)), at("from")...)
			if types := fromTypes[f.From]; types != nil && !slices.Contains(types, f.Type) {
				wrong(at("type"), "%s is a %s, and the field's type is %q", f.From, strings.Join(types, " or a "),
					f.Type)
			}
		}
		if _, err := regexp.Compile(f.Pattern); err != nil {
			wrong(at("pattern"), "%q is no regular expression: %v", f.Pattern, err)
		}
		if _, err := regexp.Compile("[^" + f.Characters + "]"); f.Characters != "" && err != nil {
			wrong(at("characters"), "%q is no class of characters: %v", f.Characters, err)
		}
		for _, pattern := range f.Holds {
			if !doublestar.ValidatePattern(pattern) {
				wrong(at("holds"), "%q is no pattern", pattern)
			}
		}
		if len(f.Holds) > 0 && f.Type != "flag" || f.From == "content" && len(f.Holds) == 0 {
			wrong(at("holds"), "holds is for flags, and a flag from = \"content\" needs it")
		}
		if (f.Picture != "" || f.Type == "picture" || f.From == "picture") &&
			!slices.ContainsFunc(p.Pictures, func(x Picture) bool { return x.Name == f.Picture }) {
			wrong(at("picture"), "a field with a picture needs the name of one of the profile's pictures, and has %q",
				f.Picture)
		}
		if f.Translated && f.Type != "text" {
			wrong(at("translated"), "only texts can be translated")
		}
	}
	for i := range p.Addon.Files {
		p.addonFile(i, wrong, oneOf)
	}
	for i, a := range p.Addon.Agrees {
		if len(a.Texts) < 2 {
			wrong([]any{"addon", "agree", i, "texts"}, "two texts at least, or there is nothing to agree")
		}
		for j, t := range a.Texts {
			p.places(t, []any{"addon", "agree", i, "texts", j}, []string{"map", "bundle"}, wrong)
		}
	}
	for i := range p.Index.Texts {
		t := &p.Index.Texts[i]
		at := func(key string) []any { return []any{"index", "text", i, key} }
		oneOf(t.Escape, template.Escapes, at("escape")...)
		p.style(t.Style(), func(key string) []any { return at(key) }, oneOf)
		switch {
		case (t.Line == "") == (t.Template == ""):
			wrong(at("line"), "either a line or a template says what stands in %s", t.File)
		case t.Template != "":
			if t.Head != "" || t.Foot != "" {
				wrong(at("head"), "head and foot go with lines; a template says all of it")
			}
			if _, err := template.NewFile(t.File, t.Template, t.Escape); err != nil {
				wrong(at("template"), "the template is wrong: %v", err)
			}
		default:
			p.line(t.Line, at("line"), wrong)
		}
	}
	for i, l := range p.Server.Lists {
		if l.Escape != "" {
			oneOf(l.Escape, template.Escapes, "server", "list", i, "escape")
		}
		p.line(l.Line, []any{"server", "list", i, "line"}, wrong)
	}
}

var (
	fieldName   = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z][a-z0-9_]*$`) })
	gameVersion = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[0-9]{1,9}(\.[0-9]{1,9}){0,4}$`) })
)

// IsGameVersion says whether a text is a version of a game: numbers with points between them.
func IsGameVersion(v string) bool { return gameVersion().MatchString(v) }

// LineNames are what can be filled into the line of a list.
var LineNames = []string{"map", "title", "mode", "modes", "file", "stem", "bundle", "version", "date", "size", "sha256",
	"url", "game", "players_least", "players_most", "name", "project"}

func (p *Profile) line(line string, path []any, wrong func(path []any, format string, args ...any)) {
	for _, name := range template.Places(line) {
		if !slices.Contains(LineNames, name) {
			unknown(name, LineNames, path, wrong)
		}
	}
}

func unknown(name string, known []string, path []any, wrong func(path []any, format string, args ...any)) {
	if near := suggest.Word(name, known); near != "" {
		wrong(path, "nothing is called {%s} here; did you mean {%s}?", name, near)
		return
	}
	wrong(path, "nothing is called {%s} here; known are %s", name, strings.Join(known, ", "))
}

func (p *Profile) style(s charset.Style, at func(key string) []any,
	oneOf func(value string, words []string, path ...any)) {
	oneOf(s.Encoding, charset.Encodings, at("encoding")...)
	oneOf(s.Mark, []string{"yes", "no"}, at("mark")...)
	oneOf(s.Lines, []string{"lf", "crlf"}, at("lines")...)
}

func (p *Profile) addonFile(i int, wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	f := &p.Addon.Files[i]
	at := func(key string) []any { return []any{"addon", "file", i, key} }
	oneOf(f.Form, []string{"json", "toml", "yaml", "xml", "ini", "text"}, at("form")...)
	oneOf(f.Place, []string{"inside", "beside"}, at("place")...)
	oneOf(f.Each, []string{"mod", "map", "language"}, at("each")...)
	oneOf(f.Escape, template.Escapes, at("escape")...)
	p.style(f.Style(), at, oneOf)
	if f.Each != "mod" && !strings.Contains(f.Path, "{"+f.Each+"}") {
		wrong(at("path"), "a file for every %s needs {%s} in its path", f.Each, f.Each)
	}
	if form := keyForms[f.Form]; f.Root != "" && form == nil {
		wrong(at("root"), "only XML has an outermost element with a name, and INI sections")
	} else if f.Root != "" && (!form().MatchString(f.Root) || f.Root[0] == '@' || f.Root[0] == '#') {
		wrong(at("root"), "%q can't be a name in %s", f.Root, strings.ToUpper(f.Form))
	}
	switch {
	case f.Form == "text" && f.Template == "":
		wrong(at("template"), "the form text needs a template")
	case f.Form != "text" && f.Template != "":
		wrong(at("template"), "a template is for the form text; %s is written from a structure", f.Form)
	case f.Form == "text" && f.Structure != nil:
		wrong(at("structure"), "the form text is written from a template, not from a structure")
	case f.Template != "":
		if _, err := template.NewFile(f.Path, f.Template, f.Escape); err != nil {
			wrong(at("template"), "the template is wrong: %v", err)
		}
	}
	if f.Structure != nil {
		within := []string{}
		if f.Each != "mod" {
			within = append(within, f.Each)
		}
		p.structure(f, f.Structure, at("structure"), within, wrong)
	}
}

// keyForms are what keys must be in forms that can't quote them.
var keyForms = map[string]func() *regexp.Regexp{
	"xml": sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(@?[A-Za-z_][A-Za-z0-9_.-]*|#text)$`) }),
	"ini": sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[^=\[\];#\s][^=\[\]\r\n]*$`) }),
}

// structure holds a table of a structure to its rules.
func (p *Profile) structure(f *AddonFile, table map[string]any, path []any, within []string,
	wrong func(path []any, format string, args ...any)) {
	if each, ok := table[ForEach]; ok {
		word, _ := each.(string)
		if items[word] == nil {
			wrong(append(slices.Clone(path), ForEach), "for_each must be map, bundle or language")
		}
		if word == "bundle" && f.Place == "inside" {
			wrong(append(slices.Clone(path), ForEach), "what a bundle is can't stand inside it")
		}
		within = append(slices.Clone(within), word)
	}
	for _, key := range slices.Sorted(maps.Keys(table)) {
		here := append(slices.Clone(path), key)
		if form := keyForms[f.Form]; form != nil && !form().MatchString(key) {
			wrong(here, "%q can't be a name in %s", key, strings.ToUpper(f.Form))
		}
		switch v := table[key].(type) {
		case map[string]any:
			p.structure(f, v, here, within, wrong)
		case string:
			if key == ForEach {
				continue
			}
			p.places(v, here, within, wrong)
			for _, name := range template.Places(v) {
				if field := p.Field(name); field != nil && field.OfBundle() && f.Place == "inside" {
					wrong(here, "what a bundle is can't stand inside it, and {%s} is its %s", name, field.From)
				}
			}
		case []any:
			for _, item := range v {
				if s, ok := item.(string); ok {
					p.places(s, here, within, wrong)
				} else if _, table := item.(map[string]any); table {
					wrong(here, "a list of tables comes from one table with for_each")
				}
			}
		case bool, int64, float64:
		default:
			wrong(here, "a value must be a text, a number, yes or no, a list or a table, and is %s", fmt.Sprint(v))
		}
	}
}

// places holds the {names} of a text to what is known there.
func (p *Profile) places(s string, path []any, within []string, wrong func(path []any, format string, args ...any)) {
	known := []string{}
	for _, f := range p.Addon.Fields {
		known = append(known, f.Name)
	}
	for _, w := range within {
		known = append(known, items[w]...)
	}
	for _, name := range template.Places(s) {
		if !slices.Contains(known, name) {
			unknown(name, known, path, wrong)
		}
	}
}

// Field finds a metadata field; nil when there is none of the name.
func (p *Profile) Field(name string) *Field {
	for i := range p.Addon.Fields {
		if p.Addon.Fields[i].Name == name {
			return &p.Addon.Fields[i]
		}
	}
	return nil
}

// HasForEach says whether a structure has a table that is repeated for each of something.
func HasForEach(structure map[string]any, what string) bool {
	for key, v := range structure {
		if table, ok := v.(map[string]any); ok && HasForEach(table, what) || key == ForEach && v == what {
			return true
		}
	}
	return false
}
