package patch

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/base/transaction"
	"vornix/core/format/zipfile"
)

var ctx = context.Background()

// write makes files in a folder.
func write(t testing.TB, dir string, files map[string]string) string {
	t.Helper()
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

// files are the contents of a folder, without records.
func files(t testing.TB, dir string) map[string]string {
	t.Helper()
	list := map[string]string{}
	s, err := LoadSide(ctx, dir)
	require.NoError(t, err)
	for _, f := range s.Files {
		data, err := os.ReadFile(f.System)
		require.NoError(t, err)
		list[f.Path] = string(data)
	}
	return list
}

// made makes a patch between two sides.
func made(t testing.TB, old, now string, o Options) string {
	t.Helper()
	a, err := LoadSide(ctx, old)
	require.NoError(t, err)
	b, err := LoadSide(ctx, now)
	require.NoError(t, err)
	dir := t.TempDir()
	d, err := safefile.OpenDir(dir)
	require.NoError(t, err)
	defer d.Close()
	out, err := d.Create("p" + Ending)
	require.NoError(t, err)
	_, err = Make(ctx, a, b, out, o)
	require.NoError(t, err)
	require.NoError(t, out.Commit())
	return filepath.Join(dir, "p"+Ending)
}

func open(t testing.TB, name string) *Opened {
	t.Helper()
	o, err := Open(name)
	require.NoError(t, err)
	t.Cleanup(o.Close)
	return o
}

// apply applies patches to a place.
func apply(t testing.TB, where string, o ApplyOptions, patches ...*Opened) (*Plan, *transaction.Record, error) {
	t.Helper()
	p, err := Prepare(ctx, where, patches[:1], patches[1:], o)
	if err != nil {
		return nil, nil, err
	}
	r, err := p.Apply(ctx, o)
	return p, r, err
}

// undo takes the last change of a folder back.
func undo(t testing.TB, dir string) error {
	t.Helper()
	f, err := transaction.Open(ctx, dir, "test")
	require.NoError(t, err)
	defer f.Close()
	list := f.Records()
	for i := len(list) - 1; i >= 0; i-- {
		if !list[i].Undone {
			_, err := f.RollBack(ctx, &list[i], transaction.Refuse)
			return err
		}
	}
	return errors.New("there is nothing to undo")
}

func noise(seed uint64, n int) string {
	r := rand.New(rand.NewPCG(seed, 1))
	var b strings.Builder
	for b.Len() < n {
		fmt.Fprintf(&b, "%x ", r.Uint64())
	}
	return b.String()[:n]
}

// mod is a folder of a mod; with changes of every kind.
func mod() (old, now map[string]string) {
	long := noise(1, 90_000)
	old = map[string]string{"maps/cairn.vnm": long, "textures/rock.ktx2": noise(2, 5000),
		"textures/snow.ktx2": noise(3, 4000), "sounds/wind.wav": noise(4, 3000), "sounds/gone.wav": noise(5, 900),
		"keys.ini": "[keys]\nup = w\ndown = s\n", "notes.txt": "one\ntwo\nthree\n", "same.txt": "the same"}
	now = map[string]string{"maps/cairn.vnm": long[:40_000] + "a change" + long[40_000:],
		"textures/stone.ktx2": old["textures/rock.ktx2"], "textures/snow.ktx2": noise(9, 4000),
		"sounds/wind.wav":  old["sounds/wind.wav"],
		"sounds/wind2.wav": old["sounds/wind.wav"], "keys.ini": "[keys]\nup = e\ndown = s\n",
		"notes.txt": "one\ntwo and a half\nthree\n", "same.txt": "the same", "new/thing.txt": "new"}
	return old, now
}

// Every kind of step, applied to a mod that lies somewhere in a game, and back.
func TestFolders(t *testing.T) {
	old, now := mod()
	name := made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now),
		Options{Title: "Highline", From: "1.0.0", To: "1.1.0", Workers: 2})
	p := open(t, name)
	kinds := map[string]string{}
	for _, s := range p.Steps {
		kinds[s.Path] = s.Do
	}
	assert.Equal(t, map[string]string{"maps/cairn.vnm": "delta", "textures/stone.ktx2": "rename",
		"textures/snow.ktx2": "replace", "sounds/wind2.wav": "copy", "keys.ini": "edit", "notes.txt": "edit",
		"new/thing.txt":      "add",
		"textures/rock.ktx2": "remove", "sounds/gone.wav": "remove"}, kinds)
	assert.Less(t, p.Size, int64(8000))
	again, err := os.ReadFile(made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now),
		Options{Title: "Highline", From: "1.0.0", To: "1.1.0", Workers: 1}))
	require.NoError(t, err)
	first, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(first, again), "the same patch has other bytes")

	game := write(t, t.TempDir(), map[string]string{"game.exe": "the game", "mods/other/maps/cairn.vnm": "another one"})
	home := write(t, filepath.Join(game, "mods", "highline"), old)
	write(t, home, map[string]string{"save.dat": "a player's"})
	require.NoError(t, os.Chmod(filepath.Join(home, "maps", "cairn.vnm"), 0o750))
	before := files(t, game)
	plan, r, err := apply(t, game, ApplyOptions{Workers: 2}, p)
	require.NoError(t, err)
	assert.Equal(t, filepath.ToSlash(home), plan.Place)
	assert.Len(t, r.Files, 9)
	now["save.dat"] = "a player's"
	assert.Equal(t, now, files(t, home))
	info, err := os.Stat(filepath.Join(home, "maps", "cairn.vnm"))
	require.NoError(t, err)
	if info.Mode().Perm()&0o100 == 0 {
		assert.Equal(t, "\\", string(filepath.Separator), "who may run the file is lost")
	}
	plan, _, err = apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.True(t, plan.Already)
	require.NoError(t, undo(t, home))
	assert.Equal(t, before, files(t, game))
	to := filepath.Join(t.TempDir(), "result")
	_, _, err = apply(t, home, ApplyOptions{To: to}, p)
	require.NoError(t, err)
	delete(now, "save.dat")
	assert.Equal(t, now, files(t, to))
	assert.Equal(t, before, files(t, game), "writing elsewhere changes nothing here")
}

