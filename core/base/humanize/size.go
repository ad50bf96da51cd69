// Package humanize writes values for people: sizes, and texts of others as one line that does nothing to a terminal.
package humanize

import "fmt"

// Bytes says how large something is, for people: in steps of a thousand.
func Bytes(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 1000*1000*1000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.2f GB", float64(n)/1e9)
}

// Instead is one size in place of another, to the byte where both would look the same.
func Instead(have, want int64) string {
	if h, w := Bytes(have), Bytes(want); h != w {
		return h + " instead of " + w
	}
	return fmt.Sprintf("%d bytes instead of %d", have, want)
}
