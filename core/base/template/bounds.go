package template

import (
	"fmt"
	"html/template"
	"net/url"
	"strings"
	texttemplate "text/template"
	"text/template/parse"
)

// Bounds of what filling one template may cost. They count work and not seconds, so that a template
// that fits on one machine fits on every other.
const (
	maxSource = 1 << 20   // bytes of a template
	maxRounds = 1_000_000 // of all its loops together
	maxCalls  = 1_000     // of templates by templates, of which each call can be inside another
	maxMade   = 64 << 20  // bytes that its functions make on the way
	maxWidth  = 1_000     // of a printf directive
)

// bound puts a count into every loop, and at the beginning of each template that is called.
func bound(n parse.Node) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n != nil {
			for _, c := range n.Nodes {
				bound(c)
			}
		}
	case *parse.IfNode:
		bound(n.List)
		bound(n.ElseList)
	case *parse.WithNode:
		bound(n.List)
		bound(n.ElseList)
	case *parse.RangeNode:
		bound(n.List)
		bound(n.ElseList)
		n.List.Nodes = append([]parse.Node{counted("_round", n.Pos)}, n.List.Nodes...)
	}
}

// counted is a call of a counting function. It prints nothing.
func counted(name string, pos parse.Pos) parse.Node {
	return &parse.ActionNode{NodeType: parse.NodeAction, Pos: pos,
		Pipe: &parse.PipeNode{NodeType: parse.NodePipe, Pos: pos,
			Cmds: []*parse.CommandNode{{NodeType: parse.NodeCommand, Pos: pos,
				Args: []parse.Node{parse.NewIdentifier(name).SetPos(pos)}}}}}
}

// cost is what filling a template has cost so far.
type cost struct{ rounds, calls, made int }

// funcs are the counting functions, and bounded ones in place of those that make text.
func (c *cost) funcs() texttemplate.FuncMap {
	text := func(make func(...any) string) func(...any) (string, error) {
		return func(args ...any) (string, error) {
			if err := c.make(6 * length(args)); err != nil { // an escaped character has six at most
				return "", err
			}
			return make(args...), nil
		}
	}
	return texttemplate.FuncMap{
		"_round": func() (string, error) {
			if c.rounds++; c.rounds > maxRounds {
				return "", fmt.Errorf("its loops go round more than %d times", maxRounds)
			}
			return "", nil
		},
		"_call": func() (string, error) {
			if c.calls++; c.calls > maxCalls {
				return "", fmt.Errorf("its templates call each other more than %d times", maxCalls)
			}
			return "", nil
		},
		"print":    text(fmt.Sprint),
		"println":  text(fmt.Sprintln),
		"html":     text(func(args ...any) string { return template.HTMLEscaper(args...) }),
		"js":       text(func(args ...any) string { return template.JSEscaper(args...) }),
		"urlquery": text(func(args ...any) string { return url.QueryEscape(fmt.Sprint(args...)) }),
		"join": func(list []string, between string) (string, error) {
			size := len(between) * len(list)
			for _, s := range list {
				size += len(s)
			}
			if err := c.make(size); err != nil {
				return "", err
			}
			return strings.Join(list, between), nil
		},
		"printf": func(format string, args ...any) (string, error) {
			directives, err := directives(format)
			if err != nil {
				return "", err
			}
			// A directive can name any of the arguments again, as in %[1]s.
			if err := c.make(len(format) + directives*(6*length(args)+2*maxWidth)); err != nil {
				return "", err
			}
			return fmt.Sprintf(format, args...), nil
		},
	}
}

// make counts bytes that a function is about to make.
func (c *cost) make(bytes int) error {
	if c.made += bytes; bytes > maxMade || c.made > maxMade {
		return fmt.Errorf("it makes more than %d MB of text on the way", maxMade>>20)
	}
	return nil
}

// length is about how long the arguments are as text.
func length(args []any) (n int) {
	for _, a := range args {
		switch a := a.(type) {
		case string:
			n += len(a)
		case raw:
			n += len(a)
		case []string:
			for _, s := range a {
				n += len(s) + 1
			}
		case nil, bool, int, int64, float64:
			n += 32
		default:
			n += len(fmt.Sprint(a))
		}
	}
	return n
}

// directives counts what printf fills in, and refuses widths that make much of nothing.
func directives(format string) (n int, err error) {
	for i := 0; i < len(format); i++ {
		if format[i] != '%' {
			continue
		}
		n++
		number := 0
		for i++; i < len(format) && strings.IndexByte("+-# .0123456789[]*", format[i]) >= 0; i++ {
			switch d := format[i]; {
			case d == '*':
				return 0, fmt.Errorf("printf with a width from an argument (*) is not possible here")
			case d >= '0' && d <= '9':
				if number = 10*number + int(d-'0'); number > maxWidth {
					return 0, fmt.Errorf("a width of printf is larger than %d", maxWidth)
				}
			default:
				number = 0
			}
		}
	}
	return n, nil
}
