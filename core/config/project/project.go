// Package project reads vornix.toml, the one file that describes a project, and finds the game profile it names.
//
// docs/schema/project.json is made from the types below.
package project

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/signature"
	"vornix/core/base/suggest"
	"vornix/core/base/tomlfile"
	"vornix/core/config/profile"
)

// FileName is the project file's name. StateDir holds what Vornix remembers beside it, TargetDir
// what it remembers on a target, and QuarantineDir the files that were moved out of the way.
const (
	FileName      = "vornix.toml"
	StateDir      = ".vornix"
	TargetDir     = ".vornix-target"
	QuarantineDir = StateDir + "/safe"
)

// Project is a loaded project.
type Project struct {
	Dir     string
	File    File
	Doc     *tomlfile.Document
	Source  []byte // vornix.toml as it was read
	Profile *profile.Profile
	// ProfilePath is the profile's file inside the project, slash-separated; empty for one that comes with Vornix.
	ProfilePath string
}

// File is the content of vornix.toml.
type File struct {
	Project  Head              `toml:"project" jsonschema:"required"`
	Sources  Sources           `toml:"sources"`
	Textures []Recipe          `toml:"texture" jsonschema:"description=Recipes for textures; what a later one that matches says overrides an earlier one"`
	Pictures []Picture         `toml:"picture" jsonschema:"description=Recipes for the pictures that the game's profile asks for; what a later one that matches says overrides an earlier one"`
	Pack     Pack              `toml:"pack"`
	Sweep    Sweep             `toml:"sweep"`
	Addon    map[string]any    `toml:"addon" jsonschema:"description=Values of the profile's metadata fields"`
	Index    Index             `toml:"index"`
	Steps    []CustomStep      `toml:"step" jsonschema:"description=Commands of the project's own that make files which ship"`
	Release  Release           `toml:"release" jsonschema:"description=What a release does besides"`
	Shared   Shared            `toml:"shared" jsonschema:"description=Where results of builds are kept for all who work on the project"`
	Pages    Pages             `toml:"page" jsonschema:"description=What workshops show of the project"`
	Signing  Signing           `toml:"signing" jsonschema:"description=Whose signatures count"`
	Targets  map[string]Target `toml:"target" jsonschema:"description=Places that a release goes to"`
	Accept   []Accept          `toml:"accept" jsonschema:"description=Findings that are known and harmless here"`
}

// Head says what the project is.
type Head struct {
	Name        string   `toml:"name" jsonschema:"required,pattern=^[a-z0-9]+([_-][a-z0-9]+)*$,description=Short name used in file names: small letters\\, digits\\, _ and -"`
	Title       string   `toml:"title" jsonschema:"required,description=Name that players read"`
	Version     string   `toml:"version" jsonschema:"required,pattern=^[0-9]+\\.[0-9]+\\.[0-9]+$,description=Three numbers\\, as in 1.0.0"`
	Authors     []string `toml:"authors" jsonschema:"description=Who made it"`
	Description string   `toml:"description" jsonschema:"description=What players read about it"`
	GameVersion string   `toml:"game_version" jsonschema:"pattern=^[0-9]+(\\.[0-9]+)*$,description=Version of the game that it needs\\, when that is more than what is inside needs by itself\\, such as 1.4"`
	Language    string   `toml:"language" jsonschema:"description=Language of what is written here (default en)"`
	Profile     string   `toml:"profile" jsonschema:"required,description=Name of the game profile: profiles/NAME.toml in the project\\, or one that comes with Vornix"`
}

// Sources says where the sources lie, as folders inside the project.
type Sources struct {
	Maps      string `toml:"maps" jsonschema:"description=Folder of map sources (default maps)"`
	Materials string `toml:"materials" jsonschema:"description=Folder of materials (default materials)"`
	Textures  string `toml:"textures" jsonschema:"description=Folder of images (default textures)"`
	Sounds    string `toml:"sounds" jsonschema:"description=Folder of sounds (default sounds)"`
	Sprites   string `toml:"sprites" jsonschema:"description=Folder of sprite sheets (default sprites)"`
	Models    string `toml:"models" jsonschema:"description=Folder of models (default models)"`
	Languages string `toml:"languages" jsonschema:"description=Folder of texts in other languages\\, one file a language such as de.toml (default languages)"`
}

