package profile_test

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/demo"
)

const head = "[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n"

func TestBuiltInProfilesDifferInWhatAProfileCanState(t *testing.T) {
	read := func(name string) *profile.Profile {
		data, err := fs.ReadFile(demo.Profiles(), name+".toml")
		require.NoError(t, err)
		p, err := profile.Parse(name, data)
		require.NoError(t, err)
		return p
	}
	a, b := read("kestrel-post"), read("burrow-tramways")
	assert.NotEqual(t, a.Game.Form, b.Game.Form)
	assert.NotEqual(t, a.Pack.Form, b.Pack.Form)
	assert.NotEqual(t, a.Textures.Container, b.Textures.Container)
	assert.NotEqual(t, a.Textures.PowerOfTwo, b.Textures.PowerOfTwo)
	assert.NotEqual(t, a.Files.Maps, b.Files.Maps)
	assert.NotEqual(t, a.Map.RemovalVolume, b.Map.RemovalVolume)
	assert.NotEqual(t, a.Addon.Files[0].Form, b.Addon.Files[0].Form)
}

func TestDefaults(t *testing.T) {
	p, err := profile.Parse("g.toml", []byte(head))
	require.NoError(t, err)
	assert.Equal(t, []string{"maps/a.vnm", "materials/x/y.toml", "textures/x/y.ktx2", "sounds/s.wav"},
		[]string{p.MapPath("a"), p.MaterialPath("x/y"), p.TexturePath("x/y"), p.SoundPath("s", "wav")})
	assert.Equal(t, "{name}-{version}.zip", p.Pack.Name)
}

