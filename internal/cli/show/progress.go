package show

import (
	"time"

	"github.com/schollz/progressbar/v3"

	"vornix/core/job"
)

// bar shows jobs on a terminal: what is running, how far, how long it will take. It appears only when a run takes
// long enough to be waited for.
type bar struct {
	out   *Out
	begin time.Time
	bar   *progressbar.ProgressBar
}

// Progress is a progress for jobs; nil where nothing may move.
func (o *Out) Progress() job.Progress {
	if !o.Terminal || o.JSON || o.Quiet {
		return nil
	}
	return &bar{out: o, begin: time.Now()}
}

func (b *bar) Started(id, _ string) {
	if b.bar != nil {
		b.bar.Describe(Clean(id))
	}
}

func (b *bar) Ended(_ job.Result, done, total int) {
	if b.bar == nil {
		if time.Since(b.begin) < 300*time.Millisecond || done == total {
			return
		}
		b.bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(b.out.Stderr), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30), progressbar.OptionShowCount(), progressbar.OptionSetPredictTime(true),
			progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionUseANSICodes(b.out.colourErr))
	}
	_ = b.bar.Set(done) // a bar that can't be drawn is no reason to stop
	if done == total {
		_ = b.bar.Finish()
	}
}
