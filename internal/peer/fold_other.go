//go:build !linux

package peer

import "testing"

// Folding skips the test: a file system that folds names is mounted on Linux only.
func Folding(t testing.TB, _ bool) string {
	t.Helper()
	t.Skip("mounting a file system that folds names needs root on Linux, and /dev/fuse")
	return ""
}
