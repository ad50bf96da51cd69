package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/base/confedit"
	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/group"
	"vornix/core/base/semver"
	"vornix/core/config/project"
	"vornix/core/pack/patch"
	"vornix/core/release"
	"vornix/core/ship/indexwriter"
	"vornix/internal/cli/show"
)

// patchFlags are what 'patch make' is told.
type patchFlags struct {
	title, from, to, notes, name, edits, key string
	authors, bring                           []string
	keepBase, larger, overwrite, bare        bool
	toMany                                   int
}

func (a *app) patchMakeCommand() *cobra.Command {
	var f patchFlags
	cmd := &cobra.Command{
		Use:   "make OLD NEW [OUT" + patch.Ending + "]",
		Short: "Make the patch from one file, bundle, folder or released version to another",
		Long: `Make writes a patch file: what the base must be, what the result is, and the way between, as small as it can be made. Bundles are compared by
their entries. Of a version that was released (OLD and NEW are numbers then, in a project) the bundles are patched, and what went out with
them as metadata is included. Every delta is tried before the patch is written.

--edits names a TOML file that changes settings in whatever a player has: lines added once and only once, keys set and removed in INI, JSON,
TOML and XML.

--to-many makes patches from each of the last versions to NEW, or to the newest. A patch that is no smaller than what it makes is refused, unless
--even-if-larger.`,
		Example: `  vornix patch make 1.0.0 1.1.0
  vornix patch make --to-many 3
  vornix patch make ground_old.ktx2 ground_new.ktx2 ground.vnp --name ground.ktx2 --notes notes.txt --bring preview.jpg=previews/ground.jpg`,
		ValidArgsFunction: a.completeVersions,
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			if f.toMany > 0 {
				return a.patchMany(ctx, answer, args, f)
			}
			if len(args) < 2 || len(args) > 3 {
				return &fault.Fault{Kind: fault.Usage,
					What: "'vornix patch make' takes what was, what is to be, and the patch to write",
					Do:   "See: vornix patch make --help"}
			}
			out := ""
			if len(args) == 3 {
				out = args[2]
			}
			made, err := a.patchBetween(ctx, args[0], args[1], out, f)
			if made != nil {
				answer.Result = made
			}
			return err
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&f.title, "title", "", "`name` that players read (default: that of the project, or of NEW)")
	flags.StringVar(&f.from, "from", "", "`version` of OLD (default: when it is one)")
	flags.StringVar(&f.to, "to", "", "`version` of NEW (default: when it is one)")
	flags.StringArrayVar(&f.authors, "author", nil,
		"`who` made it; may be given several times (default: as in the project)")
	flags.StringVar(&f.notes, "notes", "", "text `file` with what is new")
	flags.StringVar(&f.name, "name", "", "`name` that the result must have, when it is one file (default: that of NEW)")
	flags.StringArrayVar(&f.bring, "bring", nil,
		"`FILE=TO`: a file to include, and its path; may be given several times")
	flags.StringVar(&f.edits, "edits", "", "TOML `file` with changes of settings")
	flags.BoolVar(&f.keepBase, "keep-base", false, "leave a base of another name where it is, beside the result")
	flags.StringVar(&f.key, "key", "",
		"sign with the private key in this `file` (default: the one that "+keyVariable+" names)")
	flags.IntVar(&f.toMany, "to-many", 0, "make patches from each of this `number` of versions before NEW")
	flags.BoolVar(&f.larger, "even-if-larger", false, "write a patch that is no smaller than what it makes")
	flags.BoolVar(&f.bare, "without-beside", false, "leave out the metadata files that went out with a version")
	flags.BoolVar(&f.overwrite, "overwrite", false, "replace OUT when it is there")
	return cmd
}

// completeVersions offers the versions that were released, beside files.
func (a *app) completeVersions(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	p, err := a.load()
	if err != nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	versions, err := release.Versions(p)
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	return versions, cobra.ShellCompDirectiveDefault
}

// patchesDir is where patches between versions go.
const patchesDir = indexwriter.PatchesDir

// hereProject is the project here; nil when there is none.
func (a *app) hereProject() (*project.Project, error) {
	if _, err := a.dir(); err != nil {
		return nil, nil
	}
	return a.load()
}

