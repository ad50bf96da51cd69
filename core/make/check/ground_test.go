package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/profile"
	"vornix/core/format/model"
	"vornix/core/make/check"
	"vornix/core/source/maplang"
)

// about are the findings of a map by id, of the least game there is; crate gives the shape of every prop.
func about(t *testing.T, lines string, crate *model.Model) map[string][]string {
	t.Helper()
	p, err := profile.Parse("g.toml",
		[]byte("[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n[map]\nprobes = true\nremoval_volume = true\n"))
	require.NoError(t, err)
	m, findings := maplang.Read("m.vnx", []byte("map m title=\"M\" players=1..1\n"+lines), maplang.Options{})
	require.Empty(t, findings)
	list := map[string][]string{}
	for _, f := range check.Map(p, m, "m.vnx", func(string) *model.Model { return crate }) {
		list[f.ID] = append(list[f.ID], f.Text)
	}
	return list
}

// Where a spawn may stand: on slopes, on turned solids, on props that stop players; not in them, not above nothing.
func TestWhereSpawnsMayStand(t *testing.T) {
	source := "solid a box -1,-1,0 1,1,1 material=a\n"
	scene, findings := maplang.Read("c.vnx", []byte("map c\n"+source), maplang.Options{})
	require.Empty(t, findings)
	crate := &model.Model{Box: scene.Solids[0].Box}
	floor := "solid floor box 0,0,-1 20,20,0 material=a\n"
	for _, c := range []struct {
		lines, id string
		found     bool
	}{
		{floor + "spawn s at=5,5,0\n", "spawn.blocked", false},
		{floor + "solid w wedge 4,4,0 8,8,2 rise=east material=a\nspawn s at=6,6,1.2\n", "spawn.outside", false},
		{floor + "solid w wedge 4,4,0 8,8,2 rise=east material=a\nspawn s at=7.5,6,1.2\n", "spawn.blocked", true},
		{floor + "solid low box 4,4,1.5 8,8,2 material=a\nspawn s at=6,6,0\n", "spawn.blocked", true},
		{floor + "solid high box 4,4,1.9 8,8,2 material=a\nspawn s at=6,6,0\n", "spawn.blocked", false},
		{floor + "group g at=5,5,0 turn=45\n  solid w box -0.1,-3,0 0.1,3,3 material=a\nspawn s at=6.5,6.5,0\n",
			"spawn.blocked", false},
		{floor + "group g at=5,5,0 turn=45\n  solid w box -0.1,-3,0 0.1,3,3 material=a\nspawn s at=3.9,6.1,0\n",
			"spawn.blocked", true},
		{floor + "spawn s at=30,5,0\n", "spawn.outside", true},
		{floor + "spawn s at=5,5,9.9\n", "spawn.outside", false},
		{floor + "spawn s at=5,5,10.3\n", "spawn.outside", true},
		{floor + "prop c model=x at=30,5,0 turn=30\nspawn s at=30,5,1\n", "spawn.outside", false},
		{floor + "prop c model=x at=30,5,0 solid=no\nspawn s at=30,5,1\n", "spawn.outside", true},
		{floor + "spawn s at=5,5,0\nspawn r at=5.5,5,0\n", "spawn.crowded", true},
		{floor + "spawn s at=5,5,0\nspawn r at=5.7,5,0\n", "spawn.crowded", false},
		{floor + "spawn s at=5,5,0\nspawn r at=5,5,3\n", "spawn.crowded", false},
	} {
		got := about(t, c.lines, crate)
		assert.Equal(t, c.found, got[c.id] != nil, "%s\n%v", c.lines, got)
	}
	assert.Contains(t, about(t, floor+"prop c model=x at=5,5,0\nspawn s at=9,9,0\n", nil), "probe.uncovered",
		"a missing model is no ground, and no crash")
}

func TestProbesVolumesAndWhatLiesAway(t *testing.T) {
	floor := "solid floor box 0,0,-1 20,20,0 material=a\nsolid roof hull 0,0,5 20,0,5 10,10,25 0,20,5 20,20,5 material=a\nspawn s at=5,5,0\n"
	assert.Equal(t, []string{"no probe reaches 5 of 5 places where players can stand, such as 0.0,0.0,1.5"},
		about(t, floor, nil)["probe.uncovered"], "a steep roof is no floor")
	assert.Empty(t, about(t, floor+"probe p at=10,10,2 reach=15\n", nil)["probe.uncovered"])
	assert.Len(t, about(t, floor+"probe p at=0,0,2 reach=16\n", nil)["probe.uncovered"], 1)
	assert.Empty(t, about(t, floor+"probe p at=0,0,2 reach=16\nprobe q at=20,20,2 reach=21\n", nil)["probe.uncovered"],
		"two together")
	below := "volume v box -1,-1,-9 21,21,-2 effect=remove\n"
	assert.Empty(t, about(t, floor+below, nil)["volume.none-below"])
	assert.Len(t, about(t, floor+"volume v box -1,-1,-9 15,21,-2 effect=remove\n", nil)["volume.none-below"], 1,
		"it does not reach all of the map")
	assert.Len(t, about(t, floor+"volume v box -1,-1,-9 21,21,1 effect=remove\n", nil)["volume.none-below"], 1,
		"it takes those who stand")
	away := about(t,
		floor+"item flag at=24,10,0\nitem flag at=40,10,0\nlight l point 10,10,60 power=1\nlight sun sun 10,10,600 power=1\nsound s at=0,0,-90 file=a\nprobe p at=10,90,0 reach=9\n", nil)["object.outside"]
	assert.Len(t, away, 4, "%v", away)
}
