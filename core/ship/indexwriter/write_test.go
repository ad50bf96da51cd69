package indexwriter_test

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/signature"
	"vornix/core/config/ledger"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/pack/bundle"
	"vornix/core/ship/index"
	"vornix/core/ship/indexwriter"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
)

var ctx = context.Background()

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// desk is a project whose bundles are made here, quickly, instead of built.
type desk struct {
	t       *testing.T
	p       *project.Project
	g       *assetgraph.Graph
	bundles []bundle.Bundle
}

func newDesk(t *testing.T, name string) *desk {
	p := demotest.Project(t, name)
	return &desk{t: t, p: p, g: must(assetgraph.ScanProject(ctx, p))}
}

// pack writes a bundle with files; maps are those in it.
func (d *desk) pack(name string, files map[string]string, maps ...string) {
	d.t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range []string{"maps/a.vnm", "textures/x.ktx2", "waybill.json"} {
		if data, ok := files[f]; ok {
			must(must(z.Create(f)).Write([]byte(data)))
		}
	}
	require.NoError(d.t, z.Close())
	demotest.Put(d.t, d.p, bundle.Dir+"/"+name, b.Bytes())
	sum, size, err := safefile.HashFile(d.p.Join(bundle.Dir, name))
	require.NoError(d.t, err)
	d.bundles = append(d.bundles, bundle.Bundle{Name: name, SHA256: sum, Size: size, Entries: len(files), Maps: maps})
}

func (d *desk) write(o indexwriter.WriteOptions) (*indexwriter.Result, error) {
	return indexwriter.Write(ctx, d.p, d.bundles, d.g, o)
}

// writeAt writes and reads the index by a clock that a test moves.
func (d *desk) writeAt(now *time.Time) func(indexwriter.WriteOptions) (*index.Index, error) {
	return func(o indexwriter.WriteOptions) (*index.Index, error) {
		o.Now = *now
		if _, err := d.write(o); err != nil {
			return nil, err
		}
		return index.Read(must(os.ReadFile(d.p.Join(indexwriter.Dir, index.FileName))))
	}
}

// release does what a release does with the index and the bundles.
func (d *desk) release(date string, o indexwriter.WriteOptions) *index.Index {
	d.t.Helper()
	o.Date = date
	r, err := d.write(o)
	require.NoError(d.t, err)
	version := d.p.File.Project.Version
	files := map[string]string{}
	for _, b := range d.bundles {
		files[b.Name] = b.SHA256
		demotest.Put(d.t, d.p, indexwriter.ReleasesDir+"/"+version+"/"+b.Name,
			must(os.ReadFile(d.p.Join(bundle.Dir, b.Name))))
	}
	demotest.Put(d.t, d.p, indexwriter.ReleasesDir+"/"+version+"/index.json",
		must(os.ReadFile(d.p.Join(indexwriter.Dir, index.FileName))))
	require.NoError(d.t,
		ledger.Add(d.p, ledger.Event{Kind: ledger.Released, Time: time.Now(), Date: date, Version: version,
			Files: files}))
	return r.Index
}

func (d *desk) version(v string) {
	d.t.Helper()
	require.NoError(d.t, d.p.SetVersion(v))
	d.bundles = nil
}

func key(t *testing.T) (crypto.Signer, string) {
	pem, public, err := signature.New()
	require.NoError(t, err)
	k, err := signature.ParseKey(pem, fault.Place{})
	require.NoError(t, err)
	return k, public
}

