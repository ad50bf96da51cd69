package metadata_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/make/metadata"
	"vornix/core/source/assetgraph"
	"vornix/demo"
	"vornix/internal/demotest"
	"vornix/internal/peer"
	"vornix/internal/thorough"
)

var bundles = []metadata.Bundle{{File: "highline-1.0.0.parcel", Size: 1234, SHA256: strings.Repeat("ab", 32), Files: 7,
	Maps: []string{"cairn_station", "saltpan_relay"}}}

func run(t *testing.T, p *project.Project, o metadata.Options) ([]metadata.File, []finding.Finding) {
	t.Helper()
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(t, err)
	return metadata.Make(p, g, o)
}

func TestTheFilesHoldWhatIsReallyThere(t *testing.T) {
	p := demotest.Project(t, "highline")
	files, findings := run(t, p, metadata.Options{Bundles: bundles})
	assert.Empty(t, findings)
	byPath := map[string]metadata.File{}
	for _, f := range files {
		byPath[f.Path+" "+f.Place] = f
	}
	require.Len(t, byPath, 4)
	inside := byPath["waybill.json inside"].Data
	var got map[string]any
	require.NoError(t, json.Unmarshal(inside, &got))
	assert.Equal(t, map[string]any{
		"title": "Highline", "version": "1.0.0", "crew": []any{"Highline crew"},
		"about":    "Mail gliders above the snow line: one station on a cairn, two routes down.",
		"stations": []any{"cairn_station", "saltpan_relay"}, "modes": []any{"dash", "night-relay", "relay", "survey"},
		"couriers": "2-8",
		"contents": []any{"maps", "materials", "routes", "scripts", "sounds", "textures"}, "season": "first-snow",
		"needs": "1.2", "scripted": true, "banner": "banner.jpg"}, got)
	assert.Less(t, bytes.Index(inside, []byte("title")), bytes.Index(inside, []byte("crew")), "in the profile's order")
	got = nil
	require.NoError(t, json.Unmarshal(byPath["highline.waybill.json beside"].Data, &got))
	graph, err := assetgraph.ScanProject(t.Context(), p)
	require.NoError(t, err)
	taken, err := metadata.Import(p, graph, "old.json",
		bytes.Replace(byPath["highline.waybill.json beside"].Data, []byte("two routes down"),
			[]byte("three routes down"), 1), "")
	require.NoError(t, err)
	said := map[string]string{}
	for _, x := range taken {
		said[x.Key] = x.State + " " + x.To
	}
	assert.Equal(t, "set project.description", said["about.1.text"],
		"of what each language says, that in the project's own is the project's")
	assert.Equal(t, "computed ", said["about.2.text"])
	assert.Equal(t, map[string]any{
		"title": "Highline", "version": "1.0.0", "crew": []any{"Highline crew"}, "game": "Kestrel Post 1.2 or later",
		"season": "first-snow", "banner": "banner.jpg", "bytes": 1234.0,
		"about": []any{map[string]any{"language": "en",
			"text": "Mail gliders above the snow line: one station on a cairn, two routes down."},
			map[string]any{"language": "de",
				"text": "Postsegler über der Schneegrenze: eine Station auf einem Steinmann, zwei Wege ins Tal."}},
		"stations": []any{map[string]any{"name": "cairn_station", "title": "Cairn Station",
			"modes": []any{"relay", "dash", "night-relay"}, "couriers": map[string]any{"least": 2.0, "most": 8.0}},
			map[string]any{"name": "saltpan_relay", "title": "Saltpan Relay", "modes": []any{"relay", "survey"},
				"couriers": map[string]any{"least": 2.0, "most": 6.0}}},
		"parcels": []any{map[string]any{"file": "highline-1.0.0.parcel", "sha256": bundles[0].SHA256}}}, got)
	got = nil
	require.NoError(t, yaml.Unmarshal(byPath["highline.de.yaml beside"].Data, &got))
	assert.Equal(t, "Station am Steinmann", got["stations"].([]any)[0].(map[string]any)["title"])
	assert.Equal(t, map[string]any{"departure": "Abflug, sobald der Wind steht."}, got["texts"])

	p = demotest.Project(t, "lower-sidings")
	files, findings = run(t, p, metadata.Options{})
	assert.Empty(t, findings)
	require.Len(t, files, 3)
	assert.Equal(t, "tram_depot", files[0].Map)
	assert.Equal(t, "[level]\r\nname=Tram Depot\r\nrevision=1.0.0\r\ncode=LS-01\r\n\r\n[play]\r\nmoles=1-4\r\nshifts=rush-hour, shift\r\nhas_music=false\r\n", string(files[0].Data))
	var card struct {
		Code  string   `xml:"code,attr"`
		Name  string   `xml:"name"`
		Shift []string `xml:"shift"`
		File  string   `xml:"file"`
	}
	require.NoError(t, xml.Unmarshal(files[1].Data, &card))
	assert.Equal(t, "LS-01 Tram Depot [rush-hour shift] tram_depot.vnm",
		fmt.Sprint(card.Code, " ", card.Name, " ", card.Shift, " ", card.File))
	assert.Equal(t, "Tram Depot (LS-01), revision 1.0.0\nFor 1-4 moles: rush-hour, shift\n", string(files[2].Data))
}

