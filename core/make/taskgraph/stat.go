package taskgraph

import (
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"vornix/core/base/safefile"
)

// racyWindow: a file changed within this time before it was hashed may change again without a new time (file systems
// tell times in steps of up to two seconds), so its hash is not believed the next time.
const racyWindow = 2 * time.Second

// statEntry is what the stat cache remembers of a file.
type statEntry struct {
	Size, ModTime, HashedAt int64 // nanoseconds since 1970
	SHA256                  [sha256.Size]byte
}

// statCache gives the hashes of files and remembers them. It is safe for several goroutines.
type statCache struct {
	root string
	mu   sync.Mutex
	old  map[string]statEntry
	used map[string]statEntry
}

func (c *statCache) hash(rel string) (statEntry, error) {
	name := filepath.Join(c.root, filepath.FromSlash(rel))
	info, err := os.Stat(name)
	if err != nil {
		return statEntry{}, err
	}
	if !info.Mode().IsRegular() {
		return statEntry{}, &fs.PathError{Op: "read", Path: name, Err: fs.ErrInvalid}
	}
	size, modTime := info.Size(), info.ModTime().UnixNano()
	c.mu.Lock()
	e, ok := c.old[rel]
	if now, done := c.used[rel]; done {
		e, ok = now, true
	}
	c.mu.Unlock()
	if ok && e.Size == size && e.ModTime == modTime && e.HashedAt-modTime > int64(racyWindow) {
		c.put(rel, e)
		return e, nil
	}
	at := time.Now().UnixNano()
	sum, n, err := safefile.HashFile(name)
	if err != nil {
		return statEntry{}, err
	}
	e = statEntry{Size: n, ModTime: modTime, HashedAt: at}
	_, _ = hex.Decode(e.SHA256[:], []byte(sum))
	c.put(rel, e)
	return e, nil
}

func (c *statCache) put(rel string, e statEntry) {
	c.mu.Lock()
	c.used[rel] = e
	c.mu.Unlock()
}
