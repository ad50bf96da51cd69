// Package demotest gives tests the demo's projects in a temporary folder: real input for whatever stands on a project.
package demotest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/deploy"
	"vornix/demo"
)

// A fixture is a copy of the demo in a state that many tests begin with. Making one takes seconds,
// and the packages' tests run as programs of their own: so each is made once, by whoever comes
// first, in a folder of the system's temporary files that is named after the sources that it is
// made by. Tests only ever copy it.
type fixture struct {
	name string
	make func(dir string) error
	dir  func() (string, error)
}

func newFixture(name string, make func(dir string) error) *fixture {
	f := &fixture{name: name, make: make}
	f.dir = sync.OnceValues(f.find)
	return f
}

func (f *fixture) find() (string, error) {
	key, err := sources()
	if err != nil {
		return "", err
	}
	base := filepath.Join(os.TempDir(), fmt.Sprintf("vornix-demotest-%d", os.Getuid()))
	dir := filepath.Join(base, key, f.name)
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return "", err
	}
	lock := flock.New(dir + ".lock")
	if err := lock.Lock(); err != nil {
		return "", err
	}
	defer lock.Unlock()
	ready := dir + ".ready"
	if _, err := os.Stat(ready); err == nil {
		return dir, nil
	}
	forget(base, key)
	err = errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o755))
	if err == nil {
		err = f.make(dir)
	}
	if err == nil {
		err = os.WriteFile(ready, nil, 0o644)
	}
	return dir, err
}

// forget removes what was made by sources of more than a day ago.
func forget(base, key string) {
	list, _ := os.ReadDir(base) // what can't be read stays
	for _, e := range list {
		if info, err := e.Info(); err == nil && e.Name() != key && time.Since(info.ModTime()) > 24*time.Hour {
			os.RemoveAll(filepath.Join(base, e.Name()))
		}
	}
}

// sources names all that decides what is made: the module's own files and the version of Go.
var sources = sync.OnceValues(func() (string, error) {
	_, file, _, _ := runtime.Caller(0)
	root := filepath.Join(filepath.Dir(file), "..", "..")
	h := sha256.New()
	fmt.Fprintln(h, runtime.Version(), runtime.GOARCH)
	for _, top := range []string{"core", "demo", "internal", "go.mod"} {
		err := filepath.WalkDir(filepath.Join(root, top), func(p string, e os.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				if e != nil && e.Name() == "node_modules" {
					return filepath.SkipDir
				}
				return err
			}
			if strings.HasSuffix(p, "_test.go") {
				return nil
			}
			data, err := os.ReadFile(p)
			fmt.Fprintf(h, "%s %d\n%s", p, len(data), data)
			return err
		})
		if err != nil {
			return "", err
		}
	}
	return hex.EncodeToString(h.Sum(nil))[:24], nil
})

var (
	original = newFixture("original", writeOriginal)
	// plain has the results of builds without the long stages, cached those of whole ones, lit only
	// what the long stages made.
	plain  = newFixture("plain", func(dir string) error { return buildCopy(dir, assembly.Stages{Only: []string{}}) })
	cached = newFixture("cached", func(dir string) error { return buildCopy(dir, assembly.Stages{}) })
	lit    = newFixture("lit", func(dir string) error {
		from, err := cached.dir()
		if err == nil {
			err = copyDemo(filepath.Join(dir, "demo"), filepath.Join(from, "demo"))
		}
		for _, name := range projects {
			err = errors.Join(err,
				remove(filepath.Join(dir, name), ".vornix/cache/actions", ".vornix/cache/objects",
					".vornix/pictures/cache/actions", ".vornix/pictures/cache/objects"))
		}
		return err
	})
)

