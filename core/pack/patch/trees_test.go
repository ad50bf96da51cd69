package patch

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/transaction"
)

// grown changes a tree of files at random: contents edited, files moved, copied, gone, new, swapped with each other.
func grown(r *rand.Rand, tree map[string]string) map[string]string {
	out := maps.Clone(tree)
	names := slices.Sorted(maps.Keys(out))
	for i := range 1 + r.IntN(8) {
		if len(names) == 0 {
			break
		}
		name := names[r.IntN(len(names))]
		text, there := out[name]
		if !there {
			continue
		}
		switch r.IntN(7) {
		case 0:
			at := r.IntN(len(text) + 1)
			out[name] = text[:at] + fmt.Sprintf("edit %d\n", i) + text[at:]
		case 1:
			delete(out, name)
		case 2:
			delete(out, name)
			out[fmt.Sprintf("moved/%d/%s", i, filepath.Base(name))] = text
		case 3:
			out[fmt.Sprintf("copy-%d-%s", i, filepath.Base(name))] = text
		case 4:
			out[fmt.Sprintf("new/%d.bin", i)] = noise(r.Uint64(), r.IntN(3000))
		case 5:
			other := names[r.IntN(len(names))]
			if second, ok := out[other]; ok {
				out[name], out[other] = second, text
			}
		case 6:
			out[name] = text[:len(text)/2]
		}
	}
	return out
}

// Whatever became of a folder, the patch leads there, again to "already applied", and back.
func TestAnyTree(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 28))
	for round := range 40 {
		old := map[string]string{}
		for i := range 1 + r.IntN(9) {
			ending := []string{".txt", ".bin", ".ini", ".json"}[r.IntN(4)]
			text := noise(r.Uint64(), r.IntN(6000))
			if ending == ".txt" {
				text = strings.ReplaceAll(text, " ", "\n")
			}
			old[fmt.Sprintf("d%d/f%d%s", i%3, i, ending)] = text
		}
		now := grown(r, old)
		if maps.Equal(old, now) || len(now) == 0 {
			continue
		}
		p := open(t, made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now), Options{Workers: 2}))
		game := filepath.Join(write(t, t.TempDir(), map[string]string{"other/thing.bin": "not ours"}), "mods", "m")
		write(t, game, old)
		_, _, err := apply(t, filepath.Dir(filepath.Dir(game)), ApplyOptions{}, p)
		require.NoError(t, err, "round %d", round)
		require.Equal(t, slices.Sorted(maps.Keys(now)), slices.Sorted(maps.Keys(files(t, game))), "round %d", round)
		require.True(t, maps.Equal(now, files(t, game)), "round %d", round)
		plan, _, err := apply(t, filepath.Dir(filepath.Dir(game)), ApplyOptions{}, p)
		require.NoError(t, err)
		assert.True(t, plan.Already, "round %d: %+v\n%+v", round, p.Steps, plan.Actions)
		require.NoError(t, undo(t, game))
		require.True(t, maps.Equal(old, files(t, game)), "round %d", round)
	}
}

// Texts in UTF-16, with marks and Windows' line ends keep what they are; what is no text is no edit.
func TestTextsInOtherEncodings(t *testing.T) {
	wide := func(s string) string {
		b := []byte{0xff, 0xfe}
		for _, u := range utf16.Encode([]rune(s)) {
			b = append(b, byte(u), byte(u>>8))
		}
		return string(b)
	}
	old := map[string]string{"wide.txt": wide("one\r\ntwo\r\nthree\r\n"), "mark.ini": "\xef\xbb\xbf[a]\r\nb=1\r\n",
		"binary.txt": "\xff\x00\x80 no text", "changes.txt": "plain", "empty.txt": ""}
	now := map[string]string{"wide.txt": wide("one\r\nzwei\r\nthree\r\n"), "mark.ini": "\xef\xbb\xbf[a]\r\nb=2\r\n",
		"binary.txt": "\xff\x00\x81 no text", "changes.txt": wide("plain"), "empty.txt": "no more\n"}
	p := open(t, made(t, write(t, t.TempDir(), old), write(t, t.TempDir(), now), Options{}))
	kinds := map[string]string{}
	for _, s := range p.Steps {
		kinds[s.Path] = s.Do
	}
	assert.Equal(t, []string{DoEdit, DoEdit, DoReplace, DoReplace, DoEdit},
		[]string{kinds["wide.txt"], kinds["mark.ini"], kinds["binary.txt"], kinds["changes.txt"], kinds["empty.txt"]})
	game := write(t, t.TempDir(), old)
	_, _, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, now, files(t, game))
	require.NoError(t, undo(t, game))
	write(t, game, map[string]string{"wide.txt": wide("null\r\none\r\ntwo\r\nthree\r\n"),
		"mark.ini": "\xef\xbb\xbf[a]\r\nb=1\r\nc=3\r\n"})
	_, _, err = apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, wide("null\r\none\r\nzwei\r\nthree\r\n"), files(t, game)["wide.txt"])
	assert.Equal(t, "\xef\xbb\xbf[a]\r\nb=2\r\nc=3\r\n", files(t, game)["mark.ini"])
}

