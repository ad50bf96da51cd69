package main_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/demotest"
	"vornix/internal/peer"
)

// quickly gives a project without the long stages and pictures beside bundles: what only packing
// and looking inside need.
func quickly(t *testing.T, name string) string {
	t.Helper()
	return filepath.Join(filepath.Dir(demotest.Built(t, name).Dir), name)
}

// What is packed is looked into, taken out, compared and, damaged, saved.
func TestLookInside(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	ok(t, p, "pack")
	const parcel = "out/bundles/highline-1.0.0.parcel"
	o := ok(t, p, "extract", parcel, "materials/rock/cairn_wet.toml", "--with-needs", "--to", "look")
	assert.Contains(t, o.out, "3 files, ")
	want := must(os.ReadFile(filepath.Join(p, "out/tree/textures/rock/cairn_bumps.ktx2")))
	assert.Equal(t, want, must(os.ReadFile(filepath.Join(p, "look/textures/rock/cairn_bumps.ktx2"))))
	again := vornix(t, p, "extract", parcel, "materials/**", "--to", "look")
	assert.Equal(t, 3, again.exit)
	assert.Contains(t, again.err, "already exists")
	ok(t, p, "extract", parcel, "materials/**", "--to", "look", "--overwrite")
	assert.Contains(t, ok(t, p, "extract", parcel, "--except", "maps/**", "--plan").out, "would go to highline-1.0.0")
	assert.NoDirExists(t, filepath.Join(p, "highline-1.0.0"))
	assert.Contains(t, vornix(t, p, "extract", parcel, "material/rock/slab.toml").err,
		`Did you mean "materials/rock/slab.toml"?`)
	assert.Contains(t,
		ok(t, t.TempDir(), "extract", filepath.Join(p, parcel), "maps/cairn_station.vnm", "--with-needs", "--profile",
			"kestrel-post", "--plan").out, "needs sounds/station/bell.wav, which is not in the archive")
	assert.Equal(t, 2, vornix(t, t.TempDir(), "extract", filepath.Join(p, parcel), "--with-needs").exit,
		"which game is it for?")

	data := must(os.ReadFile(filepath.Join(p, parcel)))
	demotest.Edit(t, demotest.Load(t, p), "scripts/winch.txt", "for 3s", "for 30s")
	require.NoError(t, os.WriteFile(filepath.Join(p, "old.parcel"), data, 0o666))
	ok(t, p, "pack")
	d := ok(t, p, "diff", "old.parcel", parcel)
	assert.Regexp(t, `changed +scripts/winch.txt +115 B +116 B +\+1 B`, d.out)
	assert.Regexp(t, `0 added, 0 removed, 0 moved, 1 changed, 48 the same`, d.out)
	assert.Contains(t, d.out, "█")
	assert.Contains(t, ok(t, p, "diff", parcel, "out/tree").out, "the two are the same: 49 files")

	cut := filepath.Join(p, "cut.parcel")
	require.NoError(t, os.WriteFile(cut, data[:len(data)*3/4], 0o666))
	bad := vornix(t, p, "inspect", cut)
	assert.Equal(t, 1, bad.exit)
	assert.Contains(t, bad.err, "vornix salvage")
	saved := vornix(t, p, "salvage", cut, "saved.parcel")
	assert.Equal(t, 1, saved.exit, "something is left out")
	assert.Contains(t, saved.out, "left out: its content is damaged or cut off")
	assert.Contains(t, ok(t, p, "inspect", "saved.parcel").out, "all read and whole")
}

// Archives of others: what is wrong with an entry is said, the others can be taken out, nothing is written outside.
func TestForeignArchives(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, n := range []string{"good.txt", "../evil.txt", "Sub/a.txt", "sub/A.txt"} {
		w := must(z.Create(n))
		_ = must(w.Write([]byte(n)))
	}
	require.NoError(t, z.SetComment("from \x1b[31msomewhere"))
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.zip"), b.Bytes(), 0o666))
	o := vornix(t, dir, "inspect", "a.zip")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.out, `the path "../evil.txt" has the part ..`)
	assert.Contains(t, o.out, "one file on some systems")
	assert.NotContains(t, o.out, "\x1b")
	assert.Contains(t, o.err, "2 of 4 entries")
	refused := vornix(t, dir, "extract", "a.zip")
	assert.Equal(t, 3, refused.exit)
	assert.NoFileExists(t, filepath.Join(dir, "evil.txt"))
	ok(t, dir, "extract", "a.zip", "good.txt", "Sub/a.txt")
	assert.FileExists(t, filepath.Join(dir, "a", "good.txt"))
	assert.Equal(t, 3, vornix(t, dir, "extract", "a.zip", "good.txt", "--to", "b", "--max-size", "3").exit)

	p := filepath.Join(dir, "secret.txt")
	require.NoError(t, os.WriteFile(p, []byte("x"), 0o666))
	peer.Run(t, dir, peer.Need(t, "zip"), "-q", "-P", "word", "locked.zip", "secret.txt")
	assert.Contains(t, vornix(t, dir, "inspect", "locked.zip").out, "encrypted")
	assert.Contains(t, vornix(t, dir, "extract", "locked.zip").err, "no password")
}

