package salvage_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/project"
	"vornix/core/game/gamefs"
	"vornix/core/game/salvage"
	"vornix/internal/demotest"
	"vornix/internal/peer"
)

var ctx = context.Background()

// packed is a demo project with its bundle's bytes.
func packed(t *testing.T, name string) (*project.Project, []byte) {
	t.Helper()
	p := demotest.Built(t, name)
	data, err := os.ReadFile(demotest.Packed(t, p, false)[0])
	require.NoError(t, err)
	return p, data
}

func run(t *testing.T, p *project.Project, data []byte) (*salvage.Result, *gamefs.Bundle) {
	t.Helper()
	dir := t.TempDir()
	from, to := filepath.Join(dir, "broken"), filepath.Join(dir, "saved.zip")
	require.NoError(t, os.WriteFile(from, data, 0o666))
	r, err := salvage.Run(ctx, p.Profile, from, to)
	require.NoError(t, err)
	b, err := gamefs.Open(to)
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	assert.Len(t, b.Entries(), r.Written)
	return r, b
}

func find(t *testing.T, r *salvage.Result, name string) salvage.Found {
	t.Helper()
	for _, f := range r.Found {
		if f.Name == name {
			return f
		}
	}
	var names []string
	for _, f := range r.Found {
		names = append(names, f.Name)
	}
	t.Fatalf("%s is not among %v", name, names)
	return salvage.Found{}
}

// Without its directory, or cut off, every whole entry is saved, byte for byte, in both forms of bundles.
func TestWithoutADirectory(t *testing.T) {
	for _, name := range []string{"highline", "lower-sidings"} {
		p, data := packed(t, name)
		central := bytes.Index(data, []byte("PK\x01\x02"))
		r, b := run(t, p, data[:central])
		for _, f := range r.Found {
			assert.True(t, f.Whole && f.Certain && f.Written, f.Name)
			got, err := b.ReadFile(f.Name)
			require.NoError(t, err)
			want, err := os.ReadFile(p.Join(project.TreeDir, f.Name))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want, got), f.Name)
		}
		all := len(r.Found)
		r, _ = run(t, p, data[:central*3/4])
		assert.Less(t, r.Written, all)
		last := r.Found[len(r.Found)-1]
		assert.False(t, last.Whole)
		assert.Contains(t, last.Why, "damaged or cut off")
	}
}

// blank wipes the name out of an entry's own header, and with all of the directory's too.
func blank(t *testing.T, data []byte, name string, all bool) {
	t.Helper()
	n := 0
	for from := 0; ; n++ {
		i := bytes.Index(data[from:], []byte(name))
		if i < 0 || n > 0 && !all {
			break
		}
		clear(data[from+i : from+i+len(name)])
		from += i + len(name)
	}
	require.Positive(t, n)
}

// Names come back: from the directory where it still has them, from maps that say their own, from
// what refers to them. Each says how certain it is.
func TestNamesComeBack(t *testing.T) {
	p, whole := packed(t, "highline")
	data := bytes.Clone(whole)
	blank(t, data, "textures/rock/slab.ktx2", false)
	r, _ := run(t, p, data)
	f := find(t, r, "textures/rock/slab.ktx2")
	assert.Equal(t, salvage.FromDirectory, f.How)
	assert.True(t, f.Certain)

	data = bytes.Clone(whole)
	// two sounds are missing, one of which never was there
	for _, name := range []string{"maps/cairn_station.vnm", "materials/rock/slab.toml", "materials/wood/plank.toml",
		"textures/snow/drift.ktx2", "sounds/station/hum.wav"} {
		blank(t, data, name, true)
	}
	r, b := run(t, p, data)
	for name, how := range map[string]string{"maps/cairn_station.vnm": salvage.FromContent,
		"materials/rock/slab.toml": salvage.FromReference, "materials/wood/plank.toml": salvage.FromReference,
		"textures/snow/drift.ktx2": salvage.FromReference} {
		f := find(t, r, name)
		assert.Equal(t, how, f.How, name)
		assert.False(t, f.Certain, name)
		got, err := b.ReadFile(name)
		require.NoError(t, err)
		want, err := os.ReadFile(p.Join(project.TreeDir, name))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, got), name)
	}

	assert.Equal(t, "wav", find(t, r, "lost/0001.wav").Kind)

	// Two textures without names can't be told apart, and nobody guesses; the kind is told by content.
	data = bytes.Clone(whole)
	blank(t, data, "textures/rock/slab.ktx2", true)
	blank(t, data, "textures/wood/plank.ktx2", true)
	r, _ = run(t, p, data)
	for _, name := range []string{"lost/0001.ktx2", "lost/0002.ktx2"} {
		f := find(t, r, name)
		assert.Equal(t, salvage.Numbered, f.How)
		assert.Equal(t, "ktx2", f.Kind)
	}
	q := *p
	q.Profile = nil
	data = bytes.Clone(whole)
	blank(t, data, "waybill.json", true)
	blank(t, data, "scripts/winch.txt", true)
	blank(t, data, "materials/rock/slab.toml", true)
	r, _ = run(t, &q, data)
	for _, name := range []string{"lost/0001.json", "lost/0001.txt", "lost/0001.toml"} {
		find(t, r, name)
	}
}

// Damage anywhere costs the entries that it hits and no others; a hostile name is never written;
// another's archives are saved too.
func TestDamage(t *testing.T) {
	p, whole := packed(t, "highline")
	base, _ := run(t, p, whole)
	for at := 1000; at < len(whole); at += len(whole) / 12 {
		data := bytes.Clone(whole)
		for i := at; i < min(len(data), at+64); i++ {
			data[i] ^= 0xa5
		}
		r, _ := run(t, p, data)
		assert.GreaterOrEqual(t, r.Written, base.Written-2, "damage at %d", at)
	}
	data := bytes.ReplaceAll(bytes.Clone(whole), []byte("materials/wood/plank.toml"),
		[]byte("../../../../../plank.toml"))
	r, b := run(t, p, data)
	for _, e := range b.Entries() {
		assert.NotContains(t, e.Name, "..")
	}
	f := find(t, r, "materials/wood/plank.toml")
	assert.True(t, f.Written)
	assert.Equal(t, salvage.FromReference, f.How, "a name that leads out is no name")

	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte(strings.Repeat("text\n", 500)), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.bin"), whole[:5000], 0o666))
	file := filepath.Join(dir, "a.zip")
	peer.Run(t, dir, peer.Need(t, "zip"), "-q", "-fd", file, "a.txt", "b.bin")
	streamed, err := os.ReadFile(file)
	require.NoError(t, err)
	r, _ = run(t, p, streamed[:bytes.Index(streamed, []byte("PK\x01\x02"))])
	assert.Equal(t, 2, r.Written)

	_, err = salvage.Run(ctx, p.Profile, p.Join("vornix.toml"), filepath.Join(dir, "out.zip"))
	assert.ErrorContains(t, err, "nothing was found")
	_, err = salvage.Run(ctx, p.Profile, filepath.Join(dir, "nowhere"), filepath.Join(dir, "out.zip"))
	assert.Error(t, err)
	assert.NoFileExists(t, filepath.Join(dir, "out.zip"))
}
