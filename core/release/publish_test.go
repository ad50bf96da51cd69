package release_test

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/config/ledger"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/format/cdc"
	"vornix/core/pack/bundle"
	"vornix/core/release"
	"vornix/core/ship/publish"
	"vornix/core/ship/workshop"
	"vornix/core/ship/workshop/standin"
	"vornix/core/source/assetgraph"
	"vornix/internal/demotest"
)

// What was published from here, and what players get, are held to each other by what the ledger
// says; another's version under the same number is noticed, and so is a bundle that the game can't
// load.
func TestWhatPlayersGetIsWhatWasPublished(t *testing.T) {
	ctx := context.Background()
	p := demotest.Project(t, "lower-sidings")
	dir := t.TempDir()
	w, err := standin.Start(dir,
		standin.Options{Accounts: []string{"maker"}, Kinds: map[string]workshop.Limits{"level": standin.Usual()}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = w.Close() })
	p.File.Targets["exchange"] = project.Target{Kind: "workshop", URL: w.URL,
		TokenFile: filepath.Join(dir, "tokens", "maker")}
	put := func(rel string, data []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(p.Join(rel)), 0o777))
		require.NoError(t, os.WriteFile(p.Join(rel), data, 0o666))
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 300, 200))))
	put("out/pictures/tram_depot.png", b.Bytes())
	put(bundle.Dir+"/tram_depot.vnm", []byte("no map at all"))
	sum, size, err := safefile.HashFile(p.Join(bundle.Dir, "tram_depot.vnm"))
	require.NoError(t, err)
	bundles := []bundle.Bundle{{Name: "tram_depot.vnm", SHA256: sum, Size: size, Maps: []string{"tram_depot"}}}
	s := demotest.Open(t, p,
		func(o *release.Options) { o.Publish = publish.Access{Agent: "vornix/test", Trust: trust.Everything} })
	load := func(ctx context.Context) (*assetgraph.Graph, error) { return assetgraph.ScanProject(ctx, p) }
	x, err := release.PlanPublish(ctx, p, load, "exchange", bundles, nil, publish.PlanOptions{},
		publish.Access{Trust: trust.Everything})
	require.NoError(t, err)
	t.Cleanup(x.Desk.Close)
	require.NoError(t, x.Refused())
	step, results, err := s.Publish(ctx, x)
	require.NoError(t, err)
	assert.Contains(t, step.Summary, "tram_depot is at exchange, hidden, with version 1.0.0")
	assert.Equal(t, []release.Made{{Path: "tram_depot.vnm", Size: size, State: "add"}}, step.Made)
	events, err := ledger.Read(p)
	require.NoError(t, err)
	last := events[len(events)-1]
	assert.Equal(t, []string{ledger.Published, "exchange", "tram_depot", "1.0.0", sum},
		[]string{last.Kind, last.Target, last.Item, last.Version, last.Files["tram_depot.vnm"]})

	// It comes down as it went up, and can't be played.
	step, tried, err := s.TryPublished(ctx, x.Desk, "tram_depot")
	require.Error(t, err)
	assert.True(t, step.Failed)
	assert.Contains(t, step.Summary, "as maker got it (13 B, 1 hash right, as published from here): 0 of")
	assert.Equal(t, sum, tried.Got.Sums["tram_depot.vnm"])
	done, err := release.WasTried(p, "exchange", "tram_depot",
		&workshop.Version{Version: "1.0.0", Files: []workshop.File{{Name: "tram_depot.vnm", SHA256: sum}}})
	require.NoError(t, err)
	assert.False(t, done, "a try that failed counts for nothing")

	// From another machine the version is taken off, and its number used again for other files.
	token, err := os.ReadFile(filepath.Join(dir, "tokens", "maker"))
	require.NoError(t, err)
	c, err := workshop.Dial(w.URL, workshop.Options{Token: strings.TrimSpace(string(token))})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	id := results[0].ID
	item, err := c.Item(ctx, id)
	require.NoError(t, err)
	item, err = c.Withdraw(ctx, id, 1, "by mistake", item.Revision)
	require.NoError(t, err)
	other := []byte("something else")
	list, err := cdc.Cut(ctx, bytes.NewReader(other), int64(len(other)), nil, nil)
	require.NoError(t, err)
	draft, err := c.MakeDraft(ctx, id,
		&workshop.NewDraft{Page: item.Page, Version: "1.0.0",
			Files: []workshop.File{{Name: "tram_depot.vnm", SHA256: list[0].SHA256, Size: int64(len(other)),
				Chunks: list}}})
	require.NoError(t, err)
	require.Len(t, draft.Missing, 1, "its pictures are there")
	_, err = c.SendChunk(ctx, id, draft.ID, list[0].SHA256, other)
	require.NoError(t, err)
	_, err = c.Publish(ctx, id, draft.ID, item.Revision)
	require.NoError(t, err)
	_, _, err = s.TryPublished(ctx, x.Desk, "tram_depot")
	require.Error(t, err)
	assert.Contains(t, err.Error(), "what players get as tram_depot.vnm is not what was published")

	// What the workshop would refuse ends the step before anything is sent.
	p.File.Pages.Title = strings.Repeat("Depot ", 30)
	p.File.Project.Version = "1.1.0"
	x, err = release.PlanPublish(ctx, p, load, "exchange", bundles, nil, publish.PlanOptions{},
		publish.Access{Trust: trust.Everything})
	require.NoError(t, err)
	t.Cleanup(x.Desk.Close)
	step, _, err = s.Publish(ctx, x)
	require.Error(t, err)
	assert.True(t, step.Failed)
	assert.Contains(t, err.Error(), "would refuse it: 1 error")
	_, err = release.PlanPublish(ctx, p, load, "exchange", bundles, []string{"ore"}, publish.PlanOptions{},
		publish.Access{Trust: trust.Everything})
	assert.Equal(t, fault.Usage, fault.KindOf(err))
	assert.Equal(t, []string{"downloads", "practice"}, release.Targets(p), "a workshop is no place to deploy to")
}