func TestWrongProfiles(t *testing.T) {
	for text, say := range map[string]string{
		strings.Replace(head, "solids", "voxels",
			1): `"voxels" is none of solids, tiles`,
		strings.Replace(head, "'g'", "'Big Game'",
			1): "small letters",
		head + "[files]\ncase = 'upper'\n":                                                                                                      `"upper"`,
		head + "[files]\ncharacters = 'z-a'\n":                                                                                                  "no class of characters",
		head + "[textures]\ncontainer = 'bmp'\n":                                                                                                `"bmp"`,
		head + "[textures]\nformats = ['bc1', 'jpg']\n":                                                                                         `"jpg"`,
		head + "[textures]\ncontainer = 'dds'\nzstd = true\n":                                                                                   "only KTX2 files can be packed with zstd",
		head + "[textures]\ncontainer = 'dds'\nheader = 'plain'\nformats = ['bc7']\n":                                                           "can't hold bc7",
		head + "[textures]\ngreen = 'left'\n":                                                                                                   `"left"`,
		head + "[files]\nown = ['[a']\n":                                                                                                        "no pattern",
		head + "[materials]\nsurfaces = ['wood']\n[materials.footing.ice]\nfriction = 0.1\n":                                                    `"ice" is none of wood`,
		head + "[pack]\nform = 'map-file'\nname = 'all.vnm'\n":                                                                                  "{map}",
		head + "[workshop]\neach = 'map'\n":                                                                                                     `"map"`,
		head + "[workshop]\npictures = ['page']\n":                                                                                              `no [[picture]] "page" with place = "beside"`,
		head + "[[picture]]\nname = 'page'\nfile = '{map}.png'\nwidth = 8\nheight = 8\n[workshop]\npictures = ['page']\n":                       `no [[picture]] "page" with place = "beside"`,
		head + "[pack]\ncompress = 'brotli'\n":                                                                                                  `"brotli"`,
		head + "[[addon.field]]\nname = 'a'\ntype = 'date'\n":                                                                                   `"date"`,
		head + "[[addon.field]]\nname = 'a'\ntype = 'text'\nfrom = 'moon'\n":                                                                    `"moon"`,
		head + "[[addon.file]]\npath = 'a.json'\nform = 'json'\neach = 'map'\n":                                                                 "{map}",
		head + "[server]\nmaps = 'list.txt'\n":                                                                                                  "none of the [[server.list]] files",
		head + "[map]\nname_form = '['\n":                                                                                                       "no regular expression",
		head + "[map.items.winch]\nrank = { type = 'wohle' }\n":                                                                                 `"wohle" is none of text, number, whole`,
		head + "[map.items.winch]\nrank = { tpye = 'whole' }\n":                                                                                 `"tpye"`,
		head + "[models]\ntriangles = 'many'\n":                                                                                                 "",
		head + "[srever]\n":                                                                                                                     `"srever"`,
		head + "[map]\nlimits = { winch = 'six' }\n":                                                                                            "",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\nliens = 'x'\n":                                                                     `"liens"`,
		"[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n\n[[addon.file]]\npath = 'a'\nform = 'yml'\n":                                          `"yml"`,
		head + "[[addon.field]]\nname = 'a'\ntype = 'text'\nfrom = 'modes'\n[[addon.field]]\nname = 'a'\ntype = 'text'\n":                       "its own",
		head + "[[addon.field]]\nname = 'a'\ntype = 'text'\nfrom = 'size'\n":                                                                    "size is a number",
		head + "[[addon.field]]\nname = 'a'\ntype = 'text'\npattern = '('\n":                                                                    "no regular expression",
		head + "[[addon.field]]\nname = 'a'\ntype = 'flag'\nfrom = 'content'\n":                                                                 "needs it",
		head + "[[addon.field]]\nname = 'a'\ntype = 'picture'\npicture = 'moon'\n":                                                              `"moon"`,
		head + "[[addon.file]]\npath = 'a'\nform = 'text'\n":                                                                                    "needs a template",
		head + "[[addon.file]]\npath = 'a'\nform = 'text'\ntemplate = '{{if}}'\n":                                                               "template is wrong",
		head + "[[addon.file]]\npath = 'a'\nform = 'xml'\nlines = 'cr'\n":                                                                       `"cr"`,
		head + "[[addon.field]]\nname = 'tilte'\ntype = 'text'\n[[addon.file]]\npath = 'a'\nform = 'xml'\nstructure = { x = '{title}' }\n":      "did you mean {tilte}",
		head + "[[addon.file]]\npath = 'a'\nform = 'xml'\nstructure = { 'a b' = 1 }\n":                                                          `"a b" can't be a name in XML`,
		head + "[[addon.file]]\npath = 'a'\nform = 'ini'\nroot = 'a]b'\n":                                                                       `can't be a name in INI`,
		head + "[[addon.file]]\npath = 'a'\nform = 'xml'\nstructure = { x = { for_each = 'moon' } }\n":                                          "for_each must be",
		head + "[[addon.file]]\npath = 'a'\nform = 'xml'\nplace = 'inside'\nstructure = { x = { for_each = 'bundle', a = '{bundle.size}' } }\n": "can't stand inside it",
		head + "[[addon.file]]\npath = 'a'\nform = 'xml'\nstructure = { x = '{map.name}' }\n":                                                   "nothing is called {map.name} here",
		head + "[[index.text]]\nfile = 'a'\n":                                                                                                   "either a line or a template",
		head + "[[index.text]]\nfile = 'a'\nline = '{mpa}'\n":                                                                                   "did you mean {map}",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\nescape = 'shell'\n":                                                                `"shell"`,
		head + "[[server.list]]\nfile = 'a'\nline = '{title}'\n":                                                                                "name its map by",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\nform = 'setting'\naround = 'x'\n":                                                  "{entries} once",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\nkey = 'x'\n":                                                                       "form = \"json\"",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\norder = 'after'\n":                                                                 "belong together",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\norder = 'random'\n":                                                                "\"random\"",
		head + "[[server.list]]\nfile = '../a'\nline = '{map}'\n":                                                                               "..",
		head + "[[server.list]]\nfile = 'a'\nline = '{map}'\n[server.call]\ntouch = 'a'\n":                                                      "written by something else",
		head + "[server.call]\nstatus = 'status'\n":                                                                                             "begin with /",
		head + "[[server.companion]]\nfrom = '/etc/passwd'\nto = 'x'\n":                                                                         "/etc/passwd",
		head + "[[server.companion]]\nfrom = 'x'\nto = '../{map}'\n":                                                                            "..",
		head + "[server.welcome]\nfile = 'a.html'\n":                                                                                            "belong together",
		head + "[server.welcome]\nfile = 'a.html'\ntemplate = '{{.x'\n":                                                                         "unclosed action",
		head + "[server.welcome]\nfile = 'a.html'\ntemplate = 'x'\npicture = 'y'\n":                                                             "of no [[server.companion]]",
		head + "[server.mirror]\ncompress = ['rar']\n":                                                                                          "\"rar\"",
		head + "version = '1.x'\n":                                                                                                              "numbers with points",
	} {
		_, err := profile.Parse("g.toml", []byte(text))
		var f *finding.Failure
		require.ErrorAs(t, err, &f, text)
		assert.Contains(t, f.Findings[0].Text, say)
		assert.Positive(t, f.Findings[0].Place.Line, text)
	}
}

