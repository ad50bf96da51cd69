package deploy

import (
	"time"

	"vornix/core/ship/transport"
)

// Impatient lets a lost connection be given up soon.
func (t *Target) Impatient() {
	if s, ok := t.site.(*transport.SFTP); ok {
		s.Patience(10*time.Millisecond, 20*time.Millisecond)
	}
}

// SiteOf is the site that a target is reached by.
func SiteOf(t *Target) transport.Site { return t.site }

// Doze makes the lock of a run look as if it was last confirmed an hour ago.
func Doze(t *Target) {
	t.lock.mu.Lock()
	defer t.lock.mu.Unlock()
	t.lock.seen = t.lock.seen.Add(-time.Hour)
}

// Quicken lets holders give signs of life, and renew claims, more often. Call what it returns afterwards.
func Quicken(d time.Duration) (restore func()) {
	p, r := pulse, renewal
	pulse, renewal = d, d
	return func() { pulse, renewal = p, r }
}
