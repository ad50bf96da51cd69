package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the folders of core/ from the bottom to the top.
var floors = []string{"base", "format", "config", "source", "compile", "game", "make", "pack", "ship", "release"}

// A file of core/, a test as well, imports its own floor and those below. It imports nothing of the
// command line. Only tests above config use the demo's projects: the floors below test with files
// of their own.
func TestImportsRunDownwards(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(file string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(file) != ".go" {
			return err
		}
		files++
		floor, _, _ := strings.Cut(filepath.ToSlash(file), "/")
		at := slices.Index(floors, floor)
		if !strings.Contains(filepath.ToSlash(file), "/") {
			return nil
		}
		require.GreaterOrEqual(t, at, 0, "%s is on no floor", file)
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range f.Imports {
			name, _ := strconv.Unquote(i.Path.Value)
			to, inside := strings.CutPrefix(name, "vornix/core/")
			switch {
			case inside:
				to, _, _ = strings.Cut(to, "/")
				assert.LessOrEqual(t, slices.Index(floors, to), at, "%s imports upwards: %s", file, name)
			case !strings.HasPrefix(name, "vornix/"):
			case !strings.HasSuffix(file, "_test.go"):
				assert.Fail(t, "core/ imports nothing of the rest", "%s imports %s", file, name)
			case name == "vornix/internal/demotest":
				assert.Greater(t, at, slices.Index(floors, "config"),
					"%s imports %s: the floors up to config test with files of their own", file, name)
			case name == "vornix/demo":
				assert.GreaterOrEqual(t, at, slices.Index(floors, "config"), "%s imports %s", file, name)
			default:
				assert.True(t, strings.HasPrefix(name, "vornix/internal/") && name != "vornix/internal/cli",
					"%s imports %s", file, name)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, files, 300)
}

// Every package has a doc comment that names only files that exist, the name of its folder, and a
// name that no other one has.
func TestPackagesHaveOneNameEach(t *testing.T) {
	folders, documented := map[string]string{}, map[string]bool{}
	err := filepath.WalkDir(".", func(file string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || filepath.Ext(file) != ".go" || strings.HasSuffix(file, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments|parser.PackageClauseOnly)
		require.NoError(t, err)
		name, folder := f.Name.Name, filepath.ToSlash(filepath.Dir(file))
		assert.True(t, name == path.Base(folder) || folder == ".", "%s is package %s", folder, name)
		assert.Contains(t, []string{"", folder}, folders[name], "two packages have the name %s", name)
		folders[name] = folder
		for _, word := range regexp.MustCompile(`[\w/]+\.go\b`).FindAllString(f.Doc.Text(), -1) {
			_, err := os.Stat(filepath.Join(folder, filepath.FromSlash(word)))
			assert.NoError(t, err, "the doc comment of %s names %s", name, word)
		}
		documented[name] = documented[name] || strings.HasPrefix(f.Doc.Text(), "Package "+name+" ")
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, len(folders), 60)
	for name, folder := range folders {
		assert.True(t, documented[name], "%s has no doc comment that begins with \"Package %s\"", folder, name)
	}
}

// A downloader carries no compiler: what fetch needs of core/ is little.
func TestFetchLoadsFewPackages(t *testing.T) {
	loaded := map[string]bool{}
	var load func(folder string)
	load = func(folder string) {
		if loaded[folder] {
			return
		}
		loaded[folder] = true
		list, err := filepath.Glob(filepath.Join(filepath.FromSlash(folder), "*.go"))
		require.NoError(t, err)
		require.NotEmpty(t, list, folder)
		for _, file := range list {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, i := range f.Imports {
				name, _ := strconv.Unquote(i.Path.Value)
				if to, inside := strings.CutPrefix(name, "vornix/core/"); inside {
					load(to)
				}
			}
		}
	}
	load("ship/fetch")
	assert.LessOrEqual(t, len(loaded), 25, "%v", loaded)
}

// The page on the architecture names every package of core/, and files that exist.
func TestArchitecturePage(t *testing.T) {
	page, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	layout, rest, _ := strings.Cut(string(page), "## How things walk")
	words := strings.FieldsFunc(layout, func(r rune) bool { return strings.ContainsRune(" \n,;:()`", r) })
	for _, floor := range floors {
		list, err := os.ReadDir(floor)
		require.NoError(t, err)
		for _, e := range list {
			if e.IsDir() && e.Name() != "testdata" {
				assert.True(t, slices.Contains(words, e.Name()) || slices.Contains(words, e.Name()+"/"),
					"docs/architecture.md does not name %s/%s", floor, e.Name())
			}
		}
	}
	named := 0
	for i, word := range strings.Split(rest, "`") {
		floor, _, inside := strings.Cut(word, "/")
		if i%2 == 0 || !inside || !slices.Contains(floors, floor) {
			continue
		}
		named++
		_, err := os.Stat(filepath.FromSlash(word))
		assert.NoError(t, err, "docs/architecture.md names core/%s", word)
	}
	assert.Greater(t, named, 60)
}
