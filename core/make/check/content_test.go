package check_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/audio"
	"vornix/core/format/zipfile"
	"vornix/core/make/assembly"
	"vornix/core/make/check"
	"vornix/internal/demotest"
)

// edited gives a project its game's profile with a line replaced.
func edited(t *testing.T, p *project.Project, old, now string) *project.Project {
	t.Helper()
	name := "profiles/" + p.Profile.Game.ID + ".toml"
	if _, err := os.Stat(p.Join(name)); err != nil {
		demotest.Put(t, p, name, p.Profile.Source)
	}
	demotest.Edit(t, p, name, old, now)
	return demotest.Load(t, p.Dir)
}

// with are the findings of an id.
func with(list []finding.Finding, id string) (found []finding.Finding) {
	for _, f := range list {
		if f.ID == id {
			found = append(found, f)
		}
	}
	return found
}

// What scripts, start files and companions name is held to what is there, with the line, and what
// they say to their form.
func TestContents(t *testing.T) {
	p := demotest.Project(t, "highline")
	for _, c := range []struct{ file, old, now, id, place, text, do string }{
		{"scripts/winch.txt", "play station/hum", "play station/hmu", "sound.missing", "scripts/winch.txt:3:8",
			`the sound "station/hmu"`, `"station/hum"`},
		{"scripts/winch.txt", "play station/hum", "play Station/hum", "", "", "", ""},
		{"scripts/winch.txt", "show lamp/amber", "show lamp/ambre", "material.missing", "scripts/winch.txt:4:8",
			`the material "lamp/ambre"`, `"lamp/amber"`},
		{"routes/north.json", `"cairn_station"`, `"cairn_staton"`, "map.missing", "routes/north.json:4:19",
			`the map "cairn_staton"`, `"cairn_station"`},
		{"routes/north.json", `"blue_1"`, `"blue_9"`, "spawn.missing", "routes/north.json:4:45", `no spawn "blue_9"`,
			`"blue_1"`},
		{"routes/north.json", `"start_1.blue" }`, `"start_1.blue" },`, "text.form", "routes/north.json:6:3",
			"no good JSON", ""},
		{"maps/cairn_station.vnx", "does=winch", "does=wynch", "file.missing", "maps/cairn_station.vnx:94:36",
			`the script "wynch"`, `"winch"`},
	} {
		before, err := os.ReadFile(p.Join(c.file))
		require.NoError(t, err)
		demotest.Edit(t, p, c.file, c.old, c.now)
		list := run(t, p)
		if c.id == "" {
			assert.Equal(t, 1, ids(list)["sound.missing"], "what the pattern does not take is none")
		} else if found := with(list, c.id); assert.NotEmpty(t, found, "%s: %v", c.now, ids(list)) {
			f := found[len(found)-1]
			assert.Equal(t, c.place, f.Place.String(), c.id)
			assert.Contains(t, f.Text, c.text)
			assert.Contains(t, f.Do, c.do)
		}
		demotest.Put(t, p, c.file, before)
	}
	// Encodings, marks and line ends: converted on the way where the profile says so, else said.
	demotest.Put(t, p, "scripts/winch.txt", []byte("\xef\xbb\xbfplay station/hum\r\n"))
	assert.NotContains(t, ids(run(t, p)), "text.style")
	q := edited(t, p, "convert = true\nrefers", "refers")
	found := with(run(t, q), "text.style")
	require.Len(t, found, 1)
	assert.Equal(t, "it begins with a byte-order mark, and 1 of its 1 lines end as on Windows (CR LF)", found[0].Text)
	demotest.Put(t, p, "scripts/winch.txt", []byte("play \xff\n"))
	found = with(run(t, p), "text.encoding")
	require.Len(t, found, 1)
	assert.Equal(t, "scripts/winch.txt:1:6", found[0].Place.String())

	// A companion that every map must have.
	s := edited(t, demotest.Project(t, "lower-sidings"), `with = "{map}.notice.txt"`,
		"with = \"{map}.notice.txt\"\nrequired = true")
	assert.Empty(t, run(t, s))
	require.NoError(t, os.Rename(s.Join("maps/tram_depot.notice.txt"), s.Join("maps/tram_dpot.notice.txt")))
	found = with(run(t, s), "file.missing")
	require.Len(t, found, 1)
	assert.Equal(t, "Is it maps/tram_dpot.notice.txt?", found[0].Do)
	s = edited(t, s, "windows-1252", "latin-1")
	require.NoError(t, os.Rename(s.Join("maps/tram_dpot.notice.txt"), s.Join("maps/tram_depot.notice.txt")))
	found = with(run(t, s), "text.encoding")
	require.Len(t, found, 1, "a dash that the encoding does not have")
	assert.Equal(t, "maps/tram_depot.notice.txt:2:17: '–' is not in latin-1",
		found[0].Place.String()+": "+found[0].Text)
}

