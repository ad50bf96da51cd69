package taskgraph

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"io"
	"os"
	"slices"
	"time"

	"vornix/core/base/finding"
	"vornix/core/make/remotecache"
)

const (
	// maxRecord is how large the record of a result may be, and maxPart how large a part of a job's work.
	maxRecord = 4 << 20
	maxPart   = 512 << 20
	// worthATrip is how long a part must have taken to be made for others to be better off fetching it.
	worthATrip = 200 * time.Millisecond
)

// fetchShared brings a result that another machine made into the cache. The processor is free for others meanwhile.
func (r *run) fetchShared(ctx context.Context, j *Job, key string) (actionResult, bool) {
	line := r.o.Shared
	if line == nil || j.LocalOnly || line.Disabled() != nil {
		return actionResult{}, false
	}
	<-r.looks
	defer func() { r.looks <- struct{}{} }()
	var b bytes.Buffer
	if !line.Get(ctx, remotecache.Records, key, maxRecord, &b) {
		return actionResult{}, false
	}
	rec, ok := readRecord(b.Bytes(), key, j.Outputs)
	if !ok {
		line.Reject(remotecache.Records, key)
		return actionResult{}, false
	}
	for _, o := range rec.Outputs {
		if !r.store.intact(o) && !r.takeFile(ctx, o) {
			return actionResult{}, false
		}
	}
	if r.store.putResult(rec) != nil {
		return actionResult{}, false // what is wrong with the disk shows when the job runs
	}
	line.CountHit(remotecache.Records)
	return rec, true
}

// readRecord reads a record that somebody else wrote, which must be of this key and these outputs.
func readRecord(data []byte, key string, outputs []string) (rec actionResult, ok bool) {
	if json.Unmarshal(data, &rec) != nil || rec.Key != key || len(rec.Outputs) != len(outputs) {
		return actionResult{}, false
	}
	left := slices.Clone(outputs)
	for _, o := range rec.Outputs {
		at := slices.Index(left, o.Path)
		if at < 0 || !remotecache.IsKey(o.SHA256) || o.Size < 0 {
			return actionResult{}, false
		}
		left = slices.Delete(left, at, at+1)
	}
	for _, f := range rec.Findings {
		if !finding.Known(f.ID) {
			return actionResult{}, false
		}
	}
	return rec, true
}

// takeFile brings a file into the cache, if it is what its name says.
func (r *run) takeFile(ctx context.Context, o output) bool {
	f, err := r.store.dir.Create(r.store.objectPath(o.SHA256))
	if err != nil {
		return false
	}
	defer f.Abort()
	if !r.o.Shared.Get(ctx, remotecache.Files, o.SHA256, o.Size, f) {
		return false
	}
	if f.SHA256() != o.SHA256 || f.Size() != o.Size {
		r.o.Shared.Reject(remotecache.Files, o.SHA256)
		return false
	}
	return f.CommitCache() == nil
}

// shareResult offers a result that was made here to others.
func (r *run) shareResult(j *Job, rec actionResult) {
	if r.o.Shared == nil || j.LocalOnly {
		return
	}
	var things []remotecache.Entry
	for _, o := range rec.Outputs {
		things = append(things,
			remotecache.Entry{Kind: remotecache.Files, Key: o.SHA256, Size: o.Size,
				Open: func() (io.ReadCloser, error) {
					return os.Open(r.store.path(r.store.objectPath(o.SHA256)))
				}})
	}
	data, err := json.Marshal(rec)
	if err != nil {
		return
	}
	r.o.Shared.Put(append(things, bytesOf(remotecache.Records, rec.Key, data))...)
}

// giveOld offers a result of an earlier run, to a place that is new.
func (r *run) giveOld(j *Job, rec actionResult) {
	if r.o.Shared != nil && r.o.Shared.All() {
		r.shareResult(j, rec)
	}
}

func bytesOf(kind, key string, data []byte) remotecache.Entry {
	return remotecache.Entry{Kind: kind, Key: key, Size: int64(len(data)),
		Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }}
}

// takePart brings a part of a job's work into the cache.
func (t *Task) takePart(key string) (data []byte, ok bool) {
	line := t.run.o.Shared
	if line == nil || t.job.LocalOnly {
		return nil, false
	}
	var b bytes.Buffer
	if !line.Get(t.ctx, remotecache.Parts, remotecache.Hash([]byte(key)), maxPart, &b) {
		return nil, false
	}
	data, ok = checked(b.Bytes())
	if !ok {
		line.Reject(remotecache.Parts, remotecache.Hash([]byte(key)))
		return nil, false
	}
	if t.run.store.putPart(key, data) != nil {
		return nil, false
	}
	line.CountHit(remotecache.Parts)
	return data, true
}

// gift is what offers a part that took a while to others; one that did not is kept here.
func (t *Task) gift(key string, size int) (give func()) {
	t.mu.Lock()
	since, ok := t.asked[key]
	t.mu.Unlock()
	if t.run.o.Shared == nil || t.job.LocalOnly || !ok || time.Since(since) < worthATrip {
		return func() {}
	}
	return func() {
		t.run.o.Shared.Put(remotecache.Entry{Kind: remotecache.Parts, Key: remotecache.Hash([]byte(key)),
			Size: int64(size + sha256.Size), Open: func() (io.ReadCloser, error) {
				return os.Open(t.run.store.path(t.run.store.partPath(key)))
			}})
	}
}
