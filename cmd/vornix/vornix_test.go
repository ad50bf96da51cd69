package main_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/game/gameserver"
	"vornix/core/release"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// exe is the program, built once: what these tests run is what people run.
var exe string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "vornix-cli-")
	if err != nil {
		panic(err)
	}
	exe = filepath.Join(dir, "vornix")
	if runtime.GOOS == "windows" {
		exe += ".exe"
	}
	build := exec.Command("go", "build", "-o", exe, "vornix/cmd/vornix")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	os.Setenv("VORNIX_TRUST_FILE", filepath.Join(dir, "trusted.json")) // not that of whoever runs the tests
	// projects here are copies of what other processes made
	os.Setenv("VORNIX_STATE", "any")
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// outcome is how a run of the program ended.
type outcome struct {
	out, err string
	exit     int
}

func vornix(t testing.TB, dir string, args ...string) outcome {
	t.Helper()
	return run(t, command(dir, args...))
}

func command(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(exe, args...)
	cmd.Dir = dir
	return cmd
}

func run(t testing.TB, cmd *exec.Cmd) outcome {
	t.Helper()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return outcome{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// ok runs the program and wants success.
func ok(t testing.TB, dir string, args ...string) outcome {
	t.Helper()
	o := vornix(t, dir, args...)
	require.Zero(t, o.exit, "vornix %v\n%s\n%s", args, o.out, o.err)
	return o
}

// answer is the shape of --json.
type answer struct {
	Command string
	OK      bool
	Steps   []release.Step
	Result  json.RawMessage
	Error   *struct {
		Exit          int
		What, Why, Do string
		Findings      []struct{ ID string }
	}
}

var shapes struct {
	sync.Mutex
	compiler *jsonschema.Compiler
	of       map[string]*jsonschema.Schema
}

// published holds an answer to the shape that docs/schema/answers.json says the command has.
func published(t testing.TB, command, text string) {
	t.Helper()
	shapes.Lock()
	defer shapes.Unlock()
	if shapes.compiler == nil {
		shapes.compiler, shapes.of = jsonschema.NewCompiler(), map[string]*jsonschema.Schema{}
	}
	if shapes.of[command] == nil {
		s, err := shapes.compiler.Compile("../../docs/schema/answers.json#/properties/" + url.PathEscape(command))
		require.NoError(t, err, "the shape of %q", command)
		shapes.of[command] = s
	}
	instance, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	require.NoError(t, err)
	assert.NoError(t, shapes.of[command].Validate(instance), "%s: the answer is not as docs/schema/answers.json says",
		command)
}

// parse reads exactly one JSON object and wants nothing behind it.
func parse(t testing.TB, o outcome) answer {
	t.Helper()
	var a answer
	d := json.NewDecoder(strings.NewReader(o.out))
	require.NoError(t, d.Decode(&a), "%s", o.out)
	assert.False(t, d.More(), "one object and nothing else")
	published(t, a.Command, o.out)
	return a
}

func project(t testing.TB, name string) string {
	t.Helper()
	return filepath.Join(demotest.WriteCached(t), name)
}

func TestDemoFromNothingAndAgain(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	// The demo's own files with the light of its maps at hand: CI runs it from nothing.
	dir := t.TempDir()
	require.NoError(t, os.Rename(demotest.WriteLit(t), filepath.Join(dir, "vornix-demo")))
	first := ok(t, dir, "demo", "--json")
	a := parse(t, first)
	assert.True(t, a.OK)
	assert.Len(t, a.Steps, 29, "with publishing and trying what came of it")
	var result []struct {
		Project string
		Server  gameserver.Status
	}
	require.NoError(t, json.Unmarshal(a.Result, &result))
	require.Len(t, result, 2)
	for i, name := range []string{"cairn_station", "ore_spiral"} {
		assert.True(t, result[i].Server.Find(name).Loaded)
		assert.Equal(t, name, result[i].Server.Playing)
	}
	for _, s := range parse(t, ok(t, dir, "demo", "--json")).Steps {
		if s.Name != "check" && s.Name != "try" {
			assert.True(t, s.Kept, "%s was done again", s.Name)
		}
	}
	text := ok(t, dir, "demo").out
	for _, want := range []string{"nothing changed: all 49 files in out/tree are up to date",
		"its server has loaded cairn_station and saltpan_relay and plays cairn_station", "/status says:",
		"what to try next", "vornix status --project vornix-demo/highline"} {
		assert.Contains(t, text, want)
	}
	assert.Empty(t, ok(t, dir, "demo", "--quiet").out)

	// The story of the second week.
	const before, next = "1.0.0", "1.1.0"
	text = ok(t, dir, "demo", "--story").out
	for _, want := range []string{"The second week: Highline goes from " + before + " to " + next,
		"from " + before + " ", "practice goes from version " + before + " to " + next,
		"byte for byte as released", "1 changed there since: welcome.html", "deploy says:  refused",
		"with --overwrite: practice has version " + next, "practice has version " + before + " again"} {
		assert.Contains(t, text, want)
	}
	p := filepath.Join(dir, "vornix-demo")
	name := "highline-" + next + ".parcel"
	assert.Equal(t, read(t, p, "highline", "out", "releases", next, name), read(t, p, "player-"+next, "parcels", name))
	assert.NoFileExists(t, filepath.Join(p, "servers", "kestrel", "parcels", name), "the server went back")
	assert.FileExists(t, filepath.Join(p, "servers", "kestrel", "parcels", "highline-"+before+".parcel"))
	assert.Contains(t, read(t, p, "highline", "out", "reports", next+".html"), "have seen rain")
}

func edit(t testing.TB, dir, rel, old, now string) {
	t.Helper()
	name := filepath.Join(dir, rel)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Contains(t, string(data), old)
	require.NoError(t, os.WriteFile(name, []byte(strings.Replace(string(data), old, now, 1)), 0o666))
}

func TestThreeMistakesInAMap(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	edit(t, p, "maps/cairn_station.vnx", "solid deck box", "solid deck bxo")
	edit(t, p, "maps/cairn_station.vnx", "point 18,6.6,3.2", "point 18,6.6")
	edit(t, p, "maps/cairn_station.vnx", "spawn blue_2 at=", "spawn blue_2 ta=")
	o := vornix(t, p, "build")
	assert.Equal(t, 1, o.exit)
	assert.Equal(t, 3, strings.Count(o.err, "[map.syntax]"), "all three, once each\n%s", o.err)
	assert.Contains(t, o.err, "maps/cairn_station.vnx:6:12")
	assert.Contains(t, o.err, "solid deck bxo 0,0,0 24,16,0.5 material=wood/plank\n                      ^\n",
		"the line, and a caret under the place")
	assert.Contains(t, o.err, `Did you mean "box"?`)
	assert.Contains(t, o.err, `Did you mean "at"?`)
	assert.NoFileExists(t, filepath.Join(p, "out/tree/maps/cairn_station.vnm"))
	a := parse(t, vornix(t, p, "build", "--json"))
	assert.False(t, a.OK)
	assert.Equal(t, 1, a.Error.Exit)
}

func TestBadInput(t *testing.T) {
	t.Parallel()
	broken := func(rel, old, now string) func(testing.TB, string) {
		return func(t testing.TB, p string) { edit(t, p, rel, old, now) }
	}
	untouched := filepath.Join(demotest.WriteCached(t), "highline")
	for number, c := range []struct {
		name   string
		change func(testing.TB, string)
		args   string
		exit   int
		say    []string
	}{
		{"broken TOML", broken("vornix.toml", "[project]", "[project"), "check", 1,
			[]string{"vornix.toml:3:", "toml.syntax", "["}},
		{"unknown key", broken("vornix.toml", "title =", "titel ="), "build", 1,
			[]string{"vornix.toml:5:1", `Did you mean "title"?`}},
		{"unknown profile", broken("vornix.toml", `profile = "kestrel-post"`, `profile = "kestrel-pots"`), "build", 1,
			[]string{"vornix.toml:9:1", `Did you mean "kestrel-post"?`}},
		{"accepted without a reason", broken("vornix.toml", "reason = ", "# reason = "), "check", 1,
			[]string{"an accepted finding needs a reason", "vornix.toml:69:"}},
		{"PNG cut short", func(t testing.TB, p string) {
			require.NoError(t, os.Truncate(filepath.Join(p, "textures/wood/plank.png"), 4000))
		}, "build --stage none", 1,
			[]string{"textures/wood/plank.png", "cut short", "Export the image again", "1 of 31 jobs failed"}},
		{"PNG of no size", func(t testing.TB, p string) {
			data := must(os.ReadFile(filepath.Join(p, "textures/wood/plank.png")))
			copy(data[16:24], make([]byte, 8))
			binary.BigEndian.PutUint32(data[29:], crc32.ChecksumIEEE(data[12:29]))
			require.NoError(t, os.WriteFile(filepath.Join(p, "textures/wood/plank.png"), data, 0o666))
		}, "build --stage none", 1,
			[]string{"textures/wood/plank.png", "non-positive dimension", "1 of 31 jobs failed"}},
		{"PNG of 60,000 a side", func(t testing.TB, p string) {
			data := must(os.ReadFile(filepath.Join(p, "textures/wood/plank.png")))
			binary.BigEndian.PutUint32(data[16:], 60000)
			binary.BigEndian.PutUint32(data[20:], 60000)
			binary.BigEndian.PutUint32(data[29:], crc32.ChecksumIEEE(data[12:29]))
			require.NoError(t, os.WriteFile(filepath.Join(p, "textures/wood/plank.png"), data, 0o666))
		}, "build --stage none", 1, []string{"60000 x 60000 texels; at most 16384 a side", "1 of 31 jobs failed"}},
		{"an empty image", func(t testing.TB, p string) {
			require.NoError(t, os.Truncate(filepath.Join(p, "textures/wood/plank.png"), 0))
		}, "build --stage none", 1, []string{"textures/wood/plank.png  it is empty", "1 of 31 jobs failed"}},
		{"a name with a space", func(t testing.TB, p string) {
			require.NoError(t,
				os.Rename(filepath.Join(p, "textures/wood/plank.png"), filepath.Join(p, "textures/wood/old plank.png")))
			edit(t, p, "materials/wood/plank.toml", "wood/plank", "wood/old plank")
		}, "build", 1, []string{`has " ", which Kestrel Post does not take in names`,
			"everything was built, but 1 error found"}},
		{"a prefab in itself", broken("prefabs/relay.vnx", "  solid cap ", "  use pylon\n  solid cap "), "build", 1,
			[]string{"prefabs/relay.vnx:7:3", "the prefab pylon is made of itself: pylon (maps/saltpan_relay.vnx:",
				"[map.circle]"}},
		{"ten million repeats",
			broken("maps/saltpan_relay.vnx", "repeat line line count=5", "repeat line line count=10000000"), "build", 1,
			[]string{"maps/saltpan_relay.vnx:26:", "1 to 262144 copies, and this says 10000000"}},
		{"no number", broken("maps/cairn_station.vnx", "solid deck box 0,0,0", "solid deck box 0,NaN,0"), "build", 1,
			[]string{`"NaN" is no number`}},
		{"a broken model", func(t testing.TB, p string) {
			require.NoError(t,
				os.WriteFile(filepath.Join(p, "models/props/mail_crate.glb"), []byte("glTF and then nothing at all"),
					0o644))
		}, "build", 1, []string{
			"models/props/mail_crate.glb  the model can't be read: it is cut short [model.unreadable]"}},
		{"a broken grey image", func(t testing.TB, p string) {
			require.NoError(t, os.WriteFile(filepath.Join(p, "maps/saltpan.png"), []byte("\x89PNG\r\n\x1a\n"), 0o644))
		}, "build", 1, []string{"the image maps/saltpan.png can't be read", "[map.file]"}},
		{"a leak", broken("maps/cairn_station.vnx", "modes=relay", "sealed=yes modes=relay"), "build", 1,
			[]string{"the map is not sealed: a way leads outside from", "[map.leak]"}},
		{"a colour image as normals", broken("vornix.toml", "format = \"auto\"", "kind = \"normal\""), "check", 1,
			[]string{"colour wants a texture of the kind colour", "[material.texture-kind]"}},
		{"normals as colour",
			broken("textures/rock/cairn_bumps.texture.toml", "from_height = true",
				"from_height = true\nkind = \"colour\"\ncolour_space = \"srgb\""), "build", 1,
			[]string{"normal wants a texture of the kind normal, and the recipe makes",
				"degrees on average [texture.normal-as-colour]"}},
		{"missing texture", func(t testing.TB, p string) {
			require.NoError(t, os.Remove(filepath.Join(p, "textures/rock/slab.png")))
		}, "release --yes --without-server", 1,
			[]string{"materials/rock/slab.toml:1:1", "maps/cairn_station.vnx:8:24", "[texture.missing]"}},
		{"built but wrong", broken("maps/cairn_station.vnx", "item station", "// item station"), "pack", 1,
			[]string{"[item.required]", "everything was built, but 1 error found", "nothing is packed"}},
		{"no such target", nil, "deploy practise --yes", 2, []string{"Run 'vornix pack' first"}},
		{"target folder gone", func(t testing.TB, p string) {
			require.NoError(t, os.RemoveAll(filepath.Join(p, "../servers/kestrel")))
		}, "release --yes", 4,
			[]string{"the folder of target \"practice\" does not exist", "vornix.toml:54:1", "Nothing was changed"}},
		{"no server", func(testing.TB, string) {}, "release --yes", 4,
			[]string{"no game server runs in", "vornix stand server", "--without-server"}},
		{"no yes", nil, "release", 2, []string{"this needs a yes", "--plan"}},
		{"earlier version", nil, "release 0.9.0 --yes", 3, []string{"comes before 1.0.0"}},
		{"no version", nil, "release first --yes", 2, []string{`"first" is no version`}},
		{"unknown command", nil, "biuld", 2, []string{"unknown command", "build"}},
		{"unknown flag", nil, "build --job 3", 2, []string{"unknown flag: --job", "Did you mean --jobs?"}},
		{"unknown stage", nil, "build --stage lightning", 2,
			[]string{`there is no stage "lightning"`, `Did you mean "lighting"?`}},
		{"draft and full", nil, "build --draft --full", 2, []string{"exclude each other"}},
		{"no size of memory", nil, "build --memory lots", 2, []string{`"lots" is no size`}},
		{"little memory", broken("maps/cairn_station.vnx", "fov=62", "fov=61"), "build --memory 100K", 1,
			[]string{"lighting", "needs about", "[stage.memory]", "--memory"}},
		{"unknown view", nil, "inspect maps/cairn_station.vnx --picture x.png --view night", 2,
			[]string{`there is no view "night"`, "plan, lit, light, cells, ground"}},
		{"a view without a picture", nil, "inspect maps/cairn_station.vnx --view lit", 2,
			[]string{"--view is for a picture"}},
		{"no such camera", nil, "inspect maps/cairn_station.vnx --picture x.png --view light --camera attic", 2,
			[]string{`the map has no camera "attic"`}},
		{"a broken sky", func(t testing.TB, p string) {
			require.NoError(t, os.Truncate(filepath.Join(p, "maps/dawn_ridge.png"), 9000))
		}, "build cairn_station", 1, []string{"the image maps/dawn_ridge.png can't be used as a sky", "[map.file]"}},
		{"a sky of the wrong form", func(t testing.TB, p string) {
			require.NoError(t,
				os.Rename(filepath.Join(p, "textures/wood/plank.png"), filepath.Join(p, "maps/dawn_ridge.png")))
		}, "check", 1, []string{"it has 512 x 512 pixels", "twice as wide as high"}},
		{"needs of nothing", nil, "needs textures/rock/slob", 2,
			[]string{`nothing is called "textures/rock/slob"`, `"textures/rock/slab"?`}},
		{"wrong number", nil, "build --jobs many", 2, []string{"many"}},
		{"negative jobs", nil, "build --jobs -2", 2, []string{"--jobs"}},
		{"half a command", nil, "index", 2,
			[]string{"'vornix index' needs one word more", "It takes: write or sign or check or retract"}},
		{"unknown subcommand", nil, "addon wirte", 2, []string{`unknown command "wirte"`, "Did you mean write?"}},
		{"a folder to try", nil, "try maps", 1, []string{"could not read maps", "is a directory"}},
		{"another folder", nil, "check --project maps", 2, []string{"there is no project in this folder", "--project"}},
		{"too many words", nil, "pack it", 2, []string{`takes no argument, and there is "it"`}},
		{"too few words", nil, "inspect", 2, []string{"takes one file"}},
		{"nothing of that name", nil, "build maps/other.vnx", 2,
			[]string{`nothing that ships is made of "maps/other.vnx"`}},
		{"inspect nothing", nil, "inspect nothing.vnm", 2, []string{"nothing.vnm"}},
		{"inspect what nobody knows", func(t testing.TB, p string) {
			require.NoError(t, os.WriteFile(filepath.Join(p, "a.bin"), []byte("what?"), 0o666))
		}, "inspect a.bin", 1, []string{"does not know this kind of file"}},
		{"try before pack", nil, "try", 2, []string{"Run 'vornix pack' first"}},
		{"index before pack", nil, "index write", 2, []string{"Run 'vornix pack' first"}},
		{"not a project",
			func(t testing.TB, p string) { require.NoError(t, os.Remove(filepath.Join(p, "vornix.toml"))) }, "build", 2,
			[]string{"there is no project here", "vornix new DIR"}},
	} {
		if number%thorough.Or(4, 1) != 0 {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			p := untouched // which none of those that change nothing before does either
			if c.change != nil {
				p = filepath.Join(demotest.WriteCached(t), "highline")
				c.change(t, p)
			}
			args := strings.Fields(c.args)
			o := vornix(t, p, args...)
			assert.Equal(t, c.exit, o.exit, "%s%s", o.out, o.err)
			for _, say := range c.say {
				assert.Contains(t, o.err, say)
			}
			assert.NotContains(t, o.err, "goroutine")
			assert.LessOrEqual(t, strings.Count(o.err, "stopped:"), 1)
			noTemps(t, filepath.Dir(p))
			if number%2 == 1 { // each second of them also for scripts
				return
			}
			a := parse(t, vornix(t, p, append(args, "--json")...))
			assert.False(t, a.OK)
			require.NotNil(t, a.Error)
			assert.Equal(t, c.exit, a.Error.Exit)
		})
	}
}

// noTemps wants no half-written file anywhere.
func noTemps(t testing.TB, dir string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err == nil && safefile.IsTemp(e.Name()) {
			t.Errorf("%s was left behind", p)
		}
		return nil
	}))
}