// Pack says what ships besides what the maps need.
type Pack struct {
	Include    []string    `toml:"include" jsonschema:"description=Patterns of files that ship as they are; ** crosses folders"`
	Exceptions []Exception `toml:"exception" jsonschema:"description=Files that ship although something in them should not leave the house"`
}

// Exception lets a file ship in which the guard finds something.
type Exception struct {
	File   string   `toml:"file" jsonschema:"required,description=Pattern on the file's path in the game"`
	Allow  []string `toml:"allow" jsonschema:"required,enum=source,enum=backup,enum=secret,enum=home,description=What it may have: be a source or a backup\\, hold a secret\\, hold a path of a home folder"`
	Reason string   `toml:"reason" jsonschema:"required,minLength=1,description=Why it must ship"`
}

// Sweep says how long stray files are kept in their safe place.
type Sweep struct {
	KeepDays int `toml:"keep_days" jsonschema:"minimum=0,description=Days that a safe place is kept before the next sweep removes it for good (default 60)"`
}

// Index says where players get the files.
type Index struct {
	Base      string      `toml:"base" jsonschema:"description=Address of the folder that the files are downloaded from (default: the one that the index lies in)"`
	ValidDays int         `toml:"valid_days" jsonschema:"minimum=0,maximum=3650,description=Days after which a signed index is taken no more\\, so that nobody can serve an old one for ever (default 0: it does not expire)"`
	Notes     string      `toml:"notes" jsonschema:"description=File with what is new in a version\\, for players; {version} is filled in (default notes/{version}.md\\, when it is there)"`
	Retracted []Retracted `toml:"retracted" jsonschema:"description=Versions that nobody should have any more"`
}

// Release says what a release does besides.
type Release struct {
	Patches *int   `toml:"patches" jsonschema:"minimum=0,maximum=50,description=From how many of the versions before it a release makes patches (default 2)"`
	Tag     string `toml:"tag" jsonschema:"description=Git tag of a release\\, such as v{version}; {name} and {version} are filled in (default: no tag)"`
}

// defaultPatches is from how many versions a release makes patches when nobody says.
const defaultPatches = 2

// PatchesFrom is from how many of the versions before it a release makes patches.
func (r *Release) PatchesFrom() int {
	if r.Patches == nil {
		return defaultPatches
	}
	return *r.Patches
}

// Retracted is a version that was taken back.
type Retracted struct {
	Version string `toml:"version" jsonschema:"required,pattern=^[0-9]+\\.[0-9]+\\.[0-9]+$,description=The version"`
	Reason  string `toml:"reason" jsonschema:"required,minLength=1,description=Why\\, for players"`
}

// Signing says whose signatures count on what is handed out.
type Signing struct {
	Required bool     `toml:"required" jsonschema:"description=Whether patches must be signed by a trusted key"`
	Trusted  []string `toml:"trusted" jsonschema:"description=Public keys that are trusted\\, as 'vornix key show' prints them"`
}

// Accept declares a finding known.
type Accept struct {
	Finding string `toml:"finding" jsonschema:"required,description=Id of the finding"`
	Where   string `toml:"where" jsonschema:"description=Pattern on the file it is about; empty for any"`
	Reason  string `toml:"reason" jsonschema:"required,minLength=1,description=Why it is harmless here"`
}

// Exception is the project's reason for shipping a file, named by its path in the game, with
// something of that sort in it.
func (p *Project) Exception(gamePath, sort string) (reason string, ok bool) {
	for _, e := range p.File.Pack.Exceptions {
		if match, _ := doublestar.Match(e.File, gamePath); match && slices.Contains(e.Allow, sort) {
			return e.Reason, true
		}
	}
	return "", false
}

