package zipfile_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/format/zipfile"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// sink is an archive in memory.
type sink struct{ bytes.Buffer }

func (s *sink) Patch(data []byte, at int64) error {
	copy(s.Bytes()[at:], data)
	return nil
}

func source(name string, data []byte, m zipfile.Method) zipfile.Source {
	sum := sha256.Sum256(data)
	return zipfile.Source{Name: name, Size: int64(len(data)), SHA256: hex.EncodeToString(sum[:]), Method: m,
		Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

// text is content that packs well, noise what does not.
func text(n int) []byte { return manyLines()[:n:n] }

var manyLines = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	for i := 0; b.Len() < 21<<20; i++ {
		fmt.Fprintf(&b, "face %d material=rock/%d shift=%d,%d\n", i, i%17, i*7%31, i*i%101)
	}
	return b.Bytes()
})

func noise(n int, seed int64) []byte {
	b := make([]byte, n)
	rand.New(rand.NewSource(seed)).Read(b)
	return b
}

func pack(t testing.TB, sources []zipfile.Source, o zipfile.Options) ([]*sink, []zipfile.Packed) {
	t.Helper()
	var parts []*sink
	list, err := zipfile.Pack(context.Background(), sources, o, func(int) (zipfile.Sink, int64, error) {
		parts = append(parts, &sink{})
		return parts[len(parts)-1], 0, nil
	})
	require.NoError(t, err)
	return parts, list
}

// all is one of everything: empty, small, of several blocks, too large to wait in memory, each way of packing.
func all() (map[string][]byte, []zipfile.Source) {
	content := map[string][]byte{
		"a/empty": {}, "a/small.txt": []byte("hello"), "b/text.txt": text(300_000), "b/noise.bin": noise(200_000, 1),
		"c/blocks.txt": text(3<<20 + 17), "c/noise.bin": noise(2<<20, 2),
		"d/large.txt": text(17 << 20), "d/large.bin": noise(17<<20, 3), "e/frames.zst": text(5 << 20),
		"e/one.zst": text(5000), "f/stored.png": text(3 << 20), "größe/ünïcode-名.txt": []byte("names"),
		"da-sh and 'quote' & co.txt": []byte("odd"),
		"deep/" + strings.Repeat("d/", 60) + strings.Repeat("n", 200) + ".txt": []byte("long"),
	}
	var mixed []byte // what is noise in one block is text in the next
	for i := range 5 {
		mixed = append(append(mixed, noise(900_000, int64(i))...), text(700_000)...)
	}
	content["g/mixed.bin"] = mixed
	var list []zipfile.Source
	for name, data := range content {
		m := zipfile.Deflate
		switch filepath.Ext(name) {
		case ".zst":
			m = zipfile.Zstd
		case ".png":
			m = zipfile.Store
		}
		list = append(list, source(name, data, m))
	}
	return content, list
}

// packedOnce is all of it packed; to pack it takes a while.
var packedOnce = sync.OnceValues(func() ([]byte, []zipfile.Packed) {
	_, sources := all()
	s := &sink{}
	list, err := zipfile.Pack(context.Background(), sources, zipfile.Options{Workers: 2},
		func(int) (zipfile.Sink, int64, error) { return s, 0, nil })
	if err != nil {
		panic(err)
	}
	return s.Bytes(), list
})