// with is a demo project with another text in its file, and rules of its profile changed.
func with(t *testing.T, name, old, now string, change func(*profile.Profile)) *project.Project {
	p := demotest.Project(t, name)
	if old != "" {
		demotest.Edit(t, p, "vornix.toml", old, now)
		p = demotest.Load(t, p.Dir)
	}
	if change != nil {
		change(p.Profile)
	}
	return p
}

func TestChecks(t *testing.T) {
	thorough.Only(t)
	number := func(f float64) *float64 { return &f }
	field := func(name string, change func(*profile.Field)) func(*profile.Profile) {
		return func(p *profile.Profile) { change(p.Field(name)) }
	}
	for _, c := range []struct {
		old, now, id, text, do string
		change                 func(*profile.Profile)
	}{
		{`season = "first-snow"`, `season = "frist-snow"`, "addon.field", `does not take "frist-snow"`, `"first-snow"`,
			nil},
		{`season = "first-snow"`, `saeson = "thaw"`, "addon.field", `no field "saeson"`, `"season"`, nil},
		{`season = "first-snow"`, `season = 3`, "addon.field", "must be a text", "", nil},
		{`season = "first-snow"`, `stations = ["x"]`, "addon.field", `no field "stations" to fill in`, "season", nil},
		{`description = "Mail gliders above the snow line: one station on a cairn, two routes down."`, ``,
			"addon.field", `"about" is required and empty`, "", nil},
		{`description = "Mail`, `description = "TODO: Mail`, "addon.placeholder", `placeholder: "TODO"`, "", nil},
		{`description = "Mail`, `description = "<your title> Mail`, "addon.placeholder", `<your title>`, "", nil},
		{`version = "1.0.0"`, "version = \"1.0.0\"\ngame_version = \"1.1\"", "addon.game-version",
			"1.2 is needed: cairn_station has the mode night-relay, and night relays came with 1.2", "1.2", nil},
		{"", "", "addon.field", `has "é", which is not taken`, "",
			field("season", func(f *profile.Field) { f.Characters, f.From, f.Allowed = "a-z", "title", nil })},
		{"", "", "addon.field", "which does not have the form", "",
			field("version", func(f *profile.Field) { f.Pattern = "[0-9]+" })},
		{"", "", "addon.field", "has 2 words; at most 1", "",
			field("stations", func(f *profile.Field) { f.Most = number(1) })},
		{"", "", "addon.field", "has 2 words, and needs 3", "",
			field("stations", func(f *profile.Field) { f.Least = number(3) })},
		{"", "", "addon.field", "must be 10 at the most", "",
			field("bytes", func(f *profile.Field) { f.Most = number(10) })},
		{"", "", "addon.agree", `"Highline" and {bundle.stem} is "highline-1.0.0"`, "", func(p *profile.Profile) {
			p.Addon.Agrees = []profile.Agree{{Texts: []string{"{title}", "{bundle.stem}"}, Loosely: true}}
		}},
		{`season = "first-snow"`, "season = \"first-snow\"\nquiet = true", "addon.flag",
			"quiet is yes, and nothing of the kind ships", "", func(p *profile.Profile) {
				p.Addon.Fields = append(p.Addon.Fields,
					profile.Field{Name: "quiet", Type: "flag", Holds: []string{"silence/**"}})
			}},
		{`season = "first-snow"`, "season = \"first-snow\"\nscripts = false", "addon.flag",
			"scripts is no, and scripts/", "", func(p *profile.Profile) {
				p.Addon.Fields = append(p.Addon.Fields,
					profile.Field{Name: "scripts", Type: "flag", Holds: []string{"scripts/**"}})
			}},
		{"", "", "mode.contained", `"relay" is found inside "night-relay", and the project's list`, "", nil},
	} {
		name := "highline"
		p := with(t, name, c.old, c.now, c.change)
		if c.id == "mode.contained" { // the two are in different maps then
			demotest.Edit(t, p, "maps/cairn_station.vnx", "modes=relay,dash,night-relay", "modes=dash,night-relay")
		}
		if strings.Contains(c.text, "é") {
			p.File.Project.Title = "Hé"
			p.Profile.Addon.Agrees = nil
			p.Profile.Field("season").Characters = "A-Za-z"
			delete(p.File.Addon, "season")
		}
		_, findings := run(t, p, metadata.Options{Bundles: bundles})
		require.Len(t, findings, 1, "%s%s", c.now, c.text)
		assert.Equal(t, c.id, findings[0].ID)
		assert.Contains(t, findings[0].Text, c.text)
		assert.Contains(t, findings[0].Do, c.do)
		assert.Equal(t, findings[0].Severity == finding.Error, metadata.Err(findings) != nil)
	}
	p := with(t, "highline", `title = "Highline"`, `title = "`+strings.Repeat("ü", 41)+`"`,
		func(p *profile.Profile) { p.Addon.Agrees = nil })
	_, findings := run(t, p, metadata.Options{})
	require.Len(t, findings, 1)
	assert.Contains(t, findings[0].Text, "has 41 characters; at most 40")
}

