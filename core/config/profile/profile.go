// Package profile reads game profiles: the TOML files that describe a game to Vornix.
//
// Vornix itself knows no game. Folders, file-name rules, texture formats, required objects, metadata files, the form of
// archives and the lists on a server all come from here. docs/schema/profile.json is made from the types below.
package profile

import (
	"fmt"
	"maps"
	"math"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/tomlfile"
	"vornix/core/format/mapfile"
	"vornix/core/format/texture"
)

// Profile describes one game.
type Profile struct {
	Game      Game      `toml:"game" jsonschema:"required"`
	Files     Files     `toml:"files"`
	Textures  Textures  `toml:"textures"`
	Materials Materials `toml:"materials"`
	Models    Models    `toml:"models"`
	Sounds    Sounds    `toml:"sounds"`
	Contents  []Content `toml:"content" jsonschema:"description=Further files that ship: scripts\\, start files\\, companions of maps"`
	Map       Map       `toml:"map"`
	Pack      Pack      `toml:"pack"`
	Addon     Addon     `toml:"addon"`
	Index     Index     `toml:"index"`
	Server    Server    `toml:"server"`
	Workshop  Workshop  `toml:"workshop"`
	Pictures  []Picture `toml:"picture" jsonschema:"description=Pictures that the game and its workshops want"`
	Sweeps    []Sweep   `toml:"sweep" jsonschema:"description=Files that the game's tools leave behind"`
	Install   Install   `toml:"install" jsonschema:"description=Where an installer finds the game"`

	// Source is the file's content, which takes part in the names of build results.
	Source []byte             `toml:"-" json:"-"`
	Doc    *tomlfile.Document `toml:"-" json:"-"`
	own    map[string]bool    // from own_list and own_folder
	// OwnFolder is the system path of own_folder; empty without one.
	OwnFolder string `toml:"-" json:"-"`
}

// Game names the game.
type Game struct {
	ID      string  `toml:"id" jsonschema:"required,description=Short name in small letters\\, as in the file's own name"`
	Title   string  `toml:"title" jsonschema:"required,description=Name shown to people"`
	Form    string  `toml:"form" jsonschema:"required,enum=solids,enum=tiles,description=What its maps are made of"`
	Version string  `toml:"version" jsonschema:"description=First version of the game that takes mods at all\\, such as 1.0"`
	Since   []Since `toml:"since" jsonschema:"description=What only later versions of the game know"`
}

// Since is content that a version of the game brought.
type Since struct {
	Version string   `toml:"version" jsonschema:"required,description=Version of the game\\, such as 1.2"`
	What    string   `toml:"what" jsonschema:"required,description=What it brought\\, in words"`
	Modes   []string `toml:"modes" jsonschema:"description=Game modes that need it"`
	Items   []string `toml:"items" jsonschema:"description=Kinds of items that need it"`
	Files   []string `toml:"files" jsonschema:"description=Patterns of files that need it\\, as the game sees them; ** crosses folders"`
}

// Files says where the game looks for each kind of file and how they may be named.
type Files struct {
	Maps      string `toml:"maps" jsonschema:"description=Folder of compiled maps as the game sees it (default maps)"`
	Materials string `toml:"materials" jsonschema:"description=Folder of materials (default materials)"`
	Textures  string `toml:"textures" jsonschema:"description=Folder of textures (default textures)"`
	Sounds    string `toml:"sounds" jsonschema:"description=Folder of sounds (default sounds)"`
	Sprites   string `toml:"sprites" jsonschema:"description=Folder of sprites (default sprites)"`
	Models    string `toml:"models" jsonschema:"description=Folder of models (default models)"`
	// Own are the game's own files, which maps and materials may name although no project has them.
	Own        []string `toml:"own" jsonschema:"description=The game's own files that maps and materials may name\\, as the game sees them; ** crosses folders"`
	OwnList    string   `toml:"own_list" jsonschema:"description=Name of a text file beside the profile with one such file a line"`
	OwnFolder  string   `toml:"own_folder" jsonschema:"description=Folder of the installed game\\, from the profile's own folder or absolute; all its files are the game's own"`
	Case       string   `toml:"case" jsonschema:"enum=lower,enum=any,description=Whether paths must be in small letters (default any)"`
	Characters string   `toml:"characters" jsonschema:"description=Regular expression class of the characters a path may have\\, such as a-z0-9_/.- (default: any)"`
	Longest    int      `toml:"longest" jsonschema:"minimum=0,description=Longest path in bytes; 0 for no limit"`
}

