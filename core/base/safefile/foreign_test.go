package safefile_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/safefile"
)

// Paths from elsewhere: what no name of any spelling gets past, and what is fine.
func TestPathsFromElsewhere(t *testing.T) {
	for path, why := range map[string]string{
		"vornix-fetched/highline/state.json":   "its own records",
		"deep/VORNIX-Patched/x":                "its own records",
		"vornix-installed":                     "its own records",
		"a/.vornix/cache/x":                    "its own records",
		".Vornix-Target/x/state.json":          "its own records",
		"\uff56ornix-fetched/x":                "its own records", // a full-width v, which compatibility forms fold
		"VORNIX~1/x":                           "its own records",
		"VORNI~12/x":                           "its own records",
		".git/hooks/post-checkout":             "reads by itself",
		"a/.GIT/config":                        "reads by itself",
		"GIT~1/config":                         "reads by itself",
		".ssh/authorized_keys":                 "reads by itself",
		"home/.bashrc":                         "reads by itself",
		"-rf":                                  "a dash",
		"a/--help":                             "a dash",
		"a\u202egpj.exe":                       "does not show",
		"a\u200b.txt":                          "does not show",
		"a\u2028b":                             "does not show",
		"a\x1b[2J":                             "control character",
		"COM\u00b9.txt":                        "for a device",
		"lpt0":                                 "for a device",
		"CONIN$":                               "for a device",
		"nul .txt":                             "for a device",
		strings.Repeat("abcdefgh/", 100) + "x": "longer than",
	} {
		assert.ErrorContains(t, safefile.CheckForeign(path), why, "%q", path)
	}
	for _, path := range []string{"maps/a.vnm", "vornix.md", "vornix-docs/x", "git/x", ".gitignore", "digit~1", "a-b/c",
		"Übung/ñ.txt", "console.txt", "com10.txt", "profile", "vorn.txt"} {
		assert.NoError(t, safefile.CheckForeign(path), "%q", path)
	}
}
