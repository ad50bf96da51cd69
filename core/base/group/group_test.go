package group_test

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/group"
)

// A panic arrives where somebody waits, with the place where it happened, however many groups lie
// between; the others are told to end.
func TestAPanicArrivesWhereSomebodyWaits(t *testing.T) {
	p := group.Caught(func() {
		g, ctx := group.WithContext(context.Background())
		g.Go(func() error {
			var all group.All
			all.Go(func() { spoiled(nil) })
			all.Go(func() {})
			all.Wait()
			return nil
		})
		g.Go(func() error {
			<-ctx.Done()
			return ctx.Err()
		})
		_ = g.Wait()
		t.Error("nobody waits any more")
	})
	require.NotNil(t, p)
	assert.Contains(t, p.Error(), "index out of range")
	assert.Contains(t, string(p.Stack), "spoiled")
}

func spoiled(list []int) int { return list[3] }

func TestWithoutPanicsItIsAGroup(t *testing.T) {
	var g group.Group
	g.SetLimit(1)
	wrong := errors.New("wrong")
	running := 0
	for i := range 20 {
		g.Go(func() error {
			running++
			defer func() { running-- }()
			assert.Equal(t, 1, running)
			if i == 7 {
				return wrong
			}
			return nil
		})
	}
	assert.ErrorIs(t, g.Wait(), wrong)
	assert.Nil(t, group.Caught(func() {}))
}
