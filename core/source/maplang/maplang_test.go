package maplang_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/format/geom"
	"vornix/core/source/maplang"
	"vornix/core/source/scene"
)

const good = `map hut title="The \"Hut\"" players=2..8 modes=relay,dash
sky dawn sun=18,118 colour=#ffe2b8
solid deck box 0,0,0 24,16,0.5 material=wood/plank
  face top material=rock/slab scale=0.5 shift=0.25,-1 turn=15
  face all scale=2
light lamp point 1,2,3 colour=#FFD9a0 power=40
spawn blue_1 at=4,4,0.5 facing=90 team=blue
volume pit box -40,-40,-30 80,80,-8 effect=remove
camera postcard at=-6,-8,9 look=12,8,1 fov=60
item winch at=7,3,0.5 rank=2 note="over here"
sound hum at=1,2,3 file=station/hum volume=0.5 loop=yes
`

func TestEveryRecordHasItsMeaning(t *testing.T) {
	m, findings := maplang.Read("hut.vnx", []byte(good), maplang.Options{})
	require.Empty(t, findings)
	assert.Equal(t, `The "Hut"`, m.Title)
	assert.Equal(t, [2]int{2, 8}, m.Players)
	assert.Equal(t, []string{"relay", "dash"}, m.Modes)
	assert.Equal(t, scene.Colour{R: 0xff, G: 0xe2, B: 0xb8}, m.Sky.Colour)
	assert.Equal(t, 18.0, m.Sky.Elevation)
	assert.Equal(t, 118.0, m.Sky.Azimuth)
	require.Len(t, m.Solids, 1)
	deck := m.Solids[0]
	assert.Equal(t, geom.NewBox(geom.Vec{}, geom.Vec{X: 24, Y: 16, Z: 0.5}), deck.Box)
	require.Len(t, deck.Faces, 6)
	assert.Equal(t, scene.TextureMapping{Material: scene.Ref{Name: "wood/plank",
		Place: fault.Place{File: "hut.vnx", Line: 3, Column: 41}}, Scale: 2}, deck.Faces[0].TextureMapping,
		"a later face line overrides an earlier one")
	assert.Equal(t, scene.Light{Name: "lamp", Kind: "point", At: geom.Vec{X: 1, Y: 2, Z: 3}, Cone: 45,
		Colour: scene.Colour{R: 255, G: 217, B: 160}, Power: 40,
		Place: fault.Place{File: "hut.vnx", Line: 6, Column: 1}}, m.Lights[0])
	assert.Equal(t, "blue", m.Spawns[0].Team)
	assert.Equal(t, geom.Vec{X: 80, Y: 80, Z: -8}, m.Volumes[0].Box.Max)
	assert.Equal(t, 60.0, m.Cameras[0].FOV)
	assert.Equal(t, []scene.Pair{{Key: "rank", Value: "2", Place: fault.Place{File: "hut.vnx", Line: 10, Column: 28}},
		{Key: "note", Value: "over here", Place: fault.Place{File: "hut.vnx", Line: 10, Column: 35}}}, m.Items[0].Pairs)
	assert.Equal(t, "station/hum", m.Sounds[0].File.Name)
	assert.True(t, m.Sounds[0].Loop)
}

func TestGrids(t *testing.T) {
	m, findings := maplang.Read("g.vnx",
		[]byte("map g\nlegend # tile=rock/wall solid=yes\nlegend = tile=track/straight\nlegend .\ngrid low cells=4,2 level=-1\n  row ##.#\n  row #==# \n"), maplang.Options{})
	require.Empty(t, findings)
	require.Len(t, m.Grids, 1)
	assert.Equal(t, -1, m.Grids[0].Level)
	assert.Equal(t, "#==#", string(m.Grids[0].Rows[1].Symbols))
	assert.True(t, m.Legend[0].Solid)
	assert.Equal(t, '=', m.Legend[1].Symbol)
	assert.Equal(t, []string{"rock/wall", "track/straight"}, []string{m.Materials()[0].Name, m.Materials()[1].Name})
}

