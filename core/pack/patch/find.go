package patch

import (
	"cmp"
	"context"
	"encoding/binary"
	"hash/crc32"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/format/zipfile"
)

// listing is the files below a folder, each hashed once at the most.
type listing struct {
	ctx   context.Context // of the command that it is for
	dir   string
	files map[string]*listed
	order []string
	only  string // the one file that was named; empty for a folder
}

type listed struct {
	size    int64
	written time.Time
	sum     string
}

// list lists a folder, or the one file that is named.
func list(ctx context.Context, where string) (*listing, error) {
	info, err := os.Stat(where)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is no file or folder " + filepath.ToSlash(where),
			Err: err, Do: "Name what the patch is to be applied to, or the folder that it lies in."}
	}
	l := &listing{ctx: ctx, dir: where, files: map[string]*listed{}}
	if !info.IsDir() {
		l.dir, l.only = filepath.Dir(where), filepath.Base(where)
		l.files[l.only] = &listed{size: info.Size(), written: info.ModTime()}
		l.order = []string{l.only}
		return l, nil
	}
	err = filepath.WalkDir(where, func(p string, e fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if e.IsDir() && (e.Name() == recordsDir || e.Name() == safefile.StateDir || e.Name() == safefile.TargetDir) {
			return filepath.SkipDir
		}
		if !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil // it went while the folder was read
		}
		rel, err := filepath.Rel(where, p)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		l.files[rel] = &listed{size: info.Size(), written: info.ModTime()}
		l.order = append(l.order, rel)
		return nil
	})
	return l, err
}

func (l *listing) system(rel string) string { return filepath.Join(l.dir, filepath.FromSlash(rel)) }

// is says whether a file has a content. Its hash is taken when its size is right.
func (l *listing) is(rel string, f File) (bool, error) {
	have := l.files[rel]
	if have == nil || have.size != f.Size {
		return false, nil
	}
	sum, err := l.sum(rel)
	return sum == f.SHA256, err
}

func (l *listing) sum(rel string) (string, error) {
	have := l.files[rel]
	if have == nil {
		return "", nil
	}
	if have.sum == "" {
		sum, _, err := safefile.HashFileUntil(l.ctx, l.system(rel))
		if err != nil {
			return "", err
		}
		have.sum = sum
	}
	return have.sum, nil
}

// Wrong is a file that is not what the patch needs.
type Wrong struct {
	Path   string `json:"path"`
	Gone   bool   `json:"gone"`
	Want   int64  `json:"want"` // bytes
	Have   int64  `json:"have"`
	Differ int64  `json:"differ"`           // how many bytes differ at the most; -1: unknown
	Places int    `json:"places"`           // in how many stretches
	First  int64  `json:"first"`            // where the first one begins; -1: unknown
	Inside string `json:"inside,omitempty"` // the entries of an archive that they lie in
}

// fit is how a place fits a state.
type fit struct {
	root   string            // slash path in the listing; "." for its folder
	name   string            // of the one file, where the patch is about one
	wrong  []Wrong           // touched files that are not as they must be
	others []string          // files that the patch does not touch and that are not as they were
	at     map[string]string // path in the listing by path in the patch
}

// roots are the places at which a state may lie.
func (l *listing) roots(s *State, one bool) []fit {
	if len(s.Files) == 0 { // settings alone, which go anywhere
		return []fit{{root: "."}}
	}
	var out []fit
	if one {
		f := s.Files[0]
		for _, rel := range l.order {
			if l.only != "" || l.files[rel].size == f.Size || path.Base(rel) == path.Base(f.Path) ||
				numbers.ReplaceAllString(path.Base(rel), "0") == numbers.ReplaceAllString(path.Base(f.Path), "0") {
				at := fit{root: path.Dir(rel), name: path.Base(rel)}
				// it lies in the folders that the patch names
				if root, ok := strings.CutSuffix("/"+rel, "/"+f.Path); ok {
					at = fit{root: path.Join(".", strings.TrimPrefix(root, "/")), name: f.Path}
				}
				out = append(out, at)
			}
		}
		return out
	}
	if l.only != "" {
		return nil
	}
	// The folder itself, and wherever the largest files lie as they should.
	seen := map[string]bool{".": true}
	out = append(out, fit{root: "."})
	files := slices.Clone(s.Files)
	slices.SortStableFunc(files, func(a, b File) int { return cmp.Compare(b.Size, a.Size) })
	for _, f := range files[:min(3, len(files))] {
		for _, rel := range l.order {
			root, ok := strings.CutSuffix(rel, "/"+f.Path)
			if ok && !seen[root] {
				seen[root] = true
				out = append(out, fit{root: root})
			}
		}
	}
	return out
}

