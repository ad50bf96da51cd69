package compare_test

import (
	"archive/zip"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/game/compare"
	"vornix/internal/demotest"
)

var ctx = context.Background()

func write(t *testing.T, dir string, files map[string]string) string {
	t.Helper()
	for rel, data := range files {
		name := filepath.Join(dir, filepath.FromSlash(rel))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		require.NoError(t, os.WriteFile(name, []byte(data), 0o666))
	}
	return dir
}

func archived(t *testing.T, name string, files map[string]string) string {
	t.Helper()
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	z := zip.NewWriter(f)
	for rel, data := range files {
		w, err := z.Create(rel)
		require.NoError(t, err)
		_, err = w.Write([]byte(data))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return name
}

func load(t *testing.T, name string) compare.Side {
	t.Helper()
	s, err := compare.Load(ctx, name)
	require.NoError(t, err)
	return s
}

// A folder and a bundle of the same files are the same; what differs is told in one of four ways, each file once.
func TestSides(t *testing.T) {
	old := map[string]string{"maps/a.vnm": "map", "textures/stay.ktx2": "stays", "textures/grow.ktx2": "small",
		"sounds/old_name.wav": "a sound", "gone.txt": "gone", "empty.txt": ""}
	now := map[string]string{"maps/a.vnm": "map!", "textures/stay.ktx2": "stays", "textures/grow.ktx2": "much larger",
		"sounds/new_name.wav": "a sound", "new.txt": "new", "empty2.txt": ""}
	folder, packed := write(t, t.TempDir(), old), archived(t, filepath.Join(t.TempDir(), "a.zip"), old)
	same := compare.Sides(load(t, folder), load(t, packed))
	assert.Empty(t, same.Changes)
	assert.Equal(t, 6, same.Same)
	for _, before := range []string{folder, packed} {
		r := compare.Sides(load(t, before), load(t, archived(t, filepath.Join(t.TempDir(), "b.zip"), now)))
		assert.Equal(t, []compare.Change{
			{State: compare.Removed, Path: "empty.txt"}, {State: compare.Added, Path: "empty2.txt"},
			{State: compare.Removed, Path: "gone.txt", Old: 4},
			{State: compare.Changed, Path: "maps/a.vnm", Old: 3, New: 4},
			{State: compare.Added, Path: "new.txt", New: 3},
			{State: compare.Moved, Path: "sounds/new_name.wav", From: "sounds/old_name.wav", Old: 7, New: 7},
			{State: compare.Changed, Path: "textures/grow.ktx2", Old: 5, New: 11},
		}, r.Changes)
		assert.Equal(t, 1, r.Same)
		var kinds []string
		for _, k := range r.Kinds {
			kinds = append(kinds, k.Kind)
			if k.Kind == "textures" {
				assert.Equal(t, [4]int64{2, 2, 10, 16}, [4]int64{int64(k.OldFiles), int64(k.NewFiles), k.Old, k.New})
			}
		}
		assert.Equal(t, []string{"textures", "sounds", "maps", "texts"}, kinds)
		assert.Equal(t, int64(5), r.Changes[6].New-r.Changes[6].Old-1)
	}
	release := filepath.Join(t.TempDir(), "1.0.0")
	require.NoError(t, os.MkdirAll(release, 0o777))
	archived(t, filepath.Join(release, "part-1.zip"), map[string]string{"gone.txt": "gone", "empty.txt": ""})
	archived(t, filepath.Join(release, "part-2.zip"),
		map[string]string{"maps/a.vnm": "map", "textures/stay.ktx2": "stays", "textures/grow.ktx2": "small",
			"sounds/old_name.wav": "a sound"})
	write(t, release, map[string]string{"index.json": "{}", "page.jpg": "a picture"})
	assert.Empty(t, compare.Sides(load(t, release), load(t, folder)).Changes, "a release is what is in its bundles")
	_, err := compare.Load(ctx, filepath.Join(release, "nowhere"))
	assert.ErrorContains(t, err, "nowhere")
	cancelled, cancel := context.WithCancel(ctx)
	cancel()
	_, err = compare.Load(cancelled, folder)
	assert.ErrorIs(t, err, context.Canceled)
}

// A bundle is what its tree is, in both forms.
func TestBundlesAndTrees(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		p := demotest.Built(t, name)
		packed := demotest.Packed(t, p, false)[0]
		d := compare.Sides(load(t, p.Join(project.TreeDir)), load(t, packed))
		if name == "highline" {
			assert.Empty(t, d.Changes)
		} else { // the map itself stands at its name alone
			require.Len(t, d.Changes, 1)
			assert.Equal(t, "levels/tram_depot.vnm", d.Changes[0].From)
		}
	}
}
