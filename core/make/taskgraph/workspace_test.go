package taskgraph_test

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/make/taskgraph"
)

// What was used the longest ago goes first, down to the limit; what somebody may be at stays, however much that is.
func TestABenchIsTrimmed(t *testing.T) {
	dir, err := safefile.OpenDir(t.TempDir())
	require.NoError(t, err)
	defer dir.Close()
	bench := taskgraph.NewWorkspace(dir)
	require.NoError(t, bench.Trim(0, time.Now()), "nothing is there yet")
	now := time.Now()
	var list []taskgraph.Output
	for i := range 6 {
		data := make([]byte, 1000)
		data[0] = byte(i)
		sum := sha256.Sum256(data)
		o := taskgraph.Output{SHA256: hex.EncodeToString(sum[:]), Size: 1000}
		require.NoError(t, bench.Put(o, func(w io.Writer) error { _, err := w.Write(data); return err }))
		at := now.Add(time.Duration(i-10) * time.Hour)
		require.NoError(t, os.Chtimes(bench.Path(o.SHA256), at, at))
		list = append(list, o)
	}
	there := func() (left []int) {
		for i, o := range list {
			if _, err := os.Stat(bench.Path(o.SHA256)); err == nil {
				left = append(left, i)
			}
		}
		return left
	}
	assert.True(t, bench.Has(list[0]), "now it was used last")
	require.NoError(t, bench.Trim(4000, now))
	assert.Equal(t, []int{0, 3, 4, 5}, there())
	require.NoError(t, bench.Trim(0, now.Add(-5*time.Hour-time.Minute)))
	assert.Equal(t, []int{0, 5}, there())
	require.NoError(t, os.WriteFile(bench.Path(list[5].SHA256), []byte("spoilt"), 0o666))
	assert.False(t, bench.Has(list[5]))
	require.NoError(t, bench.Trim(0, time.Now().Add(time.Second)))
	assert.Empty(t, there())
}
