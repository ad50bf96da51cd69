package archive_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/archive"
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
			for _, s := range [][2]uint64{{math.MaxInt64, 5}, {math.MaxInt64, math.MaxInt64}, {5, math.MaxInt64}, {math.MaxUint64, 5}, {1 << 63, 5}, {5, 1 << 63}, {math.MaxInt64 - 1, 5}} {
				t.Run(fmt.Sprint(method, flags, s), func(t *testing.T) {
					data := lying(method, flags, s[0], s[1])
					list, err := archive.Scan(t.Context(), bytes.NewReader(data), int64(len(data)))
					require.NoError(t, err)
					for _, e := range list {
						assert.False(t, e.Whole)
						if r, err := e.Open(); err == nil {
							_, err = io.Copy(io.Discard, io.LimitReader(r, 1<<20))
							assert.Error(t, err)
						}
					}
					if a, err := archive.Open(bytes.NewReader(data), int64(len(data))); err == nil {
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
