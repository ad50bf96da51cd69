package deploy

import (
	"bytes"
	"context"
	"encoding/gob"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/sync/errgroup"

	"vornix/core/safefile"
	"vornix/core/transport"
)

// marksFile remembers, on this machine, short hashes of the blocks of what a target has: with them, what of a new file is there already is
// found without the old one. It can be lost: then more is sent.
const marksFile = "blocks"

// leastMarked is from which size on a file is marked.
const leastMarked = 4 << 10

// marks reads them, by SHA-256 of the files.
func (t *Target) marks() map[string]*transport.Marks {
	known := map[string]*transport.Marks{}
	if data, err := os.ReadFile(filepath.Join(t.cache, marksFile)); err == nil {
		if gob.NewDecoder(bytes.NewReader(data)).Decode(&known) != nil {
			return map[string]*transport.Marks{}
		}
	}
	return known
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
	g, ctx := errgroup.WithContext(ctx)
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
		if x.want.Source == "" || x.want.Size < leastMarked || known[x.want.SHA256] != nil || x.Action == Remove {
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
	var b bytes.Buffer
	if gob.NewEncoder(&b).Encode(now) == nil {
		_ = d.WriteCache(marksFile, b.Bytes())
	}
}
