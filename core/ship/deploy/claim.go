package deploy

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
)

// claimed is how long the claim of a Git repository lasts, unless it is renewed, which happens three times as often.
const claimed = 15 * time.Minute

// renewal is after how long a claim is renewed.
var renewal = claimed / 3

// slack is how far the clocks of two machines that claim a repository may differ.
const slack = 5 * time.Minute

// Claim holds the target until LetGo, so that several runs of a release have it to themselves. A
// Git repository that is pushed to is claimed by a ref of its own there, since its lock file is
// only in the working tree.
func (t *Target) Claim(ctx context.Context, command string) error {
	l, err := t.acquire(ctx, command)
	if err != nil {
		return err
	}
	if err := l.claim(ctx, command); err != nil {
		l.release(ctx)
		return err
	}
	t.lock = l
	if t.git != nil {
		if _, err := t.git.Refresh(ctx); err != nil {
			t.LetGo(ctx)
			return onTarget(t.Name, err)
		}
	}
	return nil
}

// LetGo ends a Claim.
func (t *Target) LetGo(ctx context.Context) {
	if t.lock != nil {
		t.lock.release(ctx)
		t.lock = nil
	}
}

// hold is the lock of a run: the one of a Claim, or one for this run alone.
func (t *Target) hold(ctx context.Context, command string) (l *lock, end func(), err error) {
	if t.lock != nil {
		return t.lock, func() {}, t.lock.ours(ctx)
	}
	if l, err = t.acquire(ctx, command); err != nil {
		return nil, nil, err
	}
	t.lock = l
	return l, func() {
		l.release(ctx)
		t.lock = nil
	}, nil
}

// claim makes the claim in the repository that the target is pushed to.
func (l *lock) claim(ctx context.Context, command string) error {
	t := l.t
	if t.git == nil || !t.git.Pushes() {
		return nil
	}
	h := t.newHolder(command, l.id)
	data, _ := json.Marshal(h)
	id, err := t.git.Claim(ctx, t.Project, data, "")
	if errors.Is(err, fs.ErrExist) {
		was, old, readErr := t.git.Claimed(ctx, t.Project)
		if readErr != nil {
			return onTarget(t.Name, readErr)
		}
		other := &Holder{}
		if json.Unmarshal(old, other) != nil {
			other.Command, other.By = "(unknown)", "(unknown)"
		}
		ended := other.Machine == h.Machine && other.Machine != "" && !safefile.Alive(other.PID)
		if was != "" && !ended && now().Before(other.Until.Add(slack)) {
			return &fault.Fault{Kind: fault.Refused,
				What: fmt.Sprintf("target %q is claimed: '%s' by %s, since %s", t.Name, other.Command, other.By,
					other.Since.Local().Format("2006-01-02 15:04:05")), Place: fault.Place{File: t.String()},
				Why: "Two releases at once would leave targets with different versions; nothing was changed.",
				Do: fmt.Sprintf("Wait until it has finished. If it was cut off, its claim ends at %s.",
					other.Until.Add(slack).Local().Format("15:04"))}
		}
		id, err = t.git.Claim(ctx, t.Project, data, was)
		if errors.Is(err, fs.ErrExist) {
			return &fault.Fault{Kind: fault.Refused,
				What:  fmt.Sprintf("target %q was just claimed by another release", t.Name),
				Place: fault.Place{File: t.String()}, Why: "Nothing was changed.", Do: "Wait until it has finished."}
		}
	}
	if err != nil {
		return onTarget(t.Name, err)
	}
	l.mu.Lock()
	l.far, l.renewed, l.command = id, now(), command
	l.mu.Unlock()
	return nil
}

// renew makes the claim in the repository last longer. One that was taken over is not ours any
// more, which the push finds out.
func (l *lock) renew(ctx context.Context) {
	l.mu.Lock()
	far, since := l.far, l.renewed
	l.mu.Unlock()
	if far == "" || now().Sub(since) < renewal {
		return
	}
	data, _ := json.Marshal(l.t.newHolder(l.command, l.id))
	id, err := l.t.git.Claim(ctx, l.t.Project, data, far)
	if err != nil {
		return // it is tried again at the next sign of life
	}
	l.mu.Lock()
	l.far, l.renewed = id, now()
	l.mu.Unlock()
}

// unclaim ends the claim in the repository.
func (l *lock) unclaim(ctx context.Context) {
	l.mu.Lock()
	far := l.far
	l.far = ""
	l.mu.Unlock()
	if far != "" {
		_ = l.t.git.Unclaim(ctx, l.t.Project, far) // one that stays ends by itself
	}
}
