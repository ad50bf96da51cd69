package project_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/config/project"
	"vornix/demo"
)

// Any bytes end in a project or in a refusal that can be acted on, and nothing that a project names
// lies outside its folder.
func FuzzLoad(f *testing.F) {
	origin := f.TempDir()
	_, err := demo.Write(origin)
	require.NoError(f, err)
	for _, name := range []string{"highline", "lower-sidings"} {
		data, err := os.ReadFile(filepath.Join(origin, name, project.FileName))
		require.NoError(f, err)
		f.Add(data)
	}
	const head = "[project]\nname = \"a\"\ntitle = \"A\"\nversion = \"1.0.0\"\nprofile = \"kestrel-post\"\n"
	f.Add([]byte(head +
		"[[step]]\nname = \"s\"\nrun = [\"true\"]\ninputs = [\"a/**\"]\noutputs = [\"textures/s.png\"]\n[target.x]\nkind = \"sftp\"\nhost = \"h\"\npath = \"/srv\"\n"))
	f.Add([]byte(head +
		"[sources]\nmaps = \"../elsewhere\"\n[release]\npatches = 2\ntag = \"v{version}\"\n[[accept]]\nid = \"map.syntax\"\nreason = \"x\"\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), data, 0o666))
		p, err := project.Load(dir, demo.Profiles())
		if err != nil {
			var refused *fault.Fault
			var failure *finding.Failure
			if p != nil || !errors.As(err, &refused) && !errors.As(err, &failure) {
				t.Fatalf("odd refusal: %v", err)
			}
			return
		}
		s := p.File.Sources
		for _, folder := range []string{s.Maps, s.Materials, s.Textures, s.Sounds, s.Sprites, s.Models, s.Languages} {
			if safefile.CheckPath(folder) != nil {
				t.Fatalf("takes sources from %q", folder)
			}
		}
		if again := p.File.Project.Version; !semver.Valid(again) || semver.Compare(again, semver.Next(again)) >= 0 {
			t.Fatalf("version %q", again)
		}
	})
}

// Any bytes beside an image end in a way to make it, or in findings.
func FuzzSidecar(f *testing.F) {
	f.Add([]byte("kind = \"normal\"\nformat = \"bc5\"\nstrength = 4.5\nedge = \"wrap\"\nlevels = 3\n"))
	f.Add([]byte("shape = \"cube\"\nimages = [\"r.png\", \"l.png\", \"u.png\", \"d.png\", \"f.png\", \"b.png\"]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, list := project.ParseSidecar("a.texture.toml", data)
		if (s == nil) != (len(list) > 0) {
			t.Fatalf("a sidecar and findings: %v", list)
		}
	})
}