// A picture that is named must be there, of the size and form that the profile says.
func TestPicturesThatAreNamed(t *testing.T) {
	p := with(t, "highline", `season = "first-snow"`, "season = \"first-snow\"\ncover = \"art/cover.jpg\"",
		func(p *profile.Profile) {
			p.Addon.Fields = append(p.Addon.Fields, profile.Field{Name: "cover", Type: "picture", Picture: "banner"})
		})
	want := p.Profile.Pictures[4]
	require.Equal(t, "banner", want.Name)
	check := func(text string) {
		t.Helper()
		_, findings := run(t, p, metadata.Options{})
		if text == "" {
			assert.Empty(t, findings)
			return
		}
		require.NotEmpty(t, findings)
		assert.Equal(t, "addon.picture", findings[0].ID)
		assert.Contains(t, findings[0].Text, text)
	}
	jpg := func(w, h int) []byte {
		var b bytes.Buffer
		require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, w, h)), nil))
		return b.Bytes()
	}
	check("art/cover.jpg, which is not there")
	demotest.Put(t, p, "art/cover.jpg", jpg(want.Width+1, want.Height))
	check(fmt.Sprintf("and the banner must be %d x %d", want.Width, want.Height))
	demotest.Put(t, p, "art/cover.jpg", []byte("no picture"))
	check("no picture that can be read")
	demotest.Put(t, p, "art/cover.jpg", jpg(want.Width, want.Height))
	check("")
	p.Profile.Pictures[4].MostBytes = 10
	check("at most 10 are taken")
	_, findings := run(t, p, metadata.Options{Finished: true})
	assert.Contains(t, fmt.Sprint(findings), "banner names banner.jpg, which is not there")
}

