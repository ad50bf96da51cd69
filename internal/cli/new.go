package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/metadata"
	"vornix/core/release"
	"vornix/core/release/importer"
	"vornix/core/source/assetgraph"
	"vornix/demo"
	"vornix/internal/cli/show"
)

// newFlags are what 'new' is told.
type newFlags struct {
	profile, title, from string
	planOnly, ci         bool
}

// newAnswer is the result of new --from in JSON.
type newAnswer struct {
	*importer.Proposal
	TOML     string           `json:"toml"`     // the project file
	From     string           `json:"from"`     // the file that metadata was taken from; empty for none
	Taken    []metadata.Taken `json:"taken"`    // from there
	Errors   int              `json:"errors"`   // that a check of the project finds
	Warnings int              `json:"warnings"` //
}

func (a *app) newCommand() *cobra.Command {
	var f newFlags
	cmd := &cobra.Command{
		Use:   "new DIR",
		Short: "Make a project that checks clean, builds and packs, or one of files that you have",
		Long: `New writes vornix.toml, a first map, two materials and their images into a new or empty folder. PROFILE is the name
of a game profile that comes with Vornix or lies in profiles/, or a profile file, which is copied into the project's profiles/ folder. On a
terminal it asks for what is missing.

With --from FOLDER it makes a project of the files that are there: it finds maps, materials, textures, sounds, models, sprites, scripts and
metadata, by what is in them and by what names them, copies them into DIR, writes the project file, and lists what it did not understand.
FOLDER stays as it is. When DIR is FOLDER itself, nothing moves, and only the project file is written.`,
		Example: `  vornix new my_maps --profile kestrel-post
  vornix new lanes --profile ~/games/mygame.toml --title "Night Lanes"
  vornix new lanes --from ~/old/lanes_v3_final --plan`,
		Args: between(0, 1, "the new project's folder"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			if len(args) == 0 {
				if f.from == "" || !f.planOnly {
					if !a.asks() {
						return &fault.Fault{Kind: fault.Usage, What: "'vornix new' takes the new project's folder",
							Do: "See: vornix new --help"}
					}
					dir, err := a.ask(ctx, "The new project's folder", "my_maps")
					if err != nil {
						return err
					}
					args = []string{dir}
				} else {
					args = []string{f.from}
				}
			}
			if f.from != "" {
				return a.newFrom(ctx, answer, args[0], f)
			}
			return a.newEmpty(ctx, answer, args[0], f)
		}),
	}
	cmd.Flags().StringVar(&f.profile, "profile", "", "`name` of a game profile, or a profile file")
	cmd.Flags().StringVar(&f.title, "title", "",
		"the project's `title` that players read (default: made of the folder's name)")
	cmd.Flags().StringVar(&f.from, "from", "", "make it of the files in this `folder`")
	cmd.Flags().BoolVar(&f.planOnly, "plan", false, "with --from: show what would be made of what, and write nothing")
	cmd.Flags().BoolVar(&f.ci, "ci", false,
		"also write ci.sh, a script for continuous integration: check, build, try, rehearse, release on a tag")
	_ = cmd.RegisterFlagCompletionFunc("profile", completeProfiles) // it exists
	_ = cmd.MarkFlagDirname("from")
	return cmd
}

// newEmpty makes a first project.
func (a *app) newEmpty(ctx context.Context, answer *show.Answer, dir string, f newFlags) error {
	if f.planOnly {
		return &fault.Fault{Kind: fault.Usage, What: "--plan goes with --from",
			Do: "Leave it out: a new project is written into a new folder only."}
	}
	known := project.Profiles(".", demo.Profiles())
	asked := false
	if f.profile == "" {
		if !a.asks() {
			return &fault.Fault{Kind: fault.Usage, What: "which game is it for? --profile is missing",
				Do: "Name a profile, one of " + strings.Join(known, ", ") + ", or a profile file."}
		}
		var err error
		if f.profile, err = a.ask(ctx, "Which game is it for? A profile file, or one of "+strings.Join(known, ", "),
			known[0]); err != nil {
			return err
		}
		asked = true
	}
	prof, err := findProfile(f.profile, known)
	if err != nil {
		return err
	}
	name, title, err := named(dir, f.title)
	if err != nil {
		return err
	}
	if asked && f.title == "" {
		if title, err = a.ask(ctx, "Its title, which players read", title); err != nil {
			return err
		}
	}
	files, err := demo.Starter(prof, name, title)
	if err != nil {
		return err
	}
	if err := withProfile(files, prof, f.profile); err != nil {
		return err
	}
	if f.ci {
		files["ci.sh"] = demo.Pipeline
	}
	made, err := writeProject(dir, files)
	step := release.Step{Name: "new",
		Summary: fmt.Sprintf("the project %q for %s is in %s", name, prof.Game.Title, dir), Made: made}
	if err == nil {
		err = a.step(answer, &step, nil)
		a.out.Say("\nnext: cd %s && vornix pack", dir)
	}
	return err
}

