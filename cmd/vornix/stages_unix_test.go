//go:build unix

package main_test

import (
	"bytes"
	"encoding/json"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// station is a project of one map that nobody has lit yet, with so many luxels that lighting it takes a while.
func station(t *testing.T) string {
	t.Helper()
	p := filepath.Join(demotest.Write(t), "highline")
	require.NoError(t, os.Remove(filepath.Join(p, "maps/saltpan_relay.vnx")))
	edit(t, p, "maps/cairn_station.vnx", "luxels=0.2", "luxels=0.4")
	return p
}

func parts(t *testing.T, p string) (n int) {
	t.Helper()
	_ = filepath.WalkDir(filepath.Join(p, ".vornix/cache/parts"), func(_ string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			n++
		}
		return nil
	})
	return n
}

// A build that is stopped in the middle of lighting a map ends within a second, keeps what it had,
// and the next one goes on there. Two builds in two folders, one of them stopped, with other file
// times, places, tongues, processors and numbers of jobs, give the same bytes.
func TestAStoppedBuildGoesOnAndMakesTheSameBytes(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	whole := station(t)
	still := ok(t, whole, "pack", "--jobs", "1")
	assert.NotContains(t, still.out+still.err, "\r", "nothing moves where there is no terminal")
	const bundle = "out/bundles/highline-1.0.0.parcel"
	want, err := os.ReadFile(filepath.Join(whole, bundle))
	require.NoError(t, err)
	all := parts(t, whole)

	p := station(t)
	demotest.Age(t, p)
	cmd := command(p, "build", "cairn_station")
	require.NoError(t, cmd.Start())
	for parts(t, p) < 3 { // its cells, and the light of its lamps and of a first bounce
		time.Sleep(5 * time.Millisecond)
		require.Nil(t, cmd.ProcessState)
	}
	begin := time.Now()
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	_ = cmd.Wait()
	assert.Less(t, time.Since(begin), time.Second)
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.NoFileExists(t, filepath.Join(p, "out/tree/maps/cairn_station.vnm"))
	noTemps(t, p)
	kept := parts(t, p)
	assert.Less(t, kept, all)
	before, err := os.ReadDir(filepath.Join(p, ".vornix/cache/parts"))
	require.NoError(t, err)
	assert.NotEmpty(t, before)
	again := command(p, "pack", "--jobs", "7", "--verbose")
	again.Env = append(os.Environ(), "TZ=Pacific/Chatham", "LANG=tr_TR.UTF-8", "GOMAXPROCS=1")
	require.Zero(t, run(t, again).exit)
	assert.Equal(t, all, parts(t, p), "nothing was made under another name")
	got, err := os.ReadFile(filepath.Join(p, bundle))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
}

// On a terminal a long stage says its name, how far it is and how long it will take; elsewhere nothing moves.
func TestStagesShowHowFarTheyAre(t *testing.T) {
	thorough.Only(t)
	script := peer.Need(t, "script")
	p := station(t)
	cmd := exec.Command(script, "-qec", exe+" build cairn_station", "/dev/null")
	cmd.Dir = p
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text := string(out)
	said := regexp.MustCompile(`about (\d+) s left, map cairn_station: lighting +(\d+)%`).FindAllStringSubmatch(text,
		-1)
	require.NotEmpty(t, said)
	last := 0
	for _, s := range said {
		part, err := strconv.Atoi(s[2])
		require.NoError(t, err)
		assert.GreaterOrEqual(t, part, last, "it never goes back")
		assert.Less(t, part, 100)
		last = part
		left, err := strconv.Atoi(s[1])
		require.NoError(t, err)
		assert.Less(t, left, 60, "an estimate, not a guess")
	}
	end := text[strings.LastIndex(text, "\r")+1:]
	assert.NotContains(t, end, "s left", "the bar goes when all is done")
	assert.Less(t, len(text), 20000, "it is drawn some times a second, not at every step")
}