func TestFullOutput(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("mounting a small file system needs root on Linux")
	}
	p := project(t, "highline")
	out := filepath.Join(p, "out")
	require.NoError(t, os.Mkdir(out, 0o777))
	if text, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=300k", "none", out).CombinedOutput(); err != nil {
		t.Skipf("no small file system to be had here: %s", text)
	}
	t.Cleanup(func() { _ = exec.Command("umount", out).Run() })
	o := vornix(t, p, "build")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "the disk is full")
	assert.Contains(t, o.err, "Free some space")
	noTemps(t, p)
	require.NoError(t, exec.Command("mount", "-o", "remount,size=20m", out).Run())
	ok(t, p, "release", "--yes", "--without-server")
}

func TestTwoReleasesAtOnce(t *testing.T) {
	p := project(t, "highline")
	lock, err := safefile.Acquire(filepath.Join(p, ".vornix"), "vornix release")
	require.NoError(t, err)
	o := vornix(t, p, "release", "--yes", "--without-server")
	assert.Equal(t, 3, o.exit)
	assert.Contains(t, o.err, "'vornix release' (process ")
	assert.Contains(t, o.err, "nothing was changed")
	ok(t, p, "status") // looking is always possible
	ok(t, p, "check")
	lock.Release()

	done := make(chan outcome, 2)
	for range 2 {
		go func() { done <- vornix(t, p, "release", "--yes", "--without-server") }()
	}
	a, b := <-done, <-done
	assert.Contains(t, [][]int{{0, 3}, {3, 0}, {0, 0}}, []int{a.exit, b.exit}, "%s%s", a.err, b.err)
	ok(t, p, "release", "--yes", "--without-server")
}