// Textures says what the game can show.
type Textures struct {
	Container  string   `toml:"container" jsonschema:"enum=ktx2,enum=dds,description=File form (default ktx2)"`
	Zstd       bool     `toml:"zstd" jsonschema:"description=Whether the levels of KTX2 files are packed with zstd"`
	Header     string   `toml:"header" jsonschema:"enum=dx10,enum=plain,description=Header of DDS files: with DX10 (default) or the older one without\\, which some games want"`
	Formats    []string `toml:"formats" jsonschema:"enum=rgba8,enum=rg8,enum=r8,enum=bc1,enum=bc1a,enum=bc2,enum=bc3,enum=bc4,enum=bc5,enum=bc6h,enum=bc7,enum=rgba16f,description=Formats that the game reads (default rgba8)"`
	Largest    int      `toml:"largest" jsonschema:"minimum=0,description=Largest side in texels; 0 for no limit"`
	PowerOfTwo bool     `toml:"power_of_two" jsonschema:"description=Whether both sides must be powers of two"`
	Green      string   `toml:"green" jsonschema:"enum=up,enum=down,description=Which way green grows in the game's normal maps (default up)"`
	Density    float64  `toml:"density" jsonschema:"minimum=0,description=Texels a metre that surfaces should have; used where a face asks to be fitted (default 128)"`
}

// File is the file form of the game's textures.
func (t Textures) File() texture.Container {
	return texture.Container{Name: t.Container, Zstd: t.Zstd, Plain: t.Header == "plain"}
}

// SizeRule is what sizes the game takes.
func (t Textures) SizeRule() texture.SizeRule {
	return texture.SizeRule{Largest: t.Largest, PowerOfTwo: t.PowerOfTwo}
}

// FormatList is the formats that the game reads.
func (t Textures) FormatList() []texture.Format {
	list := []texture.Format{}
	for _, name := range t.Formats {
		if f, ok := texture.ParseFormat(name); ok {
			list = append(list, f)
		}
	}
	return list
}

// Materials says what a surface can be.
type Materials struct {
	Surfaces []string           `toml:"surfaces" jsonschema:"description=What a surface can be underfoot"`
	Footing  map[string]Footing `toml:"footing" jsonschema:"description=What surfaces are like underfoot; written into compiled materials for games that keep no table of their own"`
}

// Footing is what a surface is like underfoot.
type Footing struct {
	Friction float64 `toml:"friction" jsonschema:"minimum=0,description=From 0\\, as on ice\\, up; 1 is common ground"`
	Footstep string  `toml:"footstep" jsonschema:"description=The game's sound of a step"`
}

