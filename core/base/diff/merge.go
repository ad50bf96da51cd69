package diff

import (
	"slices"
	"strings"
)

// Conflict is a place where two changes of one text contradict each other.
type Conflict struct {
	Line   int    `json:"line"` // from 1, in the text that Merge made
	Key    string `json:"key,omitempty"`
	Base   string `json:"base"`
	Ours   string `json:"ours"`
	Theirs string `json:"theirs"`
	Before string `json:"before,omitempty"` // up to three lines of ours that stand before it
	After  string `json:"after,omitempty"`
}

// Merge makes both changes of base that lead to ours and theirs. Where they contradict each other,
// ours stands in the result, and the place is told. The same change on both sides is made once.
func Merge(base, ours, theirs string) (string, []Conflict) {
	a, b, c := split(base), split(ours), split(theirs)
	left, right := compare(a, b), compare(a, c)
	var out []string
	var conflicts []Conflict
	at := 0                // in base
	shiftB, shiftC := 0, 0 // how far ours and theirs are ahead of base
	for len(left) > 0 || len(right) > 0 {
		// The next group of changes that touch each other, on either side.
		from := len(a) + 1
		if len(left) > 0 {
			from = left[0].from
		}
		if len(right) > 0 {
			from = min(from, right[0].from)
		}
		to, nl, nr := from, 0, 0
		for grown := true; grown; {
			grown = false
			for nl < len(left) && touches(left[nl], from, to, nr > 0) {
				to, nl, grown = max(to, left[nl].to), nl+1, true
			}
			for nr < len(right) && touches(right[nr], from, to, nl > 0) {
				to, nr, grown = max(to, right[nr].to), nr+1, true
			}
		}
		out = append(out, a[at:from]...)
		side := func(lines []string, hunks []hunk, shift int) ([]string, int) {
			end := shift
			for _, h := range hunks {
				end += (h.end - h.at) - (h.to - h.from)
			}
			return lines[from+shift : to+end], end
		}
		mine, sb := side(b, left[:nl], shiftB)
		other, sc := side(c, right[:nr], shiftC)
		switch {
		case nr == 0 || slices.Equal(mine, other):
			out = append(out, mine...)
		case nl == 0:
			out = append(out, other...)
		default:
			conflicts = append(conflicts,
				Conflict{Line: len(out) + 1, Base: strings.Join(a[from:to], ""), Ours: strings.Join(mine, ""),
					Theirs: strings.Join(other, ""),
					Before: strings.Join(b[max(0, from+shiftB-context):from+shiftB], ""),
					After:  strings.Join(b[to+sb:min(len(b), to+sb+context)], "")})
			out = append(out, mine...)
		}
		at, shiftB, shiftC = to, sb, sc
		left, right = left[nl:], right[nr:]
	}
	return strings.Join(append(out, a[at:]...), ""), conflicts
}

// touches says whether a change belongs to a group: it overlaps it, or both stand at the same place.
func touches(h hunk, from, to int, other bool) bool {
	if h.from == from && to == from {
		return true // the first of the group, or an insertion where another is
	}
	if h.from == h.to || from == to {
		return h.from >= from && h.from <= to && other
	}
	return h.from < to || h.from == to && other
}

// AddLine adds a line to a text unless it has it, after the last line that is as the text after,
// else at the end. Blanks around lines and the kind of their ends do not count. added is false when
// nothing had to be done.
func AddLine(text, line, after string) (out string, added bool) {
	lines := split(text)
	end := "\n"
	if strings.Contains(text, "\r\n") {
		end = "\r\n"
	}
	at := len(lines)
	for i, l := range lines {
		if strings.TrimSpace(l) == strings.TrimSpace(line) {
			return text, false
		}
		if after != "" && strings.TrimSpace(l) == strings.TrimSpace(after) {
			at = i + 1
		}
	}
	if at > 0 && !strings.HasSuffix(lines[at-1], "\n") {
		lines[at-1] += end
		if at == len(lines) { // the text did not end with a line end, and goes on not to
			return strings.Join(lines, "") + line, true
		}
	}
	return strings.Join(slices.Insert(lines, at, line+end), ""), true
}
