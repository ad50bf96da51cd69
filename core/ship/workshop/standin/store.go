package standin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

	"vornix/core/base/fault"
	"vornix/core/format/cdc"
	"vornix/core/ship/workshop"
)

// Where things lie in the folder.
const (
	itemsDir  = "items"
	ownersDir = "owners" // chunks by account: what one account has sent is no answer to whether another one has it
)

// record is an item as it is kept. A record is never changed: another takes its place.
type record struct {
	workshop.Item
	// without the chunks of their files, which lie in a file of their own
	Versions  []workshop.Version `json:"versions"`
	PageDraft string             `json:"page_draft,omitempty"`
	Events    []workshop.Event   `json:"events"`
	Deleted   bool               `json:"deleted,omitempty"`
}

// counts change too often for being part of the record.
type counts struct {
	Downloads int                  `json:"downloads"`
	Followers map[string]time.Time `json:"followers"`
}

// entry is an item in memory.
type entry struct {
	changing sync.Mutex // held while the record is replaced
	now      atomic.Pointer[record]

	mu     sync.Mutex // of what follows
	counts counts
	dirty  bool
	drafts map[string]*draft
}

func (e *entry) id() string { return e.now.Load().ID }

func itemFile(id, name string) string { return path.Join(itemsDir, id, name) }

func versionFile(id string, number int) string {
	return itemFile(id, "versions/"+strconv.Itoa(number)+".json")
}

func (w *Workshop) readItems() error {
	list, err := fs.ReadDir(w.dir.FS(), itemsDir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, x := range list {
		r := &record{}
		data, err := w.dir.ReadFile(itemFile(x.Name(), "item.json"))
		if errors.Is(err, fs.ErrNotExist) {
			// Its making was cut off before anybody was told of it.
			if err := w.dir.RemoveTree(path.Join(itemsDir, x.Name())); err != nil {
				return err
			}
			continue
		}
		if err == nil {
			err = json.Unmarshal(data, r)
		}
		if err == nil && r.ID != x.Name() {
			err = errors.New("it is another item's")
		}
		if err != nil {
			return &fault.Fault{What: "an item of the workshop can't be read",
				Place: fault.Place{File: w.dir.Join(itemFile(x.Name(), "item.json"))}, Err: err,
				Do: "Bring the file back from a copy, or remove the item's folder."}
		}
		e := &entry{drafts: map[string]*draft{}}
		e.now.Store(r)
		if data, err := w.dir.ReadFile(itemFile(r.ID, "counts.json")); err == nil {
			_ = json.Unmarshal(data, &e.counts) // else counting begins anew
		}
		w.items[r.ID] = e
		w.keys[r.Owner+" "+r.Key] = r.ID
	}
	return nil
}

// change replaces an item's record by what edit makes of a copy; after is the revision that whoever
// wants it has seen, 0 for any.
func (w *Workshop) change(e *entry, after int, by, what string, edit func(*record) error) (*record, error) {
	e.changing.Lock()
	defer e.changing.Unlock()
	old := e.now.Load()
	switch {
	case old.Deleted:
		return nil, problem(workshop.Gone, "the item was deleted")
	case after != 0 && after != old.Revision:
		p := problem(workshop.Conflict, "it was changed meanwhile: revision %d was seen, and it is at %d", after,
			old.Revision)
		p.Revision = old.Revision
		return nil, p
	}
	r := *old
	r.Versions, r.Events = slices.Clone(old.Versions), slices.Clone(old.Events)
	if err := edit(&r); err != nil {
		return nil, err
	}
	r.Revision++
	r.Changed = time.Now().UTC().Truncate(time.Second)
	r.By = by
	r.settle()
	r.Events = append(r.Events,
		workshop.Event{Time: r.Changed, By: by, What: what, Revision: r.Revision, Version: r.Version})
	if n := len(r.Events); n > 500 {
		r.Events = r.Events[n-500:]
	}
	data, err := json.MarshalIndent(&r, "", " ")
	if err != nil {
		return nil, err
	}
	if err := w.dir.WriteFile(itemFile(r.ID, "item.json"), data); err != nil {
		return nil, err
	}
	e.now.Store(&r)
	return &r, nil
}

// settle finds the version that players get: the last one that was not withdrawn.
func (r *record) settle() {
	r.Current, r.Version, r.Size = 0, "", 0
	for i := len(r.Versions) - 1; i >= 0 && r.Current == 0; i-- {
		if v := r.Versions[i]; v.Withdrawn == nil {
			r.Current, r.Version = v.Number, v.Version
			for _, f := range v.Files {
				r.Size += f.Size
			}
		}
	}
}

// version finds a version by its number; nil when there is none.
func (r *record) version(number int) *workshop.Version {
	for i := range r.Versions {
		if r.Versions[i].Number == number {
			return &r.Versions[i]
		}
	}
	return nil
}

// whole is a version with the chunks of its files.
func (w *Workshop) whole(r *record, number int) (*workshop.Version, error) {
	v := r.version(number)
	if v == nil {
		return nil, problem(workshop.NotThere, "there is no version with the number %d", number)
	}
	data, err := w.dir.ReadFile(versionFile(r.ID, number))
	if err != nil {
		return nil, err
	}
	x := *v
	return &x, json.Unmarshal(data, &x.Files)
}

func chunkFile(owner, sum string) string {
	return path.Join(ownersDir, owner, "chunks", sum[:2], sum)
}

// zstdEnding is that of a chunk that is kept compressed.
const zstdEnding = ".zst"

// hasChunk says whether an account has sent a chunk.
func (w *Workshop) hasChunk(owner, sum string) bool {
	name := chunkFile(owner, sum)
	if _, err := w.dir.Stat(name); err == nil {
		return true
	}
	_, err := w.dir.Stat(name + zstdEnding)
	return err == nil
}

var unpackers = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(workshop.MaxChunk),
		zstd.WithDecoderMaxWindow(8<<20))
	if err != nil {
		panic(err) // the options are ours
	}
	return d
}}