// A text that names files by their paths in the game.
func TestPathsInTexts(t *testing.T) {
	p := edited(t, demotest.Project(t, "highline"), `refers = ['^\s*play`,
		`refers = ['^\s*open (?P<path>\S+)', '^\s*play`)
	for line, want := range map[string]string{
		"open textures/rock/slab.ktx2": "", "open ./textures/rock/slab.ktx2": "", `open textures\rock\slab.ktx2`: "",
		"open textures/base/any.ktx2":  "",
		"open textures/rock/Slab.ktx2": "reference.case", "open textures/rock/slap.ktx2": "file.missing",
		"open /etc/passwd": "file.missing",
	} {
		demotest.Put(t, p, "scripts/winch.txt", []byte(line+"\n"))
		got := ids(run(t, p))
		for _, id := range []string{"reference.case", "file.missing"} {
			assert.Equal(t, id == want, got[id] > 0, "%s: %v", line, got)
		}
	}
}

// Every rule for sounds, on what a file says of itself.
func TestSoundRules(t *testing.T) {
	p, err := profile.Parse("g.toml",
		[]byte("[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n[sounds]\nforms = ['wav', 'ogg']\n[[sounds.rule]]\nmatch = 'music/**'\nloop = 'must'\nclipping = true\n"+
			"[[sounds.rule]]\nrates = [22050, 44100]\nchannels = [1]\nbits = [16]\nlongest = 10\nloop = 'never'\nsilence = 0.5\n"))
	require.NoError(t, err)
	good := audio.Info{Form: audio.WAV, Rate: 22050, Channels: 1, Bits: 16, Samples: 22050, Heard: true}
	for want, change := range map[string]func(*audio.Info){
		"":                func(*audio.Info) {},
		"sound.form":      func(i *audio.Info) { i.Form = audio.FLAC },
		"sound.rate":      func(i *audio.Info) { i.Rate = 48000 },
		"sound.channels":  func(i *audio.Info) { i.Channels = 2 },
		"sound.bits":      func(i *audio.Info) { i.Bits = 24 },
		"sound.long":      func(i *audio.Info) { i.Samples = 22050 * 11 },
		"sound.loop":      func(i *audio.Info) { i.Loop = &[2]int64{0, 100} },
		"sound.clipped":   func(i *audio.Info) { i.Clipped = 3 },
		"sound.silence":   func(i *audio.Info) { i.SilentEnd = 22000 },
		"sound.silence 2": func(i *audio.Info) { i.SilentStart = 22000 },
	} {
		i := good
		change(&i)
		found := ids(check.Sound(p, "wind/gust", "sounds/wind/gust.wav", i))
		id := strings.TrimSuffix(want, " 2")
		delete(found, map[bool]string{true: "sound.form"}[id == "sound.form"])
		assert.Equal(t, id != "" && id != "sound.form", found[id] > 0, "%s: %v", want, found)
		assert.LessOrEqual(t, len(found), 1, want)
	}
	i := good
	i.Clipped, i.Loop = 5, &[2]int64{10, 99_999}
	found := check.Sound(p, "music/a", "sounds/music/a.wav", i)
	require.Len(t, found, 1, "clipping is meant there, but the loop reaches beyond the end")
	assert.Contains(t, found[0].Text, "repeats from sample 10 to 99999, and has 22050")
	i.Loop = nil
	assert.Contains(t, ids(check.Sound(p, "music/a", "sounds/music/a.wav", i)), "sound.loop")
	assert.Contains(t, ids(check.Sound(p, "x", "sounds/x.ogg", good)), "sound.form", "an ending that is another form's")

	q := demotest.Project(t, "highline")
	demotest.Put(t, q, "sounds/station/hum.wav", []byte("RIFF....WAVE"))
	assert.Contains(t, ids(run(t, q)), "sound.unreadable")
	demotest.Put(t, q, "sounds/station/bell.ogg", []byte("OggS"))
	got := ids(run(t, q))
	assert.Equal(t, 2, got["sound.unreadable"])
	assert.Zero(t, got["sound.missing"], "a sound of any form that the game reads is there")
}

// Twins, duplicates, and what must not ship, said before anything is built.
func TestOneOfEach(t *testing.T) {
	p := demotest.Project(t, "highline")
	data, err := os.ReadFile(p.Join("textures/rock/slab.png"))
	require.NoError(t, err)
	demotest.Put(t, p, "textures/wood/plank.png", data)
	found := with(run(t, p), "file.duplicate")
	require.Len(t, found, 1)
	assert.Contains(t, found[0].Text, "same content as textures/")
	demotest.Put(t, p, "notes/a\u0308.txt", []byte("1"))
	demotest.Put(t, p, "notes/\u00c4.txt", []byte("2"))
	assert.Len(t, with(run(t, p), "path.twin"), 1)

	demotest.Edit(t, p, "vornix.toml", "[addon]", "[pack]\ninclude = [\"notes/**\"]\n\n[addon]")
	demotest.Put(t, p, "notes/plan.txt", []byte("see\n/home/mirella/x\n"))
	demotest.Put(t, p, "notes/wall.psd", []byte("layers"))
	p = demotest.Load(t, p.Dir)
	list := run(t, p)
	require.Len(t, with(list, "guard.home"), 1)
	assert.Equal(t, "notes/plan.txt:2", with(list, "guard.home")[0].Place.String())
	assert.Contains(t, with(list, "guard.source")[0].Do, `file = "notes/wall.psd", allow = ["source"]`)
	demotest.Edit(t, p, "vornix.toml", "[addon]",
		"[[pack.exception]]\nfile = \"notes/*\"\nallow = [\"home\", \"source\"]\nreason = \"made up\"\n\n[addon]")
	got := ids(run(t, demotest.Load(t, p.Dir)))
	assert.Zero(t, got["guard.home"]+got["guard.source"])
}

