package sweep_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/quarantine"
	"vornix/core/base/safefile"
	"vornix/core/config/project"
	"vornix/core/make/sweep"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

var (
	ctx = context.Background()
	now = time.Date(2026, 11, 26, 4, 5, 6, 0, time.UTC)
)

// plan makes a plan; made are the files in out/ that something makes.
func plan(t *testing.T, p *project.Project, o sweep.Options) *sweep.Plan {
	t.Helper()
	g, err := assetgraph.ScanProject(ctx, p)
	require.NoError(t, err)
	if o.Now.IsZero() {
		o.Now = now
	}
	pl, err := sweep.NewPlan(ctx, p, g, o)
	require.NoError(t, err)
	return pl
}

func lines(items []sweep.Item) (list []string) {
	for _, i := range items {
		s := string(i.Rule) + " " + i.Path
		if i.Left != "" {
			s += ": " + i.Left
		}
		list = append(list, s)
	}
	slices.Sort(list)
	return list
}

// Every rule finds what it is for, and leaves alone what looks like it and is not.
func TestRules(t *testing.T) {
	p := demotest.Project(t, "highline")
	for rel, rule := range map[string]string{
		"maps/a.vnx~": "backup", "maps/#a.vnx#": "backup", "maps/.#a": "backup", "textures/a.bak": "backup",
		"textures/a.png.bak2": "backup", "maps/cairn_station.vnx.3": "backup", "maps/x.~2~": "backup",
		"art/wall copy.png": "backup", "art/Copy of wall.png": "backup", "backup/old.png": "backup",
		"x.tmp": "temporary", "export.log": "temporary", "a/.b.swp": "temporary", "movie.part": "temporary",
		"Thumbs.db": "system", "maps/.DS_Store": "system", "__MACOSX/maps/._a": "system", "desktop.ini": "system",
		"dist/pack.zip": "bundle", "dist/old.parcel": "bundle", "dist/test.vnm": "bundle",
		"maps/light_cache/a.bin": "cache", ".cache/x": "cache", "maps/deep.probe-cache": "game",
		"out/tree/gone.txt": "orphan", "out/bundles/stale.parcel": "orphan",
		"textures/unused.png": "unused", "materials/unused.toml": "unused",
		"notes/readme.txt": "", "maps/numbers.3": "", "logs.md": "", "catalogue.txt": "",
		"out/releases/1.0.0/a.zip": "", "out/tree/made.txt": "", ".git/a.bak": "", ".vornix/cache/a.tmp": "",
		"other/vornix.toml": "", "other/a.bak": "", // a project of its own
	} {
		demotest.Put(t, p, rel, []byte("colour = \"rock/slab\"\n"))
		_ = rule
	}
	require.NoError(t, os.MkdirAll(p.Join("empty/deeper"), 0o777))
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "mine.bak"), nil, 0o666))
	if err := os.Symlink(outside, p.Join("linked")); err == nil {
		require.NoError(t, os.Symlink(filepath.Join(outside, "mine.bak"), p.Join("link.bak")))
	}
	pl := plan(t, p, sweep.Options{Made: map[string]bool{"out/tree/made.txt": true}})
	want := []string{
		"backup art/Copy of wall.png", "backup art/wall copy.png", "backup backup/old.png", "backup maps/#a.vnx#",
		"backup maps/.#a", "backup maps/a.vnx~", "backup maps/cairn_station.vnx.3", "backup maps/cairn_station.vnx~",
		"backup maps/x.~2~", "backup textures/a.bak", "backup textures/a.png.bak2", "bundle dist/old.parcel",
		"bundle dist/pack.zip", "bundle dist/test.vnm", "bundle old/highline-0.9.0.parcel",
		"cache .cache/x", "cache maps/light_cache/a.bin", "empty-folder .cache", "empty-folder __MACOSX",
		"empty-folder __MACOSX/maps", "empty-folder a", "empty-folder art", "empty-folder backup", "empty-folder dist",
		"empty-folder empty",
		"empty-folder empty/deeper", "empty-folder maps/light_cache", "empty-folder old", "empty-folder sounds/wind",
		"game maps/deep.probe-cache", "orphan out/bundles/stale.parcel", "orphan out/tree/gone.txt",
		"system Thumbs.db", "system __MACOSX/maps/._a", "system desktop.ini", "system maps/.DS_Store",
		"temporary a/.b.swp", "temporary export.log", "temporary movie.part", "temporary x.tmp",
		"unused materials/unused.toml", "unused pictures/ridge.png", "unused scripts/gust.txt",
		"unused sounds/wind/gust.wav", "unused textures/unused.png",
	}
	want = slices.DeleteFunc(want, func(s string) bool { return s == "unused pictures/ridge.png" })
	assert.Equal(t, want, lines(pl.Go))
	for _, i := range pl.Go {
		assert.NotEmpty(t, i.Why, i.Path)
	}
	assert.Equal(t, []string{"backup maps/a.vnx~"}, lines(plan(t, p, sweep.Options{Named: []string{"maps/a.vnx~"}}).Go))
	only := plan(t, p, sweep.Options{Named: []string{"art"}, Rules: []sweep.Rule{sweep.Backup}})
	assert.Equal(t, []string{"backup art/Copy of wall.png", "backup art/wall copy.png"}, lines(only.Go))
	assert.NotContains(t, strings.Join(lines(plan(t, p, sweep.Options{}).Go), " "), "orphan",
		"without knowing what is made nothing is an orphan")

	// While a map is broken nobody knows what it needs.
	demotest.Edit(t, p, "maps/cairn_station.vnx", "map cairn_station", "mapp cairn_station")
	assert.NotContains(t, strings.Join(lines(plan(t, p, sweep.Options{}).Go), " "), "unused")
}