// Map holds the rules for maps.
type Map struct {
	Teams         []string       `toml:"teams" jsonschema:"description=Teams that spawns can belong to (default: no rule)"`
	Modes         []string       `toml:"modes" jsonschema:"description=Game modes (default: no rule)"`
	Lights        []string       `toml:"lights" jsonschema:"description=Kinds of light that the game can do (default: no rule)"`
	Required      []string       `toml:"required" jsonschema:"description=Items that every map must have"`
	Limits        map[string]int `toml:"limits" jsonschema:"description=Most of a kind in one map: an item's kind\\, or solid light spawn volume probe camera sound prop terrain area"`
	RemovalVolume bool           `toml:"removal_volume" jsonschema:"description=Whether a volume with effect=remove must lie below the whole map"`
	Headroom      float64        `toml:"headroom" jsonschema:"minimum=0,description=Free height in metres that a spawn needs (default 1.8)"`
	SpawnWidth    float64        `toml:"spawn_width" jsonschema:"minimum=0,description=Free width in metres that a spawn needs\\, which is also how far spawns stand apart (default 0.6)"`
	FallHeight    float64        `toml:"fall_height" jsonschema:"minimum=0,description=How far in metres below a spawn the ground may be (default 10)"`
	Probes        bool           `toml:"probes" jsonschema:"description=Whether reflection probes must reach every place where players can be"`
	SharpestRatio float64        `toml:"sharpest_ratio" jsonschema:"minimum=0,description=How many times as sharp one of two neighbouring surfaces may be; 0 for no rule"`
	NameLongest   int            `toml:"name_longest" jsonschema:"minimum=0,description=Longest name of a map\\, in characters; 0 for no limit"`
	NameForm      string         `toml:"name_form" jsonschema:"description=Regular expression that a map's whole name must match (default: any)"`
	TerrainSide   int            `toml:"terrain_side" jsonschema:"minimum=0,description=Most heights along a side of a terrain; 0 for no limit"`
	// Agents are who walks in the game.
	Agents map[string]Agent `toml:"agents" jsonschema:"description=Who walks in the game\\, by name: navigation is made for each (default: one of a usual size)"`
	// Items are the game's own objects with their properties; empty: any.
	Items map[string]map[string]Property `toml:"items" jsonschema:"description=Kinds of items that the game knows\\, with their properties (default: no rule)"`
}

// Agent is the size of who walks, and what it can do. Metres and degrees.
type Agent struct {
	Radius float64 `toml:"radius" jsonschema:"minimum=0.02,maximum=20,description=Half its width (default 0.3)"`
	Height float64 `toml:"height" jsonschema:"minimum=0.02,maximum=50,description=Its height (default 1.8)"`
	Step   float64 `toml:"step" jsonschema:"minimum=0,maximum=10,description=Highest step that it takes (default 0.45)"`
	Slope  float64 `toml:"slope" jsonschema:"minimum=0,maximum=80,description=Steepest ground that it walks on (default 46)"`
	Drop   float64 `toml:"drop" jsonschema:"minimum=0,maximum=100,description=How deep it jumps down (default: it does not)"`
	Jump   float64 `toml:"jump" jsonschema:"minimum=0,maximum=50,description=How far it jumps over a gap (default: it does not)"`
}

// Property is what a property of an item must be.
type Property struct {
	Type     string   `toml:"type" jsonschema:"required,description=Type of its value: text\\, number\\, whole\\, flag\\, colour\\, point; or sound\\, material\\, sprite\\, model or a content's name\\, of which it names one\\, which then ships"`
	Required bool     `toml:"required" jsonschema:"description=Whether every item of the kind must have it"`
	Least    *float64 `toml:"least" jsonschema:"description=Smallest number"`
	Most     *float64 `toml:"most" jsonschema:"description=Largest number"`
	Longest  int      `toml:"longest" jsonschema:"minimum=0,description=Longest text in characters; 0 for no limit"`
	Allowed  []string `toml:"allowed" jsonschema:"description=The only values it may have"`
}

// propertyTypes are the types of properties.
func (p *Profile) propertyTypes() []string {
	list := []string{"text", "number", "whole", "flag", "colour", "point", "sound", "material", "sprite", "model"}
	for _, c := range p.Contents {
		list = append(list, c.Name)
	}
	return list
}

// Models says what models the game takes.
type Models struct {
	Triangles int     `toml:"triangles" jsonschema:"minimum=0,description=Most triangles of a model; 0 for no limit"`
	Materials int     `toml:"materials" jsonschema:"minimum=0,description=Most materials of a model; 0 for no limit"`
	Largest   float64 `toml:"largest" jsonschema:"minimum=0,description=Longest side of a model in metres; 0 for no limit"`
}