// pack puts files behind a compiled map.
func pack(t *testing.T, lead []byte, files map[string][]byte) []byte {
	t.Helper()
	b := bytes.NewBuffer(bytes.Clone(lead))
	start := b.Len()
	var central []byte
	for name, data := range files { // a stored entry, by hand
		at := b.Len()
		head := binary.LittleEndian.AppendUint32(nil, 0x04034b50)
		rest := []byte{20, 0, 0, 0, 0, 0, 0, 0, 0x21, 0}
		rest = binary.LittleEndian.AppendUint32(rest, crc32.ChecksumIEEE(data))
		rest = binary.LittleEndian.AppendUint32(rest, uint32(len(data)))
		rest = binary.LittleEndian.AppendUint32(rest, uint32(len(data)))
		rest = binary.LittleEndian.AppendUint16(rest, uint16(len(name)))
		rest = append(rest, 0, 0)
		b.Write(head)
		b.Write(rest)
		b.WriteString(name)
		b.Write(data)
		central = binary.LittleEndian.AppendUint32(central, 0x02014b50)
		central = append(append(central, 20, 0), rest...)
		central = append(central, make([]byte, 10)...)
		central = binary.LittleEndian.AppendUint32(central, uint32(at))
		central = append(central, name...)
	}
	dir := b.Len()
	b.Write(central)
	end := binary.LittleEndian.AppendUint32(nil, 0x06054b50)
	end = append(end, 0, 0, 0, 0, byte(len(files)), 0, byte(len(files)), 0)
	end = binary.LittleEndian.AppendUint32(end, uint32(len(central)))
	end = binary.LittleEndian.AppendUint32(end, uint32(dir))
	b.Write(append(end, 0, 0))
	_, err := zipfile.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.Positive(t, start)
	return b.Bytes()
}

// An override of a file of the installed game says which maps it changes, the project's and the
// game's, and which have their own.
func TestOverrides(t *testing.T) {
	p := demotest.Built(t, "highline")
	_, err := assembly.Run(t.Context(), p, assembly.Options{Program: "test", Stages: assembly.Stages{Only: []string{}}})
	require.NoError(t, err)
	game := t.TempDir()
	put := func(rel string, data []byte) {
		t.Helper()
		name := filepath.Join(game, filepath.FromSlash(rel))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o777))
		require.NoError(t, os.WriteFile(name, data, 0o666))
	}
	read := func(rel string) []byte {
		data, err := os.ReadFile(p.Join("out/tree/" + rel))
		require.NoError(t, err)
		return data
	}
	// The game has two maps of its own that show the same plank; one carries it.
	put("textures/wood/plank.ktx2", read("textures/wood/plank.ktx2"))
	put("materials/wood/plank.toml", read("materials/wood/plank.toml"))
	put("maps/cairn_station.vnm", read("maps/cairn_station.vnm"))
	put("maps/saltpan_relay.vnm",
		pack(t, read("maps/saltpan_relay.vnm"), map[string][]byte{"textures/wood/plank.ktx2": []byte("x")}))
	p = edited(t, p, `own = ["materials/base/**"`,
		`own_folder = "`+filepath.ToSlash(game)+"\"\nown = [\"materials/base/**\"")
	found := with(run(t, p), "file.overrides")
	texts := map[string]string{}
	for _, f := range found {
		texts[f.Place.File] = f.Text
	}
	assert.Equal(t, "textures/wood/plank.ktx2 replaces the game's own file; it changes saltpan_relay, cairn_station, cairn_station (the game's); it does not change saltpan_relay, which have their own", reorder(texts["textures/wood/plank.png"]))
	assert.Contains(t, texts, "materials/wood/plank.toml")
	assert.Contains(t, texts, "maps/cairn_station.vnx")
	assert.NotContains(t, texts, "textures/rock/slab.png")
	require.NoError(t, os.RemoveAll(game))
	_, err = project.Load(p.Dir, os.DirFS(t.TempDir()))
	assert.ErrorContains(t, err, "the game's folder")
}

// reorder makes the order of the project's maps, which is that of their mention, the same for all.
func reorder(s string) string {
	return strings.Replace(s, "it changes cairn_station, saltpan_relay,", "it changes saltpan_relay, cairn_station,", 1)
}
