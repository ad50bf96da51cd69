package gameserver_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/game/gameserver"
	"vornix/core/game/smoketest"
	"vornix/internal/demotest"
)

// put copies a file to a place in a server's folder.
func put(t *testing.T, from, to string) {
	t.Helper()
	data, err := os.ReadFile(from)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o777))
	require.NoError(t, os.WriteFile(to, data, 0o666))
}

func TestLoading(t *testing.T) {
	p := demotest.Built(t, "highline")
	file := demotest.Packed(t, p, false)[0]
	dir := t.TempDir()
	st, err := gameserver.Load(dir, p.Profile)
	require.NoError(t, err, "an empty server")
	assert.Empty(t, st.Maps)

	put(t, file, filepath.Join(dir, "parcels", "highline-1.0.0.parcel"))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "stations.txt"), []byte("# note\r\ncairn_station\r\nlost_station\r\n"), 0o666))
	require.NoError(t,
		os.WriteFile(filepath.Join(dir, "rota.txt"), []byte("lost_station dash\ncairn_station relay\n"), 0o666))
	st, err = gameserver.Load(dir, p.Profile)
	require.NoError(t, err)
	m := st.Find("cairn_station")
	require.NotNil(t, m)
	assert.True(t, m.Loaded)
	assert.Equal(t, 8, m.Spawns)
	assert.Equal(t, []gameserver.Missing{{Path: "sounds/station/bell.wav", Why: "it is not in the bundle",
		By: "maps/cairn_station.vnm", Sound: true}}, m.Missing)
	assert.Equal(t, "cairn_station", st.Playing, "the first of the rotation that loads")
	lost := st.Find("lost_station")
	require.NotNil(t, lost)
	assert.Contains(t, lost.Error, "in stations.txt and in no bundle")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "stations.txt"), nil, 0o666))
	st, err = gameserver.Load(dir, p.Profile)
	require.NoError(t, err)
	assert.Nil(t, st.Find("cairn_station"), "a map that the list doesn't name is not offered")
}

func TestWhatIsMissingOrDamagedIsNamed(t *testing.T) {
	p := demotest.Built(t, "highline")
	file := demotest.Packed(t, p, false)[0]
	dir := t.TempDir()
	to := filepath.Join(dir, "parcels", "a.parcel")
	p.Profile.Server.Maps = ""
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	load := func(data []byte) *gameserver.MapStatus {
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o777))
		require.NoError(t, os.WriteFile(to, data, 0o666))
		st, err := gameserver.Load(dir, p.Profile)
		require.NoError(t, err)
		require.NotEmpty(t, st.Maps)
		return &st.Maps[0]
	}
	assert.True(t, load(whole).Loaded)
	cut := load(whole[:len(whole)/2])
	assert.False(t, cut.Loaded)
	assert.Contains(t, cut.Error, "archive")

	renamed := []byte(strings.ReplaceAll(string(whole), "textures/wood/plank.ktx2", "textures/wood/plonk.ktx2"))
	m := load(renamed)
	assert.False(t, m.Loaded)
	assert.Contains(t, m.Error, "missing or damaged")
	require.NotEmpty(t, m.Missing)
	assert.Equal(t, gameserver.Missing{Path: "textures/wood/plank.ktx2", Why: "it is not in the bundle",
		By: "materials/wood/plank.toml"}, m.Missing[0])
	m = load([]byte(strings.ReplaceAll(string(whole), "materials/rock/slab.toml", "materials/rock/slob.toml")))
	assert.Contains(t, m.Missing,
		gameserver.Missing{Path: "materials/rock/slab.toml", Why: "it is not in the bundle",
			By: "maps/cairn_station.vnm"})

	other := []byte(strings.ReplaceAll(string(whole), "maps/cairn_station.vnm", "maps/cairn_statiom.vnm"))
	m = load(other)
	assert.Contains(t, m.Error, `says "cairn_statiom" and the map inside "cairn_station"`)
}

