package peer

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// NATS runs the message server of that name with JetStream until the test ends. more is put into
// its settings. It returns HOST:PORT, and what stops the server and starts it again on its data.
func NATS(t testing.TB, more string) (address string, stop, start func()) {
	t.Helper()
	server := Need(t, "nats-server")
	dir := t.TempDir()
	address = freeAddress(t)
	config := filepath.Join(dir, "nats.conf")
	text := fmt.Sprintf("listen: %q\njetstream { store_dir: %q }\n%s\n", address, filepath.Join(dir, "data"), more)
	if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	var cmd *exec.Cmd
	stop = func() {
		if cmd != nil {
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
			cmd = nil
		}
	}
	start = func() {
		t.Helper()
		cmd = exec.Command(server, "-c", config, "-l", filepath.Join(dir, "log"))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		answers(t, address, filepath.Join(dir, "log"))
	}
	start()
	t.Cleanup(stop)
	return address, stop, start
}