// patchSide loads what a patch leads from or to. version is empty but for a released one.
func (a *app) patchSide(ctx context.Context, p *project.Project, name string) (side *patch.Side,
	beside map[string]string, version string, err error) {
	if _, err := os.Lstat(name); err != nil && semver.Valid(name) && p != nil {
		fetched, err := release.FetchBundles(ctx, p, name, a.options())
		if err != nil {
			return nil, nil, "", err
		}
		if len(fetched) > 0 {
			a.out.Say("version %s was fetched from %s", name, show.Clean(strings.Join(fetched, " and ")))
		}
		side, beside, err = release.VersionSide(ctx, p, name)
		return side, beside, name, err
	}
	side, err = patch.LoadSide(ctx, name)
	return side, nil, "", err
}

// patchMany makes patches from each of the last versions.
func (a *app) patchMany(ctx context.Context, answer *show.Answer, args []string, f patchFlags) error {
	if len(args) > 1 {
		return &fault.Fault{Kind: fault.Usage, What: "with --to-many, only the version to come to can be named",
			Do: "See: vornix patch make --help"}
	}
	p, err := a.load()
	if err != nil {
		return err
	}
	versions, err := release.Versions(p)
	if err != nil {
		return err
	}
	if len(args) == 1 {
		i := slices.Index(versions, args[0])
		if i < 0 {
			return &fault.Fault{Kind: fault.Usage, What: "version " + args[0] + " was not released",
				Why: "Released were " + strings.Join(versions, ", ") + ".", Do: "Name one of them."}
		}
		versions = versions[:i+1]
	}
	if len(versions) < 2 {
		return &fault.Fault{Kind: fault.Usage, What: "there is no version before that one",
			Why: "Released: " + strings.Join(versions, ", "), Do: "Release another one first."}
	}
	to, from := versions[len(versions)-1], versions[max(0, len(versions)-1-f.toMany):len(versions)-1]
	list := []*patch.Made{}
	for i, v := range slices.Backward(from) {
		if i < len(from)-1 {
			a.out.Say("")
		}
		made, err := a.patchBetween(ctx, v, to, "", f)
		if err != nil {
			return err
		}
		list = append(list, made)
		answer.Result = list
	}
	return nil
}

