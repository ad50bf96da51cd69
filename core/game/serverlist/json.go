package serverlist

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"vornix/core/base/confedit"
	"vornix/core/config/profile"
)

// array is an array of a JSON text (RFC 8259).
type array struct {
	before, after string // with the brackets
	tail          string // blanks in front of the closing one
}

func readJSON(rule *profile.ListFile, content string) (form, []item, error) {
	keys, err := confedit.ParsePath(rule.Key)
	if rule.Key == "" {
		keys, err = nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if strings.TrimSpace(content) == "" {
		before, after := "", ""
		for i, k := range keys {
			name, _ := json.Marshal(k)
			before += "{\n" + strings.Repeat("  ", i+1) + string(name) + ": "
			after = "\n" + strings.Repeat("  ", i) + "}" + after
		}
		return &array{before: before + "[", after: "]" + after + "\n"}, nil, nil
	}
	d := json.NewDecoder(strings.NewReader(content))
	if err := descend(d, keys); err != nil {
		return nil, nil, err
	}
	if t, err := d.Token(); err != nil || t != json.Delim('[') {
		return nil, nil, fmt.Errorf("%s is no array", orWhole(rule.Key))
	}
	at := d.InputOffset()
	a := &array{before: content[:at]}
	var items []item
	for d.More() {
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, nil, err
		}
		end := d.InputOffset()
		start := end - int64(len(raw))
		lead := content[at:start]
		if comma := strings.IndexByte(lead, ','); comma >= 0 {
			lead = lead[comma+1:]
		}
		body := string(raw)
		items = append(items, item{lead: lead, body: body})
		at = end
	}
	if _, err := d.Token(); err != nil {
		return nil, nil, err
	}
	close := d.InputOffset() - 1
	a.tail, a.after = content[at:close], content[close:]
	if _, err := io.Copy(io.Discard, d.Buffered()); err != nil {
		return nil, nil, err
	}
	if !json.Valid([]byte(content)) {
		return nil, nil, errors.New("it is no JSON")
	}
	for i := range items { // a plain text is known by what it says
		var s string
		if json.Unmarshal([]byte(items[i].body), &s) == nil {
			items[i].body, items[i].end = s, "text"
		}
	}
	return a, items, nil
}

func orWhole(key string) string {
	if key == "" {
		return "the file"
	}
	return key
}

// descend goes to the value of a path of keys.
func descend(d *json.Decoder, keys []string) error {
	for _, key := range keys {
		t, err := d.Token()
		if err != nil {
			return err
		}
		if t != json.Delim('{') {
			return fmt.Errorf("there is no key %q", key)
		}
		found := false
		for d.More() {
			name, err := d.Token()
			if err != nil {
				return err
			}
			if name == key {
				found = true
				break
			}
			var skip json.RawMessage
			if err := d.Decode(&skip); err != nil {
				return err
			}
		}
		if !found {
			return fmt.Errorf("there is no key %q", key)
		}
	}
	return nil
}

// fresh gives an entry the place in lines that its neighbours have.
func (a *array) fresh(items []item, i int, body string) item {
	x := item{body: body, end: "text"}
	if strings.HasPrefix(body, "{") && json.Valid([]byte(body)) {
		x.end = ""
	}
	switch {
	case i > 0:
		x.lead = items[i-1].lead
		if i == 1 && len(items) > 1 {
			x.lead = items[1].lead
		} else if i == 1 && !strings.Contains(x.lead, "\n") {
			x.lead = " "
		}
	case len(items) > 0:
		x.lead = items[0].lead
		if len(items) > 1 {
			items[0].lead = items[1].lead
		} else if !strings.Contains(x.lead, "\n") {
			items[0].lead = " "
		}
	default: // the first: on a line of its own, one step further in than the line of the bracket
		line := a.before[strings.LastIndex(a.before, "\n")+1:]
		indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		end := "\n"
		if strings.Contains(a.before, "\r\n") {
			end = "\r\n"
		}
		x.lead = end + indent + "  "
		a.tail = end + indent
	}
	return x
}

func (a *array) join(items []item) (string, error) {
	var b strings.Builder
	b.WriteString(a.before)
	for i, x := range items {
		if i > 0 {
			b.WriteByte(',')
		}
		body := x.body
		if x.end == "text" {
			var q strings.Builder
			e := json.NewEncoder(&q)
			e.SetEscapeHTML(false)
			if err := e.Encode(body); err != nil {
				return "", err
			}
			body = strings.TrimSpace(q.String())
		} else if !json.Valid([]byte(body)) {
			return "", fmt.Errorf("the entry is no JSON: %s", body)
		}
		b.WriteString(x.lead + body)
	}
	if len(items) == 0 {
		return b.String() + a.after, nil
	}
	return b.String() + a.tail + a.after, nil
}
