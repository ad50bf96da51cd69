package overlay_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/transaction"
	"vornix/core/config/project"
	"vornix/core/game/overlay"
	"vornix/internal/demotest"
)

var ctx = context.Background()

// A replaced texture changes the maps that show it, says what is shown with it, and comes back.
func TestSwappedAndLaidOver(t *testing.T) {
	p := demotest.Built(t, "highline")
	demotest.Tree(t, p, false)
	game := t.TempDir()
	require.NoError(t, os.CopyFS(game, os.DirFS(p.Join(project.TreeDir))))
	skins := t.TempDir()
	put := func(rel string) {
		data, err := os.ReadFile(filepath.Join(game, "textures", "snow", "drift.ktx2"))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(skins, rel)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(skins, rel), data, 0o600))
	}
	put("textures/rock/cairn.ktx2")
	put("textures/sign/highline.ktx2")
	looks := func(plan *overlay.Plan) string {
		var list []string
		for _, m := range plan.Maps {
			list = append(list, m.Map+": "+m.Why)
		}
		return strings.Join(list, "\n")
	}

	_, err := overlay.Prepare(ctx, p.Profile, game, skins, false)
	assert.ErrorContains(t, err, "no folder whose files take the place of its own")
	plan, err := overlay.Prepare(ctx, p.Profile, game, skins, true)
	require.NoError(t, err)
	assert.Equal(t, "cairn_station: it uses textures/rock/cairn.ktx2, textures/sign/highline.ktx2\nsaltpan_relay: it uses textures/rock/cairn.ktx2", looks(plan))
	require.NotEmpty(t, plan.Notes)
	assert.Contains(t, plan.Notes[0],
		"materials/rock/cairn.toml shows textures/rock/cairn.ktx2 together with textures/rock/cairn_bumps.ktx2")
	before, err := os.ReadFile(filepath.Join(game, "textures", "rock", "cairn.ktx2"))
	require.NoError(t, err)
	r, err := plan.Apply(ctx)
	require.NoError(t, err)
	assert.Len(t, r.Files, 2)
	again, err := overlay.Prepare(ctx, p.Profile, game, skins, true)
	require.NoError(t, err)
	none, err := again.Apply(ctx)
	require.NoError(t, err)
	assert.Nil(t, none, "what is there already is no change")
	f, err := transaction.Open(ctx, game, "test")
	require.NoError(t, err)
	_, err = f.RollBack(ctx, r, transaction.Refuse)
	require.NoError(t, err)
	f.Close()
	after, err := os.ReadFile(filepath.Join(game, "textures", "rock", "cairn.ktx2"))
	require.NoError(t, err)
	assert.Equal(t, before, after)

	// With a folder of its own, no original is touched.
	q := *p.Profile
	q.Install.Overlay = "custom"
	put("textures/rock/nobodys.ktx2")
	_, err = overlay.Prepare(ctx, p.Profile, game, skins, true)
	assert.ErrorContains(t, err, "the game has no textures/rock/nobodys.ktx2")
	plan, err = overlay.Prepare(ctx, &q, game, skins, false)
	require.NoError(t, err)
	assert.Contains(t, plan.Actions,
		overlay.FileChange{Path: "custom/textures/rock/nobodys.ktx2", Do: "add",
			Why: "nothing in the game has this path",
			New: int64(len(before))})
	_, err = plan.Apply(ctx)
	require.NoError(t, err)
	after, err = os.ReadFile(filepath.Join(game, "textures", "rock", "cairn.ktx2"))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	assert.FileExists(t, filepath.Join(game, "custom", "textures", "rock", "cairn.ktx2"))
}
