// Package index reads and checks version indexes (docs/formats/index.md): which bundles exist in
// which version, where to get them, and their hashes.
//
// index.go is the file format, sign.go its signatures (Ed25519, RFC 8032). An Index that Read
// returned is checked: its names are safe as paths, its hashes complete, and its signatures
// verified against the keys that it names itself; whether those keys are trusted is the caller's
// question (Trusted). Package indexwriter writes indexes, package fetch follows them.
package index

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/signature"
	"vornix/core/base/template"
	"vornix/core/format/zipfile"
)

// FileName is the name of the index's JSON form.
const (
	FileName = "index.json"
	// Format is the version of the JSON form; Kind tells it from whatever else is signed with the same key.
	Format = 2
	Kind   = "vornix index"
	// Most is how many bytes an index may have, and maxBundles how many bundles: 10,000 with a map each take 6 MB.
	Limit      = 64 << 20
	maxBundles = 200_000
)

// Index is the JSON form.
type Index struct {
	Kind    string   `json:"kind" jsonschema:"required,enum=vornix index"`
	Format  int      `json:"format" jsonschema:"required,enum=2"`
	Project string   `json:"project" jsonschema:"required"`
	Title   string   `json:"title" jsonschema:"required"`
	Game    string   `json:"game" jsonschema:"required,description=Id of the game's profile"`
	Serial  int64    `json:"serial" jsonschema:"required,minimum=1,description=Rises with every index of the project; a reader refuses a lower one than it knows"`
	Issued  string   `json:"issued,omitempty" jsonschema:"format=date-time,description=When it was signed"`
	Expires string   `json:"expires,omitempty" jsonschema:"format=date-time,description=From when on a reader takes it no more"`
	Keys    []string `json:"keys,omitempty" jsonschema:"description=Public keys of which one must have signed the next index"`
	Base    string   `json:"base" jsonschema:"description=Address of the folder that addresses are relative to\\, ending in a slash; empty: the index's own"`
	Bundles []Record `json:"bundles" jsonschema:"required"`
	// Retracted are versions that nobody should have any more.
	Retracted []Retraction `json:"retracted,omitempty"`
	Texts     []TextFile   `json:"texts,omitempty" jsonschema:"description=The game's own forms of the index\\, beside it"`

	// Signatures stand last in the file. They are over all bytes before the line that they begin on.
	Signatures []signature.Signature `json:"-"`
}

// Record is one bundle with its maps.
type Record struct {
	Name    string  `json:"name" jsonschema:"required,description=What it is called in every version"`
	Version string  `json:"version" jsonschema:"required,description=In which its content last changed"`
	Date    string  `json:"date,omitempty" jsonschema:"format=date,description=Of the release"`
	File    string  `json:"file" jsonschema:"required,description=Name that the game wants"`
	URL     string  `json:"url" jsonschema:"required,description=Address\\, from base"`
	Size    int64   `json:"size" jsonschema:"required,minimum=0,description=Bytes"`
	SHA256  string  `json:"sha256" jsonschema:"required,pattern=^[0-9a-f]{64}$"`
	Game    string  `json:"game,omitempty" jsonschema:"description=Version of the game that it needs"`
	Maps    []Map   `json:"maps" jsonschema:"required"`
	Notes   string  `json:"notes,omitempty" jsonschema:"description=What is new\\, for players"`
	Patches []Patch `json:"patches,omitempty" jsonschema:"description=Ways from earlier versions that are shorter than the whole file"`
}

// Map is a map in a bundle.
type Map struct {
	Name    string   `json:"name" jsonschema:"required"`
	Title   string   `json:"title,omitempty"`
	Modes   []string `json:"modes,omitempty"`
	Players [2]int   `json:"players,omitzero" jsonschema:"description=Fewest and most"`
	Game    string   `json:"game,omitempty" jsonschema:"description=Version of the game that it needs"`
}

// Patch leads from earlier files to this one.
type Patch struct {
	From   string   `json:"from,omitempty" jsonschema:"description=Version"`
	Bases  []string `json:"bases" jsonschema:"required,description=SHA-256 of the files that it starts from"`
	URL    string   `json:"url" jsonschema:"required,description=Address\\, from base"`
	Size   int64    `json:"size" jsonschema:"required,minimum=0"`
	SHA256 string   `json:"sha256" jsonschema:"required,pattern=^[0-9a-f]{64}$"`
}

// Retraction is a version that was taken back.
type Retraction struct {
	Version string   `json:"version" jsonschema:"required"`
	Reason  string   `json:"reason" jsonschema:"required"`
	Files   []string `json:"files,omitempty" jsonschema:"description=SHA-256 of its bundles"`
}

// TextFile is a form of the index for the game.
type TextFile struct {
	File   string `json:"file" jsonschema:"required"`
	Size   int64  `json:"size" jsonschema:"required,minimum=0"`
	SHA256 string `json:"sha256" jsonschema:"required,pattern=^[0-9a-f]{64}$"`
}

