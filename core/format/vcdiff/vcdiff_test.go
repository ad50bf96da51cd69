package vcdiff

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/adler32"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
	"vornix/internal/thorough"
)

// pair is an old and a new file with what they have in common.
type pair struct{ old, now []byte }

func noise(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// words is text that compresses.
func words(r *rand.Rand, n int) []byte {
	list := strings.Fields("mail glider station cairn saltpan relay winch ridge snow lantern deck crag pylon courier parcel dawn")
	var b bytes.Buffer
	for b.Len() < n {
		fmt.Fprintf(&b, "%s %d, ", list[r.IntN(len(list))], r.IntN(99))
	}
	return b.Bytes()[:n]
}

// edited changes, inserts and takes out spans, and moves one part to another place.
func edited(r *rand.Rand, old []byte, edits int) []byte {
	b := bytes.Clone(old)
	for range edits {
		if len(b) < 64 {
			break
		}
		at, n := r.IntN(len(b)), 1+r.IntN(60)
		n = min(n, len(b)-at)
		switch r.IntN(4) {
		case 0:
			copy(b[at:], noise(r, n))
		case 1:
			b = append(b[:at:at], append(words(r, n), b[at:]...)...)
		case 2:
			b = append(b[:at:at], b[at+n:]...)
		case 3:
			part := bytes.Clone(b[at:min(len(b), at+n*100)])
			b = append(b[:at:at], b[at+len(part):]...)
			to := r.IntN(len(b) + 1)
			b = append(b[:to:to], append(part, b[to:]...)...)
		}
	}
	return b
}

func samples() map[string]pair {
	r := rand.New(rand.NewPCG(3, 8))
	text, loud := words(r, 300_000), noise(r, 200_000)
	large := append(append(words(r, 5<<20), noise(r, 1<<20)...), words(r, 1<<19)...)
	return map[string]pair{
		"nothing of nothing": {},
		"all new":            {nil, text[:5000]},
		"all gone":           {text[:5000], nil},
		"a byte":             {[]byte("a"), []byte("b")},
		"the same":           {loud, loud},
		"text":               {text, edited(r, text, 60)},
		"noise":              {loud, edited(r, loud, 40)},
		"runs": {bytes.Repeat([]byte{7}, 900),
			append(bytes.Repeat([]byte{0}, 90_000), bytes.Repeat([]byte("abc"), 9000)...)},
		"turned round":    {text, append(bytes.Clone(text[150_000:]), text[:150_000]...)},
		"several windows": {large, edited(r, append(large, large[:2<<20]...), 100)},
	}
}

func encode(t testing.TB, p pair, o Options) []byte {
	t.Helper()
	var out bytes.Buffer
	s, err := Encode(context.Background(), bytes.NewReader(p.old), int64(len(p.old)), bytes.NewReader(p.now), &out, o)
	require.NoError(t, err)
	assert.EqualValues(t, len(p.now), s.Target)
	assert.EqualValues(t, len(p.now), s.Copied+s.Again+s.Added)
	assert.EqualValues(t, out.Len(), s.Delta)
	return out.Bytes()
}

func decode(old, change []byte) ([]byte, error) {
	var out bytes.Buffer
	_, err := Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(change), &out,
		Limits{Most: 128 << 20})
	return out.Bytes(), err
}

