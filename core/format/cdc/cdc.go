// Package cdc cuts files where their content says so, so that what did not change between two
// versions of a file falls into the same chunks wherever it stands, and needs no second upload.
//
// A rolling hash over the last 64 bytes decides where a chunk ends (Xia et al., "FastCDC", USENIX
// ATC 2016: a gear hash, with a stricter mask before the wanted size and a laxer one after it).
// Archives are cut at their entries' contents besides: a folder that was renamed changes every
// header of its files, and none of their contents. Whoever puts chunks together again needs to know
// nothing of this.
package cdc

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"runtime"
	"slices"

	"vornix/core/base/group"
	"vornix/core/format/zipfile"
)

// Sizes of chunks in bytes. Only the last chunk of a file, or one before an entry's content, can be smaller than Least.
const (
	Lowest = 32 << 10
	Wanted = 128 << 10
	Limit  = 512 << 10
)

// Chunk is a piece of a file.
type Chunk struct {
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
}

// How many of the hash's highest bits, which depend on the last 64 bytes, must be zero where a
// chunk ends: before Wanted, and after it.
const (
	strict = 19
	lax    = 15
)

// gear gives each byte a number; splitmix64 makes them, so that they need not be kept.
var gear = func() (t [256]uint64) {
	x := uint64(0x766f726e69780001)
	for i := range t {
		x += 0x9e3779b97f4a7c15
		z := x
		z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
		z = (z ^ z>>27) * 0x94d049bb133111eb
		t[i] = z ^ z>>31
	}
	return t
}()

// next is the length of the chunk that data begins with. whole says that nothing follows data; else
// there must be at least Most of it.
func next(data []byte) int {
	n := min(len(data), Limit)
	if n <= Lowest {
		return n
	}
	var h uint64
	i := Lowest - 64 // the window is full where the first cut may be
	for ; i < Lowest; i++ {
		h = h<<1 + gear[data[i]]
	}
	middle := min(n, Wanted)
	for ; i < middle; i++ {
		h = h<<1 + gear[data[i]]
		if h>>(64-strict) == 0 {
			return i + 1
		}
	}
	for ; i < n; i++ {
		h = h<<1 + gear[data[i]]
		if h>>(64-lax) == 0 {
			return i + 1
		}
	}
	return n
}

// window is how much of a file is in memory at once, twice.
const window = 8 * Limit

// Cut cuts what r holds, size bytes, and takes the hash of each chunk, on all processors and in
// memory that does not grow with the file. bounds, sorted, are places where a chunk must end;
// Bounds finds those of archives. advanced may be nil.
func Cut(ctx context.Context, r io.ReaderAt, size int64, bounds []int64, advanced func(done int64)) ([]Chunk, error) {
	var list []Chunk
	buffers := [2][]byte{make([]byte, min(window, size)), make([]byte, min(window, size))}
	var hashing *group.Group
	wait := func() error {
		if hashing == nil {
			return nil
		}
		return hashing.Wait()
	}
	at := int64(0)
	for turn := 0; at < size; turn++ {
		if err := ctx.Err(); err != nil {
			_ = wait()
			return nil, err
		}
		data := buffers[turn%2][:min(window, size-at)]
		if n, err := r.ReadAt(data, at); n < len(data) {
			_ = wait()
			return nil, cmp.Or(err, io.ErrUnexpectedEOF)
		}
		var pieces [][]byte
		for len(data) > 0 && (len(data) >= Limit || at+int64(len(data)) == size) {
			for len(bounds) > 0 && bounds[0] <= at {
				bounds = bounds[1:]
			}
			piece := data
			if len(bounds) > 0 && bounds[0]-at < int64(len(piece)) {
				piece = piece[:bounds[0]-at]
			}
			piece = data[:next(piece)]
			pieces = append(pieces, piece)
			data = data[len(piece):]
			at += int64(len(piece))
		}
		if err := wait(); err != nil { // the buffer after this one is free then
			return nil, err
		}
		hashing = hashAll(&list, pieces)
		if advanced != nil {
			advanced(at)
		}
	}
	return list, wait()
}

// hashAll adds the chunks of pieces to list, whose hashes are there when the group has ended.
func hashAll(list *[]Chunk, pieces [][]byte) *group.Group {
	first := len(*list)
	*list = slices.Grow(*list, len(pieces))[:first+len(pieces)]
	mine := (*list)[first:]
	g := &group.Group{}
	workers := min(runtime.GOMAXPROCS(0), len(pieces))
	for w := range workers {
		g.Go(func() error {
			for i := w; i < len(pieces); i += workers {
				sum := sha256.Sum256(pieces[i])
				mine[i] = Chunk{hex.EncodeToString(sum[:]), int64(len(pieces[i]))}
			}
			return nil
		})
	}
	return g
}

// Bounds are the places where an archive's larger entries begin and end; none of a file that is no archive.
func Bounds(r io.ReaderAt, size int64) []int64 {
	a, err := zipfile.Open(r, size)
	if err != nil {
		return nil
	}
	var list []int64
	for _, f := range a.Files {
		if f.Packed >= Lowest && f.Trouble == "" {
			list = append(list, f.Data, f.Data+f.Packed)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}
