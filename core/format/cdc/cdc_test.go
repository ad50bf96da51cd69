package cdc_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/format/cdc"
	"vornix/internal/peer"
)

func noise(seed uint64, n int) []byte {
	r := rand.NewChaCha8([32]byte{byte(seed)})
	b := make([]byte, n)
	_, _ = r.Read(b) // it never fails
	return b
}

func cut(t *testing.T, data []byte, bounds ...int64) []cdc.Chunk {
	t.Helper()
	list, err := cdc.Cut(context.Background(), bytes.NewReader(data), int64(len(data)), bounds, nil)
	require.NoError(t, err)
	return list
}

// missing is how many bytes of the new chunks the old ones don't have.
func missing(old, now []cdc.Chunk) (n int64) {
	have := map[string]bool{}
	for _, c := range old {
		have[c.SHA256] = true
	}
	for _, c := range now {
		if !have[c.SHA256] {
			n += c.Size
			have[c.SHA256] = true
		}
	}
	return n
}

// Chunks are the file, in its order, each within its sizes and with its hash; of any file, on any number of processors.
func TestChunksAreTheFile(t *testing.T) {
	files := map[string][]byte{
		"empty": nil, "one": {7}, "least": noise(1, cdc.Lowest), "most": noise(2, cdc.Limit),
		"zeros":  make([]byte, 3*cdc.Limit+5),
		"window": noise(3, 16*cdc.Limit), "long": noise(4, 12<<20+77),
	}
	for name, data := range files {
		list := cut(t, data)
		at := 0
		for i, c := range list {
			require.LessOrEqual(t, at+int(c.Size), len(data), name)
			sum := sha256.Sum256(data[at : at+int(c.Size)])
			require.Equal(t, hex.EncodeToString(sum[:]), c.SHA256, "%s, chunk %d", name, i)
			assert.LessOrEqual(t, c.Size, int64(cdc.Limit))
			if i < len(list)-1 {
				assert.GreaterOrEqual(t, c.Size, int64(cdc.Lowest))
			}
			at += int(c.Size)
		}
		assert.Equal(t, len(data), at, name)
		was := runtime.GOMAXPROCS(1)
		assert.Equal(t, list, cut(t, data), name)
		runtime.GOMAXPROCS(was)
	}
	average := len(files["long"]) / len(cut(t, files["long"]))
	assert.Greater(t, average, cdc.Wanted/2)
	assert.Less(t, average, cdc.Wanted*2)
}

// Where chunks end is part of what is stored on workshops: were it to change, every item would have to go up again.
func TestWhereChunksEndStays(t *testing.T) {
	h := sha256.New()
	for _, c := range cut(t, noise(5, 4<<20)) {
		fmt.Fprintln(h, c.SHA256, c.Size)
	}
	assert.Equal(t, "bdc7171eb2986841cbe492e416ad64c3b1d5eb67515d870f89dc5811618d6431", hex.EncodeToString(h.Sum(nil)))
}

// An edit costs the chunks around it, wherever it is and however it moves what follows.
func TestAnEditIsCheap(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	data := noise(6, 6<<20)
	old := cut(t, data)
	for i := range 60 {
		at, n := r.IntN(len(data)), 1+r.IntN(3000)
		now := append([]byte{}, data[:at]...)
		switch i % 3 {
		case 0: // put in
			now = append(append(now, noise(uint64(i), n)...), data[at:]...)
		case 1: // taken out
			now = append(now, data[min(at+n, len(data)):]...)
		default: // written over
			now = append(append(now, noise(uint64(i), n)...), data[min(at+n, len(data)):]...)
		}
		assert.LessOrEqual(t, missing(old, cut(t, now)), int64(3*cdc.Limit), "edit %d at %d", i, at)
	}
}

// A renamed folder changes the names in an archive, which another program packed, and sends none of its contents again.
func TestARenamedFolderInAnArchive(t *testing.T) {
	peer.Need(t, "zip")
	pack := func(folder string) []byte {
		dir := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(dir, folder), 0o777))
		for i := range 12 {
			require.NoError(t,
				os.WriteFile(filepath.Join(dir, folder, fmt.Sprintf("%02d.bin", i)),
					noise(uint64(10+i), 60_000+i*30_000), 0o666))
		}
		c := exec.Command("zip", "-q", "-r", "a.zip", folder)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		data, err := os.ReadFile(filepath.Join(dir, "a.zip"))
		require.NoError(t, err)
		return data
	}
	was, now := pack("stone"), pack("gravel_of_the_yard")
	bounded := func(data []byte) []cdc.Chunk {
		return cut(t, data, cdc.Bounds(bytes.NewReader(data), int64(len(data)))...)
	}
	assert.Less(t, missing(bounded(was), bounded(now)), int64(len(now)/100))
	assert.Greater(t, missing(cut(t, was), cut(t, now)), int64(len(now)/10), "without looking into the archive")
	assert.Empty(t, cdc.Bounds(bytes.NewReader(noise(9, 100_000)), 100_000))
}

type broken struct{ at int64 }

func (b broken) ReadAt(p []byte, at int64) (int, error) {
	if at+int64(len(p)) > b.at {
		return 0, errors.New("the disk is broken")
	}
	return len(p), nil
}

func TestWhatCantBeRead(t *testing.T) {
	_, err := cdc.Cut(context.Background(), broken{20 << 20}, 30<<20, nil, nil)
	assert.ErrorContains(t, err, "the disk is broken")
	_, err = cdc.Cut(context.Background(), bytes.NewReader(noise(1, 1000)), 2000, nil, nil)
	assert.Error(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	_, err = cdc.Cut(ctx, bytes.NewReader(make([]byte, 30<<20)), 30<<20, nil, func(int64) { cancel() })
	assert.ErrorIs(t, err, context.Canceled)
}