func TestInterrupt(t *testing.T) {
	thorough.Only(t)
	if runtime.GOOS == "windows" {
		t.Skip("a process can't be sent Ctrl-C alone on Windows")
	}
	p := project(t, "highline")
	for i := range 4 { // enough large noise to be busy for some seconds
		img := image.NewNRGBA(image.Rect(0, 0, 1024, 1024))
		for k := range img.Pix {
			img.Pix[k] = uint8(k*k>>5 + k*i)
		}
		for k := 3; k < len(img.Pix); k += 4 {
			img.Pix[k] = 255
		}
		img.SetNRGBA(0, 0, color.NRGBA{uint8(i), 0, 0, 255})
		f, err := os.Create(filepath.Join(p, "textures", fmt.Sprintf("big%d.png", i)))
		require.NoError(t, err)
		require.NoError(t, (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(f, img))
		require.NoError(t, f.Close())
		require.NoError(t,
			os.WriteFile(filepath.Join(p, "materials", fmt.Sprintf("big%d.toml", i)),
				fmt.Appendf(nil, "colour = \"big%d\"\n", i), 0o666))
		edit(t, p, "maps/cairn_station.vnx", "solid deck box",
			fmt.Sprintf("solid big%d box 60,60,0 61,61,%d material=big%d\nsolid deck box", i, i+1, i))
	}
	cmd := command(p, "release", "--yes", "--without-server")
	var errs bytes.Buffer
	cmd.Stderr = &errs
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		found, _ := filepath.Glob(filepath.Join(p, "out/tree/textures/big*.ktx2"))
		return len(found) > 1
	}, 30*time.Second, 5*time.Millisecond, "the build gets going")
	begin := time.Now()
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	assert.Less(t, time.Since(begin), time.Second, "Ctrl-C stops within a second")
	assert.Equal(t, 130, cmd.ProcessState.ExitCode(), errs.String())
	assert.Contains(t, errs.String(), "interrupted")
	assert.NoDirExists(t, filepath.Join(p, "out/bundles"))
	noTemps(t, p)
	steps := parse(t, ok(t, p, "release", "--yes", "--without-server", "--json")).Steps
	assert.NotContains(t, steps[1].Summary, " 0 kept", "what was finished before is kept: %s", steps[1].Summary)
}

