package main_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// put writes a file, with its folders.
func put(t testing.TB, name, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
}

// read is a file's content; empty when it is not there.
func read(t testing.TB, parts ...string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(parts...))
	if !os.IsNotExist(err) {
		require.NoError(t, err)
	}
	return string(data)
}

// sizeOf is a file's size in words.
func sizeOf(t testing.TB, parts ...string) string {
	t.Helper()
	info, err := os.Stat(filepath.Join(parts...))
	require.NoError(t, err)
	return fmt.Sprintf("%d B", info.Size())
}

// Deltas of any two files, here and by the other program; of bundles by their entries.
func TestDeltas(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "old.bin"), strings.Repeat("0123456789 a line that is there more than once\n", 900))
	put(t, filepath.Join(dir, "new.bin"),
		strings.Repeat("0123456789 a line that is there more than once\n", 500)+"something new\n"+
			strings.Repeat("0123456789 a line that is there more than once\n", 600))
	o := ok(t, dir, "delta", "make", "old.bin", "new.bin", "d.vcdiff", "--json")
	var made struct{ Size, Target int64 }
	require.NoError(t, json.Unmarshal(parse(t, o).Result, &made))
	assert.Less(t, made.Size, int64(200))
	ok(t, dir, "delta", "apply", "old.bin", "d.vcdiff", "out.bin")
	assert.Equal(t, read(t, dir, "new.bin"), read(t, dir, "out.bin"))
	assert.Equal(t, 3, vornix(t, dir, "delta", "apply", "old.bin", "d.vcdiff", "out.bin").exit,
		"what is there is not overwritten")
	o = vornix(t, dir, "delta", "apply", "new.bin", "d.vcdiff", "no.bin")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "the delta does not fit this file")
	o = vornix(t, dir, "delta", "apply", "old.bin", "new.bin", "no.bin")
	assert.Equal(t, 1, o.exit)
	assert.NoFileExists(t, filepath.Join(dir, "no.bin"))
	noTemps(t, dir)
	assert.Contains(t, ok(t, dir, "inspect", "d.vcdiff").out,
		"VCDIFF delta, "+sizeOf(t, dir, "d.vcdiff")+", in 1 window; the new file has 51.7 kB\nmade from a file of ")
	if xdelta, err := exec.LookPath("xdelta3"); err == nil || os.Getenv("VORNIX_PEERS") == "required" {
		require.NoError(t, err)
		ok(t, dir, "delta", "make", "old.bin", "new.bin", "s.vcdiff", "--standard")
		peer.Run(t, dir, xdelta, "-d", "-s", "old.bin", "s.vcdiff", "theirs.bin")
		assert.Equal(t, read(t, dir, "new.bin"), read(t, dir, "theirs.bin"))
	}
}

// From one released version to the next, on a player's machine, and back.
func TestPatchesBetweenVersions(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	p := project(t, "highline")
	release := []string{"--yes", "--without-server"}
	ok(t, p, append([]string{"release", "1.0.0"}, release...)...)
	edit(t, p, "maps/cairn_station.vnx", "fov=62", "fov=61")
	ok(t, p, append([]string{"release", "1.1.0"}, release...)...)
	put(t, filepath.Join(p, "scripts", "winch.txt"), read(t, p, "scripts", "winch.txt")+"\n# one line more\n")
	ok(t, p, append([]string{"release", "1.2.0"}, release...)...)
	assert.Contains(t, ok(t, p, "__complete", "patch", "make", "1.").out, "1.0.0\n1.1.0\n1.2.0\n")
	o := ok(t, p, "patch", "make", "--to-many", "5", "1.2.0")
	assert.Contains(t, o.out, "highline-1.0.0-to-1.2.0.vnp")
	ok(t, p, "patch", "make", "1.0.0", "1.1.0")
	patches := filepath.Join(p, "out", "patches")

	game := t.TempDir()
	put(t, filepath.Join(game, "kestrel.cfg"), "")
	old := read(t, p, "out", "releases", "1.0.0", "highline-1.0.0.parcel")
	put(t, filepath.Join(game, "parcels", "highline-1.0.0.parcel"), old)
	one := filepath.Join(patches, "highline-1.0.0-to-1.1.0.vnp")
	ok(t, game, "patch", "apply", one, game, "--plan")
	assert.NoDirExists(t, filepath.Join(game, "parcels", "vornix-patched"))
	ok(t, game, "patch", "apply", one, game)
	assert.Equal(t, read(t, p, "out", "releases", "1.1.0", "highline-1.1.0.parcel"),
		read(t, game, "parcels", "highline-1.1.0.parcel"))
	assert.NoFileExists(t, filepath.Join(game, "parcels", "highline-1.0.0.parcel"))
	assert.Equal(t, read(t, p, "out", "releases", "1.1.0", "banner.jpg"), read(t, game, "parcels", "banner.jpg"),
		"what went out with it comes along")
	assert.Contains(t, ok(t, game, "patch", "apply", one, ".").out, "already applied")
	o = vornix(t, game, "patch", "apply", filepath.Join(patches, "highline-1.0.0-to-1.2.0.vnp"), ".")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "this is version 1.1.0, and the patch is for Highline 1.0.0")
	ok(t, game, "patch", "apply", patches, ".") // all of them lead on
	assert.Equal(t, read(t, p, "out", "releases", "1.2.0", "highline-1.2.0.parcel"),
		read(t, game, "parcels", "highline-1.2.0.parcel"))
	assert.Equal(t, 2, strings.Count(ok(t, game, "patch", "list").out, "applied"))
	ok(t, game, "patch", "undo", ".", "--all")
	assert.Equal(t, old, read(t, game, "parcels", "highline-1.0.0.parcel"))
	assert.Contains(t, vornix(t, game, "patch", "undo", ".").err, "nothing to undo")

	indexed(t, p)

	spoilt := []byte(old)
	spoilt[len(spoilt)/2] ^= 1
	put(t, filepath.Join(game, "parcels", "highline-1.0.0.parcel"), string(spoilt))
	o = vornix(t, game, "patch", "apply", one, ".")
	assert.Equal(t, 3, o.exit)
	assert.Regexp(t, `at most 4.1 kB differ, in 1 place +byte \d+ +\S+/\S+`, o.out)
	o = vornix(t, p, "patch", "make", "0.9.0", "1.1.0")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "Released were 1.0.0, 1.1.0, 1.2.0.")
}

