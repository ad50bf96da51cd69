// Package demotest gives tests the demo's projects in a temporary folder: real input for whatever stands on a project.
package demotest

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vornix/core/build"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/demo"
)

// original is the demo, written once for all tests of a package: painting its images takes a second.
var original = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "vornix-demotest-")
	if err != nil {
		return "", err
	}
	if _, err = demo.Write(filepath.Join(dir, "demo")); err != nil {
		return "", err
	}
	// Tests build the maps again and again: with few luxels, which light is tested without, they do so quickly.
	maps, err := filepath.Glob(filepath.Join(dir, "demo", "highline", "maps", "*.vnx"))
	for _, name := range maps {
		var data []byte
		if data, err = os.ReadFile(name); err == nil {
			for _, few := range [][2]string{{" luxels=3", " luxels=0.2"}, {" luxels=1", ""}} {
				data = bytes.Replace(data, []byte(few[0]), []byte(few[1]), 1)
			}
			err = os.WriteFile(name, data, 0o644)
		}
	}
	wet := filepath.Join(dir, "demo", "highline", "materials", "rock", "cairn_wet.toml")
	data, readErr := os.ReadFile(wet)
	return dir, errors.Join(err, readErr, os.WriteFile(wet, bytes.Replace(data, []byte("luxels = 1 "), []byte("luxels = 0.2"), 1), 0o644))
})

// projects are the demo's, in the folder of a copy.
var projects = []string{"demo/highline", "demo/lower-sidings"}

// buildCopy copies the original and builds its projects, in a folder where all that a build keeps is still there, but nothing else.
func buildCopy(name string, stages build.Stages) (string, error) {
	from, err := original()
	if err != nil {
		return "", err
	}
	dir := filepath.Join(from, name)
	if err := os.CopyFS(filepath.Join(dir, "demo"), os.DirFS(filepath.Join(from, "demo"))); err != nil {
		return "", err
	}
	for _, name := range projects {
		p, err := project.Load(filepath.Join(dir, name), demo.Profiles())
		if err != nil {
			return "", err
		}
		s, err := release.Open(p, "test", release.Options{Workers: 2, Env: os.Getenv, Stages: stages})
		if err != nil {
			return "", err
		}
		_, _, err = s.Build(context.Background(), nil)
		s.Close()
		if err := errors.Join(err, remove(filepath.Join(dir, name), "out", ".vornix/build.state", ".vornix/quick.state", ".vornix/lock", ".vornix/lock.json", ".vornix/cache/trimmed")); err != nil {
			return "", err
		}
	}
	return dir, nil
}

func remove(project string, list ...string) (err error) {
	for _, made := range list {
		err = errors.Join(err, os.RemoveAll(filepath.Join(project, filepath.FromSlash(made))))
	}
	return err
}

var (
	// plain has the results of builds without the long stages, cached those of whole ones, lit only what the long stages made.
	plain  = sync.OnceValues(func() (string, error) { return buildCopy("plain", build.Stages{Only: []string{}}) })
	cached = sync.OnceValues(func() (string, error) { return buildCopy("cached", build.Stages{}) })
	lit    = sync.OnceValues(func() (string, error) {
		from, err := cached()
		if err != nil {
			return "", err
		}
		dir := filepath.Join(filepath.Dir(from), "lit")
		err = os.CopyFS(filepath.Join(dir, "demo"), os.DirFS(filepath.Join(from, "demo")))
		for _, name := range projects {
			err = errors.Join(err, remove(filepath.Join(dir, name), ".vornix/cache/actions", ".vornix/cache/objects"))
		}
		return dir, err
	})
)

// WriteLit is Write, with the results of the maps' long stages at hand, for tests that build in full and are not about those.
func WriteLit(t testing.TB) string { return copied(t, lit) }

// WriteCached is Write, with all results in the projects' caches, for tests of what goes wrong beside the building.
func WriteCached(t testing.TB) string { return copied(t, cached) }

// Built is Project, with all results in the cache that a build without the long stages has.
func Built(t testing.TB, name string) *project.Project {
	t.Helper()
	return Load(t, filepath.Join(copied(t, plain), name))
}

// Main runs a package's tests and removes what they shared. Call it from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	if dir, err := original(); err == nil {
		os.RemoveAll(dir)
	}
	os.Exit(code)
}

// Write puts a copy of the demo into a temporary folder and returns its path.
func Write(t testing.TB) string { return copied(t, original) }

func copied(t testing.TB, what func() (string, error)) string {
	t.Helper()
	from, err := what()
	require.NoError(t, err)
	to := filepath.Join(t.TempDir(), "demo")
	require.NoError(t, os.CopyFS(to, os.DirFS(filepath.Join(from, "demo"))))
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
	o := release.Options{Workers: 2, Env: os.Getenv, Stages: build.Stages{Only: []string{}}}
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
