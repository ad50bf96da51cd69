package diff

import (
	"fmt"
	"strconv"
	"strings"
)

// context is how many lines stand around a change.
const context = 3

// noEnd is how the unified format says that a last line has no line end.
const noEnd = "\\ No newline at end of file\n"

// Unified writes what makes one text of another in the unified format, under these names; empty when they are the same.
func Unified(oldName, newName, old, now string) string {
	a, b := split(old), split(now)
	hunks := compare(a, b)
	if len(hunks) == 0 {
		return ""
	}
	var out strings.Builder
	fmt.Fprintf(&out, "--- %s\n+++ %s\n", oldName, newName)
	line := func(mark byte, s string) {
		out.WriteByte(mark)
		out.WriteString(s)
		if !strings.HasSuffix(s, "\n") {
			out.WriteString("\n" + noEnd)
		}
	}
	span := func(from, count int) string {
		if count == 0 {
			return strconv.Itoa(from) + ",0"
		}
		if count == 1 {
			return strconv.Itoa(from + 1)
		}
		return fmt.Sprintf("%d,%d", from+1, count)
	}
	for i := 0; i < len(hunks); {
		last := i
		for last+1 < len(hunks) && hunks[last+1].from-hunks[last].to <= 2*context {
			last++
		}
		from, to := max(0, hunks[i].from-context), min(len(a), hunks[last].to+context)
		at, end := hunks[i].at-(hunks[i].from-from), hunks[last].end+(to-hunks[last].to)
		fmt.Fprintf(&out, "@@ -%s +%s @@\n", span(from, to-from), span(at, end-at))
		for ; i <= last; i++ {
			for ; from < hunks[i].from; from++ {
				line(' ', a[from])
			}
			for ; from < hunks[i].to; from++ {
				line('-', a[from])
			}
			for _, s := range b[hunks[i].at:hunks[i].end] {
				line('+', s)
			}
		}
		for ; from < to; from++ {
			line(' ', a[from])
		}
	}
	return out.String()
}

// change is a part of a unified diff: the lines that were there, and those that come.
type change struct {
	line     int // from 0, where the old lines should stand
	old, now []string
}

// parse reads a unified diff of one text.
func parse(diff string) (list []change, err error) {
	lines := split(diff)
	for i := 0; i < len(lines); i++ {
		head := lines[i]
		if !strings.HasPrefix(head, "@@ -") {
			if len(list) > 0 && strings.HasPrefix(head, "--- ") {
				return nil, fmt.Errorf("line %d: it changes more than one file", i+1)
			}
			continue // names, and what others write around them
		}
		var c change
		from, count, ok := spanOf(strings.TrimPrefix(strings.Fields(head)[1], "-"))
		fields := strings.Fields(head)
		if !ok || len(fields) < 4 || fields[3] != "@@" {
			return nil, fmt.Errorf("line %d: this does not say where the change goes", i+1)
		}
		_, comes, ok := spanOf(strings.TrimPrefix(fields[2], "+"))
		if !ok {
			return nil, fmt.Errorf("line %d: this does not say where the change goes", i+1)
		}
		if c.line = from - 1; count == 0 {
			c.line = from
		}
		for len(c.old) < count || len(c.now) < comes || i+1 < len(lines) && lines[i+1] == noEnd {
			if i++; i >= len(lines) {
				return nil, fmt.Errorf("line %d: the change ends too early", i)
			}
			text := lines[i]
			switch text[0] {
			case ' ', '\n', '\r':
				if text[0] == ' ' {
					text = text[1:]
				}
				c.old, c.now = append(c.old, text), append(c.now, text)
			case '-':
				c.old = append(c.old, text[1:])
			case '+':
				c.now = append(c.now, text[1:])
			case '\\': // the line before has no end
				mark := lines[i-1][0]
				if n := len(c.old); mark != '+' && n > 0 {
					c.old[n-1] = strings.TrimSuffix(c.old[n-1], "\n")
				}
				if n := len(c.now); mark != '-' && n > 0 {
					c.now[n-1] = strings.TrimSuffix(c.now[n-1], "\n")
				}
			default:
				return nil, fmt.Errorf("line %d: a line of a change begins with a space, - or +", i+1)
			}
		}
		if len(c.old) != count || len(c.now) != comes {
			return nil, fmt.Errorf("line %d: the change does not have the lines that it says", i+1)
		}
		list = append(list, c)
	}
	return list, nil
}

func spanOf(s string) (from, count int, ok bool) {
	a, b, two := strings.Cut(s, ",")
	from, err := strconv.Atoi(a)
	count = 1
	if err == nil && two {
		count, err = strconv.Atoi(b)
	}
	return from, count, err == nil && from >= 0 && count >= 0
}

// FitError says that a change finds no place in a text.
type FitError struct {
	Line    int      // from 1, where it should go
	Want    []string // the lines that should stand there
	Nearest int      // from 1, where most of them stand; 0: nowhere
}

func (e *FitError) Error() string {
	return fmt.Sprintf("the lines that are to change are not there (they should stand at line %d)", e.Line)
}

// Apply makes the changes of a unified diff. The lines that it names must be there, all of them;
// they may stand elsewhere, since lines were added before them.
func Apply(text, diff string) (string, error) {
	list, err := parse(diff)
	if err != nil {
		return "", err
	}
	lines := split(text)
	var out []string
	at, moved := 0, 0
	for _, c := range list {
		found := -1
		for d := 0; d <= len(lines); d++ { // the nearest place to where they should be
			if p := c.line + moved + d; p >= at && fits(lines, c.old, p) {
				found = p
				break
			}
			if p := c.line + moved - d; d > 0 && p >= at && fits(lines, c.old, p) {
				found = p
				break
			}
		}
		if found < 0 {
			return "", &FitError{Line: c.line + 1, Want: c.old, Nearest: nearest(lines, c.old)}
		}
		moved = found - c.line
		out = append(append(out, lines[at:found]...), c.now...)
		at = found + len(c.old)
	}
	return strings.Join(append(out, lines[at:]...), ""), nil
}

func fits(lines, want []string, at int) bool {
	if at < 0 || at+len(want) > len(lines) {
		return false
	}
	for i, w := range want {
		if lines[at+i] != w {
			return false
		}
	}
	return true
}

// nearest is where most of some lines stand, from 1; 0 when none does.
func nearest(lines, want []string) int {
	best, limit := 0, 0
	for at := range lines {
		n := 0
		for i, w := range want {
			if at+i < len(lines) && lines[at+i] == w && strings.TrimSpace(w) != "" {
				n++
			}
		}
		if n > limit {
			best, limit = at+1, n
		}
	}
	return best
}