// Where a file differs is told by blocks: how many bytes at the most, in how many stretches, from
// where on; of longer and shorter ones too.
func TestWhereItDiffers(t *testing.T) {
	base := noise(5, 200_000)
	src := write(t, t.TempDir(), map[string]string{"a/x.bin": base, "b/x.bin": base + "more"})
	p := open(t, made(t, filepath.Join(src, "a", "x.bin"), filepath.Join(src, "b", "x.bin"), Options{}))
	changed := func(at ...int) string {
		b := []byte(base)
		for _, i := range at {
			b[i] ^= 1
		}
		return string(b)
	}
	for text, want := range map[string]Wrong{
		changed(10):                  {Differ: 4096, Places: 1, First: 0},
		changed(5000, 5001, 150_000): {Differ: 8192, Places: 2, First: 4096},
		changed(4095, 4096):          {Differ: 8192, Places: 1, First: 0},
		base + "a tail":              {Differ: 200_006 - 196_608, Places: 1, First: 196_608},
		base[:100_000]:               {Differ: 100_000 + 100_000%4096, Places: 1, First: 98_304},
	} {
		_, _, err := apply(t, write(t, t.TempDir(), map[string]string{"x.bin": text}), ApplyOptions{}, p)
		var wrong *WrongBaseError
		require.ErrorAs(t, err, &wrong)
		require.Len(t, wrong.Wrong, 1)
		got := wrong.Wrong[0]
		assert.Equal(t, []int64{int64(len(text)), want.Differ, int64(want.Places), want.First},
			[]int64{got.Have, got.Differ, int64(got.Places), got.First})
	}
}

// What lies beside is no side of a patch: records, half-written files, links; and paths that other
// systems can't hold are refused.
func TestSides(t *testing.T) {
	dir := write(t, t.TempDir(),
		map[string]string{"a.txt": "a", "sub/b.txt": "b", transaction.Dir + "/records.jsonl": "{}",
			"sub/.vornix-tmp-0123456789abcdef": "half"})
	if runtime.GOOS != "windows" {
		require.NoError(t, os.Symlink("a.txt", filepath.Join(dir, "link.txt")))
	}
	s, err := LoadSide(ctx, dir)
	require.NoError(t, err)
	require.Len(t, s.Files, 2)
	assert.Equal(t, []string{"a.txt", "sub/b.txt"}, []string{s.Files[0].Path, s.Files[1].Path})
	_, err = LoadSide(ctx, filepath.Join(dir, "nowhere"))
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	_, err = SideOf(ctx, "x", map[string]string{"con.txt": filepath.Join(dir, "a.txt")})
	assert.Error(t, err, "a device of Windows")
	require.NoError(t, s.Renamed("other.txt"))
	assert.Error(t, s.Renamed("../other.txt"))

	empty, err := LoadSide(ctx, t.TempDir())
	require.NoError(t, err)
	d, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	out, err := d.Create("p.vnp")
	require.NoError(t, err)
	defer out.Abort()
	_, err = Make(ctx, empty, s, out, Options{})
	assert.ErrorContains(t, err, "there is nothing in")
	_, err = Make(ctx, s, s, out, Options{})
	assert.ErrorContains(t, err, "the same")
	_, err = Make(ctx, s, s, out, Options{Bring: map[string]string{"x": filepath.Join(dir, "nowhere")}})
	assert.ErrorContains(t, err, "can't be read")
	_, err = Make(ctx, s, s, out,
		Options{Settings: []Step{{Do: DoSettings, Path: "other.txt", Form: "text", Lines: []Line{{Add: "x"}}}}})
	assert.ErrorContains(t, err, "as a whole and by settings")
}

