package assembly_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/format/mapfile"
	"vornix/core/make/assembly"
	"vornix/internal/demotest"
	"vornix/internal/thorough"
)

// Whatever a map is made of makes it again: what it includes, its images, the models that stand in
// it, and nothing else.
func TestMapsAreMadeAgainWhenWhatTheyAreMadeOfChanges(t *testing.T) {
	p := demotest.Built(t, "highline")
	mustRun(t, p)
	change := func(rel string, edit func([]byte) []byte) []string {
		data, err := os.ReadFile(p.Join(rel))
		require.NoError(t, err)
		demotest.Put(t, p, rel, edit(data))
		p = demotest.Load(t, p.Dir)
		return sorted(made(mustRun(t, p)))
	}
	commented := func(data []byte) []byte { return append(data, "// changed\n"...) }
	assert.Equal(t, []string{"map saltpan_relay"}, change("prefabs/relay.vnx", commented))
	other, err := os.ReadFile(p.Join("maps/saltpan_rock.png"))
	require.NoError(t, err)
	assert.Equal(t, []string{"map saltpan_relay"}, change("maps/saltpan.png", func([]byte) []byte { return other }))
	assert.Empty(t, change("drafts/mail_crate.vnx", commented), "a draft that no map includes")
	for _, f := range mustRun(t, p).Tree.Files {
		assert.NotContains(t, []string{"maps/saltpan.png", "prefabs/relay.vnx", "models/props/mail_crate.glb"}, f.Path,
			"what a map is made of does not ship besides")
	}
}

// A model that an object shows ships as a file, one that only stands in maps does not; both bring their materials.
func TestModelsShipWhereObjectsShowThem(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Edit(t, p, "maps/saltpan_relay.vnx", "item winch at=3,3,0.6 facing=45 rank=1",
		"item winch at=3,3,0.6 facing=45 model=props/mail_crate rank=1 call=wind/gust")
	r := mustRun(t, p)
	assert.Contains(t, paths(r), "models/props/mail_crate.glb")
	assert.Contains(t, paths(r), "sounds/wind/gust.wav", "what a property names ships too")
	source, err := os.ReadFile(p.Join("models/props/mail_crate.glb"))
	require.NoError(t, err)
	shipped, err := os.ReadFile(p.Join("out/tree/models/props/mail_crate.glb"))
	require.NoError(t, err)
	assert.Equal(t, source, shipped)
	data, err := os.ReadFile(p.Join("out/tree/maps/saltpan_relay.vnm"))
	require.NoError(t, err)
	m, err := mapfile.Read(data)
	require.NoError(t, err)
	assert.Equal(t, []string{"props/mail_crate"}, m.ItemModels())
	require.Len(t, m.Models, 1)
	assert.Len(t, m.Props, 6, "six crates, one model")
	assert.Len(t, slices.DeleteFunc(m.Bodies, func(b mapfile.Body) bool { return !b.Model }), 1)

	demotest.Put(t, p, "models/props/mail_crate.glb", []byte("glTF"))
	r, err = run(t, p)
	require.Error(t, err)
	failed := map[string]bool{}
	for _, f := range r.Findings {
		if f.Severity == finding.Error {
			failed[f.ID] = true
		}
	}
	assert.Equal(t, map[string]bool{"model.unreadable": true}, failed)
}

// A file that a map includes is no map of its own, wherever it lies; one that nobody includes has to be one.
func TestIncludedSourcesAreNoMaps(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Put(t, p, "maps/shared/sky.vnx", []byte("sky noon sun=60,180\n"))
	demotest.Edit(t, p, "maps/saltpan_relay.vnx",
		"sky white_noon sun=38,205 colour=#fff0d8 power=2.8 dome=#5a8ad4 horizon=#f0efe8 glow=0.8",
		"include shared/sky.vnx")
	r := mustRun(t, p)
	assert.NotContains(t, paths(r), "maps/sky.vnm")
	assert.Contains(t, paths(r), "maps/saltpan_relay.vnm")
	demotest.Put(t, p, "maps/shared/unused.vnx", []byte("const a 1\n"))
	_, err := run(t, p)
	require.Error(t, err)
	require.NoError(t, os.Remove(p.Join("maps/shared/unused.vnx")))
	demotest.Put(t, p, "maps/shared/sky.vnx", []byte("sky noon sun=60\n"))
	r, err = run(t, p)
	require.Error(t, err)
	found := slices.IndexFunc(r.Findings, func(f finding.Finding) bool { return f.ID == "map.syntax" })
	require.GreaterOrEqual(t, found, 0)
	assert.Equal(t, "maps/shared/sky.vnx", r.Findings[found].Place.File, "the mistake is shown where it stands")
}