// What a picture can't be is said with its line, and all of it at once.
func TestWrongPictures(t *testing.T) {
	const one = "[[picture]]\nname = 'a'\nwidth = 8\nheight = 8\n"
	for text, say := range map[string]string{
		one + "file = 'a.png'\n":                "a picture for every map needs {map}",
		one + "file = '{map}.png'\ncount = 3\n": "several pictures need {n}",
		"[[picture]]\nname = 'a'\nfile = '{map}.png'\nvariants = { b = { width = 8, height = 8 } }\n": "variants need {variant}",
		"[[picture]]\nname = 'a'\nfile = '{map}.png'\n":                                               "1 to 16384 pixels a side, and this 0 x 0",
		one + "file = '{map}.png'\nvariants = { b = { width = 8, height = 8 } }\n":                    "variants need {variant}",
		"[[picture]]\nname = 'a'\nwidth = 9000\nheight = 9000\nfile = '{map}.png'\n":                  "at most 40 million pixels",
		one + "file = '{map}.png'\nform = 'gif'\n":                                                    `"gif" is none of png, jpeg, texture`,
		one + "file = '{map}{n}.png'\ncount = 2\nleast = 3\n":                                         "at least 3 of at most 2",
		one + "file = '{map}.jpg'\nform = 'jpeg'\nquality = 40\n":                                     "the least quality 50 is above the best, 40",
		one + "file = '{map}.jpg'\nform = 'jpeg'\nalpha = true\n":                                     "a JPEG has no alpha",
		one + "file = '{map}'\nform = 'texture'\nplace = 'beside'\n":                                  "a texture is for the game",
		one + "file = '../{map}.png'\n":                                                               "no path with forward slashes",
		one + "file = '{map}.png'\nmips = true\n":                                                     "mips is for pictures with form = \"texture\"",
		one + "file = '{map}'\nform = 'texture'\nformat = 'bc7'\n":                                    `"bc7" is none of the formats under [textures]`,
		one + "file = '{map}'\nform = 'texture'\nmaterial = 'm'\n":                                    "needs {map} in the material's name",
		one + "file = '{map}.png'\nimage = 'a.png'\n":                                                 "a game does not know what files a project has",
		one + "file = '{map}.png'\nblur = -1\n":                                                       "blur must lie between 0 and 500, and is -1",
		one + "file = '{map}.png'\nmultiply = 'red'\n":                                                `multiply must be a colour such as #ffe2b8, and is "red"`,
		one + "file = '{map}.png'\n" + one +
			"file = '{map}2.png'\n": `there is another picture "a"`,
		strings.Replace(one, "8", "12", 1) +
			"file = '{map}'\nform = 'texture'\n[textures]\npower_of_two = true\n": "12 x 8 breaks the rule for sizes",
	} {
		_, err := profile.Parse("g.toml", []byte(head+text))
		var f *finding.Failure
		require.ErrorAs(t, err, &f, text)
		assert.Contains(t, f.Findings[0].Text, say)
		assert.GreaterOrEqual(t, f.Findings[0].Place.Line, 5, text)
	}
}

func TestPathRules(t *testing.T) {
	p, err := profile.Parse("g.toml", []byte(head+"[files]\ncase = 'lower'\ncharacters = 'a-z0-9_/.'\nlongest = 20\n"))
	require.NoError(t, err)
	for path, want := range map[string]string{
		"maps/a.vnm":                   "",
		"maps/A.vnm":                   "path.case",
		"maps/a b.vnm":                 "path.characters",
		"maps/a-b.vnm":                 "path.characters",
		"maps/a_long_long_name.vnm":    "path.long",
		"maps/ä.vnm":                   "path.characters",
		"textures/twentylong.ktx2":     "path.long",
		"textures/" + "abcdef" + ".kt": "",
	} {
		ids := ""
		for _, f := range p.CheckPath("source", path) {
			ids += f.ID
		}
		assert.Equal(t, want, ids, path)
	}
}

func TestFill(t *testing.T) {
	assert.Equal(t, "a-1.0.0-{who}",
		profile.Fill("{name}-{version}-{who}", map[string]string{"name": "a", "version": "1.0.0"}))
	assert.Equal(t, "{version}", profile.Fill("{name}", map[string]string{"name": "{version}", "version": "x"}),
		"a value is not filled again")
}

// The game's own files: by pattern, and from a list beside the profile, which takes part in what the profile is.
func TestOwnFiles(t *testing.T) {
	p, err := profile.Parse("g.toml", []byte(head+"[files]\nown = ['textures/base/**']\nown_list = 'own.txt'\n"))
	require.NoError(t, err)
	before := string(p.Source)
	require.NoError(t, p.ReadOwn(func(name string) ([]byte, error) {
		assert.Equal(t, "own.txt", name)
		return []byte("# theirs\r\nsounds/wind.wav\r\n\r\n"), nil
	}, nil))
	assert.NotEqual(t, before, string(p.Source))
	for path, own := range map[string]bool{"textures/base/a/b.ktx2": true, "textures/bass/b.ktx2": false,
		"sounds/wind.wav": true, "sounds/Wind.wav": false, "# theirs": false, "": false} {
		assert.Equal(t, own, p.HasOwn(path), path)
	}
	err = p.ReadOwn(func(string) ([]byte, error) { return nil, fs.ErrNotExist }, nil)
	var f *finding.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, 7, f.Findings[0].Place.Line)
}