func TestARecordForEachBundleAndMap(t *testing.T) {
	d := newDesk(t, "highline")
	_, err := indexwriter.Check(d.p)
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1"}, "cairn_station", "saltpan_relay")
	x := d.release("2026-11-20", indexwriter.WriteOptions{})
	read := must(index.Read(must(os.ReadFile(d.p.Join(indexwriter.Dir, index.FileName)))))
	assert.Equal(t, x, read)
	assert.Equal(t, must(indexwriter.Check(d.p)), x)
	r := *x.Record("highline")
	assert.Equal(t, index.Record{Name: "highline", Version: "1.0.0", Date: "2026-11-20", File: "highline-1.0.0.parcel",
		URL: "highline-1.0.0.parcel", Size: d.bundles[0].Size, SHA256: d.bundles[0].SHA256, Game: "1.2",
		Notes: "The first release: two stations, four ways to race between them, and a wind that does not care who you are.",
		Maps: []index.Map{{Name: "cairn_station", Title: "Cairn Station",
			Modes: []string{"relay", "dash", "night-relay"}, Players: [2]int{2, 8}, Game: "1.2"},
			{Name: "saltpan_relay", Title: "Saltpan Relay", Modes: []string{"relay", "survey"}, Players: [2]int{2, 6},
				Game: "1.1"}}}, r)
	assert.Equal(t, "https://downloads.example/highline/", x.Base)
	assert.Equal(t, "cairn_station 1.0.0 highline-1.0.0.parcel\nsaltpan_relay 1.0.0 highline-1.0.0.parcel\n",
		string(must(os.ReadFile(d.p.Join("out/index/stations.txt")))))

	line := &d.p.Profile.Index.Texts[0].Line
	*line = "{version} {map} {file}" // as a game would read it that wants the version first
	_, err = indexwriter.Check(d.p)
	assert.ErrorContains(t, err, "the game reads something else of cairn_station")
	*line = "{map} {version} {file}"

	again, err := d.write(indexwriter.WriteOptions{Date: "2030-01-01"})
	require.NoError(t, err)
	assert.True(t, again.Kept, "a finished version keeps its date, and what says the same its number")
	require.NoError(t, os.RemoveAll(d.p.Join(indexwriter.Dir)))
	again, err = d.write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, x, again.Index, "what went out with the version comes back when the index is gone")
	require.NoError(t, os.RemoveAll(d.p.Join(indexwriter.Dir)))
	require.NoError(t, os.Remove(d.p.Join(indexwriter.ReleasesDir, "1.0.0", index.FileName)))
	again, err = d.write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, int64(2), again.Index.Serial, "a number is never given twice, also when all copies are gone")
	_, err = d.write(indexwriter.WriteOptions{Date: "yesterday"})
	assert.ErrorContains(t, err, "no date")

	file := d.p.Join(bundle.Dir, "highline-1.0.0.parcel")
	data := must(os.ReadFile(file))
	data[10] ^= 1
	require.NoError(t, os.WriteFile(file, data, 0o666))
	require.NoError(t, os.WriteFile(d.p.Join(indexwriter.ReleasesDir, "1.0.0", "highline-1.0.0.parcel"), data, 0o666))
	_, err = indexwriter.Check(d.p)
	assert.Equal(t, fault.Refused, fault.KindOf(err), "one flipped bit")
}

func TestVersionsThatAreNotRaisedOrForNothing(t *testing.T) {
	d := newDesk(t, "highline")
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1", "waybill.json": `{"version":"1.0.0"}`},
		"cairn_station")
	d.release("2026-11-20", indexwriter.WriteOptions{})
	d.bundles = nil
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "2", "waybill.json": `{"version":"1.0.0"}`},
		"cairn_station")
	_, err := d.write(indexwriter.WriteOptions{})
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, fault.Refused, f.Kind)
	assert.Contains(t, f.Do, "vornix release 1.0.1")
	assert.Equal(t, "vornix.toml:6:1", f.Place.String())

	d.version("1.0.1")
	d.pack("highline-1.0.1.parcel", map[string]string{"maps/a.vnm": "1", "waybill.json": `{"version":"1.0.1"}`},
		"cairn_station")
	r, err := d.write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "index.unchanged highline 1.0.1 holds what 1.0.0 held but for waybill.json",
		r.Findings[0].ID+" "+r.Findings[0].Text)
	d.bundles = nil
	d.pack("highline-1.0.1.parcel",
		map[string]string{"maps/a.vnm": "1", "textures/x.ktx2": "new", "waybill.json": `{"version":"1.0.1"}`},
		"cairn_station")
	r, err = d.write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	assert.Empty(t, r.Findings)

	// A map that did not change keeps its version, beside one that did.
	d = newDesk(t, "lower-sidings")
	d.pack("tram_depot.vnm", map[string]string{"maps/a.vnm": "1"}, "tram_depot")
	d.pack("other.vnm", map[string]string{"maps/a.vnm": "1"}, "other")
	d.release("2026-11-20", indexwriter.WriteOptions{})
	d.version("1.1.0")
	d.pack("tram_depot.vnm", map[string]string{"maps/a.vnm": "2"}, "tram_depot")
	d.pack("other.vnm", map[string]string{"maps/a.vnm": "1"}, "other")
	x := d.release("2026-11-25", indexwriter.WriteOptions{})
	assert.Equal(t, []string{"1.1.0", "2026-11-25", "1.0.0", "2026-11-20"},
		[]string{x.Record("tram_depot").Version, x.Record("tram_depot").Date, x.Record("other").Version,
			x.Record("other").Date})
	assert.Contains(t, string(must(os.ReadFile(d.p.Join("out/index/levels.xml")))), `version="1.1.0" bytes="`)
}

