package deploy

import (
	"context"
	"sync"

	"vornix/core/base/fault"
	"vornix/core/base/group"
)

// Outcome is how one of several targets ended.
type Outcome struct {
	Target string  `json:"target"`
	State  string  `json:"state"` // done, unchanged, failed, not started
	Result *Result `json:"result,omitempty"`
	Error  string  `json:"error,omitempty"`
	Err    error   `json:"-"`
}

// The states of an Outcome.
const (
	Done       = "done"
	Unchanged  = "unchanged"
	Failed     = "failed"
	NotStarted = "not started"
)

// FleetOptions for Fleet.
type FleetOptions struct {
	AtOnce int // targets at once; 0 for 4
	// Wave sends the first target ahead; Look is asked then whether the others follow. Its error stops them.
	Wave bool
	Look func(ctx context.Context, first *Outcome) error
	// Ended is told of each target as it ends, one at a time.
	Ended func(*Outcome)
}

// Fleet deploys to several targets. When one fails, those that have not begun do not begin.
func Fleet(ctx context.Context, names []string, o FleetOptions,
	run func(ctx context.Context, name string) (*Result, error)) (list []*Outcome, err error) {
	for _, name := range names {
		list = append(list, &Outcome{Target: name, State: NotStarted})
	}
	if o.AtOnce <= 0 {
		o.AtOnce = 4
	}
	var mu sync.Mutex
	var first error
	one := func(x *Outcome) {
		r, err := run(ctx, x.Target)
		mu.Lock()
		defer mu.Unlock()
		x.Result = r
		switch {
		case err != nil:
			x.State, x.Error, x.Err = Failed, err.Error(), err
			if first == nil || fault.KindOf(first) == fault.Unreachable && fault.KindOf(err) != fault.Unreachable {
				first = err
			}
		case r.Changed == 0:
			x.State = Unchanged
		default:
			x.State = Done
		}
		if o.Ended != nil {
			o.Ended(x)
		}
	}
	rest := list
	if o.Wave && len(list) > 1 {
		one(list[0])
		if first != nil {
			return list, first
		}
		if o.Look != nil {
			if err := o.Look(ctx, list[0]); err != nil {
				return list, err
			}
		}
		rest = list[1:]
	}
	var wg group.All
	slots := make(chan struct{}, o.AtOnce)
	for _, x := range rest {
		slots <- struct{}{}
		mu.Lock()
		stop := first != nil || ctx.Err() != nil
		mu.Unlock()
		if stop {
			break
		}
		wg.Go(func() {
			defer func() { <-slots }()
			one(x)
		})
	}
	wg.Wait()
	if first == nil {
		first = ctx.Err()
	}
	return list, first
}
