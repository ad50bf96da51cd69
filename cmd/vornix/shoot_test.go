package main_test

import (
	"encoding/json"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/release"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

// shotsOf reads what shoot answers.
func shotsOf(t *testing.T, o outcome) release.Shots {
	t.Helper()
	var s release.Shots
	require.NoError(t, json.Unmarshal(parse(t, o).Result, &s))
	return s
}

// Shoot makes every picture that the game asks for, says what it is made of and where it is, and does nothing twice.
func TestShoot(t *testing.T) {
	t.Parallel()
	p := filepath.Join(demotest.WriteCached(t), "highline")
	one := shotsOf(t, ok(t, p, "shoot", "cairn_station", "--json"))
	assert.Len(t, one.Shots, 7)
	all := shotsOf(t, ok(t, p, "shoot", "--json"))
	assert.Len(t, all.Shots, 15)
	for _, s := range all.Shots {
		info, err := os.Stat(filepath.Join(p, s.File))
		require.NoError(t, err)
		assert.Equal(t, info.Size(), s.Size)
	}
	text := ok(t, p, "shoot").out
	assert.Contains(t, text, "nothing changed: all 15 pictures as before")
	assert.Regexp(t, `page +cairn_station +camera porch +100 x 56 +out/pictures/cairn_station-page.jpg .* kept`, text)
	assert.Regexp(t, `banner +the project +pictures/ridge.png`, text)
	assert.Empty(t, ok(t, p, "shoot", "--quiet").out)
	edit(t, p, "maps/cairn_station.vnx", "camera hall ", "camera loading_2 ")
	edit(t, p, "profiles/kestrel-post.toml", "count = 2", "count = 4")
	assert.Contains(t, ok(t, p, "shoot").out, "not made: loading saltpan_relay 4 wide, the map has 3 of the cameras")
	ok(t, p, "release", "--yes", "--without-server")
	assert.FileExists(t, filepath.Join(p, "out/releases/1.0.0/pictures/cairn_station-page.jpg"))
	require.NoError(t, os.Remove(filepath.Join(p, "out/pictures/banner.jpg")))
	assert.Contains(t, ok(t, p, "shoot").out, "banner.jpg", "what somebody deleted comes back")
	assert.FileExists(t, filepath.Join(p, "out/pictures/banner.jpg"))
}

// A missing picture is found before anything is built, and a release stops for it.
func TestAMissingPictureStopsARelease(t *testing.T) {
	p := project(t, "highline")
	edit(t, p, "vornix.toml", `camera = "porch"`, `camera = "proch"`)
	for _, args := range []string{"check", "shoot", "release --yes --without-server"} {
		o := vornix(t, p, strings.Fields(args)...)
		assert.Equal(t, 1, o.exit, args)
		assert.Contains(t, o.err,
			`vornix.toml:25:1  the picture page of cairn_station is to be taken by the camera "proch", which the map does not have [picture.camera]`, args)
		assert.Contains(t, o.err, `Did you mean "porch"?`)
	}
	assert.NoDirExists(t, filepath.Join(p, "out/bundles"))
	o := vornix(t, p, "shoot", "cairn_satation")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, "The maps are: cairn_station, saltpan_relay.")
}

// Plan views show a map to those who build it: cut open, with names.
func TestPlanViews(t *testing.T) {
	t.Parallel()
	dir := demotest.WriteCached(t)
	for project, files := range map[string][]string{"highline": {"cairn_station-above.png",
		"cairn_station-isometric.png"}, "lower-sidings": {"tram_depot-levels.png"}} {
		p := filepath.Join(dir, project)
		ok(t, p, "shoot", strings.Split(files[0], "-")[0], "--plan-view")
		for _, name := range files {
			f, err := os.Open(filepath.Join(p, "out/pictures/plans", name))
			require.NoError(t, err)
			img, err := png.Decode(f)
			f.Close()
			require.NoError(t, err)
			assert.Equal(t, 1280, img.Bounds().Dx())
			blue := 0 // spawns
			for y := range 800 {
				for x := range 1280 {
					if r, g, b, _ := img.At(x, y).RGBA(); r>>8 == 0x1f && g>>8 == 0x6f && b>>8 == 0xb5 {
						blue++
					}
				}
			}
			assert.Greater(t, blue, 100, name)
		}
	}
}

// A quick look needs a terminal, or a file; on a terminal it is drawn with coloured blocks.
func TestAQuickLook(t *testing.T) {
	t.Parallel()
	p := filepath.Join(demotest.WriteCached(t), "highline")
	ok(t, p, "build")
	built := "out/tree/maps/cairn_station.vnm"
	for args, want := range map[string]string{
		"--shot porch":                            "there is no terminal to draw the shot on",
		"--shot proch --picture a.png":            `Did you mean "porch"?`,
		"--shot porch --view lit --picture a.png": "--shot is a view and a camera at once",
	} {
		o := vornix(t, p, append([]string{"inspect", built}, strings.Fields(args)...)...)
		assert.Equal(t, 2, o.exit, args)
		assert.Contains(t, o.err, want)
	}
	cmd := exec.Command(peer.Need(t, "script"), "-qec", exe+" inspect "+built+" --shot porch", "/dev/null")
	cmd.Dir, cmd.Env = p, append(os.Environ(), "TERM=xterm-256color", "NO_COLOR=")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Greater(t, strings.Count(string(out), "▀"), 80*20)
	assert.Contains(t, string(out), "\x1b[38;2;")
	assert.NotContains(t, string(out), "crc-32c", "a quick look is just that")
}