// hold holds a place to a state. touched are the files that matter; nil: all.
func (l *listing) hold(ctx context.Context, f *fit, s *State, touched map[string]bool, one bool) error {
	f.at = map[string]string{}
	for _, want := range s.Files {
		if err := ctx.Err(); err != nil {
			return err
		}
		rel := path.Join(f.root, want.Path)
		if one {
			rel = path.Join(f.root, f.name)
		}
		f.at[want.Path] = rel
		ok, err := l.is(rel, want)
		if err != nil {
			return err
		}
		switch {
		case ok:
		case touched != nil && !touched[want.Path]:
			f.others = append(f.others, want.Path)
		default:
			w := Wrong{Path: rel, Want: want.Size, Differ: -1, First: -1}
			if have := l.files[rel]; have == nil {
				w.Gone = true
			} else {
				w.Have = have.size
			}
			f.wrong = append(f.wrong, w)
		}
	}
	return nil
}

// best looks for the place that fits a state best; nil when there is none at all. Several that fit are an error.
func (l *listing) best(ctx context.Context, s *State, touched map[string]bool, one bool) (*fit, error) {
	var best *fit
	var right []string
	for _, f := range l.roots(s, one) {
		if err := l.hold(ctx, &f, s, touched, one); err != nil {
			return nil, err
		}
		if len(f.wrong) == 0 {
			right = append(right, path.Join(f.root, f.name))
		}
		if best == nil || len(f.wrong) < len(best.wrong) || len(f.wrong) == len(best.wrong) &&
			l.nearer(&f, best, s, one) {
			best = &f
		}
	}
	if len(right) > 1 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "what the patch is for is there more than once",
			Why: strings.Join(right, ", "), Do: "Name the one that is meant."}
	}
	return best, nil
}

// nearer says whether of two places that do not fit one looks more like the right one: by its name.
func (l *listing) nearer(f, than *fit, s *State, one bool) bool {
	if !one {
		return false
	}
	rank := func(x *fit) int {
		switch base := path.Base(s.Files[0].Path); {
		case path.Base(x.name) == base:
			return 2
		case path.Ext(x.name) == path.Ext(base):
			return 1
		}
		return 0
	}
	return rank(f) > rank(than)
}

// measure says where a file differs from what the patch was made from.
func (o *Opened) measure(ctx context.Context, l *listing, wrong []Wrong, at map[string]string) error {
	if o.Blocks == nil {
		return nil
	}
	all, err := o.content(o.Blocks, 64<<20)
	if err != nil {
		return err
	}
	touched := o.touched()
	for _, f := range o.Base.Files {
		if touched != nil && !touched[f.Path] {
			continue
		}
		size := blockSize(f.Size)
		n := (f.Size + size - 1) / size
		if int64(len(all)) < 4*n {
			return nil // it says nothing of the rest
		}
		crcs := all[:4*n]
		all = all[4*n:]
		i := slices.IndexFunc(wrong, func(w Wrong) bool { return w.Path == at[f.Path] && !w.Gone })
		if i < 0 {
			continue
		}
		if err := measureFile(ctx, l.system(wrong[i].Path), f.Size, crcs, &wrong[i]); err != nil {
			return err
		}
	}
	return nil
}

func measureFile(ctx context.Context, name string, want int64, crcs []byte, w *Wrong) error {
	r, err := os.Open(name)
	if err != nil {
		return err
	}
	defer r.Close()
	info, err := r.Stat()
	if err != nil {
		return err
	}
	size := blockSize(want)
	var inside []string
	var entries []*zipfile.File
	if z, err := zipfile.Open(r, info.Size()); err == nil {
		entries = z.Files
	}
	w.Differ, w.Places = 0, 0
	last := int64(-2)
	buf := make([]byte, size)
	for n := int64(0); n*size < max(want, info.Size()); n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		here := min(size, max(0, info.Size()-n*size))
		there := min(size, max(0, want-n*size))
		ok := here == there
		if ok {
			if _, err := r.ReadAt(buf[:here], n*size); err != nil {
				return err
			}
			ok = crc32.Checksum(buf[:here], castagnoli) == binary.LittleEndian.Uint32(crcs[4*n:])
		}
		if ok {
			continue
		}
		if w.Differ == 0 {
			w.First = n * size
		}
		w.Differ += max(here, there)
		if n != last+1 {
			w.Places++
		}
		last = n
		for _, e := range entries {
			if e.Data < (n+1)*size && e.Data+e.Packed > n*size && !slices.Contains(inside, e.Name) && len(inside) < 6 {
				inside = append(inside, e.Name)
			}
		}
	}
	w.Inside = strings.Join(inside, ", ")
	return nil
}
