package zipdelta

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/vcdiff"
	"vornix/core/format/zipfile"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// Archives of every make come back: streamed ones with sizes behind the data, locked ones, with
// folders, comments and a program before them; to and from ones of ours.
func TestArchivesOfEveryMake(t *testing.T) {
	zip, python := peer.Need(t, "zip"), peer.Need(t, "python3")
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(3, 3))
	for i := range 6 {
		name := filepath.Join(dir, "src", fmt.Sprintf("d%d", i%2), fmt.Sprintf("%d.bin", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o700))
		require.NoError(t, os.WriteFile(name, mixed(r, 20_000), 0o600))
	}
	src := filepath.Join(dir, "src")
	peer.Run(t, src, zip, "-q", "-r", "../plain.zip", ".")
	peer.Run(t, src, zip, "-q", "-r", "-P", "secret", "../locked.zip", ".")
	peer.Run(t, src, python, "-c", `
import sys, zipfile, os
class Stream:
    def __init__(self, f): self.f = f
    def write(self, b): return self.f.write(b)
    def flush(self): pass
with open('../streamed.zip', 'wb') as f, zipfile.ZipFile(Stream(f), 'w', zipfile.ZIP_DEFLATED) as z:
    for root, _, names in sorted(os.walk('.')):
        for n in sorted(names): z.write(os.path.join(root, n))
with open('../before.zip', 'wb') as f: f.write(b'MZ a program' * 50)
with zipfile.ZipFile('../before.zip', 'a', zipfile.ZIP_BZIP2) as z:
    z.comment = b'a comment'
    z.writestr('same.txt', 'text ' * 900)
`)
	archives := map[string][]byte{"ours": pack(t, "",
		map[string][]byte{"d0/0.bin": mixed(r, 20_000), "same.txt": bytes.Repeat([]byte("text "), 900)})}
	for _, name := range []string{"plain", "locked", "streamed", "before"} {
		data, err := os.ReadFile(filepath.Join(dir, name+".zip"))
		require.NoError(t, err)
		archives[name] = data
	}
	for from, old := range archives {
		for to, now := range archives {
			d, s := encode(t, old, now)
			got, err := decode(old, d)
			require.NoError(t, err, "%s to %s", from, to)
			assert.True(t, bytes.Equal(now, got), "%s to %s", from, to)
			if from == to {
				assert.Less(t, len(d), 1500, from)
				assert.Zero(t, s.Changed+s.Fresh, from)
			}
		}
	}
}

// More content than is kept in memory goes through a temporary file, which is gone afterwards.
func TestMoreThanMemory(t *testing.T) {
	thorough.Only(t)
	big := bytes.Repeat(mixed(rand.New(rand.NewPCG(8, 8)), 1<<20), inMemory>>20+2)
	old := pack(t, "", map[string][]byte{"big.bin": big})
	big[len(big)/2] ^= 1
	now := pack(t, "", map[string][]byte{"big.bin": big})
	temp := t.TempDir()
	var d, out bytes.Buffer
	_, err := Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), int64(len(now)),
		&d, Options{Workers: 2, Temp: temp})
	require.NoError(t, err)
	assert.Less(t, d.Len(), 3000)
	_, err = Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d.Bytes()), &out,
		Limits{Workers: 2, Temp: temp})
	require.NoError(t, err)
	assert.True(t, bytes.Equal(now, out.Bytes()))
	left, err := os.ReadDir(temp)
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), int64(len(now)),
		io.Discard, Options{Temp: filepath.Join(temp, "nowhere")})
	assert.Error(t, err)
}

