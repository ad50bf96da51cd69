// Package importer makes a project of a pile of files that somebody has: it finds out what they are
// by what is in them and by what names them, where the folders begin that names count from, and
// which metadata there is; and it says what it did not understand.
//
// Nothing is guessed silently: what is taken has a kind and a place, and all else stands in the
// list of what was left, with a reason.
package importer

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/audio"
	"vornix/core/format/gltf"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/format/texture"
	"vornix/core/make/sweep"
)

// File is a file of the pile that is taken.
type File struct {
	// map, material, texture, sound, model, sprite, metadata, or the name of one of the profile's contents
	Kind string `json:"kind"`
	From string `json:"from"` // slash path in the pile
	To   string `json:"to"`   // slash path in the project
	Size int64  `json:"size"`
}

// Left is a file of the pile that is not taken.
type Left struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Proposal is a project that a pile would make.
type Proposal struct {
	Profile string `json:"profile"`
	// Guessed says that the profile was found out.
	Guessed  bool              `json:"guessed"`
	Folders  map[string]string `json:"folders"` // by kind: the folder of the pile from which names count
	Files    []File            `json:"files"`
	Left     []Left            `json:"left"`
	Metadata []string          `json:"metadata"` // files of the pile that may hold metadata, in the pile
	TOML     []byte            `json:"-"`        // the project file
}

// Options for Propose.
type Options struct {
	Name, Title string
	Profiles    []*profile.Profile // to choose from; one is no choice
	InPlace     bool               // files stay where they are
}

// most is how large a file may be to be looked into for names.
const limit = 4 << 20

// kinds are those whose folders a project names, with the default ones, in the order in which a map comes to need them.
var kinds = []struct{ kind, folder string }{{"map", "maps"}, {"material", "materials"}, {"texture", "textures"},
	{"sprite", "sprites"}, {"model", "models"}, {"sound", "sounds"}}

type pile struct {
	ctx   context.Context
	dir   string
	o     Options
	files []project.Info
	kind  map[string]string // by path
	words map[string]bool   // that stand in maps, materials and other texts
	tiles bool              // a map has a grid
	p     *Proposal
}

// Propose looks through the folder dir. It changes nothing.
func Propose(ctx context.Context, dir string, o Options) (*Proposal, error) {
	if _, err := os.Stat(filepath.Join(dir, project.FileName)); err == nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "this folder is a project already",
			Place: fault.Place{File: filepath.ToSlash(filepath.Join(dir, project.FileName))},
			Do:    "Go there and run 'vornix check'."}
	}
	files, err := (&project.Project{Dir: dir}).List()
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the folder can't be read",
			Place: fault.Place{File: filepath.ToSlash(dir)}, Err: err, Do: "Check the path."}
	}
	x := &pile{ctx: ctx, dir: dir, o: o, files: files, kind: map[string]string{}, words: map[string]bool{},
		p: &Proposal{Folders: map[string]string{}, Files: []File{}, Left: []Left{}, Metadata: []string{}}}
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		x.look(f)
	}
	x.parts()
	prof, err := x.profile()
	if err != nil {
		return nil, err
	}
	x.contents(prof)
	if err := x.place(prof); err != nil {
		return nil, err
	}
	x.write(prof)
	return x.p, nil
}

func (x *pile) leave(file, format string, args ...any) {
	x.p.Left = append(x.p.Left, Left{file, fmt.Sprintf(format, args...)})
}

