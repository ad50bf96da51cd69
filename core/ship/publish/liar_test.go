package publish_test

import (
	"bytes"
	"encoding/json"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/safefile"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
)

// liar changes values in the answers of a workshop.
type liar struct {
	next http.RoundTripper
	r    *rand.Rand
}

var lies = []any{nil, "", "../../../etc/passwd", "a\x1b[2J\u202eb", strings.Repeat("x", 5000), -1.0, 0.0, 1e18, true,
	[]any{}, map[string]any{}, "hidden", "published", "checking", []any{"../x", nil, 7.0}, strings.Repeat("0", 64)}

func (l liar) RoundTrip(r *http.Request) (*http.Response, error) {
	a, err := l.next.RoundTrip(r)
	if err != nil || !strings.HasSuffix(a.Header.Get("Content-Type"), "json") || l.r.IntN(3) > 0 {
		return a, err
	}
	data, err := io.ReadAll(a.Body)
	a.Body.Close()
	if err != nil {
		return nil, err
	}
	var value any
	if json.Unmarshal(data, &value) == nil {
		value = l.bend(value, 1+l.r.IntN(12))
		data, _ = json.Marshal(value)
	}
	a.Body, a.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
	a.Header.Del("Content-Length")
	return a, nil
}

// bend replaces about one of so many values.
func (l liar) bend(value any, of int) any {
	if l.r.IntN(3*of) == 0 {
		return lies[l.r.IntN(len(lies))]
	}
	switch x := value.(type) {
	case map[string]any:
		var keys []string
		for k := range x {
			keys = append(keys, k)
		}
		sort.Strings(keys) // the same lies in every run
		for _, k := range keys {
			x[k] = l.bend(x[k], of)
		}
	case []any:
		for i := range x {
			x[i] = l.bend(x[i], of)
		}
		if len(x) > 0 && l.r.IntN(4*of) == 0 {
			x = append(x, x[0])
		}
		return x
	}
	return value
}

// A workshop that lies, hundreds of times in other ways, is believed nothing that matters: there is
// an error or there is none, nothing is written outside the folder that was meant, and what came
// down under a good hash is what was published.
func TestAWorkshopThatLies(t *testing.T) {
	d := newDesk(t)
	d.must(publish.PlanOptions{})
	record, err := os.ReadFile(d.p.Join(publish.RecordFile))
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(11, 12))
	d.access.Round = func(next http.RoundTripper) http.RoundTripper { return liar{next, r} }
	d.access.Client = func(o *workshop.Options) { o.Retries, o.Stall = -1, 5*time.Second }
	around := t.TempDir()
	failed, got := 0, 0
	for i := range 250 {
		if i%5 == 0 { // as if it were the first time
			_ = os.Remove(d.p.Join(publish.RecordFile))
		} else {
			d.write(publish.RecordFile, record)
		}
		d.pack([]string{"1.0.0", "1.1.0"}[i%2], byte(1+i%2))
		done := make(chan error, 1)
		go func() {
			_, _, err := d.publish(publish.PlanOptions{}, publish.Options{})
			done <- err
		}()
		select {
		case err := <-done:
			if err != nil {
				failed++
				assertTokenless(t, d, err)
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("run %d does not end", i)
		}
		inside := filepath.Join(around, "in")
		dir, err := safefile.MakeDir(inside)
		require.NoError(t, err)
		x, err := publish.Open(ctx, d.p, "exchange", d.access)
		if err == nil {
			var have *publish.Got
			if have, err = x.Get(ctx, "lower_sidings", dir, nil); err == nil {
				got++
				for name, sum := range have.Sums {
					data, err := os.ReadFile(filepath.Join(inside, name))
					require.NoError(t, err)
					now, _, err := safefile.HashFile(filepath.Join(inside, name))
					require.NoError(t, err)
					assert.Equal(t, sum, now)
					assert.True(t, bytes.Equal(data, d.data["1.0.0"]) || bytes.Equal(data, d.data["1.1.0"]), "run %d",
						i)
				}
			}
			x.Close()
		}
		dir.Close()
		list, err := os.ReadDir(around)
		require.NoError(t, err)
		require.Len(t, list, 1, "nothing beside it")
		require.NoError(t, os.RemoveAll(inside))
	}
	t.Logf("250 publishings to a workshop that lies: %d ended with an error, and %d times it could be got", failed, got)
	assert.Greater(t, failed, 25)
	assert.Greater(t, got, 25)
	d.access.Round = nil
	d.sound("after all the lies")
}
