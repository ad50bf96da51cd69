package humanize_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/humanize"
)

// Two sizes that look the same are told to the byte: "2.4 MB instead of 2.4 MB" tells nobody anything.
func TestSizesInsteadOfOthers(t *testing.T) {
	assert.Equal(t, "11 B instead of 14 B", humanize.Instead(11, 14))
	assert.Equal(t, "2.4 MB instead of 1.0 kB", humanize.Instead(2_400_000, 1000))
	assert.Equal(t, "2400004 bytes instead of 2400000", humanize.Instead(2_400_004, 2_400_000))
}
