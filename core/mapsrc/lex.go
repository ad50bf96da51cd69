package mapsrc

import (
	"strings"
	"unicode"
)

// token is a word of a line: bare, quoted, or the key or the value of a pair.
type token struct {
	text   string // without quotes
	column int    // counted in characters, from 1
	quoted bool
	key    bool // followed by '=': the next token is its value
}

// lexError is a mistake in a line's form.
type lexError struct {
	column int
	text   string
	do     string
}

// lexLine cuts a line, without its indentation, into tokens and a trailing comment. column is where the text begins.
// raw tells that the rest of the line after the first word is one token, whatever it holds (grid rows).
func lexLine(text string, column int, raw func(keyword string) bool) (tokens []token, comment string, err *lexError) {
	runes := []rune(text)
	for i, r := range runes {
		if unicode.IsControl(r) && r != '\t' {
			return nil, "", &lexError{column + i, "there is a control character here", "Remove it."}
		}
	}
	i := 0
	for i < len(runes) {
		if runes[i] == ' ' || runes[i] == '\t' {
			i++
			continue
		}
		at := column + i
		if runes[i] == '/' && i+1 < len(runes) && runes[i+1] == '/' && (i == 0 || runes[i-1] == ' ' || runes[i-1] == '\t') {
			return tokens, strings.TrimRight(string(runes[i+2:]), " \t"), nil
		}
		if len(tokens) == 1 && raw(tokens[0].text) {
			return append(tokens, token{text: strings.TrimRight(string(runes[i:]), " \t"), column: at}), "", nil
		}
		if runes[i] == '"' {
			value, n, ok := quoted(runes[i:])
			if !ok {
				return tokens, "", &lexError{at, "this text has no closing quote", `Put a " at its end; inside a text write \" for a quote.`}
			}
			tokens = append(tokens, token{text: value, column: at, quoted: true})
			i += n
			continue
		}
		start := i
		for i < len(runes) && runes[i] != ' ' && runes[i] != '\t' && runes[i] != '"' && runes[i] != '=' {
			i++
		}
		word := string(runes[start:i])
		if i < len(runes) && runes[i] == '=' && !(len(tokens) == 1 && tokens[0].text == "legend" && start == i) {
			if word == "" {
				return tokens, "", &lexError{at, "there is a '=' without a name before it", "Write key=value without spaces around the '='."}
			}
			tokens = append(tokens, token{text: word, column: at, key: true})
			i++
			if i >= len(runes) || runes[i] == ' ' || runes[i] == '\t' {
				return tokens, "", &lexError{column + i, "there is no value after " + word + "=", "Write key=value without spaces around the '='."}
			}
			continue
		}
		if word == "" { // a legend for the symbol '='
			word = "="
			i++
		}
		tokens = append(tokens, token{text: word, column: at})
	}
	return tokens, "", nil
}

// quoted reads a quoted text; n is its length with quotes.
func quoted(runes []rune) (value string, n int, ok bool) {
	var b strings.Builder
	for i := 1; i < len(runes); i++ {
		switch {
		case runes[i] == '"':
			return b.String(), i + 1, true
		case runes[i] == '\\' && i+1 < len(runes) && (runes[i+1] == '"' || runes[i+1] == '\\'):
			i++
			b.WriteRune(runes[i])
		default:
			b.WriteRune(runes[i])
		}
	}
	return "", 0, false
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