// writeOriginal writes the demo. Tests build the maps again and again: with few luxels, which light
// is tested without, they do so quickly. The project of tiles has one of its two maps only: tests
// count what comes of it. 'vornix demo' writes the other one again.
func writeOriginal(dir string) error {
	if _, err := demo.Write(filepath.Join(dir, "demo")); err != nil {
		return err
	}
	highline := filepath.Join(dir, "demo", "highline")
	maps, err := filepath.Glob(filepath.Join(highline, "maps", "*.vnx"))
	for _, name := range append(maps, filepath.Join(highline, "materials", "rock", "cairn_wet.toml")) {
		data, readErr := os.ReadFile(name)
		for _, few := range [][2]string{{" luxels=3", " luxels=0.2"}, {" luxels=1", ""},
			{"luxels = 1 ", "luxels = 0.2"}} {
			data = bytes.Replace(data, []byte(few[0]), []byte(few[1]), 1)
		}
		err = errors.Join(err, readErr, os.WriteFile(name, data, 0o644))
	}
	sidings := filepath.Join(dir, "demo", "lower-sidings")
	for _, rel := range []string{"maps/ore_spiral.vnx", "materials/rock/ore.toml", "textures/rock/ore.png"} {
		err = errors.Join(err, os.Remove(filepath.Join(sidings, filepath.FromSlash(rel))))
	}
	file, readErr := os.ReadFile(filepath.Join(sidings, "vornix.toml"))
	file = bytes.Replace(file, []byte("[page.bundle.ore_spiral]\ntags = [\"trams\", \"ore\"]\n"), nil, 1)
	err = errors.Join(err, readErr, os.WriteFile(filepath.Join(sidings, "vornix.toml"), file, 0o644))
	// And with small pictures, which a profile of the project's own asks for.
	profile, readErr := fs.ReadFile(demo.Profiles(), "kestrel-post.toml")
	small := regexp.MustCompile(`(width|height) = (\d+)`).ReplaceAllFunc(profile, func(line []byte) []byte {
		key, number, _ := strings.Cut(string(line), " = ")
		n, err := strconv.Atoi(number)
		if err != nil || n < 100 {
			return line
		}
		return fmt.Appendf(nil, "%s = %d", key, n/8)
	})
	return errors.Join(err, readErr, os.MkdirAll(filepath.Join(highline, "profiles"), 0o755),
		os.WriteFile(filepath.Join(highline, "profiles", "kestrel-post.toml"), small, 0o644))
}

// projects are the demo's, in the folder of a copy.
var projects = []string{"demo/highline", "demo/lower-sidings"}

// buildCopy copies the original and builds its projects, in a folder where all that a build keeps
// is still there, but nothing else.
func buildCopy(dir string, stages assembly.Stages) error {
	from, err := original.dir()
	if err != nil {
		return err
	}
	if err := copyDemo(filepath.Join(dir, "demo"), filepath.Join(from, "demo")); err != nil {
		return err
	}
	for _, name := range projects {
		p, err := project.Load(filepath.Join(dir, name), demo.Profiles())
		if err != nil {
			return err
		}
		s, err := release.Open(p, "test",
			release.Options{Workers: 2, Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything}, Stages: stages})
		if err != nil {
			return err
		}
		_, _, err = s.Build(context.Background(), nil)
		if err == nil {
			_, _, err = s.Shoot(context.Background(), false, nil)
		}
		s.Close()
		if err := errors.Join(err,
			remove(filepath.Join(dir, name), "out", ".vornix/build.state", ".vornix/quick.state", ".vornix/lock",
				".vornix/lock.json", ".vornix/cache/trimmed",
				".vornix/pictures/build.state", ".vornix/pictures/cache/trimmed")); err != nil {
			return err
		}
	}
	return nil
}

func remove(project string, list ...string) (err error) {
	for _, made := range list {
		err = errors.Join(err, os.RemoveAll(filepath.Join(project, filepath.FromSlash(made))))
	}
	return err
}

