// Package compare says what changed between two bundles, folders or releases: added, removed,
// moved, changed, grown, file by file and by kind. Files are the same when size and CRC-32 are.
package compare

import (
	"cmp"
	"context"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/game/gamefs"
)

// File is a file of one side.
type File struct {
	Size   int64
	Packed int64 // in its bundle; as Size in a folder
	CRC32  uint32
}

// Side is one of two things to compare: files by their path.
type Side map[string]File

// Load reads a bundle, a compiled map with what is packed behind it, or a folder: of bundles, such
// as a release, or of files.
func Load(ctx context.Context, name string) (Side, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no file or folder " + filepath.ToSlash(name),
			Do: "Name a bundle, a folder, or a version that was released."}
	}
	s := Side{}
	if !info.IsDir() {
		return s, s.bundle(name)
	}
	var files, bundles []string
	err = filepath.WalkDir(name, func(at string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			return err
		}
		files = append(files, at)
		if filepath.Dir(at) == filepath.Clean(name) && isBundle(at) {
			bundles = append(bundles, at)
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, &fault.Fault{What: "the folder can't be read", Place: fault.Place{File: filepath.ToSlash(name)},
			Err: err}
	}
	if bundles == nil {
		return s, s.folder(ctx, name, files)
	}
	for _, f := range bundles { // a release: what stands beside, such as its index, is none of it
		if err := s.bundle(f); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// isBundle says whether a file is an archive or a compiled map.
func isBundle(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [4]byte
	_, err = io.ReadFull(f, head[:])
	return err == nil &&
		(string(head[:]) == "PK\x03\x04" || string(head[:]) == "PK\x05\x06" || string(head[:]) == "\x8bVNM")
}

func (s Side) bundle(name string) error {
	b, err := gamefs.OpenAny(name)
	if err != nil {
		return &fault.Fault{Kind: fault.Usage, What: "the bundle can't be read",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err,
			Do: "Name a bundle, a folder or a compiled map; of a damaged one 'vornix salvage' saves what is left."}
	}
	defer b.Close()
	if b.MapData != nil {
		s[filepath.Base(name)] = File{int64(len(b.MapData)), int64(len(b.MapData)), crc32.ChecksumIEEE(b.MapData)}
	}
	for _, e := range b.Entries() {
		s[e.Name] = File{e.Size, e.Packed, e.CRC32}
	}
	return nil
}

func (s Side) folder(ctx context.Context, dir string, files []string) error {
	sums := make([]File, len(files))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range files {
		g.Go(func() error {
			f, err := os.Open(name)
			if err != nil {
				return &fault.Fault{What: "the file can't be read", Place: fault.Place{File: filepath.ToSlash(name)},
					Err: err}
			}
			defer f.Close()
			h := crc32.NewIEEE()
			n, err := io.Copy(h, f)
			sums[i] = File{n, n, h.Sum32()}
			if err == nil {
				err = ctx.Err()
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, name := range files {
		rel, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		s[filepath.ToSlash(rel)] = sums[i]
	}
	return nil
}

// State is what became of a file.
type State string

// The states.
const (
	Added   State = "added"
	Removed State = "removed"
	Moved   State = "moved"
	Changed State = "changed"
)

// Change is a file that is not the same on both sides.
type Change struct {
	State State  `json:"state"`
	Path  string `json:"path"`
	From  string `json:"from,omitempty"` // of a moved one: where it was
	Old   int64  `json:"old"`            // sizes in bytes
	New   int64  `json:"new"`
}

// Grown is how much larger it became.
func (c Change) Grown() int64 { return c.New - c.Old }

// Kind is how much of one kind of files there is on both sides.
type Kind struct {
	Kind     string `json:"kind"`
	OldFiles int    `json:"old_files"`
	NewFiles int    `json:"new_files"`
	Old      int64  `json:"old"` // bytes
	New      int64  `json:"new"`
	Packed   int64  `json:"packed"` // bytes in the new bundle
}

// Result is what two sides differ in.
type Result struct {
	Changes []Change `json:"changes"` // by path
	Same    int      `json:"same"`    // files that did not change
	Kinds   []Kind   `json:"kinds"`   // the largest first
	Old     int64    `json:"old"`     // bytes of all files
	New     int64    `json:"new"`
}

// Count is how many changes are of a state.
func (r *Result) Count(s State) (n int) {
	for _, c := range r.Changes {
		if c.State == s {
			n++
		}
	}
	return n
}

// KindOf is the kind of a file in words, by its ending.
func KindOf(name string) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".vnm":
		return "maps"
	case ".ktx2", ".dds":
		return "textures"
	case ".png", ".jpg", ".jpeg", ".tga", ".webp", ".gif", ".bmp":
		return "pictures"
	case ".wav", ".ogg", ".flac", ".mp3":
		return "sounds"
	case ".glb", ".gltf":
		return "models"
	case ".toml", ".json", ".xml", ".ini", ".txt", ".csv", ".yaml", ".yml", ".md":
		return "texts"
	}
	return "other files"
}

// Sides compares.
func Sides(old, now Side) *Result {
	r := &Result{Changes: []Change{}, Kinds: []Kind{}}
	kinds := map[string]*Kind{}
	of := func(name string) *Kind {
		k := KindOf(name)
		if kinds[k] == nil {
			kinds[k] = &Kind{Kind: k}
		}
		return kinds[k]
	}
	gone := map[string][]string{} // by content
	key := func(f File) string { return fmt.Sprint(f.Size, " ", f.CRC32) }
	for name, f := range old {
		k := of(name)
		k.OldFiles, k.Old = k.OldFiles+1, k.Old+f.Size
		r.Old += f.Size
		if _, still := now[name]; !still {
			gone[key(f)] = append(gone[key(f)], name)
		}
	}
	for _, list := range gone {
		slices.Sort(list)
	}
	names := make([]string, 0, len(now))
	for name := range now {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		f := now[name]
		k := of(name)
		k.NewFiles, k.New, k.Packed = k.NewFiles+1, k.New+f.Size, k.Packed+f.Packed
		r.New += f.Size
		before, there := old[name]
		switch same := gone[key(f)]; {
		case there && before.Size == f.Size && before.CRC32 == f.CRC32:
			r.Same++
		case there:
			r.Changes = append(r.Changes, Change{Changed, name, "", before.Size, f.Size})
		case len(same) > 0 && f.Size > 0:
			r.Changes = append(r.Changes, Change{Moved, name, same[0], f.Size, f.Size})
			gone[key(f)] = same[1:]
		default:
			r.Changes = append(r.Changes, Change{Added, name, "", 0, f.Size})
		}
	}
	for _, list := range gone {
		for _, name := range list {
			r.Changes = append(r.Changes, Change{Removed, name, "", old[name].Size, 0})
		}
	}
	slices.SortFunc(r.Changes, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	for _, k := range kinds {
		r.Kinds = append(r.Kinds, *k)
	}
	slices.SortFunc(r.Kinds, func(a, b Kind) int {
		return cmp.Or(cmp.Compare(max(b.New, b.Old), max(a.New, a.Old)), strings.Compare(a.Kind, b.Kind))
	})
	return r
}
