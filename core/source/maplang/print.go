package maplang

import (
	"bytes"
	"strconv"
	"strings"
)

// Print writes the canonical form: settings in the grammar's order, numbers in their shortest form, two spaces under
// an owner, at most one empty line in a row. Parsing it gives the same records, and printing those the same text.
func Print(f *File) []byte {
	var b bytes.Buffer
	for i, r := range f.Records {
		if r.Blank && i > 0 {
			b.WriteByte('\n')
		}
		printRecord(&b, r, "")
	}
	comments(&b, f.Tail, "")
	return b.Bytes()
}

func printRecord(b *bytes.Buffer, r *Record, indent string) {
	comments(b, r.Leading, indent)
	g := ruleOf(r)
	b.WriteString(indent + r.Keyword)
	for i, v := range r.Values {
		b.WriteString(" " + printValue(g.slotAt(i).kind, v))
	}
	for _, s := range g.settings {
		if v := r.Pair(s.key); v != nil {
			b.WriteString(" " + s.key + "=" + printValue(s.kind, *v))
		}
	}
	for _, p := range r.Pairs {
		if p.free {
			b.WriteString(" " + p.Key + "=" + printValue(freeKind(r.Keyword), p.Value))
		}
	}
	if r.Trailing != "" {
		b.WriteString(" //" + r.Trailing)
	}
	b.WriteByte('\n')
	for i, c := range r.Children {
		if c.Blank && i > 0 {
			b.WriteByte('\n')
		}
		printRecord(b, c, indent+"  ")
	}
}

func comments(b *bytes.Buffer, lines []string, indent string) {
	for _, c := range lines {
		b.WriteString(indent + "//" + c + "\n")
	}
}

func printValue(k kind, v Value) string {
	if v.open && strings.Contains(v.Text, "{") && k != text && k != freeText && k != constant {
		if strings.ContainsAny(v.Text, " \t\"") {
			return quote(v.Text)
		}
		return v.Text
	}
	switch k {
	case number, pair, point, count, outline:
		var b strings.Builder
		part := v.Text
		for part != "" {
			end := strings.IndexAny(part, ",;")
			if end < 0 {
				end = len(part)
			}
			b.WriteString(printSum(part[:end]))
			if end < len(part) {
				b.WriteByte(part[end])
				end++
			}
			part = part[end:]
		}
		return b.String()
	case constant:
		if v.Quoted {
			return quote(v.Text)
		}
		return printSum(v.Text)
	case span:
		return strconv.Itoa(int(v.Numbers[0])) + ".." + strconv.Itoa(int(v.Numbers[1]))
	case colour:
		return strings.ToLower(v.Text)
	case text:
		return quote(v.Text)
	case freeText:
		if v.Text == "" || strings.ContainsAny(v.Text, " \t\"=") || strings.HasPrefix(v.Text, "//") {
			return quote(v.Text)
		}
	}
	return v.Text
}
