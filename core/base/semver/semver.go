// Package semver handles versions of the form 1.2.3: the MAJOR.MINOR.PATCH of Semantic Versioning
// 2.0.0 (semver.org), without pre-release and build parts.
package semver

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// form limits each number to nine digits, so that it fits an int on every machine.
var form = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(0|[1-9][0-9]{0,8})\.(0|[1-9][0-9]{0,8})\.(0|[1-9][0-9]{0,8})$`)
})

// Compare orders two versions by their numbers: -1, 0 or +1.
func Compare(a, b string) int {
	return slices.Compare(numbers(a), numbers(b))
}

func numbers(v string) []int {
	var out []int
	for part := range strings.SplitSeq(v, ".") {
		n, _ := strconv.Atoi(part)
		out = append(out, n)
	}
	return out
}

// Valid reports whether v has the form 1.2.3.
func Valid(v string) bool { return form().MatchString(v) }

// Next returns v, which must be valid, with its last number raised by one.
func Next(v string) string {
	n := numbers(v)
	return strconv.Itoa(n[0]) + "." + strconv.Itoa(n[1]) + "." + strconv.Itoa(n[2]+1)
}

// Candidates returns v, which must be valid, and the next patch, minor and major version.
func Candidates(v string) []string {
	n := numbers(v)
	return []string{v, Next(v), fmt.Sprintf("%d.%d.0", n[0], n[1]+1), fmt.Sprintf("%d.0.0", n[0]+1)}
}