// withProfile adds a profile that does not come with the program to a project's files.
func withProfile(files map[string][]byte, prof *profile.Profile, typed string) error {
	if here := "profiles/" + typed + ".toml"; fileThere(here) {
		typed = here
	}
	if _, err := fs.Stat(demo.Profiles(), prof.Game.ID+".toml"); err == nil && !strings.HasSuffix(typed, ".toml") {
		return nil
	}
	return addProfile(files, prof, typed)
}

// addProfile adds a profile, which lies at a path, to a project's files, with what lies beside it.
func addProfile(files map[string][]byte, prof *profile.Profile, name string) error {
	source := prof.Source
	// it counts from where the profile lies
	if start, end, ok := prof.Doc.Value("files", "own_folder"); ok && !filepath.IsAbs(prof.Files.OwnFolder) {
		at, err := filepath.Abs(filepath.Join(filepath.Dir(name), filepath.FromSlash(prof.Files.OwnFolder)))
		if err != nil {
			return err
		}
		source = slices.Concat(source[:start], []byte(strconv.Quote(filepath.ToSlash(at))), source[end:])
	}
	files["profiles/"+prof.Game.ID+".toml"] = source
	if list := prof.Files.OwnList; list != "" {
		if data, err := os.ReadFile(filepath.Join(filepath.Dir(name), filepath.FromSlash(list))); err == nil {
			files["profiles/"+list] = data
		}
	}
	return nil
}

func fileThere(name string) bool {
	_, err := os.Stat(filepath.FromSlash(name))
	return err == nil
}

// named makes a project's short name and title of its folder.
func named(dir, title string) (string, string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", "", err
	}
	name := projectName(filepath.Base(abs))
	return name, first(title, titleOf(name)), nil
}

// newFrom makes a project of files that somebody has.
func (a *app) newFrom(ctx context.Context, answer *show.Answer, dir string, f newFlags) error {
	known := project.Profiles(".", demo.Profiles())
	o := importer.Options{InPlace: sameFolder(dir, f.from)}
	var err error
	if o.Name, o.Title, err = named(dir, f.title); err != nil {
		return err
	}
	if f.profile != "" {
		known = []string{f.profile}
	}
	for _, name := range known {
		prof, err := findProfile(name, known)
		if err != nil {
			return err
		}
		o.Profiles = append(o.Profiles, prof)
	}
	x, err := importer.Propose(ctx, f.from, o)
	if err != nil && f.profile == "" && fault.KindOf(err) == fault.Usage && a.asks() {
		var typed string
		if typed, err = a.ask(ctx, "Which game is it for? A profile file, or one of "+strings.Join(known, ", "),
			known[0]); err != nil {
			return err
		}
		f.profile = typed
		return a.newFrom(ctx, answer, dir, f)
	}
	if err != nil {
		return err
	}
	i := slices.IndexFunc(o.Profiles, func(p *profile.Profile) bool { return p.Game.ID == x.Profile })
	prof := o.Profiles[i]
	result := &newAnswer{Proposal: x, TOML: string(x.TOML), Taken: []metadata.Taken{}}
	answer.Result = result
	if len(x.Files) == 0 {
		a.showLeft(x)
		return &fault.Fault{Kind: fault.Usage, What: "there is nothing in it that a project could be made of",
			Place: fault.Place{File: filepath.ToSlash(f.from)},
			Do: "Name the folder with the maps and images; or begin anew: vornix new " + dir + " --profile " +
				prof.Game.ID}
	}
	a.showProposal(x, prof, f.from)
	if f.planOnly {
		a.showLeft(x)
		a.out.Heading("%s would be", project.FileName)
		a.out.Say("%s", strings.TrimRight(result.TOML, "\n"))
		a.out.Say("\nnothing was written; without --plan, metadata is looked for in %s",
			orWord(strings.Join(x.Metadata, ", "), "no file"))
		return nil
	}
	files := map[string][]byte{project.FileName: x.TOML}
	if err := withProfile(files, prof, f.profile); err != nil {
		return err
	}
	if f.ci {
		files["ci.sh"] = demo.Pipeline
	}
	made, err := a.writeAdopted(ctx, dir, f.from, x, files, o.InPlace)
	if err != nil {
		return err
	}
	if err := a.adoptMetadata(ctx, dir, f.from, x, result); err != nil {
		return err
	}
	a.showLeft(x)
	p, err := project.Load(dir, demo.Profiles())
	if err != nil {
		return err
	}
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return err
	}
	step := &release.Step{Name: "new", Made: made,
		Summary: fmt.Sprintf("%q for %s is in %s: %s taken, %d left", o.Name, prof.Game.Title, filepath.ToSlash(dir),
			release.Count(len(x.Files), "file"), len(x.Left))}
	answer.Steps = append(answer.Steps, *step)
	short := *step
	short.Made = nil
	a.out.Say("")
	a.out.Step(short)
	checked, checkErr := release.Check(ctx, p, g)
	if checked != nil {
		result.Errors, result.Warnings = finding.Count(checked.Findings, finding.Error),
			finding.Count(checked.Findings, finding.Warning)
		answer.Steps = append(answer.Steps, *checked)
		a.out.Step(*checked)
	}
	next := "vornix pack"
	if checkErr != nil {
		next = "vornix check"
	}
	a.out.Say("\nnext: cd %s && %s", filepath.ToSlash(dir), next)
	return nil
}

