package ledger_test

import (
	"bytes"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/config/ledger"
	"vornix/core/config/project"
)

// A last line that was torn by a crash is passed over, and what is recorded after it is not lost with it.
func TestTornLines(t *testing.T) {
	p := &project.Project{Dir: t.TempDir()}
	at := time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)
	for i, cut := range []int64{0, 1, 30, 2} {
		require.NoError(t, ledger.Add(p, ledger.Event{Kind: ledger.Released, Time: at, Version: fmt.Sprint(i)}))
		require.NoError(t, ledger.Add(p, ledger.Event{Kind: ledger.Released, Time: at, Version: "torn"}))
		name := p.Join(ledger.Path())
		info, err := os.Stat(name)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(name, info.Size()-cut))
	}
	require.NoError(t, ledger.Add(p, ledger.Event{Kind: ledger.Released, Time: at, Version: "last"}))
	list, err := ledger.Read(p)
	require.NoError(t, err)
	var versions []string
	for _, e := range list {
		versions = append(versions, e.Version)
	}
	// Without its line end, a line is still whole.
	assert.Equal(t, []string{"0", "torn", "1", "torn", "2", "3", "last"}, versions)
}

// Whatever a ledger has become, the lines that are whole are read, in their order, and no other.
func FuzzParse(f *testing.F) {
	f.Add([]byte("{\"kind\":\"released\",\"version\":\"1.0.0\",\"time\":\"2026-01-02T03:04:05Z\"}\n{\"kind\":\"rel"))
	f.Add([]byte("\n\n{}\nnull\n[1]\n{\"files\":{\"a\":\"b\"}}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list := ledger.Parse(data)
		if len(list) > bytes.Count(data, []byte("\n"))+1 {
			t.Fatalf("%d events of %q", len(list), data)
		}
		ledger.Release(list, "1.0.0")
		ledger.LastIndex(list)
		// Another line behind it is read whatever stands before, where that ended in a line end.
		more := ledger.Parse(append(append([]byte{}, data...),
			"\n{\"kind\":\"released\",\"version\":\"9.9.9\",\"time\":\"2026-01-02T03:04:05Z\"}\n"...))
		if len(more) == 0 || more[len(more)-1].Version != "9.9.9" {
			t.Fatalf("lost a line after %q", data)
		}
	})
}
