package vcdiff

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/thorough"
)

// failing gives errors from a position on.
type failing struct {
	data []byte
	from int64
	err  error
}

func (f *failing) ReadAt(b []byte, at int64) (int, error) {
	if at+int64(len(b)) > f.from {
		return 0, f.err
	}
	return copy(b, f.data[at:]), nil
}

// A file seen through few pages is the file, whatever is asked of it and in which order.
func TestPagesAreTheFile(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 9))
	data := noise(r, 5*pageSize+1234)
	for _, whole := range []int64{0, int64(len(data))} {
		v := newView(bytes.NewReader(data), int64(len(data)), 2*pageSize, whole)
		require.NoError(t, v.load())
		for range 3000 {
			at := r.IntN(len(data))
			if r.IntN(3) == 0 { // around the borders
				at = min(len(data)-1, max(0, (1+r.IntN(5))*pageSize-5+r.IntN(10)))
			}
			n := min(len(data)-at, 1+r.IntN(3000))
			switch r.IntN(3) {
			case 0:
				b := make([]byte, n)
				require.NoError(t, v.read(b, int64(at)))
				require.True(t, bytes.Equal(data[at:at+n], b))
			case 1:
				b := bytes.Clone(data[at : at+n])
				want := n
				if k := r.IntN(n + 1); k < n {
					b[k] ^= 1
					want = k
				}
				require.Equal(t, want, v.forward(int64(at), b))
			case 2:
				b := bytes.Clone(data[at : at+n])
				want := n
				if k := r.IntN(n + 1); k < n {
					b[k] ^= 1
					want = n - 1 - k
				}
				require.Equal(t, want, v.backward(int64(at+n), b))
			}
		}
		assert.Zero(t, v.forward(int64(len(data)), []byte("x")))
		assert.Zero(t, v.backward(0, []byte("x")))
		assert.NoError(t, v.err)
	}
}

// A disk that fails, a file that becomes shorter, a writer that is full: each is said, and nothing
// is taken for the end of a file.
func TestWhatFails(t *testing.T) {
	thorough.Only(t)
	r := rand.New(rand.NewPCG(2, 1))
	broken := errors.New("the disk is broken")
	old := noise(r, whole+2<<20)
	now := append(bytes.Clone(old[1<<20:]), old[:1<<20]...)
	ctx := context.Background()
	_, err := Encode(ctx, &failing{old, int64(len(old)) - 5, broken}, int64(len(old)), bytes.NewReader(now), io.Discard,
		Options{Workers: 2})
	assert.ErrorIs(t, err, broken)
	_, err = Encode(ctx, bytes.NewReader(old[:1000]), int64(len(old)), bytes.NewReader(now), io.Discard, Options{})
	assert.ErrorContains(t, err, "became shorter")
	_, err = Encode(ctx, bytes.NewReader(old), int64(len(old)),
		io.MultiReader(bytes.NewReader(now[:100]), &breaking{broken}), io.Discard, Options{})
	assert.ErrorIs(t, err, broken)
	_, err = Encode(ctx, bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), full{broken}, Options{Workers: 2})
	assert.ErrorIs(t, err, broken)
	stopped, stop := context.WithCancel(ctx)
	stop()
	_, err = Encode(stopped, bytes.NewReader(old), int64(len(old)), bytes.NewReader(now), io.Discard, Options{})
	assert.ErrorIs(t, err, context.Canceled)

	d := encode(t, pair{old, now}, Options{Workers: 2})
	assert.Less(t, len(d), 2000)
	_, err = Decode(ctx, &failing{old, 4 << 20, broken}, int64(len(old)), bytes.NewReader(d), io.Discard, Limits{})
	assert.ErrorIs(t, err, broken)
	_, err = Decode(ctx, bytes.NewReader(old[:2000]), int64(len(old)), bytes.NewReader(d), io.Discard, Limits{})
	assert.ErrorContains(t, err, "became shorter")
	_, err = Decode(ctx, bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), full{broken}, Limits{})
	assert.ErrorIs(t, err, broken)
	_, err = Decode(stopped, bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), io.Discard, Limits{})
	assert.ErrorIs(t, err, context.Canceled)
	var done int64
	_, err = Decode(ctx, bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), io.Discard,
		Limits{Wrote: func(n int64) { done += n }})
	require.NoError(t, err)
	assert.EqualValues(t, len(now), done)
}