// Parse reads a profile. name is the file name that findings show. An error is a *finding.Failure.
func Parse(name string, data []byte) (*Profile, error) {
	p := &Profile{Source: data}
	doc, list := tomlfile.Decode(name, data, p)
	p.Doc = doc
	if len(list) == 0 {
		p.fill()
		list = p.validate()
	}
	if len(list) > 0 {
		return nil, &finding.Failure{What: "the game profile can't be used", Findings: list}
	}
	return p, nil
}

func orDefault(s *string, value string) {
	if *s == "" {
		*s = value
	}
}

func (p *Profile) fill() {
	orDefault(&p.Files.Maps, "maps")
	orDefault(&p.Files.Materials, "materials")
	orDefault(&p.Files.Textures, "textures")
	orDefault(&p.Files.Sounds, "sounds")
	orDefault(&p.Files.Sprites, "sprites")
	orDefault(&p.Files.Models, "models")
	orDefault(&p.Files.Case, "any")
	orDefault(&p.Textures.Container, "ktx2")
	orDefault(&p.Textures.Header, "dx10")
	orDefault(&p.Textures.Green, texture.Up)
	if p.Textures.Density == 0 {
		p.Textures.Density = 128
	}
	if len(p.Textures.Formats) == 0 {
		p.Textures.Formats = []string{"rgba8"}
	}
	p.Pack.fill()
	if len(p.Sounds.Forms) == 0 {
		p.Sounds.Forms = []string{"wav"}
	}
	for i := range p.Contents {
		c := &p.Contents[i]
		orDefault(&c.To, c.Folder)
		if len(c.Match) == 0 {
			c.Match = []string{"**"}
		}
	}
	for name, a := range p.Map.Agents {
		for _, d := range []struct {
			of    *float64
			value float32
		}{{&a.Radius, mapfile.DefaultAgent.Radius}, {&a.Height, mapfile.DefaultAgent.Height},
			{&a.Step, mapfile.DefaultAgent.Step}, {&a.Slope, mapfile.DefaultAgent.Slope}} {
			if *d.of == 0 {
				*d.of = math.Round(float64(d.value)*1e4) / 1e4
			}
		}
		p.Map.Agents[name] = a
	}
	for i := range p.Pictures {
		p.Pictures[i].fill()
	}
	p.fillMetadata()
	for _, d := range []struct {
		of    *float64
		value float64
	}{{&p.Map.Headroom, 1.8}, {&p.Map.SpawnWidth, 0.6}, {&p.Map.FallHeight, 10}} {
		if *d.of == 0 {
			*d.of = d.value
		}
	}
}