func TestServerAnswersOverHTTP(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	dir := t.TempDir()
	s, err := gameserver.Start(dir, p.Profile, gameserver.Options{Token: "secret"})
	require.NoError(t, err)
	address, err := os.ReadFile(filepath.Join(dir, gameserver.AddressFile))
	require.NoError(t, err)
	assert.Equal(t, s.URL+"\n", string(address))

	resp, err := http.Get(s.URL + "/status")
	require.NoError(t, err)
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	var st gameserver.Status
	require.NoError(t, json.Unmarshal(body, &st))
	assert.Equal(t, "Burrow Tramways", st.Game)
	assert.Empty(t, st.Maps)

	put(t, demotest.Packed(t, p, false)[0], filepath.Join(dir, "levels", "tram_depot.vnm"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "levels.txt"), []byte("tram_depot\n"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "timetable.txt"), []byte("tram_depot shift\n"), 0o666))
	ctx := context.Background()
	stranger, err := gameserver.Dial(ctx, s.URL, gameserver.Calls{})
	require.NoError(t, err)
	_, err = stranger.Reload(ctx)
	assert.ErrorContains(t, err, "401")
	resp, err = http.Post(s.URL+"/reload", "", nil)
	require.NoError(t, err)
	var refusal map[string]string
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&refusal))
	resp.Body.Close()
	assert.Equal(t, map[string]string{"error": "the token is missing or wrong"}, refusal)
	c, err := gameserver.Dial(ctx, s.URL, gameserver.Calls{Token: "secret"})
	require.NoError(t, err)
	before, err := c.Status(ctx)
	require.NoError(t, err)
	assert.Empty(t, before.Maps, "nothing is loaded before it is told")
	after, err := c.Reload(ctx)
	require.NoError(t, err)
	assert.Equal(t, "tram_depot", after.Playing)

	require.NoError(t, s.Close())
	assert.NoFileExists(t, filepath.Join(dir, gameserver.AddressFile))
	_, err = gameserver.Dial(ctx, s.URL, gameserver.Calls{})
	assert.Error(t, err)
}

func TestAnOccupiedAddressIsSaid(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	a, err := gameserver.Start(t.TempDir(), p.Profile, gameserver.Options{})
	require.NoError(t, err)
	defer a.Close()
	_, err = gameserver.Start(t.TempDir(), p.Profile, gameserver.Options{Listen: strings.TrimPrefix(a.URL, "http://")})
	assert.Equal(t, fault.Unreachable, fault.KindOf(err))
}