// signaturesLine begins the last member. No text in JSON has a line end in it, so it stands where it says, once.
const signaturesLine = "  \"signatures\": ["

// Payload returns the bytes that are signed: the file up to its signatures.
func (x *Index) Payload() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(x); err != nil {
		return nil, err
	}
	text := bytes.TrimSuffix(b.Bytes(), []byte("\n}\n"))
	return append(text, ",\n"...), nil
}

// Encode writes the file.
func (x *Index) Encode() ([]byte, error) {
	out, err := x.Payload()
	if err != nil {
		return nil, err
	}
	out = append(out, signaturesLine...)
	for i, s := range x.Signatures {
		line, err := json.Marshal(s)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			out = append(out, ',')
		}
		out = append(append(out, "\n    "...), line...)
	}
	if len(x.Signatures) > 0 {
		out = append(out, "\n  "...)
	}
	return append(out, "]\n}\n"...), nil
}

// Read reads an index, and checks that all of its signatures are right; whose they are, Trusted
// says. Only what is signed is read: what stands behind the signatures has no say. An index that
// somebody wrote anew in another layout counts as unsigned when it names no signatures, and is
// refused otherwise.
func Read(data []byte) (*Index, error) {
	if len(data) > Limit {
		return nil, fmt.Errorf("the index has %d bytes; at most %d are read", len(data), Limit)
	}
	// Git on Windows may have written it so
	data = bytes.ReplaceAll(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), []byte("\r\n"), []byte("\n"))
	x := &Index{}
	before, after, found := bytes.Cut(data, []byte("\n"+signaturesLine))
	payload := data
	if found {
		signed := append(slices.Clone(before), '\n')
		rest := struct {
			Signatures []signature.Signature `json:"signatures"`
		}{}
		if err := json.Unmarshal(append([]byte("{\"signatures\": ["), after...), &rest); err != nil {
			return nil, fmt.Errorf("its signatures can't be read: %w", err)
		}
		for _, s := range rest.Signatures {
			if err := s.Check(signed); err != nil {
				return nil, err
			}
		}
		if len(rest.Signatures) > 0 {
			x.Signatures = rest.Signatures
		}
		payload = append(bytes.TrimSuffix(before, []byte(",")), "\n}\n"...)
	}
	if err := json.Unmarshal(payload, x); err != nil {
		return nil, fmt.Errorf("it is no index: %w", err)
	}
	if !found {
		var any map[string]json.RawMessage
		if json.Unmarshal(data, &any) == nil && any["signatures"] != nil {
			return nil, fmt.Errorf("it was written anew in another layout, so its signatures can't be checked")
		}
	}
	return x, x.validate()
}

func (x *Index) validate() error {
	switch {
	case x.Kind == "" && x.Format == 1:
		return fmt.Errorf("it has format 1, which an early Vornix wrote; write it again with 'vornix index write'")
	case x.Kind != Kind:
		return fmt.Errorf("it is no index: kind is %q", x.Kind)
	case x.Format != Format:
		return fmt.Errorf("it has format %d, and this program reads format %d: a newer Vornix wrote it", x.Format,
			Format)
	case x.Serial < 1:
		return fmt.Errorf("its serial number is %d", x.Serial)
	case len(x.Bundles) > maxBundles:
		return fmt.Errorf("it has %d bundles; at most %d are read", len(x.Bundles), maxBundles)
	case x.Base != "" && !strings.HasSuffix(x.Base, "/"):
		return fmt.Errorf("its base address does not end in a slash: %q", x.Base)
	}
	if len(x.Keys) > 0 && len(x.Signatures) == 0 {
		return fmt.Errorf("it names keys, and is not signed by any")
	}
	for _, when := range []string{x.Issued, x.Expires} {
		if _, err := time.Parse(time.RFC3339, when); when != "" && err != nil {
			return fmt.Errorf("%q is no date and time", when)
		}
	}
	for _, k := range x.Keys {
		if _, err := signature.ParseWord(k); err != nil {
			return err
		}
	}
	seen := map[string]bool{}
	file := func(name, address string, size int64, sum string) error {
		if err := safefile.CheckForeign(name); err != nil {
			return err
		}
		if fold := zipfile.Fold(name); seen[fold] {
			return fmt.Errorf("two of its files are called %q", name)
		} else {
			seen[fold] = true
		}
		if strings.EqualFold(name, FileName) {
			return fmt.Errorf("one of its files is called as the index is: %q", name)
		}
		return checkContent(name, address, size, sum)
	}
	if err := plain(x.Project, x.Title, x.Game); err != nil {
		return err
	}
	for _, r := range x.Retracted {
		if !semver.Valid(r.Version) {
			return fmt.Errorf("%q is no version", r.Version)
		}
	}
	for _, r := range x.Bundles {
		if err := r.plain(); err != nil {
			return err
		}
		if err := file(r.File, r.URL, r.Size, r.SHA256); err != nil {
			return err
		}
		for _, p := range r.Patches {
			if err := checkContent("a patch of "+r.File, p.URL, p.Size, p.SHA256); err != nil {
				return err
			}
			if len(p.Bases) == 0 || slices.ContainsFunc(p.Bases, func(b string) bool { return !isHash(b) }) {
				return fmt.Errorf("a patch of %s does not say what it starts from", r.File)
			}
		}
	}
	for _, t := range x.Texts {
		if err := file(t.File, t.File, t.Size, t.SHA256); err != nil {
			return err
		}
	}
	return nil
}

