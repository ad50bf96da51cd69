package deploy

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/game/serverlist"
)

// Kinds of records.
const (
	Deploying   = "deploy"
	RollingBack = "rollback"
	Withdrawing = "withdraw"
)

// Record is one thing that was done to a target: what has changed since the record before it.
type Record struct {
	Serial  int      `json:"serial"`
	Kind    string   `json:"kind"`
	Version string   `json:"version"`        // that is there since; empty for none
	Of      int      `json:"of,omitempty"`   // of a rollback: the record that was gone back to; 0 with nothing
	Maps    []string `json:"maps,omitempty"` // of a withdrawal
	// Release says that a release brought the version, so that its content is fixed; Commit is what
	// Git calls its sources.
	Release bool   `json:"release,omitempty"`
	Commit  string `json:"commit,omitempty"`

	Time    time.Time `json:"time"`
	By      string    `json:"by"`
	Added   int       `json:"added"`
	Changed int       `json:"changed"`
	Removed int       `json:"removed"`
	Sent    int64     `json:"sent"` // bytes
	// Full marks Files and Lists as complete, not as changes. Records before a full record can be deleted.
	Full  bool                          `json:"full,omitempty"`
	Files map[string]*File              `json:"files"`           // by path; null for a removed file
	Lists map[string][]serverlist.Entry `json:"lists,omitempty"` // our entries, by list
	// Page is what the welcome page says since; null where that has not changed.
	Page *pageOf `json:"page,omitempty"`
	// Found is what stood at a path instead of what the record before says; null for nothing.
	Found map[string]*File `json:"found,omitempty"`
}

// File is a file of ours on a target.
type File struct {
	SHA256 string    `json:"sha256"`
	Size   int64     `json:"size"`
	Time   time.Time `json:"time,omitzero"` // of its last change, as the far side says
	Role   Role      `json:"role"`
	Maps   []string  `json:"maps,omitempty"` // that it is for; none: for all
	// Older marks a bundle of an earlier version, which stays for running downloads and for patches.
	Older bool `json:"older,omitempty"`
}

// Role is what a file is for.
type Role string

// The roles.
const (
	Bundle    Role = "bundle"
	Companion Role = "companion"
	Listing   Role = "list"
	Page      Role = "page"
	Packed    Role = "compressed" // a copy on a mirror
	Index     Role = "index"      // on a target that players download from
	Patch     Role = "patch"      // so are patches
)

// head is the small file that says which records count.
type head struct {
	Kind    string `json:"kind"` // headKind
	Format  int    `json:"format"`
	Project string `json:"project"`
	Records []ref  `json:"records"` // the oldest first; the first is full
}

type ref struct {
	Serial int    `json:"serial"`
	SHA256 string `json:"sha256"`
}

const (
	headKind   = "vornix target"
	headFormat = 1
	headFile   = "head.json"
	maxHead    = 1 << 20
	maxRecord  = 256 << 20
	fullEvery  = 20
)

func (r ref) file() string { return fmt.Sprintf("records/%06d.json", r.Serial) }

// state is what a target remembers.
type state struct {
	head    head
	raw     []byte // of the head; nil when there is none
	records []*Record
}

// contents are what a target has of a project after a record.
type contents struct {
	Version string
	Files   map[string]*File
	Lists   map[string][]serverlist.Entry
	Page    *pageOf // what the welcome page says, where there is one
}

func (s *state) last() *Record {
	if len(s.records) == 0 {
		return nil
	}
	return s.records[len(s.records)-1]
}

// after is what there is after the record at i; nothing for -1.
func (s *state) after(i int) *contents {
	c := &contents{Files: map[string]*File{}, Lists: map[string][]serverlist.Entry{}}
	for _, r := range s.records[:i+1] {
		if r.Full {
			c.Files, c.Lists = map[string]*File{}, map[string][]serverlist.Entry{}
		}
		c.Version = r.Version
		if r.Page != nil {
			c.Page = r.Page
		}
		for name, f := range r.Files {
			if f == nil {
				delete(c.Files, name)
			} else {
				c.Files[name] = f
			}
		}
		for name, entries := range r.Lists {
			if len(entries) == 0 {
				delete(c.Lists, name)
			} else {
				c.Lists[name] = entries
			}
		}
	}
	return c
}

