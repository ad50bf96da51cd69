package gitcmd

import (
	"slices"
	"strings"
)

// keys are the keys of a repository's configuration that make git run nothing and send nothing, by
// section; those with a subsection stand as SECTION.*. A key that is not here counts as a risk: git
// gains new ones with each version (git help config).
var keys = map[string][]string{
	"core": {"repositoryformatversion", "filemode", "bare", "logallrefupdates", "ignorecase", "precomposeunicode",
		"symlinks", "autocrlf", "eol", "safecrlf", "quotepath",
		"worktree", // --work-tree overrides it
		"abbrev", "compression", "loosecompression", "bigfilethreshold", "sharedrepository", "untrackedcache",
		"sparsecheckout", "sparsecheckoutcone", "longpaths", "protecthfs", "protectntfs",
		"preloadindex", "fscache", "multipackindex", "commitgraph", "trustctime", "checkstat", "whitespace",
		"hidedotfiles", "splitindex", "fsync", "fsyncmethod", "commentchar"},
	"extensions": {"objectformat", "worktreeconfig", "compatobjectformat", "refstorage", "noop", "noop-v1",
		"preciousobjects"},
	"remote.*": {"fetch", "push", "tagopt", "prune", "prunetags", "mirror", "skipdefaultupdate", "skipfetchall",
		"gh-resolved"},
	"remote":    {"pushdefault"},
	"branch.*":  {"remote", "pushremote", "merge", "rebase", "description", "vscode-merge-base", "gh-merge-base"},
	"branch":    {"autosetupmerge", "autosetuprebase", "sort"},
	"user":      {"name", "email", "signingkey", "useconfigonly"},
	"author":    {"name", "email"},
	"committer": {"name", "email"},
	"commit":    {"gpgsign", "verbose", "cleanup", "status"},
	"tag":       {"gpgsign", "sort", "forcesignannotated"},
	"push":      {"default", "followtags", "autosetupremote", "gpgsign", "usebitmaps"},
	"pull":      {"rebase", "ff"},
	"fetch":     {"prune", "prunetags", "parallel", "writecommitgraph", "fsckobjects"},
	"merge":     {"ff", "conflictstyle", "renames", "renamelimit", "log", "stat"},
	"rebase":    {"autostash", "autosquash", "updaterefs", "stat"},
	"diff": {"algorithm", "renames", "renamelimit", "mnemonicprefix", "noprefix", "colormoved", "submodule",
		"context"},
	"status": {"showuntrackedfiles", "short", "branch", "submodulesummary"},
	"gc": {"auto", "autodetach", "autopacklimit", "pruneexpire", "reflogexpire", "reflogexpireunreachable",
		"writecommitgraph"},
	"maintenance": {"auto", "strategy", "autodetach"},
	"pack":        {"threads", "windowmemory", "packsizelimit", "usebitmaps", "writebitmaphashcache"},
	"index":       {"version", "threads", "sparse", "skiphash"},
	"feature":     {"manyfiles", "experimental"},
	"init":        {"defaultbranch"},
	"i18n":        {"commitencoding", "logoutputencoding"},
	"receive": {"denycurrentbranch", "denynonfastforwards", "denydeletes", "denydeletecurrent", "autogc",
		"updateserverinfo", "fsckobjects", "advertisepushoptions", "advertiseatomic", "unpacklimit", "maxinputsize"},
	"http":        {"receivepack", "uploadpack", "postbuffer"},
	"transfer":    {"fsckobjects", "unpacklimit"},
	"uploadpack":  {"allowfilter", "allowanysha1inwant", "allowreachablesha1inwant", "allowtipsha1inwant", "hiderefs"},
	"log":         {"date", "decorate", "showsignature"},
	"lfs":         {"repositoryformatversion"},
	"lfs.*":       {"access", "locksverify"},
	"submodule":   {"recurse"}, // overridden
	"submodule.*": {"active", "url", "branch", "ignore"},
	"gui":         nil, // nil: all of the section
	"gui.*":       nil,
	"color":       nil,
	"color.*":     nil,
	"column":      nil,
	"advice":      nil,
	"alias":       nil, // none can stand for a command of git's own
	"gitweb":      nil,
}

// harmless says whether a key of a repository's configuration, as 'git config --list' prints it,
// needs nobody's consent.
func harmless(key string) bool {
	first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
	if first < 0 {
		return false
	}
	section := strings.ToLower(key[:first])
	if first != last {
		section += ".*"
	}
	names, known := keys[section]
	return known && (names == nil || slices.Contains(names, strings.ToLower(key[last+1:])))
}

// remoteURL says whether a key says where a remote is.
func remoteURL(key string) bool {
	lower := strings.ToLower(key)
	return strings.HasPrefix(lower, "remote.") &&
		(strings.HasSuffix(lower, ".url") || strings.HasSuffix(lower, ".pushurl"))
}