// plain refuses words with characters that can't be seen: they could make a terminal show something else.
func plain(words ...string) error {
	for _, w := range words {
		if strings.ContainsFunc(w, template.Breaks) {
			return fmt.Errorf("%q has a character that can't be seen", w)
		}
	}
	return nil
}

// plain holds what people read of a record to its form.
func (r *Record) plain() error {
	if !semver.Valid(r.Version) {
		return fmt.Errorf("%q is no version", r.Version)
	}
	if _, err := time.Parse(time.DateOnly, r.Date); r.Date != "" && err != nil {
		return fmt.Errorf("%q is no date", r.Date)
	}
	words := []string{r.Name, r.Game}
	for _, m := range r.Maps {
		words = append(append(words, m.Name, m.Game), m.Modes...)
	}
	for _, p := range r.Patches {
		words = append(words, p.From)
	}
	return plain(words...)
}

func checkContent(name, address string, size int64, sum string) error {
	if size < 0 || !isHash(sum) {
		return fmt.Errorf("%s has no size and SHA-256", name)
	}
	u, err := url.Parse(address)
	if err != nil || address == "" || u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%s has no address: %q", name, address)
	}
	return nil
}

func isHash(s string) bool {
	b, err := hex.DecodeString(s)
	return err == nil && len(b) == 32 && s == strings.ToLower(s)
}

// Signers are the public keys that signed it.
func (x *Index) Signers() (list []string) {
	for _, s := range x.Signatures {
		list = append(list, s.Key)
	}
	return list
}

// Expired says whether it is too old to be taken at a time.
func (x *Index) Expired(now time.Time) bool {
	at, err := time.Parse(time.RFC3339, x.Expires)
	return x.Expires != "" && err == nil && !now.Before(at)
}

// Trusted holds the signers to keys that are trusted: one of them must have signed.
func (x *Index) Trusted(keys []string) error {
	signers := x.Signers()
	if len(signers) == 0 {
		return signature.Trust("", keys)
	}
	var err error
	for _, s := range signers {
		if err = signature.Trust(s, keys); err == nil {
			return nil
		}
	}
	return err
}

// Record finds a bundle by its name; nil when there is none.
func (x *Index) Record(name string) *Record {
	for i := range x.Bundles {
		if x.Bundles[i].Name == name {
			return &x.Bundles[i]
		}
	}
	return nil
}

// Version is the latest version of its bundles.
func (x *Index) Version() (v string) {
	for _, r := range x.Bundles {
		if v == "" || semver.Compare(r.Version, v) > 0 {
			v = r.Version
		}
	}
	return v
}

// Normal makes the address of a folder out of what people write: with a slash at its end, without a
// file's name, query or fragment. The second answer says what looks wrong with it, for people;
// empty when nothing does.
func Normal(base string) (address, doubt string) {
	base = strings.TrimSpace(base)
	if base == "" {
		return "", ""
	}
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return base, "it is no address: it has to begin with https:// and name a server"
	}
	if u.User != nil {
		return base, "it holds a name or password, which every player would read"
	}
	if u.RawQuery != "" || u.Fragment != "" {
		doubt = "it had a part after ? or #, which a folder's address has not; that was left out"
		u.RawQuery, u.Fragment, u.ForceQuery = "", "", false
	}
	if last := path.Base(u.Path); last == FileName {
		u.Path, u.RawPath = strings.TrimSuffix(u.Path, last), ""
	}
	if !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
		if u.RawPath != "" {
			u.RawPath += "/"
		}
	}
	if parts := strings.Split(u.Path, "/"); slices.Contains(parts, "blob") || slices.Contains(parts, "tree") {
		doubt = "it looks like the page of a Git server that shows a file (blob, tree), not like the file itself (often: raw)"
	}
	if u.Scheme == "http" && doubt == "" {
		if host := u.Hostname(); host != "localhost" && !strings.HasPrefix(host, "127.") && host != "::1" {
			doubt = "it is not https: whoever is in between can see and hold back what players get"
		}
	}
	return u.String(), doubt
}

// Bad makes a fault of an error of Read.
func Bad(place string, err error) error {
	if fault.KindOf(err) == fault.Refused {
		return &fault.Fault{Kind: fault.Refused, What: "the index is not what was signed",
			Place: fault.Place{File: place}, Err: err, Why: "Nothing was changed.",
			Do: "Get it again; if that does not help, tell its authors."}
	}
	return &fault.Fault{What: "the index can't be used", Place: fault.Place{File: place}, Err: err,
		Why: "Nothing was changed.",
		Do:  "Check the address; it must be that of " + FileName + ", or of the folder that it lies in."}
}
