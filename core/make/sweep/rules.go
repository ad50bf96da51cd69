package sweep

import (
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Rule is the name of a rule.
type Rule string

// The rules.
const (
	Backup       Rule = "backup"       // of editors, by hand, numbered
	Temporary    Rule = "temporary"    // intermediate files and logs
	System       Rule = "system"       // what systems leave in folders
	Bundles      Rule = "bundle"       // old archives and compiled maps
	Caches       Rule = "cache"        // folders of light and caches
	Orphan       Rule = "orphan"       // made from a source that is gone
	Unused       Rule = "unused"       // assets that nothing needs
	EmptyFolders Rule = "empty-folder" //
	ByProfile    Rule = "game"         // what the profile names
	Named        Rule = "named"        // what somebody named on the command line
)

// Rules lists all rules in the order in which plans show them.
var Rules = []Rule{Backup, Temporary, System, Bundles, Caches, Orphan, ByProfile, Unused, Named, EmptyFolders}

// names are patterns of file names in small letters.
var names = []struct {
	rule    Rule
	pattern string
	what    string
}{
	{Backup, "{*~,#*#,.#*}", "an editor's backup"}, {Backup, "*.~[0-9]*~", "an editor's numbered backup"},
	{Backup, "*.{bak,orig,old,rej,sav}", "a backup"}, {Backup, "*.bak[0-9]*", "a numbered backup"},
	{Backup, "{* copy.*,* copy ([0-9]*).*,copy of *,*_backup.*,*-backup.*}", "a copy"},
	{Temporary, "*.{tmp,temp,part,crdownload}", "a temporary file"},
	{Temporary, "*.{swp,swo}", "an editor's swap file"}, {Temporary, "*.{log,dmp}", "a log"},
	{System, "{thumbs.db,ehthumbs.db}", "the system's thumbnails"},
	{System, "desktop.ini", "the system's folder settings"},
	{System, "{.ds_store,._*}", "the system's folder settings"},
	{Bundles, "*.{zip,7z,rar,tar,tgz,vnp}", "an archive"},
}

// folders are patterns of folder names: all that is in them is stray.
var folders = []struct {
	rule    Rule
	pattern string
	what    string
}{
	{Caches, "{cache,.cache,*_cache,*-cache,*.cache,__pycache__}", "in a cache folder"},
	{Caches, "{light_cache,lightcache,*_lights,*.lights}", "in a folder of light"},
	{System, "__macosx", "the system's folder settings"},
	{Backup, "{backup,backups,.backup}", "in a folder of backups"},
}

// stray are endings, and beginnings of endings, that the patterns of names speak of.
var stray = []string{".bak", ".orig", ".old", ".rej", ".sav", ".tmp", ".temp", ".part", ".crdownload", ".swp", ".swo",
	".log", ".dmp", ".db", ".ini", ".zip", ".7z", ".rar", ".tar", ".tgz", ".vnp"}

// plain says quickly of nearly all names that no pattern matches them.
func plain(base string) bool {
	if base == "" || strings.ContainsRune("~#.", rune(base[0])) ||
		strings.ContainsRune("~#", rune(base[len(base)-1])) || strings.Contains(base, "copy") ||
		strings.Contains(base, "backup") {
		return false
	}
	ending := path.Ext(base)
	for _, s := range stray {
		if strings.HasPrefix(ending, s) {
			return false
		}
	}
	return true
}

// Stray says by which rule a file is stray by its path alone; bundleEnding is that of the game's bundles.
func Stray(file, bundleEnding string) (rule Rule, what string) {
	low := strings.ToLower(file)
	dir, base := path.Split(low)
	for part := range strings.SplitSeq(strings.TrimSuffix(dir, "/"), "/") {
		if !strings.Contains(part, "cache") && !strings.Contains(part, "light") && !strings.Contains(part, "backup") &&
			part != "__macosx" {
			continue // as nearly all
		}
		for _, f := range folders {
			if ok, _ := doublestar.Match(f.pattern, part); ok {
				return f.rule, f.what
			}
		}
	}
	if !plain(base) {
		for _, n := range names {
			if ok, _ := doublestar.Match(n.pattern, base); ok {
				return n.rule, n.what
			}
		}
	}
	if bundleEnding != "" && path.Ext(base) == strings.ToLower(bundleEnding) || path.Ext(base) == ".vnm" {
		return Bundles, "an old bundle or compiled map"
	}
	return "", ""
}

// numbered says whether a file is the numbered backup of another that is there, such as wall.png.2.
func numbered(file string, there func(string) bool) bool {
	ending := path.Ext(file)
	return len(ending) > 1 && len(ending) <= 4 && strings.Trim(ending[1:], "0123456789") == "" &&
		there(strings.TrimSuffix(file, ending))
}
