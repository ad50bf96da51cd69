package check_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/make/check"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
)

func run(t *testing.T, p *project.Project) []finding.Finding {
	t.Helper()
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(t, err)
	list, err := check.Run(context.Background(), p, g)
	require.NoError(t, err)
	return check.Accept(p, g, list, false)
}

func ids(list []finding.Finding) map[string]int {
	m := map[string]int{}
	for _, f := range list {
		m[f.ID]++
	}
	return m
}

// What the demo's believable mess makes check say, and nothing else.
func TestTheDemo(t *testing.T) {
	dir := demotest.Write(t)
	high := run(t, demotest.Load(t, dir+"/highline"))
	assert.Equal(t, map[string]int{"mode.contained": 1, "sound.missing": 1, "file.stray": 2, "asset.unused": 2},
		ids(high))
	for _, f := range high {
		assert.Equal(t, f.ID == "mode.contained", f.Accepted != "", f.ID)
	}
	assert.Empty(t, run(t, demotest.Load(t, dir+"/lower-sidings")))
}

// Each rule is broken on its own in a project that is otherwise as it was.
func TestEachRule(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		require.Zero(t, finding.Count(run(t, demotest.Project(t, name)), finding.Error), "clean before")
	}
	const m3, m2, relay = "maps/cairn_station.vnx", "maps/tram_depot.vnx", "maps/saltpan_relay.vnx"
	for _, c := range []struct {
		id, project, file, old, now string
		text, do                    string
	}{
		{"map.name-differs", "highline", m3, "map cairn_station", "map cairn",
			`called "cairn" and its file "cairn_station"`, "the same"},
		{"map.no-title", "highline", m3, ` title="Cairn Station"`, "", "no title", ""},
		{"map.no-players", "lower-sidings", m2, " players=1..4", "", "how many players", ""},
		{"mode.unknown", "highline", m3, "dash,", "dahs,", `no mode "dahs"`, `"dash"`},
		{"spawn.few", "highline", m3, "2..8", "2..9", "up to 9 players and has 8", ""},
		{"team.unknown", "highline", m3, "team=blue", "team=bleu", `no team "bleu"`, `"blue"`},
		{"spawn.blocked", "highline", m3, "spawn blue_1 at=3,3,0.5", "spawn blue_1 at=14.2,9,0.5",
			`solid "house_west_a"`, ""},
		{"spawn.blocked", "highline", m3, "spawn blue_1 at=3,3,0.5", "spawn blue_1 at=18,8.2,1.2", `solid "lintel"`,
			""},
		{"spawn.blocked", "lower-sidings", m2, "at=3,2,0", "at=0,2,0", "solid cell", ""},
		{"light.kind", "highline", m3, "lantern_door point", "lantern_door spot", `"spot"`, `Use one of: point`},
		{"volume.none-below", "highline", m3, "effect=remove", "effect=slow", "no volume with effect=remove", ""},
		{"volume.none-below", "highline", m3, "volume fall box -80", "volume fall box 5",
			"below the whole map (from -20,-16 to 46,40, below -22)", ""},
		{"item.required", "highline", m3, "item station", "item statoin", "no station", `"statoin"`},
		{"item.limit", "lower-sidings", m2, "item depot", strings.Repeat("item lamp at=1,1,0\n", 10) + "item depot",
			"one more than the 12", ""},
		{"map.form", "lower-sidings", m2, "item depot", "solid s box 0,0,0 1,1,1 material=rock/wall\nitem depot",
			"maps of tiles", ""},
		{"material.missing", "highline", m3, "solid deck box 0,0,0 24,16,0.5 material=wood/plank",
			"solid deck box 0,0,0 24,16,0.5 material=wood/plnak", `the material "wood/plnak" is not in materials/`,
			`"wood/plank"`},
		{"texture.missing", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"rock/slap"`,
			`the material "rock/slab" wants it, for map cairn_station`, `"rock/slab"`},
		{"sound.missing", "lower-sidings", m2, "cave/drip", "cave/drop", `the sound "cave/drop"`, `"cave/drip"`},
		{"reference.ending", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"rock/slab.png"`, "has an ending",
			`"rock/slab"`},
		{"reference.absolute", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"C:/game/textures/rock/slab"`,
			"absolute", `"rock/slab"`},
		{"reference.absolute", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"/home/me/rock/slab.png"`,
			"absolute", `"rock/slab"`},
		{"reference.form", "highline", "materials/rock/slab.toml", `"rock/slab"`, `'rock\slab'`, "backslash",
			`"rock/slab"`},
		{"reference.form", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"../rock/slab"`, "leads out",
			`"rock/slab"`},
		{"reference.case", "highline", "materials/rock/slab.toml", `"rock/slab"`, `"rock/Slab"`,
			`is called "rock/slab"`, `Write "rock/slab"`},
		{"reference.case", "highline", m3, "material=wood/plank", "material=Wood/plank", `is called "wood/plank"`, ""},
		{"material.texture-kind", "highline", "materials/rock/cairn.toml", `normal = "rock/cairn_bumps"`,
			`normal = "rock/cairn"`,
			`normal wants a texture of the kind normal, and "rock/cairn" is used as colour elsewhere`,
			`"rock/cairn_bumps"`},
		{"material.texture-kind", "highline", "materials/rock/cairn.toml", `normal = "rock/cairn_bumps"`,
			`normal = "rock/slab"`, `"rock/slab" is used as colour elsewhere`, ""},
		{"material.inherits", "highline", "materials/rock/cairn_wet.toml", `"rock/cairn"`, `"rock/carin"`,
			`no material "rock/carin"`, `"rock/cairn"`},
		{"material.inherits", "highline", "materials/rock/cairn.toml", "size = 4",
			"size = 4\ninherits = \"rock/cairn_wet\"", "inherits from itself: rock/cairn", ""},
		{"toml.value", "highline", "materials/rock/defaults.toml", "contrast = 1.1", "contrast = 11",
			"contrast must lie between 0 and 4", ""},
		{"toml.value", "highline", "materials/rock/cairn_wet.toml", "saturation = 0.8", "shading = \"dark\"",
			"shading must be one of lit", ""},
		{"material.surface", "highline", "materials/rock/defaults.toml", `"rock"`, `"rocks"`, `no surface "rocks"`,
			`"rock"`},
		{"toml.value", "highline", "textures/rock/cairn_bumps.texture.toml", `"wrap"`, `"warp"`,
			`edge must be one of clamp, wrap`, ""},
		{"texture.missing", "highline", "textures/rock/cairn_bumps.texture.toml", "strength = 10",
			"images = ['rock/slub.png']", `"rock/slub.png" is not in textures/`, `"rock/slab.png"`},
		{"sprite.state", "lower-sidings", m2, "state=dig", "state=dg", `the sprite "mole" has no state "dg"`, `"dig"`},
		{"sprite.state", "lower-sidings", m2, "direction=east", "direction=easy", `no direction "easy"`, `"east"`},
		{"sprite.missing", "lower-sidings", m2, "sprite=mole state=dig", "sprite=mule state=dig",
			`the sprite "mule" is not in sprites/`, `"mole"`},
		{"sprite.image", "lower-sidings", "sprites/mole.toml", "mole.png", "mule.png",
			`"sprites/mule.png" is not there`, `"mole.png"`},
		{"sprite.image", "lower-sidings", "sprites/lamp.toml", `"lamp"`, `"lamps"`, "no frames in sprites/lamps/", ""},
		{"sprite.frame", "lower-sidings", "sprites/mole.toml", "[0, 1]", "[0, 16]", "there is no frame 16", ""},
		{"sprite.frame", "lower-sidings", "sprites/mole.toml", "frame = [16, 16]", "frame = [16, 24]", "do not divide",
			""},
		{"toml.value", "lower-sidings", "sprites/mole.toml", "[2400, 160]", "[2400]", "1 durations for 2 frames", ""},
		{"toml.value", "lower-sidings", "sprites/lamp.toml", "[state.glow]", "[state.glwo]",
			`no folder of frames for the state "glwo"`, `"glow"`},
		{"material.surface", "highline", "materials/rock/slab.toml", `surface = "rock"`, `surface = "rok"`,
			`no surface "rok"`, `"rock"`},
		{"toml.unknown-key", "highline", "materials/rock/slab.toml", "tint", "tnit", `"tnit"`, `"tint"`},
		{"toml.value", "highline", "materials/rock/slab.toml", "#e8e4dc", "grey", "tint must be a colour", ""},
		{"map.syntax", "highline", m3, "solid deck", "solib deck", `"solib"`, `"solid"`},
		{"map.name-rule", "highline", m3, "map cairn_station", "map cairn_station_above_the_saltpan", "takes 24",
			"Rename"},
		{"map.name-rule", "lower-sidings", m2, "map tram_depot", "map tram_depot_2", "wants names of the form",
			"Rename"},
		{"spawn.blocked", "highline", relay, "    spawn blue at=0,0,0", "    spawn blue at=0,0,-4",
			"below the ground of terrain", ""},
		{"spawn.blocked", "highline", relay, "    spawn blue at=0,0,0", "    spawn blue at=-2.2,i*3-3,0",
			`solid "shelter_1.`, ""},
		{"spawn.blocked", "highline", m3, "spawn blue_1 at=3,3,0.5", "spawn blue_1 at=18,10,2.2", `solid "roof"`, ""},
		{"spawn.outside", "highline", m3, "spawn blue_1 at=3,3,0.5", "spawn blue_1 at=50,3,0.5",
			"no ground below spawn blue_1", ""},
		{"spawn.outside", "highline", m3, "spawn blue_1 at=3,3,0.5", "spawn blue_1 at=3,3,9",
			"8.5 m above the ground; 4 m are allowed", ""},
		{"spawn.outside", "lower-sidings", m2, "at=3,2,0", "at=3,2,7", "on no grid of level 7", ""},
		{"spawn.crowded", "highline", m3, "spawn blue_2 at=3,5,0.5", "spawn blue_2 at=3.5,3,0.5",
			"0.50 m from spawn blue_1", ""},
		{"spawn.crowded", "lower-sidings", m2, "spawn shed_2 at=5,2,0", "spawn shed_2 at=3,2,0", "from spawn shed_1",
			""},
		{"spawn.in-menu", "highline", m3, "modes=relay", "purpose=menu modes=relay", "has the spawn blue_1", ""},
		{"item.unknown", "highline", m3, "item winch at=7", "item wnich at=7", `no item "wnich"`, `"winch"`},
		{"item.property", "highline", m3, "rank=1", "rnak=1", `a winch has no property "rnak"`, `"rank"`},
		{"item.property", "highline", m3, " rank=1", "", "the winch has no rank", "a whole number"},
		{"item.property", "highline", m3, "rank=1", "rank=1.5", `must be a whole number, and is "1.5"`, ""},
		{"item.property", "highline", m3, "rank=1", "rank=9", "must be from 1 to 6", ""},
		{"item.property", "highline", m3, `name="Cairn Station"`, `name="Cairn Station, high above the saltpan"`,
			"at most 32 characters", ""},
		{"sound.missing", "highline", m3, "rank=1", "rank=1 call=station/hmu", `the sound "station/hmu"`,
			`"station/hum"`},
		{"model.missing", "highline", relay, "prop crate_large model=props/mail_crate",
			"prop crate_large model=props/mail_crat", `the model "props/mail_crat"`, `"props/mail_crate"`},
		{"probe.uncovered", "highline", m3, "reach=90", "reach=6", "no probe reaches", ""},
		{"object.outside", "highline", m3, "item winch at=7,13,0.5", "item winch at=700,13,0.5",
			"the winch at 700,13,0.5 lies outside", ""},
		{"object.outside", "lower-sidings", m2, "item lamp at=10,2,0", "item lamp at=40,2,0", "the lamp at 40,2,0", ""},
		{"area.outside", "lower-sidings", m2, "area platform 23,9 28,11", "area platform 23,9 32,11",
			"lies on no grid of level 0", ""},
		{"item.limit", "highline", relay, "item winch at=3,3,0.6",
			strings.Repeat("item winch at=0,4,0.6 rank=3\n", 5) + "item winch at=3,3,0.6", "one more than the 6", ""},
	} {
		t.Run(c.id+" "+c.text, func(t *testing.T) {
			p := demotest.Project(t, c.project)
			demotest.Edit(t, p, c.file, c.old, c.now)
			var got *finding.Finding
			list := run(t, p)
			for i := range list {
				if list[i].ID == c.id && got == nil && (list[i].Place.File == c.file) &&
					strings.Contains(list[i].Text, c.text) {
					got = &list[i]
				}
			}
			require.NotNil(t, got, "%v", list)
			assert.Contains(t, got.Do, c.do)
			assert.Positive(t, got.Place.Line)
		})
	}
}