// Signed patches: made, checked by another program, demanded.
func TestSignedPatches(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "a", "x.txt"), "one\n")
	put(t, filepath.Join(dir, "b", "x.txt"), "two\n")
	o := ok(t, dir, "key", "new", "k.key", "--json")
	var key struct{ Public string }
	require.NoError(t, json.Unmarshal(parse(t, o).Result, &key))
	ok(t, dir, "patch", "make", "a", "b", "p.vnp")
	o = vornix(t, dir, "patch", "apply", "p.vnp", "a", "--trust", key.Public)
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "it is not signed")
	assert.Equal(t, "one\n", read(t, dir, "a", "x.txt"))
	ok(t, dir, "patch", "sign", "p.vnp", "--key", "k.key")
	assert.Contains(t, ok(t, dir, "inspect", "p.vnp").out, "signed by "+key.Public)
	ok(t, dir, "patch", "apply", "p.vnp", "a", "--trust", key.Public)
	assert.Equal(t, "two\n", read(t, dir, "a", "x.txt"))

	p := quickly(t, "highline")
	put(t, filepath.Join(p, "vornix.toml"),
		read(t, p, "vornix.toml")+"\n[signing]\nrequired = true\ntrusted = [\""+key.Public+"\"]\n")
	put(t, filepath.Join(dir, "b", "x.txt"), "three\n")
	o = vornix(t, p, "patch", "make", filepath.Join(dir, "a"), filepath.Join(dir, "b"), filepath.Join(dir, "q.vnp"))
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "this project signs its patches")
	put(t, filepath.Join(dir, "c", "x.txt"), "one\n")
	put(t, filepath.Join(dir, "d", "x.txt"), "two\n")
	ok(t, dir, "patch", "make", "c", "d", "unsigned.vnp")
	o = vornix(t, p, "patch", "apply", filepath.Join(dir, "unsigned.vnp"), filepath.Join(dir, "c"))
	assert.Equal(t, 3, o.exit, "the project demands a signature")
	assert.Contains(t, o.err, "it is not signed")
	ok(t, p, "patch", "apply", filepath.Join(dir, "p.vnp"), filepath.Join(dir, "c"))
	assert.Equal(t, "two\n", read(t, dir, "c", "x.txt"))
	if openssl, err := exec.LookPath("openssl"); err == nil {
		assert.Contains(t, peer.Run(t, dir, openssl, "pkey", "-in", "k.key", "-noout", "-text"), "ED25519")
	}
	if os.PathSeparator == '/' {
		require.NoError(t, os.Chmod(filepath.Join(dir, "k.key"), 0o644))
		assert.Contains(t, vornix(t, dir, "key", "show", "k.key").err, "others can read the private key")
	}
}

