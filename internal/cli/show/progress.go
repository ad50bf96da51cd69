package show

import (
	"fmt"
	"strings"
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
	// A long stage says by itself how far it is.
	stage      string
	stageBegin time.Time
	stageDone  int64 // what was there when it began to be timed
}

// Progress is a progress for jobs; nil where nothing may move.
func (o *Out) Progress() job.Progress {
	if !o.Terminal || o.JSON || o.Quiet {
		return nil
	}
	return &bar{out: o, begin: time.Now()}
}

func (b *bar) Started(id, _ string) { b.running = Clean(id) }

// Advanced shows how far a stage is, and how long it will take at the speed that it had so far.
func (b *bar) Advanced(id, stage string, done, total int64) {
	if key := id + " " + stage; key != b.stage {
		b.stage, b.stageBegin, b.stageDone = key, time.Now(), done
	}
	since := time.Since(b.stageBegin)
	if since < 300*time.Millisecond || done <= b.stageDone {
		return
	}
	if b.bar == nil {
		b.bar = b.new(1)
	}
	left := time.Duration(float64(since) / float64(done-b.stageDone) * float64(total-done))
	b.bar.Describe(fmt.Sprintf("about %d s left, %s", int(left.Seconds())+1, Clean(strings.TrimSpace(id+": "+stage))))
	b.bar.ChangeMax64(total)
	_ = b.bar.Set64(done) // a bar that can't be drawn is no reason to stop
}

func (b *bar) new(total int) *progressbar.ProgressBar {
	return progressbar.NewOptions(total, progressbar.OptionSetWriter(b.out.Stderr), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetWidth(30), progressbar.OptionSetPredictTime(false), progressbar.OptionSetElapsedTime(false),
		progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionUseANSICodes(b.out.colourErr))
}

func (b *bar) Ended(_ job.Result, done, total int) {
	if b.bar == nil {
		if time.Since(b.begin) < 300*time.Millisecond || done == total {
			return
		}
		b.bar = b.new(total)
	}
	left := time.Since(b.begin) / time.Duration(done) * time.Duration(total-done)
	b.bar.Describe(fmt.Sprintf("about %d s left, %s", int(left.Seconds())+1, b.running))
	b.bar.ChangeMax(total)
	_ = b.bar.Set(done) // a bar that can't be drawn is no reason to stop
	if done == total {
		_ = b.bar.Finish()
	}
}
