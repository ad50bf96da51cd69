package taskgraph

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vornix/core/make/remotecache"
)

// Records that others wrote are read as if they were made to do harm: what is taken is of the key
// that was asked for, of the job's own outputs, and of nothing else.
func FuzzRecord(f *testing.F) {
	key, sum := strings.Repeat("ab", 32), strings.Repeat("0c", 32)
	for _, s := range []string{
		`{"Key":"` + key + `","Outputs":[{"Path":"maps/a.vnm","SHA256":"` + sum +
			`","Size":3},{"Path":"a.json","SHA256":"` + sum + `","Size":0}],"Findings":null}`,
		`{"Key":"` + key + `","Outputs":[{"Path":"maps/a.vnm","SHA256":"` + sum + `"},{"Path":"maps/a.vnm","SHA256":"` +
			sum + `"}]}`,
		`{"Key":"` + key + `","Outputs":[{"Path":"../a.json","SHA256":"` + sum +
			`"},{"Path":"maps/a.vnm","SHA256":"../../etc"}]}`,
		`{"Key":"` + key + `","Outputs":[{"Path":"maps/a.vnm","SHA256":"` + sum +
			`","Size":-1},{"Path":"a.json","SHA256":"` + sum +
			`","Size":1e9}],"Findings":[{"id":"none","severity":"error"}]}`,
		`{"Key":null}`, `[]`, "",
	} {
		f.Add([]byte(s))
	}
	outputs := []string{"a.json", "maps/a.vnm"}
	f.Fuzz(func(t *testing.T, data []byte) {
		rec, ok := readRecord(data, key, outputs)
		if !ok {
			require.Empty(t, rec.Outputs)
			return
		}
		require.Equal(t, key, rec.Key)
		var paths []string
		for _, o := range rec.Outputs {
			paths = append(paths, o.Path)
			require.True(t, remotecache.IsKey(o.SHA256) && o.Size >= 0)
		}
		slices.Sort(paths)
		require.Equal(t, outputs, paths)
	})
}
