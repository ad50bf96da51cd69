package deploy

import (
	"slices"
	"strings"
)

// editList takes the lines gone out of a list, and adds those of want that it lacks at its end. All other lines stay as
// they are, with their order and line ends.
func editList(old string, gone, want []string) string {
	end := "\n"
	if strings.Contains(old, "\r\n") {
		end = "\r\n"
	}
	var out []string
	if old != "" {
		out = strings.Split(strings.TrimSuffix(strings.ReplaceAll(old, "\r\n", "\n"), "\n"), "\n")
	}
	out = slices.DeleteFunc(out, func(line string) bool {
		return slices.Contains(gone, strings.TrimSpace(line)) && !slices.Contains(want, strings.TrimSpace(line))
	})
	for _, w := range want {
		if !slices.ContainsFunc(out, func(line string) bool { return strings.TrimSpace(line) == w }) {
			out = append(out, w)
		}
	}
	if len(out) == 0 {
		return ""
	}
	return strings.Join(out, end) + end
}
