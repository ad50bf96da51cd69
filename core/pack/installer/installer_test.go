package installer_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/transaction"
	"vornix/core/config/project"
	"vornix/core/pack/installer"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

var ctx = context.Background()

// made writes an installer for a version of a project, with bundles of these contents. The program
// is the test itself, which is built of Vornix's module as the program is.
func made(t *testing.T, p *project.Project, version string, bundles map[string]string) *installer.Package {
	t.Helper()
	p.File.Project.Version = version
	var files []string
	dir := t.TempDir()
	for name, content := range bundles {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(content), 0o666))
		files = append(files, file)
	}
	self, err := os.Executable()
	require.NoError(t, err)
	m, err := installer.Write(ctx, p, self, files)
	require.NoError(t, err)
	pkg, err := installer.Open(p.Join(m.Path))
	require.NoError(t, err)
	require.NotNil(t, pkg)
	t.Cleanup(func() { pkg.Close() })
	return pkg
}

func game(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kestrel.cfg"), nil, 0o666))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "parcels"), 0o777))
	return dir
}

func begin(t *testing.T, p *installer.Package, dir string) *installer.Installation {
	t.Helper()
	in, err := p.Begin(ctx, dir)
	require.NoError(t, err)
	return in
}

func do(t *testing.T, p *installer.Package, dir string, uninstall bool) string {
	t.Helper()
	in := begin(t, p, dir)
	defer in.Close()
	run := in.Install
	if uninstall {
		run = in.Uninstall
	}
	list, err := run(ctx)
	require.NoError(t, err)
	var said []string
	for _, a := range list {
		said = append(said, a.Do+" "+a.Path)
	}
	return strings.Join(said, ", ")
}

// files is what lies in the game's folder.
func files(t *testing.T, dir string) map[string]string {
	t.Helper()
	m := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := os.ReadFile(at)
		rel, _ := filepath.Rel(dir, at)
		m[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return m
}

// A bundle that replaces a file of the game whose name is written otherwise is one file with it on
// some systems: installing, updating to yet another spelling, and uninstalling bring the game's own
// file back, under its own name.
func TestNamesThatAreOneThere(t *testing.T) {
	p := demotest.Project(t, "highline")
	dir := filepath.Join(peer.Folding(t, true), "game")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "parcels"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kestrel.cfg"), nil, 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parcels", "Ore.parcel"), []byte("theirs"), 0o666))
	before := files(t, dir)
	one := made(t, p, "1.0.0", map[string]string{"ore.parcel": "one"})
	two := made(t, p, "2.0.0", map[string]string{"ORE.parcel": "two"})
	do(t, one, dir, false)
	do(t, two, dir, false)
	do(t, two, dir, true)
	assert.Equal(t, before, files(t, dir))
}

// Installed over what was there, updated, uninstalled: the game's folder is as it was.
func TestInstalledAndBack(t *testing.T) {
	p := demotest.Project(t, "highline")
	dir := game(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parcels", "a.parcel"), []byte("theirs"), 0o666))
	before := files(t, dir)
	one := made(t, p, "1.0.0", map[string]string{"a.parcel": "one a", "b.parcel": "one b"})
	two := made(t, p, "2.0.0", map[string]string{"a.parcel": "two a", "c.parcel": "two c"})
	assert.Equal(t, "replace parcels/a.parcel, add parcels/b.parcel", do(t, one, dir, false))
	assert.Equal(t, "one a", files(t, dir)["parcels/a.parcel"])
	assert.Equal(t, "leave parcels/a.parcel, leave parcels/b.parcel", do(t, one, dir, false))
	assert.Equal(t, "replace parcels/a.parcel, add parcels/c.parcel, remove parcels/b.parcel", do(t, two, dir, false))
	got := files(t, dir)
	assert.Equal(t, "two a", got["parcels/a.parcel"])
	assert.NotContains(t, got, "parcels/b.parcel")
	assert.Equal(t, "bring back parcels/a.parcel, remove parcels/c.parcel", do(t, two, dir, true),
		"what stood there before the first version")
	assert.Equal(t, before, files(t, dir))

	do(t, one, dir, false)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "parcels", "b.parcel"), []byte("edited"), 0o666))
	assert.Equal(t, "bring back parcels/a.parcel, keep parcels/b.parcel", do(t, one, dir, true))
	before["parcels/b.parcel"] = "edited"
	assert.Equal(t, before, files(t, dir))
	in := begin(t, one, dir)
	_, err := in.Uninstall(ctx)
	in.Close()
	assert.ErrorContains(t, err, "not installed")
}

