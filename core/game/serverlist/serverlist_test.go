package serverlist_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/profile"
	"vornix/core/game/serverlist"
)

// rule makes a list's rule as a profile would have it.
func rule(t testing.TB, text string) *profile.ListFile {
	t.Helper()
	p, err := profile.Parse("game.toml",
		[]byte("[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n[[server.list]]\nfile = 'list'\n"+text))
	require.NoError(t, err)
	return &p.Server.Lists[0]
}

func entries(lines ...string) (list []serverlist.Entry) {
	for _, l := range lines {
		name, _, _ := strings.Cut(l, " ")
		list = append(list, serverlist.Entry{Map: name, Line: l})
	}
	return list
}

func edit(t testing.TB, r *profile.ListFile, old string, ours, want []serverlist.Entry, weights map[string]int) string {
	t.Helper()
	var data []byte
	if old != "-" {
		data = []byte(old)
	}
	l, err := serverlist.Read(r, data)
	require.NoError(t, err)
	l.Edit(ours, want, weights)
	out, err := l.Bytes()
	require.NoError(t, err)
	return string(out)
}

func TestEdit(t *testing.T) {
	lines, weights := "line = '{map} {mode}'\n", map[string]int{"a": 1, "m": 5, "z": 9}
	for name, c := range map[string]struct {
		rule, old  string
		ours, want []serverlist.Entry
		then       string
	}{
		"a new file":                   {lines, "-", nil, entries("a x", "b"), "a x\nb\n"},
		"with the game's line ends":    {lines + "lines = 'crlf'\n", "-", nil, entries("a x"), "a x\r\n"},
		"once":                         {lines, "# n\n  a x \n", nil, entries("a x"), "# n\n  a x \n"},
		"no line end at the end":       {lines, "m", nil, entries("a x"), "m\na x\n"},
		"mixed line ends stay":         {lines, "m\r\nn\no\r\n", nil, entries("a"), "m\r\nn\no\r\na\r\n"},
		"ours changed, where it stood": {lines, "m\na x\nn\n", entries("a x"), entries("a y"), "m\na y\nn\n"},
		"ours gone":                    {lines, "m\na x\n\nn\n", entries("a x"), nil, "m\n\nn\n"},
		"somebody's words for our map": {lines, "m\na night\n", nil, entries("a x"), "m\na night\n"},
		"somebody changed ours":        {lines, "a night\n", entries("a x"), entries("a y"), "a night\n"},
		"somebody removed ours":        {lines, "m\n", entries("a x"), entries("a x"), "m\na x\n"},
		"a note is no entry":           {lines, "# a x\n", entries("a x"), nil, "# a x\n"},
		"notes of the game's own": {lines + "notes = ['%']\n", "% a x\n# b\n", nil, entries("b q"),
			"% a x\n# b\nb q\n"},
		"sorted": {lines + "order = 'sorted'\n", "# n\nb\nM\nz\n# end\n", nil,
			entries("a x", "n x", "zz"), "# n\na x\nb\nM\nn x\nz\nzz\n# end\n"},
		"behind a map": {lines + "order = 'after'\nafter = 'm'\n", "m x\nz\n", nil,
			entries("a x", "b"), "m x\na x\nb\nz\n"},
		"behind a map that is not there": {lines + "order = 'after'\nafter = 'q'\n", "m x\nz\n", nil, entries("a x"),
			"m x\nz\na x\n"},
		"by weight": {lines + "order = 'weight'\n", "m\nz\n", nil, entries("a x", "b"),
			"b\na x\nm\nz\n"},
		"ours in their order": {lines, "m\na\nc\nn\n", entries("a", "c"), entries("a", "b", "c", "d"),
			"m\na\nb\nc\nn\nd\n"},
		"setting": {
			"line='{map}'\nform='setting'\naround='set maps \"{entries}\"'\nseparator=';'\n",
			"set maps \"q\"\r\n  set  maps  \"m;a\" // old\r\nx\r\n", entries("a"), entries("b", "c"),
			"set maps \"q\"\r\n  set  maps  \"m;b;c\" // old\r\nx\r\n"},
		"setting that is not there": {"line='{map}'\nform='setting'\naround='maps = {entries}'\n", "x = 1", nil,
			entries("b", "c"), "x = 1\nmaps = b c\n"},
		"empty setting": {"line='{map}'\nform='setting'\naround='maps = {entries}'\nseparator=', '\n",
			"maps = \n", nil, entries("b", "c"), "maps = b, c\n"},
		"setting that gets empty": {"line='{map}'\nform='setting'\naround='maps = [{entries}]'\nseparator=','\n",
			"maps = [a, b]\n", entries("a", "b"), nil, "maps = []\n"},
		"setting, the first goes": {"line='{map}'\nform='setting'\naround='maps = [{entries}]'\nseparator=','\n",
			"maps = [a, m]\n", entries("a"), nil, "maps = [m]\n"},
		"json texts": {"line='{map}'\nform='json'\n", "[\"m\", \"n\"]\n", nil, entries("a\"q"),
			"[\"m\", \"n\", \"a\\\"q\"]\n"},
		"json in a new file": {"line='{map}'\nform='json'\nkey='play.maps'\n", "-", nil, entries("a"),
			"{\n  \"play\": {\n    \"maps\": [\n      \"a\"\n    ]\n  }\n}\n"},
		"json, on lines": {"line='{map}'\nform='json'\nkey='maps'\n",
			"{\r\n\t\"x\": 1,\r\n\t\"maps\": [\r\n\t\t\"m\"\r\n\t],\r\n\t\"y\": [2]\r\n}\r\n", nil, entries("a"),
			"{\r\n\t\"x\": 1,\r\n\t\"maps\": [\r\n\t\t\"m\",\r\n\t\t\"a\"\r\n\t],\r\n\t\"y\": [2]\r\n}\r\n"},
	} {
		t.Run(name, func(t *testing.T) {
			r := rule(t, c.rule)
			then := edit(t, r, c.old, c.ours, c.want, weights)
			assert.Equal(t, c.then, then)
			assert.Equal(t, then, edit(t, r, then, c.want, c.want, weights), "again changes nothing")
		})
	}
}