// A sweep shows its plan, moves on word only, and is undone.
func TestSweepAndRestore(t *testing.T) {
	t.Parallel()
	p := quickly(t, "highline")
	shown := ok(t, p, "sweep")
	assert.Regexp(t, `maps/cairn_station.vnx~ +120 B +backup +an editor's backup`, shown.out)
	assert.Contains(t, shown.out, "4 files and 2 folders")
	assert.Contains(t, shown.out, "nothing was moved: --yes moves them")
	assert.FileExists(t, filepath.Join(p, "maps/cairn_station.vnx~"))
	moved := ok(t, p, "sweep", "--yes", "--rule", "backup")
	assert.Contains(t, moved.out, "1 file, 120 B, moved to .vornix/safe/")
	assert.NoFileExists(t, filepath.Join(p, "maps/cairn_station.vnx~"))
	assert.Contains(t, ok(t, p, "restore", "--list").out, "maps/cairn_station.vnx~")
	assert.Contains(t, ok(t, p, "restore", "--plan").out, "comes back")
	assert.Contains(t, ok(t, p, "restore", "maps").out, "1 file brought back")
	assert.FileExists(t, filepath.Join(p, "maps/cairn_station.vnx~"))
	assert.Contains(t, ok(t, p, "inspect", ".vornix/ledger.jsonl").out, "swept")
	assert.Contains(t, ok(t, p, "inspect", ".vornix/ledger.jsonl").out, "restored")
	assert.Equal(t, 2, vornix(t, p, "restore").exit, "there is nothing to bring back")
	assert.Contains(t, vornix(t, p, "sweep", "--rule", "backups").err, "Did you mean backup?")
	assert.Equal(t, 2, vornix(t, p, "sweep", "nowhere.txt").exit)
	var plan struct {
		Go, Left []struct{ Path, Rule, Why string }
	}
	require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "sweep", "--json")).Result, &plan))
	assert.Len(t, plan.Go, 6)
	assert.NotNil(t, plan.Left)
	ok(t, p, "sweep", "--yes", "--quiet", "maps/cairn_station.vnx~")
	require.NoError(t, os.WriteFile(filepath.Join(p, "maps/cairn_station.vnx~"), []byte("new"), 0o666))
	left := vornix(t, p, "restore")
	assert.Equal(t, 3, left.exit)
	assert.Contains(t, left.out, "stays: another file stands in its place")
}

// An installer is the program with bundles at its end: it finds, shows, installs, and takes away
// again; and is a ZIP for any reader.
func TestInstaller(t *testing.T) {
	t.Parallel()
	p := project(t, "lower-sidings")
	var made struct {
		Installer struct{ Path, System string }
	}
	require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "pack", "--installer", "--json")).Result, &made))
	assert.Equal(t, runtime.GOOS+"-"+runtime.GOARCH, made.Installer.System)
	program := filepath.Join(p, made.Installer.Path)
	home := t.TempDir()
	install := func(args ...string) outcome {
		cmd := exec.Command(program, args...)
		cmd.Dir = home
		cmd.Env = append(os.Environ(), "HOME="+home, "USERPROFILE="+home, "PROGRAMFILES=")
		return run(t, cmd)
	}
	assert.Contains(t, install("--help").out, "This installs Lower Sidings 1.0.0")
	none := install("--silent")
	assert.Equal(t, 2, none.exit)
	assert.Contains(t, none.err, "Burrow Tramways was not found")
	game := filepath.Join(home, "games", "burrow")
	require.NoError(t, os.MkdirAll(game, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(game, "burrow.ini"), nil, 0o666))
	assert.Regexp(t, `add +levels/tram_depot.vnm`, install("--plan").out)
	assert.Contains(t, install().err, "nothing was done: this needs a yes")
	entries := must(os.ReadDir(game))
	assert.Len(t, entries, 1, "nothing was written yet")
	quiet := install("--silent")
	assert.Equal(t, outcome{}, quiet)
	assert.Equal(t, must(os.ReadFile(filepath.Join(p, "out/bundles/tram_depot.vnm"))),
		must(os.ReadFile(filepath.Join(game, "levels/tram_depot.vnm"))))
	assert.Contains(t, install("--yes").out, "it is all there already")
	assert.Equal(t, 3, install("--game", home, "--silent").exit, "that is not the game")
	assert.Contains(t, install("--uninstall", "--yes").out, "done")
	entries = must(os.ReadDir(game))
	assert.Len(t, entries, 1)
	assert.Contains(t, peer.Run(t, "", peer.Need(t, "unzip"), "-l", program), "files/levels/tram_depot.vnm")
	assert.Contains(t, ok(t, p, "inspect", made.Installer.Path).out, "install.json")
	assert.Equal(t, 2, vornix(t, p, "pack", "--installer", "--program", "vornix.toml").exit)
	assert.Equal(t, 2, vornix(t, p, "pack", "--program", exe).exit)
}