// One file, under whatever name, becomes what the patch says, under the name that it says, with what comes along.
func TestOneFile(t *testing.T) {
	src := write(t, t.TempDir(),
		map[string]string{"highline-1.0.0.parcel": noise(1, 50_000), "highline-1.1.0.parcel": noise(1, 50_000) + "more",
			"info.txt": "read me", "card.jpg": "a picture"})
	p := open(t, made(t, filepath.Join(src, "highline-1.0.0.parcel"), filepath.Join(src, "highline-1.1.0.parcel"),
		Options{To: "1.1.0",
			Bring: map[string]string{"info/readme.txt": filepath.Join(src, "info.txt"),
				"card.jpg": filepath.Join(src, "card.jpg")}}))
	assert.Less(t, p.Size, int64(4000))
	for _, name := range []string{"highline-1.0.0.parcel", "highline (1).parcel"} {
		game := write(t, t.TempDir(),
			map[string]string{"parcels/" + name: noise(1, 50_000), "parcels/same size.bin": noise(2, 50_000),
				"parcels/card.jpg": "an older one"})
		before := files(t, game)
		where := game
		if name != "highline-1.0.0.parcel" {
			where = filepath.Join(game, "parcels", name)
		}
		_, _, err := apply(t, where, ApplyOptions{}, p)
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"parcels/highline-1.1.0.parcel": noise(1, 50_000) + "more",
			"parcels/same size.bin": noise(2, 50_000), "parcels/info/readme.txt": "read me",
			"parcels/card.jpg": "a picture"}, files(t, game))
		require.NoError(t, undo(t, filepath.Join(game, "parcels")))
		assert.Equal(t, before, files(t, game))
	}
	kept := open(t, made(t, filepath.Join(src, "highline-1.0.0.parcel"), filepath.Join(src, "highline-1.1.0.parcel"),
		Options{KeepBase: true}))
	game := write(t, t.TempDir(), map[string]string{"highline-1.0.0.parcel": noise(1, 50_000)})
	_, _, err := apply(t, game, ApplyOptions{}, kept)
	require.NoError(t, err)
	assert.Len(t, files(t, game), 2)
	twice := write(t, t.TempDir(), map[string]string{"a/x.parcel": noise(1, 50_000), "b/x.parcel": noise(1, 50_000)})
	_, _, err = apply(t, twice, ApplyOptions{}, p)
	assert.ErrorContains(t, err, "more than once")
}

