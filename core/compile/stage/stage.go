// Package stage is what the long compile stages have in common: they can be left out or run as a
// draft, use all processors with the same result on any number, keep what they made by content, say
// how far they are, stop when they are told to, and keep to a budget of memory.
package stage

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vornix/core/base/group"
)

// The long stages, in the order in which they run.
const (
	Visibility  = "visibility"
	Lighting    = "lighting"
	Reflections = "reflections"
	Navigation  = "navigation"
)

// Names are the long stages.
var Names = []string{Visibility, Lighting, Reflections, Navigation}

// How a stage is run.
const (
	Draft = "draft"
	Full  = "full"
)

// Store keeps results by key. *taskgraph.Task is one.
type Store interface {
	CachedPart(key string) (data []byte, ok bool)
	CachePart(key string, data []byte) error
}

// Env is what a stage runs in. The zero value runs everything in full, on all processors, and keeps nothing.
type Env struct {
	Only     []string // the stages to run; nil: all
	Draft    bool     // quick and rough
	Workers  int      // 0: one a processor
	Memory   int64    // bytes that a stage may take; 0: DefaultMemory
	Store    Store    // nil: nothing is kept
	Progress func(stage string, done, total int64)
	Took     func(stage string, d time.Duration) // told how long a stage took; nil: nobody wants to know
	// Grows is told, before a stage takes memory, about how many bytes it will be; nil: nobody wants to know.
	Grows       func(bytes int64)
	Distributor Distributor // others who do parts of the work; nil: there are none
}

// DefaultMemory is the budget of a stage where nobody sets one.
const DefaultMemory = 4 << 30

// Runs says whether a stage is to run.
func (e *Env) Runs(name string) bool { return e.Only == nil || slices.Contains(e.Only, name) }

// How is Draft or Full.
func (e *Env) How() string {
	if e.Draft {
		return Draft
	}
	return Full
}

// Budget is the memory that a stage may take, in bytes.
func (e *Env) Budget() int64 {
	if e.Memory > 0 {
		return e.Memory
	}
	return DefaultMemory
}

// Afford says whether a stage may take so many bytes, and tells those who want to know that it will.
func (e *Env) Afford(bytes int64) bool {
	if bytes > e.Budget() {
		return false
	}
	if e.Grows != nil {
		e.Grows(bytes)
	}
	return true
}

// Work is one stage's work, whose steps are counted.
type Work struct {
	env   *Env
	name  string
	total int64
	done  atomic.Int64
	mu    sync.Mutex
	said  int64
}

// Begin begins a stage's work of so many steps, of any size as long as all are of about the same.
func (e *Env) Begin(name string, total int64) *Work {
	w := &Work{env: e, name: name, total: max(total, 1)}
	w.Step(0)
	return w
}

// Step counts steps that are done, or that turned out not to be needed.
func (w *Work) Step(n int64) {
	done := w.done.Add(n)
	if w.env.Progress == nil {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if done = min(max(done, w.said), w.total); done > w.said || done == 0 {
		w.said = done
		w.env.Progress(w.name, done, w.total)
	}
}

// Left is how many steps are left.
func (w *Work) Left() int64 { return max(w.total-w.done.Load(), 0) }

// Each calls do for 0 to n-1 on all processors, size at a time, and counts weight steps for each.
// do must not depend on what other calls did. It ends with ctx's error when it was cancelled.
func (w *Work) Each(ctx context.Context, n, size int, weight int64, do func(first, last int)) error {
	workers := w.env.Workers
	if workers <= 0 {
		workers = runtime.GOMAXPROCS(0)
	}
	var next atomic.Int64
	var wait group.All
	for range min(workers, (n+size-1)/size) {
		wait.Go(func() {
			for ctx.Err() == nil {
				first := int(next.Add(int64(size))) - size
				if first >= n {
					return
				}
				last := min(first+size, n)
				do(first, last)
				w.Step(weight * int64(last-first))
			}
		})
	}
	wait.Wait()
	return ctx.Err()
}

// Key names a result by all that decides it: numbers, and lists and structs of nothing else, as
// they are, and of the other parts whatever JSON shows.
func Key(parts ...any) string {
	h := sha256.New()
	for _, p := range parts {
		var b []byte
		err := errors.ErrUnsupported
		if v := reflect.ValueOf(p); v.IsValid() && (v.Kind() != reflect.Pointer || !v.IsNil()) {
			b, err = binary.Append(nil, binary.LittleEndian, p)
		}
		if err != nil { // nothing, strings in it, or numbers without a size
			if b, err = json.Marshal(p); err != nil {
				panic(fmt.Sprintf("a part of a key can't be written: %v", err)) // only called with plain structs
			}
		}
		h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(b))))
		h.Write(b)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Once gives what is kept under a key, or makes it and keeps it. use takes it; what it refuses is
// made again. steps are counted when nothing had to be made.
func (w *Work) Once(key string, steps int64, use func(data []byte) bool, make func() ([]byte, error)) error {
	s := w.env.Store
	if s != nil {
		if data, ok := s.CachedPart(key); ok && use(data) {
			w.Step(steps)
			return nil
		}
	}
	data, err := make()
	if err != nil || s == nil {
		return err
	}
	return s.CachePart(key, data)
}
