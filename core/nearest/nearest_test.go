package nearest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/nearest"
)

func TestWord(t *testing.T) {
	known := []string{"material", "scale", "shift", "turn", "title"}
	for got, want := range map[string]string{
		"materail": "material", // neighbours swapped
		"scal":     "scale",    // a letter missing
		"titel":    "title",
		"tturn":    "turn",
		"turm":     "turn",
		"zebra":    "", // nothing is near
		"x":        "",
		"turnip":   "turn",
		"SHIFT":    "",
	} {
		assert.Equal(t, want, nearest.Word(got, known), got)
	}
	assert.Equal(t, "a1", nearest.Word("a3", []string{"a2", "a1"}), "of words equally near the first by the alphabet, whatever their order")
	assert.Empty(t, nearest.Word("a", nil))
	assert.Empty(t, nearest.Word("station/bell", []string{"station/hum"}), "what two paths share makes them no nearer")
	assert.Equal(t, "station/hum", nearest.Word("statoin/hum", []string{"station/hum", "station/ham"}))
}