// A wrong base is named: which version it is, or where it differs and by how much, down to the entry of an archive.
func TestWrongBases(t *testing.T) {
	pack := func(wind string) string {
		var m memory
		_, err := zipfile.Pack(ctx,
			[]zipfile.Source{entryOf("maps/cairn.vnm", noise(1, 60_000)), entryOf("sounds/wind.wav", wind)},
			zipfile.Options{}, func(int) (zipfile.Sink, int64, error) { return &m, 0, nil })
		require.NoError(t, err)
		return m.String()
	}
	base, result := pack(noise(2, 30_000)), pack(noise(3, 30_000))
	src := write(t, t.TempDir(),
		map[string]string{"a/h.parcel": base, "b/h.parcel": result, "c/h.parcel": pack("an older one")})
	old, err := LoadSide(ctx, filepath.Join(src, "c", "h.parcel"))
	require.NoError(t, err)
	p := open(t, made(t, filepath.Join(src, "a", "h.parcel"), filepath.Join(src, "b", "h.parcel"),
		Options{Title: "Highline", From: "1.1.0", To: "1.2.0",
			Known: []Known{{"1.0.0", map[string]string{"h.parcel": old.Files[0].SHA256}}}}))
	_, _, err = apply(t, filepath.Join(src, "c"), ApplyOptions{}, p)
	var wrong *WrongBaseError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, "1.0.0", wrong.Version)
	assert.ErrorContains(t, err, "this is version 1.0.0, and the patch is for Highline 1.1.0")

	spoilt := []byte(base)
	spoilt[len(spoilt)-8000] ^= 1 // in the last entry
	game := write(t, t.TempDir(), map[string]string{"h.parcel": string(spoilt)})
	_, _, err = apply(t, game, ApplyOptions{}, p)
	require.ErrorAs(t, err, &wrong)
	require.Len(t, wrong.Wrong, 1)
	w := wrong.Wrong[0]
	assert.Equal(t, []any{"h.parcel", int64(4096), 1, "sounds/wind.wav"}, []any{w.Path, w.Differ, w.Places, w.Inside})
	assert.InDelta(t, len(spoilt)-8000, w.First, 4096)
	assert.Equal(t, string(spoilt), files(t, game)["h.parcel"])
	_, _, err = apply(t, write(t, t.TempDir(), map[string]string{"else.txt": "something"}), ApplyOptions{}, p)
	assert.ErrorContains(t, err, "not there")

	folder, changed := mod()
	fp := open(t, made(t, write(t, t.TempDir(), folder), write(t, t.TempDir(), changed), Options{}))
	delete(folder, "sounds/gone.wav")
	folder["textures/rock.ktx2"] = "something else"
	folder["same.txt"] = "somebody's, and nothing that the patch touches"
	_, _, err = apply(t, write(t, t.TempDir(), folder), ApplyOptions{}, fp)
	require.ErrorAs(t, err, &wrong)
	require.Len(t, wrong.Wrong, 2)
	assert.True(t, wrong.Wrong[0].Gone)
	assert.Equal(t, "textures/rock.ktx2", wrong.Wrong[1].Path)
}

// memory is an archive being written.
type memory struct{ bytes.Buffer }

func (m *memory) Patch(b []byte, at int64) error { copy(m.Bytes()[at:], b); return nil }

func entryOf(name, data string) zipfile.Source {
	return zipfile.Source{Name: name, Size: int64(len(data)), Method: zipfile.Deflate,
		Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(data)), nil }}
}