// Whoever takes the result may refuse it, and is heard; whoever holds it to a hash of his own may
// leave that to himself.
func TestWritersThatRefuse(t *testing.T) {
	files := content()
	old := pack(t, "", files)
	files["notes.txt"] = []byte("new")
	now := pack(t, "", files)
	d, _ := encode(t, old, now)
	full := errors.New("the disk is full")
	_, err := Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d),
		&filling{left: 1 << 20, err: full}, Limits{})
	assert.ErrorIs(t, err, full)
	var done int64
	var out bytes.Buffer
	_, err = Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), &out,
		Limits{Unchecked: true, Wrote: func(n int64) { done += n }})
	require.NoError(t, err)
	assert.EqualValues(t, len(now), done)
	assert.True(t, bytes.Equal(now, out.Bytes()))
	_, err = Encode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), int64(len(now)),
		&filling{left: 10, err: full}, Options{Compression: vcdiff.LZMA})
	assert.ErrorIs(t, err, full)
}

type filling struct {
	left int
	err  error
}

func (f *filling) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, f.err
	}
	return len(b), nil
}

// What says of itself that it is a delta between archives, and lies, is refused.
func TestHeadersThatLie(t *testing.T) {
	old := pack(t, "", map[string][]byte{"a.txt": []byte("text text text text text text"), "b.txt": []byte("other")})
	h := &header{packing: zipfile.Packing, oldSize: int64(len(old)), newSize: 10, start: -1, entries: []int{0, 1}}
	good, err := parseHeader(h.bytes())
	require.NoError(t, err)
	assert.Equal(t, h, good)
	make := func(h *header, target []byte) []byte {
		src, size, done,
			err := sourceOf(context.Background(), bytes.NewReader(old), int64(len(old)), opened(t, old), []int{0, 1},
			"")
		require.NoError(t, err)
		defer done()
		var d bytes.Buffer
		_, err = vcdiff.Encode(context.Background(), src, size, bytes.NewReader(target), &d,
			vcdiff.Options{Header: h.bytes()})
		require.NoError(t, err)
		return d.Bytes()
	}
	for what, d := range map[string][]byte{
		"an entry that is not there": make(&header{packing: zipfile.Packing, oldSize: int64(len(old)),
			entries: []int{0, 7}}, recipe(nil)),
		"no recipe":               make(h, nil),
		"a recipe cut short":      make(h, recipe([]step{{kind: literal, size: 10}})[:2]),
		"a copy beyond the end":   make(h, recipe([]step{{kind: copied, size: 10, from: int64(len(old))}})),
		"a copy before the start": make(h, recipe([]step{{kind: copied, size: 10, from: -5}})),
		"a step nobody knows":     make(h, recipe([]step{{kind: 9, size: 10}})),
		"a method nobody packs":   make(h, append(recipe([]step{{kind: packed, size: 3, method: 12}}), "abc"...)),
		"a directory of nothing":  make(h, recipe([]step{{kind: index, size: 10}})),
		"more than it says": make(h,
			append(recipe([]step{{kind: literal, size: 20}}), "01234567890123456789"...)),
		"less than it says": make(h, append(recipe([]step{{kind: literal, size: 3}}), "abc"...)),
		"something behind the steps": make(h,
			append(recipe([]step{{kind: literal, size: 10}}), "0123456789 and more"...)),
		"another hash": make(h, append(recipe([]step{{kind: literal, size: 10}}), "0123456789"...)),
		"another packing": make(&header{packing: zipfile.Packing + 1, oldSize: int64(len(old))},
			recipe(nil)),
		"too large": make(&header{packing: zipfile.Packing, oldSize: int64(len(old)),
			newSize: 1 << 50}, recipe(nil)),
	} {
		_, err := decode(old, d)
		assert.Error(t, err, what)
	}
	for _, bad := range [][]byte{mark, append(bytes.Clone(mark), 0xff),
		append(h.bytes()[:len(h.bytes())-2], 0xff, 0xff)} {
		_, err := parseHeader(bad)
		assert.Error(t, err)
	}
	none, err := parseHeader([]byte("another header"))
	require.NoError(t, err)
	assert.Nil(t, none)
}

func opened(t *testing.T, data []byte) []*zipfile.File {
	t.Helper()
	a, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	return a.Files
}
