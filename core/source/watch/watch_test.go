package watch_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/source/watch"
)

// Every change comes exactly once, also in folders that are new, also while a call is under way,
// and also where the system tells nothing.
func TestEveryChangeIsTold(t *testing.T) {
	for name, every := range map[string]time.Duration{"heard": time.Hour, "looked at": 30 * time.Millisecond} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			put := func(rel, text string) {
				file := filepath.Join(dir, rel)
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o777))
				require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
			}
			put("maps/a.vnx", "a")
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			calls := make(chan []watch.Change)
			ended := make(chan error, 1)
			go func() {
				ended <- watch.Run(ctx, dir, watch.Options{Settle: 20 * time.Millisecond, Every: every},
					func(c []watch.Change) { calls <- c })
			}()
			assert.Empty(t, <-calls, "once at the beginning")
			seen := map[watch.Change]int{}
			until := func(want ...watch.Change) {
				t.Helper()
				for range want {
					select {
					case list := <-calls:
						for _, c := range list {
							seen[c]++
						}
					case <-time.After(3 * time.Second):
					}
					all := true
					for _, w := range want {
						all = all && seen[w] == 1
					}
					if all {
						return
					}
				}
				assert.Fail(t, "not told", "%v of %v", seen, want)
			}
			put("maps/a.vnx", "longer")
			until(watch.Change{Path: "maps/a.vnx", State: watch.Changed})
			if every == time.Hour {
				put("maps/b.vnx", "b") // a folder that is new is heard of by its first file only when one looks
			} else {
				put("deep/new/b.vnx", "b")
			}
			require.NoError(t, os.Remove(filepath.Join(dir, "maps", "a.vnx")))
			put("out/tree/made.txt", "which is no source")
			put(".vornix/state", "nor is this")
			until(watch.Change{Path: "maps/a.vnx", State: watch.Removed},
				watch.Change{Path: map[bool]string{true: "maps/b.vnx", false: "deep/new/b.vnx"}[every == time.Hour],
					State: watch.Added})
			assert.Len(t, seen, 3)
			cancel()
			require.NoError(t, <-ended)
		})
	}
}
