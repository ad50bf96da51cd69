package stall_test

import (
	"context"
	"io"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/stall"
)

// slow gives one byte after each pause, ends after some, or stays silent.
type slow struct {
	pause time.Duration
	left  int
	ctx   context.Context
}

func (s *slow) Read(p []byte) (int, error) {
	if s.left == 0 {
		return 0, io.EOF
	}
	s.left--
	select {
	case <-time.After(s.pause):
		return copy(p[:1], "x"), nil
	case <-s.ctx.Done():
		return 0, s.ctx.Err()
	}
}

// What moves is left alone; what is silent, or drips, is given up in bounded time.
func TestStalls(t *testing.T) {
	for _, c := range []struct {
		name    string
		pause   time.Duration
		bytes   int
		least   float64
		stalled bool
	}{{"it moves", 9 * time.Second, 20, 0, false}, {"it is silent", time.Hour, 1, 0, true},
		{"it drips", 9 * time.Second, 20, 1, true}} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ctx, cancel := context.WithCancelCause(t.Context())
				defer cancel(nil)
				begun := time.Now()
				w := stall.Watch(cancel, &slow{c.pause, c.bytes, ctx}, 10*time.Second, c.least)
				data, err := io.ReadAll(w)
				w.Stop()
				if c.stalled {
					require.Error(t, err)
					assert.ErrorIs(t, context.Cause(ctx), stall.Err)
					assert.Less(t, time.Since(begun), 31*time.Second)
					return
				}
				require.NoError(t, err)
				assert.Len(t, data, c.bytes)
				time.Sleep(time.Minute)
				assert.NoError(t, ctx.Err(), "after its end nothing is cancelled")
			})
		})
	}
}
