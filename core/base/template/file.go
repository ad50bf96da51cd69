package template

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"text/template"
	"text/template/parse"
)

// raw is a text that is escaped already.
type raw string

// File is the template of a whole file.
type File struct{ t *template.Template }

// most bytes that a filled template may have.
const limit = 64 << 20

// NewFile parses a template of text/template. Every value that it prints is escaped in the way
// named, unless one of the functions called as the ways are (json, xml, ... or none) did so
// already. join makes one text of a list.
func NewFile(name, source, escape string) (*File, error) {
	if len(source) > maxSource {
		return nil, fmt.Errorf("the template is larger than %d bytes", maxSource)
	}
	funcs := (&cost{}).funcs() // Fill gives them a cost of its own
	funcs["escaped"] = func(v any) string { return escaped(escape, v) }
	for _, how := range Escapes {
		funcs[how] = func(v any) raw { return raw(escaped(how, v)) }
	}
	t, err := template.New(name).Funcs(funcs).Option("missingkey=error").Parse(source)
	if err != nil {
		return nil, plain(err)
	}
	for _, each := range t.Templates() {
		if each.Tree != nil {
			protect(each.Root)
			bound(each.Root)
			each.Root.Nodes = append([]parse.Node{counted("_call", each.Root.Pos)}, each.Root.Nodes...)
		}
	}
	return &File{t}, nil
}

// protect lets every value that is printed go through the function that escapes, as html/template does.
func protect(n parse.Node) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n != nil {
			for _, c := range n.Nodes {
				protect(c)
			}
		}
	case *parse.ActionNode:
		if len(n.Pipe.Decl) == 0 {
			n.Pipe.Cmds = append(n.Pipe.Cmds,
				&parse.CommandNode{NodeType: parse.NodeCommand, Pos: n.Pos,
					Args: []parse.Node{parse.NewIdentifier("escaped").SetPos(n.Pos)}})
		}
	case *parse.IfNode:
		protect(n.List)
		protect(n.ElseList)
	case *parse.RangeNode:
		protect(n.List)
		protect(n.ElseList)
	case *parse.WithNode:
		protect(n.List)
		protect(n.ElseList)
	}
}

func escaped(how string, v any) string {
	if r, ok := v.(raw); ok {
		return string(r)
	}
	return Escape(how, Text(v))
}

// Text is a value as people write it: a list with commas, a whole number without a point.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case []string:
		return strings.Join(v, ", ")
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// limited is a buffer that does not grow without end.
type limited struct{ bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > limit {
		return 0, fmt.Errorf("it becomes larger than %d MB", limit>>20)
	}
	return l.Buffer.Write(p)
}

// Fill fills the template. What that may cost is bounded (bounds.go): a template is another's, and can hold loops.
func (f *File) Fill(values map[string]any) (string, error) {
	t, err := f.t.Clone()
	if err != nil {
		return "", plain(err)
	}
	var out limited
	if err := t.Funcs((&cost{}).funcs()).Execute(&out, values); err != nil {
		return "", plain(err)
	}
	return out.String(), nil
}

// plain is the library's error without what only it understands.
func plain(err error) error { return errors.New(strings.TrimPrefix(err.Error(), "template: ")) }
