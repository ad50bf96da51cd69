// Package salvage makes a whole archive of what is left of a damaged one: entries are found without
// the directory, told by their content where their names are lost, and named again by what other
// entries refer to. It says of each what is certain and what is guessed.
package salvage

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/suggest"
	"vornix/core/config/profile"
	"vornix/core/format/audio"
	"vornix/core/format/mapfile"
	"vornix/core/format/material"
	"vornix/core/format/zipfile"
	"vornix/core/game/gamefs"
)

// How an entry got its name.
const (
	FromHeader    = "its own header"
	FromDirectory = "what is left of the directory"
	FromContent   = "what it says of itself"
	FromReference = "what refers to it"
	Numbered      = "a number: its name is lost"
)

// Found is an entry that was found.
type Found struct {
	Name    string `json:"name"`
	Size    int64  `json:"size"`
	Kind    string `json:"kind"`    // what it is by its content
	Whole   bool   `json:"whole"`   // its content is certain
	Certain bool   `json:"certain"` // its name is
	How     string `json:"how"`     // where its name is from
	Why     string `json:"why,omitempty"`
	Written bool   `json:"written"`
	saved   *zipfile.Saved
	head    []byte
}

// Result is what came of it.
type Result struct {
	Found   []Found `json:"found"` // as they stand in the file
	Written int     `json:"written"`
	SHA256  string  `json:"sha256"`
	Size    int64   `json:"size"`
}

// maxText is the largest entry that is read for what it refers to.
const maxText = 64 << 20

// Run reads the file at the system path from and writes what is whole to the system path to. p
// helps to name entries; nil when nobody knows the game.
func Run(ctx context.Context, p *profile.Profile, from, to string) (*Result, error) {
	f, err := os.Open(from)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "could not open the file",
			Place: fault.Place{File: filepath.ToSlash(from)}, Err: err, Do: "Check the path."}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	r := &Result{Found: []Found{}}
	saved, err := zipfile.Scan(ctx, f, info.Size())
	if err != nil {
		return nil, err
	}
	for _, s := range saved {
		if !s.Dir {
			r.Found = append(r.Found, look(s))
		}
	}
	if len(r.Found) == 0 {
		return r, &fault.Fault{What: "nothing was found in it", Place: fault.Place{File: filepath.ToSlash(from)},
			Why: "It holds no entry of a ZIP archive, not even a broken one.",
			Do:  "Get the file again from where it came from."}
	}
	r.name(p)
	return r, r.write(ctx, f, to)
}

// look tells what an entry is.
func look(s *zipfile.Saved) Found {
	x := Found{Name: s.Name, Size: s.Size, Whole: s.Whole, Certain: !s.NameLost && !s.Guessed, How: FromHeader,
		saved: s}
	switch {
	case s.FromDirectory:
		x.How = FromDirectory
	case s.NameLost:
		x.How = Numbered
	}
	if r, err := s.Open(); err == nil {
		limit := int64(64 << 10)
		if !s.Whole {
			limit = 512 // enough to say what it was: there can be very many of them
		}
		x.head, _ = io.ReadAll(io.LimitReader(r, limit)) // of a damaged one as much as there is
		r.Close()
	}
	x.Kind = kindOf(x.head)
	switch {
	case s.Trouble != "":
		x.Why = s.Trouble
	case !s.Whole && len(x.head) == 0 && s.Method != zipfile.Store && s.Method != zipfile.Deflate &&
		s.Method != zipfile.Zstd:
		x.Why = "it is packed with " + s.Method.String() + ", which Vornix does not read"
	case !s.Whole:
		x.Why = "its content is damaged or cut off"
	}
	return x
}

// kindOf tells a kind of file by its first bytes, as the ending that such files have.
func kindOf(head []byte) string {
	for _, m := range []struct{ magic, ending string }{{"\x8bVNM", "vnm"}, {"\xabKTX 20", "ktx2"}, {"DDS ", "dds"},
		{"\x89PNG", "png"}, {"\xff\xd8\xff", "jpg"}, {"glTF", "glb"}, {"PK\x03\x04", "zip"}} {
		if bytes.HasPrefix(head, []byte(m.magic)) {
			return m.ending
		}
	}
	if f := audio.FormOf(head); f != "" {
		return string(f)
	}
	text := head
	for len(text) > 0 && !utf8.Valid(text) && len(head)-len(text) < utf8.UTFMax { // a letter may be cut at the end
		text = text[:len(text)-1]
	}
	switch {
	case len(head) == 0 || !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0:
		return "bin"
	case json.Valid(head):
		return "json"
	case bytes.HasPrefix(bytes.TrimSpace(head), []byte("<?xml")):
		return "xml"
	case isTOML(head):
		return "toml"
	}
	return "txt"
}

// isTOML says whether a text's lines are all notes, sections and settings.
func isTOML(head []byte) bool {
	settings := 0
	for line := range strings.Lines(string(head)) {
		line = strings.TrimSpace(line)
		switch key, _, is := strings.Cut(line, "="); {
		case line == "" || line[0] == '#' || line[0] == '[':
		case is && strings.Trim(strings.TrimSpace(key),
			"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-.\"") == "":
			settings++
		default:
			return false
		}
	}
	return settings > 0
}

