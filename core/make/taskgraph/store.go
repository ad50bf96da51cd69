package taskgraph

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/gob"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
)

// Folders and files inside the state folder.
const (
	stateFile  = "build.state"
	actionDir  = "cache/actions"
	objectDir  = "cache/objects"
	partDir    = "cache/parts"
	trimFile   = "cache/trimmed"
	stateMagic = "vornix build state 1"
)

// keepFor is how long results that nothing asked for stay in the cache.
const keepFor = 30 * 24 * time.Hour

// output is a file that a job made.
type output struct {
	Path   string
	SHA256 string
	Size   int64
}

// actionResult is what a finished job leaves: enough to tell whether it must run again, and to bring its result back.
type actionResult struct {
	Key      string
	Outputs  []output
	Findings []finding.Finding
}

// state is what is remembered from one run to the next.
type state struct {
	Magic string
	Jobs  map[string]actionResult
	Stat  map[string]statEntry
}

// store keeps state and results below the state folder of a project.
type store struct {
	dir   *safefile.Dir // the project's folder
	state string        // slash path of the state folder in it
}

// load reads the state; one that is damaged or from another version is as good as none, since all
// of it can be made again.
func (s *store) load() state {
	st := state{}
	if data, err := s.dir.ReadFile(path.Join(s.state, stateFile)); err == nil {
		if gob.NewDecoder(bytes.NewReader(data)).Decode(&st) != nil || st.Magic != stateMagic {
			st = state{}
		}
	}
	if st.Jobs == nil {
		st.Jobs = map[string]actionResult{}
	}
	if st.Stat == nil {
		st.Stat = map[string]statEntry{}
	}
	st.Magic = stateMagic
	return st
}

func (s *store) save(st state) error {
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(st); err != nil {
		return err
	}
	return s.dir.WriteCache(path.Join(s.state, stateFile), b.Bytes())
}

// path is where something in the project's folder lies.
func (s *store) path(rel string) string { return s.dir.Join(rel) }

func (s *store) objectPath(sum string) string { return path.Join(s.state, objectDir, sum[:2], sum) }

func (s *store) actionPath(key string) string {
	return path.Join(s.state, actionDir, key[:2], key+".json")
}

// putContent puts a result's bytes, in parts, into the cache.
func (s *store) putContent(rel string, parts [][]byte) (output, error) {
	h, size := sha256.New(), 0
	for _, data := range parts {
		h.Write(data)
		size += len(data)
	}
	o := output{Path: rel, SHA256: hex.EncodeToString(h.Sum(nil)), Size: int64(size)}
	return o, s.dir.WriteCache(s.objectPath(o.SHA256), parts...)
}

var errChanged = errors.New("the file changed")

// putFile puts a file of a known hash into the cache, without having it in memory.
func (s *store) putFile(ctx context.Context, from, rel, sum string) (output, error) {
	f, err := s.dir.Create(s.objectPath(sum))
	if err != nil {
		return output{}, err
	}
	defer f.Abort()
	if err := f.Fill(ctx, from); err != nil {
		return output{}, err
	}
	if f.SHA256() != sum {
		return output{}, errChanged
	}
	return output{Path: rel, SHA256: sum, Size: f.Size()}, f.CommitCache()
}

// intact says whether a kept result is there and as it was kept.
func (s *store) intact(o output) bool {
	sum, _, err := safefile.HashFile(s.dir.Join(s.objectPath(o.SHA256)))
	return err == nil && sum == o.SHA256
}

// object reads a kept result back and checks it.
func (s *store) object(o output) ([]byte, bool) {
	data, err := s.dir.ReadFile(s.objectPath(o.SHA256))
	if err != nil {
		return nil, false
	}
	sum := sha256.Sum256(data)
	return data, hex.EncodeToString(sum[:]) == o.SHA256
}

// lookup looks a key up. All of its objects are there and whole when ok.
func (s *store) lookup(key string) (r actionResult, ok bool) {
	data, err := s.dir.ReadFile(s.actionPath(key))
	if err != nil || json.Unmarshal(data, &r) != nil || r.Key != key {
		return actionResult{}, false
	}
	for _, o := range r.Outputs {
		if len(o.SHA256) != 2*sha256.Size {
			return actionResult{}, false
		}
		if !s.intact(o) {
			return actionResult{}, false
		}
	}
	s.dir.Touch(s.actionPath(key))
	return r, true
}

func (s *store) putResult(r actionResult) error {
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.dir.WriteCache(s.actionPath(r.Key), data)
}

func (s *store) partPath(key string) string {
	sum := sha256.Sum256([]byte(key))
	name := hex.EncodeToString(sum[:])
	return path.Join(s.state, partDir, name[:2], name)
}

// putPart keeps a part of a job's work, behind its checksum.
func (s *store) putPart(key string, data []byte) error {
	sum := sha256.Sum256(data)
	return s.dir.WriteCache(s.partPath(key), sum[:], data)
}

// part reads a part back; one that is damaged is as good as none.
func (s *store) part(key string) (data []byte, ok bool) {
	data, err := s.dir.ReadFile(s.partPath(key))
	if err != nil {
		return nil, false
	}
	if data, ok = checked(data); ok {
		s.dir.Touch(s.partPath(key))
	}
	return data, ok
}

// checked is what stands behind its checksum, when it is whole.
func checked(data []byte) (content []byte, ok bool) {
	if len(data) < sha256.Size {
		return nil, false
	}
	sum := sha256.Sum256(data[sha256.Size:])
	return data[sha256.Size:], bytes.Equal(sum[:], data[:sha256.Size])
}

// place puts a kept result at its path under out.
func (s *store) place(ctx context.Context, out string, o output) error {
	return s.dir.LinkFrom(ctx, s.objectPath(o.SHA256), path.Join(out, o.Path))
}

// trim removes, at most once a day, what nothing has asked for in a long time.
func (s *store) trim(now time.Time) {
	mark := path.Join(s.state, trimFile)
	if info, err := s.dir.Stat(mark); err == nil && now.Sub(info.ModTime()) < 24*time.Hour {
		return
	}
	_ = s.dir.WriteCache(mark, nil)
	wanted := map[string]bool{}
	root := s.dir.FS()
	_ = fs.WalkDir(root, path.Join(s.state, partDir), func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > keepFor {
				_ = s.dir.Remove(p)
			}
		}
		return nil
	})
	_ = fs.WalkDir(root, path.Join(s.state, actionDir), func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		if now.Sub(info.ModTime()) > keepFor {
			_ = s.dir.Remove(p)
			return nil
		}
		var r actionResult
		if data, err := s.dir.ReadFile(p); err == nil && json.Unmarshal(data, &r) == nil {
			for _, o := range r.Outputs {
				wanted[o.SHA256] = true
			}
		}
		return nil
	})
	_ = fs.WalkDir(root, path.Join(s.state, objectDir), func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && !wanted[strings.TrimSuffix(path.Base(p), "/")] {
			_ = s.dir.Remove(p)
		}
		return nil
	})
}
