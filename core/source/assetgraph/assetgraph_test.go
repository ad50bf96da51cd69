package assetgraph_test

import (
	"context"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/format/texture"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
)

func scan(t *testing.T, p *project.Project) *assetgraph.Graph {
	t.Helper()
	files, err := p.List()
	require.NoError(t, err)
	g, err := assetgraph.Scan(context.Background(), p, files)
	require.NoError(t, err)
	return g
}

func names(list []*assetgraph.Asset) []string {
	var out []string
	for _, a := range list {
		out = append(out, string(a.Kind)+" "+a.Name)
	}
	slices.Sort(out)
	return out
}

// Both ways through the graph tell the same: what is needed knows by whom, and what is inherited from has its heirs.
func TestBothWays(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		g := scan(t, demotest.Project(t, name))
		for _, a := range g.Assets {
			for _, n := range a.Needs {
				assert.Contains(t, n.NeededBy, a, "%s %s", n.Kind, n.Name)
			}
			for _, n := range a.NeededBy {
				assert.Contains(t, n.Needs, a)
			}
			for _, b := range a.Bases {
				assert.Contains(t, b.BaseOf, a)
			}
			assert.Equal(t, []*assetgraph.Asset{a}, g.Named(a.Source))
			assert.Contains(t, g.Named(a.Name), a)
			assert.Contains(t, assetgraph.Closure(a), a)
		}
		assert.True(t, g.Complete())
	}
}

func TestWhatTakesPart(t *testing.T) {
	p := demotest.Project(t, "highline")
	g := scan(t, p)
	wet := g.Find(assetgraph.Material, "rock/cairn_wet")
	assert.Equal(t, []string{"materials/rock/defaults.toml", "materials/rock/defaults.toml",
		"materials/rock/cairn.toml", "materials/rock/cairn_wet.toml"}, wet.Chain)
	assert.Equal(t, []string{"texture rock/cairn", "texture rock/cairn_bumps"}, names(wet.Needs),
		"what is inherited is needed")
	assert.Equal(t, []string{"material rock/cairn"}, names(wet.Bases))
	bumps := g.Find(assetgraph.Texture, "rock/cairn_bumps")
	assert.Equal(t, texture.Normal, bumps.Use)
	assert.Equal(t, []string{"textures/rock/cairn_bumps.png"}, bumps.Images)
	assert.Equal(t, []string{"textures/rock/cairn_bumps.texture.toml"}, bumps.Parts)
	assert.True(t, g.Takes("materials/rock/defaults.toml"))
	assert.Equal(t, texture.Colour, g.Find(assetgraph.Texture, "rock/slab").Use)
	assert.Equal(t, []string{"sign/highline"}, g.Find(assetgraph.Texture, "sign/highline").SeenThrough)
	assert.Nil(t, g.Find(assetgraph.Material, "rock/defaults"), "defaults are no material")

	// A mistake that two materials inherit is said once, where it stands; each says who wanted it.
	demotest.Edit(t, p, "materials/rock/cairn.toml", `"rock/cairn_bumps"`, `"rock/cairn_bumbs"`)
	missing := 0
	for _, f := range scan(t, p).Findings {
		if f.ID == "texture.missing" {
			missing++
			assert.Equal(t, "materials/rock/cairn.toml:2:1", f.Place.String())
			assert.Contains(t, f.Do, `"rock/cairn_bumps"`)
		}
	}
	assert.Equal(t, 1, missing)

	// A broken base breaks its heirs and nothing else; the heirs are not blamed.
	demotest.Put(t, p, "materials/rock/cairn.toml", []byte("colour = [\n"))
	g = scan(t, p)
	assert.Nil(t, g.Find(assetgraph.Material, "rock/cairn_wet").Material)
	assert.NotNil(t, g.Find(assetgraph.Material, "rock/slab").Material)
	for _, f := range g.Findings {
		assert.NotEqual(t, "materials/rock/cairn_wet.toml", f.Place.File, "%v", f)
	}
	require.NoError(t, os.Remove(p.Join("materials/rock/defaults.toml")))
	assert.Equal(t, []string{"materials/rock/slab.toml"}, scan(t, p).Find(assetgraph.Material, "rock/slab").Chain)
}

func TestSpritesAndTheirFrames(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	g := scan(t, p)
	lamp := g.Find(assetgraph.Sprite, "lamp")
	assert.Equal(t, []string{"sprites/lamp/glow/1.png", "sprites/lamp/glow/10.png", "sprites/lamp/glow/2.png"},
		lamp.Parts)
	assert.Equal(t, []string{"map tram_depot"}, names(lamp.NeededBy))
	for _, part := range lamp.Parts {
		assert.True(t, g.Takes(part))
	}
	assert.Nil(t, g.Find(assetgraph.Texture, "lamp/glow/1"), "frames are no textures")
}