// On a terminal a sweep and an installer ask, and do nothing without a yes.
func TestAsking(t *testing.T) {
	t.Parallel()
	script := peer.Need(t, "script")
	ask := func(dir, answer, command string) string {
		cmd := exec.Command(script, "-qec", command, "/dev/null")
		cmd.Dir, cmd.Env, cmd.Stdin = dir, append(os.Environ(), "HOME="+dir, "TERM=dumb"), strings.NewReader(answer)
		out, _ := cmd.CombinedOutput() // its exit code is not that of the program on every system
		return string(out)
	}
	dir := t.TempDir()
	said := ask(dir, "night_lanes\nkestrel-post\nNight Lanes\n", exe+" new")
	for _, want := range []string{"The new project's folder (my_maps):",
		"one of burrow-tramways, kestrel-post (burrow-tramways):", "Its title, which players read (Night Lanes):",
		"next: cd night_lanes && vornix pack"} {
		assert.Contains(t, said, want)
	}
	assert.Contains(t, read(t, dir, "night_lanes", "vornix.toml"), `title = "Night Lanes"`)

	p := quickly(t, "highline")
	backup := filepath.Join(p, "maps/cairn_station.vnx~")
	assert.Contains(t, ask(p, "n\n", exe+" sweep --rule backup"), "Move them away? [y/N]")
	assert.FileExists(t, backup)
	assert.Contains(t, ask(p, "y\n", exe+" sweep --rule backup"), "moved to .vornix/safe/")
	assert.NoFileExists(t, backup)

	q := project(t, "lower-sidings")
	ok(t, q, "pack", "--installer")
	programs := must(filepath.Glob(filepath.Join(q, "out/installers/*")))
	game := filepath.Join(t.TempDir(), "Burrow")
	require.NoError(t, os.MkdirAll(game, 0o777))
	assert.Contains(t, ask(q, "\n", programs[0]), "Burrow Tramways's folder:")
	assert.Contains(t, ask(q, game+"\n", programs[0]), "is not in this folder", "there is no burrow.ini yet")
	require.NoError(t, os.WriteFile(filepath.Join(game, "burrow.ini"), nil, 0o666))
	assert.Contains(t, ask(q, "n\n", programs[0]+" --game "+game), "Install Lower Sidings 1.0.0? [y/N]")
	assert.NoFileExists(t, filepath.Join(game, "levels/tram_depot.vnm"))
	assert.Contains(t, ask(q, "y\n", programs[0]+" --game "+game), "done")
	assert.FileExists(t, filepath.Join(game, "levels/tram_depot.vnm"))
}

// Loose copies in an installed game are said, set aside, and brought back; packing into the map
// works beside the bundles.
func TestLooseCopiesAndIntoMap(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	ok(t, p, "pack", "--into-map")
	for _, m := range []string{"cairn_station", "saltpan_relay"} {
		assert.Contains(t, ok(t, p, "inspect", "out/into-map/"+m+".vnm").out, "all read and whole")
	}
	assert.Contains(t, vornix(t, p, "try").err, "nothing has been packed yet")
	ok(t, p, "pack")
	game := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(game, "scripts"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(game, "scripts/winch.txt"), []byte("mine"), 0o666))
	o := vornix(t, p, "try", "--installed", game)
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "a loose copy hides the packed scripts/winch.txt, and has other content [try.loose]")
	assert.Contains(t, ok(t, p, "try", "--installed", game, "--set-aside").out, "1 loose file set aside")
	assert.Contains(t, ok(t, p, "try", "--installed", game).out, "no loose file")
	assert.Contains(t, ok(t, p, "try", "--installed", game, "--bring-back").out, "1 file brought back")
	assert.FileExists(t, filepath.Join(game, "scripts/winch.txt"))
	assert.Equal(t, 2, vornix(t, p, "try", "--set-aside").exit)
}

// Secrets are found before anything is packed, and never repeated.
func TestSecretsStayAtHome(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	demotest.Edit(t, demotest.Load(t, p), "scripts/winch.txt", "on call",
		"# token gh"+"p_"+strings.Repeat("Ab12", 9)+"\non call")
	for _, command := range []string{"check", "pack"} {
		o := vornix(t, p, command)
		assert.Equal(t, 1, o.exit)
		assert.Contains(t, o.err, "scripts/winch.txt:2")
		assert.Contains(t, o.err, "an access token in line 2 [guard.secret]")
		assert.NotContains(t, o.err+o.out, "Ab12Ab12")
	}
	assert.NoDirExists(t, filepath.Join(p, "out/bundles"))
}
