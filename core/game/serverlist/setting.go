package serverlist

import (
	"fmt"
	"regexp"
	"strings"

	"vornix/core/config/profile"
)

// setting is one line of a file of settings that names all maps. Where there are several, the last
// one counts, as it does for games.
type setting struct {
	rule          *profile.ListFile
	before, after string // of the entries, the rest of the file with it
	separator     string
}

func readSetting(rule *profile.ListFile, content string) (form, []item, error) {
	start, finish, _ := strings.Cut(rule.Around, "{entries}")
	quoted := regexp.QuoteMeta(strings.TrimSpace(start))
	quoted = strings.Join(strings.Fields(quoted), `[ \t]+`)
	if strings.HasSuffix(start, " ") {
		quoted += `[ \t]*`
	}
	form := `(?m)^[ \t]*` + quoted + `(.*?)`
	if rest := strings.TrimSpace(finish); rest != "" {
		form += regexp.QuoteMeta(rest)
	}
	re, err := regexp.Compile(form + `[ \t]*(?:(?:#|//|;).*)?\r?$`)
	if err != nil {
		return nil, nil, err
	}
	f := &setting{rule: rule, separator: rule.Separator}
	found := re.FindAllStringSubmatchIndex(content, -1)
	if len(found) == 0 {
		end := "\n"
		if strings.Contains(content, "\r\n") || content == "" && rule.Lines == "crlf" {
			end = "\r\n"
		}
		if content != "" && !strings.HasSuffix(content, "\n") {
			content += end
		}
		f.before, f.after = content+start, finish+end
		return f, nil, nil
	}
	m := found[len(found)-1]
	f.before, f.after = content[:m[2]], content[m[3]:]
	inside := content[m[2]:m[3]]
	var items []item
	if strings.TrimSpace(inside) == "" {
		return f, nil, nil
	}
	parts := strings.Split(inside, rule.Separator)
	if strings.TrimSpace(rule.Separator) == "" {
		parts = strings.Fields(inside)
	}
	for _, part := range parts {
		body := strings.TrimSpace(part)
		at := strings.Index(part, body)
		items = append(items, item{lead: part[:at], body: body, end: part[at+len(body):]})
	}
	return f, items, nil
}

// fresh gives an entry the blanks that the others have.
func (f *setting) fresh(items []item, i int, body string) item {
	lead := ""
	if len(items) > 1 {
		lead = items[1].lead
	}
	if i == 0 {
		lead = ""
		if len(items) > 0 && items[0].lead == "" && len(items) > 1 {
			items[0].lead = items[1].lead
		}
	}
	return item{lead: lead, body: body}
}

func (f *setting) join(items []item) (string, error) {
	parts := make([]string, len(items))
	for i, x := range items {
		if strings.Contains(x.body, f.separator) || strings.ContainsAny(x.body, "\r\n") {
			return "", fmt.Errorf("the entry %q holds %q, which separates entries", x.body, f.separator)
		}
		if _, finish, _ := strings.Cut(f.rule.Around, "{entries}"); strings.HasPrefix(finish, `"`) &&
			strings.Contains(x.body, `"`) {
			return "", fmt.Errorf("the entry %q holds a quote, which ends the setting", x.body)
		}
		parts[i] = x.lead + x.body + x.end
	}
	return f.before + strings.Join(parts, f.separator) + f.after, nil
}