func TestNewProjects(t *testing.T) {
	t.Parallel()
	for _, profile := range []string{"kestrel-post", "burrow-tramways"} {
		dir := t.TempDir()
		ok(t, dir, "new", "My Maps", "--profile", profile)
		p := filepath.Join(dir, "My Maps")
		assert.Contains(t, ok(t, p, "check").out, "nothing wrong")
		ok(t, p, "pack")
		assert.Contains(t, ok(t, p, "try").out, "1 of 1 map loaded")
		data, err := os.ReadFile(filepath.Join(p, "vornix.toml"))
		require.NoError(t, err)
		assert.Contains(t, string(data), `name = "my_maps"`)
		assert.Equal(t, 3, vornix(t, dir, "new", "My Maps", "--profile", profile).exit,
			"what is there is not overwritten")
	}
	dir := t.TempDir()
	o := vornix(t, dir, "new", "x", "--profile", "kestrel-pots")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, `Did you mean "kestrel-post"?`)
	o = vornix(t, dir, "new", "x")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "burrow-tramways, kestrel-post")
	own := strings.Replace(string(must(os.ReadFile("../../demo/profiles/kestrel-post.toml"))), `id = "kestrel-post"`,
		`id = "own-game"`, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own.toml"), []byte(own), 0o666))
	put(t, filepath.Join(dir, "profiles", "own-game.toml"), own)
	ok(t, dir, "new", "named", "--profile", "own-game")
	assert.FileExists(t, filepath.Join(dir, "named/profiles/own-game.toml"),
		"it comes from the folder here, so it goes along")
	ok(t, dir, "new", "own", "--profile", "own.toml", "--title", "Own \"Maps\"")
	assert.FileExists(t, filepath.Join(dir, "own/profiles/own-game.toml"))
	assert.Contains(t, ok(t, filepath.Join(dir, "own"), "check").out, "nothing wrong")
}

