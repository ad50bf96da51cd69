package gamefs_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/format/mapfile"
	"vornix/core/game/gamefs"
	"vornix/internal/demotest"
)

// game is a demo project as a game sees it: its tree, of which some files may be hidden.
func game(t *testing.T, p *project.Project) (read func(hidden ...string) func(string) ([]byte, error)) {
	t.Helper()
	demotest.Tree(t, p, false)
	return func(hidden ...string) func(string) ([]byte, error) {
		return func(gamePath string) ([]byte, error) {
			if slices.Contains(hidden, gamePath) {
				return nil, fs.ErrNotExist
			}
			return os.ReadFile(filepath.Join(p.Join(project.TreeDir), filepath.FromSlash(gamePath)))
		}
	}
}

func said(list []gamefs.Need) (out []string) {
	for _, n := range list {
		s := n.Path
		if n.By != "" {
			s += " by " + n.By
		}
		if n.Why != "" {
			s += ": " + n.Why
		}
		out = append(out, s)
	}
	slices.Sort(out)
	return out
}

// Whatever kind of file one begins with, all that it refers to is found, and by whom; of what is
// not there that is said.
func TestOfEachKind(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Edit(t, p, "maps/saltpan_relay.vnx", "item winch at=3,3,0.6 facing=45 rank=1",
		"item winch at=3,3,0.6 facing=45 rank=1 model=props/mail_crate")
	read := game(t, p)
	for begin, want := range map[string][]string{
		"textures/rock/slab.ktx2": {"textures/rock/slab.ktx2"},
		"materials/rock/cairn_wet.toml": {"materials/rock/cairn_wet.toml",
			"textures/rock/cairn.ktx2 by materials/rock/cairn_wet.toml",
			"textures/rock/cairn_bumps.ktx2 by materials/rock/cairn_wet.toml"},
		"models/props/mail_crate.glb": {"materials/metal/rail.toml by models/props/mail_crate.glb",
			"materials/wood/plank.toml by models/props/mail_crate.glb", "models/props/mail_crate.glb",
			"textures/metal/rail.ktx2 by materials/metal/rail.toml",
			"textures/wood/plank.ktx2 by materials/wood/plank.toml"},
		"scripts/winch.txt": {"materials/lamp/amber.toml by scripts/winch.txt", "scripts/winch.txt",
			"sounds/station/hum.wav by scripts/winch.txt", "textures/lamp/amber.ktx2 by materials/lamp/amber.toml"},
		"routes/north.json": {"maps/cairn_station.vnm by routes/north.json",
			"maps/saltpan_relay.vnm by routes/north.json", "routes/north.json"},
		"nowhere.bin": {"nowhere.bin: " + gamefs.ErrNotThere.Error()},
	} {
		assert.Equal(t, want, said(gamefs.NeedsOf(p.Profile, begin, read())), begin)
	}
	relay := said(gamefs.NeedsOf(p.Profile, "maps/saltpan_relay.vnm", read()))
	assert.Contains(t, relay, "models/props/mail_crate.glb by maps/saltpan_relay.vnm")
	assert.Contains(t, relay, "sounds/station/hum.wav by maps/saltpan_relay.vnm")
	for _, hidden := range []string{"textures/metal/rail.ktx2", "materials/water/brine.toml", "sounds/station/hum.wav",
		"models/props/mail_crate.glb"} {
		missing := 0
		for _, n := range gamefs.NeedsOf(p.Profile, "maps/saltpan_relay.vnm", read(hidden)) {
			if n.Why != "" {
				missing++
				assert.Equal(t, hidden, n.Path)
				assert.Equal(t, strings.HasPrefix(hidden, "sounds/"), n.Sound)
			}
		}
		assert.Equal(t, 1, missing, hidden)
	}
	q := demotest.Built(t, "lower-sidings")
	read = game(t, q)
	mole := said(gamefs.NeedsOf(q.Profile, "creatures/mole.json", read()))
	assert.Equal(t, []string{"creatures/mole.dds by creatures/mole.json", "creatures/mole.json"}, mole)
	depot := said(gamefs.NeedsOf(q.Profile, "levels/tram_depot.vnm", read()))
	assert.Contains(t, depot, "creatures/mole.json by levels/tram_depot.vnm")
	assert.Contains(t, depot, "levels/tram_depot.notice.txt by levels/tram_depot.vnm", "its companion")
	assert.NotContains(t,
		strings.Join(said(gamefs.NeedsOf(q.Profile, "levels/tram_depot.vnm", read("levels/tram_depot.notice.txt"))),
			" "),
		"notice", "which it need not have")
}

// Damaged files are told from missing ones, the game's own are passed over and named to whoever
// asks, and a map whose script leads back to it is no circle.
func TestDamagedOwnAndCircles(t *testing.T) {
	p := demotest.Built(t, "highline")
	read := game(t, p)
	for path, junk := range map[string]string{"textures/wood/plank.ktx2": "junk", "materials/rock/slab.toml": "= no",
		"sounds/station/hum.wav": "RIFF", "scripts/winch.txt": "\xff\xfe\x00"} {
		found := ""
		for _, n := range gamefs.NeedsOf(p.Profile, "maps/cairn_station.vnm", func(gamePath string) ([]byte, error) {
			if gamePath == path {
				return []byte(junk), nil
			}
			return read()(gamePath)
		}) {
			if n.Path == path {
				found = n.Why
			}
		}
		assert.NotEmpty(t, found, path)
		assert.NotEqual(t, gamefs.ErrNotThere.Error(), found, path)
	}
	broken := gamefs.NeedsOf(p.Profile, "maps/cairn_station.vnm",
		func(string) ([]byte, error) { return []byte("no map"), nil })
	require.Len(t, broken, 1)
	assert.NotEmpty(t, broken[0].Why)

	data, err := read()("maps/cairn_station.vnm")
	require.NoError(t, err)
	m, err := mapfile.Read(data)
	require.NoError(t, err)
	var own []string
	hidden := read("textures/wood/plank.ktx2", "sounds/station/bell.wav")
	p.Profile.Files.Own = []string{"textures/wood/**", "sounds/station/bell.ogg"}
	for _, n := range gamefs.Follow(p.Profile, "maps/cairn_station.vnm", m, hidden,
		func(at string) { own = append(own, at) }) {
		assert.Empty(t, n.Why, n.Path)
	}
	assert.ElementsMatch(t, []string{"textures/wood/plank.ktx2", "sounds/station/bell.ogg"}, own)

	name := "profiles/kestrel-post.toml"
	demotest.Edit(t, p, name, `refers = ['^\s*play`,
		`refers = ['^\s*go (?P<map>\S+)', '^\s*also (?P<script>\S+)', '^\s*play`)
	p = demotest.Load(t, p.Dir)
	circle := func(gamePath string) ([]byte, error) {
		if gamePath == "scripts/winch.txt" {
			return []byte("go cairn_station\nalso winch\n"), nil
		}
		return read()(gamePath)
	}
	list := gamefs.NeedsOf(p.Profile, "scripts/winch.txt", circle)
	assert.Equal(t, []string{"maps/cairn_station.vnm by scripts/winch.txt", "scripts/winch.txt"}, said(list))
	twice := map[string]int{}
	for _, n := range gamefs.NeedsOf(p.Profile, "maps/cairn_station.vnm", circle) {
		twice[n.Path]++
	}
	for path, n := range twice {
		assert.Equal(t, 1, n, path)
	}
}
