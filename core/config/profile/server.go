package profile

import (
	"path"
	"slices"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/safefile"
	"vornix/core/base/template"
)

// Server says what a game server's folder looks like.
type Server struct {
	Bundles    string      `toml:"bundles" jsonschema:"description=Folder that bundles go to"`
	Lists      []ListFile  `toml:"list" jsonschema:"description=Lists that name the maps"`
	Maps       string      `toml:"maps" jsonschema:"description=The list that says which maps exist"`
	Playing    string      `toml:"playing" jsonschema:"description=The list that says what is played\\, in order"`
	Companions []Companion `toml:"companion" jsonschema:"description=Files that go to the server with a map"`
	Welcome    Welcome     `toml:"welcome" jsonschema:"description=The page that players read when they join"`
	Call       Call        `toml:"call" jsonschema:"description=How a server notices what is new\\, and says what it has loaded"`
	Mirror     Mirror      `toml:"mirror" jsonschema:"description=The folder that players download from"`
}

// ListFile is a file with an entry for each map.
type ListFile struct {
	File      string   `toml:"file" jsonschema:"required,description=File name"`
	Line      string   `toml:"line" jsonschema:"required,description=The entry; {map} {title} {mode} {modes} {file} {stem} {bundle} {version} {date} {size} {sha256} {url} {game} {players_least} {players_most} {name} {project} are filled in"`
	Escape    string   `toml:"escape" jsonschema:"enum=line,enum=quotes,enum=json,enum=csv,enum=xml,enum=percent,enum=none,description=How values are escaped (default line: control characters become spaces; of an object in a JSON list json)"`
	Form      string   `toml:"form" jsonschema:"enum=lines,enum=json,enum=setting,description=A line for each map\\, an array in a JSON file\\, or one line of settings that names them all (default lines)"`
	Key       string   `toml:"key" jsonschema:"description=Of a JSON list: where its array stands\\, as in rotation.maps (default: the whole file)"`
	Around    string   `toml:"around" jsonschema:"description=Of a setting: the line\\, with {entries} in it\\, as in set rotation \"{entries}\""`
	Separator string   `toml:"separator" jsonschema:"description=Of a setting: what stands between entries (default a space)"`
	Order     string   `toml:"order" jsonschema:"enum=append,enum=sorted,enum=after,enum=weight,description=Where a new entry goes: at the end\\, by its text\\, behind the map that after names\\, or by the weights of the target (default append)"`
	After     string   `toml:"after" jsonschema:"description=Of the order after: the map that new entries stand behind"`
	Notes     []string `toml:"notes" jsonschema:"description=What lines begin with that are no entries (default # // ; and --)"`
	Encoding  string   `toml:"encoding" jsonschema:"enum=utf-8,enum=utf-16le,enum=utf-16be,enum=latin-1,enum=windows-1252,enum=windows-1251,enum=cp437,description=Encoding of a new list\\, and of one there that tells of none (default utf-8)"`
	Lines     string   `toml:"lines" jsonschema:"enum=lf,enum=crlf,description=Line ends of a new list (default lf); one that is there keeps its own"`
}

// Companion is a file beside a map.
type Companion struct {
	From     string `toml:"from" jsonschema:"required,description=File in the project; {map} {bundle} {name} and {version} are filled in\\, as in out/pictures/{map}.png"`
	To       string `toml:"to" jsonschema:"required,description=Path on the server; with the same names"`
	Optional bool   `toml:"optional" jsonschema:"description=Whether a map may lack it"`
}

// Welcome is a page.
type Welcome struct {
	File     string `toml:"file" jsonschema:"description=File name; empty for no page"`
	Template string `toml:"template" jsonschema:"description=Template of Go's text/template: {{.title}} {{.version}} {{.date}} {{.notes}} {{.authors}} {{.description}}\\, {{range .maps}}{{.name}} {{.title}} {{.modes}} {{.picture}}{{end}}; {{range .projects}} has the same of every project on the server\\, so that they share the page"`
	Escape   string `toml:"escape" jsonschema:"enum=line,enum=quotes,enum=json,enum=csv,enum=xml,enum=percent,enum=none,description=How its values are escaped (default xml\\, which is right for HTML)"`
	Picture  string `toml:"picture" jsonschema:"description=Which companion is the picture of a map: its to"`
}

// Call is how a server is spoken to.
type Call struct {
	Status string `toml:"status" jsonschema:"description=Path under the server's address that says what is loaded (default /status)"`
	Reload string `toml:"reload" jsonschema:"description=Path that makes it load anew\\, by POST (default /reload)"`
	Touch  string `toml:"touch" jsonschema:"description=File that the server watches: written anew\\, with the version\\, after everything else"`
}

// Mirror is a folder for downloads.
type Mirror struct {
	Folder   string   `toml:"folder" jsonschema:"description=Folder of the bundles on the mirror (default: as on the server)"`
	Compress []string `toml:"compress" jsonschema:"enum=gzip,enum=bzip2,enum=zstd,description=Forms of which a copy of each file stands beside it: FILE.gz\\, FILE.bz2\\, FILE.zst"`
}