// Each wrong line gives one finding at its place; the text says what was expected, or Do what to do about it.
func TestMistakes(t *testing.T) {
	for _, c := range []struct {
		name, line string
		column     int
		text, do   string
	}{
		{"keyword", "solud deck box 0,0,0 1,1,1 material=a", 1, `"solud" is no keyword`, `Did you mean "solid"?`},
		{"shape", "solid deck bx 0,0,0 1,1,1 material=a", 12,
			`expected the shape: one of box, cylinder, extrude, hull, prism, wedge; found "bx"`, `Did you mean "box"?`},
		{"missing corner", "solid deck box 0,0,0 material=a", 22, "expected the opposite corner: three numbers",
			"For example: solid"},
		{"two numbers", "light l point 1,2 power=4", 15, "expected the place: three numbers", "It has 2 parts"},
		{"no number", "light l point 1,X,3 power=4", 15, "expected the place", `"X" is no number`},
		{"hex", "light l point 1,0x2,3 power=4", 15, "expected the place", `"0x2" is no number`},
		{"half a sum", "light l point 1,(2+3,3 power=4", 15, "expected the place", "closing parenthesis"},
		{"division by nothing", "light l point 1,2/0,3 power=4", 15, "expected the place", "divides by zero"},
		{"brace", "spawn s{i at=1,2,3", 7, "expected the name", "no }"},
		{"wedge", "solid a wedge 0,0,0 1,1,1 material=m", 37, "rise= is missing", "rise=east"},
		{"few points", "solid a hull 0,0,0 1,1,1 0,1,0 material=m", 32, "expected the corner", "hull"},
		{"pattern", "repeat a spiral count=3", 10, "expected the pattern: one of circle, grid, line", "repeat"},
		{"far away", "light l point 1,2e9,3 power=4", 15, "expected the place", "beyond 10000 km"},
		{"unknown setting", "spawn s att=1,2,3", 9, `"att" is no setting of spawn`, `Did you mean "at"?`},
		{"required", "spawn s facing=3", 17, "at= is missing: three numbers", "For example: spawn"},
		{"twice", "spawn s at=1,2,3 at=1,2,3", 18, "at= stands twice", "Keep one"},
		{"no value", "spawn s at=", 12, "there is no value after at=", "without spaces"},
		{"space before value", "spawn s at= 1,2,3", 12, "there is no value after at=", "without spaces"},
		{"stray word", "spawn s at=1,2,3 blue", 18, `expected key=value here; found "blue"`, "facing"},
		{"colour", "sky s sun=1,2 colour=red", 22, "expected a colour", "#ffe2b8"},
		{"range", "map two players=8..2", 17, "expected two whole numbers", "smaller number stands first"},
		{"open quote", `map two title="Two`, 15, "no closing quote", `Put a "`},
		{"capitals", "spawn Blue at=1,2,3", 7, "expected the name: a name of small letters", "For example: spawn"},
		{"outline", "solid a extrude 0,0,0 1,0,0 section=0,0;1,0 material=m", 37, "expected pairs of numbers", "3 to"},
		{"child at margin", "face top", 1, `"face" belongs under "solid"`, "Indent it"},
		{"control", "spawn s\x1b at=1,2,3", 8, "control character", "Remove"},
		{"flag", "sound s at=1,2,3 file=a loop=maybe", 30, `expected yes or no after loop=; found "maybe"`, ""},
		{"after tab", "\tspawn s at=1,2,3", 2, "nothing stands above it", "left margin"},
		{"wide letters", "spawn s at=1,2,3 tëam=blue", 18, `"tëam" is no setting`, `"team"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, findings := maplang.Parse("m.vnx", []byte(c.line+"\nmap m\n"))
			require.Len(t, findings, 1, "%v", findings)
			f := findings[0]
			assert.Equal(t, fault.Place{File: "m.vnx", Line: 1, Column: c.column}, f.Place)
			assert.Contains(t, f.Text, c.text)
			assert.Contains(t, f.Do, c.do)
			assert.Equal(t, c.line, f.Excerpt)
		})
	}
}

func TestAllMistakesOfAFileAtOnce(t *testing.T) {
	file, findings := maplang.Parse("m.vnx", []byte("map m\nsolud a\nspawn a at=1,2,3\nlight b\n  face top\nspawn c\n"))
	var lines []int
	for _, f := range findings {
		lines = append(lines, f.Place.Line)
	}
	assert.Equal(t, []int{2, 4, 6}, lines, "what stands under a wrong line is not blamed too")
	assert.Len(t, file.Records, 2, "lines that are right are understood")
}

func TestWhatDoesNotFit(t *testing.T) {
	for _, c := range []struct {
		id, source, text string
		line             int
	}{
		{"map.syntax", "spawn a at=1,2,3\n", "no map line", 1},
		{"map.duplicate-name", "map a\nmap b\n", "second map line", 2},
		{"map.duplicate-name", "map a\nspawn s at=1,2,3\nspawn s at=2,2,3\n", "another spawn s on line 2", 3},
		{"map.syntax", "map a\nsolid s box 0,0,0 1,1,0 material=a\n", "no volume", 2},
		{"map.syntax", "map a\nsolid s box 0,0,0 1,1,1 material=a\n  face top scale=0\n", "scale must be", 3},
		{"map.syntax", "map a\ngrid g cells=0,4\n", "cells must be", 2},
		{"map.syntax", "map a\ngrid g cells=90000,90000\n", "cells must be", 2},
		{"map.syntax", "map a\ngrid g cells=1.5,2\n", "cells must be", 2},
		{"grid.row", "map a\nlegend .\ngrid g cells=2,2\n  row ..\n", "has 1 rows", 3},
		{"grid.row", "map a\nlegend .\ngrid g cells=2,2\n  row ..\n  row ...\n", "row 2 of grid", 5},
		{"grid.symbol", "map a\nlegend .\ngrid g cells=3,1\n  row ..?\n", `no legend says what "?" is`, 4},
		{"reference.absolute", "map a\nsolid s box 0,0,0 1,1,1 material=/abs/wood\n", "absolute", 2},
		{"reference.ending", "map a\nsolid s box 0,0,0 1,1,1 material=wood/plank.png\n", "ending", 2},
		{"reference.form", "map a\nsolid s box 0,0,0 1,1,1 material=../../wood\n", "out of its folder", 2},
	} {
		m, findings := maplang.Read("a.vnx", []byte(c.source), maplang.Options{})
		require.NotEmpty(t, findings, c.source)
		assert.Nil(t, m)
		assert.Equal(t, c.id, findings[0].ID, c.source)
		assert.Equal(t, c.line, findings[0].Place.Line, c.source)
		assert.Contains(t, findings[0].Text, c.text)
	}
}

func TestHostileSourcesAreBounded(t *testing.T) {
	_, findings := maplang.Parse("a.vnx", []byte(strings.Repeat("x\n", 100000)))
	assert.LessOrEqual(t, len(findings), 101, "a file of mistakes ends in some of them")
	_, findings = maplang.Parse("a.vnx", []byte("\xff\xfe\x00map"))
	require.Len(t, findings, 1)
	assert.Contains(t, findings[0].Text, "not UTF-8")
	_, findings = maplang.Parse("a.vnx", make([]byte, 65<<20))
	require.Len(t, findings, 1)
	assert.Contains(t, findings[0].Do, "Split")
}

func TestPrintIsCanonical(t *testing.T) {
	rough := "\ufeff// head\r\nmap  m   modes=dash title=\"M\"   //  a map\r\n\r\n\r\n\r\n// about the deck\r\n" +
		"solid deck box 0.50,-0,1e1 2,3,11 material=wood/plank\r\n\tface top turn=15.0 scale=.5 // why\r\n\r\nitem winch rank=2 at=1,2,3 note=\"a b\"\r\n// end"
	want := `// head
map m title="M" modes=dash //  a map

// about the deck
solid deck box 0.5,0,10 2,3,11 material=wood/plank
  face top scale=0.5 turn=15 // why

item winch at=1,2,3 rank=2 note="a b"
// end
`
	file, findings := maplang.Parse("m.vnx", []byte(rough))
	require.Empty(t, findings)
	assert.Equal(t, want, string(maplang.Print(file)))
	again, findings := maplang.Parse("m.vnx", []byte(want))
	require.Empty(t, findings)
	assert.Equal(t, want, string(maplang.Print(again)))
}

// The demo's maps are written in the canonical form, and printing loses nothing of their meaning.
func TestDemoMapsAreCanonical(t *testing.T) {
	root := filepath.Join("..", "..", "..", "demo", "projects")
	found := 0
	require.NoError(t, filepath.WalkDir(root, func(p string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(p) != ".vnx" {
			return err
		}
		found++
		data, err := os.ReadFile(p)
		require.NoError(t, err)
		file, findings := maplang.Parse(p, data)
		require.Empty(t, findings)
		assert.Equal(t, string(data), string(maplang.Print(file)), p)
		return nil
	}))
	assert.GreaterOrEqual(t, found, 2)
}

// Any bytes end in a file or findings; what is understood prints to something that means the same and prints the same.
func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("map g\nlegend = tile=a\nlegend /\ngrid g cells=2,1\n  row =/ // x\n"))
	f.Add([]byte("item a at=1,2,3 k=\"\\\"\" b=// c=\"//\"\n//\n"))
	f.Add([]byte("solid d box 0,0,0 1e-7,1,1 material=\"a\"\n  face all //\n"))
	f.Add([]byte("map a\nconst h (2+3)*-4/2%3\nprefab p n=2 m=\"a/b\"\n  const k n*h\n  repeat r grid count=n,1,1 step=1,k,1\n    solid s_{i} cylinder x,0,0 radius=1 height=2 top=0 material={m}\nuse p at=0,0,h turn=30 mirror=x textures=move n=3\n"))
	f.Add([]byte("map a\nlayer l release=no\ngroup g at=1,2,3\n  solid s prism 0,0 4,0 4,4 2,1 0,4 height=2 material=a\n    face sides fit=yes luxels=4\n  solid e extrude 0,0,0 5,0,0 5,5,1 0,0,0 section=-1,0;1,0;0,1 material=a layer=l\nsolid h hull 0,0,0 1,0,0 0,1,0 0,0,1 material=a\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, findings := maplang.Parse("f.vnx", data)
		for _, x := range findings {
			if x.Place.Line < 0 || x.Severity != finding.Error || x.Text == "" {
				t.Fatalf("odd finding: %+v", x)
			}
		}
		maplang.Read("f.vnx", data, maplang.Options{})
		if len(findings) > 0 {
			return
		}
		once := maplang.Print(file)
		again, findings := maplang.Parse("f.vnx", once)
		if len(findings) > 0 {
			t.Fatalf("%q prints as %q, which has mistakes: %v", data, once, findings)
		}
		if twice := maplang.Print(again); string(twice) != string(once) {
			t.Fatalf("%q prints as %q and then as %q", data, once, twice)
		}
		if len(again.Records) != len(file.Records) {
			t.Fatalf("%q has %d records and printed %d", data, len(file.Records), len(again.Records))
		}
	})
}

// docs/formats/map-source.md shows every keyword by its example, and every example parses.
func TestTheDocumentedLanguageIsTheRealOne(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "formats", "map-source.md"))
	require.NoError(t, err)
	for owner, examples := range maplang.KeywordExamples() {
		for _, example := range examples {
			assert.True(t, strings.Contains(string(page), example), "the page does not show: %s", example)
			source := example + "\n"
			if owner != "" {
				source = fmt.Sprintf("%s\n  %s\n", owner, example)
			}
			_, findings := maplang.Parse("doc.vnx", []byte(source))
			assert.Empty(t, findings, source)
		}
	}
}

// The editor's grammar colours just the keywords and shapes that there are.
func TestTheEditorsGrammarKnowsTheLanguage(t *testing.T) {
	data, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "editor", "vnx.tmLanguage.json"))
	require.NoError(t, err)
	var grammar struct {
		ScopeName  string
		Repository map[string]struct{ Match string }
	}
	require.NoError(t, json.Unmarshal(data, &grammar))
	assert.Equal(t, "source.vnx", grammar.ScopeName)
	record := regexp.MustCompile(strings.ReplaceAll(strings.ReplaceAll(grammar.Repository["record"].Match,
		`(?=[ \t]|$)`, ""), `(?=[ \t])`, ""))
	for _, keyword := range maplang.Keywords() {
		if keyword != "row" {
			assert.Equal(t, keyword, record.FindStringSubmatch("  " + keyword + " name")[1])
		}
	}
	for _, examples := range maplang.KeywordExamples() {
		for _, e := range examples {
			words := strings.Fields(e)
			if words[0] == "solid" || words[0] == "repeat" {
				assert.Equal(t, words[2], record.FindStringSubmatch(e)[3], e)
			}
		}
	}
	listed := strings.Split(regexp.MustCompile(`\(area[a-z|]*\)`).FindString(grammar.Repository["record"].Match), "|")
	assert.Len(t, listed, len(maplang.Keywords())-1, "no keyword too many")
}
