package safefile

import (
	"fmt"
	"strings"

	"golang.org/x/text/unicode/norm"
)

// Fold is what two names have in common that are one file on some system: capitals are small, and
// letters with accents are composed (Unicode's form C), since systems differ in both.
func Fold(name string) string { return strings.ToLower(norm.NFC.String(name)) }

// Names finds paths that can't be in one folder on every system: two that are one file there, and a
// file that is also a folder. The zero value is ready.
type Names struct {
	files, folders map[string]string // by what Fold makes of them
}

// Add adds a file's path, and says what it does not go with; empty when it is fine.
func (n *Names) Add(file string) (trouble string) {
	if n.files == nil {
		n.files, n.folders = map[string]string{}, map[string]string{}
	}
	fold := Fold(file)
	if other, ok := n.files[fold]; ok {
		if other == file {
			return fmt.Sprintf("%q comes twice", file)
		}
		return fmt.Sprintf("%q and %q are one file on some systems", other, file)
	}
	if other, ok := n.folders[fold]; ok {
		return fmt.Sprintf("%q is a file, and a folder of %q", file, other)
	}
	for i := 0; i < len(fold); i++ {
		if fold[i] != '/' {
			continue
		}
		if other, ok := n.files[fold[:i]]; ok {
			return fmt.Sprintf("%q is a file, and a folder of %q", other, file)
		}
	}
	n.files[fold] = file
	for i := len(fold) - 1; i > 0; i-- {
		if fold[i] != '/' {
			continue
		}
		if _, ok := n.folders[fold[:i]]; ok {
			break // and so are those above it
		}
		n.folders[fold[:i]] = file
	}
	return ""
}