func TestSpawnsForEveryTeam(t *testing.T) {
	p := demotest.Project(t, "highline")
	data, err := os.ReadFile(p.Join("maps/cairn_station.vnx"))
	require.NoError(t, err)
	demotest.Put(t, p, "maps/cairn_station.vnx", []byte(strings.ReplaceAll(string(data), "team=amber", "team=blue")))
	assert.Equal(t, 1, ids(run(t, p))["spawn.no-team"])
	demotest.Edit(t, p, "maps/cairn_station.vnx", "spawn amber_4 at=11,5,0.5 facing=270 team=blue",
		"spawn amber_4 at=11,5,0.5")
	assert.Zero(t, ids(run(t, p))["spawn.no-team"], "a spawn without a team serves any")
	demotest.Put(t, p, "maps/cairn_station.vnx",
		[]byte("map cairn_station title=\"C\" players=1..2\nsolid s box 0,0,0 9,9,1 material=rock/slab\n"))
	assert.Equal(t, 1, ids(run(t, p))["spawn.none"])
	demotest.Put(t, p, "maps/cairn_station.vnx",
		[]byte("map cairn_station title=\"C\" players=1..2\nspawn a at=1,1,1\n"))
	assert.Equal(t, 1, ids(run(t, p))["map.empty"])
}