// What Git tracks or something needs stays, unless it is named exactly.
func TestProtected(t *testing.T) {
	p := demotest.Project(t, "highline")
	git := peer.Need(t, "git")
	demotest.Put(t, p, "maps/kept.bak", []byte("x"))
	demotest.Put(t, p, "maps/loose.bak", []byte("x"))
	demotest.Put(t, p, "textures/rock/slab copy.png", []byte("x"))
	demotest.Edit(t, p, "materials/rock/slab.toml", "rock/slab", "rock/slab copy")
	top := filepath.Dir(p.Dir)
	peer.Run(t, top, git, "init", "-q")
	peer.Run(t, top, git, "add", "highline/maps/kept.bak", "highline/scripts/gust.txt")
	pl := plan(t, p, sweep.Options{Rules: []sweep.Rule{sweep.Backup, sweep.Unused}})
	assert.Contains(t, lines(pl.Left), "backup maps/kept.bak: Git tracks it")
	assert.Contains(t, lines(pl.Left), "unused scripts/gust.txt: Git tracks it")
	assert.Contains(t, lines(pl.Left), "backup textures/rock/slab copy.png: something needs it")
	assert.Contains(t, lines(pl.Go), "backup maps/loose.bak")
	for _, name := range []string{"maps/kept.bak", "scripts/gust.txt", "textures/rock/slab copy.png",
		"maps/cairn_station.vnx"} {
		pl := plan(t, p, sweep.Options{Named: []string{name}})
		require.Len(t, pl.Go, 1, name)
		assert.Equal(t, name, pl.Go[0].Path)
	}
	require.NoError(t, os.WriteFile(filepath.Join(top, ".git", "index"), []byte("DIRC damaged"), 0o666))
	g, err := assetgraph.ScanProject(ctx, p)
	require.NoError(t, err)
	_, err = sweep.NewPlan(ctx, p, g, sweep.Options{})
	assert.ErrorContains(t, err, "Git's index")
	_, err = sweep.NewPlan(ctx, demotest.Project(t, "highline"), g, sweep.Options{Named: []string{"nowhere.bak"}})
	assert.ErrorContains(t, err, "nowhere.bak")
}

// tree is every file and folder below a folder, with contents.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	m := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, at)
		if err != nil || strings.HasPrefix(filepath.ToSlash(rel), ".vornix") {
			return err
		}
		if e.IsDir() {
			m[rel] = "folder"
			return nil
		}
		data, err := os.ReadFile(at)
		m[rel] = string(data)
		return err
	}))
	return m
}

