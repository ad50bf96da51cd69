//go:build unix

package main_test

import (
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

// The program for Windows makes the same bytes, takes paths as they are written there, text files
// with their line ends, and names that only some systems refuse; and its paths may be long. CI runs
// the whole demo with it.
func TestTheProgramForWindows(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	w := peer.NewWindows(t)
	t.Cleanup(peer.CloseWindows)
	program := windowsProgram(t)
	windows := func(dir string, args ...string) outcome {
		out, errs, exit := w.Run(t, dir, program, args...)
		return outcome{out, errs, exit}
	}

	assert.Contains(t, windows(".", "--version").out, "windows/amd64")
	here, there := quickly(t, "lower-sidings"), quickly(t, "lower-sidings")
	ok(t, here, "release", "--yes", "--until", "addon")
	o := windows(there, "release", "--yes", "--until", "addon", "--json")
	require.Zero(t, o.exit, "%s%s", o.out, o.err)
	parse(t, o)
	assert.NotContains(t, o.out, `\\`, "paths are written with slashes in answers, on every system")
	for _, f := range []string{"out/bundles/tram_depot.vnm", "out/addon/tram_depot.ini",
		"out/pictures/tram_depot.png"} {
		assert.Equal(t, read(t, here, f), read(t, there, f), f)
	}
	noTemps(t, there)

	// Sources with the line ends of Windows are the same sources; paths are typed as they are there.
	for _, f := range []string{"vornix.toml", "maps/tram_depot.vnx", "materials/rock/wall.toml"} {
		text := read(t, there, f)
		put(t, filepath.Join(there, filepath.FromSlash(f)), strings.ReplaceAll(text, "\n", "\r\n"))
	}
	o = windows(there, "build", `maps\tram_depot.vnx`, "--project", w.Path(there))
	require.Zero(t, o.exit, o.err)
	require.Zero(t, windows(there, "pack").exit)
	assert.Equal(t, read(t, here, "out/bundles/tram_depot.vnm"), read(t, there, "out/bundles/tram_depot.vnm"))

	// Names that Windows keeps for devices are refused on other systems; there, where opening one
	// waits for the device, there is no such file.
	put(t, filepath.Join(there, "materials", "aux.toml"), "colour = \"rock/wall\"\nsurface = \"rock\"\nsize = 1\n")
	edit(t, there, "maps/tram_depot.vnx", "tile=rock/wall solid=yes", "tile=aux solid=yes")
	o = windows(there, "check")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "material.missing")
	assert.Contains(t, vornix(t, there, "check").err, "path.characters")

	// A folder deeper than 260 characters.
	deep := t.TempDir()
	for range 8 {
		deep = filepath.Join(deep, strings.Repeat("long_", 9))
	}
	require.NoError(t, os.MkdirAll(deep, 0o755))
	o = windows(".", "new", w.Path(filepath.Join(deep, "project")), "--profile", "burrow-tramways")
	require.Zero(t, o.exit, o.err)
	o = windows(".", "pack", "--project", w.Path(filepath.Join(deep, "project")))
	require.Zero(t, o.exit, o.err)
	assert.FileExists(t, filepath.Join(deep, "project", "out", "bundles", "first_map.vnm"))
}

// windowsProgram is the program for Windows.
func windowsProgram(t *testing.T) string {
	t.Helper()
	program := filepath.Join(t.TempDir(), "vornix.exe")
	build := exec.Command("go", "build", "-o", program, "vornix/cmd/vornix")
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS=windows", "GOARCH=amd64")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return program
}

// The whole demo, with servers, workshops and all, by the program for Windows: the bundles are
// those that it makes here. CI asks for it.
func TestTheDemoOnWindows(t *testing.T) {
	if os.Getenv("VORNIX_DEMO_WINDOWS") == "" {
		t.Skip("it takes a minute: VORNIX_DEMO_WINDOWS=yes asks for it")
	}
	w := peer.NewWindows(t)
	t.Cleanup(peer.CloseWindows)
	program := windowsProgram(t)
	there, here := t.TempDir(), t.TempDir()
	out, errs, exit := w.Run(t, there, program, "demo", "demo")
	require.Zero(t, exit, "%s%s", out, errs)
	assert.Contains(t, out, "what to try next")
	ok(t, here, "demo", "demo")
	for _, f := range []string{"highline/out/bundles/highline-1.0.0.parcel", "lower-sidings/out/bundles/ore_spiral.vnm",
		"lower-sidings/out/bundles/tram_depot.vnm"} {
		assert.Equal(t, read(t, here, "demo", f), read(t, there, "demo", f), f)
	}
	noTemps(t, there)
}