// What was made of a file comes back, in every mode; the other program reads ours and we read its.
func TestRoundTripsHereAndElsewhere(t *testing.T) {
	thorough.Only(t)
	xdelta := ""
	if os.Getenv("VORNIX_PEERS") == "required" {
		xdelta = peer.Need(t, "xdelta3")
	} else if path, err := exec.LookPath("xdelta3"); err == nil {
		xdelta = path
	} else {
		t.Log("xdelta3 is not installed: its side is left out")
	}
	for name, p := range samples() {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			file := func(name string, data []byte) string {
				path := filepath.Join(dir, name)
				require.NoError(t, os.WriteFile(path, data, 0o600))
				return path
			}
			oldFile, newFile := file("old", p.old), file("new", p.now)
			for mode, o := range map[string]Options{"lzma": {Compression: LZMA, Workers: 2}, "none": {Workers: 3},
				"standard": {Standard: true}, "little": {Compression: LZMA, MostPacked: 100},
				"known size": {Compression: LZMA, Size: int64(len(p.now))}} {
				d := encode(t, p, o)
				got, err := decode(p.old, d)
				require.NoError(t, err, mode)
				assert.True(t, bytes.Equal(p.now, got), mode)
				if o.Workers > 1 {
					o.Workers = 1
					assert.True(t, bytes.Equal(d, encode(t, p, o)), "%s: the number of workers shows", mode)
				}
				if xdelta != "" && len(p.old) > 0 {
					out := filepath.Join(dir, "out")
					peer.Run(t, dir, xdelta, "-d", "-f", "-s", oldFile, file("delta", d), out)
					theirs, err := os.ReadFile(out)
					require.NoError(t, err)
					assert.True(t, bytes.Equal(p.now, theirs), "%s: xdelta3 reads something else", mode)
				}
			}
			if xdelta == "" {
				return
			}
			for _, args := range [][]string{{"-9"}, {"-1", "-S", "none"}, {"-S", "lzma", "-W", "65536"}, {"-n", "-A"}} {
				out := filepath.Join(dir, "theirs")
				peer.Run(t, dir, xdelta, append(args, "-e", "-f", "-s", oldFile, newFile, out)...)
				d, err := os.ReadFile(out)
				require.NoError(t, err)
				got, err := decode(p.old, d)
				require.NoError(t, err, "%v", args)
				assert.True(t, bytes.Equal(p.now, got), "%v", args)
			}
		})
	}
}

// Deltas are about as small as what was changed, wherever that stands, and in files that are not kept in memory.
func TestSizeFollowsTheChange(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	small := noise(r, 3<<20)
	changed := edited(r, small, 30)
	d := encode(t, pair{small, changed}, Options{Compression: LZMA})
	assert.Less(t, len(d), 6000)
	large := append(noise(r, whole+1<<20), small...)
	moved := append(bytes.Clone(changed), large[:whole]...)
	d = encode(t, pair{large, moved}, Options{Compression: LZMA, Workers: 2})
	assert.Less(t, len(d), 9000)
	got, err := decode(large, d)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(moved, got))
	loud := encode(t, pair{nil, small}, Options{Compression: LZMA})
	assert.Less(t, len(loud), len(small)+1000)
}

// The example of RFC 3284, 3: copies from the source, from the target, and one that reads what it writes.
func TestTheExampleOfTheStandard(t *testing.T) {
	source := []byte("abcdefghijklmnop")
	target := "abcdwxyzefghefghefghefghzzzz"
	// COPY 4, 0; ADD 4, w x y z; COPY 4, 4; COPY 12, 24; RUN 4, z
	inst := []byte{}
	singles, _ := opcodes()
	a := newAddresses(defaultNear, defaultSame)
	var addr []byte
	put := func(at, here int64, size uint8) {
		var mode uint8
		mode, addr = a.encode(addr, at, here)
		inst = append(inst, singles[instruction{copyFrom, size, mode}])
	}
	put(0, 16, 4)
	inst = append(inst, singles[instruction{add, 4, 0}])
	put(4, 16+8, 4)
	put(24, 16+12, 12)
	inst = append(inst, singles[instruction{kind: run}], 4)
	data := []byte("wxyzz")
	d := append(bytes.Clone(magic), 0, fromSource, 16, 0)
	rest := append([]byte{byte(len(target)), 0, byte(len(data)), byte(len(inst)), byte(len(addr))}, data...)
	rest = append(append(rest, inst...), addr...)
	d = append(append(d, byte(len(rest))), rest...)
	got, err := decode(source, d)
	require.NoError(t, err)
	assert.Equal(t, target, string(got))
	// In the default table's own bytes, worked out by hand: COPY 4 by the same cache, which begins
	// with address 0 (19+6*16+1), ADD 4, RUN.
	assert.Equal(t, byte(116), inst[0])
	assert.Equal(t, byte(5), inst[1])
	assert.Equal(t, byte(0), inst[len(inst)-2])
}