// A project of files that somebody has: it says what it takes for what, takes metadata over, leaves
// the pile as it is, and builds.
func TestAProjectOfAPile(t *testing.T) {
	t.Parallel()
	from := project(t, "lower-sidings")
	ok(t, from, "addon", "write")
	dir := t.TempDir()
	pile := filepath.Join(dir, "old stuff")
	for folder, to := range map[string]string{"maps": "src", "materials": "mat", "textures": "img",
		"sprites": "img/sprites", "sounds": "noises"} {
		require.NoError(t, os.CopyFS(filepath.Join(pile, to), os.DirFS(filepath.Join(from, folder))))
	}
	put(t, filepath.Join(pile, "info.ini"), "[depot]\ntitle = Old Sidings\nversion = 3.1.4\nsignal = green\n")
	put(t, filepath.Join(pile, "thing.blend"), "x")
	plan := ok(t, dir, "new", "--from", "old stuff", "--plan").out
	for _, want := range []string{"for Burrow Tramways, as the maps tell", "thing.blend",
		"nothing of a project ends in .blend", "[sources]", `maps = "src"`, "nothing was written"} {
		assert.Contains(t, plan, want)
	}
	assert.NoFileExists(t, filepath.Join(pile, "vornix.toml"))
	a := parse(t, ok(t, dir, "new", "again", "--from", "old stuff", "--json"))
	var result struct {
		From   string
		Errors int
		Taken  []struct{ To, State string }
	}
	require.NoError(t, json.Unmarshal(a.Result, &result))
	assert.Zero(t, result.Errors)
	assert.Contains(t, ok(t, filepath.Join(dir, "again"), "pack").out, "1 bundle with 22 packed files")
	assert.NoFileExists(t, filepath.Join(pile, "vornix.toml"), "the pile stays as it is")
	assert.Equal(t, 3, vornix(t, dir, "new", "again", "--from", "old stuff").exit, "what is there is not overwritten")
	ok(t, dir, "new", "old stuff", "--from", "old stuff", "--title", "In Place")
	assert.Contains(t, read(t, pile, "vornix.toml"), `title = "In Place"`)
	assert.Equal(t, 2, vornix(t, dir, "new", "third", "--from", "old stuff").exit, "it is a project now")
	assert.Equal(t, 2, vornix(t, dir, "new").exit, "there is nobody to ask")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestAServerFromPlanToRollback runs the stand-in as a process of its own and deploys to it.
func TestAServerFromPlanToRollback(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	folder := filepath.Join(p, "..", "servers", "kestrel")
	server := command(p, "stand", "server", folder, "--json")
	var said bytes.Buffer
	server.Stdout = &said
	require.NoError(t, server.Start())
	defer func() { _ = server.Process.Kill() }()
	var url string
	require.Eventually(t, func() bool {
		data, err := os.ReadFile(filepath.Join(folder, "stand-server.url"))
		url = strings.TrimSpace(string(data))
		return err == nil
	}, 30*time.Second, 10*time.Millisecond)
	playing := func() string {
		resp, err := http.Get(url + "/status")
		require.NoError(t, err)
		defer resp.Body.Close()
		var st gameserver.Status
		require.NoError(t, json.NewDecoder(resp.Body).Decode(&st))
		return st.Playing
	}
	assert.Empty(t, playing())
	ok(t, p, "pack")
	plan := ok(t, p, "deploy", "practice", "--plan")
	assert.Regexp(t, `add +parcels/highline-1.0.0.parcel`, plan.out)
	assert.Regexp(t, `change +stations.txt`, plan.out)
	assert.Empty(t, playing(), "a plan changes nothing")
	assert.Contains(t, ok(t, p, "deploy", "practice", "--yes").out, "has loaded cairn_station")
	assert.Equal(t, "cairn_station", playing())
	assert.Contains(t, ok(t, p, "status").out, "its server plays cairn_station")
	assert.Contains(t, ok(t, p, "deploy", "rollback", "practice", "--plan").out, "nothing of this project")
	assert.Equal(t, "cairn_station", playing())
	ok(t, p, "deploy", "rollback", "practice", "--yes")
	assert.Empty(t, playing())
	if runtime.GOOS != "windows" {
		require.NoError(t, server.Process.Signal(os.Interrupt))
		_ = server.Wait()
		assert.Zero(t, server.ProcessState.ExitCode(), "Ctrl-C is how the stand-in is meant to end")
		assert.NoFileExists(t, filepath.Join(folder, "stand-server.url"))
		assert.Contains(t, string(parse(t, outcome{out: said.String()}).Result), url)
	}
}

func TestInspect(t *testing.T) {
	t.Parallel()
	dir := demotest.WriteCached(t)
	ok(t, filepath.Join(dir, "highline"), "release", "--yes", "--without-server")
	ok(t, filepath.Join(dir, "lower-sidings"), "pack")
	for file, say := range map[string]string{
		"highline/out/tree/maps/cairn_station.vnm":            "574 faces, 3012 vertices, 62 bodies, 237 leaves, 5 props",
		"highline/out/bundles/highline-1.0.0.parcel":          "49 entries, all read and whole",
		"highline/out/tree/textures/sign/highline.ktx2":       "texture 256 x 128, bc3, sRGB, 9 levels, one bit alpha",
		"highline/textures/snow/drift.jpg":                    "JPEG 512 x 512, opaque colour",
		"highline/textures/sign/highline.png":                 "bc3, of the kind colour (colour with one bit alpha: bc3 keeps all of it in the least room)",
		"highline/maps/cairn_station.vnx":                     "uses wood/plank",
		"highline/models/props/mail_crate.glb":                "108 triangles, 0.84 x 0.84 x 0.80 m",
		"highline/out/index/index.json":                       "Highline for kestrel-post, index number 1, not signed",
		"lower-sidings/out/bundles/tram_depot.vnm":            "2 grids, 1024 cells",
		"lower-sidings/out/tree/tiles/pixels/earth/floor.dds": "texture 16 x 16, bc1",
		"lower-sidings/out/tree/creatures/mole.json":          "sprite: 1 page of 96 x 36, 10 pictures, stands on texel 8, 13",
		"highline/out/tree/textures/rock/cairn_bumps.ktx2":    "of the kind normal; opaque normals: bc5 keeps two channels apart",
	} {
		assert.Contains(t, ok(t, dir, "inspect", file).out, say, file)
		assert.True(t, parse(t, ok(t, dir, "inspect", file, "--json")).OK, file)
	}
	data := must(os.ReadFile(filepath.Join(dir, "highline/out/tree/maps/cairn_station.vnm")))
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.vnm"), data, 0o666))
	o := vornix(t, dir, "inspect", "bad.vnm")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "damaged: its checksum does not fit")
}

func TestNeeds(t *testing.T) {
	p := project(t, "highline")
	tree := ok(t, p, "needs", "cairn_station").out
	assert.Contains(t, tree, "map cairn_station")
	assert.Regexp(t, `(?m)^  material rock/slab +materials/rock/slab.toml +64 B$`, tree)
	assert.Regexp(t, `(?m)^    texture rock/slab +textures/rock/slab.png +[0-9.]+ kB$`, tree)
	assert.Regexp(t, `(?m)^  sound station/bell +missing$`, tree)
	assert.Contains(t, tree, "29 files, ")
	assert.Regexp(t, `(?m)^    texture rock/cairn_bumps +textures/rock/cairn_bumps.png and 1 more +[0-9.]+ kB$`, tree)
	assert.Regexp(t, `(?m)^  material rock/cairn_wet .*\n    material rock/cairn \(inherits\)`, tree)
	assert.Contains(t, ok(t, p, "needs", "--by", "material rock/cairn").out, "material rock/cairn_wet (inherits)")
	by := ok(t, p, "needs", "--by", "textures/rock/slab.png").out
	assert.Regexp(t, `(?s)texture rock/slab.*  material rock/slab.*    map cairn_station`, by)
	assert.Contains(t, ok(t, p, "needs", "--by", "sounds/wind/gust.wav").out, "nothing needs it")
	several := vornix(t, p, "needs", "rock/slab")
	assert.Equal(t, 2, several.exit)
	assert.Contains(t, several.err, `Say which: "material rock/slab" "texture rock/slab"`)
	var result struct {
		Kind, Name string
		Needs      []struct {
			Name    string
			Missing bool
		}
	}
	require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "needs", "material rock/slab", "--json")).Result, &result))
	assert.Equal(t, "material", result.Kind)
	require.Len(t, result.Needs, 1)
	assert.Equal(t, "rock/slab", result.Needs[0].Name)
}

