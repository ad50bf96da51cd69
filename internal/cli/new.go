package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vornix/core/fault"
	"vornix/core/nearest"
	"vornix/core/profile"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/core/safefile"
	"vornix/demo"
	"vornix/internal/cli/show"
)

func (a *app) newCommand() *cobra.Command {
	var profileName, title string
	cmd := &cobra.Command{
		Use:   "new DIR",
		Short: "Make a project that checks clean, builds and packs",
		Long: `New writes vornix.toml, a first map, two materials and their images into a new or empty folder. PROFILE is the name
of a game profile that comes with Vornix, or a profile file, which is copied into the project's profiles/ folder.`,
		Example: `  vornix new my_maps --profile kestrel-post
  vornix new lanes --profile ~/games/mygame.toml --title "Night Lanes"`,
		Args: between(1, 1, "the new project's folder"),
		RunE: a.run(func(_ context.Context, answer *show.Answer, args []string) error {
			known := project.Profiles(".", demo.Profiles())
			if profileName == "" {
				return &fault.Fault{Kind: fault.Usage, What: "which game is it for? --profile is missing", Do: "Name a profile, one of " + strings.Join(known, ", ") + ", or a profile file."}
			}
			prof, err := findProfile(profileName, known)
			if err != nil {
				return err
			}
			dir := args[0]
			abs, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			name := projectName(filepath.Base(abs))
			if title == "" {
				title = titleOf(name)
			}
			files, err := demo.Starter(prof, name, title)
			if err != nil {
				return err
			}
			if _, err := fs.Stat(demo.Profiles(), prof.Game.ID+".toml"); err != nil || strings.HasSuffix(profileName, ".toml") {
				files["profiles/"+prof.Game.ID+".toml"] = prof.Source
			}
			made, err := writeProject(dir, files)
			step := release.Step{Name: "new", Summary: fmt.Sprintf("the project %q for %s is in %s", name, prof.Game.Title, dir), Made: made}
			if err == nil {
				err = a.step(answer, &step, nil)
				a.out.Say("\nnext: cd %s && vornix pack", dir)
			}
			return err
		}),
	}
	cmd.Flags().StringVar(&profileName, "profile", "", "`name` of a game profile, or a profile file")
	cmd.Flags().StringVar(&title, "title", "", "the project's `title` that players read (default: made of the folder's name)")
	return cmd
}

// findProfile reads a profile by its name or from a file.
func findProfile(name string, known []string) (*profile.Profile, error) {
	if strings.HasSuffix(name, ".toml") {
		data, err := os.ReadFile(name)
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Usage, What: "could not read the profile", Place: fault.Place{File: name}, Err: err, Do: "Check the path."}
		}
		return profile.Parse(name, data)
	}
	if data, err := fs.ReadFile(demo.Profiles(), name+".toml"); err == nil {
		return profile.Parse(name+".toml", data)
	}
	f := &fault.Fault{Kind: fault.Usage, What: fmt.Sprintf("there is no game profile %q", name), Do: "Name one of " + strings.Join(known, ", ") + ", or a file that ends in .toml."}
	if near := nearest.Word(name, known); near != "" {
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

// writeProject writes a new project's files; a folder that holds anything is refused.
func writeProject(dir string, files map[string][]byte) ([]release.Made, error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, &fault.Fault{What: "could not look into " + dir, Err: err, Do: "Name another folder."}
	}
	if len(entries) > 0 {
		return nil, &fault.Fault{Kind: fault.Refused, What: dir + " is not empty", Why: "Files of the same names would be lost.", Do: "Name a new folder."}
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
		made = append(made, release.Made{Path: filepath.ToSlash(filepath.Join(dir, name)), Size: int64(len(files[name])), State: "made"})
	}
	return made, nil
}
