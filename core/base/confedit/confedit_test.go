package confedit

import (
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// settings are one text a form, with comments and an order of their own.
var settings = map[string]string{
	"ini":  "; of the player\nname = Kit\n\n[sound]\nvolume = 5   \n# louder than that hurts\nmusic=3\n\n[screen]\nwide = yes\n",
	"json": "{\n  \"name\": \"Kit\",\n  \"sound\": {\"volume\": 5, \"music\": 3},\n  \"mods\": [\"a\", \"b\"],\n  \"keys\": [{\"up\": \"w\"}, {\"up\": \"e\"}],\n  \"none\": {}\n}\n",
	"toml": "# of the player\nname = \"Kit\"\n\n[sound] # loud\nvolume = 5 # of 9\nmusic = 3\n\n[screen]\nwide = true\n\n[[keys]]\nup = \"w\"\n\n[[keys]]\nup = \"e\"\n",
	"xml":  "<?xml version=\"1.0\"?>\n<!-- of the player -->\n<settings name=\"Kit\">\n  <sound volume=\"5\">\n    <music>3</music>\n  </sound>\n  <mod>a</mod>\n  <mod>b</mod>\n  <wide/>\n</settings>\n",
}

func TestKeysAreSetWhereTheyStand(t *testing.T) {
	for _, c := range []struct{ form, key, value, old, want string }{
		{"ini", "sound.volume", "7", "volume = 5   ", "volume = 7   "},
		{"ini", "sound.echo", "on", "music=3\n", "music=3\necho = on\n"},
		{"ini", "name", "Lin", "name = Kit", "name = Lin"},
		{"ini", "net.port", "80", "wide = yes\n", "wide = yes\n\n[net]\nport = 80\n"},
		{"json", "sound.music", "9", `"music": 3`, `"music": 9`},
		{"json", "sound.echo", "true", `"music": 3`, `"music": 3, "echo": true`},
		{"json", "keys.1.up", `"s"`, `{"up": "e"}`, `{"up": "s"}`},
		{"json", "none.x", "1", `"none": {}`, `"none": {"x": 1}`},
		{"json", "net.port", "80", "\"none\": {}", "\"none\": {},\n  \"net\": {\"port\": 80}"},
		{"toml", "sound.volume", "7", "volume = 5 # of 9", "volume = 7 # of 9"},
		{"toml", "sound.echo", "true", "music = 3\n", "music = 3\necho = true\n"},
		{"toml", "keys.1.up", `"s"`, `up = "e"`, `up = "s"`},
		{"toml", "age", "12", "name = \"Kit\"\n", "name = \"Kit\"\nage = 12\n"},
		{"toml", "net.port", "80", "up = \"e\"\n", "up = \"e\"\n\n[net]\nport = 80\n"},
		{"xml", "settings.@name", "Lin", `name="Kit"`, `name="Lin"`},
		{"xml", "settings.sound.music", "4", "<music>3<", "<music>4<"},
		{"xml", "settings.mod[2]", "c", "<mod>b<", "<mod>c<"},
		{"xml", "settings.sound.@echo", "on", `volume="5">`, `volume="5" echo="on">`},
		{"xml", "settings.sound.echo", "on", "<music>3</music>", "<music>3</music>\n    <echo>on</echo>"},
		{"xml", "settings.wide", "yes", "<wide/>", "<wide>yes</wide>"},
	} {
		text := settings[c.form]
		p, err := ParsePath(c.key)
		require.NoError(t, err)
		assert.Equal(t, c.key, Name(p))
		require.Equal(t, 1, strings.Count(text, c.old), c.old)
		got, err := Set(c.form, text, p, c.value)
		require.NoError(t, err, c.key)
		assert.Equal(t, strings.Replace(text, c.old, c.want, 1), got, "%s %s", c.form, c.key)
		again, err := Set(c.form, got, p, c.value)
		require.NoError(t, err)
		assert.Equal(t, got, again)
		windows, err := Set(c.form, strings.ReplaceAll(text, "\n", "\r\n"), p, c.value)
		require.NoError(t, err)
		assert.Equal(t, strings.ReplaceAll(got, "\n", "\r\n"), windows, "%s %s with Windows' line ends", c.form, c.key)
		parses(t, c.form, got)
	}
}

// parses holds a text to a reader that is not ours.
func parses(t *testing.T, form, text string) {
	t.Helper()
	var v map[string]any
	switch form {
	case "json":
		require.NoError(t, json.Unmarshal([]byte(text), &v), text)
	case "toml":
		require.NoError(t, toml.Unmarshal([]byte(text), &v), text)
	case "xml":
		var e struct {
			Inner string `xml:",innerxml"`
		}
		require.NoError(t, xml.Unmarshal([]byte(text), &e), text)
	}
}

// Taking every key away, one after the other, leaves a text that still reads; setting it again brings its value back.
func TestKeysGoAndComeBack(t *testing.T) {
	for form, text := range settings {
		list, err := Keys(form, text)
		require.NoError(t, err)
		require.GreaterOrEqual(t, len(list), 4)
		for _, k := range list {
			assert.Equal(t, k.Value, text[k.start:k.end])
			gone, err := Remove(form, text, k.Path)
			require.NoError(t, err)
			parses(t, form, gone)
			// what is one of several changes its number
			if form != "xml" && k.Path[0] != "keys" && k.Path[0] != "mods" {
				back, err := Set(form, gone, k.Path, k.Value)
				require.NoError(t, err, "%s %v", form, k.Path)
				value, ok, err := Get(form, back, k.Path)
				require.NoError(t, err)
				assert.True(t, ok)
				assert.Equal(t, k.Value, value)
			}
		}
		all := text
		for i := len(list) - 1; i >= 0; i-- {
			if all, err = Remove(form, all, list[i].Path); err != nil {
				break
			}
		}
		require.NoError(t, err)
		parses(t, form, all)
	}
}

// What changed between two versions of settings is made in those of a player, who changed others;
// where both changed one, it is said.
func TestKeysOfAPlayer(t *testing.T) {
	for form, c := range map[string]struct{ old, now string }{
		"ini": {"volume = 5", "volume = 6"}, "json": {`"volume": 5`, `"volume": 6`},
		"toml": {"volume = 5", "volume = 6"}, "xml": {`volume="5"`, `volume="6"`},
	} {
		base := settings[form]
		list, ok := KeyChanges(form, base, strings.Replace(base, c.old, c.now, 1))
		require.True(t, ok, form)
		require.Len(t, list, 1)
		player := strings.Replace(base, "Kit", "Lin", 1)
		got, conflicts, err := ChangeKeys(form, player, list)
		require.NoError(t, err)
		assert.Empty(t, conflicts)
		assert.Equal(t, strings.Replace(player, c.old, c.now, 1), got)
		player = strings.Replace(base, c.old, strings.Replace(c.old, "5", "1", 1), 1)
		got, conflicts, err = ChangeKeys(form, player, list)
		require.NoError(t, err)
		assert.Equal(t, player, got)
		require.Len(t, conflicts, 1)
		assert.Equal(t, []string{"5", "1", "6"}, []string{conflicts[0].Base, conflicts[0].Ours, conflicts[0].Theirs})
		assert.NotZero(t, conflicts[0].Line)
	}
	_, ok := KeyChanges("json", "{}", "[]")
	assert.False(t, ok)
}

func FuzzKeys(f *testing.F) {
	for form, text := range settings {
		f.Add(form, text, "sound.volume", "7")
	}
	f.Fuzz(func(t *testing.T, form, text, key, value string) {
		p, err := ParsePath(key)
		if err != nil {
			return
		}
		if got, err := Set(form, text, p, value); err == nil {
			v, ok, err := Get(form, got, p)
			if err != nil || !ok || v != value {
				t.Fatalf("set, and not there: %q", got)
			}
		}
		_, _ = Remove(form, text, p)
	})
}
