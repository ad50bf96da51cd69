package release

import (
	"context"
	"fmt"
	"maps"

	"vornix/core/base/fault"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/make/assembly"
	"vornix/core/pack/bundle"
)

// Current is what is packed, compared with the project as it is now. Status, deployments,
// publishing and the index judge by it alone.
type Current struct {
	Bundles  []bundle.Bundle
	Missing  error    // why nothing is packed, or what is packed was damaged; the bundles are empty then
	Stale    []string // jobs that a build would run
	Older    []string // bundles that packing would make, replace or remove
	Finished bool     // the bundles are those of the finished version that the project names
}

// LookPacked compares what is packed with the project's version and sources. It changes nothing.
func LookPacked(ctx context.Context, p *project.Project, o Options) (*Current, error) {
	c := &Current{}
	stale, tree, err := assembly.Stale(ctx, p, o.Program, o.Own)
	if err != nil {
		return nil, err
	}
	c.Stale = stale
	if c.Bundles, c.Missing = bundle.Packed(p); c.Missing != nil {
		return c, nil
	}
	if tree != nil {
		c.Older = bundle.Stale(p, tree)
	}
	events, err := ledger.Read(p)
	if err != nil {
		return nil, err
	}
	done := ledger.Release(events, p.File.Project.Version)
	c.Finished = done != nil && maps.Equal(done.Files, hashes(c.Bundles))
	return c, nil
}

// Fresh says whether building and packing would change nothing.
func (c *Current) Fresh() bool {
	return c.Missing == nil && len(c.Stale) == 0 && len(c.Older) == 0
}

// Fit is nil when the bundles may go out as the project's version: they are of its sources, or of
// that version as it was finished.
func (c *Current) Fit(p *project.Project) error {
	if c.Missing != nil {
		return c.Missing
	}
	if c.Finished || c.Fresh() {
		return nil
	}
	f := &fault.Fault{Kind: fault.Refused,
		What:  fmt.Sprintf("what is packed is not version %s of these sources", p.File.Project.Version),
		Place: p.Doc.At("project", "version"),
		Do:    "Run 'vornix pack' first, or 'vornix release' for all steps. Nothing was changed."}
	if len(c.Stale) > 0 {
		f.Why = fmt.Sprintf("A build would make %s: %s.", Count(len(c.Stale), "result"), Few(c.Stale))
	} else {
		f.Why = fmt.Sprintf("Packing would change %s: %s.", Count(len(c.Older), "bundle"), Few(c.Older))
	}
	return f
}

// Ready gives the bundles that may go out as the project's version.
func Ready(ctx context.Context, p *project.Project, o Options) ([]bundle.Bundle, error) {
	c, err := LookPacked(ctx, p, o)
	if err != nil {
		return nil, err
	}
	return c.Bundles, c.Fit(p)
}
