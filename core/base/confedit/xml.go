package confedit

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// xmlText is an XML text with the places of its texts and attributes.
type xmlText struct {
	text     string
	list     []Key
	elements map[string]*element
}

// element is where an element stands.
type element struct {
	open, openEnd int // its opening tag
	close         int // its closing tag; where the opening one ends for an empty <element/>
	end           int
	name          string
	empty         bool // <element/>
	children      int
	lastChild     int // where the last child began, for how children are set
	lastEnd       int
	count         map[string]int
}

var xmlAttribute = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`([^\s=<>/"']+)\s*=\s*("([^"]*)"|'([^']*)')`)
})

func readXML(text string) (*xmlText, error) {
	d := &xmlText{text: text, elements: map[string]*element{}}
	in := xml.NewDecoder(strings.NewReader(text))
	in.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // the text was decoded before
	var paths [][]string
	var open []*element
	for {
		start := int(in.InputOffset())
		token, err := in.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it is no XML: %w", err)
		}
		end := int(in.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			name := t.Name.Local
			if t.Name.Space != "" {
				name = t.Name.Space + ":" + name
			}
			e := &element{open: start, openEnd: end, name: name, count: map[string]int{},
				empty: strings.HasSuffix(text[start:end], "/>")}
			step := name
			var p []string
			if n := len(open); n > 0 {
				parent := open[n-1]
				if parent.count[name]++; parent.count[name] > 1 {
					step += "[" + strconv.Itoa(parent.count[name]) + "]"
				}
				parent.children++
				parent.lastChild = start
				p = append(p, paths[n-1]...)
			}
			p = append(p, step)
			d.elements[Name(p)] = e
			tag := text[start:end]
			for _, m := range xmlAttribute().FindAllStringSubmatchIndex(tag, -1) {
				a, b := m[4]+1, m[5]-1
				from := m[0]
				for from > 0 && strings.IndexByte(" \t\r\n", tag[from-1]) >= 0 {
					from--
				}
				d.list = append(d.list,
					Key{Path: append(append([]string{}, p...), "@"+tag[m[2]:m[3]]), Value: tag[a:b], start: start + a,
						end: start + b, cutFrom: start + from, cutTo: start + m[1]})
			}
			open, paths = append(open, e), append(paths, p)
		case xml.EndElement:
			n := len(open) - 1
			name := t.Name.Local
			if t.Name.Space != "" {
				name = t.Name.Space + ":" + name
			}
			if n < 0 || open[n].name != name {
				return nil, fmt.Errorf("it is no XML: line %d: </%s> closes nothing that is open",
					1+strings.Count(text[:start], "\n"), name)
			}
			e, p := open[n], paths[n]
			e.close, e.end = start, end
			if e.empty {
				e.close, e.end = e.openEnd, e.openEnd
			}
			if e.children == 0 {
				inner := text[e.openEnd:e.close]
				value := strings.TrimSpace(inner)
				a := e.openEnd
				if value != "" {
					a += strings.Index(inner, value)
				}
				from, to := e.open, e.end
				if lineFrom, lineTo := lineAround(text, from, to); strings.TrimSpace(text[lineFrom:from]) == "" &&
					strings.TrimSpace(text[to:lineTo]) == "" {
					from, to = lineFrom, lineTo
				}
				if value != "" || !e.empty {
					d.list = append(d.list,
						Key{Path: p, Value: value, start: a, end: a + len(value), cutFrom: from, cutTo: to})
				}
			}
			if open, paths = open[:n], paths[:n]; n > 0 {
				open[n-1].lastEnd = e.end
			}
		}
	}
	if len(open) > 0 {
		return nil, fmt.Errorf("it is no XML: <%s> is not closed", open[len(open)-1].name)
	}
	return d, nil
}

func (d *xmlText) keys() []Key { return d.list }

func (d *xmlText) insert(p []string, value string) (string, error) {
	n := len(p)
	for n > 0 && d.elements[Name(p[:n])] == nil {
		n--
	}
	if n == 0 {
		return "", fmt.Errorf("there is no element to put %s into", Name(p))
	}
	e := d.elements[Name(p[:n])]
	if n == len(p) { // an empty <element/> gets its text
		head := strings.TrimRight(strings.TrimSuffix(d.text[e.open:e.openEnd], "/>"), " ")
		return d.text[:e.open] + head + ">" + value + "</" + e.name + ">" + d.text[e.end:], nil
	}
	if attribute, ok := strings.CutPrefix(p[n], "@"); ok && n == len(p)-1 {
		at := e.openEnd - 1
		if e.empty {
			at--
		}
		for d.text[at-1] == ' ' {
			at--
		}
		return d.text[:at] + " " + attribute + `="` + strings.ReplaceAll(value, `"`, "&quot;") + `"` + d.text[at:], nil
	}
	inner := value
	for i := len(p) - 1; i >= n; i-- {
		if attribute, ok := strings.CutPrefix(p[i], "@"); ok {
			if i != len(p)-1 || i == n {
				return "", fmt.Errorf("%s is no path of elements", Name(p))
			}
			i--
			inner = "<" + bareElement(p[i]) + " " + attribute + `="` + inner + `"/>`
			continue
		}
		inner = "<" + bareElement(p[i]) + ">" + inner + "</" + bareElement(p[i]) + ">"
	}
	if e.children > 0 {
		before := d.text[strings.LastIndexByte(d.text[:e.lastChild], '>')+1 : e.lastChild]
		if strings.TrimSpace(before) != "" {
			before = ""
		}
		return d.text[:e.lastEnd] + before + inner + d.text[e.lastEnd:], nil
	}
	if e.empty {
		head := strings.TrimRight(strings.TrimSuffix(d.text[e.open:e.openEnd], "/>"), " ")
		return d.text[:e.open] + head + ">" + inner + "</" + e.name + ">" + d.text[e.end:], nil
	}
	return d.text[:e.close] + inner + d.text[e.close:], nil
}

// bareElement is a step without its number.
func bareElement(step string) string {
	name, _, _ := strings.Cut(step, "[")
	return name
}
