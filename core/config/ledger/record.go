package ledger

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/project"
)

// RecordsDir is the folder of a project with a record of each finished version. It belongs under
// version control: with it, every clone knows what was released.
const RecordsDir = "releases"

// recordFormat is the version of the form of a record.
const recordFormat = 1

// maxRecord is how many bytes a record may have: 10,000 files take 1.5 MB.
const maxRecord = 16 << 20

// Record is what a finished version consists of: releases/VERSION.toml. It is written once, and never changed.
type Record struct {
	Format  int    `toml:"format" jsonschema:"required"`
	Version string `toml:"version"`
	Date    string `toml:"date"` // of the release, as in 2026-11-25
	// of the sources, in Git; empty outside of Git, and for an adopted record
	Commit  string   `toml:"commit,omitempty"`
	By      string   `toml:"by,omitempty"`     // account that released it; only in adopted records
	Places  []string `toml:"places,multiline"` // targets that the release went to, sorted
	Index   IndexAt  `toml:"index"`
	Bundles []File   `toml:"bundle"`
	Beside  []File   `toml:"beside,omitempty"` // what went out with the bundles, by its path below out/releases/VERSION
}

// IndexAt is the index that went out with a version. A copy of it is releases/VERSION.json.
type IndexAt struct {
	Number int64    `toml:"number"` // 0 where it is not known
	SHA256 string   `toml:"sha256,omitempty"`
	Keys   []string `toml:"keys,multiline,omitempty"` // public keys that the next index must be signed by one of
}

// File is a file of a version.
type File struct {
	Name   string `toml:"name"`
	Size   int64  `toml:"size"`
	SHA256 string `toml:"sha256"`
}

// Files are the hashes of the bundles, by name.
func (r *Record) Files() map[string]string {
	m := map[string]string{}
	for _, b := range r.Bundles {
		m[b.Name] = b.SHA256
	}
	return m
}

// RecordFile is the slash path of a version's record; IndexFile that of the index that went out with it.
func RecordFile(version string) string { return path.Join(RecordsDir, version+".toml") }

// IndexFile is the slash path of the copy of the index that went out with a version.
func IndexFile(version string) string { return path.Join(RecordsDir, version+".json") }

const recordHead = "# A finished version: what went out, and where to. 'vornix release' wrote it. Commit it, and do not change it.\n\n"

// Encode writes a record's file.
func (r *Record) Encode() ([]byte, error) {
	var b bytes.Buffer
	b.WriteString(recordHead)
	err := toml.NewEncoder(&b).Encode(r)
	return b.Bytes(), err
}

// ReadRecord reads a record's file. file is its path, for messages.
func ReadRecord(file string, data []byte) (*Record, error) {
	wrong := func(line int, what string, err error) error {
		return &fault.Fault{Kind: fault.Refused, What: what, Place: fault.Place{File: file, Line: line}, Err: err,
			Why: "Without it nobody knows what was released as this version.",
			Do:  "Bring it back from version control: git checkout -- " + file}
	}
	if len(data) > maxRecord {
		return nil, wrong(0, fmt.Sprintf("the record of a release has more than %d bytes", maxRecord), nil)
	}
	for i, line := range strings.Split(string(data), "\n") {
		if strings.HasPrefix(line, "<<<<<<< ") || strings.HasPrefix(line, ">>>>>>> ") ||
			strings.TrimSpace(line) == "=======" {
			return nil, &fault.Fault{Kind: fault.Refused,
				What:  "the record of a release has an unresolved merge conflict",
				Place: fault.Place{File: file, Line: i + 1},
				Why:   "Two releases have the same version number.",
				Do:    "Keep the record of the release that players have (look at the servers and the index), and give the other one another version."}
		}
	}
	r := &Record{}
	d := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	if err := d.Decode(r); err != nil {
		format := struct {
			Format int `toml:"format"`
		}{}
		if toml.Unmarshal(data, &format) == nil && format.Format > recordFormat {
			return nil, newer(file, format.Format)
		}
		line := 0
		var at *toml.DecodeError
		var strict *toml.StrictMissingError
		switch {
		case errors.As(err, &strict) && len(strict.Errors) > 0:
			line, _ = strict.Errors[0].Position()
			err = fmt.Errorf("it has no key %q", strings.Join(strict.Errors[0].Key(), "."))
		case errors.As(err, &at):
			line, _ = at.Position()
		}
		return nil, wrong(line, "the record of a release can't be read", err)
	}
	if r.Format > recordFormat {
		return nil, newer(file, r.Format)
	}
	if err := r.check(); err != nil {
		return nil, wrong(0, "the record of a release was changed", err)
	}
	if r.Version != strings.TrimSuffix(path.Base(file), ".toml") {
		return nil, wrong(0, "the record of a release was changed",
			fmt.Errorf("it is of version %s, and its name says another", r.Version))
	}
	return r, nil
}

func newer(file string, format int) error {
	return &fault.Fault{Kind: fault.Refused,
		What: fmt.Sprintf("the record of a release has format %d, and this Vornix reads format %d", format,
			recordFormat), Place: fault.Place{File: file}, Why: "A later Vornix wrote it.", Do: "Use that one."}
}