// What was swept comes back as it was, all of it or some, and never over another file; safe places expire.
func TestThereAndBack(t *testing.T) {
	p := demotest.Project(t, "highline")
	require.NoError(t, os.MkdirAll(p.Join("empty/deeper"), 0o777))
	before := tree(t, p.Dir)
	pl := plan(t, p, sweep.Options{})
	place, err := sweep.Run(ctx, p, pl, now)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-26T04-05-06", place.Name)
	after := tree(t, p.Dir)
	for _, i := range pl.Go {
		assert.NotContains(t, after, filepath.FromSlash(i.Path))
	}
	assert.Len(t, after, len(before)-len(pl.Go))
	assert.Empty(t, plan(t, p, sweep.Options{}).Go, "nothing is stray now")
	d, err := safefile.OpenDir(p.Dir)
	require.NoError(t, err)
	defer d.Close()
	some, err := quarantine.Restore(ctx, d, project.QuarantineDir, place, []string{"maps/*"})
	require.NoError(t, err)
	assert.Len(t, some, 1)
	demotest.Put(t, p, "scripts/gust.txt", []byte("another"))
	places, err := quarantine.List(d, project.QuarantineDir)
	require.NoError(t, err)
	require.Len(t, places, 1)
	rest, err := quarantine.Restore(ctx, d, project.QuarantineDir, &places[0], nil)
	require.NoError(t, err)
	left := 0
	for _, b := range rest {
		if b.Left != "" {
			left++
			assert.Equal(t, "scripts/gust.txt: another file stands in its place", b.Path+": "+b.Left)
		}
	}
	assert.Equal(t, 1, left)
	require.NoError(t, os.Remove(p.Join("scripts/gust.txt")))
	_, err = quarantine.Restore(ctx, d, project.QuarantineDir, &places[0], nil)
	require.NoError(t, err)
	assert.Equal(t, before, tree(t, p.Dir))
	places, err = quarantine.List(d, project.QuarantineDir)
	require.NoError(t, err)
	assert.Empty(t, places, "a place that is empty is gone")

	_, err = sweep.Run(ctx, p, plan(t, p, sweep.Options{Named: []string{"maps/cairn_station.vnx~"}}), now)
	require.NoError(t, err)
	again, err := sweep.Run(ctx, p, plan(t, p, sweep.Options{Named: []string{"scripts"}}), now)
	require.NoError(t, err)
	assert.Equal(t, "2026-11-26T04-05-06-2", again.Name, "two sweeps in one second")
	safe := p.Join(project.QuarantineDir, again.Name, "files/scripts/gust.txt")
	require.NoError(t, os.WriteFile(safe, []byte("meddled"), 0o666))
	meddled, err := quarantine.Restore(ctx, d, project.QuarantineDir, again, nil)
	require.NoError(t, err)
	assert.Equal(t, "it was changed in the safe place", meddled[0].Left)
	assert.Empty(t, plan(t, p, sweep.Options{Now: now.AddDate(0, 0, 60)}).Expired)
	late := plan(t, p, sweep.Options{Now: now.AddDate(0, 0, 61)})
	assert.Len(t, late.Expired, 2)
	_, err = sweep.Run(ctx, p, &sweep.Plan{Expired: late.Expired}, now)
	require.NoError(t, err)
	assert.NoFileExists(t, safe)
}

// A sweep that is stopped half way has moved some files, has written all down, and is undone by
// bringing back what went.
func TestStoppedHalfWay(t *testing.T) {
	p := demotest.Project(t, "highline")
	before := tree(t, p.Dir)
	d, err := safefile.OpenDir(p.Dir)
	require.NoError(t, err)
	defer d.Close()
	var items []quarantine.Item
	for _, i := range plan(t, p, sweep.Options{}).Go {
		items = append(items, quarantine.Item{Path: i.Path, Size: i.Size, Why: i.Why, Folder: i.Folder})
	}
	for stop := 1; stop < len(items)*2; stop++ {
		_, _ = quarantine.Add(&dying{Context: ctx, after: stop}, d, project.QuarantineDir, now, items)
		places, err := quarantine.List(d, project.QuarantineDir)
		require.NoError(t, err)
		for i := range places {
			_, err := quarantine.Restore(ctx, d, project.QuarantineDir, &places[i], nil)
			require.NoError(t, err)
		}
		require.Equal(t, before, tree(t, p.Dir), "stopped after %d", stop)
	}
	items[0].Path = "maps/not-there.bak"
	_, err = quarantine.Add(ctx, d, project.QuarantineDir, now, items)
	assert.ErrorContains(t, err, "not what it was")
	assert.Equal(t, before, tree(t, p.Dir))
}

// dying is a context that ends after it was asked some times.
type dying struct {
	context.Context
	after int
}

func (d *dying) Err() error {
	if d.after--; d.after <= 0 {
		return context.Canceled
	}
	return nil
}

// The last sweep is the last one in the list, also when the clock ran backwards between the two.
func TestPlacesKeepTheirOrder(t *testing.T) {
	d, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	for i, at := range []time.Time{now, now.Add(-72 * time.Hour), now.Add(-72 * time.Hour), now.Add(-time.Hour)} {
		name := fmt.Sprint(i, ".txt")
		require.NoError(t, d.WriteFile(name, []byte(name)))
		_, err := quarantine.Add(ctx, d, project.QuarantineDir, at, []quarantine.Item{{Path: name}})
		require.NoError(t, err)
	}
	places, err := quarantine.List(d, project.QuarantineDir)
	require.NoError(t, err)
	var order []string
	for _, p := range places {
		order = append(order, p.Files[0].Path)
	}
	assert.Equal(t, []string{"0.txt", "1.txt", "2.txt", "3.txt"}, order)
}