func TestOneTexture(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	assert.Contains(t, ok(t, p, "texture", "textures/sign/highline.png", "sign.ktx2").out,
		"sign.ktx2: 256 x 128, bc1a, 9 levels")
	assert.Contains(t, ok(t, p, "inspect", "sign.ktx2").out, "bc1a, sRGB, 9 levels, one bit alpha")
	lossy := ok(t, p, "texture", "textures/sign/highline.png", "sign.dds", "--format", "bc1", "--mips", "none").out
	assert.Regexp(t,
		`sign.dds: 256 x 128, bc1, 1 level, 16.5 kB\n.*\n  \d+ of 32768 texels lose their one bit alpha \(up to 255 of 255 off\) in bc1`, lossy)
	ok(t, p, "texture", "sign.ktx2", "sign.png")
	assert.Contains(t, ok(t, p, "inspect", "sign.png").out, "PNG 256 x 128, colour with one bit alpha")
	a := parse(t, ok(t, p, "texture", "textures/rock/slab.png", "h.ktx2", "--format", "bc4", "--colour-space", "linear",
		"--json"))
	assert.Contains(t, string(a.Result), `"lost_colour": 262144`)
	for args, say := range map[string]string{
		"textures/rock/slab.png out.jpg":                  "End it in .ktx2, .dds or .png",
		"textures/rock/slab.png out.dds --format bc9":     `no --format "bc9"`,
		"textures/rock/slab.png out.dds --format bc4":     "holds data, not colours",
		"textures/rock/slap.png out.dds":                  "could not read the image",
		"textures/rock/slab.png out.png --format bc1":     "--format does nothing here",
		"textures/rock/slab.png out.dds --zstd":           "OUT to end in .ktx2",
		"textures/rock/slab.png out.dds --strength 3":     "It needs --from-height",
		"textures/rock/slab.png out.dds --green up":       "--kind normal or --from-height",
		"textures/rock/slab.png out.dds --level 1":        "OUT to end in .png",
		"textures/rock/slab.png out.dds --resize 0x4":     "such as 512x256",
		"textures/rock/slab.png out.dds --mips some":      "--mips is full, none or a number",
		"textures/rock/slab.png out.dds --colour-space x": "Use srgb, linear",
	} {
		o := vornix(t, p, append([]string{"texture"}, strings.Fields(args)...)...)
		assert.Equal(t, 2, o.exit, args)
		assert.Contains(t, o.err, say)
	}
	// Each option does something, and says what.
	height := ok(t, p, "texture", "textures/rock/cairn_bumps.png", "n.ktx2", "--from-height", "--strength", "6",
		"--edge", "wrap", "--zstd", "--mips", "3").out
	assert.Contains(t, height, "n.ktx2: 512 x 512, bc5, 3 levels")
	assert.Contains(t, height, "keeps two channels apart")
	flat := ok(t, p, "texture", "textures/rock/cairn_bumps.png", "c.ktx2", "--kind", "normal").out
	assert.Contains(t, flat, "no direction of length one: it is grey all over, as a height image is")
	assert.Contains(t, ok(t, p, "texture", "textures/metal/rail.png", "b.ktx2", "--quality", "best").out,
		"bc7 keeps it closest")
	ok(t, p, "texture", "textures/rock/slab.png", "small.dds", "--resize", "100x30", "--dds-header", "plain",
		"--filter", "cubic")
	assert.Contains(t, ok(t, p, "inspect", "small.dds").out,
		"texture 100 x 30, bc1, sRGB or linear (the plain header does not say), 7 levels")
	ok(t, p, "texture", "small.dds", "level.png", "--level", "2")
	assert.Contains(t, ok(t, p, "inspect", "level.png").out, "PNG 25 x 7")
	assert.Contains(t, ok(t, p, "texture", "level.png", "pow.ktx2", "--size", "up", "--aspect", "keep").out,
		"pow.ktx2: 32 x 8")
	cube := []string{"texture"}
	for range 6 {
		cube = append(cube, "textures/rock/slab.png")
	}
	ok(t, p, append(cube, "cube.ktx2", "--shape", "cube", "--format", "bc6h", "--kind", "light", "--quality",
		"draft")...)
	assert.Contains(t, ok(t, p, "inspect", "cube.ktx2").out, "cube of 6 images, each 512 x 512, bc6h, linear")
	ok(t, p, "texture", "cube.ktx2", "cube.dds", "--format", "rgba16f", "--mips", "none")
	assert.Contains(t, ok(t, p, "inspect", "cube.dds", "--picture", "cube.png").out,
		"cube of 6 images, each 512 x 512, rgba16f")
	assert.Contains(t, ok(t, p, "inspect", "cube.png").out, "PNG 1256 x ")
	o := vornix(t, p, "texture", "cube.ktx2", "x.dds", "--format", "bc6h", "--dds-header", "plain")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "without the DX10 header")
	o = vornix(t, p, "texture", "vornix.toml", "out.dds")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "none of PNG, JPEG")
	assert.NoFileExists(t, filepath.Join(p, "out.dds"))
}

// A map source by itself: compiled, written as a scene, drawn, compared; what it needs is found from its own folder.
func TestMapsByThemselves(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	o := ok(t, p, "map", "maps/saltpan_relay.vnx", "a.vnm", "--picture", "a.png", "--stage", "none")
	assert.Contains(t, o.out, "1 line on layers that a release leaves out")
	assert.Equal(t, []int{1280, 800}, func() []int {
		img := must(png.Decode(bytes.NewReader(must(os.ReadFile(filepath.Join(p, "a.png"))))))
		return []int{img.Bounds().Dx(), img.Bounds().Dy()}
	}())
	ok(t, p, "build", "--stage", "none")
	assert.Equal(t, must(os.ReadFile(filepath.Join(p, "out/tree/maps/saltpan_relay.vnm"))),
		must(os.ReadFile(filepath.Join(p, "a.vnm"))), "as the build makes it")
	assert.Contains(t, ok(t, p, "diff", "a.vnm", "out/tree/maps/saltpan_relay.vnm").out, "the two maps are the same")
	var made struct {
		LeftOut int `json:"left_out"`
	}
	require.NoError(t,
		json.Unmarshal(parse(t,
			ok(t, p, "map", "maps/saltpan_relay.vnx", "b.vnm", "--layer", "helpers", "--stage", "none",
				"--json")).Result, &made))
	assert.Zero(t, made.LeftOut)
	assert.Contains(t, ok(t, p, "diff", "a.vnm", "b.vnm").out, "spawn builder at 0,-20,6")
	// A scene, with the project's textures, is a map source again.
	ok(t, p, "inspect", "out/tree/maps/saltpan_relay.vnm", "--glb", "scene.glb")
	ok(t, p, "map", "maps/saltpan_relay.vnx", "scene2.glb")
	assert.Equal(t, must(os.ReadFile(filepath.Join(p, "scene.glb"))), must(os.ReadFile(filepath.Join(p, "scene2.glb"))))
	require.NoError(t, os.Rename(filepath.Join(p, "scene.glb"), filepath.Join(p, "maps/saltpan_scene.glb")))
	edit(t, p, "vornix.toml", "[addon]", "[pack]\ninclude = []\n\n[addon]")
	check := vornix(t, p, "check")
	assert.Contains(t, check.out, "3 maps")
	assert.Contains(t, ok(t, p, "needs", "saltpan_scene").out, "material rock/slab")
	// Outside of any project materials are plain.
	lone := t.TempDir()
	require.NoError(t,
		os.WriteFile(filepath.Join(lone, "m.vnx"),
			[]byte("map m\nsolid s box 0,0,0 1,1,1 material=a\nprop x model=y at=0,0,1\n"), 0o644))
	o = ok(t, lone, "map", "m.vnx", "m.vnm")
	assert.Contains(t, o.err, `the model "y" is not there`)
	assert.Contains(t, ok(t, lone, "inspect", "m.vnm").out, "6 faces")
	require.NoError(t,
		os.WriteFile(filepath.Join(lone, "open.vnx"),
			[]byte("map open sealed=yes\nsolid s box 0,0,0 1,1,1 material=a\nspawn s at=0.5,0.5,1\n"), 0o644))
	o = vornix(t, lone, "map", "open.vnx", "open.vnm", "--picture", "leak.png")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "open.vnm was written, but 1 error found")
	assert.FileExists(t, filepath.Join(lone, "leak.png"), "which shows where")
	for _, c := range []struct {
		args []string
		exit int
		say  string
	}{
		{[]string{"map", "m.vnx", "m.zip"}, 2, "End it in .vnm or .glb"},
		{[]string{"map", "m.vnm", "n.vnm"}, 2, "is no map source"},
		{[]string{"map", "gone.vnx", "n.vnm"}, 2, "could not read the map source"},
		{[]string{"map", "m.vnx", "n.vnm", "--layer", "helpers"}, 2, `no layer "helpers"`},
		{[]string{"diff", "m.vnm", "m.vnx"}, 2, "the bundle can't be read"},
		{[]string{"inspect", "m.vnm", "--glb", "x.obj"}, 2, "End it in .glb"},
	} {
		o := vornix(t, lone, c.args...)
		assert.Equal(t, c.exit, o.exit, c.args)
		assert.Contains(t, o.err, c.say)
		assert.NoFileExists(t, filepath.Join(lone, "n.vnm"))
	}
	require.NoError(t, os.WriteFile(filepath.Join(lone, "bad.glb"), []byte("glTF\x02\x00\x00\x00"), 0o644))
	assert.Contains(t, vornix(t, lone, "map", "bad.glb", "n.vnm").err, "the scene can't be read: it is cut short")
}

