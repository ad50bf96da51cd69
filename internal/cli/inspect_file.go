package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"vornix/core/base/charset"
	"vornix/core/base/fault"
	"vornix/core/base/group"
	"vornix/core/base/leakscan"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/format/audio"
	"vornix/core/format/zipfile"
	"vornix/core/game/compare"
	"vornix/core/game/gamefs"
	"vornix/core/release"
	"vornix/internal/cli/show"
)

// bundleAnswer is what inspect says of an archive or a map.
type bundleAnswer struct {
	Kind    string        `json:"kind"`
	Map     *mapAnswer    `json:"map,omitempty"`
	Comment string        `json:"comment,omitempty"`
	Entries []entryAnswer `json:"entries"`
}

type entryAnswer struct {
	Path    string `json:"path"`
	Size    int64  `json:"size"`
	Packed  int64  `json:"packed"`
	Method  string `json:"method"`
	Trouble string `json:"trouble,omitempty"` // why it can't be unpacked, or is damaged
	Guessed bool   `json:"guessed,omitempty"` // its name stands in an old code page
}

func (a *app) inspectBundle(ctx context.Context, name string, o look) (any, error) {
	b, err := gamefs.OpenAny(name)
	if err != nil {
		return nil, &fault.Fault{What: "the archive can't be read", Place: fault.Place{File: filepath.ToSlash(name)},
			Err: err, Do: "Get it again, or save what is whole: vornix salvage FILE OUT.zip"}
	}
	defer b.Close()
	answer := bundleAnswer{Kind: "archive", Entries: []entryAnswer{}, Comment: b.Comment()}
	if b.MapData != nil {
		answer.Kind = "map"
		if answer.Map, err = a.inspectMap(ctx, name, b.MapData, o); err != nil {
			return nil, err
		}
	}
	trouble, err := zipfile.Verify(ctx, b.Entries())
	if err != nil {
		return nil, err
	}
	var rows [][]string
	var size, packed int64
	bad := 0
	for i, e := range b.Entries() {
		answer.Entries = append(answer.Entries,
			entryAnswer{e.Name, e.Size, e.Packed, e.Method.String(), trouble[i], e.Guessed})
		size, packed = size+e.Size, packed+e.Packed
		word := trouble[i]
		if word != "" {
			bad++
		} else if e.Guessed {
			word = "its name stands in an old code page"
		}
		rows = append(rows, []string{e.Name, release.Bytes(e.Size), release.Bytes(e.Packed), e.Method.String(), word})
	}
	if len(rows) > 0 {
		whole := "all read and whole"
		if bad > 0 {
			whole = fmt.Sprintf("%d of them not to be unpacked", bad)
		}
		a.out.Heading("%s, %s: %s, packed to %s", release.Count(len(rows), "entry"), whole, release.Bytes(size),
			release.Bytes(packed))
		header := []string{"entry", "size", "packed", "by", ""}
		a.out.Table(header, rows)
	}
	if answer.Comment != "" {
		a.out.Say("\nit says: %s", show.Clean(answer.Comment))
	}
	if bad > 0 {
		return answer, &fault.Fault{What: fmt.Sprintf("%d of %d entries can't be unpacked, or must not be", bad,
			len(rows)), Place: fault.Place{File: filepath.ToSlash(name)},
			Do: "'vornix extract FILE ENTRY...' unpacks the others; 'vornix salvage' saves what is whole."}
	}
	return answer, nil
}

// soundAnswer is what inspect says of a sound.
type soundAnswer struct {
	Kind string `json:"kind"`
	audio.Info
	Seconds float64 `json:"seconds"`
}

