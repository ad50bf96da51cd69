package textedit

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// lines is a text of lines of which some are alike.
func lines(r *rand.Rand, n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "line %d of %d\n", r.IntN(8), i/4)
	}
	return b.String()
}

// changed changes some lines, and sometimes takes the last line end away.
func changed(r *rand.Rand, text string, edits int) string {
	list := split(text)
	for range edits {
		at := r.IntN(len(list) + 1)
		switch r.IntN(3) {
		case 0:
			list = slices.Insert(list, at, fmt.Sprintf("new %d\n", r.IntN(99)))
		case 1:
			if at < len(list) {
				list = slices.Delete(list, at, min(len(list), at+1+r.IntN(3)))
			}
		case 2:
			if at < len(list) {
				list[at] = fmt.Sprintf("other %d\n", r.IntN(99))
			}
		}
	}
	out := strings.Join(list, "")
	if r.IntN(4) == 0 {
		out = strings.TrimSuffix(out, "\n")
	}
	return out
}

// Differences written by us are applied by patch, and those of diff by us; both come to the same text.
func TestDiffsGoBothWays(t *testing.T) {
	diff, patch := peer.Need(t, "diff"), peer.Need(t, "patch")
	r := rand.New(rand.NewPCG(1, 8))
	dir := t.TempDir()
	for round := range 60 {
		old := lines(r, r.IntN(60))
		now := changed(r, old, r.IntN(12))
		ours := Unified("settings", "settings", old, now)
		got, err := Apply(old, ours)
		require.NoError(t, err)
		require.Equal(t, now, got, "round %d\n%s", round, ours)
		oldFile, newFile := filepath.Join(dir, "old"), filepath.Join(dir, "new")
		require.NoError(t, os.WriteFile(oldFile, []byte(old), 0o600))
		require.NoError(t, os.WriteFile(newFile, []byte(now), 0o600))
		theirs, err := exec.Command(diff, "-u", oldFile, newFile).Output()
		var exit *exec.ExitError
		require.True(t, err == nil || errors.As(err, &exit) && exit.ExitCode() == 1)
		got, err = Apply(old, string(theirs))
		require.NoError(t, err, string(theirs))
		require.Equal(t, now, got, "round %d\n%s", round, theirs)
		if ours == "" {
			continue
		}
		cmd := exec.Command(patch, "-s", "-o", filepath.Join(dir, "out"), oldFile)
		cmd.Stdin = strings.NewReader(ours)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s\n%s", out, ours)
		made, err := os.ReadFile(filepath.Join(dir, "out"))
		require.NoError(t, err)
		require.Equal(t, now, string(made), "round %d\n%s", round, ours)
	}
}

// A change finds its lines where others were added before; where they are gone it says so, and where most of them are.
func TestChangesFindTheirPlace(t *testing.T) {
	old := "# sound\nvolume 5\nmusic 3\n# screen\nwide yes\nbright 2\n# end\n"
	diff := Unified("a", "b", old, strings.Replace(old, "bright 2", "bright 4", 1))
	got, err := Apply("# a note of the player's\n# and another\n"+old, diff)
	require.NoError(t, err)
	assert.Equal(t, "# a note of the player's\n# and another\n"+strings.Replace(old, "bright 2", "bright 4", 1), got)
	_, err = Apply(strings.Replace(old, "wide yes", "wide no", 1), diff)
	var fit *FitError
	require.ErrorAs(t, err, &fit)
	assert.Equal(t, 3, fit.Line)
	assert.Equal(t, 3, fit.Nearest)
	for _, bad := range []string{"@@ -1 +1 @@\n", "@@ -1,x +1 @@\n-a\n+b\n", "@@ -1 +1 @@\n*a\n", "@@ -1,2 +1 @@\n-a\n+b\n"} {
		_, err := Apply("a\n", bad)
		assert.Error(t, err, bad)
	}
}

// Merging agrees with git wherever git sees no conflict, and never loses a side.
func TestMerge(t *testing.T) {
	git := peer.Need(t, "git")
	r := rand.New(rand.NewPCG(4, 2))
	dir := t.TempDir()
	clean := 0
	for range 120 {
		base := lines(r, 5+r.IntN(40))
		ours, theirs := changed(r, base, r.IntN(4)), changed(r, base, r.IntN(4))
		got, conflicts := Merge(base, ours, theirs)
		names := []string{"ours", "base", "theirs"}
		for i, text := range []string{ours, base, theirs} {
			require.NoError(t, os.WriteFile(filepath.Join(dir, names[i]), []byte(text), 0o600))
		}
		out, err := exec.Command(git, "merge-file", "-p", filepath.Join(dir, "ours"), filepath.Join(dir, "base"), filepath.Join(dir, "theirs")).Output()
		if err == nil && len(conflicts) == 0 {
			clean++
			require.Equal(t, string(out), got, "base\n%s\nours\n%s\ntheirs\n%s", base, ours, theirs)
		}
		for _, c := range [][3]string{{base, theirs, theirs}, {ours, base, ours}, {ours, ours, ours}} { // one side alone is that side
			got, conflicts := Merge(base, c[0], c[1])
			require.Empty(t, conflicts)
			require.Equal(t, c[2], got)
		}
	}
	assert.Greater(t, clean, 40)
	got, conflicts := Merge("a\nb\nc\n", "a\nmine\nc\n", "a\nyours\nc\nd\n")
	assert.Equal(t, "a\nmine\nc\nd\n", got)
	assert.Equal(t, []Conflict{{Line: 2, Base: "b\n", Ours: "mine\n", Theirs: "yours\n", Before: "a\n", After: "c\n"}}, conflicts)
}

func TestAddLine(t *testing.T) {
	for _, c := range []struct{ text, line, after, want string }{
		{"a\nb\n", "c", "", "a\nb\nc\n"}, {"a\nb", "c", "", "a\nb\nc"}, {"a\r\nb\r\n", "c", "a", "a\r\nc\r\nb\r\n"}, {"", "c", "", "c\n"}, {"a\n", "c", "not there", "a\nc\n"},
	} {
		got, added := AddLine(c.text, c.line, c.after)
		assert.True(t, added)
		assert.Equal(t, c.want, got)
		again, added := AddLine(got, "  "+c.line+" ", c.after)
		assert.False(t, added, "once and only once")
		assert.Equal(t, got, again)
	}
}

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
			if form != "xml" && k.Path[0] != "keys" && k.Path[0] != "mods" { // what is one of several changes its number
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

// What changed between two versions of settings is made in those of a player, who changed others; where both changed one, it is said.
func TestKeysOfAPlayer(t *testing.T) {
	for form, c := range map[string]struct{ old, now string }{
		"ini": {"volume = 5", "volume = 6"}, "json": {`"volume": 5`, `"volume": 6`}, "toml": {"volume = 5", "volume = 6"}, "xml": {`volume="5"`, `volume="6"`},
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
		_, _ = Apply(text, value)
	})
}
