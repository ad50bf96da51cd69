package zipfile

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// half is content of which about half remains.
func half(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 2))
	b := make([]byte, n)
	for i := range b {
		if b[i] = byte(r.Uint32()); i%2 == 0 {
			b[i] &= 3
		}
	}
	return b
}

// inMemory is an archive being written.
type inMemory struct{ bytes.Buffer }

func (m *inMemory) Patch(b []byte, at int64) error { copy(m.Bytes()[at:], b); return nil }

// What Pack made of an entry, Repack makes again, at every size around the borders of blocks and
// with any number of workers.
func TestPackedAgain(t *testing.T) {
	for _, m := range []Method{Deflate, Zstd} {
		for i, n := range []int{1, 100, int(blockOf(m)) - 1, int(blockOf(m)), int(blockOf(m)) + 1,
			2*int(blockOf(m)) + 77} {
			data := half(uint64(i), n)
			if n > 200 {
				copy(data[50:], bytes.Repeat([]byte{7}, 100))
			}
			var out inMemory
			_, err := Pack(context.Background(),
				[]Source{{Name: "x", Size: int64(n), Method: m,
					Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}},
				Options{Workers: 2},
				func(int) (Sink, int64, error) { return &out, 0, nil })
			require.NoError(t, err)
			a, err := Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
			require.NoError(t, err)
			f := a.Files[0]
			if f.Method == Store {
				continue // nothing was gained
			}
			want, err := io.ReadAll(f.Raw())
			require.NoError(t, err)
			for _, workers := range []int{1, 3} {
				var got bytes.Buffer
				require.NoError(t, Repack(context.Background(), m, int64(n), bytes.NewReader(data), &got, workers))
				assert.True(t, bytes.Equal(want, got.Bytes()), "%s, %d bytes, %d workers", m, n, workers)
			}
			err = Repack(context.Background(), m, int64(n)+1, bytes.NewReader(data), io.Discard, 2)
			assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
		}
	}
	assert.Error(t, Repack(context.Background(), Store, 1, strings.NewReader("x"), io.Discard, 1))
	ctx, stop := context.WithCancel(context.Background())
	stop()
	assert.ErrorIs(t, Repack(ctx, Deflate, 8<<20, bytes.NewReader(half(1, 8<<20)), io.Discard, 2), context.Canceled)
	assert.ErrorIs(t, Repack(context.Background(), Deflate, 8<<20, bytes.NewReader(half(1, 8<<20)), refusing{}, 2),
		io.ErrClosedPipe)
}

type refusing struct{}

func (refusing) Write([]byte) (int, error) { return 0, io.ErrClosedPipe }

// The directory of an archive follows from what goes by, in pieces of any size, with alignment and
// with something before it.
func TestTheDirectoryFollows(t *testing.T) {
	for _, before := range []int{0, 1000} {
		var out inMemory
		out.Write(make([]byte, before))
		var sources []Source
		for i := range 30 {
			data := half(uint64(i), 10+i*331)
			s := Source{Name: fmt.Sprintf("folder/%c%02d.bin", 'a'+i%5, i), Size: int64(len(data)),
				Method: []Method{Store, Deflate, Zstd}[i%3],
				Open:   func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
			if i%4 == 0 {
				s.Align = 64
			}
			sources = append(sources, s)
		}
		sources = append(sources,
			Source{Name: "empty",
				Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("")), nil }},
			Source{Name: "größe/ümläut.txt", Size: 3, Method: Deflate,
				Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("abc")), nil }})
		_, err := Pack(context.Background(), sources, Options{Workers: 2},
			func(int) (Sink, int64, error) { return &out, int64(before), nil })
		require.NoError(t, err)
		all := out.Bytes()
		for _, piece := range []int{1, 7, 64, 5000, len(all)} {
			f := NewFollower(int64(before))
			for at := 0; at < len(all); at += piece {
				n, err := f.Write(all[at:min(len(all), at+piece)])
				require.NoError(t, err)
				require.Equal(t, min(len(all), at+piece)-at, n)
			}
			dir, at, err := f.Directory()
			require.NoError(t, err)
			assert.True(t, bytes.Equal(all[at:], dir), "pieces of %d", piece)
		}
		f := NewFollower(int64(before))
		_, _ = f.Write(all[:len(all)/2])
		if _, at, err := f.Directory(); err == nil {
			assert.LessOrEqual(t, at, int64(len(all)/2))
		}
	}
}

// Bytes that are no archive are followed without harm.
func TestFollowingNoise(t *testing.T) {
	for seed := range uint64(50) {
		b := half(seed, 500)
		binary.LittleEndian.PutUint32(b, localSignature)
		f := NewFollower(0)
		_, err := f.Write(b)
		require.NoError(t, err)
		_, _, _ = f.Directory()
	}
	huge := make([]byte, localSize)
	binary.LittleEndian.PutUint32(huge, localSignature)
	binary.LittleEndian.PutUint32(huge[18:], 1<<32-1)
	f := NewFollower(0)
	_, err := f.Write(huge)
	require.NoError(t, err)
	_, _, err = f.Directory()
	assert.Error(t, err, "an entry that goes on beyond the end")
}