// Missing and left-over translations are found, and long ones.
func TestLanguages(t *testing.T) {
	p := demotest.Project(t, "highline")
	demotest.Put(t, p, "languages/de.toml",
		[]byte("[addon]\nabout = \""+strings.Repeat("ß", 401)+
			"\"\nseason = \"Erster Schnee\"\n\n[maps]\ncairn_station = \"Steinmann\"\ncairn_sttion = \"Steinmann\"\n\n[texts]\ndeparture = \"\"\narrival = \"Ankunft\"\n"))
	demotest.Put(t, p, "languages/nl.toml",
		[]byte("[maps]\ncairn_station = \"Steenman\"\nsaltpan_relay = \"Zoutpan\"\n[addon]\nabout = \"Over\"\n[texts]\ndeparture = \"Vertrek\"\n"))
	demotest.Put(t, p, "languages/Deutsch.toml", []byte(""))
	demotest.Put(t, p, "languages/fr.toml", []byte("[maps\n"))
	_, findings := run(t, p, metadata.Options{})
	var got []string
	for _, f := range findings {
		got = append(got, f.ID+" "+f.Place.String()+" "+f.Text)
	}
	for _, want := range []string{
		"language.left-over languages/de.toml:3:1 de has a text for addon.season",
		"language.left-over languages/de.toml:7:1 de has a text for maps.cairn_sttion",
		"language.missing languages/de.toml:5:2 de has no text for maps.saltpan_relay",
		"language.missing languages/de.toml:10:1 de has no text for texts.departure",
		"language.left-over languages/de.toml:11:1 de has a text for texts.arrival",
		`addon.field languages/de.toml:2:1 the field "about" in de has 401 characters`,
		`language.unknown languages/Deutsch.toml "Deutsch" is the code of no language`,
		"language.unknown languages/nl.toml Kestrel Post does not show nl",
		"toml.syntax languages/fr.toml:1",
	} {
		assert.Contains(t, strings.Join(got, "\n"), want)
	}
	assert.Len(t, got, 9)
	// A title that no language has is missing in each that has some.
	demotest.Put(t, p, "languages/de.toml",
		[]byte("[addon]\nabout = \"Über\"\n[maps]\ncairn_station = \"Steinmann\"\n[texts]\ndeparture = \"Abflug\"\n"))
	require.NoError(t, os.Remove(p.Join("languages/nl.toml")))
	_, findings = run(t, p, metadata.Options{})
	assert.Contains(t, fmt.Sprint(findings), "de has no text for maps.saltpan_relay")
	require.NoError(t, os.Remove(p.Join("languages/de.toml")))
	require.NoError(t, os.Remove(p.Join("languages/fr.toml")))
	_, findings = run(t, p, metadata.Options{})
	assert.Contains(t, fmt.Sprint(findings), "there is no de.toml")
}