// What is packed is read again, by us, by the standard library; with any number of workers it is the same bytes.
func TestRoundTrip(t *testing.T) {
	t.Parallel()
	content, sources := all()
	for _, workers := range []int{1, 5} {
		rand.Shuffle(len(sources), func(i, j int) { sources[i], sources[j] = sources[j], sources[i] })
		var wrote int64
		parts, list := pack(t, sources, zipfile.Options{Workers: workers, Wrote: func(n int64) { wrote += n }})
		require.Len(t, parts, 1)
		data := parts[0].Bytes()
		first, _ := packedOnce()
		require.True(t, bytes.Equal(first, data), "%d workers", workers)
		r, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		require.Len(t, r.Files, len(content))
		var total int64
		for i, f := range r.Files {
			got, err := f.Read()
			require.NoError(t, err, f.Name)
			require.True(t, bytes.Equal(content[f.Name], got), f.Name)
			assert.Equal(t, list[i].Entry.Data, f.Data)
			assert.Equal(t, list[i].Packed, f.Packed)
			assert.Empty(t, f.Trouble)
			total += f.Size
		}
		assert.Equal(t, total, wrote)
		assert.Equal(t, zipfile.Store, r.Find("b/noise.bin").Method)
		assert.Equal(t, zipfile.Store, r.Find("d/large.bin").Method, "what does not shrink is stored, however large")
		assert.Less(t, r.Find("d/large.txt").Packed, int64(4<<20))
		z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		for _, f := range z.File {
			assert.Zero(t, f.Flags&8, "sizes stand before the data, for readers that go from front to back")
			if f.Method != 93 {
				rc, err := f.Open()
				require.NoError(t, err)
				got, err := io.ReadAll(rc)
				require.NoError(t, err)
				require.True(t, bytes.Equal(content[f.Name], got), f.Name)
			}
		}
	}
}

// Entries are taken over from an older archive byte for byte, and only when they are still what they were.
func TestTakenOver(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	_, sources := all()
	whole, list := packedOnce()
	old := bytes.NewReader(whole)
	at := map[string]zipfile.Packed{}
	for _, p := range list {
		at[p.Name] = p
	}
	opened := 0
	for i, s := range sources {
		p := at[s.Name]
		sources[i].Old = &zipfile.Old{File: old, Entry: p.Entry, Check: p.Check}
		sources[i].Open = func() (io.ReadCloser, error) { opened++; return nil, os.ErrNotExist }
	}
	fresh := source("a/new.txt", text(100), zipfile.Deflate)
	again, list := pack(t, append(sources, fresh), zipfile.Options{Workers: 2})
	assert.Zero(t, opened)
	assert.True(t, list[0].Taken)
	_, clean := all()
	scratch, _ := pack(t, append(clean, fresh), zipfile.Options{Workers: 1})
	assert.True(t, bytes.Equal(scratch[0].Bytes(), again[0].Bytes()),
		"taken over or packed anew, the archive is the same")
	spoilt := bytes.Clone(whole)
	spoilt[at["c/blocks.txt"].Data+100] ^= 1
	for i := range sources {
		sources[i].Old.File = bytes.NewReader(spoilt)
	}
	_, err := zipfile.Pack(context.Background(), sources, zipfile.Options{},
		func(int) (zipfile.Sink, int64, error) { return &sink{}, 0, nil })
	assert.ErrorIs(t, err, zipfile.ErrOld)
}

// An archive is split at the same places whether entries are taken over or packed anew, also large
// ones, whose packed size is not known before.
func TestSplitAlike(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	sources := []zipfile.Source{source("a", text(17<<20), zipfile.Deflate),
		source("b", noise(3<<20, 4), zipfile.Deflate), source("c", text(17<<20), zipfile.Deflate),
		source("d", text(1<<20), zipfile.Deflate)}
	o := zipfile.Options{Workers: 2, Largest: 21 << 20}
	parts, list := pack(t, sources, o)
	require.Equal(t, []int{0, 0, 1, 1}, []int{list[0].Part, list[1].Part, list[2].Part, list[3].Part},
		"a large entry counts with its size unpacked")
	for i := range sources {
		sources[i].Old = &zipfile.Old{File: bytes.NewReader(parts[list[i].Part].Bytes()), Entry: list[i].Entry,
			Check: list[i].Check}
	}
	again, _ := pack(t, sources, o)
	require.Len(t, again, len(parts))
	for i := range parts {
		assert.True(t, bytes.Equal(parts[i].Bytes(), again[i].Bytes()), "part %d", i+1)
	}
}

