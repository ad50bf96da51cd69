package patch

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vornix/core/base/confedit"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/format/zipfile"
)

// Ending ends the name of a patch file.
const Ending = ".vnp"

// Format is the version of the format; kind tells a patch from whatever else is signed with the same key.
const (
	Format = 1
	kind   = "vornix patch"
)

const (
	headEntry   = "patch.json"
	sigEntry    = "patch.sig"
	blocksEntry = "base.blocks"
	// maxHead is the longest patch.json that is read.
	maxHead = 64 << 20
	// maxText is the largest text that is changed by lines or keys.
	maxText = 1 << 20
)

// File is a file by its content.
type File struct {
	Path   string `json:"path"` // slash path below the folder that the patch is applied to
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// State is what a folder, or one file, is.
type State struct {
	// of the one file; of several: of a line "SHA256 SIZE PATH" each, in the order of their paths
	SHA256 string `json:"sha256"`
	Size   int64  `json:"size"`
	Files  []File `json:"files"` // in the order of their paths
}

// stateOf sums files up.
func stateOf(files []File) State {
	s := State{Files: slices.Clone(files)}
	slices.SortFunc(s.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	h := sha256.New()
	for _, f := range s.Files {
		s.Size += f.Size
		fmt.Fprintf(h, "%s %d %s\n", f.SHA256, f.Size, f.Path)
	}
	s.SHA256 = hex.EncodeToString(h.Sum(nil))
	if len(s.Files) == 1 {
		s.SHA256 = s.Files[0].SHA256
	}
	return s
}

// find returns a file of a state; nil when it has none of that path.
func (s *State) find(path string) *File {
	i, ok := slices.BinarySearchFunc(s.Files, path, func(f File, p string) int { return strings.Compare(f.Path, p) })
	if !ok {
		return nil
	}
	return &s.Files[i]
}

// Data is an entry of the patch file.
type Data struct {
	Entry  string `json:"entry"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// What steps do.
const (
	DoAdd     = "add"     // a new file, whole
	DoReplace = "replace" // a file, whole, in the place of another
	DoRemove  = "remove"  //
	DoRename  = "rename"  // the content of a file that goes under its old name
	DoCopy    = "copy"    // the content of a file that stays
	DoDelta   = "delta"   // VCDIFF, or a delta between archives, from a file
	// a text: a unified diff, with what it was, so that it can be merged with what somebody made of it
	DoEdit     = "edit"
	DoSettings = "settings" // lines added once, keys set: to whatever the file is
)

// Step is one step from the base to the result.
type Step struct {
	Do   string `json:"do"`
	Path string `json:"path"`           // of the result; of what goes
	From string `json:"from,omitempty"` // of the base: for rename, copy, delta
	Data *Data  `json:"data,omitempty"` // for add, replace, delta, edit
	Was  *Data  `json:"was,omitempty"`  // for edit: the text as it was
	Form string `json:"form,omitempty"` // for edit and settings: ini, json, toml, xml, or text
	// For settings.
	Lines  []Line     `json:"lines,omitempty"`
	Set    []Setting  `json:"set,omitempty"`
	Remove [][]string `json:"remove,omitempty"`
}

// Line is a line that a text must have.
type Line struct {
	Add   string `json:"add"`
	After string `json:"after,omitempty"`
}

// Setting is a key that a text must have.
type Setting struct {
	Key   []string `json:"key"`
	Value string   `json:"value"` // as it is written
}

// Brought is a file that comes along: what players read, pictures.
type Brought struct {
	To   string `json:"to"` // slash path below the folder that the patch is applied to
	Data Data   `json:"data"`
}

// Known is another version that somebody may have.
type Known struct {
	Version string            `json:"version"`
	Files   map[string]string `json:"files"` // SHA-256 by file name
}

// Patch is what patch.json says.
type Patch struct {
	Kind     string    `json:"kind"`
	Format   int       `json:"format"`
	Title    string    `json:"title"`
	Game     string    `json:"game,omitempty"`
	From     string    `json:"from,omitempty"` // versions
	To       string    `json:"to,omitempty"`
	Authors  []string  `json:"authors,omitempty"`
	Notes    string    `json:"notes,omitempty"`
	Base     State     `json:"base"`
	Result   State     `json:"result"`
	KeepBase bool      `json:"keep_base,omitempty"` // a base of another name than the result stays where it is
	Steps    []Step    `json:"steps"`
	Brought  []Brought `json:"brought,omitempty"`
	Known    []Known   `json:"known,omitempty"`
	// CRC-32C of the blocks of the base's files, to say where another one differs
	Blocks *Data `json:"blocks,omitempty"`
}

// One says whether the patch is about a single file, which may have any name.
func (p *Patch) One() bool { return len(p.Base.Files) == 1 && len(p.Result.Files) == 1 }

// Opened is a patch file that was opened and checked.
type Opened struct {
	Patch
	Name   string // system path
	SHA256 string // of the file
	Size   int64
	Signer string // public key that signed it; empty when nobody did
	file   *os.File
	zip    *zipfile.Reader
}

// Open opens a patch file. Its data is checked when it is used.
func Open(name string) (*Opened, error) {
	sum, size, err := safefile.HashFile(name)
	if err != nil {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the patch can't be opened",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Do: "Check the path."}
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	o := &Opened{Name: name, SHA256: sum, Size: size, file: f}
	if err := o.read(); err != nil {
		o.Close()
		var known *fault.Fault
		if errors.As(err, &known) {
			known.Place = fault.Place{File: filepath.ToSlash(name)}
			return nil, known
		}
		return nil, &fault.Fault{What: "the patch is damaged, or is none",
			Place: fault.Place{File: filepath.ToSlash(name)}, Err: err, Why: "Nothing was changed.",
			Do: "Get it again."}
	}
	return o, nil
}

// Close releases the file.
func (o *Opened) Close() { _ = o.file.Close() } // it was only read

func (o *Opened) read() (err error) {
	if o.zip, err = zipfile.Open(o.file, o.Size); err != nil {
		return err
	}
	head := o.zip.Find(headEntry)
	if head == nil || head.Size > maxHead {
		return errors.New("it has no " + headEntry)
	}
	data, err := head.Read()
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &o.Patch); err != nil {
		return err
	}
	if o.Kind != kind {
		return errors.New("it does not say that it is a patch")
	}
	if o.Format > Format {
		return &fault.Fault{What: fmt.Sprintf("the patch has format %d, and this Vornix knows up to %d", o.Format,
			Format), Why: "It was made by a newer one.", Do: "Get a newer Vornix."}
	}
	if sig := o.zip.Find(sigEntry); sig != nil {
		var s signature.Signature
		b, err := sig.Read()
		if err == nil {
			err = json.Unmarshal(b, &s)
		}
		if err != nil {
			return err
		}
		if err := s.Check(data); err != nil {
			return err
		}
		o.Signer = s.Key
	}
	return o.check()
}

// check holds what a patch says against itself.
func (o *Opened) check() error {
	for _, s := range []*State{&o.Base, &o.Result} {
		last, names := "", safefile.Names{}
		for _, f := range s.Files {
			if err := checkFile(f); err != nil {
				return err
			}
			if why := names.Add(f.Path); why != "" && s == &o.Result { // a base is what it is
				return errors.New(why)
			}
			if f.Path <= last {
				return fmt.Errorf("the files of a state are not in order at %q", f.Path)
			}
			last = f.Path
		}
		if stateOf(s.Files).SHA256 != s.SHA256 || stateOf(s.Files).Size != s.Size {
			return errors.New("the whole of a state is not that of its files")
		}
	}
	made := map[string]bool{}
	for i, s := range o.Steps {
		if err := o.checkStep(s, made); err != nil {
			return fmt.Errorf("step %d (%s %s): %w", i+1, s.Do, s.Path, err)
		}
	}
	for _, f := range o.Result.Files {
		if was := o.Base.find(f.Path); !made[f.Path] && (was == nil || was.SHA256 != f.SHA256) {
			return fmt.Errorf("nothing makes %s", f.Path)
		}
	}
	names := safefile.Names{}
	for _, f := range o.Result.Files {
		names.Add(f.Path)
	}
	for _, b := range o.Brought {
		if why := names.Add(b.To); why != "" && o.Result.find(b.To) == nil {
			return errors.New(why)
		}
		if err := errors.Join(checkPath(b.To), o.checkData(&b.Data)); err != nil {
			return err
		}
		if made[b.To] {
			return fmt.Errorf("%s comes twice", b.To)
		}
		made[b.To] = true
	}
	if o.Blocks != nil {
		return o.checkData(o.Blocks)
	}
	return nil
}

// checkPath refuses what leads out of the folder, into Vornix's own records, or does harm by its name alone.
func checkPath(p string) error {
	var f *fault.Fault
	if err := safefile.CheckForeign(p); errors.As(err, &f) {
		return errors.New(f.What) // what to do about it depends on where it stands
	}
	return nil
}

func checkFile(f File) error {
	if err := checkPath(f.Path); err != nil {
		return err
	}
	if b, err := hex.DecodeString(f.SHA256); err != nil || len(b) != sha256.Size || f.Size < 0 ||
		f.SHA256 != strings.ToLower(f.SHA256) {
		return fmt.Errorf("%s has no size or hash that makes sense", f.Path)
	}
	return nil
}

func (o *Opened) checkData(d *Data) error {
	if d == nil {
		return errors.New("its data is missing")
	}
	e := o.zip.Find(d.Entry)
	if e == nil || e.Trouble != "" || e.Size != d.Size {
		return fmt.Errorf("its data %q is not there as it says", d.Entry)
	}
	return nil
}

func (o *Opened) checkStep(s Step, made map[string]bool) error {
	if err := checkPath(s.Path); err != nil {
		return err
	}
	result, base := o.Result.find(s.Path), o.Base.find(s.Path)
	if made[s.Path] && s.Do != DoRemove {
		return errors.New("another step made it before")
	}
	if s.From != "" && o.Base.find(s.From) == nil {
		return fmt.Errorf("there is no %q in the base", s.From)
	}
	needs := func(ok bool, what string) error {
		if !ok {
			return errors.New(what)
		}
		return nil
	}
	var err error
	switch s.Do {
	case DoRemove:
		return needs(base != nil && result == nil, "what goes must be in the base, and not in the result")
	case DoSettings:
		if err = needs(base == nil && result == nil,
			"settings are changed in files of which nothing else is said"); err == nil {
			err = needs(s.Form == "text" && len(s.Set)+len(s.Remove) == 0 || slices.Contains(confedit.Forms, s.Form),
				"its form is not known")
		}
	case DoAdd, DoReplace:
		err = o.checkData(s.Data)
	case DoRename, DoCopy:
		err = needs(s.From != "", "it does not say from where")
	case DoDelta:
		if err = o.checkData(s.Data); err == nil {
			err = needs(s.From != "", "it does not say from where")
		}
	case DoEdit:
		if err = errors.Join(o.checkData(s.Data), o.checkData(s.Was)); err == nil {
			err = needs(base != nil && base.Size <= maxText && s.Data.Size <= 4*maxText &&
				s.Was.SHA256 == base.SHA256, "a text to change must be in the base, and not large")
		}
	default:
		return errors.New("this Vornix does not know what that is")
	}
	if err == nil && s.Do != DoSettings {
		err = needs(result != nil, "it makes something that is not in the result")
	}
	made[s.Path] = true
	return err
}

// read returns an entry's content, checked.
func (o *Opened) content(d *Data, limit int64) ([]byte, error) {
	if d.Size > limit {
		return nil, o.damaged(d, fmt.Errorf("it has %d bytes; at most %d make sense", d.Size, limit))
	}
	b, err := o.zip.Find(d.Entry).Read()
	if err != nil {
		return nil, o.damaged(d, err)
	}
	if sum := sha256.Sum256(b); hex.EncodeToString(sum[:]) != d.SHA256 {
		return nil, o.damaged(d, errors.New("its hash is another"))
	}
	return b, nil
}

// copyTo writes an entry's content, and checks it at the end.
func (o *Opened) copyTo(ctx context.Context, d *Data, w io.Writer) error {
	h := sha256.New()
	if err := o.zip.Find(d.Entry).Copy(ctx, io.MultiWriter(w, h)); err != nil {
		var known *fault.Fault
		if ctx.Err() == nil && !errors.As(err, &known) { // else it is who writes, or Ctrl-C
			err = o.damaged(d, err)
		}
		return err
	}
	if hex.EncodeToString(h.Sum(nil)) != d.SHA256 {
		return o.damaged(d, errors.New("its hash is another"))
	}
	return nil
}

// scratch copies an entry to where it can be read at any place. done frees it.
func (o *Opened) scratch(ctx context.Context, d *Data, temp string) (io.ReadSeeker, func(), error) {
	if d.Size <= 4<<20 {
		b, err := o.content(d, 4<<20)
		return bytes.NewReader(b), func() {}, err
	}
	f, err := safefile.NewScratch(temp)
	if err != nil {
		return nil, nil, err
	}
	if err := o.copyTo(ctx, d, f); err != nil {
		f.Close()
		return nil, nil, err
	}
	return io.NewSectionReader(f, 0, d.Size), f.Close, nil
}

func (o *Opened) damaged(d *Data, err error) error {
	return &fault.Fault{What: "the patch is damaged: its " + d.Entry,
		Place: fault.Place{File: filepath.ToSlash(o.Name)}, Err: err, Why: "Nothing was changed.", Do: "Get it again."}
}