// Several patches are applied one after the other, at once, and undone at once; the shortest way is taken.
func TestChains(t *testing.T) {
	dir := t.TempDir()
	for i := range 4 {
		write(t, dir, map[string]string{fmt.Sprintf("%d/h-1.%d.0.parcel", i, i): noise(1, 20_000) + fmt.Sprint(i),
			fmt.Sprintf("%d/rock.bin", i): noise(uint64(i/2), 9000)})
	}
	step := func(a, b int) *Opened {
		return open(t, made(t, filepath.Join(dir, fmt.Sprint(a)), filepath.Join(dir, fmt.Sprint(b)),
			Options{Title: "H", From: fmt.Sprintf("1.%d.0", a), To: fmt.Sprintf("1.%d.0", b)}))
	}
	p01, p12, p23, p02 := step(0, 1), step(1, 2), step(2, 3), step(0, 2)
	game := write(t, t.TempDir(), files(t, filepath.Join(dir, "0")))
	before := files(t, game)
	plan, _, err := apply(t, game, ApplyOptions{}, p23, p01, p12)
	require.NoError(t, err)
	assert.Len(t, plan.Patches, 3)
	assert.Equal(t, files(t, filepath.Join(dir, "3")), files(t, game))
	require.NoError(t, undo(t, game))
	assert.Equal(t, before, files(t, game))

	plan, err = Prepare(ctx, game, []*Opened{p01, p12, p23, p02}, nil, ApplyOptions{})
	require.NoError(t, err)
	assert.Equal(t, []string{p02.Name, p23.Name}, plan.Patches, "the newest that can be reached, by the shortest way")
	_, err = Prepare(ctx, game, []*Opened{p23}, []*Opened{p12}, ApplyOptions{})
	var wrong *WrongBaseError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, []string{"1.1.0", "1.2.0"}, wrong.Leads)
}

// With patches between all of many versions at hand the way is found at once: there are more ways
// than anybody can count.
func TestManyWays(t *testing.T) {
	var all []*Opened
	for i := range 30 {
		for j := i + 1; j < 30; j++ {
			p := &Opened{Name: fmt.Sprint(i, " to ", j), Size: int64(100 + (j-i)*(j-i))}
			p.Base, p.Result = stateOf([]File{{"x", int64(i), fmt.Sprintf("%064x", i)}}),
				stateOf([]File{{"x", int64(j), fmt.Sprintf("%064x", j)}})
			p.From, p.To = fmt.Sprintf("1.%d.0", i), fmt.Sprintf("1.%d.0", j)
			p.Steps = []Step{{Do: DoReplace, Path: "x"}}
			all = append(all, p)
		}
	}
	l := &listing{ctx: ctx, files: map[string]*listed{"x": {size: 0, sum: fmt.Sprintf("%064x", 0)}},
		order: []string{"x"}}
	f := &finder{ctx: ctx, l: l, fits: map[*Opened]*fit{}, done: map[*Opened]*fit{}}
	way, err := f.route(all, all)
	require.NoError(t, err)
	var bytes int64
	for i, p := range way {
		bytes += p.Size
		assert.True(t, i == 0 || way[i-1].To == p.From)
	}
	assert.Equal(t, []string{"1.0.0", "1.29.0"}, []string{way[0].From, way[len(way)-1].To})
	assert.EqualValues(t, 3*(100+100)-19, bytes, "steps of 10, 10 and 9")
}

// Texts that a player changed get the change merged into them; a contradiction is shown and decided by word only.
func TestTextsOfPlayers(t *testing.T) {
	old := map[string]string{"keys.ini": "; keys\n[keys]\nup = w\ndown = s\nleft = a\n",
		"notes.txt": "one\ntwo\nthree\nfour\nfive\n"}
	now := map[string]string{"keys.ini": "; keys\n[keys]\nup = w\ndown = x\nleft = a\njump = q\n",
		"notes.txt": "one\ntwo\nthree\nfour\nfive\nsix\n"}
	p := open(t, made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now), Options{}))
	game := write(t, t.TempDir(),
		map[string]string{"keys.ini": "; keys\r\n[keys]\r\nup = i\r\ndown = s\r\nleft = j\r\n",
			"notes.txt": "zero\none\ntwo\nthree\nfour\nfive\n"})
	before := files(t, game)
	plan, r, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Len(t, plan.Notes, 2)
	assert.NotEmpty(t, r.Notes)
	assert.Equal(t, map[string]string{"keys.ini": "; keys\r\n[keys]\r\nup = i\r\ndown = x\r\nleft = j\r\njump = q\r\n",
		"notes.txt": "zero\none\ntwo\nthree\nfour\nfive\nsix\n"}, files(t, game))
	require.NoError(t, undo(t, game))
	assert.Equal(t, before, files(t, game))

	write(t, game, map[string]string{"keys.ini": "; keys\n[keys]\nup = w\ndown = z\nleft = a\n"})
	_, _, err = apply(t, game, ApplyOptions{}, p)
	var c *ConflictError
	require.ErrorAs(t, err, &c)
	require.Len(t, c.Files, 1)
	assert.Equal(t, []string{"keys.down", "s", "z", "x"},
		[]string{c.Files[0].Places[0].Key, c.Files[0].Places[0].Base, c.Files[0].Places[0].Ours,
			c.Files[0].Places[0].Theirs})
	for policy, want := range map[Conflicts]string{Keep: "z", Take: "x"} {
		_, _, err = apply(t, game, ApplyOptions{Conflicts: policy}, p)
		require.NoError(t, err)
		assert.Equal(t, "; keys\n[keys]\nup = w\ndown = "+want+"\nleft = a\njump = q\n", files(t, game)["keys.ini"],
			policy)
		require.NoError(t, undo(t, game))
	}
}

