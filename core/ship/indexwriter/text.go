package indexwriter

import (
	"fmt"
	"strings"

	"vornix/core/base/charset"
	"vornix/core/base/fault"
	"vornix/core/base/template"
	"vornix/core/config/profile"
	"vornix/core/ship/index"
)

// Lines fills the line of a list once for every map of the records.
func Lines(l profile.ListFile, head Head, records []index.Record) []string {
	var lines []string
	for _, r := range records {
		for _, m := range r.Maps {
			lines = append(lines, template.Line(l.Line, lineValues(head, r, m), l.Escape))
		}
	}
	return lines
}

// Head is what lines say of the project.
type Head struct{ Name, Title, Version string }

func lineValues(head Head, r index.Record, m index.Map) map[string]string {
	values := map[string]string{
		"map": m.Name, "title": m.Title, "file": r.File, "stem": Stem(r.File), "version": r.Version, "name": head.Name,
		"project": head.Title, "bundle": r.Name,
		"mode": "", "modes": strings.Join(m.Modes, ","), "size": fmt.Sprint(r.Size), "sha256": r.SHA256, "date": r.Date,
		"url": r.URL, "game": m.Game,
		"players_least": fmt.Sprint(m.Players[0]), "players_most": fmt.Sprint(m.Players[1]),
	}
	if m.Title == "" {
		values["title"] = m.Name
	}
	if len(m.Modes) > 0 {
		values["mode"] = m.Modes[0]
	}
	return values
}

// Stem is a file's name without its ending.
func Stem(file string) string {
	if at := strings.LastIndexByte(file, '.'); at > 0 {
		return file[:at]
	}
	return file
}

// Text writes a form of the index that a game reads, and makes sure that whoever reads its lines
// finds in each what was meant.
func Text(t *profile.IndexText, place fault.Place, head Head, records []index.Record) ([]byte, error) {
	var content string
	if t.Template != "" {
		f, err := template.NewFile(t.File, t.Template, t.Escape)
		if err == nil {
			content, err = f.Fill(data(head, records))
		}
		if err != nil {
			return nil, &fault.Fault{What: "the template of " + t.File + " can't be filled", Place: place, Err: err,
				Do: "Correct the template in the profile."}
		}
	} else {
		lines, err := readable(t, place, head, records)
		if err != nil {
			return nil, err
		}
		content = t.Head + lines + t.Foot
	}
	out, err := (&charset.Text{Encoding: "utf-8"}).WithContent(content).Write(t.Style())
	if err != nil {
		return nil, &fault.Fault{What: t.File + " can't be written in its encoding", Place: place, Err: err,
			Do: "Change the text, or the encoding in the profile."}
	}
	return out, nil
}

// readable writes the lines, each of which is read back as what it was made of.
func readable(t *profile.IndexText, place fault.Place, head Head, records []index.Record) (string, error) {
	reader := template.NewReader(t.Line, t.Escape)
	var b strings.Builder
	for _, r := range records {
		for _, m := range r.Maps {
			values := lineValues(head, r, m)
			line := template.Line(t.Line, values, t.Escape)
			if !reader.Same(line, values) {
				got, _ := reader.Read(line)
				return "", &fault.Fault{Kind: fault.Refused,
					What: fmt.Sprintf("a line of %s would be read as something else: %q", t.File, line), Place: place,
					Why: fmt.Sprintf("What separates its parts also stands within one of them; the game would take %s.",
						spoken(t.Line, got)),
					Do: "Choose another separator in the profile, or escape = \"quotes\" or \"csv\" if the game reads that."}
			}
			b.WriteString(line + "\n")
		}
	}
	return b.String(), nil
}

// data is what a template is filled with.
func data(head Head, records []index.Record) map[string]any {
	bundles := []map[string]any{}
	for _, r := range records {
		maps := []map[string]any{}
		for _, m := range r.Maps {
			maps = append(maps,
				map[string]any{"name": m.Name, "title": m.Title, "modes": append([]string{}, m.Modes...),
					"least": m.Players[0], "most": m.Players[1], "game": m.Game})
		}
		bundles = append(bundles,
			map[string]any{"name": r.Name, "version": r.Version, "date": r.Date, "file": r.File, "stem": Stem(r.File),
				"url": r.URL, "size": r.Size, "sha256": r.SHA256, "game": r.Game, "notes": r.Notes, "maps": maps})
	}
	return map[string]any{"name": head.Name, "title": head.Title, "version": head.Version, "bundles": bundles}
}

func spoken(line string, values map[string]string) string {
	var parts []string
	for _, name := range template.Places(line) {
		parts = append(parts, fmt.Sprintf("%q as %s", values[name], name))
	}
	return strings.Join(parts, ", ")
}

// ReadText reads the lines of such a form back: for each what stands in its places. A line that is
// not of the template is an error.
func ReadText(t *profile.IndexText, data []byte) ([]map[string]string, error) {
	read, err := charset.Read(data, t.Encoding)
	if err != nil {
		return nil, err
	}
	plain := func(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }
	content := strings.TrimSuffix(strings.TrimPrefix(plain(read.Content), plain(t.Head)), plain(t.Foot))
	reader := template.NewReader(t.Line, t.Escape)
	var list []map[string]string
	for n, line := range strings.Split(strings.TrimSuffix(content, "\n"), "\n") {
		if line == "" {
			continue
		}
		values, ok := reader.Read(line)
		if !ok {
			return nil, fmt.Errorf("line %d is not as %q: %q", n+1, t.Line, line)
		}
		list = append(list, values)
	}
	return list, nil
}
