// Package diff compares texts line by line, writes and applies changes in the unified format
// (diffutils manual, "Detailed Description of Unified Format"), and merges two changes of one text.
//
// Lines are compared by the greedy algorithm of E. Myers, "An O(ND) Difference Algorithm and Its
// Variations" (1986); lines.go limits its work, and beyond the limit the rest counts as replaced.
// Line ends are part of a line: a text always comes back byte for byte.
package diff

import "strings"

// split cuts a text into lines, each with its end.
func split(text string) []string {
	if text == "" {
		return nil
	}
	lines := strings.SplitAfter(text, "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// hunk says that old[from:to] became new[at:end]; all are line numbers from 0.
type hunk struct{ from, to, at, end int }

// maxEdits bounds the search for the shortest way from one text to another: what differs in more
// lines counts as replaced whole.
const maxEdits = 3000

// compare finds what differs between two lists of lines, in order.
func compare(a, b []string) []hunk {
	start := 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	endA, endB := len(a), len(b)
	for endA > start && endB > start && a[endA-1] == b[endB-1] {
		endA, endB = endA-1, endB-1
	}
	var list []hunk
	for _, h := range shortest(a[start:endA], b[start:endB]) {
		list = append(list, hunk{h.from + start, h.to + start, h.at + start, h.end + start})
	}
	return list
}

// shortest is Myers' greedy search, with the furthest points of each round kept to walk back through.
func shortest(a, b []string) []hunk {
	n, m := len(a), len(b)
	if n == 0 && m == 0 {
		return nil
	}
	if n == 0 || m == 0 {
		return []hunk{{0, n, 0, m}}
	}
	limit := min(n+m, maxEdits)
	v := make([]int, 2*limit+3)
	var rounds [][]int
	found := -1
	for d := 0; d <= limit && found < 0; d++ {
		for k := -d; k <= d; k += 2 {
			i := k + limit + 1
			var x int
			if k == -d || k != d && v[i-1] < v[i+1] {
				x = v[i+1]
			} else {
				x = v[i-1] + 1
			}
			for x < n && x-k < m && a[x] == b[x-k] {
				x++
			}
			v[i] = x
			if x >= n && x-k >= m {
				found = d
				break
			}
		}
		rounds = append(rounds, append([]int{}, v[limit+1-d:limit+2+d]...))
	}
	if found < 0 {
		return []hunk{{0, n, 0, m}}
	}
	var back []hunk
	x, y := n, m
	for d := found; d > 0; d-- {
		before := rounds[d-1]
		at := func(k int) int {
			if i := k + d - 1; i >= 0 && i < len(before) {
				return before[i]
			}
			return -1
		}
		k := x - y
		down := k == -d || k != d && at(k-1) < at(k+1) // a line of b came in
		var px, py int
		if down {
			px = at(k + 1)
			py = px - (k + 1)
			back = append(back, hunk{px, px, py, py + 1})
		} else {
			px = at(k - 1)
			py = px - (k - 1)
			back = append(back, hunk{px, px + 1, py, py})
		}
		x, y = px, py
	}
	var list []hunk
	for i := len(back) - 1; i >= 0; i-- {
		h := back[i]
		if n := len(list); n > 0 && list[n-1].to == h.from && list[n-1].end == h.at {
			list[n-1].to, list[n-1].end = h.to, h.end
			continue
		}
		list = append(list, h)
	}
	return list
}