// Whatever a player does to a file that was installed over one of the game's, the game's comes
// back, and the player's is kept.
func TestTheGamesOwnComesBack(t *testing.T) {
	p := demotest.Project(t, "highline")
	one := made(t, p, "1.0.0", map[string]string{"a.parcel": "one a", "b.parcel": "one b"})
	two := made(t, p, "2.0.0", map[string]string{"a.parcel": "two a", "b.parcel": "two b"})
	write := func(dir, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "parcels", "a.parcel"), []byte(text), 0o666))
	}
	for what, again := range map[string]*installer.Package{"uninstalled": nil, "installed again": one, "updated": two} {
		dir := game(t)
		write(dir, "the game's")
		do(t, one, dir, false)
		write(dir, "the player's")
		last := one
		if again != nil {
			assert.Contains(t, do(t, again, dir, false), "replace parcels/a.parcel", what)
			assert.NotEqual(t, "the player's", files(t, dir)["parcels/a.parcel"], what)
			last = again
		}
		do(t, last, dir, true)
		got := files(t, dir)
		assert.Equal(t, "the game's", got["parcels/a.parcel"], what)
		assert.Equal(t, "the player's", got[transaction.Dir+"/aside/1/parcels/a.parcel"], what)
		assert.NotContains(t, got, "parcels/b.parcel", what)
		// A file that the player removed is none that was changed.
		dir = game(t)
		write(dir, "the game's")
		do(t, one, dir, false)
		require.NoError(t, os.Remove(filepath.Join(dir, "parcels", "a.parcel")))
		do(t, one, dir, true)
		assert.Equal(t, "the game's", files(t, dir)["parcels/a.parcel"])
	}
	// What was there already, the same, was not installed, and stays.
	dir := game(t)
	write(dir, "one a")
	do(t, one, dir, false)
	do(t, one, dir, true)
	assert.Equal(t, "one a", files(t, dir)["parcels/a.parcel"])
}

// stopping is a context that ends after it was asked some times.
type stopping struct {
	context.Context
	left int
}

func (s *stopping) Err() error {
	if s.left--; s.left <= 0 {
		return context.Canceled
	}
	return nil
}

// Wherever installing stops, it can be finished, and it can be undone.
func TestStoppedAnywhere(t *testing.T) {
	p := demotest.Project(t, "highline")
	one := made(t, p, "1.0.0", map[string]string{"a.parcel": "one a", "b.parcel": "one b"})
	two := made(t, p, "2.0.0", map[string]string{"a.parcel": "two a", "c.parcel": "two c"})
	for stop := 1; stop < 14; stop++ {
		for _, undo := range []bool{false, true} {
			dir := game(t)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "parcels", "a.parcel"), []byte("theirs"), 0o666))
			before := files(t, dir)
			do(t, one, dir, false)
			in := begin(t, two, dir)
			_, _ = in.Install(&stopping{ctx, stop})
			in.Close()
			if !undo {
				do(t, two, dir, false)
				assert.Equal(t, "two a", files(t, dir)["parcels/a.parcel"], "stopped after %d", stop)
				assert.NotContains(t, files(t, dir), "parcels/b.parcel")
			}
			do(t, two, dir, true)
			assert.Equal(t, before, files(t, dir), "stopped after %d", stop)
		}
	}
}

func TestTheGameIsFound(t *testing.T) {
	pkg := made(t, demotest.Project(t, "highline"), "1.0.0", map[string]string{"a.parcel": "a"})
	home := t.TempDir()
	env := func(name string) string {
		return map[string]string{"PROGRAMFILES": filepath.Join(home, "programs")}[name]
	}
	assert.Empty(t, pkg.Find(home, env))
	for _, dir := range []string{filepath.Join(home, "games", "kestrel-post"),
		filepath.Join(home, "programs", "Kestrel Post")} {
		require.NoError(t, os.MkdirAll(dir, 0o777))
		assert.NotContains(t, pkg.Find(home, env), dir, "a folder of that name is not yet the game")
		require.NoError(t, os.WriteFile(filepath.Join(dir, "kestrel.cfg"), nil, 0o666))
		assert.Contains(t, pkg.Find(home, env), dir)
	}
	assert.Len(t, pkg.Find("", func(string) string { return "" }), 0)
	_, err := pkg.Begin(ctx, t.TempDir())
	assert.Equal(t, fault.Refused, fault.KindOf(err))
}

// A damaged installer installs nothing; a program alone is none; another's program makes none.
func TestDamagedAndForeign(t *testing.T) {
	p := demotest.Project(t, "highline")
	self, err := os.Executable()
	require.NoError(t, err)
	none, err := installer.Open(self)
	require.NoError(t, err)
	assert.Nil(t, none)
	_, err = installer.Write(ctx, p, p.Join("vornix.toml"), nil)
	assert.ErrorContains(t, err, "no Vornix program")
	system, err := installer.System(self)
	require.NoError(t, err)
	assert.Contains(t, system, "-")

	pkg := made(t, p, "1.0.0", map[string]string{"a.parcel": strings.Repeat("content ", 100)})
	entries, err := os.ReadDir(p.Join(installer.Dir))
	require.NoError(t, err)
	file := p.Join(installer.Dir, entries[0].Name())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	pkg.Close()
	at := strings.LastIndex(string(data), "content content")
	for _, spoil := range []int{at, len(data) - 30, len(data) - 22 - 40} {
		bad := append([]byte{}, data...)
		bad[spoil] ^= 0xff
		name := filepath.Join(t.TempDir(), "bad")
		require.NoError(t, os.WriteFile(name, bad, 0o777))
		pkg, err := installer.Open(name)
		if err == nil && pkg != nil {
			dir := game(t)
			in := begin(t, pkg, dir)
			_, err = in.Install(ctx)
			in.Close()
			assert.Equal(t, map[string]string{"kestrel.cfg": ""}, files(t, dir))
			pkg.Close()
		}
		assert.ErrorContains(t, err, "damaged", "byte %d", spoil)
	}
}