func (s *state) now() *contents { return s.after(len(s.records) - 1) }

// readState reads what the target remembers of the project.
func (t *Target) readState(ctx context.Context, project string) (*state, error) {
	name := path.Join(ownDir, project, headFile)
	raw, err := t.site.Read(ctx, name, maxHead)
	if absent(err) {
		return &state{}, nil
	}
	if err != nil {
		return nil, t.explain("read", name, err)
	}
	return t.stateOf(ctx, project, raw)
}

// undoneState is what the target remembers, as it will be when a switch that did not come to its
// end has been undone. j is that switch; nil for none.
func (t *Target) undoneState(ctx context.Context) (s *state, j *journal, err error) {
	if j, err = t.journal(ctx); err != nil {
		return nil, nil, err
	}
	switch {
	case j == nil:
		s, err = t.readState(ctx, t.Project)
	case len(j.Head) == 0:
		s = &state{}
	default:
		s, err = t.stateOf(ctx, t.Project, j.Head)
	}
	return s, j, err
}

// stateOf reads what a head names. Records that have been read before come from this machine.
func (t *Target) stateOf(ctx context.Context, project string, raw []byte) (*state, error) {
	s := &state{raw: raw}
	file := func(name string) string { return path.Join(ownDir, project, name) }
	var err error
	damaged := func(name, what string) error {
		return &fault.Fault{What: fmt.Sprintf("target %q: its record of what was deployed is damaged: %s", t.Name,
			what), Place: fault.Place{File: t.String() + "/" + file(name)},
			Why: "Without it nobody knows which files there are ours. Nothing was changed.",
			Do: "Remove " + path.Join(ownDir, project) +
				" there; the next plan then compares by content alone, and what was there before can't be gone back to."}
	}
	if err := json.Unmarshal(s.raw, &s.head); err != nil || s.head.Kind != headKind {
		return nil, damaged(headFile, "it can't be read")
	}
	if s.head.Format > headFormat {
		return nil, &fault.Fault{Kind: fault.Refused,
			What: fmt.Sprintf("target %q was deployed to by a later Vornix", t.Name), Do: "Use that one."}
	}
	var known *safefile.Dir
	if _, err := os.Stat(t.state); err == nil { // a command that only looks must not create the state folder
		if d, err := safefile.MakeDir(t.cache); err == nil {
			known = d
			defer d.Close()
		}
	}
	for i, r := range s.head.Records {
		data := cached(known, r.SHA256)
		if data == nil {
			if data, err = t.site.Read(ctx, file(r.file()), maxRecord); err != nil {
				if absent(err) {
					return nil, damaged(r.file(), "it is missing")
				}
				return nil, t.explain("read", file(r.file()), err)
			}
			if hashOf(data) != r.SHA256 {
				return nil, damaged(r.file(), "it is not what was written")
			}
			if known != nil {
				_ = known.WriteCache(r.SHA256+".json", data)
			}
		}
		record := &Record{}
		if err := json.Unmarshal(data, record); err != nil || record.Serial != r.Serial || i == 0 && !record.Full {
			return nil, damaged(r.file(), "it can't be read")
		}
		for _, files := range []map[string]*File{record.Files, record.Found} {
			for name, f := range files {
				if err := believable(name, f); err != nil {
					return nil, damaged(r.file(), err.Error())
				}
			}
		}
		s.records = append(s.records, record)
	}
	return s, nil
}