// A version that is taken back stays listed, and the last good one stands in its place.
func TestRetracted(t *testing.T) {
	d := newDesk(t, "highline")
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1"}, "cairn_station")
	first := d.release("2026-11-20", indexwriter.WriteOptions{})
	assert.ErrorContains(t, d.p.Retract("1.1.0", "why", false, []string{"1.0.0"}), "was not released")
	require.NoError(t, d.p.Retract("1.0.0", "broken", false, []string{"1.0.0"}))
	d.p = demotest.Load(t, d.p.Dir)
	_, err := d.write(indexwriter.WriteOptions{})
	assert.ErrorContains(t, err, "none before it")
	require.NoError(t, d.p.Retract("1.0.0", "", true, []string{"1.0.0"}))
	d.p = demotest.Load(t, d.p.Dir)
	assert.Empty(t, d.p.File.Index.Retracted)

	d.version("1.1.0")
	d.pack("highline-1.1.0.parcel", map[string]string{"maps/a.vnm": "2"}, "cairn_station")
	second := d.release("2026-11-25", indexwriter.WriteOptions{})
	require.NoError(t, d.p.Retract("1.1.0", "the \"lift\"\ndoes not stop", false, []string{"1.0.0", "1.1.0"}))
	assert.ErrorContains(t, demotest.Load(t, d.p.Dir).Retract("1.1.0", "x", false, []string{"1.1.0"}),
		"taken back already")
	d.p = demotest.Load(t, d.p.Dir)
	r, err := d.write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, first.Bundles, r.Index.Bundles)
	assert.Equal(t, []index.Retraction{{Version: "1.1.0", Reason: "the \"lift\"\ndoes not stop",
		Files: []string{second.Bundles[0].SHA256}}}, r.Index.Retracted)
	_, err = indexwriter.Check(d.p)
	require.NoError(t, err, "its file is among the releases")

	to := filepath.Join(t.TempDir(), "public")
	c, err := indexwriter.Collect(ctx, d.p, to)
	require.NoError(t, err)
	assert.Equal(t, []string{"highline-1.0.0.parcel", "stations.txt", "index.json"}, c.Copied, "the index last")
	require.NoError(t, os.WriteFile(filepath.Join(to, "other.txt"), nil, 0o666))
	c, err = indexwriter.Collect(ctx, d.p, to)
	require.NoError(t, err)
	assert.Len(t, c.Kept, 3)
	assert.Equal(t, []string{"other.txt"}, c.Left)
}