func TestSpriteAndScale(t *testing.T) {
	p := project(t, "lower-sidings")
	assert.Regexp(t, `walk +east, west +4 +500 ms +again`, ok(t, p, "sprite", "sprites/mole.toml").out)
	assert.Contains(t, ok(t, filepath.Join(p, "sprites"), "sprite", "lamp.toml", "glow.gif").out,
		"4 frames of glow, 64 x 64")
	o := vornix(t, p, "sprite", "sprites/mole.toml", "x.gif", "--state", "wlak")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, `Did you mean "walk"?`)
	o = vornix(t, p, "sprite", "sprites/mole.toml", "x.bmp")
	assert.Equal(t, 2, o.exit)
	edit(t, p, "sprites/mole.toml", "[0, 1]", "[0, 99]")
	o = vornix(t, p, "sprite", "sprites/mole.toml", "x.gif", "--state", "idle")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "there is no frame 99: the image holds 4 x 4, from 0 to 15")
	assert.Regexp(t, `across +6 m +512 +4 m +2 +3 m +170.7`, ok(t, p, "scale", "6", "512x512").out)
	assert.Equal(t, 2, vornix(t, p, "sprite", "sprites/mole.toml", "--state", "walk").exit)
	assert.Equal(t, 2, vornix(t, p, "inspect", "sprites/mole.toml", "--picture", "x.png").exit)
	assert.Equal(t, 2, vornix(t, p, "inspect", "sprites/mole.png", "--glb", "x.glb").exit)
	assert.Equal(t, 2, vornix(t, p, "inspect", "sprites/mole.png", "--source", "sprites/mole.png").exit)
	for _, bad := range [][]string{{"scale", "six", "512x512"}, {"scale", "6x0", "512x512"},
		{"scale", "6", "nothing.png"}, {"scale", "6", "512x512", "--density", "0"}} {
		assert.Equal(t, 2, vornix(t, p, bad...).exit, bad)
	}
}

func TestPathsCountFromWhereOneStands(t *testing.T) {
	t.Parallel()
	p := filepath.Join(demotest.WriteLit(t), "highline")
	deep := filepath.Join(p, "textures", "rock")
	assert.Contains(t, ok(t, deep, "build", "slab.png").out, "1 made")
	assert.Contains(t, ok(t, deep, "build", ".").out, "2 made, 1 kept")
	assert.Contains(t, ok(t, deep, "needs", "--by", "slab.png").out, "map cairn_station")
	assert.Contains(t, ok(t, p, "build", "cairn_station").out, "1 made")
	assert.Contains(t, ok(t, p, "build", ".").out, "out/tree has 49 files")
}

func TestFmt(t *testing.T) {
	p := project(t, "highline")
	file := "maps/cairn_station.vnx"
	ok(t, p, "fmt", "--check", file)
	edit(t, p, file, "spawn blue_1 at=3,3,0.5 facing=90 team=blue", "spawn   blue_1 team=blue   facing=90.0 at=3,3,.5")
	rough := must(os.ReadFile(filepath.Join(p, file)))
	assert.Equal(t, 1, vornix(t, p, "fmt", "--check", file).exit)
	assert.Equal(t, rough, must(os.ReadFile(filepath.Join(p, file))), "--check changes nothing")
	ok(t, p, "fmt", file)
	assert.Contains(t, string(must(os.ReadFile(filepath.Join(p, file)))),
		"spawn blue_1 at=3,3,0.5 facing=90 team=blue\n")
	edit(t, p, file, "solid deck", "solib deck")
	wrong := must(os.ReadFile(filepath.Join(p, file)))
	assert.Equal(t, 1, vornix(t, p, "fmt", file).exit)
	assert.Equal(t, wrong, must(os.ReadFile(filepath.Join(p, file))), "a file with mistakes is left as it is")
}

func TestStatusSaysWhatToDoNext(t *testing.T) {
	t.Parallel()
	p := filepath.Join(demotest.Write(t), "lower-sidings")
	next := func() string {
		var st struct {
			Next     string
			Released string
			Stale    []string
		}
		require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "status", "--json")).Result, &st))
		return st.Next
	}
	assert.Equal(t, "vornix build", next())
	plan := parse(t, ok(t, p, "release", "--plan", "--json"))
	assert.Contains(t, string(plan.Result), `"map tram_depot"`)
	assert.NoDirExists(t, filepath.Join(p, "out"), "neither status nor a plan changes anything")
	assert.NoDirExists(t, filepath.Join(p, ".vornix"))
	ok(t, p, "build")
	assert.Equal(t, "vornix shoot", next())
	assert.Contains(t, ok(t, p, "status").out, "1 to make: page tram_depot")
	ok(t, p, "shoot")
	assert.Equal(t, "vornix pack", next())
	ok(t, p, "pack")
	assert.Equal(t, "vornix try", next())
	ok(t, p, "try")
	assert.Equal(t, "vornix index write", next())
	ok(t, p, "index", "write")
	ok(t, p, "index", "check")
	assert.Equal(t, "vornix release", next())
	ok(t, p, "release", "--yes", "--without-server")
	assert.Empty(t, next())
	assert.Contains(t, ok(t, p, "status").out, "nothing to do: version 1.0.0 is where it belongs")
	edit(t, p, "maps/tram_depot.vnx", "shed_1 at=3,2,0", "shed_1 at=3,3,0")
	assert.Equal(t, "vornix build", next())
	assert.Contains(t, ok(t, p, "status").out, "2 to build: map tram_depot, picture label tram_depot")
	ok(t, p, "shoot")
	ok(t, p, "pack")
	ok(t, p, "try")
	ok(t, p, "index", "check")
	assert.Equal(t, "vornix release 1.0.1", next(), "what is packed is not what was released")
	assert.Equal(t, 3, vornix(t, p, "release", "--yes", "--without-server").exit)
	ok(t, p, "release", "1.0.1", "--yes", "--without-server", "--until", "index")
	assert.Contains(t, ok(t, p, "status").out, "under way     the release of 1.0.1, which came as far as index")
	assert.Equal(t, "vornix release", next())
	ok(t, p, "release", "--yes", "--without-server")
	assert.Empty(t, next())
	put(t, filepath.Join(p, "..", "servers", "burrow", "levels", "tram_depot.vnm"), "somebody was here")
	assert.Equal(t, "vornix deploy practice --plan", next())
	edit(t, p, "maps/tram_depot.vnx", "shed_1", "shed 1")
	assert.Equal(t, "vornix check", next())
}