// believable says what is wrong with a file that a target names: paths are used for writing, and hashes as names.
func believable(name string, f *File) error {
	if err := safefile.CheckPath(name); err != nil {
		return err
	}
	if f != nil && !isSum(f.SHA256) {
		return fmt.Errorf("%q is no SHA-256", f.SHA256)
	}
	return nil
}

// isSum says whether a text is a SHA-256 in hex.
func isSum(s string) bool {
	b, err := hex.DecodeString(s)
	return err == nil && len(b) == sha256.Size
}

func hashOf(data []byte) string {
	h := sha256.Sum256(data)
	return hex.EncodeToString(h[:])
}

func cached(d *safefile.Dir, sum string) []byte {
	if d == nil || len(sum) != 64 {
		return nil
	}
	data, err := os.ReadFile(filepath.Join(d.Path(), sum+".json"))
	if err != nil || hashOf(data) != sum {
		return nil
	}
	return data
}

// next makes the record that leads to what there will be.
func (s *state) next(kind, version string, now *contents) *Record {
	before := s.now()
	r := &Record{Serial: 1, Kind: kind, Version: version, Files: map[string]*File{},
		Lists: map[string][]serverlist.Entry{}, Found: map[string]*File{}}
	if last := s.last(); last != nil {
		r.Serial = last.Serial + 1
	}
	since := 0
	for i := len(s.records) - 1; i >= 0 && !s.records[i].Full; i-- {
		since++
	}
	if r.Full = len(s.records) == 0 || since+1 >= fullEvery; r.Full {
		maps.Copy(r.Files, now.Files)
		maps.Copy(r.Lists, now.Lists)
		r.Page = now.Page
		return r
	}
	for name, f := range now.Files {
		if old := before.Files[name]; old == nil || !same(old, f) {
			r.Files[name] = f
		}
	}
	for name := range before.Files {
		if now.Files[name] == nil {
			r.Files[name] = nil
		}
	}
	if !reflect.DeepEqual(before.Page, now.Page) {
		r.Page = now.Page
	}
	for name, entries := range now.Lists {
		if !slices.Equal(before.Lists[name], entries) {
			r.Lists[name] = entries
		}
	}
	for name := range before.Lists {
		if now.Lists[name] == nil {
			r.Lists[name] = []serverlist.Entry{}
		}
	}
	return r
}

func same(a, b *File) bool {
	return a.SHA256 == b.SHA256 && a.Size == b.Size && a.Time.Equal(b.Time) && a.Role == b.Role && a.Older == b.Older &&
		slices.Equal(a.Maps, b.Maps)
}

// write adds a record, and makes it count by the new head. It lets go of records that nobody can go back to.
func (t *Target) write(ctx context.Context, s *state, r *Record) (gone []ref, err error) {
	data, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	data = append(data, '\n')
	at := ref{r.Serial, hashOf(data)}
	if err := t.site.Write(ctx, t.own(at.file()), data); err != nil {
		return nil, t.explain("write", t.own(at.file()), err)
	}
	h := head{Kind: headKind, Format: headFormat, Project: t.Project, Records: append(slices.Clone(s.head.Records), at)}
	records := append(slices.Clone(s.records), r)
	// The oldest that can be gone back to needs all up to the last full one before it.
	first := max(0, len(records)-1-t.keep)
	for first > 0 && !records[first].Full {
		first--
	}
	gone = h.Records[:first]
	h.Records = h.Records[first:]
	if err := t.writeJSON(ctx, headFile, h); err != nil {
		return nil, err
	}
	if d, err := safefile.MakeDir(t.cache); err == nil {
		_ = d.WriteCache(at.SHA256+".json", data)
		for _, old := range gone {
			_ = d.Remove(old.SHA256 + ".json")
		}
		d.Close()
	}
	s.head, s.records = h, records[first:]
	return gone, nil
}

func (t *Target) writeJSON(ctx context.Context, name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := t.site.Write(ctx, t.own(name), append(data, '\n')); err != nil {
		return t.explain("write", t.own(name), err)
	}
	return nil
}