func TestSignedByWhomItMustBe(t *testing.T) {
	d := newDesk(t, "highline")
	old, oldWord := key(t)
	new, newWord := key(t)
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1"}, "cairn_station")
	write := d.writeAt(&now)
	x, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	require.NoError(t, err)
	require.NoError(t, x.Trusted([]string{newWord, oldWord}))
	assert.ErrorContains(t, x.Trusted([]string{newWord}), "not trusted")
	assert.Equal(t, []string{"2026-11-26T12:00:00Z", "2027-05-25T12:00:00Z"}, []string{x.Issued, x.Expires},
		"valid_days = 180")
	assert.False(t, x.Expired(now.AddDate(0, 0, 179)))
	assert.True(t, x.Expired(now.AddDate(0, 0, 180)))
	same, err := write(indexwriter.WriteOptions{})
	require.NoError(t, err)
	assert.Equal(t, x, same, "what says the same keeps its signature")

	d.pack("more.parcel", map[string]string{"maps/a.vnm": "2"}, "saltpan_relay")
	_, err = write(indexwriter.WriteOptions{})
	assert.Equal(t, fault.Refused, fault.KindOf(err), "no signature where there was one")
	_, err = write(indexwriter.WriteOptions{Keys: []crypto.Signer{new}})
	assert.ErrorContains(t, err, "none of the keys")
	require.NoError(t, os.RemoveAll(d.p.Join(indexwriter.Dir)))
	_, err = write(indexwriter.WriteOptions{Keys: []crypto.Signer{new}})
	assert.ErrorContains(t, err, "none of the keys", "the ledger knows them too")
	both, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old, new}})
	require.NoError(t, err)
	require.NoError(t, both.Trusted([]string{oldWord}), "who knows the old key takes it")
	assert.Equal(t, []string{oldWord, newWord}, both.Keys, "and knows the new one then")
	after, err := indexwriter.SignAgain(d.p,
		indexwriter.WriteOptions{Keys: []crypto.Signer{new}, Now: now.AddDate(0, 1, 0)})
	require.NoError(t, err)
	assert.Equal(t, both.Serial+1, after.Serial)
	assert.Equal(t, "2027-06-24T12:00:00Z", after.Expires, "good for longer")
	require.NoError(t, after.Trusted(both.Keys))
	_, err = indexwriter.SignAgain(d.p, indexwriter.WriteOptions{Keys: []crypto.Signer{old}, Now: now})
	assert.ErrorContains(t, err, "none of the keys")
	_, err = indexwriter.SignAgain(d.p,
		indexwriter.WriteOptions{Keys: []crypto.Signer{old}, Now: now.AddDate(0, 1, 1), LostKey: true})
	require.NoError(t, err)
	d.bundles = d.bundles[:1]
	x, err = write(indexwriter.WriteOptions{Unsigned: true})
	require.NoError(t, err)
	assert.Empty(t, x.Signatures)
}

// Whatever is changed in a signed index, it is refused, or says what was signed.
func TestNothingOfASignedIndexCanBeChanged(t *testing.T) {
	d := newDesk(t, "highline")
	k, word := key(t)
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1"}, "cairn_station")
	_, err := d.write(indexwriter.WriteOptions{Keys: []crypto.Signer{k}, Now: time.Now()})
	require.NoError(t, err)
	data := must(os.ReadFile(d.p.Join(indexwriter.Dir, index.FileName)))
	x := must(index.Read(data))
	for i := range data {
		bad := bytes.Clone(data)
		bad[i] ^= 1
		got, err := index.Read(bad)
		if err == nil && got.Trusted([]string{word}) == nil {
			assert.Equal(t, x, got, "byte %d", i)
		}
	}
	text := string(data)
	for name, bad := range map[string]string{
		"more behind":       strings.TrimSuffix(text, "}\n") + `, "bundles": [], "serial": 99}`,
		"a second one":      strings.Replace(text, `"serial": 1,`, `"serial": 1, "serial": 99,`, 1),
		"without signature": text[:strings.Index(text, "\n  \"signatures\"")] + "\n  \"signatures\": []\n}\n",
		"another layout": func() string {
			var b bytes.Buffer
			require.NoError(t,
				json.Compact(&b, data))
			return b.String()
		}(),
	} {
		got, err := index.Read([]byte(bad))
		if err == nil {
			err = got.Trusted([]string{word})
		}
		if err == nil {
			assert.Equal(t, x, got, name)
		}
		assert.Equal(t, name == "more behind", err == nil, name)
	}
	assert.Equal(t, x, must(index.Read([]byte("\xef\xbb\xbf"+strings.ReplaceAll(text, "\n", "\r\n")))),
		"as Git on Windows may have it")
}