// Settings are changed in whatever the player has, once and only once.
func TestSettings(t *testing.T) {
	src := write(t, t.TempDir(), map[string]string{"a.bin": noise(1, 9000), "b.bin": noise(1, 9000) + "!"})
	steps := []Step{{Do: DoSettings, Path: "kestrel.cfg", Form: "ini",
		Lines: []Line{{Add: "mount parcels/highline", After: "# mods"}},
		Set:   []Setting{{[]string{"video", "shadows"}, "high"}}, Remove: [][]string{{"video", "old"}}},
		{Do: DoSettings, Path: "mods.txt", Form: "text", Lines: []Line{{Add: "highline"}}}}
	p := open(t, made(t, filepath.Join(src, "a.bin"), filepath.Join(src, "b.bin"),
		Options{Settings: steps, KeepBase: true}))
	game := write(t, t.TempDir(),
		map[string]string{"a.bin": noise(1, 9000),
			"kestrel.cfg": "# mods\nmount parcels/base\n[video]\nshadows = low\nold = 1\n"})
	before := files(t, game)
	_, _, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	got := files(t, game)
	assert.Equal(t, "# mods\nmount parcels/highline\nmount parcels/base\n[video]\nshadows = high\n", got["kestrel.cfg"])
	assert.Equal(t, "highline\n", got["mods.txt"])
	require.NoError(t, undo(t, game))
	assert.Equal(t, before, files(t, game))
	write(t, game, map[string]string{"kestrel.cfg": got["kestrel.cfg"]})
	plan, r, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, got, files(t, game))
	assert.Len(t, r.Files, 2, "what is so already is left alone")
	assert.Contains(t, plan.Actions,
		FileChange{Path: "kestrel.cfg", Do: "leave", Why: "it has all of that already",
			Old: int64(len(got["kestrel.cfg"])),
			New: int64(len(got["kestrel.cfg"]))})
}

// Settings alone need no base; a patch that touches nothing of its base still wants all of it.
func TestSettingsAlone(t *testing.T) {
	steps := []Step{{Do: DoSettings, Path: "mods.txt", Form: "text", Lines: []Line{{Add: "highline"}}}}
	p := open(t, made(t, t.TempDir(), t.TempDir(), Options{Settings: steps}))
	game := write(t, t.TempDir(), map[string]string{"mods.txt": "other\n"})
	_, _, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, "other\nhighline\n", files(t, game)["mods.txt"])
	again, r, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Nil(t, r)
	assert.True(t, again.Already)

	less := open(t, made(t, write(t, t.TempDir(), map[string]string{"a.bin": "one", "b.bin": "two"}),
		write(t, t.TempDir(), map[string]string{"a.bin": "one"}), Options{}))
	write(t, game, map[string]string{"a.bin": "one", "b.bin": "two"})
	for _, already := range []bool{false, true} {
		plan, _, err := apply(t, game, ApplyOptions{}, less)
		require.NoError(t, err)
		assert.Equal(t, already, plan.Already)
		assert.NotContains(t, files(t, game), "b.bin")
	}

	src := write(t, t.TempDir(), map[string]string{"a.bin": "one"})
	p = open(t, made(t, src, src, Options{Settings: steps}))
	_, _, err = apply(t, write(t, t.TempDir(), map[string]string{"a.bin": "two"}), ApplyOptions{}, p)
	var wrong *WrongBaseError
	require.ErrorAs(t, err, &wrong)
	_, _, err = apply(t, write(t, t.TempDir(), map[string]string{"a.bin": "one", "b.bin": "six"}), ApplyOptions{}, p)
	require.NoError(t, err)
}

