package metadata

import (
	"bytes"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"vornix/core/base/charset"
	"vornix/core/base/confedit"
	"vornix/core/base/fault"
	"vornix/core/base/safefile"
	"vornix/core/base/semver"
	"vornix/core/base/template"
	"vornix/core/config/profile"
	"vornix/core/config/project"
	"vornix/core/source/assetgraph"
)

// maxRead is how many bytes a metadata file may have that is read.
const maxRead = 4 << 20

// Taken says what became of one value of a file that was read.
type Taken struct {
	Key   string `json:"key"`             // where it stands in the file
	Field string `json:"field,omitempty"` // of the profile; empty when it is none
	To    string `json:"to,omitempty"`    // the key of vornix.toml that it goes to
	Value any    `json:"value"`
	Old   any    `json:"old,omitempty"` // what vornix.toml has there, or Vornix fills in
	State string `json:"state"`         // set, same, computed, differs, unknown, refused
	Note  string `json:"note,omitempty"`
}

// What becomes of a value.
const (
	TakenSet      = "set"      // vornix.toml gets it
	TakenSame     = "same"     // vornix.toml has it
	TakenComputed = "computed" // Vornix fills it in by itself, with the same
	TakenDiffers  = "differs"  // Vornix fills it in by itself, with another
	TakenUnknown  = "unknown"  // the profile has no such field
	TakenRefused  = "refused"  // it is not of the field's type, or no version
)

// Import reads a metadata file by the profile's description, and says what of it goes into the
// project file. as names the profile's file that it is; empty finds the one that it fits best.
// Nothing is written: Apply does that.
func Import(p *project.Project, g *assetgraph.Graph, name string, data []byte, as string) ([]Taken, error) {
	if len(data) > maxRead {
		return nil, &fault.Fault{Kind: fault.Usage, What: "the file is too large for metadata",
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: fmt.Sprintf("At most %d MB are read.", maxRead>>20)}
	}
	of, err := described(p, as, name)
	if err != nil {
		return nil, err
	}
	encoding := "windows-1252" // of old files that do not say; every byte is a letter in it
	if len(of) == 1 {
		encoding = of[0].Style().Encoding
	}
	t, err := charset.Read(data, encoding)
	if err != nil {
		return nil, unreadable(name, err)
	}
	form := formOf(name, t.Content)
	values, err := read(form, t.Content)
	if err != nil {
		return nil, unreadable(name, err)
	}
	var best map[string]source
	for _, f := range of {
		if s := match(p, f, values); best == nil || weight(s) > weight(best) {
			best = s
		}
	}
	current := &about{facts: Look(p, g, Scenes(g))}
	current.bundles = PlannedBundles(p, current.facts.Maps)
	filled := map[string]value{}
	for _, v := range fillFields(p, current) {
		filled[v.field.Name] = v
	}
	var list []Taken
	for _, key := range slices.Sorted(maps.Keys(values)) {
		s, ok := best[key]
		if !ok {
			list = append(list, Taken{Key: key, Value: values[key], State: TakenUnknown})
			continue
		}
		if s.field == nil {
			list = append(list,
				Taken{Key: key, Value: values[key], State: TakenComputed,
					Note: "it is said of each map, bundle or language"})
			continue
		}
		list = append(list, take(p, key, filled[s.field.Name], s.value))
	}
	return list, nil
}

func unreadable(name string, err error) error {
	f := &fault.Fault{Kind: fault.Usage, What: "the metadata can't be read",
		Place: fault.Place{File: filepath.ToSlash(name)}, Err: err,
		Do: "Correct the file. Read are JSON, TOML, YAML, XML, INI, and lines of a key and a value."}
	var at *charset.Error
	if errors.As(err, &at) {
		f.Place.Line, f.Place.Column = at.Line, at.Column
	}
	return f
}

