package diff

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

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
	for _, bad := range []string{"@@ -1 +1 @@\n", "@@ -1,x +1 @@\n-a\n+b\n", "@@ -1 +1 @@\n*a\n",
		"@@ -1,2 +1 @@\n-a\n+b\n"} {
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
		out, err := exec.Command(git, "merge-file", "-p", filepath.Join(dir, "ours"), filepath.Join(dir, "base"),
			filepath.Join(dir, "theirs")).Output()
		if err == nil && len(conflicts) == 0 {
			clean++
			require.Equal(t, string(out), got, "base\n%s\nours\n%s\ntheirs\n%s", base, ours, theirs)
		}
		// one side alone is that side
		for _, c := range [][3]string{{base, theirs, theirs}, {ours, base, ours}, {ours, ours, ours}} {
			got, conflicts := Merge(base, c[0], c[1])
			require.Empty(t, conflicts)
			require.Equal(t, c[2], got)
		}
	}
	assert.Greater(t, clean, 40)
	got, conflicts := Merge("a\nb\nc\n", "a\nmine\nc\n", "a\nyours\nc\nd\n")
	assert.Equal(t, "a\nmine\nc\nd\n", got)
	assert.Equal(t, []Conflict{{Line: 2, Base: "b\n", Ours: "mine\n", Theirs: "yours\n", Before: "a\n", After: "c\n"}},
		conflicts)
}

func TestAddLine(t *testing.T) {
	for _, c := range []struct{ text, line, after, want string }{
		{"a\nb\n", "c", "", "a\nb\nc\n"}, {"a\nb", "c", "", "a\nb\nc"}, {"a\r\nb\r\n", "c", "a", "a\r\nc\r\nb\r\n"},
		{"", "c", "", "c\n"}, {"a\n", "c", "not there", "a\nc\n"},
	} {
		got, added := AddLine(c.text, c.line, c.after)
		assert.True(t, added)
		assert.Equal(t, c.want, got)
		again, added := AddLine(got, "  "+c.line+" ", c.after)
		assert.False(t, added, "once and only once")
		assert.Equal(t, got, again)
	}
}

// Texts that have nothing in common are compared in bounded time, as one replaced whole.
func TestNothingInCommon(t *testing.T) {
	var a, b strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&a, "old %d\n", i)
		fmt.Fprintf(&b, "new %d\n", i*7)
	}
	list := compare(split(a.String()), split(b.String()))
	assert.Equal(t, []hunk{{0, 20_000, 0, 20_000}}, list)
	got, err := Apply(a.String(), Unified("a", "b", a.String(), b.String()))
	require.NoError(t, err)
	assert.Equal(t, b.String(), got)
}

// Changes on both sides of a line, at the ends, and of all of it.
func TestMergesAtTheEdges(t *testing.T) {
	for _, c := range []struct {
		base, ours, theirs, want string
		conflicts                int
	}{
		{"", "a\n", "", "a\n", 0}, {"", "a\n", "a\n", "a\n", 0}, {"", "a\n", "b\n", "a\n", 1},
		{"a\nb\n", "", "a\nb\n", "", 0}, {"a\nb\n", "", "a\nc\n", "", 1},
		{"a\nb\nc\n", "x\na\nb\nc\n", "a\nb\nc\ny\n", "x\na\nb\nc\ny\n", 0},
		{"a\nb\nc\nd\n", "A\nb\nc\nd\n", "a\nb\nc\nD\n", "A\nb\nc\nD\n", 0},
		{"a\nb\n", "a\nx\nb\n", "a\ny\nb\n", "a\nx\nb\n", 1}, {"a\nb\nc\n", "a\nc\n", "a\nb\nc\nd\n", "a\nc\nd\n", 0},
		{"a", "a\nb", "a", "a\nb", 0},
	} {
		got, conflicts := Merge(c.base, c.ours, c.theirs)
		assert.Equal(t, c.want, got, "%q %q %q", c.base, c.ours, c.theirs)
		assert.Len(t, conflicts, c.conflicts, "%q %q %q", c.base, c.ours, c.theirs)
		for _, k := range conflicts {
			assert.Positive(t, k.Line)
		}
	}
}

// Whatever a change says, applying it ends, and what it gives is what the change describes: a
// change made from it goes back.
func FuzzApply(f *testing.F) {
	f.Add("a\nb\n", Unified("x", "x", "a\nb\n", "a\nc\n"))
	f.Add("a", "--- a\n+++ b\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+b\n")
	f.Fuzz(func(t *testing.T, text, change string) {
		got, err := Apply(text, change)
		if err != nil {
			return
		}
		if back, err := Apply(got, Unified("x", "x", got, text)); err != nil || back != text {
			t.Fatalf("%q does not go back to %q: %q %v", got, text, back, err)
		}
	})
}