// unpack undoes the compression of a chunk, which can't become larger than chunks are.
func unpack(packed []byte) ([]byte, error) {
	d := unpackers.Get().(*zstd.Decoder)
	defer unpackers.Put(d)
	return d.DecodeAll(packed, nil)
}

// keepChunk keeps what came for a chunk, when it is that.
func (w *Workshop) keepChunk(owner string, c cdc.Chunk, body []byte, packed bool) error {
	data, name := body, chunkFile(owner, c.SHA256)
	if packed {
		var err error
		if data, err = unpack(body); err != nil {
			return problem(workshop.WrongHash, "chunk %.12s… can't be unpacked: %v", c.SHA256, err)
		}
		name += zstdEnding
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != c.SHA256 || int64(len(data)) != c.Size {
		return problem(workshop.WrongHash, "what came for chunk %.12s… has %d bytes and another hash", c.SHA256,
			len(data))
	}
	f, err := w.dir.Create(name)
	if err != nil {
		return err
	}
	defer f.Abort()
	f.Unhashed() // that was done
	if _, err := f.Write(body); err != nil {
		return err
	}
	return f.CommitCache()
}

func (w *Workshop) readChunk(owner string, c cdc.Chunk) ([]byte, error) {
	name := chunkFile(owner, c.SHA256)
	data, err := w.dir.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		if data, err = w.dir.ReadFile(name + zstdEnding); err == nil {
			data, err = unpack(data)
		}
	}
	if err == nil && int64(len(data)) != c.Size {
		err = fmt.Errorf("chunk %.12s… has %d bytes, and should have %d", c.SHA256, len(data), c.Size)
	}
	return data, err
}

// pieces reads a file from its chunks. It is an io.ReadSeeker, as ranges need it.
type pieces struct {
	w     *Workshop
	owner string
	list  []cdc.Chunk
	size  int64
	at    int64
	data  []byte // of the chunk that begins at from
	from  int64
	ctx   context.Context
}

func (w *Workshop) open(ctx context.Context, owner string, list []cdc.Chunk) *pieces {
	p := &pieces{w: w, owner: owner, list: list, ctx: ctx}
	for _, c := range list {
		p.size += c.Size
	}
	return p
}

func (p *pieces) Read(b []byte) (int, error) {
	if p.at >= p.size {
		return 0, io.EOF
	}
	if err := p.ctx.Err(); err != nil {
		return 0, err
	}
	if p.data == nil || p.at < p.from || p.at >= p.from+int64(len(p.data)) {
		p.from = 0
		for _, c := range p.list {
			if p.at < p.from+c.Size {
				var err error
				if p.data, err = p.w.readChunk(p.owner, c); err != nil {
					return 0, err
				}
				break
			}
			p.from += c.Size
		}
	}
	n := copy(b, p.data[p.at-p.from:])
	p.at += int64(n)
	return n, nil
}

func (p *pieces) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.at
	case io.SeekEnd:
		offset += p.size
	}
	if offset < 0 {
		return 0, errors.New("before the beginning")
	}
	p.at = offset
	return offset, nil
}

// count writes what was counted, now and then.
func (w *Workshop) count(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			w.writeCounts()
		}
	}
}

func (w *Workshop) writeCounts() {
	w.mu.RLock()
	list := slices.Collect(maps.Values(w.items))
	w.mu.RUnlock()
	for _, e := range list {
		e.mu.Lock()
		if e.dirty {
			if data, err := json.Marshal(e.counts); err == nil &&
				w.dir.WriteCache(itemFile(e.id(), "counts.json"), data) == nil {
				e.dirty = false
			}
		}
		e.mu.Unlock()
	}
}
