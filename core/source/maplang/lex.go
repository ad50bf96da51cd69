package maplang

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// token is a word of a line: bare, quoted, or the key or the value of a pair.
type token struct {
	text   string // without quotes
	offset int    // of its first byte in the line
	quoted bool
	key    bool // followed by '=': the next token is its value
}

// end is the offset behind the token.
func (t token) end() int {
	if t.quoted {
		return t.offset + len(quote(t.text))
	}
	return t.offset + len(t.text)
}

// lexError is a mistake in a line's form.
type lexError struct {
	offset int
	text   string
	do     string
}

// column is the column, counted in characters from 1, of a byte of a line.
func column(line string, offset int) int {
	return 1 + utf8.RuneCountInString(line[:min(offset, len(line))])
}

// lexLine cuts a line, from the byte at start on, into tokens, which it appends to tokens, and a trailing comment.
func lexLine(line string, start int, tokens []token) (list []token, comment string, err *lexError) {
	for i, r := range line {
		if (r < ' ' || r >= 0x7f) && unicode.IsControl(r) && r != '\t' {
			return nil, "", &lexError{i, "there is a control character here", "Remove it."}
		}
	}
	i := start
	for i < len(line) {
		if line[i] == ' ' || line[i] == '\t' {
			i++
			continue
		}
		if line[i] == '/' && i+1 < len(line) && line[i+1] == '/' &&
			(i == start || line[i-1] == ' ' || line[i-1] == '\t') {
			return tokens, strings.TrimRight(line[i+2:], " \t"), nil
		}
		if len(tokens) == 1 && isRaw(tokens[0].text) {
			return append(tokens, token{text: strings.TrimRight(line[i:], " \t"), offset: i}), "", nil
		}
		if line[i] == '"' {
			value, n, ok := quoted(line[i:])
			if !ok {
				return tokens, "",
					&lexError{i, "this text has no closing quote",
						`Put a " at its end; inside a text write \" for a quote.`}
			}
			tokens = append(tokens, token{text: value, offset: i, quoted: true})
			i += n
			continue
		}
		at := i
		for i < len(line) && line[i] != ' ' && line[i] != '\t' && line[i] != '"' && line[i] != '=' {
			i++
		}
		word := line[at:i]
		if i < len(line) && line[i] == '=' && !(len(tokens) == 1 && tokens[0].text == "legend" && at == i) {
			if word == "" {
				return tokens, "",
					&lexError{at, "there is a '=' without a name before it",
						"Write key=value without spaces around the '='."}
			}
			tokens = append(tokens, token{text: word, offset: at, key: true})
			i++
			if i >= len(line) || line[i] == ' ' || line[i] == '\t' {
				return tokens, "",
					&lexError{i, "there is no value after " + word + "=",
						"Write key=value without spaces around the '='."}
			}
			continue
		}
		if word == "" { // a legend for the symbol '='
			word = "="
			i++
		}
		tokens = append(tokens, token{text: word, offset: at})
	}
	return tokens, "", nil
}

// quoted reads a quoted text; n is its length with quotes.
func quoted(s string) (value string, n int, ok bool) {
	if end := strings.IndexAny(s[1:], `"\`); end >= 0 && s[1+end] == '"' {
		return s[1 : 1+end], end + 2, true
	}
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '"':
			return b.String(), i + 1, true
		case s[i] == '\\' && i+1 < len(s) && (s[i+1] == '"' || s[i+1] == '\\'):
			i++
			b.WriteByte(s[i])
		default:
			b.WriteByte(s[i])
		}
	}
	return "", 0, false
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