// A glTF scene in the folder of maps is built like any other map.
func TestScenesAreMaps(t *testing.T) {
	p := demotest.Built(t, "highline")
	one, err := assembly.CompileOne(t.Context(), p, p.Dir, "maps/cairn_station.vnx", nil, nil)
	require.NoError(t, err)
	require.NotNil(t, one.Compiled)
	surface := one.Surface("rock/cairn")
	assert.NotNil(t, surface.Colour)
	assert.NotNil(t, surface.Normal, "the normal map of the material, as its recipe makes it")
	data, err := os.ReadFile(p.Join("models/props/mail_crate.glb"))
	require.NoError(t, err)
	demotest.Put(t, p, "maps/crate_yard.glb", data)
	r, err := run(t, p)
	require.NoError(t, err, "findings of the game's rules do not stop a build")
	assert.Contains(t, paths(r), filepath.ToSlash("maps/crate_yard.vnm"))
	ids := map[string]int{}
	for _, f := range r.Findings {
		if f.Place.File == "maps/crate_yard.glb" {
			ids[f.ID]++
		}
	}
	assert.Equal(t, 1, ids["spawn.none"])
	assert.Equal(t, 1, ids["item.required"])
	assert.Zero(t, ids["map.name-differs"], "a scene without a map node is called as its file")
}

// A file that a map names and nobody has is one finding, whoever names it how often; with the file the map is there.
func TestAMapThatLacksAFile(t *testing.T) {
	p := demotest.Built(t, "highline")
	prefab, err := os.ReadFile(p.Join("prefabs/relay.vnx"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(p.Join("prefabs/relay.vnx")))
	for range 2 {
		r, err := run(t, p)
		require.Error(t, err)
		assert.Equal(t, "1 of 27 jobs failed", err.Error(), "and the disk is not to blame")
		var texts []string
		for _, f := range r.Findings {
			if f.Severity == finding.Error {
				texts = append(texts, f.Text)
			}
		}
		require.Len(t, texts, 1)
		assert.Contains(t, texts[0], "the file prefabs/relay.vnx can't be read")
	}
	demotest.Put(t, p, "prefabs/relay.vnx", prefab)
	assert.Contains(t, paths(mustRun(t, p)), "maps/saltpan_relay.vnm")
}

// What the long stages made is kept by what decides it: a camera, or what a material sounds like,
// lights nothing again; a colour does.
func TestLightIsMadeAgainOnlyWhenItMust(t *testing.T) {
	thorough.Only(t)
	p := demotest.Project(t, "highline")
	require.NoError(t, os.Remove(p.Join("maps/saltpan_relay.vnx")))
	p = demotest.Load(t, p.Dir)
	parts := func() (names []string) {
		require.NoError(t,
			filepath.WalkDir(p.Join(".vornix/cache/parts"), func(name string, e os.DirEntry, err error) error {
				if err == nil && !e.IsDir() {
					names = append(names, name)
				}
				return err
			}))
		return names
	}
	draft := func(o *assembly.Options) { o.Stages = assembly.Stages{Draft: true} }
	mustRun(t, p, draft)
	first := parts()
	require.Greater(t, len(first), 8, "visibility, light in several passes, four probes, ground")
	for _, c := range []struct {
		file, old, now string
		fresh          int // from 5 on: at least
	}{
		{"maps/cairn_station.vnx", "fov=62", "fov=50", 3}, // its pictures
		{"maps/cairn_station.vnx", "spawn blue_1 at=3,3", "spawn blue_1 at=3,3.2", 0},
		{"materials/wood/plank.toml", `surface = "wood"`, `surface = "metal"`, 0},
		{"maps/cairn_station.vnx", "probe hall at=18,10.6,2.2", "probe hall at=18,10.5,2.2", 1},
		{"materials/wood/plank.toml", "size = 2", "size = 2\ntint = \"#ff8080\"", 5},
	} {
		before := parts()
		demotest.Edit(t, p, c.file, c.old, c.now)
		p = demotest.Load(t, p.Dir)
		again := made(mustRun(t, p, draft))
		if c.file == "maps/cairn_station.vnx" {
			assert.Contains(t, again, "map cairn_station", "it is another map, if not in another light")
		}
		fresh := len(parts()) - len(before)
		if c.fresh < 5 {
			assert.Equal(t, c.fresh, fresh, c.now)
		} else {
			assert.GreaterOrEqual(t, fresh, c.fresh, c.now)
		}
	}
	for _, damaged := range parts() { // a part that the disk spoilt is made again
		require.NoError(t, os.WriteFile(damaged, []byte("spoilt"), 0o666))
	}
	want, err := os.ReadFile(p.Join("out/tree/maps/cairn_station.vnm"))
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(p.Join(".vornix/cache/actions")))
	require.NoError(t, os.RemoveAll(p.Join("out")))
	mustRun(t, p, draft)
	got, err := os.ReadFile(p.Join("out/tree/maps/cairn_station.vnm"))
	require.NoError(t, err)
	assert.Equal(t, want, got)
}