// A draft says that it is one, and is never packed: what packs builds in full first.
func TestDraftsAreNotPacked(t *testing.T) {
	p := filepath.Join(demotest.WriteLit(t), "lower-sidings")
	how := func(file string) map[string]string {
		var answer struct {
			Map struct {
				Meta   struct{ Stages map[string]string }
				Stages []struct{ Stage, How, Made string }
			}
		}
		require.NoError(t, json.Unmarshal(parse(t, ok(t, p, "inspect", file, "--json")).Result, &answer))
		for _, s := range answer.Map.Stages {
			assert.Equal(t, answer.Map.Meta.Stages[s.Stage], s.How)
			assert.NotEmpty(t, s.Made)
		}
		return answer.Map.Meta.Stages
	}
	ok(t, p, "build", "--draft", "--stage", "lighting")
	assert.Equal(t, map[string]string{"lighting": "draft"}, how("out/tree/levels/tram_depot.vnm"))
	assert.Contains(t, ok(t, p, "status").out, "vornix build", "a draft is not what a release needs")
	ok(t, p, "pack")
	assert.Equal(t, map[string]string{"lighting": "full", "navigation": "full"}, how("out/tree/levels/tram_depot.vnm"))
	assert.Contains(t, ok(t, p, "build").out, "nothing changed")
	ok(t, p, "build", "--stage", "none")
	assert.Empty(t, how("out/tree/levels/tram_depot.vnm"))
}

// Each view of a map is a picture of its own; what it needs and isn't there is said.
func TestViews(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	dir := demotest.WriteCached(t)
	p := filepath.Join(dir, "highline")
	ok(t, p, "build")
	built := "out/tree/maps/cairn_station.vnm"
	seen := map[string]string{}
	for _, args := range []string{"plan", "lit", "light --camera hall", "cells", "ground"} {
		words := append([]string{"inspect", built, "--picture", "view.png", "--view"}, strings.Fields(args)...)
		o := ok(t, p, words...)
		assert.Contains(t, o.out, "drawn into view.png")
		data := must(os.ReadFile(filepath.Join(p, "view.png")))
		f, err := os.Open(filepath.Join(p, "view.png"))
		require.NoError(t, err)
		img, err := png.Decode(f)
		f.Close()
		require.NoError(t, err)
		assert.Equal(t, 1280, img.Bounds().Dx())
		colours := map[[3]uint32]bool{}
		for y := 0; y < img.Bounds().Dy(); y += 7 {
			for x := 0; x < img.Bounds().Dx(); x += 7 {
				r, g, b, _ := img.At(x, y).RGBA()
				colours[[3]uint32{r, g, b}] = true
			}
		}
		assert.Greater(t, len(colours), 5, args)
		if strings.HasPrefix(args, "lit") {
			assert.Greater(t, len(colours), 2000, "a lit view is no drawing")
		}
		other, taken := seen[string(data)]
		assert.False(t, taken, "%s shows what %s shows", args, other)
		seen[string(data)] = args
	}
	answer := ok(t, p, "inspect", built).out
	for _, want := range []string{"visibility   full", "lighting     full", "reflections  full  4 cubes",
		"navigation   full  courier:", "from cell"} {
		assert.Contains(t, answer, want)
	}
	require.NoError(t, os.Rename(filepath.Join(p, "maps/dawn_ridge.png"), filepath.Join(p, "maps/elsewhere.png")))
	o := vornix(t, p, "inspect", built, "--picture", "view.png", "--view", "lit")
	assert.Equal(t, 1, o.exit)
	assert.Contains(t, o.err, "dawn_ridge.png")
	ok(t, p, "map", "prefabs/../drafts/mail_crate.vnx", "dark.vnm", "--stage", "none")
	for view, want := range map[string]string{"lit": "the map has no light",
		"cells": "the map has no cells of visibility", "ground": "the map has no ground that one walks on"} {
		o := vornix(t, p, "inspect", "dark.vnm", "--picture", "view.png", "--view", view)
		assert.Equal(t, 1, o.exit)
		assert.Contains(t, o.err, want)
	}
	tiles := filepath.Join(dir, "lower-sidings")
	ok(t, tiles, "build")
	ok(t, tiles, "inspect", "out/tree/levels/tram_depot.vnm", "--picture", "t.png", "--view", "lit")
	ok(t, tiles, "inspect", "out/tree/levels/tram_depot.vnm", "--picture", "g.png", "--view", "ground")
	o = vornix(t, tiles, "inspect", "out/tree/levels/tram_depot.vnm", "--picture", "t.png", "--view", "lit", "--camera",
		"a")
	assert.Equal(t, 2, o.exit)
	assert.Contains(t, o.err, `the map has no camera "a"`)
	ok(t, tiles, "inspect", "out/tree/levels/tram_depot.vnm", "--picture", "t.png", "--shot", "junction")
}
