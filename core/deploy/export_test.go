package deploy

import (
	"time"

	"vornix/core/transport"
)

// Impatient lets a lost connection be given up soon.
func (t *Target) Impatient() {
	if s, ok := t.site.(*transport.SFTP); ok {
		s.Patience(10*time.Millisecond, 20*time.Millisecond)
	}
}

// SiteOf is the site that a target is reached by.
func SiteOf(t *Target) transport.Site { return t.site }
