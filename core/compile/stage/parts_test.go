package stage_test

import (
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/compile/stage"
)

// squares is work whose pieces are squares of their numbers, each made in a moment.
func squares(n, block int, key func(first int) string) ([]uint64, stage.Parts) {
	list := make([]uint64, n)
	return list, stage.Parts{Key: key, N: n, Block: block, Size: 3, Weight: 2, Do: func(first, last int) {
		for i := first; i < last; i++ {
			for start := time.Now(); time.Since(start) < 100*time.Microsecond; {
			}
			list[i] = uint64(i) * uint64(i)
		}
	}, Pack: func(first, last int) (data []byte) {
		for _, v := range list[first:last] {
			data = binary.LittleEndian.AppendUint64(data, v)
		}
		return data
	}, Unpack: func(first, last int, data []byte) bool {
		if len(data) != 8*(last-first) {
			return false
		}
		for i := first; i < last; i++ {
			list[i] = binary.LittleEndian.Uint64(data[8*(i-first):])
		}
		return true
	}}
}

// helpers are a distributor in the same process, of whom each behaves in his own way.
type helpers struct {
	mu     sync.Mutex
	ways   []string // "good", "slow", "back", "wrong", "short", "silent", "late"
	made   map[string][]string
	caught []string
	pieces int
}

func (h *helpers) Serve(context.Context, string, *stage.Parts) (bool, error) { return false, nil }
func (h *helpers) Passing(string) ([]byte, bool)                             { return nil, false }

func (h *helpers) Made(key string, _ []byte, by []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.made[key] = by
}

func (h *helpers) Distribute(ctx context.Context, _ string, p *stage.Pool) {
	var group sync.WaitGroup
	defer group.Wait()
	for _, way := range h.ways {
		group.Go(func() {
			for p.Ready(ctx, 2*time.Millisecond) {
				if l := p.Lease(5*time.Millisecond, 2*time.Millisecond, len(h.ways)); l != nil {
					h.do(ctx, way, p, l)
				}
			}
		})
	}
}

func (h *helpers) do(ctx context.Context, way string, p *stage.Pool, l *stage.Lease) {
	h.mu.Lock()
	h.pieces += l.Last - l.First
	h.mu.Unlock()
	var data []byte
	for i := l.First; i < l.Last; i++ {
		data = binary.LittleEndian.AppendUint64(data, uint64(i)*uint64(i))
	}
	time.Sleep(time.Millisecond)
	switch way {
	case "slow":
		p.Started(l)
		time.Sleep(time.Duration(rand.IntN(20)) * time.Millisecond)
	case "back":
		p.Return(l)
		return
	case "wrong":
		for i := range data {
			data[i] ^= 1
		}
	case "short":
		data = data[:len(data)-1]
	case "silent": // takes them and never says a word
		<-ctx.Done()
		return
	case "late": // comes when nobody waits any more
		<-ctx.Done()
		if p.Started(l) {
			panic("nobody takes them back")
		}
	}
	if right, _ := p.Complete(l, data, false, way); !right {
		h.mu.Lock()
		h.caught = append(h.caught, way)
		h.mu.Unlock()
	}
}

// However helpers behave, each piece comes out as it should, is counted once, and is kept with the
// names of those who helped.
func TestPartsWithOthersHelp(t *testing.T) {
	for name, ways := range map[string][]string{"nobody": nil, "good": {"good", "slow"},
		"moody": {"good", "back", "slow", "back"}, "liars": {"wrong", "good", "short"},
		"silent": {"silent", "good", "late"}} {
		for _, block := range []int{0, 1, 70} {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				const n = 1500
				h := &helpers{ways: ways, made: map[string][]string{}}
				s := &shelf{kept: map[string][]byte{}}
				said := int64(0)
				e := &stage.Env{Workers: 2, Store: &locked{shelf: s}, Distributor: h,
					Progress: func(_ string, done, _ int64) { said = done }}
				key := func(first int) string { return stage.Key("squares", first) }
				list, p := squares(n, block, key)
				w := e.Begin("s", 2*n)
				require.NoError(t, w.Parts(context.Background(), p))
				for i, v := range list {
					require.EqualValues(t, i*i, v)
				}
				assert.EqualValues(t, 2*n, said)
				assert.Len(t, s.kept, len(h.made))
				for _, by := range h.made {
					assert.NotContains(t, by, "wrong")
					assert.NotContains(t, by, "short")
				}
				if slices.Contains(ways, "wrong") {
					assert.NotEmpty(t, h.caught)
				}
				if len(ways) > 0 {
					assert.NotZero(t, h.pieces)
				}
				// What is kept is not made again, by nobody.
				again, p := squares(n, block, key)
				p.Do = func(int, int) { t.Error("it was kept") }
				alone := &stage.Env{Workers: 2, Store: s}
				require.NoError(t, alone.Begin("s", 2*n).Parts(context.Background(), p))
				assert.Equal(t, list, again)
			})
		}
	}
}

// locked is a shelf for several goroutines.
type locked struct {
	mu sync.Mutex
	*shelf
}

func (l *locked) CachePart(key string, data []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.shelf.CachePart(key, data)
}

// Parts end when they are told to, and when what they made can't be kept; passing ones are kept by
// nobody but those who help.
func TestPartsThatEndEarly(t *testing.T) {
	key := func(int) string { return "k" }
	for _, distributor := range []stage.Distributor{nil,
		&helpers{ways: []string{"silent", "good"}, made: map[string][]string{}}} {
		ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
		_, p := squares(1<<20, 0, key)
		start := time.Now()
		require.ErrorIs(t, (&stage.Env{Workers: 2, Distributor: distributor}).Begin("s", 1).Parts(ctx, p),
			context.DeadlineExceeded)
		assert.Less(t, time.Since(start), 2*time.Second)
		cancel()
		full := errors.New("the disk is full")
		_, p = squares(100, 0, key)
		require.ErrorIs(t,
			(&stage.Env{Workers: 2, Distributor: distributor, Store: &shelf{err: full}}).Begin("s",
				1).Parts(context.Background(), p),
			full)
		s := &shelf{kept: map[string][]byte{}}
		_, p = squares(100, 0, key)
		p.Passing = true
		require.NoError(t,
			(&stage.Env{Workers: 2, Distributor: distributor, Store: s}).Begin("s", 1).Parts(context.Background(), p))
		assert.Empty(t, s.kept)
		_, p = squares(0, 0, key)
		require.NoError(t, (&stage.Env{Distributor: distributor}).Begin("s", 1).Parts(context.Background(), p))
	}
}