func TestObjectsInJSON(t *testing.T) {
	r := rule(t, `line = '{"level": "{map}", "n": 1}'`+"\nform = 'json'\nkey = 'a.b'\n")
	old := `{"z": [1, 2], "a": {"q": "]", "b": [ {"level": "m", "extra": [1]} ]}}`
	l, err := serverlist.Read(r, []byte(old))
	require.NoError(t, err)
	assert.Equal(t, []string{`{"level": "m", "extra": [1]}`}, lines(l))
	ours := []serverlist.Entry{{Map: "a", Line: `{"level": "a", "n": 1}`}}
	l.Edit(nil, ours, nil)
	out, err := l.Bytes()
	require.NoError(t, err)
	assert.Equal(t, `{"z": [1, 2], "a": {"q": "]", "b": [ {"level": "m", "extra": [1]}, {"level": "a", "n": 1} ]}}`,
		string(out))
	l, err = serverlist.Read(r, out)
	require.NoError(t, err)
	assert.Len(t, l.Without("a"), 1)
	out, err = l.Bytes()
	require.NoError(t, err)
	assert.Equal(t, old, string(out))
	for _, bad := range []string{`{"a": {"b": {}}}`, `{"a": []}`, `{"b": []}`, `{"a": {"b": [1,}}`, `[`} {
		_, err := serverlist.Read(r, []byte(bad))
		assert.ErrorContains(t, err, "list can't be read", bad)
	}
}

func lines(l *serverlist.List) (list []string) {
	for _, e := range l.Entries() {
		list = append(list, e.Line)
	}
	return list
}

func TestEncodingsStay(t *testing.T) {
	r := rule(t, "line = '{map} {title}'\n")
	latin := "caf\xe9 x\n"
	assert.Equal(t, latin+"a b\n", edit(t, r, latin, nil, entries("a b"), nil),
		"bytes of no known encoding stay as they are")
	wide := "\xff\xfem\x00\r\x00\n\x00"
	assert.Equal(t, wide+"a\x00\r\x00\n\x00", edit(t, r, wide, nil, entries("a"), nil))
	assert.Equal(t, "\xef\xbb\xbfm\na \u00e9\n", edit(t, r, "\xef\xbb\xbfm\n", nil, entries("a \u00e9"), nil))
	l, err := serverlist.Read(r, []byte(latin))
	require.NoError(t, err)
	l.Edit(nil, entries("a \u4e00"), nil)
	_, err = l.Bytes()
	assert.ErrorContains(t, err, "can't be written", "what the list's encoding does not have is not lost silently")
	s := rule(t, "line='{map}'\nform='setting'\naround='maps = \"{entries}\"'\nseparator=','\n")
	for _, bad := range []string{"a,b", "a\"b"} {
		l, err := serverlist.Read(s, nil)
		require.NoError(t, err)
		l.Edit(nil, entries(bad), nil)
		_, err = l.Bytes()
		assert.Error(t, err, bad)
	}
}

