package smoketest_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/game/smoketest"
	"vornix/internal/demotest"
)

var ctx = context.Background()

func packed(t *testing.T, p *project.Project, change ...string) string {
	t.Helper()
	file := demotest.Packed(t, p, false)[0]
	if len(change) == 0 {
		return file
	}
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	bad := filepath.Join(t.TempDir(), filepath.Base(file))
	require.NoError(t, os.WriteFile(bad, []byte(strings.NewReplacer(change...).Replace(string(data))), 0o666))
	return bad
}

func texts(t *testing.T, p *project.Project, files ...string) string {
	t.Helper()
	r, err := smoketest.Try(ctx, p.Profile, files)
	require.NoError(t, err)
	said := ""
	for _, f := range r.Findings {
		said += f.ID + " " + f.Text + "\n"
	}
	return said
}

// Scripts, start files and companions are followed inside the bundle like everything else.
func TestTextsAreFollowed(t *testing.T) {
	p := demotest.Built(t, "highline")
	assert.Contains(t, texts(t, p, packed(t, p, "scripts/winch.txt", "scripts/wunch.txt")),
		"try.missing map cairn_station needs scripts/winch: it is not in the bundle")
	said := texts(t, p, packed(t, p, "materials/lamp/amber.toml", "materials/lamp/ombre.toml"))
	assert.Contains(t, said, "map cairn_station needs materials/lamp/amber.toml")
	assert.Contains(t, texts(t, p, packed(t, p, "maps/saltpan_relay.vnm", "maps/saltpan_rilay.vnm")),
		"try.missing routes/north.json needs maps/saltpan_relay.vnm")
}

// Parts of one whole are tried together; one of them alone lacks what the other has.
func TestPartsBelongTogether(t *testing.T) {
	p := demotest.Built(t, "highline")
	name := "profiles/kestrel-post.toml"
	demotest.Edit(t, p, name, `name = "{name}-{version}.parcel"`,
		"name = \"{name}-{version}-{part}.parcel\"\nlargest = 400000")
	p = demotest.Load(t, p.Dir)
	files := demotest.Packed(t, p, false)
	require.Greater(t, len(files), 1)
	assert.NotContains(t, texts(t, p, files...), "try.missing")
	assert.Contains(t, texts(t, p, files[0]), "try.missing")
}

// The bundle of one map has to stand alone: what only another map's has is missing.
func TestMapsStandAlone(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Edit(t, p, "profiles/kestrel-post.toml", "form = \"mod\"\nname = \"{name}-{version}.parcel\"",
		"form = \"map\"\nname = \"{map}.parcel\"")
	p = demotest.Load(t, p.Dir)
	bad := packed(t, p, "textures/wood/plank.ktx2", "textures/wood/plonk.ktx2") // cairn_station's
	other := filepath.Join(filepath.Dir(packed(t, p)), "saltpan_relay.parcel")
	assert.NotContains(t, texts(t, p, filepath.Join(filepath.Dir(other), "cairn_station.parcel"), other), "try.missing",
		"the start file speaks of both maps")
	assert.Contains(t, texts(t, p, other), "routes/north.json needs maps/cairn_station.vnm")
	said := texts(t, p, bad, other)
	assert.Contains(t, said, "map cairn_station needs textures/wood/plank.ktx2")
	assert.NotContains(t, said, "map saltpan_relay needs textures")
}

// Loose copies in an installed game are found whatever their capitals, set aside and brought back.
// A script of one map that names another one finds it: the other is a bundle of its own, also where
// each has to be whole by itself.
func TestAScriptThatNamesAnotherMap(t *testing.T) {
	p := demotest.Project(t, "highline")
	name := "profiles/kestrel-post.toml"
	demotest.Edit(t, p, name, `name = "{name}-{version}.parcel"`, "name = \"{map}-{version}.parcel\"")
	demotest.Edit(t, p, name, `form = "mod"`, `form = "map"`)
	demotest.Edit(t, p, name, `^\s*show (?P<material>[a-z0-9_/]+)`, `^\s*leads to (?P<map>[a-z0-9_]+)`)
	demotest.Edit(t, p, "scripts/winch.txt", "show lamp/amber", "leads to saltpan_relay")
	p = demotest.Load(t, p.Dir)
	files := demotest.Packed(t, p, false)
	require.Len(t, files, 2)
	assert.NotContains(t, texts(t, p, files...), "saltpan_relay.vnm")
	assert.Contains(t, texts(t, p, files[0]), "needs maps/saltpan_relay.vnm", "without the other there is no such map")
}

func TestLooseCopies(t *testing.T) {
	p := demotest.Built(t, "highline")
	file := packed(t, p)
	game := t.TempDir()
	put := func(rel string, data []byte) {
		name := filepath.Join(game, filepath.FromSlash(rel))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		require.NoError(t, os.WriteFile(name, data, 0o666))
	}
	list, err := smoketest.FindLoose(ctx, p.Profile, game, []string{file})
	require.NoError(t, err)
	assert.Empty(t, list)
	same, err := os.ReadFile(p.Join("out/tree/textures/wood/plank.ktx2"))
	require.NoError(t, err)
	put("Textures/wood/Plank.ktx2", same)
	put("maps/cairn_station.vnm", []byte("an old one"))
	put("maps/somebody_elses.vnm", nil)
	require.NoError(t, os.MkdirAll(filepath.Join(game, "waybill.json"), 0o777))
	list, err = smoketest.FindLoose(ctx, p.Profile, game, []string{file})
	require.NoError(t, err)
	assert.Equal(t, []smoketest.Loose{{Path: "maps/cairn_station.vnm", Size: 10},
		{Path: "Textures/wood/Plank.ktx2", Size: int64(len(same)), Same: true}}, list)
	assert.Contains(t, list[0].Finding(game).Text, "has other content")
	_, err = smoketest.SetAside(ctx, game, list, time.Now())
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(game, "maps", "cairn_station.vnm"))
	none, err := smoketest.FindLoose(ctx, p.Profile, game, []string{file})
	require.NoError(t, err)
	assert.Empty(t, none)
	put("maps/cairn_station.vnm", []byte("a third"))
	back, err := smoketest.BringBack(ctx, game)
	require.NoError(t, err)
	require.Len(t, back, 2)
	assert.Equal(t, "another file stands in its place", back[0].Left)
	assert.FileExists(t, filepath.Join(game, "Textures", "wood", "Plank.ktx2"))
	require.NoError(t, os.Remove(filepath.Join(game, "maps", "cairn_station.vnm")))
	_, err = smoketest.BringBack(ctx, game)
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(game, "maps", "cairn_station.vnm"))
	require.NoError(t, err)
	assert.Equal(t, "an old one", string(data))
	assert.NoDirExists(t, filepath.Join(game, smoketest.AsideDir))
	_, err = smoketest.FindLoose(ctx, p.Profile, filepath.Join(game, "nowhere"), []string{file})
	assert.ErrorContains(t, err, "nowhere")
}
