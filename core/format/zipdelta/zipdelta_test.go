package zipdelta

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/vcdiff"
	"vornix/core/format/zipfile"
	"vornix/internal/peer"
)

// memory is an archive being written.
type memory struct{ bytes.Buffer }

func (m *memory) Patch(b []byte, at int64) error { copy(m.Bytes()[at:], b); return nil }

// pack makes an archive of files, with something before it.
func pack(t testing.TB, before string, files map[string][]byte) []byte {
	t.Helper()
	var list []zipfile.Source
	for name, data := range files {
		s := zipfile.Source{Name: name, Size: int64(len(data)), Method: zipfile.Deflate,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
		switch filepath.Ext(name) {
		case ".wav":
			s.Method, s.Align = zipfile.Store, 16
		case ".ktx2":
			s.Method = zipfile.Zstd
		}
		list = append(list, s)
	}
	m := &memory{}
	m.WriteString(before)
	_, err := zipfile.Pack(context.Background(), list, zipfile.Options{Workers: 2},
		func(int) (zipfile.Sink, int64, error) { return m, int64(len(before)), nil })
	require.NoError(t, err)
	return m.Bytes()
}

// mixed is content of which deflate makes about half.
func mixed(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		if b[i] = byte(r.Uint32()); i%3 > 0 {
			b[i] &= 7
		}
	}
	return b
}

// content is a small mod.
func content() map[string][]byte {
	r := rand.New(rand.NewPCG(7, 7))
	files := map[string][]byte{"maps/cairn.vnm": mixed(r, 3<<20), "waybill.json": []byte(`{"version": "1.0.0"}`),
		"empty.txt": nil}
	for i := range 40 {
		files[fmt.Sprintf("textures/rock/slab_%02d.ktx2", i)] = mixed(r, 60_000)
		files[fmt.Sprintf("sounds/wind_%02d.wav", i)] = mixed(r, 9_000)
	}
	return files
}

func encode(t testing.TB, old, now []byte) ([]byte, *Stats) {
	t.Helper()
	var out bytes.Buffer
	s, err := Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), int64(len(now)),
		&out, Options{Workers: 2, Compression: vcdiff.LZMA})
	require.NoError(t, err)
	return out.Bytes(), s
}

func decode(old, d []byte) ([]byte, error) {
	var out bytes.Buffer
	_, err := Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), &out,
		Limits{Workers: 2, Most: 64 << 20})
	return out.Bytes(), err
}

// What releases usually change costs what the change is worth, and the archive comes back to the byte.
func TestTypicalChanges(t *testing.T) {
	before := strings.Repeat("a compiled map that leads ", 400)
	base := pack(t, before, content())
	edit := func(b []byte, at int) []byte {
		b = bytes.Clone(b)
		return append(b[:at:at], append([]byte("twelve bytes"), b[at+4:]...)...)
	}
	for name, c := range map[string]struct {
		change        func(files map[string][]byte) string
		most          int
		same, changed int
	}{
		"nothing": {func(map[string][]byte) string { return before }, 250, 83, 0},
		"one texture": {func(f map[string][]byte) string {
			f["textures/rock/slab_07.ktx2"] = edit(f["textures/rock/slab_07.ktx2"], 30_000)
			return before
		}, 900, 82, 1},
		"a large map": {func(f map[string][]byte) string {
			f["maps/cairn.vnm"] = edit(f["maps/cairn.vnm"], 1<<20)
			return before
		}, 900, 82, 1},
		"what leads": {func(map[string][]byte) string { return before + "and is longer now" }, 350, 83, 0},
		"a folder moved": {func(f map[string][]byte) string {
			for n, b := range f {
				if rest, ok := strings.CutPrefix(n, "textures/rock/"); ok {
					delete(f, n)
					f["textures/stone/"+rest] = b
				}
			}
			return before
		}, 500, 83, 0},
		"moved and changed": {func(f map[string][]byte) string {
			f["maps/cairn_station.vnm"] = edit(f["maps/cairn.vnm"], 2<<20)
			delete(f, "maps/cairn.vnm")
			return before
		}, 400, 82, 1},
		"gone and new": {func(f map[string][]byte) string {
			delete(f, "sounds/wind_03.wav")
			f["notes.txt"] = []byte("something else entirely")
			return before
		}, 400, 82, 0},
	} {
		t.Run(name, func(t *testing.T) {
			files := content()
			lead := c.change(files)
			now := pack(t, lead, files)
			d, s := encode(t, base, now)
			assert.Less(t, len(d), c.most)
			assert.Equal(t, c.same, s.Same)
			assert.Equal(t, c.changed, s.Changed)
			assert.Zero(t, s.AsIs)
			got, err := decode(base, d)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(now, got))
		})
	}
}

