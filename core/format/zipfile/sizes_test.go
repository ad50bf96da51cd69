package zipfile_test

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/format/zipfile"
)

// lying is an archive of one entry with long sizes (Zip64) that no file has.
func lying(method, flags uint16, size, packed uint64) []byte {
	le := binary.LittleEndian
	extra := le.AppendUint64(le.AppendUint64(le.AppendUint16(le.AppendUint16(nil, 1), 16), size), packed)
	b := le.AppendUint32(nil, 0x04034b50)
	for _, v := range []uint16{45, flags, method, 0, 0} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{0, math.MaxUint32, math.MaxUint32} {
		b = le.AppendUint32(b, v)
	}
	b = le.AppendUint16(le.AppendUint16(b, 1), uint16(len(extra)))
	b = append(append(append(b, 'a'), extra...), "hello"...)
	start := len(b)
	b = le.AppendUint32(b, 0x02014b50)
	for _, v := range []uint16{45, 45, flags, method, 0, 0} {
		b = le.AppendUint16(b, v)
	}
	for _, v := range []uint32{0, math.MaxUint32, math.MaxUint32} {
		b = le.AppendUint32(b, v)
	}
	for _, v := range []uint16{1, uint16(len(extra)), 0, 0, 0, 0, 0, 0, 0} {
		b = le.AppendUint16(b, v)
	}
	b = append(append(b, 'a'), extra...)
	end := len(b)
	b = le.AppendUint32(b, 0x06054b50)
	for _, v := range []uint16{0, 0, 1, 1} {
		b = le.AppendUint16(b, v)
	}
	return le.AppendUint16(le.AppendUint32(le.AppendUint32(b, uint32(end-start)), uint32(start)), 0)
}

// Sizes near the largest number overflow nothing: what is found is read to an error, with and without the directory.
func TestSizesThatNoFileHas(t *testing.T) {
	for _, method := range []uint16{0, 8, 93} {
		for _, flags := range []uint16{0, 8} {
			for _, s := range [][2]uint64{{math.MaxInt64, 5}, {math.MaxInt64, math.MaxInt64}, {5, math.MaxInt64},
				{math.MaxUint64, 5}, {1 << 63, 5}, {5, 1 << 63}, {math.MaxInt64 - 1, 5}} {
				t.Run(fmt.Sprint(method, flags, s), func(t *testing.T) {
					data := lying(method, flags, s[0], s[1])
					list, err := zipfile.Scan(t.Context(), bytes.NewReader(data), int64(len(data)))
					require.NoError(t, err)
					for _, e := range list {
						assert.False(t, e.Whole)
						if r, err := e.Open(); err == nil {
							_, err = io.Copy(io.Discard, io.LimitReader(r, 1<<20))
							assert.Error(t, err)
						}
					}
					if a, err := zipfile.Open(bytes.NewReader(data), int64(len(data))); err == nil {
						for _, f := range a.Files {
							_, err := f.Read()
							assert.Error(t, err)
						}
					}
				})
			}
		}
	}
}

// What an entry's own header says otherwise than the directory is named: another program would see another archive.
func TestHeadersThatDisagree(t *testing.T) {
	whole := func() []byte {
		parts, _ := pack(t,
			[]zipfile.Source{source("a.txt", []byte("hello"), zipfile.Store),
				source("b.txt", text(5000), zipfile.Deflate)}, zipfile.Options{})
		return parts[0].Bytes()
	}
	for name, c := range map[string]struct {
		change func(b []byte)
		why    string
	}{
		"the name":     {func(b []byte) { copy(b[bytes.Index(b, []byte("a.txt")):], "x.exe") }, `calls it "x.exe"`},
		"the method":   {func(b []byte) { b[8] = 8 }, "packed with deflate"},
		"the checksum": {func(b []byte) { b[14] ^= 1 }, "another checksum"},
		"the size":     {func(b []byte) { b[22]++ }, "another size"},
		"encryption":   {func(b []byte) { b[6] |= 1 }, "whether it is encrypted"},
	} {
		t.Run(name, func(t *testing.T) {
			data := whole()
			c.change(data)
			a, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
			require.NoError(t, err)
			assert.Contains(t, a.Files[0].Trouble, c.why)
			assert.Empty(t, a.Files[1].Trouble)
		})
	}
	data := append(bytes.Repeat([]byte("program "), 999), whole()...)
	a, err := zipfile.Open(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	assert.Empty(t, a.Files[0].Trouble+a.Files[1].Trouble, "what stands before an archive moves all offsets")
}

// More than a hundred times what is packed is not unpacked unless its size is allowed, and a file
// that is also a folder not at all.
func TestExtractIsCareful(t *testing.T) {
	parts, _ := pack(t, []zipfile.Source{source("zeros", make([]byte, 8<<20), zipfile.Deflate)}, zipfile.Options{})
	extract := func(o zipfile.ExtractOptions) error {
		d, err := safefile.OpenDir(t.TempDir())
		require.NoError(t, err)
		defer d.Close()
		a, err := zipfile.Open(bytes.NewReader(parts[0].Bytes()), int64(parts[0].Len()))
		require.NoError(t, err)
		_, err = zipfile.Extract(t.Context(), d, a.Files, o)
		return err
	}
	assert.ErrorContains(t, extract(zipfile.ExtractOptions{}), "more than 100 times as many")
	assert.NoError(t, extract(zipfile.ExtractOptions{Most: 16 << 20}))
	assert.ErrorContains(t, extract(zipfile.ExtractOptions{Most: 1 << 20}), "unpacks to more than")

	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"a", "A/b", "stra\u00dfe/x", "e\u0301", "\u00e9"} {
		_, err := z.Create(name)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	a, err := zipfile.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.Empty(t, a.Files[0].Trouble)
	assert.Contains(t, a.Files[1].Trouble, `"a" is a file, and a folder of "A/b"`)
	assert.Contains(t, a.Files[4].Trouble, "one file on some systems")
}