// Hostile text comes out of each form as it went in, as far as the form can hold it, and can't
// break out of its field. Other people's readers read it.
func TestHostileText(t *testing.T) {
	python := peer.Need(t, "/usr/bin/python3")
	nasty := "a\"b\\c\n[evil]\r\nkey=value\x00\u2028</title><!-- ]]> {version} ${x} '''\n- list: &anchor *alias !!tag\ttab"
	p := demotest.Project(t, "highline")
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(t, err)
	p.File.Project.Title = nasty
	p.File.Project.Authors = []string{nasty, "b"}
	p.Profile.Addon.Fields = p.Profile.Addon.Fields[:3]
	p.Profile.Addon.Agrees = nil
	oneLine := strings.NewReplacer("\n", " ", "\r", " ", "\x00", " ", "\u2028", " ", "\t", " ").Replace(nasty)
	structure := map[string]any{"head": map[string]any{"t": "{title}", "within": "<{title}>"}, "crew": "{crew}",
		"version": "{version}"}
	for _, form := range []string{"json", "toml", "yaml", "xml", "ini"} {
		p.Profile.Addon.Files = []profile.AddonFile{{Path: "a", Form: form, Place: "beside", Each: "mod",
			Escape: "line", Structure: structure}}
		if form == "ini" {
			p.Profile.Addon.Files[0].Root = "base"
		}
		files, findings := metadata.Make(p, g, metadata.Options{})
		require.Len(t, files, 1, findings)
		data := files[0].Data
		var got map[string]any
		want := nasty
		switch form {
		case "json":
			require.NoError(t, json.Unmarshal(data, &got))
		case "toml":
			require.NoError(t, toml.Unmarshal(data, &got))
		case "yaml":
			require.NoError(t, yaml.Unmarshal(data, &got), string(data))
		case "xml":
			var doc struct {
				T       string   `xml:"head>t"`
				Within  string   `xml:"head>within"`
				Crew    []string `xml:"crew"`
				Version string   `xml:"version"`
			}
			require.NoError(t, xml.Unmarshal(data, &doc))
			// which XML has no way to write
			want = strings.ReplaceAll(strings.ReplaceAll(nasty, "\x00", " "), "\r", " ")
			got = map[string]any{"head": map[string]any{"t": doc.T, "within": doc.Within},
				"crew": []any{doc.Crew[0], doc.Crew[1]}, "version": doc.Version}
		case "ini":
			require.NoError(t, os.WriteFile(filepath.Join(p.Dir, "a.ini"), data, 0o666))
			out := peer.Run(t, p.Dir, python, "-c", `import configparser, json
c = configparser.RawConfigParser(); c.optionxform = str
c.read("a.ini")
print(json.dumps({s: dict(c[s]) for s in c.sections()}))`)
			var sections map[string]map[string]any
			require.NoError(t, json.Unmarshal([]byte(out), &sections), out)
			assert.Len(t, sections, 2, "the evil section is none")
			got = map[string]any{"head": sections["head"], "crew": []any{oneLine, "b"}, "version": "1.0.0"}
			want = oneLine
			for s := bufio.NewScanner(bytes.NewReader(data)); s.Scan(); {
				assert.NotContains(t, s.Text(), "\r")
			}
			assert.Contains(t, string(data), "crew="+oneLine+", b\n")
		}
		crew := want
		assert.Equal(t, map[string]any{"head": map[string]any{"t": want, "within": "<" + want + ">"},
			"crew": []any{crew, "b"}, "version": "1.0.0"}, got, form)
	}
	for escape, check := range map[string]func(out string) string{
		"json": func(out string) string {
			var s string
			require.NoError(t, json.Unmarshal([]byte(out), &s))
			return s
		},
		"xml": func(out string) string {
			var s struct {
				T string `xml:"t,attr"`
			}
			require.NoError(t, xml.Unmarshal([]byte("<x t="+strings.TrimSpace(out)+"/>"), &s))
			return strings.ReplaceAll(s.T, "\r", " ")
		},
		"line": func(out string) string { return strings.Trim(strings.TrimSuffix(out, "\n"), `"`) },
	} {
		p.Profile.Addon.Files = []profile.AddonFile{{Path: "a", Form: "text", Place: "beside", Each: "mod",
			Escape: escape, Template: "\"{{.title}}\"\n"}}
		files, _ := metadata.Make(p, g, metadata.Options{})
		require.Len(t, files, 1)
		want := map[string]string{"json": nasty, "xml": strings.NewReplacer("\x00", " ", "\r", " ").Replace(nasty),
			"line": oneLine}[escape]
		assert.Equal(t, want, check(string(files[0].Data)), escape)
	}
	p.Profile.Addon.Files = []profile.AddonFile{{Path: "a", Form: "json", Place: "beside", Each: "mod", Escape: "line",
		Encoding: "cp437"}}
	p.File.Project.Title = "日本"
	files, findings := metadata.Make(p, g, metadata.Options{})
	assert.Empty(t, files)
	assert.Contains(t, fmt.Sprint(findings), `is not in cp437`)
}

