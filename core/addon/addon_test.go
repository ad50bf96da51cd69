package addon_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/addon"
	"vornix/core/finding"
	"vornix/core/profile"
	"vornix/core/project"
	"vornix/core/release"
	"vornix/internal/demotest"
)

func run(t *testing.T, p *project.Project) ([]addon.File, []finding.Finding) {
	t.Helper()
	g, err := release.Scan(context.Background(), p)
	require.NoError(t, err)
	return addon.Make(p, g)
}

func TestTheFilesHoldWhatIsReallyThere(t *testing.T) {
	p := demotest.Built(t, "highline")
	files, findings := run(t, p)
	assert.Empty(t, findings)
	require.Len(t, files, 2)
	assert.Equal(t, []string{"waybill.json", "inside", "highline.waybill.json", "beside"}, []string{files[0].Path, files[0].Place, files[1].Path, files[1].Place})
	var got map[string]any
	require.NoError(t, json.Unmarshal(files[0].Data, &got))
	assert.Equal(t, map[string]any{
		"title": "Highline", "version": "1.0.0", "crew": []any{"Highline crew"}, "about": "Mail gliders above the snow line: one station on a cairn, two routes down.",
		"stations": []any{"cairn_station", "saltpan_relay"}, "modes": []any{"dash", "night-relay", "relay", "survey"}, "couriers": "2-8",
		"contents": []any{"maps", "materials", "routes", "scripts", "sounds", "textures"}, "season": "first-snow"}, got)
	assert.Less(t, bytes.Index(files[0].Data, []byte("title")), bytes.Index(files[0].Data, []byte("crew")), "in the profile's order")

	files, findings = run(t, demotest.Built(t, "lower-sidings"))
	assert.Empty(t, findings)
	require.Len(t, files, 1)
	assert.Equal(t, "tram_depot", files[0].Map)
	assert.Equal(t, "[lower_sidings]\nname=Tram Depot\nrevision=1.0.0\nmoles=1-4\nshifts=rush-hour, shift\nhas_music=false\n", string(files[0].Data))
}

func TestChecks(t *testing.T) {
	for _, c := range []struct{ old, now, id, text, do string }{
		{`season = "first-snow"`, `season = "frist-snow"`, "addon.field", `does not take "frist-snow"`, `"first-snow"`},
		{`season = "first-snow"`, `saeson = "thaw"`, "addon.field", `no field "saeson"`, `"season"`},
		{`season = "first-snow"`, `season = 3`, "addon.field", "must be a text", ""},
		{`season = "first-snow"`, `stations = ["x"]`, "addon.field", `no field "stations" to fill in`, "season"},
		{`title = "Highline"`, `title = "` + strings.Repeat("ü", 41) + `"`, "addon.field", "has 41 characters; at most 40", ""},
		{`description = "Mail gliders above the snow line: one station on a cairn, two routes down."`, ``, "addon.field", `"about" is required and empty`, ""},
		{`description = "Mail`, `description = "TODO: Mail`, "addon.placeholder", "placeholder", ""},
	} {
		p := demotest.Built(t, "highline")
		demotest.Edit(t, p, "vornix.toml", c.old, c.now)
		_, findings := run(t, demotest.Load(t, p.Dir))
		require.Len(t, findings, 1, c.now)
		assert.Equal(t, c.id, findings[0].ID)
		assert.Contains(t, findings[0].Text, c.text)
		assert.Contains(t, findings[0].Do, c.do)
		assert.Equal(t, c.id == "addon.field", addon.Err(findings) != nil)
	}
}

// Hostile text comes out of each form as it went in, and can't break out of its field.
func TestHostileText(t *testing.T) {
	nasty := "a\"b\\c\n[evil]\r\nkey=value\x00\u2028</script>'''"
	for _, form := range []string{"json", "toml", "ini"} {
		p := demotest.Built(t, "highline")
		p.File.Project.Title = nasty
		p.Profile.Addon.Files = []profile.AddonFile{{Path: "a", Form: form, Place: "beside", Each: "mod"}}
		files, _ := run(t, p)
		require.Len(t, files, 1)
		var got map[string]any
		switch form {
		case "json":
			require.NoError(t, json.Unmarshal(files[0].Data, &got))
			assert.Equal(t, nasty, got["title"])
		case "toml":
			require.NoError(t, toml.Unmarshal(files[0].Data, &got))
			assert.Equal(t, nasty, got["title"])
		case "ini":
			lines := 0
			for s := bufio.NewScanner(bytes.NewReader(files[0].Data)); s.Scan(); lines++ {
				assert.False(t, lines > 0 && strings.HasPrefix(s.Text(), "["), s.Text())
			}
			assert.Equal(t, 1+len(p.Profile.Addon.Fields), lines, "one line a field")
		}
	}
}