func TestPartsAlignmentAndChange(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	content, sources := all()
	for i := range sources {
		sources[i].Align = 64
	}
	const largest = 21 << 20
	parts, list := pack(t, sources, zipfile.Options{Workers: 2, Largest: largest})
	require.Greater(t, len(parts), 1)
	seen := 0
	for n, p := range parts {
		assert.LessOrEqual(t, p.Len(), largest)
		r, err := zipfile.Open(bytes.NewReader(p.Bytes()), int64(p.Len()))
		require.NoError(t, err)
		for _, f := range r.Files {
			assert.Zero(t, f.Data%64, f.Name)
			assert.Equal(t, n, list[seen].Part)
			got, err := f.Read()
			require.NoError(t, err)
			assert.True(t, bytes.Equal(content[f.Name], got))
			seen++
		}
	}
	assert.Equal(t, len(content), seen)
	next := func(int) (zipfile.Sink, int64, error) { return &sink{}, 0, nil }
	_, err := zipfile.Pack(context.Background(), sources, zipfile.Options{Largest: 10 << 20}, next)
	assert.ErrorContains(t, err, "alone is larger than a bundle may be")
	var changed *zipfile.ChangedError
	for _, n := range []int{100, 2 << 20, 20 << 20} {
		for _, wrong := range [][]byte{text(n - 1), text(n + 1), noise(n, 9)} {
			s := source("a", text(n), zipfile.Deflate)
			s.Open = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(wrong)), nil }
			_, err := zipfile.Pack(context.Background(), []zipfile.Source{s}, zipfile.Options{Workers: 2}, next)
			assert.ErrorAs(t, err, &changed, "%d instead of %d", len(wrong), n)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = zipfile.Pack(ctx, sources, zipfile.Options{Workers: 2}, next)
	assert.ErrorIs(t, err, context.Canceled)
}

// Programs that are not ours unpack the same files, and find nothing to say.
func TestOtherReaders(t *testing.T) {
	t.Parallel()
	content, _ := all()
	whole, list := packedOnce()
	file := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(file, whole, 0o666))
	same := func(t *testing.T, dir string, skipZstd bool) {
		for name, want := range content {
			if skipZstd && filepath.Ext(name) == ".zst" {
				continue
			}
			got, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
			if assert.NoError(t, err) {
				assert.True(t, bytes.Equal(want, got), name)
			}
		}
	}
	t.Run("7z", func(t *testing.T) {
		dir := t.TempDir()
		assert.Contains(t, peer.Run(t, dir, peer.Need(t, "7z"), "x", "-y", file), "Everything is Ok")
		same(t, dir, false)
	})
	t.Run("unzip", func(t *testing.T) {
		dir := t.TempDir()
		peer.Run(t, dir, peer.Need(t, "unzip"), "-q", file, "-x", "e/*")
		same(t, dir, true)
	})
	t.Run("python", func(t *testing.T) {
		dir := t.TempDir()
		peer.Run(t, dir, peer.Need(t, "python3"), "-c",
			"import zipfile,sys; z=zipfile.ZipFile(sys.argv[1]); [z.extract(i) for i in z.infolist() if i.compress_type != 93]", file)
		same(t, dir, true)
	})
	t.Run("zstd", func(t *testing.T) { // the frames of an entry, one after the other
		zstd := peer.Need(t, "zstd")
		for _, p := range list {
			if p.Method == zipfile.Zstd {
				raw := filepath.Join(t.TempDir(), "raw.zst")
				require.NoError(t, os.WriteFile(raw, whole[p.Data:p.Data+p.Packed], 0o666))
				peer.Run(t, "", zstd, "-q", "-d", raw)
				got, err := os.ReadFile(strings.TrimSuffix(raw, ".zst"))
				require.NoError(t, err)
				assert.True(t, bytes.Equal(content[p.Name], got))
			}
		}
	})
}

// far is a sink of which only the beginnings of writes and all headers are kept, so that archives
// beyond 4 GiB can be looked at.
type far struct {
	f  *os.File
	at int64
}

