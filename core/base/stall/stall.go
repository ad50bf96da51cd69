// Package stall ends the transfer of a body whose other side sends or accepts nothing any more, or next to nothing.
package stall

import (
	"context"
	"errors"
	"io"
	"time"
)

// Err is the cause of the cancellation of a transfer that stalled.
var Err = errors.New("nothing came any more")

// Reader passes a body on. Stop it in the end.
type Reader struct {
	io.Reader
	timer    *time.Timer
	patience time.Duration
	least    float64 // bytes per second
	cancel   context.CancelCauseFunc
	begun    time.Time
	got      int64
}

// Watch cancels with Err when nothing is read for as long as patience says, or on average less than
// least bytes per second.
func Watch(cancel context.CancelCauseFunc, r io.Reader, patience time.Duration, lowest float64) *Reader {
	return &Reader{Reader: r, timer: time.AfterFunc(patience, func() { cancel(Err) }), patience: patience,
		least:  lowest,
		cancel: cancel, begun: time.Now()}
}

// Read is io.Reader's. The body's end, or an error, ends the watch.
func (w *Reader) Read(p []byte) (int, error) {
	n, err := w.Reader.Read(p)
	w.got += int64(n)
	if since := time.Since(w.begun); since > 2*w.patience && float64(w.got) < w.least*since.Seconds() {
		w.cancel(Err)
		return n, Err
	}
	if err != nil {
		w.timer.Stop()
	} else if n > 0 {
		w.timer.Reset(w.patience)
	}
	return n, err
}

// Stop ends the watch.
func (w *Reader) Stop() { w.timer.Stop() }
