package profile

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/charset"
	"vornix/core/base/safefile"
	"vornix/core/format/audio"
)

// Content is a class of files that ship as they are, or as texts written anew: scripts, mission
// files, companions of maps.
type Content struct {
	Name     string   `toml:"name" jsonschema:"required,pattern=^[a-z]+(-[a-z]+)*$,description=What such a file is called\\, such as script; also a type for properties of items"`
	Folder   string   `toml:"folder" jsonschema:"required,description=Folder in the project"`
	Match    []string `toml:"match" jsonschema:"description=Patterns on the path below the folder (default: everything that nothing else takes); what names a file may leave out an ending that one of them gives"`
	To       string   `toml:"to" jsonschema:"description=Folder in the game (default: the same)"`
	Form     string   `toml:"form" jsonschema:"enum=text,enum=json,enum=toml,enum=xml,enum=ini,enum=csv,description=What it must be as a text (default: any file)"`
	With     string   `toml:"with" jsonschema:"description=Path below the folder of the file that belongs to a map\\, with {map}; it ships with its map"`
	Required bool     `toml:"required" jsonschema:"description=Whether every map must have the file of with"`
	Always   bool     `toml:"always" jsonschema:"description=Whether it ships although nothing needs it\\, such as a start file"`
	Refers   []string `toml:"refers" jsonschema:"description=Regular expressions of what it needs\\, in lines of their own; a named group says what: sound material texture sprite model map spawn (of the map in the same match)\\, a content's name\\, or path for a file of the game"`
	Encoding string   `toml:"encoding" jsonschema:"enum=utf-8,enum=utf-16le,enum=utf-16be,enum=latin-1,enum=windows-1252,enum=windows-1251,enum=cp437,description=Encoding that the game reads (default: not looked at)"`
	Mark     string   `toml:"mark" jsonschema:"enum=yes,enum=no,description=Whether it begins with a byte-order mark (default: not looked at)"`
	Lines    string   `toml:"lines" jsonschema:"enum=lf,enum=crlf,description=How lines end (default: not looked at)"`
	Convert  bool     `toml:"convert" jsonschema:"description=Whether it is written anew on its way into the tree; else what differs is a finding"`

	refers []*regexp.Regexp
}

// Style is how its texts are to be written.
func (c *Content) Style() charset.Style {
	return charset.Style{Encoding: c.Encoding, Mark: c.Mark, Lines: c.Lines}
}

// IsText says whether its files are looked at as texts.
func (c *Content) IsText() bool {
	return c.Form != "" || len(c.Refers) > 0 || c.Style() != charset.Style{}
}

// Takes says whether a file below its folder is one.
func (c *Content) Takes(rel string) bool {
	return slices.ContainsFunc(c.Match, func(pattern string) bool {
		ok, _ := doublestar.Match(pattern, rel)
		return ok
	})
}

// Path is the path in the game of a file below the folder.
func (c *Content) Path(rel string) string { return path.Join(c.To, rel) }

// Paths are the paths in the game that a name means, the first that is there counts: as it is, and
// with each ending that match gives.
func (c *Content) Paths(name string) (list []string) {
	for _, rel := range c.Names(name) {
		list = append(list, c.Path(rel))
	}
	return list
}

// Names are Paths below the folder.
func (c *Content) Names(name string) []string {
	list := []string{name}
	for _, m := range c.Match {
		if ending := path.Ext(m); len(ending) > 1 && !strings.ContainsAny(ending, "*?[]{}") &&
			!slices.Contains(list, name+ending) {
			list = append(list, name+ending)
		}
	}
	return list
}

// Companion is the path below the folder of the file that belongs to a map; empty when it has none such.
func (c *Content) Companion(mapName string) string {
	return Fill(c.With, map[string]string{"map": mapName})
}

// Reference is something that a text names.
type Reference struct {
	Kind         string // a kind of asset, or path, spawn, or a content's name
	Name         string
	Map          string // for a spawn, of which map
	Line, Column int    // from 1
}

// References are what a text of this class names, in the order of its lines.
func (c *Content) References(content string) (list []Reference) {
	if len(c.refers) == 0 {
		return nil
	}
	n := 0
	for line := range strings.SplitSeq(content, "\n") {
		n++
		for _, re := range c.refers {
			for _, m := range re.FindAllStringSubmatchIndex(line, -1) {
				inMap := ""
				for g, kind := range re.SubexpNames() {
					if kind == "map" && m[2*g] >= 0 {
						inMap = line[m[2*g]:m[2*g+1]]
					}
				}
				for g, kind := range re.SubexpNames() {
					if g == 0 || kind == "" || m[2*g] < 0 {
						continue
					}
					r := Reference{Kind: strings.ReplaceAll(kind, "_", "-"), Name: line[m[2*g]:m[2*g+1]], Line: n,
						Column: 1 + len([]rune(line[:m[2*g]]))}
					if kind == "spawn" {
						r.Map = inMap
					}
					list = append(list, r)
				}
			}
		}
	}
	return list
}

// assetKinds are what a reference can be beside contents.
var assetKinds = []string{"sound", "material", "texture", "sprite", "model", "map", "spawn", "path"}

// Content is the class of that name; nil when there is none.
func (p *Profile) Content(name string) *Content {
	for i := range p.Contents {
		if p.Contents[i].Name == name {
			return &p.Contents[i]
		}
	}
	return nil
}