type breaking struct{ err error }

func (b *breaking) Read([]byte) (int, error) { return 0, b.err }

type full struct{ err error }

func (f full) Write([]byte) (int, error) { return 0, f.err }

// In a large file, whose blocks lie far apart in the index, small changes close to each other cost
// little more than in a small one.
func TestLargeFilesAreLookedAtClosely(t *testing.T) {
	thorough.Only(t)
	r := rand.New(rand.NewPCG(7, 3))
	old := noise(r, 2*whole+4<<20)
	var now []byte
	at := 0
	for i := range 300 { // a byte in, one out, every kilobyte or so, in one part of it
		to := 20<<20 + i*1100 + r.IntN(300)
		now = append(append(now, old[at:to]...), byte(i))
		at = to + r.IntN(2)
	}
	now = append(now, old[at:]...)
	d := encode(t, pair{old, now}, Options{Compression: LZMA, Workers: 2})
	assert.Less(t, len(d), 300*12)
	got, err := decode(old, d)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(now, got))
}

// An application header comes back, and a delta to the letter of the standard has none.
func TestHeaders(t *testing.T) {
	d := encode(t, pair{nil, []byte("x")}, Options{Header: []byte("about it")})
	h, err := Open(bytes.NewReader(d))
	require.NoError(t, err)
	assert.Equal(t, "about it", string(h))
	h, err = Open(bytes.NewReader(encode(t, pair{nil, []byte("x")}, Options{})))
	require.NoError(t, err)
	assert.Nil(t, h)
	_, err = Encode(context.Background(), bytes.NewReader(nil), 0, bytes.NewReader(nil), io.Discard,
		Options{Standard: true, Header: []byte("x")})
	assert.Error(t, err)
	for _, n := range []int64{0, 1, 127, 128, 16383, 16384, 1 << 32, 1<<62 - 1} {
		got, rest, err := cutInt(appendInt(nil, n))
		require.NoError(t, err)
		assert.Empty(t, rest)
		assert.Equal(t, n, got)
		got, err = readInt(bytes.NewReader(appendInt(nil, n)))
		require.NoError(t, err)
		assert.Equal(t, n, got)
	}
	_, err = readXZHead(bytes.NewBuffer(append(xzHead(16)[:20], make([]byte, 40)...)))
	assert.ErrorIs(t, err, errXZ)
	dict, err := readXZHead(bytes.NewBuffer(xzHead(dictBits)))
	require.NoError(t, err)
	assert.Equal(t, 1<<dictBits, dict)
}

// What a delta says of itself is what it does; one cut short is told.
func TestAbout(t *testing.T) {
	p := samples()["several windows"]
	for _, o := range []Options{{Compression: LZMA, Header: []byte("about")}, {Standard: true}} {
		d := encode(t, p, o)
		a, h, err := Inspect(bytes.NewReader(d))
		require.NoError(t, err)
		assert.Equal(t, &About{Windows: 3, Target: int64(len(p.now)), OldLeast: a.OldLeast, Adler: !o.Standard,
			LZMA: !o.Standard, Header: len(o.Header)}, a)
		assert.Equal(t, o.Header, h)
		assert.InDelta(t, len(p.old), a.OldLeast, 1<<20)
		for _, cut := range []int{4, len(d) / 2, len(d) - 1} {
			_, _, err := Inspect(bytes.NewReader(d[:cut]))
			var format *FormatError
			assert.ErrorAs(t, err, &format)
		}
	}
}