// Included says whether [pack] include names a file.
func (p *Project) Included(file string) bool {
	return slices.ContainsFunc(p.File.Pack.Include, func(pattern string) bool {
		ok, _ := doublestar.Match(pattern, file)
		return ok
	})
}

// Find returns the nearest folder at or above dir that has a vornix.toml.
func Find(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for at := abs; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, FileName)); err == nil {
			return at, nil
		}
		if filepath.Dir(at) == at {
			return "", &fault.Fault{Kind: fault.Usage, What: "there is no project here", Place: fault.Place{File: abs},
				Why: "Neither this folder nor one above it has a " + FileName + ".",
				Do:  "Go to the project's folder, name it with --project DIR, or make one with 'vornix new DIR'."}
		}
	}
}

// noProject says why vornix.toml could not be read in a folder that was named.
func noProject(dir string, err error) error {
	f := &fault.Fault{Kind: fault.Usage, What: "there is no project in this folder",
		Place: fault.Place{File: filepath.ToSlash(dir)},
		Why:   "It has no " + FileName + ".", Do: "Name the folder that has one, or make one with 'vornix new DIR'."}
	if !errors.Is(err, fs.ErrNotExist) {
		f.What, f.Why, f.Err, f.Do = "the project file can't be read", "", err, "Check who may read it."
	} else if found, findErr := Find(dir); findErr == nil {
		f.Do = "The nearest one above is " + filepath.ToSlash(found) + ": --project " + filepath.ToSlash(found)
	}
	return f
}

// Load reads the project in dir. builtin holds the profiles that come with the program, as NAME.toml.
func Load(dir string, builtin fs.FS) (*Project, error) {
	data, err := os.ReadFile(filepath.Join(dir, FileName))
	if err != nil {
		return nil, noProject(dir, err)
	}
	p, err := parse(dir, data)
	if err != nil {
		return nil, err
	}
	p.Profile, p.ProfilePath, err = loadProfile(p, builtin)
	if err != nil {
		return nil, err
	}
	return p, nil
}

// Check says whether a text is a project file, but for the game profile that it names.
func Check(data []byte) error {
	_, err := parse("", data)
	return err
}

func parse(dir string, data []byte) (*Project, error) {
	p := &Project{Dir: dir, Source: data}
	doc, list := tomlfile.Decode(FileName, data, &p.File)
	p.Doc = doc
	if len(list) == 0 {
		p.fill()
		list = p.validate()
	}
	if len(list) > 0 {
		return nil, &finding.Failure{What: "the project file can't be used", Findings: list}
	}
	return p, nil
}

func (p *Project) fill() {
	s := &p.File.Sources
	s.Maps = cmp.Or(s.Maps, "maps")
	s.Materials = cmp.Or(s.Materials, "materials")
	s.Textures = cmp.Or(s.Textures, "textures")
	s.Sounds = cmp.Or(s.Sounds, "sounds")
	s.Sprites = cmp.Or(s.Sprites, "sprites")
	s.Models = cmp.Or(s.Models, "models")
	s.Languages = cmp.Or(s.Languages, "languages")
	p.File.Project.Language = cmp.Or(p.File.Project.Language, "en")
	p.File.Index.Notes = cmp.Or(p.File.Index.Notes, "notes/{version}.md")
	p.File.Sweep.KeepDays = cmp.Or(p.File.Sweep.KeepDays, 60)
}

var (
	nameForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9]+([_-][a-z0-9]+)*$`) })
	tagForm  = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_+-]*([./][A-Za-z0-9_+-]+)*$`)
	})
)

