package humanize

import (
	"strings"
	"unicode"
)

// Printable is a text as one line that does nothing to a screen: what moves a cursor, ends a line
// or turns the direction of reading (UAX #9: embeddings, overrides, isolates) becomes U+FFFD.
func Printable(s string) string {
	return strings.Map(func(r rune) rune {
		if misleads(r) {
			return unicode.ReplacementChar
		}
		return r
	}, s)
}

// Misleads says whether a text has control characters or turns the direction of reading. Tabs and
// line ends are allowed where it has several lines.
func Misleads(s string, lines bool) bool {
	return strings.ContainsFunc(s,
		func(r rune) bool { return misleads(r) && (!lines || r != '\n' && r != '\r' && r != '\t') })
}

func misleads(r rune) bool {
	return unicode.IsControl(r) || r >= '\u202a' && r <= '\u202e' || r >= '\u2066' && r <= '\u2069'
}
