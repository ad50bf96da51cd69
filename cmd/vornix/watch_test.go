package main_test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/game/gameserver"
	"vornix/internal/demotest"
)

// watched is what a round of a build that goes on says.
type watched struct {
	OK    bool
	Steps []struct{ Summary string }
	Error *struct {
		What     string
		Findings []struct {
			ID    string
			Place struct{ Line int }
		}
	}
	Result struct {
		Changed []struct{ Path, State string }
		Server  *gameserver.Status
		Seconds float64
	}
}

// A build that goes on makes anew what is saved, survives every broken file, and lets the stand-in
// play what came of it.
func TestBuildingOnEverySave(t *testing.T) {
	t.Parallel()
	p := demotest.Built(t, "lower-sidings").Dir
	cmd := command(p, "build", "--watch", "--server", "--json", "--stage", "none")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	rounds := make(chan watched, 16)
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
			var w watched
			if json.Unmarshal(lines.Bytes(), &w) == nil {
				rounds <- w
			}
		}
		close(rounds)
	}()
	next := func() watched {
		t.Helper()
		select {
		case w, open := <-rounds:
			require.True(t, open, "it ended")
			return w
		case <-time.After(30 * time.Second):
			t.Fatal("nothing was built")
		}
		return watched{}
	}
	defer func() {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		var exit *exec.ExitError
		if err := cmd.Wait(); err != nil {
			require.ErrorAs(t, err, &exit)
		}
		noTemps(t, p)
	}()
	first := next()
	require.True(t, first.OK)
	require.Equal(t, "Tram Depot", first.Result.Server.Find("tram_depot").Title)
	address, err := filepath.Glob(filepath.Join(p, ".vornix", "play", "stand-server.url"))
	require.NoError(t, err)
	require.Len(t, address, 1)

	source := filepath.Join("maps", "tram_depot.vnx")
	edit(t, p, source, `title="Tram Depot"`, `title="Tram Shed"`)
	w := next()
	require.True(t, w.OK)
	assert.Equal(t, "maps/tram_depot.vnx", w.Result.Changed[0].Path)
	assert.Equal(t, "changed", w.Result.Changed[0].State)
	assert.Equal(t, "Tram Shed", w.Result.Server.Find("tram_depot").Title)
	assert.Positive(t, w.Result.Seconds)

	whole := read(t, p, source)
	put(t, filepath.Join(p, source), whole+"nonsense here\n")
	w = next()
	assert.False(t, w.OK)
	project := read(t, p, "vornix.toml")
	put(t, filepath.Join(p, "vornix.toml"), project+"[[")
	w = next()
	assert.False(t, w.OK)
	assert.Equal(t, "toml.syntax", w.Error.Findings[0].ID)
	resp, err := http.Get(strings.TrimSpace(read(t, address[0])) + "/status")
	require.NoError(t, err)
	var st gameserver.Status
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&st))
	resp.Body.Close()
	assert.True(t, st.Find("tram_depot").Loaded, "what was built before is played on")
	put(t, filepath.Join(p, "vornix.toml"), project)
	next()
	put(t, filepath.Join(p, source), whole)
	put(t, filepath.Join(p, "maps", "new_line.vnx"), "")
	for w = next(); len(w.Result.Changed) < 2; w = next() { // both at once, or one after the other
		if w.Result.Changed[0].Path == "maps/new_line.vnx" {
			break
		}
	}
	require.NoError(t, os.Remove(filepath.Join(p, "maps", "new_line.vnx")))
	w = next()
	assert.True(t, w.OK, "it is whole again")
	assert.Equal(t, "removed", w.Result.Changed[len(w.Result.Changed)-1].State)

	// Bad use is said at once.
	assert.Equal(t, 2, vornix(t, p, "build", "--server").exit)
	assert.Equal(t, 2, vornix(t, p, "build", "--watch", "--listen", "127.0.0.1:0").exit)
}