// check says what a record can't rightly say.
func (r *Record) check() error {
	if r.Format != recordFormat {
		return fmt.Errorf("its format is %d", r.Format)
	}
	if !semver.Valid(r.Version) {
		return fmt.Errorf("%q is no version", r.Version)
	}
	if _, err := time.Parse(time.DateOnly, r.Date); err != nil {
		return fmt.Errorf("%q is no date", r.Date)
	}
	if r.Commit != "" && strings.Trim(r.Commit, "0123456789abcdef") != "" {
		return fmt.Errorf("%q is no commit", r.Commit)
	}
	if len(r.Bundles) == 0 {
		return errors.New("it has no bundle")
	}
	seen := map[string]bool{}
	for _, f := range slices.Concat(r.Bundles, r.Beside) {
		sum, err := hex.DecodeString(f.SHA256)
		switch {
		case safefile.CheckPath(f.Name) != nil:
			return fmt.Errorf("%q is no path", f.Name)
		case err != nil || len(sum) != sha256.Size || f.SHA256 != strings.ToLower(f.SHA256):
			return fmt.Errorf("%q is no SHA-256", f.SHA256)
		case f.Size < 0:
			return fmt.Errorf("%s has %d bytes", f.Name, f.Size)
		case seen[f.Name]:
			return fmt.Errorf("%s is there twice", f.Name)
		}
		seen[f.Name] = true
	}
	return nil
}

// Records reads the records of a project's finished versions, the oldest version first.
func Records(p *project.Project) ([]*Record, error) {
	entries, err := os.ReadDir(p.Join(RecordsDir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, &fault.Fault{What: "the records of releases can't be read", Place: fault.Place{File: RecordsDir},
			Err: err, Do: "Check who may read the folder."}
	}
	var list []*Record
	for _, e := range entries {
		version, ok := strings.CutSuffix(e.Name(), ".toml")
		if !ok || !semver.Valid(version) || e.IsDir() {
			continue
		}
		data, err := os.ReadFile(p.Join(RecordFile(version)))
		if err != nil {
			return nil, &fault.Fault{What: "the record of a release can't be read",
				Place: fault.Place{File: RecordFile(version)}, Err: err, Do: "Check who may read the file."}
		}
		r, err := ReadRecord(RecordFile(version), data)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	slices.SortFunc(list, func(a, b *Record) int { return semver.Compare(a.Version, b.Version) })
	return list, nil
}

// Verify compares the copies of indexes in releases/ with what the records say of them. A missing copy is accepted.
func Verify(p *project.Project) error {
	records, err := Records(p)
	if err != nil {
		return err
	}
	for _, r := range records {
		name := IndexFile(r.Version)
		data, err := os.ReadFile(p.Join(name))
		if r.Index.SHA256 == "" || errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil && HashIndex(data) != r.Index.SHA256 {
			err = errors.New("its hash is not the one of " + RecordFile(r.Version))
		}
		if err != nil {
			return &fault.Fault{Kind: fault.Refused, What: "the index that went out with a release was changed",
				Place: fault.Place{File: name}, Err: err,
				Why: "The next index would build on wrong numbers and keys.",
				Do:  "Bring it back from version control: git checkout -- " + name}
		}
	}
	return nil
}

// WriteRecord writes the record of a version that has none, with a copy of the index that went out
// with it; nil for none.
func WriteRecord(p *project.Project, r *Record, index []byte) ([]string, error) {
	r.Format = recordFormat
	byName := func(a, b File) int { return cmp.Compare(a.Name, b.Name) }
	slices.SortFunc(r.Bundles, byName)
	slices.SortFunc(r.Beside, byName)
	slices.Sort(r.Places)
	if index != nil {
		r.Index.SHA256 = HashIndex(index)
	}
	if err := r.check(); err != nil {
		return nil, fmt.Errorf("the record of version %s: %w", r.Version, err)
	}
	data, err := r.Encode()
	if err != nil {
		return nil, err
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	files := []string{RecordFile(r.Version)}
	if index != nil { // before the record that names it
		files = []string{IndexFile(r.Version), RecordFile(r.Version)}
		if err := d.WriteFile(files[0], index); err != nil {
			return nil, err
		}
	}
	return files, d.WriteFile(RecordFile(r.Version), data)
}

// HashIndex is the SHA-256 of an index in the records, which does not depend on how line ends were checked out.
func HashIndex(data []byte) string {
	sum := sha256.Sum256(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n")))
	return hex.EncodeToString(sum[:])
}

// merge adds what the records say to what this machine remembers. A version of which both say
// different things is an error.
func merge(events []Event, records []*Record) ([]Event, error) {
	var more []Event
	for _, r := range records {
		if known := LastIndex(events); r.Index.Number > 0 && (known == nil || known.Serial < r.Index.Number) {
			more = append(more, Event{Kind: Indexed, Version: r.Version, Serial: r.Index.Number, Keys: r.Index.Keys})
		}
		e := Release(events, r.Version)
		if e == nil {
			at, _ := time.Parse(time.DateOnly, r.Date)
			more = append(more, Event{Kind: Released, Time: at, Version: r.Version, Date: r.Date, Files: r.Files()})
			continue
		}
		for name, sum := range r.Files() {
			if e.Files[name] != sum || len(e.Files) != len(r.Bundles) {
				return nil, &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("the record of version %s does not name what was released from here: %s",
						r.Version, name), Place: fault.Place{File: RecordFile(r.Version)},
					Why: "A finished version has one content. The record was changed, or another content was released as this version.", Do: "Find out which content players have. If the record is wrong, bring it back from version control; if what was released here is wrong, raise the version."}
			}
		}
	}
	return append(more, events...), nil
}