func TestCleanRoomHasNothingElse(t *testing.T) {
	p := demotest.Built(t, "highline")
	file := demotest.Packed(t, p, false)[0]
	ctx := context.Background()
	r, err := smoketest.Try(ctx, p.Profile, []string{file})
	require.NoError(t, err)
	require.Len(t, r.Maps, 2)
	assert.True(t, r.Maps[0].Loaded)
	assert.True(t, r.Maps[1].Loaded)
	assert.Equal(t, 31, r.Entries)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "try.silent", r.Findings[0].ID)

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	bad := filepath.Join(t.TempDir(), "bad.parcel")
	require.NoError(t,
		os.WriteFile(bad,
			[]byte(strings.ReplaceAll(string(whole), "materials/rock/slab.toml", "materials/rock/slob.toml")), 0o666))
	r, err = smoketest.Try(ctx, p.Profile, []string{bad})
	require.NoError(t, err)
	ids := map[string]int{}
	for _, f := range r.Findings {
		ids[f.ID]++
	}
	assert.Equal(t, map[string]int{"try.silent": 1, "try.missing": 2}, ids, "the project's own loose files do not help")

	// A model that an object shows has to be there, whole, and its materials too.
	demotest.Edit(t, p, "maps/saltpan_relay.vnx", "item winch at=3,3,0.6 facing=45 rank=1",
		"item winch at=3,3,0.6 facing=45 model=props/mail_crate rank=1 call=station/hum")
	file = demotest.Packed(t, demotest.Load(t, p.Dir), false)[0]
	r, err = smoketest.Try(ctx, p.Profile, []string{file})
	require.NoError(t, err)
	assert.True(t, r.Maps[1].Loaded)
	shown, err := os.ReadFile(file)
	require.NoError(t, err)
	for old, now := range map[string]string{"models/props/mail_crate.glb": "models/props/mail_crote.glb",
		"sounds/station/hum.wav": "sounds/station/ham.wav"} {
		require.NoError(t, os.WriteFile(bad, []byte(strings.ReplaceAll(string(shown), old, now)), 0o666))
		r, err = smoketest.Try(ctx, p.Profile, []string{bad})
		require.NoError(t, err)
		said := ""
		for _, f := range r.Findings {
			said += f.Text + "\n"
		}
		assert.Contains(t, said, "map saltpan_relay needs "+old)
	}

	spoilt := []byte(string(whole))
	spoilt[len(spoilt)/2] ^= 0xff
	require.NoError(t, os.WriteFile(bad, spoilt, 0o666))
	r, err = smoketest.Try(ctx, p.Profile, []string{bad})
	require.NoError(t, err)
	found := false
	for _, f := range r.Findings {
		found = found || f.ID == "try.unreadable" || f.ID == "try.missing"
	}
	assert.True(t, found, "a flipped byte in the middle is noticed")
	_, err = smoketest.Try(ctx, p.Profile, []string{"/nowhere.parcel"})
	assert.Error(t, err)
}

// A bot walks from each spawn to what the game requires; those behind a wall don't arrive, and the
// server says how many.
func TestBotsWalk(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	demotest.Edit(t, p, "maps/tram_depot.vnx", "spawn shed_1 at=3,2,0", "spawn shed_1 at=28,14,0")
	demotest.Edit(t, p, "maps/tram_depot.vnx",
		"  row #.,,,..............##......,...#\n  row #.............########.........#",
		"  row #.,,,..............###########.#\n  row #.............##########.......#")
	demotest.Edit(t, p, "maps/tram_depot.vnx", "  row #..,,......+==================o#",
		"  row #..,,......+==========##########")
	packed := demotest.Packed(t, p, true)[0]
	dir := t.TempDir()
	put(t, packed, filepath.Join(dir, "levels", filepath.Base(packed)))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "levels.txt"), []byte("tram_depot\n"), 0o666))
	st, err := gameserver.Load(dir, p.Profile)
	require.NoError(t, err)
	m := st.Find("tram_depot")
	require.NotNil(t, m)
	assert.Equal(t, 4, m.Bots)
	assert.Equal(t, 3, m.Arrived)
	assert.True(t, m.Loaded, "a cut-off spawn is no reason not to load it")
}