func (a *app) inspectSound(name string) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	i, err := audio.Read(data)
	if err != nil {
		return nil, err
	}
	line := fmt.Sprintf("sound: %s (%s), %d samples a second, %s, %.2f s", i.Form, i.Codec, i.Rate,
		release.Count(i.Channels, "channel"), i.Length().Seconds())
	if i.Bits > 0 {
		line += fmt.Sprintf(", %d bits", i.Bits)
	}
	a.out.Say("%s", line)
	if i.Loop != nil {
		a.out.Say("repeats from %.3f s to %.3f s (samples %d to %d)", i.Time(i.Loop[0]).Seconds(),
			i.Time(i.Loop[1]).Seconds(), i.Loop[0], i.Loop[1])
	}
	if i.Heard {
		a.out.Say("silent for %.3f s at its beginning and %.3f s at its end; %d samples clipped",
			i.Time(i.SilentStart).Seconds(), i.Time(i.SilentEnd).Seconds(), i.Clipped)
	}
	return soundAnswer{"sound", i, i.Length().Seconds()}, nil
}

// textAnswer is what inspect says of a text.
type textAnswer struct {
	Kind     string   `json:"kind"`
	Encoding string   `json:"encoding"`
	Mark     bool     `json:"mark"`
	LF       int      `json:"lf"`
	CRLF     int      `json:"crlf"`
	Form     string   `json:"form,omitempty"` // what it is well formed as
	Wrong    string   `json:"wrong,omitempty"`
	Sections []string `json:"sections,omitempty"` // of a TOML file: its tables
}

// textForms are the forms that endings stand for.
var textForms = map[string]string{".json": "json", ".toml": "toml", ".xml": "xml", ".ini": "ini", ".cfg": "ini",
	".csv": "csv", ".txt": "text", ".md": "text", ".jsonl": "text"}

func (a *app) inspectText(name string) (any, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	t, err := charset.Read(data, "windows-1252")
	if err != nil {
		return nil, err
	}
	answer := textAnswer{Kind: "text", Encoding: t.Encoding, Mark: t.Mark, LF: t.LF, CRLF: t.CRLF,
		Form: textForms[strings.ToLower(filepath.Ext(name))]}
	lines := "line ends LF"
	switch {
	case t.CRLF > 0 && t.LF > 0:
		lines = fmt.Sprintf("mixed line ends: %d LF, %d CR LF", t.LF, t.CRLF)
	case t.CRLF > 0:
		lines = "line ends CR LF"
	}
	mark := ""
	if t.Mark {
		mark = " with a byte-order mark"
	}
	what := answer.Form
	if filepath.Base(name) == "ledger.jsonl" {
		what = "ledger"
	}
	a.out.Say("%s: %s%s, %s, %s", what, t.Encoding, mark, release.Count(t.LF+t.CRLF, "line"), lines)
	for _, h := range leakscan.Scan(data) {
		a.out.Say("it has %s", h)
	}
	if err := t.Check(answer.Form); err != nil {
		bad, _ := err.(*charset.Error)
		answer.Wrong = err.Error()
		place := fault.Place{File: filepath.ToSlash(name)}
		if bad != nil {
			place.Line, place.Column = bad.Line, bad.Column
		}
		return answer, &fault.Fault{What: "the file is no good " + strings.ToUpper(answer.Form), Place: place, Err: err,
			Do: "Correct the line."}
	}
	switch {
	case answer.Form == "toml":
		var tables map[string]any
		if toml.Unmarshal([]byte(t.Content), &tables) == nil {
			a.tomlTable(&answer, name, tables)
		}
	case what == "ledger":
		a.ledgerTable(data)
	}
	return answer, nil
}

// decoded is a file's text, whatever its encoding.
func decoded(data []byte) string {
	t, err := charset.Read(data, "windows-1252")
	if err != nil {
		return string(data)
	}
	return t.Content
}

