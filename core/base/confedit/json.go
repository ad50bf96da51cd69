package confedit

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// jsonText is a JSON text (RFC 8259) with the places of its values. What stands in an array is reached by its number.
type jsonText struct {
	text    string
	list    []Key
	objects map[string]*object
	at      int
}

// object is where an object stands.
type object struct {
	open, close int // its braces
	first       int // the first key; -1: it is empty
	lastEnd     int // after the last value
}

func readJSON(text string) (*jsonText, error) {
	if !json.Valid([]byte(text)) {
		var v any
		return nil, fmt.Errorf("it is no JSON: %w", json.Unmarshal([]byte(text), &v))
	}
	d := &jsonText{text: text, objects: map[string]*object{}}
	d.value(nil)
	return d, nil
}

func (d *jsonText) blanks() {
	for d.at < len(d.text) && strings.IndexByte(" \t\r\n", d.text[d.at]) >= 0 {
		d.at++
	}
}

// value reads a value; the text is known to be well formed. It returns where it stands.
func (d *jsonText) value(p []string) (start, end int) {
	d.blanks()
	start = d.at
	switch d.text[d.at] {
	case '{', '[':
		o := &object{open: d.at, first: -1}
		array := d.text[d.at] == '['
		if !array {
			d.objects[Name(p)] = o
		}
		d.at++
		for n := 0; ; n++ {
			d.blanks()
			if c := d.text[d.at]; c == '}' || c == ']' {
				break
			}
			from := d.at
			key := strconv.Itoa(n)
			if !array {
				a, b := d.scalar()
				_ = json.Unmarshal([]byte(d.text[a:b]), &key) // it is well formed
				d.blanks()
				d.at++ // the colon
				if o.first < 0 {
					o.first = from
				}
			}
			path := append(append([]string{}, p...), key)
			before := len(d.list)
			_, to := d.value(path)
			cutFrom, cutTo := from, to
			d.blanks()
			if d.text[d.at] == ',' {
				d.at++
				d.blanks()
				cutTo = d.at
			} else if n > 0 { // the last one takes the comma before it along
				cutFrom = strings.LastIndexByte(d.text[:from], ',')
			}
			for i := before; i < len(d.list); i++ {
				if len(d.list[i].Path) == len(path) {
					d.list[i].cutFrom, d.list[i].cutTo = cutFrom, cutTo
				}
			}
			o.lastEnd = to
		}
		o.close = d.at
		d.at++
		if end = d.at; array && !strings.Contains(d.text[start:end], "{") || o.first < 0 && !array {
			// A list of plain values is one value, and so is an empty object.
			keep := d.list[:0]
			for _, k := range d.list {
				if k.start < start {
					keep = append(keep, k)
				}
			}
			d.list = append(keep, Key{Path: p, Value: d.text[start:end], start: start, end: end})
		}
		return start, end
	}
	start, end = d.scalar()
	d.list = append(d.list, Key{Path: p, Value: d.text[start:end], start: start, end: end})
	return start, end
}

func (d *jsonText) scalar() (start, end int) {
	start = d.at
	if d.text[d.at] == '"' {
		for d.at++; d.text[d.at] != '"'; d.at++ {
			if d.text[d.at] == '\\' {
				d.at++
			}
		}
		d.at++
		return start, d.at
	}
	for d.at < len(d.text) && strings.IndexByte(" \t\r\n,]}:", d.text[d.at]) < 0 {
		d.at++
	}
	return start, d.at
}

func (d *jsonText) keys() []Key { return d.list }

func (d *jsonText) insert(p []string, value string) (string, error) {
	// The innermost object that is there; what is missing between is made.
	n := len(p) - 1
	for n > 0 && d.objects[Name(p[:n])] == nil {
		n--
	}
	o := d.objects[Name(p[:n])]
	if o == nil {
		return "", fmt.Errorf("there is no object to put %s into", Name(p))
	}
	for i := len(p) - 1; i > n; i-- {
		key, err := Literal("json", p[i])
		if err != nil {
			return "", err
		}
		value = "{" + key + ": " + value + "}"
	}
	key, err := Literal("json", p[n])
	if err != nil {
		return "", err
	}
	member := key + ": " + value
	if o.first < 0 {
		return d.text[:o.open+1] + member + d.text[o.close:], nil
	}
	between := " "
	if head := d.text[o.open+1 : o.first]; strings.Contains(head, "\n") {
		between = head[strings.LastIndexByte(head, '\n'):]
		if strings.Contains(head, "\r\n") {
			between = "\r" + between
		}
	}
	return d.text[:o.lastEnd] + "," + between + member + d.text[o.lastEnd:], nil
}