func (s *far) Write(p []byte) (int, error) {
	if bytes.Count(p, []byte{0}) != len(p) || len(p) < 4096 { // zeros become a hole in the file
		if _, err := s.f.WriteAt(p, s.at); err != nil {
			return 0, err
		}
	}
	s.at += int64(len(p))
	return len(p), nil
}

func (s *far) Patch(p []byte, at int64) error {
	_, err := s.f.WriteAt(p, at)
	return err
}

type zeros struct{ left int64 }

func (z *zeros) Read(p []byte) (int, error) {
	if z.left == 0 {
		return 0, io.EOF
	}
	n := min(int64(len(p)), z.left)
	clear(p[:n])
	z.left -= n
	return int(n), nil
}
func (z *zeros) Close() error { return nil }

// Entries, offsets and directories that need 64 bits: more than 4 GiB of holes, and more entries than 16 bits count.
func TestZip64(t *testing.T) {
	thorough.Only(t)
	t.Parallel()
	const huge = 4<<30 + 12345
	file := filepath.Join(t.TempDir(), "huge.zip")
	f, err := os.Create(file)
	require.NoError(t, err)
	defer f.Close()
	out := &far{f: f}
	sources := []zipfile.Source{{Name: "a-huge.bin", Size: huge, Method: zipfile.Store,
		Open: func() (io.ReadCloser, error) { return &zeros{huge}, nil }},
		source("b-behind.txt", text(1000), zipfile.Deflate)}
	_, err = zipfile.Pack(context.Background(), sources, zipfile.Options{Workers: 2},
		func(int) (zipfile.Sink, int64, error) { return out, 0, nil })
	require.NoError(t, err)
	require.NoError(t, f.Truncate(out.at))
	r, err := zipfile.Open(f, out.at)
	require.NoError(t, err)
	assert.Equal(t, int64(huge), r.Find("a-huge.bin").Size)
	got, err := r.Find("b-behind.txt").Read()
	require.NoError(t, err)
	assert.Equal(t, text(1000), got)
	assert.Contains(t, peer.Run(t, "", peer.Need(t, "7z"), "l", file), "4294979641")
	assert.Contains(t, peer.Run(t, "", peer.Need(t, "unzip"), "-p", file, "b-behind.txt"), string(text(1000)))
	assert.Equal(t, "4294979641\n",
		peer.Run(t, "", peer.Need(t, "python3"), "-c",
			"import zipfile,sys; z=zipfile.ZipFile(sys.argv[1]); assert len(z.read('b-behind.txt')) == 1000; print(z.infolist()[0].file_size)", file))

	sources = nil
	for i := range 70_000 {
		sources = append(sources, source(fmt.Sprintf("%05d", i), nil, zipfile.Store))
	}
	parts, _ := pack(t, sources, zipfile.Options{Workers: 2})
	many, err := zipfile.Open(bytes.NewReader(parts[0].Bytes()), int64(parts[0].Len()))
	require.NoError(t, err)
	assert.Len(t, many.Files, 70_000)
	require.NoError(t, os.WriteFile(file, parts[0].Bytes(), 0o666))
	assert.Contains(t, peer.Run(t, "", peer.Need(t, "unzip"), "-l", file), "70000 files")
}

