// Package schema_test makes the published JSON Schemas from the types that read the files, and holds them to the demo.
// VORNIX_UPDATE=1 go test ./docs/schema writes them anew.
package schema_test

import (
	"bytes"
	"crypto"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	reflector "github.com/invopop/jsonschema"
	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/signature"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/format/material"
	"vornix/core/format/sprite"
	"vornix/core/make/metadata"
	"vornix/core/pack/patch"
	"vornix/core/release/report"
	"vornix/core/ship/index"
	"vornix/demo"
)

var published = map[string]struct {
	title string
	of    any
}{
	"project.json":      {"A Vornix project: vornix.toml", &project.File{}},
	"report.json":       {"A Vornix report on a release: out/reports/VERSION.json", &report.Report{}},
	"profile.json":      {"A Vornix game profile", &profile.Profile{}},
	"material.json":     {"A Vornix material", &material.Material{}},
	"texture.json":      {"How one Vornix texture is made: NAME.texture.toml", &project.Sidecar{}},
	"sprite.json":       {"A Vornix sprite sheet", &sprite.File{}},
	"sprite-index.json": {"The index of a sprite's atlas", &sprite.Index{}},
	"patch.json":        {"What a Vornix patch says of itself", &patch.Patch{}},
	"language.json":     {"Texts in one language: languages/de.toml", &metadata.LanguageFile{}},
	"index.json":        {"A Vornix version index", &signedIndex{}},
	"edits.json":        {"Changes of settings for vornix patch make", &patch.Edits{}},
}

// signedIndex is the index with the signatures, which stand last in its file.
type signedIndex struct {
	index.Index
	Signatures []signature.Signature `json:"signatures" jsonschema:"required,description=Ed25519 signatures over all bytes before the line that this begins on"`
}

func TestPublishedSchemasAreThoseOfTheTypes(t *testing.T) {
	for name, s := range published {
		r := &reflector.Reflector{FieldNameTag: tagOf(name), RequiredFromJSONSchemaTags: true, Anonymous: true,
			ExpandedStruct: true}
		schema := r.Reflect(s.of)
		schema.Title = s.title
		want, err := json.MarshalIndent(schema, "", "  ")
		require.NoError(t, err)
		want = append(want, '\n')
		if os.Getenv("VORNIX_UPDATE") != "" {
			require.NoError(t, os.WriteFile(name, want, 0o666))
		}
		got, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got),
			"%s is behind the types; write it with VORNIX_UPDATE=1 go test ./docs/schema", name)
	}
}

// tagOf is where a file's keys are named.
func tagOf(name string) string {
	if name == "report.json" || strings.HasSuffix(name, ".answer.json") || name == "sprite-index.json" ||
		name == "patch.json" || name == "index.json" {
		return "json"
	}
	return "toml"
}

func compiled(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	c := jsonschema.NewCompiler()
	s, err := c.Compile(name)
	require.NoError(t, err)
	return s
}

// valid says whether a TOML text fits a schema.
func valid(t *testing.T, s *jsonschema.Schema, text []byte) error {
	t.Helper()
	var any map[string]any
	require.NoError(t, toml.Unmarshal(text, &any))
	data, err := json.Marshal(any)
	require.NoError(t, err)
	instance, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	return s.Validate(instance)
}

func TestTheDemoFits(t *testing.T) {
	schemas := map[string]*jsonschema.Schema{}
	for name := range published {
		schemas[name] = compiled(t, name)
	}
	dir := filepath.Join(t.TempDir(), "demo")
	_, err := demo.Write(dir)
	require.NoError(t, err)
	found := map[string]int{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(p) != ".toml" {
			return err
		}
		name := "material.json"
		switch {
		case e.Name() == project.FileName:
			name = "project.json"
		case strings.HasSuffix(p, project.SidecarEnding):
			name = "texture.json"
		case filepath.Base(filepath.Dir(p)) == "sprites":
			name = "sprite.json"
		case filepath.Base(filepath.Dir(p)) == "languages":
			name = "language.json"
		}
		found[name]++
		data, err := os.ReadFile(p)
		require.NoError(t, err)
		assert.NoError(t, valid(t, schemas[name], data), p)
		return nil
	}))
	assert.Equal(t, map[string]int{"material.json": 21, "project.json": 2, "texture.json": 2, "sprite.json": 2,
		"language.json": 2}, found)
	profiles, err := fs.Glob(demo.Profiles(), "*.toml")
	require.NoError(t, err)
	for _, p := range profiles {
		data, err := fs.ReadFile(demo.Profiles(), p)
		require.NoError(t, err)
		assert.NoError(t, valid(t, schemas["profile.json"], data), p)
	}
}

