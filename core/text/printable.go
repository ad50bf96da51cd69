package text

import (
	"strings"
	"unicode"
)

// Printable is a text as one line that does nothing to a screen: what moves a cursor, ends a line or turns the direction of reading
// (UAX #9: embeddings, overrides, isolates) becomes U+FFFD.
func Printable(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069' {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}