// A menu's background needs a camera, and neither spawns nor what a game is played with.
func TestMenuBackgrounds(t *testing.T) {
	p := demotest.Project(t, "highline")
	scene := "map cairn_station title=\"C\" purpose=menu\nsolid s box 0,0,0 9,9,1 material=rock/slab\nprobe p at=4,4,2 reach=20\n"
	demotest.Put(t, p, "maps/cairn_station.vnx", []byte(scene+"camera c at=-5,0,3 look=4,4,1\n"))
	got := ids(run(t, p))
	for _, id := range []string{"spawn.none", "item.required", "volume.none-below", "map.no-players", "camera.none"} {
		assert.Zero(t, got[id], id)
	}
	demotest.Put(t, p, "maps/cairn_station.vnx", []byte(scene))
	assert.Equal(t, 1, ids(run(t, p))["camera.none"])
}

// Limits of the profile that the demo keeps: each is lowered until something is beyond it.
func TestLimitsOfTheProfile(t *testing.T) {
	for id, lower := range map[string]func(p *project.Project){
		"terrain.size": func(p *project.Project) { p.Profile.Map.TerrainSide = 128 },
		"model.large":  func(p *project.Project) { p.Profile.Models.Triangles = 20 },
		"model.images": func(p *project.Project) {
			data, err := os.ReadFile(p.Join("models/props/mail_crate.glb"))
			require.NoError(t, err)
			image := []byte(`,"images":[{"uri":"data:image/png;base64,AA"}]}`)
			end := bytes.Index(data, []byte("BIN\x00")) - 4
			body := bytes.TrimRight(data[20:end], " ")
			body = append(body[:len(body)-1:len(body)-1], image...)
			for len(body)%4 != 0 {
				body = append(body, ' ')
			}
			whole := append(append(slices.Clone(data[:20]), body...), data[end:]...)
			binary.LittleEndian.PutUint32(whole[8:], uint32(len(whole)))
			binary.LittleEndian.PutUint32(whole[12:], uint32(len(body)))
			demotest.Put(t, p, "models/props/mail_crate.glb", whole)
		},
		"item.limit": func(p *project.Project) { p.Profile.Map.Limits["light"] = 3 },
		"model.unreadable": func(p *project.Project) {
			demotest.Put(t, p, "models/props/mail_crate.glb",
				[]byte("glTF broken"))
		},
	} {
		p := demotest.Project(t, "highline")
		assert.Zero(t, ids(run(t, p))[id], id)
		lower(p)
		assert.Positive(t, ids(run(t, p))[id], id)
	}
	p := demotest.Project(t, "highline")
	p.Profile.Models.Materials, p.Profile.Models.Largest = 1, 0.5
	var texts []string
	for _, f := range run(t, p) {
		if f.ID == "model.large" {
			texts = append(texts, f.Text)
		}
	}
	assert.Equal(t, []string{"the model has 2 materials; Kestrel Post takes 1",
		"the model is 0.8 m large; Kestrel Post takes 0.5 m"}, texts)
}