func (p *Project) validate() []finding.Finding {
	var list []finding.Finding
	wrong := func(path []any, format string, args ...any) {
		list = append(list, p.Doc.Wrong(path, format, args...))
	}
	f := &p.File
	if !nameForm().MatchString(f.Project.Name) {
		wrong([]any{"project", "name"},
			"name must be small letters, digits, _ and -, as it goes into file names; it is %q", f.Project.Name)
	}
	if strings.TrimSpace(f.Project.Title) == "" {
		wrong([]any{"project", "title"}, "title is missing")
	}
	if !semver.Valid(f.Project.Version) {
		wrong([]any{"project", "version"}, "version must be three numbers, as in 1.0.0; it is %q", f.Project.Version)
	}
	if f.Project.Profile == "" {
		wrong([]any{"project", "profile"}, "profile is missing: the name of the game's profile")
	}
	for _, s := range []struct{ key, value string }{{"maps", f.Sources.Maps}, {"materials", f.Sources.Materials},
		{"textures", f.Sources.Textures}, {"sounds", f.Sources.Sounds}, {"sprites", f.Sources.Sprites},
		{"models", f.Sources.Models}, {"languages", f.Sources.Languages}} {
		if err := safefile.CheckPath(s.value); err != nil {
			wrong([]any{"sources", s.key},
				"the folder must be a path inside the project with forward slashes, and is %q", s.value)
		}
	}
	if v := f.Project.GameVersion; v != "" && !profile.IsGameVersion(v) {
		wrong([]any{"project", "game_version"},
			"a version of the game is numbers with points between them, as in 1.4, and is %q", v)
	}
	for i, r := range f.Index.Retracted {
		if !semver.Valid(r.Version) {
			wrong([]any{"index", "retracted", i, "version"}, "version must be three numbers, as in 1.0.0; it is %q",
				r.Version)
		}
		if strings.TrimSpace(r.Reason) == "" {
			wrong([]any{"index", "retracted", i, "reason"},
				"a version that is taken back needs a reason, which players read")
		}
	}
	if f.Index.ValidDays < 0 || f.Index.ValidDays > 3650 {
		wrong([]any{"index", "valid_days"}, "valid_days must lie between 0 and 3650, and is %d", f.Index.ValidDays)
	}
	if n := f.Release.PatchesFrom(); n < 0 || n > 50 {
		wrong([]any{"release", "patches"}, "patches must lie between 0 and 50, and is %d", n)
	}
	if tag := f.Release.Tag; tag != "" &&
		!tagForm().MatchString(profile.Fill(tag, map[string]string{"name": "a", "version": "1.0.0"})) {
		wrong([]any{"release", "tag"}, "%q can't be a Git tag", tag)
	}
	for i, r := range f.Textures {
		if !doublestar.ValidatePattern(r.Match) || r.Match == "" {
			wrong([]any{"texture", i, "match"}, "%q is no pattern", r.Match)
		}
		list = append(list, r.validate(p.Doc, "texture", i)...)
	}
	for i := range f.Pictures {
		list = append(list, p.validatePicture(i)...)
	}
	for _, pattern := range f.Pack.Include {
		if !doublestar.ValidatePattern(pattern) {
			wrong([]any{"pack", "include"}, "%q is no pattern", pattern)
		}
	}
	for i, e := range f.Pack.Exceptions {
		if !doublestar.ValidatePattern(e.File) || e.File == "" {
			wrong([]any{"pack", "exception", i, "file"}, "%q is no pattern", e.File)
		}
		for _, sort := range e.Allow {
			if !slices.Contains([]string{"source", "backup", "secret", "home"}, sort) {
				wrong([]any{"pack", "exception", i, "allow"}, "%q is none of source, backup, secret, home", sort)
			}
		}
		if len(e.Allow) == 0 {
			wrong([]any{"pack", "exception", i, "allow"}, "allow is missing: what the file may have")
		}
		if strings.TrimSpace(e.Reason) == "" {
			x := p.Doc.Wrong([]any{"pack", "exception", i, "reason"}, "an exception needs a reason")
			list = append(list,
				x.Doing("Add reason = \"...\": half a year from now nobody remembers why it must ship."))
		}
	}
	list = append(list, p.steps()...)
	list = append(list, p.targets()...)
	list = append(list, p.shared()...)
	list = append(list, p.pages()...)
	for i, key := range p.File.Signing.Trusted {
		if _, err := signature.ParseWord(key); err != nil {
			list = append(list, p.Doc.Wrong([]any{"signing", "trusted", i}, "this is no public key: %v", err))
		}
	}
	if p.File.Signing.Required && len(p.File.Signing.Trusted) == 0 {
		list = append(list, p.Doc.Wrong([]any{"signing", "required"}, "signatures are demanded, and no key is trusted"))
	}
	for i, a := range f.Accept {
		if !slices.Contains(finding.IDs(), a.Finding) {
			x := p.Doc.Wrong([]any{"accept", i, "finding"}, "there is no finding %q", a.Finding)
			if near := suggest.Word(a.Finding, finding.IDs()); near != "" {
				x = x.Doing("Did you mean %q?", near)
			}
			list = append(list, x)
		}
		if strings.TrimSpace(a.Reason) == "" {
			x := p.Doc.Wrong([]any{"accept", i, "reason"}, "an accepted finding needs a reason")
			list = append(list,
				x.Doing("Add reason = \"...\": half a year from now nobody remembers why it was harmless."))
		}
		if !doublestar.ValidatePattern(a.Where) {
			wrong([]any{"accept", i, "where"}, "%q is no pattern", a.Where)
		}
	}
	return list
}