// The stand-in notices what changes in its folder, plays its rotation, and simulated players get
// whole bundles, however they are replaced.
func TestItWatchesAndPlays(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	whole, err := os.ReadFile(demotest.Packed(t, p, false)[0])
	require.NoError(t, err)
	dir := t.TempDir()
	s, err := gameserver.Start(dir, p.Profile, gameserver.Options{Watch: true, Players: 3, Token: "secret"})
	require.NoError(t, err)
	defer s.Close()
	write := func(rel, data string) { // as a deployment does: whole, at once
		name := filepath.Join(dir, filepath.FromSlash(rel))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "new"), []byte(data), 0o666))
		require.NoError(t, os.Rename(filepath.Join(dir, "new"), name))
	}
	until := func(say string, f func(st *gameserver.Status) bool) {
		t.Helper()
		require.Eventually(t, func() bool { return f(s.Status()) }, 10*time.Second, 10*time.Millisecond, say)
	}
	write("levels/tram_depot.vnm", string(whole))
	write("levels.txt", "tram_depot\n")
	write("timetable.txt", "no_such shift\ntram_depot shift\n")
	until("it plays what was put there", func(st *gameserver.Status) bool { return st.Playing == "tram_depot" })
	until("players get it", func(st *gameserver.Status) bool { return st.Players.Loaded >= 3*int64(len(whole)) })
	for range 5 { // another file of the same name, again and again
		write("levels/tram_depot.vnm", string(whole))
		time.Sleep(20 * time.Millisecond)
	}
	until("players go on", func(st *gameserver.Status) bool { return st.Players.Joined > 20 })
	assert.Zero(t, s.Status().Players.Failed, s.Status().Players.Why)

	// Half a bundle, copied over the old one in place: the map is not loaded, and it says why.
	require.NoError(t, os.WriteFile(filepath.Join(dir, "levels", "tram_depot.vnm"), whole[:len(whole)/2], 0o666))
	until("half a file is noticed", func(st *gameserver.Status) bool {
		m := st.Find("tram_depot")
		return m != nil && !m.Loaded && m.Error != "" && st.Playing == ""
	})
	resp, err := http.Get(s.URL + "/events")
	require.NoError(t, err)
	text, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(text), "something has changed")
	for path, code := range map[string]int{"/files/tram_depot.vnm": 200, "/files/..%2Flevels.txt": 404,
		"/files/stand-server.url": 404} {
		resp, err := http.Get(s.URL + path)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, code, resp.StatusCode, path)
	}
}

func TestItGoesWrongAsItIsTold(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	whole, err := os.ReadFile(demotest.Packed(t, p, false)[0])
	require.NoError(t, err)
	dir := t.TempDir()
	for name, data := range map[string]string{"levels/tram_depot.vnm": string(whole), "levels.txt": "tram_depot\n",
		"timetable.txt": "tram_depot a\ntram_depot b\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o666))
	}
	s, err := gameserver.Start(dir, p.Profile, gameserver.Options{Token: "secret"})
	require.NoError(t, err)
	defer s.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	post := func(path, body, token string) int {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return 0
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	c, err := gameserver.Dial(ctx, s.URL, gameserver.Calls{Token: "secret"})
	require.NoError(t, err)
	assert.Equal(t, 401, post("/fail", `{"mode":"error"}`, "wrong"))
	assert.Equal(t, 400, post("/fail", `{"mode":"sulk"}`, "secret"))
	assert.Equal(t, 204, post("/fail", `{"mode":"load","map":"tram_depot"}`, "secret"))
	st, err := c.Reload(ctx)
	require.NoError(t, err)
	assert.False(t, st.Find("tram_depot").Loaded)
	assert.Equal(t, "load", st.Failing)
	for _, mode := range []string{"error", "drop"} {
		assert.Equal(t, 204, post("/fail", `{"mode":"`+mode+`"}`, "secret"))
		_, err = c.Status(ctx)
		assert.Error(t, err, mode)
	}
	assert.Equal(t, 204, post("/fail", `{"mode":"hang"}`, "secret"))
	short, stop := context.WithTimeout(ctx, 50*time.Millisecond)
	_, err = c.Status(short)
	stop()
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, 204, post("/fail", `{"mode":"deaf"}`, "secret"))
	st, err = c.Reload(ctx)
	require.NoError(t, err)
	assert.False(t, st.Find("tram_depot").Loaded, "it did not load anew")
	assert.Equal(t, 204, post("/fail", `{"mode":""}`, "secret"))
	st, err = c.Reload(ctx)
	require.NoError(t, err)
	assert.Equal(t, "tram_depot", st.Playing)
	assert.Equal(t, 200, post("/next", "", "secret"))
	assert.Equal(t, 204, post("/fail", `{"mode":"crash"}`, "secret"))
	_, err = c.Reload(ctx)
	assert.Error(t, err)
	select {
	case <-s.Ended():
	case <-ctx.Done():
		t.Fatal("it did not end")
	}
	_, err = gameserver.Start(dir, p.Profile, gameserver.Options{Fail: gameserver.Failure{Mode: "sulk"}})
	assert.Equal(t, fault.Usage, fault.KindOf(err))
}