// foreign writes an archive with the standard library, changed entry by entry.
func foreign(t testing.TB, change func(h *zip.FileHeader), names ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range names {
		h := &zip.FileHeader{Name: n, Method: zip.Deflate}
		if change != nil {
			change(h)
		}
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		if !strings.HasSuffix(n, "/") {
			_, err = f.Write([]byte("content of " + n))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.SetComment("made elsewhere"))
	require.NoError(t, w.Close())
	return b.Bytes()
}

func open(t testing.TB, data []byte) *zipfile.Reader {
	t.Helper()
	r, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return r
}

// Archives of other writers: descriptors behind the data, folders, comments, old code pages, names
// in an extra field, backslashes.
func TestForeignArchives(t *testing.T) {
	r := open(t, foreign(t, nil, "folder/", "folder/a.txt"))
	assert.Equal(t, "made elsewhere", r.Comment)
	assert.True(t, r.Files[0].Dir)
	got, err := r.Find("folder/a.txt").Read()
	require.NoError(t, err)
	assert.Equal(t, "content of folder/a.txt", string(got))

	r = open(t, foreign(t, func(h *zip.FileHeader) { h.NonUTF8 = true }, "gr\x81n.txt"))
	assert.Equal(t, "grün.txt", r.Files[0].Name)
	assert.True(t, r.Files[0].Guessed)
	r = open(t, foreign(t, func(h *zip.FileHeader) {
		name := "rå.txt"
		body := append([]byte{1}, binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(h.Name)))...)
		h.NonUTF8, h.Extra = true,
			append(binary.LittleEndian.AppendUint16([]byte{0x75, 0x70}, uint16(5+len(name))), append(body, name...)...)
	}, "r\x86.txt"))
	assert.Equal(t, "rå.txt", r.Files[0].Name)
	assert.False(t, r.Files[0].Guessed)
	r = open(t, foreign(t, nil, `maps\old.txt`))
	assert.Equal(t, "maps/old.txt", r.Files[0].Name)

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), text(4000), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.txt"), text(9000), 0o666))
	zipper := peer.Need(t, "zip")
	for name, args := range map[string][]string{"plain": nil, "streamed": {"-fd"}, "stored": {"-0"}} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "a.zip")
			peer.Run(t, dir, zipper, append(append([]string{"-q"}, args...), file, "a.txt", "b.txt")...)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			got, err := open(t, data).Find("b.txt").Read()
			require.NoError(t, err)
			assert.Equal(t, text(9000), got)
		})
	}
	t.Run("encrypted", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "a.zip")
		peer.Run(t, dir, zipper, "-q", "-P", "secret", file, "a.txt")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		r := open(t, data)
		assert.Contains(t, r.Files[0].Trouble, "encrypted")
		_, err = r.Files[0].Read()
		assert.ErrorIs(t, err, zipfile.ErrEncrypted)
	})
	t.Run("bzip2", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "a.zip")
		peer.Run(t, dir, peer.Need(t, "7z"), "a", "-tzip", "-mm=BZip2", file, "a.txt")
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, open(t, data).Files[0].Trouble, "method 12")
	})
	t.Run("zstd", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "p.py")
		require.NoError(t,
			os.WriteFile(file,
				[]byte("import json,zipfile,sys\nz=zipfile.ZipFile(sys.argv[1],'w')\nz.writestr('a\\u0308.txt','x')\nz.close()\n"), 0o666))
		out := filepath.Join(t.TempDir(), "a.zip")
		peer.Run(t, "", peer.Need(t, "python3"), file, out)
		data, err := os.ReadFile(out)
		require.NoError(t, err)
		assert.Equal(t, "a\u0308.txt", open(t, data).Files[0].Name)
	})
}

