// Package thorough parts the tests that everybody runs again and again from those that take long:
// 'go test ./...' leaves the long ones out, or does less in them, and VORNIX_TESTS=all, which the
// whole check sets, runs everything.
package thorough

import (
	"os"
	"testing"
)

func all() bool { return os.Getenv("VORNIX_TESTS") == "all" }

// Only leaves a test out that takes long.
func Only(t testing.TB) {
	t.Helper()
	if !all() {
		t.Skip("it takes long: VORNIX_TESTS=all runs it")
	}
}

// Or is how much of something a test does: little, or all of it.
func Or(little, everything int) int {
	if all() {
		return everything
	}
	return little
}
