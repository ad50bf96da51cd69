package show

import (
	"fmt"
	"time"

	"github.com/schollz/progressbar/v3"

	"vornix/core/job"
)

// bar shows jobs on a terminal: what is running, how far, how long it will take. It appears only when a run takes
// long enough to be waited for.
type bar struct {
	out     *Out
	begin   time.Time
	running string
	bar     *progressbar.ProgressBar
}

// Progress is a progress for jobs; nil where nothing may move.
func (o *Out) Progress() job.Progress {
	if !o.Terminal || o.JSON || o.Quiet {
		return nil
	}
	return &bar{out: o, begin: time.Now()}
}

func (b *bar) Started(id, _ string) { b.running = Clean(id) }

func (b *bar) Ended(_ job.Result, done, total int) {
	if b.bar == nil {
		if time.Since(b.begin) < 300*time.Millisecond || done == total {
			return
		}
		b.bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(b.out.Stderr), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30), progressbar.OptionShowCount(), progressbar.OptionSetPredictTime(false), progressbar.OptionSetElapsedTime(false),
			progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionUseANSICodes(b.out.colourErr))
	}
	left := time.Since(b.begin) / time.Duration(done) * time.Duration(total-done)
	b.bar.Describe(fmt.Sprintf("about %d s left, %s", int(left.Seconds())+1, b.running))
	_ = b.bar.Set(done) // a bar that can't be drawn is no reason to stop
	if done == total {
		_ = b.bar.Finish()
	}
}