// Models are needed by maps and need materials; what a property of an item names is needed too, by
// its type in the profile.
func TestModelsAndProperties(t *testing.T) {
	p := demotest.Project(t, "highline")
	g := scan(t, p)
	relay, crate := g.Find(assetgraph.Map, "saltpan_relay"), g.Find(assetgraph.Model, "props/mail_crate")
	require.NotNil(t, crate)
	assert.Contains(t, relay.Needs, crate)
	assert.Equal(t, []string{"material metal/rail", "material wood/plank"}, names(crate.Needs))
	assert.Equal(t, []string{"maps/saltpan.png", "maps/saltpan_rock.png", "prefabs/relay.vnx"}, relay.Parts)
	assert.True(t, g.Takes("prefabs/relay.vnx"))
	assert.False(t, assetgraph.Ships(p, crate), "it only stands in a map")
	assert.Equal(t, []*assetgraph.Asset{relay}, g.Named("prefabs/relay.vnx"),
		"whoever asks for a part is told what it is part of")
	assert.Nil(t, g.Find(assetgraph.Sound, "wind/gust").NeededBy)

	demotest.Edit(t, p, "maps/saltpan_relay.vnx", "item winch at=3,3,0.6 facing=45 rank=1",
		"item winch at=3,3,0.6 facing=45 rank=1 call=wind/gust")
	g = scan(t, p)
	assert.Equal(t, []string{"map saltpan_relay"}, names(g.Find(assetgraph.Sound, "wind/gust").NeededBy))

	// What a model lacks is told with everybody who wanted it.
	require.NoError(t, os.Remove(p.Join("maps/cairn_station.vnx")))
	require.NoError(t, os.Remove(p.Join("materials/metal/rail.toml")))
	g = scan(t, p)
	var texts []string
	for _, f := range g.Findings {
		if f.ID == "material.missing" && f.Place.File == "models/props/mail_crate.glb" {
			texts = append(texts, f.Text)
			assert.Equal(t, "models/props/mail_crate.glb", f.Wanted[0])
			assert.Contains(t, f.Wanted[1], "prefabs/relay.vnx:")
		}
	}
	assert.Equal(t, []string{
		`the material "metal/rail" is not in materials/; the model "props/mail_crate" wants it, for map saltpan_relay`},
		texts)
}

// Scripts, start files and companions are assets like others: they know what they need, and what needs them.
func TestTextsInTheGraph(t *testing.T) {
	p := demotest.Project(t, "highline")
	g := scan(t, p)
	winch, route := g.Find("script", "winch"), g.Find("route", "north.json")
	require.NotNil(t, winch, "named without its ending")
	require.NotNil(t, route)
	assert.Equal(t, []string{"material lamp/amber", "sound station/hum"}, names(winch.Needs))
	assert.Equal(t, []string{"map cairn_station"}, names(winch.NeededBy))
	assert.Equal(t, []string{"map cairn_station", "map saltpan_relay"}, names(route.Needs))
	assert.Equal(t, []string{"map cairn_station", "map saltpan_relay"},
		names(assetgraph.MapsOf(g.Find(assetgraph.Sound, "station/hum"))))
	assert.Contains(t, g.Roots(), route, "a start file ships although nothing needs it")
	assert.NotContains(t, g.Roots(), winch)
	assert.Equal(t, []*assetgraph.Asset{winch}, g.Named("scripts/winch.txt"))

	cairn := g.Find(assetgraph.Map, "cairn_station")
	assert.Contains(t, assetgraph.Closure(cairn), winch)
	assert.NotContains(t, assetgraph.Closure(cairn), g.Find(assetgraph.Map, "saltpan_relay"))
	// A script that leads from one map to the other makes a circle, and no part of the other ships with the one.
	name := "profiles/kestrel-post.toml"
	demotest.Put(t, p, name, p.Profile.Source)
	demotest.Edit(t, p, name, `refers = ['^\s*play`,
		`refers = ['^\s*go (?P<map>\S+)', '^\s*also (?P<script>\S+)', '^\s*play`)
	demotest.Put(t, p, "scripts/winch.txt", []byte("go saltpan_relay\nalso winch\nalso gust\n"))
	p = demotest.Load(t, p.Dir)
	g = scan(t, p)
	winch = g.Find("script", "winch.txt")
	assert.Equal(t, []string{"map saltpan_relay", "script gust.txt"}, names(winch.Needs),
		"a script that names itself needs nothing more")
	shipped := names(assetgraph.Closure(g.Find(assetgraph.Map, "cairn_station")))
	assert.Contains(t, shipped, "script gust.txt")
	assert.NotContains(t, shipped, "map saltpan_relay")
	assert.NotContains(t, shipped, "texture water/brine")

	unused := names(assetgraph.Unused(g, []string{"pictures/ridge.png"}))
	assert.Equal(t, []string{"sound wind/gust"}, unused)
	demotest.Edit(t, p, "maps/cairn_station.vnx", " does=winch", "")
	assert.Equal(t, []string{"script gust.txt", "script winch.txt", "sound wind/gust"},
		names(assetgraph.Unused(scan(t, p), nil)))

	q := demotest.Project(t, "lower-sidings")
	g = scan(t, q)
	notice := g.Find("notice", "tram_depot.notice.txt")
	require.NotNil(t, notice)
	assert.Equal(t, []string{"map tram_depot"}, names(notice.NeededBy))
	assert.Equal(t, "levels/tram_depot.notice.txt", assetgraph.GamePath(q, notice))
	needed := assetgraph.Needed(g, nil)
	for _, file := range []string{"maps/tram_depot.vnx", "maps/tunnel.png", "sprites/lamp/glow/10.png",
		"maps/tram_depot.notice.txt"} {
		assert.True(t, needed[file], file)
	}
}
