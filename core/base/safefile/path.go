package safefile

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"vornix/core/base/fault"
)

// CheckPath says whether a slash-separated relative path may be written on any of the systems Vornix serves.
// It refuses what could leave the folder (absolute, drive letter, "..", backslash) and what some system can't
// hold (control characters, Windows device names, a name that ends in a dot or a space, characters Windows forbids).
func CheckPath(rel string) error {
	if why := pathTrouble(rel); why != "" {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("the path %q %s", rel, why),
			Why: "Files are only ever written inside their own folder, under names that every system can hold.",
			Do:  "Rename it."}
	}
	return nil
}

func pathTrouble(rel string) string {
	switch {
	case rel == "":
		return "is empty"
	case !utf8.ValidString(rel):
		return "is not valid UTF-8"
	case strings.HasPrefix(rel, "/"):
		return "is absolute"
	case strings.ContainsRune(rel, '\\'):
		return "has a backslash"
	case strings.ContainsAny(rel, ":*?\"<>|"):
		return "has a character that Windows forbids (one of : * ? \" < > |)"
	}
	for _, r := range rel {
		if unicode.IsControl(r) {
			return "has a control character"
		}
	}
	for part := range strings.SplitSeq(rel, "/") {
		switch {
		case part == "":
			return "has an empty part"
		case part == "." || part == "..":
			return "has the part " + part
		case strings.HasSuffix(part, ".") || strings.HasSuffix(part, " "):
			return "has a part that ends in a dot or a space, which Windows drops"
		case len(part) > 255:
			return "has a part longer than 255 bytes"
		case isDeviceName(part):
			return "has the part " + part + ", which Windows keeps for a device"
		}
	}
	return ""
}

// IsDevice says whether a file name is one that Windows keeps for a device, whatever its ending:
// opening it there opens the device, which may never answer.
func IsDevice(name string) bool { return isDeviceName(name) }

// isDeviceName knows the names that Windows keeps, with the superscript digits that it counts as
// digits, and spaces before the extension.
func isDeviceName(part string) bool {
	base, _, _ := strings.Cut(strings.ToLower(part), ".")
	base = strings.TrimRight(base, " ")
	switch base {
	case "con", "prn", "aux", "nul", "conin$", "conout$", "clock$":
		return true
	}
	if !strings.HasPrefix(base, "com") && !strings.HasPrefix(base, "lpt") {
		return false
	}
	digit := []rune(base[3:])
	return len(digit) == 1 && strings.ContainsRune("0123456789\u00b9\u00b2\u00b3", digit[0])
}