// described are the profile's files that a file may be.
func described(p *project.Project, as, name string) (list []*profile.AddonFile, err error) {
	var names []string
	for i := range p.Profile.Addon.Files {
		f := &p.Profile.Addon.Files[i]
		names = append(names, f.Path)
		if as == f.Path || as == "" {
			list = append(list, f)
		}
	}
	if len(list) == 0 {
		return nil, &fault.Fault{Kind: fault.Usage,
			What:  fmt.Sprintf("%s has no metadata file %q", p.Profile.Game.Title, as),
			Place: fault.Place{File: filepath.ToSlash(name)}, Do: "It has: " + strings.Join(names, ", ")}
	}
	return list, nil
}

// formOf tells the form of a file by its ending, or by how it begins.
func formOf(name, content string) string {
	start := strings.TrimSpace(content)
	switch ext := strings.TrimPrefix(strings.ToLower(path.Ext(filepath.ToSlash(name))), "."); {
	case slices.Contains([]string{"json", "toml", "xml", "ini"}, ext):
		return ext
	case ext == "yaml" || ext == "yml":
		return "yaml"
	case strings.HasPrefix(start, "{"):
		return "json"
	case strings.HasPrefix(start, "<"):
		return "xml"
	}
	return "ini" // lines of a key and a value are INI without sections
}

// read flattens a file: values by their path with dots.
func read(form, content string) (map[string]any, error) {
	out := map[string]any{}
	var tree any
	switch form {
	case "json":
		d := json.NewDecoder(strings.NewReader(content))
		d.UseNumber()
		if err := d.Decode(&tree); err != nil {
			return nil, err
		}
	case "toml":
		var m map[string]any
		if err := toml.Unmarshal([]byte(content), &m); err != nil {
			return nil, err
		}
		tree = m
	case "yaml":
		if err := yaml.Unmarshal([]byte(content), &tree); err != nil {
			return nil, err
		}
	case "xml":
		return out, readXML(content, out)
	default:
		return out, readLines(content, out)
	}
	flatten(tree, "", out)
	if len(out) == 0 {
		return nil, fmt.Errorf("there are no values in it")
	}
	return out, nil
}

func flatten(v any, at string, out map[string]any) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			flatten(x, strings.TrimPrefix(at+"."+k, "."), out)
		}
	case []any:
		words, plain := []string{}, true
		for _, x := range v {
			switch x.(type) {
			case map[string]any, []any:
				plain = false
			}
			words = append(words, template.Text(x))
		}
		if plain {
			out[at] = words
			return
		}
		for i, x := range v {
			flatten(x, fmt.Sprintf("%s.%d", at, i+1), out)
		}
	case json.Number:
		f, err := v.Float64()
		if err != nil {
			out[at] = v.String()
			return
		}
		out[at] = f
	case int:
		out[at] = float64(v)
	case int64:
		out[at] = float64(v)
	case nil:
	case string, bool, float64:
		out[at] = v
	default:
		out[at] = fmt.Sprint(v)
	}
}

// readXML reads elements with text and attributes. The outermost element has no name in the paths;
// one that comes again makes a list.
func readXML(content string, out map[string]any) error {
	d := xml.NewDecoder(strings.NewReader(content))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is a text already
	type level struct {
		path     string
		text     strings.Builder
		children bool
	}
	var stack []*level
	add := func(at, v string) {
		switch old := out[at].(type) {
		case nil:
			out[at] = v
		case string:
			out[at] = []string{old, v}
		case []string:
			out[at] = append(old, v)
		}
	}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		switch x := token.(type) {
		case xml.StartElement:
			if len(stack) > 64 {
				return fmt.Errorf("elements stand in one another more than 64 deep")
			}
			l := &level{}
			if len(stack) > 0 {
				up := stack[len(stack)-1]
				up.children = true
				l.path = strings.TrimPrefix(up.path+"."+x.Name.Local, ".")
			}
			for _, a := range x.Attr {
				if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
					add(strings.TrimPrefix(l.path+".@"+a.Name.Local, "."), a.Value)
				}
			}
			stack = append(stack, l)
		case xml.CharData:
			if len(stack) > 0 {
				stack[len(stack)-1].text.Write(x)
			}
		case xml.EndElement:
			l := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			if value := strings.TrimSpace(l.text.String()); !l.children && l.path != "" {
				add(l.path, value)
			}
		}
	}
	if len(out) == 0 {
		return fmt.Errorf("there are no values in it")
	}
	return nil
}

var keyLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\s*("(?:[^"\\]|\\.)*"|[^=:"\s][^=:]*?)\s*[=:]\s*(.*?)\s*$`)
})

// readLines reads INI, and lines with a key and a value.
func readLines(content string, out map[string]any) error {
	section := ""
	for n, line := range strings.Split(strings.ReplaceAll(content, "\r\n", "\n"), "\n") {
		s := strings.TrimSpace(line)
		switch {
		case s == "" || s[0] == ';' || s[0] == '#' || strings.HasPrefix(s, "//"):
			continue
		case s[0] == '[' && s[len(s)-1] == ']':
			section = strings.TrimSpace(s[1:len(s)-1]) + "."
			continue
		}
		m := keyLine().FindStringSubmatch(line)
		if m == nil {
			return &charset.Error{Line: n + 1, Column: 1, What: fmt.Sprintf("a line is no key and value: %q", s)}
		}
		out[section+unquote(m[1])] = unquote(m[2])
	}
	if len(out) == 0 {
		return fmt.Errorf("there are no values in it")
	}
	return nil
}

func unquote(s string) string {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		if plain, err := template.Unescape("quotes", s[1:len(s)-1]); err == nil {
			return plain
		}
	}
	return s
}

// weight is how well a file fits: what stands where the profile says counts more than what only has the name.
func weight(found map[string]source) (n int) {
	for _, s := range found {
		if s.placed {
			n += 2
		}
		n++
	}
	return n
}

// source is where a field's value was found; without a field it is of what a table is repeated for, which is computed.
type source struct {
	field  *profile.Field
	value  any
	placed bool
}

// match finds the fields in the values of a file, by the structure that the profile gives it, and
// where that says nothing by name.
func match(p *project.Project, f *profile.AddonFile, values map[string]any) map[string]source {
	found := map[string]source{}
	var walk func(table map[string]any, at string)
	walk = func(table map[string]any, at string) {
		if table[profile.ForEach] != nil {
			for key, v := range values {
				if strings.HasPrefix(key, at+".") {
					found[key] = source{nil, v, true}
				}
			}
			if table[profile.ForEach] == "language" {
				maps.Copy(found, mainLanguage(p, table, at, values))
			}
			return
		}
		for key, v := range table {
			here := strings.TrimPrefix(at+"."+key, ".")
			switch v := v.(type) {
			case map[string]any:
				walk(v, here)
			case string:
				got, ok := values[strings.TrimSuffix(here, ".#text")]
				names := template.Places(v)
				if !ok || len(names) != 1 {
					continue
				}
				field := p.Profile.Field(names[0])
				if field == nil {
					continue
				}
				if v != "{"+names[0]+"}" { // it stands within a text
					parts, ok := template.NewReader(v, "none").Read(template.Text(got))
					if !ok {
						continue
					}
					got = parts[names[0]]
				}
				found[strings.TrimSuffix(here, ".#text")] = source{field, got, true}
			}
		}
	}
	walk(f.Structure, "")
	keys := slices.Collect(maps.Keys(values))
	slices.SortFunc(keys, func(a, b string) int { // what stands further out first
		return cmp.Or(cmp.Compare(strings.Count(a, "."), strings.Count(b, ".")), strings.Compare(a, b))
	})
	for _, key := range keys {
		v := values[key]
		if _, ok := found[key]; ok || listed().MatchString(key) {
			continue
		}
		last := key[strings.LastIndexByte(key, '.')+1:]
		for i := range p.Profile.Addon.Fields {
			field := &p.Profile.Addon.Fields[i]
			if loosely(last) == loosely(field.Name) &&
				!slices.ContainsFunc(slices.Collect(maps.Values(found)),
					func(s source) bool { return s.field == field }) {
				found[key] = source{field, v, false}
			}
		}
	}
	return found
}

// mainLanguage finds, in a list with an element for each language, the fields of the element in the
// project's own: those are what its file says.
func mainLanguage(p *project.Project, table map[string]any, at string, values map[string]any) map[string]source {
	found := map[string]source{}
	for key, v := range table {
		if v != "{language}" {
			continue
		}
		for n := 1; ; n++ {
			element := fmt.Sprintf("%s.%d.", at, n)
			language, ok := values[element+key]
			if !ok {
				break
			}
			if template.Text(language) != p.File.Project.Language {
				continue
			}
			for other, says := range table {
				name, ok := says.(string)
				if value, there := values[element+other]; ok && there && len(name) > 2 && name[0] == '{' &&
					name[len(name)-1] == '}' {
					if field := p.Profile.Field(name[1 : len(name)-1]); field != nil {
						found[element+other] = source{field, value, true}
					}
				}
			}
		}
	}
	return found
}

// listed is a key within an element of a list: it speaks of that, not of the whole.
var listed = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(^|\.)[0-9]+(\.|$)`) })