func loadProfile(p *Project, builtin fs.FS) (*profile.Profile, string, error) {
	name := p.File.Project.Profile
	rel := "profiles/" + name + ".toml"
	if safefile.CheckPath(rel) == nil {
		if data, err := os.ReadFile(filepath.Join(p.Dir, filepath.FromSlash(rel))); err == nil {
			prof, err := profile.Parse(rel, data)
			if err == nil {
				err = prof.ReadOwn(func(name string) ([]byte, error) {
					return fs.ReadFile(os.DirFS(filepath.Join(p.Dir, "profiles")), name)
				}, func(name string) (string, []string,
					error) {
					return gameFolder(filepath.Join(p.Dir, "profiles"), name)
				})
			}
			return prof, rel, err
		}
		if data, err := fs.ReadFile(builtin, name+".toml"); err == nil {
			prof, err := profile.Parse(name+".toml", data)
			if err == nil {
				err = prof.ReadOwn(func(list string) ([]byte, error) { return fs.ReadFile(builtin, list) }, nil)
			}
			return prof, "", err
		}
	}
	known := Profiles(p.Dir, builtin)
	x := p.Doc.Wrong([]any{"project", "profile"}, "there is no game profile %q", name)
	if near := suggest.Word(name, known); near != "" {
		x = x.Doing("Did you mean %q?", near)
	} else {
		x = x.Doing("Put it into %s, or use one of: %s.", rel, strings.Join(known, ", "))
	}
	x.Why = "The profile says how the game wants its files; without it nothing can be built."
	return nil, "", &finding.Failure{What: "the project's game profile was not found", Findings: []finding.Finding{x}}
}

// gameFolder lists the files of an installed game. name counts from the folder that the profile lies in.
// maxGameFiles is how many files the folder of a game may have: a project could name the whole disk.
const maxGameFiles = 300_000

func gameFolder(base, name string) (dir string, files []string, err error) {
	dir = filepath.FromSlash(name)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(base, dir)
	}
	list, err := listFolderOf(dir, "", func(string) bool { return false }, maxGameFiles)
	if errors.Is(err, errMany) {
		err = fmt.Errorf("it has more than %d files, which no game has; name the folder of the game itself",
			maxGameFiles)
	}
	for _, f := range list {
		files = append(files, f.Path)
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return dir, files, err
}