// Whoever stops it, and when, the folder is as before or as after.
func TestStoppedAnywhere(t *testing.T) {
	old, now := mod()
	p := open(t, made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now), Options{}))
	finished := false
	for stop := 1; stop < 400 && !finished; stop += 7 {
		game := write(t, t.TempDir(), old)
		c := &stopping{ctx, stop}
		plan, err := Prepare(c, game, []*Opened{p}, nil, ApplyOptions{})
		if err == nil {
			_, err = plan.Apply(c, ApplyOptions{})
		}
		if finished = err == nil; finished {
			assert.Equal(t, now, files(t, game))
		} else {
			assert.Equal(t, old, files(t, game), "stopped after %d", stop)
		}
	}
	assert.True(t, finished)
}

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

// Patches are signed, and what is demanded is checked.
func TestSigned(t *testing.T) {
	pem, public, err := signature.New()
	require.NoError(t, err)
	key, err := signature.ParseKey(pem, fault.Place{})
	require.NoError(t, err)
	src := write(t, t.TempDir(), map[string]string{"a.txt": "one", "b.txt": "two"})
	from, to := filepath.Join(src, "a.txt"), filepath.Join(src, "b.txt")
	signed, plain := made(t, from, to, Options{Key: key}), open(t, made(t, from, to, Options{}))
	p := open(t, signed)
	assert.Equal(t, public, p.Signer)
	plan, err := Prepare(ctx, src, []*Opened{p}, nil, ApplyOptions{})
	require.NoError(t, err)
	_, other, err := signature.New()
	require.NoError(t, err)
	assert.NoError(t, plan.Trust([]string{other, public}))
	assert.ErrorContains(t, plan.Trust([]string{other}), "not trusted")
	plan, err = Prepare(ctx, src, []*Opened{plain}, nil, ApplyOptions{})
	require.NoError(t, err)
	err = plan.Trust([]string{public})
	assert.ErrorContains(t, err, "not signed")
	assert.Equal(t, fault.Refused, fault.KindOf(err))
	// Another head under the same signature.
	forged := repacked(t, signed, func(name string, data []byte) []byte {
		if name == headEntry {
			return bytes.Replace(data, []byte(`"title": ""`), []byte(`"title": "x"`), 1)
		}
		return data
	})
	_, err = Open(forged)
	assert.ErrorContains(t, err, "signature is wrong")
	assert.Equal(t, ed25519.PublicKeySize, len(key.Public().(ed25519.PublicKey)))
}

// repacked is a patch file with other entries.
func repacked(t testing.TB, name string, change func(name string, data []byte) []byte) string {
	t.Helper()
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	z, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	var list []zipfile.Source
	for _, f := range z.Files {
		data, err := f.Read()
		require.NoError(t, err)
		if data = change(f.Name, data); data != nil {
			list = append(list, entryOf(f.Name, string(data)))
		}
	}
	var m memory
	_, err = zipfile.Pack(ctx, list, zipfile.Options{}, func(int) (zipfile.Sink, int64, error) { return &m, 0, nil })
	require.NoError(t, err)
	out := filepath.Join(t.TempDir(), "other"+Ending)
	require.NoError(t, os.WriteFile(out, m.Bytes(), 0o600))
	return out
}

