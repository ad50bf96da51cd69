package fetch

import (
	"context"
	"time"

	"vornix/core/base/fault"
)

// Watch brings a folder up to date again and again, until ctx ends. told hears of each time; what
// can pass, such as a server that does not answer, or an index that is refused, does not end it.
func Watch(ctx context.Context, dir string, o Options, every time.Duration, told func(*Result, error)) error {
	timer := time.NewTimer(0)
	defer timer.Stop()
	for first := true; ; first = false {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-timer.C:
		}
		o.Now = time.Now()
		result, err := Run(ctx, dir, o)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil && first && fault.KindOf(err) == fault.Usage {
			return err // it was asked for wrongly
		}
		told(result, err)
		o.Again, o.Older = false, false // once is what was meant
		timer.Reset(every)
	}
}