// word is a name in a text, as one may stand in a map, a material or a script.
var word = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[\pL\pN_./-]+`) })

// look finds out what a file is, by its ending and by what is in it.
func (x *pile) look(f project.Info) {
	if rule, what := sweep.Stray(f.Path, ""); rule != "" && rule != sweep.System || rule == sweep.System &&
		path.Ext(f.Path) != ".ini" {
		x.leave(f.Path, "%s", what)
		return
	}
	ending := strings.ToLower(path.Ext(f.Path))
	read := func() []byte {
		if f.Size > limit {
			return nil
		}
		data, err := os.ReadFile(filepath.Join(x.dir, filepath.FromSlash(f.Path)))
		if err != nil {
			return nil
		}
		return data
	}
	names := func(data []byte) {
		for _, w := range word().FindAllString(string(data), -1) {
			x.words[w] = true
		}
	}
	switch {
	case ending == ".vnx":
		data := read()
		names(data)
		switch kind := sourceKind(data); kind {
		case "tiles":
			x.tiles = true
			fallthrough
		case "map":
			x.kind[f.Path] = "map"
		default:
			x.kind[f.Path] = "part of maps" // a prefab, or what maps include
		}
	case ending == ".vnm":
		x.leave(f.Path, "a compiled map: its source is wanted, and can't be made of it")
	case ending == ".ktx2":
		x.leave(f.Path, "a texture that was made for a game: the image that it was made of is wanted")
	case slices.Contains(texture.Endings, ending):
		x.kind[f.Path] = "texture"
	case strings.HasSuffix(f.Path, project.SidecarEnding):
		names(read())
		x.kind[f.Path] = "texture"
	case slices.Contains(audio.Endings, ending):
		x.kind[f.Path] = "sound"
	case slices.Contains(gltf.Endings, ending):
		x.kind[f.Path] = "model"
	case ending == ".toml":
		data := read()
		names(data)
		x.kind[f.Path] = tomlKind(f.Path, data)
	case slices.Contains([]string{".json", ".yaml", ".yml", ".xml", ".ini", ".txt", ".cfg", ".csv", ".md"}, ending):
		names(read())
		x.kind[f.Path] = "text"
	default:
		x.kind[f.Path] = ""
	}
}

// parts finds the files that maps name by their paths, from where the map lies, such as the image
// of a sky, and the images of sprites: the one that a sheet names beside it, or its frames in a
// folder that is called like it.
func (x *pile) parts() {
	for sheet, k := range x.kind {
		if k != "sprite" {
			continue
		}
		folder, frames := path.Dir(sheet)+"/", strings.TrimSuffix(sheet, path.Ext(sheet))+"/"
		for f, k := range x.kind {
			if k == "texture" && (path.Dir(f)+"/" == folder && x.words[path.Base(f)] || strings.HasPrefix(f, frames)) {
				x.kind[f] = "part of sprites"
			}
		}
	}
	folders := map[string]bool{}
	for f, k := range x.kind {
		if k == "map" || k == "part of maps" {
			folders[path.Dir(f)] = true
		}
	}
	for f, k := range x.kind {
		if k == "map" {
			continue
		}
		for d := range folders {
			rel, err := filepath.Rel(filepath.FromSlash(d), filepath.FromSlash(f))
			if err == nil && path.Ext(f) != "" && x.words[filepath.ToSlash(rel)] {
				x.kind[f] = "part of maps"
			}
		}
	}
}

// sourceKind says what a map source is: tiles, map, or something that maps include.
func sourceKind(data []byte) string {
	kind := ""
	for line := range bytes.Lines(data) {
		first, _, _ := strings.Cut(strings.TrimSpace(string(line)), " ")
		switch first {
		case "map":
			kind = cmp.Or(kind, "map")
		case "grid", "legend":
			if kind != "" {
				return "tiles"
			}
		}
	}
	return kind
}

// tomlKind says what a TOML file is.
func tomlKind(name string, data []byte) string {
	if path.Base(name) == material.DefaultsFile {
		return "material"
	}
	if m, list := material.Parse(name, data); m != nil && finding.Count(list, finding.Error) == 0 && len(data) > 0 {
		return "material"
	}
	if _, list := sprite.Parse(name, data, nil); finding.Count(list, finding.Error) == 0 ||
		bytes.Contains(data, []byte("\n[state.")) {
		return "sprite"
	}
	if bytes.Contains(data, []byte("[game]")) {
		return "profile"
	}
	return "text"
}

// profile is the one to make a project for: the only one there is to choose from, or the one that the maps fit best.
func (x *pile) profile() (*profile.Profile, error) {
	if len(x.o.Profiles) == 1 {
		x.p.Profile = x.o.Profiles[0].Game.ID
		return x.o.Profiles[0], nil
	}
	form := "solids"
	if x.tiles {
		form = "tiles"
	}
	var best *profile.Profile
	score, same := -1, false
	for _, prof := range x.o.Profiles {
		n := 0
		if prof.Game.Form == form {
			n += 100
		}
		for kind := range prof.Map.Items {
			if x.words[kind] {
				n++
			}
		}
		for _, mode := range prof.Map.Modes {
			if x.words[mode] {
				n++
			}
		}
		if n > score {
			best, score, same = prof, n, false
		} else if n == score {
			same = true
		}
	}
	if best == nil || same || score <= 100 || !slices.Contains(slices.Collect(maps.Values(x.kind)), "map") {
		var known []string
		for _, prof := range x.o.Profiles {
			known = append(known, prof.Game.ID)
		}
		return nil, &fault.Fault{Kind: fault.Usage, What: "which game is it for? The files do not tell",
			Do: "Name its profile, one of " + strings.Join(known, ", ") + ", or a profile file: --profile"}
	}
	x.p.Profile, x.p.Guessed = best.Game.ID, true
	return best, nil
}

// contents finds the files of the game's own kinds: those in a folder that is called like theirs,
// and those that something names.
func (x *pile) contents(prof *profile.Profile) {
	for _, f := range x.files {
		if k := x.kind[f.Path]; k != "" && k != "text" {
			continue
		}
		for i := range prof.Contents {
			c := &prof.Contents[i]
			at := c.Folder
			if c.With != "" {
				if x.companion(c, f.Path) {
					x.kind[f.Path] = c.Name
					break
				}
				continue
			}
			if !strings.Contains("/"+f.Path, "/"+at+"/") && !x.named(f.Path) {
				continue
			}
			if c.Takes(path.Base(f.Path)) || c.Takes(below(f.Path, at)) {
				x.kind[f.Path] = c.Name
				break
			}
		}
	}
}

// companion says whether a file is that which belongs to one of the maps.
func (x *pile) companion(c *profile.Content, file string) bool {
	for f, k := range x.kind {
		if k == "map" && path.Base(c.Companion(strings.TrimSuffix(path.Base(f), path.Ext(f)))) == path.Base(file) {
			return true
		}
	}
	return false
}

// below is what of a path lies below a folder of that name, wherever that lies.
func below(file, folder string) string {
	if i := strings.LastIndex("/"+file, "/"+folder+"/"); i >= 0 {
		return ("/" + file)[i+len(folder)+2:]
	}
	return path.Base(file)
}

// named says whether a word in the pile is the name of a file, with folders or without.
func (x *pile) named(file string) bool {
	name := strings.TrimSuffix(file, path.Ext(file))
	for {
		if x.words[name] {
			return true
		}
		_, rest, more := strings.Cut(name, "/")
		if !more {
			return false
		}
		name = rest
	}
}

// root is the folder of the pile that names of a kind count from: the one from which most files
// have names that stand somewhere.
func (x *pile) root(list []string) string {
	common := shared(list)
	candidates := map[string]int{common: 0}
	for _, f := range list {
		for d := path.Dir(f); ; d = path.Dir(d) {
			if _, seen := candidates[d]; !seen {
				candidates[d] = 0
			}
			name := strings.TrimSuffix(f, path.Ext(f))
			if d != "." {
				name = strings.TrimPrefix(name, d+"/")
			}
			if x.words[name] {
				candidates[d] += 1 + 3*strings.Count(name, "/") // a name with folders in it stands there by no chance
			}
			if d == "." {
				break
			}
		}
	}
	best := common
	for d, n := range candidates {
		switch m := candidates[best]; {
		case n > m, n == m && best != common && (d == common || len(d) < len(best) || len(d) == len(best) && d < best):
			best = d
		}
	}
	return best
}

// place gives every file its place in the project.
func (x *pile) place(prof *profile.Profile) error {
	byKind := map[string][]string{}
	for _, f := range x.files {
		if k := x.kind[f.Path]; k != "" {
			byKind[k] = append(byKind[k], f.Path)
		}
	}
	sizes := map[string]int64{}
	for _, f := range x.files {
		sizes[f.Path] = f.Size
	}
	take := func(kind, from, to string) {
		x.p.Files = append(x.p.Files, File{kind, from, to, sizes[from]})
	}
	for _, k := range kinds {
		list := byKind[k.kind]
		if len(list) == 0 {
			continue
		}
		root := x.root(list)
		// their names are those of the files, wherever they lie: no map is left out for lying elsewhere
		if k.kind == "map" {
			root = shared(list)
		}
		folder := root
		if root == "." {
			if x.o.InPlace {
				return &fault.Fault{Kind: fault.Usage,
					What:  fmt.Sprintf("the %ss lie in the folder itself, and not in one of their own", k.kind),
					Place: fault.Place{File: filepath.ToSlash(x.dir)},
					Why:   "A project has a folder for each kind of source.",
					Do:    "Name a new folder for the project: there they get their own, and the old one stays as it is."}
			}
			folder = k.folder
		}
		x.p.Folders[k.kind] = folder
		for _, f := range list {
			switch {
			case root == ".":
				take(k.kind, f, path.Join(folder, f))
			case strings.HasPrefix(f, root+"/"):
				take(k.kind, f, f)
			default:
				x.leave(f, "a %s outside of %s/, from where their names count", k.kind, root)
			}
		}
	}
	for i := range prof.Contents {
		c := &prof.Contents[i]
		for _, f := range byKind[c.Name] {
			to := f
			if !strings.HasPrefix(f, c.Folder+"/") {
				if x.o.InPlace {
					x.leave(f, "a %s outside of %s/, where %s wants them", c.Name, c.Folder, prof.Game.Title)
					continue
				}
				to = path.Join(c.Folder, below(f, c.Folder))
			}
			take(c.Name, f, to)
		}
	}
	for _, f := range byKind["part of maps"] {
		to := f
		if root, ok := x.p.Folders["map"]; ok && path.Dir(f) == "." && root == "maps" && !x.o.InPlace {
			to = path.Join(root, f) // beside the maps, as it was
		}
		take("part of maps", f, to)
	}
	for _, f := range byKind["part of sprites"] {
		if x.p.Folders["sprite"] == "sprites" && path.Dir(byKind["sprite"][0]) == "." {
			take("part of sprites", f, path.Join("sprites", f))
		} else {
			take("part of sprites", f, f)
		}
	}
	for _, f := range byKind["profile"] {
		x.leave(f, "a game profile: name it with --profile")
	}
	x.p.Metadata = append(x.p.Metadata, byKind["text"]...)
	for _, f := range x.files {
		if x.kind[f.Path] == "" && !slices.ContainsFunc(x.p.Left, func(l Left) bool { return l.Path == f.Path }) {
			x.leave(f.Path, "%s", x.describe(f))
		}
	}
	twice := map[string]string{}
	x.p.Files = slices.DeleteFunc(x.p.Files, func(f File) bool {
		if other, ok := twice[f.To]; ok {
			x.leave(f.From, "it would lie where %s does", other)
			return true
		}
		twice[f.To] = f.From
		return false
	})
	slices.SortFunc(x.p.Files, func(a, b File) int { return strings.Compare(a.To, b.To) })
	return nil
}

// shared is the folder that all files lie below.
func shared(list []string) string {
	common := path.Dir(list[0])
	for _, f := range list[1:] {
		for common != "." && !strings.HasPrefix(f, common+"/") {
			common = path.Dir(common)
		}
	}
	return common
}

// describe says what a file is that nobody understood.
func (x *pile) describe(f project.Info) string {
	if file, err := os.Open(filepath.Join(x.dir, filepath.FromSlash(f.Path))); err == nil {
		defer file.Close()
		var head [2]byte
		if n, _ := file.Read(head[:]); n == len(head) && string(head[:]) == "PK" {
			return "an archive: 'vornix extract' unpacks it"
		}
	}
	if e := path.Ext(f.Path); e != "" {
		return "not understood: nothing of a project ends in " + e
	}
	return "not understood: a file without an ending"
}

// write makes the project file.
func (x *pile) write(prof *profile.Profile) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "[project]\nname = %s\ntitle = %s\nversion = \"0.1.0\"\nauthors = []\ndescription = \"\"\nprofile = %s\n",
		strconv.Quote(x.o.Name), strconv.Quote(x.o.Title), strconv.Quote(prof.Game.ID))
	head := false
	for _, k := range kinds {
		if folder, ok := x.p.Folders[k.kind]; ok && folder != k.folder {
			if !head {
				b.WriteString("\n# Where the sources lie, and their names count from.\n[sources]\n")
				head = true
			}
			fmt.Fprintf(&b, "%s = %s\n", k.folder, strconv.Quote(folder))
		}
	}
	fmt.Fprintf(&b, `
# Where players get the files, for the version index:
# [index]
# base = "https://downloads.example/%s"

# A server to deploy to, with: vornix deploy practice
# [target.practice]
# kind = "folder"
# path = "../server"
`, x.o.Name)
	x.p.TOML = b.Bytes()
}

// Kinds are the kinds of what is taken, in the order in which they were found out.
func (p *Proposal) Kinds() (list []string) {
	for _, f := range p.Files {
		if !slices.Contains(list, f.Kind) {
			list = append(list, f.Kind)
		}
	}
	return list
}
