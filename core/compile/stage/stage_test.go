package stage_test

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/stage"
)

// Work is shared so that everything is done once, whatever the number of workers and the size of a
// share, and its steps add up.
func TestEachDoesEverythingOnce(t *testing.T) {
	for _, workers := range []int{0, 1, 2, 8} {
		for _, n := range []int{0, 1, 7, 64, 1000} {
			for _, size := range []int{1, 3, 64, 5000} {
				var mu sync.Mutex
				last := int64(-1)
				e := &stage.Env{Workers: workers, Progress: func(name string, done, total int64) {
					mu.Lock()
					defer mu.Unlock()
					require.Equal(t, "s", name)
					require.GreaterOrEqual(t, done, last)
					require.LessOrEqual(t, done, total)
					last = done
				}}
				w := e.Begin("s", int64(2*n))
				count := make([]atomic.Int32, n)
				require.NoError(t, w.Each(context.Background(), n, size, 2, func(first, last int) {
					require.LessOrEqual(t, last-first, size)
					for i := first; i < last; i++ {
						count[i].Add(1)
					}
				}))
				for i := range count {
					require.EqualValues(t, 1, count[i].Load())
				}
				require.EqualValues(t, 2*n, last, "all steps were told")
				require.Zero(t, w.Left()&^1) // a stage without work counts as one step
			}
		}
	}
}

func TestACancelledShareIsTheLast(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	var done atomic.Int32
	err := (&stage.Env{Workers: 3}).Begin("s", 1).Each(ctx, 100000, 1, 1, func(int, int) {
		if done.Add(1) == 10 {
			cancel()
		} else if done.Load() > 10 {
			<-ctx.Done() // begun before it was cancelled: however slowly that goes, no worker begins two of them
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.LessOrEqual(t, done.Load(), int32(12), "those that the other workers had begun, and no more")
}

// shelf keeps in memory.
type shelf struct {
	kept map[string][]byte
	err  error
}

func (s *shelf) CachedPart(key string) ([]byte, bool) { data, ok := s.kept[key]; return data, ok }

func (s *shelf) CachePart(key string, data []byte) error {
	if s.err == nil {
		s.kept[key] = data
	}
	return s.err
}

// What is kept is used and counts as done; what is not, or is refused, is made; what failed is not kept.
func TestOnce(t *testing.T) {
	s := &shelf{kept: map[string][]byte{}}
	e := &stage.Env{Store: s}
	w := e.Begin("s", 100)
	made, used := 0, ""
	use := func(data []byte) bool { used = string(data); return used != "spoilt" }
	make := func() ([]byte, error) { made++; return []byte("fresh"), nil }
	require.NoError(t, w.Once("a", 10, use, make))
	assert.Equal(t, 1, made)
	assert.EqualValues(t, 100, w.Left(), "making counts its own steps")
	require.NoError(t, w.Once("a", 10, use, make))
	assert.Equal(t, 1, made)
	assert.Equal(t, "fresh", used)
	assert.EqualValues(t, 90, w.Left())
	s.kept["a"] = []byte("spoilt")
	require.NoError(t, w.Once("a", 10, use, make))
	assert.Equal(t, 2, made)
	assert.Equal(t, "fresh", string(s.kept["a"]))
	broken := errors.New("broken")
	require.ErrorIs(t, w.Once("b", 1, use, func() ([]byte, error) { return nil, broken }), broken)
	assert.NotContains(t, s.kept, "b")
	s.err = errors.New("the disk is full")
	require.ErrorIs(t, w.Once("c", 1, use, make), s.err)
	require.NoError(t, (&stage.Env{}).Begin("s", 1).Once("c", 1, use, make), "nothing need be kept")
}

// A key tells apart whatever is different, also where the same bytes are parted otherwise.
func TestKeys(t *testing.T) {
	type point struct{ X, Y float32 }
	type named struct {
		Name string
		At   point
	}
	seen := map[string]int{}
	for i, parts := range [][]any{
		{}, {nil}, {""}, {"a"}, {"a", "b"}, {"ab"}, {"a", "b", nil}, {[]byte("a"), []byte("b")}, {[]byte("ab")}, {1},
		{2}, {uint32(1)}, {float32(1)}, {true}, {false},
		{[]point{{1, 2}}}, {[]point{{1, 2}, {3, 4}}}, {[]point{{1, 2}}, []point{{3, 4}}}, {[]point{{2, 1}}},
		{named{"a", point{1, 2}}}, {named{"b", point{1, 2}}}, {&named{"a", point{1, 3}}},
		{[3]float32{1, 2, 3}}, {[3]float32{1, 2, 4}}, {[]string{"a", "b"}}, {[]string{"a,b"}}, {map[string]int{"a": 1}},
	} {
		key := stage.Key(parts...)
		require.Len(t, key, 64)
		other, taken := seen[key]
		require.False(t, taken, "parts %d and %d have one key", i, other)
		seen[key] = i
		require.Equal(t, key, stage.Key(parts...))
	}
	require.NotPanics(t, func() { stage.Key((*named)(nil), (*point)(nil)) })
	require.Panics(t, func() { stage.Key(func() {}) })
}

// What a stage may take is what it was given, and who wants to know is told before it takes it.
func TestAfford(t *testing.T) {
	var told []int64
	e := &stage.Env{Memory: 1000, Grows: func(n int64) { told = append(told, n) }}
	assert.True(t, e.Afford(1000))
	assert.False(t, e.Afford(1001))
	assert.Equal(t, []int64{1000}, told)
	assert.True(t, (&stage.Env{}).Afford(stage.DefaultMemory))
	assert.False(t, (&stage.Env{}).Afford(stage.DefaultMemory+1))
	assert.True(t, (&stage.Env{}).Runs(stage.Lighting))
	assert.False(t, (&stage.Env{Only: []string{}}).Runs(stage.Lighting))
	assert.Equal(t, stage.Draft, (&stage.Env{Draft: true}).How())
}