// Hostile archives: each bad name is refused by name, each lie by number, and no entry gives a byte more than it said.
func TestHostile(t *testing.T) {
	for _, name := range []string{"../evil", "/etc/passwd", `..\evil`, "C:/x", `C:\x`, "a/../../b", "nul", "a\x00b",
		"ok/com1.txt", "a//b", "./a", "a.", "\\\\server\\share"} {
		r := open(t, foreign(t, nil, "good.txt", name))
		assert.Empty(t, r.Files[0].Trouble)
		assert.NotEmpty(t, r.Files[1].Trouble, "%q", name)
	}
	for _, pair := range [][2]string{{"Maps/a", "maps/A"}, {"\u00e4.txt", "a\u0308.txt"}, {"a", "a"}} {
		assert.NotEmpty(t, open(t, foreign(t, nil, pair[0], pair[1])).Files[1].Trouble, "%q", pair)
	}
	link := open(t, foreign(t, func(h *zip.FileHeader) { h.SetMode(os.ModeSymlink | 0o777) }, "a"))
	assert.Contains(t, link.Files[0].Trouble, "link")

	whole := foreign(t, nil, "a.txt", "b.txt")
	for n := range whole {
		_, err := zipfile.Open(bytes.NewReader(whole[:n]), int64(n))
		assert.Error(t, err, "cut at %d", n)
	}
	central := bytes.LastIndex(whole, []byte("PK\x01\x02"))
	change := func(at int, value uint32) []byte {
		data := bytes.Clone(whole)
		binary.LittleEndian.PutUint32(data[at:], value)
		return data
	}
	_, err := zipfile.Open(bytes.NewReader(change(central+42, 0)), int64(len(whole)))
	assert.ErrorContains(t, err, "lie over one another")
	_, err = zipfile.Open(bytes.NewReader(change(central+20, 1<<30)), int64(len(whole)))
	assert.ErrorContains(t, err, "does not hold")
	assert.Contains(t, open(t, change(central+24, 1<<30)).Files[1].Trouble, "can't do")
	for _, size := range []uint32{1, 15, 17, 5000} {
		r := open(t, change(central+24, size))
		got, err := r.Files[1].Read()
		assert.ErrorContains(t, err, "damaged", "%d", size)
		assert.LessOrEqual(t, len(got), int(size))
	}
	spoilt := bytes.Clone(whole)
	spoilt[bytes.Index(whole, []byte("PK\x01\x02"))-20] ^= 0x55
	_, err = open(t, spoilt).Files[1].Read()
	assert.ErrorContains(t, err, "damaged")

	// Entries that say they blow up are not read at all: one that its method can't make, and
	// several that would be too much together.
	zstd := func(size uint32) []byte {
		parts, _ := pack(t,
			[]zipfile.Source{source("a", text(5000), zipfile.Zstd), source("b", text(6000), zipfile.Zstd)},
			zipfile.Options{})
		data := bytes.Clone(parts[0].Bytes())
		binary.LittleEndian.PutUint32(data[bytes.Index(data, []byte("PK\x01\x02"))+24:], size)
		return data
	}
	assert.Contains(t, open(t, zstd(1<<31)).Files[0].Trouble, "which zstd can't do")
	many := open(t, zstd(9<<20)).Files
	assert.Contains(t, many[0].Trouble, "its own header has another size than the directory")
	many[0].Trouble = ""
	for i := range many {
		many[i].Size = zipfile.MaxVerified/2 + 1
	}
	trouble, err := zipfile.Verify(t.Context(), many)
	require.NoError(t, err)
	assert.Contains(t, trouble[0], "damaged", "what is not too much is read, and is not what it says")
	assert.Contains(t, trouble[1], "was not read")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = zipfile.Verify(ctx, open(t, whole).Files)
	assert.ErrorIs(t, err, context.Canceled)
}