// patchBetween makes one patch.
func (a *app) patchBetween(ctx context.Context, oldName, newName, out string, f patchFlags) (*patch.Made, error) {
	p, err := a.hereProject()
	if err != nil {
		return nil, err
	}
	var old, now *patch.Side
	var beside map[string]string
	var from, to string
	g, both := group.WithContext(ctx) // hashing large files takes a while
	g.Go(func() (err error) {
		old, _, from, err = a.patchSide(both, p, oldName)
		return err
	})
	g.Go(func() (err error) {
		now, beside, to, err = a.patchSide(both, p, newName)
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	o := patch.Options{Workers: a.workers(), Title: f.title, From: first(f.from, from), To: first(f.to, to),
		Authors: f.authors, KeepBase: f.keepBase, Bring: beside, Advanced: a.steps("comparing")}
	if f.bare {
		o.Bring = nil
	}
	if f.name != "" {
		if len(now.Files) != 1 || len(old.Files) != 1 {
			return nil, &fault.Fault{Kind: fault.Usage, What: "--name is for a patch of one file",
				Do: "Leave it out: the files of a folder have the names that they have in NEW."}
		}
		if err := now.Renamed(f.name); err != nil {
			return nil, err
		}
	}
	if err := f.fill(&o, p); err != nil {
		return nil, err
	}
	o.Title = first(o.Title, filepath.Base(filepath.Clean(newName)))
	if out == "" {
		out = patchName(p, oldName, newName, o)
	}
	if err := unsigned(o.Key, p != nil && p.File.Signing.Required); err != nil {
		return nil, err
	}
	file, err := createOut(out, f.overwrite || from != "" && to != "" && f.isOurs(p, out))
	if err != nil {
		return nil, err
	}
	defer file.close()
	made, err := patch.Make(ctx, old, now, file.File, o)
	if err != nil {
		return nil, err
	}
	made.File = fromHere(out)
	// A patch that changes texts in whatever somebody made of them does what no full file can.
	texts := slices.ContainsFunc(made.Patch.Steps,
		func(s patch.Step) bool { return s.Do == patch.DoEdit || s.Do == patch.DoSettings })
	if made.Full > 0 && made.Size >= made.Full && !f.larger && !texts {
		return nil, &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("the patch would have %s, and what it makes has %s", release.Bytes(made.Size),
				release.Bytes(made.Full)), Why: "Players are better off with the file itself. Nothing was written.",
			Do: "Hand out the full file, or make the patch all the same: --even-if-larger"}
	}
	if err := file.Commit(); err != nil {
		return nil, err
	}
	a.showPatch(made.Patch, made.Signer)
	size := fmt.Sprintf("%s, %s of the %s that it makes", release.Bytes(made.Size), percent(made.Size, made.Full),
		release.Bytes(made.Full))
	if made.Full == 0 || texts {
		size = release.Bytes(made.Size)
	}
	if made.Full > 0 && made.Size >= made.Full && !texts {
		size += ": it is LARGER than the file itself"
	}
	a.out.Say("\n%s: %s", made.File, size)
	return made, nil
}

// fromHere is a path as one would type it here: relative when it lies below.
func fromHere(name string) string {
	if here, err := os.Getwd(); err == nil && filepath.IsAbs(name) {
		if rel, err := filepath.Rel(here, name); err == nil && filepath.IsLocal(rel) {
			name = rel
		}
	}
	return filepath.ToSlash(name)
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// isOurs says whether a patch's file is where those of the project go: they are made again at will.
func (f *patchFlags) isOurs(p *project.Project, out string) bool {
	return p != nil && filepath.Clean(filepath.Dir(out)) == filepath.Clean(p.Join(patchesDir))
}

// fill takes what else the flags and the project say.
func (f *patchFlags) fill(o *patch.Options, p *project.Project) (err error) {
	if p != nil {
		o.Title, o.Game = first(o.Title, p.File.Project.Title), p.Profile.Game.ID
		if o.Authors == nil {
			o.Authors = p.File.Project.Authors
		}
		if o.Known, err = release.KnownVersions(p); err != nil {
			return err
		}
	}
	if f.notes != "" {
		data, err := os.ReadFile(f.notes)
		if err != nil {
			return &fault.Fault{Kind: fault.Usage, What: "the notes can't be read",
				Place: fault.Place{File: filepath.ToSlash(f.notes)}, Err: err, Do: "Check the path."}
		}
		o.Notes = strings.TrimSpace(string(data))
	}
	if f.edits != "" {
		data, err := os.ReadFile(f.edits)
		if err != nil {
			return &fault.Fault{Kind: fault.Usage, What: "the changes of settings can't be read",
				Place: fault.Place{File: filepath.ToSlash(f.edits)}, Err: err, Do: "Check the path."}
		}
		steps, wrong := patch.ParseEdits(filepath.ToSlash(f.edits), data)
		if len(wrong) > 0 {
			return &finding.Failure{What: "the changes of settings can't be used", Findings: wrong}
		}
		o.Settings = steps
	}
	for _, b := range f.bring {
		file, to, ok := strings.Cut(b, "=")
		if !ok || file == "" || to == "" {
			return &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("--bring wants FILE=TO, and got %q", b),
				Do: "As in --bring preview.jpg=previews/ground.jpg"}
		}
		if o.Bring == nil {
			o.Bring = map[string]string{}
		}
		o.Bring[filepath.ToSlash(to)] = file
	}
	o.Key, err = signingKey(f.key)
	return err
}

// patchName is what a patch is called when nobody says.
func patchName(p *project.Project, oldName, newName string, o patch.Options) string {
	if p != nil && o.From != "" && o.To != "" {
		return p.Join(release.PatchFile(p, o.From, o.To))
	}
	base := func(s string) string { return strings.TrimSuffix(filepath.Base(filepath.Clean(s)), filepath.Ext(s)) }
	if base(oldName) == base(newName) {
		return base(newName) + patch.Ending
	}
	return base(oldName) + "-to-" + base(newName) + patch.Ending
}

// showPatch shows what a patch does.
func (a *app) showPatch(p *patch.Patch, signer string) {
	title := p.Title
	if p.From != "" || p.To != "" {
		title += fmt.Sprintf(", %s to %s", orDash(p.From), orDash(p.To))
	}
	a.out.Heading("%s", show.Clean(title))
	var rows [][]string
	size := func(f *patch.File) string {
		if f == nil {
			return ""
		}
		return release.Bytes(f.Size)
	}
	file := func(s *patch.State, path string) *patch.File {
		for i := range s.Files {
			if s.Files[i].Path == path {
				return &s.Files[i]
			}
		}
		return nil
	}
	for _, s := range p.Steps {
		what, brings := s.Path, ""
		if s.From != "" && s.From != s.Path {
			what += " (from " + s.From + ")"
		}
		if s.Data != nil {
			brings = release.Bytes(s.Data.Size)
		}
		if s.Do == patch.DoSettings {
			brings = strings.Join(settingWords(&s), "; ")
		}
		rows = append(rows,
			[]string{s.Do, what, size(file(&p.Base, first(s.From, s.Path))), size(file(&p.Result, s.Path)), brings})
	}
	for _, b := range p.Brought {
		rows = append(rows, []string{"bring", b.To, "", release.Bytes(b.Data.Size), ""})
	}
	if shown := 30; len(rows) > shown+1 && !a.out.Verbose {
		rows = append(rows[:shown],
			[]string{"", fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", "", ""})
	}
	a.out.Table([]string{"", "file", "size", "size then", "by"}, rows)
	if p.Notes != "" {
		a.out.Say("")
		for line := range strings.SplitSeq(p.Notes, "\n") {
			a.out.Say("%s", show.Clean(strings.TrimRight(line, "\r")))
		}
	}
	if signer != "" {
		a.out.Say("\nsigned by %s", signer)
	}
}

// settingWords say what a step on settings does.
func settingWords(s *patch.Step) (list []string) {
	for _, l := range s.Lines {
		list = append(list, "line "+l.Add)
	}
	for _, k := range s.Set {
		list = append(list, confedit.Name(k.Key)+" = "+k.Value)
	}
	for _, k := range s.Remove {
		list = append(list, "no "+confedit.Name(k))
	}
	return list
}

// patchAnswer is what is in a patch file.
type patchAnswer struct {
	*patch.Patch
	File   string `json:"file"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	Signer string `json:"signer,omitempty"`
}

func (a *app) inspectPatch(name string) (any, error) {
	p, err := patch.Open(name)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	a.showPatch(&p.Patch, p.Signer)
	if p.Signer == "" {
		a.out.Say("\nnot signed")
	}
	known := []string{}
	for _, k := range p.Known {
		known = append(known, k.Version)
	}
	if len(known) > 0 {
		a.out.Say("tells version %s from others", show.Clean(strings.Join(known, ", ")))
	}
	a.out.Say("for %s, %s; makes %s, %s; the patch has %s", release.Count(len(p.Base.Files), "file"),
		release.Bytes(p.Base.Size), release.Count(len(p.Result.Files), "file"), release.Bytes(p.Result.Size),
		release.Bytes(p.Size))
	return patchAnswer{&p.Patch, filepath.ToSlash(name), p.Size, p.SHA256, p.Signer}, nil
}

func (a *app) patchInspectCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect PATCH",
		Short: "What a patch would change, in words and sizes",
		Example: `  vornix patch inspect highline-1.0.0-to-1.1.0.vnp
  vornix patch inspect highline-1.0.0-to-1.1.0.vnp --json`,
		Args: between(1, 1, "a patch"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			result, err := a.inspectPatch(args[0])
			answer.Result = result
			return err
		}),
	}
}

func (a *app) patchSignCommand() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "sign PATCH",
		Short: "Sign a patch that is there",
		Example: `  vornix patch sign highline-1.0.0-to-1.1.0.vnp --key ~/highline.key
  VORNIX_SIGNING_KEY=~/highline.key vornix patch sign out/patches/highline-1.0.0-to-1.1.0.vnp`,
		Args: between(1, 1, "a patch"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			private, err := signingKey(key)
			if err == nil && private == nil {
				err = &fault.Fault{Kind: fault.Usage, What: "no key is named",
					Do: "Name its file: --key FILE, or in " + keyVariable + "; 'vornix key new FILE' makes one."}
			}
			if err != nil {
				return err
			}
			p, err := patch.Open(args[0])
			if err != nil {
				return err
			}
			defer p.Close()
			out, err := createOut(args[0], true)
			if err != nil {
				return err
			}
			defer out.close()
			s, err := patch.Sign(ctx, p, out.File, private)
			if err != nil {
				return err
			}
			sum, size := out.SHA256(), out.Size()
			p.Close() // some systems do not replace a file that is open
			if err := out.Commit(); err != nil {
				return err
			}
			answer.Result = patchAnswer{&p.Patch, filepath.ToSlash(args[0]), size, sum, s.Key}
			a.out.Say("%s is signed by %s", filepath.ToSlash(args[0]), s.Key)
			return nil
		}),
	}
	cmd.Flags().StringVar(&key, "key", "",
		"sign with the private key in this `file` (default: the one that "+keyVariable+" names)")
	return cmd
}
