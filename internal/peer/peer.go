// Package peer finds the programs that tests hold Vornix against: other people's readers and servers.
package peer

import (
	"os"
	"os/exec"
	"testing"
)

// Need returns the path of a program. Without it the test is skipped and says so; with VORNIX_PEERS=required, as in CI,
// it fails.
func Need(t testing.TB, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err == nil {
		return path
	}
	if os.Getenv("VORNIX_PEERS") == "required" {
		t.Fatalf("the peer %s is not installed, and VORNIX_PEERS=required", name)
	}
	t.Skipf("the peer %s is not installed: this comparison is left out", name)
	return ""
}

// Run runs a peer and returns what it printed; the test fails when the program does.
func Run(t testing.TB, dir, path string, args ...string) string {
	t.Helper()
	cmd := exec.Command(path, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", path, args, err, out)
	}
	return string(out)
}
