package cli

import (
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
)

// release version, set by a release build: go build -ldflags "-X vornix/internal/cli.released=0.1.0"
var released = ""

// Version is what --version prints: the release or the state of the source it was built from, Go's version, the system.
func Version() string {
	name, commit, date := released, "", ""
	if info, ok := debug.ReadBuildInfo(); ok {
		if name == "" {
			name = info.Main.Version
		}
		dirty := ""
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision" && len(s.Value) >= 10:
				commit = s.Value[:10]
			case s.Key == "vcs.time" && len(s.Value) >= 10:
				date = " of " + s.Value[:10]
			case s.Key == "vcs.modified" && s.Value == "true":
				dirty = " with changes"
			}
		}
		if commit != "" {
			commit = ", commit " + commit + date + dirty
		}
	}
	if name == "" || name == "(devel)" {
		name = "development build"
	}
	return fmt.Sprintf("vornix %s (%s, %s%s)", name, runtime.Version(), defaultSystem(), commit)
}

// programID tells one build of the program from another without reading it.
func programID() string {
	exe, err := os.Executable()
	if err != nil {
		return Version()
	}
	info, err := os.Stat(exe)
	if err != nil {
		return Version()
	}
	return fmt.Sprintf("%s %d %d", Version(), info.Size(), info.ModTime().UnixNano())
}
