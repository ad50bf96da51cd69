package bundle_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/build"
	"vornix/core/bundle"
	"vornix/core/fault"
	"vornix/core/mapfile"
	"vornix/core/project"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

func pack(t *testing.T, p *project.Project, workers int) *bundle.Result {
	t.Helper()
	b, err := build.Run(context.Background(), p, build.Options{Program: "test", Stages: build.Stages{Only: []string{}}})
	require.NoError(t, err)
	r, err := bundle.Pack(context.Background(), p, &b.Tree, workers)
	require.NoError(t, err)
	return r
}

func packed(t *testing.T, p *project.Project) string {
	t.Helper()
	return p.Join(bundle.Dir, pack(t, p, 2).Bundles[0].Name)
}

func TestSameTreeSameBytesAnywhere(t *testing.T) {
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
	stored := 0
	for _, f := range z.File {
		assert.Less(t, last, f.Name)
		last = f.Name
		assert.Equal(t, 1980, f.Modified.Year())
		assert.NotContains(t, f.Name, `\`)
		assert.Contains(t, []string{"maps", "materials", "textures", "sounds", "waybill.json"}, strings.Split(f.Name, "/")[0])
		assert.LessOrEqual(t, f.CompressedSize64, f.UncompressedSize64)
		if f.Method == zip.Store {
			stored++
		}
	}
	assert.Len(t, z.File, 29)
	assert.Positive(t, stored, "what deflate does not make smaller is stored")
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
	assert.Len(t, z.File, 21)
	r, err := bundle.Open(name)
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
	bare, err := bundle.Open(p.Join("out/tree/levels/tram_depot.vnm"))
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
			out := peer.Run(t, "", peer.Need(t, "python3"), "-c", "import zipfile,sys,json; z=zipfile.ZipFile(sys.argv[1]); assert z.testzip() is None; print(json.dumps([[i.filename,i.file_size,list(i.date_time)] for i in z.infolist()]))", file)
			var list [][]any
			require.NoError(t, json.Unmarshal([]byte(out), &list))
			assert.Len(t, list, map[string]int{"highline": 29, "lower-sidings": 21}[name])
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
	require.NoError(t, os.WriteFile(name, []byte("spoilt"), 0o666))
	_, err := bundle.Packed(p)
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
	_, err = bundle.Pack(context.Background(), p, &build.Tree{}, 1)
	assert.ErrorContains(t, err, "nothing to pack")
}

func TestATreeThatWasEditedIsNotPacked(t *testing.T) {
	for name, file := range map[string]string{"highline": "out/tree/waybill.json", "lower-sidings": "out/tree/levels/tram_depot.vnm"} {
		p := demotest.Built(t, name)
		b, err := build.Run(context.Background(), p, build.Options{Program: "test", Stages: build.Stages{Only: []string{}}})
		require.NoError(t, err)
		demotest.Put(t, p, file, []byte("edited by hand"))
		_, err = bundle.Pack(context.Background(), p, &b.Tree, 0)
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
	b, err := build.Run(context.Background(), p, build.Options{Program: "test", Stages: build.Stages{Only: []string{}}})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = bundle.Pack(ctx, p, &b.Tree, 2)
	assert.ErrorIs(t, err, context.Canceled)
	after, err := os.ReadFile(p.Join(bundle.Dir, "highline-1.0.0.parcel"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(before, after))
}

// archive writes a ZIP with entries of these names.
func archive(t testing.TB, names ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range names {
		f, err := w.CreateHeader(&zip.FileHeader{Name: n, Method: zip.Deflate})
		require.NoError(t, err)
		_, err = f.Write([]byte("content of " + n))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func open(t testing.TB, data []byte, name string) (*bundle.Reader, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, data, 0o666))
	r, err := bundle.Open(file)
	if err == nil {
		t.Cleanup(func() { r.Close() })
	}
	return r, err
}

func TestHostileArchivesAreRefused(t *testing.T) {
	for _, name := range []string{"../evil", "/etc/passwd", `..\evil`, "C:/x", "a/../../b", "nul", "a\x00b", "ok/com1.txt"} {
		_, err := open(t, archive(t, "good.txt", name), "a.zip")
		assert.Error(t, err, "%q", name)
	}
	_, err := open(t, archive(t, "Maps/a", "maps/A"), "a.zip")
	assert.ErrorContains(t, err, "one file on some systems")

	lying := archive(t, "a.txt")
	at := bytes.LastIndex(lying, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(lying[at+24:], 1<<31)
	_, err = open(t, lying, "a.zip")
	assert.ErrorContains(t, err, "at most")
	binary.LittleEndian.PutUint32(lying[at+24:], 1000)
	r, err := open(t, lying, "a.zip")
	if err == nil {
		_, err = r.ReadFile("a.txt")
	}
	assert.Error(t, err, "a size that lies")

	damaged := archive(t, "a.txt")
	damaged[35] ^= 0x55
	r, err = open(t, damaged, "a.zip")
	require.NoError(t, err)
	_, err = r.ReadFile("a.txt")
	assert.ErrorContains(t, err, "damaged")
	_, err = r.ReadFile("b.txt")
	assert.ErrorIs(t, err, os.ErrNotExist)

	whole := archive(t, "a.txt", "b.txt")
	for n := range whole {
		_, err := open(t, whole[:n], "a.zip")
		assert.Error(t, err, "cut at %d", n)
	}
	_, err = open(t, []byte("not a map"), "a.vnm")
	assert.ErrorIs(t, err, mapfile.ErrNotMap)
}

// Any bytes end in a bundle whose entries read or don't, or in an error.
func FuzzOpen(f *testing.F) {
	f.Add(archive(f, "a", "b/c"))
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	dir := f.TempDir()
	n := 0
	f.Fuzz(func(t *testing.T, data []byte) {
		n++
		file := filepath.Join(dir, fmt.Sprintf("%d.zip", n))
		if err := os.WriteFile(file, data, 0o666); err != nil {
			t.Skip(err)
		}
		defer os.Remove(file)
		r, err := bundle.Open(file)
		if err != nil {
			return
		}
		defer r.Close()
		for i, e := range r.Entries() {
			if e.UncompressedSize64 < 1<<20 && i < 100 {
				_, _ = r.ReadFile(e.Name)
			}
		}
	})
}
