package safefile

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"vornix/core/base/fault"
)

// own are the folders in which Vornix keeps its own records: of a project, of a server, and of a
// game or a player's folder. What comes from elsewhere never reaches into one of them, at whatever
// depth: with a record changed, what it remembers (keys, numbers, originals) is worth nothing.
var own = []string{".vornix", ".vornix-target", "vornix-patched", "vornix-fetched", "vornix-installed"}

// startup are files and folders that a shell, Git or SSH reads by itself when it finds them.
var startup = []string{".git", ".ssh", ".bashrc", ".bash_profile", ".bash_login", ".bash_logout", ".bash_aliases",
	".profile", ".zshrc", ".zshenv", ".zprofile", ".zlogin", ".zlogout",
	".kshrc", ".cshrc", ".tcshrc", ".login", ".logout", ".envrc", ".gitconfig", ".inputrc", "autorun.inf"}

// longestPath is how long a path from elsewhere may be, in bytes: some systems hold no more than
// 1,024, the folder's own path included.
const longestPath = 800

// CheckForeign is CheckPath for paths that come from elsewhere: from archives, patches, indexes,
// installers and servers. It also refuses Vornix's own records, what shells, Git and SSH read by
// themselves, names that a program could take for an option, characters that do not show, and paths
// that some system can't hold.
func CheckForeign(rel string) error {
	if err := CheckPath(rel); err != nil {
		return err
	}
	if why := foreignTrouble(rel); why != "" {
		return &fault.Fault{Kind: fault.Refused, What: fmt.Sprintf("the path %q %s", rel, why),
			Why: "What comes from elsewhere is only written under names that can do no harm.",
			Do:  "Rename it there, or leave it out."}
	}
	return nil
}

func foreignTrouble(rel string) string {
	if len(rel) > longestPath {
		return fmt.Sprintf("is longer than %d bytes, which some systems can't hold", longestPath)
	}
	if i := strings.IndexFunc(rel, hidden); i >= 0 {
		return "has a character that does not show, or turns the direction of writing"
	}
	for part := range strings.SplitSeq(rel, "/") {
		switch {
		case strings.HasPrefix(part, "-"):
			return "has a part that begins with a dash, which programs take for an option"
		case Own(part):
			return "is in a folder in which Vornix keeps its own records"
		case slices.ContainsFunc(startup, func(s string) bool { return alike(part, s) }) || shortened(part, "git"):
			return "has the part " + part + ", which a shell, Git or SSH reads by itself"
		}
	}
	return ""
}

// Own says whether a name is that of a folder in which Vornix keeps records, on any system: in
// other letters, composed otherwise, or as Windows shortens it.
func Own(name string) bool {
	return slices.ContainsFunc(own, func(s string) bool { return alike(name, s) }) || shortened(name, "vornix")
}

// alike says whether two names are one file on some system.
func alike(a, b string) bool { return strings.EqualFold(norm.NFKC.String(a), b) }

// shortened says whether a name is a short one of NTFS (8.3) for a longer name that begins with a word.
func shortened(name, word string) bool {
	base, _, _ := strings.Cut(strings.ToLower(name), ".")
	head, number, found := strings.Cut(base, "~")
	return found && number != "" && strings.Trim(number, "0123456789") == "" && head != "" &&
		strings.HasPrefix(word, head)
}

// hidden says whether a character does not show or changes how others are shown (Unicode's
// categories Cf, Zl and Zp: joiners, marks of direction).
func hidden(r rune) bool { return unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) }
