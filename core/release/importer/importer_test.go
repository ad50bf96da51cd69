package importer_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/finding"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/release/importer"
	"vornix/core/source/assetgraph"
	"vornix/demo"
	"vornix/internal/demotest"
)

func profiles(t *testing.T) (list []*profile.Profile) {
	t.Helper()
	for _, name := range project.Profiles(t.TempDir(), demo.Profiles()) {
		data, err := fs.ReadFile(demo.Profiles(), name+".toml")
		require.NoError(t, err)
		p, err := profile.Parse(name+".toml", data)
		require.NoError(t, err)
		list = append(list, p)
	}
	return list
}

// lay copies the folders of a demo project to other places of a pile, and says where each is.
func lay(t *testing.T, from, to string, places map[string]string) {
	t.Helper()
	for folder, place := range places {
		require.NoError(t,
			os.CopyFS(filepath.Join(to, filepath.FromSlash(place)), os.DirFS(filepath.Join(from, folder))))
	}
}

// Wherever the folders of a real project lie, what names count from is found, and the project that
// is made of the pile builds on the very same assets.
func TestAPileInAnyOrder(t *testing.T) {
	demoDir := demotest.Write(t)
	for _, of := range []struct {
		name, profile string
		folders       []string
	}{{"highline", "kestrel-post", []string{"materials", "textures", "sounds", "models"}},
		{"lower-sidings", "burrow-tramways", []string{"materials", "textures", "sprites", "sounds"}}} {
		for seed := range uint64(8) {
			t.Run(fmt.Sprint(of.name, seed), func(t *testing.T) {
				r := rand.New(rand.NewPCG(seed, 1))
				from, pile := filepath.Join(demoDir, of.name), t.TempDir()
				places := map[string]string{"maps": "levels/src"}
				if of.name == "highline" {
					places["prefabs"] = "levels/prefabs" // maps name them from where they lie
				}
				for i, f := range of.folders {
					if _, err := os.Stat(filepath.Join(from, f)); err != nil {
						continue
					}
					places[f] = path.Join([]string{"", "old", "work/2025", "_files"}[r.IntN(4)],
						fmt.Sprintf("%s_%d", f, i))
				}
				lay(t, from, pile, places)
				for _, f := range []string{"scripts", "routes"} { // where the game wants them
					if _, err := os.Stat(filepath.Join(from, f)); err == nil {
						lay(t, from, pile, map[string]string{f: f})
					}
				}
				for name, text := range map[string]string{"notes to self.txt": "buy milk", "old/thing.blend": "x",
					"levels/src/a.vnx.bak": "x", "pack.zip": "PK\x03\x04"} {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(pile, name)), 0o777))
					require.NoError(t, os.WriteFile(filepath.Join(pile, name), []byte(text), 0o666))
				}
				x, err := importer.Propose(t.Context(), pile,
					importer.Options{Name: "pile", Title: "Pile", Profiles: profiles(t)})
				require.NoError(t, err)
				assert.Equal(t, of.profile, x.Profile)
				assert.True(t, x.Guessed)
				for kind, folder := range map[string]string{"map": "maps", "material": "materials",
					"texture": "textures", "sprite": "sprites", "model": "models", "sound": "sounds"} {
					if place := places[folder]; place != "" && (folder != "textures" || of.name == "highline") {
						assert.Equal(t, place, x.Folders[kind], folder)
					}
				}
				left := map[string]string{}
				for _, l := range x.Left {
					left[l.Path] = l.Why
				}
				assert.Contains(t, left["old/thing.blend"], "nothing of a project ends in .blend")
				assert.Contains(t, left["levels/src/a.vnx.bak"], "a backup")
				assert.Contains(t, left["pack.zip"], "an archive")
				assert.Contains(t, x.Metadata, "notes to self.txt")
				assert.Len(t, x.Files, count(t, pile)-len(x.Left)-len(x.Metadata),
					"every file is taken, left, or may be metadata")

				dir := t.TempDir()
				for _, f := range x.Files {
					data, err := os.ReadFile(filepath.Join(pile, filepath.FromSlash(f.From)))
					require.NoError(t, err)
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, f.To)), 0o777))
					require.NoError(t, os.WriteFile(filepath.Join(dir, f.To), data, 0o666))
				}
				require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), x.TOML, 0o666))
				assert.Equal(t, needed(t, from), needed(t, dir))
			})
		}
	}
}

func count(t *testing.T, dir string) (n int) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			n++
		}
		return err
	}))
	return n
}

// needed are the names of what the maps of a project need.
func needed(t *testing.T, dir string) (list []string) {
	t.Helper()
	p := demotest.Load(t, dir)
	g, err := assetgraph.ScanProject(t.Context(), p)
	require.NoError(t, err)
	for _, a := range assetgraph.Closure(g.Roots()...) {
		list = append(list, string(a.Kind)+" "+a.Name)
	}
	for _, f := range g.Findings {
		assert.False(t, f.Severity == finding.Error, "%s: %s", f.ID, f.Text)
	}
	return list
}

func TestPilesThatTellTooLittle(t *testing.T) {
	all := profiles(t)
	dir := t.TempDir()
	put := func(rel, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, rel)), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, rel), []byte(text), 0o666))
	}
	put("a.png", "x")
	_, err := importer.Propose(t.Context(), dir, importer.Options{Profiles: all})
	assert.ErrorContains(t, err, "which game is it for?")
	x, err := importer.Propose(t.Context(), dir,
		importer.Options{Name: "a", Title: "A \"quoted\" title", Profiles: all[:1]})
	require.NoError(t, err)
	assert.False(t, x.Guessed)
	assert.Equal(t, "textures/a.png", x.Files[0].To, "what lies in the folder itself gets one of its own")
	assert.NoError(t, project.Check(x.TOML))
	_, err = importer.Propose(t.Context(), dir, importer.Options{Profiles: all[:1], InPlace: true})
	assert.ErrorContains(t, err, "lie in the folder itself")
	put("vornix.toml", "")
	_, err = importer.Propose(t.Context(), dir, importer.Options{Profiles: all})
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.ErrorContains(t, err, "is a project already")
	_, err = importer.Propose(t.Context(), filepath.Join(dir, "nowhere"), importer.Options{Profiles: all})
	assert.Equal(t, fault.Usage, fault.KindOf(err))
}