// What somebody changed by hand is noticed: it is not what was written last.
func TestChangedByHand(t *testing.T) {
	p := demotest.Project(t, "lower-sidings")
	files, _ := run(t, p, metadata.Options{})
	d, err := safefile.OpenDir(p.Dir)
	require.NoError(t, err)
	defer d.Close()
	states := func() (list []metadata.State) {
		standing, err := metadata.Stand(d, "out/addon", "beside", files)
		require.NoError(t, err)
		for _, s := range standing {
			list = append(list, s.State)
			assert.Equal(t, s.State == metadata.Edited, s.Diff != "")
		}
		return list
	}
	assert.Equal(t, []metadata.State{metadata.New, metadata.New, metadata.New}, states())
	standing, err := metadata.Stand(d, "out/addon", "beside", files)
	require.NoError(t, err)
	for _, s := range standing {
		demotest.Put(t, p, s.Path, s.File.Data)
	}
	require.NoError(t, metadata.Remember(d, standing))
	assert.Equal(t, []metadata.State{metadata.Same, metadata.Same, metadata.Same}, states())
	files[0].Data = append([]byte("; now\r\n"), files[0].Data...)
	assert.Equal(t, []metadata.State{metadata.Changed, metadata.Same, metadata.Same}, states(), "the project changed")
	demotest.Put(t, p, standing[1].Path, []byte("<by-hand/>"))
	assert.Equal(t, []metadata.State{metadata.Changed, metadata.Edited, metadata.Same}, states())
	require.NoError(t, os.Remove(p.Join(".vornix/addon.json")))
	assert.Equal(t, []metadata.State{metadata.Edited, metadata.Edited, metadata.Same}, states(),
		"nobody remembers: not ours to replace")
}

// A file that was written goes back into a project file that knows nothing, in every form.
func TestImportThereAndBack(t *testing.T) {
	const bare = "# mine\n[project]\nname = \"highline\" # short\ntitle = \"x\"\nversion = \"0.0.1\"\nprofile = \"kestrel-post\"\n"
	full := demotest.Project(t, "highline")
	g, err := assetgraph.ScanProject(context.Background(), full)
	require.NoError(t, err)
	full.File.Project.Description = "Two lines,\nand \"quotes\" = trouble [here]"
	full.Profile.Addon.Agrees = nil
	for _, form := range []string{"json", "toml", "yaml", "xml", "ini"} {
		for _, structured := range []bool{false, true} {
			f := profile.AddonFile{Path: "a." + form, Form: form, Place: "beside", Each: "mod", Escape: "line"}
			if structured {
				f.Structure = map[string]any{"head": map[string]any{"t": "{title}", "v": "v{version}", "by": "{crew}"},
					"say": "{about}", "when": "{season}", "count": "{bytes}", "mark": "made by us",
					"list": map[string]any{"for_each": "map", "name": "{map.name}"}}
			}
			full.Profile.Addon.Files = []profile.AddonFile{f}
			files, findings := metadata.Make(full, g, metadata.Options{Bundles: bundles})
			require.Len(t, files, 1, findings)

			dir := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), []byte(bare), 0o666))
			p := demotest.Load(t, dir)
			p.Profile.Addon.Files = []profile.AddonFile{f}
			empty, err := assetgraph.ScanProject(context.Background(), p)
			require.NoError(t, err)
			list, err := metadata.Import(p, empty, "old."+form, files[0].Data, "")
			require.NoError(t, err)
			n, err := metadata.Apply(p, list)
			require.NoError(t, err)
			assert.Equal(t, 5, n, "%s: %+v", form, list)
			now := demotest.Load(t, dir)
			want := full.File.Project.Description
			if form == "ini" {
				want = strings.ReplaceAll(want, "\n", " ")
			}
			assert.Equal(t, []any{"Highline", "1.0.0", []string{"Highline crew"}, want, "first-snow"},
				[]any{now.File.Project.Title, now.File.Project.Version, now.File.Project.Authors,
					now.File.Project.Description, now.File.Addon["season"]}, form)
			assert.Contains(t, string(now.Source), "# mine\n[project]\nname = \"highline\" # short\n")
			again, err := metadata.Import(now, empty, "old."+form, files[0].Data, "")
			require.NoError(t, err)
			n, err = metadata.Apply(now, again)
			require.NoError(t, err)
			assert.Zero(t, n, "%s: %+v", form, again)
		}
	}
}