// take says where a value goes.
func take(p *project.Project, key string, now value, got any) Taken {
	f := now.field
	t := Taken{Key: key, Field: f.Name, Value: got, Old: now.value, State: TakenRefused}
	v, err := convert(got, f.Type)
	switch {
	case err == nil:
		t.Value = v
	case now.computed:
	default:
		t.Note = err.Error()
		return t
	}
	table, name := "addon", f.Name
	switch f.From {
	case "":
	case "title", "version", "description", "authors":
		table, name = "project", f.From
		if f.From == "authors" {
			list, _ := convert(got, "list")
			t.Value, t.Old = list, append([]string{}, p.File.Project.Authors...)
		}
		if f.From == "version" && !semver.Valid(template.Text(v)) {
			t.Note = "a version is three numbers, as in 1.0.0"
			return t
		}
	default:
		t.State = TakenComputed
		if template.Text(t.Value) != template.Text(now.value) && !now.unknown {
			t.State = TakenDiffers
		}
		if f.OfBundle() {
			t.State, t.Note = TakenComputed, "it is known when the bundles are packed"
		}
		return t
	}
	t.To, t.State = table+"."+name, TakenSet
	if _, _, written := p.Doc.Value(table, name); written && template.Text(t.Value) == template.Text(t.Old) {
		t.State = TakenSame
	}
	return t
}

func convert(v any, kind string) (any, error) {
	switch kind {
	case "list":
		if s, ok := v.(string); ok {
			words := []string{}
			for _, w := range regexp.MustCompile(`\s*[,;|]\s*`).Split(strings.TrimSpace(s), -1) {
				if w != "" {
					words = append(words, w)
				}
			}
			return words, nil
		}
		if list, ok := v.([]string); ok {
			return list, nil
		}
	case "flag":
		switch strings.ToLower(template.Text(v)) {
		case "true", "yes", "on", "1":
			return true, nil
		case "false", "no", "off", "0":
			return false, nil
		}
	case "number":
		if f, err := strconv.ParseFloat(template.Text(v), 64); err == nil {
			return f, nil
		}
	default:
		return template.Text(v), nil
	}
	return nil, fmt.Errorf("%q is no %s", template.Text(v), kind)
}

// Apply writes what was taken into vornix.toml, touching nothing else in it, and makes sure that it
// is still a project file.
func Apply(p *project.Project, list []Taken) (int, error) {
	content := strings.TrimPrefix(string(p.Source), "\ufeff")
	n := 0
	for _, t := range list {
		if t.State != TakenSet {
			continue
		}
		table, name, _ := strings.Cut(t.To, ".")
		line, err := toml.Marshal(map[string]any{"v": scalar(t.Value)})
		if err != nil {
			return 0, err
		}
		literal := string(bytes.TrimSpace(bytes.TrimPrefix(line, []byte("v ="))))
		if content, err = confedit.Set("toml", content, []string{table, name}, literal); err != nil {
			return 0, err
		}
		n++
	}
	if n == 0 {
		return 0, nil
	}
	if err := project.Check([]byte(content)); err != nil {
		return 0, fmt.Errorf("vornix.toml would not be right any more, and is as it was: %w", err)
	}
	d, err := safefile.OpenDir(p.Dir)
	if err != nil {
		return 0, err
	}
	defer d.Close()
	return n, d.WriteFile(project.FileName, []byte(content))
}