// copyDemo copies a folder. What a project keeps in its cache is never written in place, so that a
// link is as good as a copy.
func copyDemo(to, from string) error {
	return filepath.WalkDir(from, func(p string, e os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		at := filepath.Join(to, rel)
		if e.IsDir() {
			return os.MkdirAll(at, 0o777)
		}
		if strings.Contains(filepath.ToSlash(rel), ".vornix/") && os.Link(p, at) == nil {
			return nil
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		return os.WriteFile(at, data, 0o666)
	})
}

// WriteLit is Write, with the results of the maps' long stages at hand, for tests that build in
// full and are not about those.
func WriteLit(t testing.TB) string { return copied(t, lit) }

// WriteCached is Write, with all results in the projects' caches, for tests of what goes wrong beside the building.
func WriteCached(t testing.TB) string { return copied(t, cached) }

// Built is Project, with all results in the cache that a build without the long stages has.
func Built(t testing.TB, name string) *project.Project {
	t.Helper()
	return Load(t, filepath.Join(copied(t, plain), name))
}

// Write puts a copy of the demo into a temporary folder and returns its path.
func Write(t testing.TB) string { return copied(t, original) }

func copied(t testing.TB, what *fixture) string {
	t.Helper()
	from, err := what.dir()
	require.NoError(t, err)
	to := filepath.Join(t.TempDir(), "demo")
	require.NoError(t, copyDemo(to, filepath.Join(from, "demo")))
	return to
}

// Load reads the project in a folder.
func Load(t testing.TB, dir string) *project.Project {
	t.Helper()
	p, err := project.Load(dir, demo.Profiles())
	require.NoError(t, err)
	return p
}

// Project is one of the demo's projects, "highline" or "lower-sidings", in a folder of its own.
func Project(t testing.TB, name string) *project.Project {
	t.Helper()
	return Load(t, filepath.Join(Write(t), name))
}

// Open opens a session on a project; it is closed when the test ends.
func Open(t testing.TB, p *project.Project, change ...func(*release.Options)) *release.Session {
	t.Helper()
	o := release.Options{Workers: 2, Access: deploy.Access{Env: os.Getenv, Trust: trust.Everything},
		Stages: assembly.Stages{Only: []string{}}}
	for _, c := range change {
		c(&o)
	}
	s, err := release.Open(p, "test", o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Edit replaces a text in one of the project's files, which must be there.
func Edit(t testing.TB, p *project.Project, rel, old, now string) {
	t.Helper()
	data, err := os.ReadFile(p.Join(rel))
	require.NoError(t, err)
	require.Contains(t, string(data), old)
	Put(t, p, rel, []byte(strings.Replace(string(data), old, now, 1)))
}

// Put writes one of the project's files.
func Put(t testing.TB, p *project.Project, rel string, data []byte) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(p.Join(rel)), 0o777))
	require.NoError(t, os.WriteFile(p.Join(rel), data, 0o666))
}

// Age sets the times of all files below dir to an hour ago, so that they are old enough to be believed.
func Age(t testing.TB, dir string) {
	t.Helper()
	old := time.Now().Add(-time.Hour)
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		return os.Chtimes(p, old, old)
	}))
}

// Tree builds a project's tree, with the maps' long stages only when long is true.
func Tree(t testing.TB, p *project.Project, long bool) {
	t.Helper()
	build(t, p, long)
}

// Packed builds a project's tree and packs it. It returns the bundles' paths.
func Packed(t testing.TB, p *project.Project, long bool) (paths []string) {
	t.Helper()
	r, err := bundle.Pack(context.Background(), p, &build(t, p, long).Tree, bundle.Options{})
	require.NoError(t, err)
	for _, b := range r.Bundles {
		paths = append(paths, p.Join(bundle.Dir, b.Name))
	}
	return paths
}

func build(t testing.TB, p *project.Project, long bool) *assembly.Result {
	t.Helper()
	o := assembly.Options{Program: "test"}
	if !long {
		o.Stages.Only = []string{}
	}
	r, err := assembly.Run(context.Background(), p, o)
	require.NoError(t, err)
	return r
}
