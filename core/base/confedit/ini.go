package confedit

import "strings"

// ini is a text of sections and keys: [section], key = value or key: value, comments behind ; and
// #. A key's path is its section and its name, or the name alone before the first section.
type ini struct {
	text string
	list []Key
	ends map[string]int // after the last key of a section, or its head; "" is what stands before the first
	last Key            // of all, for how keys are written
}

func readINI(text string) *ini {
	d := &ini{text: text, ends: map[string]int{"": 0}}
	section, inside := "", false
	for at := 0; at < len(text); {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			end = len(text)
		} else {
			end += at + 1
		}
		line := strings.TrimRight(text[at:end], "\r\n")
		trimmed := strings.TrimSpace(line)
		switch {
		case trimmed == "" || trimmed[0] == ';' || trimmed[0] == '#':
		case trimmed[0] == '[' && strings.Contains(trimmed, "]"):
			section, inside = strings.TrimSpace(trimmed[1:strings.IndexByte(trimmed, ']')]), true
			d.ends[section] = end
		default:
			n := strings.IndexAny(line, "=:")
			if n < 0 {
				d.ends[section] = end
				break // a line of its own
			}
			k := Key{Path: []string{strings.TrimSpace(line[:n])}, cutFrom: at, cutTo: end}
			if inside {
				k.Path = []string{section, k.Path[0]}
			}
			k.Value = strings.TrimSpace(line[n+1:])
			k.start = at + n + 1 + len(line[n+1:]) - len(strings.TrimLeft(line[n+1:], " \t"))
			k.end = k.start + len(k.Value)
			d.list, d.last = append(d.list, k), k
			d.ends[section] = end
		}
		at = end
	}
	return d
}

func (d *ini) keys() []Key { return d.list }

func (d *ini) insert(p []string, value string) (string, error) {
	section, key := "", p[len(p)-1]
	if len(p) > 1 {
		section = strings.Join(p[:len(p)-1], ".")
	}
	between := " = "
	if d.last.Path != nil {
		if head := d.text[d.last.cutFrom:d.last.start]; strings.Contains(head, "=") {
			between = head[strings.IndexByte(head, '=')-len(blankBefore(head, '=')):]
		} else if n := strings.IndexByte(head, ':'); n >= 0 {
			between = head[n:]
		}
	}
	line := key + between + value
	if at, ok := d.ends[section]; ok {
		return insertLine(d.text, at, line), nil
	}
	end := lineEnd(d.text)
	out := d.text
	if out != "" && !strings.HasSuffix(out, "\n") {
		out += end
	}
	if out != "" {
		out += end
	}
	return out + "[" + section + "]" + end + line + end, nil
}

// blankBefore is the blanks before the first c.
func blankBefore(s string, c byte) string {
	s = s[:strings.IndexByte(s, c)]
	return s[len(strings.TrimRight(s, " \t")):]
}