func (p *Profile) validate() []finding.Finding {
	var list []finding.Finding
	wrong := func(path []any, format string, args ...any) {
		list = append(list, p.Doc.Wrong(path, format, args...))
	}
	oneOf := func(value string, words []string, path ...any) {
		if !slices.Contains(words, value) {
			wrong(path, "%q is none of %s", value, strings.Join(words, ", "))
		}
	}
	if !nameForm().MatchString(p.Game.ID) {
		wrong([]any{"game", "id"}, "the game's id must be small letters, digits and hyphens, and is %q", p.Game.ID)
	}
	oneOf(p.Game.Form, []string{"solids", "tiles"}, "game", "form")
	oneOf(p.Files.Case, []string{"lower", "any"}, "files", "case")
	oneOf(p.Textures.Container, texture.Containers, "textures", "container")
	oneOf(p.Textures.Header, []string{"dx10", "plain"}, "textures", "header")
	oneOf(p.Textures.Green, []string{texture.Up, texture.Down}, "textures", "green")
	if p.Textures.Zstd && p.Textures.Container != "ktx2" {
		wrong([]any{"textures", "zstd"}, "only KTX2 files can be packed with zstd, and container is %q",
			p.Textures.Container)
	}
	for _, f := range p.Textures.Formats {
		oneOf(f, texture.FormatNames(), "textures", "formats")
		if p.Textures.Header == "plain" && p.Textures.Container == "dds" && (f == "bc6h" || f == "bc7") {
			wrong([]any{"textures", "formats"}, "a DDS file with the plain header can't hold %s", f)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Materials.Footing)) {
		oneOf(name, p.Materials.Surfaces, "materials", "footing", name)
	}
	for _, folder := range []struct{ key, value string }{{"maps", p.Files.Maps}, {"materials", p.Files.Materials},
		{"textures", p.Files.Textures},
		{"sounds", p.Files.Sounds}, {"sprites", p.Files.Sprites}, {"models", p.Files.Models}} {
		if safefile.CheckPath(path.Join(folder.value, "x")) != nil {
			wrong([]any{"files", folder.key},
				"the folder must be a path inside the game with forward slashes, and is %q", folder.value)
		}
	}
	for i, pattern := range p.Files.Own {
		if !doublestar.ValidatePattern(pattern) {
			wrong([]any{"files", "own", i}, "%q is no pattern", pattern)
		}
	}
	if _, err := p.characters(); err != nil {
		wrong([]any{"files", "characters"}, "%q is no class of characters: %v", p.Files.Characters, err)
	}
	if _, err := regexp.Compile(p.Map.NameForm); err != nil {
		wrong([]any{"map", "name_form"}, "%q is no regular expression: %v", p.Map.NameForm, err)
	}
	for _, kind := range slices.Sorted(maps.Keys(p.Map.Items)) {
		for _, key := range slices.Sorted(maps.Keys(p.Map.Items[kind])) {
			oneOf(p.Map.Items[kind][key].Type, p.propertyTypes(), "map", "items", kind, key, "type")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Map.Agents)) {
		a := p.Map.Agents[name]
		for _, n := range []struct {
			key         string
			value       float64
			least, most float64
		}{{"radius", a.Radius, 0.02, 20}, {"height", a.Height, 0.02, 50}, {"step", a.Step, 0, 10},
			{"slope", a.Slope, 0, 80}, {"drop", a.Drop, 0, 100}, {"jump", a.Jump, 0, 50}} {
			if !(n.value >= n.least && n.value <= n.most) {
				wrong([]any{"map", "agents", name, n.key}, "%s must lie between %v and %v, and is %v", n.key, n.least,
					n.most, n.value)
			}
		}
	}
	p.pictures(wrong, oneOf)
	p.packing(wrong, oneOf)
	p.sounds(wrong, oneOf)
	p.contents(wrong, oneOf)
	p.sweeps(wrong)
	p.installing(wrong)
	p.metadata(wrong, oneOf)
	p.serving(wrong, oneOf)
	p.publishing(wrong, oneOf)
	return list
}

var nameForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`) })

func (p *Profile) characters() (*regexp.Regexp, error) {
	if p.Files.Characters == "" {
		return nil, nil
	}
	return regexp.Compile("[^" + p.Files.Characters + "]")
}

// CheckPath holds the game path of a source file to the file-name rules.
func (p *Profile) CheckPath(source, gamePath string) []finding.Finding {
	var list []finding.Finding
	place := fault.Place{File: source}
	if p.Files.Case == "lower" && gamePath != strings.ToLower(gamePath) {
		list = append(list, finding.PathCase.At(place, "%s has capital letters", gamePath))
	}
	if class, _ := p.characters(); class != nil {
		if bad := class.FindString(strings.ToLower(gamePath)); bad != "" {
			list = append(list,
				finding.PathChars.At(place, "%s has %q, which %s does not take in names", gamePath, bad, p.Game.Title))
		}
	}
	if p.Files.Longest > 0 && len(gamePath) > p.Files.Longest {
		list = append(list,
			finding.PathLong.At(place, "%s has %d characters; %s takes %d", gamePath, len(gamePath), p.Game.Title,
				p.Files.Longest))
	}
	return list
}

// Game paths of the kinds of asset, from the name that maps and materials use for them.

// MapPath is the compiled map's path in the game.
func (p *Profile) MapPath(name string) string { return path.Join(p.Files.Maps, name+".vnm") }

// MaterialPath is the material's path in the game.
func (p *Profile) MaterialPath(name string) string {
	return path.Join(p.Files.Materials, name+".toml")
}

// TexturePath is the texture's path in the game.
func (p *Profile) TexturePath(name string) string {
	return path.Join(p.Files.Textures, name+"."+p.Textures.Container)
}

// ModelPath is the model's path in the game.
func (p *Profile) ModelPath(name string) string { return path.Join(p.Files.Models, name+".glb") }

// SpritePath is the path in the game of a sprite's index.
func (p *Profile) SpritePath(name string) string {
	return path.Join(p.Files.Sprites, name+".json")
}

// SpritePagePath is the path in the game of a page of a sprite's atlas.
func (p *Profile) SpritePagePath(page string) string {
	return path.Join(p.Files.Sprites, page+"."+p.Textures.Container)
}

// ReadOwn adds the files of own_list and own_folder. read gives a file beside the profile, folder
// the system path of a folder named there and its files; it is nil for a profile that comes with
// the program.
func (p *Profile) ReadOwn(read func(name string) ([]byte, error),
	folder func(name string) (dir string, files []string, err error)) error {
	refuse := func(key, format string, args ...any) error {
		f := p.Doc.Wrong([]any{"files", key}, format, args...)
		return &finding.Failure{What: "the game profile can't be used", Findings: []finding.Finding{f}}
	}
	p.own = map[string]bool{}
	if p.Files.OwnList != "" {
		data, err := read(p.Files.OwnList)
		if err != nil {
			return refuse("own_list", "the list %q can't be read: %v", p.Files.OwnList, err)
		}
		for line := range strings.Lines(string(data)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				p.own[line] = true
			}
		}
		p.Source = append(slices.Clone(p.Source), data...) // a changed list is a changed profile
	}
	if p.Files.OwnFolder == "" {
		return nil
	}
	if folder == nil {
		return refuse("own_folder", "own_folder is for profiles in a project")
	}
	dir, files, err := folder(p.Files.OwnFolder)
	if err != nil {
		return refuse("own_folder", "the game's folder %q can't be read: %v", p.Files.OwnFolder, err)
	}
	p.OwnFolder = dir
	p.Source = slices.Clone(p.Source)
	for _, f := range files {
		p.own[f] = true
		p.Source = append(append(p.Source, f...), '\n')
	}
	return nil
}

// OwnFiles lists the game's own files as far as they are known by name, sorted.
func (p *Profile) OwnFiles() []string { return slices.Sorted(maps.Keys(p.own)) }

// Knows says whether one of the game's own files of that very path is known by name, not only by a pattern.
func (p *Profile) Knows(gamePath string) bool { return p.own[gamePath] }

// HasOwn says whether a path is one of the game's own files.
func (p *Profile) HasOwn(gamePath string) bool {
	return p.own[gamePath] || slices.ContainsFunc(p.Files.Own, func(pattern string) bool {
		ok, _ := doublestar.Match(pattern, gamePath)
		return ok
	})
}

// Fill replaces {key} in a template by values; an unknown {key} stays as it is.
func Fill(template string, values map[string]string) string {
	var pairs []string
	for k, v := range values {
		pairs = append(pairs, "{"+k+"}", v)
	}
	return strings.NewReplacer(pairs...).Replace(template)
}

// String names the profile for messages.
func (p *Profile) String() string { return fmt.Sprintf("%s (%s)", p.Game.Title, p.Game.ID) }