// The default code table is that of RFC 3284, 5.6, at the borders that its description names.
func TestTheDefaultTable(t *testing.T) {
	for op, want := range map[int][2]instruction{
		0: {{run, 0, 0}}, 1: {{add, 0, 0}}, 2: {{add, 1, 0}}, 18: {{add, 17, 0}}, 19: {{copyFrom, 0, 0}},
		20: {{copyFrom, 4, 0}}, 34: {{copyFrom, 18, 0}}, 35: {{copyFrom, 0, 1}},
		162: {{copyFrom, 18, 8}}, 163: {{add, 1, 0}, {copyFrom, 4, 0}}, 234: {{add, 4, 0}, {copyFrom, 6, 5}},
		235: {{add, 1, 0}, {copyFrom, 4, 6}}, 246: {{add, 4, 0}, {copyFrom, 4, 8}},
		247: {{copyFrom, 4, 0}, {add, 1, 0}}, 255: {{copyFrom, 4, 8}, {add, 1, 0}},
	} {
		assert.Equal(t, want, defaultTable[op], "byte %d", op)
	}
}

// A delta may bring a code table, with other caches, and windows may copy from what was written (RFC 3284, 4.2 and 7).
func TestTablesOfTheirOwnAndTargetsThatAreRead(t *testing.T) {
	table := defaultTable
	table[0] = [2]instruction{{kind: add, size: 3}, {kind: copyFrom, size: 5, mode: 0}}
	table[1], table[19] = [2]instruction{{kind: run}}, [2]instruction{{kind: copyFrom, size: 7, mode: 9}}
	inner := encode(t, pair{defaultTable.bytes(), table.bytes()}, Options{Standard: true})
	head := append(bytes.Clone(magic), hasTable)
	head = appendInt(head, int64(len(inner)+2))
	head = append(append(head, 6, 2), inner...)
	window := func(indicator byte, segment []byte, target int, data, inst, addr string) []byte {
		rest := []byte{byte(target), 0, byte(len(data)), byte(len(inst)), byte(len(addr))}
		rest = append(rest, data+inst+addr...)
		return append(append(append([]byte{indicator}, segment...), byte(len(rest))), rest...)
	}
	// xyz and the five from 0 on: xyzxy
	d := append(head, window(0, nil, 8, "xyz", "\x00", "\x00")...)
	// seven from the segment zxyzxy: mode 9 is a same cache, at 0
	d = append(d, window(fromTarget, []byte{6, 2}, 7, "", string([]byte{19}), string([]byte{0}))...)
	out := filepath.Join(t.TempDir(), "out")
	f, err := os.Create(out)
	require.NoError(t, err)
	defer f.Close()
	_, err = Decode(context.Background(), bytes.NewReader(nil), 0, bytes.NewReader(d), f, Limits{})
	require.NoError(t, err)
	got, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Equal(t, "xyzxyzxy"+"zxyzxyz", string(got))
	_, err = decode(nil, d) // a buffer can't be read back
	assert.ErrorContains(t, err, "read back")
}