// sameFolder says whether two paths are one folder.
func sameFolder(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

func sameContent(a, b string) bool {
	x, n, err := safefile.HashFile(a)
	y, m, otherErr := safefile.HashFile(b)
	return err == nil && otherErr == nil && n == m && x == y
}

// writeAdopted copies what was understood, and writes what is new.
func (a *app) writeAdopted(ctx context.Context, dir, from string, x *importer.Proposal, files map[string][]byte,
	inPlace bool) ([]release.Made, error) {
	for name, text := range map[string]string{".gitignore": demo.GitIgnore, ".gitattributes": demo.GitAttributes} {
		if _, err := os.Stat(filepath.Join(dir, name)); err != nil || !inPlace {
			files[name] = []byte(text)
		}
	}
	if !inPlace {
		copied := map[string]string{}
		for _, file := range x.Files {
			copied[file.To] = filepath.Join(from, filepath.FromSlash(file.From))
		}
		among := amongFiles(files)
		if err := mustBeEmpty(dir, func(rel, file string) bool {
			return among(rel, file) || copied[rel] != "" && sameContent(file, copied[rel])
		}); err != nil {
			return nil, err
		}
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	made := []release.Made{}
	if !inPlace {
		for _, file := range x.Files {
			if _, _, err := d.CopyFrom(ctx, filepath.Join(from, filepath.FromSlash(file.From)), file.To); err != nil {
				return made, err
			}
			made = append(made, release.Made{Path: file.To, Size: file.Size, State: "made"})
		}
	}
	// the project file comes last of those that count: before it there is no project
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if name == project.FileName {
			continue
		}
		if err := d.WriteFile(name, files[name]); err != nil {
			return made, err
		}
	}
	return made, d.WriteFile(project.FileName, files[project.FileName])
}

// adoptMetadata takes what metadata there is over into the project file.
func (a *app) adoptMetadata(ctx context.Context, dir, from string, x *importer.Proposal, result *newAnswer) error {
	p, err := project.Load(dir, demo.Profiles())
	if err != nil {
		return err
	}
	g, err := assetgraph.ScanProject(ctx, p)
	if err != nil {
		return err
	}
	best, taken, others := importer.Metadata(p, g, from, x.Metadata)
	if best != "" {
		if _, err := metadata.Apply(p, taken); err != nil {
			return err
		}
		result.From, result.Taken = best, taken
		a.out.Heading("metadata of %s", show.Clean(best))
		a.taken(taken)
	}
	for _, m := range x.Metadata {
		switch {
		case m == best:
		case slices.Contains(others, m):
			x.Left = append(x.Left,
				importer.Left{Path: m,
					Why: fmt.Sprintf("metadata too, of which %s has more: 'vornix addon import' takes it", best)})
		default:
			x.Left = append(x.Left, importer.Left{Path: m, Why: "a text that nothing names"})
		}
	}
	slices.SortStableFunc(x.Left, func(a, b importer.Left) int { return strings.Compare(a.Path, b.Path) })
	data, err := os.ReadFile(p.Join(project.FileName))
	result.TOML = string(data)
	return err
}

// showProposal shows what is understood of a pile of files.
func (a *app) showProposal(x *importer.Proposal, prof *profile.Profile, from string) {
	how := "for %s, from %s"
	if x.Guessed {
		how = "for %s, as the maps tell, from %s"
	}
	a.out.Heading(how, show.Clean(prof.Game.Title), filepath.ToSlash(from))
	var rows [][]string
	for _, kind := range x.Kinds() {
		size, some := int64(0), []string{}
		for _, f := range x.Files {
			if f.Kind == kind {
				size += f.Size
				some = append(some, f.From)
			}
		}
		where := "where they lie"
		if folder, ok := x.Folders[kind]; ok {
			where = folder + "/"
		}
		rows = append(rows, []string{kind, strconv.Itoa(len(some)), release.Bytes(size), where, release.Few(some)})
	}
	a.out.Table([]string{"understood", "files", "size", "names count from", "such as"}, rows)
}

// showLeft lists what was not taken.
func (a *app) showLeft(x *importer.Proposal) {
	if len(x.Left) == 0 {
		return
	}
	a.out.Heading("left where it is")
	var rows [][]string
	for _, l := range x.Left {
		rows = append(rows, []string{l.Path, l.Why})
	}
	if shown := 24; len(rows) > shown+1 && !a.out.Verbose {
		rows = append(rows[:shown], []string{fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), ""})
	}
	a.out.Table([]string{"file", "why"}, rows)
}