// List finds a list by its file; nil when there is none.
func (s *Server) List(file string) *ListFile {
	for i := range s.Lists {
		if s.Lists[i].File == file {
			return &s.Lists[i]
		}
	}
	return nil
}

// serving checks what the profile says about servers.
func (p *Profile) serving(wrong func(key []any, format string, args ...any),
	oneOf func(value string, allowed []string, key ...any)) {
	s := &p.Server
	for _, which := range []struct{ key, value string }{{"maps", s.Maps}, {"playing", s.Playing}} {
		if which.value != "" && s.List(which.value) == nil {
			wrong([]any{"server", which.key}, "%q is none of the [[server.list]] files", which.value)
		}
	}
	taken := map[string]bool{}
	claim := func(at []any, file string) {
		if file == "" {
			return
		}
		if err := safefile.CheckPath(file); err != nil {
			wrong(at, "%v", err)
		} else if taken[file] {
			wrong(at, "%q is written by something else already", file)
		}
		taken[file] = true
	}
	for i := range s.Lists {
		l := &s.Lists[i]
		at := func(key string) []any { return []any{"server", "list", i, key} }
		claim(at("file"), l.File)
		for _, x := range []struct {
			key, value string
			allowed    []string
		}{{"form", l.Form, []string{"lines", "json", "setting"}},
			{"order", l.Order, []string{"append", "sorted", "after", "weight"}}, {"escape", l.Escape, template.Escapes},
			{"lines", l.Lines, []string{"lf", "crlf"}}, {"encoding", l.Encoding, charset.Encodings}} {
			if x.value != "" {
				oneOf(x.value, x.allowed, at(x.key)...)
			}
		}
		switch l.Form {
		case "setting":
			if strings.Count(l.Around, "{entries}") != 1 {
				wrong(at("around"), "around must have {entries} once, as in: set rotation \"{entries}\"")
			}
			if l.Separator == "" {
				l.Separator = " "
			}
		case "json":
			if strings.HasPrefix(l.Line, "{\"") || strings.HasPrefix(l.Line, "{ ") {
				orDefault(&l.Escape, "json")
			}
		default:
			orDefault(&l.Form, "lines")
			if l.Around != "" || l.Separator != "" || l.Key != "" {
				wrong(at("file"), "around and separator belong to form = \"setting\", key to form = \"json\"")
			}
		}
		orDefault(&l.Order, "append")
		if (l.Order == "after") != (l.After != "") {
			wrong(at("order"), "order = \"after\" and after = \"MAP\" belong together")
		}
		if len(l.Notes) == 0 {
			l.Notes = []string{"#", "//", ";", "--"}
		}
		names := template.Places(l.Line)
		if !slices.ContainsFunc([]string{"map", "stem", "file"},
			func(n string) bool { return slices.Contains(names, n) }) {
			wrong(at("line"), "an entry must name its map by {map}, {stem} or {file}: it could not be found again")
		}
	}
	for i, c := range s.Companions {
		if err := safefile.CheckPath(template.Line(c.From, sampleNames, "none")); err != nil {
			wrong([]any{"server", "companion", i, "from"}, "%v", err)
		}
		if err := safefile.CheckPath(template.Line(c.To, sampleNames, "none")); err != nil {
			wrong([]any{"server", "companion", i, "to"}, "%v", err)
		}
	}
	claim([]any{"server", "welcome", "file"}, s.Welcome.File)
	claim([]any{"server", "call", "touch"}, s.Call.Touch)
	orDefault(&s.Welcome.Escape, "xml")
	if (s.Welcome.File == "") != (s.Welcome.Template == "") {
		wrong([]any{"server", "welcome"}, "file and template belong together")
	} else if s.Welcome.File != "" {
		if _, err := template.NewFile(s.Welcome.File, s.Welcome.Template, s.Welcome.Escape); err != nil {
			wrong([]any{"server", "welcome", "template"}, "%v", err)
		}
	}
	if s.Welcome.Picture != "" &&
		!slices.ContainsFunc(s.Companions, func(c Companion) bool { return c.To == s.Welcome.Picture }) {
		wrong([]any{"server", "welcome", "picture"}, "%q is the to of no [[server.companion]]", s.Welcome.Picture)
	}
	for i, form := range s.Mirror.Compress {
		oneOf(form, []string{"gzip", "bzip2", "zstd"}, "server", "mirror", "compress", i)
	}
	orDefault(&s.Call.Status, "/status")
	orDefault(&s.Call.Reload, "/reload")
	for _, which := range []struct{ key, value string }{{"status", s.Call.Status}, {"reload", s.Call.Reload}} {
		if !strings.HasPrefix(which.value, "/") {
			wrong([]any{"server", "call", which.key}, "it must begin with /, and is %q", which.value)
		}
	}
	orDefault(&s.Mirror.Folder, s.Bundles)
	if s.Mirror.Folder != "" && path.Clean(s.Mirror.Folder) != "." {
		if err := safefile.CheckPath(s.Mirror.Folder); err != nil {
			wrong([]any{"server", "mirror", "folder"}, "%v", err)
		}
	}
}

var sampleNames = map[string]string{"map": "map", "bundle": "bundle", "name": "name", "version": "1.0.0"}