// Unpacking looks at everything first: with one bad entry among good ones nothing is written, and
// never anything outside.
func TestExtract(t *testing.T) {
	t.Parallel()
	outer := t.TempDir()
	d, err := safefile.MakeDir(filepath.Join(outer, "in"))
	require.NoError(t, err)
	defer d.Close()
	list := func() (names []string) {
		require.NoError(t, filepath.WalkDir(outer, func(at string, e fs.DirEntry, err error) error {
			if rel, _ := filepath.Rel(outer, at); err == nil && !e.IsDir() {
				names = append(names, filepath.ToSlash(rel))
			}
			return err
		}))
		return names
	}
	for _, bad := range []string{"../evil", "/abs", `..\evil`, "a/../../b", "GOOD.TXT", "con", "x:y"} {
		r := open(t, foreign(t, nil, "good.txt", "sub/deep.txt", bad))
		_, err := zipfile.Extract(t.Context(), d, r.Files, zipfile.ExtractOptions{Workers: 2})
		assert.Error(t, err, bad)
		assert.Empty(t, list(), bad)
	}
	r := open(t, foreign(t, nil, "folder/", "good.txt", "sub/deep.txt"))
	_, err = zipfile.Extract(t.Context(), d, r.Files, zipfile.ExtractOptions{Most: 20})
	assert.ErrorContains(t, err, "unpacks to more than 20 bytes")
	written, err := zipfile.Extract(t.Context(), d, r.Files, zipfile.ExtractOptions{Workers: 2})
	require.NoError(t, err)
	assert.Len(t, written, 2)
	assert.Equal(t, []string{"in/good.txt", "in/sub/deep.txt"}, list())
	assert.DirExists(t, d.Join("folder"))
	sum := sha256.Sum256([]byte("content of good.txt"))
	assert.Equal(t, hex.EncodeToString(sum[:]), written[0].SHA256)
	_, err = zipfile.Extract(t.Context(), d, r.Files, zipfile.ExtractOptions{})
	assert.ErrorContains(t, err, "already exists")
	if err := os.Symlink(outer, d.Join("link")); err == nil { // a link that was there leads nowhere
		_, err = zipfile.Extract(t.Context(), d, open(t, foreign(t, nil, "link/evil.txt")).Files,
			zipfile.ExtractOptions{Overwrite: true})
		assert.Error(t, err)
		assert.NoFileExists(t, filepath.Join(outer, "evil.txt"))
	}
	spoilt := foreign(t, nil, "good.txt", "sub/deep.txt")
	spoilt[bytes.Index(spoilt, []byte("PK\x01\x02"))-20] ^= 0x55
	_, err = zipfile.Extract(t.Context(), d, open(t, spoilt).Files, zipfile.ExtractOptions{Overwrite: true})
	assert.ErrorContains(t, err, "damaged")
	data, err := os.ReadFile(d.Join("sub/deep.txt"))
	require.NoError(t, err)
	assert.Equal(t, "content of sub/deep.txt", string(data), "what was there stays")
}

// Any bytes end in an error, or in entries that read or don't; none gives more than it said.
func FuzzOpen(f *testing.F) {
	f.Add(foreign(f, nil, "a", "b/c"))
	_, sources := all()
	var few []zipfile.Source
	for _, s := range sources {
		if s.Size < 6000 {
			s.Align = 16
			few = append(few, s)
		}
	}
	parts, _ := pack(f, few, zipfile.Options{})
	f.Add(parts[0].Bytes())
	f.Add([]byte("PK\x05\x06" + strings.Repeat("\x00", 18)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if r, err := zipfile.Open(bytes.NewReader(data), int64(len(data))); err == nil {
			for i, e := range r.Files {
				if e.Size < 1<<20 && i < 100 {
					got, err := e.Read()
					if err == nil && int64(len(got)) != e.Size && !e.Dir {
						t.Fatalf("%q has %d bytes instead of %d", e.Name, len(got), e.Size)
					}
				}
			}
		}
		for _, s := range scan(t, data) {
			if s.Size > 1<<30 && s.Whole {
				t.Fatal("more than the bytes can hold")
			}
		}
	})
}

