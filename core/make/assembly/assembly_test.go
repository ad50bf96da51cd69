package assembly_test

import (
	"context"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/format/texture"
	"vornix/core/make/assembly"
	"vornix/core/make/taskgraph"
	"vornix/internal/demotest"
)

func run(t *testing.T, p *project.Project, change ...func(*assembly.Options)) (*assembly.Result, error) {
	t.Helper()
	o := assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}}
	for _, c := range change {
		c(&o)
	}
	return assembly.Run(context.Background(), p, o)
}

func mustRun(t *testing.T, p *project.Project, change ...func(*assembly.Options)) *assembly.Result {
	t.Helper()
	r, err := run(t, p, change...)
	require.NoError(t, err)
	return r
}

func made(r *assembly.Result) []string {
	list := []string{}
	for _, j := range r.Made {
		list = append(list, j.ID)
	}
	return list
}

func paths(r *assembly.Result) []string {
	var list []string
	for _, f := range r.Tree.Files {
		list = append(list, f.Path)
	}
	return list
}

func TestTheTreeIsWhatTheGameSees(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	r := mustRun(t, p)
	assert.Contains(t, paths(r), "levels/tram_depot.vnm")
	assert.Contains(t, paths(r), "tiles/rock/wall.toml")
	assert.Contains(t, paths(r), "tiles/pixels/rock/wall.dds")
	assert.Contains(t, paths(r), "noise/cave/drip.wav")
	on, err := p.ListTree()
	require.NoError(t, err)
	require.Len(t, on, len(r.Tree.Files))
	for i, f := range r.Tree.Files {
		assert.Equal(t, f.Path, on[i].Path)
		assert.Equal(t, f.Size, on[i].Size)
	}
	compiled, err := os.ReadFile(p.Join("out/tree/tiles/rock/wall.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(compiled), "tiles/pixels/rock/wall.dds",
		"a compiled material names files as the game sees them")
}

func TestOnlyWhatMapsNeedShips(t *testing.T) {
	p := demotest.Project(t, "highline")
	r := mustRun(t, p)
	for _, f := range paths(r) {
		assert.NotContains(t, f, "gust")
		assert.NotContains(t, f, "~")
	}
	demotest.Edit(t, p, "vornix.toml", "[addon]",
		"[pack]\ninclude = [\"scripts/**\", \"sounds/wind/*\", \"vornix.toml\", \"maps/*.vnx\"]\n\n[addon]")
	p = demotest.Load(t, p.Dir)
	r = mustRun(t, p)
	assert.Contains(t, paths(r), "scripts/gust.txt")
	assert.Contains(t, paths(r), "sounds/wind/gust.wav")
	assert.NotContains(t, paths(r), "vornix.toml", "the project file never ships")
	assert.NotContains(t, paths(r), "maps/cairn_station.vnx", "sources of what is compiled never ship")
}

func TestAgainAndQuick(t *testing.T) {
	p := demotest.Project(t, "highline")
	first := mustRun(t, p)
	assert.Len(t, first.Made, 31)
	second := mustRun(t, p)
	assert.Empty(t, second.Made)
	assert.Equal(t, 31, second.Kept)
	demotest.Age(t, p.Dir)
	third := mustRun(t, p)
	assert.Empty(t, third.Made, "only times changed")
	fourth := mustRun(t, p)
	assert.True(t, fourth.Quick)
	assert.Equal(t, third.Tree, fourth.Tree)
	assert.Equal(t, third.Findings, fourth.Findings, "findings are said again")

	assert.False(t, mustRun(t, p, func(o *assembly.Options) { o.Program = "another build of vornix" }).Quick)
	mustRun(t, p)
	demotest.Put(t, p, "out/tree/foreign.txt", []byte("x"))
	r := mustRun(t, p)
	assert.False(t, r.Quick)
	found := slices.IndexFunc(r.Findings, func(f finding.Finding) bool { return f.ID == "tree.foreign" })
	require.GreaterOrEqual(t, found, 0)
	assert.Equal(t, "out/tree/foreign.txt", r.Findings[found].Place.File)
}

func TestEachChangeMakesJustWhatItTouches(t *testing.T) {
	p := demotest.Project(t, "highline")
	mustRun(t, p)
	change := func(rel, old, now string) []string {
		demotest.Edit(t, p, rel, old, now)
		p = demotest.Load(t, p.Dir)
		return made(mustRun(t, p))
	}
	assert.Equal(t, []string{"map cairn_station"},
		change("maps/cairn_station.vnx", "camera porch at=21.5,3.6,1.9", "camera porch at=21.5,3.6,2.5"))
	assert.Equal(t, []string{"material rock/slab"},
		change("materials/rock/slab.toml", `surface = "rock"`, `surface = "wood"`), "what is underfoot lights nothing")
	assert.ElementsMatch(t, []string{"material rock/slab", "map cairn_station", "map saltpan_relay"},
		change("materials/rock/slab.toml", "#e8e4dc", "#ffffff"), "its light falls on what is near")
	assert.ElementsMatch(t, []string{"material rock/slab", "map cairn_station", "map saltpan_relay"},
		change("materials/rock/slab.toml", "size = 3", "size = 4"), "a size changes texture coordinates")
	assert.ElementsMatch(t, []string{"metadata waybill.json"}, change("vornix.toml", "first-snow", "summer"))
	assert.Empty(t, change("vornix.toml", "https://downloads.example/highline", "https://other.example/"))
	assert.Equal(t, []string{"texture wood/plank"},
		change("vornix.toml", "[addon]", "[[texture]]\nmatch = \"wood/*\"\nmips = false\n\n[addon]"))
	assert.Equal(t, []string{"map cairn_station"},
		change("maps/cairn_station.vnx", "camera porch at=21.5,3.6,2.5", "camera porch at=21.5,3.6,1.9"),
		"brought back from the cache")
}

func TestGoneSourcesLeaveTheTree(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	mustRun(t, p)
	data, err := os.ReadFile(p.Join("maps/tram_depot.vnx"))
	require.NoError(t, err)
	text := strings.ReplaceAll(string(data), ",", ".")
	text = strings.ReplaceAll(text, "legend . tile=earth/moss colour=#5c8a3c\n", "")
	// the level that is an image has moss too
	text = text[:strings.Index(text, "grid tunnel")] + text[strings.Index(text, "spawn shed_1"):]
	text = strings.NewReplacer("at=3.2.0", "at=3,2,0", "at=5.2.0", "at=5,2,0", "at=3.8.0", "at=3,8,0", "at=5.8.0",
		"at=5,8,0", "cells=32.16", "cells=32,16",
		"at=2.6.0", "at=2,6,0", "at=10.2.0", "at=10,2,0", "at=20.2.0", "at=20,2,0", "at=27.8.0", "at=27,8,0",
		"at=14.13.0", "at=14,13,0", "at=6.6.0", "at=6,6,0", "at=26.13.0", "at=26,13,0", "at=11.5.5.0", "at=11.5,5,0",
		"shift.rush", "shift,rush").Replace(text)
	demotest.Put(t, p, "maps/tram_depot.vnx", []byte(text))
	r := mustRun(t, p)
	assert.Equal(t, []string{"tiles/earth/moss.toml", "tiles/pixels/earth/moss.dds"}, r.Removed)
	assert.NoFileExists(t, p.Join("out/tree/tiles/earth/moss.toml"))
}

func TestFailuresAreFindingsAndTheRestGoesOn(t *testing.T) {
	p := demotest.Project(t, "highline")
	whole, err := os.ReadFile(p.Join("textures/wood/plank.png"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/wood/plank.png", whole[:3000])
	demotest.Put(t, p, "maps/second.vnx", []byte("map second\nsolud a\nspawn b\n  face top\nlight c\n"))
	r, err := run(t, p)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, "2 of 31 jobs failed", f.What)
	assert.Len(t, r.Made, 31, "all the others were made")
	got := map[string]int{}
	for _, x := range r.Findings {
		if x.Severity == finding.Error {
			got[x.ID]++
		}
	}
	assert.Equal(t, map[string]int{"texture.unreadable": 1, "map.syntax": 3}, got,
		"each said once, though check and build both find it")
	assert.NoFileExists(t, p.Join("out/tree/textures/wood/plank.ktx2"))
	assert.FileExists(t, p.Join("out/tree/maps/cairn_station.vnm"))

	demotest.Put(t, p, "textures/wood/plank.png", whole)
	require.NoError(t, os.Remove(p.Join("maps/second.vnx")))
	assert.Subset(t, made(mustRun(t, p)), []string{"texture wood/plank", "metadata waybill.json"})
}

// What a broken map needs is not known: nothing of it leaves the tree, and no metadata is written that leaves it out.
func TestABrokenMapTakesNothingAway(t *testing.T) {
	p := demotest.Project(t, "highline")
	mustRun(t, p)
	demotest.Edit(t, p, "maps/cairn_station.vnx", "solid deck", "solib deck")
	r, err := run(t, p)
	assert.Error(t, err)
	assert.Empty(t, r.Removed)
	assert.Equal(t, []string{"map cairn_station"}, made(r))
	for _, f := range r.Findings {
		assert.NotEqual(t, "accept.unused", f.ID)
	}
	demotest.Edit(t, p, "maps/cairn_station.vnx", "solib deck", "solid deck")
	assert.Empty(t, made(mustRun(t, p)))
}

func TestAMapWaitsForItsMaterial(t *testing.T) {
	p := demotest.Project(t, "highline")
	require.NoError(t, os.Rename(p.Join("materials/rock/slab.toml"), p.Join("materials/rock/slab.off")))
	_, err := run(t, p)
	assert.Error(t, err)
	require.NoError(t, os.Rename(p.Join("materials/rock/slab.off"), p.Join("materials/rock/slab.toml")))
	r := mustRun(t, p)
	assert.Contains(t, made(r), "map cairn_station")
}

func TestFormats(t *testing.T) {
	p := demotest.Project(t, "highline")
	mustRun(t, p)
	read := func(name string) *texture.Texture {
		data, err := os.ReadFile(p.Join("out/tree/textures/" + name + ".ktx2"))
		require.NoError(t, err)
		tex, err := texture.Read(data)
		require.NoError(t, err)
		return tex
	}
	assert.Equal(t, texture.BC1, read("wood/plank").Format, "opaque")
	assert.Equal(t, texture.BC3, read("sign/highline").Format, "with alpha")
	assert.True(t, read("sign/highline").SRGB)
	demotest.Edit(t, p, "vornix.toml", "format = \"auto\"", "format = \"bc1\"\ncolour_space = \"linear\"")
	p = demotest.Load(t, p.Dir)
	r := mustRun(t, p)
	assert.Equal(t, texture.BC1, read("sign/highline").Format)
	assert.False(t, read("sign/highline").SRGB)
	var lost []finding.Finding
	for _, f := range r.Findings {
		if f.ID == "texture.alpha-lost" {
			lost = append(lost, f)
		}
	}
	require.Len(t, lost, 4)
	assert.Regexp(t, `^\d+ of 16384 texels lose their soft alpha \(up to \d+ of 255 off\) in bc1$`, lost[0].Text)
	assert.Equal(t, "textures/sign/highline.png", lost[2].Place.File)
	assert.Regexp(t, `^\d+ of 32768 texels lose their one bit alpha \(up to 255 of 255 off\) in bc1$`, lost[2].Text)

	demotest.Edit(t, p, "vornix.toml", "[[accept]]",
		"[[accept]]\nfinding = \"texture.alpha-lost\"\nreason = \"the corners are meant to be square\"\n\n[[accept]]")
	p = demotest.Load(t, p.Dir)
	for _, f := range mustRun(t, p).Findings {
		assert.Equal(t, f.ID == "texture.alpha-lost" || f.ID == "mode.contained", f.Accepted != "", f.ID)
		assert.NotEqual(t, "accept.unused", f.ID)
	}
	demotest.Edit(t, p, "vornix.toml", "format = \"bc1\"\ncolour_space = \"linear\"", "format = \"bc5\"")
	r, err := run(t, demotest.Load(t, p.Dir))
	require.Error(t, err)
	assert.True(t, slices.ContainsFunc(r.Findings, func(f finding.Finding) bool {
		return strings.Contains(f.Text, "bc5 holds data, and the recipe says colours")
	}))
	p.Profile.Textures.Formats = []string{"rgba8"}
	_, err = run(t, p, func(o *assembly.Options) { o.Program = "x" })
	assert.Error(t, err, "a format that the game does not take")
}

func TestImagesOfTheWrongSizeAreResizedWhenTheRecipeSaysSo(t *testing.T) {
	p := demotest.Project(t, "highline")
	f, err := os.Create(p.Join("textures/wood/plank.png"))
	require.NoError(t, err)
	require.NoError(t, png.Encode(f, image.NewGray(image.Rect(0, 0, 100, 60))))
	require.NoError(t, f.Close())
	_, err = run(t, p)
	require.Error(t, err)
	demotest.Edit(t, p, "vornix.toml", "format = \"auto\"", "format = \"auto\"\nsize = \"nearest\"")
	r := mustRun(t, demotest.Load(t, p.Dir))
	n := 0
	for _, f := range r.Findings {
		if f.ID == "texture.resized" {
			n++
			assert.Contains(t, f.Text, "100 x 60 texels, and Kestrel Post wants powers of two: it becomes 128 x 64")
		}
	}
	assert.Equal(t, 1, n)
	data, err := os.ReadFile(p.Join("out/tree/textures/wood/plank.ktx2"))
	require.NoError(t, err)
	tex, err := texture.Read(data)
	require.NoError(t, err)
	assert.Equal(t, []int{128, 64}, []int{tex.Width, tex.Height})
}

func TestPathsBuildOnlyWhatIsNamed(t *testing.T) {
	p := demotest.Project(t, "highline")
	only := func(paths ...string) func(*assembly.Options) {
		return func(o *assembly.Options) { o.Paths = paths }
	}
	assert.Equal(t, []string{"texture rock/cairn", "texture rock/cairn_bumps", "texture rock/slab"},
		sorted(made(mustRun(t, p, only("textures/rock")))))
	assert.Equal(t, []string{"map cairn_station"}, made(mustRun(t, p, only("cairn_station"))))
	_, err := run(t, p, only("textures/rokc"))
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.Len(t, made(mustRun(t, p)), 27, "a whole build makes the rest")
}

func sorted(list []string) []string {
	slices.Sort(list)
	return list
}

// Two folders, other clocks, other numbers of workers: the same bytes.
func TestSameSourcesSameBytes(t *testing.T) {
	var want string
	for _, workers := range []int{1, 8} {
		p := demotest.Project(t, "highline")
		if workers == 8 {
			demotest.Age(t, p.Dir)
		}
		r := mustRun(t, p, func(o *assembly.Options) { o.Workers = workers })
		got, err := json.Marshal(r.Tree)
		require.NoError(t, err)
		if want == "" {
			want = string(got)
		}
		assert.Equal(t, want, string(got))
	}
}

func TestCancelledBuildGoesOnLater(t *testing.T) {
	p := demotest.Project(t, "highline")
	ctx, cancel := context.WithCancel(context.Background())
	_, err := assembly.Run(ctx, p,
		assembly.Options{Workers: 1, Progress: &canceller{after: 5, cancel: cancel},
			Stages: assembly.Stages{Only: []string{}}})
	assert.ErrorIs(t, err, context.Canceled)
	r := mustRun(t, p)
	assert.Equal(t, 5, r.Kept)
	assert.Len(t, r.Made, 26)
	require.NoError(t, filepath.WalkDir(p.Dir, func(path string, e os.DirEntry, err error) error {
		assert.NotContains(t, e.Name(), ".vornix-tmp-")
		return err
	}))
}

// canceller cancels after some jobs have ended.
type canceller struct {
	after  int
	cancel func()
}

func (c *canceller) Started(string, string, string)        {}
func (c *canceller) Advanced(string, string, int64, int64) {}
func (c *canceller) Ended(taskgraph.Result, int, int) {
	if c.after--; c.after == 0 {
		c.cancel()
	}
}

// A hundred sources at once, half of them broken: every finding, bounded, in order.
func TestManyBrokenSources(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	var legend, row strings.Builder
	for i := range 100 {
		name := "bulk/t" + string(rune('a'+i/10)) + string(rune('0'+i%10))
		symbol := string(rune(0x4e00 + i))
		legend.WriteString("legend " + symbol + " tile=" + name + "\n")
		row.WriteString(symbol)
		demotest.Put(t, p, "materials/"+name+".toml", []byte("colour = \""+name+"\"\n"))
		if i%2 == 0 {
			demotest.Put(t, p, "textures/"+name+".png", []byte("\x89PNG\r\n\x1a\nbroken"))
			continue
		}
		f, err := os.Create(p.Join("textures/" + name + ".png"))
		require.NoError(t, err)
		img := image.NewNRGBA(image.Rect(0, 0, 8, 8))
		img.SetNRGBA(1, 1, color.NRGBA{uint8(i), 1, 2, 255})
		require.NoError(t, png.Encode(f, img))
		require.NoError(t, f.Close())
	}
	demotest.Put(t, p, "maps/bulk.vnx",
		[]byte("map bulk title=\"B\" players=1..1\n"+legend.String()+"grid g cells=100,1\n  row "+row.String()+
			"\nspawn a at=1,0,0\nitem depot at=1,0,0\n"))
	r, err := run(t, p)
	require.Error(t, err)
	n := 0
	for _, f := range r.Findings {
		if f.ID == "texture.unreadable" {
			n++
		}
	}
	assert.Equal(t, 50, n)
	assert.Equal(t, 50, r.Failed())
}