// tomlTable says what kind of TOML file it is and what tables it has.
func (a *app) tomlTable(answer *textAnswer, name string, tables map[string]any) {
	has := func(keys ...string) bool {
		return !slices.ContainsFunc(keys, func(k string) bool { _, ok := tables[k]; return !ok })
	}
	switch {
	case filepath.Base(name) == "vornix.toml":
		answer.Kind = "project"
	case has("game"):
		answer.Kind = "profile"
	case has("surface"), has("colour"):
		answer.Kind = "material"
	case has("state"), has("states"):
		answer.Kind = "sprite sheet"
	}
	var rows [][]string
	keys := make([]string, 0, len(tables))
	for k := range tables {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		answer.Sections = append(answer.Sections, k)
		switch v := tables[k].(type) {
		case map[string]any:
			rows = append(rows, []string{"[" + k + "]", release.Count(len(v), "setting")})
		case []any:
			rows = append(rows, []string{k, release.Count(len(v), "value")})
		default:
			rows = append(rows, []string{k, fmt.Sprint(v)})
		}
	}
	a.out.Say("it is a %s", orWord(strings.Replace(answer.Kind, "text", "", 1), "list of settings"))
	a.out.Table([]string{"", ""}, rows)
	if answer.Kind == "profile" {
		if data, err := os.ReadFile(name); err == nil {
			if p, err := profile.Parse(filepath.Base(name), data); err == nil {
				a.out.Say("%s: a good game profile", p)
			} else {
				a.out.Say("it is not a good game profile: %v", err)
			}
		}
	}
}

func (a *app) ledgerTable(data []byte) {
	var rows [][]string
	for _, e := range ledger.Parse(data) {
		rows = append(rows,
			[]string{e.Time.Local().Format("2006-01-02 15:04"), e.Kind, e.Version, orWord(e.Target, e.Place),
				strconv.Itoa(len(e.Files))})
	}
	a.out.Table([]string{"when", "what", "version", "where", "files"}, rows)
}

// folderAnswer is what inspect says of a folder.
type folderAnswer struct {
	Kind     string            `json:"kind"`
	Identity string            `json:"identity"` // SHA-256 over all paths and contents
	Kinds    []compare.Kind    `json:"kinds"`
	Files    map[string]string `json:"files"` // SHA-256 by path
}

// inspectFolder hashes all files of a folder side by side.
func (a *app) inspectFolder(ctx context.Context, dir string) (any, error) {
	var files []string
	side := compare.Side{}
	err := filepath.WalkDir(dir, func(at string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || safefile.IsTemp(e.Name()) {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		files = append(files, filepath.ToSlash(rel))
		return err
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(files)
	sums, sizes := make([]string, len(files)), make([]int64, len(files))
	g, ctx := group.WithContext(ctx)
	workers := a.jobs
	if workers == 0 {
		workers = runtime.GOMAXPROCS(0)
	}
	g.SetLimit(workers)
	for i, f := range files {
		g.Go(func() (err error) {
			if err = ctx.Err(); err == nil {
				sums[i], sizes[i], err = safefile.HashFile(filepath.Join(dir, filepath.FromSlash(f)))
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	answer := folderAnswer{Kind: "folder", Files: map[string]string{}}
	all := sha256.New()
	for i, f := range files {
		answer.Files[f] = sums[i]
		fmt.Fprintf(all, "%s  %s\n", sums[i], f)
		side[f] = compare.File{Size: sizes[i]}
	}
	answer.Identity = hex.EncodeToString(all.Sum(nil))
	r := compare.Sides(compare.Side{}, side)
	answer.Kinds = r.Kinds
	var rows [][]string
	for _, k := range r.Kinds {
		rows = append(rows, []string{k.Kind, strconv.Itoa(k.NewFiles), release.Bytes(k.New)})
	}
	a.out.Table([]string{"kind", "files", "size"}, rows)
	slices.SortStableFunc(r.Changes, func(x, y compare.Change) int { return int(max(-1, min(1, y.New-x.New))) })
	rows = nil
	for _, c := range r.Changes[:min(len(r.Changes), 10)] {
		rows = append(rows, []string{c.Path, release.Bytes(c.New), answer.Files[c.Path][:16]})
	}
	a.out.Say("")
	a.out.Table([]string{"largest", "size", "sha-256"}, rows)
	a.out.Say("\n%s, %s, identity %s", release.Count(len(files), "file"), release.Bytes(r.New), answer.Identity)
	return answer, nil
}