// Text from a map's title can't add a line or a field to a list, and what would be read as something else is refused.
func TestFormsOfTheGame(t *testing.T) {
	records := []index.Record{{Name: "b", File: "b-1.vnm", URL: "b-1.vnm", Version: "1.0.0", Maps: []index.Map{
		{Name: "cairn", Title: "a\nevil 9.9.9\r\x00b"}, {Name: "salt", Title: `say "x"; <b>`}}}}
	head := indexwriter.Head{Name: "p", Title: "P", Version: "1.0.0"}
	assert.Equal(t, []string{"cairn|a evil 9.9.9  b", `salt|say "x"; <b>`},
		indexwriter.Lines(profile.ListFile{Line: "{map}|{title}"}, head, records))
	for _, c := range []struct {
		text profile.IndexText
		want string
	}{
		{profile.IndexText{File: "versions", Line: "{map} {version}"}, "cairn 1.0.0\nsalt 1.0.0\n"},
		{profile.IndexText{File: "versions", Line: "{map}={version}", Head: "# mine\n", Foot: "# end\n", Lines: "crlf"},
			"# mine\r\ncairn=1.0.0\r\nsalt=1.0.0\r\n# end\r\n"},
		{profile.IndexText{Line: "{title};{version}"}, ""},
		{profile.IndexText{Line: "{title};{version}", Escape: "csv"},
			"a evil 9.9.9  b;1.0.0\n\"say \"\"x\"\"; <b>\";1.0.0\n"},
		{profile.IndexText{Line: `"{title}" "{version}" {stem}`, Escape: "quotes"},
			"\"a\\nevil 9.9.9\\r b\" \"1.0.0\" b-1\n\"say \\\"x\\\"; <b>\" \"1.0.0\" b-1\n"},
	} {
		data, err := indexwriter.Text(&c.text, fault.Place{}, head, records)
		if c.want == "" {
			assert.Equal(t, fault.Refused, fault.KindOf(err))
			assert.ErrorContains(t, err, "would be read as something else")
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, c.want, string(data))
		back, err := indexwriter.ReadText(&c.text, data)
		require.NoError(t, err)
		require.Len(t, back, 2)
		assert.Equal(t, "1.0.0", back[1]["version"])
	}
	_, err := indexwriter.ReadText(&profile.IndexText{Line: "{map}={version}"}, []byte("a=1\nb 2\n"))
	assert.ErrorContains(t, err, "line 2")
	_, err = indexwriter.Text(&profile.IndexText{File: "x", Line: "{map} {title}", Encoding: "cp437", Escape: "quotes"},
		fault.Place{}, head, []index.Record{{Maps: []index.Map{{Name: "m", Title: "日本"}}}})
	assert.ErrorContains(t, err, "can't be written in its encoding")
}

// How long an index lives is part of what it says, and a clock that runs backwards signs nothing.
func TestTheLifeOfAnIndex(t *testing.T) {
	d := newDesk(t, "highline")
	old, _ := key(t)
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	d.pack("highline-1.0.0.parcel", map[string]string{"maps/a.vnm": "1"}, "cairn_station")
	write := d.writeAt(&now)
	x, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	require.NoError(t, err)
	// Another life is a change by itself, and so is the end of the one that it had.
	d.p.File.Index.ValidDays = 30
	_, err = write(indexwriter.WriteOptions{})
	assert.Equal(t, fault.Refused, fault.KindOf(err), "it can't be signed anew without a key")
	short, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	require.NoError(t, err)
	assert.Equal(t, []any{"2026-12-26T12:00:00Z", x.Serial + 1}, []any{short.Expires, short.Serial})
	d.p.File.Index.ValidDays = 180
	now = now.AddDate(0, 0, 200)
	long, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	require.NoError(t, err)
	again := now.AddDate(0, 0, 181)
	now = again
	renewed, err := write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	require.NoError(t, err)
	assert.Equal(t, long.Serial+1, renewed.Serial)
	assert.False(t, renewed.Expired(now))
	now = now.AddDate(-1, 0, 0)
	d.p.File.Index.ValidDays = 90
	_, err = write(indexwriter.WriteOptions{Keys: []crypto.Signer{old}})
	assert.ErrorContains(t, err, "the clock of this machine is behind")
	_, err = indexwriter.SignAgain(d.p, indexwriter.WriteOptions{Keys: []crypto.Signer{old}, Now: now})
	assert.ErrorContains(t, err, "the clock of this machine is behind")
	unsigned := *renewed
	unsigned.Signatures = nil
	_, err = index.Read(must(unsigned.Encode()))
	assert.ErrorContains(t, err, "names keys, and is not signed", "it would pin keys that nobody proved to have")
}
