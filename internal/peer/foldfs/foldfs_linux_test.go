package foldfs_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// The file system does what the tests that use it rely on.
func TestNamesAreFolded(t *testing.T) {
	for _, keeps := range []bool{false, true} {
		folded(t, peer.Folding(t, keeps), keeps)
	}
}

func folded(t *testing.T, dir string, keeps bool) {
	names := func() (list []string) {
		entries, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range entries {
			list = append(list, e.Name())
		}
		return list
	}
	at := func(name string) string { return filepath.Join(dir, filepath.FromSlash(name)) }
	require.NoError(t, os.WriteFile(at("Ore"), []byte("one"), 0o666))
	data, err := os.ReadFile(at("oRE"))
	require.NoError(t, err)
	assert.Equal(t, "one", string(data))
	require.NoError(t, os.WriteFile(at("ORE"), []byte("two"), 0o666))
	assert.Equal(t, []string{"Ore"}, names(), "it keeps its spelling")
	a, err := os.Stat(at("Ore"))
	require.NoError(t, err)
	b, err := os.Stat(at("ore"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(a, b))
	_, err = os.OpenFile(at("oRe"), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	assert.ErrorIs(t, err, os.ErrExist)
	require.NoError(t, os.Rename(at("Ore"), at("oRe")))
	assert.Equal(t, []string{"oRe"}, names())
	require.NoError(t, os.WriteFile(at("a\u0308"), []byte("three"), 0o666))
	require.NoError(t, os.Rename(at("a\u0308"), at("\u00e4")))
	assert.Equal(t, []string{"oRe", "\u00e4"}, names())
	require.NoError(t, os.MkdirAll(at("Maps/Deep"), 0o777))
	require.NoError(t, os.WriteFile(at("maps/deep/X"), nil, 0o666))
	require.NoError(t, os.Rename(at("Maps"), at("maps")))
	require.NoError(t, os.Rename(at("maps/deep/x"), at("ORE")), "over what is there")
	last := "ORE"
	if keeps {
		last = "oRe"
	}
	assert.ElementsMatch(t, []string{last, "maps", "\u00e4"}, names())
	require.NoError(t, os.RemoveAll(at("MAPS")))
	require.NoError(t, os.Remove(at("A\u0308")))
	assert.Equal(t, []string{last}, names())
}