// Lines with a key and a value, of no particular game, are understood; what can't be taken says
// why, and nothing is written then.
func TestImportOfOthers(t *testing.T) {
	p := demotest.Project(t, "highline")
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(t, err)
	list, err := metadata.Import(p, g, "info",
		[]byte("// by hand\nTitle: \"High \\\"line\\\"\"\nversion = 1.2\nseason = thaw\r\ncouriers: 3-4\nbytes = 12\nhomepage: https://crew.example\n"), "")
	require.NoError(t, err)
	got := map[string]string{}
	for _, x := range list {
		got[x.Key] = x.State
	}
	assert.Equal(t, map[string]string{"Title": "set", "version": "refused", "season": "set", "couriers": "differs",
		"bytes": "computed", "homepage": "unknown"}, got)
	before, err := os.ReadFile(p.Join(project.FileName))
	require.NoError(t, err)
	for data, want := range map[string]string{"no value here\n": "no key and value", "{": "can't be read",
		"": "no values", "<a><b></a>": "can't be read"} {
		_, err := metadata.Import(p, g, "info", []byte(data), "")
		assert.ErrorContains(t, err, want, data)
		assert.Equal(t, fault.Usage, fault.KindOf(err))
	}
	_, err = metadata.Import(p, g, "info", []byte("a=b"), "nope.json")
	assert.ErrorContains(t, err, "no metadata file")
	_, err = metadata.Apply(p, []metadata.Taken{{To: "project.version", Value: "nonsense", State: metadata.TakenSet}})
	assert.ErrorContains(t, err, "vornix.toml would not be right any more")
	after, err := os.ReadFile(p.Join(project.FileName))
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

// Whatever is read never stops the program, and what is taken from it makes a project file that can be read.
func FuzzImport(f *testing.F) {
	for _, seed := range []string{`{"title":"a","crew":["x",{"y":1}],"n":1e999}`, "[a]\ntitle=x\n",
		"title: x\ncrew: [a, b]\n", "<a t='1'><title>x</title><title>y</title></a>", "title = '''\nx'''\n"} {
		for _, name := range []string{"a.json", "a.toml", "a.yaml", "a.xml", "a.ini", "a"} {
			f.Add(name, []byte(seed))
		}
	}
	dir, err := os.MkdirTemp("", "addon-fuzz")
	require.NoError(f, err)
	f.Cleanup(func() { os.RemoveAll(dir) })
	bare := []byte("[project]\nname = \"a\"\ntitle = \"x\"\nversion = \"0.0.1\"\nprofile = \"kestrel-post\"\n")
	require.NoError(f, os.WriteFile(filepath.Join(dir, project.FileName), bare, 0o666))
	p, err := project.Load(dir, demo.Profiles())
	require.NoError(f, err)
	g, err := assetgraph.ScanProject(context.Background(), p)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		list, err := metadata.Import(p, g, name, data, "")
		if err != nil {
			return
		}
		if _, err := metadata.Apply(p, list); err != nil {
			assert.ErrorContains(t, err, "would not be right any more")
		}
	})
}
