// Package suggest finds the word that somebody probably meant.
package suggest

import (
	"slices"
	"strings"
)

// Word returns the known word with the smallest edit distance to got, or "" when none is near enough to be a
// likely slip (more than a third of its letters away, not counting leading folders that both share). Of words equally
// near the first by the alphabet wins.
func Word(got string, known []string) string {
	best, bestDistance := "", len(got)+1
	for _, k := range slices.Sorted(slices.Values(known)) {
		a, b := apart(got, k)
		limit := max(1, len([]rune(a))/3)
		if d := distance([]rune(a), []rune(b)); d <= limit && d < bestDistance {
			best, bestDistance = k, d
		}
	}
	return best
}

// apart drops the leading folders that two paths share.
func apart(a, b string) (string, string) {
	for {
		folderA, restA, ok := strings.Cut(a, "/")
		folderB, restB, also := strings.Cut(b, "/")
		if !ok || !also || folderA != folderB {
			return a, b
		}
		a, b = restA, restB
	}
}

// distance is the optimal string alignment distance (Levenshtein plus swaps of neighbours, the commonest slip).
func distance(a, b []rune) int {
	rows := [3][]int{make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, prev, cur := rows[0], rows[1], rows[2]
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], before[j-2]+1)
			}
		}
		rows = [3][]int{prev, cur, before}
	}
	return rows[1][len(b)]
}
