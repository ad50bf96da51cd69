package main_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// Man pages of all commands are such, by the word of another program.
func TestManPages(t *testing.T) {
	t.Parallel()
	mandoc := peer.Need(t, "mandoc")
	dir := t.TempDir()
	ok(t, dir, "man", "pages")
	pages := must(filepath.Glob(filepath.Join(dir, "pages", "*.1")))
	assert.Greater(t, len(pages), 60)
	lint := exec.Command(mandoc, append([]string{"-Tlint", "-W", "error"}, pages...)...)
	out, err := lint.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text := peer.Run(t, dir, mandoc, "-Tutf8", "-Owidth=100", filepath.Join("pages", "vornix-patch-apply.1"))
	for _, want := range []string{"vornix-patch-apply", "--plan", "EXAMPLES", "vornix-patch(1)"} {
		assert.Contains(t, unbold(text), want)
	}
}

// unbold takes out how terminals of old were told to print bold: each letter over itself.
func unbold(s string) string {
	var out []rune
	for _, r := range s {
		if r == '\b' {
			out = out[:max(len(out)-1, 0)]
			continue
		}
		out = append(out, r)
	}
	return string(out)
}
