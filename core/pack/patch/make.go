package patch

import (
	"bufio"
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"vornix/core/base/charset"
	"vornix/core/base/confedit"
	"vornix/core/base/diff"
	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/format/vcdiff"
	"vornix/core/format/zipdelta"
	"vornix/core/format/zipfile"
)

// maxPacked is how much of a delta is packed by LZMA, the slow way; the rest is packed by the archive.
const maxPacked = 24 << 20

// Options for Make.
type Options struct {
	Workers  int
	Title    string
	Game     string
	From, To string // versions
	Authors  []string
	Notes    string
	Bring    map[string]string // system paths of what comes along, by where it goes
	Settings []Step            // of the kind DoSettings
	Known    []Known
	KeepBase bool
	Key      crypto.Signer // signs; nil does not
	// Advanced is told how many bytes of the new files are done.
	Advanced func(done, total int64)
}

// Made is what Make wrote.
type Made struct {
	Patch  *Patch `json:"patch"`
	File   string `json:"file"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	Full   int64  `json:"full"` // bytes of the files that the patch makes: what a player would have to get without it
	Signer string `json:"signer,omitempty"`
}

// Make writes the patch from one side to another into out, and makes sure that every delta in it comes to what it must.
func Make(ctx context.Context, old, now *Side, out *safefile.File, o Options) (*Made, error) {
	m := &making{ctx: ctx, o: o, old: old, now: now,
		p: &Patch{Kind: kind, Format: Format, Title: o.Title, Game: o.Game, From: o.From, To: o.To, Authors: o.Authors,
			Notes: o.Notes,
			Base:  old.state(), Result: now.state(), KeepBase: o.KeepBase, Known: o.Known}}
	defer m.close()
	if len(old.Files) == 0 && len(o.Settings) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "there is nothing in " + old.Name,
			Do: "Name what the patch is to be applied to."}
	}
	if err := m.steps(); err != nil {
		return nil, err
	}
	if len(m.p.Steps) == 0 && len(o.Settings) == 0 && len(o.Bring) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the two are the same", Why: "There is nothing to patch.",
			Do: "Name what was, and what is to be."}
	}
	for _, s := range o.Settings {
		if m.p.Base.find(s.Path) != nil || m.p.Result.find(s.Path) != nil {
			return nil, &fault.Fault{Kind: fault.Usage, What: s.Path + " is changed as a whole and by settings",
				Why: "Settings are changed in files that are not part of what is patched.", Do: "Leave one out."}
		}
		m.p.Steps = append(m.p.Steps, s)
	}
	for to, system := range o.Bring {
		if err := checkPath(to); err != nil {
			return nil, err
		}
		sum, size, err := safefile.HashFileUntil(ctx, system)
		if err != nil {
			return nil, &fault.Fault{Kind: fault.Usage, What: "what is to come along can't be read",
				Place: fault.Place{File: filepath.ToSlash(system)}, Err: err, Do: "Check the path."}
		}
		d := m.add("brought/"+to, size, sum, func() (io.ReadCloser, error) { return os.Open(system) })
		m.p.Brought = append(m.p.Brought, Brought{to, d})
	}
	slices.SortFunc(m.p.Brought, func(a, b Brought) int { return strings.Compare(a.To, b.To) })
	if err := m.blocks(); err != nil {
		return nil, err
	}
	made := &Made{Patch: m.p}
	for _, f := range m.p.Result.Files {
		if was := m.p.Base.find(f.Path); was == nil || was.SHA256 != f.SHA256 {
			made.Full += f.Size
		}
	}
	head, err := json.MarshalIndent(m.p, "", " ")
	if err != nil {
		return nil, err
	}
	head = append(head, '\n')
	m.bytes(headEntry, head)
	if o.Key != nil {
		s, err := signature.Sign(o.Key, head)
		if err != nil {
			return nil, err
		}
		sig, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		m.bytes(sigEntry, sig)
		made.Signer = s.Key
	}
	if _, err := zipfile.Pack(ctx, m.sources, zipfile.Options{Workers: o.Workers},
		func(int) (zipfile.Sink, int64, error) { return out, 0, nil }); err != nil {
		return nil, err
	}
	if err := out.Settle(ctx); err != nil {
		return nil, err
	}
	made.Size, made.SHA256 = out.Size(), out.SHA256()
	return made, nil
}

// making is one run of Make.
type making struct {
	ctx       context.Context
	o         Options
	old, now  *Side
	p         *Patch
	sources   []zipfile.Source
	scratches []*safefile.Scratch
	done      int64
	// Of one file: what it changes from and to, and the number of its step.
	from, to *SideFile
	number   int
}

func (m *making) close() {
	for _, s := range m.scratches {
		s.Close()
	}
}

// add takes something into the patch file.
func (m *making) add(entry string, size int64, sum string, open func() (io.ReadCloser, error)) Data {
	how := zipfile.Zstd
	if zipfile.IsCompressed(entry) {
		how = zipfile.Store
	}
	m.sources = append(m.sources, zipfile.Source{Name: entry, Size: size, SHA256: sum, Method: how, Open: open})
	return Data{entry, size, sum}
}

func (m *making) bytes(entry string, b []byte) Data {
	sum := sha256.Sum256(b)
	return m.add(entry, int64(len(b)), hex.EncodeToString(sum[:]),
		func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil })
}

func (m *making) whole(f *SideFile) Data {
	return m.add("files/"+f.Path, f.Size, f.SHA256, func() (io.ReadCloser, error) { return os.Open(f.System) })
}

// steps finds what leads from one side to the other.
func (m *making) steps() error {
	bySum, gone := map[string]*SideFile{}, map[string]*SideFile{}
	for i := range m.old.Files {
		f := &m.old.Files[i]
		if bySum[f.SHA256] == nil {
			bySum[f.SHA256] = f
		}
		if m.now.find(f.Path) == nil {
			gone[f.Path] = f
			bySum[f.SHA256] = f // what goes is better renamed than what stays is copied
		}
	}
	var jobs []*making
	for i := range m.now.Files {
		f := &m.now.Files[i]
		was := m.old.find(f.Path)
		if was != nil && was.SHA256 == f.SHA256 {
			continue
		}
		s := Step{Path: f.Path}
		if same := bySum[f.SHA256]; same != nil {
			s.Do, s.From = DoCopy, same.Path
			if gone[same.Path] != nil {
				s.Do = DoRename
			}
		} else {
			from := was
			if from == nil {
				from = m.counterpart(f, gone)
			}
			jobs = append(jobs,
				&making{o: m.o, old: m.old, now: m.now, p: m.p, from: from, to: f, number: len(m.p.Steps)})
		}
		m.p.Steps = append(m.p.Steps, s)
	}
	if err := m.changes(jobs); err != nil {
		return err
	}
	if m.p.KeepBase {
		return nil
	}
	for _, f := range m.old.Files {
		if gone[f.Path] != nil {
			m.p.Steps = append(m.p.Steps, Step{Do: DoRemove, Path: f.Path})
		}
	}
	return nil
}

// changes makes the steps of files that changed, several at once; what comes into the patch is in
// their order all the same.
func (m *making) changes(jobs []*making) error {
	total := int64(0)
	for _, j := range jobs {
		total += j.to.Size
	}
	g, ctx := group.WithContext(m.ctx)
	workers := max(m.o.Workers, 1)
	g.SetLimit(workers)
	var told sync.Mutex
	for _, j := range jobs {
		j.ctx = ctx
		if len(jobs) >= workers {
			j.o.Workers = 1 // one file each keeps all of them busy
		}
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := j.change(&j.p.Steps[j.number], j.from, j.to); err != nil {
				return fmt.Errorf("%s: %w", j.to.Path, err)
			}
			told.Lock()
			defer told.Unlock()
			if m.done += j.to.Size; m.o.Advanced != nil {
				m.o.Advanced(m.done, total)
			}
			return nil
		})
	}
	err := g.Wait()
	for _, j := range jobs {
		m.sources, m.scratches = append(m.sources, j.sources...), append(m.scratches, j.scratches...)
	}
	return err
}

var numbers = regexp.MustCompile(`[0-9]+`)

// counterpart is the old file that a new one has most likely come from: the only one there is, or
// one that differs in numbers of its name only, or in its folder.
func (m *making) counterpart(f *SideFile, gone map[string]*SideFile) *SideFile {
	if len(m.old.Files) == 1 && len(m.now.Files) == 1 {
		return &m.old.Files[0]
	}
	for _, same := range []func(string) string{func(p string) string { return numbers.ReplaceAllString(p, "0") },
		path.Base} {
		for _, old := range m.old.Files {
			if gone[old.Path] != nil && same(old.Path) == same(f.Path) {
				return m.old.find(old.Path)
			}
		}
	}
	return nil
}

// change makes the step for a file that changed, or is new when from is nil.
func (m *making) change(s *Step, from, f *SideFile) error {
	if from == nil {
		d := m.whole(f)
		s.Do, s.Data = DoAdd, &d
		return nil
	}
	if from.Path == f.Path {
		if done, err := m.edit(s, from, f); err != nil || done {
			return err
		}
	}
	d, err := m.delta(from, f)
	if err != nil {
		return err
	}
	if d == nil {
		whole := m.whole(f)
		s.Do, s.Data = DoReplace, &whole
		if from.Path != f.Path {
			s.Do = DoAdd
		}
		return nil
	}
	s.Do, s.From, s.Data = DoDelta, from.Path, d
	return nil
}

// textEndings are those of files that people change by hand.
var textEndings = []string{".txt", ".md", ".ini", ".cfg", ".conf", ".json", ".toml", ".xml", ".yaml", ".yml", ".csv"}

// edit makes a step on a text, where that is one and its lines say all of the change.
func (m *making) edit(s *Step, from, f *SideFile) (bool, error) {
	if !slices.Contains(textEndings, strings.ToLower(path.Ext(f.Path))) || from.Size > maxText || f.Size > maxText {
		return false, nil
	}
	old, err := os.ReadFile(from.System)
	if err != nil {
		return false, err
	}
	now, err := os.ReadFile(f.System)
	if err != nil {
		return false, err
	}
	a, errA := charset.Read(old, "")
	b, errB := charset.Read(now, "")
	if errA != nil || errB != nil || a.Encoding != b.Encoding || a.Mark != b.Mark {
		return false, nil
	}
	if again, err := b.Write(charset.Style{}); err != nil || !bytes.Equal(again, now) {
		return false, nil
	}
	edit := diff.Unified(f.Path, f.Path, a.Content, b.Content)
	if made, err := diff.Apply(a.Content, edit); err != nil || made != b.Content || len(edit) > 4*maxText {
		return false, nil
	}
	if int64(len(edit)) >= f.Size && f.Size > 4<<10 {
		return false, nil // nearly all of it is new
	}
	d, was := m.bytes("text/"+f.Path+".diff", []byte(edit)), m.bytes("text/"+f.Path+".was", old)
	s.Do, s.Data, s.Was, s.Form = DoEdit, &d, &was, confedit.FormOf(f.Path)
	if s.Form == "" {
		s.Form = "text"
	}
	return true, nil
}

// delta makes the delta from one file to another; nil when the file itself is not larger.
func (m *making) delta(from, f *SideFile) (*Data, error) {
	old, err := os.Open(from.System)
	if err != nil {
		return nil, err
	}
	defer old.Close()
	now, err := os.Open(f.System)
	if err != nil {
		return nil, err
	}
	defer now.Close()
	out, err := safefile.NewScratch("")
	if err != nil {
		return nil, err
	}
	m.scratches = append(m.scratches, out)
	w := &measuring{w: bufio.NewWriterSize(out, 1<<18), hash: sha256.New()}
	stats, err := zipdelta.Encode(m.ctx, old, from.Size, now, f.Size, w,
		zipdelta.Options{Workers: m.o.Workers, Compression: vcdiff.LZMA, MostPacked: maxPacked})
	if errors.Is(err, zipdelta.ErrPlain) {
		var plain *vcdiff.Stats
		plain, err = vcdiff.Encode(m.ctx, old, from.Size, io.NewSectionReader(now, 0, f.Size), w,
			vcdiff.Options{Workers: m.o.Workers, Compression: vcdiff.LZMA, MostPacked: maxPacked, Size: f.Size})
		if err == nil {
			stats = &zipdelta.Stats{Stats: *plain}
		}
	}
	if err == nil {
		err = w.w.Flush()
	}
	if err != nil {
		return nil, err
	}
	if w.n >= f.Size-f.Size/10 || stats.Copied < stats.Target/16 {
		return nil, nil // hardly anything is the same
	}
	// What players will do is done here once.
	sum := sha256.New()
	if _, err := zipdelta.Decode(m.ctx, old, from.Size, io.NewSectionReader(out, 0, w.n), sum,
		zipdelta.Limits{Workers: m.o.Workers, Unchecked: true}); err != nil {
		return nil, fmt.Errorf("the delta does not come to what it must: %w", err)
	}
	if hex.EncodeToString(sum.Sum(nil)) != f.SHA256 {
		return nil, &fault.Fault{What: "the file changed while the patch was made",
			Place: fault.Place{File: filepath.ToSlash(f.System)}, Do: "Make it again."}
	}
	d := m.add(fmt.Sprintf("delta/%04d.vcdiff", m.number+1), w.n, hex.EncodeToString(w.hash.Sum(nil)),
		func() (io.ReadCloser, error) { return io.NopCloser(io.NewSectionReader(out, 0, w.n)), nil })
	return &d, nil
}

// measuring counts and hashes what is written.
type measuring struct {
	w    *bufio.Writer
	hash hash.Hash
	n    int64
}

func (w *measuring) Write(b []byte) (int, error) {
	w.n += int64(len(b))
	_, _ = w.hash.Write(b) // a hash takes every write
	return w.w.Write(b)
}

// blockSize is how large the blocks are by which a file is told where it differs: four thousand at
// the most, none below 4 KiB.
func blockSize(size int64) int64 {
	b := int64(4 << 10)
	for size/b >= 4096 {
		b *= 2
	}
	return b
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// eachBlock gives the checksums of a file's blocks.
func eachBlock(ctx context.Context, r io.Reader, size int64, see func(n int64, crc uint32)) error {
	buf := make([]byte, blockSize(size))
	for at := int64(0); at < size; at += int64(len(buf)) {
		if err := ctx.Err(); err != nil {
			return err
		}
		b := buf[:min(int64(len(buf)), size-at)]
		if _, err := io.ReadFull(r, b); err != nil {
			return err
		}
		see(at/int64(len(buf)), crc32.Checksum(b, castagnoli))
	}
	return nil
}

// touched says which files of the base steps read or replace; nil when there are none, and all of the base counts.
func (p *Patch) touched() map[string]bool {
	t := map[string]bool{}
	for _, s := range p.Steps {
		if s.From != "" {
			t[s.From] = true
		}
		if s.Do != DoSettings && p.Base.find(s.Path) != nil {
			t[s.Path] = true
		}
	}
	if len(t) == 0 {
		return nil
	}
	return t
}

// blocks writes down the checksums of the files that the patch touches.
func (m *making) blocks() error {
	touched := m.p.touched()
	var b []byte
	for _, f := range m.old.Files {
		if touched != nil && !touched[f.Path] {
			continue
		}
		r, err := os.Open(f.System)
		if err != nil {
			return err
		}
		err = eachBlock(m.ctx, r, f.Size, func(_ int64, crc uint32) { b = binary.LittleEndian.AppendUint32(b, crc) })
		_ = r.Close() // it was only read
		if err != nil {
			return err
		}
	}
	if len(b) > 0 {
		d := m.bytes(blocksEntry, b)
		m.p.Blocks = &d
	}
	return nil
}

// Sign writes a patch file again, signed.
func Sign(ctx context.Context, o *Opened, out *safefile.File, key crypto.Signer) (signature.Signature, error) {
	head, err := o.zip.Find(headEntry).Read()
	if err != nil {
		return signature.Signature{}, err
	}
	s, err := signature.Sign(key, head)
	if err != nil {
		return s, err
	}
	sig, err := json.Marshal(s)
	if err != nil {
		return s, err
	}
	m := &making{}
	m.bytes(sigEntry, sig)
	for _, f := range o.zip.Files {
		if f.Name != sigEntry {
			m.sources = append(m.sources, zipfile.Source{Name: f.Name, Size: f.Size, Method: f.Method, Open: f.Open})
		}
	}
	if _, err := zipfile.Pack(ctx, m.sources, zipfile.Options{Workers: 1},
		func(int) (zipfile.Sink, int64, error) { return out, 0, nil }); err != nil {
		return s, err
	}
	return s, out.Settle(ctx)
}