func scan(t testing.TB, data []byte) []*zipfile.Saved {
	t.Helper()
	list, err := zipfile.Scan(t.Context(), bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	return list
}

// Files made to be a burden cost no more work than a few times their size: signatures upon
// signatures, each with an entry that is said to reach to the end, streams that take bytes and give
// none, and what never ends is ended.
func TestScanIsBounded(t *testing.T) {
	thorough.Only(t)
	defer zipfile.MinWork(64 << 20)()
	header := func(method uint16, flags uint16, packed, size uint32) []byte {
		b := binary.LittleEndian.AppendUint32(nil, 0x04034b50)
		b = binary.LittleEndian.AppendUint16(b, 20)
		b = binary.LittleEndian.AppendUint16(b, flags)
		b = binary.LittleEndian.AppendUint16(b, method)
		b = binary.LittleEndian.AppendUint32(b, 0)
		b = binary.LittleEndian.AppendUint32(b, 1)
		b = binary.LittleEndian.AppendUint32(b, packed)
		b = binary.LittleEndian.AppendUint32(b, size)
		return append(b, 1, 0, 0, 0, 'a')
	}
	const size = 2 << 20
	for name, piece := range map[string][]byte{
		"signatures":               []byte("PK\x03\x04"),
		"descriptors wanted":       header(0, 8, 0, 0),
		"stored to the end":        header(0, 0, size/2, size/2),
		"packed to the end":        append(header(8, 0, size/2, 1<<30), 0, 0, 0, 255, 255),
		"blocks that hold nothing": append(header(8, 8, 0, 0), bytes.Repeat([]byte{0, 0, 0, 255, 255}, 4)...),
		"directories":              []byte("PK\x01\x02"),
		"long names": bytes.Replace(header(0, 0, 9, 9), []byte{1, 0, 0, 0, 97},
			[]byte{0, 16, 255, 255, 97}, 1),
	} {
		start := time.Now()
		saved := scan(t, bytes.Repeat(piece, size/len(piece)))
		for _, s := range saved[:min(len(saved), 100)] {
			assert.False(t, s.Whole, name)
		}
		assert.Less(t, time.Since(start), time.Minute, name) // a second or two; without a bound it is hours
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	data, _ := packedOnce()
	_, err := zipfile.Scan(ctx, bytes.NewReader(data), int64(len(data)))
	assert.ErrorIs(t, err, context.Canceled)
	saved := scan(t, bytes.ReplaceAll(foreign(t, nil, "gruen.txt"), []byte("gruen"), []byte("gr\x81\x81n")))
	require.Len(t, saved, 1)
	assert.Equal(t, "grüün.txt", saved[0].Name)
	assert.True(t, saved[0].Guessed)
}

// What is left of an archive is found: without its directory, cut in the middle, with a name gone,
// with a descriptor behind the data.
func TestScan(t *testing.T) {
	t.Parallel()
	thorough.Only(t)
	content, _ := all()
	data, list := packedOnce()
	central := bytes.Index(data, []byte("PK\x01\x02"))
	find := func(saved []*zipfile.Saved, name string) *zipfile.Saved {
		for _, s := range saved {
			if s.Name == name {
				return s
			}
		}
		return nil
	}
	saved := scan(t, data[:central])
	require.Len(t, saved, len(content))
	for _, s := range saved {
		assert.True(t, s.Whole, s.Name)
		got, err := s.Read()
		require.NoError(t, err)
		assert.True(t, bytes.Equal(content[s.Name], got), s.Name)
	}
	cut := list[6].Data + list[6].Packed/2 // d/large.bin or what is seventh
	saved = scan(t, data[:cut])
	require.Len(t, saved, 7)
	assert.False(t, saved[6].Whole)
	assert.True(t, saved[5].Whole)

	lost := bytes.Clone(data)
	for i := range len("b/text.txt") {
		lost[find(scan(t, data), "b/text.txt").Header+30+int64(i)] = 0
	}
	s := find(scan(t, lost), "b/text.txt")
	require.NotNil(t, s, "the directory still has the name")
	assert.True(t, s.FromDirectory)
	s = find(scan(t, lost[:central]), "")
	require.NotNil(t, s)
	assert.True(t, s.NameLost && s.Whole)

	streamed := foreign(t, nil, "a.txt", "b.txt", "c.txt")
	streamed = streamed[:bytes.Index(streamed, []byte("PK\x01\x02"))]
	saved = scan(t, streamed)
	require.Len(t, saved, 3)
	got, err := saved[2].Read()
	require.NoError(t, err)
	assert.Equal(t, "content of c.txt", string(got))
	spoilt := bytes.Clone(streamed)
	spoilt[40] ^= 0xff
	saved = scan(t, spoilt)
	require.Len(t, saved, 3)
	assert.False(t, saved[0].Whole)
	assert.True(t, saved[1].Whole && saved[2].Whole, "what stands behind the damage is found")
}
