//go:build linux

package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/internal/peer"
)

// TestTheSystemsKeyring keeps a token in a real keyring, which is unlocked for a session of its
// own, and another program finds it there.
func TestTheSystemsKeyring(t *testing.T) {
	t.Parallel()
	session := peer.Need(t, "dbus-run-session")
	daemon := peer.Need(t, "gnome-keyring-daemon")
	tool := peer.Need(t, "secret-tool")
	p := quickly(t, "lower-sidings")
	ok(t, p, "pack")
	ok(t, p, "shoot")
	folder := filepath.Join(p, "..", "workshops", "burrow")
	url, _ := shop(t, p, folder)
	put(t, filepath.Join(p, "vornix.toml"),
		strings.ReplaceAll(read(t, p, "vornix.toml"), `token_file = "../workshops/burrow/tokens/maker"`, ""))
	token := strings.TrimSpace(read(t, folder, "tokens", "maker"))
	home := t.TempDir()
	script := fmt.Sprintf(`printf 'words\n' | %q --unlock --components=secrets >/dev/null 2>&1
for i in $(seq 100); do printf probe | %[4]q store --label=probe probe probe >/dev/null 2>&1 && break; sleep 0.1; done
%[2]q publish login exchange < %[3]q && %[2]q publish exchange --plan && %[4]q lookup service vornix username %[5]q && %[2]q publish logout exchange
echo left: "$(%[4]q lookup service vornix username %[5]q)"`, daemon, exe, filepath.Join(folder, "tokens", "maker"), tool, url)
	c := exec.Command(session, "--", "sh", "-c", script)
	c.Dir = p
	c.Env = append(os.Environ(), "HOME="+home, "XDG_CONFIG_HOME="+home, "XDG_DATA_HOME="+home, "XDG_RUNTIME_DIR="+home)
	o := run(t, c)
	require.Zero(t, o.exit, "%s\n%s", o.out, o.err)
	assert.Contains(t, o.out, "its token is in the system's keyring")
	assert.Contains(t, o.out, "a new item, hidden at first")
	assert.Contains(t, o.out, token, "another program reads it")
	assert.Contains(t, o.out, "left: \n")
	assert.NoDirExists(t, filepath.Join(home, "vornix"), "there is no file beside it")
}
