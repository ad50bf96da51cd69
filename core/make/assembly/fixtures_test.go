package assembly_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/stage"
	"vornix/core/format/mapfile"
	"vornix/core/make/assembly"
	"vornix/internal/demotest"
)

// The packages of core/format test with compiled maps of their own, so that they need no compiler.
// Those files are what today's compiler makes; VORNIX_UPDATE=1 writes them.
func TestFixturesOfFormats(t *testing.T) {
	crate := demotest.Project(t, "highline")
	demotest.Put(t, crate, "maps/crate.vnx",
		[]byte("map crate\nsolid a box -1,-2,0 1,2,3 material=wood/plank\nsolid b cylinder 0,0,3 radius=0.5 height=1 sides=6 material=metal/rail\n"))
	for file, of := range map[string]func() (string, string){
		"mapfile/testdata/cairn_station.vnm.gz": func() (string, string) {
			return demotest.Project(t, "highline").Dir,
				"cairn_station"
		},
		"mapfile/testdata/saltpan_relay.vnm.gz": func() (string, string) {
			return demotest.Project(t, "highline").Dir,
				"saltpan_relay"
		},
		"mapfile/testdata/tram_depot.vnm.gz": func() (string,
			string) {
			return demotest.Project(t, "lower-sidings").Dir, "tram_depot"
		},
		"model/testdata/crate.vnm.gz": func() (string, string) { return crate.Dir, "crate" },
	} {
		dir, name := of()
		p := demotest.Load(t, dir)
		one, err := assembly.CompileOne(t.Context(), p, p.Dir, "maps/"+name+".vnx", nil, &stage.Env{Draft: true})
		require.NoError(t, err)
		require.NotNil(t, one.Compiled, "%v", one.Findings)
		data, err := mapfile.Encode(one.Compiled.Map)
		require.NoError(t, err)
		at := filepath.Join("..", "..", "format", filepath.FromSlash(file))
		if os.Getenv("VORNIX_UPDATE") != "" {
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o777))
			var packed bytes.Buffer
			w, _ := gzip.NewWriterLevel(&packed, gzip.BestCompression)
			_, err := w.Write(data)
			require.NoError(t, errors.Join(err, w.Close()))
			require.NoError(t, os.WriteFile(at, packed.Bytes(), 0o666))
		}
		packed, err := os.Open(at)
		require.NoError(t, err)
		defer packed.Close()
		r, err := gzip.NewReader(packed)
		require.NoError(t, err)
		have, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, string(have) == string(data),
			"%s is not what the compiler makes now: VORNIX_UPDATE=1 go test ./core/make/assembly -run Fixtures", file)
	}
}