// A wrong old file is told from a damaged delta, and neither is believed.
func TestWrongAndDamaged(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	p := pair{words(r, 12_000), nil}
	p.now = edited(r, p.old, 20)
	d := encode(t, p, Options{Compression: LZMA})
	other := bytes.Clone(p.old)
	other[len(other)/2] ^= 1
	_, err := decode(other, d)
	assert.ErrorIs(t, err, ErrSource)
	_, err = decode(p.old[:100], d)
	assert.ErrorIs(t, err, ErrSource)
	for n := range d {
		_, err := decode(p.old, d[:n])
		var format *FormatError
		if n == 6 { // a header and no window at all: a delta of nothing
			require.NoError(t, err)
			continue
		}
		require.ErrorAs(t, err, &format, "cut to %d bytes", n)
	}
	for at := range d {
		bad := bytes.Clone(d)
		bad[at] ^= 0x55
		if got, err := decode(p.old, bad); err == nil {
			assert.True(t, bytes.Equal(p.now, got), "byte %d changed, and nobody noticed", at)
		}
	}
	_, err = Decode(context.Background(), bytes.NewReader(p.old), int64(len(p.old)), bytes.NewReader(d), io.Discard,
		Limits{Most: 1000})
	assert.ErrorContains(t, err, "more than the 1000 bytes")
}

// Sizes that lie cost neither memory nor time.
func TestLies(t *testing.T) {
	huge := appendInt(nil, 1<<40)
	for name, d := range map[string][]byte{
		"a huge target":           append(append(append(bytes.Clone(magic), 0, 0, 20), huge...), 0, 0, 0, 0),
		"a huge section":          append(append(append(bytes.Clone(magic), 0, 0, 20), 5, 0), huge...),
		"a huge header":           append(append(bytes.Clone(magic), hasHeader), huge...),
		"a copy before the start": append(bytes.Clone(magic), 0, 0, 7, 4, 0, 0, 1, 1, 20, 9),
		"a number without end":    append(append(bytes.Clone(magic), 0, 0), bytes.Repeat([]byte{0xff}, 40)...),
		"packed with nothing":     append(bytes.Clone(magic), 0, 0, 5, 0, 1, 0, 0, 0),
		"both source and target":  append(bytes.Clone(magic), 0, fromSource|fromTarget, 0, 0),
		"a table in a table":      append(bytes.Clone(magic), hasTable, 8, 4, 3, 0xd6, 0xc3, 0xc4, 0, hasTable, 0),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := decode([]byte("abcd"), d)
		runtime.ReadMemStats(&after)
		var format *FormatError
		assert.ErrorAs(t, err, &format, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(4<<20), name)
	}
}

// The caches give back every address that was put into them, and keep to the modes there are.
func TestAddressesComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	in, out := newAddresses(defaultNear, defaultSame), newAddresses(defaultNear, defaultSame)
	here := int64(1)
	recent := []int64{0}
	for range 5000 {
		here += 1 + r.Int64N(300)
		at := r.Int64N(here)
		if r.IntN(2) == 0 {
			at = recent[r.IntN(len(recent))] + r.Int64N(3)
		}
		if at >= here {
			at = here - 1
		}
		recent = append(recent, at)[max(0, len(recent)-8):]
		mode, b := in.encode(nil, at, here)
		require.Less(t, mode, uint8(2+defaultNear+defaultSame))
		got, rest, err := out.decode(b, mode, here)
		require.NoError(t, err)
		require.Empty(t, rest)
		require.Equal(t, at, got)
	}
}

func FuzzDecode(f *testing.F) {
	r := rand.New(rand.NewPCG(4, 4))
	old := words(r, 2000)
	for _, o := range []Options{{Compression: LZMA}, {Standard: true}, {Header: []byte("about")}} {
		f.Add(encode(f, pair{old, edited(r, old, 5)}, o))
	}
	adler := binary.BigEndian.AppendUint32(nil, adler32.Checksum([]byte("aaaa")))
	f.Add(append(append(append(bytes.Clone(magic), 0, hasAdler, 12, 4, 0, 1, 2, 0), adler...), 'a', 0, 4))
	f.Fuzz(func(t *testing.T, d []byte) {
		var out bytes.Buffer
		_, err := Decode(context.Background(), bytes.NewReader(old), int64(len(old)), bytes.NewReader(d), &out,
			Limits{Most: 1 << 20})
		if err == nil && out.Len() > 1<<20 {
			t.Fatal("it wrote more than allowed")
		}
	})
}