// What the program refuses by form, the schemas refuse too.
func TestSchemasRefuseWhatTheProgramRefuses(t *testing.T) {
	head := "[project]\nname = 'a'\ntitle = 'A'\nversion = '1.0.0'\nprofile = 'kestrel-post'\n"
	game := "[game]\nid = 'g'\ntitle = 'G'\nform = 'solids'\n"
	require.NoError(t, valid(t, compiled(t, "project.json"), []byte(head)))
	require.NoError(t, valid(t, compiled(t, "profile.json"), []byte(game)))
	for _, bad := range []string{
		strings.Replace(head, "title", "titel", 1),
		strings.Replace(head, "1.0.0", "1.0", 1),
		strings.Replace(head, "'a'", "'A b'", 1),
		head + "[[accept]]\nfinding = 'file.stray'\n",
		head + "[[accept]]\nfinding = 'file.stray'\nreason = ''\n",
		head + "[target.x]\nkind = 'ftp'\npath = 'y'\n",
		head + "[[texture]]\nmatch = '*'\nformat = 'bc9'\n",
		"[sources]\nmaps = 'm'\n",
	} {
		assert.Error(t, valid(t, compiled(t, "project.json"), []byte(bad)), bad)
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), []byte(bad), 0o666))
		_, err := project.Load(dir, demo.Profiles())
		assert.Error(t, err, bad)
	}
	for _, bad := range []string{
		strings.Replace(game, "solids", "voxels", 1),
		game + "[files]\ncase = 'upper'\n",
		game + "[pack]\nform = 'disc'\n",
		game + "[[addon.field]]\nname = 'x'\n",
		game + "[oddity]\n",
	} {
		assert.Error(t, valid(t, compiled(t, "profile.json"), []byte(bad)), bad)
		_, err := profile.Parse("g.toml", []byte(bad))
		assert.Error(t, err, bad)
	}
}

// An index that is written fits its schema, and what the schema refuses by form the program does not take either.
func TestTheIndexFits(t *testing.T) {
	sum := strings.Repeat("0a", 32)
	pem, _, err := signature.New()
	require.NoError(t, err)
	key, err := signature.ParseKey(pem, fault.Place{})
	require.NoError(t, err)
	x := &index.Index{Kind: index.Kind, Format: index.Format, Project: "highline", Title: "Highline",
		Game: "kestrel-post", Serial: 7, Base: "https://downloads.example/",
		Bundles: []index.Record{{Name: "highline", Version: "1.0.1", Date: "2026-11-26", File: "highline.parcel",
			URL: "highline.parcel", Size: 3, SHA256: sum, Game: "1.2", Notes: "new",
			Maps:    []index.Map{{Name: "a", Title: "A", Modes: []string{"relay"}, Players: [2]int{2, 8}, Game: "1.2"}},
			Patches: []index.Patch{{From: "1.0.0", Bases: []string{sum}, URL: "patches/a.vnp", Size: 1, SHA256: sum}}}},
		Retracted: []index.Retraction{{Version: "1.0.0", Reason: "broken", Files: []string{sum}}},
		Texts:     []index.TextFile{{File: "list.txt", Size: 1, SHA256: sum}}}
	require.NoError(t, x.Sign([]crypto.Signer{key}, nil, 30, time.Now(), false))
	data, err := x.Encode()
	require.NoError(t, err)
	schema := compiled(t, "index.json")
	fits := func(text string) error {
		instance, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err)
		return schema.Validate(instance)
	}
	require.NoError(t, fits(string(data)))
	x.Keys, x.Signatures, x.Issued, x.Expires = nil, nil, "", ""
	data, err = x.Encode()
	require.NoError(t, err)
	require.NoError(t, fits(string(data)))
	for old, now := range map[string]string{`"vornix index"`: `"other"`, `"serial": 7`: `"serial": 0`,
		`"format": 2`: `"format": 3`, `"size": 3`: `"size": -3`, `"sha256": "0a`: `"sha256": "XX`} {
		bad := strings.Replace(string(data), old, now, 1)
		require.NotEqual(t, string(data), bad)
		assert.Error(t, fits(bad), now)
		_, err := index.Read([]byte(bad))
		assert.Error(t, err, now)
	}
}
