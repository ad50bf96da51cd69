package template

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"unicode"
)

// Escapes are the ways to escape a value, by what stands around it.
//
//	line     control characters and line ends become spaces: for a line of its own
//	quotes   backslashes before quotes and backslashes, \n \r \t: between "..." that the template writes
//	json     as in a JSON text (RFC 8259), between "..." that the template writes
//	csv      a field as in RFC 4180, in quotes when it needs them
//	xml      & < > " ' as entities: in XML and HTML
//	percent  as in a part of an address (RFC 3986)
//	none     as it is
var Escapes = []string{"line", "quotes", "json", "csv", "xml", "percent", "none"}

// Breaks says whether a character ends a line or is one that can't be seen: control characters, and
// Unicode's own line ends.
func Breaks(r rune) bool {
	return unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r == '\ufeff'
}

func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if Breaks(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// visible keeps line ends and tabs.
func visible(s string) string {
	return strings.Map(func(r rune) rune {
		if Breaks(r) && r != '\n' && r != '\r' && r != '\t' {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// XML makes a text one that an XML document can hold: characters that it has no way to write become spaces.
func XML(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || r == '\ufffe' || r == '\uffff') {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// Escape escapes a value.
func Escape(how, s string) string {
	switch how {
	case "quotes":
		return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(visible(s))
	case "json":
		var b strings.Builder
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		_ = e.Encode(s) // a text always encodes
		return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSuffix(b.String(), "\n"), `"`), `"`)
	case "csv":
		s = visible(strings.ReplaceAll(s, "\r\n", "\n"))
		if !strings.ContainsAny(s, "\",;|\t\r\n") && s == strings.TrimSpace(s) {
			return s
		}
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	case "xml":
		return html.EscapeString(XML(s))
	case "percent":
		return url.PathEscape(s)
	case "none":
		return s
	}
	return oneLine(s)
}

// Unescape is what a value was before it was escaped, as far as the way of escaping keeps it.
func Unescape(how, s string) (string, error) {
	switch how {
	case "quotes":
		var b strings.Builder
		for i := 0; i < len(s); i++ {
			if s[i] != '\\' {
				b.WriteByte(s[i])
				continue
			}
			i++
			if i == len(s) {
				return "", fmt.Errorf("%q ends within an escape", s)
			}
			if at := strings.IndexByte("nrt", s[i]); at >= 0 {
				b.WriteByte("\n\r\t"[at])
			} else {
				b.WriteByte(s[i])
			}
		}
		return b.String(), nil
	case "json":
		var out string
		err := json.Unmarshal([]byte(`"`+s+`"`), &out)
		return out, err
	case "csv":
		if !strings.HasPrefix(s, `"`) {
			return s, nil
		}
		fields, err := csv.NewReader(strings.NewReader(s)).Read()
		if err != nil || len(fields) != 1 {
			return "", fmt.Errorf("%q is no single field", s)
		}
		return fields[0], nil
	case "xml":
		return html.UnescapeString(s), nil
	case "percent":
		return url.PathUnescape(s)
	}
	return s, nil
}