// Profiles lists the names of the profiles a project in dir could use: its own and those that come with the program.
func Profiles(dir string, builtin fs.FS) []string {
	var names []string
	for _, f := range []fs.FS{builtin, os.DirFS(filepath.Join(dir, "profiles"))} {
		found, _ := fs.Glob(f, "*.toml")
		for _, n := range found {
			names = append(names, strings.TrimSuffix(n, ".toml"))
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Join is the system path of a slash path in the project.
func (p *Project) Join(rel ...string) string {
	return filepath.Join(p.Dir, filepath.FromSlash(strings.Join(rel, "/")))
}

// State is the system path of the folder in which Vornix keeps what it remembers.
func (p *Project) State() string { return p.Join(StateDir) }

// Acceptances are the accepted findings with the places where they are declared.
func (p *Project) Acceptances() []finding.Acceptance {
	var list []finding.Acceptance
	for i, a := range p.File.Accept {
		list = append(list,
			finding.Acceptance{ID: a.Finding, Where: a.Where, Reason: a.Reason, Place: p.Doc.At("accept", i)})
	}
	return list
}

// SetVersion writes a new version into vornix.toml, touching nothing else in it, and into the loaded project.
func (p *Project) SetVersion(version string) error {
	if err := p.Pretend(version); err != nil {
		return err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteFile(FileName, p.Source)
}

// Pretend gives the loaded project another version. Its file keeps the one that it has.
func (p *Project) Pretend(version string) error {
	start, end, ok := p.Doc.Value("project", "version")
	if !ok || !semver.Valid(version) {
		return &fault.Fault{Kind: fault.Usage, What: "a version is three numbers, as in 1.0.0",
			Place: p.Doc.At("project", "version")}
	}
	data := slices.Concat(p.Source[:start], []byte(strconv.Quote(version)), p.Source[end:])
	p.Source, p.File.Project.Version = data, version
	p.Doc, _ = tomlfile.Decode(FileName, data, &File{}) // what stands behind the version has moved
	return nil
}

// Retract writes into vornix.toml that a version is taken back, or with undo that it is not;
// released are those that there are.
func (p *Project) Retract(version, reason string, undo bool, released []string) error {
	if !slices.Contains(released, version) {
		return &fault.Fault{Kind: fault.Usage, What: "version " + version + " was not released",
			Do: "Released: " + strings.Join(released, ", ")}
	}
	at := slices.IndexFunc(p.File.Index.Retracted, func(r Retracted) bool { return r.Version == version })
	var data []byte
	switch {
	case !undo && at >= 0:
		return &fault.Fault{Kind: fault.Usage, What: "version " + version + " is taken back already",
			Place: p.Doc.At("index", "retracted", at), Do: "Change the reason there."}
	case undo && at < 0:
		return &fault.Fault{Kind: fault.Usage, What: "version " + version + " is not taken back",
			Place: p.Doc.At("index"), Do: "Name one under [[index.retracted]]."}
	case undo:
		lines := strings.SplitAfter(string(p.Source), "\n")
		first := p.Doc.At("index", "retracted", at).Line - 1
		last := first + 1
		for last < len(lines) && !strings.HasPrefix(strings.TrimSpace(lines[last]), "[") &&
			!strings.HasPrefix(strings.TrimSpace(lines[last]), "#") {
			last++
		}
		data = []byte(strings.Join(slices.Delete(lines, first, last), ""))
	default:
		text := strings.TrimRight(string(p.Source), "\r\n") + "\n\n[[index.retracted]]\n"
		for _, pair := range []struct {
			Key, Value string
		}{{"version", version}, {"reason", reason}} {
			line, err := toml.Marshal(map[string]string{pair.Key: pair.Value})
			if err != nil {
				return err
			}
			text += string(line)
		}
		data = []byte(text)
	}
	if _, err := parse(p.Dir, data); err != nil {
		return &fault.Fault{What: "vornix.toml would not be right any more, and is as it was", Err: err,
			Do: "Change [[index.retracted]] by hand."}
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.WriteFile(FileName, data)
}
