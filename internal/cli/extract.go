package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/spf13/cobra"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/zipfile"
	"vornix/core/game/gamefs"
	"vornix/core/game/salvage"
	"vornix/core/release"
	"vornix/demo"
	"vornix/internal/cli/show"
)

// profileNamed is a game profile by its name, or that of the project here; nil with neither.
func (a *app) profileNamed(name string) (*profile.Profile, error) {
	if name != "" {
		return findProfile(name, project.Profiles(".", demo.Profiles()))
	}
	if _, err := a.dir(); err != nil {
		return nil, nil // there is no project here, and none was asked for
	}
	p, err := a.load()
	if err != nil {
		return nil, err
	}
	return p.Profile, nil
}

func (a *app) extractCommand() *cobra.Command {
	var to, profileName, most string
	var except []string
	var withNeeds, planOnly, overwrite bool
	cmd := &cobra.Command{
		Use:   "extract FILE [ENTRY...]",
		Short: "Unpack entries of a bundle or any ZIP, alone, by pattern, or with all they need",
		Long: `Extract writes entries of an archive, or of a map with packed content, into a folder (default: one called as the file is) and lists
what was written, with hashes. ENTRY is a path or a pattern, such as textures/**; without one everything is unpacked. With --with-needs
all that the entries refer to comes along: the materials, textures, sounds and models of a map, as the game's profile says.

Nothing is ever written outside the folder. Entries with paths that lead out of it, links, encrypted ones, sizes that lie and names that
are one file on some systems are refused before the first byte is written; files that are there are not overwritten.`,
		Example: `  vornix extract out/bundles/highline-1.0.0.parcel 'textures/**' --to /tmp/look
  vornix extract out/bundles/highline-1.0.0.parcel materials/rock/cairn_wet.toml --with-needs --plan
  vornix extract old.zip --except '**/*.exe'`,
		Args: between(1, -1, "a file, and entries of it"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			limit := int64(0)
			if most != "" {
				var err error
				if limit, err = parseSize(most); err != nil {
					return err
				}
			}
			b, err := openArchive(args[0])
			if err != nil {
				return err
			}
			defer b.Close()
			files, err := chosen(b, args[1:], except)
			if err != nil {
				return err
			}
			if withNeeds {
				p, err := a.profileNamed(profileName)
				if err == nil && p == nil {
					err = &fault.Fault{Kind: fault.Usage, What: "--with-needs has to know the game",
						Why: "What a file needs, and where it lies, stands in the game's profile.",
						Do:  "Name it with --profile, or run this in a project."}
				}
				if err != nil {
					return err
				}
				if files, err = a.along(p, b, files); err != nil {
					return err
				}
			}
			if to == "" {
				to = strings.TrimSuffix(filepath.Base(args[0]), filepath.Ext(args[0]))
			}
			if planOnly {
				list := []zipfile.Written{}
				var rows [][]string
				for _, f := range files {
					list = append(list, zipfile.Written{Path: f.Name, Size: f.Size})
					rows = append(rows, []string{f.Name, release.Bytes(f.Size), f.Trouble})
				}
				answer.Result = list
				a.out.Table([]string{"entry", "size", ""}, rows)
				a.out.Say("\n%s would go to %s", release.Count(len(files), "file"), filepath.ToSlash(to))
				return nil
			}
			d, err := safefile.MakeDir(to)
			if err != nil {
				return err
			}
			defer d.Close()
			workers := a.jobs
			if workers == 0 {
				workers = runtime.GOMAXPROCS(0)
			}
			written, err := zipfile.Extract(ctx, d, files,
				zipfile.ExtractOptions{Workers: workers, Most: limit, Overwrite: overwrite})
			if written == nil {
				written = []zipfile.Written{}
			}
			answer.Result = written
			var total int64
			var rows [][]string
			for _, w := range written {
				total += w.Size
				rows = append(rows, []string{w.Path, release.Bytes(w.Size), w.SHA256[:16]})
			}
			if shown := 30; len(rows) > shown && !a.out.Verbose {
				rows = append(rows[:shown],
					[]string{fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", ""})
			}
			a.out.Table([]string{"written", "size", "sha-256"}, rows)
			a.out.Say("\n%s, %s, in %s", release.Count(len(written), "file"), release.Bytes(total),
				filepath.ToSlash(to))
			return err
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "`folder` to write to (default: called as the file is)")
	cmd.Flags().StringArrayVar(&except, "except", nil,
		"leave out entries of this `pattern`; may be given several times")
	cmd.Flags().BoolVar(&withNeeds, "with-needs", false, "with all that the entries refer to")
	cmd.Flags().StringVar(&profileName, "profile", "",
		"`name` of the game profile for --with-needs (default: that of the project here)")
	cmd.Flags().BoolVar(&planOnly, "plan", false, "show what would be written, and write nothing")
	cmd.Flags().BoolVar(&overwrite, "overwrite", false, "replace files that are there")
	cmd.Flags().StringVar(&most, "max-size", "",
		"`size` that it may unpack to in all, such as 100G (default: 4G, and at most 100 times its own)")
	return cmd
}

// openArchive opens any archive for people: what is wrong, and what can be done.
func openArchive(name string) (*gamefs.Bundle, error) {
	b, err := gamefs.OpenAny(name)
	if err != nil {
		kind := fault.Failed
		if errors.Is(err, fs.ErrNotExist) {
			kind = fault.Usage
		}
		return nil, &fault.Fault{Kind: kind, What: "the archive can't be opened",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err,
			Do: "Check the path; of a damaged one 'vornix salvage FILE OUT.zip' saves what is left."}
	}
	return b, nil
}

// chosen are the entries that names and patterns mean.
func chosen(b *gamefs.Bundle, patterns, except []string) (files []*zipfile.File, err error) {
	var known []string
	for _, f := range b.Entries() {
		known = append(known, f.Name)
	}
	for _, pattern := range patterns {
		if !slices.ContainsFunc(known, func(n string) bool { return means(pattern, n) }) {
			f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("no entry is called %q", pattern),
				Do: "'vornix inspect FILE' lists them."}
			if near := suggest.Word(pattern, known); near != "" {
				f.Do = fmt.Sprintf("Did you mean %q?", near)
			}
			return nil, f
		}
	}
	for _, f := range b.Entries() {
		wanted := len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool { return means(p, f.Name) })
		if wanted && !slices.ContainsFunc(except, func(p string) bool { return means(p, f.Name) }) {
			files = append(files, f)
		}
	}
	return files, nil
}

// means says whether an entry's path, folder or a pattern names an entry.
func means(pattern, name string) bool {
	ok, _ := doublestar.Match(pattern, name)
	return ok || pattern == name || strings.HasPrefix(name, strings.TrimSuffix(pattern, "/")+"/")
}

// along adds what files need, as far as the archive has it; what it has not is said.
func (a *app) along(p *profile.Profile, b *gamefs.Bundle, files []*zipfile.File) ([]*zipfile.File, error) {
	all := slices.Clone(files)
	for _, f := range files {
		for _, n := range gamefs.NeedsOf(p, f.Name, b.ReadFile) {
			e := b.Find(n.Path)
			switch {
			case e == nil:
				a.out.Say("%s needs %s, which is not in the archive", show.Clean(f.Name), show.Clean(n.Path))
			case !slices.Contains(all, e):
				all = append(all, e)
			}
		}
	}
	return all, nil
}

func (a *app) salvageCommand() *cobra.Command {
	var profileName string
	cmd := &cobra.Command{
		Use:   "salvage FILE OUT",
		Short: "Save what is whole of a damaged archive into a new one",
		Long: `Salvage reads a ZIP archive, or a map with one behind it, whose directory is damaged or gone: it finds entries by their own headers,
checks each by its checksum, tells by content what those are whose names are lost, and gives names back where other entries refer to
them, as the game's profile says. It writes what is whole to OUT, and says of each entry what is certain and what is guessed.`,
		Example: `  vornix salvage broken.parcel saved.parcel
  vornix salvage half-a-download.zip saved.zip --profile kestrel-post`,
		Args: between(2, 2, "a damaged file and the file to write"),
		RunE: a.run(func(ctx context.Context, answer *show.Answer, args []string) error {
			p, err := a.profileNamed(profileName)
			if err != nil {
				return err
			}
			r, err := salvage.Run(ctx, p, args[0], args[1])
			if r == nil {
				return err
			}
			answer.Result = r
			var rows [][]string
			for _, f := range r.Found {
				name, content := "certain: "+f.How, "whole"
				if !f.Certain {
					name = "guessed: " + f.How
				}
				if f.How == salvage.Numbered {
					name = "lost, numbered"
				}
				if !f.Written {
					content = "left out: " + f.Why
				}
				rows = append(rows, []string{f.Name, release.Bytes(f.Size), f.Kind, content, name})
			}
			if shown := 100; len(rows) > shown && !a.out.Verbose {
				rows = append(rows[:shown],
					[]string{fmt.Sprintf("and %d more (--verbose lists all)", len(rows)-shown), "", "", "", ""})
			}
			a.out.Table([]string{"entry", "size", "is", "content", "name"}, rows)
			if err == nil {
				a.out.Say("\n%d of %s saved in %s, %s", r.Written, release.Count(len(r.Found), "entry"),
					filepath.ToSlash(args[1]), release.Bytes(r.Size))
				if r.Written < len(r.Found) {
					return &fault.Fault{What: release.Count(len(r.Found)-r.Written, "entry") +
						" not whole, and left out", Do: "Get those again from where they came from."}
				}
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&profileName, "profile", "",
		"`name` of the game profile, by which names are found again (default: that of the project here)")
	return cmd
}
