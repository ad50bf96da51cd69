package show

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/schollz/progressbar/v3"

	"vornix/core/make/taskgraph"
)

// patience is how long a run or a stage goes on before a bar appears for it, and how long it is
// watched before its speed is believed.
const patience = 300 * time.Millisecond

// bar shows jobs on a terminal: what is running, how far, how long it will take. A long stage of a
// job says by itself how far it is; of several at work the one that will take longest is shown,
// since everything waits for it.
type bar struct {
	out     *Out
	begin   time.Time
	running string
	stages  map[string]*advance
	bar     *progressbar.ProgressBar
	what    string // that the bar speaks of
	helpers map[string]helping
}

// helping is what another machine does for a build.
type helping struct {
	what  string
	since time.Time
}

// advance is how far a stage is, and where it was when it began to be watched: what was kept costs no time.
type advance struct {
	begin              time.Time
	first, done, total int64
}

// left is how long a stage will take at the speed that it had so far; ok is false when that can't be told yet.
func (a *advance) left(now time.Time) (left time.Duration, ok bool) {
	since := now.Sub(a.begin)
	if since < patience || a.done <= a.first {
		return 0, false
	}
	return time.Duration(float64(since) / float64(a.done-a.first) * float64(a.total-a.done)), true
}

// Progress is a progress for jobs; nil where nothing may move.
func (o *Out) Progress() taskgraph.Progress {
	if !o.Terminal || o.JSON || o.Quiet || o.plain {
		return nil
	}
	return &bar{out: o, begin: time.Now(), stages: map[string]*advance{}, helpers: map[string]helping{}}
}

func (b *bar) Started(id, _, by string) {
	if by != "" {
		b.helpers[Clean(by)] = helping{Clean(id), time.Now()}
		return
	}
	b.running = Clean(id)
}

// longestHelp is how long nothing may be heard of a helper before it is not spoken of any more;
// maxHelpers is how many are.
const (
	longestHelp = 30 * time.Second
	maxHelpers  = 3
)

// help says who else does what.
func (b *bar) help(what string) string {
	var names []string
	for name, h := range b.helpers {
		if time.Since(h.since) < longestHelp {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	var list []string
	for _, name := range names[:min(len(names), maxHelpers)] {
		if h := b.helpers[name]; h.what != "" && !strings.HasPrefix(what, h.what) {
			name += ": " + h.what
		}
		list = append(list, name)
	}
	if more := len(names) - maxHelpers; more > 0 {
		list = append(list, fmt.Sprintf("%d more", more))
	}
	if len(list) == 0 {
		return ""
	}
	return "; with " + strings.Join(list, ", ")
}

// Advanced takes how far a stage is.
func (b *bar) Advanced(id, stage string, done, total int64) {
	name := Clean(stage)
	if id != "" {
		name = Clean(id) + ": " + name
	}
	if done >= total {
		delete(b.stages, name)
		if len(b.stages) == 0 && b.bar != nil {
			_ = b.bar.Clear() // what it said is over
		}
		return
	}
	now := time.Now()
	if b.stages[name] == nil {
		b.stages[name] = &advance{begin: now, first: done}
	}
	b.stages[name].done, b.stages[name].total = done, total
	longest, what := time.Duration(-1), ""
	for name, a := range b.stages {
		if left, ok := a.left(now); ok && (left > longest || left == longest && name < what) {
			longest, what = left, name
		}
	}
	if a := b.stages[what]; a != nil {
		b.show(longest, what, float64(a.done)/float64(a.total))
	}
}

func (b *bar) Ended(r taskgraph.Result, done, total int) {
	if h, ok := b.helpers[Clean(r.By)]; ok && h.what == Clean(r.ID) {
		b.helpers[Clean(r.By)] = helping{"", h.since}
	}
	switch since := time.Since(b.begin); {
	case done == total:
		if b.bar != nil {
			_ = b.bar.Finish()
		}
	case len(b.stages) == 0 && since >= patience:
		b.show(since/time.Duration(done)*time.Duration(total-done), b.running, float64(done)/float64(total))
	}
}

// parts is how finely the bar is divided. It never stands at its end before all is over: there it
// would be taken away for good.
const parts = 1000

func (b *bar) show(left time.Duration, what string, part float64) {
	if b.bar == nil {
		b.bar = progressbar.NewOptions(parts, progressbar.OptionSetWriter(b.out.Stderr),
			progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30), progressbar.OptionSetPredictTime(false),
			progressbar.OptionSetElapsedTime(false),
			progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionUseANSICodes(b.out.colourErr))
	}
	if what != b.what {
		b.what = what
		b.bar.Reset()
	}
	text := fmt.Sprintf("about %d s left, %s%s", int(left.Seconds())+1, what, b.help(what))
	b.bar.Describe(runewidth.Truncate(text, max(b.out.Width-45, 30), "..."))
	_ = b.bar.Set(min(int(part*parts), parts-1)) // a bar that can't be drawn is no reason to stop
}