// Every command has help with at least two real examples, --json, --quiet, --project and --jobs.
func TestHelp(t *testing.T) {
	var commands [][]string
	var visit func(path []string)
	visit = func(path []string) {
		commands = append(commands, path)
		help := ok(t, ".", append(path, "--help")...).out
		if _, list, found := strings.Cut(help, "\nAvailable Commands:\n"); found {
			block, _, _ := strings.Cut(list, "\n\n")
			for _, m := range regexp.MustCompile(`(?m)^  (\w+) `).FindAllStringSubmatch(block, -1) {
				visit(append(append([]string{}, path...), m[1]))
			}
		}
	}
	for _, c := range strings.Fields("new demo check build pack try addon index deploy release status inspect needs texture fmt stand") {
		visit([]string{c})
	}
	assert.Greater(t, len(commands), 18)
	for _, c := range commands {
		help := ok(t, ".", append(c, "--help")...).out
		_, examples, found := strings.Cut(help, "\nExamples:\n")
		require.True(t, found, "%v has no examples", c)
		block, _, _ := strings.Cut(examples, "\n\n")
		assert.GreaterOrEqual(t, len(strings.Split(block, "\n")), 2, "%v: two examples", c)
		for _, flag := range []string{"--json", "--quiet", "--project", "--jobs"} {
			assert.Contains(t, help, flag, "%v", c)
		}
		for line := range strings.SplitSeq(help, "\n") {
			assert.LessOrEqual(t, len([]rune(line)), 150, "%v: %s", c, line)
		}
	}
	assert.Regexp(t, `^vornix .+ \(go1\.\d+.*, \w+/\w+.*\)\n$`, ok(t, ".", "--version").out)
}

func TestCompletionKnowsTargets(t *testing.T) {
	p := project(t, "highline")
	assert.Contains(t, ok(t, p, "__complete", "deploy", "").out, "practice\n")
	assert.Contains(t, ok(t, p, "completion", "bash").out, "vornix")
}

// Colour is for terminals, and only when it is wanted; text from files never reaches the terminal raw.
func TestColourAndControlCharacters(t *testing.T) {
	p := project(t, "highline")
	edit(t, p, "vornix.toml", `title = "Highline"`, `title = "High\u001b[31mline"`)
	edit(t, p, "vornix.toml", "[addon]", "[addon]\nevil = \"\\u001b]0;x\\u0007\"")
	for _, args := range [][]string{{"check"}, {"status"}, {"addon", "check"}} {
		o := vornix(t, p, args...)
		assert.NotContains(t, o.out+o.err, "\x1b", "%v", args)
	}
	script := peer.Need(t, "script")
	on := func(env ...string) string {
		cmd := exec.Command(script, "-qec", exe+" check", "/dev/null")
		cmd.Dir, cmd.Env = project(t, "highline"), append(append(os.Environ(), "TERM=xterm"), env...)
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	assert.Contains(t, on(), "\x1b[33mwarning")
	assert.NotContains(t, on("NO_COLOR=1"), "\x1b[")
}

func TestQuietAndVerbose(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	quiet := ok(t, p, "check", "--quiet")
	assert.Empty(t, quiet.out+quiet.err, "warnings and notes are not errors")
	assert.NotContains(t, ok(t, p, "check").err, "compares whole mode names")
	assert.Contains(t, ok(t, p, "check", "--verbose").err, "accepted Kestrel Post compares whole mode names")
	ids := []string{}
	for _, f := range parse(t, ok(t, p, "check", "--json")).Steps[0].Findings {
		ids = append(ids, f.ID)
	}
	slices.Sort(ids)
	assert.Equal(t, []string{"asset.unused", "asset.unused", "file.stray", "file.stray", "mode.contained",
		"sound.missing"}, ids, "JSON has everything")
	short := ok(t, p, "build").out
	assert.Contains(t, short, "and 41 smaller (--verbose lists all)")
}

// A map drawn by a modelling program: its scene in the project is checked, built, tried and packed
// like any other, and its mistakes name the node.
func TestScenesInAProject(t *testing.T) {
	t.Parallel()
	p := project(t, "highline")
	ok(t, p, "map", "maps/saltpan_relay.vnx", "maps/saltpan_again.glb")
	require.NoError(t, os.Remove(filepath.Join(p, "maps/saltpan_relay.vnx")))
	o := vornix(t, p, "check")
	assert.Equal(t, 1, o.exit)
	assert.NotContains(t, o.err, "spawn.none", "spawns came along")
	assert.NotContains(t, o.err, "item.property", "and properties, with their types")
	assert.NotContains(t, o.err, "item.required")
	assert.Contains(t, o.err, "spawn.outside",
		"but ground that was a terrain is a prop that nobody is known to stand on")
	scene := must(os.ReadFile(filepath.Join(p, "maps/saltpan_again.glb")))
	require.NoError(t,
		os.WriteFile(filepath.Join(p, "maps/saltpan_again.glb"),
			bytes.Replace(scene, []byte(`"rank":"1"`), []byte(`"rank":"x"`), 1), 0o644))
	assert.Contains(t, vornix(t, p, "check").err, `rank of the winch must be a whole number, and is "x"`)
	o = ok(t, p, "inspect", "maps/saltpan_again.glb", "--json")
	var inspected struct {
		Kind   string
		Counts map[string]int
	}
	require.NoError(t, json.Unmarshal(parse(t, o).Result, &inspected))
	assert.Equal(t, "map source", inspected.Kind)
	assert.Equal(t, 6, inspected.Counts["spawns"])
	assert.Equal(t, 7, inspected.Counts["lights"])
}