// Whatever ours were and are to be: each is there once, what is others' stays in its order, and
// going back leads to what was there.
func TestAnyEdit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	rules := []*profile.ListFile{rule(t, "line = '{map}'\n"), rule(t, "line = '{map}'\norder = 'sorted'\n"),
		rule(t, "line='{map}'\nform='json'\nkey='k'\n"),
		rule(t, "line='{map}'\nform='setting'\naround='m {entries};'\nseparator=','\n")}
	some := func(prefix string) (list []serverlist.Entry) {
		for i := range 8 {
			if r.IntN(2) == 0 {
				list = append(list, entries(fmt.Sprintf("%s%d", prefix, i))...)
			}
		}
		return list
	}
	for i := range 400 {
		rule := rules[i%len(rules)]
		text := edit(t, rule, "-", nil, some("foreign"), nil)
		l, err := serverlist.Read(rule, []byte(text))
		require.NoError(t, err)
		foreign := lines(l)
		var ours []serverlist.Entry
		states := map[string]string{fmt.Sprint(ours): text}
		for range 4 {
			want := some("ours")
			text = edit(t, rule, text, ours, want, nil)
			ours = want
			l, err := serverlist.Read(rule, []byte(text))
			require.NoError(t, err)
			var theirs []string
			got := map[string]int{}
			for _, line := range lines(l) {
				if strings.HasPrefix(line, "foreign") {
					theirs = append(theirs, line)
				} else {
					got[line]++
				}
			}
			require.Equal(t, foreign, theirs)
			require.Len(t, got, len(want))
			for _, w := range want {
				require.Equal(t, 1, got[w.Line])
			}
			if rule.Form == "json" {
				require.True(t, json.Valid([]byte(text)))
			}
			if before, ok := states[fmt.Sprint(ours)]; ok && rule.Form == "lines" {
				require.Equal(t, before, text)
			}
			states[fmt.Sprint(ours)] = text
		}
	}
}

// Lists may be long: with a look at every line for each it would take minutes.
func TestLongLists(t *testing.T) {
	var want []serverlist.Entry
	for i := range 8000 {
		want = append(want, entries(fmt.Sprintf("map_%04d relay", i))...)
	}
	for _, order := range []string{"append", "sorted", "weight"} {
		r := rule(t, "line = '{map} {mode}'\norder = '"+order+"'\n")
		text := edit(t, r, "foreign x\n", nil, want, nil)
		assert.Equal(t, 8001, strings.Count(text, "\n"))
		text = edit(t, r, text, want, want[4000:], nil)
		assert.Equal(t, 4001, strings.Count(text, "\n"))
		text = edit(t, r, text, want[4000:], want, nil)
		assert.Equal(t, 8001, strings.Count(text, "\n"))
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"a\r\n# b\nc", `{"k": ["a", {"b": 1}]}`, "m a,b; // c\n", "\xff\xfea\x00"} {
		f.Add([]byte(seed))
	}
	rules := []*profile.ListFile{rule(f, "line = '{map} {mode}'\n"), rule(f, "line='{map}'\nform='json'\nkey='k'\n"),
		rule(f, "line='{map}'\nform='setting'\naround='m {entries};'\nseparator=','\n")}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, r := range rules {
			l, err := serverlist.Read(r, data)
			if err != nil {
				continue
			}
			n := len(l.Entries())
			same, err := l.Bytes()
			if err != nil {
				continue
			}
			l.Edit(nil, entries("ours"), nil)
			out, err := l.Bytes()
			if err != nil {
				continue
			}
			again, err := serverlist.Read(r, out)
			if err != nil {
				t.Fatalf("%q became %q, which can't be read: %v", data, out, err)
			}
			if got := len(again.Entries()); got < n {
				t.Fatalf("%q has %d entries and %q %d", same, n, out, got)
			}
		}
	})
}
