package cli

import (
	"errors"
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
)

// A fault of the program's own is one clear error, with a file that says where it happened; errors pass as they are.
func TestTheLastGuard(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	err := guarded(func() error {
		var list []int
		_ = list[len(os.Args)]
		return nil
	})
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.What, "a fault in Vornix itself: index out of range")
	assert.NotContains(t, f.What, "runtime error")
	file := regexp.MustCompile(`\S*vornix-fault-\S*\.txt`).FindString(f.Do)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(data), "guard_test.go")
	boom := errors.New("boom")
	assert.Equal(t, boom, guarded(func() error { return boom }))
	assert.NoError(t, guarded(func() error { return nil }))
}