func TestMissingTextureNamesWhoWantedIt(t *testing.T) {
	p := demotest.Project(t, "highline")
	require.NoError(t, os.Remove(p.Join("textures/sign/highline.png")))
	for _, f := range run(t, p) {
		if f.ID == "texture.missing" {
			assert.Equal(t, []string{"materials/sign/highline.toml:2:1", "maps/cairn_station.vnx:35:23"}, f.Wanted,
				"the material, then the map's line")
			return
		}
	}
	t.Fatal("the missing texture was not found")
}

func TestImages(t *testing.T) {
	p := demotest.Project(t, "highline")
	whole, err := os.ReadFile(p.Join("textures/wood/plank.png"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/wood/plank.png", whole[:3000])
	found := run(t, p)
	assert.Equal(t, 1, ids(found)["texture.unreadable"])
	tile, err := os.ReadFile(demotest.Project(t, "lower-sidings").Join("textures/rock/wall.png"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/wood/plank.png", tile)
	assert.Zero(t, ids(run(t, p))["texture.unreadable"])

	p.Profile.Textures.Largest = 8
	for _, f := range run(t, p) {
		if f.Place.File == "textures/wood/plank.png" {
			assert.Equal(t, "texture.size", f.ID)
			assert.Contains(t, f.Text, "16 x 16 texels; Kestrel Post takes at most 8")
		}
	}
	p.Profile.Textures.Largest = 0
	for size, say := range map[[2]int]string{{100, 64}: "128 x 64", {90, 700}: "64 x 512", {1, 3}: "1 x 4"} {
		list := check.ImageSize(p, p.Making("a.png", nil).Recipe(p.Profile.Textures, ""), "a.png", size[0], size[1])
		require.Len(t, list, 1)
		assert.Contains(t, list[0].Do, "Resize it to "+say)
		assert.Equal(t, finding.Error, list[0].Severity)
	}
	p.File.Textures[0].Size = "up"
	list := check.ImageSize(p, p.Making("textures/a.png", nil).Recipe(p.Profile.Textures, ""), "textures/a.png", 90,
		700)
	require.Len(t, list, 1)
	assert.Equal(t, finding.Note, list[0].Severity)
	assert.Contains(t, list[0].Text, "it becomes 128 x 1024, stretched by 3 % down")
	p.File.Textures[0].Aspect = "keep"
	list = check.ImageSize(p, p.Making("textures/a.png", nil).Recipe(p.Profile.Textures, ""), "textures/a.png", 90, 600)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Text, "it becomes 128 x 1024, of which it fills 128 x 853 and its edge the rest")
	assert.Empty(t, check.ImageSize(p, p.Making("a.png", nil).Recipe(p.Profile.Textures, ""), "a.png", 512, 1))
}

func TestSidecarsAndTheGamesOwn(t *testing.T) {
	p := demotest.Project(t, "highline")
	require.NoError(t, os.Remove(p.Join("textures/rock/cairn_bumps.png")))
	got := run(t, p)
	assert.Equal(t, 1, ids(got)["texture.sidecar"], "a sidecar without its image")
	// What the profile says the game has is not missing, and nothing is shipped for it.
	p = demotest.Project(t, "highline")
	demotest.Edit(t, p, "materials/rock/slab.toml", `"rock/slab"`, `"base/grey"`)
	assert.Zero(t, ids(run(t, p))["texture.missing"])
	demotest.Edit(t, p, "materials/rock/slab.toml", `"base/grey"`, `"bass/grey"`)
	assert.Equal(t, 1, ids(run(t, p))["texture.missing"])
	demotest.Put(t, p, "profiles/own.toml",
		[]byte("[game]\nid = 'own'\ntitle = 'Own'\nform = 'solids'\n[files]\nown_list = 'own.txt'\n"))
	demotest.Put(t, p, "profiles/own.txt", []byte("# brought along\ntextures/bass/grey.ktx2\n"))
	demotest.Edit(t, p, "vornix.toml", `"kestrel-post"`, `"own"`)
	p = demotest.Load(t, p.Dir)
	assert.Zero(t, ids(run(t, p))["texture.missing"])
	// A picture that is not what its name says.
	jpg, err := os.ReadFile(p.Join("textures/snow/drift.jpg"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/wood/plank.png", jpg)
	assert.Equal(t, 1, ids(run(t, p))["texture.misnamed"])
}

func TestNamesAndStrays(t *testing.T) {
	p := demotest.Project(t, "highline")
	wall, err := os.ReadFile(p.Join("textures/rock/slab.png"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/Rock/Slab.PNG", wall)
	demotest.Edit(t, p, "materials/rock/slab.toml", `"rock/slab"`, `"Rock/Slab"`)
	demotest.Put(t, p, "textures/sign/highline.jpg", []byte("another of the same name"))
	for _, name := range []string{"notes.txt~", "maps/x.bak", "textures/Thumbs.db", "maps/#a#", "old.zip",
		"maps/map copy.vnx2", "build.log"} {
		demotest.Put(t, p, name, nil)
	}
	got := ids(run(t, p))
	assert.Equal(t, 1, got["path.case"], "a capital in a path that ships")
	assert.Equal(t, 1, got["asset.same-name"])
	assert.Equal(t, 2+7, got["file.stray"])
}

func TestNamesThatSomeSystemCanNotHold(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("Windows can't hold the names either")
	}
	p := demotest.Project(t, "lower-sidings")
	for _, name := range []string{"a:b", "nul", "Twin", "twin"} {
		demotest.Put(t, p, "materials/odd/"+name+".toml", []byte("colour = \"rock/wall\"\n"))
	}
	demotest.Edit(t, p, "maps/tram_depot.vnx", "legend # tile=rock/wall solid=yes",
		"legend # tile=rock/wall solid=yes\nlegend 1 tile=odd/a:b\nlegend 2 tile=odd/nul\nlegend 3 tile=odd/Twin\nlegend 4 tile=odd/twin")
	got := ids(run(t, p))
	assert.Equal(t, map[string]int{"path.characters": 2, "asset.same-name": 1, "path.twin": 1}, got)
}

func TestBrokenMapHidesNothingElse(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	demotest.Put(t, p, "maps/second.vnx", []byte("map second\nsolud\n"))
	demotest.Edit(t, p, "materials/rock/wall.toml", "rock/wall", "rock/wallpaper")
	got := ids(run(t, p))
	assert.Equal(t, 1, got["map.syntax"])
	assert.Equal(t, 1, got["texture.missing"])
	assert.Zero(t, got["asset.unused"], "what a broken map needs is not known, so nothing is called unused")
}

// A version that comes before one that was released reaches nobody.
func TestVersionsGoUp(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	require.NoError(t, ledger.Add(p, ledger.Event{Kind: ledger.Released, Version: "1.0.0"}))
	require.NoError(t, ledger.Add(p, ledger.Event{Kind: ledger.Released, Version: "1.10.0"}))
	require.NoError(t, p.SetVersion("1.9.0"))
	var found []finding.Finding
	for _, f := range run(t, p) {
		if f.ID == "addon.version" {
			found = append(found, f)
		}
	}
	require.Len(t, found, 1)
	assert.Equal(t, "vornix.toml:6:1 version 1.9.0 comes before 1.10.0, which was released The next one is 1.10.1.",
		found[0].Place.String()+" "+found[0].Text+" "+found[0].Do)
	require.NoError(t, p.SetVersion("1.10.0"))
	assert.Zero(t, ids(run(t, p))["addon.version"])
}

// A map that includes itself, or two that include each other, are maps with a mistake, and not
// parts of maps that nobody sees.
func TestMapsThatIncludeThemselves(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	demotest.Put(t, p, "maps/selfish.vnx",
		[]byte("map selfish title=\"Selfish\" players=1..2 modes=shift\ninclude selfish.vnx\n"))
	demotest.Put(t, p, "maps/one.vnx", []byte("map one title=\"One\" players=1..2 modes=shift\ninclude two.vnx\n"))
	demotest.Put(t, p, "maps/two.vnx", []byte("map two title=\"Two\" players=1..2 modes=shift\ninclude one.vnx\n"))
	said := map[string]bool{}
	for _, f := range run(t, p) {
		if f.Severity == finding.Error {
			said[f.Place.File] = true
		}
	}
	for _, file := range []string{"maps/selfish.vnx", "maps/one.vnx", "maps/two.vnx"} {
		assert.True(t, said[file], file)
	}
}

// What only a compiled map shows of a gap is said before anything is built; so are recipes for no image.
func TestGapsAndRecipesForNothing(t *testing.T) {
	p := demotest.Project(t, "highline")
	room := "map room title=\"Room\" players=2..4 modes=relay sealed=yes\n" +
		"solid floor box 0,0,0 8,8,1 material=rock/slab\nsolid roof box 0,0,4 8,8,5 material=rock/slab\n" +
		"solid west box 0,0,1 1,8,4 material=rock/slab\nsolid east box 7,0,1 8,8,4 material=rock/slab\n" +
		"solid south box 1,0,1 7,1,4 material=rock/slab\nspawn blue_1 at=4,4,1 facing=90 team=blue\n"
	demotest.Put(t, p, "maps/room.vnx", []byte(room))
	leaks := func() (text string) {
		for _, f := range run(t, p) {
			if f.ID == finding.MapLeak.ID {
				text += f.Place.String() + " " + f.Text
			}
		}
		return text
	}
	assert.Contains(t, leaks(), "maps/room.vnx:7")
	demotest.Put(t, p, "maps/room.vnx", []byte(room+"solid north box 1,7,1 7,8,4 material=rock/slab\n"))
	assert.Empty(t, leaks())

	before := ids(run(t, p))
	assert.Zero(t, before["texture.no-effect"])
	demotest.Edit(t, p, "vornix.toml", "[[texture]]\nmatch = \"**\"",
		"[[texture]]\nmatch = \"textures/**\"\n\n[[texture]]\nmatch = \"**\"")
	assert.Equal(t, 1, ids(run(t, demotest.Load(t, p.Dir)))["texture.no-effect"])
}