// Archives of other programs can't be packed again to the same bytes; they come back all the same.
func TestArchivesOfOthers(t *testing.T) {
	zip := peer.Need(t, "zip")
	dir := t.TempDir()
	write := func(name string, data []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	r := rand.New(rand.NewPCG(2, 2))
	for i := range 12 {
		write(fmt.Sprintf("src/a/%d.bin", i), mixed(r, 30_000))
	}
	peer.Run(t, filepath.Join(dir, "src"), zip, "-6", "-q", "-r", "../old.zip", ".")
	write("src/a/4.bin", mixed(r, 30_000))
	require.NoError(t, os.Rename(filepath.Join(dir, "src/a/5.bin"), filepath.Join(dir, "src/five.bin")))
	peer.Run(t, filepath.Join(dir, "src"), zip, "-9", "-q", "-r", "../new.zip", ".")
	old, err := os.ReadFile(filepath.Join(dir, "old.zip"))
	require.NoError(t, err)
	now, err := os.ReadFile(filepath.Join(dir, "new.zip"))
	require.NoError(t, err)
	d, s := encode(t, old, now)
	assert.Less(t, len(d), len(now)/2)
	assert.NotZero(t, s.Same+s.AsIs)
	got, err := decode(old, d)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(now, got))
}

// What is no archive is left to package vcdiff, whose deltas are read here too.
func TestPlainFiles(t *testing.T) {
	now := pack(t, "", content())
	for _, old := range [][]byte{nil, []byte("no archive"), now[:len(now)-40]} {
		_, err := Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now),
			int64(len(now)), io.Discard, Options{})
		assert.ErrorIs(t, err, ErrPlain)
	}
	var d bytes.Buffer
	_, err := vcdiff.Encode(context.Background(), strings.NewReader("old and plain"), 13,
		strings.NewReader("new and plain"), &d, vcdiff.Options{})
	require.NoError(t, err)
	got, err := decode([]byte("old and plain"), d.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "new and plain", string(got))
}

// Another old archive, or a damaged delta, is noticed.
func TestWrongAndDamaged(t *testing.T) {
	files := content()
	base := pack(t, "", files)
	files["maps/cairn.vnm"] = files["maps/cairn.vnm"][:1<<20]
	now := pack(t, "", files)
	d, _ := encode(t, base, now)
	files["sounds/wind_01.wav"][5] ^= 1
	other := pack(t, "", files)
	_, err := decode(other, d)
	assert.ErrorIs(t, err, vcdiff.ErrSource)
	spoilt := bytes.Clone(base)
	spoilt[len(spoilt)/3] ^= 1
	if got, err := decode(spoilt, d); err == nil {
		assert.True(t, bytes.Equal(now, got))
	}
	for at := 0; at < len(d); at += 1 + len(d)/60 {
		_, err := decode(base, d[:at])
		assert.Error(t, err, "cut to %d", at)
		bad := bytes.Clone(d)
		bad[at] ^= 0x41
		if got, err := decode(base, bad); err == nil {
			assert.True(t, bytes.Equal(now, got), "byte %d changed, and nobody noticed", at)
		}
	}
	_, err = Decode(context.Background(), bytes.NewReader(base), int64(len(base)), bytes.NewReader(d), io.Discard,
		Limits{Most: 1000})
	assert.ErrorContains(t, err, "more than the 1000")
	ctx, stop := context.WithCancel(context.Background())
	stop()
	_, err = Decode(ctx, bytes.NewReader(base), int64(len(base)), bytes.NewReader(d), io.Discard, Limits{})
	assert.ErrorIs(t, err, context.Canceled)
}

func FuzzDecode(f *testing.F) {
	old := pack(f, "", map[string][]byte{"a.txt": []byte(strings.Repeat("something ", 40)), "b.txt": []byte("else")})
	now := pack(f, "", map[string][]byte{"c.txt": []byte(strings.Repeat("something ", 41)), "b.txt": []byte("else")})
	d, _ := encode(f, old, now)
	f.Add(d)
	// The steps themselves, unpacked, where a changed byte still means something.
	var plain bytes.Buffer
	_, err := Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), int64(len(now)),
		&plain, Options{})
	require.NoError(f, err)
	f.Add(plain.Bytes())
	f.Fuzz(func(t *testing.T, d []byte) {
		var out bytes.Buffer
		_, err := Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), &out,
			Limits{Most: 1 << 20})
		if out.Len() > 1<<20 {
			t.Fatal("it wrote more than allowed")
		}
		_ = err
	})
}