// findProfile reads a profile by its name or from a file.
func findProfile(name string, known []string) (*profile.Profile, error) {
	if strings.HasSuffix(name, ".toml") {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Usage, What: "could not read the profile",
				Place: fault.Place{File: name}, Err: err, Do: "Check the path."}
		}
		return profile.Parse(name, data)
	}
	if slices.Contains(known, name) {
		if data, err := os.ReadFile(filepath.Join("profiles", name+".toml")); err == nil { // as a project here would
			return profile.Parse("profiles/"+name+".toml", data)
		}
		if data, err := fs.ReadFile(demo.Profiles(), name+".toml"); err == nil {
			return profile.Parse(name+".toml", data)
		}
	}
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no game profile %q", name),
		Do: "Name one of " + strings.Join(known, ", ") + ", or a file that ends in .toml."}
	if near := suggest.Word(name, known); near != "" {
		f.Do = fmt.Sprintf("Did you mean %q?", near)
	}
	return nil, f
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

func projectName(folder string) string {
	name := strings.Trim(notName.ReplaceAllString(strings.ToLower(folder), "_"), "_")
	if name == "" {
		return "my_maps"
	}
	return name
}

func titleOf(name string) string {
	words := strings.Split(name, "_")
	for i, w := range words {
		if w != "" {
			words[i] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, " ")
}

// mustBeEmpty wants a folder that is new or empty, or holds only what a run that was stopped has
// written: files that would be written again just as they are, which same tells by their slash
// paths.
func mustBeEmpty(dir string, same func(rel, file string) bool) error {
	err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() || e.Type().IsRegular() && safefile.IsTemp(e.Name()):
			return nil
		}
		if rel, err := filepath.Rel(dir, p); err == nil && e.Type().IsRegular() && same(filepath.ToSlash(rel), p) {
			return nil
		}
		return &fault.Fault{Kind: fault.Refused, What: dir + " is not empty",
			Place: fault.Place{File: filepath.ToSlash(p)}, Why: "Files of the same names would be lost.",
			Do: "Name a new folder."}
	})
	var refused *fault.Fault
	switch {
	case err == nil, errors.Is(err, fs.ErrNotExist):
		return nil
	case errors.As(err, &refused):
		return err
	}
	return &fault.Fault{What: "could not look into " + dir, Err: err, Do: "Name another folder."}
}

// amongFiles is mustBeEmpty's same for files that are at hand.
func amongFiles(files map[string][]byte) func(rel, file string) bool {
	return func(rel, file string) bool {
		want, ok := files[rel]
		if !ok {
			return false
		}
		got, err := os.ReadFile(file)
		return err == nil && bytes.Equal(got, want)
	}
}

// writeProject writes a new project's files; a folder that holds anything is refused.
func writeProject(dir string, files map[string][]byte) ([]release.Made, error) {
	if err := mustBeEmpty(dir, amongFiles(files)); err != nil {
		return nil, err
	}
	d, err := safefile.MakeDir(dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	var made []release.Made
	var names []string
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if err := d.WriteFile(name, files[name]); err != nil {
			return made, err
		}
		made = append(made,
			release.Made{Path: filepath.ToSlash(filepath.Join(dir, name)), Size: int64(len(files[name])),
				State: "made"})
	}
	return made, nil
}