func (p *Profile) contents(wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	names := slices.Clone(assetKinds)
	for i, c := range p.Contents {
		if !regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`).MatchString(c.Name) || slices.Contains(names, c.Name) {
			wrong([]any{"content", i, "name"}, "the name must be small letters and hyphens, and no other's; it is %q",
				c.Name)
		}
		names = append(names, c.Name)
	}
	for i := range p.Contents {
		c := &p.Contents[i]
		if c.Folder == "" || path.Clean(c.Folder) != c.Folder || safefile.CheckPath(path.Join(c.Folder, "x")) != nil {
			wrong([]any{"content", i, "folder"},
				"folder must be a path inside the project with forward slashes, and is %q", c.Folder)
		}
		if safefile.CheckPath(path.Join(c.To, "x")) != nil {
			wrong([]any{"content", i, "to"}, "to must be a path inside the game with forward slashes, and is %q", c.To)
		}
		for k, m := range c.Match {
			if !doublestar.ValidatePattern(m) {
				wrong([]any{"content", i, "match", k}, "%q is no pattern", m)
			}
		}
		if c.Form != "" {
			oneOf(c.Form, charset.Forms, "content", i, "form")
		}
		if c.Encoding != "" {
			oneOf(c.Encoding, charset.Encodings, "content", i, "encoding")
		}
		if c.Mark != "" {
			oneOf(c.Mark, []string{"yes", "no"}, "content", i, "mark")
		}
		if c.Lines != "" {
			oneOf(c.Lines, []string{"lf", "crlf"}, "content", i, "lines")
		}
		if c.With != "" && !strings.Contains(c.With, "{map}") {
			wrong([]any{"content", i, "with"}, "with must hold {map}, or all maps would share one file")
		}
		if c.Required && c.With == "" {
			wrong([]any{"content", i, "required"}, "required needs with: which file of a map it is")
		}
		if c.Convert && c.Style() == (charset.Style{}) {
			wrong([]any{"content", i, "convert"}, "convert needs encoding, mark or lines: what to convert to")
		}
		for k, r := range c.Refers {
			re, err := regexp.Compile(r)
			if err != nil {
				wrong([]any{"content", i, "refers", k}, "%q is no regular expression: %v", r, err)
				continue
			}
			named, inMap := 0, false
			for _, g := range re.SubexpNames()[1:] {
				g = strings.ReplaceAll(g, "_", "-")
				if g == "" {
					continue
				}
				named++
				inMap = inMap || g == "map"
				oneOf(g, names, "content", i, "refers", k)
			}
			switch {
			case named == 0:
				wrong([]any{"content", i, "refers", k}, "%q has no group with a name, such as (?P<sound>...)", r)
			case slices.Contains(re.SubexpNames(), "spawn") && !inMap:
				wrong([]any{"content", i, "refers", k}, "a spawn is one of a map: the expression needs a group map too")
			}
			c.refers = append(c.refers, re)
		}
	}
}

// Sounds says what sounds the game plays.
type Sounds struct {
	Forms []string    `toml:"forms" jsonschema:"enum=wav,enum=ogg,enum=flac,enum=mp3,description=Forms that the game reads (default wav)"`
	Rules []SoundRule `toml:"rule" jsonschema:"description=What sounds must be; the first that matches counts"`
}

// SoundRule is what some sounds must be.
type SoundRule struct {
	Match    string  `toml:"match" jsonschema:"description=Pattern on the sound's name; ** crosses folders (default: all)"`
	Rates    []int   `toml:"rates" jsonschema:"description=Samples a second that the game plays (default: any)"`
	Channels []int   `toml:"channels" jsonschema:"description=Numbers of channels (default: any)"`
	Bits     []int   `toml:"bits" jsonschema:"description=Bits a sample of WAV and FLAC (default: any)"`
	Longest  float64 `toml:"longest" jsonschema:"minimum=0,description=Most seconds; 0 for no limit"`
	Loop     string  `toml:"loop" jsonschema:"enum=must,enum=never,description=Whether it must say where it repeats\\, or must not (default: as it likes)"`
	Silence  float64 `toml:"silence" jsonschema:"minimum=0,description=Most seconds of silence at either end of a WAV; 0 for no rule"`
	Clipping bool    `toml:"clipping" jsonschema:"description=Whether clipped samples are meant (default: they are a finding)"`
}

// Rule is what a sound must be; nil when there is no rule.
func (s *Sounds) Rule(name string) *SoundRule {
	for i, r := range s.Rules {
		if ok, _ := doublestar.Match(r.Match, name); ok || r.Match == "" {
			return &s.Rules[i]
		}
	}
	return nil
}

func (p *Profile) sounds(wrong func(path []any, format string, args ...any),
	oneOf func(value string, words []string, path ...any)) {
	for i, f := range p.Sounds.Forms {
		oneOf(f, audio.Forms, "sounds", "forms", i)
	}
	for i, r := range p.Sounds.Rules {
		if !doublestar.ValidatePattern(r.Match) {
			wrong([]any{"sounds", "rule", i, "match"}, "%q is no pattern", r.Match)
		}
		if r.Loop != "" {
			oneOf(r.Loop, []string{"must", "never"}, "sounds", "rule", i, "loop")
		}
	}
}

// SoundPath is the path in the game of a sound of that form.
func (p *Profile) SoundPath(name, form string) string {
	return path.Join(p.Files.Sounds, name+"."+form)
}

// SoundPaths are the paths at which the game looks for a sound, the first that is there counts.
func (p *Profile) SoundPaths(name string) (list []string) {
	for _, f := range p.Sounds.Forms {
		list = append(list, p.SoundPath(name, f))
	}
	return list
}
