package transport

import (
	"archive/zip"
	"bytes"
	"context"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// built puts a file together of ranges, as a server does.
func built(t testing.TB, old, now []byte, ranges []span) (out []byte, same int64) {
	out = bytes.Clone(now)
	var end int64
	for _, s := range ranges {
		require.GreaterOrEqual(t, s.to, end, "in order, and apart")
		require.LessOrEqual(t, s.from+s.n, int64(len(old)))
		end = s.to + s.n
		require.LessOrEqual(t, end, int64(len(now)))
		copy(out[s.to:end], old[s.from:s.from+s.n])
		same += s.n
	}
	return out, same
}

// Whatever is done to a file: what is put together of the old one and what is said to differ is the
// new one, and most of what stayed is found.
func TestWhatStayedIsFound(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 30 {
		old := make([]byte, 20_000+r.IntN(300_000))
		for i := range old {
			old[i] = byte(r.Uint32())
		}
		now, changed := bytes.Clone(old), 0
		for range r.IntN(6) {
			at, n := r.IntN(len(now)), r.IntN(3000)
			n = min(n, len(now)-at)
			switch r.IntN(4) {
			case 0: // in between
				now = append(now[:at:at], append(bytes.Repeat([]byte{byte(n)}, n), now[at:]...)...)
			case 1: // gone
				now = append(now[:at:at], now[at+n:]...)
			case 2: // another place
				part := bytes.Clone(now[at : at+n])
				now = append(append(now[:at:at], now[at+n:]...), part...)
			default:
				for i := range n {
					now[at+i]++
				}
			}
			changed += n + 4*matchBlock
		}
		ranges, err := matches(context.Background(), old, now)
		require.NoError(t, err)
		out, same := built(t, old, now, ranges)
		require.Equal(t, now, out)
		assert.GreaterOrEqual(t, same, int64(len(now)-changed), "by the old file")
		name := filepath.Join(t.TempDir(), "old")
		require.NoError(t, os.WriteFile(name, old, 0o666))
		m, err := MarksOf(context.Background(), name)
		require.NoError(t, err)
		ranges, err = m.find(context.Background(), now)
		require.NoError(t, err)
		out, same = built(t, old, now, ranges)
		require.Equal(t, now, out)
		assert.GreaterOrEqual(t, same, int64(len(now)-2*changed-1024), "by what is remembered of it")
	}
	same, err := matches(context.Background(), make([]byte, 9000), make([]byte, 500_000))
	require.NoError(t, err)
	out, _ := built(t, make([]byte, 9000), make([]byte, 500_000), same)
	assert.Len(t, out, 500_000)
}

func TestDirectoriesTellWhatIsTheSame(t *testing.T) {
	pack := func(names []string, content func(name string) []byte) []byte {
		var b bytes.Buffer
		b.WriteString("a map in front of it")
		z := zip.NewWriter(&b)
		z.SetOffset(int64(b.Len()))
		for _, n := range names {
			data := content(n)
			w, err := z.CreateRaw(&zip.FileHeader{Name: "dir/" + n, Method: zip.Store, CRC32: crc32.ChecksumIEEE(data),
				CompressedSize64: uint64(len(data)), UncompressedSize64: uint64(len(data))})
			require.NoError(t, err)
			_, err = w.Write(data)
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	content := func(name string) []byte { return bytes.Repeat([]byte(name), 700) }
	old := pack([]string{"a", "b", "c"}, content)
	now := pack([]string{"c", "new", "a"}, content)
	left, err := directory(bytes.NewReader(old), int64(len(old)))
	require.NoError(t, err)
	right, err := directory(bytes.NewReader(now), int64(len(now)))
	require.NoError(t, err)
	ranges := sameEntries(left, right)
	assert.Len(t, ranges, 2)
	out, same := built(t, old, now, ranges)
	assert.Equal(t, now, out)
	assert.Equal(t, int64(1400), same)
}

func FuzzDirectory(f *testing.F) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("a")
	_, _ = w.Write([]byte("some text"))
	_ = z.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := directory(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		for _, p := range list {
			if p.data < 0 || p.packed < 0 || p.data+p.packed > int64(len(data)) {
				t.Fatalf("an entry lies outside of its archive: %+v", p)
			}
		}
	})
}
