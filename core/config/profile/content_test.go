package profile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/profile"
)

// What a text names is found line by line, with its column in characters; a spawn knows the map of its match.
func TestReferences(t *testing.T) {
	p, err := profile.Parse("g.toml", []byte(head+`
[[content]]
name = "start-file"
folder = "starts"
to = "data/starts"
match = ["*.cfg"]
refers = ['(?P<sound>[a-z/]+)\.snd', 'load (?P<map>\w+)(?: at (?P<spawn>\w+))?', 'then (?P<start_file>\S+)']
`))
	require.NoError(t, err)
	c := p.Content("start-file")
	require.NotNil(t, c)
	assert.Nil(t, p.Content("start"))
	assert.True(t, c.IsText())
	assert.True(t, c.Takes("a.cfg"))
	assert.False(t, c.Takes("deep/a.cfg"))
	assert.Equal(t, "data/starts/a.cfg", c.Path("a.cfg"))
	assert.Equal(t, []profile.Reference{
		{Kind: "sound", Name: "wind/one", Line: 1, Column: 3}, {Kind: "sound", Name: "two", Line: 1, Column: 16},
		{Kind: "map", Name: "station", Line: 2, Column: 6},
		{Kind: "spawn", Name: "blue", Map: "station", Line: 2, Column: 17},
		{Kind: "map", Name: "relay", Line: 3, Column: 6}, {Kind: "start-file", Name: "b.cfg", Line: 4, Column: 6},
	}, c.References("é wind/one.snd two.snd\nload station at blue\nload relay\nthen b.cfg"))
	plain, err := profile.Parse("g.toml", []byte(head+"[[content]]\nname = \"film\"\nfolder = \"films\"\n"))
	require.NoError(t, err)
	assert.False(t, plain.Contents[0].IsText())
	assert.True(t, plain.Contents[0].Takes("deep/er/a.webm"))
	assert.Equal(t, "films/a.webm", plain.Contents[0].Path("a.webm"))
	assert.Equal(t, []string{"sounds/a.wav"}, p.SoundPaths("a"))
}

// Each mistake in the new sections is said with its line.
func TestWrongContents(t *testing.T) {
	const content = "[[content]]\nname = 'script'\nfolder = 'scripts'\n"
	for lines, want := range map[string]string{
		"[[content]]\nname = 'Script'\nfolder = 's'\n": "small letters and hyphens",
		"[[content]]\nname = 'sound'\nfolder = 's'\n":  "no other's",
		content + content: "no other's",
		"[[content]]\nname = 'script'\nfolder = '../x'\n":  "inside the project",
		content + "match = ['[']\n":                        "no pattern",
		content + "form = 'yaml'\n":                        "none of text, json",
		content + "encoding = 'ebcdic'\n":                  "none of utf-8",
		content + "lines = 'cr'\n":                         "none of lf, crlf",
		content + "mark = 'maybe'\n":                       "none of yes, no",
		content + "with = 'notes.txt'\n":                   "must hold {map}",
		content + "required = true\n":                      "required needs with",
		content + "convert = true\n":                       "convert needs encoding",
		content + "refers = ['(']\n":                       "no regular expression",
		content + "refers = ['play (.*)']\n":               "no group with a name",
		content + "refers = ['(?P<music>x)']\n":            `"music" is none of`,
		content + "refers = ['at (?P<spawn>x)']\n":         "needs a group map too",
		"[sounds]\nforms = ['wma']\n":                      "none of wav",
		"[[sounds.rule]]\nmatch = '['\n":                   "no pattern",
		"[[sounds.rule]]\nloop = 'often'\n":                "none of must, never",
		"[pack]\nform = 'map'\nname = 'one.zip'\n":         "must hold {map}",
		"[pack]\nform = 'map-file'\nname = '{map}.zip'\n":  "must end in .vnm",
		"[pack]\nlargest = 5\nname = 'a.zip'\n":            "must hold {part}",
		"[pack]\nform = 'map-file'\nlargest = 5\n":         "can't be split",
		"[[pack.kind]]\nmatch = '**'\nalign = 3\n":         "a power of two",
		"[[pack.kind]]\nmatch = '**'\ncompress = 'lzma'\n": "none of deflate",
		"[[pack.kind]]\ncompress = 'store'\n":              "no pattern",
		"[[sweep]]\nmatch = '**'\nwhat = 'all'\n":          "one of everything",
		"[[sweep]]\nmatch = '*.x'\n":                       "what is missing",
		"[install]\nmarker = '../x'\n":                     "inside the game's folder",
		"[map.items.a]\nb = { type = 'script' }\n":         `"script" is none of`,
	} {
		_, err := profile.Parse("g.toml", []byte(head+lines))
		var failure *finding.Failure
		if assert.ErrorAs(t, err, &failure, lines) {
			assert.Contains(t, failure.Error(), want, lines)
			assert.Positive(t, failure.Findings[0].Place.Line, lines)
		}
	}
	_, err := profile.Parse("g.toml",
		[]byte(head+content+"[map.items.a]\nb = { type = 'script' }\n[pack]\nlargest = 500\n"))
	assert.NoError(t, err)
}
