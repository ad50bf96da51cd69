package deploy

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/ship/transport"
)

// marksFile remembers, on this machine, short hashes of the blocks of what a target has: with them,
// what of a new file is there already is found without the old one. It can be lost: then more is
// sent.
const marksFile = "blocks"

// minMarked is from which size on a file is marked.
const minMarked = 4 << 10

// marks reads them, by SHA-256 of the files: for each the hash, its size, the length of a block,
// the number of blocks and their sums.
func (t *Target) marks() map[string]*transport.Marks {
	known := map[string]*transport.Marks{}
	data, err := os.ReadFile(filepath.Join(t.cache, marksFile))
	if err != nil {
		return known
	}
	for len(data) >= 56 {
		sum, m := hex.EncodeToString(data[:32]),
			&transport.Marks{Size: int64(binary.LittleEndian.Uint64(data[32:])),
				Block: int(binary.LittleEndian.Uint64(data[40:]))}
		n := binary.LittleEndian.Uint64(data[48:])
		data = data[56:]
		if n > uint64(len(data)/8) || m.Block < 1 {
			return map[string]*transport.Marks{}
		}
		m.Sums = make([]uint64, n)
		for i := range m.Sums {
			m.Sums[i] = binary.LittleEndian.Uint64(data[8*i:])
		}
		known[sum], data = m, data[8*n:]
	}
	return known
}

// written is what marks reads.
func written(all map[string]*transport.Marks) (b []byte) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		sum, err := hex.DecodeString(name)
		if err != nil || len(sum) != 32 {
			continue
		}
		m := all[name]
		b = append(b, sum...)
		for _, v := range []uint64{uint64(m.Size), uint64(m.Block), uint64(len(m.Sums))} {
			b = binary.LittleEndian.AppendUint64(b, v)
		}
		for _, v := range m.Sums {
			b = binary.LittleEndian.AppendUint64(b, v)
		}
	}
	return b
}

// mark remembers what the target has now: the blocks of files, and the contents of lists.
func (t *Target) mark(ctx context.Context, p *Plan) {
	d, err := safefile.MakeDir(t.cache)
	if err != nil {
		return
	}
	defer d.Close()
	keep := map[string]bool{}
	for _, x := range p.Steps {
		if name := x.want.SHA256 + ".list"; x.Role == Listing {
			keep[name] = true
			if _, err := d.Stat(name); err != nil && p.content[x.want.SHA256] != nil {
				_ = d.WriteCache(name, p.content[x.want.SHA256])
			}
		}
	}
	if entries, err := os.ReadDir(t.cache); err == nil {
		for _, e := range entries {
			if filepath.Ext(e.Name()) == ".list" && !keep[e.Name()] {
				_ = d.RemoveFile(e.Name())
			}
		}
	}
	if t.about.Kind != "sftp" {
		return // the others send nothing in parts
	}
	known, now, news := t.marks(), map[string]*transport.Marks{}, false
	var mu sync.Mutex
	g, ctx := group.WithContext(ctx)
	g.SetLimit(4)
	for _, f := range p.state.now().Files {
		if m := known[f.SHA256]; m != nil {
			mu.Lock()
			now[f.SHA256] = m
			mu.Unlock()
		}
	}
	for i := range p.Steps {
		x := &p.Steps[i]
		if x.want.Source == "" || x.want.Size < minMarked || known[x.want.SHA256] != nil || x.Action == Remove {
			continue
		}
		news = true
		g.Go(func() error {
			m, err := transport.MarksOf(ctx, x.want.Source)
			if err == nil {
				mu.Lock()
				defer mu.Unlock()
				now[x.want.SHA256] = m
			}
			return nil
		})
	}
	_ = g.Wait()
	if !news && len(now) == len(known) {
		return
	}
	_ = d.WriteCache(marksFile, written(now))
}
