package bundle_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/project"
	"vornix/core/format/mapfile"
	"vornix/core/format/zipfile"
	"vornix/core/game/gamefs"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

func pack(t *testing.T, p *project.Project, workers int) *bundle.Result {
	t.Helper()
	b, err := assembly.Run(context.Background(), p,
		assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
	require.NoError(t, err)
	r, err := bundle.Pack(context.Background(), p, &b.Tree, bundle.Options{Workers: workers})
	require.NoError(t, err)
	return r
}

func packed(t *testing.T, p *project.Project) string {
	t.Helper()
	return p.Join(bundle.Dir, pack(t, p, 2).Bundles[0].Name)
}

func TestSameTreeSameBytesAnywhere(t *testing.T) {
	thorough.Only(t)
	for _, name := range []string{"highline", "lower-sidings"} {
		var want []byte
		for _, workers := range []int{1, 2, 8} {
			p := demotest.Built(t, name)
			if workers == 2 {
				demotest.Age(t, p.Dir)
			}
			r := pack(t, p, workers)
			require.Len(t, r.Bundles, 1)
			data, err := os.ReadFile(p.Join(bundle.Dir, r.Bundles[0].Name))
			require.NoError(t, err)
			if want == nil {
				want = data
			}
			assert.True(t, bytes.Equal(want, data), "%s with %d workers", name, workers)
		}
	}
}

func TestEntriesAreSortedTimelessAndAtTheRoot(t *testing.T) {
	p := demotest.Built(t, "highline")
	z, err := zip.OpenReader(packed(t, p))
	require.NoError(t, err)
	defer z.Close()
	last := ""
	for _, f := range z.File {
		assert.Less(t, last, f.Name)
		last = f.Name
		assert.Equal(t, 1980, f.Modified.Year())
		assert.NotContains(t, f.Name, `\`)
		assert.Contains(t, []string{"maps", "materials", "textures", "sounds", "scripts", "routes", "waybill.json"},
			strings.Split(f.Name, "/")[0])
		assert.LessOrEqual(t, f.CompressedSize64, f.UncompressedSize64)
	}
	assert.Len(t, z.File, 31)
}

func TestAMapIsAnArchiveToo(t *testing.T) {
	p := demotest.Built(t, "lower-sidings")
	name := packed(t, p)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	m, err := mapfile.Read(data)
	require.NoError(t, err)
	assert.Equal(t, "tram_depot", m.Meta.Name)
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	assert.Len(t, z.File, 22)
	r, err := gamefs.Open(name)
	require.NoError(t, err)
	defer r.Close()
	plain, err := os.ReadFile(p.Join("out/tree/levels/tram_depot.vnm"))
	require.NoError(t, err)
	assert.Equal(t, plain, r.MapData)
	for _, e := range r.Entries() {
		got, err := r.ReadFile(e.Name)
		require.NoError(t, err)
		want, err := os.ReadFile(p.Join(project.TreeDir, e.Name))
		require.NoError(t, err)
		assert.Equal(t, want, got, e.Name)
	}
	bare, err := gamefs.Open(p.Join("out/tree/levels/tram_depot.vnm"))
	require.NoError(t, err, "a map without content is a bundle without entries")
	defer bare.Close()
	assert.Empty(t, bare.Entries())
}

// Programs that are not ours read what we pack, both forms, and find the same files.
func TestOtherReaders(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		p := demotest.Built(t, name)
		file := packed(t, p)
		t.Run(name+" unzip", func(t *testing.T) {
			out := peer.Run(t, "", peer.Need(t, "unzip"), "-t", file)
			assert.Contains(t, out, "No errors detected")
			assert.NotContains(t, out, "warning")
			dir := t.TempDir()
			peer.Run(t, dir, peer.Need(t, "unzip"), "-q", file)
			sameTree(t, p, dir)
		})
		t.Run(name+" 7z", func(t *testing.T) {
			assert.Contains(t, peer.Run(t, "", peer.Need(t, "7z"), "t", "-tzip", file), "Everything is Ok")
		})
		t.Run(name+" python", func(t *testing.T) {
			out := peer.Run(t, "", peer.Need(t, "python3"), "-c",
				"import zipfile,sys,json; z=zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None; print(json.dumps([[i.filename,i.file_size,list(i.date_time)] for i in z.infolist()]))", file)
			var list [][]any
			require.NoError(t, json.Unmarshal([]byte(out), &list))
			assert.Len(t, list, map[string]int{"highline": 31, "lower-sidings": 22}[name])
			assert.Equal(t, []any{1980.0, 1.0, 1.0, 0.0, 0.0, 0.0}, list[0][2])
		})
	}
}

// sameTree holds an unpacked folder to the tree; a map that carries its content is not in it.
func sameTree(t *testing.T, p *project.Project, dir string) {
	t.Helper()
	list, err := p.ListTree()
	require.NoError(t, err)
	for _, f := range list {
		if strings.HasSuffix(f.Path, "tram_depot.vnm") {
			continue
		}
		want, err := os.ReadFile(p.Join(project.TreeDir, f.Path))
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f.Path)))
		require.NoError(t, err)
		assert.Equal(t, want, got, f.Path)
	}
}

func TestUnchangedBundlesAreKeptAndOldOnesGo(t *testing.T) {
	p := demotest.Built(t, "highline")
	assert.False(t, pack(t, p, 0).Bundles[0].Kept)
	assert.True(t, pack(t, p, 0).Bundles[0].Kept)
	name := p.Join(bundle.Dir, "highline-1.0.0.parcel")
	require.NoError(t, os.Chtimes(name, time.Unix(1e9, 0), time.Unix(1e9, 0))) // a copied project: the bytes decide
	_, err := bundle.Packed(p)
	require.NoError(t, err)
	assert.True(t, pack(t, p, 0).Bundles[0].Kept)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(name, data, 0o666)) // the same size
	_, err = bundle.Packed(p)
	assert.ErrorContains(t, err, "not as it was packed")
	require.NoError(t, os.WriteFile(name, []byte("spoilt"), 0o666))
	_, err = bundle.Packed(p)
	assert.ErrorContains(t, err, "not as it was packed")
	assert.False(t, pack(t, p, 0).Bundles[0].Kept)
	require.NoError(t, p.SetVersion("1.1.0"))
	demotest.Put(t, p, "out/bundles/somebody-elses.parcel", []byte("x"))
	r := pack(t, p, 0)
	assert.Equal(t, []string{"highline-1.0.0.parcel"}, r.Removed)
	assert.NoFileExists(t, name)
	assert.FileExists(t, p.Join(bundle.Dir, "somebody-elses.parcel"), "what pack did not make is left alone")
	list, err := bundle.Packed(p)
	require.NoError(t, err)
	assert.Equal(t, "highline-1.1.0.parcel", list[0].Name)
}

func TestNothingToPack(t *testing.T) {
	p := demotest.Built(t, "highline")
	_, err := bundle.Packed(p)
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	_, err = bundle.Pack(context.Background(), p, &assembly.Tree{}, bundle.Options{})
	assert.ErrorContains(t, err, "nothing to pack")
}

func TestATreeThatWasEditedIsNotPacked(t *testing.T) {
	for name, file := range map[string]string{"highline": "out/tree/waybill.json",
		"lower-sidings": "out/tree/levels/tram_depot.vnm"} {
		p := demotest.Built(t, name)
		b, err := assembly.Run(context.Background(), p,
			assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
		require.NoError(t, err)
		demotest.Put(t, p, file, []byte("edited by hand"))
		_, err = bundle.Pack(context.Background(), p, &b.Tree, bundle.Options{})
		assert.ErrorContains(t, err, "changed after it was built")
		entries, _ := os.ReadDir(p.Join(bundle.Dir))
		assert.Empty(t, entries)
	}
}

func TestCancelledPackLeavesTheOldBundle(t *testing.T) {
	p := demotest.Built(t, "highline")
	pack(t, p, 0)
	before, err := os.ReadFile(p.Join(bundle.Dir, "highline-1.0.0.parcel"))
	require.NoError(t, err)
	demotest.Edit(t, p, "materials/rock/slab.toml", "#e8e4dc", "#ffffff")
	b, err := assembly.Run(context.Background(), p,
		assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = bundle.Pack(ctx, p, &b.Tree, bundle.Options{Workers: 2})
	assert.ErrorIs(t, err, context.Canceled)
	after, err := os.ReadFile(p.Join(bundle.Dir, "highline-1.0.0.parcel"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(before, after))
}

// A changed file is packed anew, everything else is taken over; the result is what packing from nothing gives.
func TestOnlyWhatChangedIsPackedAnew(t *testing.T) {
	p := demotest.Built(t, "highline")
	pack(t, p, 0)
	demotest.Edit(t, p, "materials/rock/slab.toml", "#e8e4dc", "#ffffff")
	r := pack(t, p, 2)
	assert.Positive(t, r.Taken)
	assert.Less(t, r.Taken, r.Bundles[0].Entries)
	name := p.Join(bundle.Dir, r.Bundles[0].Name)
	after, err := os.ReadFile(name)
	require.NoError(t, err)
	require.NoError(t, os.Remove(p.Join(".vornix/pack.json")))
	anew := pack(t, p, 2)
	assert.Zero(t, anew.Taken)
	assert.Equal(t, r.Bundles[0].SHA256, anew.Bundles[0].SHA256)
	// An old bundle that somebody touched is not believed.
	demotest.Edit(t, p, "materials/rock/slab.toml", "#ffffff", "#fefefe")
	require.NoError(t, os.WriteFile(name, after[:len(after)-1], 0o666))
	assert.Zero(t, pack(t, p, 2).Taken)
}

// A bundle of before that the disk has spoilt, with its size and time as they were, is noticed, and all is packed anew.
func TestASpoiltBundleIsNotTakenFrom(t *testing.T) {
	p := demotest.Built(t, "highline")
	name := p.Join(bundle.Dir, pack(t, p, 2).Bundles[0].Name)
	info, err := os.Stat(name)
	require.NoError(t, err)
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	b, err := gamefs.Open(name)
	require.NoError(t, err)
	data[b.Find("textures/wood/plank.ktx2").Data+50] ^= 1
	require.NoError(t, b.Close())
	require.NoError(t, os.WriteFile(name, data, 0o666))
	require.NoError(t, os.Chtimes(name, info.ModTime(), info.ModTime()))
	demotest.Edit(t, p, "scripts/winch.txt", "for 3s", "for 4s")
	r := pack(t, p, 2)
	assert.Zero(t, r.Taken)
	b, err = gamefs.Open(name)
	require.NoError(t, err)
	defer b.Close()
	for _, e := range b.Entries() {
		_, err := b.ReadFile(e.Name)
		assert.NoError(t, err, e.Name)
	}
	assert.Positive(t, packAfter(t, p).Taken, "the next time it is as usual")
}

func packAfter(t *testing.T, p *project.Project) *bundle.Result {
	t.Helper()
	demotest.Edit(t, p, "scripts/winch.txt", "for 4s", "for 5s")
	return pack(t, p, 2)
}

// profiled gives a project the profile of the game with other lines under [pack].
func profiled(t *testing.T, lines string) *project.Project {
	t.Helper()
	p := demotest.Built(t, "highline")
	name := "profiles/kestrel-post.toml"
	data, err := os.ReadFile(p.Join(name))
	require.NoError(t, err)
	before, rest, _ := strings.Cut(string(data), "[pack]")
	_, after, _ := strings.Cut(rest, "[[addon.field]]")
	demotest.Put(t, p, name, []byte(before+"[pack]\n"+lines+"\n[[addon.field]]"+after))
	return demotest.Load(t, p.Dir)
}

// Every form that a profile can ask for: one bundle a map, parts of a largest size, methods and
// alignment by kind of file, into the map.
func TestForms(t *testing.T) {
	p := profiled(t,
		"form = \"map\"\nname = \"{map}.parcel\"\ncompress = \"zstd\"\n[[pack.kind]]\nmatch = \"**/*.ktx2\"\ncompress = \"store\"\nalign = 64\n")
	r := pack(t, p, 2)
	require.Len(t, r.Bundles, 2)
	assert.Equal(t, "cairn_station.parcel", r.Bundles[0].Name)
	assert.Equal(t, []string{"cairn_station"}, r.Bundles[0].Maps)
	b, err := gamefs.Open(p.Join(bundle.Dir, "cairn_station.parcel"))
	require.NoError(t, err)
	defer b.Close()
	assert.Nil(t, b.Find("maps/saltpan_relay.vnm"))
	assert.Equal(t, zipfile.Zstd, b.Find("maps/cairn_station.vnm").Method)
	plank := b.Find("textures/wood/plank.ktx2")
	assert.Equal(t, zipfile.Store, plank.Method)
	assert.Zero(t, plank.Data%64)
	assert.NotNil(t, b.Find("waybill.json"), "what belongs to all is in each")

	p = profiled(t, "form = \"mod\"\nname = \"{name}-{version}-{part}.parcel\"\nlargest = 400000\n")
	r = pack(t, p, 2)
	require.Greater(t, len(r.Bundles), 1)
	entries, names := 0, []string{}
	for i, x := range r.Bundles {
		assert.Equal(t, i+1, x.Part)
		assert.LessOrEqual(t, x.Size, int64(400_000))
		entries += x.Entries
		names = append(names, x.Maps...)
	}
	list, err := p.ListTree()
	require.NoError(t, err)
	assert.Len(t, list, entries)
	assert.Equal(t, []string{"cairn_station", "saltpan_relay"}, names)
	assert.True(t, pack(t, p, 2).Bundles[0].Kept)

	into, err := bundle.Pack(context.Background(), p, tree(t, p), bundle.Options{IntoMap: true})
	require.NoError(t, err)
	require.Len(t, into.Bundles, 2)
	m, err := gamefs.Open(p.Join(bundle.IntoMapDir, "saltpan_relay.vnm"))
	require.NoError(t, err)
	defer m.Close()
	assert.NotNil(t, m.MapData)
	assert.NotNil(t, m.Find("waybill.json"))
	packed, err := bundle.Packed(p)
	require.NoError(t, err)
	assert.Equal(t, r.Bundles[0].Name, packed[0].Name, "what is deployed is still what the profile wants")
}

func tree(t *testing.T, p *project.Project) *assembly.Tree {
	t.Helper()
	b, err := assembly.Run(context.Background(), p,
		assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
	require.NoError(t, err)
	return &b.Tree
}

// What must not leave the house is refused by name and by content, and let through with a reason
// only; what was let through once is looked at again when the reason is gone.
func TestNothingLeavesTheHouse(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Edit(t, p, "vornix.toml", "[addon]", "[pack]\ninclude = [\"notes/**\"]\n\n[addon]")
	demotest.Put(t, p, "notes/a.txt", []byte("made in\n/home/mirella/mods\n"))
	demotest.Put(t, p, "notes/server.key", []byte("x"))
	p = demotest.Load(t, p.Dir)
	run := func() error {
		_, err := bundle.Pack(context.Background(), p, tree(t, p), bundle.Options{Workers: 2})
		return err
	}
	var failure *finding.Failure
	require.ErrorAs(t, run(), &failure)
	require.Len(t, failure.Findings, 1)
	assert.Equal(t, "guard.secret", failure.Findings[0].ID)
	assert.Equal(t, "out/tree/notes/server.key", failure.Findings[0].Place.String())
	require.NoError(t, os.Remove(p.Join("notes/server.key")))
	require.ErrorAs(t, run(), &failure)
	require.Len(t, failure.Findings, 1)
	assert.Equal(t, "out/tree/notes/a.txt:2", failure.Findings[0].Place.String())
	assert.NotContains(t, failure.Findings[0].Text+failure.Findings[0].Do, "mirella")
	assert.NoFileExists(t, p.Join(bundle.Dir, "highline-1.0.0.parcel"))
	exception := "[[pack.exception]]\nfile = \"notes/*.txt\"\nallow = [\"home\"]\nreason = \"a made-up home\"\n"
	demotest.Edit(t, p, "vornix.toml", "[addon]", exception+"\n[addon]")
	p = demotest.Load(t, p.Dir)
	require.NoError(t, run())
	demotest.Edit(t, p, "vornix.toml", exception, "")
	p = demotest.Load(t, p.Dir)
	require.ErrorAs(t, run(), &failure)
}

func open(t testing.TB, data []byte, name string) (*gamefs.Bundle, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, data, 0o666))
	r, err := gamefs.Open(file)
	if err == nil {
		t.Cleanup(func() { r.Close() })
	}
	return r, err
}

// A game's reader takes no bundle with an entry that must not be there (what is wrong with
// archives, package zipfile tests).
func TestBadBundlesAreRefused(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range []string{"good.txt", "../evil"} {
		_, err := w.Create(n)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	_, err := open(t, b.Bytes(), "a.zip")
	assert.ErrorContains(t, err, "must not be there")
	_, err = open(t, b.Bytes()[:b.Len()-1], "a.zip")
	assert.ErrorContains(t, err, "directory")
	_, err = open(t, []byte("not a map"), "a.vnm")
	assert.ErrorIs(t, err, mapfile.ErrNotMap)
}