// A texture and its normal map are swapped, or laid over where the game allows it, and the maps are named that change.
func TestOverlays(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	ok(t, p, "pack")
	game := t.TempDir()
	require.NoError(t, os.CopyFS(game, os.DirFS(filepath.Join(p, "out", "tree"))))
	put(t, filepath.Join(game, "parcels", "highline-1.0.0.parcel"),
		read(t, p, "out", "bundles", "highline-1.0.0.parcel"))
	skins := t.TempDir()
	put(t, filepath.Join(skins, "textures", "rock", "cairn.ktx2"), read(t, game, "textures", "snow", "drift.ktx2"))
	before := read(t, game, "textures", "rock", "cairn.ktx2")
	o := vornix(t, p, "patch", "overlay", skins, game)
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "Add --swap")
	o = ok(t, p, "patch", "overlay", skins, game, "--swap")
	assert.Regexp(t, `cairn_station +different +it uses textures/rock/cairn.ktx2 +maps/`, o.out)
	assert.Regexp(t, `cairn_station +the same +it brings its own textures/rock/cairn.ktx2 +parcels/`, o.out)
	assert.Contains(t, o.out, "together with textures/rock/cairn_bumps.ktx2, which stays as it is")
	assert.NotEqual(t, before, read(t, game, "textures", "rock", "cairn.ktx2"))
	ok(t, game, "patch", "undo", ".")
	assert.Equal(t, before, read(t, game, "textures", "rock", "cairn.ktx2"))
	put(t, filepath.Join(skins, "textures", "rock", "carn.ktx2"), "x")
	assert.Contains(t, vornix(t, p, "patch", "overlay", skins, game, "--swap").err,
		"the game has no textures/rock/carn.ktx2")

	q := project(t, "lower-sidings")
	ok(t, q, "build")
	o = ok(t, q, "patch", "overlay", skins, filepath.Join(q, "out", "tree"))
	assert.FileExists(t, filepath.Join(q, "out", "tree", "dressing", "textures", "rock", "cairn.ktx2"),
		"no original is touched")
	assert.Contains(t, o.out, "nothing in the game has this path")
}

// Texts of players: merged, contradictions shown in context, settings changed once.
func TestTextPatches(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, filepath.Join(dir, "a", "read.txt"), "one\ntwo\nthree\n")
	put(t, filepath.Join(dir, "b", "read.txt"), "one\nTWO\nthree\n")
	put(t, filepath.Join(dir, "edits.toml"),
		"[[edit]]\nfile = \"kestrel.cfg\"\nlines = [\"mount parcels/highline\"]\nafter = \"# mods\"\nset = { \"video.shadows\" = \"high\" }\n")
	ok(t, dir, "patch", "make", "a", "b", "p.vnp", "--edits", "edits.toml")
	put(t, filepath.Join(dir, "game", "read.txt"), "one\n2\nthree\n")
	put(t, filepath.Join(dir, "game", "kestrel.cfg"), "# mods\r\n[video]\r\nshadows = low\r\n")
	o := vornix(t, dir, "patch", "apply", "p.vnp", "game")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.out, "      | one\n  was | two\n here | 2\npatch | TWO\n      | three\n")
	ok(t, dir, "patch", "apply", "p.vnp", "game", "--conflicts", "take")
	assert.Equal(t, "# mods\r\nmount parcels/highline\r\n[video]\r\nshadows = high\r\n",
		read(t, dir, "game", "kestrel.cfg"))
	assert.Equal(t, "one\nTWO\nthree\n", read(t, dir, "game", "read.txt"))
	put(t, filepath.Join(dir, "game", "read.txt"), "somebody's\n")
	o = vornix(t, dir, "patch", "undo", "game")
	assert.Equal(t, 3, o.exit)
	assert.Regexp(t, `read.txt +11 B instead of 14 B +somebody`, o.out)
	assert.Contains(t, o.out, "-one\n-TWO\n-three\n+somebody's\n", "and it says how")
	ok(t, dir, "patch", "undo", "game", "--leave-changed")
	assert.Equal(t, "# mods\r\n[video]\r\nshadows = low\r\n", read(t, dir, "game", "kestrel.cfg"))
	assert.Equal(t, "somebody's\n", read(t, dir, "game", "read.txt"))
	put(t, filepath.Join(dir, "edits.toml"),
		"[[edit]]\nfile = \"../x.cfg\"\nset = { a = [1] }\n[[edit]]\nfile = \"y.txt\"\nset = { a = 1 }\n")
	o = vornix(t, dir, "patch", "make", "a", "b", "q.vnp", "--edits", "edits.toml")
	assert.Equal(t, 1, o.exit)
	for _, want := range []string{"edits.toml:2:", "edits.toml:3:", "edits.toml:4:"} {
		assert.Contains(t, o.err, want)
	}
	put(t, filepath.Join(dir, "n1.bin"), "0")
	put(t, filepath.Join(dir, "n2.bin"), "1")
	o = vornix(t, dir, "patch", "make", "n1.bin", "n2.bin")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "Players are better off with the file itself")
	assert.Contains(t, ok(t, dir, "patch", "make", "n1.bin", "n2.bin", "--even-if-larger").out, "LARGER")
}
