package profile_test

import (
	"bytes"
	"errors"
	"io/fs"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/config/profile"
	"vornix/demo"
)

// Any bytes end in a profile or in findings that stand in the file; one that is taken leads nowhere
// outside the game, and can be looked at for contradictions.
func FuzzParse(f *testing.F) {
	names, err := fs.Glob(demo.Profiles(), "*.toml")
	require.NoError(f, err)
	for _, name := range names {
		data, err := fs.ReadFile(demo.Profiles(), name)
		require.NoError(f, err)
		f.Add(data)
		for section := range strings.SplitSeq(string(data), "\n[") { // and the game with one section more at a time
			if !strings.HasPrefix(section, "#") {
				f.Add(append([]byte("[game]\nid = \"g\"\ntitle = \"G\"\nform = 'solids'\n["), section...))
			}
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := profile.Parse("g.toml", data)
		if err != nil {
			var failure *finding.Failure
			if !errors.As(err, &failure) || len(failure.Findings) == 0 || p != nil {
				t.Fatalf("odd refusal: %v", err)
			}
			for _, x := range failure.Findings {
				if x.Place.Line < 0 || x.Place.Line > bytes.Count(data, []byte("\n"))+1 || x.Text == "" {
					t.Fatalf("odd finding: %+v", x)
				}
			}
			return
		}
		for _, list := range [][]finding.Finding{p.Lint(), p.CheckPath("maps/a.vnx", "maps/a.vnm")} {
			for _, x := range list {
				if x.Text == "" {
					t.Fatalf("odd finding: %+v", x)
				}
			}
		}
		paths := []string{p.MapPath("a"), p.MaterialPath("a/b"), p.TexturePath("a/b"), p.ModelPath("a"),
			p.SpritePath("a")}
		for i := range p.Contents {
			paths = append(paths, p.Contents[i].Path("a"))
		}
		for _, rel := range paths {
			if safefile.CheckPath(path.Clean(rel)) != nil {
				t.Fatalf("the profile leads to %q", rel)
			}
		}
	})
}
