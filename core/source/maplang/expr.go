package maplang

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"vornix/core/base/suggest"
)

// variable is what a name stands for in a sum or between braces.
type variable struct {
	number float64
	text   string
	isText bool
}

func (v variable) String() string {
	if v.isText {
		return v.text
	}
	return formatNumber(v.number)
}

// scope holds the names that are known at a place; outer are those around it.
type scope struct {
	names map[string]variable
	outer *scope
}

func (s *scope) find(name string) (variable, bool) {
	for ; s != nil; s = s.outer {
		if v, ok := s.names[name]; ok {
			return v, true
		}
	}
	return variable{}, false
}

func (s *scope) all() []string {
	var list []string
	for ; s != nil; s = s.outer {
		for name := range s.names {
			list = append(list, name)
		}
	}
	return list
}

// errNames is the error for a sum that holds names where none are known yet.
var errNames = errors.New("it holds names")

// sum reads one arithmetic expression: numbers, names, + - * / % and parentheses, without spaces.
// The results of + and * are rounded at each step, so every machine finds the same.
type sum struct {
	text  string
	at    int
	known *scope
	depth int
	// named tells that a name was met, and trial that names are worth 1, because only the form is asked for.
	named, trial bool
	out          strings.Builder
}

// evaluate gives the value of an expression. Without a scope the error is errNames for one that holds names.
func evaluate(text string, known *scope) (float64, error) {
	if f, ok := literal(text); ok {
		return f, nil
	}
	s := &sum{text: text, known: known, trial: known == nil}
	f, err := s.whole()
	switch {
	case err != nil:
		return 0, err
	case s.trial && s.named:
		return 0, errNames
	case math.IsNaN(f) || math.IsInf(f, 0):
		return 0, fmt.Errorf("%q has no value: it divides by zero or is too large", text)
	}
	return f + 0, nil
}

// literal reads a plain number: no hexadecimal one, no NaN, no infinity, which are names here.
func literal(text string) (float64, bool) {
	f, err := strconv.ParseFloat(text, 64)
	return f + 0, err == nil && !strings.ContainsAny(text, "xXpP_nN") // +0 turns -0 into 0
}

func (s *sum) whole() (float64, error) {
	f, err := s.terms()
	if err == nil && s.at < len(s.text) {
		return 0, fmt.Errorf("%q is no number", s.text)
	}
	return f, err
}

func (s *sum) peek() byte {
	if s.at < len(s.text) {
		return s.text[s.at]
	}
	return 0
}

func (s *sum) take() byte {
	c := s.peek()
	s.at++
	s.out.WriteByte(c)
	return c
}

func (s *sum) terms() (float64, error) {
	a, err := s.factors()
	for err == nil && (s.peek() == '+' || s.peek() == '-') {
		op := s.take()
		var b float64
		if b, err = s.factors(); op == '-' {
			b = -b
		}
		a += b
	}
	return a, err
}

func (s *sum) factors() (float64, error) {
	a, err := s.factor()
	for err == nil && (s.peek() == '*' || s.peek() == '/' || s.peek() == '%') {
		op := s.take()
		var b float64
		b, err = s.factor()
		switch op {
		case '*':
			a = float64(a * b)
		case '/':
			a = a / b
		default:
			a = math.Mod(a, b)
		}
	}
	return a, err
}

func isNameStart(c byte) bool { return c >= 'a' && c <= 'z' || c == '_' }

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func (s *sum) factor() (float64, error) {
	if s.depth++; s.depth > 50 {
		return 0, errors.New("the sum is nested too deeply")
	}
	defer func() { s.depth-- }()
	switch c := s.peek(); {
	case c == '-':
		s.take()
		f, err := s.factor()
		return -f, err
	case c == '(':
		s.take()
		f, err := s.terms()
		if err == nil && s.peek() != ')' {
			return 0, fmt.Errorf("%q lacks a closing parenthesis", s.text)
		}
		if err == nil {
			s.take()
		}
		return f, err
	case isNameStart(c):
		from := s.at
		for isNameStart(s.peek()) || isDigit(s.peek()) {
			s.take()
		}
		return s.name(s.text[from:s.at])
	case isDigit(c) || c == '.':
		from := s.at
		for isDigit(s.peek()) || s.peek() == '.' || (s.peek() == 'e' || s.peek() == 'E') && s.exponent() ||
			(s.peek() == '-' || s.peek() == '+') && (s.text[s.at-1] == 'e' || s.text[s.at-1] == 'E') {
			s.at++
		}
		f, err := strconv.ParseFloat(s.text[from:s.at], 64)
		if err != nil {
			return 0, fmt.Errorf("%q is no number", s.text[from:s.at])
		}
		s.out.WriteString(formatNumber(f))
		return f, nil
	}
	return 0, fmt.Errorf("%q is no number", s.text)
}

// exponent says whether the e that is next belongs to the number before it.
func (s *sum) exponent() bool {
	rest := s.text[s.at+1:]
	if rest != "" && (rest[0] == '-' || rest[0] == '+') {
		rest = rest[1:]
	}
	return rest != "" && isDigit(rest[0])
}

func (s *sum) name(name string) (float64, error) {
	s.named = true
	if s.trial {
		return 1, nil
	}
	v, ok := s.known.find(name)
	switch {
	case !ok:
		return 0, noSuchName(name, s.known)
	case v.isText:
		return 0, fmt.Errorf("%q is the text %q, and a number is wanted", name, v.text)
	}
	return v.number, nil
}

// unknownName is the error for a name that stands for nothing.
type unknownName struct{ name, near string }

func (u *unknownName) Error() string {
	if u.near != "" {
		return fmt.Sprintf("nothing is called %q; did you mean %q?", u.name, u.near)
	}
	return fmt.Sprintf("nothing is called %q", u.name)
}

func noSuchName(name string, known *scope) error {
	return &unknownName{name, suggest.Word(name, known.all())}
}

// printSum is the canonical form of an expression that is known to be one.
func printSum(text string) string {
	s := &sum{text: text, trial: true}
	if f, ok := literal(text); ok {
		return formatNumber(f)
	}
	if _, err := s.whole(); err != nil {
		return text
	}
	return s.out.String()
}

func formatNumber(f float64) string { return strconv.FormatFloat(f+0, 'f', -1, 64) }

// fill replaces {expression} in a text by its value. Without a scope it only looks at the form.
func fill(text string, known *scope) (string, error) {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "{")
		b.WriteString(before)
		if !found {
			return b.String(), nil
		}
		inside, after, closed := strings.Cut(rest, "}")
		if !closed {
			return "", errors.New("a { has no } behind it")
		}
		text = after
		if known == nil {
			if _, err := evaluate(inside, nil); err != nil && !errors.Is(err, errNames) {
				return "", err
			}
			continue
		}
		if v, ok := known.find(inside); ok {
			b.WriteString(v.String())
			continue
		}
		f, err := evaluate(inside, known)
		if err != nil {
			return "", err
		}
		b.WriteString(formatNumber(f))
	}
}
