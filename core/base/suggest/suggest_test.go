package suggest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"vornix/core/base/suggest"
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
		assert.Equal(t, want, suggest.Word(got, known), got)
	}
	assert.Equal(t, "a1", suggest.Word("a3", []string{"a2", "a1"}),
		"of words equally near the first by the alphabet, whatever their order")
	assert.Empty(t, suggest.Word("a", nil))
	assert.Empty(t, suggest.Word("station/bell", []string{"station/hum"}), "what two paths share makes them no nearer")
	assert.Equal(t, "station/hum", suggest.Word("statoin/hum", []string{"station/hum", "station/ham"}))
}