// Patches that lie, lead out of the folder, or lost a part are refused before anything is changed.
func TestHostile(t *testing.T) {
	old, now := mod()
	name := made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now),
		Options{Bring: map[string]string{"info.txt": filepath.Join(write(t, t.TempDir(),
			map[string]string{"i": "info"}), "i")}})
	game := write(t, t.TempDir(), old)
	try := func(what, name string) {
		t.Helper()
		p, err := Open(name)
		if err == nil {
			defer p.Close()
			plan, perr := Prepare(ctx, game, []*Opened{p}, nil, ApplyOptions{})
			if err = perr; err == nil {
				_, err = plan.Apply(ctx, ApplyOptions{})
			}
		}
		assert.Error(t, err, what)
		require.True(t, assert.ObjectsAreEqual(old, files(t, game)), what)
	}
	head := func(change func(p *Patch)) string {
		return repacked(t, name, func(entry string, data []byte) []byte {
			if entry != headEntry {
				return data
			}
			var p Patch
			require.NoError(t, json.Unmarshal(data, &p))
			change(&p)
			data, err := json.Marshal(&p)
			require.NoError(t, err)
			return data
		})
	}
	resum := func(s *State) { *s = stateOf(s.Files) }
	for what, change := range map[string]func(p *Patch){
		"a step out of the folder":  func(p *Patch) { p.Brought[0].To = "../out.txt" },
		"a file of our own records": func(p *Patch) { p.Brought[0].To = "vornix-patched/records.jsonl" },
		"an absolute path":          func(p *Patch) { p.Result.Files[0].Path = "/etc/passwd"; resum(&p.Result) },
		"a result of another size":  func(p *Patch) { p.Result.Files[1].Size += 5; resum(&p.Result) },
		"a result of another hash": func(p *Patch) {
			p.Result.Files[1].SHA256 = p.Base.Files[0].SHA256
			resum(&p.Result)
		},
		"a whole that is not its sum": func(p *Patch) { p.Base.SHA256 = p.Result.SHA256 },
		"a huge result":               func(p *Patch) { p.Result.Files[1].Size = 1 << 60; resum(&p.Result) },
		"a step that is missing":      func(p *Patch) { p.Steps = p.Steps[1:] },
		"a step that comes twice":     func(p *Patch) { p.Steps = append(p.Steps, p.Steps[0]) },
		"a step nobody knows":         func(p *Patch) { p.Steps[0].Do = "explode" },
		"a newer format":              func(p *Patch) { p.Format = 99 },
		"no patch":                    func(p *Patch) { p.Kind = "vornix index" },
		"a copy from nowhere":         func(p *Patch) { p.Steps[0].From = "nowhere" },
	} {
		try(what, head(change))
	}
	for _, entry := range []string{"delta/0002.vcdiff", "files/new/thing.txt", "text/keys.ini.was",
		"brought/info.txt"} {
		try(entry+" is missing", repacked(t, name, func(n string, data []byte) []byte {
			if n == entry {
				return nil
			}
			return data
		}))
		try(entry+" is another", repacked(t, name, func(n string, data []byte) []byte {
			if n == entry {
				data[len(data)/2] ^= 1
			}
			return data
		}))
	}
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	for at := 0; at < len(data); at += len(data)/40 + 1 {
		cut := filepath.Join(t.TempDir(), "cut"+Ending)
		require.NoError(t, os.WriteFile(cut, data[:at], 0o600))
		try(fmt.Sprintf("cut to %d bytes", at), cut)
	}
	_, _, err = apply(t, game, ApplyOptions{Most: 100}, open(t, name))
	assert.ErrorContains(t, err, "more than the 100")
}

func FuzzOpen(f *testing.F) {
	old, now := mod()
	name := made(f, write(f, f.TempDir(), old), write(f, f.TempDir(), now), Options{})
	data, err := os.ReadFile(name)
	require.NoError(f, err)
	z, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(f, err)
	head, err := z.Find(headEntry).Read()
	require.NoError(f, err)
	f.Add(head)
	game := write(f, f.TempDir(), old)
	f.Fuzz(func(t *testing.T, head []byte) { // the head alone: archives are fuzzed where they are read
		other := repacked(t, name, func(entry string, data []byte) []byte {
			if entry == headEntry {
				return head
			}
			return data
		})
		p, err := Open(other)
		if err != nil {
			return
		}
		defer p.Close()
		plan, err := Prepare(ctx, game, []*Opened{p}, nil, ApplyOptions{Most: 1 << 20})
		if err != nil {
			return
		}
		to := filepath.Join(t.TempDir(), "to")
		_, _ = plan.Apply(ctx, ApplyOptions{Most: 1 << 20, To: to})
	})
}