// Files with changes of settings are read strictly, with the line of each mistake.
func TestEditsAreReadStrictly(t *testing.T) {
	steps, list := ParseEdits("edits.toml", []byte(`
[[edit]]
file = "game.ini"
lines = ["one", "two"]
after = "# mods"
set = { "a.b" = 3, "\"x.y\".z" = "text" }
remove = ["old.key"]
[[edit]]
file = "list"
lines = ["mine"]
[[edit]]
file = "settings"
form = "json"
set = { deep = { no = 1 } }
`))
	require.Len(t, list, 1, "%v", list)
	assert.Contains(t, list[0].Text, "deep: a value must be a text, a number, true or false")
	require.Len(t, steps, 3)
	assert.Equal(t, Step{Do: DoSettings, Path: "game.ini", Form: "ini",
		Lines:  []Line{{"one", "# mods"}, {"two", "one"}},
		Set:    []Setting{{[]string{"x.y", "z"}, "text"}, {[]string{"a", "b"}, "3"}},
		Remove: [][]string{{"old", "key"}}}, steps[0])
	assert.Equal(t, "text", steps[1].Form)
	for text, want := range map[string]string{
		"[[edit]]\nfile = \"a.ini\"\nlins = []\n":                                                    "lins",
		"[[edit]]\nfile = \"/etc/a.ini\"\nlines = [\"x\"]\n":                                         "/etc/a.ini",
		"[[edit]]\nfile = \"vornix-patched/x.ini\"\nlines = [\"x\"]\n":                               "its own records",
		"[[edit]]\nfile = \"a.ini\"\n":                                                               "nothing is to change",
		"[[edit]]\nfile = \"a.ini\"\nlines = [\"x\"]\n[[edit]]\nfile = \"a.ini\"\nlines = [\"y\"]\n": "twice",
		"[[edit]]\nfile = \"a.ini\"\nremove = [\"a..b\"]\n":                                          "empty part",
		"[[edit]]\nfile = \"a.ini\"\nset = { a = \"two\\nlines\" }\n":                                "one line",
		"edit = 3\n": "edit",
	} {
		_, list := ParseEdits("edits.toml", []byte(text))
		require.NotEmpty(t, list, text)
		assert.Contains(t, list[0].Text+list[0].Place.String(), want, text)
		assert.Equal(t, "edits.toml", list[0].Place.File)
		assert.Positive(t, list[0].Place.Line)
	}
}

// A file of somebody's own where a new one comes is kept and comes back.
func TestForeignFilesInTheWay(t *testing.T) {
	p := open(t, made(t, write(t, t.TempDir(), map[string]string{"a.bin": noise(1, 900), "b.bin": "b"}),
		write(t, t.TempDir(), map[string]string{"a.bin": noise(1, 900), "b.bin": "b", "c.bin": "ours"}), Options{}))
	game := write(t, t.TempDir(), map[string]string{"a.bin": noise(1, 900), "b.bin": "b", "c.bin": "theirs"})
	plan, _, err := apply(t, game, ApplyOptions{}, p)
	require.NoError(t, err)
	assert.Equal(t, []FileChange{{Path: "c.bin", Do: "replace", Why: "somebody's own file, which is kept", Old: 6,
		New: 4}},
		plan.Actions)
	assert.Equal(t, "ours", files(t, game)["c.bin"])
	require.NoError(t, undo(t, game))
	assert.Equal(t, "theirs", files(t, game)["c.bin"])
	require.NoError(t, os.Remove(filepath.Join(game, "c.bin")))
	require.NoError(t, os.Mkdir(filepath.Join(game, "c.bin"), 0o700))
	_, _, err = apply(t, game, ApplyOptions{}, p)
	assert.ErrorContains(t, err, "a folder or a special file has the name of this file")
	assert.DirExists(t, filepath.Join(game, "c.bin"))
}
