// Package peer finds the programs that tests hold Vornix against: other people's readers and servers.
package peer

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
)

// Need returns the path of a program. Without it the test is skipped and says so; with VORNIX_PEERS=required, as in CI,
// it fails.
func Need(t testing.TB, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		Missing(t, name)
	}
	return path
}

// Missing skips a test that lacks a peer, or fails it where peers are required.
func Missing(t testing.TB, name string) {
	t.Helper()
	if os.Getenv("VORNIX_PEERS") == "required" {
		t.Fatalf("the peer %s is not installed, and VORNIX_PEERS=required", name)
	}
	t.Skipf("the peer %s is not installed: this comparison is left out", name)
}

// NodePackage returns the path of a package for Node that 'npm ci' in internal/peer/node installs.
func NodePackage(t testing.TB, name string) string {
	t.Helper()
	_, here, _, _ := runtime.Caller(0)
	dir := filepath.Join(filepath.Dir(here), "node", "node_modules", filepath.FromSlash(name))
	if _, err := os.Stat(dir); err != nil {
		Missing(t, name+" (npm ci in internal/peer/node)")
	}
	return dir
}

// ImageMagick finds ImageMagick's convert. Windows has another program of that name, so it is asked who it is.
func ImageMagick() (path string, ok bool) {
	for _, name := range []string{"convert-im6.q16", "/usr/bin/convert", "convert"} {
		path, err := exec.LookPath(name)
		if err != nil {
			continue
		}
		if out, err := exec.Command(path, "-version").Output(); err == nil &&
			bytes.Contains(out, []byte("ImageMagick")) {
			return path, true
		}
	}
	return "", false
}

// Pillow finds the Python that has Debian's python3-pil.
func Pillow(t testing.TB) string {
	t.Helper()
	python := Need(t, "/usr/bin/python3")
	if err := exec.Command(python, "-c", "import PIL").Run(); err != nil {
		Missing(t, "python3-pil")
	}
	return python
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
