package metadata

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"vornix/core/base/template"
)

// write gives a table its form. root is the name of XML's outermost element, or of the section of
// what stands in none in INI.
func write(form, root, encoding string, t Table) ([]byte, error) {
	var b bytes.Buffer
	switch form {
	case "json":
		jsonValue(&b, t, "")
		b.WriteByte('\n')
	case "toml":
		if err := tomlTable(&b, t, nil); err != nil {
			return nil, err
		}
	case "yaml":
		e := yaml.NewEncoder(&b)
		e.SetIndent(2)
		if err := e.Encode(yamlNode(t)); err != nil {
			return nil, err
		}
		if err := e.Close(); err != nil {
			return nil, err
		}
	case "xml":
		fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=%q?>\n", xmlEncoding(encoding))
		xmlElement(&b, root, t, "")
	case "ini":
		iniSection(&b, root, "", t)
	}
	return b.Bytes(), nil
}

// scalar is a number as an integer when it is one.
func scalar(v any) any {
	if f, ok := v.(float64); ok && f == math.Trunc(f) && math.Abs(f) < 1<<53 {
		return int64(f)
	}
	return v
}

func jsonText(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(scalar(v)) // texts, lists, flags and numbers always encode
	return strings.TrimSuffix(b.String(), "\n")
}

func jsonValue(b *bytes.Buffer, v any, indent string) {
	switch v := v.(type) {
	case Table:
		if len(v) == 0 {
			b.WriteString("{}")
			return
		}
		b.WriteString("{\n")
		for i, p := range v {
			fmt.Fprintf(b, "%s  %s: ", indent, jsonText(p.Key))
			jsonValue(b, p.Value, indent+"  ")
			if i < len(v)-1 {
				b.WriteByte(',')
			}
			b.WriteByte('\n')
		}
		b.WriteString(indent + "}")
	case []Table:
		if len(v) == 0 {
			b.WriteString("[]")
			return
		}
		b.WriteString("[\n")
		for i, t := range v {
			b.WriteString(indent + "  ")
			jsonValue(b, t, indent+"  ")
			if i < len(v)-1 {
				b.WriteByte(',')
			}
			b.WriteByte('\n')
		}
		b.WriteString(indent + "]")
	default:
		b.WriteString(jsonText(v))
	}
}

var bareKey = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_-]+$`) })

func tomlKey(path []string) string {
	parts := make([]string, len(path))
	for i, k := range path {
		if parts[i] = k; !bareKey().MatchString(k) {
			parts[i] = jsonText(k) // a basic string of TOML is one of JSON
		}
	}
	return strings.Join(parts, ".")
}

// tomlTable writes values before tables: TOML has no way back out of a table.
func tomlTable(b *bytes.Buffer, t Table, path []string) error {
	for _, p := range t {
		switch p.Value.(type) {
		case Table, []Table:
			continue
		}
		line, err := toml.Marshal(map[string]any{p.Key: scalar(p.Value)})
		if err != nil {
			return err
		}
		b.Write(line)
	}
	for _, p := range t {
		here := append(append([]string{}, path...), p.Key)
		switch v := p.Value.(type) {
		case Table:
			fmt.Fprintf(b, "\n[%s]\n", tomlKey(here))
			if err := tomlTable(b, v, here); err != nil {
				return err
			}
		case []Table:
			for _, one := range v {
				fmt.Fprintf(b, "\n[[%s]]\n", tomlKey(here))
				if err := tomlTable(b, one, here); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func yamlNode(v any) *yaml.Node {
	n := &yaml.Node{}
	switch v := v.(type) {
	case Table:
		n.Kind = yaml.MappingNode
		for _, p := range v {
			n.Content = append(n.Content, yamlNode(p.Key), yamlNode(p.Value))
		}
	case []Table:
		n.Kind = yaml.SequenceNode
		for _, t := range v {
			n.Content = append(n.Content, yamlNode(t))
		}
	default:
		_ = n.Encode(scalar(v)) // texts, lists, flags and numbers always encode
	}
	return n
}

func xmlEncoding(name string) string {
	return map[string]string{"utf-8": "UTF-8", "utf-16le": "UTF-16", "utf-16be": "UTF-16", "latin-1": "ISO-8859-1",
		"windows-1252": "windows-1252", "windows-1251": "windows-1251", "cp437": "IBM437"}[name]
}

func xmlText(s string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(template.XML(s))) // into memory
	return b.String()
}

// xmlElement writes an element: keys with @ are its attributes, #text is its content, a list is one element each.
func xmlElement(b *bytes.Buffer, name string, v any, indent string) {
	t, isTable := v.(Table)
	if !isTable {
		switch v := v.(type) {
		case []Table:
			for _, one := range v {
				xmlElement(b, name, one, indent)
			}
		case []string:
			for _, one := range v {
				fmt.Fprintf(b, "%s<%s>%s</%s>\n", indent, name, xmlText(one), name)
			}
		default:
			fmt.Fprintf(b, "%s<%s>%s</%s>\n", indent, name, xmlText(template.Text(v)), name)
		}
		return
	}
	b.WriteString(indent + "<" + name)
	content, children := "", 0
	for _, p := range t {
		switch {
		case strings.HasPrefix(p.Key, "@"):
			fmt.Fprintf(b, " %s=\"%s\"", p.Key[1:], xmlText(template.Text(p.Value)))
		case p.Key == "#text":
			content = xmlText(template.Text(p.Value))
		default:
			children++
		}
	}
	if children == 0 {
		if content == "" {
			b.WriteString("/>\n")
		} else {
			fmt.Fprintf(b, ">%s</%s>\n", content, name)
		}
		return
	}
	b.WriteString(">" + content + "\n")
	for _, p := range t {
		if !strings.HasPrefix(p.Key, "@") && p.Key != "#text" {
			xmlElement(b, p.Key, p.Value, indent+"  ")
		}
	}
	fmt.Fprintf(b, "%s</%s>\n", indent, name)
}

// iniSection writes what stands in no table under a section (none when it has no name), then each
// table as a section of its own, whose name begins with prefix.
func iniSection(b *bytes.Buffer, section, prefix string, t Table) {
	headed := false
	for _, p := range t {
		switch p.Value.(type) {
		case Table, []Table:
			continue
		}
		if !headed && section != "" {
			fmt.Fprintf(b, "[%s]\n", iniText(section))
		}
		headed = true
		fmt.Fprintf(b, "%s=%s\n", p.Key, iniText(p.Value))
	}
	for _, p := range t {
		switch v := p.Value.(type) {
		case Table:
			space(b)
			iniSection(b, prefix+p.Key, prefix+p.Key+".", v)
		case []Table:
			for i, one := range v {
				space(b)
				name := prefix + p.Key + "." + strconv.Itoa(i+1)
				iniSection(b, name, name+".", one)
			}
		}
	}
}

func space(b *bytes.Buffer) {
	if b.Len() > 0 {
		b.WriteByte('\n')
	}
}

// iniText keeps a value on its line: an INI file has no way to escape, so line ends become spaces.
func iniText(v any) string { return template.Escape("line", template.Text(v)) }