// name names what has lost its name, until nothing more can be told.
func (r *Result) name(p *profile.Profile) {
	taken := map[string]bool{}
	for i := range r.Found {
		if r.Found[i].Name != "" {
			taken[zipfile.Fold(r.Found[i].Name)] = true
		}
	}
	give := func(x *Found, name, how string) {
		x.Name, x.How = name, how
		taken[zipfile.Fold(name)] = true
	}
	for p != nil && r.nameOnce(p, taken, give) {
		continue
	}
	for i := range r.Found {
		for n := 1; r.Found[i].Name == ""; n++ {
			if name := fmt.Sprintf("lost/%04d.%s", n, r.Found[i].Kind); !taken[name] {
				give(&r.Found[i], name, Numbered)
			}
		}
	}
}

// nameOnce names some; it says whether it did.
func (r *Result) nameOnce(p *profile.Profile, taken map[string]bool, give func(*Found, string, string)) (more bool) {
	for i := range r.Found {
		x := &r.Found[i]
		if x.Name != "" || !x.Whole || x.Kind != "vnm" {
			continue
		}
		if data, err := x.saved.Read(); err == nil { // a map knows its own name
			if m, err := mapfile.Read(data); err == nil {
				if name := p.MapPath(m.Meta.Name); !taken[zipfile.Fold(name)] {
					give(x, name, FromContent)
					more = true
				}
			}
		}
	}
	wanted := r.wanted(p, taken)
	for i := range r.Found {
		x := &r.Found[i]
		if x.Name != "" || !x.Whole {
			continue
		}
		var fit []string
		for _, w := range wanted {
			if strings.TrimPrefix(path.Ext(w), ".") == x.Kind && !taken[zipfile.Fold(w)] {
				fit = append(fit, w)
			}
		}
		alone := 0
		for k := range r.Found {
			if r.Found[k].Name == "" && r.Found[k].Kind == x.Kind {
				alone++
			}
		}
		name := ""
		switch {
		case x.Kind == "toml": // a material's textures are mostly called as it is
			name = r.byTextures(p, x, fit)
		case len(fit) == 1 && alone == 1:
			name = fit[0]
		}
		if name == "" && len(fit) == 1 && alone == 1 {
			name = fit[0]
		}
		if name != "" {
			give(x, name, FromReference)
			more = true
		}
	}
	return more
}

// byTextures is the name, of those that are wanted, that fits the textures that a material names.
func (r *Result) byTextures(p *profile.Profile, x *Found, fit []string) string {
	data, err := x.saved.Read()
	if err != nil {
		return ""
	}
	textures, err := material.ParseCompiled("lost", data)
	if err != nil {
		return ""
	}
	for _, t := range textures {
		rel := strings.TrimSuffix(strings.TrimPrefix(t, p.Files.Textures+"/"), path.Ext(t))
		if want := p.MaterialPath(rel); slices.Contains(fit, want) {
			return want
		}
	}
	for _, t := range textures {
		rel := strings.TrimSuffix(strings.TrimPrefix(t, p.Files.Textures+"/"), path.Ext(t))
		if near := suggest.Word(p.MaterialPath(rel), fit); near != "" {
			return near
		}
	}
	return ""
}

// wanted are the paths that entries with names refer to and that none has.
func (r *Result) wanted(p *profile.Profile, taken map[string]bool) (list []string) {
	read := func(gamePath string) ([]byte, error) {
		for i := range r.Found {
			if x := &r.Found[i]; x.Name == gamePath && x.Whole && x.Size <= maxText {
				return x.saved.Read()
			}
		}
		return nil, os.ErrNotExist
	}
	for i := range r.Found {
		x := &r.Found[i]
		if x.Name == "" || !x.Whole || x.Size > maxText {
			continue
		}
		for _, n := range gamefs.NeedsOf(p, x.Name, read) {
			if n.Why == gamefs.ErrNotThere.Error() && !taken[zipfile.Fold(n.Path)] && !slices.Contains(list, n.Path) {
				list = append(list, n.Path)
			}
		}
	}
	return list
}

// write writes what is whole, each entry's bytes as they are.
func (r *Result) write(ctx context.Context, from io.ReaderAt, to string) error {
	var sources []zipfile.Source
	taken := map[string]bool{}
	for i := range r.Found {
		x := &r.Found[i]
		switch fold := zipfile.Fold(x.Name); {
		case !x.Whole || x.Why != "":
			continue
		case taken[fold]:
			x.Why = "an entry of that name stands before it"
			continue
		default:
			taken[fold] = true
		}
		sum := crc32.New(crc32.MakeTable(crc32.Castagnoli))
		if _, err := io.Copy(sum, x.saved.Raw()); err != nil {
			return err
		}
		x.Written = true
		r.Written++
		sources = append(sources,
			zipfile.Source{Name: x.Name, Size: x.Size, Method: x.saved.Method,
				Old: &zipfile.Old{File: from, Entry: x.saved.Entry, Check: sum.Sum32()}})
	}
	if len(sources) == 0 {
		return &fault.Fault{What: "no entry is whole",
			Why: "Of each something is missing or damaged, so nothing was written.",
			Do:  "Get the file again from where it came from."}
	}
	d, err := safefile.MakeDir(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer d.Close()
	f, err := d.Create(filepath.Base(to))
	if err != nil {
		return err
	}
	defer f.Abort()
	if _, err := zipfile.Pack(ctx, sources, zipfile.Options{},
		func(int) (zipfile.Sink, int64, error) { return f, 0, nil }); err != nil {
		return err
	}
	r.SHA256, r.Size = f.SHA256(), f.Size()
	return f.Commit()
}
